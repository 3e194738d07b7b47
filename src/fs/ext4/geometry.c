/* geometry.c — a volume worked out to the last block, before anything is written. */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

uint32_t ext4_ino_of_item(size_t item) {
    return item == 0 ? INO_JOURNAL : item == 1 ? INO_ROOT : (uint32_t)(INO_LOST_FOUND + item - 2);
}

size_t ext4_item_of_ino(uint32_t ino) {
    if (ino >= INO_LOST_FOUND) return (size_t)ino - INO_LOST_FOUND + 2;
    return ino == INO_ROOT ? 1 : ino == INO_JOURNAL ? 0 : SIZE_MAX;
}

static int by_item(const void *key, const void *row) {
    size_t wanted = *(const size_t *)key;
    size_t item = *(const size_t *)row;
    return wanted < item ? -1 : wanted > item;
}

void *ext4_row_of(const void *rows, size_t count, size_t each, size_t item) {
    return count ? bsearch(&item, rows, count, each, by_item) : NULL;
}

void *ext4_grown(void *array, size_t count, size_t *room, size_t each) {
    if (count < *room) return array;
    void *larger = realloc(array, (*room * 2 + 64) * each);
    if (larger) *room = *room * 2 + 64;
    return larger;
}

static bool is_lost_found(const struct ws_node *node) {
    return node->parent && !node->parent->parent && strcmp(node->name, "lost+found") == 0;
}

/* A folder's blocks: one, or an index and what it leads to. What the checker puts into "lost+found" has its place
 * there beforehand, and it finds that without an index. */
static enum ws_status measure_folder(struct ws_ext4_geometry *g, size_t item, struct ws_error *error) {
    struct ws_node *folder = (struct ws_node *)(uintptr_t)g->item[item].node;
    uint64_t blocks = 1;
    size_t used = 24; /* "." and ".." */
    for (const struct ws_node *n = folder->first; n; n = n->next) {
        size_t entry = (8 + strlen(n->name) + 3) & ~(size_t)3;
        if (used + entry > BLOCK - 12) {
            blocks++;
            used = 0;
        }
        used += entry;
    }
    if (is_lost_found(folder)) blocks = ws_max_u64(blocks, LOST_FOUND_BLOCKS);
    else if (blocks > 1) WS_TRY(ext4_index_folder(g, item, &blocks, error));
    folder->work2 = blocks;
    return WS_OK;
}

static enum ws_status measure_folders(struct ws_ext4_geometry *g, struct ws_error *error) {
    for (size_t i = 0; i < g->items; i++)
        if (g->item[i].node) WS_TRY(ext4_xattrs_check(g->item[i].node, error));
    for (size_t i = 0; i < g->items; i++)
        if (g->item[i].node && g->item[i].node->kind == WS_NODE_FOLDER) WS_TRY(measure_folder(g, i, error));
    return WS_OK;
}

static uint64_t content_blocks(const struct ws_ext4_geometry *g, size_t item) {
    const struct ws_node *node = g->item[item].node;
    const struct ws_ext4_sparse *sparse = ext4_sparse_of(g, item);
    if (sparse) return sparse->shape.content;
    if (!node) return g->journal_blocks;
    if (node->kind == WS_NODE_FOLDER) return node->work2; /* counted once, by measure_folders() */
    uint64_t size = ws_node_size(node);
    if (node->kind == WS_NODE_LINK) return size < FAST_LINK ? 0 : 1;
    return ws_div_up(size, BLOCK);
}

uint64_t ext4_placed(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape) {
    const struct ws_ext4_sparse *sparse = ext4_sparse_of(g, item);
    uint64_t head = (uint64_t)shape->tree + (shape->xattr_block ? 1 : 0);
    return head + (sparse ? sparse->placed : shape->content);
}

