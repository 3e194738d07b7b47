/* contents.h — what is on a drive: what would be lost. */
#ifndef WILD_SATCHEL_CONTENTS_H
#define WILD_SATCHEL_CONTENTS_H

#include "wild_satchel/table.h"

WS_BEGIN

enum { WS_CONTENTS_MOST = 64 };

/** One partition, or the whole drive if it has none. */
struct ws_content {
    unsigned number;     /**< partition; 0 for the drive itself */
    uint64_t at, length; /**< bytes */
    char system[24];     /**< "ext4", "FAT32", "ISO 9660", "unknown", "empty" */
    char label[48];
    uint64_t free_bytes; /**< as the volume counts it; meaningful if counted */
    bool counted;
    bool clean;     /**< false if it was not shut down cleanly */
    uint64_t files; /**< files and folders; meaningful if files_counted */
    bool files_counted;
    char family_title[40], family_label[20];
    char overlay[32]; /**< deep: an overlay file a live family would use, or a system's, stands at its top */
    uint64_t overlay_at, overlay_size; /**< where it lies, if in one piece: bytes of the drive */
    bool inside;                       /**< that file is no overlay: a full system stands in it */
    bool camera, starts;               /**< deep: a camera's folder, a loader for UEFI stands in it */
    char family[16];                   /**< deep: the live family whose files stand in it; empty if none do */
    int64_t written_at; /**< seconds since 1970-01-01 UTC, as the volume or its newest file says; 0 unknown */
};

struct ws_contents {
    enum ws_table_kind table;
    bool unfinished;                   /**< a build or a change was begun on it and not finished */
    bool changing;                     /**< a change, see change.h: what is on it is still there */
    char build[WS_HASH_HEX];           /**< which, by its layout's fingerprint; empty if that cannot be told */
    uint64_t build_flushed, build_end; /**< how far it got; meaningful if build[0] */
    bool blank;                        /**< nothing is on it as far as can be seen */
    struct ws_content part[WS_CONTENTS_MOST];
    size_t parts;
    char guess[96];    /**< what it seems to be: "live drive with persistence (live-boot)", "camera card", ... */
    char summary[256]; /**< one line: the guess and the volumes */
};

/** @param deep  also count files and look for the newest one, which reads all folders of a FAT volume
 *  @return WS_E_READ if the drive cannot be read */
WS_CHECKED enum ws_status ws_contents_look(const struct ws_source *drive, uint32_t sector, bool deep,
                                           struct ws_contents *contents, struct ws_error *error);

/** What lies at a byte of a drive. */
struct ws_located {
    unsigned number; /**< the partition, of several the innermost; 0: outside of them all */
    char system[24], label[48];
    char path[512]; /**< the file that has it; empty: none does, or the volume is not read here */
};
/** @param contents  of that drive, see ws_contents_look() */
void ws_contents_locate(const struct ws_source *drive, const struct ws_contents *contents, uint64_t at,
                        struct ws_located *located);

WS_END

#endif
