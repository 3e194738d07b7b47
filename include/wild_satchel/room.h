/* room.h — room made inside a FAT, exFAT or ext4 volume in use: at its front or its end, which goes to what stands
 * there; for a file that lies in one piece and stays so, with another length; or for a file that is put at its top. A
 * file in one piece may go, too, alone or with all of the volume before its end, or lose its beginning with the front.
 * An ext4 volume gives its front or its end.
 *
 * Files stay where they are, but for those that stood there: they move to free clusters. The rest is numbers. Names,
 * times, attributes and short names stay to the byte; of ext4 owners, modes, times of change and attributes do, and
 * times of access and creation begin anew. Follows the FAT File System Specification 1.03, and the exFAT
 * one, revision 1.00.
 */
#ifndef WILD_SATCHEL_ROOM_H
#define WILD_SATCHEL_ROOM_H

#include "wild_satchel/change.h"
#include "wild_satchel/layout.h"

WS_BEGIN

struct ws_room {
    const struct ws_source *volume; /**< in: as it is; borrowed */
    uint64_t at;                    /**< in: the byte of the drive at which it begins */
    uint64_t front;                 /**< in: bytes that go, of which it is a multiple of `step`; 0: none */
    uint64_t back;                  /**< in: likewise bytes at its end */
    bool of_back;                   /**< in: of an ext4 volume it is told what could go at the end, not in front */
    uint64_t file_at;               /**< in: the byte of the volume at which the file begins; 0: it is not of a file */
    uint64_t file_length;           /**< in: bytes it is to have; 0: as it has */
    bool file_goes;                 /**< in: it is taken off; what of it stands in the front stays there all the same */
    bool file_later;                /**< in: it loses what of it stands in the front, and begins behind that */
    const char *put_name;           /**< in: a file put at its top, in one piece; or NULL */
    const void *put;                /**< in: its bytes; borrowed. NULL: the caller lays them there */
    uint64_t put_length;
    int64_t put_at; /**< in: when, in seconds since 1970-01-01 UTC */
    /* What follows is told. */
    char format[12];           /**< "fat16", "fat32", "exfat" ... */
    char label[48];            /**< of the volume */
    uint64_t size, free_bytes; /**< as it is */
    uint64_t step;             /**< bytes: a cluster; of ext4 1 MiB */
    uint64_t most; /**< bytes that could go, or that the file could have; of ext4 what goes, if any is given, and 0 with
                      `of_back` */
    uint64_t back_most; /**< bytes that could go at the end; 0: none, or not known; of ext4 likewise, with `of_back` */
    uint64_t tail;      /**< bytes at the end that hold nothing; 0 of ext4: not known */
    uint64_t row;       /**< bytes: the longest file that could be put */
    uint64_t put_place; /**< byte of the volume at which what is put begins */
    uint64_t file_was;  /**< bytes it has */
    uint64_t file_begins; /**< with `file_later`, byte of the volume, as it was, at which it begins then: later by whole
                             4 KiB. `file_length` is told, too */
    uint64_t free_after;  /**< bytes, with all that is wanted */
    bool replaced;        /**< one of that name was there */
    uint64_t moved;       /**< bytes of files and folders that stood there */
    char state[WS_HASH_HEX];            /**< of what it says of its files: the same as long as nobody used it */
    struct ws_run spare[WS_LOG_PIECES]; /**< bytes of the volume that hold nothing before and after: the longest rows */
    size_t spares;
    struct ws_run
        given[WS_LOG_PIECES]; /**< bytes of the part that goes at the end that held nothing: the longest rows */
    size_t givens;
};

/**
 * Work it out. One of them at a time, but that the front may go together with a file.
 * @param layout  of the drive: what is moved as its body, everything else as its seal; neither the partition table nor
 *                the file's own content is among it. NULL: it is only looked at
 * @return WS_E_NOTFOUND if it is none of them, or no file begins there in one piece; WS_E_REFUSED for one that
 *         was not unmounted, with what to do; WS_E_FORMAT for damage; WS_E_UNSUPPORTED for one whose tables are not
 *         alike; WS_E_RANGE for more than `most`, or a front that is no multiple of `step`; WS_E_SPACE for more than
 *         `row`, or a full top folder; WS_E_DIFFERENT, with a layout, if the volume would not hold all
 *         that it does: it is read as it will be, and a mistake of this library's is told before anything is written
 */
WS_CHECKED enum ws_status ws_make_room(struct ws_room *room, struct ws_layout *layout, struct ws_error *error);

WS_END

#endif
