/* inputs.c — are a build's inputs still those that were planned? */
#include "assemble/batch.h"

#include <stdio.h>
#include <string.h>

struct ws_input *build_input(struct ws_plan *p, size_t number) {
    return number < WS_INPUTS ? &p->request.input[number] : &p->request.addition[number - WS_INPUTS].file;
}

const char *build_input_word(size_t number) {
    return number == WS_INPUT_IMAGE ? "image" : number == WS_INPUT_OVERLAY ? "data file" : "added file";
}

struct ws_own_file build_own_file(const struct ws_addition *a, const struct ws_source *source) {
    const char *slash = strrchr(a->file.path, '/');
    return (struct ws_own_file){a->what, a->to, slash ? slash + 1 : a->file.path, source, a->runs, a->file.of_files};
}

const struct ws_source *build_input_source(const struct ws_build *b, size_t number) {
    const struct ws_source *source = number == WS_INPUT_IMAGE     ? b->image.source
                                     : number == WS_INPUT_OVERLAY ? b->overlay
                                                                  : b->added[number - WS_INPUTS];
    return source && b->batch ? batch_input(b->batch, number) : source;
}

/* The file of the image that byte `at` lies in. */
static bool file_at(const struct ws_build *b, const struct ws_source *image, uint64_t at, uint64_t length, char *path,
                    size_t room) {
    if (!b->image.iso || image != build_input_source(b, WS_INPUT_IMAGE)) return false;
    struct ws_tree *tree = ws_iso_tree(b->image.iso);
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (n->kind != WS_NODE_FILE || !n->content || !n->content->size) continue;
        struct ws_piece piece = ws_source_piece(n->content, 0, n->content->size);
        if (piece.kind != WS_PIECE_BASE || piece.base != b->image.source || piece.at >= at + length ||
            piece.at + piece.length <= at)
            continue;
        ws_node_path(n, path, room);
        return true;
    }
    return false;
}

/* "3 of its 20 stretches of 4 MiB have changed, the first from 12 MiB on, where this file lies: /live/filesystem.ext4"
 */
static void say_where(const struct ws_build *b, const struct ws_source *source, const struct ws_changed *c, char *out,
                      size_t room) {
    char at[32], stretch[32], path[200] = "";
    bool in_file = file_at(b, source, c->at, c->stretch, path, sizeof path);
    (void)snprintf(out, room, "%zu of its %zu stretches of %s %s, the first %s %s%s%s", c->changed, c->stretches,
                   ws_size_counted(c->stretch, stretch, sizeof stretch),
                   c->changed == 1 ? "has changed" : "have changed", c->at ? "from" : "at its",
                   c->at ? ws_size_counted(c->at, at, sizeof at) : "beginning",
                   in_file ? " on, where this file lies: "
                   : c->at ? " on"
                           : "",
                   path);
}

static enum ws_status check_one(const struct ws_build *b, struct ws_port *port, size_t number,
                                const struct ws_source *source, struct ws_pieces *pieces, struct ws_error *error) {
    const struct ws_input *input = build_input(b->plan, number);
    bool in_pieces = input->pieces_sha256[0] != '\0'; /* on several processors */
    const char *planned = in_pieces ? input->pieces_sha256 : input->sha256;
    const char *what = build_input_word(number);
    char hex[WS_HASH_HEX], outline[WS_OUTLINE_ROOM], where[400];
    struct ws_changed changed = {0};
    if (!in_pieces) {
        WS_TRY(ws_source_hash(source, WS_HASH_SHA256, hex, error));
    } else {
        WS_TRY(ws_pieces_of_source(port, source, WS_ROLE_SYSTEM, pieces, error));
        WS_TRY(ws_pieces_root(pieces, hex, error));
    }
    if (strcmp(planned, hex) == 0) return WS_OK;
    if (in_pieces && input->outline[0]) {
        WS_TRY(ws_pieces_outline(pieces, outline, error));
        ws_outline_compare(input->outline, outline, pieces->count, &changed);
    }
    if (changed.changed) say_where(b, source, &changed, where, sizeof where);
    else
        (void)snprintf(where, sizeof where, "its SHA-256%s is now %.16s..., planned was %.16s...",
                       in_pieces ? " in pieces" : "", hex, planned);
    ws_fail(error, WS_E_FORMAT, "the %s is no longer the one that was planned: %s", what, where);
    return ws_fail_where(error, "%s", input->path);
}

/* A drive that is copied byte for byte. */
static enum ws_status check_drive(const struct ws_build *b, struct ws_error *error) {
    const struct ws_input *input = build_input(b->plan, WS_INPUT_IMAGE);
    char hex[WS_HASH_HEX];
    WS_TRY(ws_source_state(build_input_source(b, WS_INPUT_IMAGE), hex, error));
    if (strcmp(hex, input->sha256) == 0) return WS_OK;
    ws_fail(error, WS_E_FORMAT, "the original was used while it was read, or since it was planned");
    return ws_fail_where(error, "%s", input->path);
}

enum ws_status build_check_inputs(const struct ws_build *b, struct ws_port *port, struct ws_pieces *pieces,
                                  struct ws_error *error) {
    if (b->twin) WS_TRY(build_check_original(b, error));
    else if (b->image.source && ws_request_by_state(&b->plan->request)) WS_TRY(check_drive(b, error));
    else if (b->image.source)
        WS_TRY(check_one(b, port, WS_INPUT_IMAGE, build_input_source(b, WS_INPUT_IMAGE), pieces, error));
    for (size_t i = WS_INPUT_OVERLAY; i < ws_request_inputs(&b->plan->request); i++) {
        struct ws_pieces others = {0};
        const struct ws_source *source = build_input_source(b, i);
        enum ws_status status = source ? check_one(b, port, i, source, &others, error) : WS_OK;
        ws_pieces_free(&others);
        WS_TRY(status);
    }
    return WS_OK;
}

enum ws_status ws_build_check_inputs(const struct ws_build *b, struct ws_port *port, struct ws_error *error) {
    struct ws_pieces pieces = {0};
    enum ws_status status = build_check_inputs(b, port, &pieces, error);
    ws_pieces_free(&pieces);
    return status;
}
