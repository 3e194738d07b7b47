/* journal.c — the start journal of a finished drive. */
#include "keep/internal.h"
#include "wild_satchel/medium.h"

#include <stdlib.h>

/* What a live system sees: its image, and over it a copy of what it changed. */
static enum ws_status lay_over(struct ws_kept *k, int64_t now, struct ws_error *error) {
    struct ws_medium medium = {0};
    struct ws_root root = {0};
    struct ws_tree *copy = NULL, *changes = NULL;
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = WS_OK;
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    WS_GO(ws_table_read(k->drive, k->sector, table, NULL, error));
    WS_GO(ws_medium_open(k->drive, table, &medium, error));
    WS_GO(ws_root_open(k->drive, medium.tree, NULL, &root, error));
    if (ws_kept_top(k)) {
        WS_GO(ws_tree_copy(k->tree, &copy, error));
        WS_GO(ws_tree_cut(copy, ws_tree_find(copy, keep_top_path(k)), &changes, error));
        WS_GO(ws_tree_lay_over(root.tree, changes, error));
    }
    status = ws_journal_lay_over(root.tree, k->tree, keep_top_path(k), now, error);
done:
    ws_root_close(&root);
    ws_tree_close(changes);
    ws_tree_close(copy);
    ws_medium_close(&medium);
    free(table);
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
