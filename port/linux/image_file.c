/* image_file.c — images as they lie on a technician's disk: unpacked where they are compressed, beside lists of
 * checksums and signatures. */
#include "port/linux/internal.h"
#include "wild_satchel/published.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

enum { HOLE = 4096 };

static const char *spool_folder(void) {
    const char *folder = getenv("TMPDIR");
    return folder && folder[0] ? folder : "/var/tmp";
}

/* Where an image is unpacked to: a file without a name, gone when it is closed. */
struct unpacking {
    int fd;
    const char *folder;
    uint64_t room; /* bytes that may be stored there; the rest stays free for others */
    uint64_t stored;
};

/* What may be stored where images are unpacked: all that is free but a twentieth of the file system. */
static uint64_t room_in(int fd) {
    struct statvfs s;
    if (fstatvfs(fd, &s) != 0) return UINT64_MAX;
    uint64_t unit = s.f_frsize ? s.f_frsize : s.f_bsize;
    uint64_t keep = (uint64_t)s.f_blocks / 20;
    return (uint64_t)s.f_bavail > keep ? ((uint64_t)s.f_bavail - keep) * unit : 0;
}

static enum ws_status no_room(const char *folder, uint64_t room, struct ws_error *error) {
    char text[48];
    ws_fail(error, WS_E_SPACE, "unpacked, it is larger than the %s that may be stored there",
            ws_size_both(room, text, sizeof text));
    ws_fail_where(error, "%s", folder);
    return ws_fail_next(error, "set TMPDIR to a folder on a disk with room for the unpacked image");
}

enum ws_status ws_linux_spool_fits(int fd, uint64_t bytes, struct ws_error *error) {
    uint64_t room = room_in(fd);
    return bytes <= room ? WS_OK : no_room(spool_folder(), room, error);
}

static bool is_zero(const char *bytes, size_t length) {
    return length == 0 || (bytes[0] == 0 && memcmp(bytes, bytes + 1, length - 1) == 0);
}

static enum ws_status take(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    struct unpacking *u = context;
    const char *p = bytes;
    while (length > 0) {
        size_t step = HOLE - (size_t)(at % HOLE) < length ? HOLE - (size_t)(at % HOLE) : length;
        bool hole = is_zero(p, step);
        if (!hole && u->stored + step > u->room) return no_room(u->folder, u->room, error);
        ssize_t put = hole ? (ssize_t)step : pwrite(u->fd, p, step, (off_t)at);
        if (!hole && put > 0) u->stored += (uint64_t)put;
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) {
            ws_fail(error, errno == ENOSPC ? WS_E_SPACE : WS_E_WRITE, "the image cannot be unpacked: %s",
                    strerror(errno));
            ws_fail_where(error, "%s", u->folder);
            return ws_fail_next(error, "set TMPDIR to a folder on a disk with room for the unpacked image");
        }
        p += put;
        at += (uint64_t)put;
        length -= (size_t)put;
    }
    return WS_OK;
}

int ws_linux_nameless_file(struct ws_error *error) {
    int fd = open(spool_folder(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    if (fd >= 0) return fd;
    ws_fail(error, WS_E_WRITE, "the image cannot be unpacked: %s", strerror(errno));
    ws_fail_where(error, "%s", spool_folder());
    return -1;
}

static enum ws_status unpack(const struct ws_source *packed, const char *path, struct ws_source **source,
                             struct ws_error *error) {
    struct unpacking u = {.folder = spool_folder()};
    uint64_t size = 0;
    u.fd = ws_linux_nameless_file(error);
    if (u.fd < 0) return WS_E_WRITE;
    u.room = room_in(u.fd);
    enum ws_status status = ws_unpack(packed, take, &u, &size, error);
    if (status == WS_OK && ftruncate(u.fd, (off_t)size) != 0)
        status = ws_fail(error, WS_E_WRITE, "the image cannot be unpacked: %s", strerror(errno));
    if (status != WS_OK) {
        ws_fail_where(error, "%s", path);
        close(u.fd);
        return status;
    }
    return ws_linux_source_fd(u.fd, path, size, source, error);
}

enum ws_status ws_linux_open_image(const char *path, struct ws_source **source, struct ws_packed_facts *packed,
                                   struct ws_error *error) {
    struct ws_source *file = NULL;
    WS_TRY(ws_source_file(path, &file, error));
    memset(packed, 0, sizeof *packed);
    struct ws_packed_facts found;
    enum ws_status status = ws_packed_probe(file, &found, error);
    if (status == WS_OK && found.one_image) {
        struct ws_source *unpacked = NULL;
        *packed = found;
        status = unpack(file, path, &unpacked, error);
        ws_source_close(file);
        WS_TRY(status);
        file = unpacked;
    }
    *source = file; /* not compressed, or an archive, or damaged: whoever looks into it says so */
    status = ws_linux_open_virtual(path, file, source, error);
    if (status == WS_OK || status == WS_E_NOTFOUND) return WS_OK;
    ws_source_close(file);
    *source = NULL;
    return error && error->where[0] ? status : ws_fail_where(error, "%s", path);
}

static bool is_file(const char *path) {
    struct stat s;
    return stat(path, &s) == 0 && S_ISREG(s.st_mode);
}

/* Does a list's text name this image? */
static bool names_it(const char *list, const char *image) {
    struct ws_source *source = NULL;
    struct ws_published p;
    char *text = NULL;
    size_t length = 0;
    bool found = ws_source_file(list, &source, NULL) == WS_OK &&
                 ws_source_load(source, 4 << 20, &text, &length, NULL) == WS_OK &&
                 ws_published_find(text, length, image, &p, NULL) == WS_OK;
    ws_source_close(source);
    free(text);
    return found;
}

bool ws_linux_find_published(const char *image, char *list, size_t room) {
    const char *slash = strrchr(image, '/');
    int folder = slash ? (int)(slash - image + 1) : 0;
    for (const char *const *s = ws_published_suffixes(); *s; s++) {
        (void)snprintf(list, room, "%s%s", image, *s);
        if (is_file(list) && names_it(list, image)) return true;
    }
    for (const char *const *s = ws_published_lists(); *s; s++) {
        (void)snprintf(list, room, "%.*s%s", folder, image, *s);
        if (is_file(list) && names_it(list, image)) return true;
    }
    list[0] = '\0';
    return false;
}

bool ws_linux_find_signature(const char *file, char *signature, size_t room) {
    for (const char *const *s = ws_published_signatures(); *s; s++) {
        (void)snprintf(signature, room, "%s%s", file, *s);
        if (is_file(signature)) return true;
    }
    signature[0] = '\0';
    return false;
}
