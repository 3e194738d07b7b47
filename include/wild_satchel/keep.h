/* keep.h — care of what a drive remembers: looked at, cleaned, reset, saved and put back, without starting it.
 *
 *     ws_kept_open(drive, sector, NULL, &kept, &error);           // nothing is written
 *     ws_kept_reset(kept, except, count, &error);                 // or clean, or put: an edit in memory
 *     ws_kept_prepare(kept, now, &error);                         // worked out to the last block
 *     ws_kept_carry_out(kept, port, drive, &options, &result, &error);
 *
 * What is changed goes through the log of change.h: a cut at any moment leaves the drive as it was, or to be finished
 * by ws_change_finish().
 */
#ifndef WILD_SATCHEL_KEEP_H
#define WILD_SATCHEL_KEEP_H

#include "wild_satchel/archive.h"
#include "wild_satchel/build.h"
#include "wild_satchel/change.h"
#include "wild_satchel/journal.h"
#include "wild_satchel/proof.h"
#include "wild_satchel/twin.h"

WS_BEGIN

struct ws_kept;
/**
 * Open what a drive remembers: the volume or overlay file of a live system, the root of a full one. Changes that stand
 * in its journal alone are seen.
 * @param drive       borrowed, as long as it is open
 * @param sector      bytes: what the drive's table counts in
 * @param passphrase  of what is locked; NULL: none
 * @return WS_E_NOTFOUND if it remembers nothing, with the cause; WS_E_USAGE for a locked one without its passphrase;
 *         what ws_ext4_read() and ws_lock_open() say
 */
WS_CHECKED enum ws_status ws_kept_open(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                                       struct ws_kept **kept, struct ws_error *error);
/** The same of a drive with unreadable places or a damaged volume, for saving what is left: what cannot be read is left
 *  out, or reads as zeros, and is told by ws_kept_lost(). Nothing but saving goes with it. Where the system on it
 * cannot be read either, the volume is found by its label.
 *  @return WS_E_NOTFOUND if no volume that remembers can be found any more */
WS_CHECKED enum ws_status ws_kept_open_damaged(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                                               struct ws_kept **kept, struct ws_error *error);
/** What is lost of a drive so opened: names at once, contents as they were saved. */
const struct ws_findings *ws_kept_lost(const struct ws_kept *kept);
void ws_kept_close(struct ws_kept *kept); /**< NULL is accepted */
const struct ws_memory *ws_kept_memory(const struct ws_kept *kept);
const struct ws_ext4_facts *ws_kept_facts(const struct ws_kept *kept);
/** All of the volume. */
const struct ws_tree *ws_kept_tree(const struct ws_kept *kept);
/** The folder in which changes to "/" appear; NULL: the system has not started yet. */
const struct ws_node *ws_kept_top(const struct ws_kept *kept);

enum { WS_KEPT_THINGS = 12 };
struct ws_kept_thing {
    char path[256]; /**< as the running system has it */
    uint64_t bytes, files;
};
struct ws_kept_report {
    uint64_t size, free_bytes;             /**< bytes of the volume */
    uint64_t bytes, files, folders, links; /**< that are remembered */
    uint64_t taken_away;                   /**< names of the image that the system deleted */
    struct ws_kept_thing folder[WS_KEPT_THINGS], file[WS_KEPT_THINGS]; /**< the largest, in descending order */
    size_t folder_count, file_count;
    /** Files that were there before its last session, and were written to in it: the largest, and all of them. What is
     *  written again each time wears the flash and costs no room. */
    struct ws_kept_thing again[WS_KEPT_THINGS];
    size_t again_count;
    uint64_t again_files, again_bytes;
    struct ws_left_out cleanable[WS_LEAVES]; /**< what ws_kept_clean() would take, by enum ws_leave */
    unsigned starts;                         /**< how often it was mounted */
    int64_t since, last;    /**< made, and written to last: seconds since 1970-01-01 UTC; 0 if not told */
    uint64_t flash_written; /**< bytes ever written to the volume, as it counts them itself */
    /** Bytes that a start adds, over all so far, from the third start on: of live systems, which begin with nothing,
     * and of full ones by what was made since they were laid down, where most of what they hold was laid down at once;
     * else 0. */
    uint64_t a_start;
    struct ws_journal_start noted[WS_JOURNAL_STARTS]; /**< by its start journal, the last one last */
    size_t noted_count;
    bool journal;         /**< it has one */
    uint64_t starts_left; /**< until it is full, at that pace; 0 where that is not known */
};
void ws_kept_look(const struct ws_kept *kept, struct ws_kept_report *report);

