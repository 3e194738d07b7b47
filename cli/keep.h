/* keep.h — care of what a drive remembers: one command's work, and how it is shown. */
#ifndef CLI_KEEP_H
#define CLI_KEEP_H

#include "cli/cli.h"

struct keeping {
    struct cli *cli;
    struct ws_drive_facts facts;
    struct ws_drive *drive;
    struct ws_source *source;
    struct ws_kept *kept;
    const char *passphrase;
    struct meter meter;
    bool to_prove; /* what was done changes how it starts */
};

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
