/* forgiving.c — a source whose unreadable places read as zeros, and are noted. */
#include "base/bytes.h"
#include "wild_satchel/source.h"

#include <stdlib.h>
#include <string.h>

enum { NOTED_MOST = 65536 };

struct forgiving {
    const struct ws_source *base;
    unsigned sector;
    struct ws_unread *unread; /* in ascending order, apart from each other */
    size_t count, room;
    uint64_t bytes;
};

/* Noted once, however often it is asked for. */
static void note(struct forgiving *f, uint64_t at, uint64_t length) {
    size_t low = 0, high = f->count;
    while (low < high) {
        const size_t middle = low + (high - low) / 2;
        if (f->unread[middle].at + f->unread[middle].length < at) low = middle + 1;
        else high = middle;
    }
    struct ws_unread *u = low < f->count ? &f->unread[low] : NULL;
    if (u && u->at <= at && at + length <= u->at + u->length) return;
    f->bytes += length;
    if (u && u->at + u->length == at) {
        u->length += length;
        if (low + 1 < f->count && f->unread[low + 1].at == u->at + u->length) { /* they meet */
            u->length += f->unread[low + 1].length;
            memmove(u + 1, u + 2, (f->count - low - 2) * sizeof *u);
            f->count--;
        }
        return;
    }
    if (u && at + length == u->at) {
        u->at = at;
        u->length += length;
        return;
    }
    if (f->count == f->room) {
        const size_t room = f->room ? f->room * 2 : 64;
        struct ws_unread *more = room <= NOTED_MOST ? realloc(f->unread, room * sizeof *more) : NULL;
        if (!more) return; /* the count of bytes still tells */
        f->unread = more;
        f->room = room;
    }
    memmove(&f->unread[low + 1], &f->unread[low], (f->count - low) * sizeof *f->unread);
    f->unread[low] = (struct ws_unread){.at = at, .length = length};
    f->count++;
}

static enum ws_status read_what_can_be(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                       struct ws_error *error) {
    struct forgiving *f = source->state;
    struct ws_error ignored;
    (void)error;
    if (ws_source_read(f->base, at, buffer, length, &ignored) == WS_OK) return WS_OK;
    for (uint64_t p = at; p < at + length;) { /* by itself each sector that can be read is */
        const size_t n = (size_t)ws_min_u64(f->sector - p % f->sector, at + length - p);
        char *out = (char *)buffer + (p - at);
        if (ws_source_read(f->base, p, out, n, &ignored) != WS_OK) {
            memset(out, 0, n);
            note(f, p / f->sector * f->sector, f->sector);
        }
        p += n;
    }
    return WS_OK;
}

static void let_go(struct ws_source *source) {
    free(((struct forgiving *)source->state)->unread);
    free(source->state);
}

static const struct ws_source_ops forgiving_ops = {read_what_can_be, let_go, NULL};

enum ws_status ws_source_forgiving(const struct ws_source *base, unsigned sector, struct ws_source **source,
                                   struct ws_error *error) {
    struct forgiving *f = calloc(1, sizeof *f);
    if (!f) return ws_fail(error, WS_E_NOMEM, "out of memory while opening a source");
    f->base = base;
    f->sector = sector;
    enum ws_status status = ws_source_make(&forgiving_ops, base->size, f, source, error);
    if (status != WS_OK) free(f);
    return status;
}

const struct ws_unread *ws_source_unread(const struct ws_source *source, size_t *count, uint64_t *bytes) {
    const struct forgiving *f = source->ops == &forgiving_ops ? source->state : NULL;
    *count = f ? f->count : 0;
    *bytes = f ? f->bytes : 0;
    return f ? f->unread : NULL;
}
