/* office.c — the disk of the survey's office PC, as its installer and some years of use left it: started by a loader of
 * its own that only its firmware knows, on volumes that are named all over its texts.
 */
#include "demo/demo_image.h"
#include "demo/parts.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20, KERNEL = 64 * 1024 };
static const uint64_t disk_bytes = 64ull << 30, esp_at = 1ull << 20, esp_bytes = 512ull << 20, root_bytes = 55ull << 30,
                      swap_bytes = 8ull << 30;

static void id_of(uint8_t with, struct ws_guid *id) {
    memset(id->byte, with, 16);
    ws_guid_from_random(id);
}

static enum ws_status put_bytes(struct ws_tree *tree, const char *path, size_t length, uint8_t seed,
                                struct ws_error *error) {
    uint8_t *bytes = malloc(length);
    struct ws_node *node = NULL;
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for the demo");
    for (size_t i = 0; i < length; i++) bytes[i] = (uint8_t)((i + seed) * 2654435761u >> 22);
    enum ws_status status = ws_tree_put(tree, path, bytes, length, &node, error);
    if (status == WS_OK) node->mtime = MADE_AT;
    free(bytes);
    return status;
}

static enum ws_status put_kernel(struct ws_tree *root, const char *version, struct ws_error *error) {
    uint8_t *bytes = malloc(KERNEL);
    char path[80];
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for the demo");
    size_t length = demo_kernel(bytes, KERNEL);
    (void)snprintf(path, sizeof path, "boot/vmlinuz-%s", version);
    enum ws_status status = ws_tree_put(root, path, bytes, length, NULL, error);
    demo_initrd(bytes, "none");
    (void)snprintf(path, sizeof path, "boot/initrd.img-%s", version);
    if (status == WS_OK) status = ws_tree_put(root, path, bytes, INITRD_BYTES, NULL, error);
    free(bytes);
    (void)snprintf(path, sizeof path, "lib/modules/%s/kernel/fs/tide.ko", version);
    return status == WS_OK ? put_bytes(root, path, 3 * MIB, 7, error) : status;
}

/* What years of use leave. */
static enum ws_status put_use(struct ws_tree *root, bool later, struct ws_error *error) {
    WS_TRY(demo_put_text(root, "home/tide/log/north-hut.txt",
                         later ? "06:00 1.42\n12:10 3.88\n18:20 1.39\n" : "06:00 1.42\n12:10 3.88\n", error));
    if (later) ws_tree_find(root, "home/tide/log/north-hut.txt")->mtime = MADE_AT + 86400;
    if (later) WS_TRY(put_bytes(root, "home/tide/charts/spring.png", 2 * MIB, 40, error));
    for (int i = 0; i < 6; i++) {
        char path[80];
        (void)snprintf(path, sizeof path, "home/tide/charts/%d.png", 2019 + i);
        WS_TRY(put_bytes(root, path, 4 * MIB, (uint8_t)i, error));
        (void)snprintf(path, sizeof path, "var/cache/apt/archives/curlew-desk_12.%d_amd64.deb", i);
        WS_TRY(put_bytes(root, path, 6 * MIB, (uint8_t)(i + 10), error));
        (void)snprintf(path, sizeof path, "var/log/journal/curlew/system@%d.journal", i);
        WS_TRY(put_bytes(root, path, 2 * MIB, (uint8_t)(i + 20), error));
    }
    return put_bytes(root, "home/tide/.cache/browser/data", 5 * MIB, 33, error);
}

static enum ws_status put_names(struct ws_tree *root, const char *root_id, const char *swap_id,
                                struct ws_error *error) {
    char text[900];
    (void)snprintf(
        text, sizeof text,
        "UUID=%s / ext4 errors=remount-ro 0 1\nUUID=0D15-EA5E /boot/efi vfat umask=0077 0 1\n"
        "UUID=%s none swap sw 0 0\nUUID=5eaf00d5-0000-4000-8000-000000000000 /media/archive ext4 defaults 0 2\n",
        root_id, swap_id);
    WS_TRY(demo_put_text(root, "etc/fstab", text, error));
    (void)snprintf(text, sizeof text, "RESUME=UUID=%s\n", swap_id);
    WS_TRY(demo_put_text(root, "etc/initramfs-tools/conf.d/resume", text, error));
    (void)snprintf(
        text, sizeof text,
        "set default=\"0\"\nset timeout=5\nsearch --no-floppy --fs-uuid --set=root %s\nmenuentry 'Curlew 12' {\n"
        "\tlinux /boot/vmlinuz-12.2-curlew root=UUID=%s ro quiet resume=UUID=%s\n\tinitrd "
        "/boot/initrd.img-12.2-curlew\n}\n",
        root_id, root_id, swap_id);
    return demo_put_text(root, "boot/grub/grub.cfg", text, error);
}

