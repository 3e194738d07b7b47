/* area.c — a volume's key locked by one secret: spread over many stripes, so that erasing a few of them destroys it,
 * and enciphered with what Argon2id makes of the secret. LUKS2 specification, sections 2.4 and 3.2; the spreading is
 * LUKS1's ("AF splitter", there section 2.4). */
#include "lock/internal.h"

#include "base/bytes.h"

#include <argon2.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/rand.h>
#include <string.h>

enum { DIGEST_MOST = 64 };

enum ws_status lock_random(void *out, size_t length, struct ws_error *error) {
    if (RAND_priv_bytes(out, (int)length) == 1) return WS_OK;
    return ws_fail(error, WS_E_READ, "this system gives no random bytes");
}

/* Each piece of the stripe becomes the digest of its number and itself, the last one cut to what is left. */
static bool diffuse(uint8_t stripe[LOCK_KEY], const EVP_MD *hash) {
    const size_t digest = (size_t)EVP_MD_size(hash);
    for (size_t i = 0; i * digest < LOCK_KEY; i++) {
        uint8_t numbered[4 + DIGEST_MOST], made[DIGEST_MOST];
        size_t length = ws_min_u64(digest, LOCK_KEY - i * digest);
        ws_store_be32(numbered, (uint32_t)i);
        memcpy(numbered + 4, stripe + i * digest, length);
        if (EVP_Digest(numbered, 4 + length, made, NULL, hash, NULL) != 1) return false;
        memcpy(stripe + i * digest, made, length);
    }
    return true;
}

/* Random stripes, and a last one that gives the key with all of them. */
static enum ws_status spread(const uint8_t key[LOCK_KEY], uint8_t *out, struct ws_error *error) {
    uint8_t sum[LOCK_KEY] = {0};
    bool good = true;
    WS_TRY(lock_random(out, (size_t)(LOCK_STRIPES - 1) * LOCK_KEY, error));
    for (size_t i = 0; i < LOCK_STRIPES && good; i++) {
        uint8_t *stripe = out + i * LOCK_KEY;
        if (i + 1 == LOCK_STRIPES)
            for (size_t k = 0; k < LOCK_KEY; k++) stripe[k] = sum[k] ^ key[k];
        for (size_t k = 0; k < LOCK_KEY; k++) sum[k] ^= stripe[k];
        if (i + 1 < LOCK_STRIPES) good = diffuse(sum, EVP_sha256());
    }
    OPENSSL_cleanse(sum, sizeof sum);
    return good ? WS_OK : ws_fail(error, WS_E_NOMEM, "libcrypto has no SHA-256");
}

static enum ws_status no_argon(int got, uint32_t memory_kib, struct ws_error *error) {
    if (got == ARGON2_MEMORY_ALLOCATION_ERROR) {
        ws_fail(error, WS_E_NOMEM, "a lock takes %u MiB of memory, and there are none left", memory_kib / 1024);
        return ws_fail_next(error, "close other programs; nothing was written");
    }
    return ws_fail(error, WS_E_USAGE, "the secret is not taken: %s", argon2_error_message(got));
}

enum ws_status lock_put_area(const struct lock_slot *slot, const char *secret, const uint8_t key[LOCK_KEY],
                             uint8_t *out, struct ws_error *error) {
    uint8_t made[LOCK_KEY];
    const size_t used = (size_t)LOCK_STRIPES * LOCK_KEY;
    const struct ws_lock_cost *c = &slot->cost;
    int got = argon2id_hash_raw(c->passes, c->memory_kib, c->lanes, secret, strlen(secret), slot->salt,
                                sizeof slot->salt, made, sizeof made);
    if (got != ARGON2_OK) return no_argon(got, c->memory_kib, error);
    enum ws_status status = spread(key, out, error);
    if (status == WS_OK) status = lock_random(out + used, LOCK_AREA - used, error);
    if (status == WS_OK) status = lock_encipher(made, 0, 512, out, used, error);
    OPENSSL_cleanse(made, sizeof made);
    if (status != WS_OK) OPENSSL_cleanse(out, LOCK_AREA); /* stripes in clear would give the key */
    return status;
}

static enum ws_status derive(const struct lock_secret *s, const char *secret, uint8_t made[LOCK_KEY],
                             struct ws_error *error) {
    const struct ws_lock_cost *c = &s->cost;
    const size_t n = strlen(secret);
    if (s->kdf == LOCK_PBKDF2) {
        const EVP_MD *hash = EVP_get_digestbyname(s->hash);
        if (hash &&
            PKCS5_PBKDF2_HMAC(secret, (int)n, s->salt, (int)s->salt_length, (int)s->rounds, hash, LOCK_KEY, made) == 1)
            return WS_OK;
        return ws_fail(error, WS_E_UNSUPPORTED, "the lock's hash %s is not known here", s->hash);
    }
    int got = (s->kdf == LOCK_ARGON2ID ? argon2id_hash_raw : argon2i_hash_raw)(
        c->passes, c->memory_kib, c->lanes, secret, n, s->salt, s->salt_length, made, LOCK_KEY);
    return got == ARGON2_OK ? WS_OK : no_argon(got, c->memory_kib, error);
}

enum ws_status lock_take_area(const struct lock_secret *s, const char *secret, uint32_t stripes, uint8_t *area,
                              uint8_t key[LOCK_KEY], struct ws_error *error) {
    const EVP_MD *hash = EVP_get_digestbyname(s->spread);
    uint8_t made[LOCK_KEY];
    if (!hash) return ws_fail(error, WS_E_UNSUPPORTED, "the lock's hash %s is not known here", s->spread);
    enum ws_status status = derive(s, secret, made, error);
    if (status == WS_OK) status = lock_decipher(made, 0, 512, area, (size_t)stripes * LOCK_KEY, error);
    memset(key, 0, LOCK_KEY);
    for (size_t i = 0; i < stripes && status == WS_OK; i++) {
        for (size_t k = 0; k < LOCK_KEY; k++) key[k] ^= area[i * LOCK_KEY + k];
        if (i + 1 < stripes && !diffuse(key, hash)) status = ws_fail(error, WS_E_NOMEM, "libcrypto cannot hash");
    }
    OPENSSL_cleanse(made, sizeof made);
    OPENSSL_cleanse(area, (size_t)stripes * LOCK_KEY);
    return status;
}
