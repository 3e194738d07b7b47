/* test_media.c — ISO 9660 and FAT: composed, read, changed, damaged. */
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20 };

static struct ws_layout *compose_iso(struct ws_tree *tree, struct ws_iso_params *p, uint64_t *size) {
    struct ws_layout *layout = NULL;
    if (ws_iso_compose(p, tree, NULL, size, &error) != WS_OK || ws_layout_create(*size, &layout, &error) != WS_OK ||
        ws_iso_compose(p, tree, layout, size, &error) != WS_OK || ws_layout_seal(layout, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s %s", error.where, error.what);
        ws_layout_close(layout);
        return NULL;
    }
    return layout;
}

/* Composers use the nodes' scratch fields and ISO 9660 knows whole seconds: compare without those. */
static void images_read_back_with_all_names_and_owners(void) {
    for (int i = 0; i < cases_of(40); i++) {
        struct ws_tree *tree =
            random_tree(random_below(i % 8 == 0 ? 800 : 80), TREE_LINKS | TREE_DEVICES | TREE_SHORT, 30000);
        struct ws_iso_params p = {.volume_id = "RANDOM", .made_at = 1790000000};
        uint64_t size = 0;
        struct ws_iso *iso = NULL;
        struct ws_source *view = NULL;
        struct ws_layout *layout = compose_iso(tree, &p, &size);
        if (!layout) return;
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_iso_open(view, &iso, &error));
        CHECK(ws_iso_facts(iso)->rock_ridge && ws_iso_facts(iso)->joliet);
        CHECK_STR(ws_iso_facts(iso)->volume_id, "RANDOM");
        CHECK_INT(ws_iso_facts(iso)->size, size);
        CHECK_INT(ws_iso_facts(iso)->made_at, 1790000000);
        for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
            char path[4096];
            struct ws_node *s = ws_tree_find(ws_iso_tree(iso), ws_node_path(n, path, sizeof path));
            const struct ws_node *w = n->same_as ? n->same_as : n;
            if (!s) {
                fail_at(__FILE__, __LINE__, "%s is missing", path);
                continue;
            }
            CHECK_INT(s->kind, w->kind);
            CHECK_INT(ws_node_size(s), ws_node_size(w));
            if (w->kind == WS_NODE_LINK) CHECK_STR(s->target, w->target);
            if (n->parent && w->mtime < 4000000000) CHECK_INT(s->mtime, w->mtime);
            if (w->kind == WS_NODE_FILE && w->content) {
                char a[WS_HASH_HEX], b[WS_HASH_HEX];
                OK(ws_source_hash(s->content, WS_HASH_MD5, a, &error));
                OK(ws_source_hash(w->content, WS_HASH_MD5, b, &error));
                CHECK_STR(a, b);
            }
        }
        CHECK_INT(ws_tree_count(ws_iso_tree(iso)), ws_tree_count(tree));
        ws_iso_close(iso);
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
}

static void a_file_over_4_gib_takes_several_extents(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    struct ws_source *view = NULL;
    struct ws_iso *iso = NULL;
    struct ws_iso_params p = {.volume_id = "LARGE"};
    uint64_t size = 0;
    OK(ws_tree_create(&tree, &error));
    OK(ws_source_zeros((9ull << 30) + 12345, &large, &error));
    OK(ws_tree_put(tree, "live/filesystem.squashfs", "", 0, &n, &error));
    n->content = large;
    OK(ws_tree_put(tree, "live/after.txt", "after", 5, NULL, &error));
    struct ws_layout *layout = compose_iso(tree, &p, &size);
    if (!layout) return;
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_iso_open(view, &iso, &error));
    CHECK_INT(ws_node_size(ws_tree_find(ws_iso_tree(iso), "live/filesystem.squashfs")), (9ll << 30) + 12345);
    CHECK_INT(ws_node_size(ws_tree_find(ws_iso_tree(iso), "live/after.txt")), 5);
    struct ws_source *patched = NULL;
    enum ws_iso_place place;
    OK(ws_source_patched(view, size, &patched, &error));
    FAILS(ws_iso_replace(iso, patched, ws_tree_find(ws_iso_tree(iso), "live/filesystem.squashfs"), "x", 1, NULL, &place,
                         &error),
          WS_E_UNSUPPORTED);
    ws_source_close(patched);
    ws_iso_close(iso);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_tree_close(tree);
    ws_source_close(large);
}

