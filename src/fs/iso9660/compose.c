/* compose.c — an image from a tree: descriptors, path tables, Rock Ridge and Joliet folders, El Torito. */
#include "fs/iso9660/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { RECORD = 33, FIRST_DESCRIPTOR = 16, JOLIET_NAME = 64 };

struct folder {
    struct ws_node *node;
    uint32_t parent; /* index into the list */
    uint64_t at[2];  /* byte of its extent: primary, Joliet */
    uint32_t length[2];
};

/* A short name that a folder has; or, with "~" where the digits would be, how far numbers of so many digits got there.
 */
struct taken {
    const struct ws_node *parent; /* NULL: free */
    char name[16];
    unsigned next;
};

struct composing {
    const struct ws_iso_params *params;
    struct ws_tree *tree;
    struct folder *folder;
    size_t folders;
    char (*name)[16];      /* 8.3 names, by node number */
    struct taken *taken;   /* the same, found by hashing */
    size_t places;         /* a power of two, four times the nodes at least */
    struct ws_node **node; /* by node number */
    size_t nodes;
    uint64_t catalogue, size;
    uint64_t table_at[2];
    uint32_t table_length[2];
};

/* Node numbers live in `origin` while an image is composed. */
static size_t number_of(const struct ws_node *n) { return (size_t)n->origin; }

static bool shown(const struct ws_node *n, int tree) {
    return tree == 0 || n->kind == WS_NODE_FOLDER || n->kind == WS_NODE_FILE || n->same_as;
}

static char plain(char c) {
    if (c >= 'a' && c <= 'z') return (char)(c - 'a' + 'A');
    return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ? c : '_';
}

/* At most 8 and 3 letters of a name, the last ones of the 8 being `tail`. */
static void shorten(const struct ws_node *n, const char *tail, char out[16]) {
    const char *dot = strrchr(n->name, '.');
    size_t base = dot && dot != n->name ? (size_t)(dot - n->name) : strlen(n->name);
    size_t at = 0;
    size_t room = 8 - strlen(tail);
    for (size_t i = 0; i < base && at < room; i++) out[at++] = plain(n->name[i]);
    at += (size_t)snprintf(out + at, 16 - at, "%s", tail);
    if (n->kind != WS_NODE_FOLDER) {
        out[at++] = '.';
        for (size_t i = 0; dot && dot != n->name && i < 3 && dot[1 + i]; i++) out[at++] = plain(dot[1 + i]);
        out[at++] = ';';
        out[at++] = '1';
    }
    out[at] = '\0';
}

/* The place of a folder's short name, or the free one where it would go. */
static struct taken *place_of(const struct composing *c, const struct ws_node *parent, const char *name) {
    uint64_t h = 0xcbf29ce484222325ull ^ number_of(parent);
    for (const char *p = name; *p; p++) h = (h ^ (unsigned char)*p) * 0x100000001b3ull;
    for (size_t i = (size_t)(h ^ h >> 29) & (c->places - 1);; i = (i + 1) & (c->places - 1)) {
        struct taken *t = &c->taken[i];
        if (!t->parent || (t->parent == parent && strcmp(t->name, name) == 0)) return t;
    }
}

static void enter(struct taken *t, const struct ws_node *parent, const char *name, unsigned next) {
    t->parent = parent;
    memcpy(t->name, name, sizeof t->name);
    t->next = next;
}

/* A name that no sibling has: the letters themselves, or with the lowest number that is free behind fewer of them.
 * Names that leave the same letters share one count, so that no number is tried twice. */
static void short_name(struct composing *c, const struct ws_node *n) {
    char *out = c->name[number_of(n)];
    unsigned first = 1;
    shorten(n, "", out);
    struct taken *t = place_of(c, n->parent, out);
    for (size_t digits = 1; t->parent; digits++, first *= 10) {
        char key[16], tail[12];
        shorten(n, &"~~~~~~~~"[8 - digits], key);
        struct taken *count = place_of(c, n->parent, key);
        if (!count->parent) enter(count, n->parent, key, first);
        while (t->parent && count->next < first * 10) {
            (void)snprintf(tail, sizeof tail, "%u", count->next++);
            shorten(n, tail, out);
            t = place_of(c, n->parent, out);
        }
    }
    enter(t, n->parent, out, 0);
}

