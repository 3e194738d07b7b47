/* test_batch.c — what several readers share; and one request on many drives at once, on the simulated bench and here.
 */
#include "tests/roots.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/sim.h"

#include <stdatomic.h>

enum { MIB = 1 << 20, SIZE = 128 * MIB };

/* A source that counts, and fails where it is told to. */
struct counting {
    const struct ws_source *base;
    _Atomic uint64_t read;
    _Atomic uint64_t fails_at; /* the next read over this byte fails, once; UINT64_MAX never */
};
static enum ws_status counting_read(const struct ws_source *source, uint64_t at, void *out, size_t length,
                                    struct ws_error *e) {
    struct counting *c = source->state;
    uint64_t bad = c->fails_at;
    c->read += length;
    if (at <= bad && bad < at + length && atomic_compare_exchange_strong(&c->fails_at, &bad, UINT64_MAX))
        return ws_fail(e, WS_E_READ, "this place is bad");
    return ws_source_read(c->base, at, out, length, e);
}
static const struct ws_source_ops counting_ops = {counting_read, NULL, NULL};
static struct ws_source *count_reads(const struct ws_source *base, struct counting *c) {
    struct ws_source *made = NULL;
    c->base = base;
    c->read = 0;
    c->fails_at = UINT64_MAX;
    if (ws_source_make(&counting_ops, base->size, c, &made, &error) != WS_OK) abort();
    return made;
}

/* Readers at work: each goes through all sources in random steps. */
enum { READERS = 5, SOURCES = 3 };
struct going {
    struct ws_port *port;
    struct ws_source *view[SOURCES];
    const uint8_t *bytes[SOURCES];
    uint64_t seed, faults, wrong;
    double nap;
};
static void go_through(void *context) {
    struct going *g = context;
    uint8_t *buffer = malloc(3 * MIB);
    for (size_t i = 0; i < SOURCES; i++)
        for (uint64_t at = 0; at < g->view[i]->size;) {
            struct ws_error own = {0};
            g->seed = g->seed * 6364136223846793005u + 1442695040888963407u;
            size_t step = (size_t)(1 + (g->seed >> 33) % (g->seed & 64 ? 3 * MIB : 5000));
            if (step > g->view[i]->size - at) step = (size_t)(g->view[i]->size - at);
            if (ws_source_read(g->view[i], at, buffer, step, &own) != WS_OK) {
                g->faults++;
                continue; /* once more */
            }
            g->wrong += memcmp(buffer, g->bytes[i] + at, step) != 0;
            at += step;
            if (g->nap > 0) (void)ws_linux_pause(g->port, g->nap);
        }
    free(buffer);
}

static void what_is_shared_is_read_once_and_right(void) {
    struct ws_port *port = NULL;
    OK(ws_linux_open(&port, &error));
    for (int round = 0; round < cases_of(12); round++) {
        struct ws_shared *shared = NULL;
        struct counting counting[SOURCES];
        struct ws_source *memory[SOURCES], *counted[SOURCES];
        uint8_t *bytes[SOURCES];
        struct going going[READERS] = {0};
        struct ws_task *task[READERS];
        struct ws_shared_count count;
        uint64_t all = 0, read = 0, faults = 0;
        const bool fails = round % 3 == 2, slow = round % 3 == 1;
        OK(ws_shared_open(port, READERS, 16 * MIB, 60, &shared, &error));
        for (size_t i = 0; i < SOURCES; i++) {
            size_t size = i == 1 ? 1 + (size_t)random_below(9000) : 6 * MIB + (size_t)random_below(9 * MIB);
            bytes[i] = malloc(size);
            random_bytes(bytes[i], size);
            OK(ws_source_memory(bytes[i], size, &memory[i], &error));
            counted[i] = count_reads(memory[i], &counting[i]);
            if (fails && i == 2) counting[i].fails_at = random_below(size);
            all += size;
        }
        for (size_t k = 0; k < READERS; k++) {
            going[k] = (struct going){.port = port, .seed = random_next(), .nap = slow && k == 3 ? 0.002 : 0};
            for (size_t i = 0; i < SOURCES; i++) {
                OK(ws_shared_view(shared, k, counted[i], &going[k].view[i], &error));
                going[k].bytes[i] = bytes[i];
            }
            ws_shared_begin(shared, k);
        }
        for (size_t k = 0; k < READERS; k++) OK(port->ops->start(port, go_through, &going[k], &task[k], &error));
        for (size_t k = 0; k < READERS; k++) port->ops->join(port, task[k]);
        for (size_t k = 0; k < READERS; k++) {
            CHECK_INT(going[k].wrong, 0);
            faults += going[k].faults;
            for (size_t i = 0; i < SOURCES; i++) ws_source_close(going[k].view[i]);
        }
        for (size_t i = 0; i < SOURCES; i++) read += counting[i].read;
        ws_shared_count(shared, &count);
        CHECK(fails ? count.wanted >= READERS * all : count.wanted == READERS * all);
        CHECK_INT(count.read, read);
        CHECK_INT(faults, fails);
        if (read > all + (fails ? 4 * MIB : 0)) fail_at(__FILE__, __LINE__, "%.3f times", (double)read / (double)all);
        ws_shared_close(shared);
        for (size_t i = 0; i < SOURCES; i++) {
            ws_source_close(counted[i]);
            ws_source_close(memory[i]);
            free(bytes[i]);
        }
    }
    port->ops->close(port);
}

