/* internal.h — virtual disk files: what each format has to say, and what they share. */
#ifndef WS_CONTAINER_INTERNAL_H
#define WS_CONTAINER_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/container.h"

enum { CONTAINER_DEPTH = 16, CONTAINER_EXTENTS = 512, CONTAINER_UNIT_MOST = 256 << 20 };
static const uint64_t container_size_most = 1ull << 50;

enum map_kind { MAP_ZERO, MAP_FILE, MAP_BASE, MAP_PACKED };
enum packing { PACKED_DEFLATE, PACKED_ZLIB, PACKED_ZSTD };
/* Where the bytes from one place of the drive on stand. */
struct mapped {
    enum map_kind kind;
    uint64_t length;              /* in: asked about; out: for so many this holds, > 0 */
    const struct ws_source *file; /* MAP_FILE, MAP_PACKED */
    uint64_t at;                  /* first byte there */
    uint32_t packed;              /* MAP_PACKED: so many bytes at most, of a unit that begins at `begin` of the drive */
    uint32_t unit;
    uint64_t begin;
    enum packing packing;
};

/* An opened one. Reading changes nothing in it. */
struct container {
    const struct ws_source *file; /* borrowed */
    struct ws_container_facts facts;
    enum ws_status (*map)(const struct container *c, uint64_t at, struct mapped *m, struct ws_error *error);
    void *format; /* the format's own, freed with it */
    void (*close)(struct container *c);
    struct ws_source *other[CONTAINER_EXTENTS]; /* files that it names; owned */
    size_t others;
    struct ws_source *base_file, *base; /* what it builds on: the file, and the drive in it; owned */
};

struct container_format {
    const char *word;
    bool (*is)(const struct ws_source *file);
    /* `c` has its file, and is closed by the caller whatever comes of it. */
    enum ws_status (*open)(struct container *c, const struct ws_container_files *files, unsigned depth,
                           struct ws_error *error);
};
extern const struct container_format container_qcow2, container_vhd, container_vhdx, container_vmdk;

enum ws_status container_damaged(const struct container *c, struct ws_error *error, const char *format, ...)
    WS_PRINTF(3, 4);
/* Another file that it names, kept until it is closed. */
enum ws_status container_other(struct container *c, const struct ws_container_files *files, const char *name,
                               struct ws_source **file, struct ws_error *error);
/* What it builds on. @param raw  those bytes as they are, whatever they look like */
enum ws_status container_base(struct container *c, const struct ws_container_files *files, const char *name, bool raw,
                              unsigned depth, struct ws_error *error);
enum ws_status container_open_deep(const struct ws_source *file, const struct ws_container_files *files, unsigned depth,
                                   struct ws_source **drive, struct ws_container_facts *facts, struct ws_error *error);
/* unpack.c: exactly `length` bytes of it. @return false if it is damaged */
bool container_unpack(enum packing packing, const uint8_t *packed, size_t packed_length, uint8_t *out, size_t length);
/* A table of the file, of at most `most` bytes, in memory the caller frees. */
enum ws_status container_load(const struct container *c, uint64_t at, uint64_t length, uint64_t most, uint8_t **bytes,
                              const char *what, struct ws_error *error);

#endif
