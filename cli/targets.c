/* targets.c — several drives prepared at once: decided, begun, looked after, concluded, each for itself. */
#include "cli/targets.h"

#include "cli/history.h"
#include "cli/jobs.h"
#include "cli/proofs.h"
#include "cli/record.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* How often is looked, and how long is waited for a drive that was pulled out. */
static const double GLANCE_S = 0.2, RETURN_S = 60;

static double now_of(const struct cli *cli) { return cli->port->ops->steady_clock(cli->port); }

struct ws_build *targets_build(const struct targets *t, const struct target *x) {
    return ws_batch_build(t->batch, x->number);
}

struct target *targets_find(const struct targets *t, const char *name) {
    for (size_t i = 0; i < t->count; i++)
        if (strcmp(t->one[i]->facts.short_name, name) == 0) return t->one[i];
    return NULL;
}

size_t targets_in(const struct targets *t, enum target_state state) {
    size_t n = 0;
    for (size_t i = 0; i < t->count; i++) n += t->one[i]->state == state;
    return n;
}

/* What would be lost. A drive that cannot be read is told so, and decided all the same. */
static void look_at(struct cli *cli, struct target *x) {
    struct ws_contents *c = malloc(sizeof *c);
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_error ignored;
    bool read = c && cli_open_now(cli, &x->facts, &drive, &source) == WS_OK &&
                ws_contents_look(source, x->facts.logical_sector, false, c, &ignored) == WS_OK;
    (void)snprintf(x->holds, sizeof x->holds, "%.190s", read ? c->summary : "cannot be looked at");
    if (read && c->unfinished) memcpy(x->unfinished, c->build, sizeof x->unfinished);
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    free(c);
}

/* Texts of file names are cut nowhere: a folder that is too long is refused. */
static enum ws_status name_files(struct cli *cli, struct target *x, const char *folder) {
    int n =
        snprintf(x->plan, sizeof x->plan, "%s%s%s.plan", folder ? folder : "", folder ? "/" : "", x->facts.short_name);
    (void)snprintf(x->record, sizeof x->record, "%s.built", x->plan);
    if (n > 0 && (size_t)n < sizeof x->plan) return WS_OK;
    return ws_fail(&cli->error, WS_E_RANGE, "the folder for plans has a name of over 500 bytes");
}

static enum ws_status keep_plan(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct ws_text text = {0};
    struct cli_never never = {0};
    for (size_t i = 0; i < ws_request_inputs(t->request); i++) cli_never(&never, ws_request_input(t->request, i)->path);
    cli_never(&never, x->facts.id);
    enum ws_status status = ws_plan_to_json(ws_build_plan(targets_build(t, x)), &text, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, x->plan, text.data, text.length, "wild-satchel-plan", false, &never);
    ws_text_free(&text);
    return status;
}

/* Where it must start, it does; and what the plan finds against it is no fault, or is accepted. */
static enum ws_status check_plan(struct targets *t, const struct target *x) {
    struct cli *cli = t->cli;
    const struct ws_plan *p = ws_build_plan(targets_build(t, x));
    const struct ws_findings *f = ws_plan_findings(p);
    struct ws_pc_facts pc;
    for (size_t i = 0; i < f->count && !t->job->even_so; i++)
        if (f->list[i].weight == WS_FAULT) {
            ws_fail(&cli->error, WS_E_REFUSED, "its plan has a fault: %s", f->list[i].text);
            return ws_fail_hint(&cli->error, WS_HINT_EVEN_SO, "", "if it is really meant so, say so");
        }
    if (!t->job->pc) return WS_OK;
    WS_TRY(plan_find_pc(cli, t->job->pc, &pc));
    const struct ws_outlook *o = ws_plan_outlook(p, &pc);
    if (!o || o->starts || t->job->even_so) return WS_OK;
    ws_fail(&cli->error, WS_E_REFUSED, "it would not start on %s: %s", pc.name, o->why);
    return ws_fail_hint(&cli->error, WS_HINT_EVEN_SO, "", "if it is really meant so, say so");
}

