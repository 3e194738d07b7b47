/* drives.c — satchel drives: which drives are here, which may be used, what is on each. */
#include "cli/commands.h"
#include "cli/history.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct seen {
    struct ws_drive_facts facts[128];
    size_t count;
};

static bool collect(void *context, const struct ws_drive_facts *facts) {
    struct seen *s = context;
    if (s->count < 128) s->facts[s->count++] = *facts;
    return true;
}

static bool look(struct cli *cli, const struct ws_drive_facts *f, bool deep, struct ws_contents *contents,
                 struct ws_error *error) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    bool good = cli->port->ops->open(cli->port, f->id, WS_OPEN_READ, &drive, error) == WS_OK &&
                ws_source_drive(drive, &source, error) == WS_OK &&
                ws_contents_look(source, f->logical_sector, deep, contents, error) == WS_OK;
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return good;
}

const char *cli_kind_of(const struct ws_drive_facts *f) {
    if (f->kind == WS_DRIVE_FILE) return "image file";
    if (f->internal == WS_YES) return "internal disk";
    if (f->internal == WS_UNKNOWN) return "unknown";
    return f->removable == WS_YES ? "stick or card" : "external disk";
}

static json_t *known_json(enum ws_known known) {
    return known == WS_UNKNOWN ? json_null() : json_boolean(known == WS_YES);
}

static json_t *number_or_null(bool known, uint64_t number) {
    return known ? json_integer((json_int_t)number) : json_null();
}

static json_t *unfinished_json(const struct ws_contents *c) {
    if (!c || !c->unfinished) return json_null();
    bool known = c->build[0] != '\0' && !c->changing;
    return cli_pack("{s:b, s:o, s:o, s:o}", "changing", c->changing, "build", cli_hash_json(c->build), "flushed_bytes",
                    number_or_null(known, c->build_flushed), "end_bytes", number_or_null(known, c->build_end));
}

static json_t *drive_json(const struct ws_drive_facts *f, const struct ws_error *refusal, const struct ws_contents *c) {
    json_t *parts = json_array();
    for (size_t i = 0; c && i < c->parts; i++) {
        const struct ws_content *p = &c->part[i];
        json_array_append_new(
            parts, cli_pack("{s:i, s:I, s:I, s:s, s:s, s:o, s:o, s:o, s:b}", "partition", (int)p->number, "at_bytes",
                            (json_int_t)p->at, "size_bytes", (json_int_t)p->length, "system", p->system, "label",
                            p->label, "free_bytes", number_or_null(p->counted, p->free_bytes), "files",
                            number_or_null(p->files_counted, p->files), "written_at",
                            number_or_null(p->written_at > 0, (uint64_t)p->written_at), "clean", p->clean));
    }
    return cli_pack(
        "{s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:o, s:s, s:I, s:i, s:o, s:o, s:b, s:b, s:s, s:b, s:o, s:s, s:s, "
        "s:s, s:o, s:o}",
        "name", f->short_name, "id", f->id, "place", f->place, "vendor", f->vendor, "model", f->model, "serial",
        f->serial, "bus", f->bus, "bus_bits_s", number_or_null(f->bus_bits_s > 0, f->bus_bits_s), "kind",
        cli_kind_of(f), "size_bytes", (json_int_t)f->size, "sector_bytes", (int)f->logical_sector, "removable",
        known_json(f->removable), "internal", known_json(f->internal), "system", f->system, "write_protected",
        f->read_only, "in_use_by", f->in_use_by, "may_be_used", refusal->status == WS_OK, "why_not",
        refusal->status == WS_OK ? json_null() : cli_text(refusal->what), "guess", c ? c->guess : "", "holds",
        c ? c->summary : "", "table", c ? ws_table_kind_name(c->table) : "none", "unfinished", unfinished_json(c),
        "parts", parts);
}

/* A bus and how fast it is, "usb, 480 Mbit/s (USB 2)". */
static const char *bus_in_words(const struct ws_drive_facts *f, char *out, size_t room) {
    bool usb = strcmp(f->bus, "usb") == 0;
    unsigned megabits = (unsigned)(f->bus_bits_s / 1000000);
    const char *generation = !usb || !megabits ? ""
                             : megabits < 480  ? " (USB 1)"
                             : megabits < 5000 ? " (USB 2)"
                                               : " (USB 3)";
    if (megabits >= 1000) (void)snprintf(out, room, "%s, %g Gbit/s%s", f->bus, megabits / 1000.0, generation);
    else if (megabits) (void)snprintf(out, room, "%s, %u Mbit/s%s", f->bus, megabits, generation);
    else (void)snprintf(out, room, "%s", f->bus);
    return out;
}

