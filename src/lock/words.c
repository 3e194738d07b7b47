/* words.c — secrets as people type them, where nobody knows which keyboard they have. */
#include "lock/internal.h"

#include <openssl/crypto.h>
#include <string.h>

/* Letters in the same place on QWERTY, QWERTZ and AZERTY keyboards. */
static const char same[] = "bcdefghijklnoprstuvx";

enum ws_status ws_lock_recovery(char out[WS_RECOVERY_ROOM], struct ws_error *error) {
    enum { LETTERS = sizeof same - 1, FAIR = 256 / LETTERS * LETTERS };
    for (size_t n = 0; n < WS_RECOVERY_ROOM - 1;) {
        uint8_t byte = 0;
        if (n % 5 == 4) {
            out[n++] = ' ';
            continue;
        }
        WS_TRY(lock_random(&byte, 1, error));
        if (byte < FAIR) out[n++] = same[byte % LETTERS]; /* each as likely as the others */
        OPENSSL_cleanse(&byte, 1);
    }
    out[WS_RECOVERY_ROOM - 1] = '\0';
    return WS_OK;
}

size_t ws_passphrase_doubtful(const char *passphrase) {
    size_t n = 0;
    for (; *passphrase; passphrase++) {
        char c = *passphrase >= 'A' && *passphrase <= 'Z' ? (char)(*passphrase + 32) : *passphrase;
        n += c != ' ' && !strchr(same, c);
    }
    return n;
}
