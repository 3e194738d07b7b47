/* compose.c — tables changed and put into a layout. */
#include "base/bytes.h"
#include "wild_satchel/table.h"

#include <string.h>

enum { SLOTS = 128, SLOT_SIZE = 128 };

static uint64_t sectors_of(const struct ws_table *t) { return t->disk_size / t->sector; }
static uint64_t entry_sectors(const struct ws_table *t) {
    return ws_div_up((uint64_t)t->slots * t->slot_size, t->sector);
}

void ws_table_new_gpt(struct ws_table *t, uint64_t disk_size, uint32_t sector, const struct ws_guid *disk_id) {
    memset(t, 0, sizeof *t);
    t->kind = WS_TABLE_GPT;
    t->disk_size = disk_size;
    t->sector = sector;
    t->disk_id = *disk_id;
    t->slots = SLOTS;
    t->slot_size = SLOT_SIZE;
    t->entries_lba = 2;
    t->first_usable = 2 + entry_sectors(t);
    t->backup_lba = sectors_of(t) - 1;
    t->last_usable = t->backup_lba - entry_sectors(t) - 1;
    t->mbr[0] = (struct ws_partition){.number = 1, .at = sector, .mbr_type = 0xee};
    t->mbr[0].length = ws_min_u64(sectors_of(t) - 1, 0xffffffff) * sector;
    t->mbr_count = 1;
}

void ws_table_new_mbr(struct ws_table *t, uint64_t disk_size, uint32_t sector, uint32_t disk_signature) {
    memset(t, 0, sizeof *t);
    t->kind = WS_TABLE_MBR;
    t->disk_size = disk_size;
    t->sector = sector;
    ws_store_le32(t->mbr_sector + 440, disk_signature);
}

static bool has_gpt(const struct ws_table *t) { return t->kind >= WS_TABLE_GPT; }
static bool mbr_counts(const struct ws_table *t) { return t->kind == WS_TABLE_MBR || t->kind == WS_TABLE_MBR_FIRST; }

/* What was not read would be lost by writing the table again. */
static enum ws_status check_whole(const struct ws_table *t, struct ws_error *error) {
    return t->gpt_more ? ws_fail(error, WS_E_UNSUPPORTED, "the GPT lists more than %d partitions: it is not rewritten",
                                 (int)WS_PARTITIONS_MOST)
                       : WS_OK;
}

enum ws_status ws_table_resize(struct ws_table *t, uint64_t disk_size, struct ws_error *error) {
    WS_TRY(check_whole(t, error));
    uint64_t was = sectors_of(t);
    t->disk_size = disk_size;
    uint64_t now = sectors_of(t);
    uint64_t last;
    if (has_gpt(t)) {
        if (now < 2 * entry_sectors(t) + 6)
            return ws_fail(error, WS_E_SPACE, "a drive of %llu bytes is too small for a GPT",
                           (unsigned long long)disk_size);
        t->backup_lba = now - 1;
        t->last_usable = last = t->backup_lba - entry_sectors(t) - 1;
        for (size_t i = 0; i < t->mbr_count; i++) {
            struct ws_partition *p = &t->mbr[i];
            bool whole = p->at / t->sector + p->length / t->sector >= was || t->kind == WS_TABLE_GPT;
            if (p->mbr_type == 0xee && p->at == t->sector && whole)
                p->length = ws_min_u64(now - 1, 0xffffffff) * t->sector;
        }
        for (size_t i = 0; i < t->gpt_count; i++)
            if (t->gpt[i].at + t->gpt[i].length > (last + 1) * t->sector)
                return ws_fail(error, WS_E_SPACE, "GPT partition %u does not fit on a drive of %llu bytes",
                               t->gpt[i].number, (unsigned long long)disk_size);
    }
    for (size_t i = 0; i < t->mbr_count; i++)
        if (t->mbr[i].mbr_type != 0xee && t->mbr[i].at + t->mbr[i].length > disk_size)
            return ws_fail(error, WS_E_SPACE, "MBR partition %u does not fit on a drive of %llu bytes",
                           t->mbr[i].number, (unsigned long long)disk_size);
    return WS_OK;
}

static unsigned free_number(const struct ws_partition *p, size_t count, unsigned most) {
    for (unsigned number = 1; number <= most; number++) {
        size_t i = 0;
        while (i < count && p[i].number != number) i++;
        if (i == count) return number;
    }
    return 0;
}

