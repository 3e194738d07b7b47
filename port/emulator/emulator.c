/* emulator.c — qemu-system-x86_64 as a PC: SeaBIOS or OVMF, a USB stick, a serial console, a power cord. */
#include "wild_satchel/port/emulator.h"

#include "port/emulator/internal.h"

#include "wild_satchel/port/linux.h"
#include "wild_satchel/table.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static const char program[] = "qemu-system-x86_64";

struct emulator {
    struct ws_pc pc;
    struct ws_emulator_params params;
    char drive[512], variables[64];
    char disk[64], disk_sha256[WS_HASH_HEX]; /* inside it; made when a drive is plugged in */
    int64_t clock;                           /* what it shows at a start; 0: the time it is */
    FILE *log;                               /* what the console says; NULL: nowhere */
    uint32_t sector;                         /* what the drive counts in */
    pid_t pid;
    int in, out; /* the serial console's two ends */
};

/* Firmware as the distribution's package installs it. */
static const struct {
    bool secure;
    const char *code, *variables;
} firmwares[] = {
    {false, "/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"},
    {false, "/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"},
    {true, "/usr/share/OVMF/OVMF_CODE_4M.ms.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"},
    {true, "/usr/share/OVMF/OVMF_CODE.ms.fd", "/usr/share/OVMF/OVMF_VARS.ms.fd"},
};

static int find_firmware(bool secure) {
    for (int i = 0; i < 4; i++)
        if (firmwares[i].secure == secure && access(firmwares[i].code, R_OK) == 0 &&
            access(firmwares[i].variables, R_OK) == 0)
            return i;
    return -1;
}

static enum ws_status describe(struct ws_pc *pc, struct ws_pc_facts *facts, struct ws_error *error) {
    const struct emulator *e = (const struct emulator *)pc;
    (void)error;
    memset(facts, 0, sizeof *facts);
    (void)snprintf(facts->name, sizeof facts->name, "emulated PC (%s)",
                   e->params.firmware == WS_FIRMWARE_BIOS ? "BIOS"
                   : e->params.secure_boot                ? "UEFI, Secure Boot"
                                                          : "UEFI");
    facts->firmware = e->params.firmware;
    facts->secure_boot = e->params.secure_boot;
    return WS_OK;
}

static enum ws_status plug(struct ws_pc *pc, const char *drive_id, struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    if (access(drive_id, R_OK | W_OK) != 0) {
        ws_fail(error, WS_E_NOTFOUND, "the drive cannot be opened: %s", strerror(errno));
        return ws_fail_where(error, "%s", drive_id);
    }
    if (strlen(drive_id) >= sizeof e->drive)
        return ws_fail(error, WS_E_USAGE, "the emulator takes drive paths of at most %zu bytes", sizeof e->drive - 1);
    (void)snprintf(e->drive, sizeof e->drive, "%s", drive_id);
    struct ws_source *drive = NULL;
    WS_TRY(ws_source_file(drive_id, &drive, error));
    e->sector = ws_table_sector_of(drive);
    ws_source_close(drive);
    return e->disk[0] ? WS_OK : emulator_make_disk(e->disk, e->disk_sha256, error);
}

static enum ws_status look_at_disk(struct ws_pc *pc, struct ws_pc_disk *disk, struct ws_error *error) {
    const struct emulator *e = (const struct emulator *)pc;
    disk->sectors = EMULATOR_DISK_SECTORS;
    return emulator_is_disk_touched(e->disk, e->disk_sha256, &disk->touched, error);
}

static void reap(struct emulator *e, bool cut) {
    if (e->pid > 0) {
        if (cut) kill(e->pid, SIGKILL);
        while (waitpid(e->pid, NULL, 0) < 0 && errno == EINTR) {
        }
    }
    if (e->in >= 0) close(e->in);
    if (e->out >= 0) close(e->out);
    if (e->variables[0]) (void)unlink(e->variables);
    e->pid = 0;
    e->in = e->out = -1;
    e->variables[0] = '\0';
}

