/* journal.h — the start journal: a line that a system writes of each of its starts, where that is asked for.
 *
 * A small script and what starts it (a unit, a script of openrc or runit, lines of inittab(5)) are laid into a root, or
 * into what a live system changes of its image. The lines stand in /var/lib/satchel/starts of the running system
 * (docs/start-journal.md).
 */
#ifndef WILD_SATCHEL_JOURNAL_H
#define WILD_SATCHEL_JOURNAL_H

#include "wild_satchel/system.h"

WS_BEGIN

/** Lay it into a root.
 *  @return WS_E_UNSUPPORTED where nothing of it can be told what to do at a start */
WS_CHECKED enum ws_status ws_journal_lay(struct ws_tree *root, int64_t made_at, struct ws_error *error);
/**
 * Lay it into what a live system changes of its image.
 * @param image  what the system sees: its image, with those changes laid over it; it is changed, too
 * @param upper  takes the files, in its folder `top` (without slashes around it), which is "/" to the system
 * @return as ws_journal_lay()
 */
WS_CHECKED enum ws_status ws_journal_lay_over(struct ws_tree *image, struct ws_tree *upper, const char *top,
                                              int64_t made_at, struct ws_error *error);
/** Take it away, and what it noted. @return whether anything of it was there */
bool ws_journal_take_away(struct ws_tree *tree, const char *top);
/** Is it there? */
bool ws_journal_is_laid(const struct ws_tree *tree, const char *top);

/** One start, as it was noted: texts that can be shown, cut where they are longer. */
struct ws_journal_start {
    char at[24];      /**< "2026-11-27T17:40:02Z", by that PC's clock */
    char machine[80]; /**< its maker and model */
    char firmware[8]; /**< "BIOS" or "UEFI" */
    char kernel[48];
    char before[12]; /**< how the session before it ended: "first", "shutdown", "cut" */
};
enum { WS_JOURNAL_STARTS = 64 };
/** The latest starts, the last one last. @param most  room in `start`. @return how many */
size_t ws_journal_read(const struct ws_tree *tree, const char *top, struct ws_journal_start *start, size_t most);

WS_END

#endif
