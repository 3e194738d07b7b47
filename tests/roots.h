/* roots.h — root file systems made up for tests. */
#ifndef WS_TESTS_ROOTS_H
#define WS_TESTS_ROOTS_H

#include "tests/harness.h"
#include "wild_satchel/ext4.h"

/* Any bytes as an ELF file for a machine. */
void put_program(struct ws_tree *tree, const char *path, unsigned machine);
/* A kernel of this version, and an initial RAM disk that nobody can read. */
void put_kernel(struct ws_tree *tree, const char *version);
/* An initial RAM disk as a program would make it, with files of these names: "newc" cpio (buffer-format.rst). */
void put_initrd(struct ws_tree *tree, const char *path, const char *const names[]);
/* Random files, and what makes a root of them. */
struct ws_tree *random_root(void);

/* A root as a volume of its own, to be an input. */
struct volume {
    struct ws_ext4_geometry geometry;
    struct ws_layout *layout;
    struct ws_source *source;
};
bool make_volume(struct ws_tree *tree, uint64_t size, struct volume *v);
void free_volume(struct volume *v);

#endif
