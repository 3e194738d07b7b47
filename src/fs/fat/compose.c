/* compose.c — a FAT volume from a tree: every file in one piece, folders before files. */
#include "fs/around.h"
#include "fs/fat/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FOLDER_ENTRIES_MOST = 65536 }; /* a folder has at most 2 MiB (section 6) */

struct composing {
    const struct ws_fat_params *params;
    struct ws_tree *tree;
    struct fat_shape s;
    struct around clusters;
};

size_t fat_long_pieces(const char *name) {
    uint8_t short_form[11];
    uint16_t units[256];
    return fat_plain_short(name, short_form) ? 0 : ws_div_up(ws_utf16_from_utf8(name, units, 255), 13);
}

static uint64_t folder_entries(const struct ws_node *folder, const struct ws_fat_params *p) {
    uint64_t count = folder->parent ? 2 : p->label[0] ? 1 : 0;
    for (const struct ws_node *n = folder->first; n; n = n->next) count += 1 + fat_long_pieces(n->name);
    return count;
}

static uint64_t clusters_of(const struct composing *c, const struct ws_node *n) {
    if (n->kind == WS_NODE_FILE) return ws_div_up(ws_node_size(n), c->s.cluster);
    if (!n->parent && c->s.bits != 32) return 0;
    uint64_t clusters = ws_div_up(folder_entries(n, c->params) * 32, c->s.cluster);
    return clusters ? clusters : 1;
}

/* Shape for a size; false if this kind of FAT does not go with so many clusters. */
static bool shape_for(struct composing *c, uint64_t size, unsigned bits, uint32_t cluster) {
    struct fat_shape *s = &c->s;
    memset(s, 0, sizeof *s);
    s->bits = bits;
    s->sector = c->params->sector ? c->params->sector : FAT_SECTOR_USUAL;
    s->cluster = cluster;
    s->sectors = size / s->sector;
    s->fats = 2;
    s->reserved = bits == 32 ? 32 : 4;
    s->root_entries =
        bits == 32 ? 0 : ws_round_up(ws_max_u64(folder_entries(ws_tree_root(c->tree), c->params), 512), s->sector / 32);
    s->root_cluster = bits == 32 ? 2 : 0;
    /* The table's length depends on the clusters, which depend on it: the first guess is large enough. */
    uint64_t before = s->reserved + s->root_entries * 32 / s->sector;
    uint64_t guess = (s->sectors > before ? s->sectors - before : 0) * s->sector / cluster + 2;
    s->fat_sectors = ws_div_up(ws_div_up(guess * bits, 8), s->sector);
    uint64_t hidden = c->params->hidden_sectors * s->sector;
    if (bits == 32 && c->params->align) /* more reserved sectors push the first cluster to its place */
        s->reserved += (ws_round_up(hidden + fat_data_at(s), c->params->align) - hidden - fat_data_at(s)) / s->sector;
    if (fat_data_at(s) >= size || s->reserved > 65535) return false;
    s->clusters = (s->sectors * s->sector - fat_data_at(s)) / cluster;
    return bits == 12   ? s->clusters < 4085
           : bits == 16 ? s->clusters >= 4085 && s->clusters < 65525
                        : s->clusters >= 65525 && s->clusters < 0x0ffffff0;
}

static uint32_t usual_cluster(uint64_t size, unsigned bits) {
    if (bits == 32 && size < (260ull << 20)) return 512;
    return size < (4ull << 20)     ? 512
           : size < (256ull << 20) ? 2048
           : size <= (8ull << 30)  ? 4096
           : size <= (16ull << 30) ? 8192
           : size <= (32ull << 30) ? 16384
                                   : 32768;
}

static bool choose_shape(struct composing *c, uint64_t size) {
    unsigned asked = c->params->bits;
    uint32_t cluster = c->params->cluster;
    uint32_t most = cluster ? cluster : 65536;
    if (!cluster) cluster = (uint32_t)ws_max_u64(usual_cluster(size, asked), c->params->sector);
    for (; cluster <= most; cluster *= 2)
        for (unsigned bits = 12; bits <= 32; bits += bits == 12 ? 4 : 16)
            if ((!asked || bits == asked) && shape_for(c, size, bits, cluster)) return true;
    return false;
}

