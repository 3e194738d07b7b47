/* harness.c — running tests, scratch files, judges. */
#include "tests/harness.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/loop.h>
#include <stdarg.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

struct ws_error error;
static int failures; /* in the running test */
static bool skipped;
static uint64_t seed, state, cut_before, cut_after;
static char folder[64];

void fail_at(const char *file, int line, const char *format, ...) {
    va_list list;
    const char *name = strrchr(file, '/');
    if (failures++ < 12) {
        printf("    %s:%d: ", name ? name + 1 : file, line);
        va_start(list, format);
        vprintf(format, list);
        va_end(list);
        printf("\n");
    }
}

void skip_test(const char *why) {
    skipped = true;
    printf("    left out: %s\n", why);
}

void cuts_seen(uint64_t before, uint64_t after) {
    cut_before += before;
    cut_after += after;
}

int cases_of(int count) {
    const char *more = getenv("WS_TEST_MORE"); /* times as many */
    if (more && atoi(more) > 0) return count * atoi(more);
#if defined(__SANITIZE_ADDRESS__)
    const int part = 6;
#else
    const char *less = getenv("WS_TEST_PART"); /* so much of them alone */
    const int part = less && atoi(less) > 0 ? atoi(less) : 1;
#endif
    return (count + part - 1) / part;
}

uint64_t random_seed(void) { return seed; }

void random_begin(void) {
    const char *wanted = getenv("WS_TEST_SEED");
    seed = wanted ? strtoull(wanted, NULL, 0) : (uint64_t)time(NULL) * 1000003u + (uint64_t)getpid();
    state = seed;
    printf("seed %llu\n", (unsigned long long)seed);
}

uint64_t random_next(void) { /* splitmix64 */
    uint64_t z = (state += 0x9e3779b97f4a7c15ull);
    z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9ull;
    z = (z ^ z >> 27) * 0x94d049bb133111ebull;
    return z ^ z >> 31;
}

uint64_t random_below(uint64_t limit) { return limit ? random_next() % limit : 0; }

void random_bytes(void *out, size_t length) {
    uint8_t *p = out;
    for (size_t i = 0; i < length; i++) p[i] = (uint8_t)random_next();
}

const char *scratch(const char *name) {
    static char paths[16][256];
    static int next;
    char *path = paths[next++ % 16];
    if (!folder[0]) {
        snprintf(folder, sizeof folder, "/tmp/satchel-test-XXXXXX");
        if (!mkdtemp(folder)) {
            perror("scratch folder");
            exit(1);
        }
    }
    snprintf(path, 256, "%s/%s", folder, name);
    return path;
}

int run_tests(int argc, char **argv, const struct test *tests) {
    int passed = 0, failed = 0, left_out = 0;
    random_begin();
    setvbuf(stdout, NULL, _IOLBF, 0);
    for (const struct test *t = tests; t->name; t++) {
        if (argc > 1 && !strstr(t->name, argv[1])) continue;
        failures = 0;
        skipped = false;
        state = seed;
        cut_before = cut_after = 0;
        const time_t begun = time(NULL);
        t->run();
        const long seconds = (long)(time(NULL) - begun);
        char took[32] = "";
        if (seconds > 1) (void)snprintf(took, sizeof took, ", %ld s", seconds);
        if (cut_before + cut_after)
            printf("    %llu power cuts: %llu times as before, %llu times as it was to be\n",
                   (unsigned long long)(cut_before + cut_after), (unsigned long long)cut_before,
                   (unsigned long long)cut_after);
        if (failures) printf("FAILED  %s (WS_TEST_SEED=%llu)\n", t->name, (unsigned long long)seed);
        else printf("%s  %s%s\n", skipped ? "skipped" : "passed ", t->name, took);
        if (failures) failed++;
        else if (skipped) left_out++;
        else passed++;
    }
    if (folder[0]) (void)shell(NULL, "rm -rf '%s'", folder);
    if (argc > 1 && !passed && !failed && !left_out) {
        printf("FAILED  no test is called \"%s\"\n", argv[1]);
        failed = 1;
    }
    printf("%d passed, %d failed, %d skipped\n", passed, failed, left_out);
    return failed ? 1 : 0;
}

