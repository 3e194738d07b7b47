/* files.c — the recipe of a live drive laid down file by file: its files on an ordinary volume that every PC shows. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

static enum ws_status check_rules(const struct ws_plan *p, struct ws_error *error) {
    const char *wanted = p->request.rules.label;
    char label[WS_LABEL_ROOM];
    if (!wanted[0] || (ws_label_normalise("fat32", wanted, label, sizeof label, NULL, 0, error) == WS_OK &&
                       strcmp(label, wanted) == 0))
        return WS_OK;
    return ws_fail(error, WS_E_FORMAT, "the rules want the label \"%s\", which FAT32 cannot hold: \"%s\" would be",
                   wanted, label);
}

static enum ws_status check(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    const struct ws_format *format;
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    WS_TRY(build_format(p, WS_ROLE_SYSTEM, &format, error));
    if (build_wanted_size(p, WS_ROLE_SYSTEM).kind > WS_SIZE_BYTES)
        return ws_fail(error, WS_E_USAGE, "the system's volume takes so many bytes, or what its files need");
    if (!b->image.iso) {
        ws_fail(error, WS_E_UNSUPPORTED, "only disc images, archives and folders can be laid down file by file");
        return ws_fail_hint(error, WS_HINT_IMAGE, "", "look at what this one is");
    }
    if (!p->family && b->remembers) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image belongs to no live family known here, so nothing can be said about "
                "how it remembers");
        (void)ws_fail_hint(error, WS_HINT_PERSISTENCE, "none", "lay it down without, or describe its family");
        return ws_fail_way(error, WS_HINT_FAMILY, "");
    }
    if (p->family) WS_TRY(build_check_overlay(b, error));
    if (!format->firmware && p->request.uefi_code == WS_UEFI_CODE_IMAGE) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "firmware reads no %s, so the image's own UEFI loader would not be found there", format->title);
        (void)ws_fail_hint(error, WS_HINT_UEFI_CODE, "", "leave that to the plan, or put the system on FAT32");
        return ws_fail_way(error, WS_HINT_SYSTEM_FORMAT, "fat32");
    }
    return check_rules(p, error);
}

/* An MBR where one will do, for every PC reads it. */
enum ws_status build_begin_table(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    bool large = p->drive.size > 2ull << 40;
    bool gpt = p->request.table == WS_TABLE_WISH_GPT || large || p->drive.sector != 512;
    struct ws_guid id;
    if (gpt && p->request.table == WS_TABLE_WISH_MBR) {
        ws_fail(error, WS_E_UNSUPPORTED, "an MBR is no use here: %s",
                p->drive.sector > 512 ? "PCs that need one start from no drive with sectors of this size"
                                      : "it ends at 2 TiB, and the drive is larger");
        ws_fail_where(error, "%s", p->drive.name);
        return ws_fail_hint(error, WS_HINT_TABLE, "", "leave that to the plan: a GPT is made then");
    }
    WS_TRY(ws_guid_derive(&p->facts.id, "system partition", &id, error));
    b->table = &b->image.table;
    if (gpt) ws_table_new_gpt(b->table, p->drive.size, p->drive.sector, &id);
    else ws_table_new_mbr(b->table, p->drive.size, p->drive.sector, ws_load_le32(id.byte));
    return WS_OK;
}

/* An overlay file "as large as possible" wants a volume that takes what data and swap leave, up to what it can use. */
static uint64_t fill_drive(const struct ws_plan *p, uint64_t size) {
    struct ws_size data = build_wanted_size(p, WS_ROLE_DATA);
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    uint64_t least = data.kind == WS_SIZE_LEAST ? ws_format_find("fat32")->least(p->drive.sector, 0) : 0;
    if (swap.kind == WS_SIZE_LEAST) least += MIB;
    uint64_t others = data.bytes + swap.bytes + least + 8ull * MIB;
    uint64_t useful = size + ws_name_rules_fat()->largest + 64ull * MIB;
    uint64_t at = p->facts.align;
    uint64_t left = p->drive.size > at + others ? p->drive.size - at - others : 0;
    if (data.kind == WS_SIZE_REST) left /= 2;
    return ws_max_u64(size, ws_min_u64(useful, left) / p->facts.align * p->facts.align);
}

/* With the system's volume alone in the plan: its free bytes, and whether its files fit. */
static enum ws_status try_size(struct ws_build *b, const struct ws_format *f, uint64_t size, uint64_t *room,
                               struct ws_error *error) {
    struct ws_volume_params params = build_params(b, WS_ROLE_SYSTEM, f, size);
    if (b->plan->facts.align + size > b->plan->drive.size)
        return build_does_not_fit(error, b->plan, b->plan->facts.align + size);
    return f->compose(&params, b->tree[WS_ROLE_SYSTEM], b->plan->facts.align, NULL, room, error);
}

