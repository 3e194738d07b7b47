/* test_fat.c — FAT32 volumes of every size and cluster, with trees that are hard on short names: a checker is the
 * judge. */
#include "tests/harness.h"

#include <math.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

/* The checker finds nothing, and counts as many free clusters as were predicted. */
static void judge(const char *path, uint64_t predicted) {
    struct ws_text out = {0};
    unsigned long long used = 0, total = 0, cluster = 0;
    if (!have_program("fsck.fat")) return;
    int rc = shell(&out, "fsck.fat -vn '%s'", path);
    const char *size_line = strstr(out.data, " bytes per cluster");
    const char *count_line = strstr(out.data, " files, ");
    while (size_line && size_line > out.data && size_line[-1] != '\n') size_line--;
    if (size_line) (void)sscanf(size_line, "%llu", &cluster);
    if (count_line) (void)sscanf(count_line, " files, %llu/%llu clusters", &used, &total);
    if (rc != 0) fail_at(__FILE__, __LINE__, "the checker (%d) says %.800s", rc, out.data);
    CHECK_INT((total - used) * cluster, predicted);
    ws_text_free(&out);
}

/* Names that all want the same short one, among them names that look like made-up ones. */
static void add_awkward_names(struct ws_tree *tree, size_t count) {
    for (size_t i = 0; i < count; i++) {
        char path[120];
        static const char *const forms[] = {"alike/tide readings of hut %zu.csv",
                                            "alike/TIDERE~%zu.CSV",
                                            "alike/%zu.tar.gz",
                                            "alike/.hidden %zu",
                                            "alike/caf\xc3\xa9 %zu",
                                            "alike/UPPER%zu.TXT",
                                            "alike/a+b=%zu [x]",
                                            "alike/no extension at all %zu"};
        snprintf(path, sizeof path, forms[i % 8], i / 8);
        if (ws_tree_put(tree, path, path, strlen(path), NULL, &error) != WS_OK)
            fail_at(__FILE__, __LINE__, "%s: %s", path, error.what);
    }
}

/* Attributes as another program tells them, and they are read back. */
static void attributes_are_kept(void) {
    struct ws_tree *tree = NULL, *back = NULL;
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL;
    struct ws_text said = {0};
    const struct ws_fat_params p = {.size = 40 * MIB, .serial = 7, .bits = 32, .made_at = 1790000000};
    uint64_t size = 0, free_bytes = 0;
    const char *path = scratch("marks.img");
    OK(ws_tree_create(&tree, &error));
    for (uint8_t marks = 0; marks < 16; marks++) {
        char name[16];
        struct ws_node *n = NULL;
        snprintf(name, sizeof name, "%02X.TXT", marks);
        OK(ws_tree_put(tree, name, "tide", 4, &n, &error));
        n->marks = marks & 7;
        n->mode = marks & 8 ? 0444 : 0644;
    }
    OK(ws_layout_create(p.size, &layout, &error));
    OK(ws_fat_compose(&p, tree, 0, layout, &size, &free_bytes, &error));
    save_layout(layout, path);
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_fat_read(view, &back, NULL, &error));
    compare_trees(back, tree, TREE_MARKS);
    for (struct ws_node *n = ws_tree_next(ws_tree_root(back)); n; n = ws_tree_next(n))
        CHECK_INT(n->mode, ws_tree_find(tree, n->name)->mode);
    if (have_program("mattrib")) {
        CHECK_INT(shell(&said, "mattrib -i %s '::/*.TXT' | tr -d ' ' | sort -t/ -k2 | tr '\n' ' '", path), 0);
        CHECK_STR(
            said.data,
            "A::/00.TXT AH::/01.TXT AS::/02.TXT ASH::/03.TXT ::/04.TXT H::/05.TXT S::/06.TXT SH::/07.TXT "
            "AR::/08.TXT AHR::/09.TXT ASR::/0A.TXT ASHR::/0B.TXT R::/0C.TXT HR::/0D.TXT SR::/0E.TXT SHR::/0F.TXT ");
    }
    ws_text_free(&said);
    ws_tree_close(back);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_tree_close(tree);
}