/* An earlier run that was cut left its plan: with that one's identifiers and time it is the same build, and goes on. */
static void take_up_again(struct target *x, struct ws_build_setting *setting) {
    struct ws_text text = {0};
    struct ws_plan *was = NULL;
    struct ws_error ignored;
    if (x->unfinished[0] && cli_read_file(x->plan, 4 << 20, &text, &ignored) == WS_OK &&
        ws_plan_from_json(text.data ? text.data : "", text.length, &was, &ignored) == WS_OK &&
        strcmp(ws_plan_facts(was)->fingerprint, x->unfinished) == 0) {
        setting->id = ws_plan_facts(was)->id;
        setting->made_at = ws_plan_facts(was)->made_at;
    }
    ws_plan_free(was);
    ws_text_free(&text);
}

static enum ws_status decide(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct ws_target_rules rules = {t->job->external != 0};
    struct ws_build_setting setting;
    WS_TRY(ws_drive_may_be_target(cli->port, &x->facts, &rules, &cli->error));
    WS_TRY(name_files(cli, x, t->job->keep_in));
    WS_TRY(ws_build_setting_begin(&setting, cli->port, &x->facts, &cli->error));
    take_up_again(x, &setting);
    busy_begin(cli, "working the plan for %s out", x->facts.short_name);
    enum ws_status status = ws_batch_add(t->batch, &setting, &x->number, &cli->error);
    busy_end();
    WS_TRY(status);
    status = check_plan(t, x);
    if (status == WS_OK) status = keep_plan(t, x);
    if (status != WS_OK) ws_batch_drop(t->batch, x->number);
    return status;
}

struct target *targets_add(struct targets *t, const struct ws_drive_facts *facts) {
    struct target *x = t->count < TARGETS_MOST ? calloc(1, sizeof *x) : NULL;
    if (!x) return NULL;
    x->facts = *facts;
    x->cli = t->cli;
    look_at(t->cli, x);
    memset(&t->cli->error, 0, sizeof t->cli->error);
    bool good = decide(t, x) == WS_OK;
    x->state = good ? TARGET_READY : TARGET_REFUSED;
    if (!good) x->error = t->cli->error;
    t->one[t->count++] = x;
    return x;
}

static enum ws_status before_write(void *context, struct ws_error *error) {
    return record_forget(((const struct target *)context)->record, error);
}

static void fail(struct target *x, const struct ws_error *error) {
    x->state = TARGET_FAILED;
    x->error = *error;
}

/* Open it, if it is this very drive still. */
static bool take_up(struct targets *t, struct target *x, struct ws_batch_start *start) {
    struct cli *cli = t->cli;
    if (cli->port->ops->open(cli->port, x->facts.id, WS_OPEN_WRITE, &x->drive, &cli->error) != WS_OK) {
        fail(x, &cli->error);
        return false;
    }
    *start = (struct ws_batch_start){.number = x->number,
                                     .drive = x->drive,
                                     .options = {.allow_external_disk = t->job->external != 0,
                                                 .confirm = x->facts.short_name,
                                                 .before_write = before_write,
                                                 .context = x,
                                                 .pieces = &x->pieces,
                                                 .skip_check = t->job->no_check != 0,
                                                 .even_so = t->job->even_so != 0,
                                                 .afresh = t->job->afresh != 0 && !x->called_back}};
    x->state = TARGET_AT_WORK;
    if (!x->called_back) x->began_s = now_of(cli);
    x->told = -1;
    return true;
}

enum ws_status targets_begin(struct targets *t) {
    struct ws_batch_start *start = calloc(TARGETS_MOST, sizeof *start);
    size_t count = 0;
    if (!start) return ws_fail(&t->cli->error, WS_E_NOMEM, "out of memory for a batch");
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_READY) count += take_up(t, t->one[i], &start[count]);
    enum ws_status status = count ? ws_batch_start(t->batch, start, count, &t->cli->error) : WS_OK;
    free(start);
    return status;
}

