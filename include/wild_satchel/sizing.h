/* sizing.h — how large should it be? What a technician wants to keep, turned into bytes; exact sizes from the
 * composers' own geometry; estimates of time.
 *
 * The model. An overlay stores every changed file whole, while the image's own copy stays where it is. So:
 *   updates    the installed bytes times the part that N months of updates have replaced, 1 - (1 - churn)^N: the second
 *              update of a file takes the place of the first. One kernel more than the image's is kept, with its
 *              initial RAM disk. The package lists and one update's downloads lie there as well.
 *   programs, documents, logs    as asked; a program's own files are all new.
 *   small files    every file takes whole 4 KiB blocks: half a block a file, and its inode is in the tables already.
 *   spare      a part of all this stays free: a full overlay breaks the running system, and flash wants room to move.
 * The file system's own structures and journal are not guessed: the composer that will write the volume counts them.
 */
#ifndef WILD_SATCHEL_SIZING_H
#define WILD_SATCHEL_SIZING_H

#include "wild_satchel/ext4.h"
#include "wild_satchel/image.h"
#include "wild_satchel/port.h"
#include "wild_satchel/trial.h"
#include "wild_satchel/twin.h"

WS_BEGIN

/** What a system's own package database says. */
struct ws_packages {
    bool known;
    uint32_t count;
    uint64_t installed_bytes; /**< of all installed packages, as they say */
    uint64_t kernel_bytes;    /**< of one kernel and its modules; 0 if none is a package */
    char source[16];          /**< "dpkg" */
};
/** Read it from a root file system's tree (var/lib/dpkg/status). @return WS_OK also if there is none: see `known` */
WS_CHECKED enum ws_status ws_packages_read(const struct ws_tree *root, struct ws_packages *packages,
                                           struct ws_error *error);
/** Read it from an image's root file system (squashfs or ext4 inside the image). */
WS_CHECKED enum ws_status ws_packages_of_image(const struct ws_image *image, struct ws_packages *packages,
                                               struct ws_error *error);

/** What the technician wants to keep. Bytes, and parts of 1. */
struct ws_wishes {
    uint64_t documents, programs, logs;
    double months; /**< of updates, 0 to 120 */
    double churn;  /**< part of the installed bytes that a month of updates replaces, 0 to 1 */
    double spare;  /**< part kept free on top, 0 to 0.9 */
};
/** 1 GiB of documents, 512 MiB of programs, 128 MiB of logs, 6 months at 4 % a month, a fifth spare. */
void ws_wishes_usual(struct ws_wishes *wishes);

struct ws_sizing_item {
    char what[32];
    uint64_t bytes;
    char why[200];
};
enum { WS_SIZING_ITEMS_MOST = 10 };
struct ws_sizing {
    struct ws_sizing_item item[WS_SIZING_ITEMS_MOST];
    size_t items;
    uint64_t free_wanted; /**< bytes that must be free on the fresh volume: the sum of all items */
    uint64_t installed;   /**< bytes installed in the image, as known or assumed */
    bool counted;         /**< `installed` comes from a package database, not from an assumption */
};
/** @return WS_E_RANGE naming the wish that is out of range */
WS_CHECKED enum ws_status ws_sizing_work_out(const struct ws_wishes *wishes, const struct ws_image *image,
                                             const struct ws_packages *packages, struct ws_sizing *sizing,
                                             struct ws_error *error);

/** The same for a full system, whose updates take the place of what they replace: what lies beside the old while one is
 *  carried out, a little growth, one kernel more.
 *  @param used  bytes that the root takes on its volume */
WS_CHECKED enum ws_status ws_sizing_of_system(const struct ws_wishes *wishes, uint64_t used,
                                              const struct ws_packages *packages, struct ws_sizing *sizing,
                                              struct ws_error *error);
/** What a full system needs. Bytes. */
struct ws_system_sizes {
    char title[160];
    struct ws_packages packages;
    struct ws_sizing sizing;                 /**< room to live */
    uint64_t used;                           /**< what the root takes on the least volume */
    uint64_t least, least_free;              /**< the smallest volume that holds it */
    uint64_t comfortable, comfortable_free;  /**< with room to live */
    uint64_t least_drive, comfortable_drive; /**< the smallest drives for them */
    bool has_swap_sizes;
    uint64_t swap_small, swap_hibernation; /**< for a PC that is short of memory; to sleep without power */
};
/**
 * @param root     the system's root, or what carries it, as ws_build_setting has it
 * @param edition  which of several; "" for the image's usual one
 * @param memory   bytes of the PCs' memory, for swap; 0: not asked for
 */
