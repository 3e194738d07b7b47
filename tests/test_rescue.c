/* test_rescue.c — what can be read of a damaged volume is read: bad sectors, torn structures, names that are gone. */
#include "tests/harness.h"

enum { MIB = 1 << 20, SIZE = 200 * MIB, SECTOR = 512 };

/* A volume with places that cannot be read. */
struct bad_drive {
    uint8_t *bytes;
    uint64_t at[64], length[64];
    size_t bads;
};

static enum ws_status bad_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                               struct ws_error *e) {
    const struct bad_drive *d = source->state;
    for (size_t i = 0; i < d->bads; i++)
        if (at < d->at[i] + d->length[i] && at + length > d->at[i]) return ws_fail(e, WS_E_READ, "a bad sector");
    memcpy(buffer, d->bytes + at, length);
    return WS_OK;
}
static const struct ws_source_ops bad_ops = {bad_read, NULL, NULL};

static void make_bad(struct bad_drive *d, uint64_t at, uint64_t length) {
    if (d->bads == 64) return;
    d->at[d->bads] = at / SECTOR * SECTOR;
    d->length[d->bads++] = length;
}

static void compose(struct ws_tree *tree, struct bad_drive *d) {
    struct ws_ext4_params p = {.size = SIZE, .label = "persistence", .made_at = 1790000000};
    struct ws_ext4_geometry g;
    struct ws_layout *layout = NULL;
    struct ws_source *view = NULL;
    random_bytes(p.id.byte, 16);
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(SIZE, &layout, &error));
    OK(ws_ext4_compose(&g, 0, layout, WS_PHASE_SEAL, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &view, &error));
    OK(ws_source_read(view, 0, d->bytes, SIZE, &error));
    ws_source_close(view);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
}

struct told {
    size_t lines;
    char text[20000];
};
static void note(void *context, const char *path, const char *what) {
    struct told *t = context;
    const size_t n = strlen(t->text);
    t->lines++;
    (void)snprintf(t->text + n, sizeof t->text - n, "%s: %s\n", path, what);
}

