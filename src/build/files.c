/* files.c — a live image laid down file by file on an ordinary FAT32 volume, its EFI loader among the files. */
#include "build/internal.h"

#include "wild_satchel/exfat.h"
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
            if (n->target) WS_TRY(ws_tree_set_target(to, made, n->target, error));
        }
        made->mode = (uint16_t)(n->mode | 0200); /* an image's files are read-only by nature, a stick's are not */
        made->mtime = n->mtime;
    }
    return WS_OK;
}

/* Folders that differ only in case between image and EFI volume are one on FAT. */
static enum ws_status merge_esp(struct ws_build *b, struct ws_error *error) {
    if (!b->esp_tree) return WS_OK;
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

/* A file's new content, wherever it stands: what was a link to it is a copy that shares the old one. */
static void replace_content(struct ws_tree *tree, struct ws_node *file, const struct ws_source *now) {
    const struct ws_source *was = file->content;
    for (struct ws_node *n = ws_tree_root(tree); was && n; n = ws_tree_next(n))
        if (n->content == was) n->content = now;
    file->content = now;
}

/* Edited menus and lists. Their files are found before rules move them. */
static enum ws_status apply_changes(struct ws_build *b, const struct build_change *change,
                                    struct ws_node *const *target, size_t count, struct ws_error *error) {
    for (size_t i = 0; i < count; i++) {
        struct ws_source *text = NULL;
        if (!target[i]) continue;
        WS_TRY(ws_source_memory(change[i].bytes, change[i].length, &text, error));
        WS_TRY(ws_tree_own(b->files_tree, text, error));
        replace_content(b->files_tree, target[i], text);
    }
    return WS_OK;
}

static const char program_path[] = "EFI/BOOT/BOOTX64.EFI"; /* UEFI Specification 2.10, section 3.5.1.1 */

/* The loader that x86-64 firmware would find, rules carried out: they may be what brings it there. */
static bool find_loader(const struct ws_build *b, struct ws_loader *loader) {
    const struct ws_node *n = ws_tree_find_any_case(b->files_tree, program_path);
    if (!n || n->kind != WS_NODE_FILE || !n->content || !ws_loader_look(n->content, loader)) return false;
    (void)snprintf(loader->path, sizeof loader->path, "/%s", program_path);
    return strcmp(loader->machine, "x86-64") == 0;
}

/* Is it our program that UEFI firmware finds? Unasked, an image's own loader is left in place only where it is signed:
 * those can read FAT and are what Secure Boot needs. One made for a disc alone often reads nothing but ISO 9660. */
static bool own_uefi(const struct ws_build *b) {
    if (b->plan->system_exfat || b->plan->uefi_code == WS_UEFI_CODE_OWN) return true;
    return b->plan->uefi_code == WS_UEFI_CODE_AUTO && (!b->have_loader || (!b->loader.signed_ && !b->no_kernel));
}

/* An appliance may have no Linux kernel at all, and come with a loader that firmware starts. */
static bool starts_by_loader_alone(const struct ws_build *b) {
    const struct ws_plan *p = b->plan;
    bool ours = p->system_exfat || p->uefi_code == WS_UEFI_CODE_OWN;
    return b->have_loader && !ours && !p->family && p->persistence_place == WS_PERSIST_NONE && p->check == WS_CHECK_OFF;
}

/* Entries name the volume their system is on by the label or the identifier it gets. */
static enum ws_status rename_in_entries(const struct ws_build *b, struct ws_start_entries *entries,
                                        struct ws_error *error) {
    for (size_t i = 0; i < entries->count; i++) {
        struct ws_start_entry *e = &entries->entry[i];
        struct ws_text text = {0};
        ws_text_puts(&text, e->options);
        for (enum ws_named_by by = 0; by < WS_NAMED_WAYS && text.data; by++) (void)build_rename(&b->names, by, &text);
        enum ws_status status = ws_text_status(&text, error);
        if (status == WS_OK && text.length >= sizeof e->options)
            status = ws_fail(error, WS_E_UNSUPPORTED, "the parameters of \"%.60s\" are too long", e->title);
        if (status == WS_OK && text.data) memcpy(e->options, text.data, text.length + 1);
        ws_text_free(&text);
        WS_TRY(status);
    }
    return WS_OK;
}

/* Our start entries, made from the image's menus as they were, and our UEFI program where it is wanted. */
static enum ws_status add_start(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_start_entries entries;
    struct ws_node *program = NULL;
    const char *system[5] = {NULL};
    size_t length;
    bool remembers = p->persistence_place != WS_PERSIST_NONE;
    for (size_t i = 0; p->family && i < 4; i++) system[i] = p->family->roots[i];
    char parameters[WS_PARAMETERS_ROOM];
    enum ws_status status = ws_start_entries_of(
        b->files_tree, p->family, remembers ? build_parameters(p, parameters) : NULL, &entries, &p->findings, error);
    b->no_kernel = status == WS_E_NOTFOUND && starts_by_loader_alone(b);
    if (status == WS_E_NOTFOUND && !b->no_kernel)
        ws_fail_next(error, "nothing on the drive would start; for an ordinary one, `satchel drives %s --blank`",
                     p->drive_name);
    if (!b->no_kernel) WS_TRY(status);
    status = rename_in_entries(b, &entries, error);
    if (status == WS_OK)
        status = ws_start_entries_put(b->files_tree, &entries, p->check, p->check == WS_CHECK_FULL ? system : NULL,
                                      p->menu_seconds, p->made_at, error);
    ws_start_entries_free(&entries);
    WS_TRY(status);
    if (b->no_kernel)
        ws_findings_add(&p->findings, WS_WARNING,
                        "no start menu names a kernel that is there: only UEFI firmware starts it, by the image's own "
                        "loader");
    const char *described = p->own_family.document;
    if (described[0]) WS_TRY(ws_tree_put(b->files_tree, WS_OWN_FAMILY_PATH, described, strlen(described), NULL, error));
    if (!own_uefi(b) || p->system_exfat) return WS_OK;
    const uint8_t *bytes = ws_start_uefi_program(&length);
    struct ws_source *content = NULL;
    program = ws_tree_find_any_case(b->files_tree, program_path);
    if (!program) WS_TRY(ws_tree_put(b->files_tree, program_path, "", 0, &program, error));
    WS_TRY(ws_source_memory(bytes, length, &content, error));
    WS_TRY(ws_tree_own(b->files_tree, content, error));
    program->content = content;
    program->mtime = p->made_at;
    return WS_OK;
}

static enum ws_status check(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    WS_TRY(build_check_sector(p->drive_sector, p->drive_name, error));
    if (!b->image.iso) {
        ws_fail(error, WS_E_UNSUPPORTED, "only disc images, archives and folders can be laid down file by file");
        return ws_fail_next(error, "`satchel image` tells what this one is");
    }
    if (!p->family && p->persistence_place != WS_PERSIST_NONE) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "this image belongs to no live family known here, so nothing can be said about "
                "how it remembers");
        return ws_fail_next(error, "lay it down without: --persistence none; or describe its family: --family FILE");
    }
    if (p->family) WS_TRY(build_check_overlay(p, error));
    if (p->system_exfat && p->uefi_code == WS_UEFI_CODE_IMAGE) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "firmware reads no exFAT, so the image's own UEFI loader would not be found there");
        return ws_fail_next(error, "leave --uefi-code out, or put the system on FAT32");
    }
    char label[WS_LABEL_ROOM];
    if (p->rules.label[0] &&
        (ws_label_normalise("fat32", p->rules.label, label, sizeof label, NULL, 0, error) != WS_OK ||
         strcmp(label, p->rules.label) != 0))
        return ws_fail(error, WS_E_FORMAT, "the rules want the label \"%s\", which FAT32 cannot hold: \"%s\" would be",
                       p->rules.label, label);
    return WS_OK;
}

