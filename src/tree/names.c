/* names.c — names made to fit other file systems' rules. */
#include "wild_satchel/names.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { UNITS = 256, NAME_BYTES = 255 };

static const struct ws_name_rules fat = {"FAT32", "\"*/:<>?\\|", 255, 0xffffffff};
static const struct ws_name_rules exfat = {"exFAT", "\"*/:<>?\\|", 255, UINT64_MAX};
const struct ws_name_rules *ws_name_rules_fat(void) { return &fat; }
const struct ws_name_rules *ws_name_rules_exfat(void) { return &exfat; }

/* Letters whose upper case is a fixed step away, or the even (odd) neighbour. */
static const struct {
    uint16_t first, last;
    int16_t step; /* to add; 0: pairs, the lower case behind its upper case */
} letters[] = {
    {'a', 'z', -32},     {0xe0, 0xf6, -32},     {0xf8, 0xfe, -32},     {0xff, 0xff, 121},     {0x101, 0x12f, 0},
    {0x133, 0x137, 0},   {0x13a, 0x148, 0},     {0x14b, 0x177, 0},     {0x17a, 0x17e, 0},     {0x3ac, 0x3ac, -38},
    {0x3ad, 0x3af, -37}, {0x3b1, 0x3c1, -32},   {0x3c3, 0x3cb, -32},   {0x3cc, 0x3cc, -64},   {0x3cd, 0x3ce, -63},
    {0x430, 0x44f, -32}, {0x450, 0x45f, -80},   {0x461, 0x481, 0},     {0x561, 0x586, -48},   {0x1e01, 0x1e95, 0},
    {0x1ea1, 0x1ef9, 0}, {0x2170, 0x217f, -16}, {0x24d0, 0x24e9, -26}, {0xff41, 0xff5a, -32},
};

uint16_t ws_upcase(uint16_t unit) {
    for (size_t i = 0; i < sizeof letters / sizeof letters[0]; i++) {
        if (unit < letters[i].first || unit > letters[i].last) continue;
        if (letters[i].step) return (uint16_t)(unit + letters[i].step);
        return (unit - letters[i].first) % 2 == 0 ? (uint16_t)(unit - 1) : unit;
    }
    return unit;
}

/* Old systems and archives carry names in other encodings: what is no UTF-8 becomes "_". @return whether there was any
 */
static bool mend_encoding(const char *name, char out[NAME_BYTES + 1]) {
    uint16_t units[UNITS];
    size_t count = ws_utf16_from_utf8(name, units, UNITS);
    (void)ws_utf8_from_utf16(units, count, out, NAME_BYTES + 1);
    if (strcmp(out, name) == 0) return false;
    for (size_t i = 0; i < count; i++)
        if (units[i] == 0xfffd) units[i] = '_';
    (void)ws_utf8_from_utf16(units, count, out, NAME_BYTES + 1);
    return true;
}

const char *ws_name_fault(const struct ws_name_rules *rules, const char *name) {
    uint16_t units[UNITS + 1];
    char mended[NAME_BYTES + 1];
    size_t length = strlen(name);
    if (length <= NAME_BYTES && mend_encoding(name, mended)) return "it is not UTF-8";
    for (const char *c = name; *c; c++)
        if ((unsigned char)*c < 0x20 || strchr(rules->forbidden, *c)) return "it has characters that are not allowed";
    if (ws_utf16_from_utf8(name, units, UNITS + 1) > rules->most) return "it is too long";
    if (length && (name[length - 1] == ' ' || name[length - 1] == '.')) return "it ends in a space or dot";
    return NULL;
}

/* A name in upper case, for comparing. */
struct key {
    const struct ws_node *node;
    size_t length;
    uint16_t units[UNITS];
};

static int by_name(const void *a, const void *b) {
    const struct key *x = a;
    const struct key *y = b;
    if (x->length != y->length) return x->length < y->length ? -1 : 1;
    return memcmp(x->units, y->units, x->length * sizeof x->units[0]);
}

static struct key *sorted_keys(const struct ws_node *folder, size_t *count) {
    *count = 0;
    for (const struct ws_node *n = folder->first; n; n = n->next) (*count)++;
    struct key *keys = malloc((*count + 1) * sizeof *keys);
    size_t i = 0;
    for (const struct ws_node *n = folder->first; keys && n; n = n->next, i++) {
        keys[i].node = n;
        keys[i].length = ws_utf16_from_utf8(n->name, keys[i].units, UNITS);
        for (size_t k = 0; k < keys[i].length; k++) keys[i].units[k] = ws_upcase(keys[i].units[k]);
    }
    if (keys) qsort(keys, *count, sizeof *keys, by_name);
    return keys;
}

bool ws_names_collide(const struct ws_node *folder, const struct ws_node **one, const struct ws_node **other,
                      struct ws_error *error) {
    size_t count;
    struct key *keys = sorted_keys(folder, &count);
    if (!keys) {
        ws_fail(error, WS_E_NOMEM, "out of memory for a folder's names");
        *one = *other = folder;
        return true;
    }
    bool found = false;
    for (size_t i = 1; i < count && !found; i++)
        if (by_name(&keys[i - 1], &keys[i]) == 0) {
            *one = keys[i - 1].node;
            *other = keys[i].node;
            found = true;
        }
    free(keys);
    return found;
}

