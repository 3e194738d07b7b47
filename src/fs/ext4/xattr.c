/* xattr.c — extended attributes: inside the inode where they fit, else all of them in one block. */
#include "fs/ext4/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct {
    const char *prefix;
    uint8_t index;
} prefixes[] = {
    {"system.posix_acl_access", 2},
    {"system.posix_acl_default", 3},
    {"user.", 1},
    {"trusted.", 4},
    {"security.", 6},
    {"system.", 7},
};
enum { PREFIXES = sizeof prefixes / sizeof prefixes[0], ENTRY = 16, ATTRIBUTES_MOST = 128 };

static bool is_acl(uint8_t index) { return index == 2 || index == 3; }

static uint8_t split_name(const char *name, const char **rest) {
    for (size_t i = 0; i < PREFIXES; i++) {
        size_t n = strlen(prefixes[i].prefix);
        bool whole = is_acl(prefixes[i].index);
        if (whole ? strcmp(name, prefixes[i].prefix) == 0 : strncmp(name, prefixes[i].prefix, n) == 0) {
            *rest = name + n;
            return prefixes[i].index;
        }
    }
    *rest = name;
    return 0;
}

/* Access lists have one form in the system call (version 2, 8 bytes an entry) and a shorter one on disk. */
static size_t acl_to_disk(const uint8_t *in, size_t length, uint8_t *out) {
    if (length < 4 || (length - 4) % 8 || ws_load_le32(in) != 2) return 0;
    uint8_t *p = out;
    ws_store_le32(p, 1);
    p += 4;
    for (size_t i = 4; i < length; i += 8) {
        uint16_t tag = ws_load_le16(in + i);
        memcpy(p, in + i, 4);
        p += 4;
        if (tag == 2 || tag == 8) {
            memcpy(p, in + i + 4, 4);
            p += 4;
        }
    }
    return (size_t)(p - out);
}

static size_t acl_from_disk(const uint8_t *in, size_t length, uint8_t *out, size_t room) {
    if (length < 4 || ws_load_le32(in) != 1) return 0;
    size_t n = 4;
    ws_store_le32(out, 2);
    for (size_t i = 4; i + 4 <= length;) {
        uint16_t tag = ws_load_le16(in + i);
        bool named = tag == 2 || tag == 8;
        if (n + 8 > room || (named && i + 8 > length)) return 0;
        memcpy(out + n, in + i, 4);
        if (named) memcpy(out + n + 4, in + i + 4, 4);
        else ws_store_le32(out + n + 4, 0xffffffff);
        n += 8;
        i += named ? 8 : 4;
    }
    return n;
}

struct attribute {
    uint8_t index;
    const char *name;
    size_t name_length;
    const uint8_t *value;
    size_t length;
};

static int by_order(const void *a, const void *b) {
    const struct attribute *x = a;
    const struct attribute *y = b;
    if (x->index != y->index) return x->index < y->index ? -1 : 1;
    if (x->name_length != y->name_length) return x->name_length < y->name_length ? -1 : 1;
    return memcmp(x->name, y->name, x->name_length);
}

/* Sorted as the format wants. Converted access lists go to `scratch`. */
static size_t collect(const struct ws_node *node, struct attribute *list, uint8_t *scratch, size_t scratch_room) {
    size_t count = 0;
    for (const struct ws_xattr *x = node->xattrs; x && count < ATTRIBUTES_MOST; x = x->next) {
        struct attribute *a = &list[count];
        a->index = split_name(x->name, &a->name);
        a->name_length = strlen(a->name);
        a->value = x->value;
        a->length = x->length;
        if (is_acl(a->index) && x->length <= scratch_room) {
            a->length = acl_to_disk(x->value, x->length, scratch);
            a->value = scratch;
            scratch += x->length;
            scratch_room -= x->length;
        }
        if (a->name_length <= 255) count++;
    }
    if (count > 1) qsort(list, count, sizeof *list, by_order); // cppcheck-suppress uninitvar
    return count;
}

static size_t rounded(size_t n) { return (n + 3) & ~(size_t)3; }

static size_t room_needed(const struct attribute *list, size_t count) {
    size_t need = 4; /* the end mark */
    for (size_t i = 0; i < count; i++) need += ENTRY + rounded(list[i].name_length) + rounded(list[i].length);
    return need;
}

static uint32_t entry_hash(const struct attribute *a, const uint8_t *padded_value) {
    uint32_t hash = 0;
    for (size_t i = 0; i < a->name_length; i++) hash = hash << 5 ^ hash >> 27 ^ (uint8_t)a->name[i];
    for (size_t i = 0; i < rounded(a->length); i += 4) hash = hash << 16 ^ hash >> 16 ^ ws_load_le32(padded_value + i);
    return hash;
}