static void keep_record(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct cli_never never = {0};
    json_t *document = record_json(ws_build_plan(targets_build(t, x)), &x->result);
    for (size_t i = 0; i < ws_request_inputs(t->request); i++) cli_never(&never, ws_request_input(t->request, i)->path);
    cli_never(&never, x->facts.id);
    x->recorded = record_keep(cli, x->record, document, &x->pieces, &never) == WS_OK;
    if (!x->recorded) board_note(t, "  the record of %s is not kept: %s\n", x->facts.short_name, cli->error.what);
    json_decref(document);
}

static void conclude(struct targets *t, struct target *x) {
    struct ws_error error = {0};
    enum ws_status status = ws_batch_end(t->batch, x->number, &x->result, &error);
    x->took_s = now_of(t->cli) - x->began_s;
    x->drive->ops->close(x->drive);
    x->drive = NULL;
    const struct ws_plan *plan = ws_build_plan(targets_build(t, x));
    if (status == WS_OK) {
        x->state = TARGET_DONE;
        keep_record(t, x);
        history_note(t->cli, "prepare", &x->facts, plan, x->plan, true,
                     x->result.checked ? "written and checked" : "written");
        return;
    }
    if (status != WS_E_REFUSED) history_note(t->cli, "prepare", &x->facts, plan, x->plan, false, error.what);
    if (!error.next[0] && status != WS_E_REFUSED)
        ws_fail_next(&error, "it is unfinished and says so; `satchel build %.120s` continues it", x->plan);
    fail(x, &error);
    if (status != WS_E_GONE || t->stopping) return;
    x->state = TARGET_AWAY;
    x->away_s = now_of(t->cli);
    board_note(t, "  %s went away: plug it in again%s, and it goes on from where it was\n", x->facts.short_name,
               strchr(x->facts.short_name, '@') ? " in the same place" : "");
}

/* Drives that may be the one that went away: several, where they look alike. */
struct back {
    const struct targets *t;
    const struct target *x;
    struct ws_drive_facts facts[TARGETS_MOST];
    size_t count;
};
static bool is_back(void *context, const struct ws_drive_facts *f) {
    struct back *b = context;
    const struct ws_drive_facts *was = &b->x->facts;
    struct ws_drive_facts own = *f;
    if (strchr(was->short_name, '@')) ws_drive_call_by_place(&own); /* its plan has the place */
    if (!ws_drive_called(&own, was->short_name) || strcmp(f->serial, was->serial) != 0 || f->size != was->size)
        return true;
    for (size_t i = 0; i < b->t->count; i++) /* another of them, at work */
        if (b->t->one[i]->drive && strcmp(b->t->one[i]->facts.id, f->id) == 0) return true;
    if (b->count < TARGETS_MOST) b->facts[b->count++] = own;
    return true;
}

/* Is it the very one? Without a serial number another stick looks the same: it must carry the mark of this build. */
static bool is_the_one(struct targets *t, const struct target *x, const struct ws_drive_facts *facts) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_unfinished mark;
    uint8_t first[512];
    if (facts->serial[0]) return true;
    bool marked = cli_open_now(t->cli, facts, &drive, &source) == WS_OK &&
                  ws_source_read(source, 0, first, sizeof first, &t->cli->error) == WS_OK &&
                  ws_unfinished_read(first, &mark) &&
                  strcmp(mark.build, ws_plan_facts(ws_build_plan(targets_build(t, x)))->fingerprint) == 0;
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return marked;
}

/* @return whether it is at work again; else it is away still: a desktop may be looking at it just now */
static bool goes_on(struct targets *t, struct target *x, const struct ws_drive_facts *facts) {
    struct ws_batch_start start;
    const struct target was = *x;
    x->facts = *facts;
    x->called_back = true;
    if (take_up(t, x, &start) && ws_batch_start(t->batch, &start, 1, &t->cli->error) == WS_OK) return true;
    if (x->drive) x->drive->ops->close(x->drive);
    *x = was;
    return false;
}

