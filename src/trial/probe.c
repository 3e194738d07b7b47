/* probe.c — the real size of a drive, found with few writes; see trial.h for why this finds every one. */
#include "trial/internal.h"

#include <stdlib.h>
#include <string.h>

struct probing {
    struct trying *t;
    uint8_t *lost;       /* one a probe: 1 if it did not come back */
    uint64_t probes;     /* blocks behind the ruler: number i stands at place_of(i) */
    uint64_t alias;      /* smallest distance between a place and the place it shows; 0 none */
    bool alias_of_ruler; /* that place stood in the ruler */
    bool broken;         /* the ruler itself did not come back whole */
};

/* One block at each multiple of the gap behind the ruler, and the drive's last block. */
static uint64_t place_of(const struct probing *p, uint64_t i) {
    const struct trying *t = p->t;
    return i + 1 == p->probes ? t->size - t->block : t->ruler + i * t->gap;
}

static enum ws_status write_probes(struct probing *p, struct ws_error *error) {
    struct trying *t = p->t;
    double before = trial_now(t);
    for (uint64_t i = p->probes; i > 0; i--) { /* the highest first: a place before the real end is written last */
        uint64_t at = place_of(p, i - 1);
        trial_fill(t, at, t->buffer);
        WS_TRY(trial_put(t, at, t->buffer, t->block, error));
        WS_TRY(trial_tell(t, WS_STEP_WRITING, t->trial->written, error));
    }
    WS_TRY(t->drive->ops->flush(t->drive, error));
    double took = trial_now(t) - before;
    t->trial->small_writes_s = took > 0 ? (double)p->probes / took : 0;
    return WS_OK;
}

static enum ws_status write_ruler(struct trying *t, struct ws_error *error) {
    double before = trial_now(t);
    for (uint64_t at = 0; at < t->ruler;) {
        size_t length = (size_t)ws_min_u64(WS_CHUNK, t->ruler - at);
        for (size_t i = 0; i < length; i += t->block) trial_fill(t, at + i, t->buffer + i);
        WS_TRY(trial_put(t, at, t->buffer, length, error));
        at += length;
        WS_TRY(trial_tell(t, WS_STEP_WRITING, t->trial->written, error));
    }
    WS_TRY(trial_settle(t, error));
    double took = trial_now(t) - before;
    t->trial->write_bytes_s = took > 0 ? (double)t->ruler / took : 0;
    return WS_OK;
}

/* Hold one block against what was written there. @return false if the place does not keep its own */
static bool judge(struct probing *p, uint64_t at, const char *block) {
    uint64_t place = 0;
    enum trial_seen seen = trial_look(p->t, at, block, &place);
    uint64_t shown = at; /* where in the drive the block that was recognised begins */
    for (size_t i = 512; seen == SEEN_FOREIGN && i < p->t->block; i += 512)
        if (memcmp(block + i, p->t->id, 16) == 0) { /* pieces of two neighbours: the real end is inside a block */
            place = ws_load_le64((const uint8_t *)block + i + 16);
            shown = at + i;
            if (place != shown && place < p->t->size) seen = SEEN_OTHER;
            break;
        }
    if (seen == SEEN_OTHER) {
        uint64_t distance = shown > place ? shown - place : place - shown;
        bool of_ruler = place < p->t->ruler; /* two places past the end may also show each other: that says less */
        if (!p->alias || (of_ruler && !p->alias_of_ruler) || (of_ruler == p->alias_of_ruler && distance < p->alias))
            p->alias = distance;
        p->alias_of_ruler |= of_ruler;
    }
    return seen == SEEN_OWN;
}

static enum ws_status judge_ruler(void *context, uint64_t at, const char *block, struct ws_error *error) {
    struct probing *p = context;
    (void)error;
    if (block && judge(p, at, block)) return WS_OK;
    p->broken = true;
    trial_bad(p->t, at, p->t->block, !block);
    return WS_OK;
}

static enum ws_status read_probes(struct probing *p, struct ws_error *error) {
    struct trying *t = p->t;
    for (uint64_t i = 0; i < p->probes; i++) {
        bool readable;
        WS_TRY(trial_get(t, place_of(p, i), t->buffer, t->block, &readable, error));
        p->lost[i] = !readable ? 2 : !judge(p, place_of(p, i), t->buffer);
        WS_TRY(trial_tell(t, WS_STEP_CHECKING, t->trial->read, error));
    }
    return WS_OK;
}

/* Does a place keep what is written there now? */
static enum ws_status keeps(struct trying *t, uint64_t at, bool *kept, struct ws_error *error) {
    uint64_t place;
    trial_fill(t, at, t->buffer);
    WS_TRY(trial_put(t, at, t->buffer, t->block, error));
    WS_TRY(trial_settle(t, error));
    WS_TRY(trial_get(t, at, t->buffer, t->block, kept, error));
    *kept = *kept && trial_look(t, at, t->buffer, &place) == SEEN_OWN;
    return WS_OK;
}

/* Everything from some probe on is lost: halve the distance between the last that came back and the first that did
 * not until the real end is found to the block. */
