/* fat.c — a FAT volume that makes room. */
#include "fs/room/clusters.h"
#include "fs/fat/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct making {
    struct clusters c;
    struct fat_table was;
    const struct ws_source *volume;
    const struct ws_node *file; /* that gets another length; NULL: none does */
    const struct ws_node *old;  /* that what is put takes the place of; NULL: none */
    uint32_t put;               /* the first cluster of what is put; 0: it is not yet */
    uint8_t name[11];           /* its short name */
    bool taken;                 /* another one has that */
    struct ws_text record;      /* owned: what stands in its folder for it */
    bool ended;                 /* the end of that folder was passed */
    uint32_t last, longer;      /* its last cluster, and one that it gets behind that; 0: none */
    uint64_t gone[22];          /* bytes of the volume: records of the file that goes */
    size_t gones;
};

/* Fewer clusters would make it one of another kind (section 3.5); a few more for those who count otherwise. */
static uint64_t least_clusters(unsigned bits) { return bits == 32 ? 65525 + 16 : bits == 16 ? 4085 + 16 : 16; }

static bool is_bad(const struct fat_shape *s, uint32_t entry) { return entry == fat_end_mark(s->bits) - 8; }
static bool is_end(const struct fat_shape *s, uint32_t entry) { return entry >= fat_end_mark(s->bits) - 7; }
static bool is_cluster(const struct fat_shape *s, uint32_t n) { return n >= 2 && n - 2 < s->clusters; }

static uint32_t number_now(struct making *f, uint32_t n) {
    return (uint32_t)(clusters_now(&f->c, (uint64_t)n - 2) + 2);
}

/* The row of clusters that is a file's, if it is one from its first on. */
static void take_file(struct making *f) {
    const struct fat_shape *s = &f->was.s;
    struct ws_room *room = f->c.room;
    if (!f->file || f->file->work != room->file_at) return;
    const uint32_t first = (uint32_t)f->file->origin;
    uint32_t n = first;
    while (is_cluster(s, fat_entry(&f->was, n)) && fat_entry(&f->was, n) == n + 1) n++;
    if (!is_end(s, fat_entry(&f->was, n))) return;
    f->c.file = first - 2;
    f->c.file_end = n - 2 + 1;
    room->file_was = ws_node_size(f->file);
}

static enum ws_status take_used(struct making *f, struct ws_error *error) {
    struct fat_shape *s = &f->was.s;
    f->c.data_at = fat_data_at(s);
    f->c.count = s->clusters;
    f->c.room->step = s->cluster;
    WS_TRY(clusters_open(&f->c, error));
    for (uint32_t i = 0; i < s->clusters; i++) {
        const uint32_t entry = fat_entry(&f->was, i + 2);
        if (entry != 0) clusters_set(f->c.used, i);
        if (is_bad(s, entry)) clusters_set(f->c.bad, i);
    }
    ws_hash_add(f->c.state, f->was.bytes, (size_t)ws_div_up((s->clusters + 2) * s->bits, 8));
    take_file(f);
    return WS_OK;
}

static bool is_gone(const struct making *f, uint64_t at) {
    for (size_t i = 0; i < f->gones; i++)
        if (f->gone[i] == at) return true;
    return false;
}

/* The records of a folder, from byte `from` of the volume on, with the numbers that clusters have now.
 * @return whether any is another */
static bool renumber(struct making *f, uint8_t *bytes, uint64_t from, size_t length, bool *ended) {
    const struct fat_shape *s = &f->was.s;
    bool changed = false;
    for (size_t at = 0; at + 32 <= length && !*ended; at += 32) {
        uint8_t *e = bytes + at;
        *ended = e[0] == 0;
        if (is_gone(f, from + at)) {
            e[0] = 0xe5;
            changed = true;
        }
        if (e[0] == 0 || e[0] == 0xe5 || e[11] & 8) continue; /* the pieces of long names have that bit, too */
        const uint32_t n = ws_load_le16(e + 26) | (s->bits == 32 ? (uint32_t)ws_load_le16(e + 20) << 16 : 0);
        if (!is_cluster(s, n)) continue;
        const uint32_t now = number_now(f, n);
        changed |= now != n;
        if (f->file && n == f->file->origin && ws_load_le32(e + 28) != f->c.room->file_length) {
            ws_store_le32(e + 28, (uint32_t)f->c.room->file_length);
            changed = true;
        }
        ws_store_le16(e + 26, (uint16_t)now);
        if (s->bits == 32) ws_store_le16(e + 20, (uint16_t)(now >> 16));
    }
    return changed;
}

