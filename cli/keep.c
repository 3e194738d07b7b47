/* keep.c — satchel keep: what a drive remembers, looked at, cleaned, reset, saved and put back. */
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

static char *what, *to, *from, *confirm, *password_fd, *size_wanted, *image, *stays, *picture, *kept_in;
static const char **except;
static int over, external, off, rescue, take;
const struct poptOption keep_options[] = {
    {"picture", 0, POPT_ARG_STRING, &picture, 0, "show: drawn, too: PNG or SVG, by the name", "FILE"},
    {"what", 0, POPT_ARG_STRING, &what, 0,
     "clean: which of caches, logs, temporary, crashes, trash, swap-files; with commas (all but swap-files)", "WORDS"},
    {"except", 0, POPT_ARG_ARGV, &except, 0, "reset: a folder or file that stays; may be repeated", "PATH"},
    {"size", 0, POPT_ARG_STRING, &size_wanted, 0,
     "grow, shrink, move: the size of its volume; grow: all that is free behind it", "SIZE"},
    {"take-from-data", 0, POPT_ARG_NONE, &take, 0,
     "grow: the data volume behind it, or in front, gives what it has free; its files stay", NULL},
    {"in", 0, POPT_ARG_STRING, &kept_in, 0,
     "move: where it is kept then: a partition of its own, or a file of the data volume", "partition|file"},
    {"to", 0, POPT_ARG_STRING, &to, 0, "save: the archive to make (tar, zstd)", "FILE"},
    {"over", 0, POPT_ARG_NONE, &over, 0, "save, show: replace a file of that name", NULL},
    {"rescue", 0, POPT_ARG_NONE, &rescue, 0,
     "save: all that can be read of a damaged drive; what is lost is listed in the archive", NULL},
    {"from", 0, POPT_ARG_STRING, &from, 0, "restore: the archive that was saved", "FILE"},
    {"image", 'i', POPT_ARG_STRING, &image, 0, "renew: the newer image of the same system", "FILE"},
    {"stays", 0, POPT_ARG_STRING, &stays, 0,
     "renew: what of that which is remembered stays: all, home (people's files), or nothing", "all|home|nothing"},
    {"off", 0, POPT_ARG_NONE, &off, 0, "journal: take the start journal away, and what it noted", NULL},
    {"confirm", 'c', POPT_ARG_STRING, &confirm, 0, "the drive's own name, for scripts", "NAME"},
    {"password-fd", 0, POPT_ARG_STRING, &password_fd, 0,
     "read the passphrase of what is locked from this open file, instead of asking", "NUMBER"},
    {"external-disk", 0, POPT_ARG_NONE, &external, 0, "an external hard drive or SSD is really meant", NULL},
    POPT_TABLEEND};

static bool tell(void *context, const struct ws_progress *progress) {
    return meter_tell(&((struct keeping *)context)->meter, progress) && !stop_asked();
}

static void close_kept(struct keeping *k) {
    ws_kept_close(k->kept);
    ws_source_close(k->source);
    if (k->drive) k->drive->ops->close(k->drive);
    k->kept = NULL;
    k->source = NULL;
    k->drive = NULL;
}

