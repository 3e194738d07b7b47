/* disks.c — the disks of the PC that a drive stands in: kept out of the way by device rules, udev(7). */
#include "system/own.h"

#include <string.h>

/* Which devices are meant: disks that hang on nothing that is plugged in from outside, this drive itself never. Behind
 * the rules that say what is on a disk (60), before those that put arrays and volume groups together (64, 69). */
static const char head[] = "# Disks inside the PC, %s: written when this drive was made.\n"
                           "ACTION==\"remove\", GOTO=\"internal_end\"\n"
                           "SUBSYSTEM!=\"block\", GOTO=\"internal_end\"\n"
                           "KERNEL!=\"sd*|hd*|vd*|xvd*|nvme*|mmcblk*\", GOTO=\"internal_end\"\n"
                           "SUBSYSTEMS==\"usb|firewire|thunderbolt\", GOTO=\"internal_end\"\n"
                           "ATTRS{removable}==\"1\", GOTO=\"internal_end\"\n"
                           "ENV{ID_PART_TABLE_UUID}==\"%s\", GOTO=\"internal_end\"\n";
static const char hidden[] = "ENV{UDISKS_IGNORE}=\"1\", ENV{UDISKS_AUTO}=\"0\"\n"
                             "ENV{ID_FS_USAGE}=\"\", ENV{ID_FS_TYPE}=\"\", ENV{SYSTEMD_READY}=\"0\"\n";
static const char listed[] = "ENV{UDISKS_SYSTEM}=\"1\", ENV{UDISKS_AUTO}=\"0\"\n";
static const char tail[] = "LABEL=\"internal_end\"\n";

enum ws_status own_disks(const struct edit *e, enum ws_internal_disks wanted, const char *table_id,
                         struct ws_owned *owned) {
    static const char *const signs[] = {"/lib/systemd/systemd-udevd",
                                        "/usr/lib/systemd/systemd-udevd",
                                        "/sbin/udevd",
                                        "/lib/udev/udevd",
                                        "/usr/bin/udevadm",
                                        "/bin/udevadm",
                                        "/sbin/udevadm"};
    static const char *const setters[] = {"/sbin/blockdev", "/usr/sbin/blockdev", "/bin/blockdev", "/usr/bin/blockdev"};
    const char *setter = NULL;
    bool rules = false;
    struct ws_text text = {0};
    for (size_t i = 0; i < sizeof signs / sizeof signs[0]; i++) rules |= edit_has(e, signs[i]);
    for (size_t i = 0; i < sizeof setters / sizeof setters[0] && !setter; i++)
        if (edit_has(e, setters[i])) setter = setters[i];
    if (wanted == WS_INTERNAL_USUAL) wanted = rules && setter ? WS_INTERNAL_HIDDEN : WS_INTERNAL_OPEN;
    owned->internal_disks = wanted;
    if (wanted == WS_INTERNAL_OPEN) return WS_OK;
    if (!rules || (wanted == WS_INTERNAL_HIDDEN && !setter)) {
        ws_fail(e->error, WS_E_UNSUPPORTED, "this root cannot keep the PC's disks %s: it has no %s",
                ws_internal_disks_name(wanted), rules ? "program that makes them read-only" : "device rules");
        return ws_fail_hint(e->error, WS_HINT_INTERNAL_DISKS, "open", "leave them open, or install what is missing");
    }
    ws_text_printf(&text, head, ws_internal_disks_name(wanted), table_id);
    ws_text_puts(&text, wanted == WS_INTERNAL_HIDDEN ? hidden : listed);
    if (wanted == WS_INTERNAL_HIDDEN) ws_text_printf(&text, "RUN+=\"%s --setro $devnode\"\n", setter);
    ws_text_puts(&text, tail);
    enum ws_status status = edit_save(e, "/etc/udev/rules.d/61-internal-disks.rules", &text, 0644, NULL);
    ws_text_free(&text);
    return status;
}
