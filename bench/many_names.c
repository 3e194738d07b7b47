/* many_names.c — how the time that readers and edits take grows with the number of names.
 *
 *   bench_many_names N [FOLDER]
 *
 * Trees of N and of 10 N names, in one folder and in folders of 50 each below another, are made, composed, read back
 * and made to fit; printed is the time for 10 N over ten times that for N: about 1 where it grows as it should. With
 * FOLDER also a folder of this machine is read.
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <archive.h>
#include <archive_entry.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static struct ws_error error;

static void check(enum ws_status status, const char *what) {
    if (status == WS_OK) return;
    fprintf(stderr, "%s: %s %s\n", what, error.where, error.what);
    exit(1);
}

static struct ws_tree *make(size_t names, bool deep, bool alike) {
    struct ws_tree *tree = NULL;
    check(ws_tree_create(&tree, &error), "tree");
    struct ws_node *folder = ws_tree_root(tree), *n = NULL;
    for (size_t i = 0; i < names; i++) {
        char name[64];
        if (deep && i % 50 == 0) {
            struct ws_node *above = i % 1000 == 0 ? ws_tree_root(tree) : folder; /* twenty folders deep */
            (void)snprintf(name, sizeof name, "d%zu", i / 50);
            check(ws_tree_add(tree, above, name, WS_NODE_FOLDER, &folder, &error), "folder");
        }
        (void)snprintf(name, sizeof name, "file-%zu.txt", i);
        if (alike) { /* all of them the same but for the letters' case */
            (void)snprintf(name, sizeof name, "abcdefghijklmnopqrst");
            for (int bit = 0; bit < 20; bit++)
                if (i >> bit & 1) name[bit] = (char)(name[bit] - 32);
        }
        check(ws_tree_add(tree, folder, name, WS_NODE_FILE, &n, &error), "file");
        n->mtime = 1790000000;
    }
    return tree;
}

static struct ws_source *view_of(struct ws_layout *layout) {
    struct ws_source *view = NULL;
    check(ws_layout_seal(layout, &error), "seal");
    check(ws_layout_source(layout, &view, &error), "view");
    return view;
}

static void try_iso(struct ws_tree *tree, const char *path) {
    (void)path;
    struct ws_iso_params p = {.volume_id = "NAMES"};
    struct ws_layout *layout = NULL;
    struct ws_iso *iso = NULL;
    uint64_t size = 0;
    check(ws_iso_compose(&p, tree, NULL, &size, &error), "ISO 9660");
    check(ws_layout_create(size, &layout, &error), "layout");
    check(ws_iso_compose(&p, tree, layout, &size, &error), "ISO 9660");
    struct ws_source *view = view_of(layout);
    check(ws_iso_open(view, &iso, &error), "ISO 9660");
    ws_iso_close(iso);
    ws_source_close(view);
    ws_layout_close(layout);
}

static void try_exfat(struct ws_tree *tree, const char *path) {
    (void)path;
    struct ws_exfat_params p = {.size = 4ull << 30, .cluster = 4096};
    struct ws_layout *layout = NULL;
    struct ws_tree *seen = NULL;
    check(ws_layout_create(p.size, &layout, &error), "layout");
    check(ws_exfat_compose(&p, tree, 0, layout, NULL, &error), "exFAT");
    struct ws_source *view = view_of(layout);
    check(ws_exfat_read(view, &seen, NULL, &error), "exFAT");
    ws_tree_close(seen);
    ws_source_close(view);
    ws_layout_close(layout);
}

static void try_fat(struct ws_tree *tree, const char *path) {
    (void)path;
    struct ws_fat_params p = {.size = 4ull << 30, .bits = 32};
    struct ws_layout *layout = NULL;
    struct ws_tree *seen = NULL;
    uint64_t size = 0;
    check(ws_layout_create(p.size, &layout, &error), "layout");
    check(ws_fat_compose(&p, tree, 0, layout, &size, NULL, &error), "FAT");
    struct ws_source *view = view_of(layout);
    check(ws_fat_read(view, &seen, NULL, &error), "FAT");
    ws_tree_close(seen);
    ws_source_close(view);
    ws_layout_close(layout);
}

static void try_ext4(struct ws_tree *tree, const char *path) {
    (void)path;
    struct ws_ext4_params p = {.size = 4ull << 30, .made_at = 1790000000};
    struct ws_ext4_geometry g = {0};
    struct ws_layout *layout = NULL;
    struct ws_tree *seen = NULL;
    check(ws_ext4_measure(&p, tree, &g, &error), "ext4");
    check(ws_layout_create(p.size, &layout, &error), "layout");
    check(ws_ext4_compose(&g, 0, layout, WS_PHASE_BODY, &error), "ext4");
    struct ws_source *view = view_of(layout);
    check(ws_ext4_read(view, &seen, NULL, &error), "ext4");
    ws_tree_close(seen);
    ws_source_close(view);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
}

static void try_fit(struct ws_tree *tree, const char *path) {
    (void)path;
    struct ws_findings findings = {0};
    check(ws_tree_fit_names(tree, ws_name_rules_exfat(), &findings, &error), "names");
    ws_findings_free(&findings);
}

