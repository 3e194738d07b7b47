/* early.c — the first program of a system that stands in a file: it makes that file a disk, and /init goes on.
 *
 * A small initial RAM disk behind the system's own brings it, with the kernel's loop driver (src/system/inside.c); the
 * kernel starts it by "rdinit=/start-inside". It leaves a child behind, in mounts of its own, and becomes /init at
 * once: the system's own initial RAM disk brings the drivers for whatever the drive hangs on. When the drive appears,
 * the child finds NAME.ext4 with the volume that "root=UUID=" names, in one piece, and tells the loop driver where on
 * the partition it lies. The volume around it needs no driver then, is not mounted, and stays clean.
 */
#include "../start.h"
#include "calls.h"

#define OWN "/start-inside.d"
enum {
    DEVICES_MOST = 256,
    TRIES_MOST = 3, /* a device that cannot be read may be one that is not ready */
    PAUSE_MS = 100,
    SAY_AFTER = 250, /* pauses: a system that waits has not given up by then */
    GIVE_UP = 9000,
    MEMORY = 64 << 10, /* one sector, the windows */
    SUPER = 1024,      /* ext4: bytes before the superblock, and the volume's identifier in it */
    SUPER_ID = 0x68
};

struct device {
    char name[64];
    unsigned tries;
};

struct early {
    struct start_machine m;
    uint8_t wanted[16];
    int file; /* the device that is looked at */
    const char *name;
    struct device seen[DEVICES_MOST];
    unsigned count;
    uint8_t memory[MEMORY];
    uint64_t taken;
    bool failed; /* a read of it */
    bool empty;  /* no medium is in it, or not yet */
    bool found, said;
};
static struct early early;

/* To the kernel's log, as an error: it is shown on the console even where a start is quiet. */
static void say(struct start_machine *m, const char *text) {
    static char line[400];
    (void)m;
    size_t n = start_format(line, sizeof line, "<3>start-inside: %s", text);
    long log = open_path(OWN "/dev/kmsg", OPEN_WRITE);
    if (log < 0) return;
    (void)linux_call(CALL_WRITE, log, (long)line, (long)n, 0, 0);
    close_file(log);
}

static bool read_device(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    uint64_t at = lba * m->sector_bytes;
    uint64_t length = (uint64_t)count * m->sector_bytes;
    uint8_t *out = into;
    while (length) {
        long n = linux_call(CALL_PREAD, early.file, (long)out, (long)length, (long)at, 0);
        early.failed |= n <= 0;
        if (n <= 0) return start_fail(m, "sector %U of %s cannot be read", lba, early.name);
        at += (uint64_t)n;
        out += n;
        length -= (uint64_t)n;
    }
    return true;
}

static void *take(struct start_machine *m, uint64_t bytes) {
    (void)m;
    uint64_t at = (early.taken + 15) & ~15ull;
    if (bytes > MEMORY - at) return NULL;
    early.taken = at + bytes;
    return early.memory + at;
}

/* In the kernel's words, most to least: before 5.8 in four steps. A drive that cannot do it directly goes through
 * memory. */
static bool tell_loop(long loop, long file, const struct loop_all *all) {
    if (linux_call(CALL_IOCTL, loop, LOOP_SET_ALL, (long)all, 0, 0) == 0) return true;
    if (linux_call(CALL_IOCTL, loop, LOOP_SET_FILE, file, 0, 0) != 0) return false;
    if (linux_call(CALL_IOCTL, loop, LOOP_SET_PLACE, (long)&all->place, 0, 0) != 0) {
        (void)linux_call(CALL_IOCTL, loop, LOOP_CLEAR_FILE, 0, 0, 0);
        return false;
    }
    (void)linux_call(CALL_IOCTL, loop, LOOP_SET_SECTOR, all->sector, 0, 0);
    (void)linux_call(CALL_IOCTL, loop, LOOP_SET_DIRECT, 1, 0, 0);
    return true;
}

