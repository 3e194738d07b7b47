/* prepare.c — a plan worked out to the byte: image, edits, table, persistence volume, layout. */
#include "build/internal.h"

#include "wild_satchel/contents.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SEAL_BYTES = 4096 };

/* The image on the drive: its bytes with the edits laid over, and everything sector 0 covers held back for the seal. */
static enum ws_status add_image(struct ws_build *b, struct ws_layout *layout, uint64_t seal, uint64_t end,
                                struct ws_error *error) {
    return ws_layout_add(layout, seal, end - seal, b->patched, seal, WS_PHASE_BODY, error);
}

/* Whatever was given as an image is laid down as it is; what nobody could read there afterwards is said. */
static enum ws_status look_for_sense(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_contents *c = malloc(sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for an image's contents");
    enum ws_status status = WS_OK;
    bool sense = false;
    uint8_t first[512] = {0};
    if (b->image.source->size >= sizeof first) {
        status = ws_contents_look(b->image.source, 512, false, c, error);
        if (status == WS_OK) status = ws_source_read(b->image.source, 0, first, sizeof first, error);
        sense = status == WS_OK &&
                (c->table != WS_TABLE_NONE || b->image.iso || (first[510] == 0x55 && first[511] == 0xaa) ||
                 (strcmp(c->part[0].system, "unknown") != 0 && !c->blank));
    }
    free(c);
    if (status == WS_OK && !sense)
        ws_findings_add(
            &p->findings, WS_FAULT,
            "this is no image of a drive or a disc: it has no partition table, no file system known here and "
            "no start-up code");
    return status;
}

static enum ws_status prepare_replica(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (p->data_asked || p->swap_asked)
        return ws_fail(error, WS_E_USAGE, "a replica is the image byte for byte: no partition can be added to it");
    uint64_t seal = ws_min_u64(SEAL_BYTES, p->image_size);
    p->image_end = p->image_size;
    if (p->image_size > p->drive_size) return build_does_not_fit(error, p, p->image_size);
    WS_TRY(ws_layout_add(b->layout, 0, seal, b->patched, 0, WS_PHASE_SEAL, error));
    WS_TRY(add_image(b, b->layout, seal, p->image_size, error));
    if (b->image.table.kind != WS_TABLE_NONE) p->table = b->image.table.kind;
    if (b->image.table.kind >= WS_TABLE_GPT && p->image_size != p->drive_size)
        ws_findings_add(&p->findings, WS_NOTE,
                        "a replica keeps the image's own table: its backup stands at the image's "
                        "end, not the drive's");
    build_list_parts(p, NULL);
    return look_for_sense(b, error);
}

static enum ws_status check_live(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    if (p->persistence_place == WS_PERSIST_NONE) {
        ws_fail(error, WS_E_USAGE, "an image laid down whole that is to remember nothing is a replica");
        return ws_fail_next(error, "plan it as one: --kind replica");
    }
    if (p->own_family.document[0])
        return ws_fail(error, WS_E_USAGE,
                       "a family of your own goes with files: the drive has to carry its description");
    if (ws_rules_any(&p->rules))
        return ws_fail(error, WS_E_USAGE, "rules go with files: an image laid down whole stays as it is");
    if (!b->image.iso) {
        ws_fail(error, WS_E_UNSUPPORTED, "this is not a live image: there is no ISO 9660 file system in it");
        return ws_fail_next(error, "plan it as a replica");
    }
    if (b->image.kind == WS_IMAGE_DISC) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image is made for discs and has no partition table: laid down whole it "
                "would not start from a drive");
        return ws_fail_next(error,
                            "lay its files down: --arrangement files; or use the hybrid edition of the same system");
    }
    if (!p->family) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image belongs to no live family known here, so nothing can be said about "
                "how it remembers");
        return ws_fail_next(error, "plan it as a replica");
    }
    if (p->drive_sector != 512) {
        ws_fail(error, WS_E_UNSUPPORTED, "the drive has sectors of %u bytes; the image's partition table counts in 512",
                p->drive_sector);
        ws_fail_where(error, "%s", p->drive_name);
        return ws_fail_next(error, "lay its files down: --arrangement files; or take a drive with 512-byte sectors");
    }
    return WS_OK;
}

