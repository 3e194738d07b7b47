/* test_grow.c — a partition made longer in the table of a larger drive, cut at every write; the tables are judged by
 * the strict check of ours and by the kernel's rules. (The program around it runs in tests/grown.py.) */
#include "boot/code/linux/table.h"
#include "tests/harness.h"

#include "base/bytes.h"

enum { MIB = 1 << 20 };

/* A drive in memory: after `cut` writes nothing more arrives, of that one only a part of the sectors. */
struct disk {
    struct start_machine m;
    uint8_t *bytes;
    uint64_t size;
    unsigned writes, cut;
    uint8_t memory[128 << 10];
    size_t taken;
};

static bool disk_read(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    struct disk *d = m->self;
    if (!ws_inside(lba * m->sector_bytes, (uint64_t)count * m->sector_bytes, d->size)) abort();
    memcpy(into, d->bytes + lba * m->sector_bytes, (size_t)count * m->sector_bytes);
    return true;
}

static bool disk_write(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    struct disk *d = m->self;
    if (!ws_inside(lba * m->sector_bytes, (uint64_t)count * m->sector_bytes, d->size)) abort();
    uint32_t arrives = d->writes < d->cut ? count : d->writes == d->cut ? count / 2 : 0;
    memcpy(d->bytes + lba * m->sector_bytes, from, (size_t)arrives * m->sector_bytes);
    return d->writes++ < d->cut || start_fail(m, "the plug is pulled");
}

static void *disk_take(struct start_machine *m, uint64_t bytes) {
    struct disk *d = m->self;
    if (d->taken + bytes > sizeof d->memory) return NULL;
    d->taken += (size_t)bytes;
    return d->memory + d->taken - bytes;
}

static struct disk *disk_of(uint64_t size, uint32_t sector) {
    struct disk *d = calloc(1, sizeof *d);
    *d = (struct disk){.m = {.self = d,
                             .sector_bytes = sector,
                             .sectors = size / sector,
                             .read = disk_read,
                             .write = disk_write,
                             .take = disk_take},
                       .bytes = calloc(1, (size_t)size),
                       .size = size,
                       .cut = UINT32_MAX};
    return d;
}

static void disk_free(struct disk *d) {
    free(d->bytes);
    free(d);
}

static enum grown grow(struct disk *d, uint64_t at, uint64_t *length) {
    d->taken = 0;
    memset(d->memory, 0, sizeof d->memory);
    return table_grow(&d->m, at, length);
}

/* A table of a smaller drive on a larger one, as if it had been copied there. @return the last partition's place */
static uint64_t fill(struct disk *d, bool gpt, uint64_t small, unsigned parts) {
    struct ws_table *t = malloc(sizeof *t);
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL;
    struct ws_guid id;
    uint64_t at = MIB;
    unsigned number;
    random_bytes(id.byte, 16);
    if (gpt) ws_table_new_gpt(t, small, d->m.sector_bytes, &id);
    else ws_table_new_mbr(t, small, d->m.sector_bytes, 0x26112400);
    for (unsigned i = 0; i < parts; i++) {
        at = (1 + 3 * (uint64_t)i) * MIB;
        id.byte[0]++;
        if (ws_table_add(t, at, (1 + random_below(2)) * MIB, i ? "linux" : "efi", &id, "tide", &number, &error) !=
            WS_OK)
            abort();
    }
    if (ws_layout_create(small, &layout, &error) != WS_OK || ws_table_compose(t, layout, &error) != WS_OK ||
        ws_layout_seal(layout, &error) != WS_OK || ws_layout_source(layout, &view, &error) != WS_OK ||
        ws_source_read(view, 0, d->bytes, (size_t)small, &error) != WS_OK)
        abort();
    ws_source_close(view);
    ws_layout_close(layout);
    free(t);
    return at;
}

static void read_table(const struct disk *d, struct ws_table *t, bool sound) {
    struct ws_source *source = NULL;
    struct ws_findings f = {0};
    OK(ws_source_memory(d->bytes, (size_t)d->size, &source, &error));
    OK(ws_table_read(source, d->m.sector_bytes, t, NULL, &error));
    if (sound) OK(ws_table_check(source, d->m.sector_bytes, &f, &error));
    for (size_t i = 0; i < f.count; i++)
        if (f.list[i].weight == WS_FAULT) fail_at(__FILE__, __LINE__, "%s", f.list[i].text);
    ws_findings_free(&f);
    ws_source_close(source);
}

