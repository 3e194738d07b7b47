/* prove.c — rounds of start, change, power off, start again, carried out and judged. */
#include "proof/proving.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* As a shutdown ends: all file systems made read-only, whatever init there is, and then off. A live system's own would
 * wait for its medium to be taken out. */
#define OFF "sync; echo u > /proc/sysrq-trigger; poweroff -f"
/* A full system shuts down by its init, where there is one that does. */
#define SHUT_DOWN                                                                                                      \
    "if [ -d /run/systemd/system ] || [ -e /etc/inittab ] || [ -d /run/openrc ]; then poweroff; exit; else " OFF "; "  \
    "fi"

/* 2002-03-04: long before anything that it starts from was made. */
static const int64_t wrong_time = 1015200000;

/* "start 2: shutting down"; without a start, the words alone. */
static void step(struct proving *p, unsigned start, const char *what) {
    char text[128];
    if (start) (void)snprintf(text, sizeof text, "start %u%s%s", start, what[0] ? ": " : "", what);
    else (void)snprintf(text, sizeof text, "%s", what);
    if (p->options->on_step) p->options->on_step(p->options->context, text);
}

/* What was left out is said, whatever came of the rest. */
static void say_not_tried(struct ws_proof *proof) {
    const size_t n = strlen(proof->text);
    if (proof->not_tried[0])
        (void)snprintf(proof->text + n, sizeof proof->text - n, " Not tried: %s; it has nothing for that.",
                       proof->not_tried);
}

/* Read the drive ourselves while the PC is off. */
static enum ws_status look_at_drive(struct proving *p, struct ws_error *error) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    const struct ws_snapshot *first = p->proof->volume[0] ? &p->proof->first : NULL;
    enum ws_status status;
    WS_GO(p->port->ops->open(p->port, p->drive_id, WS_OPEN_READ, &drive, error));
    WS_GO(drive->ops->reread(drive, error));
    WS_GO(drive->ops->describe(drive, &p->facts, error));
    ws_drive_call(&p->facts, p->options->confirm);
    WS_GO(ws_source_drive(drive, &source, error));
    proof_look_free(&p->look);
    WS_GO(proof_look(source, p->facts.logical_sector, p->options->passphrase, first, p->port->ops->wall_clock(p->port),
                     &p->look, error));
done:
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return status;
}

/* The drive as it is becomes what the next round is compared with. */
static enum ws_status go_on_from_here(struct proving *p, struct ws_error *error) {
    struct ws_proof *proof = p->proof;
    if (!proof->drive[0]) {
        proof_start_from(proof, &p->facts, &p->look, p->port->ops->wall_clock(p->port));
        return WS_OK;
    }
    WS_TRY(proof_is_of(proof, &p->look, error));
    if (!p->look.read) return WS_OK;
    ws_snapshot_free(&proof->last);
    proof->last = p->look.snapshot;
    proof->seen = p->look.evidence;
    memset(&p->look.snapshot, 0, sizeof p->look.snapshot);
    return WS_OK;
}

static const char *why_lost(const struct proving *p, const struct ws_proof_item *first) {
    const struct ws_memory *m = &p->look.memory;
    if (m->cause != WS_FORGETS_NOT) return m->cause_text;
    if (p->passed == WS_LINK_FAILS) return "the start menu that was used does not pass the parameter";
    if (first->drive == WS_SURVIVES) return "it is on the drive, but the restarted system does not show it";
    return "everything needed is in place; read the console for what the live system itself says";
}

