/* twin_volumes.c — the volumes of a twin: which, by what names, how large, and where. */
#include "assemble/twin.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { START_BYTES = 64 << 20 };

struct twin_row *twin_row_of(struct build_twin *t, size_t volume) {
    for (size_t i = 0; i < t->rows; i++)
        if (t->row[i].of == volume) return &t->row[i];
    return NULL;
}

static bool is_remembering(const struct ws_original_volume *v) {
    size_t count;
    const struct ws_live_family *f = ws_live_families(&count);
    for (size_t i = 0; i < count; i++)
        if (strcmp(v->format->word, "ext4") == 0 && v->facts.label[0] && strcmp(f[i].label, v->facts.label) == 0)
            return true;
    return false;
}

static bool is_live(const struct ws_tree *tree) {
    if (ws_tree_find_any_case(tree, "loader/entries")) return true;
    struct ws_own_family *own = malloc(sizeof *own);
    const bool live = own && ws_live_family_of_medium(tree, own);
    free(own);
    return live;
}

static enum ws_role role_of(const struct build_twin *t, size_t volume) {
    const struct ws_original *o = &t->original;
    const struct ws_original_volume *v = &o->volume[volume];
    static const enum ws_role parts[] = {
        [WS_TWIN_ROOT] = WS_ROLE_SYSTEM, [WS_TWIN_KERNELS] = WS_ROLE_BOOT, [WS_TWIN_FIRMWARE] = WS_ROLE_START};
    const bool apart = o->root < o->volumes || v->part != WS_TWIN_FIRMWARE;
    if (v->part != WS_TWIN_PLAIN && apart) return parts[v->part];
    if (v->way == WS_TWIN_EMPTY) return WS_ROLE_SWAP;
    if (v->way == WS_TWIN_ANEW && is_remembering(v)) return WS_ROLE_PERSISTENCE;
    if (v->tree && o->root == o->volumes && v->format->everywhere && is_live(v->tree)) return WS_ROLE_SYSTEM;
    return v->part == WS_TWIN_FIRMWARE ? WS_ROLE_START : WS_ROLE_DATA;
}

/* "XXXX-XXXX", as systems write it (ws_serial_name()). */
void twin_take_serial(const char *text, struct ws_guid *id) {
    unsigned high, low;
    if (sscanf(text, "%4x-%4x", &high, &low) != 2) return;
    memset(id, 0, sizeof *id);
    ws_store_le32(id->byte, high << 16 | low);
}

/* What is wanted of it counts for the first of a role. */
static struct ws_size wanted(const struct ws_build *b, const struct twin_row *r) {
    const struct build_twin *t = b->twin;
    for (const struct twin_row *other = t->row; other < r; other++)
        if (other->role == r->role) return (struct ws_size){WS_SIZE_USUAL, 0};
    return build_wanted_size(b->plan, r->role);
}

static enum ws_status name_row(const struct ws_build *b, struct twin_row *r, struct ws_error *error) {
    const struct ws_original *o = &b->twin->original;
    const struct ws_original_volume *v = r->of < o->volumes ? &o->volume[r->of] : NULL;
    char word[40];
    (void)snprintf(word, sizeof word, "volume %zu of a twin", r->of);
    WS_TRY(ws_guid_derive(&b->plan->facts.id, word, &r->id, error));
    (void)snprintf(word, sizeof word, "partition %zu of a twin", r->of);
    WS_TRY(ws_guid_derive(&b->plan->facts.id, word, &r->partition, error));
    (void)snprintf(r->label, sizeof r->label, "%s", v ? v->facts.label : "START");
    if (!b->twin->same_identity || !v) return WS_OK;
    static const struct ws_guid none;
    if (memcmp(&v->place.id, &none, sizeof none) != 0) r->partition = v->place.id;
    if (r->format && !ws_guid_parse(v->facts.id, &r->id)) twin_take_serial(v->facts.id, &r->id);
    return WS_OK;
}

