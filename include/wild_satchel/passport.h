/* passport.h — a drive's passport: one page that tells whoever finds the drive what it is, what was proved of it, which
 * key starts it, and what to do when it does not start.
 */
#ifndef WILD_SATCHEL_PASSPORT_H
#define WILD_SATCHEL_PASSPORT_H

#include "wild_satchel/contents.h"
#include "wild_satchel/plan.h"
#include "wild_satchel/proof.h"
#include "wild_satchel/trial.h"

WS_BEGIN

/** Which key shows the choice of what to start from, by the maker of the PC. */
struct ws_start_key {
    const char *maker, *key; /**< "F12", "Esc, then F9" */
    const char *settings;    /**< the key for the firmware's settings */
};
/** All that are known, by maker. */
const struct ws_start_key *ws_start_keys(size_t *count);

/** Something that was done to the drive, and what came of it. */
struct ws_passport_event {
    int64_t at; /**< seconds since 1970-01-01 UTC */
    bool good;
    char what[16], verdict[200];
};
enum { WS_PASSPORT_EVENTS_MOST = 64 };

/** What a drive itself says of what it was made from: one that was laid down file by file. */
struct ws_origin {
    char title[WS_TITLE_ROOM]; /**< of the image */
    char sha256[WS_HASH_HEX];  /**< of that; empty: not known */
    uint64_t size;             /**< bytes */
    int64_t made_at;           /**< seconds since 1970-01-01 UTC */
};
/** @return WS_E_NOTFOUND if it says nothing */
WS_CHECKED enum ws_status ws_origin_look(const struct ws_source *drive, uint32_t sector, struct ws_origin *origin,
                                         struct ws_error *error);

/** What a passport is made from. All is borrowed; what may be NULL is left out of it. */
struct ws_passport {
    int64_t made_at;                    /**< seconds since 1970-01-01 UTC */
    const struct ws_drive_facts *drive; /**< never NULL */
    const char *kind;                   /**< of drive, in words: "stick or card" */
    const struct ws_contents *contents; /**< never NULL */
    const struct ws_memory *memory;     /**< may be NULL */
    const struct ws_plan *plan;         /**< by which it was built; may be NULL */
    const struct ws_origin *origin;     /**< for one without a plan; may be NULL */
    const struct ws_outlook *outlook;   /**< WS_OUTLOOKS, of the drive as it is, for one without a plan; may be NULL */
    const char *checked;                /**< what was found of its image: whose signature; may be NULL */
    const struct ws_proof *proof;       /**< may be NULL */
    const struct ws_trial *trial;       /**< may be NULL */
    const struct ws_passport_event *event; /**< the latest first */
    size_t events;
};
/** As a page of HTML that needs nothing else: no script, no picture, no other file. It fits one sheet of A4; of long
 *  lists the latest are on it. @return WS_E_NOMEM */
WS_CHECKED enum ws_status ws_passport_html(const struct ws_passport *passport, struct ws_text *out,
                                           struct ws_error *error);
/** The same as a JSON document (docs/json-output.md). @return WS_E_NOMEM */
WS_CHECKED enum ws_status ws_passport_json(const struct ws_passport *passport, struct ws_text *out,
                                           struct ws_error *error);

#define WS_PASSPORT_NAME "PASSPORT.HTM" /**< of the copy on the drive */
struct ws_passport_place {
    unsigned number;            /**< of the partition whose volume it is on */
    char label[48], format[12]; /**< of that: "fat32", "exfat" */
    bool replaced;              /**< an earlier one was there */
    uint64_t written;           /**< bytes, the log of the change among them */
    int64_t made_at;            /**< of the one that is there: seconds since 1970-01-01 UTC */
};
/**
 * Lay a copy at the top of the volume that people see first: a data volume, else the one that a live system is read
 * from file by file. It goes through the log of change.h: a cut leaves the volume as it was, or to be finished.
 * @param page     of HTML, `length` bytes
 * @param confirm  the drive's name
 * @return WS_E_NOTFOUND if no PC shows a volume of it; WS_E_REFUSED if it may not be written, was not confirmed, or the
 *         volume was not unmounted; what ws_make_room() and ws_change() say
 */
WS_CHECKED enum ws_status ws_passport_leave(struct ws_port *port, struct ws_drive *drive, const char *page,
                                            size_t length, const char *confirm, bool allow_external_disk,
                                            struct ws_passport_place *place, struct ws_error *error);

/**
 * Is a copy on the drive? It tells how the drive was when it was made: whoever changes the drive lays it anew.
 * @param drive   as it is
 * @param sector  bytes: as the drive counts
 * @param place   `number`, `label`, `format` and `made_at` are told
 * @return WS_E_NOTFOUND if there is none; what ws_table_read() says
 */
WS_CHECKED enum ws_status ws_passport_find(const struct ws_source *drive, uint32_t sector,
                                           struct ws_passport_place *place, struct ws_error *error);

WS_END

#endif
