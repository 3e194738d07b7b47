/* prove.c — satchel prove: evidence and verdict. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/jobs.h"
#include "cli/secret.h"

#include "wild_satchel/port/emulator.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static void tell_step(void *context, const char *step) {
    const struct cli *cli = context;
    if (!cli->json) note("  %s%s%s\n", note_ink(cli, INK_DIM), step, note_ink(cli, INK_PLAIN));
}

static enum ws_status open_pc(struct cli *cli, const char *on, const char *log, struct ws_pc **pc) {
    static const struct {
        const char *word;
        enum ws_firmware firmware;
        bool secure;
    } emulated[] = {{"emulated-bios", WS_FIRMWARE_BIOS, false},
                    {"emulated-uefi", WS_FIRMWARE_UEFI, false},
                    {"emulated-secure", WS_FIRMWARE_UEFI, true}};
    for (size_t i = 0; i < 3; i++)
        if (strcmp(on, emulated[i].word) == 0) {
            struct ws_emulator_params params = {
                .firmware = emulated[i].firmware, .secure_boot = emulated[i].secure, .log_path = log};
            return ws_emulator_pc(&params, pc, &cli->error);
        }
    if (cli->bench) return ws_sim_pc(cli->bench, on, pc, &cli->error);
    ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a PC", on);
    return ws_fail_next(&cli->error,
                        "emulated-bios, emulated-uefi and emulated-secure are; with --bench also that bench's");
}

static json_t *survival_json(enum ws_survival s) {
    return s == WS_NOT_TRIED ? json_null() : json_boolean(s == WS_SURVIVES);
}

/* null: this PC has none that can be looked at */
static json_t *disk_json(const struct ws_proof *p) {
    if (!p->has_disk) return json_null();
    return cli_pack("{s:b, s:s}", "untouched", !p->disk_touched, "seen", ws_disk_seen_name(p->disk_seen));
}

static json_t *proof_json(const struct ws_proof *p, const char *drive, const char *pc) {
    json_t *items = json_array();
    for (size_t i = 0; i < p->items; i++)
        json_array_append_new(
            items, cli_pack("{s:s, s:s, s:i, s:o, s:o, s:o, s:o}", "change", p->item[i].what, "path", p->item[i].path,
                            "made_in_start", (int)p->item[i].round, "on_console", survival_json(p->item[i].console),
                            "on_drive", survival_json(p->item[i].drive), "sha256", cli_hash_json(p->item[i].sha256),
                            "sha256_on_drive", cli_hash_json(p->item[i].found)));
    return cli_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:o, s:i, s:f, s:I, s:I, s:o, s:o}", "format", "wild-satchel-proof",
                    "drive", drive, "pc", pc, "verdict", ws_verdict_name(p->verdict), "cause",
                    ws_forgets_name(p->cause), "text", p->text, "not_tried",
                    p->not_tried[0] ? json_string(p->not_tried) : json_null(), "starts", (int)p->starts, "seconds",
                    p->seconds, "entries_added", (json_int_t)p->evidence_added, "entries_changed",
                    (json_int_t)p->evidence_changed, "pc_disk", disk_json(p), "items", items);
}

static void show_survival(const struct cli *cli, enum ws_survival s) {
    static const char *const words[] = {"survives", "lost", "-"};
    static const enum ink colours[] = {INK_GOOD, INK_BAD, INK_DIM};
    say("%s%-10s%s", ink(cli, colours[s]), words[s], ink(cli, INK_PLAIN));
}

static void show_disk(const struct cli *cli, const struct ws_proof *p) {
    static const char *const words[] = {[WS_DISK_NOT_ASKED] = "",
                                        [WS_DISK_UNSEEN] = "; the system did not see it",
                                        [WS_DISK_READ_ONLY] = "; to the system it was read-only",
                                        [WS_DISK_WRITABLE] = "; the system could have written to it",
                                        [WS_DISK_MOUNTED] = "; the system had it mounted"};
    if (p->has_disk)
        show_field(cli, "The PC's disk", "%s%s%s%s", ink(cli, p->disk_touched ? INK_BAD : INK_GOOD),
                   p->disk_touched ? "was written to" : "untouched, to the last byte", ink(cli, INK_PLAIN),
                   words[p->disk_seen]);
}

