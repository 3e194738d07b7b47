/* internal.h — a build: everything a layout borrows, held together. */
#ifndef WS_ASSEMBLE_INTERNAL_H
#define WS_ASSEMBLE_INTERNAL_H

#include "base/bytes.h"
#include "plan/internal.h"
#include "wild_satchel/build.h"
#include "wild_satchel/change.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/format.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/system.h"

enum { MIB = 1 << 20, PAGE = 4096, WS_PARAMETERS_ROOM = 4096 };

/* Laid down file by file a medium gets other names: by enum ws_named_by its new ones, those of the image, and those
 * that its menus say, which are others where an image was unpacked. */
struct build_names {
    char now[WS_NAMED_WAYS][WS_LABEL_ROOM], was[WS_NAMED_WAYS][WS_LABEL_ROOM], said[WS_NAMED_WAYS][WS_LABEL_ROOM];
};

struct build_twin; /* twin.h */
struct ws_build {
    struct ws_plan *plan;
    const struct ws_source *overlay; /* a ready-made volume for the overlay file; NULL: a fresh one */
    const struct ws_source *added[WS_ADDED_MOST];
    bool remembers, in_file; /* where changes go, as settled */
    enum ws_role holder;     /* in_file: the volume that holds the overlay file */
    uint64_t inside_least;   /* of a system in one file: bytes that its volume takes at least */
    bool measure;
    struct ws_image image;
    struct ws_table *table;         /* the drive's */
    struct ws_source *patched;      /* over the image: menus, records, checksum lists */
    struct ws_tree *tree[WS_ROLES]; /* what fills each volume; composers borrow it */
    struct ws_source *esp_slice;    /* the image's EFI volume */
    struct ws_tree *esp_tree;
    struct build_names names;
    struct ws_tree *medium; /* of a live stick's own volume, which is no disc image */
    struct ws_root root;    /* of a full system: what its tree borrows */
    struct ws_chain chain;  /* its own loaders */
    bool have_chain;        /* and they start it */
    bool kernel_signed;
    struct ws_layout *open_layout; /* of the volume inside a lock, its bytes, and the lock */
    struct ws_source *open;
    struct ws_lock *lock;
    bool have_passphrase;         /* that opens it */
    struct ws_owned owned;        /* what became of its owner's wishes */
    bool given[WS_ACCOUNTS_MOST]; /* passwords that are there */
    struct ws_loader loader;      /* what UEFI firmware would find of the image's own */
    bool have_loader;
    bool no_kernel; /* of the image's own that our start-up code could start */
    /* of a full system, as asked for, or as the system that is there has it */
    struct ws_owner owner;
    char kernel_options[700];
    unsigned menu_seconds;
    bool grows; /* a full system takes the room of a larger drive */
    /* of a renewal: the drive as it is, and what that borrows */
    const struct ws_source *now;
    struct ws_original *running; /* the original of a twin, from its caller */
    bool compare;
    struct ws_source *now_slice; /* its system's volume */
    const char *passphrase;      /* that opens it, while it is prepared; NULL: none */
    struct ws_lock *opened;      /* the lock around it, and the partition that is locked */
    struct ws_source *locked_slice;
    char lock_uuid[48];
    struct ws_source *boot_slice; /* the volume of its kernels */
    struct ws_ext4_geometry boot_geometry;
    struct ws_tree *was;
    struct ws_system_facts was_facts;
    bool was_hidden; /* the PC's disks */
    struct ws_ext4_geometry geometry;
    struct ws_layout *start_layout; /* of the volume that firmware reads, and of the front */
    uint64_t log_at;
    char marks[WS_HASH_HEX]; /* of the drive's volumes, as they were looked at */
    char start_serial[16];   /* of the volume that firmware reads, as the system on the drive has it */
    struct build_twin *twin;
    struct ws_layout *layout;
    const struct ws_beside *beside; /* what stays of the drive; NULL: nothing */
    struct ws_batch *batch;         /* that it is one of; NULL: it is alone */
    size_t number;
};

