/* history.c — runs, in SQLite: many may write at once, and what was noted stays when one is killed. */
#include "cli/history.h"

#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>

enum { PATH_ROOM = 1024, WAIT_MS = 10000, SHOWN = 40 };
/* user_version counts the forms of this table; a later tool takes an older one over. */
static const char schema[] =
    "CREATE TABLE IF NOT EXISTS run (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, command TEXT NOT NULL, "
    "drive TEXT NOT NULL, serial TEXT NOT NULL, place TEXT NOT NULL, size_bytes INTEGER NOT NULL, "
    "kind TEXT, title TEXT, image TEXT, image_sha256 TEXT, layout_sha256 TEXT, plan TEXT, "
    "good INTEGER NOT NULL, verdict TEXT NOT NULL);"
    "CREATE INDEX IF NOT EXISTS run_of_drive ON run (drive, at);"
    "CREATE TABLE IF NOT EXISTS image (sha256 TEXT PRIMARY KEY, at INTEGER NOT NULL, path TEXT NOT NULL, "
    "verdict TEXT NOT NULL);"
    "PRAGMA user_version = 2;";

/* XDG Base Directory Specification; of a simulated bench, with it. WILD_SATCHEL_HISTORY names another, empty: none.
 * @return false for none */
static bool find_place(const struct cli *cli, char path[PATH_ROOM]) {
    const char *named = getenv("WILD_SATCHEL_HISTORY"), *data = getenv("XDG_DATA_HOME"), *home = getenv("HOME");
    int n = 0;
    if (named) n = snprintf(path, PATH_ROOM, "%s", named);
    else if (cli->bench) n = snprintf(path, PATH_ROOM, "%s/history.db", cli->bench_folder);
    else if (data && data[0] == '/') n = snprintf(path, PATH_ROOM, "%s/wild-satchel/history.db", data);
    else if (home && home[0]) n = snprintf(path, PATH_ROOM, "%s/.local/share/wild-satchel/history.db", home);
    return n > 0 && n < PATH_ROOM;
}

static enum ws_status failed(struct cli *cli, sqlite3 *db, const char *path) {
    ws_fail(&cli->error, WS_E_WRITE, "the history cannot be used: %s", db ? sqlite3_errmsg(db) : "out of memory");
    return ws_fail_where(&cli->error, "%s", path);
}

static enum ws_status open_it(struct cli *cli, const char *path, bool writes, sqlite3 **out) {
    sqlite3 *db = NULL;
    if (writes) cli_make_folders(path);
    const int flags = writes ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE : SQLITE_OPEN_READONLY;
    int rc = sqlite3_open_v2(path, &db, flags, NULL);
    if (rc == SQLITE_OK) rc = sqlite3_busy_timeout(db, WAIT_MS);
    /* Readers are not in the way of a writer then, nor in each other's. */
    if (rc == SQLITE_OK && writes) rc = sqlite3_exec(db, "PRAGMA journal_mode = WAL;", NULL, NULL, NULL);
    if (rc == SQLITE_OK && writes) rc = sqlite3_exec(db, schema, NULL, NULL, NULL);
    if (rc != SQLITE_OK) {
        enum ws_status status = failed(cli, db, path);
        (void)sqlite3_close(db);
        return status;
    }
    *out = db;
    return WS_OK;
}

static void bind(sqlite3_stmt *row, int at, const char *text) {
    if (text && text[0]) (void)sqlite3_bind_text(row, at, text, -1, SQLITE_TRANSIENT);
}

