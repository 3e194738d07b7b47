/* check.c — satchel check: is a drive sound, and does what reads back equal what was meant. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/record.h"

#include <stdlib.h>
#include <string.h>

static bool tell(void *context, const struct ws_progress *progress) { return meter_tell(context, progress); }

/* Is what stands there sound in itself? What is planned to be the image's own, or to forget, is no fault of the drive.
 */
static enum ws_status check_soundness(struct cli *cli, const struct ws_drive_facts *f, struct ws_drive *drive,
                                      bool replica, bool forgets, struct ws_findings *findings,
                                      struct ws_memory *memory) {
    struct ws_source *source = NULL;
    struct ws_findings table = {0};
    struct ws_unfinished mark;
    uint8_t first[512];
    char got[32], all[32];
    enum ws_status status;
    WS_TRY(drive->ops->reread(drive, &cli->error));
    WS_TRY(ws_source_drive(drive, &source, &cli->error));
    WS_GO(ws_source_read(source, 0, first, sizeof first, &cli->error));
    if (ws_changing_read(first, NULL)) {
        ws_findings_add(findings, WS_FAULT,
                        "a change of it was cut, and nothing is lost; `satchel build --finish %s` finishes it",
                        f->short_name);
        goto done;
    }
    if (ws_is_unfinished(first)) {
        bool known = ws_unfinished_read(first, &mark) && mark.flushed;
        ws_findings_add(findings, WS_FAULT,
                        "a build on it is not finished%s%s%s%s; `satchel build` with its plan continues it",
                        known ? ", done up to " : "", known ? ws_size_counted(mark.flushed, got, sizeof got) : "",
                        known ? " of " : "", known ? ws_size_counted(mark.end, all, sizeof all) : "");
        goto done;
    }
    WS_GO(ws_table_check(source, f->logical_sector, &table, &cli->error));
    for (size_t i = 0; i < table.count; i++)
        ws_findings_add(findings, replica ? WS_NOTE : table.list[i].weight, "%s%s", table.list[i].text,
                        replica && table.list[i].weight != WS_NOTE ? ", as in the image" : "");
    WS_GO(ws_memory_look(source, f->logical_sector, memory, &cli->error));
    if (memory->locked) ws_findings_add(findings, WS_NOTE, "it is locked: what is inside was not looked at");
    if (memory->unread)
        ws_findings_add(findings, WS_NOTE, "whether it would remember cannot be told: %s", memory->cause_text);
    else if (memory->system && memory->cause != WS_FORGETS_NOT)
        ws_findings_add(findings, WS_FAULT, "the system on it would not come up, or forget: %s", memory->cause_text);
    else if (memory->cause == WS_FORGETS_NO_SYSTEM) ws_findings_add(findings, WS_NOTE, "%s", memory->cause_text);
    else if (memory->cause != WS_FORGETS_NOT && forgets)
        ws_findings_add(findings, WS_NOTE, "it forgets at power-off, as planned");
    else if (memory->cause != WS_FORGETS_NOT)
        ws_findings_add(findings, WS_FAULT, "it would forget: %s", memory->cause_text);
done:
    ws_findings_free(&table);
    ws_source_close(source);
    return status;
}

/* A drive, and what it is held against: a plan with its image, the record of its build, or nothing but itself. */
struct comparing {
    struct cli_plan plan;
    struct record record;
    bool by_plan, by_record, used;
    struct ws_drive_facts facts;
    struct ws_check_result result;
    struct ws_findings findings;
    struct ws_memory memory;
    bool in_use_parts;         /* all differences lie where a started system writes */
    bool only_remembered;      /* and it was started */
    struct ws_located located; /* the first one elsewhere */
    uint64_t located_at;
};

/* As what it was made; of a drive that is held against nothing: usual. */
static enum ws_kind kind_of(const struct comparing *c) {
    return c->by_plan ? ws_plan_facts(c->plan.plan)->kind : c->record.kind;
}

static enum ws_status compare(struct cli *cli, struct comparing *c, struct ws_drive *drive) {
    struct meter meter = {.cli = cli};
    const struct ws_check_options o = {.with_hash = true,
                                       .leave_out = c->used ? ws_roles_in_use(kind_of(c)) : 0,
                                       .on_progress = tell,
                                       .context = &meter};
    if (c->by_plan && cli_is_locked(c->plan.plan))
        ws_findings_add(&c->findings, WS_NOTE,
                        "the locked volume is not held against the plan, which does not know its key; --record FILE "
                        "compares it, too");
    const char *meant_for = c->by_plan ? ws_plan_drive(c->plan.plan)->name : c->record.drive;
    if (!ws_drive_alike(&c->facts, meant_for))
        return ws_fail(&cli->error, WS_E_USAGE, "the %s is for %s, this is %s", c->by_plan ? "plan" : "record",
                       meant_for, c->facts.short_name);
    enum ws_status status =
        c->by_plan ? ws_build_check(c->plan.build, cli->port, drive, c->used, tell, &meter, &c->result, &cli->error)
                   : ws_check_pieces(cli->port, &c->record.pieces, drive, &o, &c->result, &cli->error);
    meter_end(&meter);
    return status;
}