static enum ws_status place(struct composing *c, struct ws_error *error) {
    if (!around_begin(&c->clusters, c->tree, fat_data_at(&c->s), c->s.cluster, 0))
        return ws_fail(error, WS_E_UNSUPPORTED, "a file is to stay where the FAT volume has no place for it");
    for (struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        char path[200];
        if ((n->kind != WS_NODE_FOLDER && n->kind != WS_NODE_FILE) || n->same_as) {
            ws_fail(error, WS_E_UNSUPPORTED, "a FAT volume has no links and no devices");
            return ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
        }
        const char *why = n->parent ? ws_name_fault(ws_name_rules_fat(), n->name) : NULL;
        const struct ws_node *one, *other;
        if (why) {
            ws_fail(error, WS_E_UNSUPPORTED, "FAT cannot hold this name: %s", why);
            return ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
        }
        if (n->kind == WS_NODE_FOLDER && ws_names_collide(n, &one, &other, error)) {
            if (one == n) return WS_E_NOMEM;
            ws_fail(error, WS_E_UNSUPPORTED, "FAT cannot hold two names that differ only in their letters' case");
            return ws_fail_where(error, "%s", ws_node_path(other, path, sizeof path));
        }
        if (n->kind == WS_NODE_FOLDER && folder_entries(n, c->params) > FOLDER_ENTRIES_MOST) {
            ws_fail(error, WS_E_UNSUPPORTED,
                    "a FAT folder has room for %d entries, and long names take several each: %u "
                    "names need %llu",
                    (int)FOLDER_ENTRIES_MOST, n->children, (unsigned long long)folder_entries(n, c->params));
            ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
            return ws_fail_next(error, "put them into several folders, or on exFAT");
        }
        if (ws_node_size(n) > 0xffffffff) {
            ws_fail(error, WS_E_UNSUPPORTED, "a FAT volume holds no file of 4 GiB or more");
            return ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
        }
        n->work2 = clusters_of(c, n);
        n->work = n->work2 ? around_take(&c->clusters, n, n->work2) : 0;
    }
    if (c->s.bits == 32) c->s.root_cluster = (uint32_t)ws_tree_root(c->tree)->work;
    return WS_OK;
}

static void store_time(uint8_t *e, int64_t seconds) {
    uint32_t stamp = ws_dos_time(seconds);
    ws_store_le16(e + 14, (uint16_t)stamp);
    ws_store_le16(e + 16, (uint16_t)(stamp >> 16));
    ws_store_le16(e + 18, (uint16_t)(stamp >> 16));
    ws_store_le16(e + 22, (uint16_t)stamp);
    ws_store_le16(e + 24, (uint16_t)(stamp >> 16));
}

static void store_born(uint8_t *e, int64_t seconds) {
    uint32_t stamp = ws_dos_time(seconds);
    ws_store_le16(e + 14, (uint16_t)stamp);
    ws_store_le16(e + 16, (uint16_t)(stamp >> 16));
}

void fat_record(uint8_t e[32], const uint8_t name[11], uint8_t attributes, uint64_t cluster, uint64_t size,
                int64_t time) {
    memset(e, 0, 32);
    memcpy(e, name, 11);
    e[11] = attributes;
    store_time(e, time);
    ws_store_le16(e + 20, (uint16_t)(cluster >> 16));
    ws_store_le16(e + 26, (uint16_t)cluster);
    ws_store_le32(e + 28, (uint32_t)size);
}

static void add_entry(struct ws_text *out, const uint8_t name[11], uint8_t attributes, uint64_t cluster, uint64_t size,
                      int64_t time) {
    uint8_t e[32];
    fat_record(e, name, attributes, cluster, size, time);
    ws_text_add(out, e, 32);
}

