/* plan.c — satchel plan: the whole drive decided, drawn and kept; nothing is written. */
#include "cli/commands.h"
#include "cli/jobs.h"
#include "cli/secret.h"
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MAP_PARTS = 64 };

/* Everything a plan is shown with beside itself. */
struct planning {
    struct ws_request request;
    struct ws_source *input[WS_INPUTS_MOST];
    struct ws_drive *drive; /* of a renewal, and what it holds */
    struct ws_source *now;
    struct ws_build *build;
    const struct ws_plan *plan;
    struct ws_drive_facts facts;
    struct ws_trial trial;
    bool have_trial, have_before, have_pc;
    struct ws_contents before;
    struct ws_pc_facts pc;
    struct ws_estimate times;
};

static enum ink part_ink(const char *what) {
    static const struct {
        const char *what;
        enum ink ink;
    } inks[] = {{"persistence", INK_GOOD}, {"data", INK_WARN},  {"live image", INK_BLUE}, {"system", INK_BLUE},
                {"image", INK_BLUE},       {"swap", INK_PLAIN}, {"boot", INK_PLAIN}};
    for (size_t i = 0; i < sizeof inks / sizeof inks[0]; i++)
        if (strcmp(what, inks[i].what) == 0) return inks[i].ink;
    return INK_TEAL;
}

static size_t after_map(const struct ws_plan *p, struct map_part *part) {
    size_t count;
    const struct ws_plan_part *parts = ws_plan_parts(p, &count);
    for (size_t i = 0; i < count; i++)
        part[i] = (struct map_part){parts[i].what, parts[i].label,  parts[i].number,
                                    parts[i].at,   parts[i].length, part_ink(parts[i].what)};
    return count;
}

static const char *outlook_name(const struct ws_outlook *o) {
    return o->firmware == WS_FIRMWARE_BIOS ? "BIOS" : o->secure_boot ? "Secure Boot" : "UEFI";
}

static void show_sizes(const struct cli *cli, const struct ws_plan *p) {
    char size[48], room[48], label[WS_LABEL_ROOM + 4] = "";
    size_t count;
    const struct ws_volume *v = ws_plan_volumes(p, &count);
    if (ws_plan_is_live(p) && !ws_plan_volume(p, WS_ROLE_PERSISTENCE))
        show_field(cli, "Persistence", "none: it forgets at power-off");
    for (size_t i = 0; i < count; i++, v++) {
        static const char *const words[] = {"", "System", "Start", "Persistence", "Data", "Swap", "Kernels"};
        const char *title = v->format[0] ? ws_format_find(v->format)->title : "";
        if (v->role == WS_ROLE_START) continue; /* stands in the map */
        ws_size_both(v->size, size, sizeof size);
        ws_size_both(v->free_bytes, room, sizeof room);
        (void)snprintf(label, sizeof label, v->label[0] ? " \"%s\"" : "", v->label);
        if (v->role == WS_ROLE_SWAP) show_field(cli, words[v->role], "%s on partition %u", size, v->number);
        else if (!v->format[0]) show_field(cli, words[v->role], "%s on partition %u, as it is", size, v->number);
        else if (v->role == WS_ROLE_PERSISTENCE)
            show_field(cli, words[v->role], "%s %s partition %u%s, %s of it free at first", size,
                       v->inside != WS_ROLE_DRIVE ? "in an overlay file on" : "on", v->number,
                       v->locked ? ", locked" : "", room);
        else
            show_field(cli, words[v->role], "%s %s partition %u, %s%s%s, %s of it free at first", size,
                       v->inside != WS_ROLE_DRIVE ? "in one file on" : "on", v->number, title,
                       v->role == WS_ROLE_DATA ? label : "", v->locked ? ", locked" : "", room);
    }
}

