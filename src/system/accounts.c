/* accounts.c — accounts of a system: passwd(5), shadow(5), group(5), gshadow(5), and homes made as skel(5) has them. */
#include "system/own.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FIRST_ID = 1000, LAST_ID = 59999 }; /* of people, login.defs(5) */

/* Groups that open something to an account, where the root has them. */
static const struct {
    const char *name;
    bool administers;
} groups[] = {
    {"sudo", true},       {"wheel", true},    {"adm", true},      {"lpadmin", true},  {"systemd-journal", true},
    {"audio", false},     {"video", false},   {"render", false},  {"plugdev", false}, {"netdev", false},
    {"network", false},   {"cdrom", false},   {"optical", false}, {"dialout", false}, {"uucp", false},
    {"bluetooth", false}, {"scanner", false}, {"lp", false},      {"users", false}};

/* The databases of accounts while they are edited. */
struct accounts {
    const struct edit *edit;
    struct ws_text passwd, shadow, group, gshadow;
    bool have_gshadow;
    enum ws_password_hash hash;
    bool taken[LAST_ID + 1]; /* identifiers of accounts and groups */
};

static void note_ids(struct accounts *a, const struct ws_text *text) {
    char field[24];
    for (const char *p = text->data; p && *p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL) {
        edit_field(p, 2, field, sizeof field);
        unsigned long id = strtoul(field, NULL, 10);
        if (field[0] && id <= LAST_ID) a->taken[id] = true;
    }
}

static enum ws_status take_line(const struct edit *e, struct ws_text *text, const char *name, struct ws_text *line) {
    char begin[WS_ACCOUNT_ROOM + 2];
    (void)snprintf(begin, sizeof begin, "%s:", name);
    enum ws_status status = ws_text_status(line, e->error);
    if (status == WS_OK) edit_line(text, begin, line->data);
    ws_text_free(line);
    return status == WS_OK ? ws_text_status(text, e->error) : status;
}

/* Make the account a member, if the group is there; members stand behind the last colon, commas between them. */
static enum ws_status join(const struct edit *e, struct ws_text *text, const char *group, const char *name) {
    struct ws_text line = {0};
    size_t length;
    const char *p = edit_entry(text, group, &length);
    if (!p) return WS_OK;
    const char *members = edit_members(p, length);
    if (edit_is_member(members, name)) return WS_OK;
    ws_text_printf(&line, "%.*s%s%s", (int)length, p, members < p + length ? "," : "", name);
    return take_line(e, text, group, &line);
}

/* A home with what the root gives every new account; all of it the account's. */
static enum ws_status copy_into(const struct edit *e, const struct ws_node *from, struct ws_node *to, uint32_t uid,
                                uint32_t gid) {
    for (const struct ws_node *n = from->first; n; n = n->next) {
        const struct ws_node *thing = n->same_as ? n->same_as : n;
        struct ws_node *made = NULL;
        if (thing->kind != WS_NODE_FOLDER && thing->kind != WS_NODE_FILE && thing->kind != WS_NODE_LINK) continue;
        WS_TRY(ws_tree_add(e->root, to, n->name, thing->kind, &made, e->error));
        made->mode = thing->mode;
        made->uid = uid;
        made->gid = gid;
        made->mtime = thing->mtime;
        made->content = thing->content;
        if (thing->kind == WS_NODE_LINK) WS_TRY(ws_tree_set_target(e->root, made, thing->target, e->error));
        if (thing->kind == WS_NODE_FOLDER) WS_TRY(copy_into(e, thing, made, uid, gid));
    }
    return WS_OK;
}

static enum ws_status make_home(const struct edit *e, const char *path, uint32_t uid, uint32_t gid) {
    struct ws_node *home = NULL;
    if (edit_has(e, path)) return WS_OK;
    WS_TRY(edit_folder(e, path, &home));
    home->mode = 0700;
    home->uid = uid;
    home->gid = gid;
    const struct ws_node *usual = ws_system_find(e->root, "/etc/skel");
    return usual && usual->kind == WS_NODE_FOLDER ? copy_into(e, usual, home, uid, gid) : WS_OK;
}

