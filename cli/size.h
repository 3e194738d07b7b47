/* size.h — parts of `satchel size` that live drives and full systems share. */
#ifndef CLI_SIZE_H
#define CLI_SIZE_H

#include "cli/cli.h"

#include "wild_satchel/sizing.h"

/* What is to be kept, and why it takes so much. `where`: on what that must be free. */
void size_show_items(const struct cli *cli, const struct ws_sizing *sizing, const char *where);
json_t *size_items_json(const struct ws_sizing *sizing);
/* Gigabytes of the drive as sold that holds so much; 0: none is. */
uint64_t size_sold_for(uint64_t bytes);

/* Does it fit on the drive? Nothing where no drive is named. */
const char *size_fit(const struct ws_drive_facts *drive, uint64_t needed, enum ink *colour);

/* size_system.c: all of it for a full system. @return the exit code */
int size_system(struct cli *cli, const char *image, const char *edition, const struct ws_wishes *wishes,
                const char *memory, const struct ws_drive_facts *drive);

/* size_twin.c: all of it for a twin. */
int size_twin(struct cli *cli, const char *original, uint32_t leave_out, const struct ws_drive_facts *drive);

#endif
