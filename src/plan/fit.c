/* fit.c — the smallest volume for so much free room, and the most free room in so large a place. Free room does not
 * grow evenly with size: a new group of blocks, a larger inode table or journal first cost room. So each stretch
 * between the sizes at which the composer changes its mind is searched by halving, and the last steps are looked at
 * singly. */
#include "base/bytes.h"
#include "wild_satchel/sizing.h"

struct fitting {
    struct ws_tree *tree;
    uint64_t unit;
};

static uint64_t free_of(const struct fitting *f, uint64_t size) {
    struct ws_ext4_params p = {.size = size};
    struct ws_ext4_geometry g;
    struct ws_error ignored;
    if (ws_ext4_measure(&p, f->tree, &g, &ignored) != WS_OK) return 0;
    ws_ext4_geometry_free(&g);
    return g.free_bytes;
}

static enum ws_status start(struct fitting *f, const struct ws_live_family *family, struct ws_error *error) {
    if (family) return ws_live_volume_tree(family, 0, &f->tree, error);
    return ws_tree_create(&f->tree, error);
}

/* How far back a dip in free room can reach: a table that grows by a block in every group, twice over. */
static uint64_t dip(uint64_t size) { return (16ull << 20) + (size >> 27) * 8192; }

static const uint64_t steps[] = {WS_EXT4_LEAST, 128ull << 20, 1ull << 30, 16ull << 30, 256ull << 30, WS_EXT4_MOST};
enum { STEPS = sizeof steps / sizeof steps[0] };

enum ws_status ws_ext4_fit(const struct ws_live_family *family, uint64_t wanted, uint64_t unit, uint64_t most,
                           uint64_t *size, uint64_t *free_bytes, struct ws_error *error) {
    struct fitting f = {.unit = unit};
    uint64_t best = 0;
    if (unit == 0 || unit % 4096) return ws_fail(error, WS_E_USAGE, "sizes of ext4 volumes come in multiples of 4 KiB");
    most = ws_min_u64(most, WS_EXT4_MOST) / unit * unit;
    WS_TRY(start(&f, family, error));
    for (size_t i = 0; i + 1 < STEPS && !best; i++) {
        uint64_t low = ws_round_up(ws_max_u64(steps[i], ws_min_u64(wanted, WS_EXT4_MOST)), unit);
        uint64_t high = ws_min_u64(steps[i + 1], most) / unit * unit;
        if (low > high || free_of(&f, high) < wanted) {
            /* the stretch's end may just have paid for a new group; look a little before it */
            uint64_t before = high > dip(high) ? high - dip(high) : 0;
            while (high > low && high > before && free_of(&f, high) < wanted) high -= unit;
            if (low > high || free_of(&f, high) < wanted) continue;
        }
        uint64_t least = low;
        best = high;
        while (low < best) {
            uint64_t middle = low + (best - low) / 2 / unit * unit;
            if (free_of(&f, middle) >= wanted) best = middle;
            else low = middle + unit;
        }
        uint64_t from = best > least + dip(best) ? best - dip(best) : least;
        for (uint64_t s = ws_round_up(from, unit); s < best; s += unit)
            if (free_of(&f, s) >= wanted) best = s;
    }
    if (best) {
        *size = best;
        *free_bytes = free_of(&f, best);
    }
    ws_tree_close(f.tree);
    if (best) return WS_OK;
    char a[48], b[48];
    return ws_fail(error, WS_E_SPACE, "no volume of at most %s has %s free", ws_size_both(most, a, sizeof a),
                   ws_size_both(wanted, b, sizeof b));
}

enum ws_status ws_ext4_most_free(const struct ws_live_family *family, uint64_t most, uint64_t unit, uint64_t *size,
                                 uint64_t *free_bytes, struct ws_error *error) {
    struct fitting f = {.unit = unit};
    if (unit == 0 || unit % 4096) return ws_fail(error, WS_E_USAGE, "sizes of ext4 volumes come in multiples of 4 KiB");
    most = ws_min_u64(most, WS_EXT4_MOST) / unit * unit;
    if (most < WS_EXT4_LEAST) return ws_fail(error, WS_E_SPACE, "an ext4 volume needs at least 16 MiB");
    WS_TRY(start(&f, family, error));
    *free_bytes = 0;
    uint64_t from = ws_max_u64(most > dip(most) ? most - dip(most) : 0, WS_EXT4_LEAST);
    for (uint64_t s = ws_round_up(from, unit); s <= most; s += unit) {
        uint64_t room = free_of(&f, s);
        if (room <= *free_bytes) continue;
        *free_bytes = room;
        *size = s;
    }
    ws_tree_close(f.tree);
    return WS_OK;
}

enum ws_status ws_image_needs(const struct ws_image *image, const struct ws_packages *packages, uint64_t *least,
                              uint64_t *comfortable, struct ws_error *error) {
    const uint64_t mib = 1 << 20;
    struct ws_wishes usual;
    struct ws_sizing sizing;
    uint64_t size = 0;
    uint64_t room = 0;
    *least = *comfortable = 0;
    if (!image->source || image->kind > WS_IMAGE_DRIVE) return WS_OK;
    *least = *comfortable = image->source->size;
    if (image->kind != WS_IMAGE_HYBRID || !image->family) return WS_OK;
    uint64_t before = ws_round_up(image->source->size, mib) + mib;
    ws_wishes_usual(&usual);
    WS_TRY(ws_sizing_work_out(&usual, image, packages, &sizing, error));
    WS_TRY(ws_ext4_fit(image->family, sizing.free_wanted, mib, WS_EXT4_MOST, &size, &room, error));
    *least = before + WS_EXT4_LEAST + mib;
    *comfortable = before + size + mib;
    return WS_OK;
}
