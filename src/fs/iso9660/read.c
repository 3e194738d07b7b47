/* read.c — descriptors, folders, Rock Ridge and Joliet names. */
#include "fs/iso9660/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { DEPTH_MOST = 64, NODES_MOST = 2000000, FOLDER_MOST = 64 << 20 };

static enum ws_status damaged(struct ws_error *error, const char *what, uint64_t at) {
    ws_fail(error, WS_E_FORMAT, "the image is damaged: %s", what);
    ws_fail_where(error, "byte %llu", (unsigned long long)at);
    return ws_fail_next(error, "compare it with its published checksum, and download it again if they differ");
}

static void copy_text(char *out, const uint8_t *in, size_t length) {
    size_t end = length;
    while (end > 0 && (in[end - 1] == ' ' || in[end - 1] == 0)) end--;
    for (size_t i = 0; i < end; i++) out[i] = in[i] >= 32 && in[i] < 127 ? (char)in[i] : '?';
    out[end] = '\0';
}

static int64_t load_time7(const uint8_t *p) { /* ECMA-119 9.1.5 */
    if (p[1] < 1 || p[1] > 12) return 0;
    return ws_days_of(1900 + p[0], p[1], p[2]) * 86400 + p[3] * 3600 + p[4] * 60 + p[5] - (int8_t)p[6] * 900;
}

static int64_t load_time17(const uint8_t *p) { /* ECMA-119 8.4.26.1 */
    int v[7] = {0};
    static const int width[7] = {4, 2, 2, 2, 2, 2, 2};
    for (int i = 0, k = 0; i < 7; i++)
        for (int n = 0; n < width[i]; n++, k++) {
            if (p[k] < '0' || p[k] > '9') return 0;
            v[i] = v[i] * 10 + (p[k] - '0');
        }
    if (v[0] == 0 || v[1] < 1 || v[1] > 12) return 0;
    return ws_days_of(v[0], (unsigned)v[1], (unsigned)v[2]) * 86400 + v[3] * 3600 + v[4] * 60 + v[5] -
           (int8_t)p[16] * 900;
}

struct folder {
    uint32_t lba, length;
};

/* What the system-use fields of one record say. */
struct rock {
    char name[256];
    size_t name_length;
    bool has_name, has_mode, relocated, has_device;
    uint32_t mode, uid, gid, major, minor, child;
    int64_t mtime;
    bool has_time;
    char target[1024];
    size_t target_length;
    bool target_continues;
};

static void add_component(struct rock *k, const char *text, size_t length, bool slash) {
    if (slash && k->target_length && k->target_length < sizeof k->target - 1) k->target[k->target_length++] = '/';
    if (length > sizeof k->target - 1 - k->target_length) length = sizeof k->target - 1 - k->target_length;
    memcpy(k->target + k->target_length, text, length);
    k->target_length += length;
}

static void rock_link(struct rock *k, const uint8_t *p, size_t length) {
    for (size_t i = 5; i + 2 <= length && i + 2 + p[i + 1] <= length; i += 2 + (size_t)p[i + 1]) {
        uint8_t flags = p[i];
        bool slash = k->target_length > 0 && !k->target_continues && k->target[k->target_length - 1] != '/';
        if (flags & 8) add_component(k, "/", 1, false);
        else if (flags & 4) add_component(k, "..", 2, slash);
        else if (flags & 2) add_component(k, ".", 1, slash);
        else add_component(k, (const char *)p + i + 2, p[i + 1], slash);
        k->target_continues = flags & 1;
    }
}

/* Where the fields of a record go on. */
struct continued {
    uint32_t block, at, length;
};

