/* test_plan.c — sizes and plans: every byte accounted for, predictions the kernel agrees with, outlooks that come true.
 */
#include "tests/harness.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/sim.h"

#include <math.h>
#include <sys/statfs.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

static const struct demo_params kinds[] = {
    {.family = "live-boot", .table = DEMO_MBR},
    {.family = "casper", .table = DEMO_GPT},
    {.family = "dracut", .table = DEMO_HYBRID},
    {.family = "casper-old", .table = DEMO_MBR_FIRST, .full_menus = true},
    {.family = "live-boot", .table = DEMO_GPT, .unsigned_loader = true},
};
enum { KINDS = sizeof kinds / sizeof kinds[0] };

static uint64_t spread(uint64_t least, uint64_t most) { /* evenly over the powers of two */
    double low = log2((double)least);
    double high = log2((double)most);
    return (uint64_t)exp2(low + (high - low) * (double)random_below(1000000) / 1e6);
}

/* A loop device over a part of a file; empty if there is none to be had. */
static void loop_part(const char *path, uint64_t at, uint64_t size, char device[64]) {
    struct ws_text out = {0};
    device[0] = '\0';
    if (shell(&out, "losetup -f --show -o %llu --sizelimit %llu '%s'", (unsigned long long)at, (unsigned long long)size,
              path) == 0)
        snprintf(device, 64, "%.*s", (int)strcspn(out.data, "\n"), out.data);
    ws_text_free(&out);
}

static void judge_ext4(const char *path, const struct ws_volume *v) {
    char device[64];
    struct statfs s;
    const char *place = scratch("persistence");
    loop_part(path, v->at, v->size, device);
    if (!device[0]) return;
    if (mount_at(device, "ext4", "ro", place)) {
        CHECK_INT(statfs(place, &s), 0);
        CHECK_INT((uint64_t)s.f_bfree * (uint64_t)s.f_bsize, v->free_bytes);
        unmount(place);
    }
    shell(NULL, "losetup -d %s", device);
}

static void judge_fat(const char *path, uint64_t at, uint64_t size, uint64_t free_bytes) {
    char device[64];
    struct ws_text out = {0};
    unsigned long long used = 0, total = 0, cluster = 0;
    loop_part(path, at, size, device);
    if (!device[0]) return;
    if (shell(&out, "fsck.fat -vn %s", device) != 0) fail_at(__FILE__, __LINE__, "%s", out.data);
    const char *size_line = strstr(out.data, " bytes per cluster");
    const char *count_line = strstr(out.data, " files, ");
    while (size_line && size_line > out.data && size_line[-1] != '\n') size_line--;
    if (size_line) (void)sscanf(size_line, "%llu", &cluster);
    if (count_line) (void)sscanf(count_line, " files, %llu/%llu clusters", &used, &total);
    CHECK_INT((total - used) * cluster, free_bytes);
    ws_text_free(&out);
    shell(NULL, "losetup -d %s", device);
}

static void judge_exfat(const char *path, const struct ws_volume *v) {
    char device[64];
    struct ws_text out = {0};
    if (!have_program("fsck.exfat")) return;
    loop_part(path, v->at, v->size, device);
    if (!device[0]) return;
    if (shell(&out, "fsck.exfat -n %s", device) != 0) fail_at(__FILE__, __LINE__, "%s", out.data);
    ws_text_free(&out);
    shell(NULL, "losetup -d %s", device);
}

static void judge_swap(const char *path, const struct ws_volume *v) {
    char device[64];
    struct ws_text out = {0};
    loop_part(path, v->at, v->size, device);
    if (!device[0]) return;
    CHECK_INT(shell(&out, "blkid -p -s TYPE -o value %s", device), 0);
    CHECK_HAS(out.data ? out.data : "", "swap");
    CHECK_INT(shell(NULL, "swapon %s && swapoff %s", device, device), 0); /* the kernel takes it, in its full size */
    ws_text_free(&out);
    shell(NULL, "losetup -d %s", device);
}

