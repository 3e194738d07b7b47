/* test_port.c — the Linux port on files and loop devices: identity, exclusiveness, caches; folders as trees. */
#include "tests/harness.h"

#include "demo/demo_image.h"

#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static struct ws_port *linux_port(void) {
    static struct ws_port *port;
    if (!port && ws_linux_open(&port, &error) != WS_OK) abort();
    return port;
}

static bool no_listed_drive_is_a_loop(void *context, const struct ws_drive_facts *f) {
    (*(int *)context)++;
    CHECK(strncmp(f->id, "/dev/loop", 9) != 0);
    CHECK(f->short_name[0] && f->logical_sector >= 512);
    return true;
}

static void the_list_holds_drives_only(void) {
    int count = 0;
    OK(linux_port()->ops->list(linux_port(), no_listed_drive_is_a_loop, &count, &error));
}

/* The disk that this test runs from must never be a target. */
static bool refuse_the_running_system(void *context, const struct ws_drive_facts *f) {
    struct ws_target_rules rules = {true};
    (void)context;
    if (f->system || f->in_use_by[0]) CHECK_INT(ws_drive_may_write(f, &rules, &error), WS_E_REFUSED);
    if (strcmp(f->bus, "virtio") == 0 || strcmp(f->bus, "nvme") == 0 || strcmp(f->bus, "ata") == 0) {
        CHECK_INT(f->internal, WS_YES);
        CHECK_INT(ws_drive_may_write(f, &rules, &error), WS_E_REFUSED);
    }
    return true;
}

static void the_running_system_is_refused(void) {
    OK(linux_port()->ops->list(linux_port(), refuse_the_running_system, NULL, &error));
}

static void plain_files_are_drives(void) {
    const char *path = scratch("file.img");
    struct ws_drive *d = NULL;
    struct ws_drive_facts f;
    char block[8192], back[8192];
    CHECK_INT(shell(NULL, "truncate -s 3M '%s'", path), 0);
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_WRITE, &d, &error));
    OK(d->ops->describe(d, &f, &error));
    CHECK_INT(f.kind, WS_DRIVE_FILE);
    CHECK_INT(f.size, 3 * MIB);
    random_bytes(block, sizeof block);
    OK(d->ops->write(d, 512, block, 512 * 5, &error)); /* small and odd: through the cache */
    OK(d->ops->flush(d, &error));
    OK(d->ops->reread(d, &error));
    OK(d->ops->read(d, 512, back, 512 * 5, &error));
    CHECK(memcmp(block, back, 512 * 5) == 0);
    char *aligned = aligned_alloc(4096, 2 * MIB);
    random_bytes(aligned, 64);
    memset(aligned + 64, 7, 2 * MIB - 64);
    OK(d->ops->write(d, MIB, aligned, 2 * MIB, &error)); /* large and aligned: past it */
    OK(d->ops->reread(d, &error));
    OK(d->ops->read(d, MIB, back, 4096, &error));
    CHECK(memcmp(aligned, back, 4096) == 0);
    FAILS(d->ops->read(d, 3 * MIB, back, 512, &error), WS_E_READ);
    CHECK_HAS(error.what, "byte");
    (void)d->ops->discard(d, MIB, MIB, &error);
    OK(d->ops->release(d, &error));
    d->ops->close(d);
    free(aligned);
    FAILS(linux_port()->ops->open(linux_port(), scratch("nowhere"), WS_OPEN_READ, &d, &error), WS_E_NOTFOUND);
    CHECK_HAS(error.next, "satchel drives");
    FAILS(linux_port()->ops->open(linux_port(), "/tmp", WS_OPEN_READ, &d, &error), WS_E_NOTFOUND);
    struct ws_source *s = NULL;
    FAILS(ws_source_file("/tmp", &s, &error), WS_E_READ);
    FAILS(ws_source_file(scratch("nowhere"), &s, &error), WS_E_NOTFOUND);
}

