/* ability.c — can this live system do what the plan wants of it? As its initial RAM disk says. */
#include "assemble/internal.h"

#include "wild_satchel/ability.h"

#include <string.h>

/* A driver that something stands or falls with. Known to be nowhere it is a fault, not known to be there a warning. */
static void want_driver(struct ws_build *b, const struct ws_live_ability *a, enum ws_driver driver, const char *what) {
    if (a->drivers >> driver & 1) return;
    if (a->built_in)
        ws_findings_add(&b->plan->findings, WS_FAULT, "%s: neither %s nor its kernel has the driver %s", what,
                        a->initrd, ws_driver_name(driver));
    else
        ws_findings_add(&b->plan->findings, WS_WARNING,
                        "%s unless its kernel has the driver %s built in: %s does not have it, and a proof on an "
                        "emulated PC tells",
                        what, ws_driver_name(driver), a->initrd);
}

static enum ws_driver driver_of(const struct ws_format *format) {
    static const struct {
        const char *word;
        enum ws_driver driver;
    } drivers[] = {{"fat32", WS_DRIVER_VFAT}, {"exfat", WS_DRIVER_EXFAT}, {"ext4", WS_DRIVER_EXT4}};
    for (size_t i = 0; i < sizeof drivers / sizeof drivers[0]; i++)
        if (strcmp(format->word, drivers[i].word) == 0) return drivers[i].driver;
    return WS_DRIVERS;
}

static void note_memory(struct ws_build *b, const struct ws_live_ability *a) {
    struct ws_plan *p = b->plan;
    const struct ws_live_family *f = p->family;
    const struct ws_format *format = NULL;
    const char *forgets = "it would forget everything";
    if (a->scripts && !a->parameter)
        ws_findings_add(&p->findings, WS_FAULT, "%s: the scripts of %s in %s do not know \"%s\"", forgets, f->title,
                        a->initrd, f->parameters);
    else if (a->scripts && !b->in_file && !a->volume)
        ws_findings_add(&p->findings, WS_FAULT, "%s: the scripts in %s look for no volume labelled \"%s\"", forgets,
                        a->initrd, f->label);
    else if (a->scripts && b->in_file && !a->file)
        ws_findings_add(&p->findings, WS_FAULT, "%s: the scripts in %s look for no file \"%s\"", forgets, a->initrd,
                        f->overlay_file);
    else if (!a->scripts)
        ws_findings_add(&p->findings, WS_WARNING,
                        "%s has no scripts of %s known here: whether it remembers, a proof tells", a->initrd, f->title);
    want_driver(b, a, WS_DRIVER_EXT4, forgets);
    if (build_locks(p, WS_ROLE_PERSISTENCE)) {
        if (a->scripts && !a->locked)
            ws_findings_add(&p->findings, WS_FAULT,
                            "%s: %s has no scripts that open a locked volume, or not what they ask for a passphrase by "
                            "(cryptsetup and its askpass)",
                            forgets, a->initrd);
        want_driver(b, a, WS_DRIVER_CRYPT, forgets);
        want_driver(b, a, WS_DRIVER_XTS, forgets);
    }
    if (!b->in_file) return;
    want_driver(b, a, WS_DRIVER_LOOP, forgets);
    if (b->holder == WS_ROLE_DATA && build_format(p, WS_ROLE_DATA, &format, NULL) == WS_OK &&
        driver_of(format) < WS_DRIVERS)
        want_driver(b, a, driver_of(format), forgets);
}

/* exFAT is what initial RAM disks often lack. */
static void note_unread(struct ws_build *b, const char *why) {
    struct ws_plan *p = b->plan;
    const struct ws_format *data = NULL;
    bool exfat = p->facts.kind == WS_KIND_LIVE_FILES && build_needs_start(p) && !b->no_kernel;
    exfat |= b->in_file && b->holder == WS_ROLE_DATA && build_format(p, WS_ROLE_DATA, &data, NULL) == WS_OK &&
             driver_of(data) == WS_DRIVER_EXFAT;
    if (exfat)
        ws_findings_add(&p->findings, WS_WARNING,
                        "its initial RAM disk must bring the driver exfat, and is not read (%s): a proof on an "
                        "emulated PC tells",
                        why);
    else if (b->remembers)
        ws_findings_add(&p->findings, WS_NOTE, "what its initial RAM disk can do is not read: %s", why);
}

void build_note_ability(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    struct ws_live_ability a;
    struct ws_error why = {0};
    const struct ws_format *format = NULL;
    if (!b->image.iso) return;
    if (!p->family) {
        if (p->facts.kind == WS_KIND_LIVE_FILES) note_unread(b, "it is of no family known here");
        return;
    }
    if (ws_live_ability_look(ws_iso_tree(b->image.iso), p->family, &a, &why) != WS_OK) {
        note_unread(b, why.what);
        return;
    }
    if (p->facts.kind == WS_KIND_LIVE_FILES && build_format(p, WS_ROLE_SYSTEM, &format, NULL) == WS_OK &&
        driver_of(format) < WS_DRIVERS)
        want_driver(b, &a, driver_of(format), "it would not find its own files");
    if (b->remembers) note_memory(b, &a);
}
