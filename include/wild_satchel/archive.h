/* archive.h — compressed images and archives: unpacked, or listed as a tree. libarchive reads the formats. */
#ifndef WILD_SATCHEL_ARCHIVE_H
#define WILD_SATCHEL_ARCHIVE_H

#include "wild_satchel/tree.h"

WS_BEGIN

/** What wraps the bytes. */
struct ws_packed_facts {
    char format[48];   /**< "gzip", "xz", "zip", "tar, zstd", "7z", ... */
    bool one_image;    /**< a single stream or member: a compressed image, else an archive of files */
    char member[256];  /**< the member's name in a zip of one file; else empty */
    uint64_t unpacked; /**< bytes, where known without unpacking; else 0 */
};

/** Is it compressed or an archive? Reads its beginning (and the directory of a zip).
 *  @return WS_E_NOTFOUND if it is neither; WS_E_FORMAT if it is damaged there already */
WS_CHECKED enum ws_status ws_packed_probe(const struct ws_source *source, struct ws_packed_facts *facts,
                                          struct ws_error *error);

/** Takes the next bytes; an error ends the work. */
typedef enum ws_status (*ws_unpack_sink)(void *context, uint64_t at, const void *bytes, size_t length,
                                         struct ws_error *error);
/** Unpack a compressed image in one stream. Stretches of zeros may be left out: `at` then skips.
 *  @param size  out: bytes unpacked
 *  @return WS_E_FORMAT for damage (with how far it came); what the sink returned */
WS_CHECKED enum ws_status ws_unpack(const struct ws_source *source, ws_unpack_sink sink, void *context, uint64_t *size,
                                    struct ws_error *error);

/**
 * An archive as a tree. Contents of up to 1 MiB are held; reading a larger one unpacks from the archive's beginning,
 * and is for one task at a time. Names that would leave the archive's root ("..", absolute ones) are an error.
 */
WS_CHECKED enum ws_status ws_archive_read(const struct ws_source *source, struct ws_tree **tree,
                                          struct ws_error *error);
/** Takes the bytes of an archive that is made, in order. */
typedef enum ws_status (*ws_archive_sink)(void *context, const void *bytes, size_t length, struct ws_error *error);
/** Where contents are put while an archive is read, so that memory does not grow with them. */
struct ws_archive_store {
    /** Take a file's bytes; `source` reads them again, and belongs to the tree. */
    enum ws_status (*put)(void *context, const void *bytes, size_t length, struct ws_source **source,
                          struct ws_error *error);
    /** Add to what was put last. NULL: it cannot, and what is larger than 1 MiB is not put here. */
    enum ws_status (*more)(void *context, struct ws_source *source, const void *bytes, size_t length,
                           struct ws_error *error);
    void *context;
};
/** As ws_archive_read(), but contents of more than 512 bytes and up to 1 MiB are put into a store, not held.
 *  @param store  outlives the tree; NULL: they are held */
WS_CHECKED enum ws_status ws_archive_read_into(const struct ws_source *source, const struct ws_archive_store *store,
                                               struct ws_tree **tree, struct ws_error *error);

WS_END

#endif
