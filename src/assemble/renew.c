/* renew.c — the recipe of a renewal: a newer system in the place of the one that is on the drive, in its volumes. */
#include "assemble/twin.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static enum ws_status refuse(const struct ws_build *b, struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_UNSUPPORTED, "there is no system on this drive that could be renewed: %s", what);
    ws_fail_where(error, "%s", b->plan->drive.name);
    return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_SYSTEM),
                        "make it a new one; everything on it is lost");
}

enum ws_status build_read_now(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    uint8_t first[512];
    if (!b->now) return ws_fail(error, WS_E_USAGE, "a change needs the drive as it is, and it is not given");
    WS_TRY(ws_source_read(b->now, 0, first, sizeof first, error));
    if (ws_changing_read(first, NULL)) {
        ws_fail(error, WS_E_REFUSED, "an earlier change of this drive was cut, and is to be finished first");
        ws_fail_where(error, "%s", p->drive.name);
        return ws_fail_hint(error, WS_HINT_FINISH, "", "finish it");
    }
    b->table = &b->image.table; /* the image's own is of no use here */
    WS_TRY(ws_table_read(b->now, p->drive.sector, b->table, &p->findings, error));
    p->facts.table = b->table->kind;
    return WS_OK;
}

/* What the volumes have been through: superblock and descriptors, the front of the drive, and that of what firmware
 * reads. Any use changes them. */
static enum ws_status hash_marks(const struct ws_build *b, const struct ws_source *drive, struct ws_hash *hash,
                                 struct ws_error *error) {
    const struct ws_volume *system = plan_volume(b->plan, WS_ROLE_SYSTEM);
    const struct ws_volume *start = plan_volume(b->plan, WS_ROLE_START);
    const struct ws_volume *boot = plan_volume(b->plan, WS_ROLE_BOOT);
    const uint64_t begin = b->opened ? ws_lock_begin(b->opened) : 0; /* behind a lock they change as they do without */
    const uint64_t places[][2] = {
        {system->at + begin, ws_min_u64(8192 + ws_div_up(system->size, 32768ull * PAGE) * 64, system->size - begin)},
        {start ? start->at : 0, PAGE},
        {boot ? boot->at : 0, 2 * PAGE},
        {0, PAGE}};
    uint8_t page[PAGE];
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++)
        for (uint64_t at = 0; at < places[i][1]; at += PAGE) {
            WS_TRY(ws_source_read(drive, places[i][0] + at, page, PAGE, error));
            ws_hash_add(hash, page, PAGE);
        }
    return WS_OK;
}

enum ws_status build_check_state(const struct ws_build *b, struct ws_drive *drive, struct ws_error *error) {
    struct ws_source *now = NULL;
    struct ws_hash *hash = NULL;
    char hex[WS_HASH_HEX] = "";
    WS_TRY(ws_source_drive(drive, &now, error));
    if (b->twin) {
        enum ws_status twin = twin_check_state(b, now, error);
        ws_source_close(now);
        return twin;
    }
    enum ws_status status = ws_hash_open(WS_HASH_SHA256, &hash, error);
    if (status == WS_OK) status = hash_marks(b, now, hash, error);
    if (status == WS_OK) ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    ws_source_close(now);
    WS_TRY(status);
    if (strcmp(hex, b->marks) == 0) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "the system on this drive was used a moment ago");
    return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "make the plan again; nothing was written");
}

/* Those, and what every file is. */
static enum ws_status note_state(struct ws_build *b, struct ws_error *error) {
    struct ws_hash *hash = NULL;
    WS_TRY(ws_hash_open(WS_HASH_SHA256, &hash, error));
    enum ws_status status = hash_marks(b, b->now, hash, error);
    if (status == WS_OK) ws_hash_hex(hash, b->marks);
    ws_hash_close(hash);
    WS_TRY(status);
    WS_TRY(ws_hash_open(WS_HASH_SHA256, &hash, error));
    ws_hash_add(hash, b->marks, strlen(b->marks));
    ws_tree_hash(b->was, hash);
    ws_hash_hex(hash, b->plan->facts.was);
    ws_hash_close(hash);
    return WS_OK;
}

