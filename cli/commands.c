/* commands.c — the commands, in the technician's order: the one table that parsing, help, manual pages, completion and
 * the documentation come from. */
#include "cli/commands.h"
#include "cli/defaults.h"

#include <string.h>

static const struct goes_with drives_company[] = {{"save", "test"},
                                                  {"over", "save"},
                                                  {"system", "blank"},
                                                  {"label", "blank"},
                                                  {"cluster", "blank"},
                                                  {"confirm", "test|blank"},
                                                  {"external-disk", "test|blank"},
                                                  {"test", "!history"},
                                                  {"blank", "!history"},
                                                  {"make", "!history"},
                                                  {NULL, NULL}};
static const struct goes_with plan_company[] = {{"over", "save|picture|save-request"},
                                                {"picture", "drive"},
                                                {"trial", "drive"},
                                                {"make", "drive"},
                                                {"for", "drive"},
                                                {"data-label", "data|request"},
                                                {"data-on", "data|request|in"},
                                                {NULL, NULL}};
static const struct goes_with size_company[] = {
    {"memory", "kind=system"}, {"edition", "kind=system"}, {"leave-out", "kind=twin"}, {NULL, NULL}};
static const struct goes_with prepare_company[] = {
    {"like", "as-they-come"}, {"count", "as-they-come"}, {"data-label", "data|request"}, {NULL, NULL}};
static const struct goes_with build_company[] = {{"image", "!finish"},
                                                 {"password-fd", "!finish"},
                                                 {"recovery-fd", "!finish"},
                                                 {"no-check", "!finish"},
                                                 {"even-so", "!finish"},
                                                 {"afresh", "!finish"},
                                                 {NULL, NULL}};
static const struct goes_with check_company[] = {{"used", "plan|record"}, {"image", "plan"}, {NULL, NULL}};

/* A PC of one's own is started by hand. */
static const struct goes_with prove_company[] = {{"rounds", "!on=own-pc"},        {"account", "!on=own-pc"},
                                                 {"keep-traces", "!on=own-pc"},   {"wait", "!on=own-pc"},
                                                 {"console", "!on=own-pc"},       {"confirm", "!on=own-pc"},
                                                 {"external-disk", "!on=own-pc"}, {"called", "on=own-pc"},
                                                 {"missing", "on=own-pc"},        {NULL, NULL}};
static const struct goes_with passport_company[] = {
    {"over", "to"}, {"confirm", "onto-drive"}, {"external-disk", "onto-drive"}, {NULL, NULL}};

static const struct command_part keep_parts[] = {
    {"show", "DRIVE", "how full it is, what takes the room, when it will be full", "picture|over|password-fd"},
    {"clean", "DRIVE", "caches, old logs, trash; without --confirm it only tells",
     "what|confirm|external-disk|password-fd"},
    {"reset", "DRIVE", "as fresh, but for --except", "except|confirm|external-disk|password-fd"},
    {"save", "DRIVE", "into an archive, with all attributes", "to|over|rescue|password-fd"},
    {"restore", "DRIVE", "from an archive, onto this drive or another", "from|confirm|external-disk|password-fd"},
    {"grow", "DRIVE", "more room: free, or what a data volume beside it gives",
     "size|take-from-data|confirm|external-disk|password-fd"},
    {"shrink", "DRIVE", "less room", "size|confirm|external-disk|password-fd"},
    {"move", "DRIVE", "from a partition into a data volume's file, or out of it",
     "in|size|confirm|external-disk|password-fd"},
    {"journal", "DRIVE", "its system notes each of its starts; --off: not any more",
     "off|confirm|external-disk|password-fd"},
    {"renew", "DRIVE", "a newer image laid under what is remembered", "image|stays|confirm|external-disk|password-fd"},
    {NULL, NULL, NULL, NULL}};
static const struct command_part bench_parts[] = {
    {"setup", "BENCHFILE", "made in the folder of --bench, with blank drives", ""},
    {"show", "", "its drives and PCs", ""},
    {"start", "PC DRIVE", "a PC starts from a drive, and is shut down", "type|power-cut"},
    {"plug", "DRIVE", "plugged in again", ""},
    {"pull", "DRIVE", "pulled out", ""},
    {"arm", "DRIVE", "a fault that will come, or the switch against writing",
     "pull-after|cut-at-write|write-protect|writable"},
    {NULL, NULL, NULL, NULL}};

