/* internal.h — a lock's parts for each other. */
#ifndef WS_LOCK_INTERNAL_H
#define WS_LOCK_INTERNAL_H

#include "wild_satchel/lock.h"

enum {
    LOCK_KEY = 64,         /* bytes: two AES-256 keys, as XTS has them */
    LOCK_SALT = 32,        /* bytes */
    LOCK_STRIPES = 4000,   /* what a secret's area spreads the key over */
    LOCK_AREA = 63 * 4096, /* bytes of one: 4000 keys, and up to the next page */
    LOCK_HEADER = 16384,   /* bytes of a header with its JSON text; its copy follows */
    LOCK_AREAS_AT = 2 * LOCK_HEADER
};

/* One secret as the header tells it. */
struct lock_slot {
    struct ws_lock_cost cost;
    uint8_t salt[LOCK_SALT];
};
struct lock_header {
    struct ws_guid id;
    const char *label;
    uint8_t salt[64]; /* of the binary header */
    struct lock_slot slot[WS_LOCK_SECRETS_MOST];
    size_t slots;
    uint32_t digest_rounds;
    uint8_t digest_salt[LOCK_SALT], digest[32]; /* of the volume's key, by PBKDF2 */
};
/* How a secret becomes a key, in a header that was read. */
enum lock_kdf { LOCK_ARGON2ID, LOCK_ARGON2I, LOCK_PBKDF2 };
struct lock_secret {
    enum lock_kdf kdf;
    struct ws_lock_cost cost;
    uint32_t rounds; /* of PBKDF2 */
    char hash[16];   /* of PBKDF2 */
    char spread[16]; /* hash of the spreading */
    uint8_t salt[64];
    size_t salt_length;
};
/* header.c: both copies, 2 * LOCK_HEADER bytes. */
enum ws_status lock_put_header(const struct lock_header *header, uint8_t *out, struct ws_error *error);

/* area.c: the key, locked by one secret, LOCK_AREA bytes. */
enum ws_status lock_put_area(const struct lock_slot *slot, const char *secret, const uint8_t key[LOCK_KEY],
                             uint8_t *out, struct ws_error *error);
enum ws_status lock_random(void *out, size_t length, struct ws_error *error);

/* The key from its area again, by one secret: right if its digest is. The area is overwritten. */
enum ws_status lock_take_area(const struct lock_secret *kdf, const char *secret, uint32_t stripes, uint8_t *area,
                              uint8_t key[LOCK_KEY], struct ws_error *error);

/* cipher.c: whole units of `unit` bytes in place, the first being the one at byte `at`; key numbers count 512 bytes. */
enum ws_status lock_encipher(const uint8_t key[LOCK_KEY], uint64_t at, size_t unit, uint8_t *bytes, size_t length,
                             struct ws_error *error);
enum ws_status lock_decipher(const uint8_t key[LOCK_KEY], uint64_t at, size_t unit, uint8_t *bytes, size_t length,
                             struct ws_error *error);

/* What is locked, as a header says. */
struct lock_place {
    uint64_t at, length; /* bytes of the volume */
    uint64_t head;       /* bytes before it that say something: the header, and the areas of all secrets */
    uint64_t tweak;      /* added to key numbers */
    uint32_t sector;
};
/* open.c: the key, and what it opens. */
enum ws_status lock_find_key(const struct ws_source *volume, const char *secret, uint8_t key[LOCK_KEY],
                             struct lock_place *place, struct ws_error *error);

#endif