static enum ws_status check_room(const struct ws_partition *p, size_t count, uint64_t at, uint64_t length,
                                 struct ws_error *error) {
    for (size_t i = 0; i < count; i++)
        if (p[i].mbr_type != 0xee && at < p[i].at + p[i].length && p[i].at < at + length)
            return ws_fail(error, WS_E_RANGE, "a partition at byte %llu would overlap partition %u",
                           (unsigned long long)at, p[i].number);
    return WS_OK;
}

enum ws_status ws_table_add(struct ws_table *t, uint64_t at, uint64_t length, const char *type_word,
                            const struct ws_guid *id, const char *name, unsigned *number, struct ws_error *error) {
    WS_TRY(check_whole(t, error));
    const struct ws_partition_type *type = ws_partition_type_find(type_word);
    if (!type) return ws_fail(error, WS_E_USAGE, "\"%s\" is not a partition type this library knows", type_word);
    if (at % t->sector || length % t->sector || length == 0 || !ws_inside(at, length, t->disk_size))
        return ws_fail(error, WS_E_RANGE, "a partition of %llu bytes at byte %llu is not possible on this drive",
                       (unsigned long long)length, (unsigned long long)at);
    struct ws_partition made = {.at = at, .length = length, .mbr_type = type->mbr, .id = *id};
    (void)ws_guid_parse(type->guid, &made.type);
    strncpy(made.name, name, sizeof made.name - 1);
    ws_utf8_trim(made.name);
    unsigned in_mbr = 0;
    unsigned in_gpt = 0;
    if (has_gpt(t)) {
        in_gpt = free_number(t->gpt, t->gpt_count, t->slots < WS_PARTITIONS_MOST ? t->slots : WS_PARTITIONS_MOST);
        if (!in_gpt || t->gpt_count >= WS_PARTITIONS_MOST)
            return ws_fail(error, WS_E_SPACE, "all %u entries of the GPT are taken", t->slots);
        if (at / t->sector < t->first_usable || (at + length) / t->sector - 1 > t->last_usable)
            return ws_fail(error, WS_E_RANGE, "the partition would lie outside the GPT's usable area");
        WS_TRY(check_room(t->gpt, t->gpt_count, at, length, error));
    }
    if (mbr_counts(t)) {
        in_mbr = free_number(t->mbr, t->mbr_count, 4);
        if (!in_mbr) return ws_fail(error, WS_E_SPACE, "all four entries of the MBR are taken");
        if ((at + length) / t->sector > 0xffffffffull)
            return ws_fail(error, WS_E_RANGE, "an MBR cannot reach past sector 4294967295 (2 TiB)");
        WS_TRY(check_room(t->mbr, t->mbr_count, at, length, error));
    }
    if (in_gpt) {
        t->gpt[t->gpt_count] = made;
        t->gpt[t->gpt_count].mbr_type = 0;
        t->gpt[t->gpt_count++].number = in_gpt;
    }
    if (in_mbr) {
        memset(&made.type, 0, sizeof made.type);
        t->mbr[t->mbr_count] = made;
        t->mbr[t->mbr_count++].number = in_mbr;
    }
    *number = mbr_counts(t) ? in_mbr : in_gpt;
    return WS_OK;
}

struct entries {
    struct ws_partition *list;
    size_t count;
};
static void both_tables(struct ws_table *t, struct entries both[2]) {
    both[0] = (struct entries){t->mbr, t->mbr_count};
    both[1] = (struct entries){t->gpt, has_gpt(t) ? t->gpt_count : 0};
}

uint64_t ws_table_room_of(const struct ws_table *table, uint64_t at) {
    struct ws_table *t = (struct ws_table *)(uintptr_t)table; /* only looked at */
    struct entries both[2];
    uint64_t first, end;
    bool here = false;
    ws_table_free_tail(t, &first, &end);
    both_tables(t, both);
    for (int b = 0; b < 2; b++)
        for (size_t i = 0; i < both[b].count; i++) {
            const struct ws_partition *p = &both[b].list[i];
            if (p->mbr_type == 0xee) continue;
            here |= p->at == at;
            if (p->at > at) end = ws_min_u64(end, p->at);
        }
    return here ? end : 0;
}

enum ws_status ws_table_set_length(struct ws_table *t, uint64_t at, uint64_t length, struct ws_error *error) {
    struct entries both[2];
    const uint64_t end = ws_table_room_of(t, at);
    if (!end)
        return ws_fail(error, WS_E_NOTFOUND, "no partition that can be resized begins at byte %llu",
                       (unsigned long long)at);
    if (!length || length % t->sector || length > end - at)
        return ws_fail(error, WS_E_RANGE, "a partition of %llu bytes is not possible there",
                       (unsigned long long)length);
    both_tables(t, both);
    for (int b = 0; b < 2; b++)
        for (size_t i = 0; i < both[b].count; i++)
            if (both[b].list[i].at == at && both[b].list[i].mbr_type != 0xee) both[b].list[i].length = length;
    return WS_OK;
}