/* Each record of a folder and its byte of the volume, until one of them wants no more. */
static enum ws_status walk(struct making *f, const struct ws_node *folder,
                           bool (*on_record)(struct making *f, const uint8_t *e, uint64_t at), struct ws_error *error) {
    const struct fat_shape *s = &f->was.s;
    const bool fixed = !folder->parent && s->bits != 32;
    const size_t length = fixed ? (size_t)(fat_data_at(s) - fat_root_at(s)) : s->cluster;
    uint8_t *bytes = malloc(length + 1);
    enum ws_status status = bytes ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a folder");
    uint32_t n = (uint32_t)folder->origin;
    for (bool on = true; on && status == WS_OK && (fixed || is_cluster(s, n)); n = fat_entry(&f->was, n)) {
        const uint64_t from = fixed ? fat_root_at(s) : f->c.data_at + (uint64_t)(n - 2) * s->cluster;
        status = ws_source_read(f->volume, from, bytes, length, error);
        for (size_t at = 0; status == WS_OK && on && at + 32 <= length; at += 32)
            on = bytes[at] != 0 && on_record(f, bytes + at, from + at);
        if (fixed) break;
    }
    free(bytes);
    return status;
}

/* Those of the file that goes: the pieces of its long name, which may begin in another cluster, and its own. */
static bool note_gone(struct making *f, const uint8_t *e, uint64_t at) {
    const bool piece = e[0] != 0xe5 && (e[11] & 0x3f) == 0x0f, own = at == f->file->work2;
    if (piece && e[0] & 0x40) f->gones = 0;
    if (!piece && !own) f->gones = 0;
    if ((piece || own) && f->gones < sizeof f->gone / sizeof f->gone[0]) f->gone[f->gones++] = at;
    return !own;
}

static bool note_taken(struct making *f, const uint8_t *e, uint64_t at) {
    (void)at;
    f->taken |= e[0] != 0xe5 && !(e[11] & 8) && memcmp(e, f->name, sizeof f->name) == 0;
    return !f->taken;
}

/* A name of its own, and the pieces of a long one. */
static enum ws_status name_it(struct making *f, const struct ws_tree *tree, struct ws_error *error) {
    enum { TRIES = 4096 };
    const char *name = f->c.room->put_name;
    if (!name || f->old) return WS_OK;
    const size_t pieces = fat_long_pieces(name);
    if (!pieces) (void)fat_plain_short(name, f->name);
    f->taken = pieces != 0;
    for (unsigned i = 0; f->taken && i < TRIES; i++) {
        fat_short_candidate(name, i, f->name);
        f->taken = false;
        WS_TRY(walk(f, ws_tree_root(tree), note_taken, error));
    }
    if (f->taken) return room_full_top(error);
    if (pieces) fat_add_long(&f->record, name, f->name, pieces);
    ws_text_add(&f->record, f->name, sizeof f->name); /* its place, for now */
    ws_text_add(&f->record, (uint8_t[21]){0}, 21);
    return ws_text_status(&f->record, error);
}

/* As many free records in a row as it needs; an end among them goes behind it. @return where; `length`: there are not
 */
static size_t free_records(struct making *f, uint8_t *bytes, size_t length, bool last, bool *changed) {
    size_t run = 0, at = 0;
    for (; at + 32 <= length && run < f->record.length; at += 32) {
        f->ended |= !bytes[at];
        if (f->ended) bytes[at] = 0xe5;
        run = bytes[at] == 0xe5 ? run + 32 : 0;
    }
    *changed |= f->ended;
    if (run < f->record.length) return length;
    if (f->ended && at < length) bytes[at] = 0;
    return f->ended && at == length && !last ? length : at - run; /* what the next cluster has is nobody's */
}

