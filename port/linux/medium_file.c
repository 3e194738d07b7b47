/* medium_file.c — a folder or an archive of files as a disc image made on the fly, so that all that goes with images
 * goes with them, too: looking at it, planning, building, checking.
 *
 * An archive is unpacked into a file without a name first: two tasks read an image at once, and an archive can only be
 * read from its beginning. A folder's files are read when they are wanted.
 */
#include "port/linux/internal.h"

#include "wild_satchel/ext4.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/layout.h"
#include "wild_satchel/live.h"
#include "wild_satchel/medium.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { STEP = 1 << 20, NAME = 32 };

/* Everything such an image borrows. */
struct made {
    struct ws_archive_store *store;
    struct ws_source *composed;
    struct ws_layout *layout;
    struct ws_tree *tree;
    struct ws_ext4_geometry geometry; /* of a root */
};

static void made_free(struct made *m) {
    ws_source_close(m->composed);
    ws_layout_close(m->layout);
    ws_ext4_geometry_free(&m->geometry);
    ws_tree_close(m->tree);
    ws_linux_store_close(m->store);
    free(m);
}

/* The contents leave the memory at once: a root may be larger than that. */
static enum ws_status read_archive(const struct ws_source *file, struct made *m, struct ws_error *error) {
    WS_TRY(ws_linux_store_open(&m->store, error));
    return ws_archive_read_into(file, m->store, &m->tree, error);
}

static enum ws_status made_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    const struct made *m = source->state;
    return ws_source_read(m->composed, at, buffer, length, error);
}
static void made_close(struct ws_source *source) { made_free(source->state); }
static const struct ws_source_ops made_ops = {made_read, made_close, NULL};

/* The volume's name: the file's or folder's own, as ISO 9660 writes names. */
static void name_volume(const char *path, char name[NAME + 1]) {
    char clean[4096];
    (void)snprintf(clean, sizeof clean, "%s", path);
    size_t end = strlen(clean);
    while (end > 1 && clean[end - 1] == '/') clean[--end] = '\0';
    const char *last = strrchr(clean, '/') ? strrchr(clean, '/') + 1 : clean;
    size_t n = 0;
    for (; last[n] && last[n] != '.' && n < NAME; n++) {
        char c = last[n];
        if (c >= 'a' && c <= 'z') c = (char)(c - 32);
        name[n] = (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ? c : '_';
    }
    name[n] = '\0';
}

static int64_t newest(const struct ws_tree *tree) {
    int64_t time = 0;
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->mtime > time) time = n->mtime;
    return time;
}

static enum ws_status compose(const char *path, struct made *m, struct ws_error *error) {
    struct ws_iso_params params = {.made_at = newest(m->tree)};
    uint64_t size = 0;
    name_volume(path, params.volume_id);
    (void)snprintf(params.application, sizeof params.application, "WILD SATCHEL");
    WS_TRY(ws_iso_compose(&params, m->tree, NULL, &size, error));
    WS_TRY(ws_layout_create(size, &m->layout, error));
    WS_TRY(ws_iso_compose(&params, m->tree, m->layout, &size, error));
    WS_TRY(ws_layout_seal(m->layout, error));
    return ws_layout_source(m->layout, &m->composed, error);
}

/* All of it into a file without a name, in one pass. */
static enum ws_status spool(const struct ws_source *content, const char *path, struct ws_source **source,
                            struct ws_error *error) {
    uint64_t size = content->size;
    char *buffer = malloc(STEP);
    int fd = ws_linux_nameless_file(error);
    enum ws_status status = fd < 0 ? WS_E_WRITE : WS_OK;
    if (!buffer) status = ws_fail(error, WS_E_NOMEM, "out of memory for an archive");
    if (status == WS_OK) status = ws_linux_spool_fits(fd, size, error);
    for (uint64_t at = 0; status == WS_OK && at < size;) {
        size_t step = size - at < STEP ? (size_t)(size - at) : STEP;
        status = ws_source_read(content, at, buffer, step, error);
        if (status == WS_OK && pwrite(fd, buffer, step, (off_t)at) != (ssize_t)step)
            status = ws_fail(error, WS_E_WRITE, "the archive cannot be unpacked: %s", strerror(errno));
        at += step;
    }
    free(buffer);
    if (status == WS_OK) return ws_linux_source_fd(fd, path, size, source, error);
    if (fd >= 0) close(fd);
    return status;
}

