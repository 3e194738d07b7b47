/* sizing.c — wishes turned into bytes, by the model that sizing.h describes. */
#include "base/bytes.h"
#include "wild_satchel/sizing.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

/* What the model assumes where the image itself does not say. */
static const double assumed_expansion = 2.7;        /* installed bytes a compressed byte of the root */
static const uint64_t assumed_lists = 150ull << 20; /* the package lists of one update */
static const uint64_t assumed_initrd = 64ull << 20; /* made anew for a new kernel */
static const double packed_part = 0.3;              /* of installed bytes, as packages are downloaded */
static const uint64_t bytes_a_file = 40 * 1024;     /* of a system's files, on average */
static const uint64_t bytes_a_document = 1024 * 1024;
enum { BLOCK = 4096 };

void ws_wishes_usual(struct ws_wishes *w) {
    *w = (struct ws_wishes){.documents = 1ull << 30,
                            .programs = 512ull << 20,
                            .logs = 128ull << 20,
                            .months = 6,
                            .churn = 0.04,
                            .spare = 0.2};
}

WS_PRINTF(4, 5)
static void add(struct ws_sizing *s, const char *what, uint64_t bytes, const char *why, ...) {
    va_list list;
    if (bytes == 0 || s->items >= WS_SIZING_ITEMS_MOST) return;
    struct ws_sizing_item *item = &s->item[s->items++];
    (void)snprintf(item->what, sizeof item->what, "%s", what);
    item->bytes = bytes;
    va_start(list, why);
    (void)vsnprintf(item->why, sizeof item->why, why, list);
    va_end(list);
    s->free_wanted += bytes;
}

static enum ws_status check_wishes(const struct ws_wishes *w, struct ws_error *error) {
    const uint64_t most = 8ull << 40;
    if (!(w->months >= 0 && w->months <= 120)) return ws_fail(error, WS_E_RANGE, "months of updates go from 0 to 120");
    if (!(w->churn >= 0 && w->churn <= 1))
        return ws_fail(error, WS_E_RANGE, "the part that a month of updates replaces goes from 0 to 100 %%");
    if (!(w->spare >= 0 && w->spare <= 0.9)) return ws_fail(error, WS_E_RANGE, "the spare part goes from 0 to 90 %%");
    if (w->documents > most || w->programs > most || w->logs > most)
        return ws_fail(error, WS_E_RANGE, "more than 8 TiB of one kind is not possible on an ext4 volume here");
    return WS_OK;
}

static void add_updates(const struct ws_wishes *w, const struct ws_packages *p, struct ws_sizing *s) {
    char installed[24];
    double replaced = 1 - pow(1 - w->churn, w->months);
    uint64_t system = s->installed > p->kernel_bytes ? s->installed - p->kernel_bytes : 0;
    uint64_t changed = (uint64_t)((double)system * replaced);
    ws_size_counted(system, installed, sizeof installed);
    if (w->months <= 0 || w->churn <= 0) return;
    add(s, "updates", changed, "%.0f months at %.1f %% a month replace %.0f %% of the %s installed%s%s", w->months,
        w->churn * 100, replaced * 100, installed, p->kernel_bytes ? " beside the kernel" : "",
        s->counted ? "" : " (assumed from the root's size)");
    if (p->kernel_bytes)
        add(s, "another kernel", p->kernel_bytes + assumed_initrd,
            "the image keeps its own; an update adds one, with its initial RAM disk");
    uint64_t month = (uint64_t)((double)s->installed * w->churn * packed_part);
    add(s, "package lists", assumed_lists + month, "the lists of what there is, and one update's downloads");
}

static void add_blocks_and_spare(const struct ws_wishes *w, const char *why, struct ws_sizing *s) {
    uint64_t documents = w->documents / bytes_a_document;
    uint64_t files = (s->free_wanted - w->documents) / bytes_a_file + documents;
    add(s, "half-filled blocks", files * (BLOCK / 2), "about %llu files, half a block of 4 KiB each",
        (unsigned long long)files);
    add(s, "spare", (uint64_t)((double)s->free_wanted * w->spare), "%.0f %%: %s", w->spare * 100, why);
    s->free_wanted = ws_round_up(s->free_wanted, BLOCK);
}

enum ws_status ws_sizing_work_out(const struct ws_wishes *w, const struct ws_image *image, const struct ws_packages *p,
                                  struct ws_sizing *s, struct ws_error *error) {
    memset(s, 0, sizeof *s);
    WS_TRY(check_wishes(w, error));
    bool packed = image->root_format[0] || !image->root_bytes; /* else it is a plain volume, as large as it is */
    s->counted = p->known;
    s->installed = p->known ? p->installed_bytes
                            : (uint64_t)((double)(image->root_bytes ? image->root_bytes : image->file_bytes) *
                                         (packed ? assumed_expansion : 1));
    add(s, "documents", w->documents, "as asked");
    add(s, "installed programs", w->programs, "as asked: all their files are new");
    add_updates(w, p, s);
    add(s, "logs", w->logs, "as asked");
    add_blocks_and_spare(w, "a full overlay breaks the running system, and flash wants room to move", s);
    return WS_OK;
}

enum ws_status ws_sizing_of_system(const struct ws_wishes *w, uint64_t used, const struct ws_packages *p,
                                   struct ws_sizing *s, struct ws_error *error) {
    const double grows = 0.1; /* of what updates replace, a system is larger afterwards */
    memset(s, 0, sizeof *s);
    WS_TRY(check_wishes(w, error));
    s->counted = p->known;
    s->installed = p->known ? p->installed_bytes : used;
    double replaced = 1 - pow(1 - w->churn, w->months);
    uint64_t month = (uint64_t)((double)s->installed * w->churn);
    add(s, "documents", w->documents, "as asked");
    add(s, "installed programs", w->programs, "as asked");
    if (w->months > 0 && w->churn > 0) {
        add(s, "growth", (uint64_t)((double)s->installed * replaced * grows),
            "%.0f months of updates replace %.0f %% of it, and a tenth of that comes on top", w->months,
            replaced * 100);
        add(s, "an update at work", month + (uint64_t)((double)month * packed_part) + assumed_lists,
            "a month's downloads, the package lists, and the new files while the old ones are still there");
        if (p->kernel_bytes)
            add(s, "another kernel", p->kernel_bytes + assumed_initrd,
                "the one before stays until the new one has started");
    }
    add(s, "logs", w->logs, "as asked");
    add_blocks_and_spare(w, "a full system disk stops updates half way, and flash wants room to move", s);
    return WS_OK;
}

uint64_t ws_fat_waste(const struct ws_tree *tree, uint32_t cluster) {
    uint64_t waste = 0;
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        uint64_t size = n->kind == WS_NODE_FILE ? ws_node_size(n) : 0;
        if (n->kind ==
            WS_NODE_FOLDER) { /* its entries: 32 bytes a short name and as many for each 13 long characters */
            size = 64;
            for (const struct ws_node *child = n->first; child; child = child->next)
                size += 32 * (1 + (strlen(child->name) + 12) / 13);
        }
        waste += ws_round_up(size, cluster) - size;
    }
    return waste;
}
