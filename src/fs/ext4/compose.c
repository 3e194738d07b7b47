/* compose.c — superblocks, descriptors, bitmaps, inode tables and content, as extents of a layout. */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

static void make_block_bitmap(const struct ws_ext4_geometry *g, uint32_t group, uint8_t out[BLOCK]) {
    memset(out, 0, BLOCK);
    ext4_span_bits(&g->fixed, UINT64_MAX, group, out);
    ext4_span_bits(&g->space, g->data_used, group, out);
    ext4_span_bits(&g->kept, UINT64_MAX, group, out);
    ext4_fill_bits(out, ext4_group_blocks(g, group), BLOCKS_A_GROUP);
}

static void make_inode_bitmap(const struct ws_ext4_geometry *g, uint32_t group, uint8_t out[BLOCK]) {
    memset(out, 0, BLOCK);
    ext4_fill_bits(out, 0, ext4_inodes_in_group(g, group));
    ext4_fill_bits(out, g->inodes_a_group, BLOCKS_A_GROUP);
}

static void make_descriptor(const struct ws_ext4_geometry *g, uint32_t group, uint8_t d[DESC_SIZE]) {
    uint8_t bitmap[BLOCK];
    uint8_t number[4];
    uint32_t used = ext4_inodes_in_group(g, group);
    uint32_t free_blocks =
        (uint32_t)(ext4_group_blocks(g, group) - ext4_fixed_in_group(g, group) - ext4_data_in_group(g, group));
    uint16_t flags = 0;
    const struct ws_ext4_tables t = ext4_tables_of(g, group);
    memset(d, 0, DESC_SIZE);
    ws_store_le32(d + 0x00, (uint32_t)t.block_bitmap);
    ws_store_le32(d + 0x04, (uint32_t)t.inode_bitmap);
    ws_store_le32(d + 0x08, (uint32_t)t.inode_table);
    ws_store_le32(d + 0x20, (uint32_t)(t.block_bitmap >> 32));
    ws_store_le32(d + 0x24, (uint32_t)(t.inode_bitmap >> 32));
    ws_store_le32(d + 0x28, (uint32_t)(t.inode_table >> 32));
    ws_store_le16(d + 0x0c, (uint16_t)free_blocks);
    ws_store_le16(d + 0x2c, (uint16_t)(free_blocks >> 16));
    ws_store_le16(d + 0x0e, (uint16_t)(g->inodes_a_group - used));
    ws_store_le16(d + 0x2e, (uint16_t)((g->inodes_a_group - used) >> 16));
    ws_store_le16(d + 0x10, g->dirs_in_group[group]);
    ws_store_le16(d + 0x1c, (uint16_t)(g->inodes_a_group - used));
    ws_store_le16(d + 0x32, (uint16_t)((g->inodes_a_group - used) >> 16));
    if (ext4_bitmap_is_written(g, group)) {
        make_block_bitmap(g, group, bitmap);
        uint32_t csum = ws_crc32c(g->csum_seed, bitmap, BLOCK);
        ws_store_le16(d + 0x18, (uint16_t)csum);
        ws_store_le16(d + 0x38, (uint16_t)(csum >> 16));
    } else {
        flags |= GROUP_BLOCK_UNINIT;
    }
    if (used) {
        make_inode_bitmap(g, group, bitmap);
        uint32_t csum = ws_crc32c(g->csum_seed, bitmap, g->inodes_a_group / 8);
        ws_store_le16(d + 0x1a, (uint16_t)csum);
        ws_store_le16(d + 0x3a, (uint16_t)(csum >> 16));
        if (used == g->inodes_a_group) flags |= GROUP_INODE_ZEROED;
    } else {
        flags |= GROUP_INODE_UNINIT;
    }
    ws_store_le16(d + 0x12, flags);
    ws_store_le32(number, group);
    ws_store_le16(d + 0x1e, (uint16_t)ws_crc32c(ws_crc32c(g->csum_seed, number, 4), d, DESC_SIZE));
}