/* Of an archive's files the only one, or the only one named as some live family names its overlay file. */
static const struct ws_node *find_overlay(const struct ws_tree *tree) {
    const struct ws_node *only = NULL, *named = NULL;
    size_t files = 0, names = 0, families;
    const struct ws_live_family *f = ws_live_families(&families);
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (n->kind != WS_NODE_FILE || !n->content) continue;
        bool is = false;
        for (size_t i = 0; i < families; i++) is |= f[i].overlay_file && strcmp(n->name, f[i].overlay_file) == 0;
        files++;
        only = n;
        names += is;
        if (is) named = n;
    }
    return files == 1 ? only : names == 1 ? named : NULL;
}

enum ws_status ws_linux_open_overlay(const char *path, struct ws_source **source, struct ws_error *error) {
    struct ws_packed_facts packed, found;
    struct ws_source *file = NULL;
    struct ws_tree *tree = NULL;
    WS_TRY(ws_linux_open_image(path, &file, &packed, error));
    enum ws_status status = packed.format[0] ? WS_E_NOTFOUND : ws_packed_probe(file, &found, error);
    if (status == WS_E_NOTFOUND) {
        *source = file;
        return WS_OK;
    }
    if (status == WS_OK) status = ws_archive_read(file, &tree, error);
    const struct ws_node *n = status == WS_OK ? find_overlay(tree) : NULL;
    if (status == WS_OK && !n) {
        status = ws_fail(error, WS_E_NOTFOUND, "which of the archive's files is the data file cannot be told");
        ws_fail_next(error, "take it out of the archive, and give it alone");
    }
    if (status == WS_OK) status = spool(n->content, path, source, error);
    if (tree) ws_tree_close(tree);
    ws_source_close(file);
    if (status != WS_OK) ws_fail_where(error, "%s", path);
    return status;
}

/* Of a root's files an ext4 volume is made: it keeps owners, modes, devices, attributes and all names of a file. */
static enum ws_status compose_root(const char *path, struct made *m, struct ws_error *error) {
    (void)path;
    struct ws_ext4_params params = {.made_at = newest(m->tree)};
    uint64_t size = 64ull << 20;
    for (const struct ws_node *n = ws_tree_root(m->tree); n; n = ws_tree_next(n))
        size += n->same_as ? 0 : ws_node_size(n) + 4096;
    enum ws_status status = WS_E_SPACE;
    for (; status == WS_E_SPACE; size += size / 8) {
        params.size = (size + STEP - 1) / STEP * STEP;
        status = ws_ext4_measure(&params, m->tree, &m->geometry, error);
    }
    WS_TRY(status);
    WS_TRY(ws_layout_create(params.size, &m->layout, error));
    WS_TRY(ws_ext4_compose(&m->geometry, 0, m->layout, WS_PHASE_BODY, error));
    WS_TRY(ws_layout_seal(m->layout, error));
    return ws_layout_source(m->layout, &m->composed, error);
}

/* A folder, or an archive of files, as a volume: lazily of a folder, unpacked once of an archive. */
static enum ws_status open_files(const char *path, bool folder, const struct ws_source *file,
                                 enum ws_status (*make)(const char *, struct made *, struct ws_error *),
                                 struct ws_source **source, struct ws_error *error) {
    struct made *m = calloc(1, sizeof *m);
    enum ws_status status = m ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for an image");
    if (status == WS_OK) status = folder ? ws_tree_from_folder(path, &m->tree, error) : read_archive(file, m, error);
    if (status == WS_OK) status = make(path, m, error);
    if (status == WS_OK && folder) {
        status = ws_source_make(&made_ops, m->composed->size, m, source, error);
        if (status == WS_OK) m = NULL; /* the source owns it now */
    } else if (status == WS_OK) {
        status = spool(m->composed, path, source, error);
    }
    if (m) made_free(m);
    return status;
}

