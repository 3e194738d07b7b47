/* read.c — libsquashfs over a ws_source, its hierarchy turned into a tree. */
#include "wild_satchel/squashfs.h"

#include <sqfs/compressor.h>
#include <sqfs/data_reader.h>
#include <sqfs/dir.h>
#include <sqfs/dir_reader.h>
#include <sqfs/error.h>
#include <sqfs/id_table.h>
#include <sqfs/inode.h>
#include <sqfs/io.h>
#include <sqfs/super.h>
#include <sqfs/xattr.h>
#include <sqfs/xattr_reader.h>

#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { NODES_MOST = 4000000, LANES = 8 };

struct file {
    sqfs_file_t base;
    const struct ws_source *source;
};

static int file_read(sqfs_file_t *file, sqfs_u64 at, void *buffer, size_t size) {
    struct ws_error ignored;
    const struct ws_source *source = ((struct file *)file)->source;
    if (at > source->size || size > source->size - at) return SQFS_ERROR_OUT_OF_BOUNDS;
    return ws_source_read(source, at, buffer, size, &ignored) == WS_OK ? 0 : SQFS_ERROR_IO;
}

static int file_write(sqfs_file_t *file, sqfs_u64 at, const void *buffer, size_t size) {
    (void)file, (void)at, (void)buffer, (void)size;
    return SQFS_ERROR_IO;
}

static sqfs_u64 file_size(const sqfs_file_t *file) { return ((const struct file *)file)->source->size; }

static int file_truncate(sqfs_file_t *file, sqfs_u64 size) {
    (void)file, (void)size;
    return SQFS_ERROR_IO;
}

static void file_destroy(sqfs_object_t *object) { free(object); }

static sqfs_object_t *file_copy(const sqfs_object_t *object) {
    struct file *copy = malloc(sizeof *copy);
    if (copy) memcpy(copy, object, sizeof *copy);
    return (sqfs_object_t *)copy;
}

static struct file *file_of(const struct ws_source *source) {
    struct file *f = calloc(1, sizeof *f);
    if (!f) return NULL;
    f->base.base.destroy = file_destroy;
    f->base.base.copy = file_copy;
    f->base.read_at = file_read;
    f->base.write_at = file_write;
    f->base.get_size = file_size;
    f->base.truncate = file_truncate;
    f->source = source;
    return f;
}

/* What reads contents: one for each task that does at the same time, made when it is first needed. It keeps the block
 * it read last. */
struct lane {
    atomic_flag busy;
    sqfs_compressor_t *compressor;
    sqfs_data_reader_t *data;
};

/* Everything that must live as long as the tree's contents are read. */
struct volume {
    struct file *file;
    sqfs_super_t super;
    sqfs_compressor_t *compressor;
    sqfs_id_table_t *ids;
    sqfs_dir_reader_t *folders;
    struct lane lane[LANES];
    sqfs_xattr_reader_t *xattrs; /* NULL: it has none */
    sqfs_tree_node_t *top;
};

static void volume_free(struct volume *v) {
    if (!v) return;
    if (v->top) sqfs_dir_tree_destroy(v->top);
    if (v->xattrs) sqfs_destroy(v->xattrs);
    for (size_t i = 0; i < LANES; i++) {
        if (v->lane[i].data) sqfs_destroy(v->lane[i].data);
        if (v->lane[i].compressor) sqfs_destroy(v->lane[i].compressor);
    }
    if (v->folders) sqfs_destroy(v->folders);
    if (v->ids) sqfs_destroy(v->ids);
    if (v->compressor) sqfs_destroy(v->compressor);
    if (v->file) sqfs_destroy(v->file);
    free(v);
}

static void volume_close(struct ws_source *source) { volume_free(source->state); }

static enum ws_status damaged(struct ws_error *error, int code, const char *what) {
    enum ws_status status = code == SQFS_ERROR_UNSUPPORTED ? WS_E_UNSUPPORTED
                            : code == SQFS_ERROR_ALLOC     ? WS_E_NOMEM
                            : code == SQFS_ERROR_IO        ? WS_E_READ
                                                           : WS_E_FORMAT;
    ws_fail(error, status, "the squashfs volume's %s cannot be read%s", what,
            status == WS_E_FORMAT        ? ": it is damaged or cut short"
            : status == WS_E_UNSUPPORTED ? ": its compression is not known here"
                                         : "");
    return ws_fail_next(error, "compare the image with its published checksum");
}

