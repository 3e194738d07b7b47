/* added.c — files of the user's own in a root: where each kind goes, and whose it is there. */
#include "system/own.h"

#include "wild_satchel/ext4.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { KEYS_MOST = 65536, PATH_ROOM = 512 };

/* Where a root keeps a network's settings, by the file's ending. They hold passwords: root alone reads them, but where
 * a service that is not root has to. A row counts where `sign` is in the root. */
static const struct {
    const char *ending, *sign, *folder;
    bool ending_stays;
    uint16_t mode;
} networks[] = {
    {".nmconnection", "/usr/sbin/NetworkManager", "/etc/NetworkManager/system-connections", true, 0600},
    {".network", "/lib/systemd/systemd-networkd", "/etc/systemd/network", true, 0644},
    {".link", "/lib/systemd/systemd", "/etc/systemd/network", true, 0644},
    {".yaml", "/usr/sbin/netplan", "/etc/netplan", true, 0600},
    {".interfaces", "/sbin/ifup", "/etc/network/interfaces.d", false, 0600},
    {".psk", "/usr/libexec/iwd", "/var/lib/iwd", true, 0600},
    {".8021x", "/usr/libexec/iwd", "/var/lib/iwd", true, 0600},
    {".conf", "/sbin/wpa_supplicant", "/etc/wpa_supplicant", true, 0600},
};

/* What the plan makes itself, or what is none of a drive's. */
static const char *const kept[] = {"/proc",
                                   "/sys",
                                   "/dev",
                                   "/run",
                                   "/boot/loader",
                                   "/boot/efi",
                                   "/etc/fstab",
                                   "/etc/crypttab",
                                   "/etc/passwd",
                                   "/etc/shadow",
                                   "/etc/group",
                                   "/etc/gshadow",
                                   "/etc/machine-id",
                                   "/etc/first-start",
                                   "/etc/start-entries.conf",
                                   "/usr/local/sbin/start-entries"};

static bool ends_with(const char *text, const char *ending) {
    size_t n = strlen(text);
    size_t e = strlen(ending);
    return n > e && strcmp(text + n - e, ending) == 0;
}

static bool is_kept(const char *path) {
    for (size_t i = 0; i < sizeof kept / sizeof kept[0]; i++) {
        size_t n = strlen(kept[i]);
        if (strncmp(path, kept[i], n) == 0 && (path[n] == '\0' || path[n] == '/')) return true;
    }
    return false;
}

/* "/etc/x": absolute, in its simplest form. */
static enum ws_status check_place(const struct ws_own_file *f, struct ws_error *error) {
    const char *to = f->to;
    bool top = f->what == WS_ADDED_FOLDER && strcmp(to, "/") == 0;
    size_t n = strlen(to);
    bool simple = to[0] == '/' && !strstr(to, "//") && !strstr(to, "/./") && !strstr(to, "/../") &&
                  !ends_with(to, "/..") && !ends_with(to, "/.") && n > 1 && to[n - 1] != '/';
    if (!top && !(simple && ws_is_visible(to))) {
        ws_fail(error, WS_E_USAGE, "\"%s\" is no place in a system", to);
        return ws_fail_next(error, "name it from the top, as the running system will see it: /etc/motd");
    }
    if (!is_kept(to)) return WS_OK;
    ws_fail(error, WS_E_USAGE, "%s is made by the plan itself, or by the running system", to);
    return ws_fail_next(error, "leave it out; what it would say, the plan's own wishes say");
}

static enum ws_status check_account(const char *name, const struct ws_owner *o, struct ws_error *error) {
    if (strcmp(name, "root") == 0) return WS_OK;
    for (size_t i = 0; i < o->accounts; i++)
        if (strcmp(o->account[i].name, name) == 0) return WS_OK;
    ws_fail(error, WS_E_USAGE, "no account \"%s\" is asked for, to which these keys could belong", name);
    return ws_fail_hint(error, WS_HINT_ACCOUNT, "", "ask for it, or name one that is");
}

