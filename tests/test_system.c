/* test_system.c — roots: what they are, and as full systems on drives, judged by the kernel and the checker. */
#include "tests/roots.h"

#include "base/bytes.h"

#include <sys/stat.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static void roots_are_known_by_their_files(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_system_facts f;
    OK(ws_tree_create(&tree, &error));
    FAILS(ws_system_look(tree, &f, &error), WS_E_NOTFOUND);
    put_text(tree, "usr/lib/os-release", "NAME='x'\nPRETTY_NAME=\"Curlew \\\"12\\\"\"\nID=curlew\nVERSION_ID=12.1\n");
    put_link(tree, "etc/os-release", "../usr/lib/os-release");
    put_link(tree, "bin", "usr/bin"); /* as most lay it out today */
    put_link(tree, "lib", "usr/lib");
    put_link(tree, "sbin", "usr/sbin");
    put_link(tree, "usr/sbin/init", "/lib/systemd/systemd");
    put_program(tree, "usr/lib/systemd/systemd", 62);
    put_kernel(tree, "6.1.0-9");
    put_kernel(tree, "6.1.0-10");
    put_kernel(tree, "6.1.0-10~rc1");
    put_text(tree, "boot/vmlinuz-notes", "not a kernel, however it is called, and short");
    OK(ws_system_look(tree, &f, &error));
    CHECK_STR(f.name, "Curlew \"12\"");
    CHECK_STR(f.id, "curlew");
    CHECK_STR(f.version, "12.1");
    CHECK_STR(f.machine, "x86-64");
    CHECK_STR(ws_init_name(f.init), "systemd");
    CHECK_INT(f.kernels, 3);
    CHECK_STR(f.kernel[0].version, "6.1.0-10");
    CHECK_STR(f.kernel[1].version, "6.1.0-10~rc1");
    CHECK_STR(f.kernel[2].initrd, "/boot/initrd.img-6.1.0-9");
    put_kernel(tree, "6.2\nlinux /evil"); /* would be a line of the menu */
    put_kernel(tree, "6.3 init=/bin/sh");
    put_link(tree, "boot/vmlinuz-7.0", "../lib/vmlinuz"); /* some keep their kernels elsewhere */
    OK(ws_tree_put(tree, "usr/lib/vmlinuz", "", 0, &n, &error));
    n->content = ws_tree_find(tree, "boot/vmlinuz-6.1.0-9")->content;
    put_link(tree, "boot/vmlinuz-8.0", "nowhere");
    OK(ws_system_look(tree, &f, &error));
    CHECK(f.kernels == 4 && strcmp(f.kernel[0].path, "/boot/vmlinuz-7.0") == 0 && !f.kernel[0].initrd[0]);
    put_link(tree, "loop/a", "b"); /* links that go round end somewhere */
    put_link(tree, "loop/b", "../loop/a");
    CHECK(ws_system_find(tree, "loop/a") == NULL && ws_system_find(tree, "/../etc/../etc/os-release") != NULL);
    for (int i = 0; i < 40; i++) { /* more than are listed: the newest stay */
        char version[20];
        snprintf(version, sizeof version, "5.%d", i);
        put_kernel(tree, version);
    }
    OK(ws_system_look(tree, &f, &error));
    CHECK(f.kernels == WS_KERNELS_MOST && strcmp(f.kernel[WS_KERNELS_MOST - 1].version, "5.28") == 0);
    ws_tree_close(tree);
}

static void versions_are_compared_as_people_count(void) {
    static const char *const rising[] = {"5.9", "5.10", "6.1~rc1", "6.1", "6.1.0-9", "6.1.0-10", "6.2", "lts"};
    CHECK(ws_version_compare("6.01", "6.1") == 0 && ws_version_compare("000", "0") == 0);
    for (size_t a = 0; a < sizeof rising / sizeof rising[0]; a++)
        for (size_t b = 0; b < a; b++)
            CHECK(ws_version_compare(rising[a], rising[b]) > 0 && ws_version_compare(rising[b], rising[a]) < 0);
}

