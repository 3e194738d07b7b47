/* test_drivers.c — drivers put behind an initial RAM disk that lacks them, unpacked by another program. */
#include "tests/roots.h"

#include "base/bytes.h"

#define MODULES "lib/modules/6.2/"
static const uint32_t usb =
    1u << WS_DRIVER_USB_3 | 1u << WS_DRIVER_USB_2 | 1u << WS_DRIVER_USB_STORAGE | 1u << WS_DRIVER_UAS;

/* What needs what; the last one named is needed first (modules.dep(5)). @: how they are packed. */
static const char needs[] = "kernel/usb/xhci-pci.ko@: kernel/usb/xhci-hcd.ko@ kernel/usb/usbcore.ko@\n"
                            "kernel/usb/xhci-hcd.ko@: kernel/usb/usbcore.ko@\n"
                            "kernel/usb/usbcore.ko@:\n"
                            "kernel/usb/ehci-pci.ko@: kernel/usb/usbcore.ko@\n"
                            "kernel/usb/uas.ko@: kernel/usb/usb-storage.ko@ kernel/usb/usbcore.ko@\n"
                            "kernel/usb/usb-storage.ko@: kernel/usb/usbcore.ko@\n"
                            "kernel/other/tide.ko@: kernel/other/gauge.ko@\n";
static const char *const files[] = {"xhci-pci", "xhci-hcd", "usbcore", "ehci-pci", "uas", "usb-storage"};

static void put_modules(struct ws_tree *tree, const char *packing, const char *packer, const char *damaged,
                        const char *left_out) {
    struct ws_text table = {0};
    char path[128];
    for (const char *p = needs; *p; p++) ws_text_printf(&table, *p == '@' ? "%s" : "%.1s", *p == '@' ? packing : p);
    put_text(tree, MODULES "modules.dep", table.data);
    ws_text_free(&table);
    put_text(tree, MODULES "modules.builtin", "kernel/fs/vfat.ko\n");
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        struct ws_text packed = {0};
        if (strcmp(files[i], left_out) == 0) continue;
        CHECK_INT(
            shell(&packed, "printf '%sELF%s' | %s", strcmp(files[i], damaged) == 0 ? "x" : "\\177", files[i], packer),
            0);
        snprintf(path, sizeof path, MODULES "kernel/usb/%s.ko%s", files[i], packing);
        OK(ws_tree_put(tree, path, packed.data, packed.length, NULL, &error));
        ws_text_free(&packed);
    }
}

/* What lies behind the initial RAM disk as it was. */
static void look_behind(const struct ws_tree *tree, uint64_t was, const char *hook, const char *says) {
    const struct ws_node *n = ws_tree_find(tree, "boot/initrd.img-6.2");
    const char *file = scratch("behind"), *folder = scratch("unpacked");
    struct ws_text said = {0};
    struct ws_source *slice = NULL;
    const uint64_t at = ws_round_up(was, 512);
    OK(ws_source_slice(n->content, at, n->content->size - at, &slice, &error));
    save_source(slice, file);
    ws_source_close(slice);
    CHECK_INT(shell(&said,
                    "rm -rf %s && mkdir %s && bsdtar -xf %s -C %s && cd %s && cat start-drivers.d/list && "
                    "tail -qc +2 $(sed 's,^,start-drivers.d/,' start-drivers.d/list) && "
                    "stat -c ' %%a' start-drivers && head -c 4 start-drivers | tail -c 3 && cat %s && test -x %s",
                    folder, folder, file, folder, folder, hook, hook),
              0);
    CHECK_STR(said.data, says);
    ws_text_free(&said);
}

