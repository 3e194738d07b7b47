/* trial.h — does a drive hold what it says, is it sound, how fast is it, and what is it good for?
 *
 * A forged drive shows more bytes than it has: what is written past its real end comes round to the front again, or is
 * dropped, or lands in a small stretch over and over. The probe finds this with few writes. It writes a stretch at the
 * front (the ruler) without gaps, and one block in every stretch of that length up to the drive's last byte, the
 * highest first; each block says where it belongs. Whatever the real size H is, the first block at or past H lands
 * inside the ruler or is lost, and either shows when all is read back. Two times the square root of the drive's size
 * in blocks is all that is written.
 */
#ifndef WILD_SATCHEL_TRIAL_H
#define WILD_SATCHEL_TRIAL_H

#include "wild_satchel/write.h"

WS_BEGIN

enum ws_trial_depth {
    WS_TRIAL_READ,   /**< reads only: unreadable places, reading speed, and copies that hint at a forged size */
    WS_TRIAL_SAMPLE, /**< the probe described above; what is on the drive is lost */
    WS_TRIAL_FULL    /**< the probe, then every byte written and read back; what is on the drive is lost */
};
const char *ws_trial_depth_name(enum ws_trial_depth depth); /**< "read", "sample", "full" */

/** What the drive does with bytes past its real end. */
enum ws_forgery {
    WS_FORGERY_NONE,     /**< it holds what it says, as far as this trial can tell */
    WS_FORGERY_ALIAS,    /**< places past the end show places before it */
    WS_FORGERY_DROP,     /**< what is written past the end is not kept */
    WS_FORGERY_SUSPECTED /**< read only: the front appears again further on */
};
const char *ws_forgery_name(enum ws_forgery forgery); /**< "none", "alias", "drop", "suspected" */

enum { WS_TRIAL_AREAS_MOST = 64, WS_TRIAL_USES = 4 };

/** A stretch that cannot be read, or reads back other than it was written. */
struct ws_bad_area {
    uint64_t at, length; /**< bytes */
    bool unreadable;     /**< else: altered */
};

enum ws_fit { WS_FIT_GOOD, WS_FIT_POOR, WS_FIT_NO };
/** How well the drive suits one kind of use. */
struct ws_trial_use {
    const char *use; /**< "replica", "live with persistence", "full system", "data" */
    enum ws_fit fit;
    char why[160]; /**< empty when it fits well */
};

struct ws_trial {
    enum ws_trial_depth depth;
    char drive_name[64]; /**< the drive's short name */
    char drive_serial[64];
    uint64_t drive_size; /**< bytes, as the drive says */
    int64_t made_at;     /**< seconds since 1970-01-01 UTC */
    enum ws_forgery forgery;
    uint64_t holds; /**< bytes it really keeps; the drive's size when no forgery was found */
    struct ws_bad_area bad[WS_TRIAL_AREAS_MOST];
    size_t bads;                        /**< areas listed */
    uint64_t bad_more;                  /**< further ones that found no place in the list */
    double read_bytes_s, write_bytes_s; /**< in one stream; 0 if not measured */
    double small_writes_s;              /**< single blocks of 4 KiB, scattered, flushed at the end; 0 if not measured */
    uint64_t written, read;             /**< bytes */
    double seconds;
    struct ws_trial_use use[WS_TRIAL_USES];
    bool sound; /**< no forgery and no bad area */
};

struct ws_trial_options {
    enum ws_trial_depth depth;
    bool allow_external_disk;
    const char *confirm; /**< the drive's short name; not needed for WS_TRIAL_READ */
    ws_progress_call on_progress;
    void *context;
};

/**
 * Try a drive.
 * @param drive  open for writing, or for reading with WS_TRIAL_READ
 * @return WS_OK also when it is found bad: see `sound`; WS_E_REFUSED if it may not be written or was not confirmed
 *         (nothing was written); WS_E_GONE, WS_E_CANCELLED
 */
WS_CHECKED enum ws_status ws_trial_run(struct ws_port *port, struct ws_drive *drive,
                                       const struct ws_trial_options *options, struct ws_trial *trial,
                                       struct ws_error *error);

/** Judge what a drive of these figures is good for; fills `use`. Rates of 0 count as unknown and fit. */
void ws_trial_judge(struct ws_trial *trial);

/** The trial as a JSON document, for keeping; docs/json-output.md describes it. */
WS_CHECKED enum ws_status ws_trial_to_json(const struct ws_trial *trial, struct ws_text *out, struct ws_error *error);
/** Read one back: what estimates need (identity, size, rates). @return WS_E_FORMAT naming the key */
WS_CHECKED enum ws_status ws_trial_from_json(const char *text, size_t length, struct ws_trial *trial,
                                             struct ws_error *error);

WS_END

#endif
