/* index.c — a folder's names, found by hashing: by their letters, and by their letters whatever the case.
 *
 * Names that count as the same (a damaged volume lists one twice, a disc holds "Readme" and "README") share one place
 * in the table and form a ring, in the order they came. So neither adding nor taking one away looks through the others,
 * however many of them somebody has put into one folder to keep us busy.
 */
#include "tree/internal.h"

#include <stdint.h>
#include <string.h>

enum { EXACT, FOLDED, INDEXES, ROOM_FIRST = 64 };

struct ws_name_index {
    uint64_t seed;
    struct {
        struct ws_node **slot; /* open addressing; NULL: free, `gone`: was used */
        size_t room, used;     /* places, those that were used among them */
    } by[INDEXES];
};

static struct ws_node gone_node;
#define gone (&gone_node)

static unsigned char fold(char c, int which) {
    return (unsigned char)(which == FOLDED && c >= 'A' && c <= 'Z' ? c - 'A' + 'a' : c);
}

/* FNV-1a, begun where nobody outside knows, and mixed at its end. */
static size_t hash_of(const struct ws_name_index *index, const char *name, size_t length, int which) {
    uint64_t h = index->seed;
    for (size_t i = 0; i < length; i++) h = (h ^ fold(name[i], which)) * 0x100000001b3ull;
    h ^= h >> 32;
    return (size_t)(h * 0x9e3779b97f4a7c15ull >> 24);
}

static bool same(const struct ws_node *node, const char *name, size_t length, int which) {
    for (size_t i = 0; i < length; i++)
        if (!node->name[i] || fold(node->name[i], which) != fold(name[i], which)) return false;
    return !node->name[length];
}

/* The place of the ring with this name, or the free one where it would go. */
static struct ws_node **place_of(const struct ws_name_index *index, const char *name, size_t length, int which) {
    size_t room = index->by[which].room;
    struct ws_node **slot = index->by[which].slot;
    for (size_t i = hash_of(index, name, length, which) & (room - 1);; i = (i + 1) & (room - 1))
        if (!slot[i] || (slot[i] != gone && same(slot[i], name, length, which))) return &slot[i];
}

static void enter(struct ws_name_index *index, struct ws_node *node, int which) {
    struct ws_node **place = place_of(index, node->name, strlen(node->name), which);
    struct ws_node *first = *place;
    if (!first) {
        *place = node->alike[which].next = node->alike[which].before = node;
        index->by[which].used++;
        return;
    }
    node->alike[which].next = first; /* last of the ring */
    node->alike[which].before = first->alike[which].before;
    first->alike[which].before->alike[which].next = node;
    first->alike[which].before = node;
}

/* All of a folder's names anew, in their order, into a table that is at most a quarter full. */
static bool rebuild(struct ws_tree *tree, struct ws_node *folder, int which) {
    struct ws_name_index *index = folder->names;
    size_t room = ROOM_FIRST;
    while (room < folder->children * 4) room *= 2;
    index->by[which].slot = tree_take(tree, room * sizeof *index->by[which].slot);
    if (!index->by[which].slot) return false;
    index->by[which].room = room;
    index->by[which].used = 0;
    for (struct ws_node *n = folder->first; n; n = n->next)
        if (!n->superseded) enter(index, n, which);
    return true;
}

static enum ws_status no_memory(struct ws_error *error) {
    return ws_fail(error, WS_E_NOMEM, "out of memory for a folder's names");
}

enum ws_status tree_index_add(struct ws_tree *tree, struct ws_node *node, struct ws_error *error) {
    struct ws_node *folder = node->parent;
    bool fresh = !folder->names;
    if (fresh && folder->children <= TREE_INDEXED_FROM) return WS_OK;
    if (fresh) {
        folder->names = tree_take(tree, sizeof *folder->names);
        if (!folder->names) return no_memory(error);
        folder->names->seed = 0xcbf29ce484222325ull ^ (uint64_t)(uintptr_t)tree;
    }
    for (int which = 0; which < INDEXES; which++) {
        if (fresh || folder->names->by[which].used * 2 >= folder->names->by[which].room) {
            if (!rebuild(tree, folder, which)) return no_memory(error); /* the node is among them */
        } else {
            enter(folder->names, node, which);
        }
    }
    return WS_OK;
}

void tree_index_remove(struct ws_node *node) {
    struct ws_node *folder = node->parent;
    for (int which = 0; folder->names && which < INDEXES; which++) {
        struct ws_node **place = place_of(folder->names, node->name, strlen(node->name), which);
        struct ws_node *next = node->alike[which].next;
        if (next == node) {
            *place = gone;
            continue;
        }
        next->alike[which].before = node->alike[which].before;
        node->alike[which].before->alike[which].next = next;
        if (*place == node) *place = next;
    }
}

struct ws_node *tree_index_find(const struct ws_node *folder, const char *name, size_t length, bool any_case) {
    int which = any_case ? FOLDED : EXACT;
    if (folder->names) return *place_of(folder->names, name, length, which);
    for (struct ws_node *n = folder->first; n; n = n->next)
        if (!n->superseded && same(n, name, length, which)) return n;
    return NULL;
}
