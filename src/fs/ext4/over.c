/* over.c — a volume composed over one in use: its geometry and free blocks taken, files it holds left in their place.
 */
#include "fs/ext4/volume.h"
#include "source/rows.h"

#include <stdlib.h>
#include <string.h>

enum { COMPAT_FAST_COMMIT = 0x400, COMPAT_ORPHAN_FILE = 0x1000, J_CSUMS = 8 | 16 };
static const uint64_t journal_most = 64ull << 30;
static const uint32_t incompat_ours = INCOMPAT_FILETYPE | INCOMPAT_EXTENTS | INCOMPAT_64BIT | INCOMPAT_FLEX_BG;
static const uint32_t ro_ours =
    RO_SPARSE_SUPER | RO_LARGE_FILE | RO_HUGE_FILE | RO_DIR_NLINK | RO_EXTRA_ISIZE | RO_METADATA_CSUM;

static enum ws_status not_ours(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_UNSUPPORTED, "the ext4 volume that is there is not arranged as those made here: %s", what);
    return ws_fail_next(error, "save what is to be kept, and build the drive anew");
}

static uint64_t wide(const uint8_t *d, size_t low, size_t high) {
    return ws_load_le32(d + low) | (uint64_t)ws_load_le32(d + high) << 32;
}

/* What a volume may have whose files' names, attributes and contents tell all that is in it. */
enum {
    COMPAT_TOLD = COMPAT_JOURNAL | COMPAT_XATTR | COMPAT_RESIZE_INODE | COMPAT_DIR_INDEX | COMPAT_FAST_COMMIT |
                  COMPAT_ORPHAN_FILE,
    INCOMPAT_TOLD = INCOMPAT_FILETYPE | INCOMPAT_EXTENTS | INCOMPAT_64BIT | INCOMPAT_FLEX_BG | INCOMPAT_EA_INODE |
                    INCOMPAT_CSUM_SEED | INCOMPAT_LARGEDIR | INCOMPAT_INLINE,
    RO_TOLD =
        RO_SPARSE_SUPER | RO_LARGE_FILE | RO_HUGE_FILE | RO_GDT_CSUM | RO_DIR_NLINK | RO_EXTRA_ISIZE | RO_METADATA_CSUM
};

/* Why not, by the first bit that is set. */
static const char *not_told(uint32_t compat, uint32_t incompat, uint32_t ro) {
    static const struct {
        uint32_t incompat, ro;
        const char *why;
    } known[] = {{.ro = RO_QUOTA | RO_PROJECT, .why = "it counts what each account has (quotas)"},
                 {.incompat = INCOMPAT_ENCRYPT, .why = "folders of it may be encrypted"},
                 {.incompat = INCOMPAT_CASEFOLD, .why = "names in it may be the same in either case of letters"},
                 {.incompat = INCOMPAT_MMP, .why = "it guards itself against being mounted twice"},
                 {.ro = RO_BIGALLOC, .why = "its blocks are given away in clusters"},
                 {.ro = RO_VERITY, .why = "files of it may be sealed (verity)"},
                 {.incompat = INCOMPAT_META_BG, .why = "its descriptors stand in many places (meta_bg)"},
                 {.incompat = INCOMPAT_RECOVER, .why = "it was not shut down"}};
    for (size_t i = 0; i < sizeof known / sizeof *known; i++)
        if (incompat & known[i].incompat || ro & known[i].ro) return known[i].why;
    return compat | incompat | ro ? "it has features that are not known here" : NULL;
}

static uint32_t reserved_there(const uint8_t *s) {
    return ws_load_le32(s + 0x5c) & COMPAT_RESIZE_INODE ? ws_load_le16(s + 0xce) : 0;
}

/* Blocks of descriptors for a volume of so many bytes. */
static uint32_t descriptors_of(uint64_t bytes) {
    return (uint32_t)ws_div_up(ws_div_up(bytes / BLOCK, BLOCKS_A_GROUP) * DESC_SIZE, BLOCK);
}

static enum ws_status stays_until(struct ws_error *error, bool here, const char *what, const char *next) {
    ws_fail(error, WS_E_UNSUPPORTED, "the ext4 volume cannot %s: %s",
            here ? "be made anew around its content" : "begin elsewhere", what);
    return ws_fail_next(error, "%s", next);
}

