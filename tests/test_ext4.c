/* test_ext4.c — ext4 volumes composed and read: a checker and the kernel are the judges. */
#include "tests/harness.h"

#include <sys/stat.h>
#include <sys/statfs.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static struct ws_ext4_params params_of(uint64_t size) {
    struct ws_ext4_params p = {.size = size, .label = "persistence", .made_at = 1790000000};
    random_bytes(p.id.byte, 16);
    random_bytes(p.seed.byte, 16);
    if (random_below(2)) p.grow_to = 1ull << (24 + random_below(22)); /* kept for growing, or in vain */
    return p;
}

/* Measure and compose; the caller closes layout, then frees the geometry. */
static bool compose(const struct ws_ext4_params *p, struct ws_tree *tree, struct ws_ext4_geometry *g,
                    struct ws_layout **layout) {
    *layout = NULL;
    if (ws_ext4_measure(p, tree, g, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%llu bytes: %s", (unsigned long long)p->size, error.what);
        return false;
    }
    if (ws_layout_create(p->size, layout, &error) != WS_OK ||
        ws_ext4_compose(g, 0, *layout, WS_PHASE_BODY, &error) != WS_OK || ws_layout_seal(*layout, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%llu bytes: %s", (unsigned long long)p->size, error.what);
        return false;
    }
    CHECK_INT(ws_layout_bytes(*layout), g->written_bytes);
    return true;
}

static void check_clean(const char *path, uint64_t size) {
    struct ws_text out = {0};
    int rc = shell(&out, "e2fsck -fn '%s'", path);
    if (rc != 0 || strstr(out.data, "Fix?") || strstr(out.data, "WARNING"))
        fail_at(__FILE__, __LINE__, "%llu bytes: the checker (%d) says %s", (unsigned long long)size, rc, out.data);
    ws_text_free(&out);
}

static void check_statfs(const char *path, const struct ws_ext4_geometry *g) {
    char device[64];
    struct statfs s;
    const char *place = scratch("mounted");
    if (!loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "ro", place)) {
        CHECK_INT(statfs(place, &s), 0);
        CHECK_INT((uint64_t)s.f_bfree * (uint64_t)s.f_bsize, g->free_bytes);
        CHECK_INT(s.f_ffree, g->free_inodes);
        unmount(place);
    }
    loop_detach(device);
}

static uint64_t random_size(void) { /* spread over the powers of two, 16 MiB to 16 TiB */
    uint64_t power = 1ull << (24 + random_below(21));
    uint64_t size = power + random_below(power < WS_EXT4_MOST ? power : 1);
    if (random_below(3) == 0) size = (size >> 27 << 27) + random_below(40) * 4096; /* just over whole groups */
    return size < WS_EXT4_LEAST ? WS_EXT4_LEAST : size > WS_EXT4_MOST ? WS_EXT4_MOST : size;
}

static void random_sizes_are_clean_and_as_predicted(void) {
    if (!have_program("e2fsck")) {
        skip_test("no checker for ext4 is installed");
        return;
    }
    for (int i = 0; i < cases_of(40); i++) {
        struct ws_tree *tree = NULL;
        struct ws_ext4_geometry g;
        struct ws_layout *layout;
        uint64_t size = i == 0 ? WS_EXT4_LEAST : i == 1 ? WS_EXT4_MOST : random_size();
        if (i > 1 && size > 1ull << 39 && random_below(8)) size >>= 5; /* the checker takes long over the largest */
        struct ws_ext4_params p = params_of(size);
        if (i % 3 == 2 && size < 4ull << 30) p.bytes_an_inode = 1024 + (uint32_t)random_below(8000); /* more than fit */
        /* in memory: larger than a file may be on most file systems, and the checker reads all over it */
        const char *path = "/dev/shm/satchel-test-volume";
        OK(ws_live_volume_tree(ws_live_family_find("live-boot"), p.made_at, &tree, &error));
        if (compose(&p, tree, &g, &layout)) {
            save_layout(layout, path);
            check_clean(path, size);
            if (may_mount() && i % 4 == 0) check_statfs(path, &g);
        }
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
        (void)unlink(path);
    }
}

static void random_trees_come_out_of_the_kernel_as_they_went_in(void) {
    bool judge = have_program("e2fsck");
    for (int i = 0; i < cases_of(50); i++) {
        struct ws_tree *tree = random_tree(random_below(i % 10 == 0 ? 1500 : 120), TREE_ALL | TREE_MARKS, 200000);
        struct ws_ext4_geometry g;
        struct ws_layout *layout;
        struct ws_ext4_params p = params_of((48 + random_below(200)) * MIB);
        const char *path = scratch("tree.img");
        if (compose(&p, tree, &g, &layout)) {
            struct ws_source *view = NULL;
            struct ws_tree *back = NULL;
            save_layout(layout, path);
            if (judge) check_clean(path, p.size);
            OK(ws_layout_source(layout, &view, &error));
            OK(ws_ext4_read(view, &back, NULL, &error)); /* our own reader */
            compare_trees(back, tree, TREE_ALL | TREE_MARKS);
            ws_tree_close(back);
            ws_source_close(view);
            char device[64];
            const char *place = scratch("tree");
            if (may_mount() && loop_attach(path, device)) {
                if (mount_at(device, "ext4", "ro", place)) {
                    compare_with_folder(tree, place, TREE_ALL | TREE_MARKS);
                    unmount(place);
                }
                loop_detach(device);
            }
        }
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
    }
}

/* A folder of so many names: each found by the kernel, which goes by their hashes; then some go and others come. */
static void try_large_folder(size_t names, size_t longest, bool seeded) {
    struct ws_tree *tree = NULL;
    struct ws_ext4_geometry g;
    struct ws_layout *layout;
    struct ws_ext4_params p = params_of(64 * MIB);
    struct ws_node *folder = NULL, *n = NULL;
    const char *path = scratch("folder.img"), *place = scratch("folder");
    char device[64], name[260];
    OK(ws_tree_create(&tree, &error));
    OK(ws_tree_folder(tree, "many", &folder, &error));
    if (!seeded) memset(p.seed.byte, 0, sizeof p.seed.byte);
    for (size_t i = 0; i < names; i++) { /* characters with and without a sign */
        size_t length = (size_t)snprintf(name, sizeof name, "%zx-", i);
        size_t wanted = length + random_below(longest);
        for (; length < wanted && length < 254; length++) {
            name[length] = (char)(1 + random_below(255));
            if (name[length] == '/' || name[length] == '\n') name[length] = 'x';
        }
        name[length] = '\0';
        OK(ws_tree_add(tree, folder, name, random_below(9) ? WS_NODE_FILE : WS_NODE_FOLDER, &n, &error));
    }
    if (compose(&p, tree, &g, &layout)) {
        save_layout(layout, path);
        if (have_program("e2fsck")) check_clean(path, p.size);
        if (may_mount() && loop_attach(path, device)) {
            if (mount_at(device, "ext4", NULL, place)) {
                compare_with_folder(tree, place, TREE_ALL);
                CHECK_INT(shell(NULL,
                                "cd %s/many && ls -A | head -%zu | tr '\\n' '\\0' | xargs -0 rm -rf -- && for i in "
                                "$(seq %zu); do : > new-$i; done",
                                place, names / 3, names / 4),
                          0);
                unmount(place);
            }
            loop_detach(device);
            check_clean(path, p.size);
        }
    }
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    (void)unlink(path);
}

static void large_folders_are_indexed(void) {
    static const struct {
        size_t names, longest;
    } sizes[] = {{100, 60}, {170, 1}, {2000, 12}, {9000, 250}}; /* the last has two levels of index */
    for (size_t i = 0; i < sizeof sizes / sizeof *sizes; i++) try_large_folder(sizes[i].names, sizes[i].longest, true);
    for (int i = 0; i < cases_of(6); i++) try_large_folder(200 + random_below(1500), 1 + random_below(80), i % 3 != 0);
}

/* Zeros that do not tell that they are. */
static enum ws_status plain_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *e) {
    (void)source, (void)at, (void)e;
    memset(buffer, 0, length);
    return WS_OK;
}
static const struct ws_source_ops plain_ops = {plain_read, NULL, NULL};