/* What our start-up code will do, and where it will not be the one that starts. */
static void show_start(const struct cli *cli, const struct ws_plan *p) {
    static const char *const checks[] = {"nothing is compared", "kernel and initial RAM disk are compared first",
                                         "kernel, initial RAM disk and system are compared first"};
    const struct ws_request *r = ws_plan_request(p);
    bool image_starts = !ws_plan_facts(p)->own_uefi;
    show_field(cli, "Our menu", "waits %u s; %s%s", r->menu_seconds, checks[r->check],
               r->check && image_starts ? " (on UEFI the image's own loader does not)" : "");
}

static void show_times(const struct cli *cli, const struct ws_estimate *e, bool live) {
    char a[32], b[32];
    show_field(cli, "Build takes", "%s to %s, %s; %s", ws_duration(e->build_low_s, a, sizeof a),
               ws_duration(e->build_high_s, b, sizeof b), e->measured ? "by its trial" : "as such drives go",
               e->build_by);
    if (live)
        show_field(cli, "First start", "%s to %s; what counts is %s", ws_duration(e->start_low_s, a, sizeof a),
                   ws_duration(e->start_high_s, b, sizeof b), e->start_by);
}

static const char *kind_words(const struct ws_plan *p) {
    bool remembers = ws_plan_volume(p, WS_ROLE_PERSISTENCE) != NULL;
    switch (ws_plan_facts(p)->kind) {
    case WS_KIND_LIVE_FILES:
        return remembers ? "live system that remembers, file by file" : "live system that forgets, file by file";
    case WS_KIND_LIVE_WHOLE: return "live system that remembers";
    case WS_KIND_REPLICA: return "replica, byte for byte";
    case WS_KIND_SYSTEM: return "full system, at home on the drive";
    case WS_KIND_TWIN: return ws_plan_is_change(p) ? "twin, brought up to date" : "twin of an existing drive";
    case WS_KIND_RENEWAL: return "newer system in the place of the one that is there";
    default: return "ordinary drive";
    }
}

/* What was chosen, where it will start, what changes inside the image. */
static void show_decisions(const struct cli *cli, const struct ws_plan *p) {
    size_t choices, edits;
    const struct ws_plan_choice *choice = ws_plan_choices(p, &choices);
    const struct ws_plan_edit *edit = ws_plan_edits(p, &edits);
    const struct ws_outlook *o = ws_plan_outlooks(p);
    for (size_t i = 0; i < choices; i++)
        show_field(cli, i ? "" : "Chosen", "%s: %s %s- %s%s", choice[i].what, choice[i].choice, ink(cli, INK_DIM),
                   choice[i].why, ink(cli, INK_PLAIN));
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        show_field(cli, i ? "" : "Will start on", "%s%-11s %s%s %s- %s%s", ink(cli, o[i].starts ? INK_GOOD : INK_BAD),
                   outlook_name(&o[i]), o[i].starts ? "yes" : "no", ink(cli, INK_PLAIN), ink(cli, INK_DIM), o[i].why,
                   ink(cli, INK_PLAIN));
    for (size_t i = 0; i < edits; i++)
        show_field(cli, i ? "" : "Changes", "%s: %s%s", edit[i].path, edit[i].what,
                   edit[i].behind ? " (moved behind the image)" : "");
}

/* What becomes of what the drive holds. */
static void show_carried(const struct cli *cli, const struct ws_plan *p) {
    static const struct {
        const char *title;
        enum ink ink;
    } fates[] = {[WS_FATE_KEPT] = {"Kept", INK_GOOD},
                 [WS_FATE_REPLACED] = {"Replaced", INK_WARN},
                 [WS_FATE_LOST] = {"Lost", INK_BAD}};
    size_t count;
    const struct ws_carried *row = ws_plan_carried(p, &count);
    bool loses = false;
    for (size_t i = 0; i < count; i++) {
        loses |= row[i].fate == WS_FATE_LOST;
        char size[32], stands[80] = "";
        bool first = i == 0 || row[i].fate != row[i - 1].fate;
        if (row[i].files)
            (void)snprintf(stands, sizeof stands, " (%llu file%s, %s)", (unsigned long long)row[i].files,
                           row[i].files == 1 ? "" : "s", ws_size_counted(row[i].bytes, size, sizeof size));
        show_field(cli, first ? fates[row[i].fate].title : "", "%s%s%s%s%s%s", ink(cli, fates[row[i].fate].ink),
                   row[i].path, ink(cli, INK_PLAIN), row[i].path[0] ? ": " : "", row[i].what, stands);
    }
    if (count && !loses) show_field(cli, "Lost", "nothing that is not the old system's own");
}

