/* owner.h — whose a full system is: its host name and accounts, its language, clock and keys, and what it does with the
 * disks of the PC it stands in.
 *
 * All of it is edits of files in the root, made before the first start; nothing of the root's code is run. Passwords
 * are no part of it: they are given when the drive is built (ws_build_password()), and no document holds them.
 */
#ifndef WILD_SATCHEL_OWNER_H
#define WILD_SATCHEL_OWNER_H

#include "wild_satchel/status.h"

WS_BEGIN

enum { WS_ACCOUNTS_MOST = 8, WS_ACCOUNT_ROOM = 33, WS_HOST_ROOM = 65 };

struct ws_account {
    char name[WS_ACCOUNT_ROOM]; /**< a lower-case letter or "_", then those, digits and "-": what useradd(8) takes */
    char full_name[96];         /**< UTF-8, without ":" and ","; may be empty */
    bool administers;           /**< may do what the administrator may, with its own password */
};

/** What stands on the screen after a start. */
enum ws_login {
    WS_LOGIN_ASKED,     /**< name and password */
    WS_LOGIN_AUTOMATIC, /**< the first account is logged in */
    WS_LOGINS
};
const char *ws_login_name(enum ws_login login); /**< "asked", "automatic" */

/** What a PC's hardware clock shows. */
enum ws_clock {
    WS_CLOCK_KEPT,  /**< as the root has it */
    WS_CLOCK_UTC,   /**< as most systems set it */
    WS_CLOCK_LOCAL, /**< the time on the wall, as on PCs that also start another system */
    WS_CLOCKS
};
const char *ws_clock_name(enum ws_clock clock); /**< "kept", "utc", "local" */

/** The disks inside the PC that the drive is plugged into. */
enum ws_internal_disks {
    WS_INTERNAL_USUAL,  /**< hidden where the root has device rules, else open */
    WS_INTERNAL_HIDDEN, /**< not mounted, not listed, and read-only: nothing is left behind */
    WS_INTERNAL_LISTED, /**< listed; mounted only by who may administer */
    WS_INTERNAL_OPEN,   /**< as the root has it: for repair work */
    WS_INTERNALS
};
const char *ws_internal_disks_name(enum ws_internal_disks disks); /**< "usual", "hidden", "listed", "open" */

/** How often a full system writes. */
enum ws_writes {
    WS_WRITES_USUAL, /**< no access times, small journals, little that waits to be written */
    WS_WRITES_FEW,   /**< also: what is changed reaches the drive once a minute, and /tmp is in memory: a power cut
                        takes the last minute with it */
    WS_WRITES
};
const char *ws_writes_name(enum ws_writes writes); /**< "usual", "few" */

struct ws_owner {
    char host_name[WS_HOST_ROOM]; /**< RFC 1123 section 2.1: letters, digits and "-"; empty: as the root has it */
    struct ws_account account[WS_ACCOUNTS_MOST];
    size_t accounts;
    enum ws_login login;
    char locale[48];    /**< "de_DE.UTF-8"; empty: as the root has it */
    char keyboard[48];  /**< a layout as X keyboards are named, with a variant behind "/": "de/nodeadkeys" */
    char time_zone[64]; /**< as the time zone database names them: "Atlantic/Faroe" */
    enum ws_clock clock;
    enum ws_internal_disks internal_disks;
    enum ws_writes writes;
    bool reports; /**< leave the services on that send reports about the system and its use */
};
/** A file or folder of the user's own, put into a full system. */
enum ws_added {
    WS_ADDED_FILE,        /**< at `to` */
    WS_ADDED_FOLDER,      /**< its files laid into the folder `to`: of a folder, archive or ext4 volume */
    WS_ADDED_KEYS,        /**< public keys (authorized_keys, sshd(8)) by which the account `to` may log in from afar */
    WS_ADDED_NETWORK,     /**< a network's settings, where the root keeps such; which, its name's ending tells */
    WS_ADDED_FIRST_START, /**< a script, run once by the first start, as root */
    WS_ADDEDS
};
const char *ws_added_name(enum ws_added what); /**< "file", "folder", "keys", "network", "first-start" */
enum { WS_ADDED_TO = 256 };

/** Is anything asked for? */
bool ws_owner_any(const struct ws_owner *owner);
/** Are these names and words that systems accept? @return WS_E_USAGE with the first that is not, and what would be */
WS_CHECKED enum ws_status ws_owner_check(const struct ws_owner *owner, struct ws_error *error);

WS_END

#endif
