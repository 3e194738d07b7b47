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
    for (size_t i = 0; i < got; i++) /* searches below are for text */
        if (buffer[i] != '\0' && buffer[i] != '\r') ws_text_add(&c->seen, &buffer[i], 1);
    if (got && c->on_text) c->on_text(c->context, buffer, got);
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

static bool ends_like_prompt(const struct ws_text *seen) {
    size_t n = without_escapes(seen->data, seen->length);
    while (n > 0 && seen->data[n - 1] == ' ') n--;
    return n > 0 && (seen->data[n - 1] == '#' || seen->data[n - 1] == '$');
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
 * there. */
enum ws_status console_wait_for_shell(struct console *c, double wait_s, bool *up, struct ws_error *error) {
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
        bool quiet = now - quiet_since > 1.0;
        bool due = now - asked > 5.0;
        if (c->seen.length && quiet && due && (ends_like_prompt(&c->seen) || (kernel && now - quiet_since > 12.0))) {
            asked = now;
            WS_TRY(console_send(c, QUESTION, error));
        }
        if (now - began > wait_s) return WS_OK;
    }
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
