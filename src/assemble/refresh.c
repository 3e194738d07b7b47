/* refresh.c — a twin brought up to date: what its original has changed goes over what the twin holds, through a log. */
#include "assemble/twin.h"

#include "wild_satchel/ext4.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MARK = 65536, CHUNK = 65536 };

bool build_is_change(const struct ws_plan *p) {
    return p->facts.kind == WS_KIND_RENEWAL || (p->facts.kind == WS_KIND_TWIN && p->request.twin.refresh);
}
bool ws_plan_is_change(const struct ws_plan *plan) { return build_is_change(plan); }

static enum ws_status refuse(const struct ws_build *b, struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_UNSUPPORTED, "this drive is no twin of that original: %s", what);
    ws_fail_where(error, "%s", b->plan->drive.name);
    return ws_fail_next(error, "make it one from the beginning; everything on it is lost");
}

/* A row's volume on the twin: of the same kind; its names are the row's from now on. */
static enum ws_status take_place(struct ws_build *b, struct twin_row *r, const struct ws_partition *place,
                                 struct ws_error *error) {
    struct ws_volume_facts facts = {.system = ""};
    WS_TRY(ws_source_slice(b->now, place->at, place->length, &r->now, error));
    const struct ws_format *format = ws_format_of(r->now, &facts);
    const struct ws_original_volume *v = r->of < b->twin->original.volumes ? &b->twin->original.volume[r->of] : NULL;
    if (format != (r->format ? r->format : v ? v->format : NULL))
        return refuse(b, error, "its volumes are of other kinds");
    if (!r->format && v && v->place.length != place->length) return refuse(b, error, "its volumes have other sizes");
    if (format && !ws_guid_parse(facts.id, &r->id)) twin_take_serial(facts.id, &r->id);
    r->partition = place->id;
    (void)snprintf(r->label, sizeof r->label, "%s", facts.label);
    struct ws_volume *to = plan_add_volume(b->plan, r->role);
    to->at = place->at;
    to->size = place->length;
    to->number = place->number;
    to->of = v ? v->place.number : 0;
    to->free_bytes = facts.counted ? facts.free_bytes : 0;
    (void)snprintf(to->format, sizeof to->format, "%s", r->format ? r->format->word : "");
    (void)snprintf(to->label, sizeof to->label, "%s", facts.label);
    return WS_OK;
}

static enum ws_status look_at_drive(struct ws_build *b, struct ws_error *error) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    struct build_twin *t = b->twin;
    WS_TRY(build_read_now(b, error));
    const size_t count = ws_table_volumes(b->table, list);
    if (count != t->rows) return refuse(b, error, "it has another number of volumes");
    for (size_t i = 0; i < count; i++) {
        if (!ws_inside(list[i]->at, list[i]->length, b->now->size)) return refuse(b, error, "its table is damaged");
        WS_TRY(take_place(b, &t->row[i], list[i], error));
    }
    return WS_OK;
}

static enum ws_status hash_marks(const struct ws_build *b, const struct ws_source *drive, char hex[WS_HASH_HEX],
                                 struct ws_error *error) {
    struct ws_hash *hash = NULL;
    uint8_t *mark = malloc(MARK);
    enum ws_status status = mark ? ws_hash_open(WS_HASH_SHA256, &hash, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for a twin's state");
    for (size_t i = 0; i <= b->plan->volumes && status == WS_OK; i++) {
        const uint64_t at = i ? b->plan->volume[i - 1].at : 0;
        const size_t length = i ? (size_t)ws_min_u64(MARK, b->plan->volume[i - 1].size) : 4096;
        status = ws_source_read(drive, at, mark, length, error);
        if (status == WS_OK) ws_hash_add(hash, mark, length);
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    free(mark);
    return status;
}

enum ws_status twin_check_state(const struct ws_build *b, const struct ws_source *now, struct ws_error *error) {
    char hex[WS_HASH_HEX] = "";
    WS_TRY(hash_marks(b, now, hex, error));
    if (strcmp(hex, b->marks) == 0) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "the twin was used a moment ago");
    return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "make the plan again; nothing was written");
}

