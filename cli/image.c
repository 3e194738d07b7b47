/* image.c — satchel image: what an image is. */
#include "cli/cli.h"

#include "port/linux/linux.h"

#include <stdio.h>
#include <string.h>

static const char *kind_in_words(enum ws_image_kind kind) {
    switch (kind) {
    case WS_IMAGE_HYBRID: return "hybrid live image: starts from discs and from drives";
    case WS_IMAGE_DISC: return "disc image (ISO 9660 without a partition table)";
    case WS_IMAGE_DRIVE: return "image of a drive";
    default: return "unknown: no image format that is known here";
    }
}

static const char *starts_on(const struct ws_image *i, char *out, size_t room) {
    (void)snprintf(out, room, "%s%s%s%s", i->starts_bios ? "BIOS" : "", i->starts_bios && i->starts_uefi ? ", " : "",
                   i->starts_uefi ? "UEFI" : "",
                   i->secure_boot && i->starts_uefi ? ", Secure Boot (signed loader)" : "");
    if (!out[0]) (void)snprintf(out, room, "nothing, laid down as it is");
    return out;
}

static json_t *image_json(const struct ws_image *i, const char *path, const char *sha256, const char *expected) {
    const struct ws_iso_facts *iso = i->iso ? ws_iso_facts(i->iso) : NULL;
    json_t *loaders = json_array();
    for (size_t k = 0; k < i->loaders; k++)
        json_array_append_new(loaders, json_pack("{s:s, s:s, s:b}", "path", i->loader[k].path, "machine",
                                                 i->loader[k].machine, "signed", i->loader[k].signed_));
    json_t *memory = i->family ? json_pack("{s:s, s:s, s:s, s:i, s:i}", "family", i->family->word, "label",
                                           i->family->label, "parameters", i->family->parameters, "live_entries",
                                           (int)i->live_entries, "remembering_entries", (int)i->remembering_entries)
                               : json_null();
    return json_pack(
        "{s:s, s:s, s:I, s:s, s:s, s:s, s:b, s:b, s:b, s:o, s:o, s:s, s:s, s:o, s:o}", "format", "wild-satchel-image",
        "path", path, "size_bytes", (json_int_t)i->source->size, "kind", ws_image_kind_name(i->kind), "title",
        iso ? iso->volume_id : "", "table", ws_table_kind_name(i->table.kind), "starts_bios", i->starts_bios,
        "starts_uefi", i->starts_uefi, "secure_boot", i->secure_boot, "loaders", loaders, "memory", memory,
        "default_entry", i->default_title, "default_parameters", i->default_parameters, "checksum",
        sha256[0] ? json_pack("{s:s, s:b}", "value", sha256, "as_published", expected != NULL) : json_null(),
        "findings", cli_findings_json(&i->findings));
}

static void show_image(const struct cli *cli, const struct ws_image *i, const char *checksum) {
    char text[128];
    const struct ws_iso_facts *iso = i->iso ? ws_iso_facts(i->iso) : NULL;
    show_line(cli, INK_BOLD, "%s", iso && iso->volume_id[0] ? iso->volume_id : "Image");
    show_field(cli, "Kind", "%s", kind_in_words(i->kind));
    show_field(cli, "Size", "%s", ws_size_both(i->source->size, text, sizeof text));
    if (i->kind != WS_IMAGE_UNKNOWN) show_field(cli, "Starts on", "%s", starts_on(i, text, sizeof text));
    for (size_t k = 0; k < i->loaders; k++)
        show_field(cli, k ? "" : "UEFI loaders", "%s (%s, %s)", i->loader[k].path, i->loader[k].machine,
                   i->loader[k].signed_ ? "signed" : "not signed");
    show_field(cli, "Table", "%s", show_table(i->table.kind));
    if (iso)
        show_field(cli, "Names", "%s%s", iso->rock_ridge ? "Rock Ridge" : "plain ISO 9660",
                   iso->joliet ? " and Joliet" : "");
    if (i->family) {
        show_field(cli, "Live family", "%s", i->family->title);
        show_field(cli, "Remembers on", "a volume labelled \"%s\"%s%s", i->family->label,
                   i->family->config_path ? " with a file " : "", i->family->config_path ? i->family->config_path : "");
        show_field(cli, "when passed", "%s", i->family->parameters);
    }
    if (i->default_title[0]) {
        show_field(cli, "Starts first", "%s", i->default_title);
        show_field(cli, "", "%s%s%s", ink(cli, INK_DIM), i->default_parameters, ink(cli, INK_PLAIN));
    }
    if (checksum[0]) show_field(cli, "Checksum", "%s", checksum);
    show_findings(cli, &i->findings);
}

int run_image(struct cli *cli, int argc, const char **argv) {
    char *expected = NULL;
    int hash = 0;
    const struct poptOption options[] = {{"published", 0, POPT_ARG_STRING, &expected, 0,
                                          "compare with this published checksum (MD5, SHA-1, SHA-256, SHA-512)", "HEX"},
                                         {"sha256", 0, POPT_ARG_NONE, &hash, 0, "work out the SHA-256", NULL},
                                         POPT_TABLEEND};
    const char *word[1] = {NULL};
    struct ws_source *source = NULL;
    struct ws_image image = {0};
    char checksum[WS_HASH_HEX] = "";
    int code = cli_options(cli, cli_command("image"), argc, argv, options, word, 1, 1);
    if (code) return code - 1;
    enum ws_status status = ws_source_file(word[0], &source, &cli->error);
    if (status == WS_OK) status = ws_image_inspect(source, &image, &cli->error);
    if (status == WS_OK && expected) status = ws_image_compare(source, expected, checksum, &cli->error);
    else if (status == WS_OK && hash) status = ws_source_hash(source, WS_HASH_SHA256, checksum, &cli->error);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", word[0]);
        code = cli_fail(cli);
    } else if (cli->json) {
        code = cli_print_json(image_json(&image, word[0], checksum, expected), EXIT_DONE);
    } else {
        show_image(cli, &image, checksum);
        bool good = image.kind != WS_IMAGE_UNKNOWN;
        bool can = image.family && image.kind == WS_IMAGE_HYBRID && image.live_entries > 0;
        const char *next = !good ? "Nothing here knows this format; a replica of it can be written all the same."
                           : can ? "It can be laid down as a live drive that remembers, or as a replica."
                                 : "It can be laid down as a replica; making it remember is not possible here.";
        show_result(cli, true, "%s%s", expected ? "The checksum is the published one. " : "", next);
        code = EXIT_DONE;
    }
    ws_image_free(&image);
    ws_source_close(source);
    return code;
}
