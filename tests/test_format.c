/* test_format.c — the table of formats: each row composes what it then knows again, as large and as small as it says.
 */
#include "tests/harness.h"

#include "wild_satchel/format.h"

static const uint64_t MIB = 1 << 20;

static struct ws_volume_params params_of(const struct ws_format *f, uint64_t size, uint32_t sector) {
    struct ws_volume_params p = {.size = size, .sector = sector, .align = 65536, .made_at = 1790000000};
    random_bytes(p.id.byte, 16);
    ws_guid_from_random(&p.id);
    if (ws_label_normalise(f->word, "Tide data of 2026", p.label, sizeof p.label, NULL, 0, &error) != WS_OK) abort();
    return p;
}

static void each_row_knows_its_own(void) {
    size_t count;
    const struct ws_format *f = ws_formats(&count);
    for (size_t i = 0; i < count; i++)
        for (uint32_t sector = 512; f[i].compose && sector <= 4096; sector *= 8) {
            struct ws_volume_params p = params_of(&f[i], f[i].least(sector, 0) + random_below(64) * MIB, sector);
            struct ws_tree *tree = random_tree(f[i].read ? 60 : 0, f[i].everywhere ? 0 : TREE_ALL, 100000);
            struct ws_layout *layout = NULL;
            struct ws_source *view = NULL, *volume = NULL;
            struct ws_volume_facts facts;
            uint64_t measured = 0, composed = 0;
            if (f[i].names) OK(ws_tree_fit_names(tree, f[i].names(), NULL, &error));
            OK(f[i].compose(&p, tree, MIB, NULL, &measured, &error));
            OK(ws_layout_create(MIB + p.size, &layout, &error));
            OK(f[i].compose(&p, tree, MIB, layout, &composed, &error));
            CHECK_INT(composed, measured);
            OK(ws_layout_seal(layout, &error));
            OK(ws_layout_source(layout, &view, &error));
            OK(ws_source_slice(view, MIB, p.size, &volume, &error));
            CHECK(ws_format_of(volume, &facts) == &f[i]);
            CHECK(ws_format_find(f[i].word) == &f[i]);
            CHECK_STR(facts.system, f[i].title);
            CHECK_STR(facts.label, p.label);
            CHECK(facts.clean && facts.size <= p.size && facts.size + MIB > p.size);
            if (facts.counted) CHECK_INT(facts.free_bytes, composed);
            if (f[i].read) {
                struct ws_tree *back = NULL;
                OK(f[i].read(volume, &back, &facts, &error));
                compare_trees(back, tree, f[i].everywhere ? 0 : TREE_ALL);
                ws_tree_close(back);
            }
            ws_source_close(volume);
            ws_source_close(view);
            ws_layout_close(layout);
            ws_tree_close(tree);
        }
}

/* What a row calls least can be composed, and nothing above its most; a label that is too long is never cut. */
static void limits_are_what_the_row_says(void) {
    size_t count;
    const struct ws_format *f = ws_formats(&count);
    for (size_t i = 0; i < count; i++)
        for (uint32_t sector = 512; f[i].compose && sector <= 4096; sector *= 2) {
            struct ws_tree *tree = NULL;
            struct ws_volume_params p = params_of(&f[i], f[i].least(sector, 0), sector);
            OK(ws_tree_create(&tree, &error));
            OK(f[i].compose(&p, tree, 0, NULL, NULL, &error));
            memset(p.label, 'X', 40);
            FAILS(f[i].compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
            p.label[0] = '\0';
            if (f[i].most < UINT64_MAX && f[i].read && sector == 512) { /* swap only counts fewer pages */
                p.size = f[i].most + 4096;
                FAILS(f[i].compose(&p, tree, 0, NULL, NULL, &error), WS_E_RANGE);
            }
            ws_tree_close(tree);
        }
    CHECK(ws_format_find("cake") == NULL);
}

static void noise_is_no_volume(void) {
    uint8_t *noise = malloc(MIB);
    struct ws_source *volume = NULL;
    for (int i = 0; i < cases_of(300); i++) {
        size_t length = (size_t)random_below(MIB);
        random_bytes(noise, length);
        OK(ws_source_memory(noise, length, &volume, &error));
        CHECK(ws_format_of(volume, NULL) == NULL);
        ws_source_close(volume);
    }
    free(noise);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"each row knows its own", each_row_knows_its_own},
                                        {"limits are what the row says", limits_are_what_the_row_says},
                                        {"noise is no volume", noise_is_no_volume},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
