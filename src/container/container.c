/* container.c — the formats as a table, and the drive in any of them as a source. */
#include "container/internal.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct container_format *const formats[] = {&container_qcow2, &container_vhdx, &container_vmdk,
                                                         &container_vhd};

enum ws_status container_damaged(const struct container *c, struct ws_error *error, const char *format, ...) {
    char why[200];
    va_list list;
    va_start(list, format);
    (void)vsnprintf(why, sizeof why, format, list);
    va_end(list);
    return ws_fail(error, WS_E_FORMAT, "the virtual disk (%s) is damaged: %s", c->facts.format, why);
}

enum ws_status container_load(const struct container *c, uint64_t at, uint64_t length, uint64_t most, uint8_t **bytes,
                              const char *what, struct ws_error *error) {
    *bytes = NULL;
    if (length > most || !ws_inside(at, length, c->file->size))
        return container_damaged(c, error, "%s lies outside the file, or is impossibly long", what);
    *bytes = malloc(length ? (size_t)length : 1);
    if (!*bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    return ws_source_read(c->file, at, *bytes, (size_t)length, error);
}

enum ws_status container_other(struct container *c, const struct ws_container_files *files, const char *name,
                               struct ws_source **file, struct ws_error *error) {
    if (!files) {
        ws_fail(error, WS_E_UNSUPPORTED, "it is read together with another file, which is not at hand");
        return ws_fail_where(error, "%s", name);
    }
    if (c->others == CONTAINER_EXTENTS)
        return container_damaged(c, error, "it names more than %d files", CONTAINER_EXTENTS);
    WS_TRY(files->open(files->context, name, file, error));
    c->other[c->others++] = *file;
    c->facts.files++;
    return WS_OK;
}

enum ws_status container_base(struct container *c, const struct ws_container_files *files, const char *name, bool raw,
                              unsigned depth, struct ws_error *error) {
    struct ws_container_facts facts;
    struct ws_source *file = NULL;
    (void)snprintf(c->facts.base, sizeof c->facts.base, "%s", name);
    if (depth + 1 >= CONTAINER_DEPTH)
        return container_damaged(c, error, "files build on each other more than %d deep, or in a circle",
                                 CONTAINER_DEPTH);
    if (!files) {
        ws_fail(error, WS_E_UNSUPPORTED, "it builds on another file, which is not at hand");
        return ws_fail_where(error, "%s", name);
    }
    WS_TRY(files->open(files->context, name, &file, error));
    c->base_file = file;
    c->facts.files++;
    if (!raw) {
        enum ws_status status = container_open_deep(file, files, depth + 1, &c->base, &facts, error);
        if (status == WS_OK) {
            c->facts.files += facts.files - 1;
            return WS_OK;
        }
        if (status != WS_E_NOTFOUND) return status;
    }
    return ws_source_slice(file, 0, file->size, &c->base, error);
}

static void close_container(struct container *c) {
    if (!c) return;
    if (c->close) c->close(c);
    for (size_t i = 0; i < c->others; i++) ws_source_close(c->other[i]);
    ws_source_close(c->base);
    ws_source_close(c->base_file);
    free(c);
}

/* A unit is packed as a whole: what is wanted of it is cut out. */
static enum ws_status read_packed(const struct container *c, const struct mapped *m, uint64_t at, uint8_t *out,
                                  size_t length, struct ws_error *error) {
    const size_t have = (size_t)ws_min_u64(m->packed, m->at < m->file->size ? m->file->size - m->at : 0);
    uint8_t *packed = malloc(have ? have : 1);
    uint8_t *unit = malloc(m->unit);
    enum ws_status status =
        packed && unit ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a packed unit of a virtual disk");
    if (status == WS_OK) status = ws_source_read(m->file, m->at, packed, have, error);
    if (status == WS_OK && !container_unpack(m->packing, packed, have, unit, m->unit))
        status = container_damaged(c, error, "the packed unit of byte %llu cannot be unpacked",
                                   (unsigned long long)m->begin);
    if (status == WS_OK) memcpy(out, unit + (at - m->begin), length);
    free(packed);
    free(unit);
    return status;
}

/* What it builds on may be shorter: behind it are zeros. */
static enum ws_status read_base(const struct container *c, uint64_t at, uint8_t *out, size_t length,
                                struct ws_error *error) {
    const uint64_t end = c->base ? c->base->size : 0;
    const size_t there = at >= end ? 0 : (size_t)ws_min_u64(length, end - at);
    if (there) WS_TRY(ws_source_read(c->base, at, out, there, error));
    memset(out + there, 0, length - there);
    return WS_OK;
}

static enum ws_status drive_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *error) {
    const struct container *c = source->state;
    uint8_t *out = buffer;
    while (length > 0) {
        struct mapped m = {.length = length};
        WS_TRY(c->map(c, at, &m, error));
        const size_t step = (size_t)ws_min_u64(m.length, length);
        if (m.kind == MAP_FILE && !ws_inside(m.at, step, m.file->size))
            return container_damaged(c, error, "what byte %llu holds lies outside the file", (unsigned long long)at);
        switch (m.kind) {
        case MAP_ZERO: memset(out, 0, step); break;
        case MAP_FILE: WS_TRY(ws_source_read(m.file, m.at, out, step, error)); break;
        case MAP_BASE: WS_TRY(read_base(c, at, out, step, error)); break;
        case MAP_PACKED: WS_TRY(read_packed(c, &m, at, out, step, error)); break;
        }
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static void drive_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct container *c = source->state;
    struct mapped m = {.length = piece->length};
    if (c->map(c, at, &m, NULL) != WS_OK) return;
    piece->length = ws_min_u64(piece->length, m.length);
    if (m.kind == MAP_ZERO) piece->kind = WS_PIECE_HOLE;
    if (m.kind != MAP_BASE) return;
    const uint64_t end = c->base ? c->base->size : 0;
    if (at >= end) piece->kind = WS_PIECE_HOLE;
    else *piece = ws_piece_base(c->base, at, ws_min_u64(piece->length, end - at));
}

static void drive_close(struct ws_source *source) { close_container(source->state); }
static const struct ws_source_ops drive_ops = {drive_read, drive_close, drive_piece};

enum ws_status container_open_deep(const struct ws_source *file, const struct ws_container_files *files, unsigned depth,
                                   struct ws_source **drive, struct ws_container_facts *facts, struct ws_error *error) {
    const struct container_format *f = NULL;
    for (size_t i = 0; i < sizeof formats / sizeof formats[0] && !f; i++)
        if (formats[i]->is(file)) f = formats[i];
    if (!f) return ws_fail(error, WS_E_NOTFOUND, "this is no virtual disk");
    struct container *c = calloc(1, sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    c->file = file;
    c->facts.files = 1;
    (void)snprintf(c->facts.format, sizeof c->facts.format, "%s", f->word);
    enum ws_status status = f->open(c, files, depth, error);
    if (status == WS_OK && (c->facts.size == 0 || c->facts.size > container_size_most))
        status = container_damaged(c, error, "a drive of %llu bytes is impossible", (unsigned long long)c->facts.size);
    if (facts) *facts = c->facts;
    if (status == WS_OK) status = ws_source_make(&drive_ops, c->facts.size, c, drive, error);
    if (status != WS_OK) close_container(c);
    return status;
}

enum ws_status ws_container_open(const struct ws_source *file, const struct ws_container_files *files,
                                 struct ws_source **drive, struct ws_container_facts *facts, struct ws_error *error) {
    return container_open_deep(file, files, 0, drive, facts, error);
}

/* Files that it names are not needed to say what it is. */
bool ws_container_probe(const struct ws_source *file, struct ws_container_facts *facts) {
    struct ws_source *drive = NULL;
    memset(facts, 0, sizeof *facts);
    enum ws_status status = container_open_deep(file, NULL, 0, &drive, facts, NULL);
    ws_source_close(drive);
    return status == WS_OK || (status == WS_E_UNSUPPORTED && facts->size);
}
