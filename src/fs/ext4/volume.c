/* volume.c — superblock, descriptors, inodes, and where an inode's content stands. */
#include "fs/ext4/volume.h"

#include <stdlib.h>
#include <string.h>

enum { SUPER_AT = 1024, AHEAD = 64 * 1024, DEPTH_MOST = 5 };
static const uint32_t incompat_known = INCOMPAT_FILETYPE | INCOMPAT_RECOVER | INCOMPAT_META_BG | INCOMPAT_EXTENTS |
                                       INCOMPAT_64BIT | INCOMPAT_MMP | INCOMPAT_FLEX_BG | INCOMPAT_EA_INODE |
                                       INCOMPAT_CSUM_SEED | INCOMPAT_LARGEDIR | INCOMPAT_INLINE | INCOMPAT_ENCRYPT |
                                       INCOMPAT_CASEFOLD;

static enum ws_status damaged(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the ext4 volume is damaged: %s", what);
    return ws_fail_next(error, "let a file system checker look at it before anything else writes to it");
}

static enum ws_status load_super(const struct ws_source *source, uint8_t s[1024], struct ws_error *error) {
    if (source->size < SUPER_AT + 1024) return ws_fail(error, WS_E_NOTFOUND, "too small to hold an ext4 volume");
    WS_TRY(ws_source_read(source, SUPER_AT, s, 1024, error));
    if (ws_load_le16(s + 0x38) != 0xef53) return ws_fail(error, WS_E_NOTFOUND, "there is no ext4 volume here");
    return WS_OK;
}

static enum ws_status parse_super(const struct ws_source *source, const uint8_t *s, struct ext4_volume *v,
                                  struct ws_error *error) {
    memset(v, 0, sizeof *v);
    v->source = source;
    v->compat = ws_load_le32(s + 0x5c);
    v->incompat = ws_load_le32(s + 0x60);
    v->ro_compat = ws_load_le32(s + 0x64);
    uint32_t log_block = ws_load_le32(s + 0x18);
    if (log_block > 6) return damaged(error, "its block size is impossible");
    v->block = 1024u << log_block;
    v->blocks_a_group = ws_load_le32(s + 0x20);
    v->inodes_a_group = ws_load_le32(s + 0x28);
    v->first_data_block = ws_load_le32(s + 0x14);
    v->reserved = v->compat & COMPAT_RESIZE_INODE ? ws_load_le16(s + 0xce) : 0;
    v->blocks = ws_load_le32(s + 0x04);
    if (v->incompat & INCOMPAT_64BIT) v->blocks |= (uint64_t)ws_load_le32(s + 0x150) << 32;
    v->desc_size = v->incompat & INCOMPAT_64BIT ? ws_load_le16(s + 0xfe) : 32;
    uint32_t inode_size = ws_load_le32(s + 0x4c) ? ws_load_le16(s + 0x58) : 128;
    const uint32_t log_cluster = v->ro_compat & RO_BIGALLOC ? ws_load_le32(s + 0x1c) : log_block;
    if (log_cluster < log_block || log_cluster > 30) return damaged(error, "its cluster size is impossible");
    v->cluster = 1u << (log_cluster - log_block);
    if (v->blocks_a_group == 0 || v->blocks_a_group / v->cluster > v->block * 8 || v->inodes_a_group == 0 ||
        v->inodes_a_group > v->block * 8 || v->desc_size < 32 || v->desc_size > 1024 || inode_size < 128 ||
        inode_size > v->block || (inode_size & (inode_size - 1)) || v->blocks <= v->first_data_block)
        return damaged(error, "its superblock states impossible numbers");
    if (v->ro_compat & RO_METADATA_CSUM && ws_crc32c(0xffffffff, s, 0x3fc) != ws_load_le32(s + 0x3fc))
        return damaged(error, "its superblock has a wrong checksum");
    uint64_t groups = ws_div_up(v->blocks - v->first_data_block, v->blocks_a_group);
    if (groups > 0x400000) return damaged(error, "it states more groups than can be");
    const uint64_t inodes = ws_load_le32(s);
    if (inodes > groups * v->inodes_a_group || inodes * inode_size > v->blocks * v->block)
        return damaged(error, "it states more inodes than can be");
    v->groups = (uint32_t)groups;
    v->csum_seed = v->incompat & INCOMPAT_CSUM_SEED ? ws_load_le32(s + 0x270) : ws_crc32c(0xffffffff, s + 0x68, 16);
    v->journal_ino = v->compat & COMPAT_JOURNAL ? ws_load_le32(s + 0xe0) : 0;
    struct ws_ext4_facts *f = &v->facts;
    memcpy(f->label, s + 0x78, 16);
    memcpy(f->id.byte, s + 0x68, 16);
    f->block_size = v->block;
    f->size = v->blocks * v->block;
    f->free_bytes = ws_load_le32(s + 0x0c);
    if (v->incompat & INCOMPAT_64BIT) f->free_bytes |= (uint64_t)ws_load_le32(s + 0x158) << 32;
    f->free_bytes *= v->block;
    f->inodes = (uint32_t)inodes;
    f->free_inodes = ws_load_le32(s + 0x10);
    f->has_journal = v->journal_ino != 0;
    f->needs_recovery = (v->incompat & INCOMPAT_RECOVER) != 0;
    f->clean = ws_load_le16(s + 0x3a) == 1 && !f->needs_recovery;
    f->inode_size = inode_size;
    f->made_at = ws_load_le32(s + 0x108);
    f->mounted_at = ws_load_le32(s + 0x2c);
    f->written_at = ws_load_le32(s + 0x30);
    f->mounts = ws_load_le16(s + 0x34);
    f->errors = ws_load_le32(s + 0x194);
    f->written_bytes = (ws_load_le32(s + 0x178) | (uint64_t)ws_load_le32(s + 0x17c) << 32) * 1024;
    if (f->size > source->size) return damaged(error, "it is longer than the place it stands in");
    return WS_OK;
}

