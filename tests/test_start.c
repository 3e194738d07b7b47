/* test_start.c — start-up code: entries made from menus, and the code itself run over the bytes of drives.
 *
 * What runs here is what PCs run, compiled for this machine; the assembler around it is judged by real starts.
 */
#include "tests/harness.h"

#include "boot/code/start.h"

enum { MIB = 1 << 20, FIRST = 1 * MIB };

static const struct ws_live_family *live_boot(void) { return ws_live_family_find("live-boot"); }

/* A tree with these empty files and a menu. */
static struct ws_tree *menu_tree(const char *const files[], const char *path, const char *text) {
    struct ws_tree *tree = NULL;
    if (ws_tree_create(&tree, &error) != WS_OK) abort();
    for (size_t i = 0; files[i]; i++)
        if (ws_tree_put(tree, files[i], "", 0, NULL, &error) != WS_OK) abort();
    if (ws_tree_put(tree, path, text, strlen(text), NULL, &error) != WS_OK) abort();
    return tree;
}

/* One line an entry: title | kernel | initrds | options */
static void write_entries(const struct ws_start_entries *entries, struct ws_text *out) {
    for (size_t i = 0; i < entries->count; i++) {
        const struct ws_start_entry *e = &entries->entry[i];
        ws_text_printf(out, "%s|%s|", e->title, e->linux_path);
        for (unsigned k = 0; k < e->initrds; k++) ws_text_printf(out, "%s%s", k ? " " : "", e->initrd[k]);
        ws_text_printf(out, "|%s\n", e->options);
    }
}

static const char *const usual_files[] = {"live/vmlinuz", "live/initrd.img", "live/early.img", NULL};

