/* linux.h — real drives and plain files on Linux. */
#ifndef WS_PORT_LINUX_H
#define WS_PORT_LINUX_H

#include "wild_satchel/archive.h"
#include "wild_satchel/port.h"

WS_BEGIN

/** The port to this machine: block devices by path, and plain image files by path ("stick.img", "file:stick.img"). */
WS_CHECKED enum ws_status ws_linux_open(struct ws_port **port, struct ws_error *error);
void ws_port_close(struct ws_port *port);

/** Make a new sparse image file of `size` bytes, to be used as a drive. @return WS_E_REFUSED if the name is taken */
WS_CHECKED enum ws_status ws_linux_make_file(const char *path, uint64_t size, struct ws_error *error);
/** A file as a source; reading it from two tasks at once is allowed. */
WS_CHECKED enum ws_status ws_source_file(const char *path, struct ws_source **source, struct ws_error *error);

/** Open an image; a compressed one is unpacked first, into a file without a name in TMPDIR (or /var/tmp).
 *  @param packed  out: what it was wrapped in; `format` is empty if it was not compressed */
WS_CHECKED enum ws_status ws_linux_open_image(const char *path, struct ws_source **source,
                                              struct ws_packed_facts *packed, struct ws_error *error);
/** As ws_linux_open_image(); a folder, or an archive of files, becomes an ext4 volume with all that a root file system
 *  has: owners, modes, devices, extended attributes, second names. For full systems. */
WS_CHECKED enum ws_status ws_linux_open_root(const char *path, struct ws_source **source,
                                             struct ws_packed_facts *packed, struct ws_error *error);
/** As ws_linux_open_image(); a folder, or an archive of files, becomes a disc image made on the fly: an archive's is
 *  unpacked the same way, a folder's reads its files when they are wanted. */
WS_CHECKED enum ws_status ws_linux_open_medium(const char *path, struct ws_source **source,
                                               struct ws_packed_facts *packed, struct ws_error *error);
/** A ready-made data file: as ws_linux_open_image(), and of an archive its only file, or the only one named as some
 * live family names its overlay file. @return WS_E_NOTFOUND if that does not tell which */
WS_CHECKED enum ws_status ws_linux_open_overlay(const char *path, struct ws_source **source, struct ws_error *error);
/** Look beside an image for a list of checksums that names it. @return false, and an empty `list`, if there is none */
bool ws_linux_find_published(const char *image, char *list, size_t room);
/** Look for a detached signature of a file. @return false, and an empty `signature`, if there is none */
bool ws_linux_find_signature(const char *file, char *signature, size_t room);
/** Check a detached OpenPGP signature (RFC 4880) against the public keys in one file, and no others.
 *  @param who  out: the name of the key that signed
 *  @return WS_E_DIFFERENT if no key of the file made it over this text */
WS_CHECKED enum ws_status ws_linux_check_signature(const char *keyring, const char *signature, const char *file,
                                                   char *who, size_t room, struct ws_error *error);

struct ws_original;
/**
 * The system that runs here, or whose root is mounted at `root`, as the original of a twin: its root and what is
 * mounted into it from disks, file by file; swap; the table of the drive that the root is on. Nothing is written.
 * Content is read when it is wanted: see ws_twin_names_changed().
 * @return WS_E_NOTFOUND if nothing like a system is there; WS_E_UNSUPPORTED for a root behind a lock. Close it with
 *         ws_original_close() in any case
 */
WS_CHECKED enum ws_status ws_linux_running(const char *root, struct ws_original *original, struct ws_error *error);

struct ws_tree;
/** A folder of this machine as a tree: files, links, devices, owners, modes, times, hard links. Files are opened when
 *  they are read. */
WS_CHECKED enum ws_status ws_tree_from_folder(const char *path, struct ws_tree **tree, struct ws_error *error);

/** Tasks and clocks that other ports on the same machine can share. */
WS_CHECKED enum ws_status ws_linux_start(struct ws_port *port, void (*work)(void *context), void *context,
                                         struct ws_task **task, struct ws_error *error);
void ws_linux_join(struct ws_port *port, struct ws_task *task);
WS_CHECKED enum ws_status ws_linux_random(struct ws_port *port, void *bytes, size_t length, struct ws_error *error);
int64_t ws_linux_wall_clock(struct ws_port *port);
double ws_linux_steady_clock(struct ws_port *port);
bool ws_linux_pause(struct ws_port *port, double seconds);

/** How a document is put on disk. */
struct ws_keep {
    const char *format;       /**< a file that is a JSON document of this "format" is replaced; NULL: none is */
    bool over;                /**< replace any ordinary file */
    const char *const *never; /**< files that are not replaced all the same: inputs, targets; entries may be NULL */
    size_t nevers;
};
/** Put a document on disk under `path`: made beside under a random name, flushed, then renamed, so that there is always
 *  the whole old file or the whole new one. Links, devices and folders are never replaced.
 *  @return WS_E_REFUSED if something else stands there; WS_E_SPACE, WS_E_WRITE: nothing is left behind */
WS_CHECKED enum ws_status ws_linux_keep(const char *path, const void *bytes, size_t length, const struct ws_keep *keep,
                                        struct ws_error *error);
/** The same, bytes as they come: nothing stands under `path` before it is closed as good. */
struct ws_linux_out;
WS_CHECKED enum ws_status ws_linux_out_open(const char *path, const struct ws_keep *keep, struct ws_linux_out **out,
                                            struct ws_error *error);
/** A ws_archive_sink: the context is the struct ws_linux_out. */
WS_CHECKED enum ws_status ws_linux_out_put(void *out, const void *bytes, size_t length, struct ws_error *error);
/** @param good  false: it is dropped, and nothing is left behind */
enum ws_status ws_linux_out_close(struct ws_linux_out *out, bool good, struct ws_error *error);

/** A store for what is read from an archive: a file without a name in TMPDIR (or /var/tmp). */
WS_CHECKED enum ws_status ws_linux_store_open(struct ws_archive_store **store, struct ws_error *error);
void ws_linux_store_close(struct ws_archive_store *store); /**< NULL is accepted; after every tree that used it */

/** Is there a JSON document of this "format" at `path`, no link? */
bool ws_linux_is_document(const char *path, const char *format);
/** Is there any, and of which "format"? */
bool ws_linux_document(const char *path, char format[64]);

/** How the machine this runs on was started: BIOS or UEFI, Secure Boot on or off. */
void ws_linux_this_pc(struct ws_pc_facts *facts);

/** Note in `facts->in_use_by` what is built on a drive or its partitions (arrays, volume groups, encrypted volumes), by
 *  its folder in sysfs. */
void ws_linux_find_holders(const char *sysfs, struct ws_drive_facts *facts);

/** Fill a drive's facts from what the system knows of the block device at `path` ("/dev/sdb"). */
WS_CHECKED enum ws_status ws_linux_device_facts(const char *path, struct ws_drive_facts *facts, struct ws_error *error);

WS_END

#endif
