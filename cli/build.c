/* build.c — satchel build: a plan carried out; satchel check: what reads back against what was meant. */
#include "cli/record.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct building {
    struct cli *cli;
    struct meter meter;
    char *record; /* where the result is kept: beside the plan */
};

static bool tell(void *context, const struct ws_progress *progress) {
    return meter_tell(&((struct building *)context)->meter, progress);
}

/* The record of an older build is no longer true from the first write on. What is no record of ours stays. */
static enum ws_status before_write(void *context, struct ws_error *error) {
    const struct building *b = context;
    if (!ws_linux_is_document(b->record, record_format) || unlink(b->record) == 0) return WS_OK;
    ws_fail(error, WS_E_WRITE, "the record of an older build cannot be removed, and would no longer be true");
    ws_fail_where(error, "%s", b->record);
    return ws_fail_next(error, "remove it; nothing was written");
}

/* Where it began, where somebody may have thought otherwise. */
static void show_beginning(const struct cli *cli, const struct ws_write_result *w) {
    static const char *const why[] = {[WS_BEGUN_OTHER] = "the unfinished build on the drive was another one",
                                      [WS_BEGUN_DAMAGED] = "what the drive said of an earlier run was impossible",
                                      [WS_BEGUN_CHANGED] = "the drive no longer held what an earlier run wrote"};
    char at[48], compared[48];
    if (w->begun == WS_BEGUN_CONTINUED)
        show_field(cli, "Continued", "at %s, where an earlier run got to; %s of it compared first",
                   ws_size_both(w->continued_at, at, sizeof at),
                   ws_size_counted(w->compared, compared, sizeof compared));
    else if (w->begun <= WS_BEGUN_CHANGED && why[w->begun])
        show_field(cli, "Begun", "at the beginning: %s", why[w->begun]);
}

static void show_built(const struct cli *cli, const struct ws_plan *p, const struct ws_build_result *r) {
    char size[48], time[32], flush[32], rate[24];
    double s = r->write.seconds > 0 ? r->write.seconds : 1e-9;
    show_line(cli, INK_BOLD, "%s on %s", ws_plan_facts(p)->title, ws_plan_drive(p)->name);
    show_beginning(cli, &r->write);
    show_field(cli, "Written", "%s in %s (%s/s), %s of it waiting for the drive",
               ws_size_both(r->write.written, size, sizeof size), ws_duration(r->write.seconds, time, sizeof time),
               ws_size_counted((uint64_t)((double)r->write.written / s), rate, sizeof rate),
               ws_duration(r->write.flush_seconds, flush, sizeof flush));
    if (r->checked)
        show_field(cli, "Checked", "%s read back in %s, all as meant",
                   ws_size_both(r->check.checked, size, sizeof size), ws_duration(r->check.seconds, time, sizeof time));
    show_field(cli, "SHA-256", "image  %s", r->image_sha256);
    bool same = strcmp(r->check.sha256, r->image_sha256) == 0;
    if (r->checked) show_field(cli, "", "drive  %s%s", r->check.sha256, same ? "" : ", over those of its pieces");
}

/* An image touched since it was planned is read once more before anything is written: the check beside the writing
 * would find a change too, but only when the drive's old contents are gone. */
static enum ws_status check_touched(struct cli *cli, const struct cli_plan *p) {
    const struct ws_input *image = &ws_plan_request(p->plan)->input[WS_INPUT_IMAGE];
    char hex[WS_HASH_HEX];
    if (!image->touched_at || cli_touched_at(image->path) == image->touched_at) return WS_OK;
    WS_TRY(ws_source_hash(p->input[WS_INPUT_IMAGE], WS_HASH_SHA256, hex, &cli->error));
    if (strcmp(hex, image->sha256) == 0) return WS_OK;
    ws_fail(&cli->error, WS_E_FORMAT,
            "the image is no longer the one that was planned: its SHA-256 is now %.16s..., planned was %.16s...", hex,
            image->sha256);
    ws_fail_where(&cli->error, "%s", image->path);
    return ws_fail_next(&cli->error, "make a new plan from the image as it is; nothing was written");
}

/* By its name, else where it was when it was planned, if it still looks the same. */
static enum ws_status find_planned(struct cli *cli, const struct ws_plan_drive *planned, struct ws_drive_facts *facts) {
    if (cli_find_drive(cli, planned->name, facts) == WS_OK) return WS_OK;
    if (cli_find_drive(cli, planned->seen_at, facts) == WS_OK && strcmp(facts->short_name, planned->name) == 0)
        return WS_OK;
    ws_fail(&cli->error, WS_E_REFUSED, "the planned drive is not here: %s, serial %s", planned->name,
            planned->serial[0] ? planned->serial : "unknown");
    return ws_fail_next(&cli->error, "plug it in, or make a plan for another drive; nothing was written");
}

