/* come.c — satchel prepare --as-they-come: every drive that is plugged in and is like it was said, until stopped. */
#include "cli/secret.h"
#include "cli/targets.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SEEN_MOST = 256 };
static const double LOOK_S = 1, GLANCE_S = 0.2;

/* Drives that are plugged in, by identity and place. */
struct seen {
    char who[SEEN_MOST][160];
    size_t count;
};
/* One that is done: plugged in again it stays as it is. Without a serial number it is known by what was laid down: the
 * first piece of each of its parts, identifiers among them. A plain copy has none of its own, and is not known again.
 */
struct done {
    char name[64];
    bool by_name;
    struct ws_digest_piece piece[WS_LAYOUT_PARTS];
    size_t pieces;
};
struct coming {
    struct targets *t;
    struct seen before, now;
    struct ws_drive_facts fresh[TARGETS_MOST];
    size_t fresh_count;
    struct done ready[SEEN_MOST];
    size_t ready_count;
    bool first;
};

/* Sticks sold as 32 GB hold between 29 and 34. */
static bool is_like(const struct prepare_job *job, const struct ws_drive_facts *f) {
    for (size_t i = 0; job->like[i]; i++) {
        uint64_t size = 0;
        struct ws_error ignored;
        if (ws_size_parse(job->like[i], &size, &ignored) == WS_OK) {
            const double ratio = (double)f->size / (double)(size ? size : 1);
            if (ratio < 0.92 || ratio > 1.08) return false;
        } else if (!ws_word_holds(f->model, job->like[i])) {
            return false;
        }
    }
    return true;
}

static bool is_known(const struct seen *s, const char *who) {
    for (size_t i = 0; i < s->count; i++)
        if (strcmp(s->who[i], who) == 0) return true;
    return false;
}

static bool visit(void *context, const struct ws_drive_facts *f) {
    struct coming *c = context;
    struct ws_drive_facts own = *f;
    char who[160];
    if (!f->serial[0]) ws_drive_call_by_place(&own); /* another that looks like it may come any moment */
    (void)snprintf(who, sizeof who, "%.63s %.90s", own.short_name, f->place[0] ? f->place : f->id);
    if (c->now.count < SEEN_MOST) memcpy(c->now.who[c->now.count++], who, sizeof who);
    if (c->first || is_known(&c->before, who) || c->fresh_count == TARGETS_MOST) return true;
    c->fresh[c->fresh_count++] = own;
    return true;
}

static enum ws_status look_round(struct coming *c) {
    struct cli *cli = c->t->cli;
    c->now.count = c->fresh_count = 0;
    WS_TRY(ws_drives_list(cli->port, visit, c, &cli->error));
    c->before = c->now;
    c->first = false;
    return WS_OK;
}

static void note_done(struct coming *c, const struct target *x) {
    const struct ws_plan_facts *p = ws_plan_facts(ws_build_plan(targets_build(c->t, x)));
    if (c->ready_count == SEEN_MOST) return;
    struct done *d = &c->ready[c->ready_count++];
    (void)snprintf(d->name, sizeof d->name, "%s", x->facts.short_name);
    d->by_name = x->facts.serial[0] != '\0';
    uint32_t seen = 0;
    for (size_t i = 0; i < x->pieces.count && p->kind != WS_KIND_REPLICA; i++) {
        const struct ws_digest_piece *piece = &x->pieces.list[i];
        if (seen >> piece->part & 1) continue;
        seen |= 1u << piece->part;
        d->piece[d->pieces++] = *piece;
    }
}

static bool holds(const struct ws_source *source, const struct done *d, char *buffer) {
    struct ws_error ignored;
    bool all = d->pieces > 0;
    for (size_t i = 0; i < d->pieces && all; i++) {
        uint8_t sha256[32];
        const struct ws_digest_piece *p = &d->piece[i];
        all = ws_source_read(source, p->at, buffer, p->length, &ignored) == WS_OK &&
              ws_digests_of(NULL, p, 0, buffer, sha256) && memcmp(sha256, p->sha256, 32) == 0;
    }
    return all;
}

static bool was_done(struct coming *c, const struct ws_drive_facts *f) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    char *buffer = f->serial[0] ? NULL : malloc(WS_DIGEST_BYTES);
    bool done = false, open = buffer && cli_open_now(c->t->cli, f, &drive, &source) == WS_OK;
    for (size_t i = 0; i < c->ready_count && !done; i++) {
        const struct done *d = &c->ready[i];
        done = d->by_name ? strcmp(d->name, f->short_name) == 0 : open && holds(source, d, buffer);
    }
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    free(buffer);
    return done;
}

static bool needs_passwords(const struct targets *t) {
    return t->request->owner.accounts || ws_request_locks(t->request);
}

/* They are asked for once, when the first drive has come: what it is made from knows whose. */
static enum ws_status check_passwords(struct targets *t) {
    struct cli *cli = t->cli;
    secret_keep();
    if (!needs_passwords(t) || t->job->password_fd || (isatty(STDIN_FILENO) && cli->terminal && !cli->json))
        return WS_OK;
    ws_fail(&cli->error, WS_E_USAGE, "passwords are needed, and none were given");
    return ws_fail_hint(&cli->error, WS_HINT_PASSWORDS, "", "give them");
}

