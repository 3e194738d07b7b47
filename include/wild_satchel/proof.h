/* proof.h — do saved changes survive a restart? Evidence from the drive and the console, and a verdict. */
#ifndef WILD_SATCHEL_PROOF_H
#define WILD_SATCHEL_PROOF_H

#include "wild_satchel/ext4.h"
#include "wild_satchel/live.h"
#include "wild_satchel/port.h"
#include "wild_satchel/snapshot.h"

WS_BEGIN

/** Why a drive does not remember; of several the first. Each is a link of the chain from the start menu to what is
 *  still there after the next start. */
enum ws_forgets {
    WS_FORGETS_NOT,       /**< everything needed is in place */
    WS_FORGETS_NO_SYSTEM, /**< no live system is on the drive, or none of a known family */
    WS_FORGETS_PARAMETER, /**< the start menu does not pass the parameter */
    WS_FORGETS_LABEL,     /**< no volume carries the agreed label */
    WS_FORGETS_VOLUME,    /**< the volume lacks its configuration or folders, or cannot be read */
    WS_FORGETS_NOT_CLEAN, /**< the volume carries recorded errors */
    WS_FORGETS_FULL,      /**< no room is left on it */
    WS_FORGETS_UNUSED,    /**< no system used the volume: it was not started from this drive, or did not look for it */
    WS_FORGETS_READ_ONLY, /**< a system used it without writing to it */
    WS_FORGETS_UNSAVED,   /**< it was written to, but none of what was done is there */
    WS_FORGETS_LATER,     /**< what was saved was gone after a later start */
    WS_FORGETS_UNSEEN,    /**< what was saved is on the drive, but the system that starts does not show it */
    WS_FORGETS_CAUSES
};
const char *ws_forgets_name(enum ws_forgets cause);
/** What a link of the chain is, in words: "the start menu passes the parameter". */
const char *ws_forgets_link(enum ws_forgets cause);

enum ws_link { WS_LINK_UNKNOWN, WS_LINK_HOLDS, WS_LINK_FAILS };
const char *ws_link_name(enum ws_link link); /**< "not-known", "holds", "fails" */

/** What a drive's memory looks like from outside, without starting it. */
struct ws_memory {
    const struct ws_live_family *family; /**< may point to own_family: a copy of this must settle it */
    struct ws_own_family own_family;     /**< as the drive describes it */
    bool system; /**< a full one: what it remembers is its own root volume, and there is no family */
    bool locked; /**< that volume is, and was not looked into */
    enum ws_forgets cause;
    enum ws_link link[WS_FORGETS_UNUSED]; /**< those that can be told without starting it, by enum ws_forgets */
    char cause_text[700];                 /**< a sentence with what to do, when cause is not WS_FORGETS_NOT */
    char parameters[1024];                /**< of the default entry */
    char wanted[512];                     /**< those of a live system that have to be among them */
    uint64_t volume_at, volume_size;
    bool in_file; /**< the volume lies in a file of another one */
    bool unread;  /**< it is of a kind that is not read here: whether it remembers is not known, and `cause_text` says
                     why */
    struct ws_ext4_facts volume;
};
/** @param sector  bytes: what the drive's table counts in */
WS_CHECKED enum ws_status ws_memory_look(const struct ws_source *drive, uint32_t sector, struct ws_memory *memory,
                                         struct ws_error *error);

enum { WS_PROOF_ITEMS_MOST = 64, WS_PROOF_ROUNDS_MOST = 32 };
enum ws_survival { WS_SURVIVES, WS_LOST, WS_NOT_TRIED };
/** What is changed to see whether it survives. */
enum ws_proof_change {
    WS_PROOF_NEW_FOLDER,
    WS_PROOF_NEW_FILE,
    WS_PROOF_CHANGED, /**< one of the system's own files */
    WS_PROOF_DELETED, /**< another one of them */
    WS_PROOF_PROGRAM, /**< a program that runs afterwards */
    WS_PROOF_CHANGES
};
const char *ws_proof_change_name(enum ws_proof_change change); /**< "new folder", "changed file", ... */
/** One change and what became of it. */
struct ws_proof_item {
    enum ws_proof_change change;
    char path[160];
    char sha256[65];          /**< expected content; empty for folders and deletions */
    unsigned round;           /**< in which it was made, from 1 */
    unsigned lost_in;         /**< after which it was gone; 0: it is there */
    enum ws_survival console; /**< as the restarted system shows it */
    enum ws_survival drive;   /**< as our own reader finds it on the drive, between the starts */
    char found[65];           /**< hash found on the drive */
};

