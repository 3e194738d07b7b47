/* root.c — the root file system in an image, told to people and in documents. */
#include "cli/cli.h"

#include <stdio.h>
#include <string.h>

enum { WORDS = 320 };

/* What cannot be read stays unknown, and is told as that. */
static void look_inside(const struct ws_tree *root, struct ws_system_facts *facts) {
    struct ws_error ignored = {0};
    for (size_t i = 0; i < facts->kernels; i++) (void)!ws_kernel_look(root, &facts->kernel[i], &ignored);
}

bool root_look(const struct ws_image *image, const struct ws_tree *folder, struct ws_system_facts *facts) {
    struct ws_root root = {0};
    struct ws_error ignored = {0};
    memset(facts, 0, sizeof *facts);
    if (folder) {
        if (ws_system_look(folder, facts, &ignored) != WS_OK) return false;
        look_inside(folder, facts);
        return facts->machine[0] || facts->kernels;
    }
    if (!image->source ||
        ws_root_open(image->source, image->iso ? ws_iso_tree(image->iso) : NULL, NULL, &root, &ignored) != WS_OK)
        return false;
    bool is = ws_system_look(root.tree, facts, &ignored) == WS_OK;
    if (is) look_inside(root.tree, facts);
    ws_root_close(&root);
    return is;
}

/* What its initial RAM disk is good for. */
static const char *initrd_words(const struct ws_kernel *k, char out[WORDS]) {
    char names[120];
    (void)ws_driver_names(ws_kernel_unsure(k), names, sizeof names);
    if (!k->initrd[0]) (void)snprintf(out, WORDS, ", without an initial RAM disk");
    else if (!k->known) (void)snprintf(out, WORDS, ", its initial RAM disk cannot be read");
    else
        (void)snprintf(out, WORDS, ", initial RAM disk by %s: %u drivers, %s%s%s",
                       k->inside.maker[0] ? k->inside.maker : "an unknown program", (unsigned)k->inside.modules,
                       names[0] ? (ws_kernel_lacks(k) ? "lacks " : "without ") : "finds USB drives and ext4", names,
                       ws_kernel_cannot_unlock(k) ? "" : ", can ask for a passphrase");
    return out;
}

void root_show(const struct cli *cli, const struct ws_system_facts *f) {
    show_field(cli, "System", "%s%s%s, init %s", f->name[0] ? f->name : "without a name", f->machine[0] ? ", " : "",
               f->machine, ws_init_name(f->init));
    char words[WORDS];
    if (f->leftovers[0])
        show_field(cli, "", "was a live system: %s; a full system is made without what those do", f->leftovers);
    for (size_t i = 0; i < f->kernels; i++)
        show_field(cli, i ? "" : "Its kernels", "%s%s", f->kernel[i].version, initrd_words(&f->kernel[i], words));
}

static json_t *drivers_json(uint32_t set) {
    json_t *list = json_array();
    for (unsigned i = 0; i < WS_DRIVERS; i++)
        if (set >> i & 1) json_array_append_new(list, json_string(ws_driver_name((enum ws_driver)i)));
    return list;
}

static json_t *inside_json(const struct ws_kernel *k) {
    if (!k->known) return json_null();
    return cli_pack(
        "{s:s, s:I, s:b, s:o, s:o, s:o}", "made_by", k->inside.maker, "modules", (json_int_t)k->inside.modules,
        "opens_locked", k->inside.cryptsetup, "drivers", drivers_json(k->inside.drivers), "built_in",
        k->built_in_known ? drivers_json(k->built_in) : json_null(), "lacks", drivers_json(ws_kernel_lacks(k)));
}