static enum ws_status open_kept(struct keeping *k, bool writes) {
    struct cli *cli = k->cli;
    const enum ws_open_mode mode = writes ? WS_OPEN_WRITE : WS_OPEN_READ;
    const struct ws_target_rules rules = {external != 0};
    struct ws_memory memory = {.locked = false};
    if (writes) WS_TRY(ws_drive_may_be_target(cli->port, &k->facts, &rules, &cli->error));
    if (writes && confirm) WS_TRY(ws_drive_confirmed(&k->facts, confirm, &cli->error));
    WS_TRY(cli->port->ops->open(cli->port, k->facts.id, mode, &k->drive, &cli->error));
    WS_TRY(ws_source_drive(k->drive, &k->source, &cli->error));
    busy_begin(cli, "reading what %.60s remembers", k->facts.short_name);
    enum ws_status status = ws_memory_look(k->source, k->facts.logical_sector, &memory, &cli->error);
    busy_end();
    if (status == WS_OK && password_fd && !memory.locked)
        status = ws_fail(&cli->error, WS_E_USAGE, "--password-fd has no effect: nothing is locked");
    if (status == WS_OK && memory.locked && !k->passphrase) status = secret_passphrase(cli, &k->passphrase);
    WS_TRY(status);
    busy_begin(cli, "reading what %.60s remembers", k->facts.short_name);
    status = (rescue ? ws_kept_open_damaged : ws_kept_open)(k->source, k->facts.logical_sector, k->passphrase, &k->kept,
                                                            &cli->error);
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
    enum ws_status status = cli_draw_kept(picture, title, r, &bytes, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, picture, bytes.data, bytes.length, NULL, over != 0, &never);
    ws_text_free(&bytes);
    return status;
}

static enum ws_status show(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_report *r = malloc(sizeof *r);
    enum ws_status status = r ? open_kept(k, false) : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a report");
    if (status == WS_OK) ws_kept_look(k->kept, r);
    if (status == WS_OK && picture) status = draw(k, r);
    if (status == WS_OK && cli->json) (void)cli_print_json(keep_report_json(k, r), EXIT_DONE);
    else if (status == WS_OK) {
        keep_show_report(cli, k, r);
        uint64_t could = 0;
        for (unsigned i = 0; i < WS_LEAVES; i++) could += i == WS_LEAVE_SWAP_FILES ? 0 : r->cleanable[i].bytes;
        if (picture) show_result(cli, true, "It is drawn in %s.", picture);
        else show_result(cli, true, "Nothing was written.");
        if (could > 8 << 20) show_next(cli, "keep", "clean", k->facts.short_name);
    }
    free(r);
    return status;
}

/* Is it meant? On a terminal by the drive's name. @return WS_E_REFUSED where nobody could say so */
static enum ws_status ask(struct keeping *k, const char *loses, char answer[128]) {
    struct cli *cli = k->cli;
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_TRY(cli_ask(cli, &k->facts, NULL, loses, answer, 128));
        confirm = answer;
    }
    return ws_drive_confirmed(&k->facts, confirm, &cli->error);
}

