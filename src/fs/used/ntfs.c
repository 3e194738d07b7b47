/* ntfs.c — NTFS: one bit a cluster says whether it is in use (Linux, fs/ntfs3/ntfs.h: file records, attributes, runs,
 * log). It is trusted where the volume is not marked and its log has no change under way. */
#include "fs/used/internal.h"

#include <stdlib.h>
#include <string.h>

enum {
    BOOT = 512,
    RECORD_MOST = 4096,
    RUNS_MOST = 4096,
    FILE_LOG = 2,
    FILE_VOLUME = 3,
    FILE_BITMAP = 6,
    ATTR_LIST = 0x20,
    ATTR_VOLUME = 0x70,
    ATTR_DATA = 0x80,
    PAGE = 4096,
    BITMAP_STEP = 1 << 16
};

struct run {
    uint64_t from, length, at; /* clusters: in the file, how many, on the volume */
};
/* A file's unnamed data. */
struct data {
    struct run run[RUNS_MOST];
    size_t runs;
    uint64_t size; /* bytes that were written */
};

struct ntfs {
    struct used *used;
    uint64_t clusters, table; /* table of files: its first cluster */
    uint32_t cluster, record, sector;
    uint8_t file[RECORD_MOST];
    struct data files, data; /* the table's own, and of the file that is read */
};

/* Sizes under a cluster are powers of two. */
static uint32_t size_of(int8_t units, uint32_t cluster) {
    if (units > 0) return (uint32_t)units * cluster;
    return units < -31 ? 0 : 1u << -units;
}

static enum ws_status take_boot(struct ntfs *n, const uint8_t *b) {
    const uint8_t per = b[0x0d];
    n->sector = ws_load_le16(b + 0x0b);
    const uint64_t sectors = per <= 0x80 ? per : per > 0xe0 ? 1ull << (256 - per) : 0; /* or what power of two */
    const uint64_t cluster = n->sector * sectors;
    n->table = ws_load_le64(b + 0x30);
    if (n->sector < 256 || n->sector > 4096 || n->sector & (n->sector - 1) || cluster == 0 || cluster > 2u << 20 ||
        cluster & (cluster - 1))
        return used_damaged(n->used, "its first sector is");
    n->cluster = (uint32_t)cluster;
    n->record = size_of((int8_t)b[0x40], n->cluster);
    n->clusters = ws_load_le64(b + 0x28) / sectors;
    if (n->record < 512 || n->record > RECORD_MOST || n->record & (n->record - 1) || n->clusters == 0 ||
        n->clusters > n->used->volume->size / n->cluster || n->table >= n->clusters)
        return used_damaged(n->used, "its first sector is");
    return WS_OK;
}

/* The last two bytes of each 512 stand in a list of their own; in their place is a number that says that all of it was
 * written. */
static bool mend(uint8_t *record, uint32_t length) {
    const uint32_t at = ws_load_le16(record + 4), count = ws_load_le16(record + 6);
    if (count != length / 512 + 1 || at % 2 || at + 2 * count > length - 2) return false;
    for (uint32_t i = 1; i < count; i++) {
        if (memcmp(record + i * 512 - 2, record + at, 2) != 0) return false;
        memcpy(record + i * 512 - 2, record + at + 2 * i, 2);
    }
    return true;
}

/* Place, in bytes on the volume, of bytes of a file, and how many follow it there. */
static bool locate(const struct ntfs *n, const struct data *d, uint64_t at, uint64_t *place, uint64_t *length) {
    const uint64_t cluster = at / n->cluster;
    for (size_t i = 0; i < d->runs; i++) {
        const struct run *r = &d->run[i];
        if (cluster < r->from || cluster - r->from >= r->length) continue;
        const uint64_t inside = at - r->from * n->cluster;
        *place = r->at * n->cluster + inside;
        *length = r->length * n->cluster - inside;
        return true;
    }
    return false;
}

static enum ws_status bad_file(const struct ntfs *n) { return used_damaged(n->used, "a record of a file is"); }

