/* login.c — an account on the screen without being asked: where each program that asks has its setting. */
#include "system/own.h"

#include <stdio.h>
#include <string.h>

/* A session's file name without its end: what a login program starts. */
static void session_of(const struct edit *e, char out[64]) {
    static const char *const folders[] = {"/usr/share/xsessions", "/usr/share/wayland-sessions"};
    out[0] = '\0';
    for (size_t i = 0; i < 2; i++) {
        const struct ws_node *folder = ws_system_find(e->root, folders[i]);
        for (const struct ws_node *n = folder ? folder->first : NULL; n && !out[0]; n = n->next) {
            size_t length = strlen(n->name);
            if (length > 8 && length < 64 && strcmp(n->name + length - 8, ".desktop") == 0)
                (void)snprintf(out, 64, "%.*s", (int)(length - 8), n->name);
        }
    }
}

/* Login programs with a screen, and the files that name an account for them. */
static const struct {
    const char *sign, *file, *section, *key, *value; /* NULL: the account; "*": its session */
} screens[] = {
    {"/usr/sbin/gdm3", "/etc/gdm3/daemon.conf", "daemon", "AutomaticLoginEnable", "true"},
    {"/usr/sbin/gdm3", "/etc/gdm3/daemon.conf", "daemon", "AutomaticLogin", NULL},
    {"/usr/sbin/gdm", "/etc/gdm/custom.conf", "daemon", "AutomaticLoginEnable", "true"},
    {"/usr/sbin/gdm", "/etc/gdm/custom.conf", "daemon", "AutomaticLogin", NULL},
    {"/usr/sbin/lightdm", "/etc/lightdm/lightdm.conf.d/60-owner.conf", "Seat:*", "autologin-user", NULL},
    {"/usr/bin/sddm", "/etc/sddm.conf.d/owner.conf", "Autologin", "Session", "*"},
    {"/usr/bin/sddm", "/etc/sddm.conf.d/owner.conf", "Autologin", "User", NULL},
};

static bool is_busybox(const struct edit *e, const char *path) {
    const struct ws_node *n = ws_system_find(e->root, path);
    return n && (n == ws_system_find(e->root, "/bin/busybox") || n == ws_system_find(e->root, "/usr/bin/busybox"));
}

/* inittab(5): the line that asks on the first console. busybox's own program cannot; its login can. */
static enum ws_status put_inittab(const struct edit *e, const char *account, bool *done) {
    struct ws_text text = {0}, out = {0};
    enum ws_status status = edit_load(e, "/etc/inittab", &text);
    bool busybox = is_busybox(e, "/sbin/getty") || (!edit_has(e, "/sbin/agetty") && !edit_has(e, "/sbin/getty"));
    for (const char *p = text.data; status == WS_OK && p && *p; p += strcspn(p, "\n") + (strchr(p, '\n') != NULL)) {
        size_t length = strcspn(p, "\n");
        const char *action = NULL; /* id:levels:action:command */
        const char *field = p;
        for (int i = 0; i < 3 && field; i++) {
            field = memchr(field, ':', length - (size_t)(field - p));
            if (field) field++;
            if (i == 1) action = field;
        }
        const char *first = strstr(p, "tty1");
        bool asks = *p != '#' && field && action && strncmp(action, "respawn", 7) == 0 && first && first < p + length &&
                    (first[4] < '0' || first[4] > '9') && !*done;
        const char *program = field ? field + strcspn(field, " \t\n") : NULL;
        if (!asks) ws_text_printf(&out, "%.*s\n", (int)length, p);
        else if (busybox) ws_text_printf(&out, "%.*s/bin/login -f %s\n", (int)(field - p), p, account);
        else
            ws_text_printf(&out, "%.*s --autologin %s%.*s\n", (int)(program - p), p, account,
                           (int)(p + length - program), program);
        *done |= asks;
    }
    if (status == WS_OK && *done) status = edit_save(e, "/etc/inittab", &out, 0644, NULL);
    ws_text_free(&text);
    ws_text_free(&out);
    return status;
}

enum ws_status own_login(const struct edit *e, const char *account) {
    char session[64];
    bool done = false;
    session_of(e, session);
    for (size_t i = 0; i < sizeof screens / sizeof screens[0]; i++) {
        const char *value = !screens[i].value ? account : screens[i].value[0] == '*' ? session : screens[i].value;
        if (!edit_has(e, screens[i].sign)) continue;
        WS_TRY(edit_set(e, screens[i].file, screens[i].section, screens[i].key, value));
        done = true;
    }
    if (e->facts->init == WS_INIT_SYSTEMD && edit_has(e, "/sbin/agetty")) {
        WS_TRY(edit_write(e, "/etc/systemd/system/getty@tty1.service.d/owner.conf", 0644,
                          "[Service]\nExecStart=\nExecStart=-/sbin/agetty --autologin %s --noclear %%I $TERM\n",
                          account));
        done = true;
    } else if (edit_has(e, "/etc/inittab")) {
        WS_TRY(put_inittab(e, account, &done));
    }
    if (!done)
        ws_findings_add(e->findings, WS_WARNING,
                        "the root has no login program known here: \"%s\" is not logged in by itself", account);
    return WS_OK;
}
