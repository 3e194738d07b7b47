/* passport.c — satchel passport: one page about a drive, for whoever finds it. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/keep.h"
#include "cli/proofs.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static char *to, *plan_path, *proof_path, *trial_path, *confirm;
static int over, onto, external;
const struct poptOption passport_options[] = {
    {"to", 0, POPT_ARG_STRING, &to, 0, "the page to make (HTML)", "FILE"},
    {"over", 0, POPT_ARG_NONE, &over, 0, "replace a file of that name", NULL},
    {"onto-drive", 0, POPT_ARG_NONE, &onto, 0,
     "lay a copy onto the drive, where people find it: " WS_PASSPORT_NAME " at the top of its data volume", NULL},
    {"confirm", 'c', POPT_ARG_STRING, &confirm, 0, "with --onto-drive: the drive's own name, for scripts", "NAME"},
    {"external-disk", 0, POPT_ARG_NONE, &external, 0,
     "with --onto-drive: an external hard drive or SSD is really meant", NULL},
    {"plan", 0, POPT_ARG_STRING, &plan_path, 0,
     "the plan by which it was built; else the one that the history names, where it still is", "PLAN"},
    {"proof", 0, POPT_ARG_STRING, &proof_path, 0, "the document of a proof, with its rounds", "FILE"},
    {"trial", 0, POPT_ARG_STRING, &trial_path, 0, "the result of drives --test", "FILE"},
    POPT_TABLEEND};

struct telling {
    struct cli *cli;
    struct ws_passport passport;
    struct ws_drive_facts facts;
    struct ws_contents contents;
    struct ws_memory memory;
    struct ws_proof proof;
    struct ws_trial trial;
    struct ws_plan *plan;
    struct ws_origin origin;
    struct ws_outlook outlook[WS_OUTLOOKS];
    char checked[300];
    struct ws_passport_event event[WS_PASSPORT_EVENTS_MOST];
    struct ws_passport_place place; /* of the copy on the drive */
    bool has_copy;
};

static enum ws_status read_plan(struct telling *t, const char *path, bool asked) {
    struct cli *cli = t->cli;
    struct ws_text text = {0};
    const struct ws_error kept = cli->error;
    enum ws_status status = cli_read_document(cli, path, 4 << 20, "plan", &text);
    if (status == WS_OK) status = ws_plan_from_json(text.data ? text.data : "", text.length, &t->plan, &cli->error);
    ws_text_free(&text);
    if (status != WS_OK && !asked) { /* it is not where it was: then without it */
        cli->error = kept;
        return WS_OK;
    }
    if (status != WS_OK) return ws_fail_where(&cli->error, "%s", path);
    const struct ws_plan_drive *d = ws_plan_drive(t->plan);
    if (ws_drive_alike(&t->facts, d->name)) {
        t->passport.plan = t->plan;
        return WS_OK;
    }
    if (!asked) return WS_OK;
    ws_fail(&cli->error, WS_E_USAGE, "the plan is for %s, and this is %s", d->name, t->facts.short_name);
    return ws_fail_where(&cli->error, "%s", path);
}

static enum ws_status read_documents(struct telling *t) {
    struct cli *cli = t->cli;
    struct ws_text text = {0};
    bool there = false;
    if (proof_path) {
        WS_TRY(proofs_load(cli, proof_path, &t->proof, &there));
        if (!there) WS_TRY(cli_read_file(proof_path, 1, &text, &cli->error)); /* says what is the matter */
        if (!ws_drive_alike(&t->facts, t->proof.drive)) {
            ws_fail(&cli->error, WS_E_USAGE, "the proof is of %s, and this is %s", t->proof.drive, t->facts.short_name);
            return ws_fail_where(&cli->error, "%s", proof_path);
        }
        t->passport.proof = &t->proof;
    }
    if (!trial_path) return WS_OK;
    enum ws_status status = cli_read_document(cli, trial_path, 1 << 20, "trial", &text);
    if (status == WS_OK) status = ws_trial_from_json(text.data ? text.data : "", text.length, &t->trial, &cli->error);
    ws_text_free(&text);
    if (status != WS_OK) return ws_fail_where(&cli->error, "%s", trial_path);
    if (!ws_drive_alike(&t->facts, t->trial.drive_name))
        return ws_fail(&cli->error, WS_E_USAGE, "the trial is of %s, and this is %s", t->trial.drive_name,
                       t->facts.short_name);
    t->passport.trial = &t->trial;
    return WS_OK;
}

