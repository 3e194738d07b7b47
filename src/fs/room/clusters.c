/* clusters.c — clusters that have to go find free ones elsewhere, in as few pieces as there are. */
#include "fs/room/clusters.h"
#include "source/rows.h"

#include <stdlib.h>
#include <string.h>

enum { LOOK_AHEAD = 64, SECTOR = 4096 };

struct clusters_move {
    uint64_t from, to, count; /* as they were counted */
};

static size_t bytes_of(const struct clusters *c) { return (size_t)(c->count / 8 + 2); }

enum ws_status clusters_open(struct clusters *c, struct ws_error *error) {
    uint8_t **const bits[] = {&c->used, &c->bad, &c->before, &c->put};
    for (size_t i = 0; i < sizeof bits / sizeof bits[0]; i++)
        if (!(*bits[i] = calloc(1, bytes_of(c))))
            return ws_fail(error, WS_E_NOMEM, "out of memory for a volume's clusters");
    return ws_hash_open(WS_HASH_SHA256, &c->state, error);
}

void clusters_close(struct clusters *c) {
    free(c->used);
    free(c->bad);
    free(c->before);
    free(c->put);
    free(c->move);
    ws_hash_close(c->state);
}

/* The next row of free clusters from `at` on. */
static uint64_t free_row(const struct clusters *c, uint64_t at, uint64_t *length) {
    while (at < c->count && clusters_bit(c->used, at)) at++;
    uint64_t end = at;
    while (end < c->count && !clusters_bit(c->used, end)) end++;
    *length = end - at;
    return at;
}

/* How far it can be cleared from `from` on: what stands there needs as many free ones elsewhere.
 * @param pass  bad places can be passed over */
static uint64_t clear_most(const struct clusters *c, uint64_t from, uint64_t end, bool pass) {
    uint64_t free_count = 0, here = 0, most = from;
    for (uint64_t i = 0; i < c->count; i++) free_count += !clusters_bit(c->used, i);
    for (uint64_t i = from; i < end && (pass || !clusters_bit(c->bad, i)); i++) {
        here += clusters_bit(c->used, i) && !clusters_bit(c->bad, i) && !clusters_going(c, i);
        free_count -= !clusters_bit(c->used, i);
        if (here <= free_count) most = i + 1;
    }
    return most;
}

/* From where on its end can be cleared. */
static uint64_t clear_least(const struct clusters *c, uint64_t least_left) {
    uint64_t free_count = 0, here = 0, least = c->count;
    for (uint64_t i = 0; i < c->count; i++) free_count += !clusters_bit(c->used, i);
    for (uint64_t i = c->count; i > least_left; i--) {
        here += clusters_bit(c->used, i - 1) && !clusters_bit(c->bad, i - 1);
        free_count -= !clusters_bit(c->used, i - 1);
        if (here <= free_count) least = i - 1;
    }
    return least;
}

/* What is free, the longest row of that, and the last if nothing stands behind it. */
static void count_now(const struct clusters *c) {
    uint64_t length, longest = 0, all = 0;
    c->room->tail = 0;
    for (uint64_t at = free_row(c, 0, &length); length; at = free_row(c, at + length, &length)) {
        all += length;
        longest = ws_max_u64(longest, length);
        if (at + length == c->count) c->room->tail = length * c->room->step;
    }
    c->room->free_bytes = all * c->room->step;
    c->room->row = longest * c->room->step;
}

/* The file begins behind the front, so much later that it loses whole pages. */
static enum ws_status begin_later(struct clusters *c, struct ws_error *error) {
    enum { PAGE = 4096 };
    struct ws_room *room = c->room;
    uint64_t begin = ws_max_u64(c->file, c->front);
    while ((begin - c->file) * room->step % PAGE) begin++;
    if (begin >= c->file_end) return ws_fail(error, WS_E_RANGE, "all of the file stands in what would go");
    c->going_end = begin;
    c->file_will = c->file_end;
    room->file_begins = c->data_at + begin * room->step;
    room->file_length = room->file_was - (begin - c->file) * room->step;
    return WS_OK;
}

