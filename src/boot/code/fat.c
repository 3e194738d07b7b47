/* fat.c — FAT12, FAT16 and FAT32 read by start-up code; the chains also serve exFAT.
 *
 * FAT File System Specification 1.03: section 3 (boot record), 4 (table), 6 and 7 (folders, long names).
 */
#include "start.h"

enum { FOLDER_MOST = 65536 * 32, RUN_MOST = 16 << 20 };

static bool power_of_two(uint32_t n) { return n && (n & (n - 1)) == 0; }

static uint32_t shift_of(uint32_t power) {
    uint32_t shift = 0;
    while (power > 1) power >>= 1, shift++;
    return shift;
}

bool start_fat_mount(struct start_volume *v) {
    uint8_t b[512];
    if (!start_disk_peek(v->m, v->at, sizeof b, b)) return false;
    uint32_t sector = start_le16(b + 11);
    uint32_t cluster = b[13];
    uint32_t reserved = start_le16(b + 14);
    uint32_t tables = b[16];
    uint32_t root_entries = start_le16(b + 17);
    uint32_t sectors = start_le16(b + 19) ? start_le16(b + 19) : start_le32(b + 32);
    uint32_t table = start_le16(b + 22) ? start_le16(b + 22) : start_le32(b + 36);
    if (b[510] != 0x55 || b[511] != 0xaa || !power_of_two(sector) || sector < 512 || sector > 4096) return false;
    if (!power_of_two(cluster) || reserved == 0 || tables == 0 || tables > 4 || table == 0 || sectors == 0)
        return false;
    uint32_t shift = shift_of(sector);
    uint64_t root_sectors = ((uint64_t)root_entries * 32 + sector - 1) >> shift;
    uint64_t front = reserved + (uint64_t)tables * table + root_sectors;
    if (front >= sectors) return false;
    v->kind = START_FAT;
    v->cluster_shift = shift + shift_of(cluster);
    v->clusters = (uint32_t)((sectors - front) >> shift_of(cluster));
    v->bits = v->clusters < 4085 ? 12 : v->clusters < 65525 ? 16 : 32;
    if (start_le16(b + 22) == 0) v->bits = 32; /* a small FAT32 says so by its table's length */
    v->fat_at = v->at + ((uint64_t)reserved << shift);
    v->heap_at = v->at + (front << shift);
    v->root = v->bits == 32 ? start_le32(b + 44) : 0;
    v->fixed_root_at = v->at + ((reserved + (uint64_t)tables * table) << shift);
    v->fixed_root_length = root_entries * 32;
    return true;
}

/* The entry of a cluster; what ends a chain is 0. */
static bool next_of(struct start_volume *v, uint32_t cluster, uint32_t *next) {
    uint8_t e[4] = {0};
    uint32_t value;
    if (v->bits == 12) {
        if (!start_disk_peek(v->m, v->fat_at + cluster + cluster / 2, 2, e)) return false;
        value = start_le16(e);
        value = cluster & 1 ? value >> 4 : value & 0xfff;
    } else if (v->bits == 16) {
        if (!start_disk_peek(v->m, v->fat_at + 2ull * cluster, 2, e)) return false;
        value = start_le16(e);
    } else {
        if (!start_disk_peek(v->m, v->fat_at + 4ull * cluster, 4, e)) return false;
        value = v->kind == START_EXFAT ? start_le32(e) : start_le32(e) & 0x0fffffff;
    }
    *next = value >= 2 && value - 2 < v->clusters ? value : 0;
    return true;
}

