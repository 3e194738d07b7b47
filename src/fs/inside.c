/* inside.c — volumes that stand in a file of another one. */
#include "wild_satchel/format.h"
#include "wild_satchel/tree.h"

#include <string.h>

/* As the start-up code has it: "NAME.ext4", in letters of either case. */
static bool ends_so(const char *name) {
    static const char end[] = ".ext4";
    const char *dot = strrchr(name, '.');
    if (!dot || dot == name || strlen(dot) != sizeof end - 1) return false;
    for (size_t i = 0; i < sizeof end - 1; i++)
        if ((dot[i] | (dot[i] >= 'A' && dot[i] <= 'Z' ? 32 : 0)) != end[i]) return false;
    return true;
}

/* Is it the wanted one; or, if any will do, one that start-up code would start from? */
static bool is_wanted(const struct ws_source *volume, const char *uuid) {
    const struct ws_format *ext4 = ws_format_find("ext4");
    struct ws_volume_facts facts;
    struct ws_tree *tree = NULL;
    if (ext4->probe(volume, &facts, NULL) != WS_OK) return false;
    if (uuid) return strcmp(facts.id, uuid) == 0;
    bool starts = ext4->read(volume, &tree, NULL, NULL) == WS_OK &&
                  (ws_tree_find(tree, "boot/loader/entries") || ws_tree_find(tree, "loader/entries"));
    ws_tree_close(tree);
    return starts;
}

const struct ws_node *ws_inside_find(const struct ws_tree *tree, const char *uuid) {
    for (const struct ws_node *n = ws_tree_root(tree)->first; n; n = n->next)
        if (n->kind == WS_NODE_FILE && n->content && ends_so(n->name) && is_wanted(n->content, uuid)) return n;
    return NULL;
}
