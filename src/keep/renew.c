/* renew.c — a newer image laid under what a live drive remembers. */
#include "base/bytes.h"
#include "base/pattern.h"
#include "keep/internal.h"
#include "system/on_drive.h"
#include "wild_satchel/format.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { STEP = 256 * 1024, PAGE = 4096 };

/* Where package managers list what is installed. */
static const struct {
    const char *name, *path;
} package_lists[] = {{"dpkg", "var/lib/dpkg/status"}, {"rpm", "var/lib/rpm"},
                     {"rpm", "usr/lib/sysimage/rpm"}, {"pacman", "var/lib/pacman/local"},
                     {"apk", "lib/apk/db/installed"}, {"xbps", "var/db/xbps"}};

static enum ws_status refuse(struct ws_error *error, const char *what, const char *next) {
    ws_fail(error, WS_E_UNSUPPORTED, "the system on this drive cannot be renewed here: %s", what);
    return ws_fail_next(error, "%s", next);
}

/* The data volume in which the file lies that remembers, as it is: menus may name it by its label. */
static void want_data(const struct ws_kept *k, const struct ws_table *table, struct ws_request *r) {
    const struct ws_partition *p = keep_partition_of(table, k->memory.volume_at);
    struct ws_wanted *w = ws_request_want(r, WS_ROLE_DATA);
    struct ws_source *slice = NULL;
    struct ws_volume_facts facts;
    w->size.kind = WS_SIZE_LEAST;
    if (!p || ws_source_slice(k->drive, p->at, p->length, &slice, NULL) != WS_OK) return;
    const struct ws_format *format = ws_format_of(slice, &facts);
    if (format) {
        (void)snprintf(w->format, sizeof w->format, "%s", format->word);
        (void)snprintf(w->label, sizeof w->label, "%s", facts.label);
    }
    ws_source_close(slice);
}

/* The drive asked for anew, arranged as it is: what of that is not its volumes is what changes. */
static enum ws_status make_anew(struct ws_kept *k, const struct ws_build_setting *setting, const char *path,
                                const struct ws_table *table, struct ws_error *error) {
    const struct ws_memory *m = &k->memory;
    struct ws_build_setting anew = *setting;
    struct ws_request *r = malloc(sizeof *r);
    if (!r) return ws_fail(error, WS_E_NOMEM, "out of memory for a request");
    ws_request_begin(r, k->laid ? WS_KIND_LIVE_FILES : WS_KIND_LIVE_WHOLE);
    (void)snprintf(r->input[WS_INPUT_IMAGE].path, sizeof r->input[WS_INPUT_IMAGE].path, "%s", path);
    if (k->laid) {
        keep_laid_ask(k, r, &anew);
    } else {
        struct ws_wanted *w = ws_request_want(r, WS_ROLE_PERSISTENCE);
        w->size.kind = WS_SIZE_LEAST;
        w->locked = m->locked;
        w->place = m->in_file ? WS_PLACE_FILE : WS_PLACE_PARTITION;
    }
    if (m->in_file && !(k->laid && k->laid->beside.file_at)) want_data(k, table, r);
    enum ws_status status = ws_build_prepare(r, &anew, &k->build, error);
    free(r);
    return status;
}

static const char *name_of(const struct ws_root *root, char out[160], char kernel[96]) {
    struct ws_system_facts *facts = calloc(1, sizeof *facts);
    struct ws_error ignored;
    out[0] = kernel[0] = '\0';
    if (facts && ws_system_look(root->tree, facts, &ignored) == WS_OK) {
        ws_visible(facts->name, out, 160);
        if (facts->kernels) ws_visible(facts->kernel[0].version, kernel, 96);
    }
    free(facts);
    return out;
}

static bool differ(const struct ws_node *a, const struct ws_node *b) {
    return a->kind != b->kind || ws_node_size(a) != ws_node_size(b) || a->mtime != b->mtime;
}

static void look_at_packages(const struct ws_kept *k, const struct on_drive *was, const struct on_drive *is,
                             struct ws_live_renewal *told) {
    char path[300];
    for (size_t i = 0; i < sizeof package_lists / sizeof package_lists[0]; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", keep_top_path(k), package_lists[i].path);
        const struct ws_node *kept = ws_tree_find(k->tree, path);
        if (!kept || ws_node_is_whiteout(kept)) continue;
        (void)snprintf(told->packages, sizeof told->packages, "%s", package_lists[i].name);
        const struct ws_node *a = ws_tree_find(was->root.tree, package_lists[i].path);
        const struct ws_node *b = ws_tree_find(is->root.tree, package_lists[i].path);
        told->packages_differ |= b && (!a || differ(a, b));
    }
}

