/* exfat.h — exFAT volumes: a tree made into one, and any one read into a tree.
 *
 * Follows the published exFAT file system specification, revision 1.00. The composer writes contiguous files, so that
 * no allocation chain is needed for them.
 */
#ifndef WILD_SATCHEL_EXFAT_H
#define WILD_SATCHEL_EXFAT_H

#include "wild_satchel/layout.h"
#include "wild_satchel/tree.h"

WS_BEGIN

#define WS_EXFAT_LEAST (1ull << 20) /**< bytes: the smallest volume composed */

struct ws_exfat_params {
    uint64_t size;           /**< bytes; what is not a whole sector is left unused */
    char label[48];          /**< at most 11 UTF-16 units, as UTF-8 */
    uint32_t serial;         /**< any value */
    uint32_t sector;         /**< bytes: 512, 1024, 2048, 4096, as the drive counts; 0: 512 */
    uint64_t hidden_sectors; /**< such sectors before the volume on its drive */
    uint32_t cluster; /**< bytes, a power of two from a sector to 32 MiB; 0: 4, 32 or 128 KiB by the volume's size */
    uint32_t align;   /**< the first cluster stands at a multiple of this on the drive; 0: 1 MiB */
    int64_t made_at;  /**< seconds since 1970-01-01 UTC */
};

struct ws_exfat_facts {
    char label[48];
    uint32_t serial;
    uint64_t size;       /**< bytes */
    uint32_t cluster;    /**< bytes */
    uint64_t free_bytes; /**< counted in the allocation bitmap */
    bool clean;          /**< not marked as dirty */
    bool sound;          /**< not marked as having failed media */
};

/**
 * Compose a volume. Afterwards `work` of a file with content is the byte of the volume at which it begins. Names must
 * be possible on exFAT: see ws_tree_fit_names().
 * @param layout      may be NULL: then only the sizes are worked out
 * @param free_bytes  out: bytes in free clusters; may be NULL
 * @return WS_E_SPACE if the tree does not fit; WS_E_UNSUPPORTED for links, devices, impossible or colliding names
 *         (with the path); WS_E_RANGE for a size or cluster that is not possible
 */
WS_CHECKED enum ws_status ws_exfat_compose(const struct ws_exfat_params *params, struct ws_tree *tree, uint64_t at,
                                           struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error);

/** Is there an exFAT volume, and what does it say? Reads the boot record, the root folder and the bitmap.
 *  @return WS_E_NOTFOUND; WS_E_FORMAT if it is damaged */
WS_CHECKED enum ws_status ws_exfat_probe(const struct ws_source *volume, struct ws_exfat_facts *facts,
                                         struct ws_error *error);

/** Read a volume into a tree that borrows `volume`. @param facts may be NULL @return WS_E_FORMAT for damage */
WS_CHECKED enum ws_status ws_exfat_read(const struct ws_source *volume, struct ws_tree **tree,
                                        struct ws_exfat_facts *facts, struct ws_error *error);

/** The longest row of clusters that nothing has: bytes of the volume. @return as ws_exfat_probe() */
WS_CHECKED enum ws_status ws_exfat_spare(const struct ws_source *volume, uint64_t *at, uint64_t *length,
                                         struct ws_error *error);

WS_END

#endif
