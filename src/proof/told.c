/* told.c — differences between two snapshots as a technician thinks of them, and what survived of them. */
#include "base/pattern.h"
#include "proof/snapshot.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A path as the running system has it; NULL: it lies outside of what that shows. */
static const char *as_seen(const char *path, const char *top) {
    const size_t n = strlen(top);
    if (!n) return path;
    if (path[0] != '/' || strncmp(path + 1, top, n) != 0) return NULL;
    if (path[1 + n] == '\0') return "/";
    return path[1 + n] == '/' ? path + 1 + n : NULL;
}

/* One more or one less: a whiteout stands for a name that is not there. */
static bool is_there(const struct ws_shot *s) { return s && !ws_shot_is_whiteout(s); }

struct candidate {
    const struct ws_shot *shot;
    const char *path;
    bool moved;
};

struct telling {
    struct ws_told *told;
    const char *top;
    struct candidate *added, *gone;
    size_t added_count, gone_count, room;
    bool failed;
};

/* By their managers' records: what stands at the "*" is the package. */
static const char *const package_records[] = {"/var/lib/dpkg/info/*.list", "/var/lib/flatpak/app/*",
                                              "/var/db/xbps/.*-files.plist"};

static void note_package(struct ws_told *told, enum ws_change change, const char *path) {
    for (size_t i = 0; i < sizeof package_records / sizeof package_records[0]; i++) {
        if (!pattern_fits(package_records[i], path, false)) continue;
        const char *star = strchr(package_records[i], '*');
        const size_t before = (size_t)(star - package_records[i]), after = strlen(star + 1);
        const int name = (int)(strlen(path) - before - after), n = (int)strlen(told->packages);
        char one[200];
        (void)snprintf(one, sizeof one, "%s%s%.*s", n ? ", " : "", change == WS_CHANGE_GONE ? "-" : "", name,
                       path + before);
        if ((size_t)n + strlen(one) + 1 <= sizeof told->packages)
            (void)snprintf(told->packages + n, sizeof told->packages - (size_t)n, "%s", one);
    }
}

static void count(struct ws_told *told, enum ws_change change, const char *path) {
    const enum ws_whose whose = ws_whose_is(path);
    told->all++;
    told->by_people += whose < WS_WHOSE_OWN;
    told->of[whose].count[change]++;
    if (change != WS_CHANGE_CHANGED) note_package(told, change, path);
    if (told->of[whose].examples == WS_TOLD_EXAMPLES) return;
    const size_t i = told->of[whose].examples++;
    told->of[whose].example[i].change = change;
    ws_visible(path, told->of[whose].example[i].path, sizeof told->of[whose].example[i].path);
}

static void remember(struct telling *t, struct candidate **list, size_t *count_of, const struct ws_shot *shot,
                     const char *path) {
    if (*count_of % 1024 == 0) {
        struct candidate *more = realloc(*list, (*count_of + 1024) * sizeof **list);
        if (!more) {
            t->failed = true;
            return;
        }
        *list = more;
    }
    (*list)[(*count_of)++] = (struct candidate){.shot = shot, .path = path};
}

/* What moves has content that is known. */
static bool may_move(const struct ws_shot *s) { return s->kind == WS_NODE_FILE && s->hashed && s->size > 0; }

/* As the running system sees it: a deleted name of the layer below is kept as a whiteout, a changed one as a copy. */
static enum ws_change as_system_sees(const struct ws_shot *before, const struct ws_shot *after) {
    const struct ws_shot *one = after ? after : before;
    if (before && after && is_there(before) == is_there(after)) return WS_CHANGE_CHANGED;
    if (before && after) return is_there(after) ? WS_CHANGE_ADDED : WS_CHANGE_GONE;
    if (is_there(one) && one->below) return WS_CHANGE_CHANGED;
    return is_there(one) == (after != NULL) ? WS_CHANGE_ADDED : WS_CHANGE_GONE;
}

static void look_at(void *context, enum ws_change change, const struct ws_shot *before, const struct ws_shot *after) {
    struct telling *t = context;
    const struct ws_shot *one = after ? after : before;
    if (!one) return;
    const char *path = as_seen(one->path, t->top);
    if (!path || t->failed || strcmp(path, "/") == 0) return;
    if (one->kind == WS_NODE_FOLDER && one->below && change != WS_CHANGE_CHANGED)
        return; /* the way to what was changed */
    change = as_system_sees(before, after);
    if (change == WS_CHANGE_ADDED && after && may_move(after)) remember(t, &t->added, &t->added_count, after, path);
    else if (change == WS_CHANGE_GONE && before && may_move(before))
        remember(t, &t->gone, &t->gone_count, before, path);
    else count(t->told, change, path);
}

static int by_content(const void *a, const void *b) {
    const struct candidate *x = a, *y = b;
    const int order = memcmp(x->shot->sha256, y->shot->sha256, sizeof x->shot->sha256);
    return order ? order : strcmp(x->path, y->path);
}

static int by_path(const void *a, const void *b) {
    return strcmp(((const struct candidate *)a)->path, ((const struct candidate *)b)->path);
}

