/* outlook.c — what is decided for the technician, and on which PCs the finished drive will start. */
#include "plan/internal.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

enum ws_kind ws_plan_choose_kind(const struct ws_image *image, char *why, size_t room) {
    bool disc = image->kind == WS_IMAGE_DISC;
    bool known = ws_image_remembers(image);
    bool live = disc ? ws_image_files_start(image) : image->kind == WS_IMAGE_HYBRID && known;
    const char *reason = live && known && disc ? "the files of a live family that is known here"
                         : live && disc        ? "laid down whole it starts nowhere, file by file it does"
                         : live                ? "a hybrid image of a live family that is known here"
                         : disc                ? "the image is made for discs; laid down whole it starts nowhere"
                         : !image->iso         ? "it is no live image"
                         : !image->family      ? "the image belongs to no live family known here"
                                               : "no start menu of the image could be told to remember";
    (void)snprintf(why, room, "%s", reason);
    return live ? WS_KIND_LIVE : WS_KIND_REPLICA;
}

void plan_chose(struct ws_plan *plan, const char *what, const char *choice, const char *why, ...) {
    va_list list;
    if (plan->choices >= PLAN_CHOICES_MOST) return;
    struct ws_plan_choice *c = &plan->choice[plan->choices++];
    (void)snprintf(c->what, sizeof c->what, "%s", what);
    (void)snprintf(c->choice, sizeof c->choice, "%s", choice);
    va_start(list, why);
    (void)vsnprintf(c->why, sizeof c->why, why, list);
    va_end(list);
    ws_make_visible(c->choice, sizeof c->choice);
    ws_make_visible(c->why, sizeof c->why);
}

void plan_edited(struct ws_plan *plan, const char *path, const char *what, ...) {
    va_list list;
    if (plan->edits >= PLAN_EDITS_MOST) return;
    struct ws_plan_edit *e = &plan->edit[plan->edits++];
    memset(e, 0, sizeof *e);
    ws_visible(path, e->path, sizeof e->path);
    va_start(list, what);
    (void)vsnprintf(e->what, sizeof e->what, what, list);
    va_end(list);
}

static void say(struct ws_outlook *o, bool starts, const char *format, ...) WS_PRINTF(3, 4);
static void say(struct ws_outlook *o, bool starts, const char *format, ...) {
    va_list list;
    o->starts = starts;
    va_start(list, format);
    (void)vsnprintf(o->why, sizeof o->why, format, list);
    va_end(list);
    ws_make_visible(o->why, sizeof o->why);
}

static void look_at_bios(const struct ws_image *image, struct ws_outlook *o) {
    bool active = false;
    for (size_t i = 0; i < image->table.mbr_count; i++) active |= image->table.mbr[i].active;
    if (!image->starts_bios) say(o, false, "there is no start-up code in the image's boot record");
    else if (!active)
        say(o, true,
            "its boot record holds start-up code; a few old BIOSes also want an active partition, and none is");
    else say(o, true, "its boot record holds start-up code, and a partition is active");
}

static const struct ws_loader *loader_for(const struct ws_image *image, const char *machine) {
    for (size_t i = 0; i < image->loaders; i++)
        if (strcmp(image->loader[i].machine, machine) == 0) return &image->loader[i];
    return NULL;
}

static void look_at_uefi(const struct ws_image *image, struct ws_outlook *o) {
    const struct ws_loader *l = loader_for(image, "x86-64");
    if (!image->starts_uefi) say(o, false, "it has no EFI system partition with a loader that firmware would find");
    else if (!l) say(o, false, "its loader is for %s, not for x86-64 PCs", image->loader[0].machine);
    else if (!o->secure_boot) say(o, true, "firmware finds %s", l->path);
    else if (!l->signed_) say(o, false, "%s is not signed, and Secure Boot takes only signed loaders", l->path);
    else if (l->issuer[0])
        say(o, true, "%s is signed, under %s; the firmware must know that authority, as most do", l->path, l->issuer);
    else say(o, true, "%s is signed; whose key it was could not be read", l->path);
}

void plan_look_out(struct ws_plan *plan, const struct ws_image *image) {
    ws_outlook_of(image, plan->drive.sector, plan->outlook);
}

void ws_outlook_of(const struct ws_image *image, uint32_t sector, struct ws_outlook outlook[WS_OUTLOOKS]) {
    for (size_t i = 0; i < WS_OUTLOOKS; i++) {
        struct ws_outlook *o = &outlook[i];
        o->firmware = i == 0 ? WS_FIRMWARE_BIOS : WS_FIRMWARE_UEFI;
        o->secure_boot = i == 2;
        if (!image) say(o, false, "nothing on it starts a PC");
        else if (image->table.kind == WS_TABLE_NONE)
            say(o, false, "the image has no partition table: firmware sees no drive it could start from");
        else if (sector != 512)
            say(o, false, "the drive has sectors of %u bytes, and the image's table counts in 512", sector);
        else if (i == 0) look_at_bios(image, o);
        else look_at_uefi(image, o);
    }
}
