/* table.h — a partition made longer, in the table of the drive that it stands on. */
#ifndef WS_START_TABLE_H
#define WS_START_TABLE_H

#include "../start.h"

enum grown { GROWN_NOT, GROWN, GROWN_FAILED };
/* The partition that begins at byte `at` is to reach to the last whole MiB of the drive, if it is the last one on it.
 * GPT (UEFI Specification 2.10, section 5.3) or MBR; whatever write is the last one before a power cut, the table is
 * valid, with the old end or the new one, and another call goes on from there.
 * @param length  out: of the partition, bytes; set unless it failed, which start_fail() says */
enum grown table_grow(struct start_machine *m, uint64_t at, uint64_t *length);

#endif
