/* carry.c — a newer root in the place of an old one: what is its owner's carried over, and told. */
#include "system/carry.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

const char *ws_fate_name(enum ws_fate fate) {
    static const char *const names[] = {"kept", "replaced", "lost"};
    return names[fate];
}

bool carry_is_systems(const char *path) {
    static const struct {
        const char *path;
        bool below; /* all that is in it, too */
    } own[] = {{"/boot", true},
               {"/dev", true},
               {"/proc", true},
               {"/run", true},
               {"/sys", true},
               {"/lib/modules", true},
               {"/usr/lib/modules", true},
               {"/bin", false},
               {"/etc", false},
               {"/lib", false},
               {"/lib32", false},
               {"/lib64", false},
               {"/sbin", false},
               {"/usr", false},
               {"/usr/bin", false},
               {"/usr/lib", false},
               {"/usr/lib64", false},
               {"/usr/sbin", false},
               {"/usr/share", false},
               {"/var", false},
               {"/var/lib", false},
               {"/var/lib/dpkg", true},
               {"/lib/apk", true},
               {"/var/lib/pacman", true},
               {"/var/lib/rpm", true},
               {"/etc/start-entries.conf", false}};
    for (size_t i = 0; i < sizeof own / sizeof own[0]; i++) {
        size_t n = strlen(own[i].path);
        if (strncmp(path, own[i].path, n) == 0 && (!path[n] || (own[i].below && path[n] == '/'))) return true;
    }
    return strcmp(path, "/") == 0;
}

enum ws_status ws_keep_place_check(const struct ws_keep_place *place, struct ws_error *error) {
    const char *p = place->path;
    bool good = p[0] == '/' && p[1] && ws_is_visible(p) && p[strlen(p) - 1] != '/';
    for (; good && *p; p += 1 + strcspn(p + 1, "/")) {
        size_t n = strcspn(p + 1, "/");
        good = n && !(p[1] == '.' && (n == 1 || (n == 2 && p[2] == '.')));
    }
    if (!good) {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no place of a system that could be kept", place->path);
        return ws_fail_next(error, "name a folder or file from the top, such as /opt/charts");
    }
    if (!carry_is_systems(place->path)) return WS_OK;
    ws_fail(error, WS_E_USAGE, "\"%s\" is the system's own, and the newer one has another", place->path);
    return ws_fail_next(error, "name what is yours inside of it; what starts the drive cannot be kept");
}

void carry_tell(struct carry *c, enum ws_fate fate, const char *path, uint64_t files, uint64_t bytes,
                const char *format, ...) {
    struct ws_carried_list *l = c->list;
    struct ws_carried *row = &l->row[l->rows];
    if (l->rows == WS_CARRIED_MOST) {
        row--;
        row->files += files;
        row->bytes += bytes;
        row->path[0] = '\0';
        row->fate = fate;
        (void)snprintf(row->what, sizeof row->what, "in further places");
        return;
    }
    l->rows++;
    va_list list;
    char text[WS_CARRIED_WHAT];
    memset(row, 0, sizeof *row);
    row->fate = fate;
    row->files = files;
    row->bytes = bytes;
    ws_visible(path, row->path, sizeof row->path);
    va_start(list, format);
    (void)vsnprintf(text, sizeof text, format, list);
    va_end(list);
    for (char *p = text; *p; p++)
        if (*p == '\n') *p = ' ';
    ws_visible(text, row->what, sizeof row->what);
}

/* A line "key value" of what the start entries go by. */
static void setting(const char *text, const char *key, char *out, size_t room) {
    size_t n = strlen(key);
    out[0] = '\0';
    for (const char *p = text; p && *p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL)
        if (strncmp(p, key, n) == 0 && p[n] == ' ') {
            (void)snprintf(out, room, "%.*s", (int)strcspn(p + n + 1, "\n"), p + n + 1);
            return;
        }
}

/* fstab(5): the identifier of what is mounted there. */
static void mounted_at(const struct edit *e, const char *place, char *uuid, size_t room) {
    struct ws_text text = {0};
    char source[80], target[80];
    uuid[0] = '\0';
    if (edit_load(e, "/etc/fstab", &text) == WS_OK)
        for (const char *p = text.data; p && *p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL)
            if (sscanf(p, " UUID=%79[^# \t\n] %79s", source, target) == 2 && strcmp(target, place) == 0)
                (void)snprintf(uuid, room, "%.*s", (int)room - 1, source);
    ws_text_free(&text);
}

void ws_start_settings_look(const struct ws_tree *root, struct ws_start_settings *s) {
    struct edit e = {.root = (struct ws_tree *)(uintptr_t)root};
    struct ws_text text = {0};
    char options[sizeof s->options], wait[16], boot[16];
    memset(s, 0, sizeof *s);
    if (edit_load(&e, "/etc/start-entries.conf", &text) == WS_OK && text.length) {
        s->found = true;
        mounted_at(&e, "/boot/efi", s->start_serial, sizeof s->start_serial);
        setting(text.data, "options", options, sizeof options);
        setting(text.data, "wait", wait, sizeof wait);
        setting(text.data, "boot", boot, sizeof boot);
        s->wait = (unsigned)strtoul(wait, NULL, 10);
        s->boot_apart = strcmp(boot, "apart") == 0;
        if (s->boot_apart) mounted_at(&e, "/boot", s->boot_uuid, sizeof s->boot_uuid);
        const char *p = options; /* root=UUID=... ro, and what was asked for */
        for (int i = 0; i < 2 && p; i++) {
            p = strchr(p, ' ');
            if (p) p++;
        }
        static const char first[] = "rdinit=" WS_INSIDE_PROGRAM; /* of one in a file, the drive's arrangement, too */
        if (p && strncmp(p, first, sizeof first - 1) == 0) p += sizeof first - 1 + (p[sizeof first - 1] == ' ');
        if (p && s->boot_apart) p = ws_past_unlock_words(p);
        if (p && strlen(p) < sizeof s->options) memcpy(s->options, p, strlen(p) + 1);
    }
    ws_text_free(&text);
}

