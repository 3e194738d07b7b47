/* writer.c — a layout to a drive: opening mark, body ascending, flush, seal, flush; or from where an earlier run got.
 */
#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/pieces.h"
#include "wild_satchel/write.h"

#include <stdlib.h>
#include <string.h>

/* Bytes between flushes: the final flush is then short, and little is lost if the drive is pulled out. */
enum { FLUSH_EVERY = 256 << 20, SAMPLE_EVERY = 16 /* chunks */, CHUNKS = 4 /* in memory at once */ };

struct writer {
    struct ws_port *port;
    const struct ws_layout *layout;
    struct ws_source *view;
    struct ws_drive *drive;
    uint32_t sector;
    const struct ws_write_options *options;
    struct ws_write_result *result;
    struct ws_pace pace;
    uint64_t done;  /* bytes of the layout on the drive or handed to it */
    uint64_t ahead; /* everything of the layout below this place was handed to it */
    uint64_t end;   /* where the layout ends */
    bool marks;     /* the seal covers the first sector: until then it says how far this got */
};

struct fill {
    const struct ws_source *view;
    struct ws_chunk *chunk;
    bool sums;
};

static void fill_chunk(void *context) {
    struct fill *fill = context;
    struct ws_chunk *c = fill->chunk;
    c->status = ws_chunk_fill(fill->view, c, &c->error);
    if (c->status == WS_OK && fill->sums) c->sum = ws_sum_of(c->data, c->length);
}

/* The first sector, once what was written before is on the medium: the mark never says more than is true. It is flushed
 * itself, or a drive pulled out before the next flush would have forgotten it. */
static enum ws_status renew_mark(struct writer *w, uint64_t flushed, struct ws_error *error) {
    char mark[WS_ALIGN * 2];
    if (!w->marks) return WS_OK;
    char *aligned = mark + (WS_ALIGN - (uintptr_t)mark % WS_ALIGN) % WS_ALIGN;
    if (w->sector > 512) /* what else the seal covers is zeros already; what it does not is not ours */
        WS_TRY(w->drive->ops->read(w->drive, 0, aligned, w->sector, error));
    ws_mark_make(w->options->build, flushed, w->end, aligned);
    WS_TRY(w->drive->ops->write(w->drive, 0, aligned, w->sector, error));
    return w->drive->ops->flush(w->drive, error);
}

/* Stopped between two writes: what was handed over is put on the medium and the mark says so, if the drive lets us. */
static enum ws_status cancelled(struct writer *w, struct ws_error *error) {
    char done[32], all[32];
    if (w->drive->ops->flush(w->drive, NULL) == WS_OK) (void)renew_mark(w, w->ahead, NULL);
    ws_fail(error, WS_E_CANCELLED, "stopped as asked, with %s of %s written; the drive is not finished and says so",
            ws_size_counted(w->done, done, sizeof done), ws_size_counted(ws_layout_bytes(w->layout), all, sizeof all));
    return ws_fail_next(error, w->options->build ? "run the same build again to continue it" : "run it again");
}

static enum ws_status flush(struct writer *w, enum ws_step step, struct ws_error *error) {
    double before = w->port->ops->steady_clock(w->port);
    if (!ws_pace_tell(&w->pace, step, w->done)) return cancelled(w, error);
    WS_TRY(w->drive->ops->flush(w->drive, error));
    w->result->flush_seconds += w->port->ops->steady_clock(w->port) - before;
    return WS_OK;
}

/* Write `length` bytes at `at`, which need not be whole sectors: the rest of an edge sector keeps what it holds. */
static enum ws_status write_any(struct writer *w, uint64_t at, const char *bytes, size_t length,
                                struct ws_error *error) {
    uint64_t first = at / w->sector * w->sector;
    uint64_t end = ws_round_up(at + length, w->sector);
    if (first == at && end == at + length) return w->drive->ops->write(w->drive, at, bytes, length, error);
    char *whole = malloc((size_t)(end - first) + WS_ALIGN);
    if (!whole) return ws_fail(error, WS_E_NOMEM, "out of memory for a write of %zu bytes", length);
    char *aligned = whole + (WS_ALIGN - (uintptr_t)whole % WS_ALIGN);
    enum ws_status status = WS_OK;
    if (first < at) status = w->drive->ops->read(w->drive, first, aligned, w->sector, error);
    if (status == WS_OK && end > at + length && (end - w->sector > first || first == at))
        status = w->drive->ops->read(w->drive, end - w->sector, aligned + (end - w->sector - first), w->sector, error);
    if (status == WS_OK) {
        memcpy(aligned + (at - first), bytes, length);
        status = w->drive->ops->write(w->drive, first, aligned, (size_t)(end - first), error);
    }
    free(whole);
    return status;
}

