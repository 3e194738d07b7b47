/* attributes.h — a file's attributes as FAT and exFAT keep them (FAT specification, section 6; exFAT specification,
 * section 7.4.4). */
#ifndef WS_FS_ATTRIBUTES_H
#define WS_FS_ATTRIBUTES_H

#include "wild_satchel/tree.h"

enum { FAT_READ_ONLY = 1, FAT_HIDDEN = 2, FAT_SYSTEM = 4, FAT_FOLDER = 0x10, FAT_ARCHIVE = 0x20 };

static inline uint8_t fat_attributes_of(const struct ws_node *n) {
    const bool folder = n->kind == WS_NODE_FOLDER;
    return (uint8_t)((folder                     ? FAT_FOLDER
                      : n->marks & WS_MARK_SAVED ? 0
                                                 : FAT_ARCHIVE) |
                     (n->mode & 0222 ? 0 : FAT_READ_ONLY) | (n->marks & WS_MARK_HIDDEN ? FAT_HIDDEN : 0) |
                     (n->marks & WS_MARK_SYSTEM ? FAT_SYSTEM : 0));
}

static inline void fat_take_attributes(struct ws_node *n, uint8_t attributes) {
    const bool folder = n->kind == WS_NODE_FOLDER;
    n->mode = (uint16_t)((folder ? 0755 : 0644) & (attributes & FAT_READ_ONLY ? ~0222 : ~0));
    n->marks =
        (uint8_t)((attributes & FAT_HIDDEN ? WS_MARK_HIDDEN : 0) | (attributes & FAT_SYSTEM ? WS_MARK_SYSTEM : 0) |
                  (folder || attributes & FAT_ARCHIVE ? 0 : WS_MARK_SAVED));
}

#endif
