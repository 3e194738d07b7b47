/* common.c — options, ports, errors, documents: what all commands share. */
#include "cli/defaults.h"
#include "cli/secret.h"

#include "wild_satchel/port/linux.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

int cli_exit_code(enum ws_status status) {
    switch (status) {
    case WS_OK: return EXIT_DONE;
    case WS_E_DIFFERENT: return EXIT_NEGATIVE;
    case WS_E_USAGE: return EXIT_USAGE;
    case WS_E_REFUSED: return EXIT_REFUSED;
    case WS_E_CANCELLED: return EXIT_STOPPED;
    default: return EXIT_FAULT;
    }
}

void cli_put_document(const char *text) {
    size_t length = strlen(text);
    for (size_t i = 0; i < length;) {
        uint32_t code = 0;
        char one[5] = "";
        size_t n = ws_utf8_next(text + i, length - i, &code);
        if (n == 0) n = 1;
        memcpy(one, text + i, n);
        if (code >= 0x7f && !ws_is_visible(one)) printf("\\u%04x", (unsigned)code);
        else fwrite(one, 1, n, stdout);
        i += n;
    }
}

int cli_print_json(json_t *document, int exit_code) {
    char *text = document ? json_dumps(document, JSON_INDENT(2) | JSON_PRESERVE_ORDER) : NULL;
    if (text) {
        cli_put_document(text);
        putchar('\n');
    } else {
        note("satchel: the JSON document could not be made: out of memory\n");
        exit_code = EXIT_FAULT;
    }
    free(text);
    json_decref(document);
    return exit_code;
}

int cli_fail(struct cli *cli) {
    const struct ws_error *e = &cli->error;
    int code = cli_exit_code(e->status);
    if (cli->json)
        return cli_print_json(cli_pack("{s:{s:s, s:s, s:s, s:s, s:o}, s:i}", "error", "status",
                                       ws_status_name(e->status), "what", e->what, "where", e->where, "next", e->next,
                                       "ways", ways_json(e), "exit_code", code),
                              code);
    note_words(cli, 9, "%ssatchel:%s %s%s%s.", note_ink(cli, INK_BAD), note_ink(cli, INK_PLAIN), e->where,
               e->where[0] ? ": " : "", e->what);
    char next[WAYS_ROOM];
    if (e->next[0]) { /* a command is left in one line, to be pasted */
        ways_next(e, next);
        if (strstr(next, "satchel ")) note("         %s.\n", next);
        else note_words(cli, 9, "         %s.", next);
    }
    if (e->status == WS_E_USAGE && defaults_named(e))
        note("         It is among this site's defaults: %s.\n", cli->defaults);
    return code;
}

enum ws_status cli_open_port(struct cli *cli) {
    if (cli->port) return WS_OK; /* by an earlier step of the same command */
    if (!cli->bench_folder || !cli->bench_folder[0]) return ws_linux_open(&cli->port, &cli->error);
    WS_TRY(ws_bench_open(cli->bench_folder, &cli->bench, &cli->error));
    return ws_sim_port(cli->bench, &cli->port, &cli->error);
}

enum ws_status cli_find_drive(struct cli *cli, const char *word, struct ws_drive_facts *facts) {
    WS_TRY(cli_is_no_other(cli, word, "drive"));
    return ws_drive_find(cli->port, word, facts, &cli->error);
}

/* A file of that very size is taken as it is. */
static bool is_there(const char *path, uint64_t size) {
    struct stat s;
    if (strncmp(path, "file:", 5) == 0) path += 5;
    return stat(path, &s) == 0 && S_ISREG(s.st_mode) && (uint64_t)s.st_size == size;
}

enum ws_status cli_find_or_make(struct cli *cli, const char *word, const char *make, struct ws_drive_facts *facts,
                                bool *made) {
    uint64_t size = 0;
    *made = false;
    if (make) {
        if (ws_size_parse(make, &size, &cli->error) != WS_OK) return ws_fail_where(&cli->error, "--make");
        size = size / 512 * 512;
        if (cli->bench) return ws_fail(&cli->error, WS_E_USAGE, "--make makes image files, not drives of a bench");
        *made = !is_there(word, size);
        if (*made) WS_TRY(ws_linux_make_file(word, size, &cli->error));
    }
    return cli_find_drive(cli, word, facts);
}

/* What would be lost, from the drive itself. */
static enum ws_status tell_loss(struct cli *cli, const struct ws_drive_facts *f, struct ws_drive *drive) {
    struct ws_contents *c = malloc(sizeof *c);
    struct ws_source *source = NULL;
    char size[48];
    if (!c) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a drive's contents");
    enum ws_status status = ws_source_drive(drive, &source, &cli->error);
    if (status == WS_OK) status = ws_contents_look(source, f->logical_sector, false, c, &cli->error);
    ws_source_close(source);
    if (status == WS_OK)
        note_words(cli, 2, "\n  Everything on %s (%s %s, %s) will be lost: %s.", f->short_name, f->model, f->serial,
                   ws_size_both(f->size, size, sizeof size), c->summary);
    free(c);
    return status;
}

