/* password.c — passwords hashed, by libxcrypt. */
#include "wild_satchel/password.h"

#include <crypt.h>
#include <openssl/crypto.h>
#include <stdlib.h>
#include <string.h>

static const struct {
    const char *name, *prefix;
    size_t length;
} hashes[WS_PASSWORD_HASHES] = {
    [WS_PASSWORD_SHA512] = {"SHA-512", "$6$", 106}, [WS_PASSWORD_YESCRYPT] = {"yescrypt", "$y$", 73}};

const char *ws_password_hash_name(enum ws_password_hash hash) { return hashes[hash].name; }
size_t ws_password_length(enum ws_password_hash hash) { return hashes[hash].length; }

enum ws_status ws_password_make(enum ws_password_hash hash, const char *password, const uint8_t *salt,
                                char out[WS_PASSWORD_ROOM], struct ws_error *error) {
    char setting[CRYPT_GENSALT_OUTPUT_SIZE];
    out[0] = '\0';
    if (!password[0]) return ws_fail(error, WS_E_USAGE, "a password is empty");
    if (strlen(password) > WS_PASSWORD_MOST)
        return ws_fail(error, WS_E_USAGE, "a password of over %d bytes is taken by no system", WS_PASSWORD_MOST);
    for (const unsigned char *p = (const unsigned char *)password; *p; p++)
        if (*p < ' ' || *p == 127)
            return ws_fail(error, WS_E_USAGE, "a password has a control character in it, which nobody could type");
    struct crypt_data *work = calloc(1, sizeof *work);
    if (!work) return ws_fail(error, WS_E_NOMEM, "out of memory for a password's hash");
    const char *made = NULL;
    if (crypt_gensalt_rn(hashes[hash].prefix, 0, (const char *)salt, WS_PASSWORD_SALT, setting, sizeof setting))
        made = crypt_rn(password, setting, work, sizeof *work);
    bool good = made && strlen(made) == hashes[hash].length;
    if (good) memcpy(out, made, hashes[hash].length + 1);
    OPENSSL_cleanse(work, sizeof *work);
    free(work);
    return good ? WS_OK
                : ws_fail(error, WS_E_UNSUPPORTED, "the password library here makes no %s hashes", hashes[hash].name);
}
