/* size.c — satchel size: how large should it be, with alternatives side by side. */
#include "cli/commands.h"
#include "cli/size.h"
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* One way to give the wanted room, and what it takes. */
struct way {
    const char *what;
    bool fits;
    uint64_t size, free_bytes, drive_least; /* drive_least: bytes of the smallest drive for it */
    char note[200];
};
enum { WAYS = 4 };

struct sizing_job {
    struct ws_image image;
    struct ws_packages packages;
    struct ws_wishes wishes;
    struct ws_sizing sizing;
    struct ws_drive_facts facts;
    bool have_drive;
    struct way way[WAYS];
    size_t ways;
    uint64_t waste[5];
};

static const uint32_t clusters[5] = {4096, 8192, 16384, 32768, 65536};
static const uint64_t mib = 1 << 20;

const char *size_fit(const struct ws_drive_facts *drive, uint64_t needed, enum ink *colour) {
    const bool fits = drive && needed <= drive->size;
    *colour = fits ? INK_GOOD : INK_WARN;
    return drive ? fits ? "yes" : "no" : "";
}

/* Drives as they are sold: a little less than their round number is usual, so 98 % of it is counted on. */
uint64_t size_sold_for(uint64_t bytes) {
    for (uint64_t gb = 4; gb < 1 << 14; gb *= 2)
        if (bytes <= gb * 980000000ull) return gb;
    return 0;
}

static enum ws_status parse_part(const char *text, const char *what, double most, double *out, struct ws_error *error) {
    char *end;
    double value = strtod(text, &end);
    bool percent = *end == '%';
    if (percent) end++;
    if (end == text || *end || !(value >= 0) || value > (percent ? 100 : most))
        return ws_fail(error, WS_E_USAGE, "\"%s\" is not a possible value for %s", text, what);
    *out = percent ? value / 100 : value;
    return WS_OK;
}

/* The room on this drive behind the image, worked out as a plan would. */
static enum ws_status room_on_drive(struct cli *cli, struct sizing_job *j, const struct ws_source *source,
                                    uint64_t *most, uint64_t *most_free) {
    struct ws_request *request = malloc(sizeof *request);
    struct ws_build_setting setting = {.input = {source}, .measure = true};
    struct ws_build *build = NULL;
    if (!request) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a plan");
    ws_request_begin(request, WS_KIND_LIVE_WHOLE);
    ws_plan_drive_of(&j->facts, &setting.drive);
    enum ws_status status = ws_build_prepare(request, &setting, &build, &cli->error);
    free(request);
    WS_TRY(status);
    const struct ws_volume *v = ws_plan_volume(ws_build_plan(build), WS_ROLE_PERSISTENCE);
    *most = v->size;
    *most_free = v->free_bytes;
    ws_build_close(build);
    return WS_OK;
}

