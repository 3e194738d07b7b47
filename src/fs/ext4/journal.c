/* journal.c — the journal (JBD2): applied in memory for reading, and written for a simulated session. */
#include "fs/ext4/volume.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { KIND_DESCRIPTOR = 1, KIND_COMMIT = 2, KIND_SUPER_1 = 3, KIND_SUPER_2 = 4, KIND_REVOKE = 5 };
enum { TAG_ESCAPED = 1, TAG_SAME_ID = 2, TAG_DELETED = 4, TAG_LAST = 8 };
enum { J_REVOKE = 1, J_64BIT = 2, J_ASYNC = 4, J_CSUM_2 = 8, J_CSUM_3 = 16, J_FAST = 32 };

/* What a quick commit begins with: its kind, its length, features, the transaction it follows. */
enum { QUICK_HEAD = 9 };

struct journal {
    struct ws_source *log; /* the journal inode's content */
    /* Quick commits stand behind `length` and a block more. */
    uint32_t block, first, length, start, sequence, features, seed;
};

static enum ws_status open_journal(struct ext4_volume *v, struct journal *j, struct ws_error *error) {
    uint8_t inode[INODE_SIZE];
    uint8_t s[1024];
    memset(j, 0, sizeof *j);
    WS_TRY(ext4_inode(v, v->journal_ino, inode, error));
    uint64_t size = ws_load_le32(inode + 4) | (uint64_t)ws_load_le32(inode + 0x6c) << 32;
    if (size < 1024 * (uint64_t)v->block / 4 || size > (64ull << 30))
        return ws_fail(error, WS_E_FORMAT, "the ext4 journal has an impossible length");
    WS_TRY(ext4_content(v, v->journal_ino, inode, size, &j->log, error));
    WS_TRY(ws_source_read(j->log, 0, s, 1024, error));
    uint32_t kind = ws_load_be32(s + 4);
    j->block = ws_load_be32(s + 0x0c);
    j->length = ws_load_be32(s + 0x10);
    j->first = ws_load_be32(s + 0x14);
    j->sequence = ws_load_be32(s + 0x18);
    j->start = ws_load_be32(s + 0x1c);
    j->features = kind == KIND_SUPER_2 ? ws_load_be32(s + 0x28) : 0;
    j->seed = ws_crc32c(0xffffffff, s + 0x30, 16);
    if (kind == KIND_SUPER_2 && j->features & J_FAST) {
        uint32_t fast = ws_load_be32(s + 0x54) ? ws_load_be32(s + 0x54) : 256;
        if (fast < j->length) j->length -= fast;
    }
    if (ws_load_be32(s) != JOURNAL_MAGIC || (kind != KIND_SUPER_1 && kind != KIND_SUPER_2) || j->block != v->block ||
        j->length > size / v->block || j->first == 0 || j->first >= j->length || j->start >= j->length)
        return ws_fail(error, WS_E_FORMAT, "the ext4 journal's own superblock is damaged");
    return WS_OK;
}

struct mapped {
    uint64_t block;  /* on the volume */
    uint64_t order;  /* later copies win */
    uint32_t in_log; /* journal block */
    uint32_t sequence;
    bool escaped;
};

struct revoked {
    uint64_t block;
    uint32_t sequence;
};

struct replay {
    const struct ws_source *base;
    struct journal j;
    struct mapped *map;
    size_t count, room;
    struct revoked *revoked;
    size_t revoked_count, revoked_room;
    bool quick; /* quick commits follow, which are not applied */
};

static bool grow(void **list, size_t *room, size_t count, size_t one) {
    if (count < *room) return true;
    size_t next = *room ? *room * 2 : 64;
    void *grown = realloc(*list, next * one);
    if (!grown) return false;
    *list = grown;
    *room = next;
    return true;
}

static bool csummed(const struct journal *j) { return (j->features & (J_CSUM_2 | J_CSUM_3)) != 0; }

