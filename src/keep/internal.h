/* internal.h — what is remembered, opened, and the edit of it. */
#ifndef WS_KEEP_INTERNAL_H
#define WS_KEEP_INTERNAL_H

#include "plan/laid.h"
#include "system/on_drive.h"
#include "wild_satchel/room.h"
#include "wild_satchel/keep.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/table.h"

/* What stands beside the volume, and gives room. */
struct keep_taking {
    struct ws_run swap[4]; /* areas in between, in ascending order */
    uint64_t swap_to[4];
    size_t swaps;
    bool any;   /* something stands there */
    bool gives; /* a data volume loses its front, or, in front of the volume, its end: */
    bool in_front;
    uint64_t begin;          /* byte of the drive at which the volume could begin then, in the latter case */
    struct ws_source *slice; /* owned: the first volume that is no swap */
    struct ws_partition place;
    struct ws_room room;
    uint64_t file; /* bytes: of the file that remembers, on this volume; 0: it is in none */
    uint64_t end;  /* of what can be had where none gives */
};

/* Of a live drive that was laid down file by file: how, and what others put on its volumes. */
struct keep_laid {
    struct laid laid;       /* empty: it does not say */
    uint64_t at, size, end; /* bytes of the drive: the volume of its files, and where that for firmware ends */
    bool gpt;
    const char *format; /* its word */
    char label[48];
    struct ws_source *slice[2]; /* owned: of that, and of that for firmware */
    struct ws_beside beside;    /* its trees are owned */
};

/* How its volume comes to where it is to be. */
enum keep_way {
    KEEP_OVER,  /* composed over itself: it gets longer or shorter, or begins sooner */
    KEEP_LATER, /* made anew farther back: its front goes to others */
    KEEP_AWAY,  /* made anew where nothing of it is */
    KEEP_STAYS  /* it is not written: what changes is beside it */
};

struct ws_kept {
    const struct ws_source *drive;
    uint32_t sector;
    struct ws_source *forgiving; /* of a damaged drive */
    struct ws_findings lost;
    struct ws_memory memory; /* never copied: its family may point into it */
    struct ws_source *slice;
    struct ws_lock *lock;           /* of a locked volume, opened */
    const struct ws_source *volume; /* open */
    struct ws_ext4_facts facts;
    struct ws_tree *tree;              /* as it is, or edited */
    uint64_t resize;                   /* bytes of the volume and its partition; 0: as they are */
    struct ws_tree *fresh;             /* what takes its place; NULL: the edited tree itself */
    struct ws_build *build;            /* of a renewal: the drive as it would be made anew */
    struct ws_source *new_drive;       /* a view of it */
    struct keep_laid *laid;            /* owned; NULL: its image was laid down whole */
    struct ws_layout *renewed, *table; /* what of that goes over what is there; and the tables */
    struct ws_source *new_table;
    uint64_t renewed_to; /* byte of the drive up to which that reaches */
    enum keep_way way;
    struct ws_run to; /* of the drive: where the volume is to be */
    bool moves;       /* between a partition and a file; in the latter with `into_file` */
    bool into_file;
    struct ws_ext4_geometry before; /* of the one it takes the place of */
    struct ws_layout *moved;        /* it, by itself, and a view of that */
    struct ws_source *moved_view;
    char content[WS_HASH_HEX];  /* of all that it holds */
    struct keep_taking *taking; /* owned */
    bool anew;                  /* counts of starts begin again */
    bool otherwise;             /* the volume has a configuration of its own: all of it is taken as it stands */
    /* the edit, worked out */
    struct ws_ext4_geometry geometry;
    struct ws_layout *layout, *open_layout; /* the latter: of a locked volume, not enciphered */
    struct ws_source *open;
    struct ws_lock *relock;
    struct ws_run log[WS_LOG_PIECES]; /* where the change's own log goes */
    size_t logs;
    bool log_elsewhere; /* behind all, or on ordinary volumes, too */
    char marks[WS_HASH_HEX];
};

struct ws_saved {
    struct ws_saved_facts facts;
    struct ws_tree *archive, *state; /* the latter is room out of the former */
};

/* It may be edited once. */
enum ws_status keep_still_as_it_is(const struct ws_kept *kept, struct ws_error *error);
/* The folder of a live system's changes in the volume, without slashes; "" for a full system. */
const char *keep_top_path(const struct ws_kept *kept);
/* A path as the running system has it. */
const char *keep_path(const struct ws_node *node, const struct ws_node *top, char *out, size_t room);

/* kept.c: the partition in which a byte of the drive lies. @return NULL if it lies in none */
const struct ws_partition *keep_partition_of(const struct ws_table *table, uint64_t at);