/* Old backup header inside the image: it must not be taken for the table's when the real one moves to the end. */
static enum ws_status retire_old_backup(struct ws_build *b, struct ws_error *error) {
    static const uint8_t zeros[512];
    const struct ws_table *t = &b->image.table;
    if (t->kind < WS_TABLE_GPT || t->backup_lba < 3 || (t->backup_lba + 1) * 512 > b->plan->image_size) return WS_OK;
    uint8_t signature[8];
    WS_TRY(ws_source_read(b->image.source, t->backup_lba * 512, signature, 8, error));
    if (memcmp(signature, "EFI PART", 8) != 0) return WS_OK;
    return ws_source_patch(b->patched, t->backup_lba * 512, zeros, sizeof zeros, error);
}

/* Everything of the table that lies inside the image's own bytes is cut out of the body: the seal brings it. */
static enum ws_status add_body_around_seal(struct ws_build *b, const struct ws_layout *seal, uint64_t end,
                                           struct ws_layout *into, struct ws_error *error) {
    uint64_t at = 0;
    for (size_t i = 0; i < ws_layout_count(seal); i++) {
        const struct ws_extent *e = ws_layout_extent(seal, i);
        if (e->at >= end) break;
        if (e->at > at) WS_TRY(add_image(b, into, at, e->at, error));
        at = e->at + e->length;
    }
    return at < end ? add_image(b, into, at, end, error) : WS_OK;
}

/* What was decided without being asked for, and why. */
static void note_choices(struct ws_plan *p) {
    char size[48];
    ws_plan_chose(p, "arrangement", "whole image",
                  "the image's own start-up chain goes on working, signed or not; its menus are edited inside it");
    ws_plan_chose(p, "table", ws_table_kind_name(p->table), "the image's own, with the new partitions entered in it");
    ws_plan_chose(p, "alignment", ws_size_counted(p->align, size, sizeof size),
                  p->drive_erase > 1u << 20 ? "the drive erases so much at once"
                                            : "the erase units of usual drives divide it evenly");
    ws_plan_chose(p, "file system", "ext4", "owners, modes and links must survive, and it forgives a pulled plug");
    build_note_persistence(p);
}

static enum ws_status prepare_live(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_layout *seal = NULL;
    struct ws_table *table = &b->image.table;
    enum ws_status status;
    uint64_t end = ws_round_up(p->image_size, WS_ISO_SECTOR);
    uint64_t was_end = end;
    WS_TRY(check_live(b, error));
    WS_TRY(build_edit_menus(b, &end, error));
    p->image_end = end;
    if (p->image_end > p->drive_size) return build_does_not_fit(error, p, p->image_end);
    WS_TRY(retire_old_backup(b, error));
    WS_TRY(ws_table_resize(table, p->drive_size, error));
    if (end > was_end) {
        bool grown = false;
        status = ws_table_grow(table, ws_iso_facts(b->image.iso)->size, end, &grown, error);
        if (status == WS_OK && !grown)
            status = ws_fail(error, WS_E_SPACE, "no partition of the image's own could grow");
        if (status != WS_OK) {
            ws_fail_next(error, "this menu is too full to be edited in place; plan a replica instead");
            return status;
        }
        WS_TRY(ws_iso_resize(b->image.iso, b->patched, end, error));
    }
    WS_TRY(build_place_volumes(b, table, error));
    p->table = table->kind;
    WS_TRY(ws_layout_create(p->drive_size, &seal, error));
    WS_GO(ws_table_compose(table, seal, error));
    WS_GO(ws_table_compose(table, b->layout, error));
    WS_GO(ws_layout_seal(seal, error));
    WS_GO(add_body_around_seal(b, seal, p->image_end, b->layout, error));
    WS_GO(ws_layout_create(p->drive_size, &b->image_only, error));
    WS_GO(ws_table_compose(table, b->image_only, error));
    WS_GO(add_body_around_seal(b, seal, p->image_end, b->image_only, error));
    WS_GO(ws_layout_seal(b->image_only, error));
    WS_GO(build_compose_volumes(b, error));
    build_list_parts(p, table);
    note_choices(p);
done:
    ws_layout_close(seal);
    return status;
}

