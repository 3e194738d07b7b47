/* drivers.c — drivers for USB drives, added to an initial RAM disk that was made for one PC's own disks.
 *
 * Behind it stands another archive, with a small program, the drivers as the root has them, and the hook by which the
 * initial RAM disk's own scripts run the program before they look for devices. Whoever makes it anew later is told in
 * the root's settings to make it for any PC.
 */
#include "boot/code.h"
#include "system/cpio.h"
#include "system/edit.h"
#include "system/modules.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define PROGRAM "start-drivers"
#define FOLDER "start-drivers.d"
enum { TABLE_MOST = 8 << 20, MODULES_MOST = 64, LIST_MOST = 8192 };

static const uint32_t wanted = 1u << WS_DRIVER_USB_3 | 1u << WS_DRIVER_USB_2 | 1u << WS_DRIVER_USB_STORAGE |
                               1u << WS_DRIVER_UAS | 1u << WS_DRIVER_DISK | 1u << WS_DRIVER_EXT4;

/* How its maker's scripts are told, and the maker itself. A hook is a text in a folder that is known by a file in it:
 * one that is there is continued, with the program first (initramfs-tools(7), "ORDER"; dracut.modules(7)). */
static const struct maker {
    const char *name, *known_by, *hook;
    const char *settings, *file, *setting; /* a folder of its settings, and one more of them */
} makers[] = {
    {"initramfs-tools", "scripts/functions", "scripts/init-top/ORDER", "/etc/initramfs-tools/conf.d", "zz-any-pc",
     "MODULES=most"},
    {"dracut", "dracut/hooks/", "pre-udev/00-" PROGRAM ".sh", "/etc/dracut.conf.d", "zz-any-pc.conf",
     "hostonly=\"no\""},
};

static const struct maker *maker_of(const struct ws_kernel *k) {
    for (size_t i = 0; i < sizeof makers / sizeof makers[0]; i++)
        if (strcmp(makers[i].name, k->inside.maker) == 0) return &makers[i];
    return NULL;
}

/* Modules in the order in which they are taken in, by their places in the root's table of what needs what. */
struct order {
    char *table; /* owned: modules.dep(5), "MODULE: WHAT IT NEEDS ..." a line */
    struct {
        const char *path;
        int length;
    } module[MODULES_MOST];
    size_t count;
    bool full;
};

static void take(struct order *o, const char *path, size_t length) {
    for (size_t i = 0; i < o->count; i++)
        if ((size_t)o->module[i].length == length && memcmp(o->module[i].path, path, length) == 0) return;
    o->full |= o->count == MODULES_MOST;
    if (o->full) return;
    o->module[o->count].path = path;
    o->module[o->count++].length = (int)length;
}

/* The last one named is needed first. */
static void take_line(struct order *o, const char *line) {
    const size_t own = strcspn(line, ":\n");
    const char *end = line + strcspn(line, "\n");
    while (end > line + own + 1) {
        const char *p = end;
        while (p[-1] != ' ' && p[-1] != ':') p--;
        if (p < end) take(o, p, (size_t)(end - p));
        end = p - 1;
    }
    take(o, line, own);
}

/* The line of a driver, by its module's file name. */
static const char *line_of(const struct order *o, const char *name) {
    for (const char *line = o->table; *line; line += strcspn(line, "\n"), line += *line == '\n') {
        const char *end = line + strcspn(line, ":\n"), *file = end, *letter = name;
        while (file > line && file[-1] != '/') file--;
        while (*letter && (*file == *letter || (*file == '-' && *letter == '_'))) file++, letter++;
        if (!*letter && end - file >= 3 && memcmp(file, ".ko", 3) == 0) return line;
    }
    return NULL;
}

/* What is missing, and what that needs. @return bit N for driver N that the root has */
static uint32_t find_modules(struct order *o, uint32_t missing) {
    uint32_t found = 0;
    for (unsigned i = 0; i < WS_DRIVERS; i++) {
        const char *line = missing >> i & 1 ? line_of(o, ws_driver_name((enum ws_driver)i)) : NULL;
        if (!line) continue;
        if (i == WS_DRIVER_EXT4 && line_of(o, "crc32c_generic")) take_line(o, line_of(o, "crc32c_generic"));
        take_line(o, line);
        found |= 1u << i;
    }
    return found;
}

/* What the initial RAM disk has where the hook goes. */
struct place {
    const struct maker *maker;
    char folder[160];   /* before the hook's name; empty where that is a whole path */
    bool known;         /* the file was seen by which the folder is known */
    struct ws_text was; /* a hook that is there */
};

static void see(void *context, const char *path, uint32_t mode, const char *text, size_t length) {
    struct place *p = context;
    const char *sign = p->maker->known_by;
    (void)mode;
    while (path[0] == '/' || (path[0] == '.' && path[1] == '/')) path++;
    const char *at = strstr(path, sign);
    if (at && !p->known) {
        p->known = true;
        if (sign[strlen(sign) - 1] == '/')
            (void)snprintf(p->folder, sizeof p->folder, "%.*s", (int)(at + strlen(sign) - path), path);
    }
    if (strcmp(path, p->maker->hook) != 0) return;
    p->was.length = 0;
    ws_text_add(&p->was, text, length);
}

