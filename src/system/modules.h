/* modules.h — drivers as files of a root: kernel modules, each packed or not. */
#ifndef WS_SYSTEM_MODULES_H
#define WS_SYSTEM_MODULES_H

#include "wild_satchel/system.h"

/* The file of a module by its path under the drivers of this kernel ("kernel/drivers/block/loop.ko"), whatever it is
 * packed with; NULL if there is none. */
const struct ws_node *module_find(const struct ws_tree *root, const char *version, const char *path);
/* Its bytes as a kernel takes them, appended to `out`. @return WS_E_FORMAT for what is no module */
enum ws_status module_unpack(const struct ws_node *module, struct ws_text *out, struct ws_error *error);

#endif
