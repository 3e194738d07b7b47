/* laid.h — what a drive laid down file by file says of how it was made, for its renewal (docs/laid-format.md). */
#ifndef WS_PLAN_LAID_H
#define WS_PLAN_LAID_H

#include "wild_satchel/plan.h"
#include "wild_satchel/tree.h"

#define LAID_PATH "loader/satchel.laid"

struct laid {
    struct ws_guid id;                                    /* all identifiers derive from it */
    int64_t made_at;                                      /* seconds since 1970-01-01 UTC */
    char title[WS_TITLE_ROOM], image_sha256[WS_HASH_HEX]; /* of the image; the latter may be empty */
    uint64_t image_size;                                  /* bytes */
    struct ws_request *request;                           /* owned; it names no input */
    struct ws_tree *files; /* owned: all that was laid down, without content; `work` is its size in bytes */
};

/* The document for what stands in a tree, which is not among it itself.
 * @param request  what was asked for, whatever it takes now */
enum ws_status laid_make(const struct ws_tree *tree, const struct ws_plan *plan, const struct ws_request *request,
                         struct ws_text *out, struct ws_error *error);
/* @return WS_E_NOTFOUND if the volume carries none; WS_E_FORMAT for a damaged one; WS_E_UNSUPPORTED for a newer one */
enum ws_status laid_read(const struct ws_tree *volume, struct laid *laid, struct ws_error *error);
void laid_free(struct laid *laid); /* zeroed is accepted */
/* Is it as it was laid down? A folder that is on the list is. */
bool laid_has(const struct laid *laid, const struct ws_node *node);

#endif
