/* table.c — see table.h. */
#include "table.h"

enum { ENTRIES_MOST = 32768, HEADER = 92, PROTECTIVE = 0xee, MIB_SHIFT = 20, LEAST = 1024 };

/* Where things stand in a header, and in an entry. */
enum {
    AT_LENGTH = 12,
    AT_CRC = 16,
    AT_SELF = 24,
    AT_OTHER = 32,
    AT_FIRST = 40,
    AT_LAST = 48,
    AT_ENTRIES = 72,
    AT_SLOTS = 80,
    AT_SIZE = 84,
    AT_ENTRIES_CRC = 88,
    ENTRY_FIRST = 32,
    ENTRY_LAST = 40
};

struct gpt {
    struct start_machine *m;
    unsigned shift;            /* log2 of a sector's bytes */
    uint8_t *header, *entries; /* a sector; all of them, and zeros to whole sectors */
    uint32_t bytes, sectors;   /* of the entries */
    uint64_t home;             /* where they stand at the drive's begin */
};

static unsigned shift_of(uint32_t power) {
    unsigned shift = 0;
    while (power > 1) power >>= 1, shift++;
    return shift;
}

static void store_le32(uint8_t *p, uint32_t value) {
    for (unsigned i = 0; i < 4; i++) p[i] = (uint8_t)(value >> 8 * i);
}
static void store_le64(uint8_t *p, uint64_t value) {
    for (unsigned i = 0; i < 8; i++) p[i] = (uint8_t)(value >> 8 * i);
}

/* CRC-32 (ISO 3309), as the table has it. */
static uint32_t crc32_of(const uint8_t *p, size_t n) {
    uint32_t state = UINT32_MAX;
    while (n--) {
        state ^= *p++;
        for (int i = 0; i < 8; i++) state = state >> 1 ^ (state & 1 ? 0xedb88320u : 0);
    }
    return ~state;
}

static uint32_t header_crc(uint8_t *header) {
    uint8_t was[4];
    memcpy(was, header + AT_CRC, 4);
    memset(header + AT_CRC, 0, 4);
    uint32_t crc = crc32_of(header, start_le32(header + AT_LENGTH));
    memcpy(header + AT_CRC, was, 4);
    return crc;
}

/* The last sector of a partition that ends with the last whole MiB before `end`. */
static uint64_t last_before(uint64_t end, unsigned shift) {
    return (end << shift >> MIB_SHIFT << MIB_SHIFT >> shift) - 1;
}

static bool open_gpt(struct gpt *g) {
    struct start_machine *m = g->m;
    uint8_t *h = g->header;
    uint32_t length = start_le32(h + AT_LENGTH);
    if (length < HEADER || length > m->sector_bytes || start_le64(h + AT_SELF) != 1 ||
        header_crc(h) != start_le32(h + AT_CRC))
        return start_fail(m, "the drive's partition table is damaged");
    uint32_t slots = start_le32(h + AT_SLOTS);
    uint32_t size = start_le32(h + AT_SIZE);
    if (size < 128 || size > 4096 || slots == 0 || slots > ENTRIES_MOST / 128 || slots * size > ENTRIES_MOST)
        return start_fail(m, "the drive's partition table has an unusual size");
    g->bytes = slots * size;
    g->sectors = (g->bytes + m->sector_bytes - 1) >> g->shift;
    g->entries = m->take(m, (uint64_t)g->sectors << g->shift);
    if (!g->entries) return start_fail(m, "there is no memory left");
    uint64_t at = start_le64(h + AT_ENTRIES);
    g->home = at > start_le64(h + AT_LAST) ? 2 : at; /* a change that was cut short left them at the end */
    if (g->home < 2 || g->home + g->sectors > start_le64(h + AT_FIRST) || at > m->sectors - g->sectors)
        return start_fail(m, "the drive's partition table lies where it cannot be");
    if (!m->read(m, at, g->sectors, g->entries)) return false;
    if (crc32_of(g->entries, g->bytes) != start_le32(h + AT_ENTRIES_CRC))
        return start_fail(m, "the drive's partition table is damaged");
    return true;
}

/* @return NULL if there is none, or another stands behind it */
static uint8_t *last_entry(const struct gpt *g, uint64_t first) {
    static const uint8_t unused[16];
    uint8_t *found = NULL;
    const uint32_t size = start_le32(g->header + AT_SIZE);
    for (uint32_t i = 0; i < g->bytes; i += size) {
        uint8_t *e = g->entries + i;
        if (memcmp(e, unused, sizeof unused) == 0) continue;
        if (start_le64(e + ENTRY_FIRST) == first) found = e;
        else if (start_le64(e + ENTRY_FIRST) > first) return NULL;
    }
    return found;
}

