/* drive.c — a simulated drive: a sparse file behind a volatile cache, a speed, and whatever fault is armed. */
#include "wild_satchel/port/linux.h"
#include "port/sim/internal.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

struct pending { /* a write that only the cache holds */
    struct pending *next;
    uint64_t at;
    size_t length;
    char data[];
};

struct sim_drive {
    struct ws_drive drive;
    struct ws_bench *bench;
    struct ws_sim_drive *model;
    int fd;
    bool writable, gone;
    struct pending *first, **last;
    uint64_t cached;
    uint64_t next_at; /* where a write in order would go on */
    uint64_t written, writes;
};

static enum ws_status gone(const struct sim_drive *d, struct ws_error *error) {
    ws_fail(error, WS_E_GONE, "the drive went away in the middle of the work");
    ws_fail_where(error, "%s", d->model->facts.short_name);
    return ws_fail_next(error, "plug it in again and run the same command to continue");
}

static enum ws_status host_error(const struct sim_drive *d, struct ws_error *error) {
    ws_fail(error, WS_E_WRITE, "the simulated drive's file failed: %s", strerror(errno));
    return ws_fail_where(error, "%s", d->model->facts.short_name);
}

/* A forged drive has less than it says. Where a place past its real end stands in truth; false: nowhere. */
static bool real_place(const struct ws_sim_drive *m, uint64_t at, uint64_t *place, uint64_t *room) {
    *place = at;
    *room = m->holds - at;
    if (at < m->holds) return true;
    if (m->beyond[0] == 'd') {
        *room = UINT64_MAX;
        return false;
    }
    *place = m->beyond[0] == 'r' ? (at - m->holds) % m->repeats : at % m->holds;
    *room = (m->beyond[0] == 'r' ? m->repeats : m->holds) - *place;
    return true;
}

static void garble(const struct ws_sim_drive *m, uint64_t at, char *bytes, size_t length) {
    for (size_t i = 0; i < length; i++)
        if (at + i >= m->garbles_at && at + i - m->garbles_at < m->garbles_length) bytes[i] ^= 0x10;
}

static enum ws_status host_io(struct sim_drive *d, bool write, uint64_t at, char *bytes, size_t length,
                              struct ws_error *error) {
    while (length > 0) {
        uint64_t place, room;
        bool there = real_place(d->model, at, &place, &room);
        size_t step = length < room ? length : (size_t)room;
        ssize_t done = (ssize_t)step;
        if (!there && !write) memset(bytes, 0, step);
        if (there) done = write ? pwrite(d->fd, bytes, step, (off_t)place) : pread(d->fd, bytes, step, (off_t)place);
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) return host_error(d, error);
        if (!write && d->model->garbles_length) garble(d->model, at, bytes, (size_t)done);
        at += (uint64_t)done;
        bytes += done;
        length -= (size_t)done;
    }
    return WS_OK;
}

/* The drive is at work for so long, once it is done with what others had it do. */
static void spend(struct sim_drive *d, double seconds) {
    const double now = d->bench->clock_s;
    const double from = d->model->free_at > now ? d->model->free_at : now;
    d->model->free_at = from + seconds;
    if (d->bench->tasks) sim_tasks_spend(d->bench->tasks, from + seconds - now);
    else d->bench->clock_s = from + seconds;
}

static enum ws_status drain_one(struct sim_drive *d, struct ws_error *error) {
    struct pending *p = d->first;
    spend(d, (double)p->length / d->model->write_rate + (p->at != d->next_at ? d->model->small_write_s : 0));
    d->next_at = p->at + p->length;
    enum ws_status status = host_io(d, true, p->at, p->data, p->length, error);
    d->first = p->next;
    if (!d->first) d->last = &d->first;
    d->cached -= p->length;
    free(p);
    return status;
}

static void drop_cache(struct sim_drive *d) {
    while (d->first) {
        struct pending *p = d->first;
        d->first = p->next;
        free(p);
    }
    d->last = &d->first;
    d->cached = 0;
}

static enum ws_status describe(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *error) {
    struct sim_drive *d = (struct sim_drive *)drive;
    if (d->gone) return gone(d, error);
    *facts = d->model->facts;
    return WS_OK;
}

