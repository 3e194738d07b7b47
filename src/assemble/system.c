/* system.c — the recipe of a full system: a small volume that firmware reads, and the root on ext4. */
#include "assemble/internal.h"

#include "wild_satchel/system.h"

#include <stdio.h>
#include <string.h>

enum { START_BYTES = 64 << 20 };

/* The root, with the kernel of its live medium where it has none of its own. */
static enum ws_status open_root(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct ws_tree *medium = b->image.iso ? ws_iso_tree(b->image.iso) : NULL;
    const struct ws_format *format = medium ? NULL : ws_format_of(b->image.source, NULL);
    if (format && format->everywhere && format->read) { /* the volume of a live stick laid down file by file */
        WS_TRY(format->read(b->image.source, &b->medium, NULL, error));
        medium = b->medium;
    }
    WS_TRY(ws_root_open(b->image.source, medium, p->request.edition, &b->root, error));
    WS_TRY(ws_system_look(b->root.tree, facts, error));
    if (facts->machine[0] && strcmp(facts->machine, "x86-64") != 0) {
        ws_fail(error, WS_E_UNSUPPORTED, "its programs are made for %s, and PCs are x86-64", facts->machine);
        return ws_fail_next(error, "take the edition for x86-64 PCs");
    }
    if (!facts->machine[0])
        ws_findings_add(&p->findings, WS_WARNING, "what machine its programs are made for cannot be told");
    if (facts->kernels == 0 && medium) {
        WS_TRY(ws_system_adopt_kernel(b->root.tree, medium, error));
        WS_TRY(ws_system_look(b->root.tree, facts, error));
        if (facts->kernels)
            plan_chose(p, "kernel", facts->kernel[0].version, "the root has none of its own: it is its live medium's");
    }
    if (facts->name[0]) memcpy(p->facts.title, facts->name, sizeof facts->name); /* else what its image is called */
    else memcpy(facts->name, p->facts.title, sizeof facts->name);
    b->tree[WS_ROLE_SYSTEM] = b->root.tree; /* closed with the build, what it borrows after it */
    b->root.tree = NULL;
    return WS_OK;
}

/* Why a kernel could not open its root, where that is locked: all of a menu are told the same words, those of the
 * newest that can. NULL: it could, or need not */
static const char *cannot_open(const struct ws_build *b, const struct ws_system_facts *facts,
                               const struct ws_kernel *k) {
    char wanted[WS_UNLOCK_ROOM], words[WS_UNLOCK_ROOM], crypttab[WS_UNLOCK_ROOM];
    const struct ws_kernel *first = facts->kernel;
    if (!build_is_locked(b->plan)) return NULL;
    if (ws_kernel_cannot_unlock(k)) return ws_kernel_cannot_unlock(k);
    while (ws_kernel_cannot_unlock(first)) first++; /* to this one at the latest */
    ws_unlock_words(first, "", wanted, crypttab);
    ws_unlock_words(k, "", words, crypttab);
    return strcmp(words, wanted) == 0 ? NULL
                                      : "its initial RAM disk is told in other words than that of a newer kernel";
}

/* What is known of a kernel's way to its root, where it is not all well. */
static void note_kernel(struct ws_build *b, const struct ws_kernel *k, const char *locked_out,
                        const struct ws_error *why) {
    char names[120];
    struct ws_findings *findings = &b->plan->findings;
    if (ws_kernel_lacks(k))
        ws_findings_add(findings, WS_WARNING, "the kernel %s is left out of the menu: it has no driver %s", k->version,
                        ws_driver_names(ws_kernel_lacks(k), names, sizeof names));
    else if (locked_out)
        ws_findings_add(findings, WS_WARNING,
                        "the kernel %s is left out of the menu: it could not open its root, for %s", k->version,
                        locked_out);
    else if (!k->initrd[0])
        ws_findings_add(
            findings, WS_WARNING,
            "the kernel %s has no initial RAM disk: it finds its root by UUID only if it needs none, and is "
            "an entry only where no other kernel has one",
            k->version);
    else if (!k->known)
        ws_findings_add(findings, WS_WARNING, "%s is not read: %s; a proof tells whether it starts", k->initrd,
                        why->what);
    else if (k->known && ws_kernel_unsure(k))
        ws_findings_add(findings, WS_WARNING, "%s has no driver %s, and whether its kernel has is not known", k->initrd,
                        ws_driver_names(ws_kernel_unsure(k), names, sizeof names));
}

