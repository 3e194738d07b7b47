/* read.c — a volume into a tree; of a damaged one what can be read. */
#include "fs/ext4/rescue.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Inodes seen: folders once each (a loop is damage), files with several names to tie the names together. */
struct seen {
    struct {
        uint32_t ino;
        struct ws_node *node;
    } * slot;
    size_t count, room;
};

static struct ws_node **seen_find(struct seen *s, uint32_t ino, bool add) {
    if (add && s->count * 2 >= s->room) {
        struct seen grown = {NULL, s->count, s->room ? s->room * 2 : 256};
        grown.slot = calloc(grown.room, sizeof *grown.slot);
        if (!grown.slot) return NULL;
        for (size_t i = 0; i < s->room; i++) {
            if (!s->slot[i].ino) continue;
            size_t k = s->slot[i].ino * 2654435761u % grown.room;
            while (grown.slot[k].ino) k = (k + 1) % grown.room;
            grown.slot[k] = s->slot[i];
        }
        free(s->slot);
        *s = grown;
    }
    if (!s->room) return NULL;
    size_t k = ino * 2654435761u % s->room;
    while (s->slot[k].ino && s->slot[k].ino != ino) k = (k + 1) % s->room;
    if (s->slot[k].ino) return &s->slot[k].node;
    if (!add) return NULL;
    s->slot[k].ino = ino;
    s->count++;
    return &s->slot[k].node;
}

struct reading {
    struct ext4_volume v;
    struct ws_tree *tree;
    struct seen seen;
    ws_lost_call lost; /* NULL: damage ends it */
    void *context;
    uint8_t *named; /* of a damaged one: bit N of all, inode N has a name */
};

/* Damage is told and passed over, where that is wanted. */
static enum ws_status pass_over(struct reading *r, const struct ws_node *folder, const char *name,
                                enum ws_status status, const char *what) {
    char path[4096], seen[4096];
    if (status == WS_OK || !r->lost || status == WS_E_NOMEM) return status;
    ws_node_path(folder, path, sizeof path);
    const size_t n = strlen(path);
    if (name) (void)snprintf(path + n, sizeof path - n, "%s%s", n > 1 ? "/" : "", name);
    ws_visible(path, seen, sizeof seen);
    r->lost(r->context, seen, what);
    return WS_OK;
}

static enum ws_status file_damaged(struct ws_error *error, uint32_t ino, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the ext4 volume is damaged: %s", what);
    ws_fail_where(error, "inode %u", ino);
    return ws_fail_next(error, "let a file system checker look at it");
}

static void load_time(const uint8_t *inode, struct ws_node *node) {
    uint32_t extra = ws_load_le16(inode + 0x80) >= 0x0c ? ws_load_le32(inode + 0x88) : 0;
    node->mtime = (int64_t)(int32_t)ws_load_le32(inode + 0x10) + ((int64_t)(extra & 3) << 32);
    node->mtime_ns = extra >> 2;
    if (ws_load_le16(inode + 0x80) >= 0x18)
        node->born = (int64_t)(int32_t)ws_load_le32(inode + 0x90) + ((int64_t)(ws_load_le32(inode + 0x94) & 3) << 32);
}

static enum ws_status load_node(struct reading *r, uint32_t ino, const uint8_t *inode, struct ws_node *node,
                                struct ws_error *error) {
    struct ws_source *content = NULL;
    uint64_t size = ws_load_le32(inode + 4) | (uint64_t)ws_load_le32(inode + 0x6c) << 32;
    node->mode = ws_load_le16(inode) & 07777;
    node->uid = ws_load_le16(inode + 0x02) | (uint32_t)ws_load_le16(inode + 0x78) << 16;
    node->gid = ws_load_le16(inode + 0x18) | (uint32_t)ws_load_le16(inode + 0x7a) << 16;
    node->origin = ino;
    if (node->kind == WS_NODE_FILE || node->kind == WS_NODE_FOLDER)
        node->marks = ext4_marks_of(ws_load_le32(inode + 0x20));
    load_time(inode, node);
    if (ws_load_le32(inode + 0x20) & FLAG_ENCRYPTED) {
        ws_fail(error, WS_E_UNSUPPORTED, "a file or folder is encrypted, which is not read here");
        ws_fail_where(error, "inode %u", ino);
        return ws_fail_next(error, "let the system that made it copy what is needed");
    }
    WS_TRY(ext4_attributes(&r->v, ino, inode, r->tree, node, error));
    if (node->kind == WS_NODE_CHAR || node->kind == WS_NODE_BLOCK) {
        uint32_t old = ws_load_le32(inode + 0x28);
        uint32_t wide = ws_load_le32(inode + 0x2c);
        node->major = old ? old >> 8 & 0xff : (wide & 0xfff00) >> 8;
        node->minor = old ? old & 0xff : (wide & 0xff) | (wide >> 12 & 0xfff00);
    } else if (node->kind == WS_NODE_FILE && size > 0) {
        if (size > (16ull << 40)) return file_damaged(error, ino, "a file's length is impossible");
        WS_TRY(ext4_content(&r->v, ino, inode, size, &content, error));
        WS_TRY(ws_tree_own(r->tree, content, error));
        node->content = content;
    } else if (node->kind == WS_NODE_LINK) {
        char target[4097];
        if (size == 0 || size > 4096) return file_damaged(error, ino, "a link's length is impossible");
        bool fast = size < FAST_LINK && !(ws_load_le32(inode + 0x20) & FLAG_EXTENTS);
        if (fast) {
            memcpy(target, inode + 0x28, (size_t)size);
        } else {
            WS_TRY(ext4_content(&r->v, ino, inode, size, &content, error));
            enum ws_status status = ws_source_read(content, 0, target, (size_t)size, error);
            ws_source_close(content);
            WS_TRY(status);
        }
        target[size] = '\0';
        WS_TRY(ws_tree_set_target(r->tree, node, target, error));
    }
    return WS_OK;
}

