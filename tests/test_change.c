/* test_change.c — drives in use changed, and cut at every write: as before, or finished; never between. */
#include "tests/harness.h"

enum { SIZE = 3 << 20, LOG_AT = 2 << 20 };

/* A drive with a cache: at the cut any part of what was not flushed has reached the medium, sector by sector. */
struct cached {
    struct ws_drive drive;
    uint32_t sector;
    uint8_t *medium, *cache;
    uint64_t calls, cut_at;
};

static void lose(struct cached *d) {
    for (uint64_t at = 0; at < SIZE; at += d->sector)
        if (random_below(2)) memcpy(d->medium + at, d->cache + at, d->sector);
}

static enum ws_status c_describe(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *e) {
    (void)e;
    memset(facts, 0, sizeof *facts);
    facts->size = SIZE;
    facts->logical_sector = ((struct cached *)drive)->sector;
    strcpy(facts->short_name, "gorse");
    return WS_OK;
}
static enum ws_status c_read(struct ws_drive *drive, uint64_t at, void *buffer, size_t length, struct ws_error *e) {
    (void)e;
    memcpy(buffer, ((struct cached *)drive)->cache + at, length);
    return WS_OK;
}
static enum ws_status c_call(struct cached *d, struct ws_error *e) {
    if (++d->calls != d->cut_at) return WS_OK;
    lose(d);
    return ws_fail(e, WS_E_GONE, "pulled out");
}
static enum ws_status c_write(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                              struct ws_error *e) {
    struct cached *d = (struct cached *)drive;
    memcpy(d->cache + at, bytes, length); /* at the cut some of it arrives */
    return c_call(d, e);
}
static enum ws_status c_flush(struct ws_drive *drive, struct ws_error *e) {
    struct cached *d = (struct cached *)drive;
    WS_TRY(c_call(d, e));
    memcpy(d->medium, d->cache, SIZE);
    return WS_OK;
}
static enum ws_status c_reread(struct ws_drive *drive, struct ws_error *e) {
    (void)drive, (void)e;
    return WS_OK;
}
static void c_close(struct ws_drive *drive) { (void)drive; }
static const struct ws_drive_ops cached_ops = {c_describe, c_read, c_write, c_flush, NULL,
                                               c_reread,   NULL,   NULL,    c_close};

struct scene {
    uint32_t sector;
    uint8_t before[SIZE], target[SIZE];
    bool beside[SIZE / 512]; /* holds nothing: may hold anything until it is finished */
    struct ws_source *fresh;
    struct ws_layout *layout;
};

/* Places at random: some hold something, some nothing. */
static bool make_scene(struct scene *s, uint32_t sector) {
    s->sector = sector;
    random_bytes(s->before, SIZE);
    memcpy(s->target, s->before, SIZE);
    memset(s->beside, 0, sizeof s->beside);
    for (size_t i = LOG_AT / 512; i < SIZE / 512; i++) s->beside[i] = true;
    if (ws_layout_create(SIZE, &s->layout, &error) != WS_OK) return false;
    uint8_t *bytes = malloc(SIZE);
    random_bytes(bytes, SIZE);
    memcpy(bytes, s->before, sector); /* the first sector comes back as it was */
    bool good = ws_source_memory(bytes, SIZE, &s->fresh, &error) == WS_OK &&
                ws_layout_own(s->layout, s->fresh, &error) == WS_OK &&
                ws_layout_add(s->layout, 0, sector, s->fresh, 0, WS_PHASE_SEAL, &error) == WS_OK;
    for (uint64_t at = 8192; good && at < LOG_AT - 65536;) {
        uint64_t length = sector * (1 + random_below(random_below(5) ? 6 : 60));
        if (at + length > LOG_AT) break;
        enum ws_phase phase = random_below(2) ? WS_PHASE_SEAL : WS_PHASE_BODY;
        good = ws_layout_add(s->layout, at, length, s->fresh, at, phase, &error) == WS_OK;
        for (uint64_t i = at / 512; phase == WS_PHASE_BODY && i < (at + length) / 512; i++) s->beside[i] = true;
        memcpy(s->target + at, bytes + at, length);
        at += length + sector * random_below(sector == 512 ? 200 : 25);
    }
    free(bytes);
    return good && ws_layout_seal(s->layout, &error) == WS_OK;
}

