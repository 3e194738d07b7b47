/* test_twin.c — drives carried over: every file the same on a smaller or larger one, names put right, starts kept. */
#include "tests/originals.h"

#include "base/bytes.h"
#include <unistd.h>

/* The twin of it on a drive of this size, as a source; NULL: it failed, and `error` says why. */
struct twin {
    struct planned p;
    struct ws_build *build;
    struct ws_source *source;
    struct ws_table table;
};
static enum ws_status make_twin(struct twin *t, const struct ws_source *original, uint64_t size,
                                const struct ws_twin_wishes *wishes) {
    struct ws_drive_facts facts = {.short_name = "gorse", .size = size, .logical_sector = 512};
    memset(t, 0, sizeof *t);
    planned_begin(&t->p, WS_KIND_TWIN, &facts);
    snprintf(t->p.request.input[WS_INPUT_IMAGE].path, 64, "office");
    if (wishes) t->p.request.twin = *wishes;
    enum ws_status status = planned_prepare(&t->p, original, &t->build);
    if (status == WS_OK) status = ws_layout_source(ws_build_layout(t->build), &t->source, &error);
    if (status == WS_OK) status = ws_table_read(t->source, 512, &t->table, NULL, &error);
    return status;
}
static void free_twin(struct twin *t) {
    ws_source_close(t->source);
    ws_build_close(t->build);
}

static const struct ws_volume *volume_of(const struct twin *t, unsigned of) {
    size_t count;
    const struct ws_volume *v = ws_plan_volumes(t->p.plan, &count);
    for (size_t i = 0; i < count; i++)
        if (v[i].of == of) return &v[i];
    return NULL;
}

static struct ws_source *slice_of(const struct twin *t, const struct ws_volume *v) {
    struct ws_source *slice = NULL;
    if (ws_source_slice(t->source, v->at, v->size, &slice, &error) != WS_OK) abort();
    return slice;
}

static const struct {
    const char *format;
    unsigned flags;
    uint64_t least;
} formats[] = {{"ext4", TREE_ALL | TREE_MARKS, 16ull * MIB},
               {"fat32", TREE_SHORT | TREE_MARKS, 64ull * MIB},
               {"exfat", TREE_MARKS, 64ull * MIB}};

/* Every file of every volume, on smaller and larger drives. */
static void test_random(void) {
    for (int round = 0; round < cases_of(12); round++) {
        struct original o;
        original_begin(&o, 1200ull * MIB, random_below(2));
        const size_t count = 1 + random_below(3);
        unsigned flags[ORIGINAL_MOST];
        for (size_t i = 0; i < count; i++) {
            const size_t f = (size_t)round % 3 == 0 ? (size_t)random_below(3) : ((size_t)round + i) % 3;
            flags[i] = formats[f].flags;
            CHECK(original_add(&o, formats[f].format, i ? "" : "TIDE", formats[f].least + random_below(100) * MIB,
                               random_tree(1 + random_below(150), formats[f].flags, 200 << 10), NULL));
        }
        CHECK(original_finish(&o));
        struct twin t;
        const uint64_t size = o.end + (random_below(2) ? random_below(900) * MIB : 0);
        if (make_twin(&t, o.source, ws_max_u64(size, count * 70ull * MIB), NULL) != WS_OK)
            fail_at(__FILE__, __LINE__, "no twin: %s", error.what);
        for (size_t i = 0; i < o.volumes && t.build; i++) {
            const struct ws_volume *v = volume_of(&t, (unsigned)i + 1);
            struct ws_source *slice, *was;
            CHECK(v != NULL);
            CHECK_STR(v->format, o.format[i]);
            struct ws_tree *tree = read_back(t.source, v, &slice), *wanted = NULL;
            OK(ws_source_slice(o.source, o.at[i], o.size[i], &was, &error));
            OK(ws_format_find(o.format[i])->read(was, &wanted, NULL, &error));
            if (tree) compare_trees(tree, wanted, flags[i]);
            ws_tree_close(wanted);
            ws_source_close(was);
            ws_tree_close(tree);
            ws_source_close(slice);
        }
        free_twin(&t);
        original_end(&o);
    }
}