/* Until the seal the places it will cover say "not finished": the first sector in words, the others as zeros. */
static enum ws_status write_opening(struct writer *w, struct ws_error *error) {
    char *block = calloc(1, WS_CHUNK);
    if (!block) return ws_fail(error, WS_E_NOMEM, "out of memory for the opening mark");
    enum ws_status status = WS_OK;
    struct ws_cursor cursor = {w->layout, 0, 0, WS_PHASE_SEAL, WS_PHASE_SEAL, 0, 0};
    uint64_t at = 0;
    size_t length = 0;
    bool any = false;
    for (;;) {
        ws_cursor_next(&cursor, &at, &length);
        if (length == 0) break;
        any = true;
        if (at == 0 && length >= 512) ws_mark_make(w->options->build, 0, w->end, block);
        else if (at == 0) memcpy(block, WS_UNFINISHED_MARK, ws_min_u64(length, sizeof WS_UNFINISHED_MARK));
        WS_GO(write_any(w, at, block, length, error));
        memset(block, 0, 512);
    }
    if (any) WS_GO(flush(w, WS_STEP_OPENING, error));
done:
    free(block);
    return status;
}

static enum ws_status bad_input(enum ws_status status, struct ws_error *error) {
    if (status == WS_E_READ)
        ws_fail_next(error, "what is laid down cannot be read there: get a sound copy of it; the drive is unfinished "
                            "and says so");
    return status;
}

/* Chunks in a row, each filled by a task of its own while the one before them is written: what is unpacked or
 * enciphered is so on several processors. */
struct ahead {
    struct ws_chunk chunk[CHUNKS];
    struct fill fill[CHUNKS];
    struct ws_task *task[CHUNKS];
    size_t first, count;
    bool ended;
    void *memory;
};

static enum ws_status read_ahead(struct writer *w, struct ws_cursor *cursor, struct ahead *a, struct ws_error *error) {
    while (!a->ended && a->count < CHUNKS) {
        size_t i = (a->first + a->count) % CHUNKS;
        struct ws_chunk *next = &a->chunk[i];
        if (next->length == 0) ws_cursor_next(cursor, &next->at, &next->length);
        next->part = cursor->chunk_part;
        a->ended = next->length == 0;
        if (a->ended) break;
        a->fill[i] = (struct fill){w->view, next, w->options->sums && cursor->phase == (int)WS_PHASE_BODY};
        WS_TRY(w->port->ops->start(w->port, fill_chunk, &a->fill[i], &a->task[i], error));
        a->count++;
    }
    return WS_OK;
}

/* The oldest of them, filled; NULL at the end. It is free for the next again once its length is 0. */
static enum ws_status next_chunk(struct writer *w, struct ahead *a, struct ws_chunk **chunk, struct ws_error *error) {
    *chunk = NULL;
    if (!a->count) return WS_OK;
    struct ws_chunk *c = &a->chunk[a->first];
    w->port->ops->join(w->port, a->task[a->first]);
    a->task[a->first] = NULL;
    if (c->status != WS_OK) {
        if (error) *error = c->error;
        return bad_input(c->status, error);
    }
    *chunk = c;
    return WS_OK;
}

static void end_ahead(struct writer *w, struct ahead *a) {
    for (size_t i = 0; i < CHUNKS; i++)
        if (a->task[i]) w->port->ops->join(w->port, a->task[i]);
    free(a->memory);
}

/* Write one; flush now and then. */
static enum ws_status put_chunk(struct writer *w, enum ws_phase phase, const struct ws_chunk *c, uint64_t *since_flush,
                                bool last, struct ws_error *error) {
    enum ws_step step = phase == WS_PHASE_SEAL ? WS_STEP_SEALING : WS_STEP_WRITING;
    WS_TRY(ws_bad_place(write_any(w, c->at, c->data, c->length, error), error));
    if (w->options->sums && phase == WS_PHASE_BODY)
        WS_TRY(ws_sums_add(w->options->sums, &(struct ws_sum){c->at, (uint32_t)c->length, c->sum}, error));
    w->result->written += c->length;
    *since_flush += c->length;
    w->done += c->length;
    if (phase == WS_PHASE_BODY) w->ahead = c->at + c->length;
    if (!ws_pace_tell(&w->pace, step, w->done)) return cancelled(w, error);
    if (phase != WS_PHASE_BODY || *since_flush < FLUSH_EVERY || last) return WS_OK;
    WS_TRY(flush(w, WS_STEP_FLUSHING, error));
    *since_flush = 0;
    return ws_bad_place(renew_mark(w, w->ahead, error), error);
}