static void menus_become_entries(void) {
    static const struct {
        const char *path, *text, *wanted;
    } cases[] = {
        /* variables, a device in front, several initrds, a submenu, an entry twice */
        {"boot/grub/grub.cfg",
         "set default=1\nset dir=/live\nset extra=\"quiet splash\"\n"
         "menuentry 'Memory' {\n linux16 /boot/memtest\n}\n"
         "menuentry 'Main' --id main {\n linux ($root)${dir}/vmlinuz boot=live $extra $nothing components ---\n"
         " initrd $dir/early.img ${dir}/initrd.img\n}\n"
         "submenu 'More' {\n menuentry 'Safe' {\n  set extra=\"\"\n  linux /live/vmlinuz boot=live nomodeset \\\n"
         "   noapic\n  initrd /live/initrd.img\n }\n"
         " menuentry 'Again' {\n  linux /live/vmlinuz boot=live nomodeset noapic\n  initrd /live/initrd.img\n }\n}\n",
         "Main|/live/vmlinuz|/live/early.img /live/initrd.img|boot=live quiet splash components persistence ---\n"
         "Main (forgets at power-off)|/live/vmlinuz|/live/early.img /live/initrd.img|boot=live quiet splash components "
         "---\n"
         "Safe|/live/vmlinuz|/live/initrd.img|boot=live nomodeset noapic\n"},
        /* syslinux: paths from the menu's folder, initrds with commas, the default by its label */
        {"isolinux/live.cfg",
         "default two\nlabel one\n menu label ^One\n kernel ../live/vmlinuz\n append initrd=/live/initrd.img boot=live "
         "one\n"
         "label two\n menu label T^wo\n linux /LIVE/VMLINUZ\n initrd /live/early.img,/live/initrd.img\n"
         " append boot=live nopersistence BOOT_IMAGE=/live/vmlinuz two\n",
         "Two|/live/vmlinuz|/live/early.img /live/initrd.img|boot=live two persistence\n"
         "Two (forgets at power-off)|/live/vmlinuz|/live/early.img /live/initrd.img|boot=live nopersistence two\n"},
        /* what is missing is left out */
        {"boot/grub/grub.cfg",
         "menuentry 'Gone' {\n linux /live/other boot=live\n initrd /live/initrd.img\n}\n"
         "menuentry 'Half' {\n linux /live/vmlinuz boot=live\n initrd /live/none.img\n}\n"
         "menuentry 'There' {\n linux /live/vmlinuz boot=live\n initrd /live/initrd.img\n}\n",
         "There|/live/vmlinuz|/live/initrd.img|boot=live persistence\n"
         "There (forgets at power-off)|/live/vmlinuz|/live/initrd.img|boot=live\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_start_entries entries;
        struct ws_findings findings = {0};
        struct ws_text seen = {0};
        struct ws_tree *tree = menu_tree(usual_files, cases[i].path, cases[i].text);
        OK(ws_start_entries_of(tree, live_boot(), "persistence", &entries, &findings, &error));
        write_entries(&entries, &seen);
        CHECK_STR(seen.data, cases[i].wanted);
        CHECK(entries.entry[0].remembers);
        CHECK_INT(findings.count, i == 1 ? 1 : i == 2 ? 2 : 0);
        ws_text_free(&seen);
        ws_findings_free(&findings);
        ws_start_entries_free(&entries);
        ws_tree_close(tree);
    }
    struct ws_start_entries entries;
    struct ws_tree *tree = menu_tree(usual_files, "boot/grub/grub.cfg", "menuentry 'x' {\n linux /memtest\n}\n");
    FAILS(ws_start_entries_of(tree, live_boot(), "persistence", &entries, NULL, &error), WS_E_NOTFOUND);
    ws_tree_close(tree);
}

/* --- drives to start from --- */

struct stick {
    struct ws_tree *tree;
    struct ws_layout *layout;
    struct ws_ext4_geometry geometry;
    struct ws_source *drive, *patched;
    uint8_t *kernel, *initrd[2];
    size_t kernel_length, initrd_length[2];
};
enum file_system { FAT12, FAT16, FAT32, EXFAT, EXT4, FILE_SYSTEMS };
static const char *const fs_names[] = {"FAT12", "FAT16", "FAT32", "exFAT", "ext4"};

struct stick_wish {
    enum file_system fs;
    bool gpt;
    unsigned entries; /* more than the usual two */
    enum ws_check_at_start check;
    const char *kernel_path;
    const char *default_settings; /* instead of the usual file */
};

static uint8_t *random_block(size_t length) {
    uint8_t *bytes = malloc(length + 1);
    random_bytes(bytes, length);
    return bytes;
}

static void put(struct ws_tree *tree, const char *path, const void *bytes, size_t length) {
    if (ws_tree_put(tree, path, bytes, length, NULL, &error) != WS_OK) abort();
}

static void fill_tree(struct stick *s, const struct stick_wish *w) {
    static const char *const roots[] = {"/live/filesystem.squashfs", NULL};
    struct ws_start_entries entries = {calloc(w->entries + 2, sizeof *entries.entry), w->entries + 2};
    if (ws_tree_create(&s->tree, &error) != WS_OK) abort();
    s->kernel_length = 30000 + random_below(200000);
    s->kernel = random_block(s->kernel_length);
    memcpy(s->kernel + 0x202, "HdrS", 4);
    put(s->tree, w->kernel_path, s->kernel, s->kernel_length);
    for (size_t i = 0; i < 2; i++) {
        s->initrd_length[i] = 1 + random_below(300000);
        s->initrd[i] = random_block(s->initrd_length[i]);
        put(s->tree, i ? "live/a name that is long/initrd.img" : "live/early", s->initrd[i], s->initrd_length[i]);
    }
    uint8_t *system = random_block(700000);
    put(s->tree, roots[0], system, 700000);
    free(system);
    for (unsigned i = 0; i < entries.count; i++) {
        struct ws_start_entry *e = &entries.entry[i];
        (void)snprintf(e->title, sizeof e->title, "Curlew Live %u", i + 1);
        (void)snprintf(e->linux_path, sizeof e->linux_path, "/%s", w->kernel_path);
        strcpy(e->initrd[0], "/live/early");
        strcpy(e->initrd[1], "/live/a name that is long/initrd.img");
        e->initrds = 2;
        (void)snprintf(e->options, sizeof e->options, "boot=live number=%u", i + 1);
    }
    if (ws_start_entries_put(s->tree, "", &entries, w->check, roots, 3, 1790000000, &error) != WS_OK) abort();
    if (w->default_settings) put(s->tree, "loader/satchel.conf", w->default_settings, strlen(w->default_settings));
    ws_start_entries_free(&entries);
}

static bool make_stick(const struct stick_wish *wish, struct stick *s) {
    struct stick_wish w = *wish;
    static const uint64_t sizes[] = {6 * MIB, 20 * MIB, 64 * MIB, 24 * MIB, 24 * MIB};
    uint64_t size = sizes[w.fs];
    struct ws_table *table = malloc(sizeof *table);
    struct ws_guid id;
    unsigned number;
    uint64_t free_bytes, got = size;
    enum ws_status status;
    memset(s, 0, sizeof *s);
    random_bytes(id.byte, 16);
    if (!w.kernel_path) w.kernel_path = "live/vmlinuz";
    fill_tree(s, &w);
    WS_GO(ws_layout_create(size + 4 * MIB, &s->layout, &error));
    if (w.gpt) ws_table_new_gpt(table, size + 4 * MIB, 512, &id);
    else ws_table_new_mbr(table, size + 4 * MIB, 512, 77);
    WS_GO(ws_table_add(table, FIRST, MIB, "linux", &id, "empty", &number, &error)); /* one that holds nothing */
    id.byte[0]++;
    WS_GO(ws_table_add(table, 2 * MIB, size, w.fs == EXT4 ? "linux" : "data", &id, "x", &number, &error));
    WS_GO(ws_start_add_bios(table, s->layout, &error));
    WS_GO(ws_table_compose(table, s->layout, &error));
    if (w.fs == EXFAT) {
        struct ws_exfat_params p = {.size = size, .cluster = 4096};
        WS_GO(ws_exfat_compose(&p, s->tree, 2 * MIB, s->layout, &free_bytes, &error));
    } else if (w.fs == EXT4) {
        struct ws_ext4_params p = {.size = size};
        WS_GO(ws_ext4_measure(&p, s->tree, &s->geometry, &error));
        WS_GO(ws_ext4_compose(&s->geometry, 2 * MIB, s->layout, WS_PHASE_BODY, &error));
    } else {
        struct ws_fat_params p = {.size = size,
                                  .bits = w.fs == FAT12   ? 12
                                          : w.fs == FAT16 ? 16
                                                          : 32,
                                  .cluster = w.fs == FAT12   ? 2048
                                             : w.fs == FAT16 ? 1024
                                                             : 512};
        WS_GO(ws_fat_compose(&p, s->tree, 2 * MIB, s->layout, &got, &free_bytes, &error));
    }
    WS_GO(ws_layout_seal(s->layout, &error));
    WS_GO(ws_layout_source(s->layout, &s->drive, &error));
    WS_GO(ws_source_patched(s->drive, s->drive->size, &s->patched, &error));
done:
    if (status != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", fs_names[w.fs], error.what);
    free(table);
    return status == WS_OK;
}

static void free_stick(struct stick *s) {
    ws_source_close(s->patched);
    ws_source_close(s->drive);
    ws_layout_close(s->layout);
    ws_ext4_geometry_free(&s->geometry);
    ws_tree_close(s->tree);
    free(s->kernel);
    free(s->initrd[0]);
    free(s->initrd[1]);
}

/* What a kernel gets of both initial RAM disks. */
static void wanted_hash(const struct stick *s, char *hex) {
    struct ws_hash *hash = NULL;
    if (ws_hash_open(WS_HASH_SHA256, &hash, &error) != WS_OK) abort();
    for (int i = 0; i < 2; i++) {
        ws_hash_add(hash, s->initrd[i], s->initrd_length[i]);
        ws_hash_add(hash, "\0\0\0", (4 - (s->initrd_length[i] & 3)) & 3);
    }
    ws_hash_hex(hash, hex);
    ws_hash_close(hash);
}

static struct ws_rehearsal rehearse(const struct ws_source *drive, const uint16_t *keys, size_t count) {
    struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512, .keys = keys, .keys_count = count};
    if (ws_start_rehearse(drive, &r, &error) != WS_OK) abort();
    if (!r.console.data) ws_text_puts(&r.console, "");
    return r;
}

static void every_file_system_starts(void) {
    for (unsigned i = 0; i < FILE_SYSTEMS * 2; i++) {
        struct stick s;
        char hex[WS_HASH_HEX];
        if (!make_stick(&(struct stick_wish){.fs = i / 2, .gpt = i & 1, .check = WS_CHECK_FULL}, &s)) return;
        CHECK(ws_start_stage_is_sound(s.drive));
        struct ws_rehearsal r = rehearse(s.drive, NULL, 0);
        wanted_hash(&s, hex);
        if (!r.starts) fail_at(__FILE__, __LINE__, "%s: %s", fs_names[i / 2], r.console.data);
        CHECK_STR(r.initrd_sha256, hex);
        CHECK_INT(r.kernel_bytes, s.kernel_length);
        CHECK_STR(r.entry.options, "boot=live number=1");
        CHECK_HAS(r.console.data, "Checking /live/filesystem.squashfs: as written");
        CHECK_HAS(r.console.data, "The kernel takes over.");
        ws_rehearsal_free(&r);
        free_stick(&s);
    }
}

/* Sectors of 4096 bytes, as UEFI may see them. A GPT and ext4 in whole sectors are read through them. */
static void large_sectors_start(void) {
    struct stick s;
    struct ws_table *table = malloc(sizeof *table);
    struct ws_layout *layout = NULL;
    struct ws_source *drive = NULL;
    struct ws_guid id;
    unsigned number;
    if (!make_stick(&(struct stick_wish){.fs = EXT4}, &s)) return;
    random_bytes(id.byte, 16);
    OK(ws_layout_create(s.drive->size, &layout, &error));
    ws_table_new_gpt(table, s.drive->size, 4096, &id);
    OK(ws_table_add(table, 2 * MIB, 24 * MIB, "linux", &id, "x", &number, &error));
    OK(ws_table_compose(table, layout, &error));
    OK(ws_layout_add(layout, 2 * MIB, 24 * MIB, s.drive, 2 * MIB, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &drive, &error));
    struct ws_rehearsal r = {.firmware = "UEFI", .sector = 4096};
    OK(ws_start_rehearse(drive, &r, &error));
    if (!r.starts) fail_at(__FILE__, __LINE__, "%s", r.console.data);
    ws_rehearsal_free(&r);
    ws_source_close(drive);
    ws_layout_close(layout);
    free(table);
    free_stick(&s);
}

static void keys_choose_and_edit(void) {
    static const struct {
        uint16_t keys[24];
        size_t count;
        const char *options, *says;
    } cases[] = {
        {{0}, 0, "boot=live number=1", "Starting number 1 in 1 s"},
        {{START_KEY_DOWN, START_KEY_ENTER}, 2, "boot=live number=2", "Starting Curlew Live 2"},
        {{START_KEY_UP, START_KEY_ENTER}, 2, "boot=live number=302", "Starting Curlew Live 302"},
        {{'2', '8', '7', START_KEY_ENTER}, 4, "boot=live number=287", "(281 to 294 of 302)"},
        {{'9', '9', '9', START_KEY_ENTER}, 4, "boot=live number=9", ""}, /* 999 is none: its last digit counts */
        {{START_KEY_PAGE_DOWN, START_KEY_PAGE_DOWN, START_KEY_PAGE_UP, START_KEY_ENTER}, 4, "boot=live number=15", ""},
        {{START_KEY_END, START_KEY_PAGE_DOWN, START_KEY_HOME, START_KEY_DOWN, START_KEY_DOWN, START_KEY_ENTER},
         6,
         "boot=live number=3",
         ""},
        {{'e', START_KEY_BACK, '7', ' ', 'q', START_KEY_ENTER}, 6, "boot=live number=7 q", ""},
        {{'e', START_KEY_HOME, 'x', ' ', START_KEY_RIGHT, START_KEY_BACK, START_KEY_LEFT, START_KEY_END, '2',
          START_KEY_ENTER},
         10,
         "x oot=live number=12",
         "'|' is where you write"},
        {{'e', 'x', START_KEY_ESCAPE, START_KEY_ENTER}, 4, "boot=live number=1", ""},
    };
    struct stick s;
    if (!make_stick(&(struct stick_wish){.fs = FAT32, .entries = 300}, &s)) return;
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_rehearsal r = rehearse(s.drive, cases[i].keys, cases[i].count);
        CHECK_STR(r.entry.options, cases[i].options);
        CHECK_HAS(r.console.data, cases[i].says);
        ws_rehearsal_free(&r);
    }
    free_stick(&s);
}

