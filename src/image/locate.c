/* locate.c — which partition, and which file, a byte of a drive belongs to. */
#include "base/bytes.h"
#include "wild_satchel/contents.h"
#include "wild_satchel/format.h"
#include "wild_satchel/iso9660.h"

#include <stdio.h>
#include <string.h>

/* Where a file's bytes stand on its volume, piece by piece: is this one among them? */
static bool holds(const struct ws_node *n, const struct ws_source *volume, uint64_t at) {
    if (n->kind != WS_NODE_FILE || !n->content || n->same_as) return false;
    for (uint64_t from = 0; from < n->content->size;) {
        struct ws_piece piece = ws_source_piece(n->content, from, n->content->size - from);
        const uint64_t length = piece.length;
        while (piece.kind == WS_PIECE_BASE && piece.base != volume)
            piece = ws_source_piece(piece.base, piece.at, piece.length);
        if (piece.kind == WS_PIECE_BASE && at >= piece.at && at - piece.at < piece.length) return true;
        from += ws_min_u64(length, piece.length);
    }
    return false;
}

static void find_file(const struct ws_tree *tree, const struct ws_source *volume, uint64_t at,
                      struct ws_located *located) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (!holds(n, volume, at)) continue;
        (void)ws_node_path(n, located->path, sizeof located->path);
        return;
    }
}

static void look_in(const struct ws_source *volume, uint64_t at, struct ws_located *located) {
    struct ws_iso *iso = NULL;
    struct ws_tree *tree = NULL;
    if (ws_iso_open(volume, &iso, NULL) == WS_OK) {
        find_file(ws_iso_tree(iso), volume, at, located);
        ws_iso_close(iso);
        return;
    }
    const struct ws_format *format = ws_format_of(volume, NULL);
    if (!format || !format->read || format->read(volume, &tree, NULL, NULL) != WS_OK) return;
    find_file(tree, volume, at, located);
    ws_tree_close(tree);
}

void ws_contents_locate(const struct ws_source *drive, const struct ws_contents *contents, uint64_t at,
                        struct ws_located *located) {
    const struct ws_content *inmost = NULL;
    struct ws_source *volume = NULL;
    memset(located, 0, sizeof *located);
    for (size_t i = 0; i < contents->parts; i++) {
        const struct ws_content *c = &contents->part[i];
        if (at < c->at || at - c->at >= c->length) continue;
        if (!inmost || c->length < inmost->length) inmost = c;
    }
    if (!inmost) return;
    located->number = inmost->number;
    (void)snprintf(located->system, sizeof located->system, "%s", inmost->system);
    (void)snprintf(located->label, sizeof located->label, "%s", inmost->label);
    if (ws_source_slice(drive, inmost->at, inmost->length, &volume, NULL) != WS_OK) return;
    look_in(volume, at - inmost->at, located);
    ws_source_close(volume);
}
