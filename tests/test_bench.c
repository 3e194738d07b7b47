/* test_bench.c — the simulated bench: its file, its drives' habits, its PCs, and proofs on them. */
#include "tests/harness.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/sim.h"

#include <math.h>

enum { MIB = 1 << 20 };

static const char bench_text[] =
    "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"seed\": 7, \"drives\": ["
    "{\"name\": \"Gorse 32\", \"serial\": \"A\", \"bus\": \"usb\", \"size_bytes\": 268435456, \"write_bytes_s\": "
    "20000000, "
    "\"read_bytes_s\": 100000000, \"small_write_s\": 0.01, \"cache_bytes\": 8388608},"
    "{\"name\": \"Teasel 8\", \"like\": \"Gorse 32\", \"serial\": \"B\", \"write_bytes_s\": 1000000},"
    "{\"name\": \"Sorrel 64\", \"like\": \"Teasel 8\", \"serial\": \"C\", \"holds_bytes\": 33554432}],"
    "\"pcs\": [{\"name\": \"hut\", \"firmware\": \"bios\"}, {\"name\": \"launch\", \"firmware\": \"uefi\"}, "
    "{\"name\": \"office\", \"firmware\": \"uefi\", \"secure_boot\": true}]}";

static struct ws_bench *fresh_bench(struct ws_port **port) {
    static int n;
    char name[32];
    struct ws_bench *bench = malloc(sizeof *bench);
    snprintf(name, sizeof name, "bench-%d", n++);
    if (ws_bench_parse(bench_text, strlen(bench_text), bench, &error) != WS_OK ||
        ws_bench_create(bench, scratch(name), &error) != WS_OK || ws_sim_port(bench, port, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s", error.what);
        abort();
    }
    return bench;
}

static void drop_bench(struct ws_bench *bench, struct ws_port *port) {
    port->ops->close(port);
    ws_bench_close(bench);
}

static void bench_files_are_read_strictly(void) {
    static const struct {
        const char *find, *replace, *says;
    } cases[] = {
        {"\"like\": \"Gorse 32\"", "\"like\": \"Sorrel 64\"", "circle"},
        {"\"like\": \"Gorse 32\"", "\"like\": \"Teasel 8\"", "circle"},
        {"\"like\": \"Gorse 32\"", "\"like\": \"Nothing\"", "not on this bench"},
        {"\"Sorrel 64\", \"like\"", "\"Gorse 32\", \"like\"", "two drives"},
        {"\"serial\": \"A\"", "\"colour\": \"A\"", "colour"},
        {"268435456", "\"big\"", "size_bytes"},
        {"268435456", "-5", "size_bytes"},
        {"268435456", "1000", "size_bytes"},
        {"268435456", "1e300", "size_bytes"},
        {"33554432", "999999999999", "holds_bytes"},
        {"\"write_bytes_s\": 20000000", "\"write_bytes_s\": 0", "write_bytes_s"},
        {"\"firmware\": \"bios\"", "\"firmware\": \"steam\"", "firmware"},
        {"\"firmware\": \"bios\"", "\"firmware\": \"bios\", \"secure_boot\": true", "secure_boot"},
        {"\"name\": \"launch\"", "\"name\": \"hut\"", "two PCs"},
        {"\"version\": 1", "\"version\": 2", "version"},
        {"wild-satchel-bench", "bench", "format"},
        {"\"seed\": 7", "\"seed\": \"x\"", "seed"},
        {"\"drives\": [", "\"drives\": [[],", "drives"},
        {"]}", "]", "JSON"},
    };
    struct ws_bench *bench = malloc(sizeof *bench);
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_text bad = {0};
        const char *at = strstr(bench_text, cases[i].find);
        if (cases[i].find[0] == ']') at = bench_text + strlen(bench_text) - 2;
        ws_text_add(&bad, bench_text, (size_t)(at - bench_text));
        ws_text_puts(&bad, cases[i].replace);
        ws_text_puts(&bad, at + strlen(cases[i].find));
        memset(&error, 0, sizeof error);
        if (ws_bench_parse(bad.data, bad.length, bench, &error) == WS_OK)
            fail_at(__FILE__, __LINE__, "taken: %s", cases[i].replace);
        else if (!strstr(error.what, cases[i].says))
            fail_at(__FILE__, __LINE__, "\"%s\" does not say %s", error.what, cases[i].says);
        ws_text_free(&bad);
    }
    for (int i = 0; i < 3000; i++) {
        char bad[sizeof bench_text];
        memcpy(bad, bench_text, sizeof bad);
        for (uint64_t k = 1 + random_below(4); k > 0; k--) bad[random_below(sizeof bad - 1)] = (char)random_next();
        (void)ws_bench_parse(bad, sizeof bad - 1, bench, &error);
    }
    free(bench);
}