/* The disk /dev/loopN over so many bytes of the device. */
static bool make_disk(const char *name, uint64_t at, uint64_t length) {
    static const char control_path[] = OWN "/dev/loop-control";
    static struct loop_all all;
    char path[96];
    int sector = 512;
    (void)linux_call(CALL_NODE, (long)control_path, NODE_CHARACTER, LOOP_CONTROL, 0, 0); /* if it is not there */
    long control = open_path(control_path, OPEN_BOTH); /* this alone makes the kernel ask for the driver */
    long number = control < 0 ? -1 : linux_call(CALL_IOCTL, control, ASK_FREE_LOOP, 0, 0, 0);
    if (control >= 0) close_file(control);
    if (number < 0) return false;
    (void)start_format(path, sizeof path, OWN "/dev/loop%u", (unsigned)number);
    long loop = open_path(path, OPEN_BOTH);
    (void)start_format(path, sizeof path, OWN "/dev/%s", early.name);
    long file = open_path(path, OPEN_BOTH);
    bool read_only = file < 0;
    if (read_only) file = open_path(path, 0);
    if (loop < 0 || file < 0) return false;
    (void)linux_call(CALL_IOCTL, file, ASK_SECTOR, (long)&sector, 0, 0);
    memset(&all, 0, sizeof all);
    all.file = (uint32_t)file;
    all.sector = (uint32_t)sector;
    all.place.offset = at;
    all.place.size_limit = length;
    all.place.flags = LOOP_DIRECT | (read_only ? LOOP_READ_ONLY : 0);
    (void)start_format((char *)all.place.file_name, sizeof all.place.file_name, "%s", name);
    bool done = tell_loop(loop, file, &all);
    close_file(loop);
    close_file(file);
    return done;
}

static bool is_wanted(void *context, const char *name, struct start_volume *inside) {
    uint8_t id[16];
    (void)context;
    if (!start_disk_peek(&early.m, inside->at + SUPER + SUPER_ID, sizeof id, id)) return true;
    if (memcmp(id, early.wanted, sizeof id) != 0) return true;
    early.found = make_disk(name, inside->at, inside->length);
    if (early.found) return false;
    if (!early.said) say(&early.m, "the loop driver could not be told of the file: is it there?\n");
    early.said = true;
    return true;
}

static void look_at(const char *name) {
    static struct start_volume host, inside;
    char path[96];
    uint64_t bytes = 0;
    (void)start_format(path, sizeof path, OWN "/dev/%s", name);
    long file = open_path(path, 0);
    early.failed = file < 0;
    early.empty = false;
    if (file < 0) return;
    early.file = (int)file;
    early.name = name;
    early.taken = 0;
    memset(&early.m, 0, sizeof early.m);
    early.m.sector_bytes = 512;
    early.m.read = read_device;
    early.m.put = say;
    early.m.take = take;
    (void)linux_call(CALL_IOCTL, file, ASK_BYTES, (long)&bytes, 0, 0);
    early.m.sectors = bytes >> 9;
    early.empty = bytes == 0;
    if (!early.empty && start_mount(&early.m, 0, bytes, &host)) (void)start_inside(&host, &inside, is_wanted, NULL);
    close_file(file);
}

/* Those that hold no files of a drive, or are slow to say that they have nothing in them. */
static bool is_passed_over(const char *name) {
    static const char *const others[] = {"loop", "ram", "zram", "fd", "sr", "dm-", "md", "nbd"};
    for (unsigned i = 0; i < sizeof others / sizeof others[0]; i++)
        if (memcmp(name, others[i], start_length(others[i])) == 0) return true;
    return name[0] == '.' || start_length(name) >= sizeof early.seen[0].name;
}

static void see(const char *name) {
    unsigned i = 0;
    if (is_passed_over(name)) return;
    while (i < early.count && !start_same(early.seen[i].name, name)) i++;
    if (i == DEVICES_MOST) return;
    struct device *d = &early.seen[i];
    if (i == early.count) {
        early.count++;
        (void)start_format(d->name, sizeof d->name, "%s", name);
        for (char *p = d->name; *p; p++)
            if (*p == '!') *p = '/'; /* as the kernel's sysfs writes it */
    }
    if (d->tries >= TRIES_MOST) return;
    look_at(d->name);
    if (!early.empty) d->tries = early.failed ? d->tries + 1 : TRIES_MOST;
}

