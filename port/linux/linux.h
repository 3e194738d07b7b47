/* linux.h — real drives and plain files on Linux. */
#ifndef WS_PORT_LINUX_H
#define WS_PORT_LINUX_H

#include "wild_satchel/port.h"

/** The port to this machine: block devices by path, and plain image files by path ("stick.img", "file:stick.img"). */
enum ws_status ws_linux_open(struct ws_port **port, struct ws_error *error);
void ws_port_close(struct ws_port *port);

/** Make a new sparse image file of `size` bytes, to be used as a drive. @return WS_E_REFUSED if the name is taken */
enum ws_status ws_linux_make_file(const char *path, uint64_t size, struct ws_error *error);
/** A file as a source; reading it from two tasks at once is allowed. */
enum ws_status ws_source_file(const char *path, struct ws_source **source, struct ws_error *error);

struct ws_tree;
/** A folder of this machine as a tree: files, links, devices, owners, modes, times, hard links. Files are opened when
 *  they are read. */
enum ws_status ws_tree_from_folder(const char *path, struct ws_tree **tree, struct ws_error *error);

/** Tasks and clocks that other ports on the same machine can share. */
enum ws_status ws_linux_start(struct ws_port *port, void (*work)(void *context), void *context, struct ws_task **task,
                              struct ws_error *error);
void ws_linux_join(struct ws_port *port, struct ws_task *task);
enum ws_status ws_linux_random(struct ws_port *port, void *bytes, size_t length, struct ws_error *error);
int64_t ws_linux_wall_clock(struct ws_port *port);
double ws_linux_steady_clock(struct ws_port *port);

/** Fill a drive's facts from what the system knows of the block device at `path` ("/dev/sdb"). */
enum ws_status ws_linux_device_facts(const char *path, struct ws_drive_facts *facts, struct ws_error *error);

#endif