static void random_trees_come_back_as_they_were(void) {
    for (int i = 0; i < cases_of(200); i++) {
        struct ws_tree *tree = random_tree(random_below(i % 20 == 0 ? 1500 : 100), TREE_ALL, 60000), *back = NULL;
        struct ws_findings fitted = {0};
        uint32_t cluster = random_below(3) ? 0 : 512u << random_below(3);
        struct ws_fat_params p = {.size = (cluster == 2048   ? 280
                                           : cluster == 1024 ? 160
                                                             : 80) *
                                              (uint64_t)MIB +
                                          random_below(60 * MIB) / 512 * 512,
                                  .label = "GEZEITEN",
                                  .serial = 7,
                                  .bits = 32,
                                  .cluster = cluster,
                                  .made_at = 1790000000,
                                  .align = random_below(2) ? 65536 : 0,
                                  .hidden_sectors = random_below(2) ? 2048 : 0};
        struct ws_layout *layout = NULL;
        struct ws_source *view = NULL;
        struct ws_fat_facts facts;
        uint64_t size = 0, measured = 0, predicted = 0;
        if (i % 8 == 7) { /* drives that count in more than 512 bytes */
            p.sector = 1024u << random_below(3);
            p.cluster = random_below(2) ? 0 : p.sector;
            p.size = p.sector / 512 * 40ull * MIB + random_below(60 * MIB) / 4096 * 4096;
            if (p.hidden_sectors) p.hidden_sectors = 256;
        }
        if (i % 4 == 0) add_awkward_names(tree, random_below(i % 40 == 0 ? 4000 : 200));
        OK(ws_tree_fit_names(tree, ws_name_rules_fat(), &fitted, &error));
        OK(ws_fat_compose(&p, tree, 0, NULL, &size, &measured, &error));
        OK(ws_layout_create(p.size, &layout, &error));
        OK(ws_fat_compose(&p, tree, 0, layout, &size, &predicted, &error));
        OK(ws_layout_seal(layout, &error));
        CHECK_INT(predicted, measured);
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_fat_read(view, &back, &facts, &error));
        CHECK_INT(facts.bits, 32);
        compare_trees(back, tree, 0);
        CHECK_INT(facts.free_bytes, predicted);
        const char *path = scratch("fat32.img");
        save_layout(layout, path);
        judge(path, predicted);
        (void)unlink(path);
        ws_tree_close(back);
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
        ws_findings_free(&fitted);
    }
}

/* Files given other content, longer and shorter, on volumes of each width: the checker finds nothing, and what was not
 * touched is as it was. */
