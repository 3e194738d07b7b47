/* write.h — a tree as a compressed tar archive, and a digest of all that goes into it. */
#ifndef WS_FS_ARCHIVE_WRITE_H
#define WS_FS_ARCHIVE_WRITE_H

#include "wild_satchel/archive.h"
#include "wild_satchel/write.h"

struct archive_out;
struct archive_tally {
    struct ws_port *port; /* for progress; the call may be NULL */
    ws_progress_call on_progress;
    void *context;
    void (*on_file)(void *file_context, const char *path); /* its content went in; may be NULL */
    void *file_context;
    uint64_t total;                  /* bytes that are to come */
    uint64_t files, bytes, left_out; /* out: files of any kind but folders; sockets are left out */
};

enum ws_status archive_out_open(ws_archive_sink sink, void *context, struct archive_out **out, struct ws_error *error);
/* All below `top`, itself as the folder `name`. Uses the scratch of the tree's nodes. */
enum ws_status archive_out_tree(struct archive_out *out, struct ws_tree *tree, struct ws_node *top, const char *name,
                                struct archive_tally *tally, struct ws_error *error);
enum ws_status archive_out_text(struct archive_out *out, const char *name, const char *text, int64_t time,
                                struct ws_error *error);
/* Over all that was put in as a tree. */
void archive_out_digest(struct archive_out *out, char hex[WS_HASH_HEX]);
/* The end of it, where all went well so far. @return `status`, or what went wrong at the end */
enum ws_status archive_out_close(struct archive_out *out, enum ws_status status, struct ws_error *error);

/* The digest of a tree that was read from such an archive. */
enum ws_status archive_digest_of(struct ws_tree *tree, char hex[WS_HASH_HEX], struct ws_error *error);

#endif
