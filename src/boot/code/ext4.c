/* ext4.c — ext2, ext3 and ext4 read by start-up code: extents and block maps, folders read straight through.
 *
 * The on-disk format as the Linux kernel documents it (Documentation/filesystems/ext4): super block, group
 * descriptors, inodes, extent trees, folder entries.
 */
#include "start.h"

enum { ROOT_INODE = 2, DEPTH_MOST = 5, FOLDER_MOST = 4 << 20 };
enum {
    FEATURE_64BIT = 0x80,
    FEATURE_SEED = 0x2000,
    FEATURE_CHECKSUMS = 0x400,
    KNOWN_INCOMPATIBLE = 0x0002 | 0x0004 | 0x0040 | 0x0080 | 0x0200 | 0x2000 | 0x4000
};

bool start_ext_mount(struct start_volume *v) {
    uint8_t s[628];
    if (!start_disk_peek(v->m, v->at + 1024, sizeof s, s)) return false;
    if (start_le16(s + 0x38) != 0xef53) return false;
    uint32_t log = start_le32(s + 0x18);
    uint32_t incompatible = start_le32(s + 0x60);
    if (log > 6) return false;
    if (incompatible & ~(uint32_t)KNOWN_INCOMPATIBLE)
        return start_fail(v->m, "an ext4 volume uses features that start-up code does not read (%x)",
                          incompatible & ~(unsigned)KNOWN_INCOMPATIBLE);
    v->kind = START_EXT;
    v->cluster_shift = 10 + log;
    v->inodes_per_group = start_le32(s + 0x28);
    v->inodes = start_le32(s);
    v->inode_bytes = start_le32(s + 0x4c) ? start_le16(s + 0x58) : 128;
    v->descriptor_bytes = incompatible & FEATURE_64BIT ? start_le16(s + 0xfe) : 32;
    v->has_checksums = (start_le32(s + 0x64) & FEATURE_CHECKSUMS) != 0;
    v->checksum_seed = incompatible & FEATURE_SEED ? start_le32(s + 0x270) : start_crc32c(UINT32_MAX, s + 0x68, 16);
    v->descriptors_at = v->at + ((uint64_t)(start_le32(s + 0x14) + 1) << v->cluster_shift);
    return v->inodes_per_group > 0 && v->inode_bytes >= 128 && v->inode_bytes <= 4096 && v->descriptor_bytes >= 32 &&
           v->descriptor_bytes <= 1024;
}

static bool open_inode(struct start_volume *v, uint32_t number, struct start_file *f) {
    uint8_t d[64] = {0};
    uint8_t i[128];
    if (number == 0 || number > v->inodes) return start_fail(v->m, "the file system is damaged: no inode %u", number);
    uint32_t group = (number - 1) / v->inodes_per_group;
    uint32_t index = (number - 1) % v->inodes_per_group;
    if (!start_disk_peek(v->m, v->descriptors_at + (uint64_t)group * v->descriptor_bytes,
                         v->descriptor_bytes < 64 ? 32 : 64, d))
        return false;
    uint64_t table = start_le32(d + 8) | (v->descriptor_bytes >= 64 ? (uint64_t)start_le32(d + 0x28) << 32 : 0);
    if (table >> 40) return start_fail(v->m, "the file system is damaged: group %u", group);
    if (!start_disk_peek(v->m, v->at + (table << v->cluster_shift) + (uint64_t)index * v->inode_bytes, sizeof i, i))
        return false;
    memset(f, 0, sizeof *f);
    f->v = v;
    uint16_t kind = start_le16(i) & 0xf000;
    f->folder = kind == 0x4000;
    f->link = kind == 0xa000;
    f->size = start_le32(i + 4) | (uint64_t)start_le32(i + 0x6c) << 32;
    f->number = number;
    f->generation = start_le32(i + 0x64);
    f->has_index = (start_le32(i + 0x20) & 0x1000) != 0;
    f->has_extents = (start_le32(i + 0x20) & 0x80000) != 0;
    memcpy(f->block, i + 0x28, 60);
    return true;
}

bool start_ext_root(struct start_volume *v, struct start_file *root) { return open_inode(v, ROOT_INODE, root); }

