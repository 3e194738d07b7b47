/* hooks.c — kernels that a running system installs and removes reach the menu: its own hooks run a script of ours. */
#include "system/own.h"

#include <stdio.h>
#include <string.h>

#define SCRIPT "/usr/local/sbin/start-entries"
#define RUN "#!/bin/sh\n[ ! -x " SCRIPT " ] || exec " SCRIPT "\n"

/* Where each kind of system runs what. A row counts where `sign` is in the root. */
static const struct {
    const char *sign, *file;
    uint16_t mode;
    const char *text;
} hooks[] = {
    {"/etc/kernel/postinst.d", "/etc/kernel/postinst.d/zz-start-entries", 0755, RUN},
    {"/etc/kernel/postinst.d", "/etc/kernel/postrm.d/zz-start-entries", 0755, RUN},
    {"/etc/kernel/postinst.d", "/etc/kernel/prerm.d/zz-start-entries", 0755,
     "#!/bin/sh\n[ ! -x " SCRIPT " ] || exec " SCRIPT " without \"$1\"\n"},
    {"/etc/initramfs-tools", "/etc/initramfs/post-update.d/zz-start-entries", 0755, RUN},
    {"/usr/lib/kernel/install.d", "/etc/kernel/install.d/95-start-entries.install", 0755,
     "#!/bin/sh\n[ -x " SCRIPT " ] || exit 0\nif [ \"$1\" = remove ]; then exec " SCRIPT " without \"$2\"; fi\n"
     "exec " SCRIPT "\n"},
    {"/usr/share/libalpm/hooks", "/etc/pacman.d/hooks/zz-start-entries.hook", 0644,
     "[Trigger]\nOperation = Install\nOperation = Upgrade\nOperation = Remove\nType = Path\nTarget = boot/vmlinuz*\n"
     "Target = usr/lib/modules/*/vmlinuz\nTarget = usr/lib/initcpio/*\n\n"
     "[Action]\nDescription = Start entries of this drive\nWhen = PostTransaction\nExec = " SCRIPT "\n"},
    {"/etc/apk", "/etc/apk/commit_hooks.d/start-entries", 0755,
     "#!/bin/sh\n[ \"$1\" != post-commit ] || [ ! -x " SCRIPT " ] || exec " SCRIPT "\n"},
    {"/etc/kernel.d/post-install", "/etc/kernel.d/post-install/99-start-entries", 0755, RUN},
    {"/etc/kernel.d/post-install", "/etc/kernel.d/post-remove/99-start-entries", 0755, RUN},
};

/* Late in a start, when somebody could log in: the kernel that runs is good. */
static const struct own_service up[] = {
    {WS_INIT_SYSTEMD, "/etc", "/etc/systemd/system/start-entries-good.service", 0644,
     "[Unit]\nDescription=The kernel of this start is good\nAfter=systemd-user-sessions.service\n"
     "ConditionPathExistsGlob=/boot/loader/entries/*+*.conf\n"
     "[Service]\nType=oneshot\nExecStart=" SCRIPT " good\n[Install]\nWantedBy=multi-user.target\n",
     "/etc/systemd/system/multi-user.target.wants/start-entries-good.service", "../start-entries-good.service"},
    {WS_INIT_OPENRC, "/etc/runlevels/default", "/etc/init.d/start-entries-good", 0755,
     "#!/sbin/openrc-run\ndescription=\"The kernel of this start is good\"\ndepend() {\n\tafter *\n}\n"
     "start() {\n\t" SCRIPT " good\n}\n",
     "/etc/runlevels/default/start-entries-good", "/etc/init.d/start-entries-good"},
};

static enum ws_status put_up(const struct edit *e, bool *put) {
    static const char *const lines[] = {"se:2345:once:" SCRIPT " good", "::once:" SCRIPT " good"};
    *put = e->facts->init == WS_INIT_RUNIT && edit_has(e, "/etc/rc.local");
    if (*put) return edit_put_line(e, "/etc/rc.local", "", SCRIPT, SCRIPT " good");
    return own_put_start(e, up, sizeof up / sizeof up[0], lines, put);
}

/* What the script goes by. Kernels that are left out stay so until their initial RAM disk is newer than this file. */
static enum ws_status put_settings(const struct edit *e, const char *title, const char *options,
                                   const struct ws_settling *s, bool counts) {
    const struct ws_system_facts *f = e->facts;
    struct ws_text text = {0};
    ws_text_printf(&text,
                   "# What the menu of this drive says, and what its kernels are told; " SCRIPT " makes the entries.\n"
                   "title %s\noptions %s\nwait %u\n",
                   title, options, s->menu_seconds);
    if (s->boot_uuid[0]) ws_text_puts(&text, "boot apart\n");
    if (s->host_id[0]) ws_text_puts(&text, "root inside\n");
    if (counts) ws_text_puts(&text, "tries 3\n");
    for (size_t i = 0; i < f->left_out; i++) ws_text_printf(&text, "without %s\n", f->kernel[f->kernels + i].version);
    enum ws_status status = edit_save(e, "/etc/start-entries.conf", &text, 0644, NULL);
    ws_text_free(&text);
    return status;
}

enum ws_status own_hooks(const struct edit *e, const char *title, const char *options, const struct ws_settling *s) {
    bool any = false;
    for (size_t i = 0; i < sizeof hooks / sizeof hooks[0]; i++) {
        if (!edit_has(e, hooks[i].sign)) continue;
        WS_TRY(edit_write(e, hooks[i].file, hooks[i].mode, "%s", hooks[i].text));
        any = true;
    }
    bool counts = false;
    WS_TRY(put_up(e, &counts));
    WS_TRY(put_settings(e, title, options, s, counts));
    WS_TRY(edit_write(e, SCRIPT, 0755, "%s", (const char *)own_script_entries));
    if (!any)
        ws_findings_add(e->findings, WS_WARNING,
                        "nothing in this root runs when a kernel comes or goes: run " SCRIPT " after such an update");
    return WS_OK;
}
