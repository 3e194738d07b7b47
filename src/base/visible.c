/* visible.c — text from outside made fit to be shown: what would steer a terminal, or turn a line round, becomes
 * visible. */
#include "wild_satchel/base.h"

#include <stdio.h>
#include <string.h>

/* Controls (C0, DEL, C1), line and paragraph separators, and what changes the direction of writing (Unicode 15,
 * section 23.2 and UAX 9). */
static bool steers(uint32_t c) {
    return c < 0x20 || (c >= 0x7f && c < 0xa0) || c == 0x061c || (c >= 0x200e && c <= 0x200f) ||
           (c >= 0x2028 && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069) || c == 0xfeff;
}

bool ws_is_visible(const char *text) {
    size_t length = strlen(text);
    for (size_t i = 0; i < length;) {
        uint32_t code = 0;
        size_t n = ws_utf8_next(text + i, length - i, &code);
        if (n == 0 || steers(code)) return false;
        i += n;
    }
    return true;
}

void ws_text_visible(struct ws_text *out, const char *text) {
    size_t length = strlen(text);
    for (size_t i = 0; i < length;) {
        uint32_t code = 0;
        size_t n = ws_utf8_next(text + i, length - i, &code);
        if (n == 0) ws_text_printf(out, "\\x%02x", (unsigned)(unsigned char)text[i]);
        else if (steers(code)) ws_text_printf(out, code < 0x100 ? "\\x%02x" : "\\u%04x", (unsigned)code);
        else ws_text_add(out, text + i, n);
        i += n ? n : 1;
    }
}

void ws_visible(const char *text, char *out, size_t room) {
    struct ws_text made = {0};
    ws_text_visible(&made, text);
    (void)snprintf(out, room, "%s", made.data ? made.data : "");
    ws_utf8_trim(out);
    ws_text_free(&made);
}

void ws_make_visible(char *text, size_t room) {
    ws_utf8_trim(text);
    if (!ws_is_visible(text)) ws_visible(text, text, room); /* made first, then put there */
}
