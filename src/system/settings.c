/* settings.c — words of an owner and the files that hold them, one row each. */
#include "system/own.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum word { HOST, LANGUAGE, LAYOUT, VARIANT, CONSOLE, ZONE, CLOCK, NO_REPORTS, WORDS };

/* Where a root keeps what. A row counts where `sign` is in the root; a file without a key is the word alone, and a
 * section makes it an INI file. The * is the word's place. */
static const struct {
    enum word word;
    const char *sign, *file, *section, *key, *value;
} places[] = {
    {HOST, "/etc", "/etc/hostname", NULL, NULL, "*\n"},
    {HOST, "/etc/conf.d/hostname", "/etc/conf.d/hostname", NULL, "hostname", "\"*\""},
    {HOST, "/etc/sysconfig/network", "/etc/sysconfig/network", NULL, "HOSTNAME", "*"},
    {LANGUAGE, "/etc/debian_version", "/etc/default/locale", NULL, "LANG", "*"},
    {LANGUAGE, "/lib/systemd/systemd", "/etc/locale.conf", NULL, "LANG", "*"},
    {LANGUAGE, "/etc/rc.conf", "/etc/locale.conf", NULL, "LANG", "*"},
    {LANGUAGE, "/etc/env.d", "/etc/env.d/02locale", NULL, "LANG", "\"*\""},
    {LANGUAGE, "/etc/alpine-release", "/etc/profile.d/90-language.sh", NULL, "export LANG", "*"},
    {LAYOUT, "/etc/debian_version", "/etc/default/keyboard", NULL, "XKBLAYOUT", "\"*\""},
    {VARIANT, "/etc/debian_version", "/etc/default/keyboard", NULL, "XKBVARIANT", "\"*\""},
    {LAYOUT, "/lib/systemd/systemd", "/etc/vconsole.conf", NULL, "XKBLAYOUT", "*"},
    {VARIANT, "/lib/systemd/systemd", "/etc/vconsole.conf", NULL, "XKBVARIANT", "*"},
    {CONSOLE, "/lib/systemd/systemd", "/etc/vconsole.conf", NULL, "KEYMAP", "*"},
    {CONSOLE, "/etc/conf.d/keymaps", "/etc/conf.d/keymaps", NULL, "keymap", "\"*\""},
    {CONSOLE, "/etc/rc.conf", "/etc/rc.conf", NULL, "KEYMAP", "\"*\""},
    {ZONE, "/etc/debian_version", "/etc/timezone", NULL, NULL, "*\n"},
    {ZONE, "/etc/init.d/openrc", "/etc/timezone", NULL, NULL, "*\n"},
    {CLOCK, "/etc/conf.d/hwclock", "/etc/conf.d/hwclock", NULL, "clock", "\"*\""},
    {CLOCK, "/etc/rc.conf", "/etc/rc.conf", NULL, "HARDWARECLOCK", "\"*\""},
    {CLOCK, "/etc", "/etc/adjtime", NULL, NULL, "0.0 0 0.0\n0\n*\n"}, /* hwclock(8), "The Adjtime File" */
    {NO_REPORTS, "/etc/default/apport", "/etc/default/apport", NULL, "enabled", "0"},
    {NO_REPORTS, "/etc/default/whoopsie", "/etc/default/whoopsie", NULL, "report_crashes", "false"},
    {NO_REPORTS, "/etc/default/motd-news", "/etc/default/motd-news", NULL, "ENABLED", "0"},
    {NO_REPORTS, "/etc/popularity-contest.conf", "/etc/popularity-contest.conf", NULL, "PARTICIPATE", "\"no\""},
};

/* Services that send reports, by their unit (systemd) and script (sysv, openrc) names. */
static const char *const reporters[] = {
    "apport",    "apport-autoreport",  "whoopsie",  "kerneloops",    "abrtd",      "abrt-oops", "abrt-journal-core",
    "abrt-xorg", "popularity-contest", "motd-news", "ubuntu-report", "abrt-vmcore"};

static enum ws_status put_word(const struct edit *e, size_t row, const char *word) {
    char value[160];
    const char *form = places[row].value;
    size_t before = strcspn(form, "*");
    (void)snprintf(value, sizeof value, "%.*s%s%s", (int)before, form, form[before] ? word : "",
                   form[before] ? form + before + 1 : "");
    if (!places[row].key) return edit_write(e, places[row].file, 0644, "%s", value);
    return edit_set(e, places[row].file, places[row].section, places[row].key, value);
}

static enum ws_status put_words(const struct edit *e, const char *const word[WORDS]) {
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++)
        if (word[places[i].word] && edit_has(e, places[i].sign)) WS_TRY(put_word(e, i, word[places[i].word]));
    return WS_OK;
}

