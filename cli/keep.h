/* keep.h — care of what a drive remembers: one command's work, and how it is shown. */
#ifndef CLI_KEEP_H
#define CLI_KEEP_H

#include "cli/cli.h"

/* What was asked for beside the verb. */
extern struct keep_asked {
    char *what, *to, *from, *confirm, *password_fd, *size, *image, *stays, *picture, *in;
    const char **except;
    int over, external, off, rescue, take;
} keep_asked;

struct keeping {
    struct cli *cli;
    struct ws_drive_facts facts;
    struct ws_drive *drive;
    struct ws_source *source;
    struct ws_kept *kept;
    const char *passphrase;
    struct meter meter;
    bool to_prove;    /* what was done changes how it starts */
    char answer[128]; /* by which it was confirmed */
};

/* The verbs, as the table of commands has them: keep.c, keep_saved.c, keep_sized.c, keep_renewed.c. */
enum ws_status keep_save(struct keeping *keeping);
enum ws_status keep_restore(struct keeping *keeping);
enum ws_status keep_grow(struct keeping *keeping);
enum ws_status keep_shrink(struct keeping *keeping);
enum ws_status keep_move(struct keeping *keeping);
enum ws_status keep_renew(struct keeping *keeping);

/* Steps of theirs. */
enum ws_status keep_open(struct keeping *keeping, bool writes);
void keep_close(struct keeping *keeping);
/* For ws_progress_call: of a struct keeping. */
bool keep_tell(void *keeping, const struct ws_progress *progress);
enum ws_status keep_work_out(struct keeping *keeping, struct ws_kept_cost *cost);
/* Is it meant? On a terminal by the drive's name. @return WS_E_REFUSED where nobody could say so */
enum ws_status keep_ask(struct keeping *keeping, const char *loses);
/* What was worked out is written, and told as `done`. @param more  of the JSON document, taken over; may be NULL */
enum ws_status keep_finish(struct keeping *keeping, const char *done, const struct ws_kept_cost *cost, json_t *more);
/* It is told alone: nothing had to be written. */
void keep_conclude(struct keeping *keeping, const char *done, const struct ws_kept_cost *cost, json_t *more);
/* All of these. */
enum ws_status keep_do(struct keeping *keeping, const char *loses, const char *done, json_t *more);

/* passport.c: the page that lies on a drive. */
json_t *passport_copy_json(const struct ws_passport_place *copy);
/* keep_show.c */
void keep_show_report(const struct cli *cli, const struct keeping *keeping, const struct ws_kept_report *report);
json_t *keep_report_json(const struct keeping *keeping, const struct ws_kept_report *report);
void keep_show_cleanable(const struct cli *cli, const struct ws_left_out tally[WS_LEAVES]);
json_t *keep_tally_json(const struct ws_left_out tally[WS_LEAVES]);
void keep_show_renewal(const struct keeping *keeping, const struct ws_live_renewal *renewal, enum ws_stays stays);
/* null: none gives any room */
json_t *keep_neighbour_json(const struct ws_neighbour *neighbour);
json_t *keep_renewal_json(const struct ws_live_renewal *renewal, const char *stays);

#endif
