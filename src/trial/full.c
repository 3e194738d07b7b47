/* full.c — every block of a drive written and read back. */
#include "trial/internal.h"

static enum ws_status write_all(struct trying *t, struct ws_error *error) {
    double before = trial_now(t);
    ws_pace_start(&t->pace, t->port, t->options->on_progress, t->options->context, t->size);
    for (uint64_t at = 0; at < t->size;) {
        size_t length = (size_t)ws_min_u64(WS_CHUNK, t->size - at);
        for (size_t i = 0; i < length; i += t->block) trial_fill(t, at + i, t->buffer + i);
        WS_TRY(trial_put(t, at, t->buffer, length, error));
        at += length;
        WS_TRY(trial_tell(t, WS_STEP_WRITING, at, error));
    }
    WS_TRY(trial_settle(t, error));
    double took = trial_now(t) - before;
    if (took > 0) t->trial->write_bytes_s = (double)t->size / took;
    return WS_OK;
}

static enum ws_status judge_block(void *context, uint64_t at, const char *block, struct ws_error *error) {
    struct trying *t = context;
    uint64_t place;
    (void)error;
    if (!block || trial_look(t, at, block, &place) != SEEN_OWN) trial_bad(t, at, t->block, !block);
    return WS_OK;
}

enum ws_status trial_full(struct trying *t, struct ws_error *error) {
    t->trial->bads = 0; /* all of it is looked at again */
    t->trial->bad_more = 0;
    WS_TRY(write_all(t, error));
    ws_pace_start(&t->pace, t->port, t->options->on_progress, t->options->context, t->size);
    return trial_each_block(t, t->size, judge_block, t, &t->trial->read_bytes_s, error);
}
