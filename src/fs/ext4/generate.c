/* generate.c — any inode and any block of content, made when it is asked for: nothing is held per file. */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

/* "Inode flags" (Linux, ext4/inodes.rst) */
static const struct {
    uint8_t mark;
    uint32_t flag;
} marks[] = {{WS_MARK_WRITTEN_AT_ONCE, 0x8},
             {WS_MARK_FIXED, 0x10},
             {WS_MARK_APPEND_ONLY, 0x20},
             {WS_MARK_NO_DUMP, 0x40},
             {WS_MARK_NO_ACCESS_TIME, 0x80}};

uint32_t ext4_flags_of(uint8_t set) {
    uint32_t flags = 0;
    for (size_t i = 0; i < sizeof marks / sizeof marks[0]; i++)
        if (set & marks[i].mark) flags |= marks[i].flag;
    return flags;
}

uint8_t ext4_marks_of(uint32_t flags) {
    uint8_t set = 0;
    for (size_t i = 0; i < sizeof marks / sizeof marks[0]; i++)
        if (flags & marks[i].flag) set |= marks[i].mark;
    return set;
}

static uint32_t inode_seed(const struct ws_ext4_geometry *g, uint32_t ino) {
    uint8_t raw[8];
    ws_store_le32(raw, ino);
    ws_store_le32(raw + 4, 0); /* generation */
    return ws_crc32c(g->csum_seed, raw, 8);
}

static void extent_header(uint8_t *p, uint16_t entries, uint16_t most, uint16_t depth) {
    ws_store_le16(p, EXTENT_MAGIC);
    ws_store_le16(p + 2, entries);
    ws_store_le16(p + 4, most);
    ws_store_le16(p + 6, depth);
    ws_store_le32(p + 8, 0);
}

static void store_extent(uint8_t *p, uint32_t logical, uint16_t length, uint64_t physical) {
    ws_store_le32(p, logical);
    ws_store_le16(p + 4, length);
    ws_store_le16(p + 6, (uint16_t)(physical >> 32));
    ws_store_le32(p + 8, (uint32_t)physical);
}

static void store_index(uint8_t *p, uint32_t logical, uint64_t physical) {
    ws_store_le32(p, logical);
    ws_store_le32(p + 4, (uint32_t)physical);
    ws_store_le16(p + 8, (uint16_t)(physical >> 32));
    ws_store_le16(p + 10, 0);
}

/* Tree blocks stand before the content: leaves first, then the index blocks over them (if any). */
static uint64_t tree_block(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape, uint32_t n) {
    uint64_t run;
    return ext4_physical(g, g->item[item].start + (shape->xattr_block ? 1 : 0) + n, 1, &run);
}

/* First logical block of leaf `leaf`. */
static uint32_t leaf_start(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape,
                           uint32_t leaf) {
    return (uint32_t)ext4_walk_from(g, item, shape, (uint64_t)leaf * EXTENTS_A_BLOCK).logical;
}

/* As many extents as there are and fit, from number `first` on. */
static uint16_t store_extents(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape,
                              uint64_t first, uint16_t most, uint8_t *out) {
    struct ext4_walk w = ext4_walk_from(g, item, shape, first);
    uint16_t entries = 0;
    uint64_t physical;
    uint32_t logical, length;
    while (entries < most && ext4_next_extent(&w, &logical, &physical, &length))
        store_extent(out + 12 + 12 * (size_t)entries++, logical, (uint16_t)length, physical);
    extent_header(out, entries, most, 0);
    return entries;
}

static void make_tree_block(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape, uint32_t n,
                            uint8_t out[BLOCK]) {
    memset(out, 0, BLOCK);
    if (n < shape->leaves) {
        (void)store_extents(g, item, shape, (uint64_t)n * EXTENTS_A_BLOCK, EXTENTS_A_BLOCK, out);
    } else {
        uint16_t entries = 0;
        uint32_t first = (n - shape->leaves) * EXTENTS_A_BLOCK;
        for (uint32_t leaf = first; leaf < shape->leaves && entries < EXTENTS_A_BLOCK; leaf++)
            store_index(out + 12 + 12 * (size_t)entries++, leaf_start(g, item, shape, leaf),
                        tree_block(g, item, shape, leaf));
        extent_header(out, entries, EXTENTS_A_BLOCK, 1);
    }
    ws_store_le32(out + BLOCK - 4, ws_crc32c(inode_seed(g, ext4_ino_of_item(item)), out, BLOCK - 4));
}