static enum ws_status add_row(struct cli *cli, sqlite3 *db, const char *path, const char *command,
                              const struct ws_drive_facts *f, const struct ws_plan *plan, const char *plan_path,
                              bool good, const char *verdict) {
    static const char insert[] = "INSERT INTO run (at, command, drive, serial, place, size_bytes, kind, title, image, "
                                 "image_sha256, layout_sha256, plan, good, verdict) "
                                 "VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?)";
    sqlite3_stmt *row = NULL;
    char *real = plan_path ? realpath(plan_path, NULL) : NULL;
    if (sqlite3_prepare_v2(db, insert, -1, &row, NULL) != SQLITE_OK) {
        free(real);
        return failed(cli, db, path);
    }
    (void)sqlite3_bind_int64(row, 1, cli->port->ops->wall_clock(cli->port));
    (void)sqlite3_bind_text(row, 2, command, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(row, 3, f->short_name, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(row, 4, f->serial, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(row, 5, f->place, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(row, 6, (sqlite3_int64)f->size);
    if (plan) {
        const struct ws_input *image = &ws_plan_request(plan)->input[WS_INPUT_IMAGE];
        bind(row, 7, ws_kind_name(ws_plan_facts(plan)->kind));
        bind(row, 8, ws_plan_facts(plan)->title);
        bind(row, 9, image->path);
        bind(row, 10, image->sha256);
        bind(row, 11, ws_plan_facts(plan)->fingerprint);
        bind(row, 12, real ? real : plan_path);
    }
    (void)sqlite3_bind_int(row, 13, good);
    (void)sqlite3_bind_text(row, 14, verdict, -1, SQLITE_STATIC);
    const bool done = sqlite3_step(row) == SQLITE_DONE;
    enum ws_status status = done ? WS_OK : failed(cli, db, path);
    (void)sqlite3_finalize(row);
    free(real);
    return status;
}

void history_note(struct cli *cli, const char *command, const struct ws_drive_facts *facts, const struct ws_plan *plan,
                  const char *plan_path, bool good, const char *verdict) {
    char path[PATH_ROOM];
    sqlite3 *db = NULL;
    const struct ws_error kept = cli->error;
    if (!find_place(cli, path)) return;
    enum ws_status status = open_it(cli, path, true, &db);
    if (status == WS_OK) status = add_row(cli, db, path, command, facts, plan, plan_path, good, verdict);
    if (status != WS_OK && !cli->json) note("  not noted in the history: %s: %s\n", path, cli->error.what);
    (void)sqlite3_close(db);
    cli->error = kept;
}

void history_note_image(struct cli *cli, const char *sha256, const char *image, const char *verdict) {
    static const char insert[] = "INSERT OR REPLACE INTO image (sha256, at, path, verdict) VALUES (?,?,?,?)";
    char path[PATH_ROOM];
    sqlite3 *db = NULL;
    sqlite3_stmt *row = NULL;
    const struct ws_error kept = cli->error;
    if (!find_place(cli, path)) return;
    enum ws_status status = cli_open_port(cli);
    if (status == WS_OK) status = open_it(cli, path, true, &db);
    if (status == WS_OK && sqlite3_prepare_v2(db, insert, -1, &row, NULL) == SQLITE_OK) {
        (void)sqlite3_bind_text(row, 1, sha256, -1, SQLITE_STATIC);
        (void)sqlite3_bind_int64(row, 2, cli->port->ops->wall_clock(cli->port));
        (void)sqlite3_bind_text(row, 3, image, -1, SQLITE_STATIC);
        (void)sqlite3_bind_text(row, 4, verdict, -1, SQLITE_STATIC);
        if (sqlite3_step(row) != SQLITE_DONE) status = failed(cli, db, path);
    }
    if (status != WS_OK && !cli->json) note("  not noted in the history: %s: %s\n", path, cli->error.what);
    (void)sqlite3_finalize(row);
    (void)sqlite3_close(db);
    cli->error = kept;
}

static const char *text_of(sqlite3_stmt *row, int column) {
    const unsigned char *text = sqlite3_column_text(row, column);
    return text ? (const char *)text : "";
}

static json_t *row_json(sqlite3_stmt *row) {
    static const char *const keys[] = {"kind", "title", "image", "image_sha256", "layout_sha256", "plan"};
    json_t *one = cli_pack("{s:I, s:s, s:s, s:s, s:s, s:I, s:b, s:s}", "at", (json_int_t)sqlite3_column_int64(row, 0),
                           "command", text_of(row, 1), "drive", text_of(row, 2), "serial", text_of(row, 3), "place",
                           text_of(row, 4), "size_bytes", (json_int_t)sqlite3_column_int64(row, 5), "good",
                           sqlite3_column_int(row, 12), "verdict", text_of(row, 13));
    for (int i = 0; i < 6; i++)
        json_object_set_new(one, keys[i], text_of(row, 6 + i)[0] ? cli_text(text_of(row, 6 + i)) : json_null());
    return one;
}

static void show_row_of(const struct cli *cli, sqlite3_stmt *row) {
    char when[24] = "";
    time_t at = (time_t)sqlite3_column_int64(row, 0);
    struct tm day;
    if (localtime_r(&at, &day)) (void)strftime(when, sizeof when, "%Y-%m-%d %H:%M", &day);
    const bool good = sqlite3_column_int(row, 12) != 0;
    show_row(cli, 52, "%-16s  %-22s %-8s %s%s%s%s%s", when, text_of(row, 2), text_of(row, 1),
             ink(cli, good ? INK_GOOD : INK_BAD), text_of(row, 13), ink(cli, INK_PLAIN),
             text_of(row, 7)[0] ? " · " : "", text_of(row, 7));
}

bool history_renewed(const struct ws_passport_event *event, size_t count) {
    for (size_t i = 0; i < count; i++) {
        if (strcmp(event[i].what, "keep") == 0 && event[i].good && strcmp(event[i].verdict, HISTORY_RENEWED) == 0)
            return true;
        if (strcmp(event[i].what, "build") == 0 || strcmp(event[i].what, "prepare") == 0) return false;
    }
    return false;
}

size_t history_of(struct cli *cli, const struct ws_drive_facts *facts, struct ws_passport_event *event, size_t most,
                  char plan[PATH_ROOM]) {
    static const char select[] =
        "SELECT at, command, good, verdict, plan FROM run WHERE drive = ?1 ORDER BY at DESC, id DESC";
    char path[PATH_ROOM];
    struct stat s;
    sqlite3 *db = NULL;
    sqlite3_stmt *row = NULL;
    size_t count = 0;
    const struct ws_error kept = cli->error;
    plan[0] = '\0';
    if (!find_place(cli, path) || stat(path, &s) != 0 || open_it(cli, path, false, &db) != WS_OK) {
        cli->error = kept;
        return 0;
    }
    if (sqlite3_prepare_v2(db, select, -1, &row, NULL) == SQLITE_OK) {
        (void)sqlite3_bind_text(row, 1, facts->short_name, -1, SQLITE_STATIC);
        while (count < most && sqlite3_step(row) == SQLITE_ROW) {
            struct ws_passport_event *e = &event[count++];
            *e =
                (struct ws_passport_event){.at = sqlite3_column_int64(row, 0), .good = sqlite3_column_int(row, 2) != 0};
            ws_visible(text_of(row, 1), e->what, sizeof e->what);
            ws_visible(text_of(row, 3), e->verdict, sizeof e->verdict);
            if (!plan[0] && e->good && !history_renewed(event, count))
                (void)snprintf(plan, PATH_ROOM, "%s", text_of(row, 4));
        }
    }
    (void)sqlite3_finalize(row);
    (void)sqlite3_close(db);
    return count;
}

bool history_of_image(struct cli *cli, const char *sha256, char verdict[300]) {
    char path[PATH_ROOM];
    struct stat s;
    sqlite3 *db = NULL;
    sqlite3_stmt *row = NULL;
    bool found = false;
    const struct ws_error kept = cli->error;
    if (!sha256[0] || !find_place(cli, path) || stat(path, &s) != 0 || open_it(cli, path, false, &db) != WS_OK) {
        cli->error = kept;
        return false;
    }
    /* a history of an earlier form has no such table */
    if (sqlite3_prepare_v2(db, "SELECT verdict FROM image WHERE sha256 = ?1", -1, &row, NULL) == SQLITE_OK) {
        (void)sqlite3_bind_text(row, 1, sha256, -1, SQLITE_STATIC);
        found = sqlite3_step(row) == SQLITE_ROW;
        if (found) ws_visible(text_of(row, 0), verdict, 300);
    }
    (void)sqlite3_finalize(row);
    (void)sqlite3_close(db);
    return found;
}

int history_show(struct cli *cli, const char *drive) {
    static const char select[] =
        "SELECT at, command, drive, serial, place, size_bytes, kind, title, image, image_sha256, layout_sha256, plan, "
        "good, verdict FROM run WHERE ?1 = '' OR drive = ?1 OR serial = ?1 ORDER BY at DESC, id DESC";
    char path[PATH_ROOM];
    struct stat s;
    sqlite3 *db = NULL;
    sqlite3_stmt *row = NULL;
    size_t count = 0;
    json_t *list = cli->json ? json_array() : NULL;
    enum ws_status status = WS_OK;
    const bool any = find_place(cli, path) && stat(path, &s) == 0;
    if (any) WS_GO(open_it(cli, path, false, &db));
    if (any && sqlite3_prepare_v2(db, select, -1, &row, NULL) != SQLITE_OK) WS_GO(failed(cli, db, path));
    if (any) (void)sqlite3_bind_text(row, 1, drive ? drive : "", -1, SQLITE_STATIC);
    if (!list && any)
        say("%s%-16s  %-22s %-8s %s%s\n", ink(cli, INK_DIM), "when", "drive", "done", "verdict", ink(cli, INK_PLAIN));
    while (any && sqlite3_step(row) == SQLITE_ROW) {
        count++;
        if (list) json_array_append_new(list, row_json(row));
        else if (count <= SHOWN) show_row_of(cli, row);
    }
    if (list) (void)cli_print_json(cli_pack("{s:s, s:o}", "format", "wild-satchel-history", "runs", list), EXIT_DONE);
    else if (!count) show_result(cli, true, "Nothing is noted%s%s yet.", drive ? " of " : "", drive ? drive : "");
    else
        show_result(cli, true, "%zu run%s, noted in %s.%s", count, count == 1 ? "" : "s", path,
                    count > SHOWN ? " The latest 40 are shown; --json has all." : "");
done:
    (void)sqlite3_finalize(row);
    (void)sqlite3_close(db);
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
