/* entries.c — start entries in the open form, from the menus an image brings for its own loaders. */
#include "wild_satchel/start.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LIST_NAME_ROOM = 64 };
static const char *const check_names[] = {"off", "quick", "full"};

const char *ws_check_name(enum ws_check_at_start check) { return check_names[check]; }

void ws_start_entries_free(struct ws_start_entries *entries) {
    free(entries->entry);
    memset(entries, 0, sizeof *entries);
}

struct gathering {
    const struct ws_tree *tree;
    const struct ws_live_family *family;
    struct ws_start_entries *entries;
    struct ws_findings *findings;
    enum ws_menu_kind kind;
    bool have_kind;
    bool have_default;
    size_t chosen;
};

/* A path of a menu on the medium: GRUB's device in front goes, syslinux counts from the menu's folder. */
static struct ws_node *find(const struct gathering *g, const struct ws_node *menu_file, const char *path) {
    char joined[1024];
    if (*path == '(' && strchr(path, ')')) path = strchr(path, ')') + 1;
    struct ws_node *n = NULL;
    if (*path != '/' && g->kind == WS_MENU_SYSLINUX) {
        char folder[512];
        (void)snprintf(joined, sizeof joined, "%s/%s", ws_node_path(menu_file->parent, folder, sizeof folder), path);
        n = ws_tree_find_any_case(g->tree, joined);
    }
    if (!n) n = ws_tree_find_any_case(g->tree, path);
    return n && n->kind == WS_NODE_FILE ? n : NULL;
}

static void miss(struct gathering *g, const char *title, const char *path) {
    if (g->findings)
        ws_findings_add(g->findings, WS_WARNING,
                        "the menu entry \"%.60s\" is left out: it wants the file %.120s, which is not there", title,
                        path);
}

static void too_long(struct gathering *g, const char *title) {
    if (g->findings)
        ws_findings_add(g->findings, WS_WARNING,
                        "the menu entry \"%.60s\" is left out: its parameters, its title or the names of its files are "
                        "longer than a kernel or our start-up code takes",
                        title);
}

/* Its whole path. @return false if there is no room for it */
static bool path_fits(const struct ws_node *file, char *out, size_t room) {
    return strncmp(ws_node_path(file, out, room), "...", 3) != 0;
}

/* Files one after the other, divided by blanks (GRUB) or commas (syslinux). */
static bool take_initrds(struct gathering *g, const struct ws_node *menu_file, const char *list,
                         struct ws_start_entry *e) {
    const char *dividers = g->kind == WS_MENU_SYSLINUX ? " \t," : " \t";
    for (const char *p = list; *p;) {
        char path[256];
        size_t n = strcspn(p, dividers);
        if (n >= sizeof path) {
            too_long(g, e->title);
            return false;
        }
        if (n > 0 && !(n == 1 && *p == '\\')) {
            (void)snprintf(path, sizeof path, "%.*s", (int)n, p);
            const struct ws_node *file = find(g, menu_file, path);
            if (!file || e->initrds >= WS_INITRDS_MOST) {
                miss(g, e->title, path);
                return false;
            }
            if (!path_fits(file, e->initrd[e->initrds++], sizeof e->initrd[0])) {
                too_long(g, e->title);
                return false;
            }
        }
        p += n + (p[n] != '\0');
    }
    return true;
}

/* What is the loader's business goes, as do the backslashes that joined lines and doubled blanks. */
static bool take_options(const char *all, struct ws_start_entry *e) {
    size_t n = 0;
    for (const char *p = all; *p;) {
        size_t length = strcspn(p, " \t\n");
        bool loaders =
            strncmp(p, "initrd=", 7) == 0 || strncmp(p, "BOOT_IMAGE=", 11) == 0 || (length == 1 && *p == '\\');
        if (length && !loaders) {
            if (n + length + 2 > sizeof e->options) return false;
            if (n) e->options[n++] = ' ';
            memcpy(e->options + n, p, length);
            n += length;
        }
        p += length + (p[length] != '\0');
    }
    e->options[n] = '\0';
    return true;
}

static bool is_same(const struct ws_start_entry *a, const struct ws_start_entry *b) {
    if (strcmp(a->linux_path, b->linux_path) != 0 || strcmp(a->options, b->options) != 0 || a->initrds != b->initrds)
        return false;
    for (unsigned i = 0; i < a->initrds; i++)
        if (strcmp(a->initrd[i], b->initrd[i]) != 0) return false;
    return true;
}

