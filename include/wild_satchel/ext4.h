/* ext4.h — ext4 volumes: a tree made into one, and one read into a tree.
 *
 * Follows the Linux kernel's documentation of the on-disk format (filesystems/ext4 in its manual). The composer writes
 * 4 KiB blocks with extents, flex_bg, 64bit, metadata_csum, sparse_super and a journal, where asked resize_inode, from
 * 16 MiB to 16 TiB, and puts into the layout only what must be written: groups and inode tables that hold nothing stay
 * uninitialised.
 */
#ifndef WILD_SATCHEL_EXT4_H
#define WILD_SATCHEL_EXT4_H

#include "wild_satchel/layout.h"
#include "wild_satchel/tree.h"

WS_BEGIN

#define WS_EXT4_LEAST (16ull << 20) /**< bytes: the smallest volume composed */
#define WS_EXT4_MOST (16ull << 40)  /**< bytes: the largest */

struct ws_ext4_params {
    uint64_t size;           /**< bytes; what is not a whole 4 KiB block is left unused */
    char label[17];          /**< at most 16 bytes */
    struct ws_guid id;       /**< the volume's UUID */
    struct ws_guid seed;     /**< for directory hashes; any random value */
    uint32_t bytes_an_inode; /**< one inode for so many bytes; 0 decides by size */
    uint64_t grow_to;        /**< bytes it may have one day: room for the descriptors of so many is kept beside those it
                                has (resize_inode), for a kernel that grows it in use to leave it in form; 0: none is */
    int64_t made_at;         /**< seconds since 1970-01-01 UTC */
    uint16_t mounts;         /**< what a volume in use says of itself: how often it was mounted; 0 for a fresh one */
    /** A volume in use that this one takes the place of, NULL: none. Its size, label, UUID and seed stay. Files of the
     * tree whose content stands on it keep their blocks, and what is new goes where it has nothing: until the fixed
     * structures are written, too, it is as it was. One that is arranged as those composed here keeps its structures;
     * of another, made by whatever, all are made anew, as of a fresh volume, if its features are known. Borrowed, as
     * long as the geometry. */
    const struct ws_source *over;
    bool over_gone;  /**< with `over`: what is new may go where content is that the tree does not have any more. All of
                        it  has the superblock's phase then, and ws_ext4_spare() knows the journal alone */
    uint64_t resize; /**< with `over`, bytes: another size than that volume has; 0: the same. Larger only as far as it
                        keeps room for descriptors (grow_to); smaller, what stands behind the end is moved. The source
                        of a volume that grows need not be longer than it was. */
    uint64_t
        later; /**< with `over`, bytes, a multiple of 4096: it begins so much later than that volume, and ends where
                  that does. Content keeps its place on the drive where nothing else comes to stand there; all else
                  is as of a fresh volume, whatever made that one. Its label and UUID stay. 0: it does not */
    uint64_t sooner;  /**< likewise so much earlier, where somebody else's bytes may be until it is made. Not with
                         `later` */
    uint64_t shorter; /**< likewise it ends so much sooner: what stands there moves into what is free. Unlike with
                         `resize` any volume may be there whose features are known. Not with `sooner` */
};

struct ws_ext4_run;
struct ws_ext4_sparse;
struct ws_ext4_item; /* one inode: its node and where its blocks start */
struct ws_ext4_over; /* what is known of the volume that stands there */
struct ws_ext4_span; /* blocks in a row */
struct ws_ext4_spans {
    struct ws_ext4_span *span; /* owned; one more behind the last */
    size_t count, room;
};

/** Everything about a volume that follows from its parameters and tree. Both measuring and composing go by it. */
struct ws_ext4_geometry {
    struct ws_ext4_params params;
    uint64_t blocks; /**< of 4 KiB */
    uint32_t groups, inodes_a_group, table_blocks, gdt_blocks, flex_groups;
    bool anew;                /**< nothing of the structures of `over` stays */
    uint32_t reserved_blocks; /**< behind the descriptors, for those of groups to come */
    uint32_t journal_blocks;
    uint64_t data_used; /**< blocks behind the fixed structures that hold something */
    uint64_t inodes_used;
    uint64_t free_bytes;    /**< what statfs will report as free on the fresh volume */
    uint64_t free_inodes;   /**< likewise */
    uint64_t written_bytes; /**< what composing will add to a layout */
    uint32_t csum_seed;
    struct ws_ext4_spans fixed; /* superblocks, descriptors, bitmaps, inode tables */
    struct ws_ext4_spans space; /* what may hold content, in ascending order */
    struct ws_ext4_spans kept;  /* content of files that stays where it stands */
    struct ws_ext4_over *over;  /* owned */
    uint16_t *dirs_in_group;    /* owned: folders among the used inodes of each group */
    struct ws_ext4_item *item;  /* owned */
    size_t items;
    struct ws_ext4_index *index; /* owned: of folders of more than one block, in order */
    size_t indexes, indexes_room;
    struct ws_ext4_sparse *sparse; /* owned: files with holes, in order */
    size_t sparses, sparses_room;
    struct ws_ext4_run *run; /* owned: what is stored of them */
    size_t runs_room;
    const struct ws_tree *tree;
};

/**
 * Work out a volume: exact, and nothing is written. Adds "lost+found" to the tree if it has none, and uses the nodes'
 * scratch fields, so one tree is measured and composed at a time. Owners, modes, times with nanoseconds, extended
 * attributes, links, devices are kept, and holes that the files' sources tell are not stored.
 * @return WS_E_RANGE for a size outside 16 MiB to 16 TiB or a label over 16 bytes; WS_E_SPACE if the tree does not
 *         fit (the text says how much is missing); WS_E_NOMEM;
 *         with `over`, WS_E_UNSUPPORTED for a volume that has to be made anew, and has features of which its files'
 *         names, attributes and contents do not tell, or start-up code at its beginning
 */