/* Plugged in again, perhaps elsewhere; or given up. */
static void look_for(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct back *back = calloc(1, sizeof *back);
    bool on = false;
    if (back) *back = (struct back){.t = t, .x = x};
    if (back && ws_drives_list(cli->port, is_back, back, &cli->error) == WS_OK)
        for (size_t i = 0; i < back->count && !on; i++)
            on = is_the_one(t, x, &back->facts[i]) && goes_on(t, x, &back->facts[i]);
    free(back);
    if (on) board_note(t, "  %s is back, and goes on\n", x->facts.short_name);
    else if (t->stopping || now_of(cli) - x->away_s > RETURN_S) x->state = TARGET_FAILED;
}

bool targets_look(struct targets *t) {
    if (stop_asked() && !t->stopping) {
        t->stopping = true;
        for (size_t i = 0; i < t->count; i++)
            if (t->one[i]->state == TARGET_AT_WORK) ws_batch_stop(t->batch, t->one[i]->number);
    }
    for (size_t i = 0; i < t->count; i++) {
        struct target *x = t->one[i];
        struct ws_batch_state state = {0};
        if (x->state == TARGET_AWAY) look_for(t, x);
        if (x->state != TARGET_AT_WORK) continue;
        ws_batch_look(t->batch, x->number, &state);
        x->progress = state.progress;
        if (state.ended) conclude(t, x);
    }
    return targets_in(t, TARGET_AT_WORK) + targets_in(t, TARGET_AWAY) > 0;
}

void targets_wait(struct targets *t) {
    struct ws_port *port = t->cli->port;
    while (targets_look(t)) {
        board_show(t, false);
        if (targets_in(t, TARGET_AT_WORK) == 0 && port->ops->watch) (void)port->ops->watch(port, 1, NULL);
        else if (!port->ops->pause || !port->ops->pause(port, GLANCE_S)) break;
    }
    board_show(t, true);
}

static void prove(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct ws_proof *proof = calloc(1, sizeof *proof);
    struct ws_proof_options o = {
        .confirm = x->facts.short_name, .allow_external_disk = t->job->external != 0, .context = cli};
    if (!proof) return;
    if (!cli->json) note("  proving %s\n", x->facts.short_name);
    memset(&cli->error, 0, sizeof cli->error);
    if (prove_drive(cli, &x->facts, t->job->prove, NULL, &o, proof) == WS_OK) {
        x->proved = proofs_word(proof->verdict);
        x->forgets = proof->verdict != WS_VERDICT_KEPT;
        if (x->forgets) ws_fail(&x->error, WS_E_DIFFERENT, "%s", proof->text);
        history_note(cli, "prove", &x->facts, NULL, NULL, !x->forgets, x->proved);
    } else {
        x->proved = "not proved";
        x->forgets = true;
        x->error = cli->error;
    }
    ws_proof_free(proof);
    free(proof);
}

static void release(struct targets *t, struct target *x) {
    struct cli *cli = t->cli;
    struct ws_drive *drive = NULL;
    x->released = cli->port->ops->open(cli->port, x->facts.id, WS_OPEN_WRITE, &drive, &cli->error) == WS_OK &&
                  drive->ops->release(drive, &cli->error) == WS_OK;
    if (drive) drive->ops->close(drive);
    if (!x->released) note("  %s could not be released: %s\n", x->facts.short_name, cli->error.what);
}

void targets_prove(struct targets *t) {
    for (size_t i = 0; i < t->count; i++) {
        struct target *x = t->one[i];
        if (x->state != TARGET_DONE || x->released) continue;
        if (t->job->prove && !x->proved && !stop_asked()) prove(t, x);
        if (t->job->release) release(t, x);
    }
}

void targets_close(struct targets *t) {
    ws_batch_close(t->batch);
    for (size_t i = 0; i < t->count; i++) {
        if (t->one[i]->drive) t->one[i]->drive->ops->close(t->one[i]->drive);
        ws_pieces_free(&t->one[i]->pieces);
        free(t->one[i]);
    }
    json_decref(t->ended);
    t->count = 0;
}
