/* image.h — what an image is, where it starts, and how it remembers. */
#ifndef WILD_SATCHEL_IMAGE_H
#define WILD_SATCHEL_IMAGE_H

#include "wild_satchel/fat.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/live.h"
#include "wild_satchel/table.h"

enum ws_image_kind {
    WS_IMAGE_HYBRID, /**< ISO 9660 with a partition table: starts from discs and drives alike */
    WS_IMAGE_DISC,   /**< ISO 9660 without one: laid down whole it does not start from a drive */
    WS_IMAGE_DRIVE,  /**< no ISO 9660, but a partition table: an image of a drive */
    WS_IMAGE_UNKNOWN
};
const char *ws_image_kind_name(enum ws_image_kind kind); /**< "hybrid", "disc", "drive", "unknown" */

/** A UEFI start program found on the image. */
struct ws_loader {
    char path[128];
    char machine[16]; /**< "x86-64", "x86", "arm64", ... */
    bool signed_;     /**< carries a signature (not whose) */
};
enum { WS_LOADERS_MOST = 8 };

struct ws_image {
    const struct ws_source *source;
    enum ws_image_kind kind;
    struct ws_table table;
    struct ws_iso *iso;                  /**< NULL if it is no ISO 9660 image */
    const struct ws_live_family *family; /**< NULL if none is known */
    bool starts_bios, starts_uefi;       /**< from a drive */
    bool starts_bios_disc, starts_uefi_disc;
    bool secure_boot; /**< a signed x86-64 loader is there */
    struct ws_loader loader[WS_LOADERS_MOST];
    size_t loaders;
    struct ws_fat_facts esp; /**< of the EFI partition or start image; bits 0 if there is none */
    size_t menus, live_entries, remembering_entries;
    char default_title[160], default_parameters[1024];
    struct ws_findings findings;
};

/** Find out all of this. The result borrows `source`.
 *  @return WS_E_FORMAT for a damaged or truncated image; WS_OK with kind unknown for anything else */
enum ws_status ws_image_inspect(const struct ws_source *source, struct ws_image *image, struct ws_error *error);
void ws_image_free(struct ws_image *image);

/** The EFI system partition of a drive or image as a FAT tree: by the partition table, else by El Torito.
 *  @return WS_E_NOTFOUND if there is none. Close the tree before the slice. */
enum ws_status ws_esp_read(const struct ws_source *source, const struct ws_table *table, const struct ws_iso_facts *iso,
                           struct ws_source **slice, struct ws_tree **tree, struct ws_fat_facts *facts,
                           struct ws_error *error);
/** Look at a UEFI program. PE/COFF specification, sections 3 and 4. @return false if it is none */
bool ws_loader_look(const struct ws_source *content, struct ws_loader *loader);

/** Compare with a published checksum: 32, 40, 64 or 128 hexadecimal digits. @return WS_E_DIFFERENT with both texts */
enum ws_status ws_image_compare(const struct ws_source *source, const char *published, char hex[WS_HASH_HEX],
                                struct ws_error *error);

#endif
