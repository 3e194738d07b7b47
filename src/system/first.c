/* first.c — what is made at the first start, once: an identity that no other drive from the same root has. */
#include "system/own.h"

#include <string.h>

#define RUN "/etc/first-start/run"

bool own_is_host_key(const char *name) { return strncmp(name, "ssh_host_", 9) == 0 && strstr(name, "_key"); }

/* machine-id(5): empty, it is made at the first start. Keys by which a host is known would be those of every drive from
 * this root; ssh-keygen(1) makes the ones that are missing. */
enum ws_status own_identity(const struct edit *e, struct ws_text *steps) {
    const struct ws_node *bus = ws_system_find(e->root, "/var/lib/dbus/machine-id");
    if (bus && bus != ws_system_find(e->root, "/etc/machine-id")) edit_drop(e, "/var/lib/dbus/machine-id");
    if (edit_has(e, "/etc/machine-id")) WS_TRY(edit_write(e, "/etc/machine-id", 0444, "%s", ""));
    static const char *const seeds[] = {"/var/lib/systemd/random-seed", "/var/lib/systemd/credential.secret",
                                        "/var/lib/urandom/random-seed", "/var/lib/misc/random-seed"};
    for (size_t i = 0; i < sizeof seeds / sizeof seeds[0]; i++) edit_drop(e, seeds[i]);
    bool any = edit_drop_in(e, "/etc/ssh", own_is_host_key);
    if (any || edit_has(e, "/usr/sbin/sshd")) ws_text_puts(steps, "ssh-keygen -A\n");
    return WS_OK;
}

/* How each init takes a step early and once: its script or unit, and the link that starts it. */
static const struct own_service services[] = {
    {WS_INIT_SYSTEMD, "/etc", "/etc/systemd/system/first-start.service", 0644,
     "[Unit]\nDescription=What this drive makes at its first start\nConditionPathExists=" RUN "\n"
     "RequiresMountsFor=/etc /var /usr\nBefore=ssh.service sshd.service ssh.socket sshd.socket "
     "display-manager.service\n"
     "[Service]\nType=oneshot\nExecStart=/bin/sh " RUN "\n[Install]\nWantedBy=multi-user.target\n",
     "/etc/systemd/system/multi-user.target.wants/first-start.service", "../first-start.service"},
    {WS_INIT_OPENRC, "/etc/runlevels", "/etc/init.d/first-start", 0755,
     "#!/sbin/openrc-run\ndescription=\"What this drive makes at its first start\"\n"
     "depend() {\n\tneed localmount\n\tbefore sshd\n}\nstart() {\n\t[ ! -e " RUN " ] || sh " RUN "\n}\n",
     "/etc/runlevels/boot/first-start", "/etc/init.d/first-start"},
    {WS_INIT_RUNIT, "/etc/runit/core-services", "/etc/runit/core-services/99-first-start.sh", 0644,
     "[ ! -e " RUN " ] || sh " RUN "\n", NULL, NULL},
};

/* Taken again from the beginning after a power cut: it goes when all is on the drive. */
static enum ws_status put_steps(const struct edit *e, const struct ws_text *steps) {
    return edit_write(e, RUN, 0755,
                      "#!/bin/sh\n# Once, at the first start of this drive.\nPATH=/usr/sbin:/usr/bin:/sbin:/bin\n"
                      "export PATH\n%ssync\nrm -f " RUN "\n",
                      steps->data);
}

static bool inittab_is_small(const struct edit *e) {
    const struct ws_node *init = ws_system_find(e->root, "/sbin/init");
    return init && init == ws_system_find(e->root, "/bin/busybox");
}

enum ws_status own_put_service(const struct edit *e, const struct own_service *rows, size_t count, bool *put) {
    *put = false;
    for (size_t i = 0; i < count; i++) {
        if (rows[i].init != e->facts->init || !edit_has(e, rows[i].sign)) continue;
        WS_TRY(edit_write(e, rows[i].file, rows[i].mode, "%s", rows[i].text));
        if (rows[i].link) WS_TRY(edit_link(e, rows[i].link, rows[i].target));
        *put = true;
        return WS_OK;
    }
    return WS_OK;
}

enum ws_status own_put_start(const struct edit *e, const struct own_service *rows, size_t count,
                             const char *const lines[2], bool *put) {
    WS_TRY(own_put_service(e, rows, count, put));
    if (*put || !edit_has(e, "/etc/inittab")) return WS_OK;
    const char *line = lines[inittab_is_small(e)];
    WS_TRY(edit_put_line(e, "/etc/inittab", "", line, line));
    *put = true;
    return WS_OK;
}

/* By inittab(5) once all is mounted and before any service starts. Scripts of its own are no use to sysv: systems that
 * start them side by side go by a list that their own tools make. */
enum ws_status own_first_start(const struct edit *e, const struct ws_text *steps) {
    static const char *const lines[] = {"fs::bootwait:/bin/sh -c '[ ! -e " RUN " ] || sh " RUN "'",
                                        "::wait:/bin/sh -c '[ ! -e " RUN " ] || sh " RUN "'"};
    bool put = false;
    WS_TRY(ws_text_status(steps, e->error));
    if (!steps->length) return WS_OK;
    WS_TRY(own_put_start(e, services, sizeof services / sizeof services[0], lines, &put));
    if (put) return put_steps(e, steps);
    ws_findings_add(e->findings, WS_WARNING,
                    "nothing of this root can be told what to do at its first start: it has to be done by hand: %s",
                    steps->data);
    return WS_OK;
}