enum { LAST_AT = 62 };
static void show_volumes(const struct cli *cli, const struct ws_contents *c) {
    say("\n");
    show_row(cli, LAST_AT, "  %s%-3s %-11s %-17s %-8s %-8s %8s %s%s", ink(cli, INK_DIM), "no.", "system", "label",
             "used", "free", "files", "last written", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < c->parts; i++) {
        const struct ws_content *p = &c->part[i];
        char number[16] = "-", used[24] = "-", space[24] = "-", files[24] = "-", when[32];
        if (p->number) (void)snprintf(number, sizeof number, "%u", p->number);
        if (p->counted) {
            ws_size_counted(p->free_bytes < p->length ? p->length - p->free_bytes : 0, used, sizeof used);
            ws_size_counted(p->free_bytes, space, sizeof space);
        }
        if (p->files_counted) (void)snprintf(files, sizeof files, "%llu", (unsigned long long)p->files);
        show_row(cli, LAST_AT, "  %-3s %-11.11s %-17.17s %-8s %-8s %8s %s%s", number, p->system, p->label, used, space,
                 files, show_minute(p->written_at, when), p->clean ? "" : "  not clean");
    }
}

size_t cli_contents_map(const struct ws_contents *c, uint64_t size, struct map_part *part, char (*labels)[64],
                        size_t most) {
    static const enum ink colours[] = {INK_TEAL, INK_BLUE, INK_GOOD, INK_WARN};
    size_t n = 0;
    uint64_t at = 0;
    for (size_t i = 0; i < c->parts && i < most; i++) {
        const struct ws_content *p = &c->part[i];
        if (p->at < at) continue; /* nested in the one before */
        if (p->at > at + (1 << 20)) part[n++] = (struct map_part){"free", "", 0, at, p->at - at, INK_DIM};
        (void)snprintf(labels[i], sizeof labels[i], "%.40s%s", p->label, p->clean ? "" : " (not clean)");
        uint64_t end = p->at + p->length;
        uint64_t file = p->overlay_at;
        bool holds = file > p->at && p->overlay_size <= end - file;
        part[n++] =
            (struct map_part){p->system, labels[i], p->number, p->at, (holds ? file : end) - p->at, colours[i % 4]};
        if (holds) { /* and what of the volume lies behind it */
            uint64_t behind = file + p->overlay_size;
            part[n++] = (struct map_part){
                p->inside ? "system file" : "overlay file", p->overlay, p->number, file, p->overlay_size, INK_GOOD};
            if (end > behind)
                part[n++] = (struct map_part){p->system, labels[i], p->number, behind, end - behind, colours[i % 4]};
        }
        at = end;
    }
    if (size > at + (1 << 20)) part[n++] = (struct map_part){"free", "", 0, at, size - at, INK_DIM};
    return n;
}

static void show_one(struct cli *cli, const struct ws_drive_facts *f, const struct ws_error *refusal,
                     const struct ws_contents *c, const struct ws_error *unread) {
    char text[64];
    show_line(cli, INK_BOLD, "%s", f->short_name);
    show_field(cli, "Drive", "%s%s%s, serial %s", f->vendor, f->vendor[0] ? " " : "",
               f->model[0] ? f->model : "without a name", f->serial[0] ? f->serial : "unknown");
    show_field(cli, "Size", "%s, sectors of %u bytes", ws_size_both(f->size, text, sizeof text), f->logical_sector);
    show_field(cli, "Kind", "%s%s%s", cli_kind_of(f), f->bus[0] ? " on " : "", bus_in_words(f, text, sizeof text));
    show_field(cli, "Found at", "%s%s%s", f->id, f->place[0] ? ", plugged in at " : "", f->place);
    if (f->in_use_by[0]) show_field(cli, "In use by", "%s", f->in_use_by);
    if (refusal->status == WS_OK) show_field(cli, "May be used", "%syes%s", ink(cli, INK_GOOD), ink(cli, INK_PLAIN));
    else {
        show_field(cli, "May be used", "%sno%s: %s", ink(cli, INK_BAD), ink(cli, INK_PLAIN), refusal->what);
        char next[WAYS_ROOM];
        if (refusal->next[0]) show_field(cli, "", "%s", ways_next(refusal, next));
    }
    if (!c) {
        show_field(cli, "Holds", "cannot be looked at: %s", unread->what);
        return;
    }
    show_field(cli, "Seems to be", "%s", c->guess);
    if (c->blank || c->unfinished) return;
    show_field(cli, "Table", "%s", show_table(c->table));
    show_volumes(cli, c);
    struct map_part part[WS_CONTENTS_MOST * 4];
    char labels[WS_CONTENTS_MOST][64];
    size_t n = cli_contents_map(c, f->size, part, labels, WS_CONTENTS_MOST);
    show_map(cli, f->size, part, n);
}

