/* vmdk.c — VMDK: extents in a row, sparse or plain, in this file or in others beside it, listed by a text. */
#include "container/vmdk.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, TEXT_MOST = 1 << 20 };

struct vmdk {
    struct vmdk_extent *extent;
    size_t extents;
};

static bool is_text(const struct ws_source *file) {
    char head[64] = "";
    if (file->size < 21 || file->size > TEXT_MOST) return false;
    return ws_source_read(file, 0, head, (size_t)ws_min_u64(sizeof head - 1, file->size), NULL) == WS_OK &&
           strstr(head, "# Disk DescriptorFile") != NULL;
}

static bool is(const struct ws_source *file) {
    uint8_t head[4];
    if (file->size >= SECTOR && ws_source_read(file, 0, head, 4, NULL) == WS_OK && memcmp(head, "KDMV", 4) == 0)
        return true;
    return is_text(file);
}

static enum ws_status map(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error) {
    const struct vmdk *v = c->format;
    size_t low = 0, high = v->extents;
    while (high - low > 1) {
        const size_t middle = low + (high - low) / 2;
        if (v->extent[middle].at <= at) low = middle;
        else high = middle;
    }
    const struct vmdk_extent *e = &v->extent[low];
    const uint64_t inside = at - e->at, left = e->size - inside;
    m->length = ws_min_u64(m->length, left);
    if (e->sparse.directory) {
        WS_TRY(vmdk_sparse_map(c, &e->sparse, inside, m, error));
        m->begin += e->at;
        m->length = ws_min_u64(m->length, left);
        return WS_OK;
    }
    m->kind = e->flat ? MAP_FILE : MAP_ZERO;
    m->file = e->flat;
    m->at = e->flat_at + inside;
    return WS_OK;
}

static void close_vmdk(struct container *c) {
    struct vmdk *v = c->format;
    for (size_t i = 0; v && i < v->extents; i++) free(v->extent[i].sparse.directory);
    if (v) free(v->extent);
    free(v);
}

/* @param own  the sparse extent that this file is, whose text this is; NULL: the text stands alone */
static enum ws_status add_extent(struct container *c, const struct ws_container_files *files,
                                 const struct vmdk_line *line, const struct vmdk_sparse *own, struct ws_error *error) {
    struct vmdk *v = c->format;
    struct vmdk_extent *grown = realloc(v->extent, (v->extents + 1) * sizeof *grown);
    struct ws_source *file = NULL;
    if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    v->extent = grown;
    struct vmdk_extent *e = &grown[v->extents];
    memset(e, 0, sizeof *e);
    if (line->sectors == 0 || line->sectors > container_size_most / SECTOR)
        return container_damaged(c, error, "a part of it has an impossible length");
    e->at = c->facts.size;
    e->size = line->sectors * SECTOR;
    c->facts.size += e->size;
    v->extents++;
    if (strcmp(line->kind, "ZERO") == 0) return WS_OK;
    if (own && v->extents == 1) {
        e->sparse = *own;
        return own->size >= e->size ? WS_OK : container_damaged(c, error, "a part of it is shorter than it says");
    }
    if (!line->name[0]) return container_damaged(c, error, "a part of it has no name");
    WS_TRY(container_other(c, files, line->name, &file, error));
    if (strcmp(line->kind, "FLAT") == 0 || strcmp(line->kind, "VMFS") == 0) {
        e->flat = file;
        e->flat_at = line->offset * SECTOR;
        if (line->offset <= file->size / SECTOR && ws_inside(e->flat_at, e->size, file->size)) return WS_OK;
        return container_damaged(c, error, "%s is shorter than it says", line->name);
    }
    if (strcmp(line->kind, "SPARSE") != 0)
        return ws_fail(error, WS_E_UNSUPPORTED, "a part of this VMDK is of a kind that is not known here: %s",
                       line->kind);
    enum ws_status status = vmdk_sparse_open(c, file, &e->sparse, NULL, error);
    if (status == WS_E_NOTFOUND) return container_damaged(c, error, "%s is no part of it", line->name);
    WS_TRY(status);
    return e->sparse.size >= e->size ? WS_OK : container_damaged(c, error, "%s is shorter than it says", line->name);
}

static const char *variant_of(const char *type) {
    static const struct {
        const char *type, *words;
    } variants[] = {{"monolithicSparse", "one file, sparse"},
                    {"monolithicFlat", "one file, plain"},
                    {"twoGbMaxExtentSparse", "in parts, sparse"},
                    {"twoGbMaxExtentFlat", "in parts, plain"},
                    {"streamOptimized", "stream-optimised"}};
    for (size_t i = 0; i < sizeof variants / sizeof variants[0]; i++)
        if (strcmp(type, variants[i].type) == 0) return variants[i].words;
    return "of another kind";
}

static enum ws_status take_text(struct container *c, const struct ws_container_files *files, const char *text,
                                const struct vmdk_sparse *own, unsigned depth, struct ws_error *error) {
    struct vmdk *v = c->format;
    struct vmdk_line line;
    char value[1024] = "";
    (void)vmdk_value(text, "createType", value, sizeof value);
    (void)snprintf(c->facts.variant, sizeof c->facts.variant, "%s", variant_of(value));
    c->facts.packed = own && own->packed;
    for (const char *p = text; vmdk_next_extent(&p, &line);) {
        if (v->extents == CONTAINER_EXTENTS)
            return container_damaged(c, error, "it has more than %d parts", CONTAINER_EXTENTS);
        WS_TRY(add_extent(c, files, &line, own, error));
    }
    if (v->extents == 0) return container_damaged(c, error, "it lists no parts");
    if (v->extent[0].sparse.directory) c->facts.unit = (uint32_t)v->extent[0].sparse.grain;
    const bool base = vmdk_value(text, "parentCID", value, sizeof value) && strcmp(value, "ffffffff") != 0;
    if (!base) return WS_OK;
    if (!vmdk_value(text, "parentFileNameHint", value, sizeof value))
        return container_damaged(c, error, "it does not say what it builds on");
    for (size_t i = 0; i < v->extents; i++) v->extent[i].sparse.base = true;
    return container_base(c, files, value, false, depth, error);
}

static enum ws_status open(struct container *c, const struct ws_container_files *files, unsigned depth,
                           struct ws_error *error) {
    struct vmdk_sparse own = {0};
    char *text = NULL;
    size_t length = 0;
    c->format = calloc(1, sizeof(struct vmdk));
    if (!c->format) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    c->map = map;
    c->close = close_vmdk;
    if (is_text(c->file)) {
        WS_TRY(ws_source_load(c->file, TEXT_MOST, &text, &length, error));
        enum ws_status status = take_text(c, files, text, NULL, depth, error);
        free(text);
        return status;
    }
    struct vmdk *v = c->format;
    enum ws_status status = vmdk_sparse_open(c, c->file, &own, &text, error);
    if (status == WS_OK && !text) { /* a part by itself: it is taken for the whole */
        const struct vmdk_line line = {.sectors = own.size / SECTOR, .kind = "SPARSE"};
        status = add_extent(c, files, &line, &own, error);
    } else if (status == WS_OK) {
        status = take_text(c, files, text, &own, depth, error);
    }
    if (status != WS_OK && (v->extents == 0 || v->extent[0].sparse.directory != own.directory)) free(own.directory);
    free(text);
    return status;
}

const struct container_format container_vmdk = {"vmdk", is, open};
