/* trial.c — satchel drives --test and --blank: a drive tried, or made ordinary again; satchel release. */
#include "cli/commands.h"
#include "cli/history.h"

#include "wild_satchel/trial.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

static bool tell(void *context, const struct ws_progress *progress) { return meter_tell(context, progress); }

/* Open for the work at hand, and ask for the drive's name where somebody sits at the terminal. */
static enum ws_status open_drive(struct cli *cli, const struct ws_drive_facts *f, const struct drive_work *work,
                                 bool writes, struct ws_drive **drive, char *answer, size_t room,
                                 const char **confirm) {
    struct ws_target_rules rules = {work->external != 0};
    if (writes) WS_TRY(ws_drive_may_write(f, &rules, &cli->error));
    WS_TRY(cli->port->ops->open(cli->port, f->id, writes ? WS_OPEN_WRITE : WS_OPEN_READ, drive, &cli->error));
    *confirm = work->confirm;
    if (writes) stop_listen();
    if (!writes || *confirm || !isatty(STDIN_FILENO) || !cli->terminal || cli->json) return WS_OK;
    *confirm = answer;
    return cli_ask(cli, f, *drive, "", answer, room);
}

static void show_trial(const struct cli *cli, const struct ws_drive_facts *f, const struct ws_trial *t) {
    static const enum ink inks[] = {INK_GOOD, INK_WARN, INK_BAD};
    static const char *const words[] = {"good", "poor", "no"};
    char a[48], b[48], time[32];
    show_line(cli, INK_BOLD, "%s", f->short_name);
    show_field(cli, "Says it holds", "%s", ws_size_both(t->drive_size, a, sizeof a));
    if (t->forgery == WS_FORGERY_NONE)
        show_field(cli, "Holds", t->depth == WS_TRIAL_READ ? "not told by reading alone" : "that much");
    else
        show_field(cli, "Holds", "%s%s%s%s", ink(cli, INK_BAD),
                   t->forgery == WS_FORGERY_SUSPECTED ? "perhaps only " : "about ", ws_size_both(t->holds, a, sizeof a),
                   ink(cli, INK_PLAIN));
    for (size_t i = 0; i < t->bads; i++)
        show_field(cli, i ? "" : "Bad areas", "%s at %s: %s", ws_size_counted(t->bad[i].length, a, sizeof a),
                   ws_size_counted(t->bad[i].at, b, sizeof b),
                   t->bad[i].unreadable ? "cannot be read" : "reads back other than written");
    if (t->bad_more) show_field(cli, "", "and %llu more", (unsigned long long)t->bad_more);
    show_field(cli, "Reads", "%s/s", ws_size_counted((uint64_t)t->read_bytes_s, a, sizeof a));
    if (t->write_bytes_s > 0) {
        show_field(cli, "Writes", "%s/s in one stream, %.0f small ones a second",
                   ws_size_counted((uint64_t)t->write_bytes_s, a, sizeof a), t->small_writes_s);
        show_field(cli, "Trial wrote", "%s (%.2f %% of the drive) in %s", ws_size_both(t->written, a, sizeof a),
                   (double)t->written * 100 / (double)t->drive_size, ws_duration(t->seconds, time, sizeof time));
    }
    say("\n  %s%-24s %s%s\n", ink(cli, INK_DIM), "good for", "verdict", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < WS_TRIAL_USES; i++)
        show_row(cli, 34, "  %-24s %s%-6s%s %s", t->use[i].use, ink(cli, inks[t->use[i].fit]), words[t->use[i].fit],
                 ink(cli, INK_PLAIN), t->use[i].why);
}

