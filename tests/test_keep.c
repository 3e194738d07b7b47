/* test_keep.c — what a drive remembers, cared for: looked at, cleaned, reset, saved, put back; a cut loses nothing. The
 * kernel's ext4 and overlay write it, a checker and the kernel judge what comes out. */
#include "tests/bed.h"

#include "base/bytes.h"

static enum ws_status collect(void *context, const void *bytes, size_t length, struct ws_error *e) {
    (void)e;
    ws_text_add(context, bytes, length);
    return WS_OK;
}

static void save(struct bed *b, const char *passphrase, struct ws_text *out, struct ws_saved_facts *facts) {
    struct ws_kept *kept = open_kept(b, passphrase);
    ws_text_free(out);
    OK(ws_kept_save(kept, plain_port(), collect, out, NULL, NULL, facts, &error));
    ws_kept_close(kept);
}

/* The edits, each worked out on a drive as it is. */
enum edit { RESET, RESET_BUT, CLEAN, PUT, EDITS };
static enum ws_status edit(struct ws_kept *kept, enum edit what, struct ws_saved *saved) {
    static const char *const but[] = {"/home/tide"};
    struct ws_left_out tally[WS_LEAVES];
    enum ws_status status = what == RESET       ? ws_kept_reset(kept, NULL, 0, &error)
                            : what == RESET_BUT ? ws_kept_reset(kept, but, 1, &error)
                            : what == CLEAN     ? ws_kept_clean(kept, 1u << WS_LEAVE_CACHES, tally, &error)
                                                : ws_kept_put(kept, saved, &error);
    return status == WS_OK ? ws_kept_prepare(kept, 1790000500, NULL, &error) : status;
}

static bool has(const struct ws_kept *kept, const char *path) { return ws_tree_find(ws_kept_tree(kept), path) != NULL; }

static bool is_socket(void *context, struct ws_node *n) {
    (void)context;
    return (n->same_as ? n->same_as : n)->kind == WS_NODE_SOCKET;
}

