/* keep_show.c — what a drive remembers, and what a renewal makes of it, shown and as JSON. */
#include "cli/keep.h"

#include <stdio.h>
#include <string.h>

static json_t *things_json(const struct ws_kept_thing *thing, size_t count) {
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++)
        json_array_append_new(list, cli_pack("{s:o, s:I, s:I}", "path", cli_text(thing[i].path), "bytes",
                                             (json_int_t)thing[i].bytes, "files", (json_int_t)thing[i].files));
    return list;
}

json_t *keep_tally_json(const struct ws_left_out tally[WS_LEAVES]) {
    json_t *list = json_array();
    for (unsigned i = 0; i < WS_LEAVES; i++)
        if (i != WS_LEAVE_KERNELS)
            json_array_append_new(list, cli_pack("{s:s, s:I, s:I}", "what", ws_leave_name((enum ws_leave)i), "files",
                                                 (json_int_t)tally[i].files, "bytes", (json_int_t)tally[i].bytes));
    return list;
}

static void show_things(const struct cli *cli, const char *title, const struct ws_kept_thing *thing, size_t count,
                        uint64_t all) {
    enum { BAR = 16 };
    char size[32];
    if (count) say("\n  %s%-12s %-*s  %s%s\n", ink(cli, INK_DIM), "room", BAR, "", title, ink(cli, INK_PLAIN));
    for (size_t i = 0; i < count && i < 8; i++) {
        char bar[BAR * 3 + 1] = "";
        const size_t n = all ? (size_t)((double)thing[i].bytes / (double)all * BAR + 0.5) : 0;
        for (size_t b = 0; b < BAR; b++) strcat(bar, b < n ? "━" : "╌");
        show_row(cli, 33, "  %-12s %s%s%s  %s", ws_size_counted(thing[i].bytes, size, sizeof size), ink(cli, INK_TEAL),
                 bar, ink(cli, INK_PLAIN), thing[i].path);
    }
}

void keep_show_cleanable(const struct cli *cli, const struct ws_left_out tally[WS_LEAVES]) {
    bool any = false;
    char size[32];
    for (unsigned i = 0; i < WS_LEAVES; i++) {
        if (i == WS_LEAVE_KERNELS || !tally[i].files) continue;
        if (!any) say("\n  %s%-12s %-12s %8s%s\n", ink(cli, INK_DIM), "could go", "room", "files", ink(cli, INK_PLAIN));
        any = true;
        show_row(cli, 37, "  %-12s %-12s %8llu  %s%s%s", ws_leave_name((enum ws_leave)i),
                 ws_size_counted(tally[i].bytes, size, sizeof size), (unsigned long long)tally[i].files,
                 ink(cli, INK_DIM), ws_leave_meaning((enum ws_leave)i), ink(cli, INK_PLAIN));
    }
}

/* When it will be full, from what each start added so far. */
static void show_outlook(const struct cli *cli, const struct ws_kept_report *r, bool system, int64_t now) {
    char a[32], days[48] = "";
    if (!r->a_start) {
        show_field(cli, "Full", "not known: %s",
                   r->starts < 3 ? "it was started too seldom to tell"
                   : system      ? "nothing was added since it was laid down, as far as its own evidence tells"
                                 : "its starts added nothing so far");
        return;
    }
    if (r->starts_left > 100000) {
        show_field(cli, "Full", "not in sight: %s a start so far", ws_size_counted(r->a_start, a, sizeof a));
        return;
    }
    const double left_days =
        r->starts && now > r->since ? (double)(now - r->since) / 86400 / r->starts * (double)r->starts_left : 0;
    if (left_days >= 2 && left_days < 36500) (void)snprintf(days, sizeof days, ", some %.0f days", left_days);
    show_field(cli, "Full", "after about %llu more starts%s, at %s a start", (unsigned long long)r->starts_left, days,
               ws_size_counted(r->a_start, a, sizeof a));
}

