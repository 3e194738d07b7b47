/* owner.c — the words of an owner, and whether systems accept them. */
#include "wild_satchel/base.h"
#include "wild_satchel/owner.h"

#include <string.h>

static const char lower[] = "abcdefghijklmnopqrstuvwxyz";
static const char digits[] = "0123456789";

const char *ws_login_name(enum ws_login login) {
    static const char *const names[] = {"asked", "automatic"};
    return names[login];
}
const char *ws_clock_name(enum ws_clock clock) {
    static const char *const names[] = {"kept", "utc", "local"};
    return names[clock];
}

const char *ws_writes_name(enum ws_writes writes) {
    static const char *const names[] = {"usual", "few"};
    return names[writes];
}

const char *ws_internal_disks_name(enum ws_internal_disks disks) {
    static const char *const names[] = {"usual", "hidden", "listed", "open"};
    return names[disks];
}

const char *ws_added_name(enum ws_added what) {
    static const char *const names[] = {"file", "folder", "keys", "network", "first-start"};
    return names[what];
}

bool ws_owner_any(const struct ws_owner *o) {
    return o->host_name[0] || o->accounts || o->login != WS_LOGIN_ASKED || o->locale[0] || o->keyboard[0] ||
           o->time_zone[0] || o->clock != WS_CLOCK_KEPT || o->internal_disks != WS_INTERNAL_USUAL ||
           o->writes != WS_WRITES_USUAL || o->reports;
}

/* Is it made of these only? */
static bool is_of(const char *text, const char *letters, const char *others) {
    for (; *text; text++) {
        char small[2] = {*text >= 'A' && *text <= 'Z' ? (char)(*text + 32) : *text, '\0'};
        if (!strpbrk(small, letters) && !strchr(digits, *text) && !strchr(others, *text)) return false;
    }
    return true;
}

static bool is_small(const char *text) { return strpbrk(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == NULL; }

/* RFC 1123 section 2.1, of one label: the whole trade expects no more of a PC. */
static enum ws_status check_host(const char *name, struct ws_error *error) {
    size_t n = strlen(name);
    if (n == 0) return WS_OK;
    if (n <= 63 && is_of(name, lower, "-") && name[0] != '-' && name[n - 1] != '-' && strspn(name, digits) != n)
        return WS_OK;
    ws_fail(error, WS_E_USAGE, "\"%s\" is no host name", name);
    return ws_fail_next(error, "take up to 63 letters, digits and \"-\", not only digits, such as hut-3");
}

static enum ws_status check_account(const struct ws_account *a, struct ws_error *error) {
    size_t n = strlen(a->name);
    bool good = n > 0 && n <= 32 && is_small(a->name) && is_of(a->name, lower, "_-") &&
                (strchr(lower, a->name[0]) || a->name[0] == '_');
    if (!good) {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no account's name", a->name);
        return ws_fail_next(error, "begin with a small letter; up to 32 of those, digits, \"-\" and \"_\" follow");
    }
    if (strcmp(a->name, "root") == 0) {
        ws_fail(error, WS_E_USAGE, "root is there already, and is not for daily work");
        return ws_fail_next(error, "name another account; it may administer with its own password");
    }
    if (ws_is_visible(a->full_name) && !strpbrk(a->full_name, ":,")) return WS_OK;
    ws_fail(error, WS_E_USAGE, "the full name of \"%s\" holds a colon, a comma or what cannot be seen", a->name);
    return ws_fail_next(error, "leave them out: the list of accounts has them between its fields");
}

static enum ws_status check_words(const struct ws_owner *o, struct ws_error *error) {
    static const char zone_others[] = "/_+-";
    if (!is_of(o->locale, lower, "_.@-") || o->locale[0] == '.') {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no language", o->locale);
        return ws_fail_next(error, "name it as locales are named: de_DE.UTF-8");
    }
    const char *slash = strchr(o->keyboard, '/');
    if (!is_of(o->keyboard, lower, "/_-") || !is_small(slash ? "" : o->keyboard) || o->keyboard[0] == '/' ||
        (slash && (strchr(slash + 1, '/') || !slash[1]))) {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no keyboard layout", o->keyboard);
        return ws_fail_next(error, "name a layout, and its variant behind a \"/\": de, or de/nodeadkeys");
    }
    if (!is_of(o->time_zone, lower, zone_others) || o->time_zone[0] == '/' || strstr(o->time_zone, "//")) {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no time zone", o->time_zone);
        return ws_fail_next(error, "name it as the time zone database does: Atlantic/Faroe");
    }
    return WS_OK;
}

enum ws_status ws_owner_check(const struct ws_owner *o, struct ws_error *error) {
    WS_TRY(check_host(o->host_name, error));
    for (size_t i = 0; i < o->accounts; i++) {
        WS_TRY(check_account(&o->account[i], error));
        for (size_t k = 0; k < i; k++)
            if (strcmp(o->account[k].name, o->account[i].name) == 0)
                return ws_fail(error, WS_E_USAGE, "the account \"%s\" is asked for twice", o->account[i].name);
    }
    if (o->login == WS_LOGIN_AUTOMATIC && !o->accounts) {
        ws_fail(error, WS_E_USAGE, "nobody can be logged in automatically: no account is asked for");
        return ws_fail_hint(error, WS_HINT_ACCOUNT, "", "ask for one");
    }
    return check_words(o, error);
}
