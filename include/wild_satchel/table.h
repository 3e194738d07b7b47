/* table.h — partition tables: MBR, GPT, and the mixtures of both that live images carry.
 *
 * GPT follows the UEFI Specification 2.10, chapter 5; the MBR follows section 5.2 of the same.
 * A table is read into plain data, changed there, and composed back; what is not understood is kept as it was.
 */
#ifndef WILD_SATCHEL_TABLE_H
#define WILD_SATCHEL_TABLE_H

#include "wild_satchel/layout.h"

WS_BEGIN

enum { WS_PARTITIONS_MOST = 256, WS_LOGICAL_MOST = 60 };

/** One partition. */
struct ws_partition {
    unsigned number;     /**< as the operating system counts: 1 ... */
    uint64_t at, length; /**< bytes */
    uint8_t mbr_type;    /**< MBR only; 0xEE is GPT's own protective entry */
    bool active;         /**< MBR only: the boot flag */
    struct ws_guid type; /**< GPT only */
    struct ws_guid id;   /**< GPT only */
    uint64_t attributes; /**< GPT only */
    char name[112];      /**< GPT only, UTF-8 */
};

/** Which table an operating system goes by. */
enum ws_table_kind {
    WS_TABLE_NONE,
    WS_TABLE_MBR,      /**< only an MBR */
    WS_TABLE_GPT,      /**< GPT behind a protective MBR */
    WS_TABLE_HYBRID,   /**< GPT goes first, with real entries in the MBR beside the protective one */
    WS_TABLE_MBR_FIRST /**< MBR with no protective entry goes first; a GPT stands beside it, for firmware that looks */
};

struct ws_table {
    enum ws_table_kind kind;
    uint64_t disk_size;
    uint32_t sector;         /**< bytes */
    uint8_t mbr_sector[512]; /**< as read: start-up code, disk signature; entries are composed anew */
    struct ws_partition mbr[4];
    size_t mbr_count;
    struct ws_partition
        logical[WS_LOGICAL_MOST]; /**< inside an extended entry of an MBR, numbered from 5 on; read only */
    size_t logical_count;
    struct ws_guid disk_id; /**< GPT */
    uint64_t entries_lba, first_usable, last_usable, backup_lba;
    uint32_t slots, slot_size;
    struct ws_partition gpt[WS_PARTITIONS_MOST];
    bool gpt_more; /**< there are more: the table is read so far, and never composed again */
    size_t gpt_count;
    bool primary_sound, backup_sound;
};

/** The well-known partition types this library writes or looks for, as data. */
struct ws_partition_type {
    const char *word; /**< "linux", "efi", ... as shown and as plan documents name it */
    uint8_t mbr;
    const char *guid;
    const char *meaning;
};
const struct ws_partition_type *ws_partition_type_find(const char *word); /**< NULL if unknown */
const struct ws_partition_type *ws_partition_type_of(const struct ws_partition *partition);

/** "mbr", "gpt", "hybrid", "mbr-first", "none" */
const char *ws_table_kind_name(enum ws_table_kind kind);

/** What the table of a drive's image counts in: 4096 where a GPT header stands at that byte and none at byte 512, else
 *  512. For images only: of a real drive its port knows. */
uint32_t ws_table_sector_of(const struct ws_source *image);
/**
 * Read the table of a drive or image. A damaged primary GPT is replaced by its sound backup, with a warning.
 * @param findings  may be NULL
 * @return WS_OK also when there is none (kind WS_TABLE_NONE); WS_E_READ
 */
WS_CHECKED enum ws_status ws_table_read(const struct ws_source *source, uint32_t sector, struct ws_table *table,
                                        struct ws_findings *findings, struct ws_error *error);

/** Everything that is wrong with the tables of a drive, strictly: signatures, checksums, places, overlaps, the
 *  backup against the primary, the protective entry against the drive's size. No finding of weight fault: sound. */