/** Take out what a system can do without: bit N of `which` for enum ws_leave N; of kernels none goes. */
WS_CHECKED enum ws_status ws_kept_clean(struct ws_kept *kept, uint32_t which, struct ws_left_out tally[WS_LEAVES],
                                        struct ws_error *error);
/** Fresh again: a live system starts as from its image; what the family wants on the volume stays.
 *  @param except  paths as the running system has them, which stay with all below them
 *  @return WS_E_UNSUPPORTED for a full system; WS_E_NOTFOUND for a path that is not remembered */
WS_CHECKED enum ws_status ws_kept_reset(struct ws_kept *kept, const char *const except[], size_t count,
                                        struct ws_error *error);

/** Lay the start journal (journal.h) into what is remembered, or take it away.
 *  @return WS_E_UNSUPPORTED where the system cannot be told what to do at a start, or its image is not read here;
 *          WS_E_NOTFOUND if there is none to take away */
WS_CHECKED enum ws_status ws_kept_journal(struct ws_kept *kept, bool on, int64_t now, struct ws_error *error);

/** The smallest and the largest that its volume can be on this drive: from what it holds, and up to what stands behind
 *  it. Both what it has where it cannot be of another size.
 *  @return WS_E_UNSUPPORTED, saying why it cannot: in a file, inside an extended partition, or its lock is of a length
 * of its own */
WS_CHECKED enum ws_status ws_kept_bounds(const struct ws_kept *kept, uint64_t *least, uint64_t *most,
                                         struct ws_error *error);
/** Another size for the volume and its partition: into the free space behind it, or leaving free space there. What
 *  stands behind the new end is moved. No other edit goes with it.
 *  @param size  bytes, rounded down to whole MiB. @return as ws_kept_bounds(); WS_E_RANGE outside of those */
WS_CHECKED enum ws_status ws_kept_resize(struct ws_kept *kept, uint64_t size, struct ws_error *error);

/** What stands beside the volume that remembers and can give room to it: behind it, or in front of it. */
struct ws_neighbour {
    uint64_t most;              /**< bytes: how large that volume could be then */
    uint64_t swap;              /**< bytes of swap areas behind it, which move on; what is in them does not */
    uint64_t at;                /**< byte of the drive at which the data volume begins; 0: there is none that gives */
    uint64_t size, free_bytes;  /**< of that */
    char label[48], format[12]; /**< likewise: "fat32", "exfat", "ext4" */
    bool in_front;              /**< it stands before the volume that remembers, and loses its end */
};
/** @param size  bytes that are wanted: what stands behind is preferred where it can give as much; 0: whatever gives
 * most
 *  @return WS_E_UNSUPPORTED if nothing can be taken, with the cause; as ws_kept_bounds(), ws_make_room() */
WS_CHECKED enum ws_status ws_kept_neighbour(struct ws_kept *kept, uint64_t size, struct ws_neighbour *neighbour,
                                            struct ws_error *error);
/** Another size for the volume, into the free space and into its neighbour: one behind it begins later then, one in
 * front of it ends sooner, and its files move out of the way. The FAT or exFAT volume with a live system's own files
 * gives what is free at its end, and no file of it moves. No other edit goes with it.
 *  @param size   bytes, rounded down to whole MiB
 *  @param after  out: the neighbour as it will be; `at` 0: it is left alone
 *  @return as ws_kept_neighbour(); WS_E_RANGE for more than its `most` */
WS_CHECKED enum ws_status ws_kept_grow_into(struct ws_kept *kept, uint64_t size, struct ws_neighbour *after,
                                            struct ws_error *error);

