/* passport.h — what a passport tells, in words, for the page and the document alike. */
#ifndef WS_PROOF_PASSPORT_H
#define WS_PROOF_PASSPORT_H

#include "wild_satchel/passport.h"

/* "2026-11-27"; of 0 a dash. */
const char *passport_day(int64_t at, char out[24]);
/* What the drive is, in a line. */
const char *passport_title(const struct ws_passport *passport, char *out, size_t room);
/* How well it is known that it remembers: a verdict of the proof, else of the latest event that was one; NULL: neither
 */
const char *passport_verdict(const struct ws_passport *passport, bool *good);
/* On which PCs it starts, WS_OUTLOOKS of them; NULL: not known. */
const struct ws_outlook *passport_outlook(const struct ws_passport *passport);

#endif
