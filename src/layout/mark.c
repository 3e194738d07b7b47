/* mark.c — what a drive's first sector says while its build is not finished: which build, and how far it got.
 *
 * Plain text, one line each, so that anybody who looks sees what it is; docs/unfinished-drives.md describes it. The
 * check digits keep a torn or edited sector from being believed.
 */
#include "layout/stream.h"

#include <inttypes.h>
#include <stdio.h>
#include <string.h>

enum { SECTOR = 512, HEX = 64 };

static const char form[] = WS_UNFINISHED_MARK "\nbuild %.64s\nflushed %" PRIu64 "\nend %" PRIu64 "\n";
static const char no_build[] = "0000000000000000000000000000000000000000000000000000000000000000";

void ws_mark_make(const char *build, uint64_t flushed, uint64_t end, char sector[SECTOR]) {
    memset(sector, 0, SECTOR);
    int n = snprintf(sector, SECTOR, form, build ? build : no_build, flushed, end);
    (void)snprintf(sector + n, SECTOR - (size_t)n, "check %08" PRIx32 "\n", ws_crc32(sector, (size_t)n));
}

bool ws_is_unfinished(const void *sector) {
    return memcmp(sector, WS_UNFINISHED_MARK, sizeof WS_UNFINISHED_MARK - 1) == 0;
}

/* Digits up to the end of the line. */
static const char *number(const char *p, uint64_t *out) {
    uint64_t n = 0;
    size_t digits = 0;
    for (; p[digits] >= '0' && p[digits] <= '9' && digits < 19; digits++) n = n * 10 + (uint64_t)(p[digits] - '0');
    *out = n;
    return digits && p[digits] == '\n' ? p + digits + 1 : NULL;
}

static const char *word(const char *p, const char *wanted) {
    size_t n = strlen(wanted);
    return p && strncmp(p, wanted, n) == 0 ? p + n : NULL;
}

bool ws_unfinished_read(const void *sector, struct ws_unfinished *out) {
    struct ws_unfinished u = {.build = ""};
    char text[SECTOR + 1];
    char build[HEX + 1] = "";
    char again[SECTOR];
    memcpy(text, sector, SECTOR);
    text[SECTOR] = '\0';
    if (out) *out = u;
    const char *p = word(text, WS_UNFINISHED_MARK "\nbuild ");
    if (!p || strspn(p, "0123456789abcdef") != HEX) return false;
    memcpy(build, p, HEX);
    p = word(p + HEX, "\nflushed ");
    if (p) p = number(p, &u.flushed);
    p = word(p, "end ");
    if (p) p = number(p, &u.end);
    if (!p || u.flushed > u.end) return false;
    ws_mark_make(build, u.flushed, u.end, again); /* the same to the byte, check digits among them */
    if (memcmp(again, sector, SECTOR) != 0) return false;
    if (strcmp(build, no_build) != 0) memcpy(u.build, build, sizeof build);
    if (out) *out = u;
    return true;
}

const char *ws_begun_name(enum ws_begun begun) {
    static const char *const names[] = {"fresh", "afresh", "other", "damaged", "changed", "continued"};
    return names[begun];
}
