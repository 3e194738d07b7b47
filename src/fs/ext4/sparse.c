/* sparse.c — which blocks of a file are stored, and as which extents: holes stay holes. */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

struct ws_ext4_sparse *ext4_sparse_of(const struct ws_ext4_geometry *g, size_t item) {
    return ext4_row_of(g->sparse, g->sparses, sizeof *g->sparse, item);
}

enum ws_status ext4_add_run(struct ws_ext4_geometry *g, uint64_t from, uint64_t end, uint64_t block,
                            struct ws_error *error) {
    struct ws_ext4_sparse *s = &g->sparse[g->sparses - 1];
    if (from == end) return WS_OK;
    struct ws_ext4_run *runs = ext4_grown(g->run, s->first + s->runs, &g->runs_room, sizeof *runs);
    if (!runs) return ws_fail(error, WS_E_NOMEM, "out of memory for a file with many holes");
    g->run = runs;
    runs[s->first + s->runs++] = (struct ws_ext4_run){from, end - from, s->placed, 0, block};
    s->shape.content += end - from;
    s->placed += block ? 0 : end - from;
    return WS_OK;
}

enum ws_status ext4_begin_sparse(struct ws_ext4_geometry *g, size_t item, struct ws_error *error) {
    struct ws_ext4_sparse *last = g->sparses ? &g->sparse[g->sparses - 1] : NULL;
    size_t first = last ? last->first + last->runs : 0;
    struct ws_ext4_sparse *all = ext4_grown(g->sparse, g->sparses, &g->sparses_room, sizeof *all);
    if (!all) return ws_fail(error, WS_E_NOMEM, "out of memory for files with holes");
    g->sparse = all;
    all[g->sparses++] = (struct ws_ext4_sparse){.item = item, .first = first};
    return WS_OK;
}

/* Only whole blocks can be left out; a file gets a row of its own with its first such hole. */
static enum ws_status find_holes(struct ws_ext4_geometry *g, size_t item, struct ws_error *error) {
    const struct ws_node *node = g->item[item].node;
    uint64_t size = ws_node_size(node);
    uint64_t blocks = ws_div_up(size, BLOCK);
    uint64_t from = 0; /* first block that is not yet in a run */
    bool sparse = false;
    if (blocks > UINT32_MAX) {
        char text[24];
        ws_fail(error, WS_E_RANGE, "a file of %s is larger than ext4 can count",
                ws_size_counted(size, text, sizeof text));
        return ws_fail_where(error, "%.200s", node->name);
    }
    for (uint64_t at = 0, length; at < size; at += length) {
        length = size - at;
        if (!ws_source_is_hole(node->content, at, &length)) continue;
        uint64_t end = at + length;
        for (uint64_t more; end < size; end += more) { /* one hole may be told in pieces */
            more = size - end;
            if (!ws_source_is_hole(node->content, end, &more)) break;
        }
        length = end - at;
        uint64_t hole = ws_div_up(at, BLOCK);
        uint64_t behind = end == size ? blocks : end / BLOCK;
        if (hole >= behind) continue;
        if (!sparse) WS_TRY(ext4_begin_sparse(g, item, error));
        sparse = true;
        WS_TRY(ext4_add_run(g, from, hole, 0, error));
        from = behind;
    }
    return sparse ? ext4_add_run(g, from, blocks, 0, error) : WS_OK;
}

enum ws_status ext4_find_holes(struct ws_ext4_geometry *g, struct ws_error *error) {
    for (size_t i = 0; i < g->items; i++) {
        const struct ws_node *node = g->item[i].node;
        bool kept = false;
        if (g->over) WS_TRY(ext4_over_keep(g, i, &kept, error));
        if (kept) continue;
        if (node && node->kind == WS_NODE_FILE && node->content) WS_TRY(find_holes(g, i, error));
    }
    return WS_OK;
}

uint64_t ext4_logical_byte(const struct ws_ext4_geometry *g, size_t item, uint64_t at, uint64_t *contiguous) {
    const struct ws_ext4_sparse *s = ext4_sparse_of(g, item);
    *contiguous = UINT64_MAX;
    if (!s) return at;
    size_t low = s->first;
    size_t high = s->first + s->runs; /* the last run that begins at or before it */
    while (high - low > 1) {
        size_t middle = low + (high - low) / 2;
        if (g->run[middle].before <= at / BLOCK) low = middle;
        else high = middle;
    }
    const struct ws_ext4_run *run = &g->run[low];
    *contiguous = (run->before + run->blocks) * BLOCK - at;
    return at - run->before * BLOCK + run->logical * BLOCK;
}

/* On to the next run. */
static void enter_run(struct ext4_walk *w) {
    if (!w->block) w->d += w->left;
    w->block = w->run->block;
    w->logical = w->run->logical;
    w->left = w->run->blocks;
    w->run++;
}

struct ext4_walk ext4_walk_from(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape,
                                uint64_t index) {
    struct ext4_walk w = {
        .g = g, .d = g->item[item].start + (shape->xattr_block ? 1 : 0) + shape->tree, .left = shape->content};
    const struct ws_ext4_sparse *s = ext4_sparse_of(g, item);
    uint64_t at = 0;
    if (s) {
        size_t low = s->first;
        size_t high = s->first + s->runs;
        while (high - low > 1) {
            size_t middle = low + (high - low) / 2;
            if (g->run[middle].extents_before <= index) low = middle;
            else high = middle;
        }
        w.run = g->run + low;
        w.end = g->run + s->first + s->runs;
        w.left = 0;
        if (s->runs) {
            at = w.run->extents_before;
            w.d += w.run->before;
            enter_run(&w);
        }
    }
    uint32_t logical, length;
    uint64_t physical;
    while (at++ < index) (void)ext4_next_extent(&w, &logical, &physical, &length);
    if (w.left == 0 && w.run < w.end) enter_run(&w); /* the next extent's own place in the file */
    return w;
}

bool ext4_next_extent(struct ext4_walk *w, uint32_t *logical, uint64_t *physical, uint32_t *length) {
    uint64_t run;
    if (w->left == 0 && w->run < w->end) enter_run(w);
    if (w->left == 0) return false;
    if (w->block) run = w->left;
    *physical = w->block ? w->block : ext4_physical(w->g, w->d, w->left, &run);
    uint64_t take = ws_min_u64(run, EXTENT_MOST);
    *logical = (uint32_t)w->logical;
    *length = (uint32_t)take;
    if (w->block) w->block += take;
    else w->d += take;
    w->left -= take;
    w->logical += take;
    return true;
}
