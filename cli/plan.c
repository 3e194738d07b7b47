/* plan.c — satchel plan: the whole drive decided, drawn and kept; nothing is written. */
#include "cli/cli.h"

#include "port/linux/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MAP_PARTS = 64 };

/* Everything a plan is shown with beside itself. */
struct planning {
    struct ws_plan plan;
    struct ws_drive_facts facts;
    struct ws_trial trial;
    bool have_trial, have_before, have_pc;
    struct ws_contents before;
    struct ws_pc_facts pc;
    struct ws_estimate times;
};

static enum ink part_ink(const char *what) {
    return strcmp(what, "persistence") == 0                                                               ? INK_GOOD
           : strcmp(what, "data") == 0                                                                    ? INK_WARN
           : strcmp(what, "live image") == 0 || strcmp(what, "system") == 0 || strcmp(what, "image") == 0 ? INK_BLUE
                                                                                                          : INK_TEAL;
}

static size_t after_map(const struct ws_plan *p, struct map_part *part) {
    for (size_t i = 0; i < p->parts; i++)
        part[i] = (struct map_part){p->part[i].what, p->part[i].label,  p->part[i].number,
                                    p->part[i].at,   p->part[i].length, part_ink(p->part[i].what)};
    return p->parts;
}

static const char *outlook_name(const struct ws_outlook *o) {
    return o->firmware == WS_FIRMWARE_BIOS ? "BIOS" : o->secure_boot ? "Secure Boot" : "UEFI";
}

static void show_sizes(const struct cli *cli, const struct ws_plan *p) {
    char size[48], room[48];
    if (p->kind == WS_PLAN_LIVE && !p->persistence_size)
        show_field(cli, "Persistence", "none: it forgets at power-off");
    else if (p->kind == WS_PLAN_LIVE)
        show_field(cli, "Persistence", "%s %s partition %u, %s of it free at first",
                   ws_size_both(p->persistence_size, size, sizeof size),
                   p->persistence_place == WS_PERSIST_FILE ? "in an overlay file on" : "on", p->persistence_number,
                   ws_size_both(p->persistence_free, room, sizeof room));
    if (p->system_size)
        show_field(cli, "System", "%s on partition %u, %s, %s of it free at first",
                   ws_size_both(p->system_size, size, sizeof size), p->system_number,
                   p->system_exfat ? "exFAT" : "FAT32", ws_size_both(p->system_free, room, sizeof room));
    if (p->data_size)
        show_field(cli, "Data", "%s on partition %u, FAT32%s%s%s, %s of it free at first",
                   ws_size_both(p->data_size, size, sizeof size), p->data_number, p->data_label[0] ? " \"" : "",
                   p->data_label, p->data_label[0] ? "\"" : "", ws_size_both(p->data_free, room, sizeof room));
    if (p->swap_size)
        show_field(cli, "Swap", "%s on partition %u", ws_size_both(p->swap_size, size, sizeof size), p->swap_number);
}

/* What our start-up code will do, and where it will not be the one that starts. */
static void show_start(const struct cli *cli, const struct ws_plan *p) {
    static const char *const checks[] = {"nothing is compared", "kernel and initial RAM disk are compared first",
                                         "kernel, initial RAM disk and system are compared first"};
    bool image_starts = !p->own_uefi;
    show_field(cli, "Our menu", "waits %u s; %s%s", p->menu_seconds, checks[p->check],
               p->check && image_starts ? " (on UEFI the image's own loader does not)" : "");
}

static void show_times(const struct cli *cli, const struct ws_estimate *e, bool live) {
    char a[32], b[32];
    show_field(cli, "Building takes", "%s to %s, %s; %s", ws_duration(e->build_low_s, a, sizeof a),
               ws_duration(e->build_high_s, b, sizeof b), e->measured ? "by its trial" : "as such drives go",
               e->build_by);
    if (live)
        show_field(cli, "First start", "%s to %s; what counts is %s", ws_duration(e->start_low_s, a, sizeof a),
                   ws_duration(e->start_high_s, b, sizeof b), e->start_by);
}

