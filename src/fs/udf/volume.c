/* volume.c — a UDF volume opened: its anchor, its descriptors, its partitions. */
#include "fs/udf/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SEQUENCE_MOST = 256, TABLE_MOST = 32 << 20, EMPTY_MOST = 1 << 17 };

enum ws_status udf_damaged(struct ws_error *error, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the UDF volume is damaged: %s", what);
    return ws_fail_next(error, "copy or download it again");
}

/* CRC-ITU-T, as ECMA-167 7.2.6 has it. */
static uint16_t crc(const uint8_t *bytes, size_t length) {
    uint16_t sum = 0;
    for (size_t i = 0; i < length; i++) {
        sum ^= (uint16_t)(bytes[i] << 8);
        for (int k = 0; k < 8; k++) sum = (uint16_t)(sum & 0x8000 ? sum << 1 ^ 0x1021 : sum << 1);
    }
    return sum;
}

bool udf_tag(const uint8_t *d, size_t length, unsigned *id) {
    uint8_t sum = 0;
    for (int i = 0; i < 16; i++) sum = (uint8_t)(sum + (i == 4 ? 0 : d[i]));
    const size_t covered = ws_load_le16(d + 10);
    *id = ws_load_le16(d);
    if (sum != d[4] || ws_load_le16(d + 2) < 2 || ws_load_le16(d + 2) > 3) return false;
    return covered <= length - 16 && crc(d + 16, covered) == ws_load_le16(d + 8);
}

/* OSTA UDF 2.1.3, "dstring": its first byte says how wide a character is; of a fixed field the last says how long. */
void udf_text(const uint8_t *coded, size_t length, char *out, size_t room) {
    uint16_t units[256];
    size_t count = 0;
    out[0] = '\0';
    if (length < 2 || (coded[0] != 8 && coded[0] != 16)) return;
    const size_t wide = coded[0] / 8;
    for (size_t at = 1; at + wide <= length && count < 256; at += wide)
        units[count++] = wide == 1 ? coded[at] : ws_load_be16(coded + at);
    ws_utf8_from_utf16(units, count, out, room);
}

static int64_t days_of(int year, int month, int day) { /* since 1970-01-01, in the Gregorian calendar */
    year -= month <= 2;
    const int64_t era = (year >= 0 ? year : year - 399) / 400;
    const int64_t in_era = year - era * 400, in_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146097 + in_era * 365 + in_era / 4 - in_era / 100 + in_year - 719468;
}

/* ECMA-167 1/7.3: local time, and how many minutes it is before UTC. */
int64_t udf_time(const uint8_t t[12], uint32_t *ns) {
    const uint16_t type = ws_load_le16(t);
    int zone = type & 0xfff;
    if (zone & 0x800) zone -= 0x1000;
    if (zone < -1440 || zone > 1440 || type >> 12 != 1) zone = 0;
    *ns = t[9] < 100 && t[10] < 100 && t[11] < 100 ? t[9] * 10000000u + t[10] * 100000u + t[11] * 1000u : 0;
    const int year = (int16_t)ws_load_le16(t + 2);
    if (year < 1 || t[4] < 1 || t[4] > 12 || t[5] < 1 || t[5] > 31) return 0;
    return ((days_of(year, t[4], t[5]) * 24 + t[6]) * 60 + t[7] - zone) * 60 + t[8];
}

/* Main and reserve sequence: descriptors one after the other; of each kind the one with the highest number counts. */
struct sequence {
    uint8_t logical[UDF_BLOCK_MOST], partition[UDF_MAPS_MOST][512];
    bool have_logical;
    uint32_t logical_number;
    size_t partitions;
};

static void take_partition(struct sequence *s, const uint8_t *d) {
    size_t i = 0;
    while (i < s->partitions && ws_load_le16(s->partition[i] + 22) != ws_load_le16(d + 22)) i++;
    if (i == s->partitions && s->partitions == UDF_MAPS_MOST) return;
    if (i < s->partitions && ws_load_le32(s->partition[i] + 16) > ws_load_le32(d + 16)) return;
    memcpy(s->partition[i], d, 512);
    if (i == s->partitions) s->partitions++;
}

