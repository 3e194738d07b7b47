/* pieces.c — lists of digests. */
#include "wild_satchel/pieces.h"

#include "base/bytes.h"

#include <openssl/evp.h>
#include <stdlib.h>
#include <string.h>

void ws_pieces_free(struct ws_pieces *p) {
    free(p->list);
    memset(p, 0, sizeof *p);
}

enum ws_status ws_pieces_add(struct ws_pieces *p, const struct ws_digest_piece *piece, struct ws_error *error) {
    const struct ws_digest_piece *last = p->count ? &p->list[p->count - 1] : NULL;
    uint64_t begin = piece->at / WS_DIGEST_BYTES;
    if (piece->length == 0 || piece->length > WS_DIGEST_BYTES || piece->at > INT64_MAX ||
        (piece->at + piece->length - 1) / WS_DIGEST_BYTES != begin || piece->part >= WS_LAYOUT_PARTS ||
        (last && last->at + last->length > piece->at))
        return ws_fail(error, WS_E_RANGE, "a piece of %u bytes at byte %llu is not possible here", piece->length,
                       (unsigned long long)piece->at);
    if (p->count == p->room) {
        size_t room = p->room * 2 + 256;
        struct ws_digest_piece *grown = realloc(p->list, room * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for %zu digests", room);
        p->list = grown;
        p->room = room;
    }
    p->list[p->count++] = *piece;
    return WS_OK;
}

enum ws_status ws_pieces_root(const struct ws_pieces *p, char hex[WS_HASH_HEX], struct ws_error *error) {
    struct ws_hash *hash = NULL;
    WS_TRY(ws_hash_open(WS_HASH_SHA256, &hash, error));
    for (size_t i = 0; i < p->count; i++) ws_hash_add(hash, p->list[i].sha256, 32);
    ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    return WS_OK;
}

/* So many pieces make one stretch. */
static size_t pieces_a_stretch(size_t pieces) {
    size_t many = 1;
    while (ws_div_up(pieces, many) > WS_STRETCHES) many *= 2;
    return many;
}

enum ws_status ws_pieces_outline(const struct ws_pieces *p, char outline[WS_OUTLINE_ROOM], struct ws_error *error) {
    size_t many = pieces_a_stretch(p->count);
    char *out = outline;
    for (size_t i = 0; i < p->count; i += many, out += 4) {
        struct ws_pieces stretch = {.list = p->list + i, .count = (size_t)ws_min_u64(many, p->count - i)};
        char hex[WS_HASH_HEX];
        WS_TRY(ws_pieces_root(&stretch, hex, error));
        memcpy(out, hex, 4);
    }
    *out = '\0';
    return WS_OK;
}

void ws_outline_compare(const char *was, const char *is, size_t pieces, struct ws_changed *changed) {
    size_t length = strlen(is);
    bool alike = strlen(was) == length;
    *changed =
        (struct ws_changed){.stretch = (uint64_t)pieces_a_stretch(pieces) * WS_DIGEST_BYTES, .stretches = length / 4};
    for (size_t i = changed->stretches; i-- > 0;) {
        if (alike && memcmp(was + 4 * i, is + 4 * i, 4) == 0) continue;
        changed->changed++;
        changed->at = i * changed->stretch;
    }
}

/* Every second piece of a source, from the first or the second on. */
struct half {
    const struct ws_source *source;
    struct ws_pieces *pieces;
    size_t first;
    enum ws_status status;
    struct ws_error error;
};

static void work_out(void *context) {
    struct half *h = context;
    char *buffer = malloc(WS_DIGEST_BYTES);
    h->status = buffer ? WS_OK : ws_fail(&h->error, WS_E_NOMEM, "out of memory for digests");
    for (size_t i = h->first; h->status == WS_OK && i < h->pieces->count; i += 2) {
        struct ws_digest_piece *p = &h->pieces->list[i];
        h->status = ws_source_read(h->source, p->at, buffer, p->length, &h->error);
        if (h->status == WS_OK && EVP_Digest(buffer, p->length, p->sha256, NULL, EVP_sha256(), NULL) != 1)
            h->status = ws_fail(&h->error, WS_E_NOMEM, "a hash could not be worked out");
    }
    free(buffer);
}

enum ws_status ws_pieces_of_source(struct ws_port *port, const struct ws_source *source, unsigned part,
                                   struct ws_pieces *pieces, struct ws_error *error) {
    struct half half[2] = {{source, pieces, 0, WS_OK, {0}}, {source, pieces, 1, WS_OK, {0}}};
    struct ws_task *task = NULL;
    memset(pieces, 0, sizeof *pieces);
    enum ws_status status = WS_OK;
    for (uint64_t at = 0; status == WS_OK && at < source->size; at += WS_DIGEST_BYTES) {
        uint32_t length = (uint32_t)ws_min_u64(source->size - at, WS_DIGEST_BYTES);
        status = ws_pieces_add(pieces, &(struct ws_digest_piece){.at = at, .length = length, .part = part}, error);
    }
    if (status == WS_OK && port) status = port->ops->start(port, work_out, &half[1], &task, error);
    if (status == WS_OK) {
        work_out(&half[0]);
        if (task) port->ops->join(port, task);
        else work_out(&half[1]);
    }
    for (int i = 0; i < 2 && status == WS_OK; i++) {
        if (half[i].status != WS_OK && error) *error = half[i].error;
        status = half[i].status;
    }
    if (status != WS_OK) ws_pieces_free(pieces);
    return status;
}
