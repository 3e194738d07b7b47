/* notes.c — what was decided without being asked for, and where a drive laid down file by file will start. */
#include "assemble/internal.h"

#include <stdio.h>

void build_note_persistence(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    char size[48];
    if (!b->remembers) {
        plan_chose(p, "persistence", "none", "%s: the system forgets at power-off",
                   p->family ? "as asked" : "it belongs to no live family known here");
        return;
    }
    const struct ws_volume *v = plan_volume(p, WS_ROLE_PERSISTENCE);
    bool beside = b->holder == WS_ROLE_SYSTEM;
    build_note_lock(b, p->family->title, "the live system itself stands");
    plan_chose(p, b->in_file ? "file name" : "label", b->in_file ? p->family->overlay_file : p->family->label,
               "%s looks for exactly this one; do not change it", p->family->title);
    if (b->in_file)
        plan_chose(p, "overlay file", beside ? "beside the system" : "on the data partition",
                   beside                      ? "%s looks for it there, too"
                   : p->family->overlay_beside ? "an image laid down whole takes no more files"
                                               : "%s does not look for it on the volume it starts from",
                   p->family->title);
    struct ws_size asked = build_wanted_size(p, WS_ROLE_PERSISTENCE);
    if (b->overlay || asked.kind == WS_SIZE_BYTES || asked.kind == WS_SIZE_LEAST) return;
    bool ends = b->in_file && v->size == build_overlay_most(b);
    plan_chose(p, "persistence", ws_size_counted(v->size, size, sizeof size), "%s",
               ends         ? "FAT32 ends a file there; a partition has no such end"
               : b->in_file ? "the most of what is left, for want of a size"
                            : "all that is left, for want of a size");
}

/* A BIOS reads sectors of 512 bytes. */
static bool bios_reads(const struct ws_plan *p) { return p->drive.sector == 512; }

static void note_choices(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    bool own = p->facts.own_uefi;
    bool kernel = !b->no_kernel;
    bool loader = b->have_loader;
    bool start = build_needs_start(p);
    char size[48];
    if (bios_reads(p) && kernel)
        plan_chose(p, "start on BIOS", "our own code", "the image's own reads only the image as a whole");
    else if (!bios_reads(p))
        ws_findings_add(
            &p->findings, WS_NOTE,
            "the drive counts in sectors of %u bytes: through an adapter that shows it with others, nothing "
            "on it is found",
            p->drive.sector);
    if (p->request.uefi_code == WS_UEFI_CODE_AUTO)
        plan_chose(p, "start on UEFI", own ? "our own code" : "the image's loader",
                   start && !kernel
                       ? "firmware reads no exFAT: our program shows it the files, and starts the image's loader"
                   : start  ? "firmware reads no exFAT, our program does"
                   : !own   ? "it is what firmware and Secure Boot know"
                   : loader ? "the image's is not signed, and whether it reads FAT is not known"
                            : "the image brings none for x86-64 PCs");
    plan_chose(p, "arrangement", "file by file", "the drive stays an ordinary one, its files can be seen and added to");
    plan_chose(p, "table", ws_table_kind_name(p->facts.table),
               p->facts.table == WS_TABLE_MBR          ? "every PC reads it"
               : p->request.table == WS_TABLE_WISH_GPT ? "as asked"
               : !bios_reads(p)                        ? "no BIOS starts from sectors of this size, and UEFI knows both"
                                                       : "an MBR would end at 2 TiB");
    plan_chose(p, "alignment", ws_size_counted(p->facts.align, size, sizeof size),
               "the erase units of usual drives divide it evenly");
    if (start)
        plan_chose(p, "file system", "exFAT", "as asked: files of over 4 GiB%s",
                   kernel ? "; the live system must bring its driver" : "");
    else if (!b->remembers) plan_chose(p, "file system", "FAT32", "firmware reads nothing else");
    else
        plan_chose(p, "file system", "FAT32, ext4",
                   "FAT32 for the system's files: firmware reads nothing else; ext4 for what is remembered");
    build_note_persistence(b);
    if (p->request.rules.label[0])
        plan_chose(p, "system's label", p->request.rules.label, "the rules want exactly this one");
}

/* What this arrangement changes in the outlook: the image's own BIOS start-up code cannot read these files, ours can.
 */
void build_correct_outlook(const struct ws_build *b) {
    bool own = b->plan->facts.own_uefi;
    const struct ws_loader *l = own || !b->have_loader ? NULL : &b->loader;
    struct ws_plan *p = b->plan;
    struct ws_outlook *bios = &p->outlook[0];
    bios->starts = bios_reads(p) && !b->no_kernel;
    if (b->no_kernel)
        (void)snprintf(bios->why, sizeof bios->why, "there is no kernel that our start-up code could start");
    else if (bios->starts)
        (void)snprintf(bios->why, sizeof bios->why, "by our own start-up code; %s",
                       p->facts.table == WS_TABLE_MBR ? "the partition is active, as some old BIOSes want it"
                                                      : "a few old BIOSes start from no drive with a GPT");
    else
        (void)snprintf(bios->why, sizeof bios->why, "a BIOS reads sectors of 512 bytes, the drive's have %u",
                       p->drive.sector);
    for (size_t i = 1; i < WS_OUTLOOKS; i++) {
        struct ws_outlook *o = &p->outlook[i];
        if (own) {
            o->starts = !o->secure_boot;
            (void)snprintf(o->why, sizeof o->why,
                           o->starts && b->no_kernel
                               ? "our own start-up code starts the image's loader, which reads its files through it"
                           : o->starts
                               ? "by our own start-up code, /EFI/BOOT/BOOTX64.EFI"
                               : "our own start-up code is not signed, and Secure Boot takes only signed loaders");
            continue;
        }
        o->starts = l && l->signed_;
        (void)snprintf(o->why, sizeof o->why,
                       !l               ? "the image's loader is not for x86-64 PCs"
                       : o->starts      ? "firmware finds %s%s%s"
                       : o->secure_boot ? "%s is not signed, and Secure Boot takes only signed loaders"
                                        : "firmware starts %s, but whether that finds its files on FAT is not known",
                       l ? l->path : "", l && o->secure_boot ? ", signed under " : "",
                       l && o->secure_boot ? l->issuer[0] ? l->issuer : "a key that could not be read" : "");
    }
}

void build_note_files(struct ws_build *b) {
    b->plan->facts.own_uefi = build_own_uefi(b);
    note_choices(b);
    build_correct_outlook(b);
}
