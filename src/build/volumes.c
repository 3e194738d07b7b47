/* volumes.c — what stands behind the image: the persistence volume, an ordinary data volume, swap. */
#include "build/internal.h"

#include "wild_satchel/fat.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20, SWAP_LEAST = MIB, PAGE = 4096 };
static const uint64_t overlay_most = WS_FAT_FILE_MOST / PAGE * PAGE;

enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t need) {
    char drive[48];
    char needed[48];
    ws_fail(error, WS_E_SPACE, "the drive holds %s, and %s are needed",
            ws_size_both(plan->drive_size, drive, sizeof drive), ws_size_both(need, needed, sizeof needed));
    ws_fail_where(error, "%s", plan->drive_name);
    return ws_fail_next(error, "take a larger drive, or ask for less");
}

enum ws_status build_check_sector(uint32_t sector, const char *drive, struct ws_error *error) {
    if (sector >= 512 && sector <= 4096 && (sector & (sector - 1)) == 0) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "a drive with sectors of %u bytes cannot be laid out here", sector);
    ws_fail_where(error, "%s", drive);
    return ws_fail_next(error, "take one with sectors of 512 or 4096 bytes");
}

/* Clusters of a page are for overlay files: the volume in one stands as it would in a partition. FAT32 has at least
 * 65,525 clusters, so it begins at 256 MiB then, and tables come on top. */
uint64_t build_fat_least(const struct ws_plan *p, bool pages) {
    return (pages || p->drive_sector > 512 ? 300ull : 64ull) * MIB;
}

/* The same for the data partition. */
static uint64_t data_least(const struct ws_plan *p) {
    return build_fat_least(p, p->persistence_place == WS_PERSIST_FILE && !build_overlay_beside(p));
}

uint32_t build_choose_align(const struct ws_plan *p) {
    uint32_t erase = p->drive_erase;
    bool sensible = erase > MIB && erase <= 64u * MIB && (erase & (erase - 1)) == 0;
    return sensible ? erase : MIB;
}

static uint64_t most_of_file(const struct ws_plan *p) {
    return build_overlay_beside(p) && p->system_exfat ? WS_EXT4_MOST : overlay_most;
}

/* The label of the volume on which the overlay file lies. */
static const char *label_beside(const struct ws_plan *p, char system[12]) {
    build_system_label(p, system);
    return build_overlay_beside(p) ? system : p->data_label;
}

static enum ws_status check_label(const struct ws_plan *p, struct ws_error *error) {
    char system[12];
    const char *label = label_beside(p, system);
    if (!ws_live_wants_label(p->family) || !strchr(label, ' ')) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "%s finds its file by the label of the volume, and cannot be told \"%s\"",
            p->family->title, label);
    return ws_fail_next(error, build_overlay_beside(p)
                                   ? "let rules give the volume a label without blanks, or leave --in out"
                                   : "take a --data-label without blanks, or leave --in out");
}

enum ws_status build_check_overlay(const struct ws_plan *p, struct ws_error *error) {
    if (p->persistence_place == WS_PERSIST_FILE && !p->family->overlay_file) {
        ws_fail(error, WS_E_UNSUPPORTED, "%s is not known to remember in a file", p->family->title);
        return ws_fail_next(error, "leave --in out: a partition is made then");
    }
    if (p->persistence_place == WS_PERSIST_FILE) WS_TRY(check_label(p, error));
    uint64_t asked = p->overlay ? p->overlay->size : p->persistence_asked;
    if (p->overlay && (p->persistence_place != WS_PERSIST_FILE || p->persistence_asked))
        return ws_fail(error, WS_E_USAGE, "a ready-made data file is an overlay file and has its own size");
    if (p->persistence_place == WS_PERSIST_FILE && asked > most_of_file(p)) {
        ws_fail(error, WS_E_RANGE,
                "FAT32 ends a file at 4 GiB less one byte, and an overlay file of more was asked for");
        return ws_fail_next(
            error, p->family->overlay_beside
                       ? "there are three ways: --persistence 4095M, a partition (leave --in out: plans take it by "
                         "themselves), or exFAT: --arrangement files --files-on exfat"
                       : "there are three ways: --persistence 4095M, a partition (leave --in out: plans take it by "
                         "themselves), or a family that looks for its file on exFAT");
    }
    return WS_OK;
}

