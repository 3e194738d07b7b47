/* trees.c — random trees, and trees compared. */
#include "tests/harness.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

static void random_name(char *out, size_t number, bool brief) {
    static const char letters[] = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJ0123456789-_. +";
    size_t length = 1 + random_below(!brief && random_below(10) == 0 ? 120 : 20);
    for (size_t i = 0; i < length; i++) out[i] = letters[random_below(i == 0 || i + 1 == length ? 46 : 51)];
    sprintf(out + length, ".%zu", number); /* no two alike, in either case of letters */
}

static struct ws_node *pick(const struct ws_tree *tree, enum ws_node_kind kind) {
    struct ws_node *found = NULL;
    uint64_t seen = 0;
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == kind && !n->same_as && random_below(++seen) == 0) found = n;
    return found;
}

struct ws_tree *random_tree(size_t nodes, unsigned flags, uint64_t most_bytes) {
    struct ws_tree *tree = NULL;
    if (ws_tree_create(&tree, &error) != WS_OK) abort();
    for (size_t i = 0; i < nodes; i++) {
        char name[160];
        struct ws_node *parent = random_below(3) ? pick(tree, WS_NODE_FOLDER) : ws_tree_root(tree);
        struct ws_node *n = NULL;
        unsigned kind = (unsigned)random_below(20);
        random_name(name, i, flags & TREE_SHORT);
        enum ws_node_kind what = kind < 4                         ? WS_NODE_FOLDER
                                 : kind < 6 && flags & TREE_LINKS ? WS_NODE_LINK
                                 : kind == 6 && flags & TREE_DEVICES
                                     ? (enum ws_node_kind)(WS_NODE_CHAR + random_below(4))
                                     : WS_NODE_FILE;
        struct ws_node *twin = kind == 7 && flags & TREE_LINKS ? pick(tree, WS_NODE_FILE) : NULL;
        if (ws_tree_add(tree, parent, name, what, &n, &error) != WS_OK) abort();
        if (twin && what == WS_NODE_FILE) {
            n->same_as = twin;
            continue;
        }
        n->mtime = (int64_t)random_below(4000000000u);
        if (flags & TREE_OWNERS) {
            n->mode = (uint16_t)(random_below(010000) | 0400);
            n->uid = (uint32_t)random_below(200000);
            n->gid = (uint32_t)random_below(200000);
            n->mtime_ns = (uint32_t)random_below(1000000000);
        }
        if (flags & TREE_MARKS && (what == WS_NODE_FILE || what == WS_NODE_FOLDER) && random_below(3) == 0)
            n->marks = (uint8_t)(random_next() & (flags & TREE_OWNERS      ? 0xf8
                                                  : what == WS_NODE_FOLDER ? WS_MARK_HIDDEN | WS_MARK_SYSTEM
                                                                           : 7));
        if (what == WS_NODE_FILE) {
            size_t length = (size_t)random_below(random_below(8) == 0 ? most_bytes : most_bytes / 20 + 1);
            char *bytes = malloc(length + 1);
            struct ws_source *content = NULL;
            random_bytes(bytes, length);
            if (length) {
                if (ws_source_memory(bytes, length, &content, &error) != WS_OK ||
                    ws_tree_own(tree, content, &error) != WS_OK)
                    abort();
                n->content = content;
            }
            free(bytes);
        } else if (what == WS_NODE_LINK) {
            char target[200];
            size_t length = 1 + random_below(flags & TREE_SHORT || random_below(3) ? 40 : 140);
            memset(target, 't', length);
            for (size_t k = 5; k + 1 < length; k += 7) target[k] = '/';
            target[length] = '\0';
            if (ws_tree_set_target(tree, n, target, &error) != WS_OK) abort();
        } else if (what == WS_NODE_CHAR || what == WS_NODE_BLOCK) {
            n->major = (uint32_t)random_below(random_below(2) ? 200 : 4000);
            n->minor = (uint32_t)random_below(random_below(2) ? 200 : 100000);
        }
        if (flags & TREE_XATTRS && random_below(4) == 0) {
            char value[1200];
            size_t length = random_below(random_below(4) ? 30 : 1100);
            random_bytes(value, length);
            if (what == WS_NODE_FILE || what == WS_NODE_FOLDER)
                if (ws_tree_set_xattr(tree, n, "user.note", value, length, &error) != WS_OK) abort();
            if (ws_tree_set_xattr(tree, n, "trusted.satchel", value, length / 2, &error) != WS_OK) abort();
        }
    }
    return tree;
}

