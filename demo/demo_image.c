/* demo_image.c — Curlew Live, a system that does not exist. */
#include "demo/demo_image.h"
#include "demo/parts.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void put16(uint8_t *p, unsigned v) {
    p[0] = (uint8_t)v;
    p[1] = (uint8_t)(v >> 8);
}
static void put32(uint8_t *p, uint32_t v) {
    put16(p, v & 0xffff);
    put16(p + 2, v >> 16);
}

/* Writes a line and stops: mov si, text; lodsb; int 10h ... Real code, so that nothing odd happens on a real PC. */
static void demo_code(uint8_t out[432]) {
    static const uint8_t code[] = {0xfa, 0x31, 0xc0, 0x8e, 0xd8, 0xfc, 0xbe, 0x19, 0x7c, 0xac, 0x84, 0xc0, 0x74,
                                   0x06, 0xb4, 0x0e, 0xcd, 0x10, 0xeb, 0xf5, 0xf4, 0xeb, 0xfd, 0x90, 0x90};
    static const char text[] = "Curlew Live is a demonstration and does not run on a PC.\r\n";
    memset(out, 0, 432);
    memcpy(out, code, sizeof code);
    memcpy(out + sizeof code, text, sizeof text);
}

/* A UEFI program's headers (PE/COFF), with a place for a signature. */
size_t demo_loader(bool is_signed, uint8_t *out) {
    memset(out, 0, 2048);
    memcpy(out, "MZ", 2);
    put32(out + 0x3c, 0x80);
    uint8_t *pe = out + 0x80;
    memcpy(pe, "PE\0\0", 4);
    put16(pe + 4, 0x8664);
    put16(pe + 20, 240);
    put16(pe + 22, 0x22);
    put16(pe + 24, 0x20b);
    put16(pe + 24 + 68, 10); /* an EFI application */
    put32(pe + 24 + 108, 16);
    if (is_signed) {
        put32(pe + 24 + 112 + 32, 1024);
        put32(pe + 24 + 112 + 36, 512);
        put32(out + 1024, 512);
        put16(out + 1028, 0x200);
        put16(out + 1030, 2);
    }
    return 1536;
}

size_t demo_kernel(uint8_t *out, size_t length) {
    memset(out, 0, length);
    for (size_t i = 0x400; i < length; i++) out[i] = (uint8_t)(i * 2654435761u >> 24);
    out[0x1f1] = 1;
    put16(out + 0x1fe, 0xaa55);
    memcpy(out + 0x202, "HdrS", 4);
    put16(out + 0x206, 0x20f);
    put16(out + 0x236, 1); /* can be entered with 64 bits */
    return length;
}

/* An initial RAM disk with the drivers that a live stick needs: cpio, "newc" (Linux, buffer-format.rst); its size is
 * always the same. */
/* What its scripts say of remembering, by family. */
static const char *scripts_of(const char *family) {
    if (!family) return "";
    if (strcmp(family, "casper") == 0) return "# casper\ncase $x in persistent) find writable ;; esac\n";
    if (strcmp(family, "casper-old") == 0) return "# casper\ncase $x in persistent) find casper-rw ;; esac\n";
    if (strcmp(family, "dracut") == 0)
        return "getarg rd.live.image\ngetarg rd.live.overlay=\ngetargbool 0 rd.live.overlay.overlayfs\n";
    return "case $x in live-media=*) ;; persistence) find persistence persistence.conf ;; persistence-encryption=*) ;; "
           "esac\n";
}

