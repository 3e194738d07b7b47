/* test_blank.c — drives made ordinary again, labels by the rules, and what a drive's contents are taken for. */
#include "tests/harness.h"

#include <sys/statfs.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static struct ws_drive_facts facts_of(uint64_t size) {
    struct ws_drive_facts f = {.size = size, .logical_sector = 512, .removable = WS_YES, .internal = WS_NO};
    snprintf(f.short_name, sizeof f.short_name, "gorse");
    return f;
}

/* The checker on the volume inside a drive file, and the kernel where it knows FAT. */
static void judge_volume(const char *path, const struct ws_volume *b, const char *label, bool exfat) {
    struct statfs s;
    struct ws_text device = {0}, out = {0};
    if (shell(&device, "losetup -f --show -o %llu --sizelimit %llu '%s'", (unsigned long long)b->at,
              (unsigned long long)b->size, path) != 0)
        return;
    device.data[strcspn(device.data, "\n")] = '\0';
    const char *checker = exfat ? "fsck.exfat" : "fsck.fat";
    if (have_program(checker) && shell(&out, "%s -n %s", checker, device.data) != 0)
        fail_at(__FILE__, __LINE__, "%llu bytes: the checker says %s", (unsigned long long)b->size, out.data);
    ws_text_free(&out);
    shell(&out, "blkid -p -s LABEL -o value %s", device.data);
    if (*label) CHECK_HAS(out.data ? out.data : "", label);
    ws_text_free(&out);
    const char *place = scratch("blank");
    if (!exfat && shell(NULL, "grep -qw vfat /proc/filesystems") == 0 && mount_at(device.data, "vfat", "ro", place)) {
        CHECK_INT(statfs(place, &s), 0);
        CHECK_INT((uint64_t)s.f_bfree * (uint64_t)s.f_bsize, b->free_bytes);
        unmount(place);
    }
    shell(NULL, "losetup -d %s", device.data);
    ws_text_free(&device);
}

static void begin(struct planned *p, const struct ws_drive_facts *f, const char *format, const char *label) {
    planned_begin(p, WS_KIND_BLANK, f);
    struct ws_wanted *data = ws_request_want(&p->request, WS_ROLE_DATA);
    strcpy(data->format, format);
    strcpy(data->label, label);
}

static void blank_volumes_of_any_size_are_sound_and_as_predicted(void) {
    if (!may_mount()) {
        skip_test("needs root and loop devices");
        return;
    }
    for (int i = 0; i < cases_of(40); i++) {
        uint64_t power = 1ull << (26 + random_below(15));
        struct ws_drive_facts f = facts_of((power + random_below(power)) / 512 * 512);
        if (f.size > 2ull << 40) f.size = 2ull << 40;
        if (i == 3) f.size = 3ull << 40;
        const char *label = i % 2 ? "TIDE DATA" : "";
        bool exfat = i % 4 == 3;
        struct planned p;
        struct ws_build *build = NULL;
        const char *path = scratch("blank.img");
        f.erase_unit = 4u << (10 + i % 12);
        if (i % 5 == 1 && f.size >= 300 * MIB) f.logical_sector = 4096;
        f.size = f.size / f.logical_sector * f.logical_sector;
        begin(&p, &f, exfat ? "exfat" : "fat32", label);
        random_bytes(p.setting.id.byte, 16);
        OK(planned_prepare(&p, NULL, &build));
        save_layout(ws_build_layout(build), path);
        const struct ws_volume *b = VOLUME(p, DATA);
        judge_volume(path, b, label, exfat);
        CHECK(b->at % (1 << 20) == 0 && b->at + b->size <= f.size);
        CHECK(f.size - b->at - b->size < 4096 + (f.size > 2ull << 40 ? MIB : 0));
        struct ws_source *view = NULL;
        struct ws_findings faults = {0};
        OK(ws_layout_source(ws_build_layout(build), &view, &error));
        OK(ws_table_check(view, f.logical_sector, &faults, &error));
        CHECK(ws_findings_worst(&faults) != WS_FAULT);
        ws_findings_free(&faults);
        ws_source_close(view);
        ws_build_close(build);
        (void)unlink(path);
    }
}

static enum ws_status try_blank(const struct ws_drive_facts *f, const char *format, uint32_t cluster) {
    struct planned p;
    struct ws_build *build = NULL;
    begin(&p, f, format, "");
    p.request.volume[0].cluster = cluster;
    enum ws_status status = planned_prepare(&p, NULL, &build);
    ws_build_close(build);
    return status;
}

