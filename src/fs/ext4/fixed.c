/* fixed.c — where on a volume the structures stand that hold no content. */
#include "fs/ext4/internal.h"

#include <stdlib.h>

static uint32_t flex_members(const struct ws_ext4_geometry *g, uint32_t first) {
    uint32_t left = g->groups - first;
    return left < g->flex_groups ? left : g->flex_groups;
}

bool ext4_has_super(uint32_t group) { /* sparse_super: groups 0, 1 and the powers of 3, 5 and 7 */
    if (group <= 1) return true;
    static const uint32_t bases[3] = {3, 5, 7};
    for (int i = 0; i < 3; i++) {
        uint32_t n = group;
        while (n % bases[i] == 0) n /= bases[i];
        if (n == 1) return true;
    }
    return false;
}

uint64_t ext4_super_blocks(const struct ws_ext4_geometry *g, uint32_t group) {
    if (!ext4_has_super(group)) return 0;
    return 1 + (uint64_t)g->gdt_blocks + g->reserved_blocks + (group == 0 && g->reserved_blocks ? 1 : 0);
}

/* Does a group that is added to a volume have its tables for itself? Those before it in its flex group have theirs. */
static bool stands_alone(const struct ws_ext4_geometry *g, uint32_t group) {
    return ext4_over_itself(g) && group - group % g->flex_groups < g->over->groups;
}

uint64_t ext4_front_blocks(const struct ws_ext4_geometry *g, uint32_t group) {
    bool first = group % g->flex_groups == 0;
    if (stands_alone(g, group)) return ext4_super_blocks(g, group) + 2 + g->table_blocks;
    return ext4_super_blocks(g, group) + (first ? (uint64_t)flex_members(g, group) * (2 + g->table_blocks) : 0);
}

struct ws_ext4_tables ext4_tables_of(const struct ws_ext4_geometry *g, uint32_t group) {
    return ext4_over_itself(g) ? g->over->tables[group] : ext4_fresh_tables(g, group);
}

/* Packed at the front of the first group of its flex group. */
struct ws_ext4_tables ext4_fresh_tables(const struct ws_ext4_geometry *g, uint32_t group) {
    uint32_t number = group % g->flex_groups;
    uint32_t first = group - number;
    if (stands_alone(g, group)) {
        const uint64_t own = (uint64_t)group * BLOCKS_A_GROUP + ext4_super_blocks(g, group);
        return (struct ws_ext4_tables){own, own + 1, own + 2};
    }
    uint32_t members = flex_members(g, first);
    uint64_t base = (uint64_t)first * BLOCKS_A_GROUP + ext4_super_blocks(g, first);
    return (struct ws_ext4_tables){base + number, base + members + number,
                                   base + 2ull * members + (uint64_t)number * g->table_blocks};
}

struct stretch {
    uint64_t block, blocks;
};

static int by_block(const void *a, const void *b) {
    const struct stretch *x = a;
    const struct stretch *y = b;
    return x->block < y->block ? -1 : x->block > y->block;
}

enum ws_status ext4_list_fixed(struct ws_ext4_geometry *g, struct ws_error *error) {
    size_t count = 0;
    uint64_t end = 0;
    struct stretch *list = malloc((size_t)g->groups * 4 * sizeof *list);
    enum ws_status status =
        list ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a volume of %u groups", g->groups);
    for (uint32_t i = 0; list && i < g->groups; i++) {
        struct ws_ext4_tables t = ext4_tables_of(g, i);
        if (ext4_has_super(i)) list[count++] = (struct stretch){(uint64_t)i * BLOCKS_A_GROUP, ext4_super_blocks(g, i)};
        list[count++] = (struct stretch){t.block_bitmap, 1};
        list[count++] = (struct stretch){t.inode_bitmap, 1};
        list[count++] = (struct stretch){t.inode_table, g->table_blocks};
    }
    if (count) qsort(list, count, sizeof *list, by_block);
    for (size_t i = 0; i < count && status == WS_OK; end = list[i].block + list[i].blocks, i++) {
        if (list[i].block < end || list[i].block >= g->blocks || list[i].blocks > g->blocks - list[i].block)
            status =
                ws_fail(error, WS_E_FORMAT, "the ext4 volume is damaged: what stands at block %llu cannot be there",
                        (unsigned long long)list[i].block);
        else if (!ext4_add_span(&g->fixed, list[i].block, list[i].blocks))
            status = ws_fail(error, WS_E_NOMEM, "out of memory for a volume of %u groups", g->groups);
    }
    free(list);
    return status;
}

enum ws_status ext4_list_space(struct ws_ext4_geometry *g, struct ws_error *error) {
    const struct ws_ext4_spans *fixed = &g->fixed;
    bool room = true;
    for (size_t i = 0; i < fixed->count; i++) { /* the first begins with the volume */
        uint64_t from = fixed->span[i].block + (fixed->span[i + 1].before - fixed->span[i].before);
        uint64_t to = i + 1 < fixed->count ? fixed->span[i + 1].block : g->blocks;
        room &= ext4_add_span(&g->space, from, to - from);
    }
    return room ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a volume of %u groups", g->groups);
}

uint64_t ext4_fixed_in_group(const struct ws_ext4_geometry *g, uint32_t group) {
    const uint64_t start = (uint64_t)group * BLOCKS_A_GROUP;
    return ext4_span_below(&g->fixed, start + BLOCKS_A_GROUP) - ext4_span_below(&g->fixed, start);
}

bool ext4_bitmap_is_written(const struct ws_ext4_geometry *g, uint32_t group) {
    return group + 1 == g->groups || ext4_data_in_group(g, group) > 0 ||
           ext4_fixed_in_group(g, group) > ext4_super_blocks(g, group);
}
