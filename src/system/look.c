/* look.c — what a root file system is: its name, its programs' machine, its init, its kernels. */
#include "system/own.h"
#include "base/bytes.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { HOPS_MOST = 40, RELEASE_MOST = 65536 };

const char *ws_init_name(enum ws_init init) {
    static const char *const names[] = {"unknown", "systemd", "sysv", "openrc", "runit", "busybox"};
    return names[init];
}

/* An absolute target begins at the root again, as in the running system. */
static struct ws_node *walk(const struct ws_tree *root, struct ws_node *at, const char *path, unsigned *hops) {
    char name[256];
    if (*path == '/') at = ws_tree_root(root);
    while (at) {
        while (*path == '/') path++;
        size_t n = strcspn(path, "/");
        if (n == 0) return at;
        if (n >= sizeof name || at->kind != WS_NODE_FOLDER) return NULL;
        memcpy(name, path, n);
        name[n] = '\0';
        path += n;
        if (strcmp(name, ".") == 0) continue;
        if (strcmp(name, "..") == 0) {
            if (at->parent) at = at->parent;
            continue;
        }
        struct ws_node *child = ws_node_child(at, name);
        if (child && child->same_as) child = child->same_as;
        if (child && child->kind == WS_NODE_LINK)
            child = ++*hops > HOPS_MOST || !child->target ? NULL : walk(root, at, child->target, hops);
        at = child;
    }
    return NULL;
}

struct ws_node *ws_system_find(const struct ws_tree *root, const char *path) {
    unsigned hops = 0;
    return walk(root, ws_tree_root(root), path, &hops);
}

int ws_version_compare(const char *a, const char *b) {
    while (*a || *b) {
        size_t na = strspn(a, "0123456789");
        size_t nb = strspn(b, "0123456789");
        if (na && nb) {
            for (; na > 1 && *a == '0'; na--) a++;
            for (; nb > 1 && *b == '0'; nb--) b++;
            int order = na != nb ? (na < nb ? -1 : 1) : strncmp(a, b, na);
            if (order) return order;
            a += na;
            b += nb;
            continue;
        }
        if (*a != *b) { /* "6.1~rc1" is before "6.1" */
            int x = *a == '~' ? -1 : (unsigned char)*a;
            int y = *b == '~' ? -1 : (unsigned char)*b;
            return x - y;
        }
        a++;
        b++;
    }
    return 0;
}

/* KEY=value, quoted or not (os-release(5)); what a backslash stands before is itself. */
static void take_value(const char *text, const char *key, char *out, size_t room) {
    size_t n = strlen(key);
    for (const char *line = text; line; line = strchr(line, '\n') ? strchr(line, '\n') + 1 : NULL) {
        if (strncmp(line, key, n) != 0 || line[n] != '=') continue;
        const char *p = line + n + 1;
        char quote = *p == '"' || *p == '\'' ? *p++ : '\0';
        size_t k = 0;
        for (; *p && *p != '\n' && *p != quote && k + 1 < room; p++) {
            if (*p == '\\' && p[1]) p++;
            out[k++] = *p;
        }
        out[k] = '\0';
        ws_make_visible(out, room);
        return;
    }
}

static void take_release(const struct ws_tree *root, struct ws_system_facts *f) {
    const struct ws_node *n = ws_system_find(root, "/etc/os-release");
    char *text = NULL;
    size_t length = 0;
    if (!n || n->kind != WS_NODE_FILE) n = ws_system_find(root, "/usr/lib/os-release");
    if (!n || n->kind != WS_NODE_FILE || !n->content) return;
    if (ws_source_load(n->content, RELEASE_MOST, &text, &length, NULL) != WS_OK) return;
    take_value(text, "PRETTY_NAME", f->name, sizeof f->name);
    if (!f->name[0]) take_value(text, "NAME", f->name, sizeof f->name);
    take_value(text, "ID", f->id, sizeof f->id);
    take_value(text, "VERSION_ID", f->version, sizeof f->version);
    free(text);
}

/* The machine of an ELF file (System V ABI, "ELF Header"): e_ident, and e_machine at 18. */
static void take_machine(const struct ws_node *n, char machine[16]) {
    static const struct {
        unsigned number;
        const char *name;
    } machines[] = {{62, "x86-64"}, {3, "x86"}, {183, "ARM64"}, {40, "ARM"}, {243, "RISC-V"}, {21, "PowerPC64"}};
    uint8_t head[20];
    if (!n || n->kind != WS_NODE_FILE || !n->content || n->content->size < sizeof head || machine[0]) return;
    if (ws_source_read(n->content, 0, head, sizeof head, NULL) != WS_OK || memcmp(head, "\177ELF", 4) != 0) return;
    unsigned number = head[5] == 2 ? (unsigned)(head[18] << 8 | head[19]) : ws_load_le16(head + 18);
    (void)snprintf(machine, 16, "other");
    for (size_t i = 0; i < sizeof machines / sizeof machines[0]; i++)
        if (machines[i].number == number) (void)snprintf(machine, 16, "%s", machines[i].name);
}

