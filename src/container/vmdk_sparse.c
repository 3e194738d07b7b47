/* vmdk_sparse.c — a sparse extent of a VMDK: a head, a directory of tables, tables of grains (Virtual Disk Format 5.0,
 * "Hosted Sparse Extents", "Stream-Optimized Compressed Sparse Extents"). Numbers are little-endian sectors. */
#include "container/vmdk.h"

#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, ZERO_GRAINS = 4, PACKED = 1 << 16, DIRECTORY_MOST = 4 << 20, TEXT_MOST = 1 << 20, BATCH = 64 };
static const uint64_t at_end = UINT64_MAX;

/* A stream is written without going back: where its directory is stands in a copy of the head before its last sector.
 */
static enum ws_status take_footer(const struct container *c, const struct ws_source *file, uint8_t h[SECTOR],
                                  struct ws_error *error) {
    if (ws_load_le64(h + 56) != at_end) return WS_OK;
    if (file->size < 3 * SECTOR) return container_damaged(c, error, "it is cut short");
    WS_TRY(ws_source_read(file, file->size / SECTOR * SECTOR - 2 * SECTOR, h, SECTOR, error));
    if (memcmp(h, "KDMV", 4) != 0 || ws_load_le64(h + 56) == at_end)
        return container_damaged(c, error, "the copy of its head at its end is missing: it is cut short");
    return WS_OK;
}

static enum ws_status load_text(const struct container *c, const struct ws_source *file, const uint8_t *h,
                                char **descriptor, struct ws_error *error) {
    const uint64_t at = ws_load_le64(h + 28), length = ws_load_le64(h + 36);
    *descriptor = NULL;
    if (at == 0 || length == 0) return WS_OK;
    if (length > TEXT_MOST / SECTOR || at > file->size / SECTOR || !ws_inside(at * SECTOR, length * SECTOR, file->size))
        return container_damaged(c, error, "its description lies outside the file");
    char *text = calloc(1, (size_t)length * SECTOR + 1);
    if (!text) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    *descriptor = text;
    return ws_source_read(file, at * SECTOR, text, (size_t)length * SECTOR, error);
}

enum ws_status vmdk_sparse_open(const struct container *c, const struct ws_source *file, struct vmdk_sparse *s,
                                char **descriptor, struct ws_error *error) {
    uint8_t h[SECTOR];
    memset(s, 0, sizeof *s);
    if (descriptor) *descriptor = NULL;
    if (file->size < SECTOR) return ws_fail(error, WS_E_NOTFOUND, "this is no sparse extent");
    WS_TRY(ws_source_read(file, 0, h, SECTOR, error));
    if (memcmp(h, "KDMV", 4) != 0) return ws_fail(error, WS_E_NOTFOUND, "this is no sparse extent");
    if (descriptor) WS_TRY(load_text(c, file, h, descriptor, error));
    WS_TRY(take_footer(c, file, h, error));
    const uint32_t version = ws_load_le32(h + 4), flags = ws_load_le32(h + 8);
    const uint64_t sectors = ws_load_le64(h + 12), grain = ws_load_le64(h + 20), directory = ws_load_le64(h + 56);
    if (version < 1 || version > 3) return ws_fail(error, WS_E_UNSUPPORTED, "this VMDK is of version %u", version);
    s->file = file;
    s->per_table = ws_load_le32(h + 44);
    s->packed = flags & PACKED;
    s->zeros = flags & ZERO_GRAINS;
    if (s->packed && ws_load_le16(h + 77) != 1)
        return ws_fail(error, WS_E_UNSUPPORTED, "its grains are packed in a way that is not known here");
    if (grain < 1 || grain > CONTAINER_UNIT_MOST / SECTOR || (grain & (grain - 1)) || s->per_table < 1 ||
        s->per_table > 1 << 16 || sectors > container_size_most / SECTOR)
        return container_damaged(c, error, "its grains, tables or size are impossible");
    s->grain = grain * SECTOR;
    s->size = sectors * SECTOR;
    s->tables = ws_div_up(ws_div_up(s->size, s->grain), s->per_table);
    if (s->tables * 4 > DIRECTORY_MOST || directory > file->size / SECTOR ||
        !ws_inside(directory * SECTOR, s->tables * 4, file->size))
        return container_damaged(c, error, "its directory lies outside the file");
    uint8_t *raw = malloc((size_t)s->tables * 4 + 1);
    s->directory = malloc((size_t)s->tables * 4 + 1);
    enum ws_status status = raw && s->directory
                                ? ws_source_read(file, directory * SECTOR, raw, (size_t)s->tables * 4, error)
                                : ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    for (uint64_t i = 0; i < s->tables && status == WS_OK; i++) s->directory[i] = ws_load_le32(raw + 4 * i);
    free(raw);
    return status;
}

/* A packed grain has a mark before it: which sector of the drive it is, and how many bytes it takes. */
static enum ws_status map_packed(const struct container *c, const struct vmdk_sparse *s, uint64_t at, uint64_t begin,
                                 struct mapped *m, struct ws_error *error) {
    uint8_t mark[12];
    const uint64_t first = at / s->grain * s->grain;
    if (!ws_inside(begin, sizeof mark, s->file->size))
        return container_damaged(c, error, "a grain lies outside the file");
    WS_TRY(ws_source_read(s->file, begin, mark, sizeof mark, error));
    m->packed = ws_load_le32(mark + 8);
    if (ws_load_le64(mark) != first / SECTOR || m->packed > 2 * s->grain + SECTOR ||
        !ws_inside(begin + sizeof mark, m->packed, s->file->size))
        return container_damaged(c, error, "the mark before a packed grain is of another one");
    m->kind = MAP_PACKED;
    m->at = begin + sizeof mark;
    m->unit = (uint32_t)ws_min_u64(s->grain, s->size - first); /* some pack a last one no longer than it is */
    m->begin = first;
    m->packing = PACKED_ZLIB;
    return WS_OK;
}

enum ws_status vmdk_sparse_map(const struct container *c, const struct vmdk_sparse *s, uint64_t at, struct mapped *m,
                               struct ws_error *error) {
    const uint64_t n = at / s->grain, inside = at % s->grain, wanted = m->length;
    const uint64_t table = s->directory[n / s->per_table], first = n % s->per_table;
    const enum map_kind absent = s->base ? MAP_BASE : MAP_ZERO;
    uint8_t raw[4 * BATCH];
    m->file = s->file;
    m->length = s->grain - inside;
    m->kind = absent;
    if (table == 0) {
        m->length = s->per_table * s->grain - first * s->grain - inside;
        return WS_OK;
    }
    const uint64_t count = ws_min_u64(ws_min_u64(BATCH, s->per_table - first), ws_div_up(inside + wanted, s->grain));
    if (!ws_inside(table * SECTOR + first * 4, count * 4, s->file->size))
        return container_damaged(c, error, "a table lies outside the file");
    WS_TRY(ws_source_read(s->file, table * SECTOR + first * 4, raw, (size_t)count * 4, error));
    const uint64_t entry = ws_load_le32(raw);
    if (entry == 0) return WS_OK;
    if (entry == 1 && s->zeros) {
        m->kind = MAP_ZERO;
        return WS_OK;
    }
    if (s->packed) return map_packed(c, s, at, entry * SECTOR, m, error);
    m->kind = MAP_FILE;
    m->at = entry * SECTOR + inside;
    for (uint64_t i = 1; i < count && ws_load_le32(raw + 4 * i) == entry + i * (s->grain / SECTOR); i++)
        m->length += s->grain;
    return WS_OK;
}