static enum ws_status measure(struct clusters *c, uint64_t least_left, uint64_t length_most, struct ws_error *error) {
    struct ws_room *room = c->room;
    char most[32];
    count_now(c);
    room->row = ws_min_u64(room->row, length_most);
    if (room->put_length > length_most)
        return ws_fail(error, WS_E_RANGE, "a file on this volume has at most %s",
                       ws_size_counted(length_most, most, sizeof most));
    if (room->file_at && !c->file_end) return ws_fail(error, WS_E_NOTFOUND, "no file begins there in one piece");
    c->goes = room->file_goes;
    c->later = room->file_later;
    c->going_end = c->goes || c->later ? c->file_end : 0;
    c->file_will = c->file;
    c->end = c->count;
    if (room->file_at && !c->going_end) {
        room->most = ws_min_u64((clear_most(c, c->file_end, c->count, false) - c->file) * room->step, length_most);
        if (room->file_length > room->most)
            return ws_fail(error, WS_E_RANGE, "this file can have %s on its volume",
                           ws_size_counted(room->most, most, sizeof most));
        if (!room->file_length) room->file_length = room->file_was;
        c->file_will = c->file + ws_max_u64(ws_div_up(room->file_length, room->step), 1);
        c->clear = c->file_end;
        c->clear_end = ws_max_u64(c->file_will, c->file_end);
        return WS_OK;
    }
    room->most = c->count > least_left ? clear_most(c, 0, c->count - least_left, true) * room->step : 0;
    if (room->front % room->step || room->front > room->most)
        return ws_fail(error, WS_E_RANGE, "of this volume whole clusters of %llu bytes can go, at most %s",
                       (unsigned long long)room->step, ws_size_counted(room->most, most, sizeof most));
    c->clear_end = c->front = room->front / room->step;
    if (c->later) return begin_later(c, error);
    room->back_most = room->front ? 0 : (c->count - clear_least(c, least_left)) * room->step;
    if (room->back % room->step || room->back > room->back_most)
        return ws_fail(error, WS_E_RANGE, "of this volume's end whole clusters of %llu bytes can go, at most %s",
                       (unsigned long long)room->step, ws_size_counted(room->back_most, most, sizeof most));
    if (!room->back) return WS_OK;
    c->clear = c->end = c->count - room->back / room->step;
    c->clear_end = c->count;
    return WS_OK;
}