/* Cut before the extension, at a whole character, so that the whole has at most `units`. */
static void shorten(char *name, size_t most) {
    uint16_t units[UNITS * 2];
    char *dot = strrchr(name, '.');
    char tail[32] = "";
    if (dot && dot != name && strlen(dot) < sizeof tail) {
        (void)snprintf(tail, sizeof tail, "%s", dot);
        *dot = '\0';
    }
    size_t keep = most - ws_utf16_from_utf8(tail, units, UNITS);
    size_t count = ws_utf16_from_utf8(name, units, UNITS * 2);
    if (count > keep) count = keep;
    if (count && units[count - 1] >= 0xd800 && units[count - 1] < 0xdc00) count--; /* half a pair */
    size_t n = ws_utf8_from_utf16(units, count, name, NAME_BYTES + 1 - strlen(tail));
    strcpy(name + n, tail);
}

static enum ws_status fit_one(struct ws_tree *tree, struct ws_node *node, const struct ws_name_rules *rules,
                              struct ws_findings *findings, struct ws_error *error) {
    const char *why = ws_name_fault(rules, node->name);
    char name[NAME_BYTES + 1];
    char path[160];
    if (!why) return WS_OK;
    (void)mend_encoding(node->name, name);
    for (char *c = name; *c; c++)
        if ((unsigned char)*c < 0x20 || strchr(rules->forbidden, *c)) *c = '_';
    for (size_t n = strlen(name); n > 0 && (name[n - 1] == ' ' || name[n - 1] == '.'); n--) name[n - 1] = '_';
    if (ws_name_fault(rules, name)) shorten(name, rules->most);
    ws_findings_add(findings, WS_WARNING, "%s: %s on %s; it becomes \"%.80s\"", ws_node_path(node, path, sizeof path),
                    why, rules->system, name);
    return ws_tree_rename(tree, node, name, error);
}

static bool taken(const struct ws_node *node, const char *name) {
    uint16_t a[UNITS], b[UNITS];
    size_t n = ws_utf16_from_utf8(name, a, UNITS);
    for (const struct ws_node *s = node->parent->first; s; s = s->next) {
        if (s == node || ws_utf16_from_utf8(s->name, b, UNITS) != n) continue;
        size_t i = 0;
        while (i < n && ws_upcase(a[i]) == ws_upcase(b[i])) i++;
        if (i == n) return true;
    }
    return false;
}

/* The second of two gets a number before its extension. */
static enum ws_status number_one(struct ws_tree *tree, struct ws_node *node, const struct ws_node *first,
                                 const struct ws_name_rules *rules, struct ws_findings *findings,
                                 struct ws_error *error) {
    char path[160];
    char name[NAME_BYTES + 1];
    for (unsigned number = 2; number < 100000; number++) {
        char base[NAME_BYTES + 1];
        char tail[48] = "";
        char numbered[NAME_BYTES + 64];
        (void)snprintf(base, sizeof base, "%s", node->name);
        char *dot = strrchr(base, '.');
        if (dot && dot != base && strlen(dot) < 20) {
            (void)snprintf(tail, sizeof tail, " (%u)%s", number, dot);
            *dot = '\0';
        } else {
            (void)snprintf(tail, sizeof tail, " (%u)", number);
        }
        shorten(base, rules->most - strlen(tail));
        (void)snprintf(numbered, sizeof numbered, "%.*s%s", (int)(NAME_BYTES - strlen(tail)), base, tail);
        (void)snprintf(name, sizeof name, "%.255s", numbered);
        if (!taken(node, name)) break;
    }
    ws_findings_add(findings, WS_WARNING, "%s and \"%.60s\" are one name on %s; the first becomes \"%.80s\"",
                    ws_node_path(node, path, sizeof path), first->name, rules->system, name);
    return ws_tree_rename(tree, node, name, error);
}

static const char *left_out(const struct ws_node *n, const struct ws_name_rules *rules) {
    switch (n->kind) {
    case WS_NODE_FOLDER: return NULL;
    case WS_NODE_FILE: return ws_node_size(n) > rules->largest ? "larger than a file may be" : NULL;
    case WS_NODE_LINK: return "a symbolic link to no file of the medium";
    default: return "a device or pipe";
    }
}

enum ws_status ws_tree_fit_names(struct ws_tree *tree, const struct ws_name_rules *rules, struct ws_findings *findings,
                                 struct ws_error *error) {
    struct ws_node *next;
    ws_tree_copy_links(tree, rules->system, findings);
    for (struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = next) {
        const char *why = left_out(n, rules);
        char path[160];
        next = ws_tree_next(n);
        if (why) {
            ws_findings_add(findings, WS_WARNING, "%s is %s, which %s cannot hold; it is left out",
                            ws_node_path(n, path, sizeof path), why, rules->system);
            ws_tree_drop(tree, n);
            continue;
        }
        WS_TRY(fit_one(tree, n, rules, findings, error));
    }
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        const struct ws_node *one = NULL;
        const struct ws_node *other = NULL;
        while (n->kind == WS_NODE_FOLDER && ws_names_collide(n, &one, &other, error)) {
            if (one == n) return WS_E_NOMEM;
            struct ws_node *second = n->first; /* the later of the two, as the folder lists them */
            while (second != one && second != other) second = second->next;
            second = second == one ? (struct ws_node *)(uintptr_t)other : (struct ws_node *)(uintptr_t)one;
            WS_TRY(number_one(tree, second, second == one ? other : one, rules, findings, error));
        }
    }
    return WS_OK;
}