static enum ws_status read_sequence(const struct udf *u, uint32_t at, uint32_t length, struct sequence *s,
                                    struct ws_error *error) {
    uint8_t d[UDF_BLOCK_MOST];
    uint32_t left = (uint32_t)ws_min_u64(length / u->block, SEQUENCE_MOST);
    for (unsigned hops = 0; left > 0 && hops < SEQUENCE_MOST; hops++, at++, left--) {
        unsigned id;
        if (!ws_inside((uint64_t)at * u->block, u->block, u->source->size)) return WS_OK;
        WS_TRY(ws_source_read(u->source, (uint64_t)at * u->block, d, u->block, error));
        if (!udf_tag(d, u->block, &id)) return WS_OK;
        if (id == TAG_END) return WS_OK;
        if (id == TAG_PARTITION) take_partition(s, d);
        if (id == TAG_LOGICAL && (!s->have_logical || ws_load_le32(d + 16) >= s->logical_number)) {
            memcpy(s->logical, d, u->block);
            s->have_logical = true;
            s->logical_number = ws_load_le32(d + 16);
        }
        if (id == TAG_POINTER) { /* the sequence goes on elsewhere */
            left = (uint32_t)ws_min_u64(ws_load_le32(d + 20) / u->block, SEQUENCE_MOST) + 1;
            at = ws_load_le32(d + 24) - 1;
        }
    }
    return WS_OK;
}

/* ECMA-167 3/8.4.2.1: at block 256, at the last, 256 before that; blocks of any size that can be. */
static enum ws_status find_anchor(struct udf *u, uint8_t anchor[512], struct ws_error *error) {
    static const uint32_t blocks[] = {2048, 512, 4096, 1024};
    for (size_t i = 0; i < 4; i++) {
        const uint64_t count = u->source->size / blocks[i];
        const uint64_t places[] = {256, count - 1, count - 257, 512};
        for (size_t k = 0; k < 4 && count > 257; k++) {
            unsigned id;
            if (places[k] >= count) continue;
            WS_TRY(ws_source_read(u->source, places[k] * blocks[i], anchor, 512, error));
            if (!udf_tag(anchor, 512, &id) || id != TAG_ANCHOR || ws_load_le32(anchor + 12) != places[k]) continue;
            u->block = blocks[i];
            return WS_OK;
        }
    }
    return ws_fail(error, WS_E_NOTFOUND, "there is no UDF volume");
}

static bool is_entity(const uint8_t *entity, const char *name) { return memcmp(entity + 1, name, strlen(name)) == 0; }

static struct udf_map *add_map(struct udf *u, const struct sequence *s, uint16_t number, enum udf_map_kind kind) {
    for (size_t i = 0; i < s->partitions; i++) {
        if (ws_load_le16(s->partition[i] + 22) != number) continue;
        struct udf_map *m = &u->map[u->maps++];
        *m = (struct udf_map){
            .kind = kind, .at = ws_load_le32(s->partition[i] + 188), .length = ws_load_le32(s->partition[i] + 192)};
        return m;
    }
    return NULL;
}

/* The content of a file that the volume itself needs, in memory the caller frees. */
static enum ws_status load_file(const struct udf *u, struct udf_place place, uint8_t **bytes, uint64_t *length,
                                uint8_t kind, struct ws_error *error) {
    struct udf_file *f = malloc(sizeof *f);
    struct ws_run *runs = NULL;
    struct ws_source *content = NULL;
    size_t count = 0, loaded = 0;
    bool inside = false;
    char *text = NULL;
    enum ws_status status = f ? udf_file(u, place, f, error) : ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    *bytes = NULL;
    if (status == WS_OK && kind && f->kind != kind) status = udf_damaged(error, "a file of its own is of another kind");
    if (status == WS_OK) status = udf_runs(u, f, &runs, &count, &inside, error);
    if (status == WS_OK && f->size > TABLE_MOST) status = udf_damaged(error, "a table of its own is impossibly long");
    if (status == WS_OK && inside) status = ws_source_memory(f->entry + f->ads_at, (size_t)f->size, &content, error);
    else if (status == WS_OK) status = ws_source_runs(u->source, runs, count, f->size, &content, error);
    if (status == WS_OK) status = ws_source_load(content, TABLE_MOST, &text, &loaded, error);
    *bytes = (uint8_t *)text;
    *length = loaded;
    ws_source_close(content);
    free(runs);
    free(f);
    return status;
}

