/* xfs.c — XFS: each of its groups lists what is free in it ("XFS Filesystem Structure", "Allocation Groups", "AG Free
 * Space B+trees", "Journaling Log"). What the list says is whole where the log ends with an unmount. */
#include "fs/used/internal.h"

#include <stdlib.h>
#include <string.h>

enum {
    BLOCK_MOST = 65536,
    GROUPS_MOST = 1 << 20,
    LEVELS_MOST = 9,
    LOG_BLOCK = 512,
    LOG_STEP = 1 << 20,

    UNMOUNT = 0x20 /* of a log operation's flags */
};
#define NO_BLOCK 0xffffffffu
#define RECORD_MAGIC 0xfeedbabeu

struct xfs {
    struct used *used;
    uint64_t blocks;
    uint32_t block, sector, group_blocks, groups;
    unsigned group_shift;
    bool sums; /* version 5 */
    uint8_t *node;
};

static enum ws_status take_super(struct xfs *x, const uint8_t *s) {
    x->block = ws_load_be32(s + 4);
    x->blocks = ws_load_be64(s + 8);
    x->group_blocks = ws_load_be32(s + 84);
    x->groups = ws_load_be32(s + 88);
    x->sector = ws_load_be16(s + 102);
    x->group_shift = s[124];
    x->sums = (ws_load_be16(s + 100) & 15) == 5;
    if (x->block < 512 || x->block > BLOCK_MOST || x->block & (x->block - 1) || x->sector < 512 || x->sector > 32768 ||
        x->group_blocks == 0 || x->group_shift > 31 || x->groups == 0 || x->groups > GROUPS_MOST ||
        x->blocks > x->used->volume->size / x->block || ws_div_up(x->blocks, x->group_blocks) != x->groups)
        return used_damaged(x->used, "its superblock is");
    if (s[126]) return used_unsure(x->used, "it was being made when something cut that short");
    if (ws_load_be64(s + 16) || !ws_load_be64(s + 48)) return used_unsure(x->used, "it is spread over devices");
    if (x->sums && ws_load_be32(s + 216) & 0x10) return used_unsure(x->used, "it says that it needs a repair");
    if (x->sums && ws_load_be32(s + 216) & ~0xffu) return used_unsure(x->used, "it has features not known here");
    return WS_OK;
}

/* The newest record of the log, by its number: cycle and block. */
static enum ws_status find_newest(const struct xfs *x, uint64_t log, uint64_t length, uint64_t *at) {
    uint8_t *room = malloc(LOG_STEP);
    uint64_t newest = 0;
    enum ws_status status = room ? WS_OK : ws_fail(x->used->error, WS_E_NOMEM, "out of memory for a volume's log");
    *at = length;
    for (uint64_t from = 0; from < length && status == WS_OK; from += LOG_STEP) {
        const size_t n = (size_t)ws_min_u64(LOG_STEP, length - from);
        status = used_read(x->used, log + from, room, n);
        for (size_t i = 0; i + LOG_BLOCK <= n && status == WS_OK; i += LOG_BLOCK) {
            const uint64_t number = ws_load_be64(room + i + 16);
            if (ws_load_be32(room + i) != RECORD_MAGIC || number < newest) continue;
            if ((number & 0xffffffff) != (from + i) / LOG_BLOCK || number >> 32 != ws_load_be32(room + i + 4)) continue;
            newest = number;
            *at = from + i;
        }
    }
    free(room);
    return status;
}

