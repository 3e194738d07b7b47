/* test_readers.c — what readers keep: random trees put on a disk by the kernel, packed by other people's tools, read by
 * ours; and how long they take for very many names, in steps. */
#include "tests/harness.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

/* A tree as files and folders of this machine. @return false without the rights for owners and devices */
static bool put_on_disk(const struct ws_tree *tree, const char *folder) {
    char path[5000], within[4096], other[5000];
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        snprintf(path, sizeof path, "%s%s", folder, ws_node_path(n, within, sizeof within));
        if (n->same_as) continue;
        static const mode_t kinds[] = {
            [WS_NODE_CHAR] = S_IFCHR, [WS_NODE_BLOCK] = S_IFBLK, [WS_NODE_FIFO] = S_IFIFO, [WS_NODE_SOCKET] = S_IFSOCK};
        int failed = 0;
        if (n->kind == WS_NODE_FOLDER) failed = mkdir(path, 0700);
        else if (n->kind == WS_NODE_LINK) failed = symlink(n->target, path);
        else if (n->kind != WS_NODE_FILE) failed = mknod(path, kinds[n->kind] | 0600, makedev(n->major, n->minor));
        else if (n->content) save_source(n->content, path);
        else failed = close(open(path, O_CREAT | O_WRONLY, 0600));
        if (failed) return false;
    }
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        if (!n->same_as) continue;
        snprintf(path, sizeof path, "%s%s", folder, ws_node_path(n, within, sizeof within));
        snprintf(other, sizeof other, "%s%s", folder, ws_node_path(n->same_as, within, sizeof within));
        if (link(other, path) != 0) return false;
    }
    /* Times and modes last: what is put into a folder changes its own. */
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        struct timespec times[2] = {{n->mtime, n->mtime_ns}, {n->mtime, n->mtime_ns}};
        snprintf(path, sizeof path, "%s%s", folder, ws_node_path(n, within, sizeof within));
        if (n->same_as) continue;
        for (const struct ws_xattr *x = n->xattrs; x; x = x->next)
            if (lsetxattr(path, x->name, x->value, x->length, 0) != 0) return false;
        if (lchown(path, n->uid, n->gid) != 0) return false;
        if (n->kind != WS_NODE_LINK && chmod(path, n->mode) != 0) return false;
        if (utimensat(AT_FDCWD, path, times, AT_SYMLINK_NOFOLLOW) != 0) return false;
    }
    return true;
}

static struct ws_tree *disk_tree(const char *folder, bool *may) {
    struct ws_tree *tree = random_tree(250, TREE_ALL | TREE_SHORT, 40000);
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (n->kind == WS_NODE_LINK) n->mode = 0777;
        for (struct ws_xattr *x = n->xattrs; x; x = x->next) /* packers leave empty ones out */
            if (!x->length && ws_tree_set_xattr(tree, n, x->name, "v", 1, &error) != WS_OK) abort();
        if (n->kind == WS_NODE_SOCKET) n->kind = WS_NODE_FIFO; /* packers leave sockets out, as they say */
        if (n->kind == WS_NODE_CHAR || n->kind == WS_NODE_BLOCK) n->major &= 0xfff, n->minor &= 0xfff;
    }
    struct ws_source *large = NULL, *sparse = NULL; /* too large to be held, and with holes */
    struct ws_node *n = NULL;
    struct ws_run runs[] = {{MIB, 0}, {3 * MIB, WS_RUN_HOLE}, {MIB, MIB}, {2 * MIB, WS_RUN_HOLE}};
    char *bytes = malloc(2 * MIB);
    random_bytes(bytes, 2 * MIB);
    if (ws_source_memory(bytes, 2 * MIB, &large, &error) != WS_OK || ws_tree_own(tree, large, &error) != WS_OK ||
        ws_source_runs(large, runs, 4, 7 * MIB, &sparse, &error) != WS_OK || ws_tree_own(tree, sparse, &error) != WS_OK)
        abort();
    free(bytes);
    for (int i = 0; i < 3; i++) {
        char name[24];
        snprintf(name, sizeof name, "large-%d", i);
        if (ws_tree_put(tree, name, "", 0, &n, &error) != WS_OK) abort();
        n->content = i == 1 ? sparse : large;
    }
    *may = shell(NULL, "mkdir -p '%s'", folder) == 0 && put_on_disk(tree, folder);
    return tree;
}

static uint64_t holes_of(const struct ws_tree *tree, const char *path) {
    const struct ws_node *n = ws_tree_find(tree, path);
    uint64_t holes = 0;
    for (uint64_t at = 0; n && n->content && at < n->content->size;) {
        struct ws_piece p = ws_source_piece(n->content, at, n->content->size - at);
        if (p.kind == WS_PIECE_HOLE) holes += p.length;
        at += p.length;
    }
    return holes;
}

