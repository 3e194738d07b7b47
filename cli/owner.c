/* owner.c — options of `satchel plan` that say whose a full system is. */
#include "cli/wishes.h"

#include <stdio.h>
#include <string.h>

static struct {
    char *host_name, *login, *language, *keyboard, *time_zone, *clock, *internal_disks, *reports, *writes;
    const char **administrators, **accounts;
} typed;

const struct poptOption owner_options[] = {
    {"host-name", 0, POPT_ARG_STRING, &typed.host_name, 0, "with kind system: its name on a network", "NAME"},
    {"administrator", 0, POPT_ARG_ARGV, &typed.administrators, 0,
     "with kind system: an account that may administer; may be repeated", "NAME[:FULL NAME]"},
    {"account", 0, POPT_ARG_ARGV, &typed.accounts, 0, "with kind system: an ordinary account; may be repeated",
     "NAME[:FULL NAME]"},
    {"login", 0, POPT_ARG_STRING, &typed.login, 0,
     "asked (the default), or automatic: the first administrator, else the first account, is logged in",
     "asked|automatic"},
    {"language", 0, POPT_ARG_STRING, &typed.language, 0, "with kind system: its locale, such as de_DE.UTF-8", "LOCALE"},
    {"keyboard", 0, POPT_ARG_STRING, &typed.keyboard, 0, "with kind system: de, or with a variant de/nodeadkeys",
     "LAYOUT"},
    {"time-zone", 0, POPT_ARG_STRING, &typed.time_zone, 0, "with kind system: such as Atlantic/Faroe", "ZONE"},
    {"clock", 0, POPT_ARG_STRING, &typed.clock, 0, "what the PC's own clock shows: utc or local (as the root has it)",
     "utc|local"},
    {"internal-disks", 0, POPT_ARG_STRING, &typed.internal_disks, 0,
     "disks inside the PC: hidden (the default where it can be done), listed, or open for repair work",
     "hidden|listed|open"},
    {"writes", 0, POPT_ARG_STRING, &typed.writes, 0,
     "usual, or few: changes reach the drive once a minute, and /tmp is in memory", "usual|few"},
    {"reports", 0, POPT_ARG_STRING, &typed.reports, 0,
     "services that send reports about the system and its use: off (the default) or on", "off|on"},
    POPT_TABLEEND};

static const char *login_word(unsigned i) { return ws_login_name((enum ws_login)i); }
static const char *clock_word(unsigned i) { return ws_clock_name((enum ws_clock)i); }
static const char *disks_word(unsigned i) { return ws_internal_disks_name((enum ws_internal_disks)i); }
static const char *writes_word(unsigned i) { return ws_writes_name((enum ws_writes)i); }
static const char *reports_word(unsigned i) { return i ? "on" : "off"; }

/* Whole, or not at all: a name that was cut is another name. */
static enum ws_status take(struct cli *cli, const char *option, const char *text, char *out, size_t room) {
    if (!text) return WS_OK;
    if (strlen(text) >= room) return ws_fail(&cli->error, WS_E_USAGE, "%s takes at most %zu bytes", option, room - 1);
    (void)snprintf(out, room, "%s", text);
    return WS_OK;
}

static enum ws_status take_account(struct cli *cli, const char *text, bool administers, struct ws_owner *o) {
    char name[256];
    if (o->accounts == WS_ACCOUNTS_MOST)
        return ws_fail(&cli->error, WS_E_USAGE, "at most %d accounts are made beforehand", WS_ACCOUNTS_MOST);
    struct ws_account *a = &o->account[o->accounts++];
    memset(a, 0, sizeof *a);
    a->administers = administers;
    (void)snprintf(name, sizeof name, "%.*s", (int)strcspn(text, ":"), text);
    WS_TRY(take(cli, "an account's name", name, a->name, sizeof a->name));
    const char *colon = strchr(text, ':');
    return take(cli, "a full name", colon ? colon + 1 : NULL, a->full_name, sizeof a->full_name);
}

enum ws_status cli_read_owner(struct cli *cli, struct ws_owner *o) {
    unsigned word = 0;
    WS_TRY(take(cli, "--host-name", typed.host_name, o->host_name, sizeof o->host_name));
    WS_TRY(take(cli, "--language", typed.language, o->locale, sizeof o->locale));
    WS_TRY(take(cli, "--keyboard", typed.keyboard, o->keyboard, sizeof o->keyboard));
    WS_TRY(take(cli, "--time-zone", typed.time_zone, o->time_zone, sizeof o->time_zone));
    if (typed.administrators || typed.accounts) o->accounts = 0;
    for (const char **a = typed.administrators; a && *a; a++) WS_TRY(take_account(cli, *a, true, o));
    for (const char **a = typed.accounts; a && *a; a++) WS_TRY(take_account(cli, *a, false, o));
    if (typed.login) {
        WS_TRY(cli_pick(cli, "--login", typed.login, login_word, 0, WS_LOGINS, &word));
        o->login = (enum ws_login)word;
    }
    if (typed.clock) {
        WS_TRY(cli_pick(cli, "--clock", typed.clock, clock_word, WS_CLOCK_UTC, WS_CLOCKS, &word));
        o->clock = (enum ws_clock)word;
    }
    if (typed.internal_disks) {
        WS_TRY(cli_pick(cli, "--internal-disks", typed.internal_disks, disks_word, WS_INTERNAL_HIDDEN, WS_INTERNALS,
                        &word));
        o->internal_disks = (enum ws_internal_disks)word;
    }
    if (typed.writes) {
        WS_TRY(cli_pick(cli, "--writes", typed.writes, writes_word, 0, WS_WRITES, &word));
        o->writes = (enum ws_writes)word;
    }
    if (typed.reports) {
        WS_TRY(cli_pick(cli, "--reports", typed.reports, reports_word, 0, 2, &word));
        o->reports = word == 1;
    }
    return WS_OK;
}
