/* write_vhdx.c — VHDX, dynamic: blocks behind its regions, whole ones only; its log stays empty (MS-VHDX). */
#include "container/write.h"

#include <stdio.h>
#include <string.h>

enum {
    MIB = 1 << 20,
    BLOCK = 2 << 20,
    HEADER_AT = 64 << 10,
    HEADER = 4096,
    REGIONS_AT = 192 << 10,
    REGIONS = 64 << 10,
    ITEMS_AT = 2 << 20,
    BLOCKS_AT = 3 << 20,
    LOG_AT = 1 << 20,
    RATIO = 2048,
    WHOLE = 6
};

static void put_guid(uint8_t *to, const char *text) {
    struct ws_guid id;
    (void)ws_guid_parse(text, &id);
    ws_guid_to_disk(&id, to);
}

static uint64_t entries_of(uint64_t size) {
    const uint64_t blocks = ws_div_up(size, BLOCK);
    return blocks + (blocks - 1) / RATIO;
}
static uint64_t first_block(uint64_t size) { return BLOCKS_AT + ws_round_up(entries_of(size) * 8, MIB); }

static enum ws_status put_header(const struct ws_disk_file *file, unsigned which, uint64_t sequence,
                                 const struct ws_guid *id, struct ws_error *error) {
    uint8_t h[HEADER] = "head";
    ws_store_le64(h + 8, sequence);
    ws_guid_to_disk(id, h + 16);
    ws_guid_to_disk(id, h + 32);
    ws_store_le16(h + 66, 1);
    ws_store_le32(h + 68, MIB);
    ws_store_le64(h + 72, LOG_AT);
    ws_store_le32(h + 4, ~ws_crc32c(~0u, h, sizeof h));
    return disk_put(file, HEADER_AT * (which + 1ull), h, sizeof h, error);
}

static enum ws_status put_regions(const struct ws_disk_file *file, uint64_t size, struct ws_error *error) {
    static uint8_t const none[REGIONS];
    uint8_t t[4096] = "regi";
    ws_store_le32(t + 8, 2);
    put_guid(t + 16, "2dc27766-f623-4200-9d64-115e9bfd4a08");
    ws_store_le64(t + 32, BLOCKS_AT);
    ws_store_le32(t + 40, (uint32_t)ws_round_up(entries_of(size) * 8, MIB));
    ws_store_le32(t + 44, 1);
    put_guid(t + 48, "8b7ca206-4790-4b9a-b8fe-575f050f886e");
    ws_store_le64(t + 64, ITEMS_AT);
    ws_store_le32(t + 72, MIB);
    ws_store_le32(t + 76, 1);
    ws_store_le32(t + 4, ~ws_crc32c(ws_crc32c(~0u, t, sizeof t), none, REGIONS - sizeof t));
    for (unsigned i = 0; i < 2; i++) {
        WS_TRY(disk_put(file, REGIONS_AT + (uint64_t)i * REGIONS, t, sizeof t, error));
        WS_TRY(disk_put_zeros(file, REGIONS_AT + (uint64_t)i * REGIONS + sizeof t, REGIONS - sizeof t, error));
    }
    return WS_OK;
}

/* 2.6: a table, and from 64 KiB on the values. */
static enum ws_status put_items(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id,
                                struct ws_error *error) {
    static const struct {
        const char *id;
        uint32_t at, length, flags;
    } items[] = {{"caa16737-fa36-4d43-b3b6-33f0aa44e76b", 0x10000, 8, 4},  /* block, and whether it builds on another */
                 {"2fa54224-cd1b-4876-b211-5dbed83bf4b8", 0x10008, 8, 6},  /* size */
                 {"beca12ab-b2e6-4523-93ef-c309e000c746", 0x10010, 16, 6}, /* the disk's own identifier */
                 {"8141bf1d-a96f-4709-ba47-f233a8faab5f", 0x10020, 4, 6},  /* sectors, as it is addressed */
                 {"cda348c7-445d-4471-9cc9-e9885251c556", 0x10024, 4, 6}}; /* and as it is written best */
    uint8_t t[32 + 5 * 32] = "metadata", v[40] = {0};
    ws_store_le16(t + 10, 5);
    for (unsigned i = 0; i < 5; i++) {
        uint8_t *e = t + 32 + 32 * (size_t)i;
        put_guid(e, items[i].id);
        ws_store_le32(e + 16, items[i].at);
        ws_store_le32(e + 20, items[i].length);
        ws_store_le32(e + 24, items[i].flags);
    }
    ws_store_le32(v, BLOCK);
    ws_store_le64(v + 8, size);
    ws_guid_to_disk(id, v + 16);
    ws_store_le32(v + 32, 512);
    ws_store_le32(v + 36, 4096);
    WS_TRY(disk_put(file, ITEMS_AT, t, sizeof t, error));
    return disk_put(file, ITEMS_AT + 0x10000, v, sizeof v, error);
}

