/* internal.h — the shape of a FAT volume (FAT specification, sections 3.1 to 3.5). */
#ifndef WS_FS_FAT_INTERNAL_H
#define WS_FS_FAT_INTERNAL_H

#include "base/bytes.h"
#include "base/calendar.h"
#include "fs/attributes.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/names.h"

enum { FAT_SECTOR_USUAL = 512, FAT_SECTOR_MOST = 4096 };

struct fat_shape {
    unsigned bits;
    uint32_t sector, cluster; /* bytes */
    uint64_t sectors, reserved, fat_sectors, fats, root_entries, clusters;
    uint32_t root_cluster; /* FAT32 */
};
static inline uint64_t fat_root_at(const struct fat_shape *s) {
    return (s->reserved + s->fats * s->fat_sectors) * s->sector;
}
static inline uint64_t fat_data_at(const struct fat_shape *s) {
    return fat_root_at(s) + ws_round_up(s->root_entries * 32, s->sector);
}
static inline uint32_t fat_end_mark(unsigned bits) { return bits == 12 ? 0xfff : bits == 16 ? 0xffff : 0x0fffffff; }
/** Checksum that ties long-name entries to their short one (section 7.2). */
static inline uint8_t fat_name_sum(const uint8_t name[11]) {
    uint8_t sum = 0;
    for (int i = 0; i < 11; i++) sum = (uint8_t)((sum & 1 ? 0x80 : 0) + (sum >> 1) + name[i]);
    return sum;
}

/** A volume's first allocation table, whole. */
struct fat_table {
    struct fat_shape s;
    uint8_t *bytes; /**< owned */
};
/** Read it. @return WS_E_NOTFOUND if there is no FAT volume; on failure nothing is held */
enum ws_status fat_table_open(const struct ws_source *volume, struct fat_table *table, struct ws_error *error);
uint32_t fat_entry(const struct fat_table *table, uint32_t cluster);
/** Set one in memory; of 32 bits all of them. */
void fat_set_entry(uint8_t *fat, unsigned bits, uint64_t cluster, uint32_t value);

/** A folder's record (section 6), without a long name. */
void fat_record(uint8_t record[32], const uint8_t name[11], uint8_t attributes, uint64_t cluster, uint64_t size,
                int64_t time);
/** The 11 bytes of a short name; true if they say the whole name and no long one is needed. */
bool fat_plain_short(const char *name, uint8_t out[11]);
/** The next short name to be tried for a long one, from 0 on. */
void fat_short_candidate(const char *name, unsigned attempt, uint8_t out[11]);
/** How many records a long name takes; 0: it needs none. */
size_t fat_long_pieces(const char *name);
void fat_add_long(struct ws_text *out, const char *name, const uint8_t short_form[11], size_t pieces);
/** Short names for a folder's children, in order, no two alike; free with free(). */
enum ws_status fat_short_names(const struct ws_node *folder, uint8_t (**names)[11], struct ws_error *error);

#endif
