/* settle.c — a root made at home on its drive, by edits of its tree alone. */
#include "system/own.h"
#include "wild_satchel/journal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define HOST "/media/drive" /* where the volume is mounted that a root is a file of */

/* fstab(5): few writes to flash (noatime), and a volume that is not there does not hold up a start (nofail). The one
 * that the root came with spoke of another drive; it stays beside it to be read. */
static enum ws_status put_fstab(const struct edit *e, const struct ws_settling *s) {
    struct ws_text text = {0};
    struct ws_node *folder = NULL;
    struct ws_node *old = ws_system_find(e->root, "/etc/fstab");
    if (old && old->kind == WS_NODE_FILE && ws_node_size(old) > 0 && !edit_has(e, "/etc/fstab.before"))
        WS_TRY(ws_tree_rename(e->root, old, "fstab.before", e->error));
    ws_text_printf(&text, "# What is mounted where: this drive's own volumes, by their identifiers.\n");
    bool few = s->owner->writes == WS_WRITES_FEW;
    ws_text_printf(&text, "UUID=%s / ext4 noatime,%serrors=remount-ro 0 1\n", s->root_uuid, few ? "commit=60," : "");
    if (s->boot_uuid[0]) ws_text_printf(&text, "UUID=%s /boot ext4 noatime 0 2\n", s->boot_uuid);
    if (s->start_id[0]) ws_text_printf(&text, "UUID=%s /boot/efi vfat noatime,umask=0077,nofail 0 2\n", s->start_id);
    if (s->host_id[0]) /* people's files beside the system; over its own file stands a text */
        ws_text_printf(&text,
                       "UUID=%s " HOST " %s noatime,umask=0,nofail 0 0\n"
                       "/boot/loader/system-in-use " HOST "/" WS_INSIDE_FILE " none bind,nofail 0 0\n",
                       s->host_id, s->host_type);
    if (s->swap_uuid[0]) ws_text_printf(&text, "UUID=%s none swap sw,nofail 0 0\n", s->swap_uuid);
    if (few) ws_text_puts(&text, "tmpfs /tmp tmpfs nosuid,nodev,mode=1777,size=25% 0 0\n");
    enum ws_status status = edit_save(e, "/etc/fstab", &text, 0644, NULL);
    ws_text_free(&text);
    WS_TRY(status);
    if (s->host_id[0]) WS_TRY(edit_folder(e, HOST, &folder));
    return s->start_id[0] ? edit_folder(e, "/boot/efi", &folder) : WS_OK;
}

/* crypttab(5): which locked volumes there are; the root's is open already when this is read. */
static enum ws_status put_crypttab(const struct edit *e, const struct ws_settling *s, char parameters[WS_UNLOCK_ROOM]) {
    char line[WS_UNLOCK_ROOM];
    parameters[0] = '\0';
    if (!s->lock_uuid[0]) return WS_OK;
    ws_unlock_words(&e->facts->kernel[0], s->lock_uuid, parameters, line);
    return edit_write(e, "/etc/crypttab", 0600, "# NAME SOURCE KEY OPTIONS: locked volumes of this drive\n%s\n", line);
}

/* A slow stick must not be owed much: whoever saves then waits for all of it at once. Journals stay small. */
static enum ws_status spare_the_flash(const struct edit *e) {
    if (edit_has(e, "/etc/sysctl.d"))
        WS_TRY(edit_write(e, "/etc/sysctl.d/60-removable-drive.conf", 0644,
                          "vm.swappiness=10\nvm.dirty_background_bytes=16777216\nvm.dirty_bytes=67108864\n"));
    if (e->facts->init != WS_INIT_SYSTEMD) return WS_OK;
    if (edit_has(e, "/lib/systemd/system/fstrim.timer")) /* what was deleted is told to the drive, once a week */
        WS_TRY(
            edit_link(e, "/etc/systemd/system/timers.target.wants/fstrim.timer", "/lib/systemd/system/fstrim.timer"));
    return edit_write(e, "/etc/systemd/journald.conf.d/60-removable-drive.conf", 0644,
                      "[Journal]\nSystemMaxUse=64M\nRuntimeMaxUse=32M\n");
}

