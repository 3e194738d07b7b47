/* wanted.c — what each volume is asked to be: its format, size, names and identifiers. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

const struct build_role build_roles[WS_ROLES] = {
    [WS_ROLE_SYSTEM] = {"fat32", "system volume", "system partition", "system"},
    [WS_ROLE_START] = {"fat32", "start volume", "start partition", "start"},
    [WS_ROLE_PERSISTENCE] = {"ext4", "persistence volume", "persistence partition", "persistence"},
    [WS_ROLE_DATA] = {"fat32", "data volume", "data partition", ""},
    [WS_ROLE_SWAP] = {"swap", "swap area", "swap partition", "swap"},
    [WS_ROLE_BOOT] = {"ext4", "boot volume", "boot partition", "boot"},
};

enum ws_status build_too_small(struct ws_error *error, const struct ws_plan *plan, uint64_t needed) {
    char drive[48];
    char text[48];
    ws_fail(error, WS_E_SPACE, "the drive holds %s, and %s are needed",
            ws_size_both(plan->drive.size, drive, sizeof drive), ws_size_both(needed, text, sizeof text));
    return ws_fail_where(error, "%s", plan->drive.name);
}

enum ws_status build_does_not_fit(struct ws_error *error, const struct ws_plan *plan, uint64_t needed) {
    build_too_small(error, plan, needed);
    return ws_fail_next(error, "take a larger drive, or ask for less");
}

enum ws_status build_check_sector(uint32_t sector, const char *drive, struct ws_error *error) {
    if (sector >= 512 && sector <= 4096 && (sector & (sector - 1)) == 0) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "a drive with sectors of %u bytes cannot be laid out here", sector);
    ws_fail_where(error, "%s", drive);
    return ws_fail_next(error, "take one with sectors of 512 or 4096 bytes");
}

uint64_t build_choose_align(const struct ws_plan *p) {
    uint32_t erase = p->drive.erase;
    bool sensible = erase > MIB && erase <= 64u * MIB && (erase & (erase - 1)) == 0;
    return sensible ? erase : MIB;
}

struct ws_size build_wanted_size(const struct ws_plan *p, enum ws_role role) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, role);
    if (w && w->size.kind == WS_SIZE_PART) return ws_size_of(p->drive.size / 10000 * w->size.bytes);
    return w ? w->size : (struct ws_size){WS_SIZE_USUAL, 0};
}

/* What a volume is unless something else is wanted: of a full system the root keeps owners and links; vast ordinary
 * drives, and files that hold a system, are more than FAT32 can be. */
static const char *usual_format(const struct ws_plan *p, enum ws_role role) {
    bool vast = p->facts.kind == WS_KIND_BLANK && p->drive.size > ws_format_find("fat32")->most;
    bool root = ws_kind_is_system(p->facts.kind) && role == WS_ROLE_SYSTEM;
    vast |= role == WS_ROLE_DATA && build_inside(p); /* a file of any size */
    return root ? "ext4" : vast ? "exfat" : build_roles[role].format;
}

enum ws_status build_format(const struct ws_plan *p, enum ws_role role, const struct ws_format **format,
                            struct ws_error *error) {
    const struct ws_wanted *w = ws_request_wanted(&p->request, role);
    const char *usual = usual_format(p, role);
    const char *word = w && w->format[0] ? w->format : usual;
    bool plain = ws_format_find(usual)->everywhere && role != WS_ROLE_START; /* the others of those go, too */
    *format = ws_format_find(word);
    bool goes = *format && (*format)->compose && (strcmp(word, usual) == 0 || (plain && (*format)->everywhere));
    if (goes && (!w || !w->cluster || (*format)->everywhere)) return WS_OK;
    if (goes) {
        ws_fail(error, WS_E_USAGE, "a %s volume is %s, whose clusters are not chosen", ws_role_name(role), word);
        return ws_fail_next(error, "leave their size out");
    }
    ws_fail(error, WS_E_USAGE, "\"%s\" is no file system for a %s volume", word, ws_role_name(role));
    return ws_fail_next(error, plain ? "fat32 and exfat are" : "leave it out");
}

