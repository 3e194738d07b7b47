/* secret.c — passwords: asked for without echo, twice, or read from a file descriptor; in memory that is neither
 * swapped out nor dumped, and cleared. */
#include "cli/secret.h"

#include <errno.h>
#include <openssl/crypto.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <termios.h>
#include <unistd.h>

enum { ROOM = 8192 };
static char kept[ROOM], again[ROOM];

static void guard(void) {
    const struct rlimit none = {0, 0};
    (void)setrlimit(RLIMIT_CORE, &none);
    (void)mlock(kept, sizeof kept);
    (void)mlock(again, sizeof again);
}

static void secret_clear(void) {
    OPENSSL_cleanse(kept, sizeof kept);
    OPENSSL_cleanse(again, sizeof again);
}

/* No stdio: its buffers keep what passed through them. */
static enum ws_status read_line(struct cli *cli, int fd, char out[ROOM], bool *end) {
    size_t n = 0;
    for (;;) {
        char c;
        ssize_t got = read(fd, &c, 1);
        if (got < 0 && errno == EINTR && !stop_asked()) continue;
        if (stop_asked()) return ws_fail(&cli->error, WS_E_CANCELLED, "stopped as asked; nothing was written");
        if (got < 0) return ws_fail(&cli->error, WS_E_READ, "the passwords cannot be read: %s", strerror(errno));
        *end = got == 0;
        if (got == 0 || c == '\n') break;
        if (n + 1 >= ROOM)
            return ws_fail(&cli->error, WS_E_USAGE, "a password of over %d bytes is taken by no system",
                           WS_PASSWORD_MOST);
        out[n++] = c;
    }
    if (n && out[n - 1] == '\r') n--;
    out[n] = '\0';
    return WS_OK;
}

static enum ws_status from_descriptor(struct cli *cli, struct ws_build *build, int fd) {
    for (size_t i = 0; i < ws_build_passwords(build); i++) {
        bool end = false;
        WS_TRY(read_line(cli, fd, kept, &end));
        if (end && !kept[0])
            return ws_fail(&cli->error, WS_E_USAGE, "%zu passwords are needed, a line each, and only %zu came",
                           ws_build_passwords(build), i);
        WS_TRY(ws_build_password(build, i, kept, &cli->error));
    }
    return WS_OK;
}

static enum ws_status ask_once(struct cli *cli, const char *what, const char *whose, char out[ROOM]) {
    bool end = false;
    fprintf(stderr, "  %s for %s: ", what, whose);
    fflush(stderr);
    enum ws_status status = read_line(cli, STDIN_FILENO, out, &end);
    fputc('\n', stderr);
    return status;
}

static enum ws_status ask(struct cli *cli, struct ws_build *build, size_t number) {
    const char *whose = ws_build_password_of(build, number);
    for (int tries = 0; tries < 3; tries++) {
        WS_TRY(ask_once(cli, "Password", whose, kept));
        WS_TRY(ask_once(cli, "The same again", whose, again));
        if (strcmp(kept, again) == 0) return ws_build_password(build, number, kept, &cli->error);
        fprintf(stderr, "  The two are not the same.\n");
    }
    return ws_fail(&cli->error, WS_E_USAGE, "no password was typed twice the same; nothing was written");
}

static enum ws_status from_terminal(struct cli *cli, struct ws_build *build) {
    struct termios was, silent;
    enum ws_status status = WS_OK;
    if (tcgetattr(STDIN_FILENO, &was) != 0)
        return ws_fail(&cli->error, WS_E_READ, "the terminal cannot be told not to show passwords: %s",
                       strerror(errno));
    silent = was;
    silent.c_lflag &= ~(tcflag_t)ECHO;
    (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
    for (size_t i = 0; status == WS_OK && i < ws_build_passwords(build); i++) status = ask(cli, build, i);
    (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &was);
    return status;
}

enum ws_status secret_give(struct cli *cli, struct ws_build *build, const char *descriptor) {
    enum ws_status status = WS_OK;
    if (!ws_build_passwords(build) && descriptor)
        return ws_fail(&cli->error, WS_E_USAGE, "this plan has no account that needs a password");
    if (!ws_build_passwords(build)) return WS_OK;
    guard();
    if (descriptor) {
        char *end;
        long fd = strtol(descriptor, &end, 10);
        if (*end || end == descriptor || fd < 0 || fd > 1 << 20)
            return ws_fail(&cli->error, WS_E_USAGE, "--password-fd takes the number of an open file, not a password");
        status = from_descriptor(cli, build, (int)fd);
    } else if (isatty(STDIN_FILENO)) {
        status = from_terminal(cli, build);
    }
    secret_clear();
    return status;
}