/* What was resized since is in another place of the table than the plan has it. */
static void note_resized(struct comparing *c) {
    const struct ws_volume *v = c->by_plan ? ws_plan_volume(c->plan.plan, WS_ROLE_PERSISTENCE) : NULL;
    char is[48], was[48];
    if (!v || c->memory.in_file || c->memory.volume_size == v->size) return;
    if (c->memory.volume_at > v->at || c->memory.volume_at + c->memory.volume_size <= v->at) return;
    ws_findings_add(&c->findings, WS_NOTE,
                    "the volume that remembers is of %s, the plan made it of %s: it was resized since, and the table, "
                    "at least, differs from the plan by that",
                    ws_size_both(c->memory.volume_size, is, sizeof is), ws_size_both(v->size, was, sizeof was));
}

/* A newer image was laid under it since. */
static void note_renewed(struct cli *cli, struct comparing *c) {
    struct ws_passport_event event[WS_PASSPORT_EVENTS_MOST];
    char plan[1024];
    if (!history_renewed(event, history_of(cli, &c->facts, event, WS_PASSPORT_EVENTS_MOST, plan))) return;
    ws_findings_add(&c->findings, WS_NOTE,
                    "a newer image was laid under what it remembers since it was built: it differs from what was "
                    "built by all of that image");
}

/* Whose are the differences? */
static void look_at_differences(struct cli *cli, struct comparing *c, struct ws_drive *drive) {
    note_resized(c);
    note_renewed(cli, c);
    const struct ws_check_result *r = &c->result;
    const uint32_t elsewhere = r->different_parts & ~ws_roles_in_use(kind_of(c));
    struct ws_contents *contents = malloc(sizeof *contents);
    struct ws_source *source = NULL;
    struct ws_error ignored;
    const struct ws_ext4_facts *v = &c->memory.volume;
    c->in_use_parts = r->different_parts && !elsewhere;
    /* Only a drive that was started has anything to remember: else it is damage, wherever it lies. */
    const bool started =
        c->memory.volume_size && !c->memory.locked &&
        (v->mounts || v->needs_recovery || v->mounted_at > 0 || v->written_at > v->made_at || v->written_bytes > 0);
    c->only_remembered = c->in_use_parts && started;
    c->located_at = UINT64_MAX;
    for (unsigned i = 0; i < WS_LAYOUT_PARTS; i++)
        if ((elsewhere >> i & 1) && r->different_in[i] < c->located_at) c->located_at = r->different_in[i];
    if (elsewhere && contents && ws_source_drive(drive, &source, &ignored) == WS_OK &&
        ws_contents_look(source, c->facts.logical_sector, false, contents, &ignored) == WS_OK)
        ws_contents_locate(source, contents, c->located_at, &c->located);
    ws_source_close(source);
    free(contents);
}

/* "in partition 2 (FAT12 "CURLEW"), in the file /EFI/BOOT/BOOTX64.EFI"; "outside of all partitions" */
static void name_place(const struct ws_located *l, bool piece, char *out, size_t room) {
    if (!l->system[0]) (void)snprintf(out, room, "outside of all partitions");
    else
        (void)snprintf(out, room, "in %s%.0u (%s%s%s%s)%s%.300s", l->number ? "partition " : "its volume", l->number,
                       l->system, l->label[0] ? " \"" : "", l->label, l->label[0] ? "\"" : "",
                       l->path[0] ? ", in the file "
                       : piece    ? ""
                                  : ", in none of its files",
                       l->path);
}

static void show_difference(const struct cli *cli, const struct comparing *c, const char *meant) {
    const struct ws_check_result *r = &c->result;
    char place[460];
    if (c->only_remembered) {
        show_result(cli, true, "%s holds exactly what %s, but for what it remembers: all %llu difference%s lie there.",
                    c->facts.short_name, meant, (unsigned long long)r->different_chunks,
                    r->different_chunks == 1 ? "" : "s");
        return;
    }
    if (c->in_use_parts) {
        show_result(
            cli, false,
            "%s differs from what %s, in %llu place%s, all of them where a started system writes; but nothing tells "
            "that it was ever started. If it was, --used leaves those volumes out.",
            c->facts.short_name, meant, (unsigned long long)r->different_chunks, r->different_chunks == 1 ? "" : "s");
        return;
    }
    struct ws_located located = c->located;
    if (c->by_record) located.path[0] = '\0'; /* somewhere in a piece */
    name_place(&located, c->by_record, place, sizeof place);
    show_result(cli, false, "%s differs from what %s, first %s byte %llu%s, %s; in %llu place%s in all.",
                c->facts.short_name, meant, c->by_record ? "in the piece from" : "at",
                (unsigned long long)c->located_at, c->by_record ? " on" : "", place,
                (unsigned long long)r->different_chunks, r->different_chunks == 1 ? "" : "s");
}

