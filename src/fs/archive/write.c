/* write.c — a tree to a tar archive by libarchive (POSIX.1-2001 pax, zstd), digested on its way. */
#include "fs/archive/write.h"

#include "base/bytes.h"
#include "layout/stream.h"

#include <archive.h>
#include <archive_entry.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { CHUNK = 1 << 20, NAMES_MOST = 256, PATH_ROOM = 4095 /* as long as they are read */ };

struct archive_out {
    struct archive *archive; /* NULL: only the digest is wanted */
    struct ws_hash *hash;
    ws_archive_sink sink;
    void *context;
    struct ws_error sink_error;
    struct archive_tally *tally;
    struct ws_pace pace;
    char *chunk;
    const struct ws_node *top;
    const char *name;
};

static la_ssize_t put(struct archive *a, void *context, const void *bytes, size_t length) {
    struct archive_out *o = context;
    if (o->sink(o->context, bytes, length, &o->sink_error) == WS_OK) return (la_ssize_t)length;
    archive_set_error(a, -1, "%s", o->sink_error.what);
    return -1;
}

static enum ws_status failed(struct archive_out *o, struct ws_error *error) {
    if (o->sink_error.status == WS_OK)
        return ws_fail(error, WS_E_WRITE, "the archive cannot be made: %s", archive_error_string(o->archive));
    if (error) *error = o->sink_error;
    return o->sink_error.status;
}

static enum ws_status begin(bool digest_only, struct archive_out **out, struct ws_error *error) {
    struct archive_out *o = calloc(1, sizeof *o);
    if (o) o->chunk = malloc(CHUNK);
    if (o && !digest_only) o->archive = archive_write_new();
    enum ws_status status = o && o->chunk && (digest_only || o->archive)
                                ? ws_hash_open(WS_HASH_SHA256, &o->hash, error)
                                : ws_fail(error, WS_E_NOMEM, "out of memory for an archive");
    if (status == WS_OK) *out = o;
    else if (o) (void)archive_out_close(o, status, NULL);
    return status;
}

enum ws_status archive_out_open(ws_archive_sink sink, void *context, struct archive_out **out, struct ws_error *error) {
    struct archive_out *o = NULL;
    WS_TRY(begin(false, &o, error));
    o->sink = sink;
    o->context = context;
    bool good = archive_write_set_format_pax(o->archive) == ARCHIVE_OK &&
                archive_write_add_filter_zstd(o->archive) == ARCHIVE_OK &&
                archive_write_set_bytes_in_last_block(o->archive, 1) == ARCHIVE_OK &&
                archive_write_open2(o->archive, o, NULL, put, NULL, NULL) == ARCHIVE_OK;
    if (good) {
        *out = o;
        return WS_OK;
    }
    return archive_out_close(o, failed(o, error), error);
}

enum ws_status archive_out_close(struct archive_out *o, enum ws_status status, struct ws_error *error) {
    if (o->archive && status == WS_OK && archive_write_close(o->archive) != ARCHIVE_OK) status = failed(o, error);
    if (o->archive && status != WS_OK) (void)archive_write_fail(o->archive);
    if (o->archive) (void)archive_write_free(o->archive);
    ws_hash_close(o->hash);
    free(o->chunk);
    free(o);
    return status;
}

static void feed_number(struct ws_hash *hash, uint64_t number) {
    uint8_t bytes[8];
    ws_store_le64(bytes, number);
    ws_hash_add(hash, bytes, sizeof bytes);
}

/* With its length, so that no two lists of texts are one. */
static void feed(struct ws_hash *hash, const void *bytes, size_t length) {
    feed_number(hash, length);
    ws_hash_add(hash, bytes, length);
}

static int by_name(const void *a, const void *b) {
    return strcmp((*(const struct ws_xattr *const *)a)->name, (*(const struct ws_xattr *const *)b)->name);
}

/* All that is told of an inode but its content. */
static enum ws_status feed_inode(struct ws_hash *hash, const struct ws_node *inode, struct ws_error *error) {
    const struct ws_xattr *sorted[NAMES_MOST];
    size_t n = 0;
    const uint64_t numbers[] = {(uint64_t)inode->kind,  inode->mode,     inode->uid,   inode->gid,
                                (uint64_t)inode->mtime, inode->mtime_ns, inode->major, inode->minor};
    for (size_t i = 0; i < sizeof numbers / sizeof numbers[0]; i++) feed_number(hash, numbers[i]);
    feed(hash, inode->target ? inode->target : "", inode->target ? strlen(inode->target) : 0);
    for (const struct ws_xattr *x = inode->xattrs; x; x = x->next) {
        if (n == NAMES_MOST) return ws_fail(error, WS_E_RANGE, "a file has over %d attributes", NAMES_MOST);
        sorted[n++] = x;
    }
    if (n > 1) qsort(sorted, n, sizeof sorted[0], by_name);
    feed_number(hash, n);
    for (size_t i = 0; i < n; i++) {
        feed(hash, sorted[i]->name, strlen(sorted[i]->name));
        feed(hash, sorted[i]->value, sorted[i]->length);
    }
    return WS_OK;
}

