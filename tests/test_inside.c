/* test_inside.c — full systems in one file of an ordinary volume: laid down, started, renewed, judged by checkers. */
#include "tests/roots.h"

#include "base/bytes.h"

#include <unistd.h>

enum { MIB = 1 << 20, DRIVE = 400 * MIB };

static const char *const drivers[] = {
    "scripts/functions", "lib/modules/6.2/xhci-pci.ko", "usb-storage.ko", "sd_mod.ko", "ext4.ko", NULL};

/* A root whose kernel 6.2 is known to find itself in a file; `driver`: what its driver is called. */
static struct ws_tree *root_for_file(const char *driver) {
    struct ws_tree *tree = random_root();
    char path[100];
    put_kernel(tree, "6.2");
    put_initrd(tree, "boot/initrd.img-6.2", drivers);
    put_text(tree, "lib/modules/6.2/modules.builtin", "kernel/drivers/usb/core/usbcore.ko\n");
    if (!driver) return tree;
    snprintf(path, sizeof path, "lib/modules/6.2/kernel/drivers/block/%s", driver);
    put_text(tree, path,
             "\x7f"
             "ELF for disks that are files");
    return tree;
}

/* A plan on a drive, and its layout's bytes. */
struct bed {
    struct memory_drive *drive;
    struct volume image;
    struct planned p;
    struct ws_build *build;
    struct ws_source *now;
};

static void begin(struct bed *b, const char *format) {
    memset(b, 0, sizeof *b);
    b->drive = memory_drive(DRIVE, 512);
    memset(b->drive->bytes, 0, DRIVE);
    planned_begin(&b->p, WS_KIND_SYSTEM, &b->drive->facts);
    struct ws_wanted *w = ws_request_want(&b->p.request, WS_ROLE_SYSTEM);
    w->place = WS_PLACE_FILE;
    w->size = ws_size_of(200 * MIB);
    if (format) snprintf(ws_request_want(&b->p.request, WS_ROLE_DATA)->format, 12, "%s", format);
}

static enum ws_status prepare(struct bed *b, struct ws_tree *tree) {
    if (!make_volume(tree, 160 * MIB, &b->image)) return error.status;
    return planned_prepare(&b->p, b->image.source, &b->build);
}

static void lay_down(struct bed *b) {
    memory_drive_fill(b->drive, ws_build_layout(b->build));
    if (ws_source_drive(&b->drive->drive, &b->now, &error) != WS_OK) abort();
}

