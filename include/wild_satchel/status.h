/* status.h — how every call in the library succeeds or fails.
 *
 * A call that can fail returns enum ws_status and fills a struct ws_error that the caller owns: what happened,
 * where (which drive, file or byte), and what to do next. The text is meant for a technician, in plain words.
 */
#ifndef WILD_SATCHEL_STATUS_H
#define WILD_SATCHEL_STATUS_H

#include "wild_satchel/api.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

WS_BEGIN

enum ws_status {
    WS_OK = 0,
    WS_E_USAGE,       /**< the request itself is wrong: an unknown word, a missing or contradicting value */
    WS_E_NOMEM,       /**< memory could not be had */
    WS_E_RANGE,       /**< a number lies outside what is possible here */
    WS_E_READ,        /**< the source or drive could not be read */
    WS_E_WRITE,       /**< the drive could not be written */
    WS_E_FORMAT,      /**< the input is damaged, truncated or not what it claims to be */
    WS_E_UNSUPPORTED, /**< sound input that this library does not handle */
    WS_E_NOTFOUND,    /**< the named thing is not there */
    WS_E_SPACE,       /**< it does not fit */
    WS_E_REFUSED,     /**< refused for safety: nothing was written */
    WS_E_DIFFERENT,   /**< a check or proof came to a negative result */
    WS_E_GONE,        /**< the drive went away in the middle of the work */
    WS_E_CANCELLED    /**< the caller asked to stop */
};

/** What went wrong. Zero-initialise it; it holds no allocation. */
struct ws_error {
    enum ws_status status;
    char what[512];  /**< what happened and why, one sentence */
    char where[256]; /**< drive, file, path or byte position; may be empty */
    char next[256];  /**< what to do next; may be empty */
};

#if defined(__GNUC__)
#define WS_PRINTF(f, a) __attribute__((format(printf, f, a)))
#else
#define WS_PRINTF(f, a)
#endif

/** Set status and text, clearing where and next; `error` may be NULL. @return `status`, to be returned at once. */
enum ws_status ws_fail(struct ws_error *error, enum ws_status status, const char *format, ...) WS_PRINTF(3, 4);

/** Say where it happened, if nobody closer to the cause has said so already.
 *  @return error->status; if `error` is NULL, the status of this thread's last failure: which is the same */
enum ws_status ws_fail_where(struct ws_error *error, const char *format, ...) WS_PRINTF(2, 3);

/** Say what to do next, if nobody closer to the cause has said so already. @return as ws_fail_where() */
enum ws_status ws_fail_next(struct ws_error *error, const char *format, ...) WS_PRINTF(2, 3);

/** The fixed name of a status, as it stands in JSON output: "ok", "refused", ... Never NULL. */
const char *ws_status_name(enum ws_status status);

/** Hand a failure up. */
#define WS_TRY(call)                                                                                                   \
    do {                                                                                                               \
        enum ws_status ws_try_status_ = (call);                                                                        \
        if (ws_try_status_ != WS_OK) return ws_try_status_;                                                            \
    } while (0)

/** Hand a failure to the function's `done:` label; needs a local `enum ws_status status`. */
#define WS_GO(call)                                                                                                    \
    do {                                                                                                               \
        status = (call);                                                                                               \
        if (status != WS_OK) goto done;                                                                                \
    } while (0)

WS_END

#endif
