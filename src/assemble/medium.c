/* medium.c — the files that go on a drive laid down file by file: the image's, its EFI loader among them, start
 * entries, rules. */
#include "assemble/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

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
        struct ws_node *here = ws_tree_find_any_case(b->tree[WS_ROLE_SYSTEM], path);
        if (!here) { /* its folder may be there in other letters */
            char *slash = strrchr(path, '/');
            *slash = '\0';
            struct ws_node *folder =
                path[0] ? ws_tree_find_any_case(b->tree[WS_ROLE_SYSTEM], path) : ws_tree_root(b->tree[WS_ROLE_SYSTEM]);
            *slash = '/';
            if (folder) WS_TRY(ws_tree_add(b->tree[WS_ROLE_SYSTEM], folder, n->name, WS_NODE_FILE, &here, error));
            else WS_TRY(ws_tree_put(b->tree[WS_ROLE_SYSTEM], path, "", 0, &here, error));
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
        WS_TRY(ws_tree_own(b->tree[WS_ROLE_SYSTEM], text, error));
        replace_content(b->tree[WS_ROLE_SYSTEM], target[i], text);
    }
    return WS_OK;
}

/* The loader that x86-64 firmware would find, rules carried out: they may be what brings it there. */
static bool find_loader(const struct ws_build *b, struct ws_loader *loader) {
    const struct ws_node *n = ws_tree_find_any_case(b->tree[WS_ROLE_SYSTEM], WS_UEFI_PROGRAM_PATH);
    if (!n || n->kind != WS_NODE_FILE || !n->content || !ws_loader_look(n->content, loader)) return false;
    (void)snprintf(loader->path, sizeof loader->path, "/%s", WS_UEFI_PROGRAM_PATH);
    return strcmp(loader->machine, "x86-64") == 0;
}

/* Is it our program that UEFI firmware finds? Unasked, an image's own loader is left in place only where it is signed:
 * those can read FAT and are what Secure Boot needs. One made for a disc alone often reads nothing but ISO 9660. */
bool build_own_uefi(const struct ws_build *b) {
    const struct ws_request *r = &b->plan->request;
    if (build_needs_start(b->plan) || r->uefi_code == WS_UEFI_CODE_OWN) return true;
    return r->uefi_code == WS_UEFI_CODE_AUTO && (!b->have_loader || (!b->loader.signed_ && !b->no_kernel));
}

/* An appliance may have no Linux kernel at all, and come with a loader that firmware starts. */
static bool starts_by_loader_alone(const struct ws_build *b) {
    const struct ws_plan *p = b->plan;
    bool ours = !build_needs_start(p) && p->request.uefi_code == WS_UEFI_CODE_OWN;
    return b->have_loader && !ours && !p->family && !b->remembers && p->request.check == WS_CHECK_OFF;
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

/* Where firmware does not read the volume, our program starts the image's loader, and shows it its files. */
static enum ws_status hand_over(const struct ws_build *b, struct ws_start_entries *entries, struct ws_error *error) {
    struct ws_start_entry *e = calloc(1, sizeof *e);
    if (!e) return ws_fail(error, WS_E_NOMEM, "out of memory for a start entry");
    (void)snprintf(e->title, sizeof e->title, "%s", b->plan->facts.title[0] ? b->plan->facts.title : "The image");
    (void)snprintf(e->linux_path, sizeof e->linux_path, "%s", b->loader.path);
    e->efi = true;
    entries->entry = e;
    entries->count = 1;
    return WS_OK;
}

/* Our start entries, made from the image's menus as they were, and our UEFI program where it is wanted. */
static enum ws_status add_start(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_start_entries entries;
    struct ws_node *program = NULL;
    const char *system[5] = {NULL};
    size_t length;
    for (size_t i = 0; p->family && i < 4; i++) system[i] = p->family->roots[i];
    char parameters[WS_PARAMETERS_ROOM];
    enum ws_status status =
        ws_start_entries_of(b->tree[WS_ROLE_SYSTEM], p->family, b->remembers ? build_parameters(b, parameters) : NULL,
                            &entries, &p->findings, error);
    b->no_kernel = status == WS_E_NOTFOUND && starts_by_loader_alone(b);
    if (status == WS_E_NOTFOUND && !b->no_kernel && b->have_loader && build_needs_start(p))
        ws_fail_hint(
            error, WS_HINT_SYSTEM_FORMAT, "fat32",
            "its own UEFI loader reads what firmware reads: put its files on FAT32, which ends a file at 4 GiB");
    else if (status == WS_E_NOTFOUND && !b->no_kernel)
        ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_BLANK),
                     "nothing on the drive would start; for an ordinary drive no image is needed");
    if (!b->no_kernel) WS_TRY(status);
    if (b->no_kernel && build_needs_start(p)) WS_TRY(hand_over(b, &entries, error));
    status = rename_in_entries(b, &entries, error);
    if (status == WS_OK)
        status = ws_start_entries_put(b->tree[WS_ROLE_SYSTEM], "", &entries, p->request.check,
                                      p->request.check == WS_CHECK_FULL ? system : NULL, p->request.menu_seconds,
                                      p->facts.made_at, error);
    ws_start_entries_free(&entries);
    WS_TRY(status);
    if (b->no_kernel)
        ws_findings_add(&p->findings, WS_WARNING,
                        "no start menu names a kernel that is there: only UEFI firmware starts it, by the image's own "
                        "loader");
    const char *described = p->request.family;
    if (described[0])
        WS_TRY(ws_tree_put(b->tree[WS_ROLE_SYSTEM], WS_OWN_FAMILY_PATH, described, strlen(described), NULL, error));
    if (!build_own_uefi(b) || build_needs_start(p)) return WS_OK;
    const uint8_t *bytes = ws_start_uefi_program(&length);
    struct ws_source *content = NULL;
    program = ws_tree_find_any_case(b->tree[WS_ROLE_SYSTEM], WS_UEFI_PROGRAM_PATH);
    if (!program) WS_TRY(ws_tree_put(b->tree[WS_ROLE_SYSTEM], WS_UEFI_PROGRAM_PATH, "", 0, &program, error));
    WS_TRY(ws_source_memory(bytes, length, &content, error));
    WS_TRY(ws_tree_own(b->tree[WS_ROLE_SYSTEM], content, error));
    program->content = content;
    program->mtime = p->facts.made_at;
    return WS_OK;
}

