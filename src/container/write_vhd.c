/* write_vhd.c — VHD, dynamic: blocks behind each other with a footer behind the last (specification 1.0). */
#include "container/write.h"

#include <string.h>

enum { SECTOR = 512, BLOCK = 2 << 20, TABLE_AT = 3 * SECTOR };

static uint32_t sum_of(const uint8_t *bytes, size_t length) {
    uint32_t sum = 0;
    for (size_t i = 0; i < length; i++) sum += bytes[i];
    return ~sum;
}

/* "CHS Calculation", the appendix: how some programs tell a disk's size. */
static void cylinders(uint64_t sectors, uint32_t *c, uint32_t *heads, uint32_t *per_track) {
    uint32_t times;
    sectors = ws_min_u64(sectors, 65535ull * 16 * 255);
    if (sectors >= 65535ull * 16 * 63) {
        *per_track = 255;
        *heads = 16;
        times = (uint32_t)(sectors / *per_track);
    } else {
        *per_track = 17;
        times = (uint32_t)(sectors / *per_track);
        *heads = ws_max_u64((times + 1023) / 1024, 4) > UINT32_MAX ? 4 : (uint32_t)ws_max_u64((times + 1023) / 1024, 4);
        if (times >= *heads * 1024 || *heads > 16) {
            *per_track = 31;
            *heads = 16;
            times = (uint32_t)(sectors / *per_track);
        }
        if (times >= *heads * 1024) {
            *per_track = 63;
            *heads = 16;
            times = (uint32_t)(sectors / *per_track);
        }
    }
    *c = times / *heads;
}

static enum ws_status create(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id, int64_t made_at,
                             struct ws_error *error) {
    uint8_t f[SECTOR] = "conectix", h[1024] = "cxsparse";
    uint32_t c, heads, per_track;
    if (size > 2040ull << 30) return ws_fail(error, WS_E_RANGE, "a VHD ends at 2040 GiB");
    cylinders(size / SECTOR, &c, &heads, &per_track);
    const bool counted = size / SECTOR <= 65535ull * 16 * 255;
    if (counted) size = (uint64_t)c * heads * per_track * SECTOR; /* else they go by the size that is said */
    size = size / SECTOR * SECTOR;
    const uint32_t entries = (uint32_t)ws_div_up(size, BLOCK);
    ws_store_be32(f + 8, 2);
    ws_store_be32(f + 12, 0x00010000);
    ws_store_be64(f + 16, SECTOR);
    ws_store_be32(f + 24, made_at > 946684800 ? (uint32_t)(made_at - 946684800) : 0); /* since the year 2000 */
    memcpy(f + 28, "wsat", 4);
    ws_store_be32(f + 32, 0x00010000);
    memcpy(f + 36, "Wi2k", 4);
    ws_store_be64(f + 40, size);
    ws_store_be64(f + 48, size);
    ws_store_be16(f + 56, (uint16_t)c);
    f[58] = (uint8_t)heads;
    f[59] = (uint8_t)per_track;
    ws_store_be32(f + 60, 3);
    memcpy(f + 68, id->byte, 16);
    ws_store_be32(f + 64, sum_of(f, SECTOR));
    ws_store_be64(h + 8, UINT64_MAX);
    ws_store_be64(h + 16, TABLE_AT);
    ws_store_be32(h + 24, 0x00010000);
    ws_store_be32(h + 28, entries);
    ws_store_be32(h + 32, BLOCK);
    ws_store_be32(h + 36, sum_of(h, sizeof h));
    WS_TRY(disk_put(file, 0, f, SECTOR, error));
    WS_TRY(disk_put(file, SECTOR, h, sizeof h, error));
    const uint64_t end = TABLE_AT + ws_round_up(entries * 4ull, SECTOR);
    uint8_t none[SECTOR];
    memset(none, 0xff, sizeof none);
    for (uint64_t at = TABLE_AT; at < end; at += SECTOR) WS_TRY(disk_put(file, at, none, SECTOR, error));
    return disk_put(file, end, f, SECTOR, error);
}

static enum ws_status open(struct ws_disk *d, struct ws_error *error) {
    uint8_t f[SECTOR], h[1024];
    if (d->file->ops->size(d->file) < 4 * SECTOR) return WS_E_NOTFOUND;
    WS_TRY(disk_get(d->file, 0, f, SECTOR, error));
    if (memcmp(f, "conectix", 8) != 0) { /* one that is fixed has no copy in front */
        WS_TRY(disk_get(d->file, d->file->ops->size(d->file) / SECTOR * SECTOR - SECTOR, f, SECTOR, error));
        return memcmp(f, "conectix", 8) == 0 && ws_load_be32(f + 60) == 2 ? disk_only_read(error) : WS_E_NOTFOUND;
    }
    if (ws_load_be32(f + 60) != 3 || ws_load_be64(f + 16) != SECTOR) return disk_only_read(error);
    WS_TRY(disk_get(d->file, SECTOR, h, sizeof h, error));
    d->size = ws_load_be64(f + 48) / SECTOR * SECTOR;
    d->units = ws_div_up(d->size, BLOCK);
    if (memcmp(h, "cxsparse", 8) != 0 || ws_load_be32(h + 32) != BLOCK || ws_load_be64(h + 16) != TABLE_AT ||
        ws_load_be32(h + 28) < d->units || d->size == 0 || d->size > 2040ull << 30)
        return disk_only_read(error);
    d->unit = BLOCK;
    d->before = BLOCK / SECTOR / 8;
    d->align = SECTOR;
    d->table[0] = TABLE_AT;
    d->end = TABLE_AT + ws_round_up(ws_load_be32(h + 28) * 4ull, SECTOR);
    return WS_OK;
}

static uint64_t entry_at(const struct ws_disk *d, uint64_t unit) { return d->table[0] + unit * 4; }

static bool decode(const struct ws_disk *d, const uint8_t *raw, uint64_t *place) {
    const uint32_t entry = ws_load_be32(raw);
    *place = entry == UINT32_MAX ? 0 : (uint64_t)entry * SECTOR + d->before;
    return true;
}

static void encode(const struct ws_disk *d, uint64_t place, uint8_t *raw) {
    ws_store_be32(raw, place ? (uint32_t)((place - d->before) / SECTOR) : UINT32_MAX);
}

/* The footer behind all: until it stands there, its copy in front counts. */
static enum ws_status finish(struct ws_disk *d, struct ws_error *error) {
    uint8_t f[SECTOR];
    WS_TRY(disk_get(d->file, 0, f, SECTOR, error));
    return disk_put(d->file, d->end, f, SECTOR, error);
}

const struct disk_format disk_vhd = {"vhd", 4, create, open, entry_at, decode, encode, NULL, finish};