static int show_check(const struct cli *cli, const struct comparing *c) {
    const struct ws_check_result *r = &c->result;
    const struct ws_memory *memory = &c->memory;
    bool compared = c->by_plan || c->by_record;
    bool sound = ws_findings_worst(&c->findings) != WS_FAULT;
    bool good = sound && (!compared || r->equal || c->only_remembered);
    int code = good ? EXIT_DONE : EXIT_NEGATIVE;
    char size[48], time[32];
    if (cli->json)
        return cli_print_json(
            cli_pack("{s:s, s:s, s:b, s:b, s:o, s:b, s:I, s:o, s:I, s:s, s:o, s:o}", "format", "wild-satchel-check",
                     "drive", c->facts.short_name, "good", good, "sound", sound, "equal",
                     compared ? json_boolean(r->equal) : json_null(), "only_remembered", c->only_remembered,
                     "checked_bytes", (json_int_t)r->checked, "different_at_bytes",
                     compared && !r->equal ? json_integer((json_int_t)r->different_at) : json_null(),
                     "different_places", (json_int_t)r->different_chunks, "different_file", c->located.path, "sha256",
                     cli_hash_json(r->sha256), "findings", cli_findings_json(&c->findings)),
            code);
    show_line(cli, INK_BOLD, "%s", c->facts.short_name);
    show_findings(cli, &c->findings);
    if (memory->volume_size && !memory->locked && !memory->unread)
        show_field(cli, memory->system ? "System" : "Persistence", "\"%s\", %s free%s", memory->volume.label,
                   ws_size_both(memory->volume.free_bytes, size, sizeof size),
                   memory->volume.needs_recovery ? ", last not shut down cleanly" : "");
    if (compared)
        show_field(cli, "Compared", "%s in %s", ws_size_both(r->checked, size, sizeof size),
                   ws_duration(r->seconds, time, sizeof time));
    if (r->sha256[0]) show_field(cli, "SHA-256", "%s (over those of its pieces)", r->sha256);
    const char *meant = c->by_record ? "was read back when it was built" : "was meant";
    if (compared && !r->equal) show_difference(cli, c, meant);
    else if (!sound) show_result(cli, false, "%s is not sound; see the faults above.", c->facts.short_name);
    else if (compared)
        show_result(cli, true, "%s holds exactly what %s. What was never written was not looked at: %s of it.",
                    c->facts.short_name, meant,
                    ws_size_counted(c->facts.size > r->checked ? c->facts.size - r->checked : 0, size, sizeof size));
    else show_result(cli, true, "%s is sound. --plan PLAN or --record FILE compare every byte.", c->facts.short_name);
    return code;
}

static char *plan_path, *record_path, *image;
static int used;
const struct poptOption check_options[] = {
    {"plan", 'p', POPT_ARG_STRING, &plan_path, 0, "compare every byte with what this plan meant", "PLAN"},
    {"record", 'r', POPT_ARG_STRING, &record_path, 0,
     "compare with what was read back when it was built (PLAN.built): needs no image", "FILE"},
    {"image", 'i', POPT_ARG_STRING, &image, 0, "where the plan's image is now, if it was moved", "FILE"},
    {"used", 0, POPT_ARG_NONE, &used, 0,
     "the drive has been started since: leave out its persistence, data and swap, and a full system's volume", NULL},
    POPT_TABLEEND};

int run_check(struct cli *cli, const char *const word[]) {
    struct comparing *c = calloc(1, sizeof *c);
    struct ws_drive *drive = NULL;
    enum ws_status status;
    int code = EXIT_DONE;
    if (!c) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a check"));
    c->by_plan = plan_path != NULL;
    c->by_record = record_path != NULL;
    c->used = used != 0;
    if (c->by_plan && c->by_record)
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "a drive is compared with a plan or with a record"));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &c->facts));
    WS_GO(cli->port->ops->open(cli->port, c->facts.id, WS_OPEN_READ, &drive, &cli->error));
    if (plan_path) WS_GO(cli_load_plan(cli, plan_path, image, &c->plan));
    if (record_path) WS_GO(record_load(cli, record_path, &c->record));
    bool replica = kind_of(c) == WS_KIND_REPLICA;
    bool forgets = c->by_plan ? !ws_plan_volume(c->plan.plan, WS_ROLE_PERSISTENCE) : c->record.forgets;
    WS_GO(check_soundness(cli, &c->facts, drive, replica, forgets, &c->findings, &c->memory));
    if (c->by_plan || c->by_record) WS_GO(compare(cli, c, drive));
    if (c->result.different_parts) look_at_differences(cli, c, drive);
    code = show_check(cli, c);
    history_note(cli, "check", &c->facts, NULL, NULL, code == EXIT_DONE,
                 code != EXIT_DONE            ? "not as it should be"
                 : c->by_plan || c->by_record ? "as it was meant"
                                              : "sound");
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    if (c) {
        ws_findings_free(&c->findings);
        ws_pieces_free(&c->record.pieces);
        cli_free_plan(&c->plan);
    }
    free(c);
    return code;
}