static bool same_content(const struct ws_node *a, const struct ws_node *b) {
    uint64_t size = ws_node_size(a);
    if (size != ws_node_size(b)) return false;
    if (size == 0) return true;
    char *x = malloc(2 * (size_t)size);
    const struct ws_node *ia = a->same_as ? a->same_as : a;
    const struct ws_node *ib = b->same_as ? b->same_as : b;
    bool same = ws_source_read(ia->content, 0, x, (size_t)size, &error) == WS_OK &&
                ws_source_read(ib->content, 0, x + size, (size_t)size, &error) == WS_OK &&
                memcmp(x, x + size, (size_t)size) == 0;
    free(x);
    return same;
}

static size_t count_xattrs(const struct ws_node *n) {
    size_t count = 0;
    for (const struct ws_xattr *x = n->xattrs; x; x = x->next) count++;
    return count;
}

static void compare_nodes(const struct ws_node *seen, const struct ws_node *wanted, unsigned flags) {
    char path[600];
    ws_node_path(wanted, path, sizeof path);
    const struct ws_node *s = seen->same_as ? seen->same_as : seen;
    const struct ws_node *w = wanted->same_as ? wanted->same_as : wanted;
    if (s->kind != w->kind) {
        fail_at(__FILE__, __LINE__, "%s: kind %d, not %d", path, s->kind, w->kind);
        return;
    }
    if (s->kind == WS_NODE_FILE && !same_content(s, w)) fail_at(__FILE__, __LINE__, "%s: other content", path);
    if (s->kind == WS_NODE_LINK && strcmp(s->target, w->target) != 0)
        fail_at(__FILE__, __LINE__, "%s: leads elsewhere", path);
    if (flags & TREE_DEVICES && (s->kind == WS_NODE_CHAR || s->kind == WS_NODE_BLOCK) &&
        (s->major != w->major || s->minor != w->minor))
        fail_at(__FILE__, __LINE__, "%s: device %u:%u, not %u:%u", path, s->major, s->minor, w->major, w->minor);
    if (flags & TREE_OWNERS && wanted->parent &&
        (s->mode != w->mode || s->uid != w->uid || s->gid != w->gid || s->mtime != w->mtime ||
         s->mtime_ns != w->mtime_ns))
        fail_at(__FILE__, __LINE__, "%s: mode %o %u:%u time %lld.%u, not %o %u:%u %lld.%u", path, s->mode, s->uid,
                s->gid, (long long)s->mtime, s->mtime_ns, w->mode, w->uid, w->gid, (long long)w->mtime, w->mtime_ns);
    if (flags & TREE_MARKS && wanted->parent && s->marks != w->marks)
        fail_at(__FILE__, __LINE__, "%s: marks %02x, not %02x", path, s->marks, w->marks);
    if (flags & TREE_XATTRS) {
        CHECK_INT(count_xattrs(s), count_xattrs(w));
        for (const struct ws_xattr *x = w->xattrs; x; x = x->next) {
            const struct ws_xattr *y = s->xattrs;
            while (y && strcmp(x->name, y->name) != 0) y = y->next;
            if (!y || y->length != x->length || memcmp(x->value, y->value, x->length) != 0)
                fail_at(__FILE__, __LINE__, "%s: attribute %s is %s", path, x->name, y ? "different" : "missing");
        }
    }
}

void compare_trees(const struct ws_tree *seen, const struct ws_tree *wanted, unsigned flags) {
    size_t links = 0;
    for (struct ws_node *w = ws_tree_root(wanted); w; w = ws_tree_next(w)) {
        char path[4096];
        ws_node_path(w, path, sizeof path);
        struct ws_node *s = ws_tree_find(seen, path);
        if (!s) fail_at(__FILE__, __LINE__, "%s is missing", path);
        else compare_nodes(s, w, flags);
        links += w->same_as != NULL;
    }
    if (flags & TREE_LINKS && flags & TREE_DEVICES) /* names of one inode stay names of one inode */
        for (struct ws_node *s = ws_tree_root(seen); s; s = ws_tree_next(s)) links -= s->same_as != NULL;
    if (flags & TREE_LINKS && flags & TREE_DEVICES) CHECK_INT(links, 0);
    CHECK_INT(ws_tree_count(seen), ws_tree_count(wanted));
}

