/* iso9660.h — ISO 9660 images: read into a tree, changed in place, and composed from a tree.
 *
 * ECMA-119 (ISO 9660), Joliet (ECMA-119 supplementary descriptors with UCS-2 names), the System Use Sharing Protocol
 * and Rock Ridge Interchange Protocol 1.12 (IEEE P1281 and P1282), El Torito 1.0.
 */
#ifndef WILD_SATCHEL_ISO9660_H
#define WILD_SATCHEL_ISO9660_H

#include "wild_satchel/layout.h"
#include "wild_satchel/tree.h"

WS_BEGIN

enum { WS_ISO_SECTOR = 2048, WS_ISO_BOOTS_MOST = 16 };

/** One El Torito entry. */
struct ws_iso_boot {
    uint8_t platform; /**< 0x00 BIOS on x86, 0xEF UEFI */
    bool bootable;
    uint8_t emulation; /**< 0: none */
    uint64_t at;       /**< byte of the start image */
    uint64_t length;   /**< bytes: of the file that stands there, else as the catalogue says */
};

struct ws_iso_facts {
    char volume_id[33], system_id[33], publisher[129], application[129];
    char uuid[24];   /**< as systems write it: the time of its last change (ECMA-119, 8.4.27); empty if not said */
    int64_t made_at; /**< seconds since 1970-01-01 UTC; 0 if not said */
    uint64_t size;   /**< bytes the volume claims (its descriptor's volume space) */
    bool rock_ridge, joliet;
    bool udf, udf_holds_more; /**< a UDF volume beside it, or alone; its files are the tree then, if they are more,
                                   or have names where the others are cut ones */
    bool implanted_check;     /**< the descriptor's application area holds a checksum of the medium */
    struct ws_iso_boot boot[WS_ISO_BOOTS_MOST];
    size_t boots;
};

struct ws_iso;

/**
 * Open an image (or a drive that holds one) and read all its folders: Rock Ridge names where there are any, else
 * Joliet's, else plain ones. The result borrows `source`.
 * @return WS_E_NOTFOUND if it is no ISO 9660 image; WS_E_FORMAT if it is damaged or shorter than it says
 */
WS_CHECKED enum ws_status ws_iso_open(const struct ws_source *source, struct ws_iso **iso, struct ws_error *error);
void ws_iso_close(struct ws_iso *iso);
const struct ws_iso_facts *ws_iso_facts(const struct ws_iso *iso);
struct ws_tree *ws_iso_tree(const struct ws_iso *iso);

/** How a file's new content found its place. */
enum ws_iso_place {
    WS_ISO_IN_PLACE, /**< inside the sectors the file already had */
    WS_ISO_BEHIND    /**< in new sectors at the end: the volume grew */
};

/**
 * Give a file new content, as changes laid over a patched source of the image. Every directory record that shows
 * the file, in the primary and the Joliet tree, is corrected.
 * @param node  of this image's tree
 * @param end   in: byte where new sectors may be taken (a multiple of 2048); out: moved past them. NULL forbids
 * growing.
 * @return WS_E_SPACE if it does not fit and growing is forbidden; WS_E_UNSUPPORTED for a file in several extents
 */
WS_CHECKED enum ws_status ws_iso_replace(struct ws_iso *iso, struct ws_source *patched, const struct ws_node *node,
                                         const void *bytes, size_t length, uint64_t *end, enum ws_iso_place *place,
                                         struct ws_error *error);
/** State a new volume size in the primary and supplementary descriptors. @param size bytes, a multiple of 2048 */
WS_CHECKED enum ws_status ws_iso_resize(struct ws_iso *iso, struct ws_source *patched, uint64_t size,
                                        struct ws_error *error);
/** Byte position of a file's first extent; 0 for an empty one. */
uint64_t ws_iso_place_of(const struct ws_node *node);

struct ws_iso_params {
    char volume_id[33];
    char publisher[129];
    char application[129];
    int64_t made_at;
    const char *bios_path; /**< start image for BIOS, loaded without emulation, or NULL; gets its boot information */
    const char *efi_path;  /**< FAT image for UEFI, or NULL */
};
/**
 * Compose an image with Rock Ridge and Joliet. The first 32 KiB are left to the caller (partition table).
 * @param size  out: bytes of the volume. The layout must be at least as large; call with layout NULL to learn it.
 * @param tree  its scratch fields are used: after the call each file's `work` is the byte where its content stands
 */
WS_CHECKED enum ws_status ws_iso_compose(const struct ws_iso_params *params, struct ws_tree *tree,
                                         struct ws_layout *layout, uint64_t *size, struct ws_error *error);

WS_END

#endif
