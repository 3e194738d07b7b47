/* initrd.c — an initial RAM disk read through: cpio archives in a row, packed or not. */
#include "base/bytes.h"
#include "wild_satchel/archive.h"
#include "wild_satchel/initrd.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    HEAD = 110,
    NAME_MOST = 4096,
    FILES_MOST = 1 << 20,
    TEXT_MOST = 512 << 10,
    BLOCKS_MOST = 1 << 20,
    FRAMES_MOST = 4096
};
static const uint64_t unpacked_most = 4ull << 30;

static const char *const drivers[WS_DRIVERS] = {"xhci_pci", "ehci_pci", "usb_storage", "uas",      "sd_mod",
                                                "ext4",     "vfat",     "exfat",       "squashfs", "overlay",
                                                "loop",     "dm_crypt", "xts"};
const char *ws_driver_name(enum ws_driver driver) { return drivers[driver]; }

const char *ws_driver_names(uint32_t set, char *out, size_t room) {
    out[0] = '\0';
    for (unsigned i = 0; i < WS_DRIVERS; i++) {
        size_t n = strlen(out);
        if (set >> i & 1) (void)snprintf(out + n, room - n, "%s%s", n ? ", " : "", drivers[i]);
    }
    return out;
}

/* What made it, by a file that only that program puts there. */
static const struct {
    const char *sign, *maker;
} makers[] = {{"scripts/functions", "initramfs-tools"},
              {"usr/lib/dracut", "dracut"},
              {"lib/dracut", "dracut"},
              {"init_functions", "mkinitcpio"},
              {"sbin/nlplug-findfs", "mkinitfs"}};

/* A module's file name, whatever it is packed with: - and _ are the same in it. */
static bool is_driver(const char *file, size_t length, const char *name) {
    if (length != strlen(name)) return false;
    for (size_t i = 0; i < length; i++)
        if (file[i] != name[i] && !(file[i] == '-' && name[i] == '_')) return false;
    return true;
}

static uint32_t driver_of(const char *path) {
    const char *file = strrchr(path, '/') ? strrchr(path, '/') + 1 : path;
    const char *end = strstr(file, ".ko");
    if (!end || (end[3] && end[3] != '.')) return 0;
    for (unsigned i = 0; i < WS_DRIVERS; i++)
        if (is_driver(file, (size_t)(end - file), drivers[i])) return 1u << i;
    return 0;
}

/* One archive after the other, as bytes come. */
struct reading {
    struct ws_initrd_facts *facts;
    uint8_t head[HEAD];
    size_t have; /* of the head */
    char name[NAME_MOST + 1];
    size_t named, name_length; /* bytes of the name so far, and in all */
    uint64_t skip;             /* content and padding still to come */
    const char *const *words;  /* looked for in texts */
    size_t words_count;
    uint32_t found;
    ws_initrd_text_call on_text;
    void *context;
    uint32_t mode;
    char *text;  /* owned: this file's content, where it is kept */
    size_t kept; /* bytes of it that there will be */
    size_t have_text;
    uint64_t padding; /* behind it */
    bool inside;      /* an archive has begun and not ended */
    uint64_t at;      /* in the unpacked bytes of this archive, for padding */
};

static void note_file(struct reading *r) {
    struct ws_initrd_facts *f = r->facts;
    const char *path = r->name;
    while (path[0] == '/' || (path[0] == '.' && path[1] == '/')) path++;
    f->files++;
    for (size_t i = 0; i < sizeof makers / sizeof makers[0] && !f->maker[0]; i++)
        if (strcmp(path, makers[i].sign) == 0) (void)snprintf(f->maker, sizeof f->maker, "%s", makers[i].maker);
    const char *file = strrchr(path, '/') ? strrchr(path, '/') + 1 : path;
    if (strstr(file, ".ko")) f->modules++;
    f->drivers |= driver_of(path);
    f->systemd |= strcmp(file, "systemd") == 0 && strstr(path, "lib/systemd/systemd") != NULL;
    f->askpass |= strcmp(file, "askpass") == 0 && strstr(path, "cryptsetup/") != NULL;
    f->cryptsetup |= strcmp(file, "cryptsetup") == 0 || strcmp(file, "systemd-cryptsetup") == 0;
}

