/* files.c — a live image laid down file by file on an ordinary FAT32 volume, its EFI loader among the files. */
#include "build/internal.h"

#include "wild_satchel/fat.h"
#include "wild_satchel/label.h"
#include "wild_satchel/names.h"

#include <stdio.h>
#include <string.h>

enum { MIB = 1 << 20 };

/* Everything of one tree into another, contents borrowed; what is there already is replaced. */
static enum ws_status copy_tree(const struct ws_tree *from, struct ws_tree *to, struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(from)); n; n = ws_tree_next(n)) {
        char path[4096];
        struct ws_node *made = NULL;
        ws_node_path(n, path, sizeof path);
        if (n->kind == WS_NODE_FOLDER) {
            WS_TRY(ws_tree_folder(to, path, &made, error));
        } else {
            WS_TRY(ws_tree_put(to, path, "", 0, &made, error));
            made->kind = n->kind;
            made->content = n->content;
            made->same_as = NULL;
        }
        made->mode = (uint16_t)(n->mode | 0200); /* an image's files are read-only by nature, a stick's are not */
        made->mtime = n->mtime;
    }
    return WS_OK;
}

/* Folders that differ only in case between image and EFI volume are one on FAT. */
static enum ws_status merge_esp(struct ws_build *b, struct ws_error *error) {
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(b->esp_tree)); n; n = ws_tree_next(n)) {
        char path[4096];
        if (n->kind != WS_NODE_FILE) continue;
        ws_node_path(n, path, sizeof path);
        struct ws_node *here = ws_tree_find_any_case(b->files_tree, path);
        if (!here) { /* its folder may be there in other letters */
            char *slash = strrchr(path, '/');
            *slash = '\0';
            struct ws_node *folder = path[0] ? ws_tree_find_any_case(b->files_tree, path) : ws_tree_root(b->files_tree);
            *slash = '/';
            if (folder) WS_TRY(ws_tree_add(b->files_tree, folder, n->name, WS_NODE_FILE, &here, error));
            else WS_TRY(ws_tree_put(b->files_tree, path, "", 0, &here, error));
        }
        here->content = n->content;
        here->mtime = n->mtime;
    }
    return WS_OK;
}

static enum ws_status apply_changes(struct ws_build *b, const struct build_change *change, size_t count,
                                    struct ws_error *error) {
    for (size_t i = 0; i < count; i++) {
        char path[4096];
        ws_node_path(change[i].file, path, sizeof path);
        struct ws_node *n = ws_tree_find(b->files_tree, path);
        struct ws_source *text = NULL;
        if (!n) continue; /* left out, which was said */
        WS_TRY(ws_source_memory(change[i].bytes, change[i].length, &text, error));
        WS_TRY(ws_tree_own(b->files_tree, text, error));
        n->content = text;
    }
    return WS_OK;
}

static enum ws_status check(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    if (!b->image.iso || !p->family) {
        ws_fail(error, WS_E_UNSUPPORTED, "only disc images of a known live family can be laid down file by file here");
        return ws_fail_next(error, "`satchel image` tells what this one is");
    }
    if (!b->esp_tree || b->image.loaders == 0) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "the image brings no UEFI loader, and laid down file by file there is no other");
        return ws_fail_next(error, "lay it down whole: leave --arrangement out");
    }
    if (p->drive_sector != 512)
        return ws_fail(error, WS_E_UNSUPPORTED, "the drive has sectors of %u bytes; FAT32 is made here for 512 only",
                       p->drive_sector);
    return WS_OK;
}

static struct ws_fat_params volume_params(const struct ws_plan *p) {
    struct ws_fat_params f = {.size = p->system_size,
                              .bits = 32,
                              .align = 65536,
                              .hidden_sectors = p->system_at / 512,
                              .made_at = p->made_at};
    char title[WS_LABEL_ROOM];
    if (ws_label_normalise("fat32", p->image_title, title, sizeof title, NULL, 0, NULL) == WS_OK)
        (void)snprintf(f.label, sizeof f.label, "%.11s", title);
    return f;
}

/* The smallest volume that holds the files, and a sixteenth of air for what people add; or as large as asked. */
static enum ws_status size_volume(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    uint64_t content = 0;
    uint64_t size = 0;
    for (const struct ws_node *n = ws_tree_root(b->files_tree); n; n = ws_tree_next(n))
        content += ws_node_size(n) + 8192;
    uint64_t least = ws_round_up(content + content / 16 + 64 * MIB, p->align);
    p->system_at = p->align;
    p->system_size = ws_max_u64(least, ws_round_up(p->system_asked, p->align));
    if (p->system_at + p->system_size > p->drive_size)
        return build_does_not_fit(error, p, p->system_at + p->system_size + WS_EXT4_LEAST);
    for (;;) {
        struct ws_fat_params f = volume_params(p);
        enum ws_status status = ws_fat_compose(&f, b->files_tree, p->system_at, NULL, &size, &p->system_free, error);
        if (status != WS_E_SPACE) return status;
        p->system_size = ws_round_up(p->system_size + p->system_size / 16, p->align);
        if (p->system_at + p->system_size > p->drive_size)
            return build_does_not_fit(error, p, p->system_at + p->system_size);
    }
}

