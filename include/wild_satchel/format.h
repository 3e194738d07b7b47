/* format.h — the file systems that volumes are made with and read from: one row each.
 *
 * All that differs between them for the rest of the library stands in these rows: their words, how large they may be,
 * what names and labels they hold, how they are entered in a partition table, and the calls that probe, read, measure
 * and compose them. What a row leaves out (swap has no tree) is NULL.
 */
#ifndef WILD_SATCHEL_FORMAT_H
#define WILD_SATCHEL_FORMAT_H

#include "wild_satchel/label.h"
#include "wild_satchel/layout.h"
#include "wild_satchel/names.h"

WS_BEGIN

/** What any volume says of itself. */
struct ws_volume_facts {
    char system[24]; /**< its exact name: "ext4", "FAT16", "exFAT" */
    char label[WS_LABEL_ROOM];
    char id[48];         /**< its identifier as systems write it: a UUID, or a serial number as XXXX-XXXX */
    uint64_t size;       /**< bytes */
    uint64_t free_bytes; /**< as the volume counts it; meaningful if `counted` */
    bool counted;
    bool clean;     /**< false if it was not shut down cleanly, or says that it has errors */
    uint64_t files; /**< files and folders; meaningful if `files_counted` */
    bool files_counted;
    int64_t written_at; /**< seconds since 1970-01-01 UTC; 0 unknown */
};

/** What a fresh volume is to be. */
struct ws_volume_params {
    uint64_t size;             /**< bytes */
    char label[WS_LABEL_ROOM]; /**< one that the format can hold, see ws_label_normalise() */
    struct ws_guid id;         /**< its identifier; a serial number is its first four bytes */
    struct ws_guid seed;       /**< ext4: for folder hashes; any random value */
    uint32_t sector;           /**< bytes: as the drive counts */
    uint32_t cluster;          /**< bytes; 0: usual for the size */
    uint32_t align;  /**< its content begins at a multiple of this on the drive, where the format can; bytes */
    int64_t made_at; /**< seconds since 1970-01-01 UTC */
    bool may_grow;   /**< ext4: a kernel may make it larger while it is in use; room is kept for that */
};

struct ws_format {
    const char *word;  /**< as commands and documents name it: "fat32", "exfat", "ext4", "swap", "iso9660" */
    const char *title; /**< as people read it: "FAT32" */
    const char *type, *type_start; /**< its partition's type, see ws_partition_type_find(): as an ordinary volume, and
                                      on a GPT as one that firmware looks through; NULL where none is */
    bool everywhere;               /**< every PC shows it as an ordinary drive; it keeps no owners and modes */
    bool firmware;                 /**< UEFI firmware reads it (UEFI 2.10, section 13.3) */
    uint64_t most;                 /**< bytes of the largest volume composed here; 0: none is */
    const struct ws_name_rules *(*names)(void); /**< NULL: any name, link and device */

    /** Bytes of the smallest volume composed, on sectors and with clusters of this size (0: usual). */
    uint64_t (*least)(uint32_t sector, uint32_t cluster);
    /** Is there one, and what does it say? @return WS_E_NOTFOUND if there is none; WS_E_FORMAT if it is damaged */
    enum ws_status (*probe)(const struct ws_source *volume, struct ws_volume_facts *facts, struct ws_error *error);
    /** Into a tree that borrows `volume`; `facts` may be NULL. `work` of a file that lies in one piece is the byte of
     *  the volume at which it begins, where the format can tell. */
    enum ws_status (*read)(const struct ws_source *volume, struct ws_tree **tree, struct ws_volume_facts *facts,
                           struct ws_error *error);
    /**
     * Work a volume out, and add it to a layout at byte `at` of the drive; with layout NULL it is measured only.
     * Borrows the tree until the layout is closed. Afterwards `work` of a file that lies in one piece is the byte of
     * the volume at which it begins.
     * @param free_bytes  out: as the fresh volume will count them; may be NULL
     * @return WS_E_SPACE if the tree does not fit; WS_E_RANGE for a size or cluster that is not possible;
     *         WS_E_UNSUPPORTED for what the format cannot hold
     */
    enum ws_status (*compose)(const struct ws_volume_params *params, struct ws_tree *tree, uint64_t at,
                              struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error);
    /** The longest row of bytes of a volume in use that hold nothing; NULL: not known. */
    enum ws_status (*spare)(const struct ws_source *volume, uint64_t *at, uint64_t *length, struct ws_error *error);
};

/** All rows, in the order in which an unknown volume is probed. */
const struct ws_format *ws_formats(size_t *count);
/** @return NULL for a word that is none */
const struct ws_format *ws_format_find(const char *word);
/** Which of them a volume is. @param facts may be NULL @return NULL if it is none of them, or damaged */
const struct ws_format *ws_format_of(const struct ws_source *volume, struct ws_volume_facts *facts);

/** The file that holds an ext4 volume: NAME.ext4, at the top of an ordinary one, as start-up code looks for it.
 *  @param tree  of that one, read by its format: `work` of the file says where it lies
 *  @param uuid  which; NULL: the first that start-up code would start from
 *  @return NULL if there is none */
const struct ws_node *ws_inside_find(const struct ws_tree *tree, const char *uuid);

WS_END

#endif
