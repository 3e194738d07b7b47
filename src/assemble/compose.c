/* compose.c — one volume measured, or composed into the layout. */
#include "assemble/internal.h"

#include <string.h>

uint32_t build_cluster(const struct ws_build *b, enum ws_role role, const struct ws_format *format, uint64_t size) {
    const struct ws_wanted *w = ws_request_wanted(&b->plan->request, role);
    uint32_t asked = w ? w->cluster : 0;
    bool pages = build_holds(b, role) && format->firmware && asked < PAGE;
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
                                     .cluster = build_cluster(b, role, format, size),
                                     .align = blank  ? (erases ? erase : 65536)
                                              : wide ? MIB
                                                     : 65536,
                                     .made_at = p->facts.made_at,
                                     .may_grow =
                                         (role == WS_ROLE_SYSTEM && !build_inside(p)) || role == WS_ROLE_PERSISTENCE};
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
    if (v->locked) params.size -= WS_LOCK_HEAD;
    unsigned was = layout ? ws_layout_part(layout, role) : 0;
    enum ws_status status = layout && v->locked
                                ? build_compose_locked(b, &params, v, layout, error)
                                : format->compose(&params, b->tree[role], v->at, layout, &v->free_bytes, error);
    if (layout) (void)ws_layout_part(layout, was);
    return status;
}
