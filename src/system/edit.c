/* edit.c — files of a root changed as text, whatever links lead to them. */
#include "system/edit.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { TEXT_MOST = 1 << 20 };

bool edit_has(const struct edit *e, const char *path) { return ws_system_find(e->root, path) != NULL; }

enum ws_status edit_load(const struct edit *e, const char *path, struct ws_text *text) {
    const struct ws_node *n = ws_system_find(e->root, path);
    char *bytes = NULL;
    size_t length = 0;
    if (!n || n->kind != WS_NODE_FILE || !n->content) return WS_OK;
    enum ws_status status = ws_source_load(n->content, TEXT_MOST, &bytes, &length, e->error);
    if (status != WS_OK) return ws_fail_where(e->error, "%s", path);
    ws_text_add(text, bytes, length);
    free(bytes);
    return ws_text_status(text, e->error);
}

/* What is in the way of a folder or file that has to be there. */
static enum ws_status in_the_way(const struct edit *e, const char *path) {
    ws_fail(e->error, WS_E_UNSUPPORTED, "the root's own layout is in the way: this is no folder, and has to be one");
    ws_fail_where(e->error, "%s", path);
    return ws_fail_next(e->error, "take the root as its system was installed");
}

enum ws_status edit_folder(const struct edit *e, const char *path, struct ws_node **folder) {
    char prefix[512];
    struct ws_node *at = ws_tree_root(e->root);
    for (size_t n = strspn(path, "/"); path[n];) {
        size_t length = strcspn(path + n, "/");
        (void)snprintf(prefix, sizeof prefix, "%.*s", (int)(n + length), path);
        struct ws_node *next = ws_system_find(e->root, prefix);
        if (next && next->kind != WS_NODE_FOLDER) return in_the_way(e, prefix);
        if (!next) {
            const char *name = prefix + n;
            if (ws_node_child(at, name)) return in_the_way(e, prefix); /* a link that leads nowhere */
            WS_TRY(ws_tree_add(e->root, at, name, WS_NODE_FOLDER, &next, e->error));
            next->mtime = e->made_at;
        }
        at = next;
        n += length;
        n += strspn(path + n, "/");
    }
    *folder = at;
    return WS_OK;
}

static enum ws_status parent_of(const struct edit *e, const char *path, struct ws_node **parent, const char **name) {
    char folder[512];
    *name = strrchr(path, '/') + 1;
    (void)snprintf(folder, sizeof folder, "%.*s", (int)(*name - path), path);
    return edit_folder(e, folder, parent);
}

enum ws_status edit_save(const struct edit *e, const char *path, const struct ws_text *text, uint16_t mode,
                         struct ws_node **node) {
    struct ws_node *file = ws_system_find(e->root, path);
    struct ws_source *content = NULL;
    WS_TRY(ws_text_status(text, e->error));
    if (!file || file->kind != WS_NODE_FILE) { /* a link that leads nowhere goes: it cannot be followed */
        struct ws_node *parent = NULL;
        const char *name;
        WS_TRY(parent_of(e, path, &parent, &name));
        struct ws_node *old = ws_node_child(parent, name);
        if (old) ws_tree_drop(e->root, old);
        WS_TRY(ws_tree_add(e->root, parent, name, WS_NODE_FILE, &file, e->error));
        file->mode = mode;
    }
    WS_TRY(ws_source_memory(text->data ? text->data : "", text->length, &content, e->error));
    WS_TRY(ws_tree_own(e->root, content, e->error));
    file->content = content;
    file->mtime = e->made_at;
    file->mtime_ns = 0;
    if (node) *node = file;
    return WS_OK;
}

enum ws_status edit_write(const struct edit *e, const char *path, uint16_t mode, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    va_start(list, format);
    ws_text_vprintf(&text, format, list);
    va_end(list);
    enum ws_status status = edit_save(e, path, &text, mode, NULL);
    ws_text_free(&text);
    return status;
}

enum ws_status edit_link(const struct edit *e, const char *path, const char *target) {
    struct ws_node *parent = NULL, *link = NULL;
    const char *name;
    WS_TRY(parent_of(e, path, &parent, &name));
    struct ws_node *old = ws_node_child(parent, name);
    if (old) ws_tree_drop(e->root, old);
    WS_TRY(ws_tree_add(e->root, parent, name, WS_NODE_LINK, &link, e->error));
    link->mode = 0777;
    link->mtime = e->made_at;
    return ws_tree_set_target(e->root, link, target, e->error);
}

void edit_drop(const struct edit *e, const char *path) {
    char folder[512];
    const char *name = strrchr(path, '/') + 1;
    (void)snprintf(folder, sizeof folder, "%.*s", (int)(name - path), path);
    const struct ws_node *parent = ws_system_find(e->root, folder);
    struct ws_node *n = parent && parent->kind == WS_NODE_FOLDER ? ws_node_child(parent, name) : NULL;
    if (n) ws_tree_drop(e->root, n);
}

struct dropping {
    const struct ws_node *folder;
    bool (*goes)(const char *name);
    bool any;
};
static bool goes_from(void *context, struct ws_node *node) {
    struct dropping *d = context;
    bool goes = node->parent == d->folder && d->goes(node->name);
    d->any |= goes;
    return goes;
}

bool edit_drop_in(const struct edit *e, const char *folder, bool (*goes)(const char *name)) {
    struct dropping d = {.folder = ws_system_find(e->root, folder), .goes = goes};
    if (d.folder && d.folder->kind == WS_NODE_FOLDER) ws_tree_drop_all(e->root, goes_from, &d);
    return d.any;
}