WS_CHECKED enum ws_status ws_table_check(const struct ws_source *source, uint32_t sector, struct ws_findings *findings,
                                         struct ws_error *error);

/** The partitions an operating system sees, in its numbering. */
const struct ws_partition *ws_table_partitions(const struct ws_table *table, size_t *count);

/** The same without those that hold no volume of their own (an extended entry, GPT's protective one), and with the
 *  partitions inside an extended entry, in order of their places. @param list  room for WS_VOLUME_PLACES @return how
 * many */
enum { WS_VOLUME_PLACES = WS_PARTITIONS_MOST };
size_t ws_table_volumes(const struct ws_table *table, const struct ws_partition *list[WS_VOLUME_PLACES]);

/** An empty GPT, or an empty MBR, for a drive. Sizes in bytes. */
void ws_table_new_gpt(struct ws_table *table, uint64_t disk_size, uint32_t sector, const struct ws_guid *disk_id);
void ws_table_new_mbr(struct ws_table *table, uint64_t disk_size, uint32_t sector, uint32_t disk_signature);

/** Move the table to a drive of another size: the backup GPT goes to its end and the protective entry grows.
 *  @return WS_E_SPACE if a partition would no longer fit */
WS_CHECKED enum ws_status ws_table_resize(struct ws_table *table, uint64_t disk_size, struct ws_error *error);

/** Add a partition to every table that stands beside each other here (an MBR in WS_TABLE_MBR and _MBR_FIRST, a GPT in
 *  all others and _MBR_FIRST). `number` is what the operating system will call it.
 *  @return WS_E_SPACE when no entry is free; WS_E_RANGE for a place outside the usable area or an overlap */
WS_CHECKED enum ws_status ws_table_add(struct ws_table *table, uint64_t at, uint64_t length, const char *type_word,
                                       const struct ws_guid *id, const char *name, unsigned *number,
                                       struct ws_error *error);

/** Take what begins at byte `at` out of every table that has it; its bytes stay. @return false if none has */
bool ws_table_remove(struct ws_table *table, uint64_t at);

/** Let every entry that covers [0 or at, old_end) of an image end at `new_end` instead (an ISO partition that grows).
 */
WS_CHECKED enum ws_status ws_table_grow(struct ws_table *table, uint64_t old_end, uint64_t new_end, bool *grown,
                                        struct ws_error *error);

/** Where what begins at byte `at` could end: at the next thing that the tables place, or the end of what may be used.
 *  @return 0 if nothing begins there, or it is inside an extended partition */
uint64_t ws_table_room_of(const struct ws_table *table, uint64_t at);
/** Let what begins at byte `at` be of another length, in every table that has it.
 *  @return WS_E_NOTFOUND if none has; WS_E_RANGE past ws_table_room_of() */
WS_CHECKED enum ws_status ws_table_set_length(struct ws_table *table, uint64_t at, uint64_t length,
                                              struct ws_error *error);

/** Let what begins at byte `at` be where another partition is, with its length and, in a GPT, its identifier if it has
 * one: in every table that has it. @return false if none has, or it would reach out of what a table may place */
bool ws_table_stand_in(struct ws_table *table, uint64_t at, const struct ws_partition *place);

/** First byte behind everything the table places, and one byte past the last that may be used. */
void ws_table_free_tail(const struct ws_table *table, uint64_t *first, uint64_t *end);

/** Put the table into a layout, as its seal: sector 0, and for a GPT header, entries and their backup. */
WS_CHECKED enum ws_status ws_table_compose(const struct ws_table *table, struct ws_layout *layout,
                                           struct ws_error *error);
/** Bytes of the table at a drive's front, where it is composed anew, and at its end (a GPT's backup). */
uint64_t ws_table_front_bytes(const struct ws_table *table);
uint64_t ws_table_back_bytes(const struct ws_table *table);
/** The bytes of sector 0. */
void ws_table_mbr_bytes(const struct ws_table *table, uint8_t out[512]);

WS_END

#endif
