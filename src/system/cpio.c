/* cpio.c — the same bytes as entries.sh makes. */
#include "system/cpio.h"

#include "base/bytes.h"

#include <string.h>

void cpio_add(struct ws_text *out, unsigned *serial, const char *name, unsigned mode, const void *bytes,
              size_t length) {
    const size_t named = strlen(name) + 1;
    ws_text_printf(out, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s", ++*serial, mode, 0, 0, 1, 0,
                   (unsigned)length, 0, 0, 0, 0, (unsigned)named, 0, name);
    ws_text_add(out, "\0\0\0", 1 + (4 - (110 + named) % 4) % 4);
    ws_text_add(out, bytes, length);
    ws_text_add(out, "\0\0\0", (4 - length % 4) % 4);
}

void cpio_end(struct ws_text *out, unsigned *serial) { cpio_add(out, serial, "TRAILER!!!", 0, "", 0); }

enum ws_status cpio_put_behind(struct ws_tree *tree, struct ws_node *initrd, const struct ws_text *archive,
                               int64_t made_at, struct ws_error *error) {
    struct ws_source *content;
    const uint64_t at = ws_round_up(initrd->content->size, 512); /* what lies between is zero */
    WS_TRY(ws_text_status(archive, error));
    WS_TRY(ws_source_patched(initrd->content, at + archive->length, &content, error));
    enum ws_status status = ws_source_patch(content, at, archive->data, archive->length, error);
    if (status != WS_OK) ws_source_close(content);
    WS_TRY(status);
    WS_TRY(ws_tree_own(tree, content, error));
    initrd->content = content;
    initrd->mtime = made_at;
    initrd->mtime_ns = 0;
    return WS_OK;
}
