/* build.c — satchel build: a plan carried out. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/jobs.h"
#include "cli/record.h"
#include "cli/secret.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct building {
    struct cli *cli;
    struct meter meter;
    const char *plan; /* its file */
    char *record;     /* where the result is kept: beside the plan */
    struct ws_pieces pieces;
};

static bool tell(void *context, const struct ws_progress *progress) {
    return meter_tell(&((struct building *)context)->meter, progress);
}

static enum ws_status before_write(void *context, struct ws_error *error) {
    return record_forget(((const struct building *)context)->record, error);
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
        show_field(cli, "Checked", "%s read back in %s, all as meant; the rest of the drive was not written",
                   ws_size_both(r->check.checked, size, sizeof size), ws_duration(r->check.seconds, time, sizeof time));
    const bool by_state = ws_request_by_state(ws_plan_request(p));
    if (!by_state) show_field(cli, "SHA-256", "image  %s", r->image_sha256);
    bool same = strcmp(r->check.sha256, r->image_sha256) == 0;
    if (r->checked)
        show_field(cli, by_state ? "SHA-256" : "", "drive  %s%s", r->check.sha256,
                   same ? "" : " (over those of its pieces)");
}

struct build_job build_wished;
const struct poptOption build_options[] = {
    {"confirm", 'c', POPT_ARG_STRING, &build_wished.confirm, 0, "the drive's own name, for scripts", "NAME"},
    {"password-fd", 0, POPT_ARG_STRING, &build_wished.password_fd, 0,
     "read the accounts' passwords, and the passphrase, from this open file, a line each, instead of asking", "NUMBER"},
    {"recovery-fd", 0, POPT_ARG_STRING, &build_wished.recovery_fd, 0,
     "write a locked system's recovery key to this open file, instead of showing it on the terminal", "NUMBER"},
    {"image", 'i', POPT_ARG_STRING, &build_wished.image, 0, "where the plan's image is now, if it was moved", "FILE"},
    {"external-disk", 0, POPT_ARG_NONE, &build_wished.external, 0, "an external hard drive or SSD is really meant",
     NULL},
    {"no-check", 0, POPT_ARG_NONE, &build_wished.no_check, 0, "do not read back what was written", NULL},
    {"even-so", 0, POPT_ARG_NONE, &build_wished.even_so, 0, "carry out a plan that has a fault", NULL},
    {"afresh", 0, POPT_ARG_NONE, &build_wished.afresh, 0,
     "start at the beginning even if an earlier build can be continued", NULL},
    POPT_TABLEEND};
static char *finish;
const struct poptOption build_all_options[] = {
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)build_options, 0, NULL, NULL},
    {"finish", 0, POPT_ARG_STRING, &finish, 0,
     "finish a change that was cut of the drive with this name; needs no plan", "DRIVE"},
    POPT_TABLEEND};

/* A twin whose system can be started and looked at. */
static bool twin_of_system(const struct ws_plan *p) {
    return ws_plan_facts(p)->kind == WS_KIND_TWIN && ws_plan_volume(p, WS_ROLE_SYSTEM) && ws_plan_outlooks(p)->starts;
}