void demo_initrd(uint8_t *bytes, const char *family) {
    static const char *const names[] = {"init",
                                        "scripts/functions",
                                        "kernel/xhci_pci.ko",
                                        "kernel/uas.ko",
                                        "kernel/ehci_pci.ko",
                                        "kernel/usb-storage.ko",
                                        "kernel/ext4.ko",
                                        "kernel/sd_mod.ko",
                                        "kernel/vfat.ko",
                                        "kernel/loop.ko",
                                        "kernel/overlay.ko",
                                        "kernel/dm-crypt.ko",
                                        "kernel/xts.ko",
                                        "sbin/cryptsetup",
                                        "scripts/live",
                                        "lib/cryptsetup/askpass",
                                        "TRAILER!!!"};
    size_t at = 0;
    memset(bytes, 0, INITRD_BYTES);
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        char head[120];
        const char *text = strcmp(names[i], "scripts/live") == 0 ? scripts_of(family) : "";
        size_t name = strlen(names[i]) + 1;
        int n = snprintf(head, sizeof head, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 1, 0100644, 0,
                         0, 1, 0, (unsigned)strlen(text), 0, 0, 0, 0, (unsigned)name, 0);
        memcpy(bytes + at, head, (size_t)n);
        memcpy(bytes + at + n, names[i], name);
        at = (at + (size_t)n + name + 3) / 4 * 4;
        memcpy(bytes + at, text, strlen(text));
        at = (at + strlen(text) + 3) / 4 * 4;
    }
}

enum ws_status demo_put_text(struct ws_tree *tree, const char *path, const char *text, struct ws_error *error) {
    struct ws_node *node = NULL;
    WS_TRY(ws_tree_put(tree, path, text, strlen(text), &node, error));
    node->mtime = MADE_AT;
    return WS_OK;
}

/* It says which machine it is for, and does nothing (System V ABI, "ELF Header"). */
enum ws_status demo_put_program(struct ws_tree *tree, const char *path, struct ws_error *error) {
    uint8_t elf[64] = {0x7f, 'E', 'L', 'F', 2, 1, 1};
    struct ws_node *node = NULL;
    put16(elf + 16, 2);
    put16(elf + 18, 62);
    WS_TRY(ws_tree_put(tree, path, elf, sizeof elf, &node, error));
    node->mode = 0755;
    node->mtime = MADE_AT;
    return WS_OK;
}

/* What is installed, as the system's own package database says; sizes in KiB. The newer one is without the last. */
static const char packages[] =
    "Package: curlew-base\nStatus: install ok installed\nInstalled-Size: 612400\nVersion: 12.1\n\n"
    "Package: curlew-desk\nStatus: install ok installed\nInstalled-Size: 1054720\nVersion: 12.1\n\n"
    "Package: linux-image-12.1-curlew\nStatus: install ok installed\nInstalled-Size: 391168\nVersion: 12.1\n\n"
    "Package: linux-image-curlew\nStatus: install ok installed\nInstalled-Size: 8\nVersion: 12.1\n\n"
    "Package: old-tide-tables\nStatus: deinstall ok config-files\nInstalled-Size: 99999\nVersion: 2\n\n";
static const char tide_tables[] =
    "Package: tide-tables\nStatus: install ok installed\nInstalled-Size: 20480\nVersion: 3\n\n";

/* What makes a root a system that can become somebody's own. */
static const char *const root_files[][2] = {
    {"etc/inittab", "id:2:initdefault:\n1:2345:respawn:/sbin/agetty 38400 tty1\n"},
    {"etc/passwd", "root:x:0:0:root:/root:/bin/sh\ndaemon:x:1:1::/:/bin/false\n"},
    {"etc/shadow", "root:*:20000:0:99999:7:::\ndaemon:*:20000:0:99999:7:::\n"},
    {"etc/group", "root:x:0:\nsudo:x:27:\naudio:x:29:\nvideo:x:44:\nplugdev:x:46:\n"},
    {"etc/hosts", "127.0.0.1\tlocalhost\n127.0.1.1\tcurlew\n"},
    {"etc/skel/.profile", "PATH=$HOME/bin:$PATH\n"},
    {"etc/rcS.d/README", "What starts first.\n"},
    {"etc/kernel/postinst.d/README", "What runs when a kernel came.\n"},
    {"etc/sudoers.d/README", "Who may administer.\n"},
    {"etc/ssh/ssh_host_ed25519_key.pub", "the key of whoever made the image\n"},
    {"usr/share/zoneinfo/Atlantic/Faroe", "TZif2"},
    {"usr/share/keymaps/i386/qwertz/de.kmap.gz", "keys"},
};
static const char *const root_programs[] = {"sbin/init",
                                            "sbin/agetty",
                                            "sbin/udevd",
                                            "sbin/blockdev",
                                            "usr/sbin/sshd",
                                            "usr/bin/sudo",
                                            "lib/modules/live/kernel/drivers/block/loop.ko"};

