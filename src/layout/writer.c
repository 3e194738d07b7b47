/* writer.c — a layout to a drive: opening mark, body ascending, flush, seal, flush. */
#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/write.h"

#include <stdlib.h>
#include <string.h>

/* Bytes between flushes: the final flush is then short, and little is lost if the drive is pulled out. */
enum { FLUSH_EVERY = 256 << 20 };

struct writer {
    struct ws_port *port;
    const struct ws_layout *layout;
    struct ws_source *view;
    struct ws_drive *drive;
    uint32_t sector;
    const struct ws_write_options *options;
    struct ws_write_result *result;
    struct ws_pace pace;
    uint64_t done; /* bytes of the layout on the drive or handed to it */
};

struct fill {
    const struct ws_source *view;
    struct ws_chunk *chunk;
};

static void fill_chunk(void *context) {
    struct fill *fill = context;
    fill->chunk->status = ws_chunk_fill(fill->view, fill->chunk, &fill->chunk->error);
}

static enum ws_status cancelled(struct ws_error *error) {
    ws_fail(error, WS_E_CANCELLED, "stopped as asked; the drive is not finished");
    return ws_fail_next(error, "run the same build again to continue it");
}

static enum ws_status flush(struct writer *w, enum ws_step step, struct ws_error *error) {
    double before = w->port->ops->steady_clock(w->port);
    if (!ws_pace_tell(&w->pace, step, w->done)) return cancelled(error);
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
    struct ws_cursor cursor = {w->layout, 0, 0, WS_PHASE_SEAL, WS_PHASE_SEAL};
    uint64_t at = 0;
    size_t length = 0;
    bool any = false;
    for (;;) {
        ws_cursor_next(&cursor, &at, &length);
        if (length == 0) break;
        any = true;
        if (at == 0) memcpy(block, WS_UNFINISHED_MARK, sizeof WS_UNFINISHED_MARK);
        WS_GO(write_any(w, at, block, length, error));
        memset(block, 0, sizeof WS_UNFINISHED_MARK);
    }
    if (any) WS_GO(flush(w, WS_STEP_OPENING, error));
done:
    free(block);
    return status;
}

static void advance_record(struct writer *w, uint64_t flushed) {
    if (!w->options->record) return;
    w->options->record->flushed = flushed;
    if (w->options->on_record) w->options->on_record(w->options->context, w->options->record);
}

/* Stream one phase. Chunks that end below `from` are read, so that hashing taps see every byte, but not written. */
static enum ws_status stream(struct writer *w, enum ws_phase phase, uint64_t from, struct ws_error *error) {
    struct ws_chunk chunk[2];
    void *memory = NULL;
    struct ws_task *task = NULL;
    struct ws_cursor cursor = {w->layout, 0, 0, (int)phase, phase};
    struct fill fill = {w->view, NULL};
    enum ws_status status = ws_chunk_buffers(chunk, 2, &memory, error);
    if (status != WS_OK) return status;
    enum ws_step step = phase == WS_PHASE_SEAL ? WS_STEP_SEALING : WS_STEP_WRITING;
    uint64_t since_flush = 0;
    int now = 0;
    ws_cursor_next(&cursor, &chunk[0].at, &chunk[0].length);
    if (chunk[0].length) WS_GO(ws_chunk_fill(w->view, &chunk[0], error));
    while (chunk[now].length > 0) {
        struct ws_chunk *this = &chunk[now];
        struct ws_chunk *next = &chunk[1 - now];
        ws_cursor_next(&cursor, &next->at, &next->length);
        if (next->length) {
            fill.chunk = next;
            WS_GO(w->port->ops->start(w->port, fill_chunk, &fill, &task, error));
        }
        if (this->at + this->length > from) {
            WS_GO(write_any(w, this->at, this->data, this->length, error));
            w->result->written += this->length;
            since_flush += this->length;
        }
        w->done += this->length;
        if (!ws_pace_tell(&w->pace, step, w->done)) WS_GO(cancelled(error));
        if (phase == WS_PHASE_BODY && since_flush >= FLUSH_EVERY && next->length) {
            WS_GO(flush(w, WS_STEP_FLUSHING, error));
            advance_record(w, this->at + this->length);
            since_flush = 0;
        }
        if (task) {
            w->port->ops->join(w->port, task);
            task = NULL;
            if (next->status != WS_OK) {
                if (error) *error = next->error;
                status = next->status;
                goto done;
            }
        }
        now = 1 - now;
    }
done:
    if (task) w->port->ops->join(w->port, task);
    free(memory);
    return status;
}

enum ws_status ws_write(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_write_options *options, struct ws_write_result *result,
                        struct ws_error *error) {
    static const struct ws_write_options none;
    struct ws_drive_facts facts;
    struct writer w = {
        .port = port, .layout = layout, .drive = drive, .options = options ? options : &none, .result = result};
    enum ws_status status = WS_OK;
    uint64_t from = 0;
    bool sealed = false;
    memset(result, 0, sizeof *result);
    WS_TRY(drive->ops->describe(drive, &facts, error));
    w.sector = facts.logical_sector;
    size_t count = ws_layout_count(layout);
    if (count) {
        const struct ws_extent *last = ws_layout_extent(layout, count - 1);
        uint64_t end = last->at + last->length;
        if (end > facts.size) {
            ws_fail(error, WS_E_SPACE, "the drive holds %llu bytes, %llu are needed; nothing was written",
                    (unsigned long long)facts.size, (unsigned long long)end);
            return ws_fail_where(error, "%s", facts.short_name);
        }
    }
    for (size_t i = 0; i < count; i++) sealed |= ws_layout_extent(layout, i)->phase == WS_PHASE_SEAL;
    WS_GO(ws_layout_source(layout, &w.view, error));
    ws_pace_start(&w.pace, port, w.options->on_progress, w.options->context, ws_layout_bytes(layout));
    if (w.options->record) {
        char fingerprint[WS_HASH_HEX];
        WS_GO(ws_layout_fingerprint(layout, w.options->identity ? w.options->identity : "", fingerprint, error));
        if (strcmp(fingerprint, w.options->record->fingerprint) == 0) from = w.options->record->flushed;
        memcpy(w.options->record->fingerprint, fingerprint, sizeof fingerprint);
        w.options->record->flushed = from;
        result->continued_at = from;
    }
    if (from == 0) WS_GO(write_opening(&w, error));
    advance_record(&w, from);
    WS_GO(stream(&w, WS_PHASE_BODY, from, error));
    WS_GO(flush(&w, WS_STEP_FLUSHING, error));
    if (w.options->before_seal) WS_GO(w.options->before_seal(w.options->before_seal_context, error));
    if (sealed) {
        WS_GO(stream(&w, WS_PHASE_SEAL, 0, error));
        WS_GO(flush(&w, WS_STEP_FLUSHING, error));
    }
    WS_GO(drive->ops->reread(drive, error));
done:
    result->seconds = port->ops->steady_clock(port) - w.pace.started;
    ws_source_close(w.view);
    if (status != WS_OK) ws_fail_where(error, "%s", facts.short_name);
    return status;
}
