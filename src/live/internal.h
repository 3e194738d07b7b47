/* internal.h — what the rooms of start menus share. */
#ifndef WS_LIVE_INTERNAL_H
#define WS_LIVE_INTERNAL_H

#include "wild_satchel/live.h"

/* expand.c: what stands for `${name}` and `$name` at byte `before` of a GRUB menu put into `out`; what is not set is
 * nothing, as in GRUB; and so is what names itself, or more than a menu ever needs. */
void live_expand(const struct ws_menu *menu, size_t before, const char *text, struct ws_text *out);

#endif
