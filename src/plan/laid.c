/* laid.c — what a drive laid down file by file says of how it was made. */
#include "plan/laid.h"

#include "base/bytes.h"
#include "base/calendar.h"
#include "base/document.h"
#include "plan/internal.h"

#include <stdlib.h>
#include <string.h>

enum { FORMAT_VERSION = 1, MOST = 64 << 20 };
static const char format_name[] = "wild-satchel-laid";

/* Where only sizes are wanted no digest is known: one that is as long. */
static const char unknown[] = "0000000000000000000000000000000000000000000000000000000000000000";

/* Times as FAT keeps them. */
static int64_t rounded(int64_t seconds) { return ws_time_of_dos(ws_dos_time(seconds)); }

/* What it was asked for, without the places where its inputs were found. */
static json_t *pack_request(const struct ws_request *request) {
    struct ws_request *r = malloc(sizeof *r);
    if (!r) return NULL;
    *r = *request;
    memset(r->input, 0, sizeof r->input);
    json_t *packed = rows_pack(plan_request_rows, PLAN_REQUEST_ROWS, r);
    free(r);
    return packed;
}

static json_t *pack_files(const struct ws_tree *tree) {
    json_t *files = json_array();
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); files && n; n = ws_tree_next(n)) {
        char path[4096];
        json_t *file = json_pack("[s, I, I]", ws_node_path(n, path, sizeof path),
                                 n->kind == WS_NODE_FOLDER ? (json_int_t)-1 : (json_int_t)ws_node_size(n),
                                 n->kind == WS_NODE_FOLDER ? (json_int_t)0 : (json_int_t)rounded(n->mtime));
        if (file && json_array_append_new(files, file) == 0) continue;
        json_decref(files);
        files = NULL;
    }
    return files;
}

enum ws_status laid_make(const struct ws_tree *tree, const struct ws_plan *p, const struct ws_request *request,
                         struct ws_text *out, struct ws_error *error) {
    const struct ws_input *image = &p->request.input[WS_INPUT_IMAGE];
    char id[48];
    json_t *root =
        json_pack("{s:s, s:i, s:s, s:I, s:{s:s, s:s, s:I}, s:o, s:o}", "format", format_name, "version",
                  (int)FORMAT_VERSION, "id", ws_guid_text(&p->facts.id, id), "made_at", (json_int_t)p->facts.made_at,
                  "image", "title", p->facts.title, "sha256", image->sha256[0] ? image->sha256 : unknown, "size",
                  (json_int_t)image->size, "request", pack_request(request), "files", pack_files(tree));
    return doc_finish(root, out, error);
}

static enum ws_status bad(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the drive's own list of what was laid down is damaged: %s", what);
    ws_fail_where(error, "/%s", LAID_PATH);
    return ws_fail_next(error, "take that file off: all stays then that the newer image does not bring");
}

static enum ws_status read_files(json_t *files, struct laid *laid, struct ws_error *error) {
    json_t *file;
    size_t i;
    if (!json_is_array(files)) return bad(error, "it names no files");
    WS_TRY(ws_tree_create(&laid->files, error));
    json_array_foreach(files, i, file) {
        const char *path;
        json_int_t size, time;
        struct ws_node *n = NULL;
        if (json_unpack(file, "[s, I, I!]", &path, &size, &time) != 0 || size < -1) return bad(error, "a file's row");
        enum ws_status status =
            size < 0 ? ws_tree_folder(laid->files, path, &n, error) : ws_tree_put(laid->files, path, "", 0, &n, error);
        if (status == WS_E_NOMEM) return status;
        if (status != WS_OK || !n->parent) return bad(error, "a file's name");
        if (size < 0) continue;
        n->work = (uint64_t)size;
        n->mtime = time;
    }
    return WS_OK;
}

static enum ws_status read_all(json_t *root, struct laid *laid, struct ws_error *error) {
    const char *id = "", *title = "", *sha256 = "";
    json_int_t made_at = 0, size = 0;
    json_t *request = NULL, *files = NULL;
    if (json_unpack(root, "{s:s, s:i, s:s, s:I, s:{s:s, s:s, s:I!}, s:o, s:o!}", "format", &id, "version", &(int){0},
                    "id", &id, "made_at", &made_at, "image", "title", &title, "sha256", &sha256, "size", &size,
                    "request", &request, "files", &files) != 0 ||
        size < 0 || !ws_guid_parse(id, &laid->id) || strlen(sha256) != sizeof unknown - 1)
        return bad(error, "a key is missing, or not known");
    laid->made_at = made_at;
    laid->image_size = (uint64_t)size;
    if (strcmp(sha256, unknown) != 0) memcpy(laid->image_sha256, sha256, sizeof unknown);
    ws_visible(title, laid->title, sizeof laid->title);
    laid->request = calloc(1, sizeof *laid->request);
    if (!laid->request) return ws_fail(error, WS_E_NOMEM, "out of memory for a request");
    WS_TRY(rows_read(request, "request", plan_request_rows, PLAN_REQUEST_ROWS, laid->request, error));
    WS_TRY(plan_check_request(laid->request, error));
    return read_files(files, laid, error);
}

enum ws_status laid_read(const struct ws_tree *volume, struct laid *laid, struct ws_error *error) {
    struct ws_error own;
    const struct ws_node *n = ws_tree_find_any_case(volume, LAID_PATH);
    char *text = NULL;
    size_t length;
    memset(laid, 0, sizeof *laid);
    if (!error) error = &own;
    if (!n || n->kind != WS_NODE_FILE || !n->content)
        return ws_fail(error, WS_E_NOTFOUND, "the drive carries no list of what was laid down");
    WS_TRY(ws_source_load(n->content, MOST, &text, &length, error));
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_NONE, error);
    free(text);
    if (!root && error->status != WS_E_UNSUPPORTED) return bad(error, "it is another document, or none");
    if (!root) return ws_fail_where(error, "/%s", LAID_PATH);
    const enum ws_status status = read_all(root, laid, error);
    json_decref(root);
    if (status != WS_OK) laid_free(laid);
    return status;
}

void laid_free(struct laid *laid) {
    free(laid->request);
    ws_tree_close(laid->files);
    memset(laid, 0, sizeof *laid);
}

bool laid_has(const struct laid *laid, const struct ws_node *node) {
    char path[4096];
    if (!laid->files) return false;
    const struct ws_node *n = ws_tree_find_any_case(laid->files, ws_node_path(node, path, sizeof path));
    if (!n || n->kind != node->kind) return false;
    return n->kind == WS_NODE_FOLDER || (n->work == ws_node_size(node) && n->mtime == rounded(node->mtime));
}
