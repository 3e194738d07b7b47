/* place.c — where on the volume the blocks of the linear data space lie (docs/decisions/0004). */
#include "fs/ext4/internal.h"

uint32_t ext4_flex_members(const struct ws_ext4_geometry *g, uint32_t first) {
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

uint64_t ext4_super_offset(const struct ws_ext4_geometry *g, uint32_t group) {
    return ext4_has_super(group) ? 1 + (uint64_t)g->gdt_blocks : 0;
}

uint32_t ext4_group_blocks(const struct ws_ext4_geometry *g, uint32_t group) {
    uint64_t left = g->blocks - (uint64_t)group * BLOCKS_A_GROUP;
    return (uint32_t)ws_min_u64(left, BLOCKS_A_GROUP);
}

uint32_t ext4_prefix(const struct ws_ext4_geometry *g, uint32_t group) {
    uint64_t prefix = ext4_super_offset(g, group);
    if (group % g->flex_groups == 0) prefix += (uint64_t)ext4_flex_members(g, group) * (2 + g->table_blocks);
    return (uint32_t)prefix;
}

/* The group that holds data block `d`. */
static uint32_t group_of(const struct ws_ext4_geometry *g, uint64_t d) {
    uint32_t low = 0;
    uint32_t high = g->groups;
    while (high - low > 1) {
        uint32_t middle = low + (high - low) / 2;
        if (g->data_before[middle] <= d) low = middle;
        else high = middle;
    }
    return low;
}

uint64_t ext4_physical(const struct ws_ext4_geometry *g, uint64_t d, uint64_t most, uint64_t *contiguous) {
    uint32_t group = group_of(g, d);
    uint64_t block = (uint64_t)group * BLOCKS_A_GROUP + ext4_prefix(g, group) + (d - g->data_before[group]);
    uint64_t run = g->data_before[group + 1] - d;
    while (run < most && group + 1 < g->groups && ext4_prefix(g, group + 1) == 0) {
        group++;
        run += g->data_before[group + 1] - g->data_before[group];
    }
    *contiguous = ws_min_u64(run, most);
    return block;
}

uint64_t ext4_data_in_group(const struct ws_ext4_geometry *g, uint32_t group) {
    if (g->data_used <= g->data_before[group]) return 0;
    return ws_min_u64(g->data_used, g->data_before[group + 1]) - g->data_before[group];
}