static enum ws_status carry_out(struct keeping *k, struct ws_write_result *result) {
    struct cli *cli = k->cli;
    const struct ws_kept_options o = {
        .confirm = confirm, .allow_external_disk = external != 0, .on_progress = tell, .context = k};
    k->meter = (struct meter){.cli = cli, .drive = k->facts.short_name, .checks = true};
    enum ws_status status = ws_kept_carry_out(k->kept, cli->port, k->drive, &o, result, &cli->error);
    meter_end(&k->meter);
    return status;
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

static void conclude(struct keeping *k, const char *done, const struct ws_kept_cost *cost, json_t *more) {
    struct cli *cli = k->cli;
    struct ws_passport_place copy; /* of the page that lies on the drive: it is older than the change */
    struct ws_error none;
    const bool has_copy = ws_passport_find(k->source, k->facts.logical_sector, &copy, &none) == WS_OK;
    history_note(cli, "keep", &k->facts, NULL, NULL, true, done);
    if (!cli->json) {
        conclude_in_words(k, done, cost, has_copy, &copy);
        return;
    }
    json_t *d =
        cli_pack("{s:s, s:s, s:s, s:I, s:I}", "format", "wild-satchel-kept-changed", "drive", k->facts.short_name,
                 "done", done, "written_bytes", (json_int_t)cost->written, "free_bytes", (json_int_t)cost->free_after);
    if (more) json_object_update_missing(d, more);
    if (has_copy) json_object_set_new(d, "outdated_passport", passport_copy_json(&copy));
    (void)cli_print_json(d, EXIT_DONE);
}

static enum ws_status work_out(struct keeping *k, struct ws_kept_cost *cost) {
    struct cli *cli = k->cli;
    busy_begin(cli, "working it out");
    enum ws_status status = ws_kept_prepare(k->kept, cli->port->ops->wall_clock(cli->port), cost, &cli->error);
    busy_end();
    return status;
}

/* What would go is shown first; without a word of confirmation that is all. */
static enum ws_status clean(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_left_out tally[WS_LEAVES];
    struct ws_kept_cost cost;
    struct ws_write_result result;
    uint32_t which = ~(1u << WS_LEAVE_SWAP_FILES | 1u << WS_LEAVE_KERNELS);
    uint64_t bytes = 0, files = 0;
    char answer[128], size[32], loses[160];
    const bool asks = isatty(STDIN_FILENO) && cli->terminal && !cli->json;
    if (what) WS_TRY(cli_read_leave_out(cli, "--what", what, &which));
    WS_TRY(open_kept(k, confirm || asks));
    WS_TRY(ws_kept_clean(k->kept, which, tally, &cli->error));
    for (unsigned i = 0; i < WS_LEAVES; i++) {
        if (!(which >> i & 1)) tally[i] = (struct ws_left_out){0};
        bytes += tally[i].bytes;
        files += tally[i].files;
    }
    if (!cli->json) show_line(cli, INK_BOLD, "%s", k->facts.short_name);
    if (!cli->json) keep_show_cleanable(cli, tally);
    if (!files || (!confirm && !asks)) {
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
    WS_TRY(work_out(k, &cost));
    (void)snprintf(loses, sizeof loses, "loses %s in %llu files, as listed", ws_size_counted(bytes, size, sizeof size),
                   (unsigned long long)files);
    WS_TRY(ask(k, loses, answer));
    WS_TRY(carry_out(k, &result));
    json_t *more = cli->json ? cli_pack("{s:o}", "cleaned", keep_tally_json(tally)) : NULL;
    conclude(k, "is cleaned", &cost, more);
    json_decref(more);
    return WS_OK;
}

static enum ws_status reset(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    char answer[128];
    size_t count = 0;
    while (except && except[count]) count++;
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_reset(k->kept, except, count, &cli->error));
    WS_TRY(work_out(k, &cost));
    WS_TRY(
        ask(k, count ? "loses all that it remembers but what --except names" : "loses all that it remembers", answer));
    WS_TRY(carry_out(k, &result));
    conclude(k, count ? "is as fresh but for what was kept" : "is as fresh", &cost, NULL);
    return WS_OK;
}

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
    if (!rescue) return;
    if (!lost->count) show_field(cli, "Lost", "%snothing%s", ink(cli, INK_GOOD), ink(cli, INK_PLAIN));
    else
        show_field(cli, "Lost", "%s%zu thing%s that could not be read%s, listed in the archive as lost.txt",
                   ink(cli, INK_WARN), lost->count, lost->count == 1 ? "" : "s", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < lost->count && i < SHOWN; i++) show_row(cli, 16, "                %s", lost->list[i].text);
    if (lost->count > SHOWN) say("                and %zu more\n", lost->count - SHOWN);
}

static enum ws_status save(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_linux_out *out = NULL;
    struct ws_saved_facts f;
    const char *never[] = {k->facts.id};
    const struct ws_keep keep = {.over = over != 0, .never = never, .nevers = 1};
    char size[32];
    if (!to) {
        ws_fail(&cli->error, WS_E_USAGE, "say where it is to be saved: --to FILE");
        return ws_fail_next(&cli->error, "--to %.40s.kept", k->facts.short_name);
    }
    if (strcmp(to, "-") == 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--to names a file: it is made whole, or not at all");
    WS_TRY(cli_check_idle(cli, &k->facts));
    WS_TRY(open_kept(k, false));
    WS_TRY(ws_linux_out_open(to, &keep, &out, &cli->error));
    k->meter = (struct meter){.cli = cli, .drive = k->facts.short_name};
    stop_listen();
    enum ws_status status = ws_kept_save(k->kept, cli->port, ws_linux_out_put, out, tell, k, &f, &cli->error);
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
    struct ws_write_result result;
    note_words(cli, 2, "  There is no room for both states beside each other: what is remembered goes first.");
    close_kept(k);
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_reset(k->kept, NULL, 0, &cli->error));
    WS_TRY(work_out(k, &cost));
    WS_TRY(carry_out(k, &result));
    close_kept(k);
    return open_kept(k, true);
}