static bool kind_of_mode(uint16_t mode, enum ws_node_kind *kind) {
    switch (mode & 0xf000) {
    case 0x4000: *kind = WS_NODE_FOLDER; return true;
    case 0x8000: *kind = WS_NODE_FILE; return true;
    case 0xa000: *kind = WS_NODE_LINK; return true;
    case 0x2000: *kind = WS_NODE_CHAR; return true;
    case 0x6000: *kind = WS_NODE_BLOCK; return true;
    case 0x1000: *kind = WS_NODE_FIFO; return true;
    case 0xc000: *kind = WS_NODE_SOCKET; return true;
    default: return false;
    }
}

static enum ws_status enter(struct reading *r, struct ws_node *folder, uint32_t ino, const char *name,
                            struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    enum ws_node_kind kind;
    struct ws_node *node = NULL;
    WS_TRY(ext4_inode(&r->v, ino, inode, error));
    if (!kind_of_mode(ws_load_le16(inode), &kind)) return file_damaged(error, ino, "a name leads to an unused inode");
    struct ws_node **known = seen_find(&r->seen, ino, false);
    if (known && kind == WS_NODE_FOLDER) return file_damaged(error, ino, "a folder stands in two places");
    if (r->lost && !known && !ext4_rescue_is_whole(&r->v, ino, inode))
        WS_TRY(
            pass_over(r, folder, name, WS_E_FORMAT,
                      "its inode is not what was written (its checksum is another): what is saved of it may be wrong"));
    enum ws_status status = ws_tree_add(r->tree, folder, name, kind, &node, error);
    if (status == WS_E_RANGE) return file_damaged(error, ino, "a file name is impossible");
    WS_TRY(status);
    if (known) {
        node->same_as = *known;
        return WS_OK;
    }
    status = load_node(r, ino, inode, node, error);
    if (status != WS_OK && r->lost) { /* a folder's names can be had all the same, but not a file without its content */
        if (kind != WS_NODE_FOLDER) ws_tree_drop(r->tree, node);
        else node->origin = ino;
        WS_TRY(pass_over(r, folder, name, status, error->what));
        if (kind != WS_NODE_FOLDER) return WS_OK;
        status = WS_OK;
    }
    if (kind == WS_NODE_FOLDER || ws_load_le16(inode + 0x1a) > 1) {
        struct ws_node **slot = seen_find(&r->seen, ino, true);
        if (!slot) return ws_fail(error, WS_E_NOMEM, "out of memory for a list of inodes");
        *slot = node;
    }
    return status;
}

static enum ws_status add_name(struct reading *r, struct ws_node *folder, uint32_t ino, const char *name,
                               struct ws_error *error) {
    struct ws_error why = {0};
    if (!r->lost) return enter(r, folder, ino, name, error);
    if (ino && ino <= r->v.facts.inodes) r->named[ino / 8] |= (uint8_t)(1u << ino % 8);
    return pass_over(r, folder, name, enter(r, folder, ino, name, &why), why.what);
}