/* The smallest volume that holds the files, and a sixteenth of air for what people add; or as large as asked. */
static enum ws_status size_volume(struct ws_build *b, const struct ws_format *f, uint64_t *size,
                                  struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_size asked = build_wanted_size(p, WS_ROLE_SYSTEM);
    bool beside = b->in_file && b->holder == WS_ROLE_SYSTEM;
    uint64_t content = beside ? build_overlay_asked(b) : 0;
    uint64_t files = 0;
    uint64_t room = 0;
    for (const struct ws_node *n = ws_tree_root(b->tree[WS_ROLE_SYSTEM]); n; n = ws_tree_next(n))
        files += ws_node_size(n) + 8192;
    content += files + (asked.kind == WS_SIZE_LEAST ? 0 : files / 16 + 64ull * MIB);
    *size = ws_max_u64(ws_round_up(content, p->facts.align), f->least(p->drive.sector, beside ? PAGE : 0));
    if (asked.kind == WS_SIZE_BYTES) *size = ws_max_u64(*size, ws_round_up(asked.bytes, p->facts.align));
    if (b->beside) *size = ws_round_up(asked.bytes, p->facts.align); /* as it is, unless its files need more */
    if (p->facts.align + *size > p->drive.size)
        return build_does_not_fit(error, p, p->facts.align + *size + ws_format_find("ext4")->least(512, 0));
    if (beside && !build_overlay_asked(b) && asked.kind != WS_SIZE_BYTES) *size = fill_drive(p, *size);
    if (beside) {
        if (!b->beside) WS_TRY(try_size(b, f, *size, &room, error));
        WS_TRY(build_reserve_overlay(b, b->beside ? UINT64_MAX : room, error));
    }
    for (;;) {
        enum ws_status status = try_size(b, f, *size, &room, error);
        if (status != WS_E_SPACE || p->facts.align + *size > p->drive.size) return status;
        *size = ws_round_up(*size + *size / 16, p->facts.align);
    }
}

/* The system's files; where firmware cannot read their volume, a small one with our program; what is remembered. */
static enum ws_status place(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct ws_format *system;
    struct build_need need[WS_ROLES] = {0};
    size_t needs = 1;
    uint64_t size;
    WS_TRY(build_format(p, WS_ROLE_SYSTEM, &system, error));
    WS_TRY(size_volume(b, system, &size, error));
    WS_TRY(build_begin_table(b, error));
    bool gpt = b->table->kind == WS_TABLE_GPT;
    /* An ordinary partition: any firmware looks for a loader on it, and every PC shows it as a drive. */
    need[0] = (struct build_need){.role = WS_ROLE_SYSTEM,
                                  .format = system,
                                  .size = ws_size_of(size),
                                  .least = size,
                                  .granule = PAGE,
                                  .type = gpt && system->type_start ? system->type_start : system->type};
    if (build_needs_start(p)) {
        WS_TRY(build_need_start(b, 0, &need[needs], error));
        needs++;
    }
    WS_TRY(build_add_needs(b, need, &needs, error));
    WS_TRY(build_place_volumes(b, need, needs, p->facts.align, error));
    if (!gpt) b->table->mbr[0].active = true;
    p->facts.table = b->table->kind;
    return WS_OK;
}

/* Table and start-up code, and zeros up to the first volume: the descriptors of a disc image laid down earlier would
 * stand there, and systems that look for those would take the drive for what it was. */
enum ws_status build_add_front(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_source *zeros = NULL;
    uint64_t end = p->volume[0].at;
    WS_TRY(ws_source_zeros(end, &zeros, error));
    WS_TRY(ws_layout_own(b->layout, zeros, error));
    if (p->drive.sector == 512) WS_TRY(ws_start_add_bios(b->table, b->layout, error)); /* a BIOS reads no others */
    WS_TRY(ws_table_compose(b->table, b->layout, error));
    return ws_layout_fill(b->layout, 0, end, zeros, error);
}

enum ws_status build_prepare_files(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_change change[PLAN_EDITS_MOST];
    size_t changes = 0;
    enum ws_status status;
    p->facts.align = build_choose_align(p);
    build_open_esp(b);
    WS_TRY(build_settle_persistence(b, error));
    WS_TRY(check(b, error));
    WS_TRY(ws_tree_create(&b->tree[WS_ROLE_SYSTEM], error));
    WS_GO(build_collect_changes(b, change, &changes, error));
    WS_GO(build_make_medium(b, change, changes, error));
    WS_GO(place(b, error));
    WS_GO(build_add_front(b, error));
    WS_GO(build_compose_volumes(b, error));
    build_list_parts(b);
    build_note_files(b);
    build_note_ability(b);
done:
    for (size_t i = 0; i < changes; i++) build_free_change(&change[i]);
    return status;
}
