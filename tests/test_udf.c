/* test_udf.c — UDF volumes that other programs made, read equal; damage is named. */
#include "tests/harness.h"

#include "wild_satchel/iso9660.h"
#include "wild_satchel/udf.h"

#include <unistd.h>

static bool have_judge(const char *program) {
    if (have_program(program)) return true;
    skip_test("what makes such volumes is not installed");
    return false;
}

/* A folder of random files on this machine: names, times and contents are compared. */
static void make_folder(const char *folder, int files) {
    (void)shell(NULL, "rm -rf '%s'; mkdir -p '%s'", folder, folder);
    for (int i = 0; i < files; i++) {
        char path[400];
        static const char *const places[] = {"", "/sources", "/sources/deep/deeper", "/EFI/BOOT"};
        const char *place = places[random_below(4)];
        (void)shell(NULL, "mkdir -p '%s%s'", folder, place);
        snprintf(path, sizeof path, "%s%s/%s%d.%s", folder, place, random_below(2) ? "tide chart " : "Hut-\xc3\xa9-", i,
                 random_below(2) ? "txt" : "wim");
        FILE *f = fopen(path, "wb");
        const size_t length = random_below(5) == 0 ? 0 : 1 + random_below(random_below(3) ? 5000 : 300000);
        uint8_t *bytes = malloc(length + 1);
        random_bytes(bytes, length);
        if (f) fwrite(bytes, 1, length, f);
        if (f) fclose(f);
        free(bytes);
        (void)shell(NULL, "touch -d @%llu '%s'", (unsigned long long)(1000000000 + random_below(700000000)), path);
    }
}

static void compare_folder(struct ws_tree *tree, const char *folder, bool times) {
    struct ws_tree *wanted = NULL;
    char path[1024];
    OK(ws_tree_from_folder(folder, &wanted, &error));
    CHECK_INT(ws_tree_count(tree), ws_tree_count(wanted));
    for (struct ws_node *n = ws_tree_root(wanted); n; n = ws_tree_next(n)) {
        const struct ws_node *seen = ws_tree_find(tree, ws_node_path(n, path, sizeof path));
        char a[WS_HASH_HEX] = "", b[WS_HASH_HEX] = "";
        if (!seen || seen->kind != n->kind || ws_node_size(seen) != ws_node_size(n)) {
            fail_at(__FILE__, __LINE__, "%s is missing, or another thing", path);
            continue;
        }
        if (times && n->kind == WS_NODE_FILE) CHECK_INT(seen->mtime, n->mtime);
        if (!n->content) continue;
        OK(ws_source_hash(n->content, WS_HASH_SHA256, a, &error));
        OK(ws_source_hash(seen->content, WS_HASH_SHA256, b, &error));
        CHECK_STR(b, a);
    }
    ws_tree_close(wanted);
}

static void test_bridge(void) {
    if (!have_judge("genisoimage")) return;
    for (int round = 0; round < cases_of(10); round++) {
        char *folder = strdup(scratch("folder"));
        const char *image = scratch("udf.iso");
        struct ws_source *source = NULL;
        struct ws_tree *tree = NULL;
        struct ws_udf_facts facts;
        make_folder(folder, (int)random_below(60));
        CHECK(shell(NULL, "genisoimage -quiet -udf %s -V TIDE_MEDIA -allow-limited-size -o '%s' '%s' 2>&1",
                    round % 3 == 2    ? "-U"
                    : random_below(2) ? "-R -J"
                                      : "-R",
                    image, folder) == 0);
        OK(ws_source_file(image, &source, &error));
        OK(ws_udf_read(source, &tree, &facts, &error));
        CHECK_STR(facts.label, "TIDE_MEDIA");
        CHECK_INT(facts.revision, 0x102);
        CHECK_INT(facts.block, 2048);
        compare_folder(tree, folder, true);
        ws_tree_close(tree);
        struct ws_iso *iso = NULL;
        OK(ws_iso_open(source, &iso, &error));
        CHECK(ws_iso_facts(iso)->udf && ws_iso_facts(iso)->udf_holds_more == (round % 3 == 2)); /* both hold the same */
        compare_folder(ws_iso_tree(iso), folder, true);
        ws_iso_close(iso);
        ws_source_close(source);
        (void)shell(NULL, "rm -rf '%s' '%s'", folder, image);
        free(folder);
    }
}

