/* stream.c — chunks and pace, shared by the writer and the checker. */
#include "layout/stream.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

void ws_cursor_next(struct ws_cursor *c, uint64_t *at, size_t *length) {
    size_t count = ws_layout_count(c->layout);
    enum ws_phase phase = WS_PHASE_BODY;
    unsigned part = 0;
    *length = 0;
    while (c->index < count) {
        const struct ws_extent *e = ws_layout_extent(c->layout, c->index);
        bool wanted = (c->phase < 0 || (int)e->phase == c->phase) && !(c->leave_out >> e->part & 1);
        uint64_t here = e->at + c->offset;
        if (*length > 0 && (!wanted || here != *at + *length || e->phase != phase || e->part != part)) return;
        if (!wanted || c->offset == e->length) {
            c->index++;
            c->offset = 0;
            continue;
        }
        if (*length == 0) *at = here;
        c->chunk_phase = phase = e->phase;
        c->chunk_part = part = e->part;
        uint64_t chunk_end = *at / WS_CHUNK * WS_CHUNK + WS_CHUNK;
        uint64_t step = ws_min_u64(e->length - c->offset, chunk_end - here);
        *length += (size_t)step;
        c->offset += step;
        if (here + step == chunk_end) return;
    }
}

enum ws_status ws_chunk_fill(const struct ws_source *view, struct ws_chunk *chunk, struct ws_error *error) {
    return ws_source_read(view, chunk->at, chunk->data, chunk->length, error);
}

enum ws_status ws_chunk_buffers(struct ws_chunk chunk[], size_t count, void **memory, struct ws_error *error) {
    char *raw = malloc(count * (size_t)WS_CHUNK + WS_ALIGN);
    if (!raw) return ws_fail(error, WS_E_NOMEM, "out of memory for write buffers");
    *memory = raw;
    raw += WS_ALIGN - (uintptr_t)raw % WS_ALIGN;
    for (size_t i = 0; i < count; i++) {
        memset(&chunk[i], 0, sizeof chunk[i]);
        chunk[i].data = raw + i * (size_t)WS_CHUNK;
    }
    return WS_OK;
}

void ws_pace_start(struct ws_pace *pace, struct ws_port *port, ws_progress_call call, void *context, uint64_t total) {
    memset(pace, 0, sizeof *pace);
    pace->port = port;
    pace->call = call;
    pace->context = context;
    pace->started = pace->mark_s = port->ops->steady_clock(port);
    pace->progress.total = total;
    pace->progress.left_s = -1;
}

bool ws_pace_tell(struct ws_pace *pace, enum ws_step step, uint64_t done) {
    struct ws_progress *p = &pace->progress;
    double now = pace->port->ops->steady_clock(pace->port);
    p->step = step;
    p->done = done;
    p->elapsed_s = now - pace->started;
    if (now - pace->mark_s >= 1.0 && done > pace->mark_bytes) {
        double rate = (double)(done - pace->mark_bytes) / (now - pace->mark_s);
        p->rate = p->rate > 0 ? 0.6 * p->rate + 0.4 * rate : rate;
        pace->mark_s = now;
        pace->mark_bytes = done;
    }
    p->left_s = p->rate > 0 && p->total >= done ? (double)(p->total - done) / p->rate : -1;
    return !pace->call || pace->call(pace->context, p);
}

enum ws_status ws_bad_place(enum ws_status status, struct ws_error *error) {
    if (status == WS_E_WRITE || status == WS_E_READ)
        ws_fail_next(error, "this place of the drive is bad: use another drive; a trial of this one tells how much is");
    return status;
}

const char *ws_step_name(enum ws_step step) {
    static const char *const names[] = {"comparing", "opening", "writing", "flushing", "sealing", "checking"};
    return names[step];
}