static void both16(uint8_t *p, uint32_t v) {
    ws_store_le16(p, (uint16_t)v);
    ws_store_be16(p + 2, (uint16_t)v);
}
static void both32(uint8_t *p, uint32_t v) {
    ws_store_le32(p, v);
    ws_store_be32(p + 4, v);
}

static void split_time(int64_t seconds, int out[6]) {
    int64_t day = seconds / 86400;
    int64_t rest = seconds % 86400;
    if (rest < 0) {
        rest += 86400;
        day--;
    }
    int64_t year;
    unsigned month, date;
    ws_date_of(day, &year, &month, &date);
    out[0] = (int)year;
    out[1] = (int)month;
    out[2] = (int)date;
    out[3] = (int)(rest / 3600);
    out[4] = (int)(rest / 60 % 60);
    out[5] = (int)(rest % 60);
}

static void time7(uint8_t *p, int64_t seconds) {
    int t[6];
    split_time(seconds, t);
    p[0] = (uint8_t)(t[0] - 1900);
    for (int i = 1; i < 6; i++) p[i] = (uint8_t)t[i];
    p[6] = 0;
}

static void time17(uint8_t *p, int64_t seconds) {
    int t[6];
    char text[64];
    split_time(seconds, t);
    (void)snprintf(text, sizeof text, "%04d%02d%02d%02d%02d%02d00", t[0], t[1], t[2], t[3], t[4], t[5]);
    memcpy(p, text, 16);
    p[16] = 0;
}

static size_t field(uint8_t *p, const char *name, size_t length) {
    p[0] = (uint8_t)name[0];
    p[1] = (uint8_t)name[1];
    p[2] = (uint8_t)length;
    p[3] = 1;
    return length;
}

/* "SL": a symbolic link's target, part by part (RRIP 4.1.3). */
static size_t link_field(uint8_t *out, const char *t) {
    uint8_t *p = out + 5;
    out[4] = 0;
    if (*t == '/') {
        *p++ = 8;
        *p++ = 0;
        while (*t == '/') t++;
    }
    while (*t) {
        size_t part = strcspn(t, "/");
        bool up = part == 2 && t[0] == '.' && t[1] == '.';
        bool here = part == 1 && t[0] == '.';
        *p++ = up ? 4 : here ? 2 : 0;
        *p++ = (uint8_t)(up || here ? 0 : part);
        if (!up && !here) {
            memcpy(p, t, part);
            p += part;
        }
        t += part;
        while (*t == '/') t++;
    }
    return field(out, "SL", (size_t)(p - out));
}

/* Rock Ridge fields of one record. `self` is for the "." of the root, which also announces the protocol. */
static size_t rock_fields(const struct ws_node *n, bool root_self, bool dots, uint8_t *out) {
    static const uint16_t kinds[] = {0x4000, 0x8000, 0xa000, 0x2000, 0x6000, 0x1000, 0xc000};
    const struct ws_node *inode = n->same_as ? n->same_as : n;
    uint8_t *p = out;
    if (root_self) {
        p[4] = 0xbe;
        p[5] = 0xef;
        p[6] = 0;
        p += field(p, "SP", 7);
    }
    memset(p, 0, 64);
    both32(p + 4, (uint32_t)(kinds[inode->kind] | inode->mode));
    both32(p + 12, 1);
    both32(p + 20, inode->uid);
    both32(p + 28, inode->gid);
    p += field(p, "PX", 36);
    p[4] = 2; /* modification time only */
    time7(p + 5, inode->mtime);
    p += field(p, "TF", 12);
    if (root_self) {
        memcpy(p + 8, "RRIP_1991A", 10);
        p[4] = 10;
        p[5] = p[6] = 0;
        p[7] = 1;
        p += field(p, "ER", 18);
    }
    if (dots) return (size_t)(p - out);
    size_t length = strlen(n->name);
    p[4] = 0;
    memcpy(p + 5, n->name, length);
    p += field(p, "NM", 5 + length);
    if (inode->kind == WS_NODE_CHAR || inode->kind == WS_NODE_BLOCK) {
        both32(p + 4, inode->major);
        both32(p + 12, inode->minor);
        p += field(p, "PN", 20);
    }
    if (inode->kind == WS_NODE_LINK) p += link_field(p, inode->target);
    return (size_t)(p - out);
}

