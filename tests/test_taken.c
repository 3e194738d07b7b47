/* test_taken.c — room taken from the data volume behind what is remembered or in front of it, or around its file: files
 * move out of the way, swap moves on, and a cut loses nothing of either. Volumes that others filled are for taken.py.
 */
#include "tests/bed.h"

#include "wild_satchel/format.h"

enum { SMALL = 16 * MIB, SWAP = MIB };

/* A bed with swap and a data volume behind what is remembered. */
struct taken {
    struct bed b;
    struct ws_tree *files;  /* of the data volume */
    struct ws_source *swap; /* what was in it */
    uint64_t data_at, data_size;
    bool in_file, front; /* the data volume stands before it */
    struct ws_tree *others;
    struct ws_ext4_geometry geometry; /* of its data volume, if that is ext4 */
};

static const struct kind kinds[] = {{"fat32", 12, 16384}, {"fat32", 16, 1024},  {"exfat", 0, 4096},
                                    {"exfat", 0, 512},    {"fat32", 12, 32768}, {"ext4", 0, 0}};
enum { ALL_KINDS = sizeof kinds / sizeof kinds[0], KINDS = ALL_KINDS - 1 /* that hold a file that remembers */ };
static unsigned marks_of(const struct kind *kind) { return kind->cluster ? TREE_MARKS : TREE_ALL; }

static void put_data(struct taken *t, const struct kind *kind, struct ws_layout *layout) {
    const struct ws_fat_params fat = {.size = t->data_size,
                                      .label = "TIDE",
                                      .bits = kind->bits,
                                      .cluster = kind->cluster,
                                      .hidden_sectors = t->data_at / 512};
    const struct ws_exfat_params exfat = {.size = t->data_size,
                                          .label = "TIDE",
                                          .cluster = kind->cluster,
                                          .align = 4096,
                                          .hidden_sectors = t->data_at / 512};
    struct ws_ext4_params ext4 = {.size = t->data_size, .label = "TIDE", .made_at = 1780000000};
    uint64_t size, free_bytes;
    if (!t->files) t->files = random_tree(40 + random_below(200), marks_of(kind), 60000 + random_below(100000));
    random_bytes(ext4.id.byte, 16);
    if (!kind->cluster) {
        OK(ws_ext4_measure(&ext4, t->files, &t->geometry, &error));
        OK(ws_ext4_compose(&t->geometry, t->data_at, layout, WS_PHASE_SEAL, &error));
    } else if (kind->bits) OK(ws_fat_compose(&fat, t->files, t->data_at, layout, &size, &free_bytes, &error));
    else OK(ws_exfat_compose(&exfat, t->files, t->data_at, layout, &free_bytes, &error));
}

static bool build_taken(struct taken *t, const struct kind *kind) {
    uint64_t ignored, first, end;
    struct ws_table table;
    struct ws_layout *layout = NULL;
    struct ws_volume_params swap = {.size = SWAP, .label = "swap"};
    struct ws_guid id = {{1}};
    unsigned number;
    memset(t, 0, sizeof *t);
    if (!build_bed(&t->b, "live-boot", false)) return false;
    fill_bed(&t->b, "rw", 60, 3);
    bool good = resize(&t->b, SMALL, &ignored) == WS_OK && ws_table_read(t->b.now, 512, &table, NULL, &error) == WS_OK;
    if (!good) {
        fail_at(__FILE__, __LINE__, "no room behind it: %s", error.what);
        return false;
    }
    const uint64_t swap_at = t->b.at + SMALL;
    ws_table_free_tail(&table, &first, &end);
    for (size_t i = 1; i + 1 < table.mbr_count; i++) table.mbr[i] = table.mbr[i + 1]; /* its EFI part makes room */
    table.mbr_count--;
    t->data_at = swap_at + SWAP;
    t->data_size = (end - t->data_at) / MIB * MIB;
    good = good && ws_table_add(&table, swap_at, SWAP, "swap", &id, "", &number, &error) == WS_OK &&
           ws_table_add(&table, t->data_at, t->data_size, "data", &id, "", &number, &error) == WS_OK &&
           ws_layout_create(BED_DRIVE, &layout, &error) == WS_OK;
    random_bytes(swap.id.byte, 16);
    if (good) put_data(t, kind, layout);
    good = good && ws_format_find("swap")->compose(&swap, NULL, swap_at, layout, NULL, &error) == WS_OK &&
           ws_table_compose(&table, layout, &error) == WS_OK && ws_layout_seal(layout, &error) == WS_OK;
    if (good) memory_drive_fill(t->b.drive, layout);
    else fail_at(__FILE__, __LINE__, "no neighbour: %s", error.what);
    ws_layout_close(layout);
    return good;
}