enum ws_verdict {
    WS_VERDICT_KEPT,     /**< all changes survived */
    WS_VERDICT_LOST,     /**< at least one did not */
    WS_VERDICT_NO_START, /**< the system did not come up, or gave no shell; nothing shows that it was started */
    WS_VERDICT_OPEN      /**< no later start has shown it yet */
};
const char *ws_verdict_name(enum ws_verdict verdict); /**< "kept", "lost", "no-start", "open" */

/** What a round is, beside a start, changes, and a shutdown. */
enum ws_round_bit {
    WS_ROUND_CUT = 1,  /**< the power is cut while something is written */
    WS_ROUND_FULL = 2, /**< the volume is nearly full */
    WS_ROUND_IDLE = 4, /**< nothing is changed */
    WS_ROUND_CLOCK = 8 /**< the PC's clock is wrong */
};
enum { WS_ROUND_BITS = 4 };
/** "cut", "full", "idle", "clock" for bit 1, 2, 4, 8. */
const char *ws_round_bit_name(unsigned bit);

/** What a volume says of itself at a moment. */
struct ws_evidence {
    int64_t seen_at; /**< seconds since 1970-01-01 UTC, by the clock of who looked */
    uint32_t mounts;
    int64_t mounted_at, written_at; /**< by the clock of the PC that did */
    uint64_t written_bytes;         /**< ever */
    uint64_t size, free_bytes;
    uint32_t errors;     /**< recorded */
    bool needs_recovery; /**< it was not shut down */
    /** Ordinary volumes on the drive, and of those such whose own mark says that they were not ejected. */
    uint32_t data_volumes, data_in_use;
    uint32_t data_locked; /**< volumes beside those that were not looked into: what opens the drive opens them not */
};

/** One session with the drive, and what came of it. */
struct ws_round {
    char pc[64];
    unsigned asked; /**< enum ws_round_bit: as it was meant */
    unsigned shown; /**< as the drive shows that it was */
    bool by_hand;   /**< on a PC that nobody here saw */
    enum ws_verdict verdict;
    enum ws_forgets cause;
    char text[600];
    struct ws_evidence before, after;
    struct ws_told told;             /**< what it saved */
    struct ws_survived survived;     /**< of what was saved before it */
    uint8_t link[WS_FORGETS_CAUSES]; /**< enum ws_link, by enum ws_forgets */
};

/** How the running system shows the disk inside the PC. */
enum ws_disk_seen {
    WS_DISK_NOT_ASKED,
    WS_DISK_UNSEEN,    /**< not at all: it has no driver, or it is kept away */
    WS_DISK_READ_ONLY, /**< it is there, and nobody can write to it */
    WS_DISK_WRITABLE,  /**< it is there, and not mounted */
    WS_DISK_MOUNTED
};
const char *ws_disk_seen_name(enum ws_disk_seen seen); /**< "not-asked", "unseen", "read-only", "writable", "mounted" */

/** A proof: rounds, the evidence of each, and a verdict. It can be kept as a document between rounds, for days. Zero-
 *  initialise; free with ws_proof_free(). */
