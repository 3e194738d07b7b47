/* bed.h — a live drive that remembers, in memory, for the tests that care for it. */
#ifndef TESTS_BED_H
#define TESTS_BED_H

#include "tests/harness.h"

enum { MIB = 1 << 20, BED_DRIVE = 64 * MIB };
#define PASSPHRASE "fulmar over the bar"

/** A live drive, and where on it is remembered. */
struct bed {
    struct memory_drive *drive;
    struct ws_source *now;
    uint64_t at, size;
};
/** @param locked  by PASSPHRASE. @return false: the test has failed */
bool build_bed(struct bed *bed, const char *family, bool locked);
void free_bed(struct bed *bed);
/** A random tree of changes in the folder `top`, as if a system had made them. */
void fill_bed(struct bed *bed, const char *top, size_t nodes, uint16_t mounts);
/** One large file, which stands for much. */
void fill_bed_with(struct bed *bed, size_t bytes);

/** NULL: the test has failed. */
struct ws_kept *open_kept(struct bed *bed, const char *passphrase);
/** What was worked out is written. */
enum ws_status carry_out(struct bed *bed, struct ws_kept *kept);
/** Worked out and written. @param free_after  what was told beforehand */
enum ws_status resize(struct bed *bed, uint64_t size, uint64_t *free_after);

/** A checker finds nothing. */
void check_volume(struct bed *bed, const char *when);
/** It remembers what the volume in this file holds. */
bool same_files(struct bed *bed, const char *was);

/** An ordinary volume, composed with clusters of this size: FAT of this width, exFAT (0), ext4 (no cluster either). */
struct kind {
    const char *format;
    unsigned bits;
    uint32_t cluster;
};
/** Room made in a whole volume in memory, and written into it. */
void make_room(uint8_t *bytes, uint64_t size, struct ws_room *room);

/** A random history by the kernel's overlay on the kernel's ext4 in this file; `dirty`: the plug is pulled. */
bool kernel_history(const char *path, bool dirty);
void bytes_of(const char *path, uint8_t *bytes, uint64_t size);

#endif
