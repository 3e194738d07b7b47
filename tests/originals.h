/* originals.h — made-up drives that twins are made of, and twins read back. */
#ifndef WS_TESTS_ORIGINALS_H
#define WS_TESTS_ORIGINALS_H

#include "tests/roots.h"

#include "wild_satchel/format.h"

enum { MIB = 1 << 20, ORIGINAL_MOST = 8 };

/* A drive with volumes: what a machine's own installer could have made. */
struct original {
    struct ws_table table;
    struct ws_layout *layout;
    struct ws_source *source;
    struct ws_tree *tree[ORIGINAL_MOST];
    const char *format[ORIGINAL_MOST];
    uint64_t at[ORIGINAL_MOST], size[ORIGINAL_MOST];
    struct ws_guid id[ORIGINAL_MOST];
    size_t volumes;
    uint64_t end;
};

void original_guid(unsigned n, struct ws_guid *id);
void original_begin(struct original *o, uint64_t size, bool gpt);
/* @param format  NULL: bytes of no known kind, with this signature at their beginning
 * @param tree    the original's from now on; NULL: an empty one */
bool original_add(struct original *o, const char *format, const char *label, uint64_t size, struct ws_tree *tree,
                  const char *signature);
bool original_finish(struct original *o);
void original_end(struct original *o);

/* A volume of a drive as a tree, checked by whoever else knows its kind. @return NULL: it cannot be read, and the test
 * has failed; close the slice all the same */
struct ws_tree *read_back(const struct ws_source *drive, const struct ws_volume *v, struct ws_source **slice);

#endif
