/* journal.c — the start journal laid into a root or into what a live system changes of it, read, and taken away. */
#include "wild_satchel/journal.h"

#include "system/own.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SCRIPT "/etc/satchel/start-journal"
static const char noted[] = "var/lib/satchel";
static const char unit[] = "/etc/systemd/system/start-journal.service";
static const char unit_link[] = "/etc/systemd/system/multi-user.target.wants/start-journal.service";
static const char openrc[] = "/etc/init.d/start-journal", openrc_link[] = "/etc/runlevels/default/start-journal";
static const char runit[] = "/etc/runit/core-services/99-start-journal.sh";
static const char runit_stop[] = "/etc/runit/shutdown.d/15-start-journal.sh"; /* before file systems go */
static const char inittab[] = "/etc/inittab";

static const struct own_service services[] = {
    {WS_INIT_SYSTEMD, "/etc", unit, 0644,
     "[Unit]\nDescription=The start journal of this drive\nRequiresMountsFor=/var\n"
     "[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh " SCRIPT "\nExecStop=/bin/sh " SCRIPT
     " stop\n[Install]\nWantedBy=multi-user.target\n",
     unit_link, "../start-journal.service"},
    {WS_INIT_OPENRC, "/etc/runlevels", openrc, 0755,
     "#!/sbin/openrc-run\ndescription=\"The start journal of this drive\"\ndepend() {\n\tneed localmount\n}\n"
     "start() {\n\tsh " SCRIPT "\n}\nstop() {\n\tsh " SCRIPT " stop\n}\n",
     openrc_link, openrc},
    {WS_INIT_RUNIT, "/etc/runit/core-services", runit, 0644, "sh " SCRIPT "\n", NULL, NULL},
};
/* Its files, but for the inittab, of which it has two lines. */
static const char *const files[] = {SCRIPT, unit, unit_link, openrc, openrc_link, runit, runit_stop};

/* Is this a line of an inittab by which the system goes down: "l0:0:wait:...", "::shutdown:..."? */
static bool goes_down(const char *line, size_t length) {
    const char *end = line + length, *levels = memchr(line, ':', length);
    const char *action = levels ? memchr(levels + 1, ':', (size_t)(end - levels - 1)) : NULL;
    if (line[0] == '#' || !action) return false;
    const size_t left = (size_t)(end - action);
    const bool last = memchr(levels, '0', (size_t)(action - levels)) || memchr(levels, '6', (size_t)(action - levels));
    return (left >= 10 && memcmp(action, ":shutdown:", 10) == 0) ||
           (last && left >= 6 && memcmp(action, ":wait:", 6) == 0);
}

/* Lines are carried out in their order, and the first of those that go down does not come back. */
static enum ws_status put_stop(const struct edit *e, const char *stop) {
    struct ws_text text = {0}, out = {0};
    enum ws_status status = edit_load(e, inittab, &text);
    const char *at = text.data ? text.data : "";
    const bool there = strstr(at, stop) != NULL;
    while (*at && !goes_down(at, strcspn(at, "\n"))) at += strcspn(at, "\n") + (at[strcspn(at, "\n")] == '\n');
    if (status == WS_OK && !there) {
        const size_t before = text.data ? (size_t)(at - text.data) : 0;
        if (before) ws_text_add(&out, text.data, before);
        if (before && text.data[before - 1] != '\n') ws_text_puts(&out, "\n");
        ws_text_puts(&out, stop);
        ws_text_puts(&out, "\n");
        ws_text_puts(&out, at);
        status = ws_text_status(&out, e->error);
        if (status == WS_OK) status = edit_save(e, inittab, &out, 0644, NULL);
    }
    ws_text_free(&text);
    ws_text_free(&out);
    return status;
}

