/* iso.c — an image opened: its descriptors, its El Torito catalogue, its trees; and changes to it. */
#include "fs/iso9660/internal.h"

#include "wild_satchel/udf.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static enum ws_status read_catalogue(struct ws_iso *iso, uint64_t at, struct ws_error *error) {
    uint8_t c[WS_ISO_SECTOR];
    if (!ws_inside(at, sizeof c, iso->source->size))
        return ws_fail(error, WS_E_FORMAT, "the image is damaged: its start catalogue lies behind its end");
    WS_TRY(ws_source_read(iso->source, at, c, sizeof c, error));
    uint16_t sum = 0;
    for (int i = 0; i < 32; i += 2) sum = (uint16_t)(sum + ws_load_le16(c + i));
    if (c[0] != 1 || c[30] != 0x55 || c[31] != 0xaa || sum != 0) return WS_OK; /* El Torito 2.1: not a catalogue */
    uint8_t platform = c[1];
    unsigned left = 1;
    for (size_t i = 32; i + 32 <= sizeof c && iso->facts.boots < WS_ISO_BOOTS_MOST; i += 32) {
        const uint8_t *e = c + i;
        if (left == 0) { /* a section header: 0x90, or 0x91 for the last */
            if (e[0] != 0x90 && e[0] != 0x91) break;
            platform = e[1];
            left = ws_load_le16(e + 2);
            continue;
        }
        if (e[0] == 0x44) continue; /* extension */
        left--;
        if (e[0] != 0x88 && e[0] != 0x00) continue;
        uint64_t start = (uint64_t)ws_load_le32(e + 8) * WS_ISO_SECTOR;
        if (start == 0 || start >= iso->source->size) continue;
        iso->facts.boot[iso->facts.boots++] =
            (struct ws_iso_boot){platform, e[0] == 0x88, e[1] & 15, start,
                                 ws_min_u64((uint64_t)ws_load_le16(e + 6) * 512, iso->source->size - start)};
    }
    return WS_OK;
}

static bool is_joliet(const uint8_t *d) {
    const uint8_t *escape = d + 88;
    return escape[0] == 0x25 && escape[1] == 0x2f && (escape[2] == 0x40 || escape[2] == 0x43 || escape[2] == 0x45);
}

/* The catalogue's own lengths are often a stub; a file that starts at the same sector knows better. A start image
 * that no file shows ends where the next one begins or the volume does. */
static void correct_boot_lengths(struct ws_iso *iso) {
    for (size_t i = 0; i < iso->facts.boots; i++) {
        struct ws_iso_boot *b = &iso->facts.boot[i];
        bool found = false;
        for (const struct ws_node *n = ws_tree_root(iso->primary); n; n = ws_tree_next(n))
            if (n->kind == WS_NODE_FILE && n->content && n->work == b->at) {
                b->length = ws_node_size(n);
                found = true;
            }
        if (!found && b->platform == 0xef && b->length < 65536) b->length = iso->source->size - b->at;
    }
}

/* More names, or more bytes: what makes both lists a file of over 4 GiB in one piece in both, and for ISO 9660 cuts its
 * length to 32 bits (ECMA-119, section 9.1.4). */
static bool holds_more(const struct ws_tree *a, const struct ws_tree *b) {
    uint64_t bytes[2] = {0};
    for (const struct ws_node *n = ws_tree_root(a); n; n = ws_tree_next(n))
        bytes[0] += n->same_as ? 0 : ws_node_size(n);
    for (const struct ws_node *n = ws_tree_root(b); n; n = ws_tree_next(n))
        bytes[1] += n->same_as ? 0 : ws_node_size(n);
    return ws_tree_count(a) > ws_tree_count(b) ||
           (ws_tree_count(a) == ws_tree_count(b) && bytes[0] > bytes[1] + UINT32_MAX);
}

/* Large media keep their files on a UDF volume, and for ISO 9660 no more than a text that says so. What cannot be read
 * there is no reason to refuse what can. */
