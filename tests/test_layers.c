/* test_layers.c — roots of several layers, held against the kernel that stacks the same ones; and images with several
 * editions. */
#include "tests/harness.h"

#include <unistd.h>

/* Something in the merged view: the Nth of its names. */
static void any_path(const char *merged, char out[600]) {
    struct ws_text said = {0};
    shell(&said, "find %s -mindepth 1 | sort | sed -n %up", merged, 1 + (unsigned)random_below(40));
    (void)snprintf(out, 600, "%.*s", said.data ? (int)strcspn(said.data, "\n") : 0, said.data ? said.data : "");
    if (!out[0]) (void)snprintf(out, 600, "%s/new-%u", merged, (unsigned)random_below(5));
    ws_text_free(&said);
}

/* What people and package managers do to a running live system. */
static void change(const char *merged) {
    static const char *const ways[] = {
        "rm -rf '%s'",
        "rm -rf '%1$s' && mkdir '%1$s' && echo inside > '%1$s/name' && mkdir '%1$s/deep'",
        "rm -rf '%1$s' && echo other > '%1$s'",
        "rm -rf '%1$s' && ln -s elsewhere '%1$s'",
        "[ ! -f '%1$s' ] || echo more >> '%1$s'",
        "chmod 0711 '%s'; chown 3:4 '%1$s'",
        "rm -rf '%1$s-a' '%1$s-b'; echo two names > '%1$s-a' && ln '%1$s-a' '%1$s-b'",
        "rm -rf '%1$s-p' && mkfifo '%1$s-p'",
    };
    char path[600], command[4000];
    any_path(merged, path);
    const char *way = ways[random_below(sizeof ways / sizeof ways[0])];
    command[0] = '\0';
    for (const char *p = way; *p;) { /* each place is the path's */
        size_t n = strcspn(p, "%");
        size_t at = strlen(command);
        (void)snprintf(command + at, sizeof command - at, "%.*s%s", (int)n, p, p[n] ? path : "");
        p += n;
        if (*p) p += p[1] == 's' ? 2 : 4;
    }
    shell(NULL, "(%s) 2>/dev/null", command);
}

static void layers_are_stacked_as_the_kernel_does(void) {
    if (!may_mount()) {
        skip_test("mounting takes root");
        return;
    }
    for (int i = 0; i < cases_of(12); i++) {
        const char *base = scratch("stack");
        struct ws_tree *tree = NULL, *upper[3] = {NULL};
        char merged[600], lower[2000];
        shell(NULL, "mkdir -p %s && mount -t tmpfs tmpfs %s && mkdir %s/0 %s/m", base, base, base, base);
        (void)snprintf(merged, sizeof merged, "%s/m", base);
        for (int k = 0; k < 25; k++) { /* the first layer, made the same way */
            char first[600];
            (void)snprintf(first, sizeof first, "%s/0", base);
            if (k < 4)
                shell(NULL,
                      "mkdir -p %s/d%d/e; for n in 1 2 3 4 5; do echo $n > %s/d%d/$n; echo $n > %s/d%d/e/$n; done",
                      first, k, first, k, first, k);
            else change(first);
        }
        (void)snprintf(lower, sizeof lower, "%s/0", base);
        int layers = 1 + (int)random_below(3);
        for (int l = 1; l <= layers; l++) {
            char now[1400];
            (void)snprintf(now, sizeof now, "%s/%d", base, l);
            CHECK_INT(
                shell(NULL,
                      "mkdir %s %s/w%d && mount -t overlay overlay -o lowerdir=%s,upperdir=%s,workdir=%s/w%d %s/m", now,
                      base, l, lower, now, base, l, base),
                0);
            for (int k = 0; k < 15; k++) change(merged);
            if (l < layers) shell(NULL, "umount %s/m", base);
            (void)snprintf(now, sizeof now, "%.300s/%d:%.900s", base, l, lower);
            memcpy(lower, now, strlen(now) + 1);
        }
        char path[1000];
        (void)snprintf(path, sizeof path, "%s/0", base);
        OK(ws_tree_from_folder(path, &tree, &error));
        for (int l = 1; l <= layers; l++) {
            (void)snprintf(path, sizeof path, "%s/%d", base, l);
            OK(ws_tree_from_folder(path, &upper[l - 1], &error));
            OK(ws_tree_lay_over(tree, upper[l - 1], &error));
        }
        compare_with_folder(tree, merged, TREE_ALL);
        struct ws_text said = {0};
        shell(&said, "find %s -mindepth 1 | wc -l", merged);
        CHECK_INT(ws_tree_count(tree) - 1, atoi(said.data));
        ws_text_free(&said);
        ws_tree_close(tree);
        for (int l = 0; l < layers; l++) ws_tree_close(upper[l]);
        shell(NULL, "umount %s/m; umount %s", base, base);
    }
}