static void show_plan(const struct cli *cli, const struct planning *g) {
    const struct ws_plan *p = &g->plan;
    char size[48];
    struct map_part part[MAP_PARTS * 2];
    char labels[MAP_PARTS][64];
    show_line(cli, INK_BOLD, "%s on %s", p->image_title, p->drive_name);
    show_field(cli, "Kind", "%s",
               p->system_size && !p->persistence_size ? "live system that forgets, file by file"
               : p->system_size                       ? "live system that remembers, file by file"
               : p->kind == WS_PLAN_LIVE              ? "live system that remembers"
                                                      : "replica, byte for byte");
    show_field(cli, "Image", "%s", p->image_path);
    show_field(cli, "SHA-256", "%s", p->image_sha256);
    show_field(cli, "Drive", "%s, serial %s, %s", p->drive_model, p->drive_serial[0] ? p->drive_serial : "unknown",
               ws_size_both(p->drive_size, size, sizeof size));
    if (p->kind == WS_PLAN_LIVE) show_field(cli, "Live family", "%s", p->family ? p->family->title : "none known here");
    show_sizes(cli, p);
    for (size_t i = 0; i < p->choices; i++)
        show_field(cli, i ? "" : "Chosen", "%s: %s %s- %s%s", p->choice[i].what, p->choice[i].choice, ink(cli, INK_DIM),
                   p->choice[i].why, ink(cli, INK_PLAIN));
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        show_field(cli, i ? "" : "Will start on", "%s%-11s %s%s %s- %s%s",
                   ink(cli, p->outlook[i].starts ? INK_GOOD : INK_BAD), outlook_name(&p->outlook[i]),
                   p->outlook[i].starts ? "yes" : "no", ink(cli, INK_PLAIN), ink(cli, INK_DIM), p->outlook[i].why,
                   ink(cli, INK_PLAIN));
    for (size_t i = 0; i < p->edits; i++)
        show_field(cli, i ? "" : "Changes", "%s: %s%s", p->edit[i].path, p->edit[i].what,
                   p->edit[i].behind ? " (moved behind the image)" : "");
    if (p->system_size) show_start(cli, p);
    show_field(cli, "To write", "%s", ws_size_both(p->bytes_written, size, sizeof size));
    show_times(cli, &g->times, p->kind == WS_PLAN_LIVE);
    show_findings(cli, &p->findings);
    if (g->have_before) {
        putchar('\n');
        show_row(cli, 4, "  %sBefore: %s%s", ink(cli, INK_BOLD), g->before.summary, ink(cli, INK_PLAIN));
        if (!g->before.blank && !g->before.unfinished)
            show_map(cli, p->drive_size, part, cli_contents_map(&g->before, p->drive_size, part, labels, MAP_PARTS));
    }
    say("\n  %sAfter%s\n", ink(cli, INK_BOLD), ink(cli, INK_PLAIN));
    show_map(cli, p->drive_size, part, after_map(p, part));
}

static enum ws_status draw(struct cli *cli, const struct planning *g, const char *path, bool over,
                           const struct cli_never *never) {
    struct map_part before[MAP_PARTS * 2], after[MAP_PARTS];
    char labels[MAP_PARTS][64];
    struct ws_text title = {0}, picture = {0};
    ws_text_printf(&title, "%s on %s", g->plan.image_title, g->plan.drive_name);
    size_t b = g->have_before ? cli_contents_map(&g->before, g->plan.drive_size, before, labels, MAP_PARTS) : 0;
    struct picture maps = {title.data ? title.data : "", g->plan.drive_size, before, b, after,
                           after_map(&g->plan, after)};
    enum ws_status status = cli_draw_maps(path, &maps, &picture, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, path, picture.data, picture.length, NULL, over, never);
    ws_text_free(&picture);
    ws_text_free(&title);
    return status;
}

