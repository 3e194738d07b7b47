/* test_table.c — partition tables: made, changed, damaged; the kernel as the judge. */
#include "tests/harness.h"

#include "base/bytes.h"

#include <unistd.h>

enum { MIB = 1 << 20 };
static const struct ws_guid disk_id = {{0x26, 0x11, 0x24, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13}};

static struct ws_guid guid_of(uint8_t n) {
    struct ws_guid g = disk_id;
    g.byte[15] = n;
    return g;
}

/* The table as the bytes of a drive in memory. */
static uint8_t *drive_of(const struct ws_table *t) {
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL;
    uint8_t *bytes = malloc(t->disk_size);
    if (ws_layout_create(t->disk_size, &layout, &error) != WS_OK || ws_table_compose(t, layout, &error) != WS_OK ||
        ws_layout_seal(layout, &error) != WS_OK || ws_layout_source(layout, &view, &error) != WS_OK ||
        ws_source_read(view, 0, bytes, t->disk_size, &error) != WS_OK)
        abort();
    ws_source_close(view);
    ws_layout_close(layout);
    return bytes;
}

static size_t faults_in(const uint8_t *bytes, uint64_t size, uint32_t sector, char *first, size_t room) {
    struct ws_source *source = NULL;
    struct ws_findings f = {0};
    size_t faults = 0;
    if (ws_source_memory(bytes, size, &source, &error) != WS_OK || ws_table_check(source, sector, &f, &error) != WS_OK)
        abort();
    first[0] = '\0';
    for (size_t i = 0; i < f.count; i++)
        if (f.list[i].weight == WS_FAULT && faults++ == 0) snprintf(first, room, "%s", f.list[i].text);
    ws_findings_free(&f);
    ws_source_close(source);
    return faults;
}

static void add(struct ws_table *t, uint64_t at, uint64_t length, const char *type, uint8_t id) {
    struct ws_guid g = guid_of(id);
    unsigned number = 0;
    enum ws_status status = ws_table_add(t, at, length, type, &g, "tide data", &number, &error);
    if (status != WS_OK) fail_at(__FILE__, __LINE__, "partition at %llu: %s", (unsigned long long)at, error.what);
    CHECK(number > 0);
}

static struct ws_table *sample(bool gpt, uint32_t sector) {
    struct ws_table *t = malloc(sizeof *t);
    if (gpt) ws_table_new_gpt(t, 16 * MIB, sector, &disk_id);
    else ws_table_new_mbr(t, 16 * MIB, sector, 0x26112400);
    add(t, 1 * MIB, 2 * MIB, "efi", 1);
    add(t, 4 * MIB, 4 * MIB, "linux", 2);
    return t;
}

static void a_table_reads_back_as_it_was_made(void) {
    for (int i = 0; i < 4; i++) {
        uint32_t sector = i & 1 ? 4096 : 512;
        struct ws_table *t = sample(i & 2, sector);
        struct ws_table *back = malloc(sizeof *back);
        uint8_t *bytes = drive_of(t);
        struct ws_source *source = NULL;
        char first[320];
        size_t count = 0;
        OK(ws_source_memory(bytes, t->disk_size, &source, &error));
        OK(ws_table_read(source, sector, back, NULL, &error));
        CHECK_INT(back->kind, i & 2 ? WS_TABLE_GPT : WS_TABLE_MBR);
        const struct ws_partition *p = ws_table_partitions(back, &count);
        CHECK_INT(count, 2);
        CHECK_INT(p[1].at, 4 * MIB);
        CHECK_INT(p[1].length, 4 * MIB);
        CHECK_STR(ws_partition_type_of(&p[0])->word, "efi");
        if (i & 2) CHECK_STR(p[1].name, "tide data");
        size_t faults = faults_in(bytes, t->disk_size, sector, first, sizeof first);
        if (faults) fail_at(__FILE__, __LINE__, "sound table: %s", first);
        ws_source_close(source);
        free(bytes);
        free(back);
        free(t);
    }
}

static void patch32(uint8_t *p, uint32_t v) {
    for (int i = 0; i < 4; i++) p[i] = (uint8_t)(v >> (8 * i));
}

/* Header and entries are summed again after a change, so that the strict checker has to look at what they say. */
static void sum_again(uint8_t *bytes, uint64_t header_lba) {
    uint8_t *h = bytes + header_lba * 512;
    uint64_t entries = h[72] | (uint64_t)h[73] << 8 | (uint64_t)h[74] << 16;
    patch32(h + 88, ws_crc32(bytes + entries * 512, 128 * 128));
    patch32(h + 16, 0);
    patch32(h + 16, ws_crc32(h, 92));
}

