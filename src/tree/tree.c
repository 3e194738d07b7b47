/* tree.c — files and folders, found, made, moved and dropped. */
#include "tree/internal.h"

#include <stddef.h>
#include <stdlib.h>
#include <string.h>

/* As many as files: in rows, the latest first. */
enum { OWNED_ROW = 62 };
struct tree_owned {
    struct tree_owned *next;
    size_t count;
    struct ws_source *source[OWNED_ROW];
};

static char *copy_text(struct ws_tree *tree, const char *text, size_t length) {
    char *copy = tree_take(tree, length + 1);
    if (copy) memcpy(copy, text, length);
    return copy;
}

static enum ws_status no_memory(struct ws_error *error) {
    return ws_fail(error, WS_E_NOMEM, "out of memory while building a tree of files");
}

enum ws_status ws_tree_create(struct ws_tree **tree, struct ws_error *error) {
    static char root_name[1] = "";
    struct ws_tree *made = calloc(1, sizeof *made);
    if (!made) return no_memory(error);
    made->root.name = root_name;
    made->root.kind = WS_NODE_FOLDER;
    made->root.mode = 0755;
    made->count = 1;
    *tree = made;
    return WS_OK;
}

void ws_tree_close(struct ws_tree *tree) {
    if (!tree) return;
    for (struct tree_owned *o = tree->owned; o; o = o->next)
        while (o->count) ws_source_close(o->source[--o->count]);
    tree_index_let_go(tree);
    tree_let_go(tree);
    free(tree);
}

struct ws_node *ws_tree_root(const struct ws_tree *tree) {
    return (struct ws_node *)&tree->root;
}

size_t ws_tree_count(const struct ws_tree *tree) { return tree->count; }

enum ws_status ws_tree_own(struct ws_tree *tree, struct ws_source *source, struct ws_error *error) {
    struct tree_owned *owned = tree->owned;
    if (!owned || owned->count == OWNED_ROW) {
        owned = tree_take(tree, sizeof *owned);
        if (!owned) {
            ws_source_close(source);
            return no_memory(error);
        }
        owned->next = tree->owned;
        tree->owned = owned;
    }
    owned->source[owned->count++] = source;
    return WS_OK;
}

static enum ws_status check_name(const char *name, size_t length, struct ws_error *error) {
    if (length == 0 || length > 255 || memchr(name, '/', length) || (length == 1 && name[0] == '.') ||
        (length == 2 && name[0] == '.' && name[1] == '.'))
        return ws_fail(error, WS_E_RANGE, "\"%.*s\" cannot be a file name", (int)(length > 80 ? 80 : length), name);
    return WS_OK;
}

enum ws_status ws_tree_rename(struct ws_tree *tree, struct ws_node *node, const char *name, struct ws_error *error) {
    WS_TRY(check_name(name, strlen(name), error));
    char *copy = copy_text(tree, name, strlen(name));
    if (!copy) return no_memory(error);
    if (node->parent) tree_index_remove(node);
    node->name = copy;
    return node->parent ? tree_index_add(tree, node, error) : WS_OK;
}

static enum ws_status add_sized(struct ws_tree *tree, struct ws_node *parent, const char *name, size_t length,
                                enum ws_node_kind kind, struct ws_node **node, struct ws_error *error) {
    WS_TRY(check_name(name, length, error));
    struct ws_node *made = tree_take(tree, sizeof *made);
    if (made) made->name = copy_text(tree, name, length);
    if (!made || !made->name) return no_memory(error);
    made->kind = kind;
    made->mode = kind == WS_NODE_FOLDER ? 0755 : 0644;
    made->parent = parent;
    if (parent->last) parent->last->next = made;
    else parent->first = made;
    parent->last = made;
    parent->children++;
    tree->count++;
    *node = made;
    return tree_index_add(tree, made, error);
}

enum ws_status ws_tree_add(struct ws_tree *tree, struct ws_node *parent, const char *name, enum ws_node_kind kind,
                           struct ws_node **node, struct ws_error *error) {
    return add_sized(tree, parent, name, strlen(name), kind, node, error);
}

struct ws_node *ws_node_child(const struct ws_node *folder, const char *name) {
    return tree_index_find(folder, name, strlen(name), false);
}

