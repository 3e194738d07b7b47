/* system.h — root file systems: what one is, and what becomes a full system on a drive.
 *
 * A root is read from an ext4 volume, a squashfs, or the live image that carries one of them. Nothing of its code is
 * run: what it is follows from its files.
 */
#ifndef WILD_SATCHEL_SYSTEM_H
#define WILD_SATCHEL_SYSTEM_H

#include "wild_satchel/image.h"
#include "wild_satchel/initrd.h"
#include "wild_satchel/owner.h"
#include "wild_satchel/password.h"
#include "wild_satchel/start.h"

WS_BEGIN

/** What the kernel starts first. */
enum ws_init { WS_INIT_UNKNOWN, WS_INIT_SYSTEMD, WS_INIT_SYSV, WS_INIT_OPENRC, WS_INIT_RUNIT, WS_INIT_BUSYBOX };
const char *ws_init_name(enum ws_init init); /**< "unknown", "systemd", "sysv", "openrc", "runit", "busybox" */

enum { WS_KERNELS_MOST = 16, WS_UNLOCK_ROOM = 160 };
/** A kernel in /boot with its initial RAM disk, which goes by the same version. */
struct ws_kernel {
    char version[96]; /**< as its file name has it */
    char path[256];   /**< from the root's top: "/boot/vmlinuz-6.1" */
    char initrd[256]; /**< empty: there is none */
    /* see ws_kernel_look() */
    bool known;                    /**< its initial RAM disk was read */
    struct ws_initrd_facts inside; /**< what is in it */
    uint32_t built_in;             /**< drivers in the kernel itself, where the root says; bit N: driver N */
    bool built_in_known;
};

struct ws_system_facts {
    char name[WS_TITLE_ROOM]; /**< os-release's PRETTY_NAME (os-release(5)); empty if it does not say */
    char id[48];              /**< its ID; empty if it does not say */
    char version[48];         /**< its VERSION_ID */
    char machine[16]; /**< what its programs are made for: "x86-64", "x86", "ARM64", ...; empty: cannot be told */
    enum ws_init init;
    char leftovers[100]; /**< names of what only a live system needs, with commas; empty: it was none */
    struct ws_kernel kernel[WS_KERNELS_MOST]; /**< the newest first */
    size_t kernels;
    size_t left_out; /**< further ones behind those, known not to find their root: no entries of a menu */
};
/** What a root is. @return WS_E_NOTFOUND if nothing in it looks like the root of a system */
WS_CHECKED enum ws_status ws_system_look(const struct ws_tree *root, struct ws_system_facts *facts,
                                         struct ws_error *error);

/** Read a kernel's initial RAM disk. What cannot be read stays unknown, and `error` says why.
 *  @return WS_E_NOTFOUND, WS_E_FORMAT; the facts hold what is known all the same */
WS_CHECKED enum ws_status ws_kernel_look(const struct ws_tree *root, struct ws_kernel *kernel, struct ws_error *error);
/** Drivers without which it does not find its root on a USB drive with ext4, and which it is known not to have. */
uint32_t ws_kernel_lacks(const struct ws_kernel *kernel);
/** Those that it is not known to have. */
uint32_t ws_kernel_unsure(const struct ws_kernel *kernel);
/**
 * Give its initial RAM disk what it is known to lack, out of the root: drivers for USB drives, of whatever speed, and
 * what they need. They go into an archive behind it, taken in by a hook of its own scripts; the root's settings have a
 * later one made for any PC. Of one that was looked at before; look at it again afterwards.
 * @param added  bit N: driver N; 0 where nothing is missing, the root has no such driver, or its maker's scripts are
 *               not known here
 * @return WS_E_FORMAT for a damaged driver, WS_E_NOTFOUND for one that the root's list names and it lacks; WS_E_READ
 */
WS_CHECKED enum ws_status ws_kernel_add_drivers(struct ws_tree *root, const struct ws_kernel *kernel, int64_t made_at,
                                                uint32_t *added, struct ws_error *error);

/** Why a kernel could not open a locked root: its initial RAM disk has to ask for the passphrase, and must be known to.
 *  @return NULL if it can */
const char *ws_kernel_cannot_unlock(const struct ws_kernel *kernel);
/** What such a kernel is told, and what /etc/crypttab has to say: by what made its initial RAM disk.
 *  @param uuid  of the locked volume */
void ws_unlock_words(const struct ws_kernel *kernel, const char *uuid, char parameters[WS_UNLOCK_ROOM],
                     char crypttab[WS_UNLOCK_ROOM]);

/** Kernel parameters behind those words, whichever made them. */
const char *ws_past_unlock_words(const char *parameters);

/** Why a kernel could not find its root in a file of an ordinary volume: it needs the driver loop, and an initial RAM
 * disk that is known to take such a disk for its root. @param root  where its drivers are @return NULL if it can */