/* The lines of modules.builtin: a driver each. */
static void note_built_in(struct reading *r) {
    r->facts->builtin = true;
    for (char *line = r->text, *end; *line; line = end) {
        end = line + strcspn(line, "\n");
        if (*end) *end++ = '\0';
        r->facts->built_in |= driver_of(line);
    }
}

/* A text is whole. Programs are none: what they know is not said in words. */
static void note_text(struct reading *r) {
    const char *file = strrchr(r->name, '/') ? strrchr(r->name, '/') + 1 : r->name;
    r->text[r->kept] = '\0';
    bool program = r->kept > 4 && memcmp(r->text,
                                         "\x7f"
                                         "ELF",
                                         4) == 0;
    for (size_t i = 0; i < r->words_count && !program; i++)
        if (strstr(r->text, r->words[i])) r->found |= 1u << i; /* texts end where a zero byte is */
    if (r->on_text && !program) r->on_text(r->context, r->name, r->mode, r->text, r->kept);
    if (strcmp(file, "modules.builtin") == 0) note_built_in(r);
    r->kept = r->have_text = 0;
}

/* Is its content wanted? What is left to be skipped is what lies behind it then. */
static void begin_text(struct reading *r) {
    uint64_t size = r->skip - r->padding;
    r->kept = r->have_text = 0;
    if ((!r->words_count && !r->on_text) || size == 0 || size > TEXT_MOST || strstr(r->name, ".ko")) return;
    r->kept = (size_t)size;
    r->skip = r->padding;
}

static enum ws_status damaged(struct ws_error *error, const char *why) {
    return ws_fail(error, WS_E_FORMAT, "the initial RAM disk is damaged: %s", why);
}

static bool number(const uint8_t *hex, uint32_t *out) {
    *out = 0;
    for (int i = 0; i < 8; i++) {
        uint32_t digit = hex[i] >= '0' && hex[i] <= '9'   ? (uint32_t)(hex[i] - '0')
                         : hex[i] >= 'a' && hex[i] <= 'f' ? (uint32_t)(hex[i] - 'a' + 10)
                         : hex[i] >= 'A' && hex[i] <= 'F' ? (uint32_t)(hex[i] - 'A' + 10)
                                                          : 16;
        if (digit > 15) return false;
        *out = *out << 4 | digit;
    }
    return true;
}

/* The head is whole: how long are name and content? (buffer-format.rst: c_mode at 14, c_filesize at 54,
 * c_namesize at 94) */
static enum ws_status take_head(struct reading *r, struct ws_error *error) {
    uint32_t size;
    uint32_t name;
    if (memcmp(r->head, "070701", 6) != 0 && memcmp(r->head, "070702", 6) != 0)
        return damaged(error, "something else stands where a file should begin");
    if (!number(r->head + 54, &size) || !number(r->head + 94, &name) || !number(r->head + 14, &r->mode))
        return damaged(error, "a size is no number");
    if (name == 0 || name > NAME_MOST) return damaged(error, "a name has an impossible length");
    r->inside = true;
    r->named = 0;
    r->name_length = ws_round_up(HEAD + name, 4) - HEAD;
    r->skip = ws_round_up(size, 4);
    r->padding = r->skip - size;
    return WS_OK;
}

static enum ws_status take_name(struct reading *r, struct ws_error *error) {
    r->name[r->named] = '\0';
    r->have = 0;
    if (strcmp(r->name, "TRAILER!!!") == 0) {
        r->inside = false;
        r->facts->archives++;
        return WS_OK;
    }
    note_file(r);
    begin_text(r);
    return r->facts->files <= FILES_MOST ? WS_OK : damaged(error, "it has too many files");
}

