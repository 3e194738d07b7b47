/* image.c — satchel image: what an image is, whether it is the published one. */
#include "cli/commands.h"
#include "cli/history.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

/* What the comparison with published checksums came to. */
struct compared {
    char hex[WS_HASH_HEX]; /* empty: nothing was worked out */
    enum ws_hash_kind kind;
    bool as_published;
    char list[600], signature[600]; /* files found beside the image; empty if none */
    char signer[200];               /* whose key signed, if that was checked */
    uint64_t least, comfortable;    /* bytes a drive needs; 0 if it is no image of one */
    bool is_virtual;
    struct ws_container_facts disk; /* of a virtual disk file */
    struct ws_original *original;   /* what stands on the drive; NULL: it is no image of one */
};

static const char *kind_in_words(enum ws_image_kind kind) {
    switch (kind) {
    case WS_IMAGE_HYBRID: return "hybrid live image: starts from discs and from drives";
    case WS_IMAGE_DISC: return "disc image (ISO 9660 without a partition table)";
    case WS_IMAGE_DRIVE: return "image of a whole drive";
    case WS_IMAGE_ARCHIVE: return "archive of files";
    case WS_IMAGE_FOLDER: return "folder of files";
    case WS_IMAGE_ROOT: return "squashfs volume: the root of a system";
    case WS_IMAGE_COMPRESSED: return "compressed image";
    default: return "unknown: no image format that is known here";
    }
}

static const char *starts_on(const struct ws_image *i, char *out, size_t room) {
    size_t n = 0;
    out[0] = '\0';
    if (i->kind == WS_IMAGE_ARCHIVE || i->kind == WS_IMAGE_FOLDER) {
        bool kernel = i->kernels_32 || i->kernels_64;
        bool uefi = i->kernels_64 || i->loaders > 0;
        (void)snprintf(out, room, "%s%s%s%s%s", kernel || uefi ? "file by file: " : "nothing", kernel ? "BIOS" : "",
                       kernel && uefi ? ", " : "", uefi ? "UEFI" : "",
                       i->secure_boot ? ", Secure Boot (signed loader)" : "");
        return out;
    }
    if (i->starts_bios) n += (size_t)snprintf(out, room, "BIOS");
    if (i->starts_uefi)
        n += (size_t)snprintf(out + n, room - n, "%sUEFI%s", n ? ", " : "",
                              i->secure_boot ? ", Secure Boot (signed loader)" : "");
    bool disc = (i->starts_bios_disc && !i->starts_bios) || (i->starts_uefi_disc && !i->starts_uefi);
    if (disc)
        n += (size_t)snprintf(
            out + n, room - n, "%sas a disc on %s%s%s", n ? "; " : "", i->starts_bios_disc ? "BIOS" : "",
            i->starts_bios_disc && i->starts_uefi_disc ? " and " : "", i->starts_uefi_disc ? "UEFI" : "");
    if (n == 0) (void)snprintf(out, room, "nothing, laid down as it is");
    return out;
}

static const char *kernels(const struct ws_image *i) {
    return i->kernels_32 && i->kernels_64 ? "32 and 64 bits"
           : i->kernels_64                ? "64 bits"
           : i->kernels_32                ? "32 bits"
                                          : "";
}

static json_t *text_or_null(const char *text) { return text[0] ? cli_text(text) : json_null(); }

static json_t *size_or_null(uint64_t bytes) { return bytes ? json_integer((json_int_t)bytes) : json_null(); }

/* What a live image offers to become a full system. */
static void look_at_editions(const struct ws_image *i, struct ws_editions *all) {
    memset(all, 0, sizeof *all);
    if (i->iso) ws_editions_look(ws_iso_tree(i->iso), all);
}

static json_t *editions_of(const struct ws_image *i) {
    struct ws_editions all;
    look_at_editions(i, &all);
    return editions_json(&all);
}

