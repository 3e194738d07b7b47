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

/** What a caller can change or do so that a refused call goes through. The library knows no options and no commands: a
 *  program words these in its own terms. The first ones change a request (request.h), with the value to take. */
enum ws_hint {
    WS_HINT_NONE = 0,
    WS_HINT_KIND,           /**< another kind of drive; value: its name, as ws_kind_name() */
    WS_HINT_GROWTH,         /**< whether the system takes the room of a larger drive; value: empty, leave it unsaid */
    WS_HINT_PLACE,          /**< where persistence lies; value: empty, leave it unsaid */
    WS_HINT_SYSTEM_FORMAT,  /**< the format of the system's volume of files; value: "fat32" or "exfat" */
    WS_HINT_TABLE,          /**< the partition table; value: empty, leave it unsaid */
    WS_HINT_UEFI_CODE,      /**< whose code UEFI firmware starts; value: empty, leave it unsaid */
    WS_HINT_PERSISTENCE,    /**< the size of persistence; value: a size, or "none" */
    WS_HINT_DATA,           /**< the size of the data volume; value: a size, or "rest" */
    WS_HINT_DATA_FORMAT,    /**< the format of the data volume; value: "fat32" or "exfat" */
    WS_HINT_DATA_LABEL,     /**< another label of the data volume; no value */
    WS_HINT_FAMILY,         /**< describe the live family in a document (docs/family-format.md); no value */
    WS_HINT_EXTERNAL_DISK,  /**< allow external hard drives and SSDs as targets; no value */
    WS_HINT_EVEN_SO,        /**< build a plan in spite of its faults; no value */
    WS_HINT_DRIVES,         /**< list the drives; no value */
    WS_HINT_IMAGE,          /**< look at what the image is; no value */
    WS_HINT_SIZES,          /**< see what sizes serve; no value */
    WS_HINT_PLAN_AGAIN,     /**< make the plan again; no value */
    WS_HINT_TRIAL_AGAIN,    /**< try the drive again, and keep the result; no value */
    WS_HINT_ACCOUNT,        /**< ask for an account; no value */
    WS_HINT_INTERNAL_DISKS, /**< what becomes of the PC's own disks; value: its name, as ws_internal_disks_name() */
    WS_HINT_EDITION,        /**< which of an image's editions; no value */
    WS_HINT_PASSWORDS,      /**< give the accounts' passwords when it is built; no value */
    WS_HINT_LEAVE_OUT,      /**< what a twin does without; value: words of ws_leave_name(), with commas */
    WS_HINT_EXACT,          /**< take the original byte for byte instead of making a twin; no value */
    WS_HINT_FINISH          /**< finish a change of a drive that was cut; value: empty */
};

/** One way out of a refusal. */
struct ws_way {
    enum ws_hint hint;
    char value[24];
};

enum { WS_WAYS = 3 };

/** What went wrong. Zero-initialise it; it holds no allocation. */
struct ws_error {
    enum ws_status status;
    char what[512];             /**< what happened and why, one sentence */
    char where[256];            /**< drive, file, path or byte position; may be empty */
    char next[256];             /**< what to do next, in words that hold for every program; may be empty */
    struct ws_way way[WS_WAYS]; /**< the same as codes, for what can be done about it through this library */
    size_t ways;
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

/** Say what to do next, as ws_fail_next() does, with a way out as a code; further ones follow by ws_fail_way(). If
 *  somebody has said so already, nothing is added. @param value see enum ws_hint; cut at 23 bytes */
enum ws_status ws_fail_hint(struct ws_error *error, enum ws_hint hint, const char *value, const char *format, ...)
    WS_PRINTF(4, 5);

/** One way more; kept if there are fewer than WS_WAYS. @return as ws_fail_where() */
enum ws_status ws_fail_way(struct ws_error *error, enum ws_hint hint, const char *value);

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
