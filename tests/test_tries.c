/* test_tries.c — entries that have not proved themselves: counted down on the drive, judged by the file system checker.
 */
#include "tests/harness.h"

#include "base/bytes.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/port/linux.h"
#include "wild_satchel/start.h"

#include <sys/stat.h>
#include <unistd.h>

enum { MIB = 1 << 20, VOLUME_AT = MIB, VOLUME_BYTES = 24 * MIB };

/* A drive in a file: what start-up code writes to it, and how. */
struct bench {
    FILE *file;
    unsigned writes;
    size_t longest;
};

static enum ws_status write_file(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *e) {
    struct bench *b = context;
    b->writes++;
    if (length > b->longest) b->longest = length;
    if (fseek(b->file, (long)at, SEEK_SET) != 0 || fwrite(bytes, 1, length, b->file) != length || fflush(b->file) != 0)
        return ws_fail(e, WS_E_WRITE, "the file cannot be written");
    return WS_OK;
}

static void put_entry(const char *folder, const char *name, const char *version) {
    char path[400];
    FILE *f;
    snprintf(path, sizeof path, "%s/boot/loader/entries/%s", folder, name);
    if (!(f = fopen(path, "w"))) abort();
    fprintf(f, "title Hut %s\nsort-key %.4s\nlinux /boot/vmlinuz-%s\noptions quiet\n", version, name, version);
    fclose(f);
}

/* An MBR with one partition, and on it an ext4 volume that the file system's own tools made of a folder. */
static bool make_drive(const char *folder, const char *features, const char *path) {
    uint8_t sector[512] = {0};
    ws_store_le32(sector + 446 + 8, VOLUME_AT / 512);
    ws_store_le32(sector + 446 + 12, VOLUME_BYTES / 512);
    sector[446 + 4] = 0x83;
    sector[510] = 0x55, sector[511] = 0xaa;
    FILE *f = fopen(path, "wb");
    if (!f || fwrite(sector, 1, 512, f) != 512 || fclose(f) != 0) abort();
    if (truncate(path, VOLUME_AT + VOLUME_BYTES) != 0) abort();
    return shell(NULL, "mke2fs -q -F -t ext4 %s -E offset=%d -d %s %s %dk", features, VOLUME_AT, folder, path,
                 VOLUME_BYTES / 1024) == 0;
}

/* The names of the entries as a reader of the whole file system finds them; the volume must be clean. */
static void look(const char *path, const char *expected, const char *unexpected) {
    struct ws_source *all = NULL, *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_text said = {0};
    char name[300];
    OK(ws_source_file(path, &all, &error));
    OK(ws_source_slice(all, VOLUME_AT, VOLUME_BYTES, &slice, &error));
    OK(ws_ext4_read(slice, &tree, NULL, &error));
    snprintf(name, sizeof name, "boot/loader/entries/%s", expected);
    CHECK(ws_tree_find(tree, name));
    snprintf(name, sizeof name, "boot/loader/entries/%s", unexpected);
    CHECK(!ws_tree_find(tree, name));
    ws_tree_close(tree);
    ws_source_close(slice);
    ws_source_close(all);
    if (shell(&said, "e2fsck -fn '%s?offset=%d' 2>&1", path, VOLUME_AT) != 0)
        fail_at(__FILE__, __LINE__, "%s", said.data);
    ws_text_free(&said);
}

static void start(const char *path, struct bench *b, struct ws_rehearsal *r) {
    struct ws_source *all = NULL;
    memset(r, 0, sizeof *r);
    r->firmware = "BIOS";
    r->sector = 512;
    b->file = fopen(path, "r+b");
    b->writes = 0;
    b->longest = 0;
    if (b->file) r->write = write_file, r->write_context = b;
    OK(ws_source_file(path, &all, &error));
    OK(ws_start_rehearse(all, r, &error));
    ws_source_close(all);
    if (b->file) fclose(b->file);
    CHECK(r->starts);
}

static void make_folder(const char *folder, int others) {
    static char long_name[201];
    uint8_t kernel[4096] = {0};
    char path[400];
    memset(long_name, 'x', sizeof long_name - 1);
    memcpy(kernel + 0x202, "HdrS", 4);
    shell(NULL, "rm -rf %s && mkdir -p %s/boot/loader/entries", folder, folder);
    for (int i = 0; i < 2; i++) {
        snprintf(path, sizeof path, "%s/boot/vmlinuz-6.%d", folder, i + 1);
        FILE *f = fopen(path, "wb");
        if (!f || fwrite(kernel, 1, sizeof kernel, f) != sizeof kernel || fclose(f) != 0) abort();
    }
    for (int i = 0; i < others; i++) {
        snprintf(path, sizeof path, "%s/boot/loader/entries/notes-%d-%.*s", folder, i, 1 + (int)random_below(200),
                 long_name);
        FILE *f = fopen(path, "w");
        if (f) fclose(f);
    }
}

