/* exfat.c — an exFAT volume that makes room. */
#include "fs/room/clusters.h"
#include "fs/exfat/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { IN_USE = 0x80, SECONDARY = 0x40, ALLOCATION_POSSIBLE = 1, NO_CHAIN = 2 };
#define BAD_CLUSTER 0xfffffff7u

/* A row of clusters by its first one: contiguous, or along the table. */
struct stream {
    uint32_t first;
    bool contiguous;
    uint64_t clusters; /* of a contiguous one */
};

struct making {
    struct clusters c;
    struct exfat_shape s;
    const struct ws_source *volume;
    uint8_t *was, *is;     /* owned: the tables */
    uint8_t *boot;         /* owned: both copies */
    struct stream *folder; /* owned: that are still to be looked at */
    size_t folders, capacity;
    struct stream bitmap;
    const struct ws_node *old; /* that what is put takes the place of; NULL: none */
    uint32_t file;             /* the first cluster of the file that gets another length; 0: none does */
};

static uint32_t table_entry(const uint8_t *table, uint32_t n) { return ws_load_le32(table + 4 * (size_t)n); }
static bool is_cluster(const struct making *f, uint32_t n) { return n >= 2 && n - 2 < f->s.clusters; }
static uint32_t number_now(struct making *f, uint32_t n) {
    return (uint32_t)(clusters_now(&f->c, (uint64_t)n - 2) + 2);
}

static enum ws_status open_volume(struct making *f, struct ws_error *error) {
    struct exfat_shape *s = &f->s;
    uint8_t b[512];
    WS_TRY(ws_source_read(f->volume, 0, b, sizeof b, error)); /* it was read before: all of it can be */
    s->sector = 1u << b[108];
    s->cluster = s->sector << b[109];
    s->sectors = ws_load_le64(b + 72);
    s->fat_at = ws_load_le32(b + 80);
    s->fat_sectors = ws_load_le32(b + 84);
    s->heap_at = ws_load_le32(b + 88);
    s->clusters = ws_load_le32(b + 92);
    s->root = ws_load_le32(b + 96);
    if (b[110] != 1) return room_one_table(error);
    const size_t boot = 2u * EXFAT_BOOT_SECTORS * s->sector, table = (size_t)(s->fat_sectors * s->sector);
    f->boot = malloc(boot);
    f->was = malloc(table);
    f->is = calloc(1, table);
    if (!f->boot || !f->was || !f->is) return ws_fail(error, WS_E_NOMEM, "out of memory for an allocation table");
    WS_TRY(ws_source_read(f->volume, 0, f->boot, boot, error));
    f->c.data_at = s->heap_at * s->sector;
    f->c.count = s->clusters;
    f->c.room->step = s->cluster;
    return ws_source_read(f->volume, s->fat_at * s->sector, f->was, table, error);
}

/* The next cluster of a stream; 0 behind its last. */
static uint32_t follow(const struct making *f, const struct stream *s, uint32_t n) {
    if (s->contiguous) return n - s->first + 1 < s->clusters ? n + 1 : 0;
    const uint32_t next = table_entry(f->was, n);
    return is_cluster(f, next) ? next : 0;
}

/* What its clusters are now, in the new table if it is a chain. @return whether it still needs none */
static bool renumber(struct making *f, const struct stream *s) {
    bool contiguous = s->contiguous;
    for (uint64_t i = 0; contiguous && i < s->clusters; i++) clusters_claim(&f->c, s->first - 2 + i);
    const uint64_t first = s->first - 2; /* in a row, and none of them moves */
    if (contiguous && (first >= f->c.clear_end || first + s->clusters <= f->c.clear)) return true;
    for (uint32_t n = s->first, next; contiguous && (next = follow(f, s, n)) != 0; n = next)
        contiguous = number_now(f, next) == number_now(f, n) + 1;
    for (uint32_t n = s->first, next; !contiguous && n; n = next) {
        next = follow(f, s, n);
        ws_store_le32(f->is + 4 * (size_t)number_now(f, n), next ? number_now(f, next) : EXFAT_END);
    }
    return contiguous;
}

