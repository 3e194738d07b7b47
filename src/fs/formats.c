/* formats.c — the table of formats: what each file system is to the rest of the library. */
#include "wild_satchel/format.h"

#include "base/bytes.h"
#include "wild_satchel/exfat.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/udf.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { GROWS_BY = 1024 }; /* of ext4: so many times its size, 2 TiB at most */
enum { MIB = 1 << 20, PAGE = 4096, ISO_DESCRIPTOR = 16 * 2048 };

static uint32_t serial_of(const struct ws_volume_params *p) { return ws_load_le32(p->id.byte); }

static enum ws_status take_label(const char *label, char *out, size_t room, struct ws_error *error) {
    size_t length = strlen(label);
    if (length >= room) return ws_fail(error, WS_E_RANGE, "the label \"%s\" is too long for this file system", label);
    memcpy(out, label, length + 1);
    return WS_OK;
}

/* ext4 */

static void ext4_facts(const struct ws_ext4_facts *e, struct ws_volume_facts *facts) {
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "ext4");
    (void)snprintf(facts->label, sizeof facts->label, "%s", e->label);
    (void)ws_guid_text(&e->id, facts->id);
    facts->size = e->size;
    facts->free_bytes = e->free_bytes;
    facts->counted = true;
    facts->clean = e->clean;
    facts->files = e->inodes - e->free_inodes > 11 ? e->inodes - e->free_inodes - 11 : 0; /* the reserved ones */
    facts->files_counted = true;
    facts->written_at = e->written_at;
}

static enum ws_status ext4_probe(const struct ws_source *volume, struct ws_volume_facts *facts,
                                 struct ws_error *error) {
    struct ws_ext4_facts e;
    WS_TRY(ws_ext4_probe(volume, &e, error));
    ext4_facts(&e, facts);
    return WS_OK;
}

static enum ws_status ext4_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_volume_facts *facts,
                                struct ws_error *error) {
    struct ws_ext4_facts e;
    WS_TRY(ws_ext4_read(volume, tree, &e, error));
    if (facts) ext4_facts(&e, facts);
    return WS_OK;
}

static uint64_t ext4_least(uint32_t sector, uint32_t cluster) {
    (void)sector, (void)cluster;
    return WS_EXT4_LEAST;
}

/* The geometry is needed as long as the layout: a source that nobody reads brings it there. */
static void free_geometry(struct ws_source *source) {
    ws_ext4_geometry_free(source->state);
    free(source->state);
}
static const struct ws_source_ops geometry_ops = {NULL, free_geometry, NULL};

static enum ws_status ext4_compose(const struct ws_volume_params *p, struct ws_tree *tree, uint64_t at,
                                   struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error) {
    struct ws_ext4_params e = {.size = p->size, .id = p->id, .seed = p->seed, .made_at = p->made_at};
    if (p->may_grow) e.grow_to = ws_max_u64(ws_min_u64(p->size * GROWS_BY, WS_EXT4_MOST / 8), 2 * p->size);
    struct ws_source *keeper = NULL;
    WS_TRY(take_label(p->label, e.label, sizeof e.label, error));
    struct ws_ext4_geometry *g = malloc(sizeof *g);
    if (!g) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    enum ws_status status = ws_ext4_measure(&e, tree, g, error);
    if (status == WS_OK && free_bytes) *free_bytes = g->free_bytes;
    if (status == WS_OK && layout) {
        status = ws_source_make(&geometry_ops, 0, g, &keeper, error);
        if (status == WS_OK) {
            WS_TRY(ws_layout_own(layout, keeper, error));
            return ws_ext4_compose(g, at, layout, WS_PHASE_BODY, error);
        }
    }
    if (status == WS_OK) ws_ext4_geometry_free(g);
    free(g);
    return status;
}

/* FAT: 12, 16 and 32 bits are read, 32 composed */

static void fat_facts(const struct ws_fat_facts *f, struct ws_volume_facts *facts) {
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "FAT%u", f->bits);
    (void)snprintf(facts->label, sizeof facts->label, "%s", f->label);
    ws_serial_name(f->serial, facts->id);
    facts->size = f->size;
    facts->free_bytes = f->free_bytes;
    facts->counted = true;
    facts->clean = f->clean;
}

static enum ws_status fat_probe(const struct ws_source *volume, struct ws_volume_facts *facts, struct ws_error *error) {
    struct ws_fat_facts f;
    WS_TRY(ws_fat_probe(volume, &f, error));
    fat_facts(&f, facts);
    return WS_OK;
}