static void every_damage_is_found(void) {
    enum { SIZE = 16 * MIB, LAST = SIZE / 512 - 1 };
    static const struct {
        const char *what;
        uint64_t at; /* byte on the drive */
        uint8_t value;
        int sum; /* 1: primary summed again, 2: both */
    } damages[] = {
        {"no 55 AA", 510, 0, 0},
        {"boot flag", 446, 0x12, 0},
        {"protective entry's start", 454, 9, 0},
        {"primary signature", 512, 'X', 0},
        {"primary checksum", 512 + 16, 0xff, 0},
        {"primary revision", 512 + 10, 9, 1},
        {"primary header size", 512 + 12, 200, 0},
        {"primary's own place", 512 + 24, 7, 1},
        {"backup's place", 512 + 32, 1, 1},
        {"usable area", 512 + 40, 0xff, 1},
        {"usable area's end", 512 + 51, 9, 1},
        {"number of entries", 512 + 81, 0xff, 1},
        {"size of entries", 512 + 84, 100, 1},
        {"place of entries", 512 + 75, 0xff, 1},
        {"an entry's bytes", 1024 + 56, 'Z', 0},
        {"an entry's first sector", 1024 + 32, 1, 1},
        {"an entry's first sector, both copies differ", 1024 + 33, 0x0c, 1},
        {"an entry's last sector", 1024 + 43, 0x7f, 1},
        {"backup signature", LAST * 512ull, 'X', 0},
        {"backup checksum", LAST * 512ull + 17, 0xee, 0},
        {"backup entries", (LAST - 32) * 512ull + 40, 0x77, 0},
        {"backup points elsewhere", LAST * 512ull + 32, 5, 2},
        {"same identifier twice", 1024 + 128 + 16 + 15, 1, 1},
    };
    struct ws_table *t = sample(true, 512);
    char first[320];
    for (size_t i = 0; i < sizeof damages / sizeof damages[0]; i++) {
        uint8_t *bytes = drive_of(t);
        bytes[damages[i].at] = damages[i].value;
        if (damages[i].sum == 1) sum_again(bytes, 1);
        if (damages[i].sum == 2) sum_again(bytes, LAST);
        if (faults_in(bytes, SIZE, 512, first, sizeof first) == 0)
            fail_at(__FILE__, __LINE__, "not found: %s", damages[i].what);
        free(bytes);
    }
    free(t);
}

static void damage_anywhere_is_never_taken_for_sound(void) {
    struct ws_table *t = sample(true, 512);
    char first[320];
    for (int i = 0; i < 400; i++) { /* any bit of any byte the table occupies */
        uint8_t *bytes = drive_of(t);
        uint64_t part = random_below(4);
        uint64_t at = part == 0   ? 446 + random_below(66)
                      : part == 1 ? 512 + random_below(92)
                      : part == 2 ? 1024 + random_below(256)
                                  : t->disk_size - 512 + random_below(92);
        bool geometry = part == 0 && ((at - 446) % 16 == 1 || (at - 446) % 16 == 2 || (at - 446) % 16 == 3 ||
                                      ((at - 446) % 16 >= 5 && (at - 446) % 16 <= 7));
        uint8_t was = bytes[at];
        bytes[at] ^= (uint8_t)(1u << random_below(8));
        bool harmless =
            geometry || (part == 0 && (at - 446) / 16 > 0 && at < 510); /* other MBR entries: another table */
        bool length_or_flag = part == 0 && (at - 446 == 0 || (at - 446) >= 12) && at < 510;
        if (!harmless && !length_or_flag && faults_in(bytes, t->disk_size, 512, first, sizeof first) == 0)
            fail_at(__FILE__, __LINE__, "byte %llu from %02x to %02x was not noticed", (unsigned long long)at, was,
                    bytes[at]);
        free(bytes);
    }
    free(t);
}

static void a_damaged_primary_falls_back_to_the_backup(void) {
    struct ws_table *t = sample(true, 512);
    struct ws_table *back = malloc(sizeof *back);
    struct ws_source *source = NULL;
    struct ws_findings f = {0};
    uint8_t *bytes = drive_of(t);
    memset(bytes + 512, 0, 512);
    OK(ws_source_memory(bytes, t->disk_size, &source, &error));
    OK(ws_table_read(source, 512, back, &f, &error));
    CHECK_INT(back->kind, WS_TABLE_GPT);
    CHECK_INT(back->gpt_count, 2);
    CHECK_INT(ws_findings_worst(&f), WS_WARNING);
    ws_source_close(source);
    memset(bytes + t->disk_size - 512, 0, 512);
    OK(ws_source_memory(bytes, t->disk_size, &source, &error));
    OK(ws_table_read(source, 512, back, &f, &error));
    CHECK_INT(ws_findings_worst(&f), WS_FAULT);
    ws_findings_free(&f);
    ws_source_close(source);
    free(bytes);
    free(back);
    free(t);
}