static enum ws_status read_file(struct ntfs *n, uint64_t number) {
    uint64_t place = n->table * n->cluster + number * n->record, length = n->record;
    if (number && !locate(n, &n->files, number * n->record, &place, &length)) return bad_file(n);
    if (length < n->record) return used_unsure(n->used, "its first files lie in pieces");
    WS_TRY(used_read(n->used, place, n->file, n->record));
    if (memcmp(n->file, "FILE", 4) != 0 || !mend(n->file, n->record) || !(ws_load_le16(n->file + 0x16) & 1))
        return bad_file(n);
    return WS_OK;
}

/* An attribute without a name. NULL: the file has none of this type in its first record */
static const uint8_t *find(const struct ntfs *n, uint32_t type, uint32_t *length) {
    uint32_t at = ws_load_le16(n->file + 0x14);
    while (at + 24 <= n->record && ws_load_le32(n->file + at) != 0xffffffff) {
        const uint8_t *a = n->file + at;
        *length = ws_load_le32(a + 4);
        if (*length < 24 || *length > n->record - at) return NULL;
        if (ws_load_le32(a) == type && a[9] == 0) return a;
        at += *length;
    }
    return NULL;
}

static bool take_number(const uint8_t *p, unsigned bytes, bool with_sign, int64_t *out) {
    uint64_t value = 0;
    if (bytes > 8) return false;
    for (unsigned i = 0; i < bytes; i++) value |= (uint64_t)p[i] << 8 * i;
    if (with_sign && bytes && bytes < 8 && p[bytes - 1] & 0x80) value |= ~0ull << 8 * bytes;
    *out = (int64_t)value;
    return true;
}

/* Runs one after the other: bytes of each number, how long, and how far from the one before. */
static enum ws_status take_runs(const struct ntfs *n, const uint8_t *p, const uint8_t *end, struct data *d) {
    int64_t at = 0, length, step;
    uint64_t from = 0;
    d->runs = 0;
    while (p < end && *p) {
        const unsigned lengths = *p & 15, steps = *p >> 4;
        if ((size_t)(end - p) < 1u + lengths + steps || !take_number(p + 1, lengths, false, &length) ||
            !take_number(p + 1 + lengths, steps, true, &step) || length <= 0 || (uint64_t)length > n->clusters ||
            step > (int64_t)n->clusters || step < -(int64_t)n->clusters)
            return bad_file(n);
        at += step;
        if (at < 0 || !ws_inside((uint64_t)at, (uint64_t)length, n->clusters) || from > n->clusters) return bad_file(n);
        if (d->runs == RUNS_MOST) return used_unsure(n->used, "its list of what is in use lies in too many pieces");
        if (steps) d->run[d->runs++] = (struct run){from, (uint64_t)length, (uint64_t)at};
        from += (uint64_t)length;
        p += 1 + lengths + steps;
    }
    return WS_OK;
}

static enum ws_status take_data(const struct ntfs *n, struct data *d) {
    uint32_t length, other;
    const uint8_t *a = find(n, ATTR_DATA, &length);
    if (!a || find(n, ATTR_LIST, &other)) return used_unsure(n->used, "its list of what is in use lies in pieces");
    if (!a[8] || length < 0x40) return bad_file(n);
    const uint32_t runs = ws_load_le16(a + 0x20);
    if (runs < 0x40 || runs > length || ws_load_le64(a + 0x10) != 0 || ws_load_le16(a + 0x22) != 0) return bad_file(n);
    d->size = ws_min_u64(ws_load_le64(a + 0x30), ws_load_le64(a + 0x38));
    return take_runs(n, a + runs, a + length, d);
}

/* Marked as to be looked after, or in the middle of something. */
static enum ws_status check_marks(struct ntfs *n) {
    uint32_t length;
    WS_TRY(read_file(n, FILE_VOLUME));
    const uint8_t *a = find(n, ATTR_VOLUME, &length);
    if (!a || a[8]) return bad_file(n);
    const uint32_t at = ws_load_le16(a + 0x14);
    if (at + 12 > length) return bad_file(n);
    return ws_load_le16(a + at + 10) & 0x4053 ? used_unsure(n->used, "it is marked as not left in order") : WS_OK;
}