static bool tail_is_right(const struct journal *j, uint8_t *block) {
    if (!csummed(j)) return true;
    uint32_t stored = ws_load_be32(block + j->block - 4);
    memset(block + j->block - 4, 0, 4);
    return ws_crc32c(j->seed, block, j->block) == stored;
}

static bool commit_is_right(const struct journal *j, uint8_t *block) {
    if (!csummed(j)) return true;
    uint32_t stored = ws_load_be32(block + 16);
    memset(block + 16, 0, 4);
    return ws_crc32c(j->seed, block, j->block) == stored;
}

static uint32_t wrap(const struct journal *j, uint32_t block) {
    return block >= j->length ? block - j->length + j->first : block;
}

struct tag {
    uint64_t block;
    uint32_t flags, checksum;
    size_t size;
};

static struct tag load_tag(const struct journal *j, const uint8_t *p) {
    struct tag t = {ws_load_be32(p), 0, 0, 0};
    if (j->features & J_CSUM_3) {
        t.flags = ws_load_be32(p + 4);
        if (j->features & J_64BIT) t.block |= (uint64_t)ws_load_be32(p + 8) << 32;
        t.checksum = ws_load_be32(p + 12);
        t.size = 16;
    } else {
        t.checksum = ws_load_be16(p + 4);
        t.flags = ws_load_be16(p + 6);
        t.size = 8 + (j->features & J_64BIT ? 4u : 0u) + (j->features & J_CSUM_2 ? 2u : 0u);
        if (j->features & J_64BIT) t.block |= (uint64_t)ws_load_be32(p + 8) << 32;
    }
    return t;
}

static bool data_is_right(const struct journal *j, const struct tag *t, uint32_t sequence, const uint8_t *data) {
    uint8_t number[4];
    if (!csummed(j)) return true;
    ws_store_be32(number, sequence);
    uint32_t csum = ws_crc32c(ws_crc32c(j->seed, number, 4), data, j->block);
    return j->features & J_CSUM_3 ? csum == t->checksum : (csum & 0xffff) == t->checksum;
}

/* Blocks that this transaction takes back. `*good` false: the log ends before it. */
static enum ws_status take_revoked(struct replay *r, uint8_t *block, uint32_t sequence, bool *good,
                                   struct ws_error *error) {
    const struct journal *j = &r->j;
    size_t one = j->features & J_64BIT ? 8 : 4;
    size_t end = ws_load_be32(block + 12);
    *good = tail_is_right(j, block) && end <= j->block;
    for (size_t p = 16; *good && p + one <= end; p += one) {
        if (!grow((void **)&r->revoked, &r->revoked_room, r->revoked_count, sizeof *r->revoked))
            return ws_fail(error, WS_E_NOMEM, "out of memory for the journal");
        r->revoked[r->revoked_count++] =
            (struct revoked){one == 8 ? ws_load_be64(block + p) : ws_load_be32(block + p), sequence};
    }
    return WS_OK;
}

/* Blocks that follow in the log, and where each belongs. `data`: room for one of them. */
static enum ws_status take_blocks(struct replay *r, uint8_t *block, uint32_t sequence, uint8_t *data, uint32_t *at,
                                  uint32_t *walked, bool *good, struct ws_error *error) {
    const struct journal *j = &r->j;
    size_t end = j->block - (csummed(j) ? 4 : 0);
    *good = tail_is_right(j, block);
    for (size_t p = 12; *good && p + 8 <= end;) {
        struct tag t = load_tag(j, block + p);
        if (p + t.size > end) break;
        WS_TRY(ws_source_read(j->log, (uint64_t)*at * j->block, data, j->block, error));
        *good = data_is_right(j, &t, sequence, data);
        if (!grow((void **)&r->map, &r->room, r->count, sizeof *r->map))
            return ws_fail(error, WS_E_NOMEM, "out of memory for the journal");
        r->map[r->count] = (struct mapped){t.block, r->count, *at, sequence, (t.flags & TAG_ESCAPED) != 0};
        r->count++;
        ++*walked;
        *at = wrap(j, *at + 1);
        p += t.size + (t.flags & TAG_SAME_ID ? 0 : 16);
        if (t.flags & TAG_LAST) break;
    }
    return WS_OK;
}