/* Older live systems mark what is gone by names; and what cannot be followed is refused. */
static void older_marks_count_too(void) {
    struct ws_tree *lower = NULL, *upper = NULL;
    OK(ws_tree_create(&lower, &error));
    OK(ws_tree_create(&upper, &error));
    put_text(lower, "a/one", "1");
    put_text(lower, "a/two", "2");
    put_text(lower, "b/three", "3");
    put_text(upper, "a/.wh.one", "");
    put_text(upper, "b/.wh..wh..opq", "");
    put_text(upper, "b/four", "4");
    put_text(upper, ".wh..wh.plnk/x", "");
    OK(ws_tree_lay_over(lower, upper, &error));
    CHECK(!ws_tree_find(lower, "a/one") && ws_tree_find(lower, "a/two") && !ws_tree_find(lower, "b/three"));
    CHECK(ws_tree_find(lower, "b/four") && ws_tree_count(lower) == 5);
    OK(ws_tree_set_xattr(upper, ws_tree_find(upper, "b"), "trusted.overlay.redirect", "/a", 2, &error));
    FAILS(ws_tree_lay_over(lower, upper, &error), WS_E_UNSUPPORTED);
    ws_tree_close(lower);
    ws_tree_close(upper);
}

/* What is new in a layer moves as it is, its own marks not: also deep in it, and where names share an inode. */
static void what_is_new_moves(void) {
    struct ws_tree *lower = NULL, *upper = NULL;
    struct ws_node *n = NULL;
    char path[64];
    OK(ws_tree_create(&lower, &error));
    OK(ws_tree_create(&upper, &error));
    put_text(lower, "etc/old", "old");
    for (int i = 0; i < 40; i++) { /* enough for an index of names */
        snprintf(path, sizeof path, "home/tide/%d", i);
        put_text(upper, path, "new");
    }
    OK(ws_tree_put(upper, "home/tide/.wh.7x", "", 0, &n, &error));
    OK(ws_tree_add(upper, ws_tree_find(upper, "home/tide"), "gone", WS_NODE_CHAR, &n, &error));
    OK(ws_tree_set_xattr(upper, ws_tree_find(upper, "home"), "trusted.overlay.opaque", "y", 1, &error));
    OK(ws_tree_set_xattr(upper, ws_tree_find(upper, "home"), "user.note", "x", 1, &error));
    put_text(upper, "etc/new", "shared");
    OK(ws_tree_add(upper, ws_tree_find(upper, "home"), "link", WS_NODE_FILE, &n, &error));
    n->same_as = ws_tree_find(upper, "etc/new");
    OK(ws_tree_add(upper, ws_tree_find(upper, "etc"), "old", WS_NODE_CHAR, &n, &error));
    OK(ws_tree_lay_over(lower, upper, &error));
    CHECK(!ws_tree_find(lower, "etc/old") && !ws_tree_find(lower, "home/tide/gone"));
    CHECK(ws_tree_find(lower, "home/tide/7") && !ws_tree_find(lower, "home/tide/.wh.7x"));
    CHECK_INT(ws_tree_count(lower), 1 + 2 + 2 + 1 + 40); /* with etc, etc/new, home, home/link, home/tide */
    CHECK_INT(ws_tree_count(upper), 2);
    n = ws_tree_find(lower, "home");
    CHECK(n && n->xattrs && !n->xattrs->next && strcmp(n->xattrs->name, "user.note") == 0);
    CHECK(ws_tree_find(lower, "home/link")->same_as == ws_tree_find(lower, "etc/new"));
    ws_tree_close(lower);
    ws_tree_close(upper);
}

