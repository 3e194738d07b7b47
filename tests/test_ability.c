/* test_ability.c — can a live system remember? As the scripts and drivers in its initial RAM disk say. */
#include "demo/demo_image.h"
#include "tests/roots.h"

enum { MIB = 1 << 20 };

/* An initial RAM disk of somebody else's program, packed: a script, modules, and a list of what is built in. */
static struct ws_source *make_initrd(const char *script, const char *const modules[], const char *built_in,
                                     const char *packer) {
    const char *folder = scratch("tree");
    shell(NULL, "rm -rf '%s'; mkdir -p '%s/scripts' '%s/lib/modules/6.1/kernel'", folder, folder, folder);
    struct ws_source *source = NULL;
    char path[400];
    snprintf(path, sizeof path, "%s/scripts/live", folder);
    if (ws_source_memory(script, strlen(script), &source, &error) != WS_OK) abort();
    save_source(source, path);
    ws_source_close(source);
    for (size_t i = 0; modules[i]; i++) /* "+": what opens a lock */
        if (strcmp(modules[i], "+") == 0)
            shell(NULL,
                  "cd '%s' && mkdir -p lib/cryptsetup sbin && echo x | tee lib/cryptsetup/askpass > sbin/cryptsetup",
                  folder);
        else shell(NULL, "echo x > '%s/lib/modules/6.1/kernel/%s.ko'", folder, modules[i]);
    if (built_in) shell(NULL, "printf '%s' > '%s/lib/modules/6.1/modules.builtin'", built_in, folder);
    source = NULL;
    if (shell(NULL, "cd '%s' && find . | bsdcpio -o -H newc --quiet | %s > '%s'", folder, packer,
              scratch("initrd.img")) ||
        ws_source_file(scratch("initrd.img"), &source, &error) != WS_OK)
        skip_test("no program that makes initial RAM disks");
    return source;
}

static void scripts_and_drivers_are_read(void) {
    static const char *const all[] = {"ext4", "vfat", "loop", NULL}, *const few[] = {"squashfs", NULL};
    static const struct {
        const char *family, *script;
        const char *const *modules;
        const char *built_in;
        bool scripts, parameter, volume, file;
        const char *drivers;
    } rows[] = {
        {"live-boot", "live-media= persistence persistence.conf", all, NULL, true, true, true, true,
         "ext4, vfat, loop"},
        {"live-boot", "live-media= toram", all, NULL, true, false, true, false, "ext4, vfat, loop"},
        {"live-boot", "echo nothing", few, "kernel/fs/ext4/ext4.ko\nkernel/drivers/block/loop.ko\n", false, false, true,
         false, "ext4, squashfs, loop"},
        {"casper", "casper persistent writable", all, "", true, true, true, true, "ext4, vfat, loop"},
        {"casper", "casper persistent casper-rw", all, "", true, true, false, false, "ext4, vfat, loop"},
        {"dracut", "rd.live.image rd.live.overlay= rd.live.overlay.overlayfs", all, "", true, true, true, true,
         "ext4, vfat, loop"},
        {"dracut", "rd.live.image rd.live.overlay=", all, "", true, true, true, true, "ext4, vfat, loop"},
    };
    static const char *const packers[] = {"cat", "gzip -c", "xz --check=crc32 -c", "zstd -qc"};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct ws_source *initrd = make_initrd(rows[i].script, rows[i].modules, rows[i].built_in, packers[i % 4]);
        struct demo_params params = {.family = rows[i].family, .table = DEMO_MBR, .initrd = initrd};
        struct demo_image image;
        struct ws_live_ability a;
        char names[200];
        const struct ws_live_family *family = ws_live_family_find(rows[i].family);
        if (!initrd) return;
        OK(demo_image_make(&params, &image, &error));
        OK(ws_live_ability_look(image.tree, family, &a, &error));
        CHECK(a.read && a.scripts == rows[i].scripts);
        if (a.scripts && i != 6) CHECK(a.parameter == rows[i].parameter && a.volume == rows[i].volume);
        if (i == 6) CHECK(!a.parameter); /* an older one: nothing of folders in the overlay */
        if (a.scripts && a.parameter) CHECK_INT(a.file, rows[i].file);
        CHECK_INT(a.built_in, rows[i].built_in && rows[i].built_in[0]);
        CHECK_STR(ws_driver_names(a.drivers, names, sizeof names), rows[i].drivers);
        CHECK_HAS(a.initrd, "initrd.img");
        demo_image_free(&image);
        ws_source_close(initrd);
    }
}

