/* overlay.c — where on a drive a live family would remember: a volume by its label, or a file on a FAT volume. */
#include "image/internal.h"
#include "wild_satchel/format.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/medium.h"

#include <stdio.h>
#include <string.h>

/* A file of the agreed name at the top of this partition. @return WS_E_FORMAT if it lies in pieces */
static enum ws_status look_for_file(const struct ws_source *drive, const struct ws_partition *p, const char *name,
                                    struct ws_remembering *found, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_volume_facts facts;
    const struct ws_format *format = NULL;
    enum ws_status status = ws_source_slice(drive, p->at, p->length, &slice, error);
    if (status != WS_OK) return WS_E_NOTFOUND;
    status = image_read_plain(slice, &format, &tree, &facts, error);
    const struct ws_node *n = status == WS_OK ? ws_tree_find_any_case(tree, name) : NULL;
    if (status != WS_OK || !n || n->kind != WS_NODE_FILE || !n->content) {
        status = WS_E_NOTFOUND;
    } else if (!n->work) {
        status = ws_fail(error, WS_E_FORMAT, "the overlay file \"%s\" does not lie in one piece", name);
    } else {
        *found = (struct ws_remembering){true, p->number, p->at + n->work, ws_node_size(n), ""};
        (void)snprintf(found->label, sizeof found->label, "%.47s", facts.label);
    }
    if (tree) ws_tree_close(tree);
    ws_source_close(slice);
    return status;
}

bool ws_medium_locked_on(const struct ws_source *drive, const struct ws_table *table, struct ws_remembering *found) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        if (ws_source_slice(drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        bool locked = ws_lock_probe(slice, NULL);
        ws_source_close(slice);
        if (!locked) continue;
        *found = (struct ws_remembering){false, p[i].number, p[i].at, p[i].length, ""};
        return true;
    }
    return false;
}

enum ws_status ws_medium_remembers_on(const struct ws_source *drive, const struct ws_table *table,
                                      const struct ws_medium *medium, const struct ws_live_family *family,
                                      struct ws_remembering *found, struct ws_error *error) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        struct ws_volume_facts facts;
        if (ws_source_slice(drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        bool mine =
            ws_format_find("ext4")->probe(slice, &facts, NULL) == WS_OK && strcmp(facts.label, family->label) == 0;
        ws_source_close(slice);
        if (!mine) continue;
        *found = (struct ws_remembering){false, p[i].number, p[i].at, p[i].length, ""};
        return WS_OK;
    }
    for (size_t i = 0; family->overlay_file && i < count; i++) {
        if (p[i].at == medium->at && !family->overlay_beside) continue;
        enum ws_status status = look_for_file(drive, &p[i], family->overlay_file, found, error);
        if (status != WS_E_NOTFOUND) return status;
    }
    return ws_fail(error, WS_E_NOTFOUND, "no partition of the drive holds a volume labelled \"%s\"%s%s%s",
                   family->label, family->overlay_file ? ", and none a file \"" : "",
                   family->overlay_file ? family->overlay_file : "", family->overlay_file ? "\" to remember in" : "");
}
