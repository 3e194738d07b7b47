/* start_seed.c — a very small drive that the start-up code starts from, as a seed: start_seed fat|ext4|inside FILE */
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { VOLUME_AT = 128 * 512, ROOM = 17 << 20 };

/* The ext4 volume in a file of a FAT one. */
static enum ws_status put_inside(struct ws_ext4_geometry *g, struct ws_layout *layout, struct ws_error *error) {
    static struct ws_tree *outer; /* until the seed is written */
    struct ws_layout *inner = NULL;
    struct ws_source *volume = NULL;
    struct ws_node *n = NULL;
    uint64_t size = ROOM - VOLUME_AT, free_bytes;
    struct ws_fat_params p = {.size = size, .bits = 16, .cluster = 4096};
    WS_TRY(ws_tree_create(&outer, error));
    WS_TRY(ws_layout_create(WS_EXT4_LEAST, &inner, error));
    WS_TRY(ws_ext4_compose(g, 0, inner, WS_PHASE_BODY, error));
    WS_TRY(ws_layout_seal(inner, error));
    WS_TRY(ws_layout_source(inner, &volume, error));
    WS_TRY(ws_tree_put(outer, "x.ext4", "", 0, &n, error));
    n->content = volume;
    return ws_fat_compose(&p, outer, VOLUME_AT, layout, &size, &free_bytes, error);
}

static enum ws_status make(const char *fs, struct ws_layout *layout, struct ws_tree *tree, struct ws_ext4_geometry *g,
                           struct ws_error *error) {
    struct ws_start_entries entries = {calloc(1, sizeof *entries.entry), 1};
    struct ws_table table;
    struct ws_guid id = {{1}};
    uint8_t kernel[1024] = {0};
    unsigned number;
    uint64_t size = 150 * 1024, free_bytes;
    if (!entries.entry) return ws_fail(error, WS_E_NOMEM, "out of memory");
    memcpy(kernel + 0x202, "HdrS", 4);
    strcpy(entries.entry->title, "x");
    strcpy(entries.entry->linux_path, "/k");
    strcpy(entries.entry->initrd[0], "/i");
    entries.entry->initrds = 1;
    WS_TRY(ws_tree_put(tree, "k", kernel, sizeof kernel, NULL, error));
    WS_TRY(ws_tree_put(tree, "i", kernel, sizeof kernel, NULL, error));
    WS_TRY(ws_start_entries_put(tree, "", &entries, WS_CHECK_QUICK, NULL, 0, 0, error));
    ws_start_entries_free(&entries);
    struct ws_node *entry = ws_tree_find(tree, "loader/entries/0001.conf");
    if (entry && strcmp(fs, "ext4") == 0) WS_TRY(ws_tree_rename(tree, entry, "0001+3-0.conf", error)); /* tries left */
    ws_table_new_mbr(&table, ROOM, 512, 1);
    WS_TRY(ws_table_add(&table, VOLUME_AT, ROOM - VOLUME_AT, "data", &id, "x", &number, error));
    WS_TRY(ws_table_compose(&table, layout, error));
    if (strcmp(fs, "fat") == 0) {
        struct ws_fat_params p = {.size = size, .bits = 12, .cluster = 512};
        return ws_fat_compose(&p, tree, VOLUME_AT, layout, &size, &free_bytes, error);
    }
    struct ws_ext4_params p = {.size = WS_EXT4_LEAST};
    WS_TRY(ws_ext4_measure(&p, tree, g, error));
    if (strcmp(fs, "inside") == 0) return put_inside(g, layout, error);
    return ws_ext4_compose(g, VOLUME_AT, layout, WS_PHASE_BODY, error);
}

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_layout *layout = NULL;
    struct ws_tree *tree = NULL;
    struct ws_source *drive = NULL;
    struct ws_ext4_geometry g = {0};
    char *bytes = malloc(ROOM);
    if (argc < 3 || !bytes) return 2;
    bool good = ws_layout_create(ROOM, &layout, &error) == WS_OK && ws_tree_create(&tree, &error) == WS_OK &&
                make(argv[1], layout, tree, &g, &error) == WS_OK && ws_layout_seal(layout, &error) == WS_OK &&
                ws_layout_source(layout, &drive, &error) == WS_OK &&
                ws_source_read(drive, 0, bytes, ROOM, &error) == WS_OK;
    FILE *file = good ? fopen(argv[2], "wb") : NULL;
    good = file && fwrite(bytes, 1, ROOM, file) == ROOM && fclose(file) == 0;
    if (!good) fprintf(stderr, "start_seed: %s\n", error.what);
    return good ? 0 : 1;
}
