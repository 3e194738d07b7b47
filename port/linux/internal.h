/* internal.h — shared inside the Linux port. */
#ifndef WS_PORT_LINUX_INTERNAL_H
#define WS_PORT_LINUX_INTERNAL_H

#include "wild_satchel/port/linux.h"

#include <sys/stat.h>

enum ws_status ws_linux_open_drive(struct ws_port *port, const char *id, enum ws_open_mode mode,
                                   struct ws_drive **drive, struct ws_error *error);

/** Does a device number belong to the drive with this kernel name ("sdb"), or to one of its partitions? */
bool ws_linux_belongs(const char *name, dev_t number);

/** The same for a drive by its own number. */
bool ws_linux_belongs_to(dev_t drive, dev_t number);
/** As ws_linux_device_facts() for a device number; `path` is what the drive is opened by.
 *  @param sequence  out, may be NULL: the number the kernel gave this disk and no other since it started; 0 unknown */
enum ws_status ws_linux_device_facts_of(dev_t number, const char *path, struct ws_drive_facts *facts,
                                        uint64_t *sequence, struct ws_error *error);
/** Note in `facts->in_use_by` which loop devices, with what is mounted from them, and which swap use a plain file. */
void ws_linux_find_file_users(const struct stat *file, struct ws_drive_facts *facts);

/** A file's hole or data from `at` on, see ws_source_ops. */
void ws_linux_piece(int fd, uint64_t at, struct ws_piece *piece);

/** The drive in a virtual disk file; on success the source closes `file`, too. @return WS_E_NOTFOUND if it is none */
enum ws_status ws_linux_open_virtual(const char *path, struct ws_source *file, struct ws_source **source,
                                     struct ws_error *error);
struct ws_tree;
/** A mounted file system in use as a tree: what is mounted inside it is passed over but for these devices, files that
 *  change or go while they are read read as zeros where nothing is left. */
enum ws_status ws_linux_tree_of_mount(const char *path, const dev_t *devices, size_t count, struct ws_tree **tree,
                                      struct ws_error *error);
struct ws_disk;
struct ws_disk_file;
/** A virtual disk in the open file `fd`, to be written to. @param file  what it borrows: its `state` is set to `fd`
 *  @return as ws_disk_open() */
enum ws_status ws_linux_edit_virtual(int fd, struct ws_disk_file *file, struct ws_disk **disk, struct ws_error *error);
/** An empty one in the open, empty file. */
enum ws_status ws_linux_create_virtual(int fd, const char *format, uint64_t size, struct ws_error *error);
/** A new file without a name in TMPDIR or /var/tmp, read and write; -1 with an error. */
int ws_linux_nameless_file(struct ws_error *error);
/** Is there room for so many bytes in it? @return WS_E_SPACE with what to do */
enum ws_status ws_linux_spool_fits(int fd, uint64_t bytes, struct ws_error *error);
/** A file as a source that closes `fd`; on failure `fd` is closed too. */
enum ws_status ws_linux_source_fd(int fd, const char *path, uint64_t size, struct ws_source **source,
                                  struct ws_error *error);

#endif
