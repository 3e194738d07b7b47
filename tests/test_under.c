/* test_under.c — a newer image laid under what a live drive remembers: all of the new system is there, what is
 * remembered stays to the byte, and a cut at any write leaves the one or the other. */
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20, DRIVE = 400 * MIB };

struct bed {
    struct memory_drive *drive;
    struct ws_source *now;
    uint64_t at, size; /* of the volume that remembers */
};

/* Something is remembered, as a system would leave it. */
static void fill(struct bed *b) {
    struct ws_source *slice = NULL, *was = NULL;
    struct ws_tree *tree = NULL, *extra = random_tree(60, TREE_ALL & ~TREE_DEVICES, 3 * MIB);
    struct ws_node *top = NULL;
    struct ws_ext4_params p = {.made_at = 1790000000, .mounts = 3};
    struct ws_ext4_geometry g;
    struct ws_layout *layout = NULL;
    struct ws_memory m;
    uint8_t *copy = malloc(b->size);
    memcpy(copy, b->drive->bytes + b->at, b->size);
    OK(ws_memory_look(b->now, 512, &m, &error));
    OK(ws_source_memory(copy, b->size, &was, &error));
    OK(ws_ext4_read(was, &tree, NULL, &error));
    OK(ws_tree_folder(tree, m.family->changes, &top, &error));
    OK(ws_tree_graft(tree, top, extra, &error));
    p.over = was;
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(b->size, &layout, &error));
    OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &slice, &error));
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        OK(ws_source_read(slice, e->at, b->drive->bytes + b->at + e->at, e->length, &error));
    }
    ws_source_close(slice);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    ws_tree_close(extra);
    ws_source_close(was);
    free(copy);
}

static bool build_bed(struct bed *b, const struct demo_params *p, bool locked, bool in_file) {
    struct demo_image image = {0};
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct planned plan;
    memset(b, 0, sizeof *b);
    memset(&error, 0, sizeof error);
    b->drive = memory_drive(DRIVE, 512);
    planned_begin(&plan, WS_KIND_LIVE_WHOLE, &b->drive->facts);
    struct ws_wanted *w = ws_request_want(&plan.request, WS_ROLE_PERSISTENCE);
    w->locked = locked;
    w->size = ws_size_of((in_file ? 64 : 120) * MIB);
    if (in_file) w->place = WS_PLACE_FILE;
    ws_request_want(&plan.request, WS_ROLE_DATA)->size = in_file ? ws_size_of(320 * MIB) : ws_size_of(66 * MIB);
    struct ws_build_options o = {.confirm = plan.setting.drive.name};
    enum ws_status status = demo_image_make(p, &image, &error);
    if (status == WS_OK) status = planned_prepare(&plan, image.source, &build);
    if (status == WS_OK && locked) status = ws_build_password(build, 0, "fulmar over the bar", &error);
    if (status == WS_OK) status = ws_build_carry_out(build, plain_port(), &b->drive->drive, &o, &result, &error);
    if (status == WS_OK) status = ws_source_drive(&b->drive->drive, &b->now, &error);
    if (status != WS_OK) fail_at(__FILE__, __LINE__, "no bed: %s", error.what);
    if (status == WS_OK) b->at = VOLUME(plan, PERSISTENCE)->at;
    if (status == WS_OK) b->size = VOLUME(plan, PERSISTENCE)->size;
    ws_build_close(build);
    demo_image_free(&image);
    if (status == WS_OK && !locked && !in_file) fill(b);
    return status == WS_OK;
}

