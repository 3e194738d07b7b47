/* carry_out.c — a prepared build written and checked. */
#include "assemble/batch.h"

#include <string.h>

static enum ws_status check_faults(const struct ws_plan *p, const struct ws_build_options *options,
                                   struct ws_error *error) {
    if (options->even_so) return WS_OK;
    for (size_t i = 0; i < p->findings.count; i++)
        if (p->findings.list[i].weight == WS_FAULT) {
            ws_fail(error, WS_E_REFUSED, "the plan has a fault: %s", p->findings.list[i].text);
            ws_fail_where(error, "%s", p->drive.name);
            return ws_fail_hint(error, WS_HINT_EVEN_SO, "", "make another plan; or, if it is really meant so, say so");
        }
    return WS_OK;
}

/* Right before the first write: is this the planned drive, confirmed by name, and may it be written? */
static enum ws_status check_target(struct ws_port *port, const struct ws_plan *p, struct ws_drive *drive,
                                   const struct ws_build_options *options, struct ws_error *error) {
    struct ws_drive_facts now;
    struct ws_target_rules rules = {options->allow_external_disk};
    WS_TRY(drive->ops->describe(drive, &now, error));
    ws_drive_call(&now, p->drive.name);
    if (!ws_drive_called(&now, p->drive.name) || now.size != p->drive.size ||
        strcmp(now.serial, p->drive.serial) != 0) {
        char is[48];
        char was[48];
        ws_fail(error, WS_E_REFUSED,
                "this is not the planned drive: %s, %s, serial \"%s\"; planned was %s, %s, serial \"%s\"",
                now.short_name, ws_size_both(now.size, is, sizeof is), now.serial, p->drive.name,
                ws_size_both(p->drive.size, was, sizeof was), p->drive.serial);
        return ws_fail_next(error, "plug in the planned drive, or make a plan for this one; nothing was written");
    }
    WS_TRY(ws_drive_may_be_target(port, &now, &rules, error));
    WS_TRY(check_faults(p, options, error));
    for (size_t i = 0; i < ws_request_inputs(&p->request); i++)
        WS_TRY(ws_drive_is_not(drive, ws_request_input(&p->request, i)->path, error));
    return ws_drive_confirmed(&now, options->confirm, error);
}

/* Whether the inputs are still the planned ones is found out beside all else: on slow machines it takes longer than
 * writing. */
struct beside {
    const struct ws_build *build;
    struct ws_port *port;
    struct ws_pieces pieces; /* of the image */
    enum ws_status status;
    struct ws_error error;
};

static void check_inputs(void *context) {
    struct beside *h = context;
    struct ws_batch *batch = h->build->batch;
    if (batch && !batch_checks_inputs(batch, h->build->number)) {
        h->status = batch_await_inputs(batch, &h->error);
        return;
    }
    h->status = build_check_inputs(h->build, h->port, &h->pieces, &h->error);
    if (batch) batch_inputs_checked(batch, h->build->number, h->status, &h->error);
}

struct carrying {
    struct ws_build *build;
    struct ws_port *port;
    struct ws_drive *drive;
    const struct ws_build_options *options;
    struct ws_build_result *result;
    struct beside beside;
    struct ws_task *task;
    struct ws_sums written; /* what was meant, so that the check reads no source again; none where reading is cheap */
};

/* Comparing what an earlier run wrote takes a while: the drive is asked once more who it is. */
static enum ws_status before_write(void *context, struct ws_error *error) {
    const struct carrying *c = context;
    WS_TRY(check_target(c->port, c->build->plan, c->drive, c->options, error));
    if (build_is_change(c->build->plan)) WS_TRY(build_check_state(c->build, c->drive, error));
    return c->options->before_write ? c->options->before_write(c->options->context, error) : WS_OK;
}

static enum ws_status take_inputs(struct carrying *c, struct ws_error *error) {
    c->port->ops->join(c->port, c->task);
    c->task = NULL;
    if (c->beside.status != WS_OK) {
        if (error) *error = c->beside.error;
        if (c->beside.status == WS_E_FORMAT)
            (void)ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "%s",
                               build_is_change(c->build->plan)
                                   ? "make a new plan from it as it is; the drive is as it was"
                                   : "make a new plan from it as it is; the drive is unfinished and says so");
        return c->beside.status;
    }
    memcpy(c->result->image_sha256, c->build->plan->request.input[WS_INPUT_IMAGE].sha256, WS_HASH_HEX);
    bool takes = c->options->pieces && !c->options->skip_check && !c->options->pieces->count;
    if (!takes) return WS_OK;
    *c->options->pieces = c->beside.pieces;
    memset(&c->beside.pieces, 0, sizeof c->beside.pieces);
    return WS_OK;
}

/* Only what this run wrote itself speaks against the drive: the rest may have been changed by anybody since. */
static enum ws_status say_different(const struct carrying *c, struct ws_error *error) {
    const struct ws_check_result *check = &c->result->check;
    uint64_t earlier = c->result->write.continued_at;
    char at[48];
    if (check->different_at < earlier) {
        ws_fail(
            error, WS_E_DIFFERENT,
            "what an earlier run of this build wrote is not there any more: first at byte %llu (%s), in %llu place%s",
            (unsigned long long)check->different_at, ws_size_both(check->different_at, at, sizeof at),
            (unsigned long long)check->different_chunks, check->different_chunks == 1 ? "" : "s");
        ws_fail_where(error, "%s", c->build->plan->drive.name);
        return ws_fail_next(error,
                            "run the same command again: it begins at the beginning, and tells the drive's fault "
                            "from somebody's change");
    }
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written: first at byte %llu (%s), in %llu place%s",
            (unsigned long long)check->different_at, ws_size_both(check->different_at, at, sizeof at),
            (unsigned long long)check->different_chunks, check->different_chunks == 1 ? "" : "s");
    ws_fail_where(error, "%s", c->build->plan->drive.name);
    return ws_fail_next(error, "do not use this drive: it loses data, or is smaller than it says");
}