static unsigned type_of(enum ws_node_kind kind) {
    static const unsigned types[] = {
        [WS_NODE_FOLDER] = AE_IFDIR, [WS_NODE_FILE] = AE_IFREG,  [WS_NODE_LINK] = AE_IFLNK,
        [WS_NODE_CHAR] = AE_IFCHR,   [WS_NODE_BLOCK] = AE_IFBLK, [WS_NODE_FIFO] = AE_IFIFO};
    return types[kind];
}

/* The path in the archive: that below `top`, behind the name it has there. One that is cut would be another. */
static enum ws_status name_entry(const struct archive_out *o, const struct ws_node *n, char *out, size_t room,
                                 struct ws_error *error) {
    char path[4096], above[4096];
    ws_node_path(n, path, sizeof path);
    ws_node_path(o->top, above, sizeof above);
    int length = snprintf(out, room, "%s%s", o->name, n == o->top ? "" : path + (above[1] ? strlen(above) : 0));
    if (path[0] == '/' && above[0] == '/' && length < PATH_ROOM) return WS_OK;
    ws_fail(error, WS_E_RANGE, "a path of over %d bytes, which no archive gives back", PATH_ROOM - 1);
    ws_fail_where(error, "%.200s", path);
    return ws_fail_next(error, "take it out on the running system, or give its folders shorter names");
}

/* The next row of the content that holds something, from `at` on: what is before it is a hole. @return false: none */
static bool next_row(const struct ws_source *content, uint64_t at, uint64_t *begin, uint64_t *end) {
    uint64_t length;
    for (*begin = *end = at; *end < content->size; *end += length) {
        struct ws_piece piece = ws_source_piece(content, *end, content->size - *end);
        length = piece.length;
        if (piece.kind != WS_PIECE_HOLE) continue;
        if (*end > *begin) break;
        *begin += length;
    }
    return *end > *begin;
}

static void tell_holes(struct archive_entry *entry, const struct ws_source *content) {
    uint64_t begin, end = 0;
    if (next_row(content, 0, &begin, &end) && begin == 0 && end == content->size) return;
    for (uint64_t at = 0; next_row(content, at, &begin, &end); at = end)
        archive_entry_sparse_add_entry(entry, (la_int64_t)begin, (la_int64_t)(end - begin));
    if (archive_entry_sparse_count(entry) == 0) archive_entry_sparse_add_entry(entry, (la_int64_t)content->size, 0);
}

static enum ws_status put_header(struct archive_out *o, const struct ws_node *inode, const char *path, const char *same,
                                 struct ws_error *error) {
    struct archive_entry *entry = archive_entry_new();
    if (!entry) return ws_fail(error, WS_E_NOMEM, "out of memory for an archive");
    archive_entry_set_pathname(entry, path);
    archive_entry_set_filetype(entry, type_of(inode->kind));
    archive_entry_set_perm(entry, inode->mode);
    archive_entry_set_uid(entry, inode->uid);
    archive_entry_set_gid(entry, inode->gid);
    archive_entry_set_mtime(entry, inode->mtime, (long)inode->mtime_ns);
    archive_entry_set_size(entry, 0);
    if (same) {
        archive_entry_set_hardlink(entry, same);
    } else {
        for (const struct ws_xattr *x = inode->xattrs; x; x = x->next)
            archive_entry_xattr_add_entry(entry, x->name, x->value, x->length);
        if (inode->kind == WS_NODE_LINK) archive_entry_set_symlink(entry, inode->target ? inode->target : "");
        if (inode->kind == WS_NODE_CHAR || inode->kind == WS_NODE_BLOCK) {
            archive_entry_set_rdevmajor(entry, inode->major);
            archive_entry_set_rdevminor(entry, inode->minor);
        }
        if (inode->kind == WS_NODE_FILE && inode->content) {
            archive_entry_set_size(entry, (la_int64_t)inode->content->size);
            tell_holes(entry, inode->content);
        }
    }
    bool good = archive_write_header(o->archive, entry) == ARCHIVE_OK;
    archive_entry_free(entry);
    return good ? WS_OK : failed(o, error);
}

