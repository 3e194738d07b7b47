/* compose.c — an exFAT volume from a tree: everything contiguous, in reading order. */
#include "fs/around.h"
#include "fs/exfat/internal.h"

#include <stdlib.h>
#include <string.h>

struct composing {
    const struct ws_exfat_params *params;
    struct ws_tree *tree;
    struct exfat_shape s;
    struct ws_text upcase;
    size_t upcase_bytes; /* of the table itself, without what fills its last cluster */
    uint32_t upcase_sum;
    uint64_t bitmap_bytes, bitmap_clusters, upcase_clusters;
    struct around clusters;
};

static enum ws_status bad_node(struct ws_error *error, const struct ws_node *n, const char *what) {
    char path[200];
    ws_fail(error, WS_E_UNSUPPORTED, "exFAT cannot hold this: %s", what);
    return ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
}

static enum ws_status check_tree(const struct ws_tree *tree, struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        const struct ws_node *one, *other;
        if ((n->kind != WS_NODE_FOLDER && n->kind != WS_NODE_FILE) || n->same_as)
            return bad_node(error, n, "there are no links and no devices on it");
        const char *why = n->parent ? ws_name_fault(ws_name_rules_exfat(), n->name) : NULL;
        if (why) return bad_node(error, n, why);
        if (n->kind == WS_NODE_FOLDER && ws_names_collide(n, &one, &other, error))
            return one == n ? WS_E_NOMEM
                            : bad_node(error, other, "another name beside it differs only in its letters' case");
    }
    return WS_OK;
}

/* Section 7.2.5: runs of letters that stay as they are become a mark and a count. */
static enum ws_status make_upcase(struct ws_text *out, struct ws_error *error) {
    for (uint32_t c = 0; c < 0x10000;) {
        uint32_t run = 0;
        while (c + run < 0x10000 && ws_upcase((uint16_t)(c + run)) == c + run) run++;
        uint8_t unit[4];
        if (run > 2) {
            if (run > 0xfffe) run = 0xfffe;
            ws_store_le16(unit, 0xffff);
            ws_store_le16(unit + 2, (uint16_t)run);
            ws_text_add(out, unit, 4);
            c += run;
        } else {
            ws_store_le16(unit, ws_upcase((uint16_t)c++));
            ws_text_add(out, unit, 2);
        }
    }
    return ws_text_status(out, error);
}

static size_t name_units(const struct ws_node *n) {
    uint16_t units[256];
    return ws_utf16_from_utf8(n->name, units, 255);
}

static uint64_t folder_bytes(const struct composing *c, const struct ws_node *folder) {
    uint64_t entries = folder->parent ? 0 : 2 + (c->params->label[0] ? 1 : 0);
    for (const struct ws_node *n = folder->first; n; n = n->next) entries += 2 + ws_div_up(name_units(n), 15);
    return entries * EXFAT_ENTRY;
}

static uint64_t clusters_of(const struct composing *c, const struct ws_node *n) {
    if (n->kind == WS_NODE_FILE) return ws_div_up(ws_node_size(n), c->s.cluster);
    uint64_t clusters = ws_div_up(folder_bytes(c, n), c->s.cluster);
    return clusters ? clusters : 1;
}