/* What stays and what goes, and that a volume is sound afterwards and remembers anew. */
static void edits_take_what_they_say(void) {
    for (int round = 0; round < cases_of(6); round++) {
        struct bed b;
        struct ws_saved_facts facts;
        struct ws_text archive = {0};
        struct ws_source *source = NULL, *slice = NULL;
        struct ws_saved *saved = NULL;
        struct ws_tree *was = NULL;
        uint8_t *first = malloc(BED_DRIVE);
        if (!build_bed(&b, "live-boot", false)) return;
        fill_bed(&b, "rw", 30 + random_below(200), 7);
        memcpy(first, b.drive->bytes, BED_DRIVE);
        save(&b, NULL, &archive, &facts);
        CHECK(memcmp(first, b.drive->bytes, BED_DRIVE) == 0); /* nothing was written */
        CHECK(strcmp(facts.family, "live-boot") == 0 && !facts.whole && facts.files > 4);
        OK(ws_source_memory(archive.data, archive.length, &source, &error));
        OK(ws_saved_open(source, NULL, &saved, &error));
        CHECK_STR(ws_saved_facts(saved)->sha256, facts.sha256);
        struct ws_kept *kept = open_kept(&b, NULL);
        struct ws_kept_report r;
        ws_kept_look(kept, &r);
        CHECK_INT(r.starts, 7);
        CHECK_INT(r.cleanable[WS_LEAVE_CACHES].files, 2);
        CHECK_INT(r.cleanable[WS_LEAVE_LOGS].files, 1);
        CHECK(r.a_start == r.bytes / 7 && r.files + r.links <= facts.files && r.size <= b.size);
        for (size_t i = 1; i < r.folder_count; i++) CHECK(r.folder[i - 1].bytes >= r.folder[i].bytes);
        ws_kept_close(kept);
        OK(ws_source_slice(b.now, b.at, b.size, &slice, &error));
        save_source(slice, scratch("was.img"));
        ws_source_close(slice);
        for (enum edit what = 0; what < EDITS; what++) {
            if (what != PUT) memcpy(b.drive->bytes, first, BED_DRIVE); /* it is put on what was cleaned */
            kept = open_kept(&b, NULL);
            if (!kept) continue;
            OK(edit(kept, what, saved));
            OK(carry_out(&b, kept));
            ws_kept_close(kept);
            check_volume(&b, "after an edit");
            kept = open_kept(&b, NULL);
            CHECK_INT(ws_kept_memory(kept)->cause, WS_FORGETS_NOT);
            CHECK(has(kept, "persistence.conf"));
            CHECK(has(kept, "rw") == (what != RESET) && has(kept, "rw/home/tide/notes") == (what != RESET));
            CHECK(has(kept, "rw/var/log/kern.log.1") == (what == CLEAN || what == PUT));
            CHECK(has(kept, "rw/var/cache/apt/archives/tide_1.deb") == (what == PUT));
            CHECK(has(kept, "rw/home/tide/.cache/thumbs/1") == (what == PUT || what == RESET_BUT));
            CHECK_INT(ws_kept_facts(kept)->mounts, what == RESET ? 0 : 7);
            if (what == PUT) { /* all as it was, to the last attribute */
                struct ws_tree *seen = NULL, *wanted = NULL;
                OK(ws_source_file(scratch("was.img"), &slice, &error));
                OK(ws_ext4_read(slice, &was, NULL, &error));
                ws_tree_drop_all(was, is_socket, NULL); /* an archive has none */
                OK(ws_tree_cut(was, ws_tree_find(was, "rw"), &wanted, &error));
                struct ws_tree *all = (struct ws_tree *)(uintptr_t)ws_kept_tree(kept);
                OK(ws_tree_cut(all, ws_tree_find(all, "rw"), &seen, &error));
                compare_trees(seen, wanted, TREE_ALL);
                ws_tree_close(seen);
                ws_tree_close(wanted);
                ws_tree_close(was);
                ws_source_close(slice);
            }
            ws_kept_close(kept);
        }
        /* nothing but the volume and its log was written */
        CHECK(memcmp(first, b.drive->bytes, b.at) == 0);
        ws_saved_close(saved);
        ws_source_close(source);
        ws_text_free(&archive);
        free_bed(&b);
        free(first);
    }
}

/* Cut at every write: as it was, or to be finished, and then as it was meant. */
static void sweep(struct bed *b, enum edit what, int how, struct ws_source *archive, const uint8_t *first) {
    unsigned before = 0, after = 0;
    for (uint64_t cut = 1; cut < 400; cut++) {
        struct ws_saved *saved = NULL;
        memcpy(b->drive->bytes, first, BED_DRIVE);
        OK(ws_saved_open(archive, NULL, &saved, &error));
        struct ws_kept *kept = open_kept(b, NULL);
        OK(edit(kept, what, saved));
        b->drive->writes = 0;
        b->drive->fail_at_write = cut;
        b->drive->cut = how;
        enum ws_status status = carry_out(b, kept);
        ws_kept_close(kept);
        ws_saved_close(saved);
        b->drive->fail_at_write = 0;
        b->drive->cut = CUT_BETWEEN;
        bool changing = ws_changing_read(b->drive->bytes, NULL);
        if (changing) OK(ws_change_finish(plain_port(), &b->drive->drive, NULL, NULL, NULL, &error));
        kept = open_kept(b, NULL);
        if (!kept) break;
        const bool is_new = what == RESET ? !has(kept, "rw")
                            : what == PUT ? !has(kept, "rw/marker")
                                          : !has(kept, "rw/var/cache/apt/archives/tide_1.deb");
        CHECK(is_new || has(kept, "rw/home/tide/notes"));
        if (changing || status == WS_OK) CHECK(is_new);
        ws_kept_close(kept);
        if (cut % 9 == 0 || (is_new && after < 2)) check_volume(b, "after a cut");
        before += !is_new;
        after += is_new;
        if (status == WS_OK) break;
        CHECK_INT(status, WS_E_GONE);
    }
    cuts_seen(before, after);
    if (before < 1 || after < 3) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
}