/* So many bytes of it from `at` on, or of a hole. */
static enum ws_status put_bytes(struct archive_out *o, const struct ws_source *content, uint64_t at, uint64_t length,
                                bool hole, struct ws_error *error) {
    if (hole) memset(o->chunk, 0, CHUNK);
    while (length > 0) {
        const size_t n = (size_t)ws_min_u64(CHUNK, length);
        if (!hole) WS_TRY(ws_source_read(content, at, o->chunk, n, error));
        if (!hole) ws_hash_add(o->hash, o->chunk, n);
        if (o->archive && archive_write_data(o->archive, o->chunk, n) < 0) return failed(o, error);
        at += n;
        length -= n;
        if (!hole) o->tally->bytes += n;
        if (o->tally->on_progress && !ws_pace_tell(&o->pace, WS_STEP_WRITING, o->tally->bytes))
            return ws_fail(error, WS_E_CANCELLED, "stopped as asked; the archive is not finished");
    }
    return WS_OK;
}

static enum ws_status put_content(struct archive_out *o, const struct ws_source *content, struct ws_error *error) {
    uint64_t begin, end, at = 0;
    feed_number(o->hash, content ? content->size : 0);
    for (; content && next_row(content, at, &begin, &end); at = end) {
        feed_number(o->hash, begin);
        feed_number(o->hash, end - begin);
        WS_TRY(put_bytes(o, content, at, begin - at, true, error));
        WS_TRY(put_bytes(o, content, begin, end - begin, false, error));
    }
    return content ? put_bytes(o, content, at, content->size - at, true, error) : WS_OK;
}

/* One name: the thing itself where it comes for the first time, else a second name of it. */
static enum ws_status put_node(struct archive_out *o, const struct ws_node *n, struct ws_error *error) {
    struct ws_node *inode = n->same_as ? n->same_as : (struct ws_node *)(uintptr_t)n;
    char path[4200], same[4200];
    if (inode->kind == WS_NODE_SOCKET) {
        o->tally->left_out++;
        return WS_OK;
    }
    const struct ws_node *before = (const struct ws_node *)(uintptr_t)inode->work;
    WS_TRY(name_entry(o, n, path, sizeof path, error));
    if (before) WS_TRY(name_entry(o, before, same, sizeof same, error));
    else inode->work = (uintptr_t)n;
    const size_t skip = strlen(o->name);
    feed(o->hash, path + skip, strlen(path + skip));
    feed(o->hash, before ? same + skip : "", before ? strlen(same + skip) : 0);
    if (o->archive) WS_TRY(put_header(o, inode, path, before ? same : NULL, error));
    o->tally->files += n->kind != WS_NODE_FOLDER;
    if (before) return WS_OK;
    WS_TRY(feed_inode(o->hash, inode, error));
    if (inode->kind != WS_NODE_FILE) return WS_OK;
    WS_TRY(put_content(o, inode->content, error));
    if (o->tally->on_file) o->tally->on_file(o->tally->file_context, path + skip);
    return WS_OK;
}

enum ws_status archive_out_tree(struct archive_out *o, struct ws_tree *tree, struct ws_node *top, const char *name,
                                struct archive_tally *tally, struct ws_error *error) {
    o->tally = tally;
    o->top = top;
    o->name = name;
    if (tally->on_progress) ws_pace_start(&o->pace, tally->port, tally->on_progress, tally->context, tally->total);
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) n->work = 0;
    for (const struct ws_node *n = top; n; n = ws_tree_next_below(n, top)) WS_TRY(put_node(o, n, error));
    return WS_OK;
}

enum ws_status archive_out_text(struct archive_out *o, const char *name, const char *text, int64_t time,
                                struct ws_error *error) {
    struct ws_node file = {.kind = WS_NODE_FILE, .mode = 0644, .mtime = time};
    struct ws_source *content = NULL;
    WS_TRY(ws_source_memory(text, strlen(text), &content, error));
    file.content = content;
    enum ws_status status = put_header(o, &file, name, NULL, error);
    ws_source_close(content);
    if (status == WS_OK && archive_write_data(o->archive, text, strlen(text)) < 0) status = failed(o, error);
    return status;
}

void archive_out_digest(struct archive_out *o, char hex[WS_HASH_HEX]) { ws_hash_hex(o->hash, hex); }

enum ws_status archive_digest_of(struct ws_tree *tree, char hex[WS_HASH_HEX], struct ws_error *error) {
    struct archive_out *o = NULL;
    struct archive_tally tally = {.total = 0};
    WS_TRY(begin(true, &o, error));
    enum ws_status status = archive_out_tree(o, tree, ws_tree_root(tree), "", &tally, error);
    if (status == WS_OK) archive_out_digest(o, hex);
    return archive_out_close(o, status, error);
}