static struct ws_tree *rescue(struct bad_drive *d, struct told *told, struct ws_source **forgiving) {
    static struct ws_source source; /* of one drive at a time */
    struct ws_tree *tree = NULL;
    memset(told, 0, sizeof *told);
    memset(&error, 0, sizeof error);
    source = (struct ws_source){.ops = &bad_ops, .size = SIZE, .state = d};
    if (ws_source_forgiving(&source, SECTOR, forgiving, &error) != WS_OK ||
        ws_ext4_rescue(*forgiving, note, told, &tree, NULL, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s", error.what);
    return tree;
}

static bool same_text(const struct ws_tree *tree, const char *path, const char *text) {
    const struct ws_node *n = ws_tree_find(tree, path);
    char *bytes = NULL;
    size_t length = 0;
    bool same = n && n->content && ws_source_load(n->content, MIB, &bytes, &length, &error) == WS_OK &&
                length == strlen(text) && memcmp(bytes, text, length) == 0;
    free(bytes);
    return same;
}

static const struct ws_run *place_of(const struct ws_tree *tree, const char *path, struct ws_run *run) {
    const struct ws_node *n = ws_tree_find(tree, path);
    struct ws_piece piece = ws_source_piece(n->content, 0, n->content->size);
    while (piece.kind == WS_PIECE_BASE && ws_source_piece(piece.base, piece.at, piece.length).kind == WS_PIECE_BASE)
        piece = ws_source_piece(piece.base, piece.at, piece.length);
    *run = (struct ws_run){.at = piece.at, .length = piece.length};
    return run;
}

static void a_sound_volume_is_read_as_ever(void) {
    for (int i = 0; i < cases_of(12); i++) {
        struct ws_tree *tree = random_tree(1 + random_below(120), TREE_ALL, 3 * MIB), *seen;
        struct bad_drive d = {.bytes = malloc(SIZE)};
        struct ws_source *forgiving = NULL;
        struct told told;
        compose(tree, &d);
        seen = rescue(&d, &told, &forgiving);
        if (told.lines) fail_at(__FILE__, __LINE__, "%s", told.text);
        if (seen) compare_trees(seen, tree, TREE_ALL);
        ws_tree_close(seen);
        ws_source_close(forgiving);
        ws_tree_close(tree);
        free(d.bytes);
    }
}

static void what_is_lost_is_named(void) {
    struct ws_tree *tree = NULL, *seen;
    struct bad_drive d = {.bytes = malloc(SIZE)};
    struct ws_source *forgiving = NULL;
    struct told told;
    struct ws_run at;
    size_t count;
    uint64_t bytes;
    char big[40000];
    OK(ws_tree_create(&tree, &error));
    memset(big, 'x', sizeof big);
    OK(ws_tree_put(tree, "rw/home/tide/log", big, sizeof big, NULL, &error));
    put_text(tree, "rw/home/tide/note", "low water at six");
    put_text(tree, "rw/home/gull/note", "high water at noon");
    put_text(tree, "rw/etc/hostname", "hut-3");
    compose(tree, &d);
    /* a bad sector in a file: its other bytes are there */
    seen = rescue(&d, &told, &forgiving);
    place_of(seen, "rw/home/tide/log", &at);
    ws_tree_close(seen);
    ws_source_close(forgiving);
    make_bad(&d, at.at + 8192, SECTOR);
    seen = rescue(&d, &told, &forgiving);
    CHECK_INT(told.lines, 0);
    const struct ws_node *log = ws_tree_find(seen, "rw/home/tide/log");
    OK(ws_source_read(log->content, 0, big, sizeof big, &error));
    CHECK(big[8191] == 'x' && big[8192] == 0 && big[8192 + SECTOR - 1] == 0 && big[8192 + SECTOR] == 'x');
    (void)ws_source_unread(forgiving, &count, &bytes);
    CHECK_INT(count, 1);
    CHECK_INT(bytes, SECTOR);
    ws_tree_close(seen);
    ws_source_close(forgiving);
    /* an inode with another byte: what it says is saved, and doubted */
    for (size_t i = 0; i + 256 <= 8 * MIB; i += 256) /* the text of so many bytes, its owner's */
        if (d.bytes[i + 1] >> 4 == 8 && d.bytes[i + 4] == sizeof "hut-3" - 1 && !d.bytes[i + 5]) d.bytes[i + 2] ^= 1;
    seen = rescue(&d, &told, &forgiving);
    CHECK_INT(told.lines, 1);
    CHECK_HAS(told.text, "/rw/etc/hostname: its inode is not what was written");
    CHECK(seen && same_text(seen, "rw/etc/hostname", "hut-3"));
    ws_tree_close(seen);
    ws_source_close(forgiving);
    /* a superblock that is gone, and descriptors: from their copies */
    make_bad(&d, 0, 8192);
    seen = rescue(&d, &told, &forgiving);
    CHECK_HAS(told.text, "a copy of it was used");
    CHECK(seen && same_text(seen, "rw/home/gull/note", "high water at noon"));
    ws_tree_close(seen);
    ws_source_close(forgiving);
    free(d.bytes);
    ws_tree_close(tree);
}

/* A folder's block cannot be read: what it named stands in lost+found, whole. */
static void what_has_no_name_is_found(void) {
    struct ws_tree *tree = NULL, *seen;
    struct bad_drive d = {.bytes = calloc(1, SIZE)};
    struct ws_source *forgiving = NULL;
    struct told told;
    OK(ws_tree_create(&tree, &error));
    put_text(tree, "rw/home/tide/charts/low", "low water at six");
    put_text(tree, "rw/home/tide/note", "to the skipper");
    put_text(tree, "rw/etc/hostname", "hut-3");
    compose(tree, &d);
    /* the block of the folder "tide" is the one that has both its names */
    for (uint64_t at = 0; at + 4096 <= SIZE; at += 4096) {
        const uint8_t *b = d.bytes + at;
        bool charts = false, notes = false;
        for (size_t i = 12; i + 8 < 400; i++) {
            charts |= memcmp(b + i, "charts", 6) == 0;
            notes |= memcmp(b + i, "note", 4) == 0;
        }
        if (charts && notes && b[8] == '.') make_bad(&d, at, 4096);
    }
    CHECK(d.bads >= 1);
    seen = rescue(&d, &told, &forgiving);
    CHECK_HAS(told.text, "/rw/home/tide: names in it cannot be read");
    CHECK_HAS(told.text, "found without its name");
    CHECK(same_text(seen, "rw/etc/hostname", "hut-3"));
    bool low = false, skipper = false;
    for (const struct ws_node *n = ws_tree_find(seen, "lost+found"); n;
         n = ws_tree_next_below(n, ws_tree_find(seen, "lost+found"))) {
        char path[300];
        ws_node_path(n, path, sizeof path);
        low |= strstr(path, "/low") && same_text(seen, path, "low water at six");
        skipper |= n->kind == WS_NODE_FILE && same_text(seen, path, "to the skipper");
    }
    CHECK(low && skipper);
    ws_tree_close(seen);
    ws_source_close(forgiving);
    free(d.bytes);
    ws_tree_close(tree);
}

/* Whatever is damaged, it comes to an end, and says so. */
static void any_damage_is_borne(void) {
    struct ws_tree *tree = random_tree(200, TREE_ALL, 5 * MIB);
    struct bad_drive d = {.bytes = malloc(SIZE)};
    uint8_t *first = malloc(SIZE);
    compose(tree, &d);
    memcpy(first, d.bytes, SIZE);
    for (int i = 0; i < cases_of(120); i++) {
        struct ws_source *source = NULL, *forgiving = NULL;
        struct ws_tree *seen = NULL;
        struct told told = {0};
        d.bads = 0;
        for (uint64_t k = 1 + random_below(40); k; k--) {
            const uint64_t at = random_below(random_below(3) ? 2 * MIB : SIZE - 8192);
            if (random_below(2)) make_bad(&d, at, SECTOR * (1 + random_below(16)));
            else random_bytes(d.bytes + at, 1 + (size_t)random_below(300));
        }
        OK(ws_source_make(&bad_ops, SIZE, &d, &source, &error));
        OK(ws_source_forgiving(source, SECTOR, &forgiving, &error));
        if (ws_ext4_rescue(forgiving, note, &told, &seen, NULL, &error) == WS_OK) {
            for (const struct ws_node *n = ws_tree_root(seen); n; n = ws_tree_next(n)) {
                uint8_t page[4096];
                if (n->kind == WS_NODE_FILE && n->content && n->content->size >= sizeof page)
                    OK(ws_source_read(n->content, n->content->size - sizeof page, page, sizeof page, &error));
            }
            ws_tree_close(seen);
        }
        ws_source_close(forgiving);
        ws_source_close(source);
        memcpy(d.bytes, first, SIZE);
    }
    free(first);
    free(d.bytes);
    ws_tree_close(tree);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"a sound volume is read as ever", a_sound_volume_is_read_as_ever},
                                        {"what is lost is named", what_is_lost_is_named},
                                        {"what has no name is found", what_has_no_name_is_found},
                                        {"any damage is borne", any_damage_is_borne},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
