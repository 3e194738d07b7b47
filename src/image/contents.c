/* contents.c — a drive looked through, partition by partition. */
#include "wild_satchel/contents.h"

#include "base/bytes.h"
#include "wild_satchel/format.h"
#include "wild_satchel/iso9660.h"
#include "wild_satchel/live.h"
#include "wild_satchel/change.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Formats that are named but not read here: where their signature stands, and what a volume with it is part of. */
static const struct {
    const char *name;
    uint32_t at;
    const char *signature;
    size_t length;
    const char *guess;
} signatures[] = {
    {"NTFS", 3, "NTFS    ", 8, NULL},
    {"exFAT (damaged)", 3, "EXFAT   ", 8, NULL},
    {"ReFS", 3, "ReFS\0\0\0\0", 8, NULL},
    {"encrypted volume", 3, "-FVE-FS-", 8, "encrypted volume"},
    {"XFS", 0, "XFSB", 4, NULL},
    {"Btrfs", 65600, "_BHRfS_M", 8, NULL},
    {"F2FS", 1024, "\x10\x20\xf5\xf2", 4, NULL},
    {"EROFS", 1024, "\xe2\xe1\xf5\xe0", 4, NULL},
    {"squashfs", 0, "hsqs", 4, NULL},
    {"cramfs", 0, "\x45\x3d\xcd\x28", 4, NULL},
    {"romfs", 0, "-rom1fs-", 8, NULL},
    {"HFS+", 1024, "H+\0\4", 4, NULL},
    {"HFSX", 1024, "HX\0\5", 4, NULL},
    {"APFS", 32, "NXSB", 4, NULL},
    {"JFS", 32768, "JFS1", 4, NULL},
    {"NILFS2", 1030, "\x34\x34", 2, NULL},
    {"ReiserFS", 65588, "ReIsEr", 6, NULL},
    {"UFS", 8192 + 1372, "\x54\x19\x01\x00", 4, NULL},
    {"UFS2", 65536 + 1372, "\x19\x01\x54\x19", 4, NULL},
    {"GFS2", 65536, "\x01\x16\x19\x70", 4, NULL},
    {"OCFS2", 8192, "OCFSV2", 6, NULL},
    {"UDF", 34817, "NSR0", 4, NULL},
    {"LUKS", 0, "LUKS\xba\xbe", 6, "encrypted volume"},
    {"LVM", 536, "LVM2 001", 8, "part of a volume group"},
    {"array member", 4096, "\xfc\x4e\x2b\xa9", 4, "part of a disk array"},
    {"array member", 0, "\xfc\x4e\x2b\xa9", 4, "part of a disk array"},
    {"bcache", 4120, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca", 8, "part of a cache set"},
    {"ext4", 1080, "\x53\xef", 2, NULL}, /* damaged, or with features that nothing here reads */
    {"VMFS", 1048576, "\x0d\xd0\x01\xc0", 4, NULL},
};
enum { SIGNATURES = sizeof signatures / sizeof signatures[0] };

enum { FAT_BEGINS = 315532800 }; /* 1980-01-01: what stands there when nobody knew the time */

/* All of a disc image's folders. */
static void count_disc(const struct ws_source *volume, struct ws_content *c) {
    struct ws_iso *iso = NULL;
    if (ws_iso_open(volume, &iso, NULL) != WS_OK) return;
    c->files = ws_tree_count(ws_iso_tree(iso)) - 1;
    c->files_counted = true;
    c->written_at = ws_iso_facts(iso)->made_at;
    ws_iso_close(iso);
}

static void note_file(const struct ws_node *n, const char *path, struct ws_content *c) {
    (void)snprintf(c->overlay, sizeof c->overlay, "%.31s", path);
    c->overlay_at = n->work ? c->at + n->work : 0;
    c->overlay_size = ws_node_size(n);
}

/* A file that a live family would remember in. */
static void note_overlay(const struct ws_tree *tree, const char *path, struct ws_content *c) {
    const struct ws_node *n = ws_tree_find_any_case(tree, path);
    if (n && n->kind == WS_NODE_FILE && ws_node_size(n) >= 1 << 20) note_file(n, path, c);
}

static bool holds_volume(const struct ws_tree *tree, const char *path) {
    const struct ws_node *n = ws_tree_find_any_case(tree, path);
    struct ws_volume_facts facts;
    return n && n->kind == WS_NODE_FILE && n->content &&
           ws_format_find("ext4")->probe(n->content, &facts, NULL) == WS_OK;
}

/* All of an ordinary volume's folders: how many files, and the newest. */
static void count_files(const struct ws_source *volume, const struct ws_format *format, struct ws_content *c) {
    struct ws_tree *tree = NULL;
    if (format->read(volume, &tree, NULL, NULL) != WS_OK) return;
    c->files = ws_tree_count(tree) - 1;
    c->files_counted = true;
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->mtime > FAT_BEGINS && n->mtime > c->written_at) c->written_at = n->mtime;
    struct ws_own_family *own = malloc(sizeof *own);
    const struct ws_live_family *family = ws_live_family_of_medium(tree, own);
    if (family) {
        (void)snprintf(c->family, sizeof c->family, "%s", family->word);
        (void)snprintf(c->family_title, sizeof c->family_title, "%s", family->title);
        (void)snprintf(c->family_label, sizeof c->family_label, "%s", family->label);
        if (family->overlay_file) note_overlay(tree, family->overlay_file, c);
    }
    free(own);
    size_t families;
    const struct ws_live_family *f = ws_live_families(&families);
    /* On a volume of its own more than a name must speak for it. */
    for (size_t i = 0; i < families && !c->overlay[0]; i++)
        if (f[i].overlay_file && holds_volume(tree, f[i].overlay_file)) note_overlay(tree, f[i].overlay_file, c);
    const struct ws_node *system = c->overlay[0] ? NULL : ws_inside_find(tree, NULL);
    if (system) note_file(system, system->name, c);
    c->inside = system != NULL;
    c->camera = ws_tree_find_any_case(tree, "DCIM") != NULL;
    c->starts = ws_tree_find_any_case(tree, "EFI/BOOT") != NULL;
    ws_tree_close(tree);
}

