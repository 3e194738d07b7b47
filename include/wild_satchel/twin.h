/* twin.h — the original of a twin: a drive looked at as the source of another one.
 *
 * What each of its volumes is, whether its files can be laid down anew, what starts it, and what names its volumes. The
 * original is only ever read. A twin is planned as any other drive is: WS_KIND_TWIN, with the original as the image.
 */
#ifndef WILD_SATCHEL_TWIN_H
#define WILD_SATCHEL_TWIN_H

#include "wild_satchel/format.h"
#include "wild_satchel/system.h"
#include "wild_satchel/used.h"

WS_BEGIN

/** What a system can do without. */
enum ws_leave {
    WS_LEAVE_CACHES,
    WS_LEAVE_LOGS,
    WS_LEAVE_TEMPORARY,
    WS_LEAVE_CRASHES,
    WS_LEAVE_TRASH,
    WS_LEAVE_SWAP_FILES,
    WS_LEAVE_KERNELS, /**< older than the newest two, with their drivers */
    WS_LEAVES
};
/** "caches", "logs", "temporary", "crashes", "trash", "swap-files", "kernels" */
const char *ws_leave_name(enum ws_leave leave);
const char *ws_leave_meaning(enum ws_leave leave); /**< in words */

/** What a twin is asked to be, beside the sizes of its volumes. */
struct ws_twin_wishes {
    bool same_identity; /**< table, partitions and volumes keep their identifiers: never plug both in at once */
    bool refresh;       /**< bring the twin that is on the drive up to date: only what changed is written */
    uint32_t leave_out; /**< bit N: enum ws_leave N */
    bool new_host;      /**< its system gets a host identity of its own at its first start (machine id, host keys) */
};

/** How a volume of the original becomes one of the twin. */
enum ws_twin_way {
    WS_TWIN_ANEW,     /**< its files laid down anew, on a volume of any size that holds them */
    WS_TWIN_AS_IT_IS, /**< its bytes as they are; of those only what is in use, where that is known */
    WS_TWIN_EMPTY,    /**< made anew, with nothing in it: swap */
    WS_TWIN_WAYS
};
const char *ws_twin_way_name(enum ws_twin_way way); /**< "anew", "as-it-is", "empty" */

/** What a volume is to the system on the drive. */
enum ws_twin_part { WS_TWIN_PLAIN, WS_TWIN_ROOT, WS_TWIN_KERNELS, WS_TWIN_FIRMWARE };

enum { WS_ORIGINAL_MOST = 20, WS_SPECIFIER_ROOM = 96 };
struct ws_original_volume {
    struct ws_partition place; /**< as the original's table has it; number 0: the whole drive */
    enum ws_twin_way way;
    enum ws_twin_part part;
    const struct ws_format *format; /**< NULL: none that is read here */
    struct ws_volume_facts facts;   /**< meaningful with a format */
    char system[24];                /**< what it is: "ext4", "NTFS", "unknown", "empty" */
    char why[160];                  /**< as it is: why not anew, in words */
    struct ws_used used;            /**< as it is: what of it is in use, where that is known; else no stretch at all */
    struct ws_source *slice;
    struct ws_tree *tree;  /**< WS_TWIN_ANEW; belongs to the original until it is taken (set it to NULL) */
    uint64_t files, bytes; /**< in the tree: names, and bytes of their contents */
};

struct ws_original {
    const struct ws_source *source;      /**< borrowed; NULL: it is read from where it is mounted */
    char mounted[WS_ORIGINAL_MOST][256]; /**< of one that runs: where each volume is */
    uint32_t sector;                     /**< bytes, as its table counts */
    struct ws_table table;
    struct ws_original_volume volume[WS_ORIGINAL_MOST];
    size_t volumes;
    size_t root, kernels, firmware; /**< which volume is the system's root, its /boot, what its firmware reads; or
                                       `volumes` */
    struct ws_system_facts facts;   /**< of that root, where there is one */
    struct ws_start_words {
        char options[700]; /**< what its menu tells its kernel, but for the root and the loader's own words */
        bool ours;         /**< it has start entries that our code reads */
        bool menu; /**< no root is read, but its volume `kernels` has another loader's menu, and what it names */
    } start;
    char state[WS_HASH_HEX]; /**< changes whenever anything on a volume laid down anew does */
    struct ws_findings findings;
};

