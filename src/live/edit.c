/* edit.c — an entry made to remember, with a forgetful copy behind it; checksum lists corrected. */
#include "wild_satchel/live.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char forgetful[] = " (forgets at power-off)";

static bool is_dropped(const char *word, size_t length, const char *const drop[]) {
    for (size_t i = 0; drop && i < 6 && drop[i]; i++) {
        size_t n = strlen(drop[i]);
        bool prefix = drop[i][n - 1] == '=';
        if (prefix ? length >= n && strncmp(word, drop[i], n) == 0 : length == n && strncmp(word, drop[i], n) == 0)
            return true;
    }
    return false;
}

/* "--" and "---" divide the live system's parameters from those an installer hands on. */
static bool is_divider(const char *word, size_t length) {
    return (length == 2 || length == 3) && strncmp(word, "---", length) == 0;
}

/* The parameters with ours among them; what is dropped goes, all else stays to the letter. */
static void add_parameters(struct ws_text *out, const char *args, size_t length, const char *parameters,
                           const char *const drop[]) {
    struct ws_text missing = {0};
    char *all = malloc(length + 1);
    if (!all) {
        out->failed = true;
        return;
    }
    memcpy(all, args, length);
    all[length] = '\0';
    for (const char *p = parameters; *p;) {
        char word[256];
        size_t n = strcspn(p, " ");
        (void)snprintf(word, sizeof word, "%.*s", (int)(n < 255 ? n : 255), p);
        bool goes = is_dropped(word, strlen(word), drop); /* another value of it is about to be dropped */
        if (goes || !ws_parameter_is_set(all, word)) ws_text_printf(&missing, " %s", word);
        p += n + (p[n] == ' ');
    }
    bool added = false;
    for (size_t i = 0; i < length;) {
        size_t gap = i;
        while (i < length && (isspace((unsigned char)args[i]) || args[i] == '\\')) i++;
        size_t word = i;
        while (i < length && !isspace((unsigned char)args[i])) i++;
        if (!added && is_divider(args + word, i - word)) {
            if (missing.data) ws_text_puts(out, missing.data);
            added = true;
        }
        if (!is_dropped(args + word, i - word, drop)) ws_text_add(out, args + gap, i - gap);
    }
    if (!added && missing.data) ws_text_puts(out, missing.data);
    out->failed |= missing.failed;
    ws_text_free(&missing);
    free(all);
}

void ws_parameters_remember(const char *options, const char *parameters, const char *const drop[],
                            struct ws_text *out) {
    add_parameters(out, options, strlen(options), parameters, drop);
}

/* The copy's heading: GRUB's quoted title, or the label and menu label lines. */
static void copy_grub(struct ws_text *out, const struct ws_menu *menu, const struct ws_menu_entry *e) {
    const char *block = menu->text + e->block;
    size_t length = e->block_end - e->block;
    size_t i = 0;
    while (i < length && isspace((unsigned char)block[i])) i++;
    while (i < length && !isspace((unsigned char)block[i])) i++; /* menuentry */
    while (i < length && isspace((unsigned char)block[i])) i++;
    char quote = block[i] == '"' || block[i] == '\'' ? block[i] : 0;
    size_t title_end = i + 1;
    while (title_end < length && (quote ? block[title_end] != quote : !isspace((unsigned char)block[title_end])))
        title_end++;
    ws_text_add(out, block, i);
    if (!quote) ws_text_puts(out, "\"");
    ws_text_add(out, block + i, title_end - i);
    ws_text_puts(out, forgetful);
    if (!quote) ws_text_puts(out, "\"");
    const char *rest = block + title_end;
    size_t left = length - title_end;
    const char *id = e->id[0] ? strstr(rest, e->id) : NULL;
    const char *heading_end = memchr(rest, '{', left);
    if (id && heading_end && id < heading_end) { /* two entries must not share an identifier */
        size_t head = (size_t)(id - rest) + strlen(e->id);
        ws_text_add(out, rest, head);
        ws_text_puts(out, "-forgetful");
        rest += head;
        left -= head;
    }
    ws_text_add(out, rest, left);
    if (left == 0 || rest[left - 1] != '\n') ws_text_puts(out, "\n");
}

static bool line_is(const char *line, size_t length, const char *first, const char *second) {
    size_t i = 0;
    while (i < length && isspace((unsigned char)line[i])) i++;
    const char *words[2] = {first, second};
    for (int w = 0; w < 2 && words[w]; w++) {
        for (const char *c = words[w]; *c; c++, i++)
            if (i >= length || tolower((unsigned char)line[i]) != *c) return false;
        if (i < length && !isspace((unsigned char)line[i])) return false;
        while (i < length && isspace((unsigned char)line[i])) i++;
    }
    return true;
}

static void copy_syslinux(struct ws_text *out, const struct ws_menu *menu, const struct ws_menu_entry *e) {
    const char *p = menu->text + e->block;
    const char *end = menu->text + e->block_end;
    ws_text_puts(out, "\n");
    while (p < end) {
        const char *newline = memchr(p, '\n', (size_t)(end - p));
        size_t length = newline ? (size_t)(newline - p) : (size_t)(end - p);
        size_t solid = length;
        while (solid > 0 && isspace((unsigned char)p[solid - 1])) solid--;
        if (!line_is(p, solid, "menu", "default")) {
            ws_text_add(out, p, solid);
            if (line_is(p, solid, "label", NULL)) ws_text_puts(out, "-forgetful");
            if (line_is(p, solid, "menu", "label")) ws_text_puts(out, forgetful);
            ws_text_puts(out, "\n");
        }
        p += length + (newline ? 1 : 0);
    }
}

