/* test_under.c — a newer image laid under what a live drive remembers: all of the new system is there, what is
 * remembered stays to the byte, and a cut at any write leaves the one or the other. */
#include "tests/newer.h"

static const struct arranged whole;

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

static void put_file(struct bed *b, const struct arranged *a, const char *path, const char *text, const char *off) {
    put_there(b, a, NULL, path, text, off);
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
        {"the log goes where there is room", the_log_goes_where_there_is_room},
        {"others are heard", others_are_heard},
        {"what does not go is said", what_does_not_go_is_said},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
