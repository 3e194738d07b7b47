/* main.c — the commands, as a table. */
#include "cli/cli.h"

#include <locale.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

static const struct command commands[] = {
    {"drives", "[DRIVE]", "which drives are here, what is on each; --test and --blank one", run_drives},
    {"image", "FILE", "what an image is, where it starts, how it remembers", run_image},
    {"size", "--image FILE [--drive DRIVE]", "how large persistence should be; alternatives side by side", run_size},
    {"plan", "--image FILE --drive DRIVE", "decide the whole drive; nothing is written", run_plan},
    {"build", "PLAN", "carry a plan out, after confirmation by the drive's own name", run_build},
    {"check", "DRIVE", "does what reads back equal what was meant", run_check},
    {"prove", "DRIVE --on PC", "do saved changes survive a restart", run_prove},
    {"release", "DRIVE", "flushed and safe to unplug", run_release},
    {"bench", "WHAT ...", "the simulated bench: setup, show, start, plug, pull, arm", run_bench},
};
enum { COMMANDS = sizeof commands / sizeof commands[0] };

const struct command *cli_command(const char *name) {
    for (size_t i = 0; i < COMMANDS; i++)
        if (strcmp(commands[i].name, name) == 0) return &commands[i];
    return NULL;
}

static void usage(FILE *out) {
    fprintf(out, "satchel %s — live drives that remember\n\nsatchel COMMAND ...\n\n", WS_VERSION);
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(out, "  %-7s %-30s %s\n", commands[i].name, commands[i].words, commands[i].summary);
    fprintf(out,
            "\nEvery command takes:\n"
            "  --json         one JSON document instead of text (docs/json-output.md)\n"
            "  --bench DIR    work on the simulated bench in DIR (or set WILD_SATCHEL_BENCH)\n"
            "  --help         its own options\n\n"
            "Exit codes: 0 done; 1 the check or proof failed; 2 wrong usage; 3 refused for safety; 4 input or drive "
            "error.\n");
}

int main(int argc, char **argv) {
    struct cli cli = {.width = 80};
    struct winsize size;
    (void)setlocale(LC_CTYPE, "");
    cli.terminal = isatty(STDERR_FILENO);
    cli.colour = isatty(STDOUT_FILENO) && !getenv("NO_COLOR");
    cli.wraps = isatty(STDOUT_FILENO);
    if (ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40) cli.width = size.ws_col;
    if (argc < 2) {
        usage(stderr);
        return EXIT_USAGE;
    }
    if (strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "help") == 0) {
        usage(stdout);
        return EXIT_DONE;
    }
    if (strcmp(argv[1], "--version") == 0) {
        printf("satchel %s\n", WS_VERSION);
        return EXIT_DONE;
    }
    const struct command *command = cli_command(argv[1]);
    if (!command) {
        ws_fail(&cli.error, WS_E_USAGE, "\"%s\" is not a command", argv[1]);
        ws_fail_next(&cli.error, "`satchel --help` lists them");
        return cli_fail(&cli);
    }
    argv[1] = argv[0]; /* what its help calls the program */
    int code = command->run(&cli, argc - 1, (const char **)argv + 1);
    if (cli.port) cli.port->ops->close(cli.port);
    ws_bench_close(cli.bench);
    free(cli.bench_folder);
    if (fflush(stdout) != 0 && code == EXIT_DONE) code = EXIT_FAULT;
    return code;
}