static void show_proof(const struct cli *cli, const struct ws_proof *p, const char *drive, const char *pc) {
    char time[32];
    show_line(cli, INK_BOLD, "%s on %s", drive, pc);
    show_field(cli, "Starts", "%u in %s", p->starts, ws_duration(p->seconds, time, sizeof time));
    show_disk(cli, p);
    if (p->verdict == WS_VERDICT_NO_START) {
        say("\n  %sThe console's last lines:%s\n", ink(cli, INK_DIM), ink(cli, INK_PLAIN));
        show_console(p->console_tail);
        return;
    }
    show_field(cli, "On the drive", "%llu entries added, %llu changed", (unsigned long long)p->evidence_added,
               (unsigned long long)p->evidence_changed);
    say("\n  %s%-17s %-32s %-9s %-9s %s%s\n", ink(cli, INK_DIM), "change", "path", "console", "drive", "sha-256",
        ink(cli, INK_PLAIN));
    for (size_t i = 0; i < p->items; i++) {
        say("  %-17s %-32s ", p->item[i].what, p->item[i].path);
        show_survival(cli, p->item[i].console);
        show_survival(cli, p->item[i].drive);
        say("%s%.7s%s\n", ink(cli, INK_DIM), p->item[i].sha256, ink(cli, INK_PLAIN));
    }
}

static char *on, *log_path, *confirm, *account, *password_fd;
static int starts = 2, cut, keep, wait_s, external;
const struct poptOption prove_options[] = {
    {"on", 'o', POPT_ARG_STRING, &on, 0,
     "the PC to start from it: one of the bench's, emulated-bios, emulated-uefi, emulated-secure", "PC"},
    {"starts", 'n', POPT_ARG_INT, &starts, 0, "how many starts, at least 2", "N"},
    {"confirm", 'c', POPT_ARG_STRING, &confirm, 0, "the drive's own name, for scripts: a start writes to it", "NAME"},
    {"external-disk", 0, POPT_ARG_NONE, &external, 0, "an external hard drive or SSD is really meant", NULL},
    {"cut", 0, POPT_ARG_NONE, &cut, 0, "cut the power instead of shutting down", NULL},
    {"account", 0, POPT_ARG_STRING, &account, 0,
     "who logs in where the system asks for it, and may administer; the password is asked for", "NAME"},
    {"password-fd", 0, POPT_ARG_STRING, &password_fd, 0,
     "read that, and behind it the passphrase of what is locked, from this open file, a line each", "NUMBER"},
    {"keep-traces", 0, POPT_ARG_NONE, &keep, 0, "leave what the proof wrote on the drive", NULL},
    {"wait", 0, POPT_ARG_INT, &wait_s, 0, "seconds a start may take (180)", "S"},
    {"console", 0, POPT_ARG_STRING, &log_path, 0, "add everything an emulated console says to this file", "FILE"},
    POPT_TABLEEND};

static enum ws_status check_wishes(struct cli *cli) {
    if (!on) {
        ws_fail(&cli->error, WS_E_USAGE, "say on which PC the drive is to start: --on PC");
        return ws_fail_next(&cli->error, "emulated-bios, emulated-uefi, emulated-secure, or one of the bench's PCs");
    }
    if ((log_path || wait_s) && strncmp(on, "emulated-", 9) != 0)
        return ws_fail(&cli->error, WS_E_USAGE, "%s has no effect on a simulated PC",
                       log_path ? "--console" : "--wait");
    if (starts >= 2 && starts <= 12) return WS_OK;
    return ws_fail(&cli->error, WS_E_USAGE, "a proof takes 2 to 12 starts, not %d", starts);
}

static const char *const verdict_words[] = {
    [WS_VERDICT_KEPT] = "it remembers", [WS_VERDICT_LOST] = "it forgets", [WS_VERDICT_NO_START] = "no start"};

static int conclude(struct cli *cli, const struct ws_proof *proof, const char *drive, const char *pc) {
    static const char *const words[] = {
        [WS_VERDICT_KEPT] = "It remembers.", [WS_VERDICT_LOST] = "It forgets.", [WS_VERDICT_NO_START] = "No start."};
    int code = proof->verdict == WS_VERDICT_KEPT ? EXIT_DONE : EXIT_NEGATIVE;
    if (cli->json) return cli_print_json(proof_json(proof, drive, pc), code);
    show_proof(cli, proof, drive, pc);
    say("\n%s%s%s %s\n", ink(cli, code ? INK_BAD : INK_GOOD), words[proof->verdict], ink(cli, INK_PLAIN), proof->text);
    return code;
}

