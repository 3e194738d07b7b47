/* snapshot.c — a tree at a moment, and what differs between two moments. */
#include "wild_satchel/snapshot.h"

#include "proof/snapshot.h"

#include <stdlib.h>
#include <string.h>

enum { CHUNK = 256 * 1024 };

struct ws_snapshot_text {
    struct ws_snapshot_text *next;
    size_t holders; /* snapshots and further text */
    size_t length, room;
    char text[];
};
struct ws_snapshot_rows {
    size_t holders;
    struct ws_shot shot[];
};

struct ws_shot *snapshot_rows(struct ws_snapshot *snapshot, size_t count) {
    struct ws_snapshot_rows *was = snapshot->rows, *rows = NULL;
    const bool shared = was && was->holders > 1;
    if (count < SIZE_MAX / sizeof rows->shot[0] - 1)
        rows = realloc(shared ? NULL : was, sizeof *rows + count * sizeof rows->shot[0]);
    if (!rows) return NULL;
    if (shared) {
        memcpy(rows->shot, was->shot, snapshot->count * sizeof rows->shot[0]);
        was->holders--;
    }
    rows->holders = 1;
    snapshot->rows = rows;
    snapshot->shot = rows->shot;
    return rows->shot;
}

const char *snapshot_path(struct ws_snapshot *snapshot, const char *path, size_t length) {
    struct ws_snapshot_text *t = snapshot->text;
    if (!t || t->holders > 1 || t->room - t->length < length + 1) {
        const size_t room = length + 1 > CHUNK ? length + 1 : CHUNK;
        t = malloc(sizeof *t + room);
        if (!t) return NULL;
        *t = (struct ws_snapshot_text){.next = snapshot->text, .holders = 1, .room = room};
        snapshot->text = t;
    }
    char *out = t->text + t->length;
    memcpy(out, path, length);
    out[length] = '\0';
    t->length += length + 1;
    return out;
}

static int by_path(const void *a, const void *b) {
    return strcmp(((const struct ws_shot *)a)->path, ((const struct ws_shot *)b)->path);
}

enum ws_status snapshot_settle(struct ws_snapshot *snapshot) {
    if (snapshot->count) qsort(snapshot->rows->shot, snapshot->count, sizeof *snapshot->shot, by_path);
    for (size_t i = 1; i < snapshot->count; i++)
        if (strcmp(snapshot->shot[i - 1].path, snapshot->shot[i].path) == 0) return WS_E_FORMAT;
    return WS_OK;
}

/* Order of attributes is nobody's matter: sums are put together by exclusive or. */
static uint32_t attributes_of(const struct ws_node *n, bool *below) {
    static const char *const own[] = {"trusted.overlay.origin", "trusted.overlay.impure", "trusted.overlay.uuid"};
    uint32_t all = 0;
    for (const struct ws_xattr *x = n->xattrs; x; x = x->next) {
        bool counts = true;
        *below |= strcmp(x->name, own[0]) == 0;
        for (size_t i = 0; i < sizeof own / sizeof own[0]; i++) counts &= strcmp(x->name, own[i]) != 0;
        if (counts) all ^= ws_crc32c(ws_crc32c(0xffffffff, x->name, strlen(x->name) + 1), x->value, x->length);
    }
    return all;
}

static uint8_t digit(char c) { return (uint8_t)(c <= '9' ? c - '0' : c - 'a' + 10); }

static enum ws_status hash(const struct ws_node *n, struct ws_shot *s, struct ws_error *error) {
    char hex[WS_HASH_HEX];
    if (n->kind == WS_NODE_LINK) WS_TRY(ws_hash_bytes(WS_HASH_SHA256, n->target, strlen(n->target), hex, error));
    else if (n->content) WS_TRY(ws_source_hash(n->content, WS_HASH_SHA256, hex, error));
    else WS_TRY(ws_hash_bytes(WS_HASH_SHA256, "", 0, hex, error));
    for (size_t i = 0; i < 32; i++) s->sha256[i] = (uint8_t)(digit(hex[2 * i]) << 4 | digit(hex[2 * i + 1]));
    s->hashed = true;
    return WS_OK;
}

static bool looks_same(const struct ws_shot *a, const struct ws_shot *b) {
    return a->kind == b->kind && a->mode == b->mode && a->size == b->size && a->mtime == b->mtime &&
           a->mtime_ns == b->mtime_ns;
}

static enum ws_status take_one(const struct ws_node *n, enum ws_reading reading, const struct ws_snapshot *before,
                               struct ws_shot *s, struct ws_error *error) {
    const struct ws_node *inode = n->same_as ? n->same_as : n;
    const bool device = inode->kind == WS_NODE_CHAR || inode->kind == WS_NODE_BLOCK;
    *s = (struct ws_shot){.path = s->path,
                          .size = device ? (uint64_t)inode->major << 32 | inode->minor : ws_node_size(n),
                          .mtime = inode->mtime,
                          .mtime_ns = inode->mtime_ns,
                          .uid = inode->uid,
                          .gid = inode->gid,
                          .mode = inode->mode,
                          .kind = (uint8_t)inode->kind};
    s->attributes = attributes_of(inode, &s->below);
    if (inode->kind == WS_NODE_LINK) return hash(inode, s, error);
    if (inode->kind != WS_NODE_FILE || reading == WS_READ_NONE) return WS_OK;
    const struct ws_shot *was = reading == WS_READ_CHANGED ? ws_snapshot_find(before, s->path) : NULL;
    if (!was || !looks_same(was, s)) return hash(inode, s, error);
    s->hashed = was->hashed;
    memcpy(s->sha256, was->sha256, sizeof s->sha256);
    return WS_OK;
}

