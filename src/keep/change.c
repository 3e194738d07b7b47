/* change.c — an edit of what is remembered, worked out over the volume in use and carried out through a log. */
#include "base/bytes.h"
#include "fs/again.h"
#include "fs/archive/write.h"
#include "keep/internal.h"
#include "source/rows.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MARK = 65536, PAGE = 4096 };

/* Bytes of its place before the volume: the header of its lock. */
static uint64_t begin_of(const struct ws_kept *k) { return k->lock ? ws_lock_begin(k->lock) : 0; }

/* Bytes by which it begins sooner. */
static uint64_t sooner_of(const struct ws_kept *k) {
    return k->taking && k->taking->in_front ? k->memory.volume_at - k->taking->begin : 0;
}

/* What changes when somebody uses the drive: its first sector, and the superblock of the volume. */
static enum ws_status hash_marks(const struct ws_kept *k, const struct ws_source *drive, char hex[WS_HASH_HEX],
                                 struct ws_error *error) {
    struct ws_hash *hash = NULL;
    uint8_t *mark = malloc(MARK);
    enum ws_status status = mark ? ws_hash_open(WS_HASH_SHA256, &hash, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for a drive's state");
    const uint64_t at[] = {0, k->memory.volume_at, k->memory.volume_at + begin_of(k)};
    for (size_t i = 0; i < sizeof at / sizeof at[0] && status == WS_OK; i++) {
        const size_t length = (size_t)ws_min_u64(i ? MARK : PAGE, drive->size - at[i]);
        status = ws_source_read(drive, at[i], mark, length, error);
        if (status == WS_OK) ws_hash_add(hash, mark, length);
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    free(mark);
    return status;
}

/* Enciphered with the key that is there, for byte `at` of the drive: the header stays as it is. */
static enum ws_status lock_up(struct ws_kept *k, struct ws_layout *layout, uint64_t at, struct ws_error *error) {
    const struct ws_guid none = {{0}}; /* the header is not written */
    WS_TRY(ws_layout_seal(k->open_layout, error));
    WS_TRY(ws_layout_source(k->open_layout, &k->open, error));
    WS_TRY(ws_lock_create(k->open, &none, "", &k->relock, error));
    WS_TRY(ws_lock_take_key(k->relock, k->lock, error));
    for (size_t i = 0; i < ws_layout_count(k->open_layout); i++) {
        const struct ws_extent *e = ws_layout_extent(k->open_layout, i);
        if ((e->at | e->length) % WS_LOCK_SECTOR)
            return ws_fail(error, WS_E_RANGE, "a part of the locked volume is no whole number of sectors");
        WS_TRY(ws_layout_add(layout, at + e->at, e->length, ws_lock_body(k->relock), e->at, e->phase, error));
    }
    return WS_OK;
}

/* Rows of the drive where the volume has nothing, before and after; of one that is made anew further back, both. */
static size_t spare_rows(const struct ws_kept *k, uint64_t begin, struct ws_run *row, size_t most) {
    enum { ROWS = 64 };
    struct ws_run now[ROWS], later[ROWS];
    const bool leaves = k->moves && k->moves_to, over = k->moves_to && !leaves;
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
            const uint64_t there = later[j].at + k->moves_to + begin_of(k), from = ws_max_u64(at, there),
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
    *count = spare_rows(k, k->memory.volume_at - sooner_of(k) + begin_of(k), place, WS_LOG_PIECES);
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
static bool places_as_they_were(const struct ws_kept *k) {
    struct ws_run place[WS_LOG_PIECES];
    size_t count;
    if (!k->log_elsewhere) return true;
    (void)find_places(k, true, place, &count);
    bool same = count == k->logs;
    for (size_t i = 0; same && i < count; i++)
        same = place[i].at == k->log[i].at && place[i].length == k->log[i].length;
    return same;
}

static enum ws_status place_log(struct ws_kept *k, struct ws_kept_cost *cost, struct ws_error *error) {
    const uint64_t needed = ws_change_log_bytes(k->layout);
    const uint64_t volume = k->memory.volume_at + begin_of(k);
    uint64_t at, length, all;
    char has[32], needs[32];
    cost->written = ws_layout_bytes(k->layout) + needed;
    cost->free_after = k->untouched && k->geometry.anew ? k->facts.free_bytes : k->geometry.free_bytes;
    ws_ext4_spare(&k->geometry, &at, &length); /* the journal among it */
    if (k->taking) length = 0;                 /* that may be where the neighbour is */
    if (!k->moves_to) k->log[0] = (struct ws_run){.at = ws_round_up(volume + at, PAGE), .length = length};
    if (!k->moves_to && length >= k->log[0].at - (volume + at) + needed) {
        k->log[0].length -= k->log[0].at - (volume + at);
        k->logs = 1;
        return WS_OK;
    }
    all = find_places(k, false, k->log, &k->logs);
    k->log_elsewhere = all < needed && !k->resize && (k->renewed || !k->moves_to);
    if (k->log_elsewhere) all = find_places(k, true, k->log, &k->logs);
    if (all >= needed) return WS_OK;
    ws_fail(error, WS_E_SPACE, "the change itself needs %s in a few pieces beside all files, and there are %s",
            ws_size_counted(needed, needs, sizeof needs), ws_size_counted(all, has, sizeof has));
    return ws_fail_next(error, k->renewed
                                   ? "free so much room, or more, on it: in what it remembers, or on a data volume, "
                                     "which has to be one that was ejected"
                                   : "make room first: reset it, or clean it");
}

/* A drive that was copied to a larger one has its second table where the smaller one ended. */
enum ws_status keep_table(const struct ws_kept *k, struct ws_table *table, struct ws_error *error) {
    WS_TRY(ws_table_read(k->drive, k->sector, table, NULL, error));
    const bool ends_early = table->kind >= WS_TABLE_GPT && table->backup_lba + 1 < k->drive->size / k->sector;
    return ends_early ? ws_table_resize(table, k->drive->size, error) : WS_OK;
}

/* The tables of the drive with the volume's new length. */
static enum ws_status put_table(struct ws_kept *k, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = keep_table(k, table, error);
    if (status == WS_OK && k->moves) status = keep_table_moved(k, table, error);
    else if (status == WS_OK && k->taking) status = keep_table_taken(k, table, error);
    if (status == WS_OK && !k->moves && !sooner_of(k))
        status = ws_table_set_length(table, k->memory.volume_at, k->resize, error);
    if (status == WS_OK) status = ws_table_compose(table, k->layout, error);
    free(table);
    return status;
}

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
    *least = *most = k->facts.size + begin_of(k);
    /* Locked, it is all behind the header, or else the lock itself is of another length than its place. */
    const uint64_t begin = begin_of(k);
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
    k->resize = size;
    return WS_OK;
}

/* It, locked or not, into a layout of the drive. */
static enum ws_status compose_over(struct ws_kept *k, struct ws_layout *layout, struct ws_error *error) {
    const uint64_t room = k->resize ? k->resize - begin_of(k) : 0;
    if (!k->lock)
        return ws_ext4_compose(&k->geometry, k->memory.volume_at - sooner_of(k), layout, WS_PHASE_SEAL, error);
    WS_TRY(ws_layout_create(ws_max_u64(k->volume->size, room), &k->open_layout, error));
    WS_TRY(ws_ext4_compose(&k->geometry, 0, k->open_layout, WS_PHASE_SEAL, error));
    return lock_up(k, layout, k->memory.volume_at + begin_of(k), error);
}

/* Further back, behind its header where it is locked. */
static enum ws_status compose_further(struct ws_kept *k, struct ws_layout *layout, struct ws_error *error) {
    if (!k->lock) return ws_ext4_compose(&k->geometry, k->moves_to, layout, WS_PHASE_SEAL, error);
    WS_TRY(ws_layout_create(k->moves_size, &k->open_layout, error));
    WS_TRY(ws_ext4_compose(&k->geometry, 0, k->open_layout, WS_PHASE_SEAL, error));
    WS_TRY(lock_up(k, layout, k->moves_to + begin_of(k), error));
    return ws_layout_add(layout, k->moves_to, ws_lock_head(k->relock)->size, k->slice, 0, WS_PHASE_SEAL, error);
}

/* The volume's part of the layout; made anew, all of it goes over something, in whole blocks. */
static enum ws_status compose_whole(struct ws_kept *k, struct ws_error *error) {
    uint64_t done = 0;
    if (k->moves) { /* to where nothing is */
        if (k->moves_to) WS_TRY(ws_ext4_compose(&k->geometry, k->moves_to, k->layout, WS_PHASE_BODY, error));
        return keep_put_taken(k, NULL, error);
    }
    if (k->taking && !k->renewed) {
        WS_TRY(ws_layout_create(k->drive->size, &k->moved, error));
        WS_TRY(compose_over(k, k->moved, error));
        WS_TRY(ws_layout_seal(k->moved, error));
        return keep_put_taken(k, k->moved, error);
    }
    if (!k->moves_to) return compose_over(k, k->layout, error);
    WS_TRY(ws_layout_create(k->drive->size, &k->moved, error));
    WS_TRY(compose_further(k, k->moved, error));
    WS_TRY(ws_layout_seal(k->moved, error));
    WS_TRY(ws_layout_source(k->moved, &k->moved_view, error));
    for (size_t i = 0; i < ws_layout_count(k->moved); i++) {
        const struct ws_extent *e = ws_layout_extent(k->moved, i);
        const uint64_t at = ws_max_u64(e->at / PAGE * PAGE, done);
        done = ws_max_u64(ws_round_up(e->at + e->length, PAGE), done);
        WS_TRY(ws_layout_add(k->layout, at, done - at, k->moved_view, at, WS_PHASE_SEAL, error));
    }
    return WS_OK;
}

/* Made anew elsewhere: the same volume, of another size. */
static enum ws_status make_elsewhere(struct ws_kept *k, struct ws_ext4_params *params, struct ws_error *error) {
    struct ws_ext4_params over = *params;
    struct ws_tree *tree = k->fresh ? k->fresh : k->tree;
    enum ws_status status = ws_ext4_measure(&over, tree, &k->before, error); /* where it has nothing now */
    over.over_gone = true;
    if (status == WS_E_SPACE && k->moves) status = ws_ext4_measure(&over, tree, &k->before, error);
    if (!k->moves) WS_TRY(status); /* else there may be other places for the log */
    *params = (struct ws_ext4_params){.size = k->moves_size,
                                      .id = k->facts.id,
                                      .seed = k->facts.id,
                                      .made_at = params->made_at,
                                      .mounts = params->mounts,
                                      .grow_to = WS_EXT4_MOST};
    memcpy(params->label, k->facts.label, sizeof params->label);
    if (k->moves) (void)snprintf(params->label, sizeof params->label, "%s", k->memory.family->label);
    return archive_digest_of(tree, k->content, error);
}

/* Where its volume goes, or how it is made over itself. */
static enum ws_status measure(struct ws_kept *k, struct ws_ext4_params *params, struct ws_error *error) {
    struct ws_tree *tree = k->fresh ? k->fresh : k->tree;
    enum ws_status status = ws_ext4_measure(params, tree, &k->geometry, error);
    if (status == WS_E_SPACE && !k->resize && !k->moves_to && !k->renewed) {
        const struct ws_error kept = *error; /* full: then over what goes, all of it through the log */
        params->over_gone = true;
        status = ws_ext4_measure(params, tree, &k->geometry, error);
        if (status != WS_OK) *error = kept;
    }
    if (k->untouched && status != WS_OK && status != WS_E_NOMEM) { /* then its room is not for the log, that is all */
        k->geometry = (struct ws_ext4_geometry){.free_bytes = k->facts.free_bytes};
        return WS_OK;
    }
    if (status == WS_E_SPACE && !error->next[0])
        ws_fail_next(error, k->moves ? "give it a larger size than that"
                                     : "make room first: until the new state is whole, both are on the drive");
    return status;
}

/* Does the volume, as it was worked out, hold what it is to? */
static enum ws_status look_again(const struct ws_kept *k, struct ws_error *error) {
    const uint64_t at = k->moves_to ? k->moves_to : k->memory.volume_at - sooner_of(k);
    const uint64_t whole = k->moves_to ? k->moves_size : k->resize ? k->resize : k->memory.volume_size;
    struct fs_again again = {.format = ws_format_find("ext4"),
                             .layout = k->layout,
                             .at = at,
                             .size = whole,
                             .base = k->drive,
                             .base_at = at,
                             .wanted = k->fresh ? k->fresh : k->tree,
                             .free_bytes = &k->geometry.free_bytes,
                             .how = {.more = 1}};
    if (k->lock) {
        again.layout = k->open_layout;
        again.base = k->volume;
        again.at = again.base_at = 0;
        again.size = ws_layout_size(k->open_layout);
    }
    return fs_look_again(&again, error);
}

enum ws_status ws_kept_prepare(struct ws_kept *k, int64_t now, struct ws_kept_cost *cost, struct ws_error *error) {
    struct ws_ext4_params params = {.made_at = k->anew || k->facts.made_at <= 0 ? now : k->facts.made_at,
                                    .over = k->volume,
                                    .resize = k->resize && !sooner_of(k) ? k->resize - begin_of(k) : 0,
                                    .sooner = sooner_of(k),
                                    .grow_to = WS_EXT4_MOST};
    struct ws_kept_cost own;
    uint8_t first[PAGE];
    if (k->layout) return ws_fail(error, WS_E_USAGE, "this edit was worked out already");
    params.mounts = k->anew ? 0 : (uint16_t)k->facts.mounts;
    if (k->moves_to) WS_TRY(make_elsewhere(k, &params, error));
    if (k->moves) k->taking->room.put_at = now;
    WS_TRY(measure(k, &params, error));
    WS_TRY(ws_layout_create(k->drive->size, &k->layout, error));
    if (k->untouched && !k->moves) {
        /* the log alone goes there, where it has nothing */
    } else {
        WS_TRY(compose_whole(k, error));
    }
    if (k->renewed) {
        WS_TRY(keep_put_renewed(k, error));
    } else if (k->moves || (k->resize && !k->memory.in_file)) {
        WS_TRY(put_table(k, error));
    } else {
        WS_TRY(ws_source_read(k->drive, 0, first, k->sector, error)); /* it comes last, as it is */
        WS_TRY(ws_layout_add_bytes(k->layout, 0, first, k->sector, WS_PHASE_SEAL, error));
    }
    WS_TRY(ws_layout_seal(k->layout, error));
    if (k->moves ? k->moves_to != 0 : !k->untouched) WS_TRY(look_again(k, error));
    if (k->laid) WS_TRY(keep_laid_look_again(k, error));
    WS_TRY(place_log(k, cost ? cost : &own, error));
    return hash_marks(k, k->drive, k->marks, error);
}

bool ws_kept_fits_alone(struct ws_kept *k) {
    struct ws_ext4_params params = {.size = k->facts.size, .grow_to = WS_EXT4_MOST, .made_at = k->facts.made_at};
    struct ws_ext4_geometry g;
    struct ws_error ignored;
    if (!k->fresh || ws_tree_count(k->fresh) + 16 > k->facts.inodes) return false;
    if (ws_ext4_measure(&params, k->fresh, &g, &ignored) != WS_OK) return false;
    const bool fits = g.free_bytes >= k->facts.size / 64; /* its own structures may be a little larger */
    ws_ext4_geometry_free(&g);
    return fits;
}

static enum ws_status check_target(const struct ws_kept *k, struct ws_port *port, struct ws_drive *drive,
                                   const struct ws_kept_options *options, struct ws_error *error) {
    struct ws_drive_facts facts;
    struct ws_source *now = NULL;
    const struct ws_target_rules rules = {options->allow_external_disk};
    char marks[WS_HASH_HEX] = "";
    WS_TRY(drive->ops->describe(drive, &facts, error));
    ws_drive_call(&facts, options->confirm);
    WS_TRY(ws_drive_may_be_target(port, &facts, &rules, error));
    WS_TRY(ws_drive_confirmed(&facts, options->confirm, error));
    WS_TRY(ws_source_drive(drive, &now, error));
    enum ws_status status = hash_marks(k, now, marks, error);
    const bool other = status == WS_OK && (strcmp(marks, k->marks) != 0 || !places_as_they_were(k));
    if (status == WS_OK && !other) status = keep_taken_as_it_was(k, now, error);
    ws_source_close(now);
    if (status != WS_E_DIFFERENT) WS_TRY(status);
    if (status == WS_OK && !other) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "the drive was used a moment ago");
    ws_fail_where(error, "%s", facts.short_name);
    return ws_fail_next(error, "do it again from the beginning; nothing was written");
}

/* Of a volume that was made anew: does it hold what the other one did? */
static enum ws_status same_content(const struct ws_kept *k, struct ws_drive *drive, struct ws_error *error) {
    struct ws_source *now = NULL, *slice = NULL;
    struct ws_tree *tree = NULL;
    char content[WS_HASH_HEX] = "";
    enum ws_status status;
    WS_GO(ws_source_drive(drive, &now, error));
    WS_GO(ws_source_slice(now, k->moves_to, k->moves_size, &slice, error));
    WS_GO(ws_ext4_read(slice, &tree, NULL, error));
    WS_GO(archive_digest_of(tree, content, error));
    if (strcmp(content, k->content) != 0) {
        ws_fail(error, WS_E_DIFFERENT, "what is remembered does not read back as it was");
        status = ws_fail_next(error, "save what is on this drive: it loses data");
    }
done:
    ws_tree_close(tree);
    ws_source_close(slice);
    ws_source_close(now);
    return status;
}

/* All that is written, as it is meant, or as a drive has it. */
static enum ws_status hash_written(const struct ws_kept *k, const struct ws_source *drive, char hex[WS_HASH_HEX],
                                   struct ws_error *error) {
    enum { STEP = 1 << 20 };
    struct ws_hash *hash = NULL;
    uint8_t *bytes = malloc(STEP);
    enum ws_status status =
        bytes ? ws_hash_open(WS_HASH_SHA256, &hash, error) : ws_fail(error, WS_E_NOMEM, "out of memory for comparing");
    for (size_t i = 0; status == WS_OK && i < ws_layout_count(k->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(k->layout, i);
        for (uint64_t done = 0; done < e->length;) {
            const size_t n = (size_t)ws_min_u64(STEP, e->length - done);
            WS_GO(ws_source_read(drive ? drive : e->from, (drive ? e->at : e->from_at) + done, bytes, n, error));
            ws_hash_add(hash, bytes, n);
            done += n;
        }
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
done:
    ws_hash_close(hash);
    free(bytes);
    return status;
}

/* What others put on a volume, or the header of a lock, came from places that are written over by now. */
static enum ws_status same_as_meant(const struct ws_kept *k, struct ws_drive *drive, const char *meant,
                                    struct ws_error *error) {
    struct ws_source *now = NULL;
    char is[WS_HASH_HEX] = "";
    WS_TRY(ws_source_drive(drive, &now, error));
    const enum ws_status status = hash_written(k, now, is, error);
    ws_source_close(now);
    WS_TRY(status);
    if (strcmp(is, meant) == 0) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written");
    return ws_fail_next(error, "save what is on this drive: it loses data");
}

enum ws_status ws_kept_carry_out(struct ws_kept *k, struct ws_port *port, struct ws_drive *drive,
                                 const struct ws_kept_options *options, struct ws_write_result *result,
                                 struct ws_error *error) {
    struct ws_write_options w = {.on_progress = options->on_progress, .context = options->context};
    const struct ws_check_options look = {.on_progress = options->on_progress, .context = options->context};
    struct ws_check_result seen = {0};
    char meant[WS_HASH_HEX];
    memset(result, 0, sizeof *result);
    if (!k->layout) return ws_fail(error, WS_E_USAGE, "no edit of what is remembered was worked out");
    WS_TRY(check_target(k, port, drive, options, error));
    const bool over = k->laid || (k->lock && k->moves_to && !k->moves) || sooner_of(k) || (k->taking && k->renewed) ||
                      (k->geometry.anew && !k->untouched);
    if (over) WS_TRY(hash_written(k, NULL, meant, error));
    WS_TRY(ws_change_in(port, k->layout, k->log, k->logs, drive, &w, result, error));
    if (over) WS_TRY(same_as_meant(k, drive, meant, error));
    if (k->moves_to && !k->lock) return same_content(k, drive, error); /* where it came from is written over by now */
    if (over) return WS_OK;
    struct ws_layout *lasting = NULL;
    enum ws_status status = keep_lasting(k, &lasting, error);
    if (status == WS_OK) status = ws_check(port, lasting, drive, &look, &seen, error);
    ws_layout_close(lasting);
    WS_TRY(status);
    if (seen.equal) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "what reads back at byte %llu is not what was written",
            (unsigned long long)seen.different_at);
    return ws_fail_next(error, "save what is on this drive: it loses data");
}
