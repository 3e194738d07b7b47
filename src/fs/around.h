/* around.h — clusters given out in a row, around a file that stays where it is. */
#ifndef WS_FS_AROUND_H
#define WS_FS_AROUND_H

#include "wild_satchel/tree.h"

/* Clusters are numbered from 2 on. */
struct around {
    uint64_t next;     /* of those before the file that stays; all, where there is none */
    uint64_t from, to; /* that file's, and the first behind them */
    uint64_t behind;   /* of those behind it */
    uint64_t used;
};

/* @return false if a file is to stay where no cluster begins, or at the place of what comes `first`: clusters that
 *  cannot stand elsewhere; or if there are two of them */
static inline bool around_begin(struct around *a, const struct ws_tree *tree, uint64_t data_at, uint32_t cluster,
                                uint64_t first) {
    *a = (struct around){.next = 2, .from = UINT64_MAX, .to = UINT64_MAX, .behind = UINT64_MAX};
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (!n->fixed) continue;
        if (a->from != UINT64_MAX || n->origin < data_at || (n->origin - data_at) % cluster || !ws_node_size(n))
            return false;
        a->from = 2 + (n->origin - data_at) / cluster;
        a->to = a->behind = a->from + (ws_node_size(n) + cluster - 1) / cluster;
    }
    return a->from - 2 >= first;
}

/* Where so many clusters go, in one piece. */
static inline uint64_t around_take(struct around *a, const struct ws_node *n, uint64_t count) {
    const bool before = count <= a->from - a->next;
    const uint64_t place = n->fixed ? a->from : before ? a->next : a->behind;
    a->used += count;
    if (n->fixed) return place;
    *(before ? &a->next : &a->behind) += count;
    return place;
}

/* The first cluster behind all that were given out. */
static inline uint64_t around_end(const struct around *a) { return a->from == UINT64_MAX ? a->next : a->behind; }

#endif