static void add_volume(struct ws_build *b, enum ws_role role, const struct ws_partition *t, const char *format,
                       const struct ws_volume_facts *facts) {
    struct ws_volume *v = plan_add_volume(b->plan, role);
    v->number = t->number;
    v->at = t->at;
    v->size = t->length;
    v->free_bytes = facts->counted ? facts->free_bytes : 0;
    (void)snprintf(v->format, sizeof v->format, "%s", format);
    (void)snprintf(v->label, sizeof v->label, "%s", facts->label);
}

/* A system's root, in a volume of its own? Then it is the one to be renewed. */
static enum ws_status try_root(struct ws_build *b, const struct ws_partition *t, const struct ws_volume_facts *facts,
                               bool *is, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_system_facts system;
    struct ws_start_settings settings = {0};
    *is = false;
    if (b->opened) WS_TRY(ws_source_slice(ws_lock_body(b->opened), 0, ws_lock_body(b->opened)->size, &slice, error));
    else WS_TRY(ws_source_slice(b->now, t->at, t->length, &slice, error));
    enum ws_status status = ws_ext4_read(slice, &tree, NULL, error);
    if (status == WS_OK) {
        ws_start_settings_look(tree, &settings);
        *is = settings.found && settings.boot_apart == (b->opened != NULL) &&
              ws_system_look(tree, &system, error) == WS_OK;
    }
    if (!*is) {
        ws_tree_close(tree);
        ws_source_close(slice);
        return status;
    }
    b->was = tree;
    b->now_slice = slice;
    b->was_facts = system;
    if (b->menu_seconds == WS_MENU_SECONDS_USUAL) b->menu_seconds = settings.wait;
    if (!b->kernel_options[0] && ws_is_visible(settings.options))
        memcpy(b->kernel_options, settings.options, sizeof settings.options);
    memcpy(b->start_serial, settings.start_serial, sizeof b->start_serial);
    if (b->opened && !ws_guid_parse(settings.boot_uuid, &b->plan->id_of[WS_ROLE_BOOT]))
        return refuse(b, error, "its fstab names no volume for its kernels, /boot");
    b->owner.internal_disks = ws_internal_disks_of(tree);
    b->grows = ws_system_grows(tree);
    /* where the newer root cannot, that is said and nothing refused */
    b->was_hidden = b->owner.internal_disks == WS_INTERNAL_HIDDEN;
    if (b->was_hidden) b->owner.internal_disks = WS_INTERNAL_USUAL;
    add_volume(b, WS_ROLE_SYSTEM, t, "ext4", facts);
    plan_volume(b->plan, WS_ROLE_SYSTEM)->locked = b->opened != NULL;
    return ws_guid_parse(facts->id, &b->plan->id_of[WS_ROLE_SYSTEM]) ? WS_OK : WS_E_FORMAT;
}

/* The number of a FAT or exFAT volume as its identifier: XXXX-XXXX. */
static void take_serial(struct ws_plan *p, enum ws_role role, const char *text) {
    unsigned high = 0, low = 0;
    if (sscanf(text, "%4x-%4x", &high, &low) == 2) ws_store_le32(p->id_of[role].byte, (uint32_t)high << 16 | low);
}

/* What a partition holds. @return false for what is none, or reaches past the drive */
static bool open_partition(const struct ws_build *b, const struct ws_partition *t, struct ws_source **slice) {
    return t->mbr_type != 0xee && ws_inside(t->at, t->length, b->now->size) &&
           ws_source_slice(b->now, t->at, t->length, slice, NULL) == WS_OK;
}

