/* bench.c — satchel bench: the simulated bench. */
#include "cli/commands.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static enum ws_status setup(struct cli *cli, const char *path) {
    struct ws_text text = {0};
    struct ws_bench *bench = malloc(sizeof *bench);
    enum ws_status status = bench ? WS_OK : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a bench");
    if (status == WS_OK && (!cli->bench_folder || !cli->bench_folder[0])) {
        ws_fail(&cli->error, WS_E_USAGE, "say in which folder the bench is to live: --bench DIR");
        status = cli->error.status;
    }
    if (status == WS_OK) status = cli_read_document(cli, path, 1 << 20, "bench", &text);
    if (status == WS_OK) {
        status = ws_bench_parse(text.data ? text.data : "", text.length, bench, &cli->error);
        if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    }
    if (status == WS_OK) status = ws_bench_create(bench, cli->bench_folder, &cli->error);
    if (status == WS_OK && cli->json)
        (void)cli_print_json(cli_pack("{s:s, s:s, s:i, s:i}", "format", "wild-satchel-bench-state", "folder",
                                      cli->bench_folder, "drives", (int)bench->drives, "pcs", (int)bench->pcs),
                             0);
    else if (status == WS_OK)
        show_result(cli, true, "The bench stands in %s: %zu drives, all blank, and %zu PCs.", cli->bench_folder,
                    bench->drives, bench->pcs);
    ws_text_free(&text);
    free(bench);
    return status;
}

static enum ws_status show(struct cli *cli) {
    const struct ws_bench *b = cli->bench;
    char size[48], rate[24], time[32];
    if (cli->json) {
        json_t *drives = json_array();
        json_t *pcs = json_array();
        for (size_t i = 0; i < b->drives; i++)
            json_array_append_new(drives,
                                  cli_pack("{s:s, s:s, s:I, s:b, s:b}", "name", b->drive[i].facts.short_name, "model",
                                           b->drive[i].name, "size_bytes", (json_int_t)b->drive[i].facts.size, "pulled",
                                           b->drive[i].pulled, "write_protected", b->drive[i].facts.read_only));
        for (size_t i = 0; i < b->pcs; i++)
            json_array_append_new(pcs, cli_pack("{s:s, s:s, s:b}", "name", b->pc[i].name, "firmware",
                                                b->pc[i].firmware == WS_FIRMWARE_UEFI ? "uefi" : "bios", "secure_boot",
                                                b->pc[i].secure_boot));
        (void)cli_print_json(cli_pack("{s:s, s:f, s:o, s:o}", "format", "wild-satchel-bench-state", "clock_s",
                                      b->clock_s, "drives", drives, "pcs", pcs),
                             0);
        return WS_OK;
    }
    show_line(cli, INK_BOLD, "Bench in %s, %s on its clock", b->folder, ws_duration(b->clock_s, time, sizeof time));
    for (size_t i = 0; i < b->drives; i++) {
        const struct ws_sim_drive *d = &b->drive[i];
        say("  drive  %-22s %-22s writes %s/s%s%s%s\n", d->facts.short_name,
            ws_size_both(d->facts.size, size, sizeof size), ws_size_counted((uint64_t)d->write_rate, rate, sizeof rate),
            d->facts.read_only ? ", write-protected" : "", d->pulled ? ", not plugged in" : "",
            d->pull_after || d->cut_at_write ? ", a fault is armed" : "");
    }
    for (size_t i = 0; i < b->pcs; i++)
        say("  PC     %-22s %s%s\n", b->pc[i].name, b->pc[i].firmware == WS_FIRMWARE_UEFI ? "UEFI" : "BIOS only",
            b->pc[i].secure_boot ? ", Secure Boot on" : "");
    return WS_OK;
}

static char *pull_after;
static const char **typed;
static int cut, protect, unprotect, power_cut;
const struct poptOption bench_options[] = {
    {"type", 0, POPT_ARG_ARGV, &typed, 0, "start: a line that is typed there; may be repeated", "LINE"},
    {"power-cut", 0, POPT_ARG_NONE, &power_cut, 0, "start: the power is cut, instead of a shutdown", NULL},
    {"pull-after", 0, POPT_ARG_STRING, &pull_after, 0, "arm: somebody pulls the drive out after so many bytes written",
     "SIZE"},
    {"cut-at-write", 0, POPT_ARG_INT, &cut, 0, "arm: the power fails at this write", "N"},
    {"write-protect", 0, POPT_ARG_NONE, &protect, 0, "arm: move the write-protect switch on", NULL},
    {"writable", 0, POPT_ARG_NONE, &unprotect, 0, "arm: move it off", NULL},
    POPT_TABLEEND};

static struct ws_sim_drive *drive_of(struct cli *cli, const char *name) {
    struct ws_sim_drive *d = name ? ws_bench_drive(cli->bench, name) : NULL, *called = NULL;
    size_t found = 0;
    for (size_t i = 0; name && !d && i < cli->bench->drives; i++) { /* pulled ones, too: no list of drives has them */
        struct ws_sim_drive *one = &cli->bench->drive[i];
        if (!ws_drive_called(&one->facts, name) && strcmp(one->facts.place, name) != 0 &&
            !ws_word_holds(one->facts.short_name, name) && !ws_word_holds(one->name, name))
            continue;
        called = one;
        found++;
    }
    if (!d && found == 1) d = called;
    if (!d)
        ws_fail(&cli->error, WS_E_NOTFOUND,
                found ? "several drives of this bench are called something like \"%s\""
                      : "there is no drive \"%s\" on this bench",
                name ? name : "");
    return d;
}