static void show_verdict(const struct cli *cli, const struct ws_drive_facts *f, const struct ws_trial *t) {
    char holds[48];
    ws_size_both(t->holds, holds, sizeof holds);
    if (t->forgery == WS_FORGERY_ALIAS)
        show_result(cli, false, "%s is not honest: past %s it writes over what is there already. Do not use it.",
                    f->short_name, holds);
    else if (t->forgery == WS_FORGERY_DROP)
        show_result(cli, false, "%s is not honest: what is written past %s is lost. Do not use it.", f->short_name,
                    holds);
    else if (t->forgery == WS_FORGERY_SUSPECTED)
        show_result(cli, false, "%s shows its front again at %s; --test sample tells for certain.", f->short_name,
                    holds);
    else if (t->bads)
        show_result(cli, false, "%s has bad areas. Do not use it for anything that matters.", f->short_name);
    else if (t->depth == WS_TRIAL_READ)
        show_result(cli, true,
                    "%s reads well where it was looked at. Nothing was written; --test sample also tries its size.",
                    f->short_name);
    else show_result(cli, true, "%s holds what it says. It has no volume now.", f->short_name);
    if (t->sound && t->depth != WS_TRIAL_READ) show_next(cli, "drives", f->short_name, "--blank");
}

static int run_test(struct cli *cli, const struct ws_drive_facts *f, const struct drive_work *work) {
    struct meter meter = {.cli = cli};
    struct ws_trial_options o = {.allow_external_disk = work->external != 0, .on_progress = tell, .context = &meter};
    struct ws_trial trial;
    struct ws_drive *drive = NULL;
    struct ws_text text = {0};
    char answer[128] = "";
    int code = EXIT_DONE;
    enum ws_status status = WS_OK;
    bool known = false;
    for (int depth = WS_TRIAL_READ; depth <= WS_TRIAL_FULL; depth++)
        if (strcmp(work->test, ws_trial_depth_name((enum ws_trial_depth)depth)) == 0) {
            o.depth = (enum ws_trial_depth)depth;
            known = true;
        }
    if (!known) WS_GO(ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a trial: read, sample and full are", work->test));
    WS_GO(open_drive(cli, f, work, o.depth != WS_TRIAL_READ, &drive, answer, sizeof answer, &o.confirm));
    status = ws_trial_run(cli->port, drive, &o, &trial, &cli->error);
    meter_end(&meter);
    if (status != WS_OK) goto done;
    WS_GO(ws_trial_to_json(&trial, &text, &cli->error));
    struct cli_never never = {0};
    cli_never(&never, f->id);
    if (work->save)
        WS_GO(cli_keep(cli, work->save, text.data, text.length, "wild-satchel-trial", work->over != 0, &never));
    code = trial.sound ? EXIT_DONE : EXIT_NEGATIVE;
    history_note(cli, "test", f, NULL, NULL, trial.sound, trial.sound ? "sound" : "not sound");
    bool to_output = work->save && strcmp(work->save, "-") == 0;
    if (!to_output && cli->json) cli_put_document(text.data);
    else if (!to_output) {
        show_trial(cli, f, &trial);
        if (work->save) show_field(cli, "Kept in", "%s", work->save);
        show_verdict(cli, f, &trial);
    }
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    ws_text_free(&text);
    return code;
}

/* An ordinary drive, decided: a request of its own kind. */
static enum ws_status prepare_blank(struct cli *cli, const struct ws_drive_facts *f, const struct drive_work *work,
                                    struct ws_build **build) {
    struct ws_request *request = malloc(sizeof *request);
    struct ws_build_setting setting;
    uint64_t cluster = 0;
    enum ws_status status = WS_OK;
    if (!request) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a request");
    ws_request_begin(request, WS_KIND_BLANK);
    WS_GO(ws_build_setting_begin(&setting, cli->port, f, &cli->error));
    setting.facts = NULL; /* nothing of it is warned of */
    struct ws_wanted *data = ws_request_want(request, WS_ROLE_DATA);
    if (work->system && strcmp(work->system, "fat32") != 0 && strcmp(work->system, "exfat") != 0)
        WS_GO(
            ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is no file system made here: fat32 and exfat are", work->system));
    if (work->label && strlen(work->label) >= sizeof data->label)
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "a label of more than %zu bytes fits no file system",
                      sizeof data->label - 1));
    (void)snprintf(data->format, sizeof data->format, "%s", work->system ? work->system : "");
    (void)snprintf(data->label, sizeof data->label, "%s", work->label ? work->label : "");
    if (work->cluster) WS_GO(ws_size_parse(work->cluster, &cluster, &cli->error));
    if (cluster > 32u << 20) WS_GO(ws_fail(&cli->error, WS_E_RANGE, "a cluster has at most 32 MiB"));
    data->cluster = (uint32_t)cluster;
    status = ws_build_prepare(request, &setting, build, &cli->error);
done:
    free(request);
    return status;
}

