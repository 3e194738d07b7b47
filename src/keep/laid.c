/* laid.c — a live drive that was laid down file by file, for its renewal: how it was made, and what others put on it.
 */
#include "fs/again.h"
#include "keep/internal.h"
#include "plan/laid.h"
#include "wild_satchel/start.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* The small volume that firmware reads, behind a system's that it does not. */
static const struct ws_partition *start_behind(const struct ws_table *table, uint64_t end) {
    const struct ws_partition *next = NULL;
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++)
        if (p[i].at >= end && p[i].mbr_type != 0xee && (!next || p[i].at < next->at)) next = &p[i];
    return next && on_drive_is_for_firmware(next) ? next : NULL;
}

static enum ws_status read_volume(struct ws_kept *k, const struct ws_partition *p, enum ws_role role,
                                  const struct ws_format **format, struct ws_error *error) {
    struct keep_laid *l = k->laid;
    struct ws_source **slice = &l->slice[role == WS_ROLE_START];
    WS_TRY(ws_source_slice(k->drive, p->at, p->length, slice, error));
    *format = ws_format_of(*slice, NULL);
    if (!*format || !(*format)->read) return ws_fail(error, WS_E_FORMAT, "a volume of the live system is damaged");
    l->end = p->at + p->length;
    return (*format)->read(*slice, &l->beside.others[role], NULL, error);
}

static bool has_files(const struct ws_node *folder) {
    for (const struct ws_node *n = folder; n; n = ws_tree_next_below(n, folder))
        if (n->kind != WS_NODE_FOLDER) return true;
    return false;
}

/* What is of the older image, or of ours. */
static bool was_laid(void *context, struct ws_node *n) {
    const struct ws_kept *k = context;
    const struct keep_laid *l = k->laid;
    char path[4096];
    if (!n->parent) return false;
    if (n->kind == WS_NODE_FOLDER) return laid_has(&l->laid, n) && !has_files(n);
    if (k->memory.in_file && n->work && l->at + n->work == k->memory.volume_at) return true;
    const struct ws_node *own = ws_tree_find_any_case(l->beside.others[WS_ROLE_SYSTEM], LAID_PATH);
    if (n == own || laid_has(&l->laid, n)) return true;
    /* Changed since it was laid down it is somebody's, until the newer image brings its own. Where no list is, all that
     * it brings is. */
    const bool listed = l->laid.files && ws_tree_find_any_case(l->laid.files, ws_node_path(n, path, sizeof path));
    n->work2 = listed || !l->laid.files;
    return false;
}

static void leave_others(struct ws_kept *k) {
    struct ws_tree *system = k->laid->beside.others[WS_ROLE_SYSTEM], *start = k->laid->beside.others[WS_ROLE_START];
    for (struct ws_node *n = ws_tree_root(system); n; n = ws_tree_next(n)) n->work2 = 0;
    ws_tree_drop_all(system, was_laid, k);
    ws_tree_drop_all(system, was_laid, k); /* folders that are empty now */
    for (struct ws_node *n = start ? ws_tree_root(start) : NULL; n; n = ws_tree_next(n)) n->work2 = 1;
}

enum ws_status keep_laid_open(struct ws_kept *k, const struct on_drive *was, struct ws_error *error) {
    const struct ws_partition *p = keep_partition_of(was->table, was->medium.at);
    const struct ws_format *format = NULL, *start = NULL;
    if (!p) return ws_fail(error, WS_E_UNSUPPORTED, "the system on this drive stands in no partition of its own");
    struct keep_laid *l = k->laid = calloc(1, sizeof *l);
    if (!l) return ws_fail(error, WS_E_NOMEM, "out of memory for what was laid down");
    l->at = p->at;
    l->size = p->length;
    l->gpt = was->table->kind >= WS_TABLE_GPT;
    (void)snprintf(l->label, sizeof l->label, "%s", was->medium.name[WS_BY_LABEL]);
    WS_TRY(read_volume(k, p, WS_ROLE_SYSTEM, &format, error));
    l->format = format->word;
    if (k->memory.in_file && keep_partition_of(was->table, k->memory.volume_at) == p)
        l->beside.file_at = k->memory.volume_at - p->at;
    const struct ws_partition *behind = format->firmware ? NULL : start_behind(was->table, l->end);
    if (behind) WS_TRY(read_volume(k, behind, WS_ROLE_START, &start, error));
    const enum ws_status status = laid_read(l->beside.others[WS_ROLE_SYSTEM], &l->laid, error);
    if (status != WS_E_NOTFOUND) WS_TRY(status);
    l->beside.request = l->laid.request;
    leave_others(k);
    return WS_OK;
}