/* OSTA UDF 2.2.10, 2.2.13: the metadata partition is a file of the plain one before it. */
static enum ws_status take_metadata(struct udf *u, const struct sequence *s, const uint8_t *map,
                                    struct ws_error *error) {
    struct udf_file *f = malloc(sizeof *f);
    size_t base = 0;
    bool inside = false;
    if (!f) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    const uint16_t number = ws_load_le16(map + 38);
    struct udf_map *m = add_map(u, s, number, MAP_METADATA);
    const struct udf_map *plain = m;
    while (m && base + 1 < u->maps && (u->map[base].at != m->at || u->map[base].kind == MAP_METADATA)) base++;
    enum ws_status status =
        m && plain && base + 1 < u->maps ? WS_OK : udf_damaged(error, "its metadata has no partition");
    for (int k = 0; k < 2 && status == WS_OK && !m->run; k++) { /* the file, else its mirror */
        const struct udf_place place = {ws_load_le32(map + 40 + 4 * k), (uint16_t)base};
        status = udf_file(u, place, f, k ? error : NULL);
        if (status == WS_OK) status = udf_runs(u, f, &m->run, &m->runs, &inside, k ? error : NULL);
        if (status != WS_OK && !k && status != WS_E_NOMEM) status = WS_OK;
    }
    if (status == WS_OK && (!m->run || inside)) status = udf_damaged(error, "its metadata cannot be found");
    free(f);
    return status;
}

/* OSTA UDF 2.2.11: blocks that went bad, and where they are now; the tables are copies of each other. */
static enum ws_status take_spares(struct udf *u, struct udf_map *m, const uint8_t *map, struct ws_error *error) {
    uint8_t head[56];
    m->packet = ws_load_le16(map + 40);
    for (unsigned i = 0; i < map[42] && i < 4; i++) {
        unsigned id;
        const uint64_t at = (uint64_t)ws_load_le32(map + 48 + 4 * (size_t)i) * u->block;
        if (!ws_inside(at, sizeof head, u->source->size)) continue;
        WS_TRY(ws_source_read(u->source, at, head, sizeof head, error));
        const uint32_t entries = ws_load_le16(head + 48);
        (void)udf_tag(head, sizeof head, &id);
        if (!is_entity(head + 16, "*UDF Sparing Table") || !ws_inside(at + 56, 8ull * entries, u->source->size))
            continue;
        uint8_t *raw = malloc(8 * (size_t)entries + 1);
        m->table = malloc(8 * (size_t)entries + 1);
        if (!raw || !m->table) {
            free(raw);
            return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
        }
        enum ws_status status = ws_source_read(u->source, at + 56, raw, 8 * (size_t)entries, error);
        for (uint32_t k = 0; k < 2 * entries && status == WS_OK; k++) m->table[k] = ws_load_le32(raw + 4 * (size_t)k);
        free(raw);
        m->entries = entries;
        return status;
    }
    return m->packet ? WS_OK : udf_damaged(error, "its table of spare blocks is missing");
}

/* Behind the last block written an image may have room that nobody wrote to. */
static enum ws_status find_end(const struct udf *u, uint64_t *end, struct ws_error *error) {
    uint8_t block[UDF_BLOCK_MOST];
    *end = u->source->size / u->block;
    for (unsigned back = 0; back<EMPTY_MOST && * end> 0; back++) {
        const struct ws_piece piece = ws_source_piece(u->source, (*end - 1) * u->block, u->block);
        bool empty = piece.kind == WS_PIECE_HOLE && piece.length == u->block;
        if (!empty) {
            WS_TRY(ws_source_read(u->source, (*end - 1) * u->block, block, u->block, error));
            empty = block[0] == 0 && memcmp(block, block + 1, u->block - 1) == 0;
        }
        if (!empty) return WS_OK;
        --*end;
    }
    return WS_OK;
}