/* In a file of this ordinary volume? `host`: what that says of itself. */
static enum ws_status try_inside(struct ws_build *b, const struct ws_partition *t, const struct ws_source *slice,
                                 const struct ws_format *format, const struct ws_volume_facts *host, bool *is,
                                 struct ws_error *error) {
    struct ws_tree *tree = NULL;
    struct ws_volume_facts facts = {.system = ""};
    struct ws_partition file = *t;
    *is = false;
    if (!format->everywhere || !format->read) return WS_OK;
    WS_TRY(format->read(slice, &tree, NULL, error));
    const struct ws_node *n = ws_inside_find(tree, NULL);
    enum ws_status status = n ? ws_format_find("ext4")->probe(n->content, &facts, error) : WS_OK;
    file.at += n ? n->work : 0;
    file.length = n ? ws_node_size(n) : 0;
    bool pieces = n && !n->work;
    ws_tree_close(tree);
    if (status != WS_OK || !n) return status;
    if (pieces) return ws_fail(error, WS_E_UNSUPPORTED, "it is in a file that lies in several pieces");
    WS_TRY(try_root(b, &file, &facts, is, error));
    if (!*is) return WS_OK;
    plan_volume(b->plan, WS_ROLE_SYSTEM)->inside = WS_ROLE_DATA;
    add_volume(b, WS_ROLE_DATA, t, format->word, host);
    take_serial(b->plan, WS_ROLE_DATA, host->id);
    return WS_OK;
}

/* Behind a lock? Without its passphrase nobody knows. */
static enum ws_status try_locked(struct ws_build *b, const struct ws_partition *t, bool *is, struct ws_error *error) {
    struct ws_volume_facts facts = {.system = ""};
    *is = false;
    if (!b->passphrase) {
        ws_fail(error, WS_E_USAGE, "the system on this drive is locked, and no passphrase is given that opens it");
        ws_fail_where(error, "%s", b->plan->drive.name);
        return ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it");
    }
    WS_TRY(ws_source_slice(b->now, t->at, t->length, &b->locked_slice, error));
    WS_TRY(ws_lock_open(b->locked_slice, b->passphrase, &b->opened, error));
    (void)ws_lock_probe(b->locked_slice, b->lock_uuid);
    const struct ws_format *ext4 = ws_format_find("ext4");
    if (ext4->probe(ws_lock_body(b->opened), &facts, NULL) == WS_OK) WS_TRY(try_root(b, t, &facts, is, error));
    return *is ? WS_OK : refuse(b, error, "what its lock holds is none made here");
}

static enum ws_status find_root(struct ws_build *b, const struct ws_partition *t, size_t count,
                                struct ws_error *error) {
    struct ws_error why = {0};
    bool root = false;
    size_t locked = count;
    for (size_t i = 0; i < count && !root; i++) {
        struct ws_source *slice = NULL;
        struct ws_volume_facts facts = {.system = ""};
        if (!open_partition(b, &t[i], &slice)) continue;
        if (locked == count && ws_lock_probe(slice, NULL)) locked = i;
        const struct ws_format *format = ws_format_of(slice, &facts);
        enum ws_status status = WS_OK;
        if (format && strcmp(format->word, "ext4") == 0) status = try_root(b, &t[i], &facts, &root, &why);
        else if (format) status = try_inside(b, &t[i], slice, format, &facts, &root, &why);
        ws_source_close(slice);
        if (status == WS_E_NOMEM || status == WS_E_READ) return ws_fail(error, status, "%s", why.what);
    }
    if (!root && locked < count) return try_locked(b, &t[locked], &root, error);
    return root ? WS_OK : refuse(b, error, why.what[0] ? why.what : "no volume holds a full system made here");
}

/* The others: what firmware reads is only the one that the system itself mounts as that. Somebody's files on another
 * are nobody's business. */