/* Fresh volumes of every revision and kind of medium that such programs make. */
static void test_fresh(void) {
    static const char *const media[] = {"hd -b 512", "hd -b 2048", "hd -b 4096", "dvd", "dvdram", "dvdrw",
                                        "cdrw",      "bdr",        "worm",       "cdr", "dvdr"};
    static const char *const revisions[] = {"1.02", "1.50", "2.00", "2.01", "2.50", "2.60"};
    if (!have_judge("mkudffs")) return;
    int made = 0;
    for (size_t m = 0; m < sizeof media / sizeof media[0]; m++)
        for (size_t r = 0; r < sizeof revisions / sizeof revisions[0]; r++) {
            const char *image = scratch("fresh");
            struct ws_source *source = NULL;
            struct ws_tree *tree = NULL;
            struct ws_udf_facts facts;
            (void)shell(NULL, "rm -f '%s'; truncate -s 30M '%s'", image, image);
            if (shell(NULL, "mkudffs -m %s -r %s -l 'Tide charts' '%s' >/dev/null 2>&1", media[m], revisions[r], image))
                continue;
            made++;
            OK(ws_source_file(image, &source, &error));
            if (ws_udf_read(source, &tree, &facts, &error) != WS_OK) {
                fail_at(__FILE__, __LINE__, "%s, %s: %s", media[m], revisions[r], error.what);
            } else {
                CHECK_STR(facts.label, "Tide charts");
                CHECK_INT(facts.revision, strtoul(revisions[r], NULL, 10) * 256 + strtoul(revisions[r] + 2, NULL, 16));
                CHECK(ws_tree_count(tree) <= 2); /* lost+found */
                ws_tree_close(tree);
            }
            ws_source_close(source);
        }
    CHECK(made >= 20);
}

/* Files of over 4 GiB stand on the UDF volume alone, or are cut in two for ISO 9660. */
static void test_large(void) {
    if (!have_judge("genisoimage")) return;
    char *folder = strdup(scratch("folder"));
    const char *image = scratch("large.iso");
    struct ws_source *source = NULL;
    struct ws_tree *tree = NULL;
    (void)shell(NULL,
                "mkdir -p '%s/charts'; truncate -s 4300M '%s/charts/coast.bin'; printf end >> "
                "'%s/charts/coast.bin'; echo x > '%s/readme.txt'",
                folder, folder, folder, folder);
    CHECK(shell(NULL,
                "genisoimage -quiet -udf -allow-limited-size -iso-level 3 -o - '%s' 2>/dev/null | dd of='%s' bs=1M "
                "conv=sparse 2>/dev/null",
                folder, image) == 0);
    OK(ws_source_file(image, &source, &error));
    OK(ws_udf_read(source, &tree, NULL, &error));
    const struct ws_node *n = ws_tree_find(tree, "charts/coast.bin");
    CHECK(n && ws_node_size(n) == 4300ull * 1048576 + 3);
    char end[4] = "";
    if (n) OK(ws_source_read(n->content, ws_node_size(n) - 3, end, 3, &error));
    CHECK_STR(end, "end");
    ws_tree_close(tree);
    struct ws_iso *iso = NULL; /* where its length is cut to 32 bits */
    OK(ws_iso_open(source, &iso, &error));
    CHECK(ws_iso_facts(iso)->udf_holds_more);
    n = ws_tree_find(ws_iso_tree(iso), "charts/coast.bin");
    CHECK(n && ws_node_size(n) == 4300ull * 1048576 + 3);
    ws_iso_close(iso);
    ws_source_close(source);
    (void)shell(NULL, "rm -rf '%s' '%s'", folder, image);
    free(folder);
}

static void test_damage(void) {
    if (!have_judge("genisoimage")) return;
    char *folder = strdup(scratch("folder"));
    const char *image = scratch("udf.iso");
    struct ws_source *source = NULL;
    char *bytes = NULL;
    size_t length = 0;
    make_folder(folder, 25);
    CHECK(shell(NULL, "genisoimage -quiet -udf -R -o '%s' '%s' 2>&1", image, folder) == 0);
    OK(ws_source_file(image, &source, &error));
    OK(ws_source_load(source, 64 << 20, &bytes, &length, &error));
    ws_source_close(source);
    for (int round = 0; round < cases_of(400); round++) {
        struct ws_tree *tree = NULL;
        const size_t from = random_below(2) ? 256 * 2048 : 32 * 2048, reach = 200 * 2048;
        uint8_t was[8];
        size_t at[8];
        for (int i = 0; i < 8; i++) {
            at[i] = from + random_below(reach < length - from ? reach : length - from);
            was[i] = (uint8_t)bytes[at[i]];
            bytes[at[i]] = (char)random_next();
        }
        OK(ws_source_memory(bytes, length, &source, &error));
        memset(&error, 0, sizeof error);
        if (ws_udf_read(source, &tree, NULL, &error) == WS_OK) ws_tree_close(tree);
        else CHECK(error.what[0]);
        ws_source_close(source);
        for (int i = 7; i >= 0; i--) bytes[at[i]] = (char)was[i];
    }
    free(bytes);
    free(folder);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"media with both volumes", test_bridge},
                                        {"fresh volumes of every revision", test_fresh},
                                        {"a file of over 4 GiB", test_large},
                                        {"damage is an error", test_damage},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
