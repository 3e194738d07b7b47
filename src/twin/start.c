/* start.c — the system on an original: its volumes, and what its own menu tells its kernel. */
#include "system/edit.h"
#include "twin/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A root has an init, and is no layer or rescue folder of another system. */
static bool is_root(const struct ws_original_volume *v, struct ws_system_facts *facts) {
    return v->tree && strcmp(v->format->word, "ext4") == 0 && ws_system_look(v->tree, facts, NULL) == WS_OK &&
           facts->init != WS_INIT_UNKNOWN && ws_tree_find(v->tree, "etc/fstab");
}

static size_t find_mounted(const struct ws_original *o, const char *const places[], size_t count) {
    char at[256];
    for (size_t i = 0; i < o->volumes; i++) {
        if (i == o->root || !o->volume[i].tree) continue;
        twin_mounted_at(o, i, at, sizeof at);
        for (size_t k = 0; k < count; k++)
            if (strcmp(at, places[k]) == 0) return i;
    }
    return o->volumes;
}

/* What firmware reads, even if no system mounts it: by its type (UEFI 2.10, sections 5.2.2 and 5.3.3). */
static size_t find_firmware(const struct ws_original *o) {
    for (size_t i = 0; i < o->volumes; i++) {
        const struct ws_original_volume *v = &o->volume[i];
        const struct ws_partition_type *type = ws_partition_type_of(&v->place);
        if (v->tree && v->format->firmware && type && strcmp(type->word, "efi") == 0) return i;
    }
    for (size_t i = 0; i < o->volumes; i++)
        if (o->volume[i].tree && o->volume[i].format->firmware && ws_tree_find_any_case(o->volume[i].tree, "EFI/BOOT"))
            return i;
    return o->volumes;
}

/* Words that are the arrangement's own, or the loader's. */
static bool is_kept(const char *word, size_t n) {
    static const char *const not_these[] = {"root=", "BOOT_IMAGE=", "initrd=", "rootflags=subvol", "rdinit="};
    for (size_t i = 0; i < sizeof not_these / sizeof not_these[0]; i++)
        if (strncmp(word, not_these[i], strlen(not_these[i])) == 0) return false;
    if ((n == 2 && (memcmp(word, "ro", 2) == 0 || memcmp(word, "rw", 2) == 0)) || (n == 1 && *word == '\\'))
        return false;
    return memchr(word, '$', n) == NULL; /* a variable of the loader's that nobody can put in */
}

static void take_words(struct ws_start_words *s, const char *words) {
    size_t at = 0;
    s->options[0] = '\0';
    while (*words) {
        words += strspn(words, " \t");
        const size_t n = strcspn(words, " \t\r\n");
        if (n == 0) return;
        if (is_kept(words, n) && at + n + 2 < sizeof s->options)
            at += (size_t)snprintf(s->options + at, sizeof s->options - at, "%s%.*s", at ? " " : "", (int)n, words);
        words += n;
    }
}

static bool take_menu(struct ws_start_words *s, const struct edit *e, const char *path) {
    struct ws_text text = {0};
    struct ws_menu menu;
    bool found = edit_load(e, path, &text) == WS_OK && text.length &&
                 ws_menu_parse(text.data, text.length, &menu, NULL) == WS_OK;
    ws_text_free(&text);
    if (!found) return false;
    const struct ws_menu_entry *entry = ws_menu_default(&menu);
    if (!entry && menu.entries) entry = &menu.entry[0];
    found = entry && !entry->cut;
    if (found) take_words(s, entry->parameters);
    ws_menu_free(&menu);
    return found;
}

/* A value of a file of settings that a shell reads, or its only line. */
static bool take_setting(struct ws_start_words *s, const struct edit *e, const char *path, const char *key) {
    struct ws_text text = {0};
    char words[700] = "";
    const size_t n = key ? strlen(key) : 0;
    if (edit_load(e, path, &text) == WS_OK)
        for (const char *p = text.data; p && *p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL) {
            if (*p == '#' || (key && (strncmp(p, key, n) != 0 || p[n] != '='))) continue;
            const char *value = key ? p + n + 1 : p;
            const char quote = *value == '"' || *value == '\'' ? *value++ : '\n';
            const char ends[] = {quote, '\n', '\0'};
            (void)snprintf(words + strlen(words), sizeof words - strlen(words), " %.*s", (int)strcspn(value, ends),
                           value);
        }
    ws_text_free(&text);
    if (words[0]) take_words(s, words);
    return words[0] != '\0';
}

