/* read.c — any FAT volume into a tree. */
#include "fs/fat/internal.h"

#include <stdlib.h>
#include <string.h>

enum { DEPTH_MOST = 64, NODES_MOST = 2000000, FOLDER_MOST = 2 << 20, COUNTED_MOST = 1 << 20 };

struct reading {
    const struct ws_source *source;
    struct fat_table t; /* the first copy, whole */
    uint8_t *owned;     /* a bit for each cluster that a file or folder has */
    struct ws_tree *tree;
    struct ws_fat_facts facts;
    bool in_one_piece; /* the chain that was followed last */
};

static enum ws_status damaged(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the FAT volume is damaged: %s", what);
    return ws_fail_next(error, "let a file system checker look at it");
}

static bool power_of_two(uint32_t n) { return n && !(n & (n - 1)); }

static enum ws_status parse_boot(const struct ws_source *source, const uint8_t *b, struct fat_shape *s,
                                 struct ws_fat_facts *f, struct ws_error *error) {
    memset(s, 0, sizeof *s);
    memset(f, 0, sizeof *f);
    s->sector = ws_load_le16(b + 11);
    s->cluster = b[13] * s->sector;
    s->reserved = ws_load_le16(b + 14);
    s->fats = b[16];
    s->root_entries = ws_load_le16(b + 17);
    s->sectors = ws_load_le16(b + 19) ? ws_load_le16(b + 19) : ws_load_le32(b + 32);
    s->fat_sectors = ws_load_le16(b + 22) ? ws_load_le16(b + 22) : ws_load_le32(b + 36);
    if (b[510] != 0x55 || b[511] != 0xaa || !power_of_two(s->sector) || s->sector < 512 ||
        s->sector > FAT_SECTOR_MOST || !power_of_two(b[13]) || s->reserved == 0 || s->fats == 0 || s->fats > 4 ||
        s->fat_sectors == 0 || s->sectors == 0 || (b[0] != 0xeb && b[0] != 0xe9))
        return ws_fail(error, WS_E_NOTFOUND, "there is no FAT volume here");
    if (s->sectors * s->sector > source->size) return damaged(error, "it is longer than the place it stands in");
    if (fat_data_at(s) >= s->sectors * s->sector) return damaged(error, "its tables leave no room for files");
    s->clusters = (s->sectors * s->sector - fat_data_at(s)) / s->cluster;
    s->bits = s->clusters < 4085 ? 12 : s->clusters < 65525 ? 16 : 32; /* section 3.5 */
    if (s->bits == 32 && s->root_entries) return damaged(error, "its root folder is of the wrong kind");
    uint64_t least = ws_div_up((s->clusters + 2) * s->bits, 8);
    if (s->fat_sectors * s->sector < least) return damaged(error, "its allocation table is too short");
    const uint8_t *label = b + (s->bits == 32 ? 71 : 43);
    s->root_cluster = s->bits == 32 ? ws_load_le32(b + 44) : 0;
    f->serial = ws_load_le32(b + (s->bits == 32 ? 67 : 39));
    f->bits = s->bits;
    f->cluster = s->cluster;
    f->size = s->sectors * s->sector;
    f->clean = !(b[s->bits == 32 ? 65 : 37] & 1); /* as some systems mark it there, others in the table */
    size_t n = 11;
    while (n > 0 && label[n - 1] == ' ') n--;
    memcpy(f->label, label, n);
    if (strcmp(f->label, "NO NAME") == 0) f->label[0] = '\0';
    return WS_OK;
}

uint32_t fat_entry(const struct fat_table *t, uint32_t cluster) {
    size_t at;
    switch (t->s.bits) {
    case 12:
        at = cluster + cluster / 2;
        return (cluster & 1 ? ws_load_le16(t->bytes + at) >> 4 : ws_load_le16(t->bytes + at) & 0xfff);
    case 16: return ws_load_le16(t->bytes + 2 * (size_t)cluster);
    default: return ws_load_le32(t->bytes + 4 * (size_t)cluster) & 0x0fffffff;
    }
}