enum ws_status ws_ext4_probe(const struct ws_source *source, struct ws_ext4_facts *facts, struct ws_error *error) {
    struct ext4_volume v;
    uint8_t s[1024];
    WS_TRY(load_super(source, s, error));
    WS_TRY(parse_super(source, s, &v, error));
    *facts = v.facts;
    return WS_OK;
}

enum ws_status ext4_open(const struct ws_source *source, struct ext4_volume *v, struct ws_error *error) {
    uint8_t s[1024];
    WS_TRY(load_super(source, s, error));
    WS_TRY(parse_super(source, s, v, error));
    if (v->incompat & ~incompat_known) {
        ws_fail(error, WS_E_UNSUPPORTED, "the volume uses ext4 features that are not read here (0x%x)",
                v->incompat & ~incompat_known);
        return ws_fail_next(error, "let the system that made it copy what is needed");
    }
    /* Descriptors: in one row behind the superblock, or with meta_bg one block in the first group of each set. */
    size_t bytes = (size_t)v->groups * v->desc_size;
    uint32_t per_block = v->block / v->desc_size;
    uint32_t first_meta = v->incompat & INCOMPAT_META_BG ? ws_load_le32(s + 0x104) : UINT32_MAX;
    v->descriptors = malloc(bytes + v->block);
    v->ahead = malloc(AHEAD);
    if (!v->descriptors || !v->ahead) {
        ext4_close(v);
        return ws_fail(error, WS_E_NOMEM, "out of memory for an ext4 volume of %u groups", v->groups);
    }
    for (uint32_t i = 0; (uint64_t)i * per_block < v->groups; i++) {
        const uint32_t group = i * per_block;
        uint64_t block = SUPER_AT / v->block + 1ull + i; /* behind the superblock */
        if (i >= first_meta && group)
            block = v->first_data_block + (uint64_t)group * v->blocks_a_group + (ext4_has_super(group) ? 1 : 0);
        size_t step = (size_t)ws_min_u64(v->block, bytes - (size_t)i * v->block);
        enum ws_status status =
            ws_source_read(source, block * v->block, v->descriptors + (size_t)i * v->block, step, error);
        if (status != WS_OK) {
            ext4_close(v);
            return status == WS_E_RANGE ? damaged(error, "its group descriptors lie outside it") : status;
        }
    }
    return WS_OK;
}

