/* prove.c — rounds of start, change, power off, start again. */
#include "proof/console.h"
#include "wild_satchel/lock.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char place[] = "/satchel-proof";
static const char program_path[] = "/usr/local/bin/satchel-proof";

struct proving {
    struct ws_port *port;
    struct ws_pc *pc;
    const char *drive_id;
    const struct ws_proof_options *options;
    struct ws_proof *proof;
    struct console console;
    char nonce[17];
    char changed_path[64], deleted_path[64]; /* files of the system itself */
    struct ws_memory memory;
    struct ws_snapshot before;
};

/* "start 2: shutting down"; without a round, the words alone. */
static void step(struct proving *p, unsigned round, const char *what) {
    char text[128];
    if (round) (void)snprintf(text, sizeof text, "start %u%s%s", round, what[0] ? ": " : "", what);
    else (void)snprintf(text, sizeof text, "%s", what);
    if (p->options->on_step) p->options->on_step(p->options->context, text);
}

static struct ws_proof_item *add_item(struct proving *p, enum ws_proof_change change, const char *path,
                                      unsigned round) {
    static const char *const words[] = {"new folder", "new file", "changed file", "deleted file", "installed program"};
    struct ws_proof *proof = p->proof;
    if (proof->items >= WS_PROOF_ITEMS_MOST) return NULL;
    struct ws_proof_item *i = &proof->item[proof->items++];
    memset(i, 0, sizeof *i);
    i->change = change;
    (void)snprintf(i->what, sizeof i->what, "%s", words[change]);
    (void)snprintf(i->path, sizeof i->path, "%s", path);
    i->round = round;
    i->console = i->drive = WS_NOT_TRIED;
    return i;
}

static enum ws_status run(struct proving *p, int *result, struct ws_text *out, struct ws_error *error,
                          const char *format, ...) WS_PRINTF(5, 6);

static enum ws_status run(struct proving *p, int *result, struct ws_text *out, struct ws_error *error,
                          const char *format, ...) {
    char command[1024];
    va_list list;
    va_start(list, format);
    (void)vsnprintf(command, sizeof command, format, list);
    va_end(list);
    return console_run(&p->console, command, result, out, error);
}

/* The hash a running system gives for a file; empty if it has none. */
static enum ws_status hash_there(struct proving *p, const char *path, char hex[65], struct ws_error *error) {
    struct ws_text out = {0};
    int result;
    hex[0] = '\0';
    enum ws_status status = run(p, &result, &out, error, "sha256sum %s", path);
    for (const char *c = out.data; status == WS_OK && c && *c; c++)
        if (strspn(c, "0123456789abcdef") >= 64) {
            memcpy(hex, c, 64);
            hex[64] = '\0';
            break;
        }
    ws_text_free(&out);
    return status;
}

/* Files of the system that can be changed and deleted for the proof, if it has any of these. */
static enum ws_status choose_files(struct proving *p, struct ws_error *error) {
    static const char *const candidates[] = {"/etc/motd",     "/etc/issue.net", "/etc/issue", "/etc/services",
                                             "/etc/networks", "/etc/protocols", "/etc/rpc",   "/etc/hosts"};
    for (size_t i = 0; i < sizeof candidates / sizeof candidates[0] && !p->deleted_path[0]; i++) {
        int result;
        WS_TRY(run(p, &result, NULL, error, "test -f %s", candidates[i]));
        if (result != 0) continue;
        char *out = p->changed_path[0] ? p->deleted_path : p->changed_path;
        (void)snprintf(out, sizeof p->changed_path, "%s", candidates[i]);
    }
    if (!p->deleted_path[0])
        (void)snprintf(p->proof->not_tried, sizeof p->proof->not_tried, "%sa deleted file",
                       p->changed_path[0] ? "" : "a changed file and ");
    return WS_OK;
}

/* What was left out is said, whatever came of the rest. */
static void say_not_tried(struct ws_proof *proof) {
    const size_t n = strlen(proof->text);
    if (proof->not_tried[0])
        (void)snprintf(proof->text + n, sizeof proof->text - n,
                       " Not tried: %s; it has none of those that a proof may touch.", proof->not_tried);
}

static enum ws_status expect_text(struct ws_proof_item *item, const char *text, struct ws_error *error) {
    char hex[WS_HASH_HEX];
    if (!item) return WS_OK;
    WS_TRY(ws_hash_bytes(WS_HASH_SHA256, text, strlen(text), hex, error));
    memcpy(item->sha256, hex, 65);
    return WS_OK;
}