/* Stream one phase. Chunks that end below `from` are passed over: they are on the drive. */
static enum ws_status stream(struct writer *w, enum ws_phase phase, uint64_t from, struct ws_error *error) {
    struct ahead a = {.count = 0};
    struct ws_cursor cursor = {w->layout, 0, 0, (int)phase, phase, 0, 0};
    enum ws_status status = ws_chunk_buffers(a.chunk, CHUNKS, &a.memory, error);
    uint64_t since_flush = 0;
    struct ws_chunk *this = NULL;
    if (status != WS_OK) return status;
    for (struct ws_chunk *c = &a.chunk[0];;) {
        ws_cursor_next(&cursor, &c->at, &c->length);
        if (!c->length || c->at + c->length > from) break;
        w->done += c->length;
    }
    a.ended = a.chunk[0].length == 0;
    for (;;) {
        WS_GO(read_ahead(w, &cursor, &a, error));
        WS_GO(next_chunk(w, &a, &this, error));
        if (!this) break;
        WS_GO(put_chunk(w, phase, this, &since_flush, a.count == 1 && a.ended, error));
        this->length = 0;
        a.first = (a.first + 1) % CHUNKS;
        a.count--;
    }
done:
    end_ahead(w, &a);
    return status;
}

/* Is this chunk of what an earlier run wrote looked at? Of every stretch the first, the last, and some between. */
static bool is_sample(const struct writer *w, uint64_t index, bool last, uint64_t into_stretch, size_t length) {
    bool first = into_stretch == 0;
    bool ends = into_stretch + length >= FLUSH_EVERY;
    return w->options->compare_all || first || ends || last || index % SAMPLE_EVERY == 0;
}

/* Does the drive hold what an earlier run wrote below `flushed`? @return WS_E_DIFFERENT if not */
static enum ws_status compare_earlier(struct writer *w, uint64_t flushed, struct ws_error *error) {
    struct ws_chunk chunk[2];
    void *memory = NULL;
    struct ws_cursor cursor = {w->layout, 0, 0, WS_PHASE_BODY, WS_PHASE_BODY, 0, 0};
    uint64_t stretch = 0;
    enum ws_status status = ws_chunk_buffers(chunk, 2, &memory, error);
    struct ws_source *back = NULL;
    if (status != WS_OK) return status;
    WS_GO(ws_source_drive(w->drive, &back, error));
    WS_GO(w->drive->ops->reread(w->drive, error));
    for (uint64_t index = 0;; index++) {
        ws_cursor_next(&cursor, &chunk[0].at, &chunk[0].length);
        if (!chunk[0].length || chunk[0].at + chunk[0].length > flushed) break;
        bool last = chunk[0].at + chunk[0].length == flushed;
        bool look = is_sample(w, index, last, stretch, chunk[0].length);
        stretch = stretch + chunk[0].length >= FLUSH_EVERY ? 0 : stretch + chunk[0].length;
        if (!look) continue;
        WS_GO(ws_chunk_fill(w->view, &chunk[0], error));
        WS_GO(ws_bad_place(ws_source_read(back, chunk[0].at, chunk[1].data, chunk[0].length, error), error));
        w->result->compared += chunk[0].length;
        if (memcmp(chunk[0].data, chunk[1].data, chunk[0].length) != 0) {
            status = WS_E_DIFFERENT;
            break;
        }
        if (!ws_pace_tell(&w->pace, WS_STEP_COMPARING, chunk[0].at + chunk[0].length)) {
            ws_fail(error, WS_E_CANCELLED, "stopped as asked; nothing was written");
            WS_GO(ws_fail_next(error, "run the same build again to continue it"));
        }
    }
done:
    ws_source_close(back);
    free(memory);
    return status;
}