enum ws_status snapshot_take(const struct ws_tree *tree, enum ws_reading reading, const struct ws_snapshot *before,
                             const struct ws_snapshot *alike, struct ws_snapshot *snapshot, struct ws_error *error) {
    enum ws_status status = WS_OK;
    char path[8192];
    memset(snapshot, 0, sizeof *snapshot);
    struct ws_shot *shot = snapshot_rows(snapshot, ws_tree_count(tree));
    if (!shot) return ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    if (alike && alike->text) { /* most paths are in it */
        snapshot->text = alike->text;
        snapshot->text->holders++;
    }
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        struct ws_shot *s = &shot[snapshot->count];
        ws_node_path(n, path, sizeof path);
        const struct ws_shot *same = alike ? ws_snapshot_find(alike, path) : NULL;
        s->path = same ? same->path : snapshot_path(snapshot, path, strlen(path));
        if (!s->path) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot"));
        WS_GO(take_one(n, reading, before, s, error));
        snapshot->count++;
    }
    (void)snapshot_settle(snapshot);
    size_t kept = 0; /* paths of over 8 KiB are cut, and may be the same then */
    for (size_t i = 0; i < snapshot->count; i++)
        if (!kept || strcmp(shot[kept - 1].path, shot[i].path) != 0) shot[kept++] = shot[i];
    snapshot->count = kept;
done:
    if (status != WS_OK) ws_snapshot_free(snapshot);
    return status;
}

enum ws_status ws_snapshot_take(const struct ws_tree *tree, enum ws_reading reading, const struct ws_snapshot *before,
                                struct ws_snapshot *snapshot, struct ws_error *error) {
    return snapshot_take(tree, reading, before, before, snapshot, error);
}

void ws_snapshot_copy(const struct ws_snapshot *from, struct ws_snapshot *to) {
    *to = *from;
    if (to->rows) to->rows->holders++;
    if (to->text) to->text->holders++;
}

void ws_snapshot_free(struct ws_snapshot *snapshot) {
    struct ws_snapshot_text *t = snapshot->text;
    while (t && --t->holders == 0) {
        struct ws_snapshot_text *next = t->next;
        free(t);
        t = next;
    }
    if (snapshot->rows && --snapshot->rows->holders == 0) free(snapshot->rows);
    memset(snapshot, 0, sizeof *snapshot);
}

const struct ws_shot *ws_snapshot_find(const struct ws_snapshot *snapshot, const char *path) {
    size_t low = 0, high = snapshot->count;
    while (low < high) {
        const size_t middle = low + (high - low) / 2;
        const int order = strcmp(snapshot->shot[middle].path, path);
        if (order == 0) return &snapshot->shot[middle];
        if (order < 0) low = middle + 1;
        else high = middle;
    }
    return NULL;
}

bool ws_shot_is_whiteout(const struct ws_shot *s) { return s->kind == WS_NODE_CHAR && s->size == 0; }

bool ws_shot_same(const struct ws_shot *a, const struct ws_shot *b) {
    if (a->kind != b->kind || a->mode != b->mode || a->uid != b->uid || a->gid != b->gid ||
        a->attributes != b->attributes)
        return false;
    if (a->kind == WS_NODE_FOLDER) return true;
    if (a->size != b->size) return false;
    if (a->hashed && b->hashed) return memcmp(a->sha256, b->sha256, sizeof a->sha256) == 0;
    return a->kind != WS_NODE_FILE || (a->mtime == b->mtime && a->mtime_ns == b->mtime_ns);
}

void ws_snapshot_compare(const struct ws_snapshot *before, const struct ws_snapshot *after, ws_change_visit visit,
                         void *context) {
    size_t i = 0;
    size_t k = 0;
    while (i < before->count || k < after->count) {
        const struct ws_shot *a = i < before->count ? &before->shot[i] : NULL;
        const struct ws_shot *b = k < after->count ? &after->shot[k] : NULL;
        int order = !a ? 1 : !b ? -1 : strcmp(a->path, b->path);
        if (order < 0) visit(context, WS_CHANGE_GONE, a, NULL);
        else if (order > 0) visit(context, WS_CHANGE_ADDED, NULL, b);
        else if (!ws_shot_same(a, b)) visit(context, WS_CHANGE_CHANGED, a, b);
        i += order <= 0;
        k += order >= 0;
    }
}

const char *ws_change_name(enum ws_change change) {
    static const char *const names[] = {"added", "changed", "deleted", "moved"};
    return names[change];
}
