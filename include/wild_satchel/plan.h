/* plan.h — the whole drive decided, before anything is written.
 *
 * A plan is what the technician asked for (image, drive, kind, sizes) together with what follows from it. It is saved
 * as a JSON document (docs/plan-format.md); loading one works everything out again and refuses a document whose
 * results do not follow from its requests.
 */
#ifndef WILD_SATCHEL_PLAN_H
#define WILD_SATCHEL_PLAN_H

#include "wild_satchel/ext4.h"
#include "wild_satchel/image.h"
#include "wild_satchel/port.h"
#include "wild_satchel/rules.h"
#include "wild_satchel/start.h"

enum ws_plan_kind {
    WS_PLAN_REPLICA, /**< the image, byte for byte */
    WS_PLAN_LIVE     /**< a live system that remembers in a partition behind the image */
};

/** How a live system lies on the drive. */
enum ws_arrangement {
    WS_ARRANGE_WHOLE, /**< the image as it is, its menus edited inside it */
    WS_ARRANGE_FILES  /**< its files on an ordinary FAT32 volume */
};

/** Whose program UEFI firmware starts, laid down file by file. */
enum ws_uefi_code {
    WS_UEFI_CODE_AUTO,  /**< the image's own where it brings a signed one for x86-64, else ours */
    WS_UEFI_CODE_IMAGE, /**< the image's own: signed, where it is */
    WS_UEFI_CODE_OWN    /**< ours, which is not signed: Secure Boot must be off */
};
enum { WS_MENU_SECONDS_MOST = 3600 };

/** Where a live system's changes go. */
enum ws_persistence_place {
    WS_PERSIST_PARTITION, /**< an ext4 partition behind the system */
    WS_PERSIST_FILE,      /**< an overlay file on a FAT32 volume */
    WS_PERSIST_NONE       /**< nowhere: the system forgets at power-off; WS_ARRANGE_FILES */
};

/** One change inside the image. */
struct ws_plan_edit {
    char path[1024];
    char what[640]; /**< in words */
    bool behind;    /**< moved to new sectors at the image's end */
};
enum { WS_PLAN_EDITS_MOST = 32, WS_PLAN_PARTS_MOST = 16, WS_PLAN_CHOICES_MOST = 12 };

/** One stretch of the finished drive, for drawings: whole partitions and what lies between. Together they are the whole
 *  drive, in ascending order, without gaps. */
struct ws_plan_part {
    char what[48]; /**< "live image", "persistence", "data", "swap", "gap", "table", "free" */
    char label[40];
    unsigned number; /**< partition, 0 if it is none */
    uint64_t at, length;
};

/** Something decided for the technician, and why. */
struct ws_plan_choice {
    char what[24], choice[160], why[480];
};

/** Will the finished drive start on a kind of PC? */
struct ws_outlook {
    enum ws_firmware firmware;
    bool secure_boot;
    bool starts;
    char why[480];
};
enum { WS_OUTLOOKS = 3 }; /**< BIOS, UEFI, UEFI with Secure Boot on */

/** Asked sizes: so many bytes, or all that is left. */
#define WS_PLAN_REST UINT64_MAX