/* The parts are the whole drive, in order, without gaps or overlaps, and what was made here is aligned. */
static void check_parts(const struct ws_plan *p) {
    uint64_t at = 0;
    size_t parts;
    const struct ws_plan_part *part = ws_plan_parts(p, &parts);
    for (size_t i = 0; i < parts; i++) {
        CHECK_INT(part[i].at, at);
        CHECK(part[i].length > 0);
        at += part[i].length;
    }
    size_t volumes;
    const struct ws_volume *v = ws_plan_volumes(p, &volumes);
    for (size_t i = 0; i < volumes; i++, v++)
        if (v->inside == WS_ROLE_DRIVE && (v->at % ws_plan_facts(p)->align || !v->number))
            fail_at(__FILE__, __LINE__, "%s at %llu is not aligned", ws_role_name(v->role), (unsigned long long)v->at);
    CHECK_INT(at, ws_plan_drive(p)->size);
}

static struct ws_size random_size(uint64_t least, uint64_t most) {
    return random_below(8) ? ws_size_of(spread(least, most)) : (struct ws_size){WS_SIZE_LEAST, 0};
}

/* Any recipe, with whatever goes with it. */
static void random_wishes(struct planned *p, uint64_t drive) {
    static const enum ws_kind any[] = {WS_KIND_USUAL,      WS_KIND_LIVE,       WS_KIND_LIVE_WHOLE,
                                       WS_KIND_LIVE_WHOLE, WS_KIND_LIVE_FILES, WS_KIND_LIVE_FILES,
                                       WS_KIND_REPLICA,    WS_KIND_BLANK,      WS_KIND_SYSTEM};
    struct ws_drive_facts f = {.size = drive / 4096 * 4096, .logical_sector = 512};
    enum ws_kind kind = any[random_below(9)];
    bool files = kind == WS_KIND_LIVE_FILES;
    bool full = kind == WS_KIND_SYSTEM;
    if ((files || full || kind == WS_KIND_BLANK) && random_below(6) == 0) f.logical_sector = 4096;
    f.erase_unit = random_below(3) ? 0 : 1u << (16 + random_below(9));
    planned_begin(p, kind, &f);
    random_bytes(p->setting.id.byte, 16);
    struct ws_wanted *data = ws_request_want(&p->request, WS_ROLE_DATA);
    if (kind == WS_KIND_BLANK) {
        strcpy(data->format, random_below(2) ? "exfat" : "");
        if (random_below(2)) strcpy(data->label, "TIDE DATA");
    }
    if (kind == WS_KIND_BLANK || kind == WS_KIND_REPLICA) return;
    if (full) {
        struct ws_wanted *root = ws_request_want(&p->request, WS_ROLE_SYSTEM);
        if (random_below(2)) root->size = random_size(32 * MIB, drive);
        if (random_below(2))
            data->size = random_below(3) ? random_size(64 * MIB, drive) : (struct ws_size){WS_SIZE_REST, 0};
        if (random_below(3) == 0) ws_request_want(&p->request, WS_ROLE_SWAP)->size = random_size(MIB, drive / 2 + MIB);
        if (random_below(3) == 0) p->request.table = WS_TABLE_WISH_GPT;
        if (random_below(3) == 0) strcpy(p->request.kernel_options, "quiet");
        return;
    }
    struct ws_wanted *persistence = ws_request_want(&p->request, WS_ROLE_PERSISTENCE);
    if (random_below(3)) persistence->size = random_size(WS_EXT4_LEAST, drive);
    if (random_below(4) == 0) persistence->place = WS_PLACE_FILE;
    bool rest = persistence->size.kind != WS_SIZE_USUAL && persistence->place != WS_PLACE_FILE;
    if (random_below(2))
        data->size = random_below(2) && rest ? (struct ws_size){WS_SIZE_REST, 0} : random_size(64 * MIB, drive);
    if (data->size.kind != WS_SIZE_USUAL && random_below(2)) strcpy(data->label, "tide-data");
    if (data->size.kind != WS_SIZE_USUAL && random_below(3) == 0) strcpy(data->format, "exfat");
    if (random_below(4) == 0) ws_request_want(&p->request, WS_ROLE_SWAP)->size = random_size(MIB, drive / 2 + MIB);
    if (!files) return;
    struct ws_wanted *system = ws_request_want(&p->request, WS_ROLE_SYSTEM);
    if (random_below(2)) system->size = random_size(64 * MIB, drive);
    if (random_below(3) == 0) strcpy(system->format, "exfat");
    if (random_below(4) == 0) p->request.table = WS_TABLE_WISH_GPT;
}

