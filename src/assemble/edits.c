/* edits.c — the image's own start menus told to remember, inside the image and inside its EFI volume. */
#include "assemble/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct editing {
    struct ws_build *build;
    struct build_change *change;
    size_t changes;
    bool folder_has_default;
    const struct ws_node *folder;
    size_t edited_menus;
    const struct ws_tree *tree; /* the menus looked at now: the image's, or its EFI volume's */
    bool in_esp;
    const struct ws_node *esp_file; /* the EFI volume as a file of the image, if it is one, and what it becomes */
    char *esp_bytes;
    size_t esp_length;
};

static struct ws_plan_edit *note(struct editing *e, const struct ws_node *file, const char *what) {
    struct ws_plan *plan = e->build->plan;
    if (plan->edits >= PLAN_EDITS_MOST) return NULL;
    struct ws_plan_edit *edit = &plan->edit[plan->edits++];
    memset(edit, 0, sizeof *edit);
    size_t n = e->in_esp ? (size_t)snprintf(edit->path, sizeof edit->path, "EFI volume: ") : 0;
    char path[sizeof edit->path];
    ws_visible(ws_node_path(file, path, sizeof path), edit->path + n, sizeof edit->path - n);
    (void)snprintf(edit->what, sizeof edit->what, "%s", what);
    return edit;
}

/* The entry of this file that starts by itself. Several syslinux files can form one menu: only the one that names
 * the default decides; if none does, the first entry of the first file is it. */
static const struct ws_menu_entry *entry_to_edit(const struct ws_menu *menu, bool another_decides) {
    const struct ws_menu_entry *e = ws_menu_default(menu);
    if (e || another_decides) return e;
    return &menu->entry[0];
}

static enum ws_status look_for_default(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                       struct ws_error *error) {
    struct editing *e = context;
    (void)error;
    if (menu && file->parent == e->folder && menu->kind == WS_MENU_SYSLINUX && ws_menu_default(menu))
        e->folder_has_default = true;
    return WS_OK;
}

static enum ws_status edit_menu(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                struct ws_error *error) {
    struct editing *e = context;
    const struct ws_live_family *family = e->build->plan->family;
    struct ws_text text = {0};
    bool live = false;
    if (!menu) {
        char path[200];
        ws_findings_add(&e->build->plan->findings, WS_WARNING,
                        "the start menu %s is damaged and cannot be edited: what it starts will forget",
                        ws_node_path(file, path, sizeof path));
        return WS_OK;
    }
    for (size_t i = 0; i < menu->entries; i++)
        live |= ws_live_family_of_parameters(menu->entry[i].parameters) != NULL ||
                ws_live_family_starts(family, menu->entry[i].parameters) ||
                (menu->entry[i].kernel[0] && strstr(menu->entry[i].kernel, family->folder));
    if (!live) return WS_OK;
    if (menu->kind == WS_MENU_SYSLINUX && !ws_menu_default(menu)) {
        e->folder = file->parent;
        e->folder_has_default = false;
        WS_TRY(ws_medium_menus(e->tree, look_for_default, e, error));
    }
    const struct ws_menu_entry *entry = entry_to_edit(menu, menu->kind == WS_MENU_SYSLINUX && e->folder_has_default);
    if (!entry) return WS_OK;
    char parameters[WS_PARAMETERS_ROOM];
    build_parameters(e->build, parameters);
    WS_TRY(ws_menu_remember(menu, entry, parameters, family->drop, &text, error));
    if (e->changes >= PLAN_EDITS_MOST) {
        ws_text_free(&text);
        return ws_fail(error, WS_E_UNSUPPORTED, "the image has more start menus than can be edited");
    }
    e->change[e->changes++] = (struct build_change){file, text.data, text.length, e->in_esp};
    e->edited_menus++;
    char what[160];
    (void)snprintf(what, sizeof what, "\"%.60s\" remembers; a forgetful copy stands behind it", entry->title);
    (void)note(e, file, what);
    return WS_OK;
}

/* The names that menus say: an archive's or a folder's files keep those of the image they were taken from. */
static enum ws_status look_for_names(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                     struct ws_error *error) {
    struct build_names *names = context;
    (void)file, (void)error;
    for (size_t i = 0; menu && i < menu->entries; i++)
        for (enum ws_named_by by = 0; by < WS_NAMED_WAYS; by++)
            if (!names->said[by][0])
                (void)ws_parameters_medium(menu->entry[i].parameters, by, names->said[by], sizeof names->said[by]);
    return WS_OK;
}

bool build_rename(const struct build_names *names, enum ws_named_by by, struct ws_text *text) {
    const char *now = names->now[by];
    const char *old[2] = {names->was[by], strcmp(names->said[by], names->was[by]) == 0 ? "" : names->said[by]};
    size_t replaced = 0;
    for (int i = 0; i < 2; i++) {
        struct ws_text next = {0};
        if (!old[i][0] || strcmp(old[i], now) == 0) continue;
        replaced += ws_menu_rename(text->data, text->length, by, old[i], now, &next);
        ws_text_free(text);
        *text = next;
    }
    return replaced > 0;
}