/* A format that is known by its signature alone, or nothing at all. */
static void look_for_signature(const struct ws_source *volume, struct ws_content *c) {
    uint8_t sector[2048];
    bool zero = true;
    for (size_t i = 0; i < SIGNATURES && strcmp(c->system, "unknown") == 0; i++) {
        uint8_t found[16];
        if (volume->size < signatures[i].at + 16ull) continue;
        if (ws_source_read(volume, signatures[i].at, found, signatures[i].length, NULL) != WS_OK) continue;
        if (memcmp(found, signatures[i].signature, signatures[i].length) == 0)
            (void)snprintf(c->system, sizeof c->system, "%s", signatures[i].name);
    }
    size_t length = (size_t)ws_min_u64(sizeof sector, volume->size);
    if (ws_source_read(volume, 0, sector, length, NULL) == WS_OK)
        for (size_t i = 0; i < length; i++) zero &= sector[i] == 0;
    else zero = false;
    if (zero && strcmp(c->system, "unknown") == 0) (void)snprintf(c->system, sizeof c->system, "empty");
}

static void look_at(const struct ws_source *drive, bool deep, struct ws_content *c) {
    struct ws_source *slice = NULL;
    struct ws_volume_facts facts;
    (void)snprintf(c->system, sizeof c->system, "unknown");
    c->clean = true;
    if (!ws_inside(c->at, c->length, drive->size) || ws_source_slice(drive, c->at, c->length, &slice, NULL) != WS_OK) {
        (void)snprintf(c->system, sizeof c->system, "outside the drive");
        return;
    }
    const struct ws_format *format = ws_format_of(slice, &facts);
    if (format) {
        (void)snprintf(c->system, sizeof c->system, "%s", facts.system);
        (void)snprintf(c->label, sizeof c->label, "%.47s", facts.label);
        c->free_bytes = facts.free_bytes;
        c->counted = facts.counted;
        c->clean = facts.clean;
        c->files = facts.files;
        c->files_counted = facts.files_counted;
        c->written_at = facts.written_at;
        if (deep && format->everywhere) count_files(slice, format, c);
        if (deep && strcmp(format->word, "iso9660") == 0) count_disc(slice, c);
    } else {
        look_for_signature(slice, c);
    }
    ws_source_close(slice);
}

