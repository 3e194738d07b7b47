/* password.h — what systems keep of a password: a hash, crypt(5). */
#ifndef WILD_SATCHEL_PASSWORD_H
#define WILD_SATCHEL_PASSWORD_H

#include "wild_satchel/status.h"

WS_BEGIN

enum ws_password_hash {
    WS_PASSWORD_SHA512,   /**< "$6$": every system of the last fifteen years knows it */
    WS_PASSWORD_YESCRYPT, /**< "$y$": costs who guesses memory, too */
    WS_PASSWORD_HASHES
};
const char *ws_password_hash_name(enum ws_password_hash hash); /**< "SHA-512", "yescrypt" */

enum { WS_PASSWORD_ROOM = 128, WS_PASSWORD_MOST = 511, WS_PASSWORD_SALT = 16 };

/** Bytes of such a hash, always the same. */
size_t ws_password_length(enum ws_password_hash hash);
/**
 * Hash a password. All memory it passed through here is cleared.
 * @param salt  WS_PASSWORD_SALT bytes: the same ones give the same hash
 * @return WS_E_USAGE for one that is empty, over WS_PASSWORD_MOST bytes, or has a control character in it
 */
WS_CHECKED enum ws_status ws_password_make(enum ws_password_hash hash, const char *password, const uint8_t *salt,
                                           char out[WS_PASSWORD_ROOM], struct ws_error *error);

WS_END

#endif
