/* origin.c — what a drive itself says of what it was made from. */
#include "plan/laid.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/passport.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum ws_status ws_origin_look(const struct ws_source *drive, uint32_t sector, struct ws_origin *origin,
                              struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    struct ws_medium medium = {0};
    struct laid laid = {.made_at = 0};
    memset(origin, 0, sizeof *origin);
    enum ws_status status = table ? ws_table_read(drive, sector, table, NULL, error)
                                  : ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    if (status == WS_OK) status = ws_medium_open(drive, table, &medium, error);
    if (status == WS_OK) status = laid_read(medium.tree, &laid, error);
    if (status == WS_OK) {
        memcpy(origin->title, laid.title, sizeof origin->title);
        memcpy(origin->sha256, laid.image_sha256, sizeof origin->sha256);
        origin->size = laid.image_size;
        origin->made_at = laid.made_at;
        laid_free(&laid);
    }
    ws_medium_close(&medium);
    free(table);
    return status;
}
