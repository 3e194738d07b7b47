/* newer.h — a live drive that remembers, and a newer image for it. */
#ifndef WS_TESTS_NEWER_H
#define WS_TESTS_NEWER_H

#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20 };

struct bed {
    struct memory_drive *drive;
    struct ws_source *now;
    uint64_t at, size; /* of the volume that remembers */
    uint64_t files_at, files_size;
    size_t drive_size;
};

/* How a drive is arranged. */
struct arranged {
    const char *family;
    enum demo_table table, newer_table;
    bool locked, in_file, files;
    const char *on; /* the volume of its files, or of others' data; NULL: FAT32 */
    bool gpt;
    uint32_t sector; /* bytes; 0: 512 */
    bool small;      /* 240 MiB instead of 400 */
    unsigned keeps;  /* MiB that remember, and no data volume; 0: usual here */
    unsigned data;   /* MiB of a data volume beside those */
};

/* A volume that remembers, behind its lock where it has one. */
struct opened {
    struct ws_source *slice;
    struct ws_lock *lock;
    struct ws_tree *tree;
};

/* What a volume's layout has, onto the drive. */
void lay_at(struct bed *b, uint64_t at, const struct ws_layout *layout);
bool build_bed(struct bed *b, const struct demo_params *p, const struct arranged *a);
void free_bed(struct bed *b);
struct ws_kept *open_kept(struct bed *b, bool locked);
enum ws_status work_out(struct bed *b, struct ws_kept *kept, const struct ws_source *image, enum ws_stays stays,
                        struct ws_live_renewal *told);
enum ws_status carry_out(struct bed *b, struct ws_kept *kept);
/* Does the drive start the newer system, and would it remember? */
void check_drive(struct bed *b, const char *where);
/* The volume of its files with another tree on it. What its overlay file holds stays where it is. */
void compose_files(struct bed *b, const struct arranged *a, const char *label, struct ws_tree *tree);
/* Put there by somebody else: files, or one of them; and one taken off. NULL: none. */
void put_there(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *path, const char *text,
               const char *off);
void put_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs);
/* All that others put there is as it was, and the menu is the newer image's again. */
void check_others(struct bed *b, const struct arranged *a, struct ws_tree *theirs, const char *where);
void check_files(struct bed *b, const struct arranged *a, const char *where);
void open_volume(struct opened *o, const struct ws_source *drive, uint64_t at, uint64_t size, bool locked);
void close_volume(struct opened *o);
/* Something remembered behind a lock, too, or in a file. */
void lay_journal(struct bed *b, bool locked);
static inline uint32_t sector_of(const struct bed *b) { return b->drive->facts.logical_sector; }

#endif
