/* root.c — the root file system in an image, told to people and in documents. */
#include "cli/cli.h"

#include <stdio.h>
#include <string.h>

bool root_look(const struct ws_image *image, const struct ws_tree *folder, struct ws_system_facts *facts) {
    struct ws_root root = {0};
    struct ws_error ignored = {0};
    memset(facts, 0, sizeof *facts);
    if (folder) return ws_system_look(folder, facts, &ignored) == WS_OK && (facts->machine[0] || facts->kernels);
    if (!image->source ||
        ws_root_open(image->source, image->iso ? ws_iso_tree(image->iso) : NULL, &root, &ignored) != WS_OK)
        return false;
    bool is = ws_system_look(root.tree, facts, &ignored) == WS_OK;
    ws_root_close(&root);
    return is;
}

void root_show(const struct cli *cli, const struct ws_system_facts *f) {
    show_field(cli, "System", "%s%s%s, init %s", f->name[0] ? f->name : "without a name", f->machine[0] ? ", " : "",
               f->machine, ws_init_name(f->init));
    for (size_t i = 0; i < f->kernels; i++)
        show_field(cli, i ? "" : "Its kernels", "%s%s", f->kernel[i].version,
                   f->kernel[i].initrd[0] ? "" : ", without an initial RAM disk");
}

json_t *root_json(const struct ws_system_facts *f) {
    json_t *kernels = json_array();
    for (size_t i = 0; i < f->kernels; i++)
        json_array_append_new(kernels, cli_pack("{s:s, s:s, s:s}", "version", f->kernel[i].version, "path",
                                                f->kernel[i].path, "initial_ram_disk", f->kernel[i].initrd));
    return cli_pack("{s:s, s:s, s:s, s:s, s:s, s:o}", "name", f->name, "id", f->id, "release", f->version, "machine",
                    f->machine, "init", ws_init_name(f->init), "kernels", kernels);
}
