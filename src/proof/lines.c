/* lines.c — a snapshot as lines of text, and read from them again (docs/proof-format.md). */
#include "proof/snapshot.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* By enum ws_node_kind. */
static const char kinds[] = {[WS_NODE_FOLDER] = 'd', [WS_NODE_FILE] = 'f', [WS_NODE_LINK] = 'l',  [WS_NODE_CHAR] = 'c',
                             [WS_NODE_BLOCK] = 'b',  [WS_NODE_FIFO] = 'p', [WS_NODE_SOCKET] = 's'};
enum { PATH_MOST = 8192, LINE = PATH_MOST * 2 + 256 };

/* A name may hold any byte but 0 and "/"; lines end with a line feed. */
static void write_path(struct ws_text *out, const char *path) {
    for (; *path; path++) {
        if (*path == '\n') ws_text_puts(out, "\\n");
        else if (*path == '\\') ws_text_puts(out, "\\\\");
        else ws_text_add(out, path, 1);
    }
}

void snapshot_write_row(const struct ws_shot *s, struct ws_text *out) {
    static const char digits[] = "0123456789abcdef";
    char hex[65] = "-";
    for (size_t k = 0; s->hashed && k < 32; k++) {
        hex[2 * k] = digits[s->sha256[k] >> 4];
        hex[2 * k + 1] = digits[s->sha256[k] & 15];
    }
    if (s->hashed) hex[64] = '\0';
    ws_text_printf(out, "%c %o %" PRIu32 " %" PRIu32 " %" PRIu64 " %" PRId64 ".%09" PRIu32 " %08" PRIx32 " %s ",
                   s->below ? kinds[s->kind] - 32 : kinds[s->kind], s->mode, s->uid, s->gid, s->size, s->mtime,
                   s->mtime_ns, s->attributes, hex);
    write_path(out, s->path);
    ws_text_puts(out, "\n");
}

void ws_snapshot_write(const struct ws_snapshot *snapshot, struct ws_text *out) {
    for (size_t i = 0; i < snapshot->count; i++) snapshot_write_row(&snapshot->shot[i], out);
}

static bool read_number(const char **at, int base, uint64_t most, char end, uint64_t *out) {
    char *after = NULL;
    if (!((**at >= '0' && **at <= '9') || (base == 16 && **at >= 'a' && **at <= 'f'))) return false;
    *out = strtoull(*at, &after, base);
    if (*after != end || *out > most) return false;
    *at = after + 1;
    return true;
}

static bool read_digest(const char **at, struct ws_shot *s) {
    if (**at == '-' && (*at)[1] == ' ') {
        *at += 2;
        return true;
    }
    if (strspn(*at, "0123456789abcdef") != 64 || (*at)[64] != ' ') return false;
    for (size_t k = 0; k < 32; k++) {
        char pair[3] = {(*at)[2 * k], (*at)[2 * k + 1], '\0'};
        s->sha256[k] = (uint8_t)strtoul(pair, NULL, 16);
    }
    s->hashed = true;
    *at += 65;
    return true;
}

static bool read_path(struct ws_snapshot *snapshot, const char *at, struct ws_shot *s, bool *memory) {
    char path[PATH_MOST];
    size_t n = 0;
    if (*at != '/') return false;
    for (; *at; at++) {
        char c = *at;
        if (c == '\\') {
            c = at[1] == 'n' ? '\n' : at[1] == '\\' ? '\\' : '\0';
            at++;
        }
        if (!c || n + 1 == sizeof path) return false;
        path[n++] = c;
    }
    s->path = snapshot_path(snapshot, path, n);
    *memory = s->path != NULL;
    return true;
}

