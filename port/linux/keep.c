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

enum { DOCUMENT_MOST = 256 << 20, LARGE = 1 << 20, TRIES = 100 };

static enum ws_status refuse(struct ws_error *error, const char *path, const char *what, const char *next) {
    ws_fail(error, WS_E_REFUSED, "%s", what);
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "%s", next);
}

static enum ws_status failed(struct ws_error *error, const char *path) {
    ws_fail(error, errno == ENOSPC ? WS_E_SPACE : WS_E_WRITE, "the file cannot be written: %s", strerror(errno));
    return ws_fail_where(error, "%s", path);
}

/* What a large document says first of itself, as all of ours do; the rest of it need not be in memory for that. */
static bool says_first(FILE *file, char format[64]) {
    char head[256], key[8], is[64], end;
    const size_t length = fread(head, 1, sizeof head - 1, file);
    head[length] = '\0';
    if (sscanf(head, " { \"%7[a-z]\" : \"%63[^\"\\]%c", key, is, &end) != 3) return false;
    if (strcmp(key, "format") != 0 || end != '"') return false;
    memcpy(format, is, strlen(is) + 1);
    return true;
}

static bool says(FILE *file, char format[64]) {
    json_t *root = json_loadf(file, 0, NULL);
    const char *is = json_string_value(json_object_get(root, "format"));
    const bool any = is && strlen(is) < 64;
    if (any) memcpy(format, is, strlen(is) + 1);
    json_decref(root);
    return any;
}

/* Is the file a JSON document that calls itself something? */
static bool document(int folder, const char *name, char format[64]) {
    int fd = openat(folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    FILE *file = fd >= 0 ? fdopen(fd, "rb") : NULL;
    struct stat s;
    const bool is_file = file && fstat(fd, &s) == 0 && S_ISREG(s.st_mode) && s.st_size <= DOCUMENT_MOST;
    const bool any = is_file && (s.st_size > LARGE ? says_first : says)(file, format);
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

/* A name that nobody else has or can foresee. */
static bool name_beside(char name[40]) {
    unsigned char random[8];
    if (ws_linux_random(NULL, random, sizeof random, NULL) != WS_OK) return false;
    int n = snprintf(name, 40, ".satchel-");
    for (size_t k = 0; k < sizeof random; k++) n += snprintf(name + n, 40 - (size_t)n, "%02x", random[k]);
    return true;
}

/* In the same folder. @return a descriptor, -1 with errno */
static int make_beside(int folder, char name[40]) {
    for (int i = 0; i < TRIES; i++) {
        if (!name_beside(name)) return -1;
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
    return true;
}

struct ws_linux_out {
    int folder, fd;
    bool there; /* something that may be replaced is */
    const char *name;
    char fresh[40];
    char path[];
};

static void drop(struct ws_linux_out *o) {
    if (o->fd >= 0) close(o->fd);
    if (o->folder >= 0 && o->fresh[0]) (void)unlinkat(o->folder, o->fresh, 0);
    if (o->folder >= 0) close(o->folder);
    free(o);
}

static enum ws_status begin(struct ws_linux_out *o, const struct ws_keep *keep, struct ws_error *error) {
    char *slash = strrchr(o->path, '/');
    struct stat s;
    o->name = slash ? slash + 1 : o->path;
    if (!o->name[0] || strcmp(o->name, ".") == 0 || strcmp(o->name, "..") == 0)
        return refuse(error, o->path, "this is no name for a file", "give the name of a file in a folder that is here");
    char *folder = slash ? strndup(o->path, slash == o->path ? 1 : (size_t)(slash - o->path)) : strdup(".");
    if (!folder) return ws_fail(error, WS_E_NOMEM, "out of memory for a name");
    o->folder = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    free(folder);
    if (o->folder < 0) return failed(error, o->path);
    o->there = fstatat(o->folder, o->name, &s, AT_SYMLINK_NOFOLLOW) == 0;
    if (!o->there && errno != ENOENT) return failed(error, o->path);
    if (o->there) WS_TRY(may_replace(o->folder, o->name, o->path, &s, keep, error));
    /* Without a name as long as it is not whole, where that can be had: killed, nothing of it is left. */
    o->fd = access("/proc/self/fd", X_OK) == 0 ? openat(o->folder, ".", O_TMPFILE | O_WRONLY | O_CLOEXEC, 0666) : -1;
    if (o->fd < 0) o->fd = make_beside(o->folder, o->fresh);
    return o->fd < 0 ? failed(error, o->path) : WS_OK;
}

enum ws_status ws_linux_out_open(const char *path, const struct ws_keep *keep, struct ws_linux_out **out,
                                 struct ws_error *error) {
    struct ws_linux_out *o = calloc(1, sizeof *o + strlen(path) + 1);
    if (!o) return ws_fail(error, WS_E_NOMEM, "out of memory for a file");
    o->folder = o->fd = -1;
    memcpy(o->path, path, strlen(path) + 1);
    enum ws_status status = begin(o, keep, error);
    if (status == WS_OK) *out = o;
    else drop(o);
    return status;
}

enum ws_status ws_linux_out_put(void *out, const void *bytes, size_t length, struct ws_error *error) {
    struct ws_linux_out *o = out;
    return write_whole(o->fd, bytes, length) ? WS_OK : failed(error, o->path);
}

/* One beside the name it is to have. */
static bool give_name(struct ws_linux_out *o) {
    char place[40];
    (void)snprintf(place, sizeof place, "/proc/self/fd/%d", o->fd);
    for (int i = 0; i < TRIES; i++) {
        if (!name_beside(o->fresh)) return false;
        if (linkat(AT_FDCWD, place, o->folder, o->fresh, AT_SYMLINK_FOLLOW) == 0) return true;
        if (errno != EEXIST) break;
    }
    o->fresh[0] = '\0';
    return false;
}

enum ws_status ws_linux_out_close(struct ws_linux_out *o, bool good, struct ws_error *error) {
    enum ws_status status = WS_OK;
    if (!good) {
        drop(o);
        return WS_OK;
    }
    good = fsync(o->fd) == 0;
    if (good && !o->fresh[0]) good = give_name(o);
    if (close(o->fd) != 0) good = false;
    o->fd = -1;
    /* What was not there must not be there now either. */
    if (good) good = renameat2(o->folder, o->fresh, o->folder, o->name, o->there ? 0 : RENAME_NOREPLACE) == 0;
    if (!good && !o->there && errno == EINVAL) /* a file system that cannot promise it: link, which does not replace */
        good = linkat(o->folder, o->fresh, o->folder, o->name, 0) == 0 && unlinkat(o->folder, o->fresh, 0) == 0;
    if (good) {
        (void)fsync(o->folder);
        o->fresh[0] = '\0';
    } else {
        status = failed(error, o->path);
    }
    drop(o);
    return status;
}

enum ws_status ws_linux_keep(const char *path, const void *bytes, size_t length, const struct ws_keep *keep,
                             struct ws_error *error) {
    struct ws_linux_out *o = NULL;
    WS_TRY(ws_linux_out_open(path, keep, &o, error));
    enum ws_status status = ws_linux_out_put(o, bytes, length, error);
    if (status == WS_OK) return ws_linux_out_close(o, true, error);
    (void)ws_linux_out_close(o, false, NULL);
    return status;
}
