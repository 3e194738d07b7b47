/* words.c — words that are nearly another one. */
#include "wild_satchel/base.h"

#include <string.h>

enum { WORD_MOST = 64 };

static size_t least(size_t a, size_t b) { return a < b ? a : b; }

size_t ws_word_distance(const char *a, const char *b) {
    const size_t n = strlen(a), m = strlen(b);
    size_t row[3][WORD_MOST + 1]; /* the one before the last, the last, this one */
    if (n > WORD_MOST || m > WORD_MOST) return SIZE_MAX;
    for (size_t k = 0; k <= m; k++) row[1][k] = k;
    for (size_t i = 1; i <= n; i++) {
        row[2][0] = i;
        for (size_t k = 1; k <= m; k++) {
            const bool same = ws_lower(a[i - 1]) == ws_lower(b[k - 1]);
            const bool swapped =
                i > 1 && k > 1 && ws_lower(a[i - 1]) == ws_lower(b[k - 2]) && ws_lower(a[i - 2]) == ws_lower(b[k - 1]);
            row[2][k] = least(least(row[1][k], row[2][k - 1]) + 1, row[1][k - 1] + !same);
            if (swapped) row[2][k] = least(row[2][k], row[0][k - 2] + 1);
        }
        memcpy(row[0], row[1], sizeof row[0]);
        memcpy(row[1], row[2], sizeof row[1]);
    }
    return row[1][m];
}

size_t ws_word_slip(const char *word) {
    const size_t length = strlen(word);
    return length < 4 ? 1 : length < 8 ? 2 : 3;
}

bool ws_word_holds(const char *text, const char *part) {
    const size_t length = strlen(part);
    for (; *text; text++) {
        size_t i = 0;
        while (i < length && text[i] && ws_lower(text[i]) == ws_lower(part[i])) i++;
        if (i == length) return length > 0;
    }
    return false;
}
