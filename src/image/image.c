/* image.c — an image looked at from all sides. */
#include "base/bytes.h"
#include "image/internal.h"
#include "wild_satchel/published.h"
#include "wild_satchel/squashfs.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>

bool ws_image_remembers(const struct ws_image *image) { return image->family && image->live_entries > 0; }

bool ws_image_files_start(const struct ws_image *image) {
    return ws_image_remembers(image) || image->kernels_32 || image->kernels_64 || image->loaders > 0;
}

const char *ws_image_kind_name(enum ws_image_kind kind) {
    static const char *const names[] = {"hybrid",  "disc",   "drive", "compressed",
                                        "archive", "folder", "root",  "unknown"};
    return names[kind];
}

bool ws_loader_look(const struct ws_source *content, struct ws_loader *loader) {
    static const struct {
        uint16_t code;
        const char *name;
    } machines[] = {{0x8664, "x86-64"}, {0x14c, "x86"}, {0xaa64, "arm64"}, {0x1c4, "arm"}, {0x5064, "riscv64"}};
    uint8_t head[4096];
    size_t length = content && content->size < sizeof head ? (size_t)content->size : sizeof head;
    if (!content || length < 256 || ws_source_read(content, 0, head, length, NULL) != WS_OK) return false;
    uint32_t pe = ws_load_le32(head + 0x3c);
    if (head[0] != 'M' || head[1] != 'Z' || pe > length - 200 || memcmp(head + pe, "PE\0\0", 4) != 0) return false;
    uint16_t machine = ws_load_le16(head + pe + 4);
    const uint8_t *optional = head + pe + 24;
    uint16_t magic = ws_load_le16(optional);
    size_t certificates = (magic == 0x20b ? 112u : 96u) + 4 * 8u; /* data directory 4 */
    (void)snprintf(loader->machine, sizeof loader->machine, "0x%04x", machine);
    for (size_t i = 0; i < sizeof machines / sizeof machines[0]; i++)
        if (machines[i].code == machine)
            (void)snprintf(loader->machine, sizeof loader->machine, "%s", machines[i].name);
    if (pe + 24 + certificates + 8 > length) return true;
    uint64_t at = ws_load_le32(optional + certificates);
    uint64_t size = ws_load_le32(optional + certificates + 4);
    loader->signed_ = size > 8 && ws_inside(at, size, content->size);
    if (loader->signed_) image_read_signer(content, at, size, loader);
    return true;
}

bool ws_esp_place(const struct ws_table *table, const struct ws_iso_facts *iso, uint64_t size, uint64_t *at,
                  uint64_t *length) {
    for (int list = 0; list < 2; list++) {
        const struct ws_partition *p = list ? table->gpt : table->mbr;
        size_t count = list ? table->gpt_count : table->mbr_count;
        for (size_t i = 0; i < count; i++) {
            const struct ws_partition_type *type = ws_partition_type_of(&p[i]);
            if (!type || strcmp(type->word, "efi") != 0 || !ws_inside(p[i].at, p[i].length, size)) continue;
            *at = p[i].at;
            *length = p[i].length;
            return true;
        }
    }
    for (size_t i = iso ? iso->boots : 0; i > 0; i--) {
        if (iso->boot[i - 1].platform != 0xef || !iso->boot[i - 1].length) continue;
        *at = iso->boot[i - 1].at;
        *length = iso->boot[i - 1].length;
        return true;
    }
    return false;
}

enum ws_status ws_esp_read(const struct ws_source *source, const struct ws_table *table, const struct ws_iso_facts *iso,
                           struct ws_source **slice, struct ws_tree **tree, struct ws_fat_facts *facts,
                           struct ws_error *error) {
    uint64_t at = 0;
    uint64_t length = 0;
    if (!ws_esp_place(table, iso, source->size, &at, &length))
        return ws_fail(error, WS_E_NOTFOUND, "there is no EFI system partition");
    WS_TRY(ws_source_slice(source, at, length, slice, error));
    enum ws_status status = ws_fat_read(*slice, tree, facts, error);
    if (status != WS_OK) {
        ws_source_close(*slice);
        *slice = NULL;
    }
    return status;
}