static json_t *image_json(const struct ws_image *i, const struct ws_system_facts *system, const char *path,
                          const struct compared *c, uint64_t size) {
    const struct ws_iso_facts *iso = i->iso ? ws_iso_facts(i->iso) : NULL;
    json_t *loaders = json_array();
    for (size_t k = 0; k < i->loaders; k++)
        json_array_append_new(loaders,
                              cli_pack("{s:s, s:s, s:b, s:o, s:o}", "path", i->loader[k].path, "machine",
                                       i->loader[k].machine, "signed", i->loader[k].signed_, "signer",
                                       text_or_null(i->loader[k].signer), "issuer", text_or_null(i->loader[k].issuer)));
    json_t *memory =
        i->family ? cli_pack("{s:s, s:s, s:s, s:i, s:i, s:o}", "family", i->family->word, "label", i->family->label,
                             "parameters", i->family->parameters, "live_entries", (int)i->live_entries,
                             "remembering_entries", (int)i->remembering_entries, "ability", ability_json(i))
                  : json_null();
    json_t *checksum = c->hex[0] ? cli_pack("{s:s, s:s, s:b, s:o}", "value", c->hex, "kind", ws_hash_name(c->kind),
                                            "as_published", c->as_published, "list", text_or_null(c->list))
                                 : json_null();
    json_t *files = cli_pack("{s:I, s:I, s:I, s:o}", "count", (json_int_t)i->files, "bytes", (json_int_t)i->file_bytes,
                             "too_large_for_fat", (json_int_t)i->large_files, "largest", text_or_null(i->largest_path));
    json_t *findings = cli_findings_json(&i->findings);
    json_t *whole = cli_findings_json(&i->findings_whole);
    json_array_extend(findings, whole);
    json_decref(whole);
    json_t *root = i->root_format[0] ? cli_pack("{s:s, s:s, s:I}", "path", i->root_path, "format", i->root_format,
                                                "size_bytes", (json_int_t)i->root_bytes)
                                     : json_null();
    const struct ws_original *o = c->original;
    if (o && o->root < o->volumes) system = &o->facts;
    return cli_pack(
        "{s:s, s:s, s:I, s:s, s:o, s:s, s:s, s:b, s:b, s:b, s:b, s:s, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:s, "
        "s:s, s:o, s:o, s:o, s:o, s:o, s:o}",
        "format", "wild-satchel-image", "path", path, "size_bytes", (json_int_t)size, "kind",
        ws_image_kind_name(i->kind), "packed_as", text_or_null(i->packed.format), "title", iso ? iso->volume_id : "",
        "table", ws_table_kind_name(i->table.kind), "udf", i->udf, "starts_bios", i->starts_bios, "starts_uefi",
        i->starts_uefi, "secure_boot", i->secure_boot, "kernels", kernels(i), "loaders", loaders, "memory", memory,
        "files", files, "root", root, "system", system ? root_json(system) : json_null(), "editions", editions_of(i),
        "least_drive_bytes", size_or_null(c->least), "comfortable_drive_bytes", size_or_null(c->comfortable),
        "default_entry", i->default_title, "default_parameters", i->default_parameters, "checksum", checksum,
        "signature", text_or_null(c->signature), "signed_by", text_or_null(c->signer), "virtual_disk",
        c->is_virtual ? virtual_json(&c->disk) : json_null(), "volumes",
        c->original ? original_json(c->original) : json_array(), "findings", findings);
}

static void show_iso(const struct cli *cli, const struct ws_image *i) {
    const struct ws_iso_facts *iso = ws_iso_facts(i->iso);
    show_field(cli, "Names", "%s%s%s", iso->rock_ridge ? "Rock Ridge" : "plain ISO 9660",
               iso->joliet ? " and Joliet" : "",
               iso->udf_holds_more ? ", with a UDF volume that says more: its files count"
               : i->udf            ? ", with a UDF volume beside it"
                                   : "");
}