static enum ws_status make_changes(struct proving *p, unsigned round, struct ws_error *error) {
    char path[160];
    char text[160];
    int result;
    (void)snprintf(path, sizeof path, "%s/folder-%u", place, round);
    (void)add_item(p, WS_PROOF_NEW_FOLDER, path, round);
    WS_TRY(run(p, &result, NULL, error, "mkdir -p %s", path));
    (void)snprintf(path, sizeof path, "%s/folder-%u/new-file", place, round);
    WS_TRY(run(p, &result, NULL, error, "echo written in start %u, %s > %s", round, p->nonce, path));
    (void)snprintf(text, sizeof text, "written in start %u, %s\n", round, p->nonce);
    WS_TRY(expect_text(add_item(p, WS_PROOF_NEW_FILE, path, round), text, error));
    if (round > 1) return run(p, &result, NULL, error, "sync");
    WS_TRY(choose_files(p, error));
    if (p->changed_path[0]) {
        struct ws_proof_item *item = add_item(p, WS_PROOF_CHANGED, p->changed_path, round);
        WS_TRY(run(p, &result, NULL, error, "cat %s > %s/changed-before", p->changed_path, place));
        WS_TRY(run(p, &result, NULL, error, "echo changed by the proof, %s >> %s", p->nonce, p->changed_path));
        if (item) WS_TRY(hash_there(p, p->changed_path, item->sha256, error));
    }
    if (p->deleted_path[0]) {
        (void)add_item(p, WS_PROOF_DELETED, p->deleted_path, round);
        WS_TRY(run(p, &result, NULL, error, "cat %s > %s/deleted-before", p->deleted_path, place));
        WS_TRY(run(p, &result, NULL, error, "rm %s", p->deleted_path));
    }
    (void)snprintf(text, sizeof text, "#!/bin/sh\necho runs-%s\n", p->nonce);
    WS_TRY(expect_text(add_item(p, WS_PROOF_PROGRAM, program_path, round), text, error));
    WS_TRY(run(p, &result, NULL, error, "mkdir -p /usr/local/bin"));
    WS_TRY(run(p, &result, NULL, error, "printf '#!/bin/sh\\necho runs-%s\\n' > %s", p->nonce, program_path));
    WS_TRY(run(p, &result, NULL, error, "chmod 755 %s", program_path));
    return run(p, &result, NULL, error, "sync");
}

static enum ws_status verify_on_console(struct proving *p, unsigned round, struct ws_error *error) {
    for (size_t i = 0; i < p->proof->items; i++) {
        struct ws_proof_item *item = &p->proof->item[i];
        int result = 0;
        bool there;
        if (item->round >= round) continue;
        if (item->sha256[0]) {
            char hex[65];
            WS_TRY(hash_there(p, item->path, hex, error));
            there = strcmp(hex, item->sha256) == 0;
        } else {
            WS_TRY(run(p, &result, NULL, error, "test -e %s", item->path));
            there = item->change == WS_PROOF_DELETED ? result != 0 : result == 0;
        }
        if (there && item->change == WS_PROOF_PROGRAM) {
            struct ws_text out = {0};
            char want[40];
            (void)snprintf(want, sizeof want, "runs-%s", p->nonce);
            enum ws_status status = run(p, &result, &out, error, "%s", program_path);
            there = out.data && strstr(out.data, want);
            ws_text_free(&out);
            WS_TRY(status);
        }
        if (item->console != WS_LOST) item->console = there ? WS_SURVIVES : WS_LOST;
    }
    return WS_OK;
}

struct counting {
    struct ws_proof *proof;
};

static void count_change(void *context, enum ws_change change, const struct ws_shot *before,
                         const struct ws_shot *after) {
    struct counting *c = context;
    (void)before, (void)after;
    if (change == WS_CHANGE_ADDED) c->proof->evidence_added++;
    if (change == WS_CHANGE_CHANGED) c->proof->evidence_changed++;
}

