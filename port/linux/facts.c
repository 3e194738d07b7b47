/* facts.c — who a block device is, from udev and sysfs, and who uses it. */
#include "port/linux/internal.h"

#include <ctype.h>
#include <dirent.h>
#include <fcntl.h>
#include <libudev.h>
#include <pthread.h>
#include <linux/loop.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

static void copy_trimmed(char *out, size_t room, const char *in) {
    if (!in) return;
    while (isspace((unsigned char)*in)) in++;
    ws_visible(in, out, room);
    for (size_t n = strlen(out); n > 0 && isspace((unsigned char)out[n - 1]); n--) out[n - 1] = '\0';
}

static unsigned long attribute(struct udev_device *device, const char *name) {
    const char *text = udev_device_get_sysattr_value(device, name);
    return text ? strtoul(text, NULL, 10) : 0;
}

static void add_user(struct ws_drive_facts *facts, const char *user) {
    size_t n = strlen(facts->in_use_by);
    if (strstr(facts->in_use_by, user)) return;
    (void)snprintf(facts->in_use_by + n, sizeof facts->in_use_by - n, "%s%s", n ? ", " : "", user);
}

bool ws_linux_belongs_to(dev_t drive, dev_t number) {
    char path[64];
    (void)snprintf(path, sizeof path, "/sys/dev/block/%u:%u", major(drive), minor(drive));
    char *real = realpath(path, NULL);
    const char *name = real ? strrchr(real, '/') : NULL;
    bool mine = name && ws_linux_belongs(name + 1, number);
    free(real);
    return mine;
}

/* Does a device number belong to this drive or one of its partitions? */
bool ws_linux_belongs(const char *name, dev_t number) {
    char path[400];
    char target[400];
    (void)snprintf(path, sizeof path, "/sys/dev/block/%u:%u", major(number), minor(number));
    char *real = realpath(path, NULL);
    if (!real) return false;
    (void)snprintf(target, sizeof target, "/block/%s", name);
    char *at = strstr(real, target);
    size_t n = strlen(target);
    bool mine = at && (at[n] == '\0' || at[n] == '/');
    free(real);
    return mine;
}

static void find_mounts(const char *name, struct ws_drive_facts *facts) {
    FILE *mounts = fopen("/proc/self/mountinfo", "r");
    char line[2048];
    if (!mounts) return;
    while (fgets(line, sizeof line, mounts)) {
        unsigned a, b;
        char where[512];
        if (sscanf(line, "%*d %*d %u:%u %*s %511s", &a, &b, where) != 3) continue;
        if (!ws_linux_belongs(name, makedev(a, b))) continue;
        add_user(facts, where);
        if (strcmp(where, "/") == 0 || strncmp(where, "/boot", 5) == 0 || strcmp(where, "/usr") == 0)
            facts->system = true;
    }
    fclose(mounts);
}

static void find_swap(const char *name, struct ws_drive_facts *facts) {
    FILE *swaps = fopen("/proc/swaps", "r");
    char line[1024];
    if (!swaps) return;
    while (fgets(line, sizeof line, swaps)) {
        char path[512];
        struct stat s;
        if (sscanf(line, "%511s", path) == 1 && stat(path, &s) == 0 && S_ISBLK(s.st_mode) &&
            ws_linux_belongs(name, s.st_rdev)) {
            add_user(facts, "swap");
            facts->system = true;
        }
    }
    fclose(swaps);
}

/* Loop devices over a file, or over a drive and its partitions; `file` is NULL for a drive, `name` for a file. What is
 * mounted from them is named, too. The kernel is asked for device and inode: the path it keeps may be another file's by
 * now. */
static void find_loops(const struct stat *file, const char *name, struct ws_drive_facts *facts) {
    DIR *folder = opendir("/sys/block");
    struct dirent *entry;
    while (folder && (entry = readdir(folder))) {
        char path[300];
        struct loop_info64 info;
        if (strncmp(entry->d_name, "loop", 4) != 0) continue;
        (void)snprintf(path, sizeof path, "/sys/block/%.200s/loop", entry->d_name);
        if (access(path, F_OK) != 0) continue; /* free */
        (void)snprintf(path, sizeof path, "/dev/%.200s", entry->d_name);
        int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
        bool known = fd >= 0 && ioctl(fd, LOOP_GET_STATUS64, &info) == 0;
        if (fd >= 0) close(fd);
        if (!known) continue;
        bool uses = file ? info.lo_device == file->st_dev && info.lo_inode == file->st_ino
                         : info.lo_rdevice && ws_linux_belongs(name, (dev_t)info.lo_rdevice);
        if (!uses) continue;
        add_user(facts, entry->d_name);
        find_mounts(entry->d_name, facts);
    }
    if (folder) closedir(folder);
}

