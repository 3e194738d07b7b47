/* udf.h — UDF volumes, read into a tree: large install media keep their files on one, beside a stub of ISO 9660.
 *
 * ECMA-167 (3rd edition) as the OSTA Universal Disk Format specification, 1.02 to 2.60, restricts it: plain, sparable,
 * virtual and metadata partitions; blocks of 512 to 4096 bytes.
 */
#ifndef WILD_SATCHEL_UDF_H
#define WILD_SATCHEL_UDF_H

#include "wild_satchel/tree.h"

WS_BEGIN

struct ws_udf_facts {
    char label[128];   /**< the logical volume's identifier */
    uint16_t revision; /**< 0x0102 to 0x0260, as it says; 0: it does not */
    uint32_t block;    /**< bytes */
    uint64_t size;     /**< bytes of its partition */
    int64_t made_at;   /**< seconds since 1970-01-01 UTC; 0: it does not say */
    bool clean;        /**< it was closed properly */
};

/** Is there one, and what does it say? @return WS_E_NOTFOUND if there is none; WS_E_FORMAT for a damaged one */
WS_CHECKED enum ws_status ws_udf_probe(const struct ws_source *volume, struct ws_udf_facts *facts,
                                       struct ws_error *error);
/**
 * Into a tree that borrows `volume`: names, owners, modes, times, links. Named streams are no files and left out.
 * `work` of a file that lies in one piece is the byte of the volume at which it begins.
 * @param facts  may be NULL
 * @return WS_E_FORMAT for damage; WS_E_UNSUPPORTED for what is written in a way not known here
 */
WS_CHECKED enum ws_status ws_udf_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_udf_facts *facts,
                                      struct ws_error *error);

WS_END

#endif
