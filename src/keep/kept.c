/* kept.c — what a drive remembers, opened, and what it is made of. */
#include "base/bytes.h"
#include "keep/internal.h"

#include <stdlib.h>
#include <string.h>

const char *keep_top_path(const struct ws_kept *k) {
    return k->memory.system || k->otherwise || !k->memory.family->changes ? "" : k->memory.family->changes;
}

static enum ws_status open_volume(struct ws_kept *k, const char *passphrase, struct ws_error *error) {
    const struct ws_memory *m = &k->memory;
    if (!m->volume_size) {
        ws_fail(error, WS_E_NOTFOUND, "nothing is remembered on this drive: %s",
                m->cause_text[0] ? m->cause_text : "it has no place for it");
        return ws_fail_next(error, "look what is on it");
    }
    WS_TRY(ws_source_slice(k->drive, m->volume_at, m->volume_size, &k->slice, error));
    k->volume = k->slice;
    if (!m->locked) return WS_OK;
    if (!passphrase) {
        ws_fail(error, WS_E_USAGE, "what is remembered is locked, and no passphrase is given");
        return ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it");
    }
    WS_TRY(ws_lock_open(k->slice, passphrase, &k->lock, error));
    k->volume = ws_lock_body(k->lock);
    return WS_OK;
}

static void note_lost(void *context, const char *path, const char *what) {
    ws_findings_add(context, WS_WARNING, "%s: %s", path, what);
}

/* By its label alone: the system beside it may be gone. */
static enum ws_status find_volume(struct ws_kept *k, struct ws_error *error) {
    struct ws_memory *m = &k->memory;
    size_t families, count;
    const struct ws_live_family *f = ws_live_families(&families);
    struct ws_table *table = malloc(sizeof *table);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = ws_table_read(k->drive, k->sector, table, NULL, error);
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; status == WS_OK && i < count && !m->volume_size; i++) {
        struct ws_source *slice = NULL;
        struct ws_ext4_facts facts;
        if (ws_source_slice(k->drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        for (size_t j = 0; ws_ext4_probe_copies(slice, &facts, NULL) == WS_OK && j < families && !m->volume_size; j++) {
            if (strcmp(f[j].label, facts.label) != 0) continue;
            m->family = &f[j];
            m->volume_at = p[i].at;
            m->volume_size = p[i].length;
        }
        ws_source_close(slice);
    }
    free(table);
    return status;
}

static enum ws_status read_it(struct ws_kept *k, bool damaged, const char *passphrase, struct ws_error *error) {
    WS_TRY(ws_memory_look(k->drive, k->sector, &k->memory, error));
    if (damaged && !k->memory.volume_size && !k->memory.locked) WS_TRY(find_volume(k, error));
    WS_TRY(open_volume(k, passphrase, error));
    if (damaged) WS_TRY(ws_ext4_rescue(k->volume, note_lost, &k->lost, &k->tree, &k->facts, error));
    else WS_TRY(ws_ext4_read(k->volume, &k->tree, &k->facts, error));
    k->to = (struct ws_run){.at = k->memory.volume_at, .length = k->memory.volume_size};
    k->otherwise = !k->memory.system && (!k->memory.family || ws_live_arranged_otherwise(k->memory.family, k->tree));
    return WS_OK;
}

static enum ws_status open_it(const struct ws_source *drive, uint32_t sector, const char *passphrase, bool damaged,
                              struct ws_kept **out, struct ws_error *error) {
    struct ws_kept *k = calloc(1, sizeof *k);
    if (!k) return ws_fail(error, WS_E_NOMEM, "out of memory for what is remembered");
    enum ws_status status = WS_OK;
    k->drive = drive;
    k->sector = sector;
    if (damaged) WS_GO(ws_source_forgiving(drive, sector, &k->forgiving, error));
    if (damaged) k->drive = k->forgiving;
    status = read_it(k, damaged, passphrase, error);
done:
    if (status == WS_OK) *out = k;
    else ws_kept_close(k);
    return status;
}

enum ws_status ws_kept_open(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                            struct ws_kept **kept, struct ws_error *error) {
    return open_it(drive, sector, passphrase, false, kept, error);
}

enum ws_status ws_kept_open_damaged(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                                    struct ws_kept **kept, struct ws_error *error) {
    return open_it(drive, sector, passphrase, true, kept, error);
}

const struct ws_findings *ws_kept_lost(const struct ws_kept *k) { return &k->lost; }

const struct ws_partition *keep_partition_of(const struct ws_table *table, uint64_t at) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(table, list);
    for (size_t i = 0; i < count; i++)
        if (at >= list[i]->at && at - list[i]->at < list[i]->length) return list[i];
    return NULL;
}

/* A drive that was copied to a larger one has its second table where the smaller one ended. */
enum ws_status keep_table(const struct ws_kept *k, struct ws_table *table, struct ws_error *error) {
    WS_TRY(ws_table_read(k->drive, k->sector, table, NULL, error));
    const bool ends_early = table->kind >= WS_TABLE_GPT && table->backup_lba + 1 < k->drive->size / k->sector;
    return ends_early ? ws_table_resize(table, k->drive->size, error) : WS_OK;
}

void keep_forget_renewal(struct ws_kept *k) {
    ws_layout_close(k->renewed);
    ws_source_close(k->new_table);
    ws_layout_close(k->table);
    ws_source_close(k->new_drive);
    ws_build_close(k->build);
    keep_laid_close(k->laid); /* the build borrows from it */
    k->renewed = k->table = NULL;
    k->new_table = k->new_drive = NULL;
    k->build = NULL;
    k->laid = NULL;
}

void ws_kept_close(struct ws_kept *k) {
    if (!k) return;
    ws_layout_close(k->layout);
    keep_forget_renewal(k);
    ws_lock_close(k->relock);
    ws_source_close(k->open);
    ws_layout_close(k->open_layout);
    ws_source_close(k->moved_view);
    keep_taking_close(k->taking);
    ws_layout_close(k->moved);
    ws_ext4_geometry_free(&k->geometry);
    ws_ext4_geometry_free(&k->before);
    ws_tree_close(k->fresh);
    ws_tree_close(k->tree);
    ws_lock_close(k->lock);
    ws_source_close(k->slice);
    ws_source_close(k->forgiving);
    ws_findings_free(&k->lost);
    free(k);
}

const struct ws_memory *ws_kept_memory(const struct ws_kept *k) { return &k->memory; }
const struct ws_ext4_facts *ws_kept_facts(const struct ws_kept *k) { return &k->facts; }
const struct ws_tree *ws_kept_tree(const struct ws_kept *k) { return k->tree; }
const struct ws_layout *ws_kept_layout(const struct ws_kept *k) { return k->layout; }
const struct ws_node *ws_kept_top(const struct ws_kept *k) { return ws_tree_find(k->tree, keep_top_path(k)); }

const char *keep_path(const struct ws_node *n, const struct ws_node *top, char *out, size_t room) {
    char path[4096], above[4096];
    ws_node_path(n, path, sizeof path);
    ws_node_path(top, above, sizeof above);
    const char *own = path + (above[1] ? strlen(above) : 0);
    const size_t length = ws_min_u64(strlen(own), room - 1);
    memcpy(out, own, length);
    out[length] = '\0';
    if (!length && room > 1) memcpy(out, "/", 2);
    return out;
}
