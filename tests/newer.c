/* newer.c — see newer.h. */
#include "tests/newer.h"

enum { PAGE_OF_FILES = 4096 };

void lay_at(struct bed *b, uint64_t at, const struct ws_layout *layout) {
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        OK(ws_source_read(e->from, e->from_at, b->drive->bytes + at + e->at, e->length, &error));
    }
}

/* Something is remembered, as a system would leave it. */
static void fill(struct bed *b) {
    struct ws_source *was = NULL;
    struct ws_tree *tree = NULL, *extra = random_tree(60, TREE_ALL & ~TREE_DEVICES, 3 * MIB);
    struct ws_node *top = NULL;
    struct ws_ext4_params p = {.made_at = 1790000000, .mounts = 3};
    struct ws_ext4_geometry g;
    struct ws_layout *layout = NULL;
    struct ws_memory m;
    uint8_t *copy = malloc(b->size);
    memcpy(copy, b->drive->bytes + b->at, b->size);
    OK(ws_memory_look(b->now, b->drive->facts.logical_sector, &m, &error));
    OK(ws_source_memory(copy, b->size, &was, &error));
    OK(ws_ext4_read(was, &tree, NULL, &error));
    OK(ws_tree_folder(tree, m.family->changes, &top, &error));
    OK(ws_tree_graft(tree, top, extra, &error));
    p.over = was;
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(b->size, &layout, &error));
    OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    lay_at(b, b->at, layout);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    ws_tree_close(extra);
    ws_source_close(was);
    free(copy);
}

/* What a drive like this is asked to be. */
static void ask(struct ws_request *r, const struct arranged *a) {
    struct ws_wanted *w = ws_request_want(r, WS_ROLE_PERSISTENCE);
    const bool beside = a->in_file && a->files && strcmp(a->family, "live-boot") != 0;
    w->locked = a->locked;
    w->size = ws_size_of((a->keeps ? a->keeps : a->in_file || a->sector || a->small ? 64 : 120) * (uint64_t)MIB);
    if (a->in_file) w->place = WS_PLACE_FILE;
    if (a->data) ws_request_want(r, WS_ROLE_DATA)->size = ws_size_of(a->data * (uint64_t)MIB);
    if (!beside && !a->sector && !a->small && !a->keeps)
        ws_request_want(r, WS_ROLE_DATA)->size =
            a->in_file ? ws_size_of((a->files ? 130 : 320) * MIB) : ws_size_of(66 * MIB);
    if (a->files && a->in_file && !beside) (void)strcpy(ws_request_want(r, WS_ROLE_DATA)->format, "exfat");
    if (a->in_file && !a->files && a->on) (void)strcpy(ws_request_want(r, WS_ROLE_DATA)->format, a->on);
    if (a->in_file && !beside) (void)strcpy(ws_request_want(r, WS_ROLE_DATA)->label, "TIDE");
    if (!a->files) return;
    w = ws_request_want(r, WS_ROLE_SYSTEM);
    w->size = ws_size_of((a->small ? beside ? 80 : 36 : beside ? 330 : 110) * MIB);
    (void)snprintf(w->format, sizeof w->format, "%s", a->on ? a->on : "");
    r->table = a->gpt ? WS_TABLE_WISH_GPT : WS_TABLE_USUAL;
    r->check = WS_CHECK_QUICK;
    r->menu_seconds = 7;
    r->rules.added = 1;
    (void)strcpy(r->rules.add[0].path, "SURVEY.TXT");
    (void)strcpy(r->rules.add[0].text, "gannet point");
}