void fat_add_long(struct ws_text *out, const char *name, const uint8_t short_form[11], size_t pieces) {
    uint16_t units[21 * 13];
    size_t count = ws_utf16_from_utf8(name, units, 255);
    for (size_t i = count; i < pieces * 13; i++) units[i] = i == count ? 0 : 0xffff;
    for (size_t piece = pieces; piece > 0; piece--) {
        static const uint8_t places[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
        uint8_t e[32] = {0};
        e[0] = (uint8_t)(piece | (piece == pieces ? 0x40 : 0));
        e[11] = 0x0f;
        e[13] = fat_name_sum(short_form);
        for (int i = 0; i < 13; i++) ws_store_le16(e + places[i], units[(piece - 1) * 13 + (size_t)i]);
        ws_text_add(out, e, 32);
    }
}

static enum ws_status make_folder(const struct composing *c, const struct ws_node *folder, struct ws_text *out,
                                  struct ws_error *error) {
    uint8_t name[11];
    memset(name, ' ', 11);
    if (folder->parent) {
        name[0] = '.';
        add_entry(out, name, 16, folder->work, 0, folder->mtime);
        name[1] = '.';
        add_entry(out, name, 16, folder->parent->parent ? folder->parent->work : 0, 0, folder->parent->mtime);
    } else if (c->params->label[0]) {
        memcpy(name, c->params->label, strlen(c->params->label));
        add_entry(out, name, 8, 0, 0, c->params->made_at);
    }
    uint8_t(*names)[11] = NULL;
    size_t i = 0;
    WS_TRY(fat_short_names(folder, &names, error));
    for (const struct ws_node *n = folder->first; n; n = n->next, i++) {
        size_t pieces = fat_long_pieces(n->name);
        bool is_folder = n->kind == WS_NODE_FOLDER;
        if (pieces) fat_add_long(out, n->name, names[i], pieces);
        add_entry(out, names[i], fat_attributes_of(n), n->work, is_folder ? 0 : ws_node_size(n), n->mtime);
        if (n->born && !out->failed) store_born((uint8_t *)out->data + out->length - 32, n->born);
    }
    free(names);
    return ws_text_status(out, error);
}

void fat_set_entry(uint8_t *fat, unsigned bits, uint64_t cluster, uint32_t value) {
    if (bits == 32) {
        ws_store_le32(fat + 4 * cluster, value);
    } else if (bits == 16) {
        ws_store_le16(fat + 2 * cluster, (uint16_t)value);
    } else {
        uint8_t *p = fat + cluster + cluster / 2;
        uint16_t was = ws_load_le16(p);
        ws_store_le16(p, (uint16_t)(cluster & 1 ? (was & 0x000f) | value << 4 : (was & 0xf000) | (value & 0xfff)));
    }
}

static enum ws_status add_small_tables(const struct composing *c, uint64_t at, struct ws_layout *layout,
                                       struct ws_error *error) {
    size_t bytes = (size_t)(c->s.fat_sectors * c->s.sector);
    uint8_t *fat = calloc(1, bytes + 4);
    if (!fat) return ws_fail(error, WS_E_NOMEM, "out of memory for a FAT of %zu bytes", bytes);
    uint32_t end = fat_end_mark(c->s.bits);
    fat_set_entry(fat, c->s.bits, 0, end & (c->s.bits == 32 ? 0x0ffffff8 : 0xfffffff8));
    fat_set_entry(fat, c->s.bits, 1, end);
    for (const struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n))
        for (uint64_t i = 0; i < n->work2; i++)
            fat_set_entry(fat, c->s.bits, n->work + i, i + 1 < n->work2 ? (uint32_t)(n->work + i + 1) : end);
    enum ws_status status = WS_OK;
    for (uint64_t copy = 0; status == WS_OK && copy < c->s.fats; copy++)
        status = ws_layout_add_bytes(layout, at + (c->s.reserved + copy * c->s.fat_sectors) * c->s.sector, fat, bytes,
                                     WS_PHASE_BODY, error);
    free(fat);
    return status;
}

/* A FAT32's table, worked out as it is read: whatever its size, it takes 16 bytes a file. Everything is contiguous, so
 * each cluster points to the next but for the last of a file. */
struct chains {
    size_t count;
    struct {
        uint64_t first, last; /* clusters */
    } chain[];
};

static uint32_t entry_of(const struct chains *t, uint64_t cluster) {
    size_t low = 0;
    if (cluster == 0) return 0x0ffffff8;
    if (cluster == 1) return 0x0fffffff;
    for (size_t high = t->count; low < high;) {
        size_t middle = low + (high - low) / 2;
        if (t->chain[middle].last < cluster) low = middle + 1;
        else high = middle;
    }
    if (low == t->count || cluster < t->chain[low].first) return 0;
    return cluster == t->chain[low].last ? 0x0fffffff : (uint32_t)(cluster + 1);
}

/* Behind it all clusters are free. */
static uint64_t chains_end(const struct chains *t) { return t->count ? (t->chain[t->count - 1].last + 1) * 4 : 8; }