static enum ws_status make_super(const struct ws_ext4_geometry *g, uint32_t group, uint8_t s[1024],
                                 struct ws_error *error) {
    uint8_t journal[INODE_SIZE];
    uint64_t free_blocks = g->free_bytes / BLOCK;
    uint32_t log_flex = 0;
    while (1u << log_flex < g->flex_groups) log_flex++;
    memset(s, 0, 1024);
    ws_store_le32(s + 0x00, g->groups * g->inodes_a_group);
    ws_store_le32(s + 0x04, (uint32_t)g->blocks);
    ws_store_le32(s + 0x150, (uint32_t)(g->blocks >> 32));
    ws_store_le32(s + 0x0c, (uint32_t)free_blocks);
    ws_store_le32(s + 0x158, (uint32_t)(free_blocks >> 32));
    ws_store_le32(s + 0x10, (uint32_t)g->free_inodes);
    ws_store_le32(s + 0x18, 2); /* block size 1024 << 2 */
    ws_store_le32(s + 0x1c, 2);
    ws_store_le32(s + 0x20, BLOCKS_A_GROUP);
    ws_store_le32(s + 0x24, BLOCKS_A_GROUP);
    ws_store_le32(s + 0x28, g->inodes_a_group);
    ws_store_le32(s + 0x30, (uint32_t)g->params.made_at);
    ws_store_le16(s + 0x34, g->params.mounts);
    ws_store_le16(s + 0x36, 0xffff); /* no check by number of mounts */
    ws_store_le16(s + 0x38, 0xef53);
    ws_store_le16(s + 0x3a, 1); /* clean */
    ws_store_le16(s + 0x3c, 1); /* on errors: go on */
    ws_store_le32(s + 0x40, (uint32_t)g->params.made_at);
    ws_store_le32(s + 0x4c, 1); /* dynamic revision */
    ws_store_le32(s + 0x54, INO_LOST_FOUND);
    ws_store_le16(s + 0x58, INODE_SIZE);
    ws_store_le16(s + 0x5a, (uint16_t)group);
    ws_store_le32(s + 0x5c,
                  COMPAT_JOURNAL | COMPAT_XATTR | COMPAT_DIR_INDEX | (g->reserved_blocks ? COMPAT_RESIZE_INODE : 0));
    ws_store_le32(s + 0x60, INCOMPAT_FILETYPE | INCOMPAT_EXTENTS | INCOMPAT_64BIT | INCOMPAT_FLEX_BG);
    ws_store_le32(s + 0x64,
                  RO_SPARSE_SUPER | RO_LARGE_FILE | RO_HUGE_FILE | RO_DIR_NLINK | RO_EXTRA_ISIZE | RO_METADATA_CSUM);
    memcpy(s + 0x68, g->params.id.byte, 16);
    memcpy(s + 0x78, g->params.label, strlen(g->params.label));
    ws_store_le16(s + 0xce, (uint16_t)g->reserved_blocks);
    ws_store_le32(s + 0xe0, INO_JOURNAL);
    memcpy(s + 0xec, g->params.seed.byte, 16);
    s[0xfc] = 1; /* half MD4 for folder hashes */
    s[0xfd] = 1; /* the journal inode is backed up below */
    ws_store_le16(s + 0xfe, DESC_SIZE);
    ws_store_le32(s + 0x100, 0x0c); /* user attributes and access lists on by default */
    ws_store_le32(s + 0x108, (uint32_t)g->params.made_at);
    WS_TRY(ext4_make_inode(g, INO_JOURNAL, journal, error));
    memcpy(s + 0x10c, journal + 0x28, 60);
    memcpy(s + 0x10c + 60, journal + 0x6c, 4);
    memcpy(s + 0x10c + 64, journal + 0x04, 4);
    ws_store_le16(s + 0x15c, EXTRA_ISIZE);
    ws_store_le16(s + 0x15e, EXTRA_ISIZE);
    ws_store_le32(s + 0x160, 1); /* signed folder hashes */
    s[0x174] = (uint8_t)log_flex;
    s[0x175] = 1; /* checksums are crc32c */
    if (g->over) ws_store_le64(s + 0x178, g->over->kbytes_written + g->written_bytes / 1024);
    ws_store_le32(s + 0x3fc, ws_crc32c(0xffffffff, s, 0x3fc));
    return WS_OK;
}