/* Files that are remembered, and of which the newer image has another version than the older one. */
static void look_at_hidden(const struct ws_kept *k, const struct on_drive *was, const struct on_drive *is,
                           struct ws_live_renewal *told) {
    const struct ws_node *top = ws_kept_top(k);
    char path[4096];
    for (const struct ws_node *n = top; n; n = ws_tree_next_below(n, top)) {
        if (n->kind == WS_NODE_FOLDER) continue;
        keep_path(n, top, path, sizeof path);
        const enum ws_whose whose = ws_whose_is(path);
        if (whose >= WS_WHOSE_OWN || whose == WS_WHOSE_PEOPLE) continue;
        const struct ws_node *b = ws_tree_find(is->root.tree, path + 1);
        if (!b || b->kind == WS_NODE_FOLDER) continue;
        const struct ws_node *a = ws_tree_find(was->root.tree, path + 1);
        if (a && !differ(a, b)) continue;
        told->hides++;
        if (told->hidden_count < WS_HIDDEN_EXAMPLES) ws_visible(path, told->hidden[told->hidden_count++], 160);
    }
}

/* A partition with what a GPT beside the MBR says of it. */
static struct ws_partition whole_entry(const struct ws_table *table, const struct ws_partition *p) {
    struct ws_partition all = *p;
    for (size_t i = 0; i < table->gpt_count; i++) {
        if (table->gpt[i].at != p->at) continue;
        all.id = table->gpt[i].id;
        memcpy(all.name, table->gpt[i].name, sizeof all.name);
    }
    return all;
}

/* As it is then. */
static struct ws_partition place_now(const struct ws_kept *k, const struct ws_table *was,
                                     const struct ws_partition *p) {
    struct ws_partition now = whole_entry(was, p);
    now.at = keep_begins_now(k, p);
    now.length -= now.at - p->at;
    return now;
}

/* The one that remembers takes the place of the one that is made anew. @return whether it does */
static bool put_remembering(const struct ws_kept *k, struct ws_table *table, const struct ws_partition *old) {
    const enum ws_role role = k->memory.in_file ? WS_ROLE_DATA : WS_ROLE_PERSISTENCE;
    size_t volumes;
    const struct ws_volume *v = ws_plan_volumes(ws_build_plan(k->build), &volumes);
    for (size_t i = 0; i < volumes; i++)
        if (v[i].role == role && v[i].inside == WS_ROLE_DRIVE && ws_table_stand_in(table, v[i].at, old)) return true;
    return false;
}

/* Another one that is there stays in the table. */
static enum ws_status put_other(const struct ws_kept *k, struct ws_table *table, const struct ws_partition *old,
                                size_t index, struct ws_error *error) {
    static const struct ws_guid none;
    const struct ws_partition_type *type = ws_partition_type_of(old);
    struct ws_guid id = old->id; /* an MBR has none */
    char name[40];
    unsigned number;
    if (!type)
        return refuse(error, "a partition on it is of a type not known here",
                      "save what it remembers, prepare it anew, and put that back");
    (void)snprintf(name, sizeof name, "stays %zu", index);
    if (memcmp(&id, &none, sizeof id) == 0)
        WS_TRY(ws_guid_derive(&ws_plan_facts(ws_build_plan(k->build))->id, name, &id, error));
    if (ws_table_add(table, old->at, old->length, type->word, &id, old->name, &number, error) == WS_OK) return WS_OK;
    return ws_fail_next(error, "the newer image brings another table, which has no room for that: save what the "
                               "drive remembers, prepare it with the newer image, and put that back");
}

/* Behind the image all that is there stays, what remembers first: it has a place in the table that was made anew. */
static enum ws_status put_volumes(struct ws_kept *k, struct ws_table *table, const struct ws_table *was, uint64_t end,
                                  struct ws_error *error) {
    const struct ws_partition *list[WS_VOLUME_PLACES], *put = NULL;
    size_t count, stays = 0;
    const struct ws_partition *p = ws_table_partitions(was, &count);
    for (size_t i = 0; i < count && stays < WS_VOLUME_PLACES; i++) {
        if (p[i].at < end || p[i].mbr_type == 0xee) continue;
        const struct ws_partition old = place_now(k, was, &p[i]);
        list[stays++] = &p[i];
        const uint64_t inside = k->memory.volume_at - p[i].at;
        const bool remembers = k->memory.volume_at >= p[i].at && ws_inside(inside, k->memory.volume_size, p[i].length);
        if (remembers && put_remembering(k, table, &old)) put = &p[i];
    }
    for (size_t i = 0; i < stays; i++) {
        const struct ws_partition old = place_now(k, was, list[i]);
        if (list[i] != put) WS_TRY(put_other(k, table, &old, (size_t)(list[i] - p), error));
    }
    return WS_OK;
}