static enum ws_status unplug(struct ws_pc *pc, struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    (void)error;
    reap(e, true);
    e->drive[0] = '\0';
    return WS_OK;
}

/* Every PC has its own copy of the firmware's variables. */
static enum ws_status copy_variables(struct emulator *e, const char *from, struct ws_error *error) {
    char buffer[65536];
    (void)snprintf(e->variables, sizeof e->variables, "/tmp/satchel-vars-XXXXXX");
    int to = mkstemp(e->variables);
    int in = open(from, O_RDONLY | O_CLOEXEC);
    ssize_t got = -1;
    while (to >= 0 && in >= 0 && (got = read(in, buffer, sizeof buffer)) > 0)
        if (write(to, buffer, (size_t)got) != got) break;
    if (in >= 0) close(in);
    if (to >= 0) close(to);
    return got == 0 ? WS_OK
                    : ws_fail(error, WS_E_READ, "the firmware's variables cannot be copied: %s", strerror(errno));
}

/* The emulator's command line; what its words are made of stands beside them. */
struct arguments {
    const char *argv[48];
    int n;
    char drive[1200], disk[160], stick[128], code[300], variables[300], memory[24], clock[48];
};

static void option(struct arguments *a, const char *name, const char *value) {
    a->argv[a->n++] = name;
    a->argv[a->n++] = value;
}

static enum ws_status make_arguments(struct emulator *e, struct arguments *a, struct ws_error *error) {
    size_t d = (size_t)snprintf(a->drive, sizeof a->drive, "if=none,id=stick,format=raw,cache=writeback,file=");
    for (const char *p = e->drive; *p; p++) { /* a comma divides options unless it is doubled */
        a->drive[d++] = *p;
        if (*p == ',') a->drive[d++] = ',';
    }
    a->drive[d] = '\0';
    (void)snprintf(a->stick, sizeof a->stick,
                   "scsi-hd,bus=usb.0,drive=stick,bootindex=0,logical_block_size=%u,physical_block_size=%u", e->sector,
                   e->sector);
    (void)snprintf(a->memory, sizeof a->memory, "%u", e->params.memory_mib ? e->params.memory_mib : 1024);
    a->argv[a->n++] = program;
    const time_t shows = (time_t)e->clock;
    struct tm t;
    if (e->clock && gmtime_r(&shows, &t) && strftime(a->clock, sizeof a->clock, "base=%Y-%m-%dT%H:%M:%S", &t))
        option(a, "-rtc", a->clock);
    option(a, "-m", a->memory);
    option(a, "-smp", "2"); /* one starves the kernel's own threads: twice the time, and more work in all */
    option(a, "-display", "none");
    option(a, "-monitor", "none");
    option(a, "-serial", "stdio");
    option(a, "-no-reboot", "-nodefaults");
    option(a, "-vga", "std");
    option(a, "-accel", "tcg");
    option(a, "-device", "qemu-xhci");
    option(a, "-drive", a->drive);
    option(a, "-device", "usb-bot,id=usb"); /* USB mass storage; the drive on it may count in any sectors */
    option(a, "-device", a->stick);
    (void)snprintf(a->disk, sizeof a->disk, "if=none,id=inside,format=raw,file=%s", e->disk);
    option(a, "-device", "ich9-ahci,id=sata");
    option(a, "-drive", a->disk);
    option(a, "-device", "ide-hd,drive=inside,bus=sata.0,bootindex=1");
    if (e->params.firmware == WS_FIRMWARE_UEFI) {
        int f = find_firmware(e->params.secure_boot);
        if (f < 0)
            return ws_fail(error, WS_E_NOTFOUND, "the UEFI firmware for the emulator is not installed (package ovmf)");
        WS_TRY(copy_variables(e, firmwares[f].variables, error));
        (void)snprintf(a->code, sizeof a->code, "if=pflash,format=raw,unit=0,readonly=on,file=%s", firmwares[f].code);
        (void)snprintf(a->variables, sizeof a->variables, "if=pflash,format=raw,unit=1,file=%s", e->variables);
        option(a, "-drive", a->code);
        option(a, "-drive", a->variables);
        option(a, "-machine", e->params.secure_boot ? "q35,smm=on" : "q35");
        if (e->params.secure_boot) option(a, "-global", "driver=cfi.pflash01,property=secure,value=on");
    }
    a->argv[a->n] = NULL;
    return WS_OK;
}

