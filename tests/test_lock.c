/* test_lock.c — locked volumes, judged by cryptsetup; and what makes a secret. */
#include "tests/harness.h"

#include "base/bytes.h"
#include "wild_satchel/lock.h"

#include <openssl/evp.h>
#include <unistd.h>

enum { MIB = 1 << 20, BODY = 2 * MIB };

static void save(const char *path, const struct ws_source *source, uint64_t at) {
    uint8_t *bytes = malloc((size_t)source->size);
    FILE *f = fopen(path, at ? "r+b" : "w+b");
    if (!bytes || !f) abort();
    OK(ws_source_read(source, 0, bytes, (size_t)source->size, &error));
    if (fseek(f, (long)at, SEEK_SET) != 0 || fwrite(bytes, 1, (size_t)source->size, f) != source->size) abort();
    fclose(f);
    free(bytes);
}

/* The volume's key as the judge gives it out for this secret; false: it does not open. */
static bool key_by(const char *path, const char *secret, uint8_t key[64]) {
    struct ws_text said = {0};
    bool good = shell(&said,
                      "printf '%%s' '%s' >%s.secret; cryptsetup luksDump --dump-volume-key --batch-mode --key-file "
                      "%s.secret %s 2>&1 | sed -n '/MK dump:/,$p' | sed 's/MK dump://' | tr -d ' \\t\\n'",
                      secret, path, path, path) == 0 &&
                said.length >= 128;
    for (size_t i = 0; good && i < 64; i++) {
        unsigned byte = 0;
        good = sscanf(said.data + 2 * i, "%2x", &byte) == 1;
        key[i] = (uint8_t)byte;
    }
    ws_text_free(&said);
    return good;
}

static bool decipher(const uint8_t key[64], uint64_t at, uint8_t *bytes, size_t length) {
    EVP_CIPHER_CTX *c = EVP_CIPHER_CTX_new();
    uint8_t number[16] = {0};
    int n = 0;
    ws_store_le64(number, at / 512);
    bool good = EVP_DecryptInit_ex(c, EVP_aes_256_xts(), NULL, key, number) == 1 &&
                EVP_DecryptUpdate(c, bytes, &n, bytes, (int)length) == 1;
    EVP_CIPHER_CTX_free(c);
    return good;
}

static struct ws_source *random_volume(uint8_t **bytes) {
    struct ws_source *source = NULL;
    *bytes = malloc(BODY);
    for (size_t i = 0; i < BODY; i += 8) ws_store_le64(*bytes + i, random_next());
    if (ws_source_memory(*bytes, BODY, &source, &error) != WS_OK) abort();
    return source;
}

static void the_judge_opens_it_with_either_secret(void) {
    static const struct ws_guid id = {{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}};
    const char *passphrase = "gull 7 over the bar";
    const char *path = scratch("locked");
    char recovery[WS_RECOVERY_ROOM];
    uint8_t *bytes, key[64], other[64], back[BODY];
    struct ws_lock *lock = NULL;
    struct ws_source *open = random_volume(&bytes);
    OK(ws_lock_create(open, &id, "HUT", &lock, &error));
    CHECK(!ws_lock_is_made(lock));
    OK(ws_source_read(ws_lock_body(lock), 0, back, BODY, &error)); /* as it is open */
    CHECK(memcmp(back, bytes, BODY) == 0);
    CHECK_INT(ws_source_piece(ws_lock_body(lock), 0, BODY).kind, WS_PIECE_BASE);
    OK(ws_lock_add(lock, WS_LOCK_PASSPHRASE, passphrase, &error));
    OK(ws_lock_recovery(recovery, &error));
    OK(ws_lock_add(lock, WS_LOCK_RECOVERY, recovery, &error));
    FAILS(ws_lock_add(lock, WS_LOCK_RECOVERY, recovery, &error), WS_E_RANGE);
    CHECK_INT(ws_source_piece(ws_lock_body(lock), 0, BODY).kind, WS_PIECE_OWN);
    save(path, ws_lock_head(lock), 0);
    save(path, ws_lock_body(lock), WS_LOCK_HEAD);
    CHECK(key_by(path, passphrase, key) && key_by(path, recovery, other) && memcmp(key, other, 64) == 0);
    CHECK(!key_by(path, "gull 7 over the ba", other));
    CHECK_INT(shell(NULL, "printf '%%s' '%s' | cryptsetup open --test-passphrase --key-file - %s", passphrase, path),
              0);
    CHECK(shell(NULL, "printf wrong | cryptsetup open --test-passphrase --key-file - %s 2>&1", path) != 0);
    struct ws_text said = {0};
    CHECK_INT(shell(&said, "cryptsetup luksDump %s", path), 0);
    CHECK_HAS(said.data, "HUT");
    CHECK_HAS(said.data, "01020304-0506-0708-090a-0b0c0d0e0f10");
    CHECK_HAS(said.data, "argon2id");
    ws_text_free(&said);
    /* its second header alone is enough: a first one that is damaged is mended from it */
    CHECK_INT(shell(NULL,
                    "dd if=/dev/zero of=%s bs=512 count=1 conv=notrunc 2>/dev/null; printf '%%s' '%s' | "
                    "cryptsetup open --test-passphrase --key-file - %s",
                    path, passphrase, path),
              0);
    for (int i = 0; i < cases_of(200); i++) { /* any stretch of it is the same */
        size_t at = random_below(BODY), length = 1 + random_below(i % 2 ? 9000 : 200000);
        uint8_t sector[WS_LOCK_SECTOR];
        if (length > BODY - at) length = BODY - at;
        OK(ws_source_read(ws_lock_body(lock), at, back, length, &error));
        size_t from = at / WS_LOCK_SECTOR * WS_LOCK_SECTOR;
        OK(ws_source_read(ws_lock_body(lock), from, sector, sizeof sector, &error));
        size_t n = from + WS_LOCK_SECTOR - at < length ? from + WS_LOCK_SECTOR - at : length;
        CHECK(memcmp(sector + (at - from), back, n) == 0);
        CHECK(decipher(key, from, sector, sizeof sector) && memcmp(sector, bytes + from, sizeof sector) == 0);
    }
    ws_lock_close(lock);
    ws_source_close(open);
    free(bytes);
    shell(NULL, "rm -f %s %s.secret", path, path);
}

