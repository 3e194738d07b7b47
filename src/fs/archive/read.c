/* read.c — libarchive over a ws_source. */
#include "base/bytes.h"
#include "fs/archive/content.h"
#include "wild_satchel/archive.h"

#include <archive.h>
#include <archive_entry.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { WINDOW = 256 * 1024, HELD_MOST = 1 << 20, HELD_ALWAYS = 512, NODES_MOST = 2000000 };

#define COMPARE_IT "compare it with its published checksum, and download it again if they differ"

struct feed { /* a ws_source as libarchive reads it */
    const struct ws_source *source;
    uint64_t at;
    struct ws_error error;
    char window[WINDOW];
};

static la_ssize_t feed_read(struct archive *a, void *context, const void **buffer) {
    struct feed *f = context;
    size_t length = (size_t)ws_min_u64(WINDOW, f->source->size - f->at);
    *buffer = f->window;
    if (length == 0) return 0;
    if (ws_source_read(f->source, f->at, f->window, length, &f->error) != WS_OK) {
        archive_set_error(a, -1, "%s", f->error.what);
        return ARCHIVE_FATAL;
    }
    f->at += length;
    return (la_ssize_t)length;
}

static la_int64_t feed_seek(struct archive *a, void *context, la_int64_t offset, int whence) {
    struct feed *f = context;
    (void)a;
    la_int64_t base = whence == SEEK_SET ? 0 : whence == SEEK_CUR ? (la_int64_t)f->at : (la_int64_t)f->source->size;
    la_int64_t to = base + offset;
    if (to < 0 || (uint64_t)to > f->source->size) return ARCHIVE_FATAL;
    f->at = (uint64_t)to;
    return to;
}

static la_int64_t feed_skip(struct archive *a, void *context, la_int64_t request) {
    struct feed *f = context;
    (void)a;
    uint64_t step = ws_min_u64((uint64_t)request, f->source->size - f->at);
    f->at += step;
    return (la_int64_t)step;
}

/* Only formats that libarchive reads by itself: others would run programs. */
static enum ws_status open_as(const struct ws_source *source, bool stream_only, struct feed **feed,
                              struct archive **out, struct ws_error *error) {
    struct feed *f = calloc(1, sizeof *f);
    struct archive *a = f ? archive_read_new() : NULL;
    if (!a) {
        free(f);
        return ws_fail(error, WS_E_NOMEM, "out of memory for an archive");
    }
    f->source = source;
    archive_read_support_filter_gzip(a);
    archive_read_support_filter_bzip2(a);
    archive_read_support_filter_xz(a);
    archive_read_support_filter_lzma(a);
    archive_read_support_filter_zstd(a);
    archive_read_support_filter_lz4(a); /* initial RAM disks */
    if (!stream_only) {
        archive_read_support_format_tar(a);
        /* by its directory at the end only: read from the front, one that was cut short would pass for whole */
        archive_read_support_format_zip_seekable(a);
        archive_read_support_format_7zip(a);
    }
    archive_read_support_format_raw(a);
    archive_read_set_read_callback(a, feed_read);
    archive_read_set_seek_callback(a, feed_seek);
    archive_read_set_skip_callback(a, feed_skip);
    archive_read_set_callback_data(a, f);
    if (archive_read_open1(a) != ARCHIVE_OK) {
        /* as a mere stream everything can be read, so it is a packed one that breaks off at its beginning */
        ws_fail(error, f->error.status ? f->error.status : WS_E_FORMAT, "the archive is damaged or cut short: %s",
                archive_error_string(a));
        ws_fail_next(error, COMPARE_IT);
        archive_read_free(a);
        free(f);
        return WS_E_FORMAT;
    }
    *feed = f;
    *out = a;
    return WS_OK;
}

static void close_archive(struct archive *a, struct feed *f) {
    archive_read_free(a);
    free(f);
}

static enum ws_status open_archive(const struct ws_source *source, struct feed **feed, struct archive **out,
                                   struct ws_error *error) {
    return open_as(source, false, feed, out, error);
}

/* The first header. A compressed image that begins with zeros, as file systems do, looks like an empty tar archive:
 * what seems to hold nothing is opened again as a mere stream. @return libarchive's code */