/* Is the last thing that it says that the volume was unmounted? */
static enum ws_status check_log(const struct xfs *x, const uint8_t *s) {
    const uint64_t start = ws_load_be64(s + 48), length = (uint64_t)ws_load_be32(s + 96) * x->block;
    const uint64_t group = start >> x->group_shift, inside = start & ((1ull << x->group_shift) - 1);
    const uint64_t log = (group * x->group_blocks + inside) * x->block;
    uint8_t head[LOG_BLOCK], data[LOG_BLOCK];
    uint64_t at;
    if (group >= x->groups || !ws_inside(log, length, x->used->volume->size) || length < LOG_BLOCK)
        return used_damaged(x->used, "its log lies behind its end");
    WS_TRY(find_newest(x, log, length, &at));
    if (at == length) return used_unsure(x->used, "its log could not be read");
    WS_TRY(used_read(x->used, log + at, head, sizeof head));
    uint32_t heads = 1;
    if (ws_load_be32(head + 8) & 2) heads = (uint32_t)ws_max_u64(1, ws_div_up(ws_load_be32(head + 320), 32768));
    const uint64_t body = (at + (uint64_t)heads * LOG_BLOCK) % length;
    WS_TRY(used_read(x->used, log + body, data, sizeof data));
    if (ws_load_be32(head + 40) != 1 || !(data[9] & UNMOUNT))
        return used_unsure(x->used, "it was not unmounted in order");
    return WS_OK;
}

static enum ws_status bad_list(const struct xfs *x) { return used_damaged(x->used, "a list of free blocks is"); }

static enum ws_status read_node(const struct xfs *x, uint64_t group_at, uint32_t block, unsigned level) {
    WS_TRY(used_read(x->used, group_at + (uint64_t)block * x->block, x->node, x->block));
    if (memcmp(x->node, x->sums ? "AB3B" : "ABTB", 4) != 0 || ws_load_be16(x->node + 4) != level) return bad_list(x);
    return WS_OK;
}

/* Down to the first leaf, and from there from one to the next: what lies between free stretches is in use. */
static enum ws_status take_group(struct xfs *x, uint32_t group) {
    const uint64_t first = (uint64_t)group * x->group_blocks, at = first * x->block;
    const uint64_t blocks = ws_min_u64(x->group_blocks, x->blocks - first);
    const uint32_t head = x->sums ? 56 : 16;
    uint8_t list[64];
    uint64_t used = 0, leaves = 0;
    WS_TRY(used_read(x->used, at + x->sector, list, sizeof list));
    uint32_t block = ws_load_be32(list + 16), levels = ws_load_be32(list + 28);
    if (memcmp(list, "XAGF", 4) != 0 || ws_load_be32(list + 8) != group || ws_load_be32(list + 12) != blocks ||
        levels == 0 || levels > LEVELS_MOST)
        return bad_list(x);
    while (levels-- > 1) {
        WS_TRY(read_node(x, at, block, levels));
        block = ws_load_be32(x->node + head + (size_t)((x->block - head) / 12) * 8);
    }
    for (; block != NO_BLOCK; block = ws_load_be32(x->node + 12)) {
        WS_TRY(read_node(x, at, block, 0));
        const uint32_t records = ws_load_be16(x->node + 6);
        if (records > (x->block - head) / 8 || ++leaves > blocks) return bad_list(x);
        for (uint32_t i = 0; i < records; i++) {
            const uint32_t from = ws_load_be32(x->node + head + 8 * i),
                           count = ws_load_be32(x->node + head + 8 * i + 4);
            if (from < used || !ws_inside(from, count, blocks)) return bad_list(x);
            WS_TRY(used_add(x->used, at + used * x->block, (from - used) * x->block));
            used = (uint64_t)from + count;
        }
    }
    return used_add(x->used, at + used * x->block, (blocks - used) * x->block);
}

enum ws_status used_by_xfs(struct used *u) {
    struct xfs x = {.used = u};
    uint8_t s[512];
    if (u->volume->size < 1 << 20) return WS_E_NOTFOUND;
    WS_TRY(used_read(u, 0, s, sizeof s));
    if (memcmp(s, "XFSB", 4) != 0) return WS_E_NOTFOUND;
    WS_TRY(take_super(&x, s));
    WS_TRY(check_log(&x, s));
    x.node = malloc(x.block);
    enum ws_status status = x.node ? WS_OK : ws_fail(u->error, WS_E_NOMEM, "out of memory for a volume's lists");
    for (uint32_t i = 0; i < x.groups && status == WS_OK; i++) status = take_group(&x, i);
    free(x.node);
    return status;
}