static void sweep_all(struct bed *b, struct ws_source *archive) {
    uint8_t *first = malloc(BED_DRIVE);
    memcpy(first, b->drive->bytes, BED_DRIVE);
    for (int how = 0; how < CUTS; how++)
        for (enum edit what = 0; what < EDITS; what++)
            if (what != PUT) sweep(b, what, how, archive, first);
    free(first);
}

static void a_cut_at_every_write_loses_nothing(void) {
    struct bed b;
    struct ws_saved_facts facts;
    struct ws_text text = {0};
    struct ws_source *archive = NULL;
    if (!build_bed(&b, "live-boot", false)) return;
    fill_bed(&b, "rw", 40, 3);
    save(&b, NULL, &text, &facts);
    OK(ws_source_memory(text.data, text.length, &archive, &error));
    fill_bed(&b, "rw", 60, 3); /* another state, which the saved one takes the place of */
    sweep_all(&b, archive);
    ws_source_close(archive);
    ws_text_free(&text);
    free_bed(&b);
}

/* A locked volume is opened, changed and locked with the key that it has. */
static void what_is_locked_is_cared_for(void) {
    struct bed b;
    struct ws_saved_facts facts;
    struct ws_text text = {0};
    struct ws_source *archive = NULL;
    struct ws_saved *saved = NULL;
    struct ws_kept *kept = NULL, *plain = NULL;
    struct bed open;
    if (!build_bed(&open, "live-boot", false) || !build_bed(&b, "live-boot", true)) return;
    FAILS(ws_kept_open(b.now, 512, NULL, &kept, &error), WS_E_USAGE);
    FAILS(ws_kept_open(b.now, 512, "another passphrase", &kept, &error), WS_E_USAGE);
    fill_bed(&open, "rw", 30, 3);
    save(&open, NULL, &text, &facts);
    OK(ws_source_memory(text.data, text.length, &archive, &error));
    OK(ws_saved_open(archive, NULL, &saved, &error));
    kept = open_kept(&b, PASSPHRASE);
    OK(edit(kept, PUT, saved));
    OK(carry_out(&b, kept));
    ws_kept_close(kept);
    kept = open_kept(&b, PASSPHRASE);
    plain = open_kept(&open, NULL);
    ws_tree_drop_all((struct ws_tree *)(uintptr_t)ws_kept_tree(plain), is_socket, NULL); /* an archive has none */
    CHECK(has(kept, "rw/home/tide/notes"));
    CHECK_INT(ws_tree_count(ws_kept_tree(kept)) + 2,
              ws_tree_count(ws_kept_tree(plain))); /* but for the kernel's own folders */
    ws_kept_close(plain);
    ws_kept_close(kept);
    for (size_t i = 0; i + 16 < b.size; i++) /* and nothing of it stands outside the lock */
        if (b.drive->bytes[b.at + i] == 'l' && memcmp(b.drive->bytes + b.at + i, "low water at six", 16) == 0)
            fail_at(__FILE__, __LINE__, "it can be read at byte %zu", i);
    /* smaller, and larger again, behind the same lock */
    const uint64_t sizes[] = {b.size - 11 * MIB, b.size - 3 * MIB, b.size};
    for (size_t i = 0; i < 3; i++) {
        uint64_t least, most;
        struct ws_lock *lock = NULL;
        struct ws_source *slice = NULL;
        struct ws_text said = {0};
        const char *path = scratch("behind.img");
        kept = open_kept(&b, PASSPHRASE);
        OK(ws_kept_bounds(kept, &least, &most, &error));
        CHECK(least < sizes[i] && most >= sizes[i] / MIB * MIB);
        OK(ws_kept_resize(kept, sizes[i], &error));
        OK(ws_kept_prepare(kept, 1790000500, NULL, &error));
        OK(carry_out(&b, kept));
        ws_kept_close(kept);
        kept = open_kept(&b, PASSPHRASE);
        CHECK_INT(ws_kept_memory(kept)->volume_size, sizes[i] / MIB * MIB);
        CHECK(has(kept, "rw/home/tide/notes"));
        ws_kept_close(kept);
        OK(ws_source_slice(b.now, b.at, sizes[i] / MIB * MIB, &slice, &error));
        OK(ws_lock_open(slice, PASSPHRASE, &lock, &error));
        save_source(ws_lock_body(lock), path);
        if (have_program("e2fsck") && shell(&said, "e2fsck -fn '%s'", path) != 0)
            fail_at(__FILE__, __LINE__, "%zu: %s", i, said.data);
        ws_text_free(&said);
        ws_lock_close(lock);
        ws_source_close(slice);
    }
    ws_saved_close(saved);
    ws_source_close(archive);
    ws_text_free(&text);
    free_bed(&b);
    free_bed(&open);
}