/** What is remembered, in another place of the drive. */
struct ws_moving {
    bool into_file;
    bool stays;                    /**< its bytes stay where they are, and the data volume begins behind them then */
    uint64_t at, size;             /**< bytes of the drive: where the volume that remembers is then */
    uint64_t most;                 /**< bytes that could be, where it would be copied to */
    char name[64];                 /**< of the file */
    uint64_t data_size, data_free; /**< bytes: of the data volume then, which gets the file or loses it */
    char data_label[48], data_format[12];
};
/** Move a live system's memory from its partition into a file of a FAT or exFAT volume, or out of that into a partition
 * of its own: into the drive's free room, or, where there is none, to where the file lies, behind which its volume
 * begins then. What is remembered stays as it is, to the last attribute. No other edit goes with it.
 *  @param size  bytes, rounded down to whole MiB; 0: as it is
 *  @return WS_E_USAGE if it is in such a place already; WS_E_UNSUPPORTED for a full system, what is locked, and where
 *          the start menu would have to say something else; WS_E_REFUSED if a file of its name is there;
 *          WS_E_SPACE where there is no room, with what there is; as ws_make_room() */
WS_CHECKED enum ws_status ws_kept_move(struct ws_kept *kept, bool into_file, uint64_t size, struct ws_moving *told,
                                       struct ws_error *error);

/** What of that which is remembered stays when a newer image is laid under it. */
enum ws_stays {
    WS_STAYS_ALL,
    WS_STAYS_HOME,   /**< people's files: /home, /root */
    WS_STAYS_NOTHING /**< as fresh */
};
enum { WS_HIDDEN_EXAMPLES = 6 };
/** What is told before a live system is renewed. */
struct ws_live_renewal {
    char was[160], is[160];          /**< what the system calls itself; empty: it does not */
    char was_kernel[96], kernel[96]; /**< of the root, the newest; empty: not known */
    char packages[24];               /**< whose list of installed packages is remembered: "dpkg"; empty: none is */
    bool packages_differ;            /**< and the newer image has another list */
    uint64_t hides;                  /**< files that are remembered and would hide newer ones of the image */
    char hidden[WS_HIDDEN_EXAMPLES][160];
    size_t hidden_count;
    uint64_t
        moves; /**< bytes by which the volume that remembers begins later, and is smaller, for the image is larger */
    struct ws_neighbour gives; /**< the data volume that loses its front to it, as it will be; `at` 0: none does */
    /** Of a drive that was laid down file by file: files that others put on the volume of its files, which stay; and
     *  files of the older image that were changed since, in whose place the newer one's come. */
    uint64_t others, others_bytes, replaced;
    char others_path[WS_HIDDEN_EXAMPLES][160], replaced_path[WS_HIDDEN_EXAMPLES][160];
    size_t others_paths, replaced_paths;
    bool unlisted;    /**< it does not say what was laid down: all stays that the newer image does not bring */
    bool older;       /**< it comes before the image on the drive, by its kernel, or by the number in its name */
    bool same;        /**< the image on the drive is this one, as far as its files tell */
    uint64_t differs; /**< bytes that are to be written over older ones */
};
/**
 * A newer image of the same live system laid under what is remembered: menus edited anew, the other volumes where they
 * are. What differs goes through the log, which takes as much free room: on the volume that remembers, behind all, or
 * on ordinary volumes that were unmounted. Of a drive laid down file by file the volume of its files is laid down anew
 * in its place, as the drive itself says it was asked for (docs/laid-format.md); what others put on it stays.
 * @param setting  of this drive, with the image as its input; see ws_build_setting_begin()
 * @param path     of the image, for messages
 * @return WS_E_UNSUPPORTED for a full system (that is renewed by a plan), another live family, or an arrangement of the
 *         drive that is none of this library's; WS_E_SPACE if the image reaches farther than what stands behind the
 *         old one can begin: the volume that remembers, or a data volume, as ws_make_room(); WS_E_REFUSED if the
 *         image brings a file of the name of another's; what ws_build_prepare() says
 */