/* Also notes for each run between holes how many extents stand before it. */
static uint64_t count_extents(const struct ws_ext4_geometry *g, uint64_t d, uint64_t blocks,
                              const struct ws_ext4_sparse *sparse) {
    uint64_t count = 0;
    for (size_t i = 0; i < (sparse ? sparse->runs : 1); i++) {
        struct ws_ext4_run *run = sparse ? &g->run[sparse->first + i] : NULL;
        uint64_t left = run ? run->blocks : blocks;
        if (run) run->extents_before = count;
        if (run && run->block) {
            count += ws_div_up(left, EXTENT_MOST);
            continue;
        }
        while (left > 0 && d < ext4_span_blocks(&g->space)) {
            uint64_t piece;
            ext4_physical(g, d, left, &piece);
            count += ws_div_up(piece, EXTENT_MOST);
            d += piece;
            left -= piece;
        }
        d += left;
    }
    return count;
}

static void settle_shape(const struct ws_ext4_geometry *g, size_t item, struct ext4_shape *shape) {
    const struct ws_node *node = g->item[item].node;
    memset(shape, 0, sizeof *shape);
    shape->xattr_block = node && node->xattrs && !ext4_xattrs_fit_inode(node);
    shape->content = content_blocks(g, item);
    if (shape->content == 0) return;
    /* More tree blocks push the content on, which can cut it into more extents: repeat until it settles. */
    for (;;) {
        uint64_t start = g->item[item].start + (shape->xattr_block ? 1 : 0) + shape->tree;
        shape->extents = count_extents(g, start, shape->content, ext4_sparse_of(g, item));
        uint32_t leaves = shape->extents <= EXTENTS_IN_INODE ? 0 : (uint32_t)ws_div_up(shape->extents, EXTENTS_A_BLOCK);
        uint32_t tree = leaves <= EXTENTS_IN_INODE ? leaves : leaves + (uint32_t)ws_div_up(leaves, EXTENTS_A_BLOCK);
        if (tree <= shape->tree) break;
        shape->tree = tree;
        shape->leaves = leaves;
    }
}

void ext4_shape_of(const struct ws_ext4_geometry *g, size_t item, struct ext4_shape *shape) {
    const struct ws_ext4_sparse *sparse = ext4_sparse_of(g, item);
    if (sparse) *shape = sparse->shape; /* settled when it was placed */
    else settle_shape(g, item, shape);
}

static uint32_t choose_journal(uint64_t blocks) {
    return blocks < 32768 ? 1024 : blocks < 262144 ? 4096 : 8192; /* 4, 16, 32 MiB */
}

static uint32_t choose_bytes_an_inode(uint64_t size) {
    return size <= (1ull << 30) ? 8192 : size <= (16ull << 30) ? 16384 : size <= (256ull << 30) ? 32768 : 65536;
}

static uint64_t inodes_a_group(const struct ws_ext4_geometry *g, uint64_t needed) {
    uint32_t ratio = g->params.bytes_an_inode ? g->params.bytes_an_inode : choose_bytes_an_inode(g->params.size);
    /* A group counts so many at most: more is a wish that comes of a ratio, and none of files that are there. */
    const uint64_t wished = ws_min_u64(ws_div_up(g->blocks * BLOCK / ratio, g->groups), BLOCKS_A_GROUP);
    const uint64_t each = ws_max_u64(wished, ws_div_up(needed + 16, g->groups));
    return ws_max_u64(ws_round_up(each, INODES_A_BLOCK), 2ull * INODES_A_BLOCK);
}

static enum ws_status too_many(struct ws_error *error, uint64_t files, const char *what) {
    ws_fail(error, WS_E_SPACE, "%llu files are more than %s can count", (unsigned long long)files, what);
    return ws_fail_next(error, "make it larger, or let it hold fewer files");
}

