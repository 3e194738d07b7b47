/* vhdx.c — VHDX (MS-VHDX, "Virtual Hard Disk v2 File Format"): regions found by name, a table of blocks, and a log that
 * is taken as done before anything else is read. */
#include "container/vhdx.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    REGIONS_AT = 192 << 10,
    REGION_BYTES = 64 << 10,
    HEADER_AT = 64 << 10,
    HEADER_BYTES = 4096,
    TABLE_MOST = 64 << 20
};
enum { ABSENT = 0, UNDEFINED = 1, ZERO = 2, UNMAPPED = 3, WHOLE = 6, PARTLY = 7, ITEMS_MOST = 2047 };

/* MS-VHDX 2.2.3.2, 2.6.1.2: known regions and metadata items. */
static const char region_blocks[] = "2dc27766-f623-4200-9d64-115e9bfd4a08",
                  region_items[] = "8b7ca206-4790-4b9a-b8fe-575f050f886e",
                  item_file[] = "caa16737-fa36-4d43-b3b6-33f0aa44e76b",
                  item_size[] = "2fa54224-cd1b-4876-b211-5dbed83bf4b8",
                  item_sector[] = "8141bf1d-a96f-4709-ba47-f233a8faab5f",
                  item_base[] = "a8d35f2d-b30b-454d-abf7-d3d84834ab0c";

struct vhdx {
    const struct ws_source *view; /* the file as it is once its log is done */
    struct ws_source *patched;
    uint8_t *table;
    uint64_t entries;
    uint32_t block, sector, ratio; /* blocks that share a bitmap of their sectors */
    bool differencing;
};

static bool is(const struct ws_source *file) {
    uint8_t head[8];
    return file->size >= 1 << 20 && ws_source_read(file, 0, head, 8, NULL) == WS_OK && memcmp(head, "vhdxfile", 8) == 0;
}

static bool is_guid(const uint8_t *raw, const char *text) {
    struct ws_guid id;
    char is_text[37];
    ws_guid_from_disk(raw, &id);
    return strcmp(ws_guid_text(&id, is_text), text) == 0;
}

/* Two headers, the valid one that was written later counts (2.2.2). */
static enum ws_status take_header(struct container *c, uint8_t header[HEADER_BYTES], struct ws_error *error) {
    uint64_t best = 0;
    bool any = false;
    for (unsigned i = 0; i < 2; i++) {
        uint8_t h[HEADER_BYTES];
        WS_TRY(ws_source_read(c->file, (uint64_t)HEADER_AT * (i + 1), h, sizeof h, error));
        const uint32_t sum = ws_load_le32(h + 4);
        ws_store_le32(h + 4, 0);
        if (memcmp(h, "head", 4) != 0 || ~ws_crc32c(~0u, h, sizeof h) != sum) continue;
        if (any && ws_load_le64(h + 8) < best) continue;
        best = ws_load_le64(h + 8);
        any = true;
        memcpy(header, h, sizeof h);
    }
    if (!any) return container_damaged(c, error, "neither of its headers is sound");
    if (ws_load_le16(header + 66) != 1) return ws_fail(error, WS_E_UNSUPPORTED, "it is a VHDX of an unknown version");
    return WS_OK;
}

/* 2.2.3: where a region stands. The second table is the first one's copy. */
static enum ws_status find_regions(struct container *c, uint64_t at[2], uint32_t length[2], struct ws_error *error) {
    const struct vhdx *v = c->format;
    uint8_t *t = malloc(REGION_BYTES);
    enum ws_status status = t ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    bool found = false;
    for (unsigned i = 0; i < 2 && status == WS_OK && !found; i++) {
        status = ws_source_read(v->view, REGIONS_AT + (uint64_t)i * REGION_BYTES, t, REGION_BYTES, error);
        if (status != WS_OK) break;
        const uint32_t sum = ws_load_le32(t + 4), count = ws_load_le32(t + 8);
        ws_store_le32(t + 4, 0);
        if (memcmp(t, "regi", 4) != 0 || ~ws_crc32c(~0u, t, REGION_BYTES) != sum || count > ITEMS_MOST) continue;
        found = true;
        for (uint32_t k = 0; k < count && status == WS_OK; k++) {
            const uint8_t *e = t + 16 + 32 * (size_t)k;
            const int which = is_guid(e, region_blocks) ? 0 : is_guid(e, region_items) ? 1 : -1;
            if (which >= 0) {
                at[which] = ws_load_le64(e + 16);
                length[which] = ws_load_le32(e + 24);
            } else if (ws_load_le32(e + 28) & 1) {
                status = ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk needs a region that is not known here");
            }
        }
    }
    free(t);
    if (status != WS_OK) return status;
    if (!found || !at[0] || !at[1]) return container_damaged(c, error, "its list of regions is not sound");
    return WS_OK;
}