static enum ws_status chains_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                  struct ws_error *error) {
    const struct chains *t = source->state;
    uint8_t *out = buffer;
    (void)error;
    if (at >= chains_end(t)) {
        memset(buffer, 0, length);
        return WS_OK;
    }
    while (length > 0) {
        uint8_t entry[4];
        size_t skip = (size_t)(at % 4);
        size_t step = 4 - skip < length ? 4 - skip : length;
        ws_store_le32(entry, entry_of(t, at / 4));
        memcpy(out, entry + skip, step);
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static void chains_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    uint64_t end = chains_end(source->state);
    if (at >= end) piece->kind = WS_PIECE_HOLE;
    else piece->length = ws_min_u64(piece->length, end - at);
}

static void chains_close(struct ws_source *source) { free(source->state); }

static int by_place(const void *a, const void *b) {
    const uint64_t x = *(const uint64_t *)a, y = *(const uint64_t *)b; /* first clusters */
    return x < y ? -1 : x > y;
}

static enum ws_status add_tables(const struct composing *c, uint64_t at, struct ws_layout *layout,
                                 struct ws_error *error) {
    static const struct ws_source_ops ops = {chains_read, chains_close, chains_piece};
    struct ws_source *source = NULL;
    if (c->s.bits != 32) return add_small_tables(c, at, layout, error);
    struct chains *t = malloc(sizeof *t + ws_tree_count(c->tree) * sizeof t->chain[0]);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for a FAT of %zu files", ws_tree_count(c->tree));
    t->count = 0;
    for (const struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        if (!n->work2) continue;
        t->chain[t->count].first = n->work;
        t->chain[t->count++].last = n->work + n->work2 - 1;
    }
    qsort(t->chain, t->count, sizeof t->chain[0], by_place);
    uint64_t bytes = c->s.fat_sectors * c->s.sector;
    enum ws_status status = ws_source_make(&ops, bytes, t, &source, error);
    if (status != WS_OK) {
        free(t);
        return status;
    }
    WS_TRY(ws_layout_own(layout, source, error));
    for (uint64_t copy = 0; copy < c->s.fats; copy++)
        WS_TRY(ws_layout_add(layout, at + (c->s.reserved + copy * c->s.fat_sectors) * c->s.sector, bytes, source, 0,
                             WS_PHASE_BODY, error));
    return WS_OK;
}

static enum ws_status add_boot(const struct composing *c, uint64_t at, struct ws_layout *layout,
                               struct ws_error *error) {
    const struct fat_shape *s = &c->s;
    uint8_t b[FAT_SECTOR_MOST] = {0xeb, 0xfe, 0x90}; /* jumps to itself: there is no code here to start */
    bool wide = s->bits == 32;
    memcpy(b + 3, "WILDSATC", 8);
    ws_store_le16(b + 11, (uint16_t)s->sector);
    b[13] = (uint8_t)(s->cluster / s->sector);
    ws_store_le16(b + 14, (uint16_t)s->reserved);
    b[16] = (uint8_t)s->fats;
    ws_store_le16(b + 17, (uint16_t)s->root_entries);
    if (s->sectors < 65536 && !wide) ws_store_le16(b + 19, (uint16_t)s->sectors);
    else ws_store_le32(b + 32, (uint32_t)s->sectors);
    b[21] = 0xf8;
    if (!wide) ws_store_le16(b + 22, (uint16_t)s->fat_sectors);
    ws_store_le16(b + 24, 63);
    ws_store_le16(b + 26, 255);
    /* Only a BIOS asks where the volume begins, and one that counts in 32 bits cannot reach further anyway. */
    ws_store_le32(b + 28, c->params->hidden_sectors > UINT32_MAX ? 0 : (uint32_t)c->params->hidden_sectors);
    uint8_t *e = b + (wide ? 64 : 36);
    if (wide) {
        ws_store_le32(b + 36, (uint32_t)s->fat_sectors);
        ws_store_le32(b + 44, s->root_cluster);
        ws_store_le16(b + 48, 1);
        ws_store_le16(b + 50, 6);
    }
    e[0] = 0x80;
    e[2] = 0x29;
    ws_store_le32(e + 3, c->params->serial);
    memset(e + 7, ' ', 11);
    if (c->params->label[0]) memcpy(e + 7, c->params->label, strlen(c->params->label));
    else memcpy(e + 7, "NO NAME", 7);
    memcpy(e + 18, s->bits == 12 ? "FAT12   " : s->bits == 16 ? "FAT16   " : "FAT32   ", 8);
    b[510] = 0x55;
    b[511] = 0xaa;
    WS_TRY(ws_layout_add_bytes(layout, at, b, s->sector, WS_PHASE_BODY, error));
    if (!wide) return WS_OK;
    WS_TRY(ws_layout_add_bytes(layout, at + 6ull * s->sector, b, s->sector, WS_PHASE_BODY, error));
    uint8_t info[FAT_SECTOR_MOST] = {0};
    ws_store_le32(info, 0x41615252);
    ws_store_le32(info + 484, 0x61417272);
    ws_store_le32(info + 488, (uint32_t)(s->clusters - c->clusters.used));
    ws_store_le32(info + 492, (uint32_t)around_end(&c->clusters));
    ws_store_le32(info + 508, 0xaa550000);
    WS_TRY(ws_layout_add_bytes(layout, at + s->sector, info, s->sector, WS_PHASE_BODY, error));
    return ws_layout_add_bytes(layout, at + 7ull * s->sector, info, s->sector, WS_PHASE_BODY, error);
}

static enum ws_status add_files(const struct composing *c, uint64_t at, struct ws_layout *layout,
                                struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        uint64_t place_at = at + fat_data_at(&c->s) + (n->work ? n->work - 2 : 0) * c->s.cluster;
        if (n->kind == WS_NODE_FILE) {
            if (n->content && !n->reserved)
                WS_TRY(ws_layout_add(layout, place_at, ws_node_size(n), n->content, 0, WS_PHASE_BODY, error));
            continue;
        }
        struct ws_text text = {0};
        enum ws_status status = make_folder(c, n, &text, error);
        uint64_t room = n->work2 * c->s.cluster;
        if (!n->parent && c->s.bits != 32) {
            place_at = at + fat_root_at(&c->s);
            room = fat_data_at(&c->s) - fat_root_at(&c->s);
        }
        static const uint8_t zeros[512];
        while (status == WS_OK && text.length < room) {
            ws_text_add(&text, zeros, (size_t)ws_min_u64(sizeof zeros, room - text.length));
            status = ws_text_status(&text, error);
        }
        if (status == WS_OK)
            status = ws_layout_add_bytes(layout, place_at, text.data, text.length, WS_PHASE_BODY, error);
        ws_text_free(&text);
        WS_TRY(status);
    }
    return WS_OK;
}