/* Can every text that names a volume be read? What is locked or of another kind may hold the system itself. */
static bool names_can_be_read(const struct ws_original *o) {
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        const bool other = o->root == o->volumes && v->way == WS_TWIN_AS_IT_IS && strcmp(v->system, "NTFS") == 0;
        if (other || ws_original_may_be_root(v)) return false; /* no Linux stands on NTFS */
    }
    return true;
}

static enum ws_status add_row(struct ws_build *b, size_t of, enum ws_role role, const struct ws_format *format,
                              struct ws_tree *tree, struct ws_error *error) {
    struct build_twin *t = b->twin;
    struct twin_row *r = &t->row[t->rows++];
    *r = (struct twin_row){.of = of, .role = role, .format = format, .tree = tree};
    if (wanted(b, r).kind != WS_SIZE_NONE) return name_row(b, r, error);
    if (role == WS_ROLE_SWAP) {
        t->rows--;
        return WS_OK;
    }
    return ws_fail(error, WS_E_USAGE, "of an original only swap is left out as a whole");
}

/* A size for what the original does not have would come to nothing. */
static enum ws_status check_wanted(const struct ws_build *b, struct ws_error *error) {
    const struct ws_request *r = &b->plan->request;
    for (size_t i = 0; i < r->volumes; i++) {
        const struct build_twin *t = b->twin;
        const enum ws_size_kind kind = r->volume[i].size.kind;
        bool has = kind == WS_SIZE_USUAL || kind == WS_SIZE_NONE;
        for (size_t k = 0; k < t->rows; k++) has |= t->row[k].role == r->volume[i].role;
        if (has) continue;
        ws_fail(error, WS_E_USAGE, "the original has no %s volume, and a size is asked for one",
                ws_role_name(r->volume[i].role));
        return ws_fail_next(error, "leave it out");
    }
    return WS_OK;
}

enum ws_status twin_make_rows(struct ws_build *b, struct ws_error *error) {
    struct build_twin *t = b->twin;
    const struct ws_original *o = &t->original;
    const bool readable = names_can_be_read(o);
    t->same_identity = b->plan->request.twin.same_identity || !readable;
    if (!readable && !b->plan->request.twin.same_identity)
        ws_findings_add(&b->plan->findings, WS_WARNING,
                        "identifiers stay the original's: what may name them stands on a volume that is not read here. "
                        "Never plug both drives into one PC at once: it would mix them up");
    else if (t->same_identity)
        ws_findings_add(&b->plan->findings, WS_WARNING,
                        "it has the original's identifiers: never plug both drives into one PC at once, it would mix "
                        "them up");
    for (size_t i = 0; i < o->volumes; i++)
        t->starts |= o->volume[i].part == WS_TWIN_ROOT || o->start.menu || (o->start.ours && o->root == o->volumes);
    if (t->starts && o->firmware == o->volumes)
        WS_TRY(add_row(b, o->volumes, WS_ROLE_START, ws_format_find("fat32"), NULL, error));
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        WS_TRY(add_row(b, i, role_of(t, i), v->way == WS_TWIN_AS_IT_IS ? NULL : v->format, v->tree, error));
    }
    return check_wanted(b, error);
}

static enum ws_status measure(struct ws_build *b, struct twin_row *r, struct ws_error *error) {
    const struct ws_original *o = &b->twin->original;
    const struct ws_original_volume *v = r->of < o->volumes ? &o->volume[r->of] : NULL;
    const struct ws_size size = wanted(b, r);
    const bool small = r->role == WS_ROLE_START || r->role == WS_ROLE_BOOT || r->role == WS_ROLE_SWAP;
    if (!r->format || !v || r->role == WS_ROLE_SWAP) {
        r->least = !v ? START_BYTES : r->format ? ws_min_u64(v->place.length, 64ull * MIB) : v->place.length;
        r->size = !v ? START_BYTES : v->place.length;
        if (r->role == WS_ROLE_SWAP && size.kind == WS_SIZE_BYTES) r->least = r->size = size.bytes;
        return WS_OK;
    }
    struct ws_volume_params params = build_params(b, r->role, r->format, 0);
    params.cluster = 0;
    enum ws_status status = build_measure_least(r->format, params, r->tree,
                                                ws_max_u64(b->plan->drive.size, v->place.length), &r->least, error);
    if (status == WS_E_SPACE) return build_does_not_fit(error, b->plan, r->least);
    WS_TRY(status);
    r->size = ws_max_u64(r->least, v->place.length);
    r->flexible = !small;
    if (size.kind == WS_SIZE_BYTES || size.kind == WS_SIZE_LEAST) {
        r->flexible = false;
        r->size = size.kind == WS_SIZE_LEAST ? r->least : size.bytes;
        if (r->size >= r->least) return WS_OK;
        char is[48], needs[48];
        ws_fail(error, WS_E_SPACE, "a %s volume of %s is asked for, and what the original has takes %s",
                ws_role_name(r->role), ws_size_both(r->size, is, sizeof is),
                ws_size_both(r->least, needs, sizeof needs));
        return ws_fail_next(error, "ask for more, or leave its size to the plan");
    }
    return WS_OK;
}