/* One that begins and never reads. */
static void who_does_not_get_on_is_left_behind(void) {
    struct ws_port *port = NULL;
    struct ws_shared *shared = NULL;
    struct ws_source *zeros = NULL, *view[2];
    char *buffer = malloc(MIB);
    OK(ws_linux_open(&port, &error));
    OK(ws_source_zeros(64ull * MIB, &zeros, &error));
    OK(ws_shared_open(port, 2, 4 * MIB, 0.05, &shared, &error));
    for (size_t i = 0; i < 2; i++) {
        OK(ws_shared_view(shared, i, zeros, &view[i], &error));
        ws_shared_begin(shared, i);
    }
    for (uint64_t at = 0; at < zeros->size; at += MIB) OK(ws_source_read(view[0], at, buffer, MIB, &error));
    for (uint64_t at = 0; at < zeros->size; at += MIB) OK(ws_source_read(view[1], at, buffer, MIB, &error));
    FAILS(ws_shared_open(port, 65, MIB, 1, &shared, &error), WS_E_RANGE);
    ws_source_close(view[0]);
    ws_source_close(view[1]);
    ws_shared_close(shared);
    ws_source_close(zeros);
    port->ops->close(port);
    free(buffer);
}

/* A bench of drives of unequal speed; `more` are keys of the last one. */
static struct ws_bench *bench_of(size_t drives, const char *more, struct ws_port **port) {
    static int n;
    char name[32];
    struct ws_text text = {0};
    struct ws_bench *bench = malloc(sizeof *bench);
    ws_text_puts(&text, "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"seed\": 7, \"pcs\": [], \"drives\": [");
    for (size_t i = 0; i < drives; i++)
        ws_text_printf(&text,
                       "%s{\"name\": \"Gorse %zu\", \"serial\": \"GP-%zu\", \"bus\": \"usb\", \"size_bytes\": %llu, "
                       "\"write_bytes_s\": %zu, \"read_bytes_s\": %zu, \"small_write_s\": 0.002, "
                       "\"cache_bytes\": 8388608%s}",
                       i ? ", " : "", i, i, (unsigned long long)SIZE + i % 3 * 7 * MIB, 30000000 - i * 3000000,
                       60000000 + (i % 2) * 20000000, i + 1 == drives ? more : "");
    ws_text_puts(&text, "]}");
    (void)snprintf(name, sizeof name, "batch-%d", n++);
    if (ws_bench_parse(text.data, text.length, bench, &error) != WS_OK ||
        ws_bench_create(bench, scratch(name), &error) != WS_OK || ws_sim_port(bench, port, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s %s", error.where, error.what);
        abort();
    }
    ws_text_free(&text);
    return bench;
}

static void drop_bench(struct ws_bench *bench, struct ws_port *port) {
    port->ops->close(port);
    ws_bench_close(bench);
}

static struct ws_build_setting setting_for(const struct ws_drive_facts *facts, size_t number) {
    struct ws_build_setting s = {.facts = facts, .made_at = 1790000000};
    ws_plan_drive_of(facts, &s.drive);
    memset(s.id.byte, 0x30 + (int)number, 16);
    return s;
}

/* A batch of drives, open to be written. */
struct herd {
    struct ws_batch *batch;
    struct ws_batch_start start[WS_SIM_MOST];
    struct ws_drive *drive[WS_SIM_MOST];
    struct ws_pieces pieces[WS_SIM_MOST];
    size_t count;
};

static enum ws_status gather(struct herd *h, struct ws_port *port, struct ws_bench *bench, size_t from, size_t to) {
    for (size_t i = from; i < to; i++) {
        struct ws_drive_facts *facts = &bench->drive[i].facts;
        struct ws_build_setting s = setting_for(facts, i);
        struct ws_batch_start *start = &h->start[h->count];
        WS_TRY(ws_batch_add(h->batch, &s, &start->number, &error));
        WS_TRY(port->ops->open(port, facts->id, WS_OPEN_WRITE, &h->drive[h->count], &error));
        start->drive = h->drive[h->count];
        start->options = (struct ws_build_options){.confirm = facts->short_name, .pieces = &h->pieces[h->count]};
        h->count++;
    }
    return WS_OK;
}

static void let_go(struct herd *h) {
    ws_batch_close(h->batch);
    for (size_t i = 0; i < h->count; i++) {
        h->drive[i]->ops->close(h->drive[i]);
        ws_pieces_free(&h->pieces[i]);
    }
    memset(h, 0, sizeof *h);
}

/* What the tests are made from: a live image, and one whose root is packed. */
static struct ws_source *packed_root(void) {
    static const char folder_name[] = "packed";
    const char *folder = scratch(folder_name), *out = scratch("packed.img");
    struct ws_source *source = NULL;
    if (shell(NULL,
              "mkdir -p %s/etc %s/boot %s/sbin %s/usr/lib %s/lib/modules/6.1.0 && cd %s && printf 'ID=curlew\\n' > "
              "etc/os-release && cp /bin/true sbin/init && { head -c 514 /dev/zero; printf HdrS; head -c 90000 "
              "/dev/zero; } > "
              "boot/vmlinuz-6.1.0 && for i in 1 2 3 4 5; do head -c 1500000 /dev/urandom | base64 > usr/lib/book-$i; "
              "mkdir usr/lib/d$i; for k in "
              "1 2 3 4 5 6 7 8 9; do echo $i$k > usr/lib/d$i/$k; done; done; cd .. && gensquashfs -q -c gzip -D %s %s",
              folder, folder, folder, folder, folder, folder, folder, out) != 0)
        return NULL;
    return ws_source_file(out, &source, &error) == WS_OK ? source : NULL;
}

static const struct {
    enum ws_kind kind;
    bool packed;
} kinds[] = {
    {WS_KIND_REPLICA, false}, {WS_KIND_LIVE_WHOLE, false}, {WS_KIND_LIVE_FILES, false}, {WS_KIND_SYSTEM, true}};
enum { KINDS = sizeof kinds / sizeof kinds[0] };

static struct ws_request request_for(size_t kind, const struct ws_source *image) {
    struct ws_request r;
    ws_request_begin(&r, kinds[kind].kind);
    strcpy(r.input[WS_INPUT_IMAGE].path, "/images/curlew");
    if (ws_source_hash(image, WS_HASH_SHA256, r.input[WS_INPUT_IMAGE].sha256, &error) != WS_OK) abort();
    if (kinds[kind].packed) r.uefi_code = WS_UEFI_CODE_OWN;
    return r;
}

/* Each drive gets what it would get alone; and all of them take the time of the slowest, of simulated seconds. */
static void check_batch(size_t kind, const struct ws_source *image, size_t drives) {
    struct ws_port *port = NULL;
    struct ws_bench *bench = bench_of(drives, "", &port);
    struct ws_request request = request_for(kind, image);
    struct counting counting;
    struct ws_source *counted = count_reads(image, &counting);
    const struct ws_source *input[WS_INPUTS_MOST] = {counted};
    struct herd h = {.count = 0};
    struct ws_build_result result[WS_SIM_MOST];
    struct ws_shared_count count;
    double slowest = 0;
    OK(ws_batch_open(port, &request, input, &h.batch, &error));
    OK(gather(&h, port, bench, 0, drives));
    const double before = bench->clock_s;
    const uint64_t read_before = counting.read;
    OK(ws_batch_start(h.batch, h.start, h.count, &error));
    for (size_t i = 0; i < drives; i++) OK(ws_batch_end(h.batch, h.start[i].number, &result[i], &error));
    const double took = bench->clock_s - before;
    const uint64_t read = counting.read - read_before;
    ws_batch_count(h.batch, &count);
    for (size_t i = 0; i < drives; i++) {
        struct ws_build *alone = NULL;
        struct ws_build_setting s = setting_for(&bench->drive[i].facts, i);
        struct ws_check_result check;
        struct ws_build_result again;
        struct ws_build_options o = {.confirm = bench->drive[i].facts.short_name, .afresh = true};
        s.input[WS_INPUT_IMAGE] = image;
        OK(ws_build_prepare(&request, &s, &alone, &error));
        CHECK_STR(ws_plan_facts(ws_build_plan(ws_batch_build(h.batch, i)))->fingerprint,
                  ws_plan_facts(ws_build_plan(alone))->fingerprint);
        CHECK(result[i].checked && result[i].check.equal);
        OK(ws_build_check(alone, port, h.drive[i], false, NULL, NULL, &check, &error));
        CHECK(check.equal);
        if (kinds[kind].kind != WS_KIND_REPLICA) CHECK_STR(check.sha256, result[i].check.sha256);
        else CHECK_STR(result[i].image_sha256, request.input[0].sha256);
        const double from = bench->clock_s;
        if (i + 1 == drives) /* the slowest */
            OK(ws_build_carry_out(alone, port, h.drive[i], &o, &again, &error));
        if (bench->clock_s - from > slowest) slowest = bench->clock_s - from;
        ws_build_close(alone);
    }
    if (took > slowest * 1.10)
        fail_at(__FILE__, __LINE__, "kind %zu, %zu drives: %.2f s, the slowest alone %.2f", kind, drives, took,
                slowest);
    /* the bytes that are laid down, and once more for their digest */
    if (read > 2 * image->size + 2 * MIB)
        fail_at(__FILE__, __LINE__, "kind %zu, %zu drives: read %.2f times", kind, drives,
                (double)read / (double)image->size);
    if (drives > 1 && count.wanted < drives * count.read * 9 / 10)
        fail_at(__FILE__, __LINE__, "kind %zu, %zu drives: %llu read for %llu", kind, drives,
                (unsigned long long)count.read, (unsigned long long)count.wanted);
    let_go(&h);
    ws_source_close(counted);
    drop_bench(bench, port);
}

static void many_take_the_time_of_the_slowest(void) {
    static const size_t drives[] = {2, 6};
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR, .ballast = 12 * MIB};
    struct demo_image image;
    struct ws_source *packed = have_program("gensquashfs") ? packed_root() : NULL;
    OK(demo_image_make(&dp, &image, &error));
    for (size_t kind = 0; kind < KINDS; kind++)
        for (size_t i = 0; i < 2; i++)
            if (!kinds[kind].packed) check_batch(kind, image.source, drives[i]);
            else if (packed) check_batch(kind, packed, drives[i]);
    ws_source_close(packed);
    demo_image_free(&image);
}

