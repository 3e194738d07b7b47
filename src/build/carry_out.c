/* carry_out.c — a prepared build written and checked. */
#include "build/internal.h"

#include <stdio.h>
#include <string.h>

/* Right before the first write: is this the planned drive, confirmed by name, and may it be written? */
static enum ws_status check_target(struct ws_port *port, const struct ws_plan *p, struct ws_drive *drive,
                                   const struct ws_build_options *options, struct ws_error *error) {
    struct ws_drive_facts now;
    struct ws_target_rules rules = {options->allow_external_disk};
    WS_TRY(drive->ops->describe(drive, &now, error));
    if (strcmp(now.short_name, p->drive_name) != 0 || now.size != p->drive_size ||
        strcmp(now.serial, p->drive_serial) != 0) {
        char is[48];
        char was[48];
        ws_fail(error, WS_E_REFUSED,
                "this is not the planned drive: %s, %s, serial \"%s\"; planned was %s, %s, serial \"%s\"",
                now.short_name, ws_size_both(now.size, is, sizeof is), now.serial, p->drive_name,
                ws_size_both(p->drive_size, was, sizeof was), p->drive_serial);
        return ws_fail_next(error, "plug in the planned drive, or make a plan for this one; nothing was written");
    }
    WS_TRY(ws_drive_may_write(&now, &rules, error));
    WS_TRY(ws_drive_is_alone(port, &now, error));
    WS_TRY(ws_drive_is_not(drive, p->image_path, error));
    return ws_drive_confirmed(&now, options->confirm, error);
}

/* The image's own hash is worked out beside all else: on slow machines it takes longer than writing. */
struct image_hash {
    const struct ws_source *image;
    char *hex;
    enum ws_status status;
    struct ws_error error;
};

static void hash_image(void *context) {
    struct image_hash *h = context;
    h->status = ws_source_hash(h->image, WS_HASH_SHA256, h->hex, &h->error);
}

struct carrying {
    struct ws_build *build;
    struct ws_port *port;
    struct ws_drive *drive;
    const struct ws_build_options *options;
    struct ws_build_result *result;
    struct image_hash hash;
    struct ws_task *task;
};

static enum ws_status compare_hash(struct carrying *c, struct ws_error *error) {
    const struct ws_plan *p = c->build->plan;
    c->port->ops->join(c->port, c->task);
    c->task = NULL;
    if (c->hash.status != WS_OK) {
        if (error) *error = c->hash.error;
        return c->hash.status;
    }
    if (strcmp(p->image_sha256, c->result->image_sha256) == 0) return WS_OK;
    ws_fail(error, WS_E_FORMAT,
            "the image is no longer the one that was planned: its SHA-256 is now %.16s..., planned was %.16s...",
            c->result->image_sha256, p->image_sha256);
    ws_fail_where(error, "%s", p->image_path);
    return ws_fail_next(error, "make a new plan from the image as it is; the drive is unfinished and says so");
}

static enum ws_status say_different(const struct carrying *c, struct ws_error *error) {
    const struct ws_check_result *check = &c->result->check;
    char at[48];
    if (c->options->record) { /* what was written is not to be trusted: nothing to continue from */
        c->options->record->flushed = 0;
        if (c->options->on_record) c->options->on_record(c->options->context, c->options->record);
    }
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written: first at byte %llu (%s), in %llu places",
            (unsigned long long)check->different_at, ws_size_both(check->different_at, at, sizeof at),
            (unsigned long long)check->different_chunks);
    ws_fail_where(error, "%s", c->build->plan->drive_name);
    return ws_fail_next(error, "do not use this drive: it loses data, or is smaller than it says");
}

/* The body is on the medium. Only a drive that reads back right, from the image that was planned, gets its seal. */
static enum ws_status before_seal(void *context, struct ws_error *error) {
    struct carrying *c = context;
    bool plain = c->build->plan->kind == WS_PLAN_REPLICA; /* equal to the image: then so is its hash, at no cost */
    struct ws_check_options o = {WS_CHECK_BEFORE_SEAL, !plain, c->options->on_progress, c->options->context};
    if (!c->options->skip_check) {
        WS_TRY(ws_check(c->port, c->build->layout, c->drive, &o, &c->result->check, error));
        if (!c->result->check.equal) return say_different(c, error);
    }
    return compare_hash(c, error);
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
    if (c->build->plan->kind == WS_PLAN_REPLICA) memcpy(c->result->check.sha256, c->result->image_sha256, WS_HASH_HEX);
    return WS_OK;
}

enum ws_status ws_build_carry_out(struct ws_build *b, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error) {
    struct carrying c = {.build = b, .port = port, .drive = drive, .options = options, .result = result};
    char identity[WS_HASH_HEX + 64];
    char id[37];
    memset(result, 0, sizeof *result);
    WS_TRY(check_target(port, b->plan, drive, options, error));
    (void)snprintf(identity, sizeof identity, "%s %s", b->plan->image_sha256, ws_guid_text(&b->plan->id, id));
    struct ws_write_options w = {
        .on_progress = options->on_progress,
        .context = options->context,
        .record = options->record,
        .on_record = options->on_record,
        .identity = identity,
        .before_seal = before_seal,
        .before_seal_context = &c,
    };
    c.hash.image = b->image.source;
    c.hash.hex = result->image_sha256;
    WS_TRY(port->ops->start(port, hash_image, &c.hash, &c.task, error));
    enum ws_status status = ws_write(port, b->layout, drive, &w, &result->write, error);
    if (c.task) port->ops->join(port, c.task);
    WS_TRY(status);
    result->write.seconds -= result->check.seconds; /* the check stands between body and seal */
    return options->skip_check ? WS_OK : check_seal(&c, error);
}

enum ws_status ws_build_check(struct ws_build *b, struct ws_port *port, struct ws_drive *drive, bool used,
                              ws_progress_call on_progress, void *context, struct ws_check_result *result,
                              struct ws_error *error) {
    const struct ws_layout *layout = used && b->image_only ? b->image_only : b->layout;
    struct ws_check_options o = {WS_CHECK_ALL, true, on_progress, context};
    return ws_check(port, layout, drive, &o, result, error);
}