struct ws_proof {
    char drive[64], serial[64];        /**< the drive's name, and its serial number */
    uint64_t drive_size;               /**< bytes */
    char family[24];                   /**< the live family's word; "system" for a full one; empty: not looked yet */
    char volume_label[17], volume[40]; /**< of what remembers: label and UUID */
    int64_t volume_made_at, began;     /**< seconds since 1970-01-01 UTC */
    enum ws_verdict verdict;
    enum ws_forgets cause;
    char text[1200];         /**< the verdict in a sentence, with the first cause if it is negative */
    char not_tried[120];     /**< changes for which this system has no file; empty: all were tried */
    char console_tail[2048]; /**< last lines of the console when there was no start */
    struct ws_proof_item item[WS_PROOF_ITEMS_MOST];
    size_t items;
    struct ws_round round[WS_PROOF_ROUNDS_MOST];
    size_t rounds;
    unsigned starts;             /**< that the library carried out itself */
    double seconds;              /**< they took, by the port's clock */
    bool has_disk;               /**< the PC has one inside that can be looked at */
    bool disk_touched;           /**< it was written to */
    enum ws_disk_seen disk_seen; /**< in the first start */
    /** The snapshots are all that the system sees; else what differs from its image, which cannot be read here. */
    bool whole;
    struct ws_snapshot first, last; /**< before the first round, and after the last one */
    struct ws_evidence seen;        /**< with the latter */
};
void ws_proof_free(struct ws_proof *proof);

/* A proof on PCs that nobody but the technician sees: the evidence is the drive's.
 *
 *     ws_proof_begin(drive, &facts, NULL, now, &proof, &error);   // before it is taken to a PC
 *     ...                                                          // started there, something changed, shut down
 *     ws_proof_return(&proof, drive, &facts, &how, now, &error);  // a round; its verdict comes with the next
 */

/**
 * Look at a drive before its first round. Nothing is written.
 * @param passphrase  of what is locked; NULL: none
 * @param now         seconds since 1970-01-01 UTC
 * @return WS_E_DIFFERENT, with the cause in proof->cause and proof->text, for one that will forget, as can be seen
 *         without starting it; WS_E_USAGE for a locked one without its passphrase
 */
WS_CHECKED enum ws_status ws_proof_begin(const struct ws_source *drive, const struct ws_drive_facts *facts,
                                         const char *passphrase, int64_t now, struct ws_proof *proof,
                                         struct ws_error *error);
/** What is known of a session that nobody here saw. */
struct ws_return {
    const char *pc;         /**< what to call that PC; NULL: "a PC" */
    const char *passphrase; /**< NULL: none */
    bool was_seen_missing;  /**< what earlier sessions saved was looked for on the screen, and not there */
};
/**
 * It is back from a session: a round is added, and those before it get their verdicts.
 * @return WS_E_DIFFERENT if it is another drive than the proof's, or its volume was made anew; WS_E_RANGE for more than
 *         WS_PROOF_ROUNDS_MOST rounds
 */
WS_CHECKED enum ws_status ws_proof_return(struct ws_proof *proof, const struct ws_source *drive,
                                          const struct ws_drive_facts *facts, const struct ws_return *how, int64_t now,
                                          struct ws_error *error);
/** Its document (docs/proof-format.md), added to `out`; with the snapshots a further round can be added to it, without
 * them it is shorter. */
WS_CHECKED enum ws_status ws_proof_write(const struct ws_proof *proof, bool snapshots, struct ws_text *out,
                                         struct ws_error *error);
/** @return WS_E_FORMAT, WS_E_UNSUPPORTED naming what is wrong; the proof is empty then */
WS_CHECKED enum ws_status ws_proof_read(const char *text, size_t length, struct ws_proof *proof,
                                        struct ws_error *error);

/* A proof that the library carries out itself. */

struct ws_proof_options {
    const char *confirm;      /**< must be the drive's short name: the system that starts writes to it */
    bool allow_external_disk; /**< an external hard drive or SSD is really meant */
    const unsigned *round;    /**< what each round is, enum ws_round_bit; a start more than rounds is carried out */
    size_t rounds;            /**< 0: one, with changes and a shutdown */
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
/**
 * Carry out rounds of start, change, power off and start again.
 * @param pc     with the drive plugged in, switched off; start after start is on the next of them
 * @param port   opens the drive for reading between the starts
 * @param proof  zeroed, or one of this drive with earlier rounds
 * @return WS_OK with a verdict, also a negative one; WS_E_REFUSED if the drive may not be written, is not alone or not
 *         confirmed (it was not started from); another error only if the proof could not be carried out
 */
WS_CHECKED enum ws_status ws_prove(struct ws_port *port, struct ws_pc *const pc[], size_t pcs, const char *drive_id,
                                   const struct ws_proof_options *options, struct ws_proof *proof,
                                   struct ws_error *error);

WS_END

#endif