/* An image as it is, unpacked where it is compressed; files of a folder or an archive made into one by `make`. */
static enum ws_status open_any(const char *path, enum ws_status (*make)(const char *, struct made *, struct ws_error *),
                               struct ws_source **source, struct ws_packed_facts *packed, struct ws_error *error) {
    struct stat s;
    struct ws_source *file = NULL;
    bool folder = stat(path, &s) == 0 && S_ISDIR(s.st_mode);
    memset(packed, 0, sizeof *packed);
    if (!folder) {
        struct ws_packed_facts found;
        WS_TRY(ws_linux_open_image(path, &file, packed, error));
        if (packed->format[0] || ws_packed_probe(file, &found, error) != WS_OK) {
            *source = file;
            return WS_OK;
        }
        *packed = found;
    }
    enum ws_status status = open_files(path, folder, file, make, source, error);
    ws_source_close(file);
    if (status != WS_OK) ws_fail_where(error, "%s", path);
    return status;
}

enum ws_status ws_linux_open_medium(const char *path, struct ws_source **source, struct ws_packed_facts *packed,
                                    struct ws_error *error) {
    return open_any(path, compose, source, packed, error);
}

/* The part of a drive on which its live system's files stand, and the drive. */
struct part {
    struct ws_source *drive, *slice;
};
static enum ws_status part_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                struct ws_error *error) {
    return ws_source_read(((const struct part *)source->state)->slice, at, buffer, length, error);
}
static void part_close(struct ws_source *source) {
    struct part *p = source->state;
    ws_source_close(p->slice);
    ws_source_close(p->drive);
    free(p);
}
static const struct ws_source_ops part_ops = {part_read, part_close, NULL};

/* Where a live stick's files stand; what else is on it may change while it runs. An image that is hardly more than its
 * files is left as it is: it has a published checksum. @return false: it is no live stick */
static bool find_medium(const struct ws_source *drive, uint64_t *at, uint64_t *length) {
    const uint64_t slack = 32ull << 20;
    struct ws_table *table = malloc(sizeof *table);
    struct ws_medium medium = {0};
    size_t count;
    bool found = table && ws_table_read(drive, 512, table, NULL, NULL) == WS_OK && table->kind != WS_TABLE_NONE &&
                 ws_medium_open(drive, table, &medium, NULL) == WS_OK;
    if (found && medium.iso) {
        *at = 0;
        *length = ws_iso_facts(medium.iso)->size;
        found = *length > 0 && *length < drive->size && drive->size - *length > slack;
    } else if (found) {
        const struct ws_partition *p = ws_table_partitions(table, &count);
        size_t i = 0;
        while (i < count && p[i].at != medium.at) i++;
        found = i < count;
        *at = medium.at;
        *length = found ? p[i].length : 0;
    }
    ws_medium_close(&medium);
    free(table);
    return found;
}

/* Takes the drive over, whatever comes of it. */
static enum ws_status open_medium_of(struct ws_source *drive, struct ws_source **source, struct ws_error *error) {
    uint64_t at = 0;
    uint64_t length = 0;
    *source = drive;
    if (!find_medium(drive, &at, &length)) return WS_OK;
    struct part *p = calloc(1, sizeof *p);
    enum ws_status status = p ? ws_source_slice(drive, at, length, &p->slice, error)
                              : ws_fail(error, WS_E_NOMEM, "out of memory for a live stick");
    if (status == WS_OK) status = ws_source_make(&part_ops, length, p, source, error);
    if (status == WS_OK) {
        p->drive = drive;
        return WS_OK;
    }
    if (p) ws_source_close(p->slice);
    free(p);
    ws_source_close(drive);
    *source = NULL;
    return status;
}

enum ws_status ws_linux_open_root(const char *path, struct ws_source **source, struct ws_packed_facts *packed,
                                  struct ws_error *error) {
    WS_TRY(open_any(path, compose_root, source, packed, error));
    return packed->format[0] ? WS_OK : open_medium_of(*source, source, error);
}