/* Archives of somebody else's program, packed or not, one after the other. */
static void initial_ram_disks_are_read_whole_or_refused(void) {
    static const char *const packers[] = {"cat", "gzip -c", "xz --check=crc32 -c", "zstd -qc", "lz4 -lqc", "bzip2 -c"};
    static const char *const files[] = {"usb-storage.ko", "xhci_pci.ko.xz", "ext4.ko.zst",
                                        "sd_mod.ko",      "init",           "uas.ko.gz"};
    static const enum ws_driver drivers[] = {WS_DRIVER_USB_STORAGE, WS_DRIVER_USB_3, WS_DRIVER_EXT4,
                                             WS_DRIVER_DISK,        WS_DRIVERS,      WS_DRIVER_UAS};
    for (int i = 0; i < cases_of(24); i++) {
        const char *folder = scratch("disk"), *disk = scratch("initrd");
        struct ws_source *source = NULL, *cut = NULL;
        struct ws_initrd_facts f, g;
        struct ws_text said = {0};
        uint32_t wanted = 0;
        shell(NULL, "rm -rf %s %s; mkdir -p %s/0/lib/modules %s/1/usr/lib/dracut %s/2; : > %s", folder, disk, folder,
              folder, folder, disk);
        for (size_t k = 0; k < 6; k++) {
            if (random_below(2)) continue;
            wanted |= drivers[k] < WS_DRIVERS ? 1u << drivers[k] : 0;
            shell(NULL, "head -c %u /dev/urandom > %s/%u/%s", (unsigned)random_below(20000), folder,
                  (unsigned)random_below(i % 2 ? 3 : 2), files[k]);
        }
        CHECK_INT(shell(&said,
                        "cd %s/0 && find . | bsdcpio -o -H newc --quiet > ../a && cd ../1 && "
                        "find . | bsdcpio -o -H newc --quiet | %s > ../b && head -c %u /dev/zero >> ../a && cat ../a "
                        "../b > %s; if [ %d = 1 ]; then truncate -s %%512 %s; cd ../2; find . | bsdcpio -o -H newc "
                        "--quiet >> %s; fi; "
                        "cd .. && find 0 1 $(test %d = 0 || echo 2) | wc -l",
                        folder, packers[i % 6], (unsigned)random_below(5) * 512, disk, i % 2, disk, disk, i % 2),
                  0);
        OK(ws_source_file(disk, &source, &error));
        OK(ws_initrd_look(source, &f, &error));
        CHECK_INT(f.drivers, wanted);
        CHECK_INT(f.files, atoi(said.data));
        CHECK_INT(f.archives, i % 2 ? 3 : 2); /* the last one behind what is packed */
        CHECK_STR(f.maker, "dracut");
        for (int k = 0; k < 20; k++) { /* cut short: an end between two archives is an end */
            OK(ws_source_slice(source, 0, random_below(source->size), &cut, &error));
            enum ws_status status = ws_initrd_look(cut, &g, &error);
            CHECK(status == WS_OK ? g.archives > 0 : error.what[0] != '\0');
            ws_source_close(cut);
        }
        ws_source_close(source);
        ws_text_free(&said);
    }
}

static void begin(struct planned *p, uint64_t size) {
    struct ws_drive_facts f = {.size = size, .logical_sector = 512, .removable = WS_YES, .internal = WS_NO};
    strcpy(f.short_name, "gorse-32");
    planned_begin(p, WS_KIND_SYSTEM, &f);
}

/* What the plan changes, and nothing else: taken out again, the root is what it was. */
static void undo_edits(struct ws_tree *seen) {
    static const char *const made[] = {"etc/fstab", "boot/loader", "boot/efi", "etc/start-entries.conf", "usr"};
    for (size_t i = 0; i < 5; i++) {
        struct ws_node *n = ws_tree_find(seen, made[i]);
        CHECK(n != NULL);
        if (n) ws_tree_drop(seen, n);
    }
    struct ws_node *before = ws_tree_find(seen, "etc/fstab.before");
    CHECK(before && ws_tree_rename(seen, before, "fstab", &error) == WS_OK);
    struct ws_node *id = ws_tree_find(seen, "etc/machine-id");
    CHECK(id && ws_node_size(id) == 0);
}