/* Files large enough that their extents need a tree of their own. */
static void large_files_have_deep_extents(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    struct ws_ext4_geometry g;
    struct ws_layout *layout;
    struct ws_ext4_params p = params_of(3ull << 30);
    const char *path = scratch("large.img");
    OK(ws_tree_create(&tree, &error));
    OK(ws_source_make(&plain_ops, 2ull << 30, NULL, &large, &error));
    OK(ws_tree_put(tree, "large.bin", "", 0, &n, &error));
    n->content = large;
    OK(ws_tree_put(tree, "after.txt", "still here", 10, NULL, &error));
    if (compose(&p, tree, &g, &layout)) {
        struct ws_source *view = NULL;
        struct ws_tree *back = NULL;
        char *text = NULL;
        size_t length = 0;
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_ext4_read(view, &back, NULL, &error));
        CHECK_INT(ws_node_size(ws_tree_find(back, "large.bin")), 2ll << 30);
        OK(ws_source_load(ws_tree_find(back, "after.txt")->content, 100, &text, &length, &error));
        CHECK_STR(text, "still here");
        free(text);
        ws_tree_close(back);
        ws_source_close(view);
        save_layout(layout, path);
        if (have_program("e2fsck")) check_clean(path, p.size);
        (void)unlink(path);
    }
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    ws_source_close(large);
}