/* Go through the log once. Adds what each whole transaction holds; stops at the first that is not whole. */
static enum ws_status scan(struct replay *r, struct ws_error *error) {
    const struct journal *j = &r->j;
    uint32_t at = j->start;
    uint32_t sequence = j->sequence;
    size_t whole_map = 0;
    size_t whole_revoked = 0;
    uint32_t walked = 0;
    bool good = true;
    enum ws_status status = WS_OK;
    uint8_t *block = malloc(j->block);
    uint8_t *data = malloc(j->block);
    if (!block || !data) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for the journal"));
    while (good && walked++ < j->length) {
        WS_GO(ws_source_read(j->log, (uint64_t)at * j->block, block, j->block, error));
        if (ws_load_be32(block) != JOURNAL_MAGIC || ws_load_be32(block + 8) != sequence) break;
        uint32_t kind = ws_load_be32(block + 4);
        at = wrap(j, at + 1);
        if (kind == KIND_COMMIT) {
            if (!commit_is_right(j, block)) break;
            whole_map = r->count;
            whole_revoked = r->revoked_count;
            sequence++;
        } else if (kind == KIND_REVOKE) {
            WS_GO(take_revoked(r, block, sequence, &good, error));
        } else if (kind == KIND_DESCRIPTOR) {
            WS_GO(take_blocks(r, block, sequence, data, &at, &walked, &good, error));
        } else {
            break;
        }
    }
    r->count = whole_map;
    r->revoked_count = whole_revoked;
    if (j->features & J_FAST) {
        WS_GO(ws_source_read(j->log, (j->length + 1ull) * j->block, block, j->block, error));
        r->quick = ws_load_le16(block) == QUICK_HEAD && ws_load_le32(block + 8) == sequence;
    }
done:
    free(block);
    free(data);
    return status;
}

static bool is_revoked(const struct replay *r, const struct mapped *m) {
    for (size_t i = 0; i < r->revoked_count; i++)
        if (r->revoked[i].block == m->block && (int32_t)(r->revoked[i].sequence - m->sequence) >= 0) return true;
    return false;
}

static int by_block(const void *a, const void *b) {
    const struct mapped *x = a;
    const struct mapped *y = b;
    if (x->block != y->block) return x->block < y->block ? -1 : 1;
    return x->order < y->order ? -1 : x->order > y->order;
}

/* The first mapped block that ends behind this byte. */
static size_t behind(const struct replay *r, uint64_t at) {
    size_t low = 0;
    size_t high = r->count;
    while (low < high) {
        size_t middle = low + (high - low) / 2;
        if ((r->map[middle].block + 1) * r->j.block <= at) low = middle + 1;
        else high = middle;
    }
    return low;
}

static enum ws_status replay_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                  struct ws_error *error) {
    const struct replay *r = source->state;
    WS_TRY(ws_source_read(r->base, at, buffer, length, error));
    size_t low = behind(r, at);
    for (size_t i = low; i < r->count && r->map[i].block * r->j.block < at + length; i++) {
        uint64_t start = r->map[i].block * r->j.block;
        uint64_t first = ws_max_u64(at, start);
        uint64_t end = ws_min_u64(at + length, start + r->j.block);
        char *out = (char *)buffer + (first - at);
        WS_TRY(ws_source_read(r->j.log, (uint64_t)r->map[i].in_log * r->j.block + (first - start), out,
                              (size_t)(end - first), error));
        if (r->map[i].escaped) { /* a block that began with the journal's own signature */
            uint8_t magic[4];
            ws_store_be32(magic, JOURNAL_MAGIC);
            for (uint64_t k = first; k < end && k < start + 4; k++) out[k - first] = (char)magic[k - start];
        }
    }
    return WS_OK;
}

