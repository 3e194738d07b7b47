/* folder.c — a folder of this machine as a tree. */
#include "port/linux/linux.h"

#include "wild_satchel/tree.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

struct lazy { /* opened for each read: a tree of 200,000 files must not hold as many handles */
    size_t length;
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
    if (fd >= 0) close(fd);
    if (length == 0) return WS_OK;
    ws_fail(error, WS_E_READ, "the file cannot be read, or has become shorter");
    return ws_fail_where(error, "%s", l->path);
}

static void lazy_close(struct ws_source *source) { free(source->state); }
static const struct ws_source_ops lazy_ops = {lazy_read, lazy_close};

static enum ws_node_kind kind_of(mode_t mode) {
    return S_ISDIR(mode)    ? WS_NODE_FOLDER
           : S_ISLNK(mode)  ? WS_NODE_LINK
           : S_ISCHR(mode)  ? WS_NODE_CHAR
           : S_ISBLK(mode)  ? WS_NODE_BLOCK
           : S_ISFIFO(mode) ? WS_NODE_FIFO
           : S_ISSOCK(mode) ? WS_NODE_SOCKET
                            : WS_NODE_FILE;
}

/* Another name of a file already in the tree. */
static struct ws_node *find_twin(const struct ws_tree *tree, const struct stat *s) {
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (!n->same_as && n->kind == WS_NODE_FILE && n->origin == s->st_ino && n->work == s->st_dev) return n;
    return NULL;
}

static enum ws_status add(struct ws_tree *tree, struct ws_node *parent, const char *name, const char *path,
                          const struct stat *s, struct ws_node **out, struct ws_error *error) {
    struct ws_node *n = NULL;
    WS_TRY(ws_tree_add(tree, parent, name, kind_of(s->st_mode), &n, error));
    *out = n;
    n->mode = s->st_mode & 07777;
    n->uid = s->st_uid;
    n->gid = s->st_gid;
    n->mtime = s->st_mtim.tv_sec;
    n->mtime_ns = (uint32_t)s->st_mtim.tv_nsec;
    n->major = major(s->st_rdev);
    n->minor = minor(s->st_rdev);
    if (n->kind == WS_NODE_LINK) {
        char target[4096];
        ssize_t length = readlink(path, target, sizeof target - 1);
        if (length < 0) return ws_fail(error, WS_E_READ, "%s cannot be read: %s", path, strerror(errno));
        target[length] = '\0';
        return ws_tree_set_target(tree, n, target, error);
    }
    if (n->kind != WS_NODE_FILE) return WS_OK;
    if (s->st_nlink > 1) n->same_as = find_twin(tree, s);
    if (n->same_as) return WS_OK;
    n->origin = s->st_ino;
    n->work = s->st_dev;
    if (s->st_size == 0) return WS_OK;
    struct lazy *l = malloc(sizeof *l + strlen(path) + 1);
    struct ws_source *content = NULL;
    if (!l) return ws_fail(error, WS_E_NOMEM, "out of memory for a tree of files");
    l->length = strlen(path);
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

static enum ws_status walk(struct ws_tree *tree, struct ws_node *folder, const char *path, struct ws_error *error) {
    struct dirent **entries = NULL;
    int count = scandir(path, &entries, NULL, alphasort);
    enum ws_status status = WS_OK;
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
            else if (lstat(inner, &s) != 0) status = ws_fail(error, WS_E_READ, "%s: %s", inner, strerror(errno));
            else status = add(tree, folder, name, inner, &s, &n, error);
            if (status == WS_OK && n->kind == WS_NODE_FOLDER) status = walk(tree, n, inner, error);
        }
        free(entries[i]);
    }
    free(entries);
    return status;
}

enum ws_status ws_tree_from_folder(const char *path, struct ws_tree **tree, struct ws_error *error) {
    WS_TRY(ws_tree_create(tree, error));
    enum ws_status status = walk(*tree, ws_tree_root(*tree), path, error);
    if (status != WS_OK) {
        ws_tree_close(*tree);
        *tree = NULL;
    }
    return status;
}
