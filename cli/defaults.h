/* defaults.h — options of a site that need not be typed each time. */
#ifndef CLI_DEFAULTS_H
#define CLI_DEFAULTS_H

#include "cli/commands.h"

/** The words of a command behind those that the site's file has for it: what is typed wins. */
struct defaults_words {
    int argc;
    const char **argv;
    char **made; /* owned words */
    size_t count;
};
enum ws_status defaults_before(struct cli *cli, const struct command *command, int argc, const char **argv,
                               struct defaults_words *with);
void defaults_free(struct defaults_words *with);
/** Does an error name an option that came from there? */
bool defaults_named(const struct ws_error *error);

int run_defaults(struct cli *cli, const char *const word[]);

#endif