static enum ws_status stays(struct ws_error *error, bool here, const char *what) {
    return stays_until(error, here, what, "save what is to be kept, and build the drive anew");
}

/* Does start-up code stand before the superblock? It may know by number where its files are. */
static bool starts(const struct ws_source *volume) {
    uint8_t sector[512];
    return ws_source_read(volume, 0, sector, sizeof sector, NULL) == WS_OK && ws_load_le16(sector + 510) == 0xaa55;
}

/* Nothing of its structures stays but names and numbers.
 * @param here  it begins where it does */
static enum ws_status open_anew(struct ws_ext4_geometry *g, const struct ws_ext4_facts *facts, const uint8_t *s,
                                bool here, struct ws_error *error) {
    const uint32_t incompat_told = here ? INCOMPAT_TOLD | INCOMPAT_RECOVER : INCOMPAT_TOLD;
    const uint32_t ro_told = here ? RO_TOLD | RO_ORPHAN_PRESENT : RO_TOLD;
    if ((facts->needs_recovery && !here) || (!facts->clean && !facts->needs_recovery))
        return stays_until(error, here, "it was not shut down",
                           "start from it and shut down, or let a file system checker look at it");
    const char *untold = not_told(ws_load_le32(s + 0x5c) & ~(uint32_t)COMPAT_TOLD,
                                  ws_load_le32(s + 0x60) & ~incompat_told, ws_load_le32(s + 0x64) & ~ro_told);
    if (untold) return stays(error, here, untold);
    if (facts->block_size > BLOCK) return stays(error, here, "its blocks are larger than 4 KiB");
    if (here && starts(g->over->now)) return stays(error, here, "start-up code stands at its beginning");
    const uint64_t goes = g->params.later + g->params.shorter;
    if ((goes | g->params.later | g->params.sooner) % BLOCK || goes > facts->size || goes + WS_EXT4_LEAST > facts->size)
        return ws_fail(error, WS_E_RANGE, "of this ext4 volume whole blocks can go, but for %u MiB",
                       (unsigned)(WS_EXT4_LEAST >> 20));
    g->over->later = g->params.later / BLOCK;
    g->over->sooner = g->params.sooner / BLOCK;
    g->over->anew = g->anew = true;
    g->params.size =
        here && g->params.resize ? g->params.resize : facts->size / BLOCK * BLOCK - goes + g->params.sooner;
    g->params.grow_to = ws_min_u64(g->params.grow_to, g->params.size * 1024); /* more is room that it needs itself */
    g->params.bytes_an_inode = (uint32_t)ws_min_u64(facts->size / ws_max_u64(facts->inodes, 1), UINT32_MAX);
    return WS_OK;
}

/* As one that was made here: its structures stay. */
static void open_itself(struct ws_ext4_geometry *g, const struct ws_ext4_facts *facts, const uint8_t *s) {
    if (!g->params.resize) g->params.resize = facts->size;
    g->params.size = g->params.resize;
    g->inodes_a_group = ws_load_le32(s + 0x28);
    g->reserved_blocks = reserved_there(s);
    g->over->log_in_use = facts->needs_recovery;
}

/* Where its journal stands, to be freed; `why`, if set, says what is in the way of leaving it there. */
static enum ws_status journal_there(struct ext4_volume *v, uint64_t end, struct ws_run **runs, size_t *count,
                                    uint64_t *size, const char **why, struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    *why = v->journal_ino == INO_JOURNAL ? NULL : "its journal is no file of its own";
    if (*why) return WS_OK;
    WS_TRY(ext4_inode(v, INO_JOURNAL, inode, error));
    *size = wide(inode, 0x04, 0x6c);
    if (*size == 0 || *size % BLOCK || *size > journal_most) *why = "its journal has an odd length";
    if (*why) return WS_OK;
    WS_TRY(ext4_runs(v, INO_JOURNAL, inode, *size, runs, count, error));
    for (size_t i = 0; i < *count; i++) {
        if ((*runs)[i].at == WS_RUN_HOLE) *why = "its journal has holes";
        else if ((*runs)[i].at + (*runs)[i].length > end) *why = "its journal stands behind the new end";
    }
    return WS_OK;
}

/* Is it arranged as those made here, for the size that is wanted, too? Room for more descriptors stands behind them,
 * and ends with its map. */
