/* board.c — several drives at work on one screen: a table of a line each, drawn again and again. */
#include "cli/targets.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

enum { PLACE_ROOM = 10, NAME_ROOM = 24, PHASE_ROOM = 11, BAR = 12 };

/* Reading back is about twice as fast as writing, on most sticks; known once it has begun. */
double board_left(const struct target *x, bool checks) {
    const struct ws_progress *p = &x->progress;
    if (p->left_s < 0 || !(p->rate > 0)) return -1;
    const bool writing = p->step == WS_STEP_WRITING || p->step == WS_STEP_FLUSHING;
    return p->left_s + (writing && checks ? (double)p->total / (2 * p->rate) : 0);
}

static const char *phase_of(const struct target *x) {
    switch (x->state) {
    case TARGET_REFUSED: return "refused";
    case TARGET_READY: return "ready";
    case TARGET_AWAY: return "away";
    case TARGET_FAILED: return "failed";
    case TARGET_DONE: return "done";
    default: return ws_step_name(x->progress.step);
    }
}

static enum ink ink_of(const struct target *x) {
    static const enum ink inks[] = {[TARGET_REFUSED] = INK_BAD, [TARGET_READY] = INK_DIM,  [TARGET_AT_WORK] = INK_TEAL,
                                    [TARGET_AWAY] = INK_WARN,   [TARGET_FAILED] = INK_BAD, [TARGET_DONE] = INK_GOOD};
    return inks[x->state];
}

/* What is said behind the phase: how far and how fast, or what became of it. */
static void tell(const struct targets *t, const struct target *x, char *out, size_t room) {
    const struct ws_progress *p = &x->progress;
    char a[32], b[32] = "";
    double left = board_left(x, !t->job->no_check);
    if (x->state == TARGET_AT_WORK && p->step == WS_STEP_FLUSHING) (void)snprintf(out, room, "emptying its cache");
    else if (x->state == TARGET_AT_WORK && p->rate > 0)
        (void)snprintf(out, room, "%s/s%s%s", ws_size_counted((uint64_t)p->rate, a, sizeof a),
                       left >= 0 ? ", left " : "", left >= 0 ? ws_duration(left, b, sizeof b) : "");
    else if (x->state == TARGET_AWAY) (void)snprintf(out, room, "plug it in again, and it goes on");
    else if (x->state == TARGET_DONE)
        (void)snprintf(out, room, "%s in %s", t->job->no_check ? "written" : "written and checked",
                       ws_duration(x->took_s, a, sizeof a));
    else if (x->state == TARGET_FAILED || x->state == TARGET_REFUSED)
        (void)snprintf(out, room, "%.190s", x->error.what);
    else out[0] = '\0';
}

static double part_of(const struct target *x) {
    if (x->state == TARGET_DONE) return 1;
    return x->progress.total ? (double)x->progress.done / (double)x->progress.total : 0;
}

/* How wide the names are that stand there. */
struct widths {
    int place, name;
};
static struct widths widths_of(const struct targets *t, size_t count) {
    struct widths w = {1, 8};
    for (size_t i = 0; i < count; i++) {
        const int place = (int)strlen(t->one[i]->facts.place), name = (int)strlen(t->one[i]->facts.short_name);
        if (place > w.place) w.place = place < PLACE_ROOM ? place : PLACE_ROOM;
        if (name > w.name) w.name = name < NAME_ROOM ? name : NAME_ROOM;
    }
    return w;
}

static void draw_row(const struct targets *t, const struct target *x, struct widths w, int columns) {
    const struct cli *cli = t->cli;
    char said[200], percent[8] = "", bar[BAR * 3 + 1] = "";
    const bool wide = columns >= 90, moves = x->state == TARGET_AT_WORK || x->state == TARGET_DONE;
    size_t n = 0;
    for (int i = 0; i < BAR && wide; i++) {
        const char *c = !moves ? " " : i < (int)(part_of(x) * BAR + 0.5) ? "━" : "╌";
        memcpy(bar + n, c, strlen(c));
        n += strlen(c);
    }
    bar[n] = '\0';
    if (moves) (void)snprintf(percent, sizeof percent, "%3d %%", (int)(part_of(x) * 100));
    tell(t, x, said, sizeof said);
    const int used = 2 + w.place + 2 + w.name + 2 + PHASE_ROOM + (wide ? BAR + 1 : 0) + 5 + 2;
    const int room = columns - used - 1 > 0 ? columns - used - 1 : 0;
    note("\r\033[K  %-*.*s  %-*.*s  %s%-*.*s%s%s%s%5s  %.*s\n", w.place, w.place,
         x->facts.place[0] ? x->facts.place : "-", w.name, w.name, x->facts.short_name, note_ink(cli, ink_of(x)),
         PHASE_ROOM, PHASE_ROOM, phase_of(x), note_ink(cli, INK_PLAIN), bar, wide ? " " : "", percent, room, said);
}

