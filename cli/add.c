/* add.c — options of `satchel plan` for files of the user's own, and how those are opened. */
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

static struct { const char **files, **keys, **networks, **scripts; } typed;

const struct poptOption addition_options[] = {
    {"add", 0, POPT_ARG_ARGV, &typed.files, 0,
     "with kind system: a file to put at PATH, or a folder or archive to lay into it (/); may be repeated",
     "FILE[:PATH]"},
    {"login-keys", 0, POPT_ARG_ARGV, &typed.keys, 0,
     "with kind system: public keys by which an account (the first) may log in over the network", "FILE[:ACCOUNT]"},
    {"network", 0, POPT_ARG_ARGV, &typed.networks, 0,
     "with kind system: settings of a network, in the form of the root's own program for that; may be repeated",
     "FILE"},
    {"first-start", 0, POPT_ARG_ARGV, &typed.scripts, 0,
     "with kind system: a script that the first start runs once, as root; may be repeated", "FILE"},
    POPT_TABLEEND};

static enum ws_status next_addition(struct cli *cli, struct ws_request *r, enum ws_added what, struct ws_addition **a) {
    if (r->additions == WS_ADDED_MOST) {
        ws_fail(&cli->error, WS_E_USAGE, "at most %d files and folders are added", WS_ADDED_MOST);
        return ws_fail_next(&cli->error, "put them into one folder, and add that");
    }
    *a = &r->addition[r->additions++];
    memset(*a, 0, sizeof **a);
    (*a)->what = what;
    return WS_OK;
}

/* "FILE:TO": a file may have a colon in its name; what stands behind the last one must look like a place, or it is a
 * part of the name. */
static enum ws_status split(struct cli *cli, const char *text, bool place, char path[4096], char to[WS_ADDED_TO]) {
    const char *colon = strrchr(text, ':');
    struct stat s;
    if (colon && stat(text, &s) == 0) colon = NULL;
    size_t n = colon ? (size_t)(colon - text) : strlen(text);
    if (colon && place && colon[1] != '/') {
        ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is no place in a system", colon + 1);
        return ws_fail_next(&cli->error, "name it from the top, as the running system will see it: FILE:/etc/motd");
    }
    if (n >= 4096 || (colon && strlen(colon + 1) >= WS_ADDED_TO))
        return ws_fail(&cli->error, WS_E_USAGE, "a path is longer than what can be added");
    (void)snprintf(path, 4096, "%.*s", (int)n, text);
    (void)snprintf(to, WS_ADDED_TO, "%s", colon ? colon + 1 : "");
    return WS_OK;
}

static bool is_file_as_it_is(const char *path) {
    static const char *const archives[] = {".tar",     ".tar.gz",  ".tgz",  ".tar.xz",
                                           ".tar.zst", ".tar.bz2", ".cpio", ".zip"};
    size_t n = strlen(path);
    for (size_t i = 0; i < sizeof archives / sizeof archives[0]; i++) {
        size_t e = strlen(archives[i]);
        if (n > e && strcmp(path + n - e, archives[i]) == 0) return false;
    }
    return true;
}

/* A folder, or an archive that is given no place of its own, is laid in; everything else is a file. */
static enum ws_status take_file(struct cli *cli, const char *text, struct ws_request *r) {
    struct ws_addition *a = NULL;
    char path[4096];
    struct stat s;
    WS_TRY(next_addition(cli, r, WS_ADDED_FILE, &a));
    WS_TRY(split(cli, text, true, path, a->to));
    if (stat(path, &s) != 0) {
        ws_fail(&cli->error, WS_E_NOTFOUND, "this file is not there");
        ws_fail_where(&cli->error, "%s", path);
        return ws_fail_next(&cli->error,
                            "name one that is; its place in the system stands behind a colon: FILE:/etc/motd");
    }
    bool folder = S_ISDIR(s.st_mode);
    if (folder || (!is_file_as_it_is(path) && !a->to[0])) a->what = WS_ADDED_FOLDER;
    if (a->what == WS_ADDED_FOLDER && !a->to[0]) (void)strcpy(a->to, "/");
    size_t n = strlen(a->to);
    if (a->what == WS_ADDED_FILE && n && a->to[n - 1] == '/') { /* "into this folder" */
        const char *slash = strrchr(path, '/');
        (void)snprintf(a->to + n, sizeof a->to - n, "%s", slash ? slash + 1 : path);
    } else if (n > 1 && a->to[n - 1] == '/') {
        a->to[n - 1] = '\0';
    }
    if (!a->to[0]) {
        ws_fail(&cli->error, WS_E_USAGE, "where this file is to stand is not said");
        ws_fail_where(&cli->error, "%s", path);
        return ws_fail_next(&cli->error, "say so behind a colon: FILE:/etc/motd");
    }
    a->runs = a->what == WS_ADDED_FILE && (s.st_mode & 0111) != 0;
    a->file.of_files = folder;
    return cli_take_path(cli, path, &a->file);
}

static const char *first_account(const struct ws_owner *o) { return o->accounts ? o->account[0].name : "root"; }

static enum ws_status take_keys(struct cli *cli, const char *text, struct ws_request *r) {
    struct ws_addition *a = NULL;
    char path[4096];
    WS_TRY(next_addition(cli, r, WS_ADDED_KEYS, &a));
    WS_TRY(split(cli, text, false, path, a->to));
    if (!a->to[0]) (void)snprintf(a->to, sizeof a->to, "%s", first_account(&r->owner));
    return cli_take_path(cli, path, &a->file);
}

static enum ws_status take_plain(struct cli *cli, const char *path, enum ws_added what, struct ws_request *r) {
    struct ws_addition *a = NULL;
    WS_TRY(next_addition(cli, r, what, &a));
    return cli_take_path(cli, path, &a->file);
}

enum ws_status cli_read_additions(struct cli *cli, struct ws_request *r) {
    if (typed.files || typed.keys || typed.networks || typed.scripts) r->additions = 0;
    for (const char **p = typed.files; p && *p; p++) WS_TRY(take_file(cli, *p, r));
    for (const char **p = typed.keys; p && *p; p++) WS_TRY(take_keys(cli, *p, r));
    for (const char **p = typed.networks; p && *p; p++) WS_TRY(take_plain(cli, *p, WS_ADDED_NETWORK, r));
    for (const char **p = typed.scripts; p && *p; p++) WS_TRY(take_plain(cli, *p, WS_ADDED_FIRST_START, r));
    return WS_OK;
}

enum ws_status cli_open_addition(struct cli *cli, const struct ws_addition *a, struct ws_source **source) {
    struct ws_packed_facts packed;
    if (a->what == WS_ADDED_FOLDER) return cli_open_image(cli, a->file.path, WS_KIND_SYSTEM, source, &packed);
    return ws_source_file(a->file.path, source, &cli->error);
}
