/* journal.c — the start journal of a finished drive. */
#include "keep/internal.h"
#include "system/on_drive.h"

/* What a live system sees: its image, and over it a copy of what it changed. */
static enum ws_status lay_over(struct ws_kept *k, int64_t now, struct ws_error *error) {
    struct on_drive system = {NULL};
    struct ws_tree *copy = NULL, *changes = NULL;
    enum ws_status status = WS_OK;
    WS_GO(on_drive_open(k->drive, k->sector, &system, error));
    if (ws_kept_top(k)) {
        WS_GO(ws_tree_copy(k->tree, &copy, error));
        WS_GO(ws_tree_cut(copy, ws_tree_find(copy, keep_top_path(k)), &changes, error));
        WS_GO(ws_tree_lay_over(system.root.tree, changes, error));
    }
    status = ws_journal_lay_over(system.root.tree, k->tree, keep_top_path(k), now, error);
done:
    on_drive_close(&system);
    ws_tree_close(changes);
    ws_tree_close(copy);
    return status;
}

enum ws_status ws_kept_journal(struct ws_kept *k, bool on, int64_t now, struct ws_error *error) {
    WS_TRY(keep_still_as_it_is(k, error));
    if (!on) {
        if (ws_journal_take_away(k->tree, keep_top_path(k))) return WS_OK;
        return ws_fail(error, WS_E_NOTFOUND, "there is no start journal on it");
    }
    if (k->memory.system) return ws_journal_lay(k->tree, now, error);
    if (!k->otherwise) return lay_over(k, now, error);
    return ws_fail(error, WS_E_UNSUPPORTED,
                   "its volume is arranged in somebody's own way, in which no journal is laid");
}