/* Between archives there may be zeros. */
static enum ws_status take_bytes(struct reading *r, const uint8_t *bytes, size_t length, struct ws_error *error) {
    while (length > 0) {
        size_t step;
        if (r->have == HEAD && r->named < r->name_length) {
            step = ws_min_u64(length, r->name_length - r->named);
            memcpy(r->name + r->named, bytes, step);
            r->named += step;
            if (r->named == r->name_length) WS_TRY(take_name(r, error));
        } else if (r->kept) {
            step = ws_min_u64(length, r->kept - r->have_text);
            memcpy(r->text + r->have_text, bytes, step);
            r->have_text += step;
            if (r->have_text == r->kept) note_text(r);
        } else if (r->skip > 0) {
            step = (size_t)ws_min_u64(length, r->skip);
            r->skip -= step;
        } else if (r->have == 0 && !r->inside && *bytes == 0) {
            step = 1;
        } else {
            step = ws_min_u64(length, HEAD - r->have);
            memcpy(r->head + r->have, bytes, step);
            r->have += step;
            if (r->have == HEAD) WS_TRY(take_head(r, error));
        }
        bytes += step;
        length -= step;
        r->facts->unpacked += step;
    }
    return r->facts->unpacked <= unpacked_most ? WS_OK : damaged(error, "it unpacks to more than 4 GiB");
}

static enum ws_status sink(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    static const uint8_t zeros[4096];
    struct reading *r = context;
    while (r->at < at) { /* a stretch of zeros that was left out */
        size_t step = (size_t)ws_min_u64(sizeof zeros, at - r->at);
        WS_TRY(take_bytes(r, zeros, step, error));
        r->at += step;
    }
    r->at += length;
    return take_bytes(r, bytes, length, error);
}

/* How many bytes to take next: never past a place where something else may begin. */
static size_t next_step(const struct reading *r, size_t most) {
    if (r->have == HEAD && r->named < r->name_length) return ws_min_u64(most, r->name_length - r->named);
    if (r->kept) return ws_min_u64(most, r->kept - r->have_text);
    return (size_t)ws_min_u64(most, r->skip ? r->skip : HEAD - r->have);
}

/* Archives that are not packed: from `*at` to where something else begins. Content is passed over. */
static enum ws_status read_plain(struct reading *r, const struct ws_source *source, uint64_t *at,
                                 struct ws_error *error) {
    uint8_t buffer[4096];
    while (*at < source->size) {
        size_t step = (size_t)ws_min_u64(sizeof buffer, source->size - *at);
        if (r->have < HEAD && !r->kept && r->skip > sizeof buffer) { /* the name comes first */
            uint64_t jump = ws_min_u64(r->skip, source->size - *at);
            r->skip -= jump;
            r->facts->unpacked += jump;
            *at += jump;
            continue;
        }
        if (r->have == 0 && !r->kept && r->skip == 0 && !r->inside) { /* zeros, and what follows them */
            size_t zeros = 0;
            WS_TRY(ws_source_read(source, *at, buffer, step, error));
            while (zeros < step && buffer[zeros] == 0) zeros++;
            *at += zeros;
            if (zeros == step) continue;
            if (buffer[zeros] != '0') return WS_OK;
            step = (size_t)ws_min_u64(sizeof buffer, source->size - *at);
        }
        step = next_step(r, step);
        WS_TRY(ws_source_read(source, *at, buffer, step, error));
        WS_TRY(take_bytes(r, buffer, step, error));
        *at += step;
    }
    return WS_OK;
}

