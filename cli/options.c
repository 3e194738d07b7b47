/* options.c — a command's words read by its table, and what is wrong with them said. */
#include "cli/commands.h"
#include "cli/defaults.h"
#include "cli/wishes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static int json, help;
static char *bench, *progress, *colour;
const struct poptOption common_options[] = {
    {"json", 0, POPT_ARG_NONE, &json, 0, "one JSON document instead of text", NULL},
    {"bench", 0, POPT_ARG_STRING, &bench, 0, "work on the simulated bench in this folder", "FOLDER"},
    {"progress", 0, POPT_ARG_STRING, &progress, 0,
     "how long work is told on standard error: auto, lines, json (an object a line) or none", "auto|lines|json|none"},
    {"colour", 0, POPT_ARG_STRING, &colour, 0, "when colours are used", "auto|always|never"},
    {"help", 'h', POPT_ARG_NONE, &help, 0, "show this", NULL},
    POPT_TABLEEND};

bool options_visit(const struct poptOption *table, bool (*visit)(void *context, const struct poptOption *option),
                   void *context) {
    for (const struct poptOption *o = table; o && (o->longName || o->shortName || o->arg); o++) {
        const bool included = (o->argInfo & POPT_ARG_MASK) == POPT_ARG_INCLUDE_TABLE;
        if (included ? !options_visit(o->arg, visit, context) : !visit(context, o)) return false;
    }
    return true;
}

struct search {
    const char *name;
    const struct poptOption *found;
    size_t distance;
};
static bool same_name(void *context, const struct poptOption *o) {
    struct search *s = context;
    if (strcmp(o->longName, s->name) != 0) return true;
    s->found = o;
    return false;
}
static bool nearer_name(void *context, const struct poptOption *o) {
    struct search *s = context;
    const size_t distance = ws_word_distance(o->longName, s->name);
    if (distance < s->distance) s->found = o, s->distance = distance;
    return true;
}

const struct poptOption *options_find(const struct poptOption *table, const char *name) {
    struct search s = {.name = name};
    (void)options_visit(table, same_name, &s);
    return s.found;
}

/* The option whose name is nearest to a word; NULL: none is near. */
static const struct poptOption *nearest(const struct command *command, const char *word) {
    struct search s = {.name = word, .distance = SIZE_MAX};
    (void)options_visit(command->options, nearer_name, &s);
    (void)options_visit(common_options, nearer_name, &s);
    return s.distance <= ws_word_slip(word) ? s.found : NULL;
}

static const char *progress_word(unsigned i) {
    static const char *const words[] = {"auto", "lines", "json", "none"};
    return words[i];
}
static const char *colour_word(unsigned i) {
    static const char *const words[] = {"auto", "always", "never"};
    return words[i];
}

enum ws_status cli_streams(struct cli *cli, const char *how_told, const char *when_coloured) {
    static const enum progress ways[] = {PROGRESS_TABLE, PROGRESS_LINES, PROGRESS_JSON, PROGRESS_NONE};
    const char *term = getenv("TERM"), *no_colour = getenv("NO_COLOR");
    const bool dumb = term && strcmp(term, "dumb") == 0, plain = dumb || (no_colour && *no_colour);
    unsigned how = 0, when = 0;
    enum ws_status status = WS_OK;
    if (how_told) status = cli_pick(cli, "--progress", how_told, progress_word, 0, 4, &how);
    if (status == WS_OK && when_coloured) status = cli_pick(cli, "--colour", when_coloured, colour_word, 0, 3, &when);
    cli->progress = ways[how];
    if (!how && cli->json) cli->progress = PROGRESS_NONE;
    else if (!how && (!cli->terminal || dumb)) cli->progress = PROGRESS_LINES;
    cli->colour = when ? when == 1 : isatty(STDOUT_FILENO) && !plain;
    cli->noted = when ? when == 1 : cli->terminal && !plain;
    return status;
}

/* What an option was given; NULL: it was not. Numbers are not looked at: they have values of their own. */
static const char *given(const struct poptOption *o) {
    switch (o ? o->argInfo & POPT_ARG_MASK : 0) {
    case POPT_ARG_STRING: return *(char *const *)o->arg;
    case POPT_ARG_ARGV: return *(const char *const *const *)o->arg ? **(const char *const *const *)o->arg : NULL;
    case POPT_ARG_NONE: return o && *(const int *)o->arg ? "" : NULL;
    default: return NULL;
    }
}

/* Is any of these given: "save|save-request", "kind=system|request"? */
static bool any_given(const struct poptOption *table, const char *names) {
    char name[48];
    for (const char *p = names; *p;) {
        const size_t length = strcspn(p, "|");
        (void)snprintf(name, sizeof name, "%.*s", (int)length, p);
        char *value = strchr(name, '=');
        if (value) *value++ = '\0';
        const char *is = given(options_find(table, name));
        if (is && (!value || strcmp(is, value) == 0)) return true;
        p += length + (p[length] != '\0');
    }
    return false;
}

