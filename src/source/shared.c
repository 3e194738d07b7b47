/* shared.c — one window over many sources, for several readers.
 *
 * The window holds blocks, each a stretch of one base. A block is read by the first who wants any of it, outside the
 * lock; others who want it then wait. It goes when all who take part have read to its end, or, the window being full,
 * when it is the oldest. Nobody ever waits for room: a reader that finds none reads for itself.
 */
#include "wild_satchel/shared.h"

#include "base/bytes.h"

#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

enum { BLOCK = 1 << 20, BUCKETS = 512 };
static const double NAP_S = 0.002;

struct block {
    const struct ws_source *base;
    uint64_t at;
    size_t length;
    uint64_t taken; /* bit N: reader N has read to its end */
    unsigned users; /* who copy out of it now, or fill it */
    bool ready;
    struct block *next_alike;    /* in its bucket */
    struct block *older, *newer; /* in the order they came */
    char data[];
};

struct ws_shared {
    struct ws_port *port;
    atomic_flag busy; /* held for bookkeeping alone */
    size_t readers, window, held;
    double patience;
    uint64_t had[WS_READERS_MOST]; /* bytes */
    uint64_t parts;                /* bit N: reader N takes part, and is not left behind */
    struct block *bucket[BUCKETS];
    struct block *oldest, *newest;
    struct ws_shared_count count;
};

struct view {
    struct ws_shared *shared;
    size_t reader;
    const struct ws_source *base;
};

static void lock(struct ws_shared *s) {
    while (atomic_flag_test_and_set_explicit(&s->busy, memory_order_acquire)) {
    }
}

static void unlock(struct ws_shared *s) { atomic_flag_clear_explicit(&s->busy, memory_order_release); }

static struct block **bucket_of(struct ws_shared *s, const struct ws_source *base, uint64_t at) {
    uint64_t mixed = ((uint64_t)(uintptr_t)base / 16 + at / BLOCK * 0x9e3779b97f4a7c15u) * 0xff51afd7ed558ccdu;
    return &s->bucket[(mixed >> 40) % BUCKETS];
}

static struct block *find(struct ws_shared *s, const struct ws_source *base, uint64_t at) {
    struct block *b = *bucket_of(s, base, at);
    while (b && (b->base != base || b->at != at)) b = b->next_alike;
    return b;
}

static void forget(struct ws_shared *s, struct block *b) {
    struct block **p = bucket_of(s, b->base, b->at);
    while (*p != b) p = &(*p)->next_alike;
    *p = b->next_alike;
    *(b->older ? &b->older->newer : &s->oldest) = b->newer;
    *(b->newer ? &b->newer->older : &s->newest) = b->older;
    s->held -= b->length;
    free(b);
}

/* Room for so many bytes, at the price of the oldest that nobody is using. @return false if there is none */
static bool make_room(struct ws_shared *s, size_t length) {
    for (struct block *b = s->oldest, *next; b && s->held + length > s->window; b = next) {
        next = b->newer;
        if (!b->users) forget(s, b);
    }
    return s->held + length <= s->window;
}

static struct block *enter(struct ws_shared *s, const struct ws_source *base, uint64_t at) {
    size_t length = (size_t)ws_min_u64(BLOCK, base->size - at);
    struct block *b = make_room(s, length) ? malloc(sizeof *b + length) : NULL;
    if (!b) return NULL;
    struct block **bucket = bucket_of(s, base, at);
    *b =
        (struct block){.base = base, .at = at, .length = length, .users = 1, .next_alike = *bucket, .older = s->newest};
    *bucket = b;
    *(s->newest ? &s->newest->newer : &s->oldest) = b;
    s->newest = b;
    s->held += length;
    return b;
}

static void let_go(struct ws_shared *s, struct block *b) {
    b->users--;
    if (!b->users && b->ready && (b->taken & s->parts) == s->parts) forget(s, b);
}

/* Who is furthest behind of those that are waited for. */
static uint64_t least_had(const struct ws_shared *s) {
    uint64_t least = UINT64_MAX;
    for (size_t i = 0; i < s->readers; i++)
        if (s->parts >> i & 1) least = ws_min_u64(least, s->had[i]);
    return least;
}

static void leave_behind(struct ws_shared *s, uint64_t had) {
    for (size_t i = 0; i < s->readers; i++)
        if ((s->parts >> i & 1) && s->had[i] == had) s->parts &= ~(1ull << i);
}

/* Wait until those behind have come near enough. */
static void keep_pace(struct ws_shared *s, size_t reader) {
    uint64_t seen = UINT64_MAX;
    double since = 0;
    for (;;) {
        lock(s);
        const bool waits = s->parts >> reader & 1;
        const uint64_t least = least_had(s);
        const bool ahead = waits && s->had[reader] > least && s->had[reader] - least > s->window / 2;
        const double now = ahead ? s->port->ops->steady_clock(s->port) : 0;
        if (ahead && least == seen && now - since > s->patience) leave_behind(s, least);
        if (least != seen) since = now;
        seen = least;
        unlock(s);
        if (!ahead || !s->port->ops->pause || !s->port->ops->pause(s->port, NAP_S)) return;
    }
}

