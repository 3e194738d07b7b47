/* internal.h — numbers of the ext4 format, shared by its composer and its reader. */
#ifndef WS_FS_EXT4_INTERNAL_H
#define WS_FS_EXT4_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/ext4.h"

enum {
    BLOCK = 4096,
    BLOCKS_A_GROUP = 32768,
    INODE_SIZE = 256,
    INODES_A_BLOCK = BLOCK / INODE_SIZE,
    DESC_SIZE = 64,
    INO_ROOT = 2,
    INO_RESIZE = 7,
    INO_JOURNAL = 8,
    INO_LOST_FOUND = 11,
    EXTENT_MOST = 32768,   /* blocks in one initialised extent */
    EXTENTS_A_BLOCK = 340, /* (4096 - header - tail) / 12 */
    EXTENTS_IN_INODE = 4,
    EXTENT_MAGIC = 0xf30a,
    FAST_LINK = 60,   /* a shorter link target lives in the inode */
    EXTRA_ISIZE = 32, /* bytes used behind the first 128 */
    XATTR_MAGIC = (int)0xea020000,
    LOST_FOUND_BLOCKS = 4,
    POINTERS_A_BLOCK = BLOCK / 4
};
enum { /* feature bits; "incompat" ones change the layout */
       COMPAT_JOURNAL = 0x4,
       COMPAT_XATTR = 0x8,
       COMPAT_RESIZE_INODE = 0x10,
       COMPAT_DIR_INDEX = 0x20,
       INCOMPAT_FILETYPE = 0x2,
       INCOMPAT_RECOVER = 0x4,
       INCOMPAT_META_BG = 0x10,
       INCOMPAT_EXTENTS = 0x40,
       INCOMPAT_64BIT = 0x80,
       INCOMPAT_MMP = 0x100,
       INCOMPAT_FLEX_BG = 0x200,
       INCOMPAT_EA_INODE = 0x400,
       INCOMPAT_CSUM_SEED = 0x2000,
       INCOMPAT_LARGEDIR = 0x4000,
       INCOMPAT_INLINE = 0x8000,
       INCOMPAT_ENCRYPT = 0x10000,
       INCOMPAT_CASEFOLD = 0x20000,
       RO_SPARSE_SUPER = 0x1,
       RO_LARGE_FILE = 0x2,
       RO_HUGE_FILE = 0x8,
       RO_GDT_CSUM = 0x10,
       RO_DIR_NLINK = 0x20,
       RO_EXTRA_ISIZE = 0x40,
       RO_QUOTA = 0x100,
       RO_BIGALLOC = 0x200,
       RO_METADATA_CSUM = 0x400,
       RO_PROJECT = 0x2000,
       RO_VERITY = 0x8000,
       RO_ORPHAN_PRESENT = 0x10000
};
/* A file's marks as its inode has them; bits of enum ws_mark_bit, and back. */
uint32_t ext4_flags_of(uint8_t marks);
uint8_t ext4_marks_of(uint32_t flags);
enum { FLAG_ENCRYPTED = 0x800, FLAG_INDEX = 0x1000, FLAG_EXTENTS = 0x80000, FLAG_INLINE_DATA = 0x10000000 };
enum { GROUP_INODE_UNINIT = 1, GROUP_BLOCK_UNINIT = 2, GROUP_INODE_ZEROED = 4 };
#define JOURNAL_MAGIC 0xc03b3998u

struct ws_ext4_item {
    const struct ws_node *node; /* NULL: the journal */
    uint64_t start;             /* first block in data space: attributes, extent tree, then content */
};

/* index.c: a folder of more than one block. Its names in the order of their hashes, and the blocks that hold them. */
struct ws_ext4_leaf {
    uint32_t first; /* number of its first name */
    uint32_t hash;
};
struct ws_ext4_index {
    size_t item;
    const struct ws_node **name;
    struct ws_ext4_leaf *leaf;
    uint32_t names, leaves;
    uint32_t nodes; /* blocks of index between the first one and the leaves */
};
/* Worked out, for a folder behind all others so far. @param blocks  out: what it takes; WS_E_RANGE for too many names
 */
enum ws_status ext4_index_folder(struct ws_ext4_geometry *g, size_t item, uint64_t *blocks, struct ws_error *error);
void ext4_index_free(struct ws_ext4_geometry *g);
/* NULL for a folder without one */
const struct ws_ext4_index *ext4_index_of(const struct ws_ext4_geometry *g, size_t item);
/* Index block `number` of the folder, 0 to `nodes`; `block` is zeroed but for the names "." and ".." in number 0.
 * `folder_seed` is what its inode's checksums begin with. */
void ext4_index_block(const struct ws_ext4_index *index, uint32_t number, uint32_t folder_seed, uint8_t block[BLOCK]);

/* Data space counts the blocks that are free to hold content, in ascending order: of a fresh volume all but the fixed
 * structures, which are a prefix in every group; over a volume in use what that has free. */
