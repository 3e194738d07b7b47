/* prove.c — satchel prove: evidence and verdict. */
#include "cli/commands.h"
#include "cli/history.h"
#include "cli/jobs.h"
#include "cli/proofs.h"
#include "cli/secret.h"
#include "cli/wishes.h"

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

static char *on, *log_path, *confirm, *account, *password_fd, *kept_in, *called, *rounds_wanted;
static int keep, wait_s, external, missing;
const struct poptOption prove_options[] = {
    {"on", 'o', POPT_ARG_STRING, &on, 0,
     "the PCs to start from it, one after the other, with commas: the bench's, emulated-bios, emulated-uefi, "
     "emulated-secure; or own-pc: one that you start it on yourself",
     "PCS"},
    {"rounds", 'r', POPT_ARG_STRING, &rounds_wanted, 0,
     "what each round is, with commas: shutdown, cut, full, idle, clock (shutdown)", "WORDS"},
    {"proof", 0, POPT_ARG_STRING, &kept_in, 0, "the document of this proof: made, or gone on with; own-pc needs one",
     "FILE"},
    {"called", 0, POPT_ARG_STRING, &called, 0, "own-pc: what to call the PC it comes back from", "NAME"},
    {"missing", 0, POPT_ARG_NONE, &missing, 0,
     "own-pc: what was saved before was looked for on the screen, and was not there", NULL},
    {"confirm", 'c', POPT_ARG_STRING, &confirm, 0, "the drive's own name, for scripts: a start writes to it", "NAME"},
    {"external-disk", 0, POPT_ARG_NONE, &external, 0, "an external hard drive or SSD is really meant", NULL},
    {"account", 0, POPT_ARG_STRING, &account, 0,
     "who logs in where the system asks for it, and may administer; the password is asked for", "NAME"},
    {"password-fd", 0, POPT_ARG_STRING, &password_fd, 0,
     "read that, and behind it the passphrase of what is locked, from this open file, a line each", "NUMBER"},
    {"keep-traces", 0, POPT_ARG_NONE, &keep, 0, "leave what the proof wrote on the drive", NULL},
    {"wait", 0, POPT_ARG_INT, &wait_s, 0, "seconds a start may take (180)", "S"},
    {"console", 0, POPT_ARG_STRING, &log_path, 0, "add everything an emulated console says to this file", "FILE"},
    POPT_TABLEEND};

static const char own_pc[] = "own-pc";
enum { PCS_MOST = 8, ROUNDS_MOST = 12 };

static bool is_own(void) { return on && strcmp(on, own_pc) == 0; }

/* Words with commas between them. @return how many; 0 for too many, or an empty one */
static size_t split(char *text, const char *word[], size_t most) {
    size_t n = 0;
    for (char *at = text;; at++) {
        if (n == most || *at == ',' || !*at) return 0;
        word[n++] = at;
        at += strcspn(at, ",");
        if (!*at) return n;
        *at = '\0';
    }
}

static const char *round_word(unsigned i) { return i ? ws_round_bit_name(1u << (i - 1)) : "shutdown"; }

static enum ws_status read_rounds(struct cli *cli, unsigned round[ROUNDS_MOST], size_t *count) {
    const char *word[ROUNDS_MOST];
    *count = 0;
    if (!rounds_wanted) return WS_OK;
    *count = split(rounds_wanted, word, ROUNDS_MOST);
    if (!*count) return ws_fail(&cli->error, WS_E_USAGE, "--rounds takes 1 to %d words, with commas", ROUNDS_MOST);
    for (size_t i = 0; i < *count; i++) {
        unsigned k;
        WS_TRY(cli_pick(cli, "--rounds", word[i], round_word, 0, WS_ROUND_BITS + 1, &k));
        round[i] = k ? 1u << (k - 1) : 0;
    }
    return WS_OK;
}

static enum ws_status check_wishes(struct cli *cli) {
    if (!on) {
        ws_fail(&cli->error, WS_E_USAGE, "say on which PC the drive is to start: --on PC");
        return ws_fail_next(&cli->error,
                            "emulated-bios, emulated-uefi, emulated-secure, own-pc, or one of the bench's PCs");
    }
    if (is_own() && !kept_in) {
        ws_fail(&cli->error, WS_E_USAGE, "a proof on a PC of your own takes several commands: say where it is kept");
        return ws_fail_next(&cli->error, "--proof FILE");
    }
    if ((log_path || wait_s) && !strstr(on, "emulated-"))
        return ws_fail(&cli->error, WS_E_USAGE, "%s has no effect on a simulated PC",
                       log_path ? "--console" : "--wait");
    return WS_OK;
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
                           const struct ws_proof_options *how, struct ws_proof *proof) {
    struct ws_pc *pc[PCS_MOST] = {NULL};
    const char *word[PCS_MOST];
    char names[400];
    size_t count = 0;
    enum ws_status status = WS_OK;
    (void)snprintf(names, sizeof names, "%s", where);
    const size_t wanted = strlen(where) < sizeof names ? split(names, word, PCS_MOST) : 0;
    if (!wanted) return ws_fail(&cli->error, WS_E_USAGE, "--on takes 1 to %d PCs, with commas", PCS_MOST);
    for (; count < wanted; count++) {
        if (strcmp(word[count], own_pc) == 0)
            WS_GO(ws_fail(&cli->error, WS_E_USAGE, "own-pc stands alone: its rounds are commands of their own"));
        WS_GO(open_pc(cli, word[count], log, &pc[count]));
        WS_GO(pc[count]->ops->plug(pc[count], facts->id, &cli->error));
    }
    status = ws_prove(cli->port, pc, count, facts->id, how, proof, &cli->error);
done:
    for (size_t i = 0; i < wanted; i++)
        if (pc[i]) pc[i]->ops->close(pc[i]);
    return status;
}

