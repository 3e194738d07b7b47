/* folder.c — a folder of this machine as a tree. */
#include "port/linux/internal.h"

#include "wild_satchel/tree.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

struct lazy { /* opened for each read: a tree of 200,000 files must not hold as many handles */
    size_t length;
    bool running; /* it may change, shrink or go while it is read: what is not there any more reads as zeros */
    char path[];
};

static enum ws_status lazy_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct lazy *l = source->state;
    int fd = open(l->path, O_RDONLY | O_CLOEXEC);
    char *p = buffer;
    while (fd >= 0 && length > 0) {
        ssize_t got = pread(fd, p, length, (off_t)at);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) break;
        p += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    const bool gone = fd < 0 ? errno == ENOENT : length > 0;
    if (fd >= 0) close(fd);
    if (l->running && gone) memset(p, 0, length);
    if (length == 0 || (l->running && gone)) return WS_OK;
    ws_fail(error, WS_E_READ, "the file cannot be read, or has become shorter");
    return ws_fail_where(error, "%s", l->path);
}

static void lazy_close(struct ws_source *source) { free(source->state); }

static void lazy_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct lazy *l = source->state;
    int fd = open(l->path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    if (fd < 0) return; /* reading it says why */
    ws_linux_piece(fd, at, piece);
    close(fd);
}

static const struct ws_source_ops lazy_ops = {lazy_read, lazy_close, lazy_piece};

static enum ws_node_kind kind_of(mode_t mode) {
    return S_ISDIR(mode)    ? WS_NODE_FOLDER
           : S_ISLNK(mode)  ? WS_NODE_LINK
           : S_ISCHR(mode)  ? WS_NODE_CHAR
           : S_ISBLK(mode)  ? WS_NODE_BLOCK
           : S_ISFIFO(mode) ? WS_NODE_FIFO
           : S_ISSOCK(mode) ? WS_NODE_SOCKET
                            : WS_NODE_FILE;
}

/* Files with several names, by device and inode: what was met first holds the content. */
struct twins {
    struct {
        dev_t device;
        ino_t inode;
        struct ws_node *node;
    } * slot;
    size_t count, room; /* a power of two */
};

static size_t slot_of(const struct twins *t, dev_t device, ino_t inode) {
    uint64_t mixed = ((uint64_t)inode ^ (uint64_t)device << 40) * 0x9e3779b97f4a7c15ull;
    size_t i = (size_t)(mixed >> 20) & (t->room - 1);
    while (t->slot[i].node && (t->slot[i].device != device || t->slot[i].inode != inode)) i = (i + 1) & (t->room - 1);
    return i;
}

static enum ws_status grow(struct twins *t, struct ws_error *error) {
    struct twins larger = {.room = t->room ? t->room * 2 : 256};
    larger.slot = calloc(larger.room, sizeof *larger.slot);
    if (!larger.slot) return ws_fail(error, WS_E_NOMEM, "out of memory for a tree of files");
    for (size_t i = 0; i < t->room; i++)
        if (t->slot[i].node) larger.slot[slot_of(&larger, t->slot[i].device, t->slot[i].inode)] = t->slot[i];
    larger.count = t->count;
    free(t->slot);
    *t = larger;
    return WS_OK;
}

/* Another name of a file already in the tree, or the first of several. */
static enum ws_status find_twin(struct twins *t, const struct stat *s, struct ws_node *n, struct ws_error *error) {
    if (t->count * 2 >= t->room) WS_TRY(grow(t, error));
    size_t i = slot_of(t, s->st_dev, s->st_ino);
    n->same_as = t->slot[i].node;
    if (n->same_as) return WS_OK;
    t->slot[i].device = s->st_dev;
    t->slot[i].inode = s->st_ino;
    t->slot[i].node = n;
    t->count++;
    return WS_OK;
}

/* A walk through a folder. */
struct walking {
    struct ws_tree *tree;
    struct twins twins;
    const dev_t *device; /* of all of it: those that count as one */
    size_t devices;
    bool running; /* what is mounted inside is passed over, what has gone meanwhile, too */
};