static void tries_are_counted_on_the_drive(void) {
    static const char *const features[] = {
        "-b 4096", "-b 1024", "-O ^metadata_csum", "-O metadata_csum_seed", "-O ^dir_index", "-O ^extent,^64bit"};
    for (int i = 0; i < cases_of(24); i++) {
        const char *folder = scratch("folder"), *path = scratch("tries");
        struct ws_rehearsal r;
        struct bench b;
        char name[32] = "0001+3-0.conf", before[32];
        make_folder(folder, i < 6 ? 0 : (int)random_below(i % 2 ? 40 : 6));
        put_entry(folder, name, "6.2");
        put_entry(folder, "0002.conf", "6.1");
        if (!make_drive(folder, features[i % 6], path)) {
            fail_at(__FILE__, __LINE__, "no volume is made with %s", features[i % 6]);
            return;
        }
        for (int left = 3; left > 0; left--) {
            start(path, &b, &r);
            CHECK_STR(r.entry.linux_path, "/boot/vmlinuz-6.2");
            snprintf(before, sizeof before, "new; tries left: %d)", left);
            CHECK_HAS(r.console.data, before);
            bool indexed = strstr(r.console.data, "could not be noted") != NULL;
            ws_rehearsal_free(&r);
            if (indexed) break; /* a large folder with an index is left alone */
            CHECK_INT(b.writes, 1);
            CHECK(i >= 6 || b.longest == 512);
            memcpy(before, name, sizeof name);
            snprintf(name, sizeof name, "0001+%d-%d.conf", left - 1, 4 - left);
            look(path, name, before);
            if (left > 1) continue;
            start(path, &b, &r); /* none is left */
            CHECK_STR(r.entry.linux_path, "/boot/vmlinuz-6.1");
            CHECK_HAS(r.console.data, "did not come up)");
            CHECK_INT(b.writes, 0);
            ws_rehearsal_free(&r);
        }
        unlink(path);
    }
}

/* Names that are counters, and names that only look like it. */
static void counters_are_read_as_the_specification_has_them(void) {
    static const struct {
        const char *name, *after; /* NULL: it is no counter, and nothing is written */
        const char *says;
    } cases[] = {
        {"0001+3.conf", "0001+2.conf", "tries left: 3)"},
        {"0001+10-09.conf", "0001+09-10.conf", "tries left: 10)"},
        {"0001+2-9.conf", "0001+1-9.conf", "tries left: 2)"},
        {"a+1+1-0.conf", "a+1+0-1.conf", "tries left: 1)"},
        {"0001+00-9.conf", NULL, "did not come up"},
        {"0001+.conf", NULL, NULL},
        {"0001+3-.conf", NULL, NULL},
        {"+3-0.conf", NULL, NULL},
        {"0001-3.conf", NULL, NULL},
        {"6.1+deb1x.conf", NULL, NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const char *folder = scratch("folder"), *path = scratch("tries");
        struct ws_rehearsal r;
        struct bench b;
        make_folder(folder, 0);
        put_entry(folder, cases[i].name, "6.2");
        if (!make_drive(folder, "", path)) return;
        start(path, &b, &r); /* also where it is the only one, and bad */
        CHECK_INT(b.writes, cases[i].after != NULL);
        if (cases[i].says) CHECK_HAS(r.console.data, cases[i].says);
        else CHECK(!strstr(r.console.data, "tries left"));
        ws_rehearsal_free(&r);
        look(path, cases[i].after ? cases[i].after : cases[i].name, cases[i].after ? cases[i].name : "x");
        unlink(path);
    }
}

/* Sectors larger than the volume's blocks: no system mounts that, and nothing is written. */
static void sectors_larger_than_blocks_are_left_alone(void) {
    const char *folder = scratch("folder"), *path = scratch("tries");
    struct ws_source *all = NULL;
    struct bench b = {0};
    make_folder(folder, 0);
    put_entry(folder, "0001+3-0.conf", "6.2");
    if (!make_drive(folder, "-b 1024", path)) return;
    uint8_t place[8];
    ws_store_le32(place, VOLUME_AT / 4096);
    ws_store_le32(place + 4, VOLUME_BYTES / 4096);
    FILE *f = fopen(path, "r+b");
    if (!f || fseek(f, 446 + 8, SEEK_SET) != 0 || fwrite(place, 1, 8, f) != 8 || fflush(f) != 0) abort();
    b.file = f;
    struct ws_rehearsal r = {.firmware = "UEFI", .sector = 4096, .write = write_file, .write_context = &b};
    OK(ws_source_file(path, &all, &error));
    OK(ws_start_rehearse(all, &r, &error));
    CHECK_HAS(r.console.data, "could not be noted");
    CHECK_INT(b.writes, 0);
    CHECK(r.starts);
    ws_rehearsal_free(&r);
    ws_source_close(all);
    fclose(f);
    unlink(path);
}

/* What cannot be counted is said and starts; a folder that is damaged is not written. */
static void what_cannot_be_counted_starts(void) {
    const char *folder = scratch("folder"), *path = scratch("tries");
    struct ws_rehearsal r;
    struct bench b;
    make_folder(folder, 0);
    put_entry(folder, "0001+3-0.conf", "6.2");
    if (!make_drive(folder, "", path)) return;
    CHECK_INT(shell(NULL,
                    "python3 -c \"import sys; p=sys.argv[1]; d=bytearray(open(p,'rb').read()); "
                    "i=d.index(b'0001+3-0.conf'); d[i+40]^=1; open(p,'wb').write(d)\" %s",
                    path),
              0);
    start(path, &b, &r);
    CHECK_INT(b.writes, 0);
    CHECK_HAS(r.console.data, "the folder of the entries is damaged");
    ws_rehearsal_free(&r);
    unlink(path);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"tries are counted on the drive", tries_are_counted_on_the_drive},
        {"counters are read as the specification has them", counters_are_read_as_the_specification_has_them},
        {"sectors larger than blocks are left alone", sectors_larger_than_blocks_are_left_alone},
        {"what cannot be counted starts", what_cannot_be_counted_starts},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
