/* utf8.c — UTF-8 walked, and cut at whole characters (RFC 3629). */
#include "wild_satchel/base.h"

#include <string.h>

size_t ws_utf8_next(const char *text, size_t length, uint32_t *code) {
    const unsigned char *p = (const unsigned char *)text;
    static const uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
    if (length == 0) return 0;
    size_t n = p[0] < 0x80                   ? 1
               : p[0] >= 0xc2 && p[0] < 0xe0 ? 2
               : (p[0] & 0xf0) == 0xe0       ? 3
               : (p[0] & 0xf8) == 0xf0       ? 4
                                             : 0;
    if (n == 0 || n > length) return 0;
    uint32_t value = n == 1 ? p[0] : p[0] & (0x7fu >> n);
    for (size_t i = 1; i < n; i++) {
        if ((p[i] & 0xc0) != 0x80) return 0;
        value = value << 6 | (p[i] & 0x3fu);
    }
    if (value < least[n] || value > 0x10ffff || (value >= 0xd800 && value < 0xe000)) return 0;
    *code = value;
    return n;
}

void ws_utf8_trim(char *text) {
    size_t length = strlen(text);
    size_t start = length;
    uint32_t code;
    while (start > 0 && length - start < 4 && ((unsigned char)text[start - 1] & 0xc0) == 0x80) start--;
    if (start > 0 && (unsigned char)text[start - 1] >= 0xc0) start--;
    if (start < length && ws_utf8_next(text + start, length - start, &code) != length - start &&
        (unsigned char)text[start] >= 0xc0)
        text[start] = '\0';
}