static enum ws_status check_asked(const struct ws_plan *p, struct ws_error *error) {
    WS_TRY(build_check_overlay(p, error));
    if (p->data_asked == WS_PLAN_REST && !p->persistence_asked && p->persistence_place == WS_PERSIST_PARTITION) {
        ws_fail(error, WS_E_USAGE, "persistence and data cannot both take all that is left");
        return ws_fail_next(error, "say how large one of them is to be; `satchel size` helps with persistence");
    }
    if (p->data_asked && p->data_asked < data_least(p))
        return ws_fail(error, WS_E_USAGE, "a data partition%s needs at least %u MiB",
                       p->drive_sector > 512                       ? " on a drive with sectors of this size"
                       : data_least(p) > build_fat_least(p, false) ? " with an overlay file"
                                                                   : "",
                       (unsigned)(data_least(p) / MIB));
    if (p->swap_asked && p->swap_asked < SWAP_LEAST)
        return ws_fail(error, WS_E_USAGE, "a swap partition needs at least 1 MiB");
    return WS_OK;
}

static enum ws_status enter(struct ws_build *b, struct ws_table *table, uint64_t at, uint64_t size, const char *type,
                            const char *id_name, const char *label, unsigned *number, struct ws_error *error) {
    struct ws_guid id;
    WS_TRY(ws_guid_derive(&b->plan->id, id_name, &id, error));
    enum ws_status status = ws_table_add(table, at, size, type, &id, label, number, error);
    if (status == WS_E_SPACE) ws_fail_next(error, "ask for fewer partitions: the image's own take some of its entries");
    return status;
}

/* The data partition at *at, which moves behind it. */
static enum ws_status place_data(struct ws_build *b, struct ws_table *table, uint64_t *at, uint64_t end, uint64_t asked,
                                 uint64_t data, uint64_t swap, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (!asked) return WS_OK;
    if (asked == WS_PLAN_REST) data = *at + swap < end ? end - *at - swap : 0;
    if (swap) data = data / p->align * p->align;
    if (data < data_least(p) || *at + data > end) return build_does_not_fit(error, p, *at + data_least(p) + swap + MIB);
    p->data_at = *at;
    p->data_size = data;
    WS_TRY(enter(b, table, *at, data, "data", "data partition", p->data_label, &p->data_number, error));
    *at = ws_round_up(*at + data, p->align);
    return WS_OK;
}

static enum ws_status place_swap(struct ws_build *b, struct ws_table *table, uint64_t at, uint64_t end, uint64_t swap,
                                 struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (!p->swap_asked) return WS_OK;
    p->swap_at = at;
    p->swap_size = at < end ? ws_min_u64(swap, end - at) : 0;
    if (p->swap_size < p->swap_asked) return build_does_not_fit(error, p, at + p->swap_asked + MIB);
    return enter(b, table, at, p->swap_size, "swap", "swap partition", "swap", &p->swap_number, error);
}

/* From front to back: persistence, data, swap. What is asked as "the rest" gets what the others leave. */
enum ws_status build_place_volumes(struct ws_build *b, struct ws_table *table, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    uint64_t first;
    uint64_t end;
    WS_TRY(check_asked(p, error));
    p->align = build_choose_align(p);
    ws_table_free_tail(table, &first, &end);
    if (table->kind == WS_TABLE_MBR && !p->system_size && p->drive_size > 2ull << 40)
        ws_findings_add(&p->findings, WS_WARNING,
                        "the image's table is an MBR, which ends at 2 TiB: what lies behind stays unused");
    first = ws_round_up(ws_max_u64(first, p->image_end), p->align);
    end = end / PAGE * PAGE;
    uint64_t data_asked = p->data_asked;
    if (p->persistence_place == WS_PERSIST_FILE && !build_overlay_beside(p) && !data_asked)
        data_asked = WS_PLAN_REST; /* it needs a place */
    uint64_t persistence =
        p->persistence_place == WS_PERSIST_PARTITION ? ws_round_up(p->persistence_asked, p->align) : 0;
    uint64_t data = data_asked == WS_PLAN_REST ? 0 : ws_round_up(data_asked, p->align);
    uint64_t swap = ws_round_up(p->swap_asked, p->align);
    uint64_t least = swap + data;
    if (data_asked == WS_PLAN_REST) least += data_least(p);
    if (p->persistence_place == WS_PERSIST_PARTITION)
        least += persistence ? p->persistence_asked : (uint64_t)WS_EXT4_LEAST;
    if (least == 0) return WS_OK; /* everything is on the system's volume */
    if (first >= end || end - first < least) return build_does_not_fit(error, p, first + least + MIB);
    uint64_t room = end - first;
    if (p->persistence_place != WS_PERSIST_PARTITION) {
        WS_TRY(place_data(b, table, &first, end, data_asked, data, swap, error));
        return place_swap(b, table, first, end, swap, error);
    }
    if (!persistence) persistence = room - swap - data;
    if (swap || p->data_asked) persistence = persistence / p->align * p->align;
    if (persistence > room - swap - data) persistence = (room - swap - data) / PAGE * PAGE;
    if (persistence > WS_EXT4_MOST) persistence = WS_EXT4_MOST;
    if (persistence < p->persistence_asked && persistence < WS_EXT4_MOST)
        return build_does_not_fit(error, p, first + p->persistence_asked + swap + data + MIB);
    p->persistence_at = first;
    p->persistence_size = persistence;
    WS_TRY(enter(b, table, first, persistence, "linux", "persistence partition", p->family->label,
                 &p->persistence_number, error));
    uint64_t at = ws_round_up(first + persistence, p->align);
    WS_TRY(place_data(b, table, &at, end, data_asked, data, swap, error));
    return place_swap(b, table, at, end, swap, error);
}