/* A kind of drive: what it is made of, and what goes with it. */
struct build_recipe {
    enum ws_kind kind;
    bool image;       /* it is made from one */
    unsigned others;  /* what may be asked for besides volumes, see recipes.c */
    uint32_t volumes; /* what may be wanted: bit N stands for role N */
    const char *only; /* why nothing else may */
    enum ws_status (*prepare)(struct ws_build *build, struct ws_error *error);
};
/* recipes.c */
const struct build_recipe *build_recipe(enum ws_kind kind);
enum ws_status build_check_wishes(const struct build_recipe *recipe, const struct ws_request *request,
                                  struct ws_error *error);
enum ws_status build_prepare_replica(struct ws_build *build, struct ws_error *error);
enum ws_status build_prepare_blank(struct ws_build *build, struct ws_error *error);
/* whole.c, files.c */
enum ws_status build_prepare_whole(struct ws_build *build, struct ws_error *error);
enum ws_status build_prepare_files(struct ws_build *build, struct ws_error *error);
/* system.c */
enum ws_status build_prepare_system(struct ws_build *build, struct ws_error *error);
/* The root made at home on the drive, by its table and the identifiers of its volumes. */
enum ws_status build_settle(struct ws_build *build, const struct ws_system_facts *facts, struct ws_error *error);
void build_note_system(struct ws_build *build, const struct ws_system_facts *facts);
/* root.c: the root into build->tree[WS_ROLE_SYSTEM], kernels that would not find it behind the others, and what starts
 * it on UEFI; where that will be. */
/* What an image has of a root; `medium`: out, what that may borrow from besides the image. */
enum ws_status build_read_root(const struct ws_image *image, const char *edition, struct ws_tree **medium,
                               struct ws_root *root, struct ws_error *error);
enum ws_status build_open_root(struct ws_build *build, struct ws_system_facts *facts, struct ws_error *error);
enum ws_status build_look_at_kernels(struct ws_build *build, struct ws_system_facts *facts, struct ws_error *error);
enum ws_status build_choose_loader(struct ws_build *build, const struct ws_system_facts *facts, struct ws_error *error);
void build_system_outlook(struct ws_build *build);
/* renew.c */
enum ws_status build_prepare_renewal(struct ws_build *build, struct ws_error *error);
/* Room for the log of a change, once its layout is whole. */
enum ws_status build_place_log(struct ws_build *build, struct ws_error *error);
/* refresh.c: is what stands on the drive changed, instead of replaced? */
bool build_is_change(const struct ws_plan *plan);
/* Of a running original: are files in it that may change while they are written? */
bool build_moves(const struct ws_build *build);
/* renew.c: the table of the drive as it is; and a tree over the ext4 volume that stands at `at` of the layout */
enum ws_status build_read_now(struct ws_build *build, struct ws_error *error);
enum ws_status build_compose_over(struct ws_build *build, struct ws_volume *volume, struct ws_tree *tree,
                                  const struct ws_source *over, struct ws_ext4_geometry *geometry, uint64_t at,
                                  struct ws_layout *layout, struct ws_error *error);
/* twin.c */
enum ws_status build_prepare_twin(struct ws_build *build, struct ws_error *error);
/* Is the original still what was planned? @return WS_E_FORMAT if not */
enum ws_status build_check_original(const struct ws_build *build, struct ws_error *error);
void build_close_twin(struct ws_build *build); /* after the trees that borrow from the original */
/* Right before the first write: is all as it was looked at? @return WS_E_REFUSED if not */
enum ws_status build_check_state(const struct ws_build *build, struct ws_drive *drive, struct ws_error *error);
void build_close_renewal(struct ws_build *build);
/* passwords.c */
/* Is a new lock made, which needs a passphrase? */
bool build_makes_lock(const struct ws_build *build);
/* All that the plan's accounts need are there? */
enum ws_status build_check_passwords(const struct ws_build *build, struct ws_error *error);
/* The bytes of the drive that a build without its passwords does not know. */
void build_unknown(const struct ws_build *build, struct ws_check_options *options);
/* files.c: the table of a drive laid out by us; and it with our start-up code, and zeros up to the first volume. */
enum ws_status build_begin_table(struct ws_build *build, struct ws_error *error);
enum ws_status build_add_front(struct ws_build *build, struct ws_error *error);