/* The 60 bytes of i_block as an extent root. */
static void make_root(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape, uint8_t out[60]) {
    memset(out, 0, 60);
    if (shape->tree == 0) {
        (void)store_extents(g, item, shape, 0, EXTENTS_IN_INODE, out);
        return;
    }
    bool deep = shape->tree > shape->leaves;
    uint32_t first = deep ? shape->leaves : 0;
    uint16_t entries = (uint16_t)(shape->tree - first);
    for (uint16_t i = 0; i < entries; i++)
        store_index(out + 12 + 12 * (size_t)i, leaf_start(g, item, shape, deep ? (uint32_t)i * EXTENTS_A_BLOCK : i),
                    tree_block(g, item, shape, first + i));
    extent_header(out, entries, EXTENTS_IN_INODE, deep ? 2 : 1);
}

static uint16_t kind_bits(const struct ws_node *node) {
    static const uint16_t bits[] = {0x4000, 0x8000, 0xa000, 0x2000, 0x6000, 0x1000, 0xc000};
    return bits[node->kind];
}

static uint8_t kind_in_folder(const struct ws_node *node) {
    static const uint8_t kinds[] = {2, 1, 7, 3, 4, 5, 6};
    return kinds[node->kind];
}

static void store_time(uint8_t *inode, size_t at, size_t extra_at, int64_t seconds, uint32_t ns) {
    ws_store_le32(inode + at, (uint32_t)(uint64_t)seconds);
    /* two more bits of seconds below the nanoseconds: the value is low (signed) + (bits << 32) */
    uint64_t epoch = ((uint64_t)seconds - (uint64_t)(int64_t)(int32_t)(uint32_t)(uint64_t)seconds) >> 32;
    ws_store_le32(inode + extra_at, (uint32_t)(epoch & 3) | ns << 2);
}

static uint64_t links_of(const struct ws_node *node) {
    if (node->kind != WS_NODE_FOLDER) return node->work2;
    uint64_t links = 2;
    for (const struct ws_node *n = node->first; n; n = n->next)
        if (n->kind == WS_NODE_FOLDER) links++;
    return links > 65000 ? 1 : links; /* dir_nlink */
}

static void store_owner(uint8_t *out, const struct ws_node *node) {
    ws_store_le16(out + 0x02, (uint16_t)node->uid);
    ws_store_le16(out + 0x18, (uint16_t)node->gid);
    ws_store_le16(out + 0x78, (uint16_t)(node->uid >> 16));
    ws_store_le16(out + 0x7a, (uint16_t)(node->gid >> 16));
}

