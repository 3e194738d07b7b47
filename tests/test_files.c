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
/* Sectors of 4096 bytes: FAT32 begins at 256 MiB there. */
static struct memory_drive *drive_with(uint32_t sector, uint64_t usual) {
    return memory_drive(sector == 512 ? usual : 800ull * MIB, sector);
}

static struct planned plan_for(const struct memory_drive *d, const struct demo_image *image) {
    struct planned p;
    planned_begin(&p, WS_KIND_LIVE_FILES, &d->facts);
    random_bytes(p.setting.id.byte, 16);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size = ws_size_of(32 * MIB);
    if (ws_source_hash(image->source, WS_HASH_SHA256, p.request.input[WS_INPUT_IMAGE].sha256, &error) != WS_OK) abort();
    return p;
}

static void check_sound(const struct ws_source *volume, const char *checker, const char *how) {
    const char *path = scratch("volume.img");
    struct ws_text out = {0};
    save_source(volume, path);
    if (have_program(checker) && shell(&out, "%s %s '%s'", checker, how, path) != 0)
        fail_at(__FILE__, __LINE__, "%s", out.data);
    ws_text_free(&out);
}

/* The plan carried out on the drive. */
static struct ws_build *lay_down(struct planned *p, const struct demo_image *image, struct memory_drive *d,
                                 struct ws_build_result *result) {
    struct ws_build *build = NULL;
    struct ws_build_options o = {.confirm = d->facts.short_name};
    if (planned_prepare(p, image->source, &build) != WS_OK ||
        ws_build_carry_out(build, plain_port(), &d->drive, &o, result, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s", error.what);
        abort();
    }
    return build;
}

/* Every file of the image is on the volume, but for what was edited; and every file of its EFI start image. */
static void check_files(const struct ws_tree *seen, const struct ws_tree *image, const struct ws_plan *p, bool esp) {
    size_t edits;
    const struct ws_plan_edit *edit = ws_plan_edits(p, &edits);
    for (const struct ws_node *n = ws_tree_root(image); n; n = ws_tree_next(n)) {
        char path[300], a[WS_HASH_HEX], b[WS_HASH_HEX];
        bool edited = false;
        if (n->kind != WS_NODE_FILE || !n->content) continue;
        ws_node_path(n, path, sizeof path);
        for (size_t i = 0; i < edits; i++) edited |= strcmp(edit[i].path, path) == 0;
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
    for (size_t i = 0; i < 5; i++) {
        struct demo_image image;
        uint32_t sector = i < 3 ? 512 : 4096;
        struct memory_drive *d = drive_with(sector, DRIVE);
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_tree *seen = NULL, *esp = NULL;
        struct ws_fat_facts facts;
        struct ws_memory memory;
        struct ws_table *table = malloc(sizeof *table);
        struct ws_medium medium;
        OK(demo_image_make(&kinds[i % 3], &image, &error));
        memcpy(d->bytes + 32769, "CD001", 5); /* a disc image stood here before */
        struct planned p = plan_for(d, &image);
        struct ws_build *build = lay_down(&p, &image, d, &result);
        CHECK(result.checked);
        CHECK_INT(result.write.written, ws_layout_bytes(ws_build_layout(build)));
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_source_slice(drive, VOLUME(p, SYSTEM)->at, VOLUME(p, SYSTEM)->size, &slice, &error));
        OK(ws_fat_read(slice, &seen, &facts, &error));
        CHECK_INT(facts.free_bytes, VOLUME(p, SYSTEM)->free_bytes);
        CHECK(facts.serial != 0); /* another on every drive */
        struct ws_iso *iso = NULL;
        OK(ws_iso_open(image.source, &iso, &error));
        check_files(seen, ws_iso_tree(iso), p.plan, false);
        OK(ws_fat_read(image.esp_source, &esp, NULL, &error));
        check_files(seen, esp, p.plan, true);
        OK(ws_memory_look(drive, sector, &memory, &error));
        CHECK_STR(memory.cause == WS_FORGETS_NOT ? "" : memory.cause_text, "");
        struct ws_findings faults = {0};
        OK(ws_table_check(drive, sector, &faults, &error));
        CHECK(ws_findings_worst(&faults) < WS_FAULT);
        ws_findings_free(&faults);
        CHECK_INT(ws_table_sector_of(drive), sector);
        struct ws_contents *holds = malloc(sizeof *holds);
        for (int deep = 0; deep < 2; deep++) {
            OK(ws_contents_look(drive, sector, deep, holds, &error));
            CHECK_HAS(holds->guess, "live drive");
            CHECK_HAS(holds->guess, "with persistence");
        }
        free(holds);
        OK(ws_table_read(drive, sector, table, NULL, &error));
        if (sector == 512) CHECK(table->kind == WS_TABLE_MBR && table->mbr[0].active);
        else CHECK_INT(table->kind, WS_TABLE_GPT); /* no BIOS would read it, so what a BIOS wants does not count */
        OK(ws_medium_open(drive, table, &medium, &error));
        CHECK(!medium.iso && medium.at == VOLUME(p, SYSTEM)->at);
        ws_medium_close(&medium);
        CHECK(ws_plan_outlooks(p.plan)[0].starts == (sector == 512) && ws_plan_outlooks(p.plan)[1].starts);
        check_sound(slice, "fsck.fat", "-n");
        ws_iso_close(iso);
        ws_tree_close(esp);
        ws_tree_close(seen);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
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
    for (uint64_t k = 0; k < (uint64_t)cases_of(40); k++) {
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct planned p = plan_for(d, &image);
        p.setting.id = id;
        OK(planned_prepare(&p, image.source, &build));
        struct ws_build_options o = {.confirm = d->facts.short_name};
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
        memory_drive_free(d);
    }
    CHECK(cuts > 5);
    free(wanted);
    demo_image_free(&image);
}

/* A family that finds its medium by the label: menus name the one it gets, and one changed behind their back is told.
 */
static void a_label_changed_later_is_found_out(void) {
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build_result result;
    struct ws_source *drive = NULL, *slice = NULL;
    struct ws_tree *seen = NULL;
    struct ws_memory *memory = malloc(sizeof *memory);
    OK(demo_image_make(&kinds[2], &image, &error));
    struct planned p = plan_for(d, &image);
    struct ws_build *build = lay_down(&p, &image, d, &result);
    OK(ws_source_drive(&d->drive, &drive, &error));
    OK(ws_source_slice(drive, VOLUME(p, SYSTEM)->at, VOLUME(p, SYSTEM)->size, &slice, &error));
    OK(ws_fat_read(slice, &seen, NULL, &error));
    size_t menus = 0;
    for (const struct ws_node *n = ws_tree_root(seen); n; n = ws_tree_next(n)) {
        char *text = NULL;
        size_t length = 0;
        if (!ws_may_be_menu(n)) continue;
        OK(ws_source_load(n->content, 256 * 1024, &text, &length, &error));
        CHECK(!strstr(text, "LABEL=CURLEW_LIVE_12")); /* that is longer than FAT's labels */
        menus += strstr(text, "CDLABEL=CURLEW_LIVE ") != NULL;
        free(text);
    }
    CHECK(menus >= 4); /* the image's two, and our entries */
    OK(ws_memory_look(drive, 512, memory, &error));
    CHECK_INT(memory->cause, WS_FORGETS_NOT);
    ws_tree_close(seen);
    uint8_t *at = d->bytes + VOLUME(p, SYSTEM)->at; /* the label stands first in the root folder */
    while (memcmp(at, "CURLEW_LIVE\x08", 12) != 0) at++;
    memcpy(at, "TIDE STICK ", 11);
    OK(ws_memory_look(drive, 512, memory, &error));
    CHECK_INT(memory->cause, WS_FORGETS_PARAMETER);
    CHECK_HAS(memory->cause_text, "labelled \"CURLEW_LIVE\"");
    ws_source_close(slice);
    ws_source_close(drive);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
    free(memory);
}

/* Menus that name the medium by its identifier name the new volume's, which each drive has for itself; what systems
 * call a volume is asked of a judge. */
static void an_identifier_in_menus_is_the_new_volumes(void) {
    static const char menu[] =
        "search --set=root --fs-uuid 2026-09-21-14-13-20-00\nmenuentry \"Curlew Live\" {\n"
        " linux /LiveOS/vmlinuz root=live:UUID=2026-09-21-14-13-20-00 rd.live.image 2026-09-21-14-13-20-00 "
        "media.uuid=2026-09-21-14-13-20-00\n"
        " initrd /LiveOS/initrd.img\n}\n";
    struct demo_params params = kinds[2];
    params.grub_text = menu;
    for (int exfat = 0; exfat < 2; exfat++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_text called = {0};
        struct ws_medium medium = {0};
        struct ws_table *table = malloc(sizeof *table);
        struct ws_memory *memory = malloc(sizeof *memory);
        const char *path = scratch("named.img");
        OK(demo_image_make(&params, &image, &error));
        save_source(image.source, path);
        CHECK_INT(shell(&called, "blkid -p -o value -s UUID '%s'", path), 0);
        CHECK_STR(called.data, "2026-09-21-14-13-20-00\n");
        struct planned p = plan_for(d, &image);
        if (exfat) strcpy(ws_request_want(&p.request, WS_ROLE_SYSTEM)->format, "exfat");
        struct ws_build *build = lay_down(&p, &image, d, &result);
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_table_read(drive, 512, table, NULL, &error));
        OK(ws_medium_open(drive, table, &medium, &error));
        OK(ws_source_slice(drive, VOLUME(p, SYSTEM)->at, VOLUME(p, SYSTEM)->size, &slice, &error));
        save_source(slice, path);
        ws_text_free(&called);
        CHECK_INT(shell(&called, "blkid -p -o value -s UUID '%s'", path), 0);
        CHECK_INT(called.length, 10);
        CHECK(strncmp(called.data, medium.name[WS_BY_UUID], 9) == 0);
        char *text = NULL, wanted[200];
        size_t length = 0;
        OK(ws_source_load(ws_tree_find(medium.tree, "boot/grub/grub.cfg")->content, 65536, &text, &length, &error));
        snprintf(wanted, sizeof wanted, "--fs-uuid %.9s\n", called.data);
        CHECK_HAS(text, wanted);
        snprintf(wanted, sizeof wanted, "root=live:UUID=%.9s rd.live.image 2026-09-21-14-13-20-00", called.data);
        CHECK_HAS(text, wanted); /* a word that says nothing of the medium stays */
        free(text);
        struct ws_rehearsal r = {.firmware = "UEFI", .sector = 512};
        OK(ws_start_rehearse(drive, &r, &error));
        CHECK(r.starts);
        snprintf(wanted, sizeof wanted, "root=live:UUID=%.9s ", called.data);
        CHECK_HAS(r.entry.options, wanted);
        snprintf(wanted, sizeof wanted, " media.uuid=%.9s", called.data); /* in words of whatever family */
        CHECK_HAS(r.entry.options, wanted);
        ws_rehearsal_free(&r);
        OK(ws_memory_look(drive, 512, memory, &error));
        CHECK_STR(memory->cause_text, "");
        d->bytes[VOLUME(p, SYSTEM)->at + (exfat ? 100 : 67)] ^= 1; /* a new serial number behind its back */
        OK(ws_memory_look(drive, 512, memory, &error));
        CHECK_INT(memory->cause, WS_FORGETS_PARAMETER);
        CHECK_HAS(memory->cause_text, "volume with the identifier");
        CHECK_HAS(memory->cause_text, medium.name[WS_BY_UUID]);
        ws_text_free(&called);
        ws_medium_close(&medium);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
        demo_image_free(&image);
        memory_drive_free(d);
        free(memory);
        free(table);
    }
}

/* On exFAT: the checkers agree about both volumes, what was predicted is there, and our code starts it. */
static void exfat_holds_the_files_too(void) {
    for (int i = 0; i < 5; i++) {
        struct demo_image image;
        uint32_t sector = i < 4 ? 512 : 4096;
        struct memory_drive *d = drive_with(sector, 256ull * MIB);
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_tree *seen = NULL;
        struct ws_exfat_facts facts;
        struct ws_memory *memory = malloc(sizeof *memory);
        struct ws_iso *iso = NULL;
        OK(demo_image_make(&kinds[i % 3], &image, &error));
        struct planned p = plan_for(d, &image);
        strcpy(ws_request_want(&p.request, WS_ROLE_SYSTEM)->format, "exfat");
        p.request.table = i & 1 ? WS_TABLE_WISH_GPT : WS_TABLE_USUAL;
        p.request.check = WS_CHECK_FULL;
        struct ws_build *build = lay_down(&p, &image, d, &result);
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_source_slice(drive, VOLUME(p, SYSTEM)->at, VOLUME(p, SYSTEM)->size, &slice, &error));
        OK(ws_exfat_read(slice, &seen, &facts, &error));
        CHECK_INT(facts.free_bytes, VOLUME(p, SYSTEM)->free_bytes);
        OK(ws_iso_open(image.source, &iso, &error));
        check_files(seen, ws_iso_tree(iso), p.plan, false);
        check_sound(slice, "fsck.exfat", "-n");
        ws_source_close(slice);
        OK(ws_source_slice(drive, VOLUME(p, START)->at, VOLUME(p, START)->size, &slice, &error));
        check_sound(slice, "fsck.fat", "-n");
        OK(ws_memory_look(drive, sector, memory, &error));
        CHECK_STR(memory->cause_text, "");
        struct ws_rehearsal r = {.firmware = "UEFI", .sector = sector};
        OK(ws_start_rehearse(drive, &r, &error));
        if (!r.starts) fail_at(__FILE__, __LINE__, "%s", r.console.data);
        ws_rehearsal_free(&r);
        free(memory);
        ws_iso_close(iso);
        ws_tree_close(seen);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
        demo_image_free(&image);
        memory_drive_free(d);
    }
}