/* Do archives that are not packed begin here, and reach to the end? Only heads and names are looked at. */
static bool is_plain_to_end(const struct ws_source *source, uint64_t at) {
    bool inside = false;
    uint8_t head[HEAD + sizeof "TRAILER!!!"];
    while (at < source->size) {
        uint32_t size, name;
        const size_t n = (size_t)ws_min_u64(sizeof head, source->size - at);
        if (ws_source_read(source, at, head, n, NULL) != WS_OK) return false;
        if (!inside && head[0] == 0) { /* between archives, and behind the last */
            at += 4 - at % 4;
            continue;
        }
        if (n < HEAD + 2 || memcmp(head, "070701", 6) != 0 || !number(head + 54, &size) || !number(head + 94, &name) ||
            name == 0 || name > NAME_MOST)
            return false;
        inside = name != sizeof "TRAILER!!!" || memcmp(head + HEAD, "TRAILER!!!", name) != 0;
        at += ws_round_up(HEAD + name, 4) + ws_round_up(size, 4);
    }
    return !inside;
}

/* Where what is packed ends, and others follow that are not: a packed stream does not say its length beforehand. */
static enum ws_status find_plain_behind(const struct ws_source *source, uint64_t from, uint64_t *at,
                                        struct ws_error *error) {
    enum { STEP = 1 << 16, OVER = 8, TRIES_MOST = 16 };
    uint8_t *room = malloc(STEP + OVER);
    enum ws_status status = room ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for an initial RAM disk");
    unsigned tries = 0;
    *at = source->size;
    for (from = ws_round_up(from, 4); from < source->size && *at == source->size && status == WS_OK; from += STEP) {
        const size_t n = (size_t)ws_min_u64(STEP + OVER, source->size - from);
        status = ws_source_read(source, from, room, n, error);
        for (size_t i = 0; i + OVER <= n && i < STEP && status == WS_OK && tries < TRIES_MOST; i += 4) {
            if (memcmp(room + i, "070701", 6) != 0) continue;
            tries++;
            if (!is_plain_to_end(source, from + i)) continue;
            *at = from + i;
            break;
        }
    }
    free(room);
    return status;
}

/* One frame of RFC 8878, sections 3.1.1 and 3.1.2. @return the byte behind it; `at` if none begins there */
static uint64_t behind_frame(const struct ws_source *source, uint64_t at, unsigned *blocks) {
    static const uint8_t id_bytes[] = {0, 1, 2, 4}, size_bytes[] = {0, 2, 4, 8};
    uint8_t head[8];
    const uint64_t begin = at;
    if (!ws_inside(at, sizeof head, source->size) || ws_source_read(source, at, head, sizeof head, NULL) != WS_OK)
        return begin;
    if ((ws_load_le32(head) & ~15u) == 0x184d2a50) return at + 8 + ws_load_le32(head + 4); /* one to be skipped */
    if (ws_load_le32(head) != 0xfd2fb528) return begin;
    const uint8_t says = head[4];
    const bool single = says & 0x20;
    at += (single ? 5u : 6u) + id_bytes[says & 3] + (says >> 6 || !single ? size_bytes[says >> 6] : 1u);
    for (bool last = false; !last; ++*blocks) {
        uint8_t block[3];
        if (*blocks == BLOCKS_MOST || !ws_inside(at, sizeof block, source->size) ||
            ws_source_read(source, at, block, sizeof block, NULL) != WS_OK)
            return begin;
        const uint32_t word = block[0] | (uint32_t)block[1] << 8 | (uint32_t)block[2] << 16;
        last = word & 1;
        at += 3 + ((word >> 1 & 3) == 1 ? 1 : word >> 3);
    }
    return at + (says & 4 ? 4 : 0);
}

/* Zeros behind the last frame are none. */
static uint64_t behind_frames(const struct ws_source *source, uint64_t at, uint64_t end) {
    unsigned blocks = 0, frames = 0;
    uint64_t behind = at;
    for (uint64_t next; behind < end && frames < FRAMES_MOST; behind = next, frames++)
        if ((next = behind_frame(source, behind, &blocks)) == behind) break;
    return behind > at && behind < end ? behind : end;
}

