/* build.h — a request made into a plan and a layout for one drive, and carried out. */
#ifndef WILD_SATCHEL_BUILD_H
#define WILD_SATCHEL_BUILD_H

#include "wild_satchel/lock.h"
#include "wild_satchel/pieces.h"
#include "wild_satchel/plan.h"
#include "wild_satchel/trial.h"
#include "wild_satchel/write.h"

WS_BEGIN

struct ws_build;
struct ws_batch;

/** What stays where a live drive that was laid down file by file is laid down anew in its place. */
struct ws_beside {
    /** Files that others put on the volume of this role; `work2` of one that gives way to another of its path is 1, and
     *  2 once it did. NULL: none. Borrowed until the build is closed. */
    struct ws_tree *others[WS_ROLES];
    uint64_t file_at; /**< the byte of the system's volume at which the file begins that holds what is remembered; 0: it
                         is elsewhere */
    const struct ws_request *request; /**< as the drive was asked for at first; NULL: it does not say */
};

/** On which drive, when, and from what a request is decided. */
struct ws_build_setting {
    struct ws_plan_drive drive;         /**< see ws_plan_drive_of() */
    const struct ws_drive_facts *facts; /**< of that drive, for what is to be warned of; may be NULL */
    const struct ws_trial *trial;       /**< of that drive; may be NULL */
    struct ws_guid id;                  /**< random: all identifiers derive from it */
    int64_t made_at;                    /**< seconds since 1970-01-01 UTC */
    /** The inputs of the request, opened, in the order of ws_request_input(); NULL where it has none. Borrowed until
     * the build is closed, and read by two tasks at once. */
    const struct ws_source *input[WS_INPUTS_MOST];
    /** The drive as it is, for a renewal; else NULL. Borrowed until the build is closed. */
    const struct ws_source *now;
    /** Opens the system on it, where that is locked; else NULL. Looked at while preparing only, the caller clears it.
     */
    const char *passphrase;
    /** The original of a twin that is read from where it is mounted, see ws_linux_running(); else NULL. The build takes
     * it over, whatever comes of it: close what is left. Such a build cannot be worked out again, nor continued; what
     * it writes is compared with what it read by a refresh afterwards. */
    struct ws_original *original;
    bool compare; /**< of a refresh: files that seem to be the same are compared byte for byte */
    bool measure; /**< only sizes are wanted: no digest is worked out, and nothing can be carried out */
    const struct ws_beside *beside; /**< set by ws_kept_renew() alone */
    struct ws_batch *batch;         /**< set by ws_batch_add() alone, as is the number */
    size_t number;
};

/** A setting for this drive: what it is, an identifier at random, the time as it is now; all else empty.
 *  @param facts  borrowed as long as the setting is used
 *  @return WS_E_READ where no random bytes are to be had */
WS_CHECKED enum ws_status ws_build_setting_begin(struct ws_build_setting *setting, struct ws_port *port,
                                                 const struct ws_drive_facts *facts, struct ws_error *error);

/**
 * Decide a request for one drive: fill everything that follows from it, and make the layout. Nothing is written.
 * Request and setting are copied. An input whose digest the request does not say is read once to know it.
 * @return WS_E_USAGE for wishes that do not go together, and for a setting without identifier or time; WS_E_SPACE if
 * they do not fit; WS_E_FORMAT if an input is not the one that was asked for; WS_E_UNSUPPORTED if the image knows no
 * way of remembering or its menu cannot be edited; each with what to do instead
 */
WS_CHECKED enum ws_status ws_build_prepare(const struct ws_request *request, const struct ws_build_setting *setting,
                                           struct ws_build **build, struct ws_error *error);
/** Work a saved plan out again. What it was told beside its inputs, a trial's findings for one, is taken over.
 *  @param now, passphrase  see struct ws_build_setting
 *  @return also WS_E_FORMAT naming the first result that does not follow */
WS_CHECKED enum ws_status ws_build_again(const struct ws_plan *read,
                                         const struct ws_source *const input[WS_INPUTS_MOST],
                                         const struct ws_source *now, const char *passphrase, struct ws_build **build,
                                         struct ws_error *error);
/** What was decided; belongs to the build. */
const struct ws_plan *ws_build_plan(const struct ws_build *build);
/** Its extents belong to the parts of enum ws_role. */
const struct ws_layout *ws_build_layout(const struct ws_build *build);
void ws_build_close(struct ws_build *build); /**< NULL is accepted */

