/* prepare.c — satchel prepare: planned, shown, asked once, built, checked and proved, on one drive or many at once. */
#include "cli/commands.h"
#include "cli/jobs.h"
#include "cli/record.h"
#include "cli/secret.h"
#include "cli/targets.h"
#include "cli/wishes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static struct prepare_job asked;
const struct poptOption prepare_options[] = {
    {"drive", 'd', POPT_ARG_ARGV, &asked.drives, 0,
     "a drive: its name, where it is plugged in, or its path; once for each. Without: the only one that may be used, "
     "or "
     "the next that is plugged in",
     "DRIVE"},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)wish_options, 0, NULL, NULL},
    {"for", 'f', POPT_ARG_STRING, &asked.pc, 0,
     "where it must start: bios, uefi, secure (Secure Boot on), here, or a PC of the bench", "PC"},
    {"confirm", 'c', POPT_ARG_ARGV, &asked.confirm, 0, "a drive's own name, for scripts; once for each", "NAME"},
    {"prove", 0, POPT_ARG_STRING, &asked.prove, 0,
     "start it twice on this PC and see that it remembers, as `prove` does", "PC"},
    {"release", 0, POPT_ARG_NONE, &asked.release, 0, "make each ready to be unplugged when it is done", NULL},
    {"then", 0, POPT_ARG_STRING, &asked.then, 0,
     "run this by the shell at the end; WILD_SATCHEL_RESULT says good or bad, WILD_SATCHEL_DRIVES which were prepared",
     "COMMAND"},
    {"bell", 0, POPT_ARG_NONE, &asked.bell, 0, "ring the terminal's bell at the end", NULL},
    {"keep-in", 0, POPT_ARG_STRING, &asked.keep_in, 0, "the folder for plans and records (this one)", "FOLDER"},
    {"as-they-come", 0, POPT_ARG_NONE, &asked.as_they_come, 0,
     "every drive that is plugged in from now on and is --like this, until stopped; confirmed once", NULL},
    {"like", 0, POPT_ARG_ARGV, &asked.like, 0, "of which size or model; both, if given twice", "SIZE|MODEL"},
    {"count", 0, POPT_ARG_INT, &asked.count, 0, "with --as-they-come: stop after so many", "N"},
    {"password-fd", 0, POPT_ARG_STRING, &asked.password_fd, 0,
     "read the accounts' passwords, and the passphrase, from this open file, a line each; for all drives", "NUMBER"},
    {"recovery-fd", 0, POPT_ARG_STRING, &asked.recovery_fd, 0,
     "write the recovery keys of what is locked to this open file, a line for each drive, in their order; with "
     "--as-they-come each behind the drive's name",
     "NUMBER"},
    {"external-disk", 0, POPT_ARG_NONE, &asked.external, 0, "external hard drives or SSDs are really meant", NULL},
    {"no-check", 0, POPT_ARG_NONE, &asked.no_check, 0, "do not read back what was written", NULL},
    {"even-so", 0, POPT_ARG_NONE, &asked.even_so, 0, "carry out plans that have a fault", NULL},
    {"afresh", 0, POPT_ARG_NONE, &asked.afresh, 0, "start at the beginning even if an earlier build can be continued",
     NULL},
    POPT_TABLEEND};