/* What is put, into records of the root folder that are free, or into its own: `length` bytes of it, from byte `from`
 * of the volume on. */
static enum ws_status put_record(struct making *f, uint8_t *bytes, uint64_t from, size_t length, bool last,
                                 bool *changed, struct ws_error *error) {
    struct ws_room *room = f->c.room;
    uint64_t row;
    if (!room->put_name || f->put) return WS_OK;
    if (f->old && (f->old->work2 < from || f->old->work2 - from >= length)) return WS_OK; /* in another cluster */
    size_t at = f->old ? (size_t)(f->old->work2 - from) : free_records(f, bytes, length, last, changed);
    if (at == length) return WS_OK;
    WS_TRY(clusters_put_new(&f->c, &row, error));
    f->put = (uint32_t)row + 2;
    *changed = true;
    if (f->old) memcpy(f->name, bytes + at, sizeof f->name);
    else memcpy(bytes + at, f->record.data, f->record.length);
    at += f->old ? 0 : f->record.length - 32;
    fat_record(bytes + at, f->name, 0x20, f->put, room->put_length, room->put_at);
    for (uint32_t n = f->old ? (uint32_t)f->old->origin : 0; is_cluster(&f->was.s, n); n = fat_entry(&f->was, n))
        clusters_clear(f->c.used, n - 2);
    return WS_OK;
}

/* The root folder gets one cluster more for it. */
static enum ws_status lengthen(struct making *f, uint32_t last, uint8_t *cluster, struct ws_error *error) {
    uint64_t more;
    bool changed = false;
    WS_TRY(clusters_take_one(&f->c, &more, error));
    f->last = last;
    f->longer = (uint32_t)more + 2;
    memset(cluster, 0, f->was.s.cluster);
    WS_TRY(put_record(f, cluster, 0, f->was.s.cluster, true, &changed, error));
    return clusters_put(&f->c, more, cluster, true, error);
}

static enum ws_status put_folder(struct making *f, uint32_t first, uint8_t *cluster, struct ws_error *error) {
    const struct fat_shape *s = &f->was.s;
    bool ended = false;
    for (uint32_t n = first; is_cluster(s, n); n = fat_entry(&f->was, n)) {
        const uint64_t at = f->c.data_at + (uint64_t)(n - 2) * s->cluster;
        WS_TRY(ws_source_read(f->volume, at, cluster, s->cluster, error));
        ws_hash_add(f->c.state, cluster, s->cluster);
        bool changed = renumber(f, cluster, at, s->cluster, &ended);
        const bool last = !is_cluster(s, fat_entry(&f->was, n));
        if (first == s->root_cluster) WS_TRY(put_record(f, cluster, at, s->cluster, last, &changed, error));
        WS_TRY(clusters_put(&f->c, n - 2, cluster, changed, error));
        if (first == s->root_cluster && last && f->c.room->put_name && !f->put) WS_TRY(lengthen(f, n, cluster, error));
    }
    return WS_OK;
}

/* The root folder of FAT12 and FAT16 stands behind the tables. */
static enum ws_status put_fixed_root(struct making *f, struct ws_error *error) {
    const struct fat_shape *s = &f->was.s;
    const size_t length = (size_t)(fat_data_at(s) - fat_root_at(s));
    bool ended = false;
    if (s->bits == 32) return WS_OK;
    uint8_t *root = malloc(length + 1);
    if (!root) return ws_fail(error, WS_E_NOMEM, "out of memory for a root folder");
    enum ws_status status = ws_source_read(f->volume, fat_root_at(s), root, length, error);
    if (status == WS_OK) {
        ws_hash_add(f->c.state, root, length);
        bool changed = renumber(f, root, fat_root_at(s), length, &ended);
        status = put_record(f, root, fat_root_at(s), length, true, &changed, error);
        if (status == WS_OK) status = clusters_put_fixed(&f->c, fat_root_at(s), root, length, error);
    }
    free(root);
    return status;
}

