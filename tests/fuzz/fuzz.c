/* fuzz.c — every parser under a coverage-guided fuzzer. The first byte of an input chooses the parser. */
#include "port/sim/sim.h"
#include "wild_satchel/wild_satchel.h"

#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void fuzz_tree(struct ws_tree *tree) {
    char bytes[256];
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content)
            (void)ws_source_read(n->content, 0, bytes, n->content->size < 256 ? (size_t)n->content->size : 256, NULL);
}

static enum ws_status swallow(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    (void)context, (void)bytes;
    /* no more than a moment's work: a bomb is cut off as a full disk would */
    return at + length > 64u << 20 ? ws_fail(error, WS_E_SPACE, "enough") : WS_OK;
}

/* A medium whose menu is the input: entries made from it. */
static void fuzz_menu(struct ws_source *source) {
    struct ws_tree *tree = NULL;
    struct ws_node *menu = NULL;
    struct ws_start_entries entries;
    struct ws_error error;
    if (ws_tree_create(&tree, &error) != WS_OK) return;
    if (ws_tree_put(tree, "live/vmlinuz", "", 0, NULL, &error) == WS_OK &&
        ws_tree_put(tree, "live/initrd.img", "", 0, NULL, &error) == WS_OK &&
        ws_tree_put(tree, "boot/grub/grub.cfg", "", 0, &menu, &error) == WS_OK) {
        menu->content = source;
        if (ws_start_entries_of(tree, ws_live_family_find("live-boot"), "persistence", &entries, NULL, &error) ==
            WS_OK) {
            (void)ws_start_entries_put(tree, &entries, WS_CHECK_QUICK, NULL, 5, 0, &error);
            ws_start_entries_free(&entries);
        }
    }
    ws_tree_close(tree);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    struct ws_source *source = NULL;
    struct ws_tree *tree = NULL;
    struct ws_error error;
    if (size < 2) return 0;
    uint8_t which = data[0] % 13;
    data++;
    size--;
    if (ws_source_memory(data, size, &source, &error) != WS_OK) return 0;
    if (which == 0) {
        struct ws_image image;
        if (ws_image_inspect(source, &image, &error) == WS_OK) ws_image_free(&image);
    } else if (which == 1) {
        if (ws_ext4_read(source, &tree, NULL, &error) == WS_OK) fuzz_tree(tree);
    } else if (which == 2) {
        if (ws_fat_read(source, &tree, NULL, &error) == WS_OK) fuzz_tree(tree);
    } else if (which == 3) {
        struct ws_findings f = {0};
        (void)ws_table_check(source, 512, &f, &error);
        ws_findings_free(&f);
    } else if (which == 4) {
        struct ws_menu menu;
        if (ws_menu_parse((const char *)data, size, &menu, &error) == WS_OK) {
            struct ws_text out = {0};
            for (size_t i = 0; i < menu.entries; i++)
                (void)ws_menu_remember(&menu, &menu.entry[i], "persistence", NULL, &out, &error);
            ws_text_free(&out);
            (void)ws_menu_rename((const char *)data, size, WS_BY_LABEL, "X", "A LABEL", &out);
            ws_text_free(&out);
            ws_menu_free(&menu);
        }
    } else if (which == 5) {
        struct ws_plan plan;
        if (ws_plan_from_json((const char *)data, size, &plan, &error) == WS_OK) ws_plan_free(&plan);
    } else if (which == 7) {
        uint64_t unpacked;
        (void)ws_unpack(source, swallow, NULL, &unpacked, &error);
        if (ws_archive_read(source, &tree, &error) == WS_OK) fuzz_tree(tree);
    } else if (which == 8) {
        if (ws_squashfs_read(source, &tree, NULL, &error) == WS_OK) fuzz_tree(tree);
    } else if (which == 10) {
        if (ws_exfat_read(source, &tree, NULL, &error) == WS_OK) fuzz_tree(tree);
    } else if (which == 11) { /* all of the start-up code but its assembler */
        struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
        (void)ws_start_rehearse(source, &r, &error);
        ws_rehearsal_free(&r);
    } else if (which == 12) {
        fuzz_menu(source);
    } else if (which == 9) {
        struct ws_published p;
        struct ws_trial t;
        (void)ws_published_find((const char *)data, size, "curlew.iso", &p, &error);
        (void)ws_trial_from_json((const char *)data, size, &t, &error);
    } else {
        struct ws_bench *bench = malloc(sizeof *bench);
        if (bench) (void)ws_bench_parse((const char *)data, size, bench, &error);
        free(bench);
    }
    ws_tree_close(tree);
    ws_source_close(source);
    return 0;
}