bool build_bed(struct bed *b, const struct demo_params *p, const struct arranged *a) {
    struct demo_image image = {0};
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct planned plan;
    memset(b, 0, sizeof *b);
    memset(&error, 0, sizeof error);
    b->drive_size = (a->small ? 240ull : 400ull) * MIB;
    b->drive = memory_drive(b->drive_size, a->sector ? a->sector : 512);
    planned_begin(&plan, a->files ? WS_KIND_LIVE_FILES : WS_KIND_LIVE_WHOLE, &b->drive->facts);
    ask(&plan.request, a);
    struct ws_build_options o = {.confirm = plan.setting.drive.name};
    enum ws_status status = demo_image_make(p, &image, &error);
    if (status == WS_OK) status = planned_prepare(&plan, image.source, &build);
    if (status == WS_OK && a->locked) status = ws_build_password(build, 0, "fulmar over the bar", &error);
    if (status == WS_OK) status = ws_build_carry_out(build, plain_port(), &b->drive->drive, &o, &result, &error);
    if (status == WS_OK) status = ws_source_drive(&b->drive->drive, &b->now, &error);
    if (status != WS_OK)
        fail_at(__FILE__, __LINE__, "no bed: %s, %d, %s: %s", p->family, a->files, a->on ? a->on : "", error.what);
    if (status == WS_OK) b->at = VOLUME(plan, PERSISTENCE)->at;
    if (status == WS_OK) b->size = VOLUME(plan, PERSISTENCE)->size;
    if (status == WS_OK && a->files) b->files_at = VOLUME(plan, SYSTEM)->at;
    if (status == WS_OK && a->files) b->files_size = VOLUME(plan, SYSTEM)->size;
    ws_build_close(build);
    demo_image_free(&image);
    if (status == WS_OK && !a->locked && !a->in_file) fill(b);
    return status == WS_OK;
}

void free_bed(struct bed *b) {
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

struct ws_kept *open_kept(struct bed *b, bool locked) {
    struct ws_kept *kept = NULL;
    memset(&error, 0, sizeof error);
    if (ws_kept_open(b->now, sector_of(b), locked ? "fulmar over the bar" : NULL, &kept, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s", error.what);
    return kept;
}

enum ws_status work_out(struct bed *b, struct ws_kept *kept, const struct ws_source *image, enum ws_stays stays,
                        struct ws_live_renewal *told) {
    struct planned plan;
    planned_begin(&plan, WS_KIND_LIVE_WHOLE, &b->drive->facts);
    plan.setting.input[WS_INPUT_IMAGE] = image;
    memset(&error, 0, sizeof error);
    WS_TRY(ws_kept_renew(kept, &plan.setting, "newer.iso", stays, told, &error));
    return ws_kept_prepare(kept, 1790000500, NULL, &error);
}

enum ws_status carry_out(struct bed *b, struct ws_kept *kept) {
    const struct ws_kept_options o = {.confirm = b->drive->facts.short_name};
    struct ws_write_result result;
    return ws_kept_carry_out(kept, plain_port(), &b->drive->drive, &o, &result, &error);
}

void check_drive(struct bed *b, const char *where) {
    struct ws_findings findings = {0};
    struct ws_memory memory;
    struct ws_medium medium = {0};
    struct ws_root root = {0};
    struct ws_system_facts facts;
    struct ws_table *table = malloc(sizeof *table);
    OK(ws_table_check(b->now, sector_of(b), &findings, &error));
    if (ws_findings_worst(&findings) == WS_FAULT) fail_at(__FILE__, __LINE__, "%s: %s", where, findings.list[0].text);
    OK(ws_memory_look(b->now, sector_of(b), &memory, &error));
    if (memory.cause != WS_FORGETS_NOT) fail_at(__FILE__, __LINE__, "%s: %s", where, memory.cause_text);
    CHECK_INT(memory.volume_at, b->at);
    OK(ws_table_read(b->now, sector_of(b), table, NULL, &error));
    OK(ws_medium_open(b->now, table, &medium, &error));
    OK(ws_root_open(b->now, medium.tree, NULL, &root, &error));
    OK(ws_system_look(root.tree, &facts, &error));
    CHECK_HAS(facts.name, "13");
    ws_root_close(&root);
    ws_medium_close(&medium);
    ws_findings_free(&findings);
    free(table);
}

/* The volume of its files with another tree on it. What its overlay file holds stays where it is. */
void compose_files(struct bed *b, const struct arranged *a, const char *label, struct ws_tree *tree) {
    const struct ws_format *format = ws_format_find(a->on ? a->on : "fat32");
    struct ws_volume_params p = {.size = b->files_size, .sector = sector_of(b), .align = 65536, .made_at = 1790000000};
    struct ws_layout *layout = NULL;
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        n->fixed = n->reserved = a->in_file && n->kind == WS_NODE_FILE && n->work && b->files_at + n->work == b->at;
        if (n->fixed) n->origin = n->work;
        p.cluster = n->fixed ? PAGE_OF_FILES : p.cluster;
    }
    (void)snprintf(p.label, sizeof p.label, "%s", label);
    OK(ws_layout_create(b->files_size, &layout, &error));
    OK(format->compose(&p, tree, 0, layout, NULL, &error));
    OK(ws_layout_seal(layout, &error));
    lay_at(b, b->files_at, layout);
    ws_layout_close(layout);
}

void put_there(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *path, const char *text,
               const char *off) {
    const struct ws_format *format = ws_format_find(a->on ? a->on : "fat32");
    struct ws_source *was = NULL;
    struct ws_tree *tree = NULL;
    struct ws_volume_facts facts;
    struct ws_node *folder = NULL;
    uint8_t *copy = malloc(b->files_size);
    memcpy(copy, b->drive->bytes + b->files_at, b->files_size);
    OK(ws_source_memory(copy, b->files_size, &was, &error));
    OK(format->read(was, &tree, &facts, &error));
    if (theirs) OK(ws_tree_folder(tree, "Harbour notes", &folder, &error));
    if (theirs) OK(ws_tree_graft(tree, folder, theirs, &error));
    OK(ws_tree_put(tree, path, text, strlen(text), NULL, &error));
    if (off) ws_tree_drop(tree, ws_tree_find_any_case(tree, off));
    compose_files(b, a, facts.label, tree);
    ws_tree_close(tree);
    ws_source_close(was);
    free(copy);
}

void put_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs) {
    put_there(b, a, theirs, "boot/grub/grub.cfg", "by hand", NULL);
}

void check_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *where) {
    const struct ws_format *format = ws_format_find(a->on ? a->on : "fat32");
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL, *apart = NULL;
    OK(ws_source_slice(b->now, b->files_at, b->files_size, &slice, &error));
    OK(format->read(slice, &tree, NULL, &error));
    struct ws_node *folder = tree ? ws_tree_find(tree, "Harbour notes") : NULL;
    const struct ws_node *menu = tree ? ws_tree_find_any_case(tree, "boot/grub/grub.cfg") : NULL;
    if (!folder || !menu || ws_node_size(menu) < 50) fail_at(__FILE__, __LINE__, "%s: files are missing", where);
    if (folder) OK(ws_tree_cut(tree, folder, &apart, &error));
    if (apart) compare_trees(apart, theirs, TREE_MARKS);
    ws_tree_close(apart);
    ws_tree_close(tree);
    ws_source_close(slice);
}

