/* write_vmdk.c — VMDK, one sparse file, with both its directories and all tables before the first grain (Virtual Disk
 * Format 5.0, "Hosted Sparse Extents"). */
#include "container/write.h"

#include <stdio.h>
#include <string.h>

enum { SECTOR = 512, GRAIN = 128, PER_TABLE = 512, TEXT_AT = 1, TEXT = 20, DIRECTORY_AT = 21 };

/* In sectors: a directory and its tables, twice. */
struct shape {
    uint64_t grains, tables, directory, copy, overhead;
};

static void shape_of(uint64_t size, struct shape *s) {
    s->grains = ws_div_up(size, GRAIN * SECTOR);
    s->tables = ws_div_up(s->grains, PER_TABLE);
    const uint64_t directory = ws_div_up(s->tables * 4, SECTOR), tables = s->tables * PER_TABLE * 4 / SECTOR;
    s->copy = DIRECTORY_AT;
    s->directory = s->copy + directory + tables;
    s->overhead = ws_round_up(s->directory + directory + tables, GRAIN);
}

static uint64_t tables_at(const struct shape *s, uint64_t directory) {
    return directory + ws_div_up(s->tables * 4, SECTOR);
}

static enum ws_status put_directory(const struct ws_disk_file *file, const struct shape *s, uint64_t at,
                                    struct ws_error *error) {
    for (uint64_t i = 0; i < s->tables; i++) {
        uint8_t raw[4];
        ws_store_le32(raw, (uint32_t)(tables_at(s, at) + i * (PER_TABLE * 4 / SECTOR)));
        WS_TRY(disk_put(file, at * SECTOR + i * 4, raw, 4, error));
    }
    return WS_OK;
}

static void describe(char text[TEXT * SECTOR], uint64_t size, const struct ws_guid *id) {
    memset(text, 0, TEXT * SECTOR);
    (void)snprintf(text, TEXT * SECTOR,
                   "# Disk DescriptorFile\nversion=1\nCID=%08x\nparentCID=ffffffff\ncreateType=\"monolithicSparse\"\n\n"
                   "# Extent description\nRW %llu SPARSE \"disk.vmdk\"\n\n# The Disk Data Base\n#DDB\n\n"
                   "ddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"%llu\"\nddb.geometry.heads = \"16\"\n"
                   "ddb.geometry.sectors = \"63\"\nddb.adapterType = \"ide\"\n",
                   ws_load_le32(id->byte) & 0xfffffffe, (unsigned long long)(size / SECTOR),
                   (unsigned long long)ws_min_u64(size / SECTOR / 63 / 16, 16383));
}

static enum ws_status create(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id, int64_t made_at,
                             struct ws_error *error) {
    struct shape s;
    uint8_t h[SECTOR] = "KDMV";
    char text[TEXT * SECTOR];
    (void)made_at;
    size = size / SECTOR * SECTOR;
    if (size > 1ull << 40) return ws_fail(error, WS_E_RANGE, "a VMDK in one file ends at 1 TiB here");
    shape_of(size, &s);
    ws_store_le32(h + 4, 1);
    ws_store_le32(h + 8, 3); /* the newline test counts, and so does the second directory */
    ws_store_le64(h + 12, size / SECTOR);
    ws_store_le64(h + 20, GRAIN);
    ws_store_le64(h + 28, TEXT_AT);
    ws_store_le64(h + 36, TEXT);
    ws_store_le32(h + 44, PER_TABLE);
    ws_store_le64(h + 48, s.copy);
    ws_store_le64(h + 56, s.directory);
    ws_store_le64(h + 64, s.overhead);
    memcpy(h + 73, "\n \r\n", 4);
    describe(text, size, id);
    WS_TRY(disk_put(file, 0, h, SECTOR, error));
    WS_TRY(disk_put(file, TEXT_AT * SECTOR, text, sizeof text, error));
    WS_TRY(put_directory(file, &s, s.copy, error));
    WS_TRY(put_directory(file, &s, s.directory, error));
    return disk_put_zeros(file, s.overhead * SECTOR - 1, 1, error);
}

static enum ws_status open(struct ws_disk *d, struct ws_error *error) {
    struct shape s;
    uint8_t h[SECTOR];
    char text[TEXT * SECTOR + 1];
    memset(h, 0, sizeof h);
    if (d->file->ops->size(d->file) < 64) return WS_E_NOTFOUND;
    WS_TRY(disk_get(d->file, 0, h, 63, error));
    if (memcmp(h, "KDMV", 4) != 0) {
        return strstr((const char *)h, "# Disk DescriptorFile") ? disk_only_read(error) : WS_E_NOTFOUND;
    }
    if (d->file->ops->size(d->file) < 24 * SECTOR) return disk_only_read(error);
    WS_TRY(disk_get(d->file, 0, h, SECTOR, error));
    const uint64_t sectors = ws_load_le64(h + 12);
    if (sectors == 0 || sectors > (1ull << 40) / SECTOR) return disk_only_read(error);
    d->size = sectors * SECTOR;
    shape_of(d->size, &s);
    WS_TRY(disk_get(d->file, TEXT_AT * SECTOR, text, TEXT * SECTOR, error));
    text[TEXT * SECTOR] = '\0';
    if (ws_load_le32(h + 8) != 3 || ws_load_le64(h + 20) != GRAIN || ws_load_le32(h + 44) != PER_TABLE ||
        ws_load_le64(h + 48) != s.copy || ws_load_le64(h + 56) != s.directory || ws_load_le64(h + 64) != s.overhead ||
        !strstr(text, "parentCID=ffffffff") || !strstr(text, "createType=\"monolithicSparse\""))
        return disk_only_read(error);
    d->unit = d->align = GRAIN * SECTOR;
    d->units = s.grains;
    d->table[0] = tables_at(&s, s.directory) * SECTOR;
    d->table[1] = tables_at(&s, s.copy) * SECTOR;
    d->end = s.overhead * SECTOR;
    return WS_OK;
}

static uint64_t entry_at(const struct ws_disk *d, uint64_t unit) { return d->table[0] + unit * 4; }

static bool decode(const struct ws_disk *d, const uint8_t *raw, uint64_t *place) {
    (void)d;
    *place = (uint64_t)ws_load_le32(raw) * SECTOR;
    return true;
}

static void encode(const struct ws_disk *d, uint64_t place, uint8_t *raw) {
    (void)d;
    ws_store_le32(raw, (uint32_t)(place / SECTOR));
}

/* "uncleanShutdown" */
static enum ws_status mark(const struct ws_disk *d, uint8_t unclean, struct ws_error *error) {
    return disk_put(d->file, 72, &unclean, 1, error);
}
static enum ws_status begin(struct ws_disk *d, struct ws_error *error) { return mark(d, 1, error); }
static enum ws_status finish(struct ws_disk *d, struct ws_error *error) { return mark(d, 0, error); }

const struct disk_format disk_vmdk = {"vmdk", 4, create, open, entry_at, decode, encode, begin, finish};
