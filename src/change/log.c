/* log.c — what goes over something the drive holds, written beside it first: a list of places, and their bytes. */
#include "change/internal.h"

#include <stdlib.h>
#include <string.h>

static const char magic[32] = "wild satchel change log 1\n";
enum { ROWS_MOST = 1 << 22, COUNT_AT = 32, BYTES_AT = 40 };

static size_t count_rows(const struct ws_layout *layout, uint64_t *bytes) {
    size_t rows = 0;
    *bytes = 0;
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        if (e->phase != WS_PHASE_SEAL) continue;
        rows++;
        *bytes += e->length;
    }
    return rows;
}

/* Head and rows, up to a whole page: what follows is aligned. */
static uint64_t head_bytes(uint64_t rows) { return ws_round_up(CHANGE_HEAD + rows * CHANGE_ROW, WS_ALIGN); }

uint64_t ws_change_log_bytes(const struct ws_layout *layout) {
    uint64_t bytes;
    uint64_t rows = count_rows(layout, &bytes);
    return ws_round_up(head_bytes(rows) + bytes, WS_ALIGN);
}

enum ws_status change_log_make(const struct ws_layout *layout, struct ws_layout **out, struct ws_error *error) {
    uint64_t bytes;
    const size_t rows = count_rows(layout, &bytes);
    const size_t head = (size_t)head_bytes(rows);
    struct ws_layout *log = NULL;
    enum ws_status status = WS_OK;
    uint8_t *h = calloc(1, head);
    if (!h || rows > ROWS_MOST) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a log of %zu places", rows));
    WS_GO(ws_layout_create(head + ws_round_up(bytes, WS_ALIGN), &log, error));
    memcpy(h, magic, sizeof magic);
    ws_store_le64(h + COUNT_AT, rows);
    ws_store_le64(h + BYTES_AT, bytes);
    uint64_t at = head;
    uint8_t *row = h + CHANGE_HEAD;
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        if (e->phase != WS_PHASE_SEAL) continue;
        ws_store_le64(row, e->at);
        ws_store_le64(row + 8, e->length);
        WS_GO(ws_layout_add(log, at, e->length, e->from, e->from_at, WS_PHASE_BODY, error));
        row += CHANGE_ROW;
        at += e->length;
    }
    WS_GO(ws_layout_add_bytes(log, 0, h, head, WS_PHASE_BODY, error));
    if (at < ws_layout_size(log)) { /* whole pages */
        static const uint8_t zeros[WS_ALIGN];
        WS_GO(ws_layout_add_bytes(log, at, zeros, (size_t)(ws_layout_size(log) - at), WS_PHASE_BODY, error));
    }
    WS_GO(ws_layout_seal(log, error));
done:
    free(h);
    if (status == WS_OK) *out = log;
    else ws_layout_close(log);
    return status;
}

struct applying {
    struct ws_drive *drive;
    const struct ws_changing *changing;
    struct ws_source *back; /* the drive, read */
    struct ws_source *log;  /* of that the log, its stretches one behind the other */
    uint32_t sector;
    uint64_t size, head; /* of the drive; of head and rows */
    uint8_t *rows;       /* owned */
    uint64_t count;
    char *chunk; /* aligned */
    struct ws_pace *pace;
    uint64_t written;
};

static enum ws_status impossible(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the log of this drive's change is not the one that was meant: %s", what);
    return ws_fail_next(error, "build the drive anew; what it held is in the places where it was, under no table");
}

/* Does this place lie in the log? */
static bool is_in_log(const struct ws_changing *c, uint64_t at, uint64_t length) {
    for (size_t i = 0; i < c->pieces; i++)
        if (at < c->piece[i].at + c->piece[i].length && at + length > c->piece[i].at) return true;
    return !c->pieces && at < c->log_at + c->log_length && at + length > c->log_at;
}

/* All stretches of it inside the drive, in whole sectors, and of its length? */
static enum ws_status open_log(struct applying *a, struct ws_error *error) {
    const struct ws_changing *c = a->changing;
    uint64_t all = 0;
    if (c->log_length < CHANGE_HEAD || c->log_at % a->sector)
        return impossible(error, "it would lie outside the drive");
    for (size_t i = 0; i < c->pieces; i++) {
        const struct ws_run *p = &c->piece[i];
        if (!ws_inside(p->at, p->length, a->size) || !p->length || p->at % a->sector || p->length % a->sector)
            return impossible(error, "a part of it would lie outside the drive");
        all += p->length;
    }
    if (c->pieces && (all != c->log_length || c->piece[0].at != c->log_at))
        return impossible(error, "its parts are not all of it");
    if (c->pieces) return ws_source_runs(a->back, c->piece, c->pieces, c->log_length, &a->log, error);
    if (!ws_inside(c->log_at, c->log_length, a->size)) return impossible(error, "it would lie outside the drive");
    return ws_source_slice(a->back, c->log_at, c->log_length, &a->log, error);
}

