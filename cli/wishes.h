/* wishes.h — what `satchel plan` is told, made into a request. */
#ifndef CLI_WISHES_H
#define CLI_WISHES_H

#include "cli/cli.h"

struct wishes { /* the options, as they were typed; NULL: not at all */
    int locked, journal;
    int grows, why; /* the last: reasons are shown */
    int same_identity, new_host, refresh;
    char *leave_out, *running; /* the last: a mounted root, the original of a twin */
    char *request, *image, *kind, *arrangement, *files_on, *system, *persistence, *in, *overlay_from, *data, *data_on,
        *label, *cluster, *swap, *table, *rules, *family, *uefi, *check, *wait, *kernel_options, *edition;
    const char **keep; /* ends with NULL */
    uint64_t most;     /* bytes: what the drive holds; 0: that is not known yet */
};
extern const struct poptOption wish_options[];
extern const struct poptOption twin_options[];     /* of `satchel twin`, too */
extern const struct poptOption owner_options[];    /* owner.c; among the former */
extern const struct poptOption addition_options[]; /* add.c; likewise */
extern struct wishes wished;                       /* what those options fill */

/* The request, from a saved one where there is one; image and ready-made data file opened, and known by their digests.
 * Close both sources whatever comes of it. */
enum ws_status cli_read_wishes(struct cli *cli, const struct wishes *wishes, struct ws_request *request,
                               struct ws_source *input[WS_INPUTS_MOST]);

/* A path as a plan keeps it. */
enum ws_status cli_take_path(struct cli *cli, const char *path, struct ws_input *input);
/* Which word of a few, CLI_CHOICES at most; WS_E_USAGE names them all. */
enum { CLI_CHOICES = 24 };
enum ws_status cli_pick_among(struct cli *cli, const char *option, const char *word, const char *const name[],
                              unsigned count, unsigned *out);
enum ws_status cli_pick(struct cli *cli, const char *option, const char *word, const char *(*name)(unsigned),
                        unsigned first, unsigned count, unsigned *out);
/* What a twin does without, words with commas between them. */
enum ws_status cli_read_leave_out(struct cli *cli, const char *option, const char *text, uint32_t *which);
/* What is added to a full system, in place of what a saved request had where anything is named: entered, not opened. */
enum ws_status cli_read_additions(struct cli *cli, struct ws_request *request);
/* The owner's options over what the request has. */
enum ws_status cli_read_owner(struct cli *cli, struct ws_owner *owner);

#endif
