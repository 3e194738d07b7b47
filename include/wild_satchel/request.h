/* request.h — what is asked for, and nothing else: one request serves any number of drives.
 *
 * A request is plain data: it can be copied, holds no pointer, and says nothing about one drive. Zeroed and begun with
 * ws_request_begin() it asks for what is usual; each wish is set in its own field. ws_build_prepare() makes a plan of
 * it for one drive. Saved, it is a JSON document of its own (docs/plan-format.md).
 */
#ifndef WILD_SATCHEL_REQUEST_H
#define WILD_SATCHEL_REQUEST_H

#include "wild_satchel/label.h"
#include "wild_satchel/live.h"
#include "wild_satchel/owner.h"
#include "wild_satchel/pieces.h"
#include "wild_satchel/renew.h"
#include "wild_satchel/rules.h"
#include "wild_satchel/start.h"
#include "wild_satchel/twin.h"

WS_BEGIN

/** What kind of drive it is to be. */
enum ws_kind {
    WS_KIND_USUAL,      /**< what suits the image; a plan says which, and why */
    WS_KIND_LIVE,       /**< a live system that remembers, laid down as suits the image */
    WS_KIND_LIVE_WHOLE, /**< the image as it is, its menus edited inside it, volumes behind it */
    WS_KIND_LIVE_FILES, /**< its files on an ordinary volume */
    WS_KIND_REPLICA,    /**< the image, byte for byte */
    WS_KIND_SYSTEM,     /**< a full system, made from its root file system */
    WS_KIND_BLANK,      /**< an ordinary drive: one volume, nothing left of what stood there */
    WS_KIND_TWIN,       /**< an existing drive carried over, its volumes laid down anew, see twin.h */
    WS_KIND_RENEWAL,    /**< a newer system in the place of the full system that is on the drive, see renew.h */
    WS_KINDS
};
/** "usual", "live", "live-whole", "live-files", "replica", "system", "blank", "twin", "renewal" */
const char *ws_kind_name(enum ws_kind kind);
/** Is a full system on the drive afterwards? */
bool ws_kind_is_system(enum ws_kind kind);

/** What a volume is for; also the part of a layout that its bytes belong to, 0 being the drive's own. */
enum ws_role {
    WS_ROLE_DRIVE,       /**< no volume: table, start-up code, gaps */
    WS_ROLE_SYSTEM,      /**< the image's bytes, or its files */
    WS_ROLE_START,       /**< a small volume that firmware reads */
    WS_ROLE_PERSISTENCE, /**< what the live system remembers */
    WS_ROLE_DATA,        /**< an ordinary volume for people's files */
    WS_ROLE_SWAP,
    WS_ROLE_BOOT, /**< kernels of a full system whose root is locked: what starts it cannot open that */
    WS_ROLES
};
/** Parts that its use changes on a kind of drive, for ws_check_options::leave_out: persistence, data, swap; and the
 * volume of a full system. */
uint32_t ws_roles_in_use(enum ws_kind kind);
/** "drive", "system", "start", "persistence", "data", "swap", "boot" */
const char *ws_role_name(enum ws_role role);

/** How large something is to be. */
enum ws_size_kind {
    WS_SIZE_USUAL, /**< as its recipe has it */
    WS_SIZE_LEAST, /**< as small as can be */
    WS_SIZE_BYTES, /**< so many bytes, rounded up to the alignment */
    WS_SIZE_REST,  /**< all that the others leave; one volume alone */
    WS_SIZE_NONE,  /**< not at all */
    WS_SIZE_PART,  /**< a part of the drive, whichever that will be */
    WS_SIZE_KINDS
};
struct ws_size {
    enum ws_size_kind kind;
    uint64_t bytes; /**< WS_SIZE_BYTES; of WS_SIZE_PART hundredths of a percent, 1 to 10,000 */
};
struct ws_size ws_size_of(uint64_t bytes); /**< so many bytes */
/** As a technician types it: what ws_size_parse() reads, "50%" (of the drive), "rest", or "none".
 *  @return WS_E_USAGE */
WS_CHECKED enum ws_status ws_size_read(const char *text, struct ws_size *size, struct ws_error *error);

/** Where a volume stands. */
enum ws_place {
    WS_PLACE_USUAL,
    WS_PLACE_PARTITION, /**< a partition of its own */
    WS_PLACE_FILE,      /**< a file inside another volume: where the live family looks for it; of a full system
                           WS_INSIDE_FILE (system.h) on the data volume */
    WS_PLACES
};
const char *ws_place_name(enum ws_place place); /**< "usual", "partition", "file" */

/** One volume that is wanted other than usual. */
struct ws_wanted {
    enum ws_role role;
    struct ws_size size;
    char format[12];           /**< a word of the table of formats; empty: usual */
    uint32_t cluster;          /**< bytes; 0: usual for the size */
    char label[WS_LABEL_ROOM]; /**< as people say it, made to fit its format; empty: usual */
    enum ws_place place;       /**< WS_ROLE_PERSISTENCE; WS_ROLE_SYSTEM in WS_KIND_SYSTEM */
    bool locked;               /**< a passphrase opens it, see lock.h: WS_ROLE_SYSTEM in WS_KIND_SYSTEM, else
                                  WS_ROLE_PERSISTENCE */
    bool grows;                /**< WS_ROLE_SYSTEM in WS_KIND_SYSTEM: it is the last volume, and at each start takes
                                  the room of a drive that is larger than this one, to which it was copied */
};

