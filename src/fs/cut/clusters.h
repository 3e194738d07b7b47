/* clusters.h — where the clusters of a volume go that loses its front. They are counted from 0 here. */
#ifndef WS_FS_CUT_CLUSTERS_H
#define WS_FS_CUT_CLUSTERS_H

#include "base/bytes.h"
#include "wild_satchel/cut.h"

#define NO_CLUSTER UINT64_MAX

struct clusters_move;
struct clusters {
    struct ws_front_cut *cut;
    struct ws_layout *layout;
    uint64_t data_at;           /* byte of the volume */
    uint64_t count, front;      /* as they were, and how many of them go */
    uint8_t *used;              /* owned: a bit for each */
    uint8_t *before;            /* owned: the same as it was found */
    bool astray;                /* somebody has one that is marked as free */
    uint8_t *put;               /* owned: for those whose new content is in the layout already */
    struct clusters_move *move; /* owned: from where to where, in ascending order */
    size_t moves, room;
    struct ws_hash *state; /* owned */
};

/* `data_at`, `count` and the step of the cut are set; `used` is all zeros then. Ends with clusters_close(). */
enum ws_status clusters_open(struct clusters *c, struct ws_error *error);
void clusters_close(struct clusters *c);
static inline bool clusters_bit(const uint8_t *bits, uint64_t i) { return bits[i / 8] >> i % 8 & 1; }
static inline void clusters_set(uint8_t *bits, uint64_t i) { bits[i / 8] |= (uint8_t)(1u << i % 8); }
static inline void clusters_clear(uint8_t *bits, uint64_t i) { bits[i / 8] &= (uint8_t) ~(1u << i % 8); }

/* What is known once `used` is: how much could go. */
void clusters_measure(struct clusters *c, uint64_t least_left);
/* Places for those that have to go. @return WS_E_RANGE for a front that cannot be */
enum ws_status clusters_plan(struct clusters *c, struct ws_error *error);
/* It is somebody's: one that is marked as free, all the same, is found by clusters_finish(). */
void clusters_claim(struct clusters *c, uint64_t cluster);
/* Its number in the volume that begins later, from 0 on; it is claimed. */
uint64_t clusters_now(struct clusters *c, uint64_t cluster);
/* New content for a cluster that somebody has: `length` bytes of it, whole sectors. */
enum ws_status clusters_put(struct clusters *c, uint64_t cluster, const void *bytes, size_t length,
                            struct ws_error *error);
/* The contents of all others that have to go, what is free then, and the longest rows of that. @return WS_E_FORMAT if
 * somebody has what is marked as free */
enum ws_status clusters_finish(struct clusters *c, struct ws_error *error);

/* fat.c, exfat.c */
enum ws_status cut_fat(struct ws_front_cut *cut, struct ws_layout *layout, struct ws_error *error);
enum ws_status cut_exfat(struct ws_front_cut *cut, struct ws_layout *layout, struct ws_error *error);
enum ws_status cut_in_use(struct ws_error *error);

#endif
