/* arena.c — nodes come from an arena: a tree of 200,000 files is a few hundred blocks, freed at once. */
#include "tree/internal.h"

#include <stddef.h>
#include <stdlib.h>
#include <string.h>

enum { ARENA_BLOCK = 64 * 1024 };

struct tree_block {
    struct tree_block *next;
    size_t used, room;
    max_align_t data[];
};

void *tree_take(struct ws_tree *tree, size_t bytes) {
    bytes = (bytes + sizeof(max_align_t) - 1) / sizeof(max_align_t) * sizeof(max_align_t);
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
