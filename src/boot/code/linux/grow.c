/* grow.c — take-room: in a system that runs from a drive, its root takes the room of a drive that is larger than it
 * was made for. Run at every start as root; where there is nothing to take it writes nothing.
 *
 * The partition is made longer in the drive's table (table.c), the kernel is told, and it grows the ext4 volume in use.
 * A locked volume reaches to its partition's end when it is opened the next time: its root grows then. All is done by
 * the kernel's own calls, so that nothing of the root has to be installed for it.
 */
#include "calls.h"
#include "table.h"

enum {
    PATH_MOST = 256,
    MEMORY = 80 << 10, /* two sectors, a table's entries */
    SUPER = 1024,
    BLOCK_SHIFT = 12,
    GROUP_SHIFT = 15 + BLOCK_SHIFT, /* log2 of the bytes of a group of 4 KiB blocks */
    DESCRIPTORS = 64                /* in a block */
};

static struct {
    struct start_machine m;
    long disk;
    uint8_t memory[MEMORY];
    uint64_t taken;
} grow;

static void put(struct start_machine *m, const char *text) {
    (void)m;
    (void)linux_call(CALL_WRITE, 1, (long)text, (long)start_length(text), 0, 0);
}

static bool read_disk(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    long bytes = (long)((uint64_t)count * m->sector_bytes);
    if (linux_call(CALL_PREAD, grow.disk, (long)into, bytes, (long)(lba * m->sector_bytes), 0) == bytes) return true;
    return start_fail(m, "sector %U of the drive cannot be read", lba);
}

static bool write_disk(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    long bytes = (long)((uint64_t)count * m->sector_bytes);
    if (linux_call(CALL_PWRITE, grow.disk, (long)from, bytes, (long)(lba * m->sector_bytes), 0) == bytes &&
        linux_call(CALL_SYNC_FILE, grow.disk, 0, 0, 0, 0) == 0)
        return true;
    return start_fail(m, "sector %U of the drive cannot be written", lba);
}

static void *take(struct start_machine *m, uint64_t bytes) {
    (void)m;
    uint64_t at = (grow.taken + 15) & ~15ull;
    if (bytes > MEMORY - at) return NULL;
    grow.taken = at + bytes;
    return grow.memory + at;
}

/* A small file of the kernel's, as text; empty if it is not there. */
static void read_text(const char *folder, const char *name, char *out, size_t room) {
    char path[PATH_MOST];
    (void)start_format(path, sizeof path, "%s/%s", folder, name);
    long file = open_path(path, 0);
    long n = file < 0 ? 0 : linux_call(CALL_READ, file, (long)out, (long)room - 1, 0, 0);
    out[n > 0 ? n : 0] = '\0';
    if (file >= 0) close_file(file);
}

static uint64_t read_number(const char *folder, const char *name) {
    char text[32];
    uint64_t value = 0;
    read_text(folder, name, text, sizeof text);
    for (const char *p = text; *p >= '0' && *p <= '9'; p++) value = value * 10 + (uint64_t)(*p - '0');
    return value;
}

/* The device that a folder of /sys/dev/block speaks of. @return below 0: it cannot be opened */
static long open_device(const char *folder, long how) {
    static const char sign[] = "DEVNAME=";
    char text[512], path[PATH_MOST];
    read_text(folder, "uevent", text, sizeof text);
    for (char *p = text; *p; p++) {
        if ((p != text && p[-1] != '\n') || start_length(p) < sizeof sign || memcmp(p, sign, sizeof sign - 1) != 0)
            continue;
        char *name = p + sizeof sign - 1;
        for (p = name; *p && *p != '\n'; p++) {
        }
        *p = '\0';
        (void)start_format(path, sizeof path, "/dev/%s", name);
        return open_path(path, how);
    }
    return -1;
}

/* The one device that a mapped one stands on. */
static bool find_under(const char *folder, char out[PATH_MOST]) {
    static uint8_t names[2048];
    char path[PATH_MOST];
    unsigned found = 0;
    (void)start_format(path, sizeof path, "%s/slaves", folder);
    long file = open_path(path, OPEN_FOLDER);
    if (file < 0) return false;
    long n = linux_call(CALL_FOLDER, file, (long)names, sizeof names, 0, 0);
    for (long at = 0; at < n; at += start_le16(names + at + 16)) {
        const char *name = (const char *)names + at + 19; /* struct linux_dirent64 */
        if (name[0] == '.') continue;
        (void)start_format(out, PATH_MOST, "%s/%s", path, name);
        found++;
    }
    close_file(file);
    return found == 1;
}

