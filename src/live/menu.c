/* menu.c — start menus taken apart: GRUB 2's and those of syslinux and isolinux. */
#include "live/internal.h"

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

/* The same. @return false if there is a word, and it had to be cut */
static bool word_fits(const char *text, struct span *rest, char *out, size_t room) {
    size_t from = rest->at;
    return !next_word(text, rest, out, room) || strlen(out) + 1 < room || rest->at - from < room;
}

/* Lines joined by a backslash are one, whatever stands for a blank is one. @return false if it had to be cut */
static bool copy_span(const char *text, struct span s, char *out, size_t room) {
    size_t n = 0;
    size_t i = s.at;
    for (; i < s.end && n + 1 < room; i++) {
        if (text[i] == '\\' && i + 1 < s.end && text[i + 1] == '\n') i++;
        else out[n++] = isspace((unsigned char)text[i]) ? ' ' : text[i];
    }
    out[n] = '\0';
    return i >= s.end;
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

/* A line; `end` is behind its newline. */
static struct span line_at(const char *text, size_t length, size_t at, size_t *end) {
    size_t p = at;
    while (p < length && text[p] != '\n') p++;
    *end = p < length ? p + 1 : p;
    return trimmed(text, (struct span){at, p});
}

/* One command of a GRUB script. */
struct command {
    struct span words;
    size_t line; /* where its line begins; where it begins itself, if something stands before it there */
    char stop;   /* what ended it: newline, ';', '{', '}', or 0 at the end of the text */
    size_t next; /* behind that */
};

static size_t behind_line(const char *text, size_t length, size_t at) {
    while (at < length && text[at] != '\n') at++;
    return at < length ? at + 1 : at;
}

/* The command that begins at or behind `at`: up to a line's end, a semicolon or brace outside of quotes, comments and
 * ${...} (GRUB manual, "Writing full configuration files directly"). A quote ends with its line: what is damaged there
 * damages nothing else. */
static struct command command_at(const char *text, size_t length, size_t at) {
    struct command c = {.line = at};
    bool alone = at == 0 || text[at - 1] == '\n';
    while (at < length && (isspace((unsigned char)text[at]) || text[at] == '#')) {
        bool line_ends = text[at] == '#' || text[at] == '\n';
        at = line_ends ? behind_line(text, length, at) : at + 1;
        if (line_ends) c.line = at;
        alone |= line_ends;
    }
    if (!alone) c.line = at;
    size_t p = at;
    char quote = 0;
    for (; p < length && text[p] != '\n'; p++) {
        if (text[p] == '\\' && quote != '\'' && p + 1 < length) p++; /* also joins the next line */
        else if (quote) quote = text[p] == quote ? 0 : quote;
        else if (text[p] == '"' || text[p] == '\'') quote = text[p];
        else if (text[p] == '$' && p + 1 < length && text[p + 1] == '{')
            while (p + 1 < length && text[p + 1] != '\n' && text[p] != '}') p++;
        else if (strchr(";{}", text[p]) || (text[p] == '#' && p > at && isspace((unsigned char)text[p - 1]))) break;
    }
    c.words = trimmed(text, (struct span){at, p});
    c.stop = p < length ? text[p] == '#' ? '\n' : text[p] : '\0';
    c.next = p >= length ? length : c.stop == '\n' ? behind_line(text, length, p) : p + 1;
    static const char *const before[] = {"then", "else", "do"};
    for (size_t i = 0; i < 3; i++)
        if (starts_with_word(text, c.words, before[i])) {
            c.words.at += strlen(before[i]);
            c.words = trimmed(text, c.words);
            c.line = c.words.at;
        }
    return c;
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
    e->cut |= !word_fits(text, &rest, e->kernel, sizeof e->kernel);
    struct span args = trimmed(text, rest);
    e->args = rest.at;
    e->args_end = args.end > rest.at ? args.end : rest.at;
    e->cut |= !copy_span(text, args, e->parameters, sizeof e->parameters);
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

static bool is_kernel(const char *text, struct span words) {
    static const char *const names[] = {"linux", "linuxefi", "linux16", "$linux", "linux${sfx}"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++)
        if (starts_with_word(text, words, names[i])) return true;
    return false;
}

static bool is_initrd(const char *text, struct span words) {
    static const char *const names[] = {"initrd", "initrdefi", "initrd16", "$initrd", "initrd${sfx}"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++)
        if (starts_with_word(text, words, names[i])) return true;
    return false;
}

/* A GRUB menu while it is read. */
struct grub_reading {
    struct grub_item *item; /* owned */
    size_t items;
    int depth;
    int entry_depth; /* outside the menuentry that is open; -1: none is */
    bool in_kernel_entry;
    struct ws_menu_entry open;
};

static enum ws_status begin_item(struct grub_reading *g, const struct ws_menu *menu, struct span words,
                                 struct ws_error *error) {
    struct grub_item *grown = realloc(g->item, (g->items + 1) * sizeof *grown);
    if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a start menu");
    g->item = grown;
    struct grub_item *item = &grown[g->items++];
    memset(item, 0, sizeof *item);
    item->first = menu->entries;
    grub_title(menu->text, words, item->title, sizeof item->title, item->id, sizeof item->id);
    return WS_OK;
}

static void begin_entry(struct grub_reading *g, const struct ws_menu *menu, const struct command *c) {
    memset(&g->open, 0, sizeof g->open);
    grub_title(menu->text, c->words, g->open.title, sizeof g->open.title, g->open.id, sizeof g->open.id);
    g->open.block = c->line;
    g->entry_depth = g->depth;
    g->in_kernel_entry = false;
}

/* It ends at its brace, and takes the rest of the line along where nothing stands there. */
static enum ws_status end_entry(struct grub_reading *g, struct ws_menu *menu, size_t end, struct ws_error *error) {
    g->entry_depth = -1;
    if (!g->in_kernel_entry) return WS_OK;
    struct ws_menu_entry *e = new_entry(menu, error);
    if (!e) return error ? error->status : WS_E_NOMEM;
    *e = g->open;
    size_t line_end = behind_line(menu->text, menu->length, end);
    struct span rest = trimmed(menu->text, (struct span){end, line_end});
    e->block_end = rest.at == rest.end ? line_end : end;
    if (g->items) g->item[g->items - 1].count++;
    return WS_OK;
}

static void take_command(struct grub_reading *g, struct ws_menu *menu, struct span words) {
    const char *text = menu->text;
    char word[256];
    struct span rest = words;
    if (g->entry_depth < 0) {
        if (!starts_with_word(text, words, "set") && !starts_with_word(text, words, "default")) return;
        while (next_word(text, &rest, word, sizeof word))
            if (strncmp(word, "default=", 8) == 0 && !strchr(word, '$'))
                (void)snprintf(menu->default_word, sizeof menu->default_word, "%.159s", word + 8);
    } else if (is_kernel(text, words) && !g->in_kernel_entry) {
        grub_kernel(text, words, &g->open);
        g->in_kernel_entry = true;
    } else if (is_initrd(text, words)) {
        (void)next_word(text, &rest, word, sizeof word);
        g->open.cut |= !copy_span(text, trimmed(text, rest), g->open.initrd, sizeof g->open.initrd);
    }
}

static enum ws_status parse_grub(struct ws_menu *menu, struct ws_error *error) {
    const char *text = menu->text;
    struct grub_reading g = {.entry_depth = -1};
    enum ws_status status = WS_OK;
    for (size_t at = 0; at < menu->length;) {
        struct command c = command_at(text, menu->length, at);
        bool is_entry = starts_with_word(text, c.words, "menuentry");
        if ((is_entry || starts_with_word(text, c.words, "submenu")) && g.entry_depth < 0) {
            if (g.depth == 0) WS_GO(begin_item(&g, menu, c.words, error));
            if (is_entry) begin_entry(&g, menu, &c);
        } else {
            take_command(&g, menu, c.words);
        }
        g.depth += c.stop == '{' ? 1 : c.stop == '}' ? -1 : 0;
        if (g.depth < 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a GRUB menu closes more blocks than it opens"));
        if (c.stop == '}' && g.entry_depth >= 0 && g.depth <= g.entry_depth) WS_GO(end_entry(&g, menu, c.next, error));
        at = c.next;
    }
    if (g.depth != 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a GRUB menu opens a block and never closes it"));
    mark_grub_default(menu, g.item, g.items);
done:
    free(g.item);
    return status;
}

static void close_label(struct ws_menu_entry *e, const char *text, size_t end) {
    if (!e || e->block_end) return;
    while (end > e->block && isspace((unsigned char)text[end - 1])) end--;
    e->block_end = end;
}

/* One line of a syslinux menu taken apart. */
struct said {
    char word[64], second[64];      /* in small letters; the second of "menu ..." lines only */
    struct span rest, value, after; /* behind the word; the same without blanks; behind the second */
    bool menu;
};

static void small_letters(char *word) {
    for (char *c = word; *c; c++) *c = (char)tolower((unsigned char)*c);
}

static void take_apart(const char *text, struct span line, struct said *s) {
    memset(s, 0, sizeof *s);
    s->rest = line;
    (void)next_word(text, &s->rest, s->word, sizeof s->word);
    small_letters(s->word);
    s->value = trimmed(text, s->rest);
    s->menu = strcmp(s->word, "menu") == 0;
    s->after = s->rest;
    if (s->menu) (void)next_word(text, &s->after, s->second, sizeof s->second);
    small_letters(s->second);
}

/* "append initrd=/live/initrd boot=live": the parameters, and the initial RAM disk among them. */
static void take_append(const char *text, const struct said *s, struct ws_menu_entry *e) {
    e->args = s->rest.at;
    e->args_end = s->value.end > s->rest.at ? s->value.end : s->rest.at;
    e->cut |= !copy_span(text, s->value, e->parameters, sizeof e->parameters);
    const char *initrd = strstr(e->parameters, "initrd=");
    size_t length = initrd ? strcspn(initrd + 7, " ") : 0;
    if (!initrd || e->initrd[0]) return;
    e->cut |= length >= sizeof e->initrd;
    (void)snprintf(e->initrd, sizeof e->initrd, "%.*s", (int)length, initrd + 7);
}

/* A line under a label. */
static void take_line(const char *text, struct said *s, struct ws_menu_entry *e, bool *marked) {
    if (s->menu && strcmp(s->second, "label") == 0) {
        e->cut |= !copy_span(text, trimmed(text, s->after), e->title, sizeof e->title);
    } else if (s->menu && strcmp(s->second, "default") == 0) {
        e->is_default = *marked = true;
    } else if (strcmp(s->word, "kernel") == 0 || strcmp(s->word, "linux") == 0) {
        e->cut |= !word_fits(text, &s->rest, e->kernel, sizeof e->kernel);
        if (e->args_end) return;
        struct span behind = trimmed(text, s->rest);
        e->args = s->rest.at;
        e->args_end = behind.end > s->rest.at ? behind.end : s->rest.at;
        e->cut |= !copy_span(text, behind, e->parameters, sizeof e->parameters);
    } else if (strcmp(s->word, "append") == 0) {
        take_append(text, s, e);
    } else if (strcmp(s->word, "initrd") == 0) {
        e->cut |= !copy_span(text, s->value, e->initrd, sizeof e->initrd);
    }
}

/* Labels that start something else (memory test, another menu) do not count. */
static void keep_systems(struct ws_menu *menu, bool marked) {
    size_t kept = 0;
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
}

static enum ws_status parse_syslinux(struct ws_menu *menu, struct ws_error *error) {
    const char *text = menu->text;
    struct ws_menu_entry *e = NULL;
    bool marked = false;
    for (size_t at = 0, end; at < menu->length; at = end) {
        struct said s;
        take_apart(text, line_at(text, menu->length, at, &end), &s);
        if (strcmp(s.word, "label") == 0) {
            close_label(e, text, at);
            e = new_entry(menu, error);
            if (!e) return error ? error->status : WS_E_NOMEM;
            e->block = at;
            e->cut |= !copy_span(text, s.value, e->id, sizeof e->id);
            e->cut |= !copy_span(text, s.value, e->title, sizeof e->title);
        } else if (strcmp(s.word, "include") == 0 || strcmp(s.word, "ui") == 0 ||
                   (s.menu && (!strcmp(s.second, "begin") || !strcmp(s.second, "end")))) {
            close_label(e, text, at);
            e = NULL;
        } else if (strcmp(s.word, "default") == 0 || strcmp(s.word, "ontimeout") == 0) {
            (void)copy_span(text, s.value, menu->default_word, sizeof menu->default_word);
        } else if (e) {
            take_line(text, &s, e, &marked);
        }
    }
    close_label(e, text, menu->length);
    keep_systems(menu, marked);
    return WS_OK;
}

/* "^" marks a hot key in syslinux titles and is not shown. */
static void drop_hot_key(char *title) {
    char *out = title;
    for (const char *c = title; *c; c++)
        if (*c != '^') *out++ = *c;
    *out = '\0';
}

/* Variables put in; the text itself keeps them, and what is added to it is added there. */
static enum ws_status put_in(const struct ws_menu *menu, size_t before, char *value, size_t room, bool *cut,
                             struct ws_error *error) {
    struct ws_text text = {0};
    if (!strchr(value, '$')) return WS_OK;
    live_expand(menu, before, value, &text);
    enum ws_status status = ws_text_status(&text, error);
    *cut |= text.length >= room;
    if (status == WS_OK) (void)snprintf(value, room, "%s", text.data ? text.data : "");
    ws_text_free(&text);
    return status;
}

static enum ws_status put_in_variables(struct ws_menu *menu, struct ws_error *error) {
    for (size_t i = 0; i < menu->entries; i++) {
        struct ws_menu_entry *e = &menu->entry[i];
        WS_TRY(put_in(menu, e->block, e->title, sizeof e->title, &e->cut, error));
        WS_TRY(put_in(menu, e->args, e->kernel, sizeof e->kernel, &e->cut, error));
        WS_TRY(put_in(menu, e->args, e->initrd, sizeof e->initrd, &e->cut, error));
        WS_TRY(put_in(menu, e->args, e->parameters, sizeof e->parameters, &e->cut, error));
    }
    return WS_OK;
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
    if (status == WS_OK && menu->kind == WS_MENU_GRUB) status = put_in_variables(menu, error);
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
