/* layout.c — the ordered map of extents. */
#include "wild_satchel/layout.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

struct ws_layout {
    uint64_t size;
    struct ws_extent *extent;
    size_t count, room;
    unsigned part; /* of what is added next */
    struct ws_source **owned;
    size_t owned_count;
    bool sealed;
};

enum ws_status ws_layout_create(uint64_t size, struct ws_layout **layout, struct ws_error *error) {
    struct ws_layout *made = calloc(1, sizeof *made);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory for a layout");
    made->size = size;
    *layout = made;
    return WS_OK;
}

void ws_layout_close(struct ws_layout *layout) {
    if (!layout) return;
    for (size_t i = layout->owned_count; i > 0; i--) ws_source_close(layout->owned[i - 1]);
    free(layout->owned);
    free(layout->extent);
    free(layout);
}

enum ws_status ws_layout_own(struct ws_layout *layout, struct ws_source *source, struct ws_error *error) {
    struct ws_source **grown = realloc(layout->owned, (layout->owned_count + 1) * sizeof *grown);
    if (!grown) {
        ws_source_close(source);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a layout");
    }
    layout->owned = grown;
    layout->owned[layout->owned_count++] = source;
    return WS_OK;
}

unsigned ws_layout_part(struct ws_layout *layout, unsigned part) {
    unsigned was = layout->part;
    layout->part = part < WS_LAYOUT_PARTS ? part : 0;
    return was;
}