static bool write_header(const struct gpt *g, uint64_t self, uint64_t entries) {
    struct start_machine *m = g->m;
    const uint64_t end = m->sectors - 1;
    store_le64(g->header + AT_SELF, self);
    store_le64(g->header + AT_OTHER, self == 1 ? end : 1);
    store_le64(g->header + AT_LAST, end - g->sectors - 1);
    store_le64(g->header + AT_ENTRIES, entries);
    store_le32(g->header + AT_ENTRIES_CRC, crc32_of(g->entries, g->bytes));
    store_le32(g->header + AT_CRC, header_crc(g->header));
    return m->write(m, self, 1, g->header);
}

static bool grow_protective(const struct gpt *g, uint8_t *sector) {
    struct start_machine *m = g->m;
    const uint32_t all = m->sectors - 1 > UINT32_MAX ? UINT32_MAX : (uint32_t)(m->sectors - 1);
    bool changed = false;
    for (uint8_t *e = sector + 446; e < sector + 510; e += 16) {
        if (e[4] != PROTECTIVE || start_le32(e + 8) != 1 || start_le32(e + 12) == all) continue;
        store_le32(e + 12, all);
        changed = true;
    }
    return !changed || m->write(m, 0, 1, sector);
}

/* The copy at the end first; then the header at the begin leads to that copy's entries while its own are changed. */
static bool write_gpt(const struct gpt *g, uint8_t *sector) {
    struct start_machine *m = g->m;
    const uint64_t end = m->sectors - 1;
    const uint64_t apart = end - g->sectors;
    return m->write(m, apart, g->sectors, g->entries) && write_header(g, end, apart) && grow_protective(g, sector) &&
           write_header(g, 1, apart) && m->write(m, g->home, g->sectors, g->entries) && write_header(g, 1, g->home);
}

static enum grown grow_gpt(struct gpt *g, uint64_t at, uint8_t *sector, uint64_t *length) {
    struct start_machine *m = g->m;
    if (!open_gpt(g)) return GROWN_FAILED;
    uint8_t *mine = last_entry(g, at >> g->shift);
    if (!mine) return GROWN_NOT;
    uint64_t first = start_le64(mine + ENTRY_FIRST);
    uint64_t was = start_le64(mine + ENTRY_LAST);
    uint64_t last = last_before(m->sectors - 1 - g->sectors, g->shift);
    if (was < first || was >= m->sectors - 1 - g->sectors) {
        start_fail(m, "the drive is smaller than its partition table says");
        return GROWN_FAILED;
    }
    bool grows = last > was;
    if (!grows) last = was;
    *length = (last - first + 1) << g->shift;
    if (!grows && start_le64(g->header + AT_ENTRIES) == g->home) return GROWN_NOT;
    store_le64(mine + ENTRY_LAST, last);
    return write_gpt(g, sector) ? GROWN : GROWN_FAILED;
}

static enum grown grow_mbr(struct start_machine *m, uint64_t at, uint8_t *sector, uint64_t *length) {
    const unsigned shift = shift_of(m->sector_bytes);
    const uint64_t first = at >> shift;
    uint8_t *mine = NULL;
    for (uint8_t *e = sector + 446; e < sector + 510; e += 16) {
        if (!e[4] || !start_le32(e + 12)) continue;
        if (start_le32(e + 8) == first) mine = e;
        else if (start_le32(e + 8) > first) return GROWN_NOT;
    }
    if (!mine) return GROWN_NOT;
    uint64_t end = m->sectors > UINT32_MAX ? UINT32_MAX : m->sectors;
    uint64_t was = first + start_le32(mine + 12) - 1;
    uint64_t last = last_before(end, shift);
    *length = (uint64_t)start_le32(mine + 12) << shift;
    if (was >= m->sectors) {
        start_fail(m, "the drive is smaller than its partition table says");
        return GROWN_FAILED;
    }
    if (last <= was) return GROWN_NOT;
    *length = (last - first + 1) << shift;
    store_le32(mine + 12, (uint32_t)(last - first + 1));
    memcpy(mine + 5, "\xfe\xff\xff", 3); /* cylinders are not counted so far */
    return m->write(m, 0, 1, sector) ? GROWN : GROWN_FAILED;
}

enum grown table_grow(struct start_machine *m, uint64_t at, uint64_t *length) {
    struct gpt g = {.m = m, .shift = shift_of(m->sector_bytes)};
    uint8_t *sector = m->take(m, m->sector_bytes);
    g.header = m->take(m, m->sector_bytes);
    *length = 0;
    if (!sector || !g.header) {
        start_fail(m, "there is no memory left");
        return GROWN_FAILED;
    }
    if (m->sectors < LEAST) {
        start_fail(m, "the drive is too small for a table");
        return GROWN_FAILED;
    }
    if (!m->read(m, 0, 1, sector) || !m->read(m, 1, 1, g.header)) return GROWN_FAILED;
    if (memcmp(g.header, "EFI PART", 8) == 0) return grow_gpt(&g, at, sector, length);
    if (sector[510] == 0x55 && sector[511] == 0xaa) return grow_mbr(m, at, sector, length);
    start_fail(m, "the drive has no partition table");
    return GROWN_FAILED;
}