static enum ws_status look_for_udf(struct ws_iso *iso, struct ws_error *error) {
    struct ws_udf_facts facts;
    enum ws_status status = ws_udf_read(iso->source, &iso->udf, &facts, error);
    if (status == WS_E_NOMEM || status == WS_E_READ) return status;
    if (status != WS_OK) iso->udf = NULL;
    iso->facts.udf = status == WS_OK;
    const struct ws_tree *other = iso->facts.rock_ridge || !iso->joliet ? iso->primary : iso->joliet;
    const bool plain = !iso->facts.rock_ridge && !iso->joliet; /* names in capitals, cut */
    if (status == WS_OK &&
        (holds_more(iso->udf, other) || (plain && ws_tree_count(iso->udf) == ws_tree_count(other)))) {
        iso->facts.udf_holds_more = true;
        return WS_OK;
    }
    ws_tree_close(iso->udf);
    iso->udf = NULL;
    return WS_OK;
}

/* A disc without ISO 9660. */
static enum ws_status open_udf_alone(struct ws_iso *iso, struct ws_error *error) {
    struct ws_udf_facts facts;
    enum ws_status status = ws_udf_read(iso->source, &iso->udf, &facts, error);
    if (status == WS_E_NOTFOUND) return ws_fail(error, status, "this is not an ISO 9660 image");
    WS_TRY(status);
    WS_TRY(ws_tree_create(&iso->primary, error));
    iso->facts.udf = iso->facts.udf_holds_more = true;
    iso->facts.size = iso->source->size;
    iso->facts.made_at = facts.made_at;
    (void)snprintf(iso->facts.volume_id, sizeof iso->facts.volume_id, "%.32s", facts.label);
    return WS_OK;
}

enum ws_status ws_iso_open(const struct ws_source *source, struct ws_iso **out, struct ws_error *error) {
    uint8_t d[WS_ISO_SECTOR];
    uint8_t primary_root[34] = {0};
    uint8_t joliet_root[34] = {0};
    uint64_t catalogue = 0;
    enum ws_status status = WS_OK;
    if (source->size < 17ull * WS_ISO_SECTOR) return ws_fail(error, WS_E_NOTFOUND, "too small to be an ISO 9660 image");
    struct ws_iso *iso = calloc(1, sizeof *iso);
    if (!iso) return ws_fail(error, WS_E_NOMEM, "out of memory for an image");
    iso->source = source;
    for (uint64_t n = 16; n < 64; n++) { /* ECMA-119 6.7.1: descriptors from sector 16 to the terminator */
        uint64_t at = n * WS_ISO_SECTOR;
        if (!ws_inside(at, sizeof d, source->size)) break;
        WS_GO(ws_source_read(source, at, d, sizeof d, error));
        if (memcmp(d + 1, "CD001", 5) != 0 || d[0] == 255) break;
        if (d[0] == 1 && iso->descriptors == 0) {
            iso_parse_primary(d, &iso->facts);
            memcpy(primary_root, d + 156, 34);
            iso->descriptor[iso->descriptors++] = at;
        } else if (d[0] == 2 && iso->descriptors > 0 && iso->descriptors < 8) {
            if (is_joliet(d)) memcpy(joliet_root, d + 156, 34);
            iso->descriptor[iso->descriptors++] = at;
        } else if (d[0] == 0 && memcmp(d + 7, "EL TORITO SPECIFICATION", 23) == 0) {
            catalogue = (uint64_t)ws_load_le32(d + 71) * WS_ISO_SECTOR;
        }
    }
    if (iso->descriptors == 0) {
        WS_GO(open_udf_alone(iso, error));
        goto done;
    }
    if (source->size % 512 != 0) {
        ws_fail(error, WS_E_FORMAT, "the image is cut short: %llu bytes are no whole number of sectors",
                (unsigned long long)source->size);
        WS_GO(ws_fail_next(error, "download it again and compare it with its published checksum"));
    }
    if (iso->facts.size > source->size) {
        ws_fail(error, WS_E_FORMAT, "the image is cut short: it says it has %llu bytes, and %llu are here",
                (unsigned long long)iso->facts.size, (unsigned long long)source->size);
        WS_GO(ws_fail_next(error, "download it again and compare it with its published checksum"));
    }
    WS_GO(iso_read_tree(iso, primary_root, false, &iso->primary, &iso->facts.rock_ridge, error));
    if (joliet_root[0]) {
        WS_GO(iso_read_tree(iso, joliet_root, true, &iso->joliet, NULL, error));
        iso->facts.joliet = true;
    }
    if (catalogue) WS_GO(read_catalogue(iso, catalogue, error));
    correct_boot_lengths(iso);
    WS_GO(look_for_udf(iso, error));
done:
    if (status == WS_OK) *out = iso;
    else ws_iso_close(iso);
    return status;
}

