/* make_way.c — a newer image is larger: what stands behind the older one makes way. The volume that remembers is made
 * anew further back, and smaller; a data volume loses its front, and a file in it that remembers loses its own. */
#include "base/bytes.h"
#include "keep/internal.h"

#include <stdlib.h>

enum { MIB = 1 << 20 };

static enum ws_status anew(struct ws_error *error) {
    return ws_fail_next(
        error,
        "save what it remembers (that takes all of it), prepare the drive with the newer image, and put it back");
}

static enum ws_status no_room(struct ws_error *error, uint64_t image_end, uint64_t first) {
    char a[32], b[32];
    ws_fail(error, WS_E_SPACE, "the newer image reaches to %s, and what stands behind the older one begins at %s",
            ws_size_counted(image_end, a, sizeof a), ws_size_counted(first, b, sizeof b));
    return anew(error);
}

/* The volume that remembers begins so much later, and ends where it does. */
static enum ws_status begin_later(struct ws_kept *k, uint64_t bytes, struct ws_error *error) {
    if (bytes + WS_EXT4_LEAST > k->facts.size) {
        ws_fail(error, WS_E_SPACE, "the newer image takes all the room of what is remembered");
        return anew(error);
    }
    k->way = KEEP_LATER;
    k->to = (struct ws_run){.at = k->memory.volume_at + bytes, .length = k->facts.size - bytes};
    return WS_OK;
}

/* @param begin  byte of the drive from which on it may be */
static enum ws_status give_front(struct keep_taking *t, uint64_t begin, struct ws_error *error) {
    WS_TRY(ws_make_room(&t->room, NULL, error));
    t->room.front = ws_round_up(begin - t->place.at, t->room.step);
    return ws_make_room(&t->room, NULL, error);
}

static enum ws_status data_gives(struct ws_kept *k, const struct ws_partition *p, uint64_t image_end,
                                 struct ws_error *error) {
    struct keep_taking *t = calloc(1, sizeof *t);
    if (!t) return ws_fail(error, WS_E_NOMEM, "out of memory for what stands behind");
    t->place = *p;
    t->gives = true;
    enum ws_status status = ws_source_slice(k->drive, p->at, p->length, &t->slice, error);
    t->room = (struct ws_room){.volume = t->slice, .at = p->at};
    if (k->memory.in_file && k->memory.volume_at - p->at < p->length && k->memory.volume_at > p->at) {
        t->room.file_at = k->memory.volume_at - p->at;
        t->room.file_later = true;
    }
    if (status == WS_OK) status = give_front(t, ws_round_up(image_end, MIB), error);
    const uint64_t later = t->room.file_at ? t->room.file_begins - t->room.file_at : 0;
    if (status == WS_OK && later) status = begin_later(k, later, error);
    if (status == WS_OK) {
        k->taking = t;
        return WS_OK;
    }
    keep_taking_close(t);
    return status == WS_E_NOTFOUND || status == WS_E_RANGE ? no_room(error, image_end, p->at) : status;
}

enum ws_status keep_make_way(struct ws_kept *k, const struct ws_partition *first, uint64_t image_end,
                             struct ws_error *error) {
    if (!first || image_end <= first->at) return WS_OK;
    if (first->at == k->memory.volume_at && !k->memory.in_file)
        return begin_later(k, ws_round_up(image_end, MIB) - first->at, error);
    if (on_drive_is_for_firmware(first)) return no_room(error, image_end, first->at);
    return data_gives(k, first, image_end, error);
}

uint64_t keep_begins_now(const struct ws_kept *k, const struct ws_partition *p) {
    if (k->taking && k->taking->place.at == p->at) return p->at + k->taking->room.front;
    return k->way == KEEP_LATER && p->at == k->memory.volume_at ? k->to.at : p->at;
}