static enum ws_status note_folder(struct making *f, const struct stream *s, struct ws_error *error) {
    if (f->folders == f->capacity) {
        f->capacity = f->capacity ? f->capacity * 2 : 64;
        struct stream *grown = realloc(f->folder, f->capacity * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a list of folders");
        f->folder = grown;
    }
    f->folder[f->folders++] = *s;
    return WS_OK;
}

/* The file's own new length, and its chain if it has one. What it gets is written as a volume. */
static void put_file(struct making *f, uint8_t *e) {
    ws_store_le64(e + 8, f->c.room->file_length);
    ws_store_le64(e + 24, f->c.room->file_length);
    for (uint64_t i = f->c.file; !(e[1] & NO_CHAIN) && i < ws_max_u64(f->c.file_will, f->c.file_end); i++)
        ws_store_le32(f->is + 4 * (size_t)(i + 2), i >= f->c.file_will       ? 0
                                                   : i + 1 == f->c.file_will ? EXFAT_END
                                                                             : (uint32_t)(i + 3));
}

/* The file loses its beginning. */
static void begin_later(struct making *f, const struct stream *s, uint8_t *e) {
    for (uint64_t i = f->c.file; i < f->c.file_end; i++) clusters_claim(&f->c, i);
    for (uint64_t i = f->c.going_end; !s->contiguous && i < f->c.file_end; i++)
        ws_store_le32(f->is + 4 * (size_t)(i - f->c.front + 2),
                      i + 1 == f->c.file_end ? EXFAT_END : (uint32_t)(i - f->c.front + 3));
    ws_store_le64(e + 8, f->c.room->file_length);
    ws_store_le64(e + 24, f->c.room->file_length);
}

/* One file's entries: whatever of them has clusters. */
static enum ws_status renumber_set(struct making *f, uint8_t *set, size_t entries, struct ws_error *error) {
    bool folder = ws_load_le16(set + 4) & 0x10;
    for (size_t i = 1; i < entries; i++) {
        uint8_t *e = set + i * EXFAT_ENTRY;
        struct stream s = {.first = ws_load_le32(e + 20),
                           .contiguous = e[1] & NO_CHAIN,
                           .clusters = ws_div_up(ws_load_le64(e + 24), f->s.cluster)};
        if (e[0] == ENTRY_NAME || !(e[1] & ALLOCATION_POSSIBLE) || !s.clusters || !is_cluster(f, s.first)) continue;
        if (folder && e[0] == ENTRY_STREAM) WS_TRY(note_folder(f, &s, error));
        const bool own = f->file && s.first == f->file && e[0] == ENTRY_STREAM;
        if (own && f->c.later) begin_later(f, &s, e);
        else if (!renumber(f, &s)) e[1] &= (uint8_t)~NO_CHAIN;
        if (own && !f->c.later) put_file(f, e);
        ws_store_le32(e + 20, number_now(f, s.first));
    }
    ws_store_le16(set + 2, exfat_set_checksum(set, entries * EXFAT_ENTRY));
    return WS_OK;
}

/* Of the volume's own two files the bitmap gets shorter: clusters at its end are free then. */
static void renumber_own(struct making *f, uint8_t *e) {
    struct stream s = {.first = ws_load_le32(e + 20)};
    if (!is_cluster(f, s.first)) return;
    (void)renumber(f, &s);
    if (e[0] == ENTRY_BITMAP) {
        const uint64_t bytes = ws_div_up(f->c.end - f->c.front, 8), keeps = ws_div_up(bytes, f->s.cluster);
        uint64_t i = 0;
        f->bitmap = s;
        ws_store_le64(e + 24, bytes);
        for (uint32_t n = s.first, next; n; n = next, i++) {
            const uint32_t now = number_now(f, n);
            next = follow(f, &s, n);
            if (i + 1 >= keeps) ws_store_le32(f->is + 4 * (size_t)now, i < keeps ? EXFAT_END : 0);
            if (i >= keeps) clusters_clear(f->c.used, now - 2 + f->c.front);
        }
    }
    ws_store_le32(e + 20, number_now(f, s.first));
}

static enum ws_status renumber_folder(struct making *f, uint8_t *bytes, uint64_t length, struct ws_error *error) {
    for (uint64_t at = 0; at + EXFAT_ENTRY <= length; at += EXFAT_ENTRY) {
        uint8_t *e = bytes + at;
        if (e[0] == 0) break;
        if (e[0] == ENTRY_BITMAP || e[0] == ENTRY_UPCASE) renumber_own(f, e);
        if (e[0] != ENTRY_FILE) continue;
        const size_t entries = 1u + e[1];
        if (entries * EXFAT_ENTRY > length - at)
            return ws_fail(error, WS_E_FORMAT, "the exFAT volume is damaged: a folder ends in the middle of a file");
        if (f->c.goes && f->file && entries > 1 && ws_load_le32(e + EXFAT_ENTRY + 20) == f->file)
            for (size_t i = 0; i < entries; i++) e[i * EXFAT_ENTRY] &= (uint8_t)~IN_USE;
        else WS_TRY(renumber_set(f, e, entries, error));
        at += (entries - 1) * EXFAT_ENTRY;
    }
    return WS_OK;
}

/* The name of a set of entries is that of what is put, whatever the letters' case: plain letters alone. */
static bool has_name(const uint8_t *set, size_t entries, const char *name) {
    const size_t count = set[EXFAT_ENTRY + 3];
    if (count != strlen(name) || count > 15 || entries < 3) return false;
    for (size_t i = 0; i < count; i++)
        if (ws_upcase(ws_load_le16(set + 2 * EXFAT_ENTRY + 2 + 2 * i)) != (uint16_t)(uint8_t)name[i]) return false;
    return true;
}

/* One of that name goes: its entries are free, and its clusters. */
static void drop_old(struct making *f, uint8_t *set, size_t entries) {
    struct stream s = {.first = ws_load_le32(set + EXFAT_ENTRY + 20),
                       .contiguous = set[EXFAT_ENTRY + 1] & NO_CHAIN,
                       .clusters = ws_div_up(ws_load_le64(set + EXFAT_ENTRY + 24), f->s.cluster)};
    for (size_t i = 0; i < entries; i++) set[i * EXFAT_ENTRY] &= (uint8_t)~IN_USE;
    for (uint32_t n = s.clusters && is_cluster(f, s.first) ? s.first : 0; n; n = follow(f, &s, n)) {
        clusters_clear(f->c.used, n - 2);
        ws_store_le32(f->is + 4 * (size_t)n, 0);
    }
}

/* What is put, into the root folder: where entries in a row are free. */
static enum ws_status put_set(struct making *f, uint8_t *bytes, uint64_t length, struct ws_error *error) {
    struct ws_room *room = f->c.room;
    struct ws_node node = {.name = (char *)(uintptr_t)room->put_name, .kind = WS_NODE_FILE, .mtime = room->put_at};
    uint8_t set[EXFAT_SET_MOST];
    uint64_t row;
    WS_TRY(clusters_put_new(&f->c, &row, error));
    for (uint64_t at = 0, entries = 1; at + EXFAT_ENTRY <= length && bytes[at]; at += entries * EXFAT_ENTRY) {
        entries = bytes[at] == ENTRY_FILE ? 1u + bytes[at + 1] : 1;
        if (f->old && bytes[at] == ENTRY_FILE && has_name(bytes + at, entries, room->put_name))
            drop_old(f, bytes + at, entries);
    }
    const size_t needs = exfat_set_make(set, &node, (uint32_t)row + 2, room->put_length);
    bool behind = false; /* what stands behind the end is nobody's */
    for (uint64_t at = 0, begin = 0; at + EXFAT_ENTRY <= length; at += EXFAT_ENTRY) {
        behind |= !bytes[at];
        if (!behind && bytes[at] & IN_USE) begin = at + EXFAT_ENTRY;
        if (at + EXFAT_ENTRY - begin < needs) continue;
        bool ended = false; /* what was behind the end has no entries */
        for (uint64_t i = begin; i <= at; i += EXFAT_ENTRY) ended |= !bytes[i];
        memcpy(bytes + begin, set, needs);
        if (ended && at + EXFAT_ENTRY < length) bytes[at + EXFAT_ENTRY] = 0;
        return WS_OK;
    }
    return room_full_top(error);
}

/* The bytes of a stream, and its clusters' numbers one behind the other: both owned by the caller. */
static enum ws_status load(struct making *f, const struct stream *s, uint8_t **bytes, uint32_t **list, uint64_t *count,
                           struct ws_error *error) {
    uint64_t clusters = 0;
    for (uint32_t n = s->first; n && clusters < f->s.clusters; n = follow(f, s, n)) clusters++;
    *bytes = calloc((size_t)clusters, f->s.cluster);
    *list = malloc((size_t)clusters * sizeof **list);
    *count = clusters;
    enum ws_status status = *bytes && *list ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a folder");
    uint32_t n = s->first;
    for (uint64_t i = 0; i < clusters && status == WS_OK; i++, n = follow(f, s, n)) {
        (*list)[i] = n;
        status = ws_source_read(f->volume, f->c.data_at + (uint64_t)(n - 2) * f->s.cluster, *bytes + i * f->s.cluster,
                                f->s.cluster, error);
    }
    if (status == WS_OK) return WS_OK;
    free(*bytes);
    free(*list);
    return status;
}

/* The root folder with what is put, and one cluster more if it needs that. */
static enum ws_status put_into_root(struct making *f, uint8_t **bytes, size_t length, uint32_t last,
                                    struct ws_error *error) {
    uint8_t *longer = realloc(*bytes, length + f->s.cluster);
    uint64_t more;
    if (!longer) return ws_fail(error, WS_E_NOMEM, "out of memory for a folder");
    *bytes = longer;
    memset(longer + length, 0, f->s.cluster);
    WS_TRY(put_set(f, longer, length + f->s.cluster, error));
    if (!longer[length]) return WS_OK;
    WS_TRY(clusters_take_one(&f->c, &more, error));
    ws_store_le32(f->is + 4 * (size_t)last, (uint32_t)more + 2);
    ws_store_le32(f->is + 4 * (size_t)(more + 2), EXFAT_END);
    return clusters_put(&f->c, more, longer + length, true, error);
}

/* @param was  the same bytes as they were */
static enum ws_status put_stream(struct making *f, const uint8_t *was, const uint8_t *bytes, const uint32_t *list,
                                 uint64_t count, struct ws_error *error) {
    for (uint64_t i = 0, at = 0; i < count; i++, at += f->s.cluster)
        WS_TRY(clusters_put(&f->c, list[i] - 2, bytes + at, memcmp(was + at, bytes + at, f->s.cluster) != 0, error));
    return WS_OK;
}

static enum ws_status put_folders(struct making *f, struct ws_error *error) {
    struct stream next = {.first = f->s.root};
    (void)renumber(f, &next);
    WS_TRY(note_folder(f, &next, error));
    while (f->folders) {
        uint32_t *list;
        uint64_t count;
        next = f->folder[--f->folders];
        uint8_t *bytes;
        WS_TRY(load(f, &next, &bytes, &list, &count, error));
        const size_t length = (size_t)(count * f->s.cluster);
        uint8_t *was = malloc(length);
        enum ws_status status = was ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a folder");
        if (was) memcpy(was, bytes, length);
        ws_hash_add(f->c.state, bytes, length);
        if (status == WS_OK) status = renumber_folder(f, bytes, length, error);
        if (status == WS_OK && count && next.first == f->s.root && f->c.room->put_name)
            status = put_into_root(f, &bytes, length, list[count - 1], error);
        if (status == WS_OK) status = put_stream(f, was, bytes, list, count, error);
        free(was);
        free(bytes);
        free(list);
        WS_TRY(status);
    }
    return WS_OK;
}

/* The bitmap as it is, for what is used; then as it will be. */
static enum ws_status take_bitmap(struct making *f, struct ws_error *error) {
    struct stream root = {.first = f->s.root}, bitmap = {0};
    uint32_t *list;
    uint64_t count;
    uint8_t *bytes;
    WS_TRY(load(f, &root, &bytes, &list, &count, error));
    for (uint64_t at = 0; at + EXFAT_ENTRY <= count * f->s.cluster && bytes[at]; at += EXFAT_ENTRY)
        if (bytes[at] == ENTRY_BITMAP && !(bytes[at + 1] & 1)) bitmap.first = ws_load_le32(bytes + at + 20);
    free(bytes);
    free(list);
    if (!is_cluster(f, bitmap.first))
        return ws_fail(error, WS_E_FORMAT, "the exFAT volume is damaged: it has no bitmap");
    WS_TRY(load(f, &bitmap, &bytes, &list, &count, error));
    const uint64_t length = ws_min_u64(ws_div_up(f->s.clusters, 8), count * f->s.cluster);
    memcpy(f->c.used, bytes, (size_t)length);
    ws_hash_add(f->c.state, bytes, (size_t)length);
    free(bytes);
    free(list);
    return WS_OK;
}

/* A place that is bad is marked as used, and says so in the table. */
static void take_bad(struct making *f) {
    for (uint64_t i = 0; i < f->s.clusters; i++) {
        if (!clusters_bit(f->c.used, i) || table_entry(f->was, (uint32_t)i + 2) != BAD_CLUSTER) continue;
        const uint64_t front = f->c.room->front / f->s.cluster, end = f->s.clusters - f->c.room->back / f->s.cluster;
        clusters_set(f->c.bad, i);
        if (i >= front && i < end) ws_store_le32(f->is + 4 * (size_t)(i + 2 - front), BAD_CLUSTER);
    }
}

/* The row of clusters that is the file's: contiguous, or a chain that goes straight on. */
static void take_file(struct making *f, const struct ws_tree *tree) {
    struct ws_room *room = f->c.room;
    const struct ws_node *file = NULL;
    for (const struct ws_node *n = ws_tree_root(tree); n && room->file_at; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content && n->work == room->file_at) file = n;
    if (!file) return;
    room->file_was = ws_node_size(file);
    f->file = (uint32_t)((room->file_at - f->c.data_at) / f->s.cluster + 2);
    f->c.file = f->file - 2;
    f->c.file_end = f->c.file + ws_div_up(room->file_was, f->s.cluster);
}

static enum ws_status put_bitmap(struct making *f, struct ws_error *error) {
    const uint64_t left = f->c.end - f->c.front;
    uint32_t *list;
    uint64_t count;
    uint8_t *bytes;
    WS_TRY(load(f, &f->bitmap, &bytes, &list, &count, error));
    uint8_t *is = calloc((size_t)count, f->s.cluster);
    for (uint64_t i = 0; is && i < left; i++)
        if (clusters_bit(f->c.used, i + f->c.front)) clusters_set(is, i);
    const uint64_t keeps = ws_div_up(ws_div_up(left, 8), f->s.cluster);
    enum ws_status status = is ? put_stream(f, bytes, is, list, ws_min_u64(count, keeps), error)
                               : ws_fail(error, WS_E_NOMEM, "out of memory for a bitmap");
    free(is);
    free(bytes);
    free(list);
    return status;
}

/* Both copies of the boot region, each with its checksum (section 3.4): where none of it moves, how full it is may be
 * of an earlier day. */
static enum ws_status put_front(struct making *f, struct ws_error *error) {
    const struct exfat_shape *s = &f->s;
    const struct ws_room *room = f->c.room;
    const uint64_t left = f->c.end - f->c.front;
    const size_t region = (size_t)EXFAT_BOOT_SECTORS * s->sector;
    uint8_t *b = f->boot;
    const uint64_t offset = ws_load_le64(b + 64);
    ws_store_le32(f->is, table_entry(f->was, 0));
    ws_store_le32(f->is + 4, table_entry(f->was, 1));
    WS_TRY(clusters_put_fixed(&f->c, s->fat_at * s->sector, f->is, (size_t)(s->fat_sectors * s->sector), error));
    if (!room->front && !room->back && number_now(f, s->root) == s->root) return WS_OK;
    if (offset) ws_store_le64(b + 64, offset + room->front / s->sector);
    ws_store_le64(b + 72, s->sectors - (room->front + room->back) / s->sector);
    ws_store_le32(b + 92, (uint32_t)left);
    ws_store_le32(b + 96, number_now(f, s->root));
    if (b[112] != 0xff) b[112] = (uint8_t)((left - room->free_after / s->cluster) * 100 / left);
    uint32_t sum = exfat_checksum(0, b, s->sector, true);
    sum = exfat_checksum(sum, b + s->sector, 10 * s->sector, false);
    for (size_t i = 0; i < s->sector; i += 4) ws_store_le32(b + 11 * s->sector + i, sum);
    memcpy(b + region, b, region);
    return clusters_put_fixed(&f->c, 0, b, 2 * region, error);
}

static enum ws_status make(struct making *f, const struct ws_tree *tree, struct ws_error *error) {
    enum { LEAST_LEFT = 64 };
    WS_TRY(open_volume(f, error));
    WS_TRY(clusters_open(&f->c, error));
    WS_TRY(take_bitmap(f, error));
    take_bad(f);
    take_file(f, tree);
    WS_TRY(clusters_plan(&f->c, LEAST_LEFT, UINT64_MAX, error));
    WS_TRY(put_folders(f, error));
    if (f->c.layout) WS_TRY(put_bitmap(f, error));
    WS_TRY(clusters_finish(&f->c, error));
    return f->c.layout ? put_front(f, error) : WS_OK;
}

enum ws_status room_exfat(struct ws_room *room, struct ws_layout *layout, struct ws_error *error) {
    struct making f = {.c = {.room = room, .layout = layout}, .volume = room->volume};
    struct ws_exfat_facts facts;
    struct ws_tree *tree = NULL;
    enum ws_status status;
    WS_TRY(ws_exfat_probe(room->volume, &facts, error));
    (void)snprintf(room->format, sizeof room->format, "exfat");
    (void)snprintf(room->label, sizeof room->label, "%s", facts.label);
    room->size = facts.size;
    if (!facts.clean) return room_in_use(error);
    WS_GO(ws_exfat_read(room->volume, &tree, &facts, error)); /* sound, or else it is not touched */
    WS_GO(room_find_old(room, tree, &f.old, error));
    status = make(&f, tree, error);
done:
    clusters_close(&f.c);
    free(f.was);
    free(f.is);
    free(f.boot);
    free(f.folder);
    ws_tree_close(tree);
    return status;
}
