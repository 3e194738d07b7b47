/* trial.c — a trial from its beginning to its judgement. */
#include "trial/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { BLOCK = 4096, SPEED_BYTES = 64 << 20, SMALL_DRIVE = 128 << 20 };

const char *ws_trial_depth_name(enum ws_trial_depth depth) {
    static const char *const names[] = {"read", "sample", "full"};
    return names[depth];
}

const char *ws_forgery_name(enum ws_forgery forgery) {
    static const char *const names[] = {"none", "alias", "drop", "suspected"};
    return names[forgery];
}

/* The ruler may be longer than the gap, to measure a speed that is not the cache's, up to a hundredth of the drive. */
static void choose_shape(struct trying *t) {
    t->block = t->facts.logical_sector > 512 || t->facts.size >= SMALL_DRIVE ? BLOCK : 512;
    t->size = t->facts.size / t->block * t->block;
    t->gap = trial_gap(t->size, t->block);
    uint64_t speed = ws_min_u64(SPEED_BYTES, t->size / 100 / t->block * t->block);
    t->ruler = ws_min_u64(ws_max_u64(t->gap, speed), t->size);
}

static enum ws_status check_target(const struct trying *t, struct ws_error *error) {
    struct ws_target_rules rules = {t->options->allow_external_disk};
    if (t->options->depth == WS_TRIAL_READ) return WS_OK;
    WS_TRY(ws_drive_may_write(&t->facts, &rules, error));
    WS_TRY(ws_drive_is_alone(t->port, &t->facts, error));
    return ws_drive_confirmed(&t->facts, t->options->confirm, error);
}

enum ws_status ws_trial_run(struct ws_port *port, struct ws_drive *drive, const struct ws_trial_options *options,
                            struct ws_trial *trial, struct ws_error *error) {
    struct trying t = {.port = port, .drive = drive, .options = options, .trial = trial};
    struct ws_chunk chunk;
    enum ws_status status;
    memset(trial, 0, sizeof *trial);
    WS_TRY(drive->ops->describe(drive, &t.facts, error));
    ws_drive_call(&t.facts, options->confirm);
    WS_TRY(check_target(&t, error));
    trial->depth = options->depth;
    trial->drive_size = trial->holds = t.facts.size;
    trial->made_at = port->ops->wall_clock(port);
    (void)snprintf(trial->drive_name, sizeof trial->drive_name, "%s", t.facts.short_name);
    (void)snprintf(trial->drive_serial, sizeof trial->drive_serial, "%s", t.facts.serial);
    choose_shape(&t);
    if (t.size < 2 * t.block) return ws_fail(error, WS_E_RANGE, "the drive is too small for a trial");
    WS_TRY(port->ops->random(port, t.id, sizeof t.id, error));
    WS_TRY(ws_chunk_buffers(&chunk, 1, &t.memory, error));
    t.buffer = chunk.data;
    double began = trial_now(&t);
    WS_GO(drive->ops->reread(drive, error));
    if (options->depth == WS_TRIAL_READ) WS_GO(trial_read(&t, error));
    else WS_GO(trial_sample(&t, error));
    if (options->depth == WS_TRIAL_FULL && !trial_is_forged(trial)) WS_GO(trial_full(&t, error));
    trial->seconds = trial_now(&t) - began;
    trial->sound = !trial_is_forged(trial) && trial->bads == 0;
    ws_trial_judge(trial);
done:
    free(t.memory);
    return status;
}

/* What each use asks of a drive. Below "least" it will not do, below "good" or too small it does poorly. */
static const struct {
    const char *use;
    double least_write, good_write; /* bytes a second in one stream */
    double good_small;              /* scattered writes of 4 KiB a second */
    uint64_t least_size;            /* bytes */
} uses[WS_TRIAL_USES] = {
    {"replica", 0, 4e6, 0, 1000000000},
    {"live with persistence", 1e6, 8e6, 50, 3900000000},
    {"full system", 4e6, 20e6, 150, 15500000000},
    {"data", 0, 8e6, 0, 0},
};

void ws_trial_judge(struct ws_trial *trial) {
    for (size_t i = 0; i < WS_TRIAL_USES; i++) {
        struct ws_trial_use *u = &trial->use[i];
        char size[48];
        char rate[24];
        u->use = uses[i].use;
        u->fit = WS_FIT_NO;
        u->why[0] = '\0';
        if (trial_is_forged(trial))
            (void)snprintf(u->why, sizeof u->why, "what is written past %s is lost",
                           ws_size_both(trial->holds, size, sizeof size));
        else if (trial->bads) (void)snprintf(u->why, sizeof u->why, "it has bad areas");
        else if (trial->write_bytes_s > 0 && trial->write_bytes_s < uses[i].least_write)
            (void)snprintf(u->why, sizeof u->why, "it writes only %s/s",
                           ws_size_counted((uint64_t)trial->write_bytes_s, rate, sizeof rate));
        else u->fit = WS_FIT_POOR;
        if (u->fit == WS_FIT_NO) continue;
        if (trial->drive_size < uses[i].least_size)
            (void)snprintf(u->why, sizeof u->why, "it is smaller than the usual %s",
                           ws_size_both(uses[i].least_size, size, sizeof size));
        else if (trial->write_bytes_s > 0 && trial->write_bytes_s < uses[i].good_write)
            (void)snprintf(u->why, sizeof u->why, "it writes %s/s; %s/s are comfortable",
                           ws_size_counted((uint64_t)trial->write_bytes_s, rate, sizeof rate),
                           ws_size_counted((uint64_t)uses[i].good_write, size, sizeof size));
        else if (trial->small_writes_s > 0 && trial->small_writes_s < uses[i].good_small)
            (void)snprintf(u->why, sizeof u->why, "it takes %.0f small writes a second; %.0f are comfortable",
                           trial->small_writes_s, uses[i].good_small);
        else u->fit = WS_FIT_GOOD;
    }
}
