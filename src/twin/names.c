/* names.c — identifiers of the original's volumes, wherever a text of the twin says them, put right. */
#include "system/cpio.h"
#include "twin/internal.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { TEXT_MOST = 1 << 20, INITRD_MOST = 512 << 20 };

void ws_new_name_add(struct ws_new_names *names, const char *was, const char *now) {
    if (!was[0] || !now[0] || strcmp(was, now) == 0 || names->count == WS_NEW_NAMES_MOST) return;
    struct ws_new_name *n = &names->name[names->count++];
    (void)snprintf(n->was, sizeof n->was, "%s", was);
    (void)snprintf(n->now, sizeof n->now, "%s", now);
}

/* systemd.unit(5), "String Escaping for Inclusion in Unit Names": "-" is written \x2d where a path became a name. */
static size_t write_name(const char *name, bool escaped, char out[256]) {
    size_t n = 0;
    for (; *name && n + 5 < 256; name++) {
        if (escaped && *name == '-') {
            memcpy(out + n, "\\x2d", 4);
            n += 4;
        } else {
            out[n++] = *name;
        }
    }
    out[n] = '\0';
    return n;
}

static bool starts_with(const char *text, size_t left, const char *name, size_t length) {
    if (left < length) return false;
    for (size_t i = 0; i < length; i++)
        if (tolower((unsigned char)text[i]) != tolower((unsigned char)name[i])) return false;
    return true;
}

/* One replacement at a place of the text. @return bytes of the old name, 0 if none stands here */
static size_t take_name(const struct ws_new_names *names, const char *text, size_t at, size_t length,
                        struct ws_text *out) {
    if (at && isalnum((unsigned char)text[at - 1]) && !(at >= 4 && memcmp(text + at - 4, "\\x2d", 4) == 0)) return 0;
    for (size_t i = 0; i < names->count; i++)
        for (int escaped = 0; escaped < 2; escaped++) {
            char was[256], now[256];
            const size_t n = write_name(names->name[i].was, escaped, was);
            if (escaped && !strchr(names->name[i].was, '-')) continue;
            if (!starts_with(text + at, length - at, was, n)) continue;
            if (at + n < length && isalnum((unsigned char)text[at + n])) continue;
            ws_text_add(out, now, write_name(names->name[i].now, escaped, now));
            return n;
        }
    return 0;
}

/* @return how often a name was replaced; `out` is the whole text then */
static size_t correct(const struct ws_new_names *names, const char *text, size_t length, struct ws_text *out) {
    size_t places = 0, done = 0;
    for (size_t at = 0; at < length;) {
        struct ws_text one = {0};
        const size_t n = isxdigit((unsigned char)text[at]) ? take_name(names, text, at, length, &one) : 0;
        if (n) {
            ws_text_add(out, text + done, at - done);
            ws_text_add(out, one.data, one.length);
            done = at + n;
            places++;
        }
        ws_text_free(&one);
        at += n ? n : 1;
    }
    if (places) ws_text_add(out, text + done, length - done);
    return places;
}

struct renaming {
    struct ws_tree *tree;
    const struct ws_new_names *names;
    int64_t made_at;
    ws_renamed_call on_text;
    void *context;
    struct ws_error *error;
};

static enum ws_status put(const struct renaming *r, struct ws_node *n, struct ws_source *content, size_t places) {
    char path[1024];
    WS_TRY(ws_tree_own(r->tree, content, r->error));
    n->content = content;
    n->mtime = r->made_at;
    n->mtime_ns = 0;
    if (r->on_text) r->on_text(r->context, ws_node_path(n, path, sizeof path), places);
    return WS_OK;
}

/* A text of an initial RAM disk that says an old name is said again behind it; a link that has it in its own name makes
 * the system inside wait for what is not there, and becomes a name for nothing. */
struct inside {
    const struct ws_new_names *names;
    struct ws_text archive;
    unsigned serial;
    size_t places;
};

static void see_inside(void *context, const char *path, uint32_t mode, const char *text, size_t length) {
    struct inside *in = context;
    struct ws_text now = {0};
    if ((mode & 0170000) == 0120000) {
        const size_t places = correct(in->names, path, strlen(path), &now);
        if (places) cpio_add(&in->archive, &in->serial, path, 0100644, "", 0);
        in->places += places;
    } else if (!memchr(text, '\0', length)) {
        const size_t places = correct(in->names, text, length, &now);
        if (places) cpio_add(&in->archive, &in->serial, path, mode, now.data, now.length);
        in->places += places;
    }
    ws_text_free(&now);
}