static enum ws_status look_how_arranged(const struct ws_ext4_geometry *g, const struct ws_ext4_facts *facts,
                                        const uint8_t *s, bool *ours, struct ws_error *error) {
    const uint32_t incompat = ws_load_le32(s + 0x60) & ~(uint32_t)INCOMPAT_RECOVER;
    const uint32_t ro = ws_load_le32(s + 0x64) & ~(uint32_t)RO_ORPHAN_PRESENT;
    const uint32_t reserved = reserved_there(s), had = descriptors_of(facts->size);
    const uint64_t end = g->params.resize ? g->params.resize : UINT64_MAX;
    uint8_t inode[INODE_SIZE];
    struct ext4_volume v;
    struct ws_run *runs = NULL;
    size_t count = 0;
    uint64_t size;
    const char *why = NULL;
    *ours = incompat == incompat_ours && ro == ro_ours && facts->block_size == BLOCK &&
            facts->inode_size == INODE_SIZE && ws_load_le16(s + 0xfe) == DESC_SIZE &&
            ws_load_le32(s + 0x20) == BLOCKS_A_GROUP && !ws_load_le32(s + 0x14) &&
            ws_load_le32(s + 0x28) % INODES_A_BLOCK == 0 && reserved <= POINTERS_A_BLOCK &&
            (!g->params.resize || descriptors_of(g->params.resize) <= had + reserved);
    if (!*ours) return WS_OK;
    WS_TRY(ext4_open(g->over->now, &v, error));
    enum ws_status status = journal_there(&v, end, &runs, &count, &size, &why, error);
    *ours = !why;
    if (status == WS_OK && *ours && reserved) {
        status = ext4_inode(&v, INO_RESIZE, inode, error);
        *ours = status == WS_OK && ws_load_le32(inode + 0x28 + 4 * 13) == had + reserved + 1;
    }
    free(runs);
    ext4_close(&v);
    return status;
}

enum ws_status ext4_over_open(struct ws_ext4_geometry *g, struct ws_error *error) {
    uint8_t s[1024];
    struct ws_ext4_facts facts;
    const bool here = !g->params.later && !g->params.sooner && !g->params.shorter;
    bool ours = false;
    g->over = calloc(1, sizeof *g->over);
    if (!g->over) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    enum ws_status status = WS_OK;
    WS_GO(ws_ext4_probe(g->params.over, &facts, error));
    WS_GO(ws_ext4_recovered(g->params.over, &g->over->now, NULL, error));
    WS_GO(ws_source_read(g->over->now, 1024, s, sizeof s, error));
    if (here) WS_GO(look_how_arranged(g, &facts, s, &ours, error));
    if (ours) open_itself(g, &facts, s);
    else WS_GO(open_anew(g, &facts, s, here, error));
    g->over->blocks = facts.size / BLOCK;
    g->over->groups = (uint32_t)ws_div_up(g->over->blocks, BLOCKS_A_GROUP);
    g->params.id = facts.id;
    memcpy(g->params.seed.byte, s + 0xec, 16);
    memcpy(g->params.label, facts.label, sizeof g->params.label);
    g->over->kbytes_written = ws_load_le32(s + 0x178) | (uint64_t)ws_load_le32(s + 0x17c) << 32;
done:
    if (status != WS_OK) ext4_over_close(g);
    return status;
}

void ext4_over_close(struct ws_ext4_geometry *g) {
    if (!g->over) return;
    ws_source_close(g->over->now);
    free(g->over->table_used);
    free(g->over->tables);
    free(g->over->left.span);
    free(g->over);
    g->over = NULL;
}

/* Behind the end of the volume as it was bits are set. */
static void clear_padding(uint8_t *bitmap, uint32_t from) {
    for (uint32_t i = from; i < BLOCKS_A_GROUP; i++) bitmap[i / 8] &= (uint8_t) ~(1u << (i % 8));
}