/* What all take, those that give way at their least. */
static uint64_t add_up(const struct ws_build *b, bool least) {
    const struct build_twin *t = b->twin;
    const uint64_t align = b->plan->facts.align;
    uint64_t sum = align;
    for (size_t i = 0; i < t->rows; i++) {
        const struct twin_row *r = &t->row[i];
        sum += ws_round_up(r->flexible || least ? r->least : r->size, align);
    }
    return sum;
}

/* Each gets what it needs, and of the rest as much as it had more than that on the original. One that wants all the
 * rest leaves the others what they had. */
static void share(struct ws_build *b, uint64_t rest) {
    struct build_twin *t = b->twin;
    const uint64_t align = b->plan->facts.align;
    struct twin_row *all = NULL;
    uint64_t weights = 0;
    for (size_t i = 0; i < t->rows; i++) {
        struct twin_row *r = &t->row[i];
        if (!r->flexible) continue;
        if (wanted(b, r).kind == WS_SIZE_REST) all = r;
        weights += r->size - r->least + MIB;
    }
    uint64_t left = rest;
    for (size_t i = 0; i < t->rows; i++) {
        struct twin_row *r = &t->row[i];
        if (!r->flexible || r == all) continue;
        const uint64_t weight = r->size - r->least + MIB;
        uint64_t more = (uint64_t)((double)rest * ((double)weight / (double)weights)) / align * align;
        if (all) more = ws_min_u64(more, weight / align * align);
        const uint64_t most = r->format->most / align * align;
        r->size = ws_min_u64(ws_round_up(r->least, align) + ws_min_u64(more, left), most);
        left -= ws_min_u64(more, left);
    }
    if (all) all->size = ws_min_u64(ws_round_up(all->least, align) + left, all->format->most / align * align);
}

/* What could be left out, the largest first, and whether that is enough. */
static enum ws_status say_what_helps(const struct ws_build *b, uint64_t missing, struct ws_error *error) {
    struct ws_left_out tally[WS_LEAVES];
    char text[160] = "", size[32];
    uint64_t sum = 0;
    memcpy(tally, b->twin->leavable, sizeof tally);
    for (unsigned i = 0; i < WS_LEAVES; i++)
        if (b->plan->request.twin.leave_out >> i & 1) tally[i].bytes = 0; /* it does without already */
    for (unsigned n = 0; n < WS_LEAVES && sum < missing; n++) {
        unsigned best = WS_LEAVES;
        for (unsigned i = 0; i < WS_LEAVES; i++)
            if (tally[i].bytes && (best == WS_LEAVES || tally[i].bytes > tally[best].bytes)) best = i;
        if (best == WS_LEAVES) break;
        const size_t at = strlen(text);
        (void)snprintf(text + at, sizeof text - at, "%s%s", at ? "," : "", ws_leave_name((enum ws_leave)best));
        sum += tally[best].bytes;
        tally[best].bytes = 0;
    }
    if (!sum) return ws_fail_next(error, "take a larger drive; or have the original hold less");
    ws_size_counted(sum, size, sizeof size);
    if (sum < missing)
        return ws_fail_hint(error, WS_HINT_LEAVE_OUT, text,
                            "take a larger drive: to leave out what it can do without, %s, is not enough by itself",
                            size);
    return ws_fail_hint(error, WS_HINT_LEAVE_OUT, text, "leave out what it can do without: %s", size);
}