/* One directory record; length 0 if it cannot hold its name and links. */
static size_t make_record(const struct composing *c, const struct ws_node *n, int tree, int dots, uint64_t at,
                          uint64_t length, uint8_t *out) {
    uint8_t rock[1400];
    size_t id = 1;
    memset(out, 0, 512);
    if (dots) {
        out[RECORD] = (uint8_t)(dots - 1);
    } else if (tree == 0) {
        id = strlen(c->name[number_of(n)]);
        memcpy(out + RECORD, c->name[number_of(n)], id);
    } else {
        uint16_t units[JOLIET_NAME];
        size_t count = ws_utf16_from_utf8(n->name, units, JOLIET_NAME);
        id = count * 2;
        for (size_t i = 0; i < count; i++) ws_store_be16(out + RECORD + 2 * i, units[i]);
    }
    size_t use = RECORD + id + (id % 2 == 0);
    if (tree == 0) {
        if (strlen(n->name) > 180 || (n->target && strlen(n->target) > 150)) return 0;
        size_t more = rock_fields(n, dots == 1 && !n->parent, dots != 0, rock);
        if (use + more > 254) return 0;
        memcpy(out + use, rock, more);
        use += more + more % 2;
    }
    const struct ws_node *inode = n->same_as ? n->same_as : n;
    out[0] = (uint8_t)use;
    both32(out + 2, (uint32_t)(at / WS_ISO_SECTOR));
    both32(out + 10, (uint32_t)length);
    time7(out + 18, inode->mtime);
    out[25] = inode->kind == WS_NODE_FOLDER ? 2 : 0;
    both16(out + 28, 1);
    out[32] = (uint8_t)id;
    return use;
}

static enum ws_status too_long(const struct ws_node *n, struct ws_error *error) {
    char path[200];
    ws_fail(error, WS_E_RANGE, "this name or link is too long for a Rock Ridge record");
    return ws_fail_where(error, "%s", ws_node_path(n, path, sizeof path));
}

/* A folder's records, or with `out` NULL only their length. Files over 4 GiB - 2 KiB take several records. */
static enum ws_status make_folder(const struct composing *c, size_t index, int tree, struct ws_text *out,
                                  uint32_t *length, struct ws_error *error) {
    static const uint32_t extent_most = 0xfffff800u;
    const struct folder *f = &c->folder[index];
    const struct folder *above = &c->folder[f->parent];
    uint8_t record[512];
    uint8_t zeros[WS_ISO_SECTOR] = {0};
    uint32_t used = 0;
    const struct ws_node *n = NULL;
    for (int dots = 1; dots <= 3; dots++) {
        if (dots == 3) n = f->node->first;
        while (dots < 3 || n) {
            const struct ws_node *inode = n && n->same_as ? n->same_as : n;
            uint64_t left = n ? ws_node_size(n) : 0;
            uint64_t at = n && inode->content ? inode->work : 0;
            if (n && !shown(n, tree)) {
                n = n->next;
                continue;
            }
            do {
                uint64_t step = ws_min_u64(left, extent_most);
                size_t one;
                if (dots < 3) {
                    const struct folder *to = dots == 1 ? f : above;
                    one = make_record(c, to->node, tree, dots, to->at[tree], to->length[tree], record);
                } else if (n->kind == WS_NODE_FOLDER) {
                    const struct folder *to = &c->folder[n->work];
                    one = make_record(c, n, tree, 0, to->at[tree], to->length[tree], record);
                } else {
                    if (n->kind == WS_NODE_LINK) step = left = 0;
                    one = make_record(c, n, tree, 0, at, step, record);
                    if (step < left) record[25] |= 0x80;
                }
                if (one == 0) return too_long(n, error);
                if (used % WS_ISO_SECTOR + one > WS_ISO_SECTOR) {
                    uint32_t pad = WS_ISO_SECTOR - used % WS_ISO_SECTOR;
                    if (out) ws_text_add(out, zeros, pad);
                    used += pad;
                }
                if (out) ws_text_add(out, record, one);
                used += (uint32_t)one;
                left -= step;
                at += step;
            } while (left > 0 && dots == 3 && n->kind == WS_NODE_FILE);
            if (dots < 3) break;
            n = n->next;
        }
    }
    uint32_t whole = (uint32_t)ws_round_up(used, WS_ISO_SECTOR);
    if (out) {
        ws_text_add(out, zeros, whole - used);
        WS_TRY(ws_text_status(out, error));
    }
    *length = whole;
    return WS_OK;
}

