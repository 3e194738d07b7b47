/* families.c — the conventions of live systems, as data. A new family is a row here. */
#include "wild_satchel/live.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* live-boot: scripts of the package live-boot, 9990-misc-helpers.sh and 9990-overlay.sh; its search for a file leaves
 * out the devices the medium is mounted from, so a file beside the system would never be found.
 * casper: scripts/casper of the package casper; since release 19.10 the label is "writable".
 * dracut: dmsquash-live-root.sh of the package dracut-live; the folder and its sibling "ovlwork" must exist, and in a
 * volume that lies in a file they have just these names. It looks for the file where its parameter says. The
 * parameter rd.live.check would compare the medium with a checksum from before its menu was edited. */
static const struct ws_live_family families[] = {
    {
        .word = "live-boot",
        .title = "live-boot",
        .folder = "live",
        .signs = {"boot=live"},
        .label = "persistence",
        .parameters = "persistence",
        .drop = {"nopersistence", "nopersistent"},
        .config_path = "persistence.conf",
        .config_text = "/ union\n",
        .changes = "rw",
        .work = "work",
        .overlay_file = "persistence",
        .roots = {"live/filesystem.squashfs", "live/filesystem.ext4"},
    },
    {
        .word = "casper-old",
        .title = "casper (before 19.10)",
        .folder = "casper",
        .signs = {"boot=casper"},
        .label = "casper-rw",
        .overlay_file = "casper-rw",
        .overlay_beside = true,
        .parameters = "persistent",
        .drop = {"nopersistent"},
        .changes = "upper",
        .work = "work",
        .roots = {"casper/filesystem.squashfs", "casper/filesystem.ext4"},
        .release_before = "19.10",
    },
    {
        .word = "casper",
        .title = "casper",
        .folder = "casper",
        .signs = {"boot=casper", "layerfs-path="},
        .label = "writable",
        .overlay_file = "writable",
        .overlay_beside = true,
        .parameters = "persistent",
        .drop = {"nopersistent"},
        .changes = "upper",
        .work = "work",
        .roots = {"casper/filesystem.squashfs", "casper/minimal.squashfs", "casper/filesystem.ext4"},
    },
    {
        .word = "dracut",
        .title = "dracut live",
        .folder = "LiveOS",
        .signs = {"rd.live.image", "root=live:"},
        .label = "persistence",
        .parameters = "rd.live.overlay=LABEL=persistence:/overlayfs rd.live.overlay.overlayfs=1",
        .overlay_file = "overlay",
        .overlay_beside = true,
        .file_parameters = "rd.live.overlay=LABEL={label}:/overlay rd.live.overlay.overlayfs=1",
        .drop = {"rd.live.check", "rd.live.overlay=", "rd.live.overlay.overlayfs=", "rd.live.overlay.overlayfs"},
        .folders = {"overlayfs", "ovlwork"},
        .changes = "overlayfs",
        .work = "ovlwork",
        .roots = {"LiveOS/squashfs.img", "LiveOS/rootfs.img"},
    },
};
enum { FAMILIES = sizeof families / sizeof families[0] };

const struct ws_live_family *ws_live_families(size_t *count) {
    *count = FAMILIES;
    return families;
}

const struct ws_live_family *ws_live_family_find(const char *word) {
    for (size_t i = 0; i < FAMILIES; i++)
        if (strcmp(families[i].word, word) == 0) return &families[i];
    return NULL;
}

bool ws_parameter_is_set(const char *parameters, const char *word) {
    size_t n = strlen(word);
    bool prefix = n > 0 && (word[n - 1] == '=' || word[n - 1] == ':');
    for (const char *p = parameters; *p;) {
        while (*p == ' ' || *p == '\t') p++;
        size_t length = strcspn(p, " \t");
        if (prefix ? length >= n && strncmp(p, word, n) == 0 : length == n && strncmp(p, word, n) == 0) return true;
        p += length;
    }
    return false;
}

bool ws_parameters_are_set(const char *parameters, const char *wanted, char *missing, size_t room) {
    while (*wanted) {
        size_t n = strcspn(wanted, " ");
        (void)snprintf(missing, room, "%.*s", (int)n, wanted);
        if (!ws_parameter_is_set(parameters, missing)) return false;
        wanted += n + (wanted[n] == ' ');
    }
    return true;
}