/* Faults of the last of three drives; the others are done all the same, and another takes its place. */
static void what_goes_wrong_with_one_is_its_own_affair(void) {
    static const struct {
        const char *keys;
        enum ws_status wanted;
        const char *says;
    } faults[] = {
        {", \"pulled_after_bytes\": 20000000", WS_E_GONE, "went away"},
        {", \"cut_at_write\": 6", WS_E_GONE, "went away"},
        {", \"garbles_at_bytes\": 12345678, \"garbles_bytes\": 100", WS_E_DIFFERENT, "12345678"},
        {", \"bad_at_bytes\": 9000000, \"bad_bytes\": 512", WS_E_READ, "bad sector"},
    };
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR, .ballast = 10 * MIB};
    struct demo_image image;
    OK(demo_image_make(&dp, &image, &error));
    struct ws_request request = request_for(1, image.source);
    const struct ws_source *input[WS_INPUTS_MOST] = {image.source};
    for (size_t k = 0; k < sizeof faults / sizeof faults[0]; k++) {
        struct ws_port *port = NULL;
        struct ws_bench *bench = bench_of(4, faults[k].keys, &port);
        struct herd h = {.count = 0};
        struct ws_build_result result;
        struct ws_batch_state state;
        OK(ws_batch_open(port, &request, input, &h.batch, &error));
        OK(gather(&h, port, bench, 1, 4));
        OK(ws_batch_start(h.batch, h.start, 3, &error));
        FAILS(ws_batch_start(h.batch, h.start, 3, &error), WS_E_USAGE);
        for (;;) { /* until the faulty one has ended: then another is put in its place */
            ws_batch_look(h.batch, 2, &state);
            if (state.ended) break;
            CHECK(port->ops->pause(port, 0.1));
        }
        CHECK_INT(state.status, faults[k].wanted);
        OK(gather(&h, port, bench, 0, 1));
        OK(ws_batch_start(h.batch, &h.start[3], 1, &error));
        FAILS(ws_batch_end(h.batch, 2, &result, &error), faults[k].wanted);
        if (!strstr(error.what, faults[k].says)) fail_at(__FILE__, __LINE__, "%s", error.what);
        for (size_t i = 0; i < 4; i++) {
            if (i == 2) continue;
            OK(ws_batch_end(h.batch, i, &result, &error));
            CHECK(result.checked && result.check.equal);
        }
        let_go(&h);
        drop_bench(bench, port);
    }
    demo_image_free(&image);
}

