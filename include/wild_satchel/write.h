/* write.h — a layout streamed to a drive, and the drive checked against the layout. */
#ifndef WILD_SATCHEL_WRITE_H
#define WILD_SATCHEL_WRITE_H

#include "wild_satchel/layout.h"
#include "wild_satchel/port.h"

/** The step that is really under way. */
enum ws_step {
    WS_STEP_OPENING,  /**< marking the drive as unfinished */
    WS_STEP_WRITING,  /**< the body, in ascending order */
    WS_STEP_FLUSHING, /**< waiting until the drive has put its cache on the medium */
    WS_STEP_SEALING,  /**< table and boot record */
    WS_STEP_CHECKING  /**< reading back */
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

/** How far a write got, for continuing it. Kept by the caller, saved whenever on_record is called. */
struct ws_write_record {
    char fingerprint[WS_HASH_HEX]; /**< of the layout */
    uint64_t flushed;              /**< every extent byte below this place on the drive is on the medium */
};

struct ws_write_options {
    ws_progress_call on_progress; /**< may be NULL */
    void *context;
    struct ws_write_record *record; /**< may be NULL; if its fingerprint is the layout's, writing continues there */
    /** Called when `record` has advanced; may be NULL. Failing to save is the caller's to report, not an error here. */
    void (*on_record)(void *context, const struct ws_write_record *record);
    const char *identity; /**< the caller's name for what the sources hold, see ws_layout_fingerprint() */
    /** Called when the body is on the medium, before the seal; may be NULL. A failure leaves the drive unsealed. */
    enum ws_status (*before_seal)(void *before_seal_context, struct ws_error *error);
    void *before_seal_context;
};

struct ws_write_result {
    uint64_t written;      /**< bytes sent to the drive, the opening mark not among them */
    uint64_t continued_at; /**< where an earlier write was taken up; 0 for a fresh one */
    double seconds;        /**< by the port's steady clock */
    double flush_seconds;  /**< of these, spent waiting for the drive's cache */
};

/**
 * Write a frozen layout: mark the drive unfinished, stream the body in ascending order in large aligned writes with
 * the next chunk being read meanwhile, flush, write the seal, flush, make the machine forget the old contents.
 * A layout without a seal is streamed and flushed, nothing else (an edit).
 *
 * @return WS_E_SPACE if the drive is smaller than the layout's last extent (nothing written); WS_E_WRITE, WS_E_GONE,
 *         WS_E_READ, WS_E_CANCELLED: the drive is unfinished and says so, and `record` tells where to continue.
 */
enum ws_status ws_write(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_write_options *options, struct ws_write_result *result, struct ws_error *error);

struct ws_check_result {
    uint64_t checked; /**< bytes compared */
    bool equal;
    uint64_t different_at;     /**< first differing byte on the drive, if not equal */
    uint64_t different_chunks; /**< how many chunks of at most 4 MiB differ */
    char sha256[WS_HASH_HEX];  /**< of the checked bytes in ascending order; empty if not asked for */
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
    ws_progress_call on_progress; /**< may be NULL */
    void *context;
};

/** Compare what reads back, past all caches, with what was meant. The drive is open for reading.
 *  @return WS_OK also when they differ: see `result->equal` */
enum ws_status ws_check(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_check_options *options, struct ws_check_result *result, struct ws_error *error);

/** First bytes of a drive whose build has begun and not ended. */
#define WS_UNFINISHED_MARK "WILD SATCHEL: this build is not finished."
/** @return true if `sector` (512 bytes) carries the mark */
bool ws_is_unfinished(const void *sector);

#endif
