/* neighbour.c — room taken from what stands beside the volume that remembers: swap behind it moves on, a data volume
 * loses its front, or its end. */
#include "base/bytes.h"
#include "keep/internal.h"
#include "system/on_drive.h"
#include "wild_satchel/format.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20, PAGE = 4096 };

enum ws_status keep_gives_nothing(struct ws_error *error, const char *side, const char *what) {
    ws_fail(error, WS_E_UNSUPPORTED, "nothing %s what is remembered can give room: %s", side, what);
    return ws_fail_next(error, "save it, build the drive with the size that is wanted, and put it back");
}

static enum ws_status refuse(struct ws_error *error, const char *what) {
    return keep_gives_nothing(error, "behind", what);
}

/* The next thing that the tables place from byte `from` on, the live system's own volume among them. */
static const struct ws_partition *next_behind(const struct ws_table *table, uint64_t from) {
    const struct ws_partition *list[WS_VOLUME_PLACES], *found = NULL;
    const size_t count = ws_table_volumes(table, list);
    for (size_t i = 0; i < count; i++)
        if (list[i]->at >= from && (!found || list[i]->at < found->at)) found = list[i];
    return found;
}

static enum ws_status take_swap(struct keep_taking *t, const struct ws_kept *k, const struct ws_partition *p,
                                struct ws_error *error) {
    char page[PAGE];
    if (t->swaps == sizeof t->swap / sizeof t->swap[0]) return refuse(error, "there are too many swap areas");
    WS_TRY(ws_source_read(k->drive, p->at, page, sizeof page, error));
    if (memcmp(page + PAGE - 10, "SWAPSPACE2", 10) != 0) return refuse(error, "a computer sleeps in its swap area");
    t->swap[t->swaps++] = (struct ws_run){.at = p->at, .length = p->length};
    return WS_OK;
}

/* What follows, up to a data volume or to what stays where it is. */
static enum ws_status look(struct ws_kept *k, struct keep_taking *t, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = table ? keep_table(k, table, error) : ws_fail(error, WS_E_NOMEM, "out of memory");
    const uint64_t medium_at = status == WS_OK && !k->memory.system ? on_drive_medium_at(k->drive, table) : UINT64_MAX;
    uint64_t from = k->memory.volume_at + 1;
    while (status == WS_OK && !t->slice) {
        const struct ws_partition *p = next_behind(table, from);
        struct ws_volume_facts facts;
        struct ws_source *slice = NULL;
        if (!p) break;
        t->any = true;
        from = p->at + 1;
        t->end = p->at;
        if (p->at + p->length > k->drive->size || table->logical_count || p->at == medium_at ||
            on_drive_is_for_firmware(p))
            break;
        status = ws_source_slice(k->drive, p->at, p->length, &slice, error);
        if (status != WS_OK) break;
        const struct ws_format *format = ws_format_of(slice, &facts);
        if (format && strcmp(format->word, "swap") == 0) {
            status = take_swap(t, k, p, error);
            ws_source_close(slice);
            continue;
        }
        t->slice = slice;
        t->place = *p;
        t->room = (struct ws_room){.volume = slice, .at = p->at};
        status = ws_make_room(&t->room, NULL, error);
        t->gives = status == WS_OK;
        if (status == WS_E_NOTFOUND || (status == WS_E_UNSUPPORTED && t->swaps)) status = WS_OK; /* it stays */
    }
    if (status == WS_OK && !t->slice && !next_behind(table, from)) { /* swap alone, and free space behind it */
        uint64_t first;
        ws_table_free_tail(table, &first, &t->end);
    }
    free(table);
    return status;
}

/* The volume in which the file that remembers lies. */
static enum ws_status look_around(const struct ws_kept *k, struct keep_taking *t, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = table ? keep_table(k, table, error) : ws_fail(error, WS_E_NOMEM, "out of memory");
    const struct ws_partition *p = status == WS_OK ? keep_partition_of(table, k->memory.volume_at) : NULL;
    if (p) t->place = *p;
    if (status == WS_OK && !p)
        status = ws_fail(error, WS_E_NOTFOUND, "the file lies in no partition that the table has");
    if (status == WS_OK) status = ws_source_slice(k->drive, t->place.at, t->place.length, &t->slice, error);
    free(table);
    WS_TRY(status);
    t->gives = true;
    t->room = (struct ws_room){
        .volume = t->slice, .at = t->place.at, .file_at = k->memory.volume_at - t->place.at, .file_length = t->file};
    return ws_make_room(&t->room, NULL, error);
}

enum ws_status keep_in_file(const struct ws_kept *k, uint64_t length, struct keep_taking **out,
                            struct ws_error *error) {
    struct keep_taking *t = calloc(1, sizeof *t);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for what lies around it");
    t->file = length;
    const enum ws_status status = look_around(k, t, error);
    if (status == WS_OK) *out = t;
    else keep_taking_close(t);
    return status;
}

static uint64_t swap_bytes(const struct keep_taking *t) {
    uint64_t bytes = 0;
    for (size_t i = 0; i < t->swaps; i++) bytes += ws_round_up(t->swap[i].length, MIB);
    return bytes;
}

