/* internal.h — shared inside the simulated bench. */
#ifndef WS_PORT_SIM_INTERNAL_H
#define WS_PORT_SIM_INTERNAL_H

#include "wild_satchel/port/sim.h"
#include "wild_satchel/image.h"
#include "wild_satchel/system.h"

/* tasks.c */
struct sim_tasks;
struct sim_tasks *sim_tasks_open(double *clock); /* NULL: out of memory */
void sim_tasks_close(struct sim_tasks *all);
/* Let time go by for the task that runs, and others catch up. */
void sim_tasks_spend(struct sim_tasks *all, double seconds);
enum ws_status sim_tasks_start(struct sim_tasks *all, void (*work)(void *context), void *context, struct ws_task **task,
                               struct ws_error *error);
void sim_tasks_join(struct sim_tasks *all, struct ws_task *task);

/* Is it plugged in by now? */
bool sim_drive_is_here(struct ws_bench *bench, struct ws_sim_drive *drive);
/* Plugged and pulled by other commands meanwhile. */
void sim_bench_look_again(struct ws_bench *bench);
void sim_drive_path(const struct ws_bench *bench, const struct ws_sim_drive *drive, char *out, size_t room);
enum ws_status sim_drive_open(struct ws_bench *bench, const char *name, enum ws_open_mode mode, struct ws_drive **drive,
                              struct ws_error *error);
/** The power fails now: what stands only in the drive's cache is lost or torn. The handle only answers close(). */
void sim_drive_cut(struct ws_drive *drive);

/** How far a PC got in starting, and what it found. */
struct sim_start {
    struct ws_text console;              /* what stands on the screen */
    bool running;                        /* a system is up */
    const struct ws_live_family *family; /* NULL: a full system */
    struct ws_own_family own_family;     /* as the drive describes it */
    char parameters[4096];
    uint64_t medium_at; /* the medium's root image on the drive, if it can be read here */
    char root_path[128];
    uint64_t volume_at, volume_size; /* the persistence volume in use; size 0: none, changes go to memory */
};
/** Walk the start-up chain over the bytes of a drive; what start-up code writes goes to `written`.
 *  @return WS_OK also if it does not start: see `running` */
enum ws_status sim_walk(const struct ws_source *drive, struct ws_drive *written, uint32_t sector,
                        const struct ws_sim_pc *pc, struct sim_start *start, struct ws_error *error);

/** A running live system: its merged folders, a small shell, its persistence volume. */
struct sim_session;
/** @param now  by the PC's clock: seconds since 1970-01-01 UTC */
enum ws_status sim_session_open(struct ws_drive *drive, const struct ws_source *source, const struct sim_start *start,
                                int64_t now, struct sim_session **session, struct ws_error *error);
/** Run one line and add what it prints to `out`. `ended` is set once the system has shut itself down. */
enum ws_status sim_session_line(struct sim_session *session, const char *line, struct ws_text *out, bool *ended,
                                struct ws_error *error);
void sim_session_close(struct sim_session *session);

#endif