static const struct ws_content *find_system(const struct ws_contents *c, const char *system) {
    for (size_t i = 0; i < c->parts; i++)
        if (strcmp(c->part[i].system, system) == 0) return &c->part[i];
    return NULL;
}

static bool holds_memory(const struct ws_content *part, const struct ws_live_family *family) {
    return strcmp(part->label, family->label) == 0 || (family->lock_parameters && strcmp(part->system, "LUKS") == 0) ||
           (family->overlay_file && strcmp(part->overlay, family->overlay_file) == 0);
}

/* A live system's medium: which family, and does it find a volume to remember on? */
static void guess_live(const struct ws_source *drive, struct ws_contents *c) {
    struct ws_iso *iso = NULL;
    if (ws_iso_open(drive, &iso, NULL) != WS_OK) {
        (void)snprintf(c->guess, sizeof c->guess, "disc image");
        return;
    }
    const struct ws_live_family *family = ws_live_family_of_medium(ws_iso_tree(iso), NULL);
    bool remembers = false;
    for (size_t i = 0; family && i < c->parts; i++) remembers |= holds_memory(&c->part[i], family);
    if (!family) (void)snprintf(c->guess, sizeof c->guess, "install or live medium of an unknown family");
    else
        (void)snprintf(c->guess, sizeof c->guess, "live drive %s persistence (%s)", remembers ? "with" : "without",
                       family->title);
    ws_iso_close(iso);
}

/* Its files were not looked at, but what it would remember on bears a live family's label. */
static const struct ws_live_family *family_by_label(const struct ws_contents *c) {
    size_t count;
    const struct ws_live_family *f = ws_live_families(&count);
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < c->parts; k++)
            if (strcmp(c->part[k].system, "ext4") == 0 && strcmp(c->part[k].label, f[i].label) == 0) return &f[i];
    return NULL;
}