/* A state beside which the old one has no room is put once that is gone; one that never fits is told before. */
static void what_would_fit_alone_is_known(void) {
    const uint64_t sizes[] = {24 * MIB, 40 * MIB};
    for (size_t i = 0; i < 2; i++) {
        struct bed b, larger;
        struct ws_saved_facts facts;
        struct ws_text text = {0};
        struct ws_source *archive = NULL;
        struct ws_saved *saved = NULL;
        uint64_t ignored;
        if (!build_bed(&b, "live-boot", false) || !build_bed(&larger, "live-boot", false)) return;
        fill_bed_with(&larger, 22 * MIB);
        save(&larger, NULL, &text, &facts);
        OK(ws_source_memory(text.data, text.length, &archive, &error));
        OK(resize(&b, sizes[i], &ignored));
        fill_bed_with(&b, 14 * MIB);
        for (int again = 0; again < 2; again++) { /* over what is there, and after a reset */
            OK(ws_saved_open(archive, NULL, &saved, &error));
            struct ws_kept *kept = open_kept(&b, NULL);
            const bool alone = again && i == 1;
            enum ws_status status = edit(kept, PUT, saved);
            CHECK_INT(status, alone ? WS_OK : WS_E_SPACE);
            if (!alone) CHECK_INT(ws_kept_fits_alone(kept), i == 1);
            if (alone) OK(carry_out(&b, kept));
            ws_kept_close(kept);
            ws_saved_close(saved);
            kept = open_kept(&b, NULL);
            CHECK(has(kept, "rw/large") != (again && !alone)); /* what was there, or what was put */
            if (!again) OK(edit(kept, RESET, NULL));
            if (!again) OK(carry_out(&b, kept));
            ws_kept_close(kept);
            check_volume(&b, "put in little room");
        }
        ws_source_close(archive);
        ws_text_free(&text);
        free_bed(&larger);
        free_bed(&b);
    }
}