/* Path tables list all folders breadth first (ECMA-119 9.4). */
static enum ws_status make_path_table(const struct composing *c, int tree, bool big, struct ws_text *out,
                                      struct ws_error *error) {
    for (size_t i = 0; i < c->folders; i++) {
        const struct folder *f = &c->folder[i];
        uint8_t e[8 + 2 * JOLIET_NAME + 2] = {0};
        size_t id = 1;
        if (i > 0 && tree == 0) {
            id = strlen(c->name[number_of(f->node)]);
            memcpy(e + 8, c->name[number_of(f->node)], id);
        } else if (i > 0) {
            uint16_t units[JOLIET_NAME];
            size_t count = ws_utf16_from_utf8(f->node->name, units, JOLIET_NAME);
            id = count * 2;
            for (size_t k = 0; k < count; k++) ws_store_be16(e + 8 + 2 * k, units[k]);
        }
        e[0] = (uint8_t)id;
        uint32_t lba = (uint32_t)(f->at[tree] / WS_ISO_SECTOR);
        if (big) {
            ws_store_be32(e + 2, lba);
            ws_store_be16(e + 6, (uint16_t)(f->parent + 1));
        } else {
            ws_store_le32(e + 2, lba);
            ws_store_le16(e + 6, (uint16_t)(f->parent + 1));
        }
        ws_text_add(out, e, 8 + id + id % 2);
    }
    return ws_text_status(out, error);
}

static void text_field(uint8_t *p, size_t room, const char *text, bool wide) {
    if (!wide) {
        memset(p, ' ', room);
        memcpy(p, text, strlen(text) < room ? strlen(text) : room);
        return;
    }
    uint16_t units[128];
    size_t count = ws_utf16_from_utf8(text, units, room / 2 < 128 ? room / 2 : 128);
    for (size_t i = 0; i < room / 2; i++) ws_store_be16(p + 2 * i, i < count ? units[i] : ' ');
}

static void make_descriptor(const struct composing *c, int tree, uint8_t d[WS_ISO_SECTOR]) {
    const struct ws_iso_params *p = c->params;
    uint8_t record[512];
    memset(d, 0, WS_ISO_SECTOR);
    d[0] = tree == 0 ? 1 : 2;
    memcpy(d + 1, "CD001\1", 6);
    bool wide = tree == 1;
    text_field(d + 8, 32, "", wide);
    text_field(d + 40, 32, p->volume_id, wide);
    both32(d + 80, (uint32_t)(c->size / WS_ISO_SECTOR));
    if (wide) memcpy(d + 88, "%/E", 3);
    both16(d + 120, 1);
    both16(d + 124, 1);
    both16(d + 128, WS_ISO_SECTOR);
    both32(d + 132, c->table_length[tree]);
    ws_store_le32(d + 140, (uint32_t)(c->table_at[tree] / WS_ISO_SECTOR));
    ws_store_be32(d + 148,
                  (uint32_t)((c->table_at[tree] + ws_round_up(c->table_length[tree], WS_ISO_SECTOR)) / WS_ISO_SECTOR));
    make_record(c, c->folder[0].node, tree, 1, c->folder[0].at[tree], c->folder[0].length[tree], record);
    memcpy(d + 156, record, 34);
    d[156] = 34;
    text_field(d + 190, 128, "", wide);
    text_field(d + 318, 128, p->publisher, wide);
    text_field(d + 446, 128, "", wide);
    text_field(d + 574, 128, p->application, wide);
    text_field(d + 702, 111, "", false);
    time17(d + 813, p->made_at);
    time17(d + 830, p->made_at);
    memset(d + 847, '0', 16);
    memset(d + 864, '0', 16);
    d[881] = 1;
}

static enum ws_status boot_node(const struct composing *c, const char *path, struct ws_node **node,
                                struct ws_error *error) {
    *node = NULL;
    if (!path) return WS_OK;
    *node = ws_tree_find(c->tree, path);
    if (!*node || (*node)->kind != WS_NODE_FILE || !(*node)->content) {
        ws_fail(error, WS_E_NOTFOUND, "the start image is not in the tree");
        return ws_fail_where(error, "%s", path);
    }
    return WS_OK;
}

