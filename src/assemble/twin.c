/* twin.c — the recipe of a twin: each volume of an existing drive laid down anew on another, and what starts it put
 * right. */
#include "assemble/twin.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A drive in use changes under the reader; a plan is only good for what it was made from. */
static enum ws_status take_original(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_original *o = &b->twin->original;
    struct ws_input *input = &p->request.input[WS_INPUT_IMAGE];
    if (input->is_drive && strcmp(input->path, p->drive.name) == 0) {
        ws_fail(error, WS_E_USAGE, "the original and the drive for its twin are one");
        ws_fail_where(error, "%s", input->path);
        return ws_fail_next(error, "name another drive");
    }
    if (b->running) {
        *o = *b->running;
        memset(b->running, 0, sizeof *b->running);
    } else {
        WS_TRY(ws_original_open(b->image.source, ws_table_sector_of(b->image.source), o, error));
    }
    for (size_t i = 0; i < o->findings.count; i++)
        ws_findings_add(&p->findings, o->findings.list[i].weight == WS_FAULT ? WS_WARNING : o->findings.list[i].weight,
                        "the original: %s", o->findings.list[i].text);
    if (input->sha256[0] && strcmp(input->sha256, o->state) != 0) {
        ws_fail(error, WS_E_FORMAT, "the original was used since this was asked for");
        ws_fail_where(error, "%s", input->path);
        return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "make the plan again");
    }
    if (o->source) memcpy(input->sha256, o->state, sizeof input->sha256);
    const char *name = o->facts.name[0]            ? o->facts.name
                       : strrchr(input->path, '/') ? strrchr(input->path, '/') + 1
                                                   : input->path;
    (void)snprintf(p->facts.title, sizeof p->facts.title, "%.150s", name);
    ws_make_visible(p->facts.title, sizeof p->facts.title);
    return WS_OK;
}

enum ws_status build_check_original(const struct ws_build *b, struct ws_error *error) {
    if (!b->twin->original.source) return WS_OK; /* it runs: a refresh looks after what changed */
    struct ws_original *o = malloc(sizeof *o);
    if (!o) return ws_fail(error, WS_E_NOMEM, "out of memory for an original");
    enum ws_status status = ws_original_open(b->image.source, ws_table_sector_of(b->image.source), o, error);
    if (status == WS_OK && strcmp(o->state, b->twin->original.state) != 0) {
        ws_fail(error, WS_E_FORMAT, "the original was used while it was read, or since it was planned");
        status = ws_fail_where(error, "%s", b->plan->request.input[WS_INPUT_IMAGE].path);
    }
    ws_original_close(o);
    free(o);
    return status;
}

/* A table of the original's kind, where it can list all. */
static enum ws_status begin_table(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct build_twin *t = b->twin;
    const struct ws_table *was = &t->original.table;
    const bool was_gpt = was->kind == WS_TABLE_GPT || was->kind == WS_TABLE_HYBRID;
    const bool gpt = p->request.table == WS_TABLE_USUAL ? was_gpt || t->rows > 4 : false;
    if (p->request.table == WS_TABLE_WISH_MBR && t->rows > 4)
        return ws_fail(error, WS_E_UNSUPPORTED, "an MBR lists four volumes, and the twin has %zu", t->rows);
    const enum ws_table_wish asked = p->request.table;
    if (gpt) p->request.table = WS_TABLE_WISH_GPT;
    enum ws_status status = build_begin_table(b, error);
    p->request.table = asked;
    WS_TRY(status);
    if (!t->same_identity || was->kind == WS_TABLE_NONE) return WS_OK;
    if (b->table->kind == WS_TABLE_GPT && was_gpt) b->table->disk_id = was->disk_id;
    memcpy(b->table->mbr_sector + 440, was->mbr_sector + 440, 4);
    return WS_OK;
}

/* Start-up code of ours where it finds something; else what stood in front of the volumes, if it can stand there. */
static enum ws_status add_front(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    const struct build_twin *t = b->twin;
    const struct ws_original *o = &t->original;
    struct ws_source *zeros = NULL;
    const uint64_t end = p->volume[0].at;
    bool active = false;
    for (size_t i = 0; i < b->table->mbr_count; i++) active |= b->table->mbr[i].active;
    if (t->starts && b->table->kind == WS_TABLE_MBR && !active) b->table->mbr[0].active = true;
    if (t->starts) return build_add_front(b, error);
    if (o->table.kind == WS_TABLE_MBR && b->table->kind == WS_TABLE_MBR && !ws_start_is_ours(o->table.mbr_sector)) {
        memcpy(b->table->mbr_sector, o->table.mbr_sector, 440);
        const uint64_t gap = ws_min_u64(o->volume[0].place.at, end);
        if (gap > p->drive.sector)
            WS_TRY(ws_layout_add(b->layout, p->drive.sector, gap - p->drive.sector, b->image.source, p->drive.sector,
                                 WS_PHASE_BODY, error));
    }
    WS_TRY(ws_source_zeros(end, &zeros, error));
    WS_TRY(ws_layout_own(b->layout, zeros, error));
    WS_TRY(ws_table_compose(b->table, b->layout, error));
    return ws_layout_fill(b->layout, 0, end, zeros, error);
}