/* Groups, inodes, tables. The last group is given up when it could not hold its own structures and a little more. */
static enum ws_status settle_groups(struct ws_ext4_geometry *g, uint64_t inodes_needed, struct ws_error *error) {
    const uint32_t has = g->inodes_a_group; /* over a volume in use its own number stays */
    g->blocks = g->params.size / BLOCK;
    if (has && inodes_needed > (uint64_t)has * ws_div_up(g->blocks, BLOCKS_A_GROUP))
        return too_many(error, inodes_needed, "the volume that is there");
    for (;;) {
        g->groups = (uint32_t)ws_div_up(g->blocks, BLOCKS_A_GROUP);
        if (g->groups == 0) return ws_fail(error, WS_E_RANGE, "the volume is too small for ext4");
        uint64_t per_group = has ? has : inodes_a_group(g, inodes_needed);
        if (per_group > BLOCKS_A_GROUP) return too_many(error, inodes_needed, "a volume of this size");
        while (per_group * g->groups > 0xffffffffull) per_group -= INODES_A_BLOCK;
        g->inodes_a_group = (uint32_t)per_group;
        g->table_blocks = g->inodes_a_group / INODES_A_BLOCK;
        g->gdt_blocks = (uint32_t)ws_div_up((uint64_t)g->groups * DESC_SIZE, BLOCK);
        if (!ext4_over_itself(g)) g->reserved_blocks = ext4_choose_reserve(g);
        g->flex_groups = 16;
        while (g->flex_groups > 1 && (uint64_t)g->flex_groups * (2 + g->table_blocks) > BLOCKS_A_GROUP / 2)
            g->flex_groups /= 2;
        const bool as_it_is = ext4_over_itself(g) && g->groups <= g->over->groups && g->blocks >= g->over->blocks;
        if (as_it_is || ext4_group_blocks(g, g->groups - 1) >= ext4_front_blocks(g, g->groups - 1) + 50u) return WS_OK;
        if (g->groups == 1) return ws_fail(error, WS_E_SPACE, "the volume cannot hold its own structures");
        g->blocks = (uint64_t)(g->groups - 1) * BLOCKS_A_GROUP;
    }
}

/* One item an inode: the journal, the root, lost+found, then all else in reading order. */
static enum ws_status list_items(struct ws_ext4_geometry *g, struct ws_tree *tree, struct ws_error *error) {
    struct ws_node *root = ws_tree_root(tree);
    struct ws_node *lost = ws_node_child(root, "lost+found");
    if (lost && lost->kind != WS_NODE_FOLDER)
        return ws_fail(error, WS_E_USAGE, "\"lost+found\" must be a folder on an ext4 volume");
    if (!lost) {
        WS_TRY(ws_tree_add(tree, root, "lost+found", WS_NODE_FOLDER, &lost, error));
        lost->mode = 0700;
        lost->mtime = g->params.made_at;
    }
    size_t count = 1;
    for (struct ws_node *n = root; n; n = ws_tree_next(n))
        if (!n->same_as) count++;
    g->item = calloc(count, sizeof *g->item);
    if (!g->item) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu files", count);
    g->items = 3;
    g->item[1].node = root;
    g->item[2].node = lost;
    for (struct ws_node *n = root; n; n = ws_tree_next(n))
        if (!n->same_as && n != root && n != lost) g->item[g->items++].node = n;
    for (size_t i = 1; i < g->items; i++) ((struct ws_node *)g->item[i].node)->work = ext4_ino_of_item(i);
    for (struct ws_node *n = root; n; n = ws_tree_next(n)) n->work2 = 0; /* becomes the number of names */
    for (struct ws_node *n = root; n; n = ws_tree_next(n)) (n->same_as ? n->same_as : n)->work2++;
    return WS_OK;
}

static enum ws_status place_items(struct ws_ext4_geometry *g, struct ws_error *error) {
    uint64_t room = ext4_span_blocks(&g->space);
    uint64_t cursor = 0;
    for (size_t i = 0; i < g->items; i++) {
        struct ext4_shape shape;
        g->item[i].start = cursor;
        settle_shape(g, i, &shape);
        struct ws_ext4_sparse *sparse = ext4_sparse_of(g, i);
        if (sparse) sparse->shape = shape;
        cursor += ext4_placed(g, i, &shape);
        if (cursor > room) {
            uint64_t missing = 0;
            for (; i < g->items; i++) {
                const struct ws_ext4_sparse *has = ext4_sparse_of(g, i);
                missing += (has ? has->placed : content_blocks(g, i)) + 1;
            }
            char size[24];
            return ws_fail(error, WS_E_SPACE, "the files need about %s more than this volume has%s",
                           ws_size_counted(missing * BLOCK, size, sizeof size),
                           g->over ? " free beside what it holds" : "");
        }
        const struct ws_node *node = g->item[i].node;
        if (node && node->kind == WS_NODE_FOLDER) {
            uint32_t group = (ext4_ino_of_item(i) - 1) / g->inodes_a_group;
            g->dirs_in_group[group]++;
        }
    }
    g->data_used = cursor;
    return WS_OK;
}