static enum ws_status make_own(const struct edit *e, const struct ws_settling *s, struct ws_owned *owned) {
    const struct ws_owner *o = s->owner;
    struct ws_text steps = {0};
    enum ws_status status = own_leftovers(e, o);
    if (status == WS_OK) status = own_identity(e, &steps);
    if (status == WS_OK) status = own_settings(e, o, &steps);
    if (status == WS_OK) status = own_accounts(e, o, owned);
    if (status == WS_OK && o->login == WS_LOGIN_AUTOMATIC) status = own_login(e, o->account[0].name);
    if (status == WS_OK) status = own_disks(e, o->internal_disks, s->table_id, owned);
    if (status == WS_OK && s->grows) status = own_growth(e, s->grew);
    if (status == WS_OK && s->journal) status = ws_journal_lay(e->root, e->made_at, e->error);
    if (status == WS_OK) status = own_added(e, s, &steps);
    if (status == WS_OK) status = own_first_start(e, &steps);
    ws_text_free(&steps);
    return status;
}

/* systemd and sysv mount the root for writing themselves, once it is checked; others are not known to. */
static const char *root_mode(const struct ws_system_facts *f) {
    return f->init == WS_INIT_SYSTEMD || f->init == WS_INIT_SYSV || f->init == WS_INIT_OPENRC ? "ro" : "rw";
}

/* What the menu calls a kernel: the same as entries.sh has it. */
static void title_of(const struct ws_system_facts *f, size_t number, const char *name, char *out, size_t room) {
    if (number == f->kernels) (void)snprintf(out, room, "%s (rescue: one user, no services)", name);
    else if (number == 0) (void)snprintf(out, room, "%s", name);
    else (void)snprintf(out, room, "%s (kernel %.38s)", name, f->kernel[number].version);
}

static enum ws_status put_entries(const struct edit *e, const struct ws_settling *s) {
    const struct ws_system_facts *f = e->facts;
    const size_t cut = s->boot_uuid[0] ? strlen("/boot") : 0; /* paths are those of the volume that starts */
    char name[110];                                           /* room is left for what follows it */
    char options[700], unlock[WS_UNLOCK_ROOM];
    ws_visible(f->name, name, sizeof name);
    WS_TRY(put_crypttab(e, s, unlock));
    if (s->host_id[0]) WS_TRY(own_inside(e));
    (void)snprintf(options, sizeof options, "root=UUID=%s %s%s%s%s%s%s", s->root_uuid, root_mode(f),
                   s->host_id[0] ? " rdinit=" WS_INSIDE_PROGRAM : "", unlock[0] ? " " : "", unlock,
                   s->options[0] ? " " : "", s->options);
    struct ws_start_entries all = {.entry = calloc(f->kernels + 1, sizeof *all.entry)};
    if (!all.entry) return ws_fail(e->error, WS_E_NOMEM, "out of memory for start entries");
    for (size_t i = 0; i <= f->kernels; i++) { /* and a rescue entry, with the newest */
        const struct ws_kernel *k = &f->kernel[i < f->kernels ? i : 0];
        struct ws_start_entry *n = &all.entry[all.count++];
        title_of(f, i, name, n->title, sizeof n->title);
        (void)snprintf(n->linux_path, sizeof n->linux_path, "%s", k->path + cut);
        if (k->initrd[0]) (void)snprintf(n->initrd[n->initrds++], sizeof n->initrd[0], "%s", k->initrd + cut);
        if (s->host_id[0]) (void)ws_inside_initrd(k->version, n->initrd[n->initrds++]);
        (void)snprintf(n->options, sizeof n->options, "%s%s", options, i == f->kernels ? " single" : "");
    }
    enum ws_status status =
        ws_start_entries_put(e->root, "/boot", &all, WS_CHECK_OFF, NULL, s->menu_seconds, s->made_at, e->error);
    struct ws_text menu = {0};
    if (status == WS_OK && s->chain) status = ws_chain_menu(&all, s->menu_seconds, &menu, e->error);
    if (status == WS_OK && s->chain) status = edit_save(e, WS_CHAIN_MENU, &menu, 0644, NULL);
    ws_text_free(&menu);
    ws_start_entries_free(&all);
    return status == WS_OK ? own_hooks(e, name, options, s) : status;
}

