/* short.c — the 8.3 names of one folder, no two alike (FAT specification, section 7.4). */
#include "fs/fat/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

bool fat_plain_short(const char *name, uint8_t out[11]) {
    const char *dot = strrchr(name, '.');
    size_t base = dot ? (size_t)(dot - name) : strlen(name);
    size_t extension = dot ? strlen(dot + 1) : 0;
    memset(out, ' ', 11);
    if (base == 0 || base > 8 || extension > 3 || (dot && extension == 0)) return false;
    for (const char *c = name; *c; c++) {
        bool good = (*c >= 'A' && *c <= 'Z') || (*c >= '0' && *c <= '9') || strchr("_-$~!#%&'()@^`{}", *c);
        if (!good && c != dot) return false;
    }
    memcpy(out, name, base);
    if (dot) memcpy(out + 8, dot + 1, extension);
    return true;
}

/* A set of 8.3 names: open addressing, twice as many places as names. */
struct taken {
    uint8_t (*name)[11];
    size_t places;
};

static uint32_t hash_of(const void *bytes, size_t length) {
    const uint8_t *p = bytes;
    uint32_t h = 2166136261u;
    for (size_t i = 0; i < length; i++) h = (h ^ p[i]) * 16777619u;
    return h;
}

static bool take(struct taken *t, const uint8_t name[11]) { /* false if it is taken already */
    for (size_t at = hash_of(name, 11) % t->places;; at = (at + 1) % t->places) {
        if (!t->name[at][0]) {
            memcpy(t->name[at], name, 11);
            return true;
        }
        if (memcmp(t->name[at], name, 11) == 0) return false;
    }
}

static size_t letters_of(const char *from, const char *end, size_t most, uint8_t *out) {
    size_t n = 0;
    for (const char *c = from; c < end && n < most; c++) {
        char u = *c >= 'a' && *c <= 'z' ? (char)(*c - 'a' + 'A') : *c;
        if ((u >= 'A' && u <= 'Z') || (u >= '0' && u <= '9') || u == '_' || u == '-') out[n++] = (uint8_t)u;
    }
    return n;
}

/* "~1" to "~4" behind the first letters; then four digits of the long name's hash, so that folders full of names alike
 * are no trouble; then other hashes. */
void fat_short_candidate(const char *name, unsigned attempt, uint8_t out[11]) {
    const char *dot = strrchr(name, '.');
    const char *end = dot && dot != name ? dot : name + strlen(name);
    char tail[12];
    if (attempt < 4) (void)snprintf(tail, sizeof tail, "~%u", attempt + 1);
    else
        (void)snprintf(tail, sizeof tail, "%04X~1",
                       (unsigned)((hash_of(name, strlen(name)) + (attempt - 4) * 40503u) & 0xffff));
    memset(out, ' ', 11);
    size_t n = letters_of(name, end, 8 - strlen(tail), out);
    memcpy(out + n, tail, strlen(tail));
    if (*end == '.') (void)letters_of(end + 1, end + strlen(end), 3, out + 8);
}

enum ws_status fat_short_names(const struct ws_node *folder, uint8_t (**names)[11], struct ws_error *error) {
    struct taken t = {.places = 3};
    size_t count = 0;
    for (const struct ws_node *n = folder->first; n; n = n->next) count++;
    t.places += 2 * count;
    t.name = calloc(t.places, sizeof *t.name);
    uint8_t(*out)[11] = calloc(count + 1, sizeof *out);
    if (!t.name || !out) {
        free(t.name);
        free(out);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a folder of %zu names", count);
    }
    size_t i = 0;
    for (const struct ws_node *n = folder->first; n; n = n->next, i++) /* names that are their own come first */
        if (fat_plain_short(n->name, out[i])) (void)take(&t, out[i]);
    i = 0;
    for (const struct ws_node *n = folder->first; n; n = n->next, i++) {
        uint8_t own[11];
        if (fat_plain_short(n->name, own)) continue;
        unsigned attempt = 0;
        do fat_short_candidate(n->name, attempt++, out[i]);
        while (!take(&t, out[i]) && attempt < 70000);
    }
    free(t.name);
    *names = out;
    return WS_OK;
}