static void judge_round(struct proving *p, struct ws_round *r, unsigned number) {
    size_t made = 0, lost = 0;
    const struct ws_proof_item *first = NULL;
    for (size_t i = p->first_item; i < p->proof->items; i++) {
        const struct ws_proof_item *item = &p->proof->item[i];
        made += item->round == number;
        if (item->lost_in != number) continue;
        lost++;
        if (!first) first = item;
    }
    r->verdict = lost ? WS_VERDICT_LOST : WS_VERDICT_KEPT;
    if (first) {
        const bool shown = first->drive == WS_SURVIVES;
        r->cause = p->look.memory.cause         ? p->look.memory.cause
                   : p->passed == WS_LINK_FAILS ? WS_FORGETS_PARAMETER
                   : shown                      ? WS_FORGETS_UNSEEN
                                                : WS_FORGETS_UNSAVED;
        r->link[r->cause] = WS_LINK_FAILS;
        (void)snprintf(r->text, sizeof r->text,
                       "%zu of what was changed up to it was lost, first the %s %.80s: %.300s.", lost,
                       ws_proof_change_name(first->change), first->path, why_lost(p, first));
        return;
    }
    r->cause = WS_FORGETS_NOT;
    r->link[WS_FORGETS_LATER] = r->link[WS_FORGETS_UNSEEN] = WS_LINK_HOLDS;
    if (made) (void)snprintf(r->text, sizeof r->text, "All %zu changes were there after the next start.", made);
    else
        (void)snprintf(r->text, sizeof r->text,
                       "Nothing was changed in it; what was changed before it is still there.");
}

static void judge(struct proving *p) {
    struct ws_proof *proof = p->proof;
    size_t lost = 0;
    const struct ws_proof_item *first = NULL;
    for (size_t i = p->first_item; i < proof->items; i++) {
        if (!proof->item[i].lost_in) continue;
        if (!first) first = &proof->item[i];
        lost++;
    }
    for (size_t i = p->first_round; i < proof->rounds; i++) judge_round(p, &proof->round[i], (unsigned)i + 1);
    proof->cause = p->look.memory.cause;
    const size_t rounds = proof->rounds - p->first_round;
    if (proof->items == p->first_item) { /* nothing seen is nothing proved */
        proof->verdict = WS_VERDICT_LOST;
        (void)snprintf(proof->text, sizeof proof->text, "No change was made, so nothing is proved.");
    } else if (lost == 0 && p->first_round) {
        proof_conclude(proof); /* there are earlier rounds, and what they say counts */
    } else if (lost == 0) {
        proof->verdict = WS_VERDICT_KEPT;
        (void)snprintf(proof->text, sizeof proof->text, "All changes survived %zu restart%s, on the console%s.", rounds,
                       rounds == 1 ? "" : "s",
                       p->look.memory.unread ? " (its volume is not read here)" : " and on the drive");
    } else {
        proof->verdict = WS_VERDICT_LOST;
        for (size_t i = p->first_round; i < proof->rounds && proof->cause == WS_FORGETS_NOT; i++)
            if (p->proof->round[i].verdict == WS_VERDICT_LOST && p->passed == WS_LINK_FAILS)
                proof->cause = WS_FORGETS_PARAMETER;
        (void)snprintf(proof->text, sizeof proof->text, "%zu of %zu changes were lost, first the %s %s. Cause: %s.",
                       lost, proof->items - p->first_item, ws_proof_change_name(first->change), first->path,
                       why_lost(p, first));
    }
    say_not_tried(proof);
}

static enum ws_status no_start(struct proving *p, const char *pc, unsigned asked, struct ws_error *error) {
    struct ws_proof *proof = p->proof;
    const unsigned start = (unsigned)(proof->rounds - p->first_round) + 1;
    proof->verdict = WS_VERDICT_NO_START;
    console_tail(&p->console, proof->console_tail, sizeof proof->console_tail);
    const char *line = strrchr(proof->console_tail, '\n');
    while (line && line > proof->console_tail && line[1] == '\0') {
        proof->console_tail[line - proof->console_tail] = '\0';
        line = strrchr(proof->console_tail, '\n');
    }
    if (p->console.refused) (void)snprintf(proof->text, sizeof proof->text, "Start %u %s.", start, p->console.refused);
    else
        (void)snprintf(proof->text, sizeof proof->text, "Start %u %s. The last it said: %.300s", start,
                       p->console.off ? "gave no shell, and the PC switched itself off"
                                      : "gave no shell on the console",
                       proof->console_tail[0] ? (line ? line + 1 : proof->console_tail) : "(nothing)");
    WS_TRY(p->pc->ops->power_off(p->pc, false, error));
    if (proof->rounds == WS_PROOF_ROUNDS_MOST) return WS_OK;
    struct ws_round *r = &proof->round[proof->rounds++];
    memset(r, 0, sizeof *r);
    (void)snprintf(r->pc, sizeof r->pc, "%s", pc);
    r->asked = asked;
    r->verdict = WS_VERDICT_NO_START;
    r->before = r->after = proof->seen;
    ws_visible(proof->text, r->text, sizeof r->text);
    return WS_OK;
}

