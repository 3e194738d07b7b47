/* meter.c — how far long work has got: one line that is redrawn, lines now and then, or JSON, on standard error. */
#include "cli/cli.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

enum { BAR_MOST = 24, BAR_LEAST = 6, COLUMNS_USUAL = 80, ROWS_USUAL = 24 };

int note_columns(void) {
    struct winsize size;
    return ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 20 ? size.ws_col : COLUMNS_USUAL;
}

int note_rows(void) {
    struct winsize size;
    return ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_row >= 4 ? size.ws_row : ROWS_USUAL;
}

void progress_line(const char *drive, const struct ws_progress *p, double left_s) {
    progress_step(ws_step_name(p->step), drive, p, left_s);
}

void progress_step(const char *step, const char *drive, const struct ws_progress *p, double left_s) {
    json_t *line =
        cli_pack("{s:o, s:s, s:I, s:I, s:f, s:f, s:o}", "drive", drive ? cli_text(drive) : json_null(), "step", step,
                 "done_bytes", (json_int_t)p->done, "total_bytes", (json_int_t)p->total, "elapsed_s", p->elapsed_s,
                 "bytes_s", p->rate, "left_s", left_s >= 0 ? json_real(left_s) : json_null());
    char *text = line ? json_dumps(line, JSON_COMPACT | JSON_PRESERVE_ORDER) : NULL;
    if (text) note("%s\n", text);
    free(text);
    json_decref(line);
}

/* Of this step, and of the check that follows: reading back is about twice as fast as writing, on most sticks. */
static double left_of(const struct meter *m, const struct ws_progress *p) {
    const bool writes = p->step == WS_STEP_WRITING || p->step == WS_STEP_FLUSHING;
    if (p->left_s < 0 || !(p->rate > 0)) return -1;
    return p->left_s + (writes && m->checks ? (double)p->total / (2 * p->rate) : 0);
}

/* As much of it as the line has room for. */
static void draw(struct meter *m, const struct ws_progress *p) {
    char done[24], total[24], rate[24] = "", left[32], said[120], bar[BAR_MOST * 3 + 1] = "";
    const double part = p->total ? (double)p->done / (double)p->total : 1;
    const int columns = note_columns();
    const double left_s = left_of(m, p);
    int n = snprintf(said, sizeof said, "%s of %s", ws_size_counted(p->done, done, sizeof done),
                     ws_size_counted(p->total, total, sizeof total));
    if (p->step == WS_STEP_FLUSHING) (void)snprintf(said, sizeof said, "waiting for the drive to empty its cache");
    else if (p->rate > 0)
        (void)snprintf(said + n, sizeof said - (size_t)n, " · %s/s%s%s%s",
                       ws_size_counted((uint64_t)p->rate, rate, sizeof rate), left_s >= 0 ? " · " : "",
                       left_s >= 0 ? ws_duration(left_s, left, sizeof left) : "", left_s >= 0 ? " left" : "");
    const int used = 2 + 9 + 1 + 5 + 2; /* blanks, step, percent */
    int room = columns - 1 - used - (int)strlen(said) - 1;
    if (room > BAR_MOST) room = BAR_MOST;
    size_t bytes = 0;
    for (int i = 0; i < room && room >= BAR_LEAST; i++) {
        const char *c = i < (int)(part * room + 0.5) ? "━" : "╌";
        memcpy(bar + bytes, c, strlen(c));
        bytes += strlen(c);
    }
    bar[bytes] = '\0';
    note("\r\033[K  %-9s %s%s%3d %%  %.*s", ws_step_name(p->step), bar, bytes ? " " : "", (int)(part * 100),
         columns - used - 1 > 0 ? columns - used - 1 : 1, said);
    (void)fflush(stderr);
    m->any = true;
}

static void tell_line(struct meter *m, const struct ws_progress *p, bool fresh) {
    char done[24], total[24], time[32];
    int tenths = p->total ? (int)(p->done * 4 / p->total) : 4;
    if (p->step == WS_STEP_FLUSHING && fresh && p->done == p->total && p->total)
        note("  flushing         waiting for the drive to empty its cache\n");
    const bool big = p->step == WS_STEP_WRITING || p->step == WS_STEP_CHECKING;
    if (big && (fresh || tenths != m->told)) {
        if (tenths == 4 || fresh || tenths > m->told)
            note("  %-9s %3d %%  %s of %s, %s\n", ws_step_name(p->step),
                 p->total ? (int)(p->done * 100 / p->total) : 100, ws_size_counted(p->done, done, sizeof done),
                 ws_size_counted(p->total, total, sizeof total), ws_duration(p->elapsed_s, time, sizeof time));
        m->told = tenths;
    }
    m->any = true;
}

bool meter_tell(void *context, const struct ws_progress *p) {
    struct meter *m = context;
    const enum progress how = m->cli->progress;
    const bool fresh = !m->any || p->step != m->last;
    const bool due = fresh || p->elapsed_s - m->drawn_s >= (how == PROGRESS_JSON ? 0.5 : 0.1) || p->done >= p->total;
    const bool new_line = fresh && m->any && (p->step == WS_STEP_CHECKING) != (m->last == WS_STEP_CHECKING);
    if (how == PROGRESS_TABLE && due) {
        if (new_line) note("\n");
        draw(m, p);
    } else if (how == PROGRESS_JSON && due) {
        progress_line(m->drive, p, left_of(m, p));
        m->any = true;
    } else if (how == PROGRESS_LINES) {
        tell_line(m, p, fresh);
    }
    if (due) m->drawn_s = p->elapsed_s;
    m->last = p->step;
    return !stop_asked();
}

void meter_end(struct meter *m) {
    if (m->any && m->cli->progress == PROGRESS_TABLE) note("\n");
}
