/* running.c — the system that runs here, or is mounted somewhere, as the original of a twin. */
#include "port/linux/internal.h"

#include "wild_satchel/port/linux.h"
#include "wild_satchel/twin.h"

#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

enum { MOUNTS_MOST = 256 };

/* A file system on a disk, and what its files are laid down on. */
static const struct {
    const char *type, *format;
} kinds[] = {{"ext4", "ext4"},   {"ext3", "ext4"},     {"ext2", "ext4"},  {"vfat", "fat32"},
             {"exfat", "exfat"}, {"xfs", "ext4"},      {"btrfs", "ext4"}, {"f2fs", "ext4"},
             {"jfs", "ext4"},    {"reiserfs", "ext4"}, {"nilfs2", "ext4"}};

/* Places where guests are mounted: not the system's own. */
static const char *const guests[] = {"/media",    "/run", "/mnt",   "/snap",
                                     "/var/snap", "/tmp", "/cdrom", "/var/lib/docker"};

/* A line of mountinfo (proc(5), /proc/pid/mountinfo). */
struct mount {
    char place[512], inside[256], type[32], source[256];
    const char *format;
};

static void unescape(char *text) {
    char *to = text;
    for (const char *p = text; *p; p++) {
        if (p[0] == '\\' && p[1] >= '0' && p[1] <= '3' && isdigit((unsigned char)p[2]) &&
            isdigit((unsigned char)p[3])) {
            *to++ = (char)((p[1] - '0') * 64 + (p[2] - '0') * 8 + (p[3] - '0'));
            p += 3;
        } else {
            *to++ = *p;
        }
    }
    *to = '\0';
}

static bool parse(const char *line, struct mount *m) {
    const char *dash = strstr(line, " - ");
    if (!dash || sscanf(line, "%*d %*d %*s %255s %511s", m->inside, m->place) != 2 ||
        sscanf(dash, " - %31s %255s", m->type, m->source) != 2)
        return false;
    unescape(m->place);
    unescape(m->inside);
    unescape(m->source);
    m->format = NULL;
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++)
        if (strcmp(m->type, kinds[i].type) == 0) m->format = kinds[i].format;
    return m->format && strncmp(m->source, "/dev/", 5) == 0;
}

/* A path below the system's root, as that system has it; NULL: it is not below. */
static const char *below(const char *root, const char *place) {
    const size_t n = strcmp(root, "/") == 0 ? 0 : strlen(root);
    if (strncmp(place, root, n) != 0 || (place[n] && place[n] != '/')) return NULL;
    return place[n] ? place + n : "/";
}

static bool is_guest(const char *place) {
    for (size_t i = 0; i < sizeof guests / sizeof guests[0]; i++) {
        const size_t n = strlen(guests[i]);
        if (strncmp(place, guests[i], n) == 0 && (!place[n] || place[n] == '/')) return true;
    }
    return false;
}

static size_t read_mounts(const char *root, struct mount *list) {
    char line[2048];
    size_t count = 0;
    FILE *f = fopen("/proc/self/mountinfo", "re");
    while (f && fgets(line, sizeof line, f) && count < MOUNTS_MOST) {
        struct mount *m = &list[count];
        if (!parse(line, m) || !below(root, m->place) || is_guest(below(root, m->place))) continue;
        size_t k = 0;
        while (k < count && strcmp(list[k].place, m->place) != 0) k++;
        if (k < count) list[k] = *m; /* mounted over another one: what is seen is the later */
        else count++;
    }
    if (f) fclose(f);
    return count;
}

static bool sysfs_text(dev_t device, const char *name, char *out, size_t room) {
    char path[200];
    (void)snprintf(path, sizeof path, "/sys/dev/block/%u:%u/%s", major(device), minor(device), name);
    FILE *f = fopen(path, "re");
    const bool got = f && fgets(out, (int)room, f);
    if (f) fclose(f);
    if (got) out[strcspn(out, "\n")] = '\0';
    else out[0] = '\0';
    return got;
}

static uint64_t sysfs_number(dev_t device, const char *name) {
    char text[256];
    return sysfs_text(device, name, text, sizeof text) ? strtoull(text, NULL, 10) : 0;
}