static bool rename_in(const struct editing *e, const char *bytes, size_t length, struct ws_text *out, char what[120]) {
    ws_text_add(out, bytes, length);
    bool label = build_rename(&e->build->names, WS_BY_LABEL, out);
    bool uuid = build_rename(&e->build->names, WS_BY_UUID, out);
    if (label)
        (void)snprintf(what, 120, "looks for the medium's label \"%.11s\" now", e->build->names.now[WS_BY_LABEL]);
    else (void)snprintf(what, 120, "looks for the medium's identifier %.11s now", e->build->names.now[WS_BY_UUID]);
    return label || uuid;
}

/* Menus name the medium by a label that its new volume may not have: too long for FAT, or the rules want another; or by
 * an identifier, which is each volume's own. */
static enum ws_status rename_in_menus(struct editing *e, const struct ws_tree *tree, bool in_esp,
                                      struct ws_error *error) {
    char what[120];
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        struct ws_text text = {0};
        struct build_change *done = NULL;
        char *bytes = NULL;
        size_t length = 0;
        if (!ws_may_be_menu(n)) continue;
        for (size_t i = 0; i < e->changes && !done; i++)
            if (e->change[i].file == n) done = &e->change[i];
        if (!done) WS_TRY(ws_source_load(n->content, 256 * 1024, &bytes, &length, error));
        bool says =
            done ? rename_in(e, done->bytes, done->length, &text, what) : rename_in(e, bytes, length, &text, what);
        enum ws_status status = ws_text_status(&text, error);
        if (status == WS_OK && says && !done && e->changes >= PLAN_EDITS_MOST)
            status = ws_fail(error, WS_E_UNSUPPORTED, "the image has more start menus than can be edited");
        free(bytes);
        if (status != WS_OK || !says) {
            ws_text_free(&text);
            WS_TRY(status);
            continue;
        }
        if (!done) done = &e->change[e->changes++];
        else free(done->bytes);
        *done = (struct build_change){n, text.data, text.length, in_esp};
        e->in_esp = in_esp;
        (void)note(e, n, what);
        e->in_esp = false;
    }
    return WS_OK;
}

enum ws_status build_edit_esp(const struct build_change *change, size_t count, struct ws_source *patched, uint64_t at,
                              uint64_t length, struct ws_error *error) {
    for (size_t i = 0; i < count; i++) {
        struct ws_source *volume = NULL;
        if (!change[i].in_esp) continue;
        WS_TRY(ws_source_slice(patched, at, length, &volume, error)); /* with the changes before this one */
        enum ws_status status =
            ws_fat_replace(volume, patched, at, change[i].file, change[i].bytes, change[i].length, error);
        ws_source_close(volume);
        if (status == WS_E_SPACE)
            ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_LIVE_FILES),
                         "its start menu cannot grow there; lay the image's files down");
        WS_TRY(status);
    }
    return WS_OK;
}

/* The EFI volume is often a file of the image, and lists of checksums name it: what it will hold. */
static enum ws_status foresee_esp(struct editing *e, struct ws_error *error) {
    struct ws_build *b = e->build;
    struct ws_source *patched = NULL;
    uint64_t at;
    uint64_t length;
    if (!ws_esp_place(&b->image.table, ws_iso_facts(b->image.iso), b->image.source->size, &at, &length)) return WS_OK;
    for (const struct ws_node *n = ws_tree_root(ws_iso_tree(b->image.iso)); n && !e->esp_file; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content && ws_iso_place_of(n) == at && n->content->size <= length &&
            n->content->size <= 64u << 20)
            e->esp_file = n;
    if (!e->esp_file) return WS_OK;
    WS_TRY(ws_source_patched(b->esp_slice, b->esp_slice->size, &patched, error));
    enum ws_status status = build_edit_esp(e->change, e->changes, patched, 0, patched->size, error);
    struct ws_source *file = NULL;
    if (status == WS_OK) status = ws_source_slice(patched, 0, e->esp_file->content->size, &file, error);
    if (status == WS_OK) status = ws_source_load(file, 64u << 20, &e->esp_bytes, &e->esp_length, error);
    ws_source_close(file);
    ws_source_close(patched);
    return status;
}