/* New text in place and behind the image, seen through both trees after reading the result anew. */
static void replaced_files_are_seen_in_both_trees(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR, .full_menus = true};
    struct demo_image d;
    OK(demo_image_make(&dp, &d, &error));
    for (int behind = 0; behind < 2; behind++) {
        struct ws_iso *iso = NULL, *again = NULL;
        struct ws_source *patched = NULL;
        enum ws_iso_place place;
        uint64_t end = (d.source->size + 2047) / 2048 * 2048;
        char text[5000];
        size_t length = behind ? 5000 : 1900;
        memset(text, 'x', sizeof text);
        OK(ws_iso_open(d.source, &iso, &error));
        OK(ws_source_patched(d.source, end + 8192, &patched, &error));
        const struct ws_node *n = ws_tree_find(ws_iso_tree(iso), "boot/grub/grub.cfg");
        if (behind) FAILS(ws_iso_replace(iso, patched, n, text, length, NULL, &place, &error), WS_E_SPACE);
        OK(ws_iso_replace(iso, patched, n, text, length, &end, &place, &error));
        CHECK_INT(place, behind ? WS_ISO_BEHIND : WS_ISO_IN_PLACE);
        if (behind) OK(ws_iso_resize(iso, patched, end, &error));
        OK(ws_iso_open(patched, &again, &error));
        char seen[5001] = "";
        const struct ws_node *m = ws_tree_find(ws_iso_tree(again), "boot/grub/grub.cfg");
        CHECK_INT(ws_node_size(m), length);
        OK(ws_source_read(m->content, 0, seen, length, &error));
        CHECK(memcmp(seen, text, length) == 0);
        /* Blot out Rock Ridge's announcement: the reader falls back to Joliet, which must show the same. */
        struct ws_source *blotted = NULL;
        uint8_t root[8];
        OK(ws_source_read(patched, 16 * 2048 + 158, root, 4, &error));
        uint64_t root_at = (uint64_t)(root[0] | root[1] << 8 | root[2] << 16) * 2048;
        OK(ws_source_patched(patched, patched->size, &blotted, &error));
        OK(ws_source_patch(blotted, root_at + 34, "XX", 2, &error));
        struct ws_iso *joliet = NULL;
        OK(ws_iso_open(blotted, &joliet, &error));
        CHECK(!ws_iso_facts(joliet)->rock_ridge);
        m = ws_tree_find(ws_iso_tree(joliet), "boot/grub/grub.cfg");
        CHECK(m && ws_node_size(m) == length);
        ws_iso_close(joliet);
        ws_source_close(blotted);
        ws_iso_close(again);
        ws_iso_close(iso);
        ws_source_close(patched);
    }
    demo_image_free(&d);
}

static void damaged_images_are_refused_in_words(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image d;
    OK(demo_image_make(&dp, &d, &error));
    size_t size = (size_t)d.source->size;
    uint8_t *bytes = malloc(size);
    OK(ws_source_read(d.source, 0, bytes, size, &error));
    static const size_t shorter[] = {0, 100, 32768, 34816, 40000, 100000, 400000};
    for (size_t i = 0; i < sizeof shorter / sizeof shorter[0]; i++) { /* truncated downloads */
        struct ws_source *source = NULL;
        struct ws_image image;
        OK(ws_source_memory(bytes, shorter[i], &source, &error));
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_image_inspect(source, &image, &error);
        CHECK(status == WS_OK ? image.kind == WS_IMAGE_UNKNOWN || image.kind == WS_IMAGE_DRIVE : status == WS_E_FORMAT);
        if (status == WS_OK) ws_image_free(&image);
        else CHECK_HAS(error.what, shorter[i] ? "cut short" : "empty");
        ws_source_close(source);
    }
    for (int i = 0; i < cases_of(3000); i++) {
        struct ws_source *source = NULL;
        struct ws_image image;
        uint64_t at[3];
        uint8_t was[3];
        for (int k = 0; k < 3; k++) { /* descriptors, tables, folders */
            at[k] = random_below(4) ? random_below(200000) : random_below(size);
            was[k] = bytes[at[k]];
            bytes[at[k]] = (uint8_t)random_next();
        }
        OK(ws_source_memory(bytes, size, &source, &error));
        if (ws_image_inspect(source, &image, &error) == WS_OK) ws_image_free(&image);
        ws_source_close(source);
        for (int k = 2; k >= 0; k--) bytes[at[k]] = was[k];
    }
    free(bytes);
    demo_image_free(&d);
}