/* What the drive itself tells of its making, and where what is on it starts. */
static void look_without_plan(struct telling *t, const struct ws_source *source) {
    struct ws_image image = {0};
    struct ws_error ignored;
    if (ws_origin_look(source, t->facts.logical_sector, &t->origin, &ignored) == WS_OK) t->passport.origin = &t->origin;
    if (t->facts.logical_sector == 512 && ws_image_inspect(source, &image, &ignored) == WS_OK) {
        ws_outlook_of(&image, t->facts.logical_sector, t->outlook);
        t->passport.outlook = t->outlook;
    }
    ws_image_free(&image);
}

static enum ws_status look(struct telling *t) {
    struct cli *cli = t->cli;
    struct ws_error ignored;
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    enum ws_status status = cli_open_now(cli, &t->facts, &drive, &source);
    busy_begin(cli, "looking at %.60s", t->facts.short_name);
    if (status == WS_OK) status = ws_contents_look(source, t->facts.logical_sector, false, &t->contents, &cli->error);
    if (status == WS_OK) status = ws_memory_look(source, t->facts.logical_sector, &t->memory, &cli->error);
    if (status == WS_OK && !t->plan) look_without_plan(t, source);
    if (status == WS_OK && !onto)
        t->has_copy = ws_passport_find(source, t->facts.logical_sector, &t->place, &ignored) == WS_OK;
    busy_end();
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return status;
}

static enum ws_status keep_page(struct telling *t) {
    struct cli *cli = t->cli;
    struct ws_text page = {0};
    struct cli_never never = {.count = 0};
    const char *const inputs[] = {t->facts.id, plan_path, proof_path, trial_path};
    for (size_t i = 0; i < sizeof inputs / sizeof inputs[0]; i++)
        if (inputs[i]) cli_never(&never, inputs[i]);
    enum ws_status status = ws_passport_html(&t->passport, &page, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, to, page.data, page.length, NULL, over != 0, &never);
    ws_text_free(&page);
    return status;
}

static enum ws_status lay_down(struct telling *t) {
    struct cli *cli = t->cli;
    struct ws_text page = {0};
    struct ws_drive *drive = NULL;
    char answer[128];
    const struct ws_target_rules rules = {external != 0};
    WS_TRY(ws_drive_may_be_target(cli->port, &t->facts, &rules, &cli->error));
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_TRY(cli_ask(cli, &t->facts, NULL, "gets a copy of its passport, and loses nothing", answer, sizeof answer));
        confirm = answer;
    }
    WS_TRY(ws_drive_confirmed(&t->facts, confirm, &cli->error));
    enum ws_status status = ws_passport_html(&t->passport, &page, &cli->error);
    if (status == WS_OK) status = cli->port->ops->open(cli->port, t->facts.id, WS_OPEN_WRITE, &drive, &cli->error);
    if (status == WS_OK)
        status =
            ws_passport_leave(cli->port, drive, page.data, page.length, confirm, external != 0, &t->place, &cli->error);
    if (drive) drive->ops->close(drive);
    ws_text_free(&page);
    t->has_copy = status == WS_OK;
    if (status == WS_OK) history_note(cli, "passport", &t->facts, NULL, NULL, true, "a copy is on the drive");
    return status;
}

