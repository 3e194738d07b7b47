/* tree.h — files and folders with their owners, modes, times, links and extended attributes.
 *
 * Readers make trees, edits change them, composers turn them into layouts. A file's content is a source that the
 * tree owns or borrows; edits never touch content that stays. All nodes live as long as their tree.
 */
#ifndef WILD_SATCHEL_TREE_H
#define WILD_SATCHEL_TREE_H

#include "wild_satchel/source.h"

WS_BEGIN

enum ws_node_kind {
    WS_NODE_FOLDER,
    WS_NODE_FILE,
    WS_NODE_LINK, /**< symbolic link */
    WS_NODE_CHAR,
    WS_NODE_BLOCK,
    WS_NODE_FIFO,
    WS_NODE_SOCKET
};

/** An extended attribute with its full name ("user.note"). */
struct ws_xattr {
    struct ws_xattr *next;
    char *name;
    uint8_t *value;
    size_t length; /**< bytes of value */
};

/** Marks that a file system keeps of a file or folder: the first of FAT and exFAT, the others of ext4 (chattr(1)). */
enum ws_mark_bit {
    WS_MARK_HIDDEN = 1,
    WS_MARK_SYSTEM = 2,
    WS_MARK_SAVED = 4, /**< a file without the mark that it is to be archived */
    WS_MARK_FIXED = 8, /**< immutable */
    WS_MARK_APPEND_ONLY = 16,
    WS_MARK_NO_DUMP = 32,
    WS_MARK_NO_ACCESS_TIME = 64,
    WS_MARK_WRITTEN_AT_ONCE = 128 /**< synchronous */
};

struct ws_node {
    char *name; /**< one path component; "" for the root */
    struct ws_node *parent, *first, *last, *next;
    enum ws_node_kind kind : 8;
    uint8_t marks;     /**< enum ws_mark_bit */
    uint16_t mode;     /**< permission bits, 07777 */
    bool reserved : 1; /**< WS_NODE_FILE: a FAT or exFAT composer gives it its place in one piece, but writes no content
                        */
    bool fixed : 1;    /**< and that place is given: it begins at byte `origin` of the volume; of one file of a tree */
    bool superseded : 1, going : 1; /**< the tree's own: another node has its name and place, see ws_tree_fresh(); it is
                                       being dropped */
    uint32_t uid, gid;
    int64_t mtime; /**< seconds since 1970-01-01 UTC */
    int64_t born;  /**< likewise: when it was made, where the file system tells (ext4, FAT, exFAT); 0: not known */
    uint32_t mtime_ns;
    uint32_t major, minor;           /**< WS_NODE_CHAR and WS_NODE_BLOCK */
    uint32_t children;               /**< the tree's own: of a folder */
    const struct ws_source *content; /**< WS_NODE_FILE; NULL is an empty file */
    char *target;                    /**< WS_NODE_LINK */
    struct ws_xattr *xattrs;
    struct ws_node *same_as; /**< hard link: this name shows the inode of that node, which is not a hard link itself */
    uint64_t origin;         /**< where a reader found it: its on-disk record or inode; 0 if made here */
    uint64_t work;           /**< scratch for the composer at work on the tree */
    uint64_t work2;
    /* What follows is the tree's own. */
    struct ws_node *heir;        /**< who takes its inode over when it is dropped */
    struct ws_name_index *names; /**< of a large one */
    struct {
        struct ws_node *next, *before;
    } alike[2]; /**< others of the same name in the folder: to the letter, and but for the letters' case */
};

struct ws_tree;
WS_CHECKED enum ws_status ws_tree_create(struct ws_tree **tree, struct ws_error *error);
void ws_tree_close(struct ws_tree *tree);
struct ws_node *ws_tree_root(const struct ws_tree *tree);
/** Number of nodes, the root among them. */
size_t ws_tree_count(const struct ws_tree *tree);
/** Hand `source` over: it is closed with the tree, last given first closed. On WS_E_NOMEM it is closed at once. */
WS_CHECKED enum ws_status ws_tree_own(struct ws_tree *tree, struct ws_source *source, struct ws_error *error);

/**
 * Add a node under `parent`. Mode starts as 0755 for folders and 0644 for all else, owner 0:0, time 0.
 * The name is not looked up first: readers of sound volumes would pay for that with every file.
 * @return WS_E_RANGE for a name that is empty, ".", "..", over 255 bytes or contains "/"
 */
WS_CHECKED enum ws_status ws_tree_add(struct ws_tree *tree, struct ws_node *parent, const char *name,
                                      enum ws_node_kind kind, struct ws_node **node, struct ws_error *error);
/** Make the folders of `path` that are missing and return the last. */
WS_CHECKED enum ws_status ws_tree_folder(struct ws_tree *tree, const char *path, struct ws_node **node,
                                         struct ws_error *error);
/** A new file at `path`, whatever stands there; makes folders on the way. What stood there is found no more, but stays
 * in the tree until ws_tree_settle(), so that any number of them costs one pass: for readers of what lists a name
 * twice. */
WS_CHECKED enum ws_status ws_tree_fresh(struct ws_tree *tree, const char *path, struct ws_node **node,
                                        struct ws_error *error);
