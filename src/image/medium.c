/* medium.c — the live system's files, wherever on a drive they stand. */
#include "image/internal.h"
#include "wild_satchel/medium.h"

#include "wild_satchel/format.h"
#include "wild_satchel/live.h"

#include <stdio.h>
#include <string.h>

enum ws_status image_read_plain(const struct ws_source *volume, const struct ws_format **format, struct ws_tree **tree,
                                struct ws_volume_facts *facts, struct ws_error *error) {
    size_t count;
    const struct ws_format *f = ws_formats(&count);
    for (size_t i = 0; i < count; i++) {
        if (!f[i].everywhere) continue;
        enum ws_status status = f[i].read(volume, tree, facts, error);
        *format = &f[i];
        if (status != WS_E_NOTFOUND) return status;
    }
    return ws_fail(error, WS_E_NOTFOUND, "there is no volume that every PC shows");
}

static bool open_partition(const struct ws_source *drive, const struct ws_partition *p, struct ws_medium *m) {
    struct ws_error ignored;
    struct ws_volume_facts facts;
    const struct ws_format *format = NULL;
    if (ws_source_slice(drive, p->at, p->length, &m->slice, &ignored) != WS_OK) return false;
    enum ws_status status = image_read_plain(m->slice, &format, &m->tree, &facts, &ignored);
    if (status == WS_OK) {
        m->firmware = format->firmware;
        (void)snprintf(m->name[WS_BY_LABEL], sizeof m->name[0], "%.47s", facts.label);
        (void)snprintf(m->name[WS_BY_UUID], sizeof m->name[0], "%s", facts.id);
    }
    bool ours = status == WS_OK && ws_tree_find_any_case(m->tree, "loader/satchel.conf"); /* of whatever family */
    if (status == WS_OK && (ours || ws_live_family_of_medium(m->tree, NULL))) {
        m->at = p->at;
        return true;
    }
    if (status == WS_OK) ws_tree_close(m->tree);
    ws_source_close(m->slice);
    m->tree = NULL;
    m->slice = NULL;
    return false;
}

enum ws_status ws_medium_open(const struct ws_source *drive, const struct ws_table *table, struct ws_medium *m,
                              struct ws_error *error) {
    size_t count;
    memset(m, 0, sizeof *m);
    enum ws_status status = ws_iso_open(drive, &m->iso, error);
    if (status == WS_OK) {
        m->tree = ws_iso_tree(m->iso);
        (void)snprintf(m->name[WS_BY_LABEL], sizeof m->name[0], "%s", ws_iso_facts(m->iso)->volume_id);
        (void)snprintf(m->name[WS_BY_UUID], sizeof m->name[0], "%s", ws_iso_facts(m->iso)->uuid);
    }
    if (status != WS_E_NOTFOUND) return status;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++)
        if (open_partition(drive, &p[i], m)) return WS_OK;
    return ws_fail(error, WS_E_NOTFOUND, "there is no live system's image on it, and no volume with one's files");
}

void ws_medium_close(struct ws_medium *m) {
    if (m->iso) ws_iso_close(m->iso);
    else ws_tree_close(m->tree);
    ws_source_close(m->slice);
    memset(m, 0, sizeof *m);
}

bool ws_medium_is_another(const struct ws_medium *m, const char *parameters, char *wanted, size_t room) {
    static const char *const said[WS_NAMED_WAYS] = {"volume labelled \"%s\"", "volume with the identifier %s"};
    for (enum ws_named_by by = 0; by < WS_NAMED_WAYS; by++) {
        char name[sizeof m->name[0]];
        if (!ws_parameters_medium(parameters, by, name, sizeof name) || strcmp(name, m->name[by]) == 0) continue;
        (void)snprintf(wanted, room, said[by], name);
        return true;
    }
    return false;
}

uint64_t ws_medium_place_of(const struct ws_medium *m, const struct ws_node *node) {
    uint64_t place = m->iso ? ws_iso_place_of(node) : node->work;
    return place ? m->at + place : 0;
}