void ws_linux_find_file_users(const struct stat *file, struct ws_drive_facts *facts) {
    FILE *swaps = fopen("/proc/swaps", "r");
    char line[1024];
    while (swaps && fgets(line, sizeof line, swaps)) {
        char path[512];
        struct stat s;
        if (sscanf(line, "%511s", path) == 1 && stat(path, &s) == 0 && s.st_dev == file->st_dev &&
            s.st_ino == file->st_ino)
            add_user(facts, "swap");
    }
    if (swaps) fclose(swaps);
    find_loops(file, NULL, facts);
}

/* What kind of thing is built on top, by the device mapper's own identifiers: "dm-0 (encrypted volume)". */
static void add_holder(const char *folder, const char *name, struct ws_drive_facts *facts) {
    static const struct {
        const char *prefix, *words;
    } kinds[] = {
        {"CRYPT-", "encrypted volume"}, {"LVM-", "volume group"}, {"mpath-", "multipath"}, {"DMRAID-", "disk array"}};
    char path[700];
    char uuid[64] = "";
    char text[160];
    const char *words = strncmp(name, "md", 2) == 0       ? "disk array"
                        : strncmp(name, "bcache", 6) == 0 ? "cache set"
                                                          : NULL;
    (void)snprintf(path, sizeof path, "%.500s/%.100s/dm/uuid", folder, name);
    FILE *file = fopen(path, "r");
    if (file && fgets(uuid, sizeof uuid, file))
        for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++)
            if (strncmp(uuid, kinds[i].prefix, strlen(kinds[i].prefix)) == 0) words = kinds[i].words;
    if (file) fclose(file);
    (void)snprintf(text, sizeof text, "%.100s%s%s%s", name, words ? " (" : "", words ? words : "", words ? ")" : "");
    add_user(facts, text);
}

static void read_holders(const char *folder, struct ws_drive_facts *facts) {
    DIR *holders = opendir(folder);
    struct dirent *entry;
    while (holders && (entry = readdir(holders)))
        if (entry->d_name[0] != '.') add_holder(folder, entry->d_name, facts);
    if (holders) closedir(holders);
}

void ws_linux_find_holders(const char *sysfs, struct ws_drive_facts *facts) {
    char path[600];
    (void)snprintf(path, sizeof path, "%.580s/holders", sysfs);
    read_holders(path, facts);
    DIR *folder = opendir(sysfs);
    struct dirent *entry;
    while (folder && (entry = readdir(folder))) {
        struct stat s;
        (void)snprintf(path, sizeof path, "%.250s/%.200s/partition", sysfs, entry->d_name);
        if (entry->d_name[0] == '.' || stat(path, &s) != 0) continue;
        (void)snprintf(path, sizeof path, "%.250s/%.200s/holders", sysfs, entry->d_name);
        read_holders(path, facts);
    }
    if (folder) closedir(folder);
}

static void find_bus(struct udev_device *device, struct ws_drive_facts *facts) {
    const char *bus = udev_device_get_property_value(device, "ID_BUS");
    const char *path = udev_device_get_syspath(device);
    struct udev_device *port = udev_device_get_parent_with_subsystem_devtype(device, "usb", "usb_device");
    bool usb = port != NULL;
    if (usb) {
        const char *megabits = udev_device_get_sysattr_value(port, "speed"); /* "480", "5000", "1.5" */
        bus = "usb";
        (void)snprintf(facts->place, sizeof facts->place, "%s", udev_device_get_sysname(port)); /* "1-2.3" */
        facts->bus_bits_s = megabits ? (uint64_t)(strtod(megabits, NULL) * 1e6) : 0;
    }
    if (!usb && strstr(path, "/nvme")) bus = "nvme";
    else if (!usb && strstr(path, "/mmc")) bus = "mmc";
    else if (!usb && strstr(path, "/virtio")) bus = "virtio";
    copy_trimmed(facts->bus, sizeof facts->bus, bus);
    facts->removable = attribute(device, "removable") ? WS_YES : WS_NO;
    if (usb) {
        /* Some sticks do not call themselves removable; a rotating or large USB drive is an external disk. */
        const char *thumb = udev_device_get_property_value(device, "ID_DRIVE_THUMB");
        facts->internal = WS_NO;
        if (thumb && strcmp(thumb, "1") == 0) facts->removable = WS_YES;
    } else if (strcmp(facts->bus, "mmc") == 0) {
        const char *type = udev_device_get_sysattr_value(device, "device/type");
        facts->internal = type && strcmp(type, "SD") == 0 ? WS_NO : WS_YES;
        if (facts->internal == WS_NO) facts->removable = WS_YES;
    } else if (facts->bus[0]) {
        facts->internal = WS_YES; /* ata, nvme, virtio, scsi: inside unless known otherwise */
    } else {
        facts->internal = WS_UNKNOWN;
    }
}