/* OSTA UDF 2.2.8, 2.2.10: where virtual blocks are stands in a file whose entry is the last block written. */
static enum ws_status take_virtual(struct udf *u, struct udf_map *m, struct ws_error *error) {
    uint64_t last = 0;
    uint8_t *bytes = NULL;
    uint64_t length = 0, skip = 0;
    const size_t index = u->maps - 1;
    enum ws_status status = WS_E_NOTFOUND;
    m->kind = MAP_PLAIN; /* for as long as that file is looked for */
    WS_TRY(find_end(u, &last, error));
    for (uint64_t back = 1; back <= 64 && back < last && status != WS_OK; back++) {
        if (last < back + m->at) break;
        const struct udf_place place = {(uint32_t)(last - back - m->at), (uint16_t)index};
        free(bytes);
        status = load_file(u, place, &bytes, &length, 0, NULL);
        if (status == WS_OK && length < 8) status = WS_E_FORMAT;
        if (status == WS_OK && length >= 36 && is_entity(bytes + length - 36, "*UDF Virtual Alloc Tbl"))
            length -= 36; /* 1.50 */
        else if (status == WS_OK && length >= 152 && ws_load_le16(bytes) >= 152 && ws_load_le16(bytes) <= length)
            skip = ws_load_le16(bytes); /* 2.00 on: a head first */
        else if (status == WS_OK) status = WS_E_FORMAT;
    }
    m->kind = MAP_VIRTUAL;
    if (status == WS_OK) {
        m->entries = (uint32_t)((length - skip) / 4);
        m->table = malloc(4 * (size_t)m->entries + 1);
        if (!m->table) status = ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
        for (uint32_t i = 0; i < m->entries && m->table; i++) m->table[i] = ws_load_le32(bytes + skip + 4 * (size_t)i);
    } else if (status != WS_E_NOMEM) {
        status = udf_damaged(error, "its table of virtual blocks is missing: it may not be closed");
    }
    free(bytes);
    return status;
}

/* ECMA-167 3/10.7: the partitions that the logical volume is made of. */
static enum ws_status take_maps(struct udf *u, const struct sequence *s, struct ws_error *error) {
    const uint32_t bytes = ws_load_le32(s->logical + 264), count = ws_load_le32(s->logical + 268);
    size_t at = 440;
    if (440 + (uint64_t)bytes > u->block || count > UDF_MAPS_MOST)
        return udf_damaged(error, "its list of partitions is impossible");
    for (uint32_t i = 0; i < count; i++) {
        const uint8_t *m = s->logical + at;
        if (at + 2 > 440 + bytes || m[1] < 6 || at + m[1] > 440 + bytes)
            return udf_damaged(error, "its list of partitions breaks off");
        at += m[1];
        if (m[0] == 1 && m[1] == 6) {
            if (!add_map(u, s, ws_load_le16(m + 4), MAP_PLAIN)) return udf_damaged(error, "a partition is missing");
            continue;
        }
        if (m[0] != 2 || m[1] != 64)
            return ws_fail(error, WS_E_UNSUPPORTED, "a partition of this UDF volume is of an unknown kind");
        if (is_entity(m + 4, "*UDF Metadata Partition")) {
            WS_TRY(take_metadata(u, s, m, error));
            continue;
        }
        const bool sparable = is_entity(m + 4, "*UDF Sparable Partition");
        if (!sparable && !is_entity(m + 4, "*UDF Virtual Partition"))
            return ws_fail(error, WS_E_UNSUPPORTED, "a partition of this UDF volume is of an unknown kind");
        struct udf_map *map = add_map(u, s, ws_load_le16(m + 38), sparable ? MAP_SPARABLE : MAP_VIRTUAL);
        if (!map) return udf_damaged(error, "a partition is missing");
        WS_TRY(sparable ? take_spares(u, map, m, error) : take_virtual(u, map, error));
    }
    return u->maps ? WS_OK : udf_damaged(error, "it has no partition");
}