static bool is_initrd(const struct ws_node *n) {
    static const char *const begins[] = {"initrd", "initramfs"};
    for (size_t i = 0; i < 2; i++)
        if (strncmp(n->name, begins[i], strlen(begins[i])) == 0) return true;
    return false;
}

static enum ws_status rename_initrd(const struct renaming *r, struct ws_node *n) {
    struct inside in = {.names = r->names};
    char path[1024];
    enum ws_status status = ws_initrd_texts(n->content, see_inside, &in, NULL);
    if (status == WS_E_NOMEM || status == WS_E_READ) ws_fail(r->error, status, "an initial RAM disk cannot be read");
    else status = WS_OK; /* what is none is no business of ours */
    if (status == WS_OK && in.places) {
        cpio_end(&in.archive, &in.serial);
        status = cpio_put_behind(r->tree, n, &in.archive, r->made_at, r->error);
        if (status == WS_OK && r->on_text) r->on_text(r->context, ws_node_path(n, path, sizeof path), in.places);
    }
    ws_text_free(&in.archive);
    return status;
}

static enum ws_status rename_text(const struct renaming *r, struct ws_node *n) {
    char *text = NULL;
    size_t length = 0;
    struct ws_text now = {0};
    struct ws_source *content = NULL;
    WS_TRY(ws_source_load(n->content, TEXT_MOST, &text, &length, r->error));
    const size_t places = memchr(text, '\0', length) ? 0 : correct(r->names, text, length, &now);
    free(text);
    enum ws_status status = places ? ws_text_status(&now, r->error) : WS_OK;
    if (status == WS_OK && places) status = ws_source_memory(now.data, now.length, &content, r->error);
    ws_text_free(&now);
    return status == WS_OK && places ? put(r, n, content, places) : status;
}

static enum ws_status rename_node(const struct renaming *r, struct ws_node *n) {
    struct ws_text now = {0};
    enum ws_status status = WS_OK;
    if (strstr(n->name, "\\x2d") && correct(r->names, n->name, strlen(n->name), &now))
        status = ws_tree_rename(r->tree, n, now.data, r->error);
    ws_text_free(&now);
    WS_TRY(status);
    if (n->kind == WS_NODE_LINK && n->target && correct(r->names, n->target, strlen(n->target), &now))
        status = ws_tree_set_target(r->tree, n, now.data, r->error);
    ws_text_free(&now);
    WS_TRY(status);
    if (n->kind != WS_NODE_FILE || n->same_as || !n->content || !n->content->size) return WS_OK;
    if (is_initrd(n) && n->content->size > 512 && n->content->size <= INITRD_MOST) return rename_initrd(r, n);
    return n->content->size <= TEXT_MOST ? rename_text(r, n) : WS_OK;
}

/* Where systems and loaders keep settings; names in letters of either case, as FAT has them. */
static bool keeps_settings(const char *name) {
    static const char *const folders[] = {"etc",      "boot",     "loader", "efi",  "isolinux",
                                          "syslinux", "extlinux", "grub",   "grub2"};
    for (size_t i = 0; i < sizeof folders / sizeof folders[0]; i++)
        if (strlen(name) == strlen(folders[i]) && starts_with(name, strlen(name), folders[i], strlen(folders[i])))
            return true;
    return false;
}

enum ws_status ws_tree_rename_volumes(struct ws_tree *tree, const struct ws_new_names *names, int64_t made_at,
                                      ws_renamed_call on_text, void *context, struct ws_error *error) {
    const struct renaming r = {tree, names, made_at, on_text, context, error};
    struct ws_node *top = ws_tree_root(tree);
    if (names->count == 0) return WS_OK;
    for (struct ws_node *t = top->first; t; t = t->next) {
        if (t->kind == WS_NODE_FILE) WS_TRY(rename_node(&r, t));
        if (t->kind != WS_NODE_FOLDER || !keeps_settings(t->name)) continue;
        for (struct ws_node *n = ws_tree_next(t); n && n != t->next; n = ws_tree_next(n)) {
            const struct ws_node *up = n; /* still below it? behind the last folder comes what follows elsewhere */
            while (up && up != t) up = up->parent;
            if (!up) break;
            WS_TRY(rename_node(&r, n));
        }
    }
    return WS_OK;
}