static void guess(const struct ws_source *drive, struct ws_contents *c) {
    static const char *const system_roots[] = {"ext4", "Btrfs", "XFS", "F2FS"};
    bool root = false;
    bool camera = false;
    bool starts = false;
    bool inside = false;
    for (size_t i = 0; i < 4; i++) root |= find_system(c, system_roots[i]) != NULL;
    for (size_t i = 0; i < c->parts; i++) {
        camera |= c->part[i].camera;
        starts |= c->part[i].starts;
        inside |= c->part[i].inside;
    }
    char got[24], all[24];
    if (c->changing) (void)snprintf(c->guess, sizeof c->guess, "a system whose renewal was cut and is to be finished");
    else if (c->unfinished && c->build_flushed)
        (void)snprintf(c->guess, sizeof c->guess, "unfinished build, done up to %s of %s",
                       ws_size_counted(c->build_flushed, got, sizeof got),
                       ws_size_counted(c->build_end, all, sizeof all));
    else if (c->unfinished) (void)snprintf(c->guess, sizeof c->guess, "unfinished build");
    else if (c->blank) (void)snprintf(c->guess, sizeof c->guess, "blank");
    else if (find_system(c, "ISO 9660")) guess_live(drive, c);
    for (size_t i = 0; i < c->parts && !c->guess[0]; i++) {
        const struct ws_content *medium = &c->part[i];
        bool remembers = medium->overlay[0] != '\0';
        if (!medium->family[0]) continue;
        const struct ws_live_family *family = ws_live_family_find(medium->family);
        for (size_t k = 0; k < c->parts; k++)
            remembers |=
                family ? holds_memory(&c->part[k], family) : strcmp(c->part[k].label, medium->family_label) == 0;
        (void)snprintf(c->guess, sizeof c->guess, "live drive, file by file, %s persistence (%s)",
                       remembers ? "with" : "without", medium->family_title);
    }
    for (size_t i = 0; i < SIGNATURES && !c->guess[0]; i++)
        if (signatures[i].guess && find_system(c, signatures[i].name))
            (void)snprintf(c->guess, sizeof c->guess, "%s", signatures[i].guess);
    if (c->guess[0]) return;
    (void)snprintf(c->guess, sizeof c->guess, "%s",
                   family_by_label(c)                           ? "live drive with persistence"
                   : root && c->parts > 1                       ? "full system"
                   : inside                                     ? "ordinary drive with a full system in a file"
                   : camera                                     ? "camera card"
                   : starts                                     ? "medium that starts on UEFI"
                   : find_system(c, "unknown") && c->parts == 1 ? "unknown contents"
                                                                : "data");
}

static void summarise(struct ws_contents *c) {
    size_t n = (size_t)snprintf(c->summary, sizeof c->summary, "%s", c->guess);
    for (size_t i = 0; !c->unfinished && !c->blank && i < c->parts && n + 70 < sizeof c->summary; i++) {
        const struct ws_content *p = &c->part[i];
        char size[24];
        if ((c->parts > 1 && p->number == 0) || strcmp(p->system, "unknown") == 0) continue;
        int put = snprintf(c->summary + n, sizeof c->summary - n, "%s%s%s%.24s%s %s", n ? ", " : "", p->system,
                           p->label[0] ? " \"" : "", p->label, p->label[0] ? "\"" : "",
                           ws_size_counted(p->length, size, sizeof size));
        n += put > 0 ? (size_t)put : 0;
    }
}

enum ws_status ws_contents_look(const struct ws_source *drive, uint32_t sector, bool deep, struct ws_contents *c,
                                struct ws_error *error) {
    uint8_t first[512];
    struct ws_table *table = malloc(sizeof *table);
    memset(c, 0, sizeof *c);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = WS_OK;
    WS_GO(ws_source_read(drive, 0, first, sizeof first, error));
    WS_GO(ws_table_read(drive, sector, table, NULL, error));
    struct ws_unfinished mark;
    struct ws_changing changing;
    c->changing = ws_changing_read(first, &changing);
    c->unfinished = c->changing || ws_is_unfinished(first);
    if (c->changing) memcpy(c->build, changing.change, sizeof c->build);
    if (ws_unfinished_read(first, &mark)) {
        memcpy(c->build, mark.build, sizeof c->build);
        c->build_flushed = mark.flushed;
        c->build_end = mark.end;
    }
    c->table = c->unfinished ? WS_TABLE_NONE : table->kind;
    const struct ws_partition *p[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(table, p);
    for (size_t i = 0; !c->unfinished && i < count && c->parts < WS_CONTENTS_MOST; i++) {
        struct ws_content *part = &c->part[c->parts++];
        part->number = p[i]->number;
        part->at = p[i]->at;
        part->length = p[i]->length;
        look_at(drive, deep, part);
    }
    if (c->parts == 0 && !c->unfinished) {
        c->part[0].length = drive->size;
        look_at(drive, deep, &c->part[0]);
        c->parts = 1;
        c->blank = strcmp(c->part[0].system, "empty") == 0;
    }
    guess(drive, c);
    summarise(c);
done:
    free(table);
    return status;
}
