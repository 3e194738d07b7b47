/* patched.c — a source with small changes laid over it. */
#include "base/bytes.h"
#include "wild_satchel/source.h"

#include <stdlib.h>
#include <string.h>

struct patch {
    uint64_t at;
    size_t length;
    char *bytes;
};

struct patched {
    const struct ws_source *base;
    struct patch *patch; /* in the order they were laid: a later one wins */
    size_t count;
};

static enum ws_status patched_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    const struct patched *p = source->state;
    char *out = buffer;
    uint64_t from_base = at < p->base->size ? ws_min_u64(length, p->base->size - at) : 0;
    if (from_base) WS_TRY(ws_source_read(p->base, at, out, (size_t)from_base, error));
    memset(out + from_base, 0, length - (size_t)from_base);
    for (size_t i = 0; i < p->count; i++) {
        const struct patch *patch = &p->patch[i];
        uint64_t first = ws_max_u64(at, patch->at);
        uint64_t end = ws_min_u64(at + length, patch->at + patch->length);
        if (first < end) memcpy(out + (first - at), patch->bytes + (first - patch->at), (size_t)(end - first));
    }
    return WS_OK;
}

static void patched_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct patched *p = source->state;
    for (size_t i = 0; i < p->count; i++) {
        const struct patch *patch = &p->patch[i];
        if (at >= patch->at + patch->length || at + piece->length <= patch->at) continue;
        if (at >= patch->at) { /* changed bytes are this source's own; which change wins does not matter */
            piece->length = ws_min_u64(piece->length, patch->at + patch->length - at);
            return;
        }
        piece->length = patch->at - at;
    }
    if (at >= p->base->size) piece->kind = WS_PIECE_HOLE;
    else *piece = ws_piece_base(p->base, at, ws_min_u64(piece->length, p->base->size - at));
}

static void patched_close(struct ws_source *source) {
    struct patched *p = source->state;
    for (size_t i = 0; i < p->count; i++) free(p->patch[i].bytes);
    free(p->patch);
    free(p);
}

static const struct ws_source_ops patched_ops = {patched_read, patched_close, patched_piece};

enum ws_status ws_source_patched(const struct ws_source *base, uint64_t size, struct ws_source **source,
                                 struct ws_error *error) {
    struct patched *p = calloc(1, sizeof *p);
    if (!p) return ws_fail(error, WS_E_NOMEM, "out of memory for a patched source");
    p->base = base;
    enum ws_status status = ws_source_make(&patched_ops, size, p, source, error);
    if (status != WS_OK) free(p);
    return status;
}

enum ws_status ws_source_patch(struct ws_source *patched, uint64_t at, const void *bytes, size_t length,
                               struct ws_error *error) {
    struct patched *p = patched->state;
    if (!ws_inside(at, length, patched->size))
        return ws_fail(error, WS_E_RANGE, "a change of %zu bytes at byte %llu lies outside the %llu bytes it changes",
                       length, (unsigned long long)at, (unsigned long long)patched->size);
    if (length == 0) return WS_OK;
    char *copy = malloc(length);
    struct patch *grown = realloc(p->patch, (p->count + 1) * sizeof *grown);
    if (grown) p->patch = grown;
    if (!copy || !grown) {
        free(copy);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a change of %zu bytes", length);
    }
    memcpy(copy, bytes, length);
    struct patch *last = &p->patch[p->count++];
    last->at = at;
    last->length = length;
    last->bytes = copy;
    return WS_OK;
}

void ws_source_patch_count(const struct ws_source *patched, size_t *count, uint64_t *bytes) {
    const struct patched *p = patched->state;
    uint64_t total = 0;
    for (size_t i = 0; i < p->count; i++) total += p->patch[i].length;
    if (count) *count = p->count;
    if (bytes) *bytes = total;
}