/* All of a name's extended attributes, access control lists among them. A file system that has none is no error. */
/* Owner, mode, time; and what statx(2) tells of marks. */
static void take_facts(struct ws_node *n, const char *path, const struct stat *s) {
    static const struct {
        uint64_t told;
        uint8_t mark;
    } marks[] = {{STATX_ATTR_IMMUTABLE, WS_MARK_FIXED},
                 {STATX_ATTR_APPEND, WS_MARK_APPEND_ONLY},
                 {STATX_ATTR_NODUMP, WS_MARK_NO_DUMP}};
    struct statx more;
    n->mode = s->st_mode & 07777;
    n->uid = s->st_uid;
    n->gid = s->st_gid;
    n->mtime = s->st_mtim.tv_sec;
    n->mtime_ns = (uint32_t)s->st_mtim.tv_nsec;
    if (n->kind != WS_NODE_FILE && n->kind != WS_NODE_FOLDER) return;
    if (statx(AT_FDCWD, path[0] ? path : "/", AT_SYMLINK_NOFOLLOW, 0, &more) != 0) return;
    for (size_t i = 0; i < sizeof marks / sizeof marks[0]; i++)
        if (more.stx_attributes & marks[i].told) n->marks |= marks[i].mark;
}

static enum ws_status add_xattrs(struct ws_tree *tree, struct ws_node *n, const char *path, struct ws_error *error) {
    char small[4096];
    char value[65536]; /* the kernel's own bound */
    ssize_t length = llistxattr(path, small, sizeof small);
    char *names = small;
    if (length < 0 && errno == ERANGE) {
        length = llistxattr(path, NULL, 0);
        names = length >= 0 ? malloc((size_t)length + 1) : NULL;
        length = names ? llistxattr(path, names, (size_t)length) : -1;
    }
    enum ws_status status = WS_OK;
    if (length < 0 && errno != ENOTSUP && errno != ENOSYS)
        status = ws_fail(error, WS_E_READ, "%s: its extended attributes cannot be read: %s", path, strerror(errno));
    for (ssize_t at = 0; status == WS_OK && at < length; at += (ssize_t)strlen(names + at) + 1) {
        ssize_t got = lgetxattr(path, names + at, value, sizeof value);
        if (got < 0 && errno == ENODATA) continue; /* gone meanwhile, or not for us */
        if (got < 0)
            status = ws_fail(error, WS_E_READ, "%s: \"%s\" cannot be read: %s", path, names + at, strerror(errno));
        else status = ws_tree_set_xattr(tree, n, names + at, value, (size_t)got, error);
    }
    if (names != small) free(names);
    return status;
}

static bool is_inside(const struct walking *w, dev_t device) {
    for (size_t i = 0; i < w->devices; i++)
        if (w->device[i] == device) return true;
    return false;
}

static enum ws_status add(struct walking *w, struct ws_node *parent, const char *name, const char *path,
                          const struct stat *s, struct ws_node **out, struct ws_error *error) {
    struct ws_tree *tree = w->tree;
    struct ws_node *n = NULL;
    if (!is_inside(w, s->st_dev) && w->running && S_ISDIR(s->st_mode)) {
        WS_TRY(ws_tree_add(tree, parent, name, WS_NODE_FOLDER, &n, error)); /* empty: something is mounted on it */
        return WS_OK;
    }
    if (!is_inside(w, s->st_dev)) { /* whose files are meant cannot be told: those below it, or those that hide them */
        ws_fail(error, WS_E_UNSUPPORTED, "another file system is mounted inside the folder");
        ws_fail_where(error, "%s", path);
        return ws_fail_next(error, "unmount it, or take a copy of the folder");
    }
    WS_TRY(ws_tree_add(tree, parent, name, kind_of(s->st_mode), &n, error));
    *out = n;
    take_facts(n, path, s);
    n->major = major(s->st_rdev);
    n->minor = minor(s->st_rdev);
    if (s->st_nlink > 1 && n->kind != WS_NODE_FOLDER) WS_TRY(find_twin(&w->twins, s, n, error));
    if (n->same_as) return WS_OK;
    WS_TRY(add_xattrs(tree, n, path, error));
    if (n->kind == WS_NODE_LINK) {
        char target[4096];
        ssize_t length = readlink(path, target, sizeof target - 1);
        if (length < 0 && !(w->running && errno == ENOENT))
            return ws_fail(error, WS_E_READ, "%s cannot be read: %s", path, strerror(errno));
        if (length < 0) length = 0;
        target[length] = '\0';
        return ws_tree_set_target(tree, n, target, error);
    }
    if (n->kind != WS_NODE_FILE) return WS_OK;
    if (s->st_size == 0) return WS_OK;
    struct lazy *l = malloc(sizeof *l + strlen(path) + 1);
    struct ws_source *content = NULL;
    if (!l) return ws_fail(error, WS_E_NOMEM, "out of memory for a tree of files");
    l->length = strlen(path);
    l->running = w->running;
    memcpy(l->path, path, l->length + 1);
    enum ws_status status = ws_source_make(&lazy_ops, (uint64_t)s->st_size, l, &content, error);
    if (status != WS_OK) {
        free(l);
        return status;
    }
    WS_TRY(ws_tree_own(tree, content, error));
    n->content = content;
    return WS_OK;
}

