/* volumes.c — the volumes of a drive: what each is to be, where it stands, and what it is composed with. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

/* What a volume is unless something else is wanted, and what its identifiers derive from. */
static const struct {
    const char *format, *volume_id, *partition_id, *name;
} roles[WS_ROLES] = {
    [WS_ROLE_SYSTEM] = {"fat32", "system volume", "system partition", "system"},
    [WS_ROLE_START] = {"fat32", "start volume", "start partition", "start"},
    [WS_ROLE_PERSISTENCE] = {"ext4", "persistence volume", "persistence partition", "persistence"},
    [WS_ROLE_DATA] = {"fat32", "data volume", "data partition", ""},
    [WS_ROLE_SWAP] = {"swap", "swap area", "swap partition", "swap"},
};

enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t needed) {
    char drive[48];
    char text[48];
    ws_fail(error, WS_E_SPACE, "the drive holds %s, and %s are needed",
            ws_size_both(plan->drive.size, drive, sizeof drive), ws_size_both(needed, text, sizeof text));
    ws_fail_where(error, "%s", plan->drive.name);
    return ws_fail_next(error, "take a larger drive, or ask for less");
}

enum ws_status build_check_sector(uint32_t sector, const char *drive, struct ws_error *error) {
    if (sector >= 512 && sector <= 4096 && (sector & (sector - 1)) == 0) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "a drive with sectors of %u bytes cannot be laid out here", sector);
    ws_fail_where(error, "%s", drive);
    return ws_fail_next(error, "take one with sectors of 512 or 4096 bytes");
}

uint64_t build_choose_align(const struct ws_plan *p) {
    uint32_t erase = p->drive.erase;
    bool sensible = erase > MIB && erase <= 64u * MIB && (erase & (erase - 1)) == 0;
    return sensible ? erase : MIB;
}

struct ws_size build_wanted_size(const struct ws_plan *p, enum ws_role role) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, role);
    return w ? w->size : (struct ws_size){WS_SIZE_USUAL, 0};
}

enum ws_status build_format(const struct ws_plan *p, enum ws_role role, const struct ws_format **format,
                            struct ws_error *error) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, role);
    bool vast = p->facts.kind == WS_KIND_BLANK && p->drive.size > ws_format_find("fat32")->most; /* no FAT32 is */
    const char *word = w && w->format[0] ? w->format : vast ? "exfat" : roles[role].format;
    bool plain = role == WS_ROLE_SYSTEM || role == WS_ROLE_DATA; /* which others go in turn is a question of the role */
    *format = ws_format_find(word);
    if (*format && (*format)->compose && (strcmp(word, roles[role].format) == 0 || (plain && (*format)->everywhere)))
        return WS_OK;
    ws_fail(error, WS_E_USAGE, "\"%s\" is no file system for a %s volume", word, ws_role_name(role));
    return ws_fail_next(error, plain ? "fat32 and exfat are" : "leave it out");
}

enum ws_status build_volume_id(const struct ws_plan *p, enum ws_role role, struct ws_guid *id, struct ws_error *error) {
    return ws_guid_derive(&p->facts.id, roles[role].volume_id, id, error);
}

enum ws_status build_settle_persistence(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    const struct ws_wanted *w = ws_request_wanted(&p->request, WS_ROLE_PERSISTENCE);
    enum ws_place place = w ? w->place : WS_PLACE_USUAL;
    bool none = w && w->size.kind == WS_SIZE_NONE;
    bool said = b->overlay || (w && (w->size.kind != WS_SIZE_USUAL || place != WS_PLACE_USUAL));
    if (none && (place != WS_PLACE_USUAL || b->overlay))
        return ws_fail(error, WS_E_USAGE, "it is said where changes go, and none are to be kept");
    if (b->overlay && (place == WS_PLACE_PARTITION || (w && w->size.kind == WS_SIZE_BYTES)))
        return ws_fail(error, WS_E_USAGE, "a ready-made data file is an overlay file and has its own size");
    b->remembers = !none && (said || p->family || p->facts.kind != WS_KIND_LIVE_FILES);
    b->in_file = b->remembers && (b->overlay || place == WS_PLACE_FILE);
    bool beside = p->facts.kind == WS_KIND_LIVE_FILES && p->family && p->family->overlay_beside;
    b->holder = beside ? WS_ROLE_SYSTEM : WS_ROLE_DATA;
    return WS_OK;
}

/* Does this volume hold the overlay file? Its clusters are pages then: the volume in it stands as in a partition. */
static bool holds(const struct ws_build *b, enum ws_role role) { return b->in_file && b->holder == role; }