static enum ws_status lay(struct ws_tree *root, int64_t made_at, bool *in_inittab, struct ws_error *error) {
    static const char *const starts[] = {"sj:2345:wait:/bin/sh " SCRIPT, "::wait:/bin/sh " SCRIPT};
    static const char *const stops[] = {"sk:06:wait:/bin/sh " SCRIPT " stop", "::shutdown:/bin/sh " SCRIPT " stop"};
    struct ws_findings findings = {0};
    bool put = false;
    *in_inittab = false;
    struct ws_system_facts *facts = calloc(1, sizeof *facts);
    if (!facts) return ws_fail(error, WS_E_NOMEM, "out of memory for a system");
    const struct edit e = {.root = root, .facts = facts, .made_at = made_at, .findings = &findings, .error = error};
    enum ws_status status = ws_system_look(root, facts, error);
    if (status == WS_OK) status = own_put_service(&e, services, sizeof services / sizeof services[0], &put);
    *in_inittab = status == WS_OK && !put && edit_has(&e, inittab);
    if (*in_inittab) {
        const struct ws_node *init = ws_system_find(root, "/sbin/init");
        const bool small = init && init == ws_system_find(root, "/bin/busybox");
        status = edit_put_line(&e, inittab, "", starts[small], starts[small]);
        if (status == WS_OK) status = put_stop(&e, stops[small]);
        put = true;
    }
    if (status == WS_OK && edit_has(&e, runit) && edit_has(&e, "/etc/runit/shutdown.d"))
        status = edit_write(&e, runit_stop, 0644, "sh %s stop\n", SCRIPT);
    if (status == WS_OK && !put) {
        ws_fail(error, WS_E_UNSUPPORTED,
                "a start journal needs systemd, openrc, runit or an inittab, and this system has none");
        status = ws_fail_next(error, "do without it");
    }
    if (status == WS_OK) status = edit_write(&e, SCRIPT, 0755, "%s", (const char *)own_script_start_journal);
    ws_findings_free(&findings);
    free(facts);
    return status;
}

enum ws_status ws_journal_lay(struct ws_tree *root, int64_t made_at, struct ws_error *error) {
    bool in_inittab;
    return lay(root, made_at, &in_inittab, error);
}

/* A file or link of the image's view, copied into the changes, with the folders on the way as the image has them. */
static enum ws_status take_over(struct ws_tree *image, struct ws_tree *upper, const char *top, const char *path,
                                struct ws_error *error) {
    const struct ws_node *from = ws_tree_find(image, path);
    struct ws_node *at = NULL, *made = NULL;
    char folder[256];
    if (!from) return WS_OK;
    WS_TRY(ws_tree_folder(upper, top, &at, error));
    for (const char *slash = strchr(path + 1, '/'); slash; slash = strchr(slash + 1, '/')) {
        (void)snprintf(folder, sizeof folder, "%.*s", (int)(slash - path), path);
        const struct ws_node *like = ws_tree_find(image, folder);
        struct ws_node *next = ws_node_child(at, strrchr(folder, '/') + 1);
        if (!next) {
            WS_TRY(ws_tree_add(upper, at, strrchr(folder, '/') + 1, WS_NODE_FOLDER, &next, error));
            next->mode = like ? like->mode : 0755;
            next->uid = like ? like->uid : 0;
            next->gid = like ? like->gid : 0;
            next->mtime = like ? like->mtime : 0;
        }
        at = next;
    }
    struct ws_node *old = ws_node_child(at, strrchr(path, '/') + 1);
    if (old) ws_tree_drop(upper, old);
    WS_TRY(ws_tree_add(upper, at, strrchr(path, '/') + 1, from->kind, &made, error));
    made->mode = from->mode;
    made->mtime = from->mtime;
    if (from->kind == WS_NODE_LINK) return ws_tree_set_target(upper, made, from->target, error);
    char *text = NULL;
    size_t length = 0;
    struct ws_source *content = NULL;
    WS_TRY(from->content ? ws_source_load(from->content, 1 << 20, &text, &length, error) : WS_OK);
    enum ws_status status = ws_source_memory(text ? text : "", length, &content, error);
    free(text);
    WS_TRY(status);
    WS_TRY(ws_tree_own(upper, content, error));
    made->content = content;
    return WS_OK;
}

