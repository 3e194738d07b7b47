/* jobs.h — planning and building as steps of a command: what `plan` and `build` do, and what does both in one go. */
#ifndef CLI_JOBS_H
#define CLI_JOBS_H

#include "cli/cli.h"

/* What a plan is made with besides wishes (wishes.h). */
struct plan_job {
    char *drive, *make, *pc, *trial, *password_fd;
    char *save, *picture, *save_request;
    int over;
    bool goes_on; /* it is built next, by the same command, which tells the rest */
    int (*then)(struct cli *cli, struct ws_build *build,
                const struct ws_drive_facts *facts); /* how; NULL: by its plan */
    bool even_so;                                    /* in spite of its faults, too */
};
/* A PC by its name on the bench, by its kind of firmware, or this one. */
enum ws_status plan_find_pc(struct cli *cli, const char *word, struct ws_pc_facts *pc);
/* What is decided for a drive, as `plan` shows it. */
void plan_show(struct cli *cli, struct ws_build *build, const struct ws_drive_facts *facts, uint64_t image_bytes);
/* @return an exit code */
int plan_run(struct cli *cli, const struct plan_job *job);

struct build_job {
    char *confirm, *password_fd, *recovery_fd, *image;
    int external, no_check, afresh, even_so;
};
extern struct build_job build_wished; /* what those options fill */
extern const struct poptOption build_options[];
int build_run(struct cli *cli, const char *plan, const struct build_job *job);
/* prove.c: started on PCs, with commas between them, which the bench has or which are emulated; the drive is confirmed
 * already.
 * @param log  a file for what the console says; may be NULL */
enum ws_status prove_drive(struct cli *cli, const struct ws_drive_facts *facts, const char *on, const char *log,
                           const struct ws_proof_options *options, struct ws_proof *proof);
bool prove_knows(struct cli *cli, const char *on);

/* running.c: a twin of the system that runs, prepared: written, and again what changed meanwhile. @return an exit code
 */
int running_carry_over(struct cli *cli, struct ws_build *build, const struct ws_drive_facts *facts);

#endif
