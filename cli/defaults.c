/* defaults.c — satchel defaults: options of a site, in one file. */
#include "cli/defaults.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

static const char format[] = "wild-satchel-defaults";
enum { FILE_MOST = 1 << 20, PATH_ROOM = 1024 };

/* What may stand there: nothing that names, confirms or forces. */
static const char *const keys[] = {"account",
                                   "administrator",
                                   "arrangement",
                                   "bell",
                                   "check-at-start",
                                   "clock",
                                   "cluster",
                                   "colour",
                                   "data",
                                   "data-label",
                                   "data-on",
                                   "files-on",
                                   "for",
                                   "host-name",
                                   "in",
                                   "internal-disks",
                                   "keep-in",
                                   "keyboard",
                                   "keyring",
                                   "kernel-options",
                                   "language",
                                   "leave-out",
                                   "login",
                                   "login-keys",
                                   "menu-wait",
                                   "network",
                                   "new-host",
                                   "persistence",
                                   "progress",
                                   "prove",
                                   "release",
                                   "reports",
                                   "rules",
                                   "start-journal",
                                   "swap",
                                   "table",
                                   "then",
                                   "time-zone",
                                   "uefi-code",
                                   "wait",
                                   "why",
                                   "writes"};

static bool is_key(const char *name) {
    for (size_t i = 0; i < sizeof keys / sizeof keys[0]; i++)
        if (strcmp(keys[i], name) == 0) return true;
    return false;
}

static bool is_file(const char *path) {
    struct stat s;
    return stat(path, &s) == 0;
}

/* XDG Base Directory Specification: the user's, else that of all users. WILD_SATCHEL_DEFAULTS names another; empty, it
 * names none. @return false: there is none. `own`: out, the one that is written */
static bool find_file(char path[PATH_ROOM], char own[PATH_ROOM]) {
    const char *named = getenv("WILD_SATCHEL_DEFAULTS"), *config = getenv("XDG_CONFIG_HOME"), *home = getenv("HOME");
    const char *all = getenv("XDG_CONFIG_DIRS");
    own[0] = path[0] = '\0';
    if (named) (void)snprintf(own, PATH_ROOM, "%s", named);
    else if (config && config[0] == '/') (void)snprintf(own, PATH_ROOM, "%s/wild-satchel/defaults.json", config);
    else if (home && home[0]) (void)snprintf(own, PATH_ROOM, "%s/.config/wild-satchel/defaults.json", home);
    memcpy(path, own, PATH_ROOM);
    if (path[0] && is_file(path)) return true;
    if (named) return false;
    for (const char *p = all && all[0] ? all : "/etc/xdg"; *p;) {
        const size_t length = strcspn(p, ":");
        (void)snprintf(path, PATH_ROOM, "%.*s/wild-satchel/defaults.json", (int)length, p);
        if (length && is_file(path)) return true;
        p += length + (p[length] != '\0');
    }
    return false;
}

static enum ws_status bad(struct cli *cli, const char *path, const char *what, const char *which) {
    ws_fail(&cli->error, WS_E_FORMAT, "this site's defaults %s%s%s%s", what, which[0] ? ": \"" : "", which,
            which[0] ? "\"" : "");
    ws_fail_where(&cli->error, "%s", path);
    return ws_fail_next(&cli->error, "docs/defaults.md describes the file; WILD_SATCHEL_DEFAULTS= goes without it");
}

/* An object of options, each a text, a number or true. */
static enum ws_status check_options_of(struct cli *cli, const char *path, json_t *object) {
    const char *key;
    json_t *value;
    if (!json_is_object(object)) return bad(cli, path, "must hold options as an object", "");
    json_object_foreach(object, key, value) {
        if (!is_key(key)) return bad(cli, path, "have no such key", key);
        if (!json_is_string(value) && !json_is_integer(value) && !json_is_boolean(value))
            return bad(cli, path, "must have a text, a number or true there", key);
    }
    return WS_OK;
}