static void fill_facts(const sqfs_super_t *s, struct ws_squashfs_facts *f) {
    const char *name = sqfs_compressor_name_from_id(s->compression_id);
    memset(f, 0, sizeof *f);
    f->size = s->bytes_used;
    f->block_size = s->block_size;
    f->inodes = s->inode_count;
    f->made_at = s->modification_time;
    (void)snprintf(f->compressor, sizeof f->compressor, "%s", name ? name : "unknown");
}

static enum ws_status read_super(struct volume *v, struct ws_error *error) {
    char magic[4];
    if (v->file->source->size < sizeof v->super || ws_source_read(v->file->source, 0, magic, 4, error) != WS_OK ||
        memcmp(magic, "hsqs", 4) != 0)
        return ws_fail(error, WS_E_NOTFOUND, "there is no squashfs volume here");
    int code = sqfs_super_read(&v->super, &v->file->base);
    if (code) return damaged(error, code, "first record");
    if (v->super.bytes_used <= v->file->source->size) return WS_OK;
    ws_fail(error, WS_E_FORMAT, "the squashfs volume is cut short: it says it has %llu bytes, and %llu are here",
            (unsigned long long)v->super.bytes_used, (unsigned long long)v->file->source->size);
    return ws_fail_next(error, "compare the image with its published checksum");
}

enum ws_status ws_squashfs_probe(const struct ws_source *source, struct ws_squashfs_facts *facts,
                                 struct ws_error *error) {
    struct volume v = {.file = file_of(source)};
    if (!v.file) return ws_fail(error, WS_E_NOMEM, "out of memory for a squashfs volume");
    enum ws_status status = read_super(&v, error);
    if (status == WS_OK) fill_facts(&v.super, facts);
    sqfs_destroy(v.file);
    return status;
}

static int make_compressor(const struct volume *v, sqfs_compressor_t **compressor) {
    sqfs_compressor_config_t config;
    int code =
        sqfs_compressor_config_init(&config, v->super.compression_id, v->super.block_size, SQFS_COMP_FLAG_UNCOMPRESS);
    return code ? code : sqfs_compressor_create(&config, compressor);
}

/* @return an error of libsquashfs; the lane is complete, or tried anew the next time */
static int make_lane(const struct volume *v, struct lane *l) {
    if (l->data) return 0;
    int code = l->compressor ? 0 : make_compressor(v, &l->compressor);
    if (code) return code;
    sqfs_data_reader_t *data = sqfs_data_reader_create(&v->file->base, v->super.block_size, l->compressor, 0);
    code = data ? sqfs_data_reader_load_fragment_table(data, &v->super) : SQFS_ERROR_ALLOC;
    if (!code) l->data = data;
    else if (data) sqfs_destroy(data);
    return code;
}

static enum ws_status open_tables(struct volume *v, struct ws_error *error) {
    int code = make_compressor(v, &v->compressor);
    if (code) return damaged(error, code, "compression");
    v->ids = sqfs_id_table_create(0);
    code = v->ids ? sqfs_id_table_read(v->ids, &v->file->base, &v->super, v->compressor) : SQFS_ERROR_ALLOC;
    if (code) return damaged(error, code, "table of owners");
    v->folders = sqfs_dir_reader_create(&v->super, v->compressor, &v->file->base, 0);
    code = v->folders ? make_lane(v, &v->lane[0]) : SQFS_ERROR_ALLOC;
    if (code) return damaged(error, code, "table of file ends");
    if (!(v->super.flags & SQFS_FLAG_NO_XATTRS)) {
        v->xattrs = sqfs_xattr_reader_create(0);
        code =
            v->xattrs ? sqfs_xattr_reader_load(v->xattrs, &v->super, &v->file->base, v->compressor) : SQFS_ERROR_ALLOC;
        if (code) return damaged(error, code, "table of extended attributes");
    }
    code = sqfs_dir_reader_get_full_hierarchy(v->folders, v->ids, NULL, 0, &v->top);
    return code ? damaged(error, code, "folders") : WS_OK;
}

/* A file's bytes. */
struct content {
    struct volume *volume;
    const sqfs_inode_generic_t *inode;
    uint32_t block;
};

/* One that nobody reads with; more tasks than there are wait for each other. */
static struct lane *take_lane(struct volume *v) {
    for (size_t i = 0;; i = (i + 1) % LANES)
        if (!atomic_flag_test_and_set_explicit(&v->lane[i].busy, memory_order_acquire)) return &v->lane[i];
}