/* One without an initial RAM disk may find it, but does not where others need theirs. */
static bool finds_root(const struct ws_build *b, const struct ws_system_facts *facts, const struct ws_kernel *k) {
    bool others = false;
    if (cannot_open(b, facts, k)) return false;
    for (size_t i = 0; i < facts->kernels; i++) others |= facts->kernel[i].initrd[0] != '\0';
    return !ws_kernel_lacks(k) && (k->initrd[0] || !others);
}

/* A kernel that would wait for its root for ever is no entry of the menu. */
static enum ws_status look_at_kernels(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_error why[WS_KERNELS_MOST] = {0};
    char names[120];
    size_t left = 0;
    for (size_t i = 0; i < facts->kernels; i++) {
        enum ws_status status = ws_kernel_look(b->tree[WS_ROLE_SYSTEM], &facts->kernel[i], &why[i]);
        if (status == WS_E_NOMEM || status == WS_E_READ) {
            if (error) *error = why[i];
            return status;
        }
    }
    for (size_t i = 0; i < facts->kernels; i++) left += finds_root(b, facts, &facts->kernel[i]);
    const struct ws_kernel *first = &facts->kernel[0];
    if (facts->kernels && !left && cannot_open(b, facts, first)) {
        ws_fail(error, WS_E_UNSUPPORTED, "the kernel %s could not open a locked root: %s", first->version,
                cannot_open(b, facts, first));
        return ws_fail_next(error, "have its system make the initial RAM disk anew, with what asks for a passphrase in "
                                   "it (cryptsetup), or leave the drive open");
    }
    if (facts->kernels && !left) {
        ws_fail(error, WS_E_UNSUPPORTED, "the kernel %s would not find its root on a USB drive: %s has no driver %s",
                first->version, first->initrd, ws_driver_names(ws_kernel_lacks(first), names, sizeof names));
        return ws_fail_next(error, "have its system make the initial RAM disk anew, with all drivers");
    }
    for (size_t i = left = 0; i < facts->kernels; i++) {
        struct ws_kernel k = facts->kernel[i];
        note_kernel(b, &k, cannot_open(b, facts, &k), &why[i]);
        if (!finds_root(b, facts, &k)) continue;
        memmove(&facts->kernel[left + 1], &facts->kernel[left], (i - left) * sizeof k); /* the others move behind */
        facts->kernel[left++] = k;
    }
    facts->left_out = facts->kernels - left;
    facts->kernels = left;
    return WS_OK;
}

/* Unasked, a root's own loaders start it where Secure Boot has a use for them: with a kernel that is signed, too. */
static enum ws_status choose_loader(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_loader kernel = {0};
    const struct ws_tree *root = b->tree[WS_ROLE_SYSTEM];
    enum ws_uefi_code wanted = p->request.uefi_code;
    bool found = wanted != WS_UEFI_CODE_OWN && ws_chain_find(root, &b->chain);
    bool sayable = ws_chain_can_say(p->request.kernel_options);
    const struct ws_node *n = facts->kernels ? ws_system_find(root, facts->kernel[0].path) : NULL;
    b->kernel_signed = n && n->content && ws_loader_look(n->content, &kernel) && kernel.signed_;
    if (wanted == WS_UEFI_CODE_IMAGE && (!found || !sayable)) {
        ws_fail(error, WS_E_UNSUPPORTED,
                found
                    ? "the root's own loader cannot be told these kernel parameters"
                    : "the root brings no signed loaders for x86-64 PCs of which it is known how they find their menu");
        return ws_fail_hint(error, WS_HINT_UEFI_CODE, "",
                            "leave that to the plan: our own start-up code is taken then");
    }
    b->have_chain = found && sayable && (wanted == WS_UEFI_CODE_IMAGE || b->kernel_signed);
    b->have_loader = b->have_chain;
    if (b->have_chain) b->loader = b->chain.loader;
    p->facts.own_uefi = !b->have_chain;
    return WS_OK;
}