/* The drive that a partition is on. @return false for what is none (a mapped volume, a whole drive) */
static bool drive_of(dev_t device, char path[64]) {
    char link[200];
    (void)snprintf(link, sizeof link, "/sys/dev/block/%u:%u", major(device), minor(device));
    char *real = realpath(link, NULL);
    bool found = real && sysfs_number(device, "partition");
    if (found) {
        *strrchr(real, '/') = '\0';
        (void)snprintf(path, 64, "/dev/%.50s", strrchr(real, '/') + 1);
    }
    free(real);
    return found;
}

/* Who it is by udev's links, where it cannot be read. */
static void name_of(const char *folder, const char *device, char *out, size_t room) {
    char path[PATH_MAX], real[PATH_MAX];
    out[0] = '\0';
    struct dirent **entries = NULL;
    int count = scandir(folder, &entries, NULL, alphasort);
    for (int i = 0; i < count; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", folder, entries[i]->d_name);
        if (!out[0] && realpath(path, real) && strcmp(real, device) == 0) {
            (void)snprintf(out, room, "%.*s", (int)room - 1, entries[i]->d_name);
            for (char *p = out; *p; p++) /* "\x20" is a blank */
                if (strncmp(p, "\\x20", 4) == 0) {
                    *p = ' ';
                    memmove(p + 1, p + 4, strlen(p + 4) + 1);
                }
        }
        free(entries[i]);
    }
    if (count >= 0) free(entries);
}

static void take_facts(struct ws_original_volume *v, const char *source, const char *type) {
    char real[PATH_MAX];
    struct ws_source *device = NULL;
    if (!realpath(source, real)) (void)snprintf(real, sizeof real, "%s", source);
    const bool read =
        ws_source_file(real, &device, NULL) == WS_OK && v->format->probe(device, &v->facts, NULL) == WS_OK;
    ws_source_close(device);
    if (!read) {
        memset(&v->facts, 0, sizeof v->facts);
        name_of("/dev/disk/by-uuid", real, v->facts.id, sizeof v->facts.id);
        name_of("/dev/disk/by-label", real, v->facts.label, sizeof v->facts.label);
        if (strlen(v->facts.label) > 11 && v->format->everywhere) v->facts.label[0] = '\0';
        if (strlen(v->facts.label) > 16) v->facts.label[16] = '\0';
    }
    (void)snprintf(v->system, sizeof v->system, "%s", type);
}

static enum ws_status take_place(struct ws_original *o, struct ws_original_volume *v, const char *source,
                                 struct ws_error *error) {
    struct stat s;
    char text[256], drive[64];
    if (stat(source, &s) != 0) {
        ws_fail(error, WS_E_READ, "the device of a file system is not here: %s", strerror(errno));
        return ws_fail_where(error, "%s", source);
    }
    if (sysfs_text(s.st_rdev, "dm/uuid", text, sizeof text) && strncmp(text, "CRYPT-", 6) == 0) {
        ws_fail(error, WS_E_UNSUPPORTED, "its files stand behind a lock, and their twin would stand open");
        ws_fail_where(error, "%s", source);
        return ws_fail_next(error, "take the drive itself, from another system: its locked volume goes over as it is");
    }
    v->place.length = sysfs_number(s.st_rdev, "size") * 512;
    v->place.at = sysfs_number(s.st_rdev, "start") * 512;
    v->place.number = (unsigned)sysfs_number(s.st_rdev, "partition");
    if (!drive_of(s.st_rdev, drive) || o->table.kind != WS_TABLE_NONE) return WS_OK;
    struct ws_source *whole = NULL;
    if (ws_source_file(drive, &whole, NULL) == WS_OK) {
        const uint32_t sector = (uint32_t)sysfs_number(s.st_rdev, "../queue/logical_block_size");
        (void)ws_table_read(whole, sector ? sector : 512, &o->table, NULL, NULL);
    }
    ws_source_close(whole);
    return WS_OK;
}

/* What the table says of it besides. */
static void take_entry(struct ws_original *o, struct ws_original_volume *v) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(&o->table, list);
    for (size_t i = 0; i < count && v->place.number; i++)
        if (list[i]->number == v->place.number && list[i]->at == v->place.at) v->place = *list[i];
}

