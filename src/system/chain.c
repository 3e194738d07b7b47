/* chain.c — a root's own signed loaders, laid down where UEFI firmware finds them and they find their menu. */
#include "base/bytes.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PROGRAM_MOST = 16 << 20 };

/* Where distributions keep what they have signed, outside of any start volume. */
static const struct {
    const char *first, *second, *keys;
} places[] = {
    {"/usr/lib/shim/shimx64.efi.signed", "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed",
     "/usr/lib/shim/mmx64.efi.signed"},
    {"/usr/lib/shim/shimx64.efi.signed.latest", "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed",
     "/usr/lib/shim/mmx64.efi"},
    {"/usr/share/efi/x86_64/shim.efi", "/usr/share/efi/x86_64/grub.efi", "/usr/share/efi/x86_64/MokManager.efi"},
};

static const struct ws_node *program_at(const struct ws_tree *root, const char *path) {
    const struct ws_node *n = ws_system_find(root, path);
    return n && n->kind == WS_NODE_FILE && n->content && n->content->size <= PROGRAM_MOST ? n : NULL;
}

/* PE/COFF specification, sections 3 and 4: a section's bytes. */
static bool section_of(const struct ws_source *program, const char name[8], uint64_t *at, uint64_t *length) {
    uint8_t head[24], section[40];
    if (ws_source_read(program, 0x3c, head, 4, NULL) != WS_OK) return false;
    uint64_t pe = ws_load_le32(head);
    if (!ws_inside(pe, sizeof head, program->size) || ws_source_read(program, pe, head, sizeof head, NULL) != WS_OK ||
        memcmp(head, "PE\0\0", 4) != 0)
        return false;
    uint64_t first = pe + 24 + ws_load_le16(head + 20);
    for (unsigned i = 0; i < ws_load_le16(head + 6); i++) {
        if (!ws_inside(first + 40ull * i, 40, program->size) ||
            ws_source_read(program, first + 40ull * i, section, 40, NULL) != WS_OK)
            return false;
        if (memcmp(section, name, 8) != 0) continue;
        *at = ws_load_le32(section + 20);
        *length = ws_load_le32(section + 16);
        return ws_inside(*at, *length, program->size);
    }
    return false;
}

/* The folder in which a loader of the GRUB kind looks for its menu: in its "mods" section, the object of type 3 (its
 * include/grub/kernel.h: struct grub_module_info64, struct grub_module_header). */
static bool prefix_of(const struct ws_source *program, char prefix[WS_CHAIN_PREFIX]) {
    uint64_t at, length;
    uint8_t head[24], object[8];
    if (!section_of(program, "mods\0\0\0", &at, &length) || length < sizeof head ||
        ws_source_read(program, at, head, sizeof head, NULL) != WS_OK || ws_load_le32(head) != 0x676d696d)
        return false;
    uint64_t end = ws_min_u64(length, ws_load_le64(head + 16));
    for (uint64_t o = ws_load_le64(head + 8); o < end && end - o >= sizeof object;) {
        if (ws_source_read(program, at + o, object, sizeof object, NULL) != WS_OK) return false;
        uint32_t size = ws_load_le32(object + 4);
        if (size < sizeof object || size > end - o) return false;
        if (ws_load_le32(object) == 3) {
            char text[WS_CHAIN_PREFIX] = "";
            size_t n = ws_min_u64(size - sizeof object, sizeof text - 1);
            if (ws_source_read(program, at + o + sizeof object, text, n, NULL) != WS_OK) return false;
            const char *path = text[0] == '(' && strchr(text, ')') ? strchr(text, ')') + 1 : text;
            (void)snprintf(prefix, WS_CHAIN_PREFIX, "%s", path);
            return prefix[0] == '/' && prefix[1] && ws_is_visible(prefix) && !strstr(prefix, "..");
        }
        o += size;
    }
    return false;
}

/* Which name the first program loads the second by: it holds it as UTF-16. */
static const char *second_name(const struct ws_source *first) {
    static const char *const names[] = {"grubx64.efi", "grub.efi"};
    char *bytes = NULL;
    size_t length = 0;
    const char *found = NULL;
    if (ws_source_load(first, PROGRAM_MOST, &bytes, &length, NULL) != WS_OK) return NULL;
    for (size_t k = 0; k < 2 && !found; k++) {
        size_t n = strlen(names[k]);
        for (size_t i = 0; i + 2 * n <= length && !found; i++) {
            size_t c = 0;
            while (c < n && bytes[i + 2 * c] == names[k][c] && bytes[i + 2 * c + 1] == 0) c++;
            if (c == n) found = names[k];
        }
    }
    free(bytes);
    return found;
}