static enum ws_status find_volumes(struct ws_build *b, struct ws_error *error) {
    size_t count;
    const struct ws_partition *t = ws_table_partitions(b->table, &count);
    WS_TRY(find_root(b, t, count, error));
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        struct ws_volume_facts facts = {.system = ""};
        if (t[i].at == plan_volume(b->plan, WS_ROLE_SYSTEM)->at || !open_partition(b, &t[i], &slice)) continue;
        const struct ws_format *format = ws_format_of(slice, &facts);
        ws_source_close(slice);
        if (!format) continue;
        struct ws_guid id;
        bool boot = b->opened && ws_guid_parse(facts.id, &id) &&
                    memcmp(&id, &b->plan->id_of[WS_ROLE_BOOT], sizeof id) == 0 && strcmp(format->word, "ext4") == 0;
        enum ws_role role = boot                                                         ? WS_ROLE_BOOT
                            : format->firmware && strcmp(facts.id, b->start_serial) == 0 ? WS_ROLE_START
                            : strcmp(format->word, "swap") == 0                          ? WS_ROLE_SWAP
                                                                                         : WS_ROLE_DATA;
        if (plan_volume(b->plan, role)) continue;
        add_volume(b, role, &t[i], format->word, &facts);
        if (role == WS_ROLE_START) take_serial(b->plan, role, facts.id);
        if (role == WS_ROLE_SWAP) (void)ws_guid_parse(facts.id, &b->plan->id_of[role]);
    }
    const struct ws_volume *kernels = plan_volume(b->plan, WS_ROLE_BOOT);
    if (b->opened && !kernels) return refuse(b, error, "the volume of its kernels, /boot, is not there");
    if (kernels) WS_TRY(ws_source_slice(b->now, kernels->at, kernels->size, &b->boot_slice, error));
    return plan_volume(b->plan, WS_ROLE_START) || build_starts_from_data(b->plan)
               ? WS_OK
               : refuse(b, error, "the volume that firmware reads, /boot/efi, is not there");
}

static enum ws_status look_at_drive(struct ws_build *b, struct ws_error *error) {
    struct ws_ext4_facts facts;
    WS_TRY(build_read_now(b, error));
    WS_TRY(find_volumes(b, error));
    WS_TRY(ws_ext4_probe(b->now_slice, &facts, error));
    WS_TRY(note_state(b, error));
    if (facts.needs_recovery)
        ws_findings_add(&b->plan->findings, WS_NOTE,
                        "its system was not shut down: what stands in the journal of its volume is taken over");
    return WS_OK;
}

/* All of a layout as what goes over something: in whole sectors, zeros behind what ends inside one. */
static enum ws_status take_over(struct ws_build *b, const struct ws_layout *from, struct ws_error *error) {
    const uint64_t sector = b->plan->drive.sector;
    struct ws_source *view = NULL;
    uint64_t done = 0;
    WS_TRY(ws_layout_source(from, &view, error));
    WS_TRY(ws_layout_own(b->layout, view, error));
    for (size_t i = 0; i < ws_layout_count(from); i++) {
        const struct ws_extent *e = ws_layout_extent(from, i);
        uint64_t at = ws_max_u64(e->at / sector * sector, done);
        done = ws_max_u64(ws_round_up(e->at + e->length, sector), done);
        (void)ws_layout_part(b->layout, e->part);
        uint64_t cut = at == 0 ? sector : 0; /* the first sector stands by itself */
        WS_TRY(ws_layout_add(b->layout, at, cut, view, at, WS_PHASE_SEAL, error));
        WS_TRY(ws_layout_add(b->layout, at + cut, done - at - cut, view, at + cut, WS_PHASE_SEAL, error));
    }
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE);
    return WS_OK;
}

/* What somebody put on the volume that firmware reads is not there afterwards. */
static enum ws_status note_start(struct ws_build *b, const struct ws_format *format, const struct ws_volume *v,
                                 struct ws_error *error) {
    struct ws_carried_list *l = &b->plan->carried;
    struct ws_source *slice = NULL;
    struct ws_tree *was = NULL;
    char path[1024];
    uint64_t files = 0, bytes = 0;
    WS_TRY(ws_source_slice(b->now, v->at, v->size, &slice, error));
    if (format->read(slice, &was, NULL, NULL) == WS_OK)
        for (const struct ws_node *n = ws_tree_root(was); n; n = ws_tree_next(n)) {
            if (n->kind != WS_NODE_FILE) continue;
            if (ws_tree_find_any_case(b->tree[WS_ROLE_START], ws_node_path(n, path, sizeof path))) continue;
            files++;
            bytes += ws_node_size(n);
        }
    ws_tree_close(was);
    ws_source_close(slice);
    if (!files || l->rows == WS_CARRIED_MOST) return WS_OK;
    struct ws_carried *row = &l->row[l->rows++];
    *row = (struct ws_carried){.fate = WS_FATE_LOST, .path = "/boot/efi", .files = files, .bytes = bytes};
    (void)snprintf(row->what, sizeof row->what, "on the volume that firmware reads, which is made anew");
    return WS_OK;
}