static void show_image(const struct cli *cli, const struct ws_image *i, const struct ws_system_facts *system,
                       const char *path, uint64_t size, const struct compared *c) {
    char text[256], other[64];
    const char *slash = strrchr(path, '/');
    const struct ws_iso_facts *iso = i->iso ? ws_iso_facts(i->iso) : NULL;
    show_line(cli, INK_BOLD, "%s", iso && iso->volume_id[0] ? iso->volume_id : slash && slash[1] ? slash + 1 : path);
    show_field(cli, "Kind", "%s", kind_in_words(i->kind));
    if (i->packed.format[0]) show_field(cli, "Packed as", "%s", i->packed.format);
    if (c->is_virtual) virtual_show(cli, &c->disk);
    show_field(cli, "Size", "%s", ws_size_both(size, text, sizeof text));
    bool starts = i->kind != WS_IMAGE_UNKNOWN && i->kind != WS_IMAGE_ROOT;
    if (starts) show_field(cli, "Starts on", "%s", starts_on(i, text, sizeof text));
    if (kernels(i)[0]) show_field(cli, "Kernels", "%s", kernels(i));
    for (size_t k = 0; k < i->loaders; k++) {
        const struct ws_loader *l = &i->loader[k];
        show_field(cli, k ? "" : "UEFI loaders", "%s (%s, %s)", l->path, l->machine,
                   l->signed_ ? "signed" : "not signed");
        if (l->signer[0]) show_field(cli, "", "  signed by %s, under %s", l->signer, l->issuer);
    }
    if (i->source && i->kind <= WS_IMAGE_DRIVE) show_field(cli, "Table", "%s", show_table(i->table.kind));
    if (iso) show_iso(cli, i);
    if (i->files)
        show_field(cli, "Files", "%llu, %s", (unsigned long long)i->files,
                   ws_size_both(i->file_bytes, text, sizeof text));
    if (i->large_files)
        show_field(cli, "", "%llu of them of 4 GiB or more, which FAT32 cannot hold: %s",
                   (unsigned long long)i->large_files, i->largest_path);
    if (i->root_format[0])
        show_field(cli, "Root", "%s%s%s, %s", i->root_path, i->root_path[0] ? ": " : "", i->root_format,
                   ws_size_counted(i->root_bytes, other, sizeof other));
    if (c->original) original_show(cli, c->original);
    if (system) root_show(cli, system);
    struct ws_editions editions;
    look_at_editions(i, &editions);
    editions_show(cli, &editions);
    if (i->family) {
        show_field(cli, "Live family", "%s", i->family->title);
        show_field(cli, "Remembers on", "a volume labelled \"%s\"%s%s", i->family->label,
                   i->family->config_path ? " with a file " : "", i->family->config_path ? i->family->config_path : "");
        show_field(cli, "when passed", "%s", i->family->parameters);
        ability_show(cli, i);
    }
    if (i->default_title[0]) {
        show_field(cli, "Starts first", "%s", i->default_title);
        show_field(cli, "", "%s%s%s", ink(cli, INK_DIM), i->default_parameters, ink(cli, INK_PLAIN));
    }
    if (c->least)
        show_field(cli, "Needs", "a drive of at least %s; comfortable is %s", ws_size_both(c->least, text, sizeof text),
                   ws_size_both(c->comfortable, other, sizeof other));
    if (c->hex[0]) show_field(cli, ws_hash_name(c->kind), "%s", c->hex);
    if (c->list[0]) show_field(cli, "Listed in", "%s", c->list);
    if (c->signer[0]) show_field(cli, "Signed by", "%s", c->signer);
    else if (c->signature[0])
        show_field(cli, "Signature", "%s, not checked: --keyring FILE names the publisher's keys", c->signature);
    show_findings(cli, &i->findings);
    show_findings(cli, &i->findings_whole);
}

static enum ws_status hash_file(struct cli *cli, const char *path, enum ws_hash_kind kind, char *hex) {
    struct ws_source *file = NULL, *counted = NULL;
    WS_TRY(ws_source_file(path, &file, &cli->error));
    busy_begin(cli, "working out the checksum of %.100s", path);
    enum ws_status status = busy_count(file, 1, &counted, &cli->error);
    if (status == WS_OK) status = ws_source_hash(counted, kind, hex, &cli->error);
    ws_source_close(counted);
    busy_end();
    ws_source_close(file);
    return status;
}

