/* internal.h — a table's parts that are read apart. */
#ifndef WS_TABLE_INTERNAL_H
#define WS_TABLE_INTERNAL_H

#include "wild_satchel/table.h"

/* logical.c: the partitions inside an extended entry of the MBR. What cannot be is a finding, and ends the row. */
enum ws_status table_read_logical(const struct ws_source *source, struct ws_table *table, struct ws_findings *findings,
                                  struct ws_error *error);

#endif
