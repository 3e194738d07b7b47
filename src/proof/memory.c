/* memory.c — would this drive remember? Looked at from outside: menu, label, volume, room. */
#include "wild_satchel/image.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/proof.h"
#include "wild_satchel/start.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct {
    const char *name, *link;
} causes[WS_FORGETS_CAUSES] = {
    [WS_FORGETS_NOT] = {"none", ""},
    [WS_FORGETS_NO_SYSTEM] = {"no-system", "a system that remembers is on it"},
    [WS_FORGETS_PARAMETER] = {"parameter", "the start menu passes the parameter"},
    [WS_FORGETS_LABEL] = {"label", "a volume has the agreed label"},
    [WS_FORGETS_VOLUME] = {"volume", "it can be read, and is arranged as the system wants it"},
    [WS_FORGETS_NOT_CLEAN] = {"not-clean", "it carries no recorded errors"},
    [WS_FORGETS_FULL] = {"full", "it has room"},
    [WS_FORGETS_UNUSED] = {"unused", "a system started from it and used that volume"},
    [WS_FORGETS_READ_ONLY] = {"read-only", "it wrote to it"},
    [WS_FORGETS_UNSAVED] = {"unsaved", "what was done is saved there"},
    [WS_FORGETS_LATER] = {"lost-later", "that is still there after the next start"},
    [WS_FORGETS_UNSEEN] = {"unseen", "the system that starts shows it"},
};

const char *ws_forgets_name(enum ws_forgets cause) { return causes[cause].name; }
const char *ws_forgets_link(enum ws_forgets cause) { return causes[cause].link; }

const char *ws_link_name(enum ws_link link) {
    static const char *const names[] = {"not-known", "holds", "fails"};
    return names[link];
}

struct menus {
    struct ws_memory *memory;
    bool any, all;
    char wanted[512]; /* what has to be passed */
    char missing[128];
    const struct ws_medium *medium;
    char looks_for[96]; /* a menu for another medium */
};

static void look_at_parameters(struct menus *m, const char *parameters) {
    if (!m->any) (void)snprintf(m->memory->parameters, sizeof m->memory->parameters, "%s", parameters);
    m->any = true;
    (void)ws_medium_is_another(m->medium, parameters, m->looks_for, sizeof m->looks_for);
    char missing[sizeof m->missing];
    if (ws_parameters_are_set(parameters, m->wanted, missing, sizeof missing)) return;
    m->all = false;
    if (!m->missing[0]) memcpy(m->missing, missing, sizeof missing);
}

static enum ws_status look_at_menu(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                   struct ws_error *error) {
    struct menus *m = context;
    const struct ws_menu_entry *e = menu ? ws_menu_default(menu) : NULL;
    (void)file, (void)error;
    if (!e ||
        (!ws_live_family_of_parameters(e->parameters) && !ws_live_family_starts(m->memory->family, e->parameters)))
        return WS_OK;
    look_at_parameters(m, e->parameters);
    return WS_OK;
}

static enum ws_status because(struct ws_memory *m, enum ws_forgets cause, const char *text, const char *detail) {
    m->cause = cause;
    m->link[cause] = WS_LINK_FAILS;
    (void)snprintf(m->cause_text, sizeof m->cause_text, text, detail);
    return WS_OK;
}

/* Does the volume hold what the family wants on it? */
static bool is_complete(const struct ws_tree *tree, const struct ws_live_family *family, struct ws_error *error) {
    bool complete = true;
    if (family->config_path) {
        const struct ws_node *config = ws_tree_find(tree, family->config_path);
        char *text = NULL;
        size_t length = 0;
        complete = config && config->content && ws_source_load(config->content, 65536, &text, &length, error) == WS_OK;
        complete = complete && strchr(text, '/') != NULL; /* it must name a place; a comment alone does not */
        free(text);
    }
    for (size_t k = 0; complete && k < 3 && family->folders[k]; k++)
        complete = ws_tree_find(tree, family->folders[k]) != NULL;
    return complete;
}