/* A PC by its name on the bench, by its kind of firmware, or this one. */
static enum ws_status find_pc(struct cli *cli, const char *word, struct ws_pc_facts *pc) {
    static const struct {
        const char *word;
        enum ws_firmware firmware;
        bool secure;
    } kinds[] = {
        {"bios", WS_FIRMWARE_BIOS, false}, {"uefi", WS_FIRMWARE_UEFI, false}, {"secure", WS_FIRMWARE_UEFI, true}};
    memset(pc, 0, sizeof *pc);
    (void)snprintf(pc->name, sizeof pc->name, "%.60s", word);
    const struct ws_sim_pc *on_bench = cli->bench ? ws_bench_pc(cli->bench, word) : NULL;
    if (on_bench) {
        pc->firmware = on_bench->firmware;
        pc->secure_boot = on_bench->secure_boot;
        return WS_OK;
    }
    if (strcmp(word, "here") == 0) {
        ws_linux_this_pc(pc);
        return WS_OK;
    }
    for (size_t i = 0; i < 3; i++)
        if (strcmp(word, kinds[i].word) == 0) {
            pc->firmware = kinds[i].firmware;
            pc->secure_boot = kinds[i].secure;
            return WS_OK;
        }
    ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is no PC that is known here", word);
    return ws_fail_next(&cli->error, "say bios, uefi, secure (UEFI with Secure Boot on), here, or a PC of the bench");
}

static enum ws_status load_trial(struct cli *cli, const char *path, struct planning *g) {
    struct ws_text text = {0};
    enum ws_status status = cli_read_file(path, 1 << 20, &text, &cli->error);
    if (status == WS_OK) status = ws_trial_from_json(text.data ? text.data : "", text.length, &g->trial, &cli->error);
    ws_text_free(&text);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", path);
        return status;
    }
    if (strcmp(g->trial.drive_name, g->facts.short_name) != 0 || strcmp(g->trial.drive_serial, g->facts.serial) != 0 ||
        g->trial.drive_size != g->facts.size) {
        ws_fail(&cli->error, WS_E_USAGE, "this trial is of another drive: %s", g->trial.drive_name);
        return ws_fail_where(&cli->error, "%s", path);
    }
    ws_trial_judge(&g->trial);
    g->have_trial = true;
    return WS_OK;
}

/* What is on the drive now, for the map before; a drive that cannot be read is planned for all the same. */
static void look_before(struct cli *cli, struct planning *g) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_error ignored;
    g->have_before = cli->port->ops->open(cli->port, g->facts.id, WS_OPEN_READ, &drive, &ignored) == WS_OK &&
                     ws_source_drive(drive, &source, &ignored) == WS_OK &&
                     ws_contents_look(source, g->facts.logical_sector, false, &g->before, &ignored) == WS_OK;
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
}

struct wishes { /* the options */
    char *image, *drive, *kind, *persistence, *arrangement, *system, *data, *label, *cluster, *swap, *pc, *trial, *save,
        *picture, *make, *uefi, *check, *wait, *table, *in, *rules, *family, *files_on, *overlay_from;
    int over;
    char said[160]; /* what became of the label */
};

static enum ws_status read_sizes(struct cli *cli, struct wishes *w, struct ws_plan *p) {
    bool none = w->persistence && strcmp(w->persistence, "none") == 0;
    if (none && w->in) return ws_fail(&cli->error, WS_E_USAGE, "--in says where changes go, and none are to be kept");
    if (w->overlay_from && (w->persistence || (w->in && strcmp(w->in, "file") != 0)))
        return ws_fail(&cli->error, WS_E_USAGE, "--overlay-from is a file with its own size: leave --persistence out");
    if (w->in && strcmp(w->in, "file") != 0 && strcmp(w->in, "partition") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--in takes partition or file, not \"%s\"", w->in);
    p->persistence_place = none                                                       ? WS_PERSIST_NONE
                           : (w->in && strcmp(w->in, "file") == 0) || w->overlay_from ? WS_PERSIST_FILE
                                                                                      : WS_PERSIST_PARTITION;
    if (w->persistence && !none && strcmp(w->persistence, "rest") != 0) {
        WS_TRY(ws_size_parse(w->persistence, &p->persistence_asked, &cli->error));
        if (p->persistence_asked < WS_EXT4_LEAST)
            return ws_fail(&cli->error, WS_E_USAGE, "a persistence partition needs at least 16 MiB, not %s",
                           w->persistence);
    }
    if (w->data && strcmp(w->data, "rest") == 0) p->data_asked = WS_PLAN_REST;
    else if (w->data) WS_TRY(ws_size_parse(w->data, &p->data_asked, &cli->error));
    if (w->system) WS_TRY(ws_size_parse(w->system, &p->system_asked, &cli->error));
    if (w->swap) WS_TRY(ws_size_parse(w->swap, &p->swap_asked, &cli->error));
    if (w->cluster) {
        uint64_t bytes = 0;
        WS_TRY(ws_size_parse(w->cluster, &bytes, &cli->error));
        if (!w->data || bytes < 512 || bytes > 65536 || (bytes & (bytes - 1)))
            return ws_fail(&cli->error, WS_E_USAGE,
                           "--cluster goes with --data, and is a power of two from 512 to 64K");
        p->data_cluster = (uint32_t)bytes;
    }
    if (!w->label) return WS_OK;
    return ws_label_normalise("fat32", w->label, p->data_label, sizeof p->data_label, w->said, sizeof w->said,
                              &cli->error);
}