/* Texts that say which one it is. */
static enum ws_status put_version(struct ws_tree *root, bool newer, struct ws_error *error) {
    char text[700];
    const int version = newer ? 13 : 12;
    (void)snprintf(text, sizeof text, "Curlew Live %d, made for the Gannet Point tide survey.\n", version);
    WS_TRY(demo_put_text(root, "etc/motd", text, error));
    (void)snprintf(text, sizeof text, "Curlew Live %d\n", version);
    WS_TRY(demo_put_text(root, "etc/issue.net", text, error));
    (void)snprintf(text, sizeof text, "PRETTY_NAME=\"Curlew Live %d\"\nID=curlew\nVERSION_ID=%d\n", version, version);
    WS_TRY(demo_put_text(root, "etc/os-release", text, error));
    (void)snprintf(text, sizeof text, "%s%s", packages, newer ? "" : tide_tables);
    return demo_put_text(root, "var/lib/dpkg/status", text, error);
}

enum ws_status demo_put_root(struct ws_tree *root, bool newer, struct ws_error *error) {
    WS_TRY(put_version(root, newer, error));
    WS_TRY(demo_put_text(root, "etc/hostname", "curlew\n", error));
    for (size_t i = 0; i < sizeof root_files / sizeof root_files[0]; i++)
        WS_TRY(demo_put_text(root, root_files[i][0], root_files[i][1], error));
    for (size_t i = 0; i < sizeof root_programs / sizeof root_programs[0]; i++)
        WS_TRY(demo_put_program(root, root_programs[i], error));
    ws_tree_find(root, "etc/shadow")->mode = 0640;
    return demo_put_text(root, "home/tide/readings.csv", "time,station,metres\n06:00,north hut,1.42\n", error);
}

static enum ws_status make_root(struct demo_image *d, bool newer, struct ws_error *error) {
    struct ws_ext4_params p = {.size = 16 << 20, .made_at = MADE_AT, .label = "curlew-root"};
    memset(p.id.byte, 0x41, 16);
    memset(p.seed.byte, 0x42, 16);
    WS_TRY(ws_tree_create(&d->root_tree, error));
    WS_TRY(demo_put_root(d->root_tree, newer, error));
    WS_TRY(ws_ext4_measure(&p, d->root_tree, &d->root_geometry, error));
    WS_TRY(ws_layout_create(p.size, &d->root, error));
    WS_TRY(ws_ext4_compose(&d->root_geometry, 0, d->root, WS_PHASE_BODY, error));
    WS_TRY(ws_layout_seal(d->root, error));
    return ws_layout_source(d->root, &d->root_source, error);
}

struct words {
    const char *folder, *parameters, *root;
};

static struct words words_of(const char *family) {
    if (family && strncmp(family, "casper", 6) == 0)
        return (struct words){"casper", "boot=casper quiet splash ---", "casper/filesystem.ext4"};
    if (family && strcmp(family, "dracut") == 0)
        return (struct words){"LiveOS", "root=live:CDLABEL=CURLEW_LIVE_12 rd.live.image rd.live.check quiet",
                              "LiveOS/rootfs.img"};
    if (family) return (struct words){"live", "boot=live components quiet", "live/filesystem.ext4"};
    return (struct words){"system", "root=/dev/ram0 quiet", "system/root.ext4"};
}

/* A menu beside the loader, filled up with a comment to the wanted length. */
static enum ws_status put_esp_menu(struct demo_image *d, const struct demo_params *p, struct ws_error *error) {
    struct words w = words_of(p->family);
    struct ws_text text = {0};
    ws_text_printf(&text,
                   "set default=0\nmenuentry \"Curlew Live\" {\n linux /%s/vmlinuz %s\n initrd /%s/initrd.img\n}\n#",
                   w.folder, w.parameters, w.folder);
    while (text.length < p->esp_menu) ws_text_puts(&text, ".");
    enum ws_status status = ws_text_status(&text, error);
    if (status == WS_OK) status = ws_tree_put(d->esp_tree, "EFI/BOOT/grub.cfg", text.data, text.length, NULL, error);
    ws_text_free(&text);
    return status;
}

