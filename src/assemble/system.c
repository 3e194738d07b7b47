/* system.c — the recipe of a full system: a small volume that firmware reads, and the root on ext4. */
#include "assemble/internal.h"

#include "wild_satchel/system.h"

#include <stdio.h>
#include <string.h>

enum { START_BYTES = 64 << 20 };

enum ws_status build_settle(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    struct ws_own_file file[WS_ADDED_MOST];
    for (size_t i = 0; i < p->request.additions; i++) file[i] = build_own_file(&p->request.addition[i], b->added[i]);
    struct ws_settling s = {.options = b->kernel_options,
                            .menu_seconds = b->menu_seconds,
                            .made_at = p->facts.made_at,
                            .chain = b->have_chain,
                            .grows = b->grows,
                            .journal = p->request.start_journal,
                            .grew = p->facts.kind == WS_KIND_RENEWAL,
                            .owner = &b->owner,
                            .file = file,
                            .files = p->request.additions};
    struct ws_guid id;
    WS_TRY(build_volume_id(p, WS_ROLE_SYSTEM, &id, error));
    (void)ws_guid_text(&id, s.root_uuid);
    WS_TRY(build_volume_id(p, WS_ROLE_START, &id, error));
    ws_serial_name(ws_load_le32(id.byte), s.start_id);
    WS_TRY(build_volume_id(p, WS_ROLE_SWAP, &id, error));
    bool there = p->facts.kind == WS_KIND_RENEWAL && plan_volume(p, WS_ROLE_SWAP);
    if (there || swap.kind == WS_SIZE_BYTES || swap.kind == WS_SIZE_LEAST) (void)ws_guid_text(&id, s.swap_uuid);
    if (build_is_locked(p)) {
        WS_TRY(build_volume_id(p, WS_ROLE_BOOT, &id, error));
        (void)ws_guid_text(&id, s.boot_uuid);
        WS_TRY(ws_guid_derive(&p->facts.id, "lock", &id, error));
        (void)ws_guid_text(&id, s.lock_uuid);
        if (b->opened) memcpy(s.lock_uuid, b->lock_uuid, sizeof s.lock_uuid);
    }
    WS_TRY(build_settle_inside(b, &s, error));
    if (b->table->kind == WS_TABLE_GPT) (void)ws_guid_text(&b->table->disk_id, s.table_id);
    else (void)snprintf(s.table_id, sizeof s.table_id, "%08x", ws_load_le32(b->table->mbr_sector + 440));
    return ws_system_settle(b->tree[WS_ROLE_SYSTEM], facts, &s, &b->owned, &p->findings, error);
}

static enum ws_status measure(struct ws_build *b, const struct ws_format *f, uint64_t *least, struct ws_error *error) {
    enum ws_status status = build_measure_least(f, build_params(b, WS_ROLE_SYSTEM, f, 0), b->tree[WS_ROLE_SYSTEM],
                                                b->plan->drive.size, least, error);
    return status == WS_E_SPACE ? build_does_not_fit(error, b->plan, *least + START_BYTES) : status;
}

/* The data volume first, for some PCs show no other of a stick; behind it what firmware reads, where it is another. */
static enum ws_status need_file(struct ws_build *b, uint64_t least, struct build_need *need, size_t *needs,
                                struct ws_error *error) {
    *needs = 0;
    WS_TRY(build_add_needs(b, need, needs, error));
    WS_TRY(build_need_inside(b, least, need, *needs, error));
    if (build_starts_from_data(b->plan)) {
        for (size_t i = 0; i < *needs && b->table->kind == WS_TABLE_GPT; i++)
            if (need[i].role == WS_ROLE_DATA) need[i].type = need[i].format->type_start;
        return build_make_start(b, error);
    }
    return build_need_start(b, START_BYTES, &need[(*needs)++], error);
}