WS_CHECKED enum ws_status ws_system_size(const struct ws_source *root, const char *edition,
                                         const struct ws_wishes *wishes, uint64_t memory, struct ws_system_sizes *sizes,
                                         struct ws_error *error);
/** What a twin needs. Bytes. */
struct ws_twin_sizes {
    char title[160];
    struct ws_twin_volume_sizes {
        unsigned of; /**< the partition of the original; 0: none, it is what firmware reads */
        enum ws_twin_way way;
        char system[24];    /**< what it is */
        uint64_t was, used; /**< of the original: its size, and its files */
        uint64_t least, comfortable;
    } volume[WS_ORIGINAL_MOST + 1];
    size_t volumes;
    uint64_t least_drive, comfortable_drive, same_drive; /**< the last: for volumes of the sizes that they have */
    struct ws_left_out leavable[WS_LEAVES];              /**< what it could do without */
    bool starts;                                         /**< it would start by our code, on BIOS or UEFI */
};
/** @param original   a drive or its image
 *  @param leave_out  bit N: enum ws_leave N is left out */
WS_CHECKED enum ws_status ws_twin_size(const struct ws_source *original, uint32_t leave_out,
                                       struct ws_twin_sizes *sizes, struct ws_error *error);
/** What an image needs on a drive, laid down whole: the least that holds it (with the smallest persistence volume if it
 *  remembers), and what is comfortable: room for the usual wishes. Bytes; 0 for what is no image of a drive. */
WS_CHECKED enum ws_status ws_image_needs(const struct ws_image *image, const struct ws_packages *packages,
                                         uint64_t *least, uint64_t *comfortable, struct ws_error *error);

/**
 * The smallest ext4 volume, in multiples of `unit`, on which so many bytes are free when it is fresh and holds what
 * this family needs (NULL: nothing). Exact: statfs will say `free_bytes`.
 * @param most  the largest size that is acceptable
 * @return WS_E_SPACE if no volume of at most `most` bytes has so much free
 */
WS_CHECKED enum ws_status ws_ext4_fit(const struct ws_live_family *family, uint64_t free_wanted, uint64_t unit,
                                      uint64_t most, uint64_t *size, uint64_t *free_bytes, struct ws_error *error);
/** The largest free room an ext4 volume of at most `most` bytes can have, and the size that has it. */
WS_CHECKED enum ws_status ws_ext4_most_free(const struct ws_live_family *family, uint64_t most, uint64_t unit,
                                            uint64_t *size, uint64_t *free_bytes, struct ws_error *error);

/** Bytes lost to half-filled clusters if a tree's files lay on a FAT volume with clusters of `cluster` bytes. */
uint64_t ws_fat_waste(const struct ws_tree *tree, uint32_t cluster);

/** How long it takes, as a range. Seconds. */
struct ws_estimate {
    double build_low_s, build_high_s;  /**< written, flushed and read back */
    double start_low_s, start_high_s;  /**< the first start, up to a shell or desktop */
    char build_by[120], start_by[120]; /**< what dominates */
    bool measured;                     /**< from a trial of this drive, not from its kind */
};
/** @param trial  of this drive, or NULL: then rates usual for its kind and bus are assumed */
void ws_estimate_times(const struct ws_drive_facts *drive, const struct ws_trial *trial, uint64_t write_bytes,
                       uint64_t image_bytes, struct ws_estimate *estimate);

/** Usual thresholds, as findings with their reasons: a slow bus, a small drive, little persistence, a slow trial.
 *  @param drive        may be NULL: of its bus nothing is known
 *  @param trial        of it; may be NULL
 *  @param size         bytes of the drive
 *  @param persistence  bytes; 0: none
 *  @param system       it is to hold a full system, which wants more of a drive */
void ws_drive_warnings(const struct ws_drive_facts *drive, const struct ws_trial *trial, uint64_t size,
                       uint64_t persistence, bool system, struct ws_findings *findings);

WS_END

#endif
