/* initrd.h — initial RAM disks: what is in one, and which drives it can therefore find a root on.
 *
 * An initial RAM disk is one or more cpio archives of the "newc" kind one after the other, each of them compressed or
 * not (Linux, Documentation/driver-api/early-userspace/buffer-format.rst).
 */
#ifndef WILD_SATCHEL_INITRD_H
#define WILD_SATCHEL_INITRD_H

#include "wild_satchel/tree.h"

WS_BEGIN

/** Drivers by which a drive is found and a root mounted: kernel modules, or built into the kernel. */
enum ws_driver {
    WS_DRIVER_USB_3,       /**< xhci_pci */
    WS_DRIVER_USB_2,       /**< ehci_pci */
    WS_DRIVER_USB_STORAGE, /**< usb_storage: sticks, most enclosures */
    WS_DRIVER_UAS,         /**< uas: faster enclosures */
    WS_DRIVER_DISK,        /**< sd_mod */
    WS_DRIVER_EXT4,
    WS_DRIVER_VFAT,
    WS_DRIVER_EXFAT,
    WS_DRIVER_SQUASHFS,
    WS_DRIVER_OVERLAY,
    WS_DRIVER_LOOP,
    WS_DRIVER_CRYPT, /**< dm_crypt: locked volumes */
    WS_DRIVER_XTS,   /**< xts: how those are enciphered */
    WS_DRIVERS
};
const char *ws_driver_name(enum ws_driver driver); /**< as the module is called: "xhci_pci", ... */

struct ws_initrd_facts {
    char maker[20]; /**< what made it, by its own files: "initramfs-tools", "dracut", "mkinitcpio", "mkinitfs"; or "" */
    uint32_t drivers; /**< bit N: driver N is in it as a module */
    uint32_t modules; /**< kernel modules in all */
    uint32_t files;   /**< names in all */
    uint32_t archives;
    uint64_t unpacked; /**< bytes */
    bool builtin;      /**< it says what its kernel has built in (modules.builtin) */
    uint32_t built_in; /**< bit N: driver N is */
    bool systemd;      /**< systemd starts in it */
    bool cryptsetup;   /**< it can open locked volumes */
    bool askpass;      /**< and has cryptsetup's own program that asks for a passphrase */
};
/**
 * Read one through. Nothing of it is kept: memory does not depend on its size.
 * @return WS_E_NOTFOUND if it does not begin as one does; WS_E_FORMAT if it is damaged or cut short
 */
WS_CHECKED enum ws_status ws_initrd_look(const struct ws_source *initrd, struct ws_initrd_facts *facts,
                                         struct ws_error *error);
enum { WS_WORDS_MOST = 8 };
/** The same, and which words stand in its texts: files of up to 512 KiB that are no programs and no modules.
 *  @param words  at most WS_WORDS_MOST, of at most 63 bytes; `found` gets bit N for word N */
WS_CHECKED enum ws_status ws_initrd_search(const struct ws_source *initrd, const char *const words[], size_t count,
                                           uint32_t *found, struct ws_initrd_facts *facts, struct ws_error *error);
/** One of its texts, or a symbolic link (its target is the text).
 *  @param mode  with the kind of file, as stat(2) has it; `text` ends with a zero byte that `length` does not count */
typedef void (*ws_initrd_text_call)(void *context, const char *path, uint32_t mode, const char *text, size_t length);
/** Every text of it in turn. @return as ws_initrd_look() */
WS_CHECKED enum ws_status ws_initrd_texts(const struct ws_source *initrd, ws_initrd_text_call on_text, void *context,
                                          struct ws_error *error);
/** A set of drivers, bit N standing for driver N, in words with commas. @return `out` */
const char *ws_driver_names(uint32_t drivers, char *out, size_t room);
/** The drivers that a kernel of this version has built in, as the root's lib/modules/VERSION/modules.builtin says.
 *  @return WS_E_NOTFOUND if the root does not say */
WS_CHECKED enum ws_status ws_drivers_built_in(const struct ws_tree *root, const char *version, uint32_t *drivers,
                                              struct ws_error *error);

WS_END

#endif
