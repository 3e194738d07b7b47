/* targets.h — the drives of one `satchel prepare`, each with what became of it. */
#ifndef CLI_TARGETS_H
#define CLI_TARGETS_H

#include "cli/cli.h"

/* What `prepare` is told about the work, besides wishes. */
struct prepare_job {
    const char **drives, **confirm, **like; /* end with NULL; NULL: none */
    char *pc, *prove, *then, *keep_in, *password_fd, *recovery_fd, *save_request;
    int external, no_check, afresh, even_so, release, bell, as_they_come, count;
};

enum target_state {
    TARGET_REFUSED, /* it cannot be done on this drive; nothing was written */
    TARGET_READY,   /* decided */
    TARGET_AT_WORK,
    TARGET_AWAY, /* pulled out in the middle of it */
    TARGET_FAILED,
    TARGET_DONE
};
struct target {
    enum target_state state;
    struct ws_drive_facts facts;
    size_t number; /* in the batch */
    char holds[200];
    char unfinished[WS_HASH_HEX]; /* which build the drive says was not finished; empty: none */
    struct ws_drive *drive;       /* open while it is at work */
    struct ws_progress progress;
    struct ws_pieces pieces;
    struct ws_build_result result;
    struct ws_error error; /* of TARGET_REFUSED and TARGET_FAILED */
    char plan[600], record[620];
    bool recorded, released, called_back;
    const struct target *instead; /* of one that failed: who took its place */
    const char *proved;           /* the verdict in words; NULL: not proved */
    bool forgets;                 /* it failed its proof */
    double began_s, took_s, away_s;
    struct cli *cli;
    int told; /* how far was said in plain lines: step and quarter */
};

enum { TARGETS_MOST = WS_BATCH_MOST };
struct targets {
    struct cli *cli;
    const struct prepare_job *job;
    struct ws_request *request;
    struct ws_source **input;
    struct ws_batch *batch;
    struct target *one[TARGETS_MOST];
    size_t count;
    double began_s;
    bool stopping;
    int lines;        /* of the board that is on the screen */
    bool drawn;       /* at all */
    size_t good, bad; /* that have left the list: see targets_end() */
    json_t *ended;    /* what became of those */
};

/* One more drive, decided: its plan is kept. What stands against it stands in the target. NULL: no room or memory. */
struct target *targets_add(struct targets *t, const struct ws_drive_facts *facts);
/* Is one of this name among them, and not refused? */
struct target *targets_find(const struct targets *t, const char *name);
size_t targets_in(const struct targets *t, enum target_state state);
struct ws_build *targets_build(const struct targets *t, const struct target *target);
/* All that are ready, at once. */
enum ws_status targets_begin(struct targets *t);
/* How they get on; what has ended is concluded. @return false once none is at work or may come back */
bool targets_look(struct targets *t);
/* Until none is. */
void targets_wait(struct targets *t);
/* Started on a PC, and released, as the job has it. */
void targets_prove(struct targets *t);
void targets_close(struct targets *t);

/* come.c: every drive that is plugged in and is like it was said. @return an exit code */
int targets_as_they_come(struct targets *t);
/* prepare.c: this one is done with, and makes room; what is done at its end is done. */
void targets_end(struct targets *t, size_t index);
/* What was made, told. @return the exit code */
int targets_conclude(struct targets *t, int code);

/* board.c: what they are doing, on a terminal as a table that is drawn again and again, elsewhere as lines. */
void board_show(struct targets *t, bool last);
/* Above the table, which is drawn anew below. */
void board_note(struct targets *t, const char *format, ...) WS_PRINTF(2, 3);
/* The time until all that is left of it is done, checking included; negative: not known yet. */
double board_left(const struct target *target, bool checks);

#endif