enum ws_status ext4_make_inode(const struct ws_ext4_geometry *g, uint32_t ino, uint8_t out[INODE_SIZE],
                               struct ws_error *error) {
    size_t item = ext4_item_of_ino(ino);
    struct ext4_shape shape;
    memset(out, 0, INODE_SIZE);
    if (item < g->items) {
        const struct ws_node *node = g->item[item].node;
        ext4_shape_of(g, item, &shape);
        uint64_t blocks = (shape.content + shape.tree + (shape.xattr_block ? 1 : 0)) * (BLOCK / 512);
        uint64_t size = node && node->kind != WS_NODE_FOLDER ? ws_node_size(node) : shape.content * BLOCK;
        int64_t time = node ? node->mtime : g->params.made_at;
        uint32_t ns = node ? node->mtime_ns : 0;
        uint32_t flags = FLAG_EXTENTS;
        ws_store_le16(out, (uint16_t)(node ? kind_bits(node) | (node->mode & 07777) : 0x8000 | 0600));
        if (node) store_owner(out, node);
        ws_store_le32(out + 0x04, (uint32_t)size);
        ws_store_le32(out + 0x6c, (uint32_t)(size >> 32));
        ws_store_le16(out + 0x1a, (uint16_t)(node ? links_of(node) : 1));
        ws_store_le32(out + 0x1c, (uint32_t)blocks);
        ws_store_le16(out + 0x74, (uint16_t)(blocks >> 32));
        ws_store_le16(out + 0x80, EXTRA_ISIZE);
        store_time(out, 0x08, 0x8c, time, ns);
        store_time(out, 0x0c, 0x84, time, ns);
        store_time(out, 0x10, 0x88, time, ns);
        store_time(out, 0x90, 0x94, node && node->born ? node->born : g->params.made_at, 0);
        if (node && node->kind == WS_NODE_LINK && shape.content == 0) {
            memcpy(out + 0x28, node->target, (size_t)size);
            flags = 0;
        } else if (node && (node->kind == WS_NODE_CHAR || node->kind == WS_NODE_BLOCK)) {
            if (node->major < 256 && node->minor < 256) ws_store_le32(out + 0x28, node->major << 8 | node->minor);
            else ws_store_le32(out + 0x2c, (node->minor & 0xff) | node->major << 8 | (node->minor & ~0xffu) << 12);
            flags = 0;
        } else if (node && (node->kind == WS_NODE_FIFO || node->kind == WS_NODE_SOCKET)) {
            flags = 0;
        } else {
            make_root(g, item, &shape, out + 0x28);
            if (ext4_index_of(g, item)) flags |= FLAG_INDEX;
            if (node) flags |= ext4_flags_of(node->marks);
        }
        ws_store_le32(out + 0x20, flags);
        if (shape.xattr_block) {
            uint64_t run;
            uint64_t block = ext4_physical(g, g->item[item].start, 1, &run);
            ws_store_le32(out + 0x68, (uint32_t)block);
            ws_store_le16(out + 0x76, (uint16_t)(block >> 32));
        } else if (node && node->xattrs) {
            WS_TRY(ext4_xattr_inode(node, out + 128 + EXTRA_ISIZE, INODE_SIZE - 128 - EXTRA_ISIZE, error));
        }
    }
    bool reserve = ino == INO_RESIZE && g->reserved_blocks;
    if (reserve) ext4_reserve_inode(g, out);
    if (item >= g->items && !reserve) return WS_OK; /* an inode that holds nothing is all zeros */
    uint32_t csum = ws_crc32c(inode_seed(g, ino), out, INODE_SIZE);
    ws_store_le16(out + 0x7c, (uint16_t)csum);
    ws_store_le16(out + 0x82, (uint16_t)(csum >> 16));
    return WS_OK;
}

static void add_entry(uint8_t *block, size_t at, uint32_t ino, size_t length, const char *name, uint8_t kind) {
    size_t n = strlen(name);
    ws_store_le32(block + at, ino);
    ws_store_le16(block + at + 4, (uint16_t)length);
    block[at + 6] = (uint8_t)n;
    block[at + 7] = kind;
    memcpy(block + at + 8, name, n);
}

static void close_block(const struct ws_ext4_geometry *g, uint32_t ino, uint8_t *block, size_t last, size_t used) {
    enum { TAIL = BLOCK - 12 };
    if (used == 0) {
        add_entry(block, 0, 0, TAIL, "", 0);
    } else { /* the last entry reaches to the tail */
        ws_store_le16(block + last + 4, (uint16_t)(TAIL - last));
    }
    ws_store_le16(block + TAIL + 4, 12);
    block[TAIL + 7] = 0xde;
    ws_store_le32(block + TAIL + 8, ws_crc32c(inode_seed(g, ino), block, TAIL));
}

static void begin_folder(const struct ws_ext4_geometry *g, size_t item, uint8_t *block, bool indexed) {
    const struct ws_node *folder = g->item[item].node;
    add_entry(block, 0, ext4_ino_of_item(item), 12, ".", 2);
    add_entry(block, 12, (uint32_t)(folder->parent ? folder->parent->work : INO_ROOT), indexed ? BLOCK - 12 : 12, "..",
              2);
}

