/* room.c — volumes that make room. */
#include "fs/again.h"
#include "fs/room/clusters.h"

#include <string.h>

enum ws_status room_in_use(struct ws_error *error) {
    ws_fail(error, WS_E_REFUSED, "the volume was taken out while something was still to be written to it");
    return ws_fail_next(error, "plug it in where it was used, and eject it there; or let a file system checker look at "
                               "it");
}

enum ws_status room_full_top(struct ws_error *error) {
    ws_fail(error, WS_E_SPACE, "the top folder of the volume has no room for one more name");
    return ws_fail_next(error, "take a file out of that folder, or put some into another one");
}

enum ws_status room_one_table(struct ws_error *error) {
    ws_fail(error, WS_E_UNSUPPORTED, "its allocation tables are not kept alike: one of them alone is in use");
    return ws_fail_next(error, "copy its files, and make the volume anew");
}

enum ws_status room_find_old(struct ws_room *room, const struct ws_tree *tree, const struct ws_node **old,
                             struct ws_error *error) {
    *old = room->put_name ? ws_tree_find_any_case(tree, room->put_name) : NULL;
    room->replaced = *old != NULL;
    if (!*old || (*old)->kind == WS_NODE_FILE) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "a folder has the name of what is to be put there: %s", room->put_name);
    return ws_fail_next(error, "give it another one");
}

/* The file that gets another length or goes, and one that what is put takes the place of. */
static bool is_aside(void *context, const struct ws_node *n) {
    const struct ws_node *const *aside = context;
    return n == aside[0] || n == aside[1];
}

static enum ws_status look_again(const struct ws_room *room, const char *word, const struct ws_layout *layout,
                                 struct ws_error *error) {
    const struct ws_node *aside[2] = {NULL, NULL};
    struct ws_tree *was = NULL;
    struct fs_again again = {.format = ws_format_find(word),
                             .layout = layout,
                             .at = room->at + room->front,
                             .size = room->size - room->front - room->back,
                             .base = room->volume,
                             .base_at = room->front,
                             .free_bytes = &room->free_after,
                             .how = {.more = room->put_name != NULL, .aside = is_aside, .context = aside}};
    WS_TRY(again.format->read(room->volume, &was, NULL, error));
    for (const struct ws_node *n = ws_tree_root(was); n && room->file_at; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content && n->work == room->file_at) aside[0] = n;
    aside[1] = room->put_name ? ws_tree_find_any_case(was, room->put_name) : NULL;
    again.wanted = was;
    const enum ws_status status = fs_look_again(&again, error);
    ws_tree_close(was);
    return status;
}

enum ws_status ws_make_room(struct ws_room *room, struct ws_layout *layout, struct ws_error *error) {
    static const struct {
        enum ws_status (*make)(struct ws_room *, struct ws_layout *, struct ws_error *);
        const char *word;
    } kinds[] = {{room_fat, "fat32"}, {room_exfat, "exfat"}, {room_ext4, "ext4"}};
    enum ws_status status = WS_E_NOTFOUND;
    size_t kind = 0;
    *room = (struct ws_room){.volume = room->volume,
                             .at = room->at,
                             .front = room->front,
                             .back = room->back,
                             .of_back = room->of_back,
                             .file_at = room->file_at,
                             .file_length = room->file_length,
                             .file_goes = room->file_goes,
                             .file_later = room->file_later,
                             .put_name = room->put_name,
                             .put = room->put,
                             .put_length = room->put_length,
                             .put_at = room->put_at};
    for (; kind < sizeof kinds / sizeof kinds[0] && status == WS_E_NOTFOUND; kind++)
        status = kinds[kind].make(room, layout, error);
    if (status == WS_OK && layout) status = look_again(room, kinds[kind - 1].word, layout, error);
    if (status == WS_E_NOTFOUND)
        ws_fail(error, status,
                room->file_at || room->put_name ? "there is neither a FAT nor an exFAT volume here"
                                                : "there is no volume of FAT, exFAT or ext4 here");
    return status;
}