static void what_does_not_go_is_refused(void) {
    struct bed b, other;
    struct ws_saved_facts facts;
    struct ws_text text = {0};
    struct ws_source *archive = NULL, *damaged = NULL;
    struct ws_saved *saved = NULL;
    static const char *const nothing[] = {"/no/such/place"};
    if (!build_bed(&b, "live-boot", false) || !build_bed(&other, "casper", false)) return;
    struct ws_kept *kept = open_kept(&b, NULL);
    FAILS(ws_kept_save(kept, plain_port(), collect, &text, NULL, NULL, &facts, &error), WS_E_NOTFOUND); /* not yet */
    ws_kept_close(kept);
    fill_bed(&b, "rw", 30, 3);
    save(&b, NULL, &text, &facts);
    OK(ws_source_memory(text.data, text.length, &archive, &error));
    kept = open_kept(&b, NULL);
    FAILS(ws_kept_reset(kept, nothing, 1, &error), WS_E_NOTFOUND);
    ws_kept_close(kept);
    /* used, or pulled and swapped, in between */
    kept = open_kept(&b, NULL);
    OK(edit(kept, RESET, NULL));
    FAILS(edit(kept, RESET, NULL), WS_E_USAGE);
    b.drive->bytes[b.at + 1024 + 0x30] ^= 1;
    CHECK_INT(carry_out(&b, kept), WS_E_REFUSED);
    b.drive->bytes[b.at + 1024 + 0x30] ^= 1;
    const struct ws_kept_options o = {.confirm = "another"};
    struct ws_write_result result;
    FAILS(ws_kept_carry_out(kept, plain_port(), &b.drive->drive, &o, &result, &error), WS_E_REFUSED);
    ws_kept_close(kept);
    /* onto another family: where that one looks for it */
    OK(ws_saved_open(archive, NULL, &saved, &error));
    kept = open_kept(&other, NULL);
    OK(edit(kept, PUT, saved));
    OK(carry_out(&other, kept));
    ws_kept_close(kept);
    kept = open_kept(&other, NULL);
    CHECK(has(kept, "upper/home/tide/notes") && !has(kept, "rw"));
    ws_kept_close(kept);
    ws_saved_close(saved);
    /* damaged or cut archives are found, wherever */
    for (int i = 0; i < cases_of(60); i++) {
        struct ws_text bad = {0};
        ws_text_add(&bad, text.data, i % 3 ? text.length : (size_t)random_below(text.length));
        if (i % 3) bad.data[random_below(bad.length)] ^= (char)(1 + random_below(255));
        OK(ws_source_memory(bad.data, bad.length, &damaged, &error));
        saved = NULL;
        enum ws_status status = ws_saved_open(damaged, NULL, &saved, &error);
        if (status == WS_OK) CHECK_STR(ws_saved_facts(saved)->sha256, facts.sha256);
        ws_saved_close(saved);
        ws_source_close(damaged);
        ws_text_free(&bad);
    }
    ws_source_close(archive);
    ws_text_free(&text);
    free_bed(&b);
    free_bed(&other);
}

/* All that a system sees through the overlay, in one text. */
static void kernel_sees(const char *path, struct ws_text *out) {
    char device[64];
    const char *place = scratch("volume"), *lower = scratch("lower"), *merged = scratch("merged");
    ws_text_free(out);
    if (!loop_attach(path, device)) return;
    if (mount_at(device, "ext4", "", place)) {
        CHECK_INT(shell(out,
                        "mkdir -p '%s/work' && mount -t overlay overlay -o "
                        "lowerdir='%s',upperdir='%s/rw',workdir='%s/work' '%s' && cd '%s' && "
                        "find . -printf '%%P %%y %%m %%U %%G %%T@ %%l\\n' | sort && find . -type f -exec sha256sum {} "
                        "+ | sort && "
                        "python3 -c \"import os; print([(n, os.getxattr('home/tide/2', n)) for n in "
                        "os.listxattr('home/tide/2')])\"",
                        place, lower, place, place, merged, merged),
                  0);
        unmount(merged);
        unmount(place);
    }
    loop_detach(device);
}

static void what_the_kernel_wrote_is_saved_and_put_back(void) {
    if (!may_mount()) {
        skip_test("mounting is not allowed");
        return;
    }
    for (int round = 0; round < cases_of(6); round++) {
        const char *path = scratch("kernel.img");
        struct bed b;
        struct ws_saved_facts facts;
        struct ws_text text = {0}, before = {0}, after = {0};
        struct ws_source *archive = NULL, *slice = NULL;
        struct ws_saved *saved = NULL;
        if (!build_bed(&b, "live-boot", false)) return;
        OK(ws_source_slice(b.now, b.at, b.size, &slice, &error));
        save_source(slice, path);
        if (!kernel_history(path, round % 2)) return;
        bytes_of(path, b.drive->bytes + b.at, b.size);
        kernel_sees(path, &before); /* and so recovers its own copy */
        struct ws_kept *kept = open_kept(&b, NULL);
        CHECK_INT(ws_kept_facts(kept)->needs_recovery, round % 2);
        ws_kept_close(kept);
        save(&b, NULL, &text, &facts);
        OK(ws_source_memory(text.data, text.length, &archive, &error));
        for (enum edit what = RESET; what < EDITS; what++) {
            if (what == RESET_BUT) continue; /* of what the reset left */
            OK(ws_saved_open(archive, NULL, &saved, &error));
            kept = open_kept(&b, NULL);
            OK(edit(kept, what, saved));
            OK(carry_out(&b, kept));
            ws_kept_close(kept);
            ws_saved_close(saved);
            check_volume(&b, "after the kernel");
        }
        save_source(slice, path);
        kernel_sees(path, &after);
        CHECK(before.length > 3000);
        if (strcmp(before.data ? before.data : "", after.data ? after.data : "") != 0)
            fail_at(__FILE__, __LINE__, "the kernel sees another state");
        ws_source_close(archive);
        ws_source_close(slice);
        ws_text_free(&text);
        ws_text_free(&before);
        ws_text_free(&after);
        free_bed(&b);
    }
}

