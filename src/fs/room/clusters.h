/* clusters.h — where the clusters go that stand where room is made. They are counted from 0 here. */
#ifndef WS_FS_ROOM_CLUSTERS_H
#define WS_FS_ROOM_CLUSTERS_H

#include "base/bytes.h"
#include "wild_satchel/room.h"
#include "wild_satchel/tree.h"

#define NO_CLUSTER UINT64_MAX

struct clusters_move;
struct clusters {
    struct ws_room *room;
    struct ws_layout *layout;
    uint64_t data_at;           /* byte of the volume */
    uint64_t count, front;      /* as they were, and how many of them go */
    uint64_t end;               /* those from there on go, too */
    uint64_t clear, clear_end;  /* those that are cleared of what has them: the front, the end, or behind the file */
    uint64_t file, file_end;    /* the file's, as it is; none: both 0 */
    uint64_t going_end;         /* up to there they are nobody's then, and stay where they are; none: 0 */
    bool goes, later;           /* it is taken off; or it begins at `going_end` */
    uint64_t file_will;         /* the first behind it then */
    uint8_t *used;              /* owned: a bit for each */
    uint8_t *bad;               /* owned: places that hold nothing for good */
    uint8_t *before;            /* owned: those used as they were found */
    bool astray;                /* somebody has one that is marked as free */
    uint8_t *put;               /* owned: for those whose new content is in the layout already */
    struct clusters_move *move; /* owned: from where to where, in ascending order */
    size_t moves, capacity;
    struct ws_hash *state; /* owned */
};

/* `data_at`, `count` and the step of the room are set; no cluster is used or bad then. Ends with clusters_close(). */
enum ws_status clusters_open(struct clusters *c, struct ws_error *error);
void clusters_close(struct clusters *c);
static inline bool clusters_bit(const uint8_t *bits, uint64_t i) { return bits[i / 8] >> i % 8 & 1; }
/* It is of the file that goes, or of the part that does. */
static inline bool clusters_going(const struct clusters *c, uint64_t i) { return i >= c->file && i < c->going_end; }
static inline void clusters_set(uint8_t *bits, uint64_t i) { bits[i / 8] |= (uint8_t)(1u << i % 8); }
static inline void clusters_clear(uint8_t *bits, uint64_t i) { bits[i / 8] &= (uint8_t) ~(1u << i % 8); }

/* Once `used` and `bad` are known: what could be had, and places for all that stands there.
 * @param least_left   clusters that the volume has at least
 * @param length_most  bytes of the longest file
 * @return WS_E_RANGE for what cannot be */
enum ws_status clusters_plan(struct clusters *c, uint64_t least_left, uint64_t length_most, struct ws_error *error);
/* It is somebody's: one that is marked as free, all the same, is found by clusters_finish(). */
void clusters_claim(struct clusters *c, uint64_t cluster);
/* Its number in the volume as it will be, from 0 on; it is claimed. */
uint64_t clusters_now(struct clusters *c, uint64_t cluster);
/* Content for a cluster that somebody has, whole: written if it is another than it was, or elsewhere. */
enum ws_status clusters_put(struct clusters *c, uint64_t cluster, const void *bytes, bool changed,
                            struct ws_error *error);
/* A row of clusters that are free, for what is put, which goes there if it is given. @param first  out
 * @return WS_E_SPACE: there is none */
enum ws_status clusters_put_new(struct clusters *c, uint64_t *first, struct ws_error *error);
/* One that is free, for a folder that gets longer. @return WS_E_SPACE: there is none */
enum ws_status clusters_take_one(struct clusters *c, uint64_t *cluster, struct ws_error *error);
/* Structures of the volume, at a byte of it as it will be: where nothing moves, only those sectors that are others. */
enum ws_status clusters_put_fixed(struct clusters *c, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *error);
/* The contents of all others that have to go, what is free then, and the longest rows of that. @return WS_E_FORMAT if
 * somebody has what is marked as free */
enum ws_status clusters_finish(struct clusters *c, struct ws_error *error);

/* fat.c, exfat.c, ext4.c */
enum ws_status room_fat(struct ws_room *room, struct ws_layout *layout, struct ws_error *error);
enum ws_status room_exfat(struct ws_room *room, struct ws_layout *layout, struct ws_error *error);
enum ws_status room_ext4(struct ws_room *room, struct ws_layout *layout, struct ws_error *error);
/* room.c */
enum ws_status room_in_use(struct ws_error *error);
enum ws_status room_full_top(struct ws_error *error);
enum ws_status room_one_table(struct ws_error *error);
/* The file whose place what is put takes. @return WS_E_REFUSED if that is none */
enum ws_status room_find_old(struct ws_room *room, const struct ws_tree *tree, const struct ws_node **old,
                             struct ws_error *error);

#endif
