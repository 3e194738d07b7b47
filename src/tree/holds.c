/* holds.c — does a tree hold what another one does? Contents that stand in one place are not read. */
#include "base/bytes.h"
#include "tree/internal.h"

#include <stdlib.h>
#include <string.h>

enum { STEP = 1 << 16 };

struct comparing {
    uint8_t *bytes; /* two steps */
    size_t seen;
};

static const struct ws_node *inode_of(const struct ws_node *n) { return n->same_as ? n->same_as : n; }

/* Where bytes stand in the end, through whatever they are seen. */
static struct ws_piece place_of(const struct ws_source *source, uint64_t at, uint64_t length) {
    struct ws_piece p = ws_source_piece(source, at, length);
    while (p.kind == WS_PIECE_BASE) {
        const struct ws_piece through = p;
        p = ws_source_piece(p.base, p.at, p.length);
        if (p.kind != WS_PIECE_OWN) continue;
        p.base = through.base;
        p.at = through.at;
    }
    return p;
}

static bool same_place(const struct ws_piece *a, const struct ws_piece *b) {
    if (a->kind == WS_PIECE_HOLE || b->kind == WS_PIECE_HOLE) return a->kind == b->kind;
    return a->kind == b->kind && a->base && a->base == b->base && a->at == b->at && a->number == b->number;
}

static enum ws_status same_content(struct comparing *c, const struct ws_source *a, const struct ws_source *b,
                                   bool *same, struct ws_error *error) {
    const uint64_t size = a ? a->size : 0;
    *same = size == (b ? b->size : 0);
    for (uint64_t at = 0, length; *same && at < size; at += length) {
        const struct ws_piece in_a = place_of(a, at, size - at), in_b = place_of(b, at, size - at);
        length = ws_min_u64(in_a.length, in_b.length);
        if (same_place(&in_a, &in_b)) continue;
        length = ws_min_u64(length, STEP);
        WS_TRY(ws_source_read(a, at, c->bytes, (size_t)length, error));
        WS_TRY(ws_source_read(b, at, c->bytes + STEP, (size_t)length, error));
        *same = memcmp(c->bytes, c->bytes + STEP, (size_t)length) == 0;
    }
    return WS_OK;
}

static const struct ws_xattr *attribute_of(const struct ws_node *n, const char *name) {
    const struct ws_xattr *x = n->xattrs;
    while (x && strcmp(x->name, name) != 0) x = x->next;
    return x;
}

static bool same_attributes(const struct ws_node *a, const struct ws_node *b) {
    size_t more = 0;
    for (const struct ws_xattr *x = a->xattrs; x; x = x->next) {
        const struct ws_xattr *y = attribute_of(b, x->name);
        if (!y || y->length != x->length || memcmp(x->value, y->value, x->length) != 0) return false;
        more++;
    }
    for (const struct ws_xattr *y = b->xattrs; y; y = y->next) more--;
    return more == 0;
}

/* @return what is another; NULL: nothing is */
static const char *difference(const struct ws_node *is, const struct ws_node *wanted) {
    const bool device = wanted->kind == WS_NODE_CHAR || wanted->kind == WS_NODE_BLOCK;
    if (is->kind != wanted->kind) return "is another kind of thing";
    if (is->mode != wanted->mode || is->uid != wanted->uid || is->gid != wanted->gid)
        return "has another owner or mode";
    if (wanted->kind == WS_NODE_LINK && strcmp(is->target, wanted->target) != 0) return "leads elsewhere";
    if (device && (is->major != wanted->major || is->minor != wanted->minor)) return "is another device";
    return same_attributes(is, wanted) ? NULL : "has other attributes";
}

static enum ws_status compare(struct comparing *c, const struct ws_node *is, const struct ws_node *wanted,
                              struct ws_error *error) {
    char path[300];
    const struct ws_node *a = is ? inode_of(is) : NULL, *b = inode_of(wanted);
    const char *what = is ? difference(a, b) : "is missing";
    bool same = true;
    if (!what && b->kind == WS_NODE_FILE) WS_TRY(same_content(c, a->content, b->content, &same, error));
    if (!what && same) return WS_OK;
    return ws_fail(error, WS_E_DIFFERENT, "%s %s", ws_node_path(wanted, path, sizeof path),
                   what ? what : "has other content");
}

static enum ws_status compare_all(struct comparing *c, const struct ws_tree *is, const struct ws_tree *wanted,
                                  const struct ws_holding *how, struct ws_error *error) {
    const struct ws_node *folder = ws_tree_root(is), *next;
    for (const struct ws_node *n = ws_tree_root(wanted)->first; n; n = next) {
        const struct ws_node *pair = tree_index_find(folder, n->name, strlen(n->name), how->any_case);
        if (n->kind == WS_NODE_FOLDER || !how->aside || !how->aside(how->context, n))
            WS_TRY(compare(c, pair, n, error));
        c->seen += pair != NULL;
        next = n->first ? n->first : n->next;
        if (n->first) folder = pair;
        for (const struct ws_node *up = n; !next && (up = up->parent) != NULL && up->parent; next = up->next)
            folder = folder->parent;
    }
    return WS_OK;
}

enum ws_status ws_tree_holds(const struct ws_tree *is, const struct ws_tree *wanted, const struct ws_holding *how,
                             struct ws_error *error) {
    struct comparing c = {malloc((size_t)2 * STEP), 1};
    if (!c.bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for comparing");
    enum ws_status status = compare(&c, ws_tree_root(is), ws_tree_root(wanted), error);
    if (status == WS_OK) status = compare_all(&c, is, wanted, how, error);
    const size_t more = ws_tree_count(is) > c.seen ? ws_tree_count(is) - c.seen : 0;
    if (status == WS_OK && more > how->more)
        status = ws_fail(error, WS_E_DIFFERENT, "there are %zu names more than there are to be", more - how->more);
    free(c.bytes);
    return status;
}
