/* console.h — a shell at the other end of a console: wait for it, run a line, read what it printed. */
#ifndef WS_PROOF_CONSOLE_H
#define WS_PROOF_CONSOLE_H

#include "wild_satchel/port.h"
#include "wild_satchel/proof.h"

struct console {
    struct ws_pc *pc;
    struct ws_port *port;
    void (*on_text)(void *context, const char *text, size_t length);
    void *context;
    struct ws_text seen; /* since the last command, or since power-on */
    unsigned commands;
    bool off;                                    /* the PC switched itself off */
    const char *account, *password, *passphrase; /* NULL: none */
    const char *refused;                         /* what it did not take, or was not told: behind "start N" */
    unsigned named, answered, unlocked;          /* so often since power-on */
    bool named_last, rising, veiled;
};

enum ws_status console_send(struct console *c, const char *text, struct ws_error *error);
/** Read until a shell answers that may administer; who logs in is told where that is asked. `up` is false if none did
 * in time, the PC went off, or it asked for what it was not told. */
enum ws_status console_wait_for_shell(struct console *c, double wait_s, bool *up, struct ws_error *error);
/** Run one line; `out` (may be NULL) receives what it printed. @return WS_E_READ if no answer comes within a minute */
enum ws_status console_run(struct console *c, const char *command, int *result, struct ws_text *out,
                           struct ws_error *error);
/** disk.c: how does the running system show a disk of so many sectors? */
enum ws_status console_ask_for_disk(struct console *c, uint64_t sectors, enum ws_disk_seen *seen,
                                    struct ws_error *error);
/** The last lines seen. */
void console_tail(const struct console *c, char *out, size_t room);
void console_free(struct console *c);

#endif
