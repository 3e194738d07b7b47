/* volume.h — an ext2, ext3 or ext4 volume opened for reading. */
#ifndef WS_FS_EXT4_VOLUME_H
#define WS_FS_EXT4_VOLUME_H

#include "fs/ext4/internal.h"

struct ext4_volume {
    const struct ws_source *source;
    struct ws_ext4_facts facts;
    uint32_t compat, incompat, ro_compat;
    uint32_t block, blocks_a_group, inodes_a_group, groups, desc_size, first_data_block, csum_seed, journal_ino;
    uint32_t cluster;  /* blocks that are given away together: their bitmaps count them so */
    uint32_t reserved; /* blocks behind the descriptors, for more of them */
    uint64_t blocks;
    uint8_t *descriptors; /* owned: all of them */
    uint8_t *ahead;       /* owned: a piece of an inode table */
    uint64_t ahead_at;
    size_t ahead_length;
};

enum ws_status ext4_open(const struct ws_source *source, struct ext4_volume *v, struct ws_error *error);
void ext4_close(struct ext4_volume *v);
/** The first 256 bytes of an inode, zero-filled where inodes are smaller. */
enum ws_status ext4_inode(struct ext4_volume *v, uint32_t ino, uint8_t out[INODE_SIZE], struct ws_error *error);
/** All of it, as long as inodes are there. */
enum ws_status ext4_inode_whole(struct ext4_volume *v, uint32_t ino, uint8_t *out, struct ws_error *error);
/** An inode's content as runs of the volume, to be freed. */
enum ws_status ext4_runs(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, uint64_t size, struct ws_run **runs,
                         size_t *count, struct ws_error *error);

/* journal.c: as ws_ext4_recovered(). @param left  out: where changes stand that are not among it, "in quick commits";
 * NULL: all are */
enum ws_status ext4_recover(const struct ws_source *volume, struct ws_source **source, uint64_t *replayed,
                            const char **left, struct ws_error *error);
/* inside.c */
/** Does its content stand inside the inode? */
static inline bool ext4_is_inside(const uint8_t *inode) { return (ws_load_le32(inode + 0x20) & FLAG_INLINE_DATA) != 0; }
/** Its extended attributes, into the node. */
enum ws_status ext4_attributes(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, struct ws_tree *tree,
                               struct ws_node *node, struct ws_error *error);
/** The first `size` bytes of its content, wherever they stand. */
enum ws_status ext4_content(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, uint64_t size,
                            struct ws_source **content, struct ws_error *error);

#endif