static void they_come_in_order(void) {
    static const char *const own[] = {"scripts/functions", "scripts/init-top/ORDER", "usr/lib/modules/6.2/sd_mod.ko",
                                      "ext4.ko", NULL};
    static const char *const no_hook[] = {"./scripts/functions", "sd_mod.ko", "ext4.ko", NULL};
    static const char *const other[] = {"usr/lib/dracut", "usr/lib/dracut/hooks/cmdline/30-x.sh", "sd_mod.ko",
                                        "ext4.ko", NULL};
    static const struct {
        const char *const *initrd, *packing, *packer, *hook, *said, *settings, *setting;
    } cases[] = {
        {own, "", "cat", "scripts/init-top/ORDER", "/start-drivers\ndriver", "etc/initramfs-tools/conf.d",
         "MODULES=most\n"},
        {no_hook, ".zst", "zstd -qc", "scripts/init-top/ORDER", "/start-drivers\n", "etc/initramfs-tools/conf.d",
         "MODULES=most\n"},
        {other, ".xz", "xz -c", "usr/lib/dracut/hooks/pre-udev/00-start-drivers.sh", "/start-drivers\n",
         "etc/dracut.conf.d", "hostonly=\"no\"\n"},
        {other, ".gz", "gzip -c", "usr/lib/dracut/hooks/pre-udev/00-start-drivers.sh", "/start-drivers\n", NULL, NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = random_root();
        struct ws_system_facts f;
        uint32_t added = 0;
        char says[512], path[128];
        put_kernel(tree, "6.2");
        put_initrd(tree, "boot/initrd.img-6.2", cases[i].initrd);
        put_modules(tree, cases[i].packing, cases[i].packer, "", "");
        snprintf(path, sizeof path, "%s/README", cases[i].settings ? cases[i].settings : "etc");
        put_text(tree, path, "settings\n");
        OK(ws_system_look(tree, &f, &error));
        OK(ws_kernel_look(tree, &f.kernel[0], &error));
        CHECK_INT(ws_kernel_lacks(&f.kernel[0]), 1u << WS_DRIVER_USB_3 | 1u << WS_DRIVER_USB_STORAGE);
        const uint64_t was = ws_tree_find(tree, "boot/initrd.img-6.2")->content->size;
        OK(ws_kernel_add_drivers(tree, &f.kernel[0], 7, &added, &error));
        CHECK_INT(added, usb);
        snprintf(says, sizeof says,
                 "usbcore.ko\nxhci-hcd.ko\nxhci-pci.ko\nehci-pci.ko\nusb-storage.ko\nuas.ko\n"
                 "ELFusbcoreELFxhci-hcdELFxhci-pciELFehci-pciELFusb-storageELFuas 755\nELF%s",
                 cases[i].said);
        look_behind(tree, was, cases[i].hook, says);
        OK(ws_kernel_look(tree, &f.kernel[0], &error));
        CHECK(!ws_kernel_lacks(&f.kernel[0]) && f.kernel[0].inside.archives == 2);
        snprintf(path, sizeof path, "%s/zz-any-pc%s", cases[i].settings ? cases[i].settings : "etc/dracut.conf.d",
                 i == 2 ? ".conf" : "");
        const struct ws_node *n = ws_tree_find(tree, path);
        CHECK(!n == !cases[i].setting);
        char *text = NULL;
        size_t length;
        if (n && ws_source_load(n->content, 4096, &text, &length, &error) == WS_OK) CHECK_HAS(text, cases[i].setting);
        free(text);
        OK(ws_kernel_add_drivers(tree, &f.kernel[0], 8, &added, &error)); /* nothing is missing now */
        CHECK(added == 0 && ws_tree_find(tree, "boot/initrd.img-6.2")->mtime == 7);
        ws_tree_close(tree);
    }
}

/* Where it is not known how, or from what, the initial RAM disk stays as it is. */
static void else_nothing_is_touched(void) {
    static const char *const poor[] = {"scripts/functions", "sd_mod.ko", "ext4.ko", NULL};
    static const char *const unknown[] = {"init_functions", "sd_mod.ko", "ext4.ko", NULL};
    static const struct {
        const char *const *initrd, *damaged, *left_out;
        enum ws_status status;
        const char *says;
    } cases[] = {
        {unknown, "", "", WS_OK, NULL},
        {poor, "usbcore", "", WS_E_FORMAT, "this is no driver"},
        {poor, "", "usbcore", WS_E_NOTFOUND, "one that it does not have"},
        {poor, "", "", WS_OK, NULL}, /* without a list */
        {NULL, "", "", WS_OK, NULL}, /* nobody can read it */
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = random_root();
        struct ws_system_facts f;
        uint32_t added = 7;
        put_kernel(tree, "6.2");
        if (cases[i].initrd) put_initrd(tree, "boot/initrd.img-6.2", cases[i].initrd);
        put_modules(tree, "", "cat", cases[i].damaged, cases[i].left_out);
        if (i == 3) ws_tree_drop(tree, ws_tree_find(tree, MODULES "modules.dep"));
        OK(ws_system_look(tree, &f, &error));
        (void)ws_kernel_look(tree, &f.kernel[0], NULL);
        const struct ws_source *was = ws_tree_find(tree, "boot/initrd.img-6.2")->content;
        CHECK_INT(ws_kernel_add_drivers(tree, &f.kernel[0], 7, &added, &error), cases[i].status);
        if (cases[i].says) CHECK_HAS(error.what, cases[i].says);
        CHECK(added == 0 && ws_tree_find(tree, "boot/initrd.img-6.2")->content == was);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"drivers come in order", they_come_in_order},
                                        {"else nothing is touched", else_nothing_is_touched},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
