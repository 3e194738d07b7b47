/* test_over.c — ext4 volumes composed over ones in use: what is kept stays in its blocks, and until the fixed
 * structures are written all is as it was. A checker and the kernel are the judges. */
#include "tests/harness.h"

#include <fcntl.h>
#include <sys/statfs.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static void make_volume(const char *path, uint64_t size, uint64_t grow_to, size_t nodes) {
    struct ws_ext4_params p = {.size = size, .label = "system", .made_at = 1790000000, .grow_to = grow_to};
    struct ws_tree *tree = random_tree(nodes, TREE_ALL, 300000);
    struct ws_ext4_geometry g;
    struct ws_layout *layout = NULL;
    random_bytes(p.id.byte, 16);
    random_bytes(p.seed.byte, 16);
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(size, &layout, &error));
    OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    save_layout(layout, path);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
}

/* Used by the kernel: files come and go until what is free lies in pieces. `dirty`: its plug is pulled. */
static void use_volume(const char *path, bool dirty) {
    char device[64];
    const char *place = scratch("used");
    if (!loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "", place)) {
        CHECK_INT(
            shell(NULL,
                  "cd '%s' && mkdir -p crowd && for i in $(seq 1 400); do head -c $((i * 37 %% 30000)) /dev/zero | tr "
                  "'\\0' $((i %% 8)) >crowd/$i; done && sync && rm -f crowd/*[13579] && for i in $(seq 1 40); do head "
                  "-c 90000 /dev/urandom >>crowd/grown; sync; head -c 5000 /dev/urandom >crowd/between$i; done && "
                  "dd if=/dev/urandom of=crowd/holes bs=4k count=3 seek=900 conv=notrunc 2>/dev/null && { fallocate -l "
                  "3M crowd/promised || :; } && sync && rm -f crowd/between*[02468]",
                  place),
            0);
        if (dirty) CHECK_INT(shell(NULL, "sync && cp --sparse=always '%s' '%s.pulled'", path, path), 0);
        unmount(place);
    }
    loop_detach(device);
    if (dirty) CHECK_INT(rename(scratch("over.img.pulled"), path), 0);
}

static void check_clean(const char *path, const char *when) {
    struct ws_text out = {0};
    int rc = have_program("e2fsck") ? shell(&out, "e2fsck -fn '%s'", path) : 0;
    if (rc) fail_at(__FILE__, __LINE__, "%s, the checker (%d) says %s", when, rc, out.data);
    ws_text_free(&out);
}

/* Grown by the file system's own tools (by a kernel in use: tests/full_system.py), in its form: it has room for that.
 */
static void grow_volume(const char *path, uint64_t size) {
    enum { META_BG = 0x10 };
    struct ws_source *volume = NULL;
    struct ws_ext4_facts facts;
    uint8_t incompat = META_BG;
    CHECK_INT(truncate(path, (off_t)size), 0);
    CHECK_INT(shell(NULL, "e2fsck -fp '%s' && resize2fs '%s'", path, path), 0);
    check_clean(path, "grown");
    OK(ws_source_file(path, &volume, &error));
    OK(ws_ext4_probe(volume, &facts, &error));
    CHECK(facts.size > size - 130 * MIB && facts.size <= size); /* a last group that is too small is left out */
    OK(ws_source_read(volume, 1024 + 0x60, &incompat, 1, &error));
    CHECK_INT(incompat & META_BG, 0);
    ws_source_close(volume);
}

static bool goes(void *context, struct ws_node *node) {
    (void)context;
    return node->parent && strcmp(node->name, "lost+found") != 0 && random_below(3) == 0;
}

static void apply(const struct ws_layout *layout, enum ws_phase phase, const char *path) {
    int file = open(path, O_RDWR | O_CLOEXEC);
    uint8_t *bytes = malloc(4 * MIB);
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        for (uint64_t done = 0; e->phase == phase && done < e->length;) {
            size_t step = (size_t)(e->length - done < 4 * MIB ? e->length - done : 4 * MIB);
            CHECK_INT(ws_source_read(e->from, e->from_at + done, bytes, step, &error), WS_OK);
            CHECK_INT(pwrite(file, bytes, step, (off_t)(e->at + done)), step);
            done += step;
        }
    }
    free(bytes);
    (void)close(file);
}

static void check_kernel(const char *path, const struct ws_tree *tree, const struct ws_ext4_geometry *g) {
    char device[64];
    struct statfs s;
    const char *place = scratch("after");
    if (!may_mount() || !loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "ro", place)) {
        compare_with_folder(tree, place, TREE_ALL);
        if (g) {
            CHECK_INT(statfs(place, &s), 0);
            CHECK_INT((uint64_t)s.f_bfree * (uint64_t)s.f_bsize, g->free_bytes);
        }
        unmount(place);
    }
    loop_detach(device);
}

