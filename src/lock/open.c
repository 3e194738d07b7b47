/* open.c — a locked volume that is there: its header read, and its key found by a secret. LUKS2 specification, sections
 * 2.1 (binary header), 2.4 (key slots), 3 (the JSON text). All of it is hostile until its checksum is right, and the
 * rest is bounded afterwards: anybody may compute a checksum. */
#include "lock/internal.h"

#include "base/bytes.h"
#include "wild_satchel/base.h"

#include <jansson.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    BINARY = 4096,
    CHECKSUM_AT = 448,
    HEADER_MOST = 4 << 20,
    STRIPES_MOST = 16384,
    SLOTS_MOST = 32,
    ROUNDS_MOST = 20000000, /* some ten seconds */
    MEMORY_MOST = 4 << 20,  /* KiB */
    PASSES_MOST = 1000,
    LANES_MOST = 64
};

static enum ws_status damaged(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the header of the locked volume is damaged: %s", what);
    return ws_fail_next(error, "where another of its secrets opens it, save what it holds");
}

static enum ws_status not_known(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_UNSUPPORTED, "the locked volume is none that can be opened here: %s", what);
    return ws_fail_next(error, "let the system that made it copy what is needed");
}

/* One copy of the header, if it is sound: its text, to be freed. */
static bool read_copy(const struct ws_source *volume, uint64_t at, const char *magic, char **text, size_t *length,
                      uint64_t *turn) {
    uint8_t head[BINARY], sum[64], is[EVP_MAX_MD_SIZE];
    char name[33];
    uint8_t *all = NULL;
    bool sound = false;
    if (!ws_inside(at, sizeof head, volume->size) || ws_source_read(volume, at, head, sizeof head, NULL) != WS_OK)
        return false;
    const uint64_t size = ws_load_be64(head + 8);
    if (memcmp(head, magic, 6) != 0 || ws_load_be16(head + 6) != 2 || ws_load_be64(head + 256) != at ||
        size <= BINARY || size > HEADER_MOST || !ws_inside(at, size, volume->size))
        return false;
    (void)snprintf(name, sizeof name, "%.32s", (const char *)head + 72);
    const EVP_MD *hash = EVP_get_digestbyname(name);
    all = malloc((size_t)size);
    if (hash && all && ws_source_read(volume, at, all, (size_t)size, NULL) == WS_OK) {
        memcpy(sum, all + CHECKSUM_AT, sizeof sum);
        memset(all + CHECKSUM_AT, 0, sizeof sum);
        sound =
            EVP_Digest(all, (size_t)size, is, NULL, hash, NULL) == 1 && memcmp(sum, is, (size_t)EVP_MD_size(hash)) == 0;
    }
    *text = sound ? malloc((size_t)size - BINARY + 1) : NULL;
    if (*text) {
        memcpy(*text, all + BINARY, (size_t)size - BINARY);
        (*text)[size - BINARY] = '\0';
        *length = strlen(*text);
        *turn = ws_load_be64(head + 16);
    }
    free(all);
    return *text != NULL;
}

/* The newer one of both copies. The second follows the first, at one of the places that the specification lists. */
static enum ws_status read_text(const struct ws_source *volume, json_t **object, struct ws_error *error) {
    char *best = NULL, *text = NULL;
    size_t length = 0, n;
    uint64_t newest = 0, turn;
    if (read_copy(volume, 0, "LUKS\xba\xbe", &text, &n, &turn)) best = text, length = n, newest = turn;
    for (uint64_t at = 0x4000; at <= HEADER_MOST; at *= 2) {
        if (!read_copy(volume, at, "SKUL\xba\xbe", &text, &n, &turn)) continue;
        if (best && turn <= newest) {
            free(text);
            continue;
        }
        free(best);
        best = text, length = n, newest = turn;
    }
    if (!best) return damaged(error, "neither of its copies is as its checksum says");
    *object = json_loadb(best, length, JSON_REJECT_DUPLICATES, NULL);
    free(best);
    return json_is_object(*object) ? WS_OK : damaged(error, "its text is no JSON");
}

static const char *word(json_t *object, const char *key) {
    const char *text = json_string_value(json_object_get(object, key));
    return text ? text : "";
}

/* Sizes and places are texts there. @return UINT64_MAX for none */
static uint64_t number(json_t *object, const char *key) {
    const char *text = word(object, key);
    uint64_t value = 0;
    for (const char *p = text; *p; p++) {
        if (*p < '0' || *p > '9' || value > (UINT64_MAX - 9) / 10) return UINT64_MAX;
        value = value * 10 + (uint64_t)(*p - '0');
    }
    return text[0] ? value : UINT64_MAX;
}