void keep_taking_close(struct keep_taking *t) {
    if (t) ws_source_close(t->slice);
    free(t);
}

static enum ws_status begin(struct ws_kept *k, struct keep_taking **out, struct ws_error *error) {
    uint64_t least, most;
    WS_TRY(ws_kept_bounds(k, &least, &most, error));
    if (k->memory.in_file) return refuse(error, "it lies in a file, which takes its volume's own");
    struct keep_taking *t = calloc(1, sizeof *t);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for what stands behind");
    enum ws_status status = look(k, t, error);
    if (status == WS_OK && !t->gives && !t->swaps)
        status = refuse(error, t->any ? "what stands there is no data volume of FAT, exFAT or ext4, and no swap"
                                      : "nothing stands there");
    if (status == WS_OK) *out = t;
    else keep_taking_close(t);
    return status;
}

/* Bytes of the volume with all that can be taken. */
static uint64_t most_of(const struct ws_kept *k, const struct keep_taking *t) {
    if (t->in_front) return k->memory.volume_size + (k->memory.volume_at - t->begin);
    const uint64_t end = (t->gives ? t->place.at + t->room.most : t->end) / MIB * MIB;
    const uint64_t in_front = k->memory.volume_at + swap_bytes(t);
    return ws_max_u64(end > in_front ? (end - in_front) / MIB * MIB : 0, k->memory.volume_size);
}

/* What stands behind, if that has as much as is wanted; else whatever has more. */
static enum ws_status choose(struct ws_kept *k, uint64_t size, struct keep_taking **out, struct ws_error *error) {
    struct keep_taking *behind = NULL, *front = NULL;
    struct ws_error why = {0};
    const enum ws_status status = begin(k, &behind, error);
    *out = behind;
    if (status == WS_OK && size && size <= most_of(k, behind)) return WS_OK;
    if (status != WS_OK && status != WS_E_UNSUPPORTED && status != WS_E_REFUSED) return status;
    if (keep_in_front(k, &front, &why) != WS_OK) {
        const struct ws_error kept = *error;
        if (status != WS_E_UNSUPPORTED) return status;
        *error = why; /* it could, but for its state */
        if (why.status == WS_E_REFUSED) return why.status;
        *error = kept;
        ws_fail(error, status, "%s; %s", kept.what, why.what);
        return ws_fail_next(error, "%s", kept.next);
    }
    const bool better = !behind || most_of(k, front) > most_of(k, behind);
    *out = better ? front : behind;
    keep_taking_close(better ? behind : front);
    return WS_OK;
}

static void tell(const struct keep_taking *t, uint64_t size, uint64_t free_bytes, struct ws_neighbour *n) {
    n->in_front = t->in_front;
    n->at = t->place.at;
    n->size = size;
    n->free_bytes = free_bytes;
    (void)snprintf(n->format, sizeof n->format, "%s", t->room.format);
    ws_visible(t->room.label, n->label, sizeof n->label);
}

void keep_tell_neighbour(const struct keep_taking *t, struct ws_neighbour *n) {
    tell(t, t->room.size - t->room.front - t->room.back, t->room.free_after, n);
    n->at = t->place.at + t->room.front;
}

enum ws_status ws_kept_neighbour(struct ws_kept *k, uint64_t size, struct ws_neighbour *n, struct ws_error *error) {
    struct keep_taking *t = NULL;
    memset(n, 0, sizeof *n);
    WS_TRY(choose(k, size, &t, error));
    n->most = most_of(k, t);
    n->swap = swap_bytes(t);
    if (t->gives) tell(t, t->room.size, t->room.free_bytes, n);
    keep_taking_close(t);
    return WS_OK;
}

/* What has to go of what stands there, for a volume of so many bytes. */
static void place(struct ws_kept *k, struct keep_taking *t, uint64_t size) {
    uint64_t end = k->memory.volume_at + size;
    if (t->in_front) {
        t->begin = k->memory.volume_at + k->memory.volume_size - size;
        const uint64_t was_end = t->place.at + t->room.size;
        t->room.back = was_end > t->begin ? ws_round_up(was_end - t->begin, t->room.step) : 0;
        t->gives = t->room.back != 0; /* else what is free in between is enough */
        return;
    }
    for (size_t i = 0; i < t->swaps; i++) {
        t->swap_to[i] = ws_max_u64(t->swap[i].at, ws_round_up(end, MIB));
        end = t->swap_to[i] + t->swap[i].length;
    }
    if (t->gives && end > t->place.at) t->room.front = ws_round_up(end - t->place.at, t->room.step);
    else t->gives = false;
}

