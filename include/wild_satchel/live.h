/* live.h — how live systems remember: their conventions as data, and their start menus edited.
 *
 * The conventions are those of the systems' own start scripts (live-boot, casper, dracut's live modules): a volume with
 * an agreed label is used for changes only when the start menu passes an agreed kernel parameter.
 */
#ifndef WILD_SATCHEL_LIVE_H
#define WILD_SATCHEL_LIVE_H

#include "wild_satchel/tree.h"

WS_BEGIN

/** One family of live systems. */
struct ws_live_family {
    const char *word;       /**< as plans and options name it */
    const char *title;      /**< for people */
    const char *folder;     /**< on the medium: holds the system's root image */
    const char *signs[4];   /**< kernel parameters one of which starts this family; a trailing '=' or ':' is a prefix */
    const char *label;      /**< of the persistence volume */
    const char *parameters; /**< to add, separated by spaces; without them everything is forgotten */
    const char *drop[6];    /**< parameters that would get in the way; a trailing '=' is a prefix */
    const char *config_path, *config_text; /**< a file the volume must hold, or NULL */
    const char *folders[3];                /**< folders the volume must hold */
    const char *changes;                   /**< folder of the volume in which changes to / appear */
    const char *work;                      /**< folder the kernel's overlay works in, beside it */
    const char *roots[4];                  /**< where the root image may be */
    const char *overlay_file; /**< at the top of a FAT volume: a file used like that volume; NULL: not known to work */
    /** As `parameters`, where changes are kept in that file; "{label}" stands for the label of the volume it lies on.
     *  NULL: the same. */
    const char *file_parameters;
    bool overlay_beside;         /**< it may lie on the medium's own volume */
    const char *lock_parameters; /**< those that make it open a locked volume, besides `parameters`; NULL: it cannot */
    const char *script_word;     /**< its scripts in the initial RAM disk are known by it; NULL: it is not known */
    const char *release_before;  /**< used when the medium names an older release than this ("19.10"), else NULL */
};

/** All families known, in the order in which they are tried; `count` receives how many. */
const struct ws_live_family *ws_live_families(size_t *count);
const struct ws_live_family *ws_live_family_find(const char *word); /**< NULL if unknown */
/** The family whose sign stands among these kernel parameters, or NULL. */
const struct ws_live_family *ws_live_family_of_parameters(const char *parameters);
/** Do these kernel parameters start this family? */
bool ws_live_family_starts(const struct ws_live_family *family, const char *parameters);

enum { WS_FAMILY_TEXT = 4096 };
/** A family described by a document (docs/family-format.md). It points into itself, so it is not to be copied. */
struct ws_own_family {
    struct ws_live_family family;
    char document[WS_FAMILY_TEXT]; /**< as it was read; empty: none */
    char words[WS_FAMILY_TEXT];    /**< what `family` points to */
};
/** @return WS_E_FORMAT naming the key, WS_E_UNSUPPORTED for a newer version; `own` is then empty */
WS_CHECKED enum ws_status ws_own_family_read(const char *text, size_t length, struct ws_own_family *own,
                                             struct ws_error *error);
/** Where drives laid down file by file carry the description of their family. */
#define WS_OWN_FAMILY_PATH "loader/satchel.family"

/** The family of a medium: as it describes it itself, else by the parameters of its start menus, else by its folders.
 *  @param own  room for a family that the medium describes; NULL: such are not looked for
 *  @return NULL if none is known */
const struct ws_live_family *ws_live_family_of_medium(const struct ws_tree *tree, struct ws_own_family *own);

/** Is this word among the parameters? A trailing '=' matches any value. */
bool ws_parameter_is_set(const char *parameters, const char *word);

/** Are all of `wanted`, separated by blanks, among the parameters? @param missing  out: the first that is not, cut at
 *  `room` bytes */
bool ws_parameters_are_set(const char *parameters, const char *wanted, char *missing, size_t room);

enum ws_menu_kind { WS_MENU_GRUB, WS_MENU_SYSLINUX };

/** One entry of a start menu that starts a kernel. Offsets are bytes of the menu's text. */
struct ws_menu_entry {
    char title[512];
    char id[96];                    /**< GRUB's --id, or the syslinux label */
    size_t block, block_end;        /**< the whole entry; whole lines where nothing else stands on them */
    size_t args, args_end;          /**< the kernel's parameters */
    char kernel[512], initrd[1024]; /**< variables put in, as in `parameters` */
    char parameters[4096];
    bool cut; /**< one of these texts is longer than there is room: not to be used for anything but to say so */
    bool is_default;
};