/* @return 0 for what is none, or out of bounds */
static uint32_t bounded(json_t *object, const char *key, uint32_t most) {
    json_int_t n = json_integer_value(json_object_get(object, key));
    return n > 0 && n <= (json_int_t)most ? (uint32_t)n : 0;
}

/* @return bytes, 0 if it is none or more than there is room for */
static size_t unpack64(json_t *object, const char *key, uint8_t *out, size_t room) {
    const char *text = word(object, key);
    size_t n = strlen(text);
    uint8_t bytes[200];
    if (n == 0 || n % 4 || n > 256) return 0;
    int got = EVP_DecodeBlock(bytes, (const unsigned char *)text, (int)n);
    size_t length = got < 0 ? 0 : (size_t)got - (text[n - 1] == '=') - (text[n - 2] == '=');
    if (length > room) return 0;
    memcpy(out, bytes, length);
    return length;
}

static enum ws_status read_segment(json_t *object, const struct ws_source *volume, struct lock_place *place,
                                   struct ws_error *error) {
    json_t *segments = json_object_get(object, "segments");
    json_t *s = json_object_get(segments, "0");
    json_t *mandatory =
        json_object_get(json_object_get(json_object_get(object, "config"), "requirements"), "mandatory");
    if (json_array_size(mandatory)) return not_known(error, "it is being changed, or asks for more than is known");
    if (json_object_size(segments) != 1 || strcmp(word(s, "type"), "crypt") != 0)
        return not_known(error, "it has several parts");
    if (strcmp(word(s, "encryption"), "aes-xts-plain64") != 0 || json_object_get(s, "integrity"))
        return not_known(error, "its cipher is another one");
    *place = (struct lock_place){
        .at = number(s, "offset"), .tweak = number(s, "iv_tweak"), .sector = bounded(s, "sector_size", WS_LOCK_SECTOR)};
    const uint32_t unit = place->sector;
    if (place->at >= volume->size || unit < 512 || (unit & (unit - 1)) || place->tweak == UINT64_MAX)
        return damaged(error, "its volume stands where it cannot be");
    const bool dynamic = strcmp(word(s, "size"), "dynamic") == 0;
    place->length = dynamic ? (volume->size - place->at) / unit * unit : number(s, "size");
    if (place->length == 0 || place->length % unit || !ws_inside(place->at, place->length, volume->size))
        return damaged(error, "its volume has a size that cannot be");
    return WS_OK;
}

/* Headers stand in front of all areas. */
static uint64_t head_of(json_t *object, uint64_t most) {
    const char *name;
    json_t *slot;
    uint64_t end = 0;
    json_object_foreach(json_object_get(object, "keyslots"), name, slot) {
        json_t *area = json_object_get(slot, "area");
        const uint64_t at = number(area, "offset"), size = number(area, "size");
        end = ws_inside(at, size, most) ? ws_max_u64(end, at + size) : most;
    }
    return end ? end : most;
}

/* By the digest over it, which names the slots it is for. */
static bool is_key(json_t *object, const char *slot, const uint8_t key[LOCK_KEY]) {
    const char *name;
    json_t *d, *s;
    size_t i;
    json_object_foreach(json_object_get(object, "digests"), name, d) {
        uint8_t salt[64], wanted[64], is[64];
        bool names = false;
        json_array_foreach(json_object_get(d, "keyslots"), i, s) names |=
            json_is_string(s) && strcmp(json_string_value(s), slot) == 0;
        const EVP_MD *hash = EVP_get_digestbyname(word(d, "hash"));
        size_t salted = unpack64(d, "salt", salt, sizeof salt);
        size_t length = unpack64(d, "digest", wanted, sizeof wanted);
        uint32_t rounds = bounded(d, "iterations", ROUNDS_MOST);
        if (names && hash && salted && length && rounds && strcmp(word(d, "type"), "pbkdf2") == 0 &&
            PKCS5_PBKDF2_HMAC((const char *)key, LOCK_KEY, salt, (int)salted, (int)rounds, hash, (int)length, is) ==
                1 &&
            CRYPTO_memcmp(is, wanted, length) == 0)
            return true;
    }
    return false;
}

