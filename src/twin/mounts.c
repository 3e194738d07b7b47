/* mounts.c — fstab(5) and crypttab(5): which volume of the original a line means, and lines made to hold for the twin.
 */
#include "system/edit.h"
#include "twin/internal.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

bool twin_word(const char *line, unsigned number, char *out, size_t room) {
    for (;;) {
        line += strspn(line, " \t");
        const size_t n = strcspn(line, " \t\n");
        if (n == 0 || *line == '#') return false;
        if (number-- == 0) {
            (void)snprintf(out, room, "%.*s", (int)n, line);
            return n < room;
        }
        line += n;
    }
}

/* "/dev/sda2", "/dev/nvme0n1p2", "/dev/disk/by-uuid/...": a number behind a whole disk's name. */
static unsigned number_of_device(const char *path) {
    const size_t length = strlen(path);
    size_t n = length;
    while (n > 0 && isdigit((unsigned char)path[n - 1])) n--;
    if (n == length || n < sizeof "/dev/" || strchr(path + 5, '/')) return 0;
    const bool apart = path[n - 1] == 'p' && n > 1 && isdigit((unsigned char)path[n - 2]);
    const bool letters = strncmp(path + 5, "sd", 2) == 0 || strncmp(path + 5, "hd", 2) == 0 ||
                         strncmp(path + 5, "vd", 2) == 0 || strncmp(path + 5, "xvd", 3) == 0;
    return apart || letters ? (unsigned)strtoul(path + n, NULL, 10) : 0;
}

static bool same_letters(const char *a, const char *b) {
    while (*a && tolower((unsigned char)*a) == tolower((unsigned char)*b)) a++, b++;
    return !*a && !*b;
}

/* How a kernel names a partition by its table (its Documentation/admin-guide/kernel-parameters, "root="). */
static void partition_name(const struct ws_original *o, const struct ws_partition *p, char out[40]) {
    out[0] = '\0';
    if (!p->number) return;
    if (o->table.kind == WS_TABLE_GPT || o->table.kind == WS_TABLE_HYBRID) (void)ws_guid_text(&p->id, out);
    else
        (void)snprintf(out, 40, "%02x%02x%02x%02x-%02x", o->table.mbr_sector[443], o->table.mbr_sector[442],
                       o->table.mbr_sector[441], o->table.mbr_sector[440], p->number & 0xff);
}

bool ws_original_is(const struct ws_original *o, size_t volume, const char *specifier) {
    const struct ws_original_volume *v = &o->volume[volume];
    char part[40];
    partition_name(o, &v->place, part);
    const struct {
        const char *way, *path, *name;
    } ways[] = {{"UUID=", "/dev/disk/by-uuid/", v->facts.id},
                {"PARTUUID=", "/dev/disk/by-partuuid/", part},
                {"LABEL=", "/dev/disk/by-label/", v->facts.label},
                {"PARTLABEL=", "/dev/disk/by-partlabel/", v->place.name}};
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) {
        const size_t by_way = strlen(ways[i].way), by_path = strlen(ways[i].path);
        const char *said = strncmp(specifier, ways[i].way, by_way) == 0     ? specifier + by_way
                           : strncmp(specifier, ways[i].path, by_path) == 0 ? specifier + by_path
                                                                            : NULL;
        char bare[WS_SPECIFIER_ROOM];
        if (!said) continue;
        (void)snprintf(bare, sizeof bare, "%s", said + (*said == '"'));
        if (*said == '"' && bare[0]) bare[strlen(bare) - 1] = '\0';
        const char *name = ways[i].name; /* identifiers are the same in either case, labels are not */
        return name[0] && (i < 2 ? same_letters(bare, name) : strcmp(bare, name) == 0);
    }
    return v->place.number && number_of_device(specifier) == v->place.number;
}

/* Each line of a file of the root. */
static const char *next_line(const char *line) {
    const char *end = strchr(line, '\n');
    return end && end[1] ? end + 1 : NULL;
}

void twin_mounted_at(const struct ws_original *o, size_t volume, char *out, size_t room) {
    const struct edit e = {.root = o->volume[o->root].tree};
    struct ws_text text = {0};
    char spec[WS_SPECIFIER_ROOM], place[256];
    (void)snprintf(out, room, "%s", o->mounted[volume]);
    if (out[0]) return;
    if (edit_load(&e, "/etc/fstab", &text) == WS_OK)
        for (const char *p = text.data; p && !out[0]; p = next_line(p))
            if (twin_word(p, 0, spec, sizeof spec) && ws_original_is(o, volume, spec) &&
                twin_word(p, 1, place, sizeof place))
                (void)snprintf(out, room, "%s", place);
    ws_text_free(&text);
}