/** A start menu file. */
struct ws_menu {
    enum ws_menu_kind kind;
    char *text; /**< owned */
    size_t length;
    struct ws_menu_entry *entry; /**< owned */
    size_t entries;
    char default_word[160]; /**< as the file names its default; empty if it does not */
};

/**
 * Parse a menu: GRUB 2's (menuentry, submenu) or that of syslinux and isolinux (label blocks).
 * @return WS_E_NOTFOUND if it starts no kernel; WS_E_FORMAT for unbalanced braces
 */
WS_CHECKED enum ws_status ws_menu_parse(const char *text, size_t length, struct ws_menu *menu, struct ws_error *error);
void ws_menu_free(struct ws_menu *menu);
/** The entry that starts by itself, or NULL when this file does not decide it. */
const struct ws_menu_entry *ws_menu_default(const struct ws_menu *menu);

/**
 * Make one entry remember and put a forgetful copy of it behind it.
 * @param parameters  to add; those already there are not added again
 * @param drop        NULL-terminated list of parameters to take away
 * @param out         the new text; free with ws_text_free()
 * @return WS_E_UNSUPPORTED if the entry has nothing to edit
 */
WS_CHECKED enum ws_status ws_menu_remember(const struct ws_menu *menu, const struct ws_menu_entry *entry,
                                           const char *parameters, const char *const drop[], struct ws_text *out,
                                           struct ws_error *error);

/** `options` with `parameters` among them and without those of `drop`, added to `out`. */
void ws_parameters_remember(const char *options, const char *parameters, const char *const drop[], struct ws_text *out);

/** By what a menu names the medium it starts: its volume's label, or its identifier, which systems call UUID whatever
 *  its form: of FAT and exFAT the serial number, of ISO 9660 the time of its last change. */
enum ws_named_by { WS_BY_LABEL, WS_BY_UUID, WS_NAMED_WAYS };
/** The name of the volume that these kernel parameters give as the live system's ("root=live:CDLABEL=...",
 *  "root=live:UUID=..."), its blanks as blanks. @return false if they name none so */
bool ws_parameters_medium(const char *parameters, enum ws_named_by by, char *name, size_t room);
/**
 * Where a menu or kernel parameters name the medium by its old name ("...label=OLD", "...uuid=OLD", GRUB's search), put
 * the new one.
 * @param out  the whole text, changed or not; free with ws_text_free() @return how often the name was replaced
 */
size_t ws_menu_rename(const char *text, size_t length, enum ws_named_by by, const char *old, const char *now,
                      struct ws_text *out);
/** Could this file of a medium be a menu, or a part of one? */
bool ws_may_be_menu(const struct ws_node *file);

/** The menu files of a medium: called for each that starts a kernel; `menu` is NULL for one that is damaged. */
typedef enum ws_status (*ws_menu_visit)(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                        struct ws_error *error);
WS_CHECKED enum ws_status ws_medium_menus(const struct ws_tree *tree, ws_menu_visit visit, void *context,
                                          struct ws_error *error);

/** Correct a checksum list (lines "HEX  path") after `path` has changed. The text keeps its length.
 *  @return number of lines corrected */
size_t ws_checklist_correct(char *list, size_t length, const char *path, const void *bytes, size_t bytes_length);
/** Is this file a checksum list by its name? */
bool ws_is_checklist(const char *name);

/** What has to be passed so that a system of this family remembers.
 *  @param volume  the label of the volume on which the overlay file lies; NULL: a partition of its own remembers
 *  @param out     receives the parameters, cut at `room` bytes @return `out` */
const char *ws_live_parameters(const struct ws_live_family *family, const char *volume, char *out, size_t room);
/** Does this family find its overlay file by the label of the volume it lies on? */
bool ws_live_wants_label(const struct ws_live_family *family);

/** Is a persistence volume of this family configured in somebody's own way, so that changes to / are not in the folder
 *  `changes`? */
bool ws_live_arranged_otherwise(const struct ws_live_family *family, const struct ws_tree *volume);
/** The tree that a fresh persistence volume of this family holds. */
WS_CHECKED enum ws_status ws_live_volume_tree(const struct ws_live_family *family, int64_t made_at,
                                              struct ws_tree **tree, struct ws_error *error);

WS_END

#endif