/* "--kind system or --request" out of "kind=system|request". */
static void name_all(const char *names, char *out, size_t room) {
    out[0] = '\0';
    for (const char *p = names; *p;) {
        const size_t length = strcspn(p, "|"), n = strlen(out);
        (void)snprintf(out + n, room - n, "%s--%.*s", n ? " or " : "", (int)length, p);
        for (char *c = out + n; *c; c++)
            if (*c == '=') *c = ' ';
        p += length + (p[length] != '\0');
    }
}

/* Was it typed? What is a default of the site may be without effect. */
static bool typed(const struct poptOption *o, int argc, const char **argv) {
    const size_t length = o ? strlen(o->longName) : 0;
    for (int i = 1; i < argc && o; i++) {
        const char *word = argv[i];
        if (strncmp(word, "--", 2) == 0 && strncmp(word + 2, o->longName, length) == 0 &&
            (!word[length + 2] || word[length + 2] == '='))
            return true;
        if (o->shortName && word[0] == '-' && word[1] == o->shortName) return true;
    }
    return false;
}

static enum ws_status check_company(struct cli *cli, const struct command *command, int argc, const char **argv) {
    char with[160];
    for (const struct goes_with *g = command->goes_with; g && g->option; g++) {
        const bool apart = g->with[0] == '!';
        if (!typed(options_find(command->options, g->option), argc, argv) ||
            any_given(command->options, g->with + apart) != apart)
            continue;
        name_all(g->with + apart, with, sizeof with);
        return ws_fail(&cli->error, WS_E_USAGE, "--%s has no effect %s %s", g->option, apart ? "beside" : "without",
                       with);
    }
    return WS_OK;
}

struct misplaced {
    const struct command_part *part;
    int argc;
    const char **argv;
    const struct poptOption *found;
};

static bool takes(const struct command_part *part, const char *name) {
    const size_t length = strlen(name);
    for (const char *p = part->takes; (p = strstr(p, name)); p += length)
        if ((p == part->takes || p[-1] == '|') && (!p[length] || p[length] == '|')) return true;
    return false;
}

static bool belongs(void *context, const struct poptOption *o) {
    struct misplaced *m = context;
    if (takes(m->part, o->longName) || !typed(o, m->argc, m->argv)) return true;
    m->found = o;
    return false;
}

/* Which of the things that a command does take an option: "grow, shrink, move". */
static void name_parts(const struct command *command, const char *option, char *out, size_t room) {
    out[0] = '\0';
    for (const struct command_part *p = command->parts; p->name; p++) {
        const size_t n = strlen(out);
        if (takes(p, option)) (void)snprintf(out + n, room - n, "%s%s", n ? ", " : "", p->name);
    }
}

/* Of a command that does several things: which, with that one's options and words. */
static enum ws_status check_part(struct cli *cli, const struct command *command, int argc, const char **argv,
                                 const char *words[]) {
    const char *names[CLI_CHOICES];
    unsigned count = 0, i = 0;
    size_t wanted = 0, has = 0;
    char with[120];
    while (count < CLI_CHOICES && command->parts[count].name) names[count] = command->parts[count].name, count++;
    WS_TRY(cli_pick_among(cli, command->name, words[0], names, count, &i));
    const struct command_part *part = &command->parts[i];
    struct misplaced m = {part, argc, argv, NULL};
    if (!options_visit(command->options, belongs, &m)) {
        name_parts(command, m.found->longName, with, sizeof with);
        ws_fail(&cli->error, WS_E_USAGE, "--%s has no effect with `%s %s`", m.found->longName, command->name,
                part->name);
        return ws_fail_next(&cli->error, "it goes with %s", with);
    }
    for (const char *w = part->words; *w; w += strspn(w, " "), wanted++) w += strcspn(w, " ");
    while (has + 1 < COMMAND_WORDS && words[has + 1]) has++;
    if (has < wanted)
        ws_fail(&cli->error, WS_E_USAGE, "`satchel %s %s` takes %s", command->name, part->name, part->words);
    else if (has > wanted)
        ws_fail(&cli->error, WS_E_USAGE, "`satchel %s %s` has no use for the word \"%s\"", command->name, part->name,
                words[wanted + 1]);
    return has == wanted ? WS_OK
                         : ws_fail_next(&cli->error, "satchel %s %s%s%s", command->name, part->name, wanted ? " " : "",
                                        part->words);
}

static bool is_unit(const char *word) {
    static const char *const units[] = {"k",  "m",   "g",   "t",   "kb",  "mb",   "gb",
                                        "tb", "kib", "mib", "gib", "tib", "bytes"};
    for (size_t i = 0; i < sizeof units / sizeof units[0]; i++)
        if (ws_word_distance(units[i], word) == 0) return true;
    return false;
}