WS_CHECKED enum ws_status ws_ext4_measure(const struct ws_ext4_params *params, struct ws_tree *tree,
                                          struct ws_ext4_geometry *geometry, struct ws_error *error);
/** Free what measuring allocated. Only after every layout composed from it is closed. */
void ws_ext4_geometry_free(struct ws_ext4_geometry *geometry);

/** Add the volume's extents to a layout at byte `at` (a multiple of 512, better of 4096). Borrows
 * geometry and tree. The superblock at its start has the given phase, all else is body. Over a volume in use all fixed
 * structures have that phase, and what is body goes where that volume has nothing. */
WS_CHECKED enum ws_status ws_ext4_compose(const struct ws_ext4_geometry *geometry, uint64_t at,
                                          struct ws_layout *layout, enum ws_phase superblock_phase,
                                          struct ws_error *error);

/** The longest row of bytes, of the volume, that holds nothing before and after; length 0: there is none. The journal
 *  of a volume that was shut down cleanly holds nothing, but for its first block. */
void ws_ext4_spare(const struct ws_ext4_geometry *geometry, uint64_t *at, uint64_t *length);
/** Such rows, the longest first; the journal is left out. @return how many, at most `most` */
size_t ws_ext4_spare_rows(const struct ws_ext4_geometry *geometry, struct ws_run *row, size_t most);
/** With `shorter`, rows of bytes behind the new end that held nothing, likewise. */
size_t ws_ext4_left_rows(const struct ws_ext4_geometry *geometry, struct ws_run *row, size_t most);

/** What a volume says of itself. */
struct ws_ext4_facts {
    char label[17];
    struct ws_guid id;
    uint64_t size;       /**< bytes */
    uint32_t block_size; /**< bytes */
    uint64_t free_bytes; /**< as the superblock counts it; of one that was not shut down ws_ext4_read() has it by its
                            groups, as a mount has */
    uint64_t inodes, free_inodes;
    bool has_journal, needs_recovery; /**< its journal holds changes not yet in place */
    bool clean;                       /**< marked as cleanly unmounted and without recorded errors */
    uint32_t inode_size;
    int64_t made_at, mounted_at, written_at;
    uint32_t mounts;
    uint32_t errors;        /**< recorded since it was last checked */
    uint64_t written_bytes; /**< ever, as the volume counts them itself */
};

/** Is there an ext2, ext3 or ext4 volume, and what does it say? Reads the superblock only.
 *  @return WS_E_NOTFOUND if there is none; WS_E_FORMAT if it is damaged */
WS_CHECKED enum ws_status ws_ext4_probe(const struct ws_source *volume, struct ws_ext4_facts *facts,
                                        struct ws_error *error);

/**
 * Read a volume into a tree. Changes that stand only in the journal are applied in memory first (blocks and
 * revocations, with checksums), as a mount would do; the volume is not touched. The tree borrows `volume`.
 * @param facts  may be NULL
 * @return WS_E_FORMAT for damage, with the inode or block; WS_E_UNSUPPORTED for a feature that changes the layout in a
 *         way not known here (encryption, inline data, large clusters)
 */
WS_CHECKED enum ws_status ws_ext4_read(const struct ws_source *volume, struct ws_tree **tree,
                                       struct ws_ext4_facts *facts, struct ws_error *error);

/** The same of one whose superblock may be damaged: by a copy of it, then. */
WS_CHECKED enum ws_status ws_ext4_probe_copies(const struct ws_source *volume, struct ws_ext4_facts *facts,
                                               struct ws_error *error);

/** Something of a damaged volume that is lost, or was found without its name. @param path  in the volume, made visible
 */
typedef void (*ws_lost_call)(void *context, const char *path, const char *what);
/**
 * As ws_ext4_read(), of a damaged volume: what cannot be read is left out and told, and all else is there. A superblock
 * and descriptors that are not right are taken from their copies; a journal that cannot be applied is not; files that
 * no name leads to any more stand in lost+found by the numbers of their inodes. The tree borrows `volume`.
 * @param volume  its unreadable places read as zeros, see ws_source_forgiving()
 * @return WS_E_NOTFOUND without a superblock or any copy of it; WS_E_UNSUPPORTED as ws_ext4_read()
 */
WS_CHECKED enum ws_status ws_ext4_rescue(const struct ws_source *volume, ws_lost_call lost, void *context,
                                         struct ws_tree **tree, struct ws_ext4_facts *facts, struct ws_error *error);

/** The bytes of the volume after its journal has been applied, as a source; borrows `volume`. For reading and for
 *  tests; `replayed` tells how many blocks came from the journal and may be NULL. */
WS_CHECKED enum ws_status ws_ext4_recovered(const struct ws_source *volume, struct ws_source **source,
                                            uint64_t *replayed, struct ws_error *error);

/**
 * Change a volume the way a running system does: from what is there now to what `target` says (the same volume,
 * composed anew, as a layout view), as one journal transaction followed by the changes in place. The callbacks do the
 * writing, so that a simulated PC can lose power between any two of them.
 */
struct ws_ext4_sink {
    enum ws_status (*write)(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error);
    enum ws_status (*flush)(void *context, struct ws_error *error);
    void *context;
};
WS_CHECKED enum ws_status ws_ext4_commit(const struct ws_source *volume, const struct ws_layout *target,
                                         const struct ws_ext4_sink *sink, struct ws_error *error);

WS_END

#endif