bool ws_live_family_starts(const struct ws_live_family *family, const char *parameters) {
    for (size_t k = 0; k < 4 && family->signs[k]; k++)
        if (ws_parameter_is_set(parameters, family->signs[k])) return true;
    return false;
}

const struct ws_live_family *ws_live_family_of_parameters(const char *parameters) {
    for (size_t i = 0; i < FAMILIES; i++) {
        if (families[i].release_before) continue;
        if (ws_live_family_starts(&families[i], parameters)) return &families[i];
    }
    return NULL;
}

/* The release a medium names, as year and month ("18.04" is 1804); 0 if it does not. */
static unsigned long release_of(const struct ws_tree *tree) {
    const struct ws_node *info = ws_tree_find(tree, ".disk/info");
    char *text = NULL;
    size_t length = 0;
    unsigned long found = 0;
    if (!info || !info->content || ws_source_load(info->content, 4096, &text, &length, NULL) != WS_OK) return 0;
    for (const char *p = text; *p && !found; p++) {
        char *end;
        if (*p < '0' || *p > '9' || (p > text && p[-1] != ' ')) continue;
        unsigned long year = strtoul(p, &end, 10);
        if (year >= 4 && year < 100 && end[0] == '.' && end[1] >= '0' && end[1] <= '1' && end[2] >= '0' &&
            end[2] <= '9')
            found = year * 100 + (unsigned long)(end[1] - '0') * 10 + (unsigned long)(end[2] - '0');
    }
    free(text);
    return found;
}

struct search {
    const struct ws_live_family *found;
};

static enum ws_status look(void *context, const struct ws_node *file, const struct ws_menu *menu,
                           struct ws_error *error) {
    struct search *s = context;
    (void)file, (void)error;
    for (size_t i = 0; menu && i < menu->entries && !s->found; i++)
        s->found = ws_live_family_of_parameters(menu->entry[i].parameters);
    return WS_OK;
}

/* The description that drives made here carry. */
static bool describes_itself(const struct ws_tree *tree, struct ws_own_family *own) {
    const struct ws_node *n = own ? ws_tree_find_any_case(tree, WS_OWN_FAMILY_PATH) : NULL;
    char *text = NULL;
    size_t length = 0;
    if (!n || !n->content || ws_source_load(n->content, WS_FAMILY_TEXT, &text, &length, NULL) != WS_OK) return false;
    bool good = ws_own_family_read(text, length, own, NULL) == WS_OK;
    free(text);
    return good;
}

const struct ws_live_family *ws_live_family_of_medium(const struct ws_tree *tree, struct ws_own_family *own) {
    struct search s = {NULL};
    if (describes_itself(tree, own)) return &own->family;
    (void)ws_medium_menus(tree, look, &s, NULL);
    for (size_t i = 0; i < FAMILIES && !s.found; i++) {
        if (families[i].release_before) continue;
        for (size_t k = 0; k < 4 && families[i].roots[k]; k++)
            if (ws_tree_find_any_case(tree, families[i].roots[k])) s.found = &families[i];
    }
    if (!s.found) return NULL;
    unsigned long release = release_of(tree);
    for (size_t i = 0; release && i < FAMILIES; i++) { /* an older release of the same family */
        if (!families[i].release_before || strcmp(families[i].folder, s.found->folder) != 0) continue;
        const char *before = families[i].release_before;
        if (release < strtoul(before, NULL, 10) * 100 + strtoul(strchr(before, '.') + 1, NULL, 10)) return &families[i];
    }
    return s.found;
}

enum ws_status ws_live_volume_tree(const struct ws_live_family *family, int64_t made_at, struct ws_tree **out,
                                   struct ws_error *error) {
    struct ws_tree *tree = NULL;
    struct ws_node *node = NULL;
    enum ws_status status;
    WS_TRY(ws_tree_create(&tree, error));
    ws_tree_root(tree)->mtime = made_at;
    if (family->config_path) {
        WS_GO(ws_tree_put(tree, family->config_path, family->config_text, strlen(family->config_text), &node, error));
        node->mtime = made_at;
    }
    for (size_t i = 0; i < 3 && family->folders[i]; i++) {
        WS_GO(ws_tree_folder(tree, family->folders[i], &node, error));
        node->mtime = made_at;
    }
    status = WS_OK;
done:
    if (status == WS_OK) *out = tree;
    else ws_tree_close(tree);
    return status;
}
