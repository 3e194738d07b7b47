/* place.c — start-up code put on a drive. */
#include "base/bytes.h"
#include "boot/code.h"
#include "wild_satchel/start.h"

#include <stdlib.h>
#include <string.h>

/* mbr.S, at `record`; it reads pieces of 8 KiB. */
enum { RECORD_LBA = 424, RECORD_SECTORS = 432, RECORD_SUM = 434, CODE_BYTES = 440, PIECE = 8192 };

uint64_t ws_start_stage_bytes(void) { return ws_round_up(ws_code_bios_second_length, PIECE); }

bool ws_start_is_ours(const uint8_t sector[512]) { return memcmp(sector, ws_code_bios_first, RECORD_LBA) == 0; }

bool ws_start_stage_is_sound(const struct ws_source *drive) {
    uint8_t sector[512];
    uint8_t piece[512];
    uint32_t sum = 0;
    if (ws_source_read(drive, 0, sector, sizeof sector, NULL) != WS_OK) return false;
    uint64_t lba = ws_load_le64(sector + RECORD_LBA);
    unsigned count = ws_load_le16(sector + RECORD_SECTORS);
    if (count == 0 || count > PIECE / 512 * 8 || lba > 1u << 20) return false;
    for (unsigned i = 0; i < count; i++) {
        if (ws_source_read(drive, (lba + i) * 512, piece, sizeof piece, NULL) != WS_OK) return false;
        for (unsigned k = 0; k < sizeof piece; k += 4) sum += ws_load_le32(piece + k);
    }
    return sum == ws_load_le32(sector + RECORD_SUM);
}

bool ws_start_program_is_ours(const struct ws_source *program) {
    char *bytes = NULL;
    size_t length = 0;
    if (!program || program->size != ws_code_uefi_length) return false;
    bool ours = ws_source_load(program, ws_code_uefi_length, &bytes, &length, NULL) == WS_OK &&
                memcmp(bytes, ws_code_uefi, length) == 0;
    free(bytes);
    return ours;
}

const uint8_t *ws_start_uefi_program(size_t *length) {
    *length = ws_code_uefi_length;
    return ws_code_uefi;
}

enum ws_status ws_start_add_bios(struct ws_table *table, struct ws_layout *layout, struct ws_error *error) {
    uint64_t bytes = ws_start_stage_bytes();
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++)
        if (p[i].at < WS_START_STAGE_AT + bytes)
            return ws_fail(error, WS_E_SPACE, "partition %u begins where the start-up code for BIOS has to stand",
                           p[i].number);
    uint8_t *stage = calloc(1, (size_t)bytes);
    if (!stage) return ws_fail(error, WS_E_NOMEM, "out of memory for start-up code");
    memcpy(stage, ws_code_bios_second, ws_code_bios_second_length);
    uint32_t sum = 0;
    for (uint64_t i = 0; i < bytes; i += 4) sum += ws_load_le32(stage + i);
    memcpy(table->mbr_sector, ws_code_bios_first, CODE_BYTES);
    ws_store_le64(table->mbr_sector + RECORD_LBA, WS_START_STAGE_AT / 512);
    ws_store_le16(table->mbr_sector + RECORD_SECTORS, (uint16_t)(bytes / 512));
    ws_store_le32(table->mbr_sector + RECORD_SUM, sum);
    enum ws_status status = ws_layout_add_bytes(layout, WS_START_STAGE_AT, stage, (size_t)bytes, WS_PHASE_BODY, error);
    free(stage);
    return status;
}
