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

/* What was made here opens again: with either secret, by either header, and is what was put in. */
static void what_was_locked_is_opened(void) {
    static const struct ws_guid id = {{7}};
    const char *path = scratch("again");
    char recovery[WS_RECOVERY_ROOM];
    uint8_t *bytes, *back = malloc(BODY), *twice = malloc(BODY);
    struct ws_lock *lock = NULL;
    struct ws_source *open = random_volume(&bytes), *volume = NULL, *half = NULL;
    OK(ws_lock_create(open, &id, "HUT", &lock, &error));
    OK(ws_lock_add(lock, WS_LOCK_RECOVERY, "gull 7 over the bar", &error)); /* the cheaper way */
    OK(ws_lock_recovery(recovery, &error));
    OK(ws_lock_add(lock, WS_LOCK_RECOVERY, recovery, &error));
    save(path, ws_lock_head(lock), 0);
    save(path, ws_lock_body(lock), WS_LOCK_HEAD);
    OK(ws_source_read(ws_lock_body(lock), 0, twice, BODY, &error));
    ws_lock_close(lock);
    for (int i = 0; i < 2; i++) { /* by the first header, then without it */
        struct ws_lock *opened = NULL, *again = NULL;
        OK(ws_source_file(path, &volume, &error));
        FAILS(ws_lock_open(volume, i ? "gull 7 over the ba" : "", &opened, &error), WS_E_USAGE);
        OK(ws_lock_open(volume, i == 1 ? recovery : "gull 7 over the bar", &opened, &error));
        CHECK_INT(ws_lock_body(opened)->size, BODY);
        CHECK_INT(ws_lock_begin(opened), WS_LOCK_HEAD);
        OK(ws_source_read(ws_lock_body(opened), 0, back, BODY, &error));
        CHECK(memcmp(back, bytes, BODY) == 0);
        for (int n = 0; n < cases_of(60); n++) {
            size_t at = random_below(BODY), length = 1 + random_below(20000);
            if (length > BODY - at) length = BODY - at;
            OK(ws_source_read(ws_lock_body(opened), at, back, length, &error));
            CHECK(memcmp(back, bytes + at, length) == 0);
        }
        OK(ws_lock_create(open, &id, "", &again, &error));
        OK(ws_lock_take_key(again, opened, &error)); /* around the same bytes: the same bytes */
        OK(ws_source_read(ws_lock_body(again), 0, back, BODY, &error));
        CHECK(memcmp(back, twice, BODY) == 0);
        ws_lock_close(again);
        OK(ws_source_slice(open, 0, BODY / 2, &half, &error)); /* made smaller: the same bytes as far as it goes */
        OK(ws_lock_create(half, &id, "", &again, &error));
        OK(ws_lock_take_key(again, opened, &error));
        OK(ws_source_read(ws_lock_body(again), 0, back, BODY / 2, &error));
        CHECK(memcmp(back, twice, BODY / 2) == 0);
        ws_lock_close(again);
        ws_source_close(half);
        ws_lock_close(opened);
        ws_source_close(volume);
        if (i == 0) CHECK_INT(shell(NULL, "dd if=/dev/zero of=%s bs=512 count=1 conv=notrunc 2>/dev/null", path), 0);
    }
    ws_source_close(open);
    free(bytes);
    free(back);
    free(twice);
}

