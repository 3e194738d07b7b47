/* layout.h — what a drive will hold, stated before the first write.
 *
 * A layout is an ordered, non-overlapping list of extents. Composers add extents in any order; ws_layout_seal()
 * sorts them once, rejects overlaps and freezes the list. Dry runs, size predictions, writing, checking and resuming
 * all read the same frozen list.
 */
#ifndef WILD_SATCHEL_LAYOUT_H
#define WILD_SATCHEL_LAYOUT_H

#include "wild_satchel/source.h"

WS_BEGIN

/** When an extent is written. */
enum ws_phase {
    WS_PHASE_BODY, /**< in ascending order */
    WS_PHASE_SEAL  /**< last, after a flush: what makes the drive look finished */
};

/** One run of bytes on the drive. */
struct ws_extent {
    uint64_t at;                  /**< first byte on the drive */
    uint64_t length;              /**< bytes, > 0 */
    const struct ws_source *from; /**< borrowed; outlives the layout */
    uint64_t from_at;             /**< first byte in `from` */
    enum ws_phase phase;
    unsigned part; /**< which part of the drive it belongs to, by the caller's own count */
};
enum { WS_LAYOUT_PARTS = 32 }; /**< parts are 0 to WS_LAYOUT_PARTS - 1 */

struct ws_layout;

/** An empty layout for a drive of `size` bytes. */
WS_CHECKED enum ws_status ws_layout_create(uint64_t size, struct ws_layout **layout, struct ws_error *error);
void ws_layout_close(struct ws_layout *layout);

/** Hand `source` over: it is closed with the layout, last given first closed. On WS_E_NOMEM it is closed at once. */
WS_CHECKED enum ws_status ws_layout_own(struct ws_layout *layout, struct ws_source *source, struct ws_error *error);

/** What is added from now on belongs to `part`; a fresh layout begins with 0. @return the part until now */
unsigned ws_layout_part(struct ws_layout *layout, unsigned part);

/**
 * Add one extent.
 *
 * @param at      byte offset on the drive
 * @param length  bytes; 0 is accepted and adds nothing
 * @return WS_OK; WS_E_RANGE if at + length passes the layout's size, or from_at + length passes the source's (error
 *         text names both); WS_E_NOMEM. On error the layout is unchanged.
 */
WS_CHECKED enum ws_status ws_layout_add(struct ws_layout *layout, uint64_t at, uint64_t length,
                                        const struct ws_source *from, uint64_t from_at, enum ws_phase phase,
                                        struct ws_error *error);
/** Add `length` bytes from memory, which is copied. */
WS_CHECKED enum ws_status ws_layout_add_bytes(struct ws_layout *layout, uint64_t at, const void *bytes, size_t length,
                                              enum ws_phase phase, struct ws_error *error);

/**
 * Wherever nothing has been added yet between two bytes of the drive: the bytes of `from` at the same places, as body.
 * @return as ws_layout_add(): `from` reaches to `end` at least
 */
WS_CHECKED enum ws_status ws_layout_fill(struct ws_layout *layout, uint64_t at, uint64_t end,
                                         const struct ws_source *from, struct ws_error *error);

/** Sort, check and freeze. Adjoining pieces of one source and part become one extent.
 *  @return WS_E_RANGE if two extents overlap (the text names both) */
WS_CHECKED enum ws_status ws_layout_seal(struct ws_layout *layout, struct ws_error *error);

uint64_t ws_layout_size(const struct ws_layout *layout);
size_t ws_layout_count(const struct ws_layout *layout);
/** Extent `index` in ascending order; valid until the layout changes. */
const struct ws_extent *ws_layout_extent(const struct ws_layout *layout, size_t index);
/** Bytes in all extents: what will be written. */
uint64_t ws_layout_bytes(const struct ws_layout *layout);
/** The same without some parts: bit N of `leave_out` stands for part N. */
uint64_t ws_layout_bytes_without(const struct ws_layout *layout, uint32_t leave_out);
/** A source whose digest is known already, so that a fingerprint need not read it. */
struct ws_known_input {
    const struct ws_source *source; /**< borrowed */
    const char *digest;             /**< of its whole content, as text */
};
/** A fingerprint of the drive that a frozen layout makes: its size, places, lengths, phases and every byte. Bytes made
 *  by composers, and any other that stem from none of the `inputs`, are read; holes are not.
 *  Two layouts with one fingerprint put the same bytes in the same places.
 *  @return WS_E_READ and others from the sources; WS_E_NOMEM */
WS_CHECKED enum ws_status ws_layout_fingerprint(const struct ws_layout *layout, const struct ws_known_input *input,
                                                size_t inputs, char hex[WS_HASH_HEX], struct ws_error *error);

/** A part of a drive as it will be once a layout is carried out: what the layout, frozen or not, has there, and what
 *  stands there else. A frozen layout of its own, that borrows both.
 *  @param at       byte of the drive; `size` bytes from there on
 *  @param base_at  byte of `base` that stands there; behind the end of `base` are holes
 *  @return as ws_layout_add() and ws_layout_seal() */
WS_CHECKED enum ws_status ws_layout_over(const struct ws_layout *layout, uint64_t at, uint64_t size,
                                         const struct ws_source *base, uint64_t base_at, struct ws_layout **over,
                                         struct ws_error *error);

/** The drive as it will be, as a source: holes read as zeros. Borrows the frozen layout. */
WS_CHECKED enum ws_status ws_layout_source(const struct ws_layout *layout, struct ws_source **source,
                                           struct ws_error *error);

WS_END

#endif