/* Put `line` in the place of the bytes from `at` to `end`. */
static void splice(struct ws_text *text, size_t at, size_t end, const char *line) {
    struct ws_text out = {0};
    ws_text_add(&out, text->data ? text->data : "", at);
    ws_text_puts(&out, line);
    ws_text_puts(&out, "\n");
    if (text->length > end) ws_text_add(&out, text->data + end, text->length - end);
    out.failed |= text->failed;
    ws_text_free(text);
    *text = out;
}

static void end_line(struct ws_text *text) {
    if (text->length && text->data[text->length - 1] != '\n') ws_text_puts(text, "\n");
}

/* Walk a text's lines; `end` is past the line's end. */
static bool next_line(const struct ws_text *text, size_t *at, size_t *end) {
    *at = *end;
    if (*at >= text->length) return false;
    const char *p = memchr(text->data + *at, '\n', text->length - *at);
    *end = p ? (size_t)(p - text->data) + 1 : text->length;
    return true;
}

void edit_line(struct ws_text *text, const char *begin, const char *line) {
    size_t n = strlen(begin);
    size_t at = 0;
    size_t end = 0;
    end_line(text);
    while (next_line(text, &at, &end))
        if (end - at > n && memcmp(text->data + at, begin, n) == 0) {
            splice(text, at, end, line);
            return;
        }
    splice(text, text->length, text->length, line);
}

enum ws_status edit_put_line(const struct edit *e, const char *path, const char *usual, const char *begin,
                             const char *line) {
    struct ws_text text = {0};
    enum ws_status status = edit_load(e, path, &text);
    if (!text.length) ws_text_puts(&text, usual);
    if (status == WS_OK) {
        edit_line(&text, begin, line);
        status = edit_save(e, path, &text, 0644, NULL);
    }
    ws_text_free(&text);
    return status;
}

/* Does this line set the key, commented out or not? */
static bool sets(const char *line, size_t length, const char *key) {
    size_t i = 0;
    size_t n = strlen(key);
    while (i < length && (line[i] == '#' || line[i] == ';' || line[i] == ' ' || line[i] == '\t')) i++;
    if (length - i < n || memcmp(line + i, key, n) != 0) return false;
    i += n;
    while (i < length && (line[i] == ' ' || line[i] == '\t')) i++;
    return i < length && line[i] == '=';
}

/* A line that is in force goes before one that is commented out. */
static bool set_in(struct ws_text *text, const char *section, const char *key, const char *line) {
    size_t at = 0;
    size_t end = 0;
    size_t found_at = 0;
    size_t found_end = 0;
    size_t head_end = 0; /* of the section's own line */
    bool inside = section == NULL;
    bool in_force = false;
    while (next_line(text, &at, &end)) {
        const char *p = text->data + at;
        if (section && *p == '[') {
            inside = strncmp(p + 1, section, strlen(section)) == 0 && p[1 + strlen(section)] == ']';
            if (inside) head_end = end;
        }
        if (!inside || in_force || !sets(p, end - at, key)) continue;
        in_force = *p != '#' && *p != ';';
        if (!in_force && found_end) continue;
        found_at = at;
        found_end = end;
    }
    if (found_end) splice(text, found_at, found_end, line);
    else if (head_end) splice(text, head_end, head_end, line);
    return found_end || head_end;
}

enum ws_status edit_set(const struct edit *e, const char *path, const char *section, const char *key,
                        const char *value) {
    struct ws_text text = {0}, line = {0}, head = {0};
    enum ws_status status = edit_load(e, path, &text);
    ws_text_printf(&line, "%s=%s", key, value);
    if (section) ws_text_printf(&head, "[%s]", section);
    if (status == WS_OK) status = ws_text_status(&line, e->error);
    if (status == WS_OK) status = ws_text_status(&head, e->error);
    if (status == WS_OK) {
        end_line(&text);
        if (!set_in(&text, section, key, line.data)) {
            if (section) splice(&text, text.length, text.length, head.data);
            splice(&text, text.length, text.length, line.data);
        }
        status = edit_save(e, path, &text, 0644, NULL);
    }
    ws_text_free(&text);
    ws_text_free(&line);
    ws_text_free(&head);
    return status;
}

const char *edit_entry(const struct ws_text *text, const char *name, size_t *length) {
    size_t n = strlen(name);
    for (const char *p = text->data; p && *p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL) {
        *length = strcspn(p, "\n");
        if (strncmp(p, name, n) == 0 && p[n] == ':') return p;
    }
    return NULL;
}

void edit_field(const char *line, unsigned number, char *out, size_t room) {
    while (number-- > 0 && line[strcspn(line, ":\n")] == ':') line += strcspn(line, ":\n") + 1;
    (void)snprintf(out, room, "%.*s", (int)strcspn(line, ":\n"), line);
}

const char *edit_members(const char *entry, size_t length) {
    const char *p = entry + length;
    while (p > entry && p[-1] != ':') p--;
    return p;
}

bool edit_is_member(const char *members, const char *name) {
    const size_t n = strlen(name);
    const char *end = members + strcspn(members, "\n");
    for (const char *m = members; m < end; m += strcspn(m, ",\n") + 1)
        if (strcspn(m, ",\n") == n && strncmp(m, name, n) == 0) return true;
    return false;
}
