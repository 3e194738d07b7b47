/* look.c — a trial that writes nothing: reads the front, samples the rest, and looks for copies of the front. */
#include "trial/internal.h"

#include <stdlib.h>
#include <string.h>

enum { SAMPLES_BYTES = 4096, CONFIRM_BYTES = 65536 };

struct mark { /* a block of the front, by what it holds */
    uint64_t sum, at;
};

static uint64_t sum_of(const char *block, size_t length) { /* 0 for a block that says nothing: all bytes the same */
    uint64_t sum = 14695981039346656037ull;
    bool plain = true;
    for (size_t i = 0; i < length; i++) {
        sum = (sum ^ (uint8_t)block[i]) * 1099511628211ull;
        plain &= block[i] == block[0];
    }
    return plain ? 0 : sum | 1;
}

static int by_sum(const void *a, const void *b) {
    const struct mark *x = a;
    const struct mark *y = b;
    return x->sum < y->sum ? -1 : x->sum > y->sum ? 1 : x->at < y->at ? -1 : x->at > y->at;
}

struct front { /* the blocks of the front that say something */
    struct trying *t;
    struct mark *mark;
    size_t marks;
};

static enum ws_status mark_block(void *context, uint64_t at, const char *block, struct ws_error *error) {
    struct front *f = context;
    (void)error;
    if (!block) trial_bad(f->t, at, f->t->block, true);
    uint64_t sum = block ? sum_of(block, f->t->block) : 0;
    if (sum) f->mark[f->marks++] = (struct mark){sum, at};
    return WS_OK;
}

/* Two places hold the same long stretch, which is not the same few bytes over and over. */
static enum ws_status same_stretch(struct trying *t, uint64_t a, uint64_t b, bool *same, struct ws_error *error) {
    bool one, other;
    char *second = t->buffer + CONFIRM_BYTES;
    size_t length = (size_t)ws_min_u64(CONFIRM_BYTES, t->size - b);
    *same = false;
    WS_TRY(trial_get(t, a, t->buffer, length, &one, error));
    WS_TRY(trial_get(t, b, second, length, &other, error));
    if (!one || !other || memcmp(t->buffer, second, length) != 0) return WS_OK;
    size_t told = 0;
    for (size_t i = 0; i < length; i += t->block) told += sum_of(second + i, t->block) != 0;
    *same = told >= 2;
    return WS_OK;
}

static enum ws_status sample(struct trying *t, const struct mark *mark, size_t marks, struct ws_error *error) {
    for (uint64_t at = t->ruler; at < t->size; at += t->gap) {
        bool readable;
        WS_TRY(trial_get(t, at, t->buffer, t->block, &readable, error));
        if (!readable) trial_bad(t, at, t->block, true);
        WS_TRY(trial_tell(t, WS_STEP_CHECKING, t->trial->read, error));
        struct mark key = {readable ? sum_of(t->buffer, t->block) : 0, 0};
        if (!key.sum || trial_is_forged(t->trial)) continue;
        size_t low = 0;
        for (size_t high = marks; low < high;) {
            size_t middle = low + (high - low) / 2;
            if (mark[middle].sum < key.sum) low = middle + 1;
            else high = middle;
        }
        bool same = false;
        if (low < marks && mark[low].sum == key.sum) WS_TRY(same_stretch(t, mark[low].at, at, &same, error));
        if (!same) continue;
        t->trial->forgery = WS_FORGERY_SUSPECTED;
        t->trial->holds = at - mark[low].at;
    }
    return WS_OK;
}

enum ws_status trial_read(struct trying *t, struct ws_error *error) {
    struct mark *mark = malloc((size_t)(t->ruler / t->block) * sizeof *mark + 1);
    if (!mark) return ws_fail(error, WS_E_NOMEM, "out of memory for a trial");
    uint64_t bytes = t->ruler + (t->size - t->ruler) / t->gap * t->block;
    ws_pace_start(&t->pace, t->port, t->options->on_progress, t->options->context, bytes);
    struct front front = {t, mark, 0};
    enum ws_status status = trial_each_block(t, t->ruler, mark_block, &front, &t->trial->read_bytes_s, error);
    if (front.marks) qsort(mark, front.marks, sizeof *mark, by_sum);
    if (status == WS_OK) status = sample(t, mark, front.marks, error);
    free(mark);
    return status;
}
