/* commands.h — the commands and their options, as one table: parsing, help, manual pages and completion come from it.
 */
#ifndef CLI_COMMANDS_H
#define CLI_COMMANDS_H

#include "cli/cli.h"

/** Options that mean something only beside others. */
struct goes_with {
    const char *option, *with; /* `with`: names, any of which will do, with | between them; "kind=system" for a value */
};

/** What a command does by its first word, for one that does several things. */
struct command_part {
    const char *name, *words, *does; /* `words`: that have to follow, with blanks between them */
    const char *takes;               /* of the command's own options, with | between them */
};

struct command {
    const char *name, *words, *summary;
    const char *about;                 /* for its manual page: paragraphs */
    const struct poptOption *options;  /* ends with POPT_TABLEEND; NULL: none */
    const struct goes_with *goes_with; /* ends with {NULL}; NULL: none */
    const struct command_part *parts;  /* ends with {NULL}; NULL: it does one thing */
    int least, most;                   /* words */
    int (*run)(struct cli *cli, const char *const word[]);
};

extern const struct command commands[]; /* ends with {NULL} */
const struct command *cli_command(const char *name);
/** The command whose name is nearest to a word; NULL: none is near. */
const char *cli_nearest_command(const char *word);
/** Options that every command has. */
extern const struct poptOption keep_options[];
extern const struct poptOption common_options[];
/** Go through a table and those it includes. @return false if `visit` did */
bool options_visit(const struct poptOption *table, bool (*visit)(void *context, const struct poptOption *option),
                   void *context);
/** The option of this long name; NULL: there is none. */
const struct poptOption *options_find(const struct poptOption *table, const char *name);

/* What the tables fill; each in the file of its command. */
extern const struct poptOption drives_options[], image_options[], size_options[], plan_options[], twin_all_options[],
    build_all_options[], prepare_options[], check_options[], prove_options[], passport_options[], bench_options[];

int run_drives(struct cli *cli, const char *const word[]);
int run_image(struct cli *cli, const char *const word[]);
int run_size(struct cli *cli, const char *const word[]);
int run_plan(struct cli *cli, const char *const word[]);
int run_twin(struct cli *cli, const char *const word[]);
int run_build(struct cli *cli, const char *const word[]);
int run_prepare(struct cli *cli, const char *const word[]);
int run_check(struct cli *cli, const char *const word[]);
int run_prove(struct cli *cli, const char *const word[]);
int run_keep(struct cli *cli, const char *const word[]);
int run_passport(struct cli *cli, const char *const word[]);
int run_bench(struct cli *cli, const char *const word[]);
int run_release(struct cli *cli, const char *const word[]);

#endif
