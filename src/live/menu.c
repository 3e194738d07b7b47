/* menu.c — start menus taken apart: GRUB 2's and those of syslinux and isolinux. */
#include "wild_satchel/live.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MENU_MOST = 256 * 1024, ENTRIES_MOST = 500 };

/* A stretch of the text. */
struct span {
    size_t at, end;
};

static bool starts_with_word(const char *text, struct span line, const char *word) {
    size_t n = strlen(word);
    if (line.end - line.at < n) return false;
    for (size_t i = 0; i < n; i++)
        if (tolower((unsigned char)text[line.at + i]) != word[i]) return false;
    return line.at + n == line.end || isspace((unsigned char)text[line.at + n]);
}

static struct span trimmed(const char *text, struct span s) {
    while (s.at < s.end && isspace((unsigned char)text[s.at])) s.at++;
    while (s.end > s.at && isspace((unsigned char)text[s.end - 1])) s.end--;
    return s;
}

/* The next word of a line, quotes removed; moves `rest` behind it. */
static bool next_word(const char *text, struct span *rest, char *out, size_t room) {
    size_t n = 0;
    while (rest->at < rest->end && isspace((unsigned char)text[rest->at])) rest->at++;
    if (rest->at >= rest->end) return false;
    char quote = 0;
    for (; rest->at < rest->end; rest->at++) {
        char c = text[rest->at];
        if (quote ? c == quote : c == '"' || c == '\'') {
            quote = quote ? 0 : c;
            continue;
        }
        if (!quote && isspace((unsigned char)c)) break;
        if (n + 1 < room) out[n++] = c;
    }
    out[n] = '\0';
    return true;
}

static void copy_span(const char *text, struct span s, char *out, size_t room) {
    size_t n = s.end - s.at < room - 1 ? s.end - s.at : room - 1;
    for (size_t i = 0; i < n; i++) out[i] = isspace((unsigned char)text[s.at + i]) ? ' ' : text[s.at + i];
    out[n] = '\0';
}

static struct ws_menu_entry *new_entry(struct ws_menu *menu, struct ws_error *error) {
    if (menu->entries >= ENTRIES_MOST) {
        ws_fail(error, WS_E_FORMAT, "a start menu has more than %d entries", (int)ENTRIES_MOST);
        return NULL;
    }
    struct ws_menu_entry *grown = realloc(menu->entry, (menu->entries + 1) * sizeof *grown);
    if (!grown) {
        ws_fail(error, WS_E_NOMEM, "out of memory for a start menu");
        return NULL;
    }
    menu->entry = grown;
    struct ws_menu_entry *e = &grown[menu->entries++];
    memset(e, 0, sizeof *e);
    return e;
}

/* A line, a trailing backslash joining the next one to it; `end` is behind its newline. */
static struct span line_at(const char *text, size_t length, size_t at, bool joins, size_t *end) {
    size_t p = at;
    while (p < length) {
        if (text[p] == '\n' && !(joins && p > at && text[p - 1] == '\\')) break;
        p++;
    }
    *end = p < length ? p + 1 : p;
    return trimmed(text, (struct span){at, p});
}

/* Braces that open and close blocks, outside of quotes, comments and ${...}. */
static int brace_balance(const char *text, struct span line, int *lowest) {
    int depth = 0;
    char quote = 0;
    *lowest = 0;
    for (size_t i = line.at; i < line.end; i++) {
        char c = text[i];
        if (c == '\\' && quote != '\'') i++;
        else if (quote) quote = c == quote ? 0 : quote;
        else if (c == '"' || c == '\'') quote = c;
        else if (c == '#' && (i == line.at || isspace((unsigned char)text[i - 1]))) break;
        else if (c == '$' && i + 1 < line.end && text[i + 1] == '{') {
            while (i < line.end && text[i] != '}') i++;
        } else if (c == '{') depth++;
        else if (c == '}' && --depth < *lowest) *lowest = depth;
    }
    return depth;
}

struct grub_item { /* a top-level item, as "set default=" counts them */
    char title[160], id[96];
    size_t first, count; /* its kernel-starting entries */
};

static void grub_title(const char *text, struct span line, char *title, size_t title_room, char *id, size_t id_room) {
    char word[256];
    struct span rest = line;
    (void)next_word(text, &rest, word, sizeof word); /* menuentry */
    (void)next_word(text, &rest, title, title_room);
    while (next_word(text, &rest, word, sizeof word) && strcmp(word, "{") != 0) {
        if (strcmp(word, "--id") == 0) (void)next_word(text, &rest, id, id_room);
        else if (strncmp(word, "--id=", 5) == 0) (void)snprintf(id, id_room, "%.90s", word + 5);
        else if (strncmp(word, "$menuentry_id_option", 20) == 0) (void)next_word(text, &rest, id, id_room);
    }
}

static void grub_kernel(const char *text, struct span line, struct ws_menu_entry *e) {
    char word[64];
    struct span rest = line;
    (void)next_word(text, &rest, word, sizeof word);
    (void)next_word(text, &rest, e->kernel, sizeof e->kernel);
    struct span args = trimmed(text, rest);
    e->args = rest.at;
    e->args_end = args.end > rest.at ? args.end : rest.at;
    copy_span(text, args, e->parameters, sizeof e->parameters);
}