static enum ws_status same_bytes(const struct ws_source *a, const struct ws_source *b, bool *same,
                                 struct ws_error *error) {
    const size_t step = (size_t)ws_min_u64(ws_max_u64(a->size, 1), CHUNK * 4);
    uint8_t *both = malloc(2 * step);
    enum ws_status status = both ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a comparison");
    *same = a->size == b->size;
    for (uint64_t at = 0; at < a->size && *same && status == WS_OK; at += step) {
        const size_t n = (size_t)ws_min_u64(step, a->size - at);
        status = ws_source_read(a, at, both, n, error);
        if (status == WS_OK) status = ws_source_read(b, at, both + step, n, error);
        *same = status == WS_OK && memcmp(both, both + step, n) == 0;
    }
    free(both);
    return status;
}

/* A file of the twin that is the original's: the same length and times, and no other name's already. Texts that are put
 * right anew each time have new times: those are compared. */
static enum ws_status match(struct ws_build *b, struct ws_node *n, struct ws_node *was, struct ws_error *error) {
    struct build_twin *t = b->twin;
    bool same = n->mtime == was->mtime && n->mtime_ns == was->mtime_ns;
    if (was->mtime > n->mtime && n->mtime != b->plan->facts.made_at) t->newer++;
    if (was->work || ws_node_size(n) != ws_node_size(was) || !was->content) return WS_OK;
    if (same && b->compare) {
        WS_TRY(same_bytes(n->content, was->content, &same, error));
        t->compared += was->content->size;
    }
    if (!same && n->mtime == b->plan->facts.made_at) {
        WS_TRY(same_bytes(n->content, was->content, &same, error));
        if (same) {
            n->mtime = was->mtime;
            n->mtime_ns = was->mtime_ns;
        }
    }
    if (!same) return WS_OK;
    n->content = was->content;
    was->work = (uintptr_t)n;
    t->same++;
    t->same_bytes += was->content->size;
    return WS_OK;
}

/* Files that a program keeps open and writes to in places: half of the old and half of the new is neither. */
static bool is_database(const char *path) {
    static const char *const folders[] = {"/var/lib/mysql/", "/var/lib/postgresql/", "/var/lib/mongodb/",
                                          "/var/lib/redis/", "/var/lib/ldap/"};
    static const char *const ends[] = {".sqlite", ".sqlite3", ".db", "-wal", "-journal", ".mdb"};
    const size_t length = strlen(path);
    for (size_t i = 0; i < sizeof folders / sizeof folders[0]; i++)
        if (strncmp(path, folders[i], strlen(folders[i])) == 0) return true;
    for (size_t i = 0; i < sizeof ends / sizeof ends[0]; i++)
        if (length > strlen(ends[i]) && strcmp(path + length - strlen(ends[i]), ends[i]) == 0) return true;
    return false;
}

static void note_changed(struct build_twin *t, const struct ws_node *n) {
    char path[1024];
    const uint64_t number = t->changed++;
    t->changed_bytes += n->content->size;
    ws_node_path(n, path, sizeof path);
    t->databases += is_database(path);
    if (number < WS_TWIN_PATHS) ws_visible(path, t->path[number], sizeof t->path[number]);
}

bool ws_build_twin_state(const struct ws_build *b, struct ws_twin_state *s) {
    const struct build_twin *t = b->twin;
    if (!t || !b->plan->request.twin.refresh) return false;
    *s = (struct ws_twin_state){.files = t->files,
                                .same = t->same,
                                .same_bytes = t->same_bytes,
                                .changed = t->changed,
                                .changed_bytes = t->changed_bytes,
                                .gone = t->gone,
                                .newer = t->newer,
                                .compared = t->compared,
                                .databases = t->databases};
    memcpy(s->path, t->path, sizeof s->path);
    return true;
}

bool build_moves(const struct ws_build *b) { return b->twin && b->twin->moves; }

/* Of a system that runs, what changed is taken into memory: what is written then is what is compared. What is too large
 * for that is written as it is read, and named if it does not hold still. */
static enum ws_status catch_changed(struct ws_build *b, struct twin_row *r, struct ws_node *n, struct ws_error *error) {
    enum { ONE_MOST = 32 * MIB, ALL_MOST = 128 * MIB };
    struct build_twin *t = b->twin;
    struct ws_source *caught = NULL;
    const uint64_t size = n->content->size;
    if (t->original.source) return WS_OK; /* it stands still */
    if (size > ONE_MOST || t->caught + size > ALL_MOST) {
        t->moves = true;
        return WS_OK;
    }
    char *bytes = malloc((size_t)size + 1);
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a file that changed");
    enum ws_status status = ws_source_read(n->content, 0, bytes, (size_t)size, error);
    if (status == WS_OK) status = ws_source_memory(bytes, (size_t)size, &caught, error);
    free(bytes);
    WS_TRY(status);
    n->content = caught;
    t->caught += size;
    return ws_tree_own(r->tree, caught, error);
}