/* Firmware checks the loaders, the loaders check the kernel. */
static void correct_outlook(struct ws_build *b) {
    build_correct_outlook(b);
    for (size_t i = 1; i < WS_OUTLOOKS && b->have_chain; i++) {
        struct ws_outlook *o = &b->plan->outlook[i];
        o->starts = !o->secure_boot || b->kernel_signed;
        if (!o->secure_boot) (void)snprintf(o->why, sizeof o->why, "by the root's own loader, /EFI/BOOT/BOOTX64.EFI");
        else if (b->kernel_signed)
            (void)snprintf(o->why, sizeof o->why, "its own loader is signed under %s, and its kernel is signed, too",
                           b->loader.issuer[0] ? b->loader.issuer : "a key that could not be read");
        else (void)snprintf(o->why, sizeof o->why, "its loader is signed, and its kernel is not");
    }
}

/* What memory holds would stand in a swap partition as it is. */
static enum ws_status check_swap(const struct ws_plan *p, struct ws_error *error) {
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    if (!build_is_locked(p) || swap.kind == WS_SIZE_USUAL || swap.kind == WS_SIZE_NONE) return WS_OK;
    ws_fail(error, WS_E_USAGE,
            "a swap partition beside a locked system would keep what was in memory, open to everybody");
    return ws_fail_next(error, "leave the swap partition out, or the lock");
}

static enum ws_status settle(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_size swap = build_wanted_size(p, WS_ROLE_SWAP);
    struct ws_own_file file[WS_ADDED_MOST];
    for (size_t i = 0; i < p->request.additions; i++) file[i] = build_own_file(&p->request.addition[i], b->added[i]);
    struct ws_settling s = {.options = p->request.kernel_options,
                            .menu_seconds = p->request.menu_seconds,
                            .made_at = p->facts.made_at,
                            .chain = b->have_chain,
                            .owner = &p->request.owner,
                            .file = file,
                            .files = p->request.additions};
    struct ws_guid id;
    WS_TRY(build_volume_id(p, WS_ROLE_SYSTEM, &id, error));
    (void)ws_guid_text(&id, s.root_uuid);
    WS_TRY(build_volume_id(p, WS_ROLE_START, &id, error));
    ws_serial_name(ws_load_le32(id.byte), s.start_id);
    WS_TRY(build_volume_id(p, WS_ROLE_SWAP, &id, error));
    if (swap.kind == WS_SIZE_BYTES || swap.kind == WS_SIZE_LEAST) (void)ws_guid_text(&id, s.swap_uuid);
    if (build_is_locked(p)) {
        WS_TRY(build_volume_id(p, WS_ROLE_BOOT, &id, error));
        (void)ws_guid_text(&id, s.boot_uuid);
        WS_TRY(ws_guid_derive(&p->facts.id, "lock", &id, error));
        (void)ws_guid_text(&id, s.lock_uuid);
    }
    if (b->table->kind == WS_TABLE_GPT) (void)ws_guid_text(&b->table->disk_id, s.table_id);
    else (void)snprintf(s.table_id, sizeof s.table_id, "%08x", ws_load_le32(b->table->mbr_sector + 440));
    return ws_system_settle(b->tree[WS_ROLE_SYSTEM], facts, &s, &b->owned, &p->findings, error);
}

static enum ws_status try_size(struct ws_build *b, const struct ws_format *f, uint64_t size, struct ws_error *error) {
    struct ws_volume_params params = build_params(b, WS_ROLE_SYSTEM, f, size);
    return f->compose(&params, b->tree[WS_ROLE_SYSTEM], 0, NULL, NULL, error);
}

