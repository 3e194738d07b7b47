/* cipher.c — AES-XTS over sectors, as dm-crypt's "aes-xts-plain64" has it. */
#include "lock/internal.h"

#include "base/bytes.h"

#include <openssl/evp.h>

enum ws_status lock_encipher(const uint8_t key[LOCK_KEY], uint64_t at, size_t unit, uint8_t *bytes, size_t length,
                             struct ws_error *error) {
    EVP_CIPHER_CTX *c = EVP_CIPHER_CTX_new();
    bool good = c && EVP_EncryptInit_ex(c, EVP_aes_256_xts(), NULL, key, NULL) == 1;
    for (size_t done = 0; good && done < length; done += unit) {
        uint8_t number[16] = {0};
        int n = 0;
        ws_store_le64(number, (at + done) / 512);
        good = EVP_EncryptInit_ex(c, NULL, NULL, NULL, number) == 1 &&
               EVP_EncryptUpdate(c, bytes + done, &n, bytes + done, (int)unit) == 1 && (size_t)n == unit;
    }
    EVP_CIPHER_CTX_free(c);
    return good ? WS_OK : ws_fail(error, WS_E_NOMEM, "a volume cannot be enciphered: libcrypto has no AES-XTS");
}
