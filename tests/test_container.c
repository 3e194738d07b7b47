/* test_container.c — virtual disk files: what another program writes is read equal, damaged ones are named. */
#include "tests/harness.h"

#include "base/bytes.h"
#include "wild_satchel/container.h"

#include <unistd.h>

enum { MIB = 1 << 20 };

/* Files beside the one that names them, here the scratch folder. */
static enum ws_status open_beside(void *context, const char *name, struct ws_source **source, struct ws_error *why) {
    const char *last = strrchr(name, '/') ? strrchr(name, '/') + 1 : name;
    ++*(int *)context;
    return ws_source_file(scratch(last), source, why);
}

static bool make_raw(const char *path, uint64_t size) {
    FILE *f = fopen(path, "wb");
    uint8_t *bytes = malloc(256 << 10);
    for (size_t i = 0, count = 1 + random_below(20); f && i < count; i++) {
        const size_t length = 1 + random_below(random_below(3) ? 70000 : 256 << 10);
        const uint64_t at = random_below(size);
        random_bytes(bytes, length);
        if (random_below(3) == 0) memset(bytes, 0x5a, length); /* what packs well */
        if (random_below(4) == 0) memset(bytes, 0, length);
        fseek(f, (long)(at / (random_below(2) ? 512 : 1) * (random_below(2) ? 512 : 1)), SEEK_SET);
        if (ftell(f) + (long)length <= (long)size) fwrite(bytes, 1, length, f);
    }
    free(bytes);
    if (!f || fclose(f) != 0 || truncate(path, (off_t)size) != 0) return false;
    return true;
}