enum ws_status build_volume_id(const struct ws_plan *p, enum ws_role role, struct ws_guid *id, struct ws_error *error) {
    static const struct ws_guid none;
    *id = p->id_of[role];
    if (memcmp(id, &none, sizeof none) != 0) return WS_OK;
    return ws_guid_derive(&p->facts.id, build_roles[role].volume_id, id, error);
}

bool build_holds(const struct ws_build *b, enum ws_role role) {
    return (b->in_file && b->holder == role) || (role == WS_ROLE_DATA && build_inside(b->plan));
}

enum ws_status build_settle_persistence(struct ws_build *b, struct ws_error *error) {
    const struct ws_plan *p = b->plan;
    const struct ws_wanted *w = ws_request_wanted(&p->request, WS_ROLE_PERSISTENCE);
    enum ws_place place = w ? w->place : WS_PLACE_USUAL;
    bool none = w && w->size.kind == WS_SIZE_NONE;
    bool said = b->overlay || (w && (w->size.kind != WS_SIZE_USUAL || place != WS_PLACE_USUAL));
    if (none && (place != WS_PLACE_USUAL || b->overlay))
        return ws_fail(error, WS_E_USAGE, "it is said where changes go, and none are to be kept");
    const enum ws_size_kind kind = build_wanted_size(p, WS_ROLE_PERSISTENCE).kind;
    if (b->overlay && (place == WS_PLACE_PARTITION || kind == WS_SIZE_BYTES))
        return ws_fail(error, WS_E_USAGE, "a ready-made data file is an overlay file and has its own size");
    b->remembers = !none && (said || p->family || p->facts.kind != WS_KIND_LIVE_FILES);
    b->in_file = b->remembers && (b->overlay || place == WS_PLACE_FILE);
    bool beside = p->facts.kind == WS_KIND_LIVE_FILES && p->family && p->family->overlay_beside;
    b->holder = beside ? WS_ROLE_SYSTEM : WS_ROLE_DATA;
    return build_check_lock(b, error);
}

void build_system_label(const struct ws_plan *p, char label[12]) {
    char title[WS_LABEL_ROOM];
    bool titled = ws_label_normalise("fat32", p->facts.title, title, sizeof title, NULL, 0, NULL) == WS_OK && title[0];
    (void)snprintf(label, 12, "%.11s", p->request.rules.label[0] ? p->request.rules.label : titled ? title : "LIVE");
}

enum ws_status build_label(const struct ws_build *b, enum ws_role role, char label[WS_LABEL_ROOM], char said[160],
                           struct ws_error *error) {
    const struct ws_wanted *w = ws_request_wanted(&b->plan->request, role);
    const struct ws_format *format;
    char system[12];
    build_system_label(b->plan, system);
    said[0] = '\0';
    if (w && w->label[0]) {
        WS_TRY(build_format(b->plan, role, &format, error));
        return ws_label_normalise(format->word, w->label, label, WS_LABEL_ROOM, said, 160, error);
    }
    bool by_label = b->in_file && b->holder == role && ws_live_wants_label(b->plan->family);
    bool root = ws_kind_is_system(b->plan->facts.kind) && role == WS_ROLE_SYSTEM;
    (void)snprintf(label, WS_LABEL_ROOM, "%s",
                   root                          ? build_roles[role].name
                   : role == WS_ROLE_SYSTEM      ? system
                   : role == WS_ROLE_START       ? "START"
                   : role == WS_ROLE_PERSISTENCE ? b->plan->family->label
                   : by_label                    ? "OVERLAY"
                                                 : build_roles[role].name);
    return WS_OK;
}

enum ws_status build_system_names(const struct ws_plan *p, char name[WS_NAMED_WAYS][WS_LABEL_ROOM],
                                  struct ws_error *error) {
    struct ws_guid id; /* systems tell volumes apart by their serial numbers, too: each drive has its own */
    WS_TRY(build_volume_id(p, WS_ROLE_SYSTEM, &id, error));
    build_system_label(p, name[WS_BY_LABEL]);
    ws_serial_name(ws_load_le32(id.byte), name[WS_BY_UUID]);
    return WS_OK;
}
