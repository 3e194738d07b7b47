/* change.h — a drive in use changed so that a cut at any moment loses nothing.
 *
 * A change is a layout over what the drive holds. Its body goes where the drive has nothing. What goes over something
 * (its seal) is written twice: first beside it, as a log, where there is nothing either. Until then the drive is as it
 * was. Then its first sector says that a change is under way, and where the log is: from there on no PC takes it for
 * anything else, and the log is carried out, as often as it takes. The first sector comes last. docs/changes.md has the
 * log's form.
 */
#ifndef WILD_SATCHEL_CHANGE_H
#define WILD_SATCHEL_CHANGE_H

#include "wild_satchel/write.h"

WS_BEGIN

/** A log may stand in several stretches, where the drive has nothing in so long a row. */
enum { WS_LOG_PIECES = 6 };

/** What stands in the first sector of a drive while a change of it is put in place. */
struct ws_changing {
    char change[WS_HASH_HEX];    /**< the layout's fingerprint; empty: not said */
    uint64_t log_at, log_length; /**< where it begins, and all of its bytes */
    struct ws_run
        piece[WS_LOG_PIECES]; /**< its stretches, in order, where there are several: the first begins at log_at */
    size_t pieces;            /**< 0: it is in one */
    char log_sha256[WS_HASH_HEX];
};
/** First bytes of such a sector. */
#define WS_CHANGING_MARK "WILD SATCHEL: this drive is being changed."
/** @param sector  512 bytes
 *  @return true if it carries the mark, and its check digits go with it; `changing` may be NULL */
bool ws_changing_read(const void *sector, struct ws_changing *changing);

/** Bytes of the log for a frozen layout. */
uint64_t ws_change_log_bytes(const struct ws_layout *layout);

/**
 * Change a drive. Of the options those of a fresh write count: progress, the layout's fingerprint, and the hooks, of
 * which before_seal() comes when body and log are on the medium: a failure there leaves the drive as it was.
 * @param layout  frozen; part of its seal covers the drive's first sector, whole, and begins there
 * @param log_at  where the log goes: ws_change_log_bytes() of the drive that hold nothing before and after, beginning
 *                at a multiple of 4096
 * @return WS_E_USAGE for a layout that is none of a change; WS_E_WRITE, WS_E_GONE, WS_E_READ: the drive is as it was,
 *         or says that it is being changed: then ws_change_finish() is for it. WS_E_CANCELLED: it is as it was
 */
WS_CHECKED enum ws_status ws_change(struct ws_port *port, const struct ws_layout *layout, uint64_t log_at,
                                    struct ws_drive *drive, const struct ws_write_options *options,
                                    struct ws_write_result *result, struct ws_error *error);

/** The same with its log in several stretches, in order: each begins at a multiple of 4096 and is one long, and
 * together they are at least as long as the log.
 *  @return WS_E_USAGE also for more than WS_LOG_PIECES */
WS_CHECKED enum ws_status ws_change_in(struct ws_port *port, const struct ws_layout *layout, const struct ws_run *place,
                                       size_t places, struct ws_drive *drive, const struct ws_write_options *options,
                                       struct ws_write_result *result, struct ws_error *error);

/**
 * Finish a change that was cut, from what the drive itself holds; nothing else is needed.
 * @param on_progress  may be NULL; that it wants to stop is not heeded
 * @return WS_E_NOTFOUND if none is under way; WS_E_FORMAT if its log cannot be the one that was meant (nothing was
 *         written); WS_E_WRITE, WS_E_GONE, WS_E_READ: it still says that it is being changed
 */
WS_CHECKED enum ws_status ws_change_finish(struct ws_port *port, struct ws_drive *drive, ws_progress_call on_progress,
                                           void *context, uint64_t *written, struct ws_error *error);

WS_END

#endif
