/* internal.h — the parts of looking at an original. */
#ifndef WS_TWIN_INTERNAL_H
#define WS_TWIN_INTERNAL_H

#include "wild_satchel/format.h"
#include "wild_satchel/twin.h"

/* mounts.c: a line of fstab(5) or crypttab(5): its words, from `number` 0 on. @return false if it has no such word */
bool twin_word(const char *line, unsigned number, char *out, size_t room);
/* Where the root mounts this volume; empty: it does not. */
void twin_mounted_at(const struct ws_original *original, size_t volume, char *out, size_t room);
/* start.c: which volumes start its system, and what they say. */
enum ws_status twin_find_system(struct ws_original *original, struct ws_error *error);
/* leave.c: what of each kind a tree holds in the folder `top`, without slashes around it, which is "/" to its system.
 */
void leave_count(struct ws_tree *tree, const char *top, struct ws_left_out tally[WS_LEAVES]);
/* And out with it: bit N of `which`. */
void leave_below(struct ws_tree *tree, const char *top, uint32_t which, struct ws_left_out tally[WS_LEAVES]);

#endif
