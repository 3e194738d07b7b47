/* twin_start.c — what a twin starts by, and its identifiers put right wherever a text says them. */
#include "assemble/twin.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool apart(const struct build_twin *t) { return t->original.kernels < t->original.volumes; }

static struct twin_row *row_of_role(struct build_twin *t, enum ws_role role) {
    for (size_t i = 0; i < t->rows; i++)
        if (t->row[i].role == role) return &t->row[i];
    return NULL;
}

/* An identifier as systems write it. */
static void id_text(const struct twin_row *r, char out[48]) {
    out[0] = '\0';
    if (!r->format) return;
    if (r->format->everywhere) ws_serial_name(ws_load_le32(r->id.byte), out);
    else (void)ws_guid_text(&r->id, out);
}

/* How kernels name a partition by its table: see their "root=PARTUUID=". */
static void partition_text(bool gpt, uint32_t signature, const struct ws_guid *id, unsigned number, char out[48]) {
    if (gpt) (void)ws_guid_text(id, out);
    else (void)snprintf(out, 48, "%08x-%02x", signature, number & 0xff);
}

static bool has_gpt(const struct ws_table *t) { return t->kind == WS_TABLE_GPT || t->kind == WS_TABLE_HYBRID; }

/* Old and new, of each volume, its partition, and the table. */
static void collect_names(struct ws_build *b) {
    struct build_twin *t = b->twin;
    const struct ws_original *o = &t->original;
    const uint32_t was_signature = ws_load_le32(o->table.mbr_sector + 440);
    const uint32_t signature = ws_load_le32(b->table->mbr_sector + 440);
    char was[48], now[48];
    for (size_t i = 0; i < t->rows; i++) {
        const struct twin_row *r = &t->row[i];
        if (r->of >= o->volumes) continue;
        const struct ws_original_volume *v = &o->volume[r->of];
        id_text(r, now);
        ws_new_name_add(&t->names, v->facts.id, now);
        if (!v->place.number) continue;
        partition_text(has_gpt(&o->table), was_signature, &v->place.id, v->place.number, was);
        partition_text(has_gpt(b->table), signature, &r->partition, (unsigned)i + 1, now);
        ws_new_name_add(&t->names, was, now);
    }
    if (has_gpt(&o->table)) (void)ws_guid_text(&o->table.disk_id, was);
    else (void)snprintf(was, sizeof was, "%08x", was_signature);
    if (has_gpt(b->table)) (void)ws_guid_text(&b->table->disk_id, now);
    else (void)snprintf(now, sizeof now, "%08x", signature);
    if (o->table.kind != WS_TABLE_NONE && (has_gpt(&o->table) || was_signature)) ws_new_name_add(&t->names, was, now);
}

static void note_text(void *context, const char *path, size_t places) {
    struct build_twin *t = context;
    t->texts++;
    t->places += places;
    plan_edited(t->build->plan, path, "names of volumes put right in %zu place%s", places, places == 1 ? "" : "s");
}

static enum ws_status rename_all(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    for (size_t i = 0; i < t->rows; i++)
        if (t->row[i].tree)
            WS_TRY(ws_tree_rename_volumes(t->row[i].tree, &t->names, b->plan->facts.made_at, note_text, t, error));
    return WS_OK;
}

/* fstab's device names, and lines of volumes that are not on the twin. */
static enum ws_status settle_mounts(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    char uuid[WS_ORIGINAL_MOST][48] = {""};
    for (size_t i = 0; i < t->rows; i++) {
        const struct twin_row *r = &t->row[i];
        if (r->of >= t->original.volumes) continue;
        id_text(r, uuid[r->of]);
        if (!r->format) (void)snprintf(uuid[r->of], 48, "%.47s", t->original.volume[r->of].facts.id);
    }
    return ws_original_settle_mounts(&t->original, b->tree[WS_ROLE_SYSTEM], (const char(*)[48])uuid,
                                     b->plan->facts.made_at, &b->plan->findings, error);
}

/* What its menu said, for its new volumes: a hibernation image is not carried over. */
static void take_options(struct ws_build *b) {
    struct build_twin *t = b->twin;
    struct ws_text text = {0};
    const char *said = t->original.start.options;
    for (const char *p = said; *p;) {
        const size_t n = strcspn(p, " ");
        const bool resumes = strncmp(p, "resume=", 7) == 0 || strncmp(p, "resume_offset=", 14) == 0;
        if (n && !resumes) ws_text_printf(&text, "%s%.*s", text.length ? " " : "", (int)n, p);
        p += n + (p[n] == ' ');
    }
    if (!ws_parameter_is_set(said, "noresume")) ws_text_printf(&text, "%snoresume", text.length ? " " : "");
    if (b->kernel_options[0]) ws_text_printf(&text, " %s", b->kernel_options);
    if (text.data) (void)snprintf(b->kernel_options, sizeof b->kernel_options, "%s", text.data);
    ws_text_free(&text);
}