/* Table and start-up code of the front, and the volume that firmware reads, are made anew where they stand. */
static enum ws_status compose_start(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_volume *v = plan_volume(p, WS_ROLE_START);
    const struct ws_format *format = v ? ws_format_find(v->format) : NULL;
    uint8_t first[PAGE];
    if (v && !format->compose) return refuse(b, error, "the volume that firmware reads is none that is made here");
    WS_TRY(ws_layout_create(p->drive.size, &b->start_layout, error));
    WS_TRY(ws_source_read(b->now, 0, first, p->drive.sector, error));
    if (ws_start_is_ours(first)) WS_TRY(ws_start_add_bios(b->table, b->start_layout, error));
    memcpy(first, b->table->mbr_sector, 512);
    WS_TRY(ws_layout_add_bytes(b->start_layout, 0, first, p->drive.sector, WS_PHASE_SEAL, error));
    if (v) { /* else it is people's own volume, which keeps what starts it */
        WS_TRY(build_make_start(b, error));
        WS_TRY(note_start(b, format, v, error));
        struct ws_volume_params params = build_params(b, WS_ROLE_START, format, v->size);
        memcpy(params.label, v->label, sizeof params.label);
        params.id = p->id_of[WS_ROLE_START];
        (void)ws_layout_part(b->start_layout, WS_ROLE_START);
        WS_TRY(format->compose(&params, b->tree[WS_ROLE_START], v->at, b->start_layout, &v->free_bytes, error));
    }
    WS_TRY(ws_layout_seal(b->start_layout, error));
    return take_over(b, b->start_layout, error);
}

/* Over the volume that is there, at byte `at` of a layout. */
enum ws_status build_compose_over(struct ws_build *b, struct ws_volume *v, struct ws_tree *tree,
                                  const struct ws_source *over, struct ws_ext4_geometry *g, uint64_t at,
                                  struct ws_layout *layout, struct ws_error *error) {
    struct ws_ext4_params params = {.made_at = b->plan->facts.made_at, .over = over};
    enum ws_status status = ws_ext4_measure(&params, tree, g, error);
    if (status == WS_OK && g->anew) { /* a system is renewed in what was built for it */
        ws_ext4_geometry_free(g);
        ws_fail(error, WS_E_UNSUPPORTED, "the ext4 volume that is there is not arranged as those made here");
        status = ws_fail_next(error, "save what is to be kept, and build the drive anew");
    }
    if (status == WS_E_SPACE) ws_fail_where(error, "the %s", build_roles[v->role].volume_id);
    if (status == WS_E_SPACE)
        ws_fail_next(error, "make room on the system that is there: until the new one is whole, both are on the drive");
    WS_TRY(status);
    v->free_bytes = g->free_bytes;
    (void)ws_layout_part(layout, v->role);
    WS_TRY(ws_ext4_compose(g, at, layout, WS_PHASE_SEAL, error));
    (void)ws_layout_part(layout, WS_ROLE_DRIVE);
    return WS_OK;
}