enum ws_status ws_menu_remember(const struct ws_menu *menu, const struct ws_menu_entry *entry, const char *parameters,
                                const char *const drop[], struct ws_text *out, struct ws_error *error) {
    if (entry->args_end == 0 || entry->args > entry->args_end || entry->args_end > entry->block_end)
        return ws_fail(error, WS_E_UNSUPPORTED, "the menu entry \"%s\" passes no parameters that could be extended",
                       entry->title);
    ws_text_add(out, menu->text, entry->args);
    add_parameters(out, menu->text + entry->args, entry->args_end - entry->args, parameters, drop);
    ws_text_add(out, menu->text + entry->args_end, entry->block_end - entry->args_end);
    if (menu->kind == WS_MENU_GRUB) {
        if (out->length && out->data[out->length - 1] != '\n') ws_text_puts(out, "\n");
        copy_grub(out, menu, entry);
    } else {
        ws_text_puts(out, "\n");
        copy_syslinux(out, menu, entry);
    }
    ws_text_add(out, menu->text + entry->block_end, menu->length - entry->block_end);
    return ws_text_status(out, error);
}

static bool ends_with(const char *name, const char *tail) {
    size_t n = strlen(name);
    size_t t = strlen(tail);
    if (n < t) return false;
    for (size_t i = 0; i < t; i++)
        if (tolower((unsigned char)name[n - t + i]) != tail[i]) return false;
    return true;
}

/* Folders in which menus stand. Menus for starting the image out of another menu do not count. */
bool ws_may_be_menu(const struct ws_node *n) {
    if (n->kind != WS_NODE_FILE || !n->content || n->content->size > 256 * 1024) return false;
    if (!ends_with(n->name, ".cfg") && !ends_with(n->name, ".conf")) return false;
    if (ends_with(n->name, "loopback.cfg")) return false;
    const struct ws_node *top = n->parent;
    while (top && top->parent && top->parent->parent) top = top->parent;
    if (!top || !top->parent) return true; /* at the medium's top */
    return ends_with(top->name, "isolinux") || ends_with(top->name, "syslinux") || ends_with(top->name, "boot") ||
           ends_with(top->name, "efi") || ends_with(top->name, "grub") || ends_with(top->name, "loader");
}

enum ws_status ws_medium_menus(const struct ws_tree *tree, ws_menu_visit visit, void *context, struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        char *text = NULL;
        size_t length = 0;
        struct ws_menu menu;
        if (!ws_may_be_menu(n)) continue;
        WS_TRY(ws_source_load(n->content, 256 * 1024, &text, &length, error));
        enum ws_status status = ws_menu_parse(text, length, &menu, error);
        free(text);
        if (status == WS_E_NOTFOUND) continue;
        bool understood = status == WS_OK;
        if (understood || status == WS_E_FORMAT) status = visit(context, n, understood ? &menu : NULL, error);
        if (understood) ws_menu_free(&menu);
        WS_TRY(status);
    }
    return WS_OK;
}

bool ws_is_checklist(const char *name) {
    static const char *const names[] = {"md5sum.txt", "sha1sum.txt", "sha256sum.txt", "sha512sum.txt",
                                        "md5sums",    "sha1sums",    "sha256sums",    "sha512sums"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++)
        if (ends_with(name, names[i]) && strlen(name) == strlen(names[i])) return true;
    return false;
}

size_t ws_checklist_correct(char *list, size_t length, const char *path, const void *bytes, size_t bytes_length) {
    size_t corrected = 0;
    while (*path == '/') path++;
    for (char *line = list; line < list + length;) {
        char *end = memchr(line, '\n', (size_t)(list + length - line));
        if (!end) end = list + length;
        size_t hex = 0;
        while (line + hex < end && isxdigit((unsigned char)line[hex])) hex++;
        const char *name = line + hex;
        const char *name_end = end;
        while (name < end && (*name == ' ' || *name == '*')) name++;
        if (name + 2 <= end && name[0] == '.' && name[1] == '/') name += 2;
        while (name_end > name && isspace((unsigned char)name_end[-1])) name_end--;
        bool same = (size_t)(name_end - name) == strlen(path) && strncmp(name, path, strlen(path)) == 0;
        if (same && (hex == 32 || hex == 40 || hex == 64 || hex == 128)) {
            char text[WS_HASH_HEX];
            enum ws_hash_kind kind = hex == 32   ? WS_HASH_MD5
                                     : hex == 40 ? WS_HASH_SHA1
                                     : hex == 64 ? WS_HASH_SHA256
                                                 : WS_HASH_SHA512;
            if (ws_hash_bytes(kind, bytes, bytes_length, text, NULL) == WS_OK) {
                memcpy(line, text, hex);
                corrected++;
            }
        }
        line = end + 1;
    }
    return corrected;
}
