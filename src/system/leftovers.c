/* leftovers.c — what is left in a root of its having been a live system: told, and cleared where editing files can.
 *
 * Nothing is touched in a root without any sign of one: an ordinary system may have its own reasons for the same
 * settings.
 */
#include "system/own.h"

#include <stdio.h>
#include <string.h>

/* By what a root is known to have been one: what stays of it is for its package manager to remove. */
static const struct {
    const char *name, *sign;
} packages[] = {
    {"live-boot", "/var/lib/dpkg/info/live-boot.list"},
    {"live-config", "/var/lib/dpkg/info/live-config.list"},
    {"live-tools", "/var/lib/dpkg/info/live-tools.list"},
    {"casper", "/var/lib/dpkg/info/casper.list"},
    {"livesys", "/usr/libexec/livesys"},
    {"livesys", "/etc/rc.d/init.d/livesys"},
    {"archiso", "/usr/lib/initcpio/hooks/archiso"},
};

/* What sets a live system up at every start, by units and by scripts. */
static const char *const services[] = {"live-config", "live-config-sysvinit", "casper",     "casper-md5check",
                                       "livesys",     "livesys-late",         "live-tools", "ubiquity"};

/* Logins without a password, rights without one, and what offers to install the system that already is. */
static const char *const files[] = {"/etc/systemd/system/getty@.service.d/live-config_autologin.conf",
                                    "/etc/systemd/system/getty@.service.d/autologin.conf",
                                    "/etc/systemd/system/getty@tty1.service.d/autologin.conf",
                                    "/etc/systemd/system/getty@tty1.service.d/live-config.conf",
                                    "/etc/systemd/system/serial-getty@.service.d/autologin.conf",
                                    "/etc/sddm.conf.d/autologin.conf",
                                    "/etc/lightdm/lightdm.conf.d/autologin.conf",
                                    "/etc/sudoers.d/live",
                                    "/etc/sudoers.d/casper",
                                    "/etc/sudoers.d/livesys",
                                    "/etc/polkit-1/rules.d/49-nopasswd_global.rules",
                                    "/etc/xdg/autostart/ubiquity-notify.desktop",
                                    "/etc/xdg/autostart/liveinst-setup.desktop",
                                    "/etc/skel/Desktop/ubiquity.desktop",
                                    "/etc/skel/Desktop/liveinst.desktop"};

/* Settings of login programs, and what they are then. */
static const struct {
    const char *file, *section, *key, *value;
} logins[] = {
    {"/etc/gdm3/daemon.conf", "daemon", "AutomaticLoginEnable", "false"},
    {"/etc/gdm/custom.conf", "daemon", "AutomaticLoginEnable", "false"},
    {"/etc/lightdm/lightdm.conf", "Seat:*", "autologin-user", ""},
    {"/etc/sddm.conf", "Autologin", "User", ""},
};

/* Names that live systems give their one account; the password is known to everybody, or none. */
static const char *const accounts[] = {"user", "live", "liveuser", "ubuntu"};

void system_leftovers(const struct ws_tree *root, char *out, size_t room) {
    size_t n = 0;
    out[0] = '\0';
    for (size_t i = 0; i < sizeof packages / sizeof packages[0]; i++) {
        bool twice = i > 0 && strcmp(packages[i].name, packages[i - 1].name) == 0;
        if (!ws_system_find(root, packages[i].sign) || (twice && ws_system_find(root, packages[i - 1].sign))) continue;
        n += (size_t)snprintf(out + n, room - n, "%s%s", n ? ", " : "", packages[i].name);
    }
}

static bool starts_live(const char *name) {
    for (size_t i = 0; i < sizeof services / sizeof services[0]; i++)
        if ((name[0] == 'S' || name[0] == 'K') && strlen(name) > 3 && strcmp(name + 3, services[i]) == 0) return true;
    return false;
}