static void note_had(struct ws_shared *s, size_t reader, uint64_t length, uint64_t read) {
    s->had[reader] += length;
    s->count.wanted += length;
    s->count.read += read;
}

/* Read a new block and let others have it. A failure is this reader's; the next one tries for itself. */
static enum ws_status fill(struct ws_shared *s, struct block *b, struct ws_error *error) {
    enum ws_status status = ws_source_read(b->base, b->at, b->data, b->length, error);
    lock(s);
    s->count.read += b->length;
    b->ready = status == WS_OK;
    if (status != WS_OK) { /* nobody else uses it: who finds it not ready looks again */
        b->users = 0;
        forget(s, b);
    }
    unlock(s);
    return status;
}

/* The block with this place, in use by the caller; NULL: there is no room for it. */
static enum ws_status get(struct ws_shared *s, const struct ws_source *base, uint64_t at, struct block **out,
                          struct ws_error *error) {
    for (;;) {
        lock(s);
        struct block *b = find(s, base, at);
        const bool fresh = !b;
        if (fresh) b = enter(s, base, at);
        else if (b->ready) b->users++;
        const bool ready = b && b->ready;
        unlock(s);
        *out = b;
        if (!b || ready) return WS_OK;
        if (fresh) return fill(s, b, error);
        *out = NULL; /* somebody is reading it */
        if (!s->port->ops->pause || !s->port->ops->pause(s->port, NAP_S)) return WS_OK;
    }
}

static enum ws_status view_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct view *v = source->state;
    struct ws_shared *s = v->shared;
    char *out = buffer;
    lock(s);
    const bool shares = s->parts >> v->reader & 1;
    unlock(s);
    if (!shares) return ws_source_read(v->base, at, buffer, length, error);
    keep_pace(s, v->reader);
    while (length > 0) {
        const uint64_t first = at / BLOCK * BLOCK;
        const size_t into = (size_t)(at - first);
        const size_t step = (size_t)ws_min_u64(length, BLOCK - into);
        struct block *b = NULL;
        WS_TRY(get(s, v->base, first, &b, error));
        if (b) memcpy(out, b->data + into, step);
        else WS_TRY(ws_source_read(v->base, at, out, step, error));
        lock(s);
        note_had(s, v->reader, step, b ? 0 : step);
        if (b && into + step == b->length) b->taken |= 1ull << v->reader;
        if (b) let_go(s, b);
        unlock(s);
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static void view_close(struct ws_source *source) { free(source->state); }

static void view_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    *piece = ws_piece_base(((const struct view *)source->state)->base, at, piece->length);
}

static const struct ws_source_ops view_ops = {view_read, view_close, view_piece};

enum ws_status ws_shared_view(struct ws_shared *shared, size_t reader, const struct ws_source *base,
                              struct ws_source **view, struct ws_error *error) {
    struct view *v = malloc(sizeof *v);
    if (!v) return ws_fail(error, WS_E_NOMEM, "out of memory for a source");
    *v = (struct view){shared, reader, base};
    enum ws_status status = ws_source_make(&view_ops, base->size, v, view, error);
    if (status != WS_OK) free(v);
    return status;
}

void ws_shared_begin(struct ws_shared *s, size_t reader) {
    lock(s);
    s->parts |= 1ull << reader;
    unlock(s);
}

void ws_shared_leave(struct ws_shared *s, size_t reader) {
    lock(s);
    s->parts &= ~(1ull << reader);
    for (struct block *b = s->oldest, *next; b; b = next) { /* what only this one was waited for */
        next = b->newer;
        if (!b->users && (b->taken & s->parts) == s->parts) forget(s, b);
    }
    unlock(s);
}

void ws_shared_count(struct ws_shared *s, struct ws_shared_count *count) {
    lock(s);
    *count = s->count;
    unlock(s);
}

enum ws_status ws_shared_open(struct ws_port *port, size_t readers, size_t window, double patience,
                              struct ws_shared **shared, struct ws_error *error) {
    if (readers == 0 || readers > WS_READERS_MOST)
        return ws_fail(error, WS_E_RANGE, "a window is shared by 1 to %d readers", WS_READERS_MOST);
    struct ws_shared *s = calloc(1, sizeof *s);
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a window");
    s->port = port;
    s->readers = readers;
    s->window = window;
    s->patience = patience;
    atomic_flag_clear(&s->busy);
    *shared = s;
    return WS_OK;
}

void ws_shared_close(struct ws_shared *s) {
    if (!s) return;
    while (s->oldest) forget(s, s->oldest);
    free(s);
}
