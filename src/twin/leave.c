/* leave.c — what a system can do without: told with its size, and left out where that is asked for. */
#include "base/pattern.h"
#include "twin/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char *const words[WS_LEAVES] = {"caches", "logs",       "temporary", "crashes",
                                             "trash",  "swap-files", "kernels"};
static const char *const meanings[WS_LEAVES] = {
    "packages that were installed already, lists that are fetched again, what programs keep to be quicker",
    "old logs, and the journal",
    "/tmp and /var/tmp",
    "memory of programs that crashed",
    "what people deleted",
    "swap in files, and what memory left there",
    "kernels older than the newest two, with their drivers"};

const char *ws_leave_name(enum ws_leave leave) { return words[leave]; }
const char *ws_leave_meaning(enum ws_leave leave) { return meanings[leave]; }

/* Paths from the top of the running system, whichever volumes they are on: "*" is any name, or the rest of one. What
 * the last word names goes, and all below it. */
static const struct {
    enum ws_leave leave;
    const char *path;
} places[] = {
    {WS_LEAVE_CACHES, "/var/cache/apt/archives/*.deb"},
    {WS_LEAVE_CACHES, "/var/cache/apt/*.bin"},
    {WS_LEAVE_CACHES, "/var/lib/apt/lists/*"},
    {WS_LEAVE_CACHES, "/var/cache/dnf/*"},
    {WS_LEAVE_CACHES, "/var/cache/libdnf5/*"},
    {WS_LEAVE_CACHES, "/var/cache/yum/*"},
    {WS_LEAVE_CACHES, "/var/cache/zypp/*"},
    {WS_LEAVE_CACHES, "/var/cache/pacman/pkg/*"},
    {WS_LEAVE_CACHES, "/var/cache/apk/*"},
    {WS_LEAVE_CACHES, "/var/cache/xbps/*"},
    {WS_LEAVE_CACHES, "/var/cache/distfiles/*"},
    {WS_LEAVE_CACHES, "/var/cache/man/*"},
    {WS_LEAVE_CACHES, "/var/cache/fontconfig/*"},
    {WS_LEAVE_CACHES, "/home/*/.cache/*"},
    {WS_LEAVE_CACHES, "/root/.cache/*"},
    {WS_LEAVE_LOGS, "/var/log/journal/*/*"},
    {WS_LEAVE_LOGS, "/var/log/*.gz"},
    {WS_LEAVE_LOGS, "/var/log/*.xz"},
    {WS_LEAVE_LOGS, "/var/log/*.old"},
    {WS_LEAVE_LOGS, "/var/log/*.1"},
    {WS_LEAVE_LOGS, "/var/log/*/*.gz"},
    {WS_LEAVE_LOGS, "/var/log/*/*.1"},
    {WS_LEAVE_TEMPORARY, "/tmp/*"},
    {WS_LEAVE_TEMPORARY, "/var/tmp/*"},
    {WS_LEAVE_CRASHES, "/var/crash/*"},
    {WS_LEAVE_CRASHES, "/var/lib/systemd/coredump/*"},
    {WS_LEAVE_CRASHES, "/var/lib/apport/coredump/*"},
    {WS_LEAVE_TRASH, "/home/*/.local/share/Trash/*/*"},
    {WS_LEAVE_TRASH, "/root/.local/share/Trash/*/*"},
    {WS_LEAVE_TRASH, "?/.Trash-*"}, /* at the top of any volume */
    {WS_LEAVE_TRASH, "?/$RECYCLE.BIN"},
    {WS_LEAVE_SWAP_FILES, "/swapfile"},
    {WS_LEAVE_SWAP_FILES, "/swap.img"},
    {WS_LEAVE_SWAP_FILES, "/var/swap"},
    {WS_LEAVE_SWAP_FILES, "/swap/swapfile"},
};

/* A file of a kernel that is not among the two newest. */
static bool is_old_kernel(const struct ws_original *o, const char *path) {
    static const char *const begins[] = {"/boot/vmlinuz-",    "/boot/initrd.img-", "/boot/initramfs-",
                                         "/boot/System.map-", "/boot/config-",     "/boot/kernel-",
                                         "/lib/modules/",     "/usr/lib/modules/", "/boot/initrd-"};
    for (size_t k = 2; o && k < o->facts.kernels; k++)
        for (size_t i = 0; i < sizeof begins / sizeof begins[0]; i++) {
            const size_t n = strlen(begins[i]), length = strlen(o->facts.kernel[k].version);
            if (strncmp(path, begins[i], n) != 0 || strncmp(path + n, o->facts.kernel[k].version, length) != 0)
                continue;
            const char *rest = path + n + length;
            if (!*rest || strcmp(rest, ".img") == 0) return true;
        }
    return false;
}