/* Its kernels stand in the root for as long as they are looked at. */
static enum ws_status graft_boot(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct twin_row *boot = apart(t) ? twin_row_of(t, t->original.kernels) : NULL;
    struct ws_node *folder = boot ? ws_tree_find(b->tree[WS_ROLE_SYSTEM], "boot") : NULL;
    if (!boot) return WS_OK;
    if (!folder || folder->kind != WS_NODE_FOLDER)
        return ws_fail(error, WS_E_UNSUPPORTED, "the original's /boot is no folder that a volume could be mounted on");
    return ws_tree_graft(b->tree[WS_ROLE_SYSTEM], folder, boot->tree, error);
}

static enum ws_status cut_boot(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct twin_row *boot = apart(t) ? twin_row_of(t, t->original.kernels) : NULL;
    if (!boot) return WS_OK;
    struct ws_node *folder = ws_tree_find(b->tree[WS_ROLE_SYSTEM], "boot");
    const struct ws_node *was = ws_tree_root(boot->tree);
    WS_TRY(ws_tree_cut(b->tree[WS_ROLE_SYSTEM], folder, &b->tree[WS_ROLE_BOOT], error));
    struct ws_node *top = ws_tree_root(b->tree[WS_ROLE_BOOT]);
    top->mode = was->mode;
    top->uid = was->uid;
    top->gid = was->gid;
    top->mtime = was->mtime;
    top->mtime_ns = was->mtime_ns;
    boot->tree = b->tree[WS_ROLE_BOOT];
    return WS_OK;
}

/* A system that other loaders started gets entries that ours starts, and keeps them true by its own hooks. */
static enum ws_status make_entries(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct ws_settling s = {.options = b->kernel_options,
                            .menu_seconds = b->menu_seconds,
                            .made_at = b->plan->facts.made_at,
                            .chain = b->have_chain,
                            .owner = &b->owner};
    id_text(twin_row_of(t, t->original.root), s.root_uuid);
    if (apart(t)) id_text(twin_row_of(t, t->original.kernels), s.boot_uuid);
    return ws_system_make_entries(b->tree[WS_ROLE_SYSTEM], facts, &s, &b->plan->findings, error);
}

/* Its own signed loaders, where it has them: in the root, or on the volume that firmware reads. */
static enum ws_status choose_loader(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    WS_TRY(build_choose_loader(b, facts, error));
    struct ws_tree *start = b->tree[WS_ROLE_START];
    if (b->have_chain || !start || !b->kernel_signed || b->plan->request.uefi_code == WS_UEFI_CODE_OWN) return WS_OK;
    b->have_chain = ws_chain_find_on_start(start, &b->chain) && ws_chain_can_say(b->kernel_options);
    b->have_loader = b->have_chain;
    if (b->have_chain) b->loader = b->chain.loader;
    b->plan->facts.own_uefi = !b->have_chain;
    return WS_OK;
}

/* Would a kernel find its root on a drive that hangs on USB? If none does, all is carried over, and starts nowhere. */
static enum ws_status look_at_kernels(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_error why = {0};
    enum ws_status status = build_look_at_kernels(b, facts, &why);
    if (status == WS_OK && facts->kernels) return WS_OK;
    if (status != WS_OK && status != WS_E_UNSUPPORTED) {
        if (error) *error = why;
        return status;
    }
    b->twin->may_not_find = true;
    ws_findings_add(&b->plan->findings, WS_FAULT, "the twin would not start: %s",
                    facts->kernels ? why.what : "there is no kernel in its folder /boot");
    return WS_OK;
}

/* The place of firmware's program, whatever letters the original writes it in. */
static void clear_program(struct ws_tree *start) {
    static const char *const paths[] = {"EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/GRUBX64.EFI", "EFI/BOOT/GRUB.EFI",
                                        "EFI/BOOT/FBX64.EFI", "EFI/BOOT/MMX64.EFI"};
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++) {
        struct ws_node *n = ws_tree_find_any_case(start, paths[i]);
        if (n) ws_tree_drop(start, n);
    }
    const char *const folders[] = {"EFI", "EFI/BOOT"}; /* one folder, not two that differ in their letters' case */
    for (size_t i = 0; i < 2; i++) {
        struct ws_node *n = ws_tree_find_any_case(start, folders[i]);
        const char *name = strrchr(folders[i], '/') ? strrchr(folders[i], '/') + 1 : folders[i];
        if (n && strcmp(n->name, name) != 0) (void)ws_tree_rename(start, n, name, NULL);
    }
}

