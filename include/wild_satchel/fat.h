/* fat.h — FAT volumes: a small one composed from a tree (an EFI start image), and any one read into a tree.
 *
 * Follows the FAT File System Specification 1.03 (and ECMA-107), with long names.
 */
#ifndef WILD_SATCHEL_FAT_H
#define WILD_SATCHEL_FAT_H

#include "wild_satchel/layout.h"
#include "wild_satchel/tree.h"

WS_BEGIN

#define WS_FAT_FILE_MOST 0xffffffffull /**< bytes: the largest file, 4 GiB less one byte */
/** Bytes of the largest overlay file: the largest cluster less than 4 GiB. A checker in wide use counts the bytes of a
 *  chain in 32 bits, and would cut a file of 4 GiB in clusters to nothing. */
#define WS_FAT_OVERLAY_MOST (0x100000000ull - 65536)

struct ws_fat_facts {
    unsigned bits;  /**< 12, 16 or 32 */
    char label[12]; /**< from the root folder, else from the boot record */
    uint32_t serial;
    uint64_t size;       /**< bytes */
    uint32_t cluster;    /**< bytes */
    uint64_t free_bytes; /**< counted in the table; by ws_fat_probe() as a large FAT32 says itself */
    bool clean;          /**< unmounted cleanly, where the volume says */
};

/** @return WS_E_NOTFOUND if there is no FAT volume */
WS_CHECKED enum ws_status ws_fat_probe(const struct ws_source *volume, struct ws_fat_facts *facts,
                                       struct ws_error *error);
/** Read a volume into a tree; it borrows `volume`. @return WS_E_FORMAT for damage */
WS_CHECKED enum ws_status ws_fat_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_fat_facts *facts,
                                      struct ws_error *error);

/**
 * Give a file of a volume new content, as changes laid over a patched source. Clusters it lacks are taken from the free
 * ones, those it no longer needs are set free.
 * @param volume   as it is with all changes so far: a slice of `patched`
 * @param at       where the volume begins in `patched`
 * @param node     of the tree read from this volume
 * @return WS_E_SPACE if the volume is full
 */
WS_CHECKED enum ws_status ws_fat_replace(const struct ws_source *volume, struct ws_source *patched, uint64_t at,
                                         const struct ws_node *node, const void *bytes, size_t length,
                                         struct ws_error *error);

struct ws_fat_params {
    uint64_t size;  /**< bytes; 0: as small as the tree allows */
    char label[12]; /**< at most 11 characters */
    uint32_t serial;
    uint32_t sector;         /**< bytes: 512, 1024, 2048, 4096, as the drive counts; 0: 512 */
    uint64_t hidden_sectors; /**< such sectors before the volume on its drive */
    unsigned bits;           /**< 12, 16, 32, or 0: by its size */
    uint32_t cluster;        /**< bytes; 0: as the specification's tables recommend for its size (section 3.4) */
    uint32_t align;          /**< FAT32: its first cluster stands at a multiple of this on the drive; 0: anywhere */
    int64_t made_at;
};
/**
 * Compose a FAT volume (12, 16 or 32 bits by its size). Links, devices and owners have no place in it and are an error.
 * @param size  out: bytes of the volume; with layout NULL nothing else happens. Afterwards `work` of a file with
 * content is the byte of the volume at which it begins.
 * @return WS_E_SPACE if the tree does not fit; WS_E_UNSUPPORTED for what FAT cannot hold
 */
WS_CHECKED enum ws_status ws_fat_compose(const struct ws_fat_params *params, struct ws_tree *tree, uint64_t at,
                                         struct ws_layout *layout, uint64_t *size, uint64_t *free_bytes,
                                         struct ws_error *error);

/** The longest row of clusters that nothing has: bytes of the volume. @return as ws_fat_probe() */
WS_CHECKED enum ws_status ws_fat_spare(const struct ws_source *volume, uint64_t *at, uint64_t *length,
                                       struct ws_error *error);

WS_END

#endif
