/* ext4.c — an ext4 volume that gives its front, or its end: made anew beside it, its files' content where it is. */
#include "fs/room/clusters.h"
#include "wild_satchel/ext4.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { STEP = 1 << 20, BLOCK = 4096 };

/* What a layout borrows, as long as it is there. */
struct anew {
    struct ws_tree *tree;
    struct ws_ext4_geometry geometry;
};

static void anew_close(struct ws_source *source) {
    struct anew *a = source->state;
    ws_ext4_geometry_free(&a->geometry);
    ws_tree_close(a->tree);
    free(a);
}

static enum ws_status anew_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    (void)source, (void)at, (void)buffer, (void)length;
    return ws_fail(error, WS_E_RANGE, "nothing is read from here");
}

static const struct ws_source_ops anew_ops = {anew_read, anew_close, NULL};

static enum ws_status measure(struct anew *a, const struct ws_room *room, const struct ws_ext4_facts *facts,
                              uint64_t front, uint64_t back, struct ws_error *error) {
    const struct ws_ext4_params params = {.over = room->volume,
                                          .later = front,
                                          .shorter = back,
                                          .made_at = facts->made_at,
                                          .mounts = (uint16_t)facts->mounts,
                                          .grow_to = WS_EXT4_MOST};
    ws_ext4_geometry_free(&a->geometry);
    return ws_ext4_measure(&params, a->tree, &a->geometry, error);
}

/* What it says of its blocks: the superblock, and the descriptors with the checksums of its bitmaps. */
static enum ws_status hash_state(struct ws_room *room, struct ws_error *error) {
    enum { FRONT = 1 << 18 };
    struct ws_hash *hash = NULL;
    uint8_t *front = malloc(FRONT);
    if (!front) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume's state");
    enum ws_status status = ws_source_read(room->volume, 0, front, FRONT, error);
    if (status == WS_OK) status = ws_hash_open(WS_HASH_SHA256, &hash, error);
    if (status == WS_OK) {
        ws_hash_add(hash, front, FRONT);
        ws_hash_hex(hash, room->state);
    }
    ws_hash_close(hash);
    free(front);
    return status;
}

/* The largest front, or end, that it can do without, sought only where none is given, for it takes a while: more is
 * harder, but for what groups need for themselves. What it would still have free is nearly what more could go. */
static enum ws_status find_most(struct anew *a, struct ws_room *room, const struct ws_ext4_facts *facts,
                                struct ws_error *error) {
    uint64_t low = 0, high = facts->size > WS_EXT4_LEAST ? (facts->size - WS_EXT4_LEAST) / STEP + 1 : 1;
    high = ws_min_u64(high, facts->free_bytes / STEP + 1);
    uint64_t rest = facts->free_bytes / STEP;
    bool too_much = false; /* `high` was tried */
    while (high - low > 1) {
        const uint64_t half = (high - low) / 2, nearly = ws_max_u64(rest - rest / 16, 1);
        const uint64_t middle = low + ws_min_u64(nearly, too_much ? half : high - low - 1);
        const uint64_t bytes = middle * STEP;
        const enum ws_status status =
            measure(a, room, facts, room->of_back ? 0 : bytes, room->of_back ? bytes : 0, error);
        if (status == WS_OK) {
            low = middle;
            rest = a->geometry.free_bytes / STEP;
        } else if (status == WS_E_SPACE || status == WS_E_RANGE) {
            high = middle;
            rest = high - low; /* half of that is next */
            too_much = true;
        } else {
            return status;
        }
    }
    *(room->of_back ? &room->back_most : &room->most) = low * STEP;
    return WS_OK;
}

static enum ws_status put(struct anew *a, struct ws_room *room, const struct ws_ext4_facts *facts,
                          struct ws_layout *layout, bool *owned, struct ws_error *error) {
    struct ws_source *holder = NULL;
    if ((room->front | room->back) % STEP) return ws_fail(error, WS_E_RANGE, "of this volume whole MiB can go");
    const enum ws_status status = measure(a, room, facts, room->front, room->back, error);
    if (status == WS_E_SPACE) error->status = WS_E_RANGE;
    if (status != WS_OK) return status == WS_E_SPACE ? WS_E_RANGE : status;
    room->most = room->front;
    room->back_most = room->back;
    room->free_after = a->geometry.free_bytes;
    room->moved = a->geometry.data_used * BLOCK;
    struct ws_run row[WS_LOG_PIECES];
    room->spares = ws_ext4_spare_rows(&a->geometry, row, WS_LOG_PIECES);
    for (size_t i = 0; i < room->spares; i++)
        room->spare[i] = (struct ws_run){.at = row[i].at + room->front, .length = row[i].length};
    room->givens = ws_ext4_left_rows(&a->geometry, room->given, WS_LOG_PIECES);
    if (!layout) return WS_OK;
    WS_TRY(ws_source_make(&anew_ops, BLOCK, a, &holder, error));
    *owned = true;
    WS_TRY(ws_layout_own(layout, holder, error));
    return ws_ext4_compose(&a->geometry, room->at + room->front, layout, WS_PHASE_SEAL, error);
}

enum ws_status room_ext4(struct ws_room *room, struct ws_layout *layout, struct ws_error *error) {
    struct ws_ext4_facts facts;
    bool owned = false;
    if (room->file_at || room->put_name) return WS_E_NOTFOUND; /* not here */
    WS_TRY(ws_ext4_probe(room->volume, &facts, error));
    (void)snprintf(room->format, sizeof room->format, "ext4");
    (void)snprintf(room->label, sizeof room->label, "%s", facts.label);
    room->size = facts.size;
    room->step = STEP;
    room->free_bytes = facts.free_bytes;
    if (!facts.clean || facts.needs_recovery) return room_in_use(error);
    struct anew *a = calloc(1, sizeof *a);
    if (!a) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    enum ws_status status = ws_ext4_read(room->volume, &a->tree, NULL, error);
    if (status == WS_OK) status = hash_state(room, error);
    const bool goes = room->front || room->back;
    if (status == WS_OK && !goes) status = find_most(a, room, &facts, error);
    if (status == WS_OK && goes) status = put(a, room, &facts, layout, &owned, error);
    if (owned) return status;
    ws_ext4_geometry_free(&a->geometry);
    ws_tree_close(a->tree);
    free(a);
    return status;
}
