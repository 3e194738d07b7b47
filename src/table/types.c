/* types.c — partition types as data, and small questions about a table. */
#include "base/bytes.h"
#include "wild_satchel/table.h"

#include <string.h>

static const struct ws_partition_type types[] = {
    {"linux", 0x83, "0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux data"},
    {"efi", 0xef, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system partition"},
    {"data", 0x0c, "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "FAT or exFAT data"},
    {"exfat", 0x07, "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "exFAT data"},
    {"swap", 0x82, "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
    {"bios-code", 0x00, "21686148-6449-6e6f-744e-656564454649", "start-up code for BIOS"},
    {"iso", 0x17, "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "live image"},
    {"iso", 0xcd, "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "live image"},
    {"protective", 0xee, "00000000-0000-0000-0000-000000000000", "GPT's protective entry"},
};

const struct ws_partition_type *ws_partition_type_find(const char *word) {
    for (size_t i = 0; i < sizeof types / sizeof types[0]; i++)
        if (strcmp(types[i].word, word) == 0) return &types[i];
    return NULL;
}

const struct ws_partition_type *ws_partition_type_of(const struct ws_partition *partition) {
    char text[37];
    static const struct ws_guid none;
    bool by_guid = memcmp(&partition->type, &none, sizeof none) != 0;
    ws_guid_text(&partition->type, text);
    for (size_t i = 0; i < sizeof types / sizeof types[0]; i++)
        if (by_guid ? strcmp(types[i].guid, text) == 0 : types[i].mbr && types[i].mbr == partition->mbr_type)
            return &types[i];
    return NULL;
}

const char *ws_table_kind_name(enum ws_table_kind kind) {
    static const char *const names[] = {"none", "mbr", "gpt", "hybrid", "mbr-first"};
    return names[kind];
}

const struct ws_partition *ws_table_partitions(const struct ws_table *table, size_t *count) {
    bool gpt = table->kind == WS_TABLE_GPT || table->kind == WS_TABLE_HYBRID;
    *count = gpt ? table->gpt_count : table->mbr_count;
    return gpt ? table->gpt : table->mbr;
}

void ws_table_free_tail(const struct ws_table *table, uint64_t *first, uint64_t *end) {
    *first = 0;
    bool has_gpt = table->kind >= WS_TABLE_GPT;
    *end = has_gpt ? (table->last_usable + 1) * table->sector : table->disk_size / table->sector * table->sector;
    if (table->kind == WS_TABLE_MBR || table->kind == WS_TABLE_MBR_FIRST)
        *end = ws_min_u64(*end, 0xffffffffull * table->sector);
    for (size_t i = 0; i < table->mbr_count; i++)
        if (table->mbr[i].mbr_type != 0xee) *first = ws_max_u64(*first, table->mbr[i].at + table->mbr[i].length);
    if (has_gpt)
        for (size_t i = 0; i < table->gpt_count; i++)
            *first = ws_max_u64(*first, table->gpt[i].at + table->gpt[i].length);
}