/* What a technician asks first: what will be lost, what it will be, where it starts, how long it takes. */
static void show_loss(const struct cli *cli, const struct planning *g) {
    const bool stays = ws_plan_is_change(g->plan); /* the drive's volumes, where they are; what of them goes is told */
    if (stays) show_carried(cli, g->plan);
    else if (!g->have_before) show_field(cli, "Will be lost", "all that is on it; what that is cannot be looked at");
    else if (g->before.blank) show_field(cli, "Will be lost", "nothing: it is blank");
    else
        show_field(cli, "Will be lost", "%sall that is on it%s: %s", ink(cli, INK_WARN), ink(cli, INK_PLAIN),
                   g->before.summary);
}

static void show_outlook(const struct cli *cli, const struct ws_plan *p) {
    const struct ws_outlook *o = ws_plan_outlooks(p);
    struct ws_text all = {0};
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        ws_text_printf(&all, "%s%s %s", i ? " · " : "", outlook_name(&o[i]), o[i].starts ? "yes" : "no");
    show_field(cli, "Will start on", "%s", all.data ? all.data : "");
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        if (!o[i].starts)
            show_field(cli, "", "%s%s no%s: %s", ink(cli, INK_WARN), outlook_name(&o[i]), ink(cli, INK_PLAIN),
                       o[i].why);
    ws_text_free(&all);
}

static void show_duration(const struct cli *cli, const struct planning *g) {
    const struct ws_estimate *e = &g->times;
    char size[48], a[32], b[32], c[32], d[32];
    const bool live = ws_plan_is_live(g->plan);
    show_field(cli, "Takes", "%s to %s to write and check %s%s%s%s%s", ws_duration(e->build_low_s, a, sizeof a),
               ws_duration(e->build_high_s, b, sizeof b),
               ws_size_both(ws_plan_facts(g->plan)->write_bytes, size, sizeof size), live ? "; its first start " : "",
               live ? ws_duration(e->start_low_s, c, sizeof c) : "", live ? " to " : "",
               live ? ws_duration(e->start_high_s, d, sizeof d) : "");
}

/* Notes are reasons; warnings and faults stand on the first screen. */
static void show_weighty(const struct cli *cli, const struct ws_findings *f) {
    struct ws_findings some = {0};
    for (size_t i = 0; i < f->count; i++)
        if (f->list[i].weight != WS_NOTE) ws_findings_add(&some, f->list[i].weight, "%s", f->list[i].text);
    show_findings(cli, &some);
    ws_findings_free(&some);
}

static void show_reasons(const struct cli *cli, const struct planning *g) {
    const struct ws_plan *p = g->plan;
    const struct ws_input *image = &ws_plan_request(p)->input[WS_INPUT_IMAGE];
    const struct ws_live_family *family = ws_plan_family(p);
    char size[48];
    if (image->path[0] && !ws_request_by_state(ws_plan_request(p))) show_field(cli, "SHA-256", "%s", image->sha256);
    if (ws_plan_is_live(p)) show_field(cli, "Live family", "%s", family ? family->title : "none known here");
    show_decisions(cli, p);
    if (ws_plan_facts(p)->kind == WS_KIND_LIVE_FILES) show_start(cli, p);
    show_field(cli, "To write", "%s", ws_size_both(ws_plan_facts(p)->write_bytes, size, sizeof size));
    show_times(cli, &g->times, ws_plan_is_live(p));
    show_findings(cli, ws_plan_findings(p));
}

