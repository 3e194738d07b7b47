/* place.c — where on the volume the blocks of the linear data space lie (docs/decisions/0004). */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

uint32_t ext4_group_blocks(const struct ws_ext4_geometry *g, uint32_t group) {
    uint64_t left = g->blocks - (uint64_t)group * BLOCKS_A_GROUP;
    return (uint32_t)ws_min_u64(left, BLOCKS_A_GROUP);
}

bool ext4_add_span(struct ws_ext4_spans *s, uint64_t block, uint64_t blocks) {
    if (!blocks) return true;
    if (s->count + 2 > s->room) {
        size_t room = s->room * 2 + 64;
        struct ws_ext4_span *grown = realloc(s->span, room * sizeof *grown);
        if (!grown) return false;
        if (!s->count) grown[0].before = 0;
        s->span = grown;
        s->room = room;
    }
    uint64_t before = s->span[s->count].before;
    struct ws_ext4_span *last = s->count ? &s->span[s->count - 1] : NULL;
    if (!last || last->block + (before - last->before) != block) s->span[s->count++].block = block;
    s->span[s->count] = (struct ws_ext4_span){0, before + blocks};
    return true;
}

uint64_t ext4_span_blocks(const struct ws_ext4_spans *s) { return s->count ? s->span[s->count].before : 0; }

/* The last span that begins at or before it, by `block` or by `before`; the first where none does. */
static size_t span_of(const struct ws_ext4_spans *s, uint64_t wanted, bool by_block) {
    size_t low = 0;
    size_t high = s->count;
    while (high - low > 1) {
        size_t middle = low + (high - low) / 2;
        if ((by_block ? s->span[middle].block : s->span[middle].before) <= wanted) low = middle;
        else high = middle;
    }
    return low;
}

uint64_t ext4_span_below(const struct ws_ext4_spans *s, uint64_t block) {
    if (!s->count || s->span[0].block >= block) return 0;
    size_t i = span_of(s, block - 1, true);
    return s->span[i].before + ws_min_u64(block - s->span[i].block, s->span[i + 1].before - s->span[i].before);
}

uint64_t ext4_span_edge(const struct ws_ext4_spans *s, uint64_t block, uint64_t end, bool *in) {
    *in = false;
    for (size_t i = s->count ? span_of(s, block, true) : 0; i < s->count; i++) {
        const uint64_t first = s->span[i].block, last = first + (s->span[i + 1].before - s->span[i].before);
        if (last <= block) continue;
        *in = first <= block;
        return ws_min_u64(end, *in ? last : first);
    }
    return end;
}

void ext4_fill_bits(uint8_t *bitmap, uint64_t from, uint64_t to) {
    while (from < to && from % 8) {
        bitmap[from / 8] |= (uint8_t)(1u << (from % 8));
        from++;
    }
    if (from < to) memset(bitmap + from / 8, 0xff, (size_t)((to - from) / 8));
    for (from += (to - from) / 8 * 8; from < to; from++) bitmap[from / 8] |= (uint8_t)(1u << (from % 8));
}

void ext4_span_bits(const struct ws_ext4_spans *s, uint64_t most, uint32_t group, uint8_t *bitmap) {
    const uint64_t start = (uint64_t)group * BLOCKS_A_GROUP;
    const uint64_t end = start + BLOCKS_A_GROUP;
    for (size_t i = s->count ? span_of(s, start, true) : 0; i < s->count && s->span[i].block < end; i++) {
        uint64_t before = s->span[i].before;
        if (before >= most) break;
        uint64_t from = s->span[i].block;
        uint64_t to = from + ws_min_u64(s->span[i + 1].before, most) - before;
        from = ws_max_u64(from, start);
        to = ws_min_u64(to, end);
        if (from < to) ext4_fill_bits(bitmap, from - start, to - start);
    }
}

uint64_t ext4_physical(const struct ws_ext4_geometry *g, uint64_t d, uint64_t most, uint64_t *contiguous) {
    size_t i = span_of(&g->space, d, false);
    *contiguous = ws_min_u64(g->space.span[i + 1].before - d, most);
    return g->space.span[i].block + (d - g->space.span[i].before);
}

uint64_t ext4_data_in_group(const struct ws_ext4_geometry *g, uint32_t group) {
    const uint64_t start = (uint64_t)group * BLOCKS_A_GROUP;
    const uint64_t end = start + BLOCKS_A_GROUP;
    uint64_t fresh = ws_min_u64(ext4_span_below(&g->space, end), g->data_used) -
                     ws_min_u64(ext4_span_below(&g->space, start), g->data_used);
    return fresh + ext4_span_below(&g->kept, end) - ext4_span_below(&g->kept, start);
}

uint32_t ext4_inodes_in_group(const struct ws_ext4_geometry *g, uint32_t group) {
    uint64_t first = (uint64_t)group * g->inodes_a_group;
    return g->inodes_used <= first ? 0 : (uint32_t)ws_min_u64(g->inodes_used - first, g->inodes_a_group);
}

uint32_t ext4_table_written(const struct ws_ext4_geometry *g, uint32_t group) {
    uint32_t blocks = (uint32_t)ws_div_up(ext4_inodes_in_group(g, group), INODES_A_BLOCK);
    return ext4_over_itself(g) && g->over->table_used[group] > blocks ? g->over->table_used[group] : blocks;
}
