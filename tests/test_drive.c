/* test_drive.c — drives told apart, and which may be written. */
#include "tests/harness.h"

static void short_names_tell_twins_apart(void) {
    struct ws_drive_facts a = {.model = "Gorse 32", .serial = "1", .size = 32010928128ull};
    struct ws_drive_facts b = a;
    struct ws_drive_facts c = a;
    strcpy(b.serial, "2");
    OK(ws_drive_short_name(&a, &error));
    OK(ws_drive_short_name(&b, &error));
    OK(ws_drive_short_name(&c, &error));
    CHECK(strncmp(a.short_name, "gorse-32-", 9) == 0);
    CHECK(strcmp(a.short_name, b.short_name) != 0);
    CHECK_STR(a.short_name, c.short_name);
}

static void the_safety_rules_hold(void) {
    static const struct {
        const char *case_;
        struct ws_drive_facts facts;
        bool allow;
        enum ws_status wanted;
    } cases[] = {
        {"stick", {.removable = WS_YES, .internal = WS_NO, .size = 1}, false, WS_OK},
        {"system", {.removable = WS_YES, .internal = WS_NO, .size = 1, .system = true}, true, WS_E_REFUSED},
        {"internal", {.removable = WS_YES, .internal = WS_YES, .size = 1}, true, WS_E_REFUSED},
        {"cannot be told", {.removable = WS_YES, .internal = WS_UNKNOWN, .size = 1}, true, WS_E_REFUSED},
        {"mounted", {.removable = WS_YES, .internal = WS_NO, .size = 1, .in_use_by = "/mnt"}, true, WS_E_REFUSED},
        {"protected", {.removable = WS_YES, .internal = WS_NO, .size = 1, .read_only = true}, true, WS_E_REFUSED},
        {"empty reader", {.removable = WS_YES, .internal = WS_NO}, true, WS_E_REFUSED},
        {"external SSD", {.removable = WS_NO, .internal = WS_NO, .size = 1}, false, WS_E_REFUSED},
        {"external SSD, meant", {.removable = WS_NO, .internal = WS_NO, .size = 1}, true, WS_OK},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_target_rules rules = {cases[i].allow};
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_drive_may_write(&cases[i].facts, &rules, &error);
        if (status != cases[i].wanted) fail_at(__FILE__, __LINE__, "%s: %s", cases[i].case_, ws_status_name(status));
        if (status != WS_OK) CHECK(error.what[0] && error.next[0]);
    }
}

/* One name for each, and a place where that does not tell them apart. */
static void places_tell_those_apart_that_look_alike(void) {
    struct ws_drive_facts f = {.short_name = "gorse-32-aaaa", .place = "1-2.3"};
    CHECK(ws_drive_alike(&f, "gorse-32-aaaa@7-1") && !ws_drive_alike(&f, "gorse-32-aaa") &&
          !ws_drive_alike(&f, "@1-2.3"));
    CHECK(ws_drive_called(&f, "gorse-32-aaaa") && ws_drive_called(&f, "gorse-32-aaaa@1-2.3"));
    CHECK(!ws_drive_called(&f, "gorse-32-aaaa@1-2") && !ws_drive_called(&f, "gorse-32-aaaa@"));
    ws_drive_call(&f, "gorse-32-aaaa@1-2");
    ws_drive_call(&f, NULL);
    CHECK_STR(f.short_name, "gorse-32-aaaa");
    ws_drive_call(&f, "gorse-32-aaaa@1-2.3");
    CHECK_STR(f.short_name, "gorse-32-aaaa@1-2.3");
    ws_drive_call_by_place(&f);
    CHECK_STR(f.short_name, "gorse-32-aaaa@1-2.3");
    CHECK(!ws_drive_called(&f, "gorse-32-aaaa")); /* another looks like it */
    memset(f.place, 'p', 60);
    f.place[60] = 0;
    ws_drive_call_by_place(&f); /* too long for a name: then it has none of its own */
    CHECK_STR(f.short_name, "gorse-32-aaaa@1-2.3");
}