/* Image, EFI volume, rules, entries, edits: the tree that goes on the drive. */
static enum ws_status make_tree(struct ws_build *b, const struct build_change *change, size_t count,
                                struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_node *target[WS_PLAN_EDITS_MOST];
    WS_TRY(copy_tree(ws_iso_tree(b->image.iso), b->files_tree, error));
    WS_TRY(merge_esp(b, error));
    for (size_t i = 0; i < count; i++) {
        char path[4096];
        ws_node_path(change[i].file, path, sizeof path);
        target[i] = change[i].in_esp ? ws_tree_find_any_case(b->files_tree, path) : ws_tree_find(b->files_tree, path);
    }
    const struct ws_name_rules *names = p->system_exfat ? ws_name_rules_exfat() : ws_name_rules_fat();
    ws_tree_copy_links(b->files_tree, names->system, &p->findings); /* before rules move what they name */
    WS_TRY(ws_rules_apply_before(&p->rules, b->files_tree, error));
    WS_TRY(ws_tree_fit_names(b->files_tree, names, &p->findings, error));
    b->have_loader = find_loader(b, &b->loader);
    if (p->uefi_code == WS_UEFI_CODE_IMAGE && !b->have_loader) {
        ws_fail(error, WS_E_UNSUPPORTED, "the image brings no UEFI loader for x86-64 PCs");
        return ws_fail_next(error, "leave --uefi-code out: our own start-up code is taken then");
    }
    WS_TRY(add_start(b, error)); /* from the menus as they were */
    WS_TRY(apply_changes(b, change, target, count, error));
    return ws_rules_apply_after(&p->rules, b->files_tree, p->made_at, error);
}