static void show_plan(const struct cli *cli, const struct planning *g) {
    const struct ws_plan *p = g->plan;
    const struct ws_plan_drive *drive = ws_plan_drive(p);
    const struct ws_input *image = &ws_plan_request(p)->input[WS_INPUT_IMAGE];
    const bool by_state = ws_request_by_state(ws_plan_request(p)), why = wished.why != 0;
    char size[48];
    struct map_part part[MAP_PARTS * 2];
    char labels[MAP_PARTS][64];
    show_line(cli, INK_BOLD, "%s on %s", ws_plan_facts(p)->title, drive->name);
    show_field(cli, "Drive", "%s, serial %s, %s%s%s", drive->model, drive->serial[0] ? drive->serial : "unknown",
               ws_size_both(drive->size, size, sizeof size), g->facts.place[0] ? ", plugged in at " : "",
               g->facts.place);
    show_loss(cli, g);
    show_field(cli, "Will be", "a %s", kind_words(p));
    if (image->path[0]) show_field(cli, by_state ? "Original" : "Image", "%s", image->path);
    show_sizes(cli, p);
    if (!why) show_outlook(cli, p);
    if (!why) show_duration(cli, g);
    if (why) show_reasons(cli, g);
    else show_weighty(cli, ws_plan_findings(p));
    if (why && g->have_before && !g->before.blank && !g->before.unfinished && !ws_plan_is_change(p)) {
        say("\n  %sBefore%s\n", ink(cli, INK_BOLD), ink(cli, INK_PLAIN));
        show_map(cli, drive->size, part, cli_contents_map(&g->before, drive->size, part, labels, MAP_PARTS));
    }
    if (why) say("\n  %sAfter%s\n", ink(cli, INK_BOLD), ink(cli, INK_PLAIN));
    show_map(cli, drive->size, part, after_map(p, part));
    if (!why) show_line(cli, INK_DIM, "\n  Reasons, and what is changed inside the image: --why");
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

void plan_show(struct cli *cli, struct ws_build *build, const struct ws_drive_facts *facts, uint64_t image_bytes) {
    struct planning *g = calloc(1, sizeof *g);
    if (!g) return;
    g->plan = ws_build_plan(build);
    g->facts = *facts;
    ws_estimate_times(facts, NULL, ws_plan_facts(g->plan)->write_bytes, image_bytes, &g->times);
    look_before(cli, g);
    show_plan(cli, g);
    free(g);
}

static enum ws_status draw(struct cli *cli, const struct planning *g, const char *path, bool over,
                           const struct cli_never *never) {
    struct map_part before[MAP_PARTS * 2], after[MAP_PARTS];
    char labels[MAP_PARTS][64];
    struct ws_text title = {0}, picture = {0};
    const struct ws_plan_drive *drive = ws_plan_drive(g->plan);
    ws_text_printf(&title, "%s on %s", ws_plan_facts(g->plan)->title, drive->name);
    size_t b = g->have_before ? cli_contents_map(&g->before, drive->size, before, labels, MAP_PARTS) : 0;
    struct picture maps = {title.data ? title.data : "", drive->size, before, b, after, after_map(g->plan, after)};
    enum ws_status status = cli_draw_maps(path, &maps, &picture, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, path, picture.data, picture.length, NULL, over, never);
    ws_text_free(&picture);
    ws_text_free(&title);
    return status;
}

/* A PC by its name on the bench, by its kind of firmware, or this one. */
enum ws_status plan_find_pc(struct cli *cli, const char *word, struct ws_pc_facts *pc) {
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
    enum ws_status status = cli_read_document(cli, path, 1 << 20, "trial", &text);
    if (status == WS_OK) status = ws_trial_from_json(text.data ? text.data : "", text.length, &g->trial, &cli->error);
    ws_text_free(&text);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", path);
        return status;
    }
    if (!ws_drive_called(&g->facts, g->trial.drive_name) || strcmp(g->trial.drive_serial, g->facts.serial) != 0 ||
        g->trial.drive_size != g->facts.size) {
        ws_fail(&cli->error, WS_E_USAGE, "this trial is of another drive: %s", g->trial.drive_name);
        return ws_fail_where(&cli->error, "%s", path);
    }
    ws_trial_judge(&g->trial);
    g->have_trial = true;
    return WS_OK;
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
    v.faulty = ws_findings_worst(ws_plan_findings(g->plan)) == WS_FAULT;
    v.outlook = g->have_pc ? ws_plan_outlook(g->plan, &g->pc) : NULL;
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
    char next[WAYS_ROOM];
    if (v->refusal.status != WS_OK)
        show_row(cli, 2, "  %sThis drive would be refused:%s %s; %s.", ink(cli, v->refused ? INK_BAD : INK_WARN),
                 ink(cli, INK_PLAIN), v->refusal.what, ways_next(&v->refusal, next));
    if (o)
        say("\n  %sOn %s (%s) it will %sstart:%s %s.\n", ink(cli, o->starts ? INK_GOOD : INK_BAD), g->pc.name,
            outlook_name(o), o->starts ? "" : "not ", ink(cli, INK_PLAIN), o->why);
    if (v->refused) show_result(cli, false, "%s may not be written. %s", ws_plan_drive(g->plan)->name, kept);
    else if (v->faulty)
        show_result(cli, false, "The plan has a fault, see above: it is built only with --even-so. %s", kept);
    else if (v->no_start) show_result(cli, false, "It will not start on %s. %s", g->pc.name, kept);
    else if (save) show_result(cli, true, "The plan is kept in %s. Nothing was written.", save);
    else
        show_result(
            cli, true,
            "Nothing was written, and the plan was not kept: --save PLAN keeps it, and `satchel prepare` with the "
            "same words carries it out.");
    if (save && exit_of(v) == EXIT_DONE) show_next(cli, "build", save, if_meant ? "--external-disk" : "");
}