/* Where to begin: what the drive says of this build, if it is true. */
static enum ws_status find_beginning(struct writer *w, uint64_t *from, struct ws_error *error) {
    char *memory = malloc(2 * WS_ALIGN);
    struct ws_unfinished mark;
    *from = 0;
    if (!memory) return ws_fail(error, WS_E_NOMEM, "out of memory for a sector");
    char *sector = memory + (WS_ALIGN - (uintptr_t)memory % WS_ALIGN);
    enum ws_status status = w->drive->ops->read(w->drive, 0, sector, w->sector, error);
    bool unfinished = status == WS_OK && ws_is_unfinished(sector);
    bool whole = unfinished && ws_unfinished_read(sector, &mark);
    free(memory);
    if (status != WS_OK) return ws_bad_place(status, error);
    enum ws_begun *begun = &w->result->begun;
    if (w->options->afresh) *begun = WS_BEGUN_AFRESH;
    else if (!unfinished) *begun = WS_BEGUN_FRESH;
    else if (!whole) *begun = WS_BEGUN_DAMAGED;
    else if (!w->options->build || strcmp(mark.build, w->options->build) != 0) *begun = WS_BEGUN_OTHER;
    else if (mark.end != w->end) *begun = WS_BEGUN_DAMAGED; /* and no count reaches past the end */
    else if (mark.flushed == 0) *begun = WS_BEGUN_FRESH;
    else *begun = WS_BEGUN_CONTINUED;
    if (*begun != WS_BEGUN_CONTINUED) return WS_OK;
    status = compare_earlier(w, mark.flushed, error);
    if (status == WS_E_DIFFERENT) {
        *begun = WS_BEGUN_CHANGED;
        return WS_OK;
    }
    *from = status == WS_OK ? mark.flushed : 0;
    return status;
}

static enum ws_status check_room(struct writer *w, const struct ws_drive_facts *facts, struct ws_error *error) {
    size_t count = ws_layout_count(w->layout);
    if (count) {
        const struct ws_extent *last = ws_layout_extent(w->layout, count - 1);
        w->end = last->at + last->length;
    }
    if (w->end <= facts->size) return WS_OK;
    ws_fail(error, WS_E_SPACE, "the drive holds %llu bytes, %llu are needed; nothing was written",
            (unsigned long long)facts->size, (unsigned long long)w->end);
    return ws_fail_where(error, "%s", facts->short_name);
}

/* Body, hook, seal. */
static enum ws_status write_all(struct writer *w, bool sealed, struct ws_error *error) {
    const struct ws_write_options *o = w->options;
    uint64_t from = 0;
    if (w->marks) WS_TRY(find_beginning(w, &from, error));
    w->result->continued_at = w->ahead = from;
    if (o->before_write) WS_TRY(o->before_write(o->hook_context, error));
    if (from == 0) WS_TRY(ws_bad_place(write_opening(w, error), error));
    WS_TRY(stream(w, WS_PHASE_BODY, from, error));
    WS_TRY(flush(w, WS_STEP_FLUSHING, error));
    if (o->before_seal) {
        WS_TRY(ws_bad_place(renew_mark(w, w->ahead, error), error));
        enum ws_status status = o->before_seal(o->hook_context, error);
        if (status == WS_E_DIFFERENT) (void)renew_mark(w, 0, NULL); /* nothing to continue from */
        WS_TRY(status);
    }
    if (sealed) {
        WS_TRY(stream(w, WS_PHASE_SEAL, 0, error));
        WS_TRY(flush(w, WS_STEP_FLUSHING, error));
    }
    return w->drive->ops->reread(w->drive, error);
}

enum ws_status ws_write(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_write_options *options, struct ws_write_result *result,
                        struct ws_error *error) {
    static const struct ws_write_options none;
    struct ws_drive_facts facts;
    struct writer w = {
        .port = port, .layout = layout, .drive = drive, .options = options ? options : &none, .result = result};
    bool sealed = false;
    memset(result, 0, sizeof *result);
    WS_TRY(drive->ops->describe(drive, &facts, error));
    w.sector = facts.logical_sector;
    WS_TRY(check_room(&w, &facts, error));
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        sealed |= e->phase == WS_PHASE_SEAL;
        if (e->phase == WS_PHASE_SEAL && e->at == 0) w.marks = e->length >= 512;
    }
    WS_TRY(ws_layout_source(layout, &w.view, error));
    ws_pace_start(&w.pace, port, w.options->on_progress, w.options->context, ws_layout_bytes(layout));
    enum ws_status status = write_all(&w, sealed, error);
    result->seconds = port->ops->steady_clock(port) - w.pace.started;
    ws_source_close(w.view);
    if (status != WS_OK) ws_fail_where(error, "%s", facts.short_name);
    return status;
}
