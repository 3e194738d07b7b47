/* used.h — which parts of a volume are in use, of file systems whose files are not read here but whose allocation is:
 * NTFS, XFS, Btrfs on one device.
 *
 * A copy need not take what holds nothing. A volume is only trusted that says of itself that it was left in order:
 * otherwise what it says of its allocation may be old.
 */
#ifndef WILD_SATCHEL_USED_H
#define WILD_SATCHEL_USED_H

#include "wild_satchel/source.h"

WS_BEGIN

/** Stretches of a volume, in order, in steps of at least 1 MiB but for its end; no two touch. */
struct ws_used {
    struct ws_stretch {
        uint64_t at, length; /**< bytes */
    } * stretch;             /**< owned */
    size_t count;
    uint64_t bytes; /**< in all of them */
};
/**
 * What of a volume is in use.
 * @param used  to be freed with ws_used_free() in any case
 * @return WS_E_NOTFOUND if it is none of these file systems; WS_E_UNSUPPORTED, and why, where its allocation cannot be
 *         relied on: it was not left in order, stands on several devices, or has features not known here; WS_E_FORMAT
 * if it is damaged; WS_E_READ, WS_E_NOMEM
 */
WS_CHECKED enum ws_status ws_used_look(const struct ws_source *volume, struct ws_used *used, struct ws_error *error);
void ws_used_free(struct ws_used *used);

WS_END

#endif
