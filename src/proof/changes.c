/* changes.c — what a proof changes in a running system, looks for after the next start, and takes away again. */
#include "base/bytes.h"
#include "proof/proving.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

static const char place[] = "/satchel-proof";
static const char program_path[] = "/usr/local/bin/satchel-proof";
enum { MIB = 1 << 20, LEFT_MOST = 12 * MIB, WRITTEN_OUT_MOST = 256 * MIB };

const char *ws_proof_change_name(enum ws_proof_change change) {
    static const char *const names[] = {"new folder", "new file", "changed file", "deleted file", "installed program"};
    return names[change];
}

static struct ws_proof_item *add_item(struct proving *p, enum ws_proof_change change, const char *path,
                                      unsigned round) {
    struct ws_proof *proof = p->proof;
    if (proof->items >= WS_PROOF_ITEMS_MOST) return NULL;
    struct ws_proof_item *i = &proof->item[proof->items++];
    memset(i, 0, sizeof *i);
    i->change = change;
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

static enum ws_status expect_text(struct ws_proof_item *item, const char *text, struct ws_error *error) {
    char hex[WS_HASH_HEX];
    if (!item) return WS_OK;
    WS_TRY(ws_hash_bytes(WS_HASH_SHA256, text, strlen(text), hex, error));
    memcpy(item->sha256, hex, 65);
    return WS_OK;
}

/* Changes of the system's own files and a program, once. */
static enum ws_status change_the_system(struct proving *p, unsigned round, struct ws_error *error) {
    char text[160];
    int result;
    p->chosen = true;
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
    return run(p, &result, NULL, error, "chmod 755 %s", program_path);
}

/* All but a little room is taken; where that would take long, it is not tried. */
static enum ws_status take_room(struct proving *p, struct ws_error *error) {
    const uint64_t free_bytes = p->proof->seen.free_bytes;
    const uint64_t left = ws_min_u64(LEFT_MOST, ws_max_u64(MIB, free_bytes / 8));
    const unsigned long long take = free_bytes > 2 * left ? free_bytes - left : 0;
    int result = 0;
    if (!take) return WS_OK; /* it is nearly full as it is */
    p->filled = true;
    WS_TRY(run(p, &result, NULL, error, "fallocate -l %llu %s/filling", take, place));
    if (result == 0) return WS_OK;
    if (take <= WRITTEN_OUT_MOST)
        WS_TRY(run(p, &result, NULL, error, "dd if=/dev/zero of=%s/filling bs=%d count=%llu", place, MIB, take / MIB));
    if (result == 0) return WS_OK;
    p->filled = false;
    WS_TRY(run(p, &result, NULL, error, "rm -f %s/filling", place)); /* full to the last byte is another matter */
    if (strlen(p->proof->not_tried) + 32 < sizeof p->proof->not_tried)
        (void)snprintf(p->proof->not_tried + strlen(p->proof->not_tried), 32, "%sa volume nearly full",
                       p->proof->not_tried[0] ? " and " : "");
    return WS_OK;
}

enum ws_status changes_make(struct proving *p, unsigned round, unsigned kind, struct ws_error *error) {
    char path[160];
    char text[160];
    int result;
    if (kind & WS_ROUND_IDLE) return WS_OK;
    (void)snprintf(path, sizeof path, "%s/folder-%u", place, round);
    (void)add_item(p, WS_PROOF_NEW_FOLDER, path, round);
    WS_TRY(run(p, &result, NULL, error, "mkdir -p %s", path));
    if (kind & WS_ROUND_FULL) WS_TRY(take_room(p, error));
    (void)snprintf(path, sizeof path, "%s/folder-%u/new-file", place, round);
    WS_TRY(run(p, &result, NULL, error, "echo written in round %u, %s > %s", round, p->nonce, path));
    (void)snprintf(text, sizeof text, "written in round %u, %s\n", round, p->nonce);
    WS_TRY(expect_text(add_item(p, WS_PROOF_NEW_FILE, path, round), text, error));
    if (!p->chosen) WS_TRY(change_the_system(p, round, error));
    return run(p, &result, NULL, error, "sync");
}

enum ws_status changes_keep_writing(struct proving *p, struct ws_error *error) {
    int result;
    WS_TRY(
        run(p, &result, NULL, error, "{ while cat /bin/sh; do sync; done > %s/being-written 2> /dev/null & }", place));
    return run(p, &result, NULL, error, "sleep 2");
}

enum ws_status changes_give_room(struct proving *p, struct ws_error *error) {
    int result;
    if (!p->filled) return WS_OK;
    p->filled = false;
    return run(p, &result, NULL, error, "rm -f %s/filling", place);
}

static enum ws_status is_shown(struct proving *p, const struct ws_proof_item *item, bool *there,
                               struct ws_error *error) {
    int result = 0;
    if (!item->sha256[0]) {
        WS_TRY(run(p, &result, NULL, error, "test -e %s", item->path));
        *there = item->change == WS_PROOF_DELETED ? result != 0 : result == 0;
        return WS_OK;
    }
    char hex[65];
    WS_TRY(hash_there(p, item->path, hex, error));
    *there = strcmp(hex, item->sha256) == 0;
    if (!*there || item->change != WS_PROOF_PROGRAM) return WS_OK;
    struct ws_text out = {0};
    char want[40];
    (void)snprintf(want, sizeof want, "runs-%s", p->nonce);
    enum ws_status status = run(p, &result, &out, error, "%s", program_path);
    *there = out.data && strstr(out.data, want);
    ws_text_free(&out);
    return status;
}

enum ws_status changes_verify(struct proving *p, unsigned after, struct ws_error *error) {
    for (size_t i = p->first_item; i < p->proof->items; i++) {
        struct ws_proof_item *item = &p->proof->item[i];
        bool there = false;
        if (item->round > after) continue;
        WS_TRY(is_shown(p, item, &there, error));
        if (item->console != WS_LOST) item->console = there ? WS_SURVIVES : WS_LOST;
        if (!there && !item->lost_in) item->lost_in = after;
    }
    return WS_OK;
}

enum ws_status changes_take_away(struct proving *p, struct ws_error *error) {
    int result;
    if (p->changed_path[0]) WS_TRY(run(p, &result, NULL, error, "cat %s/changed-before > %s", place, p->changed_path));
    if (p->deleted_path[0]) WS_TRY(run(p, &result, NULL, error, "cat %s/deleted-before > %s", place, p->deleted_path));
    WS_TRY(run(p, &result, NULL, error, "rm -f %s", program_path));
    WS_TRY(run(p, &result, NULL, error, "rm -rf %s", place));
    return run(p, &result, NULL, error, "sync");
}

void changes_look_at(struct proving *p, unsigned round) {
    const struct look *look = &p->look;
    if (!look->read) return;
    for (size_t i = p->first_item; i < p->proof->items; i++) {
        struct ws_proof_item *item = &p->proof->item[i];
        char path[256];
        (void)snprintf(path, sizeof path, "%s%s%s", look->top[0] ? "/" : "", look->top, item->path);
        const struct ws_shot *s = ws_snapshot_find(&p->proof->last, path);
        const bool deleted = item->change == WS_PROOF_DELETED;
        for (size_t k = 0; s && s->hashed && item->sha256[0] && k < 32; k++)
            (void)snprintf(item->found + 2 * k, 3, "%02x", s->sha256[k]);
        const bool there = deleted && look->whole ? !s
                           : deleted              ? s && ws_shot_is_whiteout(s)
                                                  : s && (!item->sha256[0] || strcmp(item->sha256, item->found) == 0);
        item->drive = there ? WS_SURVIVES : WS_LOST;
        if (!there && !item->lost_in) item->lost_in = round;
    }
}

enum ws_status changes_ask_parameters(struct proving *p, struct ws_error *error) {
    struct ws_text out = {0};
    char missing[128];
    int result = 0;
    if (!p->look.memory.wanted[0]) return WS_OK;
    enum ws_status status = run(p, &result, &out, error, "cat /proc/cmdline");
    for (char *c = out.data; c && *c; c++)
        if (*c == '\r' || *c == '\n') *c = ' ';
    if (status == WS_OK && result == 0 && out.data)
        p->passed = ws_parameters_are_set(out.data, p->look.memory.wanted, missing, sizeof missing) ? WS_LINK_HOLDS
                                                                                                    : WS_LINK_FAILS;
    ws_text_free(&out);
    return status;
}