bool ws_table_stand_in(struct ws_table *t, uint64_t at, const struct ws_partition *place) {
    struct entries both[2];
    bool any = false;
    static const struct ws_guid none;
    const uint64_t first = place->at / t->sector, last = (place->at + place->length) / t->sector - 1;
    if (has_gpt(t) && (first < t->first_usable || last > t->last_usable)) return false;
    if (mbr_counts(t) && last > 0xfffffffe) return false;
    both_tables(t, both);
    for (int b = 0; b < 2; b++)
        for (size_t i = 0; i < both[b].count; i++) {
            struct ws_partition *p = &both[b].list[i];
            if (p->at != at || p->mbr_type == 0xee) continue;
            p->at = place->at;
            p->length = place->length;
            if (b == 1 && memcmp(&place->id, &none, sizeof none) != 0) p->id = place->id;
            any = true;
        }
    return any;
}

static size_t take_out(struct ws_partition *list, size_t count, uint64_t at) {
    size_t left = 0;
    for (size_t i = 0; i < count; i++)
        if (list[i].at != at || list[i].mbr_type == 0xee) list[left++] = list[i];
    return left;
}

bool ws_table_remove(struct ws_table *t, uint64_t at) {
    const size_t before = t->mbr_count + t->gpt_count;
    for (size_t i = 0; i < t->mbr_count; i++)
        if (t->mbr[i].at == at && t->mbr[i].mbr_type != 0xee)
            memset(t->mbr_sector + 446 + 16 * (size_t)(t->mbr[i].number - 1), 0, 16);
    t->mbr_count = take_out(t->mbr, t->mbr_count, at);
    if (has_gpt(t)) t->gpt_count = take_out(t->gpt, t->gpt_count, at);
    return t->mbr_count + t->gpt_count < before;
}

enum ws_status ws_table_grow(struct ws_table *t, uint64_t old_end, uint64_t new_end, bool *grown,
                             struct ws_error *error) {
    struct {
        struct ws_partition *list;
        size_t count;
    } both[2] = {{t->mbr, t->mbr_count}, {t->gpt, has_gpt(t) ? t->gpt_count : 0}};
    *grown = false;
    for (int b = 0; b < 2; b++) {
        struct ws_partition *best = NULL; /* the longest that reaches the old end: the image's own */
        for (size_t i = 0; i < both[b].count; i++) {
            struct ws_partition *p = &both[b].list[i];
            if (p->mbr_type == 0xee || p->at > 1024 * 1024 || p->at + p->length + 2048 < old_end) continue;
            if (!best || p->length > best->length) best = p;
        }
        if (!best) continue;
        uint64_t end = ws_round_up(new_end, t->sector);
        if (best->at + best->length >= end) {
            *grown = true;
            continue;
        }
        for (size_t i = 0; i < both[b].count; i++) {
            const struct ws_partition *p = &both[b].list[i];
            if (p != best && p->mbr_type != 0xee && p->at >= best->at + best->length && p->at < end)
                return ws_fail(error, WS_E_SPACE, "partition %u stands where the image's own would have to grow",
                               p->number);
        }
        best->length = end - best->at;
        *grown = true;
    }
    return WS_OK;
}

uint64_t ws_table_front_bytes(const struct ws_table *t) {
    return has_gpt(t) ? (t->entries_lba + entry_sectors(t)) * t->sector : t->sector;
}

uint64_t ws_table_back_bytes(const struct ws_table *t) { return has_gpt(t) ? (1 + entry_sectors(t)) * t->sector : 0; }

/* Cylinder, head and sector of the customary 255 by 63 geometry, or its greatest value (UEFI 2.10, table 5-2). */
static void store_chs(uint8_t *out, uint64_t lba) {
    uint64_t cylinder = lba / (255 * 63);
    if (cylinder > 1023) {
        out[0] = 0xfe;
        out[1] = out[2] = 0xff;
        return;
    }
    out[0] = (uint8_t)(lba / 63 % 255);
    out[1] = (uint8_t)((lba % 63 + 1) | (cylinder >> 2 & 0xc0));
    out[2] = (uint8_t)cylinder;
}