/* A bed whose volume lies in a file, with others of its volume behind it. */
static void build_in_file(struct taken *t, const struct kind *kind) {
    uint64_t ignored;
    struct ws_layout *layout = NULL;
    struct ws_node *file = NULL, *folder = NULL;
    struct ws_tree *others = random_tree(40 + random_below(100), TREE_MARKS, 60000 + random_below(60000));
    static uint8_t large[3 * MIB];
    memset(t, 0, sizeof *t);
    random_bytes(large, sizeof large);
    for (int i = 0; i < 3; i++)
        OK(ws_tree_put(others, &"large"[i], large + random_below(MIB), random_below(2 * MIB), NULL, &error));
    t->in_file = true;
    if (!build_bed(&t->b, "live-boot", false)) return;
    fill_bed(&t->b, "rw", 60, 3);
    t->data_at = t->b.at;
    t->data_size = t->b.size / MIB * MIB;
    OK(resize(&t->b, SMALL, &ignored));
    OK(ws_layout_create(BED_DRIVE, &layout, &error));
    OK(ws_tree_create(&t->files, &error));
    const bool behind_others = random_below(2);
    if (!behind_others) OK(ws_tree_put(t->files, "persistence", t->b.drive->bytes + t->b.at, SMALL, &file, &error));
    OK(ws_tree_folder(t->files, "others", &folder, &error));
    OK(ws_tree_graft(t->files, folder, others, &error));
    if (behind_others) OK(ws_tree_put(t->files, "persistence", t->b.drive->bytes + t->b.at, SMALL, &file, &error));
    struct ws_table table;
    OK(ws_table_read(t->b.now, 512, &table, NULL, &error));
    OK(ws_table_set_length(&table, t->data_at, t->data_size, &error));
    OK(ws_table_compose(&table, layout, &error));
    put_data(t, kind, layout);
    OK(ws_layout_seal(layout, &error));
    memset(t->b.drive->bytes + t->data_at, 0, (size_t)t->data_size); /* no ext4 volume is there any more */
    memory_drive_fill(t->b.drive, layout);
    ws_layout_close(layout);
    t->b.at = t->data_at + file->work;
    ws_tree_drop(t->files, file);
    t->others = others; /* contents are its */
}

/* Its first file goes, and all others stay where they are. */
static void without_first(struct taken *t, const struct kind *kind) {
    struct ws_room room = {.file_at = ws_tree_find(t->files, "goes")->work, .file_goes = true};
    struct ws_source *slice = NULL;
    struct ws_tree *there = NULL;
    struct ws_layout *layout = NULL;
    struct ws_ext4_geometry over;
    struct ws_ext4_params params = {.made_at = 1780000000};
    if (kind->cluster) {
        make_room(t->b.drive->bytes + t->data_at, t->data_size, &room);
    } else {
        OK(ws_source_slice(t->b.now, t->data_at, t->data_size, &slice, &error));
        OK(ws_ext4_read(slice, &there, NULL, &error));
        ws_tree_drop(there, ws_tree_find(there, "goes"));
        params.over = slice;
        OK(ws_layout_create(BED_DRIVE, &layout, &error));
        OK(ws_ext4_measure(&params, there, &over, &error));
        OK(ws_ext4_compose(&over, t->data_at, layout, WS_PHASE_SEAL, &error));
        OK(ws_layout_seal(layout, &error));
        memory_drive_fill(t->b.drive, layout);
        ws_layout_close(layout);
        ws_ext4_geometry_free(&over);
        ws_tree_close(there);
        ws_source_close(slice);
    }
    ws_tree_drop(t->files, ws_tree_find(t->files, "goes"));
}

