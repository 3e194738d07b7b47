/* root.c — the root file system inside what a technician has: a volume, a squashfs, a live image with one in it. */
#include "wild_satchel/ext4.h"
#include "wild_satchel/squashfs.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
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

/* Each layer over those before it. */
static enum ws_status stack(struct ws_root *root, const struct ws_edition *e, struct ws_error *error) {
    for (size_t i = 1; i < e->layers; i++) {
        struct ws_tree *upper = NULL;
        enum ws_status status = read_volume(e->layer[i]->content, &upper, error);
        if (status == WS_OK) {
            root->layer[root->layers++] = upper;
            status = ws_tree_lay_over(root->tree, upper, error);
        }
        if (status != WS_OK) return ws_fail_where(error, "%s", e->layer[i]->name);
    }
    return WS_OK;
}

static enum ws_status open_edition(struct ws_root *root, const struct ws_edition *e, struct ws_error *error) {
    char path[256];
    const char *where = ws_node_path(e->layer[0], path, sizeof path);
    (void)snprintf(root->where, sizeof root->where, "%s", where + (*where == '/'));
    (void)snprintf(root->edition, sizeof root->edition, "%s", e->id);
    (void)snprintf(root->edition_name, sizeof root->edition_name, "%s", e->name);
    WS_TRY(read_volume(e->layer[0]->content, &root->tree, error));
    return stack(root, e, error);
}

static enum ws_status say_what_serves(struct ws_error *error) {
    return ws_fail_hint(error, WS_HINT_IMAGE, "",
                        "look at what it is; a full system is made from a live image, from a "
                        "root's archive or folder, or from its ext4 volume or squashfs");
}

enum ws_status ws_root_open(const struct ws_source *input, const struct ws_tree *medium, const char *edition,
                            struct ws_root *root, struct ws_error *error) {
    struct ws_editions *all = calloc(1, sizeof *all);
    const struct ws_edition *e = NULL;
    enum ws_status status = WS_OK;
    struct ws_error own = {0};
    if (!error) error = &own;
    memset(root, 0, sizeof *root);
    if (!all) return ws_fail(error, WS_E_NOMEM, "out of memory for editions");
    if (medium) {
        ws_editions_look(medium, all);
        e = ws_edition_find(all, edition ? edition : "", error);
        if (!e) status = error->status;
    } else if (edition && edition[0]) {
        status = ws_fail(error, WS_E_USAGE, "a root on its own has no editions to choose from");
    }
    if (status == WS_OK) status = e ? open_edition(root, e, error) : read_volume(input, &root->tree, error);
    if (status == WS_E_NOTFOUND && !e && !medium)
        ws_fail(error, WS_E_NOTFOUND, "this is no root file system that can be read here");
    if (status == WS_E_NOTFOUND) say_what_serves(error);
    if (status == WS_OK) status = look_inside(root, error);
    if (status != WS_OK) {
        if (root->where[0]) ws_fail_where(error, "%s", root->where);
        ws_root_close(root);
    }
    free(all);
    return status;
}

void ws_root_close(struct ws_root *root) {
    ws_tree_close(root->tree);
    for (size_t i = 0; i < root->layers; i++) ws_tree_close(root->layer[i]);
    ws_tree_close(root->outer);
    memset(root, 0, sizeof *root);
}