static void random_roots_are_kept_whole(void) {
    for (int i = 0; i < cases_of(30); i++) {
        struct ws_tree *tree = random_root(), *seen = NULL;
        struct volume v;
        struct planned p;
        struct ws_build *build = NULL;
        struct ws_source *drive = NULL, *slice = NULL;
        if (!make_volume(tree, 160 * MIB, &v)) {
            fail_at(__FILE__, __LINE__, "%s", error.what);
            return;
        }
        begin(&p, 300 * MIB + random_below(64) * MIB);
        if (i % 3 == 0) p.request.table = WS_TABLE_WISH_GPT;
        if (i % 4 == 0) ws_request_want(&p.request, WS_ROLE_SWAP)->size = ws_size_of(16 * MIB);
        OK(planned_prepare(&p, v.source, &build));
        const struct ws_volume *root = VOLUME(p, SYSTEM);
        OK(ws_layout_source(ws_build_layout(build), &drive, &error));
        OK(ws_source_slice(drive, root->at, root->size, &slice, &error));
        OK(ws_ext4_read(slice, &seen, NULL, &error));
        const char *path = scratch("drive");
        char device[64] = "";
        save_layout(ws_build_layout(build), path);
        if (may_mount() && i % 3 == 0) {
            struct ws_text attached = {0};
            CHECK_INT(shell(&attached, "losetup --show -f -o %llu --sizelimit %llu %s", (unsigned long long)root->at,
                            (unsigned long long)root->size, path),
                      0);
            if (attached.data)
                (void)snprintf(device, sizeof device, "%.*s", (int)strcspn(attached.data, "\n"), attached.data);
            ws_text_free(&attached);
        }
        if (device[0]) {
            const char *place = scratch("root");
            struct ws_text said = {0};
            if (shell(&said, "e2fsck -fn %s 2>&1", device) != 0) fail_at(__FILE__, __LINE__, "%s", said.data);
            ws_text_free(&said);
            if (mount_at(device, "ext4", "ro", place)) {
                compare_with_folder(seen, place, TREE_ALL);
                unmount(place);
            }
            shell(NULL, "losetup -d %s", device);
        }
        unlink(path);
        undo_edits(seen);
        struct ws_node *id = ws_tree_find(tree, "etc/machine-id");
        id->content = NULL;
        ws_tree_find(seen, "etc/machine-id")->mtime = id->mtime;
        compare_trees(seen, tree, TREE_ALL);
        ws_tree_close(seen);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
        free_volume(&v);
        ws_tree_close(tree);
    }
}