/* A page where the usual size for this volume would be less. */
static uint32_t overlay_cluster(const struct ws_plan *p) { return p->data_size <= 8ull << 30 ? PAGE : 0; }

/* A ready-made volume: what is in it is the giver's business, but what would make it useless is said. */
static enum ws_status look_at_overlay(struct ws_plan *p, struct ws_error *error) {
    struct ws_ext4_facts facts;
    enum ws_status status = ws_ext4_probe(p->overlay, &facts, error);
    if (status == WS_OK) {
        p->persistence_free = facts.free_bytes;
        if (facts.size > p->overlay->size)
            ws_findings_add(&p->findings, WS_FAULT, "the data file is shorter than the volume in it: it is cut off");
        return WS_OK;
    }
    if (status != WS_E_NOTFOUND && status != WS_E_FORMAT) return status;
    ws_findings_add(&p->findings, WS_WARNING, "the data file holds no ext4 volume that can be read here: %s",
                    error->what);
    return WS_OK;
}

static enum ws_status compose_persistence(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_ext4_params params = {.size = p->persistence_size, .made_at = p->made_at};
    if (p->overlay) return look_at_overlay(p, error);
    (void)snprintf(params.label, sizeof params.label, "%s", p->family->label);
    WS_TRY(ws_guid_derive(&p->id, "persistence volume", &params.id, error));
    WS_TRY(ws_guid_derive(&p->id, "folder hashes", &params.seed, error));
    WS_TRY(ws_live_volume_tree(p->family, p->made_at, &b->volume, error));
    WS_TRY(ws_ext4_measure(&params, b->volume, &b->geometry, error));
    p->persistence_free = b->geometry.free_bytes;
    return ws_ext4_compose(&b->geometry, p->persistence_at, b->layout, WS_PHASE_BODY, error);
}

bool build_overlay_beside(const struct ws_plan *p) {
    return p->persistence_place == WS_PERSIST_FILE && p->arrangement == WS_ARRANGE_FILES && p->family->overlay_beside;
}

const char *build_parameters(const struct ws_plan *p, char out[WS_PARAMETERS_ROOM]) {
    char system[12];
    const char *label = p->persistence_place == WS_PERSIST_FILE ? label_beside(p, system) : NULL;
    return ws_live_parameters(p->family, label, out, WS_PARAMETERS_ROOM);
}

/* The volume it should lie on is too small: as asked, or because the drive has no more. */
static enum ws_status overlay_does_not_fit(const struct ws_plan *p, uint64_t size, uint64_t room,
                                           struct ws_error *error) {
    char wanted[48];
    char has[48];
    bool asked = !build_overlay_beside(p) && p->data_asked && p->data_asked != WS_PLAN_REST;
    if (!asked || p->drive_size - p->data_size < size - room)
        return build_does_not_fit(error, p, p->drive_size + size - room);
    ws_fail(error, WS_E_SPACE, "an overlay file of %s lies on the data partition, which has room for %s",
            ws_size_both(size, wanted, sizeof wanted), ws_size_both(room, has, sizeof has));
    ws_fail_where(error, "%s", p->drive_name);
    return ws_fail_next(error, "--data rest, or --data %lluM; or a smaller file",
                        (unsigned long long)(ws_round_up(p->data_size + size - room + 2 * MIB, 64ull * MIB) / MIB));
}

