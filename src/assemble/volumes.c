/* volumes.c — the volumes of a drive: needed, placed, composed one after another. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

static enum ws_status check_size(const struct ws_build *b, const struct build_need *n, struct ws_error *error) {
    if (n->size.kind != WS_SIZE_BYTES || n->size.bytes >= n->least) return WS_OK;
    uint64_t usual = n->format->least(512, 0);
    return ws_fail(error, WS_E_USAGE, "a %s partition%s needs at least %u MiB", ws_role_name(n->role),
                   n->least == usual               ? ""
                   : build_locks(b->plan, n->role) ? ", locked,"
                   : b->plan->drive.sector > 512   ? " on a drive with sectors of this size"
                                                   : " with an overlay file",
                   (unsigned)(n->least / MIB));
}

static enum ws_status add_need(struct ws_build *b, enum ws_role role, struct ws_size size, struct build_need *need,
                               size_t *count, struct ws_error *error) {
    struct build_need *n = &need[*count];
    const struct ws_format *f;
    if (size.kind == WS_SIZE_NONE) return WS_OK;
    WS_TRY(build_format(b->plan, role, &f, error));
    uint64_t least = f->least(b->plan->drive.sector, build_holds(b, role) ? PAGE : 0);
    if (build_locks(b->plan, role)) least += WS_LOCK_HEAD;
    if (size.kind == WS_SIZE_LEAST) size = ws_size_of(least);
    *n = (struct build_need){.role = role,
                             .format = f,
                             .size = size,
                             .least = least,
                             .most = role == WS_ROLE_PERSISTENCE ? f->most : UINT64_MAX,
                             .granule = b->plan->facts.align,
                             .type = f->type,
                             .name = build_roles[role].name};
    ++*count;
    return check_size(b, n, error);
}

enum ws_status build_need_start(struct ws_build *b, uint64_t least, struct build_need *need, struct ws_error *error) {
    const struct ws_format *f;
    WS_TRY(build_format(b->plan, WS_ROLE_START, &f, error));
    WS_TRY(build_make_start(b, error));
    least = ws_max_u64(least, f->least(b->plan->drive.sector, 0));
    *need = (struct build_need){.role = WS_ROLE_START,
                                .format = f,
                                .size = ws_size_of(least),
                                .least = least,
                                .granule = PAGE,
                                .type = f->type_start,
                                .name = build_roles[WS_ROLE_START].name};
    return WS_OK;
}

enum ws_status build_add_needs(struct ws_build *b, struct build_need *need, size_t *count, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    struct ws_size persistence = build_wanted_size(p, WS_ROLE_PERSISTENCE);
    struct ws_size data = build_wanted_size(p, WS_ROLE_DATA);
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    if (persistence.kind == WS_SIZE_USUAL) persistence.kind = WS_SIZE_REST;
    if (!b->remembers || b->in_file) persistence.kind = WS_SIZE_NONE;
    if (data.kind == WS_SIZE_USUAL) data.kind = build_holds(b, WS_ROLE_DATA) ? WS_SIZE_REST : WS_SIZE_NONE;
    if (swap.kind == WS_SIZE_USUAL) swap.kind = WS_SIZE_NONE;
    const struct ws_wanted *w = ws_request_wanted(&p->request, WS_ROLE_DATA);
    if (w && data.kind == WS_SIZE_NONE && (w->label[0] || w->cluster || w->format[0])) {
        ws_fail(error, WS_E_USAGE, "a data partition is described, and none is asked for");
        return ws_fail_next(error, "say how large it is to be, or \"rest\"");
    }
    if (data.kind == WS_SIZE_REST && persistence.kind == WS_SIZE_REST) {
        ws_fail(error, WS_E_USAGE, "persistence and data cannot both take all that is left");
        return ws_fail_hint(error, WS_HINT_SIZES, "", "say how large one of them is to be");
    }
    if (swap.kind == WS_SIZE_REST) return ws_fail(error, WS_E_USAGE, "swap takes so many bytes, not the rest");
    WS_TRY(add_need(b, WS_ROLE_PERSISTENCE, persistence, need, count, error));
    WS_TRY(add_need(b, WS_ROLE_DATA, data, need, count, error));
    return add_need(b, WS_ROLE_SWAP, swap, need, count, error);
}

/* Made to fit its volume's format; what became of it is told. */
static enum ws_status take_label(struct ws_build *b, struct ws_volume *v, struct ws_error *error) {
    char said[160];
    char what[24];
    WS_TRY(build_label(b, v->role, v->label, said, error));
    (void)snprintf(what, sizeof what, "%s label", ws_role_name(v->role));
    if (said[0]) plan_chose(b->plan, what, v->label, "%s", said);
    return WS_OK;
}

