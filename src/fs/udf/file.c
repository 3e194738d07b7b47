/* file.c — file entries of a UDF volume, and where their content stands. */
#include "fs/udf/internal.h"

#include <stdlib.h>
#include <string.h>

enum { SHORT = 0, LONG = 1, EXTENDED = 2, INSIDE = 3 };

/* ECMA-167 4/14.9 and 14.17: the older form and the newer one differ in what stands where. */
enum ws_status udf_file(const struct udf *u, struct udf_place place, struct udf_file *f, struct ws_error *error) {
    unsigned id;
    uint8_t *e = f->entry;
    WS_TRY(udf_read_block(u, place, e, error));
    const bool sound = udf_tag(e, u->block, &id);
    if (!sound || (id != TAG_FILE && id != TAG_FILE_EXTENDED)) return udf_damaged(error, "a file's entry is missing");
    const bool wide = id == TAG_FILE_EXTENDED;
    if (ws_load_le16(e + 20) != 4)
        return ws_fail(error, WS_E_UNSUPPORTED, "a file of this UDF volume is entered in a way not known here");
    f->kind = e[27];
    f->flags = e[34];
    f->uid = ws_load_le32(e + 36);
    f->gid = ws_load_le32(e + 40);
    f->permissions = ws_load_le32(e + 44);
    f->links = ws_load_le16(e + 48);
    f->size = ws_load_le64(e + 56);
    f->mtime = udf_time(e + (wide ? 92 : 84), &f->mtime_ns);
    f->id = ws_load_le64(e + (wide ? 200 : 160));
    const uint32_t attributes = ws_load_le32(e + (wide ? 208 : 168));
    f->ads_length = ws_load_le32(e + (wide ? 212 : 172));
    f->ads_at = (wide ? 216 : 176) + attributes;
    f->part = place.part;
    if (attributes > u->block || !ws_inside(f->ads_at, f->ads_length, u->block))
        return udf_damaged(error, "a file's entry is longer than its block");
    if ((f->flags & 7) == INSIDE && f->size > f->ads_length)
        return udf_damaged(error, "a file inside its entry is cut short");
    return WS_OK;
}

struct collecting {
    const struct udf *u;
    struct ws_run *run;
    size_t count, room;
    uint64_t size; /* of the file; so much is there at most */
    uint64_t have;
};

static enum ws_status add_run(struct collecting *c, uint64_t at, uint64_t length, struct ws_error *error) {
    length = ws_min_u64(length, c->size - c->have);
    if (length == 0) return WS_OK;
    if (c->count && c->run[c->count - 1].at != WS_RUN_HOLE &&
        at == c->run[c->count - 1].at + c->run[c->count - 1].length) {
        c->run[c->count - 1].length += length;
    } else {
        if (c->count == UDF_RUNS_MOST) return udf_damaged(error, "a file has too many pieces");
        if (c->count == c->room) {
            c->room = c->room ? 2 * c->room : 8;
            struct ws_run *grown = realloc(c->run, c->room * sizeof *grown);
            if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a file's places");
            c->run = grown;
        }
        c->run[c->count++] = (struct ws_run){length, at};
    }
    c->have += length;
    return WS_OK;
}

/* One extent: blocks in a row of a partition; of one whose blocks may lie anywhere, block by block. */
static enum ws_status add_extent(struct collecting *c, struct udf_place place, uint32_t length, unsigned type,
                                 struct ws_error *error) {
    const struct udf *u = c->u;
    if (type != 0) return add_run(c, WS_RUN_HOLE, length, error); /* allocated or not: nothing is recorded there */
    if (place.part >= u->maps) return udf_damaged(error, "a file lies on a partition that is not there");
    const bool row = u->map[place.part].kind == MAP_PLAIN;
    while (length > 0) {
        uint64_t at;
        if (!udf_find(u, place, &at)) return udf_damaged(error, "a file lies outside its partition");
        const uint32_t step = row ? length : (uint32_t)ws_min_u64(length, u->block);
        if (!ws_inside(at, step, u->source->size)) return udf_damaged(error, "a file lies outside the volume");
        WS_TRY(add_run(c, at, step, error));
        length -= step;
        place.block++;
    }
    return WS_OK;
}

/* ECMA-167 4/12, 14.14: short_ad, long_ad and ext_ad; the last may lead to more of them elsewhere. */
static enum ws_status collect(struct collecting *c, const struct udf_file *f, struct ws_error *error) {
    static const size_t sizes[] = {8, 16, 20};
    const struct udf *u = c->u;
    const unsigned form = f->flags & 7;
    uint8_t more[UDF_BLOCK_MOST];
    const uint8_t *ad = f->entry + f->ads_at;
    size_t left = f->ads_length;
    if (form > EXTENDED)
        return ws_fail(error, WS_E_UNSUPPORTED, "a file of this UDF volume is placed in a way not known here");
    for (unsigned blocks = 0; c->have < c->size && left >= sizes[form];) {
        const uint32_t raw = ws_load_le32(ad), length = raw & 0x3fffffff;
        const unsigned type = raw >> 30;
        const uint8_t *where = ad + (form == EXTENDED ? 12 : 4);
        const struct udf_place place = {ws_load_le32(where), form == SHORT ? f->part : ws_load_le16(where + 4)};
        if (length == 0) break;
        ad += sizes[form];
        left -= sizes[form];
        if (type != 3) {
            WS_TRY(add_extent(c, place, length, type, error));
            continue;
        }
        unsigned id;
        if (++blocks > UDF_RUNS_MOST / 64) return udf_damaged(error, "a file's places go round in a circle");
        WS_TRY(udf_read_block(u, place, more, error));
        if (!udf_tag(more, u->block, &id) || id != TAG_MORE) return udf_damaged(error, "a file's places break off");
        ad = more + 24;
        left = (size_t)ws_min_u64(ws_load_le32(more + 20), u->block - 24);
    }
    if (c->have < c->size) WS_TRY(add_run(c, WS_RUN_HOLE, c->size - c->have, error)); /* its tail was never written */
    return WS_OK;
}

enum ws_status udf_runs(const struct udf *u, const struct udf_file *f, struct ws_run **runs, size_t *count,
                        bool *inside, struct ws_error *error) {
    struct collecting c = {.u = u, .size = f->size};
    *inside = (f->flags & 7) == INSIDE;
    *runs = NULL;
    *count = 0;
    if (*inside) return WS_OK;
    if (f->size > 1ull << 50) return udf_damaged(error, "a file's length is impossible");
    enum ws_status status = collect(&c, f, error);
    if (status != WS_OK) {
        free(c.run);
        return status;
    }
    *runs = c.run;
    *count = c.count;
    return WS_OK;
}
