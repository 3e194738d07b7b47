/* test_faults.c — a drive or file that stops being readable at any single read: every path hands the error up, and
 * nothing is leaked (the sanitized run looks). */
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20 };

struct flaky {
    const struct ws_source *base;
    uint64_t reads, fail_at;
};

static enum ws_status flaky_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                 struct ws_error *e) {
    struct flaky *f = source->state;
    if (++f->reads == f->fail_at) return ws_fail(e, WS_E_READ, "bad sector at byte %llu", (unsigned long long)at);
    return ws_source_read(f->base, at, buffer, length, e);
}

static const struct ws_source_ops flaky_ops = {flaky_read, NULL, NULL};

static enum ws_status read_image(const struct ws_source *s) {
    struct ws_image image;
    WS_TRY(ws_image_inspect(s, &image, &error));
    ws_image_free(&image);
    return WS_OK;
}
static enum ws_status read_ext4(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    WS_TRY(ws_ext4_read(s, &tree, NULL, &error));
    ws_tree_close(tree);
    return WS_OK;
}
static enum ws_status read_fat(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    WS_TRY(ws_fat_read(s, &tree, NULL, &error));
    ws_tree_close(tree);
    return WS_OK;
}
static enum ws_status read_table(const struct ws_source *s) {
    struct ws_findings f = {0};
    enum ws_status status = ws_table_check(s, 512, &f, &error);
    ws_findings_free(&f);
    return status;
}
static enum ws_status read_contents(const struct ws_source *s) {
    struct ws_contents *c = malloc(sizeof *c);
    enum ws_status status = ws_contents_look(s, 512, false, c, &error);
    free(c);
    return status;
}
static enum ws_status prepare(const struct ws_source *s) {
    struct planned p;
    const struct ws_drive_facts facts = {.size = 128 * MIB, .logical_sector = 512};
    planned_begin(&p, WS_KIND_LIVE, &facts);
    struct ws_build *build = NULL;
    enum ws_status status = planned_prepare(&p, s, &build);
    if (status == WS_OK) ws_build_close(build);
    return status;
}
static enum ws_status look_at_memory(const struct ws_source *s) {
    struct ws_memory m;
    return ws_memory_look(s, 512, &m, &error);
}
static enum ws_status take_snapshot(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    struct ws_snapshot snapshot;
    WS_TRY(ws_ext4_read(s, &tree, NULL, &error));
    enum ws_status status = ws_snapshot_take(tree, WS_READ_ALL, NULL, &snapshot, &error);
    if (status == WS_OK) ws_snapshot_free(&snapshot);
    ws_tree_close(tree);
    return status;
}

/* Fail at each read in turn. `tolerant`: some reads are only for looking, and their failure is no error of the whole.
 */
static void fail_everywhere(const struct ws_source *good, enum ws_status (*work)(const struct ws_source *),
                            bool tolerant) {
    struct flaky f = {.base = good};
    struct ws_source *source = NULL;
    OK(ws_source_make(&flaky_ops, good->size, &f, &source, &error));
    OK(work(source));
    uint64_t reads = f.reads;
    uint64_t step = reads > 400 ? reads / 400 : 1;
    uint64_t reported = 0;
    CHECK(reads > 0);
    for (uint64_t k = 1; k <= reads; k += step) {
        f.reads = 0;
        f.fail_at = k;
        memset(&error, 0, sizeof error);
        enum ws_status status = work(source);
        if (status != WS_OK) {
            reported++;
            CHECK(error.what[0]);
        } else if (!tolerant) {
            fail_at(__FILE__, __LINE__, "read %llu of %llu failed and nobody said so", (unsigned long long)k,
                    (unsigned long long)reads);
        }
    }
    CHECK(reported > 0);
    ws_source_close(source);
}

static void images_on_a_failing_disk(void) {
    static const struct demo_params kinds[] = {{.family = "live-boot", .table = DEMO_MBR},
                                               {.family = "casper", .table = DEMO_HYBRID, .full_menus = true}};
    const size_t first = random_below(2);
    for (int n = 0; n < cases_of(2); n++) {
        struct demo_image image;
        OK(demo_image_make(&kinds[(first + (size_t)n) % 2], &image, &error));
        fail_everywhere(image.source, read_image, true);
        fail_everywhere(image.source, read_table, false);
        fail_everywhere(image.source, read_contents, true);
        fail_everywhere(image.source, prepare, true);
        fail_everywhere(image.esp_source, read_fat, false);
        fail_everywhere(image.root_source, read_ext4, false);
        fail_everywhere(image.root_source, take_snapshot, false);
        demo_image_free(&image);
    }
}

