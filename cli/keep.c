/* keep.c — satchel keep: what a drive remembers, looked at, cleaned, reset; and the steps of all that is done to it. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/keep.h"
#include "cli/secret.h"
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct keep_asked keep_asked;
const struct poptOption keep_options[] = {
    {"picture", 0, POPT_ARG_STRING, &keep_asked.picture, 0, "show: drawn, too: PNG or SVG, by the name", "FILE"},
    {"what", 0, POPT_ARG_STRING, &keep_asked.what, 0,
     "clean: which of caches, logs, temporary, crashes, trash, swap-files; with commas (all but swap-files)", "WORDS"},
    {"except", 0, POPT_ARG_ARGV, &keep_asked.except, 0, "reset: a folder or file that stays; may be repeated", "PATH"},
    {"size", 0, POPT_ARG_STRING, &keep_asked.size, 0,
     "grow, shrink, move: the size of its volume; grow: all that is free behind it", "SIZE"},
    {"take-from-data", 0, POPT_ARG_NONE, &keep_asked.take, 0,
     "grow: the data volume behind it, or in front, gives what it has free; its files stay", NULL},
    {"in", 0, POPT_ARG_STRING, &keep_asked.in, 0,
     "move: where it is kept then: a partition of its own, or a file of the data volume", "partition|file"},
    {"to", 0, POPT_ARG_STRING, &keep_asked.to, 0, "save: the archive to make (tar, zstd)", "FILE"},
    {"over", 0, POPT_ARG_NONE, &keep_asked.over, 0, "save, show: replace a file of that name", NULL},
    {"rescue", 0, POPT_ARG_NONE, &keep_asked.rescue, 0,
     "save: all that can be read of a damaged drive; what is lost is listed in the archive", NULL},
    {"from", 0, POPT_ARG_STRING, &keep_asked.from, 0, "restore: the archive that was saved", "FILE"},
    {"image", 'i', POPT_ARG_STRING, &keep_asked.image, 0, "renew: the newer image of the same system", "FILE"},
    {"stays", 0, POPT_ARG_STRING, &keep_asked.stays, 0,
     "renew: what of that which is remembered stays: all, home (people's files), or nothing", "all|home|nothing"},
    {"off", 0, POPT_ARG_NONE, &keep_asked.off, 0, "journal: take the start journal away, and what it noted", NULL},
    {"confirm", 'c', POPT_ARG_STRING, &keep_asked.confirm, 0, "the drive's own name, for scripts", "NAME"},
    {"password-fd", 0, POPT_ARG_STRING, &keep_asked.password_fd, 0,
     "read the passphrase of what is locked from this open file, instead of asking", "NUMBER"},
    {"external-disk", 0, POPT_ARG_NONE, &keep_asked.external, 0, "an external hard drive or SSD is really meant", NULL},
    POPT_TABLEEND};

bool keep_tell(void *context, const struct ws_progress *progress) {
    return meter_tell(&((struct keeping *)context)->meter, progress) && !stop_asked();
}

void keep_close(struct keeping *k) {
    ws_kept_close(k->kept);
    ws_source_close(k->source);
    if (k->drive) k->drive->ops->close(k->drive);
    k->kept = NULL;
    k->source = NULL;
    k->drive = NULL;
}

enum ws_status keep_open(struct keeping *k, bool writes) {
    struct cli *cli = k->cli;
    const enum ws_open_mode mode = writes ? WS_OPEN_WRITE : WS_OPEN_READ;
    const struct ws_target_rules rules = {keep_asked.external != 0};
    struct ws_memory memory = {.locked = false};
    if (writes) WS_TRY(ws_drive_may_be_target(cli->port, &k->facts, &rules, &cli->error));
    if (writes && keep_asked.confirm) WS_TRY(ws_drive_confirmed(&k->facts, keep_asked.confirm, &cli->error));
    WS_TRY(cli->port->ops->open(cli->port, k->facts.id, mode, &k->drive, &cli->error));
    WS_TRY(ws_source_drive(k->drive, &k->source, &cli->error));
    busy_begin(cli, "reading what %.60s remembers", k->facts.short_name);
    enum ws_status status = ws_memory_look(k->source, k->facts.logical_sector, &memory, &cli->error);
    busy_end();
    if (status == WS_OK && keep_asked.password_fd && !memory.locked)
        status = ws_fail(&cli->error, WS_E_USAGE, "--password-fd has no effect: nothing is locked");
    if (status == WS_OK && memory.locked && !k->passphrase) status = secret_passphrase(cli, &k->passphrase);
    WS_TRY(status);
    busy_begin(cli, "reading what %.60s remembers", k->facts.short_name);
    status = (keep_asked.rescue ? ws_kept_open_damaged : ws_kept_open)(k->source, k->facts.logical_sector,
                                                                       k->passphrase, &k->kept, &cli->error);
    busy_end();
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", k->facts.short_name);
    return status;
}

static enum ws_status draw(struct keeping *k, const struct ws_kept_report *r) {
    struct cli *cli = k->cli;
    struct ws_text bytes = {0};
    struct cli_never never = {.count = 0};
    char title[120];
    cli_never(&never, k->facts.id);
    (void)snprintf(title, sizeof title, "What %.64s remembers", k->facts.short_name);
    enum ws_status status = cli_draw_kept(keep_asked.picture, title, r, &bytes, &cli->error);
    if (status == WS_OK)
        status = cli_keep(cli, keep_asked.picture, bytes.data, bytes.length, NULL, keep_asked.over != 0, &never);
    ws_text_free(&bytes);
    return status;
}

static enum ws_status show(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_report *r = malloc(sizeof *r);
    enum ws_status status = r ? keep_open(k, false) : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a report");
    if (status == WS_OK) ws_kept_look(k->kept, r);
    if (status == WS_OK && keep_asked.picture) status = draw(k, r);
    if (status == WS_OK && cli->json) (void)cli_print_json(keep_report_json(k, r), EXIT_DONE);
    else if (status == WS_OK) {
        keep_show_report(cli, k, r);
        uint64_t could = 0;
        for (unsigned i = 0; i < WS_LEAVES; i++) could += i == WS_LEAVE_SWAP_FILES ? 0 : r->cleanable[i].bytes;
        if (keep_asked.picture) show_result(cli, true, "It is drawn in %s.", keep_asked.picture);
        else show_result(cli, true, "Nothing was written.");
        if (could > 8 << 20) show_next(cli, "keep", "clean", k->facts.short_name);
    }
    free(r);
    return status;
}

enum ws_status keep_ask(struct keeping *k, const char *loses) {
    struct cli *cli = k->cli;
    if (!keep_asked.confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_TRY(cli_ask(cli, &k->facts, NULL, loses, k->answer, sizeof k->answer));
        keep_asked.confirm = k->answer;
    }
    return ws_drive_confirmed(&k->facts, keep_asked.confirm, &cli->error);
}

static void conclude_in_words(struct keeping *k, const char *done, const struct ws_kept_cost *cost, bool has_copy,
                              const struct ws_passport_place *copy) {
    struct cli *cli = k->cli;
    char free_bytes[32];
    if (has_copy)
        show_field(cli, "Passport", WS_PASSPORT_NAME " on partition %u tells how it was before", copy->number);
    show_result(cli, true, "%s %s: %s are free now.", k->facts.short_name, done,
                ws_size_counted(cost->free_after, free_bytes, sizeof free_bytes));
    if (k->to_prove) show_next(cli, "prove", k->facts.short_name, "--on", next_pc(cli) ? next_pc(cli) : "own-pc");
    if (has_copy) show_next(cli, "passport", k->facts.short_name, "--onto-drive");
}

void keep_conclude(struct keeping *k, const char *done, const struct ws_kept_cost *cost, json_t *more) {
    struct cli *cli = k->cli;
    struct ws_passport_place copy; /* of the page that lies on the drive: it is older than the change */
    struct ws_error none;
    const bool has_copy = ws_passport_find(k->source, k->facts.logical_sector, &copy, &none) == WS_OK;
    history_note(cli, "keep", &k->facts, NULL, NULL, true, done);
    if (cli->json) {
        json_t *d = cli_pack("{s:s, s:s, s:s, s:I, s:I}", "format", "wild-satchel-kept-changed", "drive",
                             k->facts.short_name, "done", done, "written_bytes", (json_int_t)cost->written,
                             "free_bytes", (json_int_t)cost->free_after);
        if (more) json_object_update_missing(d, more);
        if (has_copy) json_object_set_new(d, "outdated_passport", passport_copy_json(&copy));
        (void)cli_print_json(d, EXIT_DONE);
    } else {
        conclude_in_words(k, done, cost, has_copy, &copy);
    }
    json_decref(more);
}

