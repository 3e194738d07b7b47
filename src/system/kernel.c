/* kernel.c — will this kernel find its root on a drive? */
#include "wild_satchel/system.h"

#include <string.h>

static const uint32_t needed =
    1u << WS_DRIVER_USB_3 | 1u << WS_DRIVER_USB_STORAGE | 1u << WS_DRIVER_DISK | 1u << WS_DRIVER_EXT4;

enum ws_status ws_kernel_look(const struct ws_tree *root, struct ws_kernel *k, struct ws_error *error) {
    k->built_in_known = ws_drivers_built_in(root, k->version, &k->built_in, NULL) == WS_OK;
    k->known = false;
    memset(&k->inside, 0, sizeof k->inside);
    if (!k->initrd[0]) return ws_fail(error, WS_E_NOTFOUND, "the kernel %s has no initial RAM disk", k->version);
    const struct ws_node *n = ws_system_find(root, k->initrd);
    if (!n || n->kind != WS_NODE_FILE || !n->content)
        return ws_fail(error, WS_E_NOTFOUND, "the initial RAM disk is empty");
    enum ws_status status = ws_initrd_look(n->content, &k->inside, error);
    k->known = status == WS_OK;
    return status == WS_OK ? WS_OK : ws_fail_where(error, "%s", k->initrd);
}

uint32_t ws_kernel_unsure(const struct ws_kernel *k) {
    return needed & ~(k->known ? k->inside.drivers : 0) & ~(k->built_in_known ? k->built_in : 0);
}

/* Without the list of what is built in, any driver may be. */
uint32_t ws_kernel_lacks(const struct ws_kernel *k) { return k->known && k->built_in_known ? ws_kernel_unsure(k) : 0; }
