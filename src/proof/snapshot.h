/* snapshot.h — how a snapshot is put together. */
#ifndef WS_PROOF_SNAPSHOT_H
#define WS_PROOF_SNAPSHOT_H

#include "wild_satchel/snapshot.h"

#include <string.h>

/* Its entries, with room for `count`, to be written: not shared with another snapshot any more. NULL: out of memory,
 * and it is as it was. */
struct ws_shot *snapshot_rows(struct ws_snapshot *snapshot, size_t count);
/* A path kept with the snapshot; NULL: out of memory. */
const char *snapshot_path(struct ws_snapshot *snapshot, const char *path, size_t length);
/* Entries put in order. @return WS_E_FORMAT if a path stands there twice */
enum ws_status snapshot_settle(struct ws_snapshot *snapshot);

/* As ws_snapshot_take(). @param alike  of mostly the same paths, which are shared with it; NULL: there is none */
enum ws_status snapshot_take(const struct ws_tree *tree, enum ws_reading reading, const struct ws_snapshot *before,
                             const struct ws_snapshot *alike, struct ws_snapshot *snapshot, struct ws_error *error);

/* One entry as a line. */
void snapshot_write_row(const struct ws_shot *shot, struct ws_text *out);
/* Lines read as they come, in pieces of any length. `snapshot` is zeroed, with room for so many. */
struct snapshot_reader;
enum ws_status snapshot_reader_open(struct ws_snapshot *snapshot, size_t lines, struct snapshot_reader **reader,
                                    struct ws_error *error);
/* @return false once a line says nothing known, or memory is out */
bool snapshot_reader_take(struct snapshot_reader *reader, const char *text, size_t length);
/* @param whole  all of it was taken; else the snapshot is emptied @return what was wrong */
enum ws_status snapshot_reader_close(struct snapshot_reader *reader, bool whole, struct ws_error *error);

/* The folder under which an ordinary volume's files stand begins so; the number of its partition follows. */
#define SNAPSHOT_DATA "/data volume "
static inline bool snapshot_is_data(const char *path) {
    return strncmp(path, SNAPSHOT_DATA, sizeof SNAPSHOT_DATA - 1) == 0;
}

#endif