/* A file of random stretches and holes, and the blocks it must take. */
static struct ws_source *sparse_file(const struct ws_source *base, size_t runs, uint64_t *blocks) {
    struct ws_run *run = calloc(runs + 1, sizeof *run);
    struct ws_source *file = NULL;
    bool odd = random_below(2); /* holes that do not end at blocks */
    uint64_t size = 0;
    uint64_t stored_until = 0; /* blocks */
    *blocks = 0;
    for (size_t i = 0; i < runs; i++) {
        bool hole = (i + odd) % 2;
        uint64_t length = odd && random_below(3) == 0 ? 1 + random_below(9000) : 4096ull * (1 + random_below(4));
        run[i] = (struct ws_run){length, hole ? WS_RUN_HOLE : random_below(1 << 16)};
        if (!hole) {
            uint64_t first = size / 4096 < stored_until ? stored_until : size / 4096;
            uint64_t end = (size + length + 4095) / 4096;
            *blocks += end > first ? end - first : 0;
            stored_until = end;
        }
        size += length;
    }
    if (ws_source_runs(base, run, runs, size, &file, &error) != WS_OK) abort();
    free(run);
    return file;
}

/* The kernel sees the same bytes, in no more blocks than are stored. */
static void check_stored(const char *place, const char *name, uint64_t size, uint64_t blocks, uint64_t tree) {
    char path[600];
    struct stat st;
    (void)snprintf(path, sizeof path, "%s/%s", place, name);
    CHECK_INT(stat(path, &st), 0);
    CHECK_INT(st.st_size, size);
    if ((uint64_t)st.st_blocks < blocks * 8 || (uint64_t)st.st_blocks > (blocks + tree) * 8)
        fail_at(__FILE__, __LINE__, "%s: %lld sectors for %llu blocks", name, (long long)st.st_blocks,
                (unsigned long long)blocks);
}

