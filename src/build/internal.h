/* internal.h — a build: everything a layout borrows, held together. */
#ifndef WS_BUILD_INTERNAL_H
#define WS_BUILD_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/build.h"
#include "wild_satchel/label.h"

/* Laid down file by file a medium gets other names: by enum ws_named_by its new ones, those of the image, and those
 * that its menus say, which are others where an image was unpacked. */
struct build_names {
    char now[WS_NAMED_WAYS][WS_LABEL_ROOM], was[WS_NAMED_WAYS][WS_LABEL_ROOM], said[WS_NAMED_WAYS][WS_LABEL_ROOM];
};

struct ws_build {
    struct ws_plan *plan;
    struct ws_image image;
    struct ws_source *patched; /* over the image: menus, records, checksum lists */
    struct ws_tree *volume, *data_tree;
    struct ws_source *esp_slice; /* the image's EFI volume */
    struct build_names names;
    struct ws_tree *esp_tree, *files_tree, *start_tree;
    struct ws_loader loader; /* what UEFI firmware would find of the image's own */
    bool have_loader;
    bool no_kernel; /* of the image's own that our start-up code could start */
    struct ws_ext4_geometry geometry;
    struct ws_layout *layout, *image_only;
};

/* A file of the image with new content. */
struct build_change {
    const struct ws_node *file;
    char *bytes; /* owned */
    size_t length;
    bool in_esp; /* a file of the image's EFI volume */
};
void build_free_change(struct build_change *change);
/* edits.c: menus told to remember and checksum lists corrected, noted in the plan; `change` has room for
 * WS_PLAN_EDITS_MOST, and on failure what `*count` says is still to be freed. */
enum ws_status build_collect_changes(struct ws_build *build, struct build_change *change, size_t *count,
                                     struct ws_error *error);
/* The image's EFI volume into build->esp_tree, if it has one. */
void build_open_esp(struct ws_build *build);
/* Those of the changes that are in the EFI volume, laid over it where it stands in `patched`. */
enum ws_status build_edit_esp(const struct build_change *change, size_t count, struct ws_source *patched, uint64_t at,
                              uint64_t length, struct ws_error *error);
/* The same as changes over build->patched; `end` moves past what had to be appended. */
enum ws_status build_edit_menus(struct ws_build *build, uint64_t *end, struct ws_error *error);

/* files.c: an image laid down file by file; the label its volume gets, which is never empty. */
void build_system_label(const struct ws_plan *plan, char label[12]);
/* That label and the volume's identifier, by enum ws_named_by. */
enum ws_status build_system_names(const struct ws_plan *plan, char name[WS_NAMED_WAYS][WS_LABEL_ROOM],
                                  struct ws_error *error);
/* edits.c: the medium's new name put wherever a text says an old one. @return whether it says one */
bool build_rename(const struct build_names *names, enum ws_named_by by, struct ws_text *text);
enum ws_status build_prepare_files(struct ws_build *build, struct ws_error *error);
/* One MiB, or the drive's erase unit where that is larger and sensible. */
uint32_t build_choose_align(const struct ws_plan *plan);
/* @return WS_E_UNSUPPORTED for sectors that no volume is made for here: 512 to 4096 bytes, powers of two, are */
enum ws_status build_check_sector(uint32_t sector, const char *drive, struct ws_error *error);
/* The least a FAT32 volume may have: with the drive's sectors as clusters, or clusters of a page. */
uint64_t build_fat_least(const struct ws_plan *plan, bool pages);
/* volumes.c: partitions placed behind the image and entered in its table, and what stands in them. */
enum ws_status build_place_volumes(struct ws_build *build, struct ws_table *table, struct ws_error *error);
enum ws_status build_compose_volumes(struct ws_build *build, struct ws_error *error);
/* The drive's parts in a row, without gaps: what was placed, and what lies between. */
void build_list_parts(struct ws_plan *plan, const struct ws_table *table);
/* Can an overlay file of the asked size be had at all? */
enum ws_status build_check_overlay(const struct ws_plan *plan, struct ws_error *error);
/* Does the overlay file lie on the system's own volume? */
bool build_overlay_beside(const struct ws_plan *plan);
/* The overlay file entered in a FAT volume's tree, its place reserved; `room` is what the volume has free for it. */
enum ws_status build_reserve_overlay(struct ws_build *build, struct ws_tree *tree, uint64_t room,
                                     struct ws_error *error);
enum { WS_PARAMETERS_ROOM = 4096 };
/* What the menus have to pass so that the system remembers. */
const char *build_parameters(const struct ws_plan *plan, char out[WS_PARAMETERS_ROOM]);
/* What was decided about where changes are kept. */
void build_note_persistence(struct ws_plan *plan);
/* Where the composer placed it, on the drive. */
void build_place_overlay(struct ws_build *build, struct ws_tree *tree, uint64_t volume_at, unsigned number);
enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t need);

#endif
