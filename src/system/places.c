/* places.c — folders and files of the old root laid over those of the new one, or found to be the same. */
#include "system/carry.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* What is its owner's, wherever a system has it. */
static const struct {
    const char *path, *what;
} places[] = {
    {"/home", "people's own files"},
    {"/root", "the administrator's own files"},
    {"/srv", "what this machine serves"},
    {"/usr/local", "what was installed by hand"},
    {"/var/mail", "mail"},
    {"/var/spool/cron/crontabs", "people's timed commands"},
    {"/etc/hostname", "host name"},
    {"/etc/conf.d/hostname", "host name"},
    {"/etc/hosts", "names of other hosts"},
    {"/etc/machine-id", "host identity"},
    {"/etc/machine-info", "host identity"},
    {"/var/lib/dbus/machine-id", "host identity"},
    {"/etc/fstab", "what is mounted where"},
    {"/etc/sudoers.d/owner", "who may administer"},
    {"/etc/doas.d/owner.conf", "who may administer"},
    {"/etc/locale.conf", "language"},
    {"/etc/default/locale", "language"},
    {"/etc/vconsole.conf", "keyboard"},
    {"/etc/default/keyboard", "keyboard"},
    {"/etc/conf.d/keymaps", "keyboard"},
    {"/etc/X11/xorg.conf.d/00-keyboard.conf", "keyboard"},
    {"/etc/localtime", "time zone"},
    {"/etc/timezone", "time zone"},
    {"/etc/adjtime", "what the PC's clock shows"},
    {"/etc/conf.d/hwclock", "what the PC's clock shows"},
    {"/etc/NetworkManager/system-connections", "networks"},
    {"/etc/netplan", "networks"},
    {"/etc/systemd/network", "networks"},
    {"/etc/network/interfaces", "networks"},
    {"/etc/network/interfaces.d", "networks"},
    {"/etc/wpa_supplicant", "networks"},
    {"/var/lib/iwd", "networks"},
    {"/var/lib/connman", "networks"},
    {"/etc/wireguard", "networks"},
    {"/etc/openvpn", "networks"},
    {"/var/lib/bluetooth", "paired devices"},
    {"/etc/cups/printers.conf", "printers"},
    {"/etc/cups/ppd", "printers"},
};

struct tally {
    uint64_t files, bytes;
};

static uint32_t mapped(const uint32_t *map, uint32_t id) { return id < CARRY_SYSTEM_IDS ? map[id] : id; }

static enum ws_status copy_facts(struct carry *c, const struct ws_node *from, struct ws_node *to) {
    to->mode = from->mode;
    to->marks = from->marks;
    to->uid = mapped(c->uid, from->uid);
    to->gid = mapped(c->gid, from->gid);
    to->mtime = from->mtime;
    to->mtime_ns = from->mtime_ns;
    to->xattrs = NULL;
    for (const struct ws_xattr *x = from->xattrs; x; x = x->next)
        WS_TRY(ws_tree_set_xattr(c->e.root, to, x->name, x->value, x->length, c->e.error));
    return WS_OK;
}

/* The node that is to be this one: what stands there goes, unless both are folders, or it is a plain file. */
static enum ws_status make_room(struct carry *c, struct ws_node *folder, const struct ws_node *thing, const char *name,
                                struct ws_node **node) {
    struct ws_node *there = ws_node_child(folder, name);
    bool reuse = there && !there->same_as && there->kind == thing->kind &&
                 (thing->kind == WS_NODE_FOLDER || (thing->kind == WS_NODE_FILE && !there->work2));
    *node = there;
    if (reuse) return WS_OK;
    if (there) ws_tree_drop(c->e.root, there);
    return ws_tree_add(c->e.root, folder, name, thing->kind, node, c->e.error);
}

/* One name, and all below it. Names that share a file go on sharing it, if both are carried over. */
static enum ws_status lay(struct carry *c, struct ws_node *from, struct ws_node *folder, struct tally *t) {
    struct ws_node *thing = from->same_as ? from->same_as : from;
    struct ws_node *to = NULL;
    if (from->work2 & CARRY_KEPT) return WS_OK;
    from->work2 |= CARRY_KEPT;
    if (thing->kind != WS_NODE_FOLDER && thing->work) {
        struct ws_node *shared = (struct ws_node *)(uintptr_t)thing->work; /* another name of it is there already */
        struct ws_node *there = ws_node_child(folder, from->name);
        if (there) ws_tree_drop(c->e.root, there);
        WS_TRY(ws_tree_add(c->e.root, folder, from->name, thing->kind, &to, c->e.error));
        to->same_as = shared;
        shared->work2++;
        return WS_OK;
    }
    WS_TRY(make_room(c, folder, thing, from->name, &to));
    WS_TRY(copy_facts(c, thing, to));
    to->content = thing->content;
    to->major = thing->major;
    to->minor = thing->minor;
    if (thing->kind == WS_NODE_LINK) WS_TRY(ws_tree_set_target(c->e.root, to, thing->target, c->e.error));
    if (thing->kind != WS_NODE_FOLDER) {
        thing->work = (uintptr_t)to;
        t->files++;
        t->bytes += thing->kind == WS_NODE_FILE ? ws_node_size(thing) : 0;
        return WS_OK;
    }
    for (struct ws_node *n = from->first; n; n = n->next) WS_TRY(lay(c, n, to, t));
    return WS_OK;
}

