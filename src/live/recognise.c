/* recognise.c — which family a medium belongs to: by what it says itself, by its menus, by its folders. */
#include "wild_satchel/live.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* The release a medium names, as year and month ("18.04" is 1804); 0 if it does not. */
static unsigned long release_of(const struct ws_tree *tree) {
    const struct ws_node *info = ws_tree_find(tree, ".disk/info");
    char *text = NULL;
    size_t length = 0;
    unsigned long found = 0;
    if (!info || !info->content || ws_source_load(info->content, 4096, &text, &length, NULL) != WS_OK) return 0;
    for (const char *p = text; *p && !found; p++) {
        char *end;
        if (*p < '0' || *p > '9' || (p > text && p[-1] != ' ')) continue;
        unsigned long year = strtoul(p, &end, 10);
        if (year >= 4 && year < 100 && end[0] == '.' && end[1] >= '0' && end[1] <= '1' && end[2] >= '0' &&
            end[2] <= '9')
            found = year * 100 + (unsigned long)(end[1] - '0') * 10 + (unsigned long)(end[2] - '0');
    }
    free(text);
    return found;
}

struct search {
    const struct ws_live_family *found;
};

static enum ws_status look(void *context, const struct ws_node *file, const struct ws_menu *menu,
                           struct ws_error *error) {
    struct search *s = context;
    (void)file, (void)error;
    for (size_t i = 0; menu && i < menu->entries && !s->found; i++)
        s->found = ws_live_family_of_parameters(menu->entry[i].parameters);
    return WS_OK;
}

/* The description that drives made here carry. */
static bool describes_itself(const struct ws_tree *tree, struct ws_own_family *own) {
    const struct ws_node *n = own ? ws_tree_find_any_case(tree, WS_OWN_FAMILY_PATH) : NULL;
    char *text = NULL;
    size_t length = 0;
    if (!n || !n->content || ws_source_load(n->content, WS_FAMILY_TEXT, &text, &length, NULL) != WS_OK) return false;
    bool good = ws_own_family_read(text, length, own, NULL) == WS_OK;
    free(text);
    return good;
}

const struct ws_live_family *ws_live_family_of_medium(const struct ws_tree *tree, struct ws_own_family *own) {
    struct search s = {NULL};
    size_t count;
    const struct ws_live_family *families = ws_live_families(&count);
    if (describes_itself(tree, own)) return &own->family;
    (void)ws_medium_menus(tree, look, &s, NULL);
    for (size_t i = 0; i < count && !s.found; i++) {
        if (families[i].release_before) continue;
        for (size_t k = 0; k < 4 && families[i].roots[k]; k++)
            if (ws_tree_find_any_case(tree, families[i].roots[k])) s.found = &families[i];
    }
    if (!s.found) return NULL;
    unsigned long release = release_of(tree);
    for (size_t i = 0; release && i < count; i++) { /* an older release of the same family */
        if (!families[i].release_before || strcmp(families[i].folder, s.found->folder) != 0) continue;
        const char *before = families[i].release_before;
        if (release < strtoul(before, NULL, 10) * 100 + strtoul(strchr(before, '.') + 1, NULL, 10)) return &families[i];
    }
    return s.found;
}
