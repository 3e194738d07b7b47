/* internal.h — one trial under way. */
#ifndef WS_TRIAL_INTERNAL_H
#define WS_TRIAL_INTERNAL_H

#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/trial.h"

struct trying {
    struct ws_port *port;
    struct ws_drive *drive;
    const struct ws_trial_options *options;
    struct ws_trial *trial;
    struct ws_drive_facts facts;
    uint8_t id[16];      /* of this trial: an older trial's blocks are not taken for ours */
    uint64_t size;       /* bytes in whole blocks */
    size_t block;        /* bytes of one probe block */
    uint64_t ruler, gap; /* bytes written without gaps at the front; one block in every stretch of `gap` behind it */
    char *buffer;        /* WS_CHUNK bytes, aligned */
    void *memory;
    struct ws_pace pace;
};

/* pattern.c: a block that says where it belongs. */
void trial_fill(const struct trying *t, uint64_t at, char *block);
enum trial_seen { SEEN_OWN, SEEN_OTHER, SEEN_FOREIGN };
/** Is this the block of place `at`? If it is whole but another place's, `*place` is that place. */
enum trial_seen trial_look(const struct trying *t, uint64_t at, const char *block, uint64_t *place);

/** A power of two near the root of (size x block): a gap that keeps both ruler and probes short. */
uint64_t trial_gap(uint64_t size, size_t block);

/* Steps of a trial, in their own files. */
enum ws_status trial_sample(struct trying *t, struct ws_error *error);
enum ws_status trial_full(struct trying *t, struct ws_error *error);
enum ws_status trial_read(struct trying *t, struct ws_error *error);

/* trial.c */
void trial_bad(struct trying *t, uint64_t at, uint64_t length, bool unreadable);
bool trial_is_forged(const struct ws_trial *trial);
/** Read; a place that cannot be read is `*readable` false, not an error. */
enum ws_status trial_get(struct trying *t, uint64_t at, char *out, size_t length, bool *readable,
                         struct ws_error *error);
enum ws_status trial_put(struct trying *t, uint64_t at, const char *bytes, size_t length, struct ws_error *error);
enum ws_status trial_settle(struct trying *t, struct ws_error *error); /* flush, and forget what is cached */
enum ws_status trial_tell(struct trying *t, enum ws_step step, uint64_t done, struct ws_error *error);
/** One block that was read; NULL where it cannot be. */
typedef enum ws_status (*trial_visit)(void *context, uint64_t at, const char *block, struct ws_error *error);
/** Read from the front up to `end`, block by block where a larger piece cannot be read at once. `*rate`: bytes a
 * second. */
enum ws_status trial_each_block(struct trying *t, uint64_t end, trial_visit visit, void *context, double *rate,
                                struct ws_error *error);
double trial_now(const struct trying *t);

#endif
