/* checker.c — what reads back, held against the layout. The drive is read by one task, the layout by the other. */
#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/write.h"

#include <stdlib.h>
#include <string.h>

struct read_back {
    const struct ws_source *drive;
    struct ws_chunk *chunk;
};

static void read_back(void *context) {
    struct read_back *r = context;
    r->chunk->status = ws_source_read(r->drive, r->chunk->at, r->chunk->data, r->chunk->length, &r->chunk->error);
}

static size_t first_difference(const char *a, const char *b, size_t length) {
    size_t i = 0;
    while (i < length && a[i] == b[i]) i++;
    return i;
}

/* The next chunk to look at, and where its bytes come from: the drive, or for a seal to come the layout itself. */
static void next_chunk(struct ws_cursor *cursor, enum ws_check_scope scope, struct ws_chunk *chunk, bool *meant) {
    ws_cursor_next(cursor, &chunk->at, &chunk->length);
    *meant = scope == WS_CHECK_BEFORE_SEAL && cursor->chunk_phase == WS_PHASE_SEAL;
}

enum ws_status ws_check(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_check_options *options, struct ws_check_result *result,
                        struct ws_error *error) {
    struct ws_chunk chunk[3]; /* two from the drive, one from the layout */
    bool meant[2];
    struct ws_source *view = NULL;
    struct ws_source *back = NULL;
    struct ws_hash *hash = NULL;
    struct ws_task *task = NULL;
    void *memory = NULL;
    struct ws_pace pace;
    enum ws_check_scope scope = options->scope;
    struct ws_cursor cursor = {
        layout, 0, 0, scope == WS_CHECK_SEAL ? (int)WS_PHASE_SEAL : -1, WS_PHASE_BODY, options->leave_out};
    enum ws_status status;
    int now = 0;
    memset(result, 0, sizeof *result);
    result->equal = true;
    ws_pace_start(&pace, port, options->on_progress, options->context,
                  ws_layout_bytes_without(layout, options->leave_out));
    WS_GO(drive->ops->reread(drive, error));
    WS_GO(ws_source_drive(drive, &back, error));
    WS_GO(ws_layout_source(layout, &view, error));
    if (options->with_hash) WS_GO(ws_hash_open(WS_HASH_SHA256, &hash, error));
    WS_GO(ws_chunk_buffers(chunk, 3, &memory, error));
    struct read_back ahead = {back, NULL};
    next_chunk(&cursor, scope, &chunk[0], &meant[0]);
    if (chunk[0].length && meant[0]) WS_GO(ws_source_read(view, chunk[0].at, chunk[0].data, chunk[0].length, error));
    else if (chunk[0].length)
        WS_GO(ws_bad_place(ws_source_read(back, chunk[0].at, chunk[0].data, chunk[0].length, error), error));
    while (chunk[now].length > 0) {
        struct ws_chunk *this = &chunk[now];
        struct ws_chunk *next = &chunk[1 - now];
        next_chunk(&cursor, scope, next, &meant[1 - now]);
        if (next->length && meant[1 - now]) {
            WS_GO(ws_source_read(view, next->at, next->data, next->length, error));
        } else if (next->length) {
            ahead.chunk = next;
            WS_GO(port->ops->start(port, read_back, &ahead, &task, error));
        }
        if (hash) ws_hash_add(hash, this->data, this->length);
        if (!meant[now]) {
            WS_GO(ws_source_read(view, this->at, chunk[2].data, this->length, error));
            if (memcmp(this->data, chunk[2].data, this->length) != 0) {
                if (result->equal)
                    result->different_at = this->at + first_difference(this->data, chunk[2].data, this->length);
                result->equal = false;
                result->different_chunks++;
            }
        }
        result->checked += this->length;
        if (!ws_pace_tell(&pace, WS_STEP_CHECKING, result->checked))
            WS_GO(ws_fail(error, WS_E_CANCELLED, "stopped as asked; the drive is not checked"));
        if (task) {
            port->ops->join(port, task);
            task = NULL;
            if (next->status != WS_OK) {
                if (error) *error = next->error;
                WS_GO(ws_bad_place(next->status, error));
            }
        }
        now = 1 - now;
    }
    if (hash) ws_hash_hex(hash, result->sha256);
done:
    if (task) port->ops->join(port, task);
    result->seconds = port->ops->steady_clock(port) - pace.started;
    ws_hash_close(hash);
    ws_source_close(view);
    ws_source_close(back);
    free(memory);
    return status;
}
