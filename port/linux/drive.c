/* drive.c — block devices and plain files, read and written past the page cache where that is possible. */
#include "port/linux/internal.h"
#include "wild_satchel/container.h"
#include "wild_satchel/table.h"

#include <errno.h>
#include <fcntl.h>
#include <ftw.h>
#include <linux/fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

enum { ALIGN = 4096 };

struct linux_drive {
    struct ws_drive drive;
    int fd;     /* through the page cache */
    int direct; /* past it, or -1 */
    bool device;
    bool writable;
    uint64_t sequence; /* the kernel's number of this very disk; 0 unknown */
    char path[512];
    /* a virtual disk: the drive in it, to be read, or to be written to as well */
    struct ws_source *view;
    struct ws_disk *disk;
    struct ws_disk_file disk_file;
};

static enum ws_status system_error(struct ws_error *error, enum ws_status status, const char *what, const char *path) {
    int code = errno;
    if (code == ENXIO || code == ENODEV || code == ENOMEDIUM) status = WS_E_GONE;
    ws_fail(error, status, "%s: %s", what, strerror(code));
    ws_fail_where(error, "%s", path);
    if (status == WS_E_GONE) return ws_fail_next(error, "plug it in again and run the same command to continue");
    if (code == EACCES || code == EPERM)
        return ws_fail_next(error, "drives are used with the rights of root, or of the group that may use them");
    if (code == EBUSY) return ws_fail_next(error, "something uses it: unmount it first");
    return status;
}

/* The open file once more, as a source. @return NULL if it cannot be had */
static struct ws_source *open_again(const struct linux_drive *d) {
    struct ws_source *source = NULL;
    struct stat s;
    int fd = fcntl(d->fd, F_DUPFD_CLOEXEC, 0);
    if (fd < 0 || fstat(fd, &s) != 0) return NULL;
    return ws_linux_source_fd(fd, d->path, (uint64_t)s.st_size, &source, NULL) == WS_OK ? source : NULL;
}

static enum ws_status file_facts(const struct linux_drive *d, struct ws_drive_facts *f, struct ws_error *error) {
    struct stat s;
    if (fstat(d->fd, &s) != 0) return system_error(error, WS_E_READ, "the file cannot be looked at", d->path);
    const char *name = strrchr(d->path, '/');
    memset(f, 0, sizeof *f);
    (void)snprintf(f->id, sizeof f->id, "%s", d->path);
    ws_visible(name ? name + 1 : d->path, f->model, sizeof f->model);
    (void)snprintf(f->bus, sizeof f->bus, "file");
    f->kind = WS_DRIVE_FILE;
    f->removable = WS_YES;
    f->internal = WS_NO;
    f->logical_sector = 512;
    struct ws_source *image = d->disk || d->view ? NULL : open_again(d);
    if (image || d->view) f->logical_sector = ws_table_sector_of(d->view ? d->view : image);
    ws_source_close(image);
    const uint64_t size = d->disk ? ws_disk_size(d->disk) : d->view ? d->view->size : (uint64_t)s.st_size;
    f->size = size / f->logical_sector * f->logical_sector;
    f->physical_sector = 4096;
    f->read_only = (s.st_mode & 0222) == 0;
    ws_linux_find_file_users(&s, f);
    return ws_drive_short_name(f, error);
}

/* What is described is what the open handle writes to: its device number is asked about, not its name, and the number
 * the kernel gave this disk must be the one it had when it was opened. */
static enum ws_status describe(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    if (!d->device) return file_facts(d, facts, error);
    struct stat opened;
    uint64_t size = 0, sequence = 0;
    if (fstat(d->fd, &opened) != 0) return system_error(error, WS_E_READ, "the drive cannot be looked at", d->path);
    WS_TRY(ws_linux_device_facts_of(opened.st_rdev, d->path, facts, &sequence, error));
    if (d->sequence && sequence && d->sequence != sequence) {
        ws_fail(error, WS_E_GONE, "the drive has been replaced while it was open");
        return ws_fail_where(error, "%s", d->path);
    }
    if (ioctl(d->fd, BLKGETSIZE64, &size) != 0)
        return system_error(error, WS_E_READ, "the drive does not say its size", d->path);
    facts->size = size;
    return ws_drive_short_name(facts, error);
}

