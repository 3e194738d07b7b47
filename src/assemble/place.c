/* place.c — volumes placed in a row: each where the one before ends, "the rest" what the others leave. */
#include "assemble/internal.h"

static uint64_t wanted(const struct build_need *n) {
    return n->size.kind == WS_SIZE_BYTES ? ws_round_up(n->size.bytes, n->granule) : 0;
}

/* What all of them take at least, and what those of a fixed size do. */
static void add_up(const struct build_need *need, size_t count, uint64_t *least, uint64_t *fixed) {
    *least = *fixed = 0;
    for (size_t i = 0; i < count; i++) {
        bool last = i + 1 == count;
        *fixed += wanted(&need[i]);
        *least += need[i].size.kind != WS_SIZE_BYTES ? need[i].least : last ? need[i].size.bytes : wanted(&need[i]);
    }
}

enum ws_status build_place(struct build_need *need, size_t count, uint64_t first, uint64_t end, uint64_t align,
                           uint64_t *needed) {
    uint64_t least;
    uint64_t fixed;
    uint64_t at = ws_round_up(first, align);
    add_up(need, count, &least, &fixed);
    *needed = at + least;
    if (count == 0) return WS_OK;
    if (at >= end || end - at < least) return WS_E_SPACE;
    for (size_t i = 0; i < count; i++) {
        struct build_need *n = &need[i];
        bool last = i + 1 == count;
        uint64_t left = at < end ? end - at : 0;
        fixed -= wanted(n); /* now of those behind it */
        if (n->size.kind == WS_SIZE_BYTES) {
            n->placed = last ? ws_min_u64(wanted(n), left / PAGE * PAGE) : wanted(n);
        } else {
            uint64_t rest = left > fixed ? left - fixed : 0;
            n->placed = ws_min_u64(rest, n->most) / (last ? PAGE : n->granule) * (last ? PAGE : n->granule);
        }
        n->at = at;
        bool enough = n->placed >= (n->size.kind == WS_SIZE_BYTES ? n->size.bytes : n->least);
        if (!enough || n->placed > left) {
            *needed = at + (n->size.kind == WS_SIZE_BYTES ? n->size.bytes : n->least) + fixed;
            return WS_E_SPACE;
        }
        at = ws_round_up(at + n->placed, align);
    }
    return WS_OK;
}
