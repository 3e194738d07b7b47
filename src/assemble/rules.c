/* rules.c — rules for special media, carried out on a tree. */
#include "wild_satchel/rules.h"

#include <stdio.h>
#include <string.h>

bool ws_rules_any(const struct ws_rules *r) {
    return r->label[0] || r->renames || r->copies || r->left_out || r->added || r->autorun_label[0] ||
           r->autorun_icon[0];
}

static enum ws_status find(const struct ws_tree *tree, const char *key, const char *path, struct ws_node **node,
                           struct ws_error *error) {
    *node = ws_tree_find_any_case(tree, path);
    if (*node && (*node)->parent) return WS_OK;
    ws_fail(error, WS_E_FORMAT, "the rules' \"%s\" names %s, which is not on the image", key, path);
    return ws_fail_next(error, "correct the rules, or take the image they were made for");
}

static enum ws_status in_use(const struct ws_tree *tree, const char *key, const char *path, const struct ws_node *self,
                             struct ws_error *error) {
    const struct ws_node *there = ws_tree_find_any_case(tree, path);
    if (!there || there == self) return WS_OK;
    return ws_fail(error, WS_E_FORMAT, "the rules' \"%s\" would put something in the place of %s", key, path);
}

/* Folders are copied with all that is in them; contents are shared. */
static enum ws_status copy_node(struct ws_tree *tree, const struct ws_node *from, const char *to, unsigned depth,
                                struct ws_error *error) {
    struct ws_node *made = NULL;
    if (depth > 64) return ws_fail(error, WS_E_FORMAT, "the rules' \"copy\" would never end");
    if (from->kind == WS_NODE_FOLDER) {
        WS_TRY(ws_tree_folder(tree, to, &made, error));
        made->mtime = from->mtime;
        for (const struct ws_node *n = from->first; n; n = n->next) {
            char path[4096];
            (void)snprintf(path, sizeof path, "%.3800s/%.255s", to, n->name);
            WS_TRY(copy_node(tree, n, path, depth + 1, error));
        }
        return WS_OK;
    }
    WS_TRY(ws_tree_put(tree, to, "", 0, &made, error));
    const struct ws_node *inode = from->same_as ? from->same_as : from;
    made->kind = inode->kind;
    made->content = inode->content;
    made->target = inode->target;
    made->mtime = from->mtime;
    made->mode = from->mode;
    return WS_OK;
}

/* Into another folder or under another name: everything inside comes along. */
static enum ws_status rename_node(struct ws_tree *tree, struct ws_node *n, const char *to, struct ws_error *error) {
    const char *slash = strrchr(to, '/');
    char folder[WS_RULE_PATH];
    struct ws_node *parent = NULL;
    (void)snprintf(folder, sizeof folder, "%.*s", (int)(slash ? slash - to : 0), to);
    if (folder[0]) WS_TRY(ws_tree_folder(tree, folder, &parent, error));
    else parent = ws_tree_root(tree);
    if (parent == n->parent) return ws_tree_rename(tree, n, slash ? slash + 1 : to, error);
    for (const struct ws_node *p = parent; p; p = p->parent)
        if (p == n) return ws_fail(error, WS_E_FORMAT, "the rules' \"rename\" would put %s into itself", n->name);
    WS_TRY(copy_node(tree, n, to, 0, error));
    ws_tree_drop(tree, n);
    return WS_OK;
}

enum ws_status ws_rules_apply_before(const struct ws_rules *r, struct ws_tree *tree, struct ws_error *error) {
    struct ws_node *n = NULL;
    for (size_t i = 0; i < r->left_out; i++) {
        WS_TRY(find(tree, "leave_out", r->leave_out[i], &n, error));
        ws_tree_drop(tree, n);
    }
    for (size_t i = 0; i < r->renames; i++) {
        WS_TRY(find(tree, "rename", r->rename[i].from, &n, error));
        WS_TRY(in_use(tree, "rename", r->rename[i].to, n, error));
        WS_TRY(rename_node(tree, n, r->rename[i].to, error));
    }
    return WS_OK;
}

enum ws_status ws_rules_apply_after(const struct ws_rules *r, struct ws_tree *tree, int64_t made_at,
                                    struct ws_error *error) {
    struct ws_node *n = NULL;
    for (size_t i = 0; i < r->copies; i++) {
        WS_TRY(find(tree, "copy", r->copy[i].from, &n, error));
        WS_TRY(in_use(tree, "copy", r->copy[i].to, NULL, error));
        for (const struct ws_node *p = ws_tree_find_any_case(tree, r->copy[i].to); p; p = p->parent)
            if (p == n) return ws_fail(error, WS_E_FORMAT, "the rules' \"copy\" would put a folder into itself");
        WS_TRY(copy_node(tree, n, r->copy[i].to, 0, error));
    }
    for (size_t i = 0; i < r->added; i++) {
        WS_TRY(in_use(tree, "add", r->add[i].path, NULL, error));
        WS_TRY(ws_tree_put(tree, r->add[i].path, r->add[i].text, strlen(r->add[i].text), &n, error));
        n->mtime = made_at;
    }
    if (!r->autorun_label[0] && !r->autorun_icon[0]) return WS_OK;
    char text[512];
    if (r->autorun_icon[0]) WS_TRY(find(tree, "autorun.icon", r->autorun_icon, &n, error));
    WS_TRY(in_use(tree, "autorun", "autorun.inf", NULL, error));
    int length = snprintf(text, sizeof text, "[autorun]\r\n%s%s%s%s%s%s", r->autorun_label[0] ? "label=" : "",
                          r->autorun_label, r->autorun_label[0] ? "\r\n" : "", r->autorun_icon[0] ? "icon=" : "",
                          r->autorun_icon, r->autorun_icon[0] ? "\r\n" : "");
    WS_TRY(ws_tree_put(tree, "autorun.inf", text, (size_t)length, &n, error));
    n->mtime = made_at;
    return WS_OK;
}