void ws_table_mbr_bytes(const struct ws_table *t, uint8_t out[512]) {
    memcpy(out, t->mbr_sector, 512);
    for (size_t i = 0; i < t->mbr_count; i++) {
        const struct ws_partition *p = &t->mbr[i];
        uint8_t *e = out + 446 + 16 * (size_t)(p->number - 1);
        uint64_t first = p->at / t->sector;
        uint64_t count = p->length / t->sector;
        bool same = ws_load_le32(e + 8) == first && ws_load_le32(e + 12) == count && e[4] == p->mbr_type;
        if (same) continue; /* an entry that stays keeps its bytes, whatever its author wrote as geometry */
        e[0] = p->active ? 0x80 : 0;
        if (p->mbr_type == 0xee) memcpy(e + 1, "\x00\x02\x00", 3);
        else store_chs(e + 1, first);
        e[4] = p->mbr_type;
        if (p->mbr_type == 0xee) memset(e + 5, 0xff, 3);
        else store_chs(e + 5, first + count - 1);
        ws_store_le32(e + 8, (uint32_t)first);
        ws_store_le32(e + 12, (uint32_t)count);
    }
    out[510] = 0x55;
    out[511] = 0xaa;
}

static void header_bytes(const struct ws_table *t, bool backup, uint32_t entries_crc, uint8_t *out) {
    memset(out, 0, 512);
    memcpy(out, "EFI PART", 8);
    ws_store_le32(out + 8, 0x00010000);
    ws_store_le32(out + 12, 92);
    ws_store_le64(out + 24, backup ? t->backup_lba : 1);
    ws_store_le64(out + 32, backup ? 1 : t->backup_lba);
    ws_store_le64(out + 40, t->first_usable);
    ws_store_le64(out + 48, t->last_usable);
    ws_guid_to_disk(&t->disk_id, out + 56);
    ws_store_le64(out + 72, backup ? t->backup_lba - entry_sectors(t) : t->entries_lba);
    ws_store_le32(out + 80, t->slots);
    ws_store_le32(out + 84, t->slot_size);
    ws_store_le32(out + 88, entries_crc);
    ws_store_le32(out + 16, ws_crc32(out, 92));
}

static enum ws_status compose_gpt(const struct ws_table *t, struct ws_layout *layout, struct ws_error *error) {
    struct ws_text entries = {0};
    uint8_t header[4096] = {0};
    uint8_t slot[4096];
    size_t bytes = (size_t)t->slots * t->slot_size;
    enum ws_status status;
    for (uint32_t i = 0; i < t->slots; i++) {
        memset(slot, 0, sizeof slot);
        for (size_t k = 0; k < t->gpt_count; k++) {
            const struct ws_partition *p = &t->gpt[k];
            if (p->number != i + 1) continue;
            uint16_t name[36] = {0};
            ws_guid_to_disk(&p->type, slot);
            ws_guid_to_disk(&p->id, slot + 16);
            ws_store_le64(slot + 32, p->at / t->sector);
            ws_store_le64(slot + 40, (p->at + p->length) / t->sector - 1);
            ws_store_le64(slot + 48, p->attributes);
            ws_utf16_from_utf8(p->name, name, 36);
            for (int c = 0; c < 36; c++) ws_store_le16(slot + 56 + 2 * c, name[c]);
        }
        ws_text_add(&entries, slot, t->slot_size);
    }
    WS_GO(ws_text_status(&entries, error));
    uint32_t crc = ws_crc32(entries.data, bytes);
    memset(slot, 0, sizeof slot);
    ws_text_add(&entries, slot, (size_t)(entry_sectors(t) * t->sector) - bytes);
    WS_GO(ws_text_status(&entries, error));
    header_bytes(t, false, crc, header);
    WS_GO(ws_layout_add_bytes(layout, t->sector, header, t->sector, WS_PHASE_SEAL, error));
    WS_GO(ws_layout_add_bytes(layout, t->entries_lba * t->sector, entries.data, entries.length, WS_PHASE_SEAL, error));
    WS_GO(ws_layout_add_bytes(layout, (t->backup_lba - entry_sectors(t)) * t->sector, entries.data, entries.length,
                              WS_PHASE_SEAL, error));
    header_bytes(t, true, crc, header);
    WS_GO(ws_layout_add_bytes(layout, t->backup_lba * t->sector, header, t->sector, WS_PHASE_SEAL, error));
done:
    ws_text_free(&entries);
    return status;
}

enum ws_status ws_table_compose(const struct ws_table *t, struct ws_layout *layout, struct ws_error *error) {
    WS_TRY(check_whole(t, error));
    uint8_t sector[4096] = {0};
    ws_table_mbr_bytes(t, sector);
    WS_TRY(ws_layout_add_bytes(layout, 0, sector, t->sector, WS_PHASE_SEAL, error));
    return has_gpt(t) ? compose_gpt(t, layout, error) : WS_OK;
}
