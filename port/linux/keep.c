/* keep.c — documents put on disk so that nothing else is lost by it.
 *
 * A new file is made beside, under a name nobody can foresee, and given its own name only when all of it is on disk.
 * What stands under that name already is replaced only if it is a document of the same kind, or if the caller says so;
 * what is no ordinary file, and what a command works with, never is.
 */
#include "wild_satchel/port/linux.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { DOCUMENT_MOST = 8 << 20, TRIES = 100 };

static enum ws_status refuse(struct ws_error *error, const char *path, const char *what, const char *next) {
    ws_fail(error, WS_E_REFUSED, "%s", what);
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "%s", next);
}

static enum ws_status failed(struct ws_error *error, const char *path) {
    ws_fail(error, errno == ENOSPC ? WS_E_SPACE : WS_E_WRITE, "the file cannot be written: %s", strerror(errno));
    return ws_fail_where(error, "%s", path);
}

/* Is the file a JSON document that calls itself so? */
static bool document(int folder, const char *name, char format[64]) {
    int fd = openat(folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    FILE *file = fd >= 0 ? fdopen(fd, "rb") : NULL;
    struct stat s;
    bool small = file && fstat(fd, &s) == 0 && S_ISREG(s.st_mode) && s.st_size <= DOCUMENT_MOST;
    json_t *root = small ? json_loadf(file, 0, NULL) : NULL;
    const char *is = json_string_value(json_object_get(root, "format"));
    const bool any = is && strlen(is) < 64;
    if (any) memcpy(format, is, strlen(is) + 1);
    json_decref(root);
    if (file) fclose(file);
    else if (fd >= 0) close(fd);
    return any;
}

static bool is_document(int folder, const char *name, const char *format) {
    char is[64];
    return document(folder, name, is) && strcmp(is, format) == 0;
}

bool ws_linux_document(const char *path, char format[64]) { return document(AT_FDCWD, path, format); }
bool ws_linux_is_document(const char *path, const char *format) { return is_document(AT_FDCWD, path, format); }

static enum ws_status may_replace(int folder, const char *name, const char *path, const struct stat *s,
                                  const struct ws_keep *keep, struct ws_error *error) {
    if (!S_ISREG(s->st_mode))
        return refuse(error, path,
                      S_ISLNK(s->st_mode)   ? "a link of this name is here already; it is not replaced"
                      : S_ISDIR(s->st_mode) ? "a folder of this name is here already; it is not replaced"
                                            : "what has this name is no ordinary file; it is not replaced",
                      "choose another name");
    for (size_t i = 0; keep->never && i < keep->nevers; i++) {
        struct stat other;
        if (keep->never[i] && stat(keep->never[i], &other) == 0 && other.st_dev == s->st_dev &&
            other.st_ino == s->st_ino)
            return refuse(error, path, "this very file is what the command works with; it is not replaced",
                          "choose another name");
    }
    if (keep->over || (keep->format && is_document(folder, name, keep->format))) return WS_OK;
    return refuse(error, path, "another file of this name is here already; it is not replaced",
                  "choose another name, or say that it may be replaced: --over");
}

/* A name in the same folder that nobody else has or can foresee. @return a descriptor, -1 with errno */
static int make_beside(int folder, char name[40]) {
    for (int i = 0; i < TRIES; i++) {
        unsigned char random[8];
        if (ws_linux_random(NULL, random, sizeof random, NULL) != WS_OK) return -1;
        int n = snprintf(name, 40, ".satchel-");
        for (size_t k = 0; k < sizeof random; k++) n += snprintf(name + n, 40 - (size_t)n, "%02x", random[k]);
        int fd = openat(folder, name, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
        if (fd >= 0 || errno != EEXIST) return fd;
    }
    return -1;
}

static bool write_whole(int fd, const char *bytes, size_t length) {
    while (length > 0) {
        ssize_t put = write(fd, bytes, length);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) return false;
        bytes += put;
        length -= (size_t)put;
    }
    return fsync(fd) == 0;
}

static enum ws_status keep_in(int folder, const char *name, const char *path, const char *bytes, size_t length,
                              const struct ws_keep *keep, struct ws_error *error) {
    char fresh[40];
    struct stat s;
    bool there = fstatat(folder, name, &s, AT_SYMLINK_NOFOLLOW) == 0;
    if (!there && errno != ENOENT) return failed(error, path);
    if (there) WS_TRY(may_replace(folder, name, path, &s, keep, error));
    int fd = make_beside(folder, fresh);
    if (fd < 0) return failed(error, path);
    bool good = write_whole(fd, bytes, length);
    if (close(fd) != 0) good = false;
    /* What was not there must not be there now either. */
    if (good) good = renameat2(folder, fresh, folder, name, there ? 0 : RENAME_NOREPLACE) == 0;
    if (!good && !there && errno == EINVAL) /* a file system that cannot promise it: link, which does not replace */
        good = linkat(folder, fresh, folder, name, 0) == 0 && unlinkat(folder, fresh, 0) == 0;
    if (good) {
        (void)fsync(folder);
        return WS_OK;
    }
    enum ws_status status = failed(error, path);
    (void)unlinkat(folder, fresh, 0);
    return status;
}

enum ws_status ws_linux_keep(const char *path, const void *bytes, size_t length, const struct ws_keep *keep,
                             struct ws_error *error) {
    const char *slash = strrchr(path, '/');
    const char *name = slash ? slash + 1 : path;
    if (!name[0] || strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
        return refuse(error, path, "this is no name for a file", "give the name of a file in a folder that is here");
    char *folder = slash ? strndup(path, slash == path ? 1 : (size_t)(slash - path)) : strdup(".");
    if (!folder) return ws_fail(error, WS_E_NOMEM, "out of memory for a name");
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    enum ws_status status = fd < 0 ? failed(error, path) : keep_in(fd, name, path, bytes, length, keep, error);
    if (fd >= 0) close(fd);
    free(folder);
    return status;
}
