/* root.c — the root that a full system is made of, its kernels, and what starts it. */
#include "assemble/batch.h"

#include <stdio.h>
#include <string.h>

/* The files of a live medium: a disc image's, or those of a live stick's volume laid down file by file. */
static enum ws_status read_medium(const struct ws_image *image, struct ws_tree **medium, struct ws_error *error) {
    const struct ws_format *format = image->iso || *medium ? NULL : ws_format_of(image->source, NULL);
    if (!format || !format->everywhere || !format->read) return WS_OK;
    return format->read(image->source, medium, NULL, error);
}

static const struct ws_tree *medium_of(const struct ws_image *image, const struct ws_tree *medium) {
    return image->iso ? ws_iso_tree(image->iso) : medium;
}

enum ws_status build_read_root(const struct ws_image *image, const char *edition, struct ws_tree **medium,
                               struct ws_root *root, struct ws_error *error) {
    WS_TRY(read_medium(image, medium, error));
    return ws_root_open(image->source, medium_of(image, *medium), edition, root, error);
}

/* The root, with the kernel of its live medium where it has none of its own. */
enum ws_status build_open_root(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (b->batch) WS_TRY(batch_take_root(b->batch, b, &b->root, error));
    else WS_TRY(build_read_root(&b->image, p->request.edition, &b->medium, &b->root, error));
    WS_TRY(read_medium(&b->image, &b->medium, error));
    const struct ws_tree *medium = medium_of(&b->image, b->medium);
    WS_TRY(ws_system_look(b->root.tree, facts, error));
    if (facts->machine[0] && strcmp(facts->machine, "x86-64") != 0) {
        ws_fail(error, WS_E_UNSUPPORTED, "its programs are made for %s, and PCs are x86-64", facts->machine);
        return ws_fail_next(error, "take the edition for x86-64 PCs");
    }
    if (!facts->machine[0])
        ws_findings_add(&p->findings, WS_WARNING, "what machine its programs are made for cannot be told");
    if (facts->kernels == 0 && medium) {
        WS_TRY(ws_system_adopt_kernel(b->root.tree, medium, error));
        WS_TRY(ws_system_look(b->root.tree, facts, error));
        if (facts->kernels)
            plan_chose(p, "kernel", facts->kernel[0].version, "the root has none of its own: it is its live medium's");
    }
    if (facts->name[0]) memcpy(p->facts.title, facts->name, sizeof facts->name); /* else what its image is called */
    else memcpy(facts->name, p->facts.title, sizeof facts->name);
    b->tree[WS_ROLE_SYSTEM] = b->root.tree; /* closed with the build, what it borrows after it */
    b->root.tree = NULL;
    return WS_OK;
}

/* Why a kernel could not open its root, where that is locked, or stands in a file: all of a menu are told the same
 * words, those of the newest that can. NULL: it could, or need not */
static const char *cannot_open(const struct ws_build *b, const struct ws_system_facts *facts,
                               const struct ws_kernel *k) {
    char wanted[WS_UNLOCK_ROOM], words[WS_UNLOCK_ROOM], crypttab[WS_UNLOCK_ROOM];
    const struct ws_kernel *first = facts->kernel;
    if (build_inside(b->plan)) return ws_kernel_cannot_stand_inside(b->tree[WS_ROLE_SYSTEM], k);
    if (!build_is_locked(b->plan)) return NULL;
    if (ws_kernel_cannot_unlock(k)) return ws_kernel_cannot_unlock(k);
    while (ws_kernel_cannot_unlock(first)) first++; /* to this one at the latest */
    ws_unlock_words(first, "", wanted, crypttab);
    ws_unlock_words(k, "", words, crypttab);
    return strcmp(words, wanted) == 0 ? NULL
                                      : "its initial RAM disk is told in other words than that of a newer kernel";
}

/* What is known of a kernel's way to its root, where it is not all well. */
static void note_kernel(struct ws_build *b, const struct ws_kernel *k, const char *locked_out,
                        const struct ws_error *why) {
    char names[120];
    struct ws_findings *findings = &b->plan->findings;
    if (ws_kernel_lacks(k))
        ws_findings_add(findings, WS_WARNING, "the kernel %s is left out of the menu: it has no driver %s", k->version,
                        ws_driver_names(ws_kernel_lacks(k), names, sizeof names));
    else if (locked_out)
        ws_findings_add(findings, WS_WARNING,
                        "the kernel %s is left out of the menu: it could not find or open its root, for %s", k->version,
                        locked_out);
    else if (!k->initrd[0])
        ws_findings_add(
            findings, WS_WARNING,
            "the kernel %s has no initial RAM disk: it finds its root by UUID only if it needs none, and is "
            "an entry only where no other kernel has one",
            k->version);
    else if (!k->known)
        ws_findings_add(findings, WS_WARNING, "%s is not read: %s; a proof tells whether it starts", k->initrd,
                        why->what);
    else if (k->known && ws_kernel_unsure(k))
        ws_findings_add(findings, WS_WARNING, "%s has no driver %s, and whether its kernel has is not known", k->initrd,
                        ws_driver_names(ws_kernel_unsure(k), names, sizeof names));
}

/* One without an initial RAM disk may find it, but does not where others need theirs. */
static bool finds_root(const struct ws_build *b, const struct ws_system_facts *facts, const struct ws_kernel *k) {
    bool others = false;
    if (cannot_open(b, facts, k)) return false;
    for (size_t i = 0; i < facts->kernels; i++) others |= facts->kernel[i].initrd[0] != '\0';
    return !ws_kernel_lacks(k) && (k->initrd[0] || !others);
}