/* None of them is finished from an image that is no longer the planned one; and one that was stopped says so. */
static void a_changed_image_finishes_no_drive(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR, .ballast = 10 * MIB};
    struct demo_image image;
    OK(demo_image_make(&dp, &image, &error));
    const struct ws_source *input[WS_INPUTS_MOST] = {image.source};
    for (int stops = 0; stops < 2; stops++) {
        struct ws_port *port = NULL;
        struct ws_bench *bench = bench_of(3, "", &port);
        struct ws_request request = request_for(1, image.source);
        struct herd h = {.count = 0};
        struct ws_build_result result;
        if (!stops) request.input[0].sha256[5] ^= 1;
        OK(ws_batch_open(port, &request, input, &h.batch, &error));
        OK(gather(&h, port, bench, 0, 3));
        OK(ws_batch_start(h.batch, h.start, 3, &error));
        (void)port->ops->pause(port, 0.5);
        if (stops) ws_batch_stop(h.batch, 1);
        for (size_t i = 0; i < 3; i++) {
            char sector[512];
            const bool fails = !stops || i == 1;
            if (fails) FAILS(ws_batch_end(h.batch, i, &result, &error), stops ? WS_E_CANCELLED : WS_E_FORMAT);
            else OK(ws_batch_end(h.batch, i, &result, &error));
            OK(h.drive[i]->ops->read(h.drive[i], 0, sector, sizeof sector, &error));
            CHECK_INT(ws_is_unfinished(sector), fails);
        }
        let_go(&h);
        drop_bench(bench, port);
    }
    demo_image_free(&image);
}