enum ws_status ws_layout_add(struct ws_layout *layout, uint64_t at, uint64_t length, const struct ws_source *from,
                             uint64_t from_at, enum ws_phase phase, struct ws_error *error) {
    if (length == 0) return WS_OK;
    if (layout->sealed) return ws_fail(error, WS_E_USAGE, "the layout is sealed; nothing can be added to it");
    if (!ws_inside(at, length, layout->size))
        return ws_fail(error, WS_E_RANGE, "%llu bytes at byte %llu reach past the end of the drive (%llu bytes)",
                       (unsigned long long)length, (unsigned long long)at, (unsigned long long)layout->size);
    if (!ws_inside(from_at, length, from->size))
        return ws_fail(error, WS_E_RANGE, "%llu bytes at byte %llu of a source are asked for, which has only %llu",
                       (unsigned long long)length, (unsigned long long)from_at, (unsigned long long)from->size);
    if (layout->count == layout->room) {
        size_t room = layout->room ? layout->room * 2 : 64;
        struct ws_extent *grown = realloc(layout->extent, room * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a layout of %zu extents", room);
        layout->extent = grown;
        layout->room = room;
    }
    layout->extent[layout->count++] = (struct ws_extent){at, length, from, from_at, phase, layout->part};
    return WS_OK;
}

enum ws_status ws_layout_add_bytes(struct ws_layout *layout, uint64_t at, const void *bytes, size_t length,
                                   enum ws_phase phase, struct ws_error *error) {
    struct ws_source *memory = NULL;
    WS_TRY(ws_source_memory(bytes, length, &memory, error));
    WS_TRY(ws_layout_own(layout, memory, error));
    return ws_layout_add(layout, at, length, memory, 0, phase, error);
}

static int by_place(const void *a, const void *b) {
    uint64_t left = ((const struct ws_extent *)a)->at;
    uint64_t right = ((const struct ws_extent *)b)->at;
    return left < right ? -1 : left > right;
}

enum ws_status ws_layout_fill(struct ws_layout *layout, uint64_t at, uint64_t end, const struct ws_source *from,
                              struct ws_error *error) {
    size_t count = layout->count; /* what is added goes behind these */
    if (!layout->sealed && count > 1) qsort(layout->extent, count, sizeof *layout->extent, by_place);
    for (size_t i = 0; i < count && at < end; i++) {
        const struct ws_extent e = layout->extent[i];
        uint64_t to = ws_min_u64(e.at, end);
        if (to > at) WS_TRY(ws_layout_add(layout, at, to - at, from, at, WS_PHASE_BODY, error));
        at = ws_max_u64(at, e.at + e.length);
    }
    return at < end ? ws_layout_add(layout, at, end - at, from, at, WS_PHASE_BODY, error) : WS_OK;
}

enum ws_status ws_layout_seal(struct ws_layout *layout, struct ws_error *error) {
    if (layout->count > 1) qsort(layout->extent, layout->count, sizeof *layout->extent, by_place);
    size_t kept = 0;
    for (size_t i = 0; i < layout->count; i++) {
        struct ws_extent *e = &layout->extent[i];
        struct ws_extent *before = kept ? &layout->extent[kept - 1] : NULL;
        if (before && before->at + before->length > e->at)
            return ws_fail(error, WS_E_RANGE,
                           "two parts of the drive overlap: %llu bytes at %llu and %llu bytes at %llu",
                           (unsigned long long)before->length, (unsigned long long)before->at,
                           (unsigned long long)e->length, (unsigned long long)e->at);
        if (before && before->at + before->length == e->at && before->from == e->from && before->phase == e->phase &&
            before->part == e->part && before->from_at + before->length == e->from_at)
            before->length += e->length;
        else layout->extent[kept++] = *e;
    }
    layout->count = kept;
    layout->sealed = true;
    return WS_OK;
}

uint64_t ws_layout_size(const struct ws_layout *layout) { return layout->size; }
size_t ws_layout_count(const struct ws_layout *layout) { return layout->count; }
const struct ws_extent *ws_layout_extent(const struct ws_layout *layout, size_t index) {
    return &layout->extent[index];
}

uint64_t ws_layout_bytes(const struct ws_layout *layout) { return ws_layout_bytes_without(layout, 0); }

uint64_t ws_layout_bytes_without(const struct ws_layout *layout, uint32_t leave_out) {
    uint64_t total = 0;
    for (size_t i = 0; i < layout->count; i++)
        if (!(leave_out >> layout->extent[i].part & 1)) total += layout->extent[i].length;
    return total;
}

/* The first extent that ends after `at`. */
static size_t extent_at(const struct ws_layout *layout, uint64_t at) {
    size_t low = 0;
    size_t high = layout->count;
    while (low < high) {
        size_t middle = low + (high - low) / 2;
        if (layout->extent[middle].at + layout->extent[middle].length <= at) low = middle + 1;
        else high = middle;
    }
    return low;
}

static enum ws_status view_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct ws_layout *layout = source->state;
    char *out = buffer;
    for (size_t i = extent_at(layout, at); length > 0; i++) {
        uint64_t hole_end = i < layout->count ? layout->extent[i].at : UINT64_MAX;
        if (at < hole_end) {
            size_t step = (size_t)ws_min_u64(length, hole_end - at);
            memset(out, 0, step);
            out += step;
            at += step;
            length -= step;
            if (length == 0) break;
        }
        const struct ws_extent *e = &layout->extent[i];
        size_t step = (size_t)ws_min_u64(length, e->at + e->length - at);
        WS_TRY(ws_source_read(e->from, e->from_at + (at - e->at), out, step, error));
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static void view_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct ws_layout *layout = source->state;
    size_t i = extent_at(layout, at);
    const struct ws_extent *e = i < layout->count ? &layout->extent[i] : NULL;
    if (e && e->at <= at)
        *piece = ws_piece_base(e->from, e->from_at + (at - e->at), ws_min_u64(piece->length, e->at + e->length - at));
    else
        *piece =
            (struct ws_piece){WS_PIECE_HOLE, e ? ws_min_u64(piece->length, e->at - at) : piece->length, NULL, 0, 0};
}

static const struct ws_source_ops view_ops = {view_read, NULL, view_piece};

enum ws_status ws_layout_source(const struct ws_layout *layout, struct ws_source **source, struct ws_error *error) {
    return ws_source_make(&view_ops, layout->size, (void *)layout, source, error);
}
