/* test_pieces.c — digests and sums of what drives hold, piece by piece: they stand for layouts and sources. */
#include "tests/harness.h"

enum { MIB = 1 << 20 };

/* Digests that one check gave stand for the layout in the next: a changed byte is found where it is, and nowhere else.
 */
static void outlines_say_where_a_source_was_changed(void) {
    for (int i = 0; i < 6; i++) {
        size_t count = i == 0 ? 1 : 1 + random_below(i < 3 ? 900 : 70000);
        struct ws_pieces pieces = {0};
        struct ws_changed c;
        char was[WS_OUTLINE_ROOM], is[WS_OUTLINE_ROOM];
        for (size_t k = 0; k < count; k++) {
            struct ws_digest_piece p = {.at = k * (uint64_t)WS_DIGEST_BYTES, .length = WS_DIGEST_BYTES};
            random_bytes(p.sha256, 32);
            OK(ws_pieces_add(&pieces, &p, &error));
        }
        OK(ws_pieces_outline(&pieces, was, &error));
        ws_outline_compare(was, was, count, &c);
        CHECK(c.changed == 0 && c.stretches <= WS_STRETCHES && c.stretches * c.stretch >= count * WS_DIGEST_BYTES);
        size_t bad = random_below(count);
        random_bytes(pieces.list[bad].sha256, 32);
        OK(ws_pieces_outline(&pieces, is, &error));
        ws_outline_compare(was, is, count, &c);
        if (c.changed) /* one time in 65,536 it is not seen */
            CHECK(c.changed == 1 && c.at <= pieces.list[bad].at && pieces.list[bad].at - c.at < c.stretch);
        was[0] = '\0'; /* not of this source */
        ws_outline_compare(was, is, count, &c);
        CHECK(c.changed == c.stretches && c.at == 0);
        ws_pieces_free(&pieces);
    }
}

static void pieces_stand_for_the_layout(void) {
    enum { SIZE = 40 * MIB };
    for (int round = 0; round < cases_of(12); round++) {
        uint8_t *wanted = malloc(SIZE);
        struct memory_drive *d = memory_drive(SIZE, 512);
        struct ws_layout *layout = random_layout(SIZE, round % 2 ? 4 : 300, true, wanted);
        struct ws_write_result written;
        struct ws_check_result check;
        struct ws_pieces pieces = {0}, again = {0};
        struct ws_check_options o = {.with_hash = true, .pieces = &pieces};
        OK(ws_write(plain_port(), layout, &d->drive, &(struct ws_write_options){0}, &written, &error));
        OK(ws_check(plain_port(), layout, &d->drive, &o, &check, &error));
        CHECK(check.equal && pieces.count > 0);
        uint64_t bytes = 0;
        for (size_t i = 0; i < pieces.count; i++) { /* each is what anybody would work out */
            char hex[WS_HASH_HEX], is[65];
            bytes += pieces.list[i].length;
            OK(ws_hash_bytes(WS_HASH_SHA256, d->bytes + pieces.list[i].at, pieces.list[i].length, hex, &error));
            for (int k = 0; k < 32; k++) snprintf(is + 2 * k, 3, "%02x", pieces.list[i].sha256[k]);
            CHECK_STR(is, hex);
        }
        CHECK_INT(bytes, ws_layout_bytes(layout));
        char root[WS_HASH_HEX];
        memcpy(root, check.sha256, sizeof root);
        o.pieces = &again;
        OK(ws_check_pieces(plain_port(), &pieces, &d->drive, &o, &check, &error));
        CHECK(check.equal && check.checked == bytes && again.count == pieces.count);
        CHECK_STR(check.sha256, root);
        ws_pieces_free(&again);
        size_t bad = random_below(pieces.count); /* one byte, and perhaps one of a hole */
        d->bytes[pieces.list[bad].at + random_below(pieces.list[bad].length)] ^= 4;
        o.pieces = NULL;
        OK(ws_check_pieces(plain_port(), &pieces, &d->drive, &o, &check, &error));
        CHECK(!check.equal && check.different_at == pieces.list[bad].at && check.different_chunks == 1);
        struct ws_digest_piece odd = pieces.list[pieces.count - 1];
        FAILS(ws_pieces_add(&pieces, &odd, &error), WS_E_RANGE); /* not behind the last */
        odd.at = 2 * WS_DIGEST_BYTES * 1000ull - 5;
        odd.length = 10;
        FAILS(ws_pieces_add(&pieces, &odd, &error), WS_E_RANGE); /* across a border */
        odd.at = 1ull << 40;
        OK(ws_pieces_add(&pieces, &odd, &error));
        FAILS(ws_check_pieces(plain_port(), &pieces, &d->drive, &o, &check, &error), WS_E_RANGE);
        ws_pieces_free(&pieces);
        ws_layout_close(layout);
        memory_drive_free(d);
        free(wanted);
    }
}

/* Of a source: the same whether one task works or two. */
static void pieces_of_a_source(void) {
    uint8_t *bytes = malloc(30 * MIB);
    random_bytes(bytes, 30 * MIB);
    for (int i = 0; i < 6; i++) {
        struct ws_source *s = NULL;
        struct ws_pieces one = {0}, two = {0};
        char a[WS_HASH_HEX], b[WS_HASH_HEX];
        OK(ws_source_memory(bytes, i == 0 ? 0 : (size_t)random_below(30 * MIB), &s, &error));
        OK(ws_pieces_of_source(NULL, s, 1, &one, &error));
        OK(ws_pieces_of_source(plain_port(), s, 1, &two, &error));
        OK(ws_pieces_root(&one, a, &error));
        OK(ws_pieces_root(&two, b, &error));
        CHECK_STR(a, b);
        CHECK_INT(one.count, (s->size + WS_DIGEST_BYTES - 1) / WS_DIGEST_BYTES);
        ws_pieces_free(&one);
        ws_pieces_free(&two);
        ws_source_close(s);
    }
    free(bytes);
}

