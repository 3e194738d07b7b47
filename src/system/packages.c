/* packages.c — what a root's package database says: which packages somebody asked for, and which files are theirs. */
#include "system/carry.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { DATABASE_MOST = 256 << 20 };
#define ADDED_LIST "/root/added-packages"

/* A database's text. The caller frees it; NULL where there is none. */
static enum ws_status load(const struct edit *e, const char *path, char **text) {
    const struct ws_node *n = ws_system_find(e->root, path);
    size_t length;
    *text = NULL;
    if (!n || n->kind != WS_NODE_FILE || !n->content) return WS_OK;
    enum ws_status status = ws_source_load(n->content, DATABASE_MOST, text, &length, e->error);
    return status == WS_OK ? WS_OK : ws_fail_where(e->error, "%s", path);
}

/* The next line of a text, cut off at its end; NULL behind the last. */
static char *take_line(char **text) {
    char *line = *text;
    if (!line || !*line) return NULL;
    char *end = strchr(line, '\n');
    *text = end ? end + 1 : line + strlen(line);
    if (end) *end = '\0';
    return line;
}

static struct ws_node *own(const struct edit *e, const char *path) {
    struct ws_node *n = carry_name(e, path);
    if (n) n->work2 |= CARRY_OWNED;
    return n;
}

/* A settings file that is not what its package brought. */
static enum ws_status note_changed(const struct edit *e, const char *path, const char *md5) {
    char hex[WS_HASH_HEX];
    struct ws_node *n = own(e, path);
    if (!n || n->kind != WS_NODE_FILE || !n->content || strlen(md5) != 32) return WS_OK;
    WS_TRY(ws_source_hash(n->content, WS_HASH_MD5, hex, e->error));
    if (strcmp(hex, md5) != 0) n->work2 |= CARRY_CHANGED;
    return WS_OK;
}

/* Names a line each, in order: looked up by halves. The text is cut into them. */
struct names {
    char **name; /* owned */
    size_t count;
};
static int by_name(const void *a, const void *b) { return strcmp(*(char *const *)a, *(char *const *)b); }

static enum ws_status sort_names(char *text, struct names *names, struct ws_error *error) {
    size_t room = 1;
    for (const char *p = text; p && *p; p++) room += *p == '\n';
    names->count = 0;
    names->name = malloc(room * sizeof *names->name);
    if (!names->name) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu packages", room);
    for (char *line; (line = take_line(&text));) names->name[names->count++] = line;
    if (names->count) qsort(names->name, names->count, sizeof *names->name, by_name);
    return WS_OK;
}

static bool has_name(const struct names *names, const char *name) {
    return names->count && bsearch(&name, names->name, names->count, sizeof *names->name, by_name);
}

/* dpkg: deb822 paragraphs of names, states, settings files; a list of files a package. */
static enum ws_status dpkg_automatic(const struct edit *e, struct ws_text *text) {
    char *extended = NULL, *line, name[128] = "";
    WS_TRY(load(e, "/var/lib/apt/extended_states", &extended));
    for (char *at = extended; (line = take_line(&at));) {
        if (strncmp(line, "Package: ", 9) == 0) (void)snprintf(name, sizeof name, "%s", line + 9);
        if (strcmp(line, "Auto-Installed: 1") == 0) ws_text_printf(text, "%s\n", name);
    }
    free(extended);
    return ws_text_status(text, e->error);
}

static enum ws_status dpkg_names(const struct edit *e, struct ws_text *names) {
    char *text = NULL, *line, name[128] = "";
    struct ws_text extended = {0};
    struct names automatic = {0};
    enum ws_status status;
    WS_GO(dpkg_automatic(e, &extended));
    WS_GO(sort_names(extended.data, &automatic, e->error));
    WS_GO(load(e, "/var/lib/dpkg/status", &text));
    for (char *at = text; (line = take_line(&at));) {
        if (strncmp(line, "Package: ", 9) == 0) (void)snprintf(name, sizeof name, "%s", line + 9);
        if (strcmp(line, "Status: install ok installed") == 0 && !has_name(&automatic, name))
            ws_text_printf(names, "%s\n", name);
    }
    status = ws_text_status(names, e->error);
done:
    free(automatic.name);
    ws_text_free(&extended);
    free(text);
    return status;
}

