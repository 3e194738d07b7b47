/* change.c — an edit of what is remembered, worked out over the volume in use. */
#include "base/bytes.h"
#include "fs/again.h"
#include "fs/archive/write.h"
#include "keep/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PAGE = 4096 };

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

/* The tables of the drive with the volume's new length. */
static enum ws_status put_table(struct ws_kept *k, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = keep_table(k, table, error);
    if (status == WS_OK && k->moves) status = keep_table_moved(k, table, error);
    else if (status == WS_OK && k->taking) status = keep_table_taken(k, table, error);
    if (status == WS_OK && !k->moves && !keep_sooner(k))
        status = ws_table_set_length(table, k->memory.volume_at, k->resize, error);
    if (status == WS_OK) status = ws_table_compose(table, k->layout, error);
    free(table);
    return status;
}

/* It, locked or not, into a layout of the drive. */
static enum ws_status compose_over(struct ws_kept *k, struct ws_layout *layout, struct ws_error *error) {
    const uint64_t room = k->resize ? k->resize - keep_begin(k) : 0;
    if (!k->lock) return ws_ext4_compose(&k->geometry, k->to.at, layout, WS_PHASE_SEAL, error);
    WS_TRY(ws_layout_create(ws_max_u64(k->volume->size / PAGE * PAGE, room), &k->open_layout, error));
    WS_TRY(ws_ext4_compose(&k->geometry, 0, k->open_layout, WS_PHASE_SEAL, error));
    return lock_up(k, layout, k->to.at + keep_begin(k), error);
}

/* Farther back, behind its header where it is locked. */
static enum ws_status compose_later(struct ws_kept *k, struct ws_layout *layout, struct ws_error *error) {
    if (!k->lock) return ws_ext4_compose(&k->geometry, k->to.at, layout, WS_PHASE_SEAL, error);
    WS_TRY(ws_layout_create(k->to.length, &k->open_layout, error));
    WS_TRY(ws_ext4_compose(&k->geometry, 0, k->open_layout, WS_PHASE_SEAL, error));
    WS_TRY(lock_up(k, layout, k->to.at + keep_begin(k), error));
    return ws_layout_add(layout, k->to.at, ws_lock_head_bytes(k->lock), k->slice, 0, WS_PHASE_SEAL, error);
}

/* All of it goes over something, in whole blocks. */
static enum ws_status put_later(struct ws_kept *k, struct ws_error *error) {
    uint64_t done = 0;
    WS_TRY(ws_layout_create(k->drive->size, &k->moved, error));
    WS_TRY(compose_later(k, k->moved, error));
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

/* With room that others give, which make way. */
static enum ws_status put_over_taken(struct ws_kept *k, struct ws_error *error) {
    WS_TRY(ws_layout_create(k->drive->size, &k->moved, error));
    WS_TRY(compose_over(k, k->moved, error));
    WS_TRY(ws_layout_seal(k->moved, error));
    return keep_put_taken(k, k->moved, error);
}

/* The volume's part of the layout, and what makes way for it. */
static enum ws_status put_volume(struct ws_kept *k, struct ws_error *error) {
    switch (k->way) {
    case KEEP_STAYS: break;
    case KEEP_AWAY: WS_TRY(ws_ext4_compose(&k->geometry, k->to.at, k->layout, WS_PHASE_BODY, error)); break;
    case KEEP_LATER: return put_later(k, error);
    case KEEP_OVER: return k->taking && !k->renewed ? put_over_taken(k, error) : compose_over(k, k->layout, error);
    }
    return k->moves ? keep_put_taken(k, NULL, error) : WS_OK;
}

/* Made anew elsewhere: the same volume, of another size. */
static enum ws_status make_elsewhere(struct ws_kept *k, struct ws_ext4_params *params, struct ws_error *error) {
    struct ws_ext4_params over = *params;
    struct ws_tree *tree = k->fresh ? k->fresh : k->tree;
    enum ws_status status = ws_ext4_measure(&over, tree, &k->before, error); /* where it has nothing now */
    over.over_gone = true;
    if (status == WS_E_SPACE && k->moves) status = ws_ext4_measure(&over, tree, &k->before, error);
    if (!k->moves) WS_TRY(status); /* else there may be other places for the log */
    *params = (struct ws_ext4_params){.size = k->to.length,
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
    if (status == WS_E_SPACE && !keep_remade(k) && !k->resize && !k->renewed) {
        const struct ws_error kept = *error; /* full: then over what goes, all of it through the log */
        params->over_gone = true;
        status = ws_ext4_measure(params, tree, &k->geometry, error);
        if (status != WS_OK) *error = kept;
    }
    if (k->way == KEEP_STAYS && status != WS_OK &&
        status != WS_E_NOMEM) { /* then its room is not for the log, that is all */
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
    struct fs_again again = {.format = ws_format_find("ext4"),
                             .layout = k->layout,
                             .at = k->to.at,
                             .size = k->to.length,
                             .base = k->drive,
                             .base_at = k->to.at,
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
                                    .resize = k->resize && !keep_sooner(k) ? k->resize - keep_begin(k) : 0,
                                    .sooner = keep_sooner(k),
                                    .grow_to = WS_EXT4_MOST};
    struct ws_kept_cost own;
    uint8_t first[PAGE];
    if (k->layout) return ws_fail(error, WS_E_USAGE, "this edit was worked out already");
    params.mounts = k->anew ? 0 : (uint16_t)k->facts.mounts;
    if (keep_remade(k)) WS_TRY(make_elsewhere(k, &params, error));
    if (k->moves) k->taking->room.put_at = now;
    WS_TRY(measure(k, &params, error));
    WS_TRY(ws_layout_create(k->drive->size, &k->layout, error));
    WS_TRY(put_volume(k, error));
    if (k->renewed) {
        WS_TRY(keep_put_renewed(k, error));
    } else if (k->moves || (k->resize && !k->memory.in_file)) {
        WS_TRY(put_table(k, error));
    } else {
        WS_TRY(ws_source_read(k->drive, 0, first, k->sector, error)); /* it comes last, as it is */
        WS_TRY(ws_layout_add_bytes(k->layout, 0, first, k->sector, WS_PHASE_SEAL, error));
    }
    WS_TRY(ws_layout_seal(k->layout, error));
    if (k->way != KEEP_STAYS) WS_TRY(look_again(k, error));
    if (k->laid) WS_TRY(keep_laid_look_again(k, error));
    WS_TRY(keep_place_log(k, cost ? cost : &own, error));
    return keep_hash_marks(k, k->drive, k->marks, error);
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
