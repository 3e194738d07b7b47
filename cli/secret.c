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

static char recovery[WS_RECOVERY_ROOM];

/* For drives that are still to come. */
static char later[WS_ACCOUNTS_MOST + 1][WS_PASSWORD_MOST + 1];
static bool keeps;
static size_t have;

static void guard(void) {
    enum { KEYS = 65536, LEAST = 64 }; /* bytes for keys in libcrypto, locked and cleared by it */
    const struct rlimit none = {0, 0};
    if (!CRYPTO_secure_malloc_initialized()) (void)CRYPTO_secure_malloc_init(KEYS, LEAST);
    (void)setrlimit(RLIMIT_CORE, &none);
    (void)mlock(kept, sizeof kept);
    (void)mlock(again, sizeof again);
    (void)mlock(recovery, sizeof recovery);
    (void)mlock(later, sizeof later);
}

void secret_clear(void) {
    OPENSSL_cleanse(kept, sizeof kept);
    OPENSSL_cleanse(again, sizeof again);
}

static void forget_recovery(void) { OPENSSL_cleanse(recovery, sizeof recovery); }

void secret_forget(void) {
    forget_recovery();
    OPENSSL_cleanse(later, sizeof later);
    have = 0;
}

void secret_keep(void) { keeps = true; }

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

/* What is kept, to the build. A passphrase is typed where the keyboard may be another. */
static enum ws_status give(struct cli *cli, struct ws_build *const *build, size_t builds, size_t number) {
    size_t doubtful = ws_build_password_of(build[0], number)[0] ? 0 : ws_passphrase_doubtful(kept);
    if (doubtful && !cli->json)
        fprintf(
            stderr,
            "  %zu of its characters stand elsewhere on other keyboards; at a start most systems know the US layout "
            "only.\n",
            doubtful);
    for (size_t i = 0; i < builds; i++) WS_TRY(ws_build_password(build[i], number, kept, &cli->error));
    if (keeps && number == have && number <= WS_ACCOUNTS_MOST && strlen(kept) < sizeof later[0])
        memcpy(later[have++], kept, strlen(kept) + 1);
    return WS_OK;
}

static enum ws_status give_again(struct cli *cli, struct ws_build *build) {
    for (size_t i = 0; i < have; i++) WS_TRY(ws_build_password(build, i, later[i], &cli->error));
    return WS_OK;
}

static enum ws_status from_descriptor(struct cli *cli, struct ws_build *const *build, size_t builds, int fd) {
    for (size_t i = 0; i < ws_build_passwords(build[0]); i++) {
        bool end = false;
        WS_TRY(read_line(cli, fd, kept, &end));
        if (end && !kept[0])
            return ws_fail(&cli->error, WS_E_USAGE, "%zu passwords are needed, a line each, and only %zu came",
                           ws_build_passwords(build[0]), i);
        WS_TRY(give(cli, build, builds, i));
    }
    return WS_OK;
}

static enum ws_status ask_once(struct cli *cli, const char *what, const char *whose, char out[ROOM]) {
    bool end = false;
    fprintf(stderr, "  %s%s%s: ", what, whose[0] ? " for " : "", whose);
    fflush(stderr);
    enum ws_status status = read_line(cli, STDIN_FILENO, out, &end);
    fputc('\n', stderr);
    return status;
}

static enum ws_status ask(struct cli *cli, struct ws_build *const *build, size_t builds, size_t number) {
    const char *whose = ws_build_password_of(build[0], number);
    for (int tries = 0; tries < 3; tries++) {
        WS_TRY(ask_once(cli, whose[0] ? "Password" : "Passphrase that opens the drive", whose, kept));
        WS_TRY(ask_once(cli, "The same again", whose, again));
        if (strcmp(kept, again) == 0) return give(cli, build, builds, number);
        fprintf(stderr, "  The two are not the same.\n");
    }
    return ws_fail(&cli->error, WS_E_USAGE, "no password was typed twice the same; nothing was written");
}