static bool extent_run(struct start_file *f, uint32_t block, uint64_t *found, uint64_t *blocks) {
    struct start_volume *v = f->v;
    uint8_t head[12];
    uint8_t e[12];
    uint64_t node = 0; /* 0: in the inode */
    for (unsigned depth = 0; depth <= DEPTH_MOST; depth++) {
        uint64_t base = node << v->cluster_shift;
        if (!node) memcpy(head, f->block, 12);
        else if (!start_disk_peek(v->m, v->at + base, 12, head)) return false;
        unsigned entries = start_le16(head + 2);
        unsigned left = start_le16(head + 6);
        unsigned most = node ? ((1u << v->cluster_shift) - 12) / 12 : 4;
        if (start_le16(head) != 0xf30a || entries > most) break;
        bool have = false;
        uint64_t child = 0;
        uint64_t after = UINT32_MAX; /* the next extent's first block */
        for (unsigned i = 0; i < entries; i++) {
            if (!node) memcpy(e, f->block + 12 * (i + 1), 12);
            else if (!start_disk_peek(v->m, v->at + base + 12ull * (i + 1), 12, e)) return false;
            uint32_t first = start_le32(e);
            if (first > block) {
                after = first;
                break;
            }
            have = true;
            if (left) {
                child = start_le32(e + 4) | (uint64_t)start_le16(e + 8) << 32;
                continue;
            }
            uint32_t length = start_le16(e + 4);
            bool unwritten = length > 32768;
            if (unwritten) length -= 32768;
            if (block - first >= length) continue;
            *blocks = length - (block - first);
            *found = unwritten ? 0 : (start_le32(e + 8) | (uint64_t)start_le16(e + 6) << 32) + (block - first);
            return true;
        }
        if (!left || !have) {
            *found = 0;
            *blocks = after - block; /* a hole */
            return true;
        }
        node = child;
        if (!node) break;
    }
    return start_fail(v->m, "the file system is damaged: a file's map makes no sense");
}

/* The older map: twelve blocks, then one, two and three steps of indirection. */
static bool mapped_block(struct start_file *f, uint32_t block, uint64_t *found) {
    struct start_volume *v = f->v;
    uint32_t per = v->cluster_shift - 2; /* log2 of pointers in a block */
    uint8_t e[4];
    if (block < 12) {
        *found = start_le32(f->block + 4ull * block);
        return true;
    }
    uint64_t rest = block - 12;
    unsigned steps = 1;
    while (steps <= 3 && rest >> (per * steps)) rest -= 1ull << (per * steps), steps++;
    if (steps > 3) return start_fail(v->m, "the file system is damaged: a file's map makes no sense");
    uint64_t at = start_le32(f->block + 4ull * (11 + steps));
    for (; steps && at; steps--) {
        uint64_t index = rest >> (per * (steps - 1)) & ((1ull << per) - 1);
        if (!start_disk_peek(v->m, v->at + (at << v->cluster_shift) + 4 * index, 4, e)) return false;
        at = start_le32(e);
    }
    *found = at;
    return true;
}

bool start_ext_run(struct start_file *f, uint64_t at, uint64_t *disk_at, uint64_t *length) {
    struct start_volume *v = f->v;
    uint64_t far = at >> v->cluster_shift;
    uint64_t in_block = at & ((1ull << v->cluster_shift) - 1);
    uint64_t found = 0;
    uint64_t blocks = 1;
    if (far >= UINT32_MAX) return start_fail(v->m, "the file system is damaged: a file is too long");
    if (f->has_extents ? !extent_run(f, (uint32_t)far, &found, &blocks) : !mapped_block(f, (uint32_t)far, &found))
        return false;
    if (found >> 40) return start_fail(v->m, "the file system is damaged: a block lies too far behind");
    *disk_at = found ? v->at + (found << v->cluster_shift) + in_block : 0;
    *length = (blocks << v->cluster_shift) - in_block;
    return true;
}

bool start_ext_list(struct start_file *folder, start_name_visit visit, void *context) {
    struct start_volume *v = folder->v;
    uint8_t e[8];
    char name[START_NAME_MOST];
    for (uint64_t at = 0; at < folder->size && at < FOLDER_MOST;) {
        uint64_t got;
        struct start_file f;
        if (!start_read(folder, at, sizeof e, e, &got)) return false;
        if (got < sizeof e) return true;
        uint32_t inode = start_le32(e);
        uint32_t length = start_le16(e + 4);
        if (length < 8 || length & 3) return start_fail(v->m, "the file system is damaged: a folder makes no sense");
        if (inode && e[6]) {
            if (!start_read(folder, at + 8, e[6], name, &got)) return false;
            name[got < 255 ? got : 255] = '\0';
            if (!open_inode(v, inode, &f)) return false;
            if (!visit(context, name, &f)) return true;
        }
        at += length;
    }
    return true;
}
