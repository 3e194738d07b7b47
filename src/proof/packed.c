/* packed.c — long text inside a document: compressed, and as base64. */
#include "proof/internal.h"

#include <openssl/evp.h>
#include <stdlib.h>
#include <string.h>
#include <zstd.h>

enum { MOST = 256 << 20, LEVEL = 6 };

char *proof_pack(struct ws_text *text) {
    const size_t room = ZSTD_compressBound(text->length);
    uint8_t *small = malloc(room);
    const size_t n = small ? ZSTD_compress(small, room, text->data ? text->data : "", text->length, LEVEL) : 0;
    ws_text_free(text); /* of many files it is long */
    char *out = small && !ZSTD_isError(n) && n < INT32_MAX ? malloc((n + 2) / 3 * 4 + 1) : NULL;
    if (out) (void)EVP_EncodeBlock((unsigned char *)out, small, (int)n);
    free(small);
    return out;
}

enum ws_status proof_unpack(const char *packed, struct ws_text *text, struct ws_error *error) {
    const size_t length = strlen(packed);
    enum ws_status status = WS_OK;
    char *whole = NULL;
    uint8_t *small = length % 4 == 0 && length / 4 * 3 < INT32_MAX ? malloc(length / 4 * 3 + 1) : NULL;
    int n = small && length ? EVP_DecodeBlock(small, (const unsigned char *)packed, (int)length) : -1;
    if (n < 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a snapshot in it is no base64"));
    const unsigned long long size = ZSTD_getFrameContentSize(small, (size_t)n);
    if (size > MOST)
        WS_GO(ws_fail(error, WS_E_FORMAT, "a snapshot in it is not compressed as it should be, or too large"));
    whole = malloc((size_t)size + 1);
    if (!whole) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot"));
    /* base64 pads with bytes that are none of the frame's */
    const size_t frame = ZSTD_findFrameCompressedSize(small, (size_t)n);
    if (ZSTD_isError(frame) || ZSTD_decompress(whole, (size_t)size, small, frame) != size)
        WS_GO(ws_fail(error, WS_E_FORMAT, "a snapshot in it is damaged"));
    ws_text_add(text, whole, (size_t)size);
    status = ws_text_status(text, error);
done:
    free(whole);
    free(small);
    return status;
}
