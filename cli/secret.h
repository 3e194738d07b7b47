/* secret.h — the passwords of a build. */
#ifndef CLI_SECRET_H
#define CLI_SECRET_H

#include "cli/cli.h"

/* Give builds of one request the passwords they need: from the file descriptor, a line each, or asked for on a
 * terminal. Without either it gets none, and refuses. After secret_keep() they are kept until secret_forget(), and
 * given to the builds of later calls, one a call, without a question. */
enum ws_status secret_give(struct cli *cli, struct ws_build *const *build, size_t builds, const char *descriptor);

/* Secrets that are known already, to be shown to nobody: from the file descriptor, a line each in this order, or asked
 * for once on a terminal. `out` is kept until secret_clear(); two at most.
 * @param descriptor  NULL: only a terminal is asked @return WS_E_USAGE where neither is there */
enum ws_status secret_ask(struct cli *cli, const char *descriptor, const char *const what[], size_t count,
                          const char *out[]);
void secret_clear(void);
void secret_keep(void);
/* The passphrase of a drive that is locked already. */
enum ws_status secret_passphrase(struct cli *cli, const char **out);

/* A recovery key for a locked system: written to the file descriptor, or kept to be shown on a terminal when the drive
 * is built. Without either there is none. After the passphrase.
 * @param name  to be written before it; NULL: nothing */
enum ws_status secret_recovery(struct cli *cli, struct ws_build *build, const char *descriptor, const char *name);
/* A key that was not shown is cleared, and what was kept. */
void secret_forget(void);
void secret_show_recovery(const struct cli *cli, const struct ws_build *build, bool made_elsewhere);

#endif