static void free_bed(struct bed *b) {
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

static struct ws_kept *open_kept(struct bed *b, bool locked) {
    struct ws_kept *kept = NULL;
    memset(&error, 0, sizeof error);
    if (ws_kept_open(b->now, 512, locked ? "fulmar over the bar" : NULL, &kept, &error) != WS_OK)
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
    OK(ws_table_check(b->now, 512, &findings, &error));
    if (ws_findings_worst(&findings) == WS_FAULT) fail_at(__FILE__, __LINE__, "%s: %s", where, findings.list[0].text);
    OK(ws_memory_look(b->now, 512, &memory, &error));
    if (memory.cause != WS_FORGETS_NOT) fail_at(__FILE__, __LINE__, "%s: %s", where, memory.cause_text);
    CHECK_INT(memory.volume_at, b->at);
    OK(ws_table_read(b->now, 512, table, NULL, &error));
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
    static const struct {
        const char *family;
        enum demo_table table, newer_table;
        bool locked, in_file;
    } cases[] = {{"live-boot", DEMO_MBR, DEMO_MBR, false, false},
                 {"live-boot", DEMO_GPT, DEMO_GPT, false, false},
                 {"casper", DEMO_GPT, DEMO_MBR, false, false},
                 {"casper", DEMO_HYBRID, DEMO_GPT, false, false},
                 {"dracut", DEMO_MBR_FIRST, DEMO_MBR_FIRST, false, false},
                 {"live-boot", DEMO_MBR, DEMO_MBR, true, false},
                 {"live-boot", DEMO_MBR, DEMO_MBR, false, true}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct demo_params was = {.family = cases[i].family, .table = cases[i].table};
        const struct demo_params is = {.family = cases[i].family, .table = cases[i].newer_table, .newer = true};
        struct demo_image image = {0};
        struct ws_live_renewal told;
        struct bed b;
        if (!build_bed(&b, &was, cases[i].locked, cases[i].in_file)) return;
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

/* As it was, or to be finished: and then the newer one. */
static void a_cut_at_every_write_leaves_the_one_or_the_other(void) {
    const struct demo_params was = {.family = "live-boot", .table = DEMO_GPT},
                             is = {.family = "live-boot", .table = DEMO_GPT, .newer = true};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_bed(&b, &was, false, false)) return;
    OK(demo_image_make(&is, &image, &error));
    uint8_t *first = malloc(DRIVE);
    memcpy(first, b.drive->bytes, DRIVE);
    for (int how = 0; how < CUTS; how++) {
        unsigned before = 0, after = 0;
        for (uint64_t cut = 1; cut < 400; cut++) {
            memcpy(b.drive->bytes, first, DRIVE);
            struct ws_kept *kept = open_kept(&b, false);
            OK(work_out(&b, kept, image.source, cut % 2 ? WS_STAYS_ALL : WS_STAYS_NOTHING, &told));
            b.drive->writes = 0;
            b.drive->fail_at_write = cut;
            b.drive->cut = how;
            enum ws_status status = carry_out(&b, kept);
            ws_kept_close(kept);
            b.drive->fail_at_write = 0;
            if (status == WS_OK) break;
            uint64_t written;
            status = ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, &written, &error);
            if (status == WS_OK) {
                after++;
                check_drive(&b, "finished");
                continue;
            }
            before++;
            CHECK_INT(status, WS_E_NOTFOUND);
            struct ws_memory memory;
            OK(ws_memory_look(b.now, 512, &memory, &error));
            CHECK_INT(memory.cause, WS_FORGETS_NOT);
            if (memcmp(first, b.drive->bytes, (size_t)b.at) != 0)
                fail_at(__FILE__, __LINE__, "%d, %llu: the older system is not as it was", how,
                        (unsigned long long)cut);
        }
        cuts_seen(before, after);
        if (!before || after < 3) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
    }
    free(first);
    demo_image_free(&image);
    free_bed(&b);
}

/* A larger image: what is remembered is made anew behind it, and nothing of it is lost, whatever is cut. */
static void a_larger_image_moves_what_is_remembered(void) {
    const struct demo_params was = {.family = "live-boot", .table = DEMO_GPT},
                             is = {.family = "live-boot", .table = DEMO_GPT, .newer = true, .ballast = 9 * MIB};
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_bed(&b, &was, false, false)) return;
    OK(demo_image_make(&is, &image, &error));
    const uint64_t at = b.at;
    uint8_t *first = malloc(DRIVE), *volume = malloc(b.size);
    struct ws_source *older = NULL;
    struct ws_tree *kept_tree = NULL;
    memcpy(first, b.drive->bytes, DRIVE);
    memcpy(volume, first + at, b.size);
    OK(ws_source_memory(volume, b.size, &older, &error));
    OK(ws_ext4_read(older, &kept_tree, NULL, &error));
    for (uint64_t cut = 0, last = 60; cut < last; cut++) {
        memcpy(b.drive->bytes, first, DRIVE);
        b.at = at;
        struct ws_kept *kept = open_kept(&b, false);
        OK(work_out(&b, kept, image.source, WS_STAYS_ALL, &told));
        CHECK(told.moves >= 8 * MIB);
        b.drive->writes = 0;
        b.drive->fail_at_write = cut;
        b.drive->cut = cut % CUTS;
        enum ws_status status = carry_out(&b, kept);
        ws_kept_close(kept);
        b.drive->fail_at_write = 0;
        if (status == WS_OK && cut) last = cut;
        const bool changing = ws_changing_read(b.drive->bytes, NULL);
        struct ws_memory memory = {.volume_at = 0};
        if (!changing) OK(ws_memory_look(b.now, 512, &memory, &error));
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
        struct ws_source *slice = NULL;
        struct ws_tree *tree = NULL;
        OK(ws_source_slice(b.now, b.at, b.size - told.moves, &slice, &error));
        OK(ws_ext4_read(slice, &tree, NULL, &error));
        compare_trees(tree, kept_tree, TREE_ALL);
        if (cut < 2) {
            const char *path = scratch("moved.img");
            struct ws_text out = {0};
            save_source(slice, path);
            if (have_program("e2fsck") && shell(&out, "e2fsck -fn '%s'", path) != 0)
                fail_at(__FILE__, __LINE__, "%s", out.data);
            ws_text_free(&out);
        }
        ws_tree_close(tree);
        ws_source_close(slice);
    }
    ws_tree_close(kept_tree);
    ws_source_close(older);
    free(first);
    free(volume);
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
    if (!build_bed(&b, &was, false, false)) return;
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
        {"what does not go is said", what_does_not_go_is_said},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
