/* test_layout.c — layouts, and writing and checking them, with every write cut. */
#include "tests/harness.h"

enum { MIB = 1 << 20 };

/* Random extents over a drive; what it should hold stands in `wanted`, untouched bytes as 0xe5. */
static struct ws_layout *random_layout(uint64_t size, unsigned unit, bool seal, uint8_t *wanted) {
    struct ws_layout *layout = NULL;
    uint64_t at = seal ? 8192 : 0;
    memset(wanted, 0xe5, size);
    if (ws_layout_create(size, &layout, &error) != WS_OK) abort();
    if (seal) {
        uint8_t head[4096];
        random_bytes(head, sizeof head);
        memcpy(wanted, head, sizeof head);
        if (ws_layout_add_bytes(layout, 0, head, sizeof head, WS_PHASE_SEAL, &error) != WS_OK) abort();
    }
    while (at + 64 * unit < size) {
        at += random_below(3) ? random_below(40) * unit : 0;
        size_t length = (1 + random_below(random_below(10) ? 60 : 3000)) * unit;
        if (at + length > size) break;
        uint8_t *bytes = wanted + at;
        random_bytes(bytes, length);
        if (ws_layout_add_bytes(layout, at, bytes, length, WS_PHASE_BODY, &error) != WS_OK) abort();
        at += length;
    }
    if (ws_layout_seal(layout, &error) != WS_OK) abort();
    return layout;
}

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

static void a_fingerprint_tells_layouts_apart(void) {
    struct ws_source *z = NULL;
    char a[WS_HASH_HEX], b[WS_HASH_HEX], c[WS_HASH_HEX];
    OK(ws_source_zeros(4096, &z, &error));
    for (int i = 0; i < 2; i++) {
        struct ws_layout *l = NULL;
        OK(ws_layout_create(MIB, &l, &error));
        OK(ws_layout_add(l, i ? 4096 : 0, 4096, z, 0, WS_PHASE_BODY, &error));
        OK(ws_layout_seal(l, &error));
        OK(ws_layout_fingerprint(l, "image 1", i ? b : a, &error));
        OK(ws_layout_fingerprint(l, "image 2", c, &error));
        ws_layout_close(l);
    }
    CHECK(strcmp(a, b) != 0 && strcmp(b, c) != 0);
    ws_source_close(z);
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
    struct ws_write_record saved;
    int saves;
    unsigned steps; /* bit set of those seen */
};

static bool watch(void *context, const struct ws_progress *p) {
    struct watch *w = context;
    w->steps |= 1u << p->step;
    CHECK(p->done <= p->total);
    return w->stop_at == 0 || p->done < w->stop_at;
}

static void save(void *context, const struct ws_write_record *record) {
    struct watch *w = context;
    w->saved = *record;
    w->saves++;
}

