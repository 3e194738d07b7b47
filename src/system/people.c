/* people.c — accounts of people and their groups carried over: passwd(5), shadow(5), group(5), gshadow(5), subuid(5).
 */
#include "system/carry.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PASSWD, SHADOW, GROUP, GSHADOW, LISTS };
static const char *const paths[LISTS] = {"/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow"};

struct people {
    struct carry *c;
    struct ws_text was[LISTS], now[LISTS];
    size_t carried;
    char names[100];
};

static const char *next_line(const char *p) {
    p = strchr(p, '\n');
    return p ? p + 1 : NULL;
}

static unsigned long number_of(const char *line, unsigned field) {
    char text[24];
    edit_field(line, field, text, sizeof text);
    return text[0] ? strtoul(text, NULL, 10) : ~0ul;
}

static bool is_person(unsigned long id) { return id >= CARRY_SYSTEM_IDS && id <= CARRY_LAST_ID; }

/* An entry as it was, in place of one of the same name. */
static enum ws_status take(struct people *p, int list, const char *name) {
    char begin[80];
    struct ws_text line = {0};
    size_t length;
    const char *entry = edit_entry(&p->was[list], name, &length);
    if (!entry || (!p->now[list].length && list != PASSWD && list != GROUP)) return WS_OK;
    ws_text_add(&line, entry, length);
    enum ws_status status = ws_text_status(&line, p->c->e.error);
    (void)snprintf(begin, sizeof begin, "%s:", name);
    if (status == WS_OK) edit_line(&p->now[list], begin, line.data);
    ws_text_free(&line);
    return status == WS_OK ? ws_text_status(&p->now[list], p->c->e.error) : status;
}

static void drop(struct ws_text *text, const char *name) {
    size_t length;
    const char *entry = edit_entry(text, name, &length);
    if (!entry) return;
    size_t at = (size_t)(entry - text->data);
    size_t end = at + length + (entry[length] == '\n');
    memmove(text->data + at, text->data + end, text->length - end + 1);
    text->length -= end - at;
}

/* Whoever has this number in the new root and another name: an account that its image came with. */
static void make_way(struct people *p, int list, unsigned long id, const char *name) {
    char other[64];
    for (const char *line = p->now[list].data; line && *line; line = next_line(line)) {
        edit_field(line, 0, other, sizeof other);
        if (number_of(line, 2) != id || strcmp(other, name) == 0 || !other[0]) continue;
        if (list == PASSWD)
            ws_findings_add(p->c->e.findings, WS_NOTE, "the account \"%s\" of the new system gives way to \"%s\"",
                            other, name);
        for (int i = list == PASSWD ? PASSWD : GROUP; i < (list == PASSWD ? GROUP : LISTS); i++)
            drop(&p->now[i], other);
        return;
    }
}

/* The last field of passwd(5) is a program of the new root? */
static enum ws_status check_shell(struct people *p, const char *name) {
    char shell[200], begin[80];
    size_t length;
    const char *entry = edit_entry(&p->now[PASSWD], name, &length);
    if (!entry) return WS_OK; /* a name that is too long for one */
    edit_field(entry, 6, shell, sizeof shell);
    if (!shell[0] || edit_has(&p->c->e, shell)) return WS_OK;
    const char *usual = edit_has(&p->c->e, "/bin/bash") ? "/bin/bash" : "/bin/sh";
    if (!edit_has(&p->c->e, usual)) return WS_OK;
    const char *colon = entry + length;
    while (colon > entry && *colon != ':') colon--;
    struct ws_text line = {0};
    ws_text_printf(&line, "%.*s:%s", (int)(colon - entry), entry, usual);
    (void)snprintf(begin, sizeof begin, "%s:", name);
    enum ws_status status = ws_text_status(&line, p->c->e.error);
    if (status == WS_OK) edit_line(&p->now[PASSWD], begin, line.data);
    ws_text_free(&line);
    ws_findings_add(p->c->e.findings, WS_WARNING, "\"%s\" gets the shell %s: the new system has no %s", name, usual,
                    shell);
    return status;
}

static enum ws_status take_person(struct people *p, const char *line) {
    char name[64], home[200];
    edit_field(line, 0, name, sizeof name);
    edit_field(line, 5, home, sizeof home);
    make_way(p, PASSWD, number_of(line, 2), name);
    WS_TRY(take(p, PASSWD, name));
    WS_TRY(take(p, SHADOW, name));
    WS_TRY(check_shell(p, name));
    size_t length = strlen(p->names);
    (void)snprintf(p->names + length, sizeof p->names - length, "%s%s", length ? ", " : "", name);
    ws_utf8_trim(p->names);
    p->carried++;
    struct ws_keep_place place;
    (void)snprintf(place.path, sizeof place.path, "%s", home);
    return ws_keep_place_check(&place, NULL) == WS_OK ? carry_place(p->c, home, "its account's own files") : WS_OK;
}

