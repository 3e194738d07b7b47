/* again.h — a volume read as it will be, before anything of it is written: a mistake of ours there would be somebody's
 * file. */
#ifndef WS_FS_AGAIN_H
#define WS_FS_AGAIN_H

#include "wild_satchel/format.h"
#include "wild_satchel/layout.h"
#include "wild_satchel/tree.h"

struct fs_again {
    const struct ws_format *format;
    const struct ws_layout *layout; /* what would be written, frozen or not */
    uint64_t at, size;              /* bytes of the layout at which the volume will be */
    const struct ws_source *base;   /* what stands there else, from this byte of it on */
    uint64_t base_at;
    const struct ws_tree *wanted; /* what it is to hold, and how that is compared */
    struct ws_holding how;
    const uint64_t *free_bytes; /* as many are to be free then; NULL: that is not asked */
};

/* @return WS_E_DIFFERENT, with what to do, for a volume that would not hold it, or could not be read */
enum ws_status fs_look_again(const struct fs_again *again, struct ws_error *error);

#endif