static enum ws_status read_drive(struct ws_drive *drive, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *error) {
    struct sim_drive *d = (struct sim_drive *)drive;
    if (d->gone) return gone(d, error);
    spend(d, (double)length / d->model->read_rate);
    if (d->model->bad_length && at < d->model->bad_at + d->model->bad_length && d->model->bad_at < at + length) {
        ws_fail(error, WS_E_READ, "the drive cannot be read at byte %llu: bad sector",
                (unsigned long long)(at > d->model->bad_at ? at : d->model->bad_at));
        return ws_fail_where(error, "%s", d->model->facts.short_name);
    }
    WS_TRY(host_io(d, false, at, buffer, length, error));
    for (const struct pending *p = d->first; p; p = p->next) {
        uint64_t from = at > p->at ? at : p->at;
        uint64_t to = at + length < p->at + p->length ? at + length : p->at + p->length;
        if (from < to) memcpy((char *)buffer + (from - at), p->data + (from - p->at), (size_t)(to - from));
    }
    return WS_OK;
}

/* Some of what the cache held reaches the medium, in no order; the write under way may be torn. */
static void lose_power(struct sim_drive *d) {
    uint64_t random = d->bench->seed * 6364136223846793005ull + d->writes * 1442695040888963407ull + 1;
    for (struct pending *p = d->first; p; p = p->next) {
        random = random * 6364136223846793005ull + 1442695040888963407ull;
        unsigned fate = (unsigned)(random >> 60);
        size_t keep = fate < 6 ? p->length : fate < 8 ? p->length / 2 / 512 * 512 : 0;
        if (keep) (void)host_io(d, true, p->at, p->data, keep, NULL);
    }
    drop_cache(d);
    d->gone = true;
}

static enum ws_status write_drive(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *error) {
    struct sim_drive *d = (struct sim_drive *)drive;
    if (d->gone) return gone(d, error);
    if (!d->writable || d->model->facts.read_only) {
        ws_fail(error, WS_E_REFUSED, "the drive is write-protected");
        ws_fail_where(error, "%s", d->model->facts.short_name);
        return ws_fail_next(error, "move its write-protect switch");
    }
    if (at > d->model->facts.size || length > d->model->facts.size - at)
        return ws_fail(error, WS_E_RANGE, "a write past the end of the drive");
    struct pending *p = malloc(sizeof *p + length);
    if (!p) return ws_fail(error, WS_E_NOMEM, "out of memory for the simulated cache");
    p->next = NULL;
    p->at = at;
    p->length = length;
    memcpy(p->data, bytes, length);
    *d->last = p;
    d->last = &p->next;
    d->cached += length;
    d->writes++;
    d->written += length;
    if (d->model->cut_at_write && d->writes >= d->model->cut_at_write) {
        d->model->cut_at_write = 0;
        lose_power(d);
        return gone(d, error);
    }
    if (d->model->pull_after && d->written >= d->model->pull_after) {
        d->model->pull_after = 0;
        d->model->pulled = true;
        (void)ws_bench_save(d->bench, NULL); /* for others to see, and to plug it in again */
        drop_cache(d);
        d->gone = true;
        return gone(d, error);
    }
    while (d->cached > d->model->cache) WS_TRY(drain_one(d, error));
    return WS_OK;
}

static enum ws_status flush(struct ws_drive *drive, struct ws_error *error) {
    struct sim_drive *d = (struct sim_drive *)drive;
    if (d->gone) return gone(d, error);
    while (d->first) WS_TRY(drain_one(d, error));
    return WS_OK;
}

static enum ws_status discard(struct ws_drive *drive, uint64_t at, uint64_t length, struct ws_error *error) {
    (void)drive, (void)at, (void)length;
    return ws_fail(error, WS_E_UNSUPPORTED, "this drive does not take discards");
}

static enum ws_status release(struct ws_drive *drive, struct ws_error *error) { return flush(drive, error); }

static bool stores(struct ws_drive *drive, const char *path) {
    struct stat file, mine;
    return stat(path, &file) == 0 && fstat(((struct sim_drive *)drive)->fd, &mine) == 0 && file.st_dev == mine.st_dev &&
           file.st_ino == mine.st_ino;
}

void sim_drive_cut(struct ws_drive *drive) { lose_power((struct sim_drive *)drive); }

static void close_drive(struct ws_drive *drive) {
    struct sim_drive *d = (struct sim_drive *)drive;
    while (!d->gone && d->first && drain_one(d, NULL) == WS_OK) {
    }
    drop_cache(d);
    close(d->fd);
    free(d);
}

