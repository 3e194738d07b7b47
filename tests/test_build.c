/* test_build.c — plans worked out, saved, mistyped, carried out; the built drives looked at with other eyes. */
#include "plan/internal.h"
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20, DRIVE = 192 * MIB };

static struct planned plan_for(const struct memory_drive *d, const struct ws_source *image, enum ws_kind kind) {
    struct planned p;
    struct ws_input *input = &p.request.input[WS_INPUT_IMAGE];
    planned_begin(&p, kind, &d->facts);
    strcpy(input->path, "/images/curlew.iso");
    if (ws_source_hash(image, WS_HASH_SHA256, input->sha256, &error) != WS_OK) abort();
    return p;
}

static enum ws_status carry_out(struct ws_build *build, struct memory_drive *d, struct ws_build_result *result) {
    struct ws_build_options o = {.confirm = d->facts.short_name};
    return ws_build_carry_out(build, plain_port(), &d->drive, &o, result, &error);
}

static const struct demo_params everything[] = {
    {.family = "live-boot", .table = DEMO_MBR},
    {.family = "live-boot", .table = DEMO_GPT},
    {.family = "live-boot", .table = DEMO_HYBRID},
    {.family = "live-boot", .table = DEMO_MBR_FIRST},
    {.family = "casper", .table = DEMO_GPT},
    {.family = "casper-old", .table = DEMO_MBR},
    {.family = "dracut", .table = DEMO_MBR_FIRST},
    {.family = "dracut", .table = DEMO_GPT},
    {.family = "live-boot", .table = DEMO_MBR, .full_menus = true},
    {.family = "casper", .table = DEMO_MBR_FIRST, .full_menus = true},
};

/* Every file of the image but the edited ones is untouched; lists of checksums agree with what is there. */
static void check_medium(const struct ws_source *image, const struct ws_source *drive, bool menus_moved) {
    struct ws_iso *was = NULL, *is = NULL;
    OK(ws_iso_open(image, &was, &error));
    OK(ws_iso_open(drive, &is, &error));
    int changed = 0;
    for (struct ws_node *n = ws_tree_root(ws_iso_tree(was)); n; n = ws_tree_next(n)) {
        char path[512], a[WS_HASH_HEX], b[WS_HASH_HEX];
        if (n->kind != WS_NODE_FILE) continue;
        struct ws_node *m = ws_tree_find(ws_iso_tree(is), ws_node_path(n, path, sizeof path));
        CHECK(m != NULL);
        if (!m) continue;
        OK(ws_source_hash(n->content, WS_HASH_SHA256, a, &error));
        OK(ws_source_hash(m->content, WS_HASH_SHA256, b, &error));
        bool edited = strstr(path, ".cfg") || ws_is_checklist(n->name);
        if (strcmp(a, b) != 0) changed++;
        if (!edited) CHECK_STR(b, a);
        if (strstr(path, ".cfg") && menus_moved) CHECK(ws_iso_place_of(m) >= image->size);
    }
    CHECK_INT(changed, 4);
    char *list = NULL;
    size_t length = 0;
    OK(ws_source_load(ws_tree_find(ws_iso_tree(is), "sha256sum.txt")->content, MIB, &list, &length, &error));
    int lines = 0;
    for (char *line = strtok(list, "\n"); line; line = strtok(NULL, "\n")) {
        char hex[WS_HASH_HEX];
        struct ws_node *n = ws_tree_find(ws_iso_tree(is), line + 67);
        CHECK(n != NULL);
        if (!n) continue;
        OK(ws_source_hash(n->content, WS_HASH_SHA256, hex, &error));
        CHECK(strncmp(hex, line, 64) == 0);
        lines++;
    }
    CHECK(lines > 5);
    free(list);
    ws_iso_close(was);
    ws_iso_close(is);
}