static void write_archive(const struct ws_tree *tree, const char *path) {
    struct archive *a = archive_write_new();
    struct archive_entry *entry = archive_entry_new();
    archive_write_set_format_ustar(a);
    archive_write_open_filename(a, path);
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        char name[4096];
        archive_entry_clear(entry);
        archive_entry_set_pathname(entry, ws_node_path(n, name, sizeof name) + 1);
        archive_entry_set_filetype(entry, n->kind == WS_NODE_FOLDER ? AE_IFDIR : AE_IFREG);
        archive_entry_set_perm(entry, 0755);
        archive_entry_set_size(entry, 0);
        (void)archive_write_header(a, entry);
    }
    archive_entry_free(entry);
    archive_write_free(a);
}

static void try_archive(struct ws_tree *tree, const char *path) {
    struct ws_source *source = NULL;
    struct ws_tree *seen = NULL;
    (void)tree;
    check(ws_source_file(path, &source, &error), "archive");
    check(ws_archive_read(source, &seen, &error), "archive");
    ws_tree_close(seen);
    ws_source_close(source);
}

static void write_squashfs(const struct ws_tree *tree, const char *path) {
    char list[4096], command[8400];
    (void)snprintf(list, sizeof list, "%.4000s.list", path);
    FILE *file = fopen(list, "w");
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); file && n; n = ws_tree_next(n)) {
        char name[4096];
        (void)fprintf(file, n->kind == WS_NODE_FOLDER ? "dir %s 0755 0 0\n" : "pipe %s 0755 0 0\n",
                      ws_node_path(n, name, sizeof name));
    }
    if (file) fclose(file);
    (void)snprintf(command, sizeof command, "gensquashfs -q -f -F '%s' '%s' >/dev/null 2>&1", list, path);
    (void)!system(command);
    (void)unlink(list);
}

static void try_squashfs(struct ws_tree *tree, const char *path) {
    struct ws_source *source = NULL;
    struct ws_tree *seen = NULL;
    (void)tree;
    if (access(path, R_OK) != 0) return;
    check(ws_source_file(path, &source, &error), "squashfs");
    check(ws_squashfs_read(source, &seen, NULL, &error), "squashfs");
    ws_tree_close(seen);
    ws_source_close(source);
}

static void write_folder(const struct ws_tree *tree, const char *path) {
    (void)mkdir(path, 0777);
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(tree)); n; n = ws_tree_next(n)) {
        char name[4096], whole[8300];
        (void)snprintf(whole, sizeof whole, "%s%s", path, ws_node_path(n, name, sizeof name));
        if (n->kind == WS_NODE_FOLDER) (void)mkdir(whole, 0777);
        else {
            int fd = open(whole, O_CREAT | O_WRONLY, 0666);
            if (fd >= 0) close(fd);
        }
    }
}

static void try_folder(struct ws_tree *tree, const char *path) {
    struct ws_tree *seen = NULL;
    (void)tree;
    check(ws_tree_from_folder(path, &seen, &error), "folder");
    ws_tree_close(seen);
}

static double seconds_of(void (*work)(struct ws_tree *, const char *), struct ws_tree *tree, const char *path) {
    double began = ws_linux_steady_clock(NULL);
    work(tree, path);
    return ws_linux_steady_clock(NULL) - began;
}

int main(int argc, char **argv) {
    static const struct {
        const char *what;
        void (*work)(struct ws_tree *, const char *);
        void (*write)(const struct ws_tree *, const char *);
        bool one_folder; /* has room for so many names in one */
        size_t part;     /* of N: the packer itself looks through a folder's names for each */
    } works[] = {{"ISO 9660", try_iso, NULL, true, 1},
                 {"exFAT", try_exfat, NULL, true, 1},
                 {"FAT32", try_fat, NULL, false, 1},
                 {"ext4", try_ext4, NULL, true, 1},
                 {"archive", try_archive, write_archive, true, 1},
                 {"squashfs", try_squashfs, write_squashfs, true, 8},
                 {"folder", try_folder, write_folder, true, 1},
                 {"names made to fit", try_fit, NULL, true, 1}};
    size_t names = argc > 1 ? strtoul(argv[1], NULL, 10) : 20000;
    if (argc < 3) {
        fprintf(stderr, "%s N FOLDER (a new one, for files)\n", argv[0]);
        return 2;
    }
    (void)mkdir(argv[2], 0777);
    for (size_t i = 0; i < sizeof works / sizeof works[0]; i++)
        for (int shape = 0; shape < 2; shape++) { /* one folder, deep ones; names alike but for their case */
            double took[2];
            bool alike = works[i].work == try_fit && shape;
            if (!shape && !works[i].one_folder) continue;
            for (int large = 0; large < 2; large++) {
                char path[4096];
                struct ws_tree *tree = make((large ? names * 10 : names) / works[i].part, shape && !alike, alike);
                (void)snprintf(path, sizeof path, "%.3900s/%s-%d-%d", argv[2], works[i].what, shape, large);
                if (works[i].write) works[i].write(tree, path);
                took[large] = seconds_of(works[i].work, tree, path);
                ws_tree_close(tree);
            }
            (void)setvbuf(stdout, NULL, _IOLBF, 0);
            printf("%s|%s|%.3f|%.3f|%.2f\n", works[i].what,
                   alike   ? "alike but for their case"
                   : shape ? "deep folders"
                           : "one folder",
                   took[0], took[1], took[1] / (10 * took[0] > 0.001 ? 10 * took[0] : 0.001));
        }
    return 0;
}