/* Read, with drivers for USB drives added where those are missing and the root has them. */
static enum ws_status look_at_kernel(struct ws_build *b, struct ws_kernel *k, struct ws_error *why,
                                     struct ws_error *error) {
    struct ws_tree *root = b->tree[WS_ROLE_SYSTEM];
    char names[120];
    uint32_t added = 0;
    enum ws_status status = ws_kernel_look(root, k, why);
    if (status == WS_OK) status = ws_kernel_add_drivers(root, k, b->plan->facts.made_at, &added, why);
    if (status == WS_OK && added) {
        plan_edited(b->plan, k->initrd, "drivers for USB drives put behind it: %s",
                    ws_driver_names(added, names, sizeof names));
        status = ws_kernel_look(root, k, why);
    }
    if (status != WS_E_NOMEM && status != WS_E_READ) return WS_OK;
    if (error) *error = *why;
    return status;
}

/* A kernel that would wait for its root for ever is no entry of the menu. */
enum ws_status build_look_at_kernels(struct ws_build *b, struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_error why[WS_KERNELS_MOST] = {0};
    char names[120];
    size_t left = 0;
    for (size_t i = 0; i < facts->kernels; i++) WS_TRY(look_at_kernel(b, &facts->kernel[i], &why[i], error));
    for (size_t i = 0; i < facts->kernels; i++) left += finds_root(b, facts, &facts->kernel[i]);
    const struct ws_kernel *first = &facts->kernel[0];
    if (facts->kernels && !left && cannot_open(b, facts, first)) {
        bool file = build_inside(b->plan);
        ws_fail(error, WS_E_UNSUPPORTED, "the kernel %s could not %s: %s", first->version,
                file ? "find its root in a file" : "open a locked root", cannot_open(b, facts, first));
        if (file) return ws_fail_hint(error, WS_HINT_PLACE, "", "leave the system a partition of its own");
        return ws_fail_next(error, "have its system make the initial RAM disk anew, with what asks for a passphrase in "
                                   "it (cryptsetup), or leave the drive open");
    }
    if (facts->kernels && !left) {
        ws_fail(error, WS_E_UNSUPPORTED, "the kernel %s would not find its root on a USB drive: %s has no driver %s",
                first->version, first->initrd, ws_driver_names(ws_kernel_lacks(first), names, sizeof names));
        return ws_fail_next(error, "have its system make the initial RAM disk anew, with all drivers");
    }
    for (size_t i = left = 0; i < facts->kernels; i++) {
        struct ws_kernel k = facts->kernel[i];
        note_kernel(b, &k, cannot_open(b, facts, &k), &why[i]);
        if (!finds_root(b, facts, &k)) continue;
        memmove(&facts->kernel[left + 1], &facts->kernel[left], (i - left) * sizeof k); /* the others move behind */
        facts->kernel[left++] = k;
    }
    facts->left_out = facts->kernels - left;
    facts->kernels = left;
    return WS_OK;
}

/* Unasked, a root's own loaders start it where Secure Boot has a use for them: with a kernel that is signed, too. */
enum ws_status build_choose_loader(struct ws_build *b, const struct ws_system_facts *facts, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_loader kernel = {0};
    const struct ws_tree *root = b->tree[WS_ROLE_SYSTEM];
    enum ws_uefi_code wanted = p->request.uefi_code;
    bool inside = build_inside(p); /* the one that was tried takes all of a file to memory first */
    bool found = wanted != WS_UEFI_CODE_OWN && !inside && ws_chain_find(root, &b->chain);
    bool sayable = ws_chain_can_say(b->kernel_options);
    const struct ws_node *n = facts->kernels ? ws_system_find(root, facts->kernel[0].path) : NULL;
    b->kernel_signed = n && n->content && ws_loader_look(n->content, &kernel) && kernel.signed_;
    if (wanted == WS_UEFI_CODE_IMAGE && (!found || !sayable)) {
        ws_fail(error, WS_E_UNSUPPORTED,
                inside ? "no signed loader is known to start a system out of a file: our own start-up code does"
                : found
                    ? "the root's own loader cannot be told these kernel parameters"
                    : "the root brings no signed loaders for x86-64 PCs of which it is known how they find their menu");
        return ws_fail_hint(error, WS_HINT_UEFI_CODE, "",
                            "leave that to the plan: our own start-up code is taken then");
    }
    b->have_chain = found && sayable && (wanted == WS_UEFI_CODE_IMAGE || b->kernel_signed);
    b->have_loader = b->have_chain;
    if (b->have_chain) b->loader = b->chain.loader;
    p->facts.own_uefi = !b->have_chain;
    return WS_OK;
}

/* Firmware checks the loaders, the loaders check the kernel. */
void build_system_outlook(struct ws_build *b) {
    build_correct_outlook(b);
    for (size_t i = 1; i < WS_OUTLOOKS && b->have_chain; i++) {
        struct ws_outlook *o = &b->plan->outlook[i];
        o->starts = !o->secure_boot || b->kernel_signed;
        if (!o->secure_boot) (void)snprintf(o->why, sizeof o->why, "by the root's own loader, /EFI/BOOT/BOOTX64.EFI");
        else if (b->kernel_signed)
            (void)snprintf(o->why, sizeof o->why, "its own loader is signed under %s, and its kernel is signed, too",
                           b->loader.issuer[0] ? b->loader.issuer : "a key that could not be read");
        else (void)snprintf(o->why, sizeof o->why, "its loader is signed, and its kernel is not");
    }
}