void ws_iso_close(struct ws_iso *iso) {
    if (!iso) return;
    ws_tree_close(iso->primary);
    ws_tree_close(iso->joliet);
    ws_tree_close(iso->udf);
    free(iso);
}

const struct ws_iso_facts *ws_iso_facts(const struct ws_iso *iso) { return &iso->facts; }

struct ws_tree *ws_iso_tree(const struct ws_iso *iso) {
    if (iso->udf) return iso->udf;
    return !iso->facts.rock_ridge && iso->joliet ? iso->joliet : iso->primary;
}

uint64_t ws_iso_place_of(const struct ws_node *node) { return node->work; }

static enum ws_status correct_records(struct ws_tree *tree, struct ws_source *patched, uint64_t was, uint64_t now,
                                      uint32_t length, struct ws_error *error) {
    if (!tree) return WS_OK;
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        if (n->kind != WS_NODE_FILE || !n->content || n->work != was) continue;
        uint8_t both[8];
        ws_store_le32(both, (uint32_t)(now / WS_ISO_SECTOR)); /* both byte orders, ECMA-119 7.3.3 */
        ws_store_be32(both + 4, (uint32_t)(now / WS_ISO_SECTOR));
        WS_TRY(ws_source_patch(patched, n->origin + 2, both, 8, error));
        ws_store_le32(both, length);
        ws_store_be32(both + 4, length);
        WS_TRY(ws_source_patch(patched, n->origin + 10, both, 8, error));
        n->work = now;
    }
    return WS_OK;
}

enum ws_status ws_iso_replace(struct ws_iso *iso, struct ws_source *patched, const struct ws_node *node,
                              const void *bytes, size_t length, uint64_t *end, enum ws_iso_place *place,
                              struct ws_error *error) {
    char path[200];
    ws_node_path(node, path, sizeof path);
    if (iso->udf || node->work2 > 1 || node->kind != WS_NODE_FILE || length == 0 || length > 0x7fffffff) {
        ws_fail(error, WS_E_UNSUPPORTED, "this file cannot be changed inside the image");
        return ws_fail_where(error, "%s", path);
    }
    uint64_t was = node->work;
    uint64_t had = ws_round_up(ws_node_size(node), WS_ISO_SECTOR);
    uint64_t need = ws_round_up(length, WS_ISO_SECTOR);
    uint64_t now = was;
    *place = WS_ISO_IN_PLACE;
    if (need > had) {
        if (!end) {
            ws_fail(error, WS_E_SPACE,
                    "the new text (%zu bytes) does not fit where the old one stands, and the image "
                    "cannot grow",
                    length);
            return ws_fail_where(error, "%s", path);
        }
        now = *end;
        *end += need;
        *place = WS_ISO_BEHIND;
    }
    char *padded = calloc(1, (size_t)(need > had || now != was ? need : had));
    if (!padded) return ws_fail(error, WS_E_NOMEM, "out of memory for a changed file");
    memcpy(padded, bytes, length);
    enum ws_status status = ws_source_patch(patched, now, padded, (size_t)(now != was ? need : had), error);
    free(padded);
    WS_TRY(status);
    /* An empty file has no place of its own by which its other records could be found. */
    if (!node->content) {
        ws_fail(error, WS_E_UNSUPPORTED, "an empty file cannot be filled inside the image");
        return ws_fail_where(error, "%s", path);
    }
    WS_TRY(correct_records(iso->primary, patched, was, now, (uint32_t)length, error));
    return correct_records(iso->joliet, patched, was, now, (uint32_t)length, error);
}

enum ws_status ws_iso_resize(struct ws_iso *iso, struct ws_source *patched, uint64_t size, struct ws_error *error) {
    uint8_t both[8];
    ws_store_le32(both, (uint32_t)(size / WS_ISO_SECTOR));
    ws_store_be32(both + 4, (uint32_t)(size / WS_ISO_SECTOR));
    for (size_t i = 0; i < iso->descriptors; i++)
        WS_TRY(ws_source_patch(patched, iso->descriptor[i] + 80, both, 8, error));
    return WS_OK;
}