static int first_header(const struct ws_source *source, struct feed **f, struct archive **a,
                        struct archive_entry **entry) {
    int code = archive_read_next_header(*a, entry);
    if (code != ARCHIVE_EOF || archive_filter_count(*a) <= 1) return code;
    struct archive *again = NULL;
    struct feed *feed = NULL;
    if (open_as(source, true, &feed, &again, NULL) != WS_OK) return code;
    close_archive(*a, *f);
    *a = again;
    *f = feed;
    return archive_read_next_header(*a, entry);
}

/* It begins as a zip archive does (APPNOTE 4.3.7), or an empty one (4.3.16), though it was not found to be one. */
static bool begins_as_zip(const struct ws_source *source) {
    char head[4];
    return source->size >= sizeof head && ws_source_read(source, 0, head, sizeof head, NULL) == WS_OK &&
           (memcmp(head, "PK\3\4", 4) == 0 || memcmp(head, "PK\5\6", 4) == 0);
}

static enum ws_status zip_cut_short(const struct ws_source *source, struct ws_error *error) {
    ws_fail(error, WS_E_FORMAT,
            "the zip archive is damaged or cut short: the directory at its end is missing or wrong");
    ws_fail_where(error, "byte %llu", (unsigned long long)source->size);
    return ws_fail_next(error, COMPARE_IT);
}

static enum ws_status damaged(struct archive *a, const struct feed *f, struct ws_error *error) {
    const char *why = archive_error_string(a);
    ws_fail(error, f->error.status ? f->error.status : WS_E_FORMAT,
            "the archive is damaged or cut short, at byte %llu of %llu: %s", (unsigned long long)f->at,
            (unsigned long long)f->source->size, why ? why : "unknown");
    return ws_fail_next(error, COMPARE_IT);
}

static bool is_raw(struct archive *a) { return archive_format(a) == ARCHIVE_FORMAT_RAW; }

static bool is_plain(struct archive *a) { return is_raw(a) && archive_filter_count(a) <= 1; }

static void name_format(struct archive *a, struct ws_packed_facts *facts) {
    const char *filter = archive_filter_count(a) > 1 ? archive_filter_name(a, 0) : NULL;
    int base = archive_format(a) & ARCHIVE_FORMAT_BASE_MASK;
    const char *format = is_raw(a)                     ? ""
                         : base == ARCHIVE_FORMAT_TAR  ? "tar"
                         : base == ARCHIVE_FORMAT_ZIP  ? "zip"
                         : base == ARCHIVE_FORMAT_7ZIP ? "7z"
                                                       : "archive";
    (void)snprintf(facts->format, sizeof facts->format, "%s%s%s", format, format[0] && filter ? ", " : "",
                   filter ? filter : "");
}

enum ws_status ws_packed_probe(const struct ws_source *source, struct ws_packed_facts *facts, struct ws_error *error) {
    struct archive *a = NULL;
    struct feed *f = NULL;
    struct archive_entry *entry;
    memset(facts, 0, sizeof *facts);
    if (source->size == 0) return ws_fail(error, WS_E_NOTFOUND, "this is neither compressed nor an archive");
    enum ws_status status = open_archive(source, &f, &a, error);
    if (status != WS_OK) return status;
    int code = first_header(source, &f, &a, &entry);
    bool plain = code == ARCHIVE_OK && is_plain(a);
    if (plain && begins_as_zip(source)) status = zip_cut_short(source, error);
    else if (plain || code == ARCHIVE_EOF)
        status = ws_fail(error, WS_E_NOTFOUND, "this is neither compressed nor an archive");
    else if (code < ARCHIVE_WARN)
        status = archive_filter_count(a) > 1 || archive_format(a) ? damaged(a, f, error)
                                                                  : ws_fail(error, WS_E_NOTFOUND, "this is no archive");
    if (status == WS_OK) {
        name_format(a, facts);
        facts->one_image = is_raw(a);
        if (!facts->one_image && strncmp(facts->format, "zip", 3) == 0 && archive_entry_filetype(entry) == AE_IFREG) {
            const char *name = archive_entry_pathname(entry);
            (void)snprintf(facts->member, sizeof facts->member, "%.255s", name ? name : "");
            facts->unpacked = archive_entry_size_is_set(entry) ? (uint64_t)archive_entry_size(entry) : 0;
            facts->one_image = archive_read_next_header(a, &entry) == ARCHIVE_EOF;
            if (!facts->one_image) facts->member[0] = '\0', facts->unpacked = 0;
        }
    }
    close_archive(a, f);
    return status;
}