static void every_family_on_every_table_remembers(void) {
    for (size_t i = 0; i < sizeof everything / sizeof everything[0]; i++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(DRIVE, 512);
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct ws_source *drive = NULL;
        struct ws_findings f = {0};
        struct ws_memory memory;
        OK(demo_image_make(&everything[i], &image, &error));
        struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
        OK(planned_prepare(&p, image.source, &build));
        OK(carry_out(build, d, &result));
        CHECK_STR(result.image_sha256, p.request.input[WS_INPUT_IMAGE].sha256);
        CHECK_INT(result.write.written, ws_plan_facts(p.plan)->write_bytes);
        CHECK(result.checked && result.check.equal);
        OK(ws_source_drive(&d->drive, &drive, &error));
        OK(ws_table_check(drive, 512, &f, &error));
        for (size_t k = 0; k < f.count; k++)
            if (f.list[k].weight == WS_FAULT) fail_at(__FILE__, __LINE__, "case %zu: %s", i, f.list[k].text);
        ws_findings_free(&f);
        OK(ws_memory_look(drive, 512, &memory, &error));
        if (memory.cause != WS_FORGETS_NOT) fail_at(__FILE__, __LINE__, "case %zu: %s", i, memory.cause_text);
        CHECK_STR(memory.family->word, everything[i].family);
        CHECK_INT(memory.volume.free_bytes, VOLUME(p, PERSISTENCE)->free_bytes);
        CHECK_INT(memory.volume_at, VOLUME(p, PERSISTENCE)->at);
        check_medium(image.source, drive, everything[i].full_menus);
        if (have_program("e2fsck")) {
            const char *path = scratch("volume.img");
            struct ws_source *slice = NULL;
            OK(ws_source_slice(drive, VOLUME(p, PERSISTENCE)->at, VOLUME(p, PERSISTENCE)->size, &slice, &error));
            save_source(slice, path);
            CHECK_INT(shell(NULL, "e2fsck -fn '%s'", path), 0);
            ws_source_close(slice);
        }
        char device[64];
        if (may_mount() && have_program("partx")) { /* the table, seen by other people's code */
            const char *path = scratch("drive.img");
            save_source(drive, path);
            struct ws_text out = {0};
            unsigned long long start = 0;
            if (loop_attach(path, device)) {
                shell(&out, "partx -g -o START -n %u:%u %s", VOLUME(p, PERSISTENCE)->number,
                      VOLUME(p, PERSISTENCE)->number, device);
                sscanf(out.data ? out.data : "", "%llu", &start);
                CHECK_INT(start, VOLUME(p, PERSISTENCE)->at / 512);
                loop_detach(device);
            }
            ws_text_free(&out);
        }
        ws_source_close(drive);
        ws_build_close(build);
        demo_image_free(&image);
        memory_drive_free(d);
    }
}

static void a_replica_is_the_image_to_the_byte(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_GPT};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 4096); /* sectors of another size do not matter here */
    struct ws_build *build = NULL;
    struct ws_build_result result;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_REPLICA);
    OK(planned_prepare(&p, image.source, &build));
    OK(carry_out(build, d, &result));
    uint8_t *bytes = malloc((size_t)image.source->size);
    OK(ws_source_read(image.source, 0, bytes, (size_t)image.source->size, &error));
    CHECK(memcmp(bytes, d->bytes, (size_t)image.source->size) == 0);
    CHECK_INT(d->bytes[image.source->size], 0xe5); /* what lies behind is left alone */
    CHECK_STR(result.check.sha256, p.request.input[WS_INPUT_IMAGE].sha256);
    free(bytes);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

