/* lost.c — what an old root holds that is no package's, and has no place in the new one. */
#include "system/carry.h"

#include <stdio.h>
#include <string.h>

/* What systems make again by themselves, or keep for themselves. */
static const char *const passed[] = {"/boot",
                                     "/dev",
                                     "/proc",
                                     "/sys",
                                     "/run",
                                     "/tmp",
                                     "/var/tmp",
                                     "/var/cache",
                                     "/var/log",
                                     "/var/run",
                                     "/var/lock",
                                     "/lib/modules",
                                     "/usr/lib/modules",
                                     "/usr/lib/firmware",
                                     "/lib/apk",
                                     "/var/lib/apk",
                                     "/var/lib/apt",
                                     "/var/lib/dpkg",
                                     "/var/lib/pacman",
                                     "/var/lib/systemd",
                                     "/var/lib/initramfs-tools",
                                     "/var/lib/ucf",
                                     "/var/lib/dbus",
                                     "/var/lib/polkit-1",
                                     "/var/lib/NetworkManager",
                                     "/var/lib/misc",
                                     "/var/lib/pam",
                                     "/var/lib/urandom",
                                     "/var/lib/logrotate",
                                     "/var/lib/xkb",
                                     "/var/lib/dhcp",
                                     "/var/lib/plymouth",
                                     "/var/lib/upower",
                                     "/var/lib/colord",
                                     "/var/lib/gdm3",
                                     "/var/lib/lightdm",
                                     "/var/lib/sddm",
                                     "/var/spool/anacron",
                                     "/etc/alternatives",
                                     "/etc/ssl/certs",
                                     "/etc/rc0.d",
                                     "/etc/rc1.d",
                                     "/etc/rc2.d",
                                     "/etc/rc3.d",
                                     "/etc/rc4.d",
                                     "/etc/rc5.d",
                                     "/etc/rc6.d",
                                     "/etc/rcS.d",
                                     "/etc/first-start",
                                     "/etc/init.d/.depend.boot",
                                     "/etc/init.d/.depend.start",
                                     "/etc/init.d/.depend.stop",
                                     "/etc/start-entries.conf",
                                     "/etc/udev/rules.d/61-internal-disks.rules",
                                     "/etc/fstab.before",
                                     "/etc/ld.so.cache",
                                     "/etc/.pwd.lock",
                                     "/etc/os-release",
                                     "/etc/passwd",
                                     "/etc/shadow",
                                     "/etc/group",
                                     "/etc/gshadow",
                                     "/etc/passwd-",
                                     "/etc/shadow-",
                                     "/etc/group-",
                                     "/etc/gshadow-",
                                     "/etc/subuid-",
                                     "/etc/subgid-",
                                     "/etc/mtab",
                                     "/usr/share/mime",
                                     "/usr/share/icons",
                                     "/usr/share/glib-2.0/schemas",
                                     "/usr/share/applications/mimeinfo.cache",
                                     "/usr/share/info/dir",
                                     "/usr/lib/locale",
                                     "/usr/lib/udev/hwdb.bin",
                                     "/var/lib/ghostscript",
                                     "/var/lib/aspell",
                                     "/usr/local/sbin/start-entries"};
static const char *const passed_names[] = {
    "__pycache__", ".cache", "gschemas.compiled", "giomodule.cache", "loaders.cache", ".updated", "ls-R"};

struct lost {
    char path[WS_KEEP_ROOM];
    uint64_t files, bytes;
    enum kind { ALONE, CHANGED, UNLIKE } kind;
};
/* What is told of each kind: of what nobody else brings, of settings that were changed, and of settings that may have
 * been: no package's, and others in the new system. */
static const struct {
    enum ws_fate fate;
    const char *what, *unknown; /* where packages are known, and where not */
} kinds[] = {[ALONE] = {WS_FATE_LOST, "no package's, and not in the new system", "not in the new system"},
             [CHANGED] = {WS_FATE_LOST, "settings that were changed; the new system's take their place", ""},
             [UNLIKE] = {WS_FATE_REPLACED, "no package's; the new system has another there", ""}};

static void pass_over(const struct carry *c) {
    for (size_t i = 0; i < sizeof passed / sizeof passed[0]; i++) {
        struct ws_node *n = ws_tree_find(c->was.root, passed[i]);
        if (n) n->work2 |= CARRY_PASSED;
    }
}