static void show_noted(const struct cli *cli, const struct ws_kept_report *r) {
    enum { SHOWN = 8 };
    if (r->noted_count)
        say("\n  %s%-20s  %-26s %-5s %-18s %s%s\n", ink(cli, INK_DIM), "started", "on", "by", "kernel", "before it",
            ink(cli, INK_PLAIN));
    for (size_t i = r->noted_count > SHOWN ? r->noted_count - SHOWN : 0; i < r->noted_count; i++) {
        const struct ws_journal_start *s = &r->noted[i];
        show_row(cli, 24, "  %-20s  %-26s %-5s %-18s %s", s->at, s->machine, s->firmware, s->kernel, s->before);
    }
}

void keep_show_report(const struct cli *cli, const struct keeping *k, const struct ws_kept_report *r) {
    const struct ws_memory *m = ws_kept_memory(k->kept);
    const struct ws_ext4_facts *f = ws_kept_facts(k->kept);
    char a[48], b[48], since[32], last[32], files[64], folders[64];
    show_line(cli, INK_BOLD, "%s", k->facts.short_name);
    show_field(cli, "Remembers in", "%s \"%s\", %s%s",
               m->system    ? m->in_file ? "a file that is the system's own volume" : "the system's own volume"
               : m->in_file ? "an overlay file"
                            : "a partition",
               f->label, m->system ? "a full system" : m->family->title, m->locked ? ", locked" : "");
    show_field(cli, "Room", "%s, %s%s%s free (%.0f %%)", ws_size_both(r->size, a, sizeof a),
               ink(cli, r->free_bytes * 10 < r->size ? INK_WARN : INK_PLAIN),
               ws_size_counted(r->free_bytes, b, sizeof b), ink(cli, INK_PLAIN),
               100.0 * (double)r->free_bytes / (double)(r->size ? r->size : 1));
    show_field(cli, "Holds", "%s in %s and %s%s", ws_size_counted(r->bytes, a, sizeof a),
               show_count(r->files, "file", files), show_count(r->folders, "folder", folders),
               m->system ? "" : ", beside the image");
    if (r->taken_away)
        show_field(cli, "Taken away", "%s of the image that %s deleted", show_count(r->taken_away, "name", files),
                   r->taken_away == 1 ? "was" : "were");
    show_field(cli, "Started", "%s since %s, written to last %s%s", show_count(r->starts, "time", files),
               show_day(r->since, since), show_day(r->last, last),
               f->needs_recovery ? "; switched off without a shutdown" : "");
    if (r->again_files)
        show_field(cli, "Again", "%s of %s, there before, %s written to in its last session",
                   show_count(r->again_files, "file", files), ws_size_counted(r->again_bytes, a, sizeof a),
                   r->again_files == 1 ? "was" : "were");
    if (r->flash_written) show_field(cli, "Written", "%s to it so far", ws_size_counted(r->flash_written, a, sizeof a));
    show_outlook(cli, r, m->system, cli->port->ops->wall_clock(cli->port));
    if (r->journal && !r->noted_count) show_field(cli, "Journal", "it notes its starts from the next one on");
    if (k->facts.in_use_by[0]) show_field(cli, "In use", "by %s: it may be another a moment later", k->facts.in_use_by);
    if (m->cause != WS_FORGETS_NOT) show_field(cli, "Beware", "%s", m->cause_text);
    show_things(cli, "folder", r->folder, r->folder_count, r->bytes);
    show_things(cli, "file", r->file, r->file_count, r->bytes);
    show_things(cli, "file written again", r->again, r->again_count, r->bytes);
    keep_show_cleanable(cli, r->cleanable);
    show_noted(cli, r);
}

