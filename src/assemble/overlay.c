/* overlay.c — what is remembered: a volume in a partition, or in a file inside another volume. */
#include "assemble/internal.h"
#include "wild_satchel/journal.h"

#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"

#include <stdio.h>
#include <string.h>

uint64_t build_overlay_asked(const struct ws_build *b) {
    struct ws_size size = build_wanted_size(b->plan, WS_ROLE_PERSISTENCE);
    return b->overlay                   ? b->overlay->size
           : size.kind == WS_SIZE_BYTES ? ws_round_up(size.bytes, PAGE)
           : size.kind == WS_SIZE_LEAST ? WS_EXT4_LEAST
                                        : 0;
}

uint64_t build_file_most(const struct ws_format *holder) {
    return !holder->names || holder->names()->largest > WS_FAT_FILE_MOST ? WS_EXT4_MOST : WS_FAT_OVERLAY_MOST;
}

uint64_t build_overlay_most(const struct ws_build *b) {
    const struct ws_format *f = NULL;
    return build_format(b->plan, b->holder, &f, NULL) == WS_OK ? build_file_most(f) : WS_EXT4_MOST;
}

const char *build_parameters(const struct ws_build *b, char out[WS_PARAMETERS_ROOM]) {
    char label[WS_LABEL_ROOM] = "", said[160];
    if (b->in_file) (void)build_label(b, b->holder, label, said, NULL); /* one that cannot be had is refused by then */
    ws_live_parameters(b->plan->family, b->in_file ? label : NULL, out, WS_PARAMETERS_ROOM);
    size_t n = strlen(out);
    if (build_locks(b->plan, WS_ROLE_PERSISTENCE))
        (void)snprintf(out + n, WS_PARAMETERS_ROOM - n, " %s", b->plan->family->lock_parameters);
    return out;
}

static enum ws_status check_label(const struct ws_build *b, struct ws_error *error) {
    char label[WS_LABEL_ROOM], said[160];
    bool beside = b->holder == WS_ROLE_SYSTEM;
    WS_TRY(build_label(b, b->holder, label, said, error));
    if (!ws_live_wants_label(b->plan->family) || !strchr(label, ' ')) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "%s finds its file by the label of the volume, and cannot be told \"%s\"",
            b->plan->family->title, label);
    enum ws_status status = ws_fail_hint(error, WS_HINT_PLACE, "", "%s a label without blanks, or take a partition",
                                         beside ? "let rules give the volume" : "give the data partition");
    return beside ? status : ws_fail_way(error, WS_HINT_DATA_LABEL, "");
}

enum ws_status build_check_overlay(const struct ws_build *b, struct ws_error *error) {
    const struct ws_live_family *family = b->plan->family;
    if (!b->in_file) return WS_OK;
    if (!family->overlay_file) {
        ws_fail(error, WS_E_UNSUPPORTED, "%s is not known to remember in a file", family->title);
        return ws_fail_hint(error, WS_HINT_PLACE, "", "take a partition");
    }
    WS_TRY(check_label(b, error));
    if (build_overlay_asked(b) <= build_overlay_most(b)) return WS_OK;
    ws_fail(error, WS_E_RANGE, "FAT32 ends a file at 4 GiB less one byte, and an overlay file of more was asked for");
    bool beside = b->holder == WS_ROLE_SYSTEM;
    (void)ws_fail_hint(error, WS_HINT_PERSISTENCE, "4095M", "take a smaller one, a partition, or exFAT for the %s",
                       beside ? "system's files" : "data partition");
    (void)ws_fail_way(error, beside ? WS_HINT_SYSTEM_FORMAT : WS_HINT_DATA_FORMAT, "exfat");
    return ws_fail_way(error, WS_HINT_PLACE, "");
}

/* The volume it should lie on is too small: as asked, or because the drive has no more. */
static enum ws_status does_not_fit(const struct ws_build *b, uint64_t size, uint64_t room, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    uint64_t data = b->holder == WS_ROLE_DATA ? plan_volume(b->plan, WS_ROLE_DATA)->size : 0;
    bool asked = build_wanted_size(p, b->holder).kind == WS_SIZE_BYTES && data;
    char wanted[48];
    char has[48];
    if (!asked || p->drive.size - data < size - room) return build_does_not_fit(error, p, p->drive.size + size - room);
    ws_fail(error, WS_E_SPACE, "an overlay file of %s lies on the data partition, which has room for %s",
            ws_size_both(size, wanted, sizeof wanted), ws_size_both(room, has, sizeof has));
    ws_fail_where(error, "%s", p->drive.name);
    char larger[24];
    (void)snprintf(larger, sizeof larger, "%lluM",
                   (unsigned long long)(ws_round_up(data + size - room + 2 * MIB, 64ull * MIB) / MIB));
    (void)ws_fail_hint(error, WS_HINT_DATA, "rest", "make that partition larger, or the file smaller");
    return ws_fail_way(error, WS_HINT_DATA, larger);
}