static enum ws_status put_folders(struct making *f, const struct ws_tree *tree, struct ws_error *error) {
    uint8_t *cluster = malloc(f->was.s.cluster);
    enum ws_status status = cluster ? put_fixed_root(f, error) : ws_fail(error, WS_E_NOMEM, "out of memory");
    for (const struct ws_node *n = ws_tree_root(tree); n && status == WS_OK; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER && n->origin) status = put_folder(f, (uint32_t)n->origin, cluster, error);
    free(cluster);
    return status;
}

static uint32_t raw_entry(const struct fat_table *t, uint32_t n) {
    return t->s.bits == 32 ? ws_load_le32(t->bytes + 4 * (size_t)n) : fat_entry(t, n);
}

/* A bad place in a part that goes. */
static bool is_bad_outside(const struct making *f, uint32_t n) {
    return is_bad(&f->was.s, fat_entry(&f->was, n)) && (n - 2 < f->c.front || n - 2 >= f->c.end);
}

/* The chain of the file that gets another length. */
static void put_file_chain(struct making *f, uint8_t *fat) {
    const struct fat_shape *s = &f->was.s;
    for (uint64_t i = f->c.file; i < ws_max_u64(f->c.file_will, f->c.file_end); i++)
        fat_set_entry(fat, s->bits, i + 2,
                      i >= f->c.file_will       ? 0
                      : i + 1 == f->c.file_will ? fat_end_mark(s->bits)
                                                : (uint32_t)(i + 3));
}

static enum ws_status put_tables(struct making *f, struct ws_error *error) {
    const struct fat_shape *s = &f->was.s;
    const size_t bytes = (size_t)(s->fat_sectors * s->sector);
    uint8_t *fat = calloc(1, bytes + 4);
    if (!fat) return ws_fail(error, WS_E_NOMEM, "out of memory for a FAT of %zu bytes", bytes);
    for (uint32_t n = 0; n < 2; n++) fat_set_entry(fat, s->bits, n, raw_entry(&f->was, n));
    for (uint32_t n = 2; n - 2 < s->clusters; n++) {
        const uint32_t entry = fat_entry(&f->was, n);
        if (entry == 0 || clusters_going(&f->c, n - 2) || is_bad_outside(f, n)) continue;
        const uint32_t value = is_end(s, entry) || is_bad(s, entry) ? entry : number_now(f, entry);
        fat_set_entry(fat, s->bits, number_now(f, n), value | (s->bits == 32 ? raw_entry(&f->was, n) & 0xf0000000 : 0));
    }
    if (f->file && !f->c.going_end) put_file_chain(f, fat);
    if (f->longer) {
        fat_set_entry(fat, s->bits, f->last, f->longer | (raw_entry(&f->was, f->last) & 0xf0000000));
        fat_set_entry(fat, s->bits, f->longer, fat_end_mark(s->bits) | (raw_entry(&f->was, f->longer) & 0xf0000000));
    }
    for (uint32_t n = f->put && f->old ? (uint32_t)f->old->origin : 0; is_cluster(s, n); n = fat_entry(&f->was, n))
        fat_set_entry(fat, s->bits, n, 0);
    const uint64_t count = f->put ? ws_max_u64(ws_div_up(f->c.room->put_length, s->cluster), 1) : 0;
    for (uint64_t i = 0; i < count; i++)
        fat_set_entry(fat, s->bits, f->put + i, i + 1 < count ? (uint32_t)(f->put + i + 1) : fat_end_mark(s->bits));
    enum ws_status status = WS_OK;
    for (uint64_t copy = 0; status == WS_OK && copy < s->fats; copy++)
        status = clusters_put_fixed(&f->c, (s->reserved + copy * s->fat_sectors) * s->sector, fat, bytes, error);
    free(fat);
    return status;
}

static void correct_info(const struct making *f, uint8_t *info) { /* section 5 */
    const struct ws_room *room = f->c.room;
    if (ws_load_le32(info) != 0x41615252 || ws_load_le32(info + 484) != 0x61417272) return;
    ws_store_le32(info + 488, (uint32_t)(room->free_after / room->step));
    ws_store_le32(info + 492, 2);
}