static void built_drives_on_a_failing_port(void) {
    struct demo_params dp = {.family = "dracut", .table = DEMO_MBR};
    struct demo_image image;
    struct planned p;
    const struct ws_drive_facts facts = {.size = 96 * MIB, .logical_sector = 512};
    planned_begin(&p, WS_KIND_LIVE, &facts);
    struct ws_build *build = NULL;
    struct ws_source *view = NULL;
    OK(demo_image_make(&dp, &image, &error));
    OK(planned_prepare(&p, image.source, &build));
    OK(ws_layout_source(ws_build_layout(build), &view, &error));
    fail_everywhere(view, look_at_memory, true);
    ws_source_close(view);
    ws_build_close(build);
    demo_image_free(&image);
}

/* Writing from an image that cannot be read to its end leaves a drive that says it is unfinished. */
static void writing_from_a_failing_image(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    OK(demo_image_make(&dp, &image, &error));
    int failed = 0;
    for (uint64_t k = 1; k < 40; k++) {
        struct flaky f = {.base = image.source};
        struct ws_source *source = NULL;
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct memory_drive *d = memory_drive(96 * MIB, 512);
        struct planned p;
        const struct ws_drive_facts facts = {.size = 96 * MIB, .logical_sector = 512};
        planned_begin(&p, WS_KIND_LIVE, &facts);
        ws_plan_drive_of(&d->facts, &p.setting.drive);
        struct ws_build_options o = {.confirm = d->facts.short_name};
        OK(ws_source_hash(image.source, WS_HASH_SHA256, p.request.input[WS_INPUT_IMAGE].sha256, &error));
        OK(ws_source_make(&flaky_ops, image.source->size, &f, &source, &error));
        OK(planned_prepare(&p, source, &build));
        f.reads = 0;
        f.fail_at = k;
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error);
        if (status != WS_OK) {
            failed++;
            CHECK_INT(status, WS_E_READ);
            CHECK_HAS(error.what, "bad sector");
            CHECK(ws_is_unfinished(d->bytes));
        }
        ws_build_close(build);
        ws_source_close(source);
        memory_drive_free(d);
    }
    CHECK(failed > 20);
    demo_image_free(&image);
}

static enum ws_status read_exfat(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    struct ws_exfat_facts facts;
    WS_TRY(ws_exfat_probe(s, &facts, &error));
    WS_TRY(ws_exfat_read(s, &tree, NULL, &error));
    ws_tree_close(tree);
    return WS_OK;
}
static enum ws_status read_squashfs(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    WS_TRY(ws_squashfs_read(s, &tree, NULL, &error));
    ws_tree_close(tree);
    return WS_OK;
}
static enum ws_status read_archive(const struct ws_source *s) {
    struct ws_tree *tree = NULL;
    WS_TRY(ws_archive_read(s, &tree, &error));
    ws_tree_close(tree);
    return WS_OK;
}
static enum ws_status drop_bytes(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *e) {
    (void)context, (void)at, (void)bytes, (void)length, (void)e;
    return WS_OK;
}
static enum ws_status unpack(const struct ws_source *s) {
    uint64_t size = 0;
    return ws_unpack(s, drop_bytes, NULL, &size, &error);
}

/* The newer readers, over files that other people's tools made where they are installed. */
static void other_volumes_on_a_failing_disk(void) {
    struct ws_tree *tree = random_tree(300, 0, 20000);
    struct ws_findings fitted = {0};
    struct ws_exfat_params p = {.size = 32 * MIB, .label = "tide", .made_at = 1790000000};
    struct ws_layout *layout = NULL;
    struct ws_source *s = NULL;
    OK(ws_tree_fit_names(tree, ws_name_rules_exfat(), &fitted, &error));
    OK(ws_layout_create(p.size, &layout, &error));
    OK(ws_exfat_compose(&p, tree, 0, layout, NULL, &error));
    OK(ws_layout_seal(layout, &error));
    OK(ws_layout_source(layout, &s, &error));
    fail_everywhere(s, read_exfat, false);
    ws_source_close(s);
    ws_layout_close(layout);
    ws_tree_close(tree);
    ws_findings_free(&fitted);
    static const struct {
        const char *command;
        enum ws_status (*work)(const struct ws_source *);
    } made[] = {{"tar cf out.bin d", read_archive},
                {"tar czf out.bin d", read_archive},
                {"zip -qr out.bin.zip d && mv out.bin.zip out.bin", read_archive},
                {"tar cf - d | xz -0 > out.bin", unpack},
                {"gensquashfs -q -D d out.bin", read_squashfs}};
    const char *folder = scratch("made");
    char path[500];
    shell(NULL, "mkdir -p '%s/d/e' && cd '%s' && for i in $(seq 1 60); do head -c 20000 /dev/urandom > d/e/$i; done",
          folder, folder);
    snprintf(path, sizeof path, "%s/out.bin", folder);
    for (size_t i = 0; i < sizeof made / sizeof made[0]; i++) {
        if (shell(NULL, "cd '%s' && rm -f out.bin && %s", folder, made[i].command) != 0) continue;
        OK(ws_source_file(path, &s, &error));
        fail_everywhere(s, made[i].work, i == 2 || i == 4); /* zip and squashfs: some reads only look for variants */
        ws_source_close(s);
    }
}