enum ws_status build_reserve_overlay(struct ws_build *b, struct ws_tree *tree, uint64_t room, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_node *n = NULL;
    struct ws_source *zeros = NULL;
    uint64_t size = p->overlay ? p->overlay->size : ws_round_up(p->persistence_asked, PAGE);
    if (!size)
        size = ws_min_u64(room / 8 * 7 / PAGE * PAGE, most_of_file(p)); /* the volume stays of use for other files */
    if (p->overlay && size < WS_EXT4_LEAST)
        return ws_fail(error, WS_E_FORMAT, "the data file holds only %llu bytes: there is no volume in it",
                       (unsigned long long)size);
    if (size > room) return overlay_does_not_fit(p, size, room, error);
    if (size < WS_EXT4_LEAST)
        return ws_fail(error, WS_E_RANGE, "an overlay file needs at least %u MiB", (unsigned)(WS_EXT4_LEAST / MIB));
    WS_TRY(ws_tree_put(tree, p->family->overlay_file, "", 0, &n, error));
    if (!p->overlay) {
        WS_TRY(ws_source_zeros(size, &zeros, error));
        WS_TRY(ws_tree_own(tree, zeros, error));
    }
    n->content = p->overlay ? p->overlay : zeros;
    n->reserved = !p->overlay; /* a fresh one is composed there, a ready one copied */
    n->mtime = p->made_at;
    p->persistence_size = size;
    return WS_OK;
}

void build_place_overlay(struct ws_build *b, struct ws_tree *tree, uint64_t volume_at, unsigned number) {
    b->plan->persistence_at = volume_at + ws_tree_find(tree, b->plan->family->overlay_file)->work;
    b->plan->persistence_number = number;
}

static enum ws_status compose_data(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_guid id;
    uint64_t size = 0;
    bool holds = p->persistence_place == WS_PERSIST_FILE && !build_overlay_beside(p);
    struct ws_fat_params params = {.size = p->data_size,
                                   .bits = 32,
                                   .cluster = holds && p->data_cluster < PAGE ? overlay_cluster(p) : p->data_cluster,
                                   .align = p->align > MIB ? MIB : 65536,
                                   .sector = p->drive_sector,
                                   .hidden_sectors = p->data_at / p->drive_sector,
                                   .made_at = p->made_at};
    if (p->data_size > 2ull << 40) return ws_fail(error, WS_E_RANGE, "a FAT32 data partition ends at 2 TiB");
    memcpy(params.label, p->data_label, sizeof params.label);
    WS_TRY(ws_guid_derive(&p->id, "data volume", &id, error));
    params.serial = ws_load_le32(id.byte);
    WS_TRY(ws_tree_create(&b->data_tree, error));
    if (holds) {
        WS_TRY(ws_fat_compose(&params, b->data_tree, p->data_at, NULL, &size, &p->data_free, error));
        WS_TRY(build_reserve_overlay(b, b->data_tree, p->data_free, error));
        WS_TRY(ws_fat_compose(&params, b->data_tree, p->data_at, b->layout, &size, &p->data_free, error));
        build_place_overlay(b, b->data_tree, p->data_at, p->data_number);
        return WS_OK;
    }
    return ws_fat_compose(&params, b->data_tree, p->data_at, b->layout, &size, &p->data_free, error);
}

/* The first page of a swap area, as the kernel's mm/swapfile.c and include/linux/swap.h have it. */
static enum ws_status compose_swap(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_guid id;
    uint8_t page[PAGE] = {0};
    WS_TRY(ws_guid_derive(&p->id, "swap area", &id, error));
    ws_store_le32(page + 1024, 1);
    ws_store_le32(page + 1028, (uint32_t)ws_min_u64(p->swap_size / PAGE - 1, 0xffffffff));
    memcpy(page + 1036, id.byte, 16);
    memcpy(page + 1052, "swap", 4);
    memcpy(page + PAGE - 10, "SWAPSPACE2", 10);
    return ws_layout_add_bytes(b->layout, p->swap_at, page, sizeof page, WS_PHASE_BODY, error);
}