static enum ws_status work_out(struct cli *cli, struct sizing_job *j, const struct ws_source *source) {
    const struct ws_live_family *family = j->image.family;
    uint64_t wanted = j->sizing.free_wanted;
    uint64_t before = (source->size + mib - 1) / mib * mib + mib; /* the image, and an edit that may move behind it */
    uint64_t most = WS_EXT4_MOST, most_free = 0;
    char a[48], b[48];
    if (j->have_drive) WS_TRY(room_on_drive(cli, j, source, &most, &most_free));
    struct way *w = &j->way[j->ways++];
    w->what = "partition";
    WS_TRY(ws_ext4_fit(family, wanted, mib, WS_EXT4_MOST, &w->size, &w->free_bytes, &cli->error));
    w->drive_least = before + w->size + mib;
    w->fits = w->size <= most;
    if (!w->fits)
        (void)snprintf(w->note, sizeof w->note, "this drive has room for %s of it", ws_size_both(most, a, sizeof a));
    if (j->have_drive) {
        w = &j->way[j->ways++];
        w->what = "whole rest";
        w->size = most;
        w->free_bytes = most_free;
        w->drive_least = j->facts.size;
        w->fits = most_free >= wanted;
        (void)snprintf(w->note, sizeof w->note, w->fits ? "%s more than wanted" : "%s less than wanted",
                       ws_size_counted(w->fits ? most_free - wanted : wanted - most_free, a, sizeof a));
        w = &j->way[j->ways++];
        *w = j->way[0];
        w->what = "with data";
        w->fits = j->way[0].fits && most - j->way[0].size >= 64 * mib;
        if (w->fits)
            (void)snprintf(w->note, sizeof w->note, "leaves %s for a data partition",
                           ws_size_both(most - j->way[0].size, a, sizeof a));
        else (void)snprintf(w->note, sizeof w->note, "leaves no room for a data partition");
    }
    w = &j->way[j->ways++];
    w->what = "overlay file";
    uint64_t file_most = WS_FAT_OVERLAY_MOST, file_size = 0, file_free = 0;
    WS_TRY(ws_ext4_most_free(family, file_most, 4096, &file_size, &file_free, &cli->error));
    enum ws_status status = ws_ext4_fit(family, wanted, 4096, file_most, &w->size, &w->free_bytes, &cli->error);
    w->fits = status == WS_OK;
    if (w->fits) {
        w->drive_least = before + w->size + 64 * mib;
        (void)snprintf(w->note, sizeof w->note, "on a FAT32 volume: satchel plan --in file");
    } else {
        w->size = file_size;
        w->free_bytes = file_free;
        w->drive_least = before + file_size + 64 * mib;
        (void)snprintf(w->note, sizeof w->note,
                       "FAT32 ends a file at 4 GiB - 1, with %s free: take a partition, exFAT, or keep less",
                       ws_size_both(file_free, b, sizeof b));
    }
    return WS_OK;
}

void size_show_items(const struct cli *cli, const struct ws_sizing *s, const char *where) {
    char a[48];
    say("\n  %s%-20s %12s  %s%s\n", ink(cli, INK_DIM), "to keep", "room", "why", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < s->items; i++)
        show_row(cli, 37, "  %-20s %12s  %s%s%s", s->item[i].what, ws_size_counted(s->item[i].bytes, a, sizeof a),
                 ink(cli, INK_DIM), s->item[i].why, ink(cli, INK_PLAIN));
    say("  %s%-20s %12s%s  must be free %s\n", ink(cli, INK_BOLD), "together",
        ws_size_counted(s->free_wanted, a, sizeof a), ink(cli, INK_PLAIN), where);
}

static void show(const struct cli *cli, const struct sizing_job *j) {
    char a[48], b[48];
    const struct ws_iso_facts *iso = j->image.iso ? ws_iso_facts(j->image.iso) : NULL;
    show_line(cli, INK_BOLD, "%s%s%s", iso && iso->volume_id[0] ? iso->volume_id : "image", j->have_drive ? " on " : "",
              j->have_drive ? j->facts.short_name : "");
    if (j->packages.known)
        show_field(cli, "Installed", "%u packages, %s (%s in the image)", j->packages.count,
                   ws_size_both(j->packages.installed_bytes, a, sizeof a), j->packages.source);
    else
        show_field(cli, "Installed", "about %s: the image has no package database that is known here",
                   ws_size_both(j->sizing.installed, a, sizeof a));
    size_show_items(cli, &j->sizing, "on the fresh volume");
    say("\n  %s%-14s %-5s %-22s %-12s %-9s %s%s\n", ink(cli, INK_DIM), "way", "fits", "size", "free",
        j->have_drive ? "" : "drive", "", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < j->ways; i++) {
        const struct way *w = &j->way[i];
        char drive[24] = "";
        if (!j->have_drive && size_sold_for(w->drive_least))
            (void)snprintf(drive, sizeof drive, "%llu GB", (unsigned long long)size_sold_for(w->drive_least));
        show_row(cli, 69, "  %-14s %s%-5s%s %-22s %-12s %-9s\t%s", w->what, ink(cli, w->fits ? INK_GOOD : INK_WARN),
                 w->fits ? "yes" : "no", ink(cli, INK_PLAIN), ws_size_both(w->size, a, sizeof a),
                 ws_size_counted(w->free_bytes, b, sizeof b), drive, w->note);
    }
    char line[400];
    size_t n = 0;
    for (size_t i = 0; i < 5 && n < sizeof line; i++)
        n += (size_t)snprintf(line + n, sizeof line - n, "%s%s at %u KiB", i ? ", " : "",
                              ws_size_counted(j->waste[i], a, sizeof a), clusters[i] / 1024);
    say("\n");
    show_row(cli, 2, "  %sLaid down file by file, half-filled clusters would cost%s %s.", ink(cli, INK_DIM),
             ink(cli, INK_PLAIN), line);
}

