/* fingerprint.c — what a layout puts where, in one digest.
 *
 * Bytes made here are hashed. Inputs stand for themselves by their own digests, so that an image of many gigabytes is
 * not read again: every source tells which of its bytes are another one's, down to the inputs.
 */
#include "base/bytes.h"
#include "wild_satchel/layout.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { CHUNK = 1 << 20, DEPTH_MOST = 32 };

struct printing {
    const struct ws_known_input *input;
    size_t inputs;
    struct ws_hash *hash;
    char *buffer;
};

static void note(struct printing *p, const char *word, uint64_t a, uint64_t b) {
    char line[120];
    int n = snprintf(line, sizeof line, "\n%s %llu %llu", word, (unsigned long long)a, (unsigned long long)b);
    ws_hash_add(p->hash, line, (size_t)n);
}

static const struct ws_known_input *known(const struct printing *p, const struct ws_source *source) {
    for (size_t i = 0; i < p->inputs; i++)
        if (p->input[i].source == source) return &p->input[i];
    return NULL;
}

static enum ws_status add_bytes(struct printing *p, const struct ws_source *source, uint64_t at, uint64_t length,
                                struct ws_error *error) {
    note(p, "bytes", length, 0);
    while (length > 0) {
        size_t step = (size_t)ws_min_u64(length, CHUNK);
        WS_TRY(ws_source_read(source, at, p->buffer, step, error));
        ws_hash_add(p->hash, p->buffer, step);
        at += step;
        length -= step;
    }
    return WS_OK;
}

/* The input that a source is nothing but a part of, and where in it that begins; NULL: it is another's too, or made. */
static const struct ws_known_input *part_of(const struct printing *p, const struct ws_source *source, uint64_t *at) {
    uint64_t length = source->size;
    *at = 0;
    for (unsigned depth = 0; depth < DEPTH_MOST; depth++) {
        const struct ws_known_input *input = known(p, source);
        if (input) return input;
        struct ws_piece piece = ws_source_piece(source, *at, length);
        if (piece.kind != WS_PIECE_BASE || piece.length != length) return NULL;
        source = piece.base;
        *at = piece.at;
    }
    return NULL;
}

/* What is unpacked from an input is known by what it is in it: it need not be unpacked for that. */
static bool add_unpacked(struct printing *p, const struct ws_piece *piece) {
    uint64_t at = 0;
    const struct ws_known_input *input = part_of(p, piece->base, &at);
    if (!input) return false;
    note(p, "unpacked", piece->at, piece->length);
    note(p, "of", piece->number, at);
    ws_hash_add(p->hash, input->digest, strlen(input->digest));
    return true;
}

static enum ws_status add_stretch(struct printing *p, const struct ws_source *source, uint64_t at, uint64_t length,
                                  unsigned depth, struct ws_error *error) {
    const struct ws_known_input *input = known(p, source);
    if (input) {
        note(p, "input", at, length);
        ws_hash_add(p->hash, input->digest, strlen(input->digest));
        return WS_OK;
    }
    if (depth >= DEPTH_MOST) return add_bytes(p, source, at, length, error);
    while (length > 0) {
        struct ws_piece piece = ws_source_piece(source, at, length);
        if (piece.kind == WS_PIECE_HOLE) note(p, "zeros", piece.length, 0);
        else if (piece.kind == WS_PIECE_UNPACKED && add_unpacked(p, &piece)) {
        } else if (piece.kind != WS_PIECE_BASE) WS_TRY(add_bytes(p, source, at, piece.length, error));
        else WS_TRY(add_stretch(p, piece.base, piece.at, piece.length, depth + 1, error));
        at += piece.length;
        length -= piece.length;
    }
    return WS_OK;
}

enum ws_status ws_layout_fingerprint(const struct ws_layout *layout, const struct ws_known_input *input, size_t inputs,
                                     char hex[WS_HASH_HEX], struct ws_error *error) {
    struct printing p = {.input = input, .inputs = inputs, .buffer = malloc(CHUNK)};
    enum ws_status status = WS_OK;
    if (!p.buffer) return ws_fail(error, WS_E_NOMEM, "out of memory for a fingerprint");
    WS_GO(ws_hash_open(WS_HASH_SHA256, &p.hash, error));
    note(&p, "drive", ws_layout_size(layout), 0);
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        note(&p, e->phase == WS_PHASE_SEAL ? "seal" : "body", e->at, e->length);
        WS_GO(add_stretch(&p, e->from, e->from_at, e->length, 0, error));
    }
    ws_hash_hex(p.hash, hex);
done:
    ws_hash_close(p.hash);
    free(p.buffer);
    return status;
}
