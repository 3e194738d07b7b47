/* rules.h — rules for special media, as data in a plan: what a system wants to find on its drive beside its files.
 *
 * An appliance may look for a volume's label, start on UEFI only once a folder is renamed, or want a marker file.
 * docs/rules-format.md is the document's form.
 */
#ifndef WILD_SATCHEL_RULES_H
#define WILD_SATCHEL_RULES_H

#include "wild_satchel/tree.h"

WS_BEGIN

enum { WS_RULES_MOST = 16, WS_RULE_PATH = 128, WS_RULE_TEXT = 1024 };

struct ws_rule_pair {
    char from[WS_RULE_PATH], to[WS_RULE_PATH];
};
struct ws_rule_file {
    char path[WS_RULE_PATH];
    char text[WS_RULE_TEXT];
};

/** Zero-initialised: no rules. Paths count from the medium's top; letters of either case are the same. */
struct ws_rules {
    char label[12]; /**< the system's volume must have exactly this one; empty: any */
    struct ws_rule_pair rename[WS_RULES_MOST], copy[WS_RULES_MOST];
    char leave_out[WS_RULES_MOST][WS_RULE_PATH];
    struct ws_rule_file add[WS_RULES_MOST]; /**< marker files, or small texts */
    size_t renames, copies, left_out, added;
    char autorun_label[64], autorun_icon[WS_RULE_PATH]; /**< as some desktops show the drive; empty: none */
};

/** Read a rules document. @return WS_E_FORMAT naming the key, WS_E_UNSUPPORTED for a newer version */
WS_CHECKED enum ws_status ws_rules_from_json(const char *text, size_t length, struct ws_rules *rules,
                                             struct ws_error *error);
/** Are there any? */
bool ws_rules_any(const struct ws_rules *rules);

/** What is left out and renamed, in this order. @return WS_E_FORMAT for a path that is not there, or a name in use */
WS_CHECKED enum ws_status ws_rules_apply_before(const struct ws_rules *rules, struct ws_tree *tree,
                                                struct ws_error *error);
/** What is copied and added, and the autorun file: after all other edits, so that copies are of what will be there. */
WS_CHECKED enum ws_status ws_rules_apply_after(const struct ws_rules *rules, struct ws_tree *tree, int64_t made_at,
                                               struct ws_error *error);

WS_END

#endif
