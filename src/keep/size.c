/* size.c — of which sizes the volume of what is remembered can be, by itself. */
#include "base/bytes.h"
#include "keep/internal.h"

#include <stdlib.h>

static uint64_t room_of(const struct ws_kept *k) {
    struct ws_table *table = malloc(sizeof *table);
    uint64_t end = 0;
    if (table && keep_table(k, table, NULL) == WS_OK && table->logical_count == 0)
        end = ws_table_room_of(table, k->memory.volume_at);
    free(table);
    return end;
}

/* Content in whole blocks, the journal, and what tables take of each group: whether all of it fits is worked out then.
 */
static uint64_t least_for(const struct ws_kept *k) {
    enum { BLOCK = 4096, JOURNAL_MOST = 32 << 20 };
    uint64_t bytes = ws_min_u64(JOURNAL_MOST, k->facts.size / 16);
    for (const struct ws_node *n = ws_tree_root(k->tree); n; n = ws_tree_next(n))
        bytes += n->kind == WS_NODE_FILE ? ws_round_up(ws_node_stored(n), BLOCK) : 0;
    return ws_round_up(bytes + bytes / 24, 1 << 20);
}

enum ws_status ws_kept_bounds(const struct ws_kept *k, uint64_t *least, uint64_t *most, struct ws_error *error) {
    const uint64_t mib = 1 << 20;
    *least = *most = k->facts.size + keep_begin(k);
    /* Locked, it is all behind the header, or else the lock itself is of another length than its place. */
    const uint64_t begin = keep_begin(k);
    const bool odd = k->lock && begin + k->volume->size + (1 << 20) < k->memory.volume_size;
    uint64_t end = k->memory.in_file ? 1 : room_of(k);
    const char *why = odd ? "its lock was made for a part of its place" : !end ? "it is no partition by itself" : NULL;
    if (why) {
        ws_fail(error, WS_E_UNSUPPORTED, "what is remembered here cannot be of another size: %s", why);
        return ws_fail_next(error, "save it, build the drive with the size that is wanted, and put it back");
    }
    if (k->memory.in_file) {
        struct keep_taking *around = NULL;
        WS_TRY(keep_in_file(k, 0, &around, error));
        end = k->memory.volume_at + around->room.most;
        keep_taking_close(around);
    }
    *most = ws_max_u64((end - k->memory.volume_at) / mib * mib, k->facts.size + begin);
    *least = ws_min_u64(ws_max_u64(least_for(k), WS_EXT4_LEAST), k->facts.size) + begin;
    return WS_OK;
}

enum ws_status ws_kept_resize(struct ws_kept *k, uint64_t size, struct ws_error *error) {
    uint64_t least, most;
    char a[48], b[48];
    if (k->layout || k->fresh || k->resize)
        return ws_fail(error, WS_E_USAGE, "what is remembered was edited already: open it again");
    WS_TRY(ws_kept_bounds(k, &least, &most, error));
    size = size / (1 << 20) * (1 << 20);
    if (size < least || size > most) {
        ws_fail(error, WS_E_RANGE, "its volume can be from %s to %s here", ws_size_both(least, a, sizeof a),
                ws_size_both(most, b, sizeof b));
        return ws_fail_next(error, size < least ? "ask for more, or make it hold less first: clean it, or reset it"
                                                : "ask for less");
    }
    if (k->memory.in_file) WS_TRY(keep_in_file(k, size, &k->taking, error));
    k->resize = k->to.length = size;
    return WS_OK;
}