const char *ws_kernel_cannot_stand_inside(const struct ws_tree *root, const struct ws_kernel *kernel);
/** The path in a root of the small initial RAM disk that finds that file for this kernel. */
const char *ws_inside_initrd(const char *version, char out[192]);
#define WS_INSIDE_FILE "system.ext4"      /**< what the file is called; people may rename it, but for its end */
#define WS_INSIDE_PROGRAM "/start-inside" /**< in that initial RAM disk, and started first: "rdinit=/start-inside" */

/** The file at `path` of a root, symbolic links followed as the running system would; NULL if it is not there. */
struct ws_node *ws_system_find(const struct ws_tree *root, const char *path);

/** Versions as people count them: runs of digits by their number. @return less than, equal to or above 0 */
int ws_version_compare(const char *a, const char *b);

enum { WS_LAYERS_MOST = 16, WS_EDITIONS_MOST = 16, WS_EDITION_ROOM = 64 };
/** A root that a live image offers. */
struct ws_edition {
    char id[WS_EDITION_ROOM]; /**< by which it is chosen; empty: the image has but one */
    char name[WS_TITLE_ROOM]; /**< as the image calls it; may be empty */
    bool is_default;
    const struct ws_node *layer[WS_LAYERS_MOST]; /**< of the medium, each laid over those before it */
    size_t layers;
    uint64_t bytes; /**< of its layers, as they lie on the medium */
};
struct ws_editions {
    struct ws_edition edition[WS_EDITIONS_MOST];
    size_t count;
};
/** What a live image offers: by its list of what can be installed, by its layers' names, else its one root. */
void ws_editions_look(const struct ws_tree *medium, struct ws_editions *editions);
/** The one with this id; of an empty one the default, or the only one.
 *  @return NULL if there is none: WS_E_NOTFOUND, or WS_E_USAGE naming those that are there */
const struct ws_edition *ws_edition_find(const struct ws_editions *editions, const char *id, struct ws_error *error);

/** A root opened, and all that its tree borrows. Zero-initialise. */
struct ws_root {
    struct ws_tree *tree;                  /**< owned; may be taken over: set it to NULL, and close the rest after it */
    struct ws_tree *outer;                 /**< of a squashfs that holds an image of the root */
    struct ws_tree *layer[WS_LAYERS_MOST]; /**< those laid over the first */
    size_t layers;
    char where[256];                  /**< its path inside a live image; empty: the input is the root itself */
    char edition[WS_EDITION_ROOM];    /**< which of several it is; empty: there is but one */
    char edition_name[WS_TITLE_ROOM]; /**< as the image calls it */
};
/**
 * @param input    ext4 volume, squashfs, or any bytes if `medium` is given
 * @param medium   a live image's files, which are looked through first; may be NULL
 * @param edition  which of several roots; empty or NULL: the image's default
 * @return WS_E_NOTFOUND if there is no root in it; WS_E_FORMAT for a damaged one; WS_E_USAGE for an edition that is not
 *         there, or must be chosen
 */
WS_CHECKED enum ws_status ws_root_open(const struct ws_source *input, const struct ws_tree *medium, const char *edition,
                                       struct ws_root *root, struct ws_error *error);
void ws_root_close(struct ws_root *root);

/** One of the user's own files, for a root. */
struct ws_own_file {
    enum ws_added what;
    const char *to;                 /**< an absolute path, or an account; else "" */
    const char *name;               /**< of the file it comes from, without its folder */
    const struct ws_source *source; /**< outlives the root's tree; may be NULL for ws_own_file_check() */
    bool runs, of_files;            /**< see struct ws_addition (request.h) */
};
/** Can this be added to a system of this owner?
 *  @return WS_E_USAGE for a place that is none or that the plan makes itself, an account that is not asked for, or a
 *          network's settings of no known kind */
WS_CHECKED enum ws_status ws_own_file_check(const struct ws_own_file *file, const struct ws_owner *owner,
                                            struct ws_error *error);