static enum ws_status make_esp(struct demo_image *d, const struct demo_params *params, struct ws_error *error) {
    uint8_t loader[2048];
    struct ws_fat_params p = {.size = 2 << 20, .label = "CURLEW", .serial = 0x20261124, .made_at = MADE_AT};
    uint64_t size = 0;
    size_t length = demo_loader(!params->unsigned_loader, loader);
    WS_TRY(ws_tree_create(&d->esp_tree, error));
    WS_TRY(ws_tree_put(d->esp_tree, "EFI/BOOT/BOOTX64.EFI", loader, length, NULL, error));
    WS_TRY(ws_tree_put(d->esp_tree, "EFI/BOOT/grubx64.efi", loader, length, NULL, error));
    if (params->esp_menu) WS_TRY(put_esp_menu(d, params, error));
    WS_TRY(ws_layout_create(p.size, &d->esp, error));
    WS_TRY(ws_fat_compose(&p, d->esp_tree, 0, d->esp, &size, NULL, error));
    WS_TRY(ws_layout_seal(d->esp, error));
    return ws_layout_source(d->esp, &d->esp_source, error);
}

static void pad_to_sector(struct ws_text *text) {
    while (text->length % 2048 != 2040) ws_text_puts(text, text->length % 80 == 79 ? "\n" : "#");
    ws_text_puts(text, "\n# end.\n");
}

static enum ws_status make_menus(struct demo_image *d, const struct demo_params *p, struct ws_error *error) {
    struct words w = words_of(p->family);
    struct ws_text grub = {0};
    struct ws_text isolinux = {0};
    ws_text_printf(
        &grub,
        "set default=0\nset timeout=5\n\nmenuentry \"Curlew Live\" --hotkey=l {\n\tlinux\t/%s/vmlinuz %s\n"
        "\tinitrd\t/%s/initrd.img\n}\nmenuentry \"Curlew Live (safe graphics)\" {\n\tlinux\t/%s/vmlinuz %s nomodeset\n"
        "\tinitrd\t/%s/initrd.img\n}\n",
        w.folder, w.parameters, w.folder, w.folder, w.parameters, w.folder);
    ws_text_printf(&isolinux,
                   "default live\ntimeout 50\nprompt 0\n\nlabel live\n  menu label ^Curlew Live\n  menu default\n"
                   "  kernel /%s/vmlinuz\n  append initrd=/%s/initrd.img %s\n\nlabel safe\n  menu label Curlew Live "
                   "(^safe graphics)\n"
                   "  kernel /%s/vmlinuz\n  append initrd=/%s/initrd.img %s nomodeset\n",
                   w.folder, w.folder, w.parameters, w.folder, w.folder, w.parameters);
    if (p->grub_text) {
        ws_text_free(&grub);
        ws_text_puts(&grub, p->grub_text);
    }
    if (p->full_menus) {
        pad_to_sector(&grub);
        pad_to_sector(&isolinux);
    }
    enum ws_status status = grub.failed || isolinux.failed ? ws_fail(error, WS_E_NOMEM, "out of memory") : WS_OK;
    if (status == WS_OK) status = demo_put_text(d->tree, "boot/grub/grub.cfg", grub.data, error);
    if (status == WS_OK) status = demo_put_text(d->tree, "isolinux/isolinux.cfg", isolinux.data, error);
    ws_text_free(&grub);
    ws_text_free(&isolinux);
    return status;
}

