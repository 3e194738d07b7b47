/* edit.c — one file of a FAT volume given new content, as changes laid over the bytes it stands in.
 *
 * The specification's sections 4 (table), 5 (FSInfo) and 6 (folder entries). All copies of the table are changed alike.
 */
#include "fs/fat/internal.h"

#include <stdlib.h>
#include <string.h>

struct editing {
    struct fat_table table;
    struct ws_source *patched;
    uint64_t at; /* of the volume in `patched` */
    int64_t taken;
    uint32_t looked; /* no cluster before this one is free */
};

/* Set an entry in memory, and lay its bytes over every copy. */
static enum ws_status set(struct editing *e, uint32_t cluster, uint32_t value, struct ws_error *error) {
    const struct fat_shape *s = &e->table.s;
    uint8_t *fat = e->table.bytes;
    size_t at = s->bits == 12 ? cluster + cluster / 2 : s->bits / 8 * (size_t)cluster;
    size_t length = s->bits == 32 ? 4 : 2;
    if (s->bits == 12) {
        uint16_t both = ws_load_le16(fat + at);
        ws_store_le16(fat + at,
                      (uint16_t)(cluster & 1 ? (both & 0x000f) | value << 4 : (both & 0xf000) | (value & 0xfff)));
    } else if (s->bits == 16) {
        ws_store_le16(fat + at, (uint16_t)value);
    } else {
        ws_store_le32(fat + at, (ws_load_le32(fat + at) & 0xf0000000) | value);
    }
    for (uint64_t copy = 0; copy < s->fats; copy++)
        WS_TRY(ws_source_patch(e->patched, e->at + (s->reserved + copy * s->fat_sectors) * s->sector + at, fat + at,
                               length, error));
    return WS_OK;
}

static uint32_t free_cluster(struct editing *e) {
    uint32_t end = (uint32_t)e->table.s.clusters + 2;
    for (; e->looked < end; e->looked++)
        if (fat_entry(&e->table, e->looked) == 0) return e->looked;
    return 0;
}

/* Is there room for `count` clusters, of which the chain from `first` brings some? Asked before anything is changed. */
static bool has_room(const struct editing *e, uint32_t first, uint64_t count) {
    uint32_t end = (uint32_t)e->table.s.clusters + 2;
    uint64_t have = 0;
    for (uint32_t c = first; c >= 2 && c < end && have < count; c = fat_entry(&e->table, c)) have++;
    for (uint32_t c = 2; c < end && have < count; c++) have += fat_entry(&e->table, c) == 0;
    return have >= count;
}

/* The chain made `count` clusters long; what is over is set free. @return its first cluster in *first */
static enum ws_status fit_chain(struct editing *e, uint32_t *first, uint64_t count, uint32_t *chain,
                                struct ws_error *error) {
    uint32_t end = fat_end_mark(e->table.s.bits);
    uint32_t next = count ? *first : 0;
    uint32_t over = count ? 0 : *first;
    for (uint64_t i = 0; i < count; i++) {
        bool there = next >= 2 && next < e->table.s.clusters + 2;
        if (!there) {
            next = free_cluster(e);
            if (!next) return ws_fail(error, WS_E_SPACE, "the FAT volume has no free cluster left");
            WS_TRY(set(e, next, end, error));
            e->taken++;
            if (i) WS_TRY(set(e, chain[i - 1], next, error));
        }
        chain[i] = next;
        next = fat_entry(&e->table, next);
        if (i + 1 == count && next >= 2 && next < e->table.s.clusters + 2) {
            over = next;
            WS_TRY(set(e, chain[i], end, error));
        }
    }
    for (uint64_t guard = 0; over >= 2 && over < e->table.s.clusters + 2 && guard < e->table.s.clusters; guard++) {
        uint32_t follows = fat_entry(&e->table, over);
        WS_TRY(set(e, over, 0, error));
        e->taken--;
        over = follows;
    }
    *first = count ? chain[0] : 0;
    return WS_OK;
}

/* FAT32's own count of free clusters, where it keeps one. */
static enum ws_status correct_count(struct editing *e, const struct ws_source *volume, struct ws_error *error) {
    uint8_t boot[512];
    uint8_t count[4];
    if (e->table.s.bits != 32 || e->taken == 0) return WS_OK;
    WS_TRY(ws_source_read(volume, 0, boot, sizeof boot, error));
    uint64_t info = (uint64_t)ws_load_le16(boot + 48) * e->table.s.sector;
    if (info == 0 || info >= e->table.s.reserved * e->table.s.sector) return WS_OK;
    WS_TRY(ws_source_read(volume, info + 488, count, 4, error));
    if (ws_load_le32(count) == 0xffffffff) return WS_OK;
    ws_store_le32(count, (uint32_t)(ws_load_le32(count) - e->taken));
    return ws_source_patch(e->patched, e->at + info + 488, count, 4, error);
}

enum ws_status ws_fat_replace(const struct ws_source *volume, struct ws_source *patched, uint64_t at,
                              const struct ws_node *node, const void *bytes, size_t length, struct ws_error *error) {
    struct editing e = {.patched = patched, .at = at, .looked = 2};
    uint32_t *chain = NULL;
    uint8_t record[32];
    enum ws_status status;
    if (node->kind != WS_NODE_FILE || !node->work2) return ws_fail(error, WS_E_RANGE, "not a file of a FAT volume");
    WS_TRY(fat_table_open(volume, &e.table, error));
    uint32_t cluster = e.table.s.cluster;
    uint64_t count = ws_div_up(length, cluster);
    chain = calloc((size_t)count + 1, sizeof *chain);
    if (!chain) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a chain of clusters"));
    WS_GO(ws_source_read(volume, node->work2, record, sizeof record, error));
    uint32_t first = (uint32_t)node->origin;
    if (!has_room(&e, first, count))
        WS_GO(ws_fail(error, WS_E_SPACE, "the FAT volume has no room for %llu clusters", (unsigned long long)count));
    WS_GO(fit_chain(&e, &first, count, chain, error));
    for (uint64_t i = 0; i < count; i++) {
        size_t step = (size_t)ws_min_u64(cluster, length - i * cluster);
        WS_GO(ws_source_patch(patched, at + fat_data_at(&e.table.s) + (uint64_t)(chain[i] - 2) * cluster,
                              (const char *)bytes + i * cluster, step, error));
    }
    ws_store_le16(record + 26, (uint16_t)first);
    if (e.table.s.bits == 32) ws_store_le16(record + 20, (uint16_t)(first >> 16));
    ws_store_le32(record + 28, (uint32_t)length);
    WS_GO(ws_source_patch(patched, at + node->work2, record, sizeof record, error));
    status = correct_count(&e, volume, error);
done:
    free(chain);
    free(e.table.bytes);
    return status;
}