static void add_hook(struct ws_text *out, unsigned *serial, const struct place *p) {
    struct ws_text hook = {0};
    char path[256];
    (void)snprintf(path, sizeof path, "%s%s", p->folder, p->maker->hook);
    char *end = strrchr(path, '/');
    *end = '\0';
    cpio_add(out, serial, path, 040755, "", 0);
    *end = '/';
    ws_text_puts(&hook, "/" PROGRAM "\n");
    ws_text_add(&hook, p->was.data, p->was.length);
    cpio_add(out, serial, path, 0100755, hook.data, hook.length);
    ws_text_free(&hook);
}

static enum ws_status add_modules(const struct edit *e, const char *version, const struct order *o, struct ws_text *out,
                                  unsigned *serial) {
    struct ws_text list = {0};
    enum ws_status status = WS_OK;
    for (size_t i = 0; i < o->count && status == WS_OK; i++) {
        char path[256], name[160];
        struct ws_text bytes = {0};
        (void)snprintf(path, sizeof path, "%.*s", o->module[i].length, o->module[i].path);
        char *packed = strstr(path, ".ko");
        if (packed) packed[3] = '\0';
        const char *file = strrchr(path, '/') ? strrchr(path, '/') + 1 : path;
        const struct ws_node *n = module_find(e->root, version, path);
        status = n ? module_unpack(n, &bytes, e->error)
                   : ws_fail(e->error, WS_E_NOTFOUND, "the root's list of drivers names one that it does not have");
        if (status != WS_OK) ws_fail_where(e->error, "/lib/modules/%s/%s", version, path);
        (void)snprintf(name, sizeof name, FOLDER "/%.96s", file);
        cpio_add(out, serial, name, 0100644, bytes.data, bytes.length);
        ws_text_printf(&list, "%.96s\n", file);
        ws_text_free(&bytes);
    }
    cpio_add(out, serial, FOLDER "/list", 0100644, list.data, list.length);
    if (status == WS_OK && list.length > LIST_MOST)
        status = ws_fail(e->error, WS_E_UNSUPPORTED, "a driver needs too many others");
    if (status == WS_OK) status = ws_text_status(&list, e->error);
    ws_text_free(&list);
    return status;
}

static enum ws_status put_archive(const struct edit *e, const struct ws_kernel *k, const struct order *o,
                                  const struct place *p) {
    struct ws_text out = {0};
    unsigned serial = 0;
    cpio_add(&out, &serial, FOLDER, 040755, "", 0);
    cpio_add(&out, &serial, PROGRAM, 0100755, ws_code_drivers, ws_code_drivers_length);
    add_hook(&out, &serial, p);
    enum ws_status status = add_modules(e, k->version, o, &out, &serial);
    cpio_end(&out, &serial);
    if (status == WS_OK)
        status = cpio_put_behind(e->root, ws_system_find(e->root, k->initrd), &out, e->made_at, e->error);
    ws_text_free(&out);
    return status;
}

/* One that is made anew serves any PC, too. */
static enum ws_status tell_maker(const struct edit *e, const struct maker *m) {
    char path[96];
    if (!edit_has(e, m->settings)) return WS_OK;
    (void)snprintf(path, sizeof path, "%s/%s", m->settings, m->file);
    return edit_write(e, path, 0644, "# This system stands on a drive that is carried from PC to PC.\n%s\n",
                      m->setting);
}

static enum ws_status load_table(const struct edit *e, const char *version, char **table) {
    char path[128];
    size_t length = 0;
    *table = NULL;
    (void)snprintf(path, sizeof path, "/lib/modules/%.96s/modules.dep", version);
    const struct ws_node *n = ws_system_find(e->root, path);
    if (!n || n->kind != WS_NODE_FILE || !n->content || n->content->size > TABLE_MOST) return WS_OK;
    return ws_source_load(n->content, TABLE_MOST, table, &length, e->error);
}

enum ws_status ws_kernel_add_drivers(struct ws_tree *root, const struct ws_kernel *k, int64_t made_at, uint32_t *added,
                                     struct ws_error *error) {
    const struct edit e = {.root = root, .made_at = made_at, .error = error};
    const struct maker *maker = maker_of(k);
    const uint32_t missing = wanted & ~k->inside.drivers & ~k->built_in;
    struct order order = {0};
    struct place place = {.maker = maker};
    uint32_t found = 0;
    *added = 0;
    if (!k->known || !k->built_in_known || !maker || !missing) return WS_OK;
    enum ws_status status = load_table(&e, k->version, &order.table);
    if (status == WS_OK && order.table) found = find_modules(&order, missing);
    if (found && !order.full) status = ws_initrd_texts(ws_system_find(root, k->initrd)->content, see, &place, error);
    if (status == WS_OK && place.known) {
        status = put_archive(&e, k, &order, &place);
        if (status == WS_OK) status = tell_maker(&e, maker);
        if (status == WS_OK) *added = found;
    }
    free(order.table);
    ws_text_free(&place.was);
    return status;
}
