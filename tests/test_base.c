/* test_base.c — sizes, hashes, identifiers, text; sources and trees. */
#include "tests/harness.h"

#include <locale.h>

#include "src/base/calendar.h"

#include <time.h>

static void sizes_are_read_as_technicians_write_them(void) {
    static const struct {
        const char *text;
        uint64_t bytes;
    } good[] = {
        {"4G", 4ull << 30},    {"4GiB", 4ull << 30}, {"4GB", 4000000000ull}, {"512", 512},         {"1.5G", 3ull << 29},
        {"500 MB", 500000000}, {"16M", 16 << 20},    {"2T", 2ull << 40},     {"64kB", 64000},      {"0", 0},
        {"4g", 4ull << 30},    {"1,5G", 3ull << 29}, {"500mb", 500000000},   {"2 gib", 2ull << 30}};
    static const char *const bad[] = {"",    "G",   "-4G", "4X",        "4 apples", "4e9",   "0x10",
                                      "nan", "inf", "4GG", "99999999T", "1,500M",   "1.5.2G"};
    for (size_t i = 0; i < sizeof good / sizeof good[0]; i++) {
        uint64_t bytes = 1;
        OK(ws_size_parse(good[i].text, &bytes, &error));
        CHECK_INT(bytes, good[i].bytes);
    }
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        uint64_t bytes = 77;
        enum ws_status status = ws_size_parse(bad[i], &bytes, &error);
        if (status == WS_OK)
            fail_at(__FILE__, __LINE__, "\"%s\" was taken for %llu", bad[i], (unsigned long long)bytes);
        CHECK_INT(bytes, 77);
    }
}

static void sizes_are_shown_as_sold_and_as_counted(void) {
    char out[48];
    CHECK_STR(ws_size_both(32010928128ull, out, sizeof out), "32 GB · 29.8 GiB");
    CHECK_STR(ws_size_both(500107862016ull, out, sizeof out), "500 GB · 466 GiB");
    CHECK_STR(ws_size_both(512, out, sizeof out), "512 bytes");
    CHECK_STR(ws_size_counted(1 << 20, out, sizeof out), "1 MiB");
    CHECK_STR(ws_duration(0.44, out, sizeof out), "0.4 s");
    CHECK_STR(ws_duration(7080, out, sizeof out), "118 min");
    CHECK_STR(ws_duration(7300, out, sizeof out), "2 h 01 min");
}