static enum ws_status load(struct cli *cli, const char *path, json_t **out) {
    struct ws_text text = {0};
    json_error_t where;
    enum ws_status status = cli_read_file(path, FILE_MOST, &text, &cli->error);
    if (status != WS_OK) return status;
    json_t *root = json_loadb(text.data ? text.data : "", text.length, JSON_REJECT_DUPLICATES, &where);
    ws_text_free(&text);
    const char *is = json_string_value(json_object_get(root, "format"));
    json_t *options = json_object_get(root, "options"), *of = json_object_get(root, "commands"), *one;
    const char *name;
    if (!root) {
        ws_fail(&cli->error, WS_E_FORMAT, "this site's defaults are no JSON: %s", where.text);
        ws_fail_where(&cli->error, "%s, line %d", path, where.line);
        status = ws_fail_next(&cli->error, "mend it, or remove it; WILD_SATCHEL_DEFAULTS= goes without it");
    }
    if (status == WS_OK && (!is || strcmp(is, format) != 0))
        status = bad(cli, path, "must say which format they are", "");
    if (status == WS_OK && json_integer_value(json_object_get(root, "version")) != 1)
        status = bad(cli, path, "are of another version", "");
    if (status == WS_OK && options) status = check_options_of(cli, path, options);
    if (status == WS_OK && of && !json_is_object(of)) status = bad(cli, path, "must hold commands as an object", "");
    json_object_foreach(of, name, one) {
        if (status == WS_OK && !cli_command(name)) status = bad(cli, path, "have no such command", name);
        if (status == WS_OK) status = check_options_of(cli, path, one);
    }
    if (status == WS_OK) *out = root;
    else json_decref(root);
    return status;
}

/* Those that were put in front of what was typed, with blanks around each. */
static char used[1024] = " ";

bool defaults_named(const struct ws_error *e) {
    char key[64];
    for (const char *p = used + 1; *p; p += strcspn(p, " ") + 1) {
        (void)snprintf(key, sizeof key, "%.*s", (int)strcspn(p, " "), p);
        if (strstr(e->what, key) || strstr(e->where, key)) return true;
    }
    return false;
}

/* "--persistence=4G" for each that this command takes. */
static enum ws_status add_words(struct cli *cli, const struct command *command, json_t *options,
                                struct defaults_words *with) {
    const char *key;
    json_t *value;
    json_object_foreach(options, key, value) {
        const bool known = options_find(command->options, key) || options_find(common_options, key);
        char *word = NULL;
        if (!known || json_is_false(value)) continue;
        const int n = json_is_string(value)    ? asprintf(&word, "--%s=%s", key, json_string_value(value))
                      : json_is_integer(value) ? asprintf(&word, "--%s=%lld", key, (long long)json_integer_value(value))
                                               : asprintf(&word, "--%s", key);
        char **more = n > 0 ? realloc(with->made, (with->count + 1) * sizeof *more) : NULL;
        if (!more) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for this site's defaults");
        with->made = more;
        with->made[with->count++] = word;
        if (strlen(used) + strlen(key) + 2 < sizeof used) strcat(strcat(used, key), " ");
    }
    return WS_OK;
}

enum ws_status defaults_before(struct cli *cli, const struct command *command, int argc, const char **argv,
                               struct defaults_words *with) {
    static char path[PATH_ROOM];
    char own[PATH_ROOM];
    json_t *root = NULL;
    enum ws_status status = WS_OK;
    const bool shows = command->run == run_defaults; /* that one shows what is wrong with them */
    if (!shows && find_file(path, own)) status = load(cli, path, &root);
    if (root) {
        status = add_words(cli, command, json_object_get(root, "options"), with);
        json_t *of = json_object_get(json_object_get(root, "commands"), command->name);
        if (status == WS_OK) status = add_words(cli, command, of, with);
        if (with->count) cli->defaults = path;
        json_decref(root);
    }
    with->argc = argc + (int)with->count;
    with->argv = calloc((size_t)with->argc + 1, sizeof *with->argv);
    if (!with->argv) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for this command's words");
    with->argv[0] = argv[0];
    for (size_t i = 0; i < with->count; i++) with->argv[1 + i] = with->made[i];
    for (int i = 1; i < argc; i++) with->argv[(int)with->count + i] = argv[i];
    return status;
}

void defaults_free(struct defaults_words *with) {
    for (size_t i = 0; i < with->count; i++) free(with->made[i]);
    free(with->made);
    free(with->argv);
    memset(with, 0, sizeof *with);
}

static void show_options(const struct cli *cli, const char *of, json_t *options) {
    const char *key;
    json_t *value;
    json_object_foreach(options, key, value) {
        char *text = json_is_string(value) ? strdup(json_string_value(value)) : json_dumps(value, JSON_ENCODE_ANY);
        say("  %s%s%s = %s%s%s\n", of, of[0] ? "." : "", key, ink(cli, INK_BOLD), text ? text : "",
            ink(cli, INK_PLAIN));
        free(text);
    }
}