static void readers_keep_everything(void) {
    static const struct {
        const char *program, *command;
        unsigned keeps; /* what its format has room for */
        bool holes;
    } packers[] = {
        {"bsdtar", "bsdtar --format=pax --xattrs --acls -cf '%s' -C '%s' .", TREE_ALL, false},
        {"tar", "tar --format=pax --sparse --xattrs --xattrs-include='*' --acls -cf '%s' -C '%s' .", TREE_ALL, false},
        {"tar", "tar --format=pax --xattrs --xattrs-include='*' -czf '%s' -C '%s' .", TREE_ALL, false},
        {"gensquashfs", "gensquashfs -q -k -x -D '%2$s' '%1$s'", TREE_DEVICES | TREE_XATTRS, true},
    };
    for (int round = 0; round < cases_of(6); round++) {
        char folder[400], packed[400];
        bool may;
        snprintf(folder, sizeof folder, "%s", scratch("tree"));
        snprintf(packed, sizeof packed, "%s", scratch("packed"));
        struct ws_tree *wanted = disk_tree(folder, &may);
        struct ws_tree *seen = NULL;
        if (!may) {
            ws_tree_close(wanted);
            skip_test("no rights for owners, devices and attributes");
            return;
        }
        OK(ws_tree_from_folder(folder, &seen, &error));
        compare_trees(seen, wanted, TREE_ALL);
        CHECK_INT(holes_of(seen, "large-1"), 5 * MIB);
        ws_tree_close(seen);
        for (size_t i = 0; i < sizeof packers / sizeof packers[0]; i++) {
            struct ws_source *source = NULL;
            struct ws_text said = {0};
            if (!have_program(packers[i].program)) continue;
            unlink(packed);
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wformat-nonliteral"
            int code = shell(&said, packers[i].command, packed, folder);
#pragma GCC diagnostic pop
            if (code) fail_at(__FILE__, __LINE__, "%s gives %d: %.300s", packers[i].program, code, said.data);
            ws_text_free(&said);
            OK(ws_source_file(packed, &source, &error));
            if (strstr(packers[i].program, "squash")) OK(ws_squashfs_read(source, &seen, NULL, &error));
            else OK(ws_archive_read(source, &seen, &error));
            compare_trees(seen, wanted, packers[i].keeps);
            if (packers[i].holes) CHECK(holes_of(seen, "large-1") >= 4 * MIB);
            ws_tree_close(seen);
            ws_source_close(source);
        }
        ws_tree_close(wanted);
        shell(NULL, "rm -rf '%s'", folder);
    }
}

/* Access control lists come through in the form that the kernel keeps them in. */
static void lists_of_access_are_kept(void) {
    if (!have_program("bsdtar")) {
        skip_test("bsdtar is not installed");
        return;
    }
    /* acl(5): u::rw-, u:1234:r--, g::r--, mask::r--, o::--- */
    static const uint8_t acl[] = {2, 0,    0,   0,   1,   0,   6,  0, 255, 255, 255, 255, 2,   0,  4,
                                  0, 0xd2, 4,   0,   0,   4,   0,  4, 0,   255, 255, 255, 255, 16, 0,
                                  4, 0,    255, 255, 255, 255, 32, 0, 0,   0,   255, 255, 255, 255};
    char folder[400], packed[400];
    struct ws_source *source = NULL;
    struct ws_tree *seen = NULL;
    snprintf(folder, sizeof folder, "%s", scratch("acl"));
    snprintf(packed, sizeof packed, "%s", scratch("acl.tar"));
    CHECK_INT(shell(NULL, "mkdir -p '%s' && echo x > '%s/f'", folder, folder), 0);
    char file[420];
    snprintf(file, sizeof file, "%s/f", folder);
    if (lsetxattr(file, "system.posix_acl_access", acl, sizeof acl, 0) != 0) {
        skip_test("no access control lists here");
        return;
    }
    CHECK_INT(shell(NULL, "bsdtar --format=pax --acls -cf '%s' -C '%s' .", packed, folder), 0);
    OK(ws_source_file(packed, &source, &error));
    OK(ws_archive_read(source, &seen, &error));
    const struct ws_node *n = ws_tree_find(seen, "f");
    const struct ws_xattr *x = n ? n->xattrs : NULL;
    while (x && strcmp(x->name, "system.posix_acl_access") != 0) x = x->next;
    CHECK(x && x->length == sizeof acl && memcmp(x->value, acl, sizeof acl) == 0);
    ws_tree_close(seen);
    ws_source_close(source);
}

