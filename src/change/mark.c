/* mark.c — what a drive's first sector says while it is being changed; docs/changes.md describes it. */
#include "change/internal.h"

#include <inttypes.h>
#include <stdio.h>
#include <string.h>

enum { SECTOR = 512 };
static const char none[] = "0000000000000000000000000000000000000000000000000000000000000000";

void change_mark_make(const struct ws_changing *c, char sector[SECTOR]) {
    memset(sector, 0, SECTOR);
    int n = snprintf(sector, SECTOR, WS_CHANGING_MARK "\nchange %.64s\nlog %" PRIu64 "\nlength %" PRIu64 "\n",
                     c->change[0] ? c->change : none, c->log_at, c->log_length);
    for (size_t i = 0; i < c->pieces && n < SECTOR; i++)
        n += snprintf(sector + n, SECTOR - (size_t)n, "piece %" PRIu64 " %" PRIu64 "\n", c->piece[i].at,
                      c->piece[i].length);
    if (n < SECTOR) n += snprintf(sector + n, SECTOR - (size_t)n, "sha256 %.64s\n", c->log_sha256);
    if (n < SECTOR)
        (void)snprintf(sector + n, SECTOR - (size_t)n, "check %08" PRIx32 "\n", ws_crc32(sector, (size_t)n));
}

bool ws_changing_read(const void *sector, struct ws_changing *out) {
    struct ws_changing c = {.change = ""};
    char text[SECTOR + 1], again[SECTOR];
    int end = 0, more = 0;
    if (out) *out = c;
    memcpy(text, sector, SECTOR);
    text[SECTOR] = '\0';
    if (sscanf(text, WS_CHANGING_MARK " change %64[0-9a-f] log %19" SCNu64 " length %19" SCNu64 "%n", c.change,
               &c.log_at, &c.log_length, &end) != 3)
        return false;
    while (c.pieces < WS_LOG_PIECES && sscanf(text + end, " piece %19" SCNu64 " %19" SCNu64 "%n", &c.piece[c.pieces].at,
                                              &c.piece[c.pieces].length, &more) == 2) {
        end += more;
        c.pieces++;
    }
    if (sscanf(text + end, " sha256 %64[0-9a-f]", c.log_sha256) != 1) return false;
    change_mark_make(&c, again); /* the same to the byte, check digits among them */
    if (memcmp(again, sector, SECTOR) != 0) return false;
    if (strcmp(c.change, none) == 0) c.change[0] = '\0';
    if (out) *out = c;
    return true;
}
