/* sha256.c — SHA-256, FIPS 180-4, sections 4.1.2, 5 and 6.2. */
#include "start.h"

static const uint32_t k[64] = {
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2,
};

static uint32_t turned(uint32_t x, unsigned n) { return x >> n | x << (32 - n); }

static void mix(struct start_sha256 *s, const uint8_t *p) {
    uint32_t w[64];
    uint32_t v[8];
    for (int i = 0; i < 16; i++)
        w[i] = (uint32_t)p[4 * i] << 24 | (uint32_t)p[4 * i + 1] << 16 | (uint32_t)p[4 * i + 2] << 8 | p[4 * i + 3];
    for (int i = 16; i < 64; i++) {
        uint32_t a = turned(w[i - 15], 7) ^ turned(w[i - 15], 18) ^ w[i - 15] >> 3;
        uint32_t b = turned(w[i - 2], 17) ^ turned(w[i - 2], 19) ^ w[i - 2] >> 10;
        w[i] = w[i - 16] + a + w[i - 7] + b;
    }
    for (int i = 0; i < 8; i++) v[i] = s->state[i];
    for (int i = 0; i < 64; i++) {
        uint32_t e = turned(v[4], 6) ^ turned(v[4], 11) ^ turned(v[4], 25);
        uint32_t one = v[7] + e + ((v[4] & v[5]) ^ (~v[4] & v[6])) + k[i] + w[i];
        uint32_t a = turned(v[0], 2) ^ turned(v[0], 13) ^ turned(v[0], 22);
        uint32_t two = a + ((v[0] & v[1]) ^ (v[0] & v[2]) ^ (v[1] & v[2]));
        v[7] = v[6], v[6] = v[5], v[5] = v[4], v[4] = v[3] + one;
        v[3] = v[2], v[2] = v[1], v[1] = v[0], v[0] = one + two;
    }
    for (int i = 0; i < 8; i++) s->state[i] += v[i];
}

void start_sha256_begin(struct start_sha256 *s) {
    static const uint32_t first[8] = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
                                      0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};
    memcpy(s->state, first, sizeof first);
    s->length = 0;
}

void start_sha256_add(struct start_sha256 *s, const void *bytes, size_t n) {
    const uint8_t *p = bytes;
    size_t held = (size_t)s->length & 63;
    s->length += n;
    while (n) {
        size_t step = 64 - held < n ? 64 - held : n;
        if (held == 0 && n >= 64) {
            mix(s, p);
            step = 64;
        } else {
            memcpy(s->block + held, p, step);
            held += step;
            if (held == 64) mix(s, s->block), held = 0;
        }
        p += step;
        n -= step;
    }
}

void start_sha256_end(struct start_sha256 *s, char hex[65]) {
    uint64_t bits = s->length * 8;
    uint8_t tail[72] = {0x80};
    size_t pad = (((size_t)s->length & 63) < 56 ? 56 : 120) - ((size_t)s->length & 63);
    for (int i = 0; i < 8; i++) tail[pad + (size_t)i] = (uint8_t)(bits >> (56 - 8 * i));
    start_sha256_add(s, tail, pad + 8);
    for (int i = 0; i < 64; i++) hex[i] = "0123456789abcdef"[s->state[i / 8] >> (28 - 4 * (i & 7)) & 15];
    hex[64] = '\0';
}
