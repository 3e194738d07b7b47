/* image.h — what an image is, where it starts, and how it remembers. */
#ifndef WILD_SATCHEL_IMAGE_H
#define WILD_SATCHEL_IMAGE_H

#include "wild_satchel/archive.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/live.h"
#include "wild_satchel/table.h"

WS_BEGIN

enum ws_image_kind {
    WS_IMAGE_HYBRID,     /**< ISO 9660 with a partition table: starts from discs and drives alike */
    WS_IMAGE_DISC,       /**< ISO 9660 without one: laid down whole it does not start from a drive */
    WS_IMAGE_DRIVE,      /**< no ISO 9660, but a partition table: an image of a drive */
    WS_IMAGE_COMPRESSED, /**< one compressed image: unpack it and look again */
    WS_IMAGE_ARCHIVE,    /**< an archive of files */
    WS_IMAGE_FOLDER,     /**< a folder of files */
    WS_IMAGE_ROOT,       /**< a squashfs volume: the root of a system */
    WS_IMAGE_UNKNOWN
};
const char *ws_image_kind_name(enum ws_image_kind kind); /**< "hybrid", "disc", "drive", "compressed", ... */

/** A UEFI start program found on the image. */
struct ws_loader {
    char path[128];
    char machine[16]; /**< "x86-64", "x86", "arm64", ... */
    bool signed_;     /**< carries a signature */
    char signer[96];  /**< the certificate's name; empty if it could not be read */
    char issuer[96];
};
enum { WS_LOADERS_MOST = 8 };

struct ws_image {
    const struct ws_source *source; /**< NULL for a folder */
    enum ws_image_kind kind;
    struct ws_table table;
    struct ws_iso *iso;                  /**< NULL if it is no ISO 9660 image */
    const struct ws_live_family *family; /**< NULL if none is known */
    bool starts_bios, starts_uefi;       /**< from a drive */
    bool starts_bios_disc, starts_uefi_disc;
    bool secure_boot; /**< a signed x86-64 loader is there */
    struct ws_loader loader[WS_LOADERS_MOST];
    size_t loaders;
    struct ws_fat_facts esp;       /**< of the EFI partition or start image; bits 0 if there is none */
    bool udf;                      /**< a UDF volume beside the ISO 9660 one ("bridge") */
    struct ws_packed_facts packed; /**< compressed images and archives */
    uint64_t files, file_bytes;    /**< on the medium or in the archive */
    uint64_t large_files;          /**< of these, too large for FAT */
    uint64_t largest_bytes;        /**< the largest of those */
    char largest_path[128];
    bool kernels_32, kernels_64;          /**< what the kernels of its menus run on */
    char root_path[128], root_format[32]; /**< its root file system; empty if not found */
    uint64_t root_bytes;                  /**< as it lies on the medium */
    size_t menus, live_entries, remembering_entries;
    char default_title[512], default_parameters[4096];
    struct ws_findings findings;
    struct ws_findings findings_whole; /**< what matters only when it is laid down whole, as it is */
};

/** Find out all of this. The result borrows `source`.
 *  @return WS_E_FORMAT for a damaged or truncated image; WS_OK with kind unknown for anything else */
WS_CHECKED enum ws_status ws_image_inspect(const struct ws_source *source, struct ws_image *image,
                                           struct ws_error *error);
/** The same for files that lie in a folder or archive; the result borrows nothing. `source` stays NULL. */
WS_CHECKED enum ws_status ws_image_inspect_files(const struct ws_tree *tree, struct ws_image *image,
                                                 struct ws_error *error);
/** Is it known how it remembers, and is there a menu to tell it? */
bool ws_image_remembers(const struct ws_image *image);
/** Is there anything among its files that starts a PC: a kernel in a menu, or a UEFI loader? */
bool ws_image_files_start(const struct ws_image *image);
void ws_image_free(struct ws_image *image);

/** Where the EFI system partition of a drive or image of `size` bytes stands: by the partition table, else by El
 * Torito.
 *  @param iso  may be NULL @return false if there is none */
bool ws_esp_place(const struct ws_table *table, const struct ws_iso_facts *iso, uint64_t size, uint64_t *at,
                  uint64_t *length);
/** The EFI system partition of a drive or image as a FAT tree: by the partition table, else by El Torito.
 *  @return WS_E_NOTFOUND if there is none. Close the tree before the slice. */
WS_CHECKED enum ws_status ws_esp_read(const struct ws_source *source, const struct ws_table *table,
                                      const struct ws_iso_facts *iso, struct ws_source **slice, struct ws_tree **tree,
                                      struct ws_fat_facts *facts, struct ws_error *error);
/** An EFI start volume that lies among a medium's files, as /boot/grub/efi.img does where a disc image was unpacked, as
 * a tree; it borrows the file's content. @param file  out: which file it is; may be NULL @return false if there is none
 */
bool ws_esp_among_files(const struct ws_tree *medium, struct ws_tree **esp, const struct ws_node **file);
/** Look at a UEFI program. PE/COFF specification, sections 3 and 4. @return false if it is none */
bool ws_loader_look(const struct ws_source *content, struct ws_loader *loader);

/** Compare with a published checksum: 32, 40, 64 or 128 hexadecimal digits. @return WS_E_DIFFERENT with both texts */
WS_CHECKED enum ws_status ws_image_compare(const struct ws_source *source, const char *published, char hex[WS_HASH_HEX],
                                           struct ws_error *error);

WS_END

#endif