static enum ws_status power_on(struct ws_pc *pc, struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    struct arguments a = {.n = 0};
    int down[2], up[2];
    if (!e->drive[0]) return ws_fail(error, WS_E_USAGE, "no drive is plugged into this PC");
    reap(e, true);
    WS_TRY(make_arguments(e, &a, error));
    if (pipe2(down, O_CLOEXEC) != 0) return ws_fail(error, WS_E_READ, "no pipe to the emulator: %s", strerror(errno));
    if (pipe2(up, O_CLOEXEC) != 0) {
        close(down[0]);
        close(down[1]);
        return ws_fail(error, WS_E_READ, "no pipe to the emulator: %s", strerror(errno));
    }
    e->pid = fork();
    if (e->pid == 0) {
        (void)prctl(PR_SET_PDEATHSIG, SIGKILL); /* it does not outlive us */
        (void)dup2(down[0], 0);
        (void)dup2(up[1], 1);
        (void)dup2(up[1], 2); /* why it would not start belongs with what it said */
        (void)execvp(program, (char *const *)(uintptr_t)a.argv);
        _exit(127);
    }
    close(down[0]);
    close(up[1]);
    e->in = down[1];
    e->out = up[0];
    if (e->pid < 0) {
        reap(e, false);
        return ws_fail(error, WS_E_READ, "the emulator cannot be started: %s", strerror(errno));
    }
    return WS_OK;
}

static enum ws_status console_read(struct ws_pc *pc, char *out, size_t room, double wait_s, size_t *got,
                                   struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    struct pollfd p = {.fd = e->out, .events = POLLIN};
    *got = 0;
    if (e->out < 0) return ws_fail(error, WS_E_GONE, "the PC has switched itself off");
    int ready = poll(&p, 1, (int)(wait_s * 1000));
    if (ready <= 0) return WS_OK;
    ssize_t n = read(e->out, out, room);
    if (n < 0) return ws_fail(error, WS_E_READ, "the emulator's console cannot be read: %s", strerror(errno));
    if (n == 0) { /* it has ended */
        close(e->out);
        e->out = -1;
        return ws_fail(error, WS_E_GONE, "the PC has switched itself off");
    }
    *got = (size_t)n;
    if (e->log) {
        (void)fwrite(out, 1, (size_t)n, e->log);
        (void)fflush(e->log);
    }
    return WS_OK;
}

static enum ws_status console_write(struct ws_pc *pc, const char *text, struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    size_t length = strlen(text);
    /* A serial line has no flow control here: a slow guest loses what comes too fast. */
    for (size_t i = 0; i < length && e->in >= 0; i++) {
        if (write(e->in, text + i, 1) != 1) {
            if (errno == EPIPE) return WS_OK;
            return ws_fail(error, WS_E_WRITE, "the emulator's console cannot be written: %s", strerror(errno));
        }
        if (i % 8 == 7) (void)usleep(2000);
    }
    return WS_OK;
}

static time_t monotonic_s(void) {
    struct timespec now;
    return clock_gettime(CLOCK_MONOTONIC, &now) == 0 ? now.tv_sec : 0;
}