/* Read the drive ourselves while the PC is off. */
static enum ws_status evidence(struct proving *p, bool first, struct ws_error *error) {
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_lock *lock = NULL;
    struct ws_drive_facts facts;
    struct ws_snapshot now = {0};
    enum ws_status status;
    WS_GO(p->port->ops->open(p->port, p->drive_id, WS_OPEN_READ, &drive, error));
    WS_GO(drive->ops->reread(drive, error));
    WS_GO(drive->ops->describe(drive, &facts, error));
    WS_GO(ws_source_drive(drive, &source, error));
    WS_GO(ws_memory_look(source, facts.logical_sector, &p->memory, error));
    if (p->memory.locked && !p->options->passphrase) {
        ws_fail(error, WS_E_USAGE, "what it keeps is locked, and the proof has no passphrase to open it");
        WS_GO(ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it"));
    }
    const char *changes = p->memory.system ? "" : p->memory.family ? p->memory.family->changes : NULL;
    if (!p->memory.volume_size || !changes) goto done;
    WS_GO(ws_source_slice(source, p->memory.volume_at, p->memory.volume_size, &slice, error));
    if (p->memory.locked) WS_GO(ws_lock_open(slice, p->options->passphrase, &lock, error));
    if (ws_ext4_read(lock ? ws_lock_body(lock) : slice, &tree, NULL, NULL) != WS_OK)
        goto done; /* the memory's cause says why */
    WS_GO(ws_snapshot_take(tree, &now, error));
    if (first) {
        p->before = now;
        memset(&now, 0, sizeof now);
        goto done;
    }
    struct counting counting = {p->proof};
    p->proof->evidence_added = p->proof->evidence_changed = 0;
    ws_snapshot_compare(&p->before, &now, count_change, &counting);
    for (size_t i = 0; i < p->proof->items; i++) {
        struct ws_proof_item *item = &p->proof->item[i];
        char path[256];
        (void)snprintf(path, sizeof path, "%s%s%s", changes[0] ? "/" : "", changes, item->path);
        const struct ws_node *n = ws_tree_find(tree, path);
        bool deleted = item->change == WS_PROOF_DELETED;
        if (n && item->sha256[0])
            for (size_t k = 0; k < now.count; k++)
                if (strcmp(now.shot[k].path, path) == 0) memcpy(item->found, now.shot[k].sha256, sizeof item->found);
        bool there = deleted && p->memory.system ? !n /* no lower tree shines through */
                     : deleted                   ? n && ws_node_is_whiteout(n)
                                                 : n && (!item->sha256[0] || strcmp(item->sha256, item->found) == 0);
        item->drive = there ? WS_SURVIVES : WS_LOST;
    }
done:
    ws_snapshot_free(&now);
    ws_tree_close(tree);
    ws_lock_close(lock);
    ws_source_close(slice);
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    return status;
}

static enum ws_status clean_up(struct proving *p, struct ws_error *error) {
    int result;
    if (p->changed_path[0]) WS_TRY(run(p, &result, NULL, error, "cat %s/changed-before > %s", place, p->changed_path));
    if (p->deleted_path[0]) WS_TRY(run(p, &result, NULL, error, "cat %s/deleted-before > %s", place, p->deleted_path));
    WS_TRY(run(p, &result, NULL, error, "rm -f %s", program_path));
    WS_TRY(run(p, &result, NULL, error, "rm -rf %s", place));
    return run(p, &result, NULL, error, "sync");
}

static void judge(struct proving *p) {
    struct ws_proof *proof = p->proof;
    size_t lost = 0;
    const struct ws_proof_item *first = NULL;
    for (size_t i = 0; i < proof->items; i++) {
        const struct ws_proof_item *item = &proof->item[i];
        if (item->round >= proof->starts) continue; /* no start came after it */
        if (item->console == WS_SURVIVES && item->drive == WS_SURVIVES) continue;
        if (!first) first = item;
        lost++;
    }
    size_t tried = 0;
    for (size_t i = 0; i < proof->items; i++) tried += proof->item[i].round < proof->starts;
    proof->cause = p->memory.cause;
    if (tried == 0) { /* nothing seen is nothing proved */
        proof->verdict = WS_VERDICT_LOST;
        (void)snprintf(proof->text, sizeof proof->text, "No change could be made, so nothing is proved.");
        return;
    }
    if (lost == 0) {
        proof->verdict = WS_VERDICT_KEPT;
        (void)snprintf(proof->text, sizeof proof->text,
                       "All changes survived %u restart%s, on the console and on the drive.", proof->starts - 1,
                       proof->starts == 2 ? "" : "s");
        say_not_tried(proof);
        return;
    }
    proof->verdict = WS_VERDICT_LOST;
    const char *why = p->memory.cause != WS_FORGETS_NOT ? p->memory.cause_text
                      : first->drive == WS_SURVIVES
                          ? "it is on the drive, but the restarted system does not show it"
                          : "everything needed is in place; read the console for what the live "
                            "system itself says";
    (void)snprintf(proof->text, sizeof proof->text, "%zu of %zu changes were lost, first the %s %s. Cause: %s.", lost,
                   proof->items, first->what, first->path, why);
    say_not_tried(proof);
}

static enum ws_status no_start(struct proving *p, struct ws_error *error) {
    struct ws_proof *proof = p->proof;
    proof->verdict = WS_VERDICT_NO_START;
    console_tail(&p->console, proof->console_tail, sizeof proof->console_tail);
    const char *line = strrchr(proof->console_tail, '\n');
    while (line && line > proof->console_tail && line[1] == '\0') {
        proof->console_tail[line - proof->console_tail] = '\0';
        line = strrchr(proof->console_tail, '\n');
    }
    if (p->console.refused) {
        (void)snprintf(proof->text, sizeof proof->text, "Start %u %s.", proof->starts, p->console.refused);
        return p->pc->ops->power_off(p->pc, false, error);
    }
    (void)snprintf(proof->text, sizeof proof->text, "Start %u %s. The last it said: %.300s", proof->starts,
                   p->console.off ? "gave no shell, and the PC switched itself off" : "gave no shell on the console",
                   proof->console_tail[0] ? (line ? line + 1 : proof->console_tail) : "(nothing)");
    return p->pc->ops->power_off(p->pc, false, error);
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

/* One start, what is done in it, and the drive afterwards. @param up  out: a shell was there */
static enum ws_status go_round(struct proving *p, unsigned round, unsigned starts, const struct ws_pc_disk *disk,
                               bool *up, struct ws_error *error) {
    const struct ws_proof_options *o = p->options;
    struct ws_pc *pc = p->pc;
    *up = false;
    step(p, round, "");
    WS_TRY(pc->ops->power_on(pc, error));
    p->proof->starts = round;
    WS_TRY(console_wait_for_shell(&p->console, o->start_wait_s > 0 ? o->start_wait_s : 180, up, error));
    if (!*up) return no_start(p, error);
    if (round == 1 && p->proof->has_disk)
        WS_TRY(console_ask_for_disk(&p->console, disk->sectors, &p->proof->disk_seen, error));
    if (round > 1) {
        step(p, round, "looking for what was changed");
        WS_TRY(verify_on_console(p, round, error));
    }
    if (round < starts) {
        step(p, round, "making changes");
        WS_TRY(make_changes(p, round, error));
    } else if (!o->keep_traces) {
        step(p, round, "taking the traces away");
        WS_TRY(clean_up(p, error));
    }
    bool cut = o->cut && round < starts;
    step(p, round, cut ? "cutting the power" : "shutting down");
    if (!cut) WS_TRY(console_send(&p->console, "poweroff -f\n", error));
    WS_TRY(pc->ops->power_off(pc, !cut, error));
    if (round == starts) return WS_OK;
    step(p, round, "reading the drive afterwards");
    return evidence(p, false, error);
}

enum ws_status ws_prove(struct ws_port *port, struct ws_pc *pc, const char *drive_id,
                        const struct ws_proof_options *options, struct ws_proof *proof, struct ws_error *error) {
    struct proving p = {.port = port, .pc = pc, .drive_id = drive_id, .options = options, .proof = proof};
    enum ws_status status;
    uint8_t random[8];
    unsigned starts = options->starts < 2 ? 2 : options->starts;
    double began = port->ops->steady_clock(port);
    bool up = true;
    memset(proof, 0, sizeof *proof);
    WS_TRY(check_target(&p, error));
    WS_TRY(port->ops->random(port, random, sizeof random, error));
    for (int i = 0; i < 8; i++) (void)snprintf(p.nonce + 2 * i, 3, "%02x", random[i]);
    p.console = (struct console){.pc = pc,
                                 .port = port,
                                 .on_text = options->on_console,
                                 .context = options->context,
                                 .account = options->account,
                                 .password = options->password,
                                 .passphrase = options->passphrase};
    struct ws_pc_disk disk = {.touched = false};
    proof->has_disk = pc->ops->disk && pc->ops->disk(pc, &disk, NULL) == WS_OK;
    step(&p, 0, "reading the drive before the first start");
    WS_GO(evidence(&p, true, error));
    for (unsigned round = 1; round <= starts && up; round++) WS_GO(go_round(&p, round, starts, &disk, &up, error));
    if (up) judge(&p);
done:
    if (status == WS_OK && proof->has_disk) {
        (void)pc->ops->power_off(pc, false, NULL);
        status = pc->ops->disk(pc, &disk, error);
        proof->disk_touched = disk.touched;
    }
    proof->seconds = port->ops->steady_clock(port) - began;
    ws_snapshot_free(&p.before);
    console_free(&p.console);
    if (status != WS_OK) (void)pc->ops->power_off(pc, false, NULL);
    return status;
}

const char *ws_verdict_name(enum ws_verdict verdict) {
    static const char *const names[] = {"kept", "lost", "no-start"};
    return names[verdict];
}