static enum ws_status put_back(struct keeping *k, struct ws_source *archive, struct ws_archive_store *store,
                               struct ws_saved **saved) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    char answer[128], size[32], loses[160];
    busy_begin(cli, "reading %.80s", from);
    enum ws_status status = ws_saved_open(archive, store, saved, &cli->error);
    busy_end();
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", from);
    WS_TRY(status);
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_put(k->kept, *saved, &cli->error));
    const struct ws_saved_facts *f = ws_saved_facts(*saved);
    (void)snprintf(loses, sizeof loses, "gets %s in %llu files in the place of all that it remembers",
                   ws_size_counted(f->bytes, size, sizeof size), (unsigned long long)f->files);
    WS_TRY(ask(k, loses, answer));
    status = work_out(k, &cost);
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
        status = work_out(k, &cost);
    }
    WS_TRY(status);
    WS_TRY(carry_out(k, &result));
    json_t *more = cli->json ? cli_pack("{s:o}", "state", saved_json(ws_saved_facts(*saved))) : NULL;
    conclude(k, "remembers what was saved", &cost, more);
    json_decref(more);
    return WS_OK;
}

static enum ws_status restore(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_source *archive = NULL;
    struct ws_archive_store *store = NULL;
    struct ws_saved *saved = NULL;
    if (!from) return ws_fail(&cli->error, WS_E_USAGE, "say what is to be put back: --from FILE");
    enum ws_status status = cli_is_no_other(cli, from, "saved state");
    if (status == WS_OK) status = ws_source_file(from, &archive, &cli->error);
    if (status == WS_OK) status = ws_linux_store_open(&store, &cli->error);
    if (status == WS_OK) status = put_back(k, archive, store, &saved);
    close_kept(k);
    ws_saved_close(saved);
    ws_linux_store_close(store);
    ws_source_close(archive);
    return status;
}

/* A size was given as a number. */
static bool is_sized(void) { return size_wanted && strcmp(size_wanted, "rest") != 0; }

/* Where more could come from, if not from free space. */
static enum ws_status no_room(struct keeping *k, uint64_t most, uint64_t size) {
    struct cli *cli = k->cli;
    struct ws_neighbour n;
    struct ws_error why = {0};
    char a[48], b[48];
    const bool in_file = ws_kept_memory(k->kept)->in_file;
    if (is_sized())
        ws_fail(&cli->error, WS_E_SPACE, "with what is free %s it its volume can be of %s, not of %s",
                in_file ? "around" : "behind", ws_size_both(most, a, sizeof a), ws_size_both(size, b, sizeof b));
    else ws_fail(&cli->error, WS_E_SPACE, "there is no free space %s it", in_file ? "around" : "behind");
    if (ws_kept_neighbour(k->kept, 0, &n, &why) == WS_OK && n.most > most)
        return ws_fail_next(&cli->error, "what stands %s it can give room, for up to %s: --take-from-data",
                            n.in_front ? "in front of" : "behind", ws_size_both(n.most, a, sizeof a));
    if (why.status == WS_E_REFUSED) /* a data volume could, but for its state */
        return ws_fail_next(&cli->error, "the data volume beside it could give room, but %s: %s", why.what, why.next);
    return ws_fail_next(&cli->error, "save it, prepare a larger drive, and put it back there");
}