static enum ws_status power_off(struct ws_pc *pc, bool clean, struct ws_error *error) {
    struct emulator *e = (struct emulator *)pc;
    char drain[4096];
    const time_t until = monotonic_s() + 240; /* a talkative shutdown is no longer one */
    while (clean && monotonic_s() < until && e->pid > 0) {
        size_t got;
        (void)console_read(pc, drain, sizeof drain, 0.1, &got, NULL);
        if (waitpid(e->pid, NULL, WNOHANG) == e->pid) {
            e->pid = 0;
            reap(e, false);
            return WS_OK;
        }
        if (e->out < 0) (void)usleep(100000);
    }
    bool late = clean && e->pid > 0;
    reap(e, true);
    return late ? ws_fail(error, WS_E_READ, "the system did not shut down within four minutes; its power was cut")
                : WS_OK;
}

static enum ws_status set_clock(struct ws_pc *pc, int64_t at, struct ws_error *error) {
    (void)error;
    ((struct emulator *)pc)->clock = at;
    return WS_OK;
}

static void close_pc(struct ws_pc *pc) {
    reap((struct emulator *)pc, true);
    if (((struct emulator *)pc)->log) (void)fclose(((struct emulator *)pc)->log);
    if (((struct emulator *)pc)->disk[0]) (void)unlink(((struct emulator *)pc)->disk);
    free(pc);
}

/* A new file, or an older record to be added to: nothing else is written to. */
static enum ws_status open_log(const char *path, FILE **log, struct ws_error *error) {
    static const char first[] = "wild satchel console\n";
    char line[sizeof first] = "";
    struct stat s;
    int fd = open(path, O_RDWR | O_CREAT | O_APPEND | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC, 0666);
    if (fd < 0 || fstat(fd, &s) != 0 || !S_ISREG(s.st_mode) ||
        (s.st_size > 0 &&
         (pread(fd, line, sizeof first - 1, 0) != (ssize_t)sizeof first - 1 || strcmp(line, first) != 0))) {
        if (fd < 0) ws_fail(error, WS_E_WRITE, "the console's record cannot be opened: %s", strerror(errno));
        else ws_fail(error, WS_E_REFUSED, "this is no record of a console; nothing is added to it");
        if (fd >= 0) close(fd);
        ws_fail_where(error, "%s", path);
        return ws_fail_next(error, "give it another name");
    }
    *log = fdopen(fd, "a");
    if (!*log) {
        close(fd);
        return ws_fail(error, WS_E_NOMEM, "out of memory for the console's record");
    }
    if (s.st_size == 0) (void)fputs(first, *log);
    return WS_OK;
}

static bool on_path(void) {
    const char *path = getenv("PATH");
    char one[600];
    while (path && *path) {
        size_t n = strcspn(path, ":");
        (void)snprintf(one, sizeof one, "%.*s/%s", (int)(n < 500 ? n : 500), path, program);
        if (access(one, X_OK) == 0) return true;
        path += n + (path[n] == ':');
    }
    return false;
}

enum ws_status ws_emulator_pc(const struct ws_emulator_params *params, struct ws_pc **pc, struct ws_error *error) {
    static const struct ws_pc_ops ops = {describe,      plug,      unplug,       power_on,  console_read,
                                         console_write, power_off, look_at_disk, set_clock, close_pc};
    if (!on_path()) {
        ws_fail(error, WS_E_NOTFOUND, "no PC emulator is installed");
        return ws_fail_next(error, "install the package qemu-system-x86");
    }
    if (params->firmware == WS_FIRMWARE_UEFI && find_firmware(params->secure_boot) < 0) {
        ws_fail(error, WS_E_NOTFOUND, "the emulator's UEFI firmware is not installed");
        return ws_fail_next(error, "install the package ovmf");
    }
    struct emulator *e = calloc(1, sizeof *e);
    if (!e) return ws_fail(error, WS_E_NOMEM, "out of memory for a PC");
    e->pc.ops = &ops;
    e->params = *params;
    e->params.log_path = NULL;
    e->in = e->out = -1;
    if (params->log_path) {
        enum ws_status status = open_log(params->log_path, &e->log, error);
        if (status != WS_OK) {
            free(e);
            return status;
        }
    }
    (void)signal(SIGPIPE, SIG_IGN);
    *pc = &e->pc;
    return WS_OK;
}
