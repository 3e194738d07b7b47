/* originals.c — made-up drives, composed here, and their volumes looked at by other programs. */
#include "tests/originals.h"

#include "base/bytes.h"

#include <unistd.h>

void original_guid(unsigned n, struct ws_guid *id) {
    for (unsigned i = 0; i < 16; i++) id->byte[i] = (uint8_t)(n * 29 + i * 7 + 1);
    ws_guid_from_random(id);
}

void original_begin(struct original *o, uint64_t size, bool gpt) {
    struct ws_guid id;
    memset(o, 0, sizeof *o);
    original_guid(200, &id);
    if (gpt) ws_table_new_gpt(&o->table, size, 512, &id);
    else ws_table_new_mbr(&o->table, size, 512, 0x1234abcd);
    o->end = MIB;
    if (ws_layout_create(size, &o->layout, &error) != WS_OK) abort();
}

bool original_add(struct original *o, const char *format, const char *label, uint64_t size, struct ws_tree *tree,
                  const char *signature) {
    const struct ws_format *f = format ? ws_format_find(format) : NULL;
    const size_t n = o->volumes++;
    struct ws_guid part;
    unsigned number;
    original_guid((unsigned)n + 1, &o->id[n]);
    original_guid((unsigned)n + 50, &part);
    o->at[n] = o->end;
    o->size[n] = size;
    o->format[n] = format;
    o->tree[n] = tree;
    o->end += ws_round_up(size, MIB);
    const char *type = !f ? "linux" : strcmp(label, "EFI") == 0 ? "efi" : f->type;
    bool good = ws_table_add(&o->table, o->at[n], size, type, &part, label, &number, &error) == WS_OK;
    if (!f) return good && ws_layout_add_bytes(o->layout, o->at[n], signature, 512, WS_PHASE_BODY, &error) == WS_OK;
    struct ws_volume_params params = {
        .size = size, .id = o->id[n], .seed = o->id[n], .sector = 512, .align = 65536, .made_at = 1700000000};
    snprintf(params.label, sizeof params.label, "%s", label);
    if (!tree && ws_tree_create(&o->tree[n], &error) != WS_OK) abort();
    return good && f->compose(&params, o->tree[n], o->at[n], o->layout, NULL, &error) == WS_OK;
}

bool original_finish(struct original *o) {
    return ws_table_compose(&o->table, o->layout, &error) == WS_OK && ws_layout_seal(o->layout, &error) == WS_OK &&
           ws_layout_source(o->layout, &o->source, &error) == WS_OK;
}

void original_end(struct original *o) {
    ws_source_close(o->source);
    ws_layout_close(o->layout);
    for (size_t i = 0; i < o->volumes; i++) ws_tree_close(o->tree[i]);
}

struct ws_tree *read_back(const struct ws_source *drive, const struct ws_volume *v, struct ws_source **slice) {
    static const struct {
        const char *format, *program, *command;
    } judges[] = {{"ext4", "e2fsck", "e2fsck -fn '%s' 2>&1"},
                  {"fat32", "fsck.fat", "fsck.fat -n '%s' 2>&1"},
                  {"exfat", "fsck.exfat", "fsck.exfat -n '%s' 2>&1"}};
    struct ws_volume_facts facts;
    struct ws_tree *tree = NULL;
    if (ws_source_slice(drive, v->at, v->size, slice, &error) != WS_OK) abort();
    const struct ws_format *f = ws_format_find(v->format);
    if (f->read(*slice, &tree, &facts, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s: %s", v->format, error.what);
        return NULL;
    }
    CHECK_INT(facts.free_bytes, v->free_bytes);
    const char *path = scratch("volume");
    save_source(*slice, path);
    for (size_t i = 0; i < 3; i++) {
        struct ws_text out = {0};
        if (strcmp(judges[i].format, v->format) != 0 || !have_program(judges[i].program)) continue;
        int rc = shell(&out, judges[i].command, path);
        if (rc) fail_at(__FILE__, __LINE__, "%s: %s", judges[i].program, out.data);
        ws_text_free(&out);
    }
    unlink(path);
    return tree;
}