/* The drive starts by our code, on whichever firmware, and names its own root. */
static void it_starts_by_its_newest_kernel(void) {
    struct ws_tree *tree = random_root();
    struct volume v;
    struct planned p;
    struct ws_build *build = NULL;
    struct ws_source *drive = NULL;
    put_kernel(tree, "6.10");
    put_kernel(tree, "6.9");
    CHECK(make_volume(tree, 160 * MIB, &v));
    begin(&p, 400 * MIB);
    strcpy(p.request.kernel_options, "quiet");
    OK(planned_prepare(&p, v.source, &build));
    CHECK(ws_plan_outlooks(p.plan)[0].starts && ws_plan_outlooks(p.plan)[1].starts &&
          !ws_plan_outlooks(p.plan)[2].starts);
    OK(ws_layout_source(ws_build_layout(build), &drive, &error));
    for (int k = 0; k < 2; k++) {
        struct ws_rehearsal r = {.firmware = k ? "UEFI" : "BIOS", .sector = 512};
        struct ws_table *table = calloc(1, sizeof *table);
        uint64_t at = 0, length = 0;
        OK(ws_start_rehearse(drive, &r, &error));
        CHECK(r.starts);
        CHECK_STR(r.entry.linux_path, "/boot/vmlinuz-6.10");
        CHECK_STR(r.entry.initrd[0], "/boot/initrd.img-6.10");
        CHECK_HAS(r.entry.options, " quiet");
        OK(ws_table_read(drive, 512, table, NULL, &error));
        OK(ws_system_volume(drive, table, r.entry.options, &at, &length, &error));
        CHECK(at == VOLUME(p, SYSTEM)->at && length == VOLUME(p, SYSTEM)->size);
        FAILS(ws_system_volume(drive, table, "root=/dev/sda1 noroot=UUID=1", &at, &length, &error), WS_E_NOTFOUND);
        FAILS(ws_system_volume(drive, table, "root=UUID=11111111-2222", &at, &length, &error), WS_E_NOTFOUND);
        ws_rehearsal_free(&r);
        free(table);
    }
    struct ws_memory *m = malloc(sizeof *m);
    struct ws_source *damaged = NULL;
    OK(ws_memory_look(drive, 512, m, &error));
    CHECK(m->system && m->cause == WS_FORGETS_NOT && m->volume_at == VOLUME(p, SYSTEM)->at);
    OK(ws_source_patched(drive, drive->size, &damaged,
                         &error)); /* its identifier is another: the kernel waits for ever */
    OK(ws_source_patch(damaged, VOLUME(p, SYSTEM)->at + 1024 + 0x68, "another", 7, &error));
    OK(ws_memory_look(damaged, 512, m, &error));
    CHECK(m->system && m->cause == WS_FORGETS_NO_SYSTEM);
    ws_source_close(damaged);
    free(m);
    ws_source_close(drive);
    ws_build_close(build);
    free_volume(&v);
    ws_tree_close(tree);
}

/* Does a file of the root on a drive say this? */
static bool in_root(const struct ws_source *drive, const struct ws_volume *v, const char *path, const char *words) {
    struct ws_source *slice = NULL;
    struct ws_tree *root = NULL;
    char *text = NULL;
    size_t length = 0;
    bool says = false;
    if (ws_source_slice(drive, v->at, v->size, &slice, &error) == WS_OK &&
        ws_ext4_read(slice, &root, NULL, &error) == WS_OK && ws_tree_find(root, path) &&
        ws_source_load(ws_tree_find(root, path)->content, 1 << 16, &text, &length, &error) == WS_OK)
        says = strstr(text, words) != NULL;
    free(text);
    ws_tree_close(root);
    ws_source_close(slice);
    return says;
}

/* A kernel that is known not to reach its root is no entry; if none does, there is no plan. */
static void kernels_need_their_drivers(void) {
    static const char *const all[] = {"lib/modules/6.1/usb-storage.ko", "xhci-pci.ko", "sd_mod.ko", "ext4.ko.xz", NULL};
    static const char *const few[] = {"lib/modules/6.1/usb-storage.ko", "ext4.ko", NULL};
    for (int i = 0; i < 5; i++) {
        struct ws_tree *tree = random_root();
        struct ws_system_facts facts;
        struct ws_build *build = NULL;
        struct volume v;
        struct planned p;
        put_kernel(tree, "6.2");
        put_initrd(tree, "boot/initrd.img-6.2", i == 4 ? all : few);
        put_initrd(tree, "boot/initrd.img-6.1", i == 0 || i == 3 ? few : all);
        if (i < 3)
            put_text(tree, "lib/modules/6.2/modules.builtin",
                     i == 2 ? "kernel/xhci-pci.ko\nkernel/drivers/sd_mod.ko\n" : "kernel/loop.ko\n");
        if (i == 0) put_text(tree, "lib/modules/6.1/modules.builtin", "");
        OK(ws_system_look(tree, &facts, &error));
        OK(ws_kernel_look(tree, &facts.kernel[0], &error));
        CHECK(!ws_kernel_lacks(&facts.kernel[0]) == (i >= 2) &&
              !ws_kernel_unsure(&facts.kernel[0]) == (i == 2 || i == 4));
        CHECK(make_volume(tree, 160 * MIB, &v));
        begin(&p, 400 * MIB);
        enum ws_status status = planned_prepare(&p, v.source, &build);
        CHECK_INT(status, i == 0 ? WS_E_UNSUPPORTED : WS_OK);
        if (i == 0) CHECK_HAS(error.what, "has no driver xhci_pci, sd_mod");
        if (status == WS_OK) {
            struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
            struct ws_source *drive = NULL;
            OK(ws_layout_source(ws_build_layout(build), &drive, &error));
            OK(ws_start_rehearse(drive, &r, &error));
            CHECK_STR(r.entry.linux_path, i == 1 ? "/boot/vmlinuz-6.1" : "/boot/vmlinuz-6.2");
            CHECK_INT(in_root(drive, VOLUME(p, SYSTEM), "etc/start-entries.conf", "\nwithout 6.2\n"), i == 1);
            ws_rehearsal_free(&r);
            ws_source_close(drive);
            ws_build_close(build);
        }
        free_volume(&v);
        ws_tree_close(tree);
    }
}

