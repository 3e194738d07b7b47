/* label.h — volume labels made to fit a file system's rules, and told so beforehand. */
#ifndef WILD_SATCHEL_LABEL_H
#define WILD_SATCHEL_LABEL_H

#include "wild_satchel/base.h"

WS_BEGIN

enum { WS_LABEL_ROOM = 64 };

/**
 * What a label becomes on a file system: letters raised, characters that are not allowed replaced by "_", and the
 * end cut off, as that file system's specification asks.
 *   fat32    11 characters, no lower case, none of " * + , . / : ; < = > ? [ \ ] | (FAT 1.03, section 6)
 *   exfat    11 UTF-16 units (exFAT specification, section 7.3)
 *   ext4     16 bytes of UTF-8
 *   swap     15 bytes of UTF-8
 *   iso9660  32 of A-Z 0-9 _ (ECMA-119, section 7.4.1)
 *   gpt      36 UTF-16 units (UEFI 2.10, section 5.3.3)
 * @param out   WS_LABEL_ROOM bytes or more, up to 128 for gpt
 * @param said  what was changed, in words; empty if nothing was; 160 bytes or more; may be NULL
 * @return WS_E_USAGE for a file system not known here; WS_E_FORMAT if `text` is not UTF-8
 */
WS_CHECKED enum ws_status ws_label_normalise(const char *system, const char *text, char *out, size_t room, char *said,
                                             size_t said_room, struct ws_error *error);

enum { WS_UUID_ROOM = 24 };
/** A FAT or exFAT serial number as systems write it: "1A2B-3C4D". */
void ws_serial_name(uint32_t serial, char out[WS_UUID_ROOM]);

WS_END

#endif
