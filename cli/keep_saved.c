/* keep_saved.c — satchel keep save, restore: what a drive remembers in an archive, and put back from one. */
#include "cli/history.h"
#include "cli/keep.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <string.h>

static json_t *saved_json(const struct ws_saved_facts *f) {
    return cli_pack("{s:s, s:b, s:s, s:I, s:I, s:I, s:I, s:I, s:s}", "family", f->family, "whole", f->whole, "label",
                    f->label, "saved_at", (json_int_t)f->saved_at, "files", (json_int_t)f->files, "bytes",
                    (json_int_t)f->bytes, "left_out", (json_int_t)f->left_out, "lost", (json_int_t)f->lost, "sha256",
                    f->sha256);
}

/* Of a damaged drive; the archive has all of it. */
static void show_lost(const struct cli *cli, const struct keeping *k) {
    enum { SHOWN = 12 };
    const struct ws_findings *lost = ws_kept_lost(k->kept);
    char things[64];
    if (!keep_asked.rescue) return;
    if (!lost->count) show_field(cli, "Lost", "%snothing%s", ink(cli, INK_GOOD), ink(cli, INK_PLAIN));
    else
        show_field(cli, "Lost", "%s%s that could not be read%s, listed in the archive as lost.txt", ink(cli, INK_WARN),
                   show_count(lost->count, "thing", things), ink(cli, INK_PLAIN));
    for (size_t i = 0; i < lost->count && i < SHOWN; i++) show_row(cli, 16, "                %s", lost->list[i].text);
    if (lost->count > SHOWN) say("                and %zu more\n", lost->count - SHOWN);
}

enum ws_status keep_save(struct keeping *k) {
    struct cli *cli = k->cli;
    const char *to = keep_asked.to;
    struct ws_linux_out *out = NULL;
    struct ws_saved_facts f;
    const char *never[] = {k->facts.id};
    const struct ws_keep keep = {.over = keep_asked.over != 0, .never = never, .nevers = 1};
    char size[32];
    if (!to) {
        ws_fail(&cli->error, WS_E_USAGE, "say where it is to be saved: --to FILE");
        return ws_fail_next(&cli->error, "--to %.40s.kept", k->facts.short_name);
    }
    if (strcmp(to, "-") == 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--to names a file: it is made whole, or not at all");
    WS_TRY(cli_check_idle(cli, &k->facts));
    WS_TRY(keep_open(k, false));
    WS_TRY(ws_linux_out_open(to, &keep, &out, &cli->error));
    k->meter = (struct meter){.cli = cli, .drive = k->facts.short_name};
    stop_listen();
    enum ws_status status = ws_kept_save(k->kept, cli->port, ws_linux_out_put, out, keep_tell, k, &f, &cli->error);
    meter_end(&k->meter);
    struct ws_error kept = cli->error;
    enum ws_status closed = ws_linux_out_close(out, status == WS_OK, &cli->error);
    if (status != WS_OK) cli->error = kept;
    else status = closed;
    WS_TRY(status);
    history_note(cli, "keep", &k->facts, NULL, NULL, true, "saved");
    if (cli->json) {
        (void)cli_print_json(cli_pack("{s:s, s:s, s:s, s:o}", "format", "wild-satchel-kept-saved", "drive",
                                      k->facts.short_name, "file", to, "state", saved_json(&f)),
                             EXIT_DONE);
        return WS_OK;
    }
    show_field(cli, "Saved", "%s in %llu %s", ws_size_counted(f.bytes, size, sizeof size), (unsigned long long)f.files,
               f.files == 1 ? "file or other name" : "files and other names");
    if (f.left_out)
        show_field(cli, "Left out", "%llu sockets, which programs make anew", (unsigned long long)f.left_out);
    show_lost(cli, k);
    show_field(cli, "SHA-256", "%s (over names, attributes and contents)", f.sha256);
    show_result(cli, true, "What %s remembers is saved in %s.", k->facts.short_name, to);
    show_next(cli, "keep", "restore", k->facts.short_name, "--from", to);
    return WS_OK;
}

/* Where both states have no room beside each other the old one goes first, once it is known that the new one, which the
 * archive has, fits by itself. */
static enum ws_status make_room(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    note_words(cli, 2, "  There is no room for both states beside each other: what is remembered goes first.");
    keep_close(k);
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_reset(k->kept, NULL, 0, &cli->error));
    WS_TRY(keep_work_out(k, &cost));
    WS_TRY(keep_finish(k, NULL, &cost, NULL));
    keep_close(k);
    return keep_open(k, true);
}

static enum ws_status put_back(struct keeping *k, struct ws_source *archive, struct ws_archive_store *store,
                               struct ws_saved **saved) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    char size[32], files[64], loses[160];
    busy_begin(cli, "reading %.80s", keep_asked.from);
    enum ws_status status = ws_saved_open(archive, store, saved, &cli->error);
    busy_end();
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", keep_asked.from);
    WS_TRY(status);
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_put(k->kept, *saved, &cli->error));
    const struct ws_saved_facts *f = ws_saved_facts(*saved);
    (void)snprintf(loses, sizeof loses, "gets %s in %s in the place of all that it remembers",
                   ws_size_counted(f->bytes, size, sizeof size), show_count(f->files, "file", files));
    WS_TRY(keep_ask(k, loses));
    status = keep_work_out(k, &cost);
    if (status == WS_E_SPACE && !ws_kept_memory(k->kept)->system) {
        cli->error.next[0] = '\0'; /* it is said here what helps */
        if (!ws_kept_fits_alone(k->kept))
            return ws_fail_next(&cli->error, "it needs a larger volume: grow it (satchel keep grow), or take a larger "
                                             "drive; nothing was written");
        WS_TRY(make_room(k));
        ws_saved_close(*saved); /* its tree was taken apart */
        *saved = NULL;
        WS_TRY(ws_saved_open(archive, store, saved, &cli->error));
        WS_TRY(ws_kept_put(k->kept, *saved, &cli->error));
        status = keep_work_out(k, &cost);
    }
    WS_TRY(status);
    return keep_finish(k, "remembers what was saved", &cost,
                       cli->json ? cli_pack("{s:o}", "state", saved_json(ws_saved_facts(*saved))) : NULL);
}

enum ws_status keep_restore(struct keeping *k) {
    struct cli *cli = k->cli;
    const char *from = keep_asked.from;
    struct ws_source *archive = NULL;
    struct ws_archive_store *store = NULL;
    struct ws_saved *saved = NULL;
    if (!from) return ws_fail(&cli->error, WS_E_USAGE, "say what is to be put back: --from FILE");
    enum ws_status status = cli_is_no_other(cli, from, "saved state");
    if (status == WS_OK) status = ws_source_file(from, &archive, &cli->error);
    if (status == WS_OK) status = ws_linux_store_open(&store, &cli->error);
    if (status == WS_OK) status = put_back(k, archive, store, &saved);
    keep_close(k);
    ws_saved_close(saved);
    ws_linux_store_close(store);
    ws_source_close(archive);
    return status;
}