/* The free blocks of one group, by its bitmap. */
static enum ws_status take_group(struct ws_ext4_geometry *g, const struct ext4_volume *v, uint32_t group,
                                 struct ws_error *error) {
    const uint64_t blocks = ext4_group_blocks(g, group);
    const uint8_t *d = v->descriptors + (size_t)(group < v->groups ? group : 0) * v->desc_size;
    uint8_t bitmap[BLOCK] = {0};
    if (group < v->groups && !(ws_load_le16(d + 0x12) & GROUP_BLOCK_UNINIT))
        WS_TRY(ws_source_read(v->source, wide(d, 0x00, 0x20) * BLOCK, bitmap, BLOCK, error));
    if (group + 1 == v->groups) clear_padding(bitmap, (uint32_t)(v->blocks - (uint64_t)group * BLOCKS_A_GROUP));
    ext4_span_bits(&g->fixed, UINT64_MAX, group, bitmap);
    for (uint64_t i = 0, from; i < blocks; i++) {
        if (bitmap[i / 8] >> i % 8 & 1) continue;
        for (from = i; i < blocks && !(bitmap[i / 8] >> i % 8 & 1);) i++;
        if (!ext4_add_span(&g->space, (uint64_t)group * BLOCKS_A_GROUP + from, i - from))
            return ws_fail(error, WS_E_NOMEM, "out of memory for a list of free blocks");
    }
    return WS_OK;
}

static struct ws_ext4_tables tables_there(const struct ext4_volume *v, uint64_t group) {
    const uint8_t *d = v->descriptors + (size_t)group * v->desc_size;
    if (v->desc_size >= DESC_SIZE)
        return (struct ws_ext4_tables){wide(d, 0x00, 0x20), wide(d, 0x04, 0x24), wide(d, 0x08, 0x28)};
    return (struct ws_ext4_tables){ws_load_le32(d), ws_load_le32(d + 4), ws_load_le32(d + 8)};
}

/* Blocks of an inode table there. */
static uint64_t table_length(const struct ext4_volume *v) {
    return ws_div_up((uint64_t)v->inodes_a_group * v->facts.inode_size, v->block);
}

/* Bits for the groups in which tables of another one stand. */
static void note_tables(const struct ext4_volume *v, uint8_t *holds) {
    for (uint64_t i = 0; i < v->groups; i++) {
        const struct ws_ext4_tables t = tables_there(v, i);
        const uint64_t places[] = {t.block_bitmap, t.inode_bitmap, t.inode_table, t.inode_table + table_length(v) - 1};
        for (size_t k = 0; k < 4; k++) {
            const uint64_t group = (places[k] - v->first_data_block) / v->blocks_a_group;
            if (group < v->groups && group != i) holds[group / 8] |= (uint8_t)(1u << group % 8);
        }
    }
}

/* Blocks of a group, counted from its first, that something has. */
static void mark(const struct ext4_volume *v, uint64_t first, uint64_t at, uint64_t count, uint8_t *bitmap) {
    for (uint64_t i = ws_max_u64(at, first); i < at + count && i - first < v->blocks_a_group; i++)
        bitmap[(i - first) / 8] |= (uint8_t)(1u << (i - first) % 8);
}

/* A group's bitmap there. Of one that was never written it is known what stands in it, but for others' tables: it is
 * left alone then. */
static enum ws_status load_bitmap(const struct ext4_volume *v, const uint8_t *holds, uint64_t group,
                                  uint8_t bitmap[BLOCK], struct ws_error *error) {
    const uint8_t *d = v->descriptors + (size_t)group * v->desc_size;
    const struct ws_ext4_tables t = tables_there(v, group);
    const uint64_t first = v->first_data_block + group * v->blocks_a_group;
    const bool has_copy = !(v->ro_compat & RO_SPARSE_SUPER) || ext4_has_super((uint32_t)group);
    if (!(ws_load_le16(d + 0x12) & GROUP_BLOCK_UNINIT))
        return ws_source_read(v->source, t.block_bitmap * v->block, bitmap, v->block, error);
    memset(bitmap, holds[group / 8] >> group % 8 & 1 ? 0xff : 0, BLOCK);
    if (has_copy)
        mark(v, first, first, 1 + ws_div_up((uint64_t)v->groups * v->desc_size, v->block) + v->reserved, bitmap);
    mark(v, first, t.block_bitmap, 1, bitmap);
    mark(v, first, t.inode_bitmap, 1, bitmap);
    mark(v, first, t.inode_table, table_length(v), bitmap);
    return WS_OK;
}