void build_system_label(const struct ws_plan *p, char label[12]) {
    char title[WS_LABEL_ROOM];
    bool titled = ws_label_normalise("fat32", p->image_title, title, sizeof title, NULL, 0, NULL) == WS_OK && title[0];
    (void)snprintf(label, 12, "%.11s", p->rules.label[0] ? p->rules.label : titled ? title : "LIVE");
}

/* Systems tell volumes apart by their serial numbers, too: each drive has its own. */
static enum ws_status derive_serial(const struct ws_plan *p, const char *volume, uint32_t *serial,
                                    struct ws_error *error) {
    struct ws_guid id;
    WS_TRY(ws_guid_derive(&p->id, volume, &id, error));
    *serial = ws_load_le32(id.byte);
    return WS_OK;
}

enum ws_status build_system_names(const struct ws_plan *p, char name[WS_NAMED_WAYS][WS_LABEL_ROOM],
                                  struct ws_error *error) {
    uint32_t serial;
    WS_TRY(derive_serial(p, "system volume", &serial, error));
    build_system_label(p, name[WS_BY_LABEL]);
    ws_serial_name(serial, name[WS_BY_UUID]);
    return WS_OK;
}

static struct ws_fat_params fat_params(const struct ws_plan *p) {
    struct ws_fat_params f = {.size = p->system_size,
                              .bits = 32,
                              .cluster = build_overlay_beside(p) && p->system_size <= 8ull << 30 ? 4096 : 0,
                              .align = 65536,
                              .sector = p->drive_sector,
                              .hidden_sectors = p->system_at / p->drive_sector,
                              .made_at = p->made_at};
    build_system_label(p, f.label);
    return f;
}

/* The system's volume, FAT32 or exFAT. With layout NULL only its free bytes are worked out. */
static enum ws_status compose_system(struct ws_build *b, struct ws_layout *layout, uint64_t *free_bytes,
                                     struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_fat_params f = fat_params(p);
    uint64_t size = 0;
    WS_TRY(derive_serial(p, "system volume", &f.serial, error));
    if (!p->system_exfat) return ws_fat_compose(&f, b->files_tree, p->system_at, layout, &size, free_bytes, error);
    struct ws_exfat_params x = {.size = p->system_size,
                                .serial = f.serial,
                                .sector = f.sector,
                                .hidden_sectors = f.hidden_sectors,
                                .made_at = p->made_at};
    (void)snprintf(x.label, sizeof x.label, "%s", f.label);
    return ws_exfat_compose(&x, b->files_tree, p->system_at, layout, free_bytes, error);
}