static void drives_keep_their_pace_on_the_benchs_clock(void) {
    struct ws_port *port = NULL;
    struct ws_bench *bench = fresh_bench(&port);
    struct ws_drive *d = NULL;
    char *bytes = calloc(1, 4 * MIB);
    OK(port->ops->open(port, "Teasel 8", WS_OPEN_WRITE, &d, &error));
    double began = port->ops->steady_clock(port);
    for (int i = 0; i < 10; i++) OK(d->ops->write(d, (uint64_t)i * 4 * MIB, bytes, 4 * MIB, &error));
    double cached = port->ops->steady_clock(port);
    OK(d->ops->flush(d, &error));
    double flushed = port->ops->steady_clock(port);
    CHECK(fabs(flushed - began - 40.0 * MIB / 1000000) < 1.0); /* in order, at 1 MB/s */
    CHECK(fabs(flushed - cached - 8388608 / 1e6) < 1.0);       /* the cache empties at the end */
    for (int i = 10; i > 0; i--) OK(d->ops->write(d, (uint64_t)i * 8192, bytes, 4096, &error));
    OK(d->ops->flush(d, &error));
    CHECK(port->ops->steady_clock(port) - flushed >= 0.09); /* out of order costs extra */
    d->ops->close(d);
    free(bytes);
    drop_bench(bench, port);
}

