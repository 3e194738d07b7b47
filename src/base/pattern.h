/* pattern.h — paths of a running system told by patterns, as rows of tables have them. */
#ifndef WS_BASE_PATTERN_H
#define WS_BASE_PATTERN_H

#include <stdbool.h>

/* Does a path fit? "*" in a word of the pattern is any name, or the rest of one; both begin with "/".
 * @param below  so does what lies below a path that fits */
bool pattern_fits(const char *pattern, const char *path, bool below);

#endif
