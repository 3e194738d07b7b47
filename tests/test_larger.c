/* test_larger.c — a newer image that is larger than the one on the drive: what stands behind that makes way, what
 * remembers or a data volume, and a cut at any write loses nothing. */
#include "tests/newer.h"

/* All of them take their turn, or one. */
static bool is_taken(size_t i, size_t count) {
    static size_t chosen;
    if (cases_of(3) == 3) return true;
    if (i == 0) chosen = random_below(count);
    return i == chosen;
}

/* A drive, and an image that is larger by `ballast` than the one on it. */
static bool build_with_larger(struct bed *b, struct demo_image *image, const struct arranged *a, uint64_t ballast) {
    const struct demo_params was = {.family = a->family, .table = a->table},
                             is = {.family = a->family, .table = a->newer_table, .newer = true, .ballast = ballast};
    return build_bed(b, &was, a) && demo_image_make(&is, image, &error) == WS_OK;
}

/* What a checker says of the volume that remembers. */
static void judge(const struct opened *o, const struct arranged *a) {
    const char *path = scratch("moved.img");
    struct ws_text out = {0};
    save_source(a->locked ? ws_lock_body(o->lock) : o->slice, path);
    if (have_program("e2fsck") && shell(&out, "e2fsck -fn '%s'", path) != 0)
        fail_at(__FILE__, __LINE__, "%s", out.data);
    ws_text_free(&out);
}

/* A larger image: what is remembered is made anew behind it, and nothing of it is lost, whatever is cut. */
static void larger_moves(const struct arranged *a, uint64_t ballast) {
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b;
    if (!build_with_larger(&b, &image, a, ballast)) return;
    struct ws_tree *theirs = a->files ? random_tree(40, TREE_SHORT | TREE_MARKS, MIB / 8) : NULL;
    if (theirs) put_others(&b, a, theirs);
    if (a->locked) lay_journal(&b, true);
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
        if (cut < 2) judge(&after, a);
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
    for (size_t i = 0; i < 3; i++)
        if (is_taken(i, 3)) larger_moves(&cases[i], (i == 1 ? 120 : 9) * MIB);
}

/* What files on the data volume have beside their content. */
static unsigned marks_of(const struct arranged *a) {
    return a->on && strcmp(a->on, "ext4") == 0 ? TREE_ALL & ~TREE_DEVICES : TREE_MARKS;
}

/* Between the image and what remembers a data volume stands, as on sticks made by hand. */
static void put_between(struct bed *b, const struct ws_table *was, uint64_t length) {
    struct ws_table table = *was;
    struct ws_layout *layout = NULL;
    struct ws_partition place = {.at = b->at + length, .length = b->size};
    const struct ws_guid id = {{7}};
    unsigned number;
    memmove(b->drive->bytes + place.at, b->drive->bytes + b->at, b->size);
    CHECK(ws_table_stand_in(&table, b->at, &place));
    OK(ws_table_add(&table, b->at, length, "data", &id, "", &number, &error));
    OK(ws_layout_create(b->drive_size, &layout, &error));
    OK(ws_table_compose(&table, layout, &error));
    OK(ws_layout_seal(layout, &error));
    lay_at(b, 0, layout);
    ws_layout_close(layout);
    b->files_at = b->at;
    b->files_size = length;
    b->at = place.at;
}

/* The data volume that stands behind the image: as others filled it. */
static void fill_data(struct bed *b, const struct arranged *a, struct ws_tree *theirs) {
    struct ws_table table;
    size_t count;
    OK(ws_table_read(b->now, 512, &table, NULL, &error));
    if (!a->in_file) {
        struct ws_tree *none = NULL;
        put_between(b, &table, 90 * MIB);
        OK(ws_tree_create(&none, &error));
        compose_files(b, a, "TIDE", none);
        ws_tree_close(none);
    }
    const struct ws_partition *p = ws_table_partitions(&table, &count);
    for (size_t i = 0; i < count && a->in_file; i++)
        if (b->at > p[i].at && b->at - p[i].at < p[i].length && p[i].mbr_type != 0xee) {
            b->files_at = p[i].at;
            b->files_size = p[i].length;
        }
    put_there(b, a, theirs, "left.txt", "by hand", NULL);
}

/* All that others put there is on it, and what remembers if it is a file of it. */
static void check_data(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const struct ws_neighbour *is) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL, *apart = NULL;
    struct ws_volume_facts facts;
    uint64_t remembers = 0;
    if (is->at) {
        b->files_size -= is->at - b->files_at;
        b->files_at = is->at;
    }
    OK(ws_source_slice(b->now, b->files_at, b->files_size, &slice, &error));
    OK(ws_format_find(a->on ? a->on : "fat32")->read(slice, &tree, &facts, &error));
    if (is->at) CHECK_INT(facts.free_bytes, is->free_bytes);
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->work && b->files_at + n->work == b->at) remembers = ws_node_size(n);
    CHECK(a->in_file ? remembers >= b->size : remembers == 0);
    OK(ws_tree_cut(tree, ws_tree_find(tree, "Harbour notes"), &apart, &error));
    compare_trees(apart, theirs, marks_of(a));
    CHECK(ws_tree_find(tree, "left.txt"));
    ws_tree_close(apart);
    ws_tree_close(tree);
    ws_source_close(slice);
    if (marks_of(a) == TREE_MARKS) check_files(b, a, "a data volume that gave its front");
}