/**
 * Look at a drive, or an image of one, as an original. Volumes whose files cannot be read here are taken as they are,
 * and say why.
 * @param sector  bytes, as the drive counts; of an image ws_table_sector_of()
 * @return WS_E_NOTFOUND if there is nothing on it that a twin could have; WS_E_UNSUPPORTED for a live image laid down
 *         whole, or more volumes than WS_ORIGINAL_MOST; WS_E_READ. Close it with ws_original_close() in any case
 */
WS_CHECKED enum ws_status ws_original_open(const struct ws_source *source, uint32_t sector,
                                           struct ws_original *original, struct ws_error *error);
void ws_original_close(struct ws_original *original);
/** Of an original whose volumes somebody else has filled in (place, way, format, facts, system, tree): which of them
 *  starts it, and what it says. @return WS_E_NOTFOUND if it has none */
WS_CHECKED enum ws_status ws_original_complete(struct ws_original *original, struct ws_error *error);

/** Is it copied as it is, and of a kind that a system's root stands on? */
bool ws_original_may_be_root(const struct ws_original_volume *volume);

/** So many files, and the bytes of their contents. */
struct ws_left_out {
    uint64_t files, bytes;
};
/** What of each kind of enum ws_leave its volumes hold. */
void ws_original_leavable(const struct ws_original *original, struct ws_left_out tally[WS_LEAVES]);
/** Take it out of their trees: bit N of `which` for enum ws_leave N. */
void ws_original_leave_out(struct ws_original *original, uint32_t which, struct ws_left_out tally[WS_LEAVES]);

/** Does a word that names a volume ("UUID=...", "PARTUUID=...", "LABEL=...", "PARTLABEL=...", "/dev/sda2") mean this
 * one? Device names go by the number of the partition. */
bool ws_original_is(const struct ws_original *original, size_t volume, const char *specifier);

/** A name of the original, and the twin's in its place. */
struct ws_new_name {
    char was[64], now[64];
};
enum { WS_NEW_NAMES_MOST = 4 * WS_ORIGINAL_MOST + 2 };
struct ws_new_names {
    struct ws_new_name name[WS_NEW_NAMES_MOST];
    size_t count;
};
/** Add one; nothing for an empty name, or one that stays. */
void ws_new_name_add(struct ws_new_names *names, const char *was, const char *now);

/** One text in which names were corrected. */
typedef void (*ws_renamed_call)(void *context, const char *path, size_t places);
/**
 * Put the new names wherever a text of a volume says an old one: in the folders where systems and loaders keep their
 * settings. Names of units that are made from one change with it, and so do initial RAM disks: what is said in them is
 * said anew in an archive behind them.
 * @param on_text  may be NULL
 */
WS_CHECKED enum ws_status ws_tree_rename_volumes(struct ws_tree *tree, const struct ws_new_names *names,
                                                 int64_t made_at, ws_renamed_call on_text, void *context,
                                                 struct ws_error *error);
/** fstab(5) and crypttab(5) of the twin's root: device names become identifiers, and lines that name what is on no
 *  volume of the twin hold up no start.
 *  @param uuid  of the twin's volumes, as systems write them, one for each of the original; empty: it is not there */
WS_CHECKED enum ws_status ws_original_settle_mounts(const struct ws_original *original, struct ws_tree *root,
                                                    const char (*uuid)[48], int64_t made_at,
                                                    struct ws_findings *findings, struct ws_error *error);

WS_END

#endif
