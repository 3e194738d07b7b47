/* exfat.c — exFAT read by start-up code. exFAT file system specification 1.00, sections 3, 6 and 7. */
#include "start.h"

enum { FOLDER_MOST = 4 << 20, SET_MOST = 19 };

bool start_exfat_mount(struct start_volume *v) {
    uint8_t b[512];
    if (!start_disk_peek(v->m, v->at, sizeof b, b)) return false;
    if (memcmp(b + 3, "EXFAT   ", 8) != 0 || b[510] != 0x55 || b[511] != 0xaa) return false;
    unsigned shift = b[108];
    if (shift < 9 || shift > 12 || b[109] > 25 - shift) return false;
    v->kind = START_EXFAT;
    v->bits = 32;
    v->cluster_shift = shift + b[109];
    v->clusters = start_le32(b + 92);
    v->fat_at = v->at + ((uint64_t)start_le32(b + 80) << shift);
    v->heap_at = v->at + ((uint64_t)start_le32(b + 88) << shift);
    v->root = start_le32(b + 96);
    return v->clusters > 0 && v->clusters < 0xfffffff6u;
}

bool start_exfat_list(struct start_file *folder, start_name_visit visit, void *context) {
    struct start_volume *v = folder->v;
    uint8_t e[32];
    char name[START_NAME_MOST];
    uint64_t got;
    for (uint64_t at = 0; at < FOLDER_MOST; at += 32) {
        if (!start_read(folder, at, sizeof e, e, &got)) return false;
        if (got < sizeof e || e[0] == 0) return true;
        if (e[0] != 0x85) continue; /* a file's set begins here */
        unsigned others = e[1];
        struct start_file f = {.v = v, .folder = (e[4] & 16) != 0};
        size_t n = 0;
        unsigned units = 0;
        if (others < 2 || others > SET_MOST) continue;
        for (unsigned i = 1; i <= others; i++) {
            if (!start_read(folder, at + 32ull * i, sizeof e, e, &got)) return false;
            if (got < sizeof e) return true;
            if (e[0] == 0xc0) {
                f.contiguous = (e[1] & 2) != 0;
                units = e[3];
                f.first = start_le32(e + 20);
                f.size = start_le64(e + 24);
            } else if (e[0] == 0xc1) {
                for (unsigned k = 0; k < 15 && units && n + 4 < sizeof name; k++, units--)
                    n += start_utf8(start_le16(e + 2 + 2 * k), name + n);
            }
        }
        at += 32ull * others;
        name[n] = '\0';
        if (n && !visit(context, name, &f)) return true;
    }
    return start_fail(v->m, "the file system is damaged: a folder has no end");
}
