/* firmware.c — a simulated PC walks the start-up chain over the real bytes of a drive, and says how far it got. */
#include "base/bytes.h"
#include "port/sim/internal.h"
#include "wild_satchel/change.h"
#include "wild_satchel/ext4.h"
#include "wild_satchel/medium.h"
#include "wild_satchel/start.h"
#include "wild_satchel/write.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct walk {
    const struct ws_source *drive;
    struct ws_drive *written;
    const struct ws_sim_pc *pc;
    struct sim_start *start;
    struct ws_table table;
    struct ws_medium medium; /* its tree is NULL if there is none */
    char menu_folder[256];   /* the loader's own folder; empty: GRUB's */
    struct ws_menu_entry entry;
    bool have_entry;
    bool loaded; /* the loader was found and let start */
    bool ours;   /* and it is our own start-up code */
};

static void say(struct walk *w, const char *format, const char *what) {
    ws_text_printf(&w->start->console, format, what);
    ws_text_puts(&w->start->console, "\n");
}

static bool has_unfinished_mark(struct walk *w, const uint8_t *sector) {
    bool changing = ws_changing_read(sector, NULL);
    if (!changing && !ws_is_unfinished(sector)) return false;
    say(w, "%s",
        changing ? "This drive was being changed, and that was not finished. There is nothing to start."
                 : "The build on this drive was begun and not finished. There is nothing to start.");
    return true;
}

/* BIOS: sector 0 runs. What it would do is known for hybrid images: it names the sector of its start program. */
static bool bios_loads(struct walk *w) {
    uint8_t sector[512];
    static const uint8_t none[440];
    if (ws_source_read(w->drive, 0, sector, 512, NULL) != WS_OK) {
        say(w, "%s", "The drive cannot be read.");
        return false;
    }
    if (has_unfinished_mark(w, sector)) return false;
    if (sector[510] != 0x55 || sector[511] != 0xaa) {
        say(w, "%s", "Not a start-up drive: sector 0 has no 55 AA signature.");
        return false;
    }
    if (w->table.sector != 512) {
        say(w, "%s", "This PC's BIOS reads sectors of 512 bytes, and the drive has others.");
        return false;
    }
    if (memcmp(sector, none, sizeof none) == 0) {
        say(w, "%s", "Sector 0 holds no start-up code. This PC has BIOS only: the drive was made for UEFI.");
        return false;
    }
    say(w, "%s", "BIOS: sector 0 has start-up code, running it.");
    if (ws_start_is_ours(sector)) {
        w->ours = ws_start_stage_is_sound(w->drive);
        if (!w->ours) say(w, "%s", "Wild Satchel: the start-up code cannot be read.");
        return w->ours;
    }
    if (!w->medium.iso) {
        say(w, "%s", "The start-up code finds no live image on this drive.");
        return false;
    }
    const struct ws_iso_facts *f = ws_iso_facts(w->medium.iso);
    uint64_t names = ws_load_le32(sector + 432) * 512ull;
    for (size_t i = 0; i < f->boots; i++) {
        if (f->boot[i].platform != 0 || !f->boot[i].bootable) continue;
        if (names && names != f->boot[i].at) continue;
        for (const struct ws_node *n = ws_tree_root(w->medium.tree); n; n = ws_tree_next(n)) {
            char path[256];
            if (n->kind != WS_NODE_FILE || !n->content || ws_iso_place_of(n) != f->boot[i].at) continue;
            ws_node_path(n, path, sizeof path);
            say(w, "Start program: %s", path);
            ws_node_path(n->parent, w->menu_folder, sizeof w->menu_folder);
            if (strstr(path, "grub")) w->menu_folder[0] = '\0';
            return true;
        }
    }
    say(w, "%s", "The start-up code points to a start program that is not there.");
    return false;
}

static enum ws_status pick_entry(void *context, const struct ws_node *file, const struct ws_menu *menu,
                                 struct ws_error *error) {
    struct walk *w = context;
    char folder[256];
    (void)error;
    if (!menu) return WS_OK;
    ws_node_path(file->parent, folder, sizeof folder);
    if (w->menu_folder[0]) {
        if (menu->kind != WS_MENU_SYSLINUX || strncmp(folder, w->menu_folder, strlen(w->menu_folder)) != 0)
            return WS_OK;
    } else if (menu->kind != WS_MENU_GRUB) {
        return WS_OK;
    }
    const struct ws_menu_entry *e = ws_menu_default(menu);
    if (e || !w->have_entry) {
        w->entry = e ? *e : menu->entry[0];
        w->have_entry = true;
    }
    return WS_OK;
}