/* Which word of a few; WS_E_USAGE names them all. */
static enum ws_status pick(struct cli *cli, const char *option, const char *word, const char *const words[3],
                           unsigned *out) {
    for (unsigned i = 0; i < 3; i++)
        if (strcmp(word, words[i]) == 0) {
            *out = i;
            return WS_OK;
        }
    return ws_fail(&cli->error, WS_E_USAGE, "%s takes %s, %s or %s, not \"%s\"", option, words[0], words[1], words[2],
                   word);
}

static enum ws_status read_start(struct cli *cli, const struct wishes *w, struct ws_plan *p) {
    static const char *const codes[] = {"auto", "image", "own"};
    static const char *const checks[] = {"off", "quick", "full"};
    unsigned word = 0;
    p->menu_seconds = 5;
    if ((w->uefi || w->check || w->wait || w->table) && p->arrangement != WS_ARRANGE_FILES) {
        ws_fail(&cli->error, WS_E_USAGE, "an image laid down whole brings its own table and start-up code");
        return ws_fail_next(&cli->error,
                            "--table, --uefi-code, --check-at-start and --menu-wait go with --arrangement files");
    }
    if (w->table && strcmp(w->table, "gpt") != 0 && strcmp(w->table, "mbr") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--table takes mbr or gpt, not \"%s\"", w->table);
    p->table_gpt = w->table && strcmp(w->table, "gpt") == 0;
    if (w->uefi) WS_TRY(pick(cli, "--uefi-code", w->uefi, codes, &word));
    p->uefi_code = (enum ws_uefi_code)word;
    word = 0;
    if (w->check) WS_TRY(pick(cli, "--check-at-start", w->check, checks, &word));
    p->check = (enum ws_check_at_start)word;
    if (w->wait) {
        char *end;
        unsigned long seconds = strtoul(w->wait, &end, 10);
        if (*end || end == w->wait || w->wait[0] == '-' || seconds > WS_MENU_SECONDS_MOST)
            return ws_fail(&cli->error, WS_E_USAGE, "--menu-wait takes seconds, 0 to %d, not \"%s\"",
                           (int)WS_MENU_SECONDS_MOST, w->wait);
        p->menu_seconds = (unsigned)seconds;
    }
    return WS_OK;
}

/* A document of the user's, whole. */
static enum ws_status load_document(struct cli *cli, const char *path, char **text, size_t *length) {
    struct ws_source *source = NULL;
    WS_TRY(ws_source_file(path, &source, &cli->error));
    enum ws_status status = ws_source_load(source, 1 << 20, text, length, &cli->error);
    ws_source_close(source);
    return status;
}

static enum ws_status load_rules(struct cli *cli, const char *path, struct ws_rules *rules) {
    char *text = NULL;
    size_t length = 0;
    WS_TRY(load_document(cli, path, &text, &length));
    enum ws_status status = ws_rules_from_json(text, length, rules, &cli->error);
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    free(text);
    return status;
}

static enum ws_status load_family(struct cli *cli, const char *path, struct ws_own_family *own) {
    char *text = NULL;
    size_t length = 0;
    WS_TRY(load_document(cli, path, &text, &length));
    enum ws_status status = ws_own_family_read(text, length, own, &cli->error);
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    free(text);
    return status;
}