/** What a system is told of the drive it stands on. */
struct ws_settling {
    char root_uuid[48], start_id[24], swap_uuid[48]; /**< as fstab writes them; swap empty: none */
    const char *options;                             /**< further kernel parameters; "" for none */
    unsigned menu_seconds;
    int64_t made_at;
    char boot_uuid[48];             /**< /boot is a volume of its own; empty: it is not */
    char lock_uuid[48];             /**< of the locked volume that the root is in; empty: it is in none */
    char table_id[40];              /**< of the drive's partition table: "01234567", or a GUID */
    char host_id[24];               /**< the root is a file on this FAT or exFAT volume; empty: it is in none */
    const char *host_type;          /**< as fstab has it: "exfat", "vfat" */
    bool grows;                     /**< at each start it takes the room of a larger drive */
    bool grew;                      /**< the system before it did: where this one cannot, that is only said */
    bool journal;                   /**< it notes each of its starts, see journal.h */
    bool chain;                     /**< its own loaders start it, too: they want a menu at WS_CHAIN_MENU */
    const struct ws_owner *owner;   /**< checked: see ws_owner_check() */
    const struct ws_own_file *file; /**< checked: see ws_own_file_check() */
    size_t files;
};
/** What became of a root that was made its owner's. */
struct ws_owned {
    struct ws_source *shadow; /**< the list of password hashes, a patched source that belongs to the tree; NULL: no
                                 account is made */
    struct ws_owned_password {
        char account[WS_ACCOUNT_ROOM];
        enum ws_password_hash hash;
        uint64_t at; /**< where its hash has to go in `shadow`; what stands there lets nobody in */
    } password[WS_ACCOUNTS_MOST];
    size_t passwords;
    enum ws_internal_disks internal_disks;
};
/** Make a root at home on its drive: fstab, start entries in /boot/loader, an identity of its own at first start; and
 * its owner's. What cannot be done for this root is a finding, or refused where it would be missed too late.
 *  @return WS_E_UNSUPPORTED if it has no kernel, or not what the owner asks for; WS_E_USAGE for names it has already */
WS_CHECKED enum ws_status ws_system_settle(struct ws_tree *root, const struct ws_system_facts *facts,
                                           const struct ws_settling *settling, struct ws_owned *owned,
                                           struct ws_findings *findings, struct ws_error *error);
/** Start entries alone, for a system that came with another loader: in /boot/loader, kept true by its own hooks.
 *  @return WS_E_UNSUPPORTED if it has no kernel */
WS_CHECKED enum ws_status ws_system_make_entries(struct ws_tree *root, const struct ws_system_facts *facts,
                                                 const struct ws_settling *settling, struct ws_findings *findings,
                                                 struct ws_error *error);
/** Have it make a host identity of its own at its next start: machine id, seeds, host keys. */
WS_CHECKED enum ws_status ws_system_new_host(struct ws_tree *root, const struct ws_system_facts *facts, int64_t made_at,
                                             struct ws_findings *findings, struct ws_error *error);
/** A root's own signed loaders: firmware starts the first, which starts the second, which reads a menu. */
enum { WS_CHAIN_PREFIX = 64 };
#define WS_CHAIN_MENU "/boot/loader/menu.cfg"  /**< in the root */
#define WS_CHAIN_MENU_APART "/loader/menu.cfg" /**< where /boot is a volume of its own */
struct ws_chain {
    const struct ws_node *first, *second, *keys; /**< of the root; `keys`, where people enrol keys, may be NULL */
    const char *second_name;                     /**< by which the first looks for it beside itself */
    char prefix[WS_CHAIN_PREFIX];                /**< the folder in which the second looks for its menu */
    struct ws_loader loader;                     /**< what the first is, and who signed it */
};
/** @return false if the root brings none for x86-64 of which all this is known */
bool ws_chain_find(const struct ws_tree *root, struct ws_chain *chain);
/** The same, of a volume that firmware reads: some distributions keep them nowhere else. */
bool ws_chain_find_on_start(const struct ws_tree *start, struct ws_chain *chain);
/** Lay them down on a start volume, with a menu that leads to the one on the volume `uuid`, at `menu` there. The
 * content is the root's. */
WS_CHECKED enum ws_status ws_chain_put(struct ws_tree *start, const struct ws_chain *chain, const char *uuid,
                                       const char *menu, int64_t made_at, struct ws_error *error);
/** Can its menu say these kernel parameters as they are? */
bool ws_chain_can_say(const char *options);
/** The menu's text. */
WS_CHECKED enum ws_status ws_chain_menu(const struct ws_start_entries *entries, unsigned seconds, struct ws_text *out,
                                        struct ws_error *error);
/** What such loaders on a drive would start.
 *  @param kernel_signed  out: the kernel carries a signature of its own, as Secure Boot wants it
 *  @return WS_E_NOTFOUND where the way ends, with the reason */
WS_CHECKED enum ws_status ws_chain_follow(const struct ws_source *drive, const struct ws_table *table,
                                          struct ws_menu_entry *entry, bool *kernel_signed, struct ws_error *error);

/** Where on a drive the root volume lies that kernel parameters name ("root=UUID=...").
 *  @return WS_E_NOTFOUND if they name none, or one that is not on this drive: the error says which; WS_E_UNSUPPORTED if
 *          it is inside a locked volume, whose place is given */
WS_CHECKED enum ws_status ws_system_volume(const struct ws_source *drive, const struct ws_table *table,
                                           const char *parameters, uint64_t *at, uint64_t *length,
                                           struct ws_error *error);
/** Does a system made here take the room of a larger drive (see struct ws_settling)? */
bool ws_system_grows(const struct ws_tree *root);
/** A root that brings no kernel gets the one its live medium starts it with. */
WS_CHECKED enum ws_status ws_system_adopt_kernel(struct ws_tree *root, const struct ws_tree *medium,
                                                 struct ws_error *error);

WS_END

#endif
