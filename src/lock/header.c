/* header.c — the header of a locked volume, twice: LUKS2 specification, sections 2.1 and 3.1. Numbers of its binary
 * part are big-endian; the JSON text that follows it says where each part stands. */
#include "lock/internal.h"

#include "base/bytes.h"

#include <jansson.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { BINARY = 4096, CHECKSUM_AT = 448 };

static json_t *base64(const uint8_t *bytes, size_t length) {
    char text[100];
    (void)EVP_EncodeBlock((unsigned char *)text, bytes, (int)length);
    return json_string(text);
}

/* Sizes and places are texts there: they may be more than JSON's numbers hold exactly. */
static json_t *number(uint64_t value) {
    char text[24];
    (void)snprintf(text, sizeof text, "%llu", (unsigned long long)value);
    return json_string(text);
}

static json_t *slot_text(const struct lock_slot *s, size_t i) {
    return json_pack("{s:s, s:i, s:{s:s, s:i, s:s}, s:{s:s, s:o, s:o, s:s, s:i}, s:{s:s, s:i, s:i, s:i, s:o}}", "type",
                     "luks2", "key_size", LOCK_KEY, "af", "type", "luks1", "stripes", LOCK_STRIPES, "hash", "sha256",
                     "area", "type", "raw", "offset", number(LOCK_AREAS_AT + i * LOCK_AREA), "size", number(LOCK_AREA),
                     "encryption", "aes-xts-plain64", "key_size", LOCK_KEY, "kdf", "type", "argon2id", "time",
                     (int)s->cost.passes, "memory", (int)s->cost.memory_kib, "cpus", (int)s->cost.lanes, "salt",
                     base64(s->salt, sizeof s->salt));
}

static json_t *text_of(const struct lock_header *h) {
    json_t *slots = json_object();
    json_t *names = json_array();
    for (size_t i = 0; i < h->slots; i++) {
        char name[24];
        (void)snprintf(name, sizeof name, "%zu", i);
        (void)json_object_set_new(slots, name, slot_text(&h->slot[i], i)); /* what is missing is found out below */
        (void)json_array_append_new(names, json_string(name));
    }
    return json_pack("{s:o, s:{}, s:{s:{s:s, s:o, s:s, s:s, s:s, s:i}}, "
                     "s:{s:{s:s, s:o, s:[s], s:s, s:i, s:o, s:o}}, s:{s:o, s:o}}",
                     "keyslots", slots, "tokens", "segments", "0", "type", "crypt", "offset", number(WS_LOCK_HEAD),
                     "size", "dynamic", "iv_tweak", "0", "encryption", "aes-xts-plain64", "sector_size", WS_LOCK_SECTOR,
                     "digests", "0", "type", "pbkdf2", "keyslots", names, "segments", "0", "hash", "sha256",
                     "iterations", (int)h->digest_rounds, "salt", base64(h->digest_salt, sizeof h->digest_salt),
                     "digest", base64(h->digest, sizeof h->digest), "config", "json_size", number(LOCK_HEADER - BINARY),
                     "keyslots_size", number(WS_LOCK_HEAD - LOCK_AREAS_AT));
}

static bool put_copy(const struct lock_header *h, const char *text, bool second, uint8_t *out) {
    char id[37];
    memset(out, 0, LOCK_HEADER);
    memcpy(out, second ? "SKUL\xba\xbe" : "LUKS\xba\xbe", 6);
    out[7] = 2; /* the version */
    ws_store_be64(out + 8, LOCK_HEADER);
    ws_store_be64(out + 16, 1); /* which of both copies is the newer one: neither */
    (void)snprintf((char *)out + 24, 48, "%s", h->label);
    memcpy(out + 72, "sha256", 6);
    memcpy(out + 104, h->salt, 64);
    (void)memcpy(out + 168, ws_guid_text(&h->id, id), 36);
    ws_store_be64(out + 256, second ? LOCK_HEADER : 0);
    memcpy(out + BINARY, text, strlen(text));
    uint8_t digest[32];
    if (EVP_Digest(out, LOCK_HEADER, digest, NULL, EVP_sha256(), NULL) != 1) return false;
    memcpy(out + CHECKSUM_AT, digest, sizeof digest);
    return true;
}

enum ws_status lock_put_header(const struct lock_header *h, uint8_t *out, struct ws_error *error) {
    json_t *object = text_of(h);
    char *text = object ? json_dumps(object, JSON_COMPACT) : NULL;
    json_decref(object);
    struct lock_header second = *h;
    bool good = text && strlen(text) < LOCK_HEADER - BINARY &&
                lock_random(second.salt, sizeof second.salt, error) == WS_OK && put_copy(h, text, false, out) &&
                put_copy(&second, text, true, out + LOCK_HEADER);
    free(text);
    return good ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for the header of a locked volume");
}

bool ws_lock_probe(const struct ws_source *volume, char *uuid) {
    uint8_t head[BINARY];
    if (volume->size < sizeof head || ws_source_read(volume, 0, head, sizeof head, NULL) != WS_OK) return false;
    if (memcmp(head, "LUKS\xba\xbe", 6) != 0 || head[6] || head[7] < 1 || head[7] > 2) return false;
    if (uuid) (void)snprintf(uuid, 40, "%.39s", (const char *)head + 168); /* in the same place in both versions */
    return true;
}
