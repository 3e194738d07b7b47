/* main.c — from the drive's first partition to a running kernel. */
#include "start.h"

struct looking {
    struct start_machine *m;
    struct start_volume *volume;
    struct start_menu *menu;
    unsigned partitions, volumes;
    bool found;
};

static bool look_inside(void *context, const char *name, struct start_volume *inside) {
    struct looking *l = context;
    (void)name;
    l->volumes++;
    l->found = start_entries_read(inside, l->menu);
    return !l->found;
}

static bool look(void *context, uint64_t at, uint64_t length) {
    struct looking *l = context;
    l->partitions++;
    if (!start_mount(l->m, at, length, l->volume)) return true;
    l->volumes++;
    l->found = start_entries_read(l->volume, l->menu);
    if (l->found) return false;
    struct start_volume host; /* what is found stays where the menu was told it is */
    if (!start_mount(l->m, at, length, &host)) return true;
    return !start_inside(&host, l->volume, look_inside, l);
}

/* What the kernels are told to talk to, the menu talks to, too: "console=ttyS0,115200n8". */
static void find_serial(struct start_machine *m, const struct start_menu *menu) {
    for (unsigned i = 0; i < menu->entries; i++)
        for (const char *p = menu->entry[i].options; *p; p++) {
            if (memcmp(p, "console=ttyS", start_length(p) < 12 ? start_length(p) : 12) != 0 || start_length(p) < 13)
                continue;
            uint32_t speed = 0;
            p += 12;
            unsigned port = (unsigned)(*p - '0');
            if (port > 3) continue;
            if (p[1] == ',')
                for (p += 2; *p >= '0' && *p <= '9' && speed < 1000000; p++) speed = speed * 10 + (uint32_t)(*p - '0');
            m->serial(m, port, speed ? speed : 9600);
            return;
        }
}

static bool open_file(struct start_volume *v, const char *what, const char *path, struct start_file *f) {
    char why[200];
    if (start_open(v, path, f)) return !f->folder || start_fail(v->m, "%s %s is a folder", what, path);
    start_format(why, sizeof why, "%s", v->m->error);
    return start_fail(v->m, why[0] == '/' ? "%s %s" : "%s: %s", what, why);
}

static bool open_all(struct start_volume *v, const struct start_entry *e, struct start_launch *l) {
    if (!open_file(v, e->efi ? "the loader" : "the kernel", e->linux, &l->kernel)) return false;
    for (unsigned i = 0; i < e->initrds; i++, l->initrds++)
        if (!open_file(v, "the initial RAM disk", e->initrd[i], &l->initrd[i])) return false;
    return true;
}

/* One choice carried out. @return whether it was the user who stopped it */
static bool carry_out(struct start_volume *v, const struct start_menu *menu, const char *options) {
    const struct start_entry *e = &menu->entry[menu->chosen];
    struct start_launch l = {.entry = e, .options = options};
    struct start_machine *m = v->m;
    start_say(m, "Starting %s\n", e->title);
    if (!start_check_files(v, e)) return true;
    bool there = open_all(v, e, &l);
    if (there && e->counted && e->left && !start_count_down(v, menu, e))
        start_say(m, "That this is a try could not be noted: %s.\n", m->error);
    if (there && m->launch(m, &l)) return false;
    start_say(m, "\nThis cannot be started: %s.\n", m->error);
    return false;
}

void start_run(struct start_machine *m) {
    struct start_volume volume;
    struct start_menu menu;
    struct looking l = {.m = m, .volume = &volume, .menu = &menu};
    char *options = m->take(m, START_OPTIONS_MOST);
    if (!options) {
        m->put(m, "Wild Satchel: this PC has too little memory.\n");
        return;
    }
    m->error[0] = '\0';
    bool readable = start_partitions(m, look, &l);
    if (!l.found) {
        start_say(m, "\nWild Satchel: nothing to start was found on this drive.\n");
        if (!readable) start_say(m, "The drive cannot be read: %s.\n", m->error);
        else
            start_say(m, "%u partitions, %u of them readable, none with entries in /loader/entries%s%s.\n",
                      l.partitions, l.volumes, m->error[0] ? ": " : "", m->error);
        start_say(m, "Build the drive anew, or start another one.\n");
        return;
    }
    find_serial(m, &menu);
    while (!m->off) {
        bool by_itself = start_menu_show(m, &menu, options, START_OPTIONS_MOST);
        if (m->off) return;
        bool stopped = carry_out(&volume, &menu, options);
        if (!stopped && by_itself && menu.chosen + 1 < menu.entries) { /* nobody is there, or wants this one more */
            menu.chosen++;
            start_say(m, "The next one is tried. Any key brings the menu.\n");
            menu.timeout_s = 0;
            if (!m->key(m, START_NEXT_WAIT * 1000)) continue;
        } else if (!stopped) {
            start_say(m, "Press a key for the menu.\n");
            (void)start_wait_key(m);
        }
        menu.timeout_s = START_WAIT_EVER;
    }
}