enum ws_status ws_kept_grow_into(struct ws_kept *k, uint64_t size, struct ws_neighbour *after, struct ws_error *error) {
    struct keep_taking *t = NULL;
    char a[48];
    WS_TRY(keep_still_as_it_is(k, error));
    size = size / MIB * MIB;
    WS_TRY(choose(k, size, &t, error));
    const uint64_t most = most_of(k, t);
    if (size <= k->memory.volume_size || size > most) {
        keep_taking_close(t);
        ws_fail(error, WS_E_RANGE, "its volume can be up to %s here, with all that can be taken",
                ws_size_both(most, a, sizeof a));
        return ws_fail_next(error, "ask for a size from what it has up to that");
    }
    k->taking = t;
    place(k, t, size);
    k->resize = k->to.length = size;
    if (t->in_front) k->to.at = t->begin;
    memset(after, 0, sizeof *after);
    if (!t->gives) return WS_OK;
    WS_TRY(ws_make_room(&t->room, NULL, error));
    keep_tell_neighbour(t, after);
    return WS_OK;
}

/* The volume's own part is laid over files of its neighbour: what would be its body there is sealed, too. */
static enum ws_status put_volume(struct ws_kept *k, struct ws_layout *volume, struct ws_error *error) {
    const uint64_t begin = k->memory.volume_at;
    const uint64_t end = begin + k->memory.volume_size / PAGE * PAGE; /* a file may end anywhere */
    for (size_t i = 0; i < ws_layout_count(volume); i++) {
        const struct ws_extent *e = ws_layout_extent(volume, i);
        for (uint64_t done = 0, step; done < e->length; done += step) {
            const uint64_t at = e->at + done;
            enum ws_phase phase = at < end ? e->phase : WS_PHASE_SEAL;
            step = ws_min_u64(e->length - done, at < begin ? begin - at : at < end ? end - at : UINT64_MAX);
            if (at < begin) phase = keep_phase_in_front(k->taking, at, &step, phase);
            WS_TRY(ws_layout_add(k->layout, at, step, e->from, e->from_at + done, phase, error));
        }
    }
    return WS_OK;
}

enum ws_status keep_put_taken(struct ws_kept *k, struct ws_layout *volume, struct ws_error *error) {
    struct keep_taking *t = k->taking;
    char page[PAGE];
    if (volume) WS_TRY(put_volume(k, volume, error));
    for (size_t i = 0; i < t->swaps; i++) { /* nobody uses it: what is in it is of no start any more */
        if (t->swap_to[i] == t->swap[i].at) continue;
        WS_TRY(ws_source_read(k->drive, t->swap[i].at, page, sizeof page, error));
        WS_TRY(ws_layout_add_bytes(k->layout, t->swap_to[i], page, sizeof page, WS_PHASE_SEAL, error));
    }
    return t->gives ? ws_make_room(&t->room, k->layout, error) : WS_OK;
}

enum ws_status keep_table_taken(const struct ws_kept *k, struct ws_table *table, struct ws_error *error) {
    const struct keep_taking *t = k->taking;
    struct ws_partition place = {0};
    bool done = true;
    if (t->in_front) {
        place.at = t->begin;
        place.length = k->memory.volume_at + k->memory.volume_size - t->begin;
        if (t->place.at + t->place.length > t->begin)
            WS_TRY(ws_table_set_length(table, t->place.at, t->begin - t->place.at, error));
        done = ws_table_stand_in(table, k->memory.volume_at, &place);
    } else if (t->gives && t->room.front) { /* else it stays as long as it is */
        place.at = t->place.at + t->room.front;
        place.length = t->place.length - t->room.front;
        done = ws_table_stand_in(table, t->place.at, &place);
    }
    for (size_t i = t->swaps; i > 0 && done; i--) {
        place.at = t->swap_to[i - 1];
        place.length = t->swap[i - 1].length;
        done = place.at == t->swap[i - 1].at || ws_table_stand_in(table, t->swap[i - 1].at, &place);
    }
    return done ? WS_OK : ws_fail(error, WS_E_RANGE, "the partition table has no place for what moves");
}

/* What it was read from may be another thing's by now. */
static bool has_moved(const struct keep_taking *t, const struct ws_extent *e) {
    const bool inside = t->gives && !t->room.file_at && e->at >= t->place.at + t->room.front;
    return e->from == t->slice || (inside && e->phase == WS_PHASE_BODY && e->at < t->place.at + t->place.length);
}

enum ws_status keep_lasting(const struct ws_kept *k, struct ws_layout **out, struct ws_error *error) {
    WS_TRY(ws_layout_create(ws_layout_size(k->layout), out, error));
    for (size_t i = 0; i < ws_layout_count(k->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(k->layout, i);
        if (k->taking && has_moved(k->taking, e)) continue;
        WS_TRY(ws_layout_add(*out, e->at, e->length, e->from, e->from_at, e->phase, error));
    }
    return ws_layout_seal(*out, error);
}

enum ws_status keep_taken_as_it_was(const struct ws_kept *k, const struct ws_source *now, struct ws_error *error) {
    const struct keep_taking *t = k->taking;
    struct ws_source *slice = NULL;
    if (!t || !t->gives) return WS_OK;
    struct ws_room again = t->room;
    WS_TRY(ws_source_slice(now, t->place.at, t->place.length, &slice, error));
    again.volume = slice;
    enum ws_status status = ws_make_room(&again, NULL, error);
    ws_source_close(slice);
    WS_TRY(status);
    return strcmp(again.state, t->room.state) == 0 ? WS_OK : WS_E_DIFFERENT;
}
