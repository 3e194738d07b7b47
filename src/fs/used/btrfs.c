/* btrfs.c — Btrfs on one device: all that is in use lies in its chunks (Linux, uapi/linux/btrfs_tree.h; "On-disk
 * format" of its documentation). Trees are never changed in place: what the superblock leads to is whole at any time.
 */
#include "fs/used/internal.h"

#include <stdlib.h>
#include <string.h>

enum {
    SUPER_AT = 65536,
    SUPER = 4096,
    FIRST = 1 << 20, /* kept free of chunks, for loaders */
    NODE_MOST = 65536,
    NODE_HEAD = 101,
    CHUNK_ITEM = 228,
    CHUNKS_MOST = 1 << 20,
    SYSTEM_MOST = 64, /* chunks in the superblock */
    STRIPE = 32       /* bytes: device, place, its identifier */
};
/* Features that leave chunks as they are; the others make zones of them, or another tree say more. */
static const uint64_t known_features = 0x10fff;
static const uint64_t profiles = 0x7f8, twice = 0x20;

struct btrfs {
    struct used *used;
    uint8_t super[SUPER];
    uint64_t fsid_at; /* in the superblock: what tree blocks have */
    uint32_t node;
    struct {
        uint64_t logical, length, at;
    } system[SYSTEM_MOST];
    size_t systems;
    size_t chunks, nodes;
};

static bool sum_is_right(const uint8_t *block, size_t length) {
    return ~ws_crc32c(~0u, block + 32, length - 32) == ws_load_le32(block);
}

/* A chunk: length, type, and where each of its copies lies on the device. */
static enum ws_status take_chunk(struct btrfs *b, uint64_t logical, const uint8_t *c, size_t size, bool system) {
    if (size < 48) return used_damaged(b->used, "a chunk is cut short");
    const uint64_t length = ws_load_le64(c), type = ws_load_le64(c + 24);
    const size_t copies = ws_load_le16(c + 44);
    if (copies == 0 || size < 48 + copies * STRIPE) return used_damaged(b->used, "a chunk is cut short");
    if ((type & profiles) & ~twice) return used_unsure(b->used, "it is spread over devices");
    for (size_t i = 0; i < copies; i++) {
        const uint8_t *s = c + 48 + i * STRIPE;
        const uint64_t at = ws_load_le64(s + 8);
        if (ws_load_le64(s) != ws_load_le64(b->super + 0xc9)) return used_unsure(b->used, "it is spread over devices");
        if (!ws_inside(at, length, b->used->volume->size)) return used_damaged(b->used, "a chunk lies behind its end");
        WS_TRY(used_add(b->used, at, length));
        if (i || !system) continue;
        if (b->systems == SYSTEM_MOST) return used_damaged(b->used, "it has too many system chunks");
        b->system[b->systems].logical = logical;
        b->system[b->systems].length = length;
        b->system[b->systems++].at = at;
    }
    return ++b->chunks <= CHUNKS_MOST ? WS_OK : used_damaged(b->used, "it has too many chunks");
}

/* Those that hold the tree of all the others. */
static enum ws_status take_system_chunks(struct btrfs *b) {
    const uint8_t *p = b->super + 0x32b, *end = p + ws_min_u64(ws_load_le32(b->super + 0xa0), 2048);
    while (end - p >= 17 + 48) {
        const size_t size = 48 + (size_t)ws_load_le16(p + 17 + 44) * STRIPE;
        if (p[8] != CHUNK_ITEM || (size_t)(end - p) < 17 + size)
            return used_damaged(b->used, "its list of system chunks is");
        WS_TRY(take_chunk(b, ws_load_le64(p + 9), p + 17, size, true));
        p += 17 + size;
    }
    return WS_OK;
}

static enum ws_status read_node(struct btrfs *b, uint64_t logical, unsigned level, uint8_t *node) {
    for (size_t i = 0; i < b->systems; i++) {
        const uint64_t from = logical - b->system[i].logical;
        if (logical < b->system[i].logical || !ws_inside(from, b->node, b->system[i].length)) continue;
        WS_TRY(used_read(b->used, b->system[i].at + from, node, b->node));
        if (!sum_is_right(node, b->node) || ws_load_le64(node + 48) != logical || node[100] != level ||
            memcmp(node + 32, b->super + b->fsid_at, 16) != 0)
            return used_damaged(b->used, "the tree of its chunks is");
        return WS_OK;
    }
    return used_damaged(b->used, "the tree of its chunks lies in none");
}

static enum ws_status walk(struct btrfs *b, uint64_t logical, unsigned level) {
    uint8_t *node = malloc(b->node);
    if (!node) return ws_fail(b->used->error, WS_E_NOMEM, "out of memory for a volume's chunks");
    enum ws_status status = ++b->nodes > CHUNKS_MOST ? used_damaged(b->used, "the tree of its chunks has no end")
                                                     : read_node(b, logical, level, node);
    const uint32_t count = status == WS_OK ? ws_load_le32(node + 96) : 0;
    const uint32_t item = level ? 33 : 25;
    if (count > (b->node - NODE_HEAD) / item) status = used_damaged(b->used, "the tree of its chunks is");
    for (uint32_t i = 0; i < count && status == WS_OK; i++) {
        const uint8_t *p = node + NODE_HEAD + (size_t)i * item;
        if (level) {
            status = walk(b, ws_load_le64(p + 17), level - 1);
        } else if (p[8] == CHUNK_ITEM) {
            const uint64_t at = NODE_HEAD + (uint64_t)ws_load_le32(p + 17), size = ws_load_le32(p + 21);
            status = ws_inside(at, size, b->node) ? take_chunk(b, ws_load_le64(p + 9), node + at, (size_t)size, false)
                                                  : used_damaged(b->used, "the tree of its chunks is");
        }
    }
    free(node);
    return status;
}

enum ws_status used_by_btrfs(struct used *u) {
    struct btrfs b = {.used = u};
    if (u->volume->size < FIRST) return WS_E_NOTFOUND;
    WS_TRY(used_read(u, SUPER_AT, b.super, SUPER));
    if (memcmp(b.super + 0x40, "_BHRfS_M", 8) != 0) return WS_E_NOTFOUND;
    const uint64_t features = ws_load_le64(b.super + 0xbc);
    const unsigned level = b.super[0xc7];
    b.node = ws_load_le32(b.super + 0x94);
    b.fsid_at = features & 0x400 ? 0x23b : 0x20; /* where another identifier is shown than the one it was made with */
    if (ws_load_le16(b.super + 0xc4) != 0) return used_unsure(u, "its checksums are of a kind not known here");
    if (!sum_is_right(b.super, SUPER)) return used_damaged(u, "its superblock is");
    if (features & ~known_features) return used_unsure(u, "it has features not known here");
    if (ws_load_le64(b.super + 0x88) != 1) return used_unsure(u, "it is spread over devices");
    if (b.node < 4096 || b.node > NODE_MOST || b.node % 4096 || level > 7) return used_damaged(u, "its superblock is");
    WS_TRY(used_add(u, 0, FIRST));
    for (uint64_t copy = 64ull << 20; copy < u->volume->size && copy <= 256ull << 30; copy <<= 12)
        WS_TRY(used_add(u, copy, SUPER));
    WS_TRY(take_system_chunks(&b));
    return walk(&b, ws_load_le64(b.super + 0x58), level);
}