/* Members of the system's own groups that are people: they are members of the one of that name. */
static enum ws_status join(struct people *p, int list, const char *line) {
    char group[64], begin[80];
    struct ws_text out = {0};
    size_t length, was_length = strcspn(line, "\n");
    enum ws_status status = WS_OK;
    edit_field(line, 0, group, sizeof group);
    const char *members = edit_members(line, was_length);
    (void)snprintf(begin, sizeof begin, "%s:", group);
    for (const char *m = members; m < line + was_length && status == WS_OK; m += strcspn(m, ",\n") + 1) {
        char name[64];
        size_t unused;
        (void)snprintf(name, sizeof name, "%.*s", (int)strcspn(m, ",\n"), m);
        const char *person = edit_entry(&p->was[PASSWD], name, &unused);
        if (!person || !is_person(number_of(person, 2))) continue;
        const char *entry = edit_entry(&p->now[list], group, &length);
        if (!entry) {
            if (list == GROUP)
                ws_findings_add(p->c->e.findings, WS_NOTE,
                                "\"%s\" is no longer in the group \"%s\", which the new system does not have", name,
                                group);
            continue;
        }
        const char *last = edit_members(entry, length);
        if (edit_is_member(last, name)) continue;
        ws_text_printf(&out, "%.*s%s%s", (int)length, entry, entry + length > last ? "," : "", name);
        status = ws_text_status(&out, p->c->e.error);
        if (status == WS_OK) edit_line(&p->now[list], begin, out.data);
        ws_text_free(&out);
    }
    return status;
}

static enum ws_status take_groups(struct people *p) {
    char name[64];
    for (const char *line = p->was[GROUP].data; line && *line; line = next_line(line)) {
        edit_field(line, 0, name, sizeof name);
        if (is_person(number_of(line, 2))) {
            make_way(p, GROUP, number_of(line, 2), name);
            WS_TRY(take(p, GROUP, name));
            WS_TRY(take(p, GSHADOW, name));
        } else {
            size_t length;
            const char *secret = edit_entry(&p->was[GSHADOW], name, &length);
            WS_TRY(join(p, GROUP, line));
            if (secret && p->now[GSHADOW].length) WS_TRY(join(p, GSHADOW, secret));
        }
    }
    return WS_OK;
}

/* What the system's own accounts of the old root are in the new one, by their names. */
static void map_ids(const struct people *p, int list, uint32_t *map) {
    char name[64];
    size_t length;
    for (uint32_t i = 0; i < CARRY_SYSTEM_IDS; i++) map[i] = i;
    for (const char *line = p->was[list].data; line && *line; line = next_line(line)) {
        unsigned long was = number_of(line, 2);
        edit_field(line, 0, name, sizeof name);
        const char *now = was < CARRY_SYSTEM_IDS ? edit_entry(&p->now[list], name, &length) : NULL;
        if (now && number_of(now, 2) < CARRY_SYSTEM_IDS) map[was] = (uint32_t)number_of(now, 2);
    }
}

static enum ws_status load(struct people *p) {
    struct carry *c = p->c;
    for (int i = 0; i < LISTS; i++) {
        WS_TRY(edit_load(&c->was, paths[i], &p->was[i]));
        WS_TRY(edit_load(&c->e, paths[i], &p->now[i]));
        if ((p->was[i].data && strlen(p->was[i].data) != p->was[i].length) ||
            (p->now[i].data && strlen(p->now[i].data) != p->now[i].length)) {
            ws_fail(c->e.error, WS_E_FORMAT, "a list of accounts has a zero byte in it");
            return ws_fail_where(c->e.error, "%s", paths[i]);
        }
    }
    return WS_OK;
}

static enum ws_status carry_all(struct people *p) {
    struct carry *c = p->c;
    static const uint16_t modes[LISTS] = {0644, 0640, 0644, 0640};
    WS_TRY(load(p));
    map_ids(p, PASSWD, c->uid);
    map_ids(p, GROUP, c->gid);
    if (!p->was[PASSWD].length || !p->now[PASSWD].length) return WS_OK;
    for (const char *line = p->was[PASSWD].data; line && *line; line = next_line(line))
        if (is_person(number_of(line, 2))) WS_TRY(take_person(p, line));
    WS_TRY(take(p, SHADOW, "root")); /* whether it can log in, and how */
    WS_TRY(take_groups(p));
    for (int i = 0; i < LISTS; i++)
        if (p->now[i].length) WS_TRY(edit_save(&c->e, paths[i], &p->now[i], modes[i], NULL));
    if (p->carried) carry_tell(c, WS_FATE_KEPT, "/etc/passwd", 0, 0, "%s: password, groups, rights", p->names);
    WS_TRY(carry_place(c, "/etc/subuid", NULL));
    return carry_place(c, "/etc/subgid", NULL);
}

enum ws_status carry_people(struct carry *c) {
    struct people p = {.c = c};
    enum ws_status status = carry_all(&p);
    for (int i = 0; i < LISTS; i++) {
        ws_text_free(&p.was[i]);
        ws_text_free(&p.now[i]);
    }
    return status;
}
