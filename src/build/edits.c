/* edits.c — the image's own start menus told to remember, inside the image. */
#include "build/internal.h"

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
};

static struct ws_plan_edit *note(struct editing *e, const struct ws_node *file, const char *what) {
    struct ws_plan *plan = e->build->plan;
    if (plan->edits >= WS_PLAN_EDITS_MOST) return NULL;
    struct ws_plan_edit *edit = &plan->edit[plan->edits++];
    memset(edit, 0, sizeof *edit);
    ws_node_path(file, edit->path, sizeof edit->path);
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
                (menu->entry[i].kernel[0] && strstr(menu->entry[i].kernel, family->folder));
    if (!live) return WS_OK;
    if (menu->kind == WS_MENU_SYSLINUX && !ws_menu_default(menu)) {
        e->folder = file->parent;
        e->folder_has_default = false;
        WS_TRY(ws_medium_menus(ws_iso_tree(e->build->image.iso), look_for_default, e, error));
    }
    const struct ws_menu_entry *entry = entry_to_edit(menu, menu->kind == WS_MENU_SYSLINUX && e->folder_has_default);
    if (!entry) return WS_OK;
    WS_TRY(ws_menu_remember(menu, entry, family->parameters, family->drop, &text, error));
    if (e->changes >= WS_PLAN_EDITS_MOST) {
        ws_text_free(&text);
        return ws_fail(error, WS_E_UNSUPPORTED, "the image has more start menus than can be edited");
    }
    e->change[e->changes++] = (struct build_change){file, text.data, text.length};
    e->edited_menus++;
    char what[160];
    (void)snprintf(what, sizeof what, "\"%.60s\" remembers; a forgetful copy stands behind it", entry->title);
    (void)note(e, file, what);
    return WS_OK;
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
        for (size_t i = 0; i < e->changes; i++) {
            char path[512];
            ws_node_path(e->change[i].file, path, sizeof path);
            size_t skip = strcmp(prefix, "/") == 0 ? 1 : strlen(prefix) + 1; /* lists count from their own folder */
            if (strncmp(path, prefix, skip - 1) != 0) skip = 1;
            corrected += ws_checklist_correct(list, length, path + skip, e->change[i].bytes, e->change[i].length);
        }
        if (corrected == 0 || e->changes >= WS_PLAN_EDITS_MOST) {
            free(list);
            continue;
        }
        e->change[e->changes++] = (struct build_change){n, list, length};
        char what[64];
        (void)snprintf(what, sizeof what, "%zu checksum%s corrected", corrected, corrected == 1 ? "" : "s");
        (void)note(e, n, what);
    }
    return WS_OK;
}

/* A menu inside the EFI partition's FAT volume is not the image's ISO 9660 text; say so instead of staying silent. */
static void warn_about_esp(struct ws_build *b) {
    struct ws_source *slice = NULL;
    struct ws_tree *esp = NULL;
    if (ws_esp_read(b->image.source, &b->image.table, ws_iso_facts(b->image.iso), &slice, &esp, NULL, NULL) != WS_OK)
        return;
    for (struct ws_node *n = ws_tree_root(esp); n; n = ws_tree_next(n)) {
        char *text = NULL;
        size_t length = 0;
        struct ws_menu menu;
        size_t name = strlen(n->name);
        if (n->kind != WS_NODE_FILE || !n->content || name < 4 || strcmp(n->name + name - 4, ".cfg") != 0) continue;
        if (ws_source_load(n->content, 256 * 1024, &text, &length, NULL) != WS_OK) continue;
        if (ws_menu_parse(text, length, &menu, NULL) == WS_OK) {
            char path[200];
            ws_findings_add(&b->plan->findings, WS_WARNING,
                            "the EFI partition has a start menu of its own (%s), which is not edited: check what UEFI "
                            "starts",
                            ws_node_path(n, path, sizeof path));
            ws_menu_free(&menu);
        }
        free(text);
    }
    ws_tree_close(esp);
    ws_source_close(slice);
}

void build_free_change(struct build_change *change) { free(change->bytes); }

enum ws_status build_collect_changes(struct ws_build *b, struct build_change *change, size_t *count,
                                     struct ws_error *error) {
    struct editing e = {.build = b, .change = change};
    enum ws_status status;
    b->plan->edits = 0;
    WS_GO(ws_medium_menus(ws_iso_tree(b->image.iso), edit_menu, &e, error));
    if (e.edited_menus == 0) {
        ws_fail(error, WS_E_UNSUPPORTED, "no start menu of this image could be told to remember");
        WS_GO(ws_fail_next(error, "plan it as a replica, and pass \"%s\" by hand at each start",
                           b->plan->family->parameters));
    }
    status = correct_lists(&e, error);
done:
    *count = e.changes;
    return status;
}

enum ws_status build_edit_menus(struct ws_build *b, uint64_t *end, struct ws_error *error) {
    struct build_change change[WS_PLAN_EDITS_MOST];
    size_t changes = 0;
    enum ws_status status;
    WS_GO(build_collect_changes(b, change, &changes, error));
    for (size_t i = 0; i < changes; i++) {
        enum ws_iso_place place;
        WS_GO(ws_iso_replace(b->image.iso, b->patched, change[i].file, change[i].bytes, change[i].length, end, &place,
                             error));
        b->plan->edit[i].behind = place == WS_ISO_BEHIND;
    }
    warn_about_esp(b);
done:
    for (size_t i = 0; i < changes; i++) build_free_change(&change[i]);
    return status;
}
