/* qcow2.c — qcow2, versions 2 and 3 (QEMU, docs/interop/qcow2.rst): two levels of tables lead to clusters. */
#include "container/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { HEAD = 112, L1_MOST = 32 << 20, BATCH = 64 };
static const uint32_t ext_base_format = 0xe2792aca, ext_data_file = 0x44415441;
enum { DIRTY = 1, CORRUPT = 2, DATA_FILE = 4, PACKING = 8, WIDE = 16 }; /* incompatible features */
static const uint64_t offset_mask = 0x00fffffffffffe00ull, is_packed = 1ull << 62, reads_zero = 1;

struct qcow2 {
    unsigned cluster_bits, l2_bits; /* entries of a table on the second level, as a power of two */
    size_t entry;                   /* bytes of one: 8, or 16 with subclusters */
    uint8_t *l1;
    uint64_t l1_entries;
    const struct ws_source *data; /* where clusters are: this file, or a plain one beside */
    enum packing packing;
};

static bool is(const struct ws_source *file) {
    uint8_t head[8];
    return file->size >= HEAD && ws_source_read(file, 0, head, sizeof head, NULL) == WS_OK &&
           memcmp(head, "QFI\xfb", 4) == 0 && ws_load_be32(head + 4) >= 2;
}

/* A compressed cluster: where it begins, and how many sectors it may take more ("Compressed Clusters Descriptor"). */
static void map_packed(const struct container *c, uint64_t entry, uint64_t at, struct mapped *m) {
    const struct qcow2 *q = c->format;
    const unsigned x = 62 - (q->cluster_bits - 8);
    const uint64_t sectors = ((entry >> x) & ((1ull << (q->cluster_bits - 8)) - 1)) + 1;
    m->kind = MAP_PACKED;
    m->at = entry & ((1ull << x) - 1);
    m->file = c->file;
    m->packed = (uint32_t)(sectors * 512 - (m->at & 511));
    m->unit = 1u << q->cluster_bits;
    m->begin = at & ~((uint64_t)m->unit - 1);
    m->packing = q->packing;
}

/* The bitmap of a cluster's 32 parts: the lower half says which are there, the upper which read as zeros. */
static void map_part(const struct qcow2 *q, uint64_t bitmap, uint64_t cluster_at, uint64_t at, struct mapped *m) {
    const uint64_t part = 1ull << (q->cluster_bits - 5);
    const unsigned n = (unsigned)((at & ((1ull << q->cluster_bits) - 1)) / part);
    const bool zero = bitmap >> (32 + n) & 1, there = bitmap >> n & 1;
    m->length = part - at % part;
    m->kind = zero ? MAP_ZERO : there ? MAP_FILE : MAP_BASE;
    m->file = q->data;
    m->at = cluster_at + (at & ((1ull << q->cluster_bits) - 1));
}

static enum ws_status map_entry(const struct container *c, const uint8_t *raw, uint64_t at, struct mapped *m,
                                struct ws_error *error) {
    const struct qcow2 *q = c->format;
    const uint64_t cluster = 1ull << q->cluster_bits, entry = ws_load_be64(raw), inside = at & (cluster - 1);
    m->length = cluster - inside;
    if (entry & is_packed) {
        map_packed(c, entry, at, m);
        return WS_OK;
    }
    const uint64_t begin = entry & offset_mask;
    if (begin & (cluster - 1)) return container_damaged(c, error, "a cluster begins inside another one");
    if (q->entry == 16) {
        map_part(q, ws_load_be64(raw + 8), begin, at, m);
        return WS_OK;
    }
    const bool nowhere = begin == 0 && q->data == c->file;
    m->kind = entry & reads_zero ? MAP_ZERO : nowhere ? MAP_BASE : MAP_FILE;
    if (q->data != c->file && !(entry >> 63) && begin == 0) m->kind = MAP_BASE; /* of a data file 0 is a place, too */
    m->file = q->data;
    m->at = begin + inside;
    return WS_OK;
}

/* Clusters that follow each other in the file as they do on the drive are one. */
static bool goes_on(const struct mapped *m, const struct mapped *next) {
    if (m->kind != next->kind || m->kind == MAP_PACKED) return false;
    return m->kind != MAP_FILE || m->at + m->length == next->at;
}

static enum ws_status map(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error) {
    const struct qcow2 *q = c->format;
    const uint64_t cluster = 1ull << q->cluster_bits, wanted = m->length;
    const uint64_t l1 = at >> (q->cluster_bits + q->l2_bits);
    const uint64_t l2_at = l1 < q->l1_entries ? ws_load_be64(q->l1 + l1 * 8) & offset_mask : 0;
    const uint64_t index = at >> q->cluster_bits & ((1ull << q->l2_bits) - 1);
    uint8_t raw[BATCH * 16];
    if (l2_at == 0) {
        m->kind = MAP_BASE;
        m->length = ((l1 + 1) << (q->cluster_bits + q->l2_bits)) - at;
        return WS_OK;
    }
    if (l2_at & (cluster - 1) || !ws_inside(l2_at, cluster, c->file->size))
        return container_damaged(c, error, "a table lies outside the file");
    uint64_t count = ws_min_u64(BATCH, (1ull << q->l2_bits) - index);
    count = ws_min_u64(count, ws_div_up((at & (cluster - 1)) + wanted, cluster));
    WS_TRY(ws_source_read(c->file, l2_at + index * q->entry, raw, (size_t)count * q->entry, error));
    WS_TRY(map_entry(c, raw, at, m, error));
    for (uint64_t i = 1; i < count && m->length < wanted; i++) {
        struct mapped next = {.length = 0};
        const uint64_t next_at = at + m->length;
        if (next_at & (cluster - 1)) break; /* inside one, parts differ */
        WS_TRY(map_entry(c, raw + i * q->entry, next_at, &next, error));
        if (!goes_on(m, &next)) break;
        m->length += next.length;
    }
    return WS_OK;
}