/* Names on both sides of a cut have the file each; those on the same side go on sharing it. */
static void a_cut_parts_names_of_a_file(void) {
    static const char *const names[] = {"in/a", "in/b", "out/c", "out/d"};
    for (int first = 0; first < 4; first++) { /* whoever holds the inode */
        struct ws_tree *tree = NULL, *apart = NULL;
        struct ws_node *n[4];
        OK(ws_tree_create(&tree, &error));
        put_text(tree, names[first], "shared");
        for (int i = 0; i < 4; i++) {
            struct ws_node *folder = NULL;
            n[i] = ws_tree_find(tree, names[i]);
            if (n[i]) continue;
            OK(ws_tree_folder(tree, i < 2 ? "in" : "out", &folder, &error));
            OK(ws_tree_add(tree, folder, names[i] + (i < 2 ? 3 : 4), WS_NODE_FILE, &n[i], &error));
            n[i]->same_as = ws_tree_find(tree, names[first]);
        }
        OK(ws_tree_cut(tree, ws_tree_find(tree, "in"), &apart, &error));
        CHECK_INT(ws_tree_count(tree), 1 + 2 + 2);
        CHECK_INT(ws_tree_count(apart), 1 + 2);
        CHECK(ws_tree_find(apart, "a") == n[0] && ws_tree_find(apart, "b") == n[1] && !ws_tree_find(tree, "in/a"));
        for (int i = 0; i < 4; i += 2) { /* one of two holds it, the other shares it */
            CHECK(n[i]->same_as == n[i + 1] || n[i + 1]->same_as == n[i]);
            CHECK(!n[i]->same_as != !n[i + 1]->same_as);
            CHECK_INT(ws_node_size(n[i]), 6);
            CHECK_INT(ws_node_size(n[i + 1]), 6);
        }
        ws_tree_close(apart);
        ws_tree_close(tree);
    }
}

/* A folder of many names: looked up to the letter, and whatever the case, while names come and go. */
static void names_are_found_in_either_case(void) {
    struct ws_tree *tree = NULL;
    char name[40], shout[40];
    OK(ws_tree_create(&tree, &error));
    for (int capitals = 0; capitals < 2; capitals++) {
        for (int i = 0; i < 200; i++) {
            (void)snprintf(name, sizeof name, capitals ? "Ebb and flow %d" : "low water %d", i);
            (void)snprintf(shout, sizeof shout, capitals ? "EBB AND FLOW %d" : "LOW WATER %d", i);
            put_text(tree, name, "x");
            CHECK(ws_tree_find(tree, name) && !ws_tree_find(tree, shout));
            CHECK(ws_tree_find_any_case(tree, shout) == ws_tree_find(tree, name));
            if (i % 3 == 0) ws_tree_drop(tree, ws_tree_find(tree, name));
            CHECK(!ws_tree_find_any_case(tree, shout) == (i % 3 == 0));
        }
        CHECK(ws_tree_find_any_case(tree, "LOW WATER 1") && !ws_tree_find_any_case(tree, "LOW WATER 3"));
    }
    put_text(tree, "LOW WATER 1", "y"); /* both are found to the letter, the first whatever the case */
    CHECK_STR(ws_tree_find(tree, "LOW WATER 1")->name, "LOW WATER 1");
    CHECK_STR(ws_tree_find_any_case(tree, "Low Water 1")->name, "low water 1");
    ws_tree_close(tree);
}

static bool is_that(void *context, const struct ws_node *n) { return n == context; }