/* The same bytes twice from one plan, and each volume known by names that no other has. */
static void test_identity(void) {
    struct original o;
    struct twin t, same;
    original_begin(&o, 400ull * MIB, true);
    CHECK(original_add(&o, "ext4", "tide", 40ull * MIB, random_tree(20, TREE_ALL, 9999), NULL));
    CHECK(original_add(&o, "exfat", "charts", 80ull * MIB, random_tree(20, 0, 9999), NULL));
    CHECK(original_finish(&o));
    OK(make_twin(&t, o.source, 300ull * MIB, NULL));
    OK(make_twin(&same, o.source, 300ull * MIB, &(struct ws_twin_wishes){.same_identity = true}));
    for (unsigned of = 1; of <= 2; of++)
        for (int k = 0; k < 2; k++) {
            const struct twin *one = k ? &same : &t;
            struct ws_volume_facts now, was;
            struct ws_source *slice = slice_of(one, volume_of(one, of)), *old = NULL;
            OK(ws_source_slice(o.source, o.at[of - 1], o.size[of - 1], &old, &error));
            CHECK(ws_format_of(slice, &now) == ws_format_of(old, &was));
            CHECK_STR(now.label, was.label);
            CHECK_INT(strcmp(now.id, was.id) == 0, k);
            CHECK_INT(memcmp(&one->table.gpt[of - 1].id, &o.table.gpt[of - 1].id, 16) == 0, k);
            CHECK_INT(memcmp(&one->table.disk_id, &o.table.disk_id, 16) == 0, k);
            ws_source_close(slice);
            ws_source_close(old);
        }
    struct ws_text text = {0};
    OK(ws_plan_to_json(t.p.plan, &text, &error));
    struct ws_plan *read = NULL;
    OK(ws_plan_from_json(text.data, text.length, &read, &error));
    const struct ws_source *input[WS_INPUTS_MOST] = {o.source};
    struct ws_build *again = NULL;
    OK(ws_build_again(read, input, NULL, NULL, &again, &error));
    CHECK_STR(ws_plan_facts(ws_build_plan(again))->fingerprint, ws_plan_facts(t.p.plan)->fingerprint);
    ws_build_close(again);
    ws_plan_free(read);
    ws_text_free(&text);
    bool warned = false;
    const struct ws_findings *found = ws_plan_findings(same.p.plan);
    for (size_t i = 0; i < found->count; i++) warned |= strstr(found->list[i].text, "never plug both") != NULL;
    CHECK(warned);
    free_twin(&same);
    free_twin(&t);
    original_end(&o);
}

/* An initial RAM disk of texts and links, as programs make them. */
static void put_texts(struct ws_tree *tree, const char *path, const char *(*files)[2], size_t count) {
    struct ws_text cpio = {0};
    for (size_t i = 0; i <= count; i++) {
        const char *name = i < count ? files[i][0] : "TRAILER!!!", *text = i < count ? files[i][1] : "";
        const bool link = strncmp(name, "wants/", 6) == 0;
        ws_text_printf(&cpio, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s", (unsigned)i,
                       link ? 0120777 : 0100644, 0, 0, 1, 0, (unsigned)strlen(text), 0, 0, 0, 0,
                       (unsigned)strlen(name) + 1, 0, name);
        ws_text_add(&cpio, "\0\0\0", 1 + (4 - (110 + strlen(name) + 1) % 4) % 4);
        ws_text_add(&cpio, text, strlen(text));
        ws_text_add(&cpio, "\0\0\0", (4 - strlen(text) % 4) % 4);
    }
    while (cpio.length < 1024) ws_text_add(&cpio, "", 1);
    if (ws_tree_put(tree, path, cpio.data, cpio.length, NULL, &error) != WS_OK) abort();
    ws_text_free(&cpio);
}