static void show(struct telling *t) {
    struct cli *cli = t->cli;
    const struct ws_passport *p = &t->passport;
    char day[32];
    show_line(cli, INK_BOLD, "%s", t->facts.short_name);
    show_field(cli, "Seems to be", "%s", t->contents.guess);
    show_field(cli, "Plan", "%s",
               p->plan ? ws_plan_facts(p->plan)->title : "none: the page goes by what is on the drive");
    if (p->checked) show_field(cli, "Its image", "%s", p->checked);
    if (p->proof)
        show_field(cli, "Proof", "%zu round%s, %s", p->proof->rounds, p->proof->rounds == 1 ? "" : "s",
                   proofs_word(p->proof->verdict));
    else show_field(cli, "Proof", "none");
    show_field(cli, "Trial", "%s", p->trial ? p->trial->sound ? "sound" : "not sound" : "none");
    show_field(cli, "History", "%zu run%s noted", p->events, p->events == 1 ? "" : "s");
    if (t->has_copy)
        show_field(cli, "Copy", WS_PASSPORT_NAME " on partition %u%s%s%s, %s%s", t->place.number,
                   t->place.label[0] ? " (" : "", t->place.label, t->place.label[0] ? ")" : "",
                   !onto               ? "of "
                   : t->place.replaced ? "in the place of the earlier one"
                                       : "new",
                   onto ? "" : show_day(t->place.made_at, day));
    if (to) show_result(cli, true, "The passport of %s is in %s.", t->facts.short_name, to);
    else if (onto) show_result(cli, true, "The passport of %s is on it.", t->facts.short_name);
    else show_result(cli, true, "Nothing was made; --to FILE makes the page, --onto-drive lays it onto the drive.");
}

json_t *passport_copy_json(const struct ws_passport_place *copy) {
    return cli_pack("{s:i, s:s, s:s, s:s, s:I}", "partition", (int)copy->number, "label", copy->label, "format",
                    copy->format, "file", WS_PASSPORT_NAME, "made_at", (json_int_t)copy->made_at);
}

static enum ws_status print_document(struct telling *t) {
    struct ws_text text = {0};
    enum ws_status status = ws_passport_json(&t->passport, &text, &t->cli->error);
    json_t *root = status == WS_OK && t->has_copy ? json_loads(text.data, 0, NULL) : NULL;
    if (root) { /* where the copy is, too, and of when */
        json_t *copy = passport_copy_json(&t->place);
        json_object_set_new(copy, "replaced", json_boolean(t->place.replaced));
        json_object_set_new(root, "copy", copy);
        (void)cli_print_json(root, EXIT_DONE);
    } else if (status == WS_OK) {
        cli_put_document(text.data);
    }
    ws_text_free(&text);
    return status;
}

int run_passport(struct cli *cli, const char *const word[]) {
    struct telling *t = calloc(1, sizeof *t);
    char noted[1024];
    enum ws_status status;
    if (!t) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a passport"), cli_fail(cli);
    t->cli = cli;
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &t->facts));
    t->passport = (struct ws_passport){.made_at = cli->port->ops->wall_clock(cli->port),
                                       .drive = &t->facts,
                                       .kind = cli_kind_of(&t->facts),
                                       .contents = &t->contents,
                                       .memory = &t->memory,
                                       .event = t->event};
    t->passport.events = history_of(cli, &t->facts, t->event, WS_PASSPORT_EVENTS_MOST, noted);
    if (plan_path || noted[0]) WS_GO(read_plan(t, plan_path ? plan_path : noted, plan_path != NULL));
    WS_GO(read_documents(t));
    WS_GO(look(t));
    const char *sha256 = t->plan ? ws_plan_request(t->plan)->input[WS_INPUT_IMAGE].sha256 : t->origin.sha256;
    if (history_of_image(cli, sha256, t->checked)) t->passport.checked = t->checked;
    if (to) WS_GO(keep_page(t));
    if (onto) WS_GO(lay_down(t));
    if (cli->json) WS_GO(print_document(t));
    else show(t);
done:
    ws_plan_free(t->plan);
    ws_proof_free(&t->proof);
    free(t);
    return status == WS_OK ? EXIT_DONE : cli_fail(cli);
}
