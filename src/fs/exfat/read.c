/* read.c — any exFAT volume into a tree. */
#include "fs/exfat/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { DEPTH_MOST = 64, NODES_MOST = 2000000, FOLDER_MOST = 256 << 20 };

struct reading {
    const struct ws_source *source;
    struct exfat_shape s;
    struct ws_exfat_facts facts;
    struct ws_tree *tree; /* NULL: only the root's own entries are wanted */
    uint8_t *owned;       /* a bit for each cluster that somebody has; NULL like the tree */
    uint32_t bitmap_cluster;
    uint64_t bitmap_bytes;
    bool in_one_piece;         /* the stream that was opened last */
    uint64_t spare, spare_end; /* the longest row of clusters that nothing has, and the first behind it, from 0 on */
};

static enum ws_status damaged(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the exFAT volume is damaged: %s", what);
    return ws_fail_next(error, "let a file system checker look at it");
}

static enum ws_status parse_boot(struct reading *r, struct ws_error *error) { /* section 3.1 */
    uint8_t b[512];
    struct exfat_shape *s = &r->s;
    if (r->source->size < WS_EXFAT_LEAST || ws_source_read(r->source, 0, b, sizeof b, error) != WS_OK ||
        memcmp(b + 3, "EXFAT   ", 8) != 0 || b[510] != 0x55 || b[511] != 0xaa)
        return ws_fail(error, WS_E_NOTFOUND, "there is no exFAT volume here");
    if (b[108] < 9 || b[108] > 12 || b[109] > 25 - b[108])
        return damaged(error, "its sector or cluster size is not possible");
    s->sector = 1u << b[108];
    s->cluster = s->sector << b[109];
    s->sectors = ws_load_le64(b + 72);
    if (s->sectors > r->source->size / s->sector) return damaged(error, "it is longer than the place it stands in");
    s->fat_at = ws_load_le32(b + 80);
    s->fat_sectors = ws_load_le32(b + 84);
    s->heap_at = ws_load_le32(b + 88);
    s->clusters = ws_load_le32(b + 92);
    s->root = ws_load_le32(b + 96);
    if (s->clusters == 0 || s->clusters > EXFAT_CLUSTERS_MOST || s->heap_at > s->sectors ||
        s->clusters > (s->sectors - s->heap_at) * s->sector / s->cluster)
        return damaged(error, "its clusters reach behind its end");
    if (s->fat_at < 24 || s->fat_at + s->fat_sectors > s->heap_at || s->fat_sectors * (s->sector / 4) < s->clusters + 2)
        return damaged(error, "its allocation table is not possible");
    uint16_t flags = ws_load_le16(b + 106);
    r->facts.serial = ws_load_le32(b + 100);
    r->facts.size = s->sectors * s->sector;
    r->facts.cluster = s->cluster;
    r->facts.clean = !(flags & 2);
    r->facts.sound = !(flags & 4);
    return WS_OK;
}

static bool is_cluster(const struct reading *r, uint32_t cluster) {
    return cluster >= 2 && cluster - 2 < r->s.clusters;
}

static uint64_t place_of(const struct reading *r, uint32_t cluster) {
    return r->s.heap_at * r->s.sector + (uint64_t)(cluster - 2) * r->s.cluster;
}

/* Clusters belong to one stream: those that share some would let a small volume hold any number of large files. */
static enum ws_status own(struct reading *r, uint32_t first, uint64_t count, struct ws_error *error) {
    for (uint64_t c = first; r->owned && c < first + count; c++) {
        uint8_t bit = (uint8_t)(1u << (c & 7));
        if (r->owned[c >> 3] & bit) return damaged(error, "a cluster belongs to two files, or twice to one");
        r->owned[c >> 3] |= bit;
    }
    return WS_OK;
}