enum ws_status ws_journal_lay_over(struct ws_tree *image, struct ws_tree *upper, const char *top, int64_t made_at,
                                   struct ws_error *error) {
    bool in_inittab = false;
    WS_TRY(lay(image, made_at, &in_inittab, error));
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) WS_TRY(take_over(image, upper, top, files[i], error));
    return in_inittab ? take_over(image, upper, top, inittab, error) : WS_OK;
}

static struct ws_node *find(const struct ws_tree *tree, const char *top, const char *path) {
    char whole[400];
    (void)snprintf(whole, sizeof whole, "%s/%s", top, path + (path[0] == '/'));
    return ws_tree_find(tree, whole);
}

bool ws_journal_is_laid(const struct ws_tree *tree, const char *top) { return find(tree, top, SCRIPT) != NULL; }

/* Its lines go; the file stays. */
static bool drop_lines(struct ws_tree *tree, struct ws_node *file) {
    struct ws_text out = {0};
    char *text = NULL;
    size_t length = 0;
    bool any = false;
    struct ws_source *content = NULL;
    struct ws_error ignored;
    if (!file || !file->content || ws_source_load(file->content, 1 << 20, &text, &length, &ignored) != WS_OK)
        return false;
    for (const char *line = text; *line;) {
        const size_t n = strcspn(line, "\n"), whole = n + (line[n] == '\n');
        const char *ours = strstr(line, SCRIPT);
        if (ours && ours < line + n) any = true;
        else ws_text_add(&out, line, whole);
        line += whole;
    }
    if (any && !out.failed && ws_source_memory(out.data ? out.data : "", out.length, &content, NULL) == WS_OK &&
        ws_tree_own(tree, content, NULL) == WS_OK)
        file->content = content;
    ws_text_free(&out);
    free(text);
    return any;
}

bool ws_journal_take_away(struct ws_tree *tree, const char *top) {
    bool any = drop_lines(tree, find(tree, top, inittab));
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        struct ws_node *n = find(tree, top, files[i]);
        if (!n) continue;
        any = true;
        ws_tree_drop(tree, n);
    }
    struct ws_node *folder = find(tree, top, "/etc/satchel"), *list = find(tree, top, noted);
    if (folder && !folder->first) ws_tree_drop(tree, folder);
    if (list) ws_tree_drop(tree, list);
    return any || list;
}

/* The field at `*line`, up to a tab or the end; then what follows it. */
static void take_field(const char **line, const char *end, char *out, size_t room) {
    char field[256];
    const char *tab = memchr(*line, '\t', (size_t)(end - *line));
    const char *stop = tab ? tab : end;
    (void)snprintf(field, sizeof field, "%.*s", (int)(stop - *line < 255 ? stop - *line : 255), *line);
    ws_visible(field, out, room);
    *line = tab ? tab + 1 : end;
}

size_t ws_journal_read(const struct ws_tree *tree, const char *top, struct ws_journal_start *start, size_t most) {
    enum { LONG = 4 << 20 };
    const struct ws_node *n = find(tree, top, "var/lib/satchel/starts");
    char *text = NULL;
    size_t length = 0, lines = 0, count = 0;
    struct ws_error ignored;
    if (!n || n->kind != WS_NODE_FILE || !n->content ||
        ws_source_load(n->content, LONG, &text, &length, &ignored) != WS_OK)
        return 0;
    for (size_t i = 0; i < length; i++) lines += text[i] == '\n';
    for (const char *line = text, *end; (end = memchr(line, '\n', (size_t)(text + length - line))) != NULL;
         line = end + 1) {
        if (lines-- > most) continue; /* the latest count */
        struct ws_journal_start *s = &start[count++];
        const char *at = line;
        take_field(&at, end, s->at, sizeof s->at);
        take_field(&at, end, s->machine, sizeof s->machine);
        take_field(&at, end, s->firmware, sizeof s->firmware);
        take_field(&at, end, s->kernel, sizeof s->kernel);
        take_field(&at, end, s->before, sizeof s->before);
    }
    free(text);
    return count;
}