/* What the kernel makes of a volume afterwards must be sound, too: its journal begins anew. */
static void check_use(const char *path) {
    char device[64];
    const char *place = scratch("again");
    if (!may_mount() || !loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "", place)) {
        CHECK_INT(
            shell(NULL, "cd '%s' && mkdir new && seq 20000 >new/numbers && cp -a new more && sync && rm -r new", place),
            0);
        unmount(place);
    }
    loop_detach(device);
    check_clean(path, "used again");
}

static void try_over(const char *path, bool dirty, bool anew) {
    struct ws_source *volume = NULL;
    struct ws_tree *was = NULL, *tree = NULL;
    struct ws_layout *layout = NULL;
    struct ws_ext4_facts facts;
    struct ws_ext4_geometry g;
    OK(ws_source_file(path, &volume, &error));
    OK(ws_ext4_read(volume, &was, &facts, &error));
    OK(ws_ext4_read(volume, &tree, NULL, &error));
    CHECK_INT(facts.needs_recovery, dirty);
    ws_tree_drop_all(tree, goes, NULL);
    for (int i = 0; i < 60; i++) {
        char name[64];
        uint8_t bytes[40000];
        size_t length = random_below(sizeof bytes);
        random_bytes(bytes, length);
        (void)snprintf(name, sizeof name, "arrived/%llu/file%d", (unsigned long long)random_below(4), i);
        OK(ws_tree_put(tree, name, bytes, length, NULL, &error));
    }
    struct ws_ext4_params p = {.made_at = 1790000500, .over = volume};
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(facts.size, &layout, &error));
    OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_SEAL, &error));
    OK(ws_layout_seal(layout, &error));
    CHECK_INT(ws_layout_bytes(layout), g.written_bytes);
    CHECK_INT(memcmp(g.params.id.byte, facts.id.byte, 16), 0);
    CHECK_STR(g.params.label, "system");
    uint64_t body = 0, spare_at, spare;
    for (size_t i = 0; i < ws_layout_count(layout); i++)
        if (ws_layout_extent(layout, i)->phase == WS_PHASE_BODY) body += ws_layout_extent(layout, i)->length;
    CHECK_INT(g.anew, anew);
    CHECK(anew || body < 60 * 48 * 1024 + 2 * MIB); /* what arrived, folders, and no file that was there */
    ws_ext4_spare(&g, &spare_at, &spare);
    CHECK(spare > MIB);
    apply(layout, WS_PHASE_BODY, path);
    if (!dirty) check_clean(path, "with the new content beside it");
    if (!dirty) check_kernel(path, was, NULL);
    apply(layout, WS_PHASE_SEAL, path);
    check_clean(path, "after the change");
    check_kernel(path, tree, &g);
    check_use(path);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    ws_tree_close(was);
    ws_source_close(volume);
}

static void random_volumes_in_use_are_changed_in_place(void) {
    for (int i = 0; i < cases_of(15); i++) {
        const char *path = scratch("over.img");
        bool dirty = i % 3 == 2 && may_mount();
        const bool grows = have_program("resize2fs") && i % 3 == 0;
        const uint64_t size = (60 + random_below(300)) * MIB;
        make_volume(path, size, grows ? 1ull << 41 : 0, 40 + random_below(i % 5 == 0 ? 1500 : 200));
        if (may_mount()) use_volume(path, dirty);
        if (grows) grow_volume(path, size + (uint64_t)(100 + random_below(i % 2 ? 20000 : 3000)) * MIB);
        try_over(path, dirty, false);
    }
}

static bool make_other(const char *path, const char *how) {
    return shell(NULL, "rm -f '%s' && truncate -s 100M '%s' && mke2fs -q -t %s -L system '%s'", path, path, how,
                 path) == 0;
}

static void volumes_of_others_are_made_anew_around_their_content(void) {
    static const char *const hows[] = {"ext4",
                                       "ext4 -b 1024",
                                       "ext4 -O ^metadata_csum",
                                       "ext2",
                                       "ext4 -I 128",
                                       "ext4 -O ^flex_bg",
                                       "ext3 -b 2048",
                                       "ext4 -O inline_data -I 512",
                                       "ext4 -O inline_data,ea_inode",
                                       "ext4 -N 5000",
                                       "ext4 -g 4096 -O ^sparse_super,^resize_inode",
                                       "ext4 -b 4096 -O ^has_journal,^64bit"};
    enum { HOWS = sizeof hows / sizeof *hows };
    const size_t first = (size_t)random_below(HOWS);
    if (!have_program("mke2fs")) {
        skip_test("nothing is installed that makes other volumes");
        return;
    }
    for (int i = 0; i < cases_of(HOWS); i++) {
        const char *path = scratch("over.img"), *how = hows[(first + (size_t)i) % HOWS];
        const bool dirty = i % 3 == 2 && may_mount() && !strstr(how, "ext2") && !strstr(how, "^has_journal");
        CHECK(make_other(path, how));
        if (may_mount()) use_volume(path, dirty);
        try_over(path, dirty, true);
    }
}