enum ws_status keep_work_out(struct keeping *k, struct ws_kept_cost *cost) {
    struct cli *cli = k->cli;
    busy_begin(cli, "working it out");
    enum ws_status status = ws_kept_prepare(k->kept, cli->port->ops->wall_clock(cli->port), cost, &cli->error);
    busy_end();
    return status;
}

enum ws_status keep_finish(struct keeping *k, const char *done, const struct ws_kept_cost *cost, json_t *more) {
    struct cli *cli = k->cli;
    struct ws_write_result result;
    const struct ws_kept_options o = {.confirm = keep_asked.confirm,
                                      .allow_external_disk = keep_asked.external != 0,
                                      .on_progress = keep_tell,
                                      .context = k};
    k->meter = (struct meter){.cli = cli, .drive = k->facts.short_name, .checks = true};
    enum ws_status status = ws_kept_carry_out(k->kept, cli->port, k->drive, &o, &result, &cli->error);
    meter_end(&k->meter);
    if (status == WS_OK && done) keep_conclude(k, done, cost, more);
    else json_decref(more);
    return status;
}

enum ws_status keep_do(struct keeping *k, const char *loses, const char *done, json_t *more) {
    struct ws_kept_cost cost;
    enum ws_status status = keep_work_out(k, &cost);
    if (status == WS_OK) status = keep_ask(k, loses);
    if (status == WS_OK) return keep_finish(k, done, &cost, more);
    json_decref(more);
    return status;
}