static enum ws_status put_passwd(struct accounts *a, const struct ws_account *account) {
    const struct edit *e = a->edit;
    struct ws_text line = {0}, group = {0};
    char uid[24], gid[24], home[200], shell[200] = "/bin/sh", full_name[sizeof account->full_name] = "";
    size_t length;
    const char *old = edit_entry(&a->passwd, account->name, &length);
    if (old) { /* the root has it: of a live system, say */
        edit_field(old, 2, uid, sizeof uid);
        edit_field(old, 3, gid, sizeof gid);
        edit_field(old, 4, full_name, sizeof full_name);
        edit_field(old, 5, home, sizeof home);
        edit_field(old, 6, shell, sizeof shell);
        if (strtoul(uid, NULL, 10) < FIRST_ID || strtoul(uid, NULL, 10) > LAST_ID) {
            ws_fail(e->error, WS_E_USAGE, "\"%s\" is an account of the system itself in this root", account->name);
            return ws_fail_next(e->error, "choose another name");
        }
    } else {
        unsigned long id = FIRST_ID;
        while (id < LAST_ID && a->taken[id]) id++;
        a->taken[id] = true;
        (void)snprintf(uid, sizeof uid, "%lu", id);
        (void)snprintf(gid, sizeof gid, "%lu", id);
        (void)snprintf(home, sizeof home, "/home/%s", account->name);
        if (edit_has(e, "/bin/bash")) (void)snprintf(shell, sizeof shell, "/bin/bash");
        if (edit_entry(&a->group, account->name, &length)) {
            ws_fail(e->error, WS_E_USAGE, "\"%s\" is a group of the system itself in this root", account->name);
            return ws_fail_next(e->error, "choose another name");
        }
        ws_text_printf(&group, "%s:x:%s:", account->name, gid);
        WS_TRY(take_line(e, &a->group, account->name, &group));
        ws_text_printf(&group, "%s:!::", account->name);
        if (a->have_gshadow) WS_TRY(take_line(e, &a->gshadow, account->name, &group));
        ws_text_free(&group);
    }
    ws_text_printf(&line, "%s:x:%s:%s:%s:%s:%s", account->name, uid, gid,
                   account->full_name[0] ? account->full_name : full_name, home, shell);
    WS_TRY(take_line(e, &a->passwd, account->name, &line));
    if (home[0] != '/' || strlen(home) > 190) return WS_OK;
    return make_home(e, home, (uint32_t)strtoul(uid, NULL, 10), (uint32_t)strtoul(gid, NULL, 10));
}

/* What roots hash passwords with: yescrypt where their own programs are set to it, else what all of them know. */
static enum ws_password_hash hash_of(const struct edit *e) {
    static const char *const files[] = {"/etc/pam.d/common-password", "/etc/pam.d/system-auth", "/etc/pam.d/passwd",
                                        "/etc/login.defs"};
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        struct ws_text text = {0};
        bool says = false;
        if (edit_load(e, files[i], &text) == WS_OK)
            for (const char *p = text.data; p && *p && !says; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL) {
                size_t length = strcspn(p, "\n");
                const char *word = *p == '#' ? NULL : strstr(p, i == 3 ? "YESCRYPT" : "yescrypt");
                says = word && word < p + length && (i < 3 || strncmp(p, "ENCRYPT_METHOD", 14) == 0);
            }
        ws_text_free(&text);
        if (says) return WS_PASSWORD_YESCRYPT;
    }
    return WS_PASSWORD_SHA512;
}