static enum ws_status size_all(struct ws_build *b, uint64_t room, struct ws_error *error) {
    struct build_twin *t = b->twin;
    for (size_t i = 0; i < t->rows; i++) WS_TRY(measure(b, &t->row[i], error));
    if (add_up(b, false) > room) /* kernels, swap and what firmware reads give way, too */
        for (size_t i = 0; i < t->rows; i++) {
            struct twin_row *r = &t->row[i];
            if (!r->flexible && wanted(b, r).kind == WS_SIZE_USUAL)
                r->size = ws_min_u64(r->size, r->role == WS_ROLE_BOOT ? r->least + r->least / 2 : r->least);
        }
    const uint64_t needed = add_up(b, false);
    if (needed <= room) {
        share(b, room - needed);
        return WS_OK;
    }
    build_too_small(error, b->plan, needed + MIB);
    return say_what_helps(b, needed + MIB - room, error);
}

/* A row's entry: of the kind that the original's has, where the tables are of one kind. */
static void keep_type(struct ws_build *b, const struct twin_row *r) {
    const struct ws_original *o = &b->twin->original;
    const struct ws_original_volume *v = &o->volume[r->of];
    const bool gpt = b->table->kind == WS_TABLE_GPT;
    const bool was_gpt = o->table.kind == WS_TABLE_GPT || o->table.kind == WS_TABLE_HYBRID;
    struct ws_partition *p = gpt ? &b->table->gpt[b->table->gpt_count - 1] : &b->table->mbr[b->table->mbr_count - 1];
    if (!v->place.number || gpt != was_gpt) return;
    p->type = v->place.type;
    p->mbr_type = v->place.mbr_type;
    p->attributes = v->place.attributes;
    p->active = v->place.active;
    memcpy(p->name, v->place.name, sizeof p->name);
}

static const char *type_of(const struct twin_row *r, bool gpt) {
    if (!r->format) return "linux";
    if (r->role == WS_ROLE_START && r->format->type_start) return r->format->type_start;
    return gpt && r->role == WS_ROLE_SYSTEM && r->format->type_start ? r->format->type_start : r->format->type;
}

static enum ws_status enter(struct ws_build *b, struct twin_row *r, uint64_t at, struct ws_error *error) {
    const struct ws_original *o = &b->twin->original;
    struct ws_volume *v = plan_add_volume(b->plan, r->role);
    v->at = at;
    v->size = r->size;
    v->of = r->of < o->volumes ? o->volume[r->of].place.number : 0;
    (void)snprintf(v->format, sizeof v->format, "%s", r->format ? r->format->word : "");
    (void)snprintf(v->label, sizeof v->label, "%s", r->label);
    const bool gpt = b->table->kind == WS_TABLE_GPT;
    WS_TRY(ws_table_add(b->table, at, r->size, type_of(r, gpt), &r->partition,
                        r->role == WS_ROLE_START ? "start" : r->label, &v->number, error));
    if (r->of < o->volumes) keep_type(b, r);
    return WS_OK;
}

enum ws_status twin_place(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_twin *t = b->twin;
    uint64_t begin, end, at = p->facts.align;
    ws_table_free_tail(b->table, &begin, &end);
    end = end / PAGE * PAGE;
    WS_TRY(size_all(b, end, error));
    for (size_t i = 0; i < t->rows; i++) {
        struct twin_row *r = &t->row[i];
        at = ws_round_up(ws_max_u64(at, begin), p->facts.align);
        r->size = r->format ? r->size / PAGE * PAGE : r->size;
        if (r->size > end - at) r->size = (end - at) / PAGE * PAGE;
        WS_TRY(enter(b, r, at, error));
        at += r->size;
    }
    p->facts.table = b->table->kind;
    return WS_OK;
}
