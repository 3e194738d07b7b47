/* snapshot.c — a tree at a moment, and what differs between two moments. */
#include "wild_satchel/proof.h"

#include <stdlib.h>
#include <string.h>

static int by_path(const void *a, const void *b) {
    return strcmp(((const struct ws_shot *)a)->path, ((const struct ws_shot *)b)->path);
}

enum ws_status ws_snapshot_take(const struct ws_tree *tree, struct ws_snapshot *snapshot, struct ws_error *error) {
    enum ws_status status = WS_OK;
    memset(snapshot, 0, sizeof *snapshot);
    snapshot->shot = calloc(ws_tree_count(tree), sizeof *snapshot->shot);
    if (!snapshot->shot) return ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        const struct ws_node *inode = n->same_as ? n->same_as : n;
        char path[4096];
        struct ws_shot *s = &snapshot->shot[snapshot->count];
        ws_node_path(n, path, sizeof path);
        s->path = malloc(strlen(path) + 1);
        if (!s->path) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot"));
        memcpy(s->path, path, strlen(path) + 1);
        snapshot->count++;
        s->kind = inode->kind;
        s->mode = inode->mode;
        s->size = ws_node_size(n);
        char hex[WS_HASH_HEX] = "";
        if (inode->kind == WS_NODE_LINK)
            WS_GO(ws_hash_bytes(WS_HASH_SHA256, inode->target, strlen(inode->target), hex, error));
        else if (inode->kind == WS_NODE_FILE && inode->content)
            WS_GO(ws_source_hash(inode->content, WS_HASH_SHA256, hex, error));
        else if (inode->kind == WS_NODE_FILE) WS_GO(ws_hash_bytes(WS_HASH_SHA256, "", 0, hex, error));
        memcpy(s->sha256, hex, sizeof s->sha256);
        s->sha256[64] = '\0';
    }
    qsort(snapshot->shot, snapshot->count, sizeof *snapshot->shot, by_path);
done:
    if (status != WS_OK) ws_snapshot_free(snapshot);
    return status;
}

void ws_snapshot_free(struct ws_snapshot *snapshot) {
    for (size_t i = 0; i < snapshot->count; i++) free(snapshot->shot[i].path);
    free(snapshot->shot);
    memset(snapshot, 0, sizeof *snapshot);
}

static bool same(const struct ws_shot *a, const struct ws_shot *b) {
    return a->kind == b->kind && a->mode == b->mode && a->size == b->size && strcmp(a->sha256, b->sha256) == 0;
}

void ws_snapshot_compare(const struct ws_snapshot *before, const struct ws_snapshot *after, ws_change_visit visit,
                         void *context) {
    size_t i = 0;
    size_t k = 0;
    while (i < before->count || k < after->count) {
        const struct ws_shot *a = i < before->count ? &before->shot[i] : NULL;
        const struct ws_shot *b = k < after->count ? &after->shot[k] : NULL;
        int order = !a ? 1 : !b ? -1 : strcmp(a->path, b->path);
        if (order < 0) visit(context, WS_CHANGE_GONE, a, NULL);
        else if (order > 0) visit(context, WS_CHANGE_ADDED, NULL, b);
        else if (!same(a, b)) visit(context, WS_CHANGE_CHANGED, a, b);
        i += order <= 0;
        k += order >= 0;
    }
}