/* Sums of what was written stand for the sources: what reads back otherwise is found where it is, and the digests are
 * those of what was found. */
static void sums_stand_for_what_was_written(void) {
    enum { SIZE = 24 * MIB };
    for (int round = 0; round < cases_of(8); round++) {
        uint8_t *wanted = malloc(SIZE);
        struct memory_drive *d = memory_drive(SIZE, 512);
        struct ws_layout *layout = random_layout(SIZE, round % 2 ? 4 : 300, false, wanted);
        struct ws_write_result written;
        struct ws_check_result plain, check;
        struct ws_sums sums = {0};
        struct ws_digests *digests = NULL;
        uint64_t worked_out, asked;
        OK(ws_digests_open(plain_port(), &digests, &error));
        OK(ws_write(plain_port(), layout, &d->drive, &(struct ws_write_options){.sums = &sums}, &written, &error));
        for (size_t i = 0; i < sums.count; i++) { /* the polynomial's own digits, bit by bit */
            uint64_t sum = UINT64_MAX;
            for (uint32_t k = 0; k < sums.list[i].length && k < 300; k++) {
                sum ^= (uint64_t)d->bytes[sums.list[i].at + k] << 56;
                for (int bit = 0; bit < 8; bit++) sum = sum << 1 ^ (sum >> 63 ? 0x42f0e1eba9ea3693u : 0);
            }
            if (sums.list[i].length <= 300) CHECK(sums.list[i].sum == ~sum);
            CHECK(ws_sums_find(&sums, sums.list[i].at, sums.list[i].length) == &sums.list[i]);
            CHECK(!ws_sums_find(&sums, sums.list[i].at, sums.list[i].length + 1ull));
        }
        struct ws_check_options o = {.with_hash = true};
        OK(ws_check(plain_port(), layout, &d->drive, &o, &plain, &error));
        o.written = &sums;
        o.digests = digests;
        for (int again = 0; again < 2; again++) {
            OK(ws_check(plain_port(), layout, &d->drive, &o, &check, &error));
            CHECK(check.equal);
            CHECK_STR(check.sha256, plain.sha256);
        }
        ws_digests_count(digests, &worked_out, &asked);
        CHECK(worked_out == sums.count && asked == 2 * sums.count);
        const struct ws_sum *bad = &sums.list[random_below(sums.count)];
        uint64_t at = bad->at + random_below(bad->length);
        d->bytes[at] ^= 32;
        OK(ws_check(plain_port(), layout, &d->drive, &(struct ws_check_options){.with_hash = true}, &plain, &error));
        OK(ws_check(plain_port(), layout, &d->drive, &o, &check, &error));
        CHECK(!check.equal && check.different_at == at && check.different_chunks == 1);
        CHECK_STR(check.sha256, plain.sha256);
        ws_digests_close(digests);
        ws_sums_free(&sums);
        ws_layout_close(layout);
        memory_drive_free(d);
        free(wanted);
    }
}

struct asking {
    struct ws_digests *digests;
    const uint8_t *bytes;
    uint8_t found[400][32];
};

static void ask_for_digests(void *context) {
    struct asking *a = context;
    for (unsigned i = 0; i < 400; i++) {
        struct ws_digest_piece p = {.at = i / 2 * 4096, .length = 4096}; /* two of each place, of other bytes */
        const uint8_t *bytes = a->bytes + (size_t)i * 100;
        if (!ws_digests_of(a->digests, &p, ws_sum_of(bytes, 4096), bytes, a->found[i])) abort();
    }
}

/* Each digest is worked out by one, and all have it. */
static void several_tasks_ask_for_digests(void) {
    enum { TASKS = 4, BYTES = 400 * 100 + 4096 };
    uint8_t bytes[BYTES];
    struct asking *asking = calloc(TASKS, sizeof *asking);
    struct ws_task *task[TASKS] = {NULL};
    struct ws_digests *digests = NULL;
    struct ws_port *port = NULL;
    uint64_t worked_out, asked;
    random_bytes(bytes, BYTES);
    OK(ws_linux_open(&port, &error));
    OK(ws_digests_open(port, &digests, &error));
    for (int i = 0; i < TASKS; i++) {
        asking[i] = (struct asking){.digests = digests, .bytes = bytes};
        OK(port->ops->start(port, ask_for_digests, &asking[i], &task[i], &error));
    }
    for (int i = 0; i < TASKS; i++) port->ops->join(port, task[i]);
    ws_digests_count(digests, &worked_out, &asked);
    CHECK_INT(worked_out, 400);
    CHECK_INT(asked, 400 * TASKS);
    for (int i = 0; i < 400; i++) {
        char hex[WS_HASH_HEX], is[65];
        OK(ws_hash_bytes(WS_HASH_SHA256, bytes + (size_t)i * 100, 4096, hex, &error));
        for (int t = 0; t < TASKS; t++) {
            for (int k = 0; k < 32; k++) snprintf(is + 2 * k, 3, "%02x", asking[t].found[i][k]);
            CHECK_STR(is, hex);
        }
    }
    ws_digests_close(digests);
    port->ops->close(port);
    free(asking);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"outlines say where a source was changed", outlines_say_where_a_source_was_changed},
        {"pieces stand for the layout", pieces_stand_for_the_layout},
        {"pieces of a source", pieces_of_a_source},
        {"sums stand for what was written", sums_stand_for_what_was_written},
        {"several tasks ask for digests", several_tasks_ask_for_digests},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
