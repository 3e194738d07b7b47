/* report.c — how full it is, what takes the room, and when it will be full. */
#include "base/bytes.h"
#include "keep/internal.h"
#include "twin/internal.h"

#include <stdlib.h>
#include <string.h>

enum { DEEP = 2, STARTS_LEAST = 3 };

/* Keep it among the largest. */
static void enter(struct ws_kept_thing *list, size_t *count, const struct ws_kept_thing *thing) {
    size_t i = *count;
    if (!thing->bytes || (i == WS_KEPT_THINGS && list[i - 1].bytes >= thing->bytes)) return;
    if (i == WS_KEPT_THINGS) i--;
    else ++*count;
    for (; i && list[i - 1].bytes < thing->bytes; i--) list[i] = list[i - 1];
    list[i] = *thing;
}

static unsigned depth_of(const struct ws_node *n, const struct ws_node *top) {
    unsigned depth = 0;
    for (; n != top; n = n->parent) depth++;
    return depth;
}

/* Bytes and files below a folder; second names count once, wherever they stand. */
static void count_folder(const struct ws_node *folder, struct ws_kept_thing *thing) {
    for (const struct ws_node *n = folder; n; n = ws_tree_next_below(n, folder)) {
        if (n->kind != WS_NODE_FILE || n->same_as) continue;
        thing->files++;
        thing->bytes += ws_node_stored(n);
    }
}

/* When its last session began, by its own evidence; INT64_MAX: nothing tells. */
static int64_t last_session(const struct ws_kept *k) {
    return k->facts.mounts > 1 && k->facts.mounted_at > 0 ? k->facts.mounted_at : INT64_MAX;
}

/* Was there, and was written to again. */
static void look_again(const struct ws_node *n, const struct ws_kept_thing *thing, int64_t session,
                       struct ws_kept_report *r) {
    if (n->mtime < session || !n->born || n->born >= session) return;
    r->again_files++;
    r->again_bytes += thing->bytes;
    enter(r->again, &r->again_count, thing);
}

static void look_at(const struct ws_node *n, const struct ws_node *top, int64_t session, struct ws_kept_report *r) {
    struct ws_kept_thing thing = {.files = 1};
    if (ws_node_is_whiteout(n)) {
        r->taken_away++;
        return;
    }
    if (n->kind == WS_NODE_FOLDER) {
        r->folders += n != top;
        const unsigned depth = depth_of(n, top);
        if (depth != DEEP && (depth != 1 || n->first)) return;
        bool deeper = false; /* then those below it are told */
        for (const struct ws_node *c = n->first; c && depth == 1; c = c->next) deeper |= c->kind == WS_NODE_FOLDER;
        if (deeper) return;
        thing.files = 0;
        count_folder(n, &thing);
        keep_path(n, top, thing.path, sizeof thing.path);
        enter(r->folder, &r->folder_count, &thing);
    } else if (n->kind == WS_NODE_FILE && !n->same_as) {
        r->files++;
        thing.bytes = ws_node_stored(n);
        r->bytes += thing.bytes;
        const bool large = r->file_count < WS_KEPT_THINGS || r->file[WS_KEPT_THINGS - 1].bytes < thing.bytes;
        if (large || n->mtime >= session) keep_path(n, top, thing.path, sizeof thing.path);
        if (large) enter(r->file, &r->file_count, &thing);
        look_again(n, &thing, session, r);
    } else if (n->kind == WS_NODE_LINK) {
        r->links++;
    }
}

/* What was made since a full system was laid down; 0 where most of it was not laid down at once. */
static uint64_t grown(const struct ws_kept *k) {
    uint64_t laid = 0, since = 0;
    for (const struct ws_node *n = ws_tree_root(k->tree); n; n = ws_tree_next(n)) {
        if (n->kind != WS_NODE_FILE || n->same_as) continue;
        *(n->born > k->facts.made_at ? &since : &laid) += ws_node_stored(n);
    }
    return laid > since ? since : 0;
}

void ws_kept_look(const struct ws_kept *k, struct ws_kept_report *r) {
    const struct ws_node *top = ws_kept_top(k);
    const int64_t session = last_session(k);
    memset(r, 0, sizeof *r);
    r->size = k->facts.size;
    r->free_bytes = k->facts.free_bytes;
    r->starts = k->facts.mounts;
    r->since = k->facts.made_at;
    r->last = (int64_t)ws_max_u64((uint64_t)k->facts.written_at, (uint64_t)k->facts.mounted_at);
    r->flash_written = k->facts.written_bytes;
    for (const struct ws_node *n = top; n; n = ws_tree_next_below(n, top)) look_at(n, top, session, r);
    r->noted_count = ws_journal_read(k->tree, keep_top_path(k), r->noted, WS_JOURNAL_STARTS);
    r->journal = ws_journal_is_laid(k->tree, keep_top_path(k));
    leave_count(k->tree, keep_top_path(k), r->cleanable);
    if (r->starts >= STARTS_LEAST) r->a_start = (k->memory.system ? grown(k) : r->bytes) / r->starts;
    if (r->a_start) r->starts_left = r->free_bytes / r->a_start;
}
