/* pc.c — a simulated PC behind the port's table: power, console, plugs. */
#include "port/sim/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct sim_pc {
    struct ws_pc pc;
    struct ws_bench *bench;
    struct ws_sim_pc *model;
    char plugged[64];
    struct ws_drive *drive;
    struct ws_source *source;
    struct sim_start start;
    struct sim_session *session;
    struct ws_text console; /* not yet read */
    struct ws_text typed;   /* an unfinished line */
    int64_t clock;          /* what it shows; 0: the time it is */
};

static enum ws_status describe(struct ws_pc *pc, struct ws_pc_facts *facts, struct ws_error *error) {
    const struct sim_pc *p = (const struct sim_pc *)pc;
    (void)error;
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->name, sizeof facts->name, "%s", p->model->name);
    facts->firmware = p->model->firmware;
    facts->secure_boot = p->model->secure_boot;
    return WS_OK;
}

static enum ws_status plug(struct ws_pc *pc, const char *drive_id, struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    const struct ws_sim_drive *d = ws_bench_drive(p->bench, drive_id);
    if (!d || d->pulled) return ws_fail(error, WS_E_NOTFOUND, "there is no drive \"%s\" to plug in", drive_id);
    (void)snprintf(p->plugged, sizeof p->plugged, "%s", d->name);
    return WS_OK;
}

static void stop(struct sim_pc *p) {
    sim_session_close(p->session);
    p->session = NULL;
    ws_source_close(p->source);
    p->source = NULL;
    if (p->drive) p->drive->ops->close(p->drive);
    p->drive = NULL;
    ws_text_free(&p->typed);
    ws_text_free(&p->start.console);
}

static enum ws_status unplug(struct ws_pc *pc, struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    (void)error;
    if (p->drive) sim_drive_cut(p->drive);
    stop(p);
    p->plugged[0] = '\0';
    return WS_OK;
}

static enum ws_status power_on(struct ws_pc *pc, struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    stop(p);
    if (!p->plugged[0]) return ws_fail(error, WS_E_USAGE, "no drive is plugged into this PC");
    struct ws_drive_facts facts;
    enum ws_status status;
    WS_GO(sim_drive_open(p->bench, p->plugged, WS_OPEN_WRITE, &p->drive, error));
    WS_GO(ws_source_drive(p->drive, &p->source, error));
    WS_GO(p->drive->ops->describe(p->drive, &facts, error));
    WS_GO(sim_walk(p->source, p->drive, facts.logical_sector, p->model, &p->start, error));
    p->bench->clock_s += 25; /* firmware, menu, kernel */
    ws_text_add(&p->console, p->start.console.data ? p->start.console.data : "", p->start.console.length);
    if (p->start.running) {
        const int64_t now = p->clock ? p->clock : p->bench->began + (int64_t)p->bench->clock_s;
        WS_GO(sim_session_open(p->drive, p->source, &p->start, now, &p->session, error));
        ws_text_puts(&p->console, "# ");
    }
done:
    if (status != WS_OK) stop(p);
    return status;
}

static enum ws_status console_read(struct ws_pc *pc, char *out, size_t room, double wait_s, size_t *got,
                                   struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    (void)error;
    *got = p->console.length < room ? p->console.length : room;
    if (*got == 0) {
        p->bench->clock_s += wait_s;
        return WS_OK;
    }
    memcpy(out, p->console.data, *got);
    memmove(p->console.data, p->console.data + *got, p->console.length - *got);
    p->console.length -= *got;
    return WS_OK;
}

static enum ws_status console_write(struct ws_pc *pc, const char *text, struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    for (; *text && p->session; text++) {
        ws_text_add(&p->console, text, 1); /* the terminal's echo */
        if (*text != '\n') {
            ws_text_add(&p->typed, text, 1);
            continue;
        }
        bool ended = false;
        char *line = p->typed.data ? p->typed.data : "";
        p->bench->clock_s += 0.2;
        enum ws_status status = sim_session_line(p->session, line, &p->console, &ended, error);
        p->typed.length = 0;
        if (p->typed.data) p->typed.data[0] = '\0';
        if (status == WS_E_GONE ||
            status == WS_E_SPACE) { /* the system lives on without its drive, or with a full one */
            ws_text_printf(&p->console, "I/O error: %s\n", error ? error->what : "");
            status = WS_OK;
        }
        WS_TRY(status);
        if (ended) {
            ws_text_puts(&p->console, "Power down.\n");
            sim_session_close(p->session);
            p->session = NULL;
        } else {
            ws_text_puts(&p->console, "# ");
        }
    }
    return WS_OK;
}

static enum ws_status power_off(struct ws_pc *pc, bool clean, struct ws_error *error) {
    struct sim_pc *p = (struct sim_pc *)pc;
    (void)error;
    if (!clean && p->drive) sim_drive_cut(p->drive);
    stop(p);
    p->console.length = 0;
    return ws_bench_save(p->bench, error);
}

static enum ws_status set_clock(struct ws_pc *pc, int64_t at, struct ws_error *error) {
    (void)error;
    ((struct sim_pc *)pc)->clock = at;
    return WS_OK;
}

static void close_pc(struct ws_pc *pc) {
    struct sim_pc *p = (struct sim_pc *)pc;
    stop(p);
    ws_text_free(&p->console);
    free(p);
}

enum ws_status ws_sim_pc(struct ws_bench *bench, const char *name, struct ws_pc **pc, struct ws_error *error) {
    static const struct ws_pc_ops ops = {describe,      plug,      unplug, power_on,  console_read,
                                         console_write, power_off, NULL,   set_clock, close_pc};
    struct ws_sim_pc *model = ws_bench_pc(bench, name);
    if (!model) {
        ws_fail(error, WS_E_NOTFOUND, "there is no PC \"%s\" on this bench", name);
        return ws_fail_next(error, "`satchel bench show` lists the PCs");
    }
    struct sim_pc *p = calloc(1, sizeof *p);
    if (!p) return ws_fail(error, WS_E_NOMEM, "out of memory for a PC");
    p->pc.ops = &ops;
    p->bench = bench;
    p->model = model;
    *pc = &p->pc;
    return WS_OK;
}
