/* on_drive.h — the live system that a drive holds: its medium, and the root on that. */
#ifndef WS_SYSTEM_ON_DRIVE_H
#define WS_SYSTEM_ON_DRIVE_H

#include "wild_satchel/medium.h"
#include "wild_satchel/system.h"

/* Zero-initialise. */
struct on_drive {
    struct ws_table *table;
    struct ws_medium medium;
    struct ws_root root;
};

/* Borrows `drive`; on_drive_close() is due whatever comes of it. */
enum ws_status on_drive_open(const struct ws_source *drive, uint32_t sector, struct on_drive *s,
                             struct ws_error *error);
void on_drive_close(struct on_drive *s);
/* Is it a partition that firmware starts from? */
bool on_drive_is_for_firmware(const struct ws_partition *p);
/* Byte at which the volume begins that a live system is read from; UINT64_MAX if there is none. */
uint64_t on_drive_medium_at(const struct ws_source *drive, const struct ws_table *table);

#endif