WS_CHECKED enum ws_status ws_kept_renew(struct ws_kept *kept, const struct ws_build_setting *setting, const char *path,
                                        enum ws_stays stays, struct ws_live_renewal *told, struct ws_error *error);

/** What a saved state says of itself (docs/kept-format.md). */
struct ws_saved_facts {
    char family[24]; /**< "system" for a full one */
    bool whole;      /**< all of the volume, arranged as on it; else the changes to "/" */
    char label[17], volume[40];
    int64_t saved_at;
    uint64_t files, bytes, left_out; /**< sockets are */
    uint64_t lost;                   /**< findings of what could not be saved, listed in the archive as lost.txt */
    char sha256[WS_HASH_HEX];        /**< over all names, attributes and contents */
};
/** Save what is remembered: a tar archive (POSIX.1-2001 pax, with extended attributes, holes, devices and second
 * names), compressed by zstd (RFC 8878). The volume is not touched.
 *  @param on_progress  may be NULL
 *  @return WS_E_CANCELLED if it wants to stop; WS_E_NOTFOUND if there is nothing yet; WS_E_RANGE for a path of over
 * 4,094 bytes, which no archive could give back
 */
WS_CHECKED enum ws_status ws_kept_save(struct ws_kept *kept, struct ws_port *port, ws_archive_sink sink, void *context,
                                       ws_progress_call on_progress, void *progress_context,
                                       struct ws_saved_facts *facts, struct ws_error *error);

struct ws_saved;
/** Read a saved state, and compare it with its digest.
 *  @param archive  borrowed
 *  @param store    takes all contents, see archive.h; NULL: they are held
 *  @return WS_E_FORMAT if it is none, or damaged; WS_E_DIFFERENT if the digest is another */
WS_CHECKED enum ws_status ws_saved_open(const struct ws_source *archive, const struct ws_archive_store *store,
                                        struct ws_saved **saved, struct ws_error *error);
void ws_saved_close(struct ws_saved *saved); /**< NULL is accepted */
const struct ws_saved_facts *ws_saved_facts(const struct ws_saved *saved);
/** Put a saved state in the place of what is remembered. It outlives `kept`.
 *  @return WS_E_UNSUPPORTED where it does not fit in kind: a full system's goes to that very system alone, one arranged
 *          as on its volume to the same family */
WS_CHECKED enum ws_status ws_kept_put(struct ws_kept *kept, struct ws_saved *saved, struct ws_error *error);

/** What carrying an edit out takes. */
struct ws_kept_cost {
    uint64_t written;    /**< bytes, the log among them */
    uint64_t free_after; /**< bytes on the volume */
};
/** Work an edit out, once.
 *  @param now   seconds since 1970-01-01 UTC
 *  @param cost  out; may be NULL
 *  @return WS_E_SPACE if both states have no room beside each other, or the log has none; WS_E_UNSUPPORTED for a volume
 *          that was not made here; WS_E_DIFFERENT if what was worked out would not hold all that it is to, read back
 *          before anything is written: a mistake of this library's */
WS_CHECKED enum ws_status ws_kept_prepare(struct ws_kept *kept, int64_t now, struct ws_kept_cost *cost,
                                          struct ws_error *error);
/** After WS_E_SPACE: would the state that was put fit if the volume held nothing else? Then a reset makes room for it.
 */
bool ws_kept_fits_alone(struct ws_kept *kept);
/** As it will be written. */
const struct ws_layout *ws_kept_layout(const struct ws_kept *kept);

struct ws_kept_options {
    const char *confirm; /**< the drive's name */
    bool allow_external_disk;
    ws_progress_call on_progress; /**< may be NULL */
    void *context;
};
/** @return WS_E_REFUSED if the drive may not be written, was not confirmed, or was used since it was opened; what
 *          ws_change() says */
WS_CHECKED enum ws_status ws_kept_carry_out(struct ws_kept *kept, struct ws_port *port, struct ws_drive *drive,
                                            const struct ws_kept_options *options, struct ws_write_result *result,
                                            struct ws_error *error);

WS_END

#endif