enum ws_status cli_ask(struct cli *cli, const struct ws_drive_facts *f, struct ws_drive *drive, const char *what,
                       char *answer, size_t room) {
    if (drive) WS_TRY(tell_loss(cli, f, drive));
    else {
        note("\n");
        note_words(cli, 2, "  The system on %s (%s%s%s) %s.", f->short_name, f->model, f->serial[0] ? " " : "",
                   f->serial, what);
    }
    WS_TRY(cli_ask_for(cli, "Type its name to go on", f->short_name));
    (void)snprintf(answer, room, "%s", f->short_name);
    return WS_OK;
}

bool cli_read_answer(char *out, size_t room) {
    out[0] = '\0';
    if (!fgets(out, (int)room, stdin)) return false;
    char *end = out + strlen(out);
    while (end > out && strchr(" \t\r\n", end[-1])) *--end = '\0';
    const size_t blanks = strspn(out, " \t");
    memmove(out, out + blanks, strlen(out + blanks) + 1);
    return true;
}

enum ws_status cli_ask_for(struct cli *cli, const char *question, const char *wanted) {
    char answer[128];
    for (int tries = 0; tries < 2; tries++) {
        note("  %s: ", question);
        (void)fflush(stderr);
        const bool came = cli_read_answer(answer, sizeof answer);
        if (stop_asked()) return ws_fail(&cli->error, WS_E_CANCELLED, "stopped as asked; nothing was written");
        if (strcmp(answer, wanted) == 0) return WS_OK;
        if (!came || !answer[0]) break;
        if (!tries) note("  That is \"%s\", not \"%s\"; once more.\n", answer, wanted);
    }
    ws_fail(&cli->error, WS_E_REFUSED, "it was not confirmed; nothing was written");
    return ws_fail_next(&cli->error, "the words were: %s", wanted);
}

enum ws_status cli_read_file(const char *path, size_t most, struct ws_text *text, struct ws_error *error) {
    struct ws_source *source = NULL;
    char *bytes = NULL;
    size_t length = 0;
    WS_TRY(ws_source_file(path, &source, error));
    enum ws_status status = ws_source_load(source, most, &bytes, &length, error);
    ws_source_close(source);
    if (status != WS_OK) {
        ws_fail_where(error, "%s", path);
        return status;
    }
    ws_text_add(text, bytes, length);
    free(bytes);
    return ws_text_status(text, error);
}

enum ws_status cli_open_image(struct cli *cli, const char *path, enum ws_kind kind, struct ws_source **source,
                              struct ws_packed_facts *packed) {
    WS_TRY(cli_is_no_other(cli, path, "image"));
    busy_begin(cli, "opening %.100s, unpacked where it is packed", path);
    enum ws_status status = ws_kind_is_system(kind) ? ws_linux_open_root(path, source, packed, &cli->error)
                                                    : ws_linux_open_medium(path, source, packed, &cli->error);
    busy_end();
    return status;
}

int64_t cli_touched_at(const char *path) {
    struct stat s;
    return stat(path, &s) == 0 ? (int64_t)s.st_ctim.tv_sec * 1000 + s.st_ctim.tv_nsec / 1000000 : 0;
}

void cli_make_folders(const char *path) {
    char folder[1024];
    for (const char *p = path; *p; p++) {
        if (*p != '/' || p == path) continue;
        (void)snprintf(folder, sizeof folder, "%.*s", (int)(p - path), path);
        (void)mkdir(folder, 0777);
    }
}

void cli_never(struct cli_never *never, const char *path) {
    if (path && path[0] && never->count < CLI_NEVER_MOST) never->path[never->count++] = path;
}

enum ws_status cli_keep(struct cli *cli, const char *path, const char *bytes, size_t length, const char *format,
                        bool over, const struct cli_never *never) {
    struct ws_keep keep = {format, over, never ? never->path : NULL, never ? never->count : 0};
    if (strcmp(path, "-") != 0) return ws_linux_keep(path, bytes, length, &keep, &cli->error);
    if (fwrite(bytes, 1, length, stdout) == length && fflush(stdout) == 0) return WS_OK;
    return ws_fail(&cli->error, WS_E_WRITE, "standard output cannot be written: %s", strerror(errno));
}

/* An input touched since it was planned is read once more before anything else: the check beside the writing would find
 * a change too, but only when the drive's old contents are gone; and a drive is not blamed for a changed image. */
static enum ws_status check_touched(struct cli *cli, const struct cli_plan *p) {
    bool touched = false;
    for (size_t i = 0; i < ws_request_inputs(ws_plan_request(p->plan)); i++) {
        const struct ws_input *input = ws_request_input(ws_plan_request(p->plan), i);
        touched |= input->touched_at && cli_touched_at(input->path) != input->touched_at; /* a moved one always is */
    }
    enum ws_status status = touched ? ws_build_check_inputs(p->build, cli->port, &cli->error) : WS_OK;
    if (status == WS_E_FORMAT)
        ws_fail_hint(&cli->error, WS_HINT_PLAN_AGAIN, "", "make a new plan from it as it is; nothing was written");
    return status;
}