static void two_locks_have_nothing_in_common(void) {
    static const struct ws_guid id;
    uint8_t *bytes, a[4096], b[4096];
    struct ws_lock *one = NULL, *two = NULL;
    struct ws_source *open = random_volume(&bytes);
    OK(ws_lock_create(open, &id, "", &one, &error));
    OK(ws_lock_create(open, &id, "", &two, &error));
    OK(ws_lock_add(one, WS_LOCK_RECOVERY, "the same for both", &error));
    OK(ws_lock_add(two, WS_LOCK_RECOVERY, "the same for both", &error));
    for (uint64_t at = 0; at + sizeof a <= BODY; at += sizeof a) {
        OK(ws_source_read(ws_lock_body(one), at, a, sizeof a, &error));
        OK(ws_source_read(ws_lock_body(two), at, b, sizeof b, &error));
        if (memcmp(a, b, sizeof a) == 0 || memcmp(a, bytes + at, sizeof a) == 0) fail_at(__FILE__, __LINE__, "alike");
    }
    OK(ws_source_read(ws_lock_head(one), 0x8000, a, sizeof a, &error));
    OK(ws_source_read(ws_lock_head(two), 0x8000, b, sizeof b, &error));
    CHECK(memcmp(a, b, sizeof a) != 0);
    ws_lock_close(one);
    ws_lock_close(two);
    ws_source_close(open);
    free(bytes);
}

static void secrets_are_judged(void) {
    static const struct ws_guid id;
    static const char *const bad[] = {"", "short", "with a\tstop", "line\nline line", "del \x7f del"};
    char a[WS_RECOVERY_ROOM], b[WS_RECOVERY_ROOM], many[WS_PASSPHRASE_MOST + 2];
    uint8_t *bytes;
    struct ws_lock *lock = NULL;
    struct ws_source *open = random_volume(&bytes), *odd = NULL;
    OK(ws_lock_create(open, &id, "", &lock, &error));
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        FAILS(ws_lock_add(lock, WS_LOCK_PASSPHRASE, bad[i], &error), WS_E_USAGE);
    memset(many, 'x', sizeof many - 1);
    many[sizeof many - 1] = '\0';
    FAILS(ws_lock_add(lock, WS_LOCK_PASSPHRASE, many, &error), WS_E_USAGE);
    CHECK(!ws_lock_is_made(lock));
    ws_lock_close(lock);
    OK(ws_source_slice(open, 0, 5000, &odd, &error));
    FAILS(ws_lock_create(odd, &id, "", &lock, &error), WS_E_RANGE);
    ws_source_close(odd);
    ws_source_close(open);
    free(bytes);
    for (int i = 0; i < 50; i++) {
        OK(ws_lock_recovery(a, &error));
        OK(ws_lock_recovery(b, &error));
        CHECK(strcmp(a, b) != 0 && strlen(a) == WS_RECOVERY_ROOM - 1 && ws_passphrase_doubtful(a) == 0);
    }
    CHECK_INT(ws_passphrase_doubtful("gull over"), 0);
    CHECK_INT(ws_passphrase_doubtful("Gull 7, w\xc3\xa4re"), 5);
    CHECK(ws_lock_seconds(ws_lock_cost(WS_LOCK_PASSPHRASE), WS_LOCK_SLOW_PC) < 5);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"the judge opens it with either secret", the_judge_opens_it_with_either_secret},
        {"two locks have nothing in common", two_locks_have_nothing_in_common},
        {"secrets are judged", secrets_are_judged},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