static enum ws_status check_kernel(const struct ws_system_facts *f, struct ws_error *error) {
    if (f->kernels) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "this root has no kernel: there is none in its folder /boot");
    return ws_fail_next(error, "install one into it, or take the live image that starts it");
}

enum ws_status ws_system_settle(struct ws_tree *root, const struct ws_system_facts *f, const struct ws_settling *s,
                                struct ws_owned *owned, struct ws_findings *findings, struct ws_error *error) {
    const struct edit e = {root, f, s->made_at, findings, error};
    memset(owned, 0, sizeof *owned);
    WS_TRY(check_kernel(f, error));
    WS_TRY(put_fstab(&e, s));
    WS_TRY(spare_the_flash(&e));
    WS_TRY(make_own(&e, s, owned));
    return put_entries(&e, s);
}

enum ws_status ws_system_make_entries(struct ws_tree *root, const struct ws_system_facts *f,
                                      const struct ws_settling *s, struct ws_findings *findings,
                                      struct ws_error *error) {
    const struct edit e = {root, f, s->made_at, findings, error};
    WS_TRY(check_kernel(f, error));
    return put_entries(&e, s);
}

enum ws_status ws_system_new_host(struct ws_tree *root, const struct ws_system_facts *f, int64_t made_at,
                                  struct ws_findings *findings, struct ws_error *error) {
    const struct edit e = {root, f, made_at, findings, error};
    struct ws_text steps = {0};
    enum ws_status status = own_identity(&e, &steps);
    if (status == WS_OK) status = own_first_start(&e, &steps);
    ws_text_free(&steps);
    return status;
}

/* A kernel says its version: at the byte that 0x20e points to, past the first sector (boot.rst, "kernel_version"). */
static void version_of(const struct ws_node *kernel, char version[96]) {
    uint8_t at[2];
    char text[96] = "";
    (void)snprintf(version, 96, "live");
    if (!kernel->content || ws_source_read(kernel->content, 0x20e, at, 2, NULL) != WS_OK) return;
    uint64_t place = 0x200u + (uint64_t)(at[0] | at[1] << 8);
    if (place == 0x200 || place + sizeof text > kernel->content->size ||
        ws_source_read(kernel->content, place, text, sizeof text - 1, NULL) != WS_OK)
        return;
    text[strspn(text, "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-_+~")] = '\0';
    if (text[0] >= '0' && text[0] <= '9') (void)snprintf(version, 96, "%s", text);
}

static enum ws_status copy_file(struct ws_tree *root, const char *path, const struct ws_node *from,
                                struct ws_error *error) {
    struct ws_node *n = NULL;
    WS_TRY(ws_tree_put(root, path, "", 0, &n, error));
    n->content = from->content;
    n->mtime = from->mtime;
    return WS_OK;
}

enum ws_status ws_system_adopt_kernel(struct ws_tree *root, const struct ws_tree *medium, struct ws_error *error) {
    struct ws_start_entries entries;
    char version[96], path[256];
    WS_TRY(ws_start_entries_of(medium, NULL, NULL, &entries, NULL, error));
    const struct ws_start_entry *e = &entries.entry[0];
    const struct ws_node *kernel = ws_tree_find_any_case(medium, e->linux_path);
    const struct ws_node *initrd = e->initrds == 1 ? ws_tree_find_any_case(medium, e->initrd[0]) : NULL;
    enum ws_status status = WS_OK;
    if (!kernel) WS_GO(ws_fail(error, WS_E_NOTFOUND, "the kernel %s is not on the medium", e->linux_path));
    version_of(kernel, version);
    (void)snprintf(path, sizeof path, "boot/vmlinuz-%s", version);
    WS_GO(copy_file(root, path, kernel, error));
    (void)snprintf(path, sizeof path, "boot/initrd.img-%s", version);
    if (initrd) WS_GO(copy_file(root, path, initrd, error));
done:
    ws_start_entries_free(&entries);
    return status;
}
