/* harness.h — a small test harness: named tests, checks that say what they saw, seeds, scratch files, judges. */
#ifndef TESTS_HARNESS_H
#define TESTS_HARNESS_H

#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/** A test program is a table of these, ended by {NULL}. */
struct test {
    const char *name;
    void (*run)(void);
};
/** Run all, or those whose name contains argv[1]; prints "N passed, N failed". @return exit code */
int run_tests(int argc, char **argv, const struct test *tests);

void fail_at(const char *file, int line, const char *format, ...) WS_PRINTF(3, 4);
/** Leave the test as neither passed nor failed (a judge is not installed, no rights). */
void skip_test(const char *why);
/** Power was cut so many times with each of the two outcomes there may be; told once the test ends. */
void cuts_seen(uint64_t before, uint64_t after);

#define CHECK(condition)                                                                                               \
    do {                                                                                                               \
        if (!(condition)) fail_at(__FILE__, __LINE__, "%s", #condition);                                               \
    } while (0)
#define CHECK_INT(seen, wanted)                                                                                        \
    do {                                                                                                               \
        long long seen_ = (long long)(seen);                                                                           \
        long long wanted_ = (long long)(wanted);                                                                       \
        if (seen_ != wanted_) fail_at(__FILE__, __LINE__, "%s is %lld, not %lld", #seen, seen_, wanted_);              \
    } while (0)
#define CHECK_STR(seen, wanted)                                                                                        \
    do {                                                                                                               \
        const char *seen_ = (seen);                                                                                    \
        const char *wanted_ = (wanted);                                                                                \
        if (strcmp(seen_, wanted_) != 0)                                                                               \
            fail_at(__FILE__, __LINE__, "%s is \"%s\", not \"%s\"", #seen, seen_, wanted_);                            \
    } while (0)
/** The text holds this part. */
#define CHECK_HAS(text, part)                                                                                          \
    do {                                                                                                               \
        const char *text_ = (text);                                                                                    \
        if (!strstr(text_, (part))) fail_at(__FILE__, __LINE__, "\"%s\" is not in \"%s\"", (part), text_);             \
    } while (0)
/** A call succeeds; its error text is shown if not, and the test ends. */
#define OK(call)                                                                                                       \
    do {                                                                                                               \
        memset(&error, 0, sizeof error);                                                                               \
        enum ws_status ok_ = (call);                                                                                   \
        if (ok_ != WS_OK) {                                                                                            \
            fail_at(__FILE__, __LINE__, "%s: %s: %s %s", #call, ws_status_name(ok_), error.where, error.what);         \
            return;                                                                                                    \
        }                                                                                                              \
    } while (0)
/** A call fails with this status and says something. */
#define FAILS(call, wanted)                                                                                            \
    do {                                                                                                               \
        memset(&error, 0, sizeof error);                                                                               \
        enum ws_status got_ = (call);                                                                                  \
        if (got_ != (wanted))                                                                                          \
            fail_at(__FILE__, __LINE__, "%s gives %s, not %s (%s)", #call, ws_status_name(got_),                       \
                    ws_status_name(wanted), error.what);                                                               \
        else if (!error.what[0]) fail_at(__FILE__, __LINE__, "%s says nothing", #call);                                \
    } while (0)

extern struct ws_error error;

/** Random numbers from a seed that is printed when a test fails; WS_TEST_SEED sets it. */
uint64_t random_next(void);
uint64_t random_below(uint64_t limit);
uint64_t random_seed(void);
/** Choose the seed and print it: programs that are no table of tests. */
void random_begin(void);
void random_bytes(void *out, size_t length);

/** So many random cases; a sixth of them under sanitizers, which look at each far more closely and slowly, and a part
 *  of them where WS_TEST_PART says so: `./run long` has all. */
int cases_of(int count);

/** A path inside this program's scratch folder, removed at the end. Valid until the 16th next call. */
const char *scratch(const char *name);
/** Write a source, or a layout as a sparse file of its size. */
void save_source(const struct ws_source *source, const char *path);
void save_layout(const struct ws_layout *layout, const char *path);
/** Run a shell command; its output goes to `out` (may be NULL). @return its exit code */
int shell(struct ws_text *out, const char *format, ...) WS_PRINTF(2, 3);
bool have_program(const char *name);
/** May this process mount and use loop devices? */
bool may_mount(void);
/** Loop device for a file with partition scanning; detach with loop_detach(). @return false if none can be had */
bool loop_attach(const char *path, char device[64]);
void loop_detach(const char *device);
/** Mount; unmount with unmount(). @return false with a failed check */
bool mount_at(const char *device, const char *type, const char *options, const char *place);
void unmount(const char *place);

/** A file with this text, or a link, put into a tree; ends the program when that fails. */
void put_text(struct ws_tree *tree, const char *path, const char *text);
struct ws_node *put_link(struct ws_tree *tree, const char *path, const char *target);
/** A random tree: folders, files, links, hard links, devices, attributes, as the flags allow. */
enum {
    TREE_LINKS = 1,
    TREE_DEVICES = 2,
    TREE_XATTRS = 4,
    TREE_OWNERS = 8,
    TREE_ALL = 15,
    TREE_SHORT = 16,
    TREE_MARKS = 32
};
struct ws_tree *random_tree(size_t nodes, unsigned flags, uint64_t most_bytes);
/** Every difference between two trees is a failed check. Flags as above say what is compared. */
void compare_trees(const struct ws_tree *seen, const struct ws_tree *wanted, unsigned flags);
/** Compare a tree with a mounted folder. */
void compare_with_folder(const struct ws_tree *tree, const char *folder, unsigned flags);

/** A drive in memory that counts, cuts and lies on demand. */
struct memory_drive {
    struct ws_drive drive;
    struct ws_drive_facts facts;
    uint8_t *bytes;
    uint64_t writes, flushes, written;
    uint64_t lowest_gap; /**< largest step back between two body writes; 0: ascending */
    uint64_t last_end;
    uint64_t fail_at_write;                                  /**< this write and all after it fail; 0 never */
    uint64_t corrupt_at;                                     /**< a byte that reads back wrong; UINT64_MAX never */
    enum { CUT_BETWEEN, CUT_TORN, CUT_UNFLUSHED, CUTS } cut; /**< what becomes of that write and those before it */
    struct memory_write *unflushed; /**< what stood where it was written since the last flush */
};
struct memory_drive *memory_drive(uint64_t size, uint32_t sector);
void memory_drive_free(struct memory_drive *drive);
/** What a layout says, put there without writing. */
void memory_drive_fill(struct memory_drive *drive, const struct ws_layout *layout);
/** Random extents over a drive, in units of `unit` bytes; what it should hold stands in `wanted`, `size` bytes,
 * untouched ones as 0xe5. */
struct ws_layout *random_layout(uint64_t size, unsigned unit, bool seal, uint8_t *wanted);
/** A port without threads over the machine's clocks. */
struct ws_port *plain_port(void);

/** A request, the drive it is decided for, and what came of it. */
struct planned {
    struct ws_request request;
    struct ws_build_setting setting;
    const struct ws_plan *plan; /* the build's, as long as that is open */
};
/** With what is usual, for this drive; everything derives from one fixed identifier. */
void planned_begin(struct planned *p, enum ws_kind kind, const struct ws_drive_facts *drive);
/** ws_build_prepare(); the build is the caller's to close. */
enum ws_status planned_prepare(struct planned *p, const struct ws_source *image, struct ws_build **build);
/** The volume of this role: VOLUME(p, DATA)->size. */
#define VOLUME(p, role) ws_plan_volume((p).plan, WS_ROLE_##role)

#endif