/* 2.6.2.6: pairs of texts in UTF-16; how its base is named beside this file goes first. */
static enum ws_status take_base(struct container *c, uint64_t at, uint32_t length, char name[1024],
                                struct ws_error *error) {
    static const char *const keys[] = {"relative_path", "absolute_win32_path", "volume_path"};
    const struct vhdx *v = c->format;
    uint8_t *raw = malloc(length ? length : 1);
    size_t best = 3;
    enum ws_status status = raw ? ws_source_read(v->view, at, raw, length, error)
                                : ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    const uint32_t pairs = status == WS_OK && length >= 20 ? ws_load_le16(raw + 18) : 0;
    name[0] = '\0';
    for (uint32_t i = 0; i < pairs && 20 + 12 * (uint64_t)(i + 1) <= length; i++) {
        const uint8_t *e = raw + 20 + 12 * (size_t)i;
        char text[2][1024] = {"", ""};
        for (unsigned k = 0; k < 2; k++) {
            uint16_t units[512];
            const uint32_t from = ws_load_le32(e + 4 * k), bytes = ws_load_le16(e + 8 + 2 * k);
            if (!ws_inside(from, bytes, length) || bytes / 2 > 512) continue;
            for (uint32_t u = 0; u < bytes / 2; u++) units[u] = ws_load_le16(raw + from + 2 * (size_t)u);
            ws_utf8_from_utf16(units, bytes / 2, text[k], sizeof text[k]);
        }
        for (size_t k = 0; k < best; k++)
            if (strcmp(text[0], keys[k]) == 0) {
                best = k;
                memcpy(name, text[1], sizeof text[1]);
            }
    }
    free(raw);
    if (status == WS_OK && !name[0]) return container_damaged(c, error, "it does not say what it builds on");
    return status;
}

/* 2.6: what the drive is. */
static enum ws_status take_items(struct container *c, uint64_t at, uint32_t length, char base[1024],
                                 struct ws_error *error) {
    struct vhdx *v = c->format;
    uint8_t t[32], value[8];
    if (length < sizeof t || !ws_inside(at, length, v->view->size))
        return container_damaged(c, error, "its metadata lies outside the file");
    WS_TRY(ws_source_read(v->view, at, t, sizeof t, error));
    const uint32_t count = ws_load_le16(t + 10);
    if (memcmp(t, "metadata", 8) != 0 || count > ITEMS_MOST || 32 + 32ull * count > length)
        return container_damaged(c, error, "its metadata is not sound");
    uint64_t base_at = 0;
    uint32_t base_length = 0;
    for (uint32_t i = 0; i < count; i++) {
        WS_TRY(ws_source_read(v->view, at + 32 + 32ull * i, t, sizeof t, error));
        const uint64_t from = at + ws_load_le32(t + 16);
        const uint32_t bytes = ws_load_le32(t + 20);
        if (!ws_inside(from, bytes, v->view->size) || bytes > REGION_BYTES * 4)
            return container_damaged(c, error, "a part of its metadata lies outside the file");
        memset(value, 0, sizeof value);
        WS_TRY(ws_source_read(v->view, from, value, (size_t)ws_min_u64(bytes, sizeof value), error));
        if (is_guid(t, item_file)) {
            v->block = ws_load_le32(value);
            v->differencing = ws_load_le32(value + 4) & 2;
        } else if (is_guid(t, item_size)) {
            c->facts.size = ws_load_le64(value);
        } else if (is_guid(t, item_sector)) {
            v->sector = ws_load_le32(value);
        } else if (is_guid(t, item_base)) {
            base_at = from;
            base_length = bytes;
        }
    }
    if (v->differencing) return take_base(c, base_at, base_length, base, error);
    return WS_OK;
}

/* Which block, behind how many bitmaps in the table (2.5.1). */
static uint64_t entry_of(const struct vhdx *v, uint64_t block) {
    const uint64_t at = block + block / v->ratio;
    return at < v->entries ? ws_load_le64(v->table + at * 8) : 0;
}