static enum ws_status be_silent(struct cli *cli, struct termios *was) {
    if (tcgetattr(STDIN_FILENO, was) != 0)
        return ws_fail(&cli->error, WS_E_READ, "the terminal cannot be told not to show passwords: %s",
                       strerror(errno));
    struct termios silent = *was;
    silent.c_lflag &= ~(tcflag_t)ECHO;
    (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
    return WS_OK;
}

static enum ws_status from_terminal(struct cli *cli, struct ws_build *const *build, size_t builds) {
    struct termios was;
    enum ws_status status = be_silent(cli, &was);
    if (status != WS_OK) return status;
    for (size_t i = 0; status == WS_OK && i < ws_build_passwords(build[0]); i++) status = ask(cli, build, builds, i);
    (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &was);
    return status;
}

static enum ws_status descriptor_of(struct cli *cli, const char *option, const char *text, int *fd) {
    char *end;
    long n = strtol(text, &end, 10);
    if (*end || end == text || n < 0 || n > 1 << 20)
        return ws_fail(&cli->error, WS_E_USAGE, "%s takes the number of an open file", option);
    *fd = (int)n;
    return WS_OK;
}

enum ws_status secret_ask(struct cli *cli, const char *descriptor, const char *const what[], size_t count,
                          const char *out[]) {
    char *const rooms[] = {kept, again};
    struct termios was;
    int fd = -1;
    bool terminal = !descriptor && isatty(STDIN_FILENO) && cli->terminal && !cli->json;
    enum ws_status status = WS_OK;
    if (!count) return WS_OK;
    guard();
    if (descriptor) status = descriptor_of(cli, "--password-fd", descriptor, &fd);
    else if (terminal) status = be_silent(cli, &was);
    else status = ws_fail(&cli->error, WS_E_USAGE, "%s is needed, and was not given", what[0]);
    if (!descriptor && !terminal)
        (void)ws_fail_next(&cli->error, "--password-fd N reads from an open file, a line each");
    for (size_t i = 0; i < count && status == WS_OK; i++) {
        bool end = false;
        status = descriptor ? read_line(cli, fd, rooms[i], &end) : ask_once(cli, what[i], "", rooms[i]);
        out[i] = rooms[i];
        if (status == WS_OK && !rooms[i][0])
            status = ws_fail(&cli->error, WS_E_USAGE, "%s is needed, and did not come: line %zu of %zu", what[i], i + 1,
                             count);
    }
    if (terminal) (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &was);
    if (status != WS_OK) secret_clear();
    return status;
}

enum ws_status secret_passphrase(struct cli *cli, const char **out) {
    static const char *const what[] = {"Passphrase that opens the drive"};
    return secret_ask(cli, cli->secrets, what, 1, out);
}

static enum ws_status put_recovery(struct cli *cli, int fd, const char *name) {
    char line[WS_RECOVERY_ROOM + 80];
    (void)snprintf(line, sizeof line, "%.64s%s%s\n", name ? name : "", name ? "\t" : "", recovery);
    ssize_t put = write(fd, line, strlen(line));
    bool whole = put == (ssize_t)strlen(line);
    OPENSSL_cleanse(line, sizeof line);
    if (whole) return WS_OK;
    ws_fail(&cli->error, WS_E_WRITE, "the recovery key cannot be written to that open file: %s", strerror(errno));
    return ws_fail_next(&cli->error, "nothing was written to the drive");
}

static bool makes_lock(const struct ws_build *build) {
    size_t count = ws_build_passwords(build);
    return count && !ws_build_password_of(build, count - 1)[0];
}

/* Written out before the drive is: what was lost on the way opens nothing then. */
enum ws_status secret_recovery(struct cli *cli, struct ws_build *build, const char *descriptor, const char *name) {
    int fd = -1;
    if (!makes_lock(build)) {
        if (!descriptor) return WS_OK;
        return ws_fail(&cli->error, WS_E_USAGE, "this plan locks nothing that a recovery key could open");
    }
    if (descriptor) WS_TRY(descriptor_of(cli, "--recovery-fd", descriptor, &fd));
    if (!descriptor && (cli->json || !isatty(STDIN_FILENO) || !cli->terminal)) return WS_OK;
    WS_TRY(ws_build_recovery(build, recovery, &cli->error));
    enum ws_status status = descriptor ? put_recovery(cli, fd, name) : WS_OK;
    if (descriptor || status != WS_OK) forget_recovery();
    return status;
}

/* Once, and past whatever the output is kept by. */
void secret_show_recovery(const struct cli *cli, const struct ws_build *build, bool made_elsewhere) {
    if (!makes_lock(build) || cli->json) return;
    if (recovery[0]) {
        fprintf(stderr, "\n  Recovery key  %s\n", recovery);
        fprintf(stderr,
                "                It opens the drive where the passphrase is forgotten, typed with its blanks. It is "
                "shown this once: write it down.\n\n");
        forget_recovery();
    } else if (!made_elsewhere) {
        show_field(cli, "Recovery key", "none: it is shown on a terminal only, or written where --recovery-fd says");
    }
}

enum ws_status secret_give(struct cli *cli, struct ws_build *const *build, size_t builds, const char *descriptor) {
    enum ws_status status = WS_OK;
    if (!ws_build_passwords(build[0]) && descriptor)
        return ws_fail(&cli->error, WS_E_USAGE, "this plan has no account and no lock that needs a password");
    if (!ws_build_passwords(build[0])) return WS_OK;
    if (have == ws_build_passwords(build[0])) return give_again(cli, build[0]);
    guard();
    if (descriptor) {
        int fd = -1;
        status = descriptor_of(cli, "--password-fd", descriptor, &fd);
        if (status == WS_OK) status = from_descriptor(cli, build, builds, fd);
    } else if (isatty(STDIN_FILENO)) {
        status = from_terminal(cli, build, builds);
    }
    secret_clear();
    return status;
}