/* Where a block there is, counted from the new beginning; one before that is at the beginning. */
static uint64_t shifted(const struct ws_ext4_geometry *g, uint64_t block) {
    return ws_max_u64(block + g->over->sooner, g->over->later) - g->over->later;
}

/* Blocks that nobody has, from the new beginning, but for those of structures here; those behind the new end apart. */
static enum ws_status add_free(struct ws_ext4_geometry *g, uint64_t from, uint64_t end, struct ws_error *error) {
    const uint64_t last = ws_min_u64(end, g->blocks);
    for (uint64_t at = from, to; at < last; at = to) {
        bool taken;
        to = ext4_span_edge(&g->fixed, at, last, &taken);
        if (!taken && !ext4_add_span(&g->space, at, to - at))
            return ws_fail(error, WS_E_NOMEM, "out of memory for a list of free blocks");
    }
    const uint64_t behind = ws_max_u64(from, g->blocks);
    if (behind < end && !ext4_add_span(&g->over->left, behind, end - behind))
        return ws_fail(error, WS_E_NOMEM, "out of memory for a list of free blocks");
    return WS_OK;
}

/* What one group there has free, in whole blocks as they are here: its own may be smaller. */
static enum ws_status add_free_of(struct ws_ext4_geometry *g, const struct ext4_volume *v, const uint8_t *bitmap,
                                  uint64_t group, struct ws_error *error) {
    const uint64_t first = v->first_data_block + group * v->blocks_a_group;
    const uint64_t blocks = ws_min_u64(v->blocks_a_group, v->blocks - first);
    for (uint64_t i = 0, begin; i < blocks; i++) {
        if (bitmap[i / 8] >> i % 8 & 1) continue;
        for (begin = i; i < blocks && !(bitmap[i / 8] >> i % 8 & 1);) i++;
        const uint64_t from = ws_div_up((first + begin) * v->block, BLOCK), end = (first + i) * v->block / BLOCK;
        if (from < end) WS_TRY(add_free(g, shifted(g, from), shifted(g, end), error));
    }
    return WS_OK;
}

/* What is free there, and of no structure here, is the data space. */
static enum ws_status take_free_elsewhere(struct ws_ext4_geometry *g, const struct ext4_volume *v,
                                          struct ws_error *error) {
    uint8_t bitmap[BLOCK];
    uint8_t *holds = calloc(1, v->groups / 8 + 1);
    enum ws_status status = holds ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for %u groups", v->groups);
    if (holds) note_tables(v, holds);
    if (holds) status = add_free(g, 0, g->over->sooner, error);
    for (uint64_t group = 0; group < v->groups && status == WS_OK; group++) {
        const uint64_t end = v->first_data_block + (group + 1) * v->blocks_a_group;
        if (end * v->block <= g->over->later * BLOCK) continue;
        status = load_bitmap(v, holds, group, bitmap, error);
        if (status == WS_OK) status = add_free_of(g, v, bitmap, group, error);
    }
    free(holds);
    if (status == WS_OK && !g->over->later && !g->over->sooner && g->over->blocks < g->blocks)
        status = add_free(g, g->over->blocks, g->blocks, error); /* it gets longer */
    WS_TRY(status);
    return g->space.count || g->params.over_gone
               ? WS_OK
               : ws_fail(error, WS_E_SPACE, "the volume that is there has no block free");
}

/* The journal as it is after a clean shutdown, all in it done: whatever lies in its log is of older transactions. */
static enum ws_status take_journal(struct ws_ext4_geometry *g, struct ext4_volume *v, struct ws_error *error) {
    struct ws_run *runs = NULL;
    size_t count = 0;
    uint64_t size = 0;
    const char *why;
    uint8_t *s = g->over->journal;
    enum ws_status status = journal_there(v, g->blocks * BLOCK, &runs, &count, &size, &why, error);
    if (status == WS_OK && why) status = not_ours(error, why);
    if (status == WS_OK) status = ext4_begin_sparse(g, 0, error);
    for (size_t i = 0; i < count && status == WS_OK; i++) {
        const uint64_t at = g->sparse[0].shape.content;
        status = ext4_add_run(g, at, at + runs[i].length / BLOCK, runs[i].at / BLOCK, error);
    }
    if (status == WS_OK) g->over->journal_head = runs[0].at / BLOCK;
    free(runs);
    WS_TRY(status);
    g->journal_blocks = (uint32_t)(size / BLOCK);
    WS_TRY(ws_source_read(v->source, g->over->journal_head * BLOCK, s, BLOCK, error));
    if (ws_load_be32(s) != JOURNAL_MAGIC) return not_ours(error, "its journal has no superblock");
    ws_store_be32(s + 0x18, ws_load_be32(s + 0x18) + ws_load_be32(s + 0x10) + 1); /* no transaction in it goes on */
    ws_store_be32(s + 0x1c, 0);
    if (!(ws_load_be32(s + 0x28) & J_CSUMS)) return WS_OK;
    ws_store_be32(s + 0xfc, 0);
    ws_store_be32(s + 0xfc, ws_crc32c(0xffffffff, s, 1024));
    return WS_OK;
}

