/* log.c — where the log of a change goes: where nothing is, before the change and after it. */
#include "base/bytes.h"
#include "keep/internal.h"
#include "source/rows.h"

#include <stdlib.h>

enum { PAGE = 4096 };

/* Rows of the drive where the volume has nothing, before and after; of one that is made anew further back, both. */
static size_t spare_rows(const struct ws_kept *k, uint64_t begin, struct ws_run *row, size_t most) {
    enum { ROWS = 64 };
    struct ws_run now[ROWS], later[ROWS];
    const bool leaves = k->way == KEEP_AWAY, over = k->way == KEEP_LATER;
    const size_t n =
        leaves ? keep_rows_left(k, now, ROWS) : ws_ext4_spare_rows(over ? &k->before : &k->geometry, now, ROWS);
    const size_t m = over ? ws_ext4_spare_rows(&k->geometry, later, ROWS) : 0;
    /* Behind it, or in front, files of others stand until they are told to be elsewhere. */
    const uint64_t own_end = k->taking ? k->memory.volume_at + k->memory.volume_size : k->drive->size;
    size_t count = 0;
    for (size_t i = 0; k->taking && k->taking->gives && i < k->taking->room.spares; i++) {
        const struct ws_run *r = &k->taking->room.spare[i];
        ws_rows_enter(row, &count, most, (struct ws_run){.at = k->taking->room.at + r->at, .length = r->length});
    }
    for (size_t i = 0; i < n; i++) {
        const uint64_t at = ws_max_u64(now[i].at + begin, leaves ? 0 : k->memory.volume_at);
        const uint64_t end = ws_min_u64(now[i].at + begin + now[i].length, own_end);
        if (!over && at < end) ws_rows_enter(row, &count, most, (struct ws_run){.at = at, .length = end - at});
        for (size_t j = 0; j < m && at < end; j++) {
            const uint64_t there = later[j].at + k->to.at + keep_begin(k), from = ws_max_u64(at, there),
                           to = ws_min_u64(end, there + later[j].length);
            if (from < to) ws_rows_enter(row, &count, most, (struct ws_run){.at = from, .length = to - from});
        }
    }
    return count;
}

/* Rows of the drive outside of the volume: behind the last partition, and what ordinary volumes have free; not where a
 * newer image goes. */
static void rows_elsewhere(const struct ws_kept *k, struct ws_run *row, size_t *count) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    struct ws_table *table = malloc(sizeof *table);
    struct ws_volume_facts facts;
    struct ws_error ignored;
    struct ws_run one;
    uint64_t end;
    const bool read = table && keep_table(k, table, &ignored) == WS_OK && table->kind != WS_TABLE_NONE;
    if (read) ws_table_free_tail(table, &one.at, &end);
    if (read) one.at = ws_max_u64(one.at, k->renewed_to);
    if (read && one.at < end) {
        one.length = end - one.at;
        ws_rows_enter(row, count, WS_LOG_PIECES, one);
    }
    for (size_t i = 0, n = read ? ws_table_volumes(table, list) : 0; i < n; i++) {
        struct ws_source *slice = NULL;
        if (!ws_inside(list[i]->at, list[i]->length, k->drive->size) || list[i]->at < k->renewed_to) continue;
        if (ws_source_slice(k->drive, list[i]->at, list[i]->length, &slice, &ignored) != WS_OK) continue;
        const struct ws_format *format = ws_format_of(slice, &facts);
        if (format && format->spare && format->everywhere && facts.clean &&
            format->spare(slice, &one.at, &one.length, &ignored) == WS_OK && one.length) {
            one.at += list[i]->at;
            ws_rows_enter(row, count, WS_LOG_PIECES, one);
        }
        ws_source_close(slice);
    }
    free(table);
}

/* Where a log can go, in whole pages. @return bytes */
static uint64_t find_places(const struct ws_kept *k, bool elsewhere, struct ws_run place[WS_LOG_PIECES],
                            size_t *count) {
    uint64_t all = 0;
    *count = spare_rows(k, k->memory.volume_at - keep_sooner(k) + keep_begin(k), place, WS_LOG_PIECES);
    if (elsewhere) rows_elsewhere(k, place, count);
    for (size_t i = 0; i < *count; i++) {
        const uint64_t end = place[i].at + place[i].length;
        place[i].at = ws_round_up(place[i].at, PAGE);
        place[i].length = end > place[i].at ? (end - place[i].at) / PAGE * PAGE : 0;
        all += place[i].length;
    }
    while (*count && !place[*count - 1].length) --*count;
    return all;
}

/* Ordinary volumes in which the log is to stand may have been used since: is it still free there? */
bool keep_log_as_it_was(const struct ws_kept *k) {
    struct ws_run place[WS_LOG_PIECES];
    size_t count;
    if (!k->log_elsewhere) return true;
    (void)find_places(k, true, place, &count);
    bool same = count == k->logs;
    for (size_t i = 0; same && i < count; i++)
        same = place[i].at == k->log[i].at && place[i].length == k->log[i].length;
    return same;
}

/* In one piece, its journal among what it has free. */
static bool in_the_volume(struct ws_kept *k, uint64_t needed) {
    uint64_t at, length;
    ws_ext4_spare(&k->geometry, &at, &length);
    at += k->memory.volume_at + keep_begin(k);
    const uint64_t from = ws_round_up(at, PAGE);
    if (length < from - at + needed) return false;
    k->log[0] = (struct ws_run){.at = from, .length = length - (from - at)};
    k->logs = 1;
    return true;
}

enum ws_status keep_place_log(struct ws_kept *k, struct ws_kept_cost *cost, struct ws_error *error) {
    const uint64_t needed = ws_change_log_bytes(k->layout);
    char has[32], needs[32];
    cost->written = ws_layout_bytes(k->layout) + needed;
    cost->free_after = k->way == KEEP_STAYS && k->geometry.anew ? k->facts.free_bytes : k->geometry.free_bytes;
    if (!keep_remade(k) && !k->taking && in_the_volume(k, needed)) return WS_OK;
    uint64_t all = find_places(k, false, k->log, &k->logs);
    k->log_elsewhere = all < needed && !k->resize && (k->renewed || !keep_remade(k));
    if (k->log_elsewhere) all = find_places(k, true, k->log, &k->logs);
    if (all >= needed) return WS_OK;
    ws_fail(error, WS_E_SPACE, "the change itself needs %s in a few pieces beside all files, and there are %s",
            ws_size_counted(needed, needs, sizeof needs), ws_size_counted(all, has, sizeof has));
    return ws_fail_next(error, k->renewed
                                   ? "free so much room, or more, on it: in what it remembers, or on a data volume, "
                                     "which has to be one that was ejected"
                                   : "make room first: reset it, or clean it");
}