static enum ws_status compose_row(struct ws_build *b, const struct twin_row *r, struct ws_volume *v,
                                  struct ws_error *error) {
    (void)ws_layout_part(b->layout, r->role);
    if (!r->format) {
        const struct ws_original_volume *was = &b->twin->original.volume[r->of];
        const struct ws_stretch all = {0, was->slice->size}, *s = was->used.count ? was->used.stretch : &all;
        for (size_t i = 0; i < ws_max_u64(was->used.count, 1); i++)
            WS_TRY(ws_layout_add(b->layout, v->at + s[i].at, s[i].length, was->slice, s[i].at, WS_PHASE_BODY, error));
        return WS_OK;
    }
    struct ws_volume_params params = build_params(b, r->role, r->format, v->size);
    params.cluster = 0;
    params.id = r->id;
    memcpy(params.label, r->label, sizeof params.label);
    WS_TRY(ws_guid_derive(&r->id, "folder hashes", &params.seed, error));
    return r->format->compose(&params, r->tree, v->at, b->layout, &v->free_bytes, error);
}

static enum ws_status compose(struct ws_build *b, struct ws_error *error) {
    const struct build_twin *t = b->twin;
    for (size_t i = 0; i < t->rows; i++) {
        enum ws_status status = compose_row(b, &t->row[i], &b->plan->volume[i], error);
        if (status != WS_OK) return ws_fail_where(error, "partition %u", b->plan->volume[i].number);
    }
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE);
    return WS_OK;
}

/* What becomes of each volume. */
static void note(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    const struct build_twin *t = b->twin;
    const struct ws_original *o = &t->original;
    char was[32], used[32], what[24];
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        const struct twin_row *r = twin_row_of(b->twin, i);
        if (o->mounted[i][0]) (void)snprintf(what, sizeof what, "%.23s", o->mounted[i]);
        else if (v->place.number) (void)snprintf(what, sizeof what, "partition %u", v->place.number);
        else (void)snprintf(what, sizeof what, "the whole drive");
        ws_size_counted(v->place.length, was, sizeof was);
        ws_size_counted(v->bytes, used, sizeof used);
        if (!r) plan_chose(p, what, "left out", "%s, %s, as asked", v->system, was);
        else if (v->way == WS_TWIN_ANEW)
            plan_chose(p, what, "laid down anew", "%s, %s; %llu file%s and folders, %s", v->system, was,
                       (unsigned long long)v->files, v->files == 1 ? "" : "s", used);
        else if (v->way == WS_TWIN_EMPTY)
            plan_chose(p, what, "made anew, empty", "%s, %s: what memory left there is not carried over", v->system,
                       was);
        else plan_chose(p, what, "byte for byte", "%s, %s: %s", v->system, was, v->why);
    }
    if (t->same_identity)
        plan_chose(p, "identity", "the original's", "%s",
                   p->request.twin.same_identity ? "as asked" : "what names the volumes cannot be read");
    else if (!t->texts)
        plan_chose(p, "identity", "its own",
                   "table, partitions and volumes have identifiers of their own; nothing on it names the old ones");
    else
        plan_chose(p, "identity", "its own",
                   "table, partitions and volumes have identifiers of their own, put right in %zu text%s", t->texts,
                   t->texts == 1 ? "" : "s");
    if (o->root < o->volumes)
        plan_chose(p, "host", p->request.twin.new_host ? "a new one" : "the original's",
                   p->request.twin.new_host
                       ? "machine id and host keys are made at its first start"
                       : "host name, machine id and host keys are the same: use one of the two at a time in a network");
    for (size_t i = 0; i < t->rows; i++)
        if (t->row[i].role == WS_ROLE_PERSISTENCE)
            ws_findings_add(
                &p->findings, WS_WARNING,
                "a live system finds what it remembers by the label \"%s\", which both drives have: start it "
                "with only one of them plugged in",
                t->row[i].label);
    if (t->starts && !t->may_not_find)
        plan_chose(p, "start", "our own code",
                   "at the place that firmware looks at on removable drives, whatever started the original");
}

/* What it is to do without, and what else it could. */
static void leave_out(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    struct ws_left_out tally[WS_LEAVES];
    char size[32];
    ws_original_leavable(&b->twin->original, b->twin->leavable);
    ws_original_leave_out(&b->twin->original, p->request.twin.leave_out, tally);
    for (unsigned i = 0; i < WS_LEAVES; i++)
        if (p->request.twin.leave_out >> i & 1)
            plan_chose(p, "left out", ws_leave_name((enum ws_leave)i), "%llu file%s, %s: %s",
                       (unsigned long long)tally[i].files, tally[i].files == 1 ? "" : "s",
                       ws_size_counted(tally[i].bytes, size, sizeof size), ws_leave_meaning((enum ws_leave)i));
}

enum ws_status build_prepare_twin(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    p->facts.align = build_choose_align(p);
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    b->twin = calloc(1, sizeof *b->twin);
    if (!b->twin) return ws_fail(error, WS_E_NOMEM, "out of memory for a twin");
    WS_TRY(take_original(b, error));
    leave_out(b);
    WS_TRY(twin_make_rows(b, error));
    if (p->request.twin.refresh) return build_prepare_refresh(b, error);
    WS_TRY(begin_table(b, error));
    WS_TRY(twin_settle(b, error));
    WS_TRY(twin_place(b, error));
    WS_TRY(add_front(b, error));
    WS_TRY(compose(b, error));
    WS_TRY(build_clear_ends(b, error));
    build_list_parts(b);
    note(b);
    twin_look_out(b);
    return WS_OK;
}

void build_close_twin(struct ws_build *b) {
    if (b->twin) twin_close_rows(b->twin);
    if (b->twin) ws_original_close(&b->twin->original);
    free(b->twin);
}