static void settings_are_followed(void) {
    static const struct {
        const char *text, *options, *says;
    } cases[] = {
        {"timeout 0\ndefault 0002\n", "boot=live number=2", "Starting Curlew Live 2"},
        {"default 0003\n", "boot=live number=3", "Starting number 3 in 1 s"},
        {"timeout 99999\n# default 0003\ndefault nobody\n", "boot=live number=1", "Starting number 1 in 1 s"},
        {"timeout never\n", "", "Up and Down or a number choose"},
        {"\n\n\ttimeout\t2  \r\n", "boot=live number=1", "in 1 s"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct stick s;
        if (!make_stick(&(struct stick_wish){.fs = EXFAT, .entries = 1, .default_settings = cases[i].text}, &s)) return;
        struct ws_rehearsal r = rehearse(s.drive, NULL, 0);
        CHECK_STR(r.entry.options, cases[i].options);
        CHECK_HAS(r.console.data, cases[i].says);
        ws_rehearsal_free(&r);
        free_stick(&s);
    }
}

/* Where a file begins on the drive: found by its content, which is random. */
static uint64_t place_of(const struct stick *s, const uint8_t *bytes) {
    uint8_t here[32];
    for (uint64_t at = 2 * MIB; at + 512 <= s->drive->size; at += 512)
        if (ws_source_read(s->drive, at, here, 32, &error) == WS_OK && memcmp(here, bytes, 32) == 0) return at;
    return 0;
}

static void the_check_finds_what_changed(void) {
    static const uint16_t menu[] = {START_KEY_ENTER, 'x'};
    for (int i = 0; i < 6; i++) {
        struct stick s;
        char *system = NULL;
        size_t length = 0;
        enum ws_check_at_start check = i < 4 ? WS_CHECK_FULL : WS_CHECK_QUICK;
        if (!make_stick(&(struct stick_wish){.fs = i & 1 ? EXFAT : FAT32, .check = check}, &s)) return;
        struct ws_node *n = ws_tree_find(s.tree, "live/filesystem.squashfs");
        OK(ws_source_load(n->content, MIB, &system, &length, &error));
        /* 0, 1: system image; 2: kernel; 3: the list itself; 4: kernel, quick; 5: system image, which quick misses */
        uint64_t at = i == 2 || i == 4 ? place_of(&s, s.kernel) + 777 : place_of(&s, (const uint8_t *)system) + 600000;
        if (i == 3) {
            struct ws_node *list = ws_tree_find(s.tree, "loader/satchel.sha256");
            char *text = NULL;
            OK(ws_source_load(list->content, MIB, &text, &length, &error));
            at = place_of(&s, (const uint8_t *)text);
            free(text);
        }
        uint8_t byte = 0;
        OK(ws_source_read(s.drive, at, &byte, 1, &error));
        byte ^= 1;
        OK(ws_source_patch(s.patched, at, &byte, 1, &error));
        struct ws_rehearsal r = rehearse(s.patched, menu, 2);
        CHECK(r.starts == (i == 5));
        if (i == 5) CHECK_HAS(r.console.data, "Checking /live/vmlinuz: as written");
        else CHECK_HAS(r.console.data, "THE CHECK AT START FAILED");
        if (i < 2) CHECK_HAS(r.console.data, "/live/filesystem.squashfs is not what was written to this drive");
        if (i == 3) CHECK_HAS(r.console.data, "is not the one this entry was made with");
        ws_rehearsal_free(&r);
        r = rehearse(s.patched, (const uint16_t[]){START_KEY_ENTER, 'g'}, 2);
        CHECK(r.starts);
        ws_rehearsal_free(&r);
        free(system);
        free_stick(&s);
    }
}

/* Somebody has edited the entry: a digest that is too short, or none, is no digest of the list. */
static void a_cut_digest_is_no_digest(void) {
    for (size_t keep = 0; keep < 64; keep += 21) {
        struct stick s;
        char *text = NULL, blanks[64];
        size_t length = 0;
        if (!make_stick(&(struct stick_wish){.fs = FAT32, .check = WS_CHECK_QUICK}, &s)) return;
        OK(ws_source_load(ws_tree_find(s.tree, "loader/entries/0001.conf")->content, MIB, &text, &length, &error));
        const char *digest = strstr(text, "satchel-list") + strlen("satchel-list  ");
        memset(blanks, ' ', sizeof blanks);
        uint64_t at = place_of(&s, (const uint8_t *)text) + (uint64_t)(digest - text) + keep;
        OK(ws_source_patch(s.patched, at, blanks, sizeof blanks - keep, &error));
        struct ws_rehearsal r = rehearse(s.patched, (const uint16_t[]){START_KEY_ENTER, 'x'}, 2);
        CHECK(!r.starts);
        CHECK_HAS(r.console.data, "THE CHECK AT START FAILED");
        ws_rehearsal_free(&r);
        free(text);
        free_stick(&s);
    }
}

/* A drive some of whose sectors cannot be read. */
struct bad {
    const struct ws_source *base;
    uint64_t from, to;
};
static enum ws_status bad_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                               struct ws_error *e) {
    const struct bad *b = source->state;
    if (at < b->to && at + length > b->from) return ws_fail(e, WS_E_READ, "bad sector");
    return ws_source_read(b->base, at, buffer, length, e);
}
static const struct ws_source_ops bad_ops = {bad_read, NULL, NULL};

