/* vmdk.h — the parts of a VMDK. */
#ifndef WS_CONTAINER_VMDK_H
#define WS_CONTAINER_VMDK_H

#include "container/internal.h"

enum { VMDK_NAME = 512 };

/* A sparse extent: grains, found by a directory of tables. */
struct vmdk_sparse {
    const struct ws_source *file;
    uint64_t size;       /* bytes of the drive that it covers */
    uint64_t grain;      /* bytes */
    uint32_t *directory; /* sectors of tables; owned */
    uint64_t tables, per_table;
    bool packed, base, zeros; /* grains are packed; those not there are the base's; an entry of 1 is zeros */
};
/* vmdk_sparse.c: @return WS_E_NOTFOUND if it is none */
enum ws_status vmdk_sparse_open(const struct container *c, const struct ws_source *file, struct vmdk_sparse *sparse,
                                char **descriptor, struct ws_error *error);
enum ws_status vmdk_sparse_map(const struct container *c, const struct vmdk_sparse *sparse, uint64_t at,
                               struct mapped *m, struct ws_error *error);

/* One extent of the drive. */
struct vmdk_extent {
    uint64_t at, size;            /* bytes of the drive */
    struct vmdk_sparse sparse;    /* with a directory; else */
    const struct ws_source *flat; /* plain bytes, from `flat_at` on; NULL: zeros */
    uint64_t flat_at;
};
/* vmdk_text.c: a value of the descriptor. @return false if it has none */
bool vmdk_value(const char *text, const char *key, char *out, size_t room);
/* The next line that describes an extent: "RW 8192 SPARSE "name" 0". @return false after the last */
struct vmdk_line {
    uint64_t sectors, offset;
    char kind[16], name[VMDK_NAME];
};
bool vmdk_next_extent(const char **text, struct vmdk_line *line);

#endif