static bool grow_partition(const char *part) {
    char folder[PATH_MOST], number[16];
    struct start_machine *m = &grow.m;
    int sector = 512;
    uint64_t bytes = 0, length;
    read_text(part, "partition", number, sizeof number);
    if (!number[0]) return start_fail(m, "the root stands in no partition");
    const uint64_t at = read_number(part, "start") << 9;
    const uint64_t was = read_number(part, "size") << 9;
    (void)start_format(folder, sizeof folder, "%s/..", part);
    grow.disk = open_device(folder, OPEN_BOTH);
    if (grow.disk < 0) return start_fail(m, "the drive cannot be opened");
    (void)linux_call(CALL_IOCTL, grow.disk, ASK_SECTOR, (long)&sector, 0, 0);
    (void)linux_call(CALL_IOCTL, grow.disk, ASK_BYTES, (long)&bytes, 0, 0);
    m->sector_bytes = (uint32_t)sector;
    for (m->sectors = bytes; sector > 1; sector >>= 1) m->sectors >>= 1;
    bool done = m->sector_bytes >= 512 && m->sector_bytes <= 4096 && table_grow(m, at, &length) != GROWN_FAILED;
    if (done && length > was) {
        struct partition_place place = {(int64_t)at, (int64_t)length, (int32_t)read_number(part, "partition"), {0}};
        struct partition_order order = {PARTITION_RESIZE, 0, sizeof place, &place};
        start_say(m, "take-room: the partition of this system has %U MiB now, it had %U\n", length >> 20, was >> 20);
        if (linux_call(CALL_IOCTL, grow.disk, TELL_PARTITION, (long)&order, 0, 0) != 0)
            start_say(m, "take-room: the kernel takes note of that at the next start\n");
    }
    close_file(grow.disk);
    return done;
}

/* As many blocks as the device holds, and as there is room for descriptors of: beyond that a kernel changes the form.
 */
static bool grow_volume(const char *device) {
    uint8_t s[1024] = {0};
    struct start_machine *m = &grow.m;
    long file = open_device(device, 0);
    bool read = file >= 0 && linux_call(CALL_PREAD, file, (long)s, sizeof s, SUPER, 0) == sizeof s;
    if (file >= 0) close_file(file);
    if (!read || start_le16(s + 0x38) != 0xef53) return start_fail(m, "the root is no ext4 volume");
    if (start_le32(s + 0x18) != BLOCK_SHIFT - 10 || start_le16(s + 0xfe) != 64) return true; /* made by others */
    const uint64_t has = start_le32(s + 4) | (uint64_t)start_le32(s + 0x150) << 32;
    const uint64_t groups = ((has << BLOCK_SHIFT) + (1ull << GROUP_SHIFT) - 1) >> GROUP_SHIFT;
    const uint64_t described = (groups + DESCRIPTORS - 1) / DESCRIPTORS + start_le16(s + 0xce);
    uint64_t blocks = read_number(device, "size") >> (BLOCK_SHIFT - 9);
    if (blocks > (described * DESCRIPTORS) << (GROUP_SHIFT - BLOCK_SHIFT))
        blocks = (described * DESCRIPTORS) << (GROUP_SHIFT - BLOCK_SHIFT);
    if (blocks <= has) return true;
    long top = open_path("/", OPEN_FOLDER);
    long result = top < 0 ? top : linux_call(CALL_IOCTL, top, VOLUME_GROW, (long)&blocks, 0, 0);
    if (top >= 0) close_file(top);
    if (result != 0) return start_fail(m, "the kernel does not grow the root's volume (%u)", (unsigned)-result);
    if (blocks - has >= 1 << (20 - BLOCK_SHIFT))
        start_say(m, "take-room: the volume of this system has %U MiB now, it had %U\n", blocks >> 8, has >> 8);
    return true;
}

static bool grow_all(void) {
    uint64_t state[18] = {0}; /* struct stat */
    char device[64], part[PATH_MOST];
    struct start_machine *m = &grow.m;
    m->read = read_disk;
    m->write = write_disk;
    m->put = put;
    m->take = take;
    if (linux_call(CALL_STATE, (long)"/", (long)state, 0, 0, 0) != 0) return start_fail(m, "there is no root");
    const uint32_t number = (uint32_t)state[0];
    (void)start_format(device, sizeof device, "/sys/dev/block/%u:%u", number >> 8 & 0xfff,
                       (number & 0xff) | (number >> 12 & 0xfff00));
    read_text(device, "partition", part, sizeof part);
    if (part[0]) (void)start_format(part, sizeof part, "%s", device);
    else if (!find_under(device, part)) return start_fail(m, "the root stands in no partition");
    return grow_partition(part) && grow_volume(device);
}

__attribute__((noreturn, used)) void grow_begin(void) {
    bool done = grow_all();
    if (!done) start_say(&grow.m, "take-room: %s\n", grow.m.error);
    for (;;) (void)linux_call(CALL_EXIT, done ? 0 : 1, 0, 0, 0, 0);
}

__asm__(".globl _start\n_start:\n\txor %ebp, %ebp\n\tand $-16, %rsp\n\tcall grow_begin\n");
