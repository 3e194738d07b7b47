/* text.c — text that grows, sizes and durations in words. */
#include "wild_satchel/base.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

void ws_text_reserve(struct ws_text *text, size_t more) {
    if (text->failed || more > SIZE_MAX / 4 || text->length > SIZE_MAX / 4) return;
    if (text->room > text->length + more) return;
    char *grown = realloc(text->data, text->length + more + 1);
    if (!grown) return;
    text->data = grown;
    text->room = text->length + more + 1;
    text->data[text->length] = '\0';
}

void ws_text_add(struct ws_text *text, const void *bytes, size_t length) {
    if (text->failed) return;
    if (length > SIZE_MAX / 4 || text->length > SIZE_MAX / 4) {
        text->failed = true;
        return;
    }
    if (text->length + length + 1 > text->room) {
        size_t room = (text->length + length + 1) * 3 / 2 + 64;
        char *grown = realloc(text->data, room);
        if (!grown) {
            text->failed = true;
            return;
        }
        text->data = grown;
        text->room = room;
    }
    if (length) memcpy(text->data + text->length, bytes, length);
    text->length += length;
    text->data[text->length] = '\0';
}

void ws_text_puts(struct ws_text *text, const char *string) { ws_text_add(text, string, strlen(string)); }

void ws_text_vprintf(struct ws_text *text, const char *format, va_list list) {
    char small[512];
    va_list again;
    va_copy(again, list);
    int length = vsnprintf(small, sizeof small, format, list);
    char *large = length >= (int)sizeof small ? malloc((size_t)length + 1) : NULL;
    if (large) (void)vsnprintf(large, (size_t)length + 1, format, again);
    va_end(again);
    if (length < 0 || (length >= (int)sizeof small && !large)) text->failed = true;
    else ws_text_add(text, large ? large : small, (size_t)length);
    free(large);
}

void ws_text_printf(struct ws_text *text, const char *format, ...) {
    va_list list;
    va_start(list, format);
    ws_text_vprintf(text, format, list);
    va_end(list);
}

void ws_text_free(struct ws_text *text) {
    free(text->data);
    memset(text, 0, sizeof *text);
}

enum ws_status ws_text_status(const struct ws_text *text, struct ws_error *error) {
    return text->failed ? ws_fail(error, WS_E_NOMEM, "out of memory while putting text together") : WS_OK;
}

static void size_in(uint64_t bytes, double base, const char *const units[5], char *out, size_t room) {
    double value = (double)bytes;
    int unit = 0;
    while (value >= base * 0.9995 && unit < 4) {
        value /= base;
        unit++;
    }
    uint64_t tenths = (uint64_t)(value * 10 + 0.5); /* in whole numbers: a locale may write others with a comma */
    bool whole = unit == 0 || value >= 100 || fabs(value - floor(value + 0.5)) < 0.05;
    if (whole) (void)snprintf(out, room, "%llu %s", (unsigned long long)(value + 0.5), units[unit]);
    else
        (void)snprintf(out, room, "%llu.%llu %s", (unsigned long long)(tenths / 10), (unsigned long long)(tenths % 10),
                       units[unit]);
}

static const char *const units_counted[5] = {"bytes", "KiB", "MiB", "GiB", "TiB"};
static const char *const units_sold[5] = {"bytes", "kB", "MB", "GB", "TB"};

const char *ws_size_counted(uint64_t bytes, char *out, size_t room) {
    size_in(bytes, 1024, units_counted, out, room);
    return out;
}

const char *ws_size_both(uint64_t bytes, char *out, size_t room) {
    char sold[24];
    char counted[24];
    size_in(bytes, 1000, units_sold, sold, sizeof sold);
    size_in(bytes, 1024, units_counted, counted, sizeof counted);
    if (bytes < 1000) (void)snprintf(out, room, "%s", sold);
    else (void)snprintf(out, room, "%s · %s", sold, counted);
    return out;
}

/* Digits, perhaps with a point and more of them, in any locale. `end` stays NULL if there are none. */
static double decimal(const char *text, const char **end) {
    double value = 0;
    double digit = 1;
    const char *p = text;
    if (*p < '0' || *p > '9') return -1;
    for (; *p >= '0' && *p <= '9'; p++) value = value * 10 + (*p - '0');
    if (*p == '.' || *p == ',') {
        const char *first = p + 1;
        for (p++; *p >= '0' && *p <= '9'; p++) value += (*p - '0') * (digit /= 10);
        /* "1,500M": is that one and a half, or fifteen hundred? */
        if (first[-1] == ',' && p - first == 3) return -1;
    }
    *end = p;
    return value;
}

/* Of any case. */
static bool same_letters(const char *text, const char *small) {
    while (*small && ws_lower(*text) == *small) text++, small++;
    return !*text && !*small;
}

enum ws_status ws_size_parse(const char *text, uint64_t *bytes, struct ws_error *error) {
    static const struct {
        const char *name;
        double factor;
    } units[] = {{"", 1},
                 {"b", 1},
                 {"bytes", 1},
                 {"k", 1024.0},
                 {"kib", 1024.0},
                 {"kb", 1e3},
                 {"m", 1048576.0},
                 {"mib", 1048576.0},
                 {"mb", 1e6},
                 {"g", 1073741824.0},
                 {"gib", 1073741824.0},
                 {"gb", 1e9},
                 {"t", 1099511627776.0},
                 {"tib", 1099511627776.0},
                 {"tb", 1e12}};
    const char *end = NULL;
    const char *start = text ? text : "";
    double value = decimal(start, &end);
    if (end) {
        while (*end == ' ') end++;
        for (size_t i = 0; i < sizeof units / sizeof units[0]; i++) {
            if (!same_letters(end, units[i].name)) continue;
            double total = value * units[i].factor;
            if (total < 0 || total > 1.8e19)
                return ws_fail(error, WS_E_RANGE, "the size \"%s\" is larger than any drive", start);
            *bytes = (uint64_t)(total + 0.5);
            return WS_OK;
        }
    }
    ws_fail(error, WS_E_USAGE, "\"%s\" is not a size", start);
    return ws_fail_next(error, "write a number and a unit: 4G or 4GiB (counted in 1024s), 4GB (as drives are sold)");
}

const char *ws_duration(double seconds, char *out, size_t room) {
    unsigned tenths = seconds < 10 ? (unsigned)(seconds * 10 + 0.5) : 0;
    if (seconds < 10) (void)snprintf(out, room, "%u.%u s", tenths / 10, tenths % 10);
    else if (seconds < 120) (void)snprintf(out, room, "%.0f s", seconds);
    else if (seconds < 7200) (void)snprintf(out, room, "%.0f min", seconds / 60);
    else (void)snprintf(out, room, "%d h %02d min", (int)(seconds / 3600), (int)(seconds / 60) % 60);
    return out;
}