static int show(struct cli *cli, const char *path, json_t *root) {
    const char *name;
    json_t *one, *of = json_object_get(root, "commands");
    if (cli->json && root) return cli_print_json(json_incref(root), EXIT_DONE);
    if (cli->json)
        return cli_print_json(cli_pack("{s:s, s:i, s:{}, s:{}}", "format", format, "version", 1, "options", "commands"),
                              EXIT_DONE);
    if (root) show_line(cli, INK_BOLD, "%s", path);
    show_options(cli, "", json_object_get(root, "options"));
    json_object_foreach(of, name, one) { show_options(cli, name, one); }
    if (root) show_result(cli, true, "These are used where a command has such an option and none is typed.");
    else show_result(cli, true, "There are none. `satchel defaults persistence=4G` makes the first, in %s.", path);
    return EXIT_DONE;
}

/* "persistence=4G", "prepare.prove=emulated-bios"; with nothing behind the sign it is taken out. */
static enum ws_status change(struct cli *cli, const char *word, json_t *root) {
    char command[32] = "", key[48];
    const size_t sign = strcspn(word, "="), dot = strcspn(word, ".");
    const char *name = dot < sign ? word + dot + 1 : word;
    if (dot < sign) (void)snprintf(command, sizeof command, "%.*s", (int)dot, word);
    (void)snprintf(key, sizeof key, "%.*s", (int)(word + sign - name), name);
    if (!word[sign])
        return ws_fail(&cli->error, WS_E_USAGE, "say what it is to be: %s=VALUE, or %s= for none", word, word);
    const struct command *of = cli_command(command);
    if (command[0] && !of) return ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a command", command);
    if (!is_key(key)) {
        ws_fail(&cli->error, WS_E_USAGE, "\"%s\" cannot be a default", key);
        return ws_fail_next(&cli->error, "docs/defaults.md lists what can; what names, confirms or forces cannot");
    }
    if (of && !options_find(of->options, key) && !options_find(common_options, key))
        return ws_fail(&cli->error, WS_E_USAGE, "`satchel %s` has no option --%s", command, key);
    json_t *all = json_object_get(root, "commands");
    if (command[0] && !json_object_get(all, command)) json_object_set_new(all, command, json_object());
    json_t *options = command[0] ? json_object_get(all, command) : json_object_get(root, "options");
    const char *value = word + sign + 1;
    const struct poptOption *option = NULL;
    for (size_t i = 0; commands[i].name && !option; i++) option = options_find(commands[i].options, key);
    const bool flag = option && (option->argInfo & POPT_ARG_MASK) == POPT_ARG_NONE;
    if (flag && value[0] && strcmp(value, "yes") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--%s takes no value: %s=yes, or %s=", key, key, key);
    if (!value[0]) (void)json_object_del(options, key);
    else json_object_set_new(options, key, flag ? json_true() : json_string(value));
    return WS_OK;
}

static enum ws_status store(struct cli *cli, const char *path, json_t *root) {
    struct ws_keep keep = {.format = format};
    cli_make_folders(path);
    char *text = json_dumps(root, JSON_INDENT(2) | JSON_PRESERVE_ORDER);
    if (!text) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for this site's defaults");
    enum ws_status status = ws_linux_keep(path, text, strlen(text), &keep, &cli->error);
    free(text);
    return status;
}

int run_defaults(struct cli *cli, const char *const word[]) {
    char path[PATH_ROOM], own[PATH_ROOM];
    json_t *root = NULL;
    enum ws_status status = WS_OK;
    int code = EXIT_DONE;
    const bool found = find_file(path, own);
    if (!own[0]) WS_GO(ws_fail(&cli->error, WS_E_NOTFOUND, "there is no place for defaults: HOME is not set"));
    if (found) WS_GO(load(cli, path, &root));
    if (word[0]) {
        if (!root) root = cli_pack("{s:s, s:i, s:{}, s:{}}", "format", format, "version", 1, "options", "commands");
        if (root && !json_object_get(root, "options")) json_object_set_new(root, "options", json_object());
        if (root && !json_object_get(root, "commands")) json_object_set_new(root, "commands", json_object());
        WS_GO(change(cli, word[0], root));
        WS_GO(store(cli, own, root));
    }
    code = show(cli, word[0] || !found ? own : path, root);
done:
    json_decref(root);
    return status == WS_OK ? code : cli_fail(cli);
}