/* Blocks for descriptors, and those kept for more, are as many as before together: nothing has to move. There is one
 * map of the latter; what it cannot list is free. */
static enum ws_status share_descriptors(struct ws_ext4_geometry *g, struct ws_error *error) {
    const uint32_t had = (uint32_t)ws_div_up((uint64_t)g->over->groups * DESC_SIZE, BLOCK);
    if (g->gdt_blocks <= had) { /* where none is kept the rest is free, but for the checker to find */
        if (g->reserved_blocks)
            g->reserved_blocks = (uint32_t)ws_min_u64(g->reserved_blocks + had - g->gdt_blocks, POINTERS_A_BLOCK);
        return WS_OK;
    }
    if (g->gdt_blocks - had <= g->reserved_blocks) {
        g->reserved_blocks -= g->gdt_blocks - had;
        return WS_OK;
    }
    return not_ours(error, "it has no room for more descriptors");
}

enum ws_status ext4_over_take(struct ws_ext4_geometry *g, struct ws_error *error) {
    struct ext4_volume v;
    enum ws_status status = WS_OK;
    WS_TRY(ext4_open(g->over->now, &v, error));
    if (!ext4_over_itself(g)) {
        WS_GO(ext4_list_fixed(g, error));
        WS_GO(take_free_elsewhere(g, &v, error));
        goto done;
    }
    if (v.blocks != g->over->blocks || v.groups != g->over->groups) WS_GO(not_ours(error, "its groups are others"));
    WS_GO(share_descriptors(g, error));
    g->over->table_used = calloc(g->groups, sizeof *g->over->table_used);
    g->over->tables = calloc(g->groups, sizeof *g->over->tables);
    if (!g->over->table_used || !g->over->tables)
        WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a volume of %u groups", g->groups));
    for (uint32_t i = 0; i < g->groups; i++) {
        const uint8_t *d = v.descriptors + (size_t)i * v.desc_size;
        if (i >= v.groups) {
            g->over->tables[i] = ext4_fresh_tables(g, i);
            continue;
        }
        g->over->tables[i] = (struct ws_ext4_tables){wide(d, 0x00, 0x20), wide(d, 0x04, 0x24), wide(d, 0x08, 0x28)};
        uint32_t unused = ws_load_le16(d + 0x1c) | (uint32_t)ws_load_le16(d + 0x32) << 16;
        if (!(ws_load_le16(d + 0x12) & GROUP_INODE_UNINIT) && unused < g->inodes_a_group)
            g->over->table_used[i] = (uint16_t)ws_div_up(g->inodes_a_group - unused, INODES_A_BLOCK);
    }
    WS_GO(ext4_list_fixed(g, error));
    for (uint32_t i = 0; i < g->groups; i++) WS_GO(take_group(g, &v, i, error));
    if (!g->space.count && !g->params.over_gone)
        WS_GO(ws_fail(error, WS_E_SPACE, "the volume that is there has no block free"));
    WS_GO(take_journal(g, &v, error));
done:
    ext4_close(&v);
    return status;
}

/* Where bytes of a file stand on the volume that is there, in whole blocks. */
static struct ws_piece follow(const struct ws_source *over, const struct ws_source *content, uint64_t at,
                              uint64_t length) {
    struct ws_piece piece = ws_source_piece(content, at, length);
    while (piece.kind == WS_PIECE_BASE && piece.base != over)
        piece = ws_source_piece(piece.base, piece.at, piece.length);
    return piece;
}