static bool uefi_loads(struct walk *w) {
    struct ws_source *slice = NULL;
    struct ws_tree *esp = NULL;
    struct ws_error error;
    uint8_t sector[512];
    bool loads = false;
    if (ws_source_read(w->drive, 0, sector, 512, NULL) == WS_OK && has_unfinished_mark(w, sector)) return false;
    /* On removable drives firmware looks at any FAT volume (UEFI 2.10, section 3.5.1.1): the files' own one, too. */
    bool files = w->medium.tree && !w->medium.iso && w->medium.firmware;
    if (files) esp = w->medium.tree;
    else if (ws_esp_read(w->drive, &w->table, NULL, &slice, &esp, NULL, &error) != WS_OK) {
        say(w, "UEFI: nothing to start: %s.", error.what);
        return false;
    }
    struct ws_node *n = ws_tree_find_any_case(esp, "EFI/BOOT/BOOTX64.EFI");
    struct ws_loader loader = {0};
    if (!n) say(w, "%s", "UEFI: the EFI system partition has no /EFI/BOOT/BOOTX64.EFI.");
    else if (!ws_loader_look(n->content, &loader)) say(w, "%s", "UEFI: BOOTX64.EFI is not a UEFI program.");
    else if (strcmp(loader.machine, "x86-64") != 0)
        say(w, "UEFI: BOOTX64.EFI is for %s, not for this PC.", loader.machine);
    else if (w->pc->secure_boot && !loader.signed_)
        say(w, "%s",
            "Secure Boot: BOOTX64.EFI is not signed. Turn Secure Boot off, or use an image with a signed loader.");
    else loads = true;
    w->ours = loads && ws_start_program_is_ours(n->content);
    if (loads && !files) (void)ws_medium_menus(esp, pick_entry, w, NULL); /* a menu beside the loader goes first */
    if (loads) say(w, "UEFI: started /EFI/BOOT/BOOTX64.EFI%s", loader.signed_ ? " (signed)" : "");
    if (!files) ws_tree_close(esp);
    ws_source_close(slice);
    return loads;
}

static const struct ws_node *find_file(const struct walk *w, const char *path) {
    if (*path == '(' && strchr(path, ')')) path = strchr(path, ')') + 1;
    const struct ws_node *n = ws_tree_find_any_case(w->medium.tree, path);
    return n && n->kind == WS_NODE_FILE ? n : NULL;
}

static bool kernel_loads(struct walk *w) {
    uint8_t head[1024];
    const struct ws_node *kernel = find_file(w, w->entry.kernel);
    say(w, "Menu: %s", w->entry.title);
    if (!kernel) {
        say(w, "The kernel %s is not on the image.", w->entry.kernel);
        return false;
    }
    if (!kernel->content || kernel->content->size < sizeof head ||
        ws_source_read(kernel->content, 0, head, sizeof head, NULL) != WS_OK || memcmp(head + 0x202, "HdrS", 4) != 0) {
        say(w, "%s is not a Linux kernel.", w->entry.kernel);
        return false;
    }
    char list[1024];
    (void)snprintf(list, sizeof list, "%s", w->entry.initrd);
    for (char *p = list; *p;) {
        size_t n = strcspn(p, " ,");
        char was = p[n];
        p[n] = '\0';
        if (*p && !find_file(w, p)) {
            say(w, "The initial RAM disk %s is not on the image.", p);
            return false;
        }
        p += n + (was != '\0');
    }
    say(w, "Kernel %s", w->entry.kernel);
    say(w, "Parameters: %s", w->entry.parameters);
    return true;
}

