/* inside.c — what an inode has: its extended attributes and its content, which of a small file or folder stands in it
 * (Linux kernel documentation, ext4, "Extended Attributes" and "Inline Data"). */
#include "fs/ext4/volume.h"

#include <stdlib.h>
#include <string.h>

enum { OLD_SIZE = 128, IN_INODE = 60, ENTRY = 16, BLOCK_HEADER = 32, SYSTEM = 7, VALUE_MOST = 64 * 1024 };
static const char content_name[] = "data"; /* of SYSTEM: what of a file's content does not fit in */

struct attribute {
    uint8_t index;
    const char *name;
    size_t name_length, length;
    const uint8_t *value;
    uint32_t value_ino; /* not 0: the value is another inode's content */
};
typedef enum ws_status (*attribute_visit)(void *context, const struct attribute *a, struct ws_error *error);

static enum ws_status outside(struct ws_error *error) {
    return ws_fail(error, WS_E_FORMAT, "an extended attribute points outside its place");
}

/* Places of values count from `values` on. */
static enum ws_status each_of(const uint8_t *entries, size_t room, const uint8_t *values, size_t values_room,
                              attribute_visit visit, void *context, struct ws_error *error) {
    for (size_t at = 0; at + ENTRY <= room && ws_load_le32(entries + at) != 0;) {
        const uint8_t *e = entries + at;
        const size_t offset = ws_load_le16(e + 2);
        struct attribute a = {.index = e[1],
                              .name = (const char *)e + ENTRY,
                              .name_length = e[0],
                              .length = ws_load_le32(e + 8),
                              .value_ino = ws_load_le32(e + 4)};
        if (at + ENTRY + a.name_length > room || a.length > VALUE_MOST) return outside(error);
        if (!a.value_ino) {
            if (!ws_inside(offset, a.length, values_room)) return outside(error);
            a.value = values + offset;
        }
        WS_TRY(visit(context, &a, error));
        at += ENTRY + (a.name_length + 3) / 4 * 4;
    }
    return WS_OK;
}

/* Those inside the inode, whose `body` is all of it, then those in a block of their own. */
static enum ws_status each(const struct ext4_volume *v, const uint8_t *body, attribute_visit visit, void *context,
                           struct ws_error *error) {
    const size_t size = v->facts.inode_size;
    const size_t from = size > OLD_SIZE ? OLD_SIZE + (size_t)ws_load_le16(body + OLD_SIZE) + 4 : size;
    if (from < size && ws_load_le32(body + from - 4) == (uint32_t)XATTR_MAGIC)
        WS_TRY(each_of(body + from, size - from, body + from, size - from, visit, context, error));
    const uint64_t block = ws_load_le32(body + 0x68) | (uint64_t)ws_load_le16(body + 0x76) << 32;
    if (block == 0) return WS_OK;
    if (block >= v->blocks) return ws_fail(error, WS_E_FORMAT, "extended attributes lie outside the volume");
    uint8_t *all = malloc(v->block);
    if (!all) return ws_fail(error, WS_E_NOMEM, "out of memory for extended attributes");
    enum ws_status status = ws_source_read(v->source, block * v->block, all, v->block, error);
    if (status == WS_OK && ws_load_le32(all) == (uint32_t)XATTR_MAGIC)
        status = each_of(all + BLOCK_HEADER, v->block - BLOCK_HEADER, all, v->block, visit, context, error);
    free(all);
    return status;
}

/* All of an inode: its first part, or a longer one, to be freed. */
static enum ws_status whole_inode(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, const uint8_t **body,
                                  uint8_t **owned, struct ws_error *error) {
    *body = inode;
    *owned = NULL;
    if (v->facts.inode_size <= INODE_SIZE) return WS_OK;
    *body = *owned = malloc(v->facts.inode_size);
    if (!*owned) return ws_fail(error, WS_E_NOMEM, "out of memory for an inode");
    const enum ws_status status = ext4_inode_whole(v, ino, *owned, error);
    if (status != WS_OK) free(*owned);
    return status;
}