static enum ws_status stop_services(const struct edit *e, unsigned *count) {
    static const char *const places[] = {"/usr/lib/systemd/system", "/lib/systemd/system", "/etc/systemd/system"};
    char path[160];
    for (size_t i = 0; i < sizeof services / sizeof services[0]; i++)
        for (size_t k = 0; k < 3 && e->facts->init == WS_INIT_SYSTEMD; k++) {
            (void)snprintf(path, sizeof path, "%s/%s.service", places[k], services[i]);
            if (!edit_has(e, path)) continue;
            (void)snprintf(path, sizeof path, "/etc/systemd/system/%s.service", services[i]);
            WS_TRY(edit_link(e, path, "/dev/null"));
            ++*count;
            break;
        }
    for (const char *level = "S0123456"; *level; level++) {
        (void)snprintf(path, sizeof path, "/etc/rc%c.d", *level);
        *count += edit_drop_in(e, path, starts_live);
    }
    return WS_OK;
}

static enum ws_status drop_files(const struct edit *e, unsigned *count) {
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        if (!edit_has(e, files[i])) continue;
        edit_drop(e, files[i]);
        ++*count;
    }
    for (size_t i = 0; i < sizeof logins / sizeof logins[0]; i++) {
        struct ws_text text = {0};
        enum ws_status status = edit_load(e, logins[i].file, &text);
        bool says = status == WS_OK && text.data && strstr(text.data, logins[i].key);
        ws_text_free(&text);
        if (status == WS_OK && says)
            status = edit_set(e, logins[i].file, logins[i].section, logins[i].key, logins[i].value);
        WS_TRY(status);
        *count += says;
    }
    return WS_OK;
}

static bool is_asked_for(const struct ws_owner *o, const char *name) {
    for (size_t i = 0; i < o->accounts; i++)
        if (strcmp(o->account[i].name, name) == 0) return true;
    return false;
}

/* Its account opens the system to whoever knows live systems. With an account of the owner's it can no longer log in;
 * without one it is the only way in, and stays. */
static enum ws_status close_account(const struct edit *e, const struct ws_owner *o, const char *name) {
    char begin[40];
    struct ws_text text = {0}, line = {0};
    ws_text_puts(&text, "\n"); /* so that each line stands behind one */
    enum ws_status status = edit_load(e, "/etc/shadow", &text);
    (void)snprintf(begin, sizeof begin, "\n%s:", name);
    const char *its = text.data ? strstr(text.data, begin) : NULL;
    const char *rest = its ? its + strlen(begin) : NULL;
    if (status == WS_OK && its && o->accounts) {
        rest += strcspn(rest, ":\n");
        ws_text_printf(&line, "%s:!%.*s", name, (int)strcspn(rest, "\n"), rest);
        status = ws_text_status(&line, e->error);
        if (status == WS_OK) status = edit_put_line(e, "/etc/shadow", "", begin + 1, line.data);
        ws_findings_add(e->findings, WS_NOTE, "the live system's account \"%s\" stays, and can no longer log in", name);
    } else if (status == WS_OK && its) {
        ws_findings_add(e->findings, WS_WARNING,
                        "the live system's account \"%s\" stays as it is, with a password that many know: ask for an "
                        "account of your own, and it can no longer log in",
                        name);
    }
    ws_text_free(&text);
    ws_text_free(&line);
    return status;
}

enum ws_status own_leftovers(const struct edit *e, const struct ws_owner *o) {
    unsigned count = 0;
    if (!e->facts->leftovers[0]) return WS_OK;
    WS_TRY(stop_services(e, &count));
    WS_TRY(drop_files(e, &count));
    for (size_t i = 0; i < sizeof accounts / sizeof accounts[0]; i++)
        if (!is_asked_for(o, accounts[i])) WS_TRY(close_account(e, o, accounts[i]));
    ws_findings_add(
        e->findings, WS_NOTE,
        "this was a live system: %u of its settings (what sets it up at each start, logins and rights without a "
        "password) are "
        "taken out; of its packages there stay %s, which do nothing now and which its package manager can remove",
        count, e->facts->leftovers);
    return WS_OK;
}