/* One field of a record (RRIP 4.1, SUSP 5); what is not known is passed over. */
static enum ws_status rock_field(struct rock *k, const uint8_t *p, struct continued *next, struct ws_error *error) {
    size_t n = p[2];
    if (p[0] == 'N' && p[1] == 'M' && n >= 5 && !(p[4] & 6)) {
        size_t add = n - 5;
        if (k->name_length + add > 255) return damaged(error, "a Rock Ridge name is longer than 255 bytes", 0);
        memcpy(k->name + k->name_length, p + 5, add);
        k->name_length += add;
        k->has_name = true;
    } else if (p[0] == 'P' && p[1] == 'X' && n >= 36) {
        k->has_mode = true;
        k->mode = ws_load_le32(p + 4);
        k->uid = ws_load_le32(p + 20);
        k->gid = ws_load_le32(p + 28);
    } else if (p[0] == 'P' && p[1] == 'N' && n >= 20) {
        k->has_device = true;
        k->major = ws_load_le32(p + 4);
        k->minor = ws_load_le32(p + 12);
    } else if (p[0] == 'S' && p[1] == 'L' && n >= 5) {
        rock_link(k, p, n);
    } else if (p[0] == 'T' && p[1] == 'F' && n >= 5) {
        size_t one = p[4] & 0x80 ? 17 : 7;
        size_t at = 5 + (p[4] & 1 ? one : 0); /* creation comes first, modification second */
        if (p[4] & 2 && at + one <= n) {
            k->mtime = one == 7 ? load_time7(p + at) : load_time17(p + at);
            k->has_time = true;
        }
    } else if (p[0] == 'R' && p[1] == 'E') {
        k->relocated = true;
    } else if (p[0] == 'C' && p[1] == 'L' && n >= 12) {
        k->child = ws_load_le32(p + 4);
    } else if (p[0] == 'C' && p[1] == 'E' && n >= 28) {
        *next = (struct continued){ws_load_le32(p + 4), ws_load_le32(p + 12), ws_load_le32(p + 20)};
    }
    return WS_OK;
}

static enum ws_status parse_rock(const struct ws_iso *iso, const uint8_t *area, size_t length, struct rock *k,
                                 struct ws_error *error) {
    uint8_t *more = NULL;
    enum ws_status status = WS_OK;
    for (int turn = 0; turn < 16; turn++) {
        struct continued next = {0, 0, 0};
        for (size_t i = 0; i + 4 <= length && area[i + 2] >= 4 && i + area[i + 2] <= length; i += area[i + 2]) {
            if (area[i] == 'S' && area[i + 1] == 'T') break;
            WS_GO(rock_field(k, area + i, &next, error));
        }
        if (next.length == 0) break;
        if (next.length > 65536) WS_GO(damaged(error, "a Rock Ridge continuation is impossibly long", 0));
        free(more);
        more = malloc(next.length);
        if (!more) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a Rock Ridge record"));
        WS_GO(ws_source_read(iso->source, (uint64_t)next.block * WS_ISO_SECTOR + next.at, more, next.length, error));
        area = more;
        length = next.length;
    }
done:
    free(more);
    return status;
}

static void plain_name(const uint8_t *id, size_t length, bool joliet, char out[256]) {
    if (joliet) {
        uint16_t units[128];
        size_t n = length / 2 < 128 ? length / 2 : 128;
        for (size_t i = 0; i < n; i++) units[i] = ws_load_be16(id + 2 * i);
        ws_utf8_from_utf16(units, n, out, 256);
    } else {
        memcpy(out, id, length);
        out[length] = '\0';
    }
    char *version = strrchr(out, ';');
    if (version && version != out) *version = '\0';
    size_t n = strlen(out);
    if (!joliet && n > 1 && out[n - 1] == '.') out[n - 1] = '\0';
    for (char *c = out; *c; c++)
        if (*c == '/') *c = '_';
}

struct reading {
    struct ws_iso *iso;
    struct ws_tree *tree;
    bool joliet;
    bool rock;
    size_t skip;             /* bytes before the system-use fields, from the SP entry */
    struct ws_node *growing; /* the file whose next extent follows */
    struct ws_run *runs;
    size_t runs_count;
};

static enum ws_status finish_file(struct reading *r, struct ws_node *node, struct ws_error *error) {
    uint64_t total = 0;
    struct ws_source *content = NULL;
    for (size_t i = 0; i < r->runs_count; i++) total += r->runs[i].length;
    node->work = r->runs_count ? r->runs[0].at : 0;
    node->work2 = r->runs_count;
    if (total > 0) {
        enum ws_status status = ws_source_runs(r->iso->source, r->runs, r->runs_count, total, &content, error);
        if (status != WS_OK) {
            char path[200];
            ws_fail(error, WS_E_FORMAT, "the image ends before the content of a file does: it is cut short");
            ws_fail_where(error, "%s", ws_node_path(node, path, sizeof path));
            return ws_fail_next(error, "download it again and compare it with its published checksum");
        }
        WS_TRY(ws_tree_own(r->tree, content, error));
        node->content = content;
    }
    r->runs_count = 0;
    return WS_OK;
}

static enum ws_node_kind kind_of_mode(uint32_t mode, bool folder) {
    if (folder) return WS_NODE_FOLDER;
    switch (mode & 0xf000) {
    case 0xa000: return WS_NODE_LINK;
    case 0x2000: return WS_NODE_CHAR;
    case 0x6000: return WS_NODE_BLOCK;
    case 0x1000: return WS_NODE_FIFO;
    case 0xc000: return WS_NODE_SOCKET;
    default: return WS_NODE_FILE;
    }
}

