/* change.c — a change carried out: body and log beside what is there, the mark, the log, the first sector. */
#include "change/internal.h"

#include <stdlib.h>
#include <string.h>

struct changing {
    struct ws_port *port;
    const struct ws_layout *layout;
    struct ws_drive *drive;
    const struct ws_write_options *options;
    struct ws_layout *log; /* by itself */
    struct ws_source *log_bytes;
    struct ws_layout *beside;   /* body and log: all that goes where the drive has nothing */
    struct ws_layout *log_only; /* of that what can be read back, where the body moves */
    struct ws_changing mark;
    const struct ws_run *place; /* of the log */
    size_t places;
    uint32_t sector;
};

/* The first sector by itself, and all in whole sectors: what is cut in between can be carried out again. */
static enum ws_status check_layout(const struct changing *c, struct ws_error *error) {
    bool first = false;
    for (size_t i = 0; i < ws_layout_count(c->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(c->layout, i);
        if (e->phase != WS_PHASE_SEAL) continue;
        first |= e->at == 0 && e->length == c->sector;
        if (e->at % c->sector || e->length % c->sector)
            return ws_fail(error, WS_E_USAGE, "a change is of whole sectors, not of %llu bytes at %llu",
                           (unsigned long long)e->length, (unsigned long long)e->at);
    }
    return first ? WS_OK : ws_fail(error, WS_E_USAGE, "a change ends with the drive's first sector");
}

/* The log in its places, into a layout and into the mark. */
static enum ws_status put_log(struct changing *c, struct ws_layout *layout, struct ws_error *error) {
    struct ws_changing *m = &c->mark;
    uint64_t done = 0;
    m->log_at = c->place[0].at;
    m->log_length = c->log_bytes->size;
    m->pieces = 0;
    for (size_t i = 0; i < c->places && done < m->log_length; i++) {
        const uint64_t length = ws_min_u64(c->place[i].length, m->log_length - done);
        WS_TRY(ws_layout_add(layout, c->place[i].at, length, c->log_bytes, done, WS_PHASE_BODY, error));
        m->piece[m->pieces++] = (struct ws_run){.at = c->place[i].at, .length = length};
        done += length;
    }
    if (m->pieces == 1) m->pieces = 0;
    return done == m->log_length ? WS_OK : ws_fail(error, WS_E_USAGE, "the places for the log are not long enough");
}

static enum ws_status put_beside(struct changing *c, struct ws_error *error) {
    WS_TRY(change_log_make(c->layout, &c->log, error));
    WS_TRY(ws_layout_source(c->log, &c->log_bytes, error));
    WS_TRY(ws_source_hash(c->log_bytes, WS_HASH_SHA256, c->mark.log_sha256, error));
    WS_TRY(ws_layout_create(ws_layout_size(c->layout), &c->beside, error));
    for (size_t i = 0; i < ws_layout_count(c->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(c->layout, i);
        (void)ws_layout_part(c->beside, e->part);
        if (e->phase == WS_PHASE_BODY)
            WS_TRY(ws_layout_add(c->beside, e->at, e->length, e->from, e->from_at, WS_PHASE_BODY, error));
    }
    WS_TRY(put_log(c, c->beside, error));
    WS_TRY(ws_layout_create(ws_layout_size(c->layout), &c->log_only, error));
    WS_TRY(put_log(c, c->log_only, error));
    WS_TRY(ws_layout_seal(c->log_only, error));
    return ws_layout_seal(c->beside, error); /* what overlaps is found here */
}

static enum ws_status put_mark(struct changing *c, struct ws_error *error) {
    char *memory = calloc(1, c->sector + WS_ALIGN);
    if (!memory) return ws_fail(error, WS_E_NOMEM, "out of memory for a sector");
    char *sector = memory + (WS_ALIGN - (uintptr_t)memory % WS_ALIGN) % WS_ALIGN;
    change_mark_make(&c->mark, sector);
    enum ws_status status = c->drive->ops->write(c->drive, 0, sector, c->sector, error);
    if (status == WS_OK) status = c->drive->ops->flush(c->drive, error);
    free(memory);
    return ws_bad_place(status, error);
}

/* Stopped before anything was touched. */
static enum ws_status as_it_was(enum ws_status status, struct ws_error *error) {
    if (status != WS_E_CANCELLED) return status;
    ws_fail(error, status, "stopped as asked; the drive is as it was");
    return ws_fail_next(error, "run it again");
}

static enum ws_status carry_out(struct changing *c, struct ws_write_result *result, struct ws_error *error) {
    const struct ws_write_options *o = c->options;
    struct ws_write_options beside = {.on_progress = o->on_progress, .context = o->context};
    struct ws_pace pace;
    WS_TRY(check_layout(c, error));
    WS_TRY(put_beside(c, error));
    if (o->before_write) WS_TRY(o->before_write(o->hook_context, error));
    WS_TRY(as_it_was(ws_write(c->port, c->beside, c->drive, &beside, result, error), error));
    struct ws_check_options look = {.scope = WS_CHECK_ALL, .on_progress = o->on_progress, .context = o->context};
    struct ws_check_result seen;
    const struct ws_layout *relied = o->body_moves ? c->log_only : c->beside; /* on, the log among it */
    WS_TRY(as_it_was(ws_check(c->port, relied, c->drive, &look, &seen, error), error));
    if (!seen.equal) {
        ws_fail(error, WS_E_DIFFERENT, "what reads back at byte %llu is not what was written; the drive is as it was",
                (unsigned long long)seen.different_at);
        return ws_fail_next(error, "save what is on this drive: it loses data");
    }
    if (o->before_seal) WS_TRY(o->before_seal(o->hook_context, error));
    WS_TRY(put_mark(c, error));
    ws_pace_start(&pace, c->port, o->on_progress, o->context, c->mark.log_length);
    return change_log_apply(c->drive, &c->mark, &pace, &result->written, error);
}

enum ws_status ws_change(struct ws_port *port, const struct ws_layout *layout, uint64_t log_at, struct ws_drive *drive,
                         const struct ws_write_options *options, struct ws_write_result *result,
                         struct ws_error *error) {
    const struct ws_run place = {.at = log_at, .length = ws_change_log_bytes(layout)};
    return ws_change_in(port, layout, &place, 1, drive, options, result, error);
}

enum ws_status ws_change_in(struct ws_port *port, const struct ws_layout *layout, const struct ws_run *place,
                            size_t places, struct ws_drive *drive, const struct ws_write_options *options,
                            struct ws_write_result *result, struct ws_error *error) {
    static const struct ws_write_options none;
    struct ws_drive_facts facts;
    struct changing c = {.port = port,
                         .layout = layout,
                         .drive = drive,
                         .options = options ? options : &none,
                         .place = place,
                         .places = places};
    memset(result, 0, sizeof *result);
    if (!places || places > WS_LOG_PIECES)
        return ws_fail(error, WS_E_USAGE, "a log stands in 1 to %d places", WS_LOG_PIECES);
    WS_TRY(drive->ops->describe(drive, &facts, error));
    c.sector = facts.logical_sector;
    if (c.options->build) memcpy(c.mark.change, c.options->build, WS_HASH_HEX);
    double started = port->ops->steady_clock(port);
    enum ws_status status = carry_out(&c, result, error);
    result->seconds = port->ops->steady_clock(port) - started;
    ws_layout_close(c.beside);
    ws_layout_close(c.log_only);
    ws_source_close(c.log_bytes);
    ws_layout_close(c.log);
    if (status != WS_OK) ws_fail_where(error, "%s", facts.short_name);
    return status;
}

enum ws_status ws_change_finish(struct ws_port *port, struct ws_drive *drive, ws_progress_call on_progress,
                                void *context, uint64_t *written, struct ws_error *error) {
    struct ws_changing mark;
    struct ws_source *back = NULL;
    struct ws_pace pace;
    char sector[512];
    WS_TRY(ws_source_drive(drive, &back, error));
    enum ws_status status = drive->ops->reread(drive, error);
    if (status == WS_OK) status = ws_source_read(back, 0, sector, sizeof sector, error);
    ws_source_close(back);
    WS_TRY(status);
    if (!ws_changing_read(sector, &mark))
        return ws_fail(error, WS_E_NOTFOUND, "this drive does not say that it is being changed");
    ws_pace_start(&pace, port, on_progress, context, mark.log_length);
    if (written) *written = 0;
    return change_log_apply(drive, &mark, &pace, written, error);
}
