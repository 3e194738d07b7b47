/* test_files.c — live images laid down file by file: what stands on the volume, what was left out, what was there
 * before. */
#include "tests/harness.h"

#include "demo/demo_image.h"

#include <unistd.h>

enum { MIB = 1 << 20, DRIVE = 192 * MIB };

static const struct demo_params kinds[] = {
    {.family = "live-boot", .table = DEMO_MBR},
    {.family = "casper", .table = DEMO_GPT},
    {.family = "dracut", .table = DEMO_HYBRID, .full_menus = true},
};

static struct ws_plan plan_for(const struct memory_drive *d, const struct demo_image *image) {
    struct ws_plan p = {.kind = WS_PLAN_LIVE,
                        .arrangement = WS_ARRANGE_FILES,
                        .persistence_asked = 32 * MIB,
                        .drive_size = DRIVE,
                        .drive_sector = 512,
                        .made_at = 1790000000};
    strcpy(p.drive_name, d->facts.short_name);
    strcpy(p.drive_serial, d->facts.serial);
    random_bytes(p.id.byte, 16);
    if (ws_source_hash(image->source, WS_HASH_SHA256, p.image_sha256, &error) != WS_OK) abort();
    return p;
}

/* Every file of the image is on the volume, but for what was edited; and every file of its EFI start image. */
static void check_files(const struct ws_tree *seen, const struct ws_tree *image, const struct ws_plan *p, bool esp) {
    for (const struct ws_node *n = ws_tree_root(image); n; n = ws_tree_next(n)) {
        char path[300], a[WS_HASH_HEX], b[WS_HASH_HEX];
        bool edited = false;
        if (n->kind != WS_NODE_FILE || !n->content) continue;
        ws_node_path(n, path, sizeof path);
        for (size_t i = 0; i < p->edits; i++) edited |= strcmp(p->edit[i].path, path) == 0;
        const struct ws_node *there = esp ? ws_tree_find_any_case(seen, path) : ws_tree_find(seen, path);
        if (!there || !there->content) {
            fail_at(__FILE__, __LINE__, "%s is not on the volume", path);
            continue;
        }
        OK(ws_source_hash(n->content, WS_HASH_SHA256, a, &error));
        OK(ws_source_hash(there->content, WS_HASH_SHA256, b, &error));
        if ((strcmp(a, b) == 0) == edited)
            fail_at(__FILE__, __LINE__, "%s %s", path, edited ? "was not edited" : "differs");
        CHECK(there->mode & 0200); /* an image's files are read-only, a stick's are not */
    }
}

static void images_are_laid_down_file_by_file(void) {
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_tree *seen = NULL, *esp = NULL;
        struct ws_fat_facts facts;
        struct ws_memory memory;
        struct ws_table *table = malloc(sizeof *table);
        struct ws_medium medium;
        OK(demo_image_make(&kinds[i], &image, &error));
        memcpy(d->bytes + 32769, "CD001", 5); /* a disc image stood here before */
        struct ws_plan p = plan_for(d, &image);
        OK(ws_build_prepare(&p, image.source, &build, &error));
        struct ws_build_options o = {.confirm = d->facts.short_name};
        OK(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error));
        CHECK(result.checked);
        CHECK_INT(result.write.written, ws_layout_bytes(ws_build_layout(build)));
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_source_slice(drive, p.system_at, p.system_size, &slice, &error));
        OK(ws_fat_read(slice, &seen, &facts, &error));
        CHECK_INT(facts.free_bytes, p.system_free);
        struct ws_iso *iso = NULL;
        OK(ws_iso_open(image.source, &iso, &error));
        check_files(seen, ws_iso_tree(iso), &p, false);
        OK(ws_fat_read(image.esp_source, &esp, NULL, &error));
        check_files(seen, esp, &p, true);
        OK(ws_memory_look(drive, &memory, &error));
        CHECK_STR(memory.cause == WS_FORGETS_NOT ? "" : memory.cause_text, "");
        OK(ws_table_read(drive, 512, table, NULL, &error));
        CHECK(table->kind == WS_TABLE_MBR && table->mbr[0].active);
        OK(ws_medium_open(drive, table, &medium, &error));
        CHECK(!medium.iso && medium.at == p.system_at);
        ws_medium_close(&medium);
        CHECK(!p.outlook[0].starts && p.outlook[1].starts);
        const char *path = scratch("system.img");
        struct ws_text out = {0};
        save_source(slice, path);
        if (have_program("fsck.fat") && shell(&out, "fsck.fat -n '%s'", path) != 0)
            fail_at(__FILE__, __LINE__, "%s", out.data);
        ws_text_free(&out);
        ws_iso_close(iso);
        ws_tree_close(esp);
        ws_tree_close(seen);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
        ws_plan_free(&p);
        memory_drive_free(d);
        demo_image_free(&image);
        free(table);
    }
}

