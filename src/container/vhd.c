/* vhd.c — VHD, fixed, dynamic and differencing (Virtual Hard Disk Image Format Specification 1.0). Numbers are
 * big-endian; a footer at the end says what it is, and a copy of it stands at the beginning of all but fixed ones. */
#include "container/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, HEAD = 1024, TABLE_MOST = 64 << 20, FIXED = 2, DYNAMIC = 3, DIFFERENCING = 4 };
static const uint32_t nowhere = 0xffffffff;

struct vhd {
    uint8_t *table;
    uint32_t entries, block, bitmap; /* bytes of a block, and of the bitmap before it */
    bool differencing;
};

/* Both checksums: of all bytes added up, without the field itself, every bit turned. */
static uint32_t sum_of(const uint8_t *bytes, size_t length, size_t field) {
    uint32_t sum = 0;
    for (size_t i = 0; i < length; i++)
        if (i < field || i >= field + 4) sum += bytes[i];
    return ~sum;
}

static bool is_footer(const uint8_t *f) {
    return memcmp(f, "conectix", 8) == 0 && ws_load_be32(f + 64) == sum_of(f, SECTOR, 64);
}

/* The one at the end goes first; some programs leave out its last byte. */
static bool find_footer(const struct ws_source *file, uint8_t footer[SECTOR], bool *at_front) {
    *at_front = false;
    if (file->size < 2 * SECTOR) return false;
    for (unsigned less = 0; less < 2; less++) {
        memset(footer, 0, SECTOR);
        if (ws_source_read(file, file->size - SECTOR + less, footer, SECTOR - less, NULL) == WS_OK && is_footer(footer))
            return true;
    }
    *at_front = true;
    return ws_source_read(file, 0, footer, SECTOR, NULL) == WS_OK && is_footer(footer) &&
           ws_load_be32(footer + 60) != FIXED;
}

static bool is(const struct ws_source *file) {
    uint8_t footer[SECTOR];
    bool at_front;
    return find_footer(file, footer, &at_front);
}

static enum ws_status map_fixed(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error) {
    (void)error;
    m->kind = MAP_FILE;
    m->file = c->file;
    m->at = at;
    return WS_OK;
}

/* A block with its bitmap, a bit for each sector, the highest first: which of them were written. */
static enum ws_status map(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error) {
    const struct vhd *v = c->format;
    const uint64_t n = at / v->block, inside = at % v->block, wanted = m->length;
    const uint32_t place = n < v->entries ? ws_load_be32(v->table + n * 4) : nowhere;
    uint8_t bits[64];
    m->length = v->block - inside;
    m->kind = v->differencing ? MAP_BASE : MAP_ZERO;
    if (place == nowhere) return WS_OK;
    const uint64_t begin = (uint64_t)place * SECTOR, first = inside / SECTOR;
    const uint64_t bytes = ws_min_u64(sizeof bits, v->bitmap - first / 8);
    WS_TRY(ws_source_read(c->file, begin + first / 8, bits, (size_t)bytes, error));
    const bool there = bits[0] >> (7 - first % 8) & 1;
    uint64_t sectors = 1;
    while ((first % 8 + sectors) / 8 < bytes && sectors * SECTOR < wanted + SECTOR &&
           (bits[(first % 8 + sectors) / 8] >> (7 - (first % 8 + sectors) % 8) & 1) == there)
        sectors++;
    m->length = ws_min_u64(m->length, sectors * SECTOR - at % SECTOR);
    if (there) m->kind = MAP_FILE;
    m->file = c->file;
    m->at = begin + v->bitmap + inside;
    return WS_OK;
}