/* What was built: its record kept and told. */
static int conclude(struct cli *cli, const struct building *b, const struct ws_plan *p,
                    const struct ws_drive_facts *facts, const struct ws_build_result *result) {
    json_t *document = record_json(p, result);
    struct cli_never never = {0};
    for (size_t i = 0; i < ws_request_inputs(ws_plan_request(p)); i++)
        cli_never(&never, ws_request_input(ws_plan_request(p), i)->path);
    cli_never(&never, facts->id);
    history_note(cli, "build", facts, p, b->plan, true, result->checked ? "written and checked" : "written");
    bool noted = record_keep(cli, b->record, document, &b->pieces, &never) == WS_OK;
    if (cli->json) return cli_print_json(document, EXIT_DONE);
    json_decref(document);
    show_built(cli, p, result);
    if (noted) show_field(cli, "Record", "%s", b->record);
    else show_field(cli, "Record", "not kept: %s: %s", cli->error.where, cli->error.what);
    const bool provable =
        ws_plan_volume(p, WS_ROLE_PERSISTENCE) || twin_of_system(p) || ws_kind_is_system(ws_plan_facts(p)->kind);
    const char *pc = provable && !cli_is_locked(p) ? next_pc(cli) : NULL;
    show_result(cli, true, "%s is written%s.%s", facts->short_name,
                result->checked ? ", flushed and checked" : " and flushed, not checked",
                cli_is_locked(p) ? " It asks for its passphrase when it starts." : "");
    if (pc) show_next(cli, "prove", facts->short_name, "--on", pc);
    else show_next(cli, "release", facts->short_name);
    return EXIT_DONE;
}

/* A change that was cut, carried on from what the drive itself holds. */
static enum ws_status finish_change(struct cli *cli, struct building *b) {
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    uint64_t written = 0;
    char size[48];
    enum ws_status status;
    struct ws_target_rules rules = {build_wished.external != 0};
    WS_TRY(cli_find_drive(cli, finish, &facts));
    WS_TRY(ws_drive_may_be_target(cli->port, &facts, &rules, &cli->error));
    WS_TRY(cli->port->ops->open(cli->port, facts.id, WS_OPEN_WRITE, &drive, &cli->error));
    stop_listen(); /* it is not stopped in between: that would only have to be finished again */
    /* nothing is lost by it: the drive's own name, typed to say which, confirms it, too */
    WS_GO(ws_drive_confirmed(&facts, build_wished.confirm ? build_wished.confirm : finish, &cli->error));
    WS_GO(ws_change_finish(cli->port, drive, tell, b, &written, &cli->error));
    meter_end(&b->meter);
    if (cli->json)
        (void)cli_print_json(cli_pack("{s:s, s:s, s:I}", "format", "wild-satchel-finished", "drive", facts.short_name,
                                      "written_bytes", (json_int_t)written),
                             EXIT_DONE);
    else {
        show_result(cli, true, "The change of %s is finished: %s were put in their places.", facts.short_name,
                    ws_size_both(written, size, sizeof size));
        show_next(cli, "check", facts.short_name);
    }
done:
    drive->ops->close(drive);
    return status;
}

/* What state the drive is in, where the build has not said so. */
static void say_state(struct cli *cli, const struct ws_plan *plan, enum ws_status status) {
    bool renewal = ws_plan_is_change(plan);
    if (renewal && (status == WS_E_GONE || status == WS_E_WRITE)) { /* the port's own way on is that of a build */
        cli->error.next[0] = '\0';
        cli->error.ways = 0;
        ws_fail_hint(&cli->error, WS_HINT_FINISH, "",
                     "plug it in again: it is as it was, or says that it is being changed and is to be finished; "
                     "nothing is lost");
    } else if (renewal) {
        ws_fail_next(&cli->error, "the drive is as it was");
    } else if (status != WS_E_REFUSED && status != WS_E_DIFFERENT && !cli->error.next[0]) {
        ws_fail_next(&cli->error, "the drive is unfinished and says so; run the same command to %s",
                     cli_is_locked(plan) ? "begin again" : "continue");
    }
}

static enum ws_status carry_out(struct cli *cli, struct building *b, const struct cli_plan *p, struct ws_drive *drive,
                                const struct build_job *job, const char *confirm, struct ws_build_result *result) {
    struct ws_build_options o = {.allow_external_disk = job->external != 0,
                                 .confirm = confirm,
                                 .before_write = before_write,
                                 .on_progress = tell,
                                 .context = b,
                                 .pieces = &b->pieces,
                                 .skip_check = job->no_check != 0,
                                 .even_so = job->even_so != 0,
                                 .afresh = job->afresh != 0};
    enum ws_status status = ws_build_carry_out(p->build, cli->port, drive, &o, result, &cli->error);
    meter_end(&b->meter);
    if (status != WS_OK) say_state(cli, p->plan, status);
    return status;
}