/* hosts(5): the name is looked up by many a program that then waits for the network. */
static enum ws_status put_host(const struct edit *e, const char *name) {
    char line[WS_HOST_ROOM + 16];
    (void)snprintf(line, sizeof line, "127.0.1.1\t%s", name);
    return edit_put_line(e, "/etc/hosts", "127.0.0.1\tlocalhost\n::1\tlocalhost\n", "127.0.1.1", line);
}

/* "S20whoopsie": started in a level of sysv's. */
static bool starts_reporter(const char *name) {
    for (size_t i = 0; i < sizeof reporters / sizeof reporters[0]; i++)
        if (name[0] == 'S' && strlen(name) > 3 && strcmp(name + 3, reporters[i]) == 0) return true;
    return false;
}

/* Sources of their own units and scripts: links and starts of them go, the programs stay. */
static enum ws_status stop_reports(const struct edit *e) {
    static const char *const kinds[] = {"service", "timer", "socket", "path"};
    static const char *const places_of[] = {"/usr/lib/systemd/system", "/lib/systemd/system", "/etc/systemd/system"};
    char path[160], unit[160];
    for (size_t i = 0; i < sizeof reporters / sizeof reporters[0]; i++)
        for (size_t k = 0; k < 4 && e->facts->init == WS_INIT_SYSTEMD; k++)
            for (size_t p = 0; p < 3; p++) {
                (void)snprintf(unit, sizeof unit, "%s/%s.%s", places_of[p], reporters[i], kinds[k]);
                if (!edit_has(e, unit)) continue;
                (void)snprintf(path, sizeof path, "/etc/systemd/system/%s.%s", reporters[i], kinds[k]);
                WS_TRY(edit_link(e, path, "/dev/null"));
                break;
            }
    for (int level = 2; level <= 5; level++) {
        (void)snprintf(path, sizeof path, "/etc/rc%d.d", level);
        (void)edit_drop_in(e, path, starts_reporter);
    }
    return WS_OK;
}

/* Is the language's data there? glibc names it "de_DE.utf8", in a folder or in its archive; musl needs none. */
static bool language_is_there(const struct edit *e, const char *locale) {
    enum { ARCHIVE_MOST = 64 << 20 };
    char name[64], path[120], *bytes = NULL;
    size_t length = 0;
    bool found = false;
    if (strcmp(locale, "C") == 0 || strcmp(locale, "POSIX") == 0 || strcmp(locale, "C.UTF-8") == 0) return true;
    if (edit_has(e, "/lib/ld-musl-x86_64.so.1")) return true;
    size_t n = strcspn(locale, ".");
    bool utf8 = strcmp(locale + n, ".UTF-8") == 0;
    (void)snprintf(name, sizeof name, "%.*s%s", (int)n, locale, utf8 ? ".utf8" : locale + n);
    for (int i = 0; i < 2; i++) {
        (void)snprintf(path, sizeof path, "/usr/lib/locale/%s", i ? locale : name);
        if (edit_has(e, path)) return true;
    }
    const struct ws_node *archive = ws_system_find(e->root, "/usr/lib/locale/locale-archive");
    if (!archive || archive->kind != WS_NODE_FILE || !archive->content || archive->content->size > 256u << 20)
        return false;
    struct ws_source *head = NULL; /* the names stand in front of the data */
    if (ws_source_slice(archive->content, 0,
                        archive->content->size < ARCHIVE_MOST ? archive->content->size : ARCHIVE_MOST, &head,
                        NULL) != WS_OK)
        return false;
    if (ws_source_load(head, ARCHIVE_MOST, &bytes, &length, NULL) == WS_OK) {
        size_t word = strlen(name) + 1; /* its NUL, too */
        for (size_t i = 1; i + word <= length && !found; i++)
            found = bytes[i - 1] == '\0' && bytes[i] == name[0] && memcmp(bytes + i, name, word) == 0;
    }
    ws_source_close(head);
    free(bytes);
    return found;
}

/* Where reading order goes on behind a folder and all in it. */
static const struct ws_node *behind(const struct ws_node *folder) {
    while (folder && !folder->next) folder = folder->parent;
    return folder ? folder->next : NULL;
}

/* Is there a file "NAME.map.gz", "NAME.kmap" or the like below this folder? */
static bool has_map(const struct ws_node *folder, const char *name) {
    static const char *const ends[] = {".map", ".kmap", ".bmap"};
    size_t length = strlen(name);
    const struct ws_node *end = behind(folder);
    for (const struct ws_node *n = folder; n && n != end; n = ws_tree_next(n))
        for (size_t i = 0; i < 3 && strncmp(n->name, name, length) == 0; i++)
            if (strncmp(n->name + length, ends[i], strlen(ends[i])) == 0) return true;
    return false;
}