/* Full to its last block, by one large file. */
static void fill_up(struct bed *b) {
    fill_bed_with(b, MIB);
    struct ws_kept *kept = open_kept(b, NULL);
    const uint64_t room = ws_kept_facts(kept)->free_bytes;
    ws_kept_close(kept);
    fill_bed_with(b, MIB + (size_t)room);
    kept = open_kept(b, NULL);
    CHECK_INT(ws_kept_facts(kept)->free_bytes, 0);
    ws_kept_close(kept);
}

/* To its last block, as it is when somebody wants to clean it: what is new goes over what goes, through the log. */
static void a_full_volume_is_cared_for(void) {
    struct bed b;
    struct ws_saved_facts facts;
    struct ws_text text = {0};
    struct ws_source *archive = NULL;
    if (!build_bed(&b, "live-boot", false)) return;
    fill_bed_with(&b, MIB);
    save(&b, NULL, &text, &facts);
    OK(ws_source_memory(text.data, text.length, &archive, &error));
    fill_up(&b);
    sweep_all(&b, archive);
    ws_source_close(archive);
    ws_text_free(&text);
    free_bed(&b);
}

/* And the plug was pulled then: its journal is in use, so the log goes elsewhere on the drive. */
static void a_full_volume_whose_plug_was_pulled_is_reset(void) {
    struct bed b;
    uint64_t ignored;
    if (!build_bed(&b, "live-boot", false)) return;
    OK(resize(&b, 24 * MIB, &ignored));
    fill_up(&b);
    uint8_t *super = b.drive->bytes + b.at + 1024;
    ws_store_le32(super + 0x60, ws_load_le32(super + 0x60) | 4); /* its journal is to be replayed */
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    const size_t behind = (size_t)(b.at + b.size), length = BED_DRIVE - behind;
    uint8_t *first = malloc(length);
    memcpy(first, b.drive->bytes + behind, length);
    struct ws_kept *kept = open_kept(&b, NULL);
    CHECK(ws_kept_facts(kept)->needs_recovery);
    OK(edit(kept, RESET, NULL));
    OK(carry_out(&b, kept));
    ws_kept_close(kept);
    CHECK(memcmp(first, b.drive->bytes + behind, length) != 0); /* the log went there */
    free(first);
    check_volume(&b, "after a reset");
    kept = open_kept(&b, NULL);
    CHECK(!has(kept, "rw"));
    ws_kept_close(kept);
    free_bed(&b);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"edits take what they say", edits_take_what_they_say},
        {"a cut at every write loses nothing", a_cut_at_every_write_loses_nothing},
        {"a full volume is cared for", a_full_volume_is_cared_for},
        {"a full volume whose plug was pulled is reset", a_full_volume_whose_plug_was_pulled_is_reset},
        {"what is locked is cared for", what_is_locked_is_cared_for},
        {"what would fit alone is known", what_would_fit_alone_is_known},
        {"what does not go is refused", what_does_not_go_is_refused},
        {"what the kernel wrote is saved and put back", what_the_kernel_wrote_is_saved_and_put_back},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
