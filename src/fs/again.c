/* again.c — see again.h. */
#include "fs/again.h"

#include <string.h>

static enum ws_status holds_all(const struct fs_again *a, const struct ws_source *then, struct ws_error *error) {
    struct ws_tree *is = NULL;
    struct ws_volume_facts facts;
    enum ws_status status;
    WS_GO(a->format->read(then, &is, &facts, error));
    WS_GO(ws_tree_holds(is, a->wanted, &a->how, error));
    if (a->free_bytes && facts.free_bytes != *a->free_bytes)
        status = ws_fail(error, WS_E_DIFFERENT, "%llu bytes are free, not %llu", (unsigned long long)facts.free_bytes,
                         (unsigned long long)*a->free_bytes);
done:
    ws_tree_close(is);
    return status;
}

enum ws_status fs_look_again(const struct fs_again *a, struct ws_error *error) {
    struct ws_layout *over = NULL;
    struct ws_source *then = NULL;
    struct ws_error cause = {0};
    WS_TRY(ws_layout_over(a->layout, a->at, a->size, a->base, a->base_at, &over, error));
    enum ws_status status = ws_layout_source(over, &then, &cause);
    if (status == WS_OK) status = holds_all(a, then, &cause);
    ws_source_close(then);
    ws_layout_close(over);
    if (status == WS_OK) return WS_OK;
    if (status == WS_E_NOMEM || status == WS_E_READ) {
        *error = cause;
        return status;
    }
    ws_fail(error, WS_E_DIFFERENT, "the volume would not hold all that it is to: %s", cause.what);
    return ws_fail_next(error, "nothing was written; tell whoever made this program: it is a mistake in it");
}
