/* pieces.h — a drive's digests in pieces: what it was found to hold when it was checked, stretch by stretch.
 *
 * A list of them lets a drive be checked later without the image it was made from, names the place of a change, leaves
 * parts out that are in use, and is worked out on several processors at once.
 */
#ifndef WILD_SATCHEL_PIECES_H
#define WILD_SATCHEL_PIECES_H

#include "wild_satchel/layout.h"
#include "wild_satchel/port.h"

WS_BEGIN

#define WS_DIGEST_BYTES (4u << 20) /**< no piece is longer, or crosses a multiple of it */

struct ws_digest_piece {
    uint64_t at;     /**< byte of the drive */
    uint32_t length; /**< bytes, 1 to WS_DIGEST_BYTES */
    unsigned part;   /**< which part of the drive it belongs to, see struct ws_extent */
    uint8_t sha256[32];
};

/** In ascending order, without overlaps. Zero-initialised: none. */
struct ws_pieces {
    struct ws_digest_piece *list; /**< owned */
    size_t count, room;
};
void ws_pieces_free(struct ws_pieces *pieces);
/** Add one behind the last. @return WS_E_RANGE for one that is not behind it, too long or empty; WS_E_NOMEM */
WS_CHECKED enum ws_status ws_pieces_add(struct ws_pieces *pieces, const struct ws_digest_piece *piece,
                                        struct ws_error *error);
/** One digest of them all: SHA-256 over the pieces' digests in order, as hexadecimal digits (65 bytes). */
WS_CHECKED enum ws_status ws_pieces_root(const struct ws_pieces *pieces, char hex[WS_HASH_HEX], struct ws_error *error);
/** Of a source: each 4 MiB of it, as bytes of the drive from 0 on, in `part`. Worked out by two tasks at once.
 *  @param port  NULL: one after the other */
WS_CHECKED enum ws_status ws_pieces_of_source(struct ws_port *port, const struct ws_source *source, unsigned part,
                                              struct ws_pieces *pieces, struct ws_error *error);

WS_END

#endif