/* beside.c: what the drive says of how it was made, among the system's files; then the files of others that stay. */
enum ws_status build_note_laid(struct ws_build *build, struct ws_error *error);
enum ws_status build_put_others(struct ws_build *build, enum ws_role role, struct ws_error *error);

/* place.c: volumes in a row. */
struct build_need {
    enum ws_role role;
    const struct ws_format *format;
    struct ws_size size;     /* so many bytes, or the rest */
    uint64_t least, most;    /* bytes; what "the rest" may come to */
    uint64_t granule;        /* sizes are multiples of it */
    const char *type, *name; /* of its partition */
    uint64_t at, placed;     /* out: bytes of the drive */
};
/* Place them from `first` on, each at a multiple of `align`, before `end`. The last may be cut down to what was asked.
 * @return WS_E_SPACE with the bytes that all of it would take, up to its end, at `needed` */
enum ws_status build_place(struct build_need *need, size_t count, uint64_t first, uint64_t end, uint64_t align,
                           uint64_t *needed);

/* inside.c: is the system's volume to stand in a file of the data volume? */
bool build_inside(const struct ws_plan *plan);
/* And is that one, too, what firmware reads? */
bool build_starts_from_data(const struct ws_plan *plan);
/* The need of the data volume, among others, with the system in it: at least so many bytes. */
enum ws_status build_need_inside(struct ws_build *build, uint64_t least, struct build_need *need, size_t count,
                                 struct ws_error *error);
/* The file entered in the data volume's tree, its place reserved; `room` is what that volume has free for it. */
enum ws_status build_reserve_inside(struct ws_build *build, uint64_t room, struct ws_error *error);
/* What a root in a file is told of the volume around it. */
enum ws_status build_settle_inside(const struct ws_build *build, struct ws_settling *settling, struct ws_error *error);
void build_note_inside(struct ws_build *build);

/* locked.c: is a volume to be locked; is the system's, or is it already? */
bool build_locks(const struct ws_plan *plan, enum ws_role role);
bool build_is_locked(const struct ws_plan *plan);
/* What memory holds would stand in a swap partition as it is: none goes beside a lock. */
enum ws_status build_check_open_swap(const struct ws_plan *plan, struct ws_error *error);
/* Of a live system: can what it remembers be locked? */
enum ws_status build_check_lock(const struct ws_build *build, struct ws_error *error);
/* Its kernels in a tree of their own, in build->tree[WS_ROLE_BOOT]. */
enum ws_status build_cut_boot(struct ws_build *build, const struct ws_system_facts *facts, struct ws_error *error);
/* The need of the volume for it. */
enum ws_status build_need_boot(struct ws_build *build, struct build_need *need, struct ws_error *error);
/* What stands in open_layout, with a lock around it, added to the layout: behind a header of its own, or behind that
 * which is there. Its key is another's business. */
enum ws_status build_lock_up(struct ws_build *build, const struct ws_volume *v, struct ws_layout *layout,
                             struct ws_error *error);
/* A volume composed, and the lock around it added to the layout; `params` are those of what is inside. */
enum ws_status build_compose_locked(struct ws_build *build, const struct ws_volume_params *params, struct ws_volume *v,
                                    struct ws_layout *layout, struct ws_error *error);
void build_note_lock(struct ws_build *build, const char *asks, const char *outside);

/* wanted.c: what each volume is asked to be. */
/* What a volume is unless something else is wanted, and what its identifiers derive from. */
struct build_role {
    const char *format, *volume_id, *partition_id, *name;
};
extern const struct build_role build_roles[WS_ROLES];
/* Where changes go, from what is asked and what the family knows; in recipes that may remember. */
enum ws_status build_settle_persistence(struct ws_build *build, struct ws_error *error);
/* Does this volume hold the overlay file, or the system's? Its clusters are pages then: the volume in it stands as in a
 * partition. */