/* What a stream's clusters hold: contiguous, or along the table. `size` UINT64_MAX: as long as the chain is. */
static enum ws_status open_stream(struct reading *r, uint32_t first, bool contiguous, uint64_t size,
                                  struct ws_source **content, struct ws_error *error) {
    struct ws_run *runs = NULL;
    size_t count = 0, room = 0;
    uint64_t length = 0;
    enum ws_status status = WS_OK;
    r->in_one_piece = contiguous;
    if (!r->s.cluster) return damaged(error, "it says no size of its clusters");
    if (contiguous) {
        if (!is_cluster(r, first) || size > (r->s.clusters - (first - 2)) * r->s.cluster)
            return damaged(error, "a file's clusters leave the volume");
        WS_TRY(own(r, first, ws_div_up(size, r->s.cluster), error));
        return ws_source_slice(r->source, place_of(r, first), size, content, error);
    }
    for (uint32_t c = first; c != EXFAT_END && length < size;) {
        uint8_t next[4];
        if (!is_cluster(r, c)) WS_GO(damaged(error, "a chain of clusters leaves the volume"));
        if (length / r->s.cluster >= r->s.clusters) WS_GO(damaged(error, "a chain of clusters never ends"));
        WS_GO(own(r, c, 1, error));
        if (count && runs[count - 1].at + runs[count - 1].length == place_of(r, c)) {
            runs[count - 1].length += r->s.cluster;
        } else {
            if (count == room) {
                room = room ? room * 2 : 4;
                struct ws_run *grown = realloc(runs, room * sizeof *grown);
                if (!grown) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a file in pieces"));
                runs = grown;
            }
            runs[count++] = (struct ws_run){r->s.cluster, place_of(r, c)};
        }
        length += r->s.cluster;
        WS_GO(ws_source_read(r->source, r->s.fat_at * r->s.sector + 4ull * c, next, 4, error));
        c = ws_load_le32(next);
    }
    if (size == UINT64_MAX) size = length;
    if (length < size) WS_GO(damaged(error, "a file is longer than its chain of clusters"));
    r->in_one_piece = count == 1;
    status = ws_source_runs(r->source, runs, count, size, content, error);
done:
    free(runs);
    return status;
}

static int64_t load_time(const uint8_t *stamp, uint8_t hundredths, uint8_t zone, uint32_t *ns) {
    int64_t seconds = ws_time_of_dos(ws_load_le32(stamp));
    if (seconds == 0) return 0;
    if (zone & 0x80) seconds -= (int64_t)((zone & 0x40) ? (int)(zone & 0x7f) - 128 : (int)(zone & 0x7f)) * 900;
    if (hundredths < 200) {
        seconds += hundredths / 100;
        *ns = hundredths % 100 * 10000000u;
    }
    return seconds;
}