static void a_stopped_write_is_continued(void) {
    enum { SIZE = 700 * MIB };
    struct ws_layout *layout = NULL;
    struct ws_source *z = NULL;
    struct memory_drive *d = memory_drive(SIZE, 512);
    struct ws_write_result result;
    struct watch w = {.stop_at = 600ull * MIB};
    struct ws_write_record record = {0};
    struct ws_write_options o = {
        .on_progress = watch, .context = &w, .record = &record, .on_record = save, .identity = "one"};
    uint8_t head[4096];
    random_bytes(head, sizeof head);
    OK(ws_source_zeros(SIZE, &z, &error));
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_layout_add_bytes(layout, 0, head, sizeof head, WS_PHASE_SEAL, &error));
    OK(ws_layout_add(layout, 4096, SIZE - 4096, z, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    FAILS(ws_write(plain_port(), layout, &d->drive, &o, &result, &error), WS_E_CANCELLED);
    CHECK(w.saved.flushed >= 256ull * MIB);
    CHECK(ws_is_unfinished(d->bytes));
    memset(d->bytes + 300ull * MIB, 0xaa, 4096); /* below the record: will not be written again */
    w = (struct watch){.stop_at = MIB};
    record = (struct ws_write_record){.fingerprint = "0123", .flushed = 512ull * MIB};
    FAILS(ws_write(plain_port(), layout, &d->drive, &o, &result, &error), WS_E_CANCELLED);
    CHECK_INT(result.continued_at, 0); /* a record of something else is not continued */
    record.flushed = 512ull * MIB;
    memset(d->bytes + 600ull * MIB, 0xaa, 4096);
    w = (struct watch){0};
    OK(ws_write(plain_port(), layout, &d->drive, &o, &result, &error));
    CHECK_INT(result.continued_at, 512ull * MIB);
    CHECK_INT(result.written, SIZE - 512ull * MIB + 4096);
    CHECK_INT(d->bytes[600ull * MIB], 0);
    CHECK(memcmp(d->bytes, head, sizeof head) == 0);
    CHECK(w.steps & 1u << WS_STEP_FLUSHING && w.steps & 1u << WS_STEP_SEALING && w.steps & 1u << WS_STEP_WRITING);
    memory_drive_free(d);
    ws_layout_close(layout);
    ws_source_close(z);
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

static void short_names_tell_twins_apart(void) {
    struct ws_drive_facts a = {.model = "Gorse 32", .serial = "1", .size = 32010928128ull};
    struct ws_drive_facts b = a;
    struct ws_drive_facts c = a;
    strcpy(b.serial, "2");
    OK(ws_drive_short_name(&a, &error));
    OK(ws_drive_short_name(&b, &error));
    OK(ws_drive_short_name(&c, &error));
    CHECK(strncmp(a.short_name, "gorse-32-", 9) == 0);
    CHECK(strcmp(a.short_name, b.short_name) != 0);
    CHECK_STR(a.short_name, c.short_name);
}

static void the_safety_rules_hold(void) {
    static const struct {
        const char *case_;
        struct ws_drive_facts facts;
        bool allow;
        enum ws_status wanted;
    } cases[] = {
        {"stick", {.removable = WS_YES, .internal = WS_NO, .size = 1}, false, WS_OK},
        {"system", {.removable = WS_YES, .internal = WS_NO, .size = 1, .system = true}, true, WS_E_REFUSED},
        {"internal", {.removable = WS_YES, .internal = WS_YES, .size = 1}, true, WS_E_REFUSED},
        {"cannot be told", {.removable = WS_YES, .internal = WS_UNKNOWN, .size = 1}, true, WS_E_REFUSED},
        {"mounted", {.removable = WS_YES, .internal = WS_NO, .size = 1, .in_use_by = "/mnt"}, true, WS_E_REFUSED},
        {"protected", {.removable = WS_YES, .internal = WS_NO, .size = 1, .read_only = true}, true, WS_E_REFUSED},
        {"empty reader", {.removable = WS_YES, .internal = WS_NO}, true, WS_E_REFUSED},
        {"external SSD", {.removable = WS_NO, .internal = WS_NO, .size = 1}, false, WS_E_REFUSED},
        {"external SSD, meant", {.removable = WS_NO, .internal = WS_NO, .size = 1}, true, WS_OK},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_target_rules rules = {cases[i].allow};
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_drive_may_write(&cases[i].facts, &rules, &error);
        if (status != cases[i].wanted) fail_at(__FILE__, __LINE__, "%s: %s", cases[i].case_, ws_status_name(status));
        if (status != WS_OK) CHECK(error.what[0] && error.next[0]);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"layouts refuse what cannot be", layouts_refuse_what_cannot_be},
        {"a layout reads as the drive will", a_layout_reads_as_the_drive_will},
        {"a fingerprint tells layouts apart", a_fingerprint_tells_layouts_apart},
        {"everything is written once, in order", everything_is_written_once_in_order},
        {"the seal comes last, whatever is cut", the_seal_comes_last},
        {"a stopped write is continued", a_stopped_write_is_continued},
        {"a drive that is too small stays untouched", a_drive_that_is_too_small_stays_untouched},
        {"short names tell twins apart", short_names_tell_twins_apart},
        {"the safety rules hold", the_safety_rules_hold},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