static enum ws_status shape(struct composing *c, struct ws_error *error) {
    const struct ws_exfat_params *p = c->params;
    struct exfat_shape *s = &c->s;
    uint32_t align = p->align ? p->align : 1u << 20;
    s->cluster = p->cluster ? p->cluster : p->size <= 256ull << 20 ? 4096 : p->size <= 32ull << 30 ? 32768 : 131072;
    s->sector = p->sector ? p->sector : EXFAT_SECTOR_LEAST;
    if (s->sector < EXFAT_SECTOR_LEAST || s->sector > EXFAT_SECTOR_MOST || (s->sector & (s->sector - 1)))
        return ws_fail(error, WS_E_RANGE, "a sector of %u bytes is not possible: 512, 1024, 2048 and 4096 are",
                       s->sector);
    if (s->cluster < s->sector || s->cluster > 32u << 20 || (s->cluster & (s->cluster - 1)))
        return ws_fail(error, WS_E_RANGE, "a cluster of %u bytes is not possible: powers of two from %u to 32 MiB are",
                       s->cluster, s->sector);
    if (align < s->sector || (align & (align - 1)) || align > 64u << 20)
        return ws_fail(error, WS_E_RANGE, "an alignment of %u bytes is not possible", align);
    if (p->size < WS_EXFAT_LEAST)
        return ws_fail(error, WS_E_RANGE, "an exFAT volume has at least 1 MiB"); /* section 3.1.4 */
    while (align > s->sector && align > p->size / 8) align /= 2;
    s->sectors = p->size / s->sector;
    uint64_t hidden = p->hidden_sectors * s->sector;
    s->fat_at = 2 * EXFAT_BOOT_SECTORS;
    /* The table's length depends on the clusters, which depend on it: the first guess is large enough. */
    uint64_t guess = p->size / s->cluster + 2;
    s->fat_sectors = ws_div_up(guess * 4, s->sector);
    uint64_t heap = ws_round_up(hidden + (s->fat_at + s->fat_sectors) * s->sector, align) - hidden;
    if (heap + 4ull * s->cluster > p->size)
        return ws_fail(error, WS_E_RANGE, "clusters of %u bytes are too large here", s->cluster);
    s->heap_at = heap / s->sector;
    s->clusters = (s->sectors - s->heap_at) * s->sector / s->cluster;
    if (s->clusters > EXFAT_CLUSTERS_MOST)
        return ws_fail(error, WS_E_RANGE, "clusters of %u bytes are too small for a volume of this size", s->cluster);
    c->bitmap_bytes = ws_div_up(s->clusters, 8);
    c->bitmap_clusters = ws_div_up(c->bitmap_bytes, s->cluster);
    c->upcase_clusters = ws_div_up(c->upcase_bytes, s->cluster);
    return WS_OK;
}

/* Bitmap, up-case table, root, then all else in reading order. */
static enum ws_status place(struct composing *c, struct ws_error *error) {
    const uint64_t first = c->bitmap_clusters + c->upcase_clusters;
    if (!around_begin(&c->clusters, c->tree, c->s.heap_at * c->s.sector, c->s.cluster,
                      first + clusters_of(c, ws_tree_root(c->tree)))) /* the root's chain follows theirs */
        return ws_fail(error, WS_E_UNSUPPORTED, "a file is to stay where the exFAT volume has no place for it");
    c->clusters.next += first;
    c->clusters.used = first;
    for (struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        n->work2 = clusters_of(c, n);
        n->work = n->work2 ? around_take(&c->clusters, n, n->work2) : 0;
    }
    c->s.root = (uint32_t)ws_tree_root(c->tree)->work;
    const uint64_t end = around_end(&c->clusters) - 2;
    if (end <= c->s.clusters) return WS_OK;
    char need[24];
    return ws_fail(error, WS_E_SPACE, "the files need %s more than the exFAT volume has",
                   ws_size_counted((end - c->s.clusters) * c->s.cluster, need, sizeof need));
}

static uint64_t place_of(const struct composing *c, uint64_t at, uint64_t cluster) {
    return at + c->s.heap_at * c->s.sector + (cluster - 2) * c->s.cluster;
}

/* Section 7.4.8: the DOS form of a time, in UTC; the tenths byte counts hundredths of the two seconds. */
static void store_time(uint8_t *stamp, uint8_t *hundredths, uint8_t *zone, int64_t seconds, uint32_t ns) {
    ws_store_le32(stamp, ws_dos_time(seconds));
    if (seconds < 315532800) ns = 0, seconds = 0;
    if (hundredths) *hundredths = (uint8_t)(seconds % 2 * 100 + ns / 10000000);
    *zone = 0x80; /* valid, and UTC */
}