static void a_file_that_becomes_shorter_is_an_error(void) {
    const char *path = scratch("shrinks.bin");
    struct ws_source *s = NULL;
    char back[100];
    CHECK_INT(shell(NULL, "truncate -s 10000 '%s'", path), 0);
    OK(ws_source_file(path, &s, &error));
    CHECK_INT(truncate(path, 5000), 0);
    FAILS(ws_source_read(s, 6000, back, 100, &error), WS_E_READ);
    CHECK_HAS(error.what, "shorter");
    ws_source_close(s);
}

static void files_have_one_name_from_anywhere(void) {
    char here[400];
    struct ws_drive *a = NULL, *b = NULL;
    struct ws_drive_facts fa, fb;
    const char *path = scratch("same.img");
    CHECK(getcwd(here, sizeof here) != NULL);
    CHECK_INT(shell(NULL, "truncate -s 1M '%s'", path), 0);
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_READ, &a, &error));
    char folder[400];
    snprintf(folder, sizeof folder, "%.*s", (int)(strrchr(path, '/') - path), path);
    CHECK_INT(chdir(folder), 0);
    OK(linux_port()->ops->open(linux_port(), "same.img", WS_OPEN_READ, &b, &error));
    OK(a->ops->describe(a, &fa, &error));
    OK(b->ops->describe(b, &fb, &error));
    CHECK_STR(fa.id, fb.id);
    CHECK_STR(fa.short_name, fb.short_name);
    CHECK_INT(chdir(here), 0);
    a->ops->close(a);
    b->ops->close(b);
}

/* A whole build onto a real block device, then the kernel mounts what is behind the image. */
static void a_block_device_is_built_on_and_mounted(void) {
    if (!may_mount()) {
        skip_test("needs root and loop devices");
        return;
    }
    const char *path = scratch("device.img");
    char device[64];
    struct demo_params dp = {.family = "casper", .table = DEMO_GPT};
    struct demo_image image;
    struct ws_drive *d = NULL, *second = NULL;
    struct ws_drive_facts f;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct planned p;
    CHECK_INT(shell(NULL, "truncate -s 128M '%s'", path), 0);
    if (!loop_attach(path, device)) return;
    OK(linux_port()->ops->open(linux_port(), device, WS_OPEN_WRITE, &d, &error));
    OK(d->ops->describe(d, &f, &error));
    CHECK_INT(f.kind, WS_DRIVE_DEVICE);
    CHECK_INT(f.size, 128 * MIB);
    FAILS(linux_port()->ops->open(linux_port(), device, WS_OPEN_WRITE, &second, &error), WS_E_REFUSED); /* exclusive */
    OK(demo_image_make(&dp, &image, &error));
    planned_begin(&p, WS_KIND_LIVE, &f);
    OK(ws_source_hash(image.source, WS_HASH_SHA256, p.request.input[WS_INPUT_IMAGE].sha256, &error));
    OK(planned_prepare(&p, image.source, &build));
    struct ws_build_options o = {.confirm = f.short_name};
    OK(ws_build_carry_out(build, plain_port(), d, &o, &result,
                          &error)); /* a demo image is read by one task at a time */
    d->ops->close(d);
    loop_detach(device);
    char part[64];
    const char *volume = scratch("part.img");
    CHECK_INT(shell(NULL, "dd if='%s' of='%s' bs=1M skip=%llu count=%llu status=none", path, volume,
                    (unsigned long long)VOLUME(p, PERSISTENCE)->at / MIB,
                    (unsigned long long)VOLUME(p, PERSISTENCE)->size / MIB + 1),
              0);
    if (loop_attach(volume, part)) {
        const char *place = scratch("casper-volume");
        if (mount_at(part, "ext4", NULL, place)) {
            struct ws_drive_facts mounted;
            OK(ws_linux_device_facts(part, &mounted, &error)); /* now it is in use, and says by whom */
            CHECK_HAS(mounted.in_use_by, "casper-volume");
            struct ws_target_rules rules = {true};
            CHECK_INT(ws_drive_may_write(&mounted, &rules, &error), WS_E_REFUSED);
            FAILS(linux_port()->ops->open(linux_port(), part, WS_OPEN_WRITE, &second, &error), WS_E_REFUSED);
            CHECK_INT(shell(NULL, "mkdir '%s/upper' && echo kept > '%s/upper/file'", place, place), 0);
            unmount(place);
        }
        loop_detach(part);
    }
    ws_build_close(build);
    demo_image_free(&image);
}

