/* read.c — a UDF volume into a tree. */
#include "fs/udf/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FOLDER_MOST = 256 << 20, NODES_MOST = 4000000, DEPTH_MOST = 200, IS_FOLDER = 2, IS_DELETED = 4, IS_PARENT = 8 };
enum {
    KIND_FOLDER = 4,
    KIND_FILE = 5,
    KIND_BLOCK = 6,
    KIND_CHAR = 7,
    KIND_FIFO = 9,
    KIND_SOCKET = 10,
    KIND_LINK = 12,
    KIND_REAL_TIME = 249
};

struct reading {
    struct udf u;
    struct ws_tree *tree;
    struct udf_file *file; /* the entry that was read last */
};

/* Permissions are five bits a class, execute the lowest (ECMA-167 4/14.9.5). */
static uint16_t mode_of(const struct udf_file *f) {
    uint16_t mode = 0;
    for (unsigned k = 0; k < 3; k++) {
        const uint32_t bits = f->permissions >> (5 * k);
        mode = (uint16_t)(mode | ((bits & 1 ? 1u : 0) | (bits & 2 ? 2u : 0) | (bits & 4 ? 4u : 0)) << (3 * k));
    }
    return (uint16_t)(mode | (f->flags & 0x40 ? 04000 : 0) |
                      (f->flags & 0x80 ? 02000 : 0)); /* 14.6.8: the flags' upper bits */
}

static enum ws_status open_content(struct reading *r, const struct udf_file *f, struct ws_source **content,
                                   uint64_t *place, struct ws_error *error) {
    struct ws_run *runs = NULL;
    size_t count = 0;
    bool inside = false;
    *place = 0;
    WS_TRY(udf_runs(&r->u, f, &runs, &count, &inside, error));
    if (inside) return ws_source_memory(f->entry + f->ads_at, (size_t)f->size, content, error);
    if (count == 1 && runs[0].at != WS_RUN_HOLE) *place = runs[0].at;
    enum ws_status status = ws_source_runs(r->u.source, runs, count, f->size, content, error);
    free(runs);
    return status;
}

/* ECMA-167 4/14.16.1: a path in parts. */
static enum ws_status take_link(struct reading *r, struct ws_node *n, const struct ws_source *content,
                                struct ws_error *error) {
    char *raw = NULL, target[4096] = "";
    size_t length = 0, at = 0;
    WS_TRY(ws_source_load(content, 65536, &raw, &length, error));
    for (const uint8_t *p = (const uint8_t *)raw; at + 4 <= length; at += 4 + p[at + 1]) {
        char name[1024] = "";
        const uint8_t kind = p[at], bytes = p[at + 1];
        if (at + 4 + bytes > length) break;
        if (kind == 5) udf_text(p + at + 4, bytes, name, sizeof name);
        const char *part = kind == 1 || kind == 2 ? "/" : kind == 3 ? ".." : kind == 4 ? "." : name;
        const size_t n_target = strlen(target);
        const bool slash = n_target && target[n_target - 1] != '/' && part[0] != '/';
        if (n_target + strlen(part) + 2 > sizeof target) break;
        (void)snprintf(target + n_target, sizeof target - n_target, "%s%s", slash ? "/" : "", part);
    }
    free(raw);
    return ws_tree_set_target(r->tree, n, target, error);
}

/* What the entry says becomes the node's. */
static enum ws_status take_file(struct reading *r, struct ws_node *n, struct ws_error *error) {
    const struct udf_file *f = r->file;
    struct ws_source *content = NULL;
    uint64_t place = 0;
    n->mode = mode_of(f);
    n->uid = f->uid == UINT32_MAX ? 0 : f->uid;
    n->gid = f->gid == UINT32_MAX ? 0 : f->gid;
    n->mtime = f->mtime;
    n->mtime_ns = f->mtime_ns;
    if (n->kind != WS_NODE_FILE && n->kind != WS_NODE_LINK) return WS_OK;
    if (f->size == 0) return WS_OK;
    WS_TRY(open_content(r, f, &content, &place, error));
    if (n->kind == WS_NODE_LINK) {
        enum ws_status status = take_link(r, n, content, error);
        ws_source_close(content);
        return status;
    }
    WS_TRY(ws_tree_own(r->tree, content, error));
    n->content = content;
    n->work = place;
    return WS_OK;
}