/* What makes a drive look finished is unique to each build: its identifiers are. */
static bool holds_it(struct cli *cli, const struct cli_plan *p, struct ws_drive *drive) {
    const struct ws_layout *layout = ws_build_layout(p->build);
    const struct ws_check_options seal = {.scope = WS_CHECK_SEAL};
    struct ws_check_result result;
    struct ws_error ignored;
    bool sealed = false;
    for (size_t i = 0; i < ws_layout_count(layout); i++) sealed |= ws_layout_extent(layout, i)->phase == WS_PHASE_SEAL;
    return sealed && ws_check(cli->port, layout, drive, &seal, &result, &ignored) == WS_OK && result.equal;
}

int build_run(struct cli *cli, const char *plan, const struct build_job *job) {
    struct cli_plan p = {0};
    struct building b = {.cli = cli, .meter = {.cli = cli, .checks = !job->no_check}};
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    struct ws_build_result result;
    struct ws_text record = {0};
    const char *confirm = job->confirm;
    char answer[128] = "";
    int code = EXIT_DONE;
    enum ws_status status;
    WS_GO(cli_open_port(cli));
    cli->secrets = job->password_fd;
    WS_GO(cli_load_plan(cli, plan, job->image, &p));
    WS_GO(cli_find_planned(cli, ws_plan_drive(p.plan), &facts));
    struct ws_target_rules rules = {job->external != 0};
    WS_GO(ws_drive_may_write(&facts, &rules, &cli->error));
    WS_GO(cli->port->ops->open(cli->port, facts.id, WS_OPEN_WRITE, &drive, &cli->error));
    stop_listen();
    const bool tells = cli->progress == PROGRESS_TABLE || cli->progress == PROGRESS_LINES;
    if (tells && !ws_plan_is_change(p.plan) && holds_it(cli, &p, drive))
        note_words(cli, 2,
                   "  %s seems to hold this very build already: its table and start-up code are there. `satchel check` "
                   "compares all of it; going on writes it once more.",
                   facts.short_name);
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        bool renewal = ws_plan_is_change(p.plan);
        WS_GO(cli_ask(cli, &facts, renewal ? NULL : drive,
                      "will be replaced; what is kept, and what is lost, stands in the plan", answer, sizeof answer));
        confirm = answer;
    }
    bool told = p.now && cli_is_locked(p.plan); /* what is on the drive could not be read without */
    WS_GO(secret_give(cli, &p.build, 1, told ? NULL : job->password_fd));
    WS_GO(secret_recovery(cli, p.build, job->recovery_fd, NULL));
    ws_text_printf(&record, "%s.built", plan);
    WS_GO(ws_text_status(&record, &cli->error));
    b.record = record.data;
    b.plan = plan;
    status = carry_out(cli, &b, &p, drive, job, confirm, &result);
    if (status != WS_OK && status != WS_E_REFUSED)
        history_note(cli, "build", &facts, p.plan, plan, false, cli->error.what);
    if (status != WS_OK) goto done;
    code = conclude(cli, &b, p.plan, &facts, &result);
    secret_show_recovery(cli, p.build, job->recovery_fd != NULL);
done:
    secret_forget();
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    ws_text_free(&record);
    ws_pieces_free(&b.pieces);
    cli_free_plan(&p);
    return code;
}

int run_build(struct cli *cli, const char *const word[]) {
    struct building b = {.cli = cli, .meter = {.cli = cli}};
    enum ws_status status = WS_OK;
    if (!word[0] == !finish) status = ws_fail(&cli->error, WS_E_USAGE, "build takes a plan, or --finish DRIVE");
    if (status == WS_OK && word[0]) return build_run(cli, word[0], &build_wished);
    if (status == WS_OK) status = cli_open_port(cli);
    if (status == WS_OK) status = finish_change(cli, &b);
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