static void make_catalogue(const struct ws_node *bios, const struct ws_node *efi, uint8_t out[WS_ISO_SECTOR]) {
    memset(out, 0, WS_ISO_SECTOR);
    out[0] = 1;
    out[1] = bios ? 0 : 0xef;
    out[30] = 0x55;
    out[31] = 0xaa;
    uint16_t sum = 0;
    for (int i = 0; i < 32; i += 2) sum = (uint16_t)(sum + ws_load_le16(out + i));
    ws_store_le16(out + 28, (uint16_t)(0 - sum));
    uint8_t *e = out + 32;
    for (int i = 0; i < 2; i++) {
        const struct ws_node *n = i == 0 ? bios : efi;
        if (!n) continue;
        if (i == 1 && bios) {
            e[0] = 0x91;
            e[1] = 0xef;
            ws_store_le16(e + 2, 1);
            e += 32;
        }
        uint64_t sectors = ws_div_up(ws_node_size(n), 512);
        e[0] = 0x88;
        ws_store_le16(e + 6, i == 0 ? 4 : (uint16_t)ws_min_u64(sectors, 0xffff));
        ws_store_le32(e + 8, (uint32_t)(n->work / WS_ISO_SECTOR));
        e += 32;
    }
}

/* The start program's boot information: where the volume and it itself stand, and its checksum. */
static enum ws_status add_boot_information(const struct ws_node *bios, struct ws_layout *layout,
                                           struct ws_error *error) {
    char *bytes = NULL;
    size_t length = 0;
    WS_TRY(ws_source_load(bios->content, 1 << 20, &bytes, &length, error));
    uint8_t info[56] = {0};
    uint32_t sum = 0;
    for (size_t i = 64; i < length; i += 4) {
        uint8_t word[4] = {0};
        memcpy(word, bytes + i, length - i < 4 ? length - i : 4);
        sum += ws_load_le32(word);
    }
    ws_store_le32(info, FIRST_DESCRIPTOR);
    ws_store_le32(info + 4, (uint32_t)(bios->work / WS_ISO_SECTOR));
    ws_store_le32(info + 8, (uint32_t)length);
    ws_store_le32(info + 12, sum);
    enum ws_status status = WS_OK;
    if (length < 64) status = ws_fail(error, WS_E_FORMAT, "the BIOS start image is too short");
    if (status == WS_OK) {
        memcpy(bytes + 8, info, sizeof info);
        status = ws_layout_add_bytes(layout, bios->work, bytes, length, WS_PHASE_BODY, error);
    }
    free(bytes);
    return status;
}

static enum ws_status number_nodes(struct composing *c, struct ws_error *error) {
    size_t count = ws_tree_count(c->tree);
    c->name = calloc(count, sizeof *c->name);
    c->node = calloc(count, sizeof *c->node);
    c->folder = calloc(count, sizeof *c->folder);
    c->places = 16;
    while (c->places < 4 * count) c->places *= 2;
    c->taken = calloc(c->places, sizeof *c->taken);
    if (!c->name || !c->node || !c->folder || !c->taken)
        return ws_fail(error, WS_E_NOMEM, "out of memory for %zu files", count);
    for (struct ws_node *n = ws_tree_root(c->tree); n; n = ws_tree_next(n)) {
        n->origin = c->nodes;
        c->node[c->nodes++] = n;
        if (n->parent) short_name(c, n);
    }
    c->folder[c->folders++].node = ws_tree_root(c->tree);
    for (size_t i = 0; i < c->folders; i++) /* breadth first */
        for (struct ws_node *n = c->folder[i].node->first; n; n = n->next)
            if (n->kind == WS_NODE_FOLDER) {
                n->work = c->folders;
                c->folder[c->folders].node = n;
                c->folder[c->folders++].parent = (uint32_t)i;
            }
    return WS_OK;
}

