/* proof.h — do saved changes survive a restart? Evidence from the drive and the console, and a verdict. */
#ifndef WILD_SATCHEL_PROOF_H
#define WILD_SATCHEL_PROOF_H

#include "wild_satchel/ext4.h"
#include "wild_satchel/live.h"
#include "wild_satchel/port.h"

WS_BEGIN

/** One file, folder or link at a moment. */
struct ws_shot {
    char *path;
    enum ws_node_kind kind;
    uint16_t mode;
    uint64_t size;
    char sha256[65]; /**< of a file's content or a link's target; empty for all else */
};
/** All of a tree at a moment, sorted by path. Zero-initialise. */
struct ws_snapshot {
    struct ws_shot *shot; /**< owned */
    size_t count;
};
WS_CHECKED enum ws_status ws_snapshot_take(const struct ws_tree *tree, struct ws_snapshot *snapshot,
                                           struct ws_error *error);
void ws_snapshot_free(struct ws_snapshot *snapshot);
enum ws_change { WS_CHANGE_ADDED, WS_CHANGE_CHANGED, WS_CHANGE_GONE };
typedef void (*ws_change_visit)(void *context, enum ws_change change, const struct ws_shot *before,
                                const struct ws_shot *after);
/** Every difference, in order of path; `before` is NULL for what was added, `after` for what is gone. */
void ws_snapshot_compare(const struct ws_snapshot *before, const struct ws_snapshot *after, ws_change_visit visit,
                         void *context);

/** Why a drive does not remember; the first that applies. */
enum ws_forgets {
    WS_FORGETS_NOT,       /**< everything needed is in place */
    WS_FORGETS_NO_SYSTEM, /**< no live system is on the drive, or none of a known family */
    WS_FORGETS_PARAMETER, /**< the start menu does not pass the parameter */
    WS_FORGETS_LABEL,     /**< no volume carries the agreed label */
    WS_FORGETS_VOLUME,    /**< the volume lacks its configuration or folders, or cannot be read */
    WS_FORGETS_NOT_CLEAN, /**< the volume carries recorded errors */
    WS_FORGETS_FULL       /**< no room is left on it */
};
const char *ws_forgets_name(enum ws_forgets cause);

/** What a drive's memory looks like from outside, without starting it. */
struct ws_memory {
    const struct ws_live_family *family; /**< may point to own_family: a copy of this must settle it */
    struct ws_own_family own_family;     /**< as the drive describes it */
    bool system; /**< a full one: what it remembers is its own root volume, and there is no family */
    bool locked; /**< that volume is, and was not looked into */
    enum ws_forgets cause;
    char cause_text[700];  /**< a sentence with what to do, when cause is not WS_FORGETS_NOT */
    char parameters[1024]; /**< of the default entry */
    uint64_t volume_at, volume_size;
    bool in_file; /**< the volume lies in an overlay file */
    struct ws_ext4_facts volume;
};
/** @param sector  bytes: what the drive's table counts in */
WS_CHECKED enum ws_status ws_memory_look(const struct ws_source *drive, uint32_t sector, struct ws_memory *memory,
                                         struct ws_error *error);

enum { WS_PROOF_ITEMS_MOST = 32 };
enum ws_survival { WS_SURVIVES, WS_LOST, WS_NOT_TRIED };
/** What is changed to see whether it survives. */
enum ws_proof_change {
    WS_PROOF_NEW_FOLDER,
    WS_PROOF_NEW_FILE,
    WS_PROOF_CHANGED, /**< one of the system's own files */
    WS_PROOF_DELETED, /**< another one of them */
    WS_PROOF_PROGRAM  /**< a program that runs afterwards */
};
/** One change and what became of it. */
struct ws_proof_item {
    enum ws_proof_change change;
    char what[64]; /**< the same in words: "new folder", "changed file", ... */
    char path[160];
    char sha256[65];          /**< expected content; empty for folders and deletions */
    unsigned round;           /**< the start in which it was made, from 1 */
    enum ws_survival console; /**< as the restarted system shows it */
    enum ws_survival drive;   /**< as our own reader finds it on the drive, between the starts */
    char found[65];           /**< hash found on the drive */
};

struct ws_proof_options {
    const char *confirm;      /**< must be the drive's short name: the system that starts writes to it */
    bool allow_external_disk; /**< an external hard drive or SSD is really meant */
    unsigned starts;          /**< at least 2; 0 means 2 */
    bool cut;                 /**< cut the power after `sync` instead of shutting down */
    double start_wait_s;      /**< how long a start may take; 0 means 180 */
    bool keep_traces;         /**< leave what the proof wrote on the drive */
    /** Who logs in where the started system asks for it, and may administer; NULL: nobody. */
    const char *account, *password;
    const char *passphrase; /**< opens what is locked, at each start and for looking at the drive; NULL: none. What is
                               typed of these is neither kept nor told: the console falls silent up to the next line */
    /** Called with what is being done and with console text as it comes; either may be NULL. */
    void (*on_step)(void *context, const char *step);
    void (*on_console)(void *context, const char *text, size_t length);
    void *context;
};

enum ws_verdict {
    WS_VERDICT_KEPT,    /**< all changes survived, on the console and on the drive */
    WS_VERDICT_LOST,    /**< at least one did not */
    WS_VERDICT_NO_START /**< the system did not come up, or gave no shell */
};
const char *ws_verdict_name(enum ws_verdict verdict); /**< "kept", "lost", "no-start" */

/** How the running system shows the disk inside the PC. */
enum ws_disk_seen {
    WS_DISK_NOT_ASKED,
    WS_DISK_UNSEEN,    /**< not at all: it has no driver, or it is kept away */
    WS_DISK_READ_ONLY, /**< it is there, and nobody can write to it */
    WS_DISK_WRITABLE,  /**< it is there, and not mounted */
    WS_DISK_MOUNTED
};
const char *ws_disk_seen_name(enum ws_disk_seen seen); /**< "not-asked", "unseen", "read-only", "writable", "mounted" */

struct ws_proof {
    enum ws_verdict verdict;
    enum ws_forgets cause;
    char text[1200];         /**< the verdict in a sentence, with the first cause if it is negative */
    char not_tried[120];     /**< changes for which this system has no file; empty: all were tried */
    char console_tail[2048]; /**< last lines of the console when there was no start */
    struct ws_proof_item item[WS_PROOF_ITEMS_MOST];
    size_t items;
    unsigned starts;                           /**< carried out */
    double seconds;                            /**< by the port's clock */
    bool has_disk;                             /**< the PC has one inside that can be looked at */
    bool disk_touched;                         /**< it was written to */
    enum ws_disk_seen disk_seen;               /**< in the first start */
    uint64_t evidence_added, evidence_changed; /**< entries that appeared or changed on the persistence volume */
};

/**
 * Carry out rounds of start, change, power off and start again.
 * @param pc    with the drive plugged in, switched off
 * @param port  opens the drive for reading between the starts
 * @return WS_OK with a verdict, also a negative one; WS_E_REFUSED if the drive may not be written, is not alone or not
 *         confirmed (it was not started from); another error only if the proof could not be carried out
 */
WS_CHECKED enum ws_status ws_prove(struct ws_port *port, struct ws_pc *pc, const char *drive_id,
                                   const struct ws_proof_options *options, struct ws_proof *proof,
                                   struct ws_error *error);

WS_END

#endif
