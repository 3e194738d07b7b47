/* volume.c — the root volume that a kernel will look for, found on its drive. */
#include "wild_satchel/format.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/system.h"

#include <stdio.h>
#include <string.h>

/* In a file of this ordinary volume. @return WS_E_NOTFOUND, without a text, if it has none */
static enum ws_status look_inside(const struct ws_source *drive, const struct ws_partition *p, const char *wanted,
                                  uint64_t *at, uint64_t *length, struct ws_error *error) {
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    if (ws_source_slice(drive, p->at, p->length, &slice, NULL) != WS_OK) return WS_E_NOTFOUND;
    const struct ws_format *format = ws_format_of(slice, NULL);
    const struct ws_node *n = NULL;
    if (format && format->everywhere && format->read && format->read(slice, &tree, NULL, NULL) == WS_OK)
        n = ws_inside_find(tree, wanted);
    enum ws_status status =
        !n        ? WS_E_NOTFOUND
        : n->work ? WS_OK
                  : ws_fail(error, WS_E_FORMAT, "its root is in a file that lies in several pieces on the drive");
    if (status == WS_OK) {
        *at = p->at + n->work;
        *length = ws_node_size(n);
    }
    ws_tree_close(tree);
    ws_source_close(slice);
    return status;
}

enum ws_status ws_system_volume(const struct ws_source *drive, const struct ws_table *table, const char *parameters,
                                uint64_t *at, uint64_t *length, struct ws_error *error) {
    static const char sign[] = "root=UUID=";
    char wanted[64] = "", uuid[40];
    size_t count;
    for (const char *p = strstr(parameters, sign); p && !wanted[0]; p = strstr(p + 1, sign))
        if (p == parameters || p[-1] == ' ')
            (void)snprintf(wanted, sizeof wanted, "%.*s", (int)strcspn(p + sizeof sign - 1, " "), p + sizeof sign - 1);
    if (!wanted[0]) return ws_fail(error, WS_E_NOTFOUND, "the kernel's parameters name no root by its UUID");
    const struct ws_partition *p = ws_table_partitions(table, &count);
    for (size_t i = 0; i < count; i++) {
        struct ws_source *slice = NULL;
        struct ws_volume_facts facts = {.id = ""};
        if (ws_source_slice(drive, p[i].at, p[i].length, &slice, NULL) != WS_OK) continue;
        const struct ws_format *format = ws_format_of(slice, &facts);
        bool locks = ws_lock_probe(slice, uuid) && uuid[0] && strstr(parameters, uuid);
        ws_source_close(slice);
        if (!locks && (!format || strcmp(facts.id, wanted) != 0)) continue;
        *at = p[i].at;
        *length = p[i].length;
        if (!locks) return WS_OK;
        return ws_fail(error, WS_E_UNSUPPORTED, "its root is in the locked volume %s, and nobody types the passphrase",
                       uuid);
    }
    for (size_t i = 0; i < count; i++) {
        enum ws_status status = look_inside(drive, &p[i], wanted, at, length, error);
        if (status != WS_E_NOTFOUND) return status;
    }
    return ws_fail(error, WS_E_NOTFOUND, "the kernel looks for its root on the volume %s, and this drive has none",
                   wanted);
}
