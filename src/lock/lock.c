/* lock.c — a locked volume: its key, its secrets, and its bytes as a source. */
#include "lock/internal.h"

#include "base/bytes.h"
#include "wild_satchel/base.h"

#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { DIGEST_ROUNDS = 10000 };

struct ws_lock {
    const struct ws_source *open;
    struct ws_source *head, *body;
    uint8_t *key;            /* NULL: not made yet */
    bool opened;             /* `open` is the locked volume itself, and the body what it holds */
    struct lock_place place; /* in it; of a new one how it is enciphered, from byte 0 on */
    char label[48];
    struct lock_header header;
    uint8_t bytes[LOCK_AREAS_AT + WS_LOCK_SECRETS_MOST * LOCK_AREA];
};

struct ws_lock_cost ws_lock_cost(enum ws_lock_secret secret) {
    static const struct ws_lock_cost costs[] = {
        [WS_LOCK_PASSPHRASE] = {256 * 1024, 4, 2}, [WS_LOCK_RECOVERY] = {32 * 1024, 4, 1}};
    return costs[secret];
}

double ws_lock_seconds(struct ws_lock_cost c, double mib_per_s) { return c.memory_kib / 1024.0 * c.passes / mib_per_s; }

static enum ws_status head_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct ws_lock *l = source->state;
    (void)error;
    memcpy(buffer, l->bytes + at, length);
    return WS_OK;
}

/* Whole sectors are enciphered, or of a lock that was opened deciphered, in the caller's buffer; what is asked for in
 * part passes through one of its own. */
static enum ws_status body_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct ws_lock *l = source->state;
    const uint32_t unit = l->place.sector;
    uint8_t *out = buffer;
    if (!l->key) return ws_source_read(l->open, at, buffer, length, error);
    while (length) {
        uint8_t sector[WS_LOCK_SECTOR];
        size_t skip = at % unit;
        size_t n = skip || length < unit ? ws_min_u64(length, unit - skip) : length / unit * unit;
        bool whole = n >= unit;
        uint8_t *to = whole ? out : sector;
        size_t all = whole ? n : unit;
        const uint64_t number = at - skip + l->place.tweak * 512;
        WS_TRY(ws_source_read(l->open, l->place.at + at - skip, to, all, error));
        WS_TRY((l->opened ? lock_decipher : lock_encipher)(l->key, number, unit, to, all, error));
        if (!whole) memcpy(out, sector + skip, n);
        out += n;
        at += n;
        length -= n;
    }
    return WS_OK;
}

/* As long as there is no key its bytes are the open volume's. */
static void body_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct ws_lock *l = source->state;
    if (!l->key) *piece = ws_piece_base(l->open, at, piece->length);
}

static const struct ws_source_ops head_ops = {head_read, NULL, NULL};
static const struct ws_source_ops body_ops = {body_read, NULL, body_piece};

enum ws_status ws_lock_create(const struct ws_source *open, const struct ws_guid *id, const char *label,
                              struct ws_lock **lock, struct ws_error *error) {
    if (open->size % WS_LOCK_SECTOR || open->size == 0)
        return ws_fail(error, WS_E_RANGE, "a locked volume of %llu bytes is no whole number of sectors of %d",
                       (unsigned long long)open->size, WS_LOCK_SECTOR);
    struct ws_lock *l = calloc(1, sizeof *l);
    if (!l) return ws_fail(error, WS_E_NOMEM, "out of memory for a lock");
    l->open = open;
    l->place.sector = WS_LOCK_SECTOR;
    l->header.id = *id;
    (void)snprintf(l->label, sizeof l->label, "%s", label);
    ws_utf8_trim(l->label);
    l->header.label = l->label;
    l->header.digest_rounds = DIGEST_ROUNDS;
    enum ws_status status = ws_source_make(&head_ops, sizeof l->bytes, l, &l->head, error);
    if (status == WS_OK) status = ws_source_make(&body_ops, open->size, l, &l->body, error);
    if (status != WS_OK) ws_lock_close(l);
    else *lock = l;
    return status;
}

void ws_lock_close(struct ws_lock *l) {
    if (!l) return;
    ws_source_close(l->body);
    ws_source_close(l->head);
    OPENSSL_secure_clear_free(l->key, LOCK_KEY);
    OPENSSL_cleanse(l, sizeof *l);
    free(l);
}