static void replay_free(struct replay *r) {
    ws_source_close(r->j.log);
    free(r->map);
    free(r->revoked);
    free(r);
}

static void replay_close(struct ws_source *source) { replay_free(source->state); }

/* What the journal holds newer bytes of is nobody else's; the rest is the volume's. */
static void replay_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct replay *r = source->state;
    size_t low = behind(r, at);
    uint64_t start = low < r->count ? r->map[low].block * r->j.block : UINT64_MAX;
    if (at >= start) {
        piece->length = ws_min_u64(piece->length, start + r->j.block - at);
        return;
    }
    *piece = ws_piece_base(r->base, at, ws_min_u64(piece->length, start - at));
}

static const struct ws_source_ops replay_ops = {replay_read, replay_close, replay_piece};

/* What the log has, but for what was taken back, each block once. */
static void settle(struct replay *r, uint64_t blocks) {
    size_t kept = 0;
    for (size_t i = 0; i < r->count; i++)
        if (r->map[i].block < blocks && !is_revoked(r, &r->map[i])) r->map[kept++] = r->map[i];
    if (kept > 1) qsort(r->map, kept, sizeof *r->map, by_block);
    r->count = 0;
    for (size_t i = 0; i < kept; i++)
        if (i + 1 == kept || r->map[i + 1].block != r->map[i].block) r->map[r->count++] = r->map[i];
}

enum ws_status ext4_recover(const struct ws_source *volume, struct ws_source **source, uint64_t *replayed,
                            const char **left, struct ws_error *error) {
    struct ext4_volume v;
    enum ws_status status = WS_OK;
    WS_TRY(ext4_open(volume, &v, error));
    struct replay *r = calloc(1, sizeof *r);
    if (!r) {
        ext4_close(&v);
        return ws_fail(error, WS_E_NOMEM, "out of memory for the journal");
    }
    r->base = volume;
    if (v.facts.needs_recovery && v.journal_ino) {
        WS_GO(open_journal(&v, &r->j, error));
        if (r->j.start) WS_GO(scan(r, error));
        settle(r, v.blocks);
    }
    *left = r->quick                                                                ? "in quick commits"
            : v.facts.needs_recovery && v.compat & COMPAT_JOURNAL && !v.journal_ino ? "on another device"
                                                                                    : NULL;
    if (replayed) *replayed = r->count;
    WS_GO(ws_source_make(&replay_ops, volume->size, r, source, error));
done:
    if (status != WS_OK) replay_free(r);
    ext4_close(&v);
    return status;
}

/* Without all of its changes what is read would be older than what was saved. */
enum ws_status ws_ext4_recovered(const struct ws_source *volume, struct ws_source **source, uint64_t *replayed,
                                 struct ws_error *error) {
    const char *left = NULL;
    WS_TRY(ext4_recover(volume, source, replayed, &left, error));
    if (!left) return WS_OK;
    ws_source_close(*source);
    ws_fail(error, WS_E_UNSUPPORTED,
            "the ext4 volume was not shut down, and its last changes stand %s, which are not read here", left);
    return ws_fail_next(error, "start from it and shut down, or let a file system checker look at it");
}

/* Blocks of the target layout that differ from the volume as it is. */
struct change_list {
    uint64_t *block;
    size_t count, room;
};

