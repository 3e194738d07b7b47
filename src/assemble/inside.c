/* inside.c — a full system in one file: its root's volume stands in a file of an ordinary one. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

bool build_inside(const struct ws_plan *p) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, WS_ROLE_SYSTEM);
    const struct ws_volume *v = ws_plan_volume(p, WS_ROLE_SYSTEM);
    if (p->facts.kind == WS_KIND_RENEWAL) return v && v->inside != WS_ROLE_DRIVE; /* as it is */
    return p->facts.kind == WS_KIND_SYSTEM && w && w->place == WS_PLACE_FILE;
}

/* The format of the volume around it. */
static const struct ws_format *holder_of(const struct ws_plan *p) {
    const struct ws_format *format = NULL;
    if (p->facts.kind == WS_KIND_RENEWAL) return ws_format_find(ws_plan_volume(p, WS_ROLE_DATA)->format);
    return build_format(p, WS_ROLE_DATA, &format, NULL) == WS_OK ? format : NULL;
}

bool build_starts_from_data(const struct ws_plan *p) {
    const struct ws_format *holder = build_inside(p) ? holder_of(p) : NULL;
    return holder && holder->firmware;
}

/* What the volume around it takes for itself: tables, bitmap, start-up code. */
static uint64_t around(uint64_t size) { return size / 256 + 16ull * MIB; }

enum ws_status build_need_inside(struct ws_build *b, uint64_t least, struct build_need *need, size_t count,
                                 struct ws_error *error) {
    const struct ws_size asked = build_wanted_size(b->plan, WS_ROLE_SYSTEM);
    const uint64_t size = ws_max_u64(asked.kind == WS_SIZE_BYTES ? asked.bytes : 0, least);
    struct build_need *data = NULL;
    char has[48], needs[48];
    for (size_t i = 0; i < count; i++)
        if (need[i].role == WS_ROLE_DATA) data = &need[i];
    if (!data) {
        ws_fail(error, WS_E_USAGE, "the system is to be a file of the data volume, and none is wanted");
        return ws_fail_hint(error, WS_HINT_DATA, "rest", "leave its size to the plan");
    }
    if (size > build_file_most(data->format)) {
        ws_fail(error, WS_E_RANGE, "FAT32 ends a file at 4 GiB less one byte, and the system's would have %s",
                ws_size_both(size, needs, sizeof needs));
        return ws_fail_hint(error, WS_HINT_DATA_FORMAT, "exfat", "put it on exFAT, or in a partition of its own");
    }
    b->inside_least = least;
    data->least = ws_max_u64(data->least, ws_round_up(size + around(size), data->granule));
    if (data->size.kind != WS_SIZE_BYTES || data->size.bytes >= data->least) return WS_OK;
    ws_fail(error, WS_E_SPACE, "a data partition of %s is asked for, and with the system's file it needs %s",
            ws_size_both(data->size.bytes, has, sizeof has), ws_size_both(data->least, needs, sizeof needs));
    return ws_fail_hint(error, WS_HINT_DATA, "rest", "ask for more, or leave its size to the plan");
}

enum ws_status build_reserve_inside(struct ws_build *b, uint64_t room, struct ws_error *error) {
    const struct ws_size asked = build_wanted_size(b->plan, WS_ROLE_SYSTEM);
    struct ws_volume *v = plan_volume(b->plan, WS_ROLE_SYSTEM);
    const struct ws_format *holder = ws_format_find(plan_volume(b->plan, WS_ROLE_DATA)->format);
    const uint64_t least = b->inside_least;
    uint64_t limit = ws_min_u64(room / PAGE * PAGE, build_file_most(holder));
    uint64_t size = asked.kind == WS_SIZE_BYTES   ? ws_round_up(asked.bytes, PAGE)
                    : asked.kind == WS_SIZE_REST  ? limit
                    : asked.kind == WS_SIZE_LEAST ? least
                                                  : ws_min_u64(least + least / 4 + 1024ull * MIB, limit);
    if (size > limit || size < least)
        return build_does_not_fit(error, b->plan, b->plan->drive.size + ws_max_u64(size, least) - limit);
    v->size = size;
    return build_reserve_file(b, WS_ROLE_DATA, WS_INSIDE_FILE, size, error);
}

enum ws_status build_settle_inside(const struct ws_build *b, struct ws_settling *s, struct ws_error *error) {
    struct ws_guid id;
    if (!build_inside(b->plan)) return WS_OK;
    WS_TRY(build_volume_id(b->plan, WS_ROLE_DATA, &id, error));
    ws_serial_name(ws_load_le32(id.byte), s->host_id);
    s->host_type = build_starts_from_data(b->plan) ? "vfat" : "exfat";
    if (build_starts_from_data(b->plan)) s->start_id[0] = '\0'; /* one volume is both */
    return WS_OK;
}

void build_note_inside(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    if (!build_inside(p)) return;
    plan_chose(p, "place", "in one file",
               "/" WS_INSIDE_FILE " on an ordinary %s volume; a small program finds it there at each start",
               build_starts_from_data(p) ? "FAT32" : "exFAT");
    plan_chose(p, "in use", "/media/drive", "where the running system shows the other files of that volume");
    struct ws_chain chain;
    if (ws_chain_find(b->tree[WS_ROLE_SYSTEM], &chain))
        ws_findings_add(
            &p->findings, WS_NOTE,
            "the root brings signed loaders, which start it from a partition, not out of a file: where Secure "
            "Boot stays on, give it a partition");
}