/* "Parent Locator": the code says how its name is written, W2ru beside this file, W2ku from the top; both UTF-16LE. */
static enum ws_status take_base(struct container *c, const uint8_t *h, char name[1024], struct ws_error *error) {
    static const char *const codes[] = {"W2ru", "W2ku"};
    name[0] = '\0';
    for (size_t k = 0; k < 2 && !name[0]; k++)
        for (size_t i = 0; i < 8 && !name[0]; i++) {
            const uint8_t *l = h + 576 + 24 * i;
            uint16_t units[512];
            uint8_t raw[1024];
            const uint32_t length = ws_load_be32(l + 8);
            if (memcmp(l, codes[k], 4) != 0 || length == 0 || length > sizeof raw) continue;
            if (!ws_inside(ws_load_be64(l + 16), length, c->file->size))
                return container_damaged(c, error, "the name of what it builds on lies outside the file");
            WS_TRY(ws_source_read(c->file, ws_load_be64(l + 16), raw, length, error));
            for (size_t u = 0; u < length / 2; u++) units[u] = ws_load_le16(raw + 2 * u);
            ws_utf8_from_utf16(units, length / 2, name, 1024);
        }
    if (name[0]) return WS_OK;
    uint16_t units[256]; /* "Parent Unicode Name", UTF-16BE */
    size_t count = 0;
    for (; count < 256; count++) {
        units[count] = ws_load_be16(h + 64 + 2 * count);
        if (!units[count]) break;
    }
    ws_utf8_from_utf16(units, count, name, 1024);
    return name[0] ? WS_OK : container_damaged(c, error, "it does not say what it builds on");
}

static void close_vhd(struct container *c) {
    struct vhd *v = c->format;
    if (v) free(v->table);
    free(v);
}

static enum ws_status open_blocks(struct container *c, uint64_t head_at, const struct ws_container_files *files,
                                  unsigned depth, struct ws_error *error) {
    uint8_t h[HEAD];
    char base[1024];
    struct vhd *v = c->format;
    if (!ws_inside(head_at, HEAD, c->file->size))
        return container_damaged(c, error, "its second head lies outside the file");
    WS_TRY(ws_source_read(c->file, head_at, h, HEAD, error));
    if (memcmp(h, "cxsparse", 8) != 0 || ws_load_be32(h + 36) != sum_of(h, HEAD, 36))
        return container_damaged(c, error, "its second head has a wrong checksum");
    v->entries = ws_load_be32(h + 28);
    v->block = ws_load_be32(h + 32);
    if (v->block < SECTOR || v->block > CONTAINER_UNIT_MOST || (v->block & (v->block - 1)))
        return container_damaged(c, error, "blocks of %u bytes are impossible", v->block);
    v->bitmap = (uint32_t)ws_round_up(ws_div_up(v->block / SECTOR, 8), SECTOR);
    c->facts.unit = v->block;
    if (v->entries < ws_div_up(c->facts.size, v->block))
        return container_damaged(c, error, "its table does not reach to its end");
    v->entries = (uint32_t)ws_div_up(c->facts.size, v->block);
    WS_TRY(
        container_load(c, ws_load_be64(h + 16), (uint64_t)v->entries * 4, TABLE_MOST, &v->table, "its table", error));
    if (!v->differencing) return WS_OK;
    WS_TRY(take_base(c, h, base, error));
    WS_TRY(container_base(c, files, base, false, depth, error));
    return WS_OK;
}

static enum ws_status open(struct container *c, const struct ws_container_files *files, unsigned depth,
                           struct ws_error *error) {
    uint8_t f[SECTOR];
    bool at_front;
    (void)find_footer(c->file, f, &at_front);
    const uint32_t type = ws_load_be32(f + 60);
    c->facts.size = ws_load_be64(f + 48) / SECTOR * SECTOR;
    (void)snprintf(c->facts.variant, sizeof c->facts.variant, "%s",
                   type == FIXED          ? "fixed"
                   : type == DYNAMIC      ? "dynamic"
                   : type == DIFFERENCING ? "differencing"
                                          : "unknown");
    c->facts.unclean = at_front; /* the footer behind all is written last */
    if (ws_load_be32(f + 12) >> 16 != 1 || type < FIXED || type > DIFFERENCING)
        return ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk is a VHD of a kind that is not known here");
    if (c->facts.size > container_size_most)
        return container_damaged(c, error, "a drive of %llu bytes is impossible", (unsigned long long)c->facts.size);
    if (type == FIXED) {
        c->map = map_fixed;
        return c->facts.size <= c->file->size ? WS_OK : container_damaged(c, error, "it is cut short");
    }
    struct vhd *v = calloc(1, sizeof *v);
    if (!v) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    v->differencing = type == DIFFERENCING;
    c->format = v;
    c->map = map;
    c->close = close_vhd;
    return open_blocks(c, ws_load_be64(f + 16), files, depth, error);
}

const struct container_format container_vhd = {"vhd", is, open};