/* Each rule that keeps a drive from being a target, on devices that are really in that state. */
static void devices_in_use_are_refused(void) {
    if (!may_mount()) {
        skip_test("needs root and loop devices");
        return;
    }
    const char *path = scratch("guarded.img");
    char device[64];
    struct ws_drive_facts f;
    struct ws_drive *d = NULL;
    struct ws_target_rules rules = {true};
    CHECK_INT(shell(NULL, "truncate -s 64M '%s'", path), 0);
    if (!loop_attach(path, device)) return;
    OK(ws_linux_device_facts(device, &f, &error));
    OK(ws_drive_may_write(&f, &rules, &error)); /* free: the refusals below come from what is done next */
    if (shell(NULL, "mkswap %s && swapon %s", device, device) == 0) {
        OK(ws_linux_device_facts(device, &f, &error));
        CHECK_HAS(f.in_use_by, "swap");
        FAILS(ws_drive_may_write(&f, &rules, &error), WS_E_REFUSED);
        FAILS(linux_port()->ops->open(linux_port(), device, WS_OPEN_WRITE, &d, &error), WS_E_REFUSED);
        CHECK_INT(shell(NULL, "swapoff %s", device), 0);
    }
    loop_detach(device);
    struct ws_text out = {0};
    if (shell(&out, "losetup -r -f --show '%s'", path) == 0) { /* its write-protect switch is on */
        char locked[64];
        snprintf(locked, sizeof locked, "%.*s", (int)strcspn(out.data, "\n"), out.data);
        OK(ws_linux_device_facts(locked, &f, &error));
        CHECK(f.read_only);
        FAILS(ws_drive_may_write(&f, &rules, &error), WS_E_REFUSED);
        CHECK_HAS(error.what, "write-protected");
        loop_detach(locked);
    }
    ws_text_free(&out);
}

/* Arrays, volume groups and encrypted volumes, in a folder made like the kernel's. */
static void holders_are_told_by_their_kind(void) {
    static const char *const wanted[] = {"md0 (disk array)", "dm-0 (encrypted volume)", "dm-1 (volume group)", "dm-2"};
    const char *sysfs = scratch("sys-sdx");
    struct ws_drive_facts f = {.size = 1 << 30, .removable = WS_YES, .internal = WS_NO};
    struct ws_target_rules rules = {true};
    CHECK_INT(
        shell(NULL,
              "mkdir -p '%s/holders/md0' '%s/sdx1/holders/dm-0/dm' '%s/sdx2/holders/dm-1/dm' '%s/sdx2/holders/dm-2/dm' "
              "'%s/queue/holders/no' && cd '%s' && echo 1 > sdx1/partition && echo 2 > sdx2/partition && echo "
              "CRYPT-LUKS2-a > sdx1/holders/dm-0/dm/uuid && echo LVM-b > sdx2/holders/dm-1/dm/uuid && echo other > "
              "sdx2/holders/dm-2/dm/uuid",
              sysfs, sysfs, sysfs, sysfs, sysfs, sysfs),
        0);
    OK(ws_drive_may_write(&f, &rules, &error));
    ws_linux_find_holders(sysfs, &f);
    for (size_t i = 0; i < 4; i++) CHECK_HAS(f.in_use_by, wanted[i]);
    CHECK(!strstr(f.in_use_by, "no"));
    FAILS(ws_drive_may_write(&f, &rules, &error), WS_E_REFUSED);
    CHECK_HAS(error.what, "disk array");
}

