/* links.c — links turned into what they show, for file systems that know none. */
#include "tree/internal.h"
#include "wild_satchel/names.h"

#include <string.h>

enum { HOPS_MOST = 40 };

/* What a link's target names, counted from the folder the link stands in; NULL if it leaves the tree, names nothing or
 * goes round in circles. An absolute one names something of the running system. */
static struct ws_node *follow(struct ws_node *at, const char *target, unsigned *hops) {
    if (!target || target[0] == '/' || ++*hops > HOPS_MOST) return NULL;
    while (at && *target) {
        size_t length = strcspn(target, "/");
        if (at->kind != WS_NODE_FOLDER) return NULL;
        if (length == 2 && memcmp(target, "..", 2) == 0) at = at->parent;
        else if (length > 0 && !(length == 1 && target[0] == '.')) at = tree_index_find(at, target, length, false);
        if (at && at->kind == WS_NODE_LINK) at = follow(at->parent, at->target, hops);
        target += length;
        while (*target == '/') target++;
    }
    return at;
}

void ws_tree_copy_links(struct ws_tree *tree, const char *system, struct ws_findings *findings) {
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        unsigned hops = 0;
        char path[160];
        char shown[160];
        bool link = n->kind == WS_NODE_LINK && !n->same_as;
        struct ws_node *file = link ? follow(n->parent, n->target, &hops) : n->same_as;
        if (file && file->same_as) file = file->same_as;
        if (!file || file->kind != WS_NODE_FILE) continue;
        n->same_as = NULL;
        n->kind = WS_NODE_FILE;
        n->content = file->content;
        n->mode = file->mode;
        n->mtime = file->mtime;
        n->target = NULL;
        ws_findings_add(findings, WS_NOTE, "%s is %s, which %s cannot hold; it becomes a copy of %s",
                        ws_node_path(n, path, sizeof path), link ? "a symbolic link" : "a second name of another file",
                        system, ws_node_path(file, shown, sizeof shown));
    }
}
