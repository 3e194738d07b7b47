/* test_layout.c — layouts, and writing and checking them, with every write cut. */
#include "tests/harness.h"

enum { MIB = 1 << 20 };

static void layouts_refuse_what_cannot_be(void) {
    struct ws_layout *l = NULL;
    struct ws_source *z = NULL;
    OK(ws_source_zeros(1000, &z, &error));
    OK(ws_layout_create(10000, &l, &error));
    OK(ws_layout_add(l, 5000, 0, z, 0, WS_PHASE_BODY, &error));
    CHECK_INT(ws_layout_count(l), 0);
    FAILS(ws_layout_add(l, 9500, 501, z, 0, WS_PHASE_BODY, &error), WS_E_RANGE);
    FAILS(ws_layout_add(l, UINT64_MAX, 2, z, 0, WS_PHASE_BODY, &error), WS_E_RANGE);
    FAILS(ws_layout_add(l, 0, 600, z, 500, WS_PHASE_BODY, &error), WS_E_RANGE);
    OK(ws_layout_add(l, 500, 500, z, 500, WS_PHASE_BODY, &error));
    OK(ws_layout_add(l, 0, 500, z, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(l, &error));
    CHECK_INT(ws_layout_count(l), 1); /* adjoining pieces of one source are one extent */
    FAILS(ws_layout_add(l, 2000, 10, z, 0, WS_PHASE_BODY, &error), WS_E_USAGE);
    ws_layout_close(l);
    OK(ws_layout_create(10000, &l, &error));
    OK(ws_layout_add(l, 0, 500, z, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_add(l, 499, 10, z, 0, WS_PHASE_BODY, &error));
    FAILS(ws_layout_seal(l, &error), WS_E_RANGE);
    CHECK_HAS(error.what, "overlap");
    ws_layout_close(l);
    ws_source_close(z);
}

static void a_layout_reads_as_the_drive_will(void) {
    for (int round = 0; round < 20; round++) {
        uint8_t *wanted = malloc(MIB);
        uint8_t *seen = malloc(MIB);
        struct ws_layout *layout = random_layout(MIB, 16, false, wanted);
        struct ws_source *view = NULL;
        for (size_t i = 0, at = 0; at < MIB; at++) { /* holes read as zeros */
            while (i < ws_layout_count(layout) &&
                   ws_layout_extent(layout, i)->at + ws_layout_extent(layout, i)->length <= at)
                i++;
            if (i == ws_layout_count(layout) || at < ws_layout_extent(layout, i)->at) wanted[at] = 0;
        }
        OK(ws_layout_source(layout, &view, &error));
        for (int reads = 0; reads < 30; reads++) {
            uint64_t at = random_below(MIB);
            size_t length = (size_t)random_below(MIB - at);
            OK(ws_source_read(view, at, seen, length, &error));
            CHECK(memcmp(seen, wanted + at, length) == 0);
        }
        ws_source_close(view);
        ws_layout_close(layout);
        free(wanted);
        free(seen);
    }
}

/* Parts that may have changed are left out of a check: not compared, not hashed, not counted. */
static void parts_can_be_left_out_of_a_check(void) {
    struct memory_drive *d = memory_drive(MIB, 512);
    struct ws_layout *layout = NULL;
    struct ws_write_result written;
    struct ws_check_result check;
    uint8_t bytes[3][4096];
    char hex[WS_HASH_HEX];
    OK(ws_layout_create(MIB, &layout, &error));
    for (unsigned i = 0; i < 3; i++) { /* three parts, one behind the other */
        random_bytes(bytes[i], 4096);
        CHECK_INT(ws_layout_part(layout, i), i ? i - 1 : 0);
        OK(ws_layout_add_bytes(layout, 4096 * i, bytes[i], 4096, WS_PHASE_BODY, &error));
    }
    OK(ws_layout_seal(layout, &error));
    OK(ws_write(plain_port(), layout, &d->drive, &(struct ws_write_options){0}, &written, &error));
    d->bytes[5000] ^= 1; /* in part 1 */
    for (uint32_t out = 0; out < 8; out++) {
        const struct ws_check_options o = {.with_hash = true, .leave_out = out};
        OK(ws_check(plain_port(), layout, &d->drive, &o, &check, &error));
        CHECK(check.equal == ((out & 2) != 0));
        CHECK_INT(check.checked, ws_layout_bytes_without(layout, out));
        CHECK_INT(check.checked, 4096 * (3 - (out & 1) - (out >> 1 & 1) - (out >> 2 & 1)));
        if (out != 2) continue;
        struct ws_pieces two = {0};
        for (unsigned i = 0; i < 3; i += 2) {
            struct ws_digest_piece p = {.at = 4096 * i, .length = 4096, .part = i};
            OK(ws_hash_bytes(WS_HASH_SHA256, bytes[i], 4096, hex, &error));
            for (int k = 0; k < 32; k++) (void)sscanf(hex + 2 * k, "%2hhx", &p.sha256[k]);
            OK(ws_pieces_add(&two, &p, &error));
        }
        OK(ws_pieces_root(&two, hex, &error));
        CHECK_STR(check.sha256, hex);
        ws_pieces_free(&two);
    }
    ws_layout_close(layout);
    memory_drive_free(d);
}

/* Filling puts a source's bytes wherever nothing is yet, and nowhere else. */
static void filling_leaves_alone_what_is_there(void) {
    uint8_t *bytes = malloc(MIB);
    random_bytes(bytes, MIB);
    for (int round = 0; round < 60; round++) {
        uint8_t *wanted = malloc(MIB), *seen = malloc(MIB);
        struct ws_layout *l = NULL;
        struct ws_source *fill = NULL, *view = NULL;
        uint64_t from = random_below(MIB), end = from + random_below(MIB - from + 1);
        memset(wanted, 0, MIB);
        memcpy(wanted + from, bytes + from, (size_t)(end - from));
        OK(ws_source_memory(bytes, MIB, &fill, &error));
        OK(ws_layout_create(MIB, &l, &error));
        for (uint64_t i = random_below(20); i > 0; i--) { /* backwards: not in order */
            uint64_t at = (i - 1) * (MIB / 20) + random_below(20000), length = 1 + random_below(MIB / 20 - 20000);
            memset(wanted + at, 'a', (size_t)length);
            memset(seen, 'a', (size_t)length);
            OK(ws_layout_add_bytes(l, at, seen, (size_t)length, WS_PHASE_SEAL, &error));
        }
        OK(ws_layout_fill(l, from, end, fill, &error));
        OK(ws_layout_seal(l, &error)); /* no overlaps */
        OK(ws_layout_source(l, &view, &error));
        OK(ws_source_read(view, 0, seen, MIB, &error));
        CHECK(memcmp(seen, wanted, MIB) == 0);
        ws_source_close(view);
        ws_layout_close(l);
        ws_source_close(fill);
        free(wanted);
        free(seen);
    }
    free(bytes);
}

/* Wherever it is cut out, over whatever stands there. */
static void a_part_is_read_as_it_will_be(void) {
    enum { DRIVE = 100000 };
    static uint8_t was[DRIVE], will[DRIVE], seen[DRIVE + 50];
    for (int round = 0; round < 200; round++) {
        struct ws_layout *l = NULL, *over = NULL;
        struct ws_source *base = NULL, *view = NULL;
        random_bytes(was, sizeof was);
        memcpy(will, was, sizeof will);
        OK(ws_source_memory(was, sizeof was, &base, &error));
        OK(ws_layout_create(DRIVE + 50, &l, &error));
        for (uint64_t i = random_below(12); i > 0; i--) {
            const uint64_t at = i * 8000 + random_below(4000), length = 1 + random_below(4000);
            memset(will + at, (int)i, (size_t)length);
            OK(ws_layout_add_bytes(l, at, will + at, (size_t)length, WS_PHASE_BODY, &error));
        }
        if (round % 2) OK(ws_layout_seal(l, &error));
        const uint64_t at = random_below(DRIVE), size = 1 + random_below(DRIVE + 50 - at);
        OK(ws_layout_over(l, at, size, base, at, &over, &error));
        OK(ws_layout_source(over, &view, &error));
        OK(ws_source_read(view, 0, seen, (size_t)size, &error));
        const uint64_t there = at + size > DRIVE ? DRIVE - at : size;
        CHECK(memcmp(seen, will + at, (size_t)there) == 0);
        for (uint64_t i = there; i < size; i++) CHECK_INT(seen[i], 0);
        ws_source_close(view);
        ws_layout_close(over);
        ws_layout_close(l);
        ws_source_close(base);
    }
}

/* Two layouts are alike only if every byte is: places, what is made here, and inputs by their digests. */
static void a_fingerprint_tells_layouts_apart(void) {
    enum { CASES = 8 };
    char hex[CASES][WS_HASH_HEX];
    struct ws_source *image = NULL, *patched = NULL, *other = NULL;
    uint8_t bytes[8192];
    random_bytes(bytes, sizeof bytes);
    OK(ws_source_memory(bytes, sizeof bytes, &image, &error));
    for (int i = 0; i < CASES; i++) {
        struct ws_layout *l = NULL;
        const char *menu = i == 1 ? "timeout 9" : "timeout 5";
        const struct ws_known_input input = {image, i == 2 ? "digest b" : "digest a"};
        OK(ws_source_patched(image, 8192, &patched, &error));
        if (i == 3) OK(ws_source_patch(patched, 5000, "changed", 7, &error));
        OK(ws_source_slice(patched, i == 4 ? 512 : 0, 7168, &other, &error)); /* what it borrows is found */
        OK(ws_layout_create(i == 5 ? 2 * MIB : MIB, &l, &error));
        OK(ws_layout_add_bytes(l, 0, menu, 9, i == 6 ? WS_PHASE_SEAL : WS_PHASE_BODY, &error));
        OK(ws_layout_add(l, i == 7 ? 8192 : 4096, 7168, other, 0, WS_PHASE_BODY, &error));
        OK(ws_layout_seal(l, &error));
        OK(ws_layout_fingerprint(l, &input, 1, hex[i], &error));
        char again[WS_HASH_HEX];
        OK(ws_layout_fingerprint(l, &input, 1, again, &error));
        CHECK_STR(again, hex[i]);
        ws_layout_close(l);
        ws_source_close(other);
        ws_source_close(patched);
    }
    for (int i = 0; i < CASES; i++)
        for (int k = 0; k < i; k++)
            if (strcmp(hex[i], hex[k]) == 0) fail_at(__FILE__, __LINE__, "cases %d and %d are alike", k, i);
    ws_source_close(image);
}

/* An input of 8 TiB stands for itself by its digest: nothing of it is read. */
static enum ws_status never_read(const struct ws_source *s, uint64_t at, void *out, size_t n, struct ws_error *e) {
    (void)s, (void)at, (void)out, (void)n;
    return ws_fail(e, WS_E_READ, "it was read");
}

static void a_fingerprint_reads_no_input(void) {
    static const struct ws_source_ops ops = {never_read, NULL, NULL};
    enum { RUNS = 3 };
    const uint64_t size = 8ull << 40;
    struct ws_source *huge = NULL, *file = NULL;
    struct ws_layout *l = NULL;
    char hex[WS_HASH_HEX];
    struct ws_run runs[RUNS] = {{1ull << 40, 5}, {1ull << 40, WS_RUN_HOLE}, {1ull << 40, 3ull << 40}};
    OK(ws_source_make(&ops, size, NULL, &huge, &error));
    OK(ws_source_runs(huge, runs, RUNS, 4ull << 40, &file, &error));
    OK(ws_layout_create(size, &l, &error));
    OK(ws_layout_add(l, 0, file->size, file, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(l, &error));
    OK(ws_layout_fingerprint(l, &(struct ws_known_input){huge, "d"}, 1, hex, &error));
    FAILS(ws_layout_fingerprint(l, NULL, 0, hex, &error), WS_E_READ); /* unknown: it would have to be */
    ws_layout_close(l);
    ws_source_close(file);
    ws_source_close(huge);
}

/* Sources tell where their bytes come from: walked piece by piece, a sparse file's holes are found. */
static void sources_tell_their_pieces(void) {
    struct ws_source *base = NULL, *file = NULL, *zeros = NULL;
    struct ws_run runs[] = {{1000, 64}, {5000, WS_RUN_HOLE}, {100, 2000}};
    uint8_t bytes[4096];
    random_bytes(bytes, sizeof bytes);
    OK(ws_source_memory(bytes, sizeof bytes, &base, &error));
    OK(ws_source_runs(base, runs, 3, 10000, &file, &error)); /* its tail is a hole, too */
    OK(ws_source_zeros(77, &zeros, &error));
    static const struct {
        enum ws_piece_kind kind;
        uint64_t length, at;
    } wanted[] = {
        {WS_PIECE_BASE, 1000, 64}, {WS_PIECE_HOLE, 5000, 0}, {WS_PIECE_BASE, 100, 2000}, {WS_PIECE_HOLE, 3900, 0}};
    uint64_t at = 0;
    for (size_t i = 0; i < 4; i++) {
        struct ws_piece p = ws_source_piece(file, at, file->size - at);
        CHECK_INT(p.kind, wanted[i].kind);
        CHECK_INT(p.length, wanted[i].length);
        if (p.kind == WS_PIECE_BASE) CHECK(p.base == base && p.at == wanted[i].at);
        at += p.length;
    }
    CHECK_INT(at, file->size);
    CHECK_INT(ws_source_piece(zeros, 3, 10).kind, WS_PIECE_HOLE);
    CHECK_INT(ws_source_piece(base, 3, 10).kind, WS_PIECE_OWN);
    ws_source_close(zeros);
    ws_source_close(file);
    ws_source_close(base);
}

static void everything_is_written_once_in_order(void) {
    for (int round = 0; round < 12; round++) {
        uint32_t sector = round % 2 ? 4096 : 512;
        unsigned unit = round % 3 == 0 ? 512 : 2048; /* also extents that are not whole sectors of the drive */
        uint64_t size = 24 * MIB;
        uint8_t *wanted = malloc(size);
        struct ws_layout *layout = random_layout(size, unit, true, wanted);
        struct memory_drive *d = memory_drive(size, sector);
        struct ws_write_result result;
        struct ws_check_result check;
        OK(ws_write(plain_port(), layout, &d->drive, NULL, &result, &error));
        CHECK(memcmp(d->bytes, wanted, size) == 0);
        CHECK_INT(result.written, ws_layout_bytes(layout));
        CHECK(d->flushes >= 3);
        OK(ws_check(plain_port(), layout, &d->drive, &(struct ws_check_options){.with_hash = true}, &check, &error));
        CHECK(check.equal);
        CHECK_INT(check.checked, ws_layout_bytes(layout));
        d->corrupt_at = ws_layout_extent(layout, ws_layout_count(layout) / 2)->at + 7;
        OK(ws_check(plain_port(), layout, &d->drive, &(struct ws_check_options){.with_hash = false}, &check, &error));
        CHECK(!check.equal);
        CHECK_INT(check.different_at, d->corrupt_at);
        CHECK_INT(check.different_chunks, 1);
        memory_drive_free(d);
        ws_layout_close(layout);
        free(wanted);
    }
}

/* Order: body ascending, the seal last. The opening mark comes before all. */
static void the_seal_comes_last(void) {
    uint64_t size = 12 * MIB;
    uint8_t *wanted = malloc(size);
    struct ws_layout *layout = random_layout(size, 512, true, wanted);
    struct memory_drive *d = memory_drive(size, 512);
    struct ws_write_result result;
    OK(ws_write(plain_port(), layout, &d->drive, NULL, &result, &error));
    uint64_t writes = d->writes;
    memory_drive_free(d);
    for (uint64_t cut = 1; cut <= writes; cut++) { /* pulled out at every single write */
        d = memory_drive(size, 512);
        d->fail_at_write = cut;
        enum ws_status status = ws_write(plain_port(), layout, &d->drive, NULL, &result, &error);
        CHECK_INT(status, WS_E_GONE);
        bool sealed = memcmp(d->bytes, wanted, 4096) == 0;
        CHECK(!sealed);
        CHECK(cut == 1 || ws_is_unfinished(d->bytes)); /* before the first write it is as it was */
        memory_drive_free(d);
    }
    ws_layout_close(layout);
    free(wanted);
}

struct watch {
    uint64_t stop_at;
    unsigned steps; /* bit set of those seen */
};

static bool watch(void *context, const struct ws_progress *p) {
    struct watch *w = context;
    w->steps |= 1u << p->step;
    CHECK(p->done <= p->total);
    return w->stop_at == 0 || p->step == WS_STEP_COMPARING || p->done < w->stop_at;
}

/* A large layout whose content differs everywhere, and its fingerprint. */
struct large {
    struct ws_layout *layout;
    struct ws_source *content;
    char build[WS_HASH_HEX];
    uint64_t seed;
};

static enum ws_status patterned(const struct ws_source *s, uint64_t at, void *out, size_t n, struct ws_error *e) {
    uint64_t seed = *(const uint64_t *)s->state;
    (void)e;
    for (size_t i = 0; i < n; i++)
        ((uint8_t *)out)[i] = (uint8_t)((((at + i) >> 9) * 0x9e3779b97f4a7c15ull + seed) >> ((at + i) % 8 * 8));
    return WS_OK;
}

static bool make_large(struct large *l, uint64_t size, uint64_t seed) {
    static const struct ws_source_ops ops = {patterned, NULL, NULL};
    char digest[24];
    *l = (struct large){.seed = seed};
    snprintf(digest, sizeof digest, "%llx", (unsigned long long)seed);
    if (ws_source_make(&ops, size, &l->seed, &l->content, &error) != WS_OK ||
        ws_layout_create(size, &l->layout, &error) != WS_OK ||
        ws_layout_add(l->layout, 0, 4096, l->content, 0, WS_PHASE_SEAL, &error) != WS_OK ||
        ws_layout_add(l->layout, 4096, size - 4096, l->content, 4096, WS_PHASE_BODY, &error) != WS_OK ||
        ws_layout_seal(l->layout, &error) != WS_OK ||
        ws_layout_fingerprint(l->layout, &(struct ws_known_input){l->content, digest}, 1, l->build, &error) != WS_OK)
        return false;
    return true;
}

static void free_large(struct large *l) {
    ws_layout_close(l->layout);
    ws_source_close(l->content);
}

static void a_stopped_write_is_continued(void) {
    enum { SIZE = 700 * MIB };
    struct large l;
    struct memory_drive *d = memory_drive(SIZE, 512);
    struct ws_write_result result;
    struct ws_unfinished mark;
    struct watch w = {.stop_at = 600ull * MIB};
    CHECK(make_large(&l, SIZE, random_next()));
    struct ws_write_options o = {.on_progress = watch, .context = &w, .build = l.build};
    FAILS(ws_write(plain_port(), l.layout, &d->drive, &o, &result, &error), WS_E_CANCELLED);
    CHECK_INT(result.begun, WS_BEGUN_FRESH);
    CHECK(ws_unfinished_read(d->bytes, &mark));
    CHECK_STR(mark.build, l.build);
    CHECK_INT(mark.flushed, 604ull * MIB); /* stopped as asked, not pulled out: all that was written is flushed */
    CHECK_INT(mark.end, SIZE);
    memset(d->bytes + 650ull * MIB, 0xaa, 4096);
    w = (struct watch){0};
    OK(ws_write(plain_port(), l.layout, &d->drive, &o, &result, &error));
    CHECK_INT(result.begun, WS_BEGUN_CONTINUED);
    CHECK_INT(result.continued_at, 604ull * MIB);
    CHECK_INT(result.written, SIZE - 604ull * MIB + 4096);
    CHECK(result.compared >= 3 * 4 * MIB && result.compared < 120ull * MIB); /* samples of each stretch */
    struct ws_check_result check;
    OK(ws_check(plain_port(), l.layout, &d->drive, &(struct ws_check_options){.scope = WS_CHECK_ALL}, &check, &error));
    CHECK(check.equal);
    CHECK(!ws_is_unfinished(d->bytes));
    CHECK(w.steps & 1u << WS_STEP_FLUSHING && w.steps & 1u << WS_STEP_SEALING && w.steps & 1u << WS_STEP_WRITING);
    memory_drive_free(d);
    free_large(&l);
}

/* What a drive says of an unfinished build is believed only where it is true. */
static void only_this_very_build_is_continued(void) {
    enum { SIZE = 600 * MIB };
    struct large mine, other;
    struct memory_drive *d = memory_drive(SIZE, 512);
    struct ws_write_result result;
    struct ws_check_result check;
    CHECK(make_large(&mine, SIZE, 1) && make_large(&other, SIZE, 2));
    CHECK(strcmp(mine.build, other.build) != 0);
    enum { OTHER, HAND_WRITTEN, BEYOND, OVERWRITTEN, SWAPPED, ALL_COMPARED, CASES };
    static const enum ws_begun begun[CASES] = {WS_BEGUN_OTHER,   WS_BEGUN_DAMAGED, WS_BEGUN_DAMAGED,
                                               WS_BEGUN_CHANGED, WS_BEGUN_CHANGED, WS_BEGUN_CHANGED};
    for (int n = 0, k = (int)random_below(CASES); n < cases_of(CASES); n++, k = (k + 1) % CASES) {
        struct watch w = {.stop_at = 500ull * MIB};
        struct ws_write_options o = {.on_progress = watch, .context = &w, .build = mine.build};
        if (k == OTHER) o.build = other.build;
        const struct ws_layout *first = k == OTHER ? other.layout : mine.layout;
        FAILS(ws_write(plain_port(), first, &d->drive, &o, &result, &error), WS_E_CANCELLED);
        char *text = (char *)d->bytes;
        if (k == HAND_WRITTEN) memcpy(strstr(text, "flushed ") + 8, "599999999", 9);
        if (k == BEYOND) { /* check digits and all, but more than there is */
            char *at = strstr(text, "end ");
            memset(at, 0, 512 - (size_t)(at - text));
            at += sprintf(at, "end 900000000000\n");
            sprintf(at, "check %08x\n", ws_crc32(text, (size_t)(at - text)));
        }
        if (k == OVERWRITTEN) memset(d->bytes + 100ull * MIB, 0, 70 * MIB);
        if (k == SWAPPED) /* another stick, with this one's first sector */
            OK(ws_source_read(other.content, 4096, d->bytes + 4096, SIZE - 4096, &error));
        if (k == ALL_COMPARED) d->bytes[123ull * MIB + 456789] ^= 1; /* no sample: a write without a check sees it */
        o.compare_all = k == ALL_COMPARED;
        w.stop_at = 0;
        o.build = mine.build;
        OK(ws_write(plain_port(), mine.layout, &d->drive, &o, &result, &error));
        if (result.begun != begun[k] || result.continued_at != 0)
            fail_at(__FILE__, __LINE__, "case %d began %s", k, ws_begun_name(result.begun));
        OK(ws_check(plain_port(), mine.layout, &d->drive, &(struct ws_check_options){.scope = WS_CHECK_ALL}, &check,
                    &error));
        CHECK(check.equal);
    }
    memory_drive_free(d);
    free_large(&mine);
    free_large(&other);
}

/* Builds of over 256 MiB, which really continue, cut at every single write: taken up again they end in the same bytes.
 */
static void a_large_build_cut_at_every_write_is_made_good(void) {
    enum { SIZE = 292 * MIB };
    struct large l;
    struct ws_write_result result;
    int cuts = 0, continued = 0;
    CHECK(make_large(&l, SIZE, random_next()));
    uint8_t *wanted = malloc(SIZE);
    OK(ws_source_read(l.content, 0, wanted, SIZE, &error));
    struct ws_source *held = NULL;
    OK(ws_source_memory(wanted, SIZE, &held, &error)); /* made once: the pattern takes longer than the writing */
    struct ws_layout *layout = NULL;
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_layout_add(layout, 0, 4096, held, 0, WS_PHASE_SEAL, &error));
    OK(ws_layout_add(layout, 4096, SIZE - 4096, held, 4096, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    struct memory_drive *d = memory_drive(SIZE, 512);
    int step = getenv("WS_TEST_EVERY") ? 1 : cases_of(3) == 3 ? 4 : 10; /* `./run long` tries every one */
    for (uint64_t cut = 1; cut < 200; cut += (uint64_t)step) {
        struct ws_write_options o = {.build = l.build};
        memset(d->bytes, 0xe5, 1 * MIB); /* whatever was there: not unfinished */
        d->writes = 0;
        d->fail_at_write = cut;
        if (ws_write(plain_port(), layout, &d->drive, &o, &result, &error) == WS_OK) break;
        cuts++;
        d->fail_at_write = 0;
        OK(ws_write(plain_port(), layout, &d->drive, &o, &result, &error));
        continued += result.begun == WS_BEGUN_CONTINUED;
        if (memcmp(d->bytes, wanted, SIZE) != 0)
            fail_at(__FILE__, __LINE__, "cut at write %llu", (unsigned long long)cut);
    }
    CHECK(cuts > 70 / step && continued >= 8 / step);
    memory_drive_free(d);
    ws_layout_close(layout);
    ws_source_close(held);
    free(wanted);
    free_large(&l);
}

static void a_drive_that_is_too_small_stays_untouched(void) {
    struct ws_layout *layout = NULL;
    OK(ws_layout_create(8 * MIB, &layout, &error));
    OK(ws_layout_add_bytes(layout, 5 * MIB, "far", 3, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    struct memory_drive *d = memory_drive(4 * MIB, 512);
    struct ws_write_result result;
    FAILS(ws_write(plain_port(), layout, &d->drive, NULL, &result, &error), WS_E_SPACE);
    CHECK_INT(d->writes, 0);
    memory_drive_free(d);
    ws_layout_close(layout);
}

/* Several tasks may read one source at once: the same bytes for each, and nothing shared is written. */
struct task {
    const struct ws_source *source;
    uint64_t seed;
    const uint8_t *wanted;
    int wrong;
};

static void read_at_random(void *context) {
    struct task *t = context;
    uint8_t bytes[3000];
    struct ws_error e;
    for (int i = 0; i < 400; i++) {
        t->seed = t->seed * 6364136223846793005ull + 1442695040888963407ull;
        uint64_t at = (t->seed >> 20) % (t->source->size - sizeof bytes);
        if (ws_source_read(t->source, at, bytes, sizeof bytes, &e) != WS_OK ||
            memcmp(bytes, t->wanted + at, sizeof bytes) != 0)
            t->wrong++;
    }
}

static void several_tasks_read_one_source(void) {
    enum { SIZE = 300000, TASKS = 4 };
    struct ws_port *port = NULL;
    struct ws_source *base = NULL, *runs = NULL, *patched = NULL, *view = NULL, *file = NULL;
    struct ws_layout *layout = NULL;
    struct ws_run run[300];
    uint8_t *bytes = malloc(SIZE), *wanted = malloc(SIZE);
    random_bytes(bytes, SIZE);
    const char *path = scratch("shared.img");
    OK(ws_linux_open(&port, &error));
    OK(ws_source_memory(bytes, SIZE, &base, &error));
    for (size_t i = 0; i < 300; i++)
        run[i] = (struct ws_run){SIZE / 300, i % 7 == 0 ? WS_RUN_HOLE : (299 - i) * (SIZE / 300)};
    OK(ws_source_runs(base, run, 300, SIZE, &runs, &error));
    OK(ws_source_patched(runs, SIZE, &patched, &error));
    OK(ws_source_patch(patched, 1000, bytes, 5000, &error));
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_layout_add(layout, 0, SIZE, patched, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_source_read(view, 0, wanted, SIZE, &error));
    save_source(view, path);
    OK(ws_source_file(path, &file, &error));
    const struct ws_source *const sources[] = {runs, patched, view, file};
    for (size_t k = 0; k < 4; k++) {
        struct task task[TASKS];
        struct ws_task *handle[TASKS];
        if (k == 0) OK(ws_source_read(runs, 0, wanted, SIZE, &error));
        if (k == 1) OK(ws_source_read(view, 0, wanted, SIZE, &error));
        for (int i = 0; i < TASKS; i++) {
            task[i] = (struct task){sources[k], random_next(), wanted, 0};
            OK(port->ops->start(port, read_at_random, &task[i], &handle[i], &error));
        }
        for (int i = 0; i < TASKS; i++) {
            port->ops->join(port, handle[i]);
            CHECK_INT(task[i].wrong, 0);
        }
    }
    ws_source_close(file);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_source_close(patched);
    ws_source_close(runs);
    ws_source_close(base);
    ws_port_close(port);
    free(bytes);
    free(wanted);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"layouts refuse what cannot be", layouts_refuse_what_cannot_be},
        {"a layout reads as the drive will", a_layout_reads_as_the_drive_will},
        {"parts can be left out of a check", parts_can_be_left_out_of_a_check},
        {"filling leaves alone what is there", filling_leaves_alone_what_is_there},
        {"a part is read as it will be", a_part_is_read_as_it_will_be},
        {"a fingerprint tells layouts apart", a_fingerprint_tells_layouts_apart},
        {"a fingerprint reads no input", a_fingerprint_reads_no_input},
        {"sources tell their pieces", sources_tell_their_pieces},
        {"several tasks read one source", several_tasks_read_one_source},
        {"everything is written once, in order", everything_is_written_once_in_order},
        {"the seal comes last, whatever is cut", the_seal_comes_last},
        {"a stopped write is continued", a_stopped_write_is_continued},
        {"only this very build is continued", only_this_very_build_is_continued},
        {"a large build cut at every write is made good", a_large_build_cut_at_every_write_is_made_good},
        {"a drive that is too small stays untouched", a_drive_that_is_too_small_stays_untouched},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
