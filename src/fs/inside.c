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

const struct ws_node *ws_inside_find(const struct ws_tree *tree, const char *uuid) {
    for (const struct ws_node *n = ws_tree_root(tree)->first; n; n = n->next) {
        struct ws_volume_facts facts;
        if (n->kind == WS_NODE_FILE && n->content && ends_so(n->name) &&
            ws_format_find("ext4")->probe(n->content, &facts, NULL) == WS_OK && (!uuid || strcmp(facts.id, uuid) == 0))
            return n;
    }
    return NULL;
}