static void holes_stay_holes(void) {
    enum { FILES = 12 };
    static const size_t runs_of[FILES] = {1, 2, 3, 4, 5, 9, 40, 700, 3000, 6000, 1, 2};
    uint8_t *noise = malloc(1 << 17);
    struct ws_source *base = NULL;
    random_bytes(noise, 1 << 17);
    OK(ws_source_memory(noise, 1 << 17, &base, &error));
    free(noise);
    for (int round = 0; round < cases_of(10); round++) {
        struct ws_tree *tree = NULL;
        struct ws_node *n = NULL;
        struct ws_source *file[FILES + 1];
        struct ws_ext4_geometry g;
        struct ws_layout *layout = NULL;
        struct ws_ext4_params p = params_of((200 + random_below(400)) * MIB);
        const char *path = scratch("sparse.img");
        const char *place = scratch("sparse");
        char device[64], name[20];
        uint64_t blocks[FILES + 1] = {0};
        OK(ws_tree_create(&tree, &error));
        for (int i = 0; i < FILES; i++) file[i] = sparse_file(base, runs_of[i], &blocks[i]);
        OK(ws_source_zeros(3ull << 40, &file[FILES], &error)); /* nothing but a hole, larger than the volume */
        for (int i = 0; i <= FILES; i++) {
            (void)snprintf(name, sizeof name, "file-%d", i);
            OK(ws_tree_put(tree, name, "", 0, &n, &error));
            n->content = file[i];
        }
        if (compose(&p, tree, &g, &layout)) {
            struct ws_source *view = NULL;
            struct ws_tree *back = NULL;
            save_layout(layout, path);
            if (have_program("e2fsck")) check_clean(path, p.size);
            check_statfs(path, &g);
            OK(ws_layout_source(layout, &view, &error));
            OK(ws_ext4_read(view, &back, NULL, &error));
            n->content = NULL; /* too large to compare */
            n->kind = WS_NODE_FIFO;
            ws_tree_find(back, name)->kind = WS_NODE_FIFO;
            compare_trees(back, tree, TREE_ALL);
            if (may_mount() && loop_attach(path, device)) {
                if (mount_at(device, "ext4", "ro", place)) {
                    for (int i = 0; i <= FILES; i++) {
                        (void)snprintf(name, sizeof name, "file-%d", i);
                        check_stored(place, name, file[i]->size, blocks[i], runs_of[i % FILES] / 340 + 2);
                    }
                    for (int i = 0; i < FILES - 1; i++) {
                        char hash[WS_HASH_HEX];
                        OK(ws_source_hash(file[i], WS_HASH_SHA256, hash, &error));
                        CHECK_INT(shell(NULL, "echo '%s  %s/file-%d' | sha256sum -c --quiet", hash, place, i), 0);
                    }
                    unmount(place);
                }
                loop_detach(device);
            }
            ws_tree_close(back);
            ws_source_close(view);
        }
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
        for (int i = 0; i <= FILES; i++) ws_source_close(file[i]);
    }
    ws_source_close(base);
}

static void what_does_not_fit_is_said_before_anything_is_made(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    struct ws_ext4_geometry g;
    struct ws_ext4_params p = params_of(32 * MIB);
    OK(ws_tree_create(&tree, &error));
    OK(ws_source_make(&plain_ops, 40 * MIB, NULL, &large, &error));
    OK(ws_tree_put(tree, "large.bin", "", 0, &n, &error));
    n->content = large;
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_SPACE);
    ws_source_close(large);
    OK(ws_source_zeros(17ull << 40, &large, &error)); /* a hole, but its blocks cannot be numbered */
    n->content = large;
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_RANGE);
    CHECK_STR(error.where, "large.bin");
    ws_tree_drop(tree, n);
    p.size = WS_EXT4_LEAST - 1;
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_RANGE);
    p.size = WS_EXT4_MOST + 4096;
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_RANGE);
    p.size = 32 * MIB;
    memset(p.label, 'x', sizeof p.label);
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_RANGE);
    p.label[0] = '\0';
    OK(ws_tree_put(tree, "lost+found", "a file", 6, NULL, &error));
    FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_USAGE);
    ws_tree_close(tree);
    ws_source_close(large);
}

/* A 64 GiB volume is written in a blink: little of it is bytes. */
static void only_what_must_be_written_is_written(void) {
    struct ws_tree *tree = NULL;
    struct ws_ext4_geometry g;
    struct ws_ext4_params p = params_of(64ull << 30);
    OK(ws_tree_create(&tree, &error));
    OK(ws_ext4_measure(&p, tree, &g, &error));
    CHECK(g.written_bytes < 80ull * MIB);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
}

static void note_lost(void *context, const char *path, const char *what) {
    (void)path;
    strncat(context, what, 399 - strlen(context));
}

/* What a quick commit saved is not left out without a word: all of it is read, or nothing. */
static void quick_commits_are_not_passed_over(void) {
    const char *path = scratch("quick.img"), *copy = scratch("quick-copy.img"), *place = scratch("quick");
    char device[64];
    if (!may_mount() || !have_program("mke2fs")) {
        skip_test("needs root and loop devices, and what makes other volumes");
        return;
    }
    shell(NULL, "rm -f '%s' && truncate -s 64M '%s' && mke2fs -q -t ext4 -O fast_commit '%s'", path, path, path);
    if (!loop_attach(path, device)) return;
    if (mount_at(device, "ext4", NULL, place)) {
        for (int i = 0; i < 2; i++) { /* before the first one, and after it */
            struct ws_source *source = NULL;
            struct ws_tree *tree = NULL;
            CHECK_INT(shell(NULL, "cd '%s' && echo a > a && %s && cp --sparse=always '%s' '%s'", place,
                            i ? "python3 -c \"import os; f = os.open('quick', os.O_CREAT | os.O_WRONLY); os.write(f, "
                                "b'x' * 5000); os.fsync(f)\""
                              : "sync",
                            path, copy),
                      0);
            OK(ws_source_file(copy, &source, &error));
            const enum ws_status status = ws_ext4_read(source, &tree, NULL, &error);
            if (!i) CHECK_INT(status, WS_OK);
            else if (status == WS_OK) CHECK(ws_tree_find(tree, "quick"));
            else CHECK_HAS(error.what, "quick commits");
            ws_tree_close(tree);
            tree = NULL;
            char said[400] = "";
            OK(ws_ext4_rescue(source, note_lost, said, &tree, NULL, &error)); /* what there is, and what is missing */
            CHECK(ws_tree_find(tree, "a"));
            if (status == WS_OK) CHECK_STR(said, "");
            else CHECK_HAS(said, "quick commits");
            ws_tree_close(tree);
            ws_source_close(source);
        }
        unmount(place);
    }
    loop_detach(device);
}

