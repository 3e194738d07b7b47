/* internal.h — shared inside the Linux port. */
#ifndef WS_PORT_LINUX_INTERNAL_H
#define WS_PORT_LINUX_INTERNAL_H

#include "port/linux/linux.h"

#include <sys/types.h>

enum ws_status ws_linux_open_drive(struct ws_port *port, const char *id, enum ws_open_mode mode,
                                   struct ws_drive **drive, struct ws_error *error);

/** Does a device number belong to the drive with this kernel name ("sdb"), or to one of its partitions? */
bool ws_linux_belongs(const char *name, dev_t number);

/** A file as a source that closes `fd`; on failure `fd` is closed too. */
/* A new file without a name in TMPDIR or /var/tmp, read and write; -1 with an error. */
int ws_linux_nameless_file(struct ws_error *error);
enum ws_status ws_linux_source_fd(int fd, const char *path, uint64_t size, struct ws_source **source,
                                  struct ws_error *error);

#endif
