/* store.c — contents of an archive, one behind the other in a file without a name. */
#include "port/linux/internal.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct stash {
    struct ws_archive_store store;
    int fd;
    uint64_t end;
};
struct stashed {
    const struct stash *stash;
    uint64_t at;
};

static enum ws_status stashed_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    const struct stashed *s = source->state;
    if (pread(s->stash->fd, buffer, length, (off_t)(s->at + at)) == (ssize_t)length) return WS_OK;
    return ws_fail(error, WS_E_READ, "what was unpacked cannot be read: %s", strerror(errno));
}
static void stashed_close(struct ws_source *source) { free(source->state); }
static const struct ws_source_ops stashed_ops = {stashed_read, stashed_close, NULL};

static enum ws_status stash_put(void *context, const void *bytes, size_t length, struct ws_source **source,
                                struct ws_error *error) {
    struct stash *stash = context;
    WS_TRY(ws_linux_spool_fits(stash->fd, length, error));
    if (pwrite(stash->fd, bytes, length, (off_t)stash->end) != (ssize_t)length)
        return ws_fail(error, WS_E_WRITE, "the archive cannot be unpacked: %s", strerror(errno));
    struct stashed *s = malloc(sizeof *s);
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a file of an archive");
    *s = (struct stashed){stash, stash->end};
    enum ws_status status = ws_source_make(&stashed_ops, length, s, source, error);
    if (status == WS_OK) stash->end += length;
    else free(s);
    return status;
}

static enum ws_status stash_more(void *context, struct ws_source *source, const void *bytes, size_t length,
                                 struct ws_error *error) {
    struct stash *stash = context;
    const struct stashed *s = source->state;
    if (s->at + source->size != stash->end) return ws_fail(error, WS_E_USAGE, "something else was put meanwhile");
    WS_TRY(ws_linux_spool_fits(stash->fd, length, error));
    if (pwrite(stash->fd, bytes, length, (off_t)stash->end) != (ssize_t)length)
        return ws_fail(error, WS_E_WRITE, "the archive cannot be unpacked: %s", strerror(errno));
    source->size += length;
    stash->end += length;
    return WS_OK;
}

enum ws_status ws_linux_store_open(struct ws_archive_store **store, struct ws_error *error) {
    struct stash *stash = calloc(1, sizeof *stash);
    if (!stash) return ws_fail(error, WS_E_NOMEM, "out of memory for an archive");
    stash->store = (struct ws_archive_store){stash_put, stash_more, stash};
    stash->fd = ws_linux_nameless_file(error);
    if (stash->fd < 0) {
        free(stash);
        return WS_E_WRITE;
    }
    *store = &stash->store;
    return WS_OK;
}

void ws_linux_store_close(struct ws_archive_store *store) {
    struct stash *stash = store ? store->context : NULL;
    if (!stash) return;
    close(stash->fd);
    free(stash);
}