/* The kernel changes a volume of ours; we read it, also when it was never unmounted. */
static void the_kernels_changes_are_read_with_and_without_its_journal(void) {
    if (!may_mount()) {
        skip_test("needs root and loop devices");
        return;
    }
    for (int i = 0; i < 6; i++) {
        struct ws_tree *tree = random_tree(60, TREE_ALL, 50000);
        struct ws_ext4_geometry g;
        struct ws_layout *layout;
        struct ws_ext4_params p = params_of(96 * MIB);
        const char *path = scratch("changed.img");
        const char *copy = scratch("copy.img");
        char device[64];
        const char *place = scratch("changed");
        if (compose(&p, tree, &g, &layout)) save_layout(layout, path);
        if (loop_attach(path, device)) {
            if (mount_at(device, "ext4", NULL, place)) {
                shell(NULL,
                      "cd '%s' && mkdir -p d/e && for i in $(seq 1 200); do echo $i > d/e/f$i; done; rm -f d/e/f7; ln "
                      "d/e/f8 hard; "
                      "ln -s d/e soft; dd if=/dev/urandom of=big bs=64k count=30 status=none; mknod gone c 0 0; sync",
                      place);
                if (i % 2)
                    shell(NULL,
                          "echo after > '%s/d/after'; sync -f '%s'; for i in $(seq 1 40); do echo x > '%s/d/g'$i; "
                          "done; rm -r '%s/d/e/f9'; sync",
                          place, place, place, place);
                shell(NULL, "cp --sparse=always '%s' '%s'", path, copy); /* as if the power failed now */
                struct ws_source *source = NULL;
                struct ws_tree *back = NULL;
                struct ws_ext4_facts facts;
                struct ws_source *recovered = NULL;
                uint64_t replayed = 0;
                OK(ws_source_file(copy, &source, &error));
                OK(ws_ext4_recovered(source, &recovered, &replayed, &error));
                OK(ws_ext4_read(source, &back, &facts, &error));
                CHECK(facts.needs_recovery);
                CHECK(replayed > 0);
                compare_with_folder(back, place, TREE_ALL);
                CHECK(!ws_tree_find(back, "d/e/f7"));
                CHECK(ws_tree_find(back, "hard") && ws_tree_find(back, "d/e/f8"));
                ws_tree_close(back);
                ws_source_close(recovered);
                unmount(place);
                ws_source_close(source);
                OK(ws_source_file(path, &source, &error));
                OK(ws_ext4_read(source, &back, &facts, &error));
                CHECK(!facts.needs_recovery && facts.clean);
                CHECK(facts.mounts > 0);
                if (mount_at(device, "ext4", "ro", place)) {
                    compare_with_folder(back, place, TREE_ALL);
                    unmount(place);
                }
                ws_tree_close(back);
                ws_source_close(source);
            }
            loop_detach(device);
        }
        check_clean(path, p.size);
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
    }
}

/* A simulated session's commit, cut at every write and flush: the volume is as before or as after, never between. */
struct cut_sink {
    uint8_t *medium, *cache; /* the cache holds what was written; the medium what was flushed, or torn at the cut */
    size_t size;
    uint64_t calls, cut_at;
};

