/* logical.c — partitions inside an extended entry of an MBR: a row of records, each with one partition and the way to
 * the next. Installers of PC systems still make them, for swap most of all.
 */
#include "base/bytes.h"
#include "table/internal.h"

#include <stdlib.h>

static bool is_extended(uint8_t type) { return type == 0x05 || type == 0x0f || type == 0x85; }

/* One record. `next` is 0 where the row ends. @return false if it is none */
static enum ws_status take_record(const struct ws_source *source, struct ws_table *t, uint64_t outer, uint64_t at,
                                  uint64_t *next, bool *good, struct ws_error *error) {
    uint8_t sector[512];
    *next = 0;
    WS_TRY(ws_source_read(source, at, sector, sizeof sector, error));
    *good = sector[510] == 0x55 && sector[511] == 0xaa;
    for (unsigned i = 0; i < 2 && *good; i++) { /* places count from this record, and from the outer entry */
        const uint8_t *e = sector + 446 + 16 * (size_t)i;
        const uint64_t start = (uint64_t)ws_load_le32(e + 8) * t->sector;
        const uint64_t length = (uint64_t)ws_load_le32(e + 12) * t->sector;
        if (e[4] == 0 || length == 0) continue;
        if (is_extended(e[4])) {
            *next = outer + start;
            continue;
        }
        if (t->logical_count == WS_LOGICAL_MOST) return WS_OK;
        struct ws_partition *p = &t->logical[t->logical_count];
        *p = (struct ws_partition){.number = (unsigned)(5 + t->logical_count++),
                                   .at = at + start,
                                   .length = length,
                                   .mbr_type = e[4],
                                   .active = e[0] == 0x80};
        *good = ws_inside(p->at, p->length, t->disk_size);
        if (!*good) t->logical_count--;
    }
    return WS_OK;
}

enum ws_status table_read_logical(const struct ws_source *source, struct ws_table *t, struct ws_findings *findings,
                                  struct ws_error *error) {
    const struct ws_partition *outer = NULL;
    for (size_t i = 0; i < t->mbr_count && !outer; i++)
        if (is_extended(t->mbr[i].mbr_type)) outer = &t->mbr[i];
    if (!outer) return WS_OK;
    bool good = true;
    uint64_t next = outer->at;
    for (unsigned i = 0; next && i < WS_LOGICAL_MOST; i++) {
        const uint64_t at = next;
        good = at >= outer->at && at - outer->at < outer->length && ws_inside(at, 512, t->disk_size);
        if (good) WS_TRY(take_record(source, t, outer->at, at, &next, &good, error));
        if (!good) break;
    }
    if (!good)
        ws_findings_add(findings, WS_FAULT,
                        "the partitions inside MBR partition %u are damaged; %zu of them could be read", outer->number,
                        t->logical_count);
    return WS_OK;
}

static int in_order(const void *a, const void *b) {
    const struct ws_partition *const *x = a, *const *y = b;
    return (*x)->at < (*y)->at ? -1 : (*x)->at > (*y)->at;
}

size_t ws_table_volumes(const struct ws_table *t, const struct ws_partition *list[WS_VOLUME_PLACES]) {
    size_t count, found = 0;
    const struct ws_partition *p = ws_table_partitions(t, &count);
    for (size_t i = 0; i < count && found < WS_VOLUME_PLACES; i++)
        if (p[i].mbr_type != 0xee && !is_extended(p[i].mbr_type)) list[found++] = &p[i];
    for (size_t i = 0; i < t->logical_count && t->kind == WS_TABLE_MBR && found < WS_VOLUME_PLACES; i++)
        list[found++] = &t->logical[i];
    qsort(list, found, sizeof *list, in_order);
    return found;
}