static enum ws_init init_of(const struct ws_tree *root) {
    static const struct {
        const char *sign;
        enum ws_init init;
    } signs[] = {{"/lib/systemd/systemd", WS_INIT_SYSTEMD},
                 {"/usr/lib/systemd/systemd", WS_INIT_SYSTEMD},
                 {"/sbin/openrc-init", WS_INIT_OPENRC},
                 {"/sbin/openrc", WS_INIT_OPENRC},
                 {"/sbin/runit-init", WS_INIT_RUNIT},
                 {"/etc/runit/1", WS_INIT_RUNIT},
                 {"/etc/inittab", WS_INIT_SYSV},
                 {"/bin/busybox", WS_INIT_BUSYBOX}};
    for (size_t i = 0; i < sizeof signs / sizeof signs[0]; i++)
        if (ws_system_find(root, signs[i].sign)) return signs[i].init;
    return WS_INIT_UNKNOWN;
}

/* A Linux kernel for x86 PCs says so (Documentation/arch/x86/boot.rst: "HdrS" at 0x202). */
static bool is_kernel(const struct ws_node *n) {
    uint8_t head[4];
    return n->kind == WS_NODE_FILE && n->content && n->content->size > 0x400 &&
           ws_source_read(n->content, 0x202, head, 4, NULL) == WS_OK && memcmp(head, "HdrS", 4) == 0;
}

static void take_initrd(const struct ws_tree *root, struct ws_kernel *k) {
    static const char *const forms[] = {"initrd.img-%s", "initramfs-%s.img", "initrd-%s",
                                        "initramfs-%s",  "initrd-%s.img",    "initramfs-genkernel-%s"};
    for (size_t i = 0; i < sizeof forms / sizeof forms[0] && !k->initrd[0]; i++) {
        char name[200];
        const char *mark = strchr(forms[i], '%');
        (void)snprintf(name, sizeof name, "%.*s%s%s", (int)(mark - forms[i]), forms[i], k->version, mark + 2);
        (void)snprintf(k->initrd, sizeof k->initrd, "/boot/%s", name);
        const struct ws_node *n = ws_system_find(root, k->initrd);
        if (!n || n->kind != WS_NODE_FILE) k->initrd[0] = '\0';
    }
}

/* What a version is made of: nothing that ends a word or a line of a menu, or that a shell or loader makes more of. */
static bool is_word(const char *text) {
    static const char letters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._+~";
    return text[0] && text[strspn(text, letters)] == '\0';
}

static void take_kernels(const struct ws_tree *root, struct ws_system_facts *f) {
    static const char *const begins[] = {"vmlinuz-", "kernel-", "linux-"};
    const struct ws_node *boot = ws_tree_find(root, "boot");
    for (const struct ws_node *n = boot ? boot->first : NULL; n; n = n->next) {
        const char *version = NULL;
        struct ws_kernel k = {.initrd = ""};
        for (size_t i = 0; i < 3 && !version; i++)
            if (strncmp(n->name, begins[i], strlen(begins[i])) == 0) version = n->name + strlen(begins[i]);
        if (!version || strlen(version) >= sizeof k.version || !is_word(version)) continue;
        (void)snprintf(k.version, sizeof k.version, "%s", version);
        (void)snprintf(k.path, sizeof k.path, "/boot/%.120s", n->name);
        const struct ws_node *kernel = ws_system_find(root, k.path);
        if (!kernel || !is_kernel(kernel)) continue;
        take_initrd(root, &k);
        size_t at = f->kernels;
        while (at > 0 && ws_version_compare(f->kernel[at - 1].version, version) < 0) at--;
        if (at == WS_KERNELS_MOST) continue;
        if (f->kernels < WS_KERNELS_MOST) f->kernels++;
        memmove(&f->kernel[at + 1], &f->kernel[at], (f->kernels - 1 - at) * sizeof k);
        f->kernel[at] = k;
    }
}

enum ws_status ws_system_look(const struct ws_tree *root, struct ws_system_facts *f, struct ws_error *error) {
    static const char *const programs[] = {"/sbin/init", "/bin/sh", "/bin/busybox", "/usr/bin/env"};
    memset(f, 0, sizeof *f);
    const struct ws_node *etc = ws_system_find(root, "/etc");
    if (!etc || etc->kind != WS_NODE_FOLDER)
        return ws_fail(error, WS_E_NOTFOUND, "this is no root file system: there is no folder \"etc\" at its top");
    take_release(root, f);
    for (size_t i = 0; i < sizeof programs / sizeof programs[0]; i++)
        take_machine(ws_system_find(root, programs[i]), f->machine);
    f->init = init_of(root);
    system_leftovers(root, f->leftovers, sizeof f->leftovers);
    take_kernels(root, f);
    return WS_OK;
}