bool ws_esp_among_files(const struct ws_tree *medium, struct ws_tree **esp, const struct ws_node **file) {
    enum { LARGEST = 64 << 20 };
    for (const struct ws_node *n = ws_tree_root(medium); n; n = ws_tree_next(n)) {
        size_t length = strlen(n->name);
        if (n->kind != WS_NODE_FILE || !n->content || n->content->size > LARGEST || length < 5) continue;
        if (strcmp(n->name + length - 4, ".img") != 0 && strcmp(n->name + length - 4, ".IMG") != 0) continue;
        if (ws_fat_read(n->content, esp, NULL, NULL) != WS_OK) continue;
        if (ws_tree_find_any_case(*esp, "EFI/BOOT")) {
            if (file) *file = n;
            return true;
        }
        ws_tree_close(*esp);
        *esp = NULL;
    }
    return false;
}

static void look_at_loaders(struct ws_image *image, const struct ws_tree *esp) {
    struct ws_node *folder = ws_tree_find_any_case(esp, "EFI/BOOT");
    for (struct ws_node *n = folder ? folder->first : NULL; n && image->loaders < WS_LOADERS_MOST; n = n->next) {
        struct ws_loader *l = &image->loader[image->loaders];
        size_t length = strlen(n->name);
        bool boot = length > 8 && tolower((unsigned char)n->name[0]) == 'b' &&
                    tolower((unsigned char)n->name[1]) == 'o' && tolower((unsigned char)n->name[length - 3]) == 'e';
        memset(l, 0, sizeof *l);
        if (!boot || n->kind != WS_NODE_FILE || !ws_loader_look(n->content, l)) continue;
        ws_node_path(n, l->path, sizeof l->path);
        image->loaders++;
        if (strcmp(l->machine, "x86-64") == 0) image->secure_boot |= l->signed_;
    }
}

/* Loaders in the folder where firmware looks, or in the volume that discs have for it. */
static void look_at_loaders_of_files(struct ws_image *image, const struct ws_tree *tree, const struct ws_node **file) {
    struct ws_tree *esp = NULL;
    look_at_loaders(image, tree);
    if (!ws_esp_among_files(tree, &esp, file)) return;
    if (image->loaders == 0) look_at_loaders(image, esp);
    ws_tree_close(esp);
}

/* Of a drive with an MBR firmware looks through every FAT volume, whatever its type says (UEFI Specification 2.10,
 * sections 3.5.1.1 and 13.3.1). @return false if none has a loader */
static bool look_at_plain_volumes(struct ws_image *image) {
    for (size_t i = 0; i < image->table.mbr_count && !image->loaders; i++) {
        const struct ws_partition *p = &image->table.mbr[i];
        struct ws_source *slice = NULL;
        struct ws_tree *tree = NULL;
        if (!ws_inside(p->at, p->length, image->source->size) ||
            ws_source_slice(image->source, p->at, p->length, &slice, NULL) != WS_OK)
            continue;
        if (ws_fat_read(slice, &tree, NULL, NULL) == WS_OK) look_at_loaders(image, tree);
        ws_tree_close(tree);
        ws_source_close(slice);
    }
    return image->loaders > 0;
}

static enum ws_status count_menu(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                 struct ws_error *error) {
    struct ws_image *image = context;
    bool any = false;
    (void)file, (void)error;
    for (size_t i = 0; menu && i < menu->entries; i++) {
        const struct ws_menu_entry *e = &menu->entry[i];
        const struct ws_live_family *f = ws_live_family_of_parameters(e->parameters);
        if (!f && !image->family) continue;
        any = true;
        image->live_entries++;
        const struct ws_live_family *use = image->family ? image->family : f;
        char first[128];
        (void)snprintf(first, sizeof first, "%.*s", (int)strcspn(use->parameters, " "), use->parameters);
        if (ws_parameter_is_set(e->parameters, first)) image->remembering_entries++;
        if (e->is_default && !image->default_title[0]) {
            (void)snprintf(image->default_title, sizeof image->default_title, "%s", e->title);
            (void)snprintf(image->default_parameters, sizeof image->default_parameters, "%s", e->parameters);
        }
    }
    if (any) image->menus++;
    return WS_OK;
}