static char *load(const struct ws_tree *tree, const char *path) {
    char *text = NULL;
    size_t length;
    const struct ws_node *n = ws_tree_find(tree, path);
    if (!n || !n->content || ws_source_load(n->content, 1 << 22, &text, &length, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s is not there", path);
        return strdup("");
    }
    return text;
}

struct said {
    char text[2000];
};
static void hear(void *context, const char *path, uint32_t mode, const char *text, size_t length) {
    struct said *s = context;
    snprintf(s->text + strlen(s->text), sizeof s->text - strlen(s->text), "%s %o %.*s\n", path, mode, (int)length,
             text);
}

/* A system as an installer leaves it: its own loader, device names, a hibernation place. `apart`: /boot by itself. */
static bool make_installed(struct original *o, bool apart, bool firmware) {
    char swap[37], root[37], line[200], unit[120];
    struct ws_tree *tree = random_tree(30, TREE_ALL, 9999), *boot = NULL, *esp = NULL;
    original_begin(o, 1200ull * MIB, false);
    if (firmware && ws_tree_create(&esp, &error) != WS_OK) abort();
    if (firmware) put_text(esp, "EFI/Boot/bootx64.efi", "MZ of somebody");
    if (firmware && !original_add(o, "fat32", "EFI", 64ull * MIB, esp, NULL)) return false;
    const unsigned root_number = firmware ? 2 : 1;
    original_guid((unsigned)(o->volumes + 1), &o->id[7]);
    ws_guid_text(&o->id[7], root);
    original_guid((unsigned)(o->volumes + 2 + apart), &o->id[7]);
    ws_guid_text(&o->id[7], swap);
    put_text(tree, "etc/os-release", "PRETTY_NAME=\"Curlew Office\"\nID=curlew\n");
    put_program(tree, "bin/sh", 62);
    put_program(tree, "lib/systemd/systemd", 62);
    put_text(tree, "etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    put_text(tree, "etc/ssh/ssh_host_rsa_key", "secret");
    put_text(tree, "etc/kernel/postinst.d/README", "");
    snprintf(
        line, sizeof line,
        "/dev/sda%u / ext4 errors=remount-ro 0 1\n%s%s /media/charts vfat defaults 0 0\nUUID=%s none swap sw 0 0\n",
        root_number,
        apart ? (firmware ? "/dev/sda3 /boot ext4 defaults 0 2\n" : "/dev/sda2 /boot ext4 defaults 0 2\n") : "",
        "UUID=0BAD-F00D", swap);
    put_text(tree, "etc/fstab", line);
    snprintf(unit, sizeof unit, "etc/systemd/system/dev-disk-by\\x2duuid-%.8s\\x2d%.4s\\x2d%.4s\\x2d%.4s\\x2d%s.swap",
             swap, swap + 9, swap + 14, swap + 19, swap + 24);
    put_text(tree, unit, "[Swap]\n");
    struct ws_tree *kernels = tree;
    if (apart && ws_tree_create(&boot, &error) != WS_OK) abort();
    const char *const at = apart ? "" : "boot/";
    if (apart) kernels = boot;
    if (apart) put_text(tree, "boot/under", "hidden under the mount");
    put_kernel(tree, "6.1"); /* moved below, where /boot is apart */
    char path[100];
    if (apart) {
        char *bytes = load(tree, "boot/vmlinuz-6.1");
        if (ws_tree_put(boot, "vmlinuz-6.1", bytes, 4096, NULL, &error) != WS_OK) abort();
        free(bytes);
        ws_tree_drop(tree, ws_tree_find(tree, "boot/vmlinuz-6.1"));
        ws_tree_drop(tree, ws_tree_find(tree, "boot/initrd.img-6.1"));
    }
    snprintf(line, sizeof line, "RESUME=UUID=%s\n", swap);
    const char *list[][2] = {{"conf/conf.d/resume", line},
                             {"scripts/functions", "no name here"},
                             {strrchr(unit, '/') + 1, "never"},
                             {"lib/modules/6.1/usb_storage.ko", "x"}};
    char wants[140];
    snprintf(wants, sizeof wants, "wants/%s", strrchr(unit, '/') + 1);
    list[2][0] = wants;
    snprintf(path, sizeof path, "%sinitrd.img-6.1", at);
    put_texts(kernels, path, list, 4);
    char menu[600];
    snprintf(menu, sizeof menu,
             "set default=0\nmenuentry 'Curlew' {\n linux %s/vmlinuz-6.1 root=/dev/sda%u ro quiet console=ttyS0 "
             "resume=UUID=%s $extra\n"
             " initrd %s/initrd.img-6.1\n}\n",
             apart ? "" : "/boot", root_number, swap, apart ? "" : "/boot");
    snprintf(path, sizeof path, "%sgrub/grub.cfg", at);
    put_text(kernels, path, menu);
    return original_add(o, "ext4", "root", 500ull * MIB, tree, NULL) &&
           (!apart || original_add(o, "ext4", "", 60ull * MIB, boot, NULL)) &&
           original_add(o, "swap", "", 50ull * MIB, NULL, NULL) && original_finish(o);
}

static bool says(const struct twin *t, const char *words) {
    const struct ws_findings *f = ws_plan_findings(t->p.plan);
    for (size_t i = 0; i < f->count; i++)
        if (strstr(f->list[i].text, words)) return true;
    return false;
}

/* A root that nobody reads here, behind a lock or on another file system: its volume of kernels starts it. */
static void test_unread_root(void) {
    static const char *const systems[] = {"LUKS\xba\xbe", "XFSB"};
    for (int i = 0; i < 4; i++) {
        struct original o;
        struct twin t;
        struct ws_tree *boot = NULL, *esp = NULL, *seen;
        struct ws_source *slice;
        char signature[512] = "", menu[600], was[37];
        memcpy(signature, systems[i / 2], strlen(systems[i / 2]));
        if (ws_tree_create(&boot, &error) != WS_OK || ws_tree_create(&esp, &error) != WS_OK) abort();
        put_text(esp, "EFI/curlew/grubx64.efi", "MZ of somebody");
        original_begin(&o, 900ull * MIB, i % 2);
        put_kernel(boot, "6.1"); /* in its folder "boot", which is as good a place */
        put_initrd(boot, "boot/initrd.img-6.1", (const char *const[]){"scripts/functions", "usb-storage.ko", NULL});
        snprintf(menu, sizeof menu,
                 "set default=0\nfunction load_video {\n insmod all_video\n}\nmenuentry 'Curlew' --class curlew "
                 "$menuentry_id_option "
                 "'curlew-1' {\n load_video\n insmod gzio\n search --no-floppy --fs-uuid --set=root 1234\n"
                 " linux /boot/vmlinuz-6.1 root=%s ro quiet\n initrd /boot/initrd.img-6.1\n}\n"
                 "submenu 'Others' {\n menuentry 'Curlew, to mend it' {\n  linux /boot/vmlinuz-6.1 "
                 "root=/dev/mapper/hut ro single\n"
                 "  initrd /boot/initrd.img-6.1\n }\n}\n",
                 i == 3 ? "/dev/sda3" : "/dev/mapper/hut");
        put_text(boot, "grub/grub.cfg", menu);
        CHECK(original_add(&o, "fat32", "EFI", 64ull * MIB, esp, NULL) &&
              original_add(&o, "ext4", "", 90ull * MIB, boot, NULL) &&
              original_add(&o, NULL, "", 200ull * MIB, NULL, signature) && original_finish(&o));
        OK(make_twin(&t, o.source, 700ull * MIB, &(struct ws_twin_wishes){0}));
        for (int k = 0; k < 2; k++)
            CHECK_INT(ws_plan_outlooks(t.p.plan)[k].starts, i != 3); /* only where it is known */
        CHECK(!ws_plan_outlooks(t.p.plan)[2].starts);
        CHECK_INT(says(&t, "names volumes by the place of a disk"), i == 3);
        CHECK(!says(&t, "has no driver"));
        for (int firmware = 0; firmware < 2; firmware++) {
            struct ws_rehearsal r = {.firmware = firmware ? "UEFI" : "BIOS", .sector = 512};
            OK(ws_start_rehearse(t.source, &r, &error));
            CHECK(r.starts);
            CHECK_STR(r.entry.title, "Curlew");
            CHECK_STR(r.entry.linux_path, "/boot/vmlinuz-6.1");
            CHECK_STR(r.entry.options, i == 3 ? "root=/dev/sda3 ro quiet" : "root=/dev/mapper/hut ro quiet");
            ws_rehearsal_free(&r);
        }
        seen = read_back(t.source, volume_of(&t, 1), &slice);
        CHECK(seen && ws_tree_find_any_case(seen, "EFI/BOOT/BOOTX64.EFI") &&
              ws_tree_find_any_case(seen, "EFI/curlew/grubx64.efi"));
        ws_tree_close(seen);
        ws_source_close(slice);
        struct ws_volume_facts facts;
        slice = slice_of(&t, volume_of(&t, 2)); /* what it was called is what names it, somewhere */
        CHECK(ws_format_of(slice, &facts) != NULL);
        CHECK_STR(facts.id, ws_guid_text(&o.id[1], was));
        ws_source_close(slice);
        free_twin(&t);
        original_end(&o);
    }
}

static void check_installed(const struct twin *t, const struct original *o, bool apart, bool firmware) {
    char root[48], swap[48], was[37], wanted[300];
    struct ws_source *slice, *boot_slice = NULL, *swap_slice;
    struct ws_volume_facts facts;
    const unsigned of = firmware ? 2 : 1;
    struct ws_tree *tree = read_back(t->source, volume_of(t, of), &slice), *boot = tree;
    if (apart) boot = read_back(t->source, volume_of(t, of + 1), &boot_slice);
    CHECK(ws_format_of(slice, &facts) != NULL);
    snprintf(root, sizeof root, "%s", facts.id);
    swap_slice = slice_of(t, volume_of(t, of + 1 + apart));
    CHECK(ws_format_of(swap_slice, &facts) != NULL);
    snprintf(swap, sizeof swap, "%s", facts.id);
    ws_source_close(swap_slice);
    ws_guid_text(&o->id[7], was);
    char *fstab = load(tree, "etc/fstab");
    snprintf(wanted, sizeof wanted, "UUID=%s / ext4 errors=remount-ro 0 1\n", root);
    CHECK_HAS(fstab, wanted);
    snprintf(wanted, sizeof wanted, "UUID=%s none swap sw 0 0\n", swap);
    CHECK_HAS(fstab, wanted);
    CHECK_HAS(fstab, "UUID=0BAD-F00D /media/charts vfat defaults,nofail 0 0\n");
    CHECK(!strstr(fstab, "/dev/sda") && !strstr(fstab, was));
    free(fstab);
    char *entry = load(boot, apart ? "loader/entries/0001.conf" : "boot/loader/entries/0001.conf");
    snprintf(wanted, sizeof wanted, "options    root=UUID=%s ro quiet console=ttyS0 noresume\n", root);
    CHECK_HAS(entry, wanted);
    CHECK_HAS(entry, apart ? "linux      /vmlinuz-6.1\ninitrd     /initrd.img-6.1" : "linux      /boot/vmlinuz-6.1\n");
    free(entry);
    char *menu = load(boot, apart ? "grub/grub.cfg" : "boot/grub/grub.cfg");
    CHECK(strstr(menu, swap) && !strstr(menu, was));
    free(menu);
    const struct ws_node *initrd = ws_tree_find(boot, apart ? "initrd.img-6.1" : "boot/initrd.img-6.1");
    struct said said = {""};
    struct ws_error why = {0};
    CHECK(initrd && ws_initrd_texts(initrd->content, hear, &said, &why) == WS_OK);
    CHECK_STR(why.what, "");
    snprintf(wanted, sizeof wanted, "conf/conf.d/resume 100644 RESUME=UUID=%s\n", was);
    CHECK_HAS(said.text, wanted); /* as it was; and behind it, what counts */
    snprintf(wanted, sizeof wanted, "conf/conf.d/resume 100644 RESUME=UUID=%s\n", swap);
    CHECK_HAS(said.text, wanted);
    CHECK(ws_tree_find(tree, "usr/local/sbin/start-entries") &&
          ws_tree_find(tree, "etc/kernel/postinst.d/zz-start-entries"));
    snprintf(wanted, sizeof wanted,
             "etc/systemd/system/dev-disk-by\\x2duuid-%.8s\\x2d%.4s\\x2d%.4s\\x2d%.4s\\x2d%s.swap", swap, swap + 9,
             swap + 14, swap + 19, swap + 24);
    CHECK(ws_tree_find(tree, wanted) != NULL);
    if (boot != tree) ws_tree_close(boot);
    ws_tree_close(tree);
    ws_source_close(slice);
    ws_source_close(boot_slice);
}

static void test_installed(void) {
    for (int k = 0; k < 4; k++) {
        const bool apart = k & 1, firmware = k & 2;
        struct original o;
        struct twin t;
        CHECK(make_installed(&o, apart, firmware));
        OK(make_twin(&t, o.source, 500ull * MIB, NULL));
        CHECK(ws_plan_outlooks(t.p.plan)[0].starts && ws_plan_outlooks(t.p.plan)[1].starts);
        CHECK(!ws_plan_outlooks(t.p.plan)[2].starts);
        check_installed(&t, &o, apart, firmware);
        struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
        OK(ws_start_rehearse(t.source, &r, &error));
        CHECK(r.starts);
        if (!r.starts) fail_at(__FILE__, __LINE__, "%s", r.console.data);
        ws_rehearsal_free(&r);
        const struct ws_volume *start = VOLUME(t.p, START);
        struct ws_source *slice;
        CHECK(start != NULL);
        struct ws_tree *esp = read_back(t.source, start, &slice);
        const struct ws_node *program = ws_tree_find(esp, "EFI/BOOT/BOOTX64.EFI");
        CHECK(program && ws_start_program_is_ours(program->content));
        ws_tree_close(esp);
        ws_source_close(slice);
        free_twin(&t);
        original_end(&o);
    }
}

static void test_new_host(void) {
    struct original o;
    struct twin t;
    struct ws_source *slice;
    CHECK(make_installed(&o, false, false));
    OK(make_twin(&t, o.source, 600ull * MIB, &(struct ws_twin_wishes){.new_host = true}));
    struct ws_tree *tree = read_back(t.source, VOLUME(t.p, SYSTEM), &slice);
    const struct ws_node *id = ws_tree_find(tree, "etc/machine-id");
    CHECK(id && ws_node_size(id) == 0);
    CHECK(!ws_tree_find(tree, "etc/ssh/ssh_host_rsa_key") && ws_tree_find(tree, "etc/first-start/run"));
    ws_tree_close(tree);
    ws_source_close(slice);
    free_twin(&t);
    original_end(&o);
}

/* What is not read here goes over as it is, at its own length; what may name volumes then keeps all names. */
static void test_as_it_is(void) {
    static const struct {
        const char *signature;
        size_t at;
        bool keeps;
    } kinds[] = {{"NTFS    ", 3, true}, {"LUKS\xba\xbe", 0, true}, {"nobody knows", 0, false}};
    for (size_t k = 0; k < 3; k++) {
        struct original o;
        struct twin t;
        char sector[512] = "";
        memcpy(sector + kinds[k].at, kinds[k].signature, strlen(kinds[k].signature));
        original_begin(&o, 300ull * MIB, k != 1);
        CHECK(original_add(&o, "exfat", "charts", 100ull * MIB, random_tree(9, 0, 9999), NULL));
        CHECK(original_add(&o, NULL, "", 20ull * MIB, NULL, sector));
        CHECK(original_finish(&o));
        OK(make_twin(&t, o.source, 200ull * MIB, NULL));
        const struct ws_volume *v = volume_of(&t, 2);
        CHECK_INT(v->size, 20ull * MIB);
        CHECK_STR(v->format, "");
        struct ws_source *slice = slice_of(&t, v), *was = NULL;
        char one[WS_HASH_HEX], other[WS_HASH_HEX];
        OK(ws_source_slice(o.source, o.at[1], o.size[1], &was, &error));
        OK(ws_source_hash(slice, WS_HASH_SHA256, one, &error));
        OK(ws_source_hash(was, WS_HASH_SHA256, other, &error));
        CHECK_STR(one, other);
        ws_source_close(slice);
        ws_source_close(was);
        bool kept = k == 1 ? ws_load_le32(t.table.mbr_sector + 440) == 0x1234abcd
                           : memcmp(&t.table.disk_id, &o.table.disk_id, 16) == 0;
        CHECK_INT(kept, kinds[k].keeps);
        CHECK(!ws_plan_outlooks(t.p.plan)[0].starts);
        free_twin(&t);
        original_end(&o);
    }
}

/* Partitions inside an extended entry, where installers put swap and homes. */
static void test_logical(void) {
    const uint64_t outer = 200ull * MIB, size = 700ull * MIB;
    struct original o;
    struct twin t;
    original_begin(&o, size, false);
    CHECK(original_add(&o, "ext4", "first", 100ull * MIB, random_tree(9, TREE_ALL, 9999), NULL));
    struct ws_volume_params params = {.size = 99ull * MIB, .sector = 512, .align = 65536, .made_at = 1700000000};
    struct ws_tree *tree[2] = {random_tree(30, TREE_ALL, 9999), random_tree(30, 0, 9999)};
    uint8_t record[512] = {0};
    for (unsigned i = 0; i < 2; i++) { /* each behind a record of its own */
        uint8_t *e = record + 446;
        memset(record, 0, sizeof record);
        record[510] = 0x55;
        record[511] = 0xaa;
        e[4] = i ? 0x07 : 0x83;
        ws_store_le32(e + 8, 2048);
        ws_store_le32(e + 12, (uint32_t)(params.size / 512));
        e[16 + 4] = i ? 0 : 0x05;
        ws_store_le32(e + 16 + 8, i ? 0 : 200 * 2048);
        ws_store_le32(e + 16 + 12, i ? 0 : 200 * 2048);
        OK(ws_layout_add_bytes(o.layout, outer + i * 200ull * MIB, record, 512, WS_PHASE_BODY, &error));
        original_guid(90 + i, &params.id);
        OK(ws_format_find(i ? "exfat" : "ext4")
               ->compose(&params, tree[i], outer + i * 200ull * MIB + MIB, o.layout, NULL, &error));
    }
    o.table.mbr[o.table.mbr_count++] =
        (struct ws_partition){.number = 2, .at = outer, .length = 450ull * MIB, .mbr_type = 0x05};
    CHECK(original_finish(&o));
    struct ws_contents *c = calloc(1, sizeof *c);
    OK(ws_contents_look(o.source, 512, false, c, &error));
    CHECK_INT(c->parts, 3);
    CHECK_INT(c->part[2].number, 6);
    free(c);
    OK(make_twin(&t, o.source, 500ull * MIB, NULL));
    for (unsigned i = 0; i < 2; i++) {
        struct ws_source *slice;
        struct ws_tree *seen = read_back(t.source, volume_of(&t, 5 + i), &slice);
        compare_trees(seen, tree[i], i ? 0 : TREE_ALL);
        ws_tree_close(seen);
        ws_source_close(slice);
        ws_tree_close(tree[i]);
    }
    CHECK_INT(t.table.mbr_count, 3);
    free_twin(&t);
    original_end(&o);
}

static void test_refused(void) {
    struct original o;
    struct twin t;
    struct ws_source *zeros = NULL;
    struct ws_tree *tree = random_tree(40, TREE_ALL, 9999);
    char *chart = malloc(40 * MIB);
    memset(chart, 'w', 40 * MIB);
    OK(ws_tree_put(tree, "chart", chart, 40 * MIB, NULL, &error));
    free(chart);
    original_begin(&o, 300ull * MIB, true);
    CHECK(original_add(&o, "ext4", "tide", 150ull * MIB, tree, NULL));
    CHECK(original_finish(&o));
    FAILS(make_twin(&t, o.source, 20ull * MIB, NULL), WS_E_SPACE);
    free_twin(&t);
    OK(make_twin(&t, o.source, 200ull * MIB, NULL));
    struct planned again = t.p;
    free_twin(&t);
    memset(again.request.input[0].sha256, '0', 64); /* as if it had been another one */
    struct ws_build *build;
    FAILS(planned_prepare(&again, o.source, &build), WS_E_FORMAT);
    CHECK_HAS(error.what, "was used since");
    again.request.input[0] = (struct ws_input){.path = "gorse", .is_drive = true};
    FAILS(planned_prepare(&again, o.source, &build), WS_E_USAGE);
    OK(ws_source_zeros(100ull * MIB, &zeros, &error));
    FAILS(make_twin(&t, zeros, 200ull * MIB, NULL), WS_E_NOTFOUND);
    free_twin(&t);
    ws_source_close(zeros);
    original_end(&o);
}

/* A kernel that could not find its root on a stick: all is carried over, and the plan says that it would not start. */
static void test_no_way(void) {
    struct original o;
    struct twin t;
    struct ws_tree *tree = random_root();
    const char *const names[] = {"scripts/functions", "usr/lib/modules/6.1/kernel/drivers/ata/ahci.ko", NULL};
    put_program(tree, "lib/systemd/systemd", 62);
    put_initrd(tree, "boot/initrd.img-6.1", names);
    put_text(tree, "lib/modules/6.1/modules.builtin", "kernel/fs/ext4/ext4.ko\n");
    original_begin(&o, 300ull * MIB, true);
    CHECK(original_add(&o, "ext4", "root", 200ull * MIB, tree, NULL));
    CHECK(original_finish(&o));
    OK(make_twin(&t, o.source, 300ull * MIB, NULL));
    CHECK_INT(ws_findings_worst(ws_plan_findings(t.p.plan)), WS_FAULT);
    for (size_t i = 0; i < WS_OUTLOOKS; i++) CHECK(!ws_plan_outlooks(t.p.plan)[i].starts);
    free_twin(&t);
    original_end(&o);
}

static void test_leave_out(void) {
    struct original o;
    struct twin t;
    struct ws_source *slice;
    struct ws_tree *tree = random_root();
    put_program(tree, "lib/systemd/systemd", 62);
    put_text(tree, "etc/fstab", "/dev/sda1 / ext4 defaults 0 1\n/swapfile none swap sw 0 0\n");
    put_text(tree, "var/cache/apt/archives/a_1.deb", "packed");
    put_text(tree, "var/cache/apt/archives/lock", "");
    put_text(tree, "home/tide/.cache/x/y", "seen");
    put_text(tree, "home/tide/kept", "seen");
    put_text(tree, "var/log/syslog", "now");
    put_text(tree, "var/log/syslog.1", "then");
    put_text(tree, "swapfile", "zeros");
    put_text(tree, "tmp/x", "gone");
    for (int i = 2; i < 5; i++) {
        char version[16];
        snprintf(version, sizeof version, "6.%d", i);
        put_kernel(tree, version);
    }
    put_text(tree, "lib/modules/6.1/x.ko", "driver");
    put_text(tree, "lib/modules/6.4/x.ko", "driver");
    original_begin(&o, 300ull * MIB, false);
    CHECK(original_add(&o, "ext4", "root", 200ull * MIB, tree, NULL));
    CHECK(original_finish(&o));
    struct ws_twin_sizes *sizes = calloc(1, sizeof *sizes);
    OK(ws_twin_size(o.source, 0, sizes, &error));
    CHECK_INT(sizes->leavable[WS_LEAVE_CACHES].files, 2);
    CHECK_INT(sizes->leavable[WS_LEAVE_LOGS].files, 1);
    CHECK_INT(sizes->leavable[WS_LEAVE_KERNELS].files, 5);
    CHECK(sizes->least_drive > 60ull * MIB && sizes->least_drive < sizes->comfortable_drive);
    free(sizes);
    OK(make_twin(&t, o.source, 300ull * MIB,
                 &(struct ws_twin_wishes){.leave_out = 1u << WS_LEAVE_CACHES | 1u << WS_LEAVE_SWAP_FILES |
                                                       1u << WS_LEAVE_KERNELS}));
    struct ws_tree *seen = read_back(t.source, VOLUME(t.p, SYSTEM), &slice);
    static const char *const gone[] = {"var/cache/apt/archives/a_1.deb",
                                       "home/tide/.cache/x",
                                       "swapfile",
                                       "boot/vmlinuz-6.1",
                                       "lib/modules/6.1",
                                       "boot/initrd.img-6.2"};
    static const char *const there[] = {"var/cache/apt/archives/lock",
                                        "home/tide/.cache",
                                        "home/tide/kept",
                                        "var/log/syslog.1",
                                        "tmp/x",
                                        "boot/vmlinuz-6.4",
                                        "boot/vmlinuz-6.3",
                                        "lib/modules/6.4/x.ko"};
    for (size_t i = 0; i < sizeof gone / sizeof gone[0]; i++)
        if (ws_tree_find(seen, gone[i])) fail_at(__FILE__, __LINE__, "%s is there", gone[i]);
    for (size_t i = 0; i < sizeof there / sizeof there[0]; i++)
        if (!ws_tree_find(seen, there[i])) fail_at(__FILE__, __LINE__, "%s is not there", there[i]);
    char *fstab = load(seen, "etc/fstab");
    CHECK_HAS(fstab, "# /swapfile");
    free(fstab);
    ws_tree_close(seen);
    ws_source_close(slice);
    free_twin(&t);
    original_end(&o);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"random drives are carried over whole", test_random},
        {"a twin has names of its own, or the original's", test_identity},
        {"an installed system starts by our code, and waits for nothing", test_installed},
        {"a root that is not read is started by its own menu", test_unread_root},
        {"a new host is one at its first start", test_new_host},
        {"what is not read goes over as it is", test_as_it_is},
        {"partitions in an extended one", test_logical},
        {"what cannot be is refused", test_refused},
        {"a kernel without the drivers for a stick", test_no_way},
        {"what a system can do without", test_leave_out},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