static void what_cannot_start_says_why(void) {
    struct stick s;
    struct ws_source *zeros = NULL, *broken = NULL;
    OK(ws_source_zeros(8 * MIB, &zeros, &error));
    struct ws_rehearsal r = rehearse(zeros, NULL, 0);
    CHECK_HAS(r.console.data, "the drive has no partition table");
    ws_rehearsal_free(&r);
    ws_source_close(zeros);

    if (!make_stick(&(struct stick_wish){.fs = FAT32}, &s)) return;
    struct bad b = {s.drive, 0, 512};
    OK(ws_source_make(&bad_ops, s.drive->size, &b, &broken, &error));
    r = rehearse(broken, NULL, 0);
    CHECK_HAS(r.console.data, "The drive cannot be read: sector 0");
    ws_rehearsal_free(&r);
    b.from = place_of(&s, s.kernel);
    b.to = b.from + 512;
    r = rehearse(broken, NULL, 0);
    CHECK_HAS(r.console.data, "This cannot be started: sector ");
    ws_rehearsal_free(&r);
    b.from = place_of(&s, s.initrd[1]);
    b.to = b.from + 512;
    r = rehearse(broken, NULL, 0);
    CHECK(!r.starts);
    CHECK_HAS(r.console.data, "initrd.img: sector ");
    ws_rehearsal_free(&r);
    ws_source_close(broken);
    free_stick(&s);
}

