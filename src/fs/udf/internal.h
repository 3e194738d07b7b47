/* internal.h — an opened UDF volume: its partitions, and how blocks of them are found. */
#ifndef WS_FS_UDF_INTERNAL_H
#define WS_FS_UDF_INTERNAL_H

#include "base/bytes.h"
#include "wild_satchel/udf.h"

enum { UDF_MAPS_MOST = 8, UDF_BLOCK_MOST = 4096, UDF_RUNS_MOST = 1 << 20 };
enum {
    TAG_ANCHOR = 2,
    TAG_POINTER = 3,
    TAG_PARTITION = 5,
    TAG_LOGICAL = 6,
    TAG_END = 8,
    TAG_INTEGRITY = 9,
    TAG_FILE_SET = 256,
    TAG_NAME = 257,
    TAG_MORE = 258,
    TAG_FILE = 261,
    TAG_FILE_EXTENDED = 266
};

enum udf_map_kind { MAP_PLAIN, MAP_SPARABLE, MAP_VIRTUAL, MAP_METADATA };
/* A partition as the logical volume sees it. */
struct udf_map {
    enum udf_map_kind kind;
    uint64_t at, length; /* blocks of the volume */
    struct ws_run *run;  /* metadata: the blocks of its file, as bytes of the volume; owned */
    size_t runs;
    uint32_t *table; /* virtual: where each block is; sparable: from, to; owned */
    uint32_t entries;
    uint32_t packet; /* sparable: blocks that move together */
};
struct udf {
    const struct ws_source *source;
    struct ws_udf_facts facts;
    uint32_t block;
    struct udf_map map[UDF_MAPS_MOST];
    size_t maps;
    uint8_t root[16]; /* long_ad of the root folder's entry */
};

/* A place: a block of a partition (ECMA-167 4/7.1). */
struct udf_place {
    uint32_t block;
    uint16_t part;
};

/* volume.c */
enum ws_status udf_open(struct udf *u, struct ws_error *error);
void udf_close(struct udf *u);
enum ws_status udf_damaged(struct ws_error *error, const char *what);
/* A descriptor's tag: its sums, and what it is (ECMA-167 3/7.2). `length` bytes of it are there. */
bool udf_tag(const uint8_t *d, size_t length, unsigned *id);
/* Where a block of a partition stands: byte of the volume. @return false if nowhere */
bool udf_find(const struct udf *u, struct udf_place place, uint64_t *at);
/* One block of it. */
enum ws_status udf_read_block(const struct udf *u, struct udf_place place, uint8_t *out, struct ws_error *error);
int64_t udf_time(const uint8_t t[12], uint32_t *ns);
void udf_text(const uint8_t *coded, size_t length, char *out, size_t room);

/* file.c: what a file entry says. */
struct udf_file {
    uint8_t kind, flags; /* of its ICB */
    uint32_t uid, gid, permissions;
    uint16_t links;
    uint64_t size, id;
    int64_t mtime;
    uint32_t mtime_ns;
    uint8_t entry[UDF_BLOCK_MOST];
    uint32_t ads_at, ads_length; /* in the entry: its allocation, or its content */
    uint16_t part;               /* its own partition, which short forms count from */
};
enum ws_status udf_file(const struct udf *u, struct udf_place place, struct udf_file *file, struct ws_error *error);
/* Its content as runs of the volume; or where it is kept in the entry itself, `inside` is set and there are none. */
enum ws_status udf_runs(const struct udf *u, const struct udf_file *file, struct ws_run **runs, size_t *count,
                        bool *inside, struct ws_error *error);

#endif