static enum ws_status check_size(const struct ws_build *b, const struct build_need *n, struct ws_error *error) {
    if (n->size.kind != WS_SIZE_BYTES || n->size.bytes >= n->least) return WS_OK;
    uint64_t usual = n->format->least(512, 0);
    return ws_fail(error, WS_E_USAGE, "a %s partition%s needs at least %u MiB", ws_role_name(n->role),
                   n->least == usual             ? ""
                   : b->plan->drive.sector > 512 ? " on a drive with sectors of this size"
                                                 : " with an overlay file",
                   (unsigned)(n->least / MIB));
}

static enum ws_status add_need(struct ws_build *b, enum ws_role role, struct ws_size size, struct build_need *need,
                               size_t *count, struct ws_error *error) {
    struct build_need *n = &need[*count];
    const struct ws_format *f;
    if (size.kind == WS_SIZE_NONE) return WS_OK;
    WS_TRY(build_format(b->plan, role, &f, error));
    uint64_t least = f->least(b->plan->drive.sector, holds(b, role) ? PAGE : 0);
    if (size.kind == WS_SIZE_LEAST) size = ws_size_of(least);
    *n = (struct build_need){.role = role,
                             .format = f,
                             .size = size,
                             .least = least,
                             .most = role == WS_ROLE_PERSISTENCE ? f->most : UINT64_MAX,
                             .granule = b->plan->facts.align,
                             .type = f->type,
                             .name = roles[role].name};
    ++*count;
    return check_size(b, n, error);
}

enum ws_status build_add_needs(struct ws_build *b, struct build_need *need, size_t *count, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    struct ws_size persistence = build_wanted_size(p, WS_ROLE_PERSISTENCE);
    struct ws_size data = build_wanted_size(p, WS_ROLE_DATA);
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    if (persistence.kind == WS_SIZE_USUAL) persistence.kind = WS_SIZE_REST;
    if (!b->remembers || b->in_file) persistence.kind = WS_SIZE_NONE;
    if (data.kind == WS_SIZE_USUAL) data.kind = holds(b, WS_ROLE_DATA) ? WS_SIZE_REST : WS_SIZE_NONE;
    if (swap.kind == WS_SIZE_USUAL) swap.kind = WS_SIZE_NONE;
    const struct ws_wanted *w = ws_request_wanted(&p->request, WS_ROLE_DATA);
    if (w && data.kind == WS_SIZE_NONE && (w->label[0] || w->cluster || w->format[0])) {
        ws_fail(error, WS_E_USAGE, "a data partition is described, and none is asked for");
        return ws_fail_next(error, "say how large it is to be, or \"rest\"");
    }
    if (data.kind == WS_SIZE_REST && persistence.kind == WS_SIZE_REST) {
        ws_fail(error, WS_E_USAGE, "persistence and data cannot both take all that is left");
        return ws_fail_next(error, "say how large one of them is to be; `satchel size` helps with persistence");
    }
    if (swap.kind == WS_SIZE_REST) return ws_fail(error, WS_E_USAGE, "swap takes so many bytes, not the rest");
    WS_TRY(add_need(b, WS_ROLE_PERSISTENCE, persistence, need, count, error));
    WS_TRY(add_need(b, WS_ROLE_DATA, data, need, count, error));
    return add_need(b, WS_ROLE_SWAP, swap, need, count, error);
}

enum ws_status build_label(const struct ws_build *b, enum ws_role role, char label[WS_LABEL_ROOM], char said[160],
                           struct ws_error *error) {
    const struct ws_wanted *w = ws_request_wanted(&b->plan->request, role);
    const struct ws_format *format;
    char system[12];
    build_system_label(b->plan, system);
    said[0] = '\0';
    if (w && w->label[0]) {
        WS_TRY(build_format(b->plan, role, &format, error));
        return ws_label_normalise(format->word, w->label, label, WS_LABEL_ROOM, said, 160, error);
    }
    bool by_label = holds(b, role) && ws_live_wants_label(b->plan->family);
    (void)snprintf(label, WS_LABEL_ROOM, "%s",
                   role == WS_ROLE_SYSTEM        ? system
                   : role == WS_ROLE_START       ? "START"
                   : role == WS_ROLE_PERSISTENCE ? b->plan->family->label
                   : by_label                    ? "OVERLAY"
                                                 : roles[role].name);
    return WS_OK;
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
    WS_TRY(ws_guid_derive(&b->plan->facts.id, roles[n->role].partition_id, &id, error));
    enum ws_status status = ws_table_add(b->table, n->at, n->placed, n->type, &id, name, &v->number, error);
    if (status == WS_E_SPACE) ws_fail_next(error, "ask for fewer partitions: the image's own take some of its entries");
    return status;
}