static enum ws_status compose_system(struct ws_build *b, struct ws_error *error) {
    struct ws_volume *v = plan_volume(b->plan, WS_ROLE_SYSTEM);
    struct ws_volume *boot = plan_volume(b->plan, WS_ROLE_BOOT);
    struct ws_tree *root = b->tree[WS_ROLE_SYSTEM];
    if (!b->opened) return build_compose_over(b, v, root, b->now_slice, &b->geometry, v->at, b->layout, error);
    WS_TRY(ws_layout_create(b->now_slice->size, &b->open_layout, error));
    WS_TRY(build_compose_over(b, v, root, b->now_slice, &b->geometry, 0, b->open_layout, error));
    (void)ws_layout_part(b->layout, WS_ROLE_SYSTEM);
    WS_TRY(build_lock_up(b, v, b->layout, error));
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE);
    return build_compose_over(b, boot, b->tree[WS_ROLE_BOOT], b->boot_slice, &b->boot_geometry, boot->at, b->layout,
                              error);
}

enum ws_status build_place_log(struct ws_build *b, struct ws_error *error) {
    uint64_t at, length;
    if (b->twin) return twin_place_log(b, error);
    uint64_t needed = ws_change_log_bytes(b->layout);
    ws_ext4_spare(&b->geometry, &at, &length);
    b->log_at = plan_volume(b->plan, WS_ROLE_SYSTEM)->at + (b->opened ? ws_lock_begin(b->opened) : 0) + at;
    if (length >= needed) return WS_OK;
    char has[32], needs[32];
    ws_fail(error, WS_E_SPACE, "the change itself needs %s in one piece beside all files, and the volume has %s",
            ws_size_counted(needed, needs, sizeof needs), ws_size_counted(length, has, sizeof has));
    return ws_fail_next(error, "make room on the system that is there");
}

/* What it was and what it becomes; what its owner may want to know before. */
static void note(struct ws_build *b, const struct ws_system_facts *facts) {
    struct ws_plan *p = b->plan;
    char size[48];
    plan_chose(p, "renewal", facts->name, "in the place of %.100s", b->was_facts.name);
    if (strcmp(b->was_facts.id, facts->id) != 0)
        ws_findings_add(&p->findings, WS_WARNING,
                        "this is another system, not a newer one of the same: settings in people's folders may not go "
                        "with it");
    else if (ws_version_compare(b->was_facts.version, facts->version) > 0)
        ws_findings_add(&p->findings, WS_WARNING, "the system that is there is the newer one: %s, and this is %s",
                        b->was_facts.version, facts->version);
    if (b->was_hidden && b->owned.internal_disks != WS_INTERNAL_HIDDEN)
        ws_findings_add(&p->findings, WS_WARNING,
                        "the PC's disks were hidden, and the newer system has no means for that: it shows them");
    uint64_t free_bytes = plan_volume(p, WS_ROLE_SYSTEM)->free_bytes;
    if (free_bytes < 256ull * MIB)
        ws_findings_add(&p->findings, WS_WARNING, "only %s will be free on the system's volume",
                        ws_size_both(free_bytes, size, sizeof size));
}

static enum ws_status carry(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    return ws_system_carry(b->tree[WS_ROLE_SYSTEM], facts, b->was, &b->was_facts, p->request.keep, p->request.keeps,
                           p->facts.made_at, &p->carried, &p->findings, error);
}

enum ws_status build_prepare_renewal(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_system_facts facts;
    p->facts.align = MIB;
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    WS_TRY(look_at_drive(b, error));
    WS_TRY(build_open_root(b, &facts, error));
    WS_TRY(build_look_at_kernels(b, &facts, error));
    WS_TRY(build_choose_loader(b, &facts, error));
    WS_TRY(build_settle(b, &facts, error));
    if (b->opened) WS_TRY(build_cut_boot(b, &facts, error));
    WS_TRY(carry(b, &facts, error));
    WS_TRY(compose_system(b, error));
    WS_TRY(compose_start(b, error));
    build_list_partitions(b);
    note(b, &facts);
    build_note_system(b, &facts);
    build_system_outlook(b);
    return WS_OK;
}

void build_close_renewal(struct ws_build *b) {
    ws_ext4_geometry_free(&b->geometry);
    ws_ext4_geometry_free(&b->boot_geometry);
    ws_layout_close(b->start_layout);
}