/* What stands in a block of a folder. */
static enum ws_status read_names(struct reading *r, struct ws_node *folder, uint32_t ino, const uint8_t *block,
                                 size_t bytes, struct ws_error *error) {
    for (size_t p = 0; p + 8 <= bytes;) {
        uint32_t entry_ino = ws_load_le32(block + p);
        size_t length = ws_load_le16(block + p + 4);
        size_t name_length = block[p + 6];
        char name[256];
        if (length == 0xffff && bytes == 65536) length = 65536;
        if (length < 8 || length % 4 || p + length > bytes || name_length + 8 > length)
            return file_damaged(error, ino, "a folder's entry has an impossible length");
        bool dots = name_length <= 2 && block[p + 8] == '.' && (name_length == 1 || block[p + 9] == '.');
        if (entry_ino && name_length && !dots) {
            memcpy(name, block + p + 8, name_length);
            name[name_length] = '\0';
            if (strlen(name) != name_length) return file_damaged(error, ino, "a file name is impossible");
            WS_TRY(add_name(r, folder, entry_ino, name, error));
        }
        p += length;
    }
    return WS_OK;
}

enum { IN_FRONT = 4 }; /* bytes before the names of a folder inside its inode: the number of the one above */

static enum ws_status read_folder(struct reading *r, struct ws_node *folder, struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    uint32_t ino = (uint32_t)folder->origin;
    struct ws_source *content = NULL;
    WS_TRY(ext4_inode(&r->v, ino, inode, error));
    const uint64_t size = ws_load_le32(inode + 4) | (uint64_t)ws_load_le32(inode + 0x6c) << 32;
    const bool inside = ext4_is_inside(inode);
    const size_t first = inside ? IN_FRONT : 0;
    if ((!inside && size % r->v.block) || size <= first || size > (4ull << 30))
        return file_damaged(error, ino, "a folder's length is impossible");
    const size_t step = inside ? (size_t)size : r->v.block;
    WS_TRY(ext4_content(&r->v, ino, inode, size, &content, error));
    uint8_t *block = malloc(step);
    enum ws_status status = block ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a folder");
    for (uint64_t at = 0; status == WS_OK && at < size; at += step) {
        WS_GO(ws_source_read(content, at, block, step, error));
        struct ws_error why = {0};
        status = read_names(r, folder, ino, block + first, step - first, &why);
        if (status != WS_OK && !r->lost && error) *error = why;
        status = pass_over(r, folder, NULL, status, "names in it cannot be read");
    }
done:
    free(block);
    ws_source_close(content);
    return status;
}

/* The superblock's counts are those of the last shutdown; a mount counts anew, by the descriptors. */
static void count_free(const struct ext4_volume *v, struct ws_ext4_facts *facts) {
    facts->free_bytes = facts->free_inodes = 0;
    for (uint32_t i = 0; i < v->groups; i++) {
        const uint8_t *d = v->descriptors + (size_t)i * v->desc_size;
        const bool wide = v->desc_size >= 64;
        facts->free_bytes +=
            (ws_load_le16(d + 0x0c) | (wide ? (uint64_t)ws_load_le16(d + 0x2c) << 16 : 0)) * v->cluster * v->block;
        facts->free_inodes += ws_load_le16(d + 0x0e) | (wide ? (uint64_t)ws_load_le16(d + 0x2e) << 16 : 0);
    }
    if (facts->free_bytes > facts->size) facts->free_bytes = 0; /* no such volume can be */
}