/* The smallest volume that holds the root, to a thirty-second: looked for between one that does not and one that does.
 */
static enum ws_status measure(struct ws_build *b, const struct ws_format *f, uint64_t *least, struct ws_error *error) {
    uint64_t size = 0;
    uint64_t low = 0;
    const uint64_t drive = b->plan->drive.size / MIB * MIB;
    *least = 0;
    for (const struct ws_node *n = ws_tree_root(b->tree[WS_ROLE_SYSTEM]); n; n = ws_tree_next(n))
        size += n->same_as ? 0 : ws_node_size(n) + 512;
    size = ws_max_u64(ws_round_up(size + size / 32, MIB), f->least(b->plan->drive.sector, 0));
    for (;;) {
        enum ws_status status = try_size(b, f, size, error);
        if (status != WS_OK && status != WS_E_SPACE) return status;
        if (status == WS_OK) *least = size;
        else low = size;
        if (!low || (*least && *least - low <= ws_max_u64(*least / 32, MIB))) return WS_OK;
        if (!*least && size >= drive) return build_does_not_fit(error, b->plan, size + START_BYTES);
        size =
            *least ? ws_round_up(low + (*least - low) / 2, MIB) : ws_min_u64(2 * size, ws_max_u64(drive, size + MIB));
    }
}

static enum ws_status place(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct ws_format *system;
    struct build_need need[WS_ROLES] = {0};
    const uint64_t head = build_is_locked(p) ? WS_LOCK_HEAD : 0;
    size_t needs = 1;
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
    bool data_rest = build_wanted_size(p, WS_ROLE_DATA).kind == WS_SIZE_REST;
    if (size.kind == WS_SIZE_USUAL && data_rest) size = ws_size_of(least + least / 4 + 1024ull * MIB);
    else if (size.kind == WS_SIZE_USUAL) size.kind = WS_SIZE_REST;
    else if (size.kind == WS_SIZE_LEAST) size = ws_size_of(least);
    WS_TRY(build_need_start(b, START_BYTES, &need[0], error));
    if (head) WS_TRY(build_need_boot(b, &need[needs++], error));
    need[needs++] = (struct build_need){.role = WS_ROLE_SYSTEM,
                                        .format = system,
                                        .size = size,
                                        .least = least,
                                        .most = system->most,
                                        .granule = p->facts.align,
                                        .type = system->type};
    WS_TRY(build_add_needs(b, need, &needs, error));
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
    const struct ws_owner *o = &p->request.owner;
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

static void note_choices(struct ws_build *b, const struct ws_system_facts *facts) {
    struct ws_plan *p = b->plan;
    plan_chose(p, "init", ws_init_name(facts->init), "what its kernel starts first, as its files say");
    plan_chose(p, "start", "our own code", "it reads kernels from %s, whichever the system installs there",
               b->lock ? "their own volume" : "the root itself");
    if (b->have_chain) plan_chose(p, "start on UEFI", "the root's own loader", "it is what Secure Boot knows");
    plan_chose(p, "file system", "ext4", "owners, modes and links must survive, and it forgives a pulled plug");
    build_note_lock(b, facts);
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
    p->facts.align = build_choose_align(p);
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    WS_TRY(check_swap(p, error));
    WS_TRY(open_root(b, &facts, error));
    WS_TRY(look_at_kernels(b, &facts, error));
    WS_TRY(choose_loader(b, &facts, error));
    WS_TRY(build_begin_table(b, error));
    WS_TRY(settle(b, &facts, error));
    if (build_is_locked(p)) WS_TRY(build_cut_boot(b, &facts, error));
    WS_TRY(place(b, error));
    WS_TRY(build_add_front(b, error));
    WS_TRY(build_compose_volumes(b, error));
    build_list_parts(b);
    note_choices(b, &facts);
    correct_outlook(b);
    return WS_OK;
}
