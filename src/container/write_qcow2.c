/* write_qcow2.c — qcow2 version 3, made with all its tables in a row before the first cluster: what is written later
 * is only entries, and counts of one for each new cluster. */
#include "container/write.h"

#include <string.h>

enum { HEAD = 104, COUNTS_PER = 2 }; /* a count takes two bytes */

/* Where everything stands, in clusters: head, table of counts, counts, first table, second tables. */
struct shape {
    uint64_t unit, units, count_blocks, l1, l2, first;
};

static void shape_of(uint64_t size, struct shape *s) {
    s->unit = size <= 256ull << 30 ? 65536 : 1 << 20;
    s->units = ws_div_up(size, s->unit);
    s->l2 = ws_div_up(s->units, s->unit / 8);
    s->l1 = ws_div_up(s->l2 * 8, s->unit);
    s->count_blocks = 1;
    for (int i = 0; i < 4; i++) { /* counts of their own clusters, too */
        const uint64_t all = 2 + s->count_blocks + s->l1 + s->l2 + s->units;
        s->count_blocks = ws_div_up(all, s->unit / COUNTS_PER);
    }
    s->first = 2 + s->count_blocks + s->l1 + s->l2;
}

/* A row of big-endian numbers, `each` further from one to the next. */
static enum ws_status put_row(const struct ws_disk_file *file, uint64_t at, size_t entry, uint64_t first, uint64_t each,
                              uint64_t count, struct ws_error *error) {
    uint8_t raw[4096];
    const uint64_t room = sizeof raw / entry;
    for (uint64_t i = 0; i < count;) {
        const uint64_t n = ws_min_u64(room, count - i);
        for (uint64_t k = 0; k < n; k++) {
            if (entry == 8) ws_store_be64(raw + k * 8, first + (i + k) * each);
            else ws_store_be16(raw + k * 2, (uint16_t)first);
        }
        WS_TRY(disk_put(file, at + i * entry, raw, (size_t)n * entry, error));
        i += n;
    }
    return WS_OK;
}

static enum ws_status create(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id, int64_t made_at,
                             struct ws_error *error) {
    struct shape s;
    uint8_t h[HEAD + 8] = "QFI\xfb";
    (void)id, (void)made_at;
    size = size / 512 * 512;
    shape_of(size, &s);
    if (s.count_blocks * 8 > s.unit || s.l1 * s.unit > 32 << 20)
        return ws_fail(error, WS_E_RANGE, "a virtual disk of this size is not made here");
    ws_store_be32(h + 4, 3);
    ws_store_be32(h + 20, s.unit == 65536 ? 16 : 20);
    ws_store_be64(h + 24, size);
    ws_store_be32(h + 36, (uint32_t)s.l2);
    ws_store_be64(h + 40, (2 + s.count_blocks) * s.unit);
    ws_store_be64(h + 48, s.unit);
    ws_store_be32(h + 56, 1); /* clusters of the table of counts */
    ws_store_be32(h + 96, 4); /* counts of 2^4 bits */
    ws_store_be32(h + 100, HEAD);
    WS_TRY(disk_put(file, 0, h, sizeof h, error));
    WS_TRY(put_row(file, s.unit, 8, 2 * s.unit, s.unit, s.count_blocks, error));
    WS_TRY(put_row(file, 2 * s.unit, 2, 1, 0, s.first, error));
    WS_TRY(put_row(file, (2 + s.count_blocks) * s.unit, 8, (1ull << 63) | ((2 + s.count_blocks + s.l1) * s.unit),
                   s.unit, s.l2, error));
    return disk_put_zeros(file, s.first * s.unit - 1, 1, error);
}

/* Only what stands as create() has it. */
static enum ws_status open(struct ws_disk *d, struct ws_error *error) {
    struct shape s;
    uint8_t h[HEAD], raw[16];
    if (d->file->ops->size(d->file) < sizeof h) return WS_E_NOTFOUND;
    WS_TRY(disk_get(d->file, 0, h, sizeof h, error));
    if (memcmp(h, "QFI\xfb", 4) != 0) return WS_E_NOTFOUND;
    d->size = ws_load_be64(h + 24);
    if (d->size == 0 || d->size > 1ull << 50) return disk_only_read(error);
    shape_of(d->size, &s);
    const bool same = ws_load_be32(h + 4) == 3 && ws_load_be64(h + 8) == 0 &&
                      1ull << (ws_load_be32(h + 20) & 63) == s.unit && ws_load_be32(h + 32) == 0 &&
                      ws_load_be32(h + 36) == s.l2 && ws_load_be64(h + 40) == (2 + s.count_blocks) * s.unit &&
                      ws_load_be64(h + 48) == s.unit && ws_load_be32(h + 60) == 0 &&
                      (ws_load_be64(h + 72) & ~1ull) == 0 && ws_load_be32(h + 96) == 4;
    if (!same) return disk_only_read(error);
    const uint64_t l1 = (2 + s.count_blocks) * s.unit;
    WS_TRY(disk_get(d->file, l1 + (s.l2 - 1) * 8, raw, 8, error));
    WS_TRY(disk_get(d->file, s.unit + (s.count_blocks - 1) * 8, raw + 8, 8, error));
    if (ws_load_be64(raw) != ((1ull << 63) | ((2 + s.count_blocks + s.l1 + s.l2 - 1) * s.unit)) ||
        ws_load_be64(raw + 8) != (1 + s.count_blocks) * s.unit)
        return disk_only_read(error);
    d->unit = d->align = s.unit;
    d->units = s.units;
    d->table[0] = (2 + s.count_blocks + s.l1) * s.unit;
    d->end = s.first * s.unit;
    return WS_OK;
}

static uint64_t entry_at(const struct ws_disk *d, uint64_t unit) { return d->table[0] + unit * 8; }

static bool decode(const struct ws_disk *d, const uint8_t *raw, uint64_t *place) {
    const uint64_t entry = ws_load_be64(raw);
    *place = entry & 0x00fffffffffffe00ull;
    if (entry == 0) return true;
    return entry >> 63 && !(entry & (1ull << 62 | 1)) && *place && *place % d->unit == 0;
}

static void encode(const struct ws_disk *d, uint64_t place, uint8_t *raw) {
    (void)d;
    ws_store_be64(raw, place ? place | 1ull << 63 : 0);
}

/* Each new cluster is used once. */
static enum ws_status finish(struct ws_disk *d, struct ws_error *error) {
    const uint64_t from = d->flushed_end / d->unit, to = d->end / d->unit;
    return put_row(d->file, 2 * d->unit + from * COUNTS_PER, 2, 1, 0, to - from, error);
}

const struct disk_format disk_qcow2 = {"qcow2", 8, create, open, entry_at, decode, encode, NULL, finish};
