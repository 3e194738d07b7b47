/* disk.c — bytes of the start drive over its sectors, and the partitions of its table. */
#include "start.h"

enum { GPT_SLOTS_MOST = 256 };

static bool read_sectors(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    if (m->sectors && (lba >= m->sectors || count > m->sectors - lba))
        return start_fail(m, "sector %U lies behind the end of the drive (%U sectors)", lba, m->sectors);
    return m->read(m, lba, count, into);
}

static unsigned shift_of(uint32_t power) {
    unsigned shift = 0;
    while (power > 1) power >>= 1, shift++;
    return shift;
}

bool start_disk_read(struct start_machine *m, uint64_t at, uint64_t length, void *into) {
    unsigned shift = shift_of(m->sector_bytes);
    uint8_t *out = into;
    if (!m->bounce) m->bounce = m->take(m, m->sector_bytes);
    if (!m->bounce) return start_fail(m, "there is no memory left");
    while (length) {
        uint64_t lba = at >> shift;
        uint32_t skip = (uint32_t)at & (m->sector_bytes - 1);
        uint32_t n;
        if (skip || length < m->sector_bytes) {
            n = m->sector_bytes - skip;
            if (n > length) n = (uint32_t)length;
            if (!read_sectors(m, lba, 1, m->bounce)) return false;
            memcpy(out, m->bounce + skip, n);
        } else {
            uint32_t count = length > 1u << 20 ? (1u << 20) >> shift : (uint32_t)(length >> shift);
            n = count << shift;
            if (!read_sectors(m, lba, count, out)) return false;
        }
        at += n;
        out += n;
        length -= n;
    }
    return true;
}

static void forget_windows(struct start_machine *m) {
    for (unsigned i = 0; i < START_WINDOWS; i++) m->window_at[i] = UINT64_MAX;
}

bool start_disk_write(struct start_machine *m, uint64_t at, uint32_t length, const void *from) {
    unsigned shift = shift_of(m->sector_bytes);
    uint64_t lba = at >> shift;
    uint32_t count = length >> shift;
    if (((at | length) & (m->sector_bytes - 1)) || (m->sectors && (lba >= m->sectors || count > m->sectors - lba)))
        return start_fail(m, "no whole sectors of the drive lie at %U", at);
    forget_windows(m); /* what was read before may be another */
    return m->write(m, lba, count, from);
}

/* The window that begins at this byte; the one that was least used of late is given up for it. NULL: it cannot be read
 * whole (the drive's last sectors, a bad one among good ones). */
static const uint8_t *window_of(struct start_machine *m, uint64_t base) {
    unsigned oldest = 0;
    unsigned i = 0;
    for (; i < START_WINDOWS && m->window_at[i] != base; i++)
        if (m->window_used[i] < m->window_used[oldest]) oldest = i;
    if (i == START_WINDOWS) {
        i = oldest;
        m->window_at[i] = UINT64_MAX;
        if (m->sectors && base + START_WINDOW > m->sectors << shift_of(m->sector_bytes)) return NULL;
        if (!start_disk_read(m, base, START_WINDOW, m->window + (size_t)i * START_WINDOW)) return NULL;
        m->window_at[i] = base;
    }
    m->window_used[i] = ++m->windows_used;
    return m->window + (size_t)i * START_WINDOW;
}

bool start_disk_peek(struct start_machine *m, uint64_t at, uint32_t length, void *into) {
    uint8_t *out = into;
    if (!m->window) {
        m->window = m->take(m, START_WINDOWS * START_WINDOW);
        forget_windows(m);
    }
    if (!m->window) return start_fail(m, "there is no memory left");
    while (length) {
        uint32_t skip = (uint32_t)at & (START_WINDOW - 1);
        uint32_t n = START_WINDOW - skip < length ? START_WINDOW - skip : length;
        const uint8_t *window = window_of(m, at - skip);
        if (!window) return start_disk_read(m, at, length, out);
        memcpy(out, window + skip, n);
        at += n;
        out += n;
        length -= n;
    }
    return true;
}

/* UEFI Specification 2.10, section 5.3. @return false if there is none or the visitor has had enough */
static bool gpt_partitions(struct start_machine *m, start_partition_visit visit, void *context, bool *ended) {
    static const uint8_t unused[16];
    uint8_t header[92];
    uint8_t entry[56];
    if (!start_disk_peek(m, m->sector_bytes, sizeof header, header)) return false;
    if (memcmp(header, "EFI PART", 8) != 0) return false;
    uint64_t entries = start_le64(header + 72);
    uint32_t slots = start_le32(header + 80);
    uint32_t size = start_le32(header + 84);
    if (size < 128 || size > 4096 || entries > 1u << 30) return false;
    unsigned shift = shift_of(m->sector_bytes);
    for (uint32_t i = 0; i < slots && i < GPT_SLOTS_MOST; i++) {
        if (!start_disk_peek(m, (entries << shift) + (uint64_t)i * size, sizeof entry, entry)) return false;
        uint64_t first = start_le64(entry + 32);
        uint64_t last = start_le64(entry + 40);
        if (memcmp(entry, unused, 16) == 0 || last < first || last >> 48) continue;
        if (!visit(context, first << shift, (last - first + 1) << shift)) {
            *ended = true;
            return true;
        }
    }
    return true;
}

/* Logical partitions are not looked for: drives made here have none, and start drives want primary ones. */
bool start_partitions(struct start_machine *m, start_partition_visit visit, void *context) {
    uint8_t sector[512];
    bool ended = false;
    unsigned shift = shift_of(m->sector_bytes);
    if (!start_disk_peek(m, 0, sizeof sector, sector)) return false;
    if (gpt_partitions(m, visit, context, &ended)) return true;
    if (sector[510] != 0x55 || sector[511] != 0xaa) return start_fail(m, "the drive has no partition table");
    for (unsigned i = 0; i < 4; i++) {
        const uint8_t *e = sector + 446 + 16 * i;
        uint64_t first = start_le32(e + 8);
        uint64_t count = start_le32(e + 12);
        if (e[4] == 0 || count == 0) continue;
        if (!visit(context, first << shift, count << shift)) return true;
    }
    return true;
}