/* A word that lies across any border of what is read at once, in a text of any length up to the most. */
static void words_are_found_wherever_they_stand(void) {
    static const char *const words[] = {"persistence", "nowhere"};
    for (int i = 0; i < cases_of(40); i++) {
        struct ws_text cpio = {0};
        struct ws_source *source = NULL;
        struct ws_initrd_facts facts;
        uint32_t found;
        size_t length = 11 + random_below(i % 4 ? 9000 : 523000);
        size_t at = random_below(length - 10);
        bool program = i % 5 == 4, large = length > 512 << 10;
        char *text = malloc(length + 1);
        memset(text, 'x', length);
        text[length] = '\0';
        memcpy(text + at, "persistence", 11);
        if (program && at >= 4)
            memcpy(text,
                   "\x7f"
                   "ELF",
                   4);
        for (int k = 0; k < 2; k++) {
            const char *name = k ? "TRAILER!!!" : "scripts/live";
            ws_text_printf(&cpio, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s", 1, 0100755, 0, 0, 1,
                           0, k ? 0 : (unsigned)length, 0, 0, 0, 0, (unsigned)strlen(name) + 1, 0, name);
            ws_text_add(&cpio, "\0\0\0\0", 4 - cpio.length % 4);
            if (!k) ws_text_add(&cpio, text, length);
            while (!k && cpio.length % 4) ws_text_add(&cpio, "", 1);
        }
        OK(ws_source_memory(cpio.data, cpio.length, &source, &error));
        OK(ws_initrd_search(source, words, 2, &found, &facts, &error));
        CHECK_INT(found, (program && at >= 4) || large ? 0 : 1);
        CHECK_INT(facts.files, 1);
        for (int k = 0; k < 10; k++) { /* cut short inside the text */
            struct ws_source *cut = NULL;
            OK(ws_source_slice(source, 0, 130 + random_below(length - 8), &cut, &error));
            FAILS(ws_initrd_search(cut, words, 2, &found, &facts, &error), WS_E_FORMAT);
            ws_source_close(cut);
        }
        ws_source_close(source);
        ws_text_free(&cpio);
        free(text);
    }
}

/* What is known to be missing is a fault; what is not known to be there a warning; what is there is not spoken of. */
static void plans_say_what_is_missing(void) {
    static const char *const all[] = {"ext4", "vfat", "loop", NULL}, *const none[] = {"squashfs", NULL};
    static const char *const lock[] = {"ext4", "vfat", "dm-crypt", "xts", "+", NULL}, *const half[] = {"ext4", "vfat",
                                                                                                       "+", NULL};
    static const struct {
        const char *script;
        const char *const *modules;
        const char *built_in, *files_on;
        enum ws_place place;
        int weight; /* -1: nothing is said */
        const char *text;
        bool locked;
    } rows[] = {
        {"live-media= persistence", all, "", "", WS_PLACE_USUAL, -1, "", false},
        {"live-media= persistence", all, "x.ko\n", "", WS_PLACE_FILE, -1, "", false},
        {"live-media= persistence", none, "", "", WS_PLACE_USUAL, WS_WARNING, "vfat built in", false},
        {"live-media= persistence", none, "x.ko\n", "", WS_PLACE_USUAL, WS_FAULT, "would not find its own files",
         false},
        {"live-media= persistence", none, "vfat.ko\n", "", WS_PLACE_USUAL, WS_FAULT, "forget everything: neither",
         false},
        {"live-media= persistence", all, "x.ko\n", "exfat", WS_PLACE_USUAL, WS_FAULT, "the driver exfat", false},
        {"live-media= persistence", all, "kernel/fs/exfat/exfat.ko\n", "exfat", WS_PLACE_USUAL, -1, "", false},
        {"live-media= toram", all, "", "", WS_PLACE_USUAL, WS_FAULT, "do not know \"persistence\"", false},
        {"echo nothing", all, "", "", WS_PLACE_USUAL, WS_WARNING, "has no scripts of live-boot", false},
        {"live-media= persistence", lock, "x.ko\n", "", WS_PLACE_USUAL, WS_FAULT, "open a locked volume", true},
        {"live-media= persistence persistence-encryption", lock, "x.ko\n", "", WS_PLACE_USUAL, -1, "", true},
        {"live-media= persistence persistence-encryption", all, "x.ko\n", "", WS_PLACE_USUAL, WS_FAULT, "its askpass",
         true},
        {"live-media= persistence persistence-encryption", half, "x.ko\n", "", WS_PLACE_USUAL, WS_FAULT,
         "driver dm_crypt", true},
    };
    struct ws_drive_facts facts = {.size = 8ull << 30, .logical_sector = 512, .removable = WS_YES, .internal = WS_NO};
    strcpy(facts.short_name, "gorse-32");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct ws_source *initrd = make_initrd(rows[i].script, rows[i].modules, rows[i].built_in, "gzip -c");
        struct demo_params params = {.family = "live-boot", .table = DEMO_MBR, .initrd = initrd};
        struct demo_image image;
        struct ws_build *build = NULL;
        struct planned p;
        if (!initrd) return;
        OK(demo_image_make(&params, &image, &error));
        planned_begin(&p, WS_KIND_LIVE_FILES, &facts);
        strcpy(ws_request_want(&p.request, WS_ROLE_SYSTEM)->format, rows[i].files_on);
        ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->place = rows[i].place;
        ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->locked = rows[i].locked;
        OK(planned_prepare(&p, image.source, &build));
        const struct ws_findings *f = ws_plan_findings(p.plan);
        bool said = false;
        for (size_t k = 0; k < f->count; k++) {
            said |= (int)f->list[k].weight == rows[i].weight && strstr(f->list[k].text, rows[i].text);
            if (rows[i].weight < 0 && f->list[k].weight > WS_NOTE && strstr(f->list[k].text, "initrd"))
                fail_at(__FILE__, __LINE__, "row %zu: %s", i, f->list[k].text);
        }
        if (rows[i].weight >= 0 && !said) fail_at(__FILE__, __LINE__, "row %zu is not said", i);
        ws_build_close(build);
        demo_image_free(&image);
        ws_source_close(initrd);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"scripts and drivers are read", scripts_and_drivers_are_read},
        {"words are found wherever they stand", words_are_found_wherever_they_stand},
        {"plans say what is missing", plans_say_what_is_missing},
        {NULL, NULL},
    };
    return run_tests(argc, argv, tests);
}
