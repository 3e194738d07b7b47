/* rows.h — the longest of many rows of bytes: there are as many of them as gaps between files. */
#ifndef WS_SOURCE_ROWS_H
#define WS_SOURCE_ROWS_H

#include "wild_satchel/source.h"

/** Enter a row into a list of the longest, the longest first. @param count  in and out: at most `most` */
void ws_rows_enter(struct ws_run *list, size_t *count, size_t most, struct ws_run row);

#endif
