/* test_refresh.c — twins brought up to date: whole after any cut, and never over a drive that is no twin. */
#include "tests/originals.h"

#include <unistd.h>

/* The same drive some days later: files that changed, came and went. */
static void live_on(struct ws_tree *tree) {
    struct ws_node *one = NULL;
    for (int i = 0; i < 5; i++) {
        size_t skip = (size_t)random_below(ws_tree_count(tree));
        struct ws_node *n = ws_tree_root(tree);
        while (skip-- && ws_tree_next(n)) n = ws_tree_next(n);
        if (n->kind == WS_NODE_FILE && !n->same_as && random_below(2)) {
            char bytes[5000];
            char path[1024];
            random_bytes(bytes, sizeof bytes);
            const struct ws_node was = *n;
            if (ws_tree_put(tree, ws_node_path(n, path, sizeof path), bytes, 1 + random_below(sizeof bytes), &one,
                            &error) != WS_OK)
                abort();
            one->mtime = was.mtime + 1000;
        } else if (n->parent && random_below(2)) {
            ws_tree_drop(tree, n);
        }
    }
    put_text(tree, "came/later/tide.txt", "low water at one");
}

/* Kept as bytes: the trees live on. */
static struct original *drive_of(struct ws_tree *root, struct ws_tree *charts, const char *name) {
    struct original *o = calloc(1, sizeof *o);
    original_begin(o, 200ull * MIB, true);
    if (!original_add(o, "ext4", "tide", 60ull * MIB, root, NULL) ||
        !original_add(o, "exfat", "charts", 70ull * MIB, charts, NULL) || !original_finish(o))
        abort();
    o->tree[0] = o->tree[1] = NULL; /* used again */
    save_source(o->source, scratch(name));
    ws_source_close(o->source);
    if (ws_source_file(scratch(name), &o->source, &error) != WS_OK) abort();
    unlink(scratch(name));
    return o;
}

/* What stands on the twin is what the original holds. */
static void check_twin(struct memory_drive *d, const struct original *o) {
    struct ws_source *source = NULL;
    struct ws_table table;
    OK(ws_source_drive(&d->drive, &source, &error));
    OK(ws_table_read(source, 512, &table, NULL, &error));
    for (size_t i = 0; i < 2; i++) {
        struct ws_source *slice, *was;
        struct ws_tree *wanted = NULL;
        struct ws_volume v = {.at = table.gpt[i].at, .size = table.gpt[i].length};
        struct ws_volume_facts facts;
        OK(ws_source_slice(source, v.at, v.size, &slice, &error));
        CHECK(ws_format_of(slice, &facts) != NULL);
        v.free_bytes = facts.free_bytes;
        snprintf(v.format, sizeof v.format, "%s", o->format[i]);
        ws_source_close(slice);
        struct ws_tree *tree = read_back(source, &v, &slice);
        OK(ws_source_slice(o->source, o->at[i], o->size[i], &was, &error));
        OK(ws_format_find(o->format[i])->read(was, &wanted, NULL, &error));
        if (tree) compare_trees(tree, wanted, i ? 0 : TREE_ALL);
        ws_tree_close(wanted);
        ws_source_close(was);
        ws_tree_close(tree);
        ws_source_close(slice);
    }
    ws_source_close(source);
}

static enum ws_status carry_over(struct memory_drive *d, const struct original *o, bool refresh, uint64_t *written) {
    struct planned p;
    struct ws_build *build = NULL;
    struct ws_source *now = NULL;
    struct ws_build_result result;
    const struct ws_build_options options = {.confirm = d->facts.short_name};
    planned_begin(&p, WS_KIND_TWIN, &d->facts);
    snprintf(p.request.input[WS_INPUT_IMAGE].path, 64, "office");
    p.request.twin.refresh = refresh;
    if (ws_source_drive(&d->drive, &now, &error) != WS_OK) abort();
    if (refresh) p.setting.now = now;
    enum ws_status status = planned_prepare(&p, o->source, &build);
    if (status == WS_OK) status = ws_build_carry_out(build, plain_port(), &d->drive, &options, &result, &error);
    if (status == WS_OK && written) *written = result.write.written;
    ws_build_close(build);
    ws_source_close(now);
    return status;
}

/* A twin brought up to date; cut at any moment it is as it was, or what it is to be once the change is finished. */
static void test_refresh(void) {
    for (int round = 0; round < cases_of(4); round++) {
        struct ws_tree *root = random_tree(120, TREE_ALL, 60000), *charts = random_tree(40, 0, 60000);
        struct memory_drive *d = memory_drive(160ull * MIB, 512);
        struct original *o = drive_of(root, charts, "was"), *later;
        uint64_t all = 0, part = 0;
        OK(carry_over(d, o, false, &all));
        check_twin(d, o);
        live_on(root);
        live_on(charts);
        later = drive_of(root, charts, "later");
        uint8_t *before = malloc(160 * MIB);
        memcpy(before, d->bytes, 160 * MIB);
        d->writes = 0;
        OK(carry_over(d, later, true, &part));
        check_twin(d, later);
        const uint64_t writes = d->writes;
        OK(carry_over(d, later, true, &part)); /* once more: nothing is left to do but what is fixed */
        check_twin(d, later);
        for (int cut = 0; cut < 6; cut++) {
            memcpy(d->bytes, before, 160 * MIB);
            d->writes = 0;
            d->fail_at_write = 1 + random_below(writes);
            enum ws_status status = carry_over(d, later, true, NULL);
            d->fail_at_write = 0;
            if (status == WS_OK) continue;
            if (ws_changing_read(d->bytes, NULL)) {
                uint64_t bytes;
                OK(ws_change_finish(plain_port(), &d->drive, NULL, NULL, &bytes, &error));
                check_twin(d, later);
            } else {
                check_twin(d, o);
            }
        }
        free(before);
        original_end(o);
        original_end(later);
        free(o);
        free(later);
        ws_tree_close(root);
        ws_tree_close(charts);
        memory_drive_free(d);
    }
}

static void test_no_twin(void) {
    struct memory_drive *d = memory_drive(160ull * MIB, 512);
    struct ws_tree *a = random_tree(120, TREE_ALL, 6000), *b = random_tree(20, 0, 6000),
                   *other = random_tree(150, TREE_ALL, 6000);
    struct original *o = drive_of(a, b, "was"), *foreign = drive_of(other, b, "other");
    FAILS(carry_over(d, o, true, NULL), WS_E_UNSUPPORTED); /* nothing is on it */
    OK(carry_over(d, o, false, NULL));
    FAILS(carry_over(d, foreign, true, NULL), WS_E_REFUSED);
    CHECK_HAS(error.what, "hardly a file");
    check_twin(d, o);
    original_end(o);
    original_end(foreign);
    free(o);
    free(foreign);
    ws_tree_close(a);
    ws_tree_close(b);
    ws_tree_close(other);
    memory_drive_free(d);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"brought up to date, cut at any write", test_refresh},
                                        {"a drive that is no twin", test_no_twin},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