static enum ws_status load_table(const struct ws_source *source, struct fat_table *t, struct ws_error *error) {
    size_t bytes = (size_t)ws_div_up((t->s.clusters + 2) * t->s.bits, 8);
    t->bytes = calloc(1, bytes + 4);
    if (!t->bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a FAT of %zu bytes", bytes);
    enum ws_status status = ws_source_read(source, t->s.reserved * t->s.sector, t->bytes, bytes, error);
    if (status == WS_OK) return WS_OK;
    free(t->bytes);
    t->bytes = NULL;
    return status;
}

static enum ws_status load_fat(struct reading *r, struct ws_error *error) {
    WS_TRY(load_table(r->source, &r->t, error));
    for (uint32_t c = 2; c < r->t.s.clusters + 2; c++)
        if (fat_entry(&r->t, c) == 0) r->facts.free_bytes += r->t.s.cluster;
    uint32_t flags = fat_entry(&r->t, 1);
    r->facts.clean &= r->t.s.bits == 12 || (r->t.s.bits == 16 ? flags & 0x8000 : flags & 0x08000000);
    return WS_OK;
}

/* A cluster belongs to one file: chains that share some would let a small volume hold any number of large files. */
static bool own(struct reading *r, uint32_t cluster) {
    uint8_t bit = (uint8_t)(1u << (cluster & 7));
    bool free_before = !(r->owned[cluster >> 3] & bit);
    r->owned[cluster >> 3] |= bit;
    return free_before;
}

/* A chain of clusters as runs. */
static enum ws_status chain(struct reading *r, uint32_t first, uint64_t size, struct ws_source **content,
                            struct ws_error *error) {
    struct ws_run *runs = NULL;
    size_t count = 0, room = 0;
    uint64_t length = 0;
    uint32_t end = fat_end_mark(r->t.s.bits) - 7;
    enum ws_status status = WS_OK;
    for (uint32_t c = first; c < end && length < size;) {
        uint64_t at = fat_data_at(&r->t.s) + (uint64_t)(c - 2) * r->t.s.cluster;
        if (c < 2 || c >= r->t.s.clusters + 2) WS_GO(damaged(error, "a chain of clusters leaves the volume"));
        if (!own(r, c)) WS_GO(damaged(error, "a cluster belongs to two files, or twice to one"));
        if (count && runs[count - 1].at + runs[count - 1].length == at) {
            runs[count - 1].length += r->t.s.cluster;
        } else {
            if (count == room) {
                room = room ? room * 2 : 4;
                struct ws_run *grown = realloc(runs, room * sizeof *grown);
                if (!grown) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a file in pieces"));
                runs = grown;
            }
            runs[count++] = (struct ws_run){r->t.s.cluster, at};
        }
        length += r->t.s.cluster;
        c = fat_entry(&r->t, c);
    }
    if (size == UINT64_MAX) size = length;
    if (length < size) WS_GO(damaged(error, "a file is longer than its chain of clusters"));
    r->in_one_piece = count == 1;
    status = ws_source_runs(r->source, runs, count, size, content, error);
done:
    free(runs);
    return status;
}

static void short_name(const uint8_t *e, char out[16]) {
    size_t n = 0;
    bool lower_base = e[12] & 8;
    bool lower_extension = e[12] & 16;
    for (int i = 0; i < 11; i++) {
        char c = (char)(i == 0 && e[0] == 0x05 ? 0xe5 : e[i]);
        if (c == ' ') continue;
        if (i >= 8 && n > 0 && !strchr(out, '.')) {
            out[n++] = '.';
            out[n] = '\0';
        }
        if (c >= 'A' && c <= 'Z' && (i < 8 ? lower_base : lower_extension)) c = (char)(c - 'A' + 'a');
        out[n++] = (unsigned char)c >= 0x80 || c == '/' ? '_' : c;
        out[n] = '\0';
    }
}

static int64_t load_time(const uint8_t *e) { /* section 6.4; local time, taken as UTC */
    return ws_time_of_dos((uint32_t)ws_load_le16(e + 24) << 16 | ws_load_le16(e + 22));
}

/* A long name put together from its pieces, the last of which stands first (section 7). */
struct long_name {
    uint16_t units[20 * 13 + 1];
    int expected; /* pieces still to come; COMPLETE: the next entry is the file's */
    uint8_t sum;  /* of the short name it belongs to */
};
enum { COMPLETE = -1 };

static void take_piece(struct long_name *l, const uint8_t *e) {
    static const uint8_t place[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    int order = e[0] & 0x1f;
    if (e[0] & 0x40) {
        memset(l->units, 0, sizeof l->units);
        l->expected = order;
        l->sum = e[13];
    }
    if (order == 0 || order > 20 || order != l->expected || e[13] != l->sum) {
        l->expected = 0;
        return;
    }
    for (int i = 0; i < 13; i++) l->units[(order - 1) * 13 + i] = ws_load_le16(e + place[i]);
    l->expected = order == 1 ? COMPLETE : order - 1;
}

/* The name of an entry: the long one that stands before it, if that is whole and its own. */
static void take_name(struct long_name *l, const uint8_t *e, char name[800]) {
    short_name(e, name);
    if (l->expected == COMPLETE && fat_name_sum(e) == l->sum) {
        size_t count = 0;
        while (count < 20 * 13 && l->units[count] && l->units[count] != 0xffff) count++;
        ws_utf8_from_utf16(l->units, count, name, 800);
    }
    l->expected = 0;
}

static void take_label(struct reading *r, const uint8_t *e) {
    size_t n = 11;
    while (n > 0 && e[n - 1] == ' ') n--;
    memcpy(r->facts.label, e, n);
    r->facts.label[n] = '\0';
}

/* A file or folder; `record_at`: where on the volume its record stands. */
static enum ws_status add_entry(struct reading *r, struct ws_node *folder, const uint8_t *e, const char *name,
                                uint64_t record_at, struct ws_error *error) {
    const struct fat_shape *s = &r->t.s;
    bool is_folder = e[11] & 16;
    struct ws_node *node = NULL;
    struct ws_source *file = NULL;
    enum ws_status status = ws_tree_add(r->tree, folder, name, is_folder ? WS_NODE_FOLDER : WS_NODE_FILE, &node, error);
    if (status == WS_E_RANGE) return damaged(error, "a file name is impossible");
    WS_TRY(status);
    if (ws_tree_count(r->tree) > NODES_MOST) return damaged(error, "it lists more files than can be");
    uint32_t first = ws_load_le16(e + 26) | (s->bits == 32 ? (uint32_t)ws_load_le16(e + 20) << 16 : 0);
    uint32_t size = ws_load_le32(e + 28);
    node->mtime = load_time(e);
    node->born = ws_time_of_dos((uint32_t)ws_load_le16(e + 16) << 16 | ws_load_le16(e + 14));
    fat_take_attributes(node, e[11]);
    node->origin = first;
    node->work = first >= 2 ? fat_data_at(s) + (uint64_t)(first - 2) * s->cluster : 0;
    node->work2 = record_at;
    if (is_folder || size == 0) return WS_OK;
    WS_TRY(chain(r, first, size, &file, error));
    if (!r->in_one_piece) node->work = 0;
    WS_TRY(ws_tree_own(r->tree, file, error));
    node->content = file;
    return WS_OK;
}

/* The bytes of a folder's records; what no sound volume has is refused. */
static enum ws_status open_folder(struct reading *r, const struct ws_node *folder, struct ws_source **content,
                                  struct ws_error *error) {
    int depth = 0;
    for (const struct ws_node *n = folder->parent; n; n = n->parent, depth++)
        if (n->origin == folder->origin) return damaged(error, "a folder contains itself");
    if (depth > DEPTH_MOST) return damaged(error, "its folders are nested deeper than can be");
    if (!folder->parent && r->t.s.bits != 32)
        WS_TRY(ws_source_slice(r->source, fat_root_at(&r->t.s), r->t.s.root_entries * 32, content, error));
    else WS_TRY(chain(r, (uint32_t)folder->origin, UINT64_MAX, content, error));
    if ((*content)->size <= FOLDER_MOST * 32ull) return WS_OK;
    ws_source_close(*content);
    return damaged(error, "a folder is impossibly long");
}

static enum ws_status read_folder(struct reading *r, struct ws_node *folder, struct ws_error *error) {
    const struct fat_shape *s = &r->t.s;
    struct ws_source *content = NULL;
    struct long_name longer = {.expected = 0};
    uint32_t cluster = (uint32_t)folder->origin; /* the one that is being read */
    uint8_t block[4096];
    enum ws_status status;
    WS_TRY(open_folder(r, folder, &content, error));
    for (uint64_t at = 0; at + 32 <= content->size; at += 32) {
        if (at % sizeof block == 0)
            WS_GO(ws_source_read(content, at, block, (size_t)ws_min_u64(sizeof block, content->size - at), error));
        const uint8_t *e = block + at % sizeof block;
        char name[800];
        if (cluster && at && at % s->cluster == 0) cluster = fat_entry(&r->t, cluster);
        if (e[0] == 0) break;
        if (e[0] == 0xe5) {
            longer.expected = 0;
            continue;
        }
        if ((e[11] & 0x3f) == 0x0f) {
            take_piece(&longer, e);
            continue;
        }
        take_name(&longer, e, name);
        if (e[11] & 8 && !folder->parent) take_label(r, e);
        if (e[11] & 8 || e[0] == '.') continue;
        WS_GO(add_entry(r, folder, e, name,
                        cluster ? fat_data_at(s) + (uint64_t)(cluster - 2) * s->cluster + at % s->cluster
                                : fat_root_at(s) + at,
                        error));
    }
    status = WS_OK;
done:
    ws_source_close(content);
    return status;
}

static enum ws_status open_volume(const struct ws_source *volume, struct reading *r, struct ws_error *error) {
    uint8_t boot[512];
    memset(r, 0, sizeof *r);
    r->source = volume;
    if (volume->size < 4096) return ws_fail(error, WS_E_NOTFOUND, "there is no FAT volume here");
    WS_TRY(ws_source_read(volume, 0, boot, sizeof boot, error));
    return parse_boot(volume, boot, &r->t.s, &r->facts, error);
}

/* A large FAT32 keeps its own count (section 5): reading its whole table over a slow bus, only to count, would take
 * longer than a list of drives may. @return false if it keeps none that could be right */
static bool take_own_count(struct reading *r) {
    uint8_t boot[512];
    uint8_t info[512];
    uint8_t head[8];
    if (r->t.s.bits != 32 || r->t.s.fat_sectors * r->t.s.sector <= COUNTED_MOST) return false;
    if (ws_source_read(r->source, 0, boot, sizeof boot, NULL) != WS_OK) return false;
    uint64_t at = (uint64_t)ws_load_le16(boot + 48) * r->t.s.sector;
    if (at == 0 || at >= r->t.s.reserved * r->t.s.sector) return false;
    if (ws_source_read(r->source, at, info, sizeof info, NULL) != WS_OK) return false;
    if (ws_source_read(r->source, r->t.s.reserved * r->t.s.sector, head, sizeof head, NULL) != WS_OK) return false;
    uint32_t count = ws_load_le32(info + 488);
    if (ws_load_le32(info) != 0x41615252 || ws_load_le32(info + 484) != 0x61417272 || count > r->t.s.clusters)
        return false;
    r->facts.free_bytes = (uint64_t)count * r->t.s.cluster;
    r->facts.clean &= (ws_load_le32(head + 4) & 0x08000000) != 0;
    return true;
}

enum ws_status fat_table_open(const struct ws_source *volume, struct fat_table *table, struct ws_error *error) {
    struct reading r;
    WS_TRY(open_volume(volume, &r, error));
    WS_TRY(load_table(volume, &r.t, error));
    *table = r.t;
    return WS_OK;
}

enum ws_status ws_fat_probe(const struct ws_source *volume, struct ws_fat_facts *facts, struct ws_error *error) {
    struct reading r;
    WS_TRY(open_volume(volume, &r, error));
    enum ws_status status = take_own_count(&r) ? WS_OK : load_fat(&r, error);
    *facts = r.facts;
    free(r.t.bytes);
    return status;
}

enum ws_status ws_fat_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_fat_facts *facts,
                           struct ws_error *error) {
    struct reading r;
    enum ws_status status;
    WS_TRY(open_volume(volume, &r, error));
    WS_GO(load_fat(&r, error));
    r.owned = calloc(1, (size_t)(r.t.s.clusters / 8 + 2));
    if (!r.owned) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a FAT volume's clusters"));
    WS_GO(ws_tree_create(&r.tree, error));
    ws_tree_root(r.tree)->origin = r.t.s.root_cluster;
    for (struct ws_node *n = ws_tree_root(r.tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_GO(read_folder(&r, n, error));
    if (facts) *facts = r.facts;
done:
    free(r.owned);
    free(r.t.bytes);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}

enum ws_status ws_fat_spare(const struct ws_source *volume, uint64_t *at, uint64_t *length, struct ws_error *error) {
    struct fat_table t;
    *at = *length = 0;
    WS_TRY(fat_table_open(volume, &t, error));
    for (uint64_t c = 2, from; c < t.s.clusters + 2; c++) {
        for (from = c; c < t.s.clusters + 2 && fat_entry(&t, (uint32_t)c) == 0;) c++;
        if ((c - from) * t.s.cluster <= *length) continue;
        *at = fat_data_at(&t.s) + (from - 2) * t.s.cluster;
        *length = (c - from) * t.s.cluster;
    }
    free(t.bytes);
    return WS_OK;
}