static enum ws_status list_changes(const struct ws_source *volume, const struct ws_source *view,
                                   const struct ws_layout *target, struct change_list *list, struct ws_error *error) {
    enum { STEP = 64 };
    enum ws_status status = WS_OK;
    uint8_t *both = malloc(2 * STEP * BLOCK);
    if (!both) return ws_fail(error, WS_E_NOMEM, "out of memory while comparing volumes");
    for (size_t i = 0; i < ws_layout_count(target); i++) {
        const struct ws_extent *e = ws_layout_extent(target, i);
        for (uint64_t at = e->at; at < e->at + e->length;) {
            size_t bytes = (size_t)ws_min_u64((uint64_t)STEP * BLOCK, e->at + e->length - at);
            WS_GO(ws_source_read(volume, at, both, bytes, error));
            WS_GO(ws_source_read(view, at, both + STEP * BLOCK, bytes, error));
            for (size_t p = 0; p < bytes; p += BLOCK) {
                if (memcmp(both + p, both + STEP * BLOCK + p, BLOCK) == 0) continue;
                if (!grow((void **)&list->block, &list->room, list->count, sizeof *list->block))
                    WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory while comparing volumes"));
                list->block[list->count++] = (at + p) / BLOCK;
            }
            at += bytes;
        }
    }
done:
    free(both);
    return status;
}

struct committing {
    const struct ws_source *volume;
    struct ext4_volume v;
    struct journal j;
    struct ws_run *runs; /* the journal's place on the volume */
    size_t runs_count;
    const struct ws_ext4_sink *sink;
};

static enum ws_status write_log(struct committing *c, uint32_t block, const uint8_t *bytes, struct ws_error *error) {
    uint64_t at = (uint64_t)block * BLOCK;
    for (size_t i = 0; i < c->runs_count; i++) {
        if (at < c->runs[i].length) return c->sink->write(c->sink->context, c->runs[i].at + at, bytes, BLOCK, error);
        at -= c->runs[i].length;
    }
    return ws_fail(error, WS_E_FORMAT, "the ext4 journal is shorter than it says");
}

/* Set or clear "needs recovery" in the volume's superblock, and the journal's start. */
static enum ws_status mark(struct committing *c, bool recover, uint32_t start, uint32_t sequence,
                           struct ws_error *error) {
    uint8_t block[BLOCK];
    WS_TRY(ws_source_read(c->j.log, 0, block, BLOCK, error));
    ws_store_be32(block + 0x18, sequence);
    ws_store_be32(block + 0x1c, start);
    WS_TRY(write_log(c, 0, block, error));
    WS_TRY(ws_source_read(c->volume, 0, block, BLOCK, error));
    uint8_t *s = block + 1024;
    uint32_t incompat = ws_load_le32(s + 0x60);
    ws_store_le32(s + 0x60, recover ? incompat | INCOMPAT_RECOVER : incompat & ~(uint32_t)INCOMPAT_RECOVER);
    ws_store_le32(s + 0x3fc, ws_crc32c(0xffffffff, s, 0x3fc));
    WS_TRY(c->sink->write(c->sink->context, 0, block, BLOCK, error));
    return c->sink->flush(c->sink->context, error);
}

/* One block of the target, told to need recovery if it is the superblock: only the last write clears that. */
static enum ws_status load_target(const struct ws_source *view, uint64_t number, uint8_t out[BLOCK],
                                  struct ws_error *error) {
    WS_TRY(ws_source_read(view, number * BLOCK, out, BLOCK, error));
    if (number == 0) {
        uint8_t *s = out + 1024;
        ws_store_le32(s + 0x60, ws_load_le32(s + 0x60) | INCOMPAT_RECOVER);
        ws_store_le32(s + 0x3fc, ws_crc32c(0xffffffff, s, 0x3fc));
    }
    return WS_OK;
}

