/* facts.c — who a block device is, from udev and sysfs, and who uses it. */
#include "port/linux/internal.h"

#include <ctype.h>
#include <dirent.h>
#include <libudev.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

static void copy_trimmed(char *out, size_t room, const char *in) {
    if (!in) return;
    while (isspace((unsigned char)*in)) in++;
    (void)snprintf(out, room, "%s", in);
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
    memset(facts, 0, sizeof *facts);
    if (stat(path, &s) != 0 || !S_ISBLK(s.st_mode))
        return ws_fail(error, WS_E_NOTFOUND, "there is no drive at this path");
    struct udev *udev = udev_new();
    struct udev_device *device = udev ? udev_device_new_from_devnum(udev, 'b', s.st_rdev) : NULL;
    if (!device) {
        udev_unref(udev);
        return ws_fail(error, WS_E_READ, "the system knows nothing about this drive");
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
    ws_linux_find_holders(udev_device_get_syspath(device), facts);
    udev_device_unref(device);
    udev_unref(udev);
    return ws_drive_short_name(facts, error);
}