/* The volume this family would use: by label, over every partition an operating system sees. */
static void find_volume(struct walk *w) {
    const struct ws_live_family *f = w->start->family;
    char word[128];
    char wanted[512];
    struct ws_remembering place = {0};
    struct ws_error error = {0};
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_ext4_facts facts;
    enum ws_status found = ws_medium_remembers_on(w->drive, &w->table, &w->medium, f, &place, &error);
    ws_live_parameters(f, place.in_file ? place.label : NULL, wanted, sizeof wanted);
    if (!ws_parameters_are_set(w->entry.parameters, wanted, word, sizeof word)) {
        say(w, "Changes go to memory: the parameter \"%s\" was not passed.", word);
        return;
    }
    if (found != WS_OK) {
        bool locked = f->lock_parameters && ws_parameter_is_set(w->entry.parameters, f->lock_parameters) &&
                      ws_medium_locked_on(w->drive, &w->table, &place);
        say(w, "Changes go to memory: %s.",
            locked ? "it asks for the passphrase of its locked volume, and nobody types it" : error.what);
        return;
    }
    if (ws_source_slice(w->drive, place.at, place.length, &slice, NULL) != WS_OK) return;
    if (ws_ext4_read(slice, &tree, &facts, &error) != WS_OK) {
        say(w, "The persistence volume cannot be mounted: %s", error.what);
    } else {
        bool complete = !f->config_path || ws_tree_find(tree, f->config_path);
        for (size_t k = 0; k < 3 && f->folders[k]; k++) complete &= ws_tree_find(tree, f->folders[k]) != NULL;
        if (complete) {
            w->start->volume_at = place.at;
            w->start->volume_size = place.length;
            say(w, place.in_file ? "Changes are kept in the file \"%s\"." : "Changes are kept on the volume \"%s\".",
                place.in_file ? f->overlay_file : facts.label);
            if (facts.needs_recovery) say(w, "%s", "It was not shut down cleanly: its journal was replayed.");
        } else {
            say(w, "The volume \"%s\" lacks what this system wants on it; changes go to memory.", facts.label);
        }
    }
    if (tree) ws_tree_close(tree);
    ws_source_close(slice);
}

static void system_starts(struct walk *w) {
    struct sim_start *s = w->start;
    s->family = ws_live_family_of_parameters(w->entry.parameters);
    (void)snprintf(s->parameters, sizeof s->parameters, "%s", w->entry.parameters);
    const struct ws_live_family *medium = ws_live_family_of_medium(w->medium.tree, &s->own_family);
    if (!s->family && medium && ws_live_family_starts(medium, w->entry.parameters)) s->family = medium;
    if (!s->family) {
        say(w, "%s",
            "The kernel starts, but its parameters name no live system: it stops for want of a root file system.");
        return;
    }
    if (medium && strcmp(medium->folder, s->family->folder) == 0) s->family = medium; /* an older release's label */
    char wanted[96];
    if (ws_medium_is_another(&w->medium, w->entry.parameters, wanted, sizeof wanted)) {
        say(w, "The live system waits for a %s, and there is none.", wanted);
        return;
    }
    const struct ws_node *root = NULL;
    for (size_t i = 0; i < 4 && s->family->roots[i] && !root; i++) {
        root = find_file(w, s->family->roots[i]);
        if (root) (void)snprintf(s->root_path, sizeof s->root_path, "%s", s->family->roots[i]);
    }
    if (!root) {
        say(w, "%s: unable to find a medium containing a live file system.", s->family->title);
        return;
    }
    s->medium_at = ws_medium_place_of(&w->medium, root);
    say(w, "%s: system started.", s->family->title);
    find_volume(w);
    s->running = true;
}

/* Of a root that is a file no kernel knows by itself: the small initial RAM disk must have come along. */
static bool finds_root(const struct walk *w, const struct ws_tree *root, uint64_t at) {
    size_t count;
    const struct ws_partition *p = ws_table_partitions(&w->table, &count);
    bool partition = false, program = false;
    for (size_t i = 0; i < count; i++) partition |= p[i].at == at;
    const char *first = strstr(w->entry.parameters, "rdinit=" WS_INSIDE_PROGRAM);
    for (const char *word = w->entry.initrd; *word && !partition;) {
        char path[256];
        struct ws_initrd_facts facts;
        size_t n = strcspn(word, " ");
        (void)snprintf(path, sizeof path, "%.*s", (int)ws_min_u64(n, sizeof path - 1), word);
        const struct ws_node *file = ws_system_find(root, path);
        program |= file && file->content && strstr(path, "/start-inside-") &&
                   ws_initrd_look(file->content, &facts, NULL) == WS_OK;
        word += n + (word[n] != '\0');
    }
    return partition || (first && program);
}

/* A full system: the kernel mounts the volume that its parameters name. */
static void root_starts(struct walk *w) {
    struct sim_start *s = w->start;
    struct ws_source *slice = NULL;
    struct ws_tree *tree = NULL;
    struct ws_error why = {0};
    struct ws_system_facts facts;
    uint64_t at = 0, length = 0;
    (void)snprintf(s->parameters, sizeof s->parameters, "%s", w->entry.parameters);
    say(w, "Menu: %s", w->entry.title);
    say(w, "Parameters: %s", w->entry.parameters);
    enum ws_status status = ws_system_volume(w->drive, &w->table, w->entry.parameters, &at, &length, &why);
    if (status == WS_OK) status = ws_source_slice(w->drive, at, length, &slice, &why);
    if (status == WS_OK) status = ws_ext4_read(slice, &tree, NULL, &why);
    if (status == WS_OK) status = ws_system_look(tree, &facts, &why);
    if (status == WS_OK && !finds_root(w, tree, at))
        status = ws_fail(&why, WS_E_NOTFOUND, "it is a file, and nothing was started that finds it");
    if (status == WS_OK) {
        say(w, "%s: system started.", facts.name[0] ? facts.name : "Its root is mounted");
        s->volume_at = at;
        s->volume_size = length;
        s->running = true;
    } else {
        say(w, "The kernel starts, and cannot mount its root: %s.", why.what);
    }
    ws_tree_close(tree);
    ws_source_close(slice);
}