/* Sources whose bytes are units of one size, each made when it is read. */
typedef enum ws_status (*unit_make)(const struct ws_ext4_geometry *g, uint64_t number, uint8_t *out,
                                    struct ws_error *error);

static enum ws_status read_units(const struct ws_source *source, uint64_t at, void *buffer, size_t length, size_t unit,
                                 unit_make make, struct ws_error *error) {
    uint8_t *out = buffer;
    uint8_t made[BLOCK];
    while (length > 0) {
        size_t step = (size_t)ws_min_u64(length, unit - at % unit);
        WS_TRY(make(source->state, at / unit, made, error));
        memcpy(out, made + at % unit, step);
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

/* Block bitmaps of all groups, then inode bitmaps of all groups. */
static enum ws_status bitmap_unit(const struct ws_ext4_geometry *g, uint64_t number, uint8_t *out,
                                  struct ws_error *error) {
    (void)error;
    if (number < g->groups) make_block_bitmap(g, (uint32_t)number, out);
    else make_inode_bitmap(g, (uint32_t)(number - g->groups), out);
    return WS_OK;
}

static enum ws_status reserve_unit(const struct ws_ext4_geometry *g, uint64_t number, uint8_t *out,
                                   struct ws_error *error) {
    (void)error;
    ext4_reserve_block(g, (uint32_t)number, out);
    return WS_OK;
}

static enum ws_status inode_unit(const struct ws_ext4_geometry *g, uint64_t number, uint8_t *out,
                                 struct ws_error *error) {
    return ext4_make_inode(g, (uint32_t)number + 1, out, error);
}

static enum ws_status bitmaps_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    return read_units(source, at, buffer, length, BLOCK, bitmap_unit, error);
}

static enum ws_status reserve_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    return read_units(source, at, buffer, length, BLOCK, reserve_unit, error);
}

static enum ws_status inodes_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                  struct ws_error *error) {
    return read_units(source, at, buffer, length, INODE_SIZE, inode_unit, error);
}

static const struct ws_source_ops bitmaps_ops = {bitmaps_read, NULL, NULL};
static const struct ws_source_ops reserve_ops = {reserve_read, NULL, NULL};
static const struct ws_source_ops inodes_ops = {inodes_read, NULL, NULL};

struct composing {
    const struct ws_ext4_geometry *g;
    struct ws_layout *layout;
    uint64_t at;
    enum ws_phase super, fixed; /* of the superblock, of all other fixed structures */
    struct ws_source *descriptors, *reserve, *bitmaps, *inodes, *data;
};

static enum ws_status put(const struct composing *c, uint64_t block, uint64_t blocks, const struct ws_source *from,
                          uint64_t from_block, enum ws_phase phase, struct ws_error *error) {
    return ws_layout_add(c->layout, c->at + block * BLOCK, blocks * BLOCK, from, from_block * BLOCK, phase, error);
}