/* What was asked for is there, and no more than was. */
static void check_sizes(const struct planned *p) {
    for (size_t i = 0; i < p->request.volumes; i++) {
        const struct ws_wanted *w = &p->request.volume[i];
        const struct ws_volume *v = ws_plan_volume(p->plan, w->role);
        if (w->size.kind == WS_SIZE_BYTES) CHECK(v && v->size >= w->size.bytes);
        if (w->size.kind == WS_SIZE_LEAST || w->size.kind == WS_SIZE_REST) CHECK(v != NULL);
        if (w->size.kind == WS_SIZE_NONE) CHECK(v == NULL);
        if (v && w->format[0]) CHECK_STR(v->format, w->format);
    }
}

/* A plan's document, read and worked out again from its inputs, comes to the same; so does its request, saved alone. */
static void check_documents(const struct planned *p, const struct ws_source *image) {
    const struct ws_source *const input[WS_INPUTS_MOST] = {image, NULL};
    struct ws_text text = {0}, again = {0}, request = {0};
    struct ws_plan *back = NULL;
    struct ws_build *build = NULL;
    struct planned other = *p;
    OK(ws_plan_to_json(p->plan, &text, &error));
    OK(ws_plan_from_json(text.data, text.length, &back, &error));
    OK(ws_plan_same_results(back, p->plan, &error));
    OK(ws_build_again(back, input, NULL, NULL, &build, &error));
    if (build) OK(ws_plan_to_json(ws_build_plan(build), &again, &error));
    CHECK_STR(again.data ? again.data : "", text.data);
    ws_build_close(build);
    OK(ws_request_to_json(ws_plan_request(p->plan), &request, &error));
    OK(ws_request_from_json(request.data, request.length, &other.request, &error));
    OK(planned_prepare(&other, image, &build));
    if (build) OK(ws_plan_same_results(other.plan, p->plan, &error));
    ws_build_close(build);
    ws_plan_free(back);
    ws_text_free(&text);
    ws_text_free(&again);
    ws_text_free(&request);
}

/* Other people's checkers and the kernel on every volume, and our own strict look at the table. */
static void judge_drive(const struct planned *p, const struct ws_build *build) {
    const char *path = scratch("planned.img");
    struct ws_findings f = {0};
    struct ws_source *drive = NULL;
    size_t count;
    const struct ws_volume *v = ws_plan_volumes(p->plan, &count);
    save_layout(ws_build_layout(build), path);
    OK(ws_source_file(path, &drive, &error));
    OK(ws_table_check(drive, p->setting.drive.sector, &f, &error));
    if (ws_findings_worst(&f) == WS_FAULT && ws_plan_facts(p->plan)->kind != WS_KIND_REPLICA)
        fail_at(__FILE__, __LINE__, "table: %s", f.list[0].text);
    ws_findings_free(&f);
    ws_source_close(drive);
    for (size_t i = 0; i < count; i++, v++) {
        if (strcmp(v->format, "ext4") == 0) judge_ext4(path, v);
        if (strcmp(v->format, "fat32") == 0) judge_fat(path, v->at, v->size, v->free_bytes);
        if (strcmp(v->format, "exfat") == 0) judge_exfat(path, v);
        if (strcmp(v->format, "swap") == 0) judge_swap(path, v);
    }
    (void)unlink(path);
}

