/* source.c — the plain sources: memory, zeros, slices, runs; and reading them. */
#include "wild_satchel/source.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum ws_status ws_source_make(const struct ws_source_ops *ops, uint64_t size, void *state, struct ws_source **source,
                              struct ws_error *error) {
    struct ws_source *made = malloc(sizeof *made);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory while opening a source");
    made->ops = ops;
    made->size = size;
    made->state = state;
    *source = made;
    return WS_OK;
}

enum ws_status ws_source_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                              struct ws_error *error) {
    if (!ws_inside(at, length, source->size))
        return ws_fail(error, WS_E_RANGE, "%llu bytes were asked for at byte %llu, but there are only %llu in all",
                       (unsigned long long)length, (unsigned long long)at, (unsigned long long)source->size);
    return length ? source->ops->read(source, at, buffer, length, error) : WS_OK;
}

void ws_source_close(struct ws_source *source) {
    if (!source) return;
    if (source->ops->close) source->ops->close(source);
    free(source);
}

struct ws_piece ws_source_piece(const struct ws_source *source, uint64_t at, uint64_t length) {
    struct ws_piece piece = {WS_PIECE_OWN, length, NULL, 0, 0};
    if (source->ops->piece) source->ops->piece(source, at, &piece);
    return piece;
}

bool ws_source_is_hole(const struct ws_source *source, uint64_t at, uint64_t *length) {
    struct ws_piece piece = ws_source_piece(source, at, *length);
    while (piece.kind == WS_PIECE_BASE) piece = ws_source_piece(piece.base, piece.at, piece.length);
    *length = piece.length;
    return piece.kind == WS_PIECE_HOLE;
}

static void free_state(struct ws_source *source) { free(source->state); }

static enum ws_status memory_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                  struct ws_error *error) {
    (void)error;
    memcpy(buffer, (const char *)source->state + at, length);
    return WS_OK;
}

static const struct ws_source_ops memory_ops = {memory_read, free_state, NULL};

enum ws_status ws_source_memory(const void *bytes, size_t length, struct ws_source **source, struct ws_error *error) {
    char *copy = malloc(length ? length : 1);
    if (!copy) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu bytes", length);
    if (length) memcpy(copy, bytes, length);
    enum ws_status status = ws_source_make(&memory_ops, length, copy, source, error);
    if (status != WS_OK) free(copy);
    return status;
}

static enum ws_status zeros_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *error) {
    (void)source, (void)at, (void)error;
    memset(buffer, 0, length);
    return WS_OK;
}

static void zeros_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    (void)source, (void)at;
    piece->kind = WS_PIECE_HOLE;
}

static const struct ws_source_ops zeros_ops = {zeros_read, NULL, zeros_piece};

enum ws_status ws_source_zeros(uint64_t size, struct ws_source **source, struct ws_error *error) {
    return ws_source_make(&zeros_ops, size, NULL, source, error);
}

struct placed_run {
    uint64_t start; /* byte of the source */
    uint64_t at, length;
};
struct runs {
    struct ws_source source; /* first: closing it frees all */
    const struct ws_source *base;
    size_t count;
    struct placed_run run[];
};

/* The last run that starts at or before `at`. Found anew for each read: a place remembered here would be written by
 * several readers at once. */
static size_t run_at(const struct runs *runs, uint64_t at) {
    size_t low = 0;
    size_t high = runs->count;
    while (high - low > 1) {
        size_t middle = low + (high - low) / 2;
        if (runs->run[middle].start <= at) low = middle;
        else high = middle;
    }
    return low;
}

static enum ws_status runs_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct runs *runs = source->state;
    char *out = buffer;
    for (size_t i = run_at(runs, at); length > 0; i++) {
        if (i >= runs->count) { /* past the last run: the file's tail is a hole */
            memset(out, 0, length);
            break;
        }
        uint64_t skip = at - runs->run[i].start;
        if (skip >= runs->run[i].length) continue;
        size_t step = (size_t)ws_min_u64(length, runs->run[i].length - skip);
        if (runs->run[i].at == WS_RUN_HOLE) memset(out, 0, step);
        else WS_TRY(ws_source_read(runs->base, runs->run[i].at + skip, out, step, error));
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static void runs_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct runs *runs = source->state;
    size_t i = runs->count ? run_at(runs, at) : 0;
    piece->kind = WS_PIECE_HOLE;
    if (i >= runs->count || at - runs->run[i].start >= runs->run[i].length) return; /* the tail */
    uint64_t skip = at - runs->run[i].start;
    piece->length = ws_min_u64(piece->length, runs->run[i].length - skip);
    if (runs->run[i].at == WS_RUN_HOLE) return;
    *piece = ws_piece_base(runs->base, runs->run[i].at + skip, piece->length);
}

static const struct ws_source_ops runs_ops = {runs_read, NULL, runs_piece};

/* A part of another source, for there are as many as files: in one piece with the source itself. */
struct part {
    struct ws_source source; /* first: closing it frees all */
    const struct ws_source *base;
    uint64_t at;
};

static enum ws_status part_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct part *p = source->state;
    return ws_source_read(p->base, p->at + at, buffer, length, error);
}

static void part_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct part *p = source->state;
    *piece = ws_piece_base(p->base, p->at + at, piece->length);
}