/* A signed UEFI program (PE/COFF): the text that it holds as UTF-16, and in its section "mods" where it looks for its
 * menu; a kernel has its own header, too. */
static size_t make_program(uint8_t out[4096], const char *holds, const char *prefix, bool is_signed) {
    uint8_t *pe = out + 0x80;
    memset(out, 0, 4096);
    memcpy(out, "MZ", 2);
    ws_store_le32(out + 0x3c, 0x80);
    memcpy(pe, "PE\0\0", 4);
    ws_store_le16(pe + 4, 0x8664);
    ws_store_le16(pe + 6, 1);
    ws_store_le16(pe + 20, 240);
    ws_store_le16(pe + 24, 0x20b);
    if (is_signed) ws_store_le32(pe + 24 + 112 + 32, 3584), ws_store_le32(pe + 24 + 112 + 36, 512);
    memcpy(pe + 264, "mods", 4);
    ws_store_le32(pe + 264 + 16, 512);
    ws_store_le32(pe + 264 + 20, 1024);
    ws_store_le32(out + 1024, 0x676d696d);
    ws_store_le64(out + 1024 + 8, 24);
    ws_store_le64(out + 1024 + 16, 24 + 16 + 8 + strlen(prefix) + 1);
    ws_store_le32(out + 1024 + 24 + 4, 16); /* another object first */
    ws_store_le32(out + 1024 + 40, 3);
    ws_store_le32(out + 1024 + 44, (uint32_t)(8 + strlen(prefix) + 1));
    memcpy(out + 1024 + 48, prefix, strlen(prefix) + 1);
    memcpy(out + 0x202, "HdrS", 4);
    for (size_t i = 0; holds[i]; i++) out[2048 + 2 * i] = (uint8_t)holds[i];
    return 4096;
}

static struct ws_node *put_program_at(struct ws_tree *tree, const char *path, const char *holds, const char *prefix,
                                      bool is_signed) {
    uint8_t bytes[4096];
    struct ws_node *n = NULL;
    if (ws_tree_put(tree, path, bytes, make_program(bytes, holds, prefix, is_signed), &n, &error) != WS_OK) abort();
    return n;
}