static bool read_secret(json_t *slot, struct lock_secret *out) {
    static const char *const kdfs[] = {"argon2id", "argon2i", "pbkdf2"};
    json_t *kdf = json_object_get(slot, "kdf");
    unsigned which = 0;
    while (which < 3 && strcmp(word(kdf, "type"), kdfs[which]) != 0) which++;
    *out = (struct lock_secret){.kdf = (enum lock_kdf)which,
                                .cost = {.memory_kib = bounded(kdf, "memory", MEMORY_MOST),
                                         .passes = bounded(kdf, "time", PASSES_MOST),
                                         .lanes = bounded(kdf, "cpus", LANES_MOST)},
                                .rounds = bounded(kdf, "iterations", ROUNDS_MOST)};
    (void)snprintf(out->hash, sizeof out->hash, "%.15s", word(kdf, "hash"));
    (void)snprintf(out->spread, sizeof out->spread, "%.15s", word(json_object_get(slot, "af"), "hash"));
    out->salt_length = unpack64(kdf, "salt", out->salt, sizeof out->salt);
    bool cost = which == LOCK_PBKDF2 ? out->rounds : out->cost.memory_kib && out->cost.passes && out->cost.lanes;
    cost &= (uint64_t)out->cost.memory_kib * out->cost.passes <= 8ull * MEMORY_MOST;
    return which < 3 && cost && out->salt_length >= 8;
}

/* @return WS_E_UNSUPPORTED for a slot of another kind, which does not keep others from being tried */
static enum ws_status try_slot(json_t *object, const char *name, json_t *slot, const struct ws_source *volume,
                               const char *secret, uint8_t key[LOCK_KEY], bool *opened, struct ws_error *error) {
    json_t *area = json_object_get(slot, "area");
    const uint32_t stripes = bounded(json_object_get(slot, "af"), "stripes", STRIPES_MOST);
    const uint64_t at = number(area, "offset");
    const uint64_t length = (uint64_t)stripes * LOCK_KEY;
    struct lock_secret s;
    if (strcmp(word(slot, "type"), "luks2") != 0 || bounded(slot, "key_size", 1024) != LOCK_KEY || !stripes ||
        strcmp(word(area, "type"), "raw") != 0 || strcmp(word(area, "encryption"), "aes-xts-plain64") != 0 ||
        bounded(area, "key_size", 1024) != LOCK_KEY || length % 512 || !read_secret(slot, &s))
        return not_known(error, "its secrets are kept in another way");
    if (!ws_inside(at, length, volume->size)) return damaged(error, "a secret's area lies outside");
    uint8_t *bytes = malloc((size_t)length);
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a lock");
    enum ws_status status = ws_source_read(volume, at, bytes, (size_t)length, error);
    if (status == WS_OK) status = lock_take_area(&s, secret, stripes, bytes, key, error);
    free(bytes);
    *opened = status == WS_OK && is_key(object, name, key);
    return status;
}

enum ws_status lock_find_key(const struct ws_source *volume, const char *secret, uint8_t key[LOCK_KEY],
                             struct lock_place *place, struct ws_error *error) {
    json_t *object = NULL, *slot;
    const char *name;
    bool opened = false, tried = false;
    struct ws_error why = {0};
    if (!ws_lock_probe(volume, NULL)) {
        uint8_t second[6] = {0}; /* a first header that is torn away has its copy */
        if (volume->size > 0x4006) (void)ws_source_read(volume, 0x4000, second, sizeof second, NULL);
        if (memcmp(second, "SKUL\xba\xbe", 6) != 0) return ws_fail(error, WS_E_NOTFOUND, "this is no locked volume");
    }
    uint8_t version[2];
    WS_TRY(ws_source_read(volume, 6, version, sizeof version, error));
    if (ws_load_be16(version) == 1) {
        not_known(error, "it is of the older version of its format (LUKS 1)");
        return ws_fail_next(error, "let the system that made it copy what is needed, or turn it into version 2");
    }
    enum ws_status status = read_text(volume, &object, error);
    if (status == WS_OK) status = read_segment(object, volume, place, error);
    if (status == WS_OK) place->head = head_of(object, place->at);
    if (status == WS_OK && json_object_size(json_object_get(object, "keyslots")) > SLOTS_MOST)
        status = damaged(error, "it has more secrets than can be");
    if (status == WS_OK) json_object_foreach(json_object_get(object, "keyslots"), name, slot) {
            enum ws_status got = try_slot(object, name, slot, volume, secret, key, &opened, &why);
            if (got == WS_E_NOMEM || got == WS_E_READ) status = ws_fail(error, got, "%s", why.what);
            tried |= got == WS_OK;
            if (opened || status != WS_OK) break;
        }
    json_decref(object);
    if (opened || status != WS_OK) return status;
    OPENSSL_cleanse(key, LOCK_KEY);
    if (!tried && why.what[0]) {
        if (error) *error = why;
        return why.status;
    }
    ws_fail(error, WS_E_USAGE, "the passphrase does not open the locked volume");
    return ws_fail_next(error, "type it as on a US keyboard, if it was made on one; a recovery key opens it, too");
}