static enum ws_status find_end(struct probing *p, uint64_t first_lost, struct ws_error *error) {
    struct trying *t = p->t;
    uint64_t good = first_lost ? place_of(p, first_lost - 1) : p->broken ? 0 : t->ruler - t->block;
    uint64_t lost = place_of(p, first_lost);
    while (lost - good > t->block) {
        uint64_t middle = good + (lost - good) / 2 / t->block * t->block;
        bool kept;
        WS_TRY(keeps(t, middle, &kept, error));
        if (kept) good = middle;
        else lost = middle;
    }
    t->trial->forgery = WS_FORGERY_DROP;
    t->trial->holds = lost;
    return WS_OK;
}

/* The distance found may be a multiple of the real size, when what lay between was overwritten: try its parts. */
static enum ws_status divide_alias(struct probing *p, struct ws_error *error) {
    static const unsigned parts[] = {2, 3, 5, 7};
    struct trying *t = p->t;
    for (size_t i = 0; i < sizeof parts / sizeof parts[0];) {
        uint64_t part = p->alias / parts[i];
        uint64_t place = 0;
        bool readable = false;
        if (p->alias % (parts[i] * t->block) == 0) {
            for (uint64_t at = 0; at <= part; at += part) {
                trial_fill(t, at, t->buffer);
                WS_TRY(trial_put(t, at, t->buffer, t->block, error));
            }
            WS_TRY(trial_settle(t, error));
            WS_TRY(trial_get(t, 0, t->buffer, t->block, &readable, error));
        }
        if (readable && trial_look(t, 0, t->buffer, &place) == SEEN_OTHER && place == part) p->alias = part;
        else i++;
    }
    return WS_OK;
}

static void forget_bad_areas(struct trying *t) {
    t->trial->bads = 0; /* what seemed altered was the forgery */
    t->trial->bad_more = 0;
}

/* The real end lies inside the ruler, a hundredth of the drive at most: the same again with the ruler as the drive. */
static enum ws_status look_closer(struct probing *p, struct ws_error *error) {
    struct trying *t = p->t;
    struct ws_trial was = *t->trial;
    t->size = t->ruler;
    t->ruler = t->gap = trial_gap(t->size, t->block);
    forget_bad_areas(t);
    WS_TRY(trial_sample(t, error));
    t->trial->read_bytes_s = was.read_bytes_s;
    t->trial->write_bytes_s = was.write_bytes_s;
    t->trial->small_writes_s = was.small_writes_s;
    if (!trial_is_forged(t->trial)) { /* it just did not show again */
        t->trial->forgery = p->alias ? WS_FORGERY_ALIAS : WS_FORGERY_DROP;
        t->trial->holds = t->size;
    }
    return WS_OK;
}

static enum ws_status conclude(struct probing *p, struct ws_error *error) {
    struct trying *t = p->t;
    uint64_t tail = p->probes; /* the probes from here on are all lost */
    while (tail > 0 && p->lost[tail - 1]) tail--;
    if (p->broken && (p->alias || tail == 0) && trial_gap(t->ruler, t->block) < t->ruler) return look_closer(p, error);
    if (p->alias) {
        WS_TRY(divide_alias(p, error));
        t->trial->forgery = WS_FORGERY_ALIAS;
        t->trial->holds = p->alias;
        forget_bad_areas(t);
        return WS_OK;
    }
    bool readable_tail = false;
    for (uint64_t i = tail; i < p->probes; i++) readable_tail |= p->lost[i] == 1;
    bool dropped = p->probes - tail >= 2 || (p->probes - tail == 1 && readable_tail);
    if (dropped && p->broken && tail == 0) forget_bad_areas(t);
    if (dropped) WS_TRY(find_end(p, tail, error));
    for (uint64_t i = 0; i < (dropped ? tail : p->probes); i++)
        if (p->lost[i]) trial_bad(t, place_of(p, i), t->block, p->lost[i] == 2);
    return WS_OK;
}

enum ws_status trial_sample(struct trying *t, struct ws_error *error) {
    struct probing p = {.t = t};
    enum ws_status status;
    p.probes = ws_div_up(t->size - t->ruler, t->gap);
    /* the last block besides: in the place of a multiple it would leave sizes between them unseen */
    bool ends = p.probes && t->ruler + (p.probes - 1) * t->gap == t->size - t->block;
    if (!ends) p.probes++;
    p.lost = calloc((size_t)p.probes, 1);
    if (!p.lost) return ws_fail(error, WS_E_NOMEM, "out of memory for a trial");
    uint64_t bytes = t->ruler + p.probes * t->block;
    ws_pace_start(&t->pace, t->port, t->options->on_progress, t->options->context, bytes);
    WS_GO(write_probes(&p, error));
    WS_GO(write_ruler(t, error));
    ws_pace_start(&t->pace, t->port, t->options->on_progress, t->options->context, bytes);
    WS_GO(trial_each_block(t, t->ruler, judge_ruler, &p, &t->trial->read_bytes_s, error));
    WS_GO(read_probes(&p, error));
    status = conclude(&p, error);
done:
    free(p.lost);
    return status;
}