static enum ws_status fat_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_volume_facts *facts,
                               struct ws_error *error) {
    struct ws_fat_facts f;
    WS_TRY(ws_fat_read(volume, tree, &f, error));
    if (facts) fat_facts(&f, facts);
    return WS_OK;
}

/* At least 65,525 clusters, of a sector each or of a page: those begin at 256 MiB, and tables come on top. */
static uint64_t fat_least(uint32_t sector, uint32_t cluster) {
    return sector > 512 || cluster > 512 ? 300ull * MIB : 64ull * MIB;
}

static enum ws_status fat_compose(const struct ws_volume_params *p, struct ws_tree *tree, uint64_t at,
                                  struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error) {
    struct ws_fat_params f = {.size = p->size,
                              .bits = 32,
                              .cluster = p->cluster,
                              .align = p->align,
                              .serial = serial_of(p),
                              .sector = p->sector,
                              .hidden_sectors = at / p->sector,
                              .made_at = p->made_at};
    uint64_t size = 0;
    WS_TRY(take_label(p->label, f.label, sizeof f.label, error));
    return ws_fat_compose(&f, tree, at, layout, &size, free_bytes, error);
}

/* exFAT */

static void exfat_facts(const struct ws_exfat_facts *x, struct ws_volume_facts *facts) {
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "exFAT");
    (void)snprintf(facts->label, sizeof facts->label, "%s", x->label);
    ws_serial_name(x->serial, facts->id);
    facts->size = x->size;
    facts->free_bytes = x->free_bytes;
    facts->counted = true;
    facts->clean = x->clean;
}

static enum ws_status exfat_probe(const struct ws_source *volume, struct ws_volume_facts *facts,
                                  struct ws_error *error) {
    struct ws_exfat_facts x;
    WS_TRY(ws_exfat_probe(volume, &x, error));
    exfat_facts(&x, facts);
    return WS_OK;
}

static enum ws_status exfat_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_volume_facts *facts,
                                 struct ws_error *error) {
    struct ws_exfat_facts x;
    WS_TRY(ws_exfat_read(volume, tree, &x, error));
    if (facts) exfat_facts(&x, facts);
    return WS_OK;
}

static uint64_t exfat_least(uint32_t sector, uint32_t cluster) {
    (void)sector, (void)cluster;
    return 64ull * MIB; /* smaller ones can be composed, but are no use on a drive */
}

static enum ws_status exfat_compose(const struct ws_volume_params *p, struct ws_tree *tree, uint64_t at,
                                    struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error) {
    struct ws_exfat_params x = {.size = p->size,
                                .cluster = p->cluster,
                                .align = p->align > MIB ? p->align : MIB,
                                .serial = serial_of(p),
                                .sector = p->sector,
                                .hidden_sectors = at / p->sector,
                                .made_at = p->made_at};
    WS_TRY(take_label(p->label, x.label, sizeof x.label, error));
    return ws_exfat_compose(&x, tree, at, layout, free_bytes, error);
}

/* Swap: the first page of an area, as the kernel's mm/swapfile.c and include/linux/swap.h have it. */

static enum ws_status swap_probe(const struct ws_source *volume, struct ws_volume_facts *facts,
                                 struct ws_error *error) {
    uint8_t page[PAGE];
    if (volume->size < PAGE) return ws_fail(error, WS_E_NOTFOUND, "there is no swap area");
    WS_TRY(ws_source_read(volume, 0, page, PAGE, error));
    if (memcmp(page + PAGE - 10, "SWAPSPACE2", 10) != 0) return ws_fail(error, WS_E_NOTFOUND, "there is no swap area");
    struct ws_guid id;
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "swap");
    memcpy(id.byte, page + 1036, 16);
    (void)ws_guid_text(&id, facts->id);
    char label[17] = "";
    memcpy(label, page + 1052, 16);
    ws_visible(label, facts->label, sizeof facts->label);
    facts->size = ((uint64_t)ws_load_le32(page + 1028) + 1) * PAGE;
    facts->clean = true;
    return WS_OK;
}

static uint64_t swap_least(uint32_t sector, uint32_t cluster) {
    (void)sector, (void)cluster;
    return MIB;
}