/* The time until the last one is done. */
static double left_of_all(const struct targets *t) {
    double most = 0;
    for (size_t i = 0; i < t->count; i++) {
        if (t->one[i]->state != TARGET_AT_WORK) continue;
        double left = board_left(t->one[i], !t->job->no_check);
        if (left < 0) return -1;
        if (left > most) most = left;
    }
    return most;
}

static void wipe(struct targets *t) {
    if (t->lines) note("\033[%dA\r\033[J", t->lines);
    t->lines = 0;
}

static void draw(struct targets *t, bool last) {
    const struct cli *cli = t->cli;
    if (!t->drawn) note("\n");
    t->drawn = true;
    const int columns = note_columns(), rows = note_rows();
    const size_t most = rows > 6 ? (size_t)rows - 4 : 2;
    const size_t shown = t->count < most ? t->count : most;
    char time[32];
    double left = left_of_all(t);
    wipe(t);
    const struct widths w = widths_of(t, shown);
    for (size_t i = 0; i < shown; i++) draw_row(t, t->one[i], w, columns);
    if (shown < t->count) note("  and %zu more\n", t->count - shown);
    const size_t at_work = targets_in(t, TARGET_AT_WORK), done = targets_in(t, TARGET_DONE);
    if (!last)
        note("  %s%zu of %zu ready, %zu at work%s%s%s\n", note_ink(cli, INK_DIM), done + t->good,
             t->count + t->good + t->bad, at_work, at_work && left >= 0 ? ", left for all " : "",
             at_work && left >= 0 ? ws_duration(left, time, sizeof time) : "", note_ink(cli, INK_PLAIN));
    t->lines = (int)shown + (shown < t->count) + !last;
    if (last) t->lines = 0;
    (void)fflush(stderr);
}

/* Where no terminal is: a line for each quarter of a drive's writing and checking, and for its end. */
static void tell_plainly(struct targets *t) {
    char said[200];
    for (size_t i = 0; i < t->count; i++) {
        struct target *x = t->one[i];
        const struct ws_progress *p = &x->progress;
        const bool ended = x->state == TARGET_DONE || x->state == TARGET_FAILED;
        const bool counts = p->step == WS_STEP_WRITING || p->step == WS_STEP_CHECKING;
        const int quarter = p->total ? (int)(p->done * 4 / p->total) : 0;
        const int now = ended ? 1000 : (int)p->step * 8 + quarter;
        if (now <= x->told || (!ended && (x->state != TARGET_AT_WORK || !counts))) continue;
        x->told = now;
        tell(t, x, said, sizeof said);
        if (ended) note("  %s: %s, %s\n", x->facts.short_name, phase_of(x), said);
        else
            note("  %s: %s %d %%%s%s\n", x->facts.short_name, phase_of(x), (int)(part_of(x) * 100), said[0] ? ", " : "",
                 said);
    }
}

void board_show(struct targets *t, bool last) {
    if (t->cli->progress == PROGRESS_JSON)
        for (size_t i = 0; i < t->count; i++) {
            if (t->one[i]->state == TARGET_AT_WORK)
                progress_line(t->one[i]->facts.short_name, &t->one[i]->progress,
                              board_left(t->one[i], !t->job->no_check));
        }
    else if (t->cli->progress == PROGRESS_NONE) return;
    else if (t->cli->terminal && t->cli->progress == PROGRESS_TABLE) draw(t, last);
    else tell_plainly(t);
}

void board_note(struct targets *t, const char *format, ...) {
    va_list list;
    if (t->cli->progress != PROGRESS_TABLE && t->cli->progress != PROGRESS_LINES) return;
    wipe(t);
    va_start(list, format);
    note_list(format, &list);
    va_end(list);
}