/** Passwords that have to be given before the build is carried out: of the accounts of a full system, and behind them
 *  the passphrase of its locked volume. No plan, log or record holds one; the drive holds a hash of each, which the
 * same password gives again on the same plan. A locked volume's key is another one each time: such a build is not
 * continued, but begins afresh, and its volume is not compared by a later check. */
size_t ws_build_passwords(const struct ws_build *build);
/** Whose: an account's name, or "" for the passphrase of the locked volume; the first is number 0.
 *  @return NULL past the last */
const char *ws_build_password_of(const struct ws_build *build, size_t number);
/** Give one. It is hashed at once; the caller clears its own copy.
 *  @return WS_E_USAGE for one that no system takes, or a number past the last; WS_E_NOMEM also for what a passphrase
 *          costs (see ws_lock_cost()) */
WS_CHECKED enum ws_status ws_build_password(struct ws_build *build, size_t number, const char *password,
                                            struct ws_error *error);

/** A second secret that opens the locked volume, made at random: to be shown once and written down. It is kept nowhere;
 *  the caller clears its copy. After the passphrase, before the build is carried out.
 *  @return WS_E_USAGE without a locked volume, or before its passphrase; WS_E_RANGE for a second one */
WS_CHECKED enum ws_status ws_build_recovery(struct ws_build *build, char out[WS_RECOVERY_ROOM], struct ws_error *error);

struct ws_build_options {
    bool allow_external_disk;
    const char *confirm;          /**< must be the drive's short name */
    ws_progress_call on_progress; /**< for writing and checking */
    /** Called right before the first write, may be NULL: what was known of the drive is no longer true. A failure
     *  leaves the drive as it was. */
    enum ws_status (*before_write)(void *context, struct ws_error *error);
    void *context;
    bool skip_check;          /**< do not read back; what an earlier run wrote is compared all the same, whole */
    bool even_so;             /**< carry out a plan that has a fault among its findings */
    struct ws_pieces *pieces; /**< out, where the drive is checked: its digests, to be freed; may be NULL */
    bool afresh;              /**< begin at the beginning even where an earlier run of this build can be continued */
};

struct ws_build_result {
    struct ws_write_result write;
    struct ws_check_result check;   /**< check.sha256 is the drive's: of a replica the image's own */
    char image_sha256[WS_HASH_HEX]; /**< empty for a drive made from no image */
    bool checked;
};

/**
 * Write, read back and seal: a drive that does not read back right is never sealed. The image's hash is worked out
 * beside the writing. The drive's identity is read again from its open handle right before the first write. A drive
 * that carries the mark of this very build, and still holds what it wrote, is continued, see ws_write().
 * @return WS_E_REFUSED if it is not the planned drive, not confirmed, or may not be written, or if the plan has a fault
 *         (nothing was written);
 *         WS_E_FORMAT if an input is no longer the planned one (the drive is left unfinished, and says so);
 *         WS_E_DIFFERENT if the check finds a difference
 */
WS_CHECKED enum ws_status ws_build_carry_out(struct ws_build *build, struct ws_port *port, struct ws_drive *drive,
                                             const struct ws_build_options *options, struct ws_build_result *result,
                                             struct ws_error *error);

/** Are the inputs still those that were planned? They are read whole: before anything is written, where one of them was
 *  touched since; ws_build_carry_out() asks the same beside the writing.
 *  @return WS_E_FORMAT if not: the error tells which, and where it was changed */
WS_CHECKED enum ws_status ws_build_check_inputs(const struct ws_build *build, struct ws_port *port,
                                                struct ws_error *error);

/** What a refresh found. */
enum { WS_TWIN_PATHS = 8 };
struct ws_twin_state {
    uint64_t files, same, same_bytes; /**< with content; that are the original's already */
    uint64_t changed, changed_bytes;  /**< that are not, or not any more */
    uint64_t gone, newer;             /**< on the twin alone; on the twin newer than the original's */
    uint64_t compared;                /**< bytes that were compared */
    uint64_t databases;               /**< of the changed, files of databases: half-written they are of no use */
    char path[WS_TWIN_PATHS][256];    /**< the first of those that changed */
};
/** @return false for a build that is no refresh */
bool ws_build_twin_state(const struct ws_build *build, struct ws_twin_state *state);

/** Does the drive still hold what the build meant? Passwords' hashes are not compared. What a live system and people
 * have changed since on the volumes for that is left out of the comparison if `used` is true. */
WS_CHECKED enum ws_status ws_build_check(struct ws_build *build, struct ws_port *port, struct ws_drive *drive,
                                         bool used, ws_progress_call on_progress, void *context,
                                         struct ws_check_result *result, struct ws_error *error);

WS_END

#endif
