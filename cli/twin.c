/* twin.c — satchel twin: a drive, or an image of one, planned, shown, confirmed, carried over and checked in one go. */
#include "cli/commands.h"
#include "cli/jobs.h"
#include "cli/wishes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static struct plan_job asked;
static bool fresh; /* its drive is a file that is made for it */
static int exact;
const struct poptOption twin_all_options[] = {
    {"drive", 'd', POPT_ARG_STRING, &asked.drive, 0, "the drive that becomes the twin: its name or path", "DRIVE"},
    {"make", 0, POPT_ARG_STRING, &asked.make, 0, "make DRIVE as a new image file of this size first", "SIZE"},
    {"running", 0, POPT_ARG_STRING, &wished.running, 0,
     "instead of SOURCE: the system whose root is here, file by file, while it runs (\"/\")", "FOLDER"},
    {"exact", 0, POPT_ARG_NONE, &exact, 0,
     "byte for byte, free space and identifiers too; DRIVE is as large, or larger", NULL},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)twin_options, 0, NULL, NULL},
    {"system", 0, POPT_ARG_STRING, &wished.system, 0, "the size of its system's volume (its share), or \"rest\"",
     "SIZE"},
    {"data", 0, POPT_ARG_STRING, &wished.data, 0, "the same of its first ordinary volume", "SIZE"},
    {"persistence", 'p', POPT_ARG_STRING, &wished.persistence, 0, "the same of what a live system remembers", "SIZE"},
    {"swap", 0, POPT_ARG_STRING, &wished.swap, 0, "the size of its swap partition (as it was), or \"none\"", "SIZE"},
    {"table", 0, POPT_ARG_STRING, &wished.table, 0, "mbr or gpt (as the original's)", "mbr|gpt"},
    {"kernel-options", 0, POPT_ARG_STRING, &wished.kernel_options, 0, "further parameters for its kernel", "TEXT"},
    {"trial", 't', POPT_ARG_STRING, &asked.trial, 0, "the drive's own trial, for better estimates", "FILE"},
    {"for", 'f', POPT_ARG_STRING, &asked.pc, 0,
     "where it must start: bios, uefi, secure (Secure Boot on), here, or a PC of the bench", "PC"},
    {"why", 0, POPT_ARG_NONE, &wished.why, 0, "show the reasons of the plan, too", NULL},
    {"save", 's', POPT_ARG_STRING, &asked.save, 0, "keep the plan here (DRIVE.plan, in this folder)", "PLAN"},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)build_options, 0, NULL, NULL},
    POPT_TABLEEND};

/* What a copy of all bytes leaves nothing to say about. */
static enum ws_status check_exact(struct cli *cli) {
    const bool more = wished.refresh || wished.same_identity || wished.new_host || wished.leave_out || wished.system ||
                      wished.data || wished.persistence || wished.swap || wished.table || wished.kernel_options;
    if (!exact || !more) return WS_OK;
    return ws_fail(&cli->error, WS_E_USAGE,
                   "--exact copies every byte as it is: nothing is left out, sized, renamed or refreshed");
}

/* A name for the plan, from the drive's: of an image file beside it. */
static enum ws_status name_plan(struct cli *cli) {
    struct ws_drive_facts facts;
    char *name = NULL;
    if (asked.save) return WS_OK;
    if (asked.make || strchr(asked.drive, '/')) {
        const char *last = strrchr(asked.drive, '/');
        if (asprintf(&name, "%s.plan", last ? last + 1 : asked.drive) < 0) name = NULL;
    } else {
        WS_TRY(cli_open_port(cli));
        WS_TRY(cli_find_drive(cli, asked.drive, &facts));
        if (asprintf(&name, "%s.plan", facts.short_name) < 0) name = NULL;
    }
    asked.save = name;
    return name ? WS_OK : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a name");
}

/* What nobody misses of a system that runs. */
static char usual_of_running[] = "temporary,swap-files,crashes";

/* A file that was just made holds nothing that could be lost. */
static void confirm_made(const struct ws_drive_facts *facts) {
    static char name[sizeof facts->short_name];
    if (!fresh || build_wished.confirm) return;
    (void)snprintf(name, sizeof name, "%s", facts->short_name);
    build_wished.confirm = name;
}

static int carry_over(struct cli *cli, struct ws_build *build, const struct ws_drive_facts *facts) {
    confirm_made(facts);
    return running_carry_over(cli, build, facts);
}

static enum ws_status prepare(struct cli *cli, const char *source) {
    static char twin[] = "twin", replica[] = "replica";
    if (!source == !wished.running) {
        ws_fail(&cli->error, WS_E_USAGE, "a twin has one original: SOURCE, or --running FOLDER");
        return ws_fail_next(&cli->error, "satchel twin SOURCE --drive DRIVE");
    }
    if (wished.running && (exact || wished.refresh || asked.save))
        return ws_fail(&cli->error, WS_E_USAGE,
                       "what runs is read file by file: --exact, --refresh and --save do not go with that");
    if (wished.running && !wished.leave_out) wished.leave_out = usual_of_running;
    asked.then = wished.running ? carry_over : NULL;
    if (!asked.drive) {
        ws_fail(&cli->error, WS_E_USAGE, "a twin needs --drive DRIVE");
        return ws_fail_next(&cli->error, "`satchel drives` tells which are here");
    }
    fresh = asked.make && access(strncmp(asked.drive, "file:", 5) == 0 ? asked.drive + 5 : asked.drive, F_OK) != 0;
    WS_TRY(check_exact(cli));
    wished.image = (char *)(uintptr_t)source;
    wished.kind = exact ? replica : twin;
    asked.goes_on = true;
    asked.even_so = build_wished.even_so != 0;
    return wished.running ? WS_OK : name_plan(cli);
}

int run_twin(struct cli *cli, const char *const word[]) {
    struct ws_drive_facts made;
    if (prepare(cli, word[0]) != WS_OK) return cli_fail(cli);
    const int code = plan_run(cli, &asked);
    if (wished.running || (code != EXIT_DONE && !(code == EXIT_NEGATIVE && build_wished.even_so))) return code;
    if (!cli->json) putchar('\n');
    if (asked.make && cli_find_drive(cli, asked.drive, &made) != WS_OK) return cli_fail(cli);
    if (fresh) confirm_made(&made);
    return build_run(cli, asked.save, &build_wished);
}