int run_build(struct cli *cli, int argc, const char **argv) {
    char *confirm = NULL;
    int external = 0, no_check = 0, afresh = 0, even_so = 0;
    const struct poptOption options[] = {
        {"confirm", 'c', POPT_ARG_STRING, &confirm, 0, "the drive's own name, for scripts", "NAME"},
        {"external-disk", 0, POPT_ARG_NONE, &external, 0, "an external hard drive or SSD is really meant", NULL},
        {"no-check", 0, POPT_ARG_NONE, &no_check, 0, "do not read back what was written", NULL},
        {"even-so", 0, POPT_ARG_NONE, &even_so, 0, "carry out a plan that has a fault", NULL},
        {"afresh", 0, POPT_ARG_NONE, &afresh, 0, "start at the beginning even if an earlier build can be continued",
         NULL},
        POPT_TABLEEND};
    const char *word[1] = {NULL};
    struct cli_plan p = {0};
    struct building b = {.cli = cli, .meter = {.cli = cli}};
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    struct ws_build_result result;
    struct ws_text record = {0};
    struct ws_pieces pieces = {0};
    char answer[128] = "";
    enum ws_status status;
    int code = cli_options(cli, cli_command("build"), argc, argv, options, word, 1, 1);
    if (code) return code - 1;
    WS_GO(cli_open_port(cli));
    WS_GO(cli_load_plan(cli, word[0], &p));
    WS_GO(find_planned(cli, ws_plan_drive(p.plan), &facts));
    struct ws_target_rules rules = {external != 0};
    WS_GO(ws_drive_may_write(&facts, &rules, &cli->error));
    WS_GO(check_touched(cli, &p));
    WS_GO(cli->port->ops->open(cli->port, facts.id, WS_OPEN_WRITE, &drive, &cli->error));
    stop_listen();
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_GO(cli_ask(cli, &facts, drive, answer, sizeof answer));
        confirm = answer;
    }
    ws_text_printf(&record, "%s.built", word[0]);
    WS_GO(ws_text_status(&record, &cli->error));
    b.record = record.data;
    struct ws_build_options o = {.allow_external_disk = external != 0,
                                 .confirm = confirm,
                                 .before_write = before_write,
                                 .on_progress = tell,
                                 .context = &b,
                                 .pieces = &pieces,
                                 .skip_check = no_check != 0,
                                 .even_so = even_so != 0,
                                 .afresh = afresh != 0};
    status = ws_build_carry_out(p.build, cli->port, drive, &o, &result, &cli->error);
    meter_end(&b.meter);
    if (status != WS_OK) {
        if (status != WS_E_REFUSED && status != WS_E_DIFFERENT && !cli->error.next[0])
            ws_fail_next(&cli->error, "the drive is unfinished and says so; run the same command to continue");
        goto done;
    }
    json_t *document = record_json(p.plan, &result);
    struct ws_error reported = cli->error;
    struct cli_never never = {0};
    for (size_t i = 0; i < WS_INPUTS; i++) cli_never(&never, ws_plan_request(p.plan)->input[i].path);
    cli_never(&never, facts.id);
    bool noted = record_keep(cli, b.record, document, &pieces, &never) == WS_OK;
    struct ws_error unkept = cli->error;
    cli->error = reported;
    if (cli->json) {
        code = cli_print_json(document, EXIT_DONE);
    } else {
        json_decref(document);
        show_built(cli, p.plan, &result);
        if (noted) show_field(cli, "Record", "%s", b.record);
        else show_field(cli, "Record", "not kept: %s: %s", unkept.where, unkept.what);
        show_result(cli, true, "%s is written%s. %s", facts.short_name,
                    result.checked ? ", flushed and checked" : " and flushed, not checked",
                    ws_plan_volume(p.plan, WS_ROLE_PERSISTENCE) ? "Next: satchel prove, to see that it remembers."
                                                                : "It can be unplugged.");
        code = EXIT_DONE;
    }
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    ws_text_free(&record);
    ws_pieces_free(&pieces);
    cli_free_plan(&p);
    return code;
}

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
    if (memory->cause == WS_FORGETS_NO_SYSTEM) ws_findings_add(findings, WS_NOTE, "%s", memory->cause_text);
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
};

static enum ws_status compare(struct cli *cli, struct comparing *c, struct ws_drive *drive) {
    struct building b = {.cli = cli, .meter = {.cli = cli}};
    const struct ws_check_options o = {
        .with_hash = true, .leave_out = c->used ? WS_ROLES_IN_USE : 0, .on_progress = tell, .context = &b};
    const char *meant_for = c->by_plan ? ws_plan_drive(c->plan.plan)->name : c->record.drive;
    if (strcmp(meant_for, c->facts.short_name) != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "the %s is for %s, this is %s", c->by_plan ? "plan" : "record",
                       meant_for, c->facts.short_name);
    enum ws_status status =
        c->by_plan ? ws_build_check(c->plan.build, cli->port, drive, c->used, tell, &b, &c->result, &cli->error)
                   : ws_check_pieces(cli->port, &c->record.pieces, drive, &o, &c->result, &cli->error);
    meter_end(&b.meter);
    return status;
}

