/* on_drive.c — the live system that a drive holds. */
#include "system/on_drive.h"

#include <stdlib.h>
#include <string.h>

enum ws_status on_drive_open(const struct ws_source *drive, uint32_t sector, struct on_drive *s,
                             struct ws_error *error) {
    s->table = malloc(sizeof *s->table);
    if (!s->table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    WS_TRY(ws_table_read(drive, sector, s->table, NULL, error));
    WS_TRY(ws_medium_open(drive, s->table, &s->medium, error));
    return ws_root_open(drive, s->medium.tree, NULL, &s->root, error);
}

void on_drive_close(struct on_drive *s) {
    ws_root_close(&s->root);
    ws_medium_close(&s->medium);
    free(s->table);
}

bool on_drive_is_for_firmware(const struct ws_partition *p) {
    const struct ws_partition_type *type = ws_partition_type_of(p);
    return type && strcmp(type->word, "efi") == 0;
}

uint64_t on_drive_medium_at(const struct ws_source *drive, const struct ws_table *table) {
    struct ws_medium medium = {0};
    struct ws_error ignored;
    if (ws_medium_open(drive, table, &medium, &ignored) != WS_OK) return UINT64_MAX;
    const uint64_t at = medium.at;
    ws_medium_close(&medium);
    return at;
}
