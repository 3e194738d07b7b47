/* test_under.c — a newer image laid under what a live drive remembers: all of the new system is there, what is
 * remembered stays to the byte, and a cut at any write leaves the one or the other. */
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20, PAGE_OF_FILES = 4096 };

struct bed {
    struct memory_drive *drive;
    struct ws_source *now;
    uint64_t at, size; /* of the volume that remembers */
    uint64_t files_at, files_size;
    size_t drive_size;
};

/* How a drive is arranged. */
struct arranged {
    const char *family;
    enum demo_table table, newer_table;
    bool locked, in_file, files;
    const char *on; /* the volume of its files; NULL: FAT32 */
    bool gpt;
    uint32_t sector; /* bytes; 0: 512 */
    bool small;      /* 240 MiB instead of 400 */
    unsigned keeps;  /* MiB that remember, and no data volume; 0: usual here */
    unsigned data;   /* MiB of a data volume beside those */
};

/* What a volume's layout has, onto the drive. */
static void lay_at(struct bed *b, uint64_t at, const struct ws_layout *layout) {
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

static const struct arranged whole;

static bool build_bed(struct bed *b, const struct demo_params *p, const struct arranged *a) {
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

static void free_bed(struct bed *b) {
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

static uint32_t sector_of(const struct bed *b) { return b->drive->facts.logical_sector; }

static struct ws_kept *open_kept(struct bed *b, bool locked) {
    struct ws_kept *kept = NULL;
    memset(&error, 0, sizeof error);
    if (ws_kept_open(b->now, sector_of(b), locked ? "fulmar over the bar" : NULL, &kept, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s", error.what);
    return kept;
}

static enum ws_status work_out(struct bed *b, struct ws_kept *kept, const struct ws_source *image, enum ws_stays stays,
                               struct ws_live_renewal *told) {
    struct planned plan;
    planned_begin(&plan, WS_KIND_LIVE_WHOLE, &b->drive->facts);
    plan.setting.input[WS_INPUT_IMAGE] = image;
    memset(&error, 0, sizeof error);
    WS_TRY(ws_kept_renew(kept, &plan.setting, "newer.iso", stays, told, &error));
    return ws_kept_prepare(kept, 1790000500, NULL, &error);
}

static enum ws_status carry_out(struct bed *b, struct ws_kept *kept) {
    const struct ws_kept_options o = {.confirm = b->drive->facts.short_name};
    struct ws_write_result result;
    return ws_kept_carry_out(kept, plain_port(), &b->drive->drive, &o, &result, &error);
}

/* Does the drive start the newer system, and would it remember? */
static void check_drive(struct bed *b, const char *where) {
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

static void every_arrangement_is_renewed(void) {
    static const struct arranged cases[] = {
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = false},
        {"live-boot", DEMO_GPT, DEMO_GPT, .files = false},
        {"casper", DEMO_GPT, DEMO_MBR, .files = false},
        {"casper", DEMO_HYBRID, DEMO_GPT, .files = false},
        {"dracut", DEMO_MBR_FIRST, DEMO_MBR_FIRST, .files = false},
        {"live-boot", DEMO_MBR, DEMO_MBR, .locked = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .in_file = true},
        {"dracut", DEMO_GPT, DEMO_GPT, .in_file = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true},
        {"casper", DEMO_MBR, DEMO_MBR, .files = true, .gpt = true},
        {"dracut", DEMO_MBR, DEMO_MBR, .files = true, .on = "exfat"},
        {"dracut", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true},
        {"dracut", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true, .on = "exfat", .gpt = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true},
        {"casper", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .gpt = true, .sector = 4096},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .locked = true, .on = "exfat"}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct demo_params was = {.family = cases[i].family, .table = cases[i].table};
        const struct demo_params is = {.family = cases[i].family, .table = cases[i].newer_table, .newer = true};
        if (cases_of(3) != 3 && random_below(2)) continue; /* half of them */
        struct demo_image image = {0};
        struct ws_live_renewal told;
        struct bed b;
        if (!build_bed(&b, &was, &cases[i])) return;
        uint8_t *volume = malloc(b.size);
        memcpy(volume, b.drive->bytes + b.at, b.size);
        OK(demo_image_make(&is, &image, &error));
        struct ws_kept *kept = open_kept(&b, cases[i].locked);
        enum ws_status status = work_out(&b, kept, image.source, WS_STAYS_ALL, &told);
        if (status == WS_OK) status = carry_out(&b, kept);
        if (status != WS_OK) fail_at(__FILE__, __LINE__, "%zu: %s %s", i, error.what, error.next);
        ws_kept_close(kept);
        CHECK_HAS(told.was, "12");
        CHECK_HAS(told.is, "13");
        CHECK(!told.same && told.differs > 0);
        if (status == WS_OK) check_drive(&b, cases[i].family);
        if (cases[i].locked) goto next;
        /* the log lay where the volume has nothing, and all else is as it was */
        struct ws_source *slice = NULL, *older = NULL;
        struct ws_tree *a = NULL, *c = NULL;
        OK(ws_source_slice(b.now, b.at, b.size, &slice, &error));
        OK(ws_source_memory(volume, b.size, &older, &error));
        OK(ws_ext4_read(slice, &a, NULL, &error));
        OK(ws_ext4_read(older, &c, NULL, &error));
        compare_trees(a, c, TREE_ALL);
        ws_tree_close(a);
        ws_tree_close(c);
        ws_source_close(slice);
        ws_source_close(older);
        kept = open_kept(&b, cases[i].locked); /* a second time there is nothing to do */
        OK(work_out(&b, kept, image.source, WS_STAYS_ALL, &told));
        CHECK(told.same);
        ws_kept_close(kept);
    next:
        demo_image_free(&image);
        free(volume);
        free_bed(&b);
    }
}

/* The volume of its files with another tree on it. What its overlay file holds stays where it is. */
static void compose_files(struct bed *b, const struct arranged *a, const char *label, struct ws_tree *tree) {
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

/* Put there by somebody else: files, or one of them; and one taken off. NULL: none. */
static void put_there(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *path,
                      const char *text, const char *off) {
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

static void put_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs) {
    put_there(b, a, theirs, "boot/grub/grub.cfg", "by hand", NULL);
}

static void put_file(struct bed *b, const struct arranged *a, const char *path, const char *text, const char *off) {
    put_there(b, a, NULL, path, text, off);
}

/* All that others put there is as it was, and the menu is the newer image's again. */
static void check_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *where) {
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

static void check_files(struct bed *b, const struct arranged *a, const char *where) {
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

/* As it was, or to be finished: and then the newer one. */
static void cut_at_every_write(const struct arranged *a) {
    const struct demo_params was = {.family = a->family, .table = a->table, .ballast = a->files ? 2 * MIB : 0},
                             is = {.family = a->family, .table = a->newer_table, .newer = true};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    const unsigned step = cases_of(3) == 3 ? 1 : 3;
    struct bed b;
    if (!build_bed(&b, &was, a)) return;
    OK(demo_image_make(&is, &image, &error));
    struct ws_tree *theirs = a->files ? random_tree(40, TREE_SHORT | TREE_MARKS, MIB / 8) : NULL;
    if (theirs) put_others(&b, a, theirs);
    uint8_t *first = malloc(b.drive_size);
    memcpy(first, b.drive->bytes, b.drive_size);
    for (int how = 0; how < CUTS; how++) {
        unsigned before = 0, after = 0;
        for (uint64_t cut = 1; cut < 400; cut += step) {
            memcpy(b.drive->bytes, first, b.drive_size);
            struct ws_kept *kept = open_kept(&b, false);
            OK(work_out(&b, kept, image.source, cut % 2 ? WS_STAYS_ALL : WS_STAYS_NOTHING, &told));
            if (theirs) CHECK_INT(told.replaced, 1);
            b.drive->writes = 0;
            b.drive->fail_at_write = cut;
            b.drive->cut = how;
            enum ws_status status = carry_out(&b, kept);
            ws_kept_close(kept);
            b.drive->fail_at_write = 0;
            if (status == WS_OK) {
                if (theirs) check_others(&b, a, theirs, "whole");
                if (theirs) check_files(&b, a, "whole");
                break;
            }
            uint64_t written;
            status = ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, &written, &error);
            if (status == WS_OK) {
                after++;
                check_drive(&b, "finished");
                if (theirs) check_others(&b, a, theirs, "finished");
                continue;
            }
            CHECK_INT(status, WS_E_NOTFOUND);
            struct ws_memory memory;
            OK(ws_memory_look(b.now, sector_of(&b), &memory, &error));
            CHECK_INT(memory.cause, WS_FORGETS_NOT);
            const size_t end = (size_t)(b.at + b.size);
            if (memcmp(first, b.drive->bytes, (size_t)b.at) == 0 &&
                memcmp(first + end, b.drive->bytes + end, b.drive_size - end) == 0) {
                before++;
                continue;
            }
            after++; /* the last write was whole */
            check_drive(&b, "whole, and told otherwise");
            if (theirs) check_others(&b, a, theirs, "whole, and told otherwise");
        }
        cuts_seen(before, after);
        if (!before || after < 3) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
    }
    ws_tree_close(theirs);
    free(first);
    demo_image_free(&image);
    free_bed(&b);
}

static void a_cut_at_every_write_leaves_the_one_or_the_other(void) {
    static const struct arranged cases[] = {
        {"live-boot", DEMO_GPT, DEMO_GPT, .small = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .small = true},
        {"casper", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true, .on = "exfat", .small = true},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) cut_at_every_write(&cases[i]);
}

/* A volume that remembers, behind its lock where it has one. */
struct opened {
    struct ws_source *slice;
    struct ws_lock *lock;
    struct ws_tree *tree;
};

static void open_volume(struct opened *o, const struct ws_source *drive, uint64_t at, uint64_t size, bool locked) {
    memset(o, 0, sizeof *o);
    OK(ws_source_slice(drive, at, size, &o->slice, &error));
    if (locked) OK(ws_lock_open(o->slice, "fulmar over the bar", &o->lock, &error));
    OK(ws_ext4_read(locked ? ws_lock_body(o->lock) : o->slice, &o->tree, NULL, &error));
}

static void close_volume(struct opened *o) {
    ws_tree_close(o->tree);
    ws_lock_close(o->lock);
    ws_source_close(o->slice);
}

/* Something remembered behind a lock, too. */
static void lay_journal(struct bed *b) {
    struct ws_kept *kept = open_kept(b, true);
    OK(ws_kept_journal(kept, true, 1790000400, &error));
    OK(ws_kept_prepare(kept, 1790000400, NULL, &error));
    OK(carry_out(b, kept));
    ws_kept_close(kept);
}

/* A larger image: what is remembered is made anew behind it, and nothing of it is lost, whatever is cut. */
static void larger_moves(const struct arranged *a, uint64_t ballast) {
    const struct demo_params was = {.family = a->family, .table = a->table},
                             is = {.family = a->family, .table = a->newer_table, .newer = true, .ballast = ballast};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_bed(&b, &was, a)) return;
    OK(demo_image_make(&is, &image, &error));
    struct ws_tree *theirs = a->files ? random_tree(40, TREE_SHORT | TREE_MARKS, MIB / 8) : NULL;
    if (theirs) put_others(&b, a, theirs);
    if (a->locked) lay_journal(&b);
    const unsigned step = (cases_of(3) == 3 ? 1u : 3u) * (a->files || a->locked ? 11u : 1u); /* those are long */
    const uint64_t at = b.at;
    uint8_t *first = malloc(b.drive_size);
    struct ws_source *older = NULL;
    struct opened before;
    memcpy(first, b.drive->bytes, b.drive_size);
    OK(ws_source_memory(first, b.drive_size, &older, &error));
    open_volume(&before, older, at, b.size, a->locked);
    for (uint64_t cut = 0, last = 60; cut < last; cut += step) {
        memcpy(b.drive->bytes, first, b.drive_size);
        b.at = at;
        struct ws_kept *kept = open_kept(&b, a->locked);
        OK(work_out(&b, kept, image.source, WS_STAYS_ALL, &told));
        CHECK(told.moves >= MIB);
        b.drive->writes = 0;
        b.drive->fail_at_write = cut;
        b.drive->cut = cut % CUTS;
        enum ws_status status = carry_out(&b, kept);
        ws_kept_close(kept);
        b.drive->fail_at_write = 0;
        if (status == WS_OK && cut) last = cut;
        const bool changing = ws_changing_read(b.drive->bytes, NULL);
        struct ws_memory memory = {.volume_at = 0};
        if (!changing) OK(ws_memory_look(b.now, sector_of(&b), &memory, &error));
        if (!changing) CHECK_INT(memory.cause, WS_FORGETS_NOT);
        if (!changing && memory.volume_at == at) { /* as it was */
            CHECK(status != WS_OK && memcmp(first, b.drive->bytes, (size_t)at) == 0);
            cuts_seen(1, 0);
            continue;
        }
        if (changing) OK(ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, NULL, &error));
        cuts_seen(0, cut > 0 && status != WS_OK);
        b.at = at + told.moves;
        check_drive(&b, "moved");
        const uint64_t files_size = b.files_size;
        if (theirs) b.files_size = b.at - b.files_at;
        if (theirs) check_others(&b, a, theirs, "moved");
        b.files_size = files_size;
        struct opened after;
        open_volume(&after, b.now, b.at, b.size - told.moves, a->locked);
        compare_trees(after.tree, before.tree, TREE_ALL);
        if (cut < 2) {
            const char *path = scratch("moved.img");
            struct ws_text out = {0};
            save_source(a->locked ? ws_lock_body(after.lock) : after.slice, path);
            if (have_program("e2fsck") && shell(&out, "e2fsck -fn '%s'", path) != 0)
                fail_at(__FILE__, __LINE__, "%s", out.data);
            ws_text_free(&out);
        }
        close_volume(&after);
    }
    close_volume(&before);
    ws_tree_close(theirs);
    ws_source_close(older);
    free(first);
    demo_image_free(&image);
    free_bed(&b);
}

static void a_larger_image_moves_what_is_remembered(void) {
    static const struct arranged cases[] = {
        {"live-boot", DEMO_GPT, DEMO_GPT, .keeps = 120, .small = true},
        {"dracut", DEMO_MBR, DEMO_MBR, .files = true, .gpt = true, .keeps = 250},
        {"live-boot", DEMO_MBR, DEMO_MBR, .locked = true, .keeps = 150},
    };
    larger_moves(&cases[0], 9 * MIB);
    larger_moves(&cases[1], 120 * MIB);
    larger_moves(&cases[2], 9 * MIB);
}

/* A file comes to where the log was to go, after that was worked out: it is not written over. */
static void used_meanwhile(struct bed *b, const struct ws_source *image, uint64_t data, uint64_t length) {
    struct ws_volume_params p = {.size = length, .sector = 512, .align = 65536, .made_at = 1790000000};
    struct ws_live_renewal told;
    struct ws_layout *layout = NULL;
    struct ws_source *large = NULL;
    struct ws_tree *tree = NULL;
    struct ws_node *n = NULL;
    struct ws_kept *kept = open_kept(b, false);
    OK(work_out(b, kept, image, WS_STAYS_ALL, &told));
    OK(ws_tree_create(&tree, &error));
    OK(ws_tree_put(tree, "new soundings", "", 0, &n, &error));
    OK(ws_source_zeros(20 * MIB, &large, &error));
    OK(ws_tree_own(tree, large, &error));
    n->content = large;
    OK(ws_layout_create(length, &layout, &error));
    OK(ws_format_find("fat32")->compose(&p, tree, 0, layout, NULL, &error));
    OK(ws_layout_seal(layout, &error));
    lay_at(b, data, layout);
    FAILS(carry_out(b, kept), WS_E_REFUSED);
    CHECK_HAS(error.what, "used a moment ago");
    ws_kept_close(kept);
    ws_layout_close(layout);
    ws_tree_close(tree);
}

/* Where what is remembered has not so much room as differs, the log goes to where a data volume has nothing. */
static void the_log_goes_where_there_is_room(void) {
    static const struct arranged cases[] = {
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .keeps = 24, .data = 150},
        {"casper", DEMO_MBR, DEMO_MBR, .files = true, .gpt = true, .on = "exfat", .keeps = 24, .data = 100},
    };
    for (size_t i = 0; i < 2; i++) {
        const struct arranged *a = &cases[i];
        const struct demo_params was = {.family = a->family, .table = a->table},
                                 is = {.family = a->family, .table = a->table, .newer = true, .ballast = 50 * MIB};
        struct demo_image image = {0};
        struct ws_live_renewal told;
        struct bed b;
        if (!build_bed(&b, &was, a)) return;
        OK(demo_image_make(&is, &image, &error));
        uint8_t *first = malloc(b.drive_size);
        const uint64_t data = b.at + b.size, length = a->data * (uint64_t)MIB;
        memcpy(first, b.drive->bytes, b.drive_size);
        uint64_t writes = 0; /* of all of it */
        used_meanwhile(&b, image.source, data, length);
        for (unsigned turn = 0; turn < (cases_of(3) == 3 ? 6u : 3u); turn++) {
            const uint64_t cut = turn ? writes - (turn - 1) * (writes / 6) : 0;
            memcpy(b.drive->bytes, first, b.drive_size);
            struct ws_kept *kept = open_kept(&b, false);
            OK(work_out(&b, kept, image.source, WS_STAYS_ALL, &told));
            CHECK(told.differs > 24 * MIB && !told.moves);
            b.drive->writes = 0;
            b.drive->fail_at_write = cut;
            b.drive->cut = cut % CUTS;
            enum ws_status status = carry_out(&b, kept);
            ws_kept_close(kept);
            b.drive->fail_at_write = 0;
            if (!turn) writes = b.drive->writes;
            const bool changing = ws_changing_read(b.drive->bytes, NULL);
            if (changing) OK(ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, NULL, &error));
            if (status == WS_OK || changing) check_drive(&b, "its log elsewhere");
            else if (memcmp(first, b.drive->bytes, (size_t)b.at) != 0) check_drive(&b, "its last write whole");
            if (cut) cuts_seen(!changing, changing);
            /* the data volume has all that it had */
            struct ws_source *older = NULL, *slice = NULL, *now = NULL;
            struct ws_tree *x = NULL, *y = NULL;
            OK(ws_source_memory(first, b.drive_size, &older, &error));
            OK(ws_source_slice(older, data, length, &slice, &error));
            OK(ws_source_slice(b.now, data, length, &now, &error));
            OK(ws_format_find("fat32")->read(slice, &x, NULL, &error));
            OK(ws_format_find("fat32")->read(now, &y, NULL, &error));
            compare_trees(y, x, TREE_MARKS);
            ws_tree_close(x);
            ws_tree_close(y);
            ws_source_close(now);
            ws_source_close(slice);
            ws_source_close(older);
        }
        free(first);
        demo_image_free(&image);
        free_bed(&b);
    }
}

/* What others put there, and the newer image brings by the same name; and a drive that lost its list. */
static void others_are_heard(void) {
    static const struct arranged a = {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .small = true};
    const struct demo_params was = {.family = a.family, .ballast = MIB},
                             is = {.family = a.family, .newer = true, .ballast = MIB, .esp_menu = 400};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_bed(&b, &was, &a)) return;
    struct ws_tree *theirs = random_tree(9, TREE_SHORT, MIB / 8);
    put_others(&b, &a, theirs);
    uint8_t *first = malloc(b.drive_size);
    memcpy(first, b.drive->bytes, b.drive_size);
    OK(demo_image_make(&is, &image, &error));
    put_file(&b, &a, "EFI/BOOT/grub.cfg", "mine", NULL);
    struct ws_kept *kept = open_kept(&b, false);
    FAILS(work_out(&b, kept, image.source, WS_STAYS_ALL, &told), WS_E_REFUSED);
    CHECK_HAS(error.where, "EFI/");
    CHECK_HAS(error.next, "another name");
    ws_kept_close(kept);
    memcpy(b.drive->bytes, first, b.drive_size);
    put_file(&b, &a, "left.txt", "by hand", "loader/satchel.laid");
    kept = open_kept(&b, false);
    OK(work_out(&b, kept, image.source, WS_STAYS_ALL, &told));
    CHECK(told.unlisted && told.others > 0 && told.replaced == 0);
    OK(carry_out(&b, kept));
    ws_kept_close(kept);
    check_drive(&b, "without its list");
    check_others(&b, &a, theirs, "without its list");
    /* A list that is damaged is no list to go by. */
    put_file(&b, &a, "loader/satchel.laid", "{\"format\": \"wild-satchel-laid\", \"version\": 1}", NULL);
    kept = open_kept(&b, false);
    FAILS(work_out(&b, kept, image.source, WS_STAYS_ALL, &told), WS_E_FORMAT);
    CHECK_HAS(error.where, "satchel.laid");
    ws_kept_close(kept);
    ws_tree_close(theirs);
    free(first);
    demo_image_free(&image);
    free_bed(&b);
}