static enum ws_status add_mount(struct ws_original *o, const char *root, const struct mount *list, size_t mounts,
                                const struct mount *m, struct ws_error *error) {
    dev_t devices[16];
    size_t count = 0;
    struct stat s;
    if (o->volumes == WS_ORIGINAL_MOST)
        return ws_fail(error, WS_E_UNSUPPORTED, "it has more than %d volumes", WS_ORIGINAL_MOST);
    struct ws_original_volume *v = &o->volume[o->volumes];
    v->format = ws_format_find(m->format);
    v->way = WS_TWIN_ANEW;
    WS_TRY(take_place(o, v, m->source, error));
    take_facts(v, m->source, m->type);
    for (size_t i = 0; i < mounts && count < 16; i++) /* parts of one volume that are mounted apart stay together */
        if (strcmp(list[i].source, m->source) == 0 && stat(list[i].place, &s) == 0) devices[count++] = s.st_dev;
    (void)snprintf(o->mounted[o->volumes], sizeof o->mounted[0], "%.255s", below(root, m->place));
    o->volumes++;
    return ws_linux_tree_of_mount(m->place, devices, count, &v->tree, error);
}

/* Swap on partitions; what stands in it belongs to nobody else. */
static enum ws_status add_swaps(struct ws_original *o, struct ws_error *error) {
    char line[512], path[256], kind[32];
    FILE *f = fopen("/proc/swaps", "re");
    enum ws_status status = WS_OK;
    while (f && status == WS_OK && fgets(line, sizeof line, f)) {
        if (sscanf(line, "%255s %31s", path, kind) != 2 || strcmp(kind, "partition") != 0 || strstr(path, "zram"))
            continue;
        if (o->volumes == WS_ORIGINAL_MOST) break;
        struct ws_original_volume *v = &o->volume[o->volumes];
        v->format = ws_format_find("swap");
        v->way = WS_TWIN_EMPTY;
        status = take_place(o, v, path, error);
        take_facts(v, path, "swap");
        o->volumes++;
    }
    if (f) fclose(f);
    return status;
}

/* As they stand on the drive; what is on none keeps its place in front. */
static void sort_volumes(struct ws_original *o) {
    for (size_t i = 1; i < o->volumes; i++)
        for (size_t k = i; k > 0 && o->volume[k - 1].place.at > o->volume[k].place.at; k--) {
            const struct ws_original_volume v = o->volume[k];
            char place[sizeof o->mounted[0]];
            memcpy(place, o->mounted[k], sizeof place);
            memcpy(o->mounted[k], o->mounted[k - 1], sizeof place);
            memcpy(o->mounted[k - 1], place, sizeof place);
            o->volume[k] = o->volume[k - 1];
            o->volume[k - 1] = v;
        }
}

static int in_order(const void *a, const void *b) {
    const struct mount *x = a, *y = b;
    return strcmp(x->place, y->place);
}

enum ws_status ws_linux_running(const char *root, struct ws_original *o, struct ws_error *error) {
    char real[PATH_MAX];
    memset(o, 0, sizeof *o);
    if (!realpath(root, real)) {
        ws_fail(error, WS_E_NOTFOUND, "there is no folder of this name");
        return ws_fail_where(error, "%s", root);
    }
    struct mount *list = calloc(MOUNTS_MOST, sizeof *list);
    if (!list) return ws_fail(error, WS_E_NOMEM, "out of memory for a list of file systems");
    const size_t count = read_mounts(real, list);
    qsort(list, count, sizeof *list, in_order); /* the root goes first */
    enum ws_status status = WS_OK;
    if (count == 0 || strcmp(list[0].place, real) != 0) {
        ws_fail(error, WS_E_NOTFOUND, "no file system of a disk is mounted there that is read here");
        ws_fail_where(error, "%s", real);
        status =
            ws_fail_next(error, "a system that runs from a live medium or in a container has none: take its drive");
    }
    for (size_t i = 0; i < count && status == WS_OK; i++) {
        size_t k = 0;
        while (k < i && strcmp(list[k].source, list[i].source) != 0) k++;
        if (k == i) status = add_mount(o, real, list, count, &list[i], error);
    }
    if (status == WS_OK && strcmp(real, "/") == 0) status = add_swaps(o, error);
    for (size_t i = 0; i < o->volumes; i++) take_entry(o, &o->volume[i]);
    sort_volumes(o);
    free(list);
    return status == WS_OK ? ws_original_complete(o, error) : status;
}
