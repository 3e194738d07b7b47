/* memory.c — would this drive remember? Looked at from outside: menu, label, volume, room. */
#include "wild_satchel/image.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/proof.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

const char *ws_forgets_name(enum ws_forgets cause) {
    static const char *const names[] = {"none", "no-system", "parameter", "label", "volume", "not-clean", "full"};
    return names[cause];
}

struct menus {
    struct ws_memory *memory;
    bool any, all;
    char missing[128];
};

static enum ws_status look_at_menu(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                   struct ws_error *error) {
    struct menus *m = context;
    const struct ws_menu_entry *e = menu ? ws_menu_default(menu) : NULL;
    (void)file, (void)error;
    if (!e || !ws_live_family_of_parameters(e->parameters)) return WS_OK;
    if (!m->any) (void)snprintf(m->memory->parameters, sizeof m->memory->parameters, "%s", e->parameters);
    m->any = true;
    for (const char *rest = m->memory->family->parameters; *rest;) {
        char word[128];
        size_t n = strcspn(rest, " ");
        (void)snprintf(word, sizeof word, "%.*s", (int)n, rest);
        if (!ws_parameter_is_set(e->parameters, word)) {
            m->all = false;
            if (!m->missing[0]) memcpy(m->missing, word, sizeof word);
        }
        rest += n + (rest[n] == ' ');
    }
    return WS_OK;
}

static enum ws_status because(struct ws_memory *m, enum ws_forgets cause, const char *text, const char *detail) {
    m->cause = cause;
    (void)snprintf(m->cause_text, sizeof m->cause_text, text, detail);
    return WS_OK;
}

static enum ws_status look_at_volume(const struct ws_source *drive, struct ws_memory *m, const struct ws_table *table,
                                     struct ws_error *error) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        struct ws_tree *tree = NULL;
        struct ws_error inner = {0};
        if (ws_source_slice(drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        bool mine = ws_ext4_probe(slice, &m->volume, NULL) == WS_OK && strcmp(m->volume.label, m->family->label) == 0;
        if (!mine) {
            ws_source_close(slice);
            continue;
        }
        m->volume_at = p[i].at;
        m->volume_size = p[i].length;
        enum ws_status status = ws_ext4_read(slice, &tree, NULL, &inner);
        bool complete = status == WS_OK;
        if (complete && m->family->config_path) {
            const struct ws_node *config = ws_tree_find(tree, m->family->config_path);
            char *text = NULL;
            size_t length = 0;
            complete =
                config && config->content && ws_source_load(config->content, 65536, &text, &length, error) == WS_OK;
            /* the file must name a place; a comment alone does not */
            complete = complete && strchr(text, '/') != NULL;
            free(text);
        }
        for (size_t k = 0; complete && k < 3 && m->family->folders[k]; k++)
            complete = ws_tree_find(tree, m->family->folders[k]) != NULL;
        ws_tree_close(tree);
        ws_source_close(slice);
        if (status == WS_E_NOMEM) return ws_fail(error, WS_E_NOMEM, "%s", inner.what);
        if (status != WS_OK)
            return because(m, WS_FORGETS_VOLUME, "the persistence volume cannot be read: %s", inner.what);
        if (!complete)
            return because(m, WS_FORGETS_VOLUME, "the persistence volume lacks what the live system wants on it (%s)",
                           m->family->config_path ? m->family->config_path : m->family->folders[0]);
        if (!m->volume.clean && !m->volume.needs_recovery)
            return because(m, WS_FORGETS_NOT_CLEAN, "the persistence volume \"%s\" carries recorded errors: check it",
                           m->family->label);
        if (m->volume.free_bytes < 256 * 1024)
            return because(m, WS_FORGETS_FULL, "the persistence volume \"%s\" is full", m->family->label);
        return because(m, WS_FORGETS_NOT, "%s", "");
    }
    memset(&m->volume, 0, sizeof m->volume);
    return because(m, WS_FORGETS_LABEL, "no partition of the drive holds a volume labelled \"%s\"", m->family->label);
}

enum ws_status ws_memory_look(const struct ws_source *drive, struct ws_memory *m, struct ws_error *error) {
    struct ws_medium medium = {0};
    struct ws_table *table = malloc(sizeof *table);
    struct ws_error inner = {0};
    memset(m, 0, sizeof *m);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = WS_OK;
    WS_GO(ws_table_read(drive, 512, table, NULL, error));
    if (ws_medium_open(drive, table, &medium, &inner) != WS_OK) {
        status = because(m, WS_FORGETS_NO_SYSTEM, "no live system can be read from this drive: %s", inner.what);
        goto done;
    }
    m->family = ws_live_family_of_medium(medium.tree);
    if (!m->family) {
        status =
            because(m, WS_FORGETS_NO_SYSTEM, "%s", "the system on this drive belongs to no live family known here");
        goto done;
    }
    struct menus menus = {.memory = m, .all = true};
    WS_GO(ws_medium_menus(medium.tree, look_at_menu, &menus, error));
    WS_GO(look_at_volume(drive, m, table, error));
    if (!menus.any || !menus.all)
        status = because(m, WS_FORGETS_PARAMETER, "the start menu's default entry does not pass \"%s\"",
                         menus.missing[0] ? menus.missing : m->family->parameters);
done:
    ws_medium_close(&medium);
    free(table);
    return status;
}
