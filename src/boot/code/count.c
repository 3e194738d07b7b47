/* count.c — tries of an entry that has not proved itself: Boot Loader Specification, "Boot counting".
 *
 * "NAME+LEFT-DONE.conf" is renamed before its kernel starts: one try less is left, one more is done. The running system
 * takes the counter off when it is up. With no try left the entry is the menu's last.
 *
 * The new name is as long as the old one, so on ext4 it takes its place inside one block of the folder. That block's
 * checksum stays what it is: four bytes that belong to no name make up for the change, and one sector is written. So
 * a power cut leaves the old name or the new one, and a folder that every system reads. Where there is no room for
 * them, the block is written whole, with a new checksum.
 */
#include "start.h"

enum { BLOCK_MOST = 65536, TAIL = 12 };
static const uint32_t polynomial = 0x82f63b78;

uint32_t start_crc32c(uint32_t state, const uint8_t *p, size_t n) {
    while (n--) {
        state ^= *p++;
        for (int i = 0; i < 8; i++) state = state >> 1 ^ (state & 1 ? polynomial : 0);
    }
    return state;
}

/* The state before these bytes, from the one behind them. */
static uint32_t crc32c_back(uint32_t state, const uint8_t *p, size_t n) {
    while (n--) {
        for (int i = 0; i < 8; i++) state = state >> 31 ? (state ^ polynomial) << 1 | 1 : state << 1;
        state ^= p[n];
    }
    return state;
}

static bool is_digit(char c) { return c >= '0' && c <= '9'; }

bool start_counter_read(const char *name, size_t length, size_t *at, unsigned *left) {
    size_t n = length;
    while (n && is_digit(name[n - 1])) n--;
    if (n == length) return false;
    if (n && name[n - 1] == '-') {
        size_t done = --n;
        while (n && is_digit(name[n - 1])) n--;
        if (n == done) return false;
    }
    if (n < 2 || name[n - 1] != '+') return false;
    *at = n - 1;
    *left = 0;
    for (; n < length && is_digit(name[n]); n++) *left = *left < 1000 ? *left * 10 + (unsigned)(name[n] - '0') : *left;
    return true;
}

/* A number in its own digits, one more or less; it stays where it has no room. */
static void step(uint8_t *digits, size_t n, bool up) {
    char from = up ? '9' : '0';
    bool all = true;
    for (size_t i = 0; i < n; i++) all = all && digits[i] == (uint8_t)from;
    while (n-- && !all) {
        bool carries = digits[n] == (uint8_t)from;
        digits[n] = carries ? (uint8_t)(up ? '0' : '9') : (uint8_t)(up ? digits[n] + 1 : digits[n] - 1);
        if (!carries) return;
    }
}

/* The name's counter, one try on. */
static void advance(uint8_t *name, size_t counter) {
    size_t n = 0;
    for (name += counter + 1; is_digit((char)name[n]);) n++;
    step(name, n, false);
    if (name[n] != '-') return;
    name += n + 1;
    for (n = 0; is_digit((char)name[n]);) n++;
    step(name, n, true);
}

struct place {
    uint64_t disk_at; /* of the block */
    uint8_t *block;
    uint32_t length, end;  /* of the block, and of its names */
    uint32_t name;         /* where the name stands */
    uint32_t free, behind; /* bytes that belong to no name, behind the last one */
};

static uint32_t folder_checksum(const struct start_file *folder, const struct place *p) {
    uint8_t id[8];
    for (int i = 0; i < 4; i++)
        id[i] = (uint8_t)(folder->number >> (8 * i)), id[4 + i] = (uint8_t)(folder->generation >> (8 * i));
    return start_crc32c(start_crc32c(folder->v->checksum_seed, id, sizeof id), p->block, p->end);
}

/* Are these names, to the last byte, and is one of them the wanted one? */
static bool find_in_block(struct place *p, const char *name) {
    size_t n = start_length(name);
    bool found = false;
    for (uint32_t at = 0; at < p->end;) {
        const uint8_t *e = p->block + at;
        uint32_t length = start_le16(e + 4);
        if (length < 12 || length & 3 || length > p->end - at || e[6] + 8u > length) return false;
        if (start_le32(e) && e[6] == n && memcmp(e + 8, name, n) == 0) {
            p->name = at + 8;
            found = true;
        }
        p->free = at + (start_le32(e) ? (8u + e[6] + 3) & ~3u : 12);
        p->behind = at + length;
        at += length;
    }
    return found;
}

static bool find(struct start_volume *v, struct start_file *folder, const char *name, struct place *p) {
    p->length = 1u << v->cluster_shift;
    p->block = p->length <= BLOCK_MOST ? v->m->take(v->m, p->length) : NULL;
    if (!p->block) return start_fail(v->m, "there is no memory left");
    for (uint64_t at = 0; at < folder->size && at < BLOCK_MOST; at += p->length) {
        uint64_t run = 0;
        if (!start_ext_run(folder, at, &p->disk_at, &run)) return false;
        if (!p->disk_at || run < p->length || !start_disk_read(v->m, p->disk_at, p->length, p->block)) continue;
        p->end = p->length - (v->has_checksums ? TAIL : 0);
        const uint8_t *tail = p->block + p->end;
        if (v->has_checksums && (start_le32(tail) || start_le32(tail + 4) != 0xde00000c ||
                                 start_le32(tail + 8) != folder_checksum(folder, p)))
            return start_fail(v->m, "the folder of the entries is damaged");
        if (find_in_block(p, name)) return true;
    }
    return start_fail(v->m, "its entry is not where its folder was");
}

/* Four bytes at `at` that leave the checksum of the block at `wanted`. */
static void make_up(const struct start_file *folder, struct place *p, uint32_t at, uint32_t wanted) {
    static const uint8_t zeros[4];
    struct place before = *p;
    before.end = at;
    uint32_t state = folder_checksum(folder, &before) ^
                     crc32c_back(crc32c_back(wanted, p->block + at + 4, p->end - at - 4), zeros, 4);
    for (int i = 0; i < 4; i++) p->block[at + (unsigned)i] = (uint8_t)(state >> (8 * i));
}

bool start_count_down(struct start_volume *v, const struct start_menu *menu, const struct start_entry *e) {
    struct start_file folder = menu->folder;
    struct place p;
    size_t counter = 0;
    unsigned left = 0;
    uint32_t sector = v->m->sector_bytes;
    if (v->kind != START_EXT || folder.has_index || sector > 1u << v->cluster_shift)
        return start_fail(v->m, "its folder is of a kind that is not written by start-up code");
    if (!start_counter_read(e->file_name, start_length(e->file_name) - 5, &counter, &left)) return false;
    if (!find(v, &folder, e->file_name, &p)) return false;
    uint32_t first = (p.name + (uint32_t)counter) / sector * sector;
    uint32_t last = p.name + (uint32_t)start_length(e->file_name);
    uint32_t wanted = folder_checksum(&folder, &p);
    advance(p.block + p.name, counter);
    bool in_one = last <= first + sector;
    if (v->has_checksums && in_one && p.free >= first && p.free + 4 <= first + sector && p.free + 4 <= p.behind) {
        make_up(&folder, &p, p.free, wanted);
    } else if (v->has_checksums) {
        wanted = folder_checksum(&folder, &p);
        for (uint32_t i = 0; i < 4; i++) p.block[p.length - 4 + i] = (uint8_t)(wanted >> (8 * i));
        in_one = false;
    }
    if (in_one) return start_disk_write(v->m, p.disk_at + first, sector, p.block + first);
    return start_disk_write(v->m, p.disk_at, p.length, p.block);
}
