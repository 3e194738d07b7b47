/* twin.h — a twin in the making: the original, and a row for each volume that comes of it. */
#ifndef WS_ASSEMBLE_TWIN_H
#define WS_ASSEMBLE_TWIN_H

#include "assemble/internal.h"

struct twin_row {
    size_t of; /* which volume of the original; `volumes` of it: one of ours */
    enum ws_role role;
    const struct ws_format *format; /* NULL: bytes as they are */
    struct ws_tree *tree;           /* the original's, or the build's */
    struct ws_guid id, partition;
    char label[WS_LABEL_ROOM];
    uint64_t least, size; /* bytes */
    bool flexible;        /* it takes its share of what the others leave */
    /* of a refresh: the volume as it is, its files, and what is to stand there */
    struct ws_source *now;
    struct ws_tree *was;
    struct ws_ext4_geometry *geometry;
    struct ws_layout *composed;
};

struct build_twin {
    struct ws_original original;
    struct twin_row row[WS_VOLUMES_MOST];
    size_t rows;
    bool same_identity; /* as asked, or because what names the volumes cannot be read */
    bool starts;        /* our start-up code finds something to start on it */
    bool may_not_find;  /* its kernel is known not to find a drive that hangs on USB */
    bool doubtful;      /* whether its kernel finds its root is not known */
    struct ws_new_names names;
    struct ws_left_out leavable[WS_LEAVES]; /* what it could do without, before anything is left out */
    size_t texts, places;                   /* that were corrected */
    bool moves;                             /* its body is of files that may change under the reader */
    uint64_t caught;                        /* bytes of files that changed, taken into memory */
    bool foreign;                           /* of a refresh: a volume holds hardly a file of the original */
    struct ws_hash *hash;                   /* of a refresh: the twin's state */
    uint64_t files, same, same_bytes, changed, changed_bytes, gone, newer, compared, databases;
    char path[WS_TWIN_PATHS][256]; /* the first that changed */
    struct ws_build *build;
};

/* twin_volumes.c: a row for each volume, with its names; and their sizes and places. */
enum ws_status twin_make_rows(struct ws_build *build, struct ws_error *error);
enum ws_status twin_place(struct ws_build *build, struct ws_error *error);
struct twin_row *twin_row_of(struct build_twin *twin, size_t volume);
void twin_take_serial(const char *text, struct ws_guid *id);
/* refresh.c */
enum ws_status build_prepare_refresh(struct ws_build *build, struct ws_error *error);
enum ws_status twin_place_log(struct ws_build *build, struct ws_error *error);
enum ws_status twin_check_state(const struct ws_build *build, const struct ws_source *now, struct ws_error *error);
void twin_close_rows(struct build_twin *twin);
/* twin_start.c: identifiers put right in its texts, and what starts it. */
enum ws_status twin_settle(struct ws_build *build, struct ws_error *error);
void twin_look_out(struct ws_build *build);

#endif