static enum ws_status dpkg_own(const struct edit *e) {
    char *text = NULL, *at, *line;
    struct ws_node *folder = ws_system_find(e->root, "/var/lib/dpkg/info");
    for (struct ws_node *n = folder ? folder->first : NULL; n; n = n->next) {
        char path[400];
        size_t length = strlen(n->name);
        if (length < 6 || strcmp(n->name + length - 5, ".list") != 0) continue;
        (void)snprintf(path, sizeof path, "/var/lib/dpkg/info/%s", n->name);
        WS_TRY(load(e, path, &text));
        for (at = text; (line = take_line(&at));) (void)own(e, line);
        free(text);
    }
    bool inside = false;
    WS_TRY(load(e, "/var/lib/dpkg/status", &text));
    enum ws_status status = WS_OK;
    for (at = text; status == WS_OK && (line = take_line(&at));) {
        if (*line != ' ') inside = strcmp(line, "Conffiles:") == 0;
        char *md5 = *line == ' ' && inside ? strchr(line + 1, ' ') : NULL;
        if (!md5) continue;
        *md5++ = '\0';
        md5[strcspn(md5, " ")] = '\0';
        status = note_changed(e, line + 1, md5);
    }
    free(text);
    return status;
}

/* apk: its "world" is what was asked for; "F:" folders and "R:" files in the list of what is installed. */
static enum ws_status apk_names(const struct edit *e, struct ws_text *names) {
    char *text = NULL, *at, *line;
    WS_TRY(load(e, "/etc/apk/world", &text));
    for (at = text; (line = take_line(&at));)
        if (*line) ws_text_printf(names, "%s\n", line);
    free(text);
    return ws_text_status(names, e->error);
}

static enum ws_status apk_own(const struct edit *e) {
    char *text = NULL, *at, *line, folder[512] = "", path[800];
    WS_TRY(load(e, "/lib/apk/db/installed", &text));
    for (at = text; (line = take_line(&at));) {
        if (strncmp(line, "F:", 2) == 0) (void)snprintf(folder, sizeof folder, "%s", line + 2);
        if (strncmp(line, "R:", 2) != 0) continue;
        (void)snprintf(path, sizeof path, "/%s/%.250s", folder, line + 2);
        (void)own(e, path);
    }
    free(text);
    return WS_OK;
}

/* pacman: a folder a package, with "desc" and "files". */
static enum ws_status pacman_each(const struct edit *e, struct ws_text *names) {
    const struct ws_node *folder = ws_system_find(e->root, "/var/lib/pacman/local");
    for (const struct ws_node *n = folder ? folder->first : NULL; n; n = n->next) {
        char *text = NULL, *at, *line, path[400], section[24] = "", name[128] = "";
        bool asked = true;
        enum ws_status status = WS_OK;
        if (n->kind != WS_NODE_FOLDER) continue;
        (void)snprintf(path, sizeof path, "/var/lib/pacman/local/%.250s/%s", n->name, names ? "desc" : "files");
        WS_TRY(load(e, path, &text));
        for (at = text; status == WS_OK && (line = take_line(&at));) {
            char *md5 = strchr(line, '\t');
            if (*line == '%' || !*line) {
                (void)snprintf(section, sizeof section, "%s", line);
                continue;
            }
            if (strcmp(section, "%NAME%") == 0) (void)snprintf(name, sizeof name, "%s", line);
            if (strcmp(section, "%REASON%") == 0) asked = strcmp(line, "1") != 0;
            (void)snprintf(path, sizeof path, "/%.390s", line);
            if (strcmp(section, "%FILES%") == 0) (void)own(e, path);
            if (strcmp(section, "%BACKUP%") != 0 || !md5) continue;
            path[1 + (size_t)(md5 - line)] = '\0';
            status = note_changed(e, path, md5 + 1);
        }
        free(text);
        WS_TRY(status);
        if (names && name[0] && asked) ws_text_printf(names, "%s\n", name);
    }
    return names ? ws_text_status(names, e->error) : WS_OK;
}
static enum ws_status pacman_names(const struct edit *e, struct ws_text *names) { return pacman_each(e, names); }
static enum ws_status pacman_own(const struct edit *e) { return pacman_each(e, NULL); }