static void judge_starts(struct ws_image *image, bool esp_by_table) {
    static const uint8_t none[440];
    bool code = image->table.kind != WS_TABLE_NONE && memcmp(image->table.mbr_sector, none, sizeof none) != 0;
    image->starts_bios = code;
    image->starts_uefi = esp_by_table && image->loaders > 0;
    if (!image->iso) return;
    const struct ws_iso_facts *f = ws_iso_facts(image->iso);
    for (size_t i = 0; i < f->boots; i++) {
        if (f->boot[i].bootable && f->boot[i].platform == 0x00) image->starts_bios_disc = true;
        if (f->boot[i].bootable && f->boot[i].platform == 0xef) image->starts_uefi_disc = true;
    }
    if (image->kind == WS_IMAGE_DISC)
        ws_findings_add(&image->findings_whole, WS_WARNING,
                        "made for discs: laid down whole it does not start from a drive");
    if (f->implanted_check)
        ws_findings_add(&image->findings_whole, WS_NOTE,
                        "carries a checksum of the medium, which an edited menu would fail");
    if (!image->starts_bios && image->kind == WS_IMAGE_HYBRID)
        ws_findings_add(&image->findings_whole, WS_WARNING, "does not start from a drive on PCs with BIOS");
    if (!image->starts_uefi && image->kind == WS_IMAGE_HYBRID)
        ws_findings_add(&image->findings_whole, WS_WARNING, "does not start from a drive on PCs with UEFI");
    if (image->starts_uefi && !image->secure_boot)
        ws_findings_add(&image->findings_whole, WS_WARNING, "its UEFI loader is not signed: Secure Boot must be off");
    if (!image->family)
        ws_findings_add(&image->findings, WS_WARNING,
                        "no known way of remembering: its start menus belong to no live family "
                        "known here");
}

/* Descriptors of a UDF volume stand behind those of ISO 9660 (ECMA-167 2/9.1). */
static bool has_udf(const struct ws_source *source) {
    uint8_t id[6];
    for (uint64_t n = 16; n < 64; n++) {
        if (!ws_inside(n * 2048, 2048, source->size) || ws_source_read(source, n * 2048, id, 6, NULL) != WS_OK)
            return false;
        if (memcmp(id + 1, "NSR02", 5) == 0 || memcmp(id + 1, "NSR03", 5) == 0) return true;
    }
    return false;
}

/* A volume that says it ends before its files do, or far before the image does. */
static void look_at_size(struct ws_image *image, const struct ws_tree *tree) {
    uint64_t says = ws_iso_facts(image->iso)->size;
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        char path[128];
        char a[48];
        uint64_t end = ws_iso_place_of(n) + ws_node_size(n);
        if (n->kind != WS_NODE_FILE || !n->content || end <= says) continue;
        ws_findings_add(
            &image->findings, WS_FAULT,
            "its volume descriptor says it ends at %s, but the file %s lies behind that: the descriptor is wrong",
            ws_size_both(says, a, sizeof a), ws_node_path(n, path, sizeof path));
        return;
    }
}

/* Initial RAM disks are called so, too: an archive (cpio), or several, mostly packed. */
static bool is_ram_disk(const struct ws_node *n) {
    static const struct {
        const char *bytes;
        size_t length;
    } begins[] = {{"07070", 5},
                  {"\x1f\x8b", 2},
                  {"\xfd"
                   "7zXZ",
                   5},
                  {"\x28\xb5\x2f\xfd", 4},
                  {"BZh", 3},
                  {"\x02\x21\x4c\x18", 4},
                  {"\x5d\0\0", 3}};
    const struct ws_node *inode = n->same_as ? n->same_as : n;
    char head[6];
    if (!inode->content || ws_source_read(inode->content, 0, head, sizeof head, NULL) != WS_OK) return false;
    for (size_t i = 0; i < sizeof begins / sizeof begins[0]; i++)
        if (memcmp(head, begins[i].bytes, begins[i].length) == 0) return true;
    return false;
}

/* People zip an image together with its checksums: say that the image is what they want. */
static void look_for_images(struct ws_image *image, const struct ws_tree *tree, const struct ws_node *esp) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        size_t length = strlen(n->name);
        char path[160];
        const char *end = length > 4 ? n->name + length - 4 : "";
        if (n->kind == WS_NODE_FILE && n != esp && ws_node_size(n) >= 1 << 20 &&
            (strcmp(end, ".iso") == 0 || strcmp(end, ".img") == 0) && !is_ram_disk(n))
            ws_findings_add(&image->findings, WS_NOTE, "holds an image of its own, %s: unpack it and look at that",
                            ws_node_path(n, path, sizeof path));
    }
}

/* Files that are no volume yet: of an archive or folder. */
static enum ws_status look_at_loose_files(struct ws_image *image, const struct ws_tree *tree, struct ws_error *error) {
    image->family = ws_live_family_of_medium(tree, NULL);
    WS_TRY(ws_medium_menus(tree, count_menu, image, error));
    const struct ws_node *file = NULL;
    image_look_at_files(image, tree);
    look_at_loaders_of_files(image, tree, &file);
    look_for_images(image, tree, file);
    image->starts_uefi = image->loaders > 0; /* once they lie on a FAT volume */
    return WS_OK;
}