static enum ws_status cut_write(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *e) {
    struct cut_sink *s = context;
    if (++s->calls == s->cut_at) { /* any part of what was not flushed may have reached the medium */
        for (size_t i = 0; i < s->size; i += 4096)
            if (random_below(2)) memcpy(s->medium + i, s->cache + i, 4096);
        return ws_fail(e, WS_E_GONE, "power cut");
    }
    memcpy(s->cache + at, bytes, length);
    return WS_OK;
}

static enum ws_status cut_flush(void *context, struct ws_error *e) {
    struct cut_sink *s = context;
    (void)e;
    memcpy(s->medium, s->cache, s->size);
    return WS_OK;
}

static enum ws_status cache_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *e) {
    const struct cut_sink *s = source->state;
    (void)e;
    memcpy(buffer, s->cache + at, length);
    return WS_OK;
}

static void a_commit_cut_anywhere_leaves_before_or_after(void) {
    static const struct ws_source_ops cache_ops = {cache_read, NULL, NULL};
    enum { SIZE = 16 * MIB };
    struct ws_tree *before = NULL, *after = NULL;
    struct ws_ext4_geometry g1, g2;
    struct ws_layout *l1, *l2;
    struct ws_ext4_params p = params_of(SIZE);
    uint8_t *start = calloc(1, SIZE);
    OK(ws_tree_create(&before, &error));
    OK(ws_tree_create(&after, &error));
    OK(ws_tree_put(before, "rw/etc/motd", "before", 6, NULL, &error));
    OK(ws_tree_put(after, "rw/etc/motd", "after, and longer", 17, NULL, &error));
    char last[64];
    const int files = cases_of(60) < 20 ? 20 : cases_of(60); /* enough for what is counted at the end */
    for (int i = 0; i < files; i++) {
        char path[64], text[8000];
        snprintf(path, sizeof path, "rw/home/tide/day-%d.csv", i);
        memcpy(last, path, sizeof last);
        memset(text, 'a' + i % 26, sizeof text);
        OK(ws_tree_put(after, path, text, sizeof text - (size_t)i, NULL, &error));
    }
    if (!compose(&p, before, &g1, &l1) || !compose(&p, after, &g2, &l2)) return;
    struct ws_source *view = NULL;
    OK(ws_layout_source(l1, &view, &error));
    OK(ws_source_read(view, 0, start, SIZE, &error));
    ws_source_close(view);
    uint64_t whole = 0;
    size_t saw_before = 0, saw_after = 0;
    for (uint64_t cut = 0; cut <= whole; cut++) {
        struct cut_sink s = {malloc(SIZE), malloc(SIZE), SIZE, 0, cut};
        memcpy(s.medium, start, SIZE);
        memcpy(s.cache, start, SIZE);
        struct ws_ext4_sink sink = {cut_write, cut_flush, &s};
        struct ws_source *live = NULL, *medium = NULL;
        struct ws_tree *found = NULL;
        OK(ws_source_make(&cache_ops, SIZE, &s, &live, &error));
        enum ws_status status = ws_ext4_commit(live, l2, &sink, &error);
        if (cut == 0) {
            CHECK_INT(status, WS_OK);
            whole = s.calls;
        } else {
            CHECK_INT(status, WS_E_GONE);
        }
        OK(ws_source_memory(s.medium, SIZE, &medium, &error));
        if (ws_ext4_read(medium, &found, NULL, &error) != WS_OK) {
            fail_at(__FILE__, __LINE__, "cut at %llu of %llu: %s", (unsigned long long)cut, (unsigned long long)whole,
                    error.what);
        } else {
            bool is_after = ws_tree_find(found, last) != NULL;
            compare_trees(found, is_after ? after : before, 0);
            if (is_after) saw_after++;
            else saw_before++;
        }
        if (cut % 40 == 0 && have_program("e2fsck")) { /* the checker recovers it and finds nothing more to do */
            const char *path = scratch("cut.img");
            FILE *f = fopen(path, "wb");
            fwrite(s.medium, 1, SIZE, f);
            fclose(f);
            int rc = shell(NULL, "e2fsck -fy '%s'", path);
            CHECK(rc == 0 || rc == 1);
            check_clean(path, SIZE);
        }
        ws_tree_close(found);
        ws_source_close(medium);
        ws_source_close(live);
        free(s.medium);
        free(s.cache);
    }
    cuts_seen(saw_before, saw_after);
    CHECK(whole > 100 && saw_before > 10 && saw_after > 10);
    ws_layout_close(l1);
    ws_layout_close(l2);
    ws_ext4_geometry_free(&g1);
    ws_ext4_geometry_free(&g2);
    ws_tree_close(before);
    ws_tree_close(after);
    free(start);
}