/* Both trees side by side; NULL: the twin does not have this folder. */
static enum ws_status match_below(struct ws_build *b, struct twin_row *r, struct ws_node *folder,
                                  const struct ws_node *was_folder, struct ws_error *error) {
    struct build_twin *t = b->twin;
    for (struct ws_node *n = folder->first; n; n = n->next) {
        struct ws_node *was = was_folder ? ws_node_child(was_folder, n->name) : NULL;
        if (was && was->same_as) was = was->same_as;
        if (n->same_as) continue;
        if (n->kind == WS_NODE_FOLDER)
            WS_TRY(match_below(b, r, n, was && was->kind == WS_NODE_FOLDER ? was : NULL, error));
        if (n->kind != WS_NODE_FILE || !n->content || !n->content->size) continue;
        t->files++;
        const struct ws_source *own = n->content;
        if (was && was->kind == WS_NODE_FILE) WS_TRY(match(b, n, was, error));
        if (n->content != own) continue;
        note_changed(t, n);
        WS_TRY(catch_changed(b, r, n, error));
    }
    return WS_OK;
}

static void count_gone(struct build_twin *t, const struct ws_tree *tree, const struct ws_tree *was) {
    char path[1024];
    for (const struct ws_node *n = ws_tree_root(was); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && !n->same_as && !n->work &&
            !ws_tree_find(tree, ws_node_path(n, path, sizeof path)))
            t->gone++;
}

static enum ws_status compose_ext4(struct ws_build *b, struct twin_row *r, struct ws_volume *v,
                                   struct ws_error *error) {
    WS_TRY(ws_ext4_read(r->now, &r->was, NULL, error));
    ws_tree_hash(r->was, b->twin->hash);
    for (struct ws_node *n = ws_tree_root(r->was); n; n = ws_tree_next(n)) n->work = 0;
    WS_TRY(match_below(b, r, ws_tree_root(r->tree), ws_tree_root(r->was), error));
    count_gone(b->twin, r->tree, r->was);
    r->geometry = calloc(1, sizeof *r->geometry);
    if (!r->geometry) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    return build_compose_over(b, v, r->tree, r->now, r->geometry, v->at, b->layout, error);
}

/* Whatever differs from what stands there, in stretches. */
static enum ws_status add_differences(struct ws_build *b, const struct ws_source *wanted, uint64_t wanted_at,
                                      uint64_t at, uint64_t length, uint64_t *differs, struct ws_error *error) {
    uint8_t *both = malloc(2 * (size_t)CHUNK);
    enum ws_status status = both ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a comparison");
    for (uint64_t done = 0; done < length && status == WS_OK; done += CHUNK) {
        const size_t n = (size_t)ws_min_u64(CHUNK, length - done);
        WS_GO(ws_source_read(wanted, wanted_at + done, both, n, error));
        WS_GO(ws_source_read(b->now, at + done, both + CHUNK, n, error));
        if (memcmp(both, both + CHUNK, n) == 0) continue;
        *differs += n;
        WS_GO(ws_layout_add(b->layout, at + done, n, wanted, wanted_at + done, WS_PHASE_SEAL, error));
    }
done:
    free(both);
    return status;
}

/* Is all on it as it is to be? What is made anew each time keeps the times that it has there. Times of these volumes
 * are no finer than two seconds. */