enum ws_status build_reserve_file(struct ws_build *b, enum ws_role holder, const char *path, uint64_t size,
                                  struct ws_error *error) {
    struct ws_tree *tree = b->tree[holder];
    struct ws_node *n = NULL;
    struct ws_source *zeros = NULL;
    WS_TRY(ws_tree_put(tree, path, "", 0, &n, error));
    WS_TRY(ws_source_zeros(size, &zeros, error));
    WS_TRY(ws_tree_own(tree, zeros, error));
    n->content = zeros;
    n->reserved = true; /* the volume in it is put there as a part of its own */
    if (b->beside && holder == WS_ROLE_SYSTEM && b->beside->file_at) {
        n->fixed = true; /* or stands there */
        n->origin = b->beside->file_at;
    }
    n->mtime = b->plan->facts.made_at;
    return WS_OK;
}

enum ws_status build_reserve_overlay(struct ws_build *b, uint64_t room, struct ws_error *error) {
    uint64_t size = build_overlay_asked(b);
    if (!size)
        size = ws_min_u64(room / 8 * 7 / PAGE * PAGE, build_overlay_most(b)); /* it stays of use for other files */
    if (b->overlay && size < WS_EXT4_LEAST)
        return ws_fail(error, WS_E_FORMAT, "the data file holds only %llu bytes: there is no volume in it",
                       (unsigned long long)size);
    if (size > room) return does_not_fit(b, size, room, error);
    if (size < WS_EXT4_LEAST)
        return ws_fail(error, WS_E_RANGE, "an overlay file needs at least %u MiB", (unsigned)(WS_EXT4_LEAST / MIB));
    WS_TRY(build_reserve_file(b, b->holder, b->plan->family->overlay_file, size, error));
    struct ws_volume *v = plan_volume(b->plan, WS_ROLE_PERSISTENCE);
    if (v) v->size = size; /* else the system's volume is being sized */
    return WS_OK;
}

/* A ready-made volume: what is in it is the giver's business, but what would make it useless is said. */
static enum ws_status look_at_overlay(struct ws_build *b, struct ws_volume *v, struct ws_error *error) {
    struct ws_volume_facts facts;
    enum ws_status status = ws_format_find("ext4")->probe(b->overlay, &facts, error);
    if (status == WS_OK) {
        v->free_bytes = facts.free_bytes;
        (void)snprintf(v->label, sizeof v->label, "%s", facts.label);
        if (facts.size > b->overlay->size)
            ws_findings_add(&b->plan->findings, WS_FAULT,
                            "the data file is shorter than the volume in it: it is cut off");
        return WS_OK;
    }
    if (status != WS_E_NOTFOUND && status != WS_E_FORMAT) return status;
    ws_findings_add(&b->plan->findings, WS_WARNING, "the data file holds no ext4 volume that can be read here: %s",
                    error->what);
    return WS_OK;
}

/* Among what the system is to find changed at its first start. */
static enum ws_status lay_journal(struct ws_build *b, struct ws_error *error) {
    struct ws_tree *medium = NULL;
    struct ws_root root = {0};
    enum ws_status status = build_read_root(&b->image, "", &medium, &root, error);
    if (status == WS_OK)
        status = ws_journal_lay_over(root.tree, b->tree[WS_ROLE_PERSISTENCE], b->plan->family->changes,
                                     b->plan->facts.made_at, error);
    else if (status != WS_E_NOMEM) ws_fail_where(error, "the start journal");
    ws_root_close(&root);
    ws_tree_close(medium);
    return status;
}

enum ws_status build_compose_persistence(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_volume *v = plan_volume(p, WS_ROLE_PERSISTENCE);
    if (b->in_file) {
        const struct ws_node *file = ws_tree_find(b->tree[b->holder], p->family->overlay_file);
        v->at = plan_volume(p, b->holder)->at + file->work;
        v->size = ws_node_size(file);
    }
    if (b->overlay && p->request.start_journal)
        return ws_fail(error, WS_E_USAGE,
                       "the data file's volume is laid down as it is: a start journal goes into it later");
    if (!b->overlay) {
        WS_TRY(ws_live_volume_tree(p->family, p->facts.made_at, &b->tree[WS_ROLE_PERSISTENCE], error));
        if (p->request.start_journal) WS_TRY(lay_journal(b, error));
        return build_compose_volume(b, WS_ROLE_PERSISTENCE, b->layout, error);
    }
    unsigned was = ws_layout_part(b->layout, WS_ROLE_PERSISTENCE);
    enum ws_status status = ws_layout_add(b->layout, v->at, v->size, b->overlay, 0, WS_PHASE_BODY, error);
    (void)ws_layout_part(b->layout, was);
    WS_TRY(status);
    return look_at_overlay(b, v, error);
}
