/* edit.c — what is remembered, edited in memory: cleaned, reset, replaced by a saved state. */
#include "keep/internal.h"
#include "twin/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum ws_status keep_still_as_it_is(const struct ws_kept *k, struct ws_error *error) {
    if (k->forgiving)
        return ws_fail(error, WS_E_UNSUPPORTED, "a damaged drive is not changed: what is left of it can be saved");
    if (!k->layout && !k->fresh && !k->renewed && !k->resize && !k->taking) return WS_OK;
    return ws_fail(error, WS_E_USAGE, "what is remembered was edited already: open it again");
}

enum ws_status ws_kept_clean(struct ws_kept *k, uint32_t which, struct ws_left_out tally[WS_LEAVES],
                             struct ws_error *error) {
    WS_TRY(keep_still_as_it_is(k, error));
    leave_below(k->tree, keep_top_path(k), which & ~(1u << WS_LEAVE_KERNELS), tally);
    return WS_OK;
}

static void stay(struct ws_node *n) {
    for (; n && !n->work; n = n->parent) n->work = 1;
}

static void stay_whole(struct ws_node *top) {
    for (struct ws_node *n = top; n; n = ws_tree_next_below(n, top)) {
        n->work = 1;
        if (n->same_as) stay(n->same_as); /* what it is a second name of */
    }
    stay(top->parent);
}

static bool goes(void *context, struct ws_node *n) {
    (void)context;
    return !n->work;
}

static enum ws_status keep_exceptions(struct ws_kept *k, const char *const except[], size_t count,
                                      struct ws_error *error) {
    char path[4200];
    for (size_t i = 0; i < count; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", keep_top_path(k), except[i]);
        struct ws_node *n = ws_tree_find(k->tree, path);
        if (!n || n == ws_tree_root(k->tree)) {
            ws_fail(error, WS_E_NOTFOUND, "nothing of this path is remembered");
            return ws_fail_where(error, "%s", except[i]);
        }
        stay_whole(n);
    }
    return WS_OK;
}

enum ws_status ws_kept_reset(struct ws_kept *k, const char *const except[], size_t count, struct ws_error *error) {
    const struct ws_live_family *f = k->memory.family;
    WS_TRY(keep_still_as_it_is(k, error));
    if (k->memory.system) {
        ws_fail(error, WS_E_UNSUPPORTED, "a full system is itself what the drive remembers: it cannot be as fresh");
        return ws_fail_next(error, "build the drive anew, or renew it");
    }
    for (struct ws_node *n = ws_tree_root(k->tree); n; n = ws_tree_next(n)) n->work = 0;
    ws_tree_root(k->tree)->work = 1;
    struct ws_node *n = ws_tree_find(k->tree, "lost+found");
    if (n) n->work = 1;
    n = f->config_path ? ws_tree_find(k->tree, f->config_path) : NULL;
    if (n) stay_whole(n);
    for (size_t i = 0; i < 3 && f->folders[i]; i++)
        if ((n = ws_tree_find(k->tree, f->folders[i]))) stay(n);
    WS_TRY(keep_exceptions(k, except, count, error));
    ws_tree_drop_all(k->tree, goes, NULL);
    k->anew = !count;
    return WS_OK;
}

static enum ws_status not_there(struct ws_error *error, const char *what, const char *next) {
    ws_fail(error, WS_E_UNSUPPORTED, "the saved state cannot be put here: %s", what);
    return ws_fail_next(error, "%s", next);
}

enum ws_status ws_kept_put(struct ws_kept *k, struct ws_saved *saved, struct ws_error *error) {
    const struct ws_saved_facts *s = &saved->facts;
    const bool system = strcmp(s->family, "system") == 0;
    struct ws_node *top = NULL;
    char id[37];
    WS_TRY(keep_still_as_it_is(k, error));
    if (system != k->memory.system)
        return not_there(error, system ? "it is a full system's, and this is a live one" : "it is a live system's",
                         "choose a drive of its kind");
    ws_guid_text(&k->facts.id, id);
    if (system && strcmp(id, s->volume) != 0)
        return not_there(error, "it is of another full system, whose identifiers are others", "make a twin of that");
    if (s->whole && !system && strcmp(s->family, k->memory.family->word) != 0)
        return not_there(error, "it was arranged for another family of live systems", "choose a drive of that family");
    if (s->whole) {
        k->fresh = saved->state;
        saved->state = NULL;
        return WS_OK;
    }
    WS_TRY(ws_live_volume_tree(k->memory.family, k->facts.made_at, &k->fresh, error));
    WS_TRY(ws_tree_folder(k->fresh, k->memory.family->changes, &top, error));
    WS_TRY(ws_tree_graft(k->fresh, top, saved->state, error));
    const struct ws_node *root = ws_tree_root(saved->state);
    top->mode = root->mode;
    top->uid = root->uid;
    top->gid = root->gid;
    top->mtime = root->mtime;
    top->mtime_ns = root->mtime_ns;
    return WS_OK;
}