static bool take(struct ws_chain *c, const struct ws_node *first, const struct ws_node *second,
                 const struct ws_node *keys) {
    struct ws_loader loader;
    if (!first || !second || !ws_loader_look(first->content, &c->loader) || !c->loader.signed_ ||
        strcmp(c->loader.machine, "x86-64") != 0 || !ws_loader_look(second->content, &loader) || !loader.signed_ ||
        strcmp(loader.machine, "x86-64") != 0)
        return false;
    c->second_name = second_name(first->content);
    if (!c->second_name || !prefix_of(second->content, c->prefix)) return false;
    c->first = first;
    c->second = second;
    c->keys = keys;
    (void)snprintf(c->loader.path, sizeof c->loader.path, "/EFI/BOOT/BOOTX64.EFI");
    return true;
}

/* A distribution's folder on a volume that firmware reads. */
static bool find_below(const struct ws_tree *tree, const char *efi, struct ws_chain *c) {
    const struct ws_node *folder = ws_system_find(tree, efi);
    unsigned most = 16;
    for (const struct ws_node *n = folder ? folder->first : NULL; n && most--; n = n->next) {
        char path[3][600];
        static const char *const names[] = {"shimx64.efi", "grubx64.efi", "mmx64.efi"};
        for (size_t i = 0; i < 3; i++) (void)snprintf(path[i], sizeof path[i], "%s/%s/%s", efi, n->name, names[i]);
        if (take(c, program_at(tree, path[0]), program_at(tree, path[1]), program_at(tree, path[2]))) return true;
    }
    memset(c, 0, sizeof *c);
    return false;
}

bool ws_chain_find(const struct ws_tree *root, struct ws_chain *c) {
    memset(c, 0, sizeof *c);
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++)
        if (take(c, program_at(root, places[i].first), program_at(root, places[i].second),
                 program_at(root, places[i].keys)))
            return true;
    return find_below(root, "/boot/efi/EFI", c);
}

bool ws_chain_find_on_start(const struct ws_tree *start, struct ws_chain *c) {
    memset(c, 0, sizeof *c);
    const struct ws_node *folder = ws_tree_find_any_case(start, "EFI");
    char path[260];
    return folder && find_below(start, ws_node_path(folder, path, sizeof path), c);
}

static enum ws_status copy(struct ws_tree *start, const char *path, const struct ws_node *from, int64_t made_at,
                           struct ws_error *error) {
    struct ws_node *n = NULL;
    WS_TRY(ws_tree_put(start, path, "", 0, &n, error));
    n->content = from->content;
    n->mtime = made_at;
    return WS_OK;
}

enum ws_status ws_chain_put(struct ws_tree *start, const struct ws_chain *c, const char *uuid, const char *menu,
                            int64_t made_at, struct ws_error *error) {
    char path[WS_CHAIN_PREFIX + 64], text[256];
    struct ws_node *n = NULL;
    (void)snprintf(path, sizeof path, "EFI/BOOT/%s", c->second_name);
    WS_TRY(copy(start, WS_UEFI_PROGRAM_PATH, c->first, made_at, error));
    WS_TRY(copy(start, path, c->second, made_at, error));
    (void)snprintf(path, sizeof path, "EFI/BOOT/%s",
                   strcmp(c->second_name, "grub.efi") == 0 ? "MokManager.efi" : "mmx64.efi");
    if (c->keys) WS_TRY(copy(start, path, c->keys, made_at, error));
    (void)snprintf(path, sizeof path, "%s/grub.cfg", c->prefix);
    (void)snprintf(text, sizeof text, "search --no-floppy --fs-uuid --set=root %s\nconfigfile %s\n", uuid, menu);
    WS_TRY(ws_tree_put(start, path, text, strlen(text), &n, error));
    n->mtime = made_at;
    return WS_OK;
}

bool ws_chain_can_say(const char *options) { return strpbrk(options, "'\"\\$;&|<>{}()#`*?[]") == NULL; }