static bool direct_fits(const struct linux_drive *d, uint64_t at, const void *bytes, size_t length) {
    return d->direct >= 0 && at % ALIGN == 0 && length % ALIGN == 0 && (uintptr_t)bytes % ALIGN == 0;
}

static enum ws_status read_drive(struct ws_drive *drive, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    char *p = buffer;
    if (d->disk) return ws_disk_read(d->disk, at, buffer, length, error);
    if (d->view) return ws_source_read(d->view, at, buffer, length, error);
    while (length > 0) {
        int fd = direct_fits(d, at, p, length) ? d->direct : d->fd;
        ssize_t got = pread(fd, p, length, (off_t)at);
        if (got < 0 && errno == EINTR) continue;
        if (got == 0) {
            errno = EIO;
            got = -1;
        }
        if (got < 0) {
            char what[96];
            (void)snprintf(what, sizeof what, "the drive cannot be read at byte %llu", (unsigned long long)at);
            return system_error(error, WS_E_READ, what, d->path);
        }
        p += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    return WS_OK;
}

static enum ws_status write_drive(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    const char *p = bytes;
    if (d->disk) return ws_disk_write(d->disk, at, bytes, length, error);
    while (length > 0) {
        int fd = direct_fits(d, at, p, length) ? d->direct : d->fd;
        ssize_t put = pwrite(fd, p, length, (off_t)at);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) {
            char what[96];
            (void)snprintf(what, sizeof what, "the drive cannot be written at byte %llu", (unsigned long long)at);
            return system_error(error, WS_E_WRITE, what, d->path);
        }
        p += put;
        at += (uint64_t)put;
        length -= (size_t)put;
    }
    return WS_OK;
}

static enum ws_status flush(struct ws_drive *drive, struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    if (d->disk) WS_TRY(ws_disk_flush(d->disk, error));
    if (d->writable && fdatasync(d->fd) != 0)
        return system_error(error, WS_E_WRITE, "the drive cannot be flushed", d->path);
    return WS_OK;
}

static enum ws_status discard(struct ws_drive *drive, uint64_t at, uint64_t length, struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    uint64_t range[2] = {at, length};
    if (d->disk) return ws_fail(error, WS_E_UNSUPPORTED, "this drive does not take discards");
    if (d->device ? ioctl(d->fd, BLKDISCARD, range) == 0
                  : fallocate(d->fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, (off_t)at, (off_t)length) == 0)
        return WS_OK;
    return ws_fail(error, WS_E_UNSUPPORTED, "this drive does not take discards");
}

static enum ws_status reread(struct ws_drive *drive, struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    if (d->writable) WS_TRY(flush(drive, error));
    (void)posix_fadvise(d->fd, 0, 0, POSIX_FADV_DONTNEED);
    if (d->device) {
        (void)ioctl(d->fd, BLKFLSBUF, 0);
        (void)ioctl(d->fd, BLKRRPART, 0); /* refused for devices without partition scanning: nothing is lost */
    }
    return WS_OK;
}

static bool tell(const char *path, struct ws_error *error) {
    int fd = open(path, O_WRONLY | O_CLOEXEC);
    if (fd < 0) return true; /* not offered here */
    ssize_t put = write(fd, "1", 1);
    if (put != 1) (void)system_error(error, WS_E_WRITE, "the drive would not be released", path);
    close(fd);
    return put == 1;
}

/* The USB device a drive belongs to, by climbing from its folder in sysfs; its "remove" powers the port down. */
static bool usb_device_of(const char *block, char *out, size_t room) {
    char path[700];
    struct stat s;
    (void)snprintf(path, sizeof path, "%s/device", block);
    char *real = realpath(path, NULL);
    bool found = false;
    while (real && !found && strncmp(real, "/sys/devices/", 13) == 0) {
        (void)snprintf(path, sizeof path, "%.600s/idVendor", real);
        found = stat(path, &s) == 0;
        if (found) (void)snprintf(out, room, "%.600s/remove", real);
        *strrchr(real, '/') = '\0';
    }
    free(real);
    return found;
}