/* What goes with what. */
static enum ws_status check_wishes(struct cli *cli) {
    const bool rule = asked.like != NULL;
    if (!wished.image && !wished.request) {
        ws_fail(&cli->error, WS_E_USAGE, "prepare needs --image FILE, or --request FILE");
        return ws_fail_next(&cli->error, "satchel prepare --image FILE --drive DRIVE");
    }
    if (wished.kind && (strcmp(wished.kind, "renewal") == 0 || strcmp(wished.kind, "twin") == 0)) {
        ws_fail(&cli->error, WS_E_USAGE, "prepare makes drives from an image");
        return ws_fail_next(&cli->error, strcmp(wished.kind, "twin") == 0
                                             ? "satchel twin SOURCE --drive DRIVE"
                                             : "satchel plan --kind renewal --image FILE --drive DRIVE --save PLAN");
    }
    if (asked.as_they_come && !rule) {
        ws_fail(&cli->error, WS_E_USAGE, "--as-they-come needs a rule: which drives are meant");
        return ws_fail_next(&cli->error, "--like 32GB, --like \"Gorse 32\", or both");
    }
    if (asked.as_they_come && asked.drives)
        return ws_fail(&cli->error, WS_E_USAGE, "--as-they-come takes what is plugged in from now on, and no --drive");
    if (!asked.as_they_come && (rule || asked.count))
        return ws_fail(&cli->error, WS_E_USAGE, "%s goes with --as-they-come", rule ? "--like" : "--count");
    for (size_t i = 0; asked.like && asked.like[i]; i++)
        if (!asked.like[i][0])
            return ws_fail(&cli->error, WS_E_USAGE, "--like says a size or a model, and not nothing");
    if (asked.count < 0) return ws_fail(&cli->error, WS_E_USAGE, "--count takes a number of drives, from 1 on");
    return WS_OK;
}

/* All drives that may be used. */
struct usable {
    struct cli *cli;
    struct ws_drive_facts first;
    size_t count;
    struct ws_text names;
};
static bool is_usable(void *context, const struct ws_drive_facts *f) {
    struct usable *u = context;
    struct ws_target_rules rules = {asked.external != 0};
    if (ws_drive_may_be_target(u->cli->port, f, &rules, NULL) != WS_OK) return true;
    if (!u->count++) u->first = *f;
    ws_text_printf(&u->names, "%s%s", u->names.length ? ", " : "", f->short_name);
    return true;
}

/* The only one, or the next that is plugged in. */
static enum ws_status choose(struct cli *cli, struct ws_drive_facts *facts) {
    struct usable u = {.cli = cli};
    bool told = false;
    enum ws_status status;
    for (;;) {
        u.count = 0;
        ws_text_free(&u.names);
        WS_GO(ws_drives_list(cli->port, is_usable, &u, &cli->error));
        if (u.count) break;
        if (!cli->port->ops->watch) {
            ws_fail(&cli->error, WS_E_NOTFOUND, "no drive here may be used");
            WS_GO(ws_fail_hint(&cli->error, WS_HINT_DRIVES, "", "look why"));
        }
        if (!told)
            note("  Plug the stick in now; Ctrl-C gives up. (satchel drives tells why others may not be used.)\n");
        if (!told) stop_listen();
        told = true;
        WS_GO(cli->port->ops->watch(cli->port, 1, &cli->error));
        if (stop_asked()) WS_GO(ws_fail(&cli->error, WS_E_CANCELLED, "stopped as asked; nothing was written"));
    }
    if (u.count == 1) {
        *facts = u.first;
        status = WS_OK;
        if (!cli->json) note("  %s is the only drive that may be used.\n", facts->short_name);
        goto done;
    }
    ws_fail(&cli->error, WS_E_USAGE, "%zu drives may be used, and none is named: %s", u.count,
            u.names.data ? u.names.data : "");
    status = ws_fail_next(&cli->error, "name one with --drive, or several, each with its own");
done:
    ws_text_free(&u.names);
    return status;
}

static struct target *add_known(struct targets *t, const struct ws_drive_facts *facts) {
    struct target *x = targets_add(t, facts);
    if (!x) ws_fail(&t->cli->error, WS_E_RANGE, "at most %d drives are prepared at once", TARGETS_MOST);
    return x;
}

static enum ws_status add_drives(struct targets *t) {
    struct cli *cli = t->cli;
    struct ws_drive_facts facts;
    if (!asked.drives) {
        WS_TRY(choose(cli, &facts));
        return add_known(t, &facts) ? WS_OK : cli->error.status;
    }
    for (size_t i = 0; asked.drives[i]; i++) {
        WS_TRY(cli_find_drive(cli, asked.drives[i], &facts));
        if (targets_find(t, facts.short_name))
            return ws_fail(&cli->error, WS_E_USAGE, "%s is named twice", facts.short_name);
        if (!add_known(t, &facts)) return cli->error.status;
    }
    return WS_OK;
}