/* The cluster as asked; of a volume that holds an overlay file at least a page, where its usual one would be less. */
static uint32_t choose_cluster(const struct ws_build *b, enum ws_role role, const struct ws_format *format,
                               uint64_t size) {
    const struct ws_wanted *w = ws_request_wanted(&b->plan->request, role);
    uint32_t asked = w ? w->cluster : 0;
    bool pages = holds(b, role) && format->firmware && asked < PAGE;
    return pages ? size <= 8ull << 30 ? PAGE : 0 : asked;
}

struct ws_volume_params build_params(const struct ws_build *b, enum ws_role role, const struct ws_format *format,
                                     uint64_t size) {
    const struct ws_plan *p = b->plan;
    uint32_t erase = p->drive.erase;
    bool blank = p->facts.kind == WS_KIND_BLANK; /* its partition stands at 1 MiB for every system's sake */
    bool erases = erase >= 4096 && (erase & (erase - 1)) == 0 && erase <= 16u * MIB;
    bool wide = role == WS_ROLE_DATA && p->facts.align > MIB;
    return (struct ws_volume_params){.size = size,
                                     .sector = p->drive.sector,
                                     .cluster = choose_cluster(b, role, format, size),
                                     .align = blank  ? (erases ? erase : 65536)
                                              : wide ? MIB
                                                     : 65536,
                                     .made_at = p->facts.made_at};
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
        return build_does_not_fit(error, p, needed + MIB);
    for (size_t i = 0; i < count; i++) {
        const struct build_need *n = &need[i];
        struct ws_volume *v = plan_add_volume(p, n->role);
        char size[48];
        v->at = n->at;
        v->size = n->placed;
        v->cluster = choose_cluster(b, n->role, n->format, n->placed);
        (void)snprintf(v->format, sizeof v->format, "%s", n->format->word);
        WS_TRY(take_label(b, v, error));
        if (n->placed > n->format->most)
            return ws_fail(error, WS_E_RANGE, "a %s %s partition ends at %s", n->format->title, ws_role_name(n->role),
                           ws_size_counted(n->format->most, size, sizeof size));
        WS_TRY(enter(b, n, v, error));
        if (!holds(b, n->role)) continue;
        struct ws_volume *inside = plan_add_volume(p, WS_ROLE_PERSISTENCE); /* its place is known once it is reserved */
        inside->inside = n->role;
        inside->number = v->number;
        (void)snprintf(inside->format, sizeof inside->format, "%s", roles[WS_ROLE_PERSISTENCE].format);
        (void)snprintf(inside->label, sizeof inside->label, "%s", p->family->label);
    }
    return WS_OK;
}

enum ws_status build_compose_volume(struct ws_build *b, enum ws_role role, struct ws_layout *layout,
                                    struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_volume *v = plan_volume(p, role);
    const struct ws_format *format = ws_format_find(v->format);
    struct ws_volume_params params = build_params(b, role, format, v->size);
    memcpy(params.label, v->label, sizeof params.label);
    WS_TRY(build_volume_id(p, role, &params.id, error));
    WS_TRY(ws_guid_derive(&p->facts.id, "folder hashes", &params.seed, error));
    if (!b->tree[role]) WS_TRY(ws_tree_create(&b->tree[role], error));
    unsigned was = layout ? ws_layout_part(layout, role) : 0;
    enum ws_status status = format->compose(&params, b->tree[role], v->at, layout, &v->free_bytes, error);
    if (layout) (void)ws_layout_part(layout, was);
    return status;
}

enum ws_status build_compose_volumes(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    for (size_t i = 0; i < p->volumes; i++) {
        const struct ws_volume *v = &p->volume[i];
        if (v->role == WS_ROLE_PERSISTENCE) continue;         /* once its file has a place */
        if (holds(b, v->role) && v->role != WS_ROLE_SYSTEM) { /* the system's was needed for its size already */
            WS_TRY(build_compose_volume(b, v->role, NULL, error));
            WS_TRY(build_reserve_overlay(b, v->free_bytes, error));
        }
        WS_TRY(build_compose_volume(b, v->role, b->layout, error));
    }
    return b->remembers ? build_compose_persistence(b, error) : WS_OK;
}
