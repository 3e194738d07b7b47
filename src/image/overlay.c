/* overlay.c — where on a drive a live family would remember: a volume by its label, or a file on a FAT volume. */
#include "wild_satchel/medium.h"

#include "wild_satchel/exfat.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/fat.h"

#include <stdio.h>
#include <string.h>

/* A file of the agreed name at the top of this partition. @return WS_E_FORMAT if it lies in pieces */
static enum ws_status look_for_file(const struct ws_source *drive, const struct ws_partition *p, const char *name,
                                    struct ws_remembering *found, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_fat_facts fat;
    struct ws_exfat_facts exfat = {0};
    enum ws_status status = ws_source_slice(drive, p->at, p->length, &slice, error);
    if (status != WS_OK) return WS_E_NOTFOUND;
    status = ws_fat_read(slice, &tree, &fat, error);
    bool is_fat = status == WS_OK;
    if (status == WS_E_NOTFOUND) status = ws_exfat_read(slice, &tree, &exfat, error);
    const struct ws_node *n = status == WS_OK ? ws_tree_find_any_case(tree, name) : NULL;
    if (status != WS_OK || !n || n->kind != WS_NODE_FILE || !n->content) {
        status = WS_E_NOTFOUND;
    } else if (!n->work) {
        status = ws_fail(error, WS_E_FORMAT, "the overlay file \"%s\" does not lie in one piece", name);
    } else {
        *found = (struct ws_remembering){true, p->number, p->at + n->work, ws_node_size(n), ""};
        (void)snprintf(found->label, sizeof found->label, "%s", is_fat ? fat.label : exfat.label);
    }
    if (tree) ws_tree_close(tree);
    ws_source_close(slice);
    return status;
}

enum ws_status ws_medium_remembers_on(const struct ws_source *drive, const struct ws_table *table,
                                      const struct ws_medium *medium, const struct ws_live_family *family,
                                      struct ws_remembering *found, struct ws_error *error) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        struct ws_ext4_facts facts;
        if (ws_source_slice(drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        bool mine = ws_ext4_probe(slice, &facts, NULL) == WS_OK && strcmp(facts.label, family->label) == 0;
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
