/* sums.c — what stretches were written with, and digests that were worked out once for all who ask. */
#include "base/bytes.h"
#include "wild_satchel/pieces.h"

#include <isa-l/crc64.h>
#include <openssl/evp.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

static const double NAP_S = 0.001;

uint64_t ws_sum_of(const void *bytes, size_t length) { return crc64_ecma_norm(0, bytes, length); }

void ws_sums_free(struct ws_sums *s) {
    free(s->list);
    memset(s, 0, sizeof *s);
}

enum ws_status ws_sums_add(struct ws_sums *s, const struct ws_sum *sum, struct ws_error *error) {
    if (s->count == s->room) {
        size_t room = s->room * 2 + 256;
        struct ws_sum *grown = realloc(s->list, room * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu sums", room);
        s->list = grown;
        s->room = room;
    }
    s->list[s->count++] = *sum;
    return WS_OK;
}

const struct ws_sum *ws_sums_find(const struct ws_sums *s, uint64_t at, uint64_t length) {
    size_t low = 0;
    for (size_t high = s->count; low < high;) {
        size_t middle = low + (high - low) / 2;
        if (s->list[middle].at < at) low = middle + 1;
        else high = middle;
    }
    bool there = low < s->count && s->list[low].at == at && s->list[low].length == length;
    return there ? &s->list[low] : NULL;
}

enum state { EMPTY, UNDER_WORK, DONE, FAILED };

struct digest {
    uint64_t at, sum;
    uint32_t length;
    enum state state;
    uint8_t sha256[32];
};

struct ws_digests {
    struct ws_port *port;
    atomic_flag busy;     /* held for bookkeeping alone */
    struct digest *table; /* by place, open; a power of two of them */
    size_t room, used;
    uint64_t worked_out, asked;
};

enum ws_status ws_digests_open(struct ws_port *port, struct ws_digests **out, struct ws_error *error) {
    struct ws_digests *d = calloc(1, sizeof *d);
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for digests");
    d->port = port;
    atomic_flag_clear(&d->busy);
    *out = d;
    return WS_OK;
}

void ws_digests_close(struct ws_digests *d) {
    if (!d) return;
    free(d->table);
    free(d);
}

static void lock(struct ws_digests *d) {
    while (atomic_flag_test_and_set_explicit(&d->busy, memory_order_acquire)) {
    }
}

static void unlock(struct ws_digests *d) { atomic_flag_clear_explicit(&d->busy, memory_order_release); }

/* Where it is, or where it would be. */
static struct digest *place_of(struct digest *table, size_t room, const struct digest *of) {
    size_t i = (size_t)((of->at ^ of->sum) * 0x9e3779b97f4a7c15u >> 20);
    for (;; i++) {
        struct digest *e = &table[i & (room - 1)];
        if (e->state == EMPTY || (e->at == of->at && e->sum == of->sum && e->length == of->length)) return e;
    }
}

/* One more fits. @return false: no memory */
static bool grow(struct ws_digests *d) {
    if (d->room && d->used < d->room / 2) return true;
    size_t room = d->room ? d->room * 2 : 256;
    struct digest *table = calloc(room, sizeof *table);
    if (!table) return d->used + 1 < d->room;
    for (size_t i = 0; i < d->room; i++)
        if (d->table[i].state != EMPTY) *place_of(table, room, &d->table[i]) = d->table[i];
    free(d->table);
    d->table = table;
    d->room = room;
    return true;
}

/* Known already? If not, it is the caller's to work out, and others wait for it if `mine`. */
static bool known(struct ws_digests *d, const struct digest *wanted, uint8_t sha256[32], bool *mine) {
    for (;;) {
        lock(d);
        struct digest *e = grow(d) ? place_of(d->table, d->room, wanted) : NULL;
        const enum state was = e ? e->state : EMPTY;
        *mine = e && was == EMPTY;
        if (*mine) {
            *e = *wanted;
            e->state = UNDER_WORK;
            d->used++;
        }
        if (was == DONE) memcpy(sha256, e->sha256, 32);
        if (was != UNDER_WORK) d->asked++;
        if (was != UNDER_WORK && was != DONE) d->worked_out++;
        unlock(d);
        if (was != UNDER_WORK) return was == DONE;
        if (!d->port || !d->port->ops->pause || !d->port->ops->pause(d->port, NAP_S)) return false;
    }
}

/* Worked out, or not: then all who ask do it themselves. */
static void tell(struct ws_digests *d, const struct digest *wanted, bool done, const uint8_t sha256[32]) {
    lock(d);
    struct digest *e = place_of(d->table, d->room, wanted);
    if (done) memcpy(e->sha256, sha256, 32);
    e->state = done ? DONE : FAILED;
    unlock(d);
}

void ws_digests_count(struct ws_digests *d, uint64_t *worked_out, uint64_t *asked) {
    lock(d);
    *worked_out = d->worked_out;
    *asked = d->asked;
    unlock(d);
}

bool ws_digests_of(struct ws_digests *d, const struct ws_digest_piece *piece, uint64_t sum, const void *bytes,
                   uint8_t sha256[32]) {
    const struct digest wanted = {.at = piece->at, .sum = sum, .length = piece->length};
    bool mine = false;
    if (d && known(d, &wanted, sha256, &mine)) return true;
    bool done = EVP_Digest(bytes, piece->length, sha256, NULL, EVP_sha256(), NULL) == 1;
    if (mine) tell(d, &wanted, done, sha256);
    return done;
}