/* A bed whose data volume stands before what is remembered, and is full at its end. */
static void build_front(struct taken *t, const struct kind *kind) {
    uint64_t ignored, first, end;
    struct ws_layout *layout = NULL;
    struct ws_table table;
    struct ws_guid id = {{1}};
    struct ws_partition place = {.length = SMALL};
    unsigned number;
    static uint8_t content[20 * MIB];
    memset(t, 0, sizeof *t);
    t->front = true;
    if (!build_bed(&t->b, "live-boot", false)) return;
    fill_bed(&t->b, "rw", 60, 3);
    OK(resize(&t->b, SMALL, &ignored));
    OK(ws_table_read(t->b.now, 512, &table, NULL, &error));
    ws_table_free_tail(&table, &first, &end);
    for (size_t i = 1; i + 1 < table.mbr_count; i++) table.mbr[i] = table.mbr[i + 1]; /* its EFI part makes room */
    table.mbr_count--;
    t->data_at = t->b.at;
    t->data_size = (end - SMALL) / MIB * MIB - t->data_at - random_below(2) * MIB; /* nothing in between, or a little */
    place.at = (end - SMALL) / MIB * MIB;
    CHECK(ws_table_stand_in(&table, t->b.at, &place));
    memmove(t->b.drive->bytes + place.at, t->b.drive->bytes + t->b.at, SMALL);
    memset(t->b.drive->bytes + t->b.at, 0, (size_t)(place.at - t->b.at));
    t->b.at = place.at;
    OK(ws_table_add(&table, t->data_at, t->data_size, "data", &id, "", &number, &error));
    OK(ws_layout_create(BED_DRIVE, &layout, &error));
    random_bytes(content, sizeof content);
    t->others = random_tree(40 + random_below(200), marks_of(kind), 100000);
    struct ws_node *folder = NULL;
    OK(ws_tree_create(&t->files, &error));
    OK(ws_tree_put(t->files, "goes", content, 8 * MIB, NULL, &error));
    OK(ws_tree_folder(t->files, "others", &folder, &error));
    OK(ws_tree_graft(t->files, folder, t->others, &error));
    for (int i = 0; i < 4; i++)
        OK(ws_tree_put(t->files, &"last"[i], content + random_below(MIB), MIB + random_below(2 * MIB), NULL, &error));
    put_data(t, kind, layout);
    OK(ws_table_compose(&table, layout, &error));
    OK(ws_layout_seal(layout, &error));
    memory_drive_fill(t->b.drive, layout);
    ws_layout_close(layout);
    without_first(t, kind);
}

static void free_taken(struct taken *t) {
    ws_tree_close(t->files);
    ws_tree_close(t->others);
    ws_ext4_geometry_free(&t->geometry);
    free_bed(&t->b);
}

static void note_volume(struct taken *t) {
    struct ws_source *slice = NULL;
    OK(ws_source_slice(t->b.now, t->b.at, t->b.size, &slice, &error));
    save_source(slice, scratch("was.img"));
    ws_source_close(slice);
}

static enum ws_status take(struct taken *t, uint64_t size, struct ws_neighbour *after) {
    struct ws_kept_cost cost;
    uint64_t ignored;
    memset(after, 0, sizeof *after);
    if (t->in_file) return resize(&t->b, size, &ignored);
    struct ws_kept *kept = open_kept(&t->b, NULL);
    if (!kept) return WS_E_READ;
    memset(&error, 0, sizeof error);
    enum ws_status status = ws_kept_grow_into(kept, size, after, &error);
    if (status == WS_OK) status = ws_kept_prepare(kept, 1790000000, &cost, &error);
    if (status == WS_OK) status = carry_out(&t->b, kept);
    ws_kept_close(kept);
    return status;
}