static bool read_line(struct ws_snapshot *snapshot, const char *at, struct ws_shot *s, bool *memory) {
    uint64_t mode, uid, gid, size, mtime, ns, attributes;
    const bool below = *at >= 'A' && *at <= 'Z';
    const char *kind = *at ? memchr(kinds, below ? *at + 32 : *at, sizeof kinds) : NULL;
    memset(s, 0, sizeof *s);
    *memory = true;
    if (!kind || at[1] != ' ') return false;
    at += 2;
    if (!read_number(&at, 8, 07777, ' ', &mode) || !read_number(&at, 10, UINT32_MAX, ' ', &uid) ||
        !read_number(&at, 10, UINT32_MAX, ' ', &gid) || !read_number(&at, 10, UINT64_MAX, ' ', &size))
        return false;
    const bool before = *at == '-'; /* 1970 */
    at += before;
    if (!read_number(&at, 10, INT64_MAX, '.', &mtime) || !read_number(&at, 10, 999999999, ' ', &ns) ||
        !read_number(&at, 16, UINT32_MAX, ' ', &attributes) || !read_digest(&at, s))
        return false;
    s->kind = (uint8_t)(kind - kinds);
    s->below = below;
    s->mode = (uint16_t)mode;
    s->uid = (uint32_t)uid;
    s->gid = (uint32_t)gid;
    s->size = size;
    s->mtime = before ? -(int64_t)mtime : (int64_t)mtime;
    s->mtime_ns = (uint32_t)ns;
    s->attributes = (uint32_t)attributes;
    return read_path(snapshot, at, s, memory);
}

struct snapshot_reader {
    struct ws_snapshot *snapshot;
    struct ws_shot *shot;
    size_t room, used; /* entries; bytes of `line` */
    bool memory, bad;
    char line[LINE];
};

enum ws_status snapshot_reader_open(struct ws_snapshot *snapshot, size_t lines, struct snapshot_reader **out,
                                    struct ws_error *error) {
    struct snapshot_reader *r = malloc(sizeof *r);
    if (r) {
        r->snapshot = snapshot;
        r->room = lines;
        r->used = 0;
        r->memory = true;
        r->bad = false;
        r->shot = snapshot_rows(snapshot, lines + 1);
    }
    if (!r || !r->shot) {
        free(r);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    }
    *out = r;
    return WS_OK;
}

bool snapshot_reader_take(struct snapshot_reader *r, const char *text, size_t length) {
    while (length && r->memory && !r->bad) {
        const char *feed = memchr(text, '\n', length);
        const size_t n = feed ? (size_t)(feed - text) : length;
        r->bad = r->used + n >= LINE || memchr(text, '\0', n) || (feed && r->snapshot->count == r->room);
        if (r->bad) break;
        memcpy(r->line + r->used, text, n);
        r->used += n;
        text += n + (feed != NULL);
        length -= n + (feed != NULL);
        if (!feed) break;
        r->line[r->used] = '\0';
        r->used = 0;
        r->bad = !read_line(r->snapshot, r->line, &r->shot[r->snapshot->count], &r->memory);
        if (!r->bad) r->snapshot->count++;
    }
    return r->memory && !r->bad;
}

enum ws_status snapshot_reader_close(struct snapshot_reader *r, bool whole, struct ws_error *error) {
    struct ws_snapshot *snapshot = r->snapshot;
    enum ws_status status = WS_OK;
    r->bad |= whole && r->used > 0; /* a last line that does not end */
    if (!r->memory) status = ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    else if (r->bad)
        status = ws_fail(error, WS_E_FORMAT, "line %zu of the snapshot says nothing known", snapshot->count + 1);
    if (status == WS_OK && whole) {
        status = snapshot_settle(snapshot);
        if (status != WS_OK) ws_fail(error, status, "the snapshot has a path twice");
    }
    free(r);
    if (status != WS_OK || !whole) ws_snapshot_free(snapshot);
    return status;
}

enum ws_status ws_snapshot_read(const char *text, size_t length, struct ws_snapshot *snapshot, struct ws_error *error) {
    struct snapshot_reader *reader = NULL;
    size_t lines = 0;
    memset(snapshot, 0, sizeof *snapshot);
    for (size_t i = 0; i < length; i++) lines += text[i] == '\n';
    WS_TRY(snapshot_reader_open(snapshot, lines, &reader, error));
    (void)snapshot_reader_take(reader, text, length);
    return snapshot_reader_close(reader, true, error);
}
