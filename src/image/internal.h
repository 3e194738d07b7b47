/* internal.h — shared by the files that look at an image. */
#ifndef WS_IMAGE_INTERNAL_H
#define WS_IMAGE_INTERNAL_H

#include "wild_satchel/format.h"
#include "wild_satchel/image.h"

/** Fill signer and issuer from a certificate table inside a UEFI program; leaves them empty if it cannot be read. */
void image_read_signer(const struct ws_source *content, uint64_t at, uint64_t length, struct ws_loader *loader);
/** What the tree of a medium says: large files, kernels, root file system. */
void image_look_at_files(struct ws_image *image, const struct ws_tree *tree);
/** A volume of the kind that every PC shows, read into a tree. @return WS_E_NOTFOUND if it is none */
enum ws_status image_read_plain(const struct ws_source *volume, const struct ws_format **format, struct ws_tree **tree,
                                struct ws_volume_facts *facts, struct ws_error *error);

#endif