/* Whole, and in small pieces wherever; and every hole is one. */
static void compare(const char *path, const char *raw, const char *how) {
    struct ws_source *file = NULL, *drive = NULL, *wanted = NULL;
    struct ws_container_facts facts;
    int named = 0;
    const struct ws_container_files files = {open_beside, &named};
    OK(ws_source_file(path, &file, &error));
    if (ws_container_open(file, &files, &drive, &facts, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s: %s", how, error.what);
        ws_source_close(file);
        return;
    }
    OK(ws_source_file(raw, &wanted, &error));
    CHECK(facts.size >= wanted->size);
    CHECK_INT(named + 1, facts.files);
    uint8_t *a = malloc(MIB), *b = malloc(MIB);
    for (uint64_t at = 0; at < wanted->size; at += MIB) {
        const size_t n = (size_t)ws_min_u64(MIB, wanted->size - at);
        if (ws_source_read(drive, at, a, n, &error) != WS_OK || ws_source_read(wanted, at, b, n, &error) != WS_OK ||
            memcmp(a, b, n) != 0) {
            fail_at(__FILE__, __LINE__, "%s: differs in the MiB from %llu on: %s", how, (unsigned long long)at,
                    error.what);
            break;
        }
    }
    for (int i = 0; i < 60; i++) {
        const uint64_t at = random_below(wanted->size);
        const size_t n = (size_t)ws_min_u64(1 + random_below(9000), wanted->size - at);
        OK(ws_source_read(drive, at, a, n, &error));
        OK(ws_source_read(wanted, at, b, n, &error));
        CHECK(memcmp(a, b, n) == 0);
    }
    for (uint64_t at = 0; at < wanted->size;) {
        const struct ws_piece piece = ws_source_piece(drive, at, wanted->size - at);
        CHECK(piece.length > 0 && piece.length <= wanted->size - at);
        const size_t n = (size_t)ws_min_u64(piece.length, MIB);
        if (piece.kind == WS_PIECE_HOLE) {
            OK(ws_source_read(wanted, at, b, n, &error));
            for (size_t i = 0; i < n && b[i] == 0; i++) CHECK(i + 1 < n || b[i] == 0);
        }
        at += ws_max_u64(n, 1);
    }
    free(a);
    free(b);
    ws_source_close(drive);
    ws_source_close(wanted);
    ws_source_close(file);
}

static const struct {
    const char *format, *options;
    bool packs, builds; /* it can be packed; it can build on another */
} kinds[] = {
    {"qcow2", "compat=1.1", true, true},
    {"qcow2", "compat=0.10,cluster_size=512", true, true},
    {"qcow2", "compat=1.1,cluster_size=4096", true, true},
    {"qcow2", "compat=1.1,compression_type=zstd", true, true},
    {"qcow2", "compat=1.1,extended_l2=on,cluster_size=128k", true, true},
    {"qcow2", "compat=1.1,lazy_refcounts=on,cluster_size=2M", true, true},
    {"vpc", "subformat=dynamic,force_size=on", false, false},
    {"vpc", "subformat=fixed,force_size=on", false, false},
    {"vpc", "subformat=dynamic", false, false},
    {"vhdx", "subformat=dynamic", false, false},
    {"vhdx", "subformat=dynamic,block_size=1M", false, false},
    {"vhdx", "subformat=fixed", false, false},
    {"vmdk", "subformat=monolithicSparse", false, true},
    {"vmdk", "subformat=streamOptimized", false, false},
    {"vmdk", "subformat=twoGbMaxExtentSparse", false, false},
    {"vmdk", "subformat=twoGbMaxExtentFlat", false, false},
    {"vmdk", "subformat=monolithicFlat", false, false},
    {"vmdk", "subformat=monolithicSparse,zeroed_grain=on", false, true},
};
enum { KINDS = sizeof kinds / sizeof kinds[0] };

static bool have_judge(void) {
    if (have_program("qemu-img") && have_program("qemu-io")) return true;
    skip_test("qemu-img is not installed");
    return false;
}

/* Written by another program: all at once, then changed in places, zeroed, discarded. */
static void test_read(void) {
    if (!have_judge()) return;
    for (int round = 0; round < cases_of(KINDS); round++) {
        const size_t k = (size_t)round % KINDS;
        const uint64_t size =
            (1 + random_below(40)) * MIB + (strcmp(kinds[k].format, "vpc") ? random_below(2048) * 512 : 0);
        const char *raw = scratch("raw"), *disk = scratch("disk");
        char how[200];
        const bool packed = kinds[k].packs && random_below(2);
        snprintf(how, sizeof how, "%s -o %s%s, %llu bytes", kinds[k].format, kinds[k].options, packed ? " -c" : "",
                 (unsigned long long)size);
        CHECK(make_raw(raw, size));
        if (shell(NULL, "qemu-img convert -f raw -O %s -o %s %s '%s' '%s' 2>&1", kinds[k].format, kinds[k].options,
                  packed ? "-c" : "", raw, disk)) {
            fail_at(__FILE__, __LINE__, "%s cannot be made", how);
            continue;
        }
        compare(disk, raw, how);
        const bool stream = strstr(kinds[k].options, "stream") != NULL;
        for (int i = 0; i < 6 && !stream; i++) {
            const uint64_t at = random_below(size / 512 - 1) * 512;
            const unsigned length = (unsigned)ws_min_u64((1 + random_below(300)) * 512, size - at);
            char act[100];
            if (random_below(3))
                snprintf(act, sizeof act, "write -P 0x%x %llu %u", 1 + (unsigned)random_below(255),
                         (unsigned long long)at, length);
            else
                snprintf(act, sizeof act, random_below(2) ? "write -z %llu %u" : "discard %llu %u",
                         (unsigned long long)at, length);
            (void)shell(NULL, "qemu-io -f %s -c '%s' '%s' >/dev/null 2>&1", kinds[k].format, act, disk);
        }
        if (!stream && shell(NULL, "qemu-img convert -f %s -O raw '%s' '%s' 2>&1", kinds[k].format, disk, raw) == 0)
            compare(disk, raw, how);
        (void)shell(NULL, "rm -f '%s'*", disk);
    }
}

/* One on the other, three deep, shorter and longer ones among them. */
static void test_chains(void) {
    if (!have_judge()) return;
    for (int round = 0; round < cases_of(6); round++) {
        size_t k = (size_t)random_below(KINDS);
        while (!kinds[k].builds) k = (k + 1) % KINDS;
        const char *format = kinds[k].format;
        const uint64_t size = (1 + random_below(20)) * MIB;
        CHECK(make_raw(scratch("base.raw"), size));
        const bool plain = random_below(2) && strcmp(format, "qcow2") == 0;
        char *disk = strdup(scratch("top")), *raw = strdup(scratch("raw")), *folder = strdup(scratch(""));
        struct ws_text writes[2] = {{0}, {0}};
        for (int i = 0; i < 6; i++)
            ws_text_printf(&writes[i & 1], " -c 'write -P %u %llu %llu'", 1 + (unsigned)random_below(255),
                           (unsigned long long)(random_below(size / 512 - 200) * 512),
                           (unsigned long long)((1 + random_below(190)) * 512));
        if (shell(NULL,
                  "set -e; cd '%s'; F=%s; O=%s; P=%s\n"
                  "if [ $P = raw ]; then cp base.raw base; else qemu-img convert -f raw -O $F -o $O base.raw base; fi\n"
                  "qemu-img create -q -f $F -o $O -b base -F $P middle; qemu-io -f $F %s middle >/dev/null\n"
                  "qemu-img create -q -f $F -b middle -F $F top %s; qemu-io -f $F %s top >/dev/null",
                  folder, format, kinds[k].options, plain ? "raw" : format, writes[0].data,
                  strcmp(format, "qcow2") == 0 && random_below(2) ? "48M" : "", writes[1].data))
            fail_at(__FILE__, __LINE__, "no chain of %s", kinds[k].options);
        ws_text_free(&writes[0]);
        ws_text_free(&writes[1]);
        if (shell(NULL, "cd '%s' && qemu-img convert -f %s -O raw top raw 2>&1", folder, format) == 0)
            compare(disk, raw, kinds[k].options);
        else fail_at(__FILE__, __LINE__, "no chain of %s", kinds[k].options);
        (void)shell(NULL, "cd '%s' && rm -f top middle base base.raw raw", folder);
        free(disk);
        free(raw);
        free(folder);
    }
}

/* Damage of any kind ends in an error, or in other bytes; never in a crash, a hang or a vast allocation. */
static void test_damage(void) {
    if (!have_judge()) return;
    for (int round = 0; round < cases_of(3 * KINDS); round++) {
        const size_t k = (size_t)round % KINDS;
        const char *raw = scratch("raw"), *disk = scratch("disk");
        CHECK(make_raw(raw, 3 * MIB));
        (void)shell(NULL, "qemu-img convert -f raw -O %s -o %s '%s' '%s' 2>&1", kinds[k].format, kinds[k].options, raw,
                    disk);
        char *bytes = NULL;
        size_t length = 0;
        struct ws_source *file = NULL;
        OK(ws_source_file(disk, &file, &error));
        OK(ws_source_load(file, 64 << 20, &bytes, &length, &error));
        ws_source_close(file);
        for (int damage = 0; damage < 30; damage++) {
            char *copy = malloc(length);
            memcpy(copy, bytes, length);
            size_t left = length;
            for (int i = 0; i < 1 + (int)random_below(4); i++) {
                const size_t reach = random_below(2) ? 4096 : length < 400000 ? length : 400000;
                copy[random_below(reach < length ? reach : length)] = (char)random_next();
            }
            if (random_below(5) == 0) left = 1 + random_below(length);
            struct ws_source *drive = NULL;
            int named = 0;
            const struct ws_container_files files = {open_beside, &named};
            struct ws_container_facts facts;
            uint8_t part[4096];
            OK(ws_source_memory(copy, left, &file, &error));
            (void)ws_container_probe(file, &facts);
            memset(&error, 0, sizeof error);
            enum ws_status status = ws_container_open(file, &files, &drive, &facts, &error);
            if (status != WS_OK) CHECK(error.what[0]);
            for (uint64_t at = 0; drive && at < 3 * MIB && at + sizeof part <= drive->size; at += 61 * 1024)
                (void)ws_source_read(drive, at, part, sizeof part, &error);
            ws_source_close(drive);
            ws_source_close(file);
            free(copy);
        }
        free(bytes);
        (void)shell(NULL, "rm -f '%s'*", disk);
    }
}

static void test_circle(void) {
    struct ws_source *file = NULL, *drive = NULL;
    int named = 0;
    const struct ws_container_files files = {open_beside, &named};
    if (!have_judge()) return;
    char *folder = strdup(scratch(""));
    (void)shell(NULL,
                "cd '%s' && qemu-img create -q -f qcow2 one 4M && qemu-img create -q -f qcow2 -b one -F qcow2 two && "
                "qemu-img rebase -q -u -f qcow2 -b two -F qcow2 one 2>&1",
                folder);
    OK(ws_source_file(scratch("two"), &file, &error));
    FAILS(ws_container_open(file, &files, &drive, NULL, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "circle");
    FAILS(ws_container_open(file, NULL, &drive, NULL, &error), WS_E_UNSUPPORTED);
    CHECK_HAS(error.where, "one");
    struct ws_container_facts facts;
    CHECK(ws_container_probe(file, &facts));
    CHECK_STR(facts.base, "one");
    ws_source_close(file);
    free(folder);
}

/* A file of the machine that a virtual disk is kept in. */
static enum ws_status stdio_read(const struct ws_disk_file *file, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *why) {
    FILE *f = file->state;
    if (fseek(f, (long)at, SEEK_SET) == 0 && fread(buffer, 1, length, f) == length) return WS_OK;
    return ws_fail(why, WS_E_READ, "cannot be read");
}
static enum ws_status stdio_write(const struct ws_disk_file *file, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *why) {
    FILE *f = file->state;
    if (fseek(f, (long)at, SEEK_SET) == 0 && fwrite(bytes, 1, length, f) == length) return WS_OK;
    return ws_fail(why, WS_E_WRITE, "cannot be written");
}
static enum ws_status stdio_flush(const struct ws_disk_file *file, struct ws_error *why) {
    return fflush(file->state) == 0 ? WS_OK : ws_fail(why, WS_E_WRITE, "cannot be flushed");
}
static uint64_t stdio_size(const struct ws_disk_file *file) {
    fseek(file->state, 0, SEEK_END);
    return (uint64_t)ftell(file->state);
}
static const struct ws_disk_file_ops stdio_ops = {stdio_read, stdio_write, stdio_flush, stdio_size};

/* Random writes to both, the virtual disk and a plain file. */
static void write_both(struct ws_disk *disk, FILE *raw, int count) {
    uint8_t *bytes = malloc(3 * MIB);
    for (int i = 0; i < count; i++) {
        const uint64_t at = random_below(ws_disk_size(disk) / 512) * 512;
        const size_t length =
            (size_t)ws_min_u64((1 + random_below(random_below(3) ? 40 : 6000)) * 512, ws_disk_size(disk) - at);
        random_bytes(bytes, length);
        if (random_below(4) == 0) memset(bytes, 0, length);
        OK(ws_disk_write(disk, at, bytes, length, &error));
        fseek(raw, (long)at, SEEK_SET);
        fwrite(bytes, 1, length, raw);
    }
    free(bytes);
}

/* What is written here is sound and equal to others, who may change it in between. */
static void test_write(void) {
    static const char *const made[][2] = {{"qcow2", "qcow2"}, {"vhd", "vpc"}, {"vhdx", "vhdx"}, {"vmdk", "vmdk"}};
    if (!have_judge()) return;
    for (int round = 0; round < cases_of(12); round++) {
        const char *ours = made[round % 4][0], *theirs = made[round % 4][1];
        char *path = strdup(scratch("made")), *raw = strdup(scratch("made.raw"));
        struct ws_guid id;
        random_bytes(id.byte, 16);
        FILE *f = fopen(path, "w+b"), *plain = fopen(raw, "w+b");
        const struct ws_disk_file file = {&stdio_ops, f};
        struct ws_disk *disk = NULL;
        OK(ws_container_create(&file, ours, (1 + random_below(60)) * MIB + random_below(2000) * 512, &id, 1790000000,
                               &error));
        for (int session = 0; session < 3; session++) {
            OK(ws_disk_open(&file, &id, &disk, &error));
            CHECK(ftruncate(fileno(plain), (off_t)ws_disk_size(disk)) == 0);
            write_both(disk, plain, (int)random_below(25));
            OK(ws_disk_flush(disk, &error));
            write_both(disk, plain, (int)random_below(5));
            OK(ws_disk_flush(disk, &error));
            ws_disk_close(disk);
            fflush(plain);
            struct ws_text out = {0};
            if (shell(&out, "qemu-img check -f %s '%s' 2>&1", theirs, path) &&
                strcmp(theirs, "vpc") != 0) /* it has no check for that */
                fail_at(__FILE__, __LINE__, "%s: %s", ours, out.data);
            if (shell(&out, "qemu-img compare -f %s -F raw '%s' '%s' 2>&1", theirs, path, raw))
                fail_at(__FILE__, __LINE__, "%s: %s", ours, out.data);
            ws_text_free(&out);
            compare(path, raw, ours);
            const uint64_t at = random_below(MIB / 512) * 512;
            (void)shell(NULL,
                        "qemu-io -f %s -c 'write -P 7 %llu 8k' '%s' >/dev/null; qemu-io -f raw -c 'write -P 7 %llu 8k' "
                        "'%s' >/dev/null",
                        theirs, (unsigned long long)at, path, (unsigned long long)at, raw);
            f = freopen(path, "r+b", f);
            plain = freopen(raw, "r+b", plain);
        }
        fclose(f);
        fclose(plain);
        unlink(path);
        unlink(raw);
        free(path);
        free(raw);
    }
}

/* Forms that are only read say so, and are left as they are. */
static void test_only_read(void) {
    if (!have_judge()) return;
    for (size_t k = 0; k < KINDS; k++) {
        const char *disk = scratch("disk");
        struct ws_disk *opened = NULL;
        struct ws_guid id = {{1}};
        (void)shell(NULL, "qemu-img create -q -f %s -o %s '%s' 8M", kinds[k].format, kinds[k].options, disk);
        FILE *f = fopen(disk, "r+b");
        const struct ws_disk_file file = {&stdio_ops, f};
        enum ws_status status = ws_disk_open(&file, &id, &opened, &error);
        if (status == WS_OK) ws_disk_close(opened); /* made the same way */
        else if (status != WS_E_UNSUPPORTED)
            fail_at(__FILE__, __LINE__, "%s: %s", kinds[k].options, ws_status_name(status));
        fclose(f);
        (void)shell(NULL, "rm -f '%s'*", disk);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"what another program writes is read equal", test_read},
                                        {"files that build on each other", test_chains},
                                        {"damage is an error", test_damage},
                                        {"files that build on each other in a circle", test_circle},
                                        {"what is written here is sound to others", test_write},
                                        {"forms that are only read", test_only_read},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