static void make_another(const char *how, struct ws_tree *is, struct ws_node *n, struct ws_source *base,
                         uint8_t *content) {
    struct ws_node *file = NULL;
    if (!strcmp(how, "gone")) ws_tree_drop(is, n);
    if (!strcmp(how, "name")) OK(ws_tree_rename(is, n, "that", &error));
    if (!strcmp(how, "small") || !strcmp(how, "letters")) OK(ws_tree_rename(is, n, "IT", &error));
    if (!strcmp(how, "mode")) n->mode ^= 1;
    if (!strcmp(how, "owner")) n->gid++;
    content[150000] ^= !strcmp(how, "content");
    if (!strcmp(how, "content") || !strcmp(how, "read anew")) {
        OK(ws_tree_put(is, "elsewhere", content, 199000, &file, &error));
        n->content = file->content;
        ws_tree_drop(is, file);
    }
    if (!strcmp(how, "length")) n->content = base;
    if (!strcmp(how, "less") || !strcmp(how, "attribute")) n->xattrs = NULL; /* shared with the other */
    if (!strcmp(how, "attribute")) OK(ws_tree_set_xattr(is, n, "user.tide", "lot", 3, &error));
    if (!strcmp(how, "target")) OK(ws_tree_set_target(is, ws_tree_find(is, "in/deep/a link"), "nowhere", &error));
    if (!strcmp(how, "kind")) n->kind = WS_NODE_FIFO;
    if (!strcmp(how, "more")) put_text(is, "in/deep/more", "");
    if (!strcmp(how, "aside")) n->content = NULL;
}

/* Whatever differs is found and named; what differs not at all costs no reading. */
static void a_tree_that_holds_something_else_is_told(void) {
    static const struct {
        const char *how, *said;
    } ways[] = {{"same", NULL},         {"gone", "is missing"}, {"name", "is missing"},  {"mode", "owner or mode"},
                {"owner", "owner"},     {"content", "content"}, {"length", "content"},   {"attribute", "attributes"},
                {"less", "attributes"}, {"target", "leads"},    {"kind", "kind"},        {"more", "1 names more"},
                {"read anew", NULL},    {"aside", NULL},        {"small", "is missing"}, {"letters", NULL}};
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) {
        struct ws_tree *wanted = random_tree(60, TREE_ALL, 200000), *is = NULL;
        struct ws_node *n = NULL, *folder = NULL, *link = NULL;
        uint8_t *bytes = malloc(200000), *other = malloc(200000);
        struct ws_source *base = NULL, *here[2] = {NULL};
        OK(ws_tree_folder(wanted, "in/deep", &folder, &error));
        OK(ws_tree_add(wanted, folder, "a link", WS_NODE_LINK, &link, &error));
        OK(ws_tree_set_target(wanted, link, "elsewhere", &error));
        OK(ws_tree_add(wanted, folder, "it", WS_NODE_FILE, &n, &error));
        OK(ws_tree_set_xattr(wanted, n, "user.tide", "low", 3, &error));
        random_bytes(bytes, 200000);
        OK(ws_source_memory(bytes, 200000, &base, &error));
        for (int k = 0; k < 2; k++) OK(ws_source_slice(base, 100, 199000, &here[k], &error));
        n->content = here[0];
        OK(ws_tree_copy(wanted, &is, &error));
        n = ws_tree_find(is, "in/deep/it");
        n->content = here[1]; /* another window on the same place */
        const char *how = ways[i].how;
        memcpy(other, bytes + 100, 199000);
        make_another(how, is, n, base, other);
        struct ws_node *left_out = strcmp(how, "aside") ? NULL : ws_tree_find(wanted, "in/deep/it");
        const struct ws_holding holding = {.any_case = i % 2, .aside = is_that, .context = left_out};
        memset(&error, 0, sizeof error);
        const enum ws_status status = ws_tree_holds(is, wanted, &holding, &error);
        if (status != (ways[i].said ? WS_E_DIFFERENT : WS_OK)) fail_at(__FILE__, __LINE__, "%s: %s", how, error.what);
        if (ways[i].said) CHECK_HAS(error.what, ways[i].said);
        if (ways[i].said && strcmp(how, "more") != 0 && strcmp(how, "target") != 0) CHECK_HAS(error.what, "in/deep/it");
        if (!strcmp(how, "more")) OK(ws_tree_holds(is, wanted, &(struct ws_holding){.more = 1}, &error));
        ws_tree_close(is);
        ws_tree_close(wanted);
        for (int k = 0; k < 2; k++) ws_source_close(here[k]);
        ws_source_close(base);
        free(bytes);
        free(other);
    }
}