/* A run, counted from the new beginning: what of it may stay does, the rest gets a place in data space. */
static enum ws_status add_placed(struct ws_ext4_geometry *g, const struct ws_ext4_run *run, struct ws_error *error) {
    const uint64_t later = g->over->later;
    if (ext4_over_itself(g)) return ext4_add_run(g, run->logical, run->logical + run->blocks, run->block, error);
    for (uint64_t at = 0, to; at < run->blocks; at = to) {
        const uint64_t block = run->block + at + g->over->sooner;
        bool taken = true;
        if (block < later) to = ws_min_u64(run->blocks, at + (later - block));
        else if (block - later >= g->blocks) to = run->blocks;
        else
            to = at + (ext4_span_edge(&g->fixed, block - later,
                                      ws_min_u64(block - later + (run->blocks - at), g->blocks), &taken) -
                       (block - later));
        WS_TRY(ext4_add_run(g, run->logical + at, run->logical + to, taken ? 0 : block - later, error));
    }
    return WS_OK;
}

/* @return whether all of the file is there; the row has its runs then, else nothing of use */
static enum ws_status find_place(struct ws_ext4_geometry *g, const struct ws_node *node, bool *there,
                                 struct ws_error *error) {
    const uint64_t size = ws_node_size(node);
    struct ws_ext4_run run = {0};
    *there = false;
    for (uint64_t at = 0, length; at < size; at += length) {
        struct ws_piece piece = follow(g->params.over, node->content, at, size - at);
        length = piece.length;
        const bool hole = piece.kind == WS_PIECE_HOLE;
        if (at % BLOCK || (!hole && (piece.kind != WS_PIECE_BASE || piece.at % BLOCK))) return WS_OK;
        if (!hole && ext4_over_itself(g) && ws_div_up(piece.at + length, BLOCK) > g->blocks)
            return WS_OK; /* behind the new end */
        if (hole) continue;
        uint64_t logical = at / BLOCK;
        uint64_t block = piece.at / BLOCK;
        uint64_t blocks = ws_div_up(length, BLOCK);
        if (run.blocks && run.logical + run.blocks == logical && run.block + run.blocks == block) {
            run.blocks += blocks;
            continue;
        }
        WS_TRY(add_placed(g, &run, error));
        run = (struct ws_ext4_run){logical, blocks, 0, 0, block};
    }
    *there = true;
    return add_placed(g, &run, error);
}

enum ws_status ext4_over_keep(struct ws_ext4_geometry *g, size_t item, bool *kept, struct ws_error *error) {
    const struct ws_node *node = g->item[item].node;
    *kept = item == 0 && ext4_over_itself(g); /* the journal's row is made already */
    if (*kept || !node || node->kind != WS_NODE_FILE || !node->content || !node->content->size) return WS_OK;
    WS_TRY(ext4_begin_sparse(g, item, error));
    WS_TRY(find_place(g, node, kept, error));
    if (!*kept) g->sparses--; /* made anew, if it has holes */
    return WS_OK;
}

/* Does it lie outside the fixed structures, and outside what is free? */
static bool may_hold(const struct ws_ext4_geometry *g, const struct ws_ext4_run *r) {
    uint64_t last = r->block + r->blocks;
    return last <= g->blocks && ext4_span_below(&g->space, r->block) == ext4_span_below(&g->space, last) &&
           ext4_span_below(&g->fixed, r->block) == ext4_span_below(&g->fixed, last);
}

static int by_block(const void *a, const void *b) {
    const struct ws_ext4_run *const *x = a;
    const struct ws_ext4_run *const *y = b;
    return (*x)->block < (*y)->block ? -1 : (*x)->block > (*y)->block;
}

