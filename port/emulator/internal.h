/* internal.h — the emulator's rooms. */
#ifndef WS_EMULATOR_INTERNAL_H
#define WS_EMULATOR_INTERNAL_H

#include "wild_satchel/port.h"

enum { EMULATOR_DISK_SECTORS = 131080 };

/* disk.c: a disk inside the PC, in a file of its own: somebody's files on ext4. `sha256` is that of its bytes. */
enum ws_status emulator_make_disk(char path[64], char sha256[WS_HASH_HEX], struct ws_error *error);
enum ws_status emulator_is_disk_touched(const char *path, const char *sha256, bool *touched, struct ws_error *error);

#endif
