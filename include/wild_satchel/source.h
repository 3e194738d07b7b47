/* source.h — random-access bytes: an image file, a slice, memory, zeros, a file inside a file system, a drive.
 *
 * A source is read-only and has a fixed size. Whoever opened it closes it; a source made from another one borrows
 * it, so close in reverse order, or hand ownership to a tree or layout with their _own() calls.
 * All sources made here may be read by several tasks at once: reading changes nothing that another reader sees. One
 * that cannot promise it says so where it is made.
 */
#ifndef WILD_SATCHEL_SOURCE_H
#define WILD_SATCHEL_SOURCE_H

#include "wild_satchel/base.h"

WS_BEGIN

struct ws_source {
    const struct ws_source_ops *ops;
    uint64_t size; /**< bytes */
    void *state;   /**< the maker's own */
};

/** Where a stretch of a source's bytes comes from. */
enum ws_piece_kind {
    WS_PIECE_OWN,     /**< nowhere else: they have to be read to be known */
    WS_PIECE_HOLE,    /**< nothing is stored there; reads as zeros */
    WS_PIECE_BASE,    /**< another source's */
    WS_PIECE_UNPACKED /**< worked out from another source, whose bytes alone decide them */
};
struct ws_piece {
    enum ws_piece_kind kind;
    uint64_t length;              /**< bytes, > 0 */
    const struct ws_source *base; /**< WS_PIECE_BASE, WS_PIECE_UNPACKED: whose; borrowed from the source asked */
    uint64_t at;                  /**< WS_PIECE_BASE: first byte there; WS_PIECE_UNPACKED: first of what is unpacked */
    uint64_t number;              /**< WS_PIECE_UNPACKED: of what, by the base's own count: one file's inode, say */
};

static inline struct ws_piece ws_piece_base(const struct ws_source *base, uint64_t at, uint64_t length) {
    return (struct ws_piece){WS_PIECE_BASE, length, base, at, 0};
}

struct ws_source_ops {
    /** Read exactly `length` bytes; the caller has checked that they lie inside `size`. */
    enum ws_status (*read)(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                           struct ws_error *error);
    /** Release `state`; may be NULL. */
    void (*close)(struct ws_source *source);
    /** Tell about the bytes from `at` on, `piece` being set to WS_PIECE_OWN for all `piece->length` asked about: make
     *  it shorter, or another kind. May be NULL: all are the source's own. */
    void (*piece)(const struct ws_source *source, uint64_t at, struct ws_piece *piece);
};

/** Make a source out of your own functions. @return WS_OK or WS_E_NOMEM (then `state` is still yours) */
WS_CHECKED enum ws_status ws_source_make(const struct ws_source_ops *ops, uint64_t size, void *state,
                                         struct ws_source **source, struct ws_error *error);

/** Read exactly `length` bytes at `at`. @return WS_E_RANGE past the end (nothing is read), WS_E_READ */
WS_CHECKED enum ws_status ws_source_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                         struct ws_error *error);

/** Where the bytes from `at` on come from, for at most `length` of them; both lie inside the source and `length` > 0.
 *  Walking from piece to piece tells a sparse file's holes, and what a composed volume takes from which input. */
struct ws_piece ws_source_piece(const struct ws_source *source, uint64_t at, uint64_t length);
/** Is nothing stored at this byte? Slices and put-together sources are looked through.
 *  @param length  in: at most as far as this; out: how far that goes, which may be told in pieces */
bool ws_source_is_hole(const struct ws_source *source, uint64_t at, uint64_t *length);

/** Close and free; NULL is accepted. */
void ws_source_close(struct ws_source *source);

/** Bytes copied into memory that the source owns. */
WS_CHECKED enum ws_status ws_source_memory(const void *bytes, size_t length, struct ws_source **source,
                                           struct ws_error *error);
/** `size` zero bytes. */
WS_CHECKED enum ws_status ws_source_zeros(uint64_t size, struct ws_source **source, struct ws_error *error);
/** A part of `base`. @return WS_E_RANGE if it does not lie inside */
WS_CHECKED enum ws_status ws_source_slice(const struct ws_source *base, uint64_t at, uint64_t length,
                                          struct ws_source **source, struct ws_error *error);

/** One piece of a source put together from runs. */
struct ws_run {
    uint64_t length; /**< bytes, > 0 */
    uint64_t at;     /**< first byte in the base; WS_RUN_HOLE reads as zeros */
};
#define WS_RUN_HOLE UINT64_MAX
/** `count` runs of `base` one after the other, cut or zero-filled to `size`; the runs are copied. */
WS_CHECKED enum ws_status ws_source_runs(const struct ws_source *base, const struct ws_run *runs, size_t count,
                                         uint64_t size, struct ws_source **source, struct ws_error *error);

/** A base with small changes laid over it; its size may be larger than the base's (the rest reads as zeros). */
WS_CHECKED enum ws_status ws_source_patched(const struct ws_source *base, uint64_t size, struct ws_source **source,
                                            struct ws_error *error);
/** Lay `length` bytes over a patched source at `at`; later changes win. @return WS_E_RANGE, WS_E_NOMEM */
WS_CHECKED enum ws_status ws_source_patch(struct ws_source *patched, uint64_t at, const void *bytes, size_t length,
                                          struct ws_error *error);
/** Number of changes and bytes laid over so far; either pointer may be NULL. */
void ws_source_patch_count(const struct ws_source *patched, size_t *count, uint64_t *bytes);

/** A base whose unreadable places read as zeros, each tried sector by sector and noted. It borrows the base, and is for
 *  one task at a time. @param sector  bytes */
WS_CHECKED enum ws_status ws_source_forgiving(const struct ws_source *base, unsigned sector, struct ws_source **source,
                                              struct ws_error *error);
/** A stretch that could not be read so far. */
struct ws_unread {
    uint64_t at, length;
};
/** Those of a forgiving source, in ascending order; belongs to it. @param bytes  out: in all, also of what the list has
 *  no room for */
const struct ws_unread *ws_source_unread(const struct ws_source *source, size_t *count, uint64_t *bytes);

/** Read a whole source into memory the caller frees, NUL-terminated. @return WS_E_RANGE above `most` bytes */
WS_CHECKED enum ws_status ws_source_load(const struct ws_source *source, size_t most, char **bytes, size_t *length,
                                         struct ws_error *error);
/** What tells a large source from others, and from itself as it was, without reading it: SHA-256 over its size, both
 * its ends and 256 places between them. A change elsewhere is not seen. `hex` holds WS_HASH_HEX bytes. */
WS_CHECKED enum ws_status ws_source_state(const struct ws_source *source, char *hex, struct ws_error *error);
/** Hash a whole source in one pass. `hex` holds WS_HASH_HEX bytes. */
WS_CHECKED enum ws_status ws_source_hash(const struct ws_source *source, enum ws_hash_kind kind, char *hex,
                                         struct ws_error *error);

WS_END

#endif
