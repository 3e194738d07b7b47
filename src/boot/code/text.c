/* text.c — the little that start-up code misses of a C library. */
#include "start.h"

#include <stdarg.h>

size_t start_length(const char *text) {
    size_t n = 0;
    while (text[n]) n++;
    return n;
}

bool start_same(const char *a, const char *b) {
    while (*a && *a == *b) a++, b++;
    return *a == *b;
}

static char lower(char c) { return c >= 'A' && c <= 'Z' ? (char)(c + 32) : c; }

bool start_same_any_case(const char *a, const char *b) {
    while (*a && lower(*a) == lower(*b)) a++, b++;
    return lower(*a) == lower(*b);
}

struct out {
    char *text;
    size_t n, room;
};

static void add(struct out *o, char c) {
    if (o->n + 1 < o->room) o->text[o->n++] = c;
}

/* Decimal by subtraction of powers: a 64-bit division would need a library. */
static void add_decimal(struct out *o, uint64_t value) {
    uint64_t power = 1;
    while (power <= UINT64_MAX / 10 && power * 10 <= value) power *= 10;
    for (;;) {
        char digit = '0';
        while (value >= power) value -= power, digit++;
        add(o, digit);
        if (power == 1) return;
        uint64_t next = 1;
        while (next * 10 < power) next *= 10;
        power = next;
    }
}

static void format_list(struct out *o, const char *format, va_list list) {
    for (; *format; format++) {
        if (*format != '%') {
            add(o, *format);
            continue;
        }
        format++;
        if (*format == 's') {
            for (const char *s = va_arg(list, const char *); *s; s++) add(o, *s);
        } else if (*format == 'u') {
            add_decimal(o, va_arg(list, unsigned));
        } else if (*format == 'U') {
            add_decimal(o, va_arg(list, uint64_t));
        } else if (*format == 'x') {
            unsigned value = va_arg(list, unsigned);
            for (int shift = 28; shift >= 0; shift -= 4)
                if (value >> shift || shift <= 4) add(o, "0123456789abcdef"[value >> shift & 15]);
        } else {
            add(o, *format);
        }
    }
    o->text[o->n] = '\0';
}

size_t start_format(char *out, size_t room, const char *format, ...) {
    struct out o = {out, 0, room};
    va_list list;
    va_start(list, format);
    format_list(&o, format, list);
    va_end(list);
    return o.n;
}

void start_say(struct start_machine *m, const char *format, ...) {
    char line[1024];
    struct out o = {line, 0, sizeof line};
    va_list list;
    va_start(list, format);
    format_list(&o, format, list);
    va_end(list);
    m->put(m, line);
}

bool start_fail(struct start_machine *m, const char *format, ...) {
    struct out o = {m->error, 0, sizeof m->error};
    va_list list;
    va_start(list, format);
    format_list(&o, format, list);
    va_end(list);
    return false;
}

size_t start_utf8(uint16_t unit, char *out) {
    if (unit < 0x80) {
        out[0] = (char)unit;
        return 1;
    }
    if (unit < 0x800) {
        out[0] = (char)(0xc0 | unit >> 6);
        out[1] = (char)(0x80 | (unit & 63));
        return 2;
    }
    if (unit >= 0xd800 && unit < 0xe000) {
        out[0] = '?';
        return 1;
    }
    out[0] = (char)(0xe0 | unit >> 12);
    out[1] = (char)(0x80 | (unit >> 6 & 63));
    out[2] = (char)(0x80 | (unit & 63));
    return 3;
}

uint16_t start_utf16(const char **text) {
    const uint8_t *p = (const uint8_t *)*text;
    unsigned more = p[0] < 0xc0 ? 0 : p[0] < 0xe0 ? 1 : p[0] < 0xf0 ? 2 : 3;
    unsigned value = more == 0 ? p[0] : p[0] & (0x3fu >> more);
    unsigned i = 1;
    for (; i <= more && (p[i] & 0xc0) == 0x80; i++) value = value << 6 | (p[i] & 0x3f);
    *text += i;
    return more == 3 || i <= more ? '?' : (uint16_t)value;
}

uint16_t start_le16(const uint8_t *p) { return (uint16_t)(p[0] | p[1] << 8); }
uint32_t start_le32(const uint8_t *p) { return start_le16(p) | (uint32_t)start_le16(p + 2) << 16; }
uint64_t start_le64(const uint8_t *p) { return start_le32(p) | (uint64_t)start_le32(p + 4) << 32; }

unsigned start_wait_key(struct start_machine *m) {
    unsigned key = 0;
    while (!key && !m->off) key = m->key(m, START_WAIT_LONG);
    return key;
}
