/* read.c — tables off a drive, and everything that can be wrong with them. */
#include "base/bytes.h"
#include "table/internal.h"

#include <stdlib.h>
#include <string.h>

static void read_mbr(struct ws_table *t, const uint8_t *sector, struct ws_findings *findings) {
    memcpy(t->mbr_sector, sector, 512);
    if (sector[510] != 0x55 || sector[511] != 0xaa) return;
    unsigned active = 0;
    for (unsigned i = 0; i < 4; i++) { /* UEFI 2.10, table 5-2 */
        const uint8_t *e = sector + 446 + 16 * (size_t)i;
        if (e[0] != 0x00 && e[0] != 0x80) {
            ws_findings_add(findings, WS_FAULT, "MBR entry %u has the boot flag 0x%02x; only 0x00 and 0x80 are valid",
                            i + 1, e[0]);
            if (e[0] & 0x7f) { /* a boot sector with text where entries would be is no table */
                t->mbr_count = 0;
                return;
            }
        }
        uint64_t start = ws_load_le32(e + 8);
        uint64_t sectors = ws_load_le32(e + 12);
        if (e[4] == 0 && sectors == 0) continue;
        if (e[0] == 0x80) active++;
        struct ws_partition *p = &t->mbr[t->mbr_count++];
        p->number = i + 1;
        p->at = start * t->sector;
        p->length = sectors * t->sector;
        p->mbr_type = e[4];
        p->active = e[0] == 0x80;
    }
    if (active > 1) ws_findings_add(findings, WS_FAULT, "%u MBR entries are marked active; at most one may be", active);
}

/* One copy of the GPT header. UEFI 2.10, table 5-5. */
static const char *header_fault(const struct ws_table *t, const uint8_t *h, uint64_t lba) {
    uint8_t copy[512];
    uint32_t size = ws_load_le32(h + 12);
    if (memcmp(h, "EFI PART", 8) != 0) return "has no signature";
    if (ws_load_le32(h + 8) >> 16 != 1) return "is of an unknown revision";
    if (size < 92 || size > 512) return "states an impossible header size";
    memcpy(copy, h, 512);
    memset(copy + 16, 0, 4);
    if (ws_crc32(copy, size) != ws_load_le32(h + 16)) return "has a wrong checksum";
    if (ws_load_le64(h + 24) != lba) return "states another place than its own";
    uint32_t slot = ws_load_le32(h + 84);
    uint32_t slots = ws_load_le32(h + 80);
    if (slot < 128 || slot > 4096 || slot % 128 || slots == 0 || slots > 1024) return "states impossible entries";
    uint64_t last = t->disk_size / t->sector - 1;
    uint64_t entries = ws_load_le64(h + 72);
    if (entries < 2 || entries > last || (uint64_t)slots * slot > (last - entries + 1) * t->sector)
        return "places its entries outside the drive";
    return NULL;
}

struct copy {
    bool found; /* the signature is there */
    bool sound;
    uint8_t header[512];
    uint8_t *entries;
    size_t entries_bytes;
};

static enum ws_status read_copy(const struct ws_source *source, const struct ws_table *t, uint64_t lba,
                                const char *which, struct copy *copy, struct ws_findings *findings,
                                struct ws_error *error) {
    WS_TRY(ws_source_read(source, lba * t->sector, copy->header, 512, error));
    copy->found = memcmp(copy->header, "EFI PART", 8) == 0;
    const char *fault = header_fault(t, copy->header, lba);
    if (fault) {
        if (copy->found) ws_findings_add(findings, WS_FAULT, "the %s GPT header %s", which, fault);
        return WS_OK;
    }
    copy->entries_bytes = (size_t)ws_load_le32(copy->header + 80) * ws_load_le32(copy->header + 84);
    copy->entries = malloc(copy->entries_bytes);
    if (!copy->entries) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    WS_TRY(
        ws_source_read(source, ws_load_le64(copy->header + 72) * t->sector, copy->entries, copy->entries_bytes, error));
    copy->sound = ws_crc32(copy->entries, copy->entries_bytes) == ws_load_le32(copy->header + 88);
    if (!copy->sound) ws_findings_add(findings, WS_FAULT, "the %s GPT entries have a wrong checksum", which);
    return WS_OK;
}