/* What the neighbour is and will be, into the question. */
static enum ws_status take_room(struct keeping *k, uint64_t size, char loses[320], struct ws_neighbour *gave) {
    struct cli *cli = k->cli;
    struct ws_neighbour n, after;
    char is[48], was[32], gets[32], name[64];
    WS_TRY(ws_kept_neighbour(k->kept, is_sized() ? size : 0, &n, &cli->error));
    if (!is_sized()) {
        ws_fail(&cli->error, WS_E_USAGE,
                "say how large it is to be: its neighbour's room is not taken without a number");
        return ws_fail_next(&cli->error, "--size SIZE, up to %s", ws_size_both(n.most, is, sizeof is));
    }
    WS_TRY(ws_kept_grow_into(k->kept, size, &after, &cli->error));
    size_t at = (size_t)snprintf(loses, 320, "gets a volume of %s", ws_size_both(size >> 20 << 20, is, sizeof is));
    (void)snprintf(name, sizeof name, n.label[0] ? " \"%s\"" : "", n.label);
    if (after.at)
        at +=
            (size_t)snprintf(loses + at, 320 - at, "; the volume%s %s it has %s then, not %s, with %s free", name,
                             after.in_front ? "in front of" : "behind", ws_size_counted(after.size, gets, sizeof gets),
                             ws_size_counted(n.size, was, sizeof was), ws_size_both(after.free_bytes, is, sizeof is));
    (void)snprintf(loses + at, 320 - at, "%s, and nothing is lost", n.swap && !after.in_front ? "; swap moves on" : "");
    *gave = after;
    return WS_OK;
}

/* Only what stands where the new end is, or will be, is moved. */
static enum ws_status resize(struct keeping *k, bool grows) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    uint64_t least, most, size;
    char answer[128], was[48], is[48], loses[320];
    struct ws_neighbour gave = {.at = 0};
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_bounds(k->kept, &least, &most, &cli->error));
    size = most;
    const uint64_t now = ws_kept_memory(k->kept)->volume_size;
    if (is_sized()) WS_TRY(ws_size_parse(size_wanted, &size, &cli->error));
    if (grows && !size_wanted && ws_kept_memory(k->kept)->in_file) {
        ws_fail(&cli->error, WS_E_USAGE, "say how large it is to be: other files of its volume need room, too");
        return ws_fail_next(&cli->error, "--size SIZE, up to %s", ws_size_both(most, is, sizeof is));
    }
    if (grows && !take && (most <= now || size > most)) return no_room(k, most, size);
    if ((!take || is_sized()) && (grows ? size <= now : size >= now))
        return ws_fail(&cli->error, WS_E_USAGE, "it is of %s now: that would not %s",
                       ws_size_both(now, was, sizeof was), grows ? "make it larger" : "make it smaller");
    const bool free_behind = is_sized() && size <= most && !ws_kept_memory(k->kept)->in_file;
    if (take && !free_behind) {
        WS_TRY(take_room(k, size, loses, &gave));
    } else {
        WS_TRY(ws_kept_resize(k->kept, size, &cli->error));
        (void)snprintf(loses, sizeof loses, "gets a volume of %s in the place of %s, and loses nothing",
                       ws_size_both(size >> 20 << 20, is, sizeof is), ws_size_both(now, was, sizeof was));
    }
    WS_TRY(work_out(k, &cost));
    WS_TRY(ask(k, loses, answer));
    WS_TRY(carry_out(k, &result));
    json_t *more = cli->json && gave.at ? cli_pack("{s:o}", "neighbour", keep_neighbour_json(&gave)) : NULL;
    conclude(k, grows ? "has more room" : "has less room", &cost, more);
    json_decref(more);
    return WS_OK;
}

static enum ws_status grow(struct keeping *k) { return resize(k, true); }

