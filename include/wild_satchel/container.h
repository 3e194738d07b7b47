/* container.h — virtual disk files: a whole drive in a file that stores only what was written to it.
 *
 * Read and written by their published specifications: qcow2 versions 2 and 3, VHD (1.0), VHDX (2.0 of its open
 * specification), VMDK (5.0 and stream-optimised). Reading one gives a source of the drive's size; a file that builds
 * on another one is read together with it. Written to, it grows at its end, with what is zero left out.
 */
#ifndef WILD_SATCHEL_CONTAINER_H
#define WILD_SATCHEL_CONTAINER_H

#include "wild_satchel/source.h"

WS_BEGIN

struct ws_container_facts {
    char format[8];   /**< "qcow2", "vhd", "vhdx", "vmdk" */
    char variant[32]; /**< "version 3", "dynamic", "stream-optimised", ... */
    uint64_t size;    /**< bytes of the drive in it */
    uint32_t unit;    /**< bytes that are stored together; 0: all of it is */
    char base[1024];  /**< the file it builds on, as it names that; empty: none */
    unsigned files;   /**< how many files it is read from, this one among them */
    bool packed;      /**< it may hold packed units */
    bool unclean;     /**< it was not closed properly; what its log says is taken as done */
};

/** How the other files that one names are opened. */
struct ws_container_files {
    /** A file that stands beside, or below, the one that names it. The source is the reader's to close.
     *  @return WS_E_REFUSED for a place elsewhere */
    enum ws_status (*open)(void *context, const char *name, struct ws_source **source, struct ws_error *error);
    void *context;
};

/** Is it one? @return false for any other bytes, and a damaged one */
bool ws_container_probe(const struct ws_source *file, struct ws_container_facts *facts);
/**
 * The drive in it, as a source: unallocated stretches are holes. Borrows `file`.
 * @param files  NULL: one that names others cannot be opened
 * @param facts  may be NULL
 * @return WS_E_NOTFOUND if it is none; WS_E_FORMAT for a damaged one, and for files that build on each other in a
 *         circle; WS_E_UNSUPPORTED for what is enciphered, or needs a feature that is not known here
 */
WS_CHECKED enum ws_status ws_container_open(const struct ws_source *file, const struct ws_container_files *files,
                                            struct ws_source **drive, struct ws_container_facts *facts,
                                            struct ws_error *error);

/** A file that a virtual disk is kept in: its port's. */
struct ws_disk_file;
struct ws_disk_file_ops {
    enum ws_status (*read)(const struct ws_disk_file *file, uint64_t at, void *buffer, size_t length,
                           struct ws_error *error);
    /** Also behind its end, which moves; what lies between reads as zeros. */
    enum ws_status (*write)(const struct ws_disk_file *file, uint64_t at, const void *bytes, size_t length,
                            struct ws_error *error);
    enum ws_status (*flush)(const struct ws_disk_file *file, struct ws_error *error);
    uint64_t (*size)(const struct ws_disk_file *file);
};
struct ws_disk_file {
    const struct ws_disk_file_ops *ops;
    void *state;
};

/**
 * Make an empty virtual disk in an empty file.
 * @param format  "qcow2", "vhd" (dynamic), "vhdx" (dynamic), "vmdk" (one sparse file)
 * @param size    bytes, rounded down to sectors; of a VHD to whole cylinders, by which some programs count
 * @param id      random: what it is known by
 * @return WS_E_USAGE for another word; WS_E_RANGE for a size that the format cannot have
 */
WS_CHECKED enum ws_status ws_container_create(const struct ws_disk_file *file, const char *format, uint64_t size,
                                              const struct ws_guid *id, int64_t made_at, struct ws_error *error);

struct ws_disk;
/**
 * A virtual disk to be written to: one made by ws_container_create(), also after others have written to it, as long as
 * they kept its form. Borrows `file`.
 * @param id  random: a VHDX says by it that it was changed
 * @return WS_E_NOTFOUND if it is none; WS_E_UNSUPPORTED for one that is only read here; WS_E_FORMAT
 */
WS_CHECKED enum ws_status ws_disk_open(const struct ws_disk_file *file, const struct ws_guid *id, struct ws_disk **disk,
                                       struct ws_error *error);
uint64_t ws_disk_size(const struct ws_disk *disk); /**< bytes of the drive */
WS_CHECKED enum ws_status ws_disk_read(const struct ws_disk *disk, uint64_t at, void *buffer, size_t length,
                                       struct ws_error *error);
/** Zeros where nothing is stored store nothing. What is new stands at the file's end. */
WS_CHECKED enum ws_status ws_disk_write(struct ws_disk *disk, uint64_t at, const void *bytes, size_t length,
                                        struct ws_error *error);
/** All of it, and then what leads to it, is in the file: a program that opens that finds a sound virtual disk. */
WS_CHECKED enum ws_status ws_disk_flush(struct ws_disk *disk, struct ws_error *error);
/** What was not flushed is lost. NULL is accepted. */
void ws_disk_close(struct ws_disk *disk);

/** The format that a file's name asks for: "stick.qcow2", ".vhd", ".vhdx", ".vmdk". @return NULL: none */
const char *ws_container_of_name(const char *path);

WS_END

#endif