static bool is_content(const struct attribute *a) {
    return a->index == SYSTEM && a->name_length == strlen(content_name) &&
           memcmp(a->name, content_name, a->name_length) == 0;
}

struct finding {
    uint8_t *bytes; /* in place of block numbers, then the attribute's value */
    size_t length, room;
};

static enum ws_status find_rest(void *context, const struct attribute *a, struct ws_error *error) {
    struct finding *f = context;
    if (!is_content(a) || !a->value || f->length != IN_INODE) return WS_OK;
    if (a->length > f->room - f->length) return outside(error);
    memcpy(f->bytes + f->length, a->value, a->length);
    f->length += a->length;
    return WS_OK;
}

static enum ws_status content_inside(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, uint64_t size,
                                     struct ws_source **content, struct ws_error *error) {
    struct finding f = {.length = IN_INODE, .room = IN_INODE + v->facts.inode_size};
    const uint8_t *body;
    uint8_t *owned;
    if (size > f.room) return ws_fail(error, WS_E_FORMAT, "a file inside its inode is longer than can be");
    WS_TRY(whole_inode(v, ino, inode, &body, &owned, error));
    f.bytes = calloc(1, f.room); /* what is not there is 0 */
    enum ws_status status = f.bytes ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a small file");
    if (f.bytes) memcpy(f.bytes, body + 0x28, IN_INODE);
    if (status == WS_OK) status = each(v, body, find_rest, &f, error);
    if (status == WS_OK) status = ws_source_memory(f.bytes, (size_t)size, content, error);
    free(f.bytes);
    free(owned);
    return status;
}

enum ws_status ext4_content(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, uint64_t size,
                            struct ws_source **content, struct ws_error *error) {
    struct ws_run *runs = NULL;
    size_t count = 0;
    if (ext4_is_inside(inode)) return content_inside(v, ino, inode, size, content, error);
    WS_TRY(ext4_runs(v, ino, inode, size, &runs, &count, error));
    enum ws_status status = ws_source_runs(v->source, runs, count, size, content, error);
    free(runs);
    return status;
}

struct taking {
    struct ext4_volume *v;
    struct ws_tree *tree;
    struct ws_node *node;
    bool inside; /* its content is, too */
};

/* An attribute whose value is another inode's content. */
static enum ws_status take_far(const struct taking *t, const struct attribute *a, struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    struct ws_source *content = NULL;
    WS_TRY(ext4_inode(t->v, a->value_ino, inode, error));
    WS_TRY(ext4_content(t->v, a->value_ino, inode, a->length, &content, error));
    uint8_t *value = malloc(a->length + 1);
    enum ws_status status = value ? ws_source_read(content, 0, value, a->length, error)
                                  : ws_fail(error, WS_E_NOMEM, "out of memory for an extended attribute");
    if (status == WS_OK)
        status = ext4_xattr_set(t->tree, t->node, a->index, a->name, a->name_length, value, a->length, error);
    free(value);
    ws_source_close(content);
    return status;
}

static enum ws_status take(void *context, const struct attribute *a, struct ws_error *error) {
    const struct taking *t = context;
    if (t->inside && is_content(a)) return WS_OK;
    if (a->value_ino) return take_far(t, a, error);
    return ext4_xattr_set(t->tree, t->node, a->index, a->name, a->name_length, a->value, a->length, error);
}

enum ws_status ext4_attributes(struct ext4_volume *v, uint32_t ino, const uint8_t *inode, struct ws_tree *tree,
                               struct ws_node *node, struct ws_error *error) {
    const uint8_t *body;
    uint8_t *owned;
    WS_TRY(whole_inode(v, ino, inode, &body, &owned, error));
    struct taking t = {v, tree, node, ext4_is_inside(body)};
    enum ws_status status = each(v, body, take, &t, error);
    free(owned);
    return status;
}