/* As a kernel takes it: the header at the begin, and the entries to which that leads. */
static void primary_is_valid(const struct disk *d) {
    uint8_t h[92];
    const uint8_t *at = d->bytes + d->m.sector_bytes;
    memcpy(h, at, sizeof h);
    memset(h + 16, 0, 4);
    CHECK_INT(ws_load_le32(at + 16), ws_crc32(h, sizeof h));
    const uint64_t entries = ws_load_le64(at + 72) * d->m.sector_bytes;
    const uint64_t bytes = (uint64_t)ws_load_le32(at + 80) * ws_load_le32(at + 84);
    CHECK(ws_load_le64(at + 48) < d->m.sectors && entries + bytes <= d->size);
    CHECK_INT(ws_load_le32(at + 88), ws_crc32(d->bytes + entries, (size_t)bytes));
}

static void the_last_partition_takes_what_is_there(void) {
    struct ws_table *was = malloc(sizeof *was), *is = malloc(sizeof *is);
    for (int i = 0; i < cases_of(100); i++) {
        const bool gpt = i % 2;
        const uint32_t sector = i % 4 < 2 ? 512 : 4096;
        const unsigned parts = 1 + (unsigned)random_below(gpt ? 8 : 4);
        const uint64_t small = 26 * MIB;
        struct disk *d = disk_of(small + 2 * MIB + random_below(5 * MIB / 4096) * 4096, sector);
        const uint64_t at = fill(d, gpt, small, parts);
        uint64_t length = 0;
        size_t had, has;
        read_table(d, was, false);
        const struct ws_partition *before = ws_table_partitions(was, &had);
        CHECK_INT(grow(d, at, &length), GROWN);
        read_table(d, is, true);
        const struct ws_partition *after = ws_table_partitions(is, &has);
        CHECK_INT(has, had);
        for (size_t p = 0; p < had && p < has; p++) {
            struct ws_partition wanted = before[p];
            if (wanted.at == at) wanted.length = length;
            CHECK(after[p].at == wanted.at && after[p].length == wanted.length && after[p].number == wanted.number);
            CHECK(memcmp(&after[p].id, &wanted.id, 16) == 0 && memcmp(&after[p].type, &wanted.type, 16) == 0);
            CHECK(after[p].mbr_type == wanted.mbr_type && after[p].active == wanted.active);
        }
        const uint64_t end = d->size - (gpt ? (uint64_t)sector + 16384 : 0);
        CHECK_INT(at + length, end / MIB * MIB);
        d->cut = d->writes;
        CHECK_INT(grow(d, at, &length), GROWN_NOT); /* and nothing is written */
        CHECK_INT(d->writes, d->cut);
        disk_free(d);
    }
    free(was);
    free(is);
}

/* Whatever arrives, the table is one that PCs and kernels take, and the next start goes on to the same end. */
static void a_cut_leaves_a_table_that_starts(void) {
    struct ws_table *t = malloc(sizeof *t);
    for (int i = 0; i < 4; i++) {
        const bool gpt = i % 2;
        const uint32_t sector = i < 2 ? 512 : 4096;
        struct disk *whole = disk_of(20 * MIB, sector);
        uint64_t at = fill(whole, gpt, 12 * MIB, 3), length, then;
        uint8_t *before = malloc((size_t)whole->size);
        memcpy(before, whole->bytes, (size_t)whole->size);
        CHECK_INT(grow(whole, at, &length), GROWN);
        CHECK_INT(whole->writes, gpt ? 6 : 1);
        for (unsigned cut = 0; cut < whole->writes; cut++) {
            struct disk *d = disk_of(whole->size, sector);
            size_t count;
            memcpy(d->bytes, before, (size_t)d->size);
            d->cut = cut;
            CHECK_INT(grow(d, at, &then), GROWN_FAILED);
            CHECK_HAS(d->m.error, "the plug is pulled");
            if (gpt) primary_is_valid(d);
            read_table(d, t, false);
            const struct ws_partition *p = ws_table_partitions(t, &count);
            CHECK_INT(count, 3);
            CHECK(p[2].at == at && (p[2].length <= 2 * MIB || p[2].length == length));
            d->cut = UINT32_MAX;
            CHECK_INT(grow(d, at, &then), GROWN);
            read_table(d, t, true);
            CHECK(memcmp(d->bytes, whole->bytes, (size_t)d->size) == 0);
            CHECK_INT(then, length);
            disk_free(d);
        }
        free(before);
        disk_free(whole);
    }
    free(t);
}