/* Tell the drive to stop, and power its port down, where the kernel offers it: it then disappears until it is plugged
 * in again. */
static enum ws_status release(struct ws_drive *drive, struct ws_error *error) {
    struct linux_drive *d = (struct linux_drive *)drive;
    WS_TRY(reread(drive, error));
    if (!d->device) return WS_OK;
    char *real = realpath(d->path, NULL);
    const char *name = real ? strrchr(real, '/') : NULL;
    char block[300];
    char path[600];
    char port[700];
    (void)snprintf(block, sizeof block, "/sys/block/%.200s", name ? name + 1 : "none");
    free(real);
    bool usb = usb_device_of(block, port, sizeof port);
    (void)snprintf(path, sizeof path, "%s/device/delete", block);
    if (!tell(path, error)) return WS_E_WRITE;
    return !usb || tell(port, error) ? WS_OK : WS_E_WRITE;
}

/* nftw() hands nothing through to its callback: one search at a time in each thread. */
static _Thread_local struct {
    dev_t device;
    ino_t inode;
} sought;

static int is_sought(const char *path, const struct stat *s, int kind, struct FTW *ftw) {
    (void)path, (void)kind, (void)ftw;
    return s->st_dev == sought.device && s->st_ino == sought.inode;
}

static bool stores(struct ws_drive *drive, const char *path) {
    struct linux_drive *d = (struct linux_drive *)drive;
    struct stat file, mine;
    if (stat(path, &file) != 0 || fstat(d->fd, &mine) != 0) return false;
    if (file.st_dev == mine.st_dev && file.st_ino == mine.st_ino) return true;
    if (!d->device && S_ISDIR(file.st_mode)) { /* among the files of the folder */
        sought.device = mine.st_dev;
        sought.inode = mine.st_ino;
        return nftw(path, is_sought, 16, FTW_PHYS) == 1;
    }
    return d->device && ws_linux_belongs_to(mine.st_rdev, S_ISBLK(file.st_mode) ? file.st_rdev : file.st_dev);
}

static void close_drive(struct ws_drive *drive) {
    struct linux_drive *d = (struct linux_drive *)drive;
    ws_disk_close(d->disk);
    ws_source_close(d->view);
    if (d->direct >= 0) close(d->direct);
    close(d->fd);
    free(d);
}

/* Past the page cache: the same file opened once more, by its descriptor, not by a name that may mean another one now.
 */
static int open_direct(int fd, int flags) {
    char name[40];
    struct stat is, was;
    (void)snprintf(name, sizeof name, "/proc/self/fd/%d", fd);
    int direct = open(name, (flags & ~O_EXCL) | O_DIRECT);
    if (direct < 0) return -1;
    if (fstat(fd, &was) == 0 && fstat(direct, &is) == 0 && is.st_dev == was.st_dev && is.st_ino == was.st_ino &&
        is.st_rdev == was.st_rdev)
        return direct;
    close(direct);
    return -1;
}

/* A plain file has no O_EXCL: locks of both kinds keep other builds, and emulators, from it. */
static enum ws_status lock_file(int fd, const char *path, struct ws_error *error) {
    struct flock all = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    if (flock(fd, LOCK_EX | LOCK_NB) == 0 && fcntl(fd, F_OFD_SETLK, &all) == 0) return WS_OK;
    if (errno != EWOULDBLOCK && errno != EAGAIN && errno != EACCES) return WS_OK; /* this file system knows no locks */
    ws_fail(error, WS_E_REFUSED, "the file is in use: another program writes to it, or starts a PC from it");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "wait until it has ended; nothing was written");
}

/* What is a virtual disk is the drive in it; any that is known can be read. */
static enum ws_status look_for_virtual(struct linux_drive *d, struct ws_error *error) {
    enum ws_status status;
    if (d->writable) {
        status = ws_linux_edit_virtual(d->fd, &d->disk_file, &d->disk, error);
    } else {
        struct ws_source *file = open_again(d);
        if (!file) return WS_OK;
        status = ws_linux_open_virtual(d->path, file, &d->view, error);
        if (status != WS_OK) ws_source_close(file);
    }
    if (status == WS_OK && d->direct >= 0) { /* its own places are not aligned */
        close(d->direct);
        d->direct = -1;
    }
    return status == WS_E_NOTFOUND ? WS_OK : status;
}