static enum ws_status enter_system(struct ws_build *b, struct ws_table *table, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_guid id;
    WS_TRY(ws_guid_derive(&p->id, "system partition", &id, error));
    bool gpt = p->drive_size > 2ull << 40;
    if (gpt) ws_table_new_gpt(table, p->drive_size, 512, &id);
    else ws_table_new_mbr(table, p->drive_size, 512, ws_load_le32(id.byte));
    /* An ordinary data partition: any firmware looks for a loader on it, and every PC shows it as a drive. */
    WS_TRY(ws_table_add(table, p->system_at, p->system_size, gpt ? "efi" : "data", &id, p->image_title,
                        &p->system_number, error));
    if (!gpt) table->mbr[0].active = true;
    return WS_OK;
}

static void note_choices(struct ws_plan *p) {
    char size[48];
    ws_plan_chose(p, "arrangement", "file by file",
                  "as asked: the drive stays an ordinary one, its files can be seen and added to");
    ws_plan_chose(p, "table", ws_table_kind_name(p->table),
                  p->table == WS_TABLE_MBR ? "every PC reads it" : "an MBR would end at 2 TiB");
    ws_plan_chose(p, "alignment", ws_size_counted(p->align, size, sizeof size),
                  "the erase units of usual drives divide it evenly");
    ws_plan_chose(p, "file system", "FAT32, ext4",
                  "FAT32 for the system's files: firmware reads nothing else; ext4 for what is remembered");
    ws_plan_chose(p, "label", p->family->label, "%s looks for exactly this one; do not change it", p->family->title);
}

/* What this arrangement changes in the outlook: the image's own BIOS start-up code cannot read these files. */
static void correct_outlook(struct ws_plan *p, const struct ws_image *image) {
    struct ws_outlook *bios = &p->outlook[0];
    bios->starts = false;
    (void)snprintf(bios->why, sizeof bios->why,
                   "laid down file by file it starts on UEFI only: the image's start-up code for BIOS reads its image");
    for (size_t i = 1; i < WS_OUTLOOKS; i++) {
        struct ws_outlook *o = &p->outlook[i];
        const struct ws_loader *l = NULL;
        for (size_t k = 0; k < image->loaders && !l; k++)
            if (strcmp(image->loader[k].machine, "x86-64") == 0) l = &image->loader[k];
        o->starts = l && (!o->secure_boot || l->signed_);
        (void)snprintf(o->why, sizeof o->why,
                       !l          ? "the image's loader is not for x86-64 PCs"
                       : o->starts ? "firmware finds %s%s%s"
                                   : "%s is not signed, and Secure Boot takes only signed loaders",
                       l ? l->path : "", l && o->secure_boot ? ", signed under " : "",
                       l && o->secure_boot ? l->issuer[0] ? l->issuer : "a key that could not be read" : "");
    }
}

/* Table, volume, and zeros between them: the descriptors of a disc image laid down earlier would stand there, and
 * systems that look for those would take the drive for what it was. */
static enum ws_status add_system(struct ws_build *b, struct ws_layout *layout, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_fat_params f = volume_params(p);
    struct ws_source *zeros = NULL;
    uint64_t size = 0;
    uint64_t from = p->table == WS_TABLE_MBR ? 512 : 34 * 512; /* the table's own sectors come with the seal */
    WS_TRY(ws_source_zeros(p->system_at, &zeros, error));
    WS_TRY(ws_layout_own(layout, zeros, error));
    WS_TRY(ws_table_compose(&b->image.table, layout, error));
    WS_TRY(ws_layout_add(layout, from, p->system_at - from, zeros, 0, WS_PHASE_BODY, error));
    return ws_fat_compose(&f, b->files_tree, p->system_at, layout, &size, NULL, error);
}

enum ws_status build_prepare_files(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_change change[WS_PLAN_EDITS_MOST];
    size_t changes = 0;
    enum ws_status status;
    (void)ws_esp_read(b->image.source, &b->image.table, b->image.iso ? ws_iso_facts(b->image.iso) : NULL, &b->esp_slice,
                      &b->esp_tree, NULL, NULL);
    WS_TRY(check(b, error));
    p->align = build_choose_align(p);
    WS_TRY(ws_tree_create(&b->files_tree, error));
    WS_TRY(copy_tree(ws_iso_tree(b->image.iso), b->files_tree, error));
    WS_GO(build_collect_changes(b, change, &changes, error));
    WS_GO(merge_esp(b, error));
    WS_GO(apply_changes(b, change, changes, error));
    WS_GO(ws_tree_fit_names(b->files_tree, ws_name_rules_fat(), &p->findings, error));
    WS_GO(size_volume(b, error));
    p->image_end = p->system_at + p->system_size;
    WS_GO(enter_system(b, &b->image.table, error));
    WS_GO(build_place_volumes(b, &b->image.table, error));
    p->table = b->image.table.kind;
    WS_GO(add_system(b, b->layout, error));
    WS_GO(ws_layout_create(p->drive_size, &b->image_only, error));
    WS_GO(add_system(b, b->image_only, error));
    WS_GO(ws_layout_seal(b->image_only, error));
    WS_GO(build_compose_volumes(b, error));
    build_list_parts(p, &b->image.table);
    note_choices(p);
    correct_outlook(p, &b->image);
done:
    for (size_t i = 0; i < changes; i++) build_free_change(&change[i]);
    return status;
}