static void add_name(uint8_t *block, size_t *last, size_t *used, const struct ws_node *n) {
    size_t length = (8 + strlen(n->name) + 3) & ~(size_t)3;
    const struct ws_node *inode = n->same_as ? n->same_as : n;
    add_entry(block, *used, (uint32_t)inode->work, length, n->name, kind_in_folder(inode));
    *last = *used;
    *used += length;
}

static void make_indexed_block(const struct ws_ext4_geometry *g, const struct ws_ext4_index *x, uint64_t number,
                               uint8_t block[BLOCK]) {
    uint32_t ino = ext4_ino_of_item(x->item);
    uint32_t leaf = (uint32_t)number - 1 - x->nodes;
    size_t last = 0;
    size_t used = 0;
    if (number == 0) begin_folder(g, x->item, block, true);
    if (number <= x->nodes) {
        ext4_index_block(x, (uint32_t)number, inode_seed(g, ino), block);
        return;
    }
    uint32_t end = leaf + 1 < x->leaves ? x->leaf[leaf + 1].first : x->names;
    for (uint32_t i = x->leaf[leaf].first; i < end; i++) add_name(block, &last, &used, x->name[i]);
    close_block(g, ino, block, last, used);
}

/* Some of a folder's blocks, zeroed before. One without an index is made from its beginning. */
static void make_folder(const struct ws_ext4_geometry *g, size_t item, uint64_t from, uint64_t until, uint8_t *out) {
    const struct ws_node *n = g->item[item].node->first;
    const struct ws_ext4_index *x = ext4_index_of(g, item);
    size_t last = 12;
    size_t used = 24;
    if (x) {
        for (uint64_t i = from; i < until; i++) make_indexed_block(g, x, i, out + (i - from) * BLOCK);
        return;
    }
    for (uint64_t number = 0; number < until; number++) {
        uint8_t block[BLOCK] = {0};
        if (number == 0) begin_folder(g, item, block, false);
        for (; n && used + ((8 + strlen(n->name) + 3) & ~(size_t)3) <= BLOCK - 12; n = n->next)
            add_name(block, &last, &used, n);
        close_block(g, ext4_ino_of_item(item), block, last, used);
        if (number >= from) memcpy(out + (number - from) * BLOCK, block, BLOCK);
        last = used = 0;
    }
}

static void make_journal_super(const struct ws_ext4_geometry *g, uint8_t out[BLOCK]) {
    memset(out, 0, BLOCK);
    ws_store_be32(out, JOURNAL_MAGIC);
    ws_store_be32(out + 4, 4); /* superblock, version 2 */
    ws_store_be32(out + 0x0c, BLOCK);
    ws_store_be32(out + 0x10, g->journal_blocks);
    ws_store_be32(out + 0x14, 1); /* first block of the log */
    ws_store_be32(out + 0x18, 1); /* first sequence number */
    memcpy(out + 0x30, g->params.id.byte, 16);
    ws_store_be32(out + 0x40, 1);
}