/* Files taken away, or of the wrong kind. */
static void missing_files_are_named(void) {
    static const struct {
        const char *drop, *put, *says;
    } cases[] = {
        {"live/vmlinuz", NULL, "the kernel /live/vmlinuz is not on the drive"},
        {"live/early", NULL, "the initial RAM disk /live/early is not on the drive"},
        {"live/vmlinuz", "live/vmlinuz", "/live/vmlinuz is not a Linux kernel"},
        {"live/vmlinuz", "live/vmlinuz/x", "the kernel /live/vmlinuz is a folder"},
        {"loader/entries", NULL, "2 partitions, 1 of them readable, none with entries in /loader/entries"},
        {"loader/entries/0001.conf", NULL, ""},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct stick s;
        struct ws_source *drive = NULL;
        struct ws_layout *layout = NULL;
        uint64_t size, free_bytes;
        if (!make_stick(&(struct stick_wish){.fs = FAT16}, &s)) return;
        ws_tree_drop(s.tree, ws_tree_find(s.tree, cases[i].drop));
        if (cases[i].put) put(s.tree, cases[i].put, s.initrd[0], s.initrd_length[0]);
        OK(ws_layout_create(s.drive->size, &layout, &error));
        OK(ws_layout_add(layout, 0, 2 * MIB, s.drive, 0, WS_PHASE_BODY, &error));
        struct ws_fat_params p = {.size = 20 * MIB, .bits = 16};
        OK(ws_fat_compose(&p, s.tree, 2 * MIB, layout, &size, &free_bytes, &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &drive, &error));
        struct ws_rehearsal r = rehearse(drive, NULL, 0);
        CHECK(r.starts == (cases[i].says[0] == '\0')); /* without the first, the second entry starts */
        CHECK_HAS(r.console.data, cases[i].says);
        if (i == 0) CHECK_HAS(r.console.data, "Press a key for the menu");
        ws_rehearsal_free(&r);
        ws_source_close(drive);
        ws_layout_close(layout);
        free_stick(&s);
    }
}