/* Signed loaders of the root start it under Secure Boot, where all of the way is known; else our code does. */
static void signed_loaders_are_followed_to_the_kernel(void) {
    static const struct {
        const char *first, *second, *prefix, *options;
        bool loader, kernel, chain;
    } cases[] = {
        {"usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "/EFI/hut", "quiet",
         true, true, true},
        {"boot/efi/EFI/hut/shimx64.efi", "boot/efi/EFI/hut/grubx64.efi", "(hd0,1)/boot/own", "", true, true, true},
        {"usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "/EFI/hut", "a='b c'",
         true, true, false},
        {"usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "/EFI/hut", "", true,
         false, false},
        {"usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "/EFI/hut", "", false,
         true, false},
        {"usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "/../x", "", true,
         true, false},
        {"usr/lib/shim/shimx64.efi.signed", "elsewhere/grubx64.efi", "/EFI/hut", "", true, true, false},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = random_root();
        struct ws_build *build = NULL;
        struct ws_source *drive = NULL;
        struct volume v;
        struct planned p;
        struct ws_menu_entry entry;
        struct ws_table *table = calloc(1, sizeof *table);
        bool kernel_signed = false;
        put_program_at(tree, cases[i].first, "\\grubx64.efi", "", cases[i].loader);
        put_program_at(tree, cases[i].second, "", cases[i].prefix, cases[i].loader);
        put_program_at(tree, "boot/vmlinuz-6.2", "", "", cases[i].kernel);
        put_text(tree, "boot/initrd.img-6.2", "not looked into here");
        CHECK(make_volume(tree, 160 * MIB, &v));
        begin(&p, 400 * MIB);
        strcpy(p.request.kernel_options, cases[i].options);
        OK(planned_prepare(&p, v.source, &build));
        const struct ws_outlook *o = ws_plan_outlooks(p.plan);
        CHECK(o[0].starts && o[1].starts);
        CHECK_INT(o[2].starts, cases[i].chain);
        OK(ws_layout_source(ws_build_layout(build), &drive, &error));
        OK(ws_table_read(drive, 512, table, NULL, &error));
        enum ws_status status = ws_chain_follow(drive, table, &entry, &kernel_signed, &error);
        CHECK_INT(status, cases[i].chain ? WS_OK : WS_E_NOTFOUND);
        if (cases[i].chain) {
            CHECK_STR(entry.kernel, "/boot/vmlinuz-6.2");
            CHECK_HAS(entry.parameters, "root=UUID=");
            CHECK_HAS(entry.parameters, cases[i].options);
            CHECK(kernel_signed);
        }
        ws_source_close(drive);
        ws_build_close(build);
        free_volume(&v);
        free(table);
        ws_tree_close(tree);
    }
}

/* Programs with any byte changed: found or not, never read past their end. */
static void damaged_loaders_do_no_harm(void) {
    struct ws_tree *tree = NULL;
    struct ws_chain chain;
    OK(ws_tree_create(&tree, &error));
    put_program_at(tree, "usr/lib/shim/shimx64.efi.signed", "grubx64.efi", "", true);
    for (int i = 0; i < cases_of(3000); i++) {
        uint8_t bytes[4096];
        struct ws_node *n = NULL;
        size_t length = make_program(bytes, "", "/EFI/hut", true);
        for (int k = 0; k < 3; k++)
            bytes[random_below(k ? 1100 : length)] = (uint8_t)(random_below(3) ? 0xff : random_below(256));
        OK(ws_tree_put(tree, "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", bytes,
                       random_below(4) ? length : random_below(length), &n, &error));
        if (ws_chain_find(tree, &chain)) CHECK(chain.prefix[0] == '/' && !strstr(chain.prefix, ".."));
    }
    ws_tree_close(tree);
}

