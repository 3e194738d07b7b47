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

/* What the script goes by. Kernels that are left out stay so until their initial RAM disk is newer than this file. */
static enum ws_status put_settings(const struct edit *e, const char *title, const char *options,
                                   unsigned menu_seconds) {
    const struct ws_system_facts *f = e->facts;
    struct ws_text text = {0};
    ws_text_printf(&text,
                   "# What the menu of this drive says, and what its kernels are told; " SCRIPT " makes the entries.\n"
                   "title %s\noptions %s\nwait %u\n",
                   title, options, menu_seconds);
    for (size_t i = 0; i < f->left_out; i++) ws_text_printf(&text, "without %s\n", f->kernel[f->kernels + i].version);
    enum ws_status status = edit_save(e, "/etc/start-entries.conf", &text, 0644, NULL);
    ws_text_free(&text);
    return status;
}

enum ws_status own_hooks(const struct edit *e, const char *title, const char *options, unsigned menu_seconds) {
    bool any = false;
    for (size_t i = 0; i < sizeof hooks / sizeof hooks[0]; i++) {
        if (!edit_has(e, hooks[i].sign)) continue;
        WS_TRY(edit_write(e, hooks[i].file, hooks[i].mode, "%s", hooks[i].text));
        any = true;
    }
    WS_TRY(put_settings(e, title, options, menu_seconds));
    WS_TRY(edit_write(e, SCRIPT, 0755, "%s", (const char *)own_script_entries));
    if (!any)
        ws_findings_add(e->findings, WS_WARNING,
                        "nothing in this root runs when a kernel comes or goes: run " SCRIPT " after such an update");
    return WS_OK;
}