enum ws_status ws_chain_menu(const struct ws_start_entries *entries, unsigned seconds, struct ws_text *out,
                             struct ws_error *error) {
    ws_text_printf(out, "set timeout=%u\nset default=0\n", seconds);
    for (size_t i = 0; i < entries->count; i++) {
        const struct ws_start_entry *e = &entries->entry[i];
        ws_text_puts(out, "menuentry '");
        for (const char *p = e->title; *p; p++)
            if (*p != '\'') ws_text_add(out, p, 1);
        ws_text_printf(out, "' {\n\tlinux %s %s\n", e->linux_path, e->options);
        if (e->initrds) ws_text_printf(out, "\tinitrd %s\n", e->initrd[0]);
        ws_text_puts(out, "}\n");
    }
    return ws_text_status(out, error);
}

/* The volume and file that a loader's own menu leads to. */
static bool leads_to(const struct ws_tree *esp, char parameters[96], char path[256]) {
    for (const struct ws_node *n = ws_tree_root(esp); n; n = ws_tree_next(n)) {
        char *text = NULL;
        size_t length = 0;
        if (n->kind != WS_NODE_FILE || strcmp(n->name, "grub.cfg") != 0 || !n->content ||
            ws_source_load(n->content, 65536, &text, &length, NULL) != WS_OK)
            continue;
        const char *search = strstr(text, "--fs-uuid --set=root ");
        const char *file = strstr(text, "configfile ");
        if (search && file) {
            search += strlen("--fs-uuid --set=root ");
            file += strlen("configfile ");
            (void)snprintf(parameters, 96, "root=UUID=%.*s", (int)ws_min_u64(strcspn(search, " \t\r\n"), 60), search);
            (void)snprintf(path, 256, "%.*s", (int)ws_min_u64(strcspn(file, " \t\r\n"), 250), file);
        }
        free(text);
        if (search && file) return true;
    }
    return false;
}

static enum ws_status read_menu(const struct ws_tree *root, const char *path, struct ws_menu_entry *entry,
                                bool *kernel_signed, struct ws_error *error) {
    struct ws_loader kernel;
    char *text = NULL;
    size_t length = 0;
    struct ws_menu menu;
    const struct ws_node *n = ws_system_find(root, path);
    if (!n || n->kind != WS_NODE_FILE || !n->content)
        return ws_fail(error, WS_E_NOTFOUND, "the loader's menu leads to %s, which is not there", path);
    WS_TRY(ws_source_load(n->content, 1 << 20, &text, &length, error));
    enum ws_status status = ws_menu_parse(text, length, &menu, error);
    free(text);
    WS_TRY(status);
    const struct ws_menu_entry *e = ws_menu_default(&menu);
    if (e) *entry = *e;
    ws_menu_free(&menu);
    if (!e) return ws_fail(error, WS_E_NOTFOUND, "the menu %s starts no kernel", path);
    n = ws_system_find(root, entry->kernel);
    *kernel_signed =
        n && n->kind == WS_NODE_FILE && n->content && ws_loader_look(n->content, &kernel) && kernel.signed_;
    if (n && n->kind == WS_NODE_FILE) return WS_OK;
    return ws_fail(error, WS_E_NOTFOUND, "the kernel %s is not in the root", entry->kernel);
}

enum ws_status ws_chain_follow(const struct ws_source *drive, const struct ws_table *table, struct ws_menu_entry *entry,
                               bool *kernel_signed, struct ws_error *error) {
    struct ws_source *slice = NULL, *volume = NULL;
    struct ws_tree *esp = NULL, *root = NULL;
    char parameters[96], path[256];
    uint64_t at = 0, length = 0;
    enum ws_status status;
    WS_GO(ws_esp_read(drive, table, NULL, &slice, &esp, NULL, error));
    if (!leads_to(esp, parameters, path))
        WS_GO(ws_fail(error, WS_E_NOTFOUND, "the loader on the start volume has no menu that leads to a root"));
    WS_GO(ws_system_volume(drive, table, parameters, &at, &length, error));
    WS_GO(ws_source_slice(drive, at, length, &volume, error));
    WS_GO(ws_ext4_read(volume, &root, NULL, error));
    WS_GO(read_menu(root, path, entry, kernel_signed, error));
done:
    ws_tree_close(root);
    ws_source_close(volume);
    ws_tree_close(esp);
    ws_source_close(slice);
    return status;
}
