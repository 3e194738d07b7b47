/* status.c — the one way to fail. */
#include "wild_satchel/base.h"

#include <stdarg.h>
#include <stdio.h>

/* The status of this thread's last failure, for callers who want no text: what is added to a failure that nobody holds
 * hands up the same status as to one that somebody does. The only state the library keeps of its own accord. */
static _Thread_local enum ws_status last = WS_E_FORMAT;

enum ws_status ws_fail(struct ws_error *error, enum ws_status status, const char *format, ...) {
    if (error) {
        va_list list;
        va_start(list, format);
        error->status = status;
        error->where[0] = error->next[0] = '\0';
        error->ways = 0;
        (void)vsnprintf(error->what, sizeof error->what, format, list);
        ws_utf8_trim(error->what);
        va_end(list);
    }
    last = status;
    return status;
}

enum ws_status ws_fail_where(struct ws_error *error, const char *format, ...) {
    if (!error) return last;
    if (!error->where[0]) {
        va_list list;
        va_start(list, format);
        (void)vsnprintf(error->where, sizeof error->where, format, list);
        ws_utf8_trim(error->where);
        va_end(list);
    }
    return error->status;
}

enum ws_status ws_fail_next(struct ws_error *error, const char *format, ...) {
    if (!error) return last;
    if (!error->next[0]) {
        va_list list;
        va_start(list, format);
        (void)vsnprintf(error->next, sizeof error->next, format, list);
        ws_utf8_trim(error->next);
        va_end(list);
    }
    return error->status;
}

enum ws_status ws_fail_way(struct ws_error *error, enum ws_hint hint, const char *value) {
    if (!error) return last;
    if (error->ways < WS_WAYS) {
        struct ws_way *w = &error->way[error->ways++];
        w->hint = hint;
        (void)snprintf(w->value, sizeof w->value, "%s", value);
        ws_utf8_trim(w->value);
    }
    return error->status;
}

enum ws_status ws_fail_hint(struct ws_error *error, enum ws_hint hint, const char *value, const char *format, ...) {
    if (!error) return last;
    if (error->next[0]) return error->status;
    va_list list;
    va_start(list, format);
    (void)vsnprintf(error->next, sizeof error->next, format, list);
    ws_utf8_trim(error->next);
    va_end(list);
    return ws_fail_way(error, hint, value);
}

const char *ws_status_name(enum ws_status status) {
    static const char *const names[] = {"ok",      "usage",     "no-memory",   "range",     "read",
                                        "write",   "format",    "unsupported", "not-found", "space",
                                        "refused", "different", "gone",        "cancelled"};
    return (size_t)status < sizeof names / sizeof names[0] ? names[status] : "unknown";
}
