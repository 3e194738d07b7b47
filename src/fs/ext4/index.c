/* index.c — folders of more than one block, indexed by their names' hashes: Linux, Documentation/filesystems/ext4,
 * "Hash Tree Directories". The hash is half MD4 over characters with their sign, as the super block says.
 *
 * Block 0 is the index: from which hash on names stand in which block. Where one block of index is too little there is
 * a level of further ones behind it. Then follow the blocks of names, each of the usual form, filled so far that some
 * names find room before the first is split.
 */
#include "fs/ext4/internal.h"

#include <stdlib.h>
#include <string.h>

enum {
    IN_ROOT = (BLOCK - 32 - 8) / 8, /* entries; 8 bytes at the end are its checksum */
    IN_NODE = (BLOCK - 8 - 8) / 8,
    FILLED = (BLOCK - 12) * 7 / 8,
    HALF_MD4 = 1
};

struct hashed {
    uint32_t hash, minor;
    const struct ws_node *node;
};

static uint32_t turn(uint32_t x, unsigned by) { return x << by | x >> (32 - by); }
static uint32_t choose(uint32_t x, uint32_t y, uint32_t z) { return z ^ (x & (y ^ z)); }
static uint32_t most(uint32_t x, uint32_t y, uint32_t z) { return (x & y) + ((x ^ y) & z); }
static uint32_t parity(uint32_t x, uint32_t y, uint32_t z) { return x ^ y ^ z; }

/* MD4 (RFC 1320) with eight words a block in place of sixteen. */
static void half_md4(uint32_t state[4], const uint32_t in[8]) {
    static const struct {
        uint32_t (*mix)(uint32_t, uint32_t, uint32_t);
        uint32_t constant;
        uint8_t word[8], by[4];
    } rounds[] = {{choose, 0, {0, 1, 2, 3, 4, 5, 6, 7}, {3, 7, 11, 19}},
                  {most, 0x5a827999, {1, 3, 5, 7, 0, 2, 4, 6}, {3, 5, 9, 13}},
                  {parity, 0x6ed9eba1, {3, 7, 2, 6, 1, 5, 0, 4}, {3, 9, 11, 15}}};
    uint32_t s[4] = {state[0], state[1], state[2], state[3]};
    for (size_t r = 0; r < 3; r++)
        for (size_t i = 0; i < 8; i++) {
            size_t a = (8 - i) % 4; /* each of the four in turn, backwards */
            uint32_t mixed = rounds[r].mix(s[(a + 1) % 4], s[(a + 2) % 4], s[(a + 3) % 4]);
            s[a] = turn(s[a] + mixed + in[rounds[r].word[i]] + rounds[r].constant, rounds[r].by[i % 4]);
        }
    for (size_t i = 0; i < 4; i++) state[i] += s[i];
}

/* Up to 32 characters as eight words, filled up with the length. */
static void words_of(const char *name, size_t length, uint32_t out[8]) {
    uint32_t fill = (uint32_t)length | (uint32_t)length << 8;
    fill |= fill << 16;
    uint32_t word = fill;
    size_t n = 0;
    if (length > 32) length = 32;
    for (size_t i = 0; i < length; i++) {
        word = (uint32_t)(int32_t)(signed char)name[i] + (word << 8);
        if (i % 4 != 3) continue;
        out[n++] = word;
        word = fill;
    }
    if (n < 8) out[n++] = word;
    while (n < 8) out[n++] = fill;
}

static struct hashed hash_of(const struct ws_ext4_geometry *g, const struct ws_node *node) {
    static const uint32_t usual[4] = {0x67452301, 0xefcdab89, 0x98badcfe, 0x10325476};
    const uint32_t end = 0xfffffffe; /* stands for "behind the last" */
    uint32_t state[4], in[8];
    bool seeded = false;
    for (size_t i = 0; i < 4; i++) seeded |= (state[i] = ws_load_le32(g->params.seed.byte + 4 * i)) != 0;
    if (!seeded) memcpy(state, usual, sizeof state);
    size_t left = strlen(node->name);
    for (const char *p = node->name; left > 0; p += 32, left -= ws_min_u64(left, 32)) {
        words_of(p, left, in);
        half_md4(state, in);
    }
    uint32_t hash = state[1] & ~1u;
    return (struct hashed){hash == end ? end - 2 : hash, state[2], node};
}

static int by_hash(const void *a, const void *b) {
    const struct hashed *x = a;
    const struct hashed *y = b;
    if (x->hash != y->hash) return x->hash < y->hash ? -1 : 1;
    return x->minor < y->minor ? -1 : x->minor > y->minor;
}

static size_t entry_bytes(const struct ws_node *n) { return (8 + strlen(n->name) + 3) & ~(size_t)3; }

/* Which name begins each block, and from which hash on; a block that goes on with the hash of the one before it says so
 * in the lowest bit. */