/* All that neither the fixed structures nor kept content have. */
static enum ws_status take_gone(struct ws_ext4_geometry *g, struct ws_error *error) {
    const struct ws_ext4_spans *const both[2] = {&g->fixed, &g->kept};
    size_t at[2] = {0, 0};
    g->space.count = 0;
    for (uint64_t block = 0; block < g->blocks;) {
        uint64_t end = g->blocks, skip = 0;
        for (int i = 0; i < 2; i++) {
            const struct ws_ext4_spans *s = both[i];
            uint64_t length = 0;
            for (; at[i] < s->count; at[i]++) {
                length = s->span[at[i] + 1].before - s->span[at[i]].before;
                if (s->span[at[i]].block + length > block) break;
            }
            if (at[i] == s->count) continue;
            if (s->span[at[i]].block <= block) skip = ws_max_u64(skip, s->span[at[i]].block + length);
            else end = ws_min_u64(end, s->span[at[i]].block);
        }
        if (!skip && !ext4_add_span(&g->space, block, end - block))
            return ws_fail(error, WS_E_NOMEM, "out of memory for a list of blocks");
        block = skip ? skip : end;
    }
    return g->space.count ? WS_OK : ws_fail(error, WS_E_SPACE, "the volume that is there has no block free");
}

enum ws_status ext4_over_count(struct ws_ext4_geometry *g, struct ws_error *error) {
    size_t runs = g->sparses ? g->sparse[g->sparses - 1].first + g->sparse[g->sparses - 1].runs : 0;
    size_t count = 0;
    uint64_t end = 0;
    const struct ws_ext4_run **list = malloc((runs + 1) * sizeof *list);
    enum ws_status status = list ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for what is kept");
    for (size_t i = 0; list && i < runs; i++)
        if (g->run[i].block) list[count++] = &g->run[i];
    if (count) qsort(list, count, sizeof *list, by_block);
    for (size_t i = 0; i < count && status == WS_OK; i++) {
        const struct ws_ext4_run *r = list[i];
        if (r->block < end || !may_hold(g, r))
            status =
                ws_fail(error, WS_E_FORMAT, "the ext4 volume is damaged: block %llu is a file's, and not its alone",
                        (unsigned long long)r->block);
        else if (!ext4_add_span(&g->kept, r->block, r->blocks))
            status = ws_fail(error, WS_E_NOMEM, "out of memory for what is kept");
        end = r->block + r->blocks;
    }
    free(list);
    return status == WS_OK && g->params.over_gone ? take_gone(g, error) : status;
}

void ws_ext4_spare(const struct ws_ext4_geometry *g, uint64_t *at, uint64_t *length) {
    *at = *length = 0;
    for (size_t i = 0; i < g->space.count && !g->params.over_gone; i++) {
        uint64_t used = g->data_used > g->space.span[i].before ? g->data_used - g->space.span[i].before : 0;
        uint64_t blocks = g->space.span[i + 1].before - g->space.span[i].before;
        if (used >= blocks || (blocks - used) * BLOCK <= *length) continue;
        *at = (g->space.span[i].block + used) * BLOCK;
        *length = (blocks - used) * BLOCK;
    }
    const struct ws_ext4_sparse *journal = ext4_over_itself(g) && !g->over->log_in_use ? &g->sparse[0] : NULL;
    for (size_t i = 0; journal && i < journal->runs; i++) {
        const struct ws_ext4_run *r = &g->run[journal->first + i];
        const uint64_t head = r->block == g->over->journal_head;
        if (r->blocks <= head || (r->blocks - head) * BLOCK <= *length) continue;
        *at = (r->block + head) * BLOCK;
        *length = (r->blocks - head) * BLOCK;
    }
}

size_t ws_ext4_spare_rows(const struct ws_ext4_geometry *g, struct ws_run *row, size_t most) {
    size_t count = 0;
    for (size_t i = 0; i < g->space.count && !g->params.over_gone; i++) {
        const uint64_t used = g->data_used > g->space.span[i].before ? g->data_used - g->space.span[i].before : 0;
        const uint64_t blocks = g->space.span[i + 1].before - g->space.span[i].before;
        if (used >= blocks) continue;
        const struct ws_run one = {.at = (g->space.span[i].block + used) * BLOCK, .length = (blocks - used) * BLOCK};
        ws_rows_enter(row, &count, most, one);
    }
    return count;
}

size_t ws_ext4_left_rows(const struct ws_ext4_geometry *g, struct ws_run *row, size_t most) {
    size_t count = 0;
    for (size_t i = 0; g->over && i < g->over->left.count; i++) {
        const struct ws_ext4_span *s = &g->over->left.span[i];
        const struct ws_run one = {.at = s->block * BLOCK, .length = (s[1].before - s->before) * BLOCK};
        ws_rows_enter(row, &count, most, one);
    }
    return count;
}