void ext4_close(struct ext4_volume *v) {
    free(v->descriptors);
    free(v->ahead);
    v->descriptors = v->ahead = NULL;
}

/* Its first bytes. */
static enum ws_status load_inode(struct ext4_volume *v, uint32_t ino, uint8_t *out, size_t want,
                                 struct ws_error *error) {
    if (ino == 0 || ino > v->facts.inodes || (ino - 1) / v->inodes_a_group >= v->groups) {
        ws_fail(error, WS_E_FORMAT, "the ext4 volume is damaged: inode %u does not exist", ino);
        return ws_fail_next(error, "let a file system checker look at it");
    }
    const uint8_t *d = v->descriptors + (size_t)((ino - 1) / v->inodes_a_group) * v->desc_size;
    uint64_t table = ws_load_le32(d + 8);
    if (v->desc_size >= 64) table |= (uint64_t)ws_load_le32(d + 0x28) << 32;
    if (table >= v->blocks) return damaged(error, "an inode table lies outside it");
    uint64_t at = table * v->block + (uint64_t)((ino - 1) % v->inodes_a_group) * v->facts.inode_size;
    if (at < v->ahead_at || at + want > v->ahead_at + v->ahead_length) {
        uint64_t from = at / 4096 * 4096;
        size_t length = (size_t)ws_min_u64(AHEAD, v->source->size > from ? v->source->size - from : 0);
        v->ahead_length = 0;
        WS_TRY(ws_source_read(v->source, from, v->ahead, length, error));
        v->ahead_at = from;
        v->ahead_length = length;
        if (at + want > from + length) return damaged(error, "an inode table lies outside it");
    }
    memcpy(out, v->ahead + (at - v->ahead_at), want);
    return WS_OK;
}

enum ws_status ext4_inode(struct ext4_volume *v, uint32_t ino, uint8_t out[INODE_SIZE], struct ws_error *error) {
    memset(out, 0, INODE_SIZE);
    return load_inode(v, ino, out, v->facts.inode_size < INODE_SIZE ? v->facts.inode_size : INODE_SIZE, error);
}

enum ws_status ext4_inode_whole(struct ext4_volume *v, uint32_t ino, uint8_t *out, struct ws_error *error) {
    return load_inode(v, ino, out, v->facts.inode_size, error);
}

struct run_list {
    struct ws_run *run;
    size_t count, room;
    uint64_t end; /* bytes covered so far */
    uint64_t size;
    uint64_t steps; /* bounds the work a damaged volume can cause */
};

static enum ws_status add_run(struct run_list *list, uint64_t logical, uint64_t length, uint64_t at,
                              struct ws_error *error) {
    if (logical < list->end) return damaged(error, "a file's extents are out of order");
    if (logical >= list->size || length == 0) return WS_OK;
    for (int pass = logical > list->end ? 0 : 1; pass < 2; pass++) { /* a hole first, if there is one */
        struct ws_run run = {pass ? ws_min_u64(length, list->size - logical) : logical - list->end,
                             pass ? at : WS_RUN_HOLE};
        struct ws_run *last = list->count ? &list->run[list->count - 1] : NULL;
        list->end += run.length;
        if (last && ((last->at == WS_RUN_HOLE && run.at == WS_RUN_HOLE) ||
                     (last->at != WS_RUN_HOLE && run.at != WS_RUN_HOLE && last->at + last->length == run.at))) {
            last->length += run.length;
            continue;
        }
        if (list->count == list->room) {
            size_t room = list->room ? list->room * 2 : 8;
            struct ws_run *grown = realloc(list->run, room * sizeof *grown);
            if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a file in pieces");
            list->run = grown;
            list->room = room;
        }
        list->run[list->count++] = run;
    }
    return WS_OK;
}