/* Nobody has the log open, or it says that the volume is clean; one that was never used is all ones. */
static enum ws_status check_log(struct ntfs *n) {
    uint8_t page[PAGE];
    uint64_t place, length, newest = 0;
    bool clean = false, found = false;
    WS_TRY(read_file(n, FILE_LOG));
    WS_TRY(take_data(n, &n->data));
    for (uint64_t i = 0; i < 2; i++) {
        if (!locate(n, &n->data, i * PAGE, &place, &length) || length < PAGE) return bad_file(n);
        WS_TRY(used_read(n->used, place, page, PAGE));
        if (ws_load_le32(page) == 0xffffffff && !i) return WS_OK;
        if (memcmp(page, "RSTR", 4) != 0 || !mend(page, PAGE)) continue;
        const uint32_t at = ws_load_le16(page + 0x18);
        if (at + 16 > PAGE) continue;
        if (found && ws_load_le64(page + at) <= newest) continue;
        newest = ws_load_le64(page + at);
        found = true;
        clean = ws_load_le16(page + at + 12) == 0xffff || ws_load_le16(page + at + 14) & 2;
    }
    return clean ? WS_OK : used_unsure(n->used, "its log has changes under way: it was not left in order");
}

static enum ws_status take_bits(struct ntfs *n, uint64_t first, const uint8_t *bits, uint64_t count) {
    for (uint64_t i = 0; i < count;) {
        uint64_t end = i;
        if (i % 8 == 0 && count - i >= 8 && bits[i / 8] == 0) {
            i += 8;
            continue;
        }
        while (end < count && bits[end / 8] >> end % 8 & 1)
            end += end % 8 == 0 && count - end >= 8 && bits[end / 8] == 0xff ? 8 : 1;
        if (end > i) WS_TRY(used_add(n->used, (first + i) * n->cluster, (end - i) * n->cluster));
        i = end + (end == i);
    }
    return WS_OK;
}

static enum ws_status take_bitmap(struct ntfs *n) {
    uint8_t *room = malloc(BITMAP_STEP);
    enum ws_status status;
    if (!room) return ws_fail(n->used->error, WS_E_NOMEM, "out of memory for what is in use");
    WS_GO(read_file(n, FILE_BITMAP));
    WS_GO(take_data(n, &n->data));
    if (n->data.size < ws_div_up(n->clusters, 8))
        WS_GO(used_damaged(n->used, "its list of what is in use is cut short"));
    for (uint64_t at = 0, end = ws_div_up(n->clusters, 8); at < end;) {
        uint64_t place = 0, length = 0;
        if (!locate(n, &n->data, at, &place, &length))
            WS_GO(used_damaged(n->used, "its list of what is in use has a hole"));
        const size_t step = (size_t)ws_min_u64(ws_min_u64(length, BITMAP_STEP), end - at);
        WS_GO(used_read(n->used, place, room, step));
        WS_GO(take_bits(n, at * 8, room, ws_min_u64(step * 8, n->clusters - at * 8)));
        at += step;
    }
done:
    free(room);
    return status;
}

enum ws_status used_by_ntfs(struct used *u) {
    uint8_t boot[BOOT];
    if (u->volume->size < 1 << 20) return WS_E_NOTFOUND;
    WS_TRY(used_read(u, 0, boot, sizeof boot));
    if (memcmp(boot + 3, "NTFS    ", 8) != 0) return WS_E_NOTFOUND;
    struct ntfs *n = calloc(1, sizeof *n);
    if (!n) return ws_fail(u->error, WS_E_NOMEM, "out of memory for a volume's list of what is in use");
    n->used = u;
    enum ws_status status = take_boot(n, boot);
    if (status == WS_OK) status = read_file(n, 0);
    if (status == WS_OK) status = take_data(n, &n->files);
    if (status == WS_OK) status = check_marks(n);
    if (status == WS_OK) status = check_log(n);
    if (status == WS_OK) status = take_bitmap(n);
    /* a copy of the first sector stands behind the last cluster */
    if (status == WS_OK) status = used_add(u, n->clusters * n->cluster, u->volume->size - n->clusters * n->cluster);
    free(n);
    return status;
}
