/* main.c — the commands, as a table. */
#include "cli/cli.h"

#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

static const struct command commands[] = {
    {"drives", "[DRIVE]", "which drives are here, what is on each; --test and --blank one", run_drives},
    {"image", "FILE", "what an image is, where it starts, how it remembers", run_image},
    {"size", "--image FILE [--drive DRIVE]", "how large persistence should be; alternatives side by side", run_size},
    {"plan", "--image FILE --drive DRIVE", "decide the whole drive; nothing is written", run_plan},
    {"twin", "SOURCE --drive DRIVE", "a drive or its image carried over to another drive, in one go", run_twin},
    {"build", "PLAN", "carry a plan out, after confirmation by the drive's own name", run_build},
    {"prepare", "--image FILE [--drive DRIVE ...]", "plan, show, ask, build and check, one drive or many at once",
     run_prepare},
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
    fprintf(out, "satchel %s — live drives that remember, full systems, twins\n\nsatchel COMMAND ...\n\n",
            ws_version());
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(out, "  %-7s %-30s %s\n", commands[i].name, commands[i].words, commands[i].summary);
    fprintf(out,
            "\nEvery command takes:\n"
            "  --json         one JSON document instead of text (docs/json-output.md)\n"
            "  --bench DIR    work on the simulated bench in DIR (or set WILD_SATCHEL_BENCH)\n"
            "  --help         its own options\n\n"
            "Exit codes: 0 done; 1 the check or proof failed, or the plan is not good; 2 wrong usage; 3 refused for\n"
            "safety; 4 input or drive error; 5 stopped as asked.\n");
}

/* A program started with its standard streams closed would get the drive itself as one of them, and write its messages
 * there. */
static void open_standard_streams(void) {
    for (int fd = STDIN_FILENO; fd <= STDERR_FILENO; fd++)
        if (fcntl(fd, F_GETFD) < 0 && errno == EBADF) (void)open("/dev/null", fd == STDIN_FILENO ? O_RDONLY : O_WRONLY);
}

/* Who reads our output has gone: that stops the output, not the work. */
static bool is_pipe(void) {
    struct stat s;
    return fstat(STDOUT_FILENO, &s) == 0 && (S_ISFIFO(s.st_mode) || S_ISSOCK(s.st_mode));
}

/* How many words an option takes that every command has; 0: it is another word. */
static int words_for_every_command(const char *word) {
    static const char *const with_value[] = {"--bench", "--progress", "--colour"};
    if (strcmp(word, "--json") == 0) return 1;
    for (size_t i = 0; i < sizeof with_value / sizeof with_value[0]; i++) {
        const size_t length = strlen(with_value[i]);
        if (strncmp(word, with_value[i], length) == 0 && (!word[length] || word[length] == '='))
            return word[length] ? 1 : 2;
    }
    return 0;
}

/* What every command takes may stand before it, too: it goes behind. @return where the command's words begin */
static char **order_words(int argc, char **argv) {
    int n = 1;
    while (n < argc && words_for_every_command(argv[n])) n += words_for_every_command(argv[n]);
    if (n > argc) n = argc;
    char **words = calloc((size_t)argc + 1, sizeof *words);
    if (!words) return NULL;
    words[0] = argv[0];
    int k = 1;
    for (int i = n; i < argc; i++) words[k++] = argv[i];
    for (int i = 1; i < n; i++) words[k++] = argv[i];
    return words;
}

static int run(struct cli *cli, int argc, char **argv) {
    const char *word = argc > 1 ? argv[1] : "";
    if (strcmp(word, "--help") == 0 || strcmp(word, "help") == 0) {
        usage(stdout);
        return EXIT_DONE;
    }
    if (strcmp(word, "--version") == 0) {
        say("satchel %s\n", ws_version());
        return EXIT_DONE;
    }
    const struct command *command = cli_command(word);
    bool none = !word[0] || words_for_every_command(word) > 0;
    if (none && !cli->json) {
        usage(stderr);
        return EXIT_USAGE;
    }
    if (!command) {
        if (none) ws_fail(&cli->error, WS_E_USAGE, "no command was given");
        else ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a command", word);
        ws_fail_next(&cli->error, "`satchel --help` lists them");
        return cli_fail(cli);
    }
    argv[1] = argv[0]; /* what its help calls the program */
    return command->run(cli, argc - 1, (const char **)argv + 1);
}

int main(int argc, char **argv) {
    struct cli cli = {.width = 80};
    struct winsize size;
    open_standard_streams();
    (void)signal(SIGPIPE, SIG_IGN);
    (void)setlocale(LC_CTYPE, "");
    cli.terminal = isatty(STDERR_FILENO);
    cli.wraps = isatty(STDOUT_FILENO);
    if (ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40) cli.width = size.ws_col;
    for (int i = 1; i < argc; i++) cli.json |= strcmp(argv[i], "--json") == 0; /* errors of usage follow it, too */
    (void)cli_streams(&cli, NULL, NULL);
    char **words = order_words(argc, argv);
    if (!words) return EXIT_FAULT;
    int code = run(&cli, argc, words);
    if (cli.port) cli.port->ops->close(cli.port);
    ws_bench_close(cli.bench);
    free(cli.bench_folder);
    free(words);
    bool lost = fflush(stdout) != 0 || ferror(stdout);
    if (lost && code == EXIT_DONE && !is_pipe()) {
        note("satchel: what was said here could not all be written.\n");
        code = EXIT_FAULT;
    }
    return code;
}