static json_t *noted_json(const struct ws_kept_report *r) {
    json_t *list = json_array();
    for (size_t i = 0; i < r->noted_count; i++)
        json_array_append_new(list, cli_pack("{s:s, s:s, s:s, s:s, s:s}", "at", r->noted[i].at, "machine",
                                             r->noted[i].machine, "firmware", r->noted[i].firmware, "kernel",
                                             r->noted[i].kernel, "before", r->noted[i].before));
    return list;
}

json_t *keep_report_json(const struct keeping *k, const struct ws_kept_report *r) {
    const struct ws_memory *m = ws_kept_memory(k->kept);
    const struct ws_ext4_facts *f = ws_kept_facts(k->kept);
    return cli_pack("{s:s, s:s, s:s, s:s, s:b, s:b, s:b, s:I, s:I, s:I, s:I, s:I, s:I, s:i, s:I, s:I, s:I, s:I, s:o, "
                    "s:s, s:o, s:o, s:I, s:I, s:o, s:o, s:b, s:o}",
                    "format", "wild-satchel-keep", "drive", k->facts.short_name, "family",
                    m->system ? "system" : m->family->word, "label", f->label, "in_file", m->in_file, "locked",
                    m->locked, "clean", f->clean, "size_bytes", (json_int_t)r->size, "free_bytes",
                    (json_int_t)r->free_bytes, "bytes", (json_int_t)r->bytes, "files", (json_int_t)r->files, "folders",
                    (json_int_t)r->folders, "taken_away", (json_int_t)r->taken_away, "starts", (int)r->starts, "since",
                    (json_int_t)r->since, "last", (json_int_t)r->last, "written_bytes", (json_int_t)r->flash_written,
                    "bytes_a_start", (json_int_t)r->a_start, "starts_left",
                    r->a_start ? json_integer((json_int_t)r->starts_left) : json_null(), "cause",
                    ws_forgets_name(m->cause), "largest_folders", things_json(r->folder, r->folder_count),
                    "largest_files", things_json(r->file, r->file_count), "again_files", (json_int_t)r->again_files,
                    "again_bytes", (json_int_t)r->again_bytes, "written_again", things_json(r->again, r->again_count),
                    "cleanable", keep_tally_json(r->cleanable), "journal", r->journal, "noted", noted_json(r));
}

static json_t *paths_json(const char path[][160], size_t count) {
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++) json_array_append_new(list, cli_text(path[i]));
    return list;
}

json_t *keep_neighbour_json(const struct ws_neighbour *n) {
    if (!n->at) return json_null();
    return cli_pack("{s:I, s:I, s:I, s:s, s:s, s:b}", "at", (json_int_t)n->at, "size_bytes", (json_int_t)n->size,
                    "free_bytes", (json_int_t)n->free_bytes, "label", n->label, "format", n->format, "in_front",
                    n->in_front);
}

json_t *keep_renewal_json(const struct ws_live_renewal *r, const char *stay) {
    return cli_pack("{s:s, s:s, s:s, s:s, s:b, s:b, s:o, s:b, s:I, s:o, s:I, s:I, s:o, s:s, s:I, s:I, s:o, s:I, s:o}",
                    "was", r->was, "is", r->is, "was_kernel", r->was_kernel, "kernel", r->kernel, "older", r->older,
                    "unlisted", r->unlisted, "packages", r->packages[0] ? cli_text(r->packages) : json_null(),
                    "packages_differ", r->packages_differ, "hides", (json_int_t)r->hides, "hidden",
                    paths_json(r->hidden, r->hidden_count), "differs_bytes", (json_int_t)r->differs, "moves_bytes",
                    (json_int_t)r->moves, "neighbour", keep_neighbour_json(&r->gives), "stays", stay, "others",
                    (json_int_t)r->others, "others_bytes", (json_int_t)r->others_bytes, "others_files",
                    paths_json(r->others_path, r->others_paths), "replaced", (json_int_t)r->replaced, "replaced_files",
                    paths_json(r->replaced_path, r->replaced_paths));
}