static void what_does_not_go_is_said(void) {
    const struct demo_params was = {.family = "live-boot", .table = DEMO_MBR},
                             other = {.family = "casper", .table = DEMO_MBR},
                             large = {.family = "live-boot", .table = DEMO_MBR, .ballast = 130 * MIB};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_bed(&b, &was, &whole)) return;
    struct ws_kept *kept = open_kept(&b, false);
    OK(demo_image_make(&other, &image, &error));
    FAILS(work_out(&b, kept, image.source, WS_STAYS_ALL, &told), WS_E_UNSUPPORTED);
    CHECK_HAS(error.what, "another family");
    demo_image_free(&image);
    ws_kept_close(kept);
    kept = open_kept(&b, false);
    OK(demo_image_make(&large, &image, &error));
    FAILS(work_out(&b, kept, image.source, WS_STAYS_ALL, &told), WS_E_SPACE);
    CHECK_HAS(error.what, "room");
    demo_image_free(&image);
    ws_kept_close(kept);
    free_bed(&b);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"every arrangement is renewed", every_arrangement_is_renewed},
        {"a cut at every write leaves the one or the other", a_cut_at_every_write_leaves_the_one_or_the_other},
        {"a larger image moves what is remembered", a_larger_image_moves_what_is_remembered},
        {"the log goes where there is room", the_log_goes_where_there_is_room},
        {"others are heard", others_are_heard},
        {"what does not go is said", what_does_not_go_is_said},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
