/* editions.c — the root file systems that a live image offers: one, several to choose from, each of one or more layers.
 */
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LIST_MOST = 1 << 20 };
static const char end_of_layer[] = ".squashfs";

static const struct ws_node *file_in(const struct ws_node *folder, const char *name) {
    const struct ws_node *n = folder && folder->kind == WS_NODE_FOLDER ? ws_node_child(folder, name) : NULL;
    return n && n->kind == WS_NODE_FILE && n->content ? n : NULL;
}

static bool is_layer(const struct ws_node *n) {
    size_t length = strlen(n->name);
    size_t end = sizeof end_of_layer - 1;
    return n->kind == WS_NODE_FILE && n->content && length > end && strcmp(n->name + length - end, end_of_layer) == 0;
}

static bool add_layer(struct ws_edition *e, const struct ws_node *n) {
    if (e->layers == WS_LAYERS_MOST) return false;
    e->layer[e->layers++] = n;
    e->bytes += ws_node_size(n);
    return true;
}

/* A name says what it stands on: "a.b.squashfs" is laid over "a.squashfs". */
static bool add_named(const struct ws_node *folder, const char *name, struct ws_edition *e) {
    char part[256];
    size_t end = strlen(name) - (sizeof end_of_layer - 1);
    e->layers = 0;
    e->bytes = 0;
    for (size_t i = 1; i <= end; i++) {
        if (i < end && name[i] != '.') continue;
        (void)snprintf(part, sizeof part, "%.*s%s", (int)i, name, end_of_layer);
        const struct ws_node *n = file_in(folder, part);
        if (n && !add_layer(e, n)) return false;
        if (!n && i == end) return false;
    }
    return e->layers > 0;
}

/* "key: value" of a line, without quotes. */
static bool value_of(const char *line, size_t length, const char *key, char *out, size_t room) {
    size_t n = strlen(key);
    while (length && (*line == ' ' || *line == '-')) line++, length--;
    if (length <= n || strncmp(line, key, n) != 0 || line[n] != ':') return false;
    for (line += n + 1, length -= n + 1; length && *line == ' ';) line++, length--;
    while (length && (line[length - 1] == ' ' || line[length - 1] == '\r')) length--;
    if (length >= 2 && (*line == '"' || *line == '\'') && line[length - 1] == *line) line++, length -= 2;
    (void)snprintf(out, room, "%.*s", (int)length, line);
    ws_make_visible(out, room);
    return true;
}

static void keep(struct ws_editions *all, struct ws_edition *e) {
    if (e->layers && all->count < WS_EDITIONS_MOST) all->edition[all->count++] = *e;
    memset(e, 0, sizeof *e);
}

/* A list of what can be installed (YAML, as far as such lists use it): items begin with "- " at the margin; of a name
 * in several languages the English one counts. */
static bool take_list(const struct ws_node *folder, struct ws_editions *all) {
    const struct ws_node *list = file_in(folder, "install-sources.yaml");
    struct ws_edition e = {.layers = 0};
    char *text = NULL, path[256], word[16];
    size_t length = 0;
    bool in_name = false;
    if (!list || ws_source_load(list->content, LIST_MOST, &text, &length, NULL) != WS_OK) return false;
    for (const char *p = text; *p; p += strcspn(p, "\n") + (strchr(p, '\n') != NULL)) {
        size_t n = strcspn(p, "\n");
        size_t indent = strspn(p, " ");
        if (*p == '-') keep(all, &e);
        if (indent <= 2) in_name = false;
        if (indent <= 2 && value_of(p, n, "path", path, sizeof path)) {
            size_t end = strlen(path);
            if (end <= 9 || strcmp(path + end - 9, end_of_layer) != 0 || strchr(path, '/') ||
                !add_named(folder, path, &e))
                e.layers = 0;
        } else if (indent <= 2 && value_of(p, n, "name", e.name, sizeof e.name)) in_name = true;
        else if (in_name) (void)value_of(p, n, "en", e.name, sizeof e.name);
        else if (indent <= 2 && value_of(p, n, "default", word, sizeof word)) e.is_default = strcmp(word, "true") == 0;
        else if (indent <= 2) (void)value_of(p, n, "id", e.id, sizeof e.id);
    }
    keep(all, &e);
    free(text);
    return all->count > 0;
}