/* One directory record (ECMA-119 9.1); `at` is its place in the image. */
static enum ws_status impossible_name(const struct ws_node *parent, const char *name, uint64_t at,
                                      struct ws_error *error) {
    char path[160];
    char text[320];
    (void)snprintf(text, sizeof text, "the folder %s holds a file called \"%.60s\", which is no possible name",
                   ws_node_path(parent, path, sizeof path), name);
    return damaged(error, text, at);
}

static enum ws_status folder_loop(const struct ws_node *node, uint64_t at, struct ws_error *error) {
    char path[200];
    char text[320];
    (void)snprintf(text, sizeof text, "the folder %s is one of those it lies in: its folders go round in a circle",
                   ws_node_path(node, path, sizeof path));
    return damaged(error, text, at);
}

/* What one record says of a file or folder, but for its content. */
static enum ws_status add_node(struct reading *r, struct ws_node *parent, const char *name, bool folder,
                               const struct rock *k, const uint8_t *d, uint64_t at, struct ws_node **out,
                               struct ws_error *error) {
    enum ws_status status = ws_tree_add(r->tree, parent, name, kind_of_mode(k->mode, folder), out, error);
    if (status == WS_E_RANGE) return impossible_name(parent, name, at, error);
    WS_TRY(status);
    if (ws_tree_count(r->tree) > NODES_MOST) return damaged(error, "it lists more files than can be", at);
    struct ws_node *node = *out;
    node->origin = at;
    node->mtime = k->has_time ? k->mtime : load_time7(d + 18);
    node->mode = k->has_mode ? k->mode & 07777 : folder ? 0555 : 0444;
    if (k->has_mode) {
        node->uid = k->uid;
        node->gid = k->gid;
    }
    node->major = k->major;
    node->minor = k->minor;
    return WS_OK;
}

static enum ws_status add_record(struct reading *r, struct ws_node *parent, const uint8_t *d, uint64_t at,
                                 struct ws_error *error) {
    size_t length = d[0];
    size_t id_length = d[32];
    uint8_t flags = d[25];
    uint64_t extent = ((uint64_t)ws_load_le32(d + 2) + d[1]) * WS_ISO_SECTOR;
    uint64_t size = ws_load_le32(d + 10);
    struct rock k = {0};
    char name[512];
    if (33 + id_length > length) return damaged(error, "a directory record is shorter than its name", at);
    size_t use = 33 + id_length + (id_length % 2 == 0 ? 1 : 0) + r->skip;
    if (r->rock && use < length) WS_TRY(parse_rock(r->iso, d + use, length - use, &k, error));
    if (k.relocated) return WS_OK;
    plain_name(d + 33, id_length, r->joliet, name);
    if (k.has_name) {
        memcpy(name, k.name, k.name_length);
        name[k.name_length] = '\0';
    }
    bool folder = (flags & 2) != 0 || k.child != 0;
    if (r->growing && strcmp(r->growing->name, name) != 0)
        return damaged(error, "a file in several extents is not continued", at);
    struct ws_node *node = r->growing;
    if (!node) WS_TRY(add_node(r, parent, name, folder, &k, d, at, &node, error));
    if (node->kind == WS_NODE_LINK) {
        k.target[k.target_length] = '\0';
        return ws_tree_set_target(r->tree, node, k.target, error);
    }
    if (folder) {
        uint64_t here = k.child ? (uint64_t)k.child * WS_ISO_SECTOR : extent;
        for (const struct ws_node *up = parent; up; up = up->parent)
            if (up->work == here) return folder_loop(node, at, error);
        node->work = k.child ? (uint64_t)k.child * WS_ISO_SECTOR : extent;
        node->work2 = k.child ? 0 : size;
        return WS_OK;
    }
    if (node->kind != WS_NODE_FILE) return WS_OK;
    if (size > 0) {
        struct ws_run *grown = realloc(r->runs, (r->runs_count + 1) * sizeof *grown);
        if (!grown) return ws_fail(error, WS_E_NOMEM, "out of memory for a file in pieces");
        r->runs = grown;
        r->runs[r->runs_count++] = (struct ws_run){size, extent};
    }
    r->growing = flags & 0x80 ? node : NULL;
    return r->growing ? WS_OK : finish_file(r, node, error);
}

