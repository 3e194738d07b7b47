/* internal.h — an opened image. */
#ifndef WS_FS_ISO9660_INTERNAL_H
#define WS_FS_ISO9660_INTERNAL_H

#include "base/bytes.h"
#include "base/calendar.h"
#include "wild_satchel/iso9660.h"

struct ws_iso {
    const struct ws_source *source;
    struct ws_iso_facts facts;
    struct ws_tree *primary, *joliet; /* joliet may be NULL */
    struct ws_tree *udf;              /* of a UDF volume that holds more; NULL: there is none, or it holds the same */
    uint64_t descriptor[8];           /* bytes of the primary and supplementary descriptors */
    size_t descriptors;
};

enum ws_status iso_read_tree(struct ws_iso *iso, const uint8_t *root, bool joliet, struct ws_tree **tree, bool *rock,
                             struct ws_error *error);
void iso_parse_primary(const uint8_t *descriptor, struct ws_iso_facts *facts);

#endif