static enum ws_status write_drive(void *context, uint64_t at, const void *bytes, size_t length,
                                  struct ws_error *error) {
    struct ws_drive *drive = context;
    WS_TRY(drive->ops->write(drive, at, bytes, length, error));
    return drive->ops->flush(drive, error);
}

/* Our own code: it is run, the same lines as on a PC, up to where the kernel takes over. */
static bool run_ours(struct walk *w) {
    struct ws_rehearsal r = {.firmware = w->pc->firmware == WS_FIRMWARE_BIOS ? "BIOS" : "UEFI",
                             .sector = w->table.sector,
                             .write = write_drive,
                             .write_context = w->written};
    if (ws_start_rehearse(w->drive, &r, NULL) != WS_OK) return false;
    ws_text_puts(&w->start->console, r.console.data ? r.console.data : "");
    if (r.starts) {
        (void)snprintf(w->entry.title, sizeof w->entry.title, "%s", r.entry.title);
        (void)snprintf(w->entry.kernel, sizeof w->entry.kernel, "%s", r.entry.linux_path);
        (void)snprintf(w->entry.parameters, sizeof w->entry.parameters, "%.1023s", r.entry.options);
        for (unsigned i = 0; i < r.entry.initrds; i++) {
            size_t n = strlen(w->entry.initrd);
            (void)snprintf(w->entry.initrd + n, sizeof w->entry.initrd - n, "%s%s", i ? " " : "", r.entry.initrd[i]);
        }
    }
    ws_rehearsal_free(&r);
    return r.starts;
}

/* A root's own loaders, which read its own menu. */
static bool run_chain(struct walk *w) {
    struct ws_error why = {0};
    bool kernel_signed = false;
    if (w->pc->firmware == WS_FIRMWARE_BIOS ||
        ws_chain_follow(w->drive, &w->table, &w->entry, &kernel_signed, &why) != WS_OK) {
        say(w, "The loader finds no live image on this drive%s", why.what[0] ? ": " : ".");
        if (why.what[0]) say(w, "%s.", why.what);
        return false;
    }
    if (!w->pc->secure_boot || kernel_signed) return true;
    say(w, "Secure Boot: the kernel %s is not signed.", w->entry.kernel);
    return false;
}

enum ws_status sim_walk(const struct ws_source *drive, struct ws_drive *written, uint32_t sector,
                        const struct ws_sim_pc *pc, struct sim_start *start, struct ws_error *error) {
    struct walk *w = calloc(1, sizeof *w);
    if (!w) return ws_fail(error, WS_E_NOMEM, "out of memory for a PC");
    memset(start, 0, sizeof *start);
    w->drive = drive;
    w->written = written;
    w->pc = pc;
    w->start = start;
    enum ws_status status = ws_table_read(drive, sector, &w->table, NULL, error);
    if (status == WS_OK) (void)ws_medium_open(drive, &w->table, &w->medium, error);
    if (status == WS_OK) w->loaded = pc->firmware == WS_FIRMWARE_BIOS ? bios_loads(w) : uefi_loads(w);
    if (w->loaded && !w->medium.tree && !w->ours && run_chain(w)) root_starts(w);
    if (w->loaded && !w->medium.tree && w->ours && run_ours(w)) root_starts(w);
    if (w->loaded && w->ours && w->medium.tree) {
        if (run_ours(w) && kernel_loads(w)) system_starts(w);
    } else if (w->loaded && w->medium.tree) {
        if (!w->have_entry) (void)ws_medium_menus(w->medium.tree, pick_entry, w, NULL);
        if (!w->have_entry) say(w, "%s", "The loader finds no menu that starts a kernel.");
        else if (kernel_loads(w)) system_starts(w);
    }
    ws_medium_close(&w->medium);
    free(w);
    if (status == WS_OK) status = ws_text_status(&start->console, error);
    return status;
}