enum ws_internal_disks ws_internal_disks_of(const struct ws_tree *root) {
    struct edit e = {.root = (struct ws_tree *)(uintptr_t)root};
    struct ws_text text = {0};
    enum ws_internal_disks found = WS_INTERNAL_OPEN;
    if (edit_load(&e, "/etc/udev/rules.d/61-internal-disks.rules", &text) == WS_OK && text.length)
        found = strstr(text.data, "--setro") ? WS_INTERNAL_HIDDEN : WS_INTERNAL_LISTED;
    ws_text_free(&text);
    return found;
}

/* Where login programs have an account that they log in by themselves, as own_login() puts it there. */
static const struct {
    const char *file, *word;
} logins[] = {{"/etc/systemd/system/getty@tty1.service.d/owner.conf", "--autologin "},
              {"/etc/inittab", " --autologin "},
              {"/etc/inittab", "/bin/login -f "},
              {"/etc/lightdm/lightdm.conf.d/60-owner.conf", "\nautologin-user="},
              {"/etc/sddm.conf.d/owner.conf", "\nUser="},
              {"/etc/gdm3/daemon.conf", "\nAutomaticLogin="},
              {"/etc/gdm/custom.conf", "\nAutomaticLogin="}};

/* Whoever was logged in without being asked still is. */
static enum ws_status carry_login(struct carry *c) {
    struct ws_text passwd = {0};
    char account[WS_ACCOUNT_ROOM] = "";
    size_t length;
    for (size_t i = 0; i < sizeof logins / sizeof logins[0] && !account[0]; i++) {
        struct ws_text text = {0};
        WS_TRY(edit_load(&c->was, logins[i].file, &text));
        const char *p = text.data ? strstr(text.data, logins[i].word) : NULL;
        if (p) p += strlen(logins[i].word);
        if (p) (void)snprintf(account, sizeof account, "%.*s", (int)strcspn(p, " \t\n"), p);
        ws_text_free(&text);
    }
    enum ws_status status = edit_load(&c->e, "/etc/passwd", &passwd);
    bool there = account[0] && strcmp(account, "root") != 0 && edit_entry(&passwd, account, &length);
    ws_text_free(&passwd);
    if (status != WS_OK || !there) return status;
    carry_tell(c, WS_FATE_KEPT, "", 0, 0, "\"%s\" is logged in without being asked", account);
    return own_login(&c->e, account);
}

static enum ws_status carry_all(struct carry *c, const struct ws_keep_place *keep, size_t keeps) {
    bool known = false;
    uint64_t files, bytes;
    char counted[32];
    for (struct ws_node *n = ws_tree_root(c->was.root); n; n = ws_tree_next(n)) n->work = n->work2 = 0;
    for (struct ws_node *n = ws_tree_root(c->e.root); n; n = ws_tree_next(n)) n->work2 = 0;
    for (struct ws_node *n = ws_tree_root(c->e.root); n; n = ws_tree_next(n))
        if (n->same_as) n->same_as->work2++;
    WS_TRY(carry_people(c));
    WS_TRY(carry_places(c, keep, keeps));
    WS_TRY(carry_login(c));
    WS_TRY(carry_packages(c, &known));
    WS_TRY(carry_same(c, &files, &bytes));
    carry_tell(c, WS_FATE_REPLACED, "", 0, 0, "the system: %.60s by %.60s", c->was.facts->name, c->e.facts->name);
    if (files)
        carry_tell(c, WS_FATE_REPLACED, "", files, bytes, "of it the same in both, %s not written again",
                   ws_size_counted(bytes, counted, sizeof counted));
    if (!known)
        ws_findings_add(
            c->e.findings, WS_NOTE,
            "the old system's list of packages is not read here: whatever is not in the new one is told as lost, and "
            "settings that were changed are not told");
    carry_lost(c, known);
    return WS_OK;
}

enum ws_status ws_system_carry(struct ws_tree *root, const struct ws_system_facts *facts, struct ws_tree *was,
                               const struct ws_system_facts *was_facts, const struct ws_keep_place *keep, size_t keeps,
                               int64_t made_at, struct ws_carried_list *list, struct ws_findings *findings,
                               struct ws_error *error) {
    struct carry *c = calloc(1, sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for what is carried over");
    c->e = (struct edit){root, facts, made_at, findings, error};
    c->was = (struct edit){was, was_facts, made_at, findings, error};
    c->list = list;
    memset(list, 0, sizeof *list);
    enum ws_status status = carry_all(c, keep, keeps);
    free(c);
    return status;
}