static void mark_grub_default(struct ws_menu *menu, const struct grub_item *item, size_t items) {
    const char *word = menu->default_word;
    size_t chosen = 0;
    char *end;
    unsigned long number = strtoul(word, &end, 10);
    if (*word && (*end == '\0' || *end == '>')) {
        if (number < items) chosen = (size_t)number;
    } else if (*word) {
        size_t head = strcspn(word, ">");
        for (size_t i = 0; i < items; i++)
            if ((strlen(item[i].title) == head && strncmp(item[i].title, word, head) == 0) ||
                (strlen(item[i].id) == head && strncmp(item[i].id, word, head) == 0))
                chosen = i;
    }
    /* An item that starts no kernel (a heading, a check of the memory) hands on to the first that does. */
    if (chosen >= items || item[chosen].count == 0)
        for (chosen = 0; chosen < items && item[chosen].count == 0; chosen++) {
        }
    if (chosen < items) menu->entry[item[chosen].first].is_default = true;
}

static enum ws_status parse_grub(struct ws_menu *menu, struct ws_error *error) {
    const char *text = menu->text;
    struct grub_item *item = NULL;
    size_t items = 0;
    int depth = 0;
    int entry_depth = -1; /* depth outside the open menuentry */
    bool in_kernel_entry = false;
    struct ws_menu_entry open = {0};
    enum ws_status status = WS_OK;
    for (size_t at = 0, end; at < menu->length; at = end) {
        struct span line = line_at(text, menu->length, at, true, &end);
        int lowest;
        int change = brace_balance(text, line, &lowest);
        bool is_entry = starts_with_word(text, line, "menuentry");
        if ((is_entry || starts_with_word(text, line, "submenu")) && entry_depth < 0) {
            if (depth == 0) {
                struct grub_item *grown = realloc(item, (items + 1) * sizeof *item);
                if (!grown) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a start menu"));
                item = grown;
                memset(&item[items], 0, sizeof *item);
                item[items].first = menu->entries;
                grub_title(text, line, item[items].title, sizeof item->title, item[items].id, sizeof item->id);
                items++;
            }
            if (is_entry) {
                memset(&open, 0, sizeof open);
                grub_title(text, line, open.title, sizeof open.title, open.id, sizeof open.id);
                open.block = at;
                entry_depth = depth;
                in_kernel_entry = false;
            }
        } else if (entry_depth >= 0) {
            bool kernel = starts_with_word(text, line, "linux") || starts_with_word(text, line, "linuxefi") ||
                          starts_with_word(text, line, "linux16") || starts_with_word(text, line, "$linux") ||
                          starts_with_word(text, line, "linux${sfx}");
            if (kernel && !in_kernel_entry) {
                grub_kernel(text, line, &open);
                in_kernel_entry = true;
            } else if (starts_with_word(text, line, "initrd") || starts_with_word(text, line, "initrdefi") ||
                       starts_with_word(text, line, "$initrd") || starts_with_word(text, line, "initrd16")) {
                char word[64];
                struct span rest = line;
                (void)next_word(text, &rest, word, sizeof word);
                copy_span(text, trimmed(text, rest), open.initrd, sizeof open.initrd);
            }
        } else if (starts_with_word(text, line, "set") || starts_with_word(text, line, "default")) {
            char word[256];
            struct span rest = line;
            while (next_word(text, &rest, word, sizeof word))
                if (strncmp(word, "default=", 8) == 0 && !strchr(word, '$'))
                    (void)snprintf(menu->default_word, sizeof menu->default_word, "%.159s", word + 8);
        }
        depth += change;
        if (depth < 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a GRUB menu closes more blocks than it opens"));
        if (entry_depth >= 0 && depth <= entry_depth && (change != 0 || lowest < 0)) {
            if (in_kernel_entry) {
                struct ws_menu_entry *e = new_entry(menu, error);
                if (!e) {
                    status = error ? error->status : WS_E_NOMEM;
                    goto done;
                }
                *e = open;
                e->block_end = end;
                if (items) item[items - 1].count++;
            }
            entry_depth = -1;
        }
    }
    if (depth != 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a GRUB menu opens a block and never closes it"));
    mark_grub_default(menu, item, items);
done:
    free(item);
    return status;
}

static void close_label(struct ws_menu_entry *e, const char *text, size_t end) {
    if (!e || e->block_end) return;
    while (end > e->block && isspace((unsigned char)text[end - 1])) end--;
    e->block_end = end;
}

static enum ws_status parse_syslinux(struct ws_menu *menu, struct ws_error *error) {
    const char *text = menu->text;
    struct ws_menu_entry *e = NULL;
    bool marked = false;
    for (size_t at = 0, end; at < menu->length; at = end) {
        struct span line = line_at(text, menu->length, at, false, &end);
        char word[64] = "";
        char second[64] = "";
        struct span rest = line;
        (void)next_word(text, &rest, word, sizeof word);
        for (char *c = word; *c; c++) *c = (char)tolower((unsigned char)*c);
        struct span value = trimmed(text, rest);
        bool menu_word = strcmp(word, "menu") == 0;
        struct span after = rest;
        if (menu_word) (void)next_word(text, &after, second, sizeof second);
        for (char *c = second; *c; c++) *c = (char)tolower((unsigned char)*c);
        if (strcmp(word, "label") == 0) {
            close_label(e, text, at);
            e = new_entry(menu, error);
            if (!e) return error ? error->status : WS_E_NOMEM;
            e->block = at;
            copy_span(text, value, e->id, sizeof e->id);
            copy_span(text, value, e->title, sizeof e->title);
        } else if (strcmp(word, "include") == 0 || strcmp(word, "ui") == 0 ||
                   (menu_word && (!strcmp(second, "begin") || !strcmp(second, "end")))) {
            close_label(e, text, at);
            e = NULL;
        } else if (strcmp(word, "default") == 0 || strcmp(word, "ontimeout") == 0) {
            copy_span(text, value, menu->default_word, sizeof menu->default_word);
        } else if (!e) {
            continue;
        } else if (menu_word && strcmp(second, "label") == 0) {
            copy_span(text, trimmed(text, after), e->title, sizeof e->title);
        } else if (menu_word && strcmp(second, "default") == 0) {
            e->is_default = marked = true;
        } else if (strcmp(word, "kernel") == 0 || strcmp(word, "linux") == 0) {
            (void)next_word(text, &rest, e->kernel, sizeof e->kernel);
            if (!e->args_end) {
                e->args = rest.at;
                e->args_end = trimmed(text, rest).end > rest.at ? trimmed(text, rest).end : rest.at;
                copy_span(text, trimmed(text, rest), e->parameters, sizeof e->parameters);
            }
        } else if (strcmp(word, "append") == 0) {
            e->args = rest.at;
            e->args_end = value.end > rest.at ? value.end : rest.at;
            copy_span(text, value, e->parameters, sizeof e->parameters);
            const char *initrd = strstr(e->parameters, "initrd=");
            if (initrd && !e->initrd[0])
                (void)snprintf(e->initrd, sizeof e->initrd, "%.*s", (int)strcspn(initrd + 7, " "), initrd + 7);
        } else if (strcmp(word, "initrd") == 0) {
            copy_span(text, value, e->initrd, sizeof e->initrd);
        }
    }
    close_label(e, text, menu->length);
    size_t kept = 0; /* labels that start something else (memory test, another menu) do not count */
    for (size_t i = 0; i < menu->entries; i++) {
        const char *k = menu->entry[i].kernel;
        size_t n = strlen(k);
        bool module = n > 4 && (strcmp(k + n - 4, ".c32") == 0 || strcmp(k + n - 4, ".bin") == 0 ||
                                strcmp(k + n - 4, ".cfg") == 0);
        if (k[0] && !module) menu->entry[kept++] = menu->entry[i];
    }
    menu->entries = kept;
    for (size_t i = 0; !marked && i < kept; i++)
        if (strcmp(menu->entry[i].id, menu->default_word) == 0) menu->entry[i].is_default = marked = true;
    return WS_OK;
}

/* "^" marks a hot key in syslinux titles and is not shown. */
static void drop_hot_key(char *title) {
    char *out = title;
    for (const char *c = title; *c; c++)
        if (*c != '^') *out++ = *c;
    *out = '\0';
}

enum ws_status ws_menu_parse(const char *text, size_t length, struct ws_menu *menu, struct ws_error *error) {
    memset(menu, 0, sizeof *menu);
    if (length > MENU_MOST) return ws_fail(error, WS_E_NOTFOUND, "too long to be a start menu");
    menu->text = malloc(length + 1);
    if (!menu->text) return ws_fail(error, WS_E_NOMEM, "out of memory for a start menu");
    memcpy(menu->text, text, length);
    menu->text[length] = '\0';
    menu->length = length;
    menu->kind = strstr(menu->text, "menuentry") ? WS_MENU_GRUB : WS_MENU_SYSLINUX;
    enum ws_status status = menu->kind == WS_MENU_GRUB ? parse_grub(menu, error) : parse_syslinux(menu, error);
    for (size_t i = 0; menu->kind == WS_MENU_SYSLINUX && i < menu->entries; i++) drop_hot_key(menu->entry[i].title);
    if (status == WS_OK && menu->entries == 0) status = ws_fail(error, WS_E_NOTFOUND, "this menu starts no kernel");
    if (status != WS_OK) ws_menu_free(menu);
    return status;
}

void ws_menu_free(struct ws_menu *menu) {
    free(menu->text);
    free(menu->entry);
    memset(menu, 0, sizeof *menu);
}

const struct ws_menu_entry *ws_menu_default(const struct ws_menu *menu) {
    for (size_t i = 0; i < menu->entries; i++)
        if (menu->entry[i].is_default) return &menu->entry[i];
    return NULL;
}
