/* test_exfat.c — exFAT volumes composed and read, and names made to fit: a checker is the judge. */
#include "tests/harness.h"

#include <math.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static struct ws_exfat_params params_of(uint64_t size) {
    struct ws_exfat_params p = {.size = size, .serial = (uint32_t)random_next(), .made_at = 1790000000};
    if (random_below(3)) snprintf(p.label, sizeof p.label, "Gezeit\xc3\xa9n");
    return p;
}

static void check_clean(const char *path) {
    struct ws_text out = {0};
    int rc = shell(&out, "fsck.exfat -n '%s' 2>&1", path);
    if (rc != 0 || !strstr(out.data, "clean")) fail_at(__FILE__, __LINE__, "the checker (%d) says %s", rc, out.data);
    ws_text_free(&out);
}

static void random_trees_come_back_as_they_were(void) {
    bool judge = have_program("fsck.exfat");
    for (int i = 0; i < cases_of(200); i++) {
        struct ws_tree *tree = random_tree(random_below(i % 20 == 0 ? 1200 : 100), TREE_ALL, 100000), *back = NULL;
        struct ws_exfat_params p = params_of((48 + random_below(300)) * MIB + random_below(4096));
        if (i % 20 == 0) p.size += 256ull * MIB; /* each of so many files takes a whole cluster */
        struct ws_findings fitted = {0}, again = {0};
        struct ws_layout *layout = NULL;
        struct ws_source *view = NULL;
        struct ws_exfat_facts facts;
        uint64_t predicted = 0, measured = 0;
        if (i % 3 == 0) p.cluster = 512u << random_below(9);
        if (i % 6 == 4) p.sector = 1024u << random_below(3);
        if (p.cluster && p.cluster < p.sector) p.cluster = p.sector;
        p.hidden_sectors = random_below(2) ? 2048 : 0;
        OK(ws_tree_fit_names(tree, ws_name_rules_exfat(), &fitted, &error));
        OK(ws_tree_fit_names(tree, ws_name_rules_exfat(), &again, &error));
        CHECK_INT(again.count, 0); /* what was made to fit fits */
        OK(ws_exfat_compose(&p, tree, 0, NULL, &measured, &error));
        OK(ws_layout_create(p.size, &layout, &error));
        OK(ws_exfat_compose(&p, tree, 0, layout, &predicted, &error));
        OK(ws_layout_seal(layout, &error));
        CHECK_INT(predicted, measured);
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_exfat_read(view, &back, &facts, &error));
        compare_trees(back, tree, 0);
        CHECK_INT(facts.free_bytes, predicted);
        CHECK_STR(facts.label, p.label);
        CHECK(facts.clean && facts.sound && facts.serial == p.serial);
        if (judge) {
            const char *path = scratch("exfat.img");
            save_layout(layout, path);
            check_clean(path);
            (void)unlink(path);
        }
        ws_tree_close(back);
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
        ws_findings_free(&fitted);
        ws_findings_free(&again);
    }
}

static void volumes_of_any_size_are_sound(void) {
    if (!have_program("fsck.exfat")) {
        skip_test("no checker for exFAT is installed");
        return;
    }
    for (int i = 0; i < cases_of(60); i++) {
        struct ws_tree *tree = NULL;
        struct ws_layout *layout = NULL;
        uint64_t size = i == 0 ? 2 * MIB : (uint64_t)exp2(21 + 21.0 * (double)random_below(100000) / 1e5);
        struct ws_exfat_params p = params_of(size);
        const char *path = scratch("sized.img");
        p.align = i % 2 ? 0 : 4u << (10 + i % 12);
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "a/b/note.txt", "tide", 4, NULL, &error));
        OK(ws_layout_create(size, &layout, &error));
        OK(ws_exfat_compose(&p, tree, 0, layout, NULL, &error));
        OK(ws_layout_seal(layout, &error));
        save_layout(layout, path);
        check_clean(path);
        (void)unlink(path);
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
}

static void wrong_wishes_are_refused(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    struct ws_exfat_params p = {.size = 16 * MIB};
    OK(ws_tree_create(&tree, &error));
    p.cluster = 3000;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.cluster = 16 * MIB;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.cluster = 4096;
    p.sector = 8192;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.sector = 4096;
    p.cluster = 2048;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.cluster = p.sector = 0;
    p.size = 1000;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.size = 16 * MIB;
    snprintf(p.label, sizeof p.label, "twelve chars");
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
    p.label[0] = '\0';
    OK(ws_source_zeros(5ull << 30, &large, &error)); /* no limit of 4 GiB here, but one of room */
    OK(ws_tree_put(tree, "large.img", "", 0, &n, &error));
    n->content = large;
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_SPACE);
    p.size = 6ull << 30;
    OK(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error));
    OK(ws_tree_put(tree, "Large.IMG", "x", 1, NULL, &error));
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_UNSUPPORTED);
    CHECK_HAS(error.what, "case");
    ws_tree_drop(tree, ws_tree_find(tree, "Large.IMG"));
    OK(ws_tree_put(tree, "a/what?", "x", 1, NULL, &error));
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_UNSUPPORTED);
    CHECK_HAS(error.where, "/a/what?");
    ws_tree_drop(tree, ws_tree_find(tree, "a"));
    OK(ws_tree_add(tree, ws_tree_root(tree), "link", WS_NODE_LINK, &n, &error));
    OK(ws_tree_set_target(tree, n, "large.img", &error));
    FAILS(ws_exfat_compose(&p, tree, 0, NULL, NULL, &error), WS_E_UNSUPPORTED);
    ws_tree_close(tree);
    ws_source_close(large);
}

