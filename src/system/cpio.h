/* cpio.h — archives that a kernel unpacks into its initial RAM disk (Linux, buffer-format.rst: "newc"). */
#ifndef WS_SYSTEM_CPIO_H
#define WS_SYSTEM_CPIO_H

#include "wild_satchel/tree.h"

#include <stdint.h>

/* One file. `serial` counts them, from 0 on. */
void cpio_add(struct ws_text *out, unsigned *serial, const char *name, unsigned mode, const void *bytes, size_t length);
void cpio_end(struct ws_text *out, unsigned *serial);
/* A whole archive behind what an initial RAM disk holds: the kernel unpacks them in turn, later ones over earlier ones.
 */
enum ws_status cpio_put_behind(struct ws_tree *tree, struct ws_node *initrd, const struct ws_text *archive,
                               int64_t made_at, struct ws_error *error);

#endif