/* Changes kept in a file: on the data partition, or beside the system where the family looks there. */
static void overlay_files_remember(void) {
    static const struct {
        struct demo_params image;
        enum ws_kind kind;
        uint64_t asked;
        bool beside;
    } cases[] = {
        {{.family = "live-boot", .table = DEMO_MBR}, WS_KIND_LIVE_FILES, 0, false},
        {{.family = "live-boot", .table = DEMO_GPT}, WS_KIND_LIVE_WHOLE, 40 * MIB, false},
        {{.family = "casper", .table = DEMO_MBR}, WS_KIND_LIVE_FILES, 50 * MIB, true},
        {{.family = "casper-old", .table = DEMO_MBR}, WS_KIND_LIVE_FILES, 0, true},
        {{.family = "casper", .table = DEMO_HYBRID}, WS_KIND_LIVE_WHOLE, 0, false},
        {{.family = "dracut", .table = DEMO_MBR, .full_menus = true}, WS_KIND_LIVE_FILES, 60 * MIB, true},
        {{.family = "dracut", .table = DEMO_MBR_FIRST}, WS_KIND_LIVE_WHOLE, 60 * MIB, false},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(400ull * MIB, 512);
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_memory memory;
        struct ws_fat_facts facts;
        OK(demo_image_make(&cases[i].image, &image, &error));
        struct planned p = plan_for(d, &image);
        p.request.kind = cases[i].kind;
        struct ws_wanted *wanted = ws_request_want(&p.request, WS_ROLE_PERSISTENCE);
        wanted->place = WS_PLACE_FILE;
        wanted->size = cases[i].asked ? ws_size_of(cases[i].asked) : (struct ws_size){WS_SIZE_USUAL, 0};
        struct ws_build *build = lay_down(&p, &image, d, &result);
        CHECK_INT(VOLUME(p, PERSISTENCE)->number, (cases[i].beside ? VOLUME(p, SYSTEM) : VOLUME(p, DATA))->number);
        if (cases[i].asked) CHECK_INT(VOLUME(p, PERSISTENCE)->size, cases[i].asked);
        CHECK_INT(VOLUME(p, PERSISTENCE)->at % 4096, 0);
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_memory_look(drive, 512, &memory, &error));
        CHECK_STR(memory.cause_text, "");
        CHECK(memory.in_file && memory.volume_at == VOLUME(p, PERSISTENCE)->at &&
              memory.volume_size == VOLUME(p, PERSISTENCE)->size);
        CHECK_INT(memory.volume.free_bytes, VOLUME(p, PERSISTENCE)->free_bytes);
        uint64_t at = (cases[i].beside ? VOLUME(p, SYSTEM) : VOLUME(p, DATA))->at;
        OK(ws_source_slice(drive, at, (cases[i].beside ? VOLUME(p, SYSTEM) : VOLUME(p, DATA))->size, &slice, &error));
        OK(ws_fat_probe(slice, &facts, &error));
        CHECK_INT(facts.free_bytes, (cases[i].beside ? VOLUME(p, SYSTEM) : VOLUME(p, DATA))->free_bytes);
        check_sound(slice, "fsck.fat", "-n");
        ws_source_close(slice);
        OK(ws_source_slice(drive, VOLUME(p, PERSISTENCE)->at, VOLUME(p, PERSISTENCE)->size, &slice, &error));
        check_sound(slice, "e2fsck", "-fn");
        ws_source_close(slice);
        ws_source_close(drive);
        ws_build_close(build);
        demo_image_free(&image);
        memory_drive_free(d);
    }
}

