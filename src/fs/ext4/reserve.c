/* reserve.c — room kept behind the group descriptors: a kernel that grows a volume in use puts those of its new groups
 * there (resize_inode). Without it the kernel changes the volume's form, which start-up code would have to follow. */
#include "fs/ext4/internal.h"

#include <string.h>

uint32_t ext4_choose_reserve(const struct ws_ext4_geometry *g) {
    uint64_t groups = ws_div_up(ws_min_u64(g->params.grow_to, WS_EXT4_MOST), (uint64_t)BLOCK * BLOCKS_A_GROUP);
    uint64_t wanted = ws_div_up(groups * DESC_SIZE, BLOCK);
    if (wanted <= g->gdt_blocks) return 0;
    return (uint32_t)ws_min_u64(wanted - g->gdt_blocks, POINTERS_A_BLOCK);
}

static uint32_t copies(const struct ws_ext4_geometry *g) {
    uint32_t count = 0;
    for (uint32_t i = 1; i < g->groups; i++) count += ext4_has_super(i);
    return count;
}

void ext4_reserve_block(const struct ws_ext4_geometry *g, uint32_t number, uint8_t out[BLOCK]) {
    const uint32_t first = 1 + g->gdt_blocks;
    memset(out, 0, BLOCK);
    if (number == g->reserved_blocks) { /* the map: a pointer stands at its number among all descriptors' blocks */
        for (uint32_t i = 0; i < g->reserved_blocks; i++)
            ws_store_le32(out + 4ull * ((g->gdt_blocks + i) % POINTERS_A_BLOCK), first + i);
        return;
    }
    uint8_t *p = out;
    for (uint32_t i = 1; i < g->groups && p < out + BLOCK; i++) {
        if (!ext4_has_super(i)) continue;
        ws_store_le32(p, i * BLOCKS_A_GROUP + first + number);
        p += 4;
    }
}

void ext4_reserve_inode(const struct ws_ext4_geometry *g, uint8_t out[INODE_SIZE]) {
    const uint64_t pointers = POINTERS_A_BLOCK;
    const uint64_t size = (12 + pointers + pointers * pointers) * BLOCK; /* all that one map of maps reaches */
    const uint64_t blocks = (1 + (uint64_t)g->reserved_blocks * (1 + copies(g))) * (BLOCK / 512);
    ws_store_le16(out, 0x8000 | 0600);
    ws_store_le32(out + 0x04, (uint32_t)size);
    ws_store_le32(out + 0x6c, (uint32_t)(size >> 32));
    for (size_t at = 0x08; at <= 0x10; at += 4) ws_store_le32(out + at, (uint32_t)g->params.made_at);
    ws_store_le16(out + 0x1a, 1);
    ws_store_le32(out + 0x1c, (uint32_t)blocks);
    ws_store_le32(out + 0x28 + 4 * 13, 1 + g->gdt_blocks + g->reserved_blocks);
    ws_store_le16(out + 0x80, EXTRA_ISIZE);
}