static struct drive_work work;
static char *make;
static int history;
const struct poptOption drives_options[] = {
    {"test", 't', POPT_ARG_STRING, &work.test, 0,
     "try the drive: \"read\" writes nothing; \"sample\" finds its real size in minutes; \"full\" tries every "
     "byte. "
     "Sample and full lose what is on it",
     "read|sample|full"},
    {"save", 's', POPT_ARG_STRING, &work.save, 0, "with --test: keep the result here, for plan --trial", "FILE"},
    {"blank", 'b', POPT_ARG_NONE, &work.blank, 0, "make it an ordinary drive again: one volume, all else gone", NULL},
    {"system", 0, POPT_ARG_STRING, &work.system, 0,
     "with --blank: fat32 (the default) or exfat (files over 4 GiB, drives over 2 TiB)", "fat32|exfat"},
    {"label", 'l', POPT_ARG_STRING, &work.label, 0, "with --blank: the volume's label", "TEXT"},
    {"cluster", 0, POPT_ARG_STRING, &work.cluster, 0, "with --blank: bytes a cluster (usual for the size)", "SIZE"},
    {"over", 0, POPT_ARG_NONE, &work.over, 0, "with --save: replace a file that is no such result", NULL},
    {"confirm", 'c', POPT_ARG_STRING, &work.confirm, 0, "the drive's own name, for scripts", "NAME"},
    {"external-disk", 0, POPT_ARG_NONE, &work.external, 0, "an external hard drive or SSD is really meant", NULL},
    {"history", 0, POPT_ARG_NONE, &history, 0, "what was done to drives here, the latest first; with DRIVE to that one",
     NULL},
    {"make", 0, POPT_ARG_STRING, &make, 0, "make DRIVE as a new image file of this size first", "SIZE"},
    POPT_TABLEEND};

/* One line of the list, or all about one drive. */
static void show_drive(struct cli *cli, const struct ws_drive_facts *f, bool alone, struct ws_contents *contents,
                       json_t *list, size_t *usable) {
    const struct ws_target_rules rules = {false}, if_meant = {true};
    struct ws_error refusal = {0}, unread = {0};
    char size[48];
    bool may = ws_drive_may_be_target(cli->port, f, &rules, &refusal) == WS_OK;
    bool read = look(cli, f, alone, contents, &unread);
    *usable += may;
    if (list) {
        json_array_append_new(list, drive_json(f, &refusal, read ? contents : NULL));
    } else if (alone) {
        show_one(cli, f, &refusal, read ? contents : NULL, &unread);
    } else {
        bool external = !may && ws_drive_may_be_target(cli->port, f, &if_meant, NULL) == WS_OK;
        show_row(cli, 80, "%-22s %-8s %-20s %-14s %s%-11s%s\t%s", f->short_name, f->place[0] ? f->place : "-",
                 ws_size_both(f->size, size, sizeof size), cli_kind_of(f),
                 ink(cli, may        ? INK_GOOD
                          : external ? INK_WARN
                                     : INK_BAD),
                 may        ? "yes"
                 : external ? "if meant"
                            : "no",
                 ink(cli, INK_PLAIN), may || external ? (read ? contents->summary : unread.what) : refusal.what);
    }
}

static int show_drives(struct cli *cli, const struct seen *seen, bool alone, struct ws_contents *contents) {
    json_t *list = cli->json ? json_array() : NULL;
    size_t usable = 0;
    if (!list && !alone && seen->count)
        show_row(cli, 80, "%s%-22s %-8s %-20s %-14s %-11s\t%s%s", ink(cli, INK_DIM), "name", "place", "size", "kind",
                 "may be used", "holds", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < seen->count; i++) show_drive(cli, &seen->facts[i], alone, contents, list, &usable);
    if (list) return cli_print_json(cli_pack("{s:s, s:o}", "format", "wild-satchel-drives", "drives", list), EXIT_DONE);
    if (!alone) say("\n%zu drive%s, %zu may be used.\n", seen->count, seen->count == 1 ? "" : "s", usable);
    else
        show_result(cli, true, "Nothing was written.%s",
                    usable ? " --test tries it, --blank makes it an ordinary drive again." : "");
    return EXIT_DONE;
}

int run_drives(struct cli *cli, const char *const word[]) {
    struct ws_contents *contents = NULL;
    struct seen *seen = NULL;
    int code = EXIT_DONE;
    enum ws_status status = WS_OK;
    bool works = work.test || work.blank;
    if ((works || make) && !word[0]) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "say which drive is meant"));
    if (work.test && work.blank)
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "--test and --blank are two steps: first the one, then the other"));
    if (history) {
        struct ws_drive_facts named;
        WS_GO(cli_open_port(cli));
        const bool here =
            word[0] && cli_find_drive(cli, word[0], &named) == WS_OK; /* else a name, or a serial number */
        return history_show(cli, here ? named.short_name : word[0]);
    }
    contents = malloc(sizeof *contents);
    seen = calloc(1, sizeof *seen);
    if (!contents || !seen) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a list of drives"));
    WS_GO(cli_open_port(cli));
    if (word[0]) {
        bool made;
        WS_GO(cli_find_or_make(cli, word[0], make, &seen->facts[0], &made));
        seen->count = 1;
    } else {
        WS_GO(ws_drives_list(cli->port, collect, seen, &cli->error));
    }
    code = works ? cli_drive_work(cli, &seen->facts[0], &work) : show_drives(cli, seen, word[0] != NULL, contents);
done:
    if (status != WS_OK) code = cli_fail(cli);
    free(contents);
    free(seen);
    return code;
}