/* The body is on the medium. Only a drive that reads back right, from the image that was planned, gets its seal. */
static enum ws_status before_seal(void *context, struct ws_error *error) {
    struct carrying *c = context;
    /* A replica that is equal to the image has its digests, too, at no cost. */
    bool in_pieces = c->build->plan->request.input[WS_INPUT_IMAGE].pieces_sha256[0] != '\0';
    bool plain = !c->build->batch && c->build->plan->facts.kind == WS_KIND_REPLICA &&
                 !ws_request_by_state(&c->build->plan->request) && (in_pieces || !c->options->pieces);
    struct ws_check_options o = {.scope = WS_CHECK_BEFORE_SEAL,
                                 .with_hash = !plain,
                                 .pieces = plain ? NULL : c->options->pieces,
                                 .written = c->written.count ? &c->written : NULL,
                                 .digests = c->build->batch ? batch_digests(c->build->batch) : NULL,
                                 .on_progress = c->options->on_progress,
                                 .context = c->options->context};
    bool renewal = build_is_change(c->build->plan); /* compared by the change itself so far */
    if (c->build->batch && c->written.count) batch_has_read(c->build->batch, c->build->number);
    if (!c->options->skip_check && !renewal) {
        enum ws_status status = ws_check(c->port, c->build->layout, c->drive, &o, &c->result->check, error);
        if (status == WS_E_CANCELLED) {
            ws_fail(error, status,
                    "stopped as asked: all is written, but not checked; the drive is not finished and "
                    "says so");
            return ws_fail_next(error, "run the same build again: only the check is left");
        }
        WS_TRY(status);
        if (!c->result->check.equal) return say_different(c, error);
    }
    return take_inputs(c, error);
}

static enum ws_status check_seal(struct carrying *c, struct ws_error *error) {
    struct ws_check_options o = {.scope = WS_CHECK_SEAL};
    struct ws_check_result seal;
    WS_TRY(ws_check(c->port, c->build->layout, c->drive, &o, &seal, error));
    c->result->check.seconds += seal.seconds;
    if (!seal.equal) {
        seal.checked = c->result->check.checked;
        c->result->check = seal;
        return say_different(c, error);
    }
    c->result->checked = true;
    if (c->build->plan->facts.kind == WS_KIND_REPLICA && !ws_request_by_state(&c->build->plan->request))
        memcpy(c->result->check.sha256, c->result->image_sha256, WS_HASH_HEX);
    return WS_OK;
}

/* A drive that was changed: all that the change was. */
static enum ws_status check_changed(struct carrying *c, struct ws_error *error) {
    struct ws_check_options o = {.with_hash = true,
                                 .pieces = c->options->pieces,
                                 .on_progress = c->options->on_progress,
                                 .context = c->options->context};
    if (c->options->pieces) ws_pieces_free(c->options->pieces); /* of the image */
    WS_TRY(ws_check(c->port, c->build->layout, c->drive, &o, &c->result->check, error));
    if (!c->result->check.equal) return say_different(c, error);
    c->result->checked = true;
    return WS_OK;
}

enum ws_status ws_build_carry_out(struct ws_build *b, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error) {
    struct carrying c = {.build = b, .port = port, .drive = drive, .options = options, .result = result};
    memset(result, 0, sizeof *result);
    if (options->pieces) memset(options->pieces, 0, sizeof *options->pieces);
    if (b->measure) return ws_fail(error, WS_E_USAGE, "this build was prepared for its sizes alone");
    WS_TRY(build_check_passwords(b, error));
    WS_TRY(check_target(port, b->plan, drive, options, error));
    struct ws_write_options w = {
        .on_progress = options->on_progress,
        .context = options->context,
        .build = b->plan->facts.fingerprint,
        .afresh = options->afresh || c.build->lock,
        .compare_all = options->skip_check,
        .before_write = before_write,
        .before_seal = before_seal,
        .hook_context = &c,
        .body_moves = build_moves(b),
        .sums = b->batch && !options->skip_check ? &c.written : NULL,
    };
    c.beside.build = b;
    c.beside.port = port;
    WS_TRY(port->ops->start(port, check_inputs, &c.beside, &c.task, error));
    const bool renewal = build_is_change(b->plan);
    enum ws_status status = renewal ? ws_change(port, b->layout, b->log_at, drive, &w, &result->write, error)
                                    : ws_write(port, b->layout, drive, &w, &result->write, error);
    if (c.task) port->ops->join(port, c.task);
    ws_pieces_free(&c.beside.pieces);
    ws_sums_free(&c.written);
    WS_TRY(status);
    if (renewal) return options->skip_check || w.body_moves ? WS_OK : check_changed(&c, error);
    result->write.seconds -= result->check.seconds; /* the check stands between body and seal */
    return options->skip_check ? WS_OK : check_seal(&c, error);
}

enum ws_status ws_build_check(struct ws_build *b, struct ws_port *port, struct ws_drive *drive, bool used,
                              ws_progress_call on_progress, void *context, struct ws_check_result *result,
                              struct ws_error *error) {
    struct ws_check_options o = {.with_hash = true,
                                 .leave_out = used ? ws_roles_in_use(b->plan->facts.kind) : 0,
                                 .on_progress = on_progress,
                                 .context = context};
    build_unknown(b, &o);
    return ws_check(port, b->layout, drive, &o, result, error);
}
