/* test_room.c — room made in whole volumes by themselves: a file gets longer, a volume loses its end, a top folder is
 * full. What stands around them on a drive is for test_taken.c.
 */
#include "tests/bed.h"

#include "wild_satchel/format.h"

enum { WHOLE = 40 * MIB };

/* A volume of these files in memory. */
static void whole_volume(const struct kind *kind, struct ws_tree *tree, uint8_t *bytes) {
    struct ws_layout *layout = NULL;
    struct ws_source *volume = NULL;
    uint64_t size, free_bytes;
    memset(bytes, 0, WHOLE);
    OK(ws_layout_create(WHOLE, &layout, &error));
    const struct ws_fat_params fat = {.size = WHOLE, .bits = kind->bits, .cluster = kind->cluster};
    const struct ws_exfat_params exfat = {.size = WHOLE, .cluster = kind->cluster, .align = 4096};
    if (kind->bits) OK(ws_fat_compose(&fat, tree, 0, layout, &size, &free_bytes, &error));
    else OK(ws_exfat_compose(&exfat, tree, 0, layout, &free_bytes, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &volume, &error));
    OK(ws_source_read(volume, 0, bytes, WHOLE, &error));
    ws_source_close(volume);
    ws_layout_close(layout);
}

/* What our reader finds in it, beside one file whose content is not looked at, and what a checker says.
 * @param at  out: where the file `place` begins; or NULL */
static void check_whole(const struct kind *kind, uint8_t *bytes, uint64_t size, const struct ws_tree *files,
                        uint64_t free_bytes, const char *aside, const char *place, uint64_t *at) {
    struct ws_source *volume = NULL;
    struct ws_tree *seen = NULL;
    struct ws_volume_facts facts;
    struct ws_text out = {0};
    OK(ws_source_memory(bytes, size, &volume, &error));
    OK(ws_format_find(kind->format)->read(volume, &seen, &facts, &error));
    if (at) *at = ws_tree_find(seen, place)->work;
    if (aside) ws_tree_drop(seen, ws_tree_find(seen, aside));
    compare_trees(seen, files, 0);
    if (free_bytes) CHECK_INT(facts.free_bytes, free_bytes);
    save_source(volume, scratch("whole.img"));
    const char *judge = kind->bits ? "fsck.fat" : "fsck.exfat";
    if (have_program(judge) && shell(&out, "%s -n '%s'", judge, scratch("whole.img")))
        fail_at(__FILE__, __LINE__, "%s: %s", kind->format, out.data);
    ws_text_free(&out);
    ws_tree_close(seen);
    ws_source_close(volume);
}

/* A top folder with `names` names in it, and one more put there: the checkers and our reader find all of them. */
static void put_one_more(const struct kind *kind, size_t names, const char *name, bool whole) {
    enum { LENGTH = 70000 };
    static uint8_t page[LENGTH];
    struct ws_tree *tree = NULL;
    char text[40];
    OK(ws_tree_create(&tree, &error));
    for (size_t i = 0; i < names; i++) {
        (void)snprintf(text, sizeof text, "A%zu", i);
        put_text(tree, text, "low water");
    }
    random_bytes(page, sizeof page);
    uint8_t *bytes = malloc(WHOLE);
    whole_volume(kind, tree, bytes);
    struct ws_room room = {.put_name = name, .put = whole ? page : NULL, .put_length = LENGTH, .put_at = 1790000000};
    make_room(bytes, WHOLE, &room);
    if (!whole) memcpy(bytes + room.put_place, page, LENGTH);
    OK(ws_tree_put(tree, name, page, LENGTH, NULL, &error));
    check_whole(kind, bytes, WHOLE, tree, room.free_after, NULL, NULL, NULL);
    ws_tree_close(tree);
    free(bytes);
}

/* A file gets longer by less than the one behind it has, which lies in one piece: that is parted, and parted again
 * where no free row is as long as what has to go. */