static void names_are_made_to_fit_and_told(void) {
    static const struct {
        const char *name, *becomes, *told;
    } cases[] = {
        {"plain.txt", "plain.txt", NULL},     {"what?.txt", "what_.txt", "not allowed"},
        {"a:b*c", "a_b_c", "not allowed"},    {"dot.", "dot_", "space or dot"},
        {"space ", "space_", "space or dot"}, {"tab\there", "tab_here", "not allowed"},
        {"caf\xc3\xa9", "caf\xc3\xa9", NULL}, {"caf\xe9.txt", "caf_.txt", "not UTF-8"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = NULL;
        struct ws_findings f = {0};
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, cases[i].name, "x", 1, NULL, &error));
        OK(ws_tree_fit_names(tree, ws_name_rules_fat(), &f, &error));
        CHECK(ws_tree_find(tree, cases[i].becomes) != NULL);
        CHECK_INT(f.count, cases[i].told ? 1 : 0);
        if (cases[i].told && f.count) CHECK_HAS(f.list[0].text, cases[i].told);
        ws_findings_free(&f);
        ws_tree_close(tree);
    }
    struct ws_tree *tree = NULL;
    struct ws_findings f = {0};
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    OK(ws_tree_create(&tree, &error));
    OK(ws_source_zeros(1ull << 32, &large, &error));
    OK(ws_tree_put(tree, "Readme.TXT", "1", 1, NULL, &error));
    OK(ws_tree_put(tree, "README.txt", "2", 1, NULL, &error));
    OK(ws_tree_put(tree, "readme (2).txt", "3", 1, NULL, &error)); /* the first number is taken */
    OK(ws_tree_put(tree, "\xc3\x89t\xc3\xa9", "4", 1, NULL, &error));
    OK(ws_tree_put(tree, "\xc3\xa9t\xc3\xa9", "5", 1, NULL, &error)); /* letters beyond ASCII collide too */
    OK(ws_tree_put(tree, "system.img", "", 0, &n, &error));
    n->content = large;
    OK(ws_tree_add(tree, ws_tree_root(tree), "link", WS_NODE_LINK, &n, &error));
    OK(ws_tree_fit_names(tree, ws_name_rules_fat(), &f, &error));
    CHECK_INT(f.count, 4); /* two collisions, a file too large, a link */
    CHECK(ws_tree_find(tree, "Readme.TXT") && ws_tree_find(tree, "README (3).txt") &&
          ws_tree_find(tree, "readme (2).txt"));
    CHECK(!ws_tree_find(tree, "system.img") && !ws_tree_find(tree, "link"));
    ws_findings_free(&f);
    ws_tree_close(tree);
    ws_source_close(large);
    for (int i = 0; i < 300; i++) { /* folders full of awkward names end up without any */
        OK(ws_tree_create(&tree, &error));
        for (int k = 0; k < 40; k++) {
            char name[256];
            size_t length = random_below(8) ? 1 + random_below(4) : 200 + random_below(55);
            for (size_t c = 0; c < length; c++) name[c] = "aAbB.? :x"[random_below(9)];
            name[length] = '\0';
            if (ws_tree_put(tree, name, "x", 1, NULL, &error) != WS_OK) continue;
        }
        OK(ws_tree_fit_names(tree, ws_name_rules_fat(), &f, &error));
        const struct ws_node *one, *other;
        if (ws_names_collide(ws_tree_root(tree), &one, &other, &error))
            fail_at(__FILE__, __LINE__, "\"%s\" and \"%s\" collide still", one->name, other->name);
        for (n = ws_tree_root(tree)->first; n; n = n->next)
            if (ws_name_fault(ws_name_rules_fat(), n->name))
                fail_at(__FILE__, __LINE__, "\"%s\": %s", n->name, ws_name_fault(ws_name_rules_fat(), n->name));
        ws_findings_free(&f);
        ws_tree_close(tree);
    }
}