/* Part of one item's blocks: `first` counts from the item's start. */
static enum ws_status read_item(const struct ws_ext4_geometry *g, size_t item, uint64_t first_byte, uint8_t *out,
                                uint64_t length, struct ws_error *error) {
    const struct ws_node *node = g->item[item].node;
    struct ext4_shape shape;
    ext4_shape_of(g, item, &shape);
    uint64_t head = (shape.xattr_block ? 1 : 0) + (uint64_t)shape.tree;
    uint8_t block[BLOCK];
    while (length > 0 && first_byte < head * BLOCK) { /* attributes and extent tree */
        uint64_t n = first_byte / BLOCK;
        uint64_t inside = first_byte % BLOCK;
        uint64_t step = ws_min_u64(length, BLOCK - inside);
        uint64_t run;
        if (shape.xattr_block && n == 0)
            WS_TRY(ext4_xattr_block(g, node, ext4_physical(g, g->item[item].start, 1, &run), block, error));
        else make_tree_block(g, item, &shape, (uint32_t)(n - (shape.xattr_block ? 1 : 0)), block);
        memcpy(out, block + inside, (size_t)step);
        out += step;
        first_byte += step;
        length -= step;
    }
    if (length == 0) return WS_OK;
    uint64_t at = first_byte - head * BLOCK;
    memset(out, 0, (size_t)length);
    if (!node) {
        if (at < BLOCK) {
            make_journal_super(g, block);
            memcpy(out, block + at, (size_t)ws_min_u64(length, BLOCK - at));
        }
    } else if (node->kind == WS_NODE_FOLDER) {
        uint64_t from = at / BLOCK;
        uint64_t until = ws_div_up(at + length, BLOCK);
        uint8_t *all = calloc((size_t)(until - from), BLOCK);
        if (!all) return ws_fail(error, WS_E_NOMEM, "out of memory for a folder's blocks");
        make_folder(g, item, from, until, all);
        memcpy(out, all + (at - from * BLOCK), (size_t)length);
        free(all);
    } else if (node->kind == WS_NODE_LINK) {
        uint64_t size = ws_node_size(node);
        if (at < size) memcpy(out, node->target + at, (size_t)ws_min_u64(length, size - at));
    } else {
        for (uint64_t step; length > 0; at += step, out += step, length -= step) {
            uint64_t from = ext4_logical_byte(g, item, at, &step);
            step = ws_min_u64(step, length);
            if (from < ws_node_size(node))
                WS_TRY(ws_source_read(node->content, from, out, (size_t)ws_min_u64(step, ws_node_size(node) - from),
                                      error));
        }
    }
    return WS_OK;
}

/* The last item that starts at or before this block. */
static size_t item_at(const struct ws_ext4_geometry *g, uint64_t block) {
    size_t low = 0;
    size_t high = g->items;
    while (high - low > 1) {
        size_t middle = low + (high - low) / 2;
        if (g->item[middle].start <= block) low = middle;
        else high = middle;
    }
    return low;
}

static uint64_t end_of(const struct ws_ext4_geometry *g, size_t item) {
    return (item + 1 < g->items ? g->item[item + 1].start : g->data_used) * BLOCK;
}

static enum ws_status data_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct ws_ext4_geometry *g = source->state;
    uint8_t *out = buffer;
    uint64_t left = length;
    for (size_t i = item_at(g, at / BLOCK); left > 0; i++) {
        uint64_t end = end_of(g, i);
        uint64_t start = g->item[i].start * BLOCK;
        if (end <= at) continue;
        uint64_t step = ws_min_u64(left, end - at);
        WS_TRY(read_item(g, i, at - start, out, step, error));
        out += step;
        at += step;
        left -= step;
    }
    return WS_OK;
}

/* What a file holds is its content's, all else made here. */
static void data_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct ws_ext4_geometry *g = source->state;
    size_t i = item_at(g, at / BLOCK);
    while (end_of(g, i) <= at) i++; /* items that take no block */
    const struct ws_node *node = g->item[i].node;
    struct ext4_shape shape;
    uint64_t step;
    piece->length = ws_min_u64(piece->length, end_of(g, i) - at);
    if (!node || node->kind != WS_NODE_FILE || !node->content) return;
    ext4_shape_of(g, i, &shape);
    uint64_t head = ((shape.xattr_block ? 1 : 0) + (uint64_t)shape.tree) * BLOCK;
    uint64_t first = at - g->item[i].start * BLOCK;
    if (first < head) {
        piece->length = ws_min_u64(piece->length, head - first);
        return;
    }
    uint64_t from = ext4_logical_byte(g, i, first - head, &step);
    uint64_t size = ws_node_size(node);
    piece->kind = from < size ? WS_PIECE_BASE : WS_PIECE_HOLE;
    piece->length = ws_min_u64(piece->length, from < size ? ws_min_u64(step, size - from) : step);
    piece->base = from < size ? node->content : NULL;
    piece->at = from;
}

static const struct ws_source_ops data_ops = {data_read, NULL, data_piece};

enum ws_status ext4_data_source(const struct ws_ext4_geometry *g, struct ws_source **source, struct ws_error *error) {
    return ws_source_make(&data_ops, g->data_used * BLOCK, (void *)g, source, error);
}