bool prove_knows(struct cli *cli, const char *where) {
    struct ws_pc *pc = NULL;
    bool known = open_pc(cli, where, NULL, &pc) == WS_OK;
    if (pc) pc->ops->close(pc);
    return known;
}

/* Its begin, or its return from a session; nothing is written to the drive. */
static enum ws_status look_at_own(struct cli *cli, const struct ws_drive_facts *facts, const char *passphrase,
                                  bool there, struct ws_proof *proof) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    const int64_t now = cli->port->ops->wall_clock(cli->port);
    const struct ws_return how = {.pc = called, .passphrase = passphrase, .was_seen_missing = missing != 0};
    enum ws_status status = cli_open_now(cli, facts, &drive, &source);
    busy_begin(cli, "reading what %.60s remembers", facts->short_name);
    if (status == WS_OK && there) status = ws_proof_return(proof, source, facts, &how, now, &cli->error);
    else if (status == WS_OK) status = ws_proof_begin(source, facts, passphrase, now, proof, &cli->error);
    busy_end();
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return status;
}

static void show_what_to_do(struct cli *cli, const struct ws_drive_facts *facts, const struct ws_proof *proof) {
    const struct ws_round *last = proof->rounds ? &proof->round[proof->rounds - 1] : NULL;
    if (cli->json || proof->verdict == WS_VERDICT_LOST) return;
    if (!last)
        say("Start it on the PC, change something you will know again (a folder, a setting, a program), shut down, and "
            "bring it back:\n");
    else if (proof->verdict != WS_VERDICT_KEPT)
        say("Start it once more, on this PC or another, look whether what was changed is there, shut down, and "
            "bring it back%s:\n",
            last->told.by_people ? "; with --missing if it was not there" : "");
    else say("For a further round, on another PC, with a power cut, or when it is nearly full, bring it back again:\n");
    show_next(cli, "prove", facts->short_name, "--on", own_pc, "--proof", kept_in, "--called", "WHICH-PC");
}

static enum ws_status prove_by_hand(struct cli *cli, const struct ws_drive_facts *facts, bool there,
                                    struct ws_proof *proof, int *code) {
    struct ws_proof_options o = {.context = cli};
    WS_TRY(ask_secrets(cli, facts, &o));
    enum ws_status status = look_at_own(cli, facts, o.passphrase, there, proof);
    if (status == WS_E_DIFFERENT && !there && proof->text[0]) { /* it need not be taken anywhere */
        *code = proofs_conclude(cli, proof);
        return WS_OK;
    }
    WS_TRY(status);
    WS_TRY(proofs_keep(cli, kept_in, facts, proof));
    *code = proofs_conclude(cli, proof);
    show_what_to_do(cli, facts, proof);
    if (there && proof->verdict != WS_VERDICT_OPEN)
        history_note(cli, "prove", facts, NULL, NULL, *code == EXIT_DONE, proofs_word(proof->verdict));
    return WS_OK;
}

static enum ws_status prove_here(struct cli *cli, const struct ws_drive_facts *facts, struct ws_proof *proof,
                                 int *code) {
    char answer[128] = "";
    unsigned round[ROUNDS_MOST];
    struct ws_target_rules rules = {external != 0};
    struct ws_proof_options o = {.allow_external_disk = external != 0,
                                 .round = round,
                                 .keep_traces = keep != 0,
                                 .start_wait_s = wait_s,
                                 .on_step = tell_step,
                                 .context = cli};
    WS_TRY(read_rounds(cli, round, &o.rounds));
    WS_TRY(ws_drive_may_be_target(cli->port, facts, &rules, &cli->error)); /* the system that starts writes to it */
    if (!confirm && isatty(STDIN_FILENO) && cli->terminal && !cli->json) {
        WS_TRY(cli_ask(cli, facts, NULL, "will be started, and writes to it", answer, sizeof answer));
        confirm = answer;
    }
    o.confirm = confirm;
    enum ws_status status = ws_drive_confirmed(facts, confirm, &cli->error);
    if (status == WS_OK) status = ask_secrets(cli, facts, &o);
    if (status == WS_OK) status = prove_drive(cli, facts, on, log_path, &o, proof);
    if (confirm == answer) confirm = NULL;
    WS_TRY(status);
    if (kept_in) WS_TRY(proofs_keep(cli, kept_in, facts, proof));
    *code = proofs_conclude(cli, proof);
    history_note(cli, "prove", facts, NULL, NULL, *code == EXIT_DONE, proofs_word(proof->verdict));
    return WS_OK;
}

int run_prove(struct cli *cli, const char *const word[]) {
    struct ws_drive_facts facts;
    struct ws_proof *proof = NULL;
    bool there = false;
    enum ws_status status;
    int code = EXIT_DONE;
    WS_GO(check_wishes(cli));
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, word[0], &facts));
    proof = calloc(1, sizeof *proof);
    if (!proof) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a proof"));
    if (kept_in) WS_GO(proofs_load(cli, kept_in, proof, &there));
    status = is_own() ? prove_by_hand(cli, &facts, there, proof, &code) : prove_here(cli, &facts, proof, &code);
done:
    secret_clear();
    if (status != WS_OK) code = cli_fail(cli);
    if (proof) ws_proof_free(proof);
    free(proof);
    return code;
}
