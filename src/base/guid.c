/* guid.c — GUIDs in text, on disk, and derived from names; UTF-16 for the formats that use it. */
#include "base/bytes.h"
#include "wild_satchel/base.h"

#include <stdio.h>
#include <string.h>

const char *ws_guid_text(const struct ws_guid *guid, char *out) {
    char *p = out;
    for (int i = 0; i < 16; i++) {
        if (i == 4 || i == 6 || i == 8 || i == 10) *p++ = '-';
        (void)snprintf(p, 3, "%02x", guid->byte[i]);
        p += 2;
    }
    return out;
}

static int hex_digit(char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    return -1;
}

bool ws_guid_parse(const char *text, struct ws_guid *guid) {
    if (strlen(text) != 36) return false;
    const char *p = text;
    for (int i = 0; i < 16; i++) {
        if ((i == 4 || i == 6 || i == 8 || i == 10) && *p++ != '-') return false;
        int high = hex_digit(p[0]);
        int low = high < 0 ? -1 : hex_digit(p[1]);
        if (low < 0) return false;
        guid->byte[i] = (uint8_t)(high << 4 | low);
        p += 2;
    }
    return true;
}

void ws_guid_from_random(struct ws_guid *guid) {
    guid->byte[6] = (uint8_t)((guid->byte[6] & 0x0f) | 0x40);
    guid->byte[8] = (uint8_t)((guid->byte[8] & 0x3f) | 0x80);
}

static const uint8_t disk_order[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};

void ws_guid_to_disk(const struct ws_guid *guid, uint8_t out[16]) {
    for (int i = 0; i < 16; i++) out[i] = guid->byte[disk_order[i]];
}

void ws_guid_from_disk(const uint8_t in[16], struct ws_guid *guid) {
    for (int i = 0; i < 16; i++) guid->byte[disk_order[i]] = in[i];
}

enum ws_status ws_guid_derive(const struct ws_guid *space, const char *name, struct ws_guid *guid,
                              struct ws_error *error) {
    struct ws_hash *hash = NULL;
    char hex[WS_HASH_HEX];
    WS_TRY(ws_hash_open(WS_HASH_SHA256, &hash, error));
    ws_hash_add(hash, space->byte, 16);
    ws_hash_add(hash, name, strlen(name));
    ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    for (int i = 0; i < 16; i++) guid->byte[i] = (uint8_t)(hex_digit(hex[2 * i]) << 4 | hex_digit(hex[2 * i + 1]));
    guid->byte[6] = (uint8_t)((guid->byte[6] & 0x0f) | 0x80);
    guid->byte[8] = (uint8_t)((guid->byte[8] & 0x3f) | 0x80);
    return WS_OK;
}

/* One code point from UTF-8; 0xFFFD and one byte further on anything invalid (RFC 3629, section 4). */
static uint32_t next_code_point(const unsigned char **at) {
    const unsigned char *p = *at;
    uint32_t c = p[0];
    int more = c < 0x80 ? 0 : (c & 0xe0) == 0xc0 ? 1 : (c & 0xf0) == 0xe0 ? 2 : (c & 0xf8) == 0xf0 ? 3 : -1;
    static const uint32_t least[4] = {0, 0x80, 0x800, 0x10000};
    if (more < 0) {
        *at = p + 1;
        return 0xfffd;
    }
    if (more) c &= 0x3fu >> more;
    for (int i = 1; i <= more; i++) {
        if ((p[i] & 0xc0) != 0x80) {
            *at = p + 1;
            return 0xfffd;
        }
        c = c << 6 | (p[i] & 0x3fu);
    }
    *at = p + 1 + more;
    return c < least[more] || c > 0x10ffff || (c >= 0xd800 && c < 0xe000) ? 0xfffd : c;
}

size_t ws_utf16_from_utf8(const char *utf8, uint16_t *out, size_t room) {
    const unsigned char *p = (const unsigned char *)utf8;
    size_t n = 0;
    while (*p) {
        uint32_t c = next_code_point(&p);
        if (c >= 0x10000) {
            if (n + 2 > room) break;
            out[n++] = (uint16_t)(0xd800 + ((c - 0x10000) >> 10));
            out[n++] = (uint16_t)(0xdc00 + ((c - 0x10000) & 0x3ff));
        } else {
            if (n + 1 > room) break;
            out[n++] = (uint16_t)c;
        }
    }
    return n;
}

size_t ws_utf8_from_utf16(const uint16_t *in, size_t count, char *out, size_t room) {
    size_t n = 0;
    for (size_t i = 0; i < count; i++) {
        uint32_t c = in[i];
        if (c >= 0xd800 && c < 0xdc00 && i + 1 < count && in[i + 1] >= 0xdc00 && in[i + 1] < 0xe000) {
            c = 0x10000 + ((c - 0xd800) << 10) + (in[i + 1] - 0xdc00u);
            i++;
        } else if (c >= 0xd800 && c < 0xe000) {
            c = 0xfffd;
        }
        size_t need = c < 0x80 ? 1 : c < 0x800 ? 2 : c < 0x10000 ? 3 : 4;
        if (n + need + 1 > room) break;
        if (need == 1) {
            out[n++] = (char)c;
        } else {
            static const uint8_t lead[5] = {0, 0, 0xc0, 0xe0, 0xf0};
            out[n++] = (char)(lead[need] | c >> (6 * (need - 1)));
            for (size_t k = need - 1; k > 0; k--) out[n++] = (char)(0x80 | ((c >> (6 * (k - 1))) & 0x3f));
        }
    }
    if (room) out[n] = '\0';
    return n;
}