static enum ws_status enter(struct ws_build *b, const struct build_need *n, struct ws_volume *v,
                            struct ws_error *error) {
    struct ws_guid id;
    const char *name = n->role == WS_ROLE_SYSTEM                                   ? b->plan->facts.title
                       : n->role == WS_ROLE_PERSISTENCE || n->role == WS_ROLE_DATA ? v->label
                                                                                   : n->name;
    WS_TRY(ws_guid_derive(&b->plan->facts.id, build_roles[n->role].partition_id, &id, error));
    enum ws_status status = ws_table_add(b->table, n->at, n->placed, n->type, &id, name, &v->number, error);
    if (status == WS_E_SPACE) ws_fail_next(error, "ask for fewer partitions: the image's own take some of its entries");
    return status;
}

/* The volume in a file of this one; its place is known once it is reserved. */
static enum ws_status add_inside(struct ws_build *b, const struct ws_volume *holder, struct ws_error *error) {
    bool system = build_inside(b->plan);
    const enum ws_role in = holder->role;
    const unsigned number = holder->number;
    struct ws_volume *v = plan_add_volume(b->plan, system ? WS_ROLE_SYSTEM : WS_ROLE_PERSISTENCE);
    v->inside = in;
    v->number = number;
    (void)snprintf(v->format, sizeof v->format, "ext4");
    return take_label(b, v, error);
}

/* The largest size of one of them, in whole MiB, with which all fit; 0: none does. */
static uint64_t largest(const struct build_need *need, size_t count, size_t which, uint64_t first, uint64_t end,
                        uint64_t align) {
    struct build_need tried[WS_ROLES];
    uint64_t low = 0, high = need[which].size.bytes / MIB + 1, needed;
    while (high - low > 1) {
        const uint64_t middle = low + (high - low) / 2;
        memcpy(tried, need, count * sizeof *need);
        tried[which].size = ws_size_of(middle * MIB);
        if (build_place(tried, count, first, end, align, &needed) == WS_OK) low = middle;
        else high = middle;
    }
    return low * MIB >= need[which].least ? low * MIB : 0;
}

/* How much is missing, and what would fit instead. */
static enum ws_status too_much(struct ws_build *b, const struct build_need *need, size_t count, uint64_t first,
                               uint64_t end, uint64_t needed, struct ws_error *error) {
    static const enum ws_hint hints[WS_ROLES] = {
        [WS_ROLE_PERSISTENCE] = WS_HINT_PERSISTENCE, [WS_ROLE_DATA] = WS_HINT_DATA};
    char more[32], fits[24];
    size_t which = count, rests = 0;
    for (size_t i = 0; i < count; i++) {
        rests += need[i].size.kind == WS_SIZE_REST;
        if (!hints[need[i].role] || need[i].size.kind != WS_SIZE_BYTES) continue;
        if (which == count || need[i].size.bytes > need[which].size.bytes) which = i;
    }
    const uint64_t most = which < count ? largest(need, count, which, first, end, b->plan->facts.align) : 0;
    if (!most) return build_does_not_fit(error, b->plan, needed + MIB);
    build_too_small(error, b->plan, needed + MIB);
    (void)snprintf(fits, sizeof fits, "%lluM", (unsigned long long)(most / MIB));
    ws_fail_hint(error, hints[need[which].role], fits, "%s more are needed: take a larger drive, or ask for less",
                 ws_size_counted(ws_round_up(need[which].size.bytes, MIB) - most, more, sizeof more));
    return rests ? error ? error->status : WS_E_SPACE : ws_fail_way(error, hints[need[which].role], "rest");
}