static void look_at_all(void) {
    static uint8_t names[4096];
    long folder = open_path(OWN "/sys/class/block", OPEN_FOLDER);
    if (folder < 0) return;
    long n;
    while (!early.found && (n = linux_call(CALL_FOLDER, folder, (long)names, sizeof names, 0, 0)) > 0)
        for (long at = 0; at < n && !early.found; at += start_le16(names + at + 16))
            see((const char *)names + at + 19); /* struct linux_dirent64 */
    close_file(folder);
}

static bool read_hex(const char *text, uint8_t id[16]) {
    unsigned digits = 0;
    for (; digits < 32; text++) {
        char c = *text;
        if (c == '-') continue;
        unsigned value = c >= '0' && c <= '9'   ? (unsigned)(c - '0')
                         : c >= 'a' && c <= 'f' ? (unsigned)(c - 'a' + 10)
                         : c >= 'A' && c <= 'F' ? (unsigned)(c - 'A' + 10)
                                                : 16;
        if (value > 15) return false;
        id[digits / 2] = (uint8_t)((unsigned)id[digits / 2] << 4 | value);
        digits++;
    }
    return true;
}

/* The root that the kernel was told of. */
static bool read_wanted(void) {
    static const char sign[] = "root=UUID=";
    static char words[START_OPTIONS_MOST];
    long file = open_path(OWN "/proc/cmdline", 0);
    if (file < 0) return false;
    long n = linux_call(CALL_READ, file, (long)words, sizeof words - 1, 0, 0);
    close_file(file);
    for (const char *p = words; n > 0 && *p; p++)
        if ((p == words || p[-1] == ' ') && start_length(p) >= sizeof sign && memcmp(p, sign, sizeof sign - 1) == 0)
            return read_hex(p + sizeof sign - 1, early.wanted);
    return false;
}

static void mount_one(const char *type, const char *where) {
    (void)linux_call(CALL_MOUNT, (long)type, (long)where, (long)type, 0, 0);
}

static void add_driver(void) {
    long file = open_path(OWN "/loop.ko", 0);
    if (file < 0) return;                                   /* the kernel has it built in */
    (void)linux_call(CALL_MODULE, file, (long)"", 0, 0, 0); /* one that is there already is as good */
    close_file(file);
}

static void wait_for_file(void) {
    const struct { long seconds, nanoseconds; } pause = {0, PAUSE_MS * 1000000L};
    (void)linux_call(CALL_UNSHARE, NEW_MOUNTS, 0, 0, 0, 0);
    (void)linux_call(CALL_MOUNT, (long)"none", (long)"/", 0, MOUNT_RECURSIVE | MOUNT_PRIVATE, 0);
    mount_one("devtmpfs", OWN "/dev");
    mount_one("sysfs", OWN "/sys");
    mount_one("proc", OWN "/proc");
    add_driver();
    if (!read_wanted()) {
        say(&early.m, "the kernel's parameters name no root by its UUID\n");
        return;
    }
    for (unsigned i = 0; i < GIVE_UP; i++) {
        look_at_all();
        if (early.found) return;
        if (i == SAY_AFTER) say(&early.m, "no drive was found with the file of this system, NAME.ext4 at its top\n");
        (void)linux_call(CALL_SLEEP, (long)&pause, 0, 0, 0, 0);
    }
}

/* The stack as the kernel leaves it: the number of arguments, these, NULL, the environment, NULL. */
__attribute__((noreturn, used)) void early_begin(char **stack) {
    char **arguments = stack + 1;
    char **environment = arguments + (long)stack[0] + 1;
    static char init[] = "/init";
    if (linux_call(CALL_FORK, 0, 0, 0, 0, 0) == 0) {
        wait_for_file();
        for (;;) (void)linux_call(CALL_EXIT, 0, 0, 0, 0, 0);
    }
    arguments[0] = init;
    (void)linux_call(CALL_EXEC, (long)init, (long)arguments, (long)environment, 0, 0);
    for (;;) (void)linux_call(CALL_EXIT, 1, 0, 0, 0, 0);
}

__asm__(".globl _start\n_start:\n\txor %ebp, %ebp\n\tmov %rsp, %rdi\n\tand $-16, %rsp\n\tcall early_begin\n");