static enum ws_status check_network(const char *name, struct ws_error *error) {
    char all[160] = "";
    if (!ws_is_visible(name)) return ws_fail(error, WS_E_USAGE, "its name holds what cannot be seen");
    for (size_t i = 0; i < sizeof networks / sizeof networks[0]; i++) {
        size_t n = strlen(all);
        if (ends_with(name, networks[i].ending)) return WS_OK;
        (void)snprintf(all + n, sizeof all - n, "%s%s", i ? ", " : "", networks[i].ending);
    }
    ws_fail(error, WS_E_USAGE,
            "what kind of network settings these are is told by the name's ending, and is not known");
    return ws_fail_next(error, "name it as the system that reads it wants it: NAME%s", all);
}

enum ws_status ws_own_file_check(const struct ws_own_file *f, const struct ws_owner *o, struct ws_error *error) {
    switch (f->what) {
    case WS_ADDED_KEYS: return check_account(f->to, o, error);
    case WS_ADDED_NETWORK: return check_network(f->name, error);
    case WS_ADDED_FIRST_START: return WS_OK;
    default: return check_place(f, error);
    }
}

/* In an account's home it is that account's, elsewhere root's. */
static void give(const struct edit *e, const char *path, struct ws_node *n) {
    char home[PATH_ROOM];
    size_t end = strncmp(path, "/home/", 6) == 0 ? 6 + strcspn(path + 6, "/") : 0;
    (void)snprintf(home, sizeof home, "%.*s", (int)end, path);
    const struct ws_node *h = end ? ws_system_find(e->root, home) : NULL;
    n->uid = h ? h->uid : 0;
    n->gid = h ? h->gid : 0;
}

/* The folders on the way to a path, and whose the new ones are. */
static enum ws_status make_way(const struct edit *e, const char *path) {
    char prefix[PATH_ROOM];
    for (const char *p = strchr(path + 1, '/'); p; p = strchr(p + 1, '/')) {
        struct ws_node *folder = NULL;
        (void)snprintf(prefix, sizeof prefix, "%.*s", (int)(p - path), path);
        bool there = edit_has(e, prefix);
        WS_TRY(edit_folder(e, prefix, &folder));
        if (!there) give(e, prefix, folder);
    }
    return WS_OK;
}

/* A folder of the root does not give way to a file: all that is in it would go. The name itself counts, not where a
 * link of that name leads. */
static enum ws_status check_way(const struct edit *e, const char *path) {
    char above[PATH_ROOM];
    const char *name = strrchr(path, '/') + 1;
    (void)snprintf(above, sizeof above, "%.*s", (int)(name - path), path);
    const struct ws_node *parent = ws_system_find(e->root, above);
    const struct ws_node *n = parent && parent->kind == WS_NODE_FOLDER ? ws_node_child(parent, name) : NULL;
    if (!n || n->kind != WS_NODE_FOLDER) return WS_OK;
    ws_fail(e->error, WS_E_USAGE, "a folder of the root stands at %s", path);
    return ws_fail_next(e->error, "name the file in it, such as %s/NAME", path);
}

/* The content stays where it is: files may be large. What was there under this name goes. */
static enum ws_status put_file(const struct edit *e, const char *path, const struct ws_source *content, uint16_t mode,
                               struct ws_node **node) {
    const struct ws_text nothing = {0};
    struct ws_node *n = NULL;
    WS_TRY(make_way(e, path));
    WS_TRY(check_way(e, path));
    edit_drop(e, path);
    WS_TRY(edit_save(e, path, &nothing, mode, &n));
    n->content = content;
    n->mode = mode;
    n->xattrs = NULL;
    give(e, path, n);
    if (node) *node = n;
    return WS_OK;
}