/* File systems without links get what they show; what they show may be nothing, and they may go round in circles. */
static void links_become_copies(void) {
    static const struct {
        const char *path, *target, *shows; /* NULL: it stays a link */
    } cases[] = {
        {"vmlinuz", "live/vmlinuz-6", "kernel"},
        {"live/vmlinuz", "vmlinuz-6", "kernel"},
        {"a/b/up", "../../live/vmlinuz", "kernel"},
        {"dots", "./live/.././live//vmlinuz-6", "kernel"},
        {"by-folder", "boot/vmlinuz-6", "kernel"},
        {"boot", "live", NULL},
        {"self", "self", NULL},
        {"round", "a/round", NULL},
        {"a/round", "../round", NULL},
        {"absolute", "/live/vmlinuz-6", NULL},
        {"out", "../../etc/passwd", NULL},
        {"nothing", "live/none", NULL},
        {"through", "live/vmlinuz-6/x", NULL},
        {"empty", "", NULL},
    };
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL, *twin = NULL;
    struct ws_findings f = {0};
    char *text = NULL;
    size_t length;
    OK(ws_tree_create(&tree, &error));
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) put_link(tree, cases[i].path, cases[i].target);
    OK(ws_tree_put(tree, "live/vmlinuz-6", "kernel", 6, &n, &error));
    n->mode = 0600;
    OK(ws_tree_put(tree, "twin", "", 0, &twin, &error));
    twin->same_as = n;
    ws_tree_copy_links(tree, "FAT32", &f);
    CHECK_INT(f.count, 6);
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        n = ws_tree_find(tree, cases[i].path);
        CHECK_INT(n->kind, cases[i].shows ? WS_NODE_FILE : WS_NODE_LINK);
        if (!cases[i].shows || n->kind != WS_NODE_FILE) continue;
        OK(ws_source_load(n->content, 100, &text, &length, &error));
        CHECK_STR(text, cases[i].shows);
        CHECK_INT(n->mode, 0600);
        free(text);
    }
    CHECK(!twin->same_as && ws_node_size(twin) == 6);
    OK(ws_tree_fit_names(tree, ws_name_rules_fat(), &f, &error));
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++)
        CHECK((ws_tree_find(tree, cases[i].path) != NULL) == (cases[i].shows != NULL));
    CHECK_HAS(f.list[f.count - 1].text, "left out");
    ws_findings_free(&f);
    ws_tree_close(tree);
    for (int i = 0; i < cases_of(2000); i++) { /* any targets: an end is found, and no file is lost */
        static const char *const parts[] = {"a", "b", "..", ".", "", "c", "f"};
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "a/b/f", "kernel", 6, NULL, &error));
        for (int k = 0; k < 12; k++) {
            char path[64] = "", target[64] = "";
            for (uint64_t c = random_below(3); c > 0; c--) strcat(strcat(path, parts[random_below(2)]), "/");
            for (uint64_t c = 1 + random_below(5); c > 0; c--) strcat(strcat(target, parts[random_below(7)]), "/");
            sprintf(path + strlen(path), "%c%d", "bc"[random_below(2)], k % 3);
            put_link(tree, path, target);
        }
        ws_tree_copy_links(tree, "FAT32", NULL);
        for (n = ws_tree_root(tree); n; n = ws_tree_next(n))
            if (n->kind == WS_NODE_FILE) CHECK_INT(ws_node_size(n), 6);
        ws_tree_close(tree);
    }
}

static void damaged_volumes_are_refused_in_words(void) {
    struct ws_tree *tree = random_tree(80, 0, 20000), *back = NULL;
    struct ws_exfat_params p = params_of(16 * MIB);
    struct ws_findings f = {0};
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL, *bad = NULL;
    uint8_t *bytes = malloc((size_t)p.size);
    int refused = 0;
    OK(ws_tree_fit_names(tree, ws_name_rules_exfat(), &f, &error));
    OK(ws_layout_create(p.size, &layout, &error));
    OK(ws_exfat_compose(&p, tree, 0, layout, NULL, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_source_read(view, 0, bytes, (size_t)p.size, &error));
    for (int i = 0; i < cases_of(3000); i++) {
        uint64_t at = random_below(3) ? random_below(130) : random_below(3 * MIB);
        uint8_t was = bytes[at];
        bytes[at] = (uint8_t)random_next();
        OK(ws_source_memory(bytes, i % 10 ? (size_t)p.size : (size_t)random_below(p.size), &bad, &error));
        memset(&error, 0, sizeof error);
        if (ws_exfat_read(bad, &back, NULL, &error) == WS_OK) ws_tree_close(back);
        else {
            refused++;
            CHECK(error.what[0]);
        }
        ws_source_close(bad);
        bytes[at] = was;
    }
    CHECK(refused > cases_of(300));
    ws_source_close(view);
    ws_layout_close(layout);
    ws_tree_close(tree);
    ws_findings_free(&f);
    free(bytes);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"200 random trees come back as they were", random_trees_come_back_as_they_were},
        {"volumes of any size are sound", volumes_of_any_size_are_sound},
        {"wrong wishes are refused", wrong_wishes_are_refused},
        {"names are made to fit and told", names_are_made_to_fit_and_told},
        {"links become copies", links_become_copies},
        {"damaged volumes are refused in words", damaged_volumes_are_refused_in_words},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
