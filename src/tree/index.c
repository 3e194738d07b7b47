/* index.c — a folder's names, found by hashing: by their letters, and by their letters whatever the case.
 *
 * Names that count as the same (a damaged volume lists one twice, a disc holds "Readme" and "README") share one place
 * in the table and form a ring, in the order they came. So neither adding nor taking one away looks through the others,
 * however many of them somebody has put into one folder to keep us busy.
 *
 * As long as no name has a capital letter the second table would be the first once more: it is made with the first one
 * that has.
 */
#include "tree/internal.h"

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

enum { EXACT, FOLDED, INDEXES, ROOM_FIRST = 64 };

struct ws_name_index {
    struct ws_name_index *next; /* of the tree */
    uint64_t seed;
    struct {
        struct ws_node **slot; /* open addressing; NULL: free, `gone`: was used. NULL itself: there is no table */
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
    const int table = index->by[which].slot ? which : EXACT;
    size_t room = index->by[table].room;
    struct ws_node **slot = index->by[table].slot;
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

/* All of a folder's names anew, in their order, into a table that is at most half full. */
static bool rebuild(struct ws_node *folder, int which) {
    struct ws_name_index *index = folder->names;
    size_t room = ROOM_FIRST;
    while (room < (size_t)folder->children * 2) room *= 2;
    struct ws_node **slot = calloc(room, sizeof *slot);
    if (!slot) return false;
    free(index->by[which].slot);
    index->by[which].slot = slot;
    index->by[which].room = room;
    index->by[which].used = 0;
    for (struct ws_node *n = folder->first; n; n = n->next)
        if (!n->superseded) enter(index, n, which);
    return true;
}

static bool has_capital(const char *name) {
    while (*name && !(*name >= 'A' && *name <= 'Z')) name++;
    return *name != '\0';
}

/* Is a table to be made, anew or for the first time, rather than a name entered into it? */
static bool wants_table(const struct ws_node *folder, const struct ws_node *added, int which, bool fresh) {
    const struct ws_name_index *index = folder->names;
    if (index->by[which].slot) return index->by[which].used * 3 >= index->by[which].room * 2;
    if (which == EXACT) return true;
    if (!fresh) return has_capital(added->name);
    for (const struct ws_node *n = folder->first; n; n = n->next)
        if (has_capital(n->name)) return true;
    return false;
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
        folder->names->next = tree->indexes;
        tree->indexes = folder->names;
    }
    for (int which = 0; which < INDEXES; which++) {
        if (wants_table(folder, node, which, fresh)) {
            if (!rebuild(folder, which)) return no_memory(error); /* the node is among them */
        } else if (folder->names->by[which].slot) {
            enter(folder->names, node, which);
        }
    }
    return WS_OK;
}

void tree_index_let_go(struct ws_tree *tree) {
    for (struct ws_name_index *i = tree->indexes; i; i = i->next)
        for (int which = 0; which < INDEXES; which++) free(i->by[which].slot);
}

void tree_index_remove(struct ws_node *node) {
    struct ws_node *folder = node->parent;
    for (int which = 0; folder->names && which < INDEXES && folder->names->by[which].slot; which++) {
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