/* What differs of a stretch, in pages; the first sector stands by itself. */
static enum ws_status add_differing(struct ws_kept *k, const struct ws_source *from, uint64_t at, uint64_t end,
                                    struct ws_live_renewal *told, struct ws_error *error) {
    uint8_t *old = malloc(2 * (size_t)STEP), *new = old ? old + STEP : NULL;
    enum ws_status status = old ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for comparing");
    while (status == WS_OK && at < end) {
        const size_t n = (size_t)ws_min_u64(STEP - at % STEP, end - at);
        WS_GO(ws_source_read(k->drive, at, old, n, error));
        WS_GO(ws_source_read(from, at, new, n, error));
        for (size_t i = 0; i < n;) {
            size_t run = i;
            while (run < n && memcmp(old + run, new + run, ws_min_u64(PAGE, n - run)) != 0)
                run += (size_t)ws_min_u64(PAGE, n - run);
            if (run > i) {
                WS_GO(ws_layout_add(k->renewed, at + i, run - i, from, at + i, WS_PHASE_SEAL, error));
                told->differs += run - i;
            }
            i = run + (size_t)(run < n ? ws_min_u64(PAGE, n - run) : 0);
        }
        at += n;
    }
done:
    free(old);
    return status;
}

/* All of the drive made anew but its volumes and tables, and then the tables. */
static enum ws_status compare(struct ws_kept *k, uint64_t *end, struct ws_live_renewal *told, struct ws_error *error) {
    const struct ws_layout *made = ws_build_layout(k->build);
    const uint32_t volumes = 1u << WS_ROLE_PERSISTENCE | 1u << WS_ROLE_DATA | 1u << WS_ROLE_SWAP;
    uint64_t done = k->sector; /* the first sector is the tables' */
    size_t t = 0;
    for (size_t i = 0; i < ws_layout_count(made); i++) {
        const struct ws_extent *e = ws_layout_extent(made, i);
        if (volumes >> e->part & 1) continue;
        uint64_t at = ws_max_u64(e->at / PAGE * PAGE, done),
                 stop = ws_min_u64(ws_round_up(e->at + e->length, PAGE), k->drive->size);
        while (at < stop) { /* around what the tables take */
            while (t < ws_layout_count(k->table) &&
                   ws_layout_extent(k->table, t)->at + ws_layout_extent(k->table, t)->length <= at)
                t++;
            const struct ws_extent *own = t < ws_layout_count(k->table) ? ws_layout_extent(k->table, t) : NULL;
            if (own && own->at <= at) {
                at = own->at + own->length;
                continue;
            }
            const uint64_t here = own ? ws_min_u64(stop, own->at) : stop;
            WS_TRY(add_differing(k, k->new_drive, at, here, told, error));
            at = here;
        }
        done = ws_max_u64(done, at);
    }
    *end = done;
    for (size_t i = 0; i < ws_layout_count(k->table); i++) {
        const struct ws_extent *e = ws_layout_extent(k->table, i);
        WS_TRY(add_differing(k, k->new_table, ws_max_u64(e->at, k->sector), e->at + e->length, told, error));
    }
    return WS_OK;
}

/* Where the image ends, or the volumes that hold its files: on the drive as it would be made anew. */
static uint64_t end_anew(const struct ws_kept *k) {
    const struct ws_plan *p = ws_build_plan(k->build);
    const struct ws_volume *start = ws_plan_volume(p, WS_ROLE_START);
    const struct ws_volume *files = ws_plan_volume(p, WS_ROLE_SYSTEM);
    if (!k->laid) return ws_plan_facts(p)->image_end;
    return start ? ws_max_u64(start->at + start->size, files->at + files->size) : files->at + files->size;
}

/* What stands behind the older image, from `first` on, may begin later. */
static enum ws_status make_way(struct ws_kept *k, const struct ws_partition *first, struct ws_error *error) {
    const uint64_t image_end = end_anew(k);
    k->renewed_to = ws_max_u64(image_end, k->laid ? k->laid->end : 0);
    if (k->laid && ws_plan_volume(ws_build_plan(k->build), WS_ROLE_SYSTEM)->at != k->laid->at)
        return refuse(error, "its files stand where a drive like this does not have them",
                      "save what it remembers, prepare it anew, and put that back");
    return keep_make_way(k, first, image_end, error);
}