/* @return false: it did not go, for the log itself has no room beside both, or for what fails the test */
static bool went(const struct kind *kind, enum ws_status status) {
    if (status != WS_OK && status != WS_E_SPACE) fail_at(__FILE__, __LINE__, "%s: %s", kind->format, error.what);
    return status == WS_OK;
}

/* The partition that is the nth behind what is remembered. */
static const struct ws_partition *behind(const struct taken *t, const struct ws_table *table, int n) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count), *found = NULL;
    for (uint64_t from = t->b.at + 1; n >= 0; n--, from = found->at + 1) {
        found = NULL;
        for (size_t i = 0; i < count; i++)
            if (p[i].at >= from && (!found || p[i].at < found->at)) found = &p[i];
        if (!found) return NULL;
    }
    return found;
}

/* The data volume as it is now: its files, and what a checker says. */
static void check_data(struct taken *t, const char *format, uint64_t at, uint64_t length, uint64_t free_bytes) {
    struct ws_volume_facts facts;
    struct ws_source *slice = NULL;
    struct ws_tree *seen = NULL;
    struct ws_text out = {0};
    OK(ws_source_slice(t->b.now, at, length, &slice, &error));
    OK(ws_format_find(format)->read(slice, &seen, &facts, &error));
    if (free_bytes) CHECK_INT(facts.free_bytes, free_bytes);
    struct ws_node *file = t->in_file ? ws_tree_find(seen, "persistence") : NULL;
    CHECK(!t->in_file || (file && ws_node_size(file) == t->b.size && file->work == t->b.at - at));
    if (file) ws_tree_drop(seen, file);
    compare_trees(seen, t->files, strcmp(format, "ext4") == 0 ? TREE_ALL : TREE_MARKS);
    save_source(slice, scratch("data.img"));
    const char *judge = strcmp(format, "ext4") == 0    ? "e2fsck -f"
                        : strcmp(format, "exfat") == 0 ? "fsck.exfat"
                                                       : "fsck.fat";
    if (shell(NULL, "command -v %s", judge) == 0 && shell(&out, "%s -n '%s'", judge, scratch("data.img")))
        fail_at(__FILE__, __LINE__, "%s", out.data);
    ws_text_free(&out);
    ws_tree_close(seen);
    ws_source_close(slice);
}

/* Everything behind it, as the tables have it now. */
static void check_behind(struct taken *t, const char *format, const struct ws_neighbour *after) {
    struct ws_table table;
    struct ws_volume_facts facts;
    struct ws_source *slice = NULL;
    if (t->in_file) {
        check_data(t, format, t->data_at, t->data_size, 0);
        return;
    }
    OK(ws_table_read(t->b.now, 512, &table, NULL, &error));
    if (t->front) {
        size_t count;
        const struct ws_partition *in_front = ws_table_partitions(&table, &count);
        while (count && in_front->at != t->data_at) in_front++, count--;
        CHECK(count && in_front->at + in_front->length <= t->b.at);
        if (count) check_data(t, format, in_front->at, in_front->length, after->at ? after->free_bytes : 0);
        return;
    }
    const struct ws_partition *p = behind(t, &table, 0);
    CHECK(p->at >= t->b.at + t->b.size);
    OK(ws_source_slice(t->b.now, p->at, SWAP, &slice, &error));
    CHECK(ws_format_of(slice, &facts) == ws_format_find("swap"));
    CHECK_STR(facts.label, "swap");
    ws_source_close(slice);
    p = behind(t, &table, 1);
    CHECK_INT(p->at + p->length, t->data_at + t->data_size);
    if (after->at) CHECK_INT(p->at, after->at);
    check_data(t, format, p->at, p->length, after->at ? after->free_bytes : 0);
}

