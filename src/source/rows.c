/* rows.c — see rows.h. */
#include "source/rows.h"

void ws_rows_enter(struct ws_run *list, size_t *count, size_t most, struct ws_run row) {
    size_t i = *count;
    if (i == most && list[i - 1].length >= row.length) return;
    if (i == most) i--;
    else ++*count;
    for (; i && list[i - 1].length < row.length; i--) list[i] = list[i - 1];
    list[i] = row;
}