/* Some images keep the UEFI loader's menu inside their EFI start image: it is edited there, and lists of checksums that
 * name the start image still hold. */
static void menus_inside_the_efi_volume_remember(void) {
    for (int i = 0; i < 8; i++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build_result result;
        struct ws_source *drive = NULL, *slice = NULL;
        struct ws_tree *esp = NULL;
        struct ws_table *table = malloc(sizeof *table);
        struct demo_params dp = kinds[i % 3];
        char *text = NULL;
        size_t length = 0;
        bool files = i >= 4;
        dp.esp_menu = i & 1 ? 2046 : 400; /* the longer has to grow into another cluster */
        OK(demo_image_make(&dp, &image, &error));
        struct planned p = plan_for(d, &image);
        p.request.kind = files ? WS_KIND_LIVE_FILES : WS_KIND_LIVE_WHOLE;
        struct ws_build *build = lay_down(&p, &image, d, &result);
        bool told = false;
        size_t edits;
        const struct ws_plan_edit *edit = ws_plan_edits(p.plan, &edits);
        for (size_t k = 0; k < edits; k++) told |= strcmp(edit[k].path, "EFI volume: /EFI/BOOT/grub.cfg") == 0;
        CHECK(told);
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_table_read(drive, 512, table, NULL, &error));
        struct ws_medium medium;
        OK(ws_medium_open(drive, table, &medium, &error));
        if (files) esp = medium.tree;
        else OK(ws_esp_read(drive, table, ws_iso_facts(medium.iso), &slice, &esp, NULL, &error));
        const struct ws_node *menu = ws_tree_find_any_case(esp, "EFI/BOOT/grub.cfg");
        OK(ws_source_load(menu->content, 65536, &text, &length, &error));
        CHECK_HAS(text, ws_plan_family(p.plan)->parameters);
        CHECK_HAS(text, "forgets at power-off");
        free(text);
        if (!files) {
            check_sound(slice, "fsck.fat", "-n");
            /* every line of the image's lists is true of the drive */
            const struct ws_node *list = ws_tree_find(medium.tree, "md5sum.txt");
            const struct ws_node *start = ws_tree_find(medium.tree, "boot/grub/efi.img");
            char hex[WS_HASH_HEX];
            OK(ws_source_load(list->content, 65536, &text, &length, &error));
            OK(ws_source_hash(start->content, WS_HASH_MD5, hex, &error));
            if (strstr(text, "efi.img")) CHECK_HAS(text, hex);
            free(text);
            ws_tree_close(esp);
        }
        ws_source_close(slice);
        ws_medium_close(&medium);
        ws_source_close(drive);
        ws_build_close(build);
        demo_image_free(&image);
        memory_drive_free(d);
        free(table);
    }
}

