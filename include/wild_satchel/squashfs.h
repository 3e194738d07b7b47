/* squashfs.h — squashfs volumes read into a tree: the root of most live systems.
 *
 * The format is read by libsquashfs over a ws_source; the kernel's documentation (filesystems/squashfs) describes it.
 */
#ifndef WILD_SATCHEL_SQUASHFS_H
#define WILD_SATCHEL_SQUASHFS_H

#include "wild_satchel/tree.h"

WS_BEGIN

struct ws_squashfs_facts {
    uint64_t size;       /**< bytes the volume takes, compressed */
    uint32_t block_size; /**< bytes */
    uint32_t inodes;
    char compressor[12]; /**< "gzip", "xz", "zstd", ... */
    int64_t made_at;     /**< seconds since 1970-01-01 UTC */
};

/** Is there a squashfs volume, and what does it say? @return WS_E_NOTFOUND; WS_E_FORMAT if it is damaged or cut short
 */
WS_CHECKED enum ws_status ws_squashfs_probe(const struct ws_source *volume, struct ws_squashfs_facts *facts,
                                            struct ws_error *error);

/**
 * Read a volume into a tree that borrows `volume`. Its contents are unpacked by as many tasks at once as read them.
 * @param facts  may be NULL
 * @return WS_E_FORMAT for damage; WS_E_UNSUPPORTED for a compressor that is not built in
 */
WS_CHECKED enum ws_status ws_squashfs_read(const struct ws_source *volume, struct ws_tree **tree,
                                           struct ws_squashfs_facts *facts, struct ws_error *error);

WS_END

#endif
