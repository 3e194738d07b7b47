/* files.c — what the files of a medium say: which are too large for FAT, what its kernels run on, how large its root
 * file system is once unpacked. */
#include "base/bytes.h"
#include "image/internal.h"
#include "wild_satchel/squashfs.h"

#include <stdio.h>
#include <string.h>

/* 64 bits or 32, by the setup header of the Linux/x86 boot protocol (documented with the kernel): "HdrS" at 0x202,
 * version at 0x206, xloadflags at 0x236 from version 2.12 on. */
static unsigned kernel_bits(const struct ws_source *content) {
    uint8_t head[0x268];
    if (!content || content->size < sizeof head || ws_source_read(content, 0, head, sizeof head, NULL) != WS_OK)
        return 0;
    if (memcmp(head + 0x202, "HdrS", 4) != 0) return 0;
    return ws_load_le16(head + 0x206) >= 0x20c && (ws_load_le16(head + 0x236) & 1) ? 64 : 32;
}

static enum ws_status look_at_menu(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                   struct ws_error *error) {
    struct ws_image *image = context;
    (void)error;
    const struct ws_node *root = file;
    while (root->parent) root = root->parent;
    for (size_t i = 0; menu && i < menu->entries; i++) {
        const char *path = menu->entry[i].kernel;
        while (*path == '/') path++;
        const struct ws_node *n = root;
        char part[256];
        while (n && *path) {
            size_t length = strcspn(path, "/");
            if (length >= sizeof part) return WS_OK;
            memcpy(part, path, length);
            part[length] = '\0';
            n = ws_node_child(n, part);
            path += length;
            while (*path == '/') path++;
        }
        unsigned bits = n && n->kind == WS_NODE_FILE ? kernel_bits(n->content) : 0;
        if (bits == 64) image->kernels_64 = true;
        if (bits == 32) image->kernels_32 = true;
    }
    return WS_OK;
}

static void look_at_root(struct ws_image *image, const struct ws_tree *tree) {
    const struct ws_live_family *f = image->family;
    for (size_t i = 0; f && i < 4 && f->roots[i]; i++) {
        const struct ws_node *n = ws_tree_find_any_case(tree, f->roots[i]);
        struct ws_squashfs_facts facts;
        if (!n || !n->content) continue;
        ws_node_path(n, image->root_path, sizeof image->root_path);
        image->root_bytes = ws_node_size(n);
        if (ws_squashfs_probe(n->content, &facts, NULL) == WS_OK)
            (void)snprintf(image->root_format, sizeof image->root_format, "squashfs, %s", facts.compressor);
        return;
    }
}

void image_look_at_files(struct ws_image *image, const struct ws_tree *tree) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (n->kind != WS_NODE_FILE) continue;
        uint64_t size = ws_node_size(n);
        image->files++;
        image->file_bytes += size;
        if (size <= WS_FAT_FILE_MOST) continue;
        image->large_files++;
        if (size <= image->largest_bytes) continue;
        image->largest_bytes = size;
        ws_node_path(n, image->largest_path, sizeof image->largest_path);
    }
    (void)ws_medium_menus(tree, look_at_menu, image, NULL);
    look_at_root(image, tree);
}