/* An image that lies on the drive it would be written to, under any name. */
static void an_image_on_its_own_drive_is_refused(void) {
    const char *path = scratch("own.img");
    struct ws_drive *d = NULL;
    char twin[400], device[64];
    snprintf(twin, sizeof twin, "%s-twin", path);
    FAILS(ws_linux_make_file("/nowhere/at/all.img", 1 << 20, &error), WS_E_WRITE);
    OK(ws_linux_make_file(path, 32 * MIB, &error));
    FAILS(ws_linux_make_file(path, 32 * MIB, &error), WS_E_REFUSED);
    CHECK_INT(shell(NULL, "ln '%s' '%s'", path, twin), 0);
    char prefixed[420];
    snprintf(prefixed, sizeof prefixed, "file:%s", path);
    OK(linux_port()->ops->open(linux_port(), prefixed, WS_OPEN_READ, &d, &error));
    FAILS(ws_drive_is_not(d, twin, &error), WS_E_REFUSED);
    OK(ws_drive_is_not(d, "/etc/hostname", &error));
    d->ops->close(d);
    if (!may_mount() || !loop_attach(path, device)) return;
    OK(linux_port()->ops->open(linux_port(), device, WS_OPEN_READ, &d, &error));
    FAILS(ws_drive_is_not(d, device, &error), WS_E_REFUSED);
    OK(d->ops->release(d, &error));
    d->ops->close(d);
    loop_detach(device);
}

static void a_folder_becomes_a_tree(void) {
    char folder[300];
    snprintf(folder, sizeof folder, "%s", scratch("folder"));
    CHECK_INT(shell(NULL,
                    "mkdir -p '%s/a/b' && cd '%s' && echo one > a/one && ln a/one a/b/two && ln -s ../one a/b/link && "
                    "mkfifo pipe && : > empty && chmod 4711 a/one && touch -d @1234567890 a",
                    folder, folder),
              0);
    struct ws_tree *tree = NULL;
    OK(ws_tree_from_folder(folder, &tree, &error));
    compare_with_folder(tree, folder, TREE_OWNERS);
    CHECK_INT(ws_tree_count(tree), 8);
    CHECK(ws_tree_find(tree, "a/one")->same_as == ws_tree_find(tree, "a/b/two") ||
          ws_tree_find(tree, "a/b/two")->same_as == ws_tree_find(tree, "a/one"));
    ws_tree_close(tree);
    FAILS(ws_tree_from_folder("/nowhere", &tree, &error), WS_E_READ);
}

static void the_clocks_and_the_dice_work(void) {
    uint8_t a[32], b[32];
    struct ws_port *port = linux_port();
    CHECK(port->ops->wall_clock(port) > 1700000000);
    double t = port->ops->steady_clock(port);
    usleep(2000);
    CHECK(port->ops->steady_clock(port) > t);
    OK(port->ops->random(port, a, sizeof a, &error));
    OK(port->ops->random(port, b, sizeof b, &error));
    CHECK(memcmp(a, b, sizeof a) != 0);
}

/* What is on a drive, as `satchel drives` tells it. */
static void contents_are_named(void) {
    static const struct {
        uint64_t at;
        const char *bytes;
        size_t length;
        const char *system;
    } cases[] = {{3, "NTFS    ", 8, "NTFS"},
                 {3, "EXFAT   ", 8, "exFAT (damaged)"},
                 {0, "XFSB", 4, "XFS"},
                 {65600, "_BHRfS_M", 8, "Btrfs"},
                 {0, "LUKS\xba\xbe", 6, "LUKS"},
                 {4086, "SWAPSPACE2", 10, "swap"},
                 {0, "", 0, "empty"},
                 {100, "x", 1, "unknown"}};
    struct ws_contents *c = malloc(sizeof *c);
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        uint8_t *bytes = calloc(1, 2 * MIB);
        struct ws_source *s = NULL;
        memcpy(bytes + cases[i].at, cases[i].bytes, cases[i].length);
        OK(ws_source_memory(bytes, 2 * MIB, &s, &error));
        OK(ws_contents_look(s, 512, false, c, &error));
        CHECK_INT(c->parts, 1);
        CHECK_STR(c->part[0].system, cases[i].system);
        CHECK_INT(c->blank, strcmp(cases[i].system, "empty") == 0);
        ws_source_close(s);
        free(bytes);
    }
    free(c);
}