/* The log in so many stretches, apart from each other and in any order. */
static size_t places_for(const struct scene *s, struct ws_run place[WS_LOG_PIECES]) {
    const uint64_t needed = ws_change_log_bytes(s->layout);
    const size_t n = 1 + (size_t)random_below(WS_LOG_PIECES);
    const uint64_t each = (needed / n + 4096) / 4096 * 4096;
    if (LOG_AT + n * (each + 4096) > SIZE) {
        place[0] = (struct ws_run){.at = LOG_AT, .length = SIZE - LOG_AT};
        return 1;
    }
    for (size_t i = 0; i < n; i++)
        place[i] = (struct ws_run){.at = LOG_AT + (n - 1 - i) * (each + 4096), .length = each};
    return n;
}

static void check_drive(const struct scene *s, const struct cached *d, const uint8_t *wanted, bool done, uint64_t cut) {
    for (uint64_t i = 0; i < SIZE / 512; i++) {
        bool any = s->beside[i] && (!done || i >= LOG_AT / 512);
        if (!any && memcmp(d->medium + i * 512, wanted + i * 512, 512) != 0) {
            fail_at(__FILE__, __LINE__, "cut %llu: sector %llu is %s", (unsigned long long)cut, (unsigned long long)i,
                    done ? "not the target's" : "no longer as it was");
            return;
        }
    }
}

static void cut_anywhere(uint32_t sector) {
    struct scene *s = calloc(1, sizeof *s);
    struct ws_port *port = plain_port();
    struct cached d = {.drive.ops = &cached_ops, .sector = sector, .medium = malloc(SIZE), .cache = malloc(SIZE)};
    static const char build[] = "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff";
    struct ws_write_options o = {.build = build};
    struct ws_write_result result;
    uint64_t whole = 0, finished = 0, taken_back = 0;
    struct ws_run place[WS_LOG_PIECES];
    CHECK(make_scene(s, sector));
    const size_t places = places_for(s, place);
    for (uint64_t cut = 0; cut <= whole; cut++) {
        uint64_t calls = 0;
        memcpy(d.medium, s->before, SIZE);
        memcpy(d.cache, s->before, SIZE);
        d.calls = 0;
        d.cut_at = cut;
        enum ws_status status = ws_change_in(port, s->layout, place, places, &d.drive, &o, &result, &error);
        CHECK_INT(status, cut ? WS_E_GONE : WS_OK);
        if (!cut) whole = d.calls;
        if (!cut) CHECK_INT(memcmp(d.medium, d.cache, SIZE), 0);
        struct ws_changing mark;
        /* found again; cut once more on the way, at any moment of that */
        while (memcpy(d.cache, d.medium, SIZE), ws_changing_read(d.medium, &mark)) {
            CHECK_STR(mark.change, build);
            d.calls = 0;
            d.cut_at = calls < 3 ? 1 + random_below(20) : 0;
            status = ws_change_finish(port, &d.drive, NULL, NULL, NULL, &error);
            if (status != WS_OK) CHECK_INT(status, WS_E_GONE);
            if (++calls > 9) break;
        }
        bool changed = calls > 0 || !cut || memcmp(d.medium + 8192, s->before + 8192, LOG_AT - 65536) != 0;
        bool as_it_was = true;
        for (size_t i = 0; i < LOG_AT / 512; i++)
            as_it_was &= s->beside[i] || memcmp(d.medium + i * 512, s->before + i * 512, 512) == 0;
        if (as_it_was && calls == 0 && cut) {
            taken_back++;
            check_drive(s, &d, s->before, false, cut);
        } else {
            CHECK(changed);
            finished++;
            check_drive(s, &d, s->target, true, cut);
        }
    }
    cuts_seen(taken_back, finished);
    CHECK(whole > 8 && finished > 3 && taken_back > 3);
    ws_layout_close(s->layout);
    free(s);
    free(d.medium);
    free(d.cache);
}