static enum ws_status read_wishes(struct cli *cli, struct wishes *w, const struct ws_source *source,
                                  const struct ws_packed_facts *packed, struct ws_plan *p, char *why, size_t room) {
    struct ws_image image;
    struct stat s;
    if (w->kind && strcmp(w->kind, "live") != 0 && strcmp(w->kind, "replica") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a kind of drive: live and replica are", w->kind);
    WS_TRY(ws_image_inspect(source, &image, &cli->error));
    bool disc = image.kind == WS_IMAGE_DISC || w->family;
    bool known = image.family || w->family;
    bool made_of_files = (packed->format[0] && !packed->one_image) || (stat(w->image, &s) == 0 && S_ISDIR(s.st_mode));
    bool as_files = w->family || made_of_files || (w->arrangement && strcmp(w->arrangement, "files") == 0);
    if (w->kind) p->kind = strcmp(w->kind, "replica") == 0 ? WS_PLAN_REPLICA : WS_PLAN_LIVE;
    else if (as_files) p->kind = WS_PLAN_LIVE;
    else p->kind = ws_plan_choose_kind(&image, why, room);
    ws_image_free(&image);
    if (p->kind == WS_PLAN_REPLICA && (w->persistence || w->in || w->data || w->swap)) {
        ws_fail(&cli->error, WS_E_USAGE, "a replica has no persistence and no other partitions; leave them out");
        if (why[0]) ws_fail_next(&cli->error, "it would be a replica because %s", why);
        return WS_E_USAGE;
    }
    if (w->arrangement && strcmp(w->arrangement, "whole") != 0 && strcmp(w->arrangement, "files") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is no arrangement: whole and files are", w->arrangement);
    /* A disc image, and what was made of a folder or archive, starts from a drive only file by file. */
    bool files = w->arrangement ? strcmp(w->arrangement, "files") == 0 : disc && p->kind == WS_PLAN_LIVE;
    if (w->system && !files) return ws_fail(&cli->error, WS_E_USAGE, "--system goes with --arrangement files");
    if (files && p->kind != WS_PLAN_LIVE)
        return ws_fail(&cli->error, WS_E_USAGE, "a replica is no arrangement of files");
    p->arrangement = files ? WS_ARRANGE_FILES : WS_ARRANGE_WHOLE;
    if (w->rules && !files) return ws_fail(&cli->error, WS_E_USAGE, "--rules goes with --arrangement files");
    if (w->files_on && !files) return ws_fail(&cli->error, WS_E_USAGE, "--files-on goes with --arrangement files");
    if (w->files_on && strcmp(w->files_on, "fat32") != 0 && strcmp(w->files_on, "exfat") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--files-on takes fat32 or exfat, not \"%s\"", w->files_on);
    p->system_exfat = w->files_on && strcmp(w->files_on, "exfat") == 0;
    if (w->family && !files) return ws_fail(&cli->error, WS_E_USAGE, "--family goes with --arrangement files");
    if (w->family) WS_TRY(load_family(cli, w->family, &p->own_family));
    if (w->rules) WS_TRY(load_rules(cli, w->rules, &p->rules));
    WS_TRY(read_start(cli, w, p));
    WS_TRY(read_sizes(cli, w, p));
    if (files && !known && !w->persistence && !w->in && !w->overlay_from) p->persistence_place = WS_PERSIST_NONE;
    return WS_OK;
}

/* A path as a plan keeps it: whole, or not at all. Frees `real`. */
static enum ws_status take_path(struct cli *cli, char *real, const char *path, char *out, size_t room) {
    int length = snprintf(out, room, "%s", real ? real : path);
    free(real);
    if (length >= 0 && (size_t)length < room) return WS_OK;
    ws_fail(&cli->error, WS_E_RANGE, "a plan keeps paths of at most %zu bytes", room - 1);
    ws_fail_where(&cli->error, "%s", path);
    return ws_fail_next(&cli->error, "move it, or give it a shorter name");
}

static enum ws_status take_overlay(struct cli *cli, const char *path, struct ws_source **overlay, struct ws_plan *p) {
    WS_TRY(ws_linux_open_overlay(path, overlay, &cli->error));
    WS_TRY(ws_source_hash(*overlay, WS_HASH_SHA256, p->overlay_sha256, &cli->error));
    char *real = realpath(path, NULL);
    WS_TRY(take_path(cli, real, path, p->overlay_from, sizeof p->overlay_from));
    p->overlay = *overlay;
    return WS_OK;
}

static void take_drive(struct ws_plan *p, const struct ws_drive_facts *f) {
    (void)snprintf(p->drive_name, sizeof p->drive_name, "%s", f->short_name);
    (void)snprintf(p->drive_model, sizeof p->drive_model, "%s", f->model);
    (void)snprintf(p->drive_serial, sizeof p->drive_serial, "%s", f->serial);
    (void)snprintf(p->drive_seen_at, sizeof p->drive_seen_at, "%s", f->id);
    p->drive_size = f->size;
    p->drive_sector = f->logical_sector;
    p->drive_erase = f->erase_unit;
}

/* What stands against building it as planned. */
struct verdict {
    bool refused; /* the drive may not be a target, whatever is said */
    bool faulty;  /* the plan has a fault: built only with --even-so */
    bool no_start;
    struct ws_error refusal;
    const struct ws_outlook *outlook; /* where it is wanted to start; may be NULL */
};

static struct verdict judge(struct cli *cli, const struct planning *g) {
    struct ws_target_rules with_flag = {true};
    struct ws_target_rules without = {false};
    struct verdict v = {0};
    v.refused = ws_drive_may_be_target(cli->port, &g->facts, &with_flag, &v.refusal) != WS_OK;
    if (!v.refused) (void)ws_drive_may_write(&g->facts, &without, &v.refusal);
    v.faulty = ws_findings_worst(&g->plan.findings) == WS_FAULT;
    v.outlook = g->have_pc ? ws_plan_outlook(&g->plan, &g->pc) : NULL;
    v.no_start = v.outlook && !v.outlook->starts;
    return v;
}

static int exit_of(const struct verdict *v) {
    return v->refused ? EXIT_REFUSED : v->faulty || v->no_start ? EXIT_NEGATIVE : EXIT_DONE;
}

/* The last lines: may the drive be used, will it start where it is wanted, what comes next. */
static void conclude(const struct cli *cli, const struct planning *g, const struct verdict *v, const char *save) {
    const struct ws_outlook *o = v->outlook;
    const char *kept = save ? "The plan is kept all the same; nothing was written." : "Nothing was written.";
    bool if_meant = !v->refused && v->refusal.status != WS_OK;
    if (v->refusal.status != WS_OK)
        show_row(cli, 2, "  %sThis drive would be refused:%s %s. %s.", ink(cli, v->refused ? INK_BAD : INK_WARN),
                 ink(cli, INK_PLAIN), v->refusal.what, v->refusal.next);
    if (o)
        say("\n  %sOn %s (%s) it will %sstart:%s %s.\n", ink(cli, o->starts ? INK_GOOD : INK_BAD), g->pc.name,
            outlook_name(o), o->starts ? "" : "not ", ink(cli, INK_PLAIN), o->why);
    if (v->refused) show_result(cli, false, "%s may not be written. %s", g->plan.drive_name, kept);
    else if (v->faulty)
        show_result(cli, false, "The plan has a fault, see above: it is built only with --even-so. %s", kept);
    else if (v->no_start) show_result(cli, false, "It will not start on %s. %s", g->pc.name, kept);
    else if (save)
        show_result(cli, true, "The plan is kept in %s. Nothing was written. Next: satchel build %s%s", save, save,
                    if_meant ? " --external-disk" : "");
    else show_result(cli, true, "Nothing was written, and the plan was not kept; --save PLAN keeps it.");
}

int run_plan(struct cli *cli, int argc, const char **argv) {
    struct wishes w = {0};
    const struct poptOption options[] = {
        {"image", 'i', POPT_ARG_STRING, &w.image, 0, "the image to lay down", "FILE"},
        {"drive", 'd', POPT_ARG_STRING, &w.drive, 0, "the drive to plan for: its name or path", "DRIVE"},
        {"kind", 'k', POPT_ARG_STRING, &w.kind, 0, "live (remembers) or replica; what suits the image if left out",
         "KIND"},
        {"arrangement", 'a', POPT_ARG_STRING, &w.arrangement, 0,
         "whole: the image as it is (the default); files: its files on an ordinary FAT32 volume", "HOW"},
        {"files-on", 0, POPT_ARG_STRING, &w.files_on, 0, "with files: fat32 (the default) or exfat", "SYSTEM"},
        {"system", 0, POPT_ARG_STRING, &w.system, 0, "with files: the size of that volume (what the files need)",
         "SIZE"},
        {"persistence", 'p', POPT_ARG_STRING, &w.persistence, 0,
         "room for what is remembered, \"rest\" (the default), or \"none\"; `satchel size` helps", "SIZE"},
        {"in", 0, POPT_ARG_STRING, &w.in, 0,
         "where that is: partition (the default), or file: an overlay file on a FAT32 volume", "PLACE"},
        {"overlay-from", 0, POPT_ARG_STRING, &w.overlay_from, 0,
         "a ready-made data file to put there instead of a fresh one; a compressed one is unpacked", "FILE"},
        {"data", 0, POPT_ARG_STRING, &w.data, 0, "an ordinary FAT32 partition too, of this size or \"rest\"", "SIZE"},
        {"data-label", 0, POPT_ARG_STRING, &w.label, 0, "its label", "TEXT"},
        {"cluster", 0, POPT_ARG_STRING, &w.cluster, 0, "bytes in a cluster of the data partition (usual for its size)",
         "SIZE"},
        {"swap", 0, POPT_ARG_STRING, &w.swap, 0, "a swap partition too", "SIZE"},
        {"table", 0, POPT_ARG_STRING, &w.table, 0, "with files: mbr or gpt (mbr up to 2 TiB)", "KIND"},
        {"rules", 0, POPT_ARG_STRING, &w.rules, 0,
         "with files: what the system wants on its drive (label, renamed folders, marker files)", "FILE"},
        {"family", 0, POPT_ARG_STRING, &w.family, 0,
         "with files: how a live family not known here starts and remembers, described in a document", "FILE"},
        {"uefi-code", 0, POPT_ARG_STRING, &w.uefi, 0,
         "with files: what UEFI starts: image (the image's own), own, or auto (the image's where it brings one)",
         "WHOSE"},
        {"check-at-start", 0, POPT_ARG_STRING, &w.check, 0,
         "with files: off, quick (kernel, initial RAM disk) or full (the system, too), by our start-up code", "HOW"},
        {"menu-wait", 0, POPT_ARG_STRING, &w.wait, 0, "with files: how long our menu waits (5)", "SECONDS"},
        {"for", 'f', POPT_ARG_STRING, &w.pc, 0,
         "where it must start: bios, uefi, secure (Secure Boot on), here, or a PC of the bench", "PC"},
        {"trial", 't', POPT_ARG_STRING, &w.trial, 0, "the drive's own trial, for better estimates", "FILE"},
        {"picture", 0, POPT_ARG_STRING, &w.picture, 0, "draw the drive before and after into this file (.png or .svg)",
         "FILE"},
        {"make", 0, POPT_ARG_STRING, &w.make, 0, "make DRIVE as a new image file of this size first", "SIZE"},
        {"save", 's', POPT_ARG_STRING, &w.save, 0, "keep the plan document here; \"-\": standard output", "PLAN"},
        {"over", 0, POPT_ARG_NONE, &w.over, 0, "with --save and --picture: replace a file that is none of ours", NULL},
        POPT_TABLEEND};
    struct ws_source *source = NULL;
    struct ws_source *overlay = NULL;
    struct ws_packed_facts packed;
    struct ws_build *build = NULL;
    struct ws_text text = {0};
    struct planning *g = calloc(1, sizeof *g);
    char why[200] = "";
    bool made = false;
    enum ws_status status = WS_OK;
    int code = cli_options(cli, cli_command("plan"), argc, argv, options, NULL, 0, 0);
    if (code) {
        free(g);
        return code - 1;
    }
    if (!g) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a plan"));
    if (!w.image || !w.drive) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "a plan needs --image FILE and --drive DRIVE"));
    WS_GO(cli_open_port(cli));
    if (w.pc) WS_GO(find_pc(cli, w.pc, &g->pc));
    g->have_pc = w.pc != NULL;
    WS_GO(ws_linux_open_medium(w.image, &source, &packed, &cli->error));
    WS_GO(read_wishes(cli, &w, source, &packed, &g->plan, why, sizeof why));
    WS_GO(cli_find_or_make(cli, w.drive, w.make, &g->facts));
    made = w.make != NULL;
    if (w.trial) WS_GO(load_trial(cli, w.trial, g));
    char *real = realpath(w.image, NULL);
    WS_GO(take_path(cli, real, w.image, g->plan.image_path, sizeof g->plan.image_path));
    take_drive(&g->plan, &g->facts);
    g->plan.image_touched_at = cli_touched_at(w.image);
    g->plan.made_at = cli->port->ops->wall_clock(cli->port);
    WS_GO(cli->port->ops->random(cli->port, g->plan.id.byte, 16, &cli->error));
    ws_guid_from_random(&g->plan.id);
    WS_GO(ws_source_hash(source, WS_HASH_SHA256, g->plan.image_sha256, &cli->error));
    if (w.overlay_from) WS_GO(take_overlay(cli, w.overlay_from, &overlay, &g->plan));
    WS_GO(ws_build_prepare(&g->plan, source, &build, &cli->error));
    if (w.table && strcmp(w.table, "mbr") == 0 && g->plan.table != WS_TABLE_MBR) {
        status =
            ws_fail(&cli->error, WS_E_UNSUPPORTED, "an MBR is no use here: %s",
                    g->facts.logical_sector > 512 ? "PCs that need one start from no drive with sectors of this size"
                                                  : "it ends at 2 TiB, and the drive is larger");
        ws_fail_where(&cli->error, "%s", g->facts.short_name);
        ws_fail_next(&cli->error, "leave --table out: a GPT is made then");
        goto done;
    }
    if (w.said[0]) ws_plan_chose(&g->plan, "data label", g->plan.data_label, "%s", w.said);
    if (why[0]) ws_plan_chose(&g->plan, "kind", ws_plan_kind_name(g->plan.kind), "%s", why);
    ws_drive_warnings(&g->facts, g->have_trial ? &g->trial : NULL, g->plan.persistence_size, &g->plan.findings);
    ws_estimate_times(&g->facts, g->have_trial ? &g->trial : NULL, g->plan.bytes_written, g->plan.image_size,
                      &g->times);
    look_before(cli, g);
    WS_GO(ws_plan_to_json(&g->plan, &text, &cli->error));
    struct cli_never never = {0};
    const char *const works_with[] = {w.image, w.overlay_from, w.rules, w.family, w.trial, g->facts.id};
    for (size_t i = 0; i < sizeof works_with / sizeof works_with[0]; i++) cli_never(&never, works_with[i]);
    bool to_output = w.save && strcmp(w.save, "-") == 0;
    if (w.picture) WS_GO(draw(cli, g, w.picture, w.over != 0, &never));
    if (w.save) WS_GO(cli_keep(cli, w.save, text.data, text.length, "wild-satchel-plan", w.over != 0, &never));
    struct verdict verdict = judge(cli, g);
    code = exit_of(&verdict);
    if (!to_output && cli->json) cli_put_document(text.data);
    else if (!to_output) {
        show_plan(cli, g);
        conclude(cli, g, &verdict, w.save);
    }
done:
    if (status != WS_OK) {
        if (made) (void)unlink(g->facts.id); /* nothing was planned for it */
        ws_fail_where(&cli->error, "%s", w.image ? w.image : "");
        code = cli_fail(cli);
    }
    ws_text_free(&text);
    ws_build_close(build);
    ws_source_close(overlay);
    ws_source_close(source);
    if (g) ws_plan_free(&g->plan);
    free(g);
    return code;
}