const struct command commands[] = {
    {"drives", "[DRIVE]", "which drives are here, what is on each; --test and --blank one",
     "Lists the drives that are plugged in, whether each may be written, and what would be lost. With a DRIVE all "
     "about "
     "that one: its volumes, labels, when they were last written, where it is plugged in.\n\n"
     "A drive is named by its short name, its model, the place it is plugged into (1-2.3: bus 1, port 2, and port 3 of "
     "the hub there), a part of a name that no other has, or its path; a file may serve as a drive. --test tries "
     "whether "
     "a drive is honest, sound and fast enough; --blank makes an ordinary drive of it again.",
     drives_options, drives_company, NULL, 0, 1, run_drives},
    {"image", "FILE", "what an image is, where it starts, how it remembers",
     "Tells what an image, a folder, an archive or a virtual disk is: where it starts, how it remembers, what it "
     "needs. "
     "A list of checksums beside it is found by itself and compared.",
     image_options, NULL, NULL, 1, 1, run_image},
    {"size", "--image FILE [--drive DRIVE]", "how large persistence should be; alternatives side by side",
     "Works out how much room a drive needs, from the image itself and from what is said of its use, and puts the ways "
     "to lay it out side by side.",
     size_options, size_company, NULL, 0, 0, run_size},
    {"plan", "--image FILE --drive DRIVE", "decide the whole drive; nothing is written",
     "Decides everything about a drive and shows it: what will be lost, what the drive will be, where it will start, "
     "how "
     "long it takes. --why adds the reasons. Nothing is written but the plan, where --save says so; `satchel build` "
     "carries it out.",
     plan_options, plan_company, NULL, 0, 0, run_plan},
    {"twin", "SOURCE --drive DRIVE", "a drive or its image carried over to another drive, in one go",
     "Carries a drive, the image of one, or the system that runs over to another drive: planned, shown, confirmed, "
     "written and checked. The twin may be smaller or larger, and has identifiers of its own.",
     twin_all_options, NULL, NULL, 0, 1, run_twin},
    {"build", "PLAN", "carry a plan out, after confirmation by the drive's own name",
     "Carries a plan out. What is on the drive is shown, and confirmed by the drive's own name; what is written is "
     "read "
     "back before the drive is finished. A build that was interrupted goes on from where it got to.",
     build_all_options, build_company, NULL, 0, 1, run_build},
    {"prepare", "--image FILE [--drive DRIVE ...]", "plan, show, ask, build and check, one drive or many at once",
     "All of it in one go: planned, shown, asked once, built, checked, and proved where --prove says on what. Without "
     "--drive the only drive that may be used is taken, or the next that is plugged in.\n\n"
     "Several drives are written at once, each with identifiers and a plan of its own, in the time of the slowest; "
     "what "
     "goes wrong with one is its own affair. A drive that was pulled out goes on when it is plugged in again. "
     "--as-they-come prepares every drive that is plugged in from now on and is --like what is said.",
     prepare_options, prepare_company, NULL, 0, 0, run_prepare},
    {"check", "DRIVE", "does what reads back equal what was meant",
     "Looks whether a drive is sound, and with --plan or --record whether it holds what was meant, byte for byte.",
     check_options, check_company, NULL, 1, 1, run_check},
    {"prove", "DRIVE --on PC", "do saved changes survive a restart",
     "Starts the drive on PCs of the simulated bench or on emulated ones, changes something, starts it again, and "
     "looks on the drive itself whether that is still there; each of --rounds ends in its own way.\n\n"
     "--on own-pc is for a PC that you start it on yourself: the same command before it goes there, and each time "
     "it is back, be it days later; the evidence is the drive's.",
     prove_options, prove_company, NULL, 1, 1, run_prove},
    {"keep", "WHAT DRIVE", "care of what a drive remembers: show, clean, grow, save, ...",
     "Care of what a drive remembers, without starting it.\n\n"
     "A change that is cut leaves the drive as it was, or is finished by `satchel build --finish DRIVE`.",
     keep_options, NULL, keep_parts, 1, 2, run_keep},
    {"passport", "DRIVE [--to FILE]", "one page about a drive, for whoever finds it",
     "A page of HTML, one sheet of A4, that needs nothing else: what the drive is and from which image, what is on it, "
     "what was proved of it, where it starts and which key to press, what to do when it does not. Plan and verdicts "
     "come from the history of drives; a proof and a trial are named.",
     passport_options, passport_company, NULL, 1, 1, run_passport},
    {"release", "DRIVE", "flushed and safe to unplug",
     "Waits until all that was written is on the drive, and takes it out of service.", NULL, NULL, NULL, 1, 1,
     run_release},
    {"defaults", "[[COMMAND.]OPTION=VALUE]", "options of this site that need not be typed each time",
     "Shows the defaults of this site, or changes one: `satchel defaults persistence=4G`; with nothing behind the sign "
     "it is taken out. What is typed with a command wins over them. Nothing that names, confirms or forces a drive can "
     "be a default.",
     NULL, NULL, NULL, 0, 1, run_defaults},
    {"bench", "WHAT [NAME ...]", "the simulated bench: setup, show, start, plug, pull, arm",
     "The simulated bench, with drives that have habits and faults, and PCs that start from them. Every other command "
     "works on it with --bench.",
     bench_options, NULL, bench_parts, 1, 3, run_bench},
    {NULL, NULL, NULL, NULL, NULL, NULL, NULL, 0, 0, NULL}};

const struct command *cli_command(const char *name) {
    for (const struct command *c = commands; c->name; c++)
        if (strcmp(c->name, name) == 0) return c;
    return NULL;
}

const char *cli_nearest_command(const char *word) {
    const char *best = NULL;
    size_t least = ws_word_slip(word) + 1;
    for (const struct command *c = commands; c->name; c++) {
        const size_t distance = ws_word_distance(c->name, word);
        if (distance < least) least = distance, best = c->name;
    }
    return best;
}
