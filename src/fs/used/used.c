/* used.c — what is in use on a volume, put in order. */
#include "fs/used/internal.h"

#include <stdlib.h>
#include <string.h>

enum { STEP_LEAST = 1 << 20, STRETCHES = 1 << 16 };

enum ws_status used_damaged(const struct used *u, const char *why) {
    return ws_fail(u->error, WS_E_FORMAT, "the volume is damaged: %s", why);
}
enum ws_status used_unsure(const struct used *u, const char *why) {
    return ws_fail(u->error, WS_E_UNSUPPORTED, "%s", why);
}

enum ws_status used_read(const struct used *u, uint64_t at, void *bytes, size_t length) {
    if (!ws_inside(at, length, u->volume->size)) return used_damaged(u, "a record would lie behind its end");
    return ws_source_read(u->volume, at, bytes, length, u->error);
}

enum ws_status used_add(struct used *u, uint64_t at, uint64_t length) {
    struct ws_used *out = u->out;
    if (at >= u->volume->size || length == 0) return WS_OK;
    length = ws_min_u64(length, u->volume->size - at);
    struct ws_stretch *last = out->count ? &out->stretch[out->count - 1] : NULL;
    if (last && at >= last->at && at <= last->at + last->length + u->step) { /* most come in order */
        last->length = ws_max_u64(last->length, at + length - last->at);
        return WS_OK;
    }
    if (out->count == u->room) {
        const size_t room = u->room ? 2 * u->room : 256;
        struct ws_stretch *more = room > 16 * STRETCHES ? NULL : realloc(out->stretch, room * sizeof *more);
        if (!more) return ws_fail(u->error, WS_E_NOMEM, "out of memory for what is in use on a volume");
        out->stretch = more;
        u->room = room;
    }
    out->stretch[out->count++] = (struct ws_stretch){at, length};
    return WS_OK;
}

static int by_place(const void *a, const void *b) {
    const struct ws_stretch *s = a, *t = b;
    return s->at < t->at ? -1 : s->at > t->at;
}

static void settle(const struct used *u) {
    struct ws_used *out = u->out;
    size_t count = 0;
    if (out->count) qsort(out->stretch, out->count, sizeof *out->stretch, by_place);
    for (size_t i = 0; i < out->count; i++) {
        const uint64_t at = out->stretch[i].at / STEP_LEAST * STEP_LEAST;
        const uint64_t end =
            ws_min_u64(ws_round_up(out->stretch[i].at + out->stretch[i].length, STEP_LEAST), u->volume->size);
        struct ws_stretch *last = count ? &out->stretch[count - 1] : NULL;
        if (last && at <= last->at + last->length) last->length = ws_max_u64(last->length, end - last->at);
        else out->stretch[count++] = (struct ws_stretch){at, end - at};
    }
    out->count = count;
    out->bytes = 0;
    for (size_t i = 0; i < count; i++) out->bytes += out->stretch[i].length;
}

enum ws_status ws_used_look(const struct ws_source *volume, struct ws_used *used, struct ws_error *error) {
    static enum ws_status (*const kinds[])(struct used *) = {used_by_ntfs, used_by_xfs, used_by_btrfs};
    struct used u = {.volume = volume, .out = used, .error = error};
    memset(used, 0, sizeof *used);
    u.step = ws_max_u64(STEP_LEAST, volume->size / STRETCHES);
    enum ws_status status = WS_E_NOTFOUND;
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0] && status == WS_E_NOTFOUND; i++) status = kinds[i](&u);
    if (status == WS_E_NOTFOUND) ws_fail(error, status, "this is none of NTFS, XFS and Btrfs");
    if (status == WS_OK) settle(&u);
    return status;
}

void ws_used_free(struct ws_used *used) {
    free(used->stretch);
    memset(used, 0, sizeof *used);
}