void ws_tree_settle(struct ws_tree *tree);
/** Lay a tree over another, as overlayfs stacks folders, whiteouts and opaque folders carried out (also aufs' names for
 *  them). What `upper` holds moves to `lower`, so that a large one costs no memory twice: close `lower` first. Of
 * `upper` the folders stay that are in both, its scratch is used.
 *  @return WS_E_UNSUPPORTED for a layer that refers to another place of the one below; both are of no use then */
WS_CHECKED enum ws_status ws_tree_lay_over(struct ws_tree *lower, struct ws_tree *upper, struct ws_error *error);
/** What a folder holds becomes a tree of its own, whose root has the folder's owner, mode and times; the folder stays,
 *  empty. Names that shared an inode across that border share it no more. The nodes are those of the old tree: close
 * the new one first. */
WS_CHECKED enum ws_status ws_tree_cut(struct ws_tree *tree, struct ws_node *folder, struct ws_tree **apart,
                                      struct ws_error *error);
/** Another tree of the same files, whose root has the same owner, mode and times. Contents and attributes are borrowed
 *  from `tree`, whose scratch is used: close the copy first. */
WS_CHECKED enum ws_status ws_tree_copy(struct ws_tree *tree, struct ws_tree **copy, struct ws_error *error);
/** What another tree holds becomes what a folder holds, which is empty but for what it has by the same name: that goes.
 *  Contents and attributes are borrowed from `other`, whose scratch is used. */
WS_CHECKED enum ws_status ws_tree_graft(struct ws_tree *tree, struct ws_node *folder, struct ws_tree *other,
                                        struct ws_error *error);
/** Put a file with these bytes at `path`, replacing what is there; makes folders on the way. `node` may be NULL. */
WS_CHECKED enum ws_status ws_tree_put(struct ws_tree *tree, const char *path, const void *bytes, size_t length,
                                      struct ws_node **node, struct ws_error *error);
WS_CHECKED enum ws_status ws_tree_set_target(struct ws_tree *tree, struct ws_node *node, const char *target,
                                             struct ws_error *error);
WS_CHECKED enum ws_status ws_tree_set_xattr(struct ws_tree *tree, struct ws_node *node, const char *name,
                                            const void *value, size_t length, struct ws_error *error);
/** Give a node another name. @return as ws_tree_add(); the old name stays on failure */
WS_CHECKED enum ws_status ws_tree_rename(struct ws_tree *tree, struct ws_node *node, const char *name,
                                         struct ws_error *error);
/** Take a node and all below out of the tree; hard links to it turn into the thing itself. Looks through the whole
 * tree: for many use ws_tree_drop_all(). */
void ws_tree_drop(struct ws_tree *tree, struct ws_node *node);
/** The same for all nodes that `goes` says it of, in one pass; it is not asked about what lies below one that goes. */
void ws_tree_drop_all(struct ws_tree *tree, bool (*goes)(void *context, struct ws_node *node), void *context);
/** The node at `path` ("a/b", leading and doubled slashes ignored), or NULL. Symbolic links are not followed. */
struct ws_node *ws_tree_find(const struct ws_tree *tree, const char *path);
struct ws_node *ws_node_child(const struct ws_node *folder, const char *name);
/** As ws_tree_find, ASCII letters of either case being the same, as FAT and Joliet have it. */
struct ws_node *ws_tree_find_any_case(const struct ws_tree *tree, const char *path);
/** The next node in reading order (a folder before what it holds), NULL after the last; start with the root. */
struct ws_node *ws_tree_next(const struct ws_node *node);
/** The same within a folder, or what else `top` is: NULL after the last below it; start with `top`. */
struct ws_node *ws_tree_next_below(const struct ws_node *node, const struct ws_node *top);
/** Is it the mark by which the kernel's overlay takes a name of the layers below away (a character device 0:0)? */
bool ws_node_is_whiteout(const struct ws_node *node);
/** The full path, "/" for the root. Cut with "..." in front if `room` is too small. @return `out` */
const char *ws_node_path(const struct ws_node *node, char *out, size_t room);
/** How one tree is compared with another. All 0: they are to be alike. */
struct ws_holding {
    size_t more;   /**< names that it may have beside those that are wanted */
    bool any_case; /**< ASCII letters of either case are the same in names, as FAT and exFAT have it */
    bool (*aside)(void *context, const struct ws_node *wanted); /**< what it says yes to is not compared: a file */
    void *context;
};
/** Does a tree hold what another one does: names, kinds, owners, modes, targets, attributes and contents, not times?
 *  Contents are read only where both do not come from one place of one source.
 *  @return WS_E_DIFFERENT: not; the text names the first that is another, and how. WS_E_READ, WS_E_NOMEM */
WS_CHECKED enum ws_status ws_tree_holds(const struct ws_tree *tree, const struct ws_tree *wanted,
                                        const struct ws_holding *how, struct ws_error *error);
/** What a tree says of all its files, but for their contents: names, kinds, owners, modes, sizes, times, places. */
void ws_tree_hash(const struct ws_tree *tree, struct ws_hash *hash);
/** Size of a file's content in bytes, through hard links; 0 for all else but a link's target length. */
uint64_t ws_node_size(const struct ws_node *node);
/** The same without a file's holes; 0 for a hard link. */
uint64_t ws_node_stored(const struct ws_node *node);

WS_END

#endif