/* Which kind a thing is of; WS_LEAVES: none. `mounted`: where its volume is, "" if no system says. */
static enum ws_leave kind_of(const struct ws_original *o, const char *mounted, const char *path) {
    char whole[1400];
    (void)snprintf(whole, sizeof whole, "%s%s", strcmp(mounted, "/") == 0 ? "" : mounted, path);
    if (mounted[0] && is_old_kernel(o, whole)) return WS_LEAVE_KERNELS;
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        const bool any = places[i].path[0] == '?';
        if (any ? pattern_fits(places[i].path + 1, path, false)
                : mounted[0] && pattern_fits(places[i].path, whole, false))
            return places[i].leave;
    }
    return WS_LEAVES;
}

struct leaving {
    const struct ws_original *o; /* NULL: kernels are not told apart */
    const char *top;             /* only what lies in this folder is looked at, as if it were all; NULL: all */
    char mounted[256];
    uint32_t which;
    struct ws_left_out *tally;
};

static void count_below(const struct ws_node *top, struct ws_left_out *t) {
    for (const struct ws_node *n = top; n; n = ws_tree_next_below(n, top)) {
        if (n->kind != WS_NODE_FOLDER) t->files++;
        if (n->kind == WS_NODE_FILE) t->bytes += ws_node_stored(n);
    }
}

static const char *own_path(const struct leaving *l, const char *path) {
    const size_t length = l->top ? strlen(l->top) : 0;
    if (!length) return path;
    return strncmp(path + 1, l->top, length) == 0 && path[1 + length] == '/' ? path + 1 + length : NULL;
}

static bool goes(void *context, struct ws_node *n) {
    const struct leaving *l = context;
    char path[1024];
    const char *own = n->parent ? own_path(l, ws_node_path(n, path, sizeof path)) : NULL;
    const enum ws_leave kind = own ? kind_of(l->o, l->mounted, own) : WS_LEAVES;
    if (kind == WS_LEAVES || ws_node_is_whiteout(n)) return false; /* without that the image's would be back */
    if (l->tally) count_below(n, &l->tally[kind]);
    return l->which >> kind & 1;
}

static void begin(struct leaving *l, const struct ws_original *o, size_t volume) {
    l->o = o;
    (void)snprintf(l->mounted, sizeof l->mounted, "%s", volume == o->root ? "/" : "");
    if (volume != o->root && o->root < o->volumes) twin_mounted_at(o, volume, l->mounted, sizeof l->mounted);
}

void ws_original_leavable(const struct ws_original *o, struct ws_left_out tally[WS_LEAVES]) {
    memset(tally, 0, WS_LEAVES * sizeof *tally);
    for (size_t i = 0; i < o->volumes; i++) {
        struct leaving l = {.tally = tally};
        if (!o->volume[i].tree) continue;
        begin(&l, o, i);
        ws_tree_drop_all(o->volume[i].tree, goes, &l); /* none goes: each is only counted */
    }
}

void ws_original_leave_out(struct ws_original *o, uint32_t which, struct ws_left_out tally[WS_LEAVES]) {
    memset(tally, 0, WS_LEAVES * sizeof *tally);
    for (size_t i = 0; which && i < o->volumes; i++) {
        struct leaving l = {.which = which, .tally = tally};
        if (!o->volume[i].tree) continue;
        begin(&l, o, i);
        ws_tree_drop_all(o->volume[i].tree, goes, &l);
    }
}

void leave_below(struct ws_tree *tree, const char *top, uint32_t which, struct ws_left_out tally[WS_LEAVES]) {
    struct leaving l = {.top = top, .mounted = "/", .which = which, .tally = tally};
    memset(tally, 0, WS_LEAVES * sizeof *tally);
    ws_tree_drop_all(tree, goes, &l);
}

void leave_count(struct ws_tree *tree, const char *top, struct ws_left_out tally[WS_LEAVES]) {
    leave_below(tree, top, 0, tally); /* none goes: each is only counted */
}