/* Room for a hash of the length that it will have; until then nobody can log in by it. */
static enum ws_status put_shadow(struct accounts *a, const struct ws_account *account) {
    struct ws_text line = {0};
    char room[WS_PASSWORD_ROOM];
    size_t length = ws_password_length(a->hash);
    memset(room, '*', length);
    room[length] = '\0';
    ws_text_printf(&line, "%s:%s:%lld:0:99999:7:::", account->name, room, (long long)(a->edit->made_at / 86400));
    return take_line(a->edit, &a->shadow, account->name, &line);
}

/* sudoers(5), doas.conf(5): with its own password. */
static enum ws_status let_administer(const struct edit *e, const struct ws_owner *o) {
    struct ws_text rule = {0};
    bool by_sudo = edit_has(e, "/etc/sudoers.d") && edit_has(e, "/usr/bin/sudo");
    bool by_doas = !by_sudo && edit_has(e, "/usr/bin/doas");
    bool any = false;
    for (size_t i = 0; i < o->accounts; i++) any |= o->account[i].administers;
    if (!any) return WS_OK;
    if (!by_sudo && !by_doas) {
        ws_findings_add(e->findings, WS_WARNING,
                        "the root has no program by which an account could administer: only its groups are set");
        return WS_OK;
    }
    const char *path = by_sudo                      ? "/etc/sudoers.d/owner"
                       : edit_has(e, "/etc/doas.d") ? "/etc/doas.d/owner.conf"
                                                    : "/etc/doas.conf";
    enum ws_status status = by_sudo ? WS_OK : edit_load(e, path, &rule);
    for (size_t i = 0; i < o->accounts; i++)
        if (o->account[i].administers)
            ws_text_printf(&rule, by_sudo ? "%s ALL=(ALL:ALL) ALL\n" : "permit persist %s\n", o->account[i].name);
    if (status == WS_OK) status = edit_save(e, path, &rule, by_sudo ? 0440 : 0600, NULL);
    ws_text_free(&rule);
    return status;
}

static enum ws_status load(struct accounts *a) {
    const struct edit *e = a->edit;
    WS_TRY(edit_load(e, "/etc/passwd", &a->passwd));
    WS_TRY(edit_load(e, "/etc/shadow", &a->shadow));
    WS_TRY(edit_load(e, "/etc/group", &a->group));
    WS_TRY(edit_load(e, "/etc/gshadow", &a->gshadow));
    a->have_gshadow = a->gshadow.length > 0;
    const struct ws_text *all[] = {&a->passwd, &a->shadow, &a->group, &a->gshadow};
    for (size_t i = 0; i < 4; i++)
        if (all[i]->data && strlen(all[i]->data) != all[i]->length)
            return ws_fail(e->error, WS_E_FORMAT, "a list of this root's accounts has a zero byte in it");
    if (a->passwd.length) return WS_OK;
    ws_fail(e->error, WS_E_UNSUPPORTED, "this root has no list of accounts: there is no /etc/passwd in it");
    return ws_fail_next(e->error, "leave the account out");
}

/* root without a password lets in whoever sits down. */
static enum ws_status close_root(struct accounts *a, bool accounts) {
    struct ws_text line = {0};
    char password[24] = "x", by_shadow[24] = "x";
    size_t length;
    const char *root = edit_entry(&a->passwd, "root", &length);
    const char *shadow = edit_entry(&a->shadow, "root", &length);
    if (root) edit_field(root, 1, password, sizeof password);
    if (shadow) edit_field(shadow, 1, by_shadow, sizeof by_shadow);
    bool open = root && (!password[0] || (strcmp(password, "x") == 0 && shadow && !by_shadow[0]));
    if (!open) return WS_OK;
    if (!accounts) {
        ws_findings_add(a->edit->findings, WS_WARNING,
                        "root has no password in this root: whoever starts the drive may do everything");
        return WS_OK;
    }
    char rest[160];
    (void)snprintf(rest, sizeof rest, "%s", strchr(root, ':') + 1);
    rest[strcspn(rest, "\n")] = '\0';
    ws_text_printf(&line, "root:x:%s", strchr(rest, ':') ? strchr(rest, ':') + 1 : "0:0::/root:/bin/sh");
    WS_TRY(take_line(a->edit, &a->passwd, "root", &line));
    ws_text_printf(&line, "root:*:%lld:0:99999:7:::", (long long)(a->edit->made_at / 86400));
    ws_findings_add(a->edit->findings, WS_NOTE, "root had no password in this root: it can no longer log in itself");
    return take_line(a->edit, &a->shadow, "root", &line);
}