static enum ws_status lay_under(struct ws_kept *k, const struct on_drive *was, const struct on_drive *is,
                                struct ws_live_renewal *told, struct ws_error *error) {
    struct ws_table *table = malloc(sizeof *table);
    const struct ws_partition *first = NULL;
    uint64_t end;
    size_t count;
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = WS_OK;
    const struct ws_partition *p = ws_table_partitions(was->table, &count);
    const uint64_t was_end = k->laid ? k->laid->end : was->medium.iso ? ws_iso_facts(was->medium.iso)->size : 0;
    for (size_t i = 0; i < count; i++)
        if (p[i].mbr_type != 0xee && p[i].at >= was_end && (!first || p[i].at < first->at)) first = &p[i];
    WS_GO(make_way(k, first, error));
    *table = *is->table;
    WS_GO(put_volumes(k, table, was->table, first ? first->at : k->drive->size, error));
    WS_GO(ws_layout_create(k->drive->size, &k->table, error));
    WS_GO(ws_table_compose(table, k->table, error));
    WS_GO(ws_layout_seal(k->table, error));
    WS_GO(ws_layout_source(k->table, &k->new_table, error));
    WS_GO(ws_layout_create(k->drive->size, &k->renewed, error));
    WS_GO(compare(k, &end, told, error));
    WS_GO(ws_layout_seal(k->renewed, error));
done:
    free(table);
    return status;
}

/* Those of these folders that are remembered. */
static enum ws_status leave(struct ws_kept *k, enum ws_stays stays, struct ws_error *error) {
    static const char *const homes[] = {"home", "root"};
    const char *except[2];
    size_t count = 0;
    char path[100];
    k->way = stays == WS_STAYS_ALL ? KEEP_STAYS : KEEP_OVER;
    k->to = (struct ws_run){.at = k->memory.volume_at, .length = k->memory.volume_size};
    if (k->way == KEEP_STAYS) return WS_OK;
    for (size_t i = 0; i < 2 && stays == WS_STAYS_HOME; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", keep_top_path(k), homes[i]);
        if (ws_tree_find(k->tree, path)) except[count++] = homes[i];
    }
    return ws_kept_reset(k, except, count, error);
}

/* By the kernels, where both are known and differ, else by the number in one name. */
static bool is_older(const struct ws_live_renewal *r) {
    const char digits[] = "0123456789";
    const int kernels = r->kernel[0] && r->was_kernel[0] ? ws_version_compare(r->kernel, r->was_kernel) : 0;
    const size_t name = strcspn(r->is, digits);
    if (kernels) return kernels < 0;
    return name == strcspn(r->was, digits) && memcmp(r->is, r->was, name) == 0 && ws_version_compare(r->is, r->was) < 0;
}

enum ws_status ws_kept_renew(struct ws_kept *k, const struct ws_build_setting *setting, const char *path,
                             enum ws_stays stays, struct ws_live_renewal *told, struct ws_error *error) {
    struct on_drive was = {0}, is = {0};
    enum ws_status status;
    memset(told, 0, sizeof *told);
    WS_TRY(keep_still_as_it_is(k, error));
    keep_forget_renewal(k); /* of an attempt that was refused */
    if (k->memory.system)
        return refuse(error, "it is a full one", "a full system is renewed by a plan of the kind renewal");
    WS_GO(on_drive_open(k->drive, k->sector, &was, error));
    if (!was.medium.iso) WS_GO(keep_laid_open(k, &was, error));
    WS_GO(make_anew(k, setting, path, was.table, error));
    const struct ws_live_family *family = ws_plan_family(ws_build_plan(k->build));
    if (!family || strcmp(family->word, k->memory.family->word) != 0)
        WS_GO(refuse(error, "the newer image belongs to another family of live systems",
                     "take an image of the same system"));
    WS_GO(ws_layout_source(ws_build_layout(k->build), &k->new_drive, error));
    WS_GO(on_drive_open(k->new_drive, k->sector, &is, error));
    name_of(&was.root, told->was, told->was_kernel);
    name_of(&is.root, told->is, told->kernel);
    told->older = is_older(told);
    look_at_packages(k, &was, &is, told);
    look_at_hidden(k, &was, &is, told);
    WS_GO(leave(k, stays, error));
    WS_GO(lay_under(k, &was, &is, told, error));
    told->moves = k->way == KEEP_LATER ? k->to.at - k->memory.volume_at : 0;
    if (k->taking) keep_tell_neighbour(k->taking, &told->gives);
    if (k->laid) keep_laid_tell(k, told);
    told->same = told->differs == 0;
done:
    on_drive_close(&is);
    on_drive_close(&was);
    return status;
}

enum ws_status keep_put_renewed(struct ws_kept *k, struct ws_error *error) {
    if (k->taking) WS_TRY(ws_make_room(&k->taking->room, k->layout, error));
    for (size_t i = 0; i < ws_layout_count(k->renewed); i++) {
        const struct ws_extent *e = ws_layout_extent(k->renewed, i);
        WS_TRY(ws_layout_add(k->layout, e->at, e->length, e->from, e->from_at, WS_PHASE_SEAL, error));
    }
    const unsigned was = ws_layout_part(k->layout, WS_ROLE_SYSTEM); /* by itself, whatever stands behind it */
    enum ws_status status = ws_layout_add(k->layout, 0, k->sector, k->new_table, 0, WS_PHASE_SEAL, error);
    (void)ws_layout_part(k->layout, was);
    return status;
}