static void what_cannot_grow_is_left_as_it_is(void) {
    static const struct {
        const char *what;
        enum grown grown;
    } cases[] = {{"", GROWN_NOT},
                 {"", GROWN_NOT},
                 {"smaller than its", GROWN_FAILED},
                 {"damaged", GROWN_FAILED},
                 {"damaged", GROWN_FAILED},
                 {"no partition table", GROWN_FAILED},
                 {"unusual size", GROWN_FAILED}};
    for (size_t i = 0; i < 2 * sizeof cases / sizeof cases[0]; i++) {
        const size_t which = i / 2;
        const bool gpt = i % 2;
        struct disk *d = disk_of(20 * MIB, 512);
        uint64_t length, at = fill(d, gpt, 12 * MIB, 2);
        if (which == 0) at = MIB;     /* not the last one */
        if (which == 1) at = 9 * MIB; /* none */
        if (which == 2) d->m.sectors = d->size = gpt ? 9000 : 5 * MIB / 512, d->size *= 512;
        if (which == 3 && gpt) d->bytes[512 + 40] ^= 1;
        if (which == 4 && gpt) d->bytes[1024 + 300] ^= 1;
        if (which == 5) memset(d->bytes + (gpt ? 512 : 0), 0, 512);
        if (which == 5 && gpt) d->bytes[510] = 0;
        if (which == 6 && gpt) {
            uint8_t *h = d->bytes + 512;
            ws_store_le32(h + 80, 4096);
            ws_store_le32(h + 16, 0);
            ws_store_le32(h + 16, ws_crc32(h, 92));
        }
        if (!gpt && (which == 2 || which == 3 || which == 4 || which == 6)) {
            disk_free(d);
            continue;
        }
        enum grown seen = grow(d, at, &length);
        CHECK_INT(seen, cases[which].grown);
        CHECK_HAS(d->m.error, cases[which].what);
        CHECK_INT(d->writes, 0);
        disk_free(d);
    }
}

/* Any bytes for a table: nothing outside the drive is read or written. */
static void hostile_tables_do_no_harm(void) {
    for (int i = 0; i < cases_of(600); i++) {
        struct disk *d = disk_of(4 * MIB, random_below(2) ? 512 : 4096);
        const uint32_t sector = d->m.sector_bytes;
        uint64_t length;
        random_bytes(d->bytes, 4ull * sector);
        d->bytes[510] = 0x55, d->bytes[511] = 0xaa;
        if (random_below(3)) {
            uint8_t *h = d->bytes + sector;
            memcpy(h, "EFI PART", 8);
            ws_store_le32(h + 12, random_below(8) ? 92 : (uint32_t)random_below(5000));
            ws_store_le64(h + 24, 1);
            for (size_t at = 40; at <= 72; at += 8)
                if (at != 56 && at != 64 && random_below(8)) ws_store_le64(h + at, random_below(2 * d->m.sectors));
            ws_store_le32(h + 80, random_below(4) ? 1 + (uint32_t)random_below(260) : (uint32_t)random_next());
            ws_store_le32(h + 84, random_below(4) ? 128u << random_below(6) : (uint32_t)random_next());
            uint32_t bytes = ws_load_le32(h + 80) * ws_load_le32(h + 84);
            uint64_t entries = ws_load_le64(h + 72) * sector;
            if (ws_inside(entries, bytes, d->size)) ws_store_le32(h + 88, ws_crc32(d->bytes + entries, bytes));
            uint32_t header = ws_load_le32(h + 12);
            ws_store_le32(h + 16, 0);
            if (header <= sector) ws_store_le32(h + 16, ws_crc32(h, header));
        }
        (void)grow(d, random_below(3) * MIB, &length);
        disk_free(d);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"the last partition takes what is there", the_last_partition_takes_what_is_there},
        {"a cut leaves a table that starts", a_cut_leaves_a_table_that_starts},
        {"what cannot grow is left as it is", what_cannot_grow_is_left_as_it_is},
        {"hostile tables do no harm", hostile_tables_do_no_harm},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
