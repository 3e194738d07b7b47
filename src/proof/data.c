/* data.c — what a drive's ordinary volumes hold, beside what its system remembers: people's files of each session. */
#include "base/bytes.h"
#include "base/pattern.h"
#include "proof/internal.h"
#include "proof/snapshot.h"
#include "system/on_drive.h"
#include "wild_satchel/format.h"
#include "wild_satchel/lock.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Entries of another snapshot, but for folders that are there already. */
static enum ws_status add_all(struct ws_snapshot *to, const struct ws_snapshot *from, struct ws_error *error) {
    struct ws_shot *shot = snapshot_rows(to, to->count + from->count + 1);
    if (!shot) return ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    const size_t had = to->count;
    const struct ws_snapshot there = {.shot = to->shot, .count = had};
    size_t more = 0;
    for (size_t i = 0; i < from->count; i++) {
        if (ws_snapshot_find(&there, from->shot[i].path)) continue;
        struct ws_shot *s = &shot[had + more];
        *s = from->shot[i];
        s->path = snapshot_path(to, s->path, strlen(s->path));
        if (!s->path) return ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
        more++;
    }
    to->count += more;
    return snapshot_settle(to) == WS_OK ? WS_OK : ws_fail(error, WS_E_FORMAT, "a path stands twice in a snapshot");
}

/* One of people's own: that every PC shows, or ext4 from which nothing is started. What remembers is told by itself. */
static bool is_data(const struct ws_format *format, const struct ws_tree *files) {
    static const char *const starts[] = {"/vmlinu*", "/grub", "/loader", "/boot", "/etc"};
    char path[300];
    if (format->everywhere) return true;
    for (const struct ws_node *n = ws_tree_root(files)->first; n; n = n->next)
        for (size_t i = 0; i < sizeof starts / sizeof starts[0]; i++) {
            (void)snprintf(path, sizeof path, "/%s", n->name);
            if (pattern_fits(starts[i], path, false)) return false;
        }
    return true;
}

/* One that is locked opens if it has the passphrase of what remembers. @return what is inside; NULL: it stays closed */
static const struct ws_source *unlock(const struct ws_source *slice, const char *passphrase, struct ws_lock **lock,
                                      struct ws_error *error) {
    return passphrase && ws_lock_open(slice, passphrase, lock, error) == WS_OK ? ws_lock_body(*lock) : NULL;
}

/* The volume's files under a folder that names it, in the folder that is "/" to the system; what remembers in a file of
 * it is told by itself. Of files as they were times tell, and sizes. */
static enum ws_status add_volume(const struct ws_source *drive, const struct ws_partition *p, const char *passphrase,
                                 const struct ws_snapshot *first, struct look *look, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_lock *lock = NULL;
    struct ws_error closed;
    struct ws_tree *files = NULL, *named = NULL;
    struct ws_node *folder = NULL, *file = NULL;
    struct ws_snapshot snapshot = {0};
    struct ws_volume_facts facts;
    char path[200];
    enum ws_status status;
    const bool remembers = look->memory.volume_at >= p->at && look->memory.volume_at < p->at + p->length;
    WS_GO(ws_source_slice(drive, p->at, p->length, &slice, error));
    const bool locked = !remembers && ws_lock_probe(slice, NULL);
    const struct ws_source *volume = locked ? unlock(slice, passphrase, &lock, &closed) : slice;
    look->evidence.data_locked += !volume;
    if (!volume) goto done;
    const struct ws_format *format = ws_format_of(volume, &facts);
    if (!format || !format->read || (!format->everywhere && strcmp(format->word, "ext4") != 0)) goto done;
    if (!format->everywhere && remembers) goto done;
    if (format->read(volume, &files, NULL, NULL) != WS_OK) goto done; /* damaged: its owner's matter, not the proof's */
    if (!is_data(format, files)) goto done;
    look->evidence.data_volumes++;
    look->evidence.data_in_use += !facts.clean;
    (void)snprintf(path, sizeof path, "%s" SNAPSHOT_DATA "%u%s%s%s", look->top, p->number, facts.label[0] ? " (" : "",
                   facts.label, facts.label[0] ? ")" : "");
    for (struct ws_node *n = ws_tree_root(files); n; n = ws_tree_next(n))
        if (look->memory.in_file && n->kind == WS_NODE_FILE && n->content && n->work == look->memory.volume_at - p->at)
            file = n;
    if (file) ws_tree_drop(files, file);
    WS_GO(ws_tree_create(&named, error));
    WS_GO(ws_tree_folder(named, path, &folder, error));
    WS_GO(ws_tree_graft(named, folder, files, error));
    WS_GO(ws_snapshot_take(named, first ? WS_READ_CHANGED : WS_READ_NONE, first, &snapshot, error));
    status = add_all(&look->snapshot, &snapshot, error);
done:
    ws_snapshot_free(&snapshot);
    ws_tree_close(named);
    ws_tree_close(files);
    ws_lock_close(lock);
    ws_source_close(slice);
    return status;
}

enum ws_status proof_add_data(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                              const struct ws_snapshot *first, struct look *look, struct ws_error *error) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    struct ws_table *table = malloc(sizeof *table);
    enum ws_status status = table ? ws_table_read(drive, sector, table, NULL, error)
                                  : ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    const size_t count = status == WS_OK ? ws_table_volumes(table, list) : 0;
    const uint64_t medium_at = count && !look->memory.system ? on_drive_medium_at(drive, table) : UINT64_MAX;
    for (size_t i = 0; i < count && status == WS_OK; i++)
        if (ws_inside(list[i]->at, list[i]->length, drive->size) && list[i]->at != medium_at &&
            !on_drive_is_for_firmware(list[i]))
            status = add_volume(drive, list[i], passphrase, first, look, error);
    free(table);
    return status;
}
