/* internal.h — stretches of a volume that are in use, as its file system's own records tell them. */
#ifndef WS_FS_USED_INTERNAL_H
#define WS_FS_USED_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/used.h"

struct used {
    const struct ws_source *volume;
    struct ws_used *out;
    size_t room;   /* for stretches */
    uint64_t step; /* gaps that are smaller are none */
    struct ws_error *error;
};

/* In use: cut to the volume. They may come in any order, and over each other. */
enum ws_status used_add(struct used *used, uint64_t at, uint64_t length);
/* Bytes of the volume, which have to lie in it. */
enum ws_status used_read(const struct used *used, uint64_t at, void *bytes, size_t length);
/* @return WS_E_FORMAT */
enum ws_status used_damaged(const struct used *used, const char *why);
/* @return WS_E_UNSUPPORTED */
enum ws_status used_unsure(const struct used *used, const char *why);

/* One of these file systems: @return WS_E_NOTFOUND if it is another */
enum ws_status used_by_ntfs(struct used *used);
enum ws_status used_by_xfs(struct used *used);
enum ws_status used_by_btrfs(struct used *used);

#endif
