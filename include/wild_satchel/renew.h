/* renew.h — a newer system in the place of one that is in use: what of the old one stays its owner's.
 *
 * Nothing of either root's code is run: accounts, settings and added packages are read from their files.
 */
#ifndef WILD_SATCHEL_RENEW_H
#define WILD_SATCHEL_RENEW_H

#include "wild_satchel/system.h"

WS_BEGIN

/** What becomes of something that the old system holds. */
enum ws_fate {
    WS_FATE_KEPT,     /**< carried over */
    WS_FATE_REPLACED, /**< the new system's takes its place */
    WS_FATE_LOST,     /**< neither: nobody's package, and in no place that is carried over */
    WS_FATES
};
const char *ws_fate_name(enum ws_fate fate); /**< "kept", "replaced", "lost" */

enum { WS_CARRIED_MOST = 64, WS_CARRIED_WHAT = 160, WS_KEEPS_MOST = 16, WS_KEEP_ROOM = 256 };
/** One row of what is told beforehand. */
struct ws_carried {
    enum ws_fate fate;
    char path[WS_KEEP_ROOM];    /**< of the old root, made visible; empty: it is no one place */
    char what[WS_CARRIED_WHAT]; /**< in words */
    uint64_t files, bytes;      /**< that it stands for; links and devices count as files */
};
struct ws_carried_list {
    struct ws_carried row[WS_CARRIED_MOST]; /**< in the order of enum ws_fate */
    size_t rows;
};

/** A place that is carried over because its owner asks for it. */
struct ws_keep_place {
    char path[WS_KEEP_ROOM]; /**< absolute, without "." and ".." */
};
/** @return WS_E_USAGE for a path that is none, or the system's own as a whole (/boot, /usr, /etc) */
WS_CHECKED enum ws_status ws_keep_place_check(const struct ws_keep_place *place, struct ws_error *error);

/** How a system in use was told to start, for the one that takes its place. Empty and 0 where it does not say. */
struct ws_start_settings {
    char options[700]; /**< what its kernels are told, beside what the drive's arrangement needs */
    unsigned wait;     /**< seconds of its menu */
    bool found;        /**< it is one made here */
    bool boot_apart;
    char boot_uuid[40];    /**< of the volume that it mounts at /boot, where that is apart */
    char start_serial[16]; /**< of the FAT volume that it mounts at /boot/efi, "XXXX-XXXX" */
};
void ws_start_settings_look(const struct ws_tree *root, struct ws_start_settings *settings);
/** What it does with the PC's own disks. */
enum ws_internal_disks ws_internal_disks_of(const struct ws_tree *root);

/**
 * Carry over what is its owner's into a root that is at home on its drive already (ws_system_settle()): homes, places
 * asked for, people's accounts and groups, host identity, settings, networks, its list of added packages. Content is
 * borrowed from `was`, whose scratch is used, as the root's is. A file of the new root that is the same as the old
 * one's is the old one's afterwards: a composer that knows where that stands need not write it.
 * @param was  the old root; outlives `root`
 * @return WS_E_FORMAT for lists of accounts that cannot be read; WS_E_READ
 */
WS_CHECKED enum ws_status ws_system_carry(struct ws_tree *root, const struct ws_system_facts *facts,
                                          struct ws_tree *was, const struct ws_system_facts *was_facts,
                                          const struct ws_keep_place *keep, size_t keeps, int64_t made_at,
                                          struct ws_carried_list *list, struct ws_findings *findings,
                                          struct ws_error *error);

WS_END

#endif