static void end(struct bed *b) {
    ws_build_close(b->build);
    free_volume(&b->image);
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

/* Both volumes, by programs that know nothing of this one; the system's is so large by now, or 0: as planned. */
static void judge_sized(const struct bed *b, uint64_t size) {
    struct ws_volume system = *VOLUME(b->p, SYSTEM);
    const struct ws_volume *v[] = {VOLUME(b->p, DATA), &system};
    if (size) system.size = size;
    const bool exfat = strcmp(v[0]->format, "exfat") == 0;
    const char *const judges[] = {exfat ? "fsck.exfat -n" : "fsck.fat -n", "e2fsck -fn"};
    for (int i = 0; i < 2; i++) {
        struct ws_source *slice = NULL;
        struct ws_text said = {0};
        const char *path = scratch("volume");
        OK(ws_source_slice(b->now, v[i]->at, v[i]->size, &slice, &error));
        save_source(slice, path);
        if (shell(&said, "%s %s 2>&1", judges[i], path) != 0) fail_at(__FILE__, __LINE__, "%s", said.data);
        ws_text_free(&said);
        ws_source_close(slice);
        unlink(path);
    }
}

static void judge(const struct bed *b) { judge_sized(b, 0); }

/* Our start-up code over the drive, as it is; what it would start. */
static bool starts(const struct bed *b, const char *firmware, struct ws_rehearsal *r) {
    *r = (struct ws_rehearsal){.firmware = firmware, .sector = 512};
    if (ws_start_rehearse(b->now, r, &error) != WS_OK) fail_at(__FILE__, __LINE__, "%s", error.what);
    return r->starts;
}

/* What the small initial RAM disk holds, unpacked by somebody else. */
static void look_at_initrd(const struct bed *b, const char *path) {
    struct ws_source *slice = NULL;
    struct ws_tree *root = NULL;
    struct ws_text said = {0};
    const struct ws_volume *v = VOLUME(b->p, SYSTEM);
    const char *file = scratch("initrd"), *folder = scratch("unpacked");
    OK(ws_source_slice(b->now, v->at, v->size, &slice, &error));
    OK(ws_ext4_read(slice, &root, NULL, &error));
    const struct ws_node *n = ws_tree_find(root, path);
    CHECK(n && n->content);
    if (n) save_source(n->content, file);
    CHECK_INT(
        shell(&said,
              "rm -rf %s && mkdir %s && bsdtar -xf %s -C %s && cd %s && find . | sort && cat start-inside.d/loop.ko && "
              "stat -c %%a start-inside && head -c 4 start-inside | tail -c 3",
              folder, folder, file, folder, folder),
        0);
    CHECK_STR(said.data, ".\n./start-inside\n./start-inside.d\n./start-inside.d/dev\n./start-inside.d/loop.ko\n"
                         "./start-inside.d/proc\n./start-inside.d/sys\n\x7f"
                         "ELF for disks that are files755\nELF");
    ws_text_free(&said);
    ws_tree_close(root);
    ws_source_close(slice);
}

static void it_starts_from_its_file(void) {
    static const struct {
        const char *format;
        enum ws_table_wish table;
    } cases[] = {
        {NULL, WS_TABLE_USUAL}, {"exfat", WS_TABLE_WISH_GPT}, {"fat32", WS_TABLE_USUAL}, {"fat32", WS_TABLE_WISH_GPT}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = root_for_file("loop.ko");
        struct ws_table *table = calloc(1, sizeof *table);
        struct ws_memory *m = calloc(1, sizeof *m);
        struct ws_contents *c = calloc(1, sizeof *c);
        struct bed b;
        uint64_t at = 0, length = 0;
        begin(&b, cases[i].format);
        b.p.request.table = cases[i].table;
        OK(prepare(&b, tree));
        lay_down(&b);
        judge(&b);
        CHECK((VOLUME(b.p, START) != NULL) == (i < 2));
        for (int k = 0; k < 2; k++) {
            struct ws_rehearsal r;
            CHECK_INT(ws_plan_outlooks(b.p.plan)[k].starts, true);
            CHECK(starts(&b, k ? "UEFI" : "BIOS", &r));
            CHECK_STR(r.entry.linux_path, "/boot/vmlinuz-6.2");
            CHECK_INT(r.entry.initrds, 2);
            CHECK_STR(r.entry.initrd[1], "/boot/start-inside-6.2.img");
            CHECK_HAS(r.entry.options, " rdinit=/start-inside");
            OK(ws_table_read(b.now, 512, table, NULL, &error));
            OK(ws_system_volume(b.now, table, r.entry.options, &at, &length, &error));
            CHECK(at == VOLUME(b.p, SYSTEM)->at && length == 200 * MIB && at % 4096 == 0);
            ws_rehearsal_free(&r);
        }
        look_at_initrd(&b, "boot/start-inside-6.2.img");
        OK(ws_memory_look(b.now, 512, m, &error));
        CHECK(m->system && m->cause == WS_FORGETS_NOT && m->volume_at == at);
        OK(ws_contents_look(b.now, 512, true, c, &error));
        CHECK_STR(c->guess, "ordinary drive with a full system in a file");
        CHECK(c->part[0].inside && c->part[0].overlay_at == at && c->part[0].overlay_size == length);
        end(&b);
        free(c);
        free(m);
        free(table);
        ws_tree_close(tree);
    }
}

/* On any place of the volume, under any name; in pieces it is none, and that is said. */
static void the_file_may_be_moved_not_torn(void) {
    struct ws_tree *tree = root_for_file("loop.ko");
    struct ws_table *table = calloc(1, sizeof *table);
    struct ws_text said = {0};
    struct ws_rehearsal r;
    struct bed b;
    uint64_t at = 0, length = 0;
    begin(&b, "fat32");
    ws_request_want(&b.p.request, WS_ROLE_SYSTEM)->size = ws_size_of(150 * MIB);
    OK(prepare(&b, tree));
    lay_down(&b);
    const uint64_t was = VOLUME(b.p, SYSTEM)->at;
    const char *path = scratch("drive");
    FILE *f = fopen(path, "wb");
    CHECK(f && fwrite(b.drive->bytes, DRIVE, 1, f) == 1);
    if (f) fclose(f);
    CHECK_INT(
        shell(&said,
              "export MTOOLS_SKIP_CHECK=1; mcopy -n -i %s@@1M ::system.ext4 %s.copy && mdel -i %s@@1M ::system.ext4 && "
              "mcopy -i %s@@1M /etc/passwd ::first.txt && mcopy -i %s@@1M %s.copy ::'Tide Survey.EXT4'",
              path, path, path, path, path, path),
        0);
    f = fopen(path, "rb");
    CHECK(f && fread(b.drive->bytes, DRIVE, 1, f) == 1);
    if (f) fclose(f);
    CHECK(starts(&b, "BIOS", &r));
    OK(ws_table_read(b.now, 512, table, NULL, &error));
    OK(ws_system_volume(b.now, table, r.entry.options, &at, &length, &error));
    CHECK(at != was && length == 150 * MIB);
    char options[4096];
    snprintf(options, sizeof options, "%s", r.entry.options);
    ws_rehearsal_free(&r);
    /* the last cluster but one stands elsewhere now */
    uint8_t *v = b.drive->bytes + MIB;
    uint32_t cluster = v[13] * 512u, fat = (uint32_t)ws_load_le16(v + 14) * 512;
    uint32_t heap = fat + v[16] * ws_load_le32(v + 36) * 512;
    uint32_t last = (uint32_t)((at - MIB - heap + length) / cluster + 1), spare = last + 20;
    ws_store_le32(v + fat + 4ull * (last - 2), spare);
    ws_store_le32(v + fat + 4ull * spare, last);
    CHECK(!starts(&b, "UEFI", &r));
    CHECK_HAS(r.console.data, "Tide Survey.EXT4 lies in several pieces: copy it off the drive");
    FAILS(ws_system_volume(b.now, table, options, &at, &length, &error), WS_E_FORMAT);
    ws_rehearsal_free(&r);
    struct planned renewal;
    struct ws_build *build = NULL;
    planned_begin(&renewal, WS_KIND_RENEWAL, &b.drive->facts);
    renewal.setting.now = b.now;
    FAILS(planned_prepare(&renewal, b.image.source, &build), WS_E_UNSUPPORTED);
    CHECK_STR(error.what,
              "there is no system on this drive that could be renewed: it is in a file that lies in several "
              "pieces");
    ws_text_free(&said);
    free(table);
    end(&b);
    ws_tree_close(tree);
}

/* Any volume may be a file; a system is one that start-up code would start from. */
static void volumes_in_files_are_told_apart(void) {
    static const char *const names[] = {"notes.ext4", "HUT.Ext4", "hut.ext4.old", ".ext4", "torn.ext4"};
    struct ws_tree *outer = NULL, *plain = random_root(), *system = random_root();
    struct volume v[2];
    struct ws_volume_facts facts;
    struct ws_node *n[5];
    OK(ws_tree_create(&outer, &error));
    put_text(system, "boot/loader/entries/0001.conf", "title x\nlinux /boot/vmlinuz-6.1\n");
    CHECK(make_volume(plain, 100 * MIB, &v[0]) && make_volume(system, 120 * MIB, &v[1]));
    for (size_t i = 0; i < 5; i++) {
        OK(ws_tree_put(outer, names[i], "no volume", 9, &n[i], &error));
        if (i < 4) n[i]->content = v[i > 0].source;
    }
    CHECK(ws_inside_find(outer, NULL) == n[1]);
    OK(ws_format_find("ext4")->probe(v[0].source, &facts, &error));
    CHECK(ws_inside_find(outer, facts.id) == n[0]);
    CHECK(ws_inside_find(outer, "11111111-2222-3333-4444-555555555555") == NULL);
    ws_tree_close(outer);
    for (int i = 0; i < 2; i++) free_volume(&v[i]);
    ws_tree_close(plain);
    ws_tree_close(system);
}

static void what_cannot_stand_in_a_file_is_refused(void) {
    static const char *const none[] = {"sd_mod.ko", "xhci-pci.ko", "usb-storage.ko", "ext4.ko", NULL};
    static const struct {
        const char *what;
        enum ws_status status;
    } cases[] = {{"it has no driver loop", WS_E_UNSUPPORTED},
                 {"it is not known whether its initial RAM disk", WS_E_UNSUPPORTED},
                 {"its initial RAM disk cannot be read", WS_E_UNSUPPORTED},
                 {"not in a file", WS_E_USAGE},
                 {"none is wanted", WS_E_USAGE},
                 {"FAT32 ends a file", WS_E_RANGE},
                 {"with the system's file it needs", WS_E_SPACE},
                 {"stands in a file", WS_E_USAGE},
                 {"is no driver", WS_E_FORMAT},
                 {"the drive holds", WS_E_SPACE}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = root_for_file(i == 0 ? NULL : i == 8 ? "loop.ko.gz" : "loop.ko");
        struct bed b;
        begin(&b, i == 5 ? "fat32" : NULL);
        struct ws_wanted *system = ws_request_want(&b.p.request, WS_ROLE_SYSTEM);
        if (i == 1) put_initrd(tree, "boot/initrd.img-6.2", none);
        if (i == 8) /* neither packed nor a driver */
            put_text(tree, "lib/modules/6.2/kernel/drivers/block/loop.ko.gz",
                     "\x1f\x8b\x08\x08\x01\x01\x01\x01\x02\x03x");
        if (i == 2) put_text(tree, "boot/initrd.img-6.2", "torn");
        if (i == 3) system->locked = true;
        if (i == 4) ws_request_want(&b.p.request, WS_ROLE_DATA)->size.kind = WS_SIZE_NONE;
        if (i == 5) system->size = ws_size_of(5ull << 30);
        if (i == 6) ws_request_want(&b.p.request, WS_ROLE_DATA)->size = ws_size_of(150 * MIB);
        if (i == 7) ws_request_want(&b.p.request, WS_ROLE_SWAP)->place = WS_PLACE_FILE;
        if (i == 9) system->size = ws_size_of(1ull << 30);
        FAILS(prepare(&b, tree), cases[i].status);
        CHECK_HAS(error.what, cases[i].what);
        end(&b);
        ws_tree_close(tree);
    }
}

/* A newer system into the same file: people's files around it are not touched. */
static void it_is_renewed_in_its_file(void) {
    for (int i = 0; i < 2; i++) {
        struct ws_tree *tree = root_for_file("loop.ko"), *newer = root_for_file("loop.ko");
        struct ws_build_options o = {0};
        struct ws_build_result result;
        struct ws_rehearsal r;
        struct bed b;
        put_text(newer, "etc/os-release", "PRETTY_NAME=Curlew 13\nVERSION_ID=13\n");
        put_text(newer, "lib/modules/6.3/kernel/drivers/block/loop.ko",
                 "\x7f"
                 "ELF another");
        put_kernel(newer, "6.3");
        put_initrd(newer, "boot/initrd.img-6.3", drivers);
        begin(&b, i ? "fat32" : "exfat");
        b.p.request.owner.internal_disks = WS_INTERNAL_OPEN;
        strcpy(b.p.request.kernel_options, "quiet");
        OK(prepare(&b, tree));
        lay_down(&b);
        const struct ws_volume system = *VOLUME(b.p, SYSTEM), data = *VOLUME(b.p, DATA);
        uint8_t *before = malloc(DRIVE);
        memcpy(before, b.drive->bytes, DRIVE);
        ws_build_close(b.build);
        free_volume(&b.image);
        b.build = NULL;
        planned_begin(&b.p, WS_KIND_RENEWAL, &b.drive->facts);
        b.p.setting.now = b.now;
        OK(prepare(&b, newer));
        CHECK(VOLUME(b.p, SYSTEM)->at == system.at && VOLUME(b.p, SYSTEM)->inside == WS_ROLE_DATA);
        o.confirm = b.drive->facts.short_name;
        OK(ws_build_carry_out(b.build, plain_port(), &b.drive->drive, &o, &result, &error));
        CHECK(starts(&b, "BIOS", &r));
        CHECK_STR(r.entry.initrd[1], "/boot/start-inside-6.3.img");
        CHECK_HAS(r.entry.options, " rdinit=/start-inside quiet");
        CHECK(strstr(strstr(r.entry.options, "rdinit") + 1, "rdinit") == NULL);
        ws_rehearsal_free(&r);
        CHECK(memcmp(before + data.at, b.drive->bytes + data.at, (size_t)(system.at - data.at)) == 0);
        size_t behind = (size_t)(system.at + system.size);
        CHECK(memcmp(before + behind, b.drive->bytes + behind, (size_t)(data.at + data.size) - behind) == 0);
        judge(&b);
        free(before);
        end(&b);
        ws_tree_close(tree);
        ws_tree_close(newer);
    }
}

/* Larger and smaller where it lies: all of the root is there, and it starts. */
static void its_file_gets_larger_and_smaller(void) {
    static const uint64_t sizes[] = {300 * MIB, 120 * MIB};
    for (int i = 0; i < 2; i++) {
        struct ws_tree *tree = root_for_file("loop.ko"), *root = NULL, *before = NULL;
        struct ws_kept_options o = {0};
        struct ws_write_result result;
        struct ws_rehearsal r;
        struct ws_source *slice = NULL, *was = NULL;
        struct bed b;
        begin(&b, i ? "fat32" : "exfat");
        OK(prepare(&b, tree));
        lay_down(&b);
        const struct ws_volume system = *VOLUME(b.p, SYSTEM);
        uint8_t *copy = malloc(system.size);
        memcpy(copy, b.drive->bytes + system.at, system.size);
        OK(ws_source_memory(copy, system.size, &was, &error));
        OK(ws_ext4_read(was, &before, NULL, &error));
        o.confirm = b.drive->facts.short_name;
        for (size_t k = 0; k < sizeof sizes / sizeof sizes[0]; k++) {
            struct ws_kept *kept = NULL;
            uint64_t least, most;
            OK(ws_kept_open(b.now, 512, NULL, &kept, &error));
            CHECK(ws_kept_memory(kept)->system && ws_kept_memory(kept)->in_file);
            OK(ws_kept_bounds(kept, &least, &most, &error));
            CHECK(least < sizes[k] && most >= 300 * MIB);
            OK(ws_kept_resize(kept, sizes[k], &error));
            OK(ws_kept_prepare(kept, 1790000500, NULL, &error));
            OK(ws_kept_carry_out(kept, plain_port(), &b.drive->drive, &o, &result, &error));
            ws_kept_close(kept);
            judge_sized(&b, sizes[k]);
            CHECK(starts(&b, "BIOS", &r));
            ws_rehearsal_free(&r);
        }
        OK(ws_source_slice(b.now, system.at, sizes[1], &slice, &error));
        OK(ws_ext4_read(slice, &root, NULL, &error));
        compare_trees(root, before, TREE_ALL);
        ws_tree_close(root);
        ws_tree_close(before);
        ws_source_close(slice);
        ws_source_close(was);
        free(copy);
        end(&b);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"it starts from its file", it_starts_from_its_file},
        {"the file may be moved, not torn", the_file_may_be_moved_not_torn},
        {"what cannot stand in a file is refused", what_cannot_stand_in_a_file_is_refused},
        {"volumes in files are told apart", volumes_in_files_are_told_apart},
        {"it is renewed in its file", it_is_renewed_in_its_file},
        {"its file gets larger and smaller", its_file_gets_larger_and_smaller},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