static void a_neighbour_gives_what_it_has_free(void) {
    for (int round = 0; round < cases_of(4 * ALL_KINDS); round++) {
        const struct kind *kind = &kinds[(round + ALL_KINDS - 1) % ALL_KINDS];
        struct taken t;
        struct ws_neighbour n, after;
        if (!build_taken(&t, kind)) return;
        note_volume(&t);
        for (int i = 0; i < 3; i++) {
            struct ws_kept *kept = open_kept(&t.b, NULL);
            OK(ws_kept_neighbour(kept, 0, &n, &error));
            ws_kept_close(kept);
            CHECK_INT(n.swap, SWAP);
            if (n.most < t.b.size + 2 * MIB) break;
            FAILS(take(&t, n.most + MIB, &after), WS_E_RANGE);
            const uint64_t size = t.b.size + MIB + random_below(n.most - t.b.size - MIB + 1) / (i == 2 ? 1 : 3);
            if (!went(kind, take(&t, size, &after))) break;
            t.b.size = size / MIB * MIB;
            check_volume(&t.b, "larger");
            check_behind(&t, kind->format, &after);
            if (!same_files(&t.b, scratch("was.img"))) break;
        }
        free_taken(&t);
    }
}

/* What remembers begins sooner, where that had its end; content of either stays where it can. */
static void a_neighbour_in_front_gives_its_end(void) {
    unsigned given = 0;
    for (int round = 0; round < cases_of(2 * ALL_KINDS); round++) {
        const struct kind *kind = &kinds[(round + ALL_KINDS - 1) % ALL_KINDS];
        struct taken t;
        struct ws_neighbour n, after;
        build_front(&t, kind);
        note_volume(&t);
        for (int i = 0; i < 3; i++) {
            struct ws_kept *kept = open_kept(&t.b, NULL);
            if (!kept) break;
            const enum ws_status there = ws_kept_neighbour(kept, 0, &n, &error);
            ws_kept_close(kept);
            if (there != WS_OK) break;
            CHECK(n.in_front && n.at == t.data_at && !n.swap);
            FAILS(take(&t, n.most + MIB, &after), WS_E_RANGE);
            const uint64_t size = t.b.size + MIB + random_below(n.most - t.b.size - MIB + 1) / (i == 2 ? 1 : 3);
            if (!went(kind, take(&t, size, &after))) break;
            CHECK(!after.at || (after.in_front && after.at == t.data_at));
            t.b.at -= size / MIB * MIB - t.b.size;
            t.b.size = size / MIB * MIB;
            given++;
            check_volume(&t.b, "begins sooner");
            check_behind(&t, kind->format, &after);
            if (!same_files(&t.b, scratch("was.img"))) break;
        }
        free_taken(&t);
    }
    CHECK(given > 0);
}