/* No image of a drive or disc: something that wraps one, or files. */
static enum ws_status inspect_other(struct ws_image *image, struct ws_error *error) {
    struct ws_squashfs_facts root;
    struct ws_tree *tree = NULL;
    enum ws_status status = ws_squashfs_probe(image->source, &root, error);
    if (status == WS_OK) {
        image->kind = WS_IMAGE_ROOT;
        image->root_bytes = root.size;
        (void)snprintf(image->root_format, sizeof image->root_format, "squashfs, %s", root.compressor);
        return WS_OK;
    }
    if (status != WS_E_NOTFOUND) return status;
    status = ws_packed_probe(image->source, &image->packed, error);
    if (status != WS_OK) return status == WS_E_NOTFOUND ? WS_OK : status;
    image->kind = image->packed.one_image ? WS_IMAGE_COMPRESSED : WS_IMAGE_ARCHIVE;
    if (image->packed.one_image) return WS_OK;
    WS_TRY(ws_archive_read(image->source, &tree, error));
    status = look_at_loose_files(image, tree, error);
    ws_tree_close(tree);
    return status;
}

enum ws_status ws_image_inspect_files(const struct ws_tree *tree, struct ws_image *image, struct ws_error *error) {
    memset(image, 0, sizeof *image);
    image->kind = WS_IMAGE_FOLDER;
    return look_at_loose_files(image, tree, error);
}

enum ws_status ws_image_inspect(const struct ws_source *source, struct ws_image *image, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *esp = NULL;
    memset(image, 0, sizeof *image);
    image->source = source;
    image->kind = WS_IMAGE_UNKNOWN;
    if (source->size == 0) {
        ws_fail(error, WS_E_FORMAT, "the file is empty");
        return ws_fail_next(error, "download or copy it again");
    }
    WS_TRY(ws_table_read(source, 512, &image->table, NULL, error));
    enum ws_status status = ws_iso_open(source, &image->iso, error);
    if (status != WS_OK && status != WS_E_NOTFOUND) return status;
    bool table = image->table.kind != WS_TABLE_NONE;
    if (image->iso) image->kind = table ? WS_IMAGE_HYBRID : WS_IMAGE_DISC;
    else if (table) image->kind = WS_IMAGE_DRIVE;
    status = WS_OK;
    if (image->kind == WS_IMAGE_UNKNOWN) {
        status = inspect_other(image, error);
        goto done;
    }
    if (image->iso) {
        struct ws_tree *tree = ws_iso_tree(image->iso);
        image->udf = ws_iso_facts(image->iso)->udf || has_udf(source);
        image->family = ws_live_family_of_medium(tree, NULL);
        WS_GO(ws_medium_menus(tree, count_menu, image, error));
        image_look_at_files(image, tree);
        look_at_size(image, tree);
    }
    bool esp_by_table = ws_esp_read(source, &image->table, NULL, &slice, &esp, &image->esp, NULL) == WS_OK;
    if (!esp_by_table && image->iso &&
        ws_esp_read(source, &image->table, ws_iso_facts(image->iso), &slice, &esp, &image->esp, NULL) != WS_OK)
        esp = NULL;
    if (esp) {
        look_at_loaders(image, esp);
        ws_tree_close(esp);
        ws_source_close(slice);
    }
    if (image->kind == WS_IMAGE_DISC && image->loaders == 0)
        look_at_loaders_of_files(image, ws_iso_tree(image->iso), NULL);
    if (!esp && image->kind == WS_IMAGE_DRIVE && image->table.kind == WS_TABLE_MBR)
        esp_by_table = look_at_plain_volumes(image);
    judge_starts(image, esp_by_table);
    if (image->iso && image->family && image->live_entries == 0)
        ws_findings_add(&image->findings, WS_WARNING, "no start menu was found that could be told to remember");
done:
    if (status != WS_OK) ws_image_free(image);
    return status;
}

void ws_image_free(struct ws_image *image) {
    ws_iso_close(image->iso);
    ws_findings_free(&image->findings);
    ws_findings_free(&image->findings_whole);
    image->iso = NULL;
}

enum ws_status ws_image_compare(const struct ws_source *source, const char *published, char hex[WS_HASH_HEX],
                                struct ws_error *error) {
    struct ws_published p;
    WS_TRY(ws_published_digest(published, &p, error));
    WS_TRY(ws_source_hash(source, p.kind, hex, error));
    if (strcmp(hex, p.hex) == 0) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "the image is not the one that was published: it has %s, published is %s", hex,
            p.hex);
    return ws_fail_next(error, "download it again; do not use this file");
}