/* What would go is shown first; without a word of confirmation that is all. */
static enum ws_status clean(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_left_out tally[WS_LEAVES];
    uint32_t which = ~(1u << WS_LEAVE_SWAP_FILES | 1u << WS_LEAVE_KERNELS);
    uint64_t bytes = 0, files = 0;
    char size[32], counted[64], loses[160];
    const bool asks = isatty(STDIN_FILENO) && cli->terminal && !cli->json;
    if (keep_asked.what) WS_TRY(cli_read_leave_out(cli, "--what", keep_asked.what, &which));
    WS_TRY(keep_open(k, keep_asked.confirm || asks));
    WS_TRY(ws_kept_clean(k->kept, which, tally, &cli->error));
    for (unsigned i = 0; i < WS_LEAVES; i++) {
        if (!(which >> i & 1)) tally[i] = (struct ws_left_out){0};
        bytes += tally[i].bytes;
        files += tally[i].files;
    }
    if (!cli->json) show_line(cli, INK_BOLD, "%s", k->facts.short_name);
    if (!cli->json) keep_show_cleanable(cli, tally);
    if (!files || (!keep_asked.confirm && !asks)) {
        if (cli->json)
            (void)cli_print_json(cli_pack("{s:s, s:s, s:o}", "format", "wild-satchel-cleanable", "drive",
                                          k->facts.short_name, "cleanable", keep_tally_json(tally)),
                                 EXIT_DONE);
        else
            show_result(cli, true, files ? "%s could go; nothing was written." : "There is nothing to clean.",
                        ws_size_counted(bytes, size, sizeof size));
        if (!cli->json && files) show_next(cli, "keep", "clean", k->facts.short_name, "--confirm", k->facts.short_name);
        return WS_OK;
    }
    (void)snprintf(loses, sizeof loses, "loses %s in %s, as listed", ws_size_counted(bytes, size, sizeof size),
                   show_count(files, "file", counted));
    return keep_do(k, loses, "is cleaned", cli->json ? cli_pack("{s:o}", "cleaned", keep_tally_json(tally)) : NULL);
}

static enum ws_status reset(struct keeping *k) {
    struct cli *cli = k->cli;
    size_t count = 0;
    while (keep_asked.except && keep_asked.except[count]) count++;
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_reset(k->kept, keep_asked.except, count, &cli->error));
    return keep_do(k, count ? "loses all that it remembers but what --except names" : "loses all that it remembers",
                   count ? "is as fresh but for what was kept" : "is as fresh", NULL);
}

static enum ws_status journal(struct keeping *k) {
    struct cli *cli = k->cli;
    const bool on = !keep_asked.off;
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_journal(k->kept, on, cli->port->ops->wall_clock(cli->port), &cli->error));
    return keep_do(k, on ? "gets a start journal: its system notes each start" : "loses its start journal",
                   on ? "notes its starts" : "has no start journal any more", NULL);
}

static const struct verb { /* as the table of commands has them */
    const char *name;
    enum ws_status (*run)(struct keeping *keeping);
} verbs[] = {
    {"show", show},      {"clean", clean},        {"reset", reset},    {"save", keep_save},  {"restore", keep_restore},
    {"grow", keep_grow}, {"shrink", keep_shrink}, {"move", keep_move}, {"journal", journal}, {"renew", keep_renew}};
enum { VERBS = sizeof verbs / sizeof verbs[0] };

static const char *verb_word(unsigned i) { return verbs[i].name; }

int run_keep(struct cli *cli, const char *const word[]) {
    struct keeping k = {.cli = cli};
    unsigned verb = 0;
    enum ws_status status;
    cli->secrets = keep_asked.password_fd;
    WS_GO(cli_pick(cli, "keep", word[0], verb_word, 0, VERBS, &verb));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[1], &k.facts));
    stop_listen();
    status = verbs[verb].run(&k);
done:
    keep_close(&k);
    secret_clear();
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