struct ws_node *carry_name(const struct edit *e, const char *path) {
    char folder[1024];
    const char *name = strrchr(path, '/') ? strrchr(path, '/') + 1 : path;
    (void)snprintf(folder, sizeof folder, "%.*s", (int)(name - path), path);
    if (!*name) return NULL;
    const struct ws_node *parent = ws_system_find(e->root, folder);
    return parent && parent->kind == WS_NODE_FOLDER ? ws_node_child(parent, name) : NULL;
}

/* Folders on the way to it that the new root does not have are as they were. */
static enum ws_status way_to(struct carry *c, const char *path, struct ws_node **folder) {
    char prefix[WS_KEEP_ROOM + 8];
    const size_t end = (size_t)(strrchr(path, '/') - path);
    *folder = ws_tree_root(c->e.root);
    for (size_t n = 1; n <= end; n++) {
        if (path[n] != '/' && n != end) continue;
        (void)snprintf(prefix, sizeof prefix, "%.*s", (int)n, path);
        bool there = edit_has(&c->e, prefix);
        WS_TRY(edit_folder(&c->e, prefix, folder));
        const struct ws_node *was = ws_system_find(c->was.root, prefix);
        if (!there && was) WS_TRY(copy_facts(c, was, *folder));
    }
    return WS_OK;
}

enum ws_status carry_place(struct carry *c, const char *path, const char *what) {
    struct tally t = {0};
    struct ws_node *folder = NULL;
    struct ws_node *from = carry_name(&c->was, path);
    if (!from) return WS_OK;
    WS_TRY(way_to(c, path, &folder));
    WS_TRY(lay(c, from, folder, &t));
    if (what && t.files) carry_tell(c, WS_FATE_KEPT, path, t.files, t.bytes, "%s", what);
    return WS_OK;
}

/* Keys by which others know this host. */
static enum ws_status carry_host_keys(struct carry *c) {
    struct ws_node *from = ws_system_find(c->was.root, "/etc/ssh");
    struct ws_node *folder = ws_system_find(c->e.root, "/etc/ssh");
    struct tally t = {0};
    if (!from || from->kind != WS_NODE_FOLDER || !folder || folder->kind != WS_NODE_FOLDER) return WS_OK;
    for (struct ws_node *n = from->first; n; n = n->next)
        if (own_is_host_key(n->name)) WS_TRY(lay(c, n, folder, &t));
    if (t.files) carry_tell(c, WS_FATE_KEPT, "/etc/ssh", t.files, t.bytes, "keys by which others know this host");
    return WS_OK;
}

enum ws_status carry_places(struct carry *c, const struct ws_keep_place *keep, size_t keeps) {
    struct ws_node *script = carry_name(&c->was, "/usr/local/sbin/start-entries");
    if (script) script->work2 |= CARRY_KEPT; /* ours, and the new root has a newer one */
    for (size_t i = 0; i < keeps; i++) {
        if (!carry_name(&c->was, keep[i].path))
            ws_findings_add(c->e.findings, WS_WARNING, "%s is asked to be kept, and is not there", keep[i].path);
        WS_TRY(carry_place(c, keep[i].path, "as asked"));
    }
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++)
        WS_TRY(carry_place(c, places[i].path, places[i].what));
    return carry_host_keys(c);
}

static enum ws_status is_same(const struct ws_source *a, const struct ws_source *b, uint8_t *room, size_t step,
                              bool *same, struct ws_error *error) {
    *same = a->size == b->size;
    for (uint64_t at = 0; *same && at < a->size; at += step) {
        size_t n = a->size - at < step ? (size_t)(a->size - at) : step;
        WS_TRY(ws_source_read(a, at, room, n, error));
        WS_TRY(ws_source_read(b, at, room + step, n, error));
        *same = memcmp(room, room + step, n) == 0;
    }
    return WS_OK;
}

enum ws_status carry_same(struct carry *c, uint64_t *files, uint64_t *bytes) {
    enum { STEP = 1 << 18 };
    char path[1024];
    uint8_t *room = malloc(2 * (size_t)STEP);
    enum ws_status status = room ? WS_OK : ws_fail(c->e.error, WS_E_NOMEM, "out of memory for comparing files");
    *files = *bytes = 0;
    for (struct ws_node *n = ws_tree_root(c->e.root); n && status == WS_OK; n = ws_tree_next(n)) {
        bool same = false;
        if (n->kind != WS_NODE_FILE || n->same_as || !n->content || !n->content->size) continue;
        struct ws_node *was = ws_tree_find(c->was.root, ws_node_path(n, path, sizeof path));
        if (was && was->same_as) was = was->same_as;
        if (!was || was->kind != WS_NODE_FILE || !was->content || was->work || was->content == n->content) continue;
        WS_GO(is_same(n->content, was->content, room, STEP, &same, c->e.error));
        if (!same) continue;
        n->content = was->content;
        was->work = (uintptr_t)n; /* one file of the new root is where it stands */
        ++*files;
        *bytes += n->content->size;
    }
done:
    free(room);
    return status;
}