static enum ws_status shrink(struct keeping *k) {
    if (!size_wanted) return ws_fail(&k->cli->error, WS_E_USAGE, "say how small it is to be: --size SIZE");
    return resize(k, false);
}

static const char *place_word(unsigned i) { return i ? "file" : "partition"; }

/* Where it goes, into the question. */
static void word_moving(const struct ws_moving *m, char loses[320]) {
    char size[48], data[48], rest[32], label[64];
    (void)snprintf(label, sizeof label, m->data_label[0] ? " \"%s\"" : "", m->data_label);
    const char *is = ws_size_both(m->size, size, sizeof size);
    ws_size_counted(m->data_free, rest, sizeof rest);
    if (m->into_file)
        (void)snprintf(loses, 320,
                       "remembers in a file \"%s\" of %s on the %s volume%s then, which has %s free; its "
                       "partition goes, and nothing is lost",
                       m->name, is, m->data_format, label, rest);
    else if (m->stays)
        (void)snprintf(loses, 320,
                       "remembers in a partition of %s then, where its file lies; the data volume%s begins "
                       "behind it, has %s with %s free, and nothing is lost",
                       is, label, ws_size_counted(m->data_size, data, sizeof data), rest);
    else
        (void)snprintf(loses, 320,
                       "remembers in a partition of %s then; its file goes from the data volume%s, which has "
                       "%s free, and nothing is lost",
                       is, label, rest);
}

static json_t *moving_json(const struct ws_moving *m) {
    return cli_pack("{s:s, s:I, s:I, s:b, s:s, s:s, s:I, s:I}", "in", place_word(m->into_file), "at", (json_int_t)m->at,
                    "size_bytes", (json_int_t)m->size, "in_place", m->stays, "file", m->name, "data_label",
                    m->data_label, "data_bytes", (json_int_t)m->data_size, "data_free_bytes", (json_int_t)m->data_free);
}

static enum ws_status move(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    struct ws_moving moving;
    uint64_t size = 0;
    unsigned place = 0;
    char answer[128], loses[320];
    if (!kept_in) {
        ws_fail(&cli->error, WS_E_USAGE, "say where it is to be kept then");
        return ws_fail_next(&cli->error, "--in file, or --in partition");
    }
    WS_TRY(cli_pick(cli, "--in", kept_in, place_word, 0, 2, &place));
    if (size_wanted) WS_TRY(ws_size_parse(size_wanted, &size, &cli->error));
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_move(k->kept, place == 1, size, &moving, &cli->error));
    WS_TRY(work_out(k, &cost));
    word_moving(&moving, loses);
    WS_TRY(ask(k, loses, answer));
    WS_TRY(carry_out(k, &result));
    json_t *more = cli->json ? cli_pack("{s:o}", "moved", moving_json(&moving)) : NULL;
    k->to_prove = true;
    conclude(k, place == 1 ? "remembers in a file" : "remembers in a partition", &cost, more);
    json_decref(more);
    return WS_OK;
}

static enum ws_status journal(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    char answer[128];
    WS_TRY(open_kept(k, true));
    WS_TRY(ws_kept_journal(k->kept, !off, cli->port->ops->wall_clock(cli->port), &cli->error));
    WS_TRY(ask(k, off ? "loses its start journal" : "gets a start journal: its system notes each start", answer));
    WS_TRY(work_out(k, &cost));
    WS_TRY(carry_out(k, &result));
    conclude(k, off ? "has no start journal any more" : "notes its starts", &cost, NULL);
    return WS_OK;
}

static const char *stay_word(unsigned i) {
    static const char *const words[] = {"all", "home", "nothing"};
    return words[i];
}

/* A list of packages that tells of the older image, laid over the newer one, misleads the package manager for good:
 * somebody has to choose. */
