/* start.h — start-up code of our own: the entries it shows, and the code itself put on a drive.
 *
 * Entries have the form of the Boot Loader Specification, type 1: one text file each in /loader/entries. They are made
 * from the image's own menus, whichever loader those were written for, and both the BIOS and the UEFI code read them.
 */
#ifndef WILD_SATCHEL_START_H
#define WILD_SATCHEL_START_H

#include "wild_satchel/live.h"
#include "wild_satchel/table.h"

WS_BEGIN

enum { WS_TITLE_ROOM = 160, WS_INITRDS_MOST = 8, WS_START_ENTRIES_MOST = 512 };

/** What is compared with the drive's checksum list before a kernel runs. */
enum ws_check_at_start {
    WS_CHECK_OFF,
    WS_CHECK_QUICK, /**< kernel and initial RAM disks */
    WS_CHECK_FULL   /**< the system image, too */
};
const char *ws_check_name(enum ws_check_at_start check); /**< "off", "quick", "full" */

/** One entry. Paths begin with "/", at the root of the volume the entries stand on. */
struct ws_start_entry {
    char title[WS_TITLE_ROOM];
    char linux_path[256];
    bool efi; /**< that is no kernel, but a UEFI program, which finds the other files of its volume itself */
    char initrd[WS_INITRDS_MOST][256];
    unsigned initrds;
    char options[2048];
    bool remembers; /**< made to remember; a forgetful twin follows */
};
struct ws_start_entries {
    struct ws_start_entry *entry; /**< owned */
    size_t count;
};
void ws_start_entries_free(struct ws_start_entries *entries);

/**
 * The entries of a medium, from its GRUB menus if there are such, else from those of syslinux: each that starts a
 * kernel of `family`, once. Variables are put in, folders of menus counted, paths written as the tree has them.
 * The one that starts by itself comes first, told to remember with `parameters`, then its forgetful twin.
 * @param family      whose entries, and what it wants dropped is dropped; NULL: all that start a kernel
 * @param parameters  NULL: nothing remembers, and there is no twin
 * @return WS_E_NOTFOUND if there is none; findings tell entries whose files are missing
 */
WS_CHECKED enum ws_status ws_start_entries_of(const struct ws_tree *tree, const struct ws_live_family *family,
                                              const char *parameters, struct ws_start_entries *entries,
                                              struct ws_findings *findings, struct ws_error *error);

/** The files of a volume's /loader folder put into its tree: entries, settings, and with a check the list.
 *  @param base  where that folder stands: "" for a volume of files, "/boot" for a root file system
 *  @param check_paths  further files the list names (the system image), NULL-terminated; may be NULL
 *  @param timeout_s    seconds the menu waits */
WS_CHECKED enum ws_status ws_start_entries_put(struct ws_tree *tree, const char *base,
                                               const struct ws_start_entries *entries, enum ws_check_at_start check,
                                               const char *const check_paths[], unsigned timeout_s, int64_t made_at,
                                               struct ws_error *error);

/** Where the BIOS code's second stage stands: between table and first partition. */
#define WS_START_STAGE_AT (64 * 512ull)
/** Bytes from there that are the second stage's. */
uint64_t ws_start_stage_bytes(void);
/** BIOS: the first stage into the table's sector 0, the second into the layout. Sectors of 512 bytes.
 *  @return WS_E_SPACE if a partition begins before the second stage ends */
WS_CHECKED enum ws_status ws_start_add_bios(struct ws_table *table, struct ws_layout *layout, struct ws_error *error);
/** Is the start-up code in this sector 0 ours? */
bool ws_start_is_ours(const uint8_t sector[512]);
/** Is the second stage, where this drive's first one looks for it, what was written? The first stage asks the same. */
bool ws_start_stage_is_sound(const struct ws_source *drive);
/** Is this UEFI program ours? */
bool ws_start_program_is_ours(const struct ws_source *program);
/** Where the firmware of x86-64 PCs looks for a program on removable drives (UEFI Specification 2.10, section 3.5.1.1).
 */
#define WS_UEFI_PROGRAM_PATH "EFI/BOOT/BOOTX64.EFI"
/** UEFI: the program for that place. Not signed. */
const uint8_t *ws_start_uefi_program(size_t *length);

/** What the start-up code does with a drive when a PC runs it. */
struct ws_rehearsal {
    /* given */
    const char *firmware; /**< "BIOS" or "UEFI" */
    uint32_t sector;      /**< bytes */
    const uint16_t *keys; /**< pressed one after the other, each when the menu waits for one; may be NULL */
    size_t keys_count;
    bool only_choose; /**< nothing is checked or loaded: which entry would start? */
    /** Whole sectors of the drive changed as a PC would change them: an entry that has not proved itself has one try
     *  less (docs/start-code.md). NULL: none is, and `drive` stays as it is. */
    enum ws_status (*write)(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error);
    void *write_context;
    /* found; free with ws_rehearsal_free() */
    struct ws_text console; /**< as it stands on the screen at the end */
    bool starts;            /**< a kernel was handed over to */
    struct ws_start_entry entry;
    uint64_t kernel_bytes, initrd_bytes;
    char initrd_sha256[WS_HASH_HEX]; /**< of what the kernel gets: all of them, each filled up to four bytes */
};
/**
 * Run the common part of the start-up code over a drive's bytes, to the point where a kernel would take over: the very
 * lines that a PC runs. Time passes at once; a menu that waits for ever is switched off.
 * @return WS_OK whether it starts or not; WS_E_NOMEM
 */
WS_CHECKED enum ws_status ws_start_rehearse(const struct ws_source *drive, struct ws_rehearsal *rehearsal,
                                            struct ws_error *error);
void ws_rehearsal_free(struct ws_rehearsal *rehearsal);

WS_END

#endif