/* More than the file has, and more than the data volume has. */
static void what_has_not_so_much_room_says_so(void) {
    static const struct arranged a = {"live-boot", DEMO_MBR, DEMO_MBR, .in_file = true};
    for (unsigned i = 0; i < 2; i++) {
        if (!is_taken(i, 2)) continue;
        struct demo_image image = {0};
        struct ws_live_renewal told;
        struct bed b;
        if (!build_with_larger(&b, &image, &a, (i ? 400ull : 70ull) * MIB)) return;
        struct ws_kept *kept = open_kept(&b, false);
        FAILS(work_out(&b, kept, image.source, WS_STAYS_ALL, &told), WS_E_SPACE);
        CHECK(error.next[0]);
        ws_kept_close(kept);
        demo_image_free(&image);
        free_bed(&b);
    }
}

/* A data volume stands behind the older image: it gives its front, and of a file in it that remembers what is there. */
static void a_data_volume_gives_its_front(const struct arranged *a, uint64_t ballast) {
    struct demo_image image = {0};
    struct ws_live_renewal told;
    struct bed b, first;
    if (!build_with_larger(&b, &image, a, ballast)) return;
    struct ws_tree *theirs = random_tree(60, TREE_SHORT | marks_of(a), MIB / 4);
    fill_data(&b, a, theirs);
    if (a->in_file || a->locked) lay_journal(&b, a->locked);
    uint8_t *all = malloc(b.drive_size);
    memcpy(all, b.drive->bytes, b.drive_size);
    first = b;
    struct ws_source *older = NULL;
    struct opened before;
    OK(ws_source_memory(all, b.drive_size, &older, &error));
    open_volume(&before, older, b.at, b.size, a->locked);
    for (uint64_t cut = 0, last = 60; cut < last; cut += cut ? (cases_of(3) == 3 ? 2 : 13) : 1) {
        memcpy(b.drive->bytes, all, b.drive_size);
        b = first;
        struct ws_kept *kept = open_kept(&b, a->locked);
        enum ws_status status = work_out(&b, kept, image.source, WS_STAYS_ALL, &told);
        if (status != WS_OK)
            fail_at(__FILE__, __LINE__, "%s %s %d: %s (%s)", a->family, a->on, a->locked, error.what, error.where);
        CHECK(told.gives.at > b.files_at && (told.moves > 0) == a->in_file);
        b.drive->writes = 0;
        b.drive->fail_at_write = cut;
        b.drive->cut = cut % CUTS;
        if (status == WS_OK) status = carry_out(&b, kept);
        ws_kept_close(kept);
        b.drive->fail_at_write = 0;
        if (!cut && status != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", a->family, error.what);
        if (status == WS_OK && cut) last = cut;
        const bool changing = ws_changing_read(b.drive->bytes, NULL);
        if (changing) OK(ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, NULL, &error));
        struct ws_memory memory;
        OK(ws_memory_look(b.now, sector_of(&b), &memory, &error));
        CHECK_INT(memory.cause, WS_FORGETS_NOT);
        const bool renewed =
            changing || status == WS_OK || memory.volume_at != b.at || memcmp(all, b.drive->bytes, 512) != 0;
        cuts_seen(!renewed, cut > 0 && renewed);
        b.at += renewed ? told.moves : 0;
        b.size -= renewed ? told.moves : 0;
        const struct ws_neighbour still = {0};
        if (renewed) check_drive(&b, "behind a larger image");
        check_data(&b, a, theirs, renewed ? &told.gives : &still);
        struct opened after;
        open_volume(&after, b.now, b.at, b.size, a->locked);
        compare_trees(after.tree, before.tree, TREE_ALL);
        if (!cut) judge(&after, a);
        close_volume(&after);
    }
    close_volume(&before);
    ws_tree_close(theirs);
    ws_source_close(older);
    free(all);
    demo_image_free(&image);
    free_bed(&b);
}

static void a_larger_image_takes_of_a_data_volume(void) {
    static const struct arranged cases[] = {
        {"live-boot", DEMO_MBR, DEMO_MBR, .in_file = true},
        {"dracut", DEMO_GPT, DEMO_GPT, .in_file = true, .on = "exfat"},
        {"live-boot", DEMO_GPT, DEMO_GPT, .keeps = 60},
        {"casper", DEMO_MBR, DEMO_MBR, .keeps = 60, .on = "ext4"},
        {"live-boot", DEMO_MBR, DEMO_MBR, .keeps = 60, .on = "exfat", .locked = true},
        {"live-boot", DEMO_MBR, DEMO_MBR, .files = true, .in_file = true, .on = "exfat"},
    };
    enum { ALL = sizeof cases / sizeof cases[0] };
    for (size_t i = 0; i < ALL; i++)
        if (is_taken(i, ALL))
            a_data_volume_gives_its_front(&cases[i], (cases[i].files ? 120ull : 5ull) * MIB + random_below(8 * MIB));
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"a larger image moves what is remembered", a_larger_image_moves_what_is_remembered},
        {"a larger image takes of a data volume", a_larger_image_takes_of_a_data_volume},
        {"what has not so much room says so", what_has_not_so_much_room_says_so},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