struct ws_ext4_span {
    uint64_t block;
    uint64_t before; /* blocks in all spans before this one */
};
/* `blocks` from `block` on, behind all others; what adjoins becomes one. @return false without memory */
bool ext4_add_span(struct ws_ext4_spans *spans, uint64_t block, uint64_t blocks);
uint64_t ext4_span_blocks(const struct ws_ext4_spans *spans); /* in all of them */
/* How many of their blocks stand before this block of the volume. */
uint64_t ext4_span_below(const struct ws_ext4_spans *spans, uint64_t block);
/* The first block from this one on that is in none of the spans, or if it is in none itself, that is in one; `end` at
 * most. @param in  out: is it in one? */
uint64_t ext4_span_edge(const struct ws_ext4_spans *spans, uint64_t block, uint64_t end, bool *in);
/* Set the bits of a group's bitmap for the first `most` blocks of the spans, where they stand in this group. */
void ext4_span_bits(const struct ws_ext4_spans *spans, uint64_t most, uint32_t group, uint8_t *bitmap);
void ext4_fill_bits(uint8_t *bitmap, uint64_t from, uint64_t to);
uint32_t ext4_group_blocks(const struct ws_ext4_geometry *g, uint32_t group);
bool ext4_has_super(uint32_t group);
/* The physical block of data block `d`, and how many follow it without a gap (at most `most`). */
uint64_t ext4_physical(const struct ws_ext4_geometry *g, uint64_t d, uint64_t most, uint64_t *contiguous);
uint32_t ext4_inodes_in_group(const struct ws_ext4_geometry *g, uint32_t group); /* in use */
/* Blocks of its inode table to be written: those with inodes, and those that had any. */
uint32_t ext4_table_written(const struct ws_ext4_geometry *g, uint32_t group);
/* Blocks of content in this group. */
uint64_t ext4_data_in_group(const struct ws_ext4_geometry *g, uint32_t group);
/* fixed.c: where the structures stand that are not content. Blocks of superblock and descriptors, and what is kept for
 * more of these, at the front of a group. */
uint64_t ext4_super_blocks(const struct ws_ext4_geometry *g, uint32_t group);
/* So many a group needs for itself and its flex group. */
uint64_t ext4_front_blocks(const struct ws_ext4_geometry *g, uint32_t group);
/* All of them, in order, into g->fixed. @return WS_E_FORMAT if those of the volume that is there lie in each other's
 * way */
enum ws_status ext4_list_fixed(struct ws_ext4_geometry *g, struct ws_error *error);
/* What they leave, into g->space. */
enum ws_status ext4_list_space(struct ws_ext4_geometry *g, struct ws_error *error);
uint64_t ext4_fixed_in_group(const struct ws_ext4_geometry *g, uint32_t group);
/* A group that holds nothing but its superblock needs no bitmap: the kernel makes it. The last one's is never left out:
 * it carries the padding past the end. */
bool ext4_bitmap_is_written(const struct ws_ext4_geometry *g, uint32_t group);

/* reserve.c: what is kept for descriptors of groups to come, as a file (inode 7) of block maps. */
uint32_t ext4_choose_reserve(const struct ws_ext4_geometry *g);
/* Its blocks in group 0 behind the descriptors: those kept, each of which lists its copies in other groups, and the one
 * that lists them. */
void ext4_reserve_block(const struct ws_ext4_geometry *g, uint32_t number, uint8_t out[BLOCK]);
void ext4_reserve_inode(const struct ws_ext4_geometry *g, uint8_t out[INODE_SIZE]);

/* How an inode's blocks divide. */
struct ext4_shape {
    uint64_t content; /* blocks of content that are stored */
    uint32_t tree;    /* blocks of the extent tree outside the inode */
    uint32_t leaves;  /* of these, leaves */
    bool xattr_block; /* attributes did not fit into the inode */
    uint64_t extents;
};

/* A stretch of a file between holes. */
struct ws_ext4_run {
    uint64_t logical, blocks; /* of the file */
    uint64_t before;          /* blocks stored in data space before this run */
    uint64_t extents_before;
    uint64_t block; /* where it stands on the volume that is there; 0: it gets a place in data space */
};
/* A file with holes, or in place. Its shape is kept: to work it out takes a look at each run. */
struct ws_ext4_sparse {
    size_t item;
    size_t first, runs;
    struct ext4_shape shape;
    uint64_t placed; /* blocks that get a place in data space: all but the runs that stand there already */
};
/* Blocks of data space that an item takes. */
uint64_t ext4_placed(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape);

/* Where a group's bitmaps and its inode table stand. */
struct ws_ext4_tables {
    uint64_t block_bitmap, inode_bitmap, inode_table;
};
struct ws_ext4_tables ext4_tables_of(const struct ws_ext4_geometry *g, uint32_t group);
/* As a fresh volume has them; of a group that a volume in use gets, too. */
struct ws_ext4_tables ext4_fresh_tables(const struct ws_ext4_geometry *g, uint32_t group);