static void a_long_neighbour_is_parted(void) {
    static const struct kind all[] = {{"exfat", 0, 512}, {"exfat", 0, 4096}, {"fat32", 16, 1024}, {"fat32", 32, 512}};
    uint8_t *content = malloc(WHOLE), *bytes = malloc(WHOLE);
    random_bytes(content, WHOLE);
    for (size_t i = 0; i < sizeof all / sizeof all[0]; i++) {
        const struct kind *kind = &all[i];
        const uint64_t length = 20 * MIB + random_below(5000);
        struct ws_tree *tree = NULL;
        struct ws_room room = {.file_goes = true};
        uint64_t at = 0, still = 0;
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "goes", content, 6 * MIB, NULL, &error));
        OK(ws_tree_put(tree, "grows", content, MIB, NULL, &error));
        OK(ws_tree_put(tree, "behind", content + 7, length, NULL, &error));
        OK(ws_tree_put(tree, "last", content + 99, 8 * MIB, NULL, &error));
        whole_volume(kind, tree, bytes);
        check_whole(kind, bytes, WHOLE, tree, 0, NULL, "goes", &room.file_at);
        make_room(bytes, WHOLE, &room);
        ws_tree_drop(tree, ws_tree_find(tree, "goes"));
        check_whole(kind, bytes, WHOLE, tree, room.free_after, NULL, "grows", &at);
        ws_tree_drop(tree, ws_tree_find(tree, "grows"));
        for (uint64_t turn = 1; turn <= 2; turn++) {
            room = (struct ws_room){.file_at = at, .file_length = MIB + turn * 4 * MIB - random_below(3000)};
            make_room(bytes, WHOLE, &room);
            CHECK(room.moved > 3 * MIB && room.moved < 5 * MIB);
            check_whole(kind, bytes, WHOLE, tree, room.free_after, "grows", "grows", &still);
            CHECK_INT(still, at);
        }
        ws_tree_close(tree);
    }
    free(content);
    free(bytes);
}

static const struct kind widths[] = {{"exfat", 0, 512},    {"exfat", 0, 4096},  {"exfat", 0, 32768},
                                     {"fat32", 12, 16384}, {"fat32", 16, 1024}, {"fat32", 32, 512}};
enum { WIDTHS = sizeof widths / sizeof widths[0] };

/* Others' files in it, whose contents stay theirs. */
static void put_others(struct ws_tree *tree, struct ws_tree *others) {
    struct ws_node *folder = NULL;
    OK(ws_tree_folder(tree, "others", &folder, &error));
    OK(ws_tree_graft(tree, folder, others, &error));
}

/* Its end goes, once and again: what stands there moves to where something was before. */
static void a_volume_gives_its_end(void) {
    uint8_t *content = malloc(WHOLE), *bytes = malloc(WHOLE);
    random_bytes(content, WHOLE);
    for (size_t i = 0; i < WIDTHS; i++) {
        const struct kind *kind = &widths[i];
        struct ws_tree *tree = NULL, *others = random_tree(60 + random_below(60), TREE_MARKS, 200000);
        struct ws_room room = {.file_goes = true};
        uint64_t size = WHOLE, moved = 0;
        OK(ws_tree_create(&tree, &error));
        OK(ws_tree_put(tree, "goes", content, 12 * MIB, NULL, &error));
        put_others(tree, others);
        OK(ws_tree_put(tree, "long", content + 7, 9 * MIB + random_below(MIB), NULL, &error));
        whole_volume(kind, tree, bytes);
        check_whole(kind, bytes, WHOLE, tree, 0, NULL, "goes", &room.file_at);
        make_room(bytes, WHOLE, &room);
        ws_tree_drop(tree, ws_tree_find(tree, "goes"));
        for (int turn = 0; turn < 4; turn++) {
            room = (struct ws_room){.back = 0};
            make_room(bytes, size, &room);
            CHECK_INT(room.moved + room.givens, 0);
            const uint64_t steps = room.back_most / room.step, tail = room.tail;
            if (!steps) break; /* FAT16 and FAT32 do with no fewer */
            room = (struct ws_room){.back = (turn < 3 ? 1 + random_below((steps + 1) / 2) : steps) * room.step};
            make_room(bytes, size, &room);
            CHECK(room.back > tail ? room.moved != 0 : room.moved == 0);
            for (size_t k = 0; k < room.givens; k++) CHECK(room.given[k].at >= room.size - room.back - 2 * MIB);
            size -= room.back;
            moved += room.moved;
            check_whole(kind, bytes, size, tree, room.free_after, NULL, NULL, NULL);
        }
        if (kind->bits != 32) CHECK(moved && size < WHOLE - 12 * MIB);
        ws_tree_close(tree);
        ws_tree_close(others);
    }
    free(content);
    free(bytes);
}

