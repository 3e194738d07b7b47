/* bytes.c — what a compiler expects to find where there is no C library: bytes copied, set and compared. */
#include "../start.h"

void *memcpy(void *restrict to, const void *restrict from, size_t n) {
    void *out = to;
    __asm__ volatile("rep movsb" : "+D"(to), "+S"(from), "+c"(n) : : "memory");
    return out;
}

void *memset(void *to, int byte, size_t n) {
    void *out = to;
    __asm__ volatile("rep stosb" : "+D"(to), "+c"(n) : "a"(byte) : "memory");
    return out;
}

int memcmp(const void *a, const void *b, size_t n) {
    const uint8_t *p = a;
    const uint8_t *q = b;
    for (; n; n--, p++, q++)
        if (*p != *q) return *p - *q;
    return 0;
}