static const struct ws_drive_ops ops = {describe, read_drive, write_drive, flush,      discard,
                                        reread,   release,    stores,      close_drive};

/* Opened, and for writing locked against others. @return the descriptor, or -1 with the status in `status` */
static int open_file(const char *id, bool write, const struct stat *s, int flags, enum ws_status *status,
                     struct ws_error *error) {
    const bool device = S_ISBLK(s->st_mode);
    struct stat opened; /* what was opened may be another file than what was looked at */
    int fd = open(id, flags);
    if (fd < 0 && errno == EBUSY && write) {
        ws_fail(error, WS_E_REFUSED, "the drive is in use: something is mounted from it or holds it");
        ws_fail_where(error, "%s", id);
        *status = ws_fail_next(error, "unmount it first");
        return -1;
    }
    if (fd < 0) {
        *status = system_error(error, write ? WS_E_WRITE : WS_E_READ, "the drive cannot be opened", id);
        return -1;
    }
    *status = WS_OK;
    if (fstat(fd, &opened) != 0 || opened.st_dev != s->st_dev || opened.st_ino != s->st_ino) {
        ws_fail(error, WS_E_GONE, "it has been replaced while it was opened");
        *status = ws_fail_where(error, "%s", id);
    } else if (write && !device) {
        *status = lock_file(fd, id, error);
    }
    if (*status == WS_OK) return fd;
    close(fd);
    return -1;
}

enum ws_status ws_linux_open_drive(struct ws_port *port, const char *id, enum ws_open_mode mode,
                                   struct ws_drive **drive, struct ws_error *error) {
    struct stat s;
    (void)port;
    if (strncmp(id, "file:", 5) == 0) id += 5;
    if (stat(id, &s) != 0 || (!S_ISBLK(s.st_mode) && !S_ISREG(s.st_mode))) {
        ws_fail(error, WS_E_NOTFOUND, "there is no drive and no image file of this name");
        ws_fail_where(error, "%s", id);
        return ws_fail_next(error, "`satchel drives` lists the drives that are here");
    }
    bool device = S_ISBLK(s.st_mode);
    bool write = mode == WS_OPEN_WRITE;
    enum ws_status status;
    /* O_EXCL on a device: the kernel refuses while anything is mounted from it or holds it */
    int flags = (write ? O_RDWR : O_RDONLY) | O_CLOEXEC | (device && write ? O_EXCL : 0);
    int fd = open_file(id, write, &s, flags, &status, error);
    if (fd < 0) return status;
    struct linux_drive *d = calloc(1, sizeof *d);
    if (!d) {
        close(fd);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a drive");
    }
    if (device && ioctl(fd, BLKGETDISKSEQ, &d->sequence) != 0) d->sequence = 0;
    d->drive.ops = &ops;
    d->fd = fd;
    d->device = device;
    d->writable = write;
    d->direct = open_direct(fd, flags);
    char *real = device ? NULL : realpath(id, NULL); /* a file is the same one from any working folder */
    bool fits = strlen(real ? real : id) < sizeof d->path;
    (void)snprintf(d->path, sizeof d->path, "%s", real ? real : id);
    free(real);
    if (!fits) {
        close_drive(&d->drive);
        ws_fail(error, WS_E_RANGE, "the path of a drive has at most %zu bytes", sizeof d->path - 1);
        return ws_fail_where(error, "%s", id);
    }
    status = device ? WS_OK : look_for_virtual(d, error);
    if (status != WS_OK) {
        close_drive(&d->drive);
        return error && error->where[0] ? status : ws_fail_where(error, "%s", id);
    }
    *drive = &d->drive;
    return WS_OK;
}

