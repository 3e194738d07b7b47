/* demo_image.h — a small live image with real structures, made by our own composers: for the demo and the tests.
 *
 * It does not run on a PC: its kernel, loaders and start-up code are stand-ins with genuine headers. Everything the
 * library looks at is real: ISO 9660 with Rock Ridge and Joliet, El Torito, hybrid tables, an EFI start image, menus,
 * checksum lists, a root file system.
 */
#ifndef DEMO_IMAGE_H
#define DEMO_IMAGE_H

#include "wild_satchel/wild_satchel.h"

enum demo_table { DEMO_MBR, DEMO_GPT, DEMO_HYBRID, DEMO_MBR_FIRST, DEMO_NO_TABLE };

struct demo_params {
    const char *family; /**< "live-boot", "casper", "casper-old", "dracut"; NULL: a system nobody knows */
    enum demo_table table;
    bool unsigned_loader;
    bool full_menus;                /**< the menus fill their last sector: edited text has to move */
    bool crowded_mbr;               /**< no MBR entry is free */
    size_t esp_menu;                /**< bytes of a menu inside the EFI start image, at least 300; 0: none */
    const char *grub_text;          /**< instead of the usual menu; NULL for the usual one */
    uint64_t ballast;               /**< bytes of filler, to make a larger image */
    const char *volume_id;          /**< NULL: CURLEW_LIVE_12 */
    const struct ws_source *initrd; /**< borrowed; NULL: one that can remember as its family does */
    bool newer;                     /**< what came a year later, Curlew Live 13 */
};

/** Everything a demo image borrows, held together. */
struct demo_image {
    struct ws_tree *tree, *esp_tree, *root_tree;
    struct ws_layout *esp, *root, *layout;
    struct ws_source *esp_source, *root_source, *ballast;
    struct ws_ext4_geometry root_geometry;
    struct ws_source *source; /**< the image, to be read */
    uint64_t esp_at, esp_length, bios_at;
};
enum ws_status demo_image_make(const struct demo_params *params, struct demo_image *image, struct ws_error *error);
void demo_image_free(struct demo_image *image);

/** The disk of the survey's office PC: an EFI partition, a system that an installer put there, swap; 64 GiB, hardly any
 *  of it used. @param later  some days later: a file has changed, and one is new */
enum ws_status demo_office_make(bool later, struct demo_image *image, struct ws_error *error);

/** The hybrid tables of an image that is about to be put into `layout`: sector 0 (start-up code, MBR) and a GPT.
 *  @param code  432 bytes of start-up code */
enum ws_status hybrid_table(enum demo_table kind, const uint8_t code[432], uint64_t bios_at, uint64_t esp_at,
                            uint64_t esp_length, uint64_t size, bool crowded, struct ws_layout *layout,
                            struct ws_error *error);

#endif