static const char *component(const char **path, size_t *length) {
    const char *p = *path;
    while (*p == '/') p++;
    *length = strcspn(p, "/");
    *path = p + *length;
    return *length ? p : NULL;
}

static struct ws_node *find(const struct ws_tree *tree, const char *path, bool any_case) {
    struct ws_node *at = ws_tree_root(tree);
    size_t length;
    const char *part;
    while (at && (part = component(&path, &length))) at = tree_index_find(at, part, length, any_case);
    return at;
}

struct ws_node *ws_tree_find(const struct ws_tree *tree, const char *path) {
    return find(tree, path, false);
}

struct ws_node *ws_tree_find_any_case(const struct ws_tree *tree, const char *path) {
    return find(tree, path, true);
}

enum ws_status ws_tree_folder(struct ws_tree *tree, const char *path, struct ws_node **node, struct ws_error *error) {
    struct ws_node *at = ws_tree_root(tree);
    size_t length;
    const char *part;
    while ((part = component(&path, &length))) {
        struct ws_node *next = tree_index_find(at, part, length, false);
        if (!next) WS_TRY(add_sized(tree, at, part, length, WS_NODE_FOLDER, &next, error));
        if (next->kind != WS_NODE_FOLDER)
            return ws_fail(error, WS_E_USAGE, "\"%s\" is a file where a folder is needed", next->name);
        at = next;
    }
    *node = at;
    return WS_OK;
}

/* The folder of `path`, made where it is missing, and the name in it. */
static enum ws_status folder_of(struct ws_tree *tree, const char *path, struct ws_node **parent, const char **name,
                                struct ws_error *error) {
    char folder[4096];
    const char *slash = strrchr(path, '/');
    size_t above = slash ? (size_t)(slash - path) : 0;
    *name = slash ? slash + 1 : path;
    if (above >= sizeof folder) return ws_fail(error, WS_E_RANGE, "the path is longer than 4095 bytes");
    memcpy(folder, path, above);
    folder[above] = '\0';
    return ws_tree_folder(tree, folder, parent, error);
}

enum ws_status ws_tree_fresh(struct ws_tree *tree, const char *path, struct ws_node **node, struct ws_error *error) {
    struct ws_node *parent = NULL;
    const char *name;
    WS_TRY(folder_of(tree, path, &parent, &name, error));
    struct ws_node *old = ws_node_child(parent, name);
    if (old) { /* found no more from now on; taken out when the tree settles */
        tree_index_remove(old);
        old->superseded = true;
    }
    return ws_tree_add(tree, parent, name, WS_NODE_FILE, node, error);
}

static bool is_superseded(void *context, struct ws_node *node) {
    (void)context;
    return node->superseded;
}

void ws_tree_settle(struct ws_tree *tree) { ws_tree_drop_all(tree, is_superseded, NULL); }

enum ws_status ws_tree_put(struct ws_tree *tree, const char *path, const void *bytes, size_t length,
                           struct ws_node **node, struct ws_error *error) {
    struct ws_node *parent = NULL;
    struct ws_source *content = NULL;
    const char *name;
    WS_TRY(folder_of(tree, path, &parent, &name, error));
    struct ws_node *file = ws_node_child(parent, name);
    if (file && file->kind != WS_NODE_FILE) {
        ws_tree_drop(tree, file);
        file = NULL;
    }
    WS_TRY(ws_source_memory(bytes, length, &content, error));
    WS_TRY(ws_tree_own(tree, content, error));
    if (!file) WS_TRY(ws_tree_add(tree, parent, name, WS_NODE_FILE, &file, error));
    if (file->same_as) file = file->same_as;
    file->content = content;
    if (node) *node = file;
    return WS_OK;
}

enum ws_status ws_tree_set_target(struct ws_tree *tree, struct ws_node *node, const char *target,
                                  struct ws_error *error) {
    node->target = copy_text(tree, target, strlen(target));
    return node->target ? WS_OK : no_memory(error);
}