static void a_change_cut_anywhere_is_finished_or_never_was(void) {
    for (int i = 0; i < cases_of(12); i++) cut_anywhere(i % 4 == 3 ? 4096 : 512);
}

static void a_log_that_was_not_meant_is_not_carried_out(void) {
    struct scene *s = calloc(1, sizeof *s);
    struct ws_port *port = plain_port();
    struct cached d = {.drive.ops = &cached_ops, .sector = 512, .medium = malloc(SIZE), .cache = malloc(SIZE)};
    struct ws_write_result result;
    struct ws_changing mark = {.change = ""};
    struct ws_run place[WS_LOG_PIECES];
    CHECK(make_scene(s, 512));
    const size_t places = places_for(s, place);
    memcpy(d.medium, s->before, SIZE);
    memcpy(d.cache, s->before, SIZE);
    FAILS(ws_change_finish(port, &d.drive, NULL, NULL, NULL, &error), WS_E_NOTFOUND);
    do { /* until the mark is on the medium */
        memcpy(d.cache, s->before, SIZE);
        d.calls = 0;
        d.cut_at++;
        FAILS(ws_change_in(port, s->layout, place, places, &d.drive, NULL, &result, &error), WS_E_GONE);
    } while (!ws_changing_read(d.medium, &mark));
    CHECK_STR(mark.change, "");
    d.cut_at = 0;
    for (int i = 0; i < 60; i++) {
        uint8_t *was = malloc(SIZE);
        memcpy(d.cache, d.medium, SIZE);
        const struct ws_run *in = &place[random_below(mark.pieces ? mark.pieces : 1)];
        const uint64_t length = mark.pieces ? mark.piece[in - place].length : mark.log_length;
        uint64_t at = random_below(4) ? in->at + random_below(length) : random_below(512);
        d.cache[at] ^= (uint8_t)(1u << random_below(8));
        memcpy(was, d.cache, SIZE);
        enum ws_status status = ws_change_finish(port, &d.drive, NULL, NULL, NULL, &error);
        bool zeros = at < 512 && status == WS_E_NOTFOUND;
        CHECK(status == WS_E_FORMAT || zeros);
        CHECK(memcmp(was, d.cache, SIZE) == 0);
        free(was);
    }
    ws_layout_close(s->layout);
    free(s);
    free(d.medium);
    free(d.cache);
}

static void what_is_no_change_is_refused(void) {
    struct memory_drive *d = memory_drive(SIZE, 512);
    struct ws_layout *layout = NULL;
    struct ws_write_result result;
    char bytes[1024] = "";
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_layout_add_bytes(layout, 4096, bytes, 1024, WS_PHASE_SEAL, &error));
    OK(ws_layout_seal(layout, &error));
    FAILS(ws_change(plain_port(), layout, LOG_AT, &d->drive, NULL, &result, &error), WS_E_USAGE);
    ws_layout_close(layout);
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_layout_add_bytes(layout, 0, bytes, 512, WS_PHASE_SEAL, &error));
    OK(ws_layout_add_bytes(layout, LOG_AT, bytes, 1024, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    FAILS(ws_change(plain_port(), layout, LOG_AT, &d->drive, NULL, &result, &error), WS_E_RANGE); /* the log over it */
    CHECK_INT(d->writes, 0);
    d->corrupt_at = LOG_AT + 8192 + 40;
    FAILS(ws_change(plain_port(), layout, LOG_AT + 8192, &d->drive, NULL, &result, &error), WS_E_DIFFERENT);
    CHECK_INT(memcmp(d->bytes, "\xe5\xe5\xe5\xe5", 4), 0);
    ws_layout_close(layout);
    memory_drive_free(d);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"a change cut anywhere is finished or never was", a_change_cut_anywhere_is_finished_or_never_was},
        {"a log that was not meant is not carried out", a_log_that_was_not_meant_is_not_carried_out},
        {"what is no change is refused", what_is_no_change_is_refused},
        {NULL, NULL},
    };
    return run_tests(argc, argv, tests);
}