static bool is_passed(struct ws_node *n) {
    if (n->parent && n->parent->work2 & CARRY_PASSED) n->work2 |= CARRY_PASSED;
    for (size_t i = 0; i < sizeof passed_names / sizeof passed_names[0]; i++)
        if (strcmp(n->name, passed_names[i]) == 0) n->work2 |= CARRY_PASSED;
    return n->work2 & CARRY_PASSED;
}

/* The folder that it is told by: two names of the path, three where that says too little. */
static void group_of(const char *path, char out[WS_KEEP_ROOM]) {
    bool deep = strncmp(path, "/var/lib/", 9) == 0 || strncmp(path, "/usr/", 5) == 0 || strncmp(path, "/etc/", 5) == 0;
    const char *end = path;
    for (int i = 0; i < (deep ? 3 : 2) && end; i++) end = strchr(end + 1, '/');
    (void)snprintf(out, WS_KEEP_ROOM, "%.*s", (int)(end ? end - path : (long)strlen(path)), path);
}

/* @return false for what the new root has, too, and for what is known to be the old system's own */
static bool kind_of(const struct carry *c, const struct ws_node *was, const char *path, bool packages,
                    enum kind *kind) {
    const struct ws_node *now = carry_name(&c->e, path);
    const struct ws_node *thing = was->same_as ? was->same_as : was;
    *kind = !now ? ALONE : was->work2 & CARRY_CHANGED ? CHANGED : UNLIKE;
    if (!now) return true;
    if (now->same_as) now = now->same_as;
    bool empty = !ws_node_size(now) && !ws_node_size(thing);
    bool same = empty || now->content == thing->content; /* made one, where they are alike */
    if (same || *kind == CHANGED) return !same;
    return packages && thing->kind == WS_NODE_FILE; /* links that lead elsewhere hold nothing */
}

static void count(struct lost *lost, size_t *groups, const struct ws_node *n, const char *path, enum kind kind) {
    char group[WS_KEEP_ROOM];
    size_t i = 0;
    bool setting = kind == CHANGED || (kind == UNLIKE && strncmp(path, "/etc/", 5) == 0); /* each by itself */
    if (setting) (void)snprintf(group, sizeof group, "%.255s", path);
    else group_of(path, group);
    while (i < *groups && (lost[i].kind != kind || strcmp(lost[i].path, group) != 0)) i++;
    if (i == WS_CARRIED_MOST) i--; /* the last one stands for all others */
    if (i == *groups) {
        memset(&lost[i], 0, sizeof lost[i]);
        (void)snprintf(lost[i].path, sizeof lost[i].path, "%s", group);
        lost[i].kind = kind;
        ++*groups;
    } else if (strcmp(lost[i].path, group) != 0) {
        lost[i].path[0] = '\0';
    }
    lost[i].files++;
    lost[i].bytes += ws_node_size(n);
}

void carry_lost(struct carry *c, bool packages_known) {
    struct lost lost[WS_CARRIED_MOST];
    size_t groups = 0;
    char path[1024];
    pass_over(c);
    for (struct ws_node *n = ws_tree_root(c->was.root); n; n = ws_tree_next(n)) {
        enum kind kind;
        bool owned = n->work2 & CARRY_OWNED && !(n->work2 & CARRY_CHANGED);
        if (is_passed(n) || n->kind == WS_NODE_FOLDER || n->work2 & CARRY_KEPT || owned) continue;
        ws_node_path(n, path, sizeof path);
        if (kind_of(c, n, path, packages_known, &kind)) count(lost, &groups, n, path, kind);
    }
    for (enum ws_fate fate = WS_FATE_REPLACED; fate <= WS_FATE_LOST; fate++)
        for (size_t i = 0; i < groups; i++)
            if (kinds[lost[i].kind].fate == fate)
                carry_tell(c, fate, lost[i].path, lost[i].files, lost[i].bytes, "%s",
                           !lost[i].path[0]                          ? "in further places"
                           : packages_known || lost[i].kind != ALONE ? kinds[lost[i].kind].what
                                                                     : kinds[lost[i].kind].unknown);
}