/* With its front a file loses its beginning, once and again: what is left of it stays, and all else moves. */
static void a_file_begins_later(void) {
    uint8_t *content = malloc(WHOLE), *bytes = malloc(WHOLE);
    random_bytes(content, WHOLE);
    for (int round = 0; round < cases_of(4 * WIDTHS); round++) {
        const struct kind *kind = &widths[round % WIDTHS];
        struct ws_tree *tree = NULL, *others = random_tree(60 + random_below(60), TREE_MARKS, 200000);
        uint64_t at = 0, begin = 0, length = 14 * MIB + random_below(9000), lost = 0;
        OK(ws_tree_create(&tree, &error));
        if (random_below(2)) OK(ws_tree_put(tree, "before", content, random_below(3 * MIB), NULL, &error));
        OK(ws_tree_put(tree, "file", content + 9, length, NULL, &error));
        put_others(tree, others);
        whole_volume(kind, tree, bytes);
        check_whole(kind, bytes, WHOLE, tree, 0, NULL, "file", &at);
        for (int turn = 0; turn < 3; turn++) {
            struct ws_room room = {.file_at = at, .file_later = true};
            make_room(bytes + begin, WHOLE - begin, &room); /* it is only looked at */
            CHECK(room.file_begins == at && room.file_length == length - lost && !room.moved);
            const uint64_t most = (room.most < 7 * MIB ? room.most : 7 * MIB) / room.step;
            room = (struct ws_room){
                .file_at = at, .file_later = true, .front = (1 + random_below(most / (turn == 2 ? 1 : 3))) * room.step};
            make_room(bytes + begin, WHOLE - begin, &room);
            CHECK(room.file_begins >= at && (room.file_begins - at) % 4096 == 0);
            CHECK_INT(room.file_begins - at, length - lost - room.file_length);
            begin += room.front;
            lost = length - room.file_length;
            ws_tree_drop(tree, ws_tree_find(tree, "file"));
            OK(ws_tree_put(tree, "file", content + 9 + lost, length - lost, NULL, &error));
            const uint64_t begins = room.file_begins - room.front;
            check_whole(kind, bytes + begin, WHOLE - begin, tree, room.free_after, NULL, "file", &at);
            CHECK_INT(at, begins);
        }
        struct ws_room none = {.file_at = at, .file_later = true, .front = 32 * MIB};
        struct ws_source *volume = NULL;
        OK(ws_source_memory(bytes + begin, WHOLE - begin, &volume, &error));
        none.volume = volume;
        FAILS(ws_make_room(&none, NULL, &error), WS_E_RANGE);
        ws_source_close(volume);
        ws_tree_close(tree);
        ws_tree_close(others);
    }
    free(content);
    free(bytes);
}

static void a_full_top_folder_gets_longer(void) {
    static const struct kind fat = {"fat32", 32, 512}, exfat = {"exfat", 0, 512};
    const size_t first = random_below(26);
    for (int n = 0; n < cases_of(26); n++) {
        const size_t names = 10 + (first + (size_t)n) % 26;
        put_one_more(&fat, names, "persistence", false);
        put_one_more(&exfat, names, "persistence", names % 2);
        put_one_more(&fat, names, "PASSPORT.HTM", true);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"a long neighbour is parted", a_long_neighbour_is_parted},
                                        {"a volume gives its end", a_volume_gives_its_end},
                                        {"a file begins later", a_file_begins_later},
                                        {"a full top folder gets longer", a_full_top_folder_gets_longer},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