static enum ws_status keep(struct gathering *g, const struct ws_start_entry *e, bool is_default,
                           struct ws_error *error) {
    struct ws_start_entries *all = g->entries;
    size_t at = 0;
    while (at < all->count && !is_same(&all->entry[at], e)) at++;
    if (at == all->count) {
        if (all->count >= WS_START_ENTRIES_MOST - 1) return WS_OK; /* one more is to follow */
        struct ws_start_entry *grown = realloc(all->entry, (all->count + 2) * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for start entries");
        all->entry = grown;
        grown[all->count++] = *e;
    }
    if (is_default && !g->have_default) {
        g->chosen = at;
        g->have_default = true;
    }
    return WS_OK;
}

/* Without a family to go by: menus also start checks of the memory and the like by the same words. */
static bool looks_like_kernel(const char *path) { return !strstr(path, "memtest") && !strstr(path, "mt86"); }

static enum ws_status gather(void *context, const struct ws_node *file, const struct ws_menu *menu,
                             struct ws_error *error) {
    struct gathering *g = context;
    if (!menu || menu->kind != g->kind) return WS_OK;
    for (size_t i = 0; i < menu->entries; i++) {
        const struct ws_menu_entry *from = &menu->entry[i];
        struct ws_start_entry e = {.remembers = false};
        if (snprintf(e.title, sizeof e.title, "%s", from->title) >= (int)sizeof e.title)
            (void)snprintf(e.title, sizeof e.title, "%.150s...", from->title);
        ws_make_visible(e.title, sizeof e.title);
        const char *said = from->parameters;
        bool ours = !g->family || ws_live_family_of_parameters(said) || ws_live_family_starts(g->family, said);
        bool usable = ours && looks_like_kernel(from->kernel);
        if (usable) {
            const struct ws_node *node = find(g, file, from->kernel);
            bool fits =
                !from->cut && take_options(said, &e) && (!node || path_fits(node, e.linux_path, sizeof e.linux_path));
            usable = node && fits;
            if (!node) miss(g, e.title, from->kernel);
            else if (!fits) too_long(g, e.title);
        }
        usable = usable && take_initrds(g, file, from->initrd, &e);
        if (usable) WS_TRY(keep(g, &e, from->is_default, error));
    }
    return WS_OK;
}

/* The chosen one first, remembering, and behind it as it was. */
static enum ws_status put_first(struct gathering *g, const char *parameters, struct ws_error *error) {
    struct ws_start_entry *e = g->entries->entry;
    struct ws_start_entry chosen = e[g->chosen];
    struct ws_text options = {0};
    if (!parameters) {
        memmove(e + 1, e, g->chosen * sizeof *e);
        e[0] = chosen;
        return WS_OK;
    }
    memmove(e + 2, e, g->chosen * sizeof *e);
    memmove(e + g->chosen + 2, e + g->chosen + 1, (g->entries->count - g->chosen - 1) * sizeof *e);
    e[0] = e[1] = chosen;
    g->entries->count++;
    ws_parameters_remember(chosen.options, parameters, g->family->drop, &options);
    WS_TRY(ws_text_status(&options, error));
    bool fits = options.length < sizeof e->options;
    if (fits)
        (void)snprintf(e[0].options, sizeof e->options, "%s",
                       options.data ? options.data + (options.data[0] == ' ') : "");
    ws_text_free(&options);
    if (!fits) return ws_fail(error, WS_E_UNSUPPORTED, "the parameters of \"%.60s\" are too long", chosen.title);
    e[0].remembers = true;
    (void)snprintf(e[1].title, sizeof e->title, "%.130s (forgets at power-off)", chosen.title);
    return WS_OK;
}

enum ws_status ws_start_entries_of(const struct ws_tree *tree, const struct ws_live_family *family,
                                   const char *parameters, struct ws_start_entries *entries,
                                   struct ws_findings *findings, struct ws_error *error) {
    struct gathering g = {.tree = tree, .family = family, .entries = entries, .findings = findings};
    enum ws_status status;
    memset(entries, 0, sizeof *entries);
    static const enum ws_menu_kind kinds[] = {WS_MENU_GRUB, WS_MENU_SYSLINUX};
    for (size_t i = 0; i < 2 && entries->count == 0; i++) {
        g.kind = kinds[i];
        WS_GO(ws_medium_menus(tree, gather, &g, error));
    }
    if (entries->count == 0)
        WS_GO(ws_fail(error, WS_E_NOTFOUND, "no start menu of this image names a kernel that is there"));
    WS_GO(put_first(&g, parameters, error));
done:
    if (status != WS_OK) ws_start_entries_free(entries);
    return status;
}

static enum ws_status list_line(const struct ws_tree *tree, const char *path, struct ws_text *list,
                                struct ws_error *error) {
    char hex[WS_HASH_HEX];
    char end[300];
    const struct ws_node *n = ws_tree_find_any_case(tree, path);
    if (!n || n->kind != WS_NODE_FILE) return WS_OK;
    (void)snprintf(end, sizeof end, "  %s\n", path + (*path == '/'));
    if (list->data && strstr(list->data, end)) return WS_OK; /* named already */
    if (n->content) WS_TRY(ws_source_hash(n->content, WS_HASH_SHA256, hex, error));
    else WS_TRY(ws_hash_bytes(WS_HASH_SHA256, "", 0, hex, error));
    ws_text_printf(list, "%s%s", hex, end);
    return WS_OK;
}

static enum ws_status make_list(const struct ws_tree *tree, const struct ws_start_entries *entries,
                                const char *const more[], struct ws_text *list, struct ws_error *error) {
    for (size_t i = 0; i < entries->count; i++) {
        const struct ws_start_entry *e = &entries->entry[i];
        WS_TRY(list_line(tree, e->linux_path, list, error));
        for (unsigned k = 0; k < e->initrds; k++) WS_TRY(list_line(tree, e->initrd[k], list, error));
    }
    for (size_t i = 0; more && more[i]; i++) WS_TRY(list_line(tree, more[i], list, error));
    return ws_text_status(list, error);
}

static void entry_text(const struct ws_start_entry *e, size_t number, enum ws_check_at_start check,
                       const char *list_hex, const char *list_path, struct ws_text *out) {
    ws_text_printf(out, "title      %s\nsort-key   %04zu\n%s      %s\n", e->title, number, e->efi ? "efi  " : "linux",
                   e->linux_path);
    for (unsigned i = 0; i < e->initrds; i++) ws_text_printf(out, "initrd     %s\n", e->initrd[i]);
    if (!e->efi || e->options[0]) ws_text_printf(out, "options    %s\n", e->options);
    if (check == WS_CHECK_OFF) return;
    ws_text_printf(out, "satchel-check %s\nsatchel-list  %s %s\n", ws_check_name(check), list_hex, list_path);
}

static enum ws_status put_text(struct ws_tree *tree, const char *path, struct ws_text *text, int64_t made_at,
                               struct ws_error *error) {
    struct ws_node *n = NULL;
    enum ws_status status = ws_text_status(text, error);
    if (status == WS_OK) status = ws_tree_put(tree, path, text->data ? text->data : "", text->length, &n, error);
    if (status == WS_OK) n->mtime = made_at;
    ws_text_free(text);
    return status;
}

enum ws_status ws_start_entries_put(struct ws_tree *tree, const char *base, const struct ws_start_entries *entries,
                                    enum ws_check_at_start check, const char *const check_paths[], unsigned timeout_s,
                                    int64_t made_at, struct ws_error *error) {
    struct ws_text list = {0};
    struct ws_text text = {0};
    char hex[WS_HASH_HEX] = "";
    char list_path[LIST_NAME_ROOM], settings[LIST_NAME_ROOM];
    enum ws_status status = WS_OK;
    (void)snprintf(list_path, sizeof list_path, "%s/loader/satchel.sha256", base);
    (void)snprintf(settings, sizeof settings, "%s/loader/satchel.conf", base);
    if (check != WS_CHECK_OFF) {
        status = make_list(tree, entries, check_paths, &list, error);
        if (status == WS_OK)
            status = ws_hash_bytes(WS_HASH_SHA256, list.data ? list.data : "", list.length, hex, error);
        if (status == WS_OK) status = put_text(tree, list_path, &list, made_at, error);
        ws_text_free(&list);
        WS_TRY(status);
    }
    for (size_t i = 0; i < entries->count; i++) {
        char path[LIST_NAME_ROOM];
        (void)snprintf(path, sizeof path, "%s/loader/entries/%04zu.conf", base, i + 1);
        entry_text(&entries->entry[i], i + 1, check, hex, list_path, &text);
        WS_TRY(put_text(tree, path, &text, made_at, error));
    }
    ws_text_printf(&text, "# how long the menu waits, in seconds, or \"never\"; and the entry it then starts\n");
    ws_text_printf(&text, "timeout %u\ndefault 0001\n", timeout_s);
    return put_text(tree, settings, &text, made_at, error);
}