/* What will be lost, and what each will be. */
static void show_many(const struct targets *t) {
    const struct cli *cli = t->cli;
    char size[48], room[48];
    say("\n");
    show_row(cli, 71, "  %s%-10s %-24s %-20s %-12s\t%s%s", ink(cli, INK_DIM), "place", "name", "size", "remembers in",
             "will be lost", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < t->count; i++) {
        const struct target *x = t->one[i];
        const struct ws_plan *p = x->state == TARGET_READY ? ws_build_plan(targets_build(t, x)) : NULL;
        const struct ws_volume *v = p ? ws_plan_volume(p, WS_ROLE_PERSISTENCE) : NULL;
        show_row(cli, 71, "  %-10s %-24s %-20s %-12s\t%s%s%s", x->facts.place[0] ? x->facts.place : "-",
                 x->facts.short_name, ws_size_both(x->facts.size, size, sizeof size),
                 v ? ws_size_counted(v->size, room, sizeof room) : "-", ink(cli, p ? INK_PLAIN : INK_BAD),
                 p ? x->holds : x->error.what, ink(cli, INK_PLAIN));
    }
}

static void show_targets(struct targets *t) {
    struct cli *cli = t->cli;
    const struct ws_source *image = t->input[WS_INPUT_IMAGE];
    struct target *first = NULL;
    if (cli->json) return;
    for (size_t i = 0; i < t->count && !first; i++)
        if (t->one[i]->state == TARGET_READY) first = t->one[i];
    if (first) plan_show(cli, targets_build(t, first), &first->facts, image ? image->size : 0);
    if (t->count > 1) {
        if (first)
            show_row(cli, 2,
                     "\n  The other drives get the same, each with identifiers of its own and sizes that fit it.");
        show_many(t);
    }
    (void)fflush(stdout);
}

static bool is_among(const char *const *list, const char *word) {
    for (size_t i = 0; list && list[i]; i++)
        if (strcmp(list[i], word) == 0) return true;
    return false;
}

static void refuse_unconfirmed(struct cli *cli, const struct targets *t) {
    struct ws_text names = {0};
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_READY) ws_text_printf(&names, " --confirm %s", t->one[i]->facts.short_name);
    ws_fail(&cli->error, WS_E_REFUSED, "not every drive was confirmed by its own name; nothing was written");
    ws_fail_next(&cli->error, "confirm with%.200s", names.data ? names.data : "");
    ws_text_free(&names);
}

/* One is confirmed by its name, many by their number: they were shown. */
static enum ws_status ask(struct targets *t) {
    struct cli *cli = t->cli;
    const size_t ready = targets_in(t, TARGET_READY);
    char wanted[80], question[120];
    const struct target *only = NULL;
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_READY) only = t->one[i];
    for (size_t i = 0; asked.confirm && asked.confirm[i]; i++)
        if (!targets_find(t, asked.confirm[i]))
            return ws_fail(&cli->error, WS_E_USAGE, "--confirm %.60s: no drive of this name is to be prepared",
                           asked.confirm[i]);
    bool all = true;
    for (size_t i = 0; i < t->count; i++)
        all &= t->one[i]->state != TARGET_READY || is_among(asked.confirm, t->one[i]->facts.short_name);
    if (all) return WS_OK;
    if (asked.confirm || !isatty(STDIN_FILENO) || !cli->terminal || cli->json) {
        refuse_unconfirmed(cli, t);
        return cli->error.status;
    }
    if (ready == 1) {
        (void)snprintf(wanted, sizeof wanted, "%s", only->facts.short_name);
        note("\n  Everything on %s will be lost: %s.\n", only->facts.short_name, only->holds);
        (void)snprintf(question, sizeof question, "Type its name to go on");
    } else {
        (void)snprintf(wanted, sizeof wanted, "all %zu", ready);
        note("\n  Everything on these %zu drives will be lost.\n", ready);
        (void)snprintf(question, sizeof question, "Type \"%s\" to go on", wanted);
    }
    return cli_ask_for(cli, question, wanted);
}

