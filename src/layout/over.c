/* over.c — a part of a drive as a layout leaves it. */
#include "base/bytes.h"
#include "wild_satchel/layout.h"

enum ws_status ws_layout_over(const struct ws_layout *layout, uint64_t at, uint64_t size, const struct ws_source *base,
                              uint64_t base_at, struct ws_layout **over, struct ws_error *error) {
    struct ws_layout *made = NULL;
    struct ws_source *below = NULL;
    const uint64_t there = base_at < base->size ? ws_min_u64(size, base->size - base_at) : 0;
    enum ws_status status;
    WS_GO(ws_layout_create(size, &made, error));
    for (size_t i = 0; i < ws_layout_count(layout); i++) {
        const struct ws_extent *e = ws_layout_extent(layout, i);
        const uint64_t from = ws_max_u64(e->at, at), end = ws_min_u64(e->at + e->length, at + size);
        if (from < end)
            WS_GO(ws_layout_add(made, from - at, end - from, e->from, e->from_at + (from - e->at), e->phase, error));
    }
    if (there) {
        WS_GO(ws_source_slice(base, base_at, there, &below, error));
        WS_GO(ws_layout_own(made, below, error));
        WS_GO(ws_layout_fill(made, 0, there, below, error));
    }
    WS_GO(ws_layout_seal(made, error));
done:
    if (status == WS_OK) *over = made;
    else ws_layout_close(made);
    return status;
}