/* A file that others use is no target: another build, an emulator, a loop device. */
static void a_file_in_use_is_refused(void) {
    const char *path = scratch("used.img");
    struct ws_drive *d = NULL, *other = NULL;
    struct ws_drive_facts f;
    struct ws_target_rules rules = {true};
    char device[64];
    CHECK_INT(shell(NULL, "truncate -s 3M '%s'", path), 0);
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_WRITE, &d, &error));
    FAILS(linux_port()->ops->open(linux_port(), path, WS_OPEN_WRITE, &other, &error), WS_E_REFUSED);
    CHECK_HAS(error.what, "in use");
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_READ, &other, &error)); /* looking is allowed */
    other->ops->close(other);
    d->ops->close(d);
    int fd = open(path, O_RDWR | O_CLOEXEC);
    struct flock lock = {.l_type = F_RDLCK, .l_whence = SEEK_SET, .l_start = 100, .l_len = 1}; /* as emulators do */
    CHECK_INT(fcntl(fd, F_OFD_SETLK, &lock), 0);
    FAILS(linux_port()->ops->open(linux_port(), path, WS_OPEN_WRITE, &other, &error), WS_E_REFUSED);
    close(fd);
    if (!may_mount() || !loop_attach(path, device)) return;
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_READ, &d, &error));
    OK(d->ops->describe(d, &f, &error));
    CHECK_HAS(f.in_use_by, "loop");
    FAILS(ws_drive_may_write(&f, &rules, &error), WS_E_REFUSED);
    loop_detach(device);
    OK(d->ops->describe(d, &f, &error));
    CHECK_STR(f.in_use_by, "");
    d->ops->close(d);
}

/* What is described and written is what was opened, whatever has its name by then. */
static void a_name_that_changes_hands_is_not_followed(void) {
    char path[400], aside[400], back[4096];
    struct ws_drive *d = NULL;
    struct ws_drive_facts f;
    char *block = aligned_alloc(4096, 4096);
    snprintf(path, sizeof path, "%s", scratch("name.img"));
    snprintf(aside, sizeof aside, "%s", scratch("aside.img"));
    CHECK_INT(shell(NULL, "truncate -s 1M '%s'", path), 0);
    OK(linux_port()->ops->open(linux_port(), path, WS_OPEN_WRITE, &d, &error));
    CHECK_INT(shell(NULL, "mv '%s' '%s' && truncate -s 2M '%s'", path, aside, path), 0);
    memset(block, 7, 4096);
    OK(d->ops->describe(d, &f, &error));
    CHECK_INT(f.size, MIB);
    OK(d->ops->write(d, 0, block, 4096, &error)); /* aligned: by the handle that goes past the cache */
    OK(d->ops->flush(d, &error));
    d->ops->close(d);
    int fd = open(aside, O_RDONLY);
    CHECK_INT(pread(fd, back, sizeof back, 0), 4096);
    CHECK(memcmp(back, block, 4096) == 0);
    close(fd);
    fd = open(path, O_RDONLY);
    CHECK_INT(pread(fd, back, sizeof back, 0), 4096);
    CHECK_INT(back[0], 0);
    close(fd);
    free(block);
}

