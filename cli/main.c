/* main.c — the commands, as a table. */
#include "cli/commands.h"

#include "wild_satchel/port/linux.h"

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

static void usage(const struct cli *cli) {
    say("satchel %s — live drives that remember, full systems, twins\n\nsatchel COMMAND ...\n\n", ws_version());
    for (const struct command *c = commands; c->name; c++)
        show_row(cli, 45, "  %-8s %-33s %s", c->name, c->words, c->summary);
    say("\n`satchel help COMMAND` tells its options. Every command takes:\n"
        "  --json           one JSON document instead of text (docs/json-output.md)\n"
        "  --bench FOLDER   work on the simulated bench there (or set WILD_SATCHEL_BENCH)\n"
        "  --progress HOW   auto, lines, json or none: how long work is told\n"
        "  --colour WHEN    auto, always or never\n\n");
    show_row(cli, 0,
             "Exit codes: 0 done; 1 the check or proof failed, or the plan is not good; 2 wrong usage; 3 refused "
             "for safety; 4 input or drive error; 5 stopped as asked.");
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

/* Does the word before this one, an option of the command, take it? */
static bool is_taken(const struct command *command, char **argv, int i) {
    const char *before = argv[i - 1];
    if (i < 2 || strncmp(before, "--", 2) != 0 || strchr(before, '=')) return false;
    const struct poptOption *o = options_find(command->options, before + 2);
    if (!o) o = options_find(common_options, before + 2);
    return o && (o->argInfo & POPT_ARG_MASK) != POPT_ARG_NONE;
}

/* Where the command stands: options may stand before it. 0: nowhere. */
static int find_command(int argc, char **argv) {
    for (int i = 1; i < argc && argv[1][0] == '-'; i++) {
        const struct command *command = cli_command(argv[i]);
        if (command && !is_taken(command, argv, i)) return i;
    }
    int n = 1;
    while (n < argc && words_for_every_command(argv[n])) n += words_for_every_command(argv[n]);
    return n < argc ? n : 0;
}

/* The command first, and behind it all other words in their order. */
static char **order_words(int argc, char **argv) {
    const int at = find_command(argc, argv);
    char **words = calloc((size_t)argc + 1, sizeof *words);
    if (!words) return NULL;
    int k = 0;
    words[k++] = argv[0];
    if (at) words[k++] = argv[at];
    for (int i = 1; i < argc; i++)
        if (i != at) words[k++] = argv[i];
    return words;
}

static int version(const struct cli *cli) {
    if (cli->json)
        return cli_print_json(cli_pack("{s:s, s:s}", "format", "wild-satchel-version", "version", ws_version()),
                              EXIT_DONE);
    say("satchel %s\n", ws_version());
    return EXIT_DONE;
}

static bool is_one_of(const char *word, const char *a, const char *b, const char *c) {
    return strcmp(word, a) == 0 || strcmp(word, b) == 0 || strcmp(word, c) == 0;
}

static int unknown(struct cli *cli, const char *word) {
    const char *near = cli_nearest_command(word);
    char next[200];
    if (!word[0]) ws_fail(&cli->error, WS_E_USAGE, "no command was given");
    else ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a command", word);
    if (word[0] && cli_what_is(word, "satchel image", next)) ws_fail_next(&cli->error, "%s", next);
    else if (near) ws_fail_next(&cli->error, "did you mean `satchel %s`? `satchel help` lists them all", near);
    else ws_fail_next(&cli->error, "`satchel help` lists them");
    return cli_fail(cli);
}

/* "help", "help CMD", and "CMD --help" are one. */
static int help(struct cli *cli, const char *word) {
    const char *asked[] = {"satchel", "--help"};
    const char *words[COMMAND_WORDS] = {NULL};
    const struct command *command = cli_command(word);
    if (!word[0]) usage(cli);
    else if (command) (void)cli_options(cli, command, 2, asked, words);
    else return unknown(cli, word);
    return EXIT_DONE;
}

static int run(struct cli *cli, int argc, char **argv) {
    const char *word = argc > 1 ? argv[1] : "";
    const char *words[COMMAND_WORDS] = {NULL};
    const struct command *command = cli_command(word);
    if (is_one_of(word, "--help", "-h", "help")) return help(cli, argc > 2 ? argv[2] : "");
    if (is_one_of(word, "--version", "-V", "version")) return version(cli);
    const bool none = !word[0] || words_for_every_command(word) > 0;
    if (none && !cli->json) {
        usage(cli);
        return EXIT_USAGE;
    }
    if (!command) return unknown(cli, none ? "" : word);
    argv[1] = argv[0]; /* what its help calls the program */
    const int code = cli_options(cli, command, argc - 1, (const char **)argv + 1, words);
    return code ? code - 1 : command->run(cli, words);
}

int main(int argc, char **argv) {
    struct cli cli = {.width = 80};
    struct winsize size;
    open_standard_streams();
    (void)signal(SIGPIPE, SIG_IGN);
    (void)setlocale(LC_CTYPE, "");
    cli.terminal = isatty(STDERR_FILENO);
    cli.wraps = isatty(STDOUT_FILENO);
    if ((ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 || ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0) &&
        size.ws_col >= 40)
        cli.width = size.ws_col;
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