static enum ws_status take_head(struct container *c, const uint8_t *h, struct ws_error *error) {
    struct qcow2 *q = c->format;
    const uint32_t version = ws_load_be32(h + 4), cipher = ws_load_be32(h + 32);
    const uint64_t features = version >= 3 ? ws_load_be64(h + 72) : 0;
    if (version > 3) return ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk is of qcow2 version %u", version);
    q->cluster_bits = ws_load_be32(h + 20);
    c->facts.size = ws_load_be64(h + 24);
    (void)snprintf(c->facts.variant, sizeof c->facts.variant, "version %u", version);
    if (q->cluster_bits < 9 || q->cluster_bits > 21)
        return container_damaged(c, error, "clusters of 2^%u bytes are impossible", q->cluster_bits);
    if (c->facts.size > container_size_most)
        return container_damaged(c, error, "a drive of %llu bytes is impossible", (unsigned long long)c->facts.size);
    c->facts.unit = 1u << q->cluster_bits;
    if (cipher) return ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk is enciphered");
    if (features & CORRUPT) return container_damaged(c, error, "it says so itself");
    if (features & ~(uint64_t)(DIRTY | DATA_FILE | PACKING | WIDE))
        return ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk needs a feature that is not known here");
    c->facts.unclean = features & DIRTY; /* of its counts of uses, which nobody needs who reads */
    q->entry = features & WIDE ? 16 : 8;
    if (q->entry == 16 && q->cluster_bits < 14)
        return container_damaged(c, error, "clusters of 2^%u bytes have no parts", q->cluster_bits);
    q->l2_bits = q->cluster_bits - (q->entry == 16 ? 4 : 3);
    const uint8_t packing = features & PACKING && ws_load_be32(h + 100) > 104 ? h[104] : 0;
    if (packing > 1) return ws_fail(error, WS_E_UNSUPPORTED, "its units are packed in a way that is not known here");
    q->packing = packing ? PACKED_ZSTD : PACKED_DEFLATE;
    c->facts.packed = true;
    return WS_OK;
}

/* "Header extensions": a name each of the data file, and of the kind of what it builds on. */
static enum ws_status take_extensions(struct container *c, uint64_t at, char data[1024], bool *raw,
                                      struct ws_error *error) {
    const struct qcow2 *q = c->format;
    for (unsigned i = 0; i < 64; i++) {
        uint8_t head[8];
        char text[1024] = "";
        if (!ws_inside(at, sizeof head, ws_min_u64(c->file->size, 1u << q->cluster_bits))) return WS_OK;
        WS_TRY(ws_source_read(c->file, at, head, sizeof head, error));
        const uint32_t kind = ws_load_be32(head), length = ws_load_be32(head + 4);
        if (kind == 0) return WS_OK;
        if (!ws_inside(at + 8, length, c->file->size))
            return container_damaged(c, error, "a part of its head has an impossible length");
        if (kind == ext_data_file || kind == ext_base_format) {
            if (length >= sizeof text) return container_damaged(c, error, "a name in its head is too long");
            WS_TRY(ws_source_read(c->file, at + 8, text, length, error));
        }
        if (kind == ext_data_file) memcpy(data, text, sizeof text);
        if (kind == ext_base_format) *raw = strcmp(text, "raw") == 0;
        at += 8 + ws_round_up(length, 8);
    }
    return WS_OK;
}

static void close_qcow2(struct container *c) {
    struct qcow2 *q = c->format;
    if (q) free(q->l1);
    free(q);
}

static enum ws_status open(struct container *c, const struct ws_container_files *files, unsigned depth,
                           struct ws_error *error) {
    uint8_t h[HEAD] = {0};
    char data[1024] = "", base[1024] = "";
    bool raw = false;
    struct qcow2 *q = calloc(1, sizeof *q);
    if (!q) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    c->format = q;
    c->map = map;
    c->close = close_qcow2;
    WS_TRY(ws_source_read(c->file, 0, h, sizeof h, error));
    const uint32_t version = ws_load_be32(h + 4);
    WS_TRY(take_head(c, h, error));
    WS_TRY(take_extensions(c, version >= 3 ? ws_load_be32(h + 100) : 72, data, &raw, error));
    const uint64_t reach = 1ull << (q->cluster_bits + q->l2_bits);
    q->l1_entries = ws_load_be32(h + 36);
    if (q->l1_entries < ws_div_up(c->facts.size, reach))
        return container_damaged(c, error, "its first table does not reach to its end");
    q->l1_entries = ws_div_up(c->facts.size, reach);
    WS_TRY(container_load(c, ws_load_be64(h + 40), q->l1_entries * 8, L1_MOST, &q->l1, "its first table", error));
    q->data = c->file;
    if (version >= 3 && ws_load_be64(h + 72) & DATA_FILE) {
        struct ws_source *file = NULL;
        WS_TRY(container_other(c, files, data, &file, error));
        q->data = file;
    }
    const uint32_t length = ws_load_be32(h + 16);
    if (ws_load_be64(h + 8) == 0) return WS_OK;
    if (length == 0 || length >= sizeof base || !ws_inside(ws_load_be64(h + 8), length, c->file->size))
        return container_damaged(c, error, "the name of what it builds on is impossible");
    WS_TRY(ws_source_read(c->file, ws_load_be64(h + 8), base, length, error));
    return container_base(c, files, base, raw, depth, error);
}

const struct container_format container_qcow2 = {"qcow2", is, open};