static enum ws_status write_transaction(struct committing *c, const struct ws_source *view,
                                        const struct change_list *list, struct ws_error *error) {
    enum { TAG = 8, TAGS = (BLOCK - 12 - 16) / TAG };
    uint32_t log = c->j.first;
    uint8_t head[BLOCK];
    uint8_t block[BLOCK];
    for (size_t i = 0; i < list->count; i += TAGS) {
        size_t n = list->count - i < TAGS ? list->count - i : TAGS;
        uint8_t *p = head + 12;
        memset(head, 0, BLOCK);
        ws_store_be32(head, JOURNAL_MAGIC);
        ws_store_be32(head + 4, KIND_DESCRIPTOR);
        ws_store_be32(head + 8, c->j.sequence);
        for (size_t k = 0; k < n; k++) {
            WS_TRY(load_target(view, list->block[i + k], block, error));
            uint16_t flags = (uint16_t)((k ? TAG_SAME_ID : 0) | (k + 1 == n ? TAG_LAST : 0));
            if (ws_load_be32(block) == JOURNAL_MAGIC) {
                flags |= TAG_ESCAPED;
                memset(block, 0, 4);
            }
            ws_store_be32(p, (uint32_t)list->block[i + k]);
            ws_store_be16(p + 6, flags);
            p += TAG + (k ? 0 : 16);
            WS_TRY(write_log(c, log + 1 + (uint32_t)k, block, error));
        }
        WS_TRY(write_log(c, log, head, error));
        log += 1 + (uint32_t)n;
    }
    WS_TRY(c->sink->flush(c->sink->context, error)); /* all of it before the commit */
    memset(block, 0, BLOCK);
    ws_store_be32(block, JOURNAL_MAGIC);
    ws_store_be32(block + 4, KIND_COMMIT);
    ws_store_be32(block + 8, c->j.sequence);
    WS_TRY(write_log(c, log, block, error));
    return c->sink->flush(c->sink->context, error);
}

enum ws_status ws_ext4_commit(const struct ws_source *volume, const struct ws_layout *target,
                              const struct ws_ext4_sink *sink, struct ws_error *error) {
    struct committing c = {.volume = volume, .sink = sink};
    struct change_list list = {0};
    struct ws_source *view = NULL;
    uint8_t inode[INODE_SIZE];
    uint8_t block[BLOCK];
    enum ws_status status;
    WS_TRY(ext4_open(volume, &c.v, error));
    WS_GO(open_journal(&c.v, &c.j, error));
    WS_GO(ext4_inode(&c.v, c.v.journal_ino, inode, error));
    WS_GO(ext4_runs(&c.v, c.v.journal_ino, inode, c.j.log->size, &c.runs, &c.runs_count, error));
    if (c.v.block != BLOCK || c.j.features != 0 || c.v.facts.needs_recovery)
        WS_GO(ws_fail(error, WS_E_UNSUPPORTED, "this volume's journal is not one this library writes to"));
    WS_GO(ws_layout_source(target, &view, error));
    WS_GO(list_changes(volume, view, target, &list, error));
    size_t journal_kept = 0; /* the journal itself is never journalled */
    for (size_t i = 0; i < list.count; i++) {
        bool inside = false;
        for (size_t k = 0; k < c.runs_count; k++)
            inside |= list.block[i] * BLOCK >= c.runs[k].at && list.block[i] * BLOCK < c.runs[k].at + c.runs[k].length;
        if (!inside) list.block[journal_kept++] = list.block[i];
    }
    list.count = journal_kept;
    if (list.count == 0) goto done;
    size_t needed = list.count + list.count / 500 + 4;
    if (needed >= c.j.length - c.j.first) {
        char size[24];
        WS_GO(ws_fail(error, WS_E_SPACE, "changes of %s are more than the journal takes at once",
                      ws_size_counted((uint64_t)list.count * BLOCK, size, sizeof size)));
    }
    WS_GO(write_transaction(&c, view, &list, error));
    WS_GO(mark(&c, true, c.j.first, c.j.sequence, error)); /* from here on a cut is made good by recovery */
    for (size_t i = 0; i < list.count; i++) {
        WS_GO(load_target(view, list.block[i], block, error));
        WS_GO(sink->write(sink->context, list.block[i] * BLOCK, block, BLOCK, error));
    }
    WS_GO(sink->flush(sink->context, error));
    WS_GO(mark(&c, false, 0, c.j.sequence + 1, error));
done:
    ws_source_close(view);
    ws_source_close(c.j.log);
    ext4_close(&c.v);
    free(c.runs);
    free(list.block);
    return status;
}