static enum ws_status divide(struct ws_ext4_index *x, const struct hashed *all, struct ws_error *error) {
    size_t used = BLOCK;
    size_t room = 0;
    for (uint32_t i = 0; i < x->names; i++) {
        size_t entry = entry_bytes(all[i].node);
        x->name[i] = all[i].node;
        if (used + entry > FILLED) {
            struct ws_ext4_leaf *leaf = ext4_grown(x->leaf, x->leaves, &room, sizeof *leaf);
            if (!leaf) return ws_fail(error, WS_E_NOMEM, "out of memory for a large folder");
            x->leaf = leaf;
            bool goes_on = i > 0 && all[i - 1].hash == all[i].hash;
            x->leaf[x->leaves++] = (struct ws_ext4_leaf){i, all[i].hash | goes_on};
            used = 0;
        }
        used += entry;
    }
    x->nodes = x->leaves <= IN_ROOT ? 0 : (uint32_t)ws_div_up(x->leaves, IN_NODE);
    if (x->nodes <= IN_ROOT) return WS_OK;
    return ws_fail(error, WS_E_RANGE, "a folder holds more names than ext4 can index: %u", (unsigned)x->names);
}

enum ws_status ext4_index_folder(struct ws_ext4_geometry *g, size_t item, uint64_t *blocks, struct ws_error *error) {
    const struct ws_node *folder = g->item[item].node;
    struct ws_ext4_index x = {.item = item};
    struct ws_ext4_index *rows = ext4_grown(g->index, g->indexes, &g->indexes_room, sizeof *rows);
    if (!rows) return ws_fail(error, WS_E_NOMEM, "out of memory for large folders");
    g->index = rows;
    struct hashed *all = malloc((folder->children + 1) * sizeof *all);
    x.name = malloc((folder->children + 1) * sizeof *x.name);
    enum ws_status status = all && x.name ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for a large folder");
    if (status == WS_OK) {
        for (const struct ws_node *n = folder->first; n && x.names < folder->children; n = n->next)
            all[x.names++] = hash_of(g, n);
        qsort(all, x.names, sizeof *all, by_hash);
        status = divide(&x, all, error);
    }
    free(all);
    g->index[g->indexes++] = x; /* freed with the geometry, whatever came of it */
    *blocks = 1 + (uint64_t)x.nodes + x.leaves;
    return status;
}

void ext4_index_free(struct ws_ext4_geometry *g) {
    for (size_t i = 0; i < g->indexes; i++) {
        free(g->index[i].name);
        free(g->index[i].leaf);
    }
    free(g->index);
    g->index = NULL;
    g->indexes = 0;
}

const struct ws_ext4_index *ext4_index_of(const struct ws_ext4_geometry *g, size_t item) {
    return ext4_row_of(g->index, g->indexes, sizeof *g->index, item);
}

/* What an index block says: limit, count, and from which hash on which block; the first begins at the lowest. */
static void put_entries(uint8_t *block, size_t at, uint32_t limit, uint32_t count, uint32_t folder_seed) {
    ws_store_le16(block + at, (uint16_t)limit);
    ws_store_le16(block + at + 2, (uint16_t)count);
    uint8_t zeros[8] = {0}; /* a word that is reserved, and its checksum's own place */
    uint32_t sum = ws_crc32c(folder_seed, block, at + 8 * (size_t)count);
    ws_store_le32(block + at + 8 * (size_t)limit + 4, ws_crc32c(sum, zeros, sizeof zeros));
}

static void put_entry(uint8_t *block, size_t at, uint32_t number, uint32_t hash, uint32_t to) {
    if (number) ws_store_le32(block + at + 8 * (size_t)number, hash);
    ws_store_le32(block + at + 8 * (size_t)number + 4, to);
}

void ext4_index_block(const struct ws_ext4_index *x, uint32_t number, uint32_t folder_seed, uint8_t block[BLOCK]) {
    bool root = number == 0;
    size_t at = root ? 32 : 8;
    uint32_t leaves_at = 1 + x->nodes;
    uint32_t count = 0;
    if (root) {
        block[24 + 4] = HALF_MD4;
        block[24 + 5] = 8; /* bytes of this description */
        block[24 + 6] = x->nodes > 0;
    } else {
        ws_store_le16(block + 4, BLOCK); /* to others it is a block without names */
    }
    if (root && x->nodes) {
        for (; count < x->nodes; count++) put_entry(block, at, count, x->leaf[count * IN_NODE].hash, 1 + count);
    } else {
        uint32_t first = root ? 0 : (number - 1) * IN_NODE;
        for (; first + count < x->leaves && count < (root ? IN_ROOT : IN_NODE); count++)
            put_entry(block, at, count, x->leaf[first + count].hash, leaves_at + first + count);
    }
    put_entries(block, at, root ? IN_ROOT : IN_NODE, count, folder_seed);
}
