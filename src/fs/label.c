/* label.c — volume labels by the rules of each file system, as data. */
#include "wild_satchel/base.h"
#include "wild_satchel/label.h"

#include <stdio.h>
#include <string.h>

static const struct rule {
    const char *system;
    size_t most; /* units of `counts` */
    enum { CHARACTERS, UTF16, BYTES } counts;
    bool upper, ascii;       /* raises letters; keeps only characters of one byte */
    const char *only, *not ; /* NULL: any */
} rules[] = {
    {"fat32", 11, CHARACTERS, true, true, NULL, "\"*+,./:;<=>?[\\]|"},
    {"exfat", 11, UTF16, false, false, NULL, ""},
    {"ext4", 16, BYTES, false, false, NULL, ""},
    {"iso9660", 32, CHARACTERS, true, true, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_", NULL},
    {"swap", 15, BYTES, false, false, NULL, ""},
    {"gpt", 36, UTF16, false, false, NULL, ""},
};

enum ws_status ws_label_normalise(const char *system, const char *text, char *out, size_t room, char *said,
                                  size_t said_room, struct ws_error *error) {
    const struct rule *r = NULL;
    bool raised = false;
    bool replaced = false;
    bool cut = false;
    size_t units = 0;
    size_t n = 0;
    for (size_t i = 0; i < sizeof rules / sizeof rules[0]; i++)
        if (strcmp(rules[i].system, system) == 0) r = &rules[i];
    if (!r) return ws_fail(error, WS_E_USAGE, "no rules for labels of \"%s\" are known here", system);
    for (const char *p = text; *p;) {
        uint32_t code;
        size_t length = ws_utf8_next(p, strlen(p), &code);
        if (length == 0) return ws_fail(error, WS_E_FORMAT, "the label is not UTF-8 text");
        char one[5] = "";
        memcpy(one, p, length);
        p += length;
        if (r->upper && one[0] >= 'a' && one[0] <= 'z') {
            one[0] = (char)(one[0] - 'a' + 'A');
            raised = true;
        }
        bool bad = (length > 1 && r->ascii) || (length == 1 && ((unsigned char)one[0] < 0x20 || one[0] == 0x7f)) ||
                   (r->only && !strchr(r->only, one[0])) || (r->not &&length == 1 && strchr(r->not, one[0]));
        if (bad) {
            memcpy(one, "_", 2);
            length = 1;
            replaced = true;
        }
        size_t cost = r->counts == BYTES ? length : r->counts == UTF16 && length == 4 ? 2 : 1;
        if (units + cost > r->most || n + length + 1 > room) {
            cut = true;
            break;
        }
        memcpy(out + n, one, length);
        n += length;
        units += cost;
    }
    while (n > 0 && out[n - 1] == ' ') n--; /* spaces at the end are not kept by any of them */
    out[n] = '\0';
    if (said)
        (void)snprintf(said, said_room, "%s%s%s%s%s", raised ? "letters raised" : "",
                       raised && (replaced || cut) ? ", " : "",
                       replaced ? "characters replaced that it cannot hold" : "", replaced && cut ? ", " : "",
                       cut ? "cut to what it can hold" : "");
    return WS_OK;
}

void ws_serial_name(uint32_t serial, char out[WS_UUID_ROOM]) {
    (void)snprintf(out, WS_UUID_ROOM, "%04X-%04X", (unsigned)(serial >> 16), (unsigned)(serial & 0xFFFF));
}