/* kept.c: the drive's table, its second copy at the drive's end. */
enum ws_status keep_table(const struct ws_kept *kept, struct ws_table *table, struct ws_error *error);
/* Bytes of its place before the volume: the header of its lock. */
static inline uint64_t keep_begin(const struct ws_kept *k) { return k->lock ? ws_lock_begin(k->lock) : 0; }
/* Bytes by which it begins sooner. */
static inline uint64_t keep_sooner(const struct ws_kept *k) {
    return k->way == KEEP_OVER ? k->memory.volume_at - k->to.at : 0;
}
/* Is it made anew elsewhere? */
static inline bool keep_remade(const struct ws_kept *k) { return k->way == KEEP_LATER || k->way == KEEP_AWAY; }

/* log.c: where the log of the change goes, and what the change costs. */
enum ws_status keep_place_log(struct ws_kept *kept, struct ws_kept_cost *cost, struct ws_error *error);
/* Ordinary volumes in which it is to stand may have been used since: is it still free there? */
bool keep_log_as_it_was(const struct ws_kept *kept);

/* carry_out.c: what changes when somebody uses the drive: its first sector, and the volume's superblock. */
enum ws_status keep_hash_marks(const struct ws_kept *kept, const struct ws_source *drive, char hex[WS_HASH_HEX],
                               struct ws_error *error);

/* neighbour.c */
void keep_taking_close(struct keep_taking *taking); /* NULL is accepted */
/* The file that remembers, in its volume, with another length; 0: as it has. */
enum ws_status keep_in_file(const struct ws_kept *kept, uint64_t length, struct keep_taking **taking,
                            struct ws_error *error);
/* @param side  "behind". @return WS_E_UNSUPPORTED */
enum ws_status keep_gives_nothing(struct ws_error *error, const char *side, const char *what);
/* What is told of the volume that gives, once it is worked out. */
void keep_tell_neighbour(const struct keep_taking *taking, struct ws_neighbour *neighbour);
/* in_front.c: the data volume before it. @return WS_E_UNSUPPORTED if there is none that gives */
enum ws_status keep_in_front(struct ws_kept *kept, struct keep_taking **taking, struct ws_error *error);
/* How what is body is written at a byte before the volume as it is, and how far that holds: as body only where its
 * neighbour had nothing. */
enum ws_phase keep_phase_in_front(const struct keep_taking *taking, uint64_t at, uint64_t *length, enum ws_phase phase);
/* The volume as it is composed, and all that makes way for it. */
enum ws_status keep_put_taken(struct ws_kept *kept, struct ws_layout *volume, struct ws_error *error);
enum ws_status keep_table_taken(const struct ws_kept *kept, struct ws_table *table, struct ws_error *error);
/* Of the layout all but what moved: where that came from there is something else by now. The caller's to close. */
enum ws_status keep_lasting(const struct ws_kept *kept, struct ws_layout **layout, struct ws_error *error);
/* @return WS_E_DIFFERENT, without words, if the volume that gives was used meanwhile */
enum ws_status keep_taken_as_it_was(const struct ws_kept *kept, const struct ws_source *now, struct ws_error *error);

/* move.c: the drive's table once it has moved. */
enum ws_status keep_table_moved(const struct ws_kept *k, struct ws_table *table, struct ws_error *error);
/* Rows of the volume that it leaves, from its begin on, that hold nothing. @return how many */
size_t keep_rows_left(const struct ws_kept *k, struct ws_run *row, size_t most);

/* laid.c: in k->laid; what a request for it laid down anew is; and what of the drive stays beside the newer image,
 * once that is worked out. */
enum ws_status keep_laid_open(struct ws_kept *kept, const struct on_drive *was, struct ws_error *error);
void keep_laid_ask(const struct ws_kept *kept, struct ws_request *request, struct ws_build_setting *setting);
void keep_laid_tell(const struct ws_kept *kept, struct ws_live_renewal *told);
/* What others put there, once all is worked out. @return WS_E_DIFFERENT: it would not be there */
enum ws_status keep_laid_look_again(const struct ws_kept *kept, struct ws_error *error);
void keep_laid_close(struct keep_laid *laid); /* NULL is accepted */

/* kept.c: all that was worked out for a renewal. */
void keep_forget_renewal(struct ws_kept *kept);

/* make_way.c: what stands first behind the older image begins later, where the newer one reaches farther. @return
 * WS_E_SPACE if that has not so much room; as ws_make_room() */
enum ws_status keep_make_way(struct ws_kept *kept, const struct ws_partition *first, uint64_t image_end,
                             struct ws_error *error);
/* Byte of the drive at which a partition begins then. */
uint64_t keep_begins_now(const struct ws_kept *kept, const struct ws_partition *partition);

/* renew.c: all that a renewal changes outside of the volume that remembers. */
enum ws_status keep_put_renewed(struct ws_kept *kept, struct ws_error *error);

#endif