enum ws_status ws_tree_set_xattr(struct ws_tree *tree, struct ws_node *node, const char *name, const void *value,
                                 size_t length, struct ws_error *error) {
    struct ws_xattr *x = node->xattrs;
    while (x && strcmp(x->name, name) != 0) x = x->next;
    if (!x) {
        x = tree_take(tree, sizeof *x);
        if (x) x->name = copy_text(tree, name, strlen(name));
        if (!x || !x->name) return no_memory(error);
        x->next = node->xattrs;
        node->xattrs = x;
    }
    x->value = tree_take(tree, length + 1);
    if (!x->value) return no_memory(error);
    if (length) memcpy(x->value, value, length);
    x->length = length;
    return WS_OK;
}

static bool is_it(void *context, struct ws_node *node) { return node == context; }

void ws_tree_drop(struct ws_tree *tree, struct ws_node *node) {
    if (node->parent) ws_tree_drop_all(tree, is_it, node);
}

void tree_take_over(struct ws_node *node, const struct ws_node *from) {
    node->same_as = NULL;
    node->kind = from->kind;
    node->mode = from->mode;
    node->marks = from->marks;
    node->uid = from->uid;
    node->gid = from->gid;
    node->mtime = from->mtime;
    node->mtime_ns = from->mtime_ns;
    node->born = from->born;
    node->major = from->major;
    node->minor = from->minor;
    node->content = from->content;
    node->target = from->target;
    node->xattrs = from->xattrs;
}

void ws_tree_drop_all(struct ws_tree *tree, bool (*goes)(void *context, struct ws_node *node), void *context) {
    size_t going = 0;
    for (struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        n->going = n->parent->going || goes(context, n); /* the root never does */
        n->heir = NULL;
        going += n->going;
    }
    if (!going) return;
    /* Names that stay and shared an inode with one that goes take it over, so that no link is left dangling. */
    for (struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        struct ws_node *was = n->same_as;
        if (n->going || !was || !was->going) continue;
        if (was->heir) n->same_as = was->heir;
        else tree_take_over(was->heir = n, was);
    }
    for (struct ws_node *f = ws_tree_root(tree); f; f = ws_tree_next(f)) {
        if (f->kind != WS_NODE_FOLDER || !f->first) continue;
        struct ws_node **link = &f->first;
        f->last = NULL;
        while (*link) {
            struct ws_node *n = *link;
            if (n->going) {
                if (!n->superseded) tree_index_remove(n);
                *link = n->next;
                f->children--;
            } else {
                f->last = n;
                link = &n->next;
            }
        }
    }
    tree->count -= going;
}

struct ws_node *ws_tree_next(const struct ws_node *node) {
    if (node->first) return node->first;
    while (node && !node->next) node = node->parent;
    return node ? node->next : NULL;
}

struct ws_node *ws_tree_next_below(const struct ws_node *node, const struct ws_node *top) {
    if (node->first) return node->first;
    while (node != top && !node->next) node = node->parent;
    return node == top ? NULL : node->next;
}

bool ws_node_is_whiteout(const struct ws_node *node) {
    return node->kind == WS_NODE_CHAR && node->major == 0 && node->minor == 0;
}

const char *ws_node_path(const struct ws_node *node, char *out, size_t room) {
    size_t at = room - 1;
    out[at] = '\0';
    if (!node->parent && room > 1) out[--at] = '/';
    for (; node && node->parent; node = node->parent) {
        size_t length = strlen(node->name);
        if (at < length + 4) {
            if (at >= 3) memcpy(out + (at -= 3), "...", 3);
            break;
        }
        memcpy(out + (at -= length), node->name, length);
        out[--at] = '/';
    }
    memmove(out, out + at, room - at);
    return out;
}

uint64_t ws_node_stored(const struct ws_node *node) {
    const uint64_t size = node->same_as ? 0 : ws_node_size(node);
    uint64_t stored = size;
    for (uint64_t at = 0, length; at < size && node->kind == WS_NODE_FILE; at += length) {
        length = size - at;
        if (ws_source_is_hole(node->content, at, &length)) stored -= length;
    }
    return stored;
}

uint64_t ws_node_size(const struct ws_node *node) {
    if (node->same_as) node = node->same_as;
    if (node->kind == WS_NODE_LINK) return node->target ? strlen(node->target) : 0;
    return node->kind == WS_NODE_FILE && node->content ? node->content->size : 0;
}