static int by_name(const void *a, const void *b) {
    return strcmp((*(const struct ws_node *const *)a)->name, (*(const struct ws_node *const *)b)->name);
}

/* Several in one folder are layers of one root: in the order that a list beside them names, else in that of their
 * names; where names build on one another ("a", "a.b"), each is an edition. */
static void take_folder(const struct ws_node *first, struct ws_editions *all) {
    const struct ws_node *folder = first->parent;
    const struct ws_node *layer[WS_LAYERS_MOST * 4] = {NULL};
    size_t count = 0;
    char *text = NULL;
    size_t length = 0;
    struct ws_edition e = {.layers = 0};
    for (const struct ws_node *n = folder->first; n; n = n->next)
        if (is_layer(n) && count < sizeof layer / sizeof layer[0]) layer[count++] = n;
    qsort(layer, count, sizeof layer[0], by_name);
    const struct ws_node *list = file_in(folder, "filesystem.module");
    if (list && ws_source_load(list->content, LIST_MOST, &text, &length, NULL) == WS_OK) {
        for (char *p = strtok(text, " \r\n\t"); p; p = strtok(NULL, " \r\n\t"))
            if (file_in(folder, p) && is_layer(file_in(folder, p))) (void)add_layer(&e, file_in(folder, p));
        free(text);
        keep(all, &e);
        return;
    }
    bool nested = false;
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < count; k++) {
            size_t stem = strlen(layer[i]->name) - (sizeof end_of_layer - 1);
            nested |= k != i && strncmp(layer[i]->name, layer[k]->name, stem) == 0 && layer[k]->name[stem] == '.';
        }
    for (size_t i = 0; i < count; i++) {
        size_t stem = strlen(layer[i]->name) - (sizeof end_of_layer - 1);
        if (!nested) (void)add_layer(&e, layer[i]);
        else if (stem < 5 || strncmp(layer[i]->name + stem - 5, ".live", 5) != 0) { /* what only the live session is */
            (void)add_named(folder, layer[i]->name, &e);
            (void)snprintf(e.id, sizeof e.id, "%.*s", (int)stem, layer[i]->name);
            ws_make_visible(e.id, sizeof e.id);
            e.is_default = layer[i] == first;
            keep(all, &e);
        }
    }
    keep(all, &e);
}

void ws_editions_look(const struct ws_tree *medium, struct ws_editions *all) {
    size_t count;
    const struct ws_live_family *f = ws_live_families(&count);
    memset(all, 0, sizeof *all);
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < 4 && f[i].roots[k]; k++) {
            const struct ws_node *n = ws_tree_find_any_case(medium, f[i].roots[k]);
            if (!n || n->kind != WS_NODE_FILE || !n->content) continue;
            if (!is_layer(n)) { /* an image of a volume */
                struct ws_edition e = {.layers = 0};
                (void)add_layer(&e, n);
                keep(all, &e);
            } else if (!take_list(n->parent, all)) take_folder(n, all);
            return;
        }
    for (const struct ws_node *n = ws_tree_root(medium); n; n = ws_tree_next(n)) /* no name known: a list of them */
        if (strcmp(n->name, "install-sources.yaml") == 0 && n->parent) {
            (void)take_list(n->parent, all);
            return;
        }
}

const struct ws_edition *ws_edition_find(const struct ws_editions *all, const char *id, struct ws_error *error) {
    char known[160] = "";
    for (size_t i = 0; i < all->count; i++) {
        const struct ws_edition *e = &all->edition[i];
        if (id[0] ? strcmp(e->id, id) == 0 : all->count == 1 || e->is_default) return e;
        size_t n = strlen(known);
        (void)snprintf(known + n, sizeof known - n, "%s%s", n ? ", " : "", e->id[0] ? e->id : "(without a name)");
    }
    if (!all->count) {
        ws_fail(error, WS_E_NOTFOUND, "no root file system is found in this image");
        return NULL;
    }
    if (all->count == 1 && !all->edition[0].id[0]) {
        ws_fail(error, WS_E_USAGE, "this image has no editions to choose from");
        (void)ws_fail_next(error, "leave the choice out: it has one root");
        return NULL;
    }
    ws_fail(error, WS_E_USAGE,
            id[0] ? "this image has no edition \"%s\"; it has: %s" : "this image has several editions%s: %s", id,
            known);
    (void)ws_fail_hint(error, WS_HINT_EDITION, "", "name one of them");
    return NULL;
}