/* A build that fails at any write says so, and taken up again ends in the same bytes. */
static void a_build_cut_anywhere_is_continued(void) {
    struct demo_image image;
    uint8_t *wanted = NULL;
    OK(demo_image_make(&kinds[0], &image, &error));
    struct ws_guid id;
    random_bytes(id.byte, 16);
    size_t cuts = 0;
    for (uint64_t k = 0; k < 40; k++) {
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct ws_write_record record = {0};
        struct ws_plan p = plan_for(d, &image);
        p.id = id;
        OK(ws_build_prepare(&p, image.source, &build, &error));
        struct ws_build_options o = {.confirm = d->facts.short_name, .record = &record};
        d->fail_at_write = k;
        enum ws_status status = ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error);
        if (k && status != WS_OK) {
            cuts++;
            CHECK(ws_is_unfinished(d->bytes) || k == 1);
            d->fail_at_write = 0;
            status = ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error);
        }
        CHECK_INT(status, WS_OK);
        if (!wanted) {
            wanted = malloc(DRIVE);
            memcpy(wanted, d->bytes, DRIVE);
        } else if (memcmp(wanted, d->bytes, DRIVE) != 0) {
            fail_at(__FILE__, __LINE__, "cut at write %llu: the drive differs", (unsigned long long)k);
        }
        ws_build_close(build);
        ws_plan_free(&p);
        memory_drive_free(d);
    }
    CHECK(cuts > 8);
    free(wanted);
    demo_image_free(&image);
}

static void what_cannot_be_laid_down_is_refused(void) {
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    OK(demo_image_make(&(struct demo_params){.family = NULL, .table = DEMO_MBR}, &image, &error));
    struct ws_plan p = plan_for(d, &image);
    FAILS(ws_build_prepare(&p, image.source, &build, &error), WS_E_UNSUPPORTED); /* no live family */
    ws_plan_free(&p);
    demo_image_free(&image);
    OK(demo_image_make(&kinds[0], &image, &error));
    p = plan_for(d, &image);
    p.system_asked = 180 * MIB;
    FAILS(ws_build_prepare(&p, image.source, &build, &error), WS_E_SPACE);
    ws_plan_free(&p);
    p = plan_for(d, &image);
    p.drive_sector = 4096;
    FAILS(ws_build_prepare(&p, image.source, &build, &error), WS_E_UNSUPPORTED);
    ws_plan_free(&p);
    p = plan_for(d, &image);
    p.drive_size = 3ull << 40; /* above 2 TiB a GPT, with an EFI system partition */
    p.persistence_asked = 0;
    OK(ws_build_prepare(&p, image.source, &build, &error));
    CHECK_INT(p.table, WS_TABLE_GPT);
    CHECK(p.persistence_at + p.persistence_size > 2ull << 40);
    ws_build_close(build);
    ws_plan_free(&p);
    memory_drive_free(d);
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"images are laid down file by file", images_are_laid_down_file_by_file},
                                        {"a build cut anywhere is continued", a_build_cut_anywhere_is_continued},
                                        {"what cannot be laid down is refused", what_cannot_be_laid_down_is_refused},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
