/* pattern.c — blocks that say where they belong: id of the trial, place, and a stream that follows from both. */
#include "trial/internal.h"

#include <string.h>

enum { HEAD = 24 };

static uint64_t next(uint64_t *state) { /* xorshift64* */
    *state ^= *state >> 12;
    *state ^= *state << 25;
    *state ^= *state >> 27;
    return *state * 2685821657736338717ull;
}

void trial_fill(const struct trying *t, uint64_t at, char *out) {
    uint8_t *b = (uint8_t *)out;
    uint64_t state = (ws_load_le64(t->id) ^ (at + 1) * 0x9e3779b97f4a7c15ull) | 1;
    memcpy(b, t->id, 16);
    ws_store_le64(b + 16, at);
    for (size_t i = HEAD; i < t->block; i += 8) ws_store_le64(b + i, next(&state));
}

enum trial_seen trial_look(const struct trying *t, uint64_t at, const char *block, uint64_t *place) {
    char meant[4096];
    const uint8_t *b = (const uint8_t *)block;
    if (memcmp(b, t->id, 16) != 0) return SEEN_FOREIGN;
    *place = ws_load_le64(b + 16);
    trial_fill(t, *place, meant);
    if (memcmp(meant, block, t->block) != 0) return SEEN_FOREIGN;
    return *place == at ? SEEN_OWN : SEEN_OTHER;
}
