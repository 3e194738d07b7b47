/* rescue.c — what can be had of a damaged volume before its files are read: a superblock from a copy of it, descriptors
 * whose checksums are right, and inodes that no name leads to. */
#include "fs/ext4/rescue.h"

#include <stdlib.h>
#include <string.h>

enum { SUPER_AT = 1024, SUPER = 1024 };

static bool is_super(const uint8_t *s) {
    if (ws_load_le16(s + 0x38) != 0xef53) return false;
    return !(ws_load_le32(s + 0x64) & RO_METADATA_CSUM) || ws_crc32c(0xffffffff, s, 0x3fc) == ws_load_le32(s + 0x3fc);
}

/* Copies stand in groups 1, 3, 5, 7: where those begin depends on the size of a block, which is not known yet. */
enum ws_status ext4_rescue_super(struct ws_source *patched, bool *from_copy, struct ws_error *error) {
    static const unsigned groups[] = {1, 3, 5, 7, 9, 25, 27, 49};
    uint8_t s[SUPER];
    *from_copy = false;
    if (patched->size < SUPER_AT + SUPER) return ws_fail(error, WS_E_NOTFOUND, "too small to hold an ext4 volume");
    WS_TRY(ws_source_read(patched, SUPER_AT, s, SUPER, error));
    if (is_super(s)) return WS_OK;
    for (unsigned log = 0; log < 3; log++)
        for (size_t i = 0; i < sizeof groups / sizeof groups[0]; i++) {
            const uint64_t block = 1024u << log, at = (groups[i] * block * 8 + (log == 0)) * block;
            if (at + SUPER > patched->size) continue;
            WS_TRY(ws_source_read(patched, at, s, SUPER, error));
            if (!is_super(s) || ws_load_le32(s + 0x18) != log) continue;
            *from_copy = true;
            return ws_source_patch(patched, SUPER_AT, s, SUPER, error);
        }
    return ws_fail(error, WS_E_NOTFOUND, "there is no ext4 volume here, and no copy of its superblock");
}

static bool is_descriptor(const struct ext4_volume *v, const uint8_t *d, uint32_t group) {
    uint8_t copy[1024], number[4];
    if (!(v->ro_compat & RO_METADATA_CSUM)) return ws_load_le32(d + 8) != 0;
    memcpy(copy, d, v->desc_size);
    ws_store_le16(copy + 0x1e, 0);
    ws_store_le32(number, group);
    return (uint16_t)ws_crc32c(ws_crc32c(v->csum_seed, number, 4), copy, v->desc_size) == ws_load_le16(d + 0x1e);
}

size_t ext4_rescue_descriptors(struct ext4_volume *v) {
    static const unsigned copies[] = {1, 3, 5, 7, 9, 25, 27, 49};
    size_t bad = 0;
    uint8_t d[1024];
    for (uint32_t g = 0; g < v->groups; g++) {
        uint8_t *own = v->descriptors + (size_t)g * v->desc_size;
        bool good = is_descriptor(v, own, g);
        for (size_t i = 0; i < sizeof copies / sizeof copies[0] && !good; i++) {
            const uint64_t at = (v->first_data_block + (uint64_t)copies[i] * v->blocks_a_group + 1) * v->block +
                                (uint64_t)g * v->desc_size;
            if (v->incompat & INCOMPAT_META_BG || copies[i] >= v->groups ||
                ws_source_read(v->source, at, d, v->desc_size, NULL) != WS_OK)
                continue;
            good = is_descriptor(v, d, g);
            if (good) memcpy(own, d, v->desc_size);
        }
        bad += !good;
    }
    return bad;
}

bool ext4_rescue_is_used(struct ext4_volume *v, uint32_t ino, uint8_t inode[INODE_SIZE]) {
    const uint32_t group = (ino - 1) / v->inodes_a_group, number = (ino - 1) % v->inodes_a_group;
    const uint8_t *d = v->descriptors + (size_t)group * v->desc_size;
    if (is_descriptor(v, d, group) && v->ro_compat & RO_METADATA_CSUM) {
        const uint32_t unused =
            ws_load_le16(d + 0x1c) | (v->desc_size >= 64 ? (uint32_t)ws_load_le16(d + 0x32) << 16 : 0);
        if (ws_load_le16(d + 0x12) & 1 || number >= v->inodes_a_group - ws_min_u64(unused, v->inodes_a_group))
            return false;
    }
    if (ext4_inode(v, ino, inode, NULL) != WS_OK) return false;
    return ws_load_le16(inode) & 0xf000 && ws_load_le16(inode + 0x1a) && !ws_load_le32(inode + 0x14);
}

bool ext4_rescue_is_whole(const struct ext4_volume *v, uint32_t ino, const uint8_t inode[INODE_SIZE]) {
    enum { OLD_SIZE = 128, LOW = 0x7c, HIGH = 0x82 };
    const size_t size = v->facts.inode_size;
    uint8_t copy[INODE_SIZE], number[4];
    if (!(v->ro_compat & RO_METADATA_CSUM) || size > INODE_SIZE) return true;
    const bool high = size > OLD_SIZE && ws_load_le16(inode + OLD_SIZE) >= 4;
    memcpy(copy, inode, size);
    ws_store_le16(copy + LOW, 0);
    if (high) ws_store_le16(copy + HIGH, 0);
    ws_store_le32(number, ino);
    uint32_t sum = ws_crc32c(ws_crc32c(v->csum_seed, number, 4), copy + 0x64, 4);
    sum = ws_crc32c(sum, copy, size);
    return (uint16_t)sum == ws_load_le16(inode + LOW) && (!high || sum >> 16 == ws_load_le16(inode + HIGH));
}

enum ws_status ws_ext4_probe_copies(const struct ws_source *volume, struct ws_ext4_facts *facts,
                                    struct ws_error *error) {
    struct ws_source *patched = NULL;
    bool from_copy;
    WS_TRY(ws_source_patched(volume, volume->size, &patched, error));
    enum ws_status status = ext4_rescue_super(patched, &from_copy, error);
    if (status == WS_OK) status = ws_ext4_probe(patched, facts, error);
    ws_source_close(patched);
    return status;
}
