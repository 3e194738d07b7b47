/* status.c — the one way to fail. */
#include "wild_satchel/status.h"

#include <stdarg.h>
#include <stdio.h>

/* A failure whose status nobody kept is still a failure. */
static const enum ws_status nobody_asked = WS_E_FORMAT;

enum ws_status ws_fail(struct ws_error *error, enum ws_status status, const char *format, ...) {
    if (error) {
        va_list list;
        va_start(list, format);
        error->status = status;
        error->where[0] = error->next[0] = '\0';
        (void)vsnprintf(error->what, sizeof error->what, format, list);
        va_end(list);
    }
    return status;
}

enum ws_status ws_fail_where(struct ws_error *error, const char *format, ...) {
    if (!error) return nobody_asked;
    if (!error->where[0]) {
        va_list list;
        va_start(list, format);
        (void)vsnprintf(error->where, sizeof error->where, format, list);
        va_end(list);
    }
    return error->status;
}

enum ws_status ws_fail_next(struct ws_error *error, const char *format, ...) {
    if (!error) return nobody_asked;
    if (!error->next[0]) {
        va_list list;
        va_start(list, format);
        (void)vsnprintf(error->next, sizeof error->next, format, list);
        va_end(list);
    }
    return error->status;
}

const char *ws_status_name(enum ws_status status) {
    static const char *const names[] = {"ok",      "usage",     "no-memory",   "range",     "read",
                                        "write",   "format",    "unsupported", "not-found", "space",
                                        "refused", "different", "gone",        "cancelled"};
    return (size_t)status < sizeof names / sizeof names[0] ? names[status] : "unknown";
}
