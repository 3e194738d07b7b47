/* clusters.c — clusters that have to go find free ones behind the front, in as few pieces as there are. */
#include "fs/cut/clusters.h"

#include <stdlib.h>
#include <string.h>

enum { LOOK_AHEAD = 64 };

struct clusters_move {
    uint64_t from, to, count; /* as they were counted */
};

enum ws_status clusters_open(struct clusters *c, struct ws_error *error) {
    c->used = calloc(1, (size_t)(c->count / 8 + 2));
    c->put = calloc(1, (size_t)(c->count / 8 + 2));
    c->before = calloc(1, (size_t)(c->count / 8 + 2));
    if (!c->used || !c->put || !c->before) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume's clusters");
    return ws_hash_open(WS_HASH_SHA256, &c->state, error);
}

void clusters_close(struct clusters *c) {
    free(c->used);
    free(c->put);
    free(c->before);
    free(c->move);
    ws_hash_close(c->state);
}

void clusters_measure(struct clusters *c, uint64_t least_left) {
    const uint64_t step = c->cut->step;
    uint64_t used = 0, before = 0;
    for (uint64_t i = 0; i < c->count; i++) used += clusters_bit(c->used, i);
    c->cut->free_bytes = (c->count - used) * step;
    c->cut->most = 0;
    for (uint64_t i = 0; i + least_left < c->count; i++) {
        before += clusters_bit(c->used, i);
        const uint64_t free_behind = c->count - used - (i + 1 - before);
        if (before <= free_behind) c->cut->most = (i + 1) * step;
    }
}

/* The next row of free clusters from `at` on. */
static uint64_t free_row(const struct clusters *c, uint64_t at, uint64_t *length) {
    while (at < c->count && clusters_bit(c->used, at)) at++;
    uint64_t end = at;
    while (end < c->count && !clusters_bit(c->used, end)) end++;
    *length = end - at;
    return at;
}

static enum ws_status add_move(struct clusters *c, uint64_t from, uint64_t to, uint64_t count, struct ws_error *error) {
    if (c->moves == c->room) {
        c->room = c->room ? c->room * 2 : 64;
        struct clusters_move *grown = realloc(c->move, c->room * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for what moves");
        c->move = grown;
    }
    c->move[c->moves++] = (struct clusters_move){from, to, count};
    for (uint64_t i = 0; i < count; i++) clusters_set(c->used, to + i);
    c->cut->moved += count * c->cut->step;
    return WS_OK;
}

/* A row of free clusters that all of it fits in is looked for ahead, else it is parted. */
static enum ws_status move_row(struct clusters *c, uint64_t from, uint64_t count, uint64_t *next,
                               struct ws_error *error) {
    while (count) {
        uint64_t length, at = *next = free_row(c, *next, &length);
        for (int i = 0; i < LOOK_AHEAD && length && length < count; i++) at = free_row(c, at + length, &length);
        if (length < count) at = free_row(c, *next, &length);
        if (!length) return ws_fail(error, WS_E_SPACE, "there are not enough free clusters behind the part that goes");
        const uint64_t fits = ws_min_u64(length, count);
        WS_TRY(add_move(c, from, at, fits, error));
        from += fits;
        count -= fits;
    }
    return WS_OK;
}

enum ws_status clusters_plan(struct clusters *c, struct ws_error *error) {
    struct ws_front_cut *cut = c->cut;
    uint64_t next;
    char most[32];
    if (cut->front % cut->step || cut->front > cut->most)
        return ws_fail(error, WS_E_RANGE, "of this volume whole clusters of %llu bytes can go, at most %s",
                       (unsigned long long)cut->step, ws_size_counted(cut->most, most, sizeof most));
    c->front = next = cut->front / cut->step;
    memcpy(c->before, c->used, (size_t)(c->count / 8 + 1));
    for (uint64_t i = 0, from; i < c->front; i++) {
        for (from = i; i < c->front && clusters_bit(c->used, i);) i++;
        if (i > from) WS_TRY(move_row(c, from, i - from, &next, error));
    }
    return WS_OK;
}

void clusters_claim(struct clusters *c, uint64_t cluster) {
    c->astray |= cluster >= c->count || !clusters_bit(c->before, cluster);
}

/* Where it will stand, as they were counted. */
static uint64_t place_of(const struct clusters *c, uint64_t cluster) {
    size_t low = 0;
    if (cluster >= c->front) return cluster;
    for (size_t high = c->moves; low < high;) {
        const size_t middle = low + (high - low) / 2;
        if (c->move[middle].from + c->move[middle].count <= cluster) low = middle + 1;
        else high = middle;
    }
    if (low == c->moves || cluster < c->move[low].from) return NO_CLUSTER;
    return c->move[low].to + (cluster - c->move[low].from);
}

uint64_t clusters_now(struct clusters *c, uint64_t cluster) {
    clusters_claim(c, cluster);
    const uint64_t place = place_of(c, cluster);
    return place == NO_CLUSTER ? NO_CLUSTER : place - c->front;
}

enum ws_status clusters_put(struct clusters *c, uint64_t cluster, const void *bytes, size_t length,
                            struct ws_error *error) {
    const uint64_t place = place_of(c, cluster);
    if (place == NO_CLUSTER) return ws_fail(error, WS_E_FORMAT, "a cluster is somebody's, and nobody's");
    clusters_set(c->put, cluster);
    if (!c->layout) return WS_OK;
    return ws_layout_add_bytes(c->layout, c->cut->at + c->data_at + place * c->cut->step, bytes, length,
                               place == cluster ? WS_PHASE_SEAL : WS_PHASE_BODY, error);
}

static void enter_spare(struct ws_front_cut *cut, struct ws_run row) {
    size_t i = cut->spares;
    if (i == WS_LOG_PIECES && cut->spare[i - 1].length >= row.length) return;
    if (i == WS_LOG_PIECES) i--;
    else cut->spares++;
    for (; i && cut->spare[i - 1].length < row.length; i--) cut->spare[i] = cut->spare[i - 1];
    cut->spare[i] = row;
}

enum ws_status clusters_finish(struct clusters *c, struct ws_error *error) {
    const uint64_t step = c->cut->step;
    if (c->astray) {
        ws_fail(error, WS_E_FORMAT, "the volume is damaged: a file has a place that is marked as free");
        return ws_fail_next(error, "let a file system checker look at it");
    }
    for (size_t i = 0; i < c->moves && c->layout; i++) {
        const struct clusters_move *m = &c->move[i];
        for (uint64_t k = 0, from; k < m->count; k++) {
            for (from = k; k < m->count && !clusters_bit(c->put, m->from + k);) k++;
            WS_TRY(ws_layout_add(c->layout, c->cut->at + c->data_at + (m->to + from) * step, (k - from) * step,
                                 c->cut->volume, c->data_at + (m->from + from) * step, WS_PHASE_BODY, error));
        }
    }
    c->cut->spares = 0;
    c->cut->free_after = 0;
    for (uint64_t at = c->front, length; at < c->count; at += length) {
        at = free_row(c, at, &length);
        if (!length) break;
        c->cut->free_after += length * step;
        enter_spare(c->cut, (struct ws_run){.at = c->data_at + at * step, .length = length * step});
    }
    ws_hash_hex(c->state, c->cut->state);
    return WS_OK;
}
