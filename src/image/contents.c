/* contents.c — a drive looked through, partition by partition. */
#include "wild_satchel/contents.h"

#include "base/bytes.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/write.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Formats that are named but not read here: where their signature stands. */
static const struct {
    const char *name;
    uint32_t at;
    const char *signature;
    size_t length;
} signatures[] = {
    {"NTFS", 3, "NTFS    ", 8},      {"exFAT", 3, "EXFAT   ", 8},      {"XFS", 0, "XFSB", 4},
    {"Btrfs", 65600, "_BHRfS_M", 8}, {"LUKS", 0, "LUKS\xba\xbe", 6},   {"F2FS", 1024, "\x10\x20\xf5\xf2", 4},
    {"squashfs", 0, "hsqs", 4},      {"swap", 4086, "SWAPSPACE2", 10}, {"LVM", 536, "LVM2 001", 8},
};

static void look_at(const struct ws_source *drive, struct ws_content *c) {
    struct ws_source *slice = NULL;
    struct ws_ext4_facts ext4;
    struct ws_fat_facts fat;
    uint8_t sector[2048];
    (void)snprintf(c->system, sizeof c->system, "unknown");
    c->clean = true;
    if (!ws_inside(c->at, c->length, drive->size) || ws_source_slice(drive, c->at, c->length, &slice, NULL) != WS_OK) {
        (void)snprintf(c->system, sizeof c->system, "outside the drive");
        return;
    }
    if (ws_ext4_probe(slice, &ext4, NULL) == WS_OK) {
        (void)snprintf(c->system, sizeof c->system, "ext4");
        (void)snprintf(c->label, sizeof c->label, "%s", ext4.label);
        c->free_bytes = ext4.free_bytes;
        c->counted = true;
        c->clean = ext4.clean;
    } else if (slice->size >= 18 * 2048 && ws_source_read(slice, 16 * 2048, sector, 2048, NULL) == WS_OK &&
               memcmp(sector + 1, "CD001", 5) == 0) {
        (void)snprintf(c->system, sizeof c->system, "ISO 9660");
        (void)snprintf(c->label, sizeof c->label, "%.32s", (const char *)sector + 40);
        for (size_t n = strlen(c->label); n > 0 && c->label[n - 1] == ' '; n--) c->label[n - 1] = '\0';
    } else if (ws_fat_probe(slice, &fat, NULL) == WS_OK) {
        (void)snprintf(c->system, sizeof c->system, "FAT%u", fat.bits);
        (void)snprintf(c->label, sizeof c->label, "%s", fat.label);
        c->free_bytes = fat.free_bytes;
        c->counted = true;
        c->clean = fat.clean;
    } else {
        bool zero = true;
        for (size_t i = 0; i < sizeof signatures / sizeof signatures[0]; i++) {
            uint8_t found[16];
            if (slice->size < signatures[i].at + 16ull) continue;
            if (ws_source_read(slice, signatures[i].at, found, signatures[i].length, NULL) != WS_OK) continue;
            if (memcmp(found, signatures[i].signature, signatures[i].length) == 0)
                (void)snprintf(c->system, sizeof c->system, "%s", signatures[i].name);
        }
        size_t length = (size_t)ws_min_u64(sizeof sector, slice->size);
        if (ws_source_read(slice, 0, sector, length, NULL) == WS_OK)
            for (size_t i = 0; i < length; i++) zero &= sector[i] == 0;
        else zero = false;
        if (zero && strcmp(c->system, "unknown") == 0) (void)snprintf(c->system, sizeof c->system, "empty");
    }
    ws_source_close(slice);
}

static void summarise(struct ws_contents *c) {
    size_t n = 0;
    if (c->unfinished) {
        (void)snprintf(c->summary, sizeof c->summary, "an unfinished build");
        return;
    }
    for (size_t i = 0; i < c->parts && n + 60 < sizeof c->summary; i++) {
        const struct ws_content *p = &c->part[i];
        char size[24];
        if (c->parts > 1 && p->number == 0) continue;
        int put = snprintf(c->summary + n, sizeof c->summary - n, "%s%s%s%.24s%s %s", n ? ", " : "", p->system,
                           p->label[0] ? " \"" : "", p->label, p->label[0] ? "\"" : "",
                           ws_size_counted(p->length, size, sizeof size));
        n += put > 0 ? (size_t)put : 0;
    }
    if (c->blank) (void)snprintf(c->summary, sizeof c->summary, "blank");
    else if (n == 0) (void)snprintf(c->summary, sizeof c->summary, "unknown contents");
}

enum ws_status ws_contents_look(const struct ws_source *drive, uint32_t sector, struct ws_contents *c,
                                struct ws_error *error) {
    uint8_t first[512];
    struct ws_table *table = malloc(sizeof *table);
    memset(c, 0, sizeof *c);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = WS_OK;
    WS_GO(ws_source_read(drive, 0, first, sizeof first, error));
    WS_GO(ws_table_read(drive, sector, table, NULL, error));
    c->unfinished = ws_is_unfinished(first);
    c->table = c->unfinished ? WS_TABLE_NONE : table->kind;
    size_t count = 0;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; !c->unfinished && i < count && c->parts < WS_CONTENTS_MOST; i++) {
        if (p[i].mbr_type == 0xee) continue;
        struct ws_content *part = &c->part[c->parts++];
        part->number = p[i].number;
        part->at = p[i].at;
        part->length = p[i].length;
        look_at(drive, part);
    }
    if (c->parts == 0 && !c->unfinished) {
        c->part[0].length = drive->size;
        look_at(drive, &c->part[0]);
        c->parts = 1;
        c->blank = strcmp(c->part[0].system, "empty") == 0;
    }
    summarise(c);
done:
    free(table);
    return status;
}