/* Of a few bytes many are equal by chance: then the name tells. */
static bool is_likely(const struct candidate *gone, const struct candidate *added) {
    enum { FEW = 64 };
    return added->shot->size > FEW || strcmp(strrchr(gone->path, '/'), strrchr(added->path, '/')) == 0;
}

/* A file gone from one place with the content of one that came to another. */
static void tell_moves(struct telling *t) {
    size_t i = 0, k = 0;
    if (t->gone_count) qsort(t->gone, t->gone_count, sizeof *t->gone, by_content);
    if (t->added_count) qsort(t->added, t->added_count, sizeof *t->added, by_content);
    while (i < t->gone_count && k < t->added_count) {
        const int order = memcmp(t->gone[i].shot->sha256, t->added[k].shot->sha256, sizeof t->gone[i].shot->sha256);
        if (order == 0 && is_likely(&t->gone[i], &t->added[k])) t->gone[i].moved = t->added[k].moved = true;
        i += order <= 0;
        k += order >= 0;
    }
    if (t->gone_count) qsort(t->gone, t->gone_count, sizeof *t->gone, by_path);
    if (t->added_count) qsort(t->added, t->added_count, sizeof *t->added, by_path);
    for (k = 0; k < t->added_count; k++)
        count(t->told, t->added[k].moved ? WS_CHANGE_MOVED : WS_CHANGE_ADDED, t->added[k].path);
    for (i = 0; i < t->gone_count; i++)
        if (!t->gone[i].moved) count(t->told, WS_CHANGE_GONE, t->gone[i].path);
}

enum ws_status ws_told_tell(const struct ws_snapshot *before, const struct ws_snapshot *after, const char *top,
                            struct ws_told *told, struct ws_error *error) {
    struct telling t = {.told = told, .top = top};
    memset(told, 0, sizeof *told);
    ws_snapshot_compare(before, after, look_at, &t);
    if (!t.failed) tell_moves(&t);
    free(t.added);
    free(t.gone);
    return t.failed ? ws_fail(error, WS_E_NOMEM, "out of memory for what changed") : WS_OK;
}

/* Was the folder that a path lies in written to between two moments? */
static bool folder_was_touched(const struct ws_snapshot *saved, const struct ws_snapshot *now, const char *path) {
    char folder[8192];
    size_t n = strlen(path);
    if (n >= sizeof folder) return false;
    memcpy(folder, path, n + 1);
    for (;;) {
        while (n > 0 && folder[n - 1] != '/') n--;
        folder[n > 1 ? n - 1 : 1] = '\0';
        const struct ws_shot *was = ws_snapshot_find(saved, folder), *is = ws_snapshot_find(now, folder);
        if (was && is) return was->mtime != is->mtime || was->mtime_ns != is->mtime_ns;
        if (n <= 1) return false;
        n--; /* it is gone itself: the one above tells */
    }
}

struct surviving {
    const struct ws_snapshot *saved, *now;
    const char *top;
    struct ws_survived *survived;
};

static void note_lost(struct ws_survived *s, const char *path) {
    s->lost++;
    if (s->examples < WS_LOST_EXAMPLES) ws_visible(path, s->example[s->examples++], sizeof s->example[0]);
}

static void look_after(void *context, enum ws_change change, const struct ws_shot *before,
                       const struct ws_shot *after) {
    struct surviving *s = context;
    const char *whole = (after ? after : before)->path, *path = as_seen(whole, s->top);
    if (!path || strcmp(path, "/") == 0 || ws_whose_is(path) >= WS_WHOSE_OWN) return;
    if (after && after->kind == WS_NODE_FOLDER && after->below) return; /* the way to what was changed */
    const struct ws_shot *now = ws_snapshot_find(s->now, whole);
    if (change == WS_CHANGE_GONE) {
        if (!now) s->survived->survive++;
        else if (ws_shot_same(now, before) && now->mtime == before->mtime)
            note_lost(s->survived, path); /* it came back */
        else s->survived->again++;
    } else if (!now) {
        /* Folders of ordinary volumes do not tell, and other PCs may delete there, too. */
        if (snapshot_is_data(path) || folder_was_touched(s->saved, s->now, whole)) s->survived->deleted++;
        else note_lost(s->survived, path);
    } else if (ws_shot_same(now, after)) {
        s->survived->survive++;
    } else if (!is_there(now)) {
        s->survived->deleted++;
    } else if (now->kind == WS_NODE_FILE && after->kind == WS_NODE_FILE && now->mtime == after->mtime &&
               now->mtime_ns == after->mtime_ns && now->mode == after->mode && now->uid == after->uid &&
               now->gid == after->gid) {
        note_lost(s->survived, path); /* other content, and nobody wrote it */
    } else {
        s->survived->again++;
    }
}

void ws_survived_look(const struct ws_snapshot *first, const struct ws_snapshot *saved, const struct ws_snapshot *now,
                      const char *top, struct ws_survived *survived) {
    struct surviving s = {.saved = saved, .now = now, .top = top, .survived = survived};
    memset(survived, 0, sizeof *survived);
    ws_snapshot_compare(first, saved, look_after, &s);
}
