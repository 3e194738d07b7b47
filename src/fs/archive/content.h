/* content.h — a file of an archive taken whole while the archive is read, without its holes. */
#ifndef WS_FS_ARCHIVE_CONTENT_H
#define WS_FS_ARCHIVE_CONTENT_H

#include "wild_satchel/archive.h"

#include <archive.h>

/* The content of the entry whose header was read last; what it is made of belongs to the tree.
 * @param store  NULL, or one that takes no more than it was given at once: it is held in memory
 * @return WS_E_FORMAT, with nothing said, where the archive breaks off or goes backwards */
enum ws_status archive_take_content(struct archive *archive, const struct ws_archive_store *store, struct ws_tree *tree,
                                    uint64_t size, bool sparse, const struct ws_source **content,
                                    struct ws_error *error);

/* As ws_archive_read_into(), but all contents are put into the store, or held: any number of tasks may read them. */
enum ws_status archive_read_whole(const struct ws_source *source, const struct ws_archive_store *store,
                                  struct ws_tree **tree, struct ws_error *error);

#endif