static enum ws_status swap_compose(const struct ws_volume_params *p, struct ws_tree *tree, uint64_t at,
                                   struct ws_layout *layout, uint64_t *free_bytes, struct ws_error *error) {
    uint8_t page[PAGE] = {0};
    (void)tree;
    ws_store_le32(page + 1024, 1);
    ws_store_le32(page + 1028, (uint32_t)ws_min_u64(p->size / PAGE - 1, 0xffffffff));
    memcpy(page + 1036, p->id.byte, 16);
    WS_TRY(take_label(p->label, (char *)page + 1052, 17, error));
    memcpy(page + PAGE - 10, "SWAPSPACE2", 10);
    if (free_bytes) *free_bytes = p->size - PAGE;
    return layout ? ws_layout_add_bytes(layout, at, page, sizeof page, WS_PHASE_BODY, error) : WS_OK;
}

/* ISO 9660 volumes are images' own: told, and read by ws_iso_open(). */

static enum ws_status iso_probe(const struct ws_source *volume, struct ws_volume_facts *facts, struct ws_error *error) {
    uint8_t d[2048];
    if (volume->size < ISO_DESCRIPTOR + 2 * sizeof d)
        return ws_fail(error, WS_E_NOTFOUND, "there is no ISO 9660 volume");
    WS_TRY(ws_source_read(volume, ISO_DESCRIPTOR, d, sizeof d, error));
    if (memcmp(d + 1, "CD001", 5) != 0) return ws_fail(error, WS_E_NOTFOUND, "there is no ISO 9660 volume");
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "ISO 9660");
    (void)snprintf(facts->label, sizeof facts->label, "%.32s", (const char *)d + 40);
    for (size_t n = strlen(facts->label); n > 0 && facts->label[n - 1] == ' '; n--) facts->label[n - 1] = '\0';
    facts->size = (uint64_t)ws_load_le32(d + 80) * 2048;
    facts->clean = true;
    return WS_OK;
}

/* UDF: read, and not made */

static void udf_facts(const struct ws_udf_facts *u, struct ws_volume_facts *facts) {
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->system, sizeof facts->system, "UDF");
    (void)snprintf(facts->label, sizeof facts->label, "%.40s", u->label);
    ws_utf8_trim(facts->label);
    facts->size = u->size;
    facts->clean = u->clean;
    facts->written_at = u->made_at;
}

static enum ws_status udf_probe(const struct ws_source *volume, struct ws_volume_facts *facts, struct ws_error *error) {
    struct ws_udf_facts u;
    WS_TRY(ws_udf_probe(volume, &u, error));
    udf_facts(&u, facts);
    return WS_OK;
}

static enum ws_status udf_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_volume_facts *facts,
                               struct ws_error *error) {
    struct ws_udf_facts u;
    WS_TRY(ws_udf_read(volume, tree, &u, error));
    if (facts) udf_facts(&u, facts);
    return WS_OK;
}

/* Whoever makes another volume over one of the first two writes over their first sector; over one of the others
 * signatures may be left that nothing of the newer one covers. */
static const struct ws_format rows[] = {
    {"exfat", "exFAT", "exfat", NULL, true, false, UINT64_MAX, ws_name_rules_exfat, exfat_least, exfat_probe,
     exfat_read, exfat_compose, ws_exfat_spare},
    {"fat32", "FAT32", "data", "efi", true, true, 2ull << 40, ws_name_rules_fat, fat_least, fat_probe, fat_read,
     fat_compose, ws_fat_spare},
    {"ext4", "ext4", "linux", NULL, false, false, WS_EXT4_MOST, NULL, ext4_least, ext4_probe, ext4_read, ext4_compose,
     NULL},
    {"iso9660", "ISO 9660", NULL, NULL, false, false, 0, NULL, NULL, iso_probe, NULL, NULL, NULL},
    {"udf", "UDF", NULL, NULL, false, false, 0, NULL, NULL, udf_probe, udf_read, NULL, NULL},
    {"swap", "swap", "swap", NULL, false, false, 16ull << 40, NULL, swap_least, swap_probe, NULL, swap_compose, NULL},
};

const struct ws_format *ws_formats(size_t *count) {
    *count = sizeof rows / sizeof rows[0];
    return rows;
}

const struct ws_format *ws_format_find(const char *word) {
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (strcmp(rows[i].word, word) == 0) return &rows[i];
    return NULL;
}

const struct ws_format *ws_format_of(const struct ws_source *volume, struct ws_volume_facts *facts) {
    struct ws_volume_facts own;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (rows[i].probe(volume, facts ? facts : &own, NULL) == WS_OK) return &rows[i];
    return NULL;
}