static enum ws_status create(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id, int64_t made_at,
                             struct ws_error *error) {
    uint8_t first[520] = "vhdxfile";
    static const char maker[] = "Wild Satchel";
    (void)made_at;
    size = size / 512 * 512;
    if (size > 64ull << 40) return ws_fail(error, WS_E_RANGE, "a VHDX ends at 64 TiB");
    for (size_t i = 0; i < sizeof maker - 1; i++) first[8 + 2 * i] = (uint8_t)maker[i];
    WS_TRY(disk_put(file, 0, first, sizeof first, error));
    WS_TRY(put_header(file, 0, 1, id, error));
    WS_TRY(put_header(file, 1, 0, id, error));
    WS_TRY(put_regions(file, size, error));
    WS_TRY(put_items(file, size, id, error));
    return disk_put_zeros(file, first_block(size) - 1, 1, error);
}

static enum ws_status open(struct ws_disk *d, struct ws_error *error) {
    static const uint8_t none[16];
    uint8_t head[8], h[2][HEADER], t[80], v[40];
    if (d->file->ops->size(d->file) < BLOCKS_AT) return WS_E_NOTFOUND;
    WS_TRY(disk_get(d->file, 0, head, 8, error));
    if (memcmp(head, "vhdxfile", 8) != 0) return WS_E_NOTFOUND;
    bool sound = true;
    for (unsigned i = 0; i < 2; i++) {
        WS_TRY(disk_get(d->file, HEADER_AT * (i + 1ull), h[i], HEADER, error));
        sound &= memcmp(h[i], "head", 4) == 0 && memcmp(h[i] + 48, none, 16) == 0; /* nothing is in its log */
    }
    WS_TRY(disk_get(d->file, REGIONS_AT, t, sizeof t, error));
    WS_TRY(disk_get(d->file, ITEMS_AT + 0x10000, v, sizeof v, error));
    d->size = ws_load_le64(v + 8);
    if (!sound || d->size == 0 || d->size > 64ull << 40 || d->size % 512 || ws_load_le32(v) != BLOCK ||
        ws_load_le32(v + 4) != 0 || ws_load_le32(v + 32) != 512 || ws_load_le64(t + 32) != BLOCKS_AT ||
        ws_load_le64(t + 64) != ITEMS_AT)
        return disk_only_read(error);
    d->unit = BLOCK;
    d->align = MIB;
    d->units = ws_div_up(d->size, BLOCK);
    d->table[0] = BLOCKS_AT;
    d->end = first_block(d->size);
    return WS_OK;
}

/* After every so many blocks stands an entry for bitmaps, which there are none of. */
static uint64_t entry_at(const struct ws_disk *d, uint64_t unit) { return d->table[0] + (unit + unit / RATIO) * 8; }

static bool decode(const struct ws_disk *d, const uint8_t *raw, uint64_t *place) {
    const uint64_t entry = ws_load_le64(raw);
    (void)d;
    *place = (entry & 7) == WHOLE ? entry >> 20 << 20 : 0;
    return (entry & 7) != 7;
}

static void encode(const struct ws_disk *d, uint64_t place, uint8_t *raw) {
    (void)d;
    ws_store_le64(raw, place ? place | WHOLE : 0);
}

/* 2.2.2.1: before anything changes, the header that counts gets a new identifier; in the other one's place. */
static enum ws_status begin(struct ws_disk *d, struct ws_error *error) {
    uint8_t h[2][16];
    for (unsigned i = 0; i < 2; i++) WS_TRY(disk_get(d->file, HEADER_AT * (i + 1ull), h[i], 16, error));
    const uint64_t a = ws_load_le64(h[0] + 8), b = ws_load_le64(h[1] + 8);
    const unsigned older = a < b ? 0 : 1;
    WS_TRY(put_header(d->file, older, ws_max_u64(a, b) + 1, &d->id, error));
    WS_TRY(d->file->ops->flush(d->file, error));
    return put_header(d->file, 1 - older, ws_max_u64(a, b) + 2, &d->id, error);
}

const struct disk_format disk_vhdx = {"vhdx", 8, create, open, entry_at, decode, encode, begin, NULL};