/* As its own loader has it: menus first, then what they are made from. */
static void take_options(struct ws_original *o, struct ws_tree *root, const char *boot) {
    static const struct {
        const char *path, *key;
        bool menu, in_boot;
    } places[] = {{"/grub/grub.cfg", NULL, true, true},
                  {"/grub2/grub.cfg", NULL, true, true},
                  {"/extlinux/extlinux.conf", NULL, true, true},
                  {"/syslinux/syslinux.cfg", NULL, true, true},
                  {"/etc/kernel/cmdline", NULL, false, false},
                  {"/etc/default/grub", "GRUB_CMDLINE_LINUX", false, false},
                  {"/etc/default/grub", "GRUB_CMDLINE_LINUX_DEFAULT", false, false}};
    const struct edit in_root = {.root = root};
    const struct edit in_boot = {.root = o->kernels < o->volumes ? o->volume[o->kernels].tree : root};
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        char path[80];
        (void)snprintf(path, sizeof path, "%s%s", places[i].in_boot ? boot : "", places[i].path);
        const struct edit *e = places[i].in_boot ? &in_boot : &in_root;
        if (places[i].menu ? take_menu(&o->start, e, path) : take_setting(&o->start, e, path, places[i].key)) return;
    }
}

/* Entries that our start-up code reads: of ours, or of another loader that goes by the same specification. */
static bool has_entries(const struct ws_tree *tree) {
    static const char *const folders[] = {"loader/entries", "boot/loader/entries"};
    for (size_t i = 0; i < 2; i++) {
        const struct ws_node *n = ws_tree_find_any_case(tree, folders[i]);
        if (n && n->kind == WS_NODE_FOLDER && n->first) return true;
    }
    return false;
}

/* Its root may stand where nothing is read: behind a lock, on another file system. What starts it may all the same. */
static enum ws_status find_menu(struct ws_original *o, struct ws_error *error) {
    struct ws_findings findings = {0};
    for (size_t i = 0; i < o->volumes && !o->start.menu; i++) {
        struct ws_start_entries entries = {0};
        if (!o->volume[i].tree) continue;
        enum ws_status status = ws_start_entries_of(o->volume[i].tree, NULL, NULL, &entries, &findings, NULL);
        ws_start_entries_free(&entries);
        ws_findings_free(&findings);
        if (status == WS_E_NOMEM || status == WS_E_READ) return ws_fail(error, status, "its start menu cannot be read");
        if (status != WS_OK) continue;
        o->start.menu = true;
        o->kernels = i;
    }
    return WS_OK;
}

bool ws_original_may_be_root(const struct ws_original_volume *v) {
    static const char *const systems[] = {"LUKS", "XFS", "Btrfs", "F2FS", "LVM", "array member", "ext4"};
    for (size_t i = 0; i < sizeof systems / sizeof systems[0]; i++)
        if (v->way == WS_TWIN_AS_IT_IS && strcmp(v->system, systems[i]) == 0) return true;
    return false;
}

enum ws_status twin_find_system(struct ws_original *o, struct ws_error *error) {
    static const char *const boot[] = {"/boot"}, *const firmware[] = {"/boot/efi", "/efi"};
    o->root = o->kernels = o->firmware = o->volumes;
    struct ws_system_facts *facts = malloc(sizeof *facts);
    if (!facts) return ws_fail(error, WS_E_NOMEM, "out of memory for an original");
    for (size_t i = 0; i < o->volumes && o->root == o->volumes; i++) {
        if (!is_root(&o->volume[i], facts)) continue;
        o->root = i;
        o->facts = *facts;
    }
    free(facts);
    for (size_t i = 0; i < o->volumes; i++) o->start.ours |= o->volume[i].tree && has_entries(o->volume[i].tree);
    if (o->root < o->volumes) {
        o->kernels = find_mounted(o, boot, 1);
        o->firmware = find_mounted(o, firmware, 2);
        o->volume[o->root].part = WS_TWIN_ROOT;
    }
    if (o->firmware == o->volumes) o->firmware = find_firmware(o);
    if (o->root == o->volumes && !o->start.ours) WS_TRY(find_menu(o, error));
    bool apart = o->root < o->volumes;
    for (size_t i = 0; i < o->volumes; i++) apart |= ws_original_may_be_root(&o->volume[i]);
    if (o->kernels < o->volumes && apart) o->volume[o->kernels].part = WS_TWIN_KERNELS;
    if (o->firmware < o->volumes && o->firmware != o->kernels) o->volume[o->firmware].part = WS_TWIN_FIRMWARE;
    if (o->root < o->volumes) take_options(o, o->volume[o->root].tree, o->kernels < o->volumes ? "" : "/boot");
    return WS_OK;
}
