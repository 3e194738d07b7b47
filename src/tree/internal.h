/* internal.h — a tree, its memory, and a folder's names, found by hashing. */
#ifndef WS_TREE_INTERNAL_H
#define WS_TREE_INTERNAL_H

#include "wild_satchel/tree.h"

struct ws_tree {
    struct ws_node root;
    struct tree_block *arena;
    struct tree_owned *owned; /* sources that close with the tree */
    struct ws_name_index *indexes;
    size_t count;
};

/* arena.c */
/* Room for what lives as long as the tree, set to zeros; NULL without memory. */
void *tree_take(struct ws_tree *tree, size_t bytes);
void tree_let_go(struct ws_tree *tree); /* all of it */

/* tree.c: all that a node is but its name and place; content and texts are shared. */
void tree_take_over(struct ws_node *node, const struct ws_node *from);

/* A folder has an index once it holds so many names: below that, looking through them is faster. */
enum { TREE_INDEXED_FROM = 16 };

/* A node that was just added to its parent, or has just got its name. @return WS_E_NOMEM */
enum ws_status tree_index_add(struct ws_tree *tree, struct ws_node *node, struct ws_error *error);
/* The tables of all its folders; what they are told of lives as long as the tree. */
void tree_index_let_go(struct ws_tree *tree);
/* A node that is about to leave its parent, or to lose its name. */
void tree_index_remove(struct ws_node *node);
/* The first of the folder's nodes of that name; ASCII letters of either case being the same if `any_case`. */
struct ws_node *tree_index_find(const struct ws_node *folder, const char *name, size_t length, bool any_case);

#endif