static void damaged_volumes_are_refused_in_words(void) {
    struct ws_tree *tree = random_tree(80, TREE_ALL, 20000);
    struct ws_ext4_geometry g;
    struct ws_layout *layout;
    struct ws_source *view = NULL;
    enum { SIZE = 24 * MIB };
    struct ws_ext4_params p = params_of(SIZE);
    uint8_t *bytes = malloc(SIZE);
    if (!compose(&p, tree, &g, &layout)) return;
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_source_read(view, 0, bytes, SIZE, &error));
    int refused = 0;
    for (int i = 0; i < cases_of(1500); i++) { /* any byte of the structures, any value: never a crash, never endless */
        struct ws_source *source = NULL;
        struct ws_tree *back = NULL;
        uint64_t at[4];
        uint8_t was[4];
        for (int k = 0; k < 4; k++) {
            at[k] = random_below(random_below(3) ? 2 * MIB : SIZE);
            if (k == 0 && i % 8 == 0) at[k] = 1024 + random_below(1024); /* the superblock has a checksum */
            was[k] = bytes[at[k]];
            bytes[at[k]] = (uint8_t)random_next();
        }
        OK(ws_source_memory(bytes, SIZE, &source, &error));
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_ext4_read(source, &back, NULL, &error);
        if (status == WS_OK) ws_tree_close(back);
        else {
            refused++;
            CHECK(error.what[0]);
        }
        ws_source_close(source);
        for (int k = 3; k >= 0; k--) bytes[at[k]] = was[k];
    }
    CHECK(refused > 0);
    struct ws_ext4_facts facts;
    struct ws_source *source = NULL;
    OK(ws_source_memory(bytes, SIZE / 2, &source, &error)); /* cut short */
    FAILS(ws_ext4_probe(source, &facts, &error), WS_E_FORMAT);
    ws_source_close(source);
    bytes[1024 + 0x78] ^= 1; /* the label, but not its checksum */
    OK(ws_source_memory(bytes, SIZE, &source, &error));
    FAILS(ws_ext4_probe(source, &facts, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "checksum");
    ws_source_close(source);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    free(bytes);
}

/* Attributes that ext4 has no room for are told while measuring, before anything is composed. */
static void attributes_without_room_are_told_while_measuring(void) {
    for (int kind = 0; kind < 2; kind++) {
        struct ws_ext4_params p = {.size = 32 << 20};
        struct ws_ext4_geometry g = {0};
        struct ws_tree *tree = NULL;
        struct ws_node *n = NULL;
        char value[5000] = "x";
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "a/file", "x", 1, &n, &error));
        if (kind == 0) OK(ws_tree_set_xattr(tree, n, "user.large", value, sizeof value, &error));
        for (int i = 0; kind == 1 && i < 200; i++) {
            char name[24];
            snprintf(name, sizeof name, "user.n%d", i);
            OK(ws_tree_set_xattr(tree, n, name, "", 0, &error));
        }
        FAILS(ws_ext4_measure(&p, tree, &g, &error), WS_E_SPACE);
        CHECK_HAS(error.where, "a/file");
        ws_ext4_geometry_free(&g);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"random sizes are clean and as predicted", random_sizes_are_clean_and_as_predicted},
        {"random trees come out of the kernel as they went in", random_trees_come_out_of_the_kernel_as_they_went_in},
        {"large folders are indexed", large_folders_are_indexed},
        {"holes stay holes", holes_stay_holes},
        {"large files have deep extents", large_files_have_deep_extents},
        {"what does not fit is said before anything is made", what_does_not_fit_is_said_before_anything_is_made},
        {"only what must be written is written", only_what_must_be_written_is_written},
        {"quick commits are not passed over", quick_commits_are_not_passed_over},
        {"the kernel's changes are read, with and without its journal",
         the_kernels_changes_are_read_with_and_without_its_journal},
        {"a commit cut anywhere leaves before or after", a_commit_cut_anywhere_leaves_before_or_after},
        {"damaged volumes are refused in words", damaged_volumes_are_refused_in_words},
        {"attributes without room are told while measuring", attributes_without_room_are_told_while_measuring},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