static enum ws_status give_secrets(struct targets *t) {
    struct ws_build *build[TARGETS_MOST];
    size_t n = 0;
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_READY) build[n++] = targets_build(t, t->one[i]);
    if (!n) return WS_OK;
    WS_TRY(secret_give(t->cli, build, n, asked.password_fd));
    for (size_t i = 0; i < n && (n == 1 || asked.recovery_fd); i++) /* a terminal shows but one */
        WS_TRY(secret_recovery(t->cli, build[i], asked.recovery_fd, NULL));
    return WS_OK;
}

static json_t *error_json(const struct ws_error *e) {
    return cli_pack("{s:s, s:s, s:s, s:s, s:o}", "status", ws_status_name(e->status), "what", e->what, "where",
                    e->where, "next", e->next, "ways", ways_json(e));
}

static json_t *target_json(const struct targets *t, const struct target *x) {
    static const char *const words[] = {"refused", "ready", "at-work", "away", "failed", "done"};
    const bool done = x->state == TARGET_DONE;
    json_t *built = done ? record_json(ws_build_plan(targets_build(t, x)), &x->result) : json_null();
    return cli_pack("{s:s, s:s, s:s, s:s, s:s, s:o, s:o, s:o, s:b, s:f, s:o, s:o}", "name", x->facts.short_name,
                    "place", x->facts.place, "serial", x->facts.serial, "held", x->holds, "state", words[x->state],
                    "plan", x->state == TARGET_REFUSED ? json_null() : cli_text(x->plan), "record",
                    x->recorded ? cli_text(x->record) : json_null(), "proof",
                    x->proved ? cli_text(x->proved) : json_null(), "released", x->released, "seconds", x->took_s,
                    "built", built, "error", done && !x->forgets ? json_null() : error_json(&x->error));
}

/* The worst of what became of them. */
static int exit_of(const struct targets *t) {
    int code = EXIT_DONE;
    for (size_t i = 0; i < t->count; i++) {
        const struct target *x = t->one[i];
        const int own = x->instead                ? EXIT_DONE
                        : x->state != TARGET_DONE ? cli_exit_code(x->error.status)
                        : x->forgets              ? EXIT_NEGATIVE
                                                  : EXIT_DONE;
        if (own > code) code = own;
    }
    return code;
}

static void show_ends(const struct targets *t) {
    const struct cli *cli = t->cli;
    char took[32], next[WAYS_ROOM];
    say("\n");
    for (size_t i = 0; i < t->count; i++) {
        const struct target *x = t->one[i];
        const bool done = x->state == TARGET_DONE;
        const char *what = done ? (asked.no_check ? "written, not checked" : "written and checked")
                           : x->state == TARGET_REFUSED || x->state == TARGET_READY ? "not begun"
                                                                                    : "failed";
        show_row(cli, 37, "  %-10s %-24s %s%s%s%s%s%s%s%s", x->facts.place[0] ? x->facts.place : "-",
                 x->facts.short_name, ink(cli, done && !x->forgets ? INK_GOOD : INK_BAD), what, ink(cli, INK_PLAIN),
                 done ? " in " : "", done ? ws_duration(x->took_s, took, sizeof took) : "", x->proved ? ", " : "",
                 x->proved ? x->proved : "", x->released ? ", safe to unplug" : "");
        if (done && !x->forgets) continue;
        show_row(cli, 37, "%37s%s", "", x->error.what);
        if (x->instead) show_row(cli, 37, "%37s%s took its place", "", x->instead->facts.short_name);
        else if (x->error.next[0]) show_row(cli, 37, "%37s%s", "", ways_next(&x->error, next));
    }
}