static enum ws_status read_folder(struct reading *r, struct ws_node *folder, struct ws_error *error) {
    uint64_t at = folder->work;
    uint64_t length = folder->work2;
    uint8_t sector[WS_ISO_SECTOR];
    int depth = 0;
    for (const struct ws_node *n = folder->parent; n; n = n->parent, depth++)
        if (n->work == folder->work) return damaged(error, "a folder contains itself", at);
    if (depth > DEPTH_MOST) return damaged(error, "its folders are nested deeper than can be", at);
    if (length == 0) { /* a relocated folder: its own "." record tells its length */
        WS_TRY(ws_source_read(r->iso->source, at, sector, sizeof sector, error));
        length = ws_load_le32(sector + 10);
    }
    if (length > FOLDER_MOST) return damaged(error, "a folder is impossibly long", at);
    for (uint64_t done = 0; done < length; done += WS_ISO_SECTOR) {
        if (!ws_inside(at + done, WS_ISO_SECTOR, r->iso->source->size))
            return damaged(error, "a folder lies behind its end: it is cut short", at + done);
        WS_TRY(ws_source_read(r->iso->source, at + done, sector, sizeof sector, error));
        for (size_t p = 0; p + 33 < WS_ISO_SECTOR && sector[p] != 0;) {
            size_t one = sector[p];
            if (one < 34 || p + one > WS_ISO_SECTOR)
                return damaged(error, "a directory record has an impossible length", at + done + p);
            bool dots = sector[p + 32] == 1 && sector[p + 33] <= 1;
            if (!dots) WS_TRY(add_record(r, folder, sector + p, at + done + p, error));
            p += one;
        }
    }
    r->growing = NULL;
    return WS_OK;
}

/* Rock Ridge is there if the root's own record begins with an SP entry (SUSP 5.3). */
static enum ws_status look_for_rock(struct reading *r, const uint8_t *root, struct ws_error *error) {
    uint8_t sector[WS_ISO_SECTOR];
    uint64_t at = (uint64_t)ws_load_le32(root + 2) * WS_ISO_SECTOR;
    if (!ws_inside(at, sizeof sector, r->iso->source->size))
        return damaged(error, "its root folder lies behind its end: it is cut short", at);
    WS_TRY(ws_source_read(r->iso->source, at, sector, sizeof sector, error));
    const uint8_t *p = sector + 34;
    r->rock = sector[0] >= 41 && p[0] == 'S' && p[1] == 'P' && p[4] == 0xbe && p[5] == 0xef;
    r->skip = r->rock ? p[6] : 0;
    return WS_OK;
}

enum ws_status iso_read_tree(struct ws_iso *iso, const uint8_t *root, bool joliet, struct ws_tree **tree, bool *rock,
                             struct ws_error *error) {
    struct reading r = {.iso = iso, .joliet = joliet};
    enum ws_status status;
    if (root[0] < 34) return damaged(error, "its root folder's record is too short", 0);
    WS_TRY(ws_tree_create(&r.tree, error));
    if (!joliet) WS_GO(look_for_rock(&r, root, error));
    struct ws_node *top = ws_tree_root(r.tree);
    top->work = (uint64_t)ws_load_le32(root + 2) * WS_ISO_SECTOR;
    top->work2 = ws_load_le32(root + 10);
    for (struct ws_node *n = top; n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FOLDER) WS_GO(read_folder(&r, n, error));
    if (rock) *rock = r.rock;
done:
    free(r.runs);
    if (status == WS_OK) *tree = r.tree;
    else ws_tree_close(r.tree);
    return status;
}

/* The time of the last change, to hundredths, as systems make an identifier of it: "2026-11-25-11-00-00-00". */
static void name_change(const uint8_t digits[16], char out[24]) {
    bool said = false;
    out[0] = '\0';
    for (int i = 0; i < 16; i++) {
        if (digits[i] < '0' || digits[i] > '9') return;
        said |= digits[i] != '0';
    }
    if (said)
        (void)snprintf(out, 24, "%.4s-%.2s-%.2s-%.2s-%.2s-%.2s-%.2s", digits, digits + 4, digits + 6, digits + 8,
                       digits + 10, digits + 12, digits + 14);
}

void iso_parse_primary(const uint8_t *d, struct ws_iso_facts *f) { /* ECMA-119 8.4 */
    copy_text(f->system_id, d + 8, 32);
    copy_text(f->volume_id, d + 40, 32);
    copy_text(f->publisher, d + 318, 128);
    copy_text(f->application, d + 574, 128);
    f->made_at = load_time17(d + 813);
    name_change(d + 830, f->uuid);
    f->size = (uint64_t)ws_load_le32(d + 80) * WS_ISO_SECTOR;
    f->implanted_check = memcmp(d + 883, "ISO MD5SUM", 10) == 0;
}
