/* rescue.h — the parts of reading a damaged volume. */
#ifndef WS_FS_EXT4_RESCUE_H
#define WS_FS_EXT4_RESCUE_H

#include "fs/ext4/volume.h"

/* A superblock that is right, laid over the one that is not. @return WS_E_NOTFOUND if there is none */
enum ws_status ext4_rescue_super(struct ws_source *patched, bool *from_copy, struct ws_error *error);
/* Descriptors that are not right, from their copies. @return how many are of no use */
size_t ext4_rescue_descriptors(struct ext4_volume *volume);
/* Is this inode somebody's? It is read, too. */
bool ext4_rescue_is_used(struct ext4_volume *volume, uint32_t ino, uint8_t inode[INODE_SIZE]);
/* Is its checksum right, as far as the volume has them? */
bool ext4_rescue_is_whole(const struct ext4_volume *volume, uint32_t ino, const uint8_t inode[INODE_SIZE]);

#endif