/* A word too many is often the end of one that was cut at a blank. */
static enum ws_status too_many(struct cli *cli, const struct command *command, const char *word, int argc,
                               const char **argv) {
    ws_fail(&cli->error, WS_E_USAGE, "`satchel %s` has no use for the word \"%s\"", command->name, word);
    for (int i = 1; i < argc; i++) {
        if (strcmp(argv[i], word) != 0 || i == 1) continue;
        if (is_unit(word) && strspn(argv[i - 1], "0123456789.,"))
            return ws_fail_next(&cli->error, "write %s%s in one word", argv[i - 1], word);
        if (argv[i - 1][0] != '-' && i > 1 && argv[i - 2][0] == '-')
            return ws_fail_next(&cli->error, "if it belongs to %.40s, put both in quotes: \"%.60s %.60s\"", argv[i - 2],
                                argv[i - 1], word);
    }
    char next[200];
    if (cli_what_is(word, options_find(command->options, "image") ? "--image" : "satchel image", next))
        return ws_fail_next(&cli->error, "%s", next);
    return ws_fail_next(&cli->error, "satchel %s %s", command->name, command->words);
}

static enum ws_status take_words(struct cli *cli, const struct command *command, poptContext context, int argc,
                                 const char **argv, const char *words[]) {
    int n = 0;
    const char *word;
    while ((word = poptGetArg(context))) {
        if (n == command->most) return too_many(cli, command, word, argc, argv);
        words[n++] = strdup(word);
    }
    if (n >= command->least) return WS_OK;
    ws_fail(&cli->error, WS_E_USAGE, "`satchel %s` takes %s", command->name, command->words);
    return ws_fail_next(&cli->error, "`satchel help %s` tells more", command->name);
}

static enum ws_status bad_option(struct cli *cli, const struct command *command, poptContext context, int rc) {
    const char *typed = poptBadOption(context, POPT_BADOPTION_NOALIAS);
    char name[64];
    (void)snprintf(name, sizeof name, "%.*s", (int)strcspn(typed, "="), typed);
    const bool unknown = rc == POPT_ERROR_BADOPT;
    const struct poptOption *near = unknown && strncmp(name, "--", 2) == 0 ? nearest(command, name + 2) : NULL;
    if (unknown) ws_fail(&cli->error, WS_E_USAGE, "`satchel %s` has no option %s", command->name, name);
    else ws_fail(&cli->error, WS_E_USAGE, "%s: %s", name, poptStrerror(rc));
    if (near)
        return ws_fail_next(&cli->error, "did you mean --%s? `satchel help %s` lists them all", near->longName,
                            command->name);
    return ws_fail_next(&cli->error, "`satchel help %s` lists its options", command->name);
}

static enum ws_status read_all(struct cli *cli, const struct command *command, poptContext context, int argc,
                               const char **argv, const char *words[]) {
    const int rc = poptGetNextOpt(context);
    cli->json |= json != 0;
    WS_TRY(cli_streams(cli, progress, colour));
    if (help) return WS_OK;
    if (rc < -1) return bad_option(cli, command, context, rc);
    if (bench && !bench[0]) {
        ws_fail(&cli->error, WS_E_USAGE, "--bench names no folder");
        return ws_fail_next(&cli->error, "leave it out to work on this machine's own drives");
    }
    WS_TRY(take_words(cli, command, context, argc, argv, words));
    if (command->parts) WS_TRY(check_part(cli, command, argc, argv, words));
    return check_company(cli, command, argc, argv);
}

static void show_parts(const struct cli *cli, const struct command *command) {
    say("What:\n");
    for (const struct command_part *p = command->parts; p->name; p++) {
        char name[40];
        (void)snprintf(name, sizeof name, "%s %s", p->name, p->words);
        show_row(cli, 20, "  %-17s %s", name, p->does);
    }
    say("\n");
}

int cli_options(struct cli *cli, const struct command *command, int argc, const char **argv,
                const char *words[COMMAND_WORDS]) {
    const struct poptOption none[] = {POPT_TABLEEND};
    const struct poptOption table[] = {
        {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)(command->options ? command->options : none), 0,
         "Options:", NULL},
        {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)common_options, 0, "Of every command:", NULL},
        POPT_TABLEEND};
    struct defaults_words with = {0};
    int code = 0;
    enum ws_status status = defaults_before(cli, command, argc, argv, &with);
    for (int i = 1; i < argc; i++)
        if (strcmp(argv[i], "--help") == 0 || strcmp(argv[i], "-h") == 0) status = WS_OK; /* whatever they are */
    poptContext context = poptGetContext("satchel", with.argc, with.argv, table, 0);
    char head[200];
    (void)snprintf(head, sizeof head, "%s %s", command->name, command->words);
    poptSetOtherOptionHelp(context, head);
    if (status == WS_OK) status = read_all(cli, command, context, argc, argv, words);
    if (status != WS_OK) {
        code = cli_fail(cli) + 1;
    } else if (help) {
        say("satchel %s — %s\n\n", command->name, command->summary);
        if (command->parts) show_parts(cli, command);
        poptPrintHelp(context, stdout, 0);
        code = EXIT_DONE + 1;
    }
    if (!bench && getenv("WILD_SATCHEL_BENCH")) bench = strdup(getenv("WILD_SATCHEL_BENCH"));
    cli->bench_folder = bench;
    poptFreeContext(context);
    defaults_free(&with);
    return code;
}
