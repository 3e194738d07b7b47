/* medium.h — where on a drive the live system's files stand: in an image laid down whole, or file by file on a volume.
 */
#ifndef WILD_SATCHEL_MEDIUM_H
#define WILD_SATCHEL_MEDIUM_H

#include "wild_satchel/iso9660.h"
#include "wild_satchel/live.h"
#include "wild_satchel/table.h"

WS_BEGIN

struct ws_medium {
    struct ws_tree *tree; /**< its files */
    uint64_t at;          /**< byte of the drive at which its volume begins; 0 for an image laid down whole */
    struct ws_iso *iso;   /**< of an image laid down whole, else NULL */
    bool firmware;        /**< its volume is one that firmware reads, too */
    /** Of that volume, or of the image: its label and its identifier as systems write it, by enum ws_named_by. */
    char name[WS_NAMED_WAYS][48];
    struct ws_source *slice;
};

/** Find it: an ISO 9660 file system over the whole drive, else the first FAT or exFAT partition that belongs to a live
 *  family. Borrows `drive`. @return WS_E_NOTFOUND if there is neither; what reading the image came to otherwise */
WS_CHECKED enum ws_status ws_medium_open(const struct ws_source *drive, const struct ws_table *table,
                                         struct ws_medium *medium, struct ws_error *error);
void ws_medium_close(struct ws_medium *medium);

/** Do these kernel parameters look for their live system on another volume than this one? @param wanted  out: what they
 *  look for, as it stands in a sentence: `volume labelled "TIDE"` */
bool ws_medium_is_another(const struct ws_medium *medium, const char *parameters, char *wanted, size_t room);

/** Where a live system of this family would keep its changes. */
struct ws_remembering {
    bool in_file;        /**< an overlay file, else a partition of its own */
    unsigned number;     /**< of the partition that it is, or that holds the file */
    uint64_t at, length; /**< bytes of the drive: the ext4 volume */
    char label[48];      /**< of the volume on which the file lies */
};
/** A volume with the family's label goes first, else a file of its name at the top of a FAT or exFAT partition.
 *  @return WS_E_NOTFOUND if there is neither; WS_E_FORMAT for a file in pieces, which can only be looked at by a system
 */
WS_CHECKED enum ws_status ws_medium_remembers_on(const struct ws_source *drive, const struct ws_table *table,
                                                 const struct ws_medium *medium, const struct ws_live_family *family,
                                                 struct ws_remembering *found, struct ws_error *error);

/** The first locked volume of the drive, which a live system whose family opens such may remember on.
 *  @return false if there is none */
bool ws_medium_locked_on(const struct ws_source *drive, const struct ws_table *table, struct ws_remembering *found);

/** Byte of the drive at which a file of the medium begins, if it stands there in one piece; 0 if that is not known. */
uint64_t ws_medium_place_of(const struct ws_medium *medium, const struct ws_node *node);

WS_END

#endif