/* What does not stand on any disk: no volume is meant by it. */
static bool is_no_disk(const char *spec, const char *type) {
    static const char *const types[] = {"proc",   "sysfs",   "tmpfs",   "devpts",   "devtmpfs",
                                        "cgroup", "cgroup2", "debugfs", "nfs",      "nfs4",
                                        "cifs",   "overlay", "none",    "efivarfs", "securityfs"};
    for (size_t i = 0; i < sizeof types / sizeof types[0]; i++)
        if (strcmp(type, types[i]) == 0) return true;
    return strncmp(spec, "/dev/", 5) != 0 && !strchr(spec, '=');
}

struct settling_mounts {
    const struct ws_original *o;
    const struct ws_tree *root;
    const char (*uuid)[48];
    struct ws_findings *findings;
};

/* A volume that was of another kind, and is ext4 on the twin. */
static bool is_other_kind(const char *type, const struct ws_format *format) {
    static const char *const kinds[] = {"xfs", "btrfs", "f2fs", "jfs", "reiserfs", "nilfs2"};
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++)
        if (strcmp(type, kinds[i]) == 0) return format && strcmp(format->word, "ext4") == 0;
    return false;
}

/* One line: its volume by its identifier, or a start that does not wait for it. */
static void settle_line(const struct settling_mounts *s, const char *line, size_t length, struct ws_text *out) {
    char spec[WS_SPECIFIER_ROOM] = "", place[256] = "", type[32] = "", options[512] = "", rest[64] = "";
    const struct ws_original *o = s->o;
    bool whole = twin_word(line, 0, spec, sizeof spec) && twin_word(line, 1, place, sizeof place) &&
                 twin_word(line, 2, type, sizeof type) && twin_word(line, 3, options, sizeof options);
    size_t v = 0;
    if (whole && spec[0] == '/' && strcmp(type, "swap") == 0 && strncmp(spec, "/dev/", 5) != 0 &&
        !ws_tree_find(s->root, spec)) { /* swap in a file that is left out */
        ws_text_printf(out, "# %.*s%s", (int)length, line, line[length - 1] == '\n' ? "" : "\n");
        return;
    }
    while (whole && v < o->volumes && !ws_original_is(o, v, spec)) v++;
    const bool here = whole && v < o->volumes && s->uuid[v][0];
    const bool stays = here && strncmp(spec, "/dev/", 5) != 0 && !is_other_kind(type, o->volume[v].format) &&
                       !(strstr(options, "subvol") && o->mounted[v][0]);
    if (!whole || is_no_disk(spec, type) || stays) {
        ws_text_add(out, line, length);
        return;
    }
    for (unsigned i = 4; i < 6; i++) {
        char word[16];
        if (twin_word(line, i, word, sizeof word)) (void)snprintf(rest + strlen(rest), 20, " %s", word);
    }
    if (here && strstr(options, "subvol") && s->o->mounted[v][0] && strcmp(s->o->mounted[v], place) != 0) {
        ws_text_printf(out, "# %.*s\n", (int)strcspn(line, "\n"), line); /* it is part of another volume now */
        return;
    }
    if (here) {
        const struct ws_format *f = o->volume[v].format;
        const bool other = is_other_kind(type, f);
        ws_text_printf(out, "UUID=%s %s %s %s%s\n", s->uuid[v], place, other ? "ext4" : type,
                       other ? "errors=remount-ro" : options, rest);
        return;
    }
    ws_findings_add(s->findings, WS_NOTE, "%s, which is mounted at %.60s, is not on the twin: no start waits for it",
                    spec, place);
    const bool waits = !strstr(options, "nofail") && !strstr(options, "noauto");
    ws_text_printf(out, "%s %s %s %s%s%s\n", spec, place, type, options, waits ? ",nofail" : "", rest);
}

enum ws_status ws_original_settle_mounts(const struct ws_original *o, struct ws_tree *root, const char (*uuid)[48],
                                         int64_t made_at, struct ws_findings *findings, struct ws_error *error) {
    const struct edit e = {.root = root, .made_at = made_at, .findings = findings, .error = error};
    const struct settling_mounts s = {o, root, uuid, findings};
    struct ws_text text = {0}, now = {0};
    enum ws_status status = edit_load(&e, "/etc/fstab", &text);
    for (const char *p = text.data, *next; p && *p && status == WS_OK; p = next) {
        const size_t length = strcspn(p, "\n");
        next = p + length + (p[length] == '\n');
        settle_line(&s, p, (size_t)(next - p), &now);
    }
    if (status == WS_OK) status = ws_text_status(&now, error);
    if (status == WS_OK && now.length && (now.length != text.length || memcmp(now.data, text.data, now.length) != 0))
        status = edit_save(&e, "/etc/fstab", &now, 0644, NULL);
    ws_text_free(&text);
    ws_text_free(&now);
    return status;
}