/* A start writes to the drive: the same questions as before a build. */
static enum ws_status check_target(const struct proving *p, struct ws_error *error) {
    struct ws_target_rules rules = {p->options->allow_external_disk};
    struct ws_drive *drive = NULL;
    struct ws_drive_facts facts;
    WS_TRY(p->port->ops->open(p->port, p->drive_id, WS_OPEN_READ, &drive, error));
    enum ws_status status = drive->ops->describe(drive, &facts, error);
    drive->ops->close(drive);
    ws_drive_call(&facts, p->options->confirm);
    if (status == WS_OK) status = ws_drive_may_be_target(p->port, &facts, &rules, error);
    return status == WS_OK ? ws_drive_confirmed(&facts, p->options->confirm, error) : status;
}

static enum ws_status set_clock(struct proving *p, unsigned kind, bool *by_hand, struct ws_error *error) {
    const bool wrong = kind & WS_ROUND_CLOCK;
    *by_hand = wrong && !p->pc->ops->set_clock;
    if (!p->pc->ops->set_clock) return WS_OK;
    return p->pc->ops->set_clock(p->pc, wrong ? wrong_time : 0, error);
}

/* What is done in a system that is up, up to the end of its session. @param kind  of the round; NULL: the last start */
static enum ws_status go_session(struct proving *p, unsigned start, const unsigned *kind, bool clock_by_hand,
                                 struct ws_error *error) {
    const unsigned rounds = (unsigned)p->proof->rounds;
    int result;
    if (clock_by_hand) WS_TRY(console_run(&p->console, "date -s '2002-03-04 05:06:07'", &result, NULL, error));
    if (p->proof->items > p->first_item) {
        step(p, start, "looking for what was changed");
        WS_TRY(changes_verify(p, rounds, error));
    }
    WS_TRY(changes_give_room(p, error));
    if (kind && !(*kind & WS_ROUND_IDLE)) {
        step(p, start, "making changes");
        WS_TRY(changes_make(p, rounds + 1, *kind, error));
    } else if (!kind && !p->options->keep_traces) {
        step(p, start, "taking the traces away");
        WS_TRY(changes_take_away(p, error));
    }
    const bool cut = kind && *kind & WS_ROUND_CUT;
    if (cut) WS_TRY(changes_keep_writing(p, error));
    step(p, start, cut ? "cutting the power" : "shutting down");
    if (!cut) WS_TRY(console_send(&p->console, p->look.memory.system ? SHUT_DOWN "\n" : OFF "\n", error));
    return p->pc->ops->power_off(p->pc, !cut, error);
}