static void put_layer(struct ws_tree *medium, const char *path, const char *file, const char *text) {
    const char *folder = scratch("layer"), *packed = scratch("packed");
    struct ws_source *source = NULL;
    struct ws_node *n = NULL;
    shell(NULL, "rm -rf %s %s && mkdir -p %s/etc && printf '%s' > %s/etc/%s && gensquashfs -q -D %s %s", folder, packed,
          folder, text, folder, file, folder, packed);
    if (ws_source_file(packed, &source, &error) != WS_OK || ws_tree_own(medium, source, &error) != WS_OK ||
        ws_tree_put(medium, path, "", 0, &n, &error) != WS_OK)
        abort();
    n->content = source;
}

static void editions_are_listed_and_chosen(void) {
    static const char list[] = "# what there is\n- default: true\n  description:\n    en: small\n  id: hut-small\n  "
                               "name:\n    de: Klein\n    en: \"Hut \\x01small\"\n"
                               "  path: minimal.squashfs\n  size: 1\n- id: hut-desk\n  name: Hut desk\n  path: "
                               "minimal.desk.squashfs\n- id: gone\n  path: ../../etc/shadow\n";
    struct ws_tree *medium = NULL;
    struct ws_root root;
    struct ws_editions all;
    OK(ws_tree_create(&medium, &error));
    ws_editions_look(medium, &all);
    CHECK_INT(all.count, 0);
    put_layer(medium, "casper/minimal.squashfs", "one", "low");
    put_layer(medium, "casper/minimal.desk.squashfs", "two", "high");
    put_layer(medium, "casper/minimal.desk.live.squashfs", "one", "live");
    ws_editions_look(medium, &all); /* by their names alone */
    CHECK_INT(all.count, 2);
    CHECK(ws_edition_find(&all, "minimal.desk", &error) && ws_edition_find(&all, "minimal.desk", &error)->layers == 2);
    put_text(medium, "casper/install-sources.yaml", list);
    ws_editions_look(medium, &all);
    CHECK_INT(all.count, 2);
    CHECK_STR(all.edition[0].id, "hut-small");
    CHECK_HAS(all.edition[0].name, "Hut ");
    CHECK(all.edition[0].is_default && !all.edition[1].is_default && all.edition[1].layers == 2);
    OK(ws_root_open(NULL, medium, NULL, &root, &error));
    CHECK(ws_tree_find(root.tree, "etc/one") && !ws_tree_find(root.tree, "etc/two") &&
          strcmp(root.edition, "hut-small") == 0);
    ws_root_close(&root);
    OK(ws_root_open(NULL, medium, "hut-desk", &root, &error));
    CHECK(ws_tree_find(root.tree, "etc/one") && ws_tree_find(root.tree, "etc/two") && root.layers == 1);
    ws_root_close(&root);
    FAILS(ws_root_open(NULL, medium, "hut", &root, &error), WS_E_USAGE);
    CHECK_HAS(error.what, "hut-small, hut-desk");
    ws_tree_close(medium);
    OK(ws_tree_create(&medium, &error)); /* several side by side are one root */
    put_layer(medium, "live/filesystem.squashfs", "one", "low");
    put_layer(medium, "live/more.squashfs", "one", "high");
    OK(ws_root_open(NULL, medium, "", &root, &error));
    CHECK(root.layers == 1 && !root.edition[0] && ws_node_size(ws_tree_find(root.tree, "etc/one")) == 4);
    ws_root_close(&root);
    put_text(medium, "live/filesystem.module", "more.squashfs\nfilesystem.squashfs\nnowhere.squashfs\n");
    OK(ws_root_open(NULL, medium, "", &root, &error));
    CHECK(root.layers == 1 && ws_node_size(ws_tree_find(root.tree, "etc/one")) == 3);
    ws_root_close(&root);
    FAILS(ws_root_open(NULL, medium, "x", &root, &error), WS_E_USAGE);
    ws_tree_close(medium);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"layers are stacked as the kernel does", layers_are_stacked_as_the_kernel_does},
        {"older marks count, too", older_marks_count_too},
        {"what is new moves", what_is_new_moves},
        {"a cut parts names of a file", a_cut_parts_names_of_a_file},
        {"names are found in either case", names_are_found_in_either_case},
        {"a tree that holds something else is told", a_tree_that_holds_something_else_is_told},
        {"editions are listed and chosen", editions_are_listed_and_chosen},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
