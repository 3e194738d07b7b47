/* internal.h — a build: everything a layout borrows, held together. */
#ifndef WS_BUILD_INTERNAL_H
#define WS_BUILD_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/build.h"

struct ws_build {
    struct ws_plan *plan;
    struct ws_image image;
    struct ws_source *patched; /* over the image: menus, records, checksum lists */
    struct ws_tree *volume, *data_tree;
    struct ws_ext4_geometry geometry;
    struct ws_layout *layout, *image_only;
};

/* edits.c: menus told to remember, as changes over build->patched; `end` moves past what had to be appended. */
enum ws_status build_edit_menus(struct ws_build *build, uint64_t *end, struct ws_error *error);

/* volumes.c: partitions placed behind the image and entered in its table, and what stands in them. */
enum ws_status build_place_volumes(struct ws_build *build, struct ws_table *table, struct ws_error *error);
enum ws_status build_compose_volumes(struct ws_build *build, struct ws_error *error);
/* The drive's parts in a row, without gaps: what was placed, and what lies between. */
void build_list_parts(struct ws_plan *plan, const struct ws_table *table);
enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t need);

#endif