static void what_cannot_be_planned_is_said(void) {
    static const struct {
        const char *case_;
        struct demo_params p;
        uint64_t drive, asked;
        uint32_t sector;
        enum ws_status wanted;
        const char *says;
    } cases[] = {
        {"image larger than the drive",
         {.family = "live-boot", .table = DEMO_MBR},
         16 * MIB,
         0,
         512,
         WS_E_SPACE,
         "holds"},
        {"no room behind the image",
         {.family = "live-boot", .table = DEMO_MBR},
         24 * MIB,
         0,
         512,
         WS_E_SPACE,
         "needed"},
        {"more persistence than room",
         {.family = "live-boot", .table = DEMO_MBR},
         100 * MIB,
         200 * MIB,
         512,
         WS_E_SPACE,
         "needed"},
        {"no known family", {.family = NULL, .table = DEMO_MBR}, DRIVE, 0, 512, WS_E_UNSUPPORTED, "no live family"},
        {"made for discs", {.family = "live-boot", .table = DEMO_NO_TABLE}, DRIVE, 0, 512, WS_E_UNSUPPORTED, "discs"},
        {"sectors of 4096 bytes", {.family = "live-boot", .table = DEMO_MBR}, DRIVE, 0, 4096, WS_E_UNSUPPORTED, "4096"},
        {"no free entry in the MBR",
         {.family = "live-boot", .table = DEMO_MBR, .crowded_mbr = true},
         DRIVE,
         0,
         512,
         WS_E_SPACE,
         "four"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct demo_image image;
        struct memory_drive *d = memory_drive(cases[i].drive, cases[i].sector);
        struct ws_build *build = NULL;
        OK(demo_image_make(&cases[i].p, &image, &error));
        struct planned p = plan_for(d, image.source, WS_KIND_LIVE_WHOLE);
        if (cases[i].asked) ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size = ws_size_of(cases[i].asked);
        FAILS(planned_prepare(&p, image.source, &build), cases[i].wanted);
        if (!strstr(error.what, cases[i].says)) fail_at(__FILE__, __LINE__, "%s: %s", cases[i].case_, error.what);
        CHECK_INT(d->writes, 0);
        demo_image_free(&image);
        memory_drive_free(d);
    }
}

static void a_build_refuses_the_wrong_drive(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    OK(planned_prepare(&p, image.source, &build));
    struct ws_build_options o = {.confirm = "gorse-32-wrong"};
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_REFUSED);
    o.confirm = NULL;
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_REFUSED);
    d->facts.internal = WS_UNKNOWN;
    FAILS(carry_out(build, d, &result), WS_E_REFUSED);
    d->facts.internal = WS_NO;
    strcpy(d->facts.in_use_by, "/media/stick");
    FAILS(carry_out(build, d, &result), WS_E_REFUSED);
    d->facts.in_use_by[0] = '\0';
    strcpy(d->facts.serial, "TEST-2"); /* swapped for its twin between plan and build */
    OK(ws_drive_short_name(&d->facts, &error));
    FAILS(carry_out(build, d, &result), WS_E_REFUSED);
    CHECK_HAS(error.what, "not the planned drive");
    CHECK_INT(d->writes, 0);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

/* A plan's faults are asked about by the library itself, and every input may not lie on the target. */
static bool holds_the_overlay(struct ws_drive *drive, const char *path) {
    (void)drive;
    return strcmp(path, "/images/ready.img") == 0;
}

static void faults_and_inputs_are_asked_before_the_first_write(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    OK(planned_prepare(&p, image.source, &build));
    struct ws_build_options o = {.confirm = d->facts.short_name};
    ws_findings_add(&((struct ws_plan *)p.plan)->findings, WS_FAULT, "its trial found that it loses data");
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_REFUSED);
    CHECK_HAS(error.what, "loses data");
    struct ws_drive_ops ops = *d->drive.ops;
    ops.stores = holds_the_overlay;
    d->drive.ops = &ops;
    strcpy(((struct ws_plan *)p.plan)->request.input[WS_INPUT_OVERLAY].path, "/images/ready.img");
    o.even_so = true;
    FAILS(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error), WS_E_REFUSED);
    CHECK_HAS(error.what, "lies on the very drive");
    CHECK_INT(d->writes, 0);
    ((struct ws_plan *)p.plan)->request.input[WS_INPUT_OVERLAY].path[0] = '\0';
    OK(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error));
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

static void an_image_that_changed_since_never_gets_its_seal(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_source *changed = NULL;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    OK(ws_source_patched(image.source, image.source->size, &changed, &error));
    OK(ws_source_patch(changed, image.source->size - 700000, "x", 1, &error));
    OK(planned_prepare(&p, changed, &build));
    FAILS(carry_out(build, d, &result), WS_E_FORMAT);
    CHECK_HAS(error.what, "no longer the one");
    CHECK(ws_is_unfinished(d->bytes));
    struct ws_source *drive = NULL;
    struct ws_contents *c = malloc(sizeof *c);
    OK(ws_source_drive(&d->drive, &drive, &error));
    OK(ws_contents_look(drive, 512, false, c, &error));
    CHECK(c->unfinished);
    CHECK_HAS(c->summary, "unfinished");
    free(c);
    ws_source_close(drive);
    ws_build_close(build);
    ws_source_close(changed);
    demo_image_free(&image);
    memory_drive_free(d);
}