static enum ws_status add_node(struct reading *r, struct ws_node *folder, const uint8_t *set, size_t entries,
                               struct ws_error *error) {
    const uint8_t *s = set + EXFAT_ENTRY;
    uint16_t units[256];
    char name[1024];
    size_t count = s[3];
    struct ws_node *node = NULL;
    uint16_t attributes = ws_load_le16(set + 4);
    bool is_folder = attributes & 0x10;
    uint64_t valid = ws_load_le64(s + 8);
    uint64_t size = ws_load_le64(s + 24);
    uint32_t first = ws_load_le32(s + 20);
    struct ws_source *content = NULL;
    if (count == 0 || ws_div_up(count, 15) > entries - 2) return damaged(error, "a file has no name, or half of one");
    for (size_t i = 0; i < count; i++) {
        const uint8_t *e = set + EXFAT_ENTRY * (2 + i / 15);
        if (e[0] != ENTRY_NAME) return damaged(error, "a file has no name, or half of one");
        units[i] = ws_load_le16(e + 2 + 2 * (i % 15));
    }
    (void)ws_utf8_from_utf16(units, count, name, sizeof name);
    enum ws_status status = ws_tree_add(r->tree, folder, name, is_folder ? WS_NODE_FOLDER : WS_NODE_FILE, &node, error);
    if (status == WS_E_RANGE) return damaged(error, "a file name is impossible");
    WS_TRY(status);
    if (ws_tree_count(r->tree) > NODES_MOST) return damaged(error, "it lists more files than can be");
    fat_take_attributes(node, (uint8_t)attributes);
    uint32_t unused;
    node->mtime = load_time(set + 12, set[21], set[23], &node->mtime_ns);
    node->born = load_time(set + 8, set[20], set[22], &unused);
    if (is_folder) {
        node->work = first;
        node->work2 = size << 1 | (s[1] & 2 ? 1 : 0);
        return size > FOLDER_MOST ? damaged(error, "a folder is impossibly long") : WS_OK;
    }
    if (valid > size) return damaged(error, "a file has more valid bytes than it has");
    if (size == 0) return WS_OK;
    WS_TRY(open_stream(r, first, s[1] & 2, size, &content, error));
    node->work = r->in_one_piece ? place_of(r, first) : 0;
    status = ws_tree_own(r->tree, content, error);
    if (status == WS_OK && valid < size) { /* what was never written reads as zeros (section 7.6.5) */
        struct ws_run runs[2] = {{valid, 0}, {size - valid, WS_RUN_HOLE}};
        struct ws_source *whole = NULL;
        WS_TRY(ws_source_runs(content, valid ? runs : runs + 1, valid ? 2 : 1, size, &whole, error));
        WS_TRY(ws_tree_own(r->tree, whole, error));
        content = whole;
    }
    node->content = content;
    return status;
}

static void take_label(struct reading *r, const uint8_t *e) {
    uint16_t units[11];
    size_t count = e[1] < 11 ? e[1] : 11;
    for (size_t i = 0; i < count; i++) units[i] = ws_load_le16(e + 2 + 2 * i);
    (void)ws_utf8_from_utf16(units, count, r->facts.label, sizeof r->facts.label);
}

/* A folder's entries, one set after the other; `root` also takes the volume's own. */
static enum ws_status read_folder(struct reading *r, const struct ws_source *bytes, struct ws_node *folder,
                                  struct ws_error *error) {
    uint8_t set[EXFAT_ENTRY * 20];
    for (uint64_t at = 0; at + EXFAT_ENTRY <= bytes->size; at += EXFAT_ENTRY) {
        WS_TRY(ws_source_read(bytes, at, set, EXFAT_ENTRY, error));
        if (set[0] == 0) break; /* section 6.2.1: nothing behind it */
        if (!folder || !folder->parent) {
            if (set[0] == ENTRY_LABEL) take_label(r, set);
            if (set[0] == ENTRY_BITMAP && !(set[1] & 1)) {
                r->bitmap_cluster = ws_load_le32(set + 20);
                r->bitmap_bytes = ws_load_le64(set + 24);
            }
        }
        if (set[0] != ENTRY_FILE) continue;
        size_t entries = 1u + set[1];
        if (entries < 3 || entries > 19) return damaged(error, "a file has an impossible number of entries");
        if (bytes->size - at < entries * EXFAT_ENTRY) return damaged(error, "a folder ends in the middle of a file");
        WS_TRY(ws_source_read(bytes, at, set, entries * EXFAT_ENTRY, error));
        if (set[EXFAT_ENTRY] != ENTRY_STREAM || exfat_set_checksum(set, entries * EXFAT_ENTRY) != ws_load_le16(set + 2))
            return damaged(error, "the checksum of a file's entries is wrong");
        if (r->tree && folder) WS_TRY(add_node(r, folder, set, entries, error));
        at += (entries - 1) * EXFAT_ENTRY;
    }
    return WS_OK;
}

static enum ws_status read_root(struct reading *r, struct ws_node *node, struct ws_error *error) {
    struct ws_source *bytes = NULL;
    WS_TRY(open_stream(r, r->s.root, false, UINT64_MAX, &bytes, error));
    enum ws_status status = bytes->size > FOLDER_MOST ? damaged(error, "its root folder is impossibly long")
                                                      : read_folder(r, bytes, node, error);
    ws_source_close(bytes);
    return status;
}