/** What it is made from. */
enum ws_input_use {
    WS_INPUT_IMAGE,
    WS_INPUT_OVERLAY, /**< a ready-made volume for the overlay file, unpacked */
    WS_INPUTS
};
const char *ws_input_name(enum ws_input_use use); /**< "image", "overlay" */
struct ws_input {
    char path[4096];          /**< where it was found: a place to look; empty: none */
    uint64_t size;            /**< bytes */
    char sha256[WS_HASH_HEX]; /**< of all of them (of a twin's original: its state, see twin.h); ws_build_prepare() goes
                                 by it without reading them again */
    char pieces_sha256[WS_HASH_HEX]; /**< one digest of them in pieces, see ws_pieces_root(); worked out on several
                                        processors at once, it takes the other's place where it is known */
    char outline[WS_OUTLINE_ROOM]; /**< where they were changed, if they were, see ws_pieces_outline(); may be empty */
    int64_t touched_at;            /**< when its file was last changed, in milliseconds since 1970; 0 unknown */
    bool is_drive;                 /**< a drive, and `path` its short name */
    bool of_files;                 /**< made of a folder's or an archive's files, which is no image of a drive */
};

struct ws_request;
/** Is its image known by a state, not by a digest of all its bytes? So is what would take hours to read twice: the
 *  original of a twin, and a drive that is copied byte for byte. */
bool ws_request_by_state(const struct ws_request *request);
/** Is any volume to be locked? */
bool ws_request_locks(const struct ws_request *request);

/** One of the user's own files. */
enum { WS_ADDED_MOST = 16 };
struct ws_addition {
    enum ws_added what;
    char to[WS_ADDED_TO]; /**< an absolute path, or an account; else empty */
    bool runs;            /**< WS_ADDED_FILE: it is a program */
    struct ws_input file; /**< of_files: a folder, whose owners are nobody's in the system and become the system's */
};

/** Whose program UEFI firmware starts, laid down file by file. */
enum ws_uefi_code {
    WS_UEFI_CODE_AUTO,  /**< the image's own where it brings a signed one for x86-64, else ours */
    WS_UEFI_CODE_IMAGE, /**< the image's own: signed, where it is */
    WS_UEFI_CODE_OWN,   /**< ours, which is not signed: Secure Boot must be off */
    WS_UEFI_CODES
};
const char *ws_uefi_code_name(enum ws_uefi_code code); /**< "auto", "image", "own" */

/** Which table the drive gets, laid down file by file. */
enum ws_table_wish {
    WS_TABLE_USUAL, /**< an MBR where one will do: every PC reads it */
    WS_TABLE_WISH_MBR,
    WS_TABLE_WISH_GPT,
    WS_TABLE_WISHES
};
const char *ws_table_wish_name(enum ws_table_wish wish); /**< "usual", "mbr", "gpt" */

enum { WS_MENU_SECONDS_MOST = 3600, WS_MENU_SECONDS_USUAL = 5, WS_WANTED_MOST = 12 };

struct ws_request {
    enum ws_kind kind;
    struct ws_input input[WS_INPUTS];
    struct ws_wanted volume[WS_WANTED_MOST];
    size_t volumes;
    /* how it starts, WS_KIND_LIVE_FILES and WS_KIND_SYSTEM */
    enum ws_table_wish table;
    enum ws_uefi_code uefi_code;
    enum ws_check_at_start check;               /**< where our code starts it */
    char kernel_options[256];                   /**< of a full system: further parameters for its kernel; empty: none,
                                                   or as they were */
    bool start_journal;                         /**< the system notes each of its starts, see journal.h */
    unsigned menu_seconds;                      /**< our menu waits so long, 0 to WS_MENU_SECONDS_MOST */
    char edition[64];                           /**< WS_KIND_SYSTEM: which of an image's roots; empty: its default */
    struct ws_owner owner;                      /**< WS_KIND_SYSTEM: whose it is */
    struct ws_addition addition[WS_ADDED_MOST]; /**< WS_KIND_SYSTEM */
    size_t additions;
    struct ws_keep_place keep[WS_KEEPS_MOST]; /**< WS_KIND_RENEWAL: what else is its owner's */
    size_t keeps;
    struct ws_twin_wishes twin; /**< WS_KIND_TWIN */
    /* what the system wants of its drive, WS_KIND_LIVE_FILES */
    struct ws_rules rules;
    char family[WS_FAMILY_TEXT]; /**< a live family described by the user (docs/family-format.md), as text; empty: what
                                    the image seems to be */
};

/** An empty request for this kind, with what is usual. */
void ws_request_begin(struct ws_request *request, enum ws_kind kind);
/** What is wanted of a volume, to be set: an entry of its own is made where there is none. */
struct ws_wanted *ws_request_want(struct ws_request *request, enum ws_role role);
/** @return NULL where nothing is: all is usual */
const struct ws_wanted *ws_request_wanted(const struct ws_request *request, enum ws_role role);

/** All inputs in a row: those of enum ws_input_use, and behind them what is added. */
enum { WS_INPUTS_MOST = WS_INPUTS + WS_ADDED_MOST };
size_t ws_request_inputs(const struct ws_request *request);
const struct ws_input *ws_request_input(const struct ws_request *request, size_t number);

/** The request as a JSON document; the text ends with a newline.
 *  @return WS_E_UNSUPPORTED for a path that is not UTF-8 */
WS_CHECKED enum ws_status ws_request_to_json(const struct ws_request *request, struct ws_text *out,
                                             struct ws_error *error);
/** Read a document: unknown or missing keys, wrong types and impossible values are errors that name the key.
 *  @return WS_E_FORMAT; WS_E_UNSUPPORTED for another version of the format */
WS_CHECKED enum ws_status ws_request_from_json(const char *text, size_t length, struct ws_request *request,
                                               struct ws_error *error);

WS_END

#endif