void check_files(struct bed *b, const struct arranged *a, const char *where) {
    const char *path = scratch("files.img"), *judge = a->on ? "fsck.exfat" : "fsck.fat";
    struct ws_text out = {0};
    struct ws_source *slice = NULL;
    if (!have_program(judge)) return;
    OK(ws_source_slice(b->now, b->files_at, b->files_size, &slice, &error));
    save_source(slice, path);
    if (shell(&out, "%s -n '%s'", judge, path) != 0) fail_at(__FILE__, __LINE__, "%s: %s", where, out.data);
    ws_text_free(&out);
    ws_source_close(slice);
}

void open_volume(struct opened *o, const struct ws_source *drive, uint64_t at, uint64_t size, bool locked) {
    memset(o, 0, sizeof *o);
    OK(ws_source_slice(drive, at, size, &o->slice, &error));
    if (locked) OK(ws_lock_open(o->slice, "fulmar over the bar", &o->lock, &error));
    OK(ws_ext4_read(locked ? ws_lock_body(o->lock) : o->slice, &o->tree, NULL, &error));
}

void close_volume(struct opened *o) {
    ws_tree_close(o->tree);
    ws_lock_close(o->lock);
    ws_source_close(o->slice);
}

void lay_journal(struct bed *b, bool locked) {
    struct ws_kept *kept = open_kept(b, locked);
    OK(ws_kept_journal(kept, true, 1790000400, &error));
    OK(ws_kept_prepare(kept, 1790000400, NULL, &error));
    OK(carry_out(b, kept));
    ws_kept_close(kept);
}
