/* look.c — what a drive remembers at a moment: its volume's own evidence, and all that is on it. */
#include "proof/internal.h"
#include "proof/snapshot.h"
#include "system/on_drive.h"
#include "wild_satchel/journal.h"
#include "wild_satchel/lock.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void take_evidence(const struct ws_ext4_facts *f, int64_t now, struct ws_evidence *e) {
    *e = (struct ws_evidence){.data_volumes = e->data_volumes,
                              .data_in_use = e->data_in_use,
                              .data_locked = e->data_locked,
                              .seen_at = now,
                              .mounts = f->mounts,
                              .mounted_at = f->mounted_at,
                              .written_at = f->written_at,
                              .written_bytes = f->written_bytes,
                              .size = f->size,
                              .free_bytes = f->free_bytes,
                              .errors = f->errors,
                              .needs_recovery = f->needs_recovery};
}

/* What a live system sees: its image, and over it what it changed. Where the image cannot be read, the changes alone.
 * @param done  out: it was taken */
static enum ws_status take_whole(const struct ws_source *drive, uint32_t sector, const struct ws_snapshot *first,
                                 struct ws_tree *tree, struct look *look, bool *done, struct ws_error *error) {
    struct on_drive system = {NULL};
    struct ws_tree *changes = NULL;
    struct ws_snapshot image = {0};
    struct ws_node *top = ws_tree_find(tree, look->memory.family->changes);
    enum ws_status status = on_drive_open(drive, sector, &system, NULL);
    if (status == WS_E_NOMEM) WS_GO(ws_fail(error, status, "out of memory for the system on the drive"));
    if (status != WS_OK) {
        status = WS_OK;
        goto done;
    }
    WS_GO(ws_snapshot_take(system.root.tree, WS_READ_NONE, NULL, &image, error));
    if (top) {
        WS_GO(ws_tree_cut(tree, top, &changes, error));
        if (ws_tree_lay_over(system.root.tree, changes, NULL) != WS_OK)
            goto done; /* it refers to places of the layer below */
    }
    WS_GO(snapshot_take(system.root.tree, WS_READ_CHANGED, &image, first ? first : &image, &look->snapshot, error));
    look->whole = *done = true;
done:
    on_drive_close(&system);
    ws_tree_close(changes);
    ws_snapshot_free(&image);
    return status;
}

/* A full system is large, and all but what a session changes stays: times tell. */
static enum ws_status take_snapshot(const struct ws_source *drive, uint32_t sector, const struct ws_source *volume,
                                    const struct ws_snapshot *first, struct ws_tree *tree, struct look *look,
                                    struct ws_error *error) {
    const struct ws_memory *m = &look->memory;
    struct ws_tree *again = NULL;
    bool done = false;
    if (m->system) {
        look->whole = true;
        return ws_snapshot_take(tree, first ? WS_READ_CHANGED : WS_READ_NONE, first, &look->snapshot, error);
    }
    if (m->family->changes && !ws_live_arranged_otherwise(m->family, tree)) {
        WS_TRY(take_whole(drive, sector, first, tree, look, &done, error));
        if (done) return WS_OK;
        WS_TRY(ws_ext4_read(volume, &again, NULL, error)); /* the other one was taken apart */
        if (ws_tree_find(again, m->family->changes))
            (void)snprintf(look->top, sizeof look->top, "%s", m->family->changes);
    }
    enum ws_status status = ws_snapshot_take(again ? again : tree, WS_READ_ALL, first, &look->snapshot, error);
    ws_tree_close(again);
    return status;
}

enum ws_status proof_look(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                          const struct ws_snapshot *first, int64_t now, struct look *look, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_lock *lock = NULL;
    enum ws_status status;
    memset(look, 0, sizeof *look);
    struct ws_memory *m = &look->memory;
    WS_GO(ws_memory_look(drive, sector, m, error));
    if (m->locked && !passphrase) {
        ws_fail(error, WS_E_USAGE, "what it keeps is locked, and the proof has no passphrase to open it");
        WS_GO(ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it"));
    }
    if (!m->volume_size) goto done;
    WS_GO(ws_source_slice(drive, m->volume_at, m->volume_size, &slice, error));
    if (m->locked) WS_GO(ws_lock_open(slice, passphrase, &lock, error));
    if (ws_ext4_read(lock ? ws_lock_body(lock) : slice, &tree, &look->facts, NULL) != WS_OK)
        goto done; /* the memory's cause says why */
    struct ws_journal_start last;
    if (ws_journal_read(tree, m->system || !m->family->changes ? "" : m->family->changes, &last, 1))
        memcpy(look->machine, last.machine, sizeof look->machine);
    WS_GO(take_snapshot(drive, sector, lock ? ws_lock_body(lock) : slice, first, tree, look, error));
    WS_GO(proof_add_data(drive, sector, passphrase, first, look, error));
    take_evidence(&look->facts, now, &look->evidence);
    look->read = true;
done:
    ws_tree_close(tree);
    ws_lock_close(lock);
    ws_source_close(slice);
    if (status != WS_OK) proof_look_free(look);
    return status;
}

void proof_look_free(struct look *look) { ws_snapshot_free(&look->snapshot); }