/* The initial RAM disk's clusters in a random order, and then its chain cut short. FAT32, one sector a cluster. */
static void fragments_are_followed_and_cuts_found(void) {
    struct stick s;
    char hex[WS_HASH_HEX];
    uint8_t boot[512];
    if (!make_stick(&(struct stick_wish){.fs = FAT32}, &s)) return;
    OK(ws_source_read(s.drive, 2 * MIB, boot, 512, &error));
    uint64_t fat = 2 * MIB + start_le16(boot + 14) * 512ull;
    uint64_t heap = fat + boot[16] * (uint64_t)start_le32(boot + 36) * 512;
    uint64_t at = place_of(&s, s.initrd[1]);
    uint32_t first = (uint32_t)((at - heap) / 512 + 2);
    uint32_t n = (uint32_t)((s.initrd_length[1] + 511) / 512);
    uint32_t *order = malloc(n * sizeof *order);
    for (uint32_t i = 0; i < n; i++) order[i] = i;
    for (uint32_t i = n; i-- > 2;) { /* the first stays: the folder names it */
        uint32_t k = 1 + (uint32_t)random_below(i);
        uint32_t t = order[i];
        order[i] = order[k], order[k] = t;
    }
    for (uint32_t i = 0; i < n; i++) {
        uint8_t block[512] = {0}, next[4] = {0xff, 0xff, 0xff, 0x0f};
        size_t left = s.initrd_length[1] - i * 512ull;
        memcpy(block, s.initrd[1] + i * 512ull, left < 512 ? left : 512);
        uint32_t follows = first + (i + 1 < n ? order[i + 1] : 0);
        if (i + 1 < n)
            for (int k = 0; k < 4; k++) next[k] = (uint8_t)(follows >> (8 * k));
        OK(ws_source_patch(s.patched, heap + (first - 2 + order[i]) * 512ull, block, 512, &error));
        OK(ws_source_patch(s.patched, fat + (first + order[i]) * 4ull, next, 4, &error));
    }
    struct ws_rehearsal r = rehearse(s.patched, NULL, 0);
    wanted_hash(&s, hex);
    CHECK_STR(r.initrd_sha256, hex);
    ws_rehearsal_free(&r);
    OK(ws_source_patch(s.patched, fat + (first + order[n / 2]) * 4ull, "\xff\xff\xff\x0f", 4, &error));
    r = rehearse(s.patched, NULL, 0);
    if (n > 2) CHECK_HAS(r.console.data, "it ends after ");
    CHECK(n <= 2 || !r.starts);
    ws_rehearsal_free(&r);
    free(order);
    free_stick(&s);
}