static enum ws_status walk(struct walking *w, struct ws_node *folder, const char *path, struct ws_error *error) {
    struct dirent **entries = NULL;
    int count = scandir(path[0] ? path : "/", &entries, NULL, alphasort);
    enum ws_status status = WS_OK;
    if (count < 0 && w->running && errno == ENOENT) return WS_OK;
    if (count < 0) {
        ws_fail(error, WS_E_READ, "the folder cannot be read: %s", strerror(errno));
        return ws_fail_where(error, "%s", path);
    }
    for (int i = 0; i < count; i++) {
        char inner[4096];
        struct stat s;
        struct ws_node *n = NULL;
        const char *name = entries[i]->d_name;
        int length = snprintf(inner, sizeof inner, "%s/%s", path, name);
        if (status == WS_OK && strcmp(name, ".") != 0 && strcmp(name, "..") != 0) {
            if (length >= (int)sizeof inner)
                status = ws_fail(error, WS_E_RANGE, "%s holds a path that is too long", path);
            else if (lstat(inner, &s) != 0)
                status =
                    w->running && errno == ENOENT ? WS_OK : ws_fail(error, WS_E_READ, "%s: %s", inner, strerror(errno));
            else status = add(w, folder, name, inner, &s, &n, error);
            if (status == WS_OK && n && n->kind == WS_NODE_FOLDER) status = walk(w, n, inner, error);
        }
        free(entries[i]);
    }
    free(entries);
    return status;
}

static enum ws_status read_tree(struct walking *w, const char *path, struct ws_tree **tree, struct ws_error *error) {
    WS_TRY(ws_tree_create(tree, error));
    w->tree = *tree;
    enum ws_status status = walk(w, ws_tree_root(*tree), path, error);
    free(w->twins.slot);
    if (status != WS_OK) {
        ws_tree_close(*tree);
        *tree = NULL;
    }
    return status;
}

static enum ws_status look(const char *path, struct stat *s, struct ws_error *error) {
    if (stat(path, s) == 0) return WS_OK;
    ws_fail(error, WS_E_READ, "the folder cannot be read: %s", strerror(errno));
    return ws_fail_where(error, "%s", path);
}

enum ws_status ws_tree_from_folder(const char *path, struct ws_tree **tree, struct ws_error *error) {
    struct stat s;
    WS_TRY(look(path, &s, error));
    struct walking w = {.device = &s.st_dev, .devices = 1};
    return read_tree(&w, path, tree, error);
}

enum ws_status ws_linux_tree_of_mount(const char *path, const dev_t *devices, size_t count, struct ws_tree **tree,
                                      struct ws_error *error) {
    struct stat s;
    struct walking w = {.device = devices, .devices = count, .running = true};
    WS_TRY(look(path, &s, error));
    WS_TRY(read_tree(&w, strcmp(path, "/") == 0 ? "" : path, tree, error));
    struct ws_node *top = ws_tree_root(*tree);
    take_facts(top, path, &s);
    return add_xattrs(*tree, top, path, error);
}