/* What is to be renewed; where it is locked, with what opens it. */
static enum ws_status look_at_now(struct cli *cli, struct planning *g, struct ws_build_setting *setting) {
    struct ws_memory memory = {.locked = false};
    WS_TRY(cli_open_now(cli, &g->facts, &g->drive, &g->now));
    setting->now = g->now;
    if (g->request.kind == WS_KIND_TWIN) return WS_OK;
    WS_TRY(ws_memory_look(g->now, g->facts.logical_sector, &memory, &cli->error));
    if (memory.system && memory.locked) {
        enum ws_status status = secret_passphrase(cli, &setting->passphrase);
        return status == WS_OK ? status : ws_fail_where(&cli->error, "%s", g->facts.short_name);
    }
    if (!cli->secrets) return WS_OK;
    return ws_fail(&cli->error, WS_E_USAGE, "nothing takes a passphrase: the system on this drive is not locked");
}

/* The drive, and what is known of it: made first where that is asked for. */
static enum ws_status decide(struct cli *cli, struct planning *g) {
    struct ws_build_setting setting;
    WS_TRY(ws_build_setting_begin(&setting, cli->port, &g->facts, &cli->error));
    setting.trial = g->have_trial ? &g->trial : NULL;
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) setting.input[i] = g->input[i];
    if (g->request.kind == WS_KIND_RENEWAL || g->request.twin.refresh) WS_TRY(look_at_now(cli, g, &setting));
    struct ws_original *running = wished.running ? calloc(1, sizeof *running) : NULL;
    enum ws_status status =
        wished.running && !running ? ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a twin") : WS_OK;
    if (running) status = ws_linux_running(g->request.input[WS_INPUT_IMAGE].path, running, &cli->error);
    setting.original = running;
    busy_begin(cli, "working the plan out");
    if (status == WS_OK) status = ws_build_prepare(&g->request, &setting, &g->build, &cli->error);
    busy_end();
    if (running) ws_original_close(running);
    free(running);
    secret_clear();
    WS_TRY(status);
    g->plan = ws_build_plan(g->build);
    const struct ws_source *image = g->input[WS_INPUT_IMAGE];
    ws_estimate_times(&g->facts, setting.trial, ws_plan_facts(g->plan)->write_bytes, image ? image->size : 0,
                      &g->times);
    look_before(cli, g);
    return WS_OK;
}

