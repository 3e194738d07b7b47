/* locked.c — a full system whose root a passphrase opens: the lock around its volume, and what has to stay outside. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

bool build_locks(const struct ws_plan *p, enum ws_role role) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, role);
    return w && w->locked;
}

bool build_is_locked(const struct ws_plan *p) {
    const struct ws_volume *v = ws_plan_volume(p, WS_ROLE_SYSTEM);
    return p->facts.kind == WS_KIND_RENEWAL ? v && v->locked : build_locks(p, WS_ROLE_SYSTEM);
}

enum ws_status build_check_open_swap(const struct ws_plan *p, struct ws_error *error) {
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    if (swap.kind == WS_SIZE_USUAL || swap.kind == WS_SIZE_NONE) return WS_OK;
    ws_fail(error, WS_E_USAGE, "a swap partition beside a lock would keep what was in memory, open to everybody");
    return ws_fail_next(error, "leave the swap partition out, or the lock");
}

enum ws_status build_check_lock(const struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    if (!build_locks(p, WS_ROLE_PERSISTENCE)) return WS_OK;
    if (!b->remembers) return ws_fail(error, WS_E_USAGE, "there is nothing to lock: nothing is to be remembered");
    if (b->in_file) {
        ws_fail(error, WS_E_USAGE, "what is remembered is locked in a partition, not in a file");
        return ws_fail_hint(error, WS_HINT_PLACE, "", "take a partition");
    }
    WS_TRY(build_check_open_swap(p, error));
    if (p->family && p->family->lock_parameters) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "%s is not known to open a locked volume",
            p->family ? p->family->title : "a system of no known family");
    return ws_fail_next(error, "leave it open, or make a full system of it, which can be locked");
}

/* What starts the drive reads kernels from a volume that is open to everybody; they must stand there themselves. */
static enum ws_status check_kernels(const struct ws_build *b, const struct ws_system_facts *facts,
                                    struct ws_error *error) {
    for (size_t i = 0; i < facts->kernels; i++) {
        const struct ws_kernel *k = &facts->kernel[i];
        for (int which = 0; which < 2; which++) {
            const char *path = which ? k->initrd : k->path;
            const struct ws_node *n = path[0] ? ws_system_find(b->tree[WS_ROLE_BOOT], path + strlen("/boot")) : NULL;
            if (!path[0] || (n && n->kind == WS_NODE_FILE)) continue;
            ws_fail(error, WS_E_UNSUPPORTED,
                    "%s leads out of the folder /boot, and what starts a locked system reads "
                    "nothing else",
                    path);
            return ws_fail_next(error, "have its system put kernels into /boot, or leave it open");
        }
    }
    return WS_OK;
}

enum ws_status build_cut_boot(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_node *boot = ws_tree_find(b->tree[WS_ROLE_SYSTEM], "boot");
    if (!boot || boot->kind != WS_NODE_FOLDER)
        return ws_fail(error, WS_E_UNSUPPORTED,
                       "the root's /boot is no folder of its own, as a locked system needs it");
    WS_TRY(ws_tree_cut(b->tree[WS_ROLE_SYSTEM], boot, &b->tree[WS_ROLE_BOOT], error));
    return check_kernels(b, facts, error);
}

/* Room for its kernels, and twice as much for those that come before the old ones go. */
enum ws_status build_need_boot(struct ws_build *b, struct build_need *need, struct ws_error *error) {
    const struct ws_format *f;
    uint64_t used = 0;
    WS_TRY(build_format(b->plan, WS_ROLE_BOOT, &f, error));
    for (const struct ws_node *n = ws_tree_root(b->tree[WS_ROLE_BOOT]); n; n = ws_tree_next(n))
        used += n->same_as ? 0 : ws_node_size(n) + PAGE;
    uint64_t size = ws_max_u64(ws_round_up(3 * used + 128ull * MIB, MIB), f->least(b->plan->drive.sector, 0));
    *need = (struct build_need){.role = WS_ROLE_BOOT,
                                .format = f,
                                .size = ws_size_of(size),
                                .least = size,
                                .most = f->most,
                                .granule = b->plan->facts.align,
                                .type = f->type,
                                .name = build_roles[WS_ROLE_BOOT].name};
    return WS_OK;
}

enum ws_status build_lock_up(struct ws_build *b, const struct ws_volume *v, struct ws_layout *layout,
                             struct ws_error *error) {
    struct ws_guid id;
    const uint64_t begin = b->opened ? ws_lock_begin(b->opened) : WS_LOCK_HEAD;
    WS_TRY(ws_layout_seal(b->open_layout, error));
    WS_TRY(ws_layout_source(b->open_layout, &b->open, error));
    WS_TRY(ws_guid_derive(&b->plan->facts.id, "lock", &id, error));
    WS_TRY(ws_lock_create(b->open, &id, b->plan->facts.title, &b->lock, error));
    const struct ws_source *head = ws_lock_head(b->lock);
    if (!b->opened) WS_TRY(ws_layout_add(layout, v->at, head->size, head, 0, WS_PHASE_BODY, error));
    for (size_t i = 0; i < ws_layout_count(b->open_layout); i++) {
        const struct ws_extent *e = ws_layout_extent(b->open_layout, i);
        if ((e->at | e->length) % WS_LOCK_SECTOR)
            return ws_fail(error, WS_E_RANGE, "a part of the locked volume is no whole number of sectors");
        WS_TRY(ws_layout_add(layout, v->at + begin + e->at, e->length, ws_lock_body(b->lock), e->at, e->phase, error));
    }
    return WS_OK;
}

enum ws_status build_compose_locked(struct ws_build *b, const struct ws_volume_params *params, struct ws_volume *v,
                                    struct ws_layout *layout, struct ws_error *error) {
    const struct ws_format *format = ws_format_find(v->format);
    WS_TRY(ws_layout_create(params->size, &b->open_layout, error));
    WS_TRY(format->compose(params, b->tree[v->role], 0, b->open_layout, &v->free_bytes, error));
    return build_lock_up(b, v, layout, error);
}

void build_note_lock(struct ws_build *b, const char *asks, const char *outside) {
    struct ws_plan *p = b->plan;
    struct ws_lock_cost c = ws_lock_cost(WS_LOCK_PASSPHRASE);
    if (!b->lock) return;
    if (b->opened)
        plan_chose(p, "locked", "as it is", "the secrets that open it stay; %s asks for one at each start", asks);
    else
        plan_chose(
            p, "locked", "LUKS2, AES-XTS",
            "a passphrase, given when it is built, opens it: %s asks for it at each start. An attempt takes %u MiB of "
            "memory and, on a slow PC, %.1f s",
            asks, (unsigned)(c.memory_kib / 1024), ws_lock_seconds(c, WS_LOCK_SLOW_PC));
    ws_findings_add(&p->findings, WS_NOTE,
                    "%s outside the lock: it keeps what is on a lost drive secret, and does not tell whether somebody "
                    "changed what starts it",
                    outside);
    if (plan_volume(p, WS_ROLE_DATA))
        ws_findings_add(&p->findings, WS_NOTE, "the data volume is not locked: everybody can read it");
}
