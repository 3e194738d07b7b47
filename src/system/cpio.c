/* cpio.c — the same bytes as entries.sh makes. */
#include "system/cpio.h"

#include <string.h>

void cpio_add(struct ws_text *out, unsigned *serial, const char *name, unsigned mode, const void *bytes,
              size_t length) {
    const size_t named = strlen(name) + 1;
    ws_text_printf(out, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s", ++*serial, mode, 0, 0, 1, 0,
                   (unsigned)length, 0, 0, 0, 0, (unsigned)named, 0, name);
    ws_text_add(out, "\0\0\0", 1 + (4 - (110 + named) % 4) % 4);
    ws_text_add(out, bytes, length);
    ws_text_add(out, "\0\0\0", (4 - length % 4) % 4);
}

void cpio_end(struct ws_text *out, unsigned *serial) { cpio_add(out, serial, "TRAILER!!!", 0, "", 0); }