bool udf_find(const struct udf *u, struct udf_place p, uint64_t *at) {
    if (p.part >= u->maps) return false;
    const struct udf_map *m = &u->map[p.part];
    uint64_t block = p.block;
    if (m->kind == MAP_METADATA) {
        uint64_t left = block * u->block;
        for (size_t i = 0; i < m->runs; i++) {
            if (left < m->run[i].length) {
                *at = m->run[i].at + left;
                return m->run[i].at != WS_RUN_HOLE && ws_inside(*at, u->block, u->source->size);
            }
            left -= m->run[i].length;
        }
        return false;
    }
    if (m->kind == MAP_VIRTUAL) {
        if (block >= m->entries || m->table[block] == UINT32_MAX) return false;
        block = m->table[block];
    }
    if (m->kind == MAP_SPARABLE && m->packet) {
        const uint64_t packet = block / m->packet * m->packet;
        for (uint32_t i = 0; i < m->entries; i++)
            if (m->table[2 * i] == packet) {
                *at = ((uint64_t)m->table[2 * i + 1] + block - packet) * u->block;
                return ws_inside(*at, u->block, u->source->size);
            }
    }
    *at = (m->at + block) * u->block;
    return block < m->length && ws_inside(*at, u->block, u->source->size);
}

enum ws_status udf_read_block(const struct udf *u, struct udf_place place, uint8_t *out, struct ws_error *error) {
    uint64_t at;
    if (!udf_find(u, place, &at)) return udf_damaged(error, "a block lies outside its partition");
    return ws_source_read(u->source, at, out, u->block, error);
}

/* Was it closed? (ECMA-167 3/10.10) */
static void take_integrity(struct udf *u, const struct sequence *s) {
    uint8_t d[UDF_BLOCK_MOST];
    unsigned id;
    uint32_t at = ws_load_le32(s->logical + 436), left = ws_load_le32(s->logical + 432) / u->block;
    u->facts.clean = true;
    for (unsigned i = 0; i < 64 && left; i++, at++, left--) {
        if (!ws_inside((uint64_t)at * u->block, u->block, u->source->size) ||
            ws_source_read(u->source, (uint64_t)at * u->block, d, u->block, NULL) != WS_OK ||
            !udf_tag(d, u->block, &id) || id != TAG_INTEGRITY)
            return;
        uint32_t ns;
        u->facts.clean = ws_load_le32(d + 28) == 1;
        u->facts.made_at = udf_time(d + 16, &ns);
    }
}

enum ws_status udf_open(struct udf *u, struct ws_error *error) {
    uint8_t anchor[512], set[UDF_BLOCK_MOST];
    unsigned id;
    struct sequence *s = calloc(1, sizeof *s);
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a volume");
    enum ws_status status = WS_OK;
    WS_GO(find_anchor(u, anchor, error));
    for (unsigned i = 0; i < 2 && !(s->have_logical && s->partitions); i++) /* the main one, else the reserve */
        WS_GO(read_sequence(u, ws_load_le32(anchor + 20 + 8 * i), ws_load_le32(anchor + 16 + 8 * i), s, error));
    if (!s->have_logical || !s->partitions) WS_GO(udf_damaged(error, "its descriptors are missing"));
    if (ws_load_le32(s->logical + 212) != u->block)
        WS_GO(udf_damaged(error, "its blocks are of another size than the medium's"));
    u->facts.block = u->block;
    u->facts.revision = ws_load_le16(s->logical + 216 + 24);
    const size_t length = s->logical[84 + 127];
    udf_text(s->logical + 84, length <= 127 ? length : 127, u->facts.label, sizeof u->facts.label);
    WS_GO(take_maps(u, s, error));
    u->facts.size = u->map[0].length * u->block;
    take_integrity(u, s);
    const struct udf_place place = {ws_load_le32(s->logical + 252), ws_load_le16(s->logical + 256)};
    WS_GO(udf_read_block(u, place, set, error));
    if (!udf_tag(set, u->block, &id) || id != TAG_FILE_SET) WS_GO(udf_damaged(error, "its set of files is missing"));
    memcpy(u->root, set + 400, 16);
done:
    free(s);
    return status;
}

void udf_close(struct udf *u) {
    for (size_t i = 0; i < u->maps; i++) {
        free(u->map[i].run);
        free(u->map[i].table);
    }
}

enum ws_status ws_udf_probe(const struct ws_source *volume, struct ws_udf_facts *facts, struct ws_error *error) {
    struct udf u = {.source = volume};
    enum ws_status status = udf_open(&u, error);
    *facts = u.facts;
    udf_close(&u);
    return status;
}