static void files_are_replaced(void) {
    static const struct {
        unsigned bits;
        uint64_t size;
    } kinds[] = {{12, 4 * MIB}, {16, 16 * MIB}, {32, 48 * MIB}};
    for (int i = 0; i < cases_of(45); i++) {
        struct ws_tree *tree = random_tree(60, 0, 20000), *seen = NULL, *after = NULL;
        struct ws_fat_params p = {.size = kinds[i % 3].size, .bits = kinds[i % 3].bits, .cluster = 2048u >> (i % 3)};
        struct ws_layout *layout = NULL;
        struct ws_source *view = NULL, *patched = NULL;
        struct ws_fat_facts facts;
        uint64_t size = 0, predicted = 0;
        OK(ws_tree_fit_names(tree, ws_name_rules_fat(), NULL, &error));
        OK(ws_tree_put(tree, "empty", "", 0, NULL, &error));
        OK(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error));
        OK(ws_layout_create(size + 8192, &layout, &error));
        OK(ws_fat_compose(&p, tree, 8192, layout, &size, &predicted, &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_source_patched(view, view->size, &patched, &error));
        struct ws_source *volume = NULL;
        OK(ws_source_slice(patched, 8192, size, &volume, &error));
        OK(ws_fat_read(volume, &seen, NULL, &error));
        for (struct ws_node *n = ws_tree_root(seen); n; n = ws_tree_next(n)) {
            char path[4096], *bytes;
            if (n->kind != WS_NODE_FILE || (random_below(3) && strcmp(n->name, "empty") != 0)) continue;
            size_t length = random_below(4) ? random_below(30000) : random_below(3) * p.cluster;
            bytes = malloc(length + 1);
            random_bytes(bytes, length);
            OK(ws_fat_replace(volume, patched, 8192, n, bytes, length, &error));
            ws_node_path(n, path, sizeof path);
            struct ws_node *other = ws_tree_find_any_case(tree, path);
            struct ws_source *content = NULL;
            OK(ws_source_memory(bytes, length, &content, &error));
            OK(ws_tree_own(tree, content, &error));
            other->content = length ? content : NULL;
            other->same_as = NULL;
            free(bytes);
        }
        OK(ws_fat_read(volume, &after, &facts, &error));
        compare_trees(after, tree, 0);
        const char *path = scratch("edited.img");
        save_source(volume, path);
        judge(path, facts.free_bytes);
        (void)unlink(path);
        uint8_t *huge = calloc(1, kinds[i % 3].size);
        struct ws_node *any = ws_tree_find(after, "empty");
        FAILS(ws_fat_replace(volume, patched, 8192, any, huge, kinds[i % 3].size, &error), WS_E_SPACE);
        free(huge);
        ws_tree_close(after);
        ws_tree_close(seen);
        ws_source_close(volume);
        ws_source_close(patched);
        ws_source_close(view);
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
}

/* From 32 MiB to 2 TiB, with every cluster that goes with the size: possible or refused in words, never in between. */
static void every_size_goes_with_its_clusters(void) {
    size_t made = 0;
    for (int i = 0; i < cases_of(60); i++) {
        uint64_t bytes =
            i == 0 ? 2ull << 40 : (uint64_t)exp2(25 + 16.0 * (double)random_below(100000) / 1e5) / 512 * 512;
        struct ws_tree *tree = NULL;
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "live/note.txt", "tide", 4, NULL, &error));
        for (uint32_t cluster = 512; cluster <= 65536; cluster *= 2) {
            struct ws_fat_params p = {.size = bytes, .bits = 32, .cluster = cluster, .made_at = 1790000000};
            struct ws_layout *layout = NULL;
            uint64_t size = 0, room = 0, clusters = bytes / cluster;
            memset(&error, 0, sizeof error);
            enum ws_status status = ws_fat_compose(&p, tree, 0, NULL, &size, &room, &error);
            if (status != WS_OK) {
                CHECK(status == WS_E_RANGE && error.what[0]);
                if (clusters > 70000 && clusters < 0x0f000000)
                    fail_at(__FILE__, __LINE__, "%llu bytes in clusters of %u: %s", (unsigned long long)bytes, cluster,
                            error.what);
                continue;
            }
            made++;
            CHECK(room < bytes && bytes - room < bytes / 20 + 16 * MIB);
            if (i % 6 || clusters > 1 << 24) continue; /* the checker takes long over many clusters */
            const char *path = scratch("sized.img");
            OK(ws_layout_create(bytes, &layout, &error));
            OK(ws_fat_compose(&p, tree, 0, layout, &size, &room, &error));
            OK(ws_layout_seal(layout, &error));
            struct ws_source *view = NULL, *spoilt = NULL;
            struct ws_fat_facts facts;
            OK(ws_layout_source(layout, &view, &error));
            OK(ws_fat_probe(view, &facts, &error));
            CHECK_INT(facts.free_bytes, room);
            CHECK(facts.clean);
            OK(ws_source_patched(view, bytes, &spoilt,
                                 &error)); /* its own count is not to be trusted: then it is counted */
            OK(ws_source_patch(spoilt, 512 + 484, "x", 1, &error));
            OK(ws_fat_probe(spoilt, &facts, &error));
            CHECK_INT(facts.free_bytes, room);
            ws_source_close(spoilt);
            ws_source_close(view);
            save_layout(layout, path);
            judge(path, room);
            (void)unlink(path);
            ws_layout_close(layout);
        }
        ws_tree_close(tree);
    }
    CHECK(made > (size_t)cases_of(60) * 5 / 2);
}

/* Not ejected, as one kind of system marks it in the boot sector, another in the table. */
static void the_mark_of_a_volume_in_use_is_seen(void) {
    static const struct {
        unsigned bits;
        uint64_t size, at;
        uint8_t bit; /* of the boot sector, set then; below byte 16: of the second entry of the table, cleared then */
    } cases[] = {{12, 2 * MIB, 37, 1},
                 {16, 32 * MIB, 37, 1},
                 {16, 32 * MIB, 3, 0x80},
                 {32, 64 * MIB, 65, 1},
                 {32, 64 * MIB, 7, 0x08}};
    struct ws_tree *tree = random_tree(20, TREE_SHORT, 20000);
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_fat_params p = {.size = cases[i].size, .bits = cases[i].bits, .made_at = 1790000000};
        struct ws_source *view = NULL, *used = NULL;
        struct ws_layout *layout = NULL;
        struct ws_fat_facts facts;
        uint64_t size, at = cases[i].at;
        uint8_t byte;
        OK(ws_layout_create(p.size, &layout, &error));
        OK(ws_fat_compose(&p, tree, 0, layout, &size, NULL, &error));
        OK(ws_layout_seal(layout, &error));
        OK(ws_layout_source(layout, &view, &error));
        OK(ws_fat_probe(view, &facts, &error));
        CHECK(facts.clean);
        OK(ws_source_patched(view, size, &used, &error));
        if (at < 16) { /* the second entry of the table */
            uint8_t boot[16];
            OK(ws_source_read(view, 0, boot, sizeof boot, &error));
            at += (uint64_t)(boot[14] | boot[15] << 8) * 512;
        }
        OK(ws_source_read(view, at, &byte, 1, &error));
        byte ^= cases[i].bit;
        OK(ws_source_patch(used, at, &byte, 1, &error));
        OK(ws_fat_probe(used, &facts, &error));
        if (facts.clean) fail_at(__FILE__, __LINE__, "FAT%u, byte %llu", cases[i].bits, (unsigned long long)at);
        ws_source_close(used);
        ws_source_close(view);
        ws_layout_close(layout);
    }
    ws_tree_close(tree);
}