enum ws_status ws_lock_open(const struct ws_source *volume, const char *secret, struct ws_lock **lock,
                            struct ws_error *error) {
    struct ws_lock *l = calloc(1, sizeof *l);
    if (!l) return ws_fail(error, WS_E_NOMEM, "out of memory for a lock");
    l->open = volume;
    l->opened = true;
    l->key = OPENSSL_secure_zalloc(LOCK_KEY);
    enum ws_status status = l->key ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a key");
    if (status == WS_OK) status = lock_find_key(volume, secret, l->key, &l->place, error);
    if (status == WS_OK) status = ws_source_make(&body_ops, l->place.length, l, &l->body, error);
    if (status != WS_OK) ws_lock_close(l);
    else *lock = l;
    return status;
}

enum ws_status ws_lock_take_key(struct ws_lock *l, const struct ws_lock *opened, struct ws_error *error) {
    l->place.sector = opened->place.sector; /* whoever made it */
    l->place.tweak = opened->place.tweak;
    if (!l->key) l->key = OPENSSL_secure_zalloc(LOCK_KEY);
    if (!l->key) return ws_fail(error, WS_E_NOMEM, "out of memory for a key");
    memcpy(l->key, opened->key, LOCK_KEY);
    return WS_OK;
}

uint64_t ws_lock_begin(const struct ws_lock *l) { return l->opened ? l->place.at : WS_LOCK_HEAD; }

uint64_t ws_lock_head_bytes(const struct ws_lock *l) { return l->opened ? l->place.head : sizeof l->bytes; }

const struct ws_source *ws_lock_head(const struct ws_lock *l) { return l->head; }
const struct ws_source *ws_lock_body(const struct ws_lock *l) { return l->body; }
bool ws_lock_is_made(const struct ws_lock *l) { return l->key != NULL; }

static enum ws_status check_secret(const char *secret, struct ws_error *error) {
    size_t n = strlen(secret);
    if (n < WS_PASSPHRASE_LEAST) {
        ws_fail(error, WS_E_USAGE, "the passphrase is shorter than %d characters", WS_PASSPHRASE_LEAST);
        return ws_fail_next(error, "take several words: whoever finds the drive may try as often as they like");
    }
    bool typed = n <= WS_PASSPHRASE_MOST;
    for (const char *p = secret; *p; p++) typed &= (unsigned char)*p >= ' ' && *p != 127;
    if (typed) return WS_OK;
    ws_fail(error, WS_E_USAGE,
            "the passphrase is longer than the %d bytes that are taken at a start, or cannot be typed",
            WS_PASSPHRASE_MOST);
    return ws_fail_next(error, "take some words with blanks between them");
}

/* The key, and by what a right one is known. */
static enum ws_status make_key(struct ws_lock *l, uint8_t **key, struct ws_error *error) {
    struct lock_header *h = &l->header;
    *key = OPENSSL_secure_zalloc(LOCK_KEY);
    if (!*key) return ws_fail(error, WS_E_NOMEM, "out of memory for a key");
    WS_TRY(lock_random(*key, LOCK_KEY, error));
    WS_TRY(lock_random(h->salt, sizeof h->salt, error));
    WS_TRY(lock_random(h->digest_salt, sizeof h->digest_salt, error));
    if (PKCS5_PBKDF2_HMAC((const char *)*key, LOCK_KEY, h->digest_salt, sizeof h->digest_salt, (int)h->digest_rounds,
                          EVP_sha256(), sizeof h->digest, h->digest) == 1)
        return WS_OK;
    return ws_fail(error, WS_E_NOMEM, "libcrypto has no PBKDF2");
}

enum ws_status ws_lock_add(struct ws_lock *l, enum ws_lock_secret kind, const char *secret, struct ws_error *error) {
    struct lock_header *h = &l->header;
    uint8_t *key = l->key;
    size_t i = h->slots;
    enum ws_status status = WS_OK;
    WS_TRY(check_secret(secret, error));
    if (i == WS_LOCK_SECRETS_MOST)
        return ws_fail(error, WS_E_RANGE, "at most %d secrets open a volume made here", WS_LOCK_SECRETS_MOST);
    h->slot[i].cost = ws_lock_cost(kind);
    if (!key) WS_GO(make_key(l, &key, error));
    if (i == 0) WS_GO(lock_random(l->bytes + LOCK_AREAS_AT, sizeof l->bytes - LOCK_AREAS_AT, error)); /* unused areas */
    WS_GO(lock_random(h->slot[i].salt, LOCK_SALT, error));
    WS_GO(lock_put_area(&h->slot[i], secret, key, l->bytes + LOCK_AREAS_AT + i * LOCK_AREA, error));
    h->slots++;
    WS_GO(lock_put_header(h, l->bytes, error));
    l->key = key;
done:
    if (status != WS_OK && key != l->key) OPENSSL_secure_clear_free(key, LOCK_KEY);
    if (status != WS_OK) h->slots = i;
    return status;
}