static enum ws_status need_partition(struct ws_build *b, const struct ws_format *system, uint64_t least,
                                     struct build_need *need, size_t *needs, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    struct ws_size size = build_wanted_size(p, WS_ROLE_SYSTEM);
    bool data_rest = build_wanted_size(p, WS_ROLE_DATA).kind == WS_SIZE_REST;
    if (size.kind == WS_SIZE_USUAL && data_rest) size = ws_size_of(least + least / 4 + 1024ull * MIB);
    else if (size.kind == WS_SIZE_USUAL) size.kind = WS_SIZE_REST;
    else if (size.kind == WS_SIZE_LEAST) size = ws_size_of(least);
    WS_TRY(build_need_start(b, START_BYTES, &need[0], error));
    *needs = 1;
    if (build_is_locked(p)) WS_TRY(build_need_boot(b, &need[(*needs)++], error));
    if (b->grows) WS_TRY(build_add_needs(b, need, needs, error)); /* the system is the last one then */
    need[(*needs)++] = (struct build_need){.role = WS_ROLE_SYSTEM,
                                           .format = system,
                                           .size = size,
                                           .least = least,
                                           .most = system->most,
                                           .granule = p->facts.align,
                                           .type = system->type};
    return b->grows ? WS_OK : build_add_needs(b, need, needs, error);
}

static enum ws_status place(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct ws_format *system;
    struct build_need need[WS_ROLES] = {0};
    const uint64_t head = build_is_locked(p) ? WS_LOCK_HEAD : 0;
    size_t needs = 0;
    uint64_t least = 0;
    struct ws_size size = build_wanted_size(p, WS_ROLE_SYSTEM);
    WS_TRY(build_format(p, WS_ROLE_SYSTEM, &system, error));
    WS_TRY(measure(b, system, &least, error));
    least += head;
    if (size.kind == WS_SIZE_BYTES && size.bytes < least) {
        char wanted[48], needed[48];
        ws_fail(error, WS_E_SPACE, "a volume of %s is asked for the system, which needs %s",
                ws_size_both(size.bytes, wanted, sizeof wanted), ws_size_both(least, needed, sizeof needed));
        return ws_fail_next(error, "ask for more, or leave its size to the plan");
    }
    if (build_inside(p)) WS_TRY(need_file(b, least, need, &needs, error));
    else WS_TRY(need_partition(b, system, least, need, &needs, error));
    WS_TRY(build_place_volumes(b, need, needs, p->facts.align, error));
    if (b->table->kind != WS_TABLE_GPT) b->table->mbr[0].active = true;
    p->facts.table = b->table->kind;
    return WS_OK;
}

/* What its owner gets. */
static void note_owner(struct ws_build *b) {
    static const char *const disks[] = {[WS_INTERNAL_HIDDEN] = "not mounted, not listed and read-only, by device rules",
                                        [WS_INTERNAL_LISTED] = "listed; only who may administer can mount them",
                                        [WS_INTERNAL_OPEN] = "as the root has it"};
    struct ws_plan *p = b->plan;
    const struct ws_owner *o = &b->owner;
    if (o->host_name[0]) plan_chose(p, "host name", o->host_name, "as asked");
    for (size_t i = 0; i < o->accounts; i++)
        plan_chose(p, "account", o->account[i].name, "%s%s; its password is asked for when it is built, and kept as %s",
                   o->account[i].administers ? "may administer" : "an ordinary one",
                   i == 0 && o->login == WS_LOGIN_AUTOMATIC ? ", logged in automatically" : "",
                   ws_password_hash_name(b->owned.password[i].hash));
    if (o->locale[0]) plan_chose(p, "language", o->locale, "as asked");
    if (o->keyboard[0]) plan_chose(p, "keyboard", o->keyboard, "as asked");
    if (o->time_zone[0]) plan_chose(p, "time zone", o->time_zone, "as asked");
    if (o->clock != WS_CLOCK_KEPT) plan_chose(p, "clock", ws_clock_name(o->clock), "what the PC's own clock shows");
    if (o->writes == WS_WRITES_FEW)
        plan_chose(p, "writes", "few",
                   "changes reach the drive once a minute, /tmp is in memory; a power cut takes more");
    plan_chose(p, "the PC's disks", ws_internal_disks_name(b->owned.internal_disks), "%s",
               disks[b->owned.internal_disks]);
}

