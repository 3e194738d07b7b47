/* in_front.c — room taken from the data volume before the one that remembers: it loses its end, and the other begins
 * there. */
#include "base/bytes.h"
#include "keep/internal.h"

#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20 };

/* The partition that ends last of those before it. @return NULL if none does, or one reaches into it */
static const struct ws_partition *next_before(const struct ws_table *table, uint64_t at) {
    const struct ws_partition *list[WS_VOLUME_PLACES], *found = NULL;
    const size_t count = ws_table_volumes(table, list);
    for (size_t i = 0; i < count; i++) {
        if (list[i]->at < at && list[i]->at + list[i]->length > at) return NULL;
        if (list[i]->at < at && (!found || list[i]->at + list[i]->length > found->at + found->length)) found = list[i];
    }
    return found;
}

static enum ws_status look(struct ws_kept *k, struct keep_taking *t, const struct ws_table *table,
                           struct ws_error *error) {
    const struct ws_partition *own = keep_partition_of(table, k->memory.volume_at);
    const struct ws_partition *p = next_before(table, k->memory.volume_at);
    if (table->logical_count || !own || own->at != k->memory.volume_at)
        return keep_gives_nothing(error, "in front of", "it is no partition by itself");
    if (!p) return keep_gives_nothing(error, "in front of", "nothing stands there");
    const bool medium = on_drive_medium_at(k->drive, table) == p->at; /* on a GPT that is for firmware, too */
    if (!medium && on_drive_is_for_firmware(p))
        return keep_gives_nothing(error, "in front of", "what stands there is for firmware");
    t->place = *p;
    WS_TRY(ws_source_slice(k->drive, p->at, p->length, &t->slice, error));
    t->room = (struct ws_room){.volume = t->slice, .at = p->at, .of_back = true};
    const enum ws_status status = ws_make_room(&t->room, NULL, error);
    if (status == WS_E_NOTFOUND)
        return keep_gives_nothing(error, "in front of", "what stands there is no data volume of FAT, exFAT or ext4");
    WS_TRY(status);
    if (medium && strcmp(t->room.format, "ext4") == 0) /* which is made anew */
        return keep_gives_nothing(error, "in front of", "the live system's own files stand there, on ext4");
    /* What starts a system may know by number where its files are. */
    const uint64_t most = medium ? ws_min_u64(t->room.tail, t->room.back_most) : t->room.back_most;
    const uint64_t could_end = p->at + t->room.size - most;
    t->begin = k->memory.volume_at - (k->memory.volume_at - could_end) / MIB * MIB;
    return t->begin < k->memory.volume_at ? WS_OK
                                          : keep_gives_nothing(error, "in front of", "it has nothing free at its end");
}

enum ws_status keep_in_front(struct ws_kept *k, struct keep_taking **out, struct ws_error *error) {
    if (k->memory.in_file)
        return keep_gives_nothing(error, "in front of", "it lies in a file, which takes its volume's own");
    if (k->memory.system)
        return keep_gives_nothing(error, "in front of", "a full system's volume stays where it begins");
    if (k->lock) return keep_gives_nothing(error, "in front of", "what is locked stays where it begins");
    struct keep_taking *t = calloc(1, sizeof *t);
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = WS_E_NOMEM;
    if (!t || !table) ws_fail(error, status, "out of memory for what stands in front");
    else status = keep_table(k, table, error);
    if (status == WS_OK) status = look(k, t, table, error);
    free(table);
    if (status == WS_OK) {
        t->gives = t->in_front = true;
        *out = t;
    } else {
        keep_taking_close(t);
    }
    return status;
}

enum ws_phase keep_phase_in_front(const struct keep_taking *t, uint64_t at, uint64_t *length, enum ws_phase phase) {
    const uint64_t volume_end = t->place.at + t->room.size;
    if (at >= volume_end) return phase;
    for (size_t i = 0; i < t->room.givens; i++) {
        const uint64_t from = t->place.at + t->room.given[i].at, end = from + t->room.given[i].length;
        if (at >= from && at < end) {
            *length = ws_min_u64(*length, end - at);
            return phase;
        }
        if (at < from) *length = ws_min_u64(*length, from - at);
    }
    *length = ws_min_u64(*length, volume_end - at);
    return WS_PHASE_SEAL;
}