/* Where in shadow the hashes go. */
static enum ws_status find_hashes(const struct accounts *a, const struct ws_owner *o, struct ws_node *file,
                                  struct ws_owned *owned) {
    const struct edit *e = a->edit;
    struct ws_source *patched = NULL;
    size_t length;
    WS_TRY(ws_source_patched(file->content, file->content->size, &patched, e->error));
    WS_TRY(ws_tree_own(e->root, patched, e->error));
    file->content = owned->shadow = patched;
    for (size_t i = 0; i < o->accounts; i++) {
        struct ws_owned_password *p = &owned->password[owned->passwords++];
        const char *line = edit_entry(&a->shadow, o->account[i].name, &length);
        (void)snprintf(p->account, sizeof p->account, "%s", o->account[i].name);
        p->hash = a->hash;
        p->at = (uint64_t)(line - a->shadow.data) + strlen(p->account) + 1;
    }
    return WS_OK;
}

static enum ws_status edit_accounts(struct accounts *a, const struct ws_owner *o, struct ws_owned *owned) {
    const struct edit *e = a->edit;
    struct ws_node *shadow = NULL;
    WS_TRY(load(a));
    note_ids(a, &a->passwd);
    note_ids(a, &a->group);
    a->hash = hash_of(e);
    for (size_t i = 0; i < o->accounts; i++) {
        const struct ws_account *account = &o->account[i];
        WS_TRY(put_passwd(a, account));
        WS_TRY(put_shadow(a, account));
        for (size_t g = 0; g < sizeof groups / sizeof groups[0]; g++) {
            if (groups[g].administers && !account->administers) continue;
            WS_TRY(join(e, &a->group, groups[g].name, account->name));
            WS_TRY(join(e, &a->gshadow, groups[g].name, account->name));
        }
    }
    WS_TRY(close_root(a, o->accounts > 0));
    if (!o->accounts) return WS_OK;
    WS_TRY(edit_save(e, "/etc/passwd", &a->passwd, 0644, NULL));
    WS_TRY(edit_save(e, "/etc/group", &a->group, 0644, NULL));
    WS_TRY(edit_save(e, "/etc/shadow", &a->shadow, 0600, &shadow));
    shadow->mode &= 0640; /* whatever the root has there */
    if (a->have_gshadow) WS_TRY(edit_save(e, "/etc/gshadow", &a->gshadow, 0600, NULL));
    WS_TRY(let_administer(e, o));
    return find_hashes(a, o, shadow, owned);
}

enum ws_status own_accounts(const struct edit *e, const struct ws_owner *o, struct ws_owned *owned) {
    if (!o->accounts && !edit_has(e, "/etc/passwd")) return WS_OK;
    struct accounts *a = calloc(1, sizeof *a);
    if (!a) return ws_fail(e->error, WS_E_NOMEM, "out of memory for accounts");
    a->edit = e;
    enum ws_status status = edit_accounts(a, o, owned);
    bool odd = status == WS_E_RANGE || status == WS_E_FORMAT || status == WS_E_UNSUPPORTED;
    if (odd && !o->accounts) status = WS_OK; /* nothing was to be done with them */
    ws_text_free(&a->passwd);
    ws_text_free(&a->shadow);
    ws_text_free(&a->group);
    ws_text_free(&a->gshadow);
    free(a);
    return status;
}