static enum ws_status content_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                   struct ws_error *error) {
    const struct content *c = source->state;
    char *out = buffer;
    struct lane *l = take_lane(c->volume);
    int code = make_lane(c->volume, l);
    while (length > 0 && !code) {
        sqfs_u32 step = length > 1 << 20 ? 1 << 20 : (sqfs_u32)length;
        sqfs_s32 got = sqfs_data_reader_read(l->data, c->inode, at, out, step);
        code = got > 0 ? 0 : got ? got : SQFS_ERROR_CORRUPTED;
        if (code) break;
        out += got;
        at += (uint64_t)got;
        length -= (size_t)got;
    }
    atomic_flag_clear_explicit(&l->busy, memory_order_release);
    return code ? damaged(error, code, "file content") : WS_OK;
}

static void content_close(struct ws_source *source) { free(source->state); }

/* A block of no length on the medium is a hole; what the others hold, the volume's bytes decide. */
static void content_piece(const struct ws_source *source, uint64_t at, struct ws_piece *piece) {
    const struct content *c = source->state;
    size_t blocks = sqfs_inode_get_file_block_count(c->inode);
    uint64_t end = at + piece->length;
    size_t first = (size_t)(at / c->block);
    bool hole = first < blocks && c->inode->extra[first] == 0;
    size_t next = first + 1;
    while (next < blocks && (uint64_t)next * c->block < end && (c->inode->extra[next] == 0) == hole) next++;
    if (hole) piece->kind = WS_PIECE_HOLE;
    else
        *piece = (struct ws_piece){WS_PIECE_UNPACKED, piece->length, c->volume->file->source, at,
                                   c->inode->base.inode_number};
    if ((hole || next < blocks) && (uint64_t)next * c->block < end) piece->length = (uint64_t)next * c->block - at;
}

static const struct ws_source_ops volume_ops = {NULL, volume_close, NULL};
static const struct ws_source_ops content_ops = {content_read, content_close, content_piece};