bool cli_is_locked(const struct ws_plan *plan) {
    size_t count;
    const struct ws_volume *v = ws_plan_volumes(plan, &count);
    bool locked = false;
    for (size_t i = 0; i < count; i++) locked |= v[i].locked;
    return locked;
}

enum ws_status cli_open_now(struct cli *cli, const struct ws_drive_facts *facts, struct ws_drive **drive,
                            struct ws_source **now) {
    WS_TRY(cli->port->ops->open(cli->port, facts->id, WS_OPEN_READ, drive, &cli->error));
    return ws_source_drive(*drive, now, &cli->error);
}

enum ws_status cli_find_planned(struct cli *cli, const struct ws_plan_drive *planned, struct ws_drive_facts *facts) {
    if (cli_find_drive(cli, planned->name, facts) == WS_OK) return WS_OK;
    if (cli_find_drive(cli, planned->seen_at, facts) == WS_OK && ws_drive_alike(facts, planned->name)) return WS_OK;
    ws_fail(&cli->error, WS_E_REFUSED, "the planned drive is not here: %s, serial %s", planned->name,
            planned->serial[0] ? planned->serial : "unknown");
    return ws_fail_next(&cli->error, "plug it in, or make a plan for another drive; nothing was written");
}

enum ws_status cli_load_plan(struct cli *cli, const char *path, const char *moved, struct cli_plan *p) {
    struct ws_text text = {0};
    struct ws_plan *read = NULL;
    struct ws_packed_facts packed;
    enum ws_status status;
    memset(p, 0, sizeof *p);
    WS_GO(cli_read_document(cli, path, 4 << 20, "plan", &text));
    status = ws_plan_from_json(text.data ? text.data : "", text.length, &read, &cli->error);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", path);
        goto done;
    }
    if (moved) WS_GO(ws_plan_moved(read, moved, &cli->error));
    const struct ws_input *input = ws_plan_request(read)->input;
    struct ws_input image = input[WS_INPUT_IMAGE];
    if (image.path[0] && (image.is_drive || ws_plan_request(read)->kind == WS_KIND_TWIN))
        WS_GO(cli_open_original(cli, image.path, &image, &p->input[WS_INPUT_IMAGE]));
    else if (image.path[0]) {
        status = cli_open_image(cli, input[WS_INPUT_IMAGE].path, ws_plan_request(read)->kind, &p->input[WS_INPUT_IMAGE],
                                &packed);
        if (status == WS_E_NOTFOUND) ws_fail_next(&cli->error, "say where it is now: --image FILE");
        if (status != WS_OK) goto done;
    }
    if (input[WS_INPUT_OVERLAY].path[0])
        WS_GO(ws_linux_open_overlay(input[WS_INPUT_OVERLAY].path, &p->input[WS_INPUT_OVERLAY], &cli->error));
    for (size_t i = 0; i < ws_plan_request(read)->additions; i++)
        WS_GO(cli_open_addition(cli, &ws_plan_request(read)->addition[i], &p->input[WS_INPUTS + i]));
    const struct ws_source *sources[WS_INPUTS_MOST];
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) sources[i] = p->input[i];
    if (ws_plan_is_change(read)) {
        struct ws_drive_facts facts;
        WS_GO(cli_find_planned(cli, ws_plan_drive(read), &facts));
        WS_GO(cli_open_now(cli, &facts, &p->drive, &p->now));
    }
    const char *passphrase = NULL;
    if (p->now && cli_is_locked(read)) WS_GO(secret_passphrase(cli, &passphrase));
    busy_begin(cli, "working the plan out again");
    status = ws_build_again(read, sources, p->now, passphrase, &p->build, &cli->error);
    busy_end();
    secret_clear();
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", path);
        goto done;
    }
    p->plan = ws_build_plan(p->build);
    status = check_touched(cli, p);
done:
    ws_text_free(&text);
    ws_plan_free(read);
    if (status != WS_OK) cli_free_plan(p);
    return status;
}

void cli_free_plan(struct cli_plan *p) {
    ws_build_close(p->build);
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) ws_source_close(p->input[i]);
    ws_source_close(p->now);
    if (p->drive) p->drive->ops->close(p->drive);
    memset(p, 0, sizeof *p);
}

json_t *cli_findings_json(const struct ws_findings *f) {
    json_t *list = json_array();
    for (size_t i = 0; i < f->count; i++)
        json_array_append_new(
            list, cli_pack("{s:s, s:s}", "weight", ws_weight_name(f->list[i].weight), "text", f->list[i].text));
    return list;
}

json_t *cli_hash_json(const char *hex) { return hex && hex[0] ? json_string(hex) : json_null(); }