static void partitions_that_cannot_be_are_refused(void) {
    struct ws_table *t = sample(true, 512);
    struct ws_guid g = guid_of(9);
    unsigned number = 0;
    FAILS(ws_table_add(t, 5 * MIB, MIB, "linux", &g, "", &number, &error), WS_E_RANGE);      /* overlaps */
    FAILS(ws_table_add(t, 0, 512, "linux", &g, "", &number, &error), WS_E_RANGE);            /* over the table */
    FAILS(ws_table_add(t, 15 * MIB, MIB, "linux", &g, "", &number, &error), WS_E_RANGE);     /* over the backup */
    FAILS(ws_table_add(t, 15 * MIB, 2 * MIB, "linux", &g, "", &number, &error), WS_E_RANGE); /* past the end */
    FAILS(ws_table_add(t, 10 * MIB + 1, MIB, "linux", &g, "", &number, &error), WS_E_RANGE); /* not whole sectors */
    FAILS(ws_table_add(t, 10 * MIB, MIB, "teapot", &g, "", &number, &error), WS_E_USAGE);
    CHECK_INT(t->gpt_count, 2);
    free(t);
    t = sample(false, 512);
    add(t, 9 * MIB, MIB, "linux", 3);
    add(t, 10 * MIB, MIB, "linux", 4);
    FAILS(ws_table_add(t, 11 * MIB, MIB, "linux", &g, "", &number, &error), WS_E_SPACE);
    CHECK_HAS(error.what, "four");
    free(t);
    t = malloc(sizeof *t);
    ws_table_new_mbr(t, 4ull << 40, 512, 1);
    FAILS(ws_table_add(t, 3ull << 40, MIB, "linux", &g, "", &number, &error), WS_E_RANGE);
    free(t);
}

static void a_table_moves_to_a_larger_drive(void) {
    struct ws_table *t = sample(true, 512);
    char first[320];
    OK(ws_table_resize(t, 64 * MIB, &error));
    add(t, 32 * MIB, 16 * MIB, "linux", 7);
    uint8_t *bytes = drive_of(t);
    if (faults_in(bytes, 64 * MIB, 512, first, sizeof first)) fail_at(__FILE__, __LINE__, "%s", first);
    free(bytes);
    FAILS(ws_table_resize(t, 40 * MIB, &error), WS_E_SPACE);
    free(t);
}

static void an_image_partition_grows_but_not_over_others(void) {
    struct ws_table *t = malloc(sizeof *t);
    bool grown = false;
    ws_table_new_mbr(t, 64 * MIB, 512, 1);
    t->mbr[0] = (struct ws_partition){.number = 1, .at = 0, .length = 16 * MIB, .mbr_type = 0x17, .active = true};
    t->mbr[1] = (struct ws_partition){.number = 2, .at = 2 * MIB, .length = MIB, .mbr_type = 0xef};
    t->mbr_count = 2;
    OK(ws_table_grow(t, 16 * MIB, 16 * MIB + 6144, &grown, &error));
    CHECK(grown);
    CHECK_INT(t->mbr[0].length, 16 * MIB + 6144);
    CHECK_INT(t->mbr[1].length, MIB);
    t->mbr[2] = (struct ws_partition){.number = 3, .at = 17 * MIB, .length = MIB, .mbr_type = 0x83};
    t->mbr_count = 3;
    FAILS(ws_table_grow(t, 16 * MIB, 17 * MIB + 2048, &grown, &error), WS_E_SPACE);
    free(t);
}

/* START and SECTORS of a partition: as the kernel sees it, or where the kernel here has no partition code, as the
 * library sees it by which systems find their volumes. */