static bool kind_of(uint8_t kind, enum ws_node_kind *out) {
    static const struct {
        uint8_t udf;
        enum ws_node_kind kind;
    } kinds[] = {{KIND_FOLDER, WS_NODE_FOLDER},
                 {KIND_FILE, WS_NODE_FILE},
                 {KIND_REAL_TIME, WS_NODE_FILE},
                 {KIND_FIFO, WS_NODE_FIFO},
                 {KIND_SOCKET, WS_NODE_SOCKET},
                 {KIND_LINK, WS_NODE_LINK},
                 {0, WS_NODE_FILE}};
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++)
        if (kinds[i].udf == kind) {
            *out = kinds[i].kind;
            return true;
        }
    return false;
}

/* One name of a folder (ECMA-167 4/14.4). */
static enum ws_status add_name(struct reading *r, struct ws_node *folder, const uint8_t *d, struct ws_error *error) {
    char name[1024] = "";
    struct ws_node *n = NULL;
    enum ws_node_kind kind;
    const struct udf_place place = {ws_load_le32(d + 24), ws_load_le16(d + 28)};
    udf_text(d + 38 + ws_load_le16(d + 36), d[19], name, sizeof name);
    WS_TRY(udf_file(&r->u, place, r->file, error));
    if (!name[0] || strlen(name) > 255 || strchr(name, '/') || strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
        return udf_damaged(error, "a name is impossible");
    if (!kind_of(r->file->kind, &kind)) return WS_OK; /* devices and streams are no business of a medium */
    if ((kind == WS_NODE_FOLDER) != ((d[18] & IS_FOLDER) != 0))
        return udf_damaged(error, "a name and its entry disagree");
    unsigned depth = 0;
    const uint64_t origin = (uint64_t)place.part << 32 | place.block;
    for (const struct ws_node *up = folder; up; up = up->parent) {
        depth++;
        if (kind == WS_NODE_FOLDER && up->origin == origin + 1)
            return udf_damaged(error, "its folders go round in a circle");
    }
    if (depth > DEPTH_MOST) return udf_damaged(error, "its folders are nested too deeply");
    if (ws_tree_count(r->tree) > NODES_MOST) return udf_damaged(error, "it has too many files");
    WS_TRY(ws_tree_add(r->tree, folder, name, kind, &n, error));
    n->origin = origin + 1;
    return take_file(r, n, error);
}

static enum ws_status read_folder(struct reading *r, struct ws_node *folder, struct ws_error *error) {
    const struct udf_place place = {(uint32_t)(folder->origin - 1), (uint16_t)((folder->origin - 1) >> 32)};
    struct ws_source *content = NULL;
    char *bytes = NULL;
    size_t length = 0;
    uint64_t ignored;
    WS_TRY(udf_file(&r->u, place, r->file, error));
    if (r->file->kind != KIND_FOLDER) return udf_damaged(error, "a folder is none");
    if (r->file->size == 0) return WS_OK;
    WS_TRY(open_content(r, r->file, &content, &ignored, error));
    enum ws_status status = ws_source_load(content, FOLDER_MOST, &bytes, &length, error);
    ws_source_close(content);
    for (size_t at = 0; status == WS_OK && at + 38 <= length;) {
        const uint8_t *d = (const uint8_t *)bytes + at;
        unsigned id;
        const size_t all = (size_t)ws_round_up(38 + (uint64_t)ws_load_le16(d + 36) + d[19], 4);
        if (at + all > length || !udf_tag(d, all, &id) || id != TAG_NAME)
            status = udf_damaged(error, "a folder holds what is no name");
        else if (!(d[18] & (IS_DELETED | IS_PARENT))) status = add_name(r, folder, d, error);
        at += all;
    }
    free(bytes);
    return status;
}

enum ws_status ws_udf_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_udf_facts *facts,
                           struct ws_error *error) {
    struct reading r = {.u = {.source = volume}};
    enum ws_status status;
    r.file = malloc(sizeof *r.file);
    if (!r.file) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    WS_GO(udf_open(&r.u, error));
    WS_GO(ws_tree_create(&r.tree, error));
    struct ws_node *root = ws_tree_root(r.tree);
    const struct udf_place place = {ws_load_le32(r.u.root + 4), ws_load_le16(r.u.root + 8)};
    root->origin = ((uint64_t)place.part << 32 | place.block) + 1;
    WS_GO(udf_file(&r.u, place, r.file, error));
    WS_GO(take_file(&r, root, error));
    for (struct ws_node *n = root; n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_GO(read_folder(&r, n, error));
done:
    if (facts) *facts = r.u.facts;
    udf_close(&r.u);
    free(r.file);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}