enum ws_status ws_linux_make_file(const char *path, uint64_t size, struct ws_error *error) {
    if (strncmp(path, "file:", 5) == 0) path += 5;
    int fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (fd < 0 && errno == EEXIST) {
        ws_fail(error, WS_E_REFUSED, "a file of this name is here already; it is not made anew");
        ws_fail_where(error, "%s", path);
        return ws_fail_next(error, "leave --make out to use it as it is, or choose another name");
    }
    if (fd < 0) return system_error(error, WS_E_WRITE, "the image file cannot be made", path);
    enum ws_status status = WS_OK;
    if (ws_container_of_name(path)) {
        status = ws_linux_create_virtual(fd, ws_container_of_name(path), size, error);
        if (status != WS_OK) (void)unlink(path);
    } else if (ftruncate(fd, (off_t)size) != 0) {
        status = system_error(error, WS_E_WRITE, "the image file cannot be made so large", path);
        (void)unlink(path);
    }
    close(fd);
    return status;
}

/* A plain file as a source. */
struct file_source {
    int fd;
    char path[512];
};

static enum ws_status file_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct file_source *f = source->state;
    char *p = buffer;
    while (length > 0) {
        ssize_t got = pread(f->fd, p, length, (off_t)at);
        if (got < 0 && errno == EINTR) continue;
        if (got == 0) {
            ws_fail(error, WS_E_READ, "the file has become shorter while it was read");
            return ws_fail_where(error, "%s", f->path);
        }
        if (got < 0) return system_error(error, WS_E_READ, "the file cannot be read", f->path);
        p += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    return WS_OK;
}

static void file_close(struct ws_source *source) {
    struct file_source *f = source->state;
    close(f->fd);
    free(f);
}

void ws_linux_piece(int fd, uint64_t at, struct ws_piece *piece) {
    off_t data = lseek(fd, (off_t)at, SEEK_DATA);
    if (data < 0 && errno == ENXIO) { /* nothing but holes behind it */
        piece->kind = WS_PIECE_HOLE;
    } else if (data > (off_t)at) {
        piece->kind = WS_PIECE_HOLE;
        if ((uint64_t)data - at < piece->length) piece->length = (uint64_t)data - at;
    } else if (data == (off_t)at) {
        off_t hole = lseek(fd, (off_t)at, SEEK_HOLE);
        if (hole > (off_t)at && (uint64_t)hole - at < piece->length) piece->length = (uint64_t)hole - at;
    }
}

static void file_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    ws_linux_piece(((const struct file_source *)source->state)->fd, at, piece);
}

static const struct ws_source_ops file_ops = {file_read, file_close, file_piece};

enum ws_status ws_linux_source_fd(int fd, const char *path, uint64_t size, struct ws_source **source,
                                  struct ws_error *error) {
    struct file_source *f = malloc(sizeof *f);
    if (!f) {
        close(fd);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a file");
    }
    f->fd = fd;
    (void)snprintf(f->path, sizeof f->path, "%s", path);
    (void)posix_fadvise(fd, 0, 0, POSIX_FADV_SEQUENTIAL);
    enum ws_status status = ws_source_make(&file_ops, size, f, source, error);
    if (status != WS_OK) {
        close(fd);
        free(f);
    }
    return status;
}

enum ws_status ws_source_file(const char *path, struct ws_source **source, struct ws_error *error) {
    struct stat s;
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK); /* a pipe would wait for its other end */
    if (fd < 0 || fstat(fd, &s) != 0) {
        enum ws_status status = errno == ENOENT ? WS_E_NOTFOUND : WS_E_READ;
        const bool rights = errno == EACCES || errno == EPERM;
        status = system_error(error, status, "the file cannot be opened", path);
        if (rights && error) error->next[0] = '\0';
        if (rights) ws_fail_next(error, "the right to read it is missing: its owner, its group, or root has it");
        if (fd >= 0) close(fd);
        return status;
    }
    off_t end = S_ISREG(s.st_mode) ? s.st_size : lseek(fd, 0, SEEK_END);
    if ((!S_ISREG(s.st_mode) && !S_ISBLK(s.st_mode)) || end < 0) {
        close(fd);
        ws_fail(error, WS_E_READ, "this is not a file that can be read at any place");
        return ws_fail_where(error, "%s", path);
    }
    return ws_linux_source_fd(fd, path, (uint64_t)end, source, error);
}
