/* carry_out.c — a prepared build written and checked. */
#include "build/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Right before the first write: is this the planned drive, confirmed by name, and may it be written? */
static enum ws_status check_target(const struct ws_plan *p, struct ws_drive *drive,
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
    if (!options->confirm || strcmp(options->confirm, now.short_name) != 0) {
        ws_fail(error, WS_E_REFUSED,
                options->confirm ? "the name given does not confirm this drive"
                                 : "the drive's name was not given to confirm it");
        ws_fail_where(error, "%s", now.short_name);
        return ws_fail_next(error, "confirm with the drive's own name: %s; nothing was written", now.short_name);
    }
    return WS_OK;
}

struct before_seal {
    struct ws_build *build;
    struct ws_build_result *result;
};

/* The body has gone by the hashing tap by now: an image that changed since it was planned stops here. */
static enum ws_status check_image(void *context, struct ws_error *error) {
    struct before_seal *c = context;
    const struct ws_plan *p = c->build->plan;
    if (!ws_source_tap_hex(c->build->tap, c->result->image_sha256)) {
        /* parts of the image are not on the drive (its own table): finish the pass */
        char *buffer = malloc(1 << 20);
        if (!buffer) return ws_fail(error, WS_E_NOMEM, "out of memory for a read buffer");
        enum ws_status status = WS_OK;
        for (uint64_t at = 0; status == WS_OK && at < p->image_size;) {
            size_t step = (size_t)ws_min_u64(1 << 20, p->image_size - at);
            status = ws_source_read(c->build->tap, at, buffer, step, error);
            at += step;
        }
        free(buffer);
        WS_TRY(status);
        (void)ws_source_tap_hex(c->build->tap, c->result->image_sha256);
    }
    if (p->image_sha256[0] && strcmp(p->image_sha256, c->result->image_sha256) != 0) {
        ws_fail(error, WS_E_FORMAT,
                "the image is no longer the one that was planned: its SHA-256 is now %.16s..., planned "
                "was %.16s...",
                c->result->image_sha256, p->image_sha256);
        ws_fail_where(error, "%s", p->image_path);
        return ws_fail_next(error, "make a new plan from the image as it is; the drive is unfinished and says so");
    }
    return WS_OK;
}

/* Bytes of the image under the table are never read for the body: let the tap see the front in order first. */
static enum ws_status prime_tap(struct ws_build *b, struct ws_error *error) {
    char front[64 * 1024];
    size_t length = (size_t)ws_min_u64(sizeof front, b->plan->image_size);
    return ws_source_read(b->tap, 0, front, length, error);
}

enum ws_status ws_build_carry_out(struct ws_build *b, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error) {
    struct before_seal context = {b, result};
    char identity[WS_HASH_HEX + 64];
    char id[37];
    memset(result, 0, sizeof *result);
    WS_TRY(check_target(b->plan, drive, options, error));
    (void)snprintf(identity, sizeof identity, "%s %s", b->plan->image_sha256, ws_guid_text(&b->plan->id, id));
    struct ws_write_options w = {
        .on_progress = options->on_progress,
        .context = options->context,
        .record = options->record,
        .on_record = options->on_record,
        .identity = identity,
        .before_seal = check_image,
        .before_seal_context = &context,
    };
    WS_TRY(prime_tap(b, error));
    WS_TRY(ws_write(port, b->layout, drive, &w, &result->write, error));
    if (options->skip_check) return WS_OK;
    bool plain = b->plan->kind == WS_PLAN_REPLICA; /* equal to the image: then so is the hash, at no cost */
    WS_TRY(ws_check(port, b->layout, drive, !plain, options->on_progress, options->context, &result->check, error));
    result->checked = true;
    if (plain && result->check.equal) memcpy(result->check.sha256, result->image_sha256, WS_HASH_HEX);
    if (result->check.equal) return WS_OK;
    char at[48];
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written: first at byte %llu (%s), in %llu places",
            (unsigned long long)result->check.different_at, ws_size_both(result->check.different_at, at, sizeof at),
            (unsigned long long)result->check.different_chunks);
    ws_fail_where(error, "%s", b->plan->drive_name);
    return ws_fail_next(error, "do not use this drive: it loses data, or is smaller than it says");
}

enum ws_status ws_build_check(struct ws_build *b, struct ws_port *port, struct ws_drive *drive, bool used,
                              ws_progress_call on_progress, void *context, struct ws_check_result *result,
                              struct ws_error *error) {
    const struct ws_layout *layout = used && b->image_only ? b->image_only : b->layout;
    return ws_check(port, layout, drive, true, on_progress, context, result, error);
}