static enum ws_status make_root(struct ws_tree *root, bool later, const char *root_id, const char *swap_id,
                                struct ws_error *error) {
    WS_TRY(demo_put_root(root, false, error));
    WS_TRY(
        demo_put_text(root, "etc/os-release", "PRETTY_NAME=\"Curlew 12, office\"\nID=curlew\nVERSION_ID=12\n", error));
    WS_TRY(demo_put_text(root, "etc/hostname", "office\n", error));
    WS_TRY(demo_put_text(root, "etc/passwd",
                         "root:x:0:0:root:/root:/bin/sh\ntide:x:1000:1000:Tide survey:/home/tide:/bin/sh\n", error));
    WS_TRY(demo_put_text(root, "etc/machine-id", "c0ffee00c0ffee00c0ffee00c0ffee00\n", error));
    WS_TRY(put_kernel(root, "12.1-curlew", error));
    WS_TRY(put_kernel(root, "12.2-curlew", error));
    WS_TRY(put_use(root, later, error));
    return put_names(root, root_id, swap_id, error);
}

static enum ws_status make_esp(struct ws_tree *esp, const char *root_id, struct ws_error *error) {
    uint8_t loader[2048];
    char text[200];
    const size_t length = demo_loader(false, loader);
    WS_TRY(ws_tree_put(esp, "EFI/curlew/loader.efi", loader, length, NULL,
                       error)); /* only the PC's firmware knows of it */
    (void)snprintf(text, sizeof text, "search.fs_uuid %s root\nconfigfile /boot/grub/grub.cfg\n", root_id);
    return demo_put_text(esp, "EFI/curlew/grub.cfg", text, error);
}

static enum ws_status add(struct demo_image *d, struct ws_table *table, const char *format, const char *type,
                          const char *label, uint64_t at, uint64_t size, uint8_t with, struct ws_tree *tree,
                          struct ws_error *error) {
    struct ws_volume_params p = {.size = size, .sector = 512, .align = MIB, .made_at = MADE_AT};
    struct ws_guid part;
    unsigned number;
    id_of(with, &p.id);
    id_of((uint8_t)(with + 1), &part);
    if (strcmp(format, "fat32") == 0) { /* 0D15-EA5E */
        const uint8_t serial[4] = {0x5e, 0xea, 0x15, 0x0d};
        memcpy(p.id.byte, serial, 4);
    }
    (void)snprintf(p.label, sizeof p.label, "%s", label);
    WS_TRY(ws_table_add(table, at, size, type, &part, label, &number, error));
    return ws_format_find(format)->compose(&p, tree, at, d->layout, NULL, error);
}

enum ws_status demo_office_make(bool later, struct demo_image *d, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    struct ws_guid id, swap;
    char root_id[37], swap_id[37];
    enum ws_status status;
    memset(d, 0, sizeof *d);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for the demo");
    id_of(0x31, &id);
    id_of(0x41, &swap);
    (void)ws_guid_text(&id, root_id);
    (void)ws_guid_text(&swap, swap_id);
    id_of(0x21, &id);
    ws_table_new_gpt(table, disk_bytes, 512, &id);
    WS_GO(ws_layout_create(disk_bytes, &d->layout, error));
    WS_GO(ws_tree_create(&d->esp_tree, error));
    WS_GO(ws_tree_create(&d->root_tree, error));
    WS_GO(ws_tree_create(&d->tree, error));
    WS_GO(make_esp(d->esp_tree, root_id, error));
    WS_GO(make_root(d->root_tree, later, root_id, swap_id, error));
    WS_GO(add(d, table, "fat32", "efi", "EFI", esp_at, esp_bytes, 0x51, d->esp_tree, error));
    WS_GO(add(d, table, "ext4", "linux", "office", esp_at + esp_bytes, root_bytes, 0x31, d->root_tree, error));
    WS_GO(add(d, table, "swap", "swap", "", esp_at + esp_bytes + root_bytes, swap_bytes, 0x41, d->tree, error));
    WS_GO(ws_table_compose(table, d->layout, error));
    WS_GO(ws_layout_seal(d->layout, error));
    WS_GO(ws_layout_source(d->layout, &d->source, error));
done:
    free(table);
    if (status != WS_OK) demo_image_free(d);
    return status;
}