enum ws_status ws_fat_compose(const struct ws_fat_params *params, struct ws_tree *tree, uint64_t at,
                              struct ws_layout *layout, uint64_t *size, uint64_t *free_bytes, struct ws_error *error) {
    struct composing c = {.params = params, .tree = tree};
    uint64_t wanted = params->size;
    if (wanted == 0) { /* content, folders, tables and an eighth of air */
        wanted = 1 << 20;
        for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) wanted += ws_node_size(n) + 8192;
        wanted = ws_round_up(wanted + wanted / 8, 1 << 20);
    }
    uint32_t cluster = params->cluster;
    uint32_t sector = params->sector ? params->sector : FAT_SECTOR_USUAL;
    if (sector < 512 || sector > FAT_SECTOR_MOST || (sector & (sector - 1)))
        return ws_fail(error, WS_E_RANGE, "a sector of %u bytes is not possible: 512, 1024, 2048 and 4096 are", sector);
    if (cluster && cluster < sector)
        return ws_fail(error, WS_E_RANGE, "a cluster of %u bytes is less than a sector of %u", cluster, sector);
    if (cluster && (cluster < 512 || cluster > 65536 || (cluster & (cluster - 1))))
        return ws_fail(error, WS_E_RANGE, "a cluster of %u bytes is not possible: powers of two from 512 to 65536 are",
                       cluster);
    if (wanted / sector == UINT32_MAX + 1ull) wanted -= sector; /* 2 TiB to the sector: the last one is left alone */
    if (wanted / sector > UINT32_MAX) {
        ws_fail(error, WS_E_RANGE, "a FAT volume ends at %llu bytes: it counts its sectors of %u in 32 bits",
                (unsigned long long)UINT32_MAX * sector, sector);
        return ws_fail_next(error, "make it smaller, or exFAT");
    }
    if (!choose_shape(&c, wanted))
        return ws_fail(error, WS_E_RANGE, "a FAT volume of %llu bytes is not possible", (unsigned long long)wanted);
    WS_TRY(place(&c, error));
    *size = wanted;
    const uint64_t end = around_end(&c.clusters) - 2;
    if (end > c.s.clusters)
        return ws_fail(error, WS_E_SPACE, "the files need %llu clusters, the FAT volume has %llu",
                       (unsigned long long)end, (unsigned long long)c.s.clusters);
    if (free_bytes) *free_bytes = (c.s.clusters - c.clusters.used) * c.s.cluster;
    if (!layout) return WS_OK;
    WS_TRY(add_boot(&c, at, layout, error));
    WS_TRY(add_tables(&c, at, layout, error));
    WS_TRY(add_files(&c, at, layout, error));
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->work) n->work = fat_data_at(&c.s) + (n->work - 2) * c.s.cluster;
    return WS_OK;
}
