/* whole.c — the recipe of a live drive that carries its image whole: menus edited inside it, volumes behind it. */
#include "assemble/internal.h"

#include <string.h>

static enum ws_status check(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    if (!b->remembers) {
        ws_fail(error, WS_E_USAGE, "an image laid down whole that is to remember nothing is a replica");
        return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_REPLICA), "plan it as one");
    }
    if (!b->image.iso) {
        ws_fail(error, WS_E_UNSUPPORTED, "this is not a live image: there is no ISO 9660 file system in it");
        return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_REPLICA), "plan it as a replica");
    }
    if (b->image.kind == WS_IMAGE_DISC) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image is made for discs and has no partition table: laid down whole it "
                "would not start from a drive");
        return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_LIVE_FILES),
                            "lay its files down, or use the hybrid edition of the same system");
    }
    if (!p->family) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image belongs to no live family known here, so nothing can be said about "
                "how it remembers");
        return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_REPLICA), "plan it as a replica");
    }
    if (p->drive.sector != 512) {
        ws_fail(error, WS_E_UNSUPPORTED, "the drive has sectors of %u bytes; the image's partition table counts in 512",
                p->drive.sector);
        ws_fail_where(error, "%s", p->drive.name);
        return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_LIVE_FILES),
                            "lay its files down, or take a drive with 512-byte sectors");
    }
    return build_check_overlay(b, error);
}

/* Old backup header inside the image: it must not be taken for the table's when the real one moves to the end. */
static enum ws_status retire_old_backup(struct ws_build *b, struct ws_error *error) {
    static const uint8_t zeros[512];
    const struct ws_table *t = b->table;
    if (t->kind < WS_TABLE_GPT || t->backup_lba < 3 || (t->backup_lba + 1) * 512 > b->image.source->size) return WS_OK;
    uint8_t signature[8];
    WS_TRY(ws_source_read(b->image.source, t->backup_lba * 512, signature, 8, error));
    if (memcmp(signature, "EFI PART", 8) != 0) return WS_OK;
    return ws_source_patch(b->patched, t->backup_lba * 512, zeros, sizeof zeros, error);
}

/* What was decided without being asked for, and why. */
static void note_choices(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    char size[48];
    plan_chose(p, "arrangement", "whole image",
               "the image's own start-up chain goes on working, signed or not; its menus are edited inside it");
    plan_chose(p, "table", ws_table_kind_name(p->facts.table),
               "the image's own, with the new partitions entered in it");
    plan_chose(p, "alignment", ws_size_counted(p->facts.align, size, sizeof size),
               p->facts.align > MIB ? "the drive erases so much at once"
                                    : "the erase units of usual drives divide it evenly");
    plan_chose(p, "file system", "ext4", "owners, modes and links must survive, and it forgives a pulled plug");
    build_note_persistence(b);
    build_note_ability(b);
}

/* What had to be appended grows the image's own file system and the partition it stands in. */
static enum ws_status grow_image(struct ws_build *b, uint64_t end, struct ws_error *error) {
    bool grown = false;
    enum ws_status status = ws_table_grow(b->table, ws_iso_facts(b->image.iso)->size, end, &grown, error);
    if (status == WS_OK && !grown) status = ws_fail(error, WS_E_SPACE, "no partition of the image's own could grow");
    if (status != WS_OK) {
        ws_fail_next(error, "this menu is too full to be edited in place; plan a replica instead");
        return status;
    }
    return ws_iso_resize(b->image.iso, b->patched, end, error);
}

enum ws_status build_prepare_whole(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_need need[WS_ROLES];
    size_t needs = 0;
    uint64_t end = ws_round_up(b->image.source->size, WS_ISO_SECTOR);
    uint64_t was_end = end;
    WS_TRY(build_settle_persistence(b, error));
    WS_TRY(check(b, error));
    WS_TRY(build_edit_menus(b, &end, error));
    b->table = &b->image.table;
    p->facts.image_end = end;
    p->facts.align = build_choose_align(p);
    if (end > p->drive.size) return build_does_not_fit(error, p, end);
    WS_TRY(retire_old_backup(b, error));
    WS_TRY(ws_table_resize(b->table, p->drive.size, error));
    if (end > was_end) WS_TRY(grow_image(b, end, error));
    if (b->table->kind == WS_TABLE_MBR && p->drive.size > 2ull << 40)
        ws_findings_add(&p->findings, WS_WARNING,
                        "the image's table is an MBR, which ends at 2 TiB: what lies behind stays unused");
    WS_TRY(build_add_needs(b, need, &needs, error));
    WS_TRY(build_place_volumes(b, need, needs, end, error));
    p->facts.table = b->table->kind;
    (void)ws_layout_part(b->layout, WS_ROLE_SYSTEM);
    WS_TRY(ws_table_compose(b->table, b->layout, error)); /* the seal, also of bytes that lie inside the image */
    WS_TRY(ws_layout_fill(b->layout, 0, end, b->patched, error));
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE);
    WS_TRY(build_compose_volumes(b, error));
    build_list_parts(b);
    note_choices(b);
    return WS_OK;
}
