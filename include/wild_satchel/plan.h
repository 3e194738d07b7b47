/* plan.h — a request decided for one drive, before anything is written.
 *
 * A plan is what came of a request (request.h) on one drive: its volumes with their places, sizes and free bytes, what
 * was chosen and why, where it will start, and the fingerprint of every byte. ws_build_prepare() makes one. Saved, it
 * is a JSON document (docs/plan-format.md); to carry it out, everything is worked out again and must come to the same.
 */
#ifndef WILD_SATCHEL_PLAN_H
#define WILD_SATCHEL_PLAN_H

#include "wild_satchel/image.h"
#include "wild_satchel/port.h"
#include "wild_satchel/request.h"

WS_BEGIN

/** The drive a plan is for, as far as its bytes depend on it, and how it is known again. */
struct ws_plan_drive {
    char name[64]; /**< its short name */
    char model[64], serial[64];
    char seen_at[512]; /**< its id when the plan was made: a place to look, never an identity */
    uint64_t size;     /**< bytes */
    uint32_t sector;   /**< bytes */
    uint32_t erase;    /**< bytes it erases at once, for alignment; 0 unknown */
};
/** From what its port says. */
void ws_plan_drive_of(const struct ws_drive_facts *facts, struct ws_plan_drive *drive);

enum { WS_VOLUMES_MOST = 24 };
/** One volume where it will stand. */
struct ws_volume {
    enum ws_role role;
    char format[12];           /**< a word of the table of formats; empty: its bytes are an original's as they are */
    unsigned of;               /**< of a twin: the partition of the original that it was; 0: none */
    unsigned number;           /**< the partition that it is, or that holds its file */
    uint64_t at, size;         /**< bytes of the drive */
    uint64_t free_bytes;       /**< as the fresh volume will count them */
    uint32_t cluster;          /**< bytes, as asked; 0: usual */
    char label[WS_LABEL_ROOM]; /**< as its format holds it */
    bool locked;               /**< a passphrase opens it, see lock.h; its size counts the lock's header, too */
    enum ws_role inside;       /**< it is a file in that volume; WS_ROLE_DRIVE: a partition */
};

/** What holds for the whole drive. */
struct ws_plan_facts {
    struct ws_guid id;         /**< random; all other identifiers derive from it */
    int64_t made_at;           /**< seconds since 1970-01-01 UTC */
    enum ws_kind kind;         /**< as decided: none of WS_KIND_USUAL and WS_KIND_LIVE */
    char title[WS_TITLE_ROOM]; /**< the image's, or of a full system its own */
    char family[16];           /**< word of the live family; empty: none is known */
    enum ws_table_kind table;
    uint64_t align;                /**< bytes: every partition made here begins at a multiple of it */
    uint64_t image_end;            /**< bytes the image takes, laid down whole, with what was moved behind it */
    bool own_uefi;                 /**< UEFI firmware starts our program, not the image's */
    uint64_t write_bytes;          /**< what will be written */
    char fingerprint[WS_HASH_HEX]; /**< of the layout */
    char was[WS_HASH_HEX];         /**< of a renewal: the state of the volumes that are there; used since, they have
                                      another */
};

/** One change inside the image. */
struct ws_plan_edit {
    char path[1024];
    char what[640]; /**< in words */
    bool behind;    /**< moved to new sectors at the image's end */
};

/** One stretch of the finished drive, for drawings: whole partitions and what lies between. Together they are the whole
 *  drive, in ascending order, without gaps. */
struct ws_plan_part {
    char what[48]; /**< "live image", "image", the name of a role, "gap", "table", "free" */
    char label[WS_LABEL_ROOM];
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
struct ws_image;
/** On which PCs an image, or a drive as it is, starts.
 *  @param image   inspected; NULL: nothing that starts
 *  @param sector  bytes: of the drive */
void ws_outlook_of(const struct ws_image *image, uint32_t sector, struct ws_outlook outlook[WS_OUTLOOKS]);

struct ws_plan;
/** The image of a plan that was read is elsewhere now. It is still known by its digest; when it was last changed is
 * not.
 *  @return WS_E_RANGE for a path that is too long; WS_E_USAGE if the plan has none */
WS_CHECKED enum ws_status ws_plan_moved(struct ws_plan *plan, const char *path, struct ws_error *error);
void ws_plan_free(struct ws_plan *plan); /**< NULL is accepted */

/* All that these give belongs to the plan. */
const struct ws_request *ws_plan_request(const struct ws_plan *plan);
const struct ws_plan_drive *ws_plan_drive(const struct ws_plan *plan);
const struct ws_plan_facts *ws_plan_facts(const struct ws_plan *plan);
/** The live family, of the image or as described in the request; NULL if none is known. */
const struct ws_live_family *ws_plan_family(const struct ws_plan *plan);
/** In order of their places; one in a file follows the one that holds it. */
const struct ws_volume *ws_plan_volumes(const struct ws_plan *plan, size_t *count);
/** @return NULL if the drive has none for this */
const struct ws_volume *ws_plan_volume(const struct ws_plan *plan, enum ws_role role);
const struct ws_plan_edit *ws_plan_edits(const struct ws_plan *plan, size_t *count);
const struct ws_plan_part *ws_plan_parts(const struct ws_plan *plan, size_t *count);
const struct ws_plan_choice *ws_plan_choices(const struct ws_plan *plan, size_t *count);
/** Of a renewal: what becomes of what the drive holds. */
const struct ws_carried *ws_plan_carried(const struct ws_plan *plan, size_t *count);
const struct ws_outlook *ws_plan_outlooks(const struct ws_plan *plan); /**< WS_OUTLOOKS of them */
/** The outlook for one PC. */
const struct ws_outlook *ws_plan_outlook(const struct ws_plan *plan, const struct ws_pc_facts *pc);
const struct ws_findings *ws_plan_findings(const struct ws_plan *plan);
/** Is it a live system, whole or file by file? */
bool ws_plan_is_live(const struct ws_plan *plan);

/** Does it change what is on the drive, instead of replacing all of it: a renewal, or a twin brought up to date? */
bool ws_plan_is_change(const struct ws_plan *plan);

/** Which kind suits an image when the technician has not said; `why` (200 bytes) says so in words. */
enum ws_kind ws_plan_choose_kind(const struct ws_image *image, char *why, size_t room);

/** The plan as a JSON document; the text ends with a newline. @return WS_E_UNSUPPORTED for a path that is not UTF-8 */
WS_CHECKED enum ws_status ws_plan_to_json(const struct ws_plan *plan, struct ws_text *out, struct ws_error *error);
/** Read a document: unknown keys, wrong types and impossible values are errors that name the key; so is any other edit,
 *  by the document's own checksum. On success free the plan with ws_plan_free().
 *  @return WS_E_FORMAT, WS_E_UNSUPPORTED for another version of the format */
WS_CHECKED enum ws_status ws_plan_from_json(const char *text, size_t length, struct ws_plan **plan,
                                            struct ws_error *error);
/** @return WS_E_FORMAT naming the first result in `read` that does not follow from what it asks for, as `worked_out`
 *          has it */
WS_CHECKED enum ws_status ws_plan_same_results(const struct ws_plan *read, const struct ws_plan *worked_out,
                                               struct ws_error *error);

WS_END

#endif