static void wrong_wishes_are_refused(void) {
    struct ws_drive_facts f = facts_of(63 * MIB);
    CHECK_INT(try_blank(&f, "", 0), WS_E_SPACE);
    f.size = 3ull << 40;
    CHECK_INT(try_blank(&f, "fat32", 0), WS_E_RANGE);
    CHECK_HAS(error.next, "exFAT");
    CHECK_INT(try_blank(&f, "", 0), WS_OK); /* unasked it is what holds so much */
    CHECK_INT(try_blank(&f, "ext4", 0), WS_E_USAGE);
    CHECK_INT(try_blank(&f, "cake", 0), WS_E_USAGE);
    f = facts_of(8000 * (uint64_t)MIB);
    CHECK_INT(try_blank(&f, "", 3000), WS_E_RANGE);
    f.logical_sector = 4096;
    f.size = 256 * MIB; /* FAT32 has at least 65,525 clusters, of a sector or more */
    CHECK_INT(try_blank(&f, "", 0), WS_E_SPACE);
    for (uint32_t sector = 0; sector < 2000; sector += 520) { /* 0, 520, 1040, 1560 */
        f.logical_sector = sector;
        CHECK_INT(try_blank(&f, "", 0), WS_E_UNSUPPORTED);
        CHECK_HAS(error.next, "512 or 4096");
    }
    f.logical_sector = 4096;
    f.size = 2000 * (uint64_t)MIB;
    CHECK_INT(try_blank(&f, "", 2048), WS_E_RANGE);
}

/* Signatures of many formats at both ends; afterwards nobody sees any of them. */
static void nothing_old_is_left_at_the_ends(void) {
    enum { SIZE = 256 * MIB };
    struct memory_drive *d = memory_drive(SIZE, 512);
    struct ws_layout *old = NULL;
    struct ws_table *table = malloc(sizeof *table);
    struct ws_guid id;
    unsigned number;
    random_bytes(id.byte, 16);
    ws_table_new_gpt(table, SIZE, 512, &id);
    OK(ws_table_add(table, 100 * MIB, 50 * MIB, "linux", &id, "old", &number, &error));
    OK(ws_layout_create(SIZE, &old, &error));
    OK(ws_table_compose(table, old, &error));
    OK(ws_layout_seal(old, &error));
    struct ws_write_result wrote;
    struct ws_write_options plain = {0};
    OK(ws_write(plain_port(), old, &d->drive, &plain, &wrote, &error));
    memcpy(d->bytes + 32769, "CD001", 5);
    memcpy(d->bytes + 65600, "_BHRfS_M", 8);
    memcpy(d->bytes + MIB + 65600, "_BHRfS_M", 8);
    memcpy(d->bytes + MIB + 4096, "\xfc\x4e\x2b\xa9", 4);
    memcpy(d->bytes + SIZE - 65536, "\xfc\x4e\x2b\xa9", 4);
    memcpy(d->bytes + SIZE - 8192, "\xfc\x4e\x2b\xa9", 4);
    struct ws_drive_facts f;
    struct planned p;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    OK(d->drive.ops->describe(&d->drive, &f, &error));
    f.removable = d->facts.removable = WS_YES;
    f.internal = d->facts.internal = WS_NO;
    snprintf(d->facts.short_name, sizeof d->facts.short_name, "memory");
    f = d->facts;
    begin(&p, &f, "", "HUT");
    OK(planned_prepare(&p, NULL, &build));
    struct ws_build_options o = {.confirm = "another"};
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_REFUSED);
    CHECK(memcmp(d->bytes + 32769, "CD001", 5) == 0);
    o.confirm = "memory";
    OK(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error));
    CHECK(result.checked);
    for (uint64_t at = SIZE - MIB; at < SIZE; at++)
        if (d->bytes[at]) {
            fail_at(__FILE__, __LINE__, "byte %llu from the end is left", (unsigned long long)(SIZE - at));
            break;
        }
    CHECK(memcmp(d->bytes + 32769, "CD001", 5) != 0);
    CHECK(memcmp(d->bytes + MIB + 65600, "_BHRfS_M", 8) != 0);
    CHECK(memcmp(d->bytes + MIB + 4096, "\xfc\x4e\x2b\xa9", 4) != 0);
    struct ws_source *s = NULL;
    struct ws_contents *c = malloc(sizeof *c);
    OK(ws_source_drive(&d->drive, &s, &error));
    OK(ws_contents_look(s, 512, true, c, &error));
    CHECK_INT(c->parts, 1);
    CHECK_STR(c->part[0].system, "FAT32");
    CHECK_STR(c->part[0].label, "HUT");
    CHECK_STR(c->guess, "data");
    CHECK_INT(c->part[0].free_bytes, VOLUME(p, DATA)->free_bytes);
    ws_source_close(s);
    d->corrupt_at = MIB + 700; /* a drive that does not keep what it is given */
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_DIFFERENT);
    ws_build_close(build);
    ws_layout_close(old);
    memory_drive_free(d);
    free(table);
    free(c);
}