/* Longer and shorter by turns, in one piece all the while. */
static void a_file_gets_another_length(void) {
    for (int round = 0; round < cases_of(2 * KINDS); round++) {
        const struct kind *kind = &kinds[round % KINDS];
        struct taken t;
        uint64_t least, most, free_after;
        struct ws_source *slice = NULL;
        build_in_file(&t, kind);
        OK(ws_source_slice(t.b.now, t.b.at, SMALL, &slice, &error));
        save_source(slice, scratch("was.img"));
        ws_source_close(slice);
        for (int i = 0; i < 4; i++) {
            struct ws_kept *kept = open_kept(&t.b, NULL);
            if (!kept) break;
            OK(ws_kept_bounds(kept, &least, &most, &error));
            ws_kept_close(kept);
            CHECK(most >= t.b.size && most <= t.data_size);
            FAILS(resize(&t.b, most + 2 * MIB, &free_after), WS_E_RANGE);
            const uint64_t size =
                i % 2 ? least + random_below(t.b.size - least + 1) : t.b.size + random_below(most - t.b.size + 1);
            const enum ws_status status = resize(&t.b, size, &free_after);
            if (status == WS_E_SPACE) continue; /* what it holds, or the log, has no room */
            if (status != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", kind->format, error.what);
            if (status != WS_OK) break;
            check_volume(&t.b, i % 2 ? "shorter" : "longer");
            check_behind(&t, kind->format, NULL);
            if (!same_files(&t.b, scratch("was.img"))) break;
        }
        free_taken(&t);
    }
}

static void a_cut_while_room_is_taken_loses_nothing(void) {
    uint8_t *first = malloc(BED_DRIVE);
    enum { WAYS = 3, ALL_WAYS = WAYS * ALL_KINDS - 1 /* the last holds no file that remembers */ };
    const int all = cases_of(ALL_WAYS); /* each of them, or a few */
    for (int n = 0; n < all; n++) {
        const size_t k = (all < ALL_WAYS ? random_below(ALL_WAYS) : (size_t)n) % ALL_WAYS;
        const struct kind *kind = &kinds[k / WAYS];
        const size_t way = kind->cluster ? k % WAYS : k % WAYS * 2;
        struct taken t;
        struct ws_neighbour after, is;
        unsigned before = 0, done = 0;
        if (way == 1) build_in_file(&t, kind);
        else if (way == 2) build_front(&t, kind);
        else if (!build_taken(&t, kind)) break;
        note_volume(&t);
        const uint64_t at = t.b.at;
        memcpy(first, t.b.drive->bytes, BED_DRIVE);
        for (uint64_t cut = 1; cut < 600; cut++) {
            memcpy(t.b.drive->bytes, first, BED_DRIVE);
            t.b.size = SMALL;
            t.b.at = at;
            t.b.drive->writes = 0;
            t.b.drive->fail_at_write = cut;
            t.b.drive->cut = (int)(cut % CUTS);
            const enum ws_status status = take(&t, SMALL + 6 * MIB, &after);
            t.b.drive->fail_at_write = 0;
            t.b.drive->cut = CUT_BETWEEN;
            if (ws_changing_read(t.b.drive->bytes, NULL))
                OK(ws_change_finish(plain_port(), &t.b.drive->drive, NULL, NULL, NULL, &error));
            struct ws_kept *kept = open_kept(&t.b, NULL);
            if (!kept) break;
            t.b.size = ws_kept_memory(kept)->volume_size;
            t.b.at = ws_kept_memory(kept)->volume_at;
            ws_kept_close(kept);
            const bool grown = t.b.size == SMALL + 6 * MIB;
            CHECK(grown || t.b.size == SMALL);
            CHECK(grown || status != WS_OK);
            is = (struct ws_neighbour){0};
            if (cut % 7 == 0 || (grown && done < 3)) check_behind(&t, kind->format, grown ? &after : &is);
            if (!same_files(&t.b, scratch("was.img"))) break;
            before += !grown;
            done += grown;
            if (status == WS_OK) break;
        }
        cuts_seen(before, done);
        if (before < 1 || done < 3)
            fail_at(__FILE__, __LINE__, "%s: %u cuts before, %u after", kind->format, before, done);
        free_taken(&t);
    }
    free(first);
}

/* Whatever is damaged in a neighbour, it gives or it does not: nothing is read or written out of place. */
static void a_damaged_neighbour_is_borne(void) {
    enum { FRONT = 2 * MIB };
    unsigned refused = 0, gave = 0;
    struct taken t;
    if (!build_taken(&t, &kinds[ALL_KINDS - 1])) return;
    uint8_t *data = t.b.drive->bytes + t.data_at;
    for (int i = 0; i < cases_of(600); i++) {
        struct ws_source *slice = NULL;
        struct ws_layout *layout = NULL;
        uint64_t at[3];
        uint8_t was[3];
        for (int n = 0; n < 3; n++) {
            at[n] = i % 5 == 0 && n == 0 ? 1024 + random_below(1024) : random_below(FRONT);
            was[n] = data[at[n]];
            data[at[n]] = (uint8_t)random_next();
        }
        OK(ws_source_slice(t.b.now, t.data_at, t.data_size, &slice, &error));
        OK(ws_layout_create(BED_DRIVE, &layout, &error));
        struct ws_room room = {.volume = slice, .at = t.data_at, .front = MIB};
        memset(&error, 0, sizeof error);
        if (ws_make_room(&room, layout, &error) == WS_OK) {
            OK(ws_layout_seal(layout, &error));
            for (size_t k = 0; k < ws_layout_count(layout); k++)
                CHECK(ws_layout_extent(layout, k)->at >= t.data_at + MIB);
            gave++;
        } else {
            CHECK(error.what[0]);
            refused++;
        }
        ws_layout_close(layout);
        ws_source_close(slice);
        for (int n = 2; n >= 0; n--) data[at[n]] = was[n];
    }
    CHECK(refused && gave);
    free_taken(&t);
}

/* One that cannot give says why, and nothing is written. */
static void what_cannot_give_is_left_alone(void) {
    struct taken t;
    struct ws_neighbour n, after;
    if (!build_taken(&t, &kinds[1])) return;
    struct ws_kept *kept = open_kept(&t.b, NULL);
    uint8_t *boot = t.b.drive->bytes + t.data_at, *fat = boot + (size_t)(boot[14] | boot[15] << 8) * 512;
    const uint8_t clean = fat[3];
    fat[3] &= 0x7f; /* taken out without being ejected */
    FAILS(ws_kept_neighbour(kept, 0, &n, &error), WS_E_REFUSED);
    CHECK_HAS(error.next, "eject");
    fat[3] = clean;
    memcpy(t.b.drive->bytes + t.b.at + SMALL + 4086, "S1SUSPEND\0", 10);
    FAILS(ws_kept_neighbour(kept, 0, &n, &error), WS_E_UNSUPPORTED);
    memcpy(t.b.drive->bytes + t.b.at + SMALL + 4086, "SWAPSPACE2", 10);
    OK(ws_kept_grow_into(kept, SMALL + 4 * MIB, &after, &error));
    OK(ws_kept_prepare(kept, 1790000000, NULL, &error));
    fat[100] ^= 1; /* used meanwhile, elsewhere */
    const uint64_t writes = t.b.drive->writes;
    CHECK(carry_out(&t.b, kept) != WS_OK);
    CHECK_INT(t.b.drive->writes, writes);
    ws_kept_close(kept);
    free_taken(&t);
}

static enum ws_status move(struct taken *t, bool into_file, uint64_t size, struct ws_moving *told) {
    struct ws_kept *kept = open_kept(&t->b, NULL);
    if (!kept) return WS_E_READ;
    memset(&error, 0, sizeof error);
    enum ws_status status = ws_kept_move(kept, into_file, size, told, &error);
    if (status == WS_OK) status = ws_kept_prepare(kept, 1790000000, NULL, &error);
    if (status == WS_OK) status = carry_out(&t->b, kept);
    ws_kept_close(kept);
    return status;
}

/* Where it is now, and all else: the data volume is the last. @return false: nothing is remembered */
static bool check_moved(struct taken *t, const char *format, uint64_t free_bytes, const char *when) {
    struct ws_table table;
    size_t count;
    uint64_t last = 0;
    struct ws_kept *kept = open_kept(&t->b, NULL);
    if (!kept) return false;
    t->b.at = ws_kept_memory(kept)->volume_at;
    t->b.size = ws_kept_memory(kept)->volume_size;
    t->in_file = ws_kept_memory(kept)->in_file;
    ws_kept_close(kept);
    if (ws_table_read(t->b.now, 512, &table, NULL, &error) != WS_OK) return false;
    const struct ws_partition *p = ws_table_partitions(&table, &count);
    for (size_t i = 0; i < count; i++)
        if (p[i].at > p[last].at && p[i].at != t->b.at) last = i;
    check_volume(&t->b, when);
    check_data(t, format, p[last].at, p[last].length, free_bytes);
    return same_files(&t->b, scratch("was.img"));
}

static void it_moves_into_a_file_and_out_of_it(void) {
    unsigned copied = 0, stayed = 0;
    for (int round = 0; round < cases_of(4 * KINDS); round++) {
        const struct kind *kind = &kinds[round / 2 % KINDS];
        struct taken t;
        struct ws_moving told;
        if (round % 2) build_in_file(&t, kind);
        else if (!build_taken(&t, kind)) return;
        note_volume(&t);
        for (int i = 0; i < 4; i++) {
            const bool into_file = !t.in_file;
            FAILS(move(&t, t.in_file, 0, &told), WS_E_USAGE);
            if (into_file) FAILS(move(&t, true, 60 * MIB, &told), WS_E_SPACE);
            const enum ws_status status = move(&t, into_file, 0, &told);
            if (status == WS_E_SPACE) break; /* there is none for it, or for the log */
            if (status != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s; %s", kind->format, error.what, error.next);
            if (status != WS_OK) break;
            copied += !told.stays;
            stayed += told.stays;
            const bool good = check_moved(&t, kind->format, told.data_free, into_file ? "into a file" : "out of it");
            CHECK(t.in_file == into_file && t.b.at == told.at && t.b.size == told.size);
            if (!good) break;
        }
        free_taken(&t);
    }
    if (!copied || !stayed) fail_at(__FILE__, __LINE__, "%u copied, %u stayed", copied, stayed);
}

/* Into a file, out of it again, and where its bytes stay. */
static void a_cut_while_it_moves_loses_nothing(void) {
    uint8_t *first = malloc(BED_DRIVE);
    const int all = cases_of(3 * KINDS);
    for (int n = 0; n < all; n++) {
        const size_t k = (all < 3 * KINDS ? random_below(3 * KINDS) : (size_t)n) % (3 * KINDS);
        const struct kind *kind = &kinds[k / 3];
        struct taken t;
        struct ws_moving told;
        unsigned before = 0, done = 0;
        if (k % 3 == 2) build_in_file(&t, kind);
        else if (!build_taken(&t, kind)) break;
        note_volume(&t);
        if (k % 3 == 1 && (move(&t, true, 0, &told) != WS_OK || !check_moved(&t, kind->format, 0, "first"))) break;
        const struct taken was = t;
        memcpy(first, t.b.drive->bytes, BED_DRIVE);
        for (uint64_t cut = 1; cut < 600; cut++) {
            memcpy(t.b.drive->bytes, first, BED_DRIVE);
            t = was;
            t.b.drive->writes = 0;
            t.b.drive->fail_at_write = cut;
            t.b.drive->cut = (int)(cut % CUTS);
            const enum ws_status status = move(&t, !was.in_file, 0, &told);
            t.b.drive->fail_at_write = 0;
            t.b.drive->cut = CUT_BETWEEN;
            if (status == WS_E_SPACE) break;
            if (ws_changing_read(t.b.drive->bytes, NULL))
                OK(ws_change_finish(plain_port(), &t.b.drive->drive, NULL, NULL, NULL, &error));
            if (cut % 7 != 0 && done > 2 && status != WS_OK) continue;
            if (!check_moved(&t, kind->format, 0, "cut")) break;
            CHECK(t.in_file != was.in_file || status != WS_OK);
            before += t.in_file == was.in_file;
            done += t.in_file != was.in_file;
            if (status == WS_OK) break;
        }
        cuts_seen(before, done);
        if (before + done && (before < 1 || done < 3))
            fail_at(__FILE__, __LINE__, "%s: %u cuts before, %u after", kind->format, before, done);
        free_taken(&t);
    }
    free(first);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"a neighbour gives what it has free", a_neighbour_gives_what_it_has_free},
        {"a neighbour in front gives its end", a_neighbour_in_front_gives_its_end},
        {"a file gets another length", a_file_gets_another_length},
        {"a cut while room is taken loses nothing", a_cut_while_room_is_taken_loses_nothing},
        {"it moves into a file and out of it", it_moves_into_a_file_and_out_of_it},
        {"a cut while it moves loses nothing", a_cut_while_it_moves_loses_nothing},
        {"a damaged neighbour is borne", a_damaged_neighbour_is_borne},
        {"what cannot give is left alone", what_cannot_give_is_left_alone},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
