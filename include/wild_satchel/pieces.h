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
/** Where a source was changed since, told from a few thousand characters: four hexadecimal digits for each stretch of
 * it, the first of SHA-256 over the digests of the stretch's pieces. A stretch is 4 MiB, or the least power of two
 * times that by which WS_STRETCHES cover the source. It points out, it proves nothing: a changed stretch keeps its
 * digits one time in 65,536. */
enum { WS_STRETCHES = 1024, WS_OUTLINE_ROOM = WS_STRETCHES * 4 + 1 };
/** @param pieces  of a source, see ws_pieces_of_source() */
WS_CHECKED enum ws_status ws_pieces_outline(const struct ws_pieces *pieces, char outline[WS_OUTLINE_ROOM],
                                            struct ws_error *error);

struct ws_changed {
    uint64_t at;               /**< byte where the first changed stretch begins */
    uint64_t stretch;          /**< bytes of a stretch */
    size_t stretches, changed; /**< how many there are, and how many of them changed */
};
/** Compare two outlines of sources of as many pieces. Those that are not of one length have nothing in common. */
void ws_outline_compare(const char *was, const char *is, size_t pieces, struct ws_changed *changed);
/** Of a source: each 4 MiB of it, as bytes of the drive from 0 on, in `part`. Worked out by two tasks at once.
 *  @param port  NULL: one after the other */
WS_CHECKED enum ws_status ws_pieces_of_source(struct ws_port *port, const struct ws_source *source, unsigned part,
                                              struct ws_pieces *pieces, struct ws_error *error);

/** What a stretch of a drive was written with, told from accidents, not from intent: CRC-64 (ECMA-182, annex B). Twenty
 *  times as fast as a digest, for what is compared within one run. */
struct ws_sum {
    uint64_t at;     /**< byte of the drive */
    uint32_t length; /**< bytes */
    uint64_t sum;
};
uint64_t ws_sum_of(const void *bytes, size_t length);
/** In ascending order. Zero-initialised: none. */
struct ws_sums {
    struct ws_sum *list; /**< owned */
    size_t count, room;
};
void ws_sums_free(struct ws_sums *sums);
/** @return WS_E_NOMEM */
WS_CHECKED enum ws_status ws_sums_add(struct ws_sums *sums, const struct ws_sum *sum, struct ws_error *error);
/** That of exactly this stretch; NULL: none is known. */
const struct ws_sum *ws_sums_find(const struct ws_sums *sums, uint64_t at, uint64_t length);

/** Digests that were worked out, for drives that are checked beside each other and hold the same in most places: each
 * is worked out once. Bytes of one place, length and sum are taken for the same; that they are so by accident only is
 * for the caller to know: a wrong digest in a drive's list makes a later check of a sound drive fail, never one pass.
 */
struct ws_digests;
/** @param port  for waiting while another task works one out; may be NULL
 *  @return WS_E_NOMEM */
WS_CHECKED enum ws_status ws_digests_open(struct ws_port *port, struct ws_digests **digests, struct ws_error *error);
/** @param digests  may be NULL; nobody may be using it any more */
void ws_digests_close(struct ws_digests *digests);
/** SHA-256 of `piece->length` bytes. By any number of tasks at once.
 *  @param digests  NULL: worked out anyway
 *  @param piece    its place and length
 *  @param sum      of the bytes
 *  @return false if it could not be worked out */
bool ws_digests_of(struct ws_digests *digests, const struct ws_digest_piece *piece, uint64_t sum, const void *bytes,
                   uint8_t sha256[32]);
/** How many were worked out, and how many were asked for. */
void ws_digests_count(struct ws_digests *digests, uint64_t *worked_out, uint64_t *asked);

WS_END

#endif