/* Consoles call some layouts otherwise than X keyboards do. */
static const char *console_map(const struct edit *e, const char *layout, const char *variant, char out[64]) {
    static const char *const others[][2] = {{"gb", "uk"},        {"latam", "la-latin1"}, {"br", "br-abnt2"},
                                            {"jp", "jp106"},     {"ch", "sg"},           {"cz", "cz-lat2"},
                                            {"se", "sv-latin1"}, {"hr", "croat"},        {"si", "slovene"}};
    static const char *const folders[] = {"/usr/share/keymaps", "/usr/share/kbd/keymaps", "/usr/lib/kbd/keymaps",
                                          "/lib/kbd/keymaps", "/usr/share/bkeymaps"};
    const char *other = NULL;
    for (size_t i = 0; i < sizeof others / sizeof others[0]; i++)
        if (strcmp(layout, others[i][0]) == 0) other = others[i][1];
    for (size_t w = variant[0] ? 0 : 1; w < 4; w++) {
        if (w == 0) (void)snprintf(out, 64, "%s-%s", layout, variant);
        else if (w < 3) (void)snprintf(out, 64, "%s%s", layout, w == 2 ? "-latin1" : "");
        else if (other) (void)snprintf(out, 64, "%s", other);
        for (size_t f = 0; f < sizeof folders / sizeof folders[0]; f++)
            if (has_map(ws_system_find(e->root, folders[f]), out)) return out;
    }
    return NULL;
}

static enum ws_status put_zone(const struct edit *e, const char *zone) {
    char path[120];
    (void)snprintf(path, sizeof path, "/usr/share/zoneinfo/%s", zone);
    const struct ws_node *data = ws_system_find(e->root, path);
    if (!data || data->kind != WS_NODE_FILE) {
        ws_fail(e->error, WS_E_USAGE, "this root knows no time zone \"%s\": there is no %s in it", zone, path);
        return ws_fail_next(e->error, edit_has(e, "/usr/share/zoneinfo")
                                          ? "name one as the time zone database does, such as \"Atlantic/Faroe\""
                                          : "its time zone data is not installed: leave the zone out");
    }
    return edit_link(e, "/etc/localtime", path);
}

/* A language whose source is there is made at the first start, by the root's own program for it. */
static enum ws_status put_language(const struct edit *e, const char *locale, struct ws_text *steps) {
    char source[96], line[96];
    if (language_is_there(e, locale)) return WS_OK;
    (void)snprintf(source, sizeof source, "/usr/share/i18n/locales/%.*s", (int)strcspn(locale, "."), locale);
    const char *charset = strchr(locale, '.') ? strchr(locale, '.') + 1 : "ISO-8859-1";
    if (!edit_has(e, source) || !edit_has(e, "/usr/sbin/locale-gen")) {
        ws_findings_add(e->findings, WS_WARNING,
                        "the root has no data for the language \"%s\": it is set, and speaks once that is installed",
                        locale);
        return WS_OK;
    }
    (void)snprintf(line, sizeof line, "%s %s", locale, charset);
    ws_text_puts(steps, "locale-gen\n");
    return edit_put_line(e, "/etc/locale.gen", "", line, line);
}

enum ws_status own_settings(const struct edit *e, const struct ws_owner *o, struct ws_text *steps) {
    const char *word[WORDS] = {0};
    char layout[48] = "", console[64];
    const char *variant = "";
    if (o->host_name[0]) word[HOST] = o->host_name;
    if (o->locale[0]) word[LANGUAGE] = o->locale;
    if (o->time_zone[0]) word[ZONE] = o->time_zone;
    if (o->clock != WS_CLOCK_KEPT) word[CLOCK] = o->clock == WS_CLOCK_UTC ? "UTC" : "LOCAL";
    if (!o->reports) word[NO_REPORTS] = "";
    if (o->keyboard[0]) {
        (void)snprintf(layout, sizeof layout, "%.*s", (int)strcspn(o->keyboard, "/"), o->keyboard);
        variant = strchr(o->keyboard, '/') ? strchr(o->keyboard, '/') + 1 : "";
        word[LAYOUT] = layout;
        word[VARIANT] = variant;
        word[CONSOLE] = console_map(e, layout, variant, console);
        if (!word[CONSOLE] && !edit_has(e, "/etc/default/keyboard"))
            ws_findings_add(e->findings, WS_WARNING,
                            "the root has no console keys for the layout \"%s\": a text console keeps those it has",
                            o->keyboard);
    }
    WS_TRY(put_words(e, word));
    if (word[HOST]) WS_TRY(put_host(e, o->host_name));
    if (word[ZONE]) WS_TRY(put_zone(e, o->time_zone));
    if (word[LAYOUT] && edit_has(e, "/usr/share/X11/xkb"))
        WS_TRY(edit_write(e, "/etc/X11/xorg.conf.d/00-keyboard.conf", 0644,
                          "Section \"InputClass\"\n\tIdentifier \"keyboard\"\n\tMatchIsKeyboard \"on\"\n"
                          "\tOption \"XkbLayout\" \"%s\"\n\tOption \"XkbVariant\" \"%s\"\nEndSection\n",
                          layout, variant));
    if (word[LANGUAGE]) WS_TRY(put_language(e, o->locale, steps));
    return o->reports ? WS_OK : stop_reports(e);
}
