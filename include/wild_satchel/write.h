/* write.h — a layout streamed to a drive, and the drive checked against the layout. */
#ifndef WILD_SATCHEL_WRITE_H
#define WILD_SATCHEL_WRITE_H

#include "wild_satchel/layout.h"
#include "wild_satchel/port.h"

WS_BEGIN

/** The step that is really under way. */
enum ws_step {
    WS_STEP_COMPARING, /**< what an earlier run wrote, before it is continued */
    WS_STEP_OPENING,   /**< marking the drive as unfinished */
    WS_STEP_WRITING,   /**< the body, in ascending order */
    WS_STEP_FLUSHING,  /**< waiting until the drive has put its cache on the medium */
    WS_STEP_SEALING,   /**< table and boot record */
    WS_STEP_CHECKING   /**< reading back */
};
const char *ws_step_name(enum ws_step step); /**< "opening", "writing", ... */

struct ws_progress {
    enum ws_step step;
    uint64_t done, total; /**< bytes, of this step's kind: written or checked */
    double elapsed_s;     /**< by the port's steady clock */
    double rate;          /**< bytes a second over the last seconds; 0 until known */
    double left_s;        /**< negative until known */
};
/** Called after every chunk and around every flush. @return false to stop: WS_E_CANCELLED */
typedef bool (*ws_progress_call)(void *context, const struct ws_progress *progress);

/** What stands in a drive's first sector while its build is not finished (docs/unfinished-drives.md). */
struct ws_unfinished {
    char build[WS_HASH_HEX]; /**< the layout's fingerprint; empty: one that cannot be continued */
    uint64_t flushed;        /**< every byte of the layout below this place on the drive is on the medium */
    uint64_t end;            /**< where the layout's last byte lies */
};
/** First bytes of such a sector. */
#define WS_UNFINISHED_MARK "WILD SATCHEL: this build is not finished."
/** @return true if `sector` (512 bytes) carries the mark, whatever is left of what stands behind it */
bool ws_is_unfinished(const void *sector);
/** Read what stands behind the mark; `unfinished` may be NULL.
 *  @return false if there is no mark, or one whose check digits do not go with it: `build` is empty then */
bool ws_unfinished_read(const void *sector, struct ws_unfinished *unfinished);

struct ws_pieces;

/** Why a write began where it did. */
enum ws_begun {
    WS_BEGUN_FRESH,     /**< at the beginning: no unfinished build was on the drive */
    WS_BEGUN_AFRESH,    /**< at the beginning, as asked */
    WS_BEGUN_OTHER,     /**< at the beginning: the unfinished build on the drive was another one */
    WS_BEGUN_DAMAGED,   /**< at the beginning: what the drive said of this build was impossible */
    WS_BEGUN_CHANGED,   /**< at the beginning: the drive no longer held what this build had written there */
    WS_BEGUN_CONTINUED, /**< where an earlier run of this very build had got to */
};
const char *ws_begun_name(enum ws_begun begun); /**< "fresh", "afresh", "other", "damaged", "changed", "continued" */

struct ws_write_options {
    ws_progress_call on_progress; /**< may be NULL */
    void *context;
    /** The layout's fingerprint, see ws_layout_fingerprint(): the drive is marked with it until it is sealed, and an
     *  unfinished one that carries it is continued. NULL: neither. */
    const char *build;
    bool afresh; /**< begin at the beginning whatever the drive says */
    /** Compare all that an earlier run has written before going on, not samples of it: for a write that no check
     *  follows. */
    bool compare_all;
    /** Called before the first write; may be NULL. A failure leaves the drive as it was. */
    enum ws_status (*before_write)(void *hook_context, struct ws_error *error);
    /** Called when the body is on the medium, before the seal; may be NULL. A failure leaves the drive unsealed; after
     *  WS_E_DIFFERENT nothing on it is continued. */
    enum ws_status (*before_seal)(void *hook_context, struct ws_error *error);
    void *hook_context;
    /** The body's inputs may change under the reader: of a change only its log is read back, not the body, which nobody
     *  could compare with anything. */
    bool body_moves;
    /** out, to be freed by the caller: sums of the body's stretches that were written, as they were meant; may be NULL.
     *  What an earlier run wrote is not among them. See struct ws_check_options. */
    struct ws_sums *sums;
};