static void images_tell_where_they_start(void) {
    static const struct {
        struct demo_params p;
        enum ws_image_kind kind;
        enum ws_table_kind table;
        bool bios, uefi, secure;
        const char *family;
    } cases[] = {
        {{.family = "live-boot", .table = DEMO_MBR}, WS_IMAGE_HYBRID, WS_TABLE_MBR, true, true, true, "live-boot"},
        {{.family = "casper", .table = DEMO_GPT}, WS_IMAGE_HYBRID, WS_TABLE_GPT, true, true, true, "casper"},
        {{.family = "casper-old", .table = DEMO_HYBRID},
         WS_IMAGE_HYBRID,
         WS_TABLE_HYBRID,
         true,
         true,
         true,
         "casper-old"},
        {{.family = "dracut", .table = DEMO_MBR_FIRST},
         WS_IMAGE_HYBRID,
         WS_TABLE_MBR_FIRST,
         true,
         true,
         true,
         "dracut"},
        {{.family = "live-boot", .table = DEMO_MBR, .unsigned_loader = true},
         WS_IMAGE_HYBRID,
         WS_TABLE_MBR,
         true,
         true,
         false,
         "live-boot"},
        {{.family = "live-boot", .table = DEMO_NO_TABLE},
         WS_IMAGE_DISC,
         WS_TABLE_NONE,
         false,
         false,
         true,
         "live-boot"},
        {{.family = NULL, .table = DEMO_MBR}, WS_IMAGE_HYBRID, WS_TABLE_MBR, true, true, true, NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct demo_image d;
        struct ws_image image;
        OK(demo_image_make(&cases[i].p, &d, &error));
        OK(ws_image_inspect(d.source, &image, &error));
        CHECK_INT(image.kind, cases[i].kind);
        CHECK_INT(image.table.kind, cases[i].table);
        CHECK_INT(image.starts_bios, cases[i].bios);
        CHECK_INT(image.starts_uefi, cases[i].uefi);
        CHECK_INT(image.secure_boot, cases[i].secure);
        CHECK_STR(image.family ? image.family->word : "(none)", cases[i].family ? cases[i].family : "(none)");
        CHECK(image.starts_bios_disc && image.starts_uefi_disc);
        char hex[WS_HASH_HEX];
        char published[WS_HASH_HEX];
        OK(ws_source_hash(d.source, WS_HASH_SHA512, published, &error));
        OK(ws_image_compare(d.source, published, hex, &error));
        published[5] = published[5] == '0' ? '1' : '0';
        FAILS(ws_image_compare(d.source, published, hex, &error), WS_E_DIFFERENT);
        FAILS(ws_image_compare(d.source, "12ab", hex, &error), WS_E_USAGE);
        ws_image_free(&image);
        demo_image_free(&d);
    }
}

static void fat_volumes_are_clean_and_read_back(void) {
    static const uint64_t sizes[] = {1 * MIB, 2 * MIB, 5 * MIB, 16 * MIB, 33 * MIB, 64 * MIB, 600 * MIB};
    bool judge = have_program("fsck.fat");
    for (size_t i = 0; i < sizeof sizes / sizeof sizes[0] * 3; i++) {
        uint64_t wanted = sizes[i % 7];
        struct ws_tree *tree = random_tree(random_below(60), 0, wanted / 100);
        struct ws_fat_params p = {.size = wanted, .label = "CURLEW", .serial = 0x26112400, .made_at = 1790000000};
        struct ws_layout *layout = NULL;
        struct ws_source *view = NULL;
        struct ws_tree *back = NULL;
        struct ws_fat_facts facts;
        uint64_t size = 0, free_bytes = 0;
        OK(ws_layout_create(wanted, &layout, &error));
        OK(ws_fat_compose(&p, tree, 0, layout, &size, &free_bytes, &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_fat_read(view, &back, &facts, &error));
        compare_trees(back, tree, 0);
        CHECK_INT(facts.free_bytes, free_bytes);
        CHECK_STR(facts.label, "CURLEW");
        CHECK(facts.clean);
        const char *path = scratch("fat.img");
        save_source(view, path);
        struct ws_text out = {0};
        if (judge && shell(&out, "fsck.fat -n '%s'", path) != 0) fail_at(__FILE__, __LINE__, "%s", out.data);
        ws_text_free(&out);
        ws_tree_close(back);
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
    if (!judge) skip_test("no checker for FAT is installed");
}

static void damaged_fat_volumes_are_refused_in_words(void) {
    struct ws_tree *tree = random_tree(40, 0, 20000);
    struct ws_fat_params p = {.size = 2 * MIB};
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL;
    uint64_t size = 0;
    uint8_t *bytes = malloc(2 * MIB);
    OK(ws_layout_create(2 * MIB, &layout, &error));
    OK(ws_fat_compose(&p, tree, 0, layout, &size, NULL, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_source_read(view, 0, bytes, 2 * MIB, &error));
    for (int i = 0; i < cases_of(3000); i++) {
        struct ws_source *source = NULL;
        struct ws_tree *back = NULL;
        uint64_t at = random_below(random_below(2) ? 40000 : 2 * MIB);
        uint8_t was = bytes[at];
        bytes[at] = (uint8_t)random_next();
        OK(ws_source_memory(bytes, 2 * MIB, &source, &error));
        if (ws_fat_read(source, &back, NULL, &error) == WS_OK) ws_tree_close(back);
        else CHECK(error.what[0]);
        ws_source_close(source);
        bytes[at] = was;
    }
    struct ws_node *link = NULL;
    OK(ws_tree_add(tree, ws_tree_root(tree), "link", WS_NODE_LINK, &link, &error));
    OK(ws_tree_set_target(tree, link, "x", &error));
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_UNSUPPORTED);
    free(bytes);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_tree_close(tree);
}

/* Every file of the image on the other side, by path and content. */
static void same_files(const struct ws_source *image, const struct ws_tree *wanted) {
    struct ws_iso *iso = NULL;
    size_t seen = 0, meant = 0;
    OK(ws_iso_open(image, &iso, &error));
    for (const struct ws_node *n = ws_tree_root(ws_iso_tree(iso)); n; n = ws_tree_next(n))
        seen += n->kind == WS_NODE_FILE;
    for (const struct ws_node *n = ws_tree_root(wanted); n; n = ws_tree_next(n)) {
        char path[4096], a[WS_HASH_HEX] = "", b[WS_HASH_HEX] = "";
        if (n->kind != WS_NODE_FILE) continue;
        meant++;
        const struct ws_node *there = ws_tree_find(ws_iso_tree(iso), ws_node_path(n, path, sizeof path));
        if (!there) fail_at(__FILE__, __LINE__, "%s is missing", path);
        if (there && there->content) OK(ws_source_hash(there->content, WS_HASH_SHA256, a, &error));
        if (n->content) OK(ws_source_hash(n->content, WS_HASH_SHA256, b, &error));
        CHECK_STR(a, b);
    }
    CHECK_INT(seen, meant);
    ws_iso_close(iso);
}

/* A folder, and archives of it, become the same image each time they are opened; it changes when a file does. */
static void folders_and_archives_become_images(void) {
    static const struct {
        const char *name, *command;
    } cases[] = {{"folder", "true"},
                 {"files.tar.gz", "bsdtar -C '%s/folder' -czf '%s/files.tar.gz' ."},
                 {"files.zip", "cd '%s/folder' && zip -qr '%s/files.zip' ."},
                 {"files.tar", "bsdtar -C '%s/folder' -cf '%s/files.tar' ."}};
    char base[300];
    struct ws_tree *tree = NULL;
    (void)snprintf(base, sizeof base, "%s", scratch("wrapped"));
    if (!have_program("bsdtar") || !have_program("zip")) {
        skip_test("bsdtar and zip are not here");
        return;
    }
    if (shell(NULL,
              "mkdir -p '%s/folder/live/deep er' && cd '%s/folder' && head -c 3000000 /dev/urandom > live/large && "
              "echo tide > 'live/deep er/Readings of hut 7' && : > empty && chmod 444 empty",
              base, base) != 0)
        fail_at(__FILE__, __LINE__, "no folder");
    OK(ws_tree_from_folder(scratch("wrapped/folder"), &tree, &error));
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char path[400], first[WS_HASH_HEX], again[WS_HASH_HEX];
        struct ws_packed_facts packed;
        struct ws_source *image = NULL;
        if (i && shell(NULL, cases[i].command, base, base) != 0) fail_at(__FILE__, __LINE__, "%s", cases[i].name);
        (void)snprintf(path, sizeof path, "%s/%s", base, cases[i].name);
        for (int turn = 0; turn < 2; turn++) {
            OK(ws_linux_open_medium(path, &image, &packed, &error));
            CHECK((packed.format[0] != '\0') == (i > 0));
            same_files(image, tree);
            OK(ws_source_hash(image, WS_HASH_SHA256, turn ? again : first, &error));
            ws_source_close(image);
        }
        CHECK_STR(again, first);
    }
    char before[WS_HASH_HEX], after[WS_HASH_HEX];
    struct ws_packed_facts packed;
    for (int turn = 0; turn < 2; turn++) {
        struct ws_source *image = NULL;
        OK(ws_linux_open_medium(scratch("wrapped/folder"), &image, &packed, &error));
        OK(ws_source_hash(image, WS_HASH_SHA256, turn ? after : before, &error));
        ws_source_close(image);
        if (shell(NULL, "printf T | dd of='%s/folder/live/deep er/Readings of hut 7' conv=notrunc status=none", base))
            fail_at(__FILE__, __LINE__, "not changed");
    }
    CHECK(strcmp(before, after) != 0);
    struct ws_source *none = NULL;
    FAILS(ws_linux_open_medium(scratch("wrapped/nothing"), &none, &packed, &error), error.status);
    ws_tree_close(tree);
}

/* File systems begin with zeros, and so do empty tar archives: a compressed one is an image all the same. */
static void compressed_zeros_are_no_archive(void) {
    static const char *const packers[] = {"gzip", "xz", "zstd", "bzip2"};
    for (size_t i = 0; i < 4; i++) {
        char path[300];
        struct ws_packed_facts packed;
        struct ws_source *image = NULL;
        uint8_t tail[4];
        (void)snprintf(path, sizeof path, "%s", scratch("zeros"));
        if (!have_program(packers[i])) continue;
        if (shell(NULL, "{ head -c 100000 /dev/zero; echo tide; } | %s -c > '%s'", packers[i], path)) abort();
        OK(ws_linux_open_image(path, &image, &packed, &error));
        CHECK(packed.one_image);
        CHECK_INT(image->size, 100005);
        if (image->size == 100005) OK(ws_source_read(image, 100000, tail, 4, &error));
        CHECK(memcmp(tail, "tide", 4) == 0);
        ws_source_close(image);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"images read back with all names and owners", images_read_back_with_all_names_and_owners},
        {"a file over 4 GiB takes several extents", a_file_over_4_gib_takes_several_extents},
        {"replaced files are seen in both trees", replaced_files_are_seen_in_both_trees},
        {"damaged images are refused in words", damaged_images_are_refused_in_words},
        {"images tell where they start", images_tell_where_they_start},
        {"folders and archives become images", folders_and_archives_become_images},
        {"compressed zeros are no archive", compressed_zeros_are_no_archive},
        {"FAT volumes are clean and read back", fat_volumes_are_clean_and_read_back},
        {"damaged FAT volumes are refused in words", damaged_fat_volumes_are_refused_in_words},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
