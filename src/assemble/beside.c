/* beside.c — a drive laid down file by file says how it was made; laid down anew, what others put on it stays. */
#include "assemble/internal.h"
#include "plan/laid.h"

#include <string.h>

enum ws_status build_note_laid(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    const struct ws_request *asked = b->beside && b->beside->request ? b->beside->request : &p->request;
    struct ws_tree *tree = b->tree[WS_ROLE_SYSTEM];
    struct ws_node *n = NULL;
    struct ws_text text = {0};
    for (struct ws_node *f = ws_tree_next(ws_tree_root(tree)); f; f = ws_tree_next(f)) /* made on the way to a file */
        if (f->kind == WS_NODE_FOLDER && !f->mtime) f->mtime = p->facts.made_at;
    enum ws_status status = laid_make(tree, p, asked, &text, error);
    if (status == WS_OK) status = ws_tree_put(tree, LAID_PATH, text.data, text.length, &n, error);
    if (status == WS_OK) n->mtime = p->facts.made_at;
    ws_text_free(&text);
    return status;
}

/* One file or folder of others among those of the medium. */
static enum ws_status put_one(struct ws_tree *tree, struct ws_node *theirs, struct ws_error *error) {
    char path[4096];
    struct ws_node *n = ws_tree_find_any_case(tree, ws_node_path(theirs, path, sizeof path));
    if (n && n->kind == WS_NODE_FOLDER && theirs->kind == WS_NODE_FOLDER) return WS_OK;
    if (n && theirs->kind == WS_NODE_FILE && theirs->work2) {
        theirs->work2 = 2;
        return WS_OK;
    }
    if (n) {
        ws_fail(error, WS_E_REFUSED, "the newer image brings something of the name of what others put on this drive");
        ws_fail_where(error, "%s", path);
        return ws_fail_next(error, "give that another name, or take it off, and do it again");
    }
    /* Its folder may be there in other letters. */
    struct ws_node *folder = ws_tree_find_any_case(tree, ws_node_path(theirs->parent, path, sizeof path));
    if (!folder) return WS_OK; /* it stood in one that gave way */
    WS_TRY(ws_tree_add(tree, folder, theirs->name, theirs->kind, &n, error));
    n->content = theirs->content;
    n->mode = theirs->mode;
    n->marks = theirs->marks;
    n->mtime = theirs->mtime;
    n->mtime_ns = theirs->mtime_ns;
    n->born = theirs->born;
    return WS_OK;
}

enum ws_status build_put_others(struct ws_build *b, enum ws_role role, struct ws_error *error) {
    const struct ws_tree *others = b->beside ? b->beside->others[role] : NULL;
    for (struct ws_node *n = others ? ws_tree_next(ws_tree_root(others)) : NULL; n; n = ws_tree_next(n))
        WS_TRY(put_one(b->tree[role], n, error));
    return WS_OK;
}