static enum ws_status make_lists(struct demo_image *d, struct ws_error *error) {
    static const struct {
        const char *name;
        enum ws_hash_kind kind;
    } lists[] = {{"md5sum.txt", WS_HASH_MD5}, {"sha256sum.txt", WS_HASH_SHA256}};
    for (int i = 0; i < 2; i++) {
        struct ws_text text = {0};
        enum ws_status status = WS_OK;
        for (struct ws_node *n = ws_tree_root(d->tree); n && status == WS_OK; n = ws_tree_next(n)) {
            char hex[WS_HASH_HEX];
            char path[256];
            if (n->kind != WS_NODE_FILE || ws_is_checklist(n->name) || strcmp(n->name, "isolinux.bin") == 0) continue;
            status = ws_source_hash(n->content, lists[i].kind, hex, error);
            ws_text_printf(&text, "%s  .%s\n", hex, ws_node_path(n, path, sizeof path));
        }
        if (status == WS_OK) status = demo_put_text(d->tree, lists[i].name, text.data, error);
        ws_text_free(&text);
        WS_TRY(status);
    }
    return WS_OK;
}

static enum ws_status make_tree(struct demo_image *d, const struct demo_params *p, struct ws_error *error) {
    struct words w = words_of(p->family);
    char path[128];
    struct ws_node *node = NULL;
    uint8_t *bytes = malloc(64 * 1024);
    enum ws_status status;
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory");
    WS_GO(ws_tree_create(&d->tree, error));
    size_t length = demo_kernel(bytes, 64 * 1024);
    (void)snprintf(path, sizeof path, "%s/vmlinuz", w.folder);
    WS_GO(ws_tree_put(d->tree, path, bytes, length, NULL, error));
    (void)snprintf(path, sizeof path, "%s/initrd.img", w.folder);
    demo_initrd(bytes, p->family);
    WS_GO(ws_tree_put(d->tree, path, bytes, INITRD_BYTES, &node, error));
    if (p->initrd) node->content = p->initrd;
    WS_GO(ws_tree_put(d->tree, w.root, "", 0, &node, error));
    node->content = d->root_source;
    demo_code(bytes);
    memset(bytes + 432, 0x90, 4096);
    WS_GO(ws_tree_put(d->tree, "isolinux/isolinux.bin", bytes, 4096, NULL, error));
    WS_GO(ws_tree_put(d->tree, "boot/grub/efi.img", "", 0, &node, error));
    node->content = d->esp_source;
    const char *release = p->family && strcmp(p->family, "casper-old") == 0 ? "18.04" : "26.11";
    (void)snprintf(path, sizeof path, "Curlew Live %s - Release amd64\n", release);
    WS_GO(demo_put_text(d->tree, ".disk/info", path, error));
    if (p->ballast) {
        WS_GO(ws_source_zeros(p->ballast, &d->ballast, error));
        WS_GO(ws_tree_put(d->tree, "pool/ballast.bin", "", 0, &node, error));
        node->content = d->ballast;
    }
    WS_GO(make_menus(d, p, error));
    WS_GO(make_lists(d, error));
    for (struct ws_node *n = ws_tree_root(d->tree); n; n = ws_tree_next(n)) n->mtime = MADE_AT;
done:
    free(bytes);
    return status;
}