bool start_fat_run(struct start_file *f, uint64_t at, uint64_t *disk_at, uint64_t *length) {
    struct start_volume *v = f->v;
    uint64_t in_cluster = at & ((1ull << v->cluster_shift) - 1);
    if (f->fixed_at) {
        *disk_at = f->fixed_at + at;
        *length = at < f->size ? f->size - at : 0;
        return true;
    }
    uint64_t far = at >> v->cluster_shift;
    if (far >= v->clusters || f->first < 2 || f->first - 2 >= v->clusters)
        return start_fail(v->m, "the file system is damaged: a chain leads outside of the volume");
    uint32_t index = (uint32_t)far;
    if (f->contiguous) {
        if (index >= v->clusters - (f->first - 2)) return start_fail(v->m, "the file system is damaged");
        *disk_at = v->heap_at + ((uint64_t)(f->first - 2 + index) << v->cluster_shift) + in_cluster;
        *length = ((uint64_t)(v->clusters - (f->first - 2) - index) << v->cluster_shift) - in_cluster;
        return true;
    }
    if (!f->walked || f->walked_index > index) {
        f->walked = f->first;
        f->walked_index = 0;
    }
    while (f->walked_index < index) {
        uint32_t next;
        if (!next_of(v, f->walked, &next)) return false;
        if (!next) {
            *length = 0; /* the chain ends here */
            return true;
        }
        f->walked = next;
        f->walked_index++;
    }
    uint64_t run = 1ull << v->cluster_shift;
    *disk_at = v->heap_at + ((uint64_t)(f->walked - 2) << v->cluster_shift) + in_cluster;
    while (run < RUN_MOST) { /* neighbours are read in one go */
        uint32_t next;
        if (!next_of(v, f->walked, &next)) return false;
        if (next != f->walked + 1) break;
        f->walked = next;
        f->walked_index++;
        run += 1ull << v->cluster_shift;
    }
    *length = run - in_cluster;
    return true;
}

static uint8_t short_checksum(const uint8_t name[11]) {
    uint8_t sum = 0;
    for (int i = 0; i < 11; i++) sum = (uint8_t)((sum >> 1 | sum << 7) + name[i]);
    return sum;
}

static void short_name(const uint8_t *e, char *out) {
    size_t n = 0;
    for (int i = 0; i < 11; i++) {
        bool small = i < 8 ? e[12] & 8 : e[12] & 16; /* how systems keep "vmlinuz" without a long name */
        char c = (char)e[i];
        if (c == ' ') continue;
        if (i == 8) out[n++] = '.';
        out[n++] = small && c >= 'A' && c <= 'Z' ? (char)(c + 32) : c;
    }
    out[n] = '\0';
}

struct long_name {
    uint16_t unit[260];
    unsigned pieces, expected;
    uint8_t checksum;
};

static void take_piece(struct long_name *l, const uint8_t *e) {
    static const uint8_t place[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    unsigned order = e[0] & 0x3f;
    if (e[0] & 0x40) {
        l->pieces = l->expected = order;
        l->checksum = e[13];
        memset(l->unit, 0, sizeof l->unit);
    }
    if (order == 0 || order > 20 || order != l->expected || e[13] != l->checksum) {
        l->pieces = l->expected = 0;
        return;
    }
    for (unsigned i = 0; i < 13; i++) l->unit[(order - 1) * 13 + i] = start_le16(e + place[i]);
    l->expected--;
}

bool start_fat_list(struct start_file *folder, start_name_visit visit, void *context) {
    struct start_volume *v = folder->v;
    struct long_name l = {.pieces = 0};
    uint8_t e[32];
    char name[START_NAME_MOST];
    for (uint64_t at = 0; at < FOLDER_MOST; at += 32) {
        uint64_t got;
        if (!start_read(folder, at, sizeof e, e, &got)) return false;
        if (got < sizeof e || e[0] == 0) return true;
        if (e[0] == 0xe5) {
            l.pieces = 0;
            continue;
        }
        if ((e[11] & 0x3f) == 0x0f) {
            take_piece(&l, e);
            continue;
        }
        bool has_long = l.pieces && l.expected == 0 && l.checksum == short_checksum(e);
        l.pieces = has_long ? l.pieces : 0;
        if (e[11] & 8) continue; /* the volume's label */
        if (has_long) {
            size_t n = 0;
            for (unsigned i = 0; i < l.pieces * 13 && l.unit[i] && n + 4 < sizeof name; i++)
                n += start_utf8(l.unit[i], name + n);
            name[n] = '\0';
        } else {
            short_name(e, name);
        }
        l.pieces = 0;
        struct start_file f = {.v = v, .folder = (e[11] & 16) != 0};
        f.first = start_le16(e + 26) | (v->bits == 32 ? (uint32_t)start_le16(e + 20) << 16 : 0);
        f.size = f.folder ? UINT64_MAX : start_le32(e + 28);
        if (!visit(context, name, &f)) return true;
    }
    return start_fail(v->m, "the file system is damaged: a folder has no end");
}