enum ws_status ws_unpack(const struct ws_source *source, ws_unpack_sink sink, void *context, uint64_t *size,
                         struct ws_error *error) {
    struct archive *a = NULL;
    struct feed *f = NULL;
    struct archive_entry *entry;
    enum ws_status status = open_archive(source, &f, &a, error);
    if (status != WS_OK) return status;
    *size = 0;
    if (first_header(source, &f, &a, &entry) < ARCHIVE_WARN) WS_GO(damaged(a, f, error));
    for (;;) {
        const void *bytes;
        size_t length;
        la_int64_t at;
        int code = archive_read_data_block(a, &bytes, &length, &at);
        if (code == ARCHIVE_EOF) break;
        if (code < ARCHIVE_WARN) WS_GO(damaged(a, f, error));
        if (at < 0 || (uint64_t)at < *size) WS_GO(ws_fail(error, WS_E_FORMAT, "the archive goes backwards"));
        if (length) WS_GO(sink(context, (uint64_t)at, bytes, length, error));
        *size = (uint64_t)at + length;
    }
    if (archive_entry_size_is_set(entry) && (uint64_t)archive_entry_size(entry) > *size)
        *size = (uint64_t)archive_entry_size(entry); /* it ends in a hole */
done:
    close_archive(a, f);
    return status;
}

/* An archive read once more for its large members. They share one place in it: read in their order, all of them
 * together take one pass; only going back begins again. */
struct pass {
    const struct ws_source *source;
    struct archive *a;
    struct feed *f;
    size_t next;  /* entries whose header was read */
    uint64_t at;  /* next byte of the last one's content */
    size_t users; /* members, and the reader while it makes them */
};

/* A member too large to be held. */
struct member {
    struct pass *pass;
    size_t index; /* of the entry, from 0 */
};

static void pass_rewind(struct pass *p) {
    if (p->a) close_archive(p->a, p->f);
    p->a = NULL;
    p->f = NULL;
    p->next = 0;
    p->at = 0;
}

static void pass_leave(struct pass *p) {
    if (!p || --p->users) return;
    pass_rewind(p);
    free(p);
}

/* To byte `at` of an entry, or before it. */
static enum ws_status pass_seek(struct pass *p, size_t index, uint64_t at, struct ws_error *error) {
    struct archive_entry *entry;
    bool behind = p->next > index + 1 || (p->next == index + 1 && p->at > at);
    if (p->a && behind) pass_rewind(p);
    if (!p->a) WS_TRY(open_archive(p->source, &p->f, &p->a, error));
    while (p->next <= index) {
        if (archive_read_next_header(p->a, &entry) < ARCHIVE_WARN) return damaged(p->a, p->f, error);
        p->next++;
        p->at = 0;
    }
    return WS_OK;
}

