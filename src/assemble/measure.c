/* measure.c — how small a volume can be that holds a tree. */
#include "assemble/internal.h"

static uint64_t first_guess(const struct ws_format *f, const struct ws_volume_params *params,
                            const struct ws_tree *tree) {
    uint64_t size = 0;
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        size += n->same_as ? 0 : (f->everywhere ? ws_node_size(n) : ws_node_stored(n)) + 512;
    return ws_max_u64(ws_round_up(size + size / 32, MIB), f->least(params->sector, params->cluster));
}

enum ws_status build_measure_least(const struct ws_format *f, struct ws_volume_params params, struct ws_tree *tree,
                                   uint64_t most, uint64_t *least, struct ws_error *error) {
    uint64_t low = 0;
    most = most / MIB * MIB;
    *least = 0;
    params.size = first_guess(f, &params, tree);
    for (;;) {
        enum ws_status status = f->compose(&params, tree, 0, NULL, NULL, error);
        if (status != WS_OK && status != WS_E_SPACE) return status;
        if (status == WS_OK) *least = params.size;
        else low = params.size;
        if (!low || (*least && *least - low <= ws_max_u64(*least / 32, MIB))) return WS_OK;
        if (!*least && params.size >= most) {
            *least = params.size;
            return WS_E_SPACE;
        }
        params.size = *least ? ws_round_up(low + (*least - low) / 2, MIB)
                             : ws_min_u64(2 * params.size, ws_max_u64(most, params.size + MIB));
    }
}
