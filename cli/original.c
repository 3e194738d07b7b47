/* original.c — what a twin is made of: a drive by any of its names, or an image file. */
#include "cli/cli.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

/* A drive in use changes while it is read. */
enum ws_status cli_check_idle(struct cli *cli, const struct ws_drive_facts *f) {
    if (!f->in_use_by[0] && !f->system) return WS_OK;
    ws_fail(&cli->error, WS_E_REFUSED, "%s is in use (%s), and would change while it is read", f->short_name,
            f->in_use_by[0] ? f->in_use_by : "the running system");
    ws_fail_where(&cli->error, "%s", f->id);
    return ws_fail_next(&cli->error, "unmount its volumes, or start this PC from another drive first");
}

enum ws_status cli_open_original(struct cli *cli, const char *word, struct ws_input *input, struct ws_source **source) {
    struct ws_packed_facts packed;
    struct ws_drive_facts facts;
    struct ws_drive *drive = NULL;
    struct stat s;
    input->is_drive = stat(word, &s) != 0 || !S_ISREG(s.st_mode);
    WS_TRY(cli_is_no_other(cli, word, "drive"));
    if (!input->is_drive) return ws_linux_open_image(word, source, &packed, &cli->error);
    WS_TRY(cli_find_drive(cli, word, &facts));
    WS_TRY(cli_check_idle(cli, &facts));
    (void)snprintf(input->path, sizeof input->path, "%s", facts.short_name);
    WS_TRY(cli->port->ops->open(cli->port, facts.id, WS_OPEN_READ, &drive, &cli->error));
    return ws_source_drive_own(drive, source, &cli->error);
}

enum ws_status cli_know_original(struct cli *cli, struct ws_input *input, const struct ws_source *source) {
    struct ws_original *o = malloc(sizeof *o);
    if (!o) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for an original");
    enum ws_status status = ws_original_open(source, ws_table_sector_of(source), o, &cli->error);
    if (status == WS_OK) memcpy(input->sha256, o->state, sizeof input->sha256);
    ws_original_close(o);
    free(o);
    return status;
}

/* What a virtual disk file is; nothing for any other. */
bool virtual_look(const char *path, struct ws_container_facts *facts) {
    struct ws_source *file = NULL;
    const bool is = ws_source_file(path, &file, NULL) == WS_OK && ws_container_probe(file, facts);
    ws_source_close(file);
    return is;
}

void virtual_show(const struct cli *cli, const struct ws_container_facts *f) {
    char unit[32], text[80] = "";
    if (f->unit) (void)snprintf(text, sizeof text, ", in units of %s", ws_size_counted(f->unit, unit, sizeof unit));
    show_field(cli, "Virtual disk", "%s, %s%s%s", f->format, f->variant, text,
               f->unclean ? "; it was not closed properly" : "");
    if (f->base[0]) show_field(cli, "", "it builds on %s", f->base);
}

json_t *virtual_json(const struct ws_container_facts *f) {
    return cli_pack("{s:s, s:s, s:I, s:i, s:o, s:b}", "format", f->format, "variant", f->variant, "size_bytes",
                    (json_int_t)f->size, "unit_bytes", (int)f->unit, "base",
                    f->base[0] ? cli_text(f->base) : json_null(), "unclean", f->unclean);
}

struct ws_original *original_look(const struct ws_source *source) {
    struct ws_original *o = malloc(sizeof *o);
    if (!o) return NULL;
    if (ws_original_open(source, ws_table_sector_of(source), o, NULL) == WS_OK) {
        for (size_t i = 0; i < o->facts.kernels && o->root < o->volumes; i++)
            (void)ws_kernel_look(o->volume[o->root].tree, &o->facts.kernel[i], NULL);
        return o;
    }
    original_free(o);
    return NULL;
}

void original_free(struct ws_original *o) {
    if (o) ws_original_close(o);
    free(o);
}

void original_show(const struct cli *cli, const struct ws_original *o) {
    char size[32], used[32], label[WS_LABEL_ROOM + 4], number[16];
    static const char *const parts[] = {"", ", its system's root", ", its system's kernels", ", what firmware reads"};
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        (void)snprintf(label, sizeof label, v->facts.label[0] && v->format ? " \"%s\"" : "", v->facts.label);
        ws_size_counted(v->place.length, size, sizeof size);
        (void)snprintf(number, sizeof number, v->place.number ? "%u: " : "", v->place.number);
        if (v->tree)
            show_field(cli, i ? "" : "Holds", "%s%s%s, %s; %llu files and folders, %s%s", number, v->system, label,
                       size, (unsigned long long)v->files, ws_size_counted(v->bytes, used, sizeof used),
                       parts[v->part]);
        else show_field(cli, i ? "" : "Holds", "%s%s%s, %s", number, v->system, label, size);
    }
    if (o->root < o->volumes) root_show(cli, &o->facts);
}

json_t *original_json(const struct ws_original *o) {
    json_t *list = json_array();
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        json_array_append_new(list,
                              cli_pack("{s:i, s:s, s:o, s:I, s:s, s:I, s:I}", "partition", (int)v->place.number,
                                       "system", v->system, "label", cli_text(v->format ? v->facts.label : ""),
                                       "size_bytes", (json_int_t)v->place.length, "twin", ws_twin_way_name(v->way),
                                       "files", (json_int_t)v->files, "file_bytes", (json_int_t)v->bytes));
    }
    return list;
}
