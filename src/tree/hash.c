/* hash.c — all that a tree says of its files, in one digest. */
#include "base/bytes.h"
#include "wild_satchel/tree.h"

#include <string.h>

void ws_tree_hash(const struct ws_tree *tree, struct ws_hash *hash) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        const uint64_t says[] = {n->kind,
                                 n->mode | (uint64_t)n->marks << 16,
                                 n->uid,
                                 n->gid,
                                 ws_node_size(n),
                                 n->origin,
                                 (uint64_t)n->mtime,
                                 n->mtime_ns,
                                 n->major,
                                 n->minor};
        uint8_t raw[sizeof says];
        for (size_t i = 0; i < sizeof says / sizeof says[0]; i++) ws_store_le64(raw + 8 * i, says[i]);
        ws_hash_add(hash, n->name, strlen(n->name) + 1);
        ws_hash_add(hash, raw, sizeof raw);
    }
}
