/* running.c — the system that runs carried over while it goes on: written once, and then again what has changed, until
 * nothing has. */
#include "cli/jobs.h"
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { PASSES = 5 };

struct carrying {
    struct cli *cli;
    struct meter meter;
    const struct build_job *job;
    const char *confirm;
    struct ws_drive_facts facts;
    struct ws_drive *drive;
    struct ws_twin_state state;
    uint64_t written;
    double seconds;
    unsigned passes;
};

static bool tell(void *context, const struct ws_progress *progress) {
    return meter_tell(&((struct carrying *)context)->meter, progress);
}

static enum ws_status carry_out(struct carrying *c, struct ws_build *build, bool first) {
    struct ws_build_result result;
    const struct ws_build_options o = {.allow_external_disk = c->job->external != 0,
                                       .confirm = c->confirm,
                                       .on_progress = tell,
                                       .context = c,
                                       .skip_check = first, /* against what? the next pass compares */
                                       .even_so = c->job->even_so != 0,
                                       .afresh = true};
    enum ws_status status = ws_build_carry_out(build, c->cli->port, c->drive, &o, &result, &c->cli->error);
    meter_end(&c->meter);
    c->written += result.write.written;
    c->seconds += result.write.seconds + result.check.seconds;
    return status;
}

/* The twin as it is, beside the system as it is now. */
static enum ws_status prepare_again(struct carrying *c, const struct ws_request *request, const struct ws_plan *plan,
                                    const struct ws_source *now, struct ws_build **build) {
    struct cli *cli = c->cli;
    struct ws_request *again = malloc(sizeof *again);
    struct ws_original *o = calloc(1, sizeof *o);
    if (!again || !o) {
        free(again);
        free(o);
        return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a refresh");
    }
    *again = *request;
    again->twin.refresh = true;
    struct ws_build_setting setting = {.drive = *ws_plan_drive(plan),
                                       .id = ws_plan_facts(plan)->id,
                                       .made_at = cli->port->ops->wall_clock(cli->port),
                                       .now = now,
                                       .original = o,
                                       .compare = c->passes == 1};
    enum ws_status status = ws_linux_running(request->input[WS_INPUT_IMAGE].path, o, &cli->error);
    if (status == WS_OK) status = ws_build_prepare(again, &setting, build, &cli->error);
    ws_original_close(o);
    free(again);
    free(o);
    return status;
}

static enum ws_status catch_up(struct carrying *c, const struct ws_request *request, const struct ws_plan *plan) {
    struct ws_source *now = NULL;
    struct ws_build *build = NULL;
    char size[32];
    bool done = false;
    enum ws_status status = ws_source_drive(c->drive, &now, &c->cli->error);
    while (status == WS_OK && !done) {
        if (c->cli->terminal || !c->cli->json)
            note("  looking for what has changed meanwhile%s\n", c->passes == 1 ? ", and comparing the rest" : "");
        status = prepare_again(c, request, plan, now, &build);
        if (status != WS_OK) break;
        (void)ws_build_twin_state(build, &c->state);
        done = (c->state.changed == 0 && c->state.gone == 0) || c->passes == PASSES;
        if (!done && !c->cli->json)
            note("  %llu file%s changed, %s\n", (unsigned long long)c->state.changed, c->state.changed == 1 ? "" : "s",
                 ws_size_counted(c->state.changed_bytes, size, sizeof size));
        if (!done) status = carry_out(c, build, false);
        c->passes++;
        ws_build_close(build);
        build = NULL;
    }
    ws_source_close(now);
    return status;
}

static int tell_json(const struct carrying *c) {
    json_t *paths = json_array();
    for (size_t i = 0; i < WS_TWIN_PATHS && c->state.path[i][0]; i++)
        json_array_append_new(paths, cli_text(c->state.path[i]));
    return cli_print_json(cli_pack("{s:s, s:s, s:i, s:I, s:f, s:I, s:I, s:I, s:o}", "format",
                                   "wild-satchel-carried-over", "drive", c->facts.short_name, "passes", (int)c->passes,
                                   "written_bytes", (json_int_t)c->written, "seconds", c->seconds, "files",
                                   (json_int_t)c->state.files, "never_still", (json_int_t)c->state.changed,
                                   "databases_never_still", (json_int_t)c->state.databases, "first_of_those", paths),
                          c->state.changed ? EXIT_NEGATIVE : EXIT_DONE);
}

static int tell_result(const struct carrying *c) {
    const struct cli *cli = c->cli;
    char size[48], time[32];
    if (cli->json) return tell_json(c);
    show_field(cli, "Written", "%s in %s, in %u pass%s", ws_size_both(c->written, size, sizeof size),
               ws_duration(c->seconds, time, sizeof time), c->passes - 1, c->passes == 2 ? "" : "es");
    show_field(cli, "Compared", "%llu files with what the system holds, all the same but those named here",
               (unsigned long long)c->state.files);
    for (size_t i = 0; i < WS_TWIN_PATHS && c->state.path[i][0]; i++)
        show_field(cli, i ? "" : "Never still", "%s", c->state.path[i]);
    if (c->state.databases)
        show_field(cli, "", "%sdatabases are among them: end what uses them, and refresh the twin%s",
                   ink(cli, INK_WARN), ink(cli, INK_PLAIN));
    if (c->state.changed)
        show_result(cli, false, "%s is written; %llu file%s changed each time, and may be of two moments.",
                    c->facts.short_name, (unsigned long long)c->state.changed, c->state.changed == 1 ? "" : "s");
    else show_result(cli, true, "%s is written, flushed and compared with the running system.", c->facts.short_name);
    return c->state.changed ? EXIT_NEGATIVE : EXIT_DONE;
}

int running_carry_over(struct cli *cli, struct ws_build *build, const struct ws_drive_facts *facts) {
    struct carrying c = {.cli = cli,
                         .meter = {.cli = cli},
                         .job = &build_wished,
                         .confirm = build_wished.confirm,
                         .facts = *facts,
                         .passes = 1};
    struct ws_target_rules rules = {build_wished.external != 0};
    const struct ws_plan *plan = ws_build_plan(build);
    char answer[128] = "";
    enum ws_status status;
    int code = EXIT_DONE;
    WS_GO(ws_drive_may_write(facts, &rules, &cli->error));
    WS_GO(cli->port->ops->open(cli->port, facts->id, WS_OPEN_WRITE, &c.drive, &cli->error));
    stop_listen();
    if (!c.confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_GO(cli_ask(cli, facts, c.drive, "", answer, sizeof answer));
        c.confirm = answer;
    }
    WS_GO(carry_out(&c, build, true));
    WS_GO(catch_up(&c, ws_plan_request(plan), plan));
    code = tell_result(&c);
done:
    if (c.drive) c.drive->ops->close(c.drive);
    return status == WS_OK ? code : cli_fail(cli);
}
