/* secret.h — the passwords of a build. */
#ifndef CLI_SECRET_H
#define CLI_SECRET_H

#include "cli/cli.h"

/* Give a build the passwords it needs: from the file descriptor, a line each, or asked for on a terminal. Without
 * either it gets none, and refuses. */
enum ws_status secret_give(struct cli *cli, struct ws_build *build, const char *descriptor);

#endif
