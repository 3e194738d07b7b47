/* cpio.h — archives that a kernel unpacks into its initial RAM disk (Linux, buffer-format.rst: "newc"). */
#ifndef WS_SYSTEM_CPIO_H
#define WS_SYSTEM_CPIO_H

#include "wild_satchel/base.h"

#include <stdint.h>

/* One file. `serial` counts them, from 0 on. */
void cpio_add(struct ws_text *out, unsigned *serial, const char *name, unsigned mode, const void *bytes, size_t length);
void cpio_end(struct ws_text *out, unsigned *serial);

#endif
