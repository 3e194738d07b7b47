/* names.h — files whose names, kinds or sizes another file system cannot hold: told before anything is written, with
 * what is done about it. */
#ifndef WILD_SATCHEL_NAMES_H
#define WILD_SATCHEL_NAMES_H

#include "wild_satchel/tree.h"

WS_BEGIN

/** What a file system asks of names, as data. */
struct ws_name_rules {
    const char *system;    /**< "FAT32", "exFAT" */
    const char *forbidden; /**< characters; control characters are always forbidden */
    size_t most;           /**< UTF-16 units */
    uint64_t largest;      /**< bytes of the largest file */
};
/** Rules of FAT (specification 1.03, section 7) and exFAT (section 7.7.3). */
const struct ws_name_rules *ws_name_rules_fat(void);
const struct ws_name_rules *ws_name_rules_exfat(void);

/** The upper-case form of a UTF-16 unit, as the volumes composed here have it in their tables. */
uint16_t ws_upcase(uint16_t unit);

/** Is this name possible? @return NULL, or why not in words */
const char *ws_name_fault(const struct ws_name_rules *rules, const char *name);
/** Two siblings that differ only in the case of their letters; false if there are none. */
bool ws_names_collide(const struct ws_node *folder, const struct ws_node **one, const struct ws_node **other,
                      struct ws_error *error);

/**
 * Links turned into what they show: a symbolic link to a file of the tree, and a second name of a file, become a copy
 * of it. Those to folders, to nothing, out of the tree, in circles or with an absolute target stay. Each copy is a
 * note.
 * @param system  which knows no links, for the notes
 */
void ws_tree_copy_links(struct ws_tree *tree, const char *system, struct ws_findings *findings);

/**
 * Make a tree fit: links become copies as with ws_tree_copy_links(), forbidden characters become "_", names too long
 * are cut before their extension, names that collide get a number, other links, devices and files too large are left
 * out. Every change is a finding; with `findings` of an untouched copy of the tree the same can be told without doing
 * it.
 * @return WS_E_NOMEM
 */
WS_CHECKED enum ws_status ws_tree_fit_names(struct ws_tree *tree, const struct ws_name_rules *rules,
                                            struct ws_findings *findings, struct ws_error *error);

WS_END

#endif
