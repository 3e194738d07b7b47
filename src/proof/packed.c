/* packed.c — a snapshot inside a document: its lines compressed as they are made, and as base64. */
#include "proof/internal.h"
#include "proof/snapshot.h"

#include <openssl/evp.h>
#include <stdlib.h>
#include <string.h>
#include <zstd.h>

enum { MOST = 256 << 20, LEVEL = 6, PIECE = 64 * 1024 };

/* What is compressed, as base64: all of it, or whole groups of three bytes, the rest being kept for later. */
static void encode(struct ws_text *small, bool last, struct ws_text *out) {
    enum { GROUP = 3, STEP = GROUP * 4096 };
    unsigned char text[STEP / 3 * 4 + 1];
    const size_t whole = last ? small->length : small->length / GROUP * GROUP;
    for (size_t at = 0, n; at < whole && !small->failed; at += n) {
        n = whole - at < STEP ? whole - at : STEP;
        ws_text_add(out, text, (size_t)EVP_EncodeBlock(text, (const uint8_t *)small->data + at, (int)n));
    }
    if (small->failed || !small->length) return;
    small->length -= whole;
    memmove(small->data, small->data + whole, small->length);
}

/* @return false out of memory */
static bool squeeze(ZSTD_CCtx *context, struct ws_text *lines, bool last, struct ws_text *small, struct ws_text *text) {
    char out[PIECE / 2];
    ZSTD_inBuffer in = {lines->data ? lines->data : "", lines->length, 0};
    size_t left;
    do {
        ZSTD_outBuffer to = {out, sizeof out, 0};
        left = ZSTD_compressStream2(context, &to, &in, last ? ZSTD_e_end : ZSTD_e_continue);
        if (ZSTD_isError(left)) return false;
        ws_text_add(small, out, to.pos);
        encode(small, last && left == 0, text);
    } while (last ? left != 0 : in.pos < in.size);
    lines->length = 0;
    return !lines->failed && !small->failed && !text->failed;
}

bool proof_pack(const struct ws_snapshot *snapshot, struct ws_text *out) {
    struct ws_text lines = {0}, small = {0};
    ZSTD_CCtx *context = ZSTD_createCCtx();
    bool good = context && !ZSTD_isError(ZSTD_CCtx_setParameter(context, ZSTD_c_compressionLevel, LEVEL));
    for (size_t i = 0; i < snapshot->count && good; i++) {
        snapshot_write_row(&snapshot->shot[i], &lines);
        if (lines.length >= PIECE) good = squeeze(context, &lines, false, &small, out);
    }
    good = good && squeeze(context, &lines, true, &small, out);
    (void)ZSTD_freeCCtx(context);
    ws_text_free(&lines);
    ws_text_free(&small);
    return good;
}

/* All of a frame, a piece at a time. @return WS_E_FORMAT for what is none */
static enum ws_status unpack(const uint8_t *small, size_t length, bool (*piece)(void *, const char *, size_t),
                             void *context, struct ws_error *error) {
    ZSTD_DCtx *frames = ZSTD_createDCtx();
    char *out = malloc(PIECE);
    ZSTD_inBuffer in = {small, length, 0};
    uint64_t all = 0;
    size_t left = 1;
    enum ws_status status = frames && out ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
    while (status == WS_OK && left) {
        ZSTD_outBuffer to = {out, PIECE, 0};
        const size_t was = in.pos;
        left = ZSTD_decompressStream(frames, &to, &in);
        all += to.pos;
        if (ZSTD_isError(left) || (left && !to.pos && in.pos == was)) /* base64 pads with bytes that are none of its */
            status = ws_fail(error, WS_E_FORMAT, "a snapshot in it is damaged");
        else if (all > MOST) status = ws_fail(error, WS_E_FORMAT, "a snapshot in it is too large");
        else if (!piece(context, out, to.pos)) status = WS_E_FORMAT; /* it knows why */
    }
    free(out);
    (void)ZSTD_freeDCtx(frames);
    return status;
}

static bool count_lines(void *context, const char *text, size_t length) {
    for (size_t i = 0; i < length; i++) *(size_t *)context += text[i] == '\n';
    return true;
}

static bool read_piece(void *context, const char *text, size_t length) {
    return snapshot_reader_take(context, text, length);
}

enum ws_status proof_unpack(const char *packed, struct ws_snapshot *snapshot, struct ws_error *error) {
    const size_t length = strlen(packed);
    struct snapshot_reader *reader = NULL;
    size_t lines = 0;
    enum ws_status status = WS_OK;
    memset(snapshot, 0, sizeof *snapshot);
    uint8_t *small = length % 4 == 0 && length / 4 * 3 < INT32_MAX ? malloc(length / 4 * 3 + 1) : NULL;
    const int n = small && length ? EVP_DecodeBlock(small, (const unsigned char *)packed, (int)length) : -1;
    if (n < 0) WS_GO(ws_fail(error, WS_E_FORMAT, "a snapshot in it is no base64"));
    WS_GO(unpack(small, (size_t)n, count_lines, &lines, error));
    if (lines > MOST / 24) WS_GO(ws_fail(error, WS_E_FORMAT, "a snapshot in it has lines that say nothing"));
    WS_GO(snapshot_reader_open(snapshot, lines, &reader, error));
    status = unpack(small, (size_t)n, read_piece, reader, error);
    const enum ws_status read = snapshot_reader_close(reader, status == WS_OK, error);
    if (status == WS_OK || read != WS_OK) status = read;
done:
    free(small);
    return status;
}