/* over.c: the volume that is there. Geometry and names are taken from it; what it has free becomes the data space. */
struct ws_ext4_over {
    struct ws_source *now;         /* its journal applied */
    struct ws_ext4_tables *tables; /* of each group, where they stand there */
    uint16_t *table_used;          /* blocks of each group's inode table that hold something */
    uint64_t journal_head;         /* block of its journal's superblock, which is to be the following */
    uint8_t journal[BLOCK];
    uint64_t kbytes_written; /* in all its life */
    bool log_in_use;         /* its journal holds changes not yet in place */
    uint64_t blocks;         /* it has; more or less than the new one, where that is of another size */
    uint32_t groups;
    uint64_t later, sooner;    /* blocks: what stands there is counted from so much later, or earlier */
    bool anew;                 /* of its structures none stays */
    struct ws_ext4_spans left; /* free there, and behind the new end */
};
/* Is it made over that very volume, whose structures stay where they are? */
static inline bool ext4_over_itself(const struct ws_ext4_geometry *g) { return g->over && !g->over->anew; }
enum ws_status ext4_over_open(struct ws_ext4_geometry *g, struct ws_error *error);
/* Where its tables stand; its free blocks become the data space. */
enum ws_status ext4_over_take(struct ws_ext4_geometry *g, struct ws_error *error);
/* Files whose content is there, and the journal, get rows that say where. */
enum ws_status ext4_over_keep(struct ws_ext4_geometry *g, size_t item, bool *kept, struct ws_error *error);
/* What stays in place, in order: no two files may share a block. */
enum ws_status ext4_over_count(struct ws_ext4_geometry *g, struct ws_error *error);
void ext4_over_close(struct ws_ext4_geometry *g);
/* geometry.c: the row of an item, among rows that begin with its number and stand in its order; NULL: it has none */
void *ext4_row_of(const void *rows, size_t count, size_t each, size_t item);
/* The array, with room for one more than `count`; NULL without memory: it stays as it was. */
void *ext4_grown(void *array, size_t count, size_t *room, size_t each);
/* sparse.c: NULL for a file without holes */
struct ws_ext4_sparse *ext4_sparse_of(const struct ws_ext4_geometry *g, size_t item);
/* A row for an item behind all that have one; runs are added to the last row. */
enum ws_status ext4_begin_sparse(struct ws_ext4_geometry *g, size_t item, struct ws_error *error);
enum ws_status ext4_add_run(struct ws_ext4_geometry *g, uint64_t from, uint64_t end, uint64_t block,
                            struct ws_error *error);
/* Find the runs of all files that have holes, or are in place. */
enum ws_status ext4_find_holes(struct ws_ext4_geometry *g, struct ws_error *error);
/* The byte of the file that is stored as byte `at` of its content, and how many follow in one piece. */
uint64_t ext4_logical_byte(const struct ws_ext4_geometry *g, size_t item, uint64_t at, uint64_t *contiguous);

/* Walk an inode's extents in order, from extent number `index` on. */
struct ext4_walk {
    const struct ws_ext4_geometry *g;
    const struct ws_ext4_run *run, *end; /* runs that follow; NULL without holes */
    uint64_t d, left;                    /* the rest of this run in data space */
    uint64_t block;                      /* where that stands, in place; 0: in data space */
    uint64_t logical;                    /* of the file */
};
struct ext4_walk ext4_walk_from(const struct ws_ext4_geometry *g, size_t item, const struct ext4_shape *shape,
                                uint64_t index);
/* The next extent; w->logical is behind it afterwards. @return false at the end */
bool ext4_next_extent(struct ext4_walk *w, uint32_t *logical, uint64_t *physical, uint32_t *length);
void ext4_shape_of(const struct ws_ext4_geometry *g, size_t item, struct ext4_shape *shape);
uint32_t ext4_ino_of_item(size_t item);
size_t ext4_item_of_ino(uint32_t ino); /* SIZE_MAX for reserved ones */
bool ext4_xattrs_fit_inode(const struct ws_node *node);

/* generate.c: any inode, or any block of data space, from the geometry alone. */
enum ws_status ext4_make_inode(const struct ws_ext4_geometry *g, uint32_t ino, uint8_t out[INODE_SIZE],
                               struct ws_error *error);
enum ws_status ext4_data_source(const struct ws_ext4_geometry *g, struct ws_source **source, struct ws_error *error);
/* xattr.c */
enum ws_status ext4_xattr_inode(const struct ws_node *node, uint8_t *area, size_t room, struct ws_error *error);
/* Is there room for all of a node's attributes? Asked while measuring: nothing may turn up while streaming. */
enum ws_status ext4_xattrs_check(const struct ws_node *node, struct ws_error *error);
enum ws_status ext4_xattr_block(const struct ws_ext4_geometry *g, const struct ws_node *node, uint64_t physical,
                                uint8_t out[BLOCK], struct ws_error *error);
/* One as it stands on a volume; those of no known kind are passed over. */
enum ws_status ext4_xattr_set(struct ws_tree *tree, struct ws_node *node, uint8_t index, const char *rest,
                              size_t rest_length, const uint8_t *value, size_t length, struct ws_error *error);

#endif