/* The file as it was downloaded, compared with what --published says or a list beside it. */
static enum ws_status compare(struct cli *cli, const char *path, const char *published, struct compared *c) {
    struct ws_published p;
    struct ws_text list = {0};
    enum ws_status status = WS_OK;
    struct stat s;
    bool given = published && (stat(published, &s) != 0 || !S_ISREG(s.st_mode));
    if (given) {
        status = ws_published_digest(published, &p, &cli->error);
        if (status != WS_OK) ws_fail_next(&cli->error, "give a whole checksum, or the path of a list of them");
        if (status != WS_OK) goto done;
    } else {
        if (published) (void)snprintf(c->list, sizeof c->list, "%s", published);
        else if (!ws_linux_find_published(path, c->list, sizeof c->list)) goto done;
        WS_GO(cli_read_file(c->list, 4 << 20, &list, &cli->error));
        status = ws_published_find(list.data ? list.data : "", list.length, path, &p, &cli->error);
        if (status != WS_OK) ws_fail_where(&cli->error, "%s", c->list);
        if (status != WS_OK) goto done;
    }
    c->kind = p.kind;
    WS_GO(hash_file(cli, path, p.kind, c->hex));
    c->as_published = strcmp(c->hex, p.hex) == 0;
    if (!c->as_published) {
        ws_fail(&cli->error, WS_E_DIFFERENT, "the image is not the one that was published: it has %s, published is %s",
                c->hex, p.hex);
        ws_fail_where(&cli->error, "%s", path);
        status = ws_fail_next(&cli->error, "download it again; do not use this file");
    }
done:
    ws_text_free(&list);
    return status;
}

/* A signature of the list, or of the image itself. */
static enum ws_status check_signature(struct cli *cli, const char *path, const char *keyring, struct compared *c) {
    const char *signed_file = c->list[0] ? c->list : path;
    if (!ws_linux_find_signature(signed_file, c->signature, sizeof c->signature)) {
        signed_file = path;
        (void)ws_linux_find_signature(path, c->signature, sizeof c->signature);
    }
    if (!keyring) return WS_OK;
    if (!c->signature[0]) {
        ws_fail(&cli->error, WS_E_NOTFOUND, "there is no signature beside the image or its list of checksums");
        ws_fail_where(&cli->error, "%s", path);
        return ws_fail_next(&cli->error, "download it beside the image (.asc, .sig, .sign, .gpg)");
    }
    return ws_linux_check_signature(keyring, c->signature, signed_file, c->signer, sizeof c->signer, &cli->error);
}

static const char *next_step(const struct ws_image *i, const struct ws_system_facts *system) {
    bool remembers = ws_image_remembers(i);
    bool drive = i->kind == WS_IMAGE_HYBRID || i->kind == WS_IMAGE_DISC || i->kind == WS_IMAGE_DRIVE;
    if (system && system->kernels && !drive) return "It can become a full system: satchel plan --kind system.";
    switch (i->kind) {
    case WS_IMAGE_HYBRID:
        return remembers ? "It can be laid down as a live drive that remembers, whole or file by file, as a full "
                           "system, or as a replica."
                         : "It can be laid down as a replica; making it remember takes a description of its family.";
    case WS_IMAGE_DISC:
    case WS_IMAGE_ARCHIVE:
    case WS_IMAGE_FOLDER:
        return remembers ? "Its files can be laid down as a live drive that remembers."
               : ws_image_files_start(i)
                   ? "Its files can be laid down, to start and forget; making it remember takes a description of "
                     "its family."
                   : "Nothing in it starts a PC.";
    case WS_IMAGE_DRIVE:
        return "It can be carried over to another drive: satchel twin FILE --drive DRIVE; or laid down as a replica.";
    case WS_IMAGE_COMPRESSED: return "It holds another image: unpack it, and look at that.";
    case WS_IMAGE_ROOT: return "A system's root alone starts nothing: a kernel belongs to it.";
    default: return "Nothing here knows this format; a replica of it can be written all the same.";
    }
}

static char *published, *keyring;
static int hash, quick;
const struct poptOption image_options[] = {
    {"published", 0, POPT_ARG_STRING, &published, 0,
     "compare with this published checksum, or with the one in this list (a list beside the image is found by "
     "itself)",
     "HEX|FILE"},
    {"keyring", 0, POPT_ARG_STRING, &keyring, 0, "check the detached signature with the public keys in this file",
     "FILE"},
    {"sha256", 0, POPT_ARG_NONE, &hash, 0, "work out the SHA-256", NULL},
    {"quick", 'q', POPT_ARG_NONE, &quick, 0,
     "do not compare with a list that lies beside the image, nor look for a root in an archive", NULL},
    POPT_TABLEEND};