static enum ws_status keep(struct cli *cli, const struct planning *g, const struct wishes *w, const struct plan_job *k,
                           const struct ws_text *plan) {
    const char *const works_with[] = {w->image, w->overlay_from, w->rules, w->family, k->trial, g->facts.id};
    struct cli_never never = {0};
    struct ws_text text = {0};
    enum ws_status status = WS_OK;
    for (size_t i = 0; i < sizeof works_with / sizeof works_with[0]; i++)
        if (works_with[i] && works_with[i][0]) cli_never(&never, works_with[i]);
    for (size_t i = 0; i < ws_request_inputs(&g->request); i++)
        if (ws_request_input(&g->request, i)->path[0]) cli_never(&never, ws_request_input(&g->request, i)->path);
    if (k->picture && g->plan) WS_TRY(draw(cli, g, k->picture, k->over != 0, &never));
    if (k->save && g->plan)
        WS_TRY(cli_keep(cli, k->save, plan->data, plan->length, "wild-satchel-plan", k->over != 0, &never));
    if (!k->save_request) return WS_OK;
    WS_GO(ws_request_to_json(&g->request, &text, &cli->error));
    status = cli_keep(cli, k->save_request, text.data, text.length, "wild-satchel-request", k->over != 0, &never);
done:
    ws_text_free(&text);
    return status;
}

static struct plan_job asked;
const struct poptOption plan_options[] = {
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)wish_options, 0, NULL, NULL},
    {"drive", 'd', POPT_ARG_STRING, &asked.drive, 0, "the drive to plan for: its name or path", "DRIVE"},
    {"make", 0, POPT_ARG_STRING, &asked.make, 0, "make DRIVE as a new image file of this size first", "SIZE"},
    {"for", 'f', POPT_ARG_STRING, &asked.pc, 0,
     "where it must start: bios, uefi, secure (Secure Boot on), here, or a PC of the bench", "PC"},
    {"trial", 't', POPT_ARG_STRING, &asked.trial, 0, "the drive's own trial, for better estimates", "FILE"},
    {"picture", 0, POPT_ARG_STRING, &asked.picture, 0, "draw the drive before and after into this file (.png or .svg)",
     "FILE"},
    {"password-fd", 0, POPT_ARG_STRING, &asked.password_fd, 0,
     "with kind renewal: read the passphrase of a locked system from this open file", "NUMBER"},
    {"save", 's', POPT_ARG_STRING, &asked.save, 0, "keep the plan document here; \"-\": standard output", "PLAN"},
    {"save-request", 0, POPT_ARG_STRING, &asked.save_request, 0,
     "keep what is asked for here, to be used for other drives; needs no --drive", "FILE"},
    {"over", 0, POPT_ARG_NONE, &asked.over, 0, "with what is kept: replace a file that is none of ours", NULL},
    POPT_TABLEEND};

static enum ws_status check_wishes(struct cli *cli, const struct plan_job *job) {
    if (!wished.image && !wished.request && !wished.running)
        return ws_fail(&cli->error, WS_E_USAGE, "a plan needs --image FILE, or --request FILE");
    if (job->password_fd && wished.kind && strcmp(wished.kind, "renewal") != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "--password-fd: only a renewal takes a passphrase when it is planned");
    if (job->drive || job->save_request) return WS_OK;
    ws_fail(&cli->error, WS_E_USAGE, "a plan needs --drive DRIVE");
    return ws_fail_next(&cli->error, "`satchel drives` tells which are here; --save-request FILE needs none");
}