static enum ws_status add_move(struct clusters *c, uint64_t from, uint64_t to, uint64_t count, struct ws_error *error) {
    if (c->moves == c->capacity) {
        c->capacity = c->capacity ? c->capacity * 2 : 64;
        struct clusters_move *grown = realloc(c->move, c->capacity * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for what moves");
        c->move = grown;
    }
    c->move[c->moves++] = (struct clusters_move){from, to, count};
    for (uint64_t i = 0; i < count; i++) clusters_set(c->used, to + i);
    c->room->moved += count * c->room->step;
    return WS_OK;
}

/* A row of free clusters that all of it fits in is looked for ahead, else it is parted. */
static enum ws_status move_row(struct clusters *c, uint64_t from, uint64_t count, uint64_t *next,
                               struct ws_error *error) {
    while (count) {
        uint64_t length, at = *next = free_row(c, *next, &length);
        for (int i = 0; i < LOOK_AHEAD && length && length < count; i++) at = free_row(c, at + length, &length);
        if (length < count) at = free_row(c, *next, &length);
        if (!length) return ws_fail(error, WS_E_SPACE, "there are not enough free clusters for what has to move");
        const uint64_t fits = ws_min_u64(length, count);
        WS_TRY(add_move(c, from, at, fits, error));
        from += fits;
        count -= fits;
    }
    return WS_OK;
}

static bool has_to_go(const struct clusters *c, uint64_t i) {
    return clusters_bit(c->before, i) && !clusters_bit(c->bad, i) && !clusters_going(c, i);
}

enum ws_status clusters_plan(struct clusters *c, uint64_t least_left, uint64_t length_most, struct ws_error *error) {
    uint64_t next = 0;
    WS_TRY(measure(c, least_left, length_most, error));
    memcpy(c->before, c->used, bytes_of(c));
    for (uint64_t i = c->clear; i < c->clear_end; i++) clusters_set(c->used, i); /* nothing comes to stand there */
    for (uint64_t i = c->clear, from; i < c->clear_end; i++) {
        for (from = i; i < c->clear_end && has_to_go(c, i);) i++;
        if (i > from) WS_TRY(move_row(c, from, i - from, &next, error));
    }
    for (uint64_t i = c->file_will; i < c->file_end; i++) clusters_clear(c->used, i); /* shorter, or gone */
    for (uint64_t i = c->front; i < c->going_end; i++)
        if (clusters_going(c, i)) clusters_clear(c->used, i);
    return WS_OK;
}

void clusters_claim(struct clusters *c, uint64_t cluster) {
    c->astray |= cluster >= c->count || !clusters_bit(c->before, cluster);
}

/* Where it will stand, as they were counted. */
static uint64_t place_of(const struct clusters *c, uint64_t cluster) {
    size_t low = 0;
    if (cluster < c->clear || cluster >= c->clear_end) return cluster;
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
    const uint64_t place = c->later && cluster == c->file ? c->going_end : place_of(c, cluster);
    return place == NO_CLUSTER ? NO_CLUSTER : place - c->front;
}

enum ws_status clusters_put(struct clusters *c, uint64_t cluster, const void *bytes, bool changed,
                            struct ws_error *error) {
    const uint64_t place = place_of(c, cluster), step = c->room->step;
    if (place == NO_CLUSTER) return ws_fail(error, WS_E_FORMAT, "a cluster is somebody's, and nobody's");
    clusters_set(c->put, cluster);
    if (!c->layout || (!changed && place == cluster)) return WS_OK;
    return ws_layout_add_bytes(c->layout, c->room->at + c->data_at + place * step, bytes, (size_t)step,
                               place == cluster ? WS_PHASE_SEAL : WS_PHASE_BODY, error);
}

enum ws_status clusters_put_new(struct clusters *c, uint64_t *first, struct ws_error *error) {
    struct ws_room *room = c->room;
    const uint64_t step = room->step, count = ws_max_u64(ws_div_up(room->put_length, step), 1);
    uint64_t row, at = free_row(c, 0, &row);
    char size[32];
    while (row && row < count) at = free_row(c, at + row, &row);
    if (!row) {
        ws_fail(error, WS_E_SPACE, "the volume has no room in a row for a file of %s",
                ws_size_counted(room->put_length, size, sizeof size));
        return ws_fail_next(error, "take something off it first");
    }
    *first = at;
    room->put_place = c->data_at + at * step;
    for (uint64_t i = 0; i < count; i++) clusters_set(c->used, at + i);
    if (!c->layout || !room->put) return WS_OK;
    uint8_t *whole = calloc((size_t)count, (size_t)step); /* whole sectors */
    if (!whole) return ws_fail(error, WS_E_NOMEM, "out of memory for a file");
    memcpy(whole, room->put, (size_t)room->put_length);
    const enum ws_status status =
        ws_layout_add_bytes(c->layout, room->at + room->put_place, whole, (size_t)(count * step), WS_PHASE_BODY, error);
    free(whole);
    return status;
}

enum ws_status clusters_take_one(struct clusters *c, uint64_t *cluster, struct ws_error *error) {
    uint64_t row;
    *cluster = free_row(c, 0, &row);
    if (!row) return ws_fail(error, WS_E_SPACE, "the volume is full: its top folder has no room for one more name");
    clusters_set(c->used, *cluster);
    return WS_OK;
}

enum ws_status clusters_put_fixed(struct clusters *c, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *error) {
    uint8_t was[SECTOR];
    const uint64_t begin = c->room->at + c->room->front + at;
    if (!c->layout) return WS_OK;
    if (c->front) return ws_layout_add_bytes(c->layout, begin, bytes, length, WS_PHASE_SEAL, error);
    for (size_t done = 0, step; done < length; done += step) {
        step = (size_t)ws_min_u64(SECTOR, length - done);
        WS_TRY(ws_source_read(c->room->volume, at + done, was, step, error));
        if (memcmp(was, (const uint8_t *)bytes + done, step) == 0) continue;
        WS_TRY(ws_layout_add_bytes(c->layout, begin + done, (const uint8_t *)bytes + done, step, WS_PHASE_SEAL, error));
    }
    return WS_OK;
}

/* Rows from one cluster up to another that were free before, and are then unless they go. */
static void list_rows(const struct clusters *c, uint64_t from, uint64_t end, struct ws_run *list, size_t *count) {
    const uint64_t step = c->room->step;
    const bool goes = from >= c->end;
    uint64_t row = 0;
    *count = 0;
    for (uint64_t i = from; i <= end; i++) {
        if (i < end && !clusters_bit(c->before, i) && (goes || !clusters_bit(c->used, i))) {
            row++;
        } else if (row) {
            ws_rows_enter(list, count, WS_LOG_PIECES,
                          (struct ws_run){.at = c->data_at + (i - row) * step, .length = row * step});
            row = 0;
        }
    }
}

static void count_free(struct clusters *c) {
    c->room->free_after = 0;
    for (uint64_t i = c->front; i < c->end; i++) c->room->free_after += clusters_bit(c->used, i) ? 0 : c->room->step;
    list_rows(c, c->front, c->end, c->room->spare, &c->room->spares);
    list_rows(c, c->end, c->count, c->room->given, &c->room->givens);
}

enum ws_status clusters_finish(struct clusters *c, struct ws_error *error) {
    const uint64_t step = c->room->step;
    if (c->astray) {
        ws_fail(error, WS_E_FORMAT, "the volume is damaged: a file has a place that is marked as free");
        return ws_fail_next(error, "let a file system checker look at it");
    }
    for (size_t i = 0; i < c->moves && c->layout; i++) {
        const struct clusters_move *m = &c->move[i];
        for (uint64_t k = 0, from; k < m->count; k++) {
            for (from = k; k < m->count && !clusters_bit(c->put, m->from + k);) k++;
            WS_TRY(ws_layout_add(c->layout, c->room->at + c->data_at + (m->to + from) * step, (k - from) * step,
                                 c->room->volume, c->data_at + (m->from + from) * step, WS_PHASE_BODY, error));
        }
    }
    count_free(c);
    ws_hash_hex(c->state, c->room->state);
    return WS_OK;
}