static enum ws_status count_free(struct reading *r, struct ws_error *error) {
    uint8_t part[65536];
    struct ws_source *bits = NULL;
    uint64_t used = 0, row = 0;
    if (!r->bitmap_cluster || r->bitmap_bytes < ws_div_up(r->s.clusters, 8))
        return damaged(error, "it has no allocation bitmap, or one that is too short");
    uint64_t bytes = ws_div_up(r->s.clusters, 8);
    WS_TRY(open_stream(r, r->bitmap_cluster, false, bytes, &bits, error));
    enum ws_status status = WS_OK;
    for (uint64_t at = 0; at < bytes && status == WS_OK; at += sizeof part) {
        size_t length = (size_t)ws_min_u64(sizeof part, bytes - at);
        status = ws_source_read(bits, at, part, length, error);
        for (size_t i = 0; i < length && status == WS_OK; i++)
            for (unsigned k = 0; k < 8 && (at + i) * 8 + k < r->s.clusters; k++) {
                const bool taken = (part[i] >> k) & 1;
                used += taken;
                row = taken ? 0 : row + 1;
                if (row <= r->spare) continue;
                r->spare = row;
                r->spare_end = (at + i) * 8 + k + 1;
            }
    }
    ws_source_close(bits);
    r->facts.free_bytes = (r->s.clusters - used) * r->s.cluster;
    return status;
}

enum ws_status ws_exfat_probe(const struct ws_source *volume, struct ws_exfat_facts *facts, struct ws_error *error) {
    struct reading r = {.source = volume};
    WS_TRY(parse_boot(&r, error));
    WS_TRY(read_root(&r, NULL, error));
    WS_TRY(count_free(&r, error));
    *facts = r.facts;
    return WS_OK;
}

static enum ws_status read_below(struct reading *r, struct ws_node *n, struct ws_error *error) {
    struct ws_source *bytes = NULL;
    unsigned depth = 0;
    uint64_t size = n->work2 >> 1;
    for (const struct ws_node *up = n->parent; up; up = up->parent) {
        depth++;
        if (up->parent && up->work == n->work && size) return damaged(error, "its folders go round in a circle");
    }
    if (depth > DEPTH_MOST) return damaged(error, "its folders are nested too deeply");
    if (size == 0) return WS_OK;
    WS_TRY(open_stream(r, (uint32_t)n->work, n->work2 & 1, size, &bytes, error));
    enum ws_status status = read_folder(r, bytes, n, error);
    ws_source_close(bytes);
    return status;
}

enum ws_status ws_exfat_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_exfat_facts *facts,
                             struct ws_error *error) {
    struct reading r = {.source = volume};
    enum ws_status status;
    WS_TRY(parse_boot(&r, error));
    WS_TRY(ws_tree_create(&r.tree, error));
    r.owned = calloc(1, (size_t)(r.s.clusters / 8 + 2));
    if (!r.owned) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for an exFAT volume's clusters"));
    struct ws_node *root = ws_tree_root(r.tree);
    WS_GO(read_root(&r, root, error));
    for (struct ws_node *n = ws_tree_next(root); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_GO(read_below(&r, n, error));
    WS_GO(count_free(&r, error));
    if (facts) *facts = r.facts;
done:
    free(r.owned);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}

enum ws_status ws_exfat_spare(const struct ws_source *volume, uint64_t *at, uint64_t *length, struct ws_error *error) {
    struct reading r = {.source = volume};
    *at = *length = 0;
    WS_TRY(parse_boot(&r, error));
    WS_TRY(read_root(&r, NULL, error));
    WS_TRY(count_free(&r, error));
    *at = r.s.heap_at * r.s.sector + (r.spare_end - r.spare) * r.s.cluster;
    *length = r.spare * r.s.cluster;
    return WS_OK;
}