static enum ws_status member_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                  struct ws_error *error) {
    const struct member *m = source->state;
    struct pass *p = m->pass;
    char *out = buffer;
    enum ws_status status = pass_seek(p, m->index, at, error);
    while (status == WS_OK && length > 0) {
        char scrap[16384];
        bool skipping = p->at < at;
        size_t step = skipping ? (size_t)ws_min_u64(sizeof scrap, at - p->at) : length;
        la_ssize_t got = archive_read_data(p->a, skipping ? scrap : out, step);
        if (got <= 0) {
            status = damaged(p->a, p->f, error);
            break;
        }
        p->at += (uint64_t)got;
        if (skipping) continue;
        out += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    if (status != WS_OK) pass_rewind(p);
    return status;
}

static void member_close(struct ws_source *source) {
    pass_leave(((struct member *)source->state)->pass);
    free(source->state);
}

static const struct ws_source_ops member_ops = {member_read, member_close, NULL};

/* What is being read, and into what. */
struct gathering {
    struct archive *a;
    struct feed *f;
    struct pass *pass;
    struct ws_tree *tree;
    const struct ws_archive_store *store; /* may be NULL */
    bool whole;                           /* large contents are taken, too */
    size_t index;                         /* of the entry, from 0 */
};

/* What the archive tells to be holes are so again. */
static enum ws_status add_holes(const struct gathering *g, struct archive_entry *entry, struct ws_node *node,
                                struct ws_error *error) {
    const int count = archive_entry_sparse_reset(entry);
    struct ws_source *shown = NULL;
    la_int64_t at, length;
    uint64_t done = 0;
    size_t n = 0;
    if (count <= 0) return WS_OK;
    struct ws_run *run = calloc(2 * (size_t)count, sizeof *run);
    if (!run) return ws_fail(error, WS_E_NOMEM, "out of memory for a file of an archive");
    while (n + 2 <= 2 * (size_t)count && archive_entry_sparse_next(entry, &at, &length) == ARCHIVE_OK) {
        if (at < 0 || length < 0 || (uint64_t)at < done ||
            !ws_inside((uint64_t)at, (uint64_t)length, node->content->size)) {
            free(run); /* read as it comes, then */
            return WS_OK;
        }
        if ((uint64_t)at > done) run[n++] = (struct ws_run){(uint64_t)at - done, WS_RUN_HOLE};
        if (length) run[n++] = (struct ws_run){(uint64_t)length, (uint64_t)at};
        done = (uint64_t)at + (uint64_t)length;
    }
    if (!n) run[n++] = (struct ws_run){node->content->size, WS_RUN_HOLE};
    enum ws_status status = ws_source_runs(node->content, run, n, node->content->size, &shown, error);
    free(run);
    WS_TRY(status);
    node->content = shown;
    return ws_tree_own(g->tree, shown, error);
}

static enum ws_status add_content(const struct gathering *g, struct archive_entry *entry, struct ws_node *node,
                                  struct ws_error *error) {
    struct archive *a = g->a;
    uint64_t size = archive_entry_size(entry) > 0 ? (uint64_t)archive_entry_size(entry) : 0;
    struct ws_source *content = NULL;
    if (size == 0) return WS_OK;
    if (g->whole) {
        const bool sparse = archive_entry_sparse_count(entry) > 0;
        enum ws_status status = archive_take_content(a, g->store, g->tree, size, sparse, &node->content, error);
        return status == WS_E_FORMAT ? damaged(a, g->f, error) : status;
    }
    if (size <= HELD_MOST) {
        char *bytes = malloc((size_t)size);
        if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a file of an archive");
        la_ssize_t got = 0;
        size_t done = 0;
        while (done < size && (got = archive_read_data(a, bytes + done, (size_t)size - done)) > 0) done += (size_t)got;
        bool held = !g->store || size <= HELD_ALWAYS;
        enum ws_status status = done != size ? damaged(a, g->f, error)
                                : held       ? ws_source_memory(bytes, done, &content, error)
                                             : g->store->put(g->store->context, bytes, done, &content, error);
        free(bytes);
        WS_TRY(status);
    } else {
        struct member *m = calloc(1, sizeof *m);
        if (!m) return ws_fail(error, WS_E_NOMEM, "out of memory for a file of an archive");
        m->pass = g->pass;
        m->index = g->index;
        enum ws_status status = ws_source_make(&member_ops, size, m, &content, error);
        if (status != WS_OK) {
            free(m);
            return status;
        }
        g->pass->users++;
    }
    WS_TRY(ws_tree_own(g->tree, content, error));
    node->content = content;
    return add_holes(g, entry, node, error);
}

/* "./a//b/" as "a/b". @return false for a name that leaves the root, or says nothing */
static bool clean_path(const char *name, char *out, size_t room) {
    size_t n = 0;
    if (!name || name[0] == '/') return false;
    while (*name) {
        size_t length = strcspn(name, "/");
        if (length == 2 && memcmp(name, "..", 2) == 0) return false;
        if (length > 0 && !(length == 1 && name[0] == '.')) {
            if (n + length + 2 > room) return false;
            if (n) out[n++] = '/';
            memcpy(out + n, name, length);
            n += length;
        }
        name += length;
        while (*name == '/') name++;
    }
    out[n] = '\0';
    return true;
}

/* Extended attributes, and access control lists in the form that Linux keeps them in (acl(5), posix_acl_xattr.h). */
static enum ws_status add_acl(struct archive_entry *entry, int type, const char *name, struct ws_tree *tree,
                              struct ws_node *node, struct ws_error *error) {
    static const struct {
        int tag;
        uint16_t stored;
    } tags[] = {{ARCHIVE_ENTRY_ACL_USER_OBJ, 0x01}, {ARCHIVE_ENTRY_ACL_USER, 0x02}, {ARCHIVE_ENTRY_ACL_GROUP_OBJ, 0x04},
                {ARCHIVE_ENTRY_ACL_GROUP, 0x08},    {ARCHIVE_ENTRY_ACL_MASK, 0x10}, {ARCHIVE_ENTRY_ACL_OTHER, 0x20}};
    int count = archive_entry_acl_reset(entry, type);
    struct ws_text value = {0};
    uint8_t field[8] = {2}; /* the version */
    bool extended = false;
    ws_text_add(&value, field, 4);
    for (size_t k = 0; k < sizeof tags / sizeof tags[0]; k++) { /* in the order the kernel wants them */
        int is, permset, tag, id;
        const char *who;
        (void)archive_entry_acl_reset(entry, type);
        while (count > 0 && archive_entry_acl_next(entry, type, &is, &permset, &tag, &id, &who) == ARCHIVE_OK) {
            if (tag != tags[k].tag) continue;
            bool named = tag == ARCHIVE_ENTRY_ACL_USER || tag == ARCHIVE_ENTRY_ACL_GROUP;
            extended |= named || tag == ARCHIVE_ENTRY_ACL_MASK || type == ARCHIVE_ENTRY_ACL_TYPE_DEFAULT;
            ws_store_le16(field, tags[k].stored);
            ws_store_le16(field + 2, (uint16_t)(permset & 7));
            ws_store_le32(field + 4, named ? (uint32_t)id : UINT32_MAX);
            ws_text_add(&value, field, 8);
        }
    }
    enum ws_status status = ws_text_status(&value, error);
    if (status == WS_OK && extended) status = ws_tree_set_xattr(tree, node, name, value.data, value.length, error);
    ws_text_free(&value);
    return status;
}

static enum ws_status add_attributes(const struct gathering *g, struct archive_entry *entry, struct ws_node *node,
                                     struct ws_error *error) {
    const char *name;
    const void *value;
    size_t length;
    node->mtime = archive_entry_mtime(entry);
    node->mtime_ns = (uint32_t)archive_entry_mtime_nsec(entry);
    node->mode = (uint16_t)(archive_entry_perm(entry) & 07777);
    node->uid = (uint32_t)archive_entry_uid(entry);
    node->gid = (uint32_t)archive_entry_gid(entry);
    (void)archive_entry_xattr_reset(entry);
    while (archive_entry_xattr_next(entry, &name, &value, &length) == ARCHIVE_OK)
        if (name) WS_TRY(ws_tree_set_xattr(g->tree, node, name, value, length, error));
    WS_TRY(add_acl(entry, ARCHIVE_ENTRY_ACL_TYPE_ACCESS, "system.posix_acl_access", g->tree, node, error));
    return add_acl(entry, ARCHIVE_ENTRY_ACL_TYPE_DEFAULT, "system.posix_acl_default", g->tree, node, error);
}

static enum ws_node_kind kind_of(unsigned type) {
    return type == AE_IFLNK    ? WS_NODE_LINK
           : type == AE_IFCHR  ? WS_NODE_CHAR
           : type == AE_IFBLK  ? WS_NODE_BLOCK
           : type == AE_IFIFO  ? WS_NODE_FIFO
           : type == AE_IFSOCK ? WS_NODE_SOCKET
                               : WS_NODE_FILE;
}

/* Another name of a file that came before. Its content may come with either of the two (cpio, pax). */
static enum ws_status add_hard_link(struct ws_tree *tree, struct ws_node *node, const char *name, bool *done,
                                    struct ws_error *error) {
    char target[4096];
    struct ws_node *same = clean_path(name, target, sizeof target) ? ws_tree_find(tree, target) : NULL;
    if (same && same->same_as) same = same->same_as;
    *done = same && same != node && same->kind != WS_NODE_FOLDER;
    if (*done) node->same_as = same;
    else if (!same) {
        ws_fail(error, WS_E_FORMAT, "the archive names a second name of a file that is not in it: \"%.200s\"", name);
        return ws_fail_next(error, COMPARE_IT);
    }
    return WS_OK;
}

static enum ws_status add_entry(const struct gathering *g, struct archive_entry *entry, struct ws_error *error) {
    char path[4096];
    const char *name = archive_entry_pathname(entry);
    struct ws_tree *tree = g->tree;
    struct ws_node *node = NULL;
    bool done = false;
    if (!clean_path(name, path, sizeof path)) {
        ws_fail(error, WS_E_FORMAT, "the archive holds a name that would leave it, or is no name: \"%.200s\"",
                name ? name : "");
        return ws_fail_next(error, "do not use this archive; get it from its publisher again");
    }
    unsigned type = archive_entry_filetype(entry);
    const char *hard = archive_entry_hardlink(entry);
    if (type == AE_IFDIR || !path[0]) { /* "./" is the root itself */
        WS_TRY(ws_tree_folder(tree, path, &node, error));
        return type == AE_IFDIR ? add_attributes(g, entry, node, error) : WS_OK;
    }
    WS_TRY(ws_tree_fresh(tree, path, &node, error));
    if (hard) WS_TRY(add_hard_link(tree, node, hard, &done, error));
    if (done) return WS_OK;
    node->kind = kind_of(type);
    WS_TRY(add_attributes(g, entry, node, error));
    if (node->kind == WS_NODE_CHAR || node->kind == WS_NODE_BLOCK) {
        node->major = (uint32_t)archive_entry_rdevmajor(entry);
        node->minor = (uint32_t)archive_entry_rdevminor(entry);
    }
    if (node->kind == WS_NODE_LINK) {
        const char *target = archive_entry_symlink(entry);
        return ws_tree_set_target(tree, node, target ? target : "", error);
    }
    return node->kind == WS_NODE_FILE ? add_content(g, entry, node, error) : WS_OK;
}

enum ws_status ws_archive_read(const struct ws_source *source, struct ws_tree **out, struct ws_error *error) {
    return ws_archive_read_into(source, NULL, out, error);
}

static enum ws_status read_all(const struct ws_source *source, const struct ws_archive_store *store, bool whole,
                               struct ws_tree **out, struct ws_error *error) {
    struct gathering g = {.store = store, .whole = whole};
    enum ws_status status = open_archive(source, &g.f, &g.a, error);
    if (status != WS_OK) return status;
    g.pass = calloc(1, sizeof *g.pass);
    if (!g.pass) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for an archive"));
    g.pass->source = source;
    g.pass->users = 1;
    WS_GO(ws_tree_create(&g.tree, error));
    for (;; g.index++) {
        struct archive_entry *entry;
        int code = archive_read_next_header(g.a, &entry);
        if (code == ARCHIVE_EOF) break;
        if (code < ARCHIVE_WARN) WS_GO(damaged(g.a, g.f, error));
        if (is_plain(g.a) && begins_as_zip(source)) WS_GO(zip_cut_short(source, error));
        if (g.index >= NODES_MOST)
            WS_GO(ws_fail(error, WS_E_FORMAT, "the archive holds over %d files", (int)NODES_MOST));
        WS_GO(add_entry(&g, entry, error));
    }
    ws_tree_settle(g.tree);
done:
    close_archive(g.a, g.f);
    if (status == WS_OK) *out = g.tree;
    else ws_tree_close(g.tree);
    pass_leave(g.pass);
    return status;
}

enum ws_status ws_archive_read_into(const struct ws_source *source, const struct ws_archive_store *store,
                                    struct ws_tree **out, struct ws_error *error) {
    return read_all(source, store, false, out, error);
}

enum ws_status archive_read_whole(const struct ws_source *source, const struct ws_archive_store *store,
                                  struct ws_tree **out, struct ws_error *error) {
    return read_all(source, store, true, out, error);
}
