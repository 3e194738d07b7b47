/* parts.h — pieces that the demo's images share: stand-ins with genuine headers. */
#ifndef DEMO_PARTS_H
#define DEMO_PARTS_H

#include "wild_satchel/wild_satchel.h"

enum { MADE_AT = 1790000000, INITRD_BYTES = 40000 };

size_t demo_loader(bool is_signed, uint8_t *out);
size_t demo_kernel(uint8_t *out, size_t length);
/* INITRD_BYTES of it. */
void demo_initrd(uint8_t *bytes, const char *family);
enum ws_status demo_put_text(struct ws_tree *tree, const char *path, const char *text, struct ws_error *error);
enum ws_status demo_put_program(struct ws_tree *tree, const char *path, struct ws_error *error);
/* What every root of the scenario holds. */
enum ws_status demo_put_root(struct ws_tree *root, bool newer, struct ws_error *error);

#endif