/* Whatever a root calls itself, and whatever stands where we write: a plan that can be kept, or words. */
static void hostile_roots_do_no_harm(void) {
    static const char *const names[] = {"\xe6\xbd\xae", "x\xe6\xbd\xae", "\x1b[31mred", "a\\", "\"", "\xff\xfe"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        struct ws_tree *tree = random_root();
        struct ws_text release = {0}, document = {0};
        struct planned p;
        struct volume v;
        struct ws_build *build = NULL;
        struct ws_plan *back = NULL;
        ws_text_puts(&release, "PRETTY_NAME=");
        for (int k = 0; k < 90; k++) ws_text_puts(&release, names[i]);
        put_text(tree, "etc/os-release", release.data);
        CHECK(make_volume(tree, 160 * MIB, &v));
        begin(&p, 400 * MIB);
        if (i % 2) p.request.table = WS_TABLE_WISH_GPT;
        OK(planned_prepare(&p, v.source, &build));
        CHECK(ws_is_visible(ws_plan_facts(p.plan)->title));
        OK(ws_plan_to_json(p.plan, &document, &error));
        OK(ws_plan_from_json(document.data, document.length, &back, &error));
        ws_plan_free(back);
        ws_text_free(&document);
        ws_text_free(&release);
        ws_build_close(build);
        free_volume(&v);
        ws_tree_close(tree);
    }
    static const char *const in_the_way[] = {"boot/loader", "boot/efi", "boot/loader/entries", "etc/fstab/x",
                                             "etc/machine-id/x"};
    for (size_t i = 0; i < sizeof in_the_way / sizeof in_the_way[0]; i++) {
        struct ws_tree *tree = random_root();
        struct ws_node *old = i > 2 ? ws_tree_find(tree, i == 3 ? "etc/fstab" : "etc/machine-id") : NULL;
        struct ws_system_facts f;
        const struct ws_owner owner = {.host_name = "hut"};
        const struct ws_settling s = {.root_uuid = "r", .start_id = "s", .options = "", .owner = &owner};
        struct ws_owned owned;
        struct ws_findings findings = {0};
        if (old) ws_tree_drop(tree, old);
        put_text(tree, in_the_way[i], "in the way");
        OK(ws_system_look(tree, &f, &error));
        enum ws_status status = ws_system_settle(tree, &f, &s, &owned, &findings, &error);
        CHECK(status == WS_OK ? ws_tree_find(tree, "boot/loader/entries/0001.conf") != NULL : error.what[0] != '\0');
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
}

/* The root stands last, whatever else is on the drive, and its volume has room for descriptors of more groups. */
static void one_that_grows_stands_last(void) {
    struct ws_tree *tree = random_root();
    struct volume v;
    put_text(tree, "etc/inittab", "si::sysinit:/etc/init.d/rcS\n");
    CHECK(make_volume(tree, 160 * MIB, &v));
    for (int i = 0; i < 8; i++) {
        struct ws_build *build = NULL;
        struct ws_source *view = NULL;
        struct planned p;
        uint8_t reserved[2], compat[4];
        begin(&p, 600 * MIB);
        p.request.table = i & 1 ? WS_TABLE_WISH_GPT : WS_TABLE_WISH_MBR;
        ws_request_want(&p.request, WS_ROLE_SYSTEM)->grows = true;
        if (i & 2) ws_request_want(&p.request, WS_ROLE_DATA)->size = ws_size_of(90 * MIB);
        if (i & 4) ws_request_want(&p.request, WS_ROLE_SWAP)->size = ws_size_of(20 * MIB);
        OK(planned_prepare(&p, v.source, &build));
        const struct ws_volume *system = ws_plan_volume(ws_build_plan(build), WS_ROLE_SYSTEM);
        size_t count;
        const struct ws_volume *all = ws_plan_volumes(ws_build_plan(build), &count);
        CHECK_INT(count, 2 + (i >> 1 & 1) + (i >> 2 & 1));
        for (size_t n = 0; n < count; n++) CHECK(all[n].at <= system->at && all[n].number <= system->number);
        OK(ws_layout_source(ws_build_layout(build), &view, &error));
        OK(ws_source_read(view, system->at + 1024 + 0xce, reserved, 2, &error));
        OK(ws_source_read(view, system->at + 1024 + 0x5c, compat, 4, &error));
        CHECK(reserved[0] + 256 * reserved[1] >= 32 && (compat[0] & 0x10));
        ws_source_close(view);
        ws_build_close(build);
    }
    for (int i = 0; i < 2; i++) {
        struct ws_build *build = NULL;
        struct planned p;
        begin(&p, 600 * MIB);
        struct ws_wanted *w = ws_request_want(&p.request, i ? WS_ROLE_DATA : WS_ROLE_SYSTEM);
        w->grows = true;
        w->size = ws_size_of(250 * MIB);
        if (i == 0) w->place = WS_PLACE_FILE;
        FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    }
    free_volume(&v);
    ws_tree_close(tree);
}

static void what_is_no_system_is_refused(void) {
    struct ws_tree *tree = random_root();
    struct ws_build *build = NULL;
    struct planned p;
    struct volume v;
    CHECK(make_volume(tree, 160 * MIB, &v));
    begin(&p, 70 * MIB);
    FAILS(planned_prepare(&p, v.source, &build), WS_E_SPACE); /* the drive is too small */
    begin(&p, 400 * MIB);
    ws_request_want(&p.request, WS_ROLE_SYSTEM)->size = ws_size_of(4 * MIB);
    FAILS(planned_prepare(&p, v.source, &build), WS_E_SPACE);
    begin(&p, 400 * MIB);
    strcpy(ws_request_want(&p.request, WS_ROLE_SYSTEM)->format, "fat32");
    FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    begin(&p, 400 * MIB);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size = ws_size_of(32 * MIB);
    FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    begin(&p, 400 * MIB);
    p.request.uefi_code = WS_UEFI_CODE_IMAGE; /* it brings none */
    FAILS(planned_prepare(&p, v.source, &build), WS_E_UNSUPPORTED);
    for (int i = 0; i < 2; i++) { /* from a program: nothing may follow it in the menu */
        begin(&p, 400 * MIB);
        strcpy(p.request.kernel_options, i ? "quiet\ninitrd /evil" : "quiet\x1b[2J");
        FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    }
    begin(&p, 400 * MIB);
    ws_request_want(&p.request, WS_ROLE_SYSTEM)->cluster = 65536;
    FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    planned_begin(&p, WS_KIND_REPLICA, &(struct ws_drive_facts){.size = 256 * MIB, .logical_sector = 512});
    strcpy(p.request.kernel_options, "quiet");
    FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
    free_volume(&v);
    static const struct {
        unsigned machine;
        bool kernel;
        const char *says;
    } cases[] = {{183, true, "made for ARM64"}, {62, false, "no kernel"}};
    for (size_t i = 0; i < 2; i++) {
        struct ws_tree *root = NULL;
        OK(ws_tree_create(&root, &error));
        put_text(root, "etc/hostname", "hut\n");
        put_program(root, "bin/sh", cases[i].machine);
        if (cases[i].kernel) put_kernel(root, "6.1");
        CHECK(make_volume(root, 32 * MIB, &v));
        begin(&p, 400 * MIB);
        FAILS(planned_prepare(&p, v.source, &build), WS_E_UNSUPPORTED);
        CHECK_HAS(error.what, cases[i].says);
        free_volume(&v);
        ws_tree_close(root);
    }
    struct ws_source *noise = NULL;
    uint8_t *bytes = calloc(1, MIB);
    OK(ws_source_memory(bytes, MIB, &noise, &error));
    begin(&p, 400 * MIB);
    FAILS(planned_prepare(&p, noise, &build), WS_E_NOTFOUND);
    ws_source_close(noise);
    free(bytes);
    ws_tree_close(tree);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"roots are known by their files", roots_are_known_by_their_files},
        {"versions are compared as people count", versions_are_compared_as_people_count},
        {"random roots are kept whole", random_roots_are_kept_whole},
        {"it starts by its newest kernel", it_starts_by_its_newest_kernel},
        {"initial RAM disks are read whole, or refused", initial_ram_disks_are_read_whole_or_refused},
        {"kernels need their drivers", kernels_need_their_drivers},
        {"signed loaders are followed to the kernel", signed_loaders_are_followed_to_the_kernel},
        {"damaged loaders do no harm", damaged_loaders_do_no_harm},
        {"hostile roots do no harm", hostile_roots_do_no_harm},
        {"one that grows stands last", one_that_grows_stands_last},
        {"what is no system is refused", what_is_no_system_is_refused},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