static void five_hundred_random_plans_account_for_every_byte(void) {
    struct demo_image image[KINDS];
    char sha256[KINDS][WS_HASH_HEX];
    bool judge = may_mount();
    size_t planned = 0, of_kind[WS_KINDS] = {0};
    for (size_t i = 0; i < KINDS; i++) {
        OK(demo_image_make(&kinds[i], &image[i], &error));
        OK(ws_source_hash(image[i].source, WS_HASH_SHA256, sha256[i], &error));
    }
    for (int i = 0; i < cases_of(500); i++) {
        struct planned p;
        struct ws_build *build = NULL;
        size_t which = random_below(KINDS);
        random_wishes(&p, spread(64 * MIB, 1ull << 40));
        const struct ws_source *source = p.request.kind == WS_KIND_BLANK ? NULL : image[which].source;
        if (source) strcpy(p.request.input[WS_INPUT_IMAGE].sha256, sha256[which]);
        memset(&error, 0, sizeof error);
        enum ws_status status = planned_prepare(&p, source, &build);
        if (status != WS_OK) { /* what does not fit, in space or in table entries, is said in words */
            if (status != WS_E_SPACE && status != WS_E_USAGE && status != WS_E_RANGE && status != WS_E_UNSUPPORTED)
                fail_at(__FILE__, __LINE__, "%s: %s", ws_status_name(status), error.what);
            CHECK(error.what[0] &&
                  (error.next[0] || status == WS_E_USAGE || status == WS_E_RANGE || p.request.kind == WS_KIND_BLANK));
            continue;
        }
        planned++;
        of_kind[ws_plan_facts(p.plan)->kind]++;
        check_parts(p.plan);
        check_sizes(&p);
        CHECK_INT(ws_plan_facts(p.plan)->write_bytes, ws_layout_bytes(ws_build_layout(build)));
        if (planned % 4 == 0) check_documents(&p, source);
        if (judge && planned % 5 == 0) judge_drive(&p, build);
        ws_build_close(build);
    }
    CHECK(planned > (size_t)cases_of(500) * 3 / 10);
    for (int k = WS_KIND_LIVE_WHOLE; k <= WS_KIND_BLANK; k++) CHECK(of_kind[k] > 0 || cases_of(500) < 300);
    for (size_t i = 0; i < KINDS; i++) demo_image_free(&image[i]);
}

/* The smallest size is the smallest: nothing below it, as far as free room can dip, has as much. */
static void the_smallest_volume_is_the_smallest(void) {
    const struct ws_live_family *family = ws_live_family_find("live-boot");
    for (int i = 0; i < 60; i++) {
        uint64_t wanted = spread(8 * MIB, 1ull << 38), size = 0, room = 0, got = 0, unit = random_below(3) ? MIB : 4096;
        struct ws_tree *tree = NULL;
        if (unit == 4096 && wanted > 1ull << 32) wanted >>= 8;
        OK(ws_ext4_fit(family, wanted, unit, WS_EXT4_MOST, &size, &room, &error));
        CHECK(room >= wanted && size % unit == 0);
        OK(ws_live_volume_tree(family, 0, &tree, &error));
        for (int k = 0; k <= 40; k++) { /* itself, then a few below it, then random ones */
            struct ws_ext4_params p = {.size = k < 20 ? size - (uint64_t)k * unit
                                                      : size - random_below(size / 2) / unit * unit};
            struct ws_ext4_geometry g;
            if (p.size < WS_EXT4_LEAST || ws_ext4_measure(&p, tree, &g, &error) != WS_OK) continue;
            if (p.size == size) CHECK_INT(g.free_bytes, room);
            else if (g.free_bytes >= wanted)
                fail_at(__FILE__, __LINE__, "%llu wanted: %llu would do, %llu was said", (unsigned long long)wanted,
                        (unsigned long long)p.size, (unsigned long long)size);
            ws_ext4_geometry_free(&g);
        }
        ws_tree_close(tree);
        OK(ws_ext4_most_free(family, size, unit, &size, &got, &error)); /* and back: at least what was asked */
        CHECK(got >= room);
    }
    uint64_t size, room;
    FAILS(ws_ext4_fit(family, 1ull << 40, MIB, 1ull << 39, &size, &room, &error), WS_E_SPACE);
    FAILS(ws_ext4_fit(family, 1 << 30, 1000, 1ull << 39, &size, &room, &error), WS_E_USAGE);
    FAILS(ws_ext4_most_free(family, 1 << 20, 4096, &size, &room, &error), WS_E_SPACE);
}