/* What a list names twice is what it names last, and second names keep what they had. */
static void names_that_come_again_replace_the_first(void) {
    char folder[400], packed[400];
    struct ws_source *source = NULL;
    struct ws_tree *seen = NULL;
    snprintf(folder, sizeof folder, "%s", scratch("again"));
    snprintf(packed, sizeof packed, "%s", scratch("again.tar"));
    if (shell(NULL,
              "mkdir -p '%s' && cd '%s' && echo one > a && ln a b && tar cf '%s' a b && rm a && echo three > a && "
              "tar rf '%s' a",
              folder, folder, packed, packed) != 0) {
        skip_test("tar is not installed");
        return;
    }
    OK(ws_source_file(packed, &source, &error));
    OK(ws_archive_read(source, &seen, &error));
    CHECK_INT(ws_tree_count(seen), 3);
    CHECK_INT(ws_node_size(ws_tree_find(seen, "a")), 6);
    const struct ws_node *b = ws_tree_find(seen, "b");
    CHECK(b && !b->same_as && ws_node_size(b) == 4);
    ws_tree_close(seen);
    ws_source_close(source);
}

/* An index of names, held against looking through them: added, renamed, dropped, alike but for their case. */
static void large_folders_find_what_small_ones_would(void) {
    for (int round = 0; round < cases_of(30); round++) {
        struct ws_tree *tree = NULL;
        struct ws_node *node[600];
        size_t count = 0;
        OK(ws_tree_create(&tree, &error));
        for (int step = 0; step < 900; step++) {
            char name[8];
            snprintf(name, sizeof name, "%c%c%u", (char)(random_below(2) ? 'A' : 'a'),
                     (char)(random_below(2) ? 'B' : 'b'), (unsigned)random_below(60));
            unsigned what = (unsigned)random_below(10);
            if (what < 6 && count < 600) {
                OK(ws_tree_add(tree, ws_tree_root(tree), name, WS_NODE_FILE, &node[count], &error));
                count++;
            } else if (what < 8 && count) {
                OK(ws_tree_rename(tree, node[random_below(count)], name, &error));
            } else if (count) {
                size_t gone = (size_t)random_below(count);
                ws_tree_drop(tree, node[gone]);
                node[gone] = node[--count];
            }
            snprintf(name, sizeof name, "%c%c%u", (char)(random_below(2) ? 'A' : 'a'),
                     (char)(random_below(2) ? 'B' : 'b'), (unsigned)random_below(60));
            bool exact = false, any = false;
            for (struct ws_node *n = ws_tree_root(tree)->first; n; n = n->next) {
                exact |= strcmp(n->name, name) == 0;
                any |= strcasecmp(n->name, name) == 0;
            }
            const struct ws_node *e = ws_tree_find(tree, name);
            const struct ws_node *a = ws_tree_find_any_case(tree, name);
            CHECK((e != NULL) == exact && (!e || strcmp(e->name, name) == 0));
            CHECK((a != NULL) == any && (!a || strcasecmp(a->name, name) == 0));
        }
        CHECK_INT(ws_tree_count(tree), count + 1);
        ws_tree_close(tree);
    }
}

/* Clusters with two owners are damage: a small volume would show any number of large files. */
static void shared_clusters_are_damage(void) {
    for (int exfat = 0; exfat < 2; exfat++) {
        struct ws_tree *tree = NULL, *seen = NULL;
        struct ws_layout *layout = NULL;
        struct ws_source *view = NULL, *changed = NULL;
        uint64_t size = 40 * MIB, room;
        char bytes[20000];
        random_bytes(bytes, sizeof bytes);
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "ONE.BIN", bytes, sizeof bytes, NULL, &error));
        OK(ws_tree_put(tree, "TWO.BIN", bytes, sizeof bytes, NULL, &error));
        OK(ws_layout_create(size, &layout, &error));
        if (exfat) OK(ws_exfat_compose(&(struct ws_exfat_params){.size = size}, tree, 0, layout, &room, &error));
        else
            OK(ws_fat_compose(&(struct ws_fat_params){.size = size, .bits = 16}, tree, 0, layout, &size, &room,
                              &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &view, &error));
        if (!exfat) {
            OK(ws_fat_read(view, &seen, NULL, &error));
            uint64_t one = ws_tree_find(seen, "ONE.BIN")->work2, two = ws_tree_find(seen, "TWO.BIN")->work2;
            uint8_t first[2];
            OK(ws_source_read(view, one + 26, first, 2, &error));
            ws_tree_close(seen);
            OK(ws_source_patched(view, view->size, &changed, &error));
            OK(ws_source_patch(changed, two + 26, first, 2, &error));
            FAILS(ws_fat_read(changed, &seen, NULL, &error), WS_E_FORMAT);
            CHECK_HAS(error.what, "two files");
            ws_source_close(changed);
        } else {
            OK(ws_exfat_read(view, &seen, NULL, &error)); /* and its own are no trouble */
            ws_tree_close(seen);
        }
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"readers keep everything", readers_keep_everything},
        {"lists of access are kept", lists_of_access_are_kept},
        {"names that come again replace the first", names_that_come_again_replace_the_first},
        {"large folders find what small ones would", large_folders_find_what_small_ones_would},
        {"shared clusters are damage", shared_clusters_are_damage},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
