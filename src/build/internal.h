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
    struct ws_source *esp_slice; /* laid down file by file: what is copied from where */
    struct ws_tree *esp_tree, *files_tree;
    struct ws_ext4_geometry geometry;
    struct ws_layout *layout, *image_only;
};

/* A file of the image with new content. */
struct build_change {
    const struct ws_node *file;
    char *bytes; /* owned */
    size_t length;
};
void build_free_change(struct build_change *change);
/* edits.c: menus told to remember and checksum lists corrected, noted in the plan; `change` has room for
 * WS_PLAN_EDITS_MOST, and on failure what `*count` says is still to be freed. */
enum ws_status build_collect_changes(struct ws_build *build, struct build_change *change, size_t *count,
                                     struct ws_error *error);
/* The same as changes over build->patched; `end` moves past what had to be appended. */
enum ws_status build_edit_menus(struct ws_build *build, uint64_t *end, struct ws_error *error);

/* files.c: an image laid down file by file. */
enum ws_status build_prepare_files(struct ws_build *build, struct ws_error *error);
/* One MiB, or the drive's erase unit where that is larger and sensible. */
uint32_t build_choose_align(const struct ws_plan *plan);
/* volumes.c: partitions placed behind the image and entered in its table, and what stands in them. */
enum ws_status build_place_volumes(struct ws_build *build, struct ws_table *table, struct ws_error *error);
enum ws_status build_compose_volumes(struct ws_build *build, struct ws_error *error);
/* The drive's parts in a row, without gaps: what was placed, and what lies between. */
void build_list_parts(struct ws_plan *plan, const struct ws_table *table);
enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t need);

#endif