bool build_holds(const struct ws_build *build, enum ws_role role);
/* The wanted size, WS_SIZE_NONE where nothing is. */
struct ws_size build_wanted_size(const struct ws_plan *plan, enum ws_role role);
/* The row of the table of formats that a volume gets. */
enum ws_status build_format(const struct ws_plan *plan, enum ws_role role, const struct ws_format **format,
                            struct ws_error *error);
/* Its label: as wanted, made to fit its format (`said`: what was changed), or as is usual. */
enum ws_status build_label(const struct ws_build *build, enum ws_role role, char label[WS_LABEL_ROOM], char said[160],
                           struct ws_error *error);
/* The identifier of a volume, by its role. */
enum ws_status build_volume_id(const struct ws_plan *plan, enum ws_role role, struct ws_guid *id,
                               struct ws_error *error);
/* The label of the volume of files, which is never empty. */
void build_system_label(const struct ws_plan *plan, char label[12]);
/* That label and the volume's identifier, by enum ws_named_by. */
enum ws_status build_system_names(const struct ws_plan *plan, char name[WS_NAMED_WAYS][WS_LABEL_ROOM],
                                  struct ws_error *error);
/* One MiB, or the drive's erase unit where that is larger and sensible. */
uint64_t build_choose_align(const struct ws_plan *plan);
/* @return WS_E_UNSUPPORTED for sectors that no volume is made for here: 512 to 4096 bytes, powers of two, are */
enum ws_status build_check_sector(uint32_t sector, const char *drive, struct ws_error *error);
/* Without what to do about it. */
enum ws_status build_too_small(struct ws_error *error, const struct ws_plan *plan, uint64_t needed);
enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t needed);

/* compose.c */
/* The cluster as asked; of a volume that holds an overlay file at least a page, where its usual one would be less. */
uint32_t build_cluster(const struct ws_build *build, enum ws_role role, const struct ws_format *format, uint64_t size);
/* What a volume of this size is composed with, but for its names. */
struct ws_volume_params build_params(const struct ws_build *build, enum ws_role role, const struct ws_format *format,
                                     uint64_t size);
/* Measured, or composed into the layout. */
enum ws_status build_compose_volume(struct ws_build *build, enum ws_role role, struct ws_layout *layout,
                                    struct ws_error *error);

/* measure.c: the smallest volume that holds a tree, to a thirty-second: looked for between one that does not and one
 * that does. @return WS_E_SPACE if none up to `most` bytes does; `least` is what was tried last then */
enum ws_status build_measure_least(const struct ws_format *format, struct ws_volume_params params, struct ws_tree *tree,
                                   uint64_t most, uint64_t *least, struct ws_error *error);

/* volumes.c */
/* The need of a small volume with our program, for firmware that does not read the system's. @param least  bytes; 0: as
 * small as can be */
enum ws_status build_need_start(struct ws_build *build, uint64_t least, struct build_need *need,
                                struct ws_error *error);
/* The needs of persistence, data and swap as wanted, added to a list. */
enum ws_status build_add_needs(struct ws_build *build, struct build_need *need, size_t *count, struct ws_error *error);
/* Placed, entered in the table and in the plan. */
enum ws_status build_place_volumes(struct ws_build *build, struct build_need *need, size_t count, uint64_t first,
                                   struct ws_error *error);
/* All of them composed; what a file inside one needs of room is reserved first. */
enum ws_status build_compose_volumes(struct ws_build *build, struct ws_error *error);
/* Where nothing of the new stands in the first and last MiB of each volume, and of the drive, zeros: older tables and
 * their backups, signatures of file systems, arrays and volume groups would tell systems that those still are there. */
enum ws_status build_clear_ends(struct ws_build *build, struct ws_error *error);