static enum ws_status walk_extents(struct ext4_volume *v, const uint8_t *node, size_t bytes, int depth_left,
                                   struct run_list *list, struct ws_error *error) {
    if (ws_load_le16(node) != EXTENT_MAGIC) return damaged(error, "an extent list has no signature");
    uint16_t entries = ws_load_le16(node + 2);
    uint16_t depth = ws_load_le16(node + 6);
    if ((size_t)entries * 12 + 12 > bytes || depth > depth_left)
        return damaged(error, "an extent list is longer or deeper than can be");
    if (++list->steps > 1u << 20) return damaged(error, "an extent tree never ends");
    for (uint16_t i = 0; i < entries; i++) {
        const uint8_t *e = node + 12 + 12 * (size_t)i;
        uint64_t logical = (uint64_t)ws_load_le32(e) * v->block;
        if (depth == 0) {
            uint32_t length = ws_load_le16(e + 4);
            uint64_t physical = (uint64_t)ws_load_le16(e + 6) << 32 | ws_load_le32(e + 8);
            bool unwritten = length > 32768; /* allocated, reads as zeros */
            if (unwritten) length -= 32768;
            if (!ws_inside(physical, length, v->blocks)) return damaged(error, "a file points outside the volume");
            WS_TRY(add_run(list, logical, (uint64_t)length * v->block, unwritten ? WS_RUN_HOLE : physical * v->block,
                           error));
            continue;
        }
        uint64_t child = (uint64_t)ws_load_le16(e + 8) << 32 | ws_load_le32(e + 4);
        if (child >= v->blocks) return damaged(error, "an extent tree points outside the volume");
        uint8_t *block = malloc(v->block);
        if (!block) return ws_fail(error, WS_E_NOMEM, "out of memory for an extent block");
        enum ws_status status = ws_source_read(v->source, child * v->block, block, v->block, error);
        if (status == WS_OK) status = walk_extents(v, block, v->block, depth - 1, list, error);
        free(block);
        WS_TRY(status);
    }
    return WS_OK;
}

/* The older way, before extents: direct blocks, then one to three levels of tables. */
static enum ws_status walk_blocks(struct ext4_volume *v, uint32_t block, int level, uint64_t *logical,
                                  struct run_list *list, struct ws_error *error) {
    uint64_t span = v->block;
    for (int i = 0; i < level; i++) span *= v->block / 4;
    if (*logical >= list->size) return WS_OK;
    if (block == 0 || level == 0) {
        if (block >= v->blocks) return damaged(error, "a file points outside the volume");
        if (block) WS_TRY(add_run(list, *logical, span, (uint64_t)block * v->block, error));
        *logical += span;
        return WS_OK;
    }
    if (block >= v->blocks || ++list->steps > 1u << 24) return damaged(error, "a file's block table is impossible");
    uint8_t *table = malloc(v->block);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a block table");
    enum ws_status status = ws_source_read(v->source, (uint64_t)block * v->block, table, v->block, error);
    for (uint32_t i = 0; status == WS_OK && i < v->block / 4; i++)
        status = walk_blocks(v, ws_load_le32(table + 4 * (size_t)i), level - 1, logical, list, error);
    free(table);
    return status;
}

enum ws_status ext4_runs(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, uint64_t size, struct ws_run **runs,
                         size_t *count, struct ws_error *error) {
    struct run_list list = {.size = size};
    enum ws_status status = WS_OK;
    if (ws_load_le32(inode + 0x20) & FLAG_EXTENTS) {
        status = walk_extents(v, inode + 0x28, 60, DEPTH_MOST, &list, error);
    } else {
        uint64_t logical = 0;
        for (int i = 0; status == WS_OK && i < 15; i++)
            status =
                walk_blocks(v, ws_load_le32(inode + 0x28 + 4 * (size_t)i), i < 12 ? 0 : i - 11, &logical, &list, error);
    }
    if (status != WS_OK) {
        free(list.run);
        ws_fail_where(error, "inode %u", ino);
        return status;
    }
    *runs = list.run;
    *count = list.count;
    return WS_OK;
}