static void a_forged_drive_is_found_out_by_the_check(void) {
    struct ws_port *port = NULL;
    struct ws_bench *bench = fresh_bench(&port);
    struct ws_drive *d = NULL;
    struct ws_source *z = NULL;
    struct ws_layout *layout = NULL;
    struct ws_write_result w;
    struct ws_check_result c;
    char *bytes = malloc(64 * MIB);
    random_bytes(bytes, 64 * MIB);
    OK(ws_source_memory(bytes, 64 * MIB, &z, &error));
    OK(ws_layout_create(256 * MIB, &layout, &error));
    OK(ws_layout_add(layout, 0, 64 * MIB, z, 0, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    OK(port->ops->open(port, "Sorrel 64", WS_OPEN_WRITE, &d, &error));
    OK(ws_write(port, layout, d, NULL, &w, &error));
    OK(ws_check(port, layout, d, &(struct ws_check_options){.with_hash = false}, &c, &error));
    CHECK(!c.equal);
    d->ops->close(d);
    ws_layout_close(layout);
    ws_source_close(z);
    free(bytes);
    drop_bench(bench, port);
}

struct setup {
    struct ws_bench *bench;
    struct ws_port *port;
    struct demo_image image;
    struct planned plan;
    struct ws_build *build;
};

static bool set_up(struct setup *s, const struct demo_params *p, enum ws_kind kind, const char *drive) {
    memset(s, 0, sizeof *s);
    s->bench = fresh_bench(&s->port);
    const struct ws_drive_facts *f = &ws_bench_drive(s->bench, drive)->facts;
    planned_begin(&s->plan, kind, f);
    if (demo_image_make(p, &s->image, &error) != WS_OK ||
        planned_prepare(&s->plan, s->image.source, &s->build) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s %s", error.where, error.what);
        return false;
    }
    return true;
}

static enum ws_status write_it(struct setup *s) {
    struct ws_drive *d = NULL;
    struct ws_build_result result;
    struct ws_build_options o = {.confirm = s->plan.setting.drive.name};
    WS_TRY(s->port->ops->open(s->port, s->plan.setting.drive.name, WS_OPEN_WRITE, &d, &error));
    enum ws_status status = ws_build_carry_out(s->build, s->port, d, &o, &result, &error);
    d->ops->close(d);
    return status;
}

static void tear_down(struct setup *s) {
    ws_build_close(s->build);
    demo_image_free(&s->image);
    drop_bench(s->bench, s->port);
}

static enum ws_verdict prove_on(struct setup *s, const char *pc_name, bool cut, unsigned starts,
                                struct ws_proof *proof) {
    const unsigned kinds[] = {cut, cut};
    struct ws_pc *pc = NULL;
    struct ws_proof_options o = {.confirm = s->plan.setting.drive.name, .round = kinds, .rounds = starts - 1};
    ws_proof_free(proof);
    memset(proof, 0, sizeof *proof);
    proof->verdict = WS_VERDICT_NO_START;
    if (ws_sim_pc(s->bench, pc_name, &pc, &error) != WS_OK ||
        pc->ops->plug(pc, s->plan.setting.drive.name, &error) != WS_OK ||
        ws_prove(s->port, &pc, 1, s->plan.setting.drive.name, &o, proof, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s: %s", pc_name, error.what);
    if (pc) pc->ops->close(pc);
    return proof->verdict;
}

static void drives_that_remember_are_proved_on_every_pc(void) {
    static const struct demo_params images[] = {{.family = "live-boot", .table = DEMO_MBR},
                                                {.family = "casper", .table = DEMO_GPT},
                                                {.family = "casper-old", .table = DEMO_MBR},
                                                {.family = "dracut", .table = DEMO_MBR_FIRST, .full_menus = true}};
    static const char *const pcs[] = {"hut", "launch", "office"};
    struct ws_proof *proof = calloc(1, sizeof *proof);
    for (size_t i = 0; i < 4; i++) {
        struct setup s;
        if (!set_up(&s, &images[i], WS_KIND_LIVE, "Gorse 32")) return;
        OK(write_it(&s));
        for (int k = 0; k < 3; k++) {
            enum ws_verdict v = prove_on(&s, pcs[k], k == 1, k == 2 ? 3 : 2, proof);
            if (v != WS_VERDICT_KEPT)
                fail_at(__FILE__, __LINE__, "%s on %s: %s", images[i].family, pcs[k], proof->text);
            CHECK(proof->items >= 5);
        }
        tear_down(&s);
    }
    ws_proof_free(proof);
    free(proof);
}

static void a_replica_forgets_and_the_proof_says_why(void) {
    static const struct {
        const char *family;
        enum ws_forgets cause;
    } cases[] = {
        {"live-boot", WS_FORGETS_PARAMETER}, {"casper", WS_FORGETS_PARAMETER}, {"dracut", WS_FORGETS_PARAMETER}};
    struct ws_proof *proof = calloc(1, sizeof *proof);
    for (size_t i = 0; i < 3; i++) {
        struct demo_params p = {.family = cases[i].family, .table = DEMO_MBR};
        struct setup s;
        if (!set_up(&s, &p, WS_KIND_REPLICA, "Gorse 32")) return;
        OK(write_it(&s));
        CHECK_INT(prove_on(&s, "launch", false, 2, proof), WS_VERDICT_LOST);
        CHECK_INT(proof->cause, cases[i].cause);
        CHECK_HAS(proof->text, "lost");
        for (size_t k = 0; k < proof->items; k++) CHECK(proof->item[k].drive != WS_SURVIVES);
        tear_down(&s);
    }
    ws_proof_free(proof);
    free(proof);
}

/* A PC refuses for the reason real firmware would, in words. */
static void pcs_say_how_far_they_got(void) {
    struct setup s;
    struct ws_proof *proof = calloc(1, sizeof *proof);
    struct demo_params p = {.family = "live-boot", .table = DEMO_MBR, .unsigned_loader = true};
    if (!set_up(&s, &p, WS_KIND_LIVE, "Gorse 32")) return;
    CHECK_INT(prove_on(&s, "hut", false, 2, proof), WS_VERDICT_NO_START); /* still blank */
    CHECK_HAS(proof->console_tail, "55 AA");
    CHECK_INT(prove_on(&s, "launch", false, 2, proof), WS_VERDICT_NO_START);
    CHECK_HAS(proof->console_tail, "EFI system partition");
    OK(write_it(&s));
    CHECK_INT(prove_on(&s, "office", false, 2, proof), WS_VERDICT_NO_START);
    CHECK_HAS(proof->console_tail, "not signed");
    static const struct {
        uint64_t at;
        const char *bytes;
        size_t length;
        const char *pc, *says;
    } damages[] = {
        {0, "", 440, "hut", "no start-up code"}, {510, "", 2, "hut", "55 AA"}, {432, "\1\1\0", 3, "hut", "not there"}};
    for (size_t i = 0; i < 3; i++) {
        struct ws_drive *d = NULL;
        uint8_t sector[512], was[512];
        OK(s.port->ops->open(s.port, "Gorse 32", WS_OPEN_WRITE, &d, &error));
        OK(d->ops->read(d, 0, sector, 512, &error));
        memcpy(was, sector, 512);
        if (damages[i].bytes[0]) memcpy(sector + damages[i].at, damages[i].bytes, damages[i].length);
        else memset(sector + damages[i].at, 0, damages[i].length);
        OK(d->ops->write(d, 0, sector, 512, &error));
        d->ops->close(d);
        CHECK_INT(prove_on(&s, damages[i].pc, false, 2, proof), WS_VERDICT_NO_START);
        CHECK_HAS(proof->console_tail, damages[i].says);
        OK(s.port->ops->open(s.port, "Gorse 32", WS_OPEN_WRITE, &d, &error));
        OK(d->ops->write(d, 0, was, 512, &error));
        d->ops->close(d);
    }
    ws_proof_free(proof);
    free(proof);
    tear_down(&s);
}

/* The power fails at every write of a build: unfinished each time, finished by the next run. */
static void a_build_cut_at_every_write_is_made_good(void) {
    struct setup s;
    struct demo_params p = {.family = "live-boot", .table = DEMO_GPT};
    if (!set_up(&s, &p, WS_KIND_LIVE, "Gorse 32")) return;
    struct ws_sim_drive *model = ws_bench_drive(s.bench, "Gorse 32");
    int cuts = 0;
    for (uint64_t cut = 1; cut < 200; cut++) {
        ws_build_close(s.build);
        OK(planned_prepare(&s.plan, s.image.source, &s.build));
        model->cut_at_write = cut;
        enum ws_status status = write_it(&s);
        if (model->cut_at_write) { /* it got through */
            model->cut_at_write = 0;
            CHECK_INT(status, WS_OK);
            break;
        }
        CHECK_INT(status, WS_E_GONE);
        cuts++;
        ws_build_close(s.build);
        OK(planned_prepare(&s.plan, s.image.source, &s.build));
        OK(write_it(&s));
    }
    CHECK(cuts > 8);
    tear_down(&s);
}

static void a_pulled_drive_is_continued_after_it_is_back(void) {
    struct setup s;
    struct demo_params p = {.family = "live-boot", .table = DEMO_MBR};
    if (!set_up(&s, &p, WS_KIND_LIVE, "Gorse 32")) return;
    struct ws_sim_drive *model = ws_bench_drive(s.bench, "Gorse 32");
    model->pull_after = 10 * MIB;
    FAILS(write_it(&s), WS_E_GONE);
    CHECK_HAS(error.next, "plug it in");
    FAILS(write_it(&s), WS_E_NOTFOUND);
    model->pulled = false;
    ws_build_close(s.build);
    OK(planned_prepare(&s.plan, s.image.source, &s.build));
    OK(write_it(&s));
    model->facts.read_only = true;
    ws_build_close(s.build);
    OK(planned_prepare(&s.plan, s.image.source, &s.build));
    FAILS(write_it(&s), WS_E_REFUSED);
    CHECK_HAS(error.what, "write-protected");
    tear_down(&s);
}

static void a_bench_survives_between_commands(void) {
    struct ws_port *port = NULL;
    struct ws_bench *bench = fresh_bench(&port);
    struct ws_bench *again = NULL;
    char folder[512];
    strcpy(folder, bench->folder);
    FAILS(ws_bench_create(bench, folder, &error), WS_E_REFUSED);
    bench->clock_s = 7200.5;
    ws_bench_drive(bench, "Teasel 8")->pulled = true;
    OK(ws_bench_save(bench, &error));
    OK(ws_bench_open(folder, &again, &error));
    CHECK(fabs(again->clock_s - 7200.5) < 1e-6);
    CHECK(ws_bench_drive(again, "Teasel 8")->pulled);
    CHECK_STR(ws_bench_drive(again, "Sorrel 64")->facts.short_name,
              ws_bench_drive(bench, "Sorrel 64")->facts.short_name);
    CHECK_INT(ws_bench_drive(again, "Sorrel 64")->holds, 33554432);
    ws_bench_close(again);
    FAILS(ws_bench_open("/nowhere", &again, &error), WS_E_NOTFOUND);
    drop_bench(bench, port);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"bench files are read strictly", bench_files_are_read_strictly},
        {"drives keep their pace on the bench's clock", drives_keep_their_pace_on_the_benchs_clock},
        {"a forged drive is found out by the check", a_forged_drive_is_found_out_by_the_check},
        {"drives that remember are proved on every PC", drives_that_remember_are_proved_on_every_pc},
        {"a replica forgets, and the proof says why", a_replica_forgets_and_the_proof_says_why},
        {"PCs say how far they got", pcs_say_how_far_they_got},
        {"a build cut at every write is made good", a_build_cut_at_every_write_is_made_good},
        {"a pulled drive is continued after it is back", a_pulled_drive_is_continued_after_it_is_back},
        {"a bench survives between commands", a_bench_survives_between_commands},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
