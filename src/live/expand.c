/* expand.c — variables of GRUB menus, as far as menus of live systems use them: "set name=value", $name, ${name}. */
#include "live/internal.h"

#include <ctype.h>
#include <string.h>

enum {
    DEPTH_MOST = 4,
    VALUE_MOST = 8192 /* longer than any field it is put into: what is cut here is told there */,
    LOOKUPS_MOST = 64
};

static bool is_name(char c) { return isalnum((unsigned char)c) || c == '_'; }

/* The last command "set NAME=VALUE" before `before`, quotes removed. Conditions are not followed: menus set variables
 * in the branch that fits a whole medium, and set them to nothing in the other. An empty value does not replace
 * another. */
static bool value_of(const struct ws_menu *menu, size_t before, const char *name, size_t length, char *value) {
    const char *text = menu->text;
    bool found = false;
    value[0] = '\0';
    for (size_t at = 0; at < before;) {
        size_t p = at;
        char within = 0;
        while (at < menu->length && text[at] != '\n' && (within || text[at] != ';')) {
            if (within ? text[at] == within : text[at] == '"' || text[at] == '\'') within = within ? 0 : text[at];
            at++;
        }
        size_t end = at++;
        while (p < end && isspace((unsigned char)text[p])) p++;
        if (end - p < 5 || strncmp(text + p, "set", 3) != 0 || !isspace((unsigned char)text[p + 3])) continue;
        for (p += 3; p < end && isspace((unsigned char)text[p]);) p++;
        if (end - p <= length || strncmp(text + p, name, length) != 0 || text[p + length] != '=') continue;
        size_t n = 0;
        char quote = 0;
        for (p += length + 1; p < end && n + 1 < VALUE_MOST; p++) {
            if (quote ? text[p] == quote : text[p] == '"' || text[p] == '\'') quote = quote ? 0 : text[p];
            else if (!quote && (isspace((unsigned char)text[p]) || text[p] == ';')) break;
            else value[n++] = text[p];
        }
        if (n == 0 && found) continue;
        value[n] = '\0';
        found = true;
    }
    return found;
}

static void expand(const struct ws_menu *menu, size_t before, const char *text, struct ws_text *out, unsigned depth,
                   unsigned *lookups) {
    for (const char *p = text; *p;) {
        char value[VALUE_MOST];
        bool braced = p[0] == '$' && p[1] == '{';
        const char *name = p + 1 + braced;
        size_t n = 0;
        if (*p == '$')
            while (is_name(name[n])) n++;
        if (n == 0 || (braced && name[n] != '}')) {
            ws_text_add(out, p++, 1);
            continue;
        }
        if (depth < DEPTH_MOST && ++*lookups <= LOOKUPS_MOST && value_of(menu, before, name, n, value))
            expand(menu, before, value, out, depth + 1, lookups);
        p = name + n + braced;
    }
}

void live_expand(const struct ws_menu *menu, size_t before, const char *text, struct ws_text *out) {
    unsigned lookups = 0; /* values that name each other would never end */
    expand(menu, before, text, out, 0, &lookups);
}