/* One name of a folder that is laid in. */
static enum ws_status lay_node(const struct edit *e, const struct ws_own_file *f, const char *path,
                               const struct ws_node *from) {
    struct ws_node *n = NULL;
    bool there = ws_system_find(e->root, path) != NULL;
    if (from->same_as) from = from->same_as;
    if (from->kind == WS_NODE_FOLDER) {
        WS_TRY(make_way(e, path));
        WS_TRY(edit_folder(e, path, &n));
        if (there) return WS_OK; /* the root's own stays as it is */
    } else if (from->kind == WS_NODE_FILE) {
        WS_TRY(put_file(e, path, from->content, from->mode, &n));
    } else if (from->kind == WS_NODE_LINK) {
        WS_TRY(make_way(e, path));
        WS_TRY(check_way(e, path));
        WS_TRY(edit_link(e, path, from->target ? from->target : ""));
        return WS_OK;
    } else {
        ws_findings_add(e->findings, WS_WARNING, "%s of the added folder is left out: it is no file, folder or link",
                        path);
        return WS_OK;
    }
    n->mode = from->mode;
    n->mtime = from->mtime;
    n->mtime_ns = from->mtime_ns;
    if (f->of_files) {
        give(e, path, n);
    } else {
        n->uid = from->uid;
        n->gid = from->gid;
        n->xattrs = from->xattrs; /* the tree it is of closes with the root's */
    }
    return WS_OK;
}

static void close_tree(struct ws_source *source) { ws_tree_close(source->state); }
static enum ws_status read_nothing(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    (void)source, (void)at, (void)buffer, (void)length;
    return ws_fail(error, WS_E_READ, "nothing stands there");
}
static const struct ws_source_ops holder_ops = {read_nothing, close_tree, NULL};

/* The folder's tree is kept as long as the root's: it lends it content and attributes. */
static enum ws_status open_folder(const struct edit *e, const struct ws_own_file *f, struct ws_tree **tree) {
    struct ws_source *holder = NULL;
    enum ws_status status = ws_ext4_read(f->source, tree, NULL, e->error);
    if (status != WS_OK) return ws_fail_where(e->error, "%s", f->name);
    status = ws_source_make(&holder_ops, 0, *tree, &holder, e->error);
    if (status != WS_OK) {
        ws_tree_close(*tree);
        return status;
    }
    return ws_tree_own(e->root, holder, e->error);
}

static enum ws_status put_folder(const struct edit *e, const struct ws_own_file *f) {
    struct ws_tree *tree = NULL;
    WS_TRY(open_folder(e, f, &tree));
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        char inside[PATH_ROOM], path[2 * PATH_ROOM];
        ws_node_path(n, inside, sizeof inside);
        (void)snprintf(path, sizeof path, "%s%s", f->to[1] ? f->to : "", inside);
        if (strcmp(inside, "/lost+found") == 0) continue; /* of the volume, not of the folder */
        if (strncmp(inside, "...", 3) == 0 || strlen(path) >= PATH_ROOM) {
            ws_fail(e->error, WS_E_RANGE, "a path in the added folder is longer than %d bytes", PATH_ROOM - 1);
            return ws_fail_where(e->error, "%s", inside);
        }
        if (is_kept(path) && n->kind != WS_NODE_FOLDER) {
            ws_fail(e->error, WS_E_USAGE, "the added folder holds %s, which the plan or the running system makes",
                    path);
            return ws_fail_next(e->error, "leave it out");
        }
        WS_TRY(lay_node(e, f, path, n));
    }
    return WS_OK;
}