static uint16_t name_hash(const uint16_t *units, size_t count) { /* section 7.6.4 */
    uint16_t hash = 0;
    for (size_t i = 0; i < count; i++) {
        uint16_t up = ws_upcase(units[i]);
        hash = (uint16_t)(((hash << 15) | (hash >> 1)) + (up & 0xff));
        hash = (uint16_t)(((hash << 15) | (hash >> 1)) + (up >> 8));
    }
    return hash;
}

size_t exfat_set_make(uint8_t set[EXFAT_SET_MOST], const struct ws_node *n, uint32_t cluster, uint64_t length) {
    uint16_t units[256] = {0};
    size_t count = ws_utf16_from_utf8(n->name, units, 255);
    size_t names = ws_div_up(count, 15);
    uint8_t *s = set + EXFAT_ENTRY;
    memset(set, 0, EXFAT_SET_MOST);
    set[0] = ENTRY_FILE;
    set[1] = (uint8_t)(1 + names);
    ws_store_le16(set + 4, fat_attributes_of(n));
    store_time(set + 8, &set[20], &set[22], n->born ? n->born : n->mtime, n->born ? 0 : n->mtime_ns);
    store_time(set + 12, &set[21], &set[23], n->mtime, n->mtime_ns);
    store_time(set + 16, NULL, &set[24], n->mtime, 0);
    s[0] = ENTRY_STREAM;
    s[1] = (uint8_t)(length ? 3 : 1); /* allocation possible; contiguous, so no chain */
    s[3] = (uint8_t)count;
    ws_store_le16(s + 4, name_hash(units, count));
    ws_store_le64(s + 8, length);
    ws_store_le32(s + 20, cluster);
    ws_store_le64(s + 24, length);
    for (size_t i = 0; i < names; i++) {
        uint8_t *e = set + EXFAT_ENTRY * (2 + i);
        e[0] = ENTRY_NAME;
        for (size_t k = 0; k < 15; k++) ws_store_le16(e + 2 + 2 * k, units[i * 15 + k]);
    }
    ws_store_le16(set + 2, exfat_set_checksum(set, EXFAT_ENTRY * (2 + names)));
    return EXFAT_ENTRY * (2 + names);
}

static void add_set(const struct composing *c, struct ws_text *out, const struct ws_node *n) {
    uint8_t set[EXFAT_SET_MOST];
    const uint64_t length = n->kind == WS_NODE_FOLDER ? n->work2 * c->s.cluster : ws_node_size(n);
    ws_text_add(out, set, exfat_set_make(set, n, (uint32_t)n->work, length));
}

static void add_root_entries(const struct composing *c, struct ws_text *out) {
    uint8_t e[EXFAT_ENTRY] = {ENTRY_LABEL};
    uint16_t units[12] = {0};
    size_t count = ws_utf16_from_utf8(c->params->label, units, 11);
    e[1] = (uint8_t)count;
    for (size_t i = 0; i < count; i++) ws_store_le16(e + 2 + 2 * i, units[i]);
    if (count) ws_text_add(out, e, sizeof e);
    memset(e, 0, sizeof e);
    e[0] = ENTRY_BITMAP;
    ws_store_le32(e + 20, 2);
    ws_store_le64(e + 24, c->bitmap_bytes);
    ws_text_add(out, e, sizeof e);
    memset(e, 0, sizeof e);
    e[0] = ENTRY_UPCASE;
    ws_store_le32(e + 4, c->upcase_sum);
    ws_store_le32(e + 20, (uint32_t)(2 + c->bitmap_clusters));
    ws_store_le64(e + 24, c->upcase_bytes);
    ws_text_add(out, e, sizeof e);
}

static enum ws_status add_padded(struct ws_layout *layout, uint64_t at, struct ws_text *text, uint64_t room,
                                 struct ws_error *error) {
    static const uint8_t zeros[512];
    while (text->length < room && !text->failed)
        ws_text_add(text, zeros, (size_t)ws_min_u64(sizeof zeros, room - text->length));
    WS_TRY(ws_text_status(text, error));
    return ws_layout_add_bytes(layout, at, text->data, text->length, WS_PHASE_BODY, error);
}