static enum ws_status look_at_volume(const struct ws_source *drive, struct ws_memory *m,
                                     const struct ws_remembering *place, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_error inner = {0};
    m->volume_at = place->at;
    m->volume_size = place->length;
    m->in_file = place->in_file;
    WS_TRY(ws_source_slice(drive, place->at, place->length, &slice, error));
    enum ws_status status = ws_ext4_read(slice, &tree, &m->volume, &inner);
    bool complete = status == WS_OK && is_complete(tree, m->family, error);
    if (tree) ws_tree_close(tree);
    ws_source_close(slice);
    if (status == WS_E_NOMEM) return ws_fail(error, WS_E_NOMEM, "%s", inner.what);
    m->unread = status == WS_E_UNSUPPORTED;
    if (status != WS_OK) return because(m, WS_FORGETS_VOLUME, "the persistence volume cannot be read: %s", inner.what);
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

/* Our own start-up code goes by its entries, not by those menus. */
static void look_at_own_code(const struct ws_source *drive, uint32_t sector, const struct ws_medium *medium,
                             struct menus *menus) {
    struct ws_rehearsal r = {.firmware = "BIOS", .sector = sector, .only_choose = true};
    if (medium->iso || !ws_tree_find_any_case(medium->tree, "loader/entries")) return;
    if (ws_start_rehearse(drive, &r, NULL) != WS_OK) return;
    if (r.starts) look_at_parameters(menus, r.entry.options);
    ws_rehearsal_free(&r);
}

/* A menu inside the EFI volume is what UEFI firmware's loader shows. */
static enum ws_status look_at_esp(const struct ws_source *drive, const struct ws_table *table,
                                  const struct ws_medium *medium, struct menus *menus, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *esp = NULL;
    if (ws_esp_read(drive, table, ws_iso_facts(medium->iso), &slice, &esp, NULL, NULL) != WS_OK) return WS_OK;
    enum ws_status status = ws_medium_menus(esp, look_at_menu, menus, error);
    ws_tree_close(esp);
    ws_source_close(slice);
    return status;
}

/* A full system: our start-up code chooses a kernel that names its root. @return false if it is none */
/* A volume that begins where no partition does. */
static bool is_in_file(const struct ws_table *table, uint64_t at) {
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t count = ws_table_volumes(table, list);
    for (size_t i = 0; i < count; i++)
        if (list[i]->at == at) return false;
    return true;
}

static bool look_at_system(const struct ws_source *drive, const struct ws_table *table, struct ws_memory *m) {
    struct ws_rehearsal r = {.firmware = "BIOS", .sector = table->sector, .only_choose = true};
    struct ws_source *slice = NULL;
    struct ws_error why = {0};
    if (ws_start_rehearse(drive, &r, NULL) != WS_OK) return false;
    if (r.starts) (void)snprintf(m->parameters, sizeof m->parameters, "%.1023s", r.entry.options);
    m->system = r.starts && strstr(r.entry.options, "root=UUID=");
    ws_rehearsal_free(&r);
    if (!m->system) return false;
    enum ws_status found = ws_system_volume(drive, table, m->parameters, &m->volume_at, &m->volume_size, &why);
    m->locked = found == WS_E_UNSUPPORTED;
    if (m->locked) return true;
    if (found != WS_OK) {
        (void)because(m, WS_FORGETS_NO_SYSTEM, "%s", why.what);
        return true;
    }
    m->in_file = is_in_file(table, m->volume_at);
    enum ws_status status = ws_source_slice(drive, m->volume_at, m->volume_size, &slice, &why);
    if (status == WS_OK) status = ws_ext4_probe(slice, &m->volume, &why);
    ws_source_close(slice);
    m->unread = status == WS_E_UNSUPPORTED;
    if (status != WS_OK) (void)because(m, WS_FORGETS_VOLUME, "the system's volume cannot be read: %s", why.what);
    else if (!m->volume.clean && !m->volume.needs_recovery)
        (void)because(m, WS_FORGETS_NOT_CLEAN, "%s", "the system's volume carries recorded errors: check it");
    else if (m->volume.free_bytes < 256 * 1024) (void)because(m, WS_FORGETS_FULL, "%s", "the system's volume is full");
    return true;
}

/* What was looked at and did not fail holds; behind what failed not all was looked at. */
static void settle_links(struct ws_memory *m) {
    const bool found = m->volume_size || m->locked, read = m->volume_size && !m->locked && !m->unread;
    if (m->unread) m->link[WS_FORGETS_VOLUME] = WS_LINK_UNKNOWN;
    const bool looked[] = {[WS_FORGETS_NO_SYSTEM] = true, [WS_FORGETS_PARAMETER] = true, [WS_FORGETS_LABEL] = found,
                           [WS_FORGETS_VOLUME] = read,    [WS_FORGETS_NOT_CLEAN] = read, [WS_FORGETS_FULL] = read};
    m->link[WS_FORGETS_NOT] = WS_LINK_UNKNOWN;
    for (unsigned i = WS_FORGETS_NO_SYSTEM; i < WS_FORGETS_UNUSED; i++) {
        if (m->link[i] == WS_LINK_UNKNOWN && looked[i]) m->link[i] = WS_LINK_HOLDS;
        const bool ends = i == WS_FORGETS_NO_SYSTEM || i >= WS_FORGETS_VOLUME;
        if (ends && m->link[i] == WS_LINK_FAILS) return;
    }
}

enum ws_status ws_memory_look(const struct ws_source *drive, uint32_t sector, struct ws_memory *m,
                              struct ws_error *error) {
    struct ws_medium medium = {0};
    struct ws_table *table = malloc(sizeof *table);
    struct ws_error inner = {0};
    memset(m, 0, sizeof *m);
    if (!table) return ws_fail(error, WS_E_NOMEM, "out of memory for a partition table");
    enum ws_status status = WS_OK;
    WS_GO(ws_table_read(drive, sector, table, NULL, error));
    if (ws_medium_open(drive, table, &medium, &inner) != WS_OK) {
        if (look_at_system(drive, table, m)) goto done;
        status = because(m, WS_FORGETS_NO_SYSTEM, "no live system can be read from this drive: %s", inner.what);
        goto done;
    }
    m->family = ws_live_family_of_medium(medium.tree, &m->own_family);
    if (!m->family) {
        status =
            because(m, WS_FORGETS_NO_SYSTEM, "%s", "the system on this drive belongs to no live family known here");
        goto done;
    }
    struct menus menus = {.memory = m, .all = true, .medium = &medium};
    struct ws_remembering place = {0};
    enum ws_status found = ws_medium_remembers_on(drive, table, &medium, m->family, &place, &inner);
    ws_live_parameters(m->family, place.in_file ? place.label : NULL, menus.wanted, sizeof menus.wanted);
    m->locked = found == WS_E_NOTFOUND && m->family->lock_parameters && ws_medium_locked_on(drive, table, &place);
    if (m->locked) {
        size_t n = strlen(menus.wanted);
        (void)snprintf(menus.wanted + n, sizeof menus.wanted - n, " %s", m->family->lock_parameters);
    }
    WS_GO(ws_medium_menus(medium.tree, look_at_menu, &menus, error));
    look_at_own_code(drive, sector, &medium, &menus);
    if (medium.iso) WS_GO(look_at_esp(drive, table, &medium, &menus, error));
    if (found == WS_OK) WS_GO(look_at_volume(drive, m, &place, error));
    else if (!m->locked)
        (void)because(m, found == WS_E_NOTFOUND ? WS_FORGETS_LABEL : WS_FORGETS_VOLUME, "%s", inner.what);
    m->locked &= menus.any && menus.all; /* else somebody's own locked volume, for all that is known */
    if (m->locked) {
        m->volume_at = place.at;
        m->volume_size = place.length;
    }
    memcpy(m->wanted, menus.wanted, sizeof m->wanted);
    if (!menus.any || !menus.all)
        status = because(m, WS_FORGETS_PARAMETER, "the start menu's default entry does not pass \"%s\"",
                         menus.missing[0] ? menus.missing : menus.wanted);
    if (menus.looks_for[0])
        status = because(m, WS_FORGETS_PARAMETER,
                         "the start menu looks for its system on a %s, and that is not this drive's", menus.looks_for);
done:
    if (status == WS_OK) settle_links(m);
    ws_medium_close(&medium);
    free(table);
    return status;
}
