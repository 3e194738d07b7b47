/* move.c — what is remembered, moved between a partition of its own and a file of a data volume. */
#include "base/bytes.h"
#include "keep/internal.h"
#include "system/on_drive.h"
#include "wild_satchel/medium.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MIB = 1 << 20, PAGE = 4096 };

static enum ws_status refuse(struct ws_error *error, const char *what, const char *next) {
    ws_fail(error, WS_E_UNSUPPORTED, "what is remembered cannot be moved here: %s", what);
    return ws_fail_next(error, "%s", next);
}

/* Those that begin behind the end of something, up to what follows it. */
static struct ws_run free_behind(const struct ws_table *t, const struct ws_partition *list[], size_t count,
                                 uint64_t begin) {
    uint64_t first, end;
    ws_table_free_tail(t, &first, &end);
    begin = ws_round_up(begin, MIB);
    for (size_t i = 0; i < count; i++) {
        if (list[i]->at <= begin && begin < list[i]->at + list[i]->length) return (struct ws_run){.at = begin};
        if (list[i]->at > begin) end = ws_min_u64(end, list[i]->at);
    }
    return (struct ws_run){.at = begin, .length = end > begin ? (end - begin) / MIB * MIB : 0};
}

/* The longest place of the drive where nothing is, behind an image that was laid down whole. */
static struct ws_run free_place(const struct ws_kept *k, const struct ws_table *t) {
    const struct ws_partition *list[4 + WS_PARTITIONS_MOST];
    struct ws_medium medium = {0};
    struct ws_run best = {0};
    size_t count = 0;
    uint64_t floor = 0;
    if (ws_medium_open(k->drive, t, &medium, NULL) == WS_OK) {
        if (medium.iso) floor = ws_iso_facts(medium.iso)->size;
        ws_medium_close(&medium);
    }
    for (size_t i = 0; i < t->mbr_count; i++)
        if (t->mbr[i].mbr_type != 0xee) list[count++] = &t->mbr[i];
    for (size_t i = 0; i < t->gpt_count; i++) list[count++] = &t->gpt[i];
    for (size_t i = 0; i < count; i++) {
        const struct ws_run one = free_behind(t, list, count, ws_max_u64(floor, list[i]->at + list[i]->length));
        if (one.length > best.length) best = one;
    }
    return best;
}

/* Does the system's menu find it there as well? */
static enum ws_status check_menu(const struct ws_kept *k, bool into_file, const char *label, struct ws_error *error) {
    char wanted[512], missing[64];
    ws_live_parameters(k->memory.family, into_file ? label : NULL, wanted, sizeof wanted);
    if (ws_parameters_are_set(k->memory.parameters, wanted, missing, sizeof missing)) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED,
            "the start menu says where it is kept, and would have to say otherwise: it has no %s", missing);
    return ws_fail_next(error, "save it, prepare the drive anew with %s, and put it back",
                        into_file ? "a file" : "a partition");
}

static enum ws_status may_move(const struct ws_kept *k, bool into_file, struct ws_error *error) {
    const struct ws_live_family *f = k->memory.family;
    WS_TRY(keep_still_as_it_is(k, error));
    if (k->memory.system) return refuse(error, "it is a full system", "copy it to a drive that is arranged so");
    if (k->memory.in_file == into_file) {
        ws_fail(error, WS_E_USAGE, "it is kept in a %s already", into_file ? "file" : "partition");
        return ws_fail_next(error, "give it another size, if that is meant");
    }
    if (k->lock)
        return refuse(error, "it is locked, and a file of it would not be opened",
                      "save it, prepare the drive as it is wanted, and put it back");
    if (into_file && !f->overlay_file)
        return refuse(error, "its family of live systems is not known to remember in a file", "leave it where it is");
    return WS_OK;
}

/* The volume's room with a file of that name: what it could take, if it is one that takes any. */
static enum ws_status look_at_holder(const struct ws_kept *k, const struct ws_partition *p, struct keep_taking *t,
                                     struct ws_error *error) {
    t->place = *p;
    WS_TRY(ws_source_slice(k->drive, p->at, p->length, &t->slice, error));
    t->room = (struct ws_room){
        .volume = t->slice, .at = p->at, .put_name = k->memory.family->overlay_file, .put_length = WS_EXT4_LEAST};
    return ws_make_room(&t->room, NULL, error);
}