static void show_paths(const struct cli *cli, const char path[][160], size_t count, uint64_t all) {
    for (size_t i = 0; i < count; i++) show_row(cli, 16, "                %s", path[i]);
    if (all > count) show_row(cli, 16, "                and %llu more", (unsigned long long)(all - count));
}

/* Of a drive that was laid down file by file: what others did there. */
static void show_others(const struct cli *cli, const struct ws_live_renewal *r) {
    char size[32], files[64];
    if (r->unlisted)
        show_field(cli, "Beware",
                   "%sit does not say what was laid down%s: whatever has the name of one of the newer "
                   "image's files is replaced by that, and all else stays",
                   ink(cli, INK_WARN), ink(cli, INK_PLAIN));
    if (r->others)
        show_field(cli, "Beside it", "%s of others stay%s on its volume, %s%s", show_count(r->others, "file", files),
                   r->others == 1 ? "s" : "", ws_size_counted(r->others_bytes, size, sizeof size),
                   r->unlisted ? " (what the older image alone has is among them)" : "");
    show_paths(cli, r->others_path, r->others_paths, r->others);
    if (r->replaced)
        show_field(cli, "Replaced", "%s%s of the older image that %s changed since: copy what is wanted of %s%s",
                   ink(cli, INK_WARN), show_count(r->replaced, "file", files), r->replaced == 1 ? "was" : "were",
                   r->replaced == 1 ? "it" : "them", ink(cli, INK_PLAIN));
    show_paths(cli, r->replaced_path, r->replaced_paths, r->replaced);
}

void keep_show_renewal(const struct keeping *k, const struct ws_live_renewal *r, enum ws_stays stay) {
    static const char *const words[] = {"all that is remembered", "people's files alone (/home, /root)",
                                        "nothing of what is remembered"};
    const struct cli *cli = k->cli;
    char size[32], left[64];
    if (cli->json) return;
    show_line(cli, INK_BOLD, "%s", k->facts.short_name);
    show_field(cli, "System", "%s%s%s", r->was[0] ? r->was : "not told", r->was_kernel[0] ? ", kernel " : "",
               r->was_kernel);
    show_field(cli, "Becomes", "%s%s%s", r->is[0] ? r->is : "not told", r->kernel[0] ? ", kernel " : "", r->kernel);
    if (r->older)
        show_field(cli, "Beware", "%sthis is the older image, by what it says of itself%s", ink(cli, INK_WARN),
                   ink(cli, INK_PLAIN));
    show_field(cli, "Differs", "%s of it%s", ws_size_counted(r->differs, size, sizeof size),
               r->same ? "; it is the same image" : "");
    if (r->moves)
        show_field(cli, "Moves", "the image is larger: what is remembered begins %s later, and has so much less room",
                   ws_size_counted(r->moves, size, sizeof size));
    if (r->gives.at)
        show_field(cli, "Gives", "the volume%s%s%s behind the image begins later: it has %s then, with %s free",
                   r->gives.label[0] ? " \"" : "", r->gives.label, r->gives.label[0] ? "\"" : "",
                   ws_size_counted(r->gives.size, size, sizeof size),
                   ws_size_both(r->gives.free_bytes, left, sizeof left));
    show_field(cli, "Stays", "%s", words[stay]);
    show_others(cli, r);
    if (r->packages[0])
        show_field(cli, "Packages", "%s%s%s", r->packages_differ ? ink(cli, INK_WARN) : "",
                   r->packages_differ ? "a list of installed packages is remembered, and the newer image has another"
                                      : "the remembered list of packages is that of the newer image, too",
                   r->packages_differ ? ink(cli, INK_PLAIN) : "");
    if (r->hides)
        show_field(cli, "Hides", "%s of the image behind remembered ones", show_count(r->hides, "newer file", left));
    for (size_t i = 0; i < r->hidden_count; i++) show_row(cli, 16, "                %s", r->hidden[i]);
}