static int show_check(const struct cli *cli, const struct comparing *c) {
    const struct ws_check_result *r = &c->result;
    const struct ws_memory *memory = &c->memory;
    bool compared = c->by_plan || c->by_record;
    bool sound = ws_findings_worst(&c->findings) != WS_FAULT;
    bool good = sound && (!compared || r->equal);
    int code = good ? EXIT_DONE : EXIT_NEGATIVE;
    char size[48], time[32];
    if (cli->json)
        return cli_print_json(cli_pack("{s:s, s:s, s:b, s:b, s:o, s:I, s:o, s:I, s:o, s:o}", "format",
                                       "wild-satchel-check", "drive", c->facts.short_name, "good", good, "sound", sound,
                                       "equal", compared ? json_boolean(r->equal) : json_null(), "checked_bytes",
                                       (json_int_t)r->checked, "different_at_bytes",
                                       compared && !r->equal ? json_integer((json_int_t)r->different_at) : json_null(),
                                       "different_places", (json_int_t)r->different_chunks, "sha256",
                                       cli_hash_json(r->sha256), "findings", cli_findings_json(&c->findings)),
                              code);
    show_line(cli, INK_BOLD, "%s", c->facts.short_name);
    show_findings(cli, &c->findings);
    if (memory->volume_size)
        show_field(cli, "Persistence", "\"%s\", %s free%s", memory->volume.label,
                   ws_size_both(memory->volume.free_bytes, size, sizeof size),
                   memory->volume.needs_recovery ? ", last not shut down cleanly" : "");
    if (compared)
        show_field(cli, "Compared", "%s in %s", ws_size_both(r->checked, size, sizeof size),
                   ws_duration(r->seconds, time, sizeof time));
    if (r->sha256[0]) show_field(cli, "SHA-256", "%s, over those of its pieces", r->sha256);
    const char *meant = c->by_record ? "was read back when it was built" : "was meant";
    if (compared && !r->equal)
        show_result(cli, false, "%s differs from what %s, first at byte %llu, in %llu place%s.", c->facts.short_name,
                    meant, (unsigned long long)r->different_at, (unsigned long long)r->different_chunks,
                    r->different_chunks == 1 ? "" : "s");
    else if (!sound) show_result(cli, false, "%s is not sound; see the faults above.", c->facts.short_name);
    else if (compared) show_result(cli, true, "%s holds exactly what %s.", c->facts.short_name, meant);
    else show_result(cli, true, "%s is sound. --plan PLAN or --record FILE compare every byte.", c->facts.short_name);
    return code;
}

int run_check(struct cli *cli, int argc, const char **argv) {
    char *plan_path = NULL, *record_path = NULL;
    int used = 0;
    const struct poptOption options[] = {
        {"plan", 'p', POPT_ARG_STRING, &plan_path, 0, "compare every byte with what this plan meant", "PLAN"},
        {"record", 'r', POPT_ARG_STRING, &record_path, 0,
         "compare with what was read back when it was built (PLAN.built): needs no image", "FILE"},
        {"used", 0, POPT_ARG_NONE, &used, 0,
         "the drive has been started since: leave out its persistence, data and swap", NULL},
        POPT_TABLEEND};
    const char *word[1] = {NULL};
    struct comparing *c = calloc(1, sizeof *c);
    struct ws_drive *drive = NULL;
    enum ws_status status;
    int code = cli_options(cli, cli_command("check"), argc, argv, options, word, 1, 1);
    if (code) {
        free(c);
        return code - 1;
    }
    if (!c) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a check"));
    c->by_plan = plan_path != NULL;
    c->by_record = record_path != NULL;
    c->used = used != 0;
    if (c->by_plan && c->by_record)
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "a drive is compared with a plan or with a record"));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &c->facts));
    WS_GO(cli->port->ops->open(cli->port, c->facts.id, WS_OPEN_READ, &drive, &cli->error));
    if (plan_path) WS_GO(cli_load_plan(cli, plan_path, &c->plan));
    if (record_path) WS_GO(record_load(cli, record_path, &c->record));
    bool replica = c->by_plan ? ws_plan_facts(c->plan.plan)->kind == WS_KIND_REPLICA : c->record.replica;
    bool forgets = c->by_plan ? !ws_plan_volume(c->plan.plan, WS_ROLE_PERSISTENCE) : c->record.forgets;
    WS_GO(check_soundness(cli, &c->facts, drive, replica, forgets, &c->findings, &c->memory));
    if (c->by_plan || c->by_record) WS_GO(compare(cli, c, drive));
    code = show_check(cli, c);
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
