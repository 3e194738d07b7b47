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

/* The names of one folder as a file system sees them that does not tell capitals from small letters: open addressing,
 * half full at most. */
struct name_set {
    struct {
        const struct ws_node *node;
        uint32_t hash;
        unsigned next_number; /* to try for another of this name */
    } * slot;
    size_t room; /* a power of two */
};

static uint32_t hash_name(const char *name) {
    uint16_t units[UNITS];
    size_t n = ws_utf16_from_utf8(name, units, UNITS);
    uint32_t h = 2166136261u;
    for (size_t i = 0; i < n; i++) h = (h ^ ws_upcase(units[i])) * 16777619u;
    return h ^ h >> 15;
}

static bool alike(const char *one, const char *other) {
    uint16_t a[UNITS], b[UNITS];
    size_t n = ws_utf16_from_utf8(one, a, UNITS);
    size_t i = 0;
    if (ws_utf16_from_utf8(other, b, UNITS) != n) return false;
    while (i < n && ws_upcase(a[i]) == ws_upcase(b[i])) i++;
    return i == n;
}

/* Where this name is, or would be. */
static size_t slot_of(const struct name_set *s, const char *name, uint32_t hash) {
    size_t i = hash * 0x9e3779b1u & (s->room - 1);
    while (s->slot[i].node && (s->slot[i].hash != hash || !alike(s->slot[i].node->name, name)))
        i = (i + 1) & (s->room - 1);
    return i;
}

/* Room for all of a folder's names, and as many numbered ones. */
static enum ws_status open_set(const struct ws_node *folder, struct name_set *s, struct ws_error *error) {
    s->room = 16;
    while (s->room < folder->children * 4) s->room *= 2;
    s->slot = calloc(s->room, sizeof *s->slot);
    return s->slot ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a folder of %u names", folder->children);
}

/* @return false if another node has the name already; `at` is where */
static bool take(struct name_set *s, const struct ws_node *node, size_t *at) {
    uint32_t hash = hash_name(node->name);
    *at = slot_of(s, node->name, hash);
    if (s->slot[*at].node) return false;
    s->slot[*at].node = node;
    s->slot[*at].hash = hash;
    s->slot[*at].next_number = 2;
    return true;
}

bool ws_names_collide(const struct ws_node *folder, const struct ws_node **one, const struct ws_node **other,
                      struct ws_error *error) {
    struct name_set set;
    size_t at = 0;
    bool found = false;
    if (open_set(folder, &set, error) != WS_OK) {
        *one = *other = folder;
        return true;
    }
    for (const struct ws_node *n = folder->first; n && !found; n = n->next)
        if (!take(&set, n, &at)) {
            *one = set.slot[at].node;
            *other = n;
            found = true;
        }
    free(set.slot);
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

/* "name (2).txt" */
static void number_name(const char *name, unsigned number, size_t most, char out[NAME_BYTES + 1]) {
    char base[NAME_BYTES + 1];
    char tail[48] = "";
    (void)snprintf(base, sizeof base, "%s", name);
    char *dot = strrchr(base, '.');
    if (dot && dot != base && strlen(dot) < 20) {
        (void)snprintf(tail, sizeof tail, " (%u)%s", number, dot);
        *dot = '\0';
    } else {
        (void)snprintf(tail, sizeof tail, " (%u)", number);
    }
    shorten(base, most - strlen(tail));
    size_t n = strlen(base);
    while (n + strlen(tail) > NAME_BYTES) n--; /* and back to a whole character */
    while (n > 0 && ((unsigned char)base[n] & 0xc0) == 0x80) n--;
    memcpy(out, base, n);
    memcpy(out + n, tail, strlen(tail) + 1);
}

/* The second of two gets a number before its extension, the next one that is free: what was tried for one of its kind
 * is not tried again for the next. Names that the folder has anyway come first. */
static enum ws_status number_one(struct ws_tree *tree, struct ws_node *node, struct name_set *set, size_t at,
                                 const struct ws_name_rules *rules, struct ws_findings *findings,
                                 struct ws_error *error) {
    char path[160];
    char name[NAME_BYTES + 1];
    const struct ws_node *first = set->slot[at].node;
    size_t place;
    do {
        number_name(node->name, set->slot[at].next_number++, rules->most, name);
        place = slot_of(set, name, hash_name(name));
    } while (set->slot[place].node);
    ws_findings_add(findings, WS_WARNING, "%s and \"%.60s\" are one name on %s; the first becomes \"%.80s\"",
                    ws_node_path(node, path, sizeof path), first->name, rules->system, name);
    WS_TRY(ws_tree_rename(tree, node, name, error));
    (void)take(set, node, &place);
    return WS_OK;
}

static enum ws_status number_folder(struct ws_tree *tree, struct ws_node *folder, const struct ws_name_rules *rules,
                                    struct ws_findings *findings, struct ws_error *error) {
    struct name_set set;
    size_t at = 0;
    enum ws_status status = WS_OK;
    WS_TRY(open_set(folder, &set, error));
    for (struct ws_node *n = folder->first; n; n = n->next) n->work = take(&set, n, &at) ? 0 : 1; /* is numbered */
    for (struct ws_node *n = folder->first; n && status == WS_OK; n = n->next) {
        if (!n->work) continue;
        status = number_one(tree, n, &set, slot_of(&set, n->name, hash_name(n->name)), rules, findings, error);
    }
    free(set.slot);
    return status;
}

static const char too_large[] = "larger than a file may be";

static const char *left_out(const struct ws_node *n, const struct ws_name_rules *rules) {
    switch (n->kind) {
    case WS_NODE_FOLDER: return NULL;
    case WS_NODE_FILE: return ws_node_size(n) > rules->largest ? too_large : NULL;
    case WS_NODE_LINK: return "a symbolic link to no file of the medium";
    default: return "a device or pipe";
    }
}

struct leaving {
    const struct ws_name_rules *rules;
    struct ws_findings *findings;
};

static bool leaves(void *context, struct ws_node *n) {
    const struct leaving *l = context;
    const char *why = left_out(n, l->rules);
    char path[160];
    if (why == too_large) /* seldom a file that nobody misses */
        ws_findings_add(l->findings, WS_FAULT,
                        "%s is %s on %s, and would be missing: put the files on exFAT, or split it where its system "
                        "can put it together",
                        ws_node_path(n, path, sizeof path), why, l->rules->system);
    else if (why)
        ws_findings_add(l->findings, WS_WARNING, "%s is %s, which %s cannot hold; it is left out",
                        ws_node_path(n, path, sizeof path), why, l->rules->system);
    return why != NULL;
}

enum ws_status ws_tree_fit_names(struct ws_tree *tree, const struct ws_name_rules *rules, struct ws_findings *findings,
                                 struct ws_error *error) {
    struct leaving leaving = {rules, findings};
    ws_tree_copy_links(tree, rules->system, findings);
    ws_tree_drop_all(tree, leaves, &leaving);
    for (struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n))
        WS_TRY(fit_one(tree, n, rules, findings, error));
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_TRY(number_folder(tree, n, rules, findings, error));
    return WS_OK;
}