static enum ws_status read_all(struct reading *r, struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    WS_TRY(ext4_inode(&r->v, INO_ROOT, inode, error));
    struct ws_node *root = ws_tree_root(r->tree);
    if ((ws_load_le16(inode) & 0xf000) != 0x4000) {
        if (!r->lost) return file_damaged(error, INO_ROOT, "the root is not a folder");
        return pass_over(r, root, NULL, WS_E_FORMAT, "the root is not a folder: its names are lost");
    }
    struct ws_node **slot = seen_find(&r->seen, INO_ROOT, true);
    if (!slot) return ws_fail(error, WS_E_NOMEM, "out of memory for a list of inodes");
    *slot = root;
    WS_TRY(load_node(r, INO_ROOT, inode, root, error));
    for (struct ws_node *n = root; n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_TRY(read_folder(r, n, error));
    return WS_OK;
}

enum ws_status ws_ext4_read(const struct ws_source *volume, struct ws_tree **tree, struct ws_ext4_facts *facts,
                            struct ws_error *error) {
    struct reading r = {0};
    struct ws_source *recovered = NULL;
    enum ws_status status;
    WS_TRY(ws_ext4_recovered(volume, &recovered, NULL, error));
    status = ws_tree_create(&r.tree, error);
    if (status != WS_OK) {
        ws_source_close(recovered);
        return status;
    }
    WS_GO(ws_tree_own(r.tree, recovered, error));
    WS_GO(ext4_open(recovered, &r.v, error));
    WS_GO(read_all(&r, error));
    if (facts) WS_GO(ws_ext4_probe(volume, facts, error)); /* as the drive says, before recovery */
    if (facts && facts->needs_recovery) count_free(&r.v, facts);
done:
    ext4_close(&r.v);
    free(r.seen.slot);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}

static bool has_name(const struct reading *r, uint32_t ino) { return r->named[ino / 8] >> ino % 8 & 1; }

/* Is the folder above this one another that has no name, so that it comes with that one? */
static bool comes_with_another(struct reading *r, uint32_t ino, const uint8_t *inode) {
    uint8_t above[INODE_SIZE], first[24];
    struct ws_source *content = NULL;
    struct ws_error ignored;
    uint32_t parent = 0;
    const bool inside = ext4_is_inside(inode);
    if (ext4_content(&r->v, ino, inode, inside ? sizeof first : r->v.block, &content, &ignored) != WS_OK) return false;
    if (ws_source_read(content, 0, first, sizeof first, &ignored) == WS_OK && (inside || first[12 + 8] == '.'))
        parent = ws_load_le32(inside ? first : first + 12);
    ws_source_close(content);
    return parent > 10 && parent != ino && parent <= r->v.facts.inodes && !has_name(r, parent) &&
           ext4_rescue_is_used(&r->v, parent, above) && (ws_load_le16(above) & 0xf000) == 0x4000;
}

/* Folders first: what they name is found with them. */
static enum ws_status find_nameless(struct reading *r, bool folders, struct ws_error *error) {
    struct ws_node *place = NULL;
    uint8_t inode[INODE_SIZE];
    char name[24];
    for (uint32_t ino = 11; ino <= r->v.facts.inodes; ino++) {
        if (has_name(r, ino) || !ext4_rescue_is_used(&r->v, ino, inode)) continue;
        const bool folder = (ws_load_le16(inode) & 0xf000) == 0x4000;
        if (folder != folders || (folder && comes_with_another(r, ino, inode))) continue;
        if (!place) WS_TRY(ws_tree_folder(r->tree, "lost+found", &place, error));
        (void)snprintf(name, sizeof name, "#%u", ino);
        struct ws_node *before = place->last;
        WS_TRY(add_name(r, place, ino, name, error));
        struct ws_node *made = place->last;
        if (made == before) continue; /* nothing of it can be read */
        r->lost(r->context, name, "found without its name: it stands in lost+found");
        for (const struct ws_node *n = made; folder && n; n = ws_tree_next_below(n, made))
            if (n->kind == WS_NODE_FOLDER) WS_TRY(read_folder(r, (struct ws_node *)(uintptr_t)n, error));
    }
    return WS_OK;
}

/* The superblock and descriptors that are right; and the journal applied, where that can be. */
static enum ws_status open_damaged(struct reading *r, const struct ws_source *volume, struct ws_error *error) {
    struct ws_source *patched = NULL, *recovered = NULL;
    bool from_copy;
    const char *left = NULL;
    char what[80];
    struct ws_error why = {0};
    WS_TRY(ws_source_patched(volume, volume->size, &patched, error));
    WS_TRY(ws_tree_own(r->tree, patched, error));
    WS_TRY(ext4_rescue_super(patched, &from_copy, error));
    if (from_copy) r->lost(r->context, "/", "its superblock is damaged: a copy of it was used");
    if (ext4_recover(patched, &recovered, NULL, &left, &why) == WS_OK) WS_TRY(ws_tree_own(r->tree, recovered, error));
    else r->lost(r->context, "/", "what stands in its journal alone cannot be applied");
    (void)snprintf(what, sizeof what, "changes of its last session that stand %s alone", left ? left : "");
    if (left) r->lost(r->context, "/", what);
    WS_TRY(ext4_open(recovered ? recovered : patched, &r->v, error));
    const size_t bad = ext4_rescue_descriptors(&r->v);
    (void)snprintf(what, sizeof what, "%zu of its groups cannot be read: files in them are lost", bad);
    if (bad) r->lost(r->context, "/", what);
    r->named = calloc((size_t)r->v.facts.inodes / 8 + 1, 1);
    return r->named ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a list of inodes");
}

enum ws_status ws_ext4_rescue(const struct ws_source *volume, ws_lost_call lost, void *context, struct ws_tree **tree,
                              struct ws_ext4_facts *facts, struct ws_error *error) {
    struct reading r = {.lost = lost, .context = context};
    enum ws_status status;
    struct ws_error own;
    if (!error) error = &own;
    WS_TRY(ws_tree_create(&r.tree, error));
    WS_GO(open_damaged(&r, volume, error));
    r.named[INO_ROOT / 8] |= 1u << INO_ROOT % 8;
    WS_GO(pass_over(&r, ws_tree_root(r.tree), NULL, read_all(&r, error), "the root cannot be read"));
    WS_GO(find_nameless(&r, true, error));
    WS_GO(find_nameless(&r, false, error));
    if (facts) *facts = r.v.facts;
done:
    ext4_close(&r.v);
    free(r.seen.slot);
    free(r.named);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}