/* authorized_keys (sshd(8), "AUTHORIZED_KEYS FILE FORMAT"); a private key put on a drive by mistake would be a loss. */
static enum ws_status check_keys(const struct edit *e, const struct ws_own_file *f, const char *text) {
    size_t keys = 0;
    if (strstr(text, "PRIVATE KEY-----")) {
        ws_fail(e->error, WS_E_USAGE, "this is a private key, which has no business on the drive");
        ws_fail_where(e->error, "%s", f->name);
        return ws_fail_next(e->error, "give its public half, the file that ends in .pub");
    }
    for (const char *line = text; *line; line += strcspn(line, "\n"), line += *line == '\n') {
        size_t n = strcspn(line, "\n");
        char one[200];
        (void)snprintf(one, sizeof one, "%.*s", (int)(n < 199 ? n : 199), line);
        if (one[strspn(one, " \t\r")] == '\0' || one[0] == '#') continue;
        if (!strstr(one, "ssh-") && !strstr(one, "ecdsa-") && !strstr(one, "sk-")) {
            keys = 0;
            break;
        }
        keys++;
    }
    if (keys) return WS_OK;
    ws_fail(e->error, WS_E_FORMAT, "this is no list of public keys");
    return ws_fail_where(e->error, "%s", f->name);
}

static enum ws_status put_keys(const struct edit *e, const struct ws_own_file *f) {
    char path[PATH_ROOM + 20], folder[PATH_ROOM];
    char *text = NULL;
    size_t length = 0;
    bool root = strcmp(f->to, "root") == 0;
    enum ws_status status = ws_source_load(f->source, KEYS_MOST, &text, &length, e->error);
    if (status != WS_OK) return ws_fail_where(e->error, "%s", f->name);
    status = check_keys(e, f, text);
    free(text);
    WS_TRY(status);
    (void)snprintf(folder, sizeof folder, "%s%s/.ssh", root ? "/root" : "/home/", root ? "" : f->to);
    (void)snprintf(path, sizeof path, "%s/authorized_keys", folder);
    WS_TRY(put_file(e, path, f->source, 0600, NULL));
    struct ws_node *n = ws_system_find(e->root, folder);
    if (n) n->mode = 0700; /* sshd(8) wants nobody else to write there */
    if (!edit_has(e, "/usr/sbin/sshd"))
        ws_findings_add(e->findings, WS_WARNING, "keys are put there for %s, but this root has no sshd to log in by",
                        f->to);
    return WS_OK;
}

static enum ws_status put_network(const struct edit *e, const struct ws_own_file *f) {
    char path[PATH_ROOM];
    for (size_t i = 0; i < sizeof networks / sizeof networks[0]; i++) {
        if (!ends_with(f->name, networks[i].ending) || !edit_has(e, networks[i].sign)) continue;
        size_t n = strlen(f->name) - (networks[i].ending_stays ? 0 : strlen(networks[i].ending));
        (void)snprintf(path, sizeof path, "%s/%.*s", networks[i].folder, (int)n, f->name);
        return put_file(e, path, f->source, networks[i].mode, NULL);
    }
    ws_fail(e->error, WS_E_UNSUPPORTED, "this root has no program that reads such network settings");
    ws_fail_where(e->error, "%s", f->name);
    return ws_fail_next(e->error, "give them in the form of the program that the root has");
}

static enum ws_status put_script(const struct edit *e, const struct ws_own_file *f, size_t number,
                                 struct ws_text *steps) {
    char path[PATH_ROOM];
    (void)snprintf(path, sizeof path, "/etc/first-start/own-%02zu", number);
    ws_text_printf(steps, "%s || echo \"first start: own-%02zu failed\" >&2\n", path, number);
    return put_file(e, path, f->source, 0755, NULL);
}

enum ws_status own_added(const struct edit *e, const struct ws_settling *s, struct ws_text *steps) {
    for (size_t i = 0; i < s->files; i++) {
        const struct ws_own_file *f = &s->file[i];
        switch (f->what) {
        case WS_ADDED_FILE: WS_TRY(put_file(e, f->to, f->source, f->runs ? 0755 : 0644, NULL)); break;
        case WS_ADDED_FOLDER: WS_TRY(put_folder(e, f)); break;
        case WS_ADDED_KEYS: WS_TRY(put_keys(e, f)); break;
        case WS_ADDED_NETWORK: WS_TRY(put_network(e, f)); break;
        default: WS_TRY(put_script(e, f, i + 1, steps)); break;
        }
    }
    return WS_OK;
}