static void take_copy(struct ws_table *t, const struct copy *copy, bool is_backup, struct ws_findings *findings) {
    const uint8_t *h = copy->header;
    t->slots = ws_load_le32(h + 80);
    t->slot_size = ws_load_le32(h + 84);
    t->first_usable = ws_load_le64(h + 40);
    t->last_usable = ws_load_le64(h + 48);
    t->backup_lba = ws_load_le64(h + (is_backup ? 24 : 32));
    t->entries_lba = is_backup ? 2 : ws_load_le64(h + 72);
    ws_guid_from_disk(h + 56, &t->disk_id);
    for (uint32_t i = 0; i < t->slots; i++) { /* UEFI 2.10, table 5-6 */
        static const uint8_t none[16];
        const uint8_t *e = copy->entries + (size_t)i * t->slot_size;
        if (memcmp(e, none, 16) == 0) continue;
        if (t->gpt_count == WS_PARTITIONS_MOST) {
            t->gpt_more = true;
            ws_findings_add(findings, WS_FAULT,
                            "the GPT lists more than %d partitions; those from entry %u on are not "
                            "looked at, and the table is never rewritten here",
                            (int)WS_PARTITIONS_MOST, i + 1);
            break;
        }
        uint64_t first = ws_load_le64(e + 32);
        uint64_t last = ws_load_le64(e + 40);
        uint64_t sectors = t->disk_size / t->sector;
        if (last < first || last >= sectors) {
            ws_findings_add(findings, WS_FAULT, "GPT partition %u runs from sector %llu to %llu; the drive has %llu",
                            i + 1, (unsigned long long)first, (unsigned long long)last, (unsigned long long)sectors);
            if (last < first || last > UINT64_MAX / t->sector - 1) continue;
        }
        struct ws_partition *p = &t->gpt[t->gpt_count++];
        uint16_t name[36];
        for (int k = 0; k < 36; k++) name[k] = ws_load_le16(e + 56 + 2 * k);
        size_t used = 0;
        while (used < 36 && name[used]) used++;
        ws_utf8_from_utf16(name, used, p->name, sizeof p->name);
        p->number = i + 1;
        p->at = first * t->sector;
        p->length = (last - first + 1) * t->sector;
        p->attributes = ws_load_le64(e + 48);
        ws_guid_from_disk(e, &p->type);
        ws_guid_from_disk(e + 16, &p->id);
    }
}

static void compare_copies(const struct ws_table *t, const struct copy *a, const struct copy *b,
                           struct ws_findings *findings) {
    if (a->entries_bytes != b->entries_bytes || memcmp(a->entries, b->entries, a->entries_bytes) != 0)
        ws_findings_add(findings, WS_FAULT, "the backup GPT lists other partitions than the primary");
    if (memcmp(a->header + 40, b->header + 40, 32) != 0)
        ws_findings_add(findings, WS_FAULT, "the backup GPT names another drive or usable area than the primary");
    if (ws_load_le64(b->header + 32) != 1)
        ws_findings_add(findings, WS_FAULT, "the backup GPT does not point back at the primary");
    if (t->backup_lba != t->disk_size / t->sector - 1)
        ws_findings_add(findings, WS_WARNING, "the backup GPT is not at the drive's end (sector %llu of %llu)",
                        (unsigned long long)t->backup_lba, (unsigned long long)(t->disk_size / t->sector));
}

uint32_t ws_table_sector_of(const struct ws_source *image) {
    char at_512[8];
    char at_4096[8];
    if (image->size < 8 * 4096 || ws_source_read(image, 512, at_512, 8, NULL) != WS_OK ||
        ws_source_read(image, 4096, at_4096, 8, NULL) != WS_OK)
        return 512;
    return memcmp(at_4096, "EFI PART", 8) == 0 && memcmp(at_512, "EFI PART", 8) != 0 ? 4096 : 512;
}

enum ws_status ws_table_read(const struct ws_source *source, uint32_t sector, struct ws_table *t,
                             struct ws_findings *findings, struct ws_error *error) {
    struct copy primary = {0};
    struct copy backup = {0};
    uint8_t first[512];
    enum ws_status status = WS_OK;
    memset(t, 0, sizeof *t);
    t->sector = sector;
    t->disk_size = source->size;
    if (source->size < 8ull * sector) return WS_OK;
    WS_TRY(ws_source_read(source, 0, first, 512, error));
    read_mbr(t, first, findings);
    WS_GO(read_copy(source, t, 1, "primary", &primary, findings, error));
    uint64_t last = t->disk_size / sector - 1;
    uint64_t backup_lba = primary.sound ? ws_load_le64(primary.header + 32) : last;
    if (backup_lba > 1 && backup_lba <= last)
        WS_GO(read_copy(source, t, backup_lba, "backup", &backup, findings, error));
    t->primary_sound = primary.sound;
    t->backup_sound = backup.sound;
    bool protective = false;
    bool others = false;
    for (size_t i = 0; i < t->mbr_count; i++) {
        if (t->mbr[i].mbr_type == 0xee) protective = true;
        else others = true;
    }
    if (primary.sound || (backup.sound && protective)) {
        take_copy(t, primary.sound ? &primary : &backup, !primary.sound, findings);
        if (!primary.sound)
            ws_findings_add(findings, WS_WARNING, "the primary GPT is damaged; its backup at the drive's end was used");
        if (primary.sound && backup.sound) compare_copies(t, &primary, &backup, findings);
        else if (primary.sound) ws_findings_add(findings, WS_WARNING, "the backup GPT is missing or damaged");
        t->kind = !protective ? WS_TABLE_MBR_FIRST : others ? WS_TABLE_HYBRID : WS_TABLE_GPT;
        if (!protective && !others)
            ws_findings_add(findings, WS_FAULT, "there is a GPT but no protective entry in the MBR: systems ignore it");
    } else if (protective) {
        ws_findings_add(findings, WS_FAULT, "the MBR announces a GPT, but neither copy of it is sound");
        t->kind = WS_TABLE_MBR;
    } else if (t->mbr_count) {
        t->kind = WS_TABLE_MBR;
        WS_GO(table_read_logical(source, t, findings, error));
    }
done:
    free(primary.entries);
    free(backup.entries);
    return status;
}