/* A volume of FAT or exFAT on which the system would look for the file: the one with the longest free row. */
static enum ws_status find_holder(const struct ws_kept *k, const struct ws_table *table, struct keep_taking *found,
                                  struct ws_error *error) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(table, list);
    const uint64_t medium_at = on_drive_medium_at(k->drive, table);
    struct ws_error why = {0}, inner;
    for (size_t i = 0; i < count; i++) {
        struct keep_taking one = {.gives = true};
        if (!ws_inside(list[i]->at, list[i]->length, k->drive->size) || on_drive_is_for_firmware(list[i])) continue;
        if (list[i]->at == medium_at && !k->memory.family->overlay_beside) continue;
        const enum ws_status status = look_at_holder(k, list[i], &one, &inner);
        if (status != WS_OK && status != WS_E_NOTFOUND && why.status == WS_OK) why = inner;
        const bool better = status == WS_OK && (!found->slice || one.room.row > found->room.row);
        ws_source_close(better ? found->slice : one.slice);
        if (better) *found = one;
    }
    if (found->slice) return WS_OK;
    if (why.status != WS_OK) {
        *error = why;
        return why.status;
    }
    return refuse(error, "no volume of FAT or exFAT is here on which the system would look for a file",
                  "save it, prepare the drive anew with a data volume, and put it back");
}

static void tell_data(const struct keep_taking *t, struct ws_moving *told) {
    told->data_size = t->place.length - t->room.front;
    told->data_free = t->room.free_after;
    (void)snprintf(told->data_format, sizeof told->data_format, "%s", t->room.format);
    ws_visible(t->room.label, told->data_label, sizeof told->data_label);
}

static enum ws_status move_into_file(struct ws_kept *k, const struct ws_table *table, uint64_t size,
                                     struct ws_moving *told, struct ws_error *error) {
    struct keep_taking *t = k->taking;
    char a[48], b[48];
    WS_TRY(find_holder(k, table, t, error));
    WS_TRY(check_menu(k, true, t->room.label, error));
    told->most = t->room.row / PAGE * PAGE;
    if (t->room.replaced) {
        ws_fail(error, WS_E_REFUSED, "a file of that name is on its volume already: %s", t->room.put_name);
        return ws_fail_next(error, "look what it is; give it another name, or take it away");
    }
    if (size > told->most) {
        ws_fail(error, WS_E_SPACE, "the volume that would hold it has room for a file of %s in one piece, not of %s",
                ws_size_both(told->most, a, sizeof a), ws_size_both(size, b, sizeof b));
        return ws_fail_next(error, "give it a smaller size, or take something off that volume");
    }
    t->room.put_length = told->size = size;
    WS_TRY(ws_make_room(&t->room, NULL, error));
    told->at = t->place.at + t->room.put_place;
    k->way = KEEP_AWAY;
    k->to = (struct ws_run){.at = told->at, .length = size};
    (void)snprintf(told->name, sizeof told->name, "%s", t->room.put_name);
    return WS_OK;
}

/* Its bytes stay, and the data volume begins behind them: what stood before them moves further back. */
static enum ws_status part_in_place(struct ws_kept *k, struct ws_moving *told, struct ws_error *error) {
    struct keep_taking *t = k->taking;
    char a[48];
    if (strcmp(k->facts.label, k->memory.family->label) != 0)
        return refuse(error, "its volume in the file has another label than the system looks for",
                      "make room on the drive behind its last partition, to which it can be copied");
    t->room.front = ws_round_up(t->room.file_at + k->memory.volume_size, t->room.step);
    const enum ws_status status = ws_make_room(&t->room, NULL, error);
    if (status == WS_E_RANGE || status == WS_E_SPACE) {
        ws_fail(error, WS_E_SPACE,
                "neither the drive has free room for a partition, nor its data volume for what would "
                "have to make way");
        return ws_fail_next(error,
                            "take something off that volume, which has %s free; or save it, prepare the drive anew "
                            "with a partition, and put it back",
                            ws_size_both(t->room.free_bytes, a, sizeof a));
    }
    WS_TRY(status);
    told->at = k->memory.volume_at;
    told->size = k->memory.volume_size / k->sector * k->sector;
    told->stays = true;
    k->way = KEEP_STAYS;
    k->to = (struct ws_run){.at = told->at, .length = told->size};
    return WS_OK;
}

