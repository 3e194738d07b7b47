/* test_rules.c — rules for special media: read, refused, carried out on trees and whole builds. */
#include "tests/harness.h"

#include "demo/demo_image.h"

static enum ws_status parse(const char *keys, struct ws_rules *rules) {
    struct ws_text text = {0};
    ws_text_printf(&text, "{\"format\": \"wild-satchel-rules\", \"version\": 1%s%s}", keys[0] ? ", " : "", keys);
    enum ws_status status = ws_rules_from_json(text.data, text.length, rules, &error);
    ws_text_free(&text);
    return status;
}

static void documents_are_read_strictly(void) {
    static const struct {
        const char *text;
        enum ws_status status;
        const char *says;
    } cases[] = {
        {"[", WS_E_FORMAT, "not a JSON document"},
        {"{}", WS_E_FORMAT, "is another one"},
        {"{\"format\": \"wild-satchel-rules\", \"version\": 2}", WS_E_UNSUPPORTED, "version 1"},
    };
    static const struct {
        const char *keys, *says;
    } bad[] = {
        {"\"labels\": \"X\"", "\"labels\" is not a key"},
        {"\"label\": 5", "must be text"},
        {"\"label\": \"TWELVE CHARS\"", "too long"},
        {"\"rename\": {}", "must be a list"},
        {"\"rename\": [{\"from\": \"a\"}]", "must be text"},
        {"\"rename\": [{\"from\": \"a\", \"to\": \"../b\"}]", "would leave the medium"},
        {"\"copy\": [{\"from\": \"/\", \"to\": \"b\"}]", "must name a file or folder"},
        {"\"copy\": [\"a\"]", "must be an object"},
        {"\"leave_out\": [\"a/../..\"]", "would leave the medium"},
        {"\"leave_out\": [0]", "must be text"},
        {"\"add\": [{\"path\": \"x\", \"mode\": 7}]", "\"mode\" is not a key"},
        {"\"add\": [0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0]", "more than 16"},
        {"\"autorun\": {\"label\": \"a\\nopen=b\"}", "must be one line"},
        {"\"autorun\": []", "must be an object"},
    };
    struct ws_rules r;
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        FAILS(ws_rules_from_json(cases[i].text, strlen(cases[i].text), &r, &error), cases[i].status);
        CHECK_HAS(error.what, cases[i].says);
    }
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        FAILS(parse(bad[i].keys, &r), WS_E_FORMAT);
        CHECK_HAS(error.what, bad[i].says);
    }
    OK(parse("", &r));
    CHECK(!ws_rules_any(&r));
    OK(parse("\"label\": \"TERN\"", &r));
    CHECK(ws_rules_any(&r));
}

/* A family's document: every key is asked for, bounded, and named when it is wrong. */
static void families_are_read_strictly(void) {
    static const char good[] =
        "\"word\": \"gauge\", \"title\": \"Gauge\", \"folder\": \"system\", \"roots\": [\"system/root.ext4\"],"
        "\"signs\": [\"root=/dev/ram0\", \"gauge:\"], \"parameters\": \"gauge.keep a=b\","
        "\"label\": \"GAUGEDATA\", \"changes\": \"upper\", \"work\": \"work\"";
    static const struct {
        const char *instead, *by, *says;
    } bad[] = {
        {"\"word\": \"gauge\"", "\"word\": \"casper\"", "known already"},
        {"\"word\": \"gauge\",", "", "\"word\" is missing"},
        {"\"GAUGEDATA\"", "\"A LABEL THAT IS TOO LONG\"", "16 bytes"},
        {"\"upper\"", "\"../upper\"", "must be a path"},
        {"\"upper\"", "\"/upper\"", "must be a path"},
        {"\"upper\"", "\"\"", "not empty"},
        {"[\"system/root.ext4\"]", "\"system/root.ext4\"", "must be a list"},
        {"[\"system/root.ext4\"]", "[]", "neither empty"},
        {"[\"system/root.ext4\"]", "[1]", "must be text"},
        {"[\"system/root.ext4\"]", "[\"a\",\"a\",\"a\",\"a\",\"a\"]", "nor too long"},
        {"\"Gauge\"", "\"Gauge\", \"extra\": 1", "\"extra\" is not a key"},
        {"\"Gauge\"", "\"Ga\\nuge\"", "one line"},
        {"\"Gauge\"", "\"Gauge\", \"config_path\": \"x\"", "go together"},
        {"\"Gauge\"", "\"Gauge\", \"overlay_beside\": 1", "true or false"},
        {"\"Gauge\"", "\"Gauge\", \"file_parameters\": \"gauge.on={label}\"", "go together"},
    };
    struct ws_own_family *own = malloc(sizeof *own);
    struct ws_text text = {0};
    ws_text_printf(&text, "{\"format\": \"wild-satchel-family\", \"version\": 1, %s}", good);
    OK(ws_own_family_read(text.data, text.length, own, &error));
    CHECK_STR(own->family.roots[0], "system/root.ext4");
    CHECK(!own->family.overlay_file && !own->family.drop[0]);
    CHECK(ws_live_family_starts(&own->family, "quiet gauge:7") &&
          !ws_live_family_starts(&own->family, "root=/dev/sda"));
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        struct ws_text changed = {0};
        const char *at = strstr(text.data, bad[i].instead);
        ws_text_add(&changed, text.data, (size_t)(at - text.data));
        ws_text_puts(&changed, bad[i].by);
        ws_text_puts(&changed, at + strlen(bad[i].instead));
        FAILS(ws_own_family_read(changed.data, changed.length, own, &error), WS_E_FORMAT);
        CHECK_HAS(error.what, bad[i].says);
        CHECK(!own->document[0]);
        ws_text_free(&changed);
    }
    FAILS(ws_own_family_read("[", 1, own, &error), WS_E_FORMAT);
    FAILS(ws_own_family_read("{\"format\": \"wild-satchel-family\", \"version\": 9}", 47, own, &error),
          WS_E_UNSUPPORTED);
    for (int i = 0; i < cases_of(3000); i++) { /* any change of bytes: read or refused */
        char *spoilt = malloc(text.length);
        memcpy(spoilt, text.data, text.length);
        for (int k = 0; k < 3; k++) spoilt[random_below(text.length)] = (char)random_below(256);
        if (ws_own_family_read(spoilt, text.length, own, &error) != WS_OK) CHECK(error.what[0]);
        free(spoilt);
    }
    ws_text_free(&text);
    free(own);
}

