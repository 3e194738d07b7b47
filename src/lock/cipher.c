/* cipher.c — AES-XTS over sectors, as dm-crypt's "aes-xts-plain64" has it. */
#include "lock/internal.h"

#include "base/bytes.h"

#include <openssl/evp.h>

static enum ws_status pass(const uint8_t key[LOCK_KEY], bool lock, uint64_t at, size_t unit, uint8_t *bytes,
                           size_t length, struct ws_error *error) {
    EVP_CIPHER_CTX *c = EVP_CIPHER_CTX_new();
    bool good = c && EVP_CipherInit_ex(c, EVP_aes_256_xts(), NULL, key, NULL, lock) == 1;
    for (size_t done = 0; good && done < length; done += unit) {
        uint8_t number[16] = {0};
        int n = 0;
        ws_store_le64(number, (at + done) / 512);
        good = EVP_CipherInit_ex(c, NULL, NULL, NULL, number, lock) == 1 &&
               EVP_CipherUpdate(c, bytes + done, &n, bytes + done, (int)unit) == 1 && (size_t)n == unit;
    }
    EVP_CIPHER_CTX_free(c);
    return good ? WS_OK : ws_fail(error, WS_E_NOMEM, "a volume cannot be enciphered: libcrypto has no AES-XTS");
}

enum ws_status lock_encipher(const uint8_t key[LOCK_KEY], uint64_t at, size_t unit, uint8_t *bytes, size_t length,
                             struct ws_error *error) {
    return pass(key, true, at, unit, bytes, length, error);
}

enum ws_status lock_decipher(const uint8_t key[LOCK_KEY], uint64_t at, size_t unit, uint8_t *bytes, size_t length,
                             struct ws_error *error) {
    return pass(key, false, at, unit, bytes, length, error);
}