static void a_drive_that_loses_bytes_fails_its_check(void) {
    struct demo_params dp = {.family = "casper", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    OK(planned_prepare(&p, image.source, &build));
    d->corrupt_at = 3 * MIB + 77;
    FAILS(carry_out(build, d, &result), WS_E_DIFFERENT);
    CHECK_INT(result.check.different_at, d->corrupt_at);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

/* Everything that can be wrong with a plan document is an error that names the key. */
static void a_plan_edited_into_nonsense_is_refused(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_text text = {0};
    struct ws_plan *back = NULL;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_REST;
    OK(planned_prepare(&p, image.source, &build));
    OK(ws_plan_to_json(p.plan, &text, &error));
    OK(ws_plan_from_json(text.data, text.length, &back, &error));
    OK(ws_plan_same_results(back, p.plan, &error));
    CHECK_STR(ws_plan_drive(back)->name, d->facts.short_name);
    CHECK_INT(ws_plan_volume(back, WS_ROLE_PERSISTENCE)->size, VOLUME(p, PERSISTENCE)->size);
    ws_plan_free(back);
    static const struct {
        const char *find, *replace, *names;
    } edits[] = {
        {"\"live\"", "\"teapot\"", "request.kind"},
        {"\"live-whole\"", "\"teapot\"", "result.kind"},
        {"\"version\": 4", "\"version\": 9", "version 9"},
        {"\"version\": 4", "\"version\": 1", "version 1"},
        {"wild-satchel-plan", "wild-satchel-bench", "another one"},
        {"\"sector_bytes\": 512", "\"sector_bytes\": 513", "sector_bytes"},
        {"\"sector_bytes\": 512", "\"sector_bytes\": -1", "sector_bytes"},
        {"\"size\": \"rest\"", "\"size\": \"all\"", "volumes[0].size"},
        {"\"size\": \"rest\"", "\"size\": 99999999999999999", "volumes[0].size"},
        {"\"size\": \"rest\"", "\"extent\": \"rest\"", "extent"},
        {"\"role\": \"persistence\"", "\"role\": \"drive\"", "role"},
        {"\"place\": \"usual\"", "\"place\": \"attic\"", "place"},
        {"\"moved_behind\": false", "\"moved_behind\": 0", "result.edits[0].moved_behind"},
        {"\"serial\": \"TEST-1\",", "", "serial"},
        {"\"serial\": \"TEST-1\"", "\"serial\": 7", "serial"},
        {"\"made_at\": 1790000000", "\"made_at\": 1.5", "made_at"},
        {"\"live_family\": \"live-boot\"", "\"live_family\": \"unheard-of\"", "live_family"},
        {"\"table\": \"mbr\"", "\"table\": \"kitchen\"", "table"},
        {"\"id\": \"3333", "\"id\": \"33x3", "id"},
        {"\"at_bytes\"", "\"at\"", "at"},
        {"\"format\"", "\"format\": \"wild-satchel-plan\", \"format\"", "JSON"},
        {"}", "", "JSON"},
    };
    for (size_t i = 0; i < sizeof edits / sizeof edits[0]; i++) {
        struct ws_text bad = {0};
        char *at = strstr(text.data, edits[i].find);
        CHECK(at != NULL);
        if (!at) continue;
        ws_text_add(&bad, text.data, (size_t)(at - text.data));
        ws_text_puts(&bad, edits[i].replace);
        ws_text_puts(&bad, at + strlen(edits[i].find));
        memset(&error, 0, sizeof error);
        enum ws_status status = ws_plan_from_json(bad.data, bad.length, &back, &error);
        if (status == WS_OK) fail_at(__FILE__, __LINE__, "taken: %s", edits[i].replace);
        else if (!strstr(error.what, edits[i].names))
            fail_at(__FILE__, __LINE__, "\"%s\" does not name %s", error.what, edits[i].names);
        ws_text_free(&bad);
    }
    for (size_t i = 0; i < 7; i++) { /* results that do not follow from the requests */
        OK(ws_plan_from_json(text.data, text.length, &back, &error));
        uint64_t *const numbers[] = {&back->facts.image_end,   &back->volume[0].at,         &back->volume[0].size,
                                     &back->facts.write_bytes, &back->volume[0].free_bytes, &back->part[1].at};
        static const char *const keys[] = {"result.image_end_bytes",       "result.volumes[0].at_bytes",
                                           "result.volumes[0].size_bytes", "result.write_bytes",
                                           "result.volumes[0].free_bytes", "result.parts[1].at_bytes",
                                           "result.starts.uefi.starts"};
        if (i < 6) *numbers[i] += 4096;
        else back->outlook[1].starts = !back->outlook[1].starts;
        FAILS(ws_plan_same_results(back, p.plan, &error), WS_E_FORMAT);
        CHECK_HAS(error.what, keys[i]);
        ws_plan_free(back);
    }
    for (int i = 0; i < 3000; i++) { /* bytes changed at random are never more than an error */
        char *bad = malloc(text.length);
        memcpy(bad, text.data, text.length);
        for (uint64_t k = 1 + random_below(4); k > 0; k--) bad[random_below(text.length)] = (char)random_next();
        if (ws_plan_from_json(bad, random_below(8) ? text.length : random_below(text.length), &back, &error) == WS_OK)
            ws_plan_free(back);
        free(bad);
    }
    ws_text_free(&text);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

/* Each thing a drive can lack is named as the cause, the first that applies. */
static void a_drive_that_forgets_says_why(void) {
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_source *drive = NULL;
    struct ws_memory memory;
    OK(demo_image_make(&dp, &image, &error));
    struct planned p = plan_for(d, image.source, WS_KIND_LIVE);
    OK(planned_prepare(&p, image.source, &build));
    OK(carry_out(build, d, &result));
    OK(ws_source_drive(&d->drive, &drive, &error));
    uint8_t *whole = malloc(DRIVE);
    memcpy(whole, d->bytes, DRIVE);
    uint8_t *super = d->bytes + VOLUME(p, PERSISTENCE)->at + 1024;
    struct {
        const char *case_;
        uint64_t at;
        const char *bytes;
        enum ws_forgets cause;
    } cases[] = {{"label", VOLUME(p, PERSISTENCE)->at + 1024 + 0x78, "persistance", WS_FORGETS_LABEL},
                 {"no volume", VOLUME(p, PERSISTENCE)->at + 1024 + 0x38, "\0\0", WS_FORGETS_LABEL},
                 {"errors recorded", VOLUME(p, PERSISTENCE)->at + 1024 + 0x3a, "\2", WS_FORGETS_NOT_CLEAN},
                 {"full", VOLUME(p, PERSISTENCE)->at + 1024 + 0x0c, "\1\0\0\0", WS_FORGETS_FULL},
                 {"no image", 16 * 2048, "XXXXXX", WS_FORGETS_NO_SYSTEM}};
    static const size_t lengths[] = {11, 2, 1, 4, 6};
    for (size_t i = 0; i < 5; i++) {
        memcpy(d->bytes + cases[i].at, cases[i].bytes, lengths[i]);
        uint32_t sum = ws_crc32c(0xffffffff, super, 0x3fc);
        for (int k = 0; k < 4; k++) super[0x3fc + k] = (uint8_t)(sum >> (8 * k));
        OK(ws_memory_look(drive, 512, &memory, &error));
        if (memory.cause != cases[i].cause)
            fail_at(__FILE__, __LINE__, "%s: %s (%s)", cases[i].case_, ws_forgets_name(memory.cause),
                    memory.cause_text);
        CHECK(memory.cause_text[0]);
        memcpy(d->bytes, whole, DRIVE);
    }
    memcpy(whole, d->bytes, DRIVE);
    for (uint64_t at = 0; at + 12 < ws_plan_facts(p.plan)->image_end; at++) /* the parameter gone from both menus */
        if (memcmp(d->bytes + at, " persistence", 12) == 0) memcpy(d->bytes + at, " persistance", 12);
    OK(ws_memory_look(drive, 512, &memory, &error));
    CHECK_INT(memory.cause, WS_FORGETS_PARAMETER);
    CHECK_HAS(memory.cause_text, "persistence");
    free(whole);
    ws_source_close(drive);
    ws_build_close(build);
    demo_image_free(&image);
    memory_drive_free(d);
}

/* What a volume is, as others see it, with another's signatures beneath where it was laid down. */
static void check_seen(const struct memory_drive *d, const struct ws_volume *v, const char *was) {
    const char *path = scratch("volume.img");
    struct ws_text out = {0};
    struct ws_source *bytes = NULL;
    const char *is = strcmp(v->format, "fat32") == 0 ? "vfat" : v->format;
    OK(ws_source_memory(d->bytes + v->at, v->size, &bytes, &error));
    save_source(bytes, path);
    (void)shell(&out, "blkid -p -s TYPE -o value '%s' 2>&1", path);
    if (!out.data || strncmp(out.data, is, strlen(is)) != 0)
        fail_at(__FILE__, __LINE__, "%s over %s: %s", is, was, out.data ? out.data : "nothing");
    ws_text_free(&out);
    ws_source_close(bytes);
}

/* A drive that was something else before: no signature of that is left in a volume, or at the drive's end. */
static void what_was_there_is_not_seen_any_more(void) {
    static const struct {
        enum ws_kind kind;
        const char *data;
    } cases[] = {{WS_KIND_LIVE_WHOLE, "exfat"}, {WS_KIND_LIVE_FILES, "fat32"}, {WS_KIND_LIVE_FILES, "exfat"}};
    static const char *const makers[] = {"mkfs.ext4 -qF", "mkfs.btrfs -qf"};
    enum { MAKERS = sizeof makers / sizeof makers[0], SIZE = 400 * MIB };
    struct demo_image image;
    OK(demo_image_make(&(struct demo_params){.family = "live-boot"}, &image, &error));
    for (size_t i = 0; i < 3 * (MAKERS + 1); i++) {
        if (cases_of(3) != 3 && random_below(3)) continue;         /* a third of them */
        const char *maker = i / 3 < MAKERS ? makers[i / 3] : NULL; /* at last it has noise all over */
        struct memory_drive *d = memory_drive(SIZE, 512);
        struct ws_build *build = NULL;
        struct ws_build_result result;
        struct ws_source *then = NULL;
        size_t count;
        struct planned p = plan_for(d, image.source, cases[i % 3].kind);
        ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size = ws_size_of(130 * MIB);
        ws_request_want(&p.request, WS_ROLE_DATA)->size = ws_size_of(130 * MIB);
        (void)strcpy(ws_request_want(&p.request, WS_ROLE_DATA)->format, cases[i % 3].data);
        OK(planned_prepare(&p, image.source, &build));
        const struct ws_volume *v = ws_plan_volumes(p.plan, &count);
        if (!maker) random_bytes(d->bytes, SIZE);
        for (size_t k = 0; maker && k < count; k++) {
            const char *path = scratch("old.img");
            (void)shell(NULL, "rm -f '%s'; truncate -s %llu '%s'; %s '%s' 2>&1", path, (unsigned long long)v[k].size,
                        path, maker, path); /* some are too small for it */
            FILE *old = fopen(path, "rb");
            if (old) CHECK_INT(fread(d->bytes + v[k].at, 1, v[k].size, old), v[k].size);
            if (old) (void)fclose(old);
        }
        OK(carry_out(build, d, &result));
        CHECK_INT(result.write.written, ws_plan_facts(p.plan)->write_bytes);
        OK(ws_layout_source(ws_build_layout(build), &then, &error));
        uint8_t *wanted = malloc(MIB);
        for (size_t k = 0; k < count; k++) {
            const uint64_t ends[2] = {v[k].at, v[k].at + v[k].size - MIB};
            for (int e = 0; e < 2; e++) {
                OK(ws_source_read(then, ends[e], wanted, MIB, &error));
                CHECK(memcmp(wanted, d->bytes + ends[e], MIB) == 0);
            }
            if (have_program("blkid")) check_seen(d, &v[k], maker ? maker : "noise");
        }
        OK(ws_source_read(then, SIZE - MIB, wanted, MIB, &error));
        CHECK(memcmp(wanted, d->bytes + SIZE - MIB, MIB) == 0);
        free(wanted);
        ws_source_close(then);
        ws_build_close(build);
        memory_drive_free(d);
    }
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"every family on every table remembers", every_family_on_every_table_remembers},
        {"a replica is the image to the byte", a_replica_is_the_image_to_the_byte},
        {"what cannot be planned is said", what_cannot_be_planned_is_said},
        {"a build refuses the wrong drive", a_build_refuses_the_wrong_drive},
        {"faults and inputs are asked before the first write", faults_and_inputs_are_asked_before_the_first_write},
        {"an image that changed since never gets its seal", an_image_that_changed_since_never_gets_its_seal},
        {"a drive that loses bytes fails its check", a_drive_that_loses_bytes_fails_its_check},
        {"a plan edited into nonsense is refused", a_plan_edited_into_nonsense_is_refused},
        {"what was there is not seen any more", what_was_there_is_not_seen_any_more},
        {"a drive that forgets says why", a_drive_that_forgets_says_why},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