/* Of the program that firmware starts: is it ours? */
static bool starts_by_ours(const struct keep_laid *l) {
    const struct ws_node *n = ws_tree_find_any_case(l->beside.others[WS_ROLE_SYSTEM], WS_UEFI_PROGRAM_PATH);
    return n && n->content && ws_start_program_is_ours(n->content);
}

static void want_as_asked(struct ws_request *r, const struct ws_request *asked, enum ws_role role,
                          struct ws_size size) {
    const struct ws_wanted *old = asked ? ws_request_wanted(asked, role) : NULL;
    struct ws_wanted *w = ws_request_want(r, role);
    if (old) *w = *old;
    w->size = size;
}

void keep_laid_ask(const struct ws_kept *k, struct ws_request *r, struct ws_build_setting *s) {
    const struct keep_laid *l = k->laid;
    const struct ws_request *asked = l->laid.request;
    const struct ws_size least = {WS_SIZE_LEAST, 0};
    s->beside = &l->beside;
    if (asked) {
        s->id = l->laid.id;
        s->made_at = l->laid.made_at;
        r->rules = asked->rules;
        r->check = asked->check;
        r->uefi_code = asked->uefi_code;
        r->menu_seconds = asked->menu_seconds;
        memcpy(r->family, asked->family, sizeof r->family);
    } else if (starts_by_ours(l)) {
        r->uefi_code = WS_UEFI_CODE_OWN;
    }
    r->table = l->gpt ? WS_TABLE_WISH_GPT : WS_TABLE_WISH_MBR;
    want_as_asked(r, asked, WS_ROLE_SYSTEM, ws_size_of(l->size));
    struct ws_wanted *w = ws_request_want(r, WS_ROLE_SYSTEM);
    (void)snprintf(w->format, sizeof w->format, "%s", l->format);
    (void)snprintf(w->label, sizeof w->label, "%s", l->label);
    want_as_asked(r, asked, WS_ROLE_PERSISTENCE, l->beside.file_at ? ws_size_of(k->memory.volume_size) : least);
    w = ws_request_want(r, WS_ROLE_PERSISTENCE);
    w->locked = k->memory.locked;
    w->place = k->memory.in_file ? WS_PLACE_FILE : WS_PLACE_PARTITION;
}

static void example(char list[WS_HIDDEN_EXAMPLES][160], size_t *count, const struct ws_node *n) {
    char path[4096];
    if (*count < WS_HIDDEN_EXAMPLES) ws_visible(ws_node_path(n, path, sizeof path), list[(*count)++], 160);
}

void keep_laid_tell(const struct ws_kept *k, struct ws_live_renewal *told) {
    const struct keep_laid *l = k->laid;
    told->unlisted = !l->laid.files;
    for (enum ws_role role = 0; role < WS_ROLES; role++) {
        const struct ws_tree *others = l->beside.others[role];
        for (struct ws_node *n = others ? ws_tree_next(ws_tree_root(others)) : NULL; n; n = ws_tree_next(n)) {
            if (n->kind != WS_NODE_FILE) continue;
            if (n->work2 == 2) {
                told->replaced += l->laid.files && role == WS_ROLE_SYSTEM;
                if (l->laid.files && role == WS_ROLE_SYSTEM) example(told->replaced_path, &told->replaced_paths, n);
                continue;
            }
            told->others++;
            told->others_bytes += ws_node_size(n);
            example(told->others_path, &told->others_paths, n);
        }
    }
}

static bool gave_way(void *context, const struct ws_node *n) {
    (void)context;
    return n->work2 == 2;
}

enum ws_status keep_laid_look_again(const struct ws_kept *k, struct ws_error *error) {
    static const enum ws_role roles[] = {WS_ROLE_SYSTEM, WS_ROLE_START};
    const struct keep_laid *l = k->laid;
    for (size_t i = 0; i < sizeof roles / sizeof roles[0]; i++) {
        const struct ws_volume *v = ws_plan_volume(ws_build_plan(k->build), roles[i]);
        const struct ws_tree *others = l->beside.others[roles[i]];
        if (!v || !others) continue;
        const struct fs_again again = {.format = ws_format_of(l->slice[i], NULL),
                                       .layout = k->layout,
                                       .at = v->at,
                                       .size = v->size,
                                       .base = k->drive,
                                       .base_at = v->at,
                                       .wanted = others,
                                       .how = {.more = SIZE_MAX, .any_case = true, .aside = gave_way}};
        WS_TRY(fs_look_again(&again, error));
    }
    return WS_OK;
}

void keep_laid_close(struct keep_laid *l) {
    if (!l) return;
    for (size_t i = 0; i < WS_ROLES; i++) ws_tree_close(l->beside.others[i]);
    for (size_t i = 0; i < 2; i++) ws_source_close(l->slice[i]);
    laid_free(&l->laid);
    free(l);
}