static uint64_t bytes_written(const struct ws_ext4_geometry *g) {
    uint64_t blocks = g->data_used + (g->reserved_blocks ? g->reserved_blocks + 1 : 0);
    for (uint32_t i = 0; i < g->groups; i++) {
        if (ext4_has_super(i)) blocks += 1 + (uint64_t)g->gdt_blocks;
        if (ext4_bitmap_is_written(g, i)) blocks++;
        if (ext4_inodes_in_group(g, i)) blocks++;
        blocks += ext4_table_written(g, i);
    }
    return (blocks + (ext4_over_itself(g) ? 1 : 0)) * BLOCK; /* the journal's head */
}

enum ws_status ws_ext4_measure(const struct ws_ext4_params *params, struct ws_tree *tree, struct ws_ext4_geometry *g,
                               struct ws_error *error) {
    enum ws_status status = WS_OK;
    memset(g, 0, sizeof *g);
    g->params = *params;
    g->tree = tree;
    if (params->over) WS_TRY(ext4_over_open(g, error));
    if (g->params.size < WS_EXT4_LEAST || g->params.size > WS_EXT4_MOST) {
        char size[48];
        WS_GO(ws_fail(error, WS_E_RANGE, "an ext4 volume of %s is not possible here; 16 MiB to 16 TiB are",
                      ws_size_both(g->params.size, size, sizeof size)));
    }
    if (memchr(params->label, 0, sizeof params->label) == NULL)
        WS_GO(ws_fail(error, WS_E_RANGE, "the label is longer than the 16 bytes ext4 has room for"));
    WS_GO(list_items(g, tree, error));
    g->inodes_used = INO_LOST_FOUND + g->items - 3;
    WS_GO(settle_groups(g, g->inodes_used, error));
    g->journal_blocks = choose_journal(g->blocks);
    g->csum_seed = ws_crc32c(0xffffffff, g->params.id.byte, 16);
    g->dirs_in_group = calloc(g->groups, sizeof *g->dirs_in_group);
    if (!g->dirs_in_group) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a volume of %u groups", g->groups));
    if (params->over) {
        WS_GO(ext4_over_take(g, error));
    } else {
        WS_GO(ext4_list_fixed(g, error));
        WS_GO(ext4_list_space(g, error));
    }
    WS_GO(measure_folders(g, error));
    WS_GO(ext4_find_holes(g, error));
    if (params->over) WS_GO(ext4_over_count(g, error));
    WS_GO(place_items(g, error));
    g->free_bytes = (g->blocks - ext4_span_blocks(&g->fixed) - g->data_used - ext4_span_blocks(&g->kept)) * BLOCK;
    g->free_inodes = (uint64_t)g->groups * g->inodes_a_group - g->inodes_used;
    g->written_bytes = bytes_written(g);
done:
    if (status != WS_OK) ws_ext4_geometry_free(g);
    return status;
}

void ws_ext4_geometry_free(struct ws_ext4_geometry *g) {
    ext4_over_close(g);
    free(g->fixed.span);
    free(g->space.span);
    free(g->kept.span);
    free(g->dirs_in_group);
    ext4_index_free(g);
    free(g->sparse);
    free(g->run);
    free(g->item);
    memset(&g->fixed, 0, sizeof g->fixed);
    memset(&g->space, 0, sizeof g->space);
    memset(&g->kept, 0, sizeof g->kept);
    g->dirs_in_group = NULL;
    g->sparse = NULL;
    g->run = NULL;
    g->item = NULL;
}