json_t *root_json(const struct ws_system_facts *f) {
    json_t *kernels = json_array();
    for (size_t i = 0; i < f->kernels; i++)
        json_array_append_new(kernels, cli_pack("{s:s, s:s, s:s, s:o}", "version", f->kernel[i].version, "path",
                                                f->kernel[i].path, "initial_ram_disk", f->kernel[i].initrd, "inside",
                                                inside_json(&f->kernel[i])));
    return cli_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:o}", "name", f->name, "id", f->id, "release", f->version,
                    "machine", f->machine, "init", ws_init_name(f->init), "left_of_live", f->leftovers, "kernels",
                    kernels);
}

/* What there is to choose from; nothing is said where there is no choice. */
void editions_show(const struct cli *cli, const struct ws_editions *all) {
    char size[48];
    for (size_t i = 0; i < all->count; i++) {
        const struct ws_edition *e = &all->edition[i];
        if (!e->id[0]) continue;
        show_field(cli, i ? "" : "Editions", "%s%s%s, %s in %zu layer%s%s", e->id, e->name[0] ? ": " : "", e->name,
                   ws_size_both(e->bytes, size, sizeof size), e->layers, e->layers == 1 ? "" : "s",
                   e->is_default ? "; the usual one" : "");
    }
}

json_t *editions_json(const struct ws_editions *all) {
    json_t *list = json_array();
    for (size_t i = 0; i < all->count; i++)
        if (all->edition[i].id[0])
            json_array_append_new(list, cli_pack("{s:s, s:s, s:b, s:I, s:I}", "id", all->edition[i].id, "name",
                                                 all->edition[i].name, "usual", all->edition[i].is_default, "bytes",
                                                 (json_int_t)all->edition[i].bytes, "layers",
                                                 (json_int_t)all->edition[i].layers));
    return list;
}

static bool ability_of(const struct ws_image *image, struct ws_live_ability *ability, struct ws_error *why) {
    return image->family && image->iso &&
           ws_live_ability_look(ws_iso_tree(image->iso), image->family, ability, why) == WS_OK;
}

static const uint32_t of_memory =
    1u << WS_DRIVER_EXT4 | 1u << WS_DRIVER_VFAT | 1u << WS_DRIVER_EXFAT | 1u << WS_DRIVER_LOOP;

void ability_show(const struct cli *cli, const struct ws_image *image) {
    struct ws_live_ability a;
    struct ws_error why = {0};
    char names[120];
    if (!image->family || !image->iso) return;
    if (!ability_of(image, &a, &why)) {
        show_field(cli, "Its scripts", "not read: %s", why.what);
        return;
    }
    const char *memory = !a.scripts                               ? "no scripts of this family known here"
                         : !a.parameter || (!a.volume && !a.file) ? "know nothing of remembering so"
                         : a.volume && a.file                     ? "remember in a partition, or in a file"
                         : a.volume                               ? "remember in a partition, not in a file"
                                                                  : "remember in a file, not in a partition";
    show_field(cli, "Its scripts", "%s (%s%s%s)", memory, a.initrd, a.maker[0] ? ", made by " : "", a.maker);
    if (a.scripts && a.locked) show_field(cli, "", "open a locked partition, too");
    show_field(cli, "", "with the drivers %s%s%s", ws_driver_names(a.drivers & of_memory, names, sizeof names),
               a.drivers & of_memory ? "" : "none", a.built_in ? "" : "; what its kernel has built in is not said");
}

json_t *ability_json(const struct ws_image *image) {
    struct ws_live_ability a;
    char names[120];
    if (!ability_of(image, &a, NULL)) return json_null();
    return cli_pack("{s:s, s:s, s:b, s:b, s:b, s:b, s:b, s:s, s:b}", "initrd", a.initrd, "maker", a.maker, "scripts",
                    a.scripts, "knows_parameter", a.parameter, "in_partition", a.scripts && a.parameter && a.volume,
                    "in_file", a.scripts && a.parameter && a.file, "locked", a.scripts && a.locked, "drivers",
                    ws_driver_names(a.drivers & of_memory, names, sizeof names), "says_what_is_built_in", a.built_in);
}