static struct ws_tree *small_tree(void) {
    static const char *const files[] = {"efi-off/BOOT/a", "efi-off/BOOT/b", "docs/long/text", "live/kernel",
                                        "gannet.ico"};
    struct ws_tree *tree = NULL;
    if (ws_tree_create(&tree, &error) != WS_OK) abort();
    for (size_t i = 0; i < 5; i++)
        if (ws_tree_put(tree, files[i], files[i], strlen(files[i]), NULL, &error) != WS_OK) abort();
    return tree;
}

static void list_tree(const struct ws_tree *tree, struct ws_text *out) {
    for (const struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        char path[300], *text = NULL;
        size_t length = 0;
        if (n->kind != WS_NODE_FILE) continue;
        if (n->content && ws_source_load(n->content, 4096, &text, &length, &error) != WS_OK) abort();
        ws_text_printf(out, "%s=%s\n", ws_node_path(n, path, sizeof path), text ? text : "");
        free(text);
    }
}

static void trees_are_changed(void) {
    static const struct {
        const char *keys, *wanted; /* files in reading order; NULL: refused with `says` */
        const char *says;
    } cases[] = {
        {"\"rename\": [{\"from\": \"EFI-OFF\", \"to\": \"EFI\"}], \"leave_out\": [\"docs/long\"]",
         "/EFI/BOOT/a=efi-off/BOOT/a\n/EFI/BOOT/b=efi-off/BOOT/b\n/live/kernel=live/kernel\n/gannet.ico=gannet.ico\n",
         NULL},
        {"\"rename\": [{\"from\": \"docs/long/text\", \"to\": \"live/text\"}], \"leave_out\": [\"efi-off\", "
         "\"gannet.ico\"]",
         "/live/kernel=live/kernel\n/live/text=docs/long/text\n", NULL},
        {"\"copy\": [{\"from\": \"efi-off\", \"to\": \"x/EFI\"}], \"leave_out\": [\"docs\", \"live\", \"gannet.ico\"],"
         "\"add\": [{\"path\": \"mark\", \"text\": \"hut 4\\n\"}, {\"path\": \"x/empty\"}]",
         "/efi-off/BOOT/a=efi-off/BOOT/a\n/efi-off/BOOT/b=efi-off/BOOT/b\n/x/EFI/BOOT/a=efi-off/BOOT/a\n"
         "/x/EFI/BOOT/b=efi-off/BOOT/b\n/x/empty=\n/mark=hut 4\n\n",
         NULL},
        {"\"leave_out\": [\"docs\", \"live\", \"efi-off\"], \"autorun\": {\"label\": \"Gannet Point\", \"icon\": "
         "\"gannet.ico\"}",
         "/gannet.ico=gannet.ico\n/autorun.inf=[autorun]\r\nlabel=Gannet Point\r\nicon=gannet.ico\r\n\n", NULL},
        {"\"leave_out\": [\"nothing\"]", NULL, "names nothing, which is not on the image"},
        {"\"rename\": [{\"from\": \"docs\", \"to\": \"live\"}]", NULL, "in the place of live"},
        {"\"rename\": [{\"from\": \"docs\", \"to\": \"docs/deep/docs\"}]", NULL, "into itself"},
        {"\"copy\": [{\"from\": \"live\", \"to\": \"gannet.ico\"}]", NULL, "in the place of gannet.ico"},
        {"\"add\": [{\"path\": \"LIVE/kernel\"}]", NULL, "in the place of LIVE/kernel"},
        {"\"autorun\": {\"icon\": \"none.ico\"}", NULL, "names none.ico, which is not on the image"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_rules r;
        struct ws_text seen = {0};
        struct ws_tree *tree = small_tree();
        OK(parse(cases[i].keys, &r));
        enum ws_status status = ws_rules_apply_before(&r, tree, &error);
        if (status == WS_OK) status = ws_rules_apply_after(&r, tree, 1790000000, &error);
        CHECK_INT(status, cases[i].wanted ? WS_OK : WS_E_FORMAT);
        if (cases[i].wanted) {
            list_tree(tree, &seen);
            CHECK_STR(seen.data, cases[i].wanted);
        } else {
            CHECK_HAS(error.what, cases[i].says);
        }
        ws_text_free(&seen);
        ws_tree_close(tree);
    }
}

/* A whole plan with rules: label, renamed folder, copies of what was edited; and back from its document. */
static void plans_carry_them(void) {
    enum { DRIVE = 192 << 20 };
    struct demo_image image;
    struct memory_drive *d = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_source *drive = NULL, *slice = NULL;
    struct ws_tree *seen = NULL;
    struct ws_fat_facts facts;
    struct ws_text text = {0};
    OK(demo_image_make(&(struct demo_params){.family = "live-boot", .table = DEMO_MBR}, &image, &error));
    struct planned plan, *p = &plan;
    struct ws_plan *read = NULL;
    planned_begin(p, WS_KIND_LIVE_FILES, &d->facts);
    ws_request_want(&p->request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_NONE;
    OK(parse(
        "\"label\": \"GANNETPOINT\", \"rename\": [{\"from\": \"EFI\", \"to\": \"efi-off\"}],"
        "\"copy\": [{\"from\": \"boot/grub/grub.cfg\", \"to\": \"second.cfg\"}], \"add\": [{\"path\": \"gauge.mark\"}]",
        &p->request.rules));
    OK(planned_prepare(p, image.source, &build));
    struct ws_build_options o = {.confirm = d->facts.short_name};
    OK(ws_build_carry_out(build, plain_port(), &d->drive, &o, &result, &error));
    CHECK(ws_plan_outlooks(p->plan)[1].starts &&
          strstr(ws_plan_outlooks(p->plan)[1].why, "our own")); /* the image's loader went with the folder */
    CHECK(VOLUME(plan, PERSISTENCE) == NULL);
    OK(ws_source_drive(&d->drive, &drive, &error));
    OK(ws_source_slice(drive, VOLUME(plan, SYSTEM)->at, VOLUME(plan, SYSTEM)->size, &slice, &error));
    OK(ws_fat_read(slice, &seen, &facts, &error));
    CHECK_STR(facts.label, "GANNETPOINT");
    CHECK(ws_tree_find(seen, "efi-off/BOOT/BOOTX64.EFI") && ws_tree_find(seen, "gauge.mark"));
    CHECK(ws_start_program_is_ours(ws_tree_find_any_case(seen, "EFI/BOOT/BOOTX64.EFI")->content));
    struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
    OK(ws_start_rehearse(drive, &r, &error));
    CHECK(r.starts && !strstr(r.entry.options, "persistence"));
    ws_rehearsal_free(&r);
    OK(ws_plan_to_json(p->plan, &text, &error));
    OK(ws_plan_from_json(text.data, text.length, &read, &error));
    CHECK(memcmp(&ws_plan_request(read)->rules, &p->request.rules, sizeof p->request.rules) == 0);
    CHECK_INT(ws_request_wanted(ws_plan_request(read), WS_ROLE_PERSISTENCE)->size.kind, WS_SIZE_NONE);
    ws_text_free(&text);
    strcpy(p->request.rules.label, "lower");
    ws_build_close(build);
    FAILS(planned_prepare(p, image.source, &build), WS_E_FORMAT);
    CHECK_HAS(error.what, "FAT32 cannot hold");
    p->request.rules.label[0] = '\0';
    p->request.uefi_code = WS_UEFI_CODE_IMAGE; /* which the rules take away */
    FAILS(planned_prepare(p, image.source, &build), WS_E_UNSUPPORTED);
    p->request.uefi_code = WS_UEFI_CODE_AUTO;
    p->request.kind = WS_KIND_LIVE_WHOLE;
    p->request.volumes = 0;
    FAILS(planned_prepare(p, image.source, &build), WS_E_USAGE);
    ws_plan_free(read);
    ws_tree_close(seen);
    ws_source_close(slice);
    ws_source_close(drive);
    memory_drive_free(d);
    demo_image_free(&image);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"documents are read strictly", documents_are_read_strictly},
                                        {"families are read strictly", families_are_read_strictly},
                                        {"trees are changed", trees_are_changed},
                                        {"plans carry them", plans_carry_them},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
