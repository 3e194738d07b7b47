/* internal.h — the log of a change, made and carried out. */
#ifndef WS_CHANGE_INTERNAL_H
#define WS_CHANGE_INTERNAL_H

#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/change.h"

enum { CHANGE_HEAD = 64, CHANGE_ROW = 16 };

/* mark.c */
void change_mark_make(const struct ws_changing *changing, char sector[512]);

/* log.c: the log as a layout from its own byte 0 on, frozen; it borrows `layout`. */
enum ws_status change_log_make(const struct ws_layout *layout, struct ws_layout **log, struct ws_error *error);
/* Carry out the log that the drive holds: all but the first sector, flushed, then that, flushed. */
enum ws_status change_log_apply(struct ws_drive *drive, const struct ws_changing *changing, struct ws_pace *pace,
                                uint64_t *written, struct ws_error *error);

#endif
