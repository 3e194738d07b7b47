/* leave.c — a copy of the passport on the drive itself, where people find it. */
#include "base/bytes.h"
#include "system/on_drive.h"
#include "wild_satchel/format.h"
#include "wild_satchel/passport.h"
#include "wild_satchel/room.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PAGE = 4096 };

struct leaving {
    struct ws_source *now;
    struct ws_drive_facts facts;
    struct ws_table *table;
    struct ws_source *slice;
    struct ws_room room;
};

/* Volumes as people see them: their own first, then those that the system shares with them. @return NULL: no more */
static const struct ws_partition *next_shown(const struct ws_source *drive, const struct ws_table *table, size_t *i) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(table, list);
    const uint64_t medium_at = on_drive_medium_at(drive, table);
    while (*i < 2 * count) {
        const bool shared = *i >= count;
        const struct ws_partition *p = list[shared ? *i - count : *i];
        (*i)++;
        if (!ws_inside(p->at, p->length, drive->size) || on_drive_is_for_firmware(p)) continue;
        if ((p->at == medium_at) == shared) return p;
    }
    return NULL;
}

/* The first volume that takes it. */
static enum ws_status find_volume(struct leaving *l, struct ws_passport_place *place, struct ws_error *error) {
    const struct ws_partition *p;
    enum ws_status status = WS_E_NOTFOUND;
    for (size_t i = 0; status == WS_E_NOTFOUND && (p = next_shown(l->now, l->table, &i));) {
        WS_TRY(ws_source_slice(l->now, p->at, p->length, &l->slice, error));
        l->room.volume = l->slice;
        l->room.at = p->at;
        status = ws_make_room(&l->room, NULL, error);
        if (status == WS_E_NOTFOUND) {
            ws_source_close(l->slice);
            l->slice = NULL;
            continue;
        }
        place->number = p->number;
        (void)snprintf(place->format, sizeof place->format, "%s", l->room.format);
        ws_visible(l->room.label, place->label, sizeof place->label);
        place->replaced = l->room.replaced;
        place->made_at = l->room.put_at;
    }
    if (status != WS_E_NOTFOUND) return status;
    ws_fail(error, status, "no volume of this drive is one that every PC shows (FAT, exFAT)");
    return ws_fail_next(error, "keep the page beside it, or print it");
}

static enum ws_status carry_out(struct leaving *l, struct ws_port *port, struct ws_drive *drive, uint64_t *written,
                                struct ws_error *error) {
    struct ws_layout *layout = NULL;
    struct ws_write_result result;
    struct ws_check_result seen = {0};
    const struct ws_check_options look = {.scope = WS_CHECK_ALL};
    const struct ws_write_options options = {0};
    uint8_t first[PAGE];
    enum ws_status status;
    WS_GO(ws_layout_create(l->now->size, &layout, error));
    WS_GO(ws_make_room(&l->room, layout, error));
    WS_GO(ws_source_read(l->now, 0, first, l->facts.logical_sector, error)); /* it comes last, as it is */
    WS_GO(ws_layout_add_bytes(layout, 0, first, l->facts.logical_sector, WS_PHASE_SEAL, error));
    WS_GO(ws_layout_seal(layout, error));
    struct ws_run log = l->room.spare[0];
    const uint64_t at = l->room.spares ? ws_round_up(l->room.at + log.at, PAGE) : 0;
    const uint64_t end = l->room.spares ? l->room.at + log.at + log.length : 0;
    log = (struct ws_run){.at = at, .length = end > at ? (end - at) / PAGE * PAGE : 0};
    if (log.length < ws_change_log_bytes(layout)) {
        ws_fail(error, WS_E_SPACE, "the volume is too full for the change itself");
        WS_GO(ws_fail_next(error, "take something off it first"));
    }
    WS_GO(ws_change_in(port, layout, &log, 1, drive, &options, &result, error));
    *written = result.written;
    WS_GO(ws_check(port, layout, drive, &look, &seen, error));
    if (!seen.equal) {
        ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written");
        status = ws_fail_next(error, "save what is on this drive: it loses data");
    }
done:
    ws_layout_close(layout);
    return status;
}

enum ws_status ws_passport_leave(struct ws_port *port, struct ws_drive *drive, const char *page, size_t length,
                                 const char *confirm, bool allow_external_disk, struct ws_passport_place *place,
                                 struct ws_error *error) {
    struct leaving l = {
        .room = {
            .put_name = WS_PASSPORT_NAME, .put = page, .put_length = length, .put_at = port->ops->wall_clock(port)}};
    const struct ws_target_rules rules = {allow_external_disk};
    enum ws_status status;
    memset(place, 0, sizeof *place);
    WS_TRY(drive->ops->describe(drive, &l.facts, error));
    ws_drive_call(&l.facts, confirm);
    WS_TRY(ws_drive_may_be_target(port, &l.facts, &rules, error));
    WS_TRY(ws_drive_confirmed(&l.facts, confirm, error));
    WS_GO(ws_source_drive(drive, &l.now, error));
    l.table = malloc(sizeof *l.table);
    if (!l.table) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a partition table"));
    WS_GO(ws_table_read(l.now, l.facts.logical_sector, l.table, NULL, error));
    WS_GO(find_volume(&l, place, error));
    status = carry_out(&l, port, drive, &place->written, error);
done:
    ws_source_close(l.slice);
    free(l.table);
    ws_source_close(l.now);
    return status;
}

/* Is it at the top of this volume? One that cannot be read has none that people could find. */
static bool lies_there(const struct ws_source *volume, struct ws_passport_place *place) {
    struct ws_volume_facts facts;
    struct ws_tree *tree = NULL;
    const struct ws_format *format = ws_format_of(volume, &facts);
    if (!format || !format->everywhere || format->read(volume, &tree, &facts, NULL) != WS_OK) return false;
    const struct ws_node *node = ws_tree_find_any_case(tree, WS_PASSPORT_NAME);
    const bool there = node && node->kind == WS_NODE_FILE;
    if (there) {
        (void)snprintf(place->format, sizeof place->format, "%s", format->word);
        ws_visible(facts.label, place->label, sizeof place->label);
        place->made_at = node->mtime;
    }
    ws_tree_close(tree);
    return there;
}

enum ws_status ws_passport_find(const struct ws_source *drive, uint32_t sector, struct ws_passport_place *place,
                                struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    const struct ws_partition *p = NULL;
    bool found = false;
    memset(place, 0, sizeof *place);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = ws_table_read(drive, sector, table, NULL, error);
    for (size_t i = 0; status == WS_OK && !found && (p = next_shown(drive, table, &i));) {
        struct ws_source *slice = NULL;
        status = ws_source_slice(drive, p->at, p->length, &slice, error);
        found = status == WS_OK && lies_there(slice, place);
        ws_source_close(slice);
    }
    if (found) place->number = p->number;
    else if (status == WS_OK) status = ws_fail(error, WS_E_NOTFOUND, "no copy of a passport is on it");
    free(table);
    return status;
}