/* The plan on the screen, unless standard output takes a document. */
static int show_kept(struct cli *cli, const struct planning *g, const struct plan_job *job,
                     const struct verdict *verdict, const char *document) {
    bool to_output =
        (job->save && strcmp(job->save, "-") == 0) || (job->save_request && strcmp(job->save_request, "-") == 0);
    int code = exit_of(verdict);
    bool goes_on = job->goes_on && (code == EXIT_DONE || (code == EXIT_NEGATIVE && job->even_so));
    if (to_output || (goes_on && cli->json)) return code;
    if (cli->json && job->drive) cli_put_document(document);
    else if (cli->json)
        return cli_print_json(cli_pack("{s:s, s:s}", "format", "wild-satchel-saved", "saved", job->save_request), code);
    else if (job->drive) {
        show_plan(cli, g);
        if (!goes_on) conclude(cli, g, verdict, job->save);
    } else {
        show_result(cli, true, "The request is kept in %s.", job->save_request);
        show_next(cli, "prepare", "--request", job->save_request);
    }
    return code;
}

/* What is asked for, and what came of it on the drive where there is one. */
static enum ws_status make(struct cli *cli, struct planning *g, const struct plan_job *job, struct ws_text *document,
                           bool *made) {
    struct ws_input *original = &g->request.input[WS_INPUT_IMAGE];
    if (job->pc) WS_TRY(plan_find_pc(cli, job->pc, &g->pc));
    g->have_pc = job->pc != NULL;
    if (job->drive) {
        WS_TRY(cli_find_or_make(cli, job->drive, job->make, &g->facts, made));
        wished.most = g->facts.size;
    }
    WS_TRY(cli_read_wishes(cli, &wished, &g->request, g->input));
    if (!job->drive)
        return g->request.kind == WS_KIND_TWIN ? cli_know_original(cli, original, g->input[WS_INPUT_IMAGE]) : WS_OK;
    if (job->trial) WS_TRY(load_trial(cli, job->trial, g));
    WS_TRY(decide(cli, g));
    *original = ws_plan_request(g->plan)->input[WS_INPUT_IMAGE];
    return ws_plan_to_json(g->plan, document, &cli->error);
}

int plan_run(struct cli *cli, const struct plan_job *job) {
    struct ws_text text = {0};
    struct planning *g = calloc(1, sizeof *g);
    struct verdict verdict = {0};
    bool made = false;
    int code = EXIT_DONE;
    enum ws_status status = WS_OK;
    if (!g) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a plan"));
    cli->secrets = job->password_fd;
    WS_GO(check_wishes(cli, job));
    WS_GO(cli_open_port(cli));
    WS_GO(make(cli, g, job, &text, &made));
    if (g->plan) verdict = judge(cli, g);
    WS_GO(keep(cli, g, &wished, job, &text));
    code = show_kept(cli, g, job, &verdict, text.data);
    if (job->then && (code == EXIT_DONE || (code == EXIT_NEGATIVE && job->even_so))) {
        if (!cli->json) putchar('\n');
        code = job->then(cli, g->build, &g->facts);
    }
done:
    if (status != WS_OK) {
        if (made) (void)unlink(g->facts.id); /* nothing was planned for it */
        if (status != WS_E_USAGE) ws_fail_where(&cli->error, "%s", wished.image ? wished.image : "");
        code = cli_fail(cli);
    }
    ws_text_free(&text);
    if (g) ws_build_close(g->build);
    for (size_t i = 0; g && i < WS_INPUTS_MOST; i++) ws_source_close(g->input[i]);
    if (g) ws_source_close(g->now);
    if (g && g->drive) g->drive->ops->close(g->drive);
    free(g);
    return code;
}

int run_plan(struct cli *cli, const char *const word[]) {
    (void)word;
    return plan_run(cli, &asked);
}