static enum ws_status compare_plain(struct ws_build *b, struct twin_row *r, bool *same, struct ws_error *error) {
    struct build_twin *t = b->twin;
    char path[1024];
    *same = false;
    if (r->format->read(r->now, &r->was, NULL, NULL) != WS_OK) {
        r->was = NULL;
        return WS_OK;
    }
    ws_tree_hash(r->was, t->hash);
    *same = ws_tree_count(r->tree) == ws_tree_count(r->was);
    for (struct ws_node *n = ws_tree_root(r->tree); n; n = ws_tree_next(n)) {
        const struct ws_node *was =
            n->parent ? ws_tree_find(r->was, ws_node_path(n, path, sizeof path)) : ws_tree_root(r->was);
        bool one = was && was->kind == n->kind && ws_node_size(was) == ws_node_size(n);
        const bool in_time = one && n->mtime / 2 == was->mtime / 2;
        const bool made = one && n->mtime == b->plan->facts.made_at;
        if (n->kind == WS_NODE_FILE) t->files++;
        if (one && n->kind == WS_NODE_FILE && n->content && ((in_time && b->compare) || (!in_time && made))) {
            WS_TRY(same_bytes(n->content, was->content, &one, error));
            t->compared += n->content->size;
        } else {
            one = one && (in_time || made);
        }
        if (one && made) n->mtime = was->mtime;
        *same &= one || n->kind == WS_NODE_FOLDER;
        if (n->kind != WS_NODE_FILE) continue;
        t->same += one;
        t->same_bytes += one ? ws_node_size(n) : 0;
        if (one || !n->content) continue;
        note_changed(t, n);
        WS_TRY(catch_changed(b, r, n, error));
    }
    return WS_OK;
}

/* FAT and exFAT: composed as a fresh volume would be, where it stands; of that only what differs is written. */
static enum ws_status compose_plain(struct ws_build *b, struct twin_row *r, struct ws_volume *v,
                                    struct ws_error *error) {
    struct ws_source *view = NULL;
    uint64_t differs = 0;
    bool same = false;
    WS_TRY(compare_plain(b, r, &same, error));
    if (same) return WS_OK;
    struct ws_volume_params params = build_params(b, r->role, r->format, v->size);
    params.cluster = 0;
    params.id = r->id;
    memcpy(params.label, r->label, sizeof params.label);
    WS_TRY(ws_layout_create(b->plan->drive.size, &r->composed, error));
    WS_TRY(r->format->compose(&params, r->tree, v->at, r->composed, &v->free_bytes, error));
    WS_TRY(ws_layout_seal(r->composed, error));
    WS_TRY(ws_layout_source(r->composed, &view, error));
    WS_TRY(ws_layout_own(b->layout, view, error));
    (void)ws_layout_part(b->layout, r->role);
    for (size_t i = 0; i < ws_layout_count(r->composed); i++) {
        const struct ws_extent *e = ws_layout_extent(r->composed, i);
        const uint64_t sector = b->plan->drive.sector, from = e->at / sector * sector;
        const uint64_t length = ws_min_u64(ws_round_up(e->at + e->length, sector), v->at + v->size) - from;
        const struct ws_extent *next =
            i + 1 < ws_layout_count(r->composed) ? ws_layout_extent(r->composed, i + 1) : NULL;
        const uint64_t cut = next && next->at < from + length ? next->at / sector * sector - from : length;
        WS_TRY(add_differences(b, view, from, from, cut, &differs, error));
    }
    return WS_OK;
}

static enum ws_status compose_row(struct ws_build *b, struct twin_row *r, struct ws_volume *v, struct ws_error *error) {
    (void)ws_layout_part(b->layout, r->role);
    const uint64_t files = b->twin->files, same = b->twin->same;
    if (r->role == WS_ROLE_SWAP) return WS_OK;
    if (!r->format) {
        uint64_t differs = 0;
        const struct ws_original_volume *was = &b->twin->original.volume[r->of];
        const struct ws_stretch all = {0, v->size}, *s = was->used.count ? was->used.stretch : &all;
        for (size_t i = 0; i < ws_max_u64(was->used.count, 1); i++)
            WS_TRY(add_differences(b, was->slice, s[i].at, v->at + s[i].at, s[i].length, &differs, error));
        b->twin->changed_bytes += differs;
        return WS_OK;
    }
    WS_TRY(strcmp(r->format->word, "ext4") == 0 ? compose_ext4(b, r, v, error) : compose_plain(b, r, v, error));
    const uint64_t more = b->twin->files - files;
    b->twin->foreign |= more > 50 && (b->twin->same - same) * 10 < more;
    return WS_OK;
}