/* Image, EFI volume, rules, entries, edits: the tree that goes on the drive. */
enum ws_status build_make_medium(struct ws_build *b, const struct build_change *change, size_t count,
                                 struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_node *target[PLAN_EDITS_MOST];
    WS_TRY(copy_tree(ws_iso_tree(b->image.iso), b->tree[WS_ROLE_SYSTEM], error));
    WS_TRY(merge_esp(b, error));
    for (size_t i = 0; i < count; i++) {
        char path[4096];
        ws_node_path(change[i].file, path, sizeof path);
        target[i] = change[i].in_esp ? ws_tree_find_any_case(b->tree[WS_ROLE_SYSTEM], path)
                                     : ws_tree_find(b->tree[WS_ROLE_SYSTEM], path);
    }
    const struct ws_format *format;
    WS_TRY(build_format(p, WS_ROLE_SYSTEM, &format, error));
    const struct ws_name_rules *names = format->names();
    ws_tree_copy_links(b->tree[WS_ROLE_SYSTEM], names->system, &p->findings); /* before rules move what they name */
    WS_TRY(ws_rules_apply_before(&p->request.rules, b->tree[WS_ROLE_SYSTEM], error));
    WS_TRY(ws_tree_fit_names(b->tree[WS_ROLE_SYSTEM], names, &p->findings, error));
    b->have_loader = find_loader(b, &b->loader);
    if (p->request.uefi_code == WS_UEFI_CODE_IMAGE && !b->have_loader) {
        ws_fail(error, WS_E_UNSUPPORTED, "the image brings no UEFI loader for x86-64 PCs");
        return ws_fail_hint(error, WS_HINT_UEFI_CODE, "",
                            "leave that to the plan: our own start-up code is taken then");
    }
    WS_TRY(add_start(b, error)); /* from the menus as they were */
    WS_TRY(apply_changes(b, change, target, count, error));
    WS_TRY(ws_rules_apply_after(&p->request.rules, b->tree[WS_ROLE_SYSTEM], p->facts.made_at, error));
    WS_TRY(build_note_laid(b, error));
    return build_put_others(b, WS_ROLE_SYSTEM, error);
}

bool build_needs_start(const struct ws_plan *p) {
    const struct ws_format *format = NULL;
    return build_format(p, WS_ROLE_SYSTEM, &format, NULL) == WS_OK && !format->firmware;
}

enum ws_status build_make_start(struct ws_build *b, struct ws_error *error) {
    struct ws_node *n = NULL;
    size_t length;
    const uint8_t *program = ws_start_uefi_program(&length);
    struct ws_tree **tree = &b->tree[build_starts_from_data(b->plan) ? WS_ROLE_DATA : WS_ROLE_START];
    if (!*tree) WS_TRY(ws_tree_create(tree, error));
    if (b->have_chain) {
        struct ws_guid id;
        char uuid[48];
        bool apart = build_is_locked(b->plan) || (b->twin && b->plan->id_of[WS_ROLE_BOOT].byte[0]);
        WS_TRY(build_volume_id(b->plan, apart ? WS_ROLE_BOOT : WS_ROLE_SYSTEM, &id, error));
        return ws_chain_put(*tree, &b->chain, ws_guid_text(&id, uuid), apart ? WS_CHAIN_MENU_APART : WS_CHAIN_MENU,
                            b->plan->facts.made_at, error);
    }
    WS_TRY(ws_tree_put(*tree, WS_UEFI_PROGRAM_PATH, program, length, &n, error));
    n->mtime = b->plan->facts.made_at;
    return build_put_others(b, WS_ROLE_START, error);
}