static void note_added(struct ws_build *b) {
    static const char *const words[] = {[WS_ADDED_FILE] = "put there",
                                        [WS_ADDED_FOLDER] = "its files laid in there",
                                        [WS_ADDED_KEYS] = "its public keys open this account from afar",
                                        [WS_ADDED_NETWORK] = "a network's settings",
                                        [WS_ADDED_FIRST_START] = "run once, by the first start, as root"};
    for (size_t i = 0; i < b->plan->request.additions; i++) {
        const struct ws_addition *a = &b->plan->request.addition[i];
        const struct ws_own_file f = build_own_file(a, NULL);
        char shown[160];
        ws_visible(a->to[0] ? a->to : f.name, shown, sizeof shown);
        plan_chose(b->plan, "added", shown, "%s%s%.100s", words[a->what], a->to[0] ? ": " : "", a->to[0] ? f.name : "");
    }
}

void build_note_system(struct ws_build *b, const struct ws_system_facts *facts) {
    struct ws_plan *p = b->plan;
    plan_chose(p, "init", ws_init_name(facts->init), "what its kernel starts first, as its files say");
    plan_chose(p, "start", "our own code", "it reads kernels from %s, whichever the system installs there",
               b->lock           ? "their own volume"
               : build_inside(p) ? "the root in its file"
                                 : "the root itself");
    if (b->have_chain) plan_chose(p, "start on UEFI", "the root's own loader", "it is what Secure Boot knows");
    plan_chose(p, "file system", "ext4", "owners, modes and links must survive, and it forgives a pulled plug");
    build_note_lock(b, facts->kernel[0].inside.maker, "kernels and their initial RAM disks stand");
    build_note_inside(b);
    if (ws_system_grows(b->tree[WS_ROLE_SYSTEM]))
        plan_chose(p, "growth", "at each start",
                   "copied to a larger drive, its partition and volume take the room of that one; "
                   "so it stands last");
    note_owner(b);
    note_added(b);
    if (b->root.edition[0])
        plan_chose(p, "edition", b->root.edition, "%s%s", b->root.edition_name,
                   p->request.edition[0]     ? ""
                   : b->root.edition_name[0] ? ", the image's usual one"
                                             : "the image's usual one");
    if (b->root.layers)
        plan_chose(p, "root", b->root.where, "and %zu layer%s over it, inside the live image", b->root.layers,
                   b->root.layers == 1 ? "" : "s");
    else if (b->root.where[0]) plan_chose(p, "root", b->root.where, "the root file system inside the live image");
    if (facts->kernel[0].known)
        plan_chose(p, "initial RAM disk", facts->kernel[0].inside.maker[0] ? facts->kernel[0].inside.maker : "known",
                   "%u drivers in it; those for USB drives and ext4 are there or in the kernel",
                   (unsigned)facts->kernel[0].inside.modules);
}

enum ws_status build_prepare_system(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_system_facts facts;
    const struct ws_wanted *system = ws_request_wanted(&p->request, WS_ROLE_SYSTEM);
    p->facts.align = build_choose_align(p);
    b->grows = system && system->grows;
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    if (build_is_locked(p)) WS_TRY(build_check_open_swap(p, error));
    WS_TRY(build_open_root(b, &facts, error));
    WS_TRY(build_look_at_kernels(b, &facts, error));
    WS_TRY(build_choose_loader(b, &facts, error));
    WS_TRY(build_begin_table(b, error));
    WS_TRY(build_settle(b, &facts, error));
    if (build_is_locked(p)) WS_TRY(build_cut_boot(b, &facts, error));
    WS_TRY(place(b, error));
    WS_TRY(build_add_front(b, error));
    WS_TRY(build_compose_volumes(b, error));
    build_list_parts(b);
    build_note_system(b, &facts);
    build_system_outlook(b);
    return WS_OK;
}
