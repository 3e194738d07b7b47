/* pattern.c — paths of a running system told by patterns. */
#include "base/pattern.h"

#include <string.h>

static bool word_fits(const char *pattern, size_t length, const char *name, size_t name_length) {
    const char *star = memchr(pattern, '*', length);
    if (!star) return length == name_length && memcmp(pattern, name, length) == 0;
    const size_t before = (size_t)(star - pattern), after = length - before - 1;
    return name_length >= before + after && memcmp(pattern, name, before) == 0 &&
           memcmp(star + 1, name + name_length - after, after) == 0;
}

bool pattern_fits(const char *pattern, const char *path, bool below) {
    while (*pattern == '/' && *path == '/') {
        const size_t p = strcspn(pattern + 1, "/"), n = strcspn(path + 1, "/");
        if (!word_fits(pattern + 1, p, path + 1, n)) return false;
        pattern += 1 + p;
        path += 1 + n;
    }
    return !*pattern && (!*path || (below && *path == '/'));
}