static enum ws_status read_packed(struct reading *r, const struct ws_source *initrd, uint64_t *at,
                                  struct ws_error *error) {
    struct ws_source *rest = NULL;
    struct ws_packed_facts packed;
    uint64_t size, end;
    WS_TRY(find_plain_behind(initrd, *at, &end, error));
    WS_TRY(ws_source_slice(initrd, *at, behind_frames(initrd, *at, end) - *at, &rest, error));
    enum ws_status status = ws_packed_probe(rest, &packed, error);
    if (status == WS_OK) status = ws_unpack(rest, sink, r, &size, error);
    ws_source_close(rest);
    *at = end;
    return status;
}

enum ws_status ws_initrd_look(const struct ws_source *initrd, struct ws_initrd_facts *facts, struct ws_error *error) {
    uint32_t none;
    return ws_initrd_search(initrd, NULL, 0, &none, facts, error);
}

/* Read through with what is wanted of it set in `r`, which is freed. */
static enum ws_status read_through(struct reading *r, const struct ws_source *initrd, uint32_t *found,
                                   struct ws_error *error) {
    uint64_t at = 0;
    memset(r->facts, 0, sizeof *r->facts);
    r->text = malloc(TEXT_MOST + 1);
    enum ws_status status = r->text ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for an initial RAM disk");
    if (status == WS_OK) status = read_plain(r, initrd, &at, error);
    if (status == WS_OK && at < initrd->size) status = read_packed(r, initrd, &at, error);
    if (status == WS_OK && at < initrd->size) status = read_plain(r, initrd, &at, error);
    if (status == WS_OK && (r->inside || r->have || r->kept))
        status = damaged(error, "it breaks off in the middle of a file");
    if (status == WS_OK && !r->facts->archives) status = ws_fail(error, WS_E_NOTFOUND, "this is no initial RAM disk");
    *found = r->found;
    free(r->text);
    free(r);
    return status;
}

enum ws_status ws_initrd_search(const struct ws_source *initrd, const char *const words[], size_t count,
                                uint32_t *found, struct ws_initrd_facts *facts, struct ws_error *error) {
    struct reading *r = calloc(1, sizeof *r);
    if (!r) return ws_fail(error, WS_E_NOMEM, "out of memory for an initial RAM disk");
    r->facts = facts;
    r->words = words;
    r->words_count = count;
    return read_through(r, initrd, found, error);
}

enum ws_status ws_initrd_texts(const struct ws_source *initrd, ws_initrd_text_call on_text, void *context,
                               struct ws_error *error) {
    struct ws_initrd_facts facts;
    uint32_t none;
    struct reading *r = calloc(1, sizeof *r);
    if (!r) return ws_fail(error, WS_E_NOMEM, "out of memory for an initial RAM disk");
    r->facts = &facts;
    r->on_text = on_text;
    r->context = context;
    return read_through(r, initrd, &none, error);
}

enum ws_status ws_drivers_built_in(const struct ws_tree *root, const char *version, uint32_t *out,
                                   struct ws_error *error) {
    char path[160], *text = NULL;
    size_t length = 0;
    *out = 0;
    (void)snprintf(path, sizeof path, "/lib/modules/%.96s/modules.builtin", version);
    const struct ws_node *n = ws_system_find(root, path);
    if (n && n->kind == WS_NODE_FILE && !n->content) return WS_OK; /* nothing is */
    if (!n || n->kind != WS_NODE_FILE)
        return ws_fail(error, WS_E_NOTFOUND, "the root does not say what the kernel %s has built in", version);
    WS_TRY(ws_source_load(n->content, 4u << 20, &text, &length, error));
    for (char *line = text, *end; *line; line = end) {
        end = line + strcspn(line, "\n");
        if (*end) *end++ = '\0';
        *out |= driver_of(line);
    }
    free(text);
    return WS_OK;
}
