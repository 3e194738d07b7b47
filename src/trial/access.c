/* access.c — the drive under trial, read and written with account kept. */
#include "trial/internal.h"

bool trial_is_forged(const struct ws_trial *trial) { return trial->forgery != WS_FORGERY_NONE; }

double trial_now(const struct trying *t) { return t->port->ops->steady_clock(t->port); }

void trial_bad(struct trying *t, uint64_t at, uint64_t length, bool unreadable) {
    struct ws_trial *trial = t->trial;
    struct ws_bad_area *last = trial->bads ? &trial->bad[trial->bads - 1] : NULL;
    if (last && last->at + last->length == at && last->unreadable == unreadable) last->length += length;
    else if (trial->bads < WS_TRIAL_AREAS_MOST)
        trial->bad[trial->bads++] = (struct ws_bad_area){at, length, unreadable};
    else trial->bad_more++;
}

enum ws_status trial_get(struct trying *t, uint64_t at, char *out, size_t length, bool *readable,
                         struct ws_error *error) {
    enum ws_status status = t->drive->ops->read(t->drive, at, out, length, error);
    *readable = status == WS_OK;
    t->trial->read += length;
    return status == WS_E_READ ? WS_OK : status;
}

enum ws_status trial_put(struct trying *t, uint64_t at, const char *bytes, size_t length, struct ws_error *error) {
    WS_TRY(t->drive->ops->write(t->drive, at, bytes, length, error));
    t->trial->written += length;
    return WS_OK;
}

enum ws_status trial_each_block(struct trying *t, uint64_t end, trial_visit visit, void *context, double *rate,
                                struct ws_error *error) {
    double before = trial_now(t);
    for (uint64_t at = 0; at < end;) {
        size_t length = (size_t)ws_min_u64(WS_CHUNK, end - at);
        bool readable;
        WS_TRY(trial_get(t, at, t->buffer, length, &readable, error));
        for (size_t i = 0; i < length; i += t->block) {
            bool here = readable;
            if (!readable) WS_TRY(trial_get(t, at + i, t->buffer + i, t->block, &here, error));
            WS_TRY(visit(context, at + i, here ? t->buffer + i : NULL, error));
        }
        at += length;
        WS_TRY(trial_tell(t, WS_STEP_CHECKING, at, error));
    }
    double took = trial_now(t) - before;
    *rate = took > 0 ? (double)end / took : 0;
    return WS_OK;
}

enum ws_status trial_settle(struct trying *t, struct ws_error *error) {
    WS_TRY(t->drive->ops->flush(t->drive, error));
    return t->drive->ops->reread(t->drive, error);
}

enum ws_status trial_tell(struct trying *t, enum ws_step step, uint64_t done, struct ws_error *error) {
    if (ws_pace_tell(&t->pace, step, ws_min_u64(done, t->pace.progress.total))) return WS_OK;
    ws_fail(error, WS_E_CANCELLED, "stopped as asked; the trial is not finished");
    return ws_fail_next(error, t->options->depth == WS_TRIAL_READ ? "nothing was written"
                                                                  : "what was on the drive may be gone already; made "
                                                                    "blank, it is an ordinary one again");
}

uint64_t trial_gap(uint64_t size, size_t block) {
    uint64_t gap = block;
    while (gap * gap < size * block) gap *= 2;
    return gap;
}