static void note(struct ws_build *b) {
    const struct build_twin *t = b->twin;
    char size[32], same[32];
    plan_chose(b->plan, "refresh", ws_size_counted(t->changed_bytes, size, sizeof size),
               "in %llu changed or new files; %llu go; %llu are the same, whose %s need not be written",
               (unsigned long long)t->changed, (unsigned long long)t->gone, (unsigned long long)t->same,
               ws_size_counted(t->same_bytes, same, sizeof same));
    if (t->newer)
        ws_findings_add(&b->plan->findings, WS_WARNING,
                        "%llu file%s of the twin %s newer than the original's: what was changed on the twin is lost",
                        (unsigned long long)t->newer, t->newer == 1 ? "" : "s", t->newer == 1 ? "is" : "are");
    if (t->gone)
        ws_findings_add(&b->plan->findings, WS_NOTE,
                        "%llu file%s of the twin %s not on the original any more, and go%s",
                        (unsigned long long)t->gone, t->gone == 1 ? "" : "s", t->gone == 1 ? "is" : "are",
                        t->gone == 1 ? "es" : "");
    if (t->foreign)
        ws_findings_add(&b->plan->findings, WS_FAULT,
                        "hardly a file of one of its volumes is the original's: is it a twin of another one?");
}

enum ws_status build_prepare_refresh(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct build_twin *t = b->twin;
    uint8_t first[4096];
    p->facts.align = build_choose_align(p);
    WS_TRY(look_at_drive(b, error));
    WS_TRY(hash_marks(b, b->now, b->marks, error));
    WS_TRY(ws_hash_open(WS_HASH_SHA256, &t->hash, error));
    ws_hash_add(t->hash, b->marks, strlen(b->marks));
    WS_TRY(twin_settle(b, error));
    for (size_t i = 0; i < t->rows; i++) {
        enum ws_status status = compose_row(b, &t->row[i], &p->volume[i], error);
        if (status != WS_OK) return ws_fail_where(error, "partition %u", p->volume[i].number);
    }
    ws_hash_hex(t->hash, p->facts.was);
    (void)ws_layout_part(b->layout, WS_ROLE_DRIVE); /* the first sector comes last, as it is */
    WS_TRY(ws_source_read(b->now, 0, first, p->drive.sector, error));
    WS_TRY(ws_layout_add_bytes(b->layout, 0, first, p->drive.sector, WS_PHASE_SEAL, error));
    build_list_partitions(b);
    note(b);
    twin_look_out(b);
    return WS_OK;
}

/* Where the change notes what it is about: in the longest row of bytes that hold nothing, before and after. */
enum ws_status twin_place_log(struct ws_build *b, struct ws_error *error) {
    const struct build_twin *t = b->twin;
    const uint64_t needed = ws_change_log_bytes(b->layout);
    uint64_t best = 0;
    for (size_t i = 0; i < t->rows; i++) {
        const struct twin_row *r = &t->row[i];
        const struct ws_volume *v = &b->plan->volume[i];
        uint64_t at = 0, length = 0;
        if (r->geometry) ws_ext4_spare(r->geometry, &at, &length);
        else if (r->composed && r->format->spare && r->format->spare(r->now, &at, &length, NULL) == WS_OK) {
            const size_t count = ws_layout_count(r->composed);
            const struct ws_extent *last = count ? ws_layout_extent(r->composed, count - 1) : NULL;
            const uint64_t end = last ? last->at + last->length - v->at : 0;
            if (end > at) {
                length = end < at + length ? at + length - end : 0;
                at = end;
            }
        }
        const uint64_t skip = ws_round_up(v->at + at, 4096) - (v->at + at);
        if (length <= skip || length - skip <= best) continue;
        best = length - skip;
        b->log_at = v->at + at + skip;
    }
    if (best >= needed) return WS_OK;
    char has[32], needs[32];
    ws_fail(error, WS_E_SPACE, "the change itself needs %s in one piece beside all files, and the twin has %s",
            ws_size_counted(needed, needs, sizeof needs), ws_size_counted(best, has, sizeof has));
    return ws_fail_next(error, "make the twin from the beginning");
}

void twin_close_rows(struct build_twin *t) {
    for (size_t i = 0; i < t->rows; i++) {
        struct twin_row *r = &t->row[i];
        ws_layout_close(r->composed);
        if (r->geometry) ws_ext4_geometry_free(r->geometry);
        free(r->geometry);
        ws_tree_close(r->was);
        ws_source_close(r->now);
    }
    ws_hash_close(t->hash);
}
