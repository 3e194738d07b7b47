/* test_sized.c — a volume that remembers made larger and smaller in place: the kernel's ext4 and overlay write it, a
 * checker and the kernel judge what comes out, and a cut loses nothing. */
#include "tests/bed.h"

#include <sys/statfs.h>

/* What statfs(2) says is free. */
static void check_room(struct bed *b, uint64_t free_bytes) {
    char device[64];
    struct statfs s;
    struct ws_source *slice = NULL;
    const char *path = scratch("room.img"), *place = scratch("room");
    OK(ws_source_slice(b->now, b->at, b->size, &slice, &error));
    save_source(slice, path);
    ws_source_close(slice);
    if (!loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "ro", place)) {
        CHECK_INT(statfs(place, &s), 0);
        CHECK_INT((uint64_t)s.f_bfree * (uint64_t)s.f_bsize, free_bytes);
        unmount(place);
    }
    loop_detach(device);
}

/* Written by the kernel, then smaller and larger by turns: sound, all there, and the kernel sees the room predicted. */
static void volumes_become_smaller_and_larger(void) {
    for (int round = 0; round < cases_of(5); round++) {
        const char *path = scratch("sized.img");
        struct bed b;
        struct ws_source *slice = NULL;
        struct ws_findings findings = {0};
        uint64_t least, most, free_after;
        if (!build_bed(&b, "live-boot", false)) return;
        const uint64_t whole = b.size;
        if (round % 2 || !may_mount()) fill_bed(&b, "rw", 20 + random_below(300), 3);
        OK(ws_source_slice(b.now, b.at, b.size, &slice, &error));
        save_source(slice, path);
        if (round % 2 == 0 && may_mount() && !kernel_history(path, round % 4 == 2)) return;
        if (round % 2 == 0) bytes_of(path, b.drive->bytes + b.at, b.size);
        ws_source_close(slice);
        for (int i = 0; i < 5; i++) {
            struct ws_kept *kept = open_kept(&b, NULL);
            OK(ws_kept_bounds(kept, &least, &most, &error));
            ws_kept_close(kept);
            CHECK(most <= whole && most + MIB > whole && least <= b.size);
            const uint64_t size =
                i % 2 ? most - random_below(most - b.size + 1) : least + random_below(b.size - least + 1);
            enum ws_status status = resize(&b, size, &free_after);
            if (status == WS_E_SPACE && i % 2 == 0) continue; /* so small is too small, and it is as it was */
            if (status != WS_OK)
                fail_at(__FILE__, __LINE__, "%d to %llu MiB: %s", i, (unsigned long long)(size / MIB), error.what);
            if (status != WS_OK) break;
            check_volume(&b, i % 2 ? "larger" : "smaller");
            if (!same_files(&b, path)) break;
            OK(ws_table_check(b.now, 512, &findings, &error));
            CHECK(ws_findings_worst(&findings) < WS_FAULT);
            ws_findings_free(&findings);
            kept = open_kept(&b, NULL);
            CHECK_INT(ws_kept_memory(kept)->volume_size, b.size);
            CHECK_INT(ws_kept_facts(kept)->free_bytes, free_after);
            ws_kept_close(kept);
            if (may_mount()) check_room(&b, free_after);
        }
        FAILS(resize(&b, whole + 4 * MIB, &free_after), WS_E_RANGE);
        FAILS(resize(&b, MIB, &free_after), WS_E_RANGE);
        free_bed(&b);
    }
}

/* The volume that remembers, of the same length, as somebody else makes one, with files in it. */
static void as_others_make_it(struct bed *b, const char *how) {
    const char *path = scratch("sized.img"), *files = scratch("files");
    CHECK_INT(
        shell(NULL,
              "set -e; rm -rf '%s' '%s'; mkdir -p '%s/rw/home/tide/deep' '%s/work/work'; cd '%s'; echo '/ union' "
              ">persistence.conf; for i in $(seq 60); do head -c $((i * 1973 %% 60000)) /dev/urandom "
              ">rw/home/tide/$i; done; ln rw/home/tide/7 rw/home/tide/deep/seven; truncate -s 3M rw/holes; echo x "
              ">>rw/holes; head -c 2500000 /dev/urandom >rw/large; ln -s large rw/link; mke2fs -q -F -t %s -L "
              "persistence -d . '%s' %lluk",
              files, path, files, files, files, how, path, (unsigned long long)(b->size >> 10)),
        0);
    bytes_of(path, b->drive->bytes + b->at, b->size);
}

static void cuts_lose_nothing(const char *how) {
    struct bed b;
    uint64_t ignored;
    uint8_t *first = malloc(BED_DRIVE);
    if (!build_bed(&b, "live-boot", false)) return;
    fill_bed(&b, "rw", 60, 3);
    struct ws_source *slice = NULL;
    OK(ws_source_slice(b.now, b.at, b.size, &slice, &error));
    save_source(slice, scratch("sized.img"));
    ws_source_close(slice);
    const uint64_t sizes[] = {b.size / MIB * MIB, how ? 36 * MIB : 24 * MIB};
    for (int way = 0; way < 2; way++) { /* smaller, then larger */
        if (how) as_others_make_it(&b, how);
        const uint64_t was = b.size, is = sizes[!way];
        memcpy(first, b.drive->bytes, BED_DRIVE);
        unsigned before = 0, after = 0;
        for (uint64_t cut = 1; cut < 400; cut++) {
            memcpy(b.drive->bytes, first, BED_DRIVE);
            b.size = was;
            b.drive->writes = 0;
            b.drive->fail_at_write = cut;
            b.drive->cut = (int)(cut % CUTS);
            enum ws_status status = resize(&b, is, &ignored);
            b.drive->fail_at_write = 0;
            b.drive->cut = CUT_BETWEEN;
            const bool changing = ws_changing_read(b.drive->bytes, NULL);
            if (changing) OK(ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, NULL, &error));
            struct ws_kept *kept = open_kept(&b, NULL);
            if (!kept) break;
            b.size = ws_kept_memory(kept)->volume_size;
            ws_kept_close(kept);
            const bool done = b.size == is && after > 0; /* the very last write, not lost */
            CHECK_INT(b.size, changing || status == WS_OK || done ? is : was);
            if (!same_files(&b, scratch("sized.img"))) break;
            if (cut % 9 == 0 || (changing && after < 2)) check_volume(&b, "after a cut");
            before += b.size == was;
            after += b.size == is;
            if (status == WS_OK) break;
        }
        cuts_seen(before, after);
        if (before < 1 || after < 3) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
    }
    free_bed(&b);
    free(first);
}

static void a_cut_while_it_is_resized_loses_nothing(void) { cuts_lose_nothing(NULL); }

/* All of its structures are made anew then, around its content. */
static void whoever_made_it(void) {
    static const char *const hows[] = {"ext4 -b 1024", "ext4",
                                       "ext2",         "ext4 -O ^flex_bg -I 128",
                                       "ext3 -b 2048", "ext4 -O inline_data,ea_inode -I 512"};
    enum { HOWS = sizeof hows / sizeof *hows };
    const int count = cases_of(HOWS), first = (int)random_below(HOWS);
    for (int i = 0; i < count && have_program("mke2fs"); i++) cuts_lose_nothing(hows[(first + i) % HOWS]);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"volumes become smaller and larger", volumes_become_smaller_and_larger},
        {"a cut while it is resized loses nothing", a_cut_while_it_is_resized_loses_nothing},
        {"whoever made it", whoever_made_it},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