/* For the passports of drives that are made from it. */
static void note_found(struct cli *cli, const char *path, const struct compared *c) {
    char verdict[700];
    if (!c->as_published || c->kind != WS_HASH_SHA256) return;
    if (c->signer[0]) (void)snprintf(verdict, sizeof verdict, "the published one, signed by %s", c->signer);
    else
        (void)snprintf(verdict, sizeof verdict, "the published one%s; no signature was checked",
                       c->list[0] ? ", by its list of checksums" : "");
    history_note_image(cli, c->hex, path, verdict);
}

/* An image file: what it is, how much it needs, and whether it is the published one. */
static enum ws_status look_at_file(struct cli *cli, const char *path, struct ws_source **source, struct ws_image *image,
                                   struct compared *c) {
    struct ws_packed_facts packed = {0};
    struct ws_packages packages;
    busy_begin(cli, "opening %.100s, unpacked where it is packed", path);
    enum ws_status status = cli_is_no_other(cli, path, "image");
    if (status == WS_OK) status = ws_linux_open_image(path, source, &packed, &cli->error);
    busy_end();
    WS_TRY(status);
    WS_TRY(ws_image_inspect(*source, image, &cli->error));
    if (packed.format[0]) image->packed = packed;
    c->is_virtual = virtual_look(path, &c->disk);
    if (image->kind == WS_IMAGE_DRIVE) c->original = original_look(*source);
    WS_TRY(ws_packages_of_image(image, &packages, &cli->error));
    WS_TRY(ws_image_needs(image, &packages, &c->least, &c->comfortable, &cli->error));
    if (published || !quick) WS_TRY(compare(cli, path, published, c));
    WS_TRY(check_signature(cli, path, keyring, c));
    note_found(cli, path, c);
    if (!hash || (c->hex[0] && c->kind == WS_HASH_SHA256)) return WS_OK;
    c->kind = WS_HASH_SHA256;
    c->as_published = false;
    return hash_file(cli, path, c->kind, c->hex);
}

int run_image(struct cli *cli, const char *const word[]) {
    struct ws_system_facts *facts = calloc(1, sizeof *facts);
    struct ws_source *source = NULL;
    struct ws_tree *folder = NULL;
    struct ws_image image = {0};
    struct compared c = {0};
    struct stat s;
    enum ws_status status = WS_OK;
    int code = EXIT_DONE;
    if (!facts) WS_GO(ws_fail(&cli->error, WS_E_NOMEM, "out of memory for an image"));
    bool is_folder = stat(word[0], &s) == 0 && S_ISDIR(s.st_mode);
    if (is_folder) {
        WS_GO(ws_tree_from_folder(word[0], &folder, &cli->error));
        WS_GO(ws_image_inspect_files(folder, &image, &cli->error));
    } else {
        WS_GO(look_at_file(cli, word[0], &source, &image, &c));
    }
    struct ws_error ignored = {0};
    if (image.kind == WS_IMAGE_ARCHIVE && !quick && ws_archive_read(source, &folder, &ignored) != WS_OK)
        folder = NULL; /* what is wrong with it was found above */
    uint64_t size = is_folder ? image.file_bytes : source->size;
    const struct ws_system_facts *system = root_look(&image, folder, facts) ? facts : NULL;
    if (cli->json) {
        code = cli_print_json(image_json(&image, system, word[0], &c, size), EXIT_DONE);
    } else {
        show_image(cli, &image, system, word[0], size, &c);
        show_result(cli, true, "%s%s", c.as_published ? "The checksum is the published one. " : "",
                    next_step(&image, system));
        code = EXIT_DONE;
    }
done:
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", word[0]);
        code = cli_fail(cli);
    }
    free(facts);
    ws_image_free(&image);
    ws_tree_close(folder);
    original_free(c.original);
    ws_source_close(source);
    return code;
}