static void checksums_match_their_published_examples(void) {
    char hex[WS_HASH_HEX];
    CHECK_INT(ws_crc32("123456789", 9), 0xcbf43926);
    CHECK_INT(ws_crc32c(0xffffffff, "123456789", 9) ^ 0xffffffff, 0xe3069283);
    OK(ws_hash_bytes(WS_HASH_SHA256, "abc", 3, hex, &error));
    CHECK_STR(hex, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    OK(ws_hash_bytes(WS_HASH_MD5, "", 0, hex, &error));
    CHECK_STR(hex, "d41d8cd98f00b204e9800998ecf8427e");
}

static void identifiers_go_to_disk_and_back(void) {
    struct ws_guid guid, back, derived, again;
    uint8_t disk[16];
    char text[37];
    CHECK(ws_guid_parse("c12a7328-f81f-11d2-ba4b-00a0c93ec93b", &guid));
    ws_guid_to_disk(&guid, disk);
    CHECK(disk[0] == 0x28 && disk[3] == 0xc1 && disk[4] == 0x1f && disk[8] == 0xba);
    ws_guid_from_disk(disk, &back);
    CHECK_STR(ws_guid_text(&back, text), "c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
    static const char *const bad[] = {"", "c12a7328f81f11d2ba4b00a0c93ec93b", "c12a7328-f81f-11d2-ba4b-00a0c93ec93",
                                      "c12a7328-f81f-11d2-ba4b-00a0c93ec93g", "c12a7328-f81f-11d2-ba4b_00a0c93ec93b"};
    for (size_t i = 0; i < 5; i++) CHECK(!ws_guid_parse(bad[i], &back));
    OK(ws_guid_derive(&guid, "volume", &derived, &error));
    OK(ws_guid_derive(&guid, "volume", &again, &error));
    CHECK(memcmp(&derived, &again, sizeof again) == 0);
    OK(ws_guid_derive(&guid, "partition", &again, &error));
    CHECK(memcmp(&derived, &again, sizeof again) != 0);
    CHECK((derived.byte[6] & 0xf0) == 0x80 && (derived.byte[8] & 0xc0) == 0x80);
}

static void utf16_survives_both_ways(void) {
    static const char *const texts[] = {"Gorse", "Fährhaus", "潮位", "🐦 Curlew"};
    for (size_t i = 0; i < 4; i++) {
        uint16_t units[32];
        char back[64];
        ws_utf8_from_utf16(units, ws_utf16_from_utf8(texts[i], units, 32), back, sizeof back);
        CHECK_STR(back, texts[i]);
    }
    uint16_t units[8];
    CHECK_INT(ws_utf16_from_utf8("\xff\xfe", units, 8), 2); /* invalid bytes become U+FFFD, none is lost */
    CHECK_INT(units[0], 0xfffd);
    CHECK_INT(ws_utf16_from_utf8("\xed\xa0\x80", units, 8), 1);
    CHECK_INT(units[0], 0xfffd);
    CHECK_INT(ws_utf16_from_utf8("abcdef", units, 3), 3);
}

static void findings_keep_the_worst(void) {
    struct ws_findings f = {0};
    CHECK_INT(ws_findings_worst(&f), WS_NOTE);
    ws_findings_add(&f, WS_WARNING, "small");
    ws_findings_add(&f, WS_FAULT, "partition %d", 3);
    for (int i = 0; i < 1200; i++) ws_findings_add(&f, WS_NOTE, "more");
    CHECK_INT(f.count, 1000);
    CHECK_INT(ws_findings_worst(&f), WS_FAULT);
    CHECK_STR(f.list[1].text, "partition 3");
    ws_findings_free(&f);
}

static void errors_keep_the_closest_cause(void) {
    struct ws_error e = {0};
    ws_fail(&e, WS_E_READ, "sector %d", 7);
    ws_fail_where(&e, "inner");
    ws_fail_where(&e, "outer");
    CHECK_STR(e.where, "inner");
    CHECK_STR(ws_status_name(WS_E_REFUSED), "refused");
    CHECK_STR(ws_status_name((enum ws_status)99), "unknown");
    ws_fail(&e, WS_E_RANGE, "too large");
    CHECK_INT(ws_fail_hint(&e, WS_HINT_DATA, "rest", "take %s", "less"), WS_E_RANGE);
    (void)ws_fail_hint(&e, WS_HINT_KIND, "replica", "outer"); /* neither its words nor its code */
    CHECK(strcmp(e.next, "take less") == 0 && e.ways == 1 && e.way[0].hint == WS_HINT_DATA);
    for (int i = 0; i < 5; i++) (void)ws_fail_way(&e, WS_HINT_DRIVES, "");
    CHECK(e.ways == WS_WAYS && strcmp(e.way[0].value, "rest") == 0 && e.way[1].hint == WS_HINT_DRIVES);
    ws_fail(&e, WS_E_READ, "another");
    CHECK(e.ways == 0);
    CHECK_INT(ws_fail_hint(NULL, WS_HINT_DATA, "", "nobody"), WS_E_READ);
    ws_fail(NULL, WS_E_READ, "nobody listens");
    CHECK(ws_fail_where(NULL, "anywhere") != WS_OK); /* still a failure */
    CHECK(ws_fail_next(NULL, "anything") != WS_OK);
}

/* Sources put together in every way against plain memory. */
static void runs_read_like_the_bytes_they_stand_for(void) {
    enum { BASE = 10000 };
    uint8_t base_bytes[BASE];
    struct ws_source *base = NULL;
    random_bytes(base_bytes, BASE);
    OK(ws_source_memory(base_bytes, BASE, &base, &error));
    for (int round = 0; round < 200; round++) {
        struct ws_run runs[12];
        uint8_t wanted[40000] = {0};
        uint8_t seen[40000];
        size_t count = random_below(12);
        uint64_t total = 0;
        for (size_t i = 0; i < count; i++) {
            runs[i].length = 1 + random_below(2000);
            runs[i].at = random_below(4) == 0 ? WS_RUN_HOLE : random_below(BASE - runs[i].length);
            if (runs[i].at != WS_RUN_HOLE) memcpy(wanted + total, base_bytes + runs[i].at, runs[i].length);
            total += runs[i].length;
        }
        uint64_t size = total ? random_below(total + 500) : random_below(500);
        if (size < total) memset(wanted + size, 0, total - size);
        struct ws_source *source = NULL;
        OK(ws_source_runs(base, runs, count, size, &source, &error));
        for (int reads = 0; reads < 20; reads++) {
            uint64_t at = random_below(size + 1);
            size_t length = (size_t)random_below(size - at + 1);
            OK(ws_source_read(source, at, seen, length, &error));
            if (memcmp(seen, wanted + at, length) != 0) fail_at(__FILE__, __LINE__, "round %d differs", round);
        }
        FAILS(ws_source_read(source, size, seen, 1, &error), WS_E_RANGE);
        FAILS(ws_source_read(source, UINT64_MAX, seen, 2, &error), WS_E_RANGE);
        ws_source_close(source);
    }
    struct ws_run outside = {10, BASE - 5};
    struct ws_source *none = NULL;
    FAILS(ws_source_runs(base, &outside, 1, 10, &none, &error), WS_E_FORMAT);
    FAILS(ws_source_slice(base, BASE, 1, &none, &error), WS_E_RANGE);
    ws_source_close(base);
}

static void patches_win_over_what_they_cover(void) {
    enum { SIZE = 5000, GROWN = 6000 };
    uint8_t wanted[GROWN] = {0};
    uint8_t seen[GROWN];
    struct ws_source *base = NULL;
    struct ws_source *patched = NULL;
    random_bytes(wanted, SIZE);
    OK(ws_source_memory(wanted, SIZE, &base, &error));
    OK(ws_source_patched(base, GROWN, &patched, &error));
    for (int i = 0; i < 50; i++) {
        uint8_t bytes[300];
        size_t length = random_below(300);
        uint64_t at = random_below(GROWN - length);
        random_bytes(bytes, length);
        memcpy(wanted + at, bytes, length);
        OK(ws_source_patch(patched, at, bytes, length, &error));
        uint64_t from = random_below(GROWN);
        OK(ws_source_read(patched, from, seen, GROWN - from, &error));
        CHECK(memcmp(seen, wanted + from, GROWN - from) == 0);
    }
    FAILS(ws_source_patch(patched, GROWN - 1, "ab", 2, &error), WS_E_RANGE);
    ws_source_close(patched);
    ws_source_close(base);
}

static void trees_find_replace_and_drop(void) {
    struct ws_tree *tree = NULL;
    struct ws_node *node = NULL;
    struct ws_node *twin = NULL;
    char path[64];
    OK(ws_tree_create(&tree, &error));
    OK(ws_tree_put(tree, "/etc//hut/readings.csv", "1.42", 4, &node, &error));
    CHECK_STR(ws_node_path(node, path, sizeof path), "/etc/hut/readings.csv");
    CHECK(ws_tree_find(tree, "etc/hut/readings.csv") == node);
    CHECK(!ws_tree_find(tree, "etc/hut/READINGS.csv"));
    CHECK(ws_tree_find_any_case(tree, "ETC/hut/READINGS.csv") == node);
    CHECK_INT(ws_node_size(node), 4);
    OK(ws_tree_put(tree, "etc/hut/readings.csv", "1.4200", 6, NULL, &error));
    CHECK_INT(ws_node_size(node), 6);
    OK(ws_tree_add(tree, ws_tree_root(tree), "same", WS_NODE_FILE, &twin, &error));
    twin->same_as = node;
    CHECK_INT(ws_tree_count(tree), 5);
    ws_tree_drop(tree, ws_tree_find(tree, "etc")); /* the other name takes the content over */
    CHECK_INT(ws_tree_count(tree), 2);
    CHECK(!twin->same_as);
    CHECK_INT(ws_node_size(twin), 6);
    FAILS(ws_tree_add(tree, ws_tree_root(tree), "..", WS_NODE_FILE, &node, &error), WS_E_RANGE);
    FAILS(ws_tree_add(tree, ws_tree_root(tree), "a/b", WS_NODE_FILE, &node, &error), WS_E_RANGE);
    FAILS(ws_tree_add(tree, ws_tree_root(tree), "", WS_NODE_FILE, &node, &error), WS_E_RANGE);
    FAILS(ws_tree_folder(tree, "same/below", &node, &error), WS_E_USAGE);
    OK(ws_tree_set_xattr(tree, twin, "user.a", "1", 1, &error));
    OK(ws_tree_set_xattr(tree, twin, "user.a", "22", 2, &error));
    CHECK(twin->xattrs && !twin->xattrs->next && twin->xattrs->length == 2);
    ws_tree_close(tree);
}

/* The C library's own calendar is the judge. */
static void dates_go_both_ways(void) {
    for (int i = 0; i < 20000; i++) {
        int64_t day = (int64_t)random_below(300000) - 150000, year;
        unsigned month, date;
        time_t seconds = (time_t)(day * 86400);
        struct tm wanted;
        CHECK(gmtime_r(&seconds, &wanted) != NULL);
        ws_date_of(day, &year, &month, &date);
        if (year != wanted.tm_year + 1900 || (int)month != wanted.tm_mon + 1 || (int)date != wanted.tm_mday)
            fail_at(__FILE__, __LINE__, "day %lld is %lld-%u-%u", (long long)day, (long long)year, month, date);
        CHECK_INT(ws_days_of(year, month, date), day);
        int64_t moment = 315532800 + (int64_t)random_below(4039286398) / 2 * 2;
        CHECK_INT(ws_time_of_dos(ws_dos_time(moment)), moment);
    }
    CHECK_INT(ws_dos_time(0), ws_dos_time(315532800)); /* before 1980 and after 2107: the nearest there is */
    CHECK_INT(ws_time_of_dos(ws_dos_time(1ll << 40)), 4354819198);
    CHECK_INT(ws_time_of_dos(0), 0);
}

/* A program that uses the library may have any locale. */
static void a_decimal_comma_changes_nothing(void) {
    static const char *const locales[] = {"C", "de_DE.UTF-8", "fr_FR.UTF-8", "pt_BR.UTF-8"};
    for (size_t i = 0; i < sizeof locales / sizeof locales[0]; i++) {
        char text[48];
        uint64_t bytes = 0;
        (void)setlocale(LC_ALL, locales[i]); /* where it is not installed, nothing is tried */
        OK(ws_size_parse("1.5G", &bytes, &error));
        CHECK_INT(bytes, 1610612736);
        OK(ws_size_parse("1,5G", &bytes, &error));
        CHECK_INT(bytes, 1610612736);
        FAILS(ws_size_parse("1e3", &bytes, &error), WS_E_USAGE);
        FAILS(ws_size_parse("0x10", &bytes, &error), WS_E_USAGE);
        CHECK_STR(ws_size_both(32010928128ull, text, sizeof text), "32 GB \xc2\xb7 29.8 GiB");
        CHECK_STR(ws_size_counted(1536, text, sizeof text), "1.5 KiB");
        CHECK_STR(ws_duration(0.44, text, sizeof text), "0.4 s");
    }
    (void)setlocale(LC_ALL, "C");
}

/* Nothing from outside steers a terminal, and nothing readable is lost. */
static void texts_from_outside_are_made_visible(void) {
    static const struct {
        const char *raw, *shown;
    } cases[] = {{"Curlew Live 12", "Curlew Live 12"},
                 {"H\xc3\xbctte \xe6\xbd\xae\xe4\xbd\x8d", "H\xc3\xbctte \xe6\xbd\xae\xe4\xbd\x8d"},
                 {"a\033[2Jb", "a\\x1b[2Jb"},
                 {"two\nlines\r\t", "two\\x0alines\\x0d\\x09"},
                 {"c1 \xc2\x9b!", "c1 \\x9b!"},
                 {"\xe2\x80\xaegnp", "\\u202egnp"},
                 {"\xe2\x81\xa6", "\\u2066"},
                 {"cut \xc3", "cut \\xc3"},
                 {"\xff\xfe", "\\xff\\xfe"},
                 {"long \xc0\xaf", "long \\xc0\\xaf"}, /* a slash written too long */
                 {"\xed\xa0\x80", "\\xed\\xa0\\x80"}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char out[64];
        ws_visible(cases[i].raw, out, sizeof out);
        CHECK_STR(out, cases[i].shown);
        CHECK_INT(ws_is_visible(cases[i].raw), strcmp(cases[i].raw, cases[i].shown) == 0);
    }
    for (int k = 0; k < 20000; k++) { /* whatever it was, it can be shown and stands in a document */
        char raw[40], out[200];
        size_t n = (size_t)random_below(sizeof raw - 1);
        random_bytes(raw, n);
        raw[n] = '\0';
        ws_visible(raw, out, sizeof out);
        CHECK(ws_is_visible(out));
    }
    char cut[8];
    ws_visible("1234\xe6\xbd\xae\xe4\xbd\x8d", cut, sizeof cut);
    CHECK_STR(cut, "1234\xe6\xbd\xae");
}

/* Findings are whole, however long; a failure has the same status whether its text is wanted or not. */
static void nothing_is_cut_or_dropped(void) {
    struct ws_findings f = {0};
    struct ws_text text = {0};
    for (int i = 0; i < 400; i++) ws_text_puts(&text, "\xc3\xbc");
    ws_findings_add(&f, WS_FAULT, "%s", text.data);
    CHECK_INT(f.count, 1);
    CHECK_STR(f.list[0].text, text.data);
    ws_findings_free(&f);
    ws_text_free(&text);
    for (int status = WS_E_USAGE; status <= WS_E_CANCELLED; status++) {
        struct ws_error e = {0};
        ws_fail(&e, (enum ws_status)status, "x");
        CHECK_INT(ws_fail_next(&e, "y"), status);
        ws_fail(NULL, (enum ws_status)status, "x");
        CHECK_INT(ws_fail_where(NULL, "w"), status);
        CHECK_INT(ws_fail_next(NULL, "y"), status);
    }
    struct ws_error e = {0};
    for (int i = 0; i < 6; i++) {
        char name[1100] = "";
        memset(name, 'x', (size_t)(500 + i));
        strcat(name, "\xe6\xbd\xae\xe4\xbd\x8d");
        ws_fail(&e, WS_E_READ, "%s", name);
        CHECK(ws_is_visible(e.what)); /* cut, but at a whole character */
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"sizes are read as technicians write them", sizes_are_read_as_technicians_write_them},
        {"sizes are shown as sold and as counted", sizes_are_shown_as_sold_and_as_counted},
        {"checksums match their published examples", checksums_match_their_published_examples},
        {"identifiers go to disk and back", identifiers_go_to_disk_and_back},
        {"UTF-16 survives both ways", utf16_survives_both_ways},
        {"findings keep the worst", findings_keep_the_worst},
        {"errors keep the closest cause", errors_keep_the_closest_cause},
        {"runs read like the bytes they stand for", runs_read_like_the_bytes_they_stand_for},
        {"patches win over what they cover", patches_win_over_what_they_cover},
        {"dates go both ways", dates_go_both_ways},
        {"trees find, replace and drop", trees_find_replace_and_drop},
        {"a decimal comma changes nothing", a_decimal_comma_changes_nothing},
        {"texts from outside are made visible", texts_from_outside_are_made_visible},
        {"nothing is cut or dropped", nothing_is_cut_or_dropped},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