json_t *size_items_json(const struct ws_sizing *s) {
    json_t *items = json_array();
    for (size_t i = 0; i < s->items; i++)
        json_array_append_new(items, cli_pack("{s:s, s:I, s:s}", "what", s->item[i].what, "bytes",
                                              (json_int_t)s->item[i].bytes, "why", s->item[i].why));
    return items;
}

static json_t *job_json(const struct sizing_job *j, const char *path) {
    json_t *ways = json_array();
    json_t *waste = json_array();
    for (size_t i = 0; i < j->ways; i++)
        json_array_append_new(ways, cli_pack("{s:s, s:b, s:I, s:I, s:I, s:s}", "way", j->way[i].what, "fits",
                                             j->way[i].fits, "size_bytes", (json_int_t)j->way[i].size, "free_bytes",
                                             (json_int_t)j->way[i].free_bytes, "least_drive_bytes",
                                             (json_int_t)j->way[i].drive_least, "note", j->way[i].note));
    for (size_t i = 0; i < 5; i++)
        json_array_append_new(
            waste, cli_pack("{s:i, s:I}", "cluster_bytes", (int)clusters[i], "wasted_bytes", (json_int_t)j->waste[i]));
    return cli_pack("{s:s, s:s, s:s, s:o, s:I, s:b, s:I, s:o, s:I, s:o, s:o}", "format", "wild-satchel-size", "kind",
                    "live", "image", path, "drive", j->have_drive ? json_string(j->facts.short_name) : json_null(),
                    "installed_bytes", (json_int_t)j->sizing.installed, "installed_counted", j->sizing.counted,
                    "packages", (json_int_t)j->packages.count, "items", size_items_json(&j->sizing),
                    "free_wanted_bytes", (json_int_t)j->sizing.free_wanted, "ways", ways, "cluster_waste", waste);
}

static char *image_path, *drive_word, *documents, *programs, *logs, *months, *churn, *spare, *kind, *edition, *memory,
    *leave_out;
const struct poptOption size_options[] = {
    {"image", 'i', POPT_ARG_STRING, &image_path, 0, "the live image, or a full system's root", "FILE"},
    {"kind", 'k', POPT_ARG_STRING, &kind, 0,
     "live (the default), system (a full one) or twin (IMAGE is a drive, or its image)", "live|system|twin"},
    {"edition", 0, POPT_ARG_STRING, &edition, 0, "with kind system: which of the image's editions", "NAME"},
    {"leave-out", 0, POPT_ARG_STRING, &leave_out, 0, "with kind twin: what it does without", "WORDS"},
    {"memory", 0, POPT_ARG_STRING, &memory, 0, "with kind system: memory of the PCs, for swap", "SIZE"},
    {"drive", 'd', POPT_ARG_STRING, &drive_word, 0, "the drive it is for; without it, the smallest drive is told",
     "DRIVE"},
    {"documents", 0, POPT_ARG_STRING, &documents, 0, "files people keep (1G)", "SIZE"},
    {"programs", 0, POPT_ARG_STRING, &programs, 0, "programs installed later (512M)", "SIZE"},
    {"logs", 0, POPT_ARG_STRING, &logs, 0, "logs (128M)", "SIZE"},
    {"updates", 'u', POPT_ARG_STRING, &months, 0, "months of system updates (6)", "MONTHS"},
    {"churn", 0, POPT_ARG_STRING, &churn, 0, "part of the system that a month of updates replaces (4%)", "PART"},
    {"spare", 0, POPT_ARG_STRING, &spare, 0, "part that stays free (20%)", "PART"},
    POPT_TABLEEND};