static enum ws_status give_secrets(struct targets *t, struct target *x) {
    struct ws_build *build = targets_build(t, x);
    if (!needs_passwords(t) && !t->job->password_fd && !t->job->recovery_fd) return WS_OK;
    WS_TRY(secret_give(t->cli, &build, 1, t->job->password_fd));
    if (!t->job->recovery_fd) return WS_OK; /* no terminal shows them all */
    return secret_recovery(t->cli, build, t->job->recovery_fd, x->facts.short_name);
}

static enum ws_status take_in(struct coming *c) {
    struct targets *t = c->t;
    for (size_t i = 0; i < c->fresh_count; i++) {
        const struct ws_drive_facts *f = &c->fresh[i];
        const struct target *known = targets_find(t, f->short_name);
        if (known && known->state == TARGET_AWAY) continue; /* it goes on by itself */
        if (!is_like(t->job, f)) {
            board_note(t, "  %s is not like it was said, and is left alone\n", f->short_name);
            continue;
        }
        if (was_done(c, f)) {
            board_note(t, "  %s is ready already\n", f->short_name);
            continue;
        }
        struct target *x = targets_add(t, f);
        if (!x) board_note(t, "  %s: no more than %d at once\n", f->short_name, TARGETS_MOST);
        if (x && x->state == TARGET_READY) WS_TRY(give_secrets(t, x));
        WS_TRY(targets_begin(t));
    }
    return WS_OK;
}

static enum ws_status confirm(struct targets *t) {
    struct cli *cli = t->cli;
    struct ws_text rule = {0}, confirms = {0};
    bool all = true;
    for (size_t i = 0; t->job->like[i]; i++) {
        bool said = false;
        for (size_t k = 0; t->job->confirm && t->job->confirm[k]; k++)
            said |= strcmp(t->job->confirm[k], t->job->like[i]) == 0;
        all &= said;
        ws_text_printf(&rule, "%s%s", i ? " and " : "", t->job->like[i]);
        ws_text_printf(&confirms, " --confirm %s", t->job->like[i]);
    }
    const char *words = rule.data ? rule.data : "";
    enum ws_status status = WS_OK;
    if (!all && (t->job->confirm || !isatty(STDIN_FILENO) || !cli->terminal || cli->json)) {
        ws_fail(&cli->error, WS_E_REFUSED, "the rule was not confirmed; nothing was written");
        status = ws_fail_next(&cli->error, "confirm each part of it:%.200s", confirms.data ? confirms.data : "");
    } else if (!all) {
        note("\n  Every drive like %s that is plugged in from now on loses all that it holds, without a further "
             "question.\n",
             words);
        status = cli_ask_for(cli, "Type \"as they come\" to go on", "as they come");
    }
    ws_text_free(&rule);
    ws_text_free(&confirms);
    return status;
}

/* Those that have ended make room, and are told. */
static void sweep(struct coming *c, int *code) {
    struct targets *t = c->t;
    for (size_t i = 0; i < t->count;) {
        struct target *x = t->one[i];
        if (x->state != TARGET_DONE && x->state != TARGET_FAILED && x->state != TARGET_REFUSED) {
            i++;
            continue;
        }
        const bool good = x->state == TARGET_DONE && !x->forgets;
        board_note(t, "  %s %s%s%s\n", x->facts.short_name,
                   good ? "is ready: the next, please" : "is not ready: ", good ? "" : x->error.what,
                   x->released ? " (safe to unplug)" : "");
        if (good) note_done(c, x);
        if (!good && cli_exit_code(x->error.status) > *code) *code = cli_exit_code(x->error.status);
        targets_end(t, i);
    }
}

static bool enough(const struct coming *c) {
    const int count = c->t->job->count;
    return (count && c->t->good >= (size_t)count) || (c->t->stopping && !targets_in(c->t, TARGET_AT_WORK));
}

int targets_as_they_come(struct targets *t) {
    struct cli *cli = t->cli;
    struct coming *c = calloc(1, sizeof *c);
    double looked_s = 0;
    int code = EXIT_DONE;
    enum ws_status status;
    if (!c) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a list of drives"));
    *c = (struct coming){.t = t, .first = true};
    WS_GO(check_passwords(t));
    if (!cli->port->ops->watch || !cli->port->ops->pause)
        WS_GO(ws_fail(&cli->error, WS_E_UNSUPPORTED, "nothing here tells when a drive is plugged in"));
    WS_GO(look_round(c));
    WS_GO(confirm(t));
    stop_listen();
    t->began_s = cli->port->ops->steady_clock(cli->port);
    if (!cli->json) note("  Plug them in, in any number; Ctrl-C when the last is done.\n");
    while (!enough(c)) {
        const bool busy = targets_look(t);
        if (stop_asked()) t->stopping = true;
        targets_prove(t);
        sweep(c, &code);
        board_show(t, false);
        const double now = cli->port->ops->steady_clock(cli->port);
        if (!t->stopping && now - looked_s >= LOOK_S) {
            looked_s = now;
            WS_GO(look_round(c));
            WS_GO(take_in(c));
        }
        if (busy) (void)cli->port->ops->pause(cli->port, GLANCE_S);
        else WS_GO(cli->port->ops->watch(cli->port, LOOK_S, &cli->error));
    }
    targets_wait(t);
    targets_prove(t);
    sweep(c, &code);
    code = targets_conclude(t, code);
done:
    secret_forget();
    free(c);
    return status == WS_OK ? code : cli_fail(cli);
}
