/* whose.c — whose doing a change is, as data: what systems change by themselves, and where programs, settings and
 * people's files are. */
#include "base/pattern.h"
#include "wild_satchel/snapshot.h"

#include <string.h>

static const char *const names[WS_WHOSES] = {"people", "programs", "settings", "other",
                                             "logs",   "caches",   "records",  "temporary"};
static const char *const titles[WS_WHOSES] = {
    "people's files",           "programs",       "settings", "other files", "logs", "caches",
    "the system's own records", "temporary files"};

const char *ws_whose_name(enum ws_whose whose) { return names[whose]; }
const char *ws_whose_title(enum ws_whose whose) { return titles[whose]; }

/* The first row that fits a path, or a folder above it, decides; "*" is any name, or the rest of one. */
static const struct {
    enum ws_whose whose;
    const char *path;
} places[] = {
    {WS_WHOSE_RECORDS, "/data volume */System Volume Information"}, /* as snapshots name ordinary volumes */
    {WS_WHOSE_RECORDS, "/data volume */$RECYCLE.BIN"},
    {WS_WHOSE_RECORDS, "/data volume */.Trash-*"},
    {WS_WHOSE_RECORDS, "/data volume */.Spotlight-*"},
    {WS_WHOSE_RECORDS, "/data volume */.fseventsd"},
    {WS_WHOSE_PEOPLE, "/data volume *"},
    {WS_WHOSE_TEMPORARY, "/tmp"},
    {WS_WHOSE_TEMPORARY, "/var/tmp"},
    {WS_WHOSE_TEMPORARY, "/run"},
    {WS_WHOSE_TEMPORARY, "/var/run"},
    {WS_WHOSE_TEMPORARY, "/var/lock"},
    {WS_WHOSE_TEMPORARY, "/dev"},
    {WS_WHOSE_TEMPORARY, "/proc"},
    {WS_WHOSE_TEMPORARY, "/sys"},
    {WS_WHOSE_TEMPORARY, "/lost+found"},
    {WS_WHOSE_LOGS, "/var/log"},
    {WS_WHOSE_LOGS, "/home/*/.xsession-errors*"},
    {WS_WHOSE_LOGS, "/root/.xsession-errors*"},
    {WS_WHOSE_LOGS, "/home/*/.local/share/xorg"},
    {WS_WHOSE_LOGS, "/var/crash"},
    {WS_WHOSE_CACHES, "/var/cache"},
    {WS_WHOSE_CACHES, "/var/lib/apt/lists"},
    {WS_WHOSE_CACHES, "/var/lib/apt/periodic"},
    {WS_WHOSE_CACHES, "/var/lib/PackageKit"},
    {WS_WHOSE_CACHES, "/home/*/.cache"},
    {WS_WHOSE_CACHES, "/root/.cache"},
    {WS_WHOSE_CACHES, "/home/*/.local/share/gvfs-metadata"},
    {WS_WHOSE_CACHES, "/home/*/.local/share/tracker*"},
    {WS_WHOSE_CACHES, "/usr/share/applications/mimeinfo.cache"},
    {WS_WHOSE_CACHES, "/usr/share/icons/*/icon-theme.cache"},
    {WS_WHOSE_CACHES, "/etc/ld.so.cache"},
    {WS_WHOSE_RECORDS, "/etc/machine-id"},
    {WS_WHOSE_RECORDS, "/etc/adjtime"},
    {WS_WHOSE_RECORDS, "/etc/mtab"},
    {WS_WHOSE_RECORDS, "/etc/resolv.conf*"},
    {WS_WHOSE_RECORDS, "/etc/.pwd.lock"},
    {WS_WHOSE_RECORDS, "/etc/.updated"},
    {WS_WHOSE_RECORDS, "/var/.updated"},
    {WS_WHOSE_RECORDS, "/etc/blkid.tab*"},
    {WS_WHOSE_RECORDS, "/etc/lvm"},
    {WS_WHOSE_RECORDS, "/etc/network/run"},
    {WS_WHOSE_RECORDS, "/etc/udev/rules.d/70-persistent-*"},
    {WS_WHOSE_RECORDS, "/etc/ssh/ssh_host_*"},
    {WS_WHOSE_RECORDS, "/etc/X11/default-display-manager"},
    {WS_WHOSE_RECORDS, "/etc/cups/subscriptions.conf*"},
    {WS_WHOSE_RECORDS, "/var/lib/systemd"},
    {WS_WHOSE_RECORDS, "/var/lib/dbus"},
    {WS_WHOSE_RECORDS, "/var/lib/dhcp*"},
    {WS_WHOSE_RECORDS, "/var/lib/NetworkManager"},
    {WS_WHOSE_RECORDS, "/var/lib/connman"},
    {WS_WHOSE_RECORDS, "/var/lib/misc"},
    {WS_WHOSE_RECORDS, "/var/lib/urandom"},
    {WS_WHOSE_RECORDS, "/var/lib/random-seed"},
    {WS_WHOSE_RECORDS, "/var/lib/seedrng"},
    {WS_WHOSE_RECORDS, "/var/lib/logrotate*"},
    {WS_WHOSE_RECORDS, "/var/lib/alsa"},
    {WS_WHOSE_RECORDS, "/var/lib/bluetooth"},
    {WS_WHOSE_RECORDS, "/var/lib/upower"},
    {WS_WHOSE_RECORDS, "/var/lib/colord"},
    {WS_WHOSE_RECORDS, "/var/lib/ntp*"},
    {WS_WHOSE_RECORDS, "/var/lib/chrony"},
    {WS_WHOSE_RECORDS, "/var/lib/hwclock"},
    {WS_WHOSE_RECORDS, "/var/lib/lightdm*"},
    {WS_WHOSE_RECORDS, "/var/lib/gdm*"},
    {WS_WHOSE_RECORDS, "/var/lib/sddm"},
    {WS_WHOSE_RECORDS, "/var/lib/AccountsService"},
    {WS_WHOSE_RECORDS, "/var/lib/udisks2"},
    {WS_WHOSE_RECORDS, "/var/lib/live"},
    {WS_WHOSE_RECORDS, "/var/lib/satchel"},
    {WS_WHOSE_RECORDS, "/var/spool"},
    {WS_WHOSE_RECORDS, "/var/mail"},
    {WS_WHOSE_RECORDS, "/var/backups"},
    {WS_WHOSE_RECORDS, "/home/*/.Xauthority"},
    {WS_WHOSE_RECORDS, "/home/*/.ICEauthority"},
    {WS_WHOSE_RECORDS, "/home/*/.dbus"},
    {WS_WHOSE_RECORDS, "/home/*/.config/pulse"},
    {WS_WHOSE_RECORDS, "/home/*/.config/dconf"},
    {WS_WHOSE_RECORDS, "/home/*/.local/state"},
    {WS_WHOSE_RECORDS, "/home/*/.local/share/recently-used.xbel"},
    {WS_WHOSE_RECORDS, "/home/*/.*_history"},
    {WS_WHOSE_RECORDS, "/root/.*_history"},
    {WS_WHOSE_RECORDS, "/root/.dbus"},
    {WS_WHOSE_PEOPLE, "/home"},
    {WS_WHOSE_PEOPLE, "/root"},
    {WS_WHOSE_PEOPLE, "/srv"},
    {WS_WHOSE_PEOPLE, "/var/www"},
    {WS_WHOSE_SETTINGS, "/etc"},
    {WS_WHOSE_PROGRAMS, "/usr"},
    {WS_WHOSE_PROGRAMS, "/opt"},
    {WS_WHOSE_PROGRAMS, "/bin"},
    {WS_WHOSE_PROGRAMS, "/sbin"},
    {WS_WHOSE_PROGRAMS, "/lib"},
    {WS_WHOSE_PROGRAMS, "/lib32"},
    {WS_WHOSE_PROGRAMS, "/lib64"},
    {WS_WHOSE_PROGRAMS, "/boot"},
    {WS_WHOSE_PROGRAMS, "/snap"},
    {WS_WHOSE_PROGRAMS, "/var/lib/dpkg"},
    {WS_WHOSE_PROGRAMS, "/var/lib/apt"},
    {WS_WHOSE_PROGRAMS, "/var/lib/rpm"},
    {WS_WHOSE_PROGRAMS, "/var/lib/pacman"},
    {WS_WHOSE_PROGRAMS, "/var/lib/flatpak"},
    {WS_WHOSE_PROGRAMS, "/var/lib/snapd"},
};

enum ws_whose ws_whose_is(const char *path) {
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++)
        if (pattern_fits(places[i].path, path, true)) return places[i].whose;
    return WS_WHOSE_OTHER;
}