struct ws_plan {
    /* asked for */
    enum ws_plan_kind kind;
    char image_path[1024];
    uint64_t image_size;
    char image_sha256[WS_HASH_HEX];
    int64_t image_touched_at; /**< when its file was last changed, in milliseconds since 1970, as the caller saw it; 0
                                 unknown */
    char drive_name[64];      /**< the drive's short name */
    char drive_model[64], drive_serial[64];
    char drive_seen_at[512]; /**< its id when the plan was made: a place to look, never an identity */
    uint64_t drive_size;
    uint32_t drive_sector;
    uint32_t drive_erase; /**< bytes the drive erases at once, for alignment; 0 unknown */
    enum ws_arrangement arrangement;
    bool system_exfat;     /**< WS_ARRANGE_FILES: on exFAT, and our UEFI program on a small FAT32 volume behind it */
    uint64_t system_asked; /**< bytes of the volume for the system's files, WS_ARRANGE_FILES; 0: what they need */
    uint64_t persistence_asked; /**< bytes; 0: all that is free */
    enum ws_persistence_place persistence_place;
    char overlay_from[1024];          /**< WS_PERSIST_FILE: a ready-made volume to put there; empty: a fresh one */
    char overlay_sha256[WS_HASH_HEX]; /**< its bytes', unpacked */
    const struct ws_source
        *overlay; /**< borrowed: set by the caller before the plan is worked out; NULL: a fresh one */
    struct ws_own_family
        own_family;              /**< described by the user, WS_ARRANGE_FILES; goes before what the image seems to be */
    struct ws_rules rules;       /**< WS_ARRANGE_FILES */
    uint64_t data_asked;         /**< bytes of an ordinary FAT32 partition; 0: none; WS_PLAN_REST */
    uint32_t data_cluster;       /**< bytes; 0: usual for the size */
    char data_label[12];         /**< as FAT takes it, see ws_label_normalise() */
    uint64_t swap_asked;         /**< bytes of a swap partition; 0: none */
    bool table_gpt;              /**< WS_ARRANGE_FILES: a GPT also where an MBR would do */
    enum ws_uefi_code uefi_code; /**< WS_ARRANGE_FILES */
    enum ws_check_at_start check; /**< WS_ARRANGE_FILES, where our code starts it */
    unsigned menu_seconds;        /**< our menu waits so long, 0 to WS_MENU_SECONDS_MOST */
    struct ws_guid id;            /**< random; all other identifiers derive from it */
    int64_t made_at;              /**< seconds since 1970-01-01 UTC */
    /* following from it */
    char image_title[40];
    const struct ws_live_family *family;
    enum ws_table_kind table;
    uint32_t align;                  /**< bytes: every partition made here begins at a multiple of it */
    uint64_t image_end;              /**< bytes the image takes on the drive, appended files included */
    uint64_t system_at, system_size; /**< the volume with the system's files, WS_ARRANGE_FILES */
    unsigned system_number;
    uint64_t start_at, start_size; /**< the small volume with our UEFI program; 0: it is among the files */
    unsigned start_number;
    uint64_t system_free;                      /**< bytes of free clusters on it */
    uint64_t persistence_at, persistence_size; /**< of the ext4 volume, in a file or not */
    unsigned persistence_number;               /**< the partition that it is, or that holds the file */
    uint64_t persistence_free;                 /**< bytes statfs will report */
    uint64_t data_at, data_size;
    unsigned data_number;
    uint64_t data_free; /**< bytes of free clusters on the fresh volume */
    uint64_t swap_at, swap_size;
    unsigned swap_number;
    bool own_uefi; /**< WS_ARRANGE_FILES: UEFI firmware starts our program, not the image's */
    uint64_t bytes_written;
    struct ws_plan_edit edit[WS_PLAN_EDITS_MOST];
    size_t edits;
    struct ws_plan_part part[WS_PLAN_PARTS_MOST];
    size_t parts;
    struct ws_plan_choice choice[WS_PLAN_CHOICES_MOST];
    size_t choices;
    struct ws_outlook outlook[WS_OUTLOOKS];
    char fingerprint[WS_HASH_HEX]; /**< of the layout */
    struct ws_findings findings;
};

void ws_plan_free(struct ws_plan *plan);
const char *ws_plan_kind_name(enum ws_plan_kind kind);                  /**< "replica", "live" */
const char *ws_uefi_code_name(enum ws_uefi_code code);                  /**< "auto", "image", "own" */
const char *ws_persistence_place_name(enum ws_persistence_place place); /**< "partition", "file", "none" */
const char *ws_arrangement_name(enum ws_arrangement arrangement);       /**< "whole", "files" */

/** Which kind suits an image when the technician has not said; `why` (200 bytes) says so in words. */
enum ws_plan_kind ws_plan_choose_kind(const struct ws_image *image, char *why, size_t room);
/** Note a decision; silently dropped when the list is full. */
void ws_plan_chose(struct ws_plan *plan, const char *what, const char *choice, const char *why, ...) WS_PRINTF(4, 5);

/** Fill the outlooks: where a drive with this image laid down whole will start, and why (not). */
void ws_plan_look_out(struct ws_plan *plan, const struct ws_image *image);
/** The outlook for one PC. */
const struct ws_outlook *ws_plan_outlook(const struct ws_plan *plan, const struct ws_pc_facts *pc);

/** The plan as a JSON document; the text ends with a newline. */
enum ws_status ws_plan_to_json(const struct ws_plan *plan, struct ws_text *out, struct ws_error *error);
/** Read a document: unknown keys, wrong types and impossible values are errors that name the key; so is any other edit,
 *  by the document's own checksum. On success free the plan with ws_plan_free().
 *  @return WS_E_FORMAT, WS_E_UNSUPPORTED for a newer version of the format */
enum ws_status ws_plan_from_json(const char *text, size_t length, struct ws_plan *plan, struct ws_error *error);
/** Take over what was found when a plan was made and cannot be found again from its image: what a trial said of the
 *  drive, for one. `read` is the document as it was read. */
void ws_plan_take_findings(struct ws_plan *plan, const struct ws_plan *read);
/** @return WS_E_FORMAT naming the first result in `read` that does not follow from what it asks for, as `worked_out`
 *          has it */
enum ws_status ws_plan_same_results(const struct ws_plan *read, const struct ws_plan *worked_out,
                                    struct ws_error *error);

#endif