/* Entries grow up from `entries`, values down from the end of `base`; offsets count from `base`. */
static uint32_t store_all(const struct attribute *list, size_t count, uint8_t *base, size_t room, uint8_t *entries) {
    uint8_t *value_end = base + room;
    uint32_t block_hash = 0;
    for (size_t i = 0; i < count; i++) {
        const struct attribute *a = &list[i];
        value_end -= rounded(a->length);
        memset(value_end, 0, rounded(a->length));
        if (a->length) memcpy(value_end, a->value, a->length);
        entries[0] = (uint8_t)a->name_length;
        entries[1] = a->index;
        ws_store_le16(entries + 2, a->length ? (uint16_t)(value_end - base) : 0);
        ws_store_le32(entries + 4, 0);
        ws_store_le32(entries + 8, (uint32_t)a->length);
        uint32_t hash = entry_hash(a, value_end);
        ws_store_le32(entries + 12, hash);
        memcpy(entries + ENTRY, a->name, a->name_length);
        memset(entries + ENTRY + a->name_length, 0, rounded(a->name_length) - a->name_length);
        entries += ENTRY + rounded(a->name_length);
        block_hash = block_hash << 16 ^ block_hash >> 16 ^ hash;
    }
    return block_hash;
}

enum { IN_INODE = INODE_SIZE - 128 - EXTRA_ISIZE };

bool ext4_xattrs_fit_inode(const struct ws_node *node) {
    size_t need = 4 + 4; /* magic and end mark */
    for (const struct ws_xattr *x = node->xattrs; x; x = x->next) {
        const char *rest;
        (void)split_name(x->name, &rest);
        need += ENTRY + rounded(strlen(rest)) + rounded(x->length);
    }
    return need <= IN_INODE;
}

enum ws_status ext4_xattr_inode(const struct ws_node *node, uint8_t *area, size_t room, struct ws_error *error) {
    struct attribute list[ATTRIBUTES_MOST];
    uint8_t scratch[IN_INODE];
    (void)error;
    size_t count = collect(node, list, scratch, sizeof scratch);
    ws_store_le32(area, (uint32_t)XATTR_MAGIC);
    store_all(list, count, area + 4, room - 4, area + 4);
    return WS_OK;
}

static enum ws_status too_large(const struct ws_node *node, struct ws_error *error) {
    char path[200];
    ws_fail(error, WS_E_SPACE, "the extended attributes of one file are larger than the 4 KiB ext4 has for them");
    return ws_fail_where(error, "%s", ws_node_path(node, path, sizeof path));
}

enum ws_status ext4_xattrs_check(const struct ws_node *node, struct ws_error *error) {
    struct attribute list[ATTRIBUTES_MOST];
    uint8_t scratch[BLOCK];
    size_t count = 0;
    char path[200];
    for (const struct ws_xattr *x = node->xattrs; x; x = x->next, count++) {
        const char *name = x->name;
        (void)split_name(x->name, &name);
        if (strlen(name) <= 255) continue;
        ws_fail(error, WS_E_SPACE, "the name of an extended attribute is longer than the 255 bytes ext4 has for it");
        return ws_fail_where(error, "%s", ws_node_path(node, path, sizeof path));
    }
    if (count > ATTRIBUTES_MOST) {
        ws_fail(error, WS_E_SPACE, "a file has %zu extended attributes; at most %d are kept", count,
                (int)ATTRIBUTES_MOST);
        return ws_fail_where(error, "%s", ws_node_path(node, path, sizeof path));
    }
    if (count == 0 || ext4_xattrs_fit_inode(node)) return WS_OK;
    count = collect(node, list, scratch, sizeof scratch);
    return room_needed(list, count) + 32 > BLOCK ? too_large(node, error) : WS_OK;
}

enum ws_status ext4_xattr_block(const struct ws_ext4_geometry *g, const struct ws_node *node, uint64_t physical,
                                uint8_t out[BLOCK], struct ws_error *error) {
    struct attribute list[ATTRIBUTES_MOST];
    uint8_t scratch[BLOCK];
    uint8_t place[8];
    size_t count = collect(node, list, scratch, sizeof scratch);
    if (room_needed(list, count) + 32 > BLOCK) return too_large(node, error);
    memset(out, 0, BLOCK);
    ws_store_le32(out, (uint32_t)XATTR_MAGIC);
    ws_store_le32(out + 4, 1);
    ws_store_le32(out + 8, 1);
    ws_store_le32(out + 12, store_all(list, count, out, BLOCK, out + 32));
    ws_store_le64(place, physical);
    ws_store_le32(out + 16, ws_crc32c(ws_crc32c(g->csum_seed, place, 8), out, BLOCK));
    return WS_OK;
}

enum ws_status ext4_xattr_set(struct ws_tree *tree, struct ws_node *node, uint8_t index, const char *rest,
                              size_t rest_length, const uint8_t *value, size_t length, struct ws_error *error) {
    char name[300] = "";
    uint8_t acl[4096];
    for (size_t i = 0; i < PREFIXES; i++)
        if (prefixes[i].index == index)
            (void)snprintf(name, sizeof name, "%s%.*s", prefixes[i].prefix, (int)rest_length, rest);
    if (is_acl(index)) {
        length = acl_from_disk(value, length, acl, sizeof acl);
        value = acl;
        if (!length) return WS_OK;
    }
    return name[0] ? ws_tree_set_xattr(tree, node, name, value, length, error) : WS_OK;
}