/* As the kernel tells them of an open file: see chattr(1). */
static void compare_marks(const char *path, uint8_t wanted) {
    static const struct {
        int flag;
        uint8_t mark;
    } marks[] = {{FS_IMMUTABLE_FL, WS_MARK_FIXED},
                 {FS_APPEND_FL, WS_MARK_APPEND_ONLY},
                 {FS_NODUMP_FL, WS_MARK_NO_DUMP},
                 {FS_NOATIME_FL, WS_MARK_NO_ACCESS_TIME},
                 {FS_SYNC_FL, WS_MARK_WRITTEN_AT_ONCE}};
    int flags = 0;
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    CHECK(fd >= 0 && ioctl(fd, FS_IOC_GETFLAGS, &flags) == 0);
    if (fd >= 0) close(fd);
    for (size_t i = 0; i < sizeof marks / sizeof marks[0]; i++)
        if (!(flags & marks[i].flag) != !(wanted & marks[i].mark))
            fail_at(__FILE__, __LINE__, "%s: flags %x for marks %02x", path, (unsigned)flags, wanted);
}

void compare_with_folder(const struct ws_tree *tree, const char *folder, unsigned flags) {
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        const struct ws_node *w = n->same_as ? n->same_as : n;
        char path[4096];
        char full[4600];
        struct stat s;
        snprintf(full, sizeof full, "%s%s", folder, ws_node_path(n, path, sizeof path));
        if (lstat(full, &s) != 0) {
            fail_at(__FILE__, __LINE__, "%s: %s", path, strerror(errno));
            continue;
        }
        static const mode_t kinds[] = {S_IFDIR, S_IFREG, S_IFLNK, S_IFCHR, S_IFBLK, S_IFIFO, S_IFSOCK};
        if ((s.st_mode & S_IFMT) != kinds[w->kind]) fail_at(__FILE__, __LINE__, "%s: other kind", path);
        if (w->kind == WS_NODE_FILE && (uint64_t)s.st_size != ws_node_size(w))
            fail_at(__FILE__, __LINE__, "%s: other size", path);
        if (flags & TREE_OWNERS && n->parent &&
            ((s.st_mode & 07777) != w->mode || s.st_uid != w->uid || s.st_gid != w->gid ||
             s.st_mtim.tv_sec != w->mtime || (uint32_t)s.st_mtim.tv_nsec != w->mtime_ns))
            fail_at(__FILE__, __LINE__, "%s: mode %o, not %o, or owner or time differ", path, s.st_mode & 07777,
                    w->mode);
        if (flags & TREE_MARKS && (w->kind == WS_NODE_FILE || w->kind == WS_NODE_FOLDER)) compare_marks(full, w->marks);
        if (w->kind == WS_NODE_CHAR || w->kind == WS_NODE_BLOCK)
            CHECK(major(s.st_rdev) == w->major && minor(s.st_rdev) == w->minor);
        if (w->kind == WS_NODE_LINK) {
            char target[4097];
            ssize_t length = readlink(full, target, 4096);
            target[length > 0 ? length : 0] = '\0';
            CHECK_STR(target, w->target);
        }
        for (const struct ws_xattr *x = flags & TREE_XATTRS ? w->xattrs : NULL; x; x = x->next) {
            char value[4096];
            ssize_t length = lgetxattr(full, x->name, value, sizeof value);
            if (length != (ssize_t)x->length || memcmp(value, x->value, x->length) != 0)
                fail_at(__FILE__, __LINE__, "%s: attribute %s differs", path, x->name);
        }
        if (w->kind != WS_NODE_FILE || !w->content) continue;
        char *both = malloc(2 * (size_t)w->content->size);
        int fd = open(full, O_RDONLY | O_CLOEXEC);
        ssize_t got = fd >= 0 ? read(fd, both, (size_t)w->content->size) : -1;
        if (fd >= 0) close(fd);
        if (got != (ssize_t)w->content->size ||
            ws_source_read(w->content, 0, both + got, (size_t)got, &error) != WS_OK ||
            memcmp(both, both + got, (size_t)got) != 0)
            fail_at(__FILE__, __LINE__, "%s: other content", path);
        free(both);
    }
}

void put_text(struct ws_tree *tree, const char *path, const char *text) {
    if (ws_tree_put(tree, path, text, strlen(text), NULL, &error) != WS_OK) abort();
}

struct ws_node *put_link(struct ws_tree *tree, const char *path, const char *target) {
    struct ws_node *n = NULL;
    if (ws_tree_put(tree, path, "", 0, &n, &error) != WS_OK || ws_tree_set_target(tree, n, target, &error) != WS_OK)
        abort();
    n->kind = WS_NODE_LINK;
    return n;
}
