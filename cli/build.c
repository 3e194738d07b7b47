/* build.c — satchel build: a plan carried out; satchel check: what reads back against what was meant. */
#include "cli/cli.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char built_format[] = "wild-satchel-built";

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
    if (!ws_linux_is_document(b->record, built_format) || unlink(b->record) == 0) return WS_OK;
    ws_fail(error, WS_E_WRITE, "the record of an older build cannot be removed, and would no longer be true");
    ws_fail_where(error, "%s", b->record);
    return ws_fail_next(error, "remove it; nothing was written");
}

static json_t *result_json(const struct ws_plan *p, const struct ws_build_result *r) {
    return cli_pack("{s:s, s:i, s:s, s:s, s:s, s:I, s:s, s:I, s:I, s:f, s:f, s:b, s:I, s:f, s:o, s:o, s:s}", "format",
                    built_format, "version", 1, "kind", ws_kind_name(ws_plan_facts(p)->kind), "drive",
                    ws_plan_drive(p)->name, "serial", ws_plan_drive(p)->serial, "written_bytes",
                    (json_int_t)r->write.written, "begun", ws_begun_name(r->write.begun), "continued_at_bytes",
                    (json_int_t)r->write.continued_at, "compared_bytes", (json_int_t)r->write.compared, "write_seconds",
                    r->write.seconds, "flush_seconds", r->write.flush_seconds, "checked", r->checked, "checked_bytes",
                    (json_int_t)r->check.checked, "check_seconds", r->check.seconds, "drive_sha256",
                    cli_hash_json(r->check.sha256), "image_sha256", cli_hash_json(r->image_sha256), "layout_sha256",
                    ws_plan_facts(p)->fingerprint);
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
    if (r->checked) show_field(cli, "", "drive  %s", r->check.sha256);
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
    json_t *document = result_json(p.plan, &result);
    char *text = json_dumps(document, JSON_INDENT(2) | JSON_PRESERVE_ORDER);
    struct ws_error reported = cli->error;
    struct cli_never never = {0};
    for (size_t i = 0; i < WS_INPUTS; i++) cli_never(&never, ws_plan_request(p.plan)->input[i].path);
    cli_never(&never, facts.id);
    bool noted = text && cli_keep(cli, b.record, text, strlen(text), built_format, false, &never) == WS_OK;
    struct ws_error unkept = cli->error;
    cli->error = reported;
    free(text);
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
    cli_free_plan(&p);
    return code;
}

/* Is what stands there sound in itself? What is planned to be the image's own, or to forget, is no fault of the drive.
 */
static enum ws_status check_soundness(struct cli *cli, const struct ws_drive_facts *f, struct ws_drive *drive,
                                      const struct ws_plan *plan, struct ws_findings *findings,
                                      struct ws_memory *memory) {
    struct ws_source *source = NULL;
    struct ws_findings table = {0};
    struct ws_unfinished mark;
    uint8_t first[512];
    bool replica = plan && ws_plan_facts(plan)->kind == WS_KIND_REPLICA;
    bool forgets = plan && !ws_plan_volume(plan, WS_ROLE_PERSISTENCE);
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

int run_check(struct cli *cli, int argc, const char **argv) {
    char *plan_path = NULL;
    int used = 0;
    const struct poptOption options[] = {
        {"plan", 'p', POPT_ARG_STRING, &plan_path, 0, "compare every byte with what this plan meant", "PLAN"},
        {"used", 0, POPT_ARG_NONE, &used, 0, "the drive has been started since: leave out its persistence volume",
         NULL},
        POPT_TABLEEND};
    const char *word[1] = {NULL};
    struct cli_plan p = {0};
    struct building b = {.cli = cli, .meter = {.cli = cli}};
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    struct ws_check_result result = {0};
    struct ws_findings findings = {0};
    struct ws_memory memory = {0};
    char size[48], time[32];
    enum ws_status status;
    int code = cli_options(cli, cli_command("check"), argc, argv, options, word, 1, 1);
    if (code) return code - 1;
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &facts));
    WS_GO(cli->port->ops->open(cli->port, facts.id, WS_OPEN_READ, &drive, &cli->error));
    if (plan_path) WS_GO(cli_load_plan(cli, plan_path, &p));
    WS_GO(check_soundness(cli, &facts, drive, p.plan, &findings, &memory));
    if (plan_path) {
        if (strcmp(ws_plan_drive(p.plan)->name, facts.short_name) != 0)
            WS_GO(ws_fail(&cli->error, WS_E_USAGE, "the plan is for %s, this is %s", ws_plan_drive(p.plan)->name,
                          facts.short_name));
        status = ws_build_check(p.build, cli->port, drive, used != 0, tell, &b, &result, &cli->error);
        meter_end(&b.meter);
        if (status != WS_OK) goto done;
    }
    bool sound = ws_findings_worst(&findings) != WS_FAULT;
    bool good = sound && (!plan_path || result.equal);
    code = good ? EXIT_DONE : EXIT_NEGATIVE;
    if (cli->json) {
        code = cli_print_json(
            cli_pack("{s:s, s:s, s:b, s:b, s:o, s:I, s:o, s:I, s:o, s:o}", "format", "wild-satchel-check", "drive",
                     facts.short_name, "good", good, "sound", sound, "equal",
                     plan_path ? json_boolean(result.equal) : json_null(), "checked_bytes", (json_int_t)result.checked,
                     "different_at_bytes",
                     plan_path && !result.equal ? json_integer((json_int_t)result.different_at) : json_null(),
                     "different_places", (json_int_t)result.different_chunks, "sha256", cli_hash_json(result.sha256),
                     "findings", cli_findings_json(&findings)),
            code);
    } else {
        show_line(cli, INK_BOLD, "%s", facts.short_name);
        show_findings(cli, &findings);
        if (memory.volume_size)
            show_field(cli, "Persistence", "\"%s\", %s free%s", memory.volume.label,
                       ws_size_both(memory.volume.free_bytes, size, sizeof size),
                       memory.volume.needs_recovery ? ", last not shut down cleanly" : "");
        if (plan_path)
            show_field(cli, "Compared", "%s in %s", ws_size_both(result.checked, size, sizeof size),
                       ws_duration(result.seconds, time, sizeof time));
        if (result.sha256[0]) show_field(cli, "SHA-256", "%s", result.sha256);
        if (plan_path && !result.equal)
            show_result(cli, false, "%s differs from what was meant, first at byte %llu, in %llu places.",
                        facts.short_name, (unsigned long long)result.different_at,
                        (unsigned long long)result.different_chunks);
        else if (!sound) show_result(cli, false, "%s is not sound; see the faults above.", facts.short_name);
        else
            show_result(cli, true,
                        plan_path ? "%s holds exactly what was meant."
                                  : "%s is sound. --plan PLAN compares every byte.",
                        facts.short_name);
    }
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    ws_findings_free(&findings);
    cli_free_plan(&p);
    return code;
}
