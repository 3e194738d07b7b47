/* vhdx_log.c — what a VHDX's log holds, laid over the file: the file itself is only read (MS-VHDX 2.3). */
#include "container/vhdx.h"

#include <stdlib.h>
#include <string.h>

enum { SECTOR = 4096, HEAD = 64, LOG_MOST = 16 << 20, ZERO_MOST = 64 << 20 };

/* The whole log in memory, read round its end. */
struct log {
    const uint8_t *id;
    uint8_t *bytes;
    uint64_t length;
};

static void log_copy(const struct log *l, uint64_t at, uint8_t *out, size_t length) {
    for (size_t done = 0; done < length;) {
        const uint64_t from = (at + done) % l->length;
        const size_t step = (size_t)ws_min_u64(length - done, l->length - from);
        memcpy(out + done, l->bytes + from, step);
        done += step;
    }
}

/* One entry, whole and valid: its bytes, which the caller frees (2.3.1.1). */
static uint8_t *entry_at(const struct log *l, uint64_t at, uint32_t *length) {
    uint8_t head[HEAD];
    log_copy(l, at, head, HEAD);
    *length = ws_load_le32(head + 8);
    if (memcmp(head, "loge", 4) != 0 || memcmp(head + 32, l->id, 16) != 0 || *length < SECTOR || *length % SECTOR ||
        *length > l->length)
        return NULL;
    uint8_t *e = malloc(*length);
    if (!e) return NULL;
    log_copy(l, at, e, *length);
    const uint32_t sum = ws_load_le32(e + 4);
    ws_store_le32(e + 4, 0);
    if (~ws_crc32c(~0u, e, *length) == sum) return e;
    free(e);
    return NULL;
}

/* What stands at a sector of the log, looked at once. */
struct found {
    uint32_t length; /* 0: no entry */
    uint32_t tail;
    uint64_t number;
};

/* Entries may claim to overlap: their sums are not worked out over more bytes than a sound log has many times over. */
static enum ws_status find_entries(const struct log *l, struct found *found, const struct container *c,
                                   struct ws_error *error) {
    uint64_t budget = 4 * l->length;
    for (uint64_t at = 0; at < l->length; at += SECTOR) {
        uint32_t length;
        if (memcmp(l->bytes + at, "loge", 4) != 0) continue;
        if (budget < ws_load_le32(l->bytes + at + 8)) return container_damaged(c, error, "its log contradicts itself");
        uint8_t *e = entry_at(l, at, &length);
        budget -= ws_min_u64(budget, length);
        if (!e) continue;
        found[at / SECTOR] = (struct found){length, ws_load_le32(e + 12), ws_load_le64(e + 16)};
        free(e);
    }
    return WS_OK;
}

/* Entries that follow each other, from one on: valid if the last of them says that they begin at one of them (2.3.2).
 * @return the last one's sequence number, 0: none; `tail`: where replay begins */
static uint64_t sequence_from(const struct log *l, const struct found *found, uint64_t at, uint64_t *tail) {
    const struct found *last = NULL;
    uint64_t done = 0, place = at;
    bool covered = false;
    while (done < l->length) {
        const struct found *f = &found[place / SECTOR];
        if (!f->length || done + f->length > l->length || (last && f->number != last->number + 1)) break;
        last = f;
        done += f->length;
        place = (place + f->length) % l->length;
    }
    if (!last) return 0;
    for (uint64_t p = at, seen = 0; seen < done && !covered;) { /* is that one of these? */
        covered = p == last->tail;
        seen += found[p / SECTOR].length;
        p = (p + found[p / SECTOR].length) % l->length;
    }
    *tail = last->tail;
    return covered ? last->number : 0;
}