/* A size that damage made enormous: said at once, not read for days. FAT32's record of the kernel is found by its size.
 */
static void impossible_sizes_are_refused(void) {
    struct stick s;
    bool found = false;
    if (!make_stick(&(struct stick_wish){.fs = FAT32, .check = WS_CHECK_FULL}, &s)) return;
    for (uint64_t at = 2 * MIB; at < s.drive->size && !found; at += 32) {
        uint8_t e[32];
        OK(ws_source_read(s.drive, at, e, 32, &error));
        found = e[11] == 0x20 && memcmp(e, "VMLI", 4) == 0 && start_le32(e + 28) == s.kernel_length;
        if (found) OK(ws_source_patch(s.patched, at + 28, "\xff\xff\xff\xff", 4, &error));
    }
    CHECK(found);
    struct ws_rehearsal r = rehearse(s.patched, (const uint16_t[]){START_KEY_ENTER, 'x'}, 2);
    CHECK(!r.starts);
    CHECK_HAS(r.console.data, "/live/vmlinuz says it is larger than the drive");
    ws_rehearsal_free(&r);
    free_stick(&s);
}

/* A full system's kernel is often a link: /vmlinuz to boot/vmlinuz-6.1, some with "..". */
static void links_are_followed(void) {
    static const struct {
        const char *link, *target;
        bool starts;
    } cases[] = {{"vmlinuz", "live/real", true},         {"live/vmlinuz", "real", true},
                 {"live/vmlinuz", "../live/real", true}, {"live/vmlinuz", "/live/./real", true},
                 {"live/vmlinuz", "vmlinuz", false},     {"live/vmlinuz", "/nowhere", false}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct stick s;
        struct ws_node *n;
        struct ws_layout *layout = NULL;
        struct ws_source *drive = NULL;
        struct ws_ext4_geometry g;
        struct ws_ext4_params p = {.size = 24 * MIB};
        if (!make_stick(&(struct stick_wish){.fs = EXT4, .kernel_path = cases[i].link}, &s)) return;
        ws_tree_drop(s.tree, ws_tree_find(s.tree, cases[i].link));
        put(s.tree, "live/real", s.kernel, s.kernel_length);
        const char *slash = strrchr(cases[i].link, '/');
        OK(ws_tree_add(s.tree, slash ? ws_tree_find(s.tree, "live") : ws_tree_root(s.tree),
                       slash ? slash + 1 : cases[i].link, WS_NODE_LINK, &n, &error));
        OK(ws_tree_set_target(s.tree, n, cases[i].target, &error));
        OK(ws_layout_create(s.drive->size, &layout, &error));
        OK(ws_layout_add(layout, 0, 2 * MIB, s.drive, 0, WS_PHASE_BODY, &error));
        OK(ws_ext4_measure(&p, s.tree, &g, &error));
        OK(ws_ext4_compose(&g, 2 * MIB, layout, WS_PHASE_BODY, &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &drive, &error));
        struct ws_rehearsal r = rehearse(drive, NULL, 0);
        if (r.starts != cases[i].starts) fail_at(__FILE__, __LINE__, "%s: %s", cases[i].target, r.console.data);
        ws_rehearsal_free(&r);
        ws_source_close(drive);
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        free_stick(&s);
    }
}