static enum ws_status add_boot(const struct composing *c, uint64_t at, struct ws_layout *layout,
                               struct ws_error *error) {
    uint8_t region[EXFAT_BOOT_SECTORS * EXFAT_SECTOR_MOST] = {0xeb, 0x76, 0x90};
    const struct exfat_shape *s = &c->s;
    size_t bytes = (size_t)EXFAT_BOOT_SECTORS * s->sector;
    uint8_t sector_shift = 9, shift = 0;
    while (1u << sector_shift < s->sector) sector_shift++;
    while (s->sector << shift < s->cluster) shift++;
    memcpy(region + 3, "EXFAT   ", 8);
    ws_store_le64(region + 64, c->params->hidden_sectors);
    ws_store_le64(region + 72, s->sectors);
    ws_store_le32(region + 80, (uint32_t)s->fat_at);
    ws_store_le32(region + 84, (uint32_t)s->fat_sectors);
    ws_store_le32(region + 88, (uint32_t)s->heap_at);
    ws_store_le32(region + 92, (uint32_t)s->clusters);
    ws_store_le32(region + 96, s->root);
    ws_store_le32(region + 100, c->params->serial);
    ws_store_le16(region + 104, 0x0100);
    region[108] = sector_shift;
    region[109] = shift;
    region[110] = 1;
    region[111] = 0x80;
    region[112] = (uint8_t)(c->clusters.used * 100 / s->clusters);
    memset(region + 120, 0xf4, 390); /* halt: there is no code here to start */
    region[510] = 0x55;
    region[511] = 0xaa;
    for (size_t i = 1; i < 9; i++) /* eight extended ones, each signed at its end */
        ws_store_le32(region + (i + 1) * s->sector - 4, 0xaa550000);
    uint32_t sum = exfat_checksum(0, region, s->sector, true);
    sum = exfat_checksum(sum, region + s->sector, 10 * s->sector, false);
    for (size_t i = 0; i < s->sector; i += 4) ws_store_le32(region + 11 * s->sector + i, sum);
    WS_TRY(ws_layout_add_bytes(layout, at, region, bytes, WS_PHASE_BODY, error));
    return ws_layout_add_bytes(layout, at + bytes, region, bytes, WS_PHASE_BODY, error);
}

/* Chains for bitmap, up-case table and root; all else is contiguous and needs none. The rest of the table is zeroed,
 * for whoever looks at it all the same. */
static enum ws_status add_fat(const struct composing *c, uint64_t at, struct ws_layout *layout,
                              struct ws_error *error) {
    const uint64_t lengths[3] = {c->bitmap_clusters, c->upcase_clusters, ws_tree_root(c->tree)->work2};
    uint64_t entries = 2 + lengths[0] + lengths[1] + lengths[2];
    size_t bytes = (size_t)ws_round_up(entries * 4, c->s.sector);
    struct ws_source *zeros = NULL;
    uint8_t *fat = calloc(1, bytes);
    if (!fat) return ws_fail(error, WS_E_NOMEM, "out of memory for an allocation table");
    ws_store_le32(fat, 0xfffffff8);
    ws_store_le32(fat + 4, EXFAT_END);
    uint64_t cluster = 2;
    for (int chain = 0; chain < 3; chain++)
        for (uint64_t i = 0; i < lengths[chain]; i++, cluster++)
            ws_store_le32(fat + 4 * cluster, i + 1 < lengths[chain] ? (uint32_t)(cluster + 1) : EXFAT_END);
    uint64_t table = at + c->s.fat_at * c->s.sector;
    enum ws_status status = ws_layout_add_bytes(layout, table, fat, bytes, WS_PHASE_BODY, error);
    free(fat);
    WS_TRY(status);
    uint64_t rest = c->s.fat_sectors * c->s.sector - bytes;
    if (rest == 0) return WS_OK;
    WS_TRY(ws_source_zeros(rest, &zeros, error));
    WS_TRY(ws_layout_own(layout, zeros, error));
    return ws_layout_add(layout, table + bytes, rest, zeros, 0, WS_PHASE_BODY, error);
}