/* One start, what is done in it, and the drive afterwards. @param up  out: a shell was there */
static enum ws_status go_round(struct proving *p, unsigned start, const unsigned *kind, const struct ws_pc_disk *disk,
                               bool *up, struct ws_error *error) {
    const struct ws_proof_options *o = p->options;
    struct ws_proof *proof = p->proof;
    struct ws_pc_facts pc;
    struct ws_round *r = NULL;
    bool clock_by_hand = false;
    *up = false;
    WS_TRY(p->pc->ops->describe(p->pc, &pc, error));
    step(p, start, "");
    WS_TRY(set_clock(p, kind ? *kind : 0, &clock_by_hand, error));
    p->console.pc = p->pc;
    WS_TRY(p->pc->ops->power_on(p->pc, error));
    proof->starts++;
    WS_TRY(console_wait_for_shell(&p->console, o->start_wait_s > 0 ? o->start_wait_s : 180, up, error));
    if (!*up) return no_start(p, pc.name, kind ? *kind : 0, error);
    if (p->passed != WS_LINK_FAILS) WS_TRY(changes_ask_parameters(p, error));
    if (disk && start == 1) WS_TRY(console_ask_for_disk(&p->console, disk->sectors, &proof->disk_seen, error));
    WS_TRY(go_session(p, start, kind, clock_by_hand, error));
    step(p, start, "reading the drive afterwards");
    WS_TRY(look_at_drive(p, error));
    if (!kind) return go_on_from_here(p, error);
    WS_TRY(proof_add_round(proof, pc.name, *kind, &p->look, p->port->ops->wall_clock(p->port), &r, error));
    if (p->passed != WS_LINK_UNKNOWN) r->link[WS_FORGETS_PARAMETER] = (uint8_t)p->passed;
    if (p->first_round) proof_judge_earlier(proof, r, false);
    changes_look_at(p, (unsigned)proof->rounds);
    return WS_OK;
}

static enum ws_status find_disk(struct ws_pc *const pc[], size_t pcs, struct ws_pc **with, struct ws_pc_disk *disk) {
    for (size_t i = 0; i < pcs; i++)
        if (!*with && pc[i]->ops->disk && pc[i]->ops->disk(pc[i], disk, NULL) == WS_OK) *with = pc[i];
    return WS_OK;
}

enum ws_status ws_prove(struct ws_port *port, struct ws_pc *const pc[], size_t pcs, const char *drive_id,
                        const struct ws_proof_options *options, struct ws_proof *proof, struct ws_error *error) {
    static const unsigned plain[] = {0};
    struct proving p = {.port = port, .pc = pc[0], .drive_id = drive_id, .options = options, .proof = proof};
    const unsigned *kinds = options->rounds ? options->round : plain;
    const size_t rounds = options->rounds ? options->rounds : 1;
    struct ws_pc_disk disk = {.touched = false};
    struct ws_pc *with_disk = NULL;
    uint8_t random[8];
    enum ws_status status;
    const double began = port->ops->steady_clock(port);
    bool up = true;
    WS_TRY(check_target(&p, error));
    if (proof->rounds + rounds > WS_PROOF_ROUNDS_MOST)
        return ws_fail(error, WS_E_RANGE, "a proof has at most %d rounds", WS_PROOF_ROUNDS_MOST);
    WS_TRY(port->ops->random(port, random, sizeof random, error));
    for (int i = 0; i < 8; i++) (void)snprintf(p.nonce + 2 * i, 3, "%02x", random[i]);
    p.console = (struct console){.pc = pc[0],
                                 .port = port,
                                 .on_text = options->on_console,
                                 .context = options->context,
                                 .account = options->account,
                                 .password = options->password,
                                 .passphrase = options->passphrase};
    p.first_item = proof->items;
    p.first_round = proof->rounds;
    proof->not_tried[0] = proof->console_tail[0] = '\0';
    WS_GO(find_disk(pc, pcs, &with_disk, &disk));
    proof->has_disk |= with_disk != NULL;
    step(&p, 0, "reading the drive before the first start");
    WS_GO(look_at_drive(&p, error));
    WS_GO(go_on_from_here(&p, error));
    for (unsigned s = 0; s <= rounds && up; s++) {
        p.pc = pc[s % pcs];
        WS_GO(go_round(&p, s + 1, s < rounds ? &kinds[s] : NULL, p.pc == with_disk ? &disk : NULL, &up, error));
    }
    if (up) judge(&p);
done:
    if (status == WS_OK && with_disk) {
        (void)with_disk->ops->power_off(with_disk, false, NULL);
        status = with_disk->ops->disk(with_disk, &disk, error);
        proof->disk_touched |= disk.touched;
    }
    proof->seconds += port->ops->steady_clock(port) - began;
    proof_look_free(&p.look);
    console_free(&p.console);
    if (status != WS_OK) (void)p.pc->ops->power_off(p.pc, false, NULL);
    return status;
}