/* Is it the log that the mark speaks of, and are its places possible? */
static enum ws_status load(struct applying *a, struct ws_error *error) {
    const struct ws_changing *c = a->changing;
    char hex[WS_HASH_HEX];
    uint8_t head[CHANGE_HEAD];
    WS_TRY(open_log(a, error));
    const struct ws_source *log = a->log;
    enum ws_status status;
    WS_GO(ws_source_hash(log, WS_HASH_SHA256, hex, error));
    if (strcmp(hex, c->log_sha256) != 0) WS_GO(impossible(error, "its checksum is another"));
    WS_GO(ws_source_read(log, 0, head, sizeof head, error));
    a->count = ws_load_le64(head + COUNT_AT);
    uint64_t left = ws_load_le64(head + BYTES_AT);
    if (memcmp(head, magic, sizeof magic) != 0 || a->count > ROWS_MOST || head_bytes(a->count) > c->log_length ||
        left > c->log_length - head_bytes(a->count))
        WS_GO(impossible(error, "its head is damaged"));
    a->head = head_bytes(a->count);
    a->rows = malloc((size_t)a->head);
    if (!a->rows)
        WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a log of %llu places", (unsigned long long)a->count));
    WS_GO(ws_source_read(log, 0, a->rows, (size_t)a->head, error));
    bool first = false;
    for (uint64_t i = 0; i < a->count; i++) {
        uint64_t at = ws_load_le64(a->rows + CHANGE_HEAD + i * CHANGE_ROW);
        uint64_t length = ws_load_le64(a->rows + CHANGE_HEAD + i * CHANGE_ROW + 8);
        if (!ws_inside(at, length, a->size) || length > left || at % a->sector || length % a->sector ||
            is_in_log(c, at, length))
            WS_GO(impossible(error, "a place in it cannot be"));
        left -= length;
        first |= at == 0 && length == a->sector;
    }
    if (!first || left) WS_GO(impossible(error, "it does not end with the first sector"));
done:
    return status;
}

/* Those rows that are the first sector, or all others. */
static enum ws_status put_rows(struct applying *a, bool first, struct ws_error *error) {
    uint64_t from = a->head;
    for (uint64_t i = 0; i < a->count; i++) {
        uint64_t at = ws_load_le64(a->rows + CHANGE_HEAD + i * CHANGE_ROW);
        uint64_t length = ws_load_le64(a->rows + CHANGE_HEAD + i * CHANGE_ROW + 8);
        for (uint64_t done = 0; (at == 0) == first && done < length;) {
            size_t step = (size_t)ws_min_u64(length - done, WS_CHUNK);
            WS_TRY(ws_source_read(a->log, from + done, a->chunk, step, error));
            WS_TRY(ws_bad_place(a->drive->ops->write(a->drive, at + done, a->chunk, step, error), error));
            done += step;
            a->written += step;
            (void)ws_pace_tell(a->pace, WS_STEP_SEALING, a->written);
        }
        from += length;
    }
    return a->drive->ops->flush(a->drive, error);
}

enum ws_status change_log_apply(struct ws_drive *drive, const struct ws_changing *changing, struct ws_pace *pace,
                                uint64_t *written, struct ws_error *error) {
    struct applying a = {.drive = drive, .changing = changing, .pace = pace};
    struct ws_drive_facts facts;
    struct ws_chunk chunk[2];
    void *memory = NULL;
    enum ws_status status;
    WS_TRY(drive->ops->describe(drive, &facts, error));
    a.size = facts.size;
    a.sector = facts.logical_sector;
    WS_TRY(ws_chunk_buffers(chunk, 2, &memory, error));
    a.chunk = chunk[0].data;
    WS_GO(ws_source_drive(drive, &a.back, error));
    WS_GO(load(&a, error));
    WS_GO(put_rows(&a, false, error));
    WS_GO(put_rows(&a, true, error));
    status = drive->ops->reread(drive, error);
done:
    if (written) *written += a.written;
    ws_source_close(a.log);
    ws_source_close(a.back);
    free(a.rows);
    free(memory);
    return status;
}
