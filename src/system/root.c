/* root.c — the root file system inside what a technician has: a volume, a squashfs, a live image with one in it. */
#include "wild_satchel/ext4.h"
#include "wild_satchel/squashfs.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <string.h>

/* An ext4 volume or a squashfs. */
static enum ws_status read_volume(const struct ws_source *volume, struct ws_tree **tree, struct ws_error *error) {
    struct ws_ext4_facts ext4;
    enum ws_status status = ws_ext4_probe(volume, &ext4, error);
    if (status == WS_OK) return ws_ext4_read(volume, tree, NULL, error);
    if (status != WS_E_NOTFOUND) return status;
    return ws_squashfs_read(volume, tree, NULL, error);
}

/* Some images keep an image of the root's volume in their squashfs. */
static enum ws_status look_inside(struct ws_root *root, struct ws_error *error) {
    static const char *const inner[] = {"LiveOS/rootfs.img", "LiveOS/ext3fs.img", "rootfs.img"};
    for (size_t i = 0; i < 3; i++) {
        const struct ws_node *n = ws_tree_find(root->tree, inner[i]);
        if (!n || n->kind != WS_NODE_FILE || !n->content) continue;
        root->outer = root->tree;
        root->tree = NULL;
        return read_volume(n->content, &root->tree, error);
    }
    return WS_OK;
}

static const struct ws_node *find_in(const struct ws_tree *medium, char *where, size_t room) {
    size_t count;
    const struct ws_live_family *f = ws_live_families(&count);
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < 4 && f[i].roots[k]; k++) {
            const struct ws_node *n = ws_tree_find_any_case(medium, f[i].roots[k]);
            if (!n || n->kind != WS_NODE_FILE || !n->content) continue;
            (void)snprintf(where, room, "%s", f[i].roots[k]);
            return n;
        }
    return NULL;
}

enum ws_status ws_root_open(const struct ws_source *input, const struct ws_tree *medium, struct ws_root *root,
                            struct ws_error *error) {
    memset(root, 0, sizeof *root);
    const struct ws_node *n = medium ? find_in(medium, root->where, sizeof root->where) : NULL;
    if (medium && !n) {
        ws_fail(error, WS_E_NOTFOUND, "no root file system is found in this image");
        return ws_fail_hint(error, WS_HINT_IMAGE, "",
                            "look at what it is; a full system is made from a live image, from "
                            "a root's archive or folder, or from its ext4 volume or squashfs");
    }
    enum ws_status status = read_volume(n ? n->content : input, &root->tree, error);
    if (status == WS_E_NOTFOUND) {
        ws_fail(error, WS_E_NOTFOUND, "this is no root file system that can be read here");
        ws_fail_hint(error, WS_HINT_IMAGE, "",
                     "look at what it is; a full system is made from a live image, from a "
                     "root's archive or folder, or from its ext4 volume or squashfs");
    }
    if (status == WS_OK) status = look_inside(root, error);
    if (status != WS_OK) {
        if (root->where[0]) ws_fail_where(error, "%s", root->where);
        ws_root_close(root);
    }
    return status;
}

void ws_root_close(struct ws_root *root) {
    ws_tree_close(root->tree);
    ws_tree_close(root->outer);
    memset(root, 0, sizeof *root);
}