/* A folder's files are inputs, each of them. */
static void a_folder_that_holds_the_target_is_found(void) {
    char folder[400], file[460];
    struct ws_drive *d = NULL;
    snprintf(folder, sizeof folder, "%s", scratch("inputs"));
    CHECK_INT(
        shell(NULL, "mkdir -p '%s/a/b' && truncate -s 1M '%s/a/b/t.img' && echo x > '%s/a/y'", folder, folder, folder),
        0);
    snprintf(file, sizeof file, "%s/a/b/t.img", folder);
    OK(linux_port()->ops->open(linux_port(), file, WS_OPEN_WRITE, &d, &error));
    FAILS(ws_drive_is_not(d, folder, &error), WS_E_REFUSED);
    snprintf(file, sizeof file, "%s/a/y", folder);
    OK(ws_drive_is_not(d, file, &error));
    d->ops->close(d);
}

/* Documents never cost another file. */
static void documents_replace_only_their_kind(void) {
    char folder[400], path[700], input[700];
    static const char mine[] = "{\"format\": \"one\"}\n";
    snprintf(folder, sizeof folder, "%s", scratch("kept"));
    CHECK_INT(shell(NULL,
                    "mkdir -p '%s' && cd '%s' && echo notes > notes && echo input > input && ln -s input link && "
                    "mkdir sub && mkfifo pipe && echo '{\"format\": \"two\"}' > two",
                    folder, folder),
              0);
    snprintf(input, sizeof input, "%s/input", folder);
    const char *never[] = {input, NULL};
    static const struct {
        const char *name;
        bool over;
        enum ws_status wanted;
    } cases[] = {{"fresh", false, WS_OK},      {"fresh", false, WS_OK},      {"notes", false, WS_E_REFUSED},
                 {"notes", true, WS_OK},       {"two", false, WS_E_REFUSED}, {"input", true, WS_E_REFUSED},
                 {"link", true, WS_E_REFUSED}, {"sub", true, WS_E_REFUSED},  {"pipe", true, WS_E_REFUSED},
                 {"sub/", true, WS_E_REFUSED}, {"..", true, WS_E_REFUSED},   {"nowhere/x", false, WS_E_WRITE},
                 {"sub/inside", false, WS_OK}, {"sub/inside", false, WS_OK}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_keep keep = {"one", cases[i].over, never, 2};
        snprintf(path, sizeof path, "%s/%s", folder, cases[i].name);
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_linux_keep(path, mine, sizeof mine - 1, &keep, &error);
        if (status != cases[i].wanted) fail_at(__FILE__, __LINE__, "%s: %s", cases[i].name, error.what);
    }
    struct ws_text out = {0};
    shell(&out, "cd '%s' && cat input && cat two && ls -A . sub | grep -c '^.satchel'", folder);
    CHECK_STR(out.data, "input\n{\"format\": \"two\"}\n0\n");
    ws_text_free(&out);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"the list holds drives only", the_list_holds_drives_only},
        {"the running system is refused", the_running_system_is_refused},
        {"plain files are drives", plain_files_are_drives},
        {"a file that becomes shorter is an error", a_file_that_becomes_shorter_is_an_error},
        {"files have one name from anywhere", files_have_one_name_from_anywhere},
        {"a block device is built on and mounted", a_block_device_is_built_on_and_mounted},
        {"devices in use are refused", devices_in_use_are_refused},
        {"holders are told by their kind", holders_are_told_by_their_kind},
        {"an image on its own drive is refused", an_image_on_its_own_drive_is_refused},
        {"a folder becomes a tree", a_folder_becomes_a_tree},
        {"the clocks and the dice work", the_clocks_and_the_dice_work},
        {"contents are named", contents_are_named},
        {"a file in use is refused", a_file_in_use_is_refused},
        {"a name that changes hands is not followed", a_name_that_changes_hands_is_not_followed},
        {"a folder that holds the target is found", a_folder_that_holds_the_target_is_found},
        {"documents replace only their kind", documents_replace_only_their_kind},
        {NULL, NULL}};
    int code = run_tests(argc, argv, tests);
    ws_port_close(linux_port());
    return code;
}