enum ws_status build_place_volumes(struct ws_build *b, struct build_need *need, size_t count, uint64_t first,
                                   struct ws_error *error) {
    struct ws_plan *p = b->plan;
    uint64_t begin;
    uint64_t end;
    uint64_t needed;
    ws_table_free_tail(b->table, &begin, &end);
    end = end / PAGE * PAGE;
    if (build_place(need, count, ws_max_u64(begin, first), end, p->facts.align, &needed) != WS_OK)
        return too_much(b, need, count, ws_max_u64(begin, first), end, needed, error);
    for (size_t i = 0; i < count; i++) {
        const struct build_need *n = &need[i];
        struct ws_volume *v = plan_add_volume(p, n->role);
        char size[48];
        v->at = n->at;
        v->size = n->placed;
        v->locked = build_locks(p, n->role);
        v->cluster = build_cluster(b, n->role, n->format, n->placed);
        (void)snprintf(v->format, sizeof v->format, "%s", n->format->word);
        WS_TRY(take_label(b, v, error));
        if (n->placed > n->format->most)
            return ws_fail(error, WS_E_RANGE, "a %s %s partition ends at %s", n->format->title, ws_role_name(n->role),
                           ws_size_counted(n->format->most, size, sizeof size));
        WS_TRY(enter(b, n, v, error));
        if (!build_holds(b, n->role)) continue;
        WS_TRY(add_inside(b, v, error));
    }
    return WS_OK;
}

static enum ws_status clear_ends(struct ws_build *b, unsigned first, unsigned last, uint64_t at, uint64_t size,
                                 const struct ws_source *zeros, struct ws_error *error) {
    const uint64_t most = ws_min_u64(MIB, size);
    (void)ws_layout_part(b->layout, first);
    WS_TRY(ws_layout_fill(b->layout, at, at + most, zeros, error));
    (void)ws_layout_part(b->layout, last);
    return ws_layout_fill(b->layout, at + size - most, at + size, zeros, error);
}

enum ws_status build_clear_ends(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    const struct ws_volume *last = NULL; /* which may get the drive's end one day */
    struct ws_source *zeros = NULL;
    WS_TRY(ws_source_zeros(p->drive.size, &zeros, error));
    WS_TRY(ws_layout_own(b->layout, zeros, error));
    for (size_t i = 0; i < p->volumes; i++) {
        const struct ws_volume *v = &p->volume[i];
        if (v->inside != WS_ROLE_DRIVE) continue;
        if (!last || v->at > last->at) last = v;
        WS_TRY(clear_ends(b, v->role, v->role, v->at, v->size, zeros, error));
    }
    WS_TRY(clear_ends(b, WS_ROLE_DRIVE, last ? last->role : WS_ROLE_DRIVE, 0, p->drive.size, zeros, error));
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE);
    return WS_OK;
}

static enum ws_status compose_all(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    for (size_t i = 0; i < p->volumes; i++) {
        struct ws_volume *v = plan_volume(b->plan, p->volume[i].role);
        if (v->role == WS_ROLE_PERSISTENCE) continue;               /* once its file has a place */
        if (build_holds(b, v->role) && v->role != WS_ROLE_SYSTEM) { /* the system's was needed for its size already */
            WS_TRY(build_compose_volume(b, v->role, NULL, error));
            WS_TRY((build_inside(p) ? build_reserve_inside : build_reserve_overlay)(b, v->free_bytes, error));
        }
        if (v->role == WS_ROLE_SYSTEM && v->inside != WS_ROLE_DRIVE)
            v->at = ws_plan_volume(p, v->inside)->at + ws_tree_find(b->tree[v->inside], WS_INSIDE_FILE)->work;
        WS_TRY(build_compose_volume(b, v->role, b->layout, error));
    }
    if (b->remembers) return build_compose_persistence(b, error);
    if (b->plan->request.start_journal && ws_plan_is_live(b->plan))
        return ws_fail(error, WS_E_USAGE, "this drive forgets, and a start journal with all else");
    return WS_OK;
}

enum ws_status build_compose_volumes(struct ws_build *b, struct ws_error *error) {
    WS_TRY(compose_all(b, error));
    return build_clear_ends(b, error);
}