static void mark_used(uint8_t *bits, uint64_t from, uint64_t to) {
    for (from -= 2, to -= 2; from < to && from % 8; from++) bits[from / 8] |= (uint8_t)(1u << from % 8);
    if (from >= to) return;
    memset(bits + from / 8, 0xff, (size_t)((to - from) / 8));
    if (to % 8) bits[to / 8] |= (uint8_t)((1u << to % 8) - 1);
}

static enum ws_status add_bitmap(const struct composing *c, uint64_t at, struct ws_layout *layout,
                                 struct ws_error *error) {
    uint64_t room = c->bitmap_clusters * c->s.cluster;
    const struct around *a = &c->clusters;
    struct ws_source *zeros = NULL;
    size_t head = (size_t)ws_min_u64(ws_round_up((around_end(a) - 2) / 8 + 1, c->s.sector), room);
    uint8_t *bits = calloc(1, head);
    if (!bits) return ws_fail(error, WS_E_NOMEM, "out of memory for an allocation bitmap");
    mark_used(bits, 2, a->next);
    if (a->from != UINT64_MAX) mark_used(bits, a->from, a->behind);
    uint64_t place = place_of(c, at, 2);
    enum ws_status status = ws_layout_add_bytes(layout, place, bits, head, WS_PHASE_BODY, error);
    free(bits);
    if (status != WS_OK || head == room) return status;
    WS_TRY(ws_source_zeros(room - head, &zeros, error));
    WS_TRY(ws_layout_own(layout, zeros, error));
    return ws_layout_add(layout, place + head, room - head, zeros, 0, WS_PHASE_BODY, error);
}

static enum ws_status add_tree(struct composing *c, uint64_t at, struct ws_layout *layout, struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        uint64_t place = place_of(c, at, n->work);
        if (n->kind == WS_NODE_FILE) {
            if (n->content && n->work2 && !n->reserved)
                WS_TRY(ws_layout_add(layout, place, ws_node_size(n), n->content, 0, WS_PHASE_BODY, error));
            continue;
        }
        struct ws_text text = {0};
        if (!n->parent) add_root_entries(c, &text);
        for (const struct ws_node *child = n->first; child; child = child->next) add_set(c, &text, child);
        enum ws_status status = add_padded(layout, place, &text, n->work2 * c->s.cluster, error);
        ws_text_free(&text);
        WS_TRY(status);
    }
    return WS_OK;
}

enum ws_status ws_exfat_compose(const struct ws_exfat_params *params, struct ws_tree *tree, uint64_t at,
                                struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error) {
    struct composing c = {.params = params, .tree = tree};
    uint16_t units[64];
    enum ws_status status;
    if (!memchr(params->label, 0, sizeof params->label) || ws_utf16_from_utf8(params->label, units, 64) > 11)
        return ws_fail(error, WS_E_RANGE, "an exFAT label has at most 11 characters");
    WS_GO(check_tree(tree, error));
    WS_GO(make_upcase(&c.upcase, error));
    c.upcase_bytes = c.upcase.length;
    c.upcase_sum = exfat_checksum(0, (const uint8_t *)c.upcase.data, c.upcase.length, false);
    WS_GO(shape(&c, error));
    WS_GO(place(&c, error));
    if (free_bytes) *free_bytes = (c.s.clusters - c.clusters.used) * c.s.cluster;
    if (!layout) goto done;
    WS_GO(add_boot(&c, at, layout, error));
    WS_GO(add_fat(&c, at, layout, error));
    WS_GO(add_bitmap(&c, at, layout, error));
    WS_GO(
        add_padded(layout, place_of(&c, at, 2 + c.bitmap_clusters), &c.upcase, c.upcase_clusters * c.s.cluster, error));
    WS_GO(add_tree(&c, at, layout, error));
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->work) n->work = place_of(&c, 0, n->work);
done:
    ws_text_free(&c.upcase);
    return status;
}