static const struct {
    const char *sign, *install; /* what installs those of a list */
    enum ws_status (*names)(const struct edit *e, struct ws_text *names);
    enum ws_status (*own)(const struct edit *e);
} databases[] = {
    {"/var/lib/dpkg/status", "xargs -r apt-get install", dpkg_names, dpkg_own},
    {"/lib/apk/db/installed", "xargs -r apk add", apk_names, apk_own},
    {"/var/lib/pacman/local", "xargs -r pacman -S --needed", pacman_names, pacman_own},
};

/* Those of the first list that are not in the second, in order. */
static enum ws_status subtract(const struct edit *e, char *was, char *now, size_t *count, struct ws_text *out) {
    struct names had = {0}, has = {0};
    enum ws_status status;
    *count = 0;
    WS_GO(sort_names(was, &had, e->error));
    WS_GO(sort_names(now, &has, e->error));
    for (size_t i = 0; i < had.count; i++) {
        if (has_name(&has, had.name[i]) || (i && strcmp(had.name[i], had.name[i - 1]) == 0)) continue;
        ws_text_printf(out, "%s\n", had.name[i]);
        ++*count;
    }
    status = ws_text_status(out, e->error);
done:
    free(had.name);
    free(has.name);
    return status;
}

/* Those that an earlier renewal left to be installed again are still wanted. */
static enum ws_status earlier_list(const struct edit *e, struct ws_text *names) {
    char *text = NULL, *line;
    WS_TRY(load(e, ADDED_LIST, &text));
    for (char *at = text; (line = take_line(&at));)
        if (*line && *line != '#') ws_text_printf(names, "%s\n", line);
    free(text);
    return ws_text_status(names, e->error);
}

static enum ws_status keep_list(struct carry *c, const char *install, size_t count, const struct ws_text *added) {
    if (!count) return WS_OK;
    WS_TRY(edit_write(&c->e, ADDED_LIST, 0644,
                      "# Packages that were added to the system before this one. To have them again:\n"
                      "#   grep -v '^#' " ADDED_LIST " | %s\n%s",
                      install, added->data));
    carry_tell(c, WS_FATE_KEPT, ADDED_LIST, count, added->length,
               "list of the added packages, to be installed again: %.60s%s", added->data,
               added->length > 60 ? "..." : "");
    return WS_OK;
}

enum ws_status carry_packages(struct carry *c, bool *known) {
    *known = false;
    for (size_t i = 0; i < sizeof databases / sizeof databases[0]; i++) {
        struct ws_text was = {0}, now = {0}, added = {0};
        if (!edit_has(&c->was, databases[i].sign)) continue;
        *known = true;
        WS_TRY(databases[i].own(&c->was));
        if (!edit_has(&c->e, databases[i].sign)) return WS_OK; /* of another family: its names mean nothing there */
        enum ws_status status = databases[i].names(&c->was, &was);
        if (status == WS_OK) status = earlier_list(&c->was, &was);
        if (status == WS_OK) status = databases[i].names(&c->e, &now);
        size_t count = 0;
        if (status == WS_OK) status = subtract(&c->e, was.data, now.data, &count, &added);
        if (status == WS_OK) status = keep_list(c, databases[i].install, count, &added);
        ws_text_free(&was);
        ws_text_free(&now);
        ws_text_free(&added);
        return status;
    }
    return WS_OK;
}
