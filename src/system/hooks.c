/* hooks.c — kernels that a running system installs and removes reach the menu: its own hooks run a script of ours. */
#include "system/own.h"

#include <stdio.h>
#include <string.h>

#define SCRIPT "/usr/local/sbin/start-entries"

/* Where each kind of system runs what. A row counts where `sign` is in the root. */
static const struct {
    const char *sign, *file;
    uint16_t mode;
    const char *text;
} hooks[] = {
    {"/etc/kernel/postinst.d", "/etc/kernel/postinst.d/zz-start-entries", 0755, "#!/bin/sh\nexec " SCRIPT "\n"},
    {"/etc/kernel/postinst.d", "/etc/kernel/postrm.d/zz-start-entries", 0755, "#!/bin/sh\nexec " SCRIPT "\n"},
    {"/etc/kernel/postinst.d", "/etc/kernel/prerm.d/zz-start-entries", 0755,
     "#!/bin/sh\nexec " SCRIPT " without \"$1\"\n"},
    {"/etc/initramfs-tools", "/etc/initramfs/post-update.d/zz-start-entries", 0755, "#!/bin/sh\nexec " SCRIPT "\n"},
    {"/usr/lib/kernel/install.d", "/etc/kernel/install.d/95-start-entries.install", 0755,
     "#!/bin/sh\nif [ \"$1\" = remove ]; then exec " SCRIPT " without \"$2\"; fi\nexec " SCRIPT "\n"},
    {"/usr/share/libalpm/hooks", "/etc/pacman.d/hooks/zz-start-entries.hook", 0644,
     "[Trigger]\nOperation = Install\nOperation = Upgrade\nOperation = Remove\nType = Path\nTarget = boot/vmlinuz*\n"
     "Target = usr/lib/modules/*/vmlinuz\nTarget = usr/lib/initcpio/*\n\n"
     "[Action]\nDescription = Start entries of this drive\nWhen = PostTransaction\nExec = " SCRIPT "\n"},
    {"/etc/apk", "/etc/apk/commit_hooks.d/start-entries", 0755,
     "#!/bin/sh\n[ \"$1\" != post-commit ] || exec " SCRIPT "\n"},
    {"/etc/kernel.d/post-install", "/etc/kernel.d/post-install/99-start-entries", 0755, "#!/bin/sh\nexec " SCRIPT "\n"},
    {"/etc/kernel.d/post-install", "/etc/kernel.d/post-remove/99-start-entries", 0755, "#!/bin/sh\nexec " SCRIPT "\n"},
};

enum ws_status own_hooks(const struct edit *e, const char *title, const char *options, unsigned menu_seconds) {
    bool any = false;
    for (size_t i = 0; i < sizeof hooks / sizeof hooks[0]; i++) {
        if (!edit_has(e, hooks[i].sign)) continue;
        WS_TRY(edit_write(e, hooks[i].file, hooks[i].mode, "%s", hooks[i].text));
        any = true;
    }
    WS_TRY(edit_write(e, "/etc/start-entries.conf", 0644,
                      "# What the menu of this drive says, and what its kernels are told; " SCRIPT
                      " makes the entries.\n"
                      "title %s\noptions %s\nwait %u\n",
                      title, options, menu_seconds));
    WS_TRY(edit_write(e, SCRIPT, 0755, "%s", (const char *)own_script_entries));
    if (!any)
        ws_findings_add(e->findings, WS_WARNING,
                        "nothing in this root runs when a kernel comes or goes: run " SCRIPT " after such an update");
    return WS_OK;
}
