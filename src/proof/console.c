/* console.c — a conversation with a shell over a console that echoes. */
#include "proof/console.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { ANSWER_S = 60 };

enum ws_status console_send(struct console *c, const char *text, struct ws_error *error) {
    return c->pc->ops->console_write(c->pc, text, error);
}

static enum ws_status listen(struct console *c, double wait_s, bool *any, struct ws_error *error) {
    char buffer[4096];
    size_t got = 0;
    WS_TRY(c->pc->ops->console_read(c->pc, buffer, sizeof buffer, wait_s, &got, error));
    *any = got > 0;
    size_t kept = 0;
    for (size_t i = 0; i < got; i++) { /* after a secret nothing, should it be echoed */
        if (c->veiled && buffer[i] != '\n') continue;
        c->veiled = false;
        buffer[kept++] = buffer[i];
        if (buffer[i] != '\0' && buffer[i] != '\r') ws_text_add(&c->seen, &buffer[i], 1); /* searches are for text */
    }
    if (kept && c->on_text) c->on_text(c->context, buffer, kept);
    return ws_text_status(&c->seen, error);
}

static void forget(struct console *c) {
    c->seen.length = 0;
    if (c->seen.data) c->seen.data[0] = '\0';
}

/* A shell that edits its line follows its prompt with a question to the terminal, "ESC [ 6 n". */
static size_t without_escapes(const char *text, size_t n) {
    for (;;) {
        size_t at = n;
        if (at == 0 || text[at - 1] < '@' || text[at - 1] > '~') return n;
        for (at--;
             at > 0 && ((text[at - 1] >= '0' && text[at - 1] <= '9') || text[at - 1] == ';' || text[at - 1] == '?');)
            at--;
        if (at < 2 || text[at - 1] != '[' || text[at - 2] != 27) return n;
        n = at - 2;
    }
}

/* What the last thing said waits for. */
enum waits { WAITS_NOTHING, WAITS_SHELL, WAITS_NAME, WAITS_PASSWORD, WAITS_PASSPHRASE };
#define RISE "ws\\-secret"
#define RISEN "ws-secret"

static bool has_any_case(const char *text, size_t n, const char *part) {
    const size_t length = strlen(part);
    for (size_t i = 0; i + length <= n; i++) {
        size_t k = 0;
        while (k < length && ((unsigned char)text[i + k] | 32) == (unsigned char)part[k]) k++;
        if (k == length) return true;
    }
    return false;
}

static bool ends_with(const char *text, size_t n, const char *end) {
    const size_t length = strlen(end);
    return n >= length && memcmp(text + n - length, end, length) == 0;
}

static enum waits waits_for(const struct console *c) {
    const char *text = c->seen.data;
    size_t n = text ? without_escapes(text, c->seen.length) : 0;
    size_t line = n;
    while (n > 0 && text[n - 1] == ' ') n--;
    while (line > 0 && text[line - 1] != '\n') line--;
    if (n <= line) return WAITS_NOTHING;
    text += line;
    n -= line;
    if (c->rising && ends_with(text, n, RISEN)) return WAITS_PASSWORD;
    if (text[n - 1] == '#' || text[n - 1] == '$') return WAITS_SHELL;
    if (text[n - 1] != ':' && !(text[n - 1] == ')' && has_any_case(text, n, "(press tab"))) return WAITS_NOTHING;
    if (has_any_case(text, n, "passphrase") || has_any_case(text, n, "unlock disk")) return WAITS_PASSPHRASE;
    if (ends_with(text, n, "login:")) return WAITS_NAME;
    return c->named_last || c->rising ? WAITS_PASSWORD : WAITS_NOTHING; /* in whatever language */
}

static enum ws_status tell(struct console *c, const char *secret, struct ws_error *error) {
    c->veiled = true;
    WS_TRY(console_send(c, secret, error));
    return console_send(c, "\n", error);
}

/* Answers what is asked, three times at most; `refused` says what was not taken, or not given. */
static enum ws_status answer(struct console *c, enum waits waits, struct ws_error *error) {
    bool was_named = c->named_last;
    c->named_last = false;
    switch (waits) {
    case WAITS_PASSPHRASE:
        if (!c->passphrase || c->unlocked++ == 3)
            c->refused = c->passphrase ? "did not take the passphrase" : "asked for a passphrase, and none is known";
        else return tell(c, c->passphrase, error);
        return WS_OK;
    case WAITS_NAME:
        if (!c->account || c->named++ == 3) {
            c->refused = c->account ? "did not take the account and its password"
                                    : "asked who logs in: name an account that may administer, with its password";
            return WS_OK;
        }
        c->named_last = true;
        WS_TRY(console_send(c, c->account, error));
        return console_send(c, "\n", error);
    case WAITS_PASSWORD:
        if (!c->password || (!was_named && c->answered++ == 3)) c->refused = "did not take the account's password";
        else return tell(c, c->password, error);
        return WS_OK;
    default: return WS_OK;
    }
}

/* Also one that was told to be quiet: it still reports errors, and its lines may come after a prompt, which then is not
 * the last thing said any more. */
static bool has_kernel_spoken(const char *seen) {
    static const char *const signs[] = {"Linux version", "Run /init", "The kernel takes over.", "\n[ ", "\n# ", "\n$ "};
    for (size_t i = 0; i < sizeof signs / sizeof signs[0]; i++)
        if (strstr(seen, signs[i])) return true;
    return false;
}

/* A terminal forgets what was typed before its shell opened it, up to any character. So what is typed has no quotes:
 * half a pair would leave the shell waiting for the other half, and each further line too. The backslash keeps the echo
 * of a line from being taken for its answer; left alone at an end it only joins the next line. */
