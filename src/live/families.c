/* families.c — the conventions of live systems, as data. A new family is a row here. */
#include "wild_satchel/live.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* live-boot: scripts of the package live-boot, 9990-misc-helpers.sh and 9990-overlay.sh; its search for a file leaves
 * out the devices the medium is mounted from, so a file beside the system would never be found.
 * casper: scripts/casper of the package casper; since release 19.10 the label is "writable".
 * dracut: dmsquash-live-root.sh of the package dracut-live; the folder and its sibling "ovlwork" must exist, and in a
 * volume that lies in a file they have just these names. It looks for the file where its parameter says. The
 * parameter rd.live.check would compare the medium with a checksum from before its menu was edited. */
static const struct ws_live_family families[] = {
    {
        .word = "live-boot",
        .script_word = "live-media",
        .title = "live-boot",
        .folder = "live",
        .signs = {"boot=live"},
        .label = "persistence",
        .parameters = "persistence",
        .lock_parameters = "persistence-encryption=luks",
        .drop = {"nopersistence", "nopersistent"},
        .config_path = "persistence.conf",
        .config_text = "/ union\n",
        .changes = "rw",
        .work = "work",
        .overlay_file = "persistence",
        .roots = {"live/filesystem.squashfs", "live/filesystem.ext4"},
    },
    {
        .word = "casper-old",
        .script_word = "casper",
        .title = "casper (before 19.10)",
        .folder = "casper",
        .signs = {"boot=casper"},
        .label = "casper-rw",
        .overlay_file = "casper-rw",
        .overlay_beside = true,
        .parameters = "persistent",
        .drop = {"nopersistent"},
        .changes = "upper",
        .work = "work",
        .roots = {"casper/filesystem.squashfs", "casper/filesystem.ext4"},
        .release_before = "19.10",
    },
    {
        .word = "casper",
        .script_word = "casper",
        .title = "casper",
        .folder = "casper",
        .signs = {"boot=casper", "layerfs-path="},
        .label = "writable",
        .overlay_file = "writable",
        .overlay_beside = true,
        .parameters = "persistent",
        .drop = {"nopersistent"},
        .changes = "upper",
        .work = "work",
        .roots = {"casper/filesystem.squashfs", "casper/minimal.squashfs", "casper/filesystem.ext4"},
    },
    {
        .word = "dracut",
        .script_word = "rd.live",
        .title = "dracut live",
        .folder = "LiveOS",
        .signs = {"rd.live.image", "root=live:"},
        .label = "persistence",
        .parameters = "rd.live.overlay=LABEL=persistence:/overlayfs rd.live.overlay.overlayfs=1",
        .overlay_file = "overlay",
        .overlay_beside = true,
        .file_parameters = "rd.live.overlay=LABEL={label}:/overlay rd.live.overlay.overlayfs=1",
        .drop = {"rd.live.check", "rd.live.overlay=", "rd.live.overlay.overlayfs=", "rd.live.overlay.overlayfs"},
        .folders = {"overlayfs", "ovlwork"},
        .changes = "overlayfs",
        .work = "ovlwork",
        .roots = {"LiveOS/squashfs.img", "LiveOS/rootfs.img"},
    },
};
enum { FAMILIES = sizeof families / sizeof families[0] };

const struct ws_live_family *ws_live_families(size_t *count) {
    *count = FAMILIES;
    return families;
}

const struct ws_live_family *ws_live_family_find(const char *word) {
    for (size_t i = 0; i < FAMILIES; i++)
        if (strcmp(families[i].word, word) == 0) return &families[i];
    return NULL;
}

bool ws_live_family_starts(const struct ws_live_family *family, const char *parameters) {
    for (size_t k = 0; k < 4 && family->signs[k]; k++)
        if (ws_parameter_is_set(parameters, family->signs[k])) return true;
    return false;
}

const struct ws_live_family *ws_live_family_of_parameters(const char *parameters) {
    for (size_t i = 0; i < FAMILIES; i++) {
        if (families[i].release_before) continue;
        if (ws_live_family_starts(&families[i], parameters)) return &families[i];
    }
    return NULL;
}

bool ws_live_arranged_otherwise(const struct ws_live_family *f, const struct ws_tree *volume) {
    const struct ws_node *n = f->config_path ? ws_tree_find(volume, f->config_path) : NULL;
    char *text = NULL;
    size_t length = 0;
    struct ws_error ignored;
    bool other = n && n->content && ws_source_load(n->content, 65536, &text, &length, &ignored) == WS_OK &&
                 (length != strlen(f->config_text) || memcmp(text, f->config_text, length) != 0);
    free(text);
    return other;
}

enum ws_status ws_live_volume_tree(const struct ws_live_family *family, int64_t made_at, struct ws_tree **out,
                                   struct ws_error *error) {
    struct ws_tree *tree = NULL;
    struct ws_node *node = NULL;
    enum ws_status status;
    WS_TRY(ws_tree_create(&tree, error));
    ws_tree_root(tree)->mtime = made_at;
    if (family->config_path) {
        WS_GO(ws_tree_put(tree, family->config_path, family->config_text, strlen(family->config_text), &node, error));
        node->mtime = made_at;
    }
    for (size_t i = 0; i < 3 && family->folders[i]; i++) {
        WS_GO(ws_tree_folder(tree, family->folders[i], &node, error));
        node->mtime = made_at;
    }
    status = WS_OK;
done:
    if (status == WS_OK) *out = tree;
    else ws_tree_close(tree);
    return status;
}