static void labels_are_made_to_fit_and_told(void) {
    static const struct {
        const char *system, *text, *fits, *said;
    } cases[] = {
        {"fat32", "Tide data", "TIDE DATA", "raised"},
        {"fat32", "HUT", "HUT", ""},
        {"fat32", "a/b:c", "A_B_C", "replaced"},
        {"fat32", "GANNET POINT SURVEY", "GANNET POIN", "cut"},
        {"fat32", "caf\xc3\xa9", "CAF_", "replaced"},
        {"exfat", "caf\xc3\xa9 a", "caf\xc3\xa9 a", ""},
        {"exfat", "\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6",
         "\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6\xf0\x9f\x90\xa6", "cut"},
        {"ext4", "persistence", "persistence", ""},
        {"ext4", "0123456789abcd\xc3\xa9\xc3\xa9", "0123456789abcd\xc3\xa9", "cut"},
        {"iso9660", "Curlew Live 12", "CURLEW_LIVE_12", "raised"},
        {"fat32", "hut   ", "HUT", "raised"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char out[128], said[160];
        OK(ws_label_normalise(cases[i].system, cases[i].text, out, sizeof out, said, sizeof said, &error));
        CHECK_STR(out, cases[i].fits);
        if (cases[i].said[0]) CHECK_HAS(said, cases[i].said);
        else CHECK_STR(said, "");
    }
    char out[64];
    FAILS(ws_label_normalise("fat32", "\xff\xfe", out, sizeof out, NULL, 0, &error), WS_E_FORMAT);
    FAILS(ws_label_normalise("cake", "a", out, sizeof out, NULL, 0, &error), WS_E_USAGE);
    for (int i = 0; i < 2000; i++) { /* any bytes: an error or a label the rules take as it is */
        char noise[40] = "", again[128], first[128];
        random_bytes(noise, random_below(39));
        if (ws_label_normalise("fat32", noise, first, sizeof first, NULL, 0, &error) != WS_OK) continue;
        OK(ws_label_normalise("fat32", first, again, sizeof again, NULL, 0, &error));
        CHECK_STR(again, first);
        CHECK(strlen(first) <= 11);
    }
}

/* Formats that are only named, and what a drive with them is taken for. */
static void foreign_formats_are_named(void) {
    static const struct {
        uint32_t at;
        const char *bytes;
        size_t length;
        const char *system, *guess;
    } cases[] = {
        {3, "NTFS    ", 8, "NTFS", "data"},
        {3, "EXFAT   ", 8, "exFAT (damaged)", "data"},
        {0, "LUKS\xba\xbe", 6, "LUKS", "encrypted volume"},
        {536, "LVM2 001", 8, "LVM", "part of a volume group"},
        {4096, "\xfc\x4e\x2b\xa9", 4, "array member", "part of a disk array"},
        {65600, "_BHRfS_M", 8, "Btrfs", "data"},
        {32, "NXSB", 4, "APFS", "data"},
        {0, "random", 6, "unknown", "unknown contents"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_source *base = NULL, *s = NULL;
        struct ws_contents *c = malloc(sizeof *c);
        OK(ws_source_zeros(4 * MIB, &base, &error));
        OK(ws_source_patched(base, 4 * MIB, &s, &error));
        OK(ws_source_patch(s, cases[i].at, cases[i].bytes, cases[i].length, &error));
        OK(ws_contents_look(s, 512, true, c, &error));
        CHECK_STR(c->part[0].system, cases[i].system);
        CHECK_STR(c->guess, cases[i].guess);
        ws_source_close(s);
        ws_source_close(base);
        free(c);
    }
}

/* As with any build: what does not read back right gets no table. */
static void a_drive_that_loses_bytes_gets_no_table(void) {
    struct memory_drive *d = memory_drive(80ull << 20, 512);
    struct planned p;
    struct ws_build *blank = NULL;
    struct ws_build_result result;
    OK(ws_drive_short_name(&d->facts, &error));
    begin(&p, &d->facts, "", "HUT");
    OK(planned_prepare(&p, NULL, &blank));
    d->corrupt_at = (1 << 20) + 40;
    struct ws_build_options o = {.confirm = d->facts.short_name};
    FAILS(ws_build_carry_out(blank, plain_port(), &d->drive, &o, &result, &error), WS_E_DIFFERENT);
    CHECK_HAS(error.next, "do not use");
    CHECK(!result.checked && ws_is_unfinished(d->bytes));
    CHECK(d->bytes[510] != 0x55 || d->bytes[511] != 0xaa);
    ws_build_close(blank);
    memory_drive_free(d);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"blank volumes of any size are sound and as predicted", blank_volumes_of_any_size_are_sound_and_as_predicted},
        {"wrong wishes are refused", wrong_wishes_are_refused},
        {"nothing old is left at the ends", nothing_old_is_left_at_the_ends},
        {"labels are made to fit and told", labels_are_made_to_fit_and_told},
        {"foreign formats are named", foreign_formats_are_named},
        {"a drive that loses bytes gets no table", a_drive_that_loses_bytes_gets_no_table},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
