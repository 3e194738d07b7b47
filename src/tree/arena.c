/* arena.c — nodes come from an arena: a tree of 200,000 files is a few hundred blocks, freed at once. */
#include "tree/internal.h"

#include <stdlib.h>
#include <string.h>

enum { ARENA_BLOCK = 64 * 1024 };

/* What stands in it holds nothing that is aligned to more: a long double would cost every name eight bytes. */
union unit {
    void *pointer;
    uint64_t number;
};
struct tree_block {
    struct tree_block *next;
    size_t used, room;
    union unit data[];
};

void *tree_take(struct ws_tree *tree, size_t bytes) {
    bytes = (bytes + sizeof(union unit) - 1) / sizeof(union unit) * sizeof(union unit);
    struct tree_block *block = tree->arena;
    if (!block || block->room - block->used < bytes) {
        size_t room = bytes > ARENA_BLOCK ? bytes : ARENA_BLOCK;
        block = malloc(sizeof *block + room);
        if (!block) return NULL;
        block->used = 0;
        block->room = room;
        block->next = tree->arena;
        tree->arena = block;
    }
    void *result = (char *)block->data + block->used;
    block->used += bytes;
    memset(result, 0, bytes);
    return result;
}

void tree_let_go(struct ws_tree *tree) {
    for (struct tree_block *block = tree->arena; block;) {
        struct tree_block *next = block->next;
        free(block);
        block = next;
    }
    tree->arena = NULL;
}
