/* test_trial.c — trials of drives on the simulated bench: every forged one found, every honest one cleared. */
#include "tests/harness.h"

#include "wild_satchel/port/sim.h"
#include "wild_satchel/trial.h"

#include <math.h>

enum { MIB = 1 << 20 };

/* A bench with one drive, described by `keys`; a fresh folder each time. */
static struct ws_bench *one_drive(const char *keys, struct ws_port **port, struct ws_drive **drive,
                                  enum ws_open_mode mode) {
    static int n;
    char name[32];
    struct ws_text text = {0};
    struct ws_bench *bench = malloc(sizeof *bench);
    snprintf(name, sizeof name, "trial-%d", n++);
    ws_text_printf(
        &text,
        "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"pcs\": [], \"drives\": [{\"name\": \"Sorrel\", "
        "\"serial\": \"S\", \"bus\": \"usb\", \"write_bytes_s\": 20000000, \"read_bytes_s\": 80000000, "
        "\"small_write_s\": 0.004, \"cache_bytes\": 8388608, %s}]}",
        keys);
    if (ws_bench_parse(text.data, text.length, bench, &error) != WS_OK ||
        ws_bench_create(bench, scratch(name), &error) != WS_OK || ws_sim_port(bench, port, &error) != WS_OK ||
        (*port)->ops->open(*port, "Sorrel", mode, drive, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s: %s", keys, error.what);
        abort();
    }
    ws_text_free(&text);
    return bench;
}

static void drop(struct ws_bench *bench, struct ws_port *port, struct ws_drive *drive) {
    drive->ops->close(drive);
    port->ops->close(port);
    shell(NULL, "rm -rf '%s'", bench->folder);
    ws_bench_close(bench);
}

static enum ws_status run(struct ws_port *port, struct ws_drive *drive, enum ws_trial_depth depth,
                          struct ws_trial *trial) {
    struct ws_drive_facts facts;
    struct ws_trial_options o = {.depth = depth, .confirm = facts.short_name};
    drive->ops->describe(drive, &facts, &error);
    return ws_trial_run(port, drive, &o, trial, &error);
}

static uint64_t random_size(uint64_t least, uint64_t most) { /* spread over the powers of two */
    double low = log2((double)least);
    double x = low + (log2((double)most) - low) * (double)random_below(1000000) / 1e6;
    uint64_t size = (uint64_t)exp2(x) / 512 * 512;
    return size < least ? least : size > most ? most : size;
}

static void every_forged_size_is_found_with_few_writes(void) {
    static const char *const ways[] = {"wraps", "drops", "repeats"};
    for (int i = 0; i < cases_of(90); i++) {
        uint64_t size = random_size(64 * MIB, 1ull << 38);
        uint64_t holds = random_size(2 * MIB, size - 4096);
        if (random_below(3) == 0) holds = 1ull << (uint64_t)log2((double)holds);      /* as chips come */
        if (random_below(6) == 0) holds = size - 4096 * (1 + random_below(40));       /* nearly honest */
        if (random_below(6) == 0) holds = size / (2 + random_below(9)) / 4096 * 4096; /* a whole part */
        if (i == 0) { /* once seen only at the place that the last block had taken */
            size = 647314432;
            holds = 6123520;
        }
        char keys[200];
        struct ws_port *port;
        struct ws_drive *drive;
        struct ws_trial t;
        snprintf(keys, sizeof keys, "\"size_bytes\": %llu, \"holds_bytes\": %llu, \"beyond\": \"%s\"%s",
                 (unsigned long long)size, (unsigned long long)holds, ways[i % 3],
                 i % 3 == 2 ? ", \"repeats_bytes\": 1048576" : "");
        struct ws_bench *bench = one_drive(keys, &port, &drive, WS_OPEN_WRITE);
        if (run(port, drive, WS_TRIAL_SAMPLE, &t) != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", keys, error.what);
        if (t.forgery == WS_FORGERY_NONE || t.sound) fail_at(__FILE__, __LINE__, "passed as honest: %s", keys);
        if (t.written > size / 50)
            fail_at(__FILE__, __LINE__, "%s: %llu bytes written", keys, (unsigned long long)t.written);
        uint64_t off = t.holds > holds ? t.holds - holds : holds - t.holds;
        uint64_t coarse = i % 3 == 2 ? (uint64_t)(2 * sqrt((double)size * 4096)) : 0; /* it shows only roughly */
        if (off > 8192 + coarse)
            fail_at(__FILE__, __LINE__, "%s: said to hold %llu (%s)", keys, (unsigned long long)t.holds,
                    ws_forgery_name(t.forgery));
        for (size_t u = 0; u < WS_TRIAL_USES; u++) CHECK(t.use[u].fit == WS_FIT_NO && t.use[u].why[0]);
        drop(bench, port, drive);
    }
}

static void fifty_honest_drives_are_cleared(void) {
    for (int i = 0; i < cases_of(50); i++) {
        uint64_t size = random_size(64 * MIB, 1ull << 40);
        char keys[120];
        struct ws_port *port;
        struct ws_drive *drive;
        struct ws_trial t;
        snprintf(keys, sizeof keys, "\"size_bytes\": %llu, \"sector_bytes\": %d",
                 (unsigned long long)(size / 4096 * 4096), i % 5 ? 512 : 4096);
        struct ws_bench *bench = one_drive(keys, &port, &drive, WS_OPEN_WRITE);
        if (run(port, drive, WS_TRIAL_SAMPLE, &t) != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", keys, error.what);
        if (!t.sound || t.holds != t.drive_size || t.bads)
            fail_at(__FILE__, __LINE__, "%s: found %s, %zu bad", keys, ws_forgery_name(t.forgery), t.bads);
        if (t.written > size / 50) fail_at(__FILE__, __LINE__, "%s: %llu written", keys, (unsigned long long)t.written);
        CHECK(t.seconds < 1200);
        drop(bench, port, drive);
    }
}

/* The model's own speeds come out of the measurement. */
static void speeds_are_measured(void) {
    struct ws_port *port;
    struct ws_drive *drive;
    struct ws_trial t;
    struct ws_bench *bench = one_drive("\"size_bytes\": 16000000000", &port, &drive, WS_OPEN_WRITE);
    OK(run(port, drive, WS_TRIAL_SAMPLE, &t));
    CHECK(fabs(t.write_bytes_s - 20e6) < 2e6);
    CHECK(fabs(t.read_bytes_s - 80e6) < 8e6);
    CHECK(fabs(t.small_writes_s - 250) < 40);
    CHECK(t.use[0].fit == WS_FIT_GOOD && t.use[1].fit == WS_FIT_GOOD);
    CHECK(t.use[2].fit != WS_FIT_NO);
    drop(bench, port, drive);
}

static void bad_areas_are_found_where_they_are(void) {
    static const struct {
        const char *keys;
        bool unreadable;
    } cases[] = {{"\"bad_at_bytes\": 40000000, \"bad_bytes\": 20480", true},
                 {"\"garbles_at_bytes\": 40000000, \"garbles_bytes\": 20480", false}};
    for (size_t i = 0; i < 2; i++) {
        char keys[200];
        struct ws_port *port;
        struct ws_drive *drive;
        struct ws_trial t;
        snprintf(keys, sizeof keys, "\"size_bytes\": 201326592, %s", cases[i].keys);
        struct ws_bench *bench = one_drive(keys, &port, &drive, WS_OPEN_WRITE);
        OK(run(port, drive, WS_TRIAL_FULL, &t));
        CHECK(!t.sound && t.forgery == WS_FORGERY_NONE);
        CHECK_INT(t.bads, 1);
        CHECK(t.bad[0].at <= 40000000 && t.bad[0].at + t.bad[0].length >= 40020480 && t.bad[0].length <= 32768);
        CHECK(t.bad[0].unreadable == cases[i].unreadable);
        CHECK(t.written >= 201326592);
        drop(bench, port, drive);
    }
}

static void a_read_only_trial_writes_nothing_and_still_sees_copies(void) {
    for (int forged = 0; forged < 2; forged++) {
        struct ws_port *port;
        struct ws_drive *drive;
        struct ws_trial t;
        struct ws_bench *bench =
            one_drive(forged ? "\"size_bytes\": 1073741824, \"holds_bytes\": 300003328" : "\"size_bytes\": 1073741824",
                      &port, &drive, WS_OPEN_WRITE);
        char *noise = malloc(32 * MIB);
        random_bytes(noise, 32 * MIB);
        OK(drive->ops->write(drive, 0, noise, 32 * MIB, &error));
        OK(drive->ops->flush(drive, &error));
        drive->ops->close(drive);
        struct ws_text before = {0}, after = {0};
        shell(&before, "sha256sum '%s'/*.drive", bench->folder);
        OK(port->ops->open(port, "Sorrel", WS_OPEN_READ, &drive, &error));
        OK(run(port, drive, WS_TRIAL_READ, &t));
        shell(&after, "sha256sum '%s'/*.drive", bench->folder);
        CHECK_STR(after.data, before.data);
        CHECK_INT(t.written, 0);
        CHECK(forged ? t.forgery == WS_FORGERY_SUSPECTED : t.sound);
        if (forged) CHECK_INT(t.holds, 300003328);
        CHECK(t.read_bytes_s > 0);
        ws_text_free(&before);
        ws_text_free(&after);
        free(noise);
        drop(bench, port, drive);
    }
}

static void nothing_is_tried_without_its_name(void) {
    struct ws_port *port;
    struct ws_drive *drive;
    struct ws_trial t;
    struct ws_bench *bench = one_drive("\"size_bytes\": 134217728, \"removable\": false", &port, &drive, WS_OPEN_WRITE);
    struct ws_trial_options o = {.depth = WS_TRIAL_SAMPLE, .confirm = "sorrel"};
    FAILS(ws_trial_run(port, drive, &o, &t, &error), WS_E_REFUSED);
    CHECK(error.ways == 1 && error.way[0].hint == WS_HINT_EXTERNAL_DISK);
    o.allow_external_disk = true;
    FAILS(ws_trial_run(port, drive, &o, &t, &error), WS_E_REFUSED);
    CHECK_HAS(error.what, "does not confirm");
    o.confirm = NULL;
    FAILS(ws_trial_run(port, drive, &o, &t, &error), WS_E_REFUSED);
    drop(bench, port, drive);
    bench = one_drive("\"size_bytes\": 134217728, \"pulled_after_bytes\": 100000", &port, &drive, WS_OPEN_WRITE);
    FAILS(run(port, drive, WS_TRIAL_SAMPLE, &t), WS_E_GONE);
    drop(bench, port, drive);
}

static void a_kept_trial_is_read_back_strictly(void) {
    static const char *const bad[][2] = {{"wild-satchel-trial", "trial"},
                                         {"\"version\": 1", "\"version\": 9"},
                                         {"\"serial\": \"S\"", "\"serial\": 5"},
                                         {"\"size_bytes\": 9", "\"size_bytes\": -9"},
                                         {"\"write_bytes_s\": 5", "\"write_bytes_s\": -5"}};
    struct ws_trial t = {.drive_size = 9000000000, .holds = 9000000000, .write_bytes_s = 5e6, .sound = true}, back;
    struct ws_text text = {0};
    snprintf(t.drive_name, sizeof t.drive_name, "sorrel-1");
    snprintf(t.drive_serial, sizeof t.drive_serial, "S");
    ws_trial_judge(&t);
    OK(ws_trial_to_json(&t, &text, &error));
    OK(ws_trial_from_json(text.data, text.length, &back, &error));
    CHECK_STR(back.drive_name, t.drive_name);
    CHECK(back.write_bytes_s == t.write_bytes_s && back.sound && back.drive_size == t.drive_size);
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        struct ws_text other = {0};
        const char *at = strstr(text.data, bad[i][0]);
        CHECK(at != NULL);
        if (!at) continue;
        ws_text_add(&other, text.data, (size_t)(at - text.data));
        ws_text_puts(&other, bad[i][1]);
        ws_text_puts(&other, at + strlen(bad[i][0]));
        FAILS(ws_trial_from_json(other.data, other.length, &back, &error),
              strstr(bad[i][0], "version") ? WS_E_UNSUPPORTED : WS_E_FORMAT);
        ws_text_free(&other);
    }
    for (size_t cut = 0; cut < text.length; cut += 7) (void)ws_trial_from_json(text.data, cut, &back, &error);
    ws_text_free(&text);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"every forged size is found with few writes", every_forged_size_is_found_with_few_writes},
        {"fifty honest drives are cleared", fifty_honest_drives_are_cleared},
        {"speeds are measured", speeds_are_measured},
        {"bad areas are found where they are", bad_areas_are_found_where_they_are},
        {"a read-only trial writes nothing and still sees copies",
         a_read_only_trial_writes_nothing_and_still_sees_copies},
        {"nothing is tried without its name", nothing_is_tried_without_its_name},
        {"a kept trial is read back strictly", a_kept_trial_is_read_back_strictly},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