static void carry_findings(struct ws_build *b) {
    const struct ws_findings *found[] = {&b->image.findings, &b->image.findings_whole};
    size_t lists = b->plan->arrangement == WS_ARRANGE_FILES ? 1 : 2;
    for (size_t k = 0; k < lists; k++)
        for (size_t i = 0; i < found[k]->count; i++)
            ws_findings_add(&b->plan->findings, found[k]->list[i].weight, "%s", found[k]->list[i].text);
}

enum ws_status ws_build_prepare(struct ws_plan *plan, const struct ws_source *image, struct ws_build **out,
                                struct ws_error *error) {
    enum ws_status status;
    struct ws_build *b = calloc(1, sizeof *b);
    if (!b) return ws_fail(error, WS_E_NOMEM, "out of memory for a build");
    b->plan = plan;
    plan->image_size = image->size;
    plan->parts = 0;
    plan->edits = 0;
    plan->choices = 0;
    plan->align = 0;
    ws_findings_free(&plan->findings);
    WS_GO(ws_image_inspect(image, &b->image, error));
    ws_own_family_settle(&plan->own_family); /* the plan may have been copied */
    plan->family = plan->own_family.document[0] ? &plan->own_family.family : b->image.family;
    bool by_label = plan->persistence_place == WS_PERSIST_FILE && plan->family && ws_live_wants_label(plan->family);
    if (by_label && !build_overlay_beside(plan) && !plan->data_label[0])
        (void)snprintf(plan->data_label, sizeof plan->data_label, "OVERLAY");
    ws_plan_look_out(plan, &b->image);
    const char *volume = b->image.iso ? ws_iso_facts(b->image.iso)->volume_id : "";
    ws_visible(volume[0] ? volume : "image", plan->image_title, sizeof plan->image_title);
    WS_GO(ws_source_patched(image, ws_max_u64(plan->drive_size, image->size), &b->patched, error));
    WS_GO(ws_layout_create(ws_max_u64(plan->drive_size, image->size), &b->layout, error));
    if (plan->kind == WS_PLAN_LIVE && plan->arrangement == WS_ARRANGE_FILES) WS_GO(build_prepare_files(b, error));
    else if (plan->kind == WS_PLAN_LIVE) WS_GO(prepare_live(b, error));
    else WS_GO(prepare_replica(b, error));
    WS_GO(ws_layout_seal(b->layout, error));
    plan->bytes_written = ws_layout_bytes(b->layout);
    const struct ws_known_input inputs[] = {{image, plan->image_sha256}, {plan->overlay, plan->overlay_sha256}};
    WS_GO(ws_layout_fingerprint(b->layout, inputs, plan->overlay ? 2 : 1, plan->fingerprint, error));
    carry_findings(b);
done:
    if (status == WS_OK) *out = b;
    else ws_build_close(b);
    return status;
}

const struct ws_layout *ws_build_layout(const struct ws_build *build) { return build->layout; }

void ws_build_close(struct ws_build *b) {
    if (!b) return;
    ws_layout_close(b->layout);
    ws_layout_close(b->image_only);
    ws_ext4_geometry_free(&b->geometry);
    ws_tree_close(b->volume);
    ws_tree_close(b->data_tree);
    ws_tree_close(b->files_tree);
    ws_tree_close(b->start_tree);
    ws_tree_close(b->esp_tree);
    ws_source_close(b->esp_slice);
    ws_source_close(b->patched);
    ws_image_free(&b->image);
    free(b);
}