static enum ws_status settle_system(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct ws_system_facts *facts = malloc(sizeof *facts);
    if (!facts) return ws_fail(error, WS_E_NOMEM, "out of memory for a system");
    struct ws_tree *root = b->tree[WS_ROLE_SYSTEM];
    enum ws_status status;
    WS_GO(graft_boot(b, error));
    WS_GO(ws_system_look(root, facts, error));
    if (!facts->name[0]) (void)snprintf(facts->name, sizeof facts->name, "%s", b->plan->facts.title);
    WS_GO(look_at_kernels(b, facts, error));
    struct ws_start_settings settings;
    ws_start_settings_look(root, &settings);
    if (!settings.found && !t->may_not_find) {
        take_options(b);
        WS_GO(choose_loader(b, facts, error));
        WS_GO(make_entries(b, facts, error));
        if (b->tree[WS_ROLE_START]) clear_program(b->tree[WS_ROLE_START]);
        WS_GO(build_make_start(b, error));
    } else if (!b->tree[WS_ROLE_START] && t->may_not_find) {
        WS_GO(ws_tree_create(&b->tree[WS_ROLE_START], error));
    } else if (!b->tree[WS_ROLE_START]) { /* made here, but for the volume that firmware reads */
        if (ws_system_find(root, WS_CHAIN_MENU)) WS_GO(choose_loader(b, facts, error));
        else b->plan->facts.own_uefi = true;
        WS_GO(build_make_start(b, error));
    }
    if (b->plan->request.twin.new_host)
        WS_GO(ws_system_new_host(root, facts, b->plan->facts.made_at, &b->plan->findings, error));
    WS_GO(cut_boot(b, error));
    t->original.facts = *facts;
done:
    free(facts);
    return status;
}

/* A program of ours is the newest; whosever it is, what firmware finds is told. */
static void look_at_program(struct ws_build *b) {
    struct build_twin *t = b->twin;
    for (size_t i = 0; i < t->rows; i++) {
        struct ws_tree *tree = t->row[i].tree;
        if (!tree || !t->row[i].format->firmware) continue;
        struct ws_node *n = ws_tree_find_any_case(tree, WS_UEFI_PROGRAM_PATH);
        if (!n || n->kind != WS_NODE_FILE || !n->content || !ws_loader_look(n->content, &b->loader)) continue;
        (void)snprintf(b->loader.path, sizeof b->loader.path, "/EFI/BOOT/BOOTX64.EFI");
        b->have_loader = true;
        b->plan->facts.own_uefi = ws_start_program_is_ours(n->content);
        const struct ws_node *kernel = t->original.facts.kernels
                                           ? ws_system_find(b->tree[WS_ROLE_SYSTEM], t->original.facts.kernel[0].path)
                                           : NULL;
        struct ws_loader look;
        if (kernel && kernel->content) b->kernel_signed = ws_loader_look(kernel->content, &look) && look.signed_;
        return;
    }
}

static bool is_signed(const struct ws_tree *tree, const char *path) {
    const struct ws_node *n = ws_tree_find_any_case(tree, path);
    struct ws_loader look;
    return n && n->kind == WS_NODE_FILE && n->content && ws_loader_look(n->content, &look) && look.signed_;
}

/* What an entry of another loader's menu says that this PC alone, or nothing known here, makes true. */
static void doubt(struct ws_build *b, const struct ws_tree *tree, const struct ws_start_entry *e) {
    struct ws_findings *findings = &b->plan->findings;
    const size_t before = findings->count;
    const uint32_t usb = 1u << WS_DRIVER_USB_STORAGE;
    struct ws_initrd_facts facts = {.maker = ""};
    const struct ws_node *n = e->initrds ? ws_tree_find(tree, e->initrd[e->initrds - 1]) : NULL;
    if (strstr(e->options, "/dev/sd") || strstr(e->options, "/dev/nvme") || strstr(e->options, "/dev/mmcblk"))
        ws_findings_add(findings, WS_WARNING,
                        "its menu names volumes by the place of a disk in one PC (%.200s): on another they are others",
                        e->options);
    if (!n || n->kind != WS_NODE_FILE || !n->content || ws_initrd_look(n->content, &facts, NULL) != WS_OK)
        ws_findings_add(findings, WS_WARNING,
                        "its initial RAM disk is not read: a start tells whether it finds its root");
    else if (!(facts.drivers & usb))
        ws_findings_add(findings, WS_WARNING,
                        "%s has no driver %s, and whether its kernel has is not known: its root is not read here",
                        e->initrd[e->initrds - 1], ws_driver_name(WS_DRIVER_USB_STORAGE));
    b->twin->doubtful = findings->count > before;
}

