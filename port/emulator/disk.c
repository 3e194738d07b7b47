/* disk.c — the disk inside an emulated PC, which a drive that is started there should leave alone. */
#include "port/emulator/internal.h"

#include "wild_satchel/ext4.h"
#include "wild_satchel/port/linux.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* A volume that any system would mount if it mounts what it finds. */
static enum ws_status lay_out(struct ws_tree **tree, struct ws_ext4_geometry *g, struct ws_layout **layout,
                              struct ws_source **source, struct ws_error *error) {
    static const char notes[] = "What is on this disk is nobody's business but its owner's.\n";
    struct ws_ext4_params p = {.size = EMULATOR_DISK_SECTORS * 512ull, .label = "office"};
    memset(p.id.byte, 0x0f, sizeof p.id.byte);
    WS_TRY(ws_tree_create(tree, error));
    WS_TRY(ws_tree_put(*tree, "home/office/notes.txt", notes, sizeof notes - 1, NULL, error));
    WS_TRY(ws_ext4_measure(&p, *tree, g, error));
    WS_TRY(ws_layout_create(p.size, layout, error));
    WS_TRY(ws_ext4_compose(g, 0, *layout, WS_PHASE_BODY, error));
    WS_TRY(ws_layout_seal(*layout, error));
    return ws_layout_source(*layout, source, error);
}

static enum ws_status write_out(int file, const struct ws_source *source, struct ws_error *error) {
    static uint8_t bytes[1 << 20];
    for (uint64_t at = 0; at < source->size; at += sizeof bytes) {
        size_t n = source->size - at < sizeof bytes ? (size_t)(source->size - at) : sizeof bytes;
        WS_TRY(ws_source_read(source, at, bytes, n, error));
        if (pwrite(file, bytes, n, (off_t)at) != (ssize_t)n)
            return ws_fail(error, WS_E_WRITE, "a disk for the emulated PC cannot be made: %s", strerror(errno));
    }
    return WS_OK;
}

enum ws_status emulator_make_disk(char path[64], char sha256[WS_HASH_HEX], struct ws_error *error) {
    struct ws_tree *tree = NULL;
    struct ws_ext4_geometry g = {0};
    struct ws_layout *layout = NULL;
    struct ws_source *source = NULL;
    (void)snprintf(path, 64, "/tmp/satchel-disk-XXXXXX");
    int file = mkstemp(path);
    if (file < 0) {
        path[0] = '\0';
        return ws_fail(error, WS_E_WRITE, "a disk for the emulated PC cannot be made: %s", strerror(errno));
    }
    enum ws_status status = lay_out(&tree, &g, &layout, &source, error);
    if (status == WS_OK) status = write_out(file, source, error);
    if (status == WS_OK) status = ws_source_hash(source, WS_HASH_SHA256, sha256, error);
    close(file);
    if (status != WS_OK) {
        (void)unlink(path);
        path[0] = '\0';
    }
    ws_source_close(source);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    return status;
}

enum ws_status emulator_is_disk_touched(const char *path, const char *sha256, bool *touched, struct ws_error *error) {
    struct ws_source *source = NULL;
    char now[WS_HASH_HEX];
    WS_TRY(ws_source_file(path, &source, error));
    enum ws_status status = ws_source_hash(source, WS_HASH_SHA256, now, error);
    ws_source_close(source);
    *touched = status == WS_OK && strcmp(now, sha256) != 0;
    return status;
}