static const struct ws_source_ops part_ops = {part_read, NULL, part_piece};

static enum ws_status make_part(const struct ws_source *base, uint64_t at, uint64_t size, struct ws_source **source,
                                struct ws_error *error) {
    struct part *made = malloc(sizeof *made);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory for a part of a source");
    *made = (struct part){.source = {.ops = &part_ops, .size = size, .state = made}, .base = base, .at = at};
    *source = &made->source;
    return WS_OK;
}

enum ws_status ws_source_runs(const struct ws_source *base, const struct ws_run *runs, size_t count, uint64_t size,
                              struct ws_source **source, struct ws_error *error) {
    uint64_t total = 0;
    for (size_t i = 0; i < count; i++) {
        if (runs[i].length == 0 || runs[i].length > UINT64_MAX - total ||
            (runs[i].at != WS_RUN_HOLE && !ws_inside(runs[i].at, runs[i].length, base->size)))
            return ws_fail(error, WS_E_FORMAT, "a file's content points outside its volume (byte %llu of %llu)",
                           (unsigned long long)runs[i].at, (unsigned long long)base->size);
        total += runs[i].length;
    }
    if (count == 1 && runs[0].at != WS_RUN_HOLE && size && size <= runs[0].length)
        return make_part(base, runs[0].at, size, source, error);
    struct runs *made = malloc(sizeof *made + count * sizeof made->run[0]);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory for a file in %zu pieces", count);
    *made = (struct runs){.source = {.ops = &runs_ops, .size = size, .state = made}, .base = base, .count = count};
    total = 0;
    for (size_t i = 0; i < count; i++) {
        made->run[i] = (struct placed_run){.start = total, .at = runs[i].at, .length = runs[i].length};
        total += runs[i].length;
    }
    *source = &made->source;
    return WS_OK;
}

enum ws_status ws_source_slice(const struct ws_source *base, uint64_t at, uint64_t length, struct ws_source **source,
                               struct ws_error *error) {
    struct ws_run run = {length, at};
    if (!ws_inside(at, length, base->size))
        return ws_fail(error, WS_E_RANGE, "a part of %llu bytes at byte %llu reaches past the end (%llu bytes)",
                       (unsigned long long)length, (unsigned long long)at, (unsigned long long)base->size);
    return ws_source_runs(base, &run, length ? 1 : 0, length, source, error);
}

enum ws_status ws_source_load(const struct ws_source *source, size_t most, char **bytes, size_t *length,
                              struct ws_error *error) {
    if (source->size > most)
        return ws_fail(error, WS_E_RANGE, "%llu bytes are more than the %zu this file may have",
                       (unsigned long long)source->size, most);
    char *loaded = malloc((size_t)source->size + 1);
    if (!loaded) return ws_fail(error, WS_E_NOMEM, "out of memory for %llu bytes", (unsigned long long)source->size);
    enum ws_status status = ws_source_read(source, 0, loaded, (size_t)source->size, error);
    if (status != WS_OK) {
        free(loaded);
        return status;
    }
    loaded[source->size] = '\0';
    *bytes = loaded;
    *length = (size_t)source->size;
    return WS_OK;
}

enum ws_status ws_source_hash(const struct ws_source *source, enum ws_hash_kind kind, char *hex,
                              struct ws_error *error) {
    enum { CHUNK = 1 << 20 };
    struct ws_hash *hash = NULL;
    char *buffer = malloc((size_t)ws_min_u64(CHUNK, source->size + 1));
    enum ws_status status = WS_OK;
    if (!buffer) return ws_fail(error, WS_E_NOMEM, "out of memory for a read buffer");
    WS_GO(ws_hash_open(kind, &hash, error));
    for (uint64_t at = 0; at < source->size;) {
        size_t step = (size_t)ws_min_u64(CHUNK, source->size - at);
        WS_GO(ws_source_read(source, at, buffer, step, error));
        ws_hash_add(hash, buffer, step);
        at += step;
    }
    ws_hash_hex(hash, hex);
done:
    ws_hash_close(hash);
    free(buffer);
    return status;
}

enum ws_status ws_source_state(const struct ws_source *source, char *hex, struct ws_error *error) {
    enum { ENDS = 1 << 20, PLACES = 256, PLACE = 4096 };
    struct ws_hash *hash = NULL;
    uint8_t *room = malloc(ENDS);
    uint8_t size[8];
    const size_t end = (size_t)ws_min_u64(ENDS, source->size), place = (size_t)ws_min_u64(PLACE, source->size);
    enum ws_status status = room ? ws_hash_open(WS_HASH_SHA256, &hash, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for a drive's state");
    ws_store_le64(size, source->size);
    if (status == WS_OK) ws_hash_add(hash, size, sizeof size);
    for (uint64_t i = 0; i < PLACES + 2 && status == WS_OK; i++) {
        const size_t length = i < 2 ? end : place;
        const uint64_t at = i == 0 ? 0 : i == 1 ? source->size - end : (source->size - place) / (PLACES + 1) * (i - 1);
        status = ws_source_read(source, at, room, length, error);
        if (status == WS_OK) ws_hash_add(hash, room, length);
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    free(room);
    return status;
}