static enum ws_status read_wishes(struct ws_wishes *w, struct ws_error *error) {
    ws_wishes_usual(w);
    if (documents) WS_TRY(ws_size_parse(documents, &w->documents, error));
    if (programs) WS_TRY(ws_size_parse(programs, &w->programs, error));
    if (logs) WS_TRY(ws_size_parse(logs, &w->logs, error));
    if (months) WS_TRY(parse_part(months, "--updates", 120, &w->months, error));
    if (churn) WS_TRY(parse_part(churn, "--churn", 1, &w->churn, error));
    return spare ? parse_part(spare, "--spare", 0.9, &w->spare, error) : WS_OK;
}

static const char *kind_word(unsigned i) {
    static const char *const words[] = {"live", "system", "twin"};
    return words[i];
}

static enum ws_status size_live(struct cli *cli, struct sizing_job *j, struct ws_source **source) {
    struct ws_packed_facts packed;
    WS_TRY(cli_is_no_other(cli, image_path, "image"));
    WS_TRY(ws_linux_open_medium(image_path, source, &packed, &cli->error));
    WS_TRY(ws_image_inspect(*source, &j->image, &cli->error));
    if (!j->image.iso || !j->image.family) {
        ws_fail(&cli->error, WS_E_UNSUPPORTED, "this is no live image of a family known here: nothing in it remembers");
        return ws_fail_next(&cli->error, "`satchel image` tells what it is");
    }
    WS_TRY(ws_packages_of_image(&j->image, &j->packages, &cli->error));
    WS_TRY(ws_sizing_work_out(&j->wishes, &j->image, &j->packages, &j->sizing, &cli->error));
    WS_TRY(work_out(cli, j, *source));
    for (size_t i = 0; i < 5; i++) j->waste[i] = ws_fat_waste(ws_iso_tree(j->image.iso), clusters[i]);
    if (cli->json) {
        (void)cli_print_json(job_json(j, image_path), EXIT_DONE);
    } else {
        show(cli, j);
        char size[24], bytes[32];
        (void)snprintf(bytes, sizeof bytes, "%lluM", (unsigned long long)(j->way[0].size / mib));
        show_result(cli, true, "%s of persistence keep that.", ws_size_counted(j->way[0].size, size, sizeof size));
        show_next(cli, "prepare", "--image", image_path, j->have_drive ? "--drive" : "",
                  j->have_drive ? j->facts.short_name : "", "--persistence", bytes);
    }
    return WS_OK;
}

int run_size(struct cli *cli, const char *const words[]) {
    (void)words;
    struct ws_source *source = NULL;
    struct sizing_job *j = calloc(1, sizeof *j);
    unsigned word = 0;
    uint32_t leaves = 0;
    enum ws_status status = WS_OK;
    int code = EXIT_DONE;
    if (!j) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory"));
    if (!image_path) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "sizes need --image FILE"));
    WS_GO(read_wishes(&j->wishes, &cli->error));
    if (kind) WS_GO(cli_pick(cli, "--kind", kind, kind_word, 0, 3, &word));
    if (leave_out) WS_GO(cli_read_leave_out(cli, "--leave-out", leave_out, &leaves));
    if (drive_word) {
        WS_GO(cli_open_port(cli));
        WS_GO(cli_find_drive(cli, drive_word, &j->facts));
        j->have_drive = true;
    }
    if (word == 2) {
        code = size_twin(cli, image_path, leaves, j->have_drive ? &j->facts : NULL);
        goto done;
    }
    if (leave_out) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "--leave-out goes with --kind twin"));
    if (word == 1) {
        code =
            size_system(cli, image_path, edition ? edition : "", &j->wishes, memory, j->have_drive ? &j->facts : NULL);
        goto done;
    }
    if (edition || memory) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "editions and memory go with --kind system"));
    WS_GO(size_live(cli, j, &source));
done:
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", image_path ? image_path : "");
        code = cli_fail(cli);
    }
    if (j) ws_image_free(&j->image);
    ws_source_close(source);
    free(j);
    return code;
}