static enum ws_status place_all(struct composing *c, struct ws_error *error) {
    uint64_t at = (FIRST_DESCRIPTOR + 4) * WS_ISO_SECTOR; /* primary, boot record, Joliet, terminator */
    bool boots = c->params->bios_path || c->params->efi_path;
    if (boots) {
        c->catalogue = at;
        at += WS_ISO_SECTOR;
    }
    for (int tree = 0; tree < 2; tree++) {
        struct ws_text table = {0};
        enum ws_status status = make_path_table(c, tree, false, &table, error);
        c->table_at[tree] = at;
        c->table_length[tree] = (uint32_t)table.length;
        ws_text_free(&table);
        WS_TRY(status);
        at += 2 * ws_round_up(c->table_length[tree], WS_ISO_SECTOR);
    }
    for (int tree = 0; tree < 2; tree++)
        for (size_t i = 0; i < c->folders; i++) {
            WS_TRY(make_folder(c, i, tree, NULL, &c->folder[i].length[tree], error));
            c->folder[i].at[tree] = at;
            at += c->folder[i].length[tree];
        }
    for (size_t i = 0; i < c->nodes; i++) {
        struct ws_node *n = c->node[i];
        if (n->kind != WS_NODE_FILE || n->same_as) continue;
        n->work = at;
        at += ws_round_up(ws_node_size(n), WS_ISO_SECTOR);
    }
    c->size = at;
    return at / WS_ISO_SECTOR > 0xffffffffull ? ws_fail(error, WS_E_SPACE, "the image would be larger than 8 TiB")
                                              : WS_OK;
}

static enum ws_status lay_out(struct composing *c, struct ws_layout *layout, struct ws_error *error) {
    uint8_t d[WS_ISO_SECTOR];
    struct ws_text text = {0};
    struct ws_node *bios = NULL;
    struct ws_node *efi = NULL;
    enum ws_status status;
    WS_GO(boot_node(c, c->params->bios_path, &bios, error));
    WS_GO(boot_node(c, c->params->efi_path, &efi, error));
    uint64_t at = FIRST_DESCRIPTOR * WS_ISO_SECTOR;
    for (int i = 0; i < 4; i++) { /* primary, boot record, Joliet, terminator */
        if (i == 1 && !c->catalogue) continue;
        if (i == 0 || i == 2) {
            make_descriptor(c, i / 2, d);
        } else {
            memset(d, 0, sizeof d);
            d[0] = i == 1 ? 0 : 255;
            memcpy(d + 1, "CD001\1", 6);
            if (i == 1) memcpy(d + 7, "EL TORITO SPECIFICATION", 23);
            if (i == 1) ws_store_le32(d + 71, (uint32_t)(c->catalogue / WS_ISO_SECTOR));
        }
        WS_GO(ws_layout_add_bytes(layout, at, d, sizeof d, WS_PHASE_BODY, error));
        at += WS_ISO_SECTOR;
    }
    if (c->catalogue) {
        make_catalogue(bios, efi, d);
        WS_GO(ws_layout_add_bytes(layout, c->catalogue, d, sizeof d, WS_PHASE_BODY, error));
    }
    for (int tree = 0; tree < 2; tree++) {
        for (int big = 0; big < 2; big++) {
            ws_text_free(&text);
            WS_GO(make_path_table(c, tree, big, &text, error));
            uint64_t whole = ws_round_up(c->table_length[tree], WS_ISO_SECTOR);
            WS_GO(ws_layout_add_bytes(layout, c->table_at[tree] + (big ? whole : 0), text.data, text.length,
                                      WS_PHASE_BODY, error));
        }
        for (size_t i = 0; i < c->folders; i++) {
            uint32_t length;
            ws_text_free(&text);
            WS_GO(make_folder(c, i, tree, &text, &length, error));
            WS_GO(ws_layout_add_bytes(layout, c->folder[i].at[tree], text.data, text.length, WS_PHASE_BODY, error));
        }
    }
    for (size_t i = 0; i < c->nodes; i++) {
        struct ws_node *n = c->node[i];
        if (n->kind != WS_NODE_FILE || n->same_as || !n->content) continue;
        if (n == bios) WS_GO(add_boot_information(n, layout, error));
        else WS_GO(ws_layout_add(layout, n->work, ws_node_size(n), n->content, 0, WS_PHASE_BODY, error));
    }
done:
    ws_text_free(&text);
    return status;
}

enum ws_status ws_iso_compose(const struct ws_iso_params *params, struct ws_tree *tree, struct ws_layout *layout,
                              uint64_t *size, struct ws_error *error) {
    struct composing c = {.params = params, .tree = tree};
    enum ws_status status;
    WS_GO(number_nodes(&c, error));
    WS_GO(place_all(&c, error));
    *size = c.size;
    if (layout) WS_GO(lay_out(&c, layout, error));
done:
    free(c.taken);
    free(c.name);
    free(c.node);
    free(c.folder);
    return status;
}
