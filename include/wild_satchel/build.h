/* build.h — a plan made into a layout, and carried out. */
#ifndef WILD_SATCHEL_BUILD_H
#define WILD_SATCHEL_BUILD_H

#include "wild_satchel/plan.h"
#include "wild_satchel/write.h"

struct ws_build;

/**
 * Work a plan out: fill everything that follows from what it asks for, and make the layout. Nothing is written.
 * @param plan   kind, image_path, persistence_asked, id, made_at and the drive's fields are read; the rest is filled
 * @param image  borrowed until the build is closed; it is read by two tasks at once
 * @return WS_E_SPACE if the image or the asked persistence does not fit; WS_E_UNSUPPORTED if the image knows no way
 *         of remembering or its menu cannot be edited; each with what to do instead
 */
enum ws_status ws_build_prepare(struct ws_plan *plan, const struct ws_source *image, struct ws_build **build,
                                struct ws_error *error);
const struct ws_layout *ws_build_layout(const struct ws_build *build);
void ws_build_close(struct ws_build *build);

struct ws_build_options {
    bool allow_external_disk;
    const char *confirm;          /**< must be the drive's short name */
    ws_progress_call on_progress; /**< for writing and checking */
    /** Called right before the first write, may be NULL: what was known of the drive is no longer true. A failure
     *  leaves the drive as it was. */
    enum ws_status (*before_write)(void *context, struct ws_error *error);
    void *context;
    bool skip_check; /**< do not read back; what an earlier run wrote is compared all the same, whole */
    bool even_so;    /**< carry out a plan that has a fault among its findings */
    bool afresh;     /**< begin at the beginning even where an earlier run of this build can be continued */
};

struct ws_build_result {
    struct ws_write_result write;
    struct ws_check_result check; /**< check.sha256 is the drive's, over all that was written */
    char image_sha256[WS_HASH_HEX];
    bool checked;
};

/**
 * Write, read back and seal: a drive that does not read back right is never sealed. The image's hash is worked out
 * beside the writing. The drive's identity is read again from its open handle right before the first write. A drive
 * that carries the mark of this very build, and still holds what it wrote, is continued, see ws_write().
 * @return WS_E_REFUSED if it is not the planned drive, not confirmed, or may not be written, or if the plan has a fault
 *         (nothing was written);
 *         WS_E_FORMAT if the image is no longer the planned one (the drive is left unfinished, and says so);
 *         WS_E_DIFFERENT if the check finds a difference
 */
enum ws_status ws_build_carry_out(struct ws_build *build, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error);

/** Does the drive still hold what the build meant? What a live system has changed since on its persistence volume is
 *  left out of the comparison if `used` is true. */
enum ws_status ws_build_check(struct ws_build *build, struct ws_port *port, struct ws_drive *drive, bool used,
                              ws_progress_call on_progress, void *context, struct ws_check_result *result,
                              struct ws_error *error);

/** What a drive is made when it is to be an ordinary drive again. */
struct ws_blank_params {
    bool exfat;          /**< exFAT instead of FAT32: no limit of 4 GiB a file, and drives over 2 TiB */
    const char *label;   /**< one that the file system can hold, see ws_label_normalise(); "" for none */
    uint32_t cluster;    /**< bytes; 0: as usual for the size */
    struct ws_guid id;   /**< random: serial numbers derive from it */
    int64_t made_at;     /**< seconds since 1970-01-01 UTC */
    uint32_t erase_unit; /**< the drive's, for alignment; 0 if unknown */
};
/** What came out of it. */
struct ws_blank {
    struct ws_layout *layout;        /**< owned */
    uint64_t volume_at, volume_size; /**< bytes */
    uint64_t free_bytes;             /**< as the fresh volume counts */
    struct ws_tree *tree;            /**< owned: the volume's empty root */
};
/**
 * One plain FAT32 or exFAT volume over the whole drive, behind an MBR (a GPT above 2 TiB), with whatever stood at both
 * ends of the drive gone: older tables and their backups, signatures of arrays and volume groups, a disc image's
 * descriptors.
 * @return WS_E_UNSUPPORTED for sectors of other than 512 to 4096 bytes; WS_E_SPACE under 64 MiB, for FAT32 on larger
 * sectors than 512 bytes under 300 MiB; WS_E_RANGE for FAT32 above 2 TiB or for a cluster that does not go with the
 * size
 */
enum ws_status ws_blank_prepare(const struct ws_drive_facts *facts, const struct ws_blank_params *params,
                                struct ws_blank *blank, struct ws_error *error);
/** Write it, read it back and seal it, after the same questions as any build: may it be written, is it alone, is it
 *  confirmed. */
enum ws_status ws_blank_carry_out(struct ws_blank *blank, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error);
void ws_blank_free(struct ws_blank *blank);

#endif