/* Where tasks run at once, one is done after the other; and where they are threads, files serve as drives. */
static void it_works_on_other_ports(void) {
    struct demo_params dp = {.family = "casper", .table = DEMO_GPT, .ballast = 20 * MIB};
    struct demo_image image;
    struct ws_port *linux_port = NULL;
    OK(demo_image_make(&dp, &image, &error));
    OK(ws_linux_open(&linux_port, &error));
    struct ws_request request = request_for(1, image.source);
    const struct ws_source *input[WS_INPUTS_MOST] = {image.source};
    for (int threads = 0; threads < 2; threads++) {
        struct ws_port *port = threads ? linux_port : plain_port();
        struct herd h = {.count = 0};
        OK(ws_batch_open(port, &request, input, &h.batch, &error));
        for (size_t i = 0; i < 4; i++) {
            struct ws_drive_facts facts;
            char name[32];
            (void)snprintf(name, sizeof name, "stick-%d-%zu.img", threads, i);
            OK(ws_linux_make_file(scratch(name), SIZE, &error));
            OK(linux_port->ops->open(linux_port, scratch(name), WS_OPEN_WRITE, &h.drive[i], &error));
            OK(h.drive[i]->ops->describe(h.drive[i], &facts, &error));
            struct ws_build_setting s = setting_for(&facts, i);
            OK(ws_batch_add(h.batch, &s, &h.start[i].number, &error));
            h.start[i].drive = h.drive[i];
            h.start[i].options.confirm = ws_plan_drive(ws_build_plan(ws_batch_build(h.batch, i)))->name;
            h.count++;
        }
        OK(ws_batch_start(h.batch, h.start, 4, &error));
        for (size_t i = 0; i < 4; i++) {
            struct ws_build_result result;
            OK(ws_batch_end(h.batch, i, &result, &error));
            CHECK(result.checked && result.check.equal);
        }
        let_go(&h);
    }
    linux_port->ops->close(linux_port);
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"what is shared is read once, and right", what_is_shared_is_read_once_and_right},
        {"who does not get on is left behind", who_does_not_get_on_is_left_behind},
        {"many take the time of the slowest", many_take_the_time_of_the_slowest},
        {"what goes wrong with one is its own affair", what_goes_wrong_with_one_is_its_own_affair},
        {"a changed image finishes no drive", a_changed_image_finishes_no_drive},
        {"it works on other ports", it_works_on_other_ports},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