/* A port of four drives, two of one model. */
static const struct ws_drive_facts here[] = {
    {.id = "/dev/a", .short_name = "gorse-32-aaaa", .model = "Gorse 32", .place = "1-1"},
    {.id = "/dev/b", .short_name = "gorse-32-bbbb", .model = "Gorse 32", .place = "1-2.1"},
    {.id = "/dev/c", .short_name = "teasel-8-cccc", .model = "Teasel 8"},
    {.id = "/dev/d", .short_name = "fulmar-500-dddd", .model = "Fulmar 500"}};
static enum ws_status list_here(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *e) {
    (void)port, (void)e;
    for (size_t i = 0; i < 4 && visit(context, &here[i]); i++) {
    }
    return WS_OK;
}
static enum ws_status open_none(struct ws_port *port, const char *id, enum ws_open_mode mode, struct ws_drive **drive,
                                struct ws_error *e) {
    (void)port, (void)mode, (void)drive;
    return ws_fail(e, WS_E_NOTFOUND, "there is no drive %s", id);
}

static void a_drive_is_found_by_what_tells_it(void) {
    static const struct {
        const char *word, *id, *says; /* says: of the failure */
    } cases[] = {
        {"/dev/b", "/dev/b", NULL},
        {"1-2.1", "/dev/b", NULL},
        {"gorse-32-aaaa", "/dev/a", NULL},
        {"Teasel 8", "/dev/c", NULL},
        {"TEASEL 8", "/dev/c", NULL},
        {"ful", "/dev/d", NULL},
        {"cccc", "/dev/c", NULL},
        {"Gorse 32", NULL, "gorse-32-aaaa at 1-1, gorse-32-bbbb at 1-2.1"},
        {"gorse", NULL, "something like"},
        {"teasle-8-cccc", NULL, "did you mean \"teasel-8-cccc\""},
        {"Fulmer 500", NULL, "did you mean \"Fulmar 500\""},
        {"office", NULL, "no drive office"},
        {"", NULL, "no drive"},
    };
    static const struct ws_port_ops ops = {.list = list_here, .open = open_none};
    struct ws_port port = {&ops};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_drive_facts facts;
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_drive_find(&port, cases[i].word, &facts, &error);
        if (cases[i].id) {
            CHECK_INT(status, WS_OK);
            if (status == WS_OK) CHECK_STR(facts.id, cases[i].id);
        } else if (status == WS_OK || (!strstr(error.what, cases[i].says) && !strstr(error.next, cases[i].says))) {
            fail_at(__FILE__, __LINE__, "%s: %s; %s", cases[i].word, error.what, error.next);
        }
    }
}

static void words_that_are_nearly_another_are_near(void) {
    CHECK_INT(ws_word_distance("plan", "plan"), 0);
    CHECK_INT(ws_word_distance("PLAN", "plan"), 0);
    CHECK_INT(ws_word_distance("paln", "plan"), 1);
    CHECK_INT(ws_word_distance("pln", "plan"), 1);
    CHECK_INT(ws_word_distance("", "plan"), 4);
    CHECK_INT(ws_word_distance("persistance", "persistence"), 1);
    char a[80], b[80];
    for (int i = 0; i < cases_of(500); i++) { /* no order, no detour: what a distance is */
        for (size_t k = 0; k < 2; k++) {
            char *word = k ? b : a;
            size_t n = (size_t)random_below(12);
            for (size_t c = 0; c < n; c++) word[c] = (char)('a' + random_below(3));
            word[n] = '\0';
        }
        size_t d = ws_word_distance(a, b);
        CHECK_INT(ws_word_distance(b, a), d);
        CHECK((d == 0) == (strcmp(a, b) == 0));
        CHECK(d <= (strlen(a) > strlen(b) ? strlen(a) : strlen(b)));
    }
    memset(a, 'x', 70);
    a[70] = '\0';
    CHECK(ws_word_distance(a, "x") == SIZE_MAX);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"short names tell twins apart", short_names_tell_twins_apart},
        {"places tell those apart that look alike", places_tell_those_apart_that_look_alike},
        {"the safety rules hold", the_safety_rules_hold},
        {"a drive is found by what tells it", a_drive_is_found_by_what_tells_it},
        {"words that are nearly another are near", words_that_are_nearly_another_are_near},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