static void correct_boot(struct making *f, uint8_t *b) {
    const struct fat_shape *s = &f->was.s;
    const uint64_t less = f->c.room->front / s->sector, left = s->sectors - less - f->c.room->back / s->sector;
    const uint32_t hidden = ws_load_le32(b + 28);
    if (hidden && hidden + less <= UINT32_MAX) ws_store_le32(b + 28, (uint32_t)(hidden + less));
    if (ws_load_le16(b + 19)) ws_store_le16(b + 19, (uint16_t)left);
    else ws_store_le32(b + 32, (uint32_t)left);
    if (s->bits == 32) ws_store_le32(b + 44, number_now(f, s->root_cluster));
}

/* All before the tables, the copies of boot sector and count among it. */
static enum ws_status put_reserved(struct making *f, struct ws_error *error) {
    const struct fat_shape *s = &f->was.s;
    const size_t length = (size_t)(s->reserved * s->sector);
    uint8_t *b = malloc(length);
    if (!b) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu bytes", length);
    enum ws_status status = ws_source_read(f->volume, 0, b, length, error);
    const uint64_t copy = s->bits == 32 ? ws_load_le16(b + 50) : 0;
    const uint64_t infos[2] = {s->bits == 32 ? ws_load_le16(b + 48) : 0, copy ? copy + 1 : 0};
    if (status == WS_OK) {
        if (copy && copy < s->reserved && memcmp(b + copy * s->sector, b, 90) == 0)
            correct_boot(f, b + copy * s->sector);
        for (int i = 0; i < 2; i++)
            if (infos[i] && infos[i] < s->reserved) correct_info(f, b + infos[i] * s->sector);
        correct_boot(f, b);
        status = clusters_put_fixed(&f->c, 0, b, length, error);
    }
    free(b);
    return status;
}

/* The mirroring of tables may be switched off (section 3.3). */
static enum ws_status check_mirrored(const struct making *f, struct ws_error *error) {
    uint8_t flags[2] = {0};
    if (f->was.s.bits == 32) WS_TRY(ws_source_read(f->volume, 40, flags, sizeof flags, error));
    return flags[0] & 0x80 ? room_one_table(error) : WS_OK;
}

static enum ws_status make(struct making *f, const struct ws_tree *tree, struct ws_error *error) {
    WS_TRY(take_used(f, error));
    WS_TRY(clusters_plan(&f->c, least_clusters(f->was.s.bits), WS_FAT_OVERLAY_MOST, error));
    if (f->c.goes) WS_TRY(walk(f, f->file->parent, note_gone, error));
    WS_TRY(name_it(f, tree, error));
    WS_TRY(put_folders(f, tree, error));
    if (f->c.room->put_name && !f->put) return room_full_top(error);
    WS_TRY(clusters_finish(&f->c, error));
    if (!f->c.layout) return WS_OK;
    WS_TRY(put_tables(f, error));
    return put_reserved(f, error);
}

enum ws_status room_fat(struct ws_room *room, struct ws_layout *layout, struct ws_error *error) {
    struct making f = {.c = {.room = room, .layout = layout}, .volume = room->volume};
    struct ws_fat_facts facts;
    struct ws_tree *tree = NULL;
    enum ws_status status;
    WS_TRY(ws_fat_probe(room->volume, &facts, error));
    (void)snprintf(room->format, sizeof room->format, "fat%u", facts.bits);
    (void)snprintf(room->label, sizeof room->label, "%s", facts.label);
    room->size = facts.size;
    if (!facts.clean) return room_in_use(error);
    WS_GO(ws_fat_read(room->volume, &tree, &facts, error)); /* sound, or else it is not touched */
    WS_GO(fat_table_open(room->volume, &f.was, error));
    WS_GO(check_mirrored(&f, error));
    (void)snprintf(room->label, sizeof room->label, "%s", facts.label); /* of its root folder */
    for (const struct ws_node *n = ws_tree_root(tree); n && room->file_at; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content && n->work == room->file_at) f.file = n;
    WS_GO(room_find_old(room, tree, &f.old, error));
    status = make(&f, tree, error);
done:
    clusters_close(&f.c);
    ws_text_free(&f.record);
    free(f.was.bytes);
    ws_tree_close(tree);
    return status;
}