#define QUESTION "\necho ws-shell\\-answers\n"
#define MARK_END "; echo ws-\\done-%u-$?-\n"

/* A key pressed while a start menu counts down stops it: nothing is typed before a kernel has spoken or a prompt is
 * there. Where somebody is to log in, a line of its own brings the prompt back behind what was said since. */
static enum ws_status wait_for_answer(struct console *c, double wait_s, bool *up, struct ws_error *error) {
    double began = c->port->ops->steady_clock(c->port);
    double quiet_since = began;
    double asked = 0;
    *up = false;
    forget(c);
    for (;;) {
        bool any = false;
        enum ws_status status = listen(c, 0.5, &any, error);
        c->off = status == WS_E_GONE;
        if (c->off) return WS_OK;
        WS_TRY(status);
        double now = c->port->ops->steady_clock(c->port);
        if (any) quiet_since = now;
        if (c->seen.data && strstr(c->seen.data, "ws-shell-answers")) {
            *up = true;
            return WS_OK;
        }
        if (c->seen.data && strstr(c->seen.data, "Kernel panic - not syncing") && now - quiet_since > 2.0) return WS_OK;
        bool kernel = has_kernel_spoken(c->seen.data ? c->seen.data : "");
        bool due = now - asked > 5.0;
        enum waits waits = waits_for(c);
        if (waits > WAITS_SHELL && now - quiet_since > 2.0 && now - asked > 3.0) {
            asked = now;
            WS_TRY(answer(c, waits, error));
            if (c->refused) return WS_OK;
        } else if (c->seen.length && now - quiet_since > 1.0 && due && waits <= WAITS_SHELL &&
                   (waits == WAITS_SHELL || (kernel && now - quiet_since > 12.0))) {
            bool name = waits == WAITS_NOTHING && ((c->account && !c->named) || (c->passphrase && !c->unlocked));
            asked = now;
            WS_TRY(console_send(c, name ? "\n" : QUESTION, error));
        }
        if (now - began > wait_s) return WS_OK;
    }
}

static enum ws_status administers(struct console *c, bool *does, struct ws_error *error) {
    struct ws_text out = {0};
    int result = 0;
    enum ws_status status = console_run(c, "id -u", &result, &out, error);
    size_t n = out.length; /* the last line: before it may stand what was echoed */
    while (n > 0 && strchr(" \t\n", out.data[n - 1])) n--;
    while (n > 0 && out.data[n - 1] != '\n') n--;
    const char *id = out.data ? out.data + n : "";
    while (id[0] == 27 && id[1] == '[') { /* a shell that edits its line says so before each answer: ESC [ ? 2004 l */
        for (id += 2; *id && (*id < '@' || *id > '~'); id++) {
        }
        id += *id != '\0';
    }
    *does = *id < '1' || *id > '9';
    ws_text_free(&out);
    return status;
}

/* Who logged in becomes who administers, by the system's own way. */
static enum ws_status rise(struct console *c, bool *up, struct ws_error *error) {
    bool does = false;
    WS_TRY(administers(c, &does, error));
    if (does) return WS_OK;
    c->rising = true;
    WS_TRY(console_send(c, "command -v sudo && exec sudo -p " RISE " sh || exec doas sh\n", error));
    WS_TRY(wait_for_answer(c, ANSWER_S, up, error));
    c->rising = false;
    if (*up) WS_TRY(administers(c, up, error));
    if (!*up) c->refused = "came up, but this account may not administer, as a proof has to: name one that may";
    return WS_OK;
}

enum ws_status console_wait_for_shell(struct console *c, double wait_s, bool *up, struct ws_error *error) {
    c->refused = NULL;
    c->named = c->answered = c->unlocked = 0;
    c->named_last = c->rising = c->veiled = false;
    WS_TRY(wait_for_answer(c, wait_s, up, error));
    return *up && c->account ? rise(c, up, error) : WS_OK;
}

enum ws_status console_run(struct console *c, const char *command, int *result, struct ws_text *out,
                           struct ws_error *error) {
    char line[1200];
    char mark[40];
    double began = c->port->ops->steady_clock(c->port);
    c->commands++;
    (void)snprintf(mark, sizeof mark, "ws-done-%u-", c->commands);
    (void)snprintf(line, sizeof line, "%s" MARK_END, command, c->commands);
    forget(c);
    WS_TRY(console_send(c, line, error));
    for (;;) {
        bool any = false;
        char *at = c->seen.data ? strstr(c->seen.data, mark) : NULL;
        char *end = at ? strchr(at + strlen(mark), '-') : NULL;
        if (end) {
            *result = atoi(at + strlen(mark));
            char *echo = strchr(c->seen.data, '\n'); /* the first line is our own, echoed */
            if (out && echo && echo + 1 < at) ws_text_add(out, echo + 1, (size_t)(at - echo - 1));
            return WS_OK;
        }
        WS_TRY(listen(c, 0.5, &any, error));
        if (c->port->ops->steady_clock(c->port) - began > ANSWER_S) {
            ws_fail(error, WS_E_READ, "the system stopped answering on its console");
            return ws_fail_where(error, "%.200s", command);
        }
    }
}

void console_tail(const struct console *c, char *out, size_t room) {
    size_t end = c->seen.length;
    size_t from = end;
    for (int lines = 0; from > 0 && end - from < room - 2; from--) /* at most a dozen whole lines */
        if (c->seen.data[from - 1] == '\n' && from < end && ++lines > 12) break;
    if (end > from) memcpy(out, c->seen.data + from, end - from);
    out[end - from] = '\0';
}

void console_free(struct console *c) { ws_text_free(&c->seen); }
