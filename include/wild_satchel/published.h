/* published.h — checksums as publishers give them: a digest, or a list of them beside the image. */
#ifndef WILD_SATCHEL_PUBLISHED_H
#define WILD_SATCHEL_PUBLISHED_H

#include "wild_satchel/base.h"

WS_BEGIN

struct ws_published {
    enum ws_hash_kind kind;
    char hex[WS_HASH_HEX]; /**< lower case */
};

/** Is this text a digest: 32, 40, 64 or 128 hexadecimal digits? @return WS_E_USAGE saying what is wrong */
WS_CHECKED enum ws_status ws_published_digest(const char *text, struct ws_published *published, struct ws_error *error);

/**
 * Find the checksum of `name` in a list. Lines may be "HEX  name" and "HEX *name" (as coreutils write them, with
 * escaped names), "SHA256 (name) = HEX" (as BSD tools write them), or a lone digest, which counts for any name. Folders
 * in front of a listed name are ignored. Of several the longest digest wins.
 * @return WS_E_NOTFOUND if the list does not name it
 */
WS_CHECKED enum ws_status ws_published_find(const char *list, size_t length, const char *name,
                                            struct ws_published *published, struct ws_error *error);

/** Names under which publishers put lists beside an image: suffixes to the image's name (".sha256") first, then names
 *  of lists ("SHA256SUMS"). NULL-terminated. */
const char *const *ws_published_suffixes(void);
const char *const *ws_published_lists(void);
/** Suffixes of detached signatures (".asc", ".sig", ...). NULL-terminated. */
const char *const *ws_published_signatures(void);
/** "MD5", "SHA-1", "SHA-256", "SHA-512" */
const char *ws_hash_name(enum ws_hash_kind kind);

WS_END

#endif