static enum ws_status correct_lists(struct editing *e, struct ws_error *error) {
    struct ws_tree *tree = ws_iso_tree(e->build->image.iso);
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        char *list = NULL;
        size_t length = 0;
        size_t corrected = 0;
        if (n->kind != WS_NODE_FILE || !n->content || !ws_is_checklist(n->name)) continue;
        if (n->content->size > 64u << 20) continue;
        WS_TRY(ws_source_load(n->content, 64u << 20, &list, &length, error));
        char prefix[512];
        ws_node_path(n->parent, prefix, sizeof prefix);
        if (e->esp_file) {
            char path[512];
            ws_node_path(e->esp_file, path, sizeof path);
            size_t skip = strcmp(prefix, "/") == 0 ? 1 : strlen(prefix) + 1;
            if (strncmp(path, prefix, skip - 1) != 0) skip = 1;
            corrected += ws_checklist_correct(list, length, path + skip, e->esp_bytes, e->esp_length);
        }
        for (size_t i = 0; i < e->changes; i++) {
            char path[512];
            if (e->change[i].in_esp) continue;
            ws_node_path(e->change[i].file, path, sizeof path);
            size_t skip = strcmp(prefix, "/") == 0 ? 1 : strlen(prefix) + 1; /* lists count from their own folder */
            if (strncmp(path, prefix, skip - 1) != 0) skip = 1;
            corrected += ws_checklist_correct(list, length, path + skip, e->change[i].bytes, e->change[i].length);
        }
        if (corrected == 0) {
            free(list);
            continue;
        }
        if (e->changes >= PLAN_EDITS_MOST) {
            free(list);
            return ws_fail(error, WS_E_UNSUPPORTED,
                           "the image has more start menus and lists of checksums than can be edited: %d",
                           (int)PLAN_EDITS_MOST);
        }
        e->change[e->changes++] = (struct build_change){n, list, length, false};
        char what[64];
        (void)snprintf(what, sizeof what, "%zu checksum%s corrected", corrected, corrected == 1 ? "" : "s");
        (void)note(e, n, what);
    }
    return WS_OK;
}

void build_open_esp(struct ws_build *b) {
    (void)ws_esp_read(b->image.source, &b->image.table, b->image.iso ? ws_iso_facts(b->image.iso) : NULL, &b->esp_slice,
                      &b->esp_tree, NULL, NULL);
    if (b->esp_tree || b->plan->facts.kind != WS_KIND_LIVE_FILES || !b->image.iso) return;
    const struct ws_tree *medium = ws_iso_tree(b->image.iso); /* of an unpacked image it is one of the files */
    if (!ws_tree_find_any_case(medium, WS_UEFI_PROGRAM_PATH)) (void)ws_esp_among_files(medium, &b->esp_tree, NULL);
}

void build_free_change(struct build_change *change) { free(change->bytes); }

enum ws_status build_collect_changes(struct ws_build *b, struct build_change *change, size_t *count,
                                     struct ws_error *error) {
    struct editing e = {.build = b, .change = change};
    enum ws_status status;
    bool remembers = b->remembers;
    bool files = b->plan->facts.kind == WS_KIND_LIVE_FILES;
    b->plan->edits = 0;
    e.tree = ws_iso_tree(b->image.iso);
    if (remembers) WS_GO(ws_medium_menus(e.tree, edit_menu, &e, error));
    size_t outside = e.changes;
    if (b->esp_tree && remembers) {
        e.tree = b->esp_tree;
        e.in_esp = true;
        WS_GO(ws_medium_menus(e.tree, edit_menu, &e, error));
        e.in_esp = false;
    }
    if (files) {
        struct build_names *names = &b->names;
        WS_GO(build_system_names(b->plan, names->now, error));
        (void)snprintf(names->was[WS_BY_LABEL], sizeof names->was[0], "%s", ws_iso_facts(b->image.iso)->volume_id);
        (void)snprintf(names->was[WS_BY_UUID], sizeof names->was[0], "%s", ws_iso_facts(b->image.iso)->uuid);
        WS_GO(ws_medium_menus(ws_iso_tree(b->image.iso), look_for_names, names, error));
        WS_GO(rename_in_menus(&e, ws_iso_tree(b->image.iso), false, error));
        if (b->esp_tree) WS_GO(rename_in_menus(&e, b->esp_tree, true, error));
    } else if (e.changes > outside) {
        WS_GO(foresee_esp(&e, error));
    }
    if (remembers && e.edited_menus == 0) {
        ws_fail(error, WS_E_UNSUPPORTED, "no start menu of this image could be told to remember");
        char parameters[WS_PARAMETERS_ROOM];
        WS_GO(ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_REPLICA),
                           "plan it as a replica, and pass \"%s\" by hand at each start",
                           build_parameters(b, parameters)));
    }
    status = correct_lists(&e, error);
done:
    free(e.esp_bytes);
    *count = e.changes;
    return status;
}

enum ws_status build_edit_menus(struct ws_build *b, uint64_t *end, struct ws_error *error) {
    struct build_change change[PLAN_EDITS_MOST];
    size_t changes = 0;
    enum ws_status status;
    uint64_t esp_at;
    uint64_t esp_length;
    build_open_esp(b);
    WS_GO(build_collect_changes(b, change, &changes, error));
    if (b->esp_tree &&
        ws_esp_place(&b->image.table, ws_iso_facts(b->image.iso), b->image.source->size, &esp_at, &esp_length))
        WS_GO(build_edit_esp(change, changes, b->patched, esp_at, esp_length, error));
    for (size_t i = 0; i < changes; i++) {
        enum ws_iso_place place;
        if (change[i].in_esp) continue;
        WS_GO(ws_iso_replace(b->image.iso, b->patched, change[i].file, change[i].bytes, change[i].length, end, &place,
                             error));
        b->plan->edit[i].behind = place == WS_ISO_BEHIND;
    }
done:
    for (size_t i = 0; i < changes; i++) build_free_change(&change[i]);
    return status;
}