static void what_cannot_be_laid_down_is_refused(void) {
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    OK(demo_image_make(&(struct demo_params){.family = NULL, .table = DEMO_MBR}, &image, &error));
    struct planned p = plan_for(d, &image);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_REST;
    FAILS(planned_prepare(&p, image.source, &build), WS_E_UNSUPPORTED); /* no live family */
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_USUAL;
    OK(planned_prepare(&p, image.source, &build)); /* unasked, it forgets, and says so */
    CHECK(VOLUME(p, PERSISTENCE) == NULL);
    ws_build_close(build);
    demo_image_free(&image);
    OK(demo_image_make(&kinds[0], &image, &error));
    p = plan_for(d, &image);
    ws_request_want(&p.request, WS_ROLE_SYSTEM)->size = ws_size_of(180 * MIB);
    FAILS(planned_prepare(&p, image.source, &build), WS_E_SPACE);
    p = plan_for(d, &image);
    p.setting.drive.sector = 4096; /* too small for FAT32 there */
    FAILS(planned_prepare(&p, image.source, &build), WS_E_SPACE);
    p = plan_for(d, &image);
    p.setting.drive.sector = 520;
    FAILS(planned_prepare(&p, image.source, &build), WS_E_UNSUPPORTED);
    p = plan_for(d, &image);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->place = WS_PLACE_FILE;
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size =
        ws_size_of(1ull << 32); /* one byte more than FAT32 takes, and then some */
    FAILS(planned_prepare(&p, image.source, &build), WS_E_RANGE);
    CHECK(error.ways == 3 && error.way[0].hint == WS_HINT_PERSISTENCE && error.way[1].hint == WS_HINT_DATA_FORMAT);
    p = plan_for(d, &image);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_REST;
    p.setting.drive.size = 3ull << 40; /* above 2 TiB a GPT, with an EFI system partition */
    OK(planned_prepare(&p, image.source, &build));
    CHECK_INT(ws_plan_facts(p.plan)->table, WS_TABLE_GPT);
    CHECK(VOLUME(p, PERSISTENCE)->at + VOLUME(p, PERSISTENCE)->size > 2ull << 40);
    ws_build_close(build);
    memory_drive_free(d);
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"images are laid down file by file", images_are_laid_down_file_by_file},
        {"a label changed later is found out", a_label_changed_later_is_found_out},
        {"an identifier in menus is the new volume's", an_identifier_in_menus_is_the_new_volumes},
        {"a build cut anywhere is continued", a_build_cut_anywhere_is_continued},
        {"exFAT holds the files, too", exfat_holds_the_files_too},
        {"overlay files remember", overlay_files_remember},
        {"menus inside the EFI volume remember", menus_inside_the_efi_volume_remember},
        {"what cannot be laid down is refused", what_cannot_be_laid_down_is_refused},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