static void wishes_become_bytes_that_add_up(void) {
    struct demo_image d;
    struct ws_image image;
    struct ws_packages packages;
    struct ws_wishes w;
    struct ws_sizing s, more;
    OK(demo_image_make(&kinds[0], &d, &error));
    OK(ws_image_inspect(d.source, &image, &error));
    OK(ws_packages_of_image(&image, &packages, &error));
    CHECK(packages.known);
    CHECK_INT(packages.count, 5);
    CHECK_INT(packages.installed_bytes, (612400ull + 1054720 + 391168 + 8 + 20480) * 1024);
    CHECK_INT(packages.kernel_bytes, 391168ull * 1024);
    ws_wishes_usual(&w);
    OK(ws_sizing_work_out(&w, &image, &packages, &s, &error));
    uint64_t sum = 0;
    for (size_t i = 0; i < s.items; i++) sum += s.item[i].bytes;
    CHECK(s.free_wanted >= sum && s.free_wanted - sum < 4096 && s.counted);
    static const struct {
        size_t offset;
        double value;
    } larger[] = {{offsetof(struct ws_wishes, months), 24},
                  {offsetof(struct ws_wishes, churn), 0.2},
                  {offsetof(struct ws_wishes, spare), 0.5}};
    for (size_t i = 0; i < 3; i++) { /* wishing for more needs more */
        ws_wishes_usual(&w);
        *(double *)((char *)&w + larger[i].offset) = larger[i].value;
        OK(ws_sizing_work_out(&w, &image, &packages, &more, &error));
        CHECK(more.free_wanted > s.free_wanted);
    }
    ws_wishes_usual(&w);
    w.months = w.spare = 0;
    w.documents = w.programs = w.logs = 0;
    OK(ws_sizing_work_out(&w, &image, &packages, &s, &error));
    CHECK_INT(s.free_wanted, 0);
    w.months = 1000; /* never more than the whole system, however many months */
    FAILS(ws_sizing_work_out(&w, &image, &packages, &s, &error), WS_E_RANGE);
    w.months = 120;
    w.churn = 1;
    OK(ws_sizing_work_out(&w, &image, &packages, &s, &error));
    CHECK(s.item[0].bytes <= packages.installed_bytes);
    w.churn = NAN;
    FAILS(ws_sizing_work_out(&w, &image, &packages, &s, &error), WS_E_RANGE);
    for (uint32_t cluster = 4096; cluster < 65536; cluster *= 2)
        CHECK(ws_fat_waste(ws_iso_tree(image.iso), cluster) < ws_fat_waste(ws_iso_tree(image.iso), cluster * 2));
    ws_image_free(&image);
    demo_image_free(&d);
}

static void package_databases_of_any_kind_are_survived(void) {
    static const struct {
        const char *text;
        uint32_t count;
        uint64_t kib;
    } cases[] = {
        {"Package: a\nStatus: install ok installed\nInstalled-Size: 10\n\nPackage: b\nStatus: hold ok installed\n"
         "Installed-Size: 5\n",
         2, 15},
        {"Package: a\nStatus: deinstall ok config-files\nInstalled-Size: 10\n", 0, 0},
        {"Package: a\nStatus: install ok half-installed\nInstalled-Size: 10\n", 0, 0},
        {"Package: a\nStatus: install ok installed\nInstalled-Size: 99999999999999999999999\n", 1, UINT64_MAX},
        {"Package: a\nStatus: install ok installed\nInstalled-Size: minus\n", 1, 0},
        {"\n\n\nStatus: install ok installed", 1, 0},
        {"", 0, 0},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *root = NULL;
        struct ws_packages p;
        OK(ws_tree_create(&root, &error));
        OK(ws_tree_put(root, "var/lib/dpkg/status", cases[i].text, strlen(cases[i].text), NULL, &error));
        OK(ws_packages_read(root, &p, &error));
        CHECK_INT(p.count, cases[i].count);
        if (cases[i].kib != UINT64_MAX) CHECK_INT(p.installed_bytes, cases[i].kib * 1024);
        ws_tree_close(root);
    }
}