void build_note_persistence(struct ws_plan *p) {
    char size[48];
    if (p->persistence_place == WS_PERSIST_NONE) {
        ws_plan_chose(p, "persistence", "none", "%s: the system forgets at power-off",
                      p->family ? "as asked" : "it belongs to no live family known here");
        return;
    }
    const char *name = p->persistence_place == WS_PERSIST_FILE ? p->family->overlay_file : p->family->label;
    ws_plan_chose(p, p->persistence_place == WS_PERSIST_FILE ? "file name" : "label", name,
                  "%s looks for exactly this one; do not change it", p->family->title);
    if (p->persistence_place == WS_PERSIST_FILE)
        ws_plan_chose(p, "overlay file", build_overlay_beside(p) ? "beside the system" : "on the data partition",
                      build_overlay_beside(p)     ? "%s looks for it there, too"
                      : p->family->overlay_beside ? "an image laid down whole takes no more files"
                                                  : "%s does not look for it on the volume it starts from",
                      p->family->title);
    if (p->persistence_asked) return;
    ws_plan_chose(p, "persistence", ws_size_counted(p->persistence_size, size, sizeof size), "%s",
                  p->persistence_place == WS_PERSIST_FILE && p->persistence_size == overlay_most
                      ? "FAT32 ends a file there; a partition has no such end"
                  : p->persistence_place == WS_PERSIST_FILE
                      ? "the most of what is left; `satchel size` tells what is needed"
                      : "all that is left; `satchel size` tells what is needed");
}

enum ws_status build_compose_volumes(struct ws_build *b, struct ws_error *error) {
    if (b->plan->data_size) WS_TRY(compose_data(b, error));
    if (b->plan->persistence_place != WS_PERSIST_NONE) WS_TRY(compose_persistence(b, error));
    return b->plan->swap_size ? compose_swap(b, error) : WS_OK;
}

static void add_part(struct ws_plan *plan, const char *what, const char *label, unsigned number, uint64_t at,
                     uint64_t end) {
    if (end <= at || plan->parts >= WS_PLAN_PARTS_MOST) return;
    struct ws_plan_part *p = &plan->part[plan->parts++];
    memset(p, 0, sizeof *p);
    (void)snprintf(p->what, sizeof p->what, "%s", what);
    (void)snprintf(p->label, sizeof p->label, "%.39s", label);
    p->number = number;
    p->at = at;
    p->length = end - at;
}

/* A volume, and the overlay file inside it where it lies there. */
static void add_volume(struct ws_plan *p, const char *what, const char *label, unsigned number, uint64_t at,
                       uint64_t end) {
    uint64_t file = p->persistence_at;
    bool holds = p->persistence_place == WS_PERSIST_FILE && file > at && file < end;
    add_part(p, what, label, number, at, holds ? file : end);
    if (!holds) return;
    add_part(p, "persistence", "overlay file", number, file, file + p->persistence_size);
    add_part(p, what, label, number, file + p->persistence_size, end);
}

void build_list_parts(struct ws_plan *p, const struct ws_table *table) {
    const struct {
        const char *what, *label;
        unsigned number;
        uint64_t at, size;
    } placed[] = {
        {"persistence", p->family ? p->family->label : "", p->persistence_number, p->persistence_at,
         p->persistence_place == WS_PERSIST_FILE ? 0 : p->persistence_size},
        {"data", p->data_label, p->data_number, p->data_at, p->data_size},
        {"swap", "swap", p->swap_number, p->swap_at, p->swap_size},
    };
    uint64_t first = 0;
    uint64_t end = p->drive_size;
    uint64_t at = p->image_end;
    bool live = p->kind == WS_PLAN_LIVE;
    p->parts = 0;
    if (table) ws_table_free_tail(table, &first, &end);
    if (p->system_size) {
        add_part(p, "gap", "", 0, 0, p->system_at);
        add_volume(p, "system", p->image_title, p->system_number, p->system_at, p->system_at + p->system_size);
        add_part(p, "start", "", p->start_number, p->start_at, p->start_at + p->start_size);
    } else {
        add_part(p, live ? "live image" : "image", p->image_title, live ? 1 : 0, 0, p->image_end);
    }
    for (size_t i = 0; i < sizeof placed / sizeof placed[0]; i++) {
        if (!placed[i].size) continue;
        add_part(p, "gap", "", 0, at, placed[i].at);
        add_volume(p, placed[i].what, placed[i].label, placed[i].number, placed[i].at, placed[i].at + placed[i].size);
        at = placed[i].at + placed[i].size;
    }
    bool backup = table && table->kind >= WS_TABLE_GPT && end > at;
    uint64_t table_at = backup ? end : p->drive_size;
    add_part(p, table_at - at < MIB && table_at > at ? "gap" : "free", "", 0, at, table_at);
    if (backup) add_part(p, "table", "backup of the GPT", 0, table_at, p->drive_size);
}