/* overlay.c */
/* Can an overlay file of the asked size be had at all? */
enum ws_status build_check_overlay(const struct ws_build *build, struct ws_error *error);
/* The file entered in its holder's tree, its place reserved; `room` is what the volume has free for it. */
enum ws_status build_reserve_overlay(struct ws_build *build, uint64_t room, struct ws_error *error);
/* The bytes asked for, 0: as many as can be. */
uint64_t build_overlay_asked(const struct ws_build *build);
/* The largest it can be; and any file that holds a volume, on a volume of this format. */
uint64_t build_overlay_most(const struct ws_build *build);
uint64_t build_file_most(const struct ws_format *holder);
/* A file for a volume, entered in its holder's tree: its place is reserved, its content comes as a part of its own. */
enum ws_status build_reserve_file(struct ws_build *build, enum ws_role holder, const char *path, uint64_t size,
                                  struct ws_error *error);
/* What the menus have to pass so that the system remembers. */
const char *build_parameters(const struct ws_build *build, char out[WS_PARAMETERS_ROOM]);
/* A ready-made volume copied to its place, or a fresh one composed there. */
enum ws_status build_compose_persistence(struct ws_build *build, struct ws_error *error);

/* inputs.c */
struct ws_own_file build_own_file(const struct ws_addition *addition, const struct ws_source *source);
struct ws_input *build_input(struct ws_plan *plan, size_t number);
/* Opened; NULL: it has none. */
const struct ws_source *build_input_source(const struct ws_build *build, size_t number);
const char *build_input_word(size_t number); /* "image", "data file", "added file" */
/* Are they still those that were planned? `pieces`: out, the image's digests, if it was planned with them. */
enum ws_status build_check_inputs(const struct ws_build *build, struct ws_port *port, struct ws_pieces *pieces,
                                  struct ws_error *error);

/* parts.c: the drive's parts in a row, without gaps: what was placed, and what lies between. */
void build_list_parts(struct ws_build *build);
/* Those of a drive that has its partitions already. */
void build_list_partitions(struct ws_build *build);
/* ability.c: can the live system do what is wanted of it? */
void build_note_ability(struct ws_build *build);
/* notes.c: what was decided about where changes are kept, and about files. */
void build_note_persistence(struct ws_build *build);
void build_note_files(struct ws_build *build);
/* Where a drive laid out by us will start, and why. */
void build_correct_outlook(const struct ws_build *build);

/* A file of the image with new content. */
struct build_change {
    const struct ws_node *file;
    char *bytes; /* owned */
    size_t length;
    bool in_esp; /* a file of the image's EFI volume */
};
void build_free_change(struct build_change *change);
/* edits.c: menus told to remember and checksum lists corrected, noted in the plan; `change` has room for
 * PLAN_EDITS_MOST, and on failure what `*count` says is still to be freed. */
enum ws_status build_collect_changes(struct ws_build *build, struct build_change *change, size_t *count,
                                     struct ws_error *error);
/* The image's EFI volume into build->esp_tree, if it has one. */
void build_open_esp(struct ws_build *build);
/* Those of the changes that are in the EFI volume, laid over it where it stands in `patched`. */
enum ws_status build_edit_esp(const struct build_change *change, size_t count, struct ws_source *patched, uint64_t at,
                              uint64_t length, struct ws_error *error);
/* The same as changes over build->patched; `end` moves past what had to be appended. */
enum ws_status build_edit_menus(struct ws_build *build, uint64_t *end, struct ws_error *error);
/* The medium's new name put wherever a text says an old one. @return whether it says one */
bool build_rename(const struct build_names *names, enum ws_named_by by, struct ws_text *text);

/* medium.c: the files that go on the drive, laid down file by file, in build->tree[WS_ROLE_SYSTEM]. */
enum ws_status build_make_medium(struct ws_build *build, const struct build_change *change, size_t count,
                                 struct ws_error *error);
/* The small volume with our UEFI program. */
enum ws_status build_make_start(struct ws_build *build, struct ws_error *error);
/* Is it our program that UEFI firmware finds? */
bool build_own_uefi(const struct ws_build *build);
/* Is the system's files' volume one that firmware does not read? */
bool build_needs_start(const struct ws_plan *plan);

#endif