/* Is what the drive keeps locked? */
static enum ws_status look_for_lock(struct cli *cli, const struct ws_drive_facts *facts, bool *locked) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_memory memory = {.locked = false};
    enum ws_status status = cli_open_now(cli, facts, &drive, &source);
    if (status == WS_OK) status = ws_memory_look(source, facts->logical_sector, &memory, &cli->error);
    *locked = memory.locked;
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return status;
}

static enum ws_status ask_secrets(struct cli *cli, const struct ws_drive_facts *facts, struct ws_proof_options *o) {
    const char *what[2], *out[2] = {NULL, NULL};
    char whose[80];
    bool locked = false;
    size_t count = 0;
    WS_TRY(look_for_lock(cli, facts, &locked));
    (void)snprintf(whose, sizeof whose, "Password of %.32s", account ? account : "");
    if (account) what[count++] = whose;
    if (locked) what[count++] = "Passphrase that opens the drive";
    if (!count && password_fd)
        return ws_fail(&cli->error, WS_E_USAGE, "nothing takes a password: no account is named, and nothing is locked");
    if (secret_ask(cli, password_fd, what, count, out) != WS_OK)
        return ws_fail_where(&cli->error, "%s", facts->short_name);
    o->account = account;
    o->password = account ? out[0] : NULL;
    o->passphrase = locked ? out[count - 1] : NULL;
    return WS_OK;
}

enum ws_status prove_drive(struct cli *cli, const struct ws_drive_facts *facts, const char *where, const char *log,
                           const struct ws_proof_options *how, struct ws_proof *proof, char pc_name[64]) {
    struct ws_pc *pc = NULL;
    struct ws_pc_facts pc_facts;
    enum ws_status status;
    WS_GO(open_pc(cli, where, log, &pc));
    WS_GO(pc->ops->describe(pc, &pc_facts, &cli->error));
    memcpy(pc_name, pc_facts.name, sizeof pc_facts.name);
    WS_GO(pc->ops->plug(pc, facts->id, &cli->error));
    status = ws_prove(cli->port, pc, facts->id, how, proof, &cli->error);
done:
    if (pc) pc->ops->close(pc);
    return status;
}

bool prove_knows(struct cli *cli, const char *where) {
    struct ws_pc *pc = NULL;
    bool known = open_pc(cli, where, NULL, &pc) == WS_OK;
    if (pc) pc->ops->close(pc);
    return known;
}

int run_prove(struct cli *cli, const char *const word[]) {
    struct ws_drive_facts facts;
    char pc_name[64], answer[128] = "";
    struct ws_proof *proof = NULL;
    enum ws_status status;
    int code = EXIT_DONE;
    WS_GO(check_wishes(cli));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &facts));
    struct ws_target_rules rules = {external != 0};
    WS_GO(ws_drive_may_be_target(cli->port, &facts, &rules, &cli->error)); /* the system that starts writes to it */
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_GO(cli_ask(cli, &facts, NULL, "will be started, and writes to it", answer, sizeof answer));
        confirm = answer;
    }
    WS_GO(ws_drive_confirmed(&facts, confirm, &cli->error));
    struct ws_proof_options o = {.confirm = confirm,
                                 .allow_external_disk = external != 0,
                                 .starts = (unsigned)starts,
                                 .cut = cut != 0,
                                 .keep_traces = keep != 0,
                                 .start_wait_s = wait_s,
                                 .on_step = tell_step,
                                 .context = cli};
    WS_GO(ask_secrets(cli, &facts, &o));
    proof = malloc(sizeof *proof);
    if (!proof) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a proof"));
    WS_GO(prove_drive(cli, &facts, on, log_path, &o, proof, pc_name));
    code = conclude(cli, proof, facts.short_name, pc_name);
    history_note(cli, "prove", &facts, NULL, NULL, code == EXIT_DONE, verdict_words[proof->verdict]);
done:
    secret_clear();
    if (status != WS_OK) code = cli_fail(cli);
    free(proof);
    return code;
}
