/* roots.c — root file systems made up for tests. */
#include "tests/roots.h"

#include "base/bytes.h"

void put_program(struct ws_tree *tree, const char *path, unsigned machine) {
    uint8_t elf[64] = {0x7f, 'E', 'L', 'F', 2, 1, 1};
    struct ws_node *n = NULL;
    elf[16] = 3;
    elf[18] = (uint8_t)machine;
    if (ws_tree_put(tree, path, elf, sizeof elf, &n, &error) != WS_OK) abort();
    n->mode = 0755;
}

void put_kernel(struct ws_tree *tree, const char *version) {
    static uint8_t kernel[4096];
    char path[200];
    memcpy(kernel + 0x202, "HdrS", 4);
    snprintf(path, sizeof path, "boot/vmlinuz-%s", version);
    if (ws_tree_put(tree, path, kernel, sizeof kernel, NULL, &error) != WS_OK) abort();
    snprintf(path, sizeof path, "boot/initrd.img-%s", version);
    if (ws_tree_put(tree, path, version, strlen(version), NULL, &error) != WS_OK) abort();
}

bool make_volume(struct ws_tree *tree, uint64_t size, struct volume *v) {
    struct ws_ext4_params params = {.size = size};
    memset(v, 0, sizeof *v);
    return ws_ext4_measure(&params, tree, &v->geometry, &error) == WS_OK &&
           ws_layout_create(size, &v->layout, &error) == WS_OK &&
           ws_ext4_compose(&v->geometry, 0, v->layout, WS_PHASE_BODY, &error) == WS_OK &&
           ws_layout_seal(v->layout, &error) == WS_OK && ws_layout_source(v->layout, &v->source, &error) == WS_OK;
}
void free_volume(struct volume *v) {
    ws_source_close(v->source);
    ws_layout_close(v->layout);
    ws_ext4_geometry_free(&v->geometry);
}

void put_initrd(struct ws_tree *tree, const char *path, const char *const names[]) {
    struct ws_text cpio = {0};
    for (size_t i = 0;; i++) {
        const char *name = names[i] ? names[i] : "TRAILER!!!";
        ws_text_printf(&cpio, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s", 1, 0100644, 0, 0, 1, 0,
                       names[i] ? 6 : 0, 0, 0, 0, 0, (unsigned)strlen(name) + 1, 0, name);
        ws_text_add(&cpio, "\0\0\0\0", 4 - cpio.length % 4);
        if (!names[i]) break;
        ws_text_add(&cpio, "driver\0\0", 8);
    }
    if (ws_tree_put(tree, path, cpio.data, cpio.length, NULL, &error) != WS_OK) abort();
    ws_text_free(&cpio);
}

struct ws_tree *random_root(void) {
    struct ws_tree *tree = random_tree(20 + random_below(300), TREE_ALL, 256 << 10);
    put_text(tree, "etc/os-release", "PRETTY_NAME=Curlew\n");
    put_text(tree, "etc/fstab", "UUID=other / ext4 defaults 0 1\n");
    put_text(tree, "etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    put_program(tree, "bin/sh", 62);
    put_kernel(tree, "6.1");
    return tree;
}
