/* volumes.c — what stands behind the image: the persistence volume, an ordinary data volume, swap. */
#include "build/internal.h"

#include "wild_satchel/fat.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20, DATA_LEAST = 64 * MIB, SWAP_LEAST = MIB, PAGE = 4096 };

enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t need) {
    char drive[48];
    char needed[48];
    ws_fail(error, WS_E_SPACE, "the drive holds %s, and %s are needed",
            ws_size_both(plan->drive_size, drive, sizeof drive), ws_size_both(need, needed, sizeof needed));
    ws_fail_where(error, "%s", plan->drive_name);
    return ws_fail_next(error, "take a larger drive, or ask for less");
}

uint32_t build_choose_align(const struct ws_plan *p) {
    uint32_t erase = p->drive_erase;
    bool sensible = erase > MIB && erase <= 64u * MIB && (erase & (erase - 1)) == 0;
    return sensible ? erase : MIB;
}

static enum ws_status check_asked(const struct ws_plan *p, struct ws_error *error) {
    if (p->data_asked == WS_PLAN_REST && !p->persistence_asked) {
        ws_fail(error, WS_E_USAGE, "persistence and data cannot both take all that is left");
        return ws_fail_next(error, "say how large one of them is to be; `satchel size` helps with persistence");
    }
    if (p->data_asked && p->data_asked < DATA_LEAST)
        return ws_fail(error, WS_E_USAGE, "a data partition needs at least 64 MiB");
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
    uint64_t persistence = ws_round_up(p->persistence_asked, p->align);
    uint64_t data = p->data_asked == WS_PLAN_REST ? 0 : ws_round_up(p->data_asked, p->align);
    uint64_t swap = ws_round_up(p->swap_asked, p->align);
    uint64_t least = (persistence ? p->persistence_asked : WS_EXT4_LEAST) + swap +
                     (p->data_asked == WS_PLAN_REST ? DATA_LEAST : data);
    if (first >= end || end - first < least) return build_does_not_fit(error, p, first + least + MIB);
    uint64_t room = end - first;
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
    if (p->data_asked) {
        if (p->data_asked == WS_PLAN_REST) data = at + swap < end ? end - at - swap : 0;
        if (swap) data = data / p->align * p->align;
        if (data < DATA_LEAST || at + data > end) return build_does_not_fit(error, p, at + DATA_LEAST + swap + MIB);
        p->data_at = at;
        p->data_size = data;
        WS_TRY(enter(b, table, at, data, "data", "data partition", p->data_label, &p->data_number, error));
        at = ws_round_up(at + data, p->align);
    }
    if (p->swap_asked) {
        p->swap_at = at;
        p->swap_size = at < end ? ws_min_u64(swap, end - at) : 0;
        if (p->swap_size < p->swap_asked) return build_does_not_fit(error, p, at + p->swap_asked + MIB);
        WS_TRY(enter(b, table, at, p->swap_size, "swap", "swap partition", "swap", &p->swap_number, error));
    }
    return WS_OK;
}

static enum ws_status compose_persistence(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_ext4_params params = {.size = p->persistence_size, .made_at = p->made_at};
    (void)snprintf(params.label, sizeof params.label, "%s", p->family->label);
    WS_TRY(ws_guid_derive(&p->id, "persistence volume", &params.id, error));
    WS_TRY(ws_guid_derive(&p->id, "folder hashes", &params.seed, error));
    WS_TRY(ws_live_volume_tree(p->family, p->made_at, &b->volume, error));
    WS_TRY(ws_ext4_measure(&params, b->volume, &b->geometry, error));
    p->persistence_free = b->geometry.free_bytes;
    return ws_ext4_compose(&b->geometry, p->persistence_at, b->layout, WS_PHASE_BODY, error);
}

static enum ws_status compose_data(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_guid id;
    uint64_t size = 0;
    struct ws_fat_params params = {.size = p->data_size,
                                   .bits = 32,
                                   .cluster = p->data_cluster,
                                   .align = p->align > MIB ? MIB : 65536,
                                   .hidden_sectors = p->data_at / 512,
                                   .made_at = p->made_at};
    if (p->data_size > 2ull << 40) return ws_fail(error, WS_E_RANGE, "a FAT32 data partition ends at 2 TiB");
    memcpy(params.label, p->data_label, sizeof params.label);
    WS_TRY(ws_guid_derive(&p->id, "data volume", &id, error));
    params.serial = ws_load_le32(id.byte);
    WS_TRY(ws_tree_create(&b->data_tree, error));
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

enum ws_status build_compose_volumes(struct ws_build *b, struct ws_error *error) {
    WS_TRY(compose_persistence(b, error));
    if (b->plan->data_size) WS_TRY(compose_data(b, error));
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

void build_list_parts(struct ws_plan *p, const struct ws_table *table) {
    const struct {
        const char *what, *label;
        unsigned number;
        uint64_t at, size;
    } placed[] = {
        {"persistence", p->family ? p->family->label : "", p->persistence_number, p->persistence_at,
         p->persistence_size},
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
        add_part(p, "system", p->image_title, p->system_number, p->system_at, p->image_end);
    } else {
        add_part(p, live ? "live image" : "image", p->image_title, live ? 1 : 0, 0, p->image_end);
    }
    for (size_t i = 0; i < sizeof placed / sizeof placed[0]; i++) {
        if (!placed[i].size) continue;
        add_part(p, "gap", "", 0, at, placed[i].at);
        add_part(p, placed[i].what, placed[i].label, placed[i].number, placed[i].at, placed[i].at + placed[i].size);
        at = placed[i].at + placed[i].size;
    }
    bool backup = table && table->kind >= WS_TABLE_GPT && end > at;
    uint64_t table_at = backup ? end : p->drive_size;
    add_part(p, table_at - at < MIB && table_at > at ? "gap" : "free", "", 0, at, table_at);
    if (backup) add_part(p, "table", "backup of the GPT", 0, table_at, p->drive_size);
}