static enum ws_status move_into_partition(struct ws_kept *k, const struct ws_table *table, uint64_t size, bool sized,
                                          struct ws_moving *told, struct ws_error *error) {
    const struct ws_run place = free_place(k, table);
    struct keep_taking *t = NULL;
    char a[48], b[48];
    WS_TRY(check_menu(k, false, "", error));
    WS_TRY(keep_in_file(k, 0, &t, error));
    keep_taking_close(k->taking);
    k->taking = t;
    t->room.file_goes = true;
    told->most = place.length;
    if (place.length >= size) {
        WS_TRY(ws_make_room(&t->room, NULL, error));
        told->at = place.at;
        told->size = size;
        k->way = KEEP_AWAY;
        k->to = (struct ws_run){.at = told->at, .length = size};
        return WS_OK;
    }
    if (!sized) return part_in_place(k, told, error);
    ws_fail(error, WS_E_SPACE, "the drive has %s free in a row, not %s", ws_size_both(place.length, a, sizeof a),
            ws_size_both(size, b, sizeof b));
    return ws_fail_next(error,
                        "leave the size out: then it stays where it is, and can grow into its data volume later");
}

static enum ws_status plan_move(struct ws_kept *k, bool into_file, uint64_t size, struct ws_moving *told,
                                struct ws_error *error) {
    const uint64_t wanted = size ? size / MIB * MIB : k->memory.volume_size / PAGE * PAGE;
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = table ? keep_table(k, table, error) : ws_fail(error, WS_E_NOMEM, "out of memory");
    if (status == WS_OK && table->logical_count)
        status =
            refuse(error, "the drive has an extended partition", "save it, prepare the drive anew, and put it back");
    if (status == WS_OK)
        status = into_file ? move_into_file(k, table, wanted, told, error)
                           : move_into_partition(k, table, wanted, size != 0, told, error);
    free(table);
    return status;
}

enum ws_status ws_kept_move(struct ws_kept *k, bool into_file, uint64_t size, struct ws_moving *told,
                            struct ws_error *error) {
    memset(told, 0, sizeof *told);
    told->into_file = into_file;
    WS_TRY(may_move(k, into_file, error));
    if (size && size < WS_EXT4_LEAST) {
        ws_fail(error, WS_E_RANGE, "it needs at least %u MiB", (unsigned)(WS_EXT4_LEAST / MIB));
        return ws_fail_next(error, "ask for that, or leave the size as it is");
    }
    if (!(k->taking = calloc(1, sizeof *k->taking))) return ws_fail(error, WS_E_NOMEM, "out of memory for a move");
    const enum ws_status status = plan_move(k, into_file, size, told, error);
    if (status != WS_OK) { /* it may be tried otherwise */
        keep_taking_close(k->taking);
        k->taking = NULL;
        return status;
    }
    k->moves = true;
    k->into_file = into_file;
    tell_data(k->taking, told);
    return WS_OK;
}

enum ws_status keep_table_moved(const struct ws_kept *k, struct ws_table *table, struct ws_error *error) {
    struct ws_guid id;
    unsigned number;
    if (k->into_file) {
        if (ws_table_remove(table, k->memory.volume_at)) return WS_OK;
        return ws_fail(error, WS_E_NOTFOUND, "the partition is not in the table any more");
    }
    WS_TRY(keep_table_taken(k, table, error));
    WS_TRY(ws_guid_derive(&k->facts.id, "partition", &id, error));
    const enum ws_status status =
        ws_table_add(table, k->to.at, k->to.length, "linux", &id, k->memory.family->label, &number, error);
    if (status == WS_E_SPACE) ws_fail_next(error, "save it, prepare the drive anew with a partition, and put it back");
    return status;
}

/* Rows where the volume that is left behind has nothing, and its journal. */
size_t keep_rows_left(const struct ws_kept *k, struct ws_run *row, size_t most) {
    size_t count = ws_ext4_spare_rows(&k->before, row, most - 1);
    struct ws_run journal;
    ws_ext4_spare(&k->before, &journal.at, &journal.length);
    for (size_t i = 0; i < count; i++)
        if (journal.at < row[i].at + row[i].length && row[i].at < journal.at + journal.length) return count;
    if (journal.length) row[count++] = journal;
    return count;
}