void save_source(const struct ws_source *source, const char *path) {
    enum { STEP = 1 << 20 };
    static const char zeros[4096];
    int fd = open(path, O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    char *buffer = malloc(STEP);
    bool good = fd >= 0 && buffer && ftruncate(fd, (off_t)source->size) == 0;
    for (uint64_t at = 0; good && at < source->size; at += STEP) {
        size_t step = source->size - at < STEP ? (size_t)(source->size - at) : STEP;
        good = ws_source_read(source, at, buffer, step, &error) == WS_OK;
        for (size_t i = 0; good && i < step; i += 4096) { /* zeros stay holes */
            size_t n = step - i < 4096 ? step - i : 4096;
            if (memcmp(buffer + i, zeros, n) != 0) good = pwrite(fd, buffer + i, n, (off_t)(at + i)) == (ssize_t)n;
        }
    }
    if (!good) fail_at(__FILE__, __LINE__, "%s cannot be written: %s", path, error.what);
    if (fd >= 0) close(fd);
    free(buffer);
}

void save_layout(const struct ws_layout *layout, const char *path) {
    enum { STEP = 4 << 20 };
    int fd = open(path, O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    char *buffer = malloc(STEP);
    bool good = fd >= 0 && buffer && ftruncate(fd, (off_t)ws_layout_size(layout)) == 0;
    for (size_t i = 0; good && i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        for (uint64_t at = 0; good && at < e->length; at += STEP) {
            size_t step = e->length - at < STEP ? (size_t)(e->length - at) : STEP;
            good = ws_source_read(e->from, e->from_at + at, buffer, step, &error) == WS_OK &&
                   pwrite(fd, buffer, step, (off_t)(e->at + at)) == (ssize_t)step;
        }
    }
    if (!good) fail_at(__FILE__, __LINE__, "%s cannot be written: %s", path, error.what);
    if (fd >= 0) close(fd);
    free(buffer);
}

int shell(struct ws_text *out, const char *format, ...) {
    char command[4096];
    char buffer[4096];
    va_list list;
    va_start(list, format);
    vsnprintf(command, sizeof command - 8, format, list);
    va_end(list);
    strcat(command, " 2>&1");
    FILE *pipe = popen(command, "r");
    if (!pipe) return -1;
    size_t got;
    while ((got = fread(buffer, 1, sizeof buffer, pipe)) > 0)
        if (out) ws_text_add(out, buffer, got);
    int status = pclose(pipe);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

bool have_program(const char *name) { return shell(NULL, "command -v %s >/dev/null", name) == 0; }

bool may_mount(void) { return geteuid() == 0 && access("/dev/loop-control", W_OK) == 0; }

bool loop_attach(const char *path, char device[64]) {
    for (int attempt = 0; attempt < 20; attempt++) {
        int control = open("/dev/loop-control", O_RDWR | O_CLOEXEC);
        int n = control >= 0 ? ioctl(control, LOOP_CTL_GET_FREE) : -1;
        if (control >= 0) close(control);
        if (n < 0) break;
        snprintf(device, 64, "/dev/loop%d", n);
        int loop = open(device, O_RDWR | O_CLOEXEC);
        int file = open(path, O_RDWR | O_CLOEXEC);
        struct loop_config config = {.fd = (__u32)file, .info.lo_flags = LO_FLAGS_PARTSCAN};
        bool good = loop >= 0 && file >= 0 && ioctl(loop, LOOP_CONFIGURE, &config) == 0;
        int why = errno;
        if (loop >= 0) close(loop);
        if (file >= 0) close(file);
        if (good) return true;
        if (why != EBUSY) break;
        usleep(20000);
    }
    fail_at(__FILE__, __LINE__, "no loop device for %s: %s", path, strerror(errno));
    return false;
}

void loop_detach(const char *device) {
    int loop = open(device, O_RDWR | O_CLOEXEC);
    if (loop < 0) return;
    (void)ioctl(loop, LOOP_CLR_FD, 0);
    close(loop);
}

bool mount_at(const char *device, const char *type, const char *options, const char *place) {
    (void)mkdir(place, 0755);
    unsigned long flags = options && strstr(options, "ro") ? MS_RDONLY : 0;
    if (mount(device, place, type, flags, options && !flags ? options : NULL) == 0) return true;
    fail_at(__FILE__, __LINE__, "the kernel does not mount %s as %s: %s", device, type, strerror(errno));
    return false;
}

void unmount(const char *place) {
    for (int i = 0; i < 50 && umount(place) != 0 && errno == EBUSY; i++) usleep(20000);
}

/* The drive in memory. */
static enum ws_status md_describe(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *e) {
    (void)e;
    *facts = ((struct memory_drive *)drive)->facts;
    return WS_OK;
}

static enum ws_status md_read(struct ws_drive *drive, uint64_t at, void *buffer, size_t length, struct ws_error *e) {
    struct memory_drive *d = (struct memory_drive *)drive;
    if (at % d->facts.logical_sector || length % d->facts.logical_sector || at + length > d->facts.size)
        return ws_fail(e, WS_E_READ, "a read that is not whole sectors: %zu at %llu", length, (unsigned long long)at);
    memcpy(buffer, d->bytes + at, length);
    if (d->corrupt_at >= at && d->corrupt_at < at + length) ((uint8_t *)buffer)[d->corrupt_at - at] ^= 0x40;
    return WS_OK;
}

struct memory_write {
    struct memory_write *before;
    uint64_t at;
    size_t length;
    uint8_t was[];
};

static void note_write(struct memory_drive *d, uint64_t at, size_t length) {
    struct memory_write *w = malloc(sizeof *w + length);
    *w = (struct memory_write){d->unflushed, at, length};
    memcpy(w->was, d->bytes + at, length);
    d->unflushed = w;
}

/* All of them are on the medium now; or, the latest first, each may have been lost. */
static void settle_writes(struct memory_drive *d, bool lose) {
    for (struct memory_write *w; (w = d->unflushed);) {
        if (lose && random_below(2)) memcpy(d->bytes + w->at, w->was, w->length);
        d->unflushed = w->before;
        free(w);
    }
}

static enum ws_status pulled_out(struct memory_drive *d, uint64_t at, const void *bytes, size_t length,
                                 struct ws_error *e) {
    const size_t sectors = length / d->facts.logical_sector;
    if (d->writes == d->fail_at_write && d->cut == CUT_TORN)
        memcpy(d->bytes + at, bytes, (size_t)random_below(sectors + 1) * d->facts.logical_sector);
    settle_writes(d, d->cut == CUT_UNFLUSHED);
    return ws_fail(e, WS_E_GONE, "the drive was pulled out at write %llu", (unsigned long long)d->writes);
}

static enum ws_status md_write(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                               struct ws_error *e) {
    struct memory_drive *d = (struct memory_drive *)drive;
    if (at % d->facts.logical_sector || length % d->facts.logical_sector || at + length > d->facts.size)
        return ws_fail(e, WS_E_WRITE, "a write that is not whole sectors: %zu at %llu", length, (unsigned long long)at);
    d->writes++;
    if (d->fail_at_write && d->writes >= d->fail_at_write) return pulled_out(d, at, bytes, length, e);
    if (d->cut == CUT_UNFLUSHED) note_write(d, at, length);
    if (at < d->last_end && d->last_end - at > d->lowest_gap) d->lowest_gap = d->last_end - at;
    d->last_end = at + length;
    d->written += length;
    memcpy(d->bytes + at, bytes, length);
    return WS_OK;
}

static enum ws_status md_flush(struct ws_drive *drive, struct ws_error *e) {
    struct memory_drive *d = (struct memory_drive *)drive;
    (void)e;
    d->flushes++;
    if (!d->fail_at_write || d->writes < d->fail_at_write) settle_writes(d, false);
    return WS_OK;
}

static enum ws_status md_discard(struct ws_drive *drive, uint64_t at, uint64_t length, struct ws_error *e) {
    (void)drive, (void)at, (void)length;
    return ws_fail(e, WS_E_UNSUPPORTED, "no discards");
}

static void md_close(struct ws_drive *drive) { (void)drive; }

struct memory_drive *memory_drive(uint64_t size, uint32_t sector) {
    static const struct ws_drive_ops ops = {md_describe, md_read,  md_write, md_flush, md_discard,
                                            md_flush,    md_flush, NULL,     md_close};
    struct memory_drive *d = calloc(1, sizeof *d);
    d->drive.ops = &ops;
    d->bytes = malloc(size);
    memset(d->bytes, 0xe5, size); /* an earlier life, not zeros */
    d->corrupt_at = UINT64_MAX;
    d->facts.size = size;
    d->facts.logical_sector = sector;
    d->facts.physical_sector = 4096;
    d->facts.internal = WS_NO;
    d->facts.removable = WS_YES;
    strcpy(d->facts.model, "Gorse 32");
    strcpy(d->facts.serial, "TEST-1");
    (void)ws_drive_short_name(&d->facts, &error);
    return d;
}

void memory_drive_fill(struct memory_drive *drive, const struct ws_layout *layout) {
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        if (ws_source_read(e->from, e->from_at, drive->bytes + e->at, e->length, &error) != WS_OK) abort();
    }
}

void memory_drive_free(struct memory_drive *d) {
    settle_writes(d, false);
    free(d->bytes);
    free(d);
}

/* Random extents over a drive; what it should hold stands in `wanted`, untouched bytes as 0xe5. */
struct ws_layout *random_layout(uint64_t size, unsigned unit, bool seal, uint8_t *wanted) {
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

static enum ws_status at_once(struct ws_port *port, void (*work)(void *), void *context, struct ws_task **task,
                              struct ws_error *e) {
    (void)port, (void)e;
    work(context);
    *task = (struct ws_task *)port;
    return WS_OK;
}
static void joined(struct ws_port *port, struct ws_task *task) { (void)port, (void)task; }
static void no_close(struct ws_port *port) { (void)port; }

static enum ws_status no_drives(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *e) {
    (void)port, (void)visit, (void)context, (void)e;
    return WS_OK;
}

struct ws_port *plain_port(void) {
    static const struct ws_port_ops ops = {.list = no_drives,
                                           .wall_clock = ws_linux_wall_clock,
                                           .steady_clock = ws_linux_steady_clock,
                                           .random = ws_linux_random,
                                           .start = at_once,
                                           .join = joined,
                                           .close = no_close};
    static struct ws_port port = {&ops};
    return &port;
}

void planned_begin(struct planned *p, enum ws_kind kind, const struct ws_drive_facts *drive) {
    memset(p, 0, sizeof *p);
    ws_request_begin(&p->request, kind);
    ws_plan_drive_of(drive, &p->setting.drive);
    memset(p->setting.id.byte, 0x33, 16);
    p->setting.made_at = 1790000000;
}

enum ws_status planned_prepare(struct planned *p, const struct ws_source *image, struct ws_build **build) {
    *build = NULL;
    p->setting.input[WS_INPUT_IMAGE] = image;
    enum ws_status status = ws_build_prepare(&p->request, &p->setting, build, &error);
    p->plan = *build ? ws_build_plan(*build) : NULL;
    return status;
}
