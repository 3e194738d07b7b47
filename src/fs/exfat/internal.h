/* internal.h — the shape of an exFAT volume (specification, section 2), its checksums and times. */
#ifndef WS_FS_EXFAT_INTERNAL_H
#define WS_FS_EXFAT_INTERNAL_H

#include "base/bytes.h"
#include "base/calendar.h"
#include "fs/attributes.h"
#include "wild_satchel/exfat.h"
#include "wild_satchel/names.h"

enum { EXFAT_SECTOR_LEAST = 512, EXFAT_SECTOR_MOST = 4096, EXFAT_ENTRY = 32, EXFAT_BOOT_SECTORS = 12 };
#define EXFAT_END 0xffffffffu /* of a chain */
#define EXFAT_CLUSTERS_MOST 0xfffffff5u

/* Types of directory entries (section 6 and 7). */
enum {
    ENTRY_BITMAP = 0x81,
    ENTRY_UPCASE = 0x82,
    ENTRY_LABEL = 0x83,
    ENTRY_FILE = 0x85,
    ENTRY_STREAM = 0xc0,
    ENTRY_NAME = 0xc1
};

struct exfat_shape {
    uint64_t sectors, fat_at, fat_sectors, heap_at; /* in sectors from the volume's start */
    uint64_t clusters;
    uint32_t sector, cluster; /* bytes */
    uint32_t root;
};

enum { EXFAT_SET_MOST = 19 * EXFAT_ENTRY };
/* Sections 7.4, 7.6, 7.7: one file's or folder's entries, contiguous. @return their bytes */
size_t exfat_set_make(uint8_t set[EXFAT_SET_MOST], const struct ws_node *node, uint32_t cluster, uint64_t length);

/* Section 6.3.3: over a whole entry set, its own field (bytes 2 and 3) left out. */
static inline uint16_t exfat_set_checksum(const uint8_t *set, size_t length) {
    uint16_t sum = 0;
    for (size_t i = 0; i < length; i++)
        if (i != 2 && i != 3) sum = (uint16_t)(((sum << 15) | (sum >> 1)) + set[i]);
    return sum;
}

/* Sections 3.4 and 7.2.2; `boot` leaves out VolumeFlags and PercentInUse. */
static inline uint32_t exfat_checksum(uint32_t sum, const uint8_t *bytes, size_t length, bool boot) {
    for (size_t i = 0; i < length; i++)
        if (!boot || (i != 106 && i != 107 && i != 112)) sum = ((sum << 31) | (sum >> 1)) + bytes[i];
    return sum;
}

#endif
