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

enum ws_status ws_kept_open(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                            struct ws_kept **out, struct ws_error *error) {
    struct ws_kept *k = calloc(1, sizeof *k);
    if (!k) return ws_fail(error, WS_E_NOMEM, "out of memory for what is remembered");
    enum ws_status status = WS_OK;
    k->drive = drive;
    k->sector = sector;
    WS_GO(ws_memory_look(drive, sector, &k->memory, error));
    WS_GO(open_volume(k, passphrase, error));
    WS_GO(ws_ext4_read(k->volume, &k->tree, &k->facts, error));
    k->otherwise = !k->memory.system && ws_live_arranged_otherwise(k->memory.family, k->tree);
done:
    if (status == WS_OK) *out = k;
    else ws_kept_close(k);
    return status;
}

void ws_kept_close(struct ws_kept *k) {
    if (!k) return;
    ws_layout_close(k->layout);
    ws_layout_close(k->renewed);
    ws_source_close(k->new_table);
    ws_layout_close(k->table);
    ws_source_close(k->new_drive);
    ws_build_close(k->build);
    ws_lock_close(k->relock);
    ws_source_close(k->open);
    ws_layout_close(k->open_layout);
    ws_ext4_geometry_free(&k->geometry);
    ws_tree_close(k->fresh);
    ws_tree_close(k->tree);
    ws_lock_close(k->lock);
    ws_source_close(k->slice);
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
