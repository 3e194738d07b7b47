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

int main(int argc, char **argv) {
    static const struct test tests[] = {{"short names tell twins apart", short_names_tell_twins_apart},
                                        {"the safety rules hold", the_safety_rules_hold},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