static enum ws_status put_group(const struct composing *c, uint32_t group, struct ws_error *error) {
    const struct ws_ext4_geometry *g = c->g;
    uint64_t start = (uint64_t)group * BLOCKS_A_GROUP;
    uint32_t used = ext4_inodes_in_group(g, group);
    const struct ws_ext4_tables t = ext4_tables_of(g, group);
    if (ext4_has_super(group)) {
        uint8_t block[BLOCK] = {0};
        WS_TRY(make_super(g, group, block + (group == 0 ? 1024 : 0), error));
        WS_TRY(ws_layout_add_bytes(c->layout, c->at + start * BLOCK, block, BLOCK, group == 0 ? c->super : c->fixed,
                                   error));
        WS_TRY(put(c, start + 1, g->gdt_blocks, c->descriptors, 0, c->fixed, error));
    }
    if (group == 0 && g->reserved_blocks)
        WS_TRY(put(c, 1 + (uint64_t)g->gdt_blocks, g->reserved_blocks + 1, c->reserve, 0, c->fixed, error));
    if (ext4_bitmap_is_written(g, group)) WS_TRY(put(c, t.block_bitmap, 1, c->bitmaps, group, c->fixed, error));
    if (used) WS_TRY(put(c, t.inode_bitmap, 1, c->bitmaps, (uint64_t)g->groups + group, c->fixed, error));
    return put(c, t.inode_table, ext4_table_written(g, group), c->inodes, (uint64_t)group * g->table_blocks, c->fixed,
               error);
}

static enum ws_status make_descriptors(const struct ws_ext4_geometry *g, struct ws_source **source,
                                       struct ws_error *error) {
    size_t bytes = (size_t)g->gdt_blocks * BLOCK;
    uint8_t *all = calloc(1, bytes);
    if (!all) return ws_fail(error, WS_E_NOMEM, "out of memory for %u group descriptors", g->groups);
    for (uint32_t i = 0; i < g->groups; i++) make_descriptor(g, i, all + (size_t)i * DESC_SIZE);
    enum ws_status status = ws_source_memory(all, bytes, source, error);
    free(all);
    return status;
}

enum ws_status ws_ext4_compose(const struct ws_ext4_geometry *g, uint64_t at, struct ws_layout *layout,
                               enum ws_phase superblock_phase, struct ws_error *error) {
    struct composing c = {.g = g,
                          .layout = layout,
                          .at = at,
                          .super = superblock_phase,
                          .fixed = g->over ? superblock_phase : WS_PHASE_BODY};
    if (at % 512) /* it may lie in a file of others, wherever that is */
        return ws_fail(error, WS_E_RANGE, "an ext4 volume must start at a multiple of 512 bytes");
    WS_TRY(make_descriptors(g, &c.descriptors, error));
    WS_TRY(ws_layout_own(layout, c.descriptors, error));
    WS_TRY(ws_source_make(&reserve_ops, (g->reserved_blocks + 1ull) * BLOCK, (void *)g, &c.reserve, error));
    WS_TRY(ws_layout_own(layout, c.reserve, error));
    WS_TRY(ws_source_make(&bitmaps_ops, 2ull * g->groups * BLOCK, (void *)g, &c.bitmaps, error));
    WS_TRY(ws_layout_own(layout, c.bitmaps, error));
    WS_TRY(
        ws_source_make(&inodes_ops, (uint64_t)g->groups * g->inodes_a_group * INODE_SIZE, (void *)g, &c.inodes, error));
    WS_TRY(ws_layout_own(layout, c.inodes, error));
    WS_TRY(ext4_data_source(g, &c.data, error));
    WS_TRY(ws_layout_own(layout, c.data, error));
    for (uint32_t i = 0; i < g->groups; i++) WS_TRY(put_group(&c, i, error));
    if (ext4_over_itself(g))
        WS_TRY(
            ws_layout_add_bytes(layout, at + g->over->journal_head * BLOCK, g->over->journal, BLOCK, c.fixed, error));
    for (uint64_t d = 0; d < g->data_used;) {
        uint64_t run;
        uint64_t block = ext4_physical(g, d, g->data_used - d, &run);
        WS_TRY(put(&c, block, run, c.data, d, g->params.over_gone ? superblock_phase : WS_PHASE_BODY, error));
        d += run;
    }
    return WS_OK;
}
