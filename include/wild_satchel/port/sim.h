/* sim.h — the simulated bench: drives with habits and faults, PCs that start from them, a clock of its own.
 *
 * A bench file (docs/bench-format.md) describes it; its state lives in a folder and survives between commands.
 */
#ifndef WS_PORT_SIM_H
#define WS_PORT_SIM_H

#include "wild_satchel/port.h"

WS_BEGIN

/** What a simulated drive is and does. */
struct ws_sim_drive {
    char name[64];
    char like[64]; /**< described like that other drive, but for what is said here */
    struct ws_drive_facts facts;
    uint64_t holds;                      /**< bytes there really are; less than facts.size for a forged drive */
    char beyond[16];                     /**< what lies past that: "wraps" (the default), "drops" or "repeats" */
    uint64_t repeats;                    /**< bytes of the front that repeat, for "repeats" */
    double write_rate, read_rate;        /**< bytes a second, in one stream */
    double small_write_s;                /**< what a write out of order costs on top */
    uint64_t cache;                      /**< bytes of volatile cache */
    uint64_t bad_at, bad_length;         /**< a stretch that cannot be read */
    uint64_t garbles_at, garbles_length; /**< a stretch that reads back other than it was written */
    uint64_t pull_after;                 /**< bytes written until somebody pulls it out; 0 never */
    uint64_t cut_at_write;               /**< the power fails at this write, counted from 1; 0 never */
    bool pulled;                         /**< is not plugged in */
    double plugged_at; /**< seconds of the bench's clock: somebody plugs it in then, if it is pulled; 0 never */
    double free_at;    /**< the bench's own: until then it is busy */
};

struct ws_sim_pc {
    char name[64];
    enum ws_firmware firmware;
    bool secure_boot;
};

enum { WS_SIM_MOST = 64 };

struct ws_bench {
    char folder[512];
    struct ws_sim_drive drive[WS_SIM_MOST];
    size_t drives;
    struct ws_sim_pc pc[WS_SIM_MOST];
    size_t pcs;
    double clock_s;          /**< simulated seconds since the bench was set up */
    uint64_t seed;           /**< for what is torn at a power cut */
    int64_t began;           /**< wall clock of its first moment */
    struct sim_tasks *tasks; /**< the bench's own, while it is a port */
};

/** Read a bench file's text. Unknown keys, wrong types, impossible values, names used twice and descriptions that go
 *  round in a circle are errors that name the place. */
WS_CHECKED enum ws_status ws_bench_parse(const char *text, size_t length, struct ws_bench *bench,
                                         struct ws_error *error);
/** Set a bench up in a folder that is empty or does not exist: makes its drives, all blank. */
WS_CHECKED enum ws_status ws_bench_create(struct ws_bench *bench, const char *folder, struct ws_error *error);
/** Open a bench that was set up. */
WS_CHECKED enum ws_status ws_bench_open(const char *folder, struct ws_bench **bench, struct ws_error *error);
/** Keep what has changed (clock, plugs, faults). */
WS_CHECKED enum ws_status ws_bench_save(const struct ws_bench *bench, struct ws_error *error);
void ws_bench_close(struct ws_bench *bench);
/** By the bench's name, short name or id; NULL if there is none. */
struct ws_sim_drive *ws_bench_drive(struct ws_bench *bench, const char *name);
struct ws_sim_pc *ws_bench_pc(struct ws_bench *bench, const char *name);

/** The bench as a port: its drives, its clock. Borrows the bench and saves it when closed. */
WS_CHECKED enum ws_status ws_sim_port(struct ws_bench *bench, struct ws_port **port, struct ws_error *error);
/** One of the bench's PCs. Borrows the bench. */
WS_CHECKED enum ws_status ws_sim_pc(struct ws_bench *bench, const char *name, struct ws_pc **pc,
                                    struct ws_error *error);

WS_END

#endif