struct ws_write_result {
    uint64_t written; /**< bytes sent to the drive, the marks in its first sector not among them */
    enum ws_begun begun;
    uint64_t continued_at; /**< where an earlier write was taken up; 0 for a fresh one */
    uint64_t compared;     /**< bytes of the earlier write that were compared before it was */
    double seconds;        /**< by the port's steady clock */
    double flush_seconds;  /**< of these, spent waiting for the drive's cache */
};

/**
 * Write a frozen layout: mark the drive unfinished, stream the body in ascending order in large aligned writes with
 * the next chunks being read meanwhile, a task each, flush, write the seal, flush, make the machine forget the old
 * contents.
 * A layout without a seal is streamed and flushed, nothing else (an edit).
 *
 * The drive itself keeps how far it got: after each flush the mark in its first sector is renewed. What a mark says is
 * believed only of this very build, within the layout's bounds, and only where the bytes are there: of each stretch of
 * 256 MiB the first and last chunk and some between are compared first, or all. A drive that was changed in between, or
 * another one, is written from the beginning.
 *
 * @return WS_E_SPACE if the drive is smaller than the layout's last extent (nothing written); WS_E_WRITE, WS_E_GONE,
 *         WS_E_READ, WS_E_CANCELLED: the drive is unfinished and says so, and how far it got.
 */
WS_CHECKED enum ws_status ws_write(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                                   const struct ws_write_options *options, struct ws_write_result *result,
                                   struct ws_error *error);

struct ws_check_result {
    uint64_t checked; /**< bytes compared */
    bool equal;
    uint64_t different_at;                  /**< first differing byte on the drive, if not equal */
    uint64_t different_chunks;              /**< how many chunks of at most 4 MiB differ */
    uint32_t different_parts;               /**< bit N: something in part N differs */
    uint64_t different_in[WS_LAYOUT_PARTS]; /**< in part N first this byte */
    char sha256[WS_HASH_HEX]; /**< one digest of all that was checked, see ws_pieces_root(); empty if not asked for */
    double seconds;
};

/** What of a layout is compared. */
enum ws_check_scope {
    WS_CHECK_ALL,
    WS_CHECK_BEFORE_SEAL, /**< the body; the seal is not on the drive yet and is hashed as it is meant */
    WS_CHECK_SEAL         /**< the seal alone */
};

struct ws_check_options {
    enum ws_check_scope scope;
    bool with_hash;
    struct ws_pieces *pieces; /**< with_hash: out, the digests in pieces, to be freed; may be NULL */
    /** with_hash: sums of what was meant, as ws_write() gives them: what they cover is not read from the layout's
     * sources once more, but where it differs. May be NULL. */
    const struct ws_sums *written;
    struct ws_digests *digests;          /**< with written: where they are known already, or put; may be NULL */
    uint32_t leave_out;                  /**< bit N: part N of the layout is neither compared nor hashed */
    uint64_t unknown_at, unknown_length; /**< of the layout: bytes whose value is not known here, and not compared */
    ws_progress_call on_progress;        /**< may be NULL */
    void *context;
};

/** Compare what reads back, past all caches, with what was meant. The drive is open for reading.
 *  @return WS_OK also when they differ: see `result->equal` */
WS_CHECKED enum ws_status ws_check(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                                   const struct ws_check_options *options, struct ws_check_result *result,
                                   struct ws_error *error);

/** Compare what reads back with digests that an earlier check gave: without layout and image. `options->scope` has no
 *  meaning here; different_at is the beginning of a piece.
 *  @return WS_E_RANGE if the pieces reach past the drive's end */
WS_CHECKED enum ws_status ws_check_pieces(struct ws_port *port, const struct ws_pieces *wanted, struct ws_drive *drive,
                                          const struct ws_check_options *options, struct ws_check_result *result,
                                          struct ws_error *error);

WS_END

#endif
