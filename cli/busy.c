/* busy.c — what takes more than a moment and has no progress of its own (hashing, unpacking, looking at an image) says
 * so. */
#include "cli/cli.h"

#include <pthread.h>
#include <stdatomic.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <time.h>

enum { MOMENT_MS = 1000, DRAW_MS = 250 };

static struct {
    pthread_t thread;
    pthread_mutex_t mutex;
    pthread_cond_t over;
    bool running, stop, said;
    unsigned depth; /* how many began and have not ended */
    const struct cli *cli;
    char what[160];
    _Atomic uint64_t done, total;
} busy = {.mutex = PTHREAD_MUTEX_INITIALIZER, .over = PTHREAD_COND_INITIALIZER};

static void draw(double seconds) {
    char a[24], b[24], time[32], far[64] = "";
    const uint64_t done = atomic_load(&busy.done), total = atomic_load(&busy.total);
    const int columns = note_columns();
    if (busy.cli->progress == PROGRESS_JSON) {
        const struct ws_progress p = {.done = done, .total = total, .elapsed_s = seconds, .left_s = -1};
        progress_step(busy.what, NULL, &p, -1);
        return;
    }
    if (total)
        (void)snprintf(far, sizeof far, ", %s of %s", ws_size_counted(done, a, sizeof a),
                       ws_size_counted(total, b, sizeof b));
    else (void)snprintf(far, sizeof far, ", %s", ws_duration(seconds, time, sizeof time));
    if (busy.cli->progress == PROGRESS_TABLE) note("\r\033[K  %.*s%s", columns > 40 ? columns - 36 : 8, busy.what, far);
    else if (!busy.said) note("  %s\n", busy.what);
    (void)fflush(stderr);
    busy.said = true;
}

static void *watch(void *argument) {
    struct timespec at;
    long ms = MOMENT_MS;
    double seconds = 0;
    (void)argument;
    (void)pthread_mutex_lock(&busy.mutex);
    while (!busy.stop) {
        (void)clock_gettime(CLOCK_REALTIME, &at);
        at.tv_nsec += ms % 1000 * 1000000;
        at.tv_sec += ms / 1000 + at.tv_nsec / 1000000000;
        at.tv_nsec %= 1000000000;
        if (pthread_cond_timedwait(&busy.over, &busy.mutex, &at) == 0 || busy.stop) continue;
        seconds += (double)ms / 1000;
        ms = DRAW_MS;
        draw(seconds);
    }
    (void)pthread_mutex_unlock(&busy.mutex);
    return NULL;
}

void busy_begin(const struct cli *cli, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    if (busy.depth++ || cli->progress == PROGRESS_NONE) return;
    va_start(list, format);
    ws_text_vprintf(&text, format, list);
    va_end(list);
    (void)snprintf(busy.what, sizeof busy.what, "%s", text.data ? text.data : "");
    ws_text_free(&text);
    busy.cli = cli;
    busy.stop = busy.said = false;
    atomic_store(&busy.done, 0);
    atomic_store(&busy.total, 0);
    busy.running = pthread_create(&busy.thread, NULL, watch, NULL) == 0;
}

void busy_end(void) {
    if (--busy.depth || !busy.running) return;
    (void)pthread_mutex_lock(&busy.mutex);
    busy.stop = true;
    (void)pthread_cond_signal(&busy.over);
    (void)pthread_mutex_unlock(&busy.mutex);
    (void)pthread_join(busy.thread, NULL);
    busy.running = false;
    if (busy.said && busy.cli->progress == PROGRESS_TABLE) note("\r\033[K");
}

/* A source whose reading is counted. */
static enum ws_status counted_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    atomic_fetch_add(&busy.done, length);
    return ws_source_read(source->state, at, buffer, length, error);
}

static void counted_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    *piece = ws_piece_base(source->state, at, piece->length);
}

enum ws_status busy_count(const struct ws_source *base, unsigned times, struct ws_source **counted,
                          struct ws_error *error) {
    static const struct ws_source_ops ops = {counted_read, NULL, counted_piece};
    atomic_store(&busy.total, base->size * times);
    return ws_source_make(&ops, base->size, (void *)(uintptr_t)base, counted, error);
}