/* Locks that the judge made: of other kinds, too. */
static void the_judges_locks_are_opened(void) {
    static const struct {
        const char *options;
        enum ws_status status;
    } kinds[] = {{"--pbkdf argon2id", WS_OK},
                 {"--pbkdf argon2i --sector-size 4096", WS_OK},
                 {"--pbkdf pbkdf2 --pbkdf-force-iterations 1000 --hash sha512", WS_OK},
                 {"--pbkdf pbkdf2 --pbkdf-force-iterations 1000 --hash sha1", WS_OK},
                 {"--pbkdf argon2id --offset 65536 --label HUT", WS_OK},
                 {"--pbkdf argon2id --key-size 256", WS_E_UNSUPPORTED},
                 {"--pbkdf argon2id --cipher aes-cbc-essiv:sha256 --key-size 256", WS_E_UNSUPPORTED},
                 {"--pbkdf pbkdf2 --pbkdf-force-iterations 1000 --type luks1", WS_E_UNSUPPORTED}};
    if (!have_program("cryptsetup")) {
        skip_test("nothing is installed that makes other locks");
        return;
    }
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        const char *path = scratch("theirs");
        struct ws_source *volume = NULL;
        struct ws_lock *lock = NULL;
        uint8_t key[64], sector[4096], stands[4096];
        bool argon = strstr(kinds[i].options, "argon") != NULL;
        CHECK_INT(shell(NULL,
                        "rm -f %s; truncate -s 64M %s; printf 'gull 7 over' >%s.secret; cryptsetup luksFormat -q %s %s "
                        "%s --key-file %s.secret %s && printf 'second one' >%s.two && cryptsetup luksAddKey -q %s "
                        "--key-file %s.secret %s %s.two",
                        path, path, path, strstr(kinds[i].options, "--type") ? "" : "--type luks2", kinds[i].options,
                        argon ? "--pbkdf-force-iterations 4 --pbkdf-memory 64 --pbkdf-parallel 2" : "", path, path,
                        path,
                        argon ? "--pbkdf-force-iterations 4 --pbkdf-memory 64"
                              : "--pbkdf pbkdf2 --pbkdf-force-iterations 1000",
                        path, path, path),
                  0);
        OK(ws_source_file(path, &volume, &error));
        if (kinds[i].status != WS_OK) {
            FAILS(ws_lock_open(volume, "gull 7 over", &lock, &error), kinds[i].status);
            ws_source_close(volume);
            continue;
        }
        FAILS(ws_lock_open(volume, "gull 7 ove", &lock, &error), WS_E_USAGE);
        OK(ws_lock_open(volume, i % 2 ? "second one" : "gull 7 over", &lock, &error));
        CHECK(key_by(path, "gull 7 over", key));
        const uint64_t at = ws_lock_begin(lock);
        const size_t unit = shell(NULL, "cryptsetup luksDump %s | grep -q 'sector: 4096'", path) == 0 ? 4096 : 512;
        OK(ws_source_read(volume, at + 8192, stands, sizeof stands, &error));
        OK(ws_source_read(ws_lock_body(lock), 8192, sector, sizeof sector, &error));
        for (size_t n = 0; n < 4096; n += unit) CHECK(decipher(key, 8192 + n, stands + n, unit));
        CHECK(memcmp(sector, stands, sizeof sector) == 0);
        CHECK_INT(ws_lock_body(lock)->size + at, 64 * MIB);
        ws_lock_close(lock);
        ws_source_close(volume);
    }
}

/* Headers changed at random, with and without a right checksum: opened as before, or refused in words. */
static void hostile_headers_do_no_harm(void) {
    static const char *const words[] = {"0", "-1", "99999999999999999999", "\"0\"", "{}", "[]", "null", "4294967296"};
    static const struct ws_guid id;
    enum { HEADER = 16384 };
    uint8_t *bytes, *good = calloc(1, WS_LOCK_HEAD + BODY), *bad = malloc(WS_LOCK_HEAD + BODY);
    struct ws_lock *lock = NULL;
    struct ws_source *open = random_volume(&bytes), *volume = NULL;
    OK(ws_lock_create(open, &id, "HUT", &lock, &error));
    OK(ws_lock_add(lock, WS_LOCK_RECOVERY, "gull 7 over", &error));
    OK(ws_source_read(ws_lock_head(lock), 0, good, (size_t)ws_lock_head(lock)->size, &error));
    ws_lock_close(lock);
    for (int i = 0; i < cases_of(60); i++) {
        memcpy(bad, good, WS_LOCK_HEAD + BODY);
        char *text = (char *)bad + 4096;
        size_t n = strlen(text), at = random_below(n);
        if (i % 3 == 0) { /* a number becomes something else */
            while (at < n && !(text[at] >= '0' && text[at] <= '9')) at++;
            size_t end = at;
            while (end < n && text[end] >= '0' && text[end] <= '9') end++;
            const char *to = words[random_below(8)];
            memmove(text + at + strlen(to), text + end, n - end + 1);
            memcpy(text + at, to, strlen(to));
        } else if (i % 3 == 1) {
            text[at] = (char)(' ' + random_below(95));
        } else {
            bad[random_below(i % 2 ? HEADER : 512)] ^= (uint8_t)(1 << random_below(8));
        }
        memset(bad + HEADER, 0, HEADER); /* no second one to fall back on */
        if (i % 4) {
            uint8_t sum[32];
            memset(bad + 448, 0, 64);
            if (EVP_Digest(bad, HEADER, sum, NULL, EVP_sha256(), NULL) != 1) abort();
            memcpy(bad + 448, sum, sizeof sum);
        }
        OK(ws_source_memory(bad, WS_LOCK_HEAD + BODY, &volume, &error));
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_lock_open(volume, "gull 7 over", &lock, &error);
        CHECK(status == WS_OK || error.what[0]);
        if (status == WS_OK) {
            OK(ws_source_read(ws_lock_body(lock), 0, bytes, 512, &error));
            ws_lock_close(lock);
        }
        ws_source_close(volume);
    }
    ws_source_close(open);
    free(bytes);
    free(good);
    free(bad);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"the judge opens it with either secret", the_judge_opens_it_with_either_secret},
        {"two locks have nothing in common", two_locks_have_nothing_in_common},
        {"what was locked is opened", what_was_locked_is_opened},
        {"the judge's locks are opened", the_judges_locks_are_opened},
        {"hostile headers do no harm", hostile_headers_do_no_harm},
        {"secrets are judged", secrets_are_judged},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