/* A root that is not read, and a menu that is: our code starts what it names, in its own words. */
static enum ws_status start_by_menu(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct ws_start_entries entries = {0};
    struct twin_row *r = twin_row_of(t, t->original.kernels);
    struct ws_tree *tree = r->tree ? r->tree : b->tree[WS_ROLE_START]; /* firmware's volume has it, too */
    enum ws_status status = ws_start_entries_of(tree, NULL, NULL, &entries, &b->plan->findings, error);
    if (status == WS_OK && entries.count) {
        doubt(b, tree, &entries.entry[0]);
        b->kernel_signed = is_signed(tree, entries.entry[0].linux_path);
    }
    if (status == WS_OK)
        status = ws_start_entries_put(tree, "", &entries, WS_CHECK_OFF, NULL, b->menu_seconds, b->plan->facts.made_at,
                                      error);
    ws_start_entries_free(&entries);
    WS_TRY(status);
    plan_edited(b->plan, "/loader/entries", "what its own menu starts, for our start-up code");
    if (!row_of_role(t, WS_ROLE_START)) return WS_OK; /* its loader stands beside its files, and stays */
    if (b->tree[WS_ROLE_START] && is_signed(b->tree[WS_ROLE_START], WS_UEFI_PROGRAM_PATH))
        return WS_OK; /* for Secure Boot */
    if (b->tree[WS_ROLE_START]) clear_program(b->tree[WS_ROLE_START]);
    b->plan->facts.own_uefi = true;
    return build_make_start(b, error);
}

enum ws_status twin_settle(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct ws_original *o = &t->original;
    t->build = b;
    if (!t->same_identity || b->table->kind != o->table.kind) collect_names(b);
    if (o->root < o->volumes) { /* by the original's names, which go after that */
        b->tree[WS_ROLE_SYSTEM] = o->volume[o->root].tree;
        o->volume[o->root].tree = NULL;
        WS_TRY(settle_mounts(b, error));
    }
    WS_TRY(rename_all(b, error));
    struct twin_row *start = row_of_role(t, WS_ROLE_START);
    if (start && start->tree) { /* the build's from now on: what starts the twin goes there */
        b->tree[WS_ROLE_START] = start->tree;
        o->volume[start->of].tree = NULL;
    }
    if (o->root < o->volumes) {
        struct twin_row *root = twin_row_of(t, o->root);
        b->plan->id_of[WS_ROLE_SYSTEM] = root->id;
        if (apart(t)) b->plan->id_of[WS_ROLE_BOOT] = twin_row_of(t, o->kernels)->id;
        WS_TRY(settle_system(b, error));
    } else if (o->start.menu) {
        WS_TRY(start_by_menu(b, error));
    } else if (t->starts && start && !start->tree) {
        WS_TRY(build_make_start(b, error));
    }
    if (start) start->tree = b->tree[WS_ROLE_START];
    look_at_program(b);
    return WS_OK;
}

void twin_look_out(struct ws_build *b) {
    const struct build_twin *t = b->twin;
    struct ws_plan *p = b->plan;
    const char *no = t->doubtful ? "whether its kernel would find its root from here is not known: see the warning"
                     : t->may_not_find ? "its kernel would not find its root on a drive that hangs on USB"
                     : t->original.root == t->original.volumes
                         ? "no system that is known here starts from it; whether another does is not known"
                         : "nothing on it starts a PC";
    if (t->starts && !t->may_not_find && !t->doubtful) {
        build_system_outlook(b);
        for (size_t i = 1; i < WS_OUTLOOKS && t->original.start.menu && !b->kernel_signed; i++) {
            if (!p->outlook[i].secure_boot || !p->outlook[i].starts) continue;
            p->outlook[i].starts = false;
            (void)snprintf(p->outlook[i].why, sizeof p->outlook[i].why, "its loader is signed, and its kernel is not");
        }
        return;
    }
    for (size_t i = 0; i < WS_OUTLOOKS; i++) {
        p->outlook[i].starts = false;
        (void)snprintf(p->outlook[i].why, sizeof p->outlook[i].why, "%s", no);
    }
}
