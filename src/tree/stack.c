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

/* Marks of the stacking itself are no attributes of what comes out of it. A list of them may be another tree's too. */
static enum ws_status unmark(struct ws_tree *tree, struct ws_node *node, struct ws_error *error) {
    const struct ws_xattr *all = node->xattrs;
    bool marked = false;
    for (const struct ws_xattr *x = all; x; x = x->next)
        marked |= strncmp(x->name, overlay_mark, sizeof overlay_mark - 1) == 0;
    if (!marked) return WS_OK;
    if (xattr_of(node, "trusted.overlay.redirect") || xattr_of(node, "trusted.overlay.metacopy")) {
        char path[512];
        ws_fail(error, WS_E_UNSUPPORTED, "a layer refers to another place of the one below it");
        return ws_fail_where(error, "%s", ws_node_path(node, path, sizeof path));
    }
    node->xattrs = NULL;
    for (const struct ws_xattr *x = all; x; x = x->next)
        if (strncmp(x->name, overlay_mark, sizeof overlay_mark - 1) != 0)
            WS_TRY(ws_tree_set_xattr(tree, node, x->name, x->value, x->length, error));
    return WS_OK;
}

/* What the new node of a tree has below it: what is of the stacking goes. */
static enum ws_status settle_below(struct ws_tree *tree, struct ws_node *top, struct ws_error *error) {
    for (struct ws_node *n = ws_tree_next_below(top, top); n; n = ws_tree_next_below(n, top)) {
        tree->count++;
        if (takes_away(n) && !n->superseded) supersede(n);
        WS_TRY(unmark(tree, n, error));
    }
    return WS_OK;
}

static void hang(struct ws_node *folder, struct ws_node *node) {
    node->parent = folder;
    node->next = NULL;
    if (folder->last) folder->last->next = node;
    else folder->first = node;
    folder->last = node;
    folder->children++;
}

/* A node of the upper tree comes to the lower one, with all below it. One that only takes away goes as it settles:
 * others may share its inode. */
static enum ws_status come(struct ws_tree *lower, struct ws_node *folder, struct ws_node *node,
                           struct ws_error *error) {
    hang(folder, node);
    lower->count++;
    node->superseded = takes_away(node) != NULL;
    if (!node->superseded) {
        WS_TRY(unmark(lower, node, error));
        WS_TRY(tree_index_add(lower, node, error));
    }
    return settle_below(lower, node, error);
}

/* The node of a tree that another one's becomes; kept in that one's scratch. */
static struct ws_node *became(const struct ws_node *upper) { return (struct ws_node *)(uintptr_t)upper->work; }

static bool lies_in(void *folder, struct ws_node *node) { return node->parent == folder; }

/* The lower folder has the upper one's owner, mode, times and attributes from now on; of what the upper one holds only
 * folders stay there that are in both. */
static enum ws_status lay_folder(struct ws_tree *lower, struct ws_node *upper, struct ws_error *error) {
    struct ws_node *folder = became(upper);
    struct ws_node *next = upper->first;
    if (upper->parent && is_opaque(upper))
        for (struct ws_node *c = folder->first; c; c = c->next)
            if (!c->superseded) supersede(c);
    tree_take_over(folder, upper);
    WS_TRY(unmark(lower, folder, error));
    upper->first = upper->last = NULL;
    upper->names = NULL;
    upper->children = 0;
    for (struct ws_node *n = next; n; n = next) {
        const char *gone = takes_away(n);
        struct ws_node *old = n->superseded ? NULL : ws_node_child(folder, gone ? gone : n->name);
        next = n->next;
        if (!gone && old && old->kind == WS_NODE_FOLDER && n->kind == WS_NODE_FOLDER) {
            n->work = (uint64_t)(uintptr_t)old;
            hang(upper, n);
            continue;
        }
        if (old) supersede(old);
        WS_TRY(come(lower, folder, n, error));
    }
    return WS_OK;
}

enum ws_status ws_tree_lay_over(struct ws_tree *lower, struct ws_tree *upper, struct ws_error *error) {
    struct ws_node *top = ws_tree_root(upper);
    enum ws_status status = WS_OK;
    top->work = (uint64_t)(uintptr_t)ws_tree_root(lower);
    upper->count = 0;
    for (struct ws_node *n = top; status == WS_OK && n; n = ws_tree_next(n)) {
        upper->count++;
        status = lay_folder(lower, n, error);
    }
    ws_tree_settle(lower);
    return status;
}

/* A name has an inode of its own that it shared across a border; the first that comes is the others' from now on. */
static void part(struct ws_node *n) {
    struct ws_node *was = n->same_as;
    if (!was || was->going == n->going) return;
    if (was->heir) n->same_as = was->heir;
    else tree_take_over(was->heir = n, was);
}

enum ws_status ws_tree_cut(struct ws_tree *tree, struct ws_node *folder, struct ws_tree **apart,
                           struct ws_error *error) {
    struct ws_tree *made = NULL;
    struct ws_node *top = ws_tree_root(tree);
    size_t cut = 0;
    WS_TRY(ws_tree_create(&made, error));
    for (struct ws_node *n = ws_tree_next(top); n; n = ws_tree_next(n)) {
        n->going = n->parent == folder || n->parent->going; /* the root never does */
        n->heir = NULL;
        cut += n->going;
    }
    for (struct ws_node *n = ws_tree_next(top); n; n = ws_tree_next(n)) part(n);
    tree_take_over(ws_tree_root(made), folder);
    top = ws_tree_root(made);
    top->first = folder->first;
    top->last = folder->last;
    top->names = folder->names;
    top->children = folder->children;
    for (struct ws_node *n = top->first; n; n = n->next) n->parent = top;
    folder->first = folder->last = NULL;
    folder->names = NULL;
    folder->children = 0;
    tree->count -= cut;
    made->count += cut;
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
