/* inside.c — a system that stands in a file of an ordinary volume: what its kernels need to find it there. */
#include "boot/code.h"
#include "system/cpio.h"
#include "system/modules.h"
#include "system/own.h"

#include <stdio.h>
#include <string.h>

#define PROGRAM "/boot/loader/start-inside"
#define PROTECTION "/boot/loader/system-in-use"

static const struct ws_node *module_of(const struct ws_tree *root, const char *version) {
    return module_find(root, version, "kernel/drivers/block/loop.ko");
}

/* Else its drivers stand in its initial RAM disk alone. */
static bool has_drivers(const struct ws_tree *root, const char *version) {
    char path[128];
    (void)snprintf(path, sizeof path, "/lib/modules/%.96s", version);
    return ws_system_find(root, path) != NULL;
}

/* What takes a disk that appears late for its root, whatever it is called, by its identifier. */
static const char *const makers[] = {"initramfs-tools", "dracut"};

const char *ws_kernel_cannot_stand_inside(const struct ws_tree *root, const struct ws_kernel *k) {
    bool built_in = k->built_in_known && (k->built_in >> WS_DRIVER_LOOP & 1);
    if (!k->initrd[0]) return "it has no initial RAM disk";
    if (!k->known) return "its initial RAM disk cannot be read";
    bool own = (k->inside.drivers >> WS_DRIVER_LOOP & 1) && !has_drivers(root, k->version);
    if (!built_in && !own && !module_of(root, k->version)) return "it has no driver loop";
    for (size_t i = 0; i < sizeof makers / sizeof makers[0]; i++)
        if (strcmp(k->inside.maker, makers[i]) == 0) return NULL;
    return "it is not known whether its initial RAM disk finds a root that stands in a file";
}

const char *ws_inside_initrd(const char *version, char out[192]) {
    (void)snprintf(out, 192, "/boot/start-inside-%.96s.img", version);
    return out;
}

static enum ws_status put_initrd(const struct edit *e, const struct ws_kernel *k) {
    static const char *const folders[] = {"start-inside.d", "start-inside.d/dev", "start-inside.d/proc",
                                          "start-inside.d/sys"};
    const struct ws_node *module = module_of(e->root, k->version);
    struct ws_text out = {0}, driver = {0};
    unsigned serial = 0;
    char path[192];
    enum ws_status status = module ? module_unpack(module, &driver, e->error) : WS_OK;
    if (status != WS_OK) ws_fail_where(e->error, "the driver loop of the kernel %s", k->version);
    for (size_t i = 0; i < sizeof folders / sizeof folders[0]; i++) cpio_add(&out, &serial, folders[i], 040755, "", 0);
    cpio_add(&out, &serial, "start-inside", 0100755, ws_code_early, ws_code_early_length);
    if (module) cpio_add(&out, &serial, "start-inside.d/loop.ko", 0100644, driver.data, driver.length);
    cpio_end(&out, &serial);
    if (status == WS_OK) status = ws_text_status(&driver, e->error);
    if (status == WS_OK) status = edit_save(e, ws_inside_initrd(k->version, path), &out, 0644, NULL);
    ws_text_free(&out);
    ws_text_free(&driver);
    return status;
}

enum ws_status own_inside(const struct edit *e) {
    struct ws_text program = {0};
    ws_text_add(&program, (const char *)ws_code_early, ws_code_early_length);
    enum ws_status status = edit_save(e, PROGRAM, &program, 0755, NULL);
    ws_text_free(&program);
    for (size_t i = 0; i < e->facts->kernels && status == WS_OK; i++) status = put_initrd(e, &e->facts->kernel[i]);
    WS_TRY(status);
    return edit_write(e, PROTECTION, 0444,
                      "The file that stands here on the drive holds the system that is running. While it runs, this "
                      "text stands before it, so that nobody moves or deletes it by mistake.\n");
}