/* A drive that fails at any write of a trial or a blanking: the error is handed up, and the drive is never passed off
 * as finished. */
static void trials_and_blanks_on_a_failing_drive(void) {
    struct ws_drive_facts f;
    size_t failed = 0;
    for (uint64_t k = 1; k < 60; k++) {
        struct memory_drive *d = memory_drive(80 * MIB, 512);
        struct ws_trial trial;
        struct ws_build *blank = NULL;
        struct planned p;
        struct ws_build_result result;
        d->facts.removable = WS_YES;
        d->facts.internal = WS_NO;
        snprintf(d->facts.short_name, sizeof d->facts.short_name, "memory");
        OK(d->drive.ops->describe(&d->drive, &f, &error));
        struct ws_trial_options t = {.depth = WS_TRIAL_SAMPLE, .confirm = "memory"};
        struct ws_build_options b = {.confirm = "memory"};
        d->fail_at_write = k;
        memset(&error, 0, sizeof error);
        CHECK(ws_trial_run(plain_port(), &d->drive, &t, &trial, &error) != WS_OK && error.what[0]);
        d->fail_at_write = d->writes + k;
        planned_begin(&p, WS_KIND_BLANK, &f);
        OK(planned_prepare(&p, NULL, &blank));
        memset(&error, 0, sizeof error);
        if (ws_build_carry_out(blank, plain_port(), &d->drive, &b, &result, &error) != WS_OK) {
            failed++;
            CHECK(error.what[0]);
            if (k > 1 && d->bytes[510] == 0x55 && d->bytes[511] == 0xaa) /* the seal comes last */
                fail_at(__FILE__, __LINE__, "write %llu failed, and the drive has a table", (unsigned long long)k);
        }
        ws_build_close(blank);
        memory_drive_free(d);
    }
    CHECK(failed >= 4);
}

/* Several syslinux files form one menu: only the entry that starts by itself is edited, wherever it stands. */
static void menus_spread_over_files_are_one_menu(void) {
    struct ws_tree *tree = NULL;
    static const char top[] = "include menu.cfg\ndefault vesamenu.c32\nprompt 0\ntimeout 0\n";
    static const char live[] = "label live-amd64\n\tmenu label ^Live system\n\tmenu default\n\tlinux /live/vmlinuz\n"
                               "\tinitrd /live/initrd.img\n\tappend boot=live components\n";
    static const char install[] = "label install\n\tmenu label Install\n\tlinux /install/vmlinuz\n\tappend vga=788\n";
    OK(ws_tree_create(&tree, &error));
    OK(ws_tree_put(tree, "isolinux/isolinux.cfg", top, sizeof top - 1, NULL, &error));
    OK(ws_tree_put(tree, "isolinux/live.cfg", live, sizeof live - 1, NULL, &error));
    OK(ws_tree_put(tree, "isolinux/install.cfg", install, sizeof install - 1, NULL, &error));
    OK(ws_tree_put(tree, "live/filesystem.squashfs", "x", 1, NULL, &error));
    OK(ws_tree_put(tree, "boot/grub/loopback.cfg", "menuentry 'l' {\n linux /k boot=live\n}\n", 37, NULL, &error));
    const struct ws_live_family *f = ws_live_family_of_medium(tree, NULL);
    CHECK_STR(f ? f->word : "(none)", "live-boot");
    ws_tree_close(tree);
}

/* A menu that cannot be told to remember is refused before anything is planned. */
static void menus_that_cannot_be_edited_are_refused(void) {
    static const char broken[] = "menuentry 'never closed' {\n linux /live/vmlinuz boot=live\n";
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR, .grub_text = broken};
    struct demo_image image;
    struct planned p;
    const struct ws_drive_facts facts = {.size = 128 * MIB, .logical_sector = 512};
    planned_begin(&p, WS_KIND_LIVE, &facts);
    struct ws_build *build = NULL;
    OK(demo_image_make(&dp, &image, &error));
    enum ws_status status = planned_prepare(&p, image.source, &build);
    if (status == WS_OK) { /* isolinux can be edited, GRUB cannot: the plan has to say that UEFI will forget */
        CHECK(ws_findings_worst(ws_plan_findings(p.plan)) >= WS_WARNING);
        bool says = false;
        for (size_t i = 0; i < ws_plan_findings(p.plan)->count; i++)
            says |= strstr(ws_plan_findings(p.plan)->list[i].text, "/boot/grub/grub.cfg") != NULL;
        CHECK(says);
        ws_build_close(build);
    }
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"images on a failing disk", images_on_a_failing_disk},
        {"built drives on a failing port", built_drives_on_a_failing_port},
        {"writing from a failing image", writing_from_a_failing_image},
        {"other volumes on a failing disk", other_volumes_on_a_failing_disk},
        {"trials and blanks on a failing drive", trials_and_blanks_on_a_failing_drive},
        {"menus spread over files are one menu", menus_spread_over_files_are_one_menu},
        {"menus that cannot be edited are refused", menus_that_cannot_be_edited_are_refused},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
