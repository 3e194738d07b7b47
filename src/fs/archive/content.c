/* content.c — a file of an archive, its bytes put away as they come, its holes noted. */
#include "fs/archive/content.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { STEP = 1 << 20 };

struct taking {
    const struct ws_archive_store *store; /* NULL: held */
    struct ws_tree *tree;
    struct ws_text gathered; /* up to STEP bytes where there is a store, else all */
    struct ws_source *base;  /* what was put away, one behind the other */
    struct ws_run *run;      /* of it, and holes */
    size_t runs, room;
    uint64_t end; /* of the file, so far */
};

static enum ws_status put_away(struct taking *t, struct ws_error *error) {
    const struct ws_archive_store *s = t->store;
    enum ws_status status = ws_text_status(&t->gathered, error);
    if (status != WS_OK || !t->gathered.length) return status;
    if (t->base) {
        status = s->more(s->context, t->base, t->gathered.data, t->gathered.length, error);
    } else {
        status = s ? s->put(s->context, t->gathered.data, t->gathered.length, &t->base, error)
                   : ws_source_memory(t->gathered.data, t->gathered.length, &t->base, error);
        if (status == WS_OK) status = ws_tree_own(t->tree, t->base, error);
    }
    ws_text_free(&t->gathered);
    return status;
}

static enum ws_status add_run(struct taking *t, uint64_t length, uint64_t at, struct ws_error *error) {
    struct ws_run *last = t->runs ? &t->run[t->runs - 1] : NULL;
    if (!length) return WS_OK;
    if (last &&
        (at == WS_RUN_HOLE ? last->at == at : last->at != WS_RUN_HOLE)) { /* bytes are put one behind the other */
        last->length += length;
        return WS_OK;
    }
    if (t->runs == t->room) {
        struct ws_run *grown = realloc(t->run, (t->room * 2 + 16) * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a file with holes");
        t->run = grown;
        t->room = t->room * 2 + 16;
    }
    t->run[t->runs++] = (struct ws_run){length, at};
    return WS_OK;
}

/* All blocks of it; what no block covers is a hole. */
static enum ws_status take(struct taking *t, struct archive *a, uint64_t size, struct ws_error *error) {
    uint64_t stored = 0;
    for (;;) {
        const void *bytes;
        size_t length;
        la_int64_t at;
        int code = archive_read_data_block(a, &bytes, &length, &at);
        if (code == ARCHIVE_EOF) break;
        if (code < ARCHIVE_WARN || at < 0 || (uint64_t)at < t->end || !ws_inside((uint64_t)at, length, size))
            return WS_E_FORMAT;
        WS_TRY(add_run(t, (uint64_t)at - t->end, WS_RUN_HOLE, error));
        WS_TRY(add_run(t, length, stored, error));
        t->end = (uint64_t)at + length;
        stored += length;
        for (const char *p = bytes; length > 0;) {
            const size_t n = t->store ? (size_t)ws_min_u64(length, STEP - t->gathered.length) : length;
            ws_text_add(&t->gathered, p, n);
            if (t->store && t->gathered.length == STEP) WS_TRY(put_away(t, error));
            p += n;
            length -= n;
        }
        WS_TRY(ws_text_status(&t->gathered, error));
    }
    return put_away(t, error);
}

enum ws_status archive_take_content(struct archive *a, const struct ws_archive_store *store, struct ws_tree *tree,
                                    uint64_t size, bool sparse, const struct ws_source **content,
                                    struct ws_error *error) {
    struct taking t = {.store = store && store->more ? store : NULL, .tree = tree};
    struct ws_source *shown = NULL;
    enum ws_status status = WS_OK;
    WS_GO(take(&t, a, size, error));
    if (t.end < size && !sparse) WS_GO(WS_E_FORMAT);
    *content = t.base;
    if (t.end == size && t.runs == 1 && t.run[0].at == 0) goto done; /* no hole in it */
    WS_GO(add_run(&t, size - t.end, WS_RUN_HOLE, error));
    WS_GO(t.base ? ws_source_runs(t.base, t.run, t.runs, size, &shown, error) : ws_source_zeros(size, &shown, error));
    WS_GO(ws_tree_own(tree, shown, error));
    *content = shown;
done:
    ws_text_free(&t.gathered);
    free(t.run);
    return status;
}
