/* kernel.c — will this kernel find its root on a drive? */
#include "wild_satchel/system.h"

#include <stdio.h>
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

/* Who asks for a passphrase in an initial RAM disk, and by which words it is told what to open; %s is the locked
 * volume's UUID. The name in crypttab is that of the open volume, so that the running system finds it open. */
static const struct {
    const char *maker;
    bool systemd; /* its systemd does it */
    const char *parameters, *crypttab;
} askers[] = {
    {"initramfs-tools", false, "cryptopts=target=system,source=UUID=%s,luks", "system UUID=%s none luks,initramfs"},
    {"dracut", false, "rd.luks.uuid=%s", "luks-%s UUID=%s none luks"},
    {"dracut", true, "rd.luks.uuid=%s", "luks-%s UUID=%s none luks"},
    {"mkinitcpio", false, "cryptdevice=UUID=%s:system", "system UUID=%s none luks"},
    {"mkinitcpio", true, "rd.luks.name=%s=system", "system UUID=%s none luks"},
    {"mkinitfs", false, "cryptroot=UUID=%s cryptdm=system", "system UUID=%s none luks"},
};

static size_t asker_of(const struct ws_kernel *k) {
    size_t i = 0;
    while (i < sizeof askers / sizeof askers[0] &&
           (strcmp(askers[i].maker, k->inside.maker) != 0 || askers[i].systemd != k->inside.systemd))
        i++;
    return i;
}

const char *ws_kernel_cannot_unlock(const struct ws_kernel *k) {
    const uint32_t crypt = 1u << WS_DRIVER_CRYPT | 1u << WS_DRIVER_XTS;
    uint32_t there = (k->known ? k->inside.drivers : 0) | (k->built_in_known ? k->built_in : 0);
    if (!k->initrd[0]) return "it has no initial RAM disk";
    if (!k->known) return "its initial RAM disk cannot be read";
    if (!k->inside.cryptsetup) return "its initial RAM disk has no cryptsetup";
    if (crypt & ~there) return "it is not known to have the drivers dm_crypt and xts";
    return asker_of(k) < sizeof askers / sizeof askers[0]
               ? NULL
               : "how its initial RAM disk is told to ask for a passphrase is not known";
}

/* A word of the table is known by what stands before its first "=". */
const char *ws_past_unlock_words(const char *p) {
    for (size_t i = 0; i < sizeof askers / sizeof askers[0]; i++) {
        const char *own = askers[i].parameters;
        const char *from = p;
        while (own && strncmp(p, own, strcspn(own, "=") + 1) == 0) {
            p += strcspn(p, " ");
            p += *p == ' ';
            own = strchr(own, ' ');
            if (own) own++;
        }
        if (p != from) return p;
    }
    return p;
}

/* The UUID in each of its places. */
static void put_uuid(const char *form, const char *uuid, char out[WS_UNLOCK_ROOM]) {
    size_t n = 0;
    for (; *form && n + 1 < WS_UNLOCK_ROOM; form++) {
        if (form[0] != '%') out[n++] = *form;
        else n += (size_t)snprintf(out + n, WS_UNLOCK_ROOM - n, "%s", uuid), form++;
    }
    out[n < WS_UNLOCK_ROOM ? n : WS_UNLOCK_ROOM - 1] = '\0';
}

void ws_unlock_words(const struct ws_kernel *k, const char *uuid, char parameters[WS_UNLOCK_ROOM],
                     char crypttab[WS_UNLOCK_ROOM]) {
    size_t i = asker_of(k);
    parameters[0] = crypttab[0] = '\0';
    if (i == sizeof askers / sizeof askers[0]) return;
    put_uuid(askers[i].parameters, uuid, parameters);
    put_uuid(askers[i].crypttab, uuid, crypttab);
}