/* Of these files do not tell all that is in them, or where it has to stay. */
static void others_are_refused(void) {
    static const struct {
        const char *how, *why;
    } others[] = {{"ext4 -O project", "quotas"},    {"ext4 -O quota", "quotas"},
                  {"ext4 -O verity", "verity"},     {"ext4 -O encrypt", "encrypted"},
                  {"ext4 -O casefold", "case"},     {"ext4 -O bigalloc", "clusters"},
                  {"ext4 -O mmp", "mounted twice"}, {"ext4 -O meta_bg,^resize_inode", "meta_bg"},
                  {"ext2", "was not shut down"},    {"ext2", "start-up code"}};
    enum { OTHERS = sizeof others / sizeof *others };
    for (size_t i = 0; i < OTHERS && have_program("mke2fs"); i++) {
        const char *path = scratch("other.img"), *how = others[i].how;
        const char *start = i + 1 == OTHERS ? "55 aa 510" : "00 00 1082"; /* or its mark of a shutdown */
        struct ws_source *volume = NULL, *patched = NULL;
        struct ws_tree *tree = NULL;
        struct ws_ext4_geometry g;
        unsigned byte[2], at;
        CHECK(make_other(path, how));
        OK(ws_source_file(path, &volume, &error));
        OK(ws_source_patched(volume, volume->size, &patched, &error));
        CHECK_INT(sscanf(start, "%x %x %u", &byte[0], &byte[1], &at), 3);
        const uint8_t bytes[] = {(uint8_t)byte[0], (uint8_t)byte[1]};
        if (strcmp(how, "ext2") == 0) OK(ws_source_patch(patched, at, bytes, 2, &error));
        OK(ws_tree_create(&tree, &error));
        struct ws_ext4_params p = {.over = patched};
        FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_UNSUPPORTED);
        CHECK_HAS(error.what, others[i].why);
        if (!error.next[0]) fail_at(__FILE__, __LINE__, "%s: %s", how, error.what);
        ws_tree_close(tree);
        ws_source_close(patched);
        ws_source_close(volume);
    }
}

/* Fewer descriptors leave more room for others than its one map can list. */
static void a_large_one_gets_much_smaller(void) {
    static const uint64_t gib[] = {3, 9, 40};
    const char *path = scratch("large.img");
    make_volume(path, 60ull << 30, WS_EXT4_MOST, 100);
    for (size_t i = 0; i < 3; i++) {
        struct ws_source *volume = NULL;
        struct ws_tree *tree = NULL;
        struct ws_layout *layout = NULL;
        struct ws_ext4_geometry g;
        OK(ws_source_file(path, &volume, &error));
        OK(ws_ext4_read(volume, &tree, NULL, &error));
        const struct ws_ext4_params p = {.made_at = 1790000500, .over = volume, .resize = gib[2 - i] << 30};
        OK(ws_ext4_measure(&p, tree, &g, &error));
        CHECK(!g.anew && g.reserved_blocks <= 1024);
        OK(ws_layout_create(volume->size, &layout, &error));
        OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_SEAL, &error));
        OK(ws_layout_seal(layout, &error));
        apply(layout, WS_PHASE_BODY, path);
        apply(layout, WS_PHASE_SEAL, path);
        check_clean(path, "much smaller");
        check_kernel(path, tree, &g);
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
        ws_source_close(volume);
    }
}

static void no_room_beside_what_is_there_is_said(void) {
    const char *path = scratch("full.img");
    struct ws_source *volume = NULL, *zeros = NULL, *large = NULL;
    struct ws_tree *tree = NULL;
    struct ws_node *node = NULL;
    struct ws_ext4_geometry g;
    make_volume(path, 32 * MIB, 0, 30);
    OK(ws_source_file(path, &volume, &error));
    OK(ws_tree_create(&tree, &error));
    OK(ws_source_zeros(30 * MIB, &zeros, &error));
    OK(ws_source_patched(zeros, 30 * MIB, &large, &error));
    for (uint64_t at = 0; at < 30 * MIB; at += 4096) OK(ws_source_patch(large, at, "x", 1, &error));
    OK(ws_tree_put(tree, "large", "", 0, &node, &error));
    node->content = large;
    struct ws_ext4_params p = {.over = volume};
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_SPACE);
    CHECK_HAS(error.what, "beside what it holds");
    ws_tree_close(tree);
    ws_source_close(large);
    ws_source_close(zeros);
    ws_source_close(volume);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"random volumes in use are changed in place", random_volumes_in_use_are_changed_in_place},
        {"volumes of others are made anew around their content", volumes_of_others_are_made_anew_around_their_content},
        {"others are refused", others_are_refused},
        {"a large one gets much smaller", a_large_one_gets_much_smaller},
        {"no room beside what is there is said", no_room_beside_what_is_there_is_said},
        {NULL, NULL},
    };
    return run_tests(argc, argv, tests);
}