static enum ws_status map_partly(const struct container *c, uint64_t at, uint64_t begin, uint64_t wanted,
                                 struct mapped *m, struct ws_error *error) {
    const struct vhdx *v = c->format;
    const uint64_t block = at / v->block, chunk = block / v->ratio, place = chunk * (v->ratio + 1ull) + v->ratio;
    const uint64_t bitmap = place < v->entries ? ws_load_le64(v->table + place * 8) : 0;
    const uint64_t first = at % ((uint64_t)v->ratio * v->block) / v->sector;
    uint8_t bits[64];
    if ((bitmap & 7) != WHOLE) return container_damaged(c, error, "a block has no bitmap of its sectors");
    const uint64_t bytes = ws_min_u64(sizeof bits, (1u << 20) - first / 8);
    WS_TRY(ws_source_read(v->view, (bitmap >> 20 << 20) + first / 8, bits, (size_t)bytes, error));
    const bool there = bits[0] >> first % 8 & 1;
    uint64_t sectors = 1;
    while ((first % 8 + sectors) / 8 < bytes && sectors * v->sector < wanted + v->sector &&
           (bits[(first % 8 + sectors) / 8] >> (first % 8 + sectors) % 8 & 1) == there)
        sectors++;
    m->length = ws_min_u64(m->length, sectors * v->sector - at % v->sector);
    m->kind = there ? MAP_FILE : MAP_BASE;
    m->file = v->view;
    m->at = begin + at % v->block;
    return WS_OK;
}

static enum ws_status map(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error) {
    const struct vhdx *v = c->format;
    const uint64_t entry = entry_of(v, at / v->block), begin = entry >> 20 << 20, wanted = m->length;
    m->length = v->block - at % v->block;
    switch (entry & 7) {
    case ABSENT: m->kind = v->differencing ? MAP_BASE : MAP_ZERO; return WS_OK;
    case UNDEFINED:
    case ZERO:
    case UNMAPPED: m->kind = MAP_ZERO; return WS_OK;
    case WHOLE:
        m->kind = MAP_FILE;
        m->file = v->view;
        m->at = begin + at % v->block;
        return WS_OK;
    case PARTLY:
        if (v->differencing) return map_partly(c, at, begin, wanted, m, error);
        /* fall through */
    default: return container_damaged(c, error, "a block is in an impossible state");
    }
}

static void close_vhdx(struct container *c) {
    struct vhdx *v = c->format;
    if (!v) return;
    free(v->table);
    ws_source_close(v->patched);
    free(v);
}

static enum ws_status open_blocks(struct container *c, uint64_t at, uint32_t length, struct ws_error *error) {
    struct vhdx *v = c->format;
    const bool possible = v->block >= 1 << 20 && v->block <= CONTAINER_UNIT_MOST && !(v->block & (v->block - 1)) &&
                          (v->sector == 512 || v->sector == 4096) && c->facts.size % v->sector == 0 &&
                          c->facts.size <= container_size_most;
    if (!possible) return container_damaged(c, error, "its blocks, sectors or size are impossible");
    c->facts.unit = v->block;
    v->ratio = (uint32_t)((1ull << 23) * v->sector / v->block);
    const uint64_t blocks = ws_div_up(c->facts.size, v->block);
    v->entries = v->differencing ? ws_div_up(blocks, v->ratio) * (v->ratio + 1ull)
                                 : blocks + (blocks ? (blocks - 1) / v->ratio : 0);
    if (v->entries * 8 > length) return container_damaged(c, error, "its table does not reach to its end");
    if (v->entries * 8 > TABLE_MOST || !ws_inside(at, v->entries * 8, v->view->size))
        return container_damaged(c, error, "its table lies outside the file");
    v->table = malloc((size_t)v->entries * 8 + 1);
    if (!v->table) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    return ws_source_read(v->view, at, v->table, (size_t)v->entries * 8, error);
}

static enum ws_status open(struct container *c, const struct ws_container_files *files, unsigned depth,
                           struct ws_error *error) {
    uint8_t header[HEADER_BYTES];
    uint64_t at[2] = {0};
    uint32_t length[2] = {0};
    char base[1024] = "";
    struct vhdx *v = calloc(1, sizeof *v);
    if (!v) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    c->format = v;
    c->map = map;
    c->close = close_vhdx;
    WS_TRY(take_header(c, header, error));
    WS_TRY(vhdx_replay(c, header, &v->patched, error));
    c->facts.unclean = v->patched != NULL;
    v->view = v->patched ? v->patched : c->file;
    WS_TRY(find_regions(c, at, length, error));
    WS_TRY(take_items(c, at[1], length[1], base, error));
    (void)snprintf(c->facts.variant, sizeof c->facts.variant, "%s",
                   v->differencing ? "differencing" : "dynamic or fixed");
    WS_TRY(open_blocks(c, at[0], length[0], error));
    return v->differencing ? container_base(c, files, base, false, depth, error) : WS_OK;
}

const struct container_format container_vhdx = {"vhdx", is, open};