/* 2.3.1.2, 2.3.1.3: zeros, or a sector of which head and end stand in its descriptor. */
static enum ws_status take_descriptor(const uint8_t *e, uint32_t length, const uint8_t *d, size_t *data,
                                      struct ws_source *patched, uint64_t *zeroed, struct ws_error *error) {
    uint8_t sector[SECTOR];
    const uint64_t to = ws_load_le64(d + 16);
    if (memcmp(d, "zero", 4) == 0) {
        const uint64_t count = ws_load_le64(d + 8);
        *zeroed += count;
        if (*zeroed > ZERO_MOST || !ws_inside(to, count, patched->size)) return WS_E_FORMAT;
        memset(sector, 0, sizeof sector);
        for (uint64_t at = 0; at < count; at += SECTOR)
            WS_TRY(ws_source_patch(patched, to + at, sector, (size_t)ws_min_u64(SECTOR, count - at), error));
        return WS_OK;
    }
    if (memcmp(d, "desc", 4) != 0 || *data + SECTOR > length || !ws_inside(to, SECTOR, patched->size))
        return WS_E_FORMAT;
    const uint8_t *s = e + *data;
    const uint64_t number = (uint64_t)ws_load_le32(s + 4) << 32 | ws_load_le32(s + 4092);
    if (memcmp(s, "data", 4) != 0 || number != ws_load_le64(d + 24)) return WS_E_FORMAT;
    memcpy(sector, d + 8, 8);
    memcpy(sector + 8, s + 8, 4084);
    memcpy(sector + 4092, d + 4, 4);
    *data += SECTOR;
    return ws_source_patch(patched, to, sector, SECTOR, error);
}

static enum ws_status take_entry(const uint8_t *e, uint32_t length, struct ws_source *patched, uint64_t *zeroed,
                                 struct ws_error *error) {
    const uint32_t count = ws_load_le32(e + 24);
    if (HEAD + 32ull * count > length) return WS_E_FORMAT;
    size_t data = (size_t)ws_round_up(HEAD + 32ull * count, SECTOR);
    for (uint32_t i = 0; i < count; i++)
        WS_TRY(take_descriptor(e, length, e + HEAD + 32 * (size_t)i, &data, patched, zeroed, error));
    return WS_OK;
}

static enum ws_status replay(const struct container *c, const struct log *l, uint64_t tail, uint64_t last,
                             struct ws_source **patched, struct ws_error *error) {
    uint64_t end = c->file->size, zeroed = 0;
    enum ws_status status = WS_OK;
    for (int pass = 0; pass < 2 && status == WS_OK; pass++) { /* first how long the file becomes */
        if (pass) status = ws_source_patched(c->file, end, patched, error);
        for (uint64_t at = tail, number = 0; number != last && status == WS_OK;) {
            uint32_t length;
            uint8_t *e = entry_at(l, at, &length);
            if (!e) return container_damaged(c, error, "its log breaks off");
            number = ws_load_le64(e + 16);
            if (!pass) end = ws_max_u64(end, ws_load_le64(e + 56));
            if (end > container_size_most) status = WS_E_FORMAT;
            if (pass && status == WS_OK) status = take_entry(e, length, *patched, &zeroed, error);
            free(e);
            at = (at + length) % l->length;
        }
    }
    return status == WS_E_FORMAT ? container_damaged(c, error, "its log holds what cannot be") : status;
}

enum ws_status vhdx_replay(const struct container *c, const uint8_t *header, struct ws_source **patched,
                           struct ws_error *error) {
    static const uint8_t none[16];
    struct log l = {.id = header + 48, .length = ws_load_le32(header + 68)};
    uint64_t best = 0, tail = 0;
    *patched = NULL;
    if (memcmp(l.id, none, 16) == 0) return WS_OK;
    if (ws_load_le16(header + 64) != 0) return ws_fail(error, WS_E_UNSUPPORTED, "its log is of an unknown version");
    if (l.length < SECTOR || l.length % SECTOR) return container_damaged(c, error, "its log has an impossible length");
    WS_TRY(container_load(c, ws_load_le64(header + 72), l.length, LOG_MOST, &l.bytes, "its log", error));
    struct found *found = calloc((size_t)(l.length / SECTOR), sizeof *found);
    enum ws_status status = found ? find_entries(&l, found, c, error)
                                  : ws_fail(error, WS_E_NOMEM, "out of memory for the log of a virtual disk");
    for (uint64_t at = 0; at < l.length && status == WS_OK; at += SECTOR) {
        uint64_t from;
        const uint64_t last = found[at / SECTOR].length ? sequence_from(&l, found, at, &from) : 0;
        if (last > best) {
            best = last;
            tail = from;
        }
    }
    free(found);
    if (status == WS_OK)
        status = best ? replay(c, &l, tail, best, patched, error)
                      : container_damaged(c, error, "its log is needed, and nothing in it is whole");
    free(l.bytes);
    if (status != WS_OK) {
        ws_source_close(*patched);
        *patched = NULL;
    }
    return status;
}