static enum ws_status check_trap(struct cli *cli, const struct ws_live_renewal *r) {
    if (stays || !r->packages_differ) return WS_OK;
    ws_fail(
        &cli->error, WS_E_REFUSED,
        "programs were installed on this drive, and its list of packages (%s) tells of the older image: over the newer "
        "one it would name versions that are not there, and %llu older files would hide newer ones",
        r->packages, (unsigned long long)r->hides);
    return ws_fail_next(&cli->error,
                        "choose what stays: --stays home (people's files; programs are installed again), "
                        "--stays all (as it is, and updated by its package manager), --stays nothing; nothing "
                        "was written");
}

static void conclude_renewal(struct keeping *k, const char *done, const struct ws_kept_cost *cost,
                             const struct ws_live_renewal *told, unsigned stay) {
    json_t *more = k->cli->json ? cli_pack("{s:o}", "renewal", keep_renewal_json(told, stay_word(stay))) : NULL;
    conclude(k, done, cost, more);
    json_decref(more);
}

static enum ws_status lay_under(struct keeping *k, const struct ws_source *source) {
    struct cli *cli = k->cli;
    struct ws_build_setting setting;
    struct ws_live_renewal told;
    struct ws_kept_cost cost;
    struct ws_write_result result;
    unsigned stay = WS_STAYS_ALL;
    char answer[128], loses[200];
    if (stays) WS_TRY(cli_pick(cli, "--stays", stays, stay_word, 0, 3, &stay));
    WS_TRY(ws_build_setting_begin(&setting, cli->port, &k->facts, &cli->error));
    setting.input[WS_INPUT_IMAGE] = source;
    busy_begin(cli, "comparing it with what is on %.60s", k->facts.short_name);
    enum ws_status status = ws_kept_renew(k->kept, &setting, image, (enum ws_stays)stay, &told, &cli->error);
    busy_end();
    WS_TRY(status);
    keep_show_renewal(k, &told, (enum ws_stays)stay);
    if (told.same && stay == WS_STAYS_ALL) {
        const struct ws_kept_cost none = {.free_after = ws_kept_facts(k->kept)->free_bytes};
        conclude_renewal(k, "has this very image already", &none, &told, stay);
        return WS_OK;
    }
    WS_TRY(check_trap(cli, &told));
    (void)snprintf(loses, sizeof loses, "gets %.100s in the place of its system", told.is[0] ? told.is : "this image");
    WS_TRY(ask(k, loses, answer));
    WS_TRY(work_out(k, &cost));
    WS_TRY(carry_out(k, &result));
    k->to_prove = true;
    conclude_renewal(k, HISTORY_RENEWED, &cost, &told, stay);
    return WS_OK;
}

static enum ws_status renew(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_source *source = NULL;
    struct ws_packed_facts packed;
    if (!image)
        return ws_fail(&cli->error, WS_E_USAGE, "say which image takes the place of the one on it: --image FILE");
    WS_TRY(cli_open_image(cli, image, WS_KIND_LIVE, &source, &packed));
    enum ws_status status = open_kept(k, true);
    if (status == WS_OK) status = lay_under(k, source);
    close_kept(k);
    ws_source_close(source);
    return status;
}

static const struct verb { /* as the table of commands has them */
    const char *name;
    enum ws_status (*run)(struct keeping *keeping);
} verbs[] = {{"show", show}, {"clean", clean},   {"reset", reset}, {"save", save},       {"restore", restore},
             {"grow", grow}, {"shrink", shrink}, {"move", move},   {"journal", journal}, {"renew", renew}};
enum { VERBS = sizeof verbs / sizeof verbs[0] };

static const char *verb_word(unsigned i) { return verbs[i].name; }

int run_keep(struct cli *cli, const char *const word[]) {
    struct keeping k = {.cli = cli};
    unsigned verb = 0;
    enum ws_status status;
    cli->secrets = password_fd;
    WS_GO(cli_pick(cli, "keep", word[0], verb_word, 0, VERBS, &verb));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[1], &k.facts));
    stop_listen();
    status = verbs[verb].run(&k);
done:
    close_kept(&k);
    secret_clear();
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