enum ws_status hybrid_table(enum demo_table kind, const uint8_t code[432], uint64_t bios_at, uint64_t esp_at,
                            uint64_t esp_length, uint64_t size, bool crowded, struct ws_layout *layout,
                            struct ws_error *error) {
    struct ws_table *t = malloc(sizeof *t);
    struct ws_guid id;
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory");
    memset(id.byte, 0x5a, 16);
    bool gpt = kind == DEMO_GPT || kind == DEMO_HYBRID || kind == DEMO_MBR_FIRST;
    if (gpt) ws_table_new_gpt(t, size, 512, &id);
    else ws_table_new_mbr(t, size, 512, 0x26112400);
    memcpy(t->mbr_sector, code, 432);
    put32(t->mbr_sector + 432, (uint32_t)(bios_at / 512));
    put32(t->mbr_sector + 440, 0x26112400);
    if (gpt) {
        const struct ws_partition_type *efi = ws_partition_type_find("efi");
        const struct ws_partition_type *data = ws_partition_type_find("data");
        t->gpt[0] =
            (struct ws_partition){.number = 1, .at = 64 * 512, .length = size - 64 * 512 - 40 * 512, .name = "ISO9660"};
        t->gpt[1] = (struct ws_partition){.number = 2, .at = esp_at, .length = esp_length, .name = "EFI start image"};
        (void)ws_guid_parse(data->guid, &t->gpt[0].type);
        (void)ws_guid_parse(efi->guid, &t->gpt[1].type);
        memset(t->gpt[0].id.byte, 0x61, 16);
        memset(t->gpt[1].id.byte, 0x62, 16);
        t->gpt_count = 2;
        t->kind = kind == DEMO_GPT ? WS_TABLE_GPT : kind == DEMO_HYBRID ? WS_TABLE_HYBRID : WS_TABLE_MBR_FIRST;
        if (kind != DEMO_HYBRID) t->mbr_count = kind == DEMO_GPT ? 1 : 0;
        if (kind == DEMO_HYBRID)
            t->mbr[t->mbr_count++] =
                (struct ws_partition){.number = 2, .at = esp_at, .length = esp_length, .mbr_type = 0xef};
    }
    if (!gpt || kind == DEMO_MBR_FIRST) {
        t->mbr[0] = (struct ws_partition){.number = 1, .at = 0, .length = size, .mbr_type = 0x17, .active = true};
        t->mbr[1] = (struct ws_partition){.number = 2, .at = esp_at, .length = esp_length, .mbr_type = 0xef};
        t->mbr_count = 2;
        for (unsigned n = 3; crowded && n <= 4; n++)
            t->mbr[t->mbr_count++] =
                (struct ws_partition){.number = n, .at = bios_at, .length = 2048, .mbr_type = 0x0c};
    }
    enum ws_status status = ws_table_compose(t, layout, error);
    free(t);
    return status;
}

enum ws_status demo_image_make(const struct demo_params *p, struct demo_image *d, struct ws_error *error) {
    struct ws_iso_params iso = {.publisher = "GANNET POINT TIDE SURVEY",
                                .application = "WILD SATCHEL DEMO",
                                .made_at = MADE_AT,
                                .bios_path = "isolinux/isolinux.bin",
                                .efi_path = "boot/grub/efi.img"};
    uint8_t code[432];
    uint64_t size = 0;
    enum ws_status status;
    memset(d, 0, sizeof *d);
    (void)snprintf(iso.volume_id, sizeof iso.volume_id, "%s", p->volume_id ? p->volume_id : "CURLEW_LIVE_12");
    WS_GO(make_root(d, p->newer, error));
    WS_GO(make_esp(d, p, error));
    WS_GO(make_tree(d, p, error));
    WS_GO(ws_iso_compose(&iso, d->tree, NULL, &size, error));
    uint64_t total = (size + 64 * 512 + (1 << 20)) >> 20 << 20; /* whole MiB, room for a GPT's backup */
    if (p->table == DEMO_NO_TABLE) total = size;
    WS_GO(ws_layout_create(total, &d->layout, error));
    WS_GO(ws_iso_compose(&iso, d->tree, d->layout, &size, error));
    const struct ws_node *esp = ws_tree_find(d->tree, "boot/grub/efi.img");
    d->esp_at = esp->work;
    d->esp_length = ws_node_size(esp);
    d->bios_at = ws_tree_find(d->tree, "isolinux/isolinux.bin")->work;
    demo_code(code);
    if (p->table != DEMO_NO_TABLE)
        WS_GO(hybrid_table(p->table, code, d->bios_at, d->esp_at, d->esp_length, total, p->crowded_mbr, d->layout,
                           error));
    WS_GO(ws_layout_seal(d->layout, error));
    WS_GO(ws_layout_source(d->layout, &d->source, error));
done:
    if (status != WS_OK) demo_image_free(d);
    return status;
}

void demo_image_free(struct demo_image *d) {
    ws_source_close(d->source);
    ws_layout_close(d->layout);
    ws_tree_close(d->tree);
    ws_source_close(d->ballast);
    ws_source_close(d->esp_source);
    ws_layout_close(d->esp);
    ws_tree_close(d->esp_tree);
    ws_source_close(d->root_source);
    ws_layout_close(d->root);
    ws_ext4_geometry_free(&d->root_geometry);
    ws_tree_close(d->root_tree);
    memset(d, 0, sizeof *d);
}