enum ws_status ws_linux_device_facts(const char *path, struct ws_drive_facts *facts, struct ws_error *error) {
    struct stat s;
    if (stat(path, &s) != 0 || !S_ISBLK(s.st_mode))
        return ws_fail(error, WS_E_NOTFOUND, "there is no drive at this path");
    return ws_linux_device_facts_of(s.st_rdev, path, facts, NULL, error);
}

static enum ws_status facts_of(dev_t number, const char *path, struct ws_drive_facts *facts, uint64_t *sequence,
                               struct ws_error *error) {
    memset(facts, 0, sizeof *facts);
    struct udev *udev = udev_new();
    struct udev_device *device = udev ? udev_device_new_from_devnum(udev, 'b', number) : NULL;
    if (!device) {
        udev_unref(udev);
        return ws_fail(error, WS_E_READ, "the system knows nothing about this drive");
    }
    if (sequence) {
        const char *text = udev_device_get_sysattr_value(device, "diskseq");
        *sequence = text ? strtoull(text, NULL, 10) : 0;
    }
    const char *name = udev_device_get_sysname(device);
    (void)snprintf(facts->id, sizeof facts->id, "%s", path);
    facts->kind = WS_DRIVE_DEVICE;
    const char *vendor = udev_device_get_property_value(device, "ID_VENDOR");
    const char *model = udev_device_get_property_value(device, "ID_MODEL");
    const char *serial = udev_device_get_property_value(device, "ID_SERIAL_SHORT");
    copy_trimmed(facts->vendor, sizeof facts->vendor,
                 vendor ? vendor : udev_device_get_sysattr_value(device, "device/vendor"));
    copy_trimmed(facts->model, sizeof facts->model,
                 model ? model : udev_device_get_sysattr_value(device, "device/model"));
    copy_trimmed(facts->serial, sizeof facts->serial,
                 serial ? serial : udev_device_get_sysattr_value(device, "device/serial"));
    if (strncmp(name, "loop", 4) == 0) { /* named on purpose, never listed */
        (void)snprintf(facts->model, sizeof facts->model, "%s", name);
        (void)snprintf(facts->bus, sizeof facts->bus, "loop");
        facts->removable = WS_YES;
        facts->internal = WS_NO;
    } else {
        find_bus(device, facts);
    }
    if (strncmp(facts->vendor, "0x", 2) == 0) facts->vendor[0] = '\0'; /* a number says nothing to a person */
    for (char *c = facts->model; *c; c++)
        if (*c == '_') *c = ' ';
    facts->size = (uint64_t)attribute(device, "size") * 512;
    facts->logical_sector = (uint32_t)attribute(device, "queue/logical_block_size");
    facts->physical_sector = (uint32_t)attribute(device, "queue/physical_block_size");
    facts->optimal_write = (uint32_t)attribute(device, "queue/optimal_io_size");
    facts->erase_unit = (uint32_t)attribute(device, "device/preferred_erase_size"); /* memory cards say it */
    if (facts->logical_sector < 512) facts->logical_sector = 512;
    facts->read_only = attribute(device, "ro") != 0;
    find_mounts(name, facts);
    find_swap(name, facts);
    find_loops(NULL, name, facts);
    ws_linux_find_holders(udev_device_get_syspath(device), facts);
    udev_device_unref(device);
    udev_unref(udev);
    return ws_drive_short_name(facts, error);
}

enum ws_status ws_linux_device_facts_of(dev_t number, const char *path, struct ws_drive_facts *facts,
                                        uint64_t *sequence, struct ws_error *error) {
    static pthread_mutex_t one_at_a_time = PTHREAD_MUTEX_INITIALIZER; /* libudev begins by itself, and not twice */
    (void)pthread_mutex_lock(&one_at_a_time);
    enum ws_status status = facts_of(number, path, facts, sequence, error);
    (void)pthread_mutex_unlock(&one_at_a_time);
    return status;
}
