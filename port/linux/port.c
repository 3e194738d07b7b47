/* port.c — the machine itself: clocks, random bytes, tasks, and the list of its drives. */
#include "wild_satchel/port/linux.h"

#include "port/linux/internal.h"

#include <dirent.h>
#include <errno.h>
#include <libudev.h>
#include <poll.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <time.h>

struct linux_port {
    struct ws_port port;
    struct udev *udev; /* both made when drives are first watched */
    struct udev_monitor *monitor;
};

struct ws_task {
    pthread_t thread;
    bool threaded;
    void (*work)(void *context);
    void *context;
};

static void *run_task(void *argument) {
    struct ws_task *task = argument;
    task->work(task->context);
    return NULL;
}

enum ws_status ws_linux_start(struct ws_port *port, void (*work)(void *context), void *context, struct ws_task **task,
                              struct ws_error *error) {
    (void)port;
    struct ws_task *made = malloc(sizeof *made);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory for a task");
    made->work = work;
    made->context = context;
    made->threaded = pthread_create(&made->thread, NULL, run_task, made) == 0;
    if (!made->threaded) work(context); /* no thread to be had: at once, then */
    *task = made;
    return WS_OK;
}

void ws_linux_join(struct ws_port *port, struct ws_task *task) {
    (void)port;
    if (task->threaded) (void)pthread_join(task->thread, NULL);
    free(task);
}

enum ws_status ws_linux_random(struct ws_port *port, void *bytes, size_t length, struct ws_error *error) {
    (void)port;
    char *p = bytes;
    while (length > 0) {
        ssize_t got = getrandom(p, length > 256 ? 256 : length, 0);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) return ws_fail(error, WS_E_READ, "the system gives no random bytes: %s", strerror(errno));
        p += got;
        length -= (size_t)got;
    }
    return WS_OK;
}

int64_t ws_linux_wall_clock(struct ws_port *port) {
    (void)port;
    return (int64_t)time(NULL);
}

double ws_linux_steady_clock(struct ws_port *port) {
    struct timespec now;
    (void)port;
    (void)clock_gettime(CLOCK_MONOTONIC, &now);
    return (double)now.tv_sec + (double)now.tv_nsec / 1e9;
}

bool ws_linux_pause(struct ws_port *port, double seconds) {
    struct timespec left = {(time_t)seconds, (long)((seconds - (double)(time_t)seconds) * 1e9)};
    (void)port;
    (void)nanosleep(&left, NULL); /* a signal ends it early: who waits looks again */
    return true;
}

/* Tells by itself when a drive comes or goes, where rules have been applied to it already; else every second. */
static enum ws_status watch(struct ws_port *port, double seconds, struct ws_error *error) {
    struct linux_port *p = (struct linux_port *)port;
    (void)error;
    if (!p->udev) p->udev = udev_new();
    if (p->udev && !p->monitor) {
        p->monitor = udev_monitor_new_from_netlink(p->udev, "udev");
        if (p->monitor) (void)udev_monitor_filter_add_match_subsystem_devtype(p->monitor, "block", "disk");
        if (p->monitor) (void)udev_monitor_enable_receiving(p->monitor);
    }
    struct pollfd fd = {p->monitor ? udev_monitor_get_fd(p->monitor) : -1, POLLIN, 0};
    const double most = seconds < 1 ? seconds : 1;
    if (poll(&fd, 1, (int)(most * 1000)) > 0) udev_device_unref(udev_monitor_receive_device(p->monitor));
    return WS_OK;
}

/* Whole devices only; those that are made of other things (loops, RAM, mappings, discs) are not drives to build on. */
static bool is_drive_name(const char *name) {
    static const char *const others[] = {"loop", "ram", "zram", "dm-", "md", "sr", "fd", "nbd"};
    if (name[0] == '.') return false;
    for (size_t i = 0; i < sizeof others / sizeof others[0]; i++)
        if (strncmp(name, others[i], strlen(others[i])) == 0) return false;
    return true;
}

static enum ws_status list_drives(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *error) {
    (void)port;
    DIR *folder = opendir("/sys/block");
    if (!folder && errno == ENOENT) return WS_OK; /* a bare root without /sys, where no drive could be opened either */
    if (!folder) return ws_fail(error, WS_E_READ, "the list of drives cannot be read: %s", strerror(errno));
    struct dirent *entry;
    while ((entry = readdir(folder))) {
        char path[300];
        struct ws_drive_facts facts;
        if (!is_drive_name(entry->d_name)) continue;
        (void)snprintf(path, sizeof path, "/dev/%s", entry->d_name);
        if (ws_linux_device_facts(path, &facts, NULL) != WS_OK) continue; /* went away meanwhile */
        if (!visit(context, &facts)) break;
    }
    closedir(folder);
    return WS_OK;
}

void ws_linux_this_pc(struct ws_pc_facts *facts) {
    struct stat s;
    uint8_t value[5] = {0}; /* four bytes of attributes, then the variable (UEFI 2.10, section 3.3) */
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->name, sizeof facts->name, "this PC");
    facts->firmware = stat("/sys/firmware/efi", &s) == 0 ? WS_FIRMWARE_UEFI : WS_FIRMWARE_BIOS;
    FILE *f = fopen("/sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c", "rb");
    facts->secure_boot = f && fread(value, 1, sizeof value, f) == sizeof value && value[4] == 1;
    if (f) fclose(f);
}

static void close_port(struct ws_port *port) {
    struct linux_port *p = (struct linux_port *)port;
    if (p->monitor) udev_monitor_unref(p->monitor);
    if (p->udev) udev_unref(p->udev);
    free(p);
}

void ws_port_close(struct ws_port *port) {
    if (port) port->ops->close(port);
}

enum ws_status ws_linux_open(struct ws_port **port, struct ws_error *error) {
    static const struct ws_port_ops ops = {
        .list = list_drives,
        .open = ws_linux_open_drive,
        .wall_clock = ws_linux_wall_clock,
        .steady_clock = ws_linux_steady_clock,
        .random = ws_linux_random,
        .start = ws_linux_start,
        .join = ws_linux_join,
        .pause = ws_linux_pause,
        .watch = watch,
        .close = close_port,
    };
    struct linux_port *made = calloc(1, sizeof *made);
    if (!made) return ws_fail(error, WS_E_NOMEM, "out of memory for the port");
    made->port.ops = &ops;
    *port = &made->port;
    return WS_OK;
}