enum ws_status sim_drive_open(struct ws_bench *bench, const char *name, enum ws_open_mode mode, struct ws_drive **drive,
                              struct ws_error *error) {
    static const struct ws_drive_ops ops = {describe, read_drive, write_drive, flush,      discard,
                                            flush,    release,    stores,      close_drive};
    struct ws_sim_drive *model = ws_bench_drive(bench, name);
    char path[700];
    if (!model || !sim_drive_is_here(bench, model)) {
        ws_fail(error, WS_E_NOTFOUND, model ? "the drive is not plugged in" : "there is no such drive on this bench");
        ws_fail_where(error, "%s", name);
        return ws_fail_next(
            error, model ? "plug it in: satchel bench plug %.60s" : "`satchel drives` lists the drives that are here",
            name);
    }
    struct sim_drive *d = calloc(1, sizeof *d);
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for a drive");
    sim_drive_path(bench, model, path, sizeof path);
    d->fd = open(path, (mode == WS_OPEN_WRITE ? O_RDWR : O_RDONLY) | O_CLOEXEC);
    if (d->fd < 0 || (mode == WS_OPEN_WRITE && flock(d->fd, LOCK_EX | LOCK_NB) != 0)) {
        ws_fail(error, d->fd < 0 ? WS_E_READ : WS_E_REFUSED, "the simulated drive cannot be opened: %s",
                strerror(errno));
        ws_fail_where(error, "%s", path);
        if (d->fd >= 0) close(d->fd);
        enum ws_status status = error ? error->status : WS_E_READ;
        free(d);
        return status;
    }
    d->drive.ops = &ops;
    d->bench = bench;
    d->model = model;
    d->writable = mode == WS_OPEN_WRITE;
    d->last = &d->first;
    *drive = &d->drive;
    return WS_OK;
}

/* The bench as a port. */
struct sim_port {
    struct ws_port port;
    struct ws_bench *bench;
};

static enum ws_status list_drives(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *error) {
    struct ws_bench *bench = ((struct sim_port *)port)->bench;
    (void)error;
    for (size_t i = 0; i < bench->drives; i++)
        if (sim_drive_is_here(bench, &bench->drive[i]) && !visit(context, &bench->drive[i].facts)) break;
    return WS_OK;
}

static enum ws_status open_drive(struct ws_port *port, const char *id, enum ws_open_mode mode, struct ws_drive **drive,
                                 struct ws_error *error) {
    return sim_drive_open(((struct sim_port *)port)->bench, id, mode, drive, error);
}

static int64_t wall_clock(struct ws_port *port) {
    const struct ws_bench *bench = ((struct sim_port *)port)->bench;
    return bench->began + (int64_t)bench->clock_s;
}

static double steady_clock(struct ws_port *port) { return ((struct sim_port *)port)->bench->clock_s; }

static enum ws_status start(struct ws_port *port, void (*work)(void *context), void *context, struct ws_task **task,
                            struct ws_error *error) {
    return sim_tasks_start(((struct sim_port *)port)->bench->tasks, work, context, task, error);
}

static void join(struct ws_port *port, struct ws_task *task) {
    sim_tasks_join(((struct sim_port *)port)->bench->tasks, task);
}

static bool pause_for(struct ws_port *port, double seconds) {
    sim_tasks_spend(((struct sim_port *)port)->bench->tasks, seconds);
    return true;
}

/* Until the next drive is plugged in by the bench file. Other commands may plug one in as well: they take a moment of
 * real time to do it. */
static enum ws_status watch(struct ws_port *port, double seconds, struct ws_error *error) {
    struct ws_bench *bench = ((struct sim_port *)port)->bench;
    (void)error;
    double step = seconds;
    bool expected = false;
    for (size_t i = 0; i < bench->drives; i++) {
        const struct ws_sim_drive *d = &bench->drive[i];
        if (!d->pulled || d->plugged_at <= bench->clock_s) continue;
        expected = true;
        if (d->plugged_at - bench->clock_s < step) step = d->plugged_at - bench->clock_s;
    }
    if (!expected) (void)ws_linux_pause(port, 0.05);
    sim_tasks_spend(bench->tasks, step);
    sim_bench_look_again(bench);
    return WS_OK;
}

static void close_port(struct ws_port *port) {
    struct ws_bench *bench = ((struct sim_port *)port)->bench;
    (void)ws_bench_save(bench, NULL);
    sim_tasks_close(bench->tasks);
    bench->tasks = NULL;
    free(port);
}

enum ws_status ws_sim_port(struct ws_bench *bench, struct ws_port **port, struct ws_error *error) {
    static const struct ws_port_ops ops = {list_drives, open_drive, wall_clock, steady_clock, ws_linux_random,
                                           start,       join,       pause_for,  watch,        close_port};
    struct sim_port *made = malloc(sizeof *made);
    struct sim_tasks *tasks = made ? sim_tasks_open(&bench->clock_s) : NULL;
    if (!tasks) {
        free(made);
        return ws_fail(error, WS_E_NOMEM, "out of memory for the bench");
    }
    bench->tasks = tasks;
    made->port.ops = &ops;
    made->bench = bench;
    *port = &made->port;
    return WS_OK;
}
