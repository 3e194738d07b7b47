/* write.h — virtual disks written to: units that stand where a table says, new ones at the file's end. */
#ifndef WS_CONTAINER_WRITE_H
#define WS_CONTAINER_WRITE_H

#include "base/bytes.h"
#include "wild_satchel/container.h"

enum { WRITE_TABLE_MOST = 64 << 20 };

struct ws_disk {
    const struct ws_disk_file *file;
    const struct disk_format *format;
    uint64_t size, end; /* bytes of the drive; where the next unit goes */
    uint64_t unit, units;
    uint32_t before;             /* bytes of a unit's own head (VHD: its bitmap) */
    uint64_t align;              /* of a unit in the file */
    uint64_t *place;             /* byte of the file where a unit's content begins; 0: nowhere */
    uint64_t first_new, end_new; /* units whose entries are not in the file yet: from, to */
    uint64_t flushed_end;
    bool begun;        /* it was said that it is being changed */
    uint64_t table[2]; /* byte of the file: the table, and its copy where there is one */
    uint32_t ratio;    /* VHDX */
    struct ws_guid id;
};

struct disk_format {
    const char *word;
    size_t entry; /* bytes of one in the table */
    enum ws_status (*create)(const struct ws_disk_file *file, uint64_t size, const struct ws_guid *id, int64_t made_at,
                             struct ws_error *error);
    /* Everything but places: those are read by the table. @return WS_E_NOTFOUND if it is none of this format */
    enum ws_status (*open)(struct ws_disk *disk, struct ws_error *error);
    uint64_t (*entry_at)(const struct ws_disk *disk, uint64_t unit);                 /* in the table; bytes */
    bool (*decode)(const struct ws_disk *disk, const uint8_t *raw, uint64_t *place); /* false: only read here */
    void (*encode)(const struct ws_disk *disk, uint64_t place, uint8_t *raw);
    enum ws_status (*begin)(struct ws_disk *disk, struct ws_error *error); /* before the first change; may be NULL */
    enum ws_status (*finish)(struct ws_disk *disk,
                             struct ws_error *error); /* once the table is in the file; may be NULL */
};
extern const struct disk_format disk_qcow2, disk_vhd, disk_vhdx, disk_vmdk;

static inline enum ws_status disk_get(const struct ws_disk_file *f, uint64_t at, void *to, size_t n,
                                      struct ws_error *e) {
    return f->ops->read(f, at, to, n, e);
}
static inline enum ws_status disk_put(const struct ws_disk_file *f, uint64_t at, const void *from, size_t n,
                                      struct ws_error *e) {
    return f->ops->write(f, at, from, n, e);
}
/* So many zero bytes. */
enum ws_status disk_put_zeros(const struct ws_disk_file *file, uint64_t at, uint64_t length, struct ws_error *error);
enum ws_status disk_only_read(struct ws_error *error);

#endif