/* An overlay file "as large as possible" wants a volume that takes what data and swap leave, up to what it can use. */
static void fill_drive(struct ws_plan *p) {
    uint64_t others = (p->data_asked == WS_PLAN_REST ? 0 : p->data_asked) + p->swap_asked + 8 * MIB;
    uint64_t useful = p->system_size + WS_FAT_FILE_MOST + 64 * MIB;
    uint64_t left = p->drive_size > p->system_at + others ? p->drive_size - p->system_at - others : 0;
    if (p->data_asked == WS_PLAN_REST) left /= 2;
    p->system_size = ws_max_u64(p->system_size, ws_min_u64(useful, left) / p->align * p->align);
}

/* The smallest volume that holds the files, and a sixteenth of air for what people add; or as large as asked. */
static enum ws_status size_volume(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    uint64_t content = 0;
    for (const struct ws_node *n = ws_tree_root(b->files_tree); n; n = ws_tree_next(n))
        content += ws_node_size(n) + 8192;
    uint64_t asked = p->overlay ? p->overlay->size : p->persistence_asked;
    uint64_t overlay = build_overlay_beside(p) ? asked : 0;
    uint64_t least = ws_round_up(content + content / 16 + 64 * MIB + overlay, p->align);
    least = ws_max_u64(least, build_fat_least(p, build_overlay_beside(p)));
    p->system_at = p->align;
    p->system_size = ws_max_u64(least, ws_round_up(p->system_asked, p->align));
    if (p->system_at + p->system_size > p->drive_size)
        return build_does_not_fit(error, p, p->system_at + p->system_size + WS_EXT4_LEAST);
    if (build_overlay_beside(p) && !asked && !p->system_asked) fill_drive(p);
    if (build_overlay_beside(p)) {
        WS_TRY(compose_system(b, NULL, &p->system_free, error));
        WS_TRY(build_reserve_overlay(b, b->files_tree, p->system_free, error));
    }
    for (;;) {
        enum ws_status status = compose_system(b, NULL, &p->system_free, error);
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
    bool gpt = p->table_gpt || p->drive_size > 2ull << 40 || p->drive_sector != 512;
    if (gpt) ws_table_new_gpt(table, p->drive_size, p->drive_sector, &id);
    else ws_table_new_mbr(table, p->drive_size, p->drive_sector, ws_load_le32(id.byte));
    /* An ordinary data partition: any firmware looks for a loader on it, and every PC shows it as a drive. */
    const char *type = p->system_exfat ? "exfat" : gpt ? "efi" : "data";
    WS_TRY(ws_table_add(table, p->system_at, p->system_size, type, &id, p->image_title, &p->system_number, error));
    if (!gpt) table->mbr[0].active = true;
    if (!p->system_exfat) return WS_OK;
    WS_TRY(ws_guid_derive(&p->id, "start partition", &id, error));
    p->start_at = p->system_at + p->system_size;
    p->start_size = build_fat_least(p, false);
    if (p->start_at + p->start_size > p->drive_size) return build_does_not_fit(error, p, p->start_at + p->start_size);
    return ws_table_add(table, p->start_at, p->start_size, "efi", &id, "start", &p->start_number, error);
}

/* A BIOS reads sectors of 512 bytes. */
static bool bios_reads(const struct ws_plan *p) { return p->drive_sector == 512; }

static void note_choices(struct ws_plan *p, bool own, bool kernel, bool loader) {
    char size[48];
    if (bios_reads(p) && kernel)
        ws_plan_chose(p, "start on BIOS", "our own code", "the image's own reads only the image as a whole");
    else if (!bios_reads(p))
        ws_findings_add(
            &p->findings, WS_NOTE,
            "the drive counts in sectors of %u bytes: through an adapter that shows it with others, nothing "
            "on it is found",
            p->drive_sector);
    if (p->uefi_code == WS_UEFI_CODE_AUTO)
        ws_plan_chose(p, "start on UEFI", own ? "our own code" : "the image's loader",
                      p->system_exfat ? "firmware reads no exFAT, our program does"
                      : !own          ? "it is what firmware and Secure Boot know"
                      : loader        ? "the image's is not signed, and whether it reads FAT is not known"
                                      : "the image brings none for x86-64 PCs");
    ws_plan_chose(p, "arrangement", "file by file",
                  "the drive stays an ordinary one, its files can be seen and added to");
    ws_plan_chose(p, "table", ws_table_kind_name(p->table),
                  p->table == WS_TABLE_MBR ? "every PC reads it"
                  : p->table_gpt           ? "as asked"
                  : !bios_reads(p)         ? "no BIOS starts from sectors of this size, and UEFI knows both"
                                           : "an MBR would end at 2 TiB");
    ws_plan_chose(p, "alignment", ws_size_counted(p->align, size, sizeof size),
                  "the erase units of usual drives divide it evenly");
    if (p->system_exfat) {
        ws_plan_chose(p, "file system", "exFAT",
                      "as asked: files of over 4 GiB; the live system must bring its driver");
        ws_findings_add(
            &p->findings, WS_WARNING,
            "the initial RAM disk must bring the kernel's exFAT driver, or the system does not find its files; "
            "`satchel prove` on an emulated PC tells");
    } else if (p->persistence_place == WS_PERSIST_NONE) {
        ws_plan_chose(p, "file system", "FAT32", "firmware reads nothing else");
    } else {
        ws_plan_chose(p, "file system", "FAT32, ext4",
                      "FAT32 for the system's files: firmware reads nothing else; ext4 for what is remembered");
    }
    build_note_persistence(p);
    if (p->rules.label[0]) ws_plan_chose(p, "system's label", p->rules.label, "the rules want exactly this one");
}

/* What this arrangement changes in the outlook: the image's own BIOS start-up code cannot read these files, ours can.
 */
static void correct_outlook(const struct ws_build *b, bool own) {
    const struct ws_loader *l = own || !b->have_loader ? NULL : &b->loader;
    struct ws_plan *p = b->plan;
    struct ws_outlook *bios = &p->outlook[0];
    bios->starts = bios_reads(p) && !b->no_kernel;
    if (b->no_kernel)
        (void)snprintf(bios->why, sizeof bios->why, "there is no kernel that our start-up code could start");
    else if (bios->starts)
        (void)snprintf(bios->why, sizeof bios->why, "by our own start-up code; %s",
                       p->table == WS_TABLE_MBR ? "the partition is active, as some old BIOSes want it"
                                                : "a few old BIOSes start from no drive with a GPT");
    else
        (void)snprintf(bios->why, sizeof bios->why, "a BIOS reads sectors of 512 bytes, the drive's have %u",
                       p->drive_sector);
    for (size_t i = 1; i < WS_OUTLOOKS; i++) {
        struct ws_outlook *o = &p->outlook[i];
        if (own) {
            o->starts = !o->secure_boot;
            (void)snprintf(o->why, sizeof o->why,
                           o->starts
                               ? "by our own start-up code, /EFI/BOOT/BOOTX64.EFI"
                               : "our own start-up code is not signed, and Secure Boot takes only signed loaders");
            continue;
        }
        o->starts = l && l->signed_;
        (void)snprintf(o->why, sizeof o->why,
                       !l               ? "the image's loader is not for x86-64 PCs"
                       : o->starts      ? "firmware finds %s%s%s"
                       : o->secure_boot ? "%s is not signed, and Secure Boot takes only signed loaders"
                                        : "firmware starts %s, but whether that finds its files on FAT is not known",
                       l ? l->path : "", l && o->secure_boot ? ", signed under " : "",
                       l && o->secure_boot ? l->issuer[0] ? l->issuer : "a key that could not be read" : "");
    }
}

/* Firmware reads no exFAT: our UEFI program stands on a small FAT32 volume and reads the rest itself. */
static enum ws_status add_start_volume(struct ws_build *b, struct ws_layout *layout, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_fat_params f = {.size = p->start_size,
                              .bits = 32,
                              .label = "START",
                              .align = 65536,
                              .sector = p->drive_sector,
                              .hidden_sectors = p->start_at / p->drive_sector,
                              .made_at = p->made_at};
    struct ws_node *n = NULL;
    uint64_t size = 0;
    size_t length;
    const uint8_t *program = ws_start_uefi_program(&length);
    WS_TRY(derive_serial(p, "start volume", &f.serial, error));
    if (!b->start_tree) {
        WS_TRY(ws_tree_create(&b->start_tree, error));
        WS_TRY(ws_tree_put(b->start_tree, program_path, program, length, &n, error));
        n->mtime = p->made_at;
    }
    return ws_fat_compose(&f, b->start_tree, p->start_at, layout, &size, NULL, error);
}

/* Table, volume, and zeros between them: the descriptors of a disc image laid down earlier would stand there, and
 * systems that look for those would take the drive for what it was. */
static enum ws_status add_system(struct ws_build *b, struct ws_layout *layout, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_source *zeros = NULL;
    uint64_t from = ws_table_front_bytes(&b->image.table); /* these come with the seal */
    WS_TRY(ws_source_zeros(p->system_at, &zeros, error));
    WS_TRY(ws_layout_own(layout, zeros, error));
    if (bios_reads(p)) {
        WS_TRY(ws_start_add_bios(&b->image.table, layout, error));
        WS_TRY(ws_layout_add(layout, from, WS_START_STAGE_AT - from, zeros, 0, WS_PHASE_BODY, error));
        from = WS_START_STAGE_AT + ws_start_stage_bytes();
    }
    WS_TRY(ws_table_compose(&b->image.table, layout, error));
    WS_TRY(ws_layout_add(layout, from, p->system_at - from, zeros, 0, WS_PHASE_BODY, error));
    WS_TRY(compose_system(b, layout, NULL, error));
    if (p->system_exfat) WS_TRY(add_start_volume(b, layout, error));
    if (build_overlay_beside(p)) build_place_overlay(b, b->files_tree, p->system_at, p->system_number);
    return WS_OK;
}

enum ws_status build_prepare_files(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_change change[WS_PLAN_EDITS_MOST];
    size_t changes = 0;
    enum ws_status status;
    p->align = build_choose_align(p);
    build_open_esp(b);
    WS_TRY(check(b, error));
    WS_TRY(ws_tree_create(&b->files_tree, error));
    WS_GO(build_collect_changes(b, change, &changes, error));
    WS_GO(make_tree(b, change, changes, error));
    WS_GO(size_volume(b, error));
    WS_GO(enter_system(b, &b->image.table, error));
    p->image_end = p->system_at + p->system_size + p->start_size;
    WS_GO(build_place_volumes(b, &b->image.table, error));
    p->table = b->image.table.kind;
    WS_GO(add_system(b, b->layout, error));
    WS_GO(ws_layout_create(p->drive_size, &b->image_only, error));
    if (build_overlay_beside(p)) ws_tree_find(b->files_tree, p->family->overlay_file)->reserved = true; /* it changes */
    WS_GO(add_system(b, b->image_only, error));
    WS_GO(ws_layout_seal(b->image_only, error));
    WS_GO(build_compose_volumes(b, error));
    build_list_parts(p, &b->image.table);
    p->own_uefi = own_uefi(b);
    note_choices(p, p->own_uefi, !b->no_kernel, b->have_loader);
    correct_outlook(b, p->own_uefi);
done:
    for (size_t i = 0; i < changes; i++) build_free_change(&change[i]);
    return status;
}