static void check_seen(const char *device, bool kernel, const struct ws_partition *p) {
    struct ws_text out = {0};
    unsigned long long start = 0, sectors = 0;
    const char *name = device + 5;
    if (kernel)
        shell(&out, "cat /sys/block/%s/%sp%u/start /sys/block/%s/%sp%u/size", name, name, p->number, name, name,
              p->number);
    else shell(&out, "partx -g -o START,SECTORS -n %u:%u %s", p->number, p->number, device);
    if (!out.data || sscanf(out.data, "%llu %llu", &start, &sectors) != 2 || start != p->at / 512 ||
        sectors != p->length / 512)
        fail_at(__FILE__, __LINE__, "partition %u at sector %llu, %llu long, is seen as %s", p->number,
                (unsigned long long)p->at / 512, (unsigned long long)p->length / 512, out.data ? out.data : "nothing");
    ws_text_free(&out);
}

static void other_peoples_code_reads_every_table(void) {
    if (!may_mount() || !have_program("partx")) {
        skip_test("needs root, loop devices and partx");
        return;
    }
    for (int round = 0; round < 24; round++) {
        struct ws_table *t = malloc(sizeof *t);
        bool gpt = round % 3 != 0;
        uint64_t size = (20 + random_below(200)) * MIB + random_below(2048) * 512;
        if (gpt) ws_table_new_gpt(t, size, 512, &disk_id);
        else ws_table_new_mbr(t, size, 512, (uint32_t)random_next());
        uint64_t at = MIB;
        int parts = 0;
        while (at + 3 * MIB < size && parts < (gpt ? 12 : 4)) {
            uint64_t length = (1 + random_below(size / MIB / 6)) * MIB + random_below(100) * 512;
            if (at + length + MIB > size) break;
            add(t, at, length, random_below(2) ? "linux" : "data", (uint8_t)++parts);
            at += length + random_below(3) * MIB;
            at = (at + 511) / 512 * 512;
        }
        struct ws_layout *layout = NULL;
        char device[64];
        const char *path = scratch("table.img");
        OK(ws_layout_create(size, &layout, &error));
        OK(ws_table_compose(t, layout, &error));
        OK(ws_layout_seal(layout, &error));
        save_layout(layout, path);
        if (loop_attach(path, device)) {
            size_t count = 0;
            const struct ws_partition *p = ws_table_partitions(t, &count);
            bool kernel = shell(NULL, "ls -d /sys/block/%s/%sp*", device + 5, device + 5) == 0;
            for (size_t i = 0; i < count; i++) check_seen(device, kernel, &p[i]);
            struct ws_text out = {0};
            shell(&out, "partx -g -o NR %s | wc -l", device);
            CHECK_INT(atoi(out.data ? out.data : ""), (int)count);
            ws_text_free(&out);
            loop_detach(device);
        }
        ws_layout_close(layout);
        free(t);
    }
}

/* A chain of records that leads in circles, or away, is damage, and ends. */
static void extended_partitions_that_lead_nowhere(void) {
    for (uint32_t next = 0; next < 3; next++) {
        struct ws_table table;
        struct ws_findings found = {0};
        struct ws_source *source = NULL;
        uint8_t *bytes = calloc(1, MIB), *e = bytes + 446;
        e[4] = 0x05;
        ws_store_le32(e + 8, 100);
        ws_store_le32(e + 12, 1000);
        bytes[510] = bytes[100 * 512 + 510] = 0x55;
        bytes[511] = bytes[100 * 512 + 511] = 0xaa;
        e = bytes + 100 * 512 + 446;
        e[4] = 0x83;
        ws_store_le32(e + 8, 8);
        ws_store_le32(e + 12, 8);
        e[16 + 4] = 0x05;
        ws_store_le32(e + 16 + 8, next == 0 ? 0 : next == 1 ? 5000 : 50);
        ws_store_le32(e + 16 + 12, 10);
        OK(ws_source_memory(bytes, MIB, &source, &error));
        OK(ws_table_read(source, 512, &table, &found, &error));
        CHECK(table.logical_count >= 1 && table.logical_count <= WS_LOGICAL_MOST);
        CHECK(next == 0 || found.count == 1);
        ws_findings_free(&found);
        ws_source_close(source);
        free(bytes);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"a table reads back as it was made", a_table_reads_back_as_it_was_made},
        {"every damage is found", every_damage_is_found},
        {"damage anywhere is never taken for sound", damage_anywhere_is_never_taken_for_sound},
        {"extended partitions that lead nowhere", extended_partitions_that_lead_nowhere},
        {"a damaged primary falls back to the backup", a_damaged_primary_falls_back_to_the_backup},
        {"partitions that cannot be are refused", partitions_that_cannot_be_are_refused},
        {"a table moves to a larger drive", a_table_moves_to_a_larger_drive},
        {"an image's partition grows, but not over others", an_image_partition_grows_but_not_over_others},
        {"other people's code reads every table", other_peoples_code_reads_every_table},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