/* What a plan says about a PC is what happens when that PC is started. */
static void outlooks_come_true_on_simulated_pcs(void) {
    static const char bench_text[] =
        "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"drives\": [{\"name\": \"Gorse\", \"serial\": \"A\", "
        "\"size_bytes\": 134217728, \"write_bytes_s\": 2e7, \"read_bytes_s\": 1e8}], \"pcs\": [{\"name\": \"hut\", "
        "\"firmware\": \"bios\"}, {\"name\": \"launch\", \"firmware\": \"uefi\"}, {\"name\": \"office\", \"firmware\": "
        "\"uefi\", \"secure_boot\": true}]}";
    static const char *const pcs[] = {"hut", "launch", "office"};
    struct ws_bench *bench = malloc(sizeof *bench);
    struct ws_port *port;
    size_t yes = 0, no = 0;
    OK(ws_bench_parse(bench_text, strlen(bench_text), bench, &error));
    OK(ws_bench_create(bench, scratch("outlook"), &error));
    OK(ws_sim_port(bench, &port, &error));
    for (size_t i = 0; i < KINDS * 3; i++) {
        struct demo_image d;
        static const enum ws_kind as[] = {WS_KIND_LIVE_WHOLE, WS_KIND_REPLICA, WS_KIND_LIVE_FILES};
        const struct ws_drive_facts drive_facts = {.size = 134217728, .logical_sector = 512};
        struct planned p;
        planned_begin(&p, as[i / KINDS], &drive_facts);
        struct ws_build *build = NULL;
        struct ws_drive *drive = NULL;
        struct ws_write_options o = {0};
        struct ws_write_result r;
        OK(demo_image_make(&kinds[i % KINDS], &d, &error));
        OK(planned_prepare(&p, d.source, &build));
        OK(port->ops->open(port, "Gorse", WS_OPEN_WRITE, &drive, &error));
        OK(ws_write(port, ws_build_layout(build), drive, &o, &r, &error));
        drive->ops->close(drive);
        for (size_t k = 0; k < 3; k++) {
            struct ws_pc *pc = NULL;
            struct ws_pc_facts facts;
            char console[4096] = "";
            size_t got = 0;
            OK(ws_sim_pc(bench, pcs[k], &pc, &error));
            OK(pc->ops->describe(pc, &facts, &error));
            OK(pc->ops->plug(pc, "Gorse", &error));
            enum ws_status status = pc->ops->power_on(pc, &error);
            if (status == WS_OK) (void)pc->ops->console_read(pc, console, sizeof console - 1, 1, &got, &error);
            bool started = strstr(console, "# ") != NULL;
            const struct ws_outlook *said = ws_plan_outlook(p.plan, &facts);
            if (said->starts != started)
                fail_at(__FILE__, __LINE__, "kind %zu on %s: said %d (%s), happened %d: %s", i, pcs[k], said->starts,
                        said->why, started, console);
            yes += started;
            no += !started;
            pc->ops->close(pc);
        }
        ws_build_close(build);
        demo_image_free(&d);
    }
    CHECK(yes > 10 && no > 0);
    port->ops->close(port);
    ws_bench_close(bench);
}

static void estimates_and_warnings_follow_the_drive(void) {
    struct ws_drive_facts f = {.size = 32000000000, .bus = "usb", .removable = WS_YES, .bus_bits_s = 480000000};
    struct ws_estimate slow, fast, measured;
    struct ws_findings findings = {0};
    ws_estimate_times(&f, NULL, 1 << 30, 1 << 30, &slow);
    ws_drive_warnings(&f, NULL, f.size, 512 * MIB, false, &findings);
    CHECK_INT(findings.count, 2);
    ws_findings_free(&findings);
    f.bus_bits_s = 5000000000;
    ws_estimate_times(&f, NULL, 1 << 30, 1 << 30, &fast);
    CHECK(fast.build_high_s < slow.build_high_s && fast.build_low_s < slow.build_low_s);
    CHECK(slow.build_low_s < slow.build_high_s && slow.start_low_s < slow.start_high_s && !slow.measured);
    struct ws_trial t = {
        .write_bytes_s = 20e6, .read_bytes_s = 100e6, .drive_size = f.size, .holds = f.size, .sound = true};
    ws_trial_judge(&t);
    ws_estimate_times(&f, &t, 1 << 30, 1 << 30, &measured);
    double real = (1 << 30) / 20e6 + (1 << 30) / 100e6;
    CHECK(measured.measured && measured.build_low_s < real && measured.build_high_s > real);
    CHECK(measured.build_high_s / measured.build_low_s < 1.5);
    ws_drive_warnings(&f, &t, f.size, 4ull << 30, false, &findings);
    CHECK_INT(findings.count, 0);
    t.sound = false;
    t.holds = f.size / 4;
    f.size = 2000000000;
    ws_drive_warnings(&f, &t, f.size, 4ull << 30, false, &findings);
    CHECK_INT(ws_findings_worst(&findings), WS_FAULT);
    CHECK_INT(findings.count, 2);
    ws_findings_free(&findings);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"five hundred random plans account for every byte", five_hundred_random_plans_account_for_every_byte},
        {"the smallest volume is the smallest", the_smallest_volume_is_the_smallest},
        {"wishes become bytes that add up", wishes_become_bytes_that_add_up},
        {"package databases of any kind are survived", package_databases_of_any_kind_are_survived},
        {"outlooks come true on simulated PCs", outlooks_come_true_on_simulated_pcs},
        {"estimates and warnings follow the drive", estimates_and_warnings_follow_the_drive},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
