/* virtual_disk.c — the drive in a virtual disk file, with the files that it is read together with.
 *
 * Such a file names others. What comes from somebody else could name anything: only what stands in its own folder, or
 * below it, is opened.
 */
#include "port/linux/internal.h"

#include "wild_satchel/container.h"

#include <errno.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

/* Both as one source: the drive borrows the file. */
struct virtual_disk {
    struct ws_source *file, *drive;
};

static enum ws_status disk_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    return ws_source_read(((const struct virtual_disk *)source->state)->drive, at, buffer, length, error);
}
static void disk_close(struct ws_source *source) {
    struct virtual_disk *d = source->state;
    ws_source_close(d->drive);
    ws_source_close(d->file);
    free(d);
}
static void disk_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct virtual_disk *d = source->state;
    *piece = ws_piece_base(d->drive, at, piece->length);
}
static const struct ws_source_ops disk_ops = {disk_read, disk_close, disk_piece};

/* A name as that file writes it; those of another system have their own slashes. */
static enum ws_status open_beside(void *context, const char *name, struct ws_source **source, struct ws_error *error) {
    const char *folder = context;
    char path[PATH_MAX * 2], clean[1024], real[PATH_MAX];
    struct stat s;
    const size_t n = strlen(folder);
    (void)snprintf(clean, sizeof clean, "%s", name);
    for (char *p = clean; *p; p++)
        if (*p == '\\') *p = '/';
    if (clean[0] == '/') (void)snprintf(path, sizeof path, "%s", clean);
    else (void)snprintf(path, sizeof path, "%s/%s", folder, clean);
    if (!realpath(path, real) || stat(real, &s) != 0) {
        ws_fail(error, WS_E_NOTFOUND, "the virtual disk is read together with another file, which is not there");
        ws_fail_where(error, "%s", path);
        return ws_fail_next(error, "put it back beside it");
    }
    if (strncmp(real, folder, n) != 0 || real[n] != '/' || !S_ISREG(s.st_mode)) {
        ws_fail(error, WS_E_REFUSED, "the virtual disk names a file that does not stand beside it");
        ws_fail_where(error, "%s", real);
        return ws_fail_next(error, "if it is yours, put it into the same folder");
    }
    return ws_source_file(real, source, error);
}

enum ws_status ws_linux_open_virtual(const char *path, struct ws_source *file, struct ws_source **source,
                                     struct ws_error *error) {
    char real[PATH_MAX];
    struct virtual_disk *d = calloc(1, sizeof *d);
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    if (!realpath(path, real)) (void)snprintf(real, sizeof real, "./x");
    char *slash = strrchr(real, '/');
    if (slash) *slash = '\0';
    const struct ws_container_files files = {open_beside, real};
    enum ws_status status = ws_container_open(file, &files, &d->drive, NULL, error);
    if (status == WS_OK) {
        d->file = file;
        status = ws_source_make(&disk_ops, d->drive->size, d, source, error);
        if (status != WS_OK) ws_source_close(d->drive);
    }
    if (status != WS_OK) free(d);
    return status;
}

static int fd_of(const struct ws_disk_file *file) { return (int)(intptr_t)file->state; }

static enum ws_status fail_with(struct ws_error *error, enum ws_status status, const char *what) {
    const int code = errno;
    ws_fail(error, code == ENOSPC ? WS_E_SPACE : status, "the virtual disk's file cannot be %s: %s", what,
            strerror(code));
    return code == ENOSPC ? ws_fail_next(error, "make room where it lies") : status;
}

static enum ws_status file_read(const struct ws_disk_file *file, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    for (char *p = buffer; length > 0;) {
        const ssize_t got = pread(fd_of(file), p, length, (off_t)at);
        if (got < 0 && errno == EINTR) continue;
        if (got == 0) errno = EIO; /* its end */
        if (got <= 0) return fail_with(error, WS_E_READ, "read");
        p += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    return WS_OK;
}

static enum ws_status file_write(const struct ws_disk_file *file, uint64_t at, const void *bytes, size_t length,
                                 struct ws_error *error) {
    for (const char *p = bytes; length > 0;) {
        const ssize_t put = pwrite(fd_of(file), p, length, (off_t)at);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) return fail_with(error, WS_E_WRITE, "written");
        p += put;
        at += (uint64_t)put;
        length -= (size_t)put;
    }
    return WS_OK;
}

static enum ws_status file_flush(const struct ws_disk_file *file, struct ws_error *error) {
    return fdatasync(fd_of(file)) == 0 ? WS_OK : fail_with(error, WS_E_WRITE, "flushed");
}

static uint64_t file_size(const struct ws_disk_file *file) {
    struct stat s;
    return fstat(fd_of(file), &s) == 0 ? (uint64_t)s.st_size : 0;
}

static const struct ws_disk_file_ops file_ops = {file_read, file_write, file_flush, file_size};

enum ws_status ws_linux_edit_virtual(int fd, struct ws_disk_file *file, struct ws_disk **disk, struct ws_error *error) {
    struct ws_guid id;
    *file = (struct ws_disk_file){&file_ops, (void *)(intptr_t)fd};
    WS_TRY(ws_linux_random(NULL, id.byte, sizeof id.byte, error));
    ws_guid_from_random(&id);
    return ws_disk_open(file, &id, disk, error);
}

enum ws_status ws_linux_create_virtual(int fd, const char *format, uint64_t size, struct ws_error *error) {
    const struct ws_disk_file file = {&file_ops, (void *)(intptr_t)fd};
    struct ws_guid id;
    WS_TRY(ws_linux_random(NULL, id.byte, sizeof id.byte, error));
    ws_guid_from_random(&id);
    return ws_container_create(&file, format, size, &id, time(NULL), error);
}