static void what_fat_cannot_hold_is_said(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_source *large = NULL;
    struct ws_fat_params p = {.size = 64 * MIB, .bits = 32};
    uint64_t size;
    OK(ws_tree_create(&tree, &error));
    OK(ws_tree_put(tree, "a/Name", "x", 1, NULL, &error));
    OK(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error));
    OK(ws_tree_put(tree, "a/nAME", "x", 1, NULL, &error));
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_UNSUPPORTED);
    CHECK_HAS(error.what, "case");
    ws_tree_drop(tree, ws_tree_find(tree, "a/nAME"));
    OK(ws_tree_put(tree, "a/b:c", "x", 1, NULL, &error));
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_UNSUPPORTED);
    CHECK_HAS(error.where, "/a/b:c");
    ws_tree_drop(tree, ws_tree_find(tree, "a/b:c"));
    OK(ws_source_zeros(1ull << 32, &large, &error));
    OK(ws_tree_put(tree, "system.img", "", 0, &n, &error));
    n->content = large;
    p.size = 8ull << 30;
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_UNSUPPORTED);
    ws_source_close(large);
    OK(ws_source_zeros((1ull << 32) - 1, &large, &error)); /* one byte less is the largest there can be */
    n->content = large;
    OK(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error));
    p.size = 64 * MIB;
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_SPACE);
    p.cluster = 3000;
    FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_RANGE);
    p.cluster = 1024;
    for (p.sector = 256; p.sector <= 8192; p.sector *= 2)
        if (p.sector < 512 || p.sector > 1024)
            FAILS(ws_fat_compose(&p, tree, 0, NULL, &size, NULL, &error), WS_E_RANGE);
    ws_tree_close(tree);
    ws_source_close(large);
}

/* A volume whose sectors do not fit the field that counts them is refused here, whoever asks for it. */
static void sectors_are_counted_in_32_bits(void) {
    static const struct {
        uint64_t size;
        uint32_t sector;
        bool possible;
    } cases[] = {{2ull << 40, 512, true},  {(2ull << 40) + 512, 512, false}, {3ull << 40, 512, false},
                 {3ull << 40, 4096, true}, {12ull << 40, 4096, true},        {17ull << 40, 4096, false}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_fat_params p = {.size = cases[i].size, .bits = 32, .cluster = 65536, .sector = cases[i].sector};
        struct ws_layout *layout = NULL;
        struct ws_source *volume = NULL;
        struct ws_fat_facts facts;
        struct ws_tree *tree = NULL;
        uint64_t size = 0, room = 0;
        OK(ws_tree_create(&tree, &error));
        OK(ws_layout_create(cases[i].size, &layout, &error));
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_fat_compose(&p, tree, 0, layout, &size, &room, &error);
        if ((status == WS_OK) != cases[i].possible) fail_at(__FILE__, __LINE__, "case %zu: %s", i, error.what);
        if (status == WS_OK) { /* what it says of itself is what it is */
            OK(ws_layout_seal(layout, &error));
            OK(ws_layout_source(layout, &volume, &error));
            OK(ws_fat_probe(volume, &facts, &error));
            CHECK(cases[i].size - facts.size <= 65536 && facts.size <= cases[i].size);
            ws_source_close(volume);
        } else {
            CHECK_HAS(error.next, "exFAT");
        }
        ws_layout_close(layout);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"attributes are kept", attributes_are_kept},
        {"200 random trees come back as they were", random_trees_come_back_as_they_were},
        {"every size goes with its clusters", every_size_goes_with_its_clusters},
        {"the mark of a volume in use is seen", the_mark_of_a_volume_in_use_is_seen},
        {"what FAT cannot hold is said", what_fat_cannot_hold_is_said},
        {"sectors are counted in 32 bits", sectors_are_counted_in_32_bits},
        {"files are replaced", files_are_replaced},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