static int run_blank(struct cli *cli, const struct ws_drive_facts *f, const struct drive_work *work) {
    struct meter meter = {.cli = cli};
    struct ws_build_options o = {.allow_external_disk = work->external != 0, .on_progress = tell, .context = &meter};
    struct ws_build_result result;
    struct ws_build *build = NULL;
    struct ws_drive *drive = NULL;
    size_t choices;
    char answer[128] = "", a[48], b[48], time[32];
    int code = EXIT_DONE;
    enum ws_status status;
    WS_GO(prepare_blank(cli, f, work, &build));
    const struct ws_volume *v = ws_plan_volume(ws_build_plan(build), WS_ROLE_DATA);
    const char *title = ws_format_find(v->format)->title;
    const struct ws_plan_choice *choice = ws_plan_choices(ws_build_plan(build), &choices);
    if (choices && !cli->json) note("  The label will be \"%s\": %s.\n", choice[0].choice, choice[0].why);
    WS_GO(open_drive(cli, f, work, true, &drive, answer, sizeof answer, &o.confirm));
    status = ws_build_carry_out(build, cli->port, drive, &o, &result, &cli->error);
    meter_end(&meter);
    if (status != WS_OK) goto done;
    history_note(cli, "blank", f, NULL, NULL, true, "an ordinary drive");
    if (cli->json) {
        code = cli_print_json(
            cli_pack("{s:s, s:s, s:s, s:s, s:I, s:I, s:I, s:I, s:f, s:b}", "format", "wild-satchel-blank", "drive",
                     f->short_name, "system", v->format, "label", v->label, "volume_at_bytes", (json_int_t)v->at,
                     "volume_size_bytes", (json_int_t)v->size, "free_bytes", (json_int_t)v->free_bytes, "written_bytes",
                     (json_int_t)result.write.written, "seconds", result.write.seconds, "checked", result.checked),
            EXIT_DONE);
    } else {
        show_line(cli, INK_BOLD, "%s", f->short_name);
        show_field(cli, "Volume", "%s%s%s%s, %s, %s free", title, v->label[0] ? " \"" : "", v->label,
                   v->label[0] ? "\"" : "", ws_size_both(v->size, a, sizeof a),
                   ws_size_both(v->free_bytes, b, sizeof b));
        show_field(cli, "Written", "%s in %s, read back as meant", ws_size_both(result.write.written, a, sizeof a),
                   ws_duration(result.write.seconds, time, sizeof time));
        show_result(cli, true, "%s is an ordinary drive again, one %s volume of its full size.", f->short_name, title);
    }
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    ws_build_close(build);
    return code;
}

int cli_drive_work(struct cli *cli, const struct ws_drive_facts *facts, const struct drive_work *work) {
    return work->blank ? run_blank(cli, facts, work) : run_test(cli, facts, work);
}

int run_release(struct cli *cli, const char *const word[]) {
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    enum ws_status status;
    int code = EXIT_DONE;
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &facts));
    if (facts.system || facts.internal != WS_NO) {
        struct ws_target_rules rules = {true};
        WS_GO(ws_drive_may_write(&facts, &rules, &cli->error));
    }
    /* Opened for writing alone: nobody else can be using it then, and what they wrote is flushed too. */
    WS_GO(
        cli->port->ops->open(cli->port, facts.id, facts.read_only ? WS_OPEN_READ : WS_OPEN_WRITE, &drive, &cli->error));
    WS_GO(drive->ops->release(drive, &cli->error));
    if (cli->json)
        code = cli_print_json(
            cli_pack("{s:s, s:s, s:b}", "format", "wild-satchel-released", "drive", facts.short_name, "released", true),
            EXIT_DONE);
    else show_result(cli, true, "%s is flushed. It is safe to unplug.", facts.short_name);
done:
    if (status != WS_OK) code = cli_fail(cli);
    if (drive) drive->ops->close(drive);
    return code;
}