/* Live images nest an EFI partition inside the image's own; part inside part is their custom, crossing never is. */
static void check_overlaps(const struct ws_partition *p, size_t count, const char *table,
                           struct ws_findings *findings) {
    for (size_t i = 0; i < count; i++)
        for (size_t k = i + 1; k < count; k++) {
            if (p[i].mbr_type == 0xee || p[k].mbr_type == 0xee) continue;
            uint64_t a = p[i].at, a_end = a + p[i].length;
            uint64_t b = p[k].at, b_end = b + p[k].length;
            if (a >= b_end || b >= a_end) continue;
            bool nested = (a <= b && b_end <= a_end) || (b <= a && a_end <= b_end);
            bool twins = a == b && a_end == b_end;
            if (nested && !twins) continue;
            ws_findings_add(findings, WS_FAULT, "%s partitions %u and %u overlap", table, p[i].number, p[k].number);
        }
}

static void check_places(const struct ws_table *t, struct ws_findings *findings) {
    for (size_t i = 0; i < t->mbr_count; i++) {
        const struct ws_partition *p = &t->mbr[i];
        if (p->length == 0) ws_findings_add(findings, WS_FAULT, "MBR partition %u has no length", p->number);
        else if (!ws_inside(p->at, p->length, t->disk_size) && p->mbr_type != 0xee)
            ws_findings_add(findings, WS_FAULT, "MBR partition %u reaches past the end of the drive", p->number);
        if (p->mbr_type != 0xee && p->at == t->sector && t->primary_sound)
            ws_findings_add(findings, WS_FAULT, "the entry that should protect the GPT is of another type (0x%02x)",
                            p->mbr_type);
        if (p->mbr_type == 0xee && p->at != t->sector)
            ws_findings_add(findings, WS_FAULT, "the protective entry does not start at sector 1");
        if (p->mbr_type == 0xee && t->kind == WS_TABLE_GPT) {
            uint64_t meant = ws_min_u64(t->disk_size / t->sector - 1, 0xffffffff) * t->sector;
            if (p->length != meant && p->length != 0xffffffffull * t->sector)
                ws_findings_add(findings, WS_WARNING, "the protective entry does not cover the whole drive");
        }
    }
    for (size_t i = 0; i < t->gpt_count; i++) {
        const struct ws_partition *p = &t->gpt[i];
        uint64_t first = p->at / t->sector;
        uint64_t last = (p->at + p->length) / t->sector - 1;
        if (first < t->first_usable || last > t->last_usable)
            ws_findings_add(findings, t->kind == WS_TABLE_GPT ? WS_FAULT : WS_NOTE,
                            "GPT partition %u lies outside the usable area (sectors %llu to %llu)", p->number,
                            (unsigned long long)t->first_usable, (unsigned long long)t->last_usable);
        for (size_t k = i + 1; k < t->gpt_count; k++)
            if (memcmp(&p->id, &t->gpt[k].id, sizeof p->id) == 0)
                ws_findings_add(findings, WS_FAULT, "GPT partitions %u and %u have the same identifier", p->number,
                                t->gpt[k].number);
    }
    if (t->kind >= WS_TABLE_GPT && (t->first_usable > t->last_usable || t->last_usable >= t->disk_size / t->sector))
        ws_findings_add(findings, WS_FAULT, "the GPT's usable area is impossible");
}

enum ws_status ws_table_check(const struct ws_source *source, uint32_t sector, struct ws_findings *findings,
                              struct ws_error *error) {
    struct ws_table *t = malloc(sizeof *t);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = ws_table_read(source, sector, t, findings, error);
    if (status == WS_OK && t->kind == WS_TABLE_NONE) ws_findings_add(findings, WS_FAULT, "there is no partition table");
    if (status == WS_OK && t->kind != WS_TABLE_NONE) {
        check_places(t, findings);
        check_overlaps(t->mbr, t->mbr_count, "MBR", findings);
        check_overlaps(t->gpt, t->gpt_count, "GPT", findings);
        if (t->kind >= WS_TABLE_GPT && (!t->primary_sound || !t->backup_sound))
            ws_findings_add(findings, WS_FAULT, "not both copies of the GPT are sound");
        if (t->kind >= WS_TABLE_GPT && t->backup_lba != t->disk_size / t->sector - 1)
            ws_findings_add(findings, WS_FAULT, "the GPT's backup is not in the drive's last sector");
    }
    free(t);
    return status;
}