static enum ws_status add_content(struct volume *v, struct ws_tree *tree, const sqfs_inode_generic_t *inode,
                                  struct ws_node *node, struct ws_error *error) {
    sqfs_u64 size = 0;
    struct ws_source *source = NULL;
    (void)sqfs_inode_get_file_size(inode, &size);
    if (size == 0) return WS_OK;
    struct content *c = malloc(sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for a file");
    c->volume = v;
    c->inode = inode;
    c->block = v->super.block_size;
    enum ws_status status = ws_source_make(&content_ops, size, c, &source, error);
    if (status != WS_OK) {
        free(c);
        return status;
    }
    node->content = source;
    return ws_tree_own(tree, source, error);
}

static enum ws_node_kind kind_of(unsigned mode) {
    switch (mode & 0170000) {
    case 0040000: return WS_NODE_FOLDER;
    case 0120000: return WS_NODE_LINK;
    case 0020000: return WS_NODE_CHAR;
    case 0060000: return WS_NODE_BLOCK;
    case 0010000: return WS_NODE_FIFO;
    case 0140000: return WS_NODE_SOCKET;
    default: return WS_NODE_FILE;
    }
}

static enum ws_status add_xattrs(const struct volume *v, struct ws_tree *tree, const sqfs_inode_generic_t *inode,
                                 struct ws_node *node, struct ws_error *error) {
    sqfs_u32 index = 0xffffffff;
    sqfs_xattr_id_t set;
    if (!v->xattrs || sqfs_inode_get_xattr_index(inode, &index) != 0 || index == 0xffffffff) return WS_OK;
    int code = sqfs_xattr_reader_get_desc(v->xattrs, index, &set);
    if (!code) code = sqfs_xattr_reader_seek_kv(v->xattrs, &set);
    for (sqfs_u32 i = 0; !code && i < set.count; i++) {
        sqfs_xattr_entry_t *key = NULL;
        sqfs_xattr_value_t *value = NULL;
        code = sqfs_xattr_reader_read_key(v->xattrs, &key);
        if (!code) code = sqfs_xattr_reader_read_value(v->xattrs, key, &value);
        enum ws_status status =
            code ? WS_OK : ws_tree_set_xattr(tree, node, (const char *)key->key, value->value, value->size, error);
        sqfs_free(key);
        sqfs_free(value);
        WS_TRY(status);
    }
    return code ? damaged(error, code, "extended attributes") : WS_OK;
}

static void set_device(struct ws_node *node, sqfs_u32 number) { /* as the kernel packs it: 12 bits, 20 bits */
    node->major = (number >> 8) & 0xfff;
    node->minor = (number & 0xff) | ((number >> 12) & 0xfff00);
}

static enum ws_status fill(struct volume *v, struct ws_tree *tree, const sqfs_tree_node_t *from, struct ws_node *node,
                           struct ws_node **first_of, struct ws_error *error) {
    const sqfs_inode_generic_t *inode = from->inode;
    node->mode = inode->base.mode & 07777;
    node->uid = from->uid;
    node->gid = from->gid;
    node->mtime = inode->base.mod_time;
    node->origin = inode->base.inode_number;
    if (node->kind == WS_NODE_FOLDER) return add_xattrs(v, tree, inode, node, error);
    if (inode->base.inode_number < v->super.inode_count + 1ull) {
        struct ws_node **first = &first_of[inode->base.inode_number];
        if (*first) {
            node->same_as = *first;
            return WS_OK;
        }
        *first = node;
    }
    WS_TRY(add_xattrs(v, tree, inode, node, error));
    if (node->kind == WS_NODE_FILE) return add_content(v, tree, inode, node, error);
    if (node->kind == WS_NODE_LINK) {
        char target[4096];
        size_t length = inode->base.type == SQFS_INODE_EXT_SLINK ? inode->data.slink_ext.target_size
                                                                 : inode->data.slink.target_size;
        if (length >= sizeof target) return damaged(error, SQFS_ERROR_CORRUPTED, "symbolic links");
        memcpy(target, inode->extra, length);
        target[length] = '\0';
        return ws_tree_set_target(tree, node, target, error);
    }
    if (inode->base.type == SQFS_INODE_BDEV || inode->base.type == SQFS_INODE_CDEV)
        set_device(node, inode->data.dev.devno);
    if (inode->base.type == SQFS_INODE_EXT_BDEV || inode->base.type == SQFS_INODE_EXT_CDEV)
        set_device(node, inode->data.dev_ext.devno);
    return WS_OK;
}

/* The hierarchy, without recursion: `from` and `to` walk side by side. */
static enum ws_status convert(struct volume *v, struct ws_tree *tree, struct ws_error *error) {
    struct ws_node *to = ws_tree_root(tree);
    const sqfs_tree_node_t *from = v->top;
    enum ws_status status;
    struct ws_node **first_of = calloc((size_t)v->super.inode_count + 1, sizeof *first_of);
    if (!first_of) return ws_fail(error, WS_E_NOMEM, "out of memory for %u inodes", v->super.inode_count);
    WS_GO(fill(v, tree, from, to, first_of, error));
    while (from) {
        const sqfs_tree_node_t *next = from->children;
        struct ws_node *under = to;
        for (const sqfs_tree_node_t *up = from; !next && up != v->top; up = up->parent) {
            under = under->parent;
            next = up->next;
        }
        if (!next) break;
        if (ws_tree_count(tree) > NODES_MOST)
            WS_GO(ws_fail(error, WS_E_FORMAT, "the squashfs volume has over %d files", (int)NODES_MOST));
        WS_GO(ws_tree_add(tree, under, (const char *)next->name, kind_of(next->inode->base.mode), &to, error));
        WS_GO(fill(v, tree, next, to, first_of, error));
        from = next;
    }
    status = WS_OK;
done:
    free(first_of);
    return status;
}

enum ws_status ws_squashfs_read(const struct ws_source *source, struct ws_tree **out, struct ws_squashfs_facts *facts,
                                struct ws_error *error) {
    struct ws_source *keeper = NULL;
    struct ws_tree *tree = NULL;
    enum ws_status status;
    struct volume *v = calloc(1, sizeof *v);
    if (!v || !(v->file = file_of(source))) {
        free(v);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a squashfs volume");
    }
    for (size_t i = 0; i < LANES; i++) atomic_flag_clear(&v->lane[i].busy);
    WS_GO(read_super(v, error));
    if (v->super.inode_count > NODES_MOST) WS_GO(damaged(error, SQFS_ERROR_CORRUPTED, "count of files"));
    WS_GO(open_tables(v, error));
    WS_GO(ws_tree_create(&tree, error));
    WS_GO(ws_source_make(&volume_ops, 0, v, &keeper, error));
    struct volume *kept = v;
    v = NULL; /* the tree's from here on: given first, closed last */
    WS_GO(ws_tree_own(tree, keeper, error));
    if (facts) fill_facts(&kept->super, facts);
    status = convert(kept, tree, error);
done:
    volume_free(v);
    if (status == WS_OK) *out = tree;
    else ws_tree_close(tree);
    return status;
}