static void its_sha256_is_the_usual_one(void) {
    uint8_t *bytes = random_block(5000);
    for (int i = 0; i < 300; i++) {
        struct start_sha256 s;
        char mine[65], theirs[WS_HASH_HEX];
        size_t n = i < 140 ? (size_t)i : random_below(5000);
        start_sha256_begin(&s);
        for (size_t at = 0; at < n;) {
            size_t step = 1 + random_below(n - at);
            start_sha256_add(&s, bytes + at, step);
            at += step;
        }
        start_sha256_end(&s, mine);
        OK(ws_hash_bytes(WS_HASH_SHA256, bytes, n, theirs, &error));
        CHECK_STR(mine, theirs);
    }
    free(bytes);
}

/* Bytes of a sound drive changed at random: it starts or says why, and never hangs or reads what is not there. */
static void damage_never_hangs(void) {
    for (unsigned i = 0; i < (unsigned)cases_of(60); i++) {
        struct stick s;
        if (!make_stick(&(struct stick_wish){.fs = i % FILE_SYSTEMS, .gpt = i & 1, .check = WS_CHECK_QUICK}, &s))
            return;
        for (int k = 0; k < 200; k++) {
            uint64_t front = k & 1 ? 64 * 1024 : 2 * MIB;
            uint8_t bytes[8];
            uint64_t at = (k % 3 ? 2 * MIB : 0) + random_below(front);
            random_bytes(bytes, sizeof bytes);
            OK(ws_source_patch(s.patched, at, bytes, 1 + random_below(7), &error));
        }
        struct ws_rehearsal r = rehearse(s.patched, NULL, 0);
        CHECK(r.console.length > 0);
        ws_rehearsal_free(&r);
        free_stick(&s);
    }
}

static void places_are_kept(void) {
    struct ws_table *table = malloc(sizeof *table);
    struct ws_layout *layout = NULL;
    struct ws_guid id = {{1}};
    unsigned number;
    size_t length;
    OK(ws_layout_create(64 * MIB, &layout, &error));
    ws_table_new_mbr(table, 64 * MIB, 512, 7);
    OK(ws_table_add(table, 65 * 512, MIB, "data", &id, "x", &number, &error));
    FAILS(ws_start_add_bios(table, layout, &error), WS_E_SPACE);
    CHECK(ws_start_stage_bytes() <= 56 * 1024); /* it all fits where BIOSes want it: under 64 KiB */
    const uint8_t *program = ws_start_uefi_program(&length);
    CHECK(length < 65536 && program[0] == 'M' && program[1] == 'Z');
    ws_layout_close(layout);
    free(table);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"menus become entries", menus_become_entries},
        {"every file system starts", every_file_system_starts},
        {"large sectors start", large_sectors_start},
        {"keys choose and edit", keys_choose_and_edit},
        {"settings are followed", settings_are_followed},
        {"the check finds what changed", the_check_finds_what_changed},
        {"a cut digest is no digest", a_cut_digest_is_no_digest},
        {"what cannot start says why", what_cannot_start_says_why},
        {"missing files are named", missing_files_are_named},
        {"fragments are followed and cuts found", fragments_are_followed_and_cuts_found},
        {"impossible sizes are refused", impossible_sizes_are_refused},
        {"links are followed", links_are_followed},
        {"its SHA-256 is the usual one", its_sha256_is_the_usual_one},
        {"damage never hangs", damage_never_hangs},
        {"places are kept", places_are_kept},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
