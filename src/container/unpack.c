/* unpack.c — one packed unit. */
#include "container/internal.h"

#include <string.h>
#include <zlib.h>
#include <zstd.h>

/* RFC 1951, or RFC 1950 with its head; what follows its end is filling. */
static bool inflate_all(const uint8_t *packed, size_t packed_length, uint8_t *out, size_t length, int bits) {
    z_stream z;
    memset(&z, 0, sizeof z);
    if (packed_length > UINT32_MAX || length > UINT32_MAX || inflateInit2(&z, bits) != Z_OK) return false;
    z.next_in = (Bytef *)(uintptr_t)packed;
    z.avail_in = (uInt)packed_length;
    z.next_out = out;
    z.avail_out = (uInt)length;
    const int rc = inflate(&z, Z_FINISH);
    const bool good = (rc == Z_STREAM_END || rc == Z_BUF_ERROR || rc == Z_OK) && z.avail_out == 0;
    (void)inflateEnd(&z);
    return good;
}

static bool unzstd(const uint8_t *packed, size_t packed_length, uint8_t *out, size_t length) {
    ZSTD_DStream *d = ZSTD_createDStream();
    ZSTD_inBuffer in = {packed, packed_length, 0};
    ZSTD_outBuffer to = {out, length, 0};
    size_t left = d ? ZSTD_initDStream(d) : 0;
    while (d && to.pos < length) {
        const size_t in_was = in.pos, out_was = to.pos;
        left = ZSTD_decompressStream(d, &to, &in);
        if (ZSTD_isError(left) || left == 0 || (in.pos == in_was && to.pos == out_was)) break;
    }
    (void)ZSTD_freeDStream(d);
    return d && !ZSTD_isError(left) && to.pos == length;
}

bool container_unpack(enum packing packing, const uint8_t *packed, size_t packed_length, uint8_t *out, size_t length) {
    if (packing == PACKED_ZSTD) return unzstd(packed, packed_length, out, length);
    return inflate_all(packed, packed_length, out, length, packing == PACKED_ZLIB ? 15 : -15);
}