int targets_conclude(struct targets *t, int code) {
    struct cli *cli = t->cli;
    const size_t done = targets_in(t, TARGET_DONE) + t->good;
    size_t all = t->count + t->good + t->bad;
    char time[32];
    for (size_t i = 0; i < t->count; i++) all -= t->one[i]->instead != NULL;
    if (cli->json) {
        json_t *list = t->ended ? json_incref(t->ended) : json_array();
        for (size_t i = 0; i < t->count; i++) json_array_append_new(list, target_json(t, t->one[i]));
        struct ws_shared_count count;
        ws_batch_count(t->batch, &count);
        return cli_print_json(cli_pack("{s:s, s:I, s:b, s:I, s:I, s:o}", "format", "wild-satchel-prepared", "done",
                                       (json_int_t)done, "good", code == EXIT_DONE, "source_read_bytes",
                                       (json_int_t)count.read, "source_wanted_bytes", (json_int_t)count.wanted,
                                       "drives", list),
                              code);
    }
    if (t->count) show_ends(t);
    ws_duration(cli->port->ops->steady_clock(cli->port) - t->began_s, time, sizeof time);
    if (t->count == 1 && code == EXIT_DONE)
        show_result(cli, true, "%s is ready; its plan is in %s.%s", t->one[0]->facts.short_name, t->one[0]->plan,
                    t->one[0]->released ? " It can be unplugged."
                    : t->one[0]->proved ? " It remembers."
                                        : "");
    else
        show_result(cli, code == EXIT_DONE, "%zu of %zu drives are ready, in %s%s.", done, all, time,
                    code == EXIT_DONE ? "" : "; of the others see above");
    if (t->count == 1 && code == EXIT_DONE && !t->one[0]->released)
        show_next(cli, "release", t->one[0]->facts.short_name);
    return code;
}

/* Sound, and what the technician wants done at the end. */
static void call_out(struct targets *t, int code) {
    struct ws_text names = {0};
    if (asked.bell && t->cli->terminal) note("\a");
    if (!asked.then) return;
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_DONE && !t->one[i]->forgets)
            ws_text_printf(&names, "%s%s", names.length ? " " : "", t->one[i]->facts.short_name);
    (void)setenv("WILD_SATCHEL_RESULT", code == EXIT_DONE ? "good" : "bad", 1);
    (void)setenv("WILD_SATCHEL_DRIVES", names.data ? names.data : "", 1);
    ws_text_free(&names);
    (void)fflush(stdout);
    const int rc = system(asked.then); /* as asked for, in the technician's own words */
    if (rc == -1 || !WIFEXITED(rc)) note("  --then: the command was not run, or ended by a signal\n");
    else if (WEXITSTATUS(rc) != 0) note("  --then: the command ended with %d\n", WEXITSTATUS(rc));
}

void targets_end(struct targets *t, size_t index) {
    struct target *x = t->one[index];
    const bool good = x->state == TARGET_DONE && !x->forgets;
    struct targets alone = {.cli = t->cli, .one = {x}, .count = 1};
    if (!t->ended) t->ended = json_array();
    json_array_append_new(t->ended, target_json(t, x));
    call_out(&alone, good ? EXIT_DONE : EXIT_NEGATIVE);
    if (x->state != TARGET_REFUSED) ws_batch_drop(t->batch, x->number);
    ws_pieces_free(&x->pieces);
    free(x);
    memmove(&t->one[index], &t->one[index + 1], (--t->count - index) * sizeof *t->one);
    t->good += good;
    t->bad += !good;
}

static struct target *failed_one(struct targets *t) {
    for (size_t i = 0; i < t->count; i++)
        if (t->one[i]->state == TARGET_FAILED && !t->one[i]->instead) return t->one[i];
    return NULL;
}

