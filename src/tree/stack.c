/* stack.c — one tree laid over another, as a live system stacks its layers; and a folder cut out as a tree. */
#include "tree/internal.h"

#include <string.h>

static const char overlay_mark[] = "trusted.overlay.";
static const char gone_mark[] = ".wh.";
static const char opaque_name[] = ".wh..wh..opq";

static const struct ws_xattr *xattr_of(const struct ws_node *n, const char *name) {
    const struct ws_xattr *x = n->xattrs;
    while (x && strcmp(x->name, name) != 0) x = x->next;
    return x;
}

/* Linux, Documentation/filesystems/overlayfs.rst, "whiteouts and opaque directories"; and the older aufs' names. */
static bool is_opaque(const struct ws_node *folder) {
    const struct ws_xattr *x = xattr_of(folder, "trusted.overlay.opaque");
    return (x && x->length == 1 && x->value[0] == 'y') || ws_node_child(folder, opaque_name) != NULL;
}

/* The name that a node of the upper tree takes away; NULL: it is a thing of its own. */
static const char *takes_away(const struct ws_node *n) {
    if (ws_node_is_whiteout(n)) return n->name;
    if (xattr_of(n, "trusted.overlay.whiteout")) return n->name;
    return strncmp(n->name, gone_mark, sizeof gone_mark - 1) == 0 ? n->name + sizeof gone_mark - 1 : NULL;
}

static void supersede(struct ws_node *old) {
    tree_index_remove(old);
    old->superseded = true;
}

/* Marks of the stacking itself are no attributes of what comes out of it. */
static enum ws_status take_over(struct ws_tree *lower, struct ws_node *to, const struct ws_node *from,
                                struct ws_error *error) {
    bool marked = false;
    for (const struct ws_xattr *x = from->xattrs; x; x = x->next)
        marked |= strncmp(x->name, overlay_mark, sizeof overlay_mark - 1) == 0;
    if (xattr_of(from, "trusted.overlay.redirect") || xattr_of(from, "trusted.overlay.metacopy")) {
        char path[512];
        ws_fail(error, WS_E_UNSUPPORTED, "a layer refers to another place of the one below it");
        return ws_fail_where(error, "%s", ws_node_path(from, path, sizeof path));
    }
    tree_take_over(to, from);
    if (!marked) return WS_OK;
    to->xattrs = NULL;
    for (const struct ws_xattr *x = from->xattrs; x; x = x->next)
        if (strncmp(x->name, overlay_mark, sizeof overlay_mark - 1) != 0)
            WS_TRY(ws_tree_set_xattr(lower, to, x->name, x->value, x->length, error));
    return WS_OK;
}

/* The node of the lower tree that an upper one becomes; kept in the upper one's scratch. */
static struct ws_node *became(const struct ws_node *upper) { return (struct ws_node *)(uintptr_t)upper->work; }

static bool lies_in(void *folder, struct ws_node *node) { return node->parent == folder; }

static enum ws_status lay_one(struct ws_tree *lower, struct ws_node *n, struct ws_error *error) {
    struct ws_node *parent = became(n->parent);
    const char *gone = takes_away(n);
    struct ws_node *old = ws_node_child(parent, gone ? gone : n->name);
    struct ws_node *now = NULL;
    bool merges = !gone && old && old->kind == WS_NODE_FOLDER && n->kind == WS_NODE_FOLDER;
    n->work = 0;
    if (old && !merges) supersede(old);
    if (gone) return WS_OK;
    if (merges) now = old;
    else WS_TRY(ws_tree_add(lower, parent, n->name, n->kind, &now, error));
    n->work = (uint64_t)(uintptr_t)now;
    if (merges && is_opaque(n))
        for (struct ws_node *c = now->first; c; c = c->next)
            if (!c->superseded) supersede(c);
    return take_over(lower, now, n->same_as ? n->same_as : n, error);
}

enum ws_status ws_tree_cut(struct ws_tree *tree, struct ws_node *folder, struct ws_tree **apart,
                           struct ws_error *error) {
    struct ws_tree *made = NULL;
    enum ws_status status = WS_OK;
    struct ws_node *end = folder;
    WS_TRY(ws_tree_create(&made, error));
    while (end && !end->next) end = end->parent;
    end = end ? end->next : NULL;
    tree_take_over(ws_tree_root(made), folder);
    folder->work = (uint64_t)(uintptr_t)ws_tree_root(made);
    for (struct ws_node *n = ws_tree_next(folder); status == WS_OK && n != end; n = ws_tree_next(n)) {
        struct ws_node *now = NULL;
        status = ws_tree_add(made, became(n->parent), n->name, n->kind, &now, error);
        if (status != WS_OK) break;
        tree_take_over(now, n->same_as ? n->same_as : n);
        n->work = (uint64_t)(uintptr_t)now;
    }
    for (struct ws_node *n = ws_tree_next(folder); status == WS_OK && n != end; n = ws_tree_next(n)) {
        struct ws_node *same = n->same_as; /* one outside is shared no more */
        for (const struct ws_node *up = same; up; up = up->parent)
            if (up == folder) became(n)->same_as = became(same);
    }
    if (status != WS_OK) {
        ws_tree_close(made);
        return status;
    }
    ws_tree_drop_all(tree, lies_in, folder);
    *apart = made;
    return WS_OK;
}

enum ws_status ws_tree_graft(struct ws_tree *tree, struct ws_node *folder, struct ws_tree *other,
                             struct ws_error *error) {
    struct ws_node *top = ws_tree_root(other);
    ws_tree_drop_all(tree, lies_in, folder);
    top->work = (uint64_t)(uintptr_t)folder;
    for (struct ws_node *n = ws_tree_next(top); n; n = ws_tree_next(n)) {
        struct ws_node *now = NULL;
        WS_TRY(ws_tree_add(tree, became(n->parent), n->name, n->kind, &now, error));
        tree_take_over(now, n->same_as ? n->same_as : n);
        n->work = (uint64_t)(uintptr_t)now;
    }
    for (struct ws_node *n = ws_tree_next(top); n; n = ws_tree_next(n))
        if (n->same_as) became(n)->same_as = became(n->same_as);
    return WS_OK;
}

enum ws_status ws_tree_copy(struct ws_tree *tree, struct ws_tree **out, struct ws_error *error) {
    struct ws_tree *copy = NULL;
    WS_TRY(ws_tree_create(&copy, error));
    tree_take_over(ws_tree_root(copy), ws_tree_root(tree));
    enum ws_status status = ws_tree_graft(copy, ws_tree_root(copy), tree, error);
    if (status == WS_OK) *out = copy;
    else ws_tree_close(copy);
    return status;
}

enum ws_status ws_tree_lay_over(struct ws_tree *lower, struct ws_tree *upper, struct ws_error *error) {
    struct ws_node *top = ws_tree_root(upper);
    enum ws_status status = take_over(lower, ws_tree_root(lower), top, error);
    top->work = (uint64_t)(uintptr_t)ws_tree_root(lower);
    for (struct ws_node *n = ws_tree_next(top); status == WS_OK && n; n = ws_tree_next(n)) {
        n->work = 0;
        if (became(n->parent)) status = lay_one(lower, n, error); /* else below what is no folder of its own */
    }
    for (struct ws_node *n = ws_tree_next(top); status == WS_OK && n; n = ws_tree_next(n))
        if (n->same_as && became(n)) became(n)->same_as = became(n->same_as);
    ws_tree_settle(lower);
    return status;
}
