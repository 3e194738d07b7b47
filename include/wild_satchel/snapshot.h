/* snapshot.h — a tree at a moment, what differs between two moments, and whose doing that was. */
#ifndef WILD_SATCHEL_SNAPSHOT_H
#define WILD_SATCHEL_SNAPSHOT_H

#include "wild_satchel/tree.h"

WS_BEGIN

/** One file, folder or link at a moment. */
struct ws_shot {
    const char *path; /**< from the tree's root on, "/" for that; of the snapshot's own text */
    uint64_t size;    /**< bytes of a file or a link's target; of a device its numbers, (major << 32) + minor */
    int64_t mtime;    /**< seconds since 1970-01-01 UTC */
    uint32_t mtime_ns, uid, gid;
    uint32_t attributes; /**< CRC-32C over the extended attributes that say something, see ws_snapshot_take() */
    uint16_t mode;
    uint8_t kind;       /**< enum ws_node_kind */
    bool hashed;        /**< `sha256` is that of a file's content, or of a link's target */
    bool below;         /**< an overlay took it up from the layer below, to change it or what it holds */
    uint8_t sha256[32]; /**< as bytes */
};
/** All of a tree at a moment, sorted by path as strcmp() has it. Zero-initialise. */
struct ws_snapshot {
    const struct ws_shot *shot;
    size_t count;
    /* What it holds, and may share with others that were taken of the same paths. */
    struct ws_snapshot_rows *rows;
    struct ws_snapshot_text *text;
};

/** What is read of files. */
enum ws_reading {
    WS_READ_ALL,     /**< all content */
    WS_READ_CHANGED, /**< content of what is not as in another snapshot, by size, mode and time */
    WS_READ_NONE     /**< no content */
};
/**
 * Take one. Attributes that an overlay keeps for itself (origin, impure, uuid) do not count.
 * @param before  of WS_READ_CHANGED: the other snapshot; else NULL
 */
WS_CHECKED enum ws_status ws_snapshot_take(const struct ws_tree *tree, enum ws_reading reading,
                                           const struct ws_snapshot *before, struct ws_snapshot *snapshot,
                                           struct ws_error *error);
/** Another of the same content, which both hold from then on. */
void ws_snapshot_copy(const struct ws_snapshot *from, struct ws_snapshot *to);
void ws_snapshot_free(struct ws_snapshot *snapshot);
/** The entry of this path, or NULL. */
const struct ws_shot *ws_snapshot_find(const struct ws_snapshot *snapshot, const char *path);
/** A name of the layer below that was deleted: an overlay keeps a character device 0:0 for it. */
bool ws_shot_is_whiteout(const struct ws_shot *shot);
/** Do both say the same? Times count for files whose content is not known of both. */
bool ws_shot_same(const struct ws_shot *a, const struct ws_shot *b);

enum ws_change { WS_CHANGE_ADDED, WS_CHANGE_CHANGED, WS_CHANGE_GONE, WS_CHANGE_MOVED, WS_CHANGES };
const char *ws_change_name(enum ws_change change); /**< "added", "changed", "deleted", "moved" */
typedef void (*ws_change_visit)(void *context, enum ws_change change, const struct ws_shot *before,
                                const struct ws_shot *after);
/** Every difference, in order of path; `before` is NULL for what was added, `after` for what is gone. Nothing is told
 * as moved. */
void ws_snapshot_compare(const struct ws_snapshot *before, const struct ws_snapshot *after, ws_change_visit visit,
                         void *context);

/** As text, a line an entry (docs/proof-format.md), added to `out`. */
void ws_snapshot_write(const struct ws_snapshot *snapshot, struct ws_text *out);
/** @return WS_E_FORMAT naming the line; the snapshot is empty then */
WS_CHECKED enum ws_status ws_snapshot_read(const char *text, size_t length, struct ws_snapshot *snapshot,
                                           struct ws_error *error);

/** Whose doing a change is, by where it lies. */
enum ws_whose {
    WS_WHOSE_PEOPLE,   /**< people's own files */
    WS_WHOSE_PROGRAMS, /**< programs, and what came with them */
    WS_WHOSE_SETTINGS, /**< of the system */
    WS_WHOSE_OTHER,
    WS_WHOSE_LOGS, /**< from here on what a system changes by itself */
    WS_WHOSE_CACHES,
    WS_WHOSE_RECORDS, /**< what it notes for itself: random seeds, leases, states of its devices */
    WS_WHOSE_TEMPORARY,
    WS_WHOSES,
    WS_WHOSE_OWN = WS_WHOSE_LOGS /**< the first that is the system's own doing */
};
const char *ws_whose_name(enum ws_whose whose);  /**< a word for documents: "people", "programs", ... */
const char *ws_whose_title(enum ws_whose whose); /**< for people: "people's files", ... */
/** @param path  as the running system has it */
enum ws_whose ws_whose_is(const char *path);

enum { WS_TOLD_EXAMPLES = 4 };
/** Differences as a technician thinks of them. */
struct ws_told {
    struct {
        uint64_t count[WS_CHANGES]; /**< by enum ws_change */
        struct {
            enum ws_change change;
            char path[160]; /**< as the running system has it */
        } example[WS_TOLD_EXAMPLES];
        size_t examples;
    } of[WS_WHOSES];
    char packages[400]; /**< installed, and taken off ("-name"), by their package managers' records; cut at its end */
    uint64_t all, by_people; /**< changes, and those that no system makes by itself */
};
/** Tell what differs in the folder `top`, without slashes around it, which is "/" to its system. Names deleted from the
 *  layer below count as deleted; a file that is gone here and new there with the same content as moved. */
WS_CHECKED enum ws_status ws_told_tell(const struct ws_snapshot *before, const struct ws_snapshot *after,
                                       const char *top, struct ws_told *told, struct ws_error *error);

enum { WS_LOST_EXAMPLES = 4 };
/** What became of changes that a session saved, after a later one. */
struct ws_survived {
    uint64_t survive, again, deleted, lost; /**< as they were, changed again, deleted by the later one, gone */
    char example[WS_LOST_EXAMPLES][160];    /**< of what was lost */
    size_t examples;
};
/**
 * Changes from `first` to `saved`, the system's own apart: are they in `now`? What is gone was deleted where its folder
 * was written to since; where that is as it was, or its content changed while its times did not, it was lost.
 */
void ws_survived_look(const struct ws_snapshot *first, const struct ws_snapshot *saved, const struct ws_snapshot *now,
                      const char *top, struct ws_survived *survived);

WS_END

#endif