/* Others in the place of those that failed, one after the other, as long as somebody plugs one in. */
static enum ws_status swap_in(struct targets *t) {
    struct cli *cli = t->cli;
    for (struct target *gap; (gap = failed_one(t)) && isatty(STDIN_FILENO) && cli->terminal && !cli->json &&
                             !asked.confirm && !t->stopping;) {
        struct ws_drive_facts facts;
        char word[128];
        note("\n  %s failed. Plug another drive in and type its name to prepare it instead; Enter: no.\n  > ",
             gap->facts.short_name);
        if (!cli_read_answer(word, sizeof word) || !word[0]) break;
        memset(&cli->error, 0, sizeof cli->error);
        if (cli_find_drive(cli, word, &facts) != WS_OK) {
            note("  %s: %s\n", word, cli->error.what);
            continue;
        }
        const struct target *known = targets_find(t, facts.short_name);
        if (known && known->state == TARGET_DONE) {
            note("  %s is ready already.\n", facts.short_name);
            continue;
        }
        struct target *x = add_known(t, &facts);
        if (!x) return cli->error.status;
        if (x->state != TARGET_READY) {
            note("  %s: %s\n", facts.short_name, x->error.what);
            continue;
        }
        WS_TRY(ask(t));
        WS_TRY(give_secrets(t));
        WS_TRY(targets_begin(t));
        targets_wait(t);
        gap->instead = x;
    }
    return WS_OK;
}

static int run_named(struct targets *t) {
    struct cli *cli = t->cli;
    int code = EXIT_DONE;
    enum ws_status status;
    WS_GO(add_drives(t));
    show_targets(t);
    if (targets_in(t, TARGET_READY)) {
        stop_listen();
        WS_GO(ask(t));
        WS_GO(give_secrets(t));
        WS_GO(targets_begin(t));
        t->began_s = cli->port->ops->steady_clock(cli->port);
        targets_wait(t);
        WS_GO(swap_in(t));
        targets_prove(t);
    } else if (t->count == 1) {
        cli->error = t->one[0]->error;
        ws_fail_where(&cli->error, "%s", t->one[0]->facts.short_name);
        return cli_fail(cli);
    }
    code = targets_conclude(t, exit_of(t));
    if (t->count == 1 && t->one[0]->state == TARGET_DONE)
        secret_show_recovery(cli, targets_build(t, t->one[0]), asked.recovery_fd != NULL);
    call_out(t, code);
done:
    secret_forget();
    return status == WS_OK ? code : cli_fail(cli);
}

int run_prepare(struct cli *cli, const char *const word[]) {
    struct ws_source *input[WS_INPUTS_MOST] = {0};
    struct targets *t = calloc(1, sizeof *t);
    struct ws_request *request = calloc(1, sizeof *request);
    int code = EXIT_DONE;
    enum ws_status status = WS_OK;
    (void)word;
    if (!t || !request) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a batch"));
    *t = (struct targets){.cli = cli, .job = &asked, .request = request, .input = input};
    WS_GO(check_wishes(cli));
    WS_GO(cli_open_port(cli));
    if (asked.pc) {
        struct ws_pc_facts pc;
        WS_GO(plan_find_pc(cli, asked.pc, &pc));
    }
    if (asked.prove && !prove_knows(cli, asked.prove)) {
        status = ws_fail_where(&cli->error, "--prove");
        goto done;
    }
    WS_GO(cli_read_wishes(cli, &wished, request, input));
    status = ws_batch_open(cli->port, request, (const struct ws_source *const *)input, &t->batch, &cli->error);
    if (status == WS_OK) code = asked.as_they_come ? targets_as_they_come(t) : run_named(t);
done:
    if (status != WS_OK) {
        if (status != WS_E_USAGE) ws_fail_where(&cli->error, "%s", wished.image ? wished.image : "");
        code = cli_fail(cli);
    }
    secret_clear();
    if (t) targets_close(t);
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) ws_source_close(input[i]);
    free(request);
    free(t);
    return code;
}