/* What the console says until nothing more comes. */
static enum ws_status listen(struct cli *cli, struct ws_pc *pc, struct ws_text *text) {
    char buffer[4096];
    size_t got = 0;
    do {
        WS_TRY(pc->ops->console_read(pc, buffer, sizeof buffer, 0, &got, &cli->error));
        ws_text_add(text, buffer, got);
    } while (got);
    return ws_text_status(text, &cli->error);
}

/* A session of a system that is up. */
static enum ws_status use(struct cli *cli, struct ws_pc *pc, struct ws_text *text) {
    for (const char **line = typed; line && *line; line++) {
        WS_TRY(pc->ops->console_write(pc, *line, &cli->error));
        WS_TRY(pc->ops->console_write(pc, "\n", &cli->error));
        WS_TRY(listen(cli, pc, text));
    }
    if (power_cut) return WS_OK;
    WS_TRY(pc->ops->console_write(pc, "poweroff\n", &cli->error));
    return listen(cli, pc, text);
}

static enum ws_status start(struct cli *cli, const char *pc_name, const char *drive_name) {
    struct ws_pc *pc = NULL;
    struct ws_text text = {0};
    bool up = false;
    WS_TRY(ws_sim_pc(cli->bench, pc_name, &pc, &cli->error));
    enum ws_status status = pc->ops->plug(pc, drive_name, &cli->error);
    if (status == WS_OK) status = pc->ops->power_on(pc, &cli->error);
    if (status == WS_OK) status = listen(cli, pc, &text);
    if (status == WS_OK) {
        up = text.length >= 2 && strcmp(text.data + text.length - 2, "# ") == 0;
        if (up) status = use(cli, pc, &text);
    }
    if (status == WS_OK) status = pc->ops->power_off(pc, !power_cut, &cli->error);
    if (status == WS_OK && cli->json)
        (void)cli_print_json(cli_pack("{s:s, s:s, s:s, s:b, s:s}", "format", "wild-satchel-start", "pc", pc_name,
                                      "drive", drive_name, "running", up, "console", text.data ? text.data : ""),
                             0);
    else if (status == WS_OK) {
        show_console(text.data ? text.data : "");
        if (!up) show_result(cli, false, "%s did not come up.", pc_name);
        else
            show_result(cli, true,
                        power_cut ? "The system came up on %s, and its power was cut."
                                  : "The system came up on %s, and was shut down again.",
                        pc_name);
    }
    if (status == WS_OK && !up) status = WS_E_DIFFERENT;
    ws_text_free(&text);
    pc->ops->close(pc);
    return status;
}

/* What is done to a drive, and how that is told. */
static void plug(struct ws_sim_drive *d) { d->pulled = false; }
static void pull(struct ws_sim_drive *d) { d->pulled = true; }
static void arm(struct ws_sim_drive *d) {
    if (pull_after) (void)ws_size_parse(pull_after, &d->pull_after, NULL); /* looked at before */
    if (cut > 0) d->cut_at_write = (uint64_t)cut;
    if (protect || unprotect) d->facts.read_only = protect && !unprotect;
}
static const struct handling {
    const char *name;
    void (*handle)(struct ws_sim_drive *drive);
    const char *told;
} handlings[] = {{"plug", plug, "%s is plugged in."},
                 {"pull", pull, "%s is pulled out."},
                 {"arm", arm, "The fault is armed on %s."}};

static enum ws_status handle(struct cli *cli, const struct handling *h, const char *name) {
    uint64_t size;
    if (pull_after) WS_TRY(ws_size_parse(pull_after, &size, &cli->error));
    struct ws_sim_drive *d = drive_of(cli, name);
    if (!d) return cli->error.status;
    h->handle(d);
    if (!cli->json) show_result(cli, true, h->told, d->facts.short_name);
    else
        (void)cli_print_json(cli_pack("{s:s, s:s, s:b}", "format", "wild-satchel-bench-state", "drive",
                                      d->facts.short_name, "pulled", d->pulled),
                             0);
    return WS_OK;
}

int run_bench(struct cli *cli, const char *const word[]) {
    const struct handling *h = NULL;
    enum ws_status status;
    for (size_t i = 0; i < sizeof handlings / sizeof handlings[0]; i++)
        if (strcmp(word[0], handlings[i].name) == 0) h = &handlings[i];
    if (strcmp(word[0], "setup") == 0) {
        status = setup(cli, word[1]);
        goto done;
    }
    if (!cli->bench_folder || !cli->bench_folder[0])
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "say which bench: --bench DIR"));
    WS_GO(cli_open_port(cli));
    if (h) {
        status = handle(cli, h, word[1]);
    } else if (strcmp(word[0], "show") == 0) {
        status = show(cli);
    } else {
        status = start(cli, word[1], word[2]);
        if (status == WS_E_DIFFERENT) return EXIT_NEGATIVE;
    }
done:
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
