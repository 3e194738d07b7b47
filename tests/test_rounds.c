/* test_rounds.c — snapshots, whose doing a change is, and proofs in rounds that nobody here sees: the evidence is the
 * drive's. The kernel's overlay judges what differs. */
#include "tests/harness.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/sim.h"

static void snapshot_of(const struct ws_tree *tree, struct ws_snapshot *snapshot) {
    if (ws_snapshot_take(tree, WS_READ_ALL, NULL, snapshot, &error) != WS_OK) abort();
}

/* Random trees written as lines and read again; then lines that are none. */
static void snapshots_are_kept_as_lines(void) {
    for (int i = 0; i < cases_of(60); i++) {
        struct ws_tree *tree = random_tree(1 + random_below(60), TREE_ALL, 20000);
        struct ws_snapshot a = {0}, b = {0}, c = {0};
        struct ws_text text = {0}, again = {0};
        put_text(tree, "a\nname\\with all", "x");
        put_text(tree, "\xff\x01", "y");
        snapshot_of(tree, &a);
        ws_snapshot_write(&a, &text);
        OK(ws_snapshot_read(text.data, text.length, &b, &error));
        ws_snapshot_write(&b, &again);
        CHECK_STR(again.data, text.data);
        CHECK(ws_snapshot_find(&b, "/a\nname\\with all") != NULL);
        ws_snapshot_copy(&b, &c);
        CHECK_INT(c.count, a.count);
        for (int k = 0; k < 40; k++) { /* whatever comes of it, it is read or refused */
            struct ws_snapshot d = {0};
            const size_t at = (size_t)random_below(text.length);
            const char was = text.data[at];
            text.data[at] = (char)random_next();
            if (ws_snapshot_read(text.data, text.length, &d, &error) == WS_OK) ws_snapshot_free(&d);
            text.data[at] = was;
        }
        ws_snapshot_free(&b);
        FAILS(ws_snapshot_read(text.data, text.length - 1, &b, &error), WS_E_FORMAT);
        ws_snapshot_free(&a);
        ws_snapshot_free(&c);
        ws_text_free(&text);
        ws_text_free(&again);
        ws_tree_close(tree);
    }
    struct ws_snapshot s;
    static const char *const wrong[] = {"x\n",
                                        "f 644 0 0 0 0.0 0 - /a\nf 644 0 0 0 0.0 0 - /a\n",
                                        "f 77777 0 0 0 0.0 0 - /\n",
                                        "f 644 0 0 0 0.0 0 - a\n",
                                        "f 644 0 0 -1 0.0 0 - /a\n",
                                        "f 644 0 0 0 0.0 0 12 /a\n"};
    for (size_t i = 0; i < sizeof wrong / sizeof wrong[0]; i++)
        FAILS(ws_snapshot_read(wrong[i], strlen(wrong[i]), &s, &error), WS_E_FORMAT);
}

static void whose_doing_it_is_goes_by_place(void) {
    static const struct {
        const char *path;
        enum ws_whose whose;
    } cases[] = {{"/home/tide/Desktop/log", WS_WHOSE_PEOPLE},
                 {"/home/tide/.cache/x/y", WS_WHOSE_CACHES},
                 {"/home/tide/.bash_history", WS_WHOSE_RECORDS},
                 {"/root/note", WS_WHOSE_PEOPLE},
                 {"/usr/bin/mc", WS_WHOSE_PROGRAMS},
                 {"/opt/gauge/run", WS_WHOSE_PROGRAMS},
                 {"/etc/hostname", WS_WHOSE_SETTINGS},
                 {"/etc/resolv.conf", WS_WHOSE_RECORDS},
                 {"/var/log/syslog", WS_WHOSE_LOGS},
                 {"/var/logbook", WS_WHOSE_OTHER},
                 {"/var/lib/systemd/random-seed", WS_WHOSE_RECORDS},
                 {"/var/lib/dpkg/status", WS_WHOSE_PROGRAMS},
                 {"/tmp/x", WS_WHOSE_TEMPORARY},
                 {"/tide", WS_WHOSE_OTHER}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++)
        if (ws_whose_is(cases[i].path) != cases[i].whose)
            fail_at(__FILE__, __LINE__, "%s: %s", cases[i].path, ws_whose_name(ws_whose_is(cases[i].path)));
}

/* Without the image an overlay's folder of changes is told by its own marks. */
static void changes_of_an_overlay_are_told_as_the_system_sees_them(void) {
    struct ws_tree *before = NULL, *after = NULL;
    struct ws_snapshot a = {0}, b = {0};
    struct ws_told told;
    struct ws_node *n = NULL;
    OK(ws_tree_create(&before, &error));
    OK(ws_tree_create(&after, &error));
    put_text(before, "rw/home/tide/chart", "long water");
    put_text(before, "rw/etc/old", "gone for good");
    put_text(after, "rw/home/tide/charts/chart", "long water"); /* moved */
    put_text(after, "rw/usr/bin/mc", "program");
    put_text(after, "rw/var/lib/dpkg/info/mc.list", "/usr/bin/mc");
    put_text(after, "rw/var/log/syslog", "x");
    put_text(after, "rw/etc/hostname", "hut-3");
    n = ws_tree_find(after, "rw/etc/hostname");
    OK(ws_tree_set_xattr(after, n, "trusted.overlay.origin", "x", 1, &error));
    OK(ws_tree_add(after, ws_tree_find(after, "rw/etc"), "motd", WS_NODE_CHAR, &n, &error)); /* 0:0 */
    put_text(after, "work/nothing", "of anybody's");
    snapshot_of(before, &a);
    snapshot_of(after, &b);
    OK(ws_told_tell(&a, &b, "rw", &told, &error));
    CHECK_INT(told.of[WS_WHOSE_PEOPLE].count[WS_CHANGE_MOVED], 1);
    CHECK_STR(told.of[WS_WHOSE_PEOPLE].example[1].path, "/home/tide/charts/chart");
    CHECK_INT(told.of[WS_WHOSE_SETTINGS].count[WS_CHANGE_CHANGED], 1);
    CHECK_INT(told.of[WS_WHOSE_SETTINGS].count[WS_CHANGE_GONE], 2);
    CHECK_STR(told.packages, "mc");
    CHECK_INT(told.all - told.by_people, told.of[WS_WHOSE_LOGS].count[WS_CHANGE_ADDED]);
    OK(ws_told_tell(&b, &a, "rw", &told, &error));
    CHECK_STR(told.packages, "-mc");
    CHECK_INT(told.of[WS_WHOSE_SETTINGS].count[WS_CHANGE_ADDED], 2); /* one deleted by it is back, and one of its own */
    ws_snapshot_free(&a);
    ws_snapshot_free(&b);
    ws_tree_close(before);
    ws_tree_close(after);
}

/* What a person deleted is told from what was lost. */
static void what_is_gone_was_deleted_or_lost(void) {
    struct ws_tree *tree[3];
    struct ws_snapshot s[3] = {{0}};
    struct ws_survived survived;
    for (int i = 0; i < 3; i++) {
        OK(ws_tree_create(&tree[i], &error));
        put_text(tree[i], "home/tide/was there", "x");
        put_text(tree[i], "etc/motd", "welcome");
    }
    for (int i = 1; i < 3; i++) {
        put_text(tree[i], "home/tide/a/kept", "1");
        put_text(tree[i], "home/tide/b/again", i == 1 ? "1" : "22");
        if (i == 1) put_text(tree[i], "home/tide/c/deleted", "1");
        if (i == 1) put_text(tree[i], "home/tide/d/lost", "1");
        put_text(tree[i], "home/tide/e/torn", i == 1 ? "1111" : "1100");
        put_text(tree[i], i == 1 ? "var/log/gone" : "var/log/other", "the system's own");
        struct ws_node *c = NULL, *d = NULL;
        OK(ws_tree_folder(tree[i], "home/tide/c", &c, &error));
        OK(ws_tree_folder(tree[i], "home/tide/d", &d, &error));
        c->mtime = i;
        ws_tree_find(tree[i], "home/tide/b/again")->mtime = i;
    }
    ws_tree_drop(tree[1], ws_tree_find(tree[1], "etc/motd")); /* deleted, and back afterwards */
    for (int i = 0; i < 3; i++) snapshot_of(tree[i], &s[i]);
    ws_survived_look(&s[0], &s[1], &s[2], "", &survived);
    CHECK_INT(survived.survive, 7); /* six folders and a file */
    CHECK_INT(survived.again, 1);
    CHECK_INT(survived.deleted, 1);
    CHECK_INT(survived.lost, 3);
    CHECK_STR(survived.example[0], "/etc/motd");
    CHECK_STR(survived.example[1], "/home/tide/d/lost");
    CHECK_STR(survived.example[2], "/home/tide/e/torn");
    for (int i = 0; i < 3; i++) {
        ws_snapshot_free(&s[i]);
        ws_tree_close(tree[i]);
    }
}

/* What people and package managers do, somewhere in what a system shows. */
static void change_something(const char *merged) {
    static const char *const ways[] = {
        "rm -rf '%1$s'",
        "rm -rf '%1$s' && mkdir '%1$s' && echo inside > '%1$s/name'",
        "[ ! -f '%1$s' ] || echo more >> '%1$s'",
        "chmod 0711 '%1$s'; chown 3:4 '%1$s'",
        "mv '%1$s' '%1$s-moved'",
        "[ ! -f '%1$s' ] || ln '%1$s' '%1$s-second'",
        "[ -d '%1$s' ] || { rm -f '%1$s'; ln -s elsewhere '%1$s'; }",
        "[ ! -d '%1$s' ] || head -c 9000 /dev/urandom > '%1$s/new'",
        "[ ! -f '%1$s' ] || python3 -c \"import os; os.setxattr('%1$s', 'user.note', b'tide')\"",
        "[ ! -f '%1$s' ] || python3 -c \"import os; os.setxattr('%1$s', 'user.chart', os.urandom(6000))\"",
        "[ ! -d '%1$s' ] || for i in 1 2 3 4 5 6 7 8 9; do echo $i > '%1$s/'small-$i; ln -sf "
        "a-name-that-is-somewhat-longer-than-sixty-bytes-so-that-it-needs-more-room/$i '%1$s/'link-$i; done",
        "touch -d 2001-01-01 '%1$s'"};
    struct ws_text said = {0}, command = {0};
    char path[600];
    shell(&said, "cd '%s' && find . -mindepth 1 -path ./work -prune -o -print | sort | sed -n %up", merged,
          1 + (unsigned)random_below(45));
    (void)snprintf(path, sizeof path, "%s/%.*s", merged, said.data ? (int)strcspn(said.data, "\n") : 0,
                   said.data ? said.data : "");
    if (!said.length) (void)snprintf(path, sizeof path, "%s/new-%u", merged, (unsigned)random_below(9));
    const char *way = ways[random_below(sizeof ways / sizeof ways[0])];
    for (const char *p = way; *p;) { /* each place is the path's */
        const size_t n = strcspn(p, "%");
        ws_text_add(&command, p, n);
        p += n;
        if (*p) ws_text_puts(&command, path);
        if (*p) p += 4;
    }
    shell(NULL, "(%s) 2>/dev/null", command.data);
    ws_text_free(&said);
    ws_text_free(&command);
}

static struct ws_tree *packed_tree(const char *folder, const char *name) {
    struct ws_source *source = NULL;
    struct ws_tree *tree = NULL;
    const char *path = scratch(name);
    if (shell(NULL, "rm -f '%s'; bsdtar --format=pax --xattrs -cf '%s' -C '%s' .", path, path, folder) != 0 ||
        ws_source_file(path, &source, &error) != WS_OK || ws_archive_read(source, &tree, &error) != WS_OK ||
        ws_tree_own(tree, source, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s: %s", folder, error.what);
    return tree;
}

/* As we see it: the image, and over it what the volume has, its journal replayed. */
static void our_view(const char *volume, const char *lower, struct ws_snapshot *snapshot) {
    struct ws_source *source = NULL;
    struct ws_tree *image = packed_tree(lower, "lower.tar"), *tree = NULL, *changes = NULL;
    OK(ws_source_file(volume, &source, &error));
    OK(ws_ext4_read(source, &tree, NULL, &error));
    OK(ws_tree_cut(tree, ws_tree_find(tree, "rw"), &changes, &error));
    OK(ws_tree_lay_over(image, changes, &error));
    OK(ws_snapshot_take(image, WS_READ_ALL, NULL, snapshot, &error));
    ws_tree_close(image);
    ws_tree_close(changes);
    ws_tree_close(tree);
    ws_source_close(source);
}

static void kernel_view(const char *merged, const char *name, struct ws_snapshot *snapshot) {
    struct ws_tree *tree = packed_tree(merged, name);
    OK(ws_snapshot_take(tree, WS_READ_ALL, NULL, snapshot, &error));
    ws_tree_close(tree);
}

struct views {
    size_t differ;
    char text[600];
};
static void note_difference(void *context, enum ws_change change, const struct ws_shot *before,
                            const struct ws_shot *after) {
    struct views *v = context;
    const size_t n = strlen(v->text);
    if (strcmp((after ? after : before)->path, "/") == 0) return; /* the folder of the changes itself */
    v->differ++;
    (void)snprintf(v->text + n, sizeof v->text - n, "%s %s; ", ws_change_name(change), (after ? after : before)->path);
}

static void same_view(const struct ws_snapshot *ours, const struct ws_snapshot *kernels, const char *making) {
    struct views v = {.differ = 0};
    ws_snapshot_compare(kernels, ours, note_difference, &v);
    if (v.differ)
        fail_at(__FILE__, __LINE__, "%s: %zu differ from what the kernel shows: %s", making, v.differ, v.text);
}

/* As others make ext4. */
static const char *const makings[] = {"-b 4096",
                                      "-O inline_data",
                                      "-I 512",
                                      "-O inline_data,ea_inode -I 1024",
                                      "-b 1024",
                                      "-O bigalloc -C 16384",
                                      "-O ^extents,^64bit",
                                      "-O fast_commit,orphan_file -b 4096",
                                      "-O ea_inode -b 1024 -I 128",
                                      "-O mmp,metadata_csum_seed",
                                      "-O meta_bg,^resize_inode",
                                      "-O encrypt,large_dir"};

/* Random histories by the kernel's overlay on the kernel's ext4, half of them read while it is mounted. */
static void we_see_what_the_kernel_shows(void) {
    if (!may_mount() || !have_program("mkfs.ext4") || !have_program("bsdtar")) {
        skip_test("mounting is not allowed, or a judge is not installed");
        return;
    }
    for (int i = 0, first = (int)random_below(1000); i < cases_of(8); i++) {
        const char *making = makings[(size_t)(first + i / 2) % (sizeof makings / sizeof *makings)];
        char device[64];
        struct ws_snapshot ours[2] = {{0}}, kernels[2] = {{0}};
        struct ws_told told[2];
        const char *volume = scratch("told.img"), *place = scratch("told"), *lower = scratch("told-lower"),
                   *merged = scratch("told-merged"), *copy[2] = {scratch("told-a.img"), scratch("told-b.img")};
        CHECK_INT(shell(NULL,
                        "rm -rf '%s' && mkdir -p '%s/etc/deep' '%s/home/tide/a' '%s/usr/bin' '%s' && cd '%s' && for i "
                        "in $(seq 1 12); do "
                        "echo $i >etc/$i; echo $i >home/tide/a/$i; head -c $((i * 700)) /dev/urandom >usr/bin/$i; "
                        "done; ln -s 3 etc/link; "
                        "truncate -s 48M '%s' && mkfs.ext4 -qF %s '%s'",
                        lower, lower, lower, lower, merged, lower, volume, making, volume),
                  0);
        if (!loop_attach(volume, device)) return;
        if (!mount_at(device, "ext4", "", place)) return;
        CHECK_INT(shell(NULL,
                        "mkdir -p '%s/rw' '%s/work' && mount -t overlay overlay -o "
                        "lowerdir='%s',upperdir='%s/rw',workdir='%s/work' '%s'",
                        place, place, lower, place, place, merged),
                  0);
        for (int s = 0; s < 2; s++) {
            for (uint64_t n = 3 + random_below(25); n; n--) change_something(merged);
            kernel_view(merged, s ? "b.tar" : "a.tar", &kernels[s]);
            CHECK_INT(shell(NULL, "sync; cp --sparse=always '%s' '%s'", volume, copy[s]), 0);
        }
        unmount(merged);
        unmount(place);
        loop_detach(device);
        if (i % 2) CHECK_INT(shell(NULL, "cp --sparse=always '%s' '%s'", volume, copy[1]), 0); /* and shut down */
        for (int s = 0; s < 2; s++) our_view(copy[s], lower, &ours[s]);
        for (int s = 0; s < 2; s++) same_view(&ours[s], &kernels[s], making);
        OK(ws_told_tell(&ours[0], &ours[1], "", &told[0], &error));
        OK(ws_told_tell(&kernels[0], &kernels[1], "", &told[1], &error));
        CHECK_INT(told[0].all, told[1].all);
        for (unsigned w = 0; w < WS_WHOSES; w++)
            for (unsigned c = 0; c < WS_CHANGES; c++) CHECK_INT(told[0].of[w].count[c], told[1].of[w].count[c]);
        for (int s = 0; s < 2; s++) {
            ws_snapshot_free(&ours[s]);
            ws_snapshot_free(&kernels[s]);
        }
    }
}

static const char bench_text[] =
    "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"seed\": 5, \"drives\": [{\"name\": \"Gorse 32\", "
    "\"serial\": "
    "\"GP-0032-A1\", \"bus\": \"usb\", \"size_bytes\": 268435456, \"write_bytes_s\": 20000000, \"read_bytes_s\": "
    "100000000}], \"pcs\": [{\"name\": \"hut\", \"firmware\": \"bios\"}, {\"name\": "
    "\"launch\", \"firmware\": \"uefi\"}]}";

struct bed {
    struct ws_bench *bench;
    struct ws_port *port;
    struct demo_image image;
    struct planned plan;
    struct ws_build *build;
    struct ws_drive_facts facts;
    int64_t clock; /* of the PC, for the next session; 0: right */
};

static bool make_bed(struct bed *b, const char *family, enum ws_kind kind) {
    struct demo_params p = {.family = family, .table = DEMO_MBR};
    struct ws_drive *d = NULL;
    struct ws_build_result result;
    char folder[32];
    static int n;
    memset(b, 0, sizeof *b);
    memset(&error, 0, sizeof error);
    (void)snprintf(folder, sizeof folder, "bench-%d", n++);
    b->bench = malloc(sizeof *b->bench);
    bool good = ws_bench_parse(bench_text, strlen(bench_text), b->bench, &error) == WS_OK &&
                ws_bench_create(b->bench, scratch(folder), &error) == WS_OK &&
                ws_sim_port(b->bench, &b->port, &error) == WS_OK && demo_image_make(&p, &b->image, &error) == WS_OK;
    if (good) {
        planned_begin(&b->plan, kind, &ws_bench_drive(b->bench, "Gorse 32")->facts);
        struct ws_build_options o = {.confirm = b->plan.setting.drive.name};
        good = planned_prepare(&b->plan, b->image.source, &b->build) == WS_OK &&
               b->port->ops->open(b->port, b->plan.setting.drive.name, WS_OPEN_WRITE, &d, &error) == WS_OK &&
               ws_build_carry_out(b->build, b->port, d, &o, &result, &error) == WS_OK &&
               d->ops->describe(d, &b->facts, &error) == WS_OK;
        if (d) d->ops->close(d);
    }
    if (!good) fail_at(__FILE__, __LINE__, "%s %s", error.where, error.what);
    return good;
}

static void free_bed(struct bed *b) {
    ws_build_close(b->build);
    demo_image_free(&b->image);
    b->port->ops->close(b->port);
    ws_bench_close(b->bench);
}

/* A session on a PC, a line each; then it is shut down, or its power cut. */
static void session(struct bed *b, const char *on, const char *const line[], bool cut) {
    struct ws_pc *pc = NULL;
    OK(ws_sim_pc(b->bench, on, &pc, &error));
    OK(pc->ops->plug(pc, b->plan.setting.drive.name, &error));
    OK(pc->ops->set_clock(pc, b->clock, &error));
    OK(pc->ops->power_on(pc, &error));
    for (; *line; line++) {
        OK(pc->ops->console_write(pc, *line, &error));
        OK(pc->ops->console_write(pc, "\n", &error));
    }
    if (!cut) OK(pc->ops->console_write(pc, "poweroff\n", &error));
    OK(pc->ops->power_off(pc, !cut, &error));
    pc->ops->close(pc);
    b->bench->clock_s += 300;
}

/* What comes back is looked at; the proof has been a document meanwhile. */
static enum ws_status look(struct bed *b, struct ws_proof *proof, bool begins, bool missing) {
    struct ws_drive *d = NULL;
    struct ws_source *source = NULL;
    struct ws_text text = {0}, again = {0};
    const struct ws_return how = {.pc = "hut 3", .was_seen_missing = missing};
    const int64_t now = b->port->ops->wall_clock(b->port);
    memset(&error, 0, sizeof error);
    enum ws_status status = b->port->ops->open(b->port, b->plan.setting.drive.name, WS_OPEN_READ, &d, &error);
    if (status == WS_OK) status = ws_source_drive(d, &source, &error);
    if (status == WS_OK && !begins && ws_proof_write(proof, true, &text, &error) == WS_OK) {
        ws_proof_free(proof);
        status = ws_proof_read(text.data, text.length, proof, &error);
        if (status != WS_OK || ws_proof_write(proof, true, &again, &error) != WS_OK ||
            strcmp(text.data, again.data) != 0)
            fail_at(__FILE__, __LINE__, "a proof that is read is another: %s", error.what);
    }
    if (status == WS_OK)
        status = begins ? ws_proof_begin(source, &b->facts, NULL, now, proof, &error)
                        : ws_proof_return(proof, source, &b->facts, &how, now, &error);
    ws_source_close(source);
    if (d) d->ops->close(d);
    ws_text_free(&text);
    ws_text_free(&again);
    return status;
}

static const char *const nothing[] = {NULL};
static const char *const work[] = {
    "mkdir /home/tide", "echo low water > /home/tide/note", "rm /etc/motd", "echo x > /var/log/messages", "sync", NULL};
static const char *const more[] = {"echo high water > /home/tide/second", "sync", NULL};
static const char *const undo[] = {"rm /home/tide/note", "sync", NULL};

static void a_proof_on_ones_own_pc_goes_by_the_drive(void) {
    static const char *const families[] = {"live-boot", "casper", "dracut"};
    struct ws_proof *p = calloc(1, sizeof *p);
    for (size_t i = 0; i < 3; i++) {
        struct bed b;
        if (!make_bed(&b, families[i], WS_KIND_LIVE)) return;
        OK(look(&b, p, true, false));
        CHECK_INT(p->verdict, WS_VERDICT_OPEN);
        OK(look(&b, p, false, false)); /* it was not started at all */
        CHECK_INT(p->verdict, WS_VERDICT_NO_START);
        CHECK_INT(p->cause, WS_FORGETS_UNUSED);
        CHECK_INT(p->round[0].link[WS_FORGETS_PARAMETER], WS_LINK_HOLDS);
        session(&b, "hut", work, false);
        OK(look(&b, p, false, false));
        CHECK_INT(p->rounds, 1); /* the look too many does not count */
        CHECK_INT(p->verdict, WS_VERDICT_OPEN);
        CHECK_INT(p->round[0].told.of[WS_WHOSE_PEOPLE].count[WS_CHANGE_ADDED], 1);
        CHECK_INT(p->round[0].told.of[WS_WHOSE_SETTINGS].count[WS_CHANGE_GONE], 1);
        CHECK(p->round[0].told.by_people == 2 && p->round[0].told.all >= 3);
        CHECK_INT(p->round[0].shown, 0);
        session(&b, "launch", more, true);
        OK(look(&b, p, false, false));
        CHECK_INT(p->verdict, WS_VERDICT_KEPT);
        CHECK_INT(p->round[1].shown, WS_ROUND_CUT);
        CHECK_INT(p->round[1].survived.survive, 2);
        session(&b, "launch", nothing, false);
        OK(look(&b, p, false, false));
        CHECK_INT(p->round[1].verdict, WS_VERDICT_KEPT);
        CHECK_INT(p->round[2].shown, WS_ROUND_IDLE);
        b.clock = 1000000000;
        session(&b, "hut", undo, false);
        OK(look(&b, p, false, false));
        CHECK_INT(p->round[2].verdict, WS_VERDICT_KEPT);
        CHECK_INT(p->round[3].shown, WS_ROUND_CLOCK);
        CHECK_INT(p->round[3].survived.deleted, 1); /* by hand, and that is no loss */
        CHECK_INT(p->verdict, WS_VERDICT_KEPT);
        b.clock = 0;
        session(&b, "hut", nothing, false);
        OK(look(&b, p, false, true)); /* and on the screen it was not there */
        CHECK_INT(p->verdict, WS_VERDICT_LOST);
        CHECK_INT(p->cause, WS_FORGETS_UNSEEN);
        ws_proof_free(p);
        free_bed(&b);
    }
    free(p);
}

static uint64_t least(uint64_t a, uint64_t b) { return a < b ? a : b; }

/* Room is taken until little is left: a simulated session takes so much at once. */
static void fill(struct bed *b, struct ws_proof *p) {
    for (int i = 0; p->seen.free_bytes > 9 << 20; i++) {
        char line[80];
        const char *const lines[] = {line, "sync", NULL};
        (void)snprintf(line, sizeof line, "fallocate -l %llu /srv/%d",
                       (unsigned long long)least(p->seen.free_bytes - (8 << 20), 8000000), i);
        session(b, "hut", lines, false);
        if (look(b, p, false, false) != WS_OK) fail_at(__FILE__, __LINE__, "%s", error.what);
        if (i == WS_PROOF_ROUNDS_MOST - 1) break;
    }
}

/* Every kind of round, on two PCs by turns; and one on a PC of one's own behind them. */
static void rounds_of_every_kind_are_carried_out(void) {
    static const unsigned kinds[] = {0, WS_ROUND_CUT, WS_ROUND_FULL, 0, WS_ROUND_IDLE, WS_ROUND_IDLE, WS_ROUND_CLOCK};
    enum { ROUNDS = sizeof kinds / sizeof kinds[0] };
    struct ws_proof *p = calloc(1, sizeof *p);
    struct ws_pc *pc[2] = {NULL};
    struct bed b;
    if (!make_bed(&b, "live-boot", WS_KIND_LIVE)) return;
    const struct ws_proof_options o = {.confirm = b.plan.setting.drive.name, .round = kinds, .rounds = ROUNDS};
    for (int i = 0; i < 2; i++) {
        OK(ws_sim_pc(b.bench, i ? "launch" : "hut", &pc[i], &error));
        OK(pc[i]->ops->plug(pc[i], b.plan.setting.drive.name, &error));
    }
    OK(look(&b, p, true, false));
    fill(&b, p);
    ws_proof_free(p);
    memset(p, 0, sizeof *p);
    OK(ws_prove(b.port, pc, 2, b.plan.setting.drive.name, &o, p, &error));
    if (p->verdict != WS_VERDICT_KEPT) fail_at(__FILE__, __LINE__, "%s", p->text);
    CHECK_STR(p->not_tried, "");
    CHECK_INT(p->rounds, ROUNDS);
    CHECK_INT(p->starts, ROUNDS + 1);
    for (size_t i = 0; i < p->rounds; i++) {
        CHECK_INT(p->round[i].verdict, WS_VERDICT_KEPT);
        CHECK_STR(p->round[i].pc, i % 2 ? "launch" : "hut");
        CHECK_INT(p->round[i].shown & ~(unsigned)WS_ROUND_CUT, kinds[i] & ~(unsigned)WS_ROUND_CUT);
        CHECK_INT(p->round[i].link[WS_FORGETS_PARAMETER], WS_LINK_HOLDS);
        CHECK_INT(p->round[i].after.mounts, p->round[i].before.mounts + 1);
    }
    for (int i = 0; i < 2; i++) pc[i]->ops->close(pc[i]);
    session(&b, "hut", work, false);
    OK(look(&b, p, false, false));
    CHECK_INT(p->verdict, WS_VERDICT_KEPT);
    CHECK_INT(p->round[ROUNDS].verdict, WS_VERDICT_OPEN);
    ws_proof_free(p);
    free_bed(&b);
    free(p);
}

static void what_does_not_remember_is_not_carried_about(void) {
    struct ws_proof *p = calloc(1, sizeof *p);
    struct bed b;
    if (!make_bed(&b, "live-boot", WS_KIND_REPLICA)) return;
    FAILS(look(&b, p, true, false), WS_E_DIFFERENT);
    CHECK_INT(p->cause, WS_FORGETS_PARAMETER);
    CHECK_HAS(p->text, "it will forget");
    ws_proof_free(p);
    free_bed(&b);
    free(p);
}

/* Documents with slips and lies in them: read or refused, and never more than that. */
static void hostile_documents_are_refused(void) {
    struct ws_proof *p = calloc(1, sizeof *p), *q = calloc(1, sizeof *q);
    struct ws_text text = {0}, shorter = {0};
    struct bed b;
    if (!make_bed(&b, "casper", WS_KIND_LIVE)) return;
    OK(look(&b, p, true, false));
    session(&b, "hut", work, false);
    OK(look(&b, p, false, false));
    OK(ws_proof_write(p, true, &text, &error));
    OK(ws_proof_write(p, false, &shorter, &error));
    FAILS(ws_proof_read(shorter.data, shorter.length, q, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "no snapshots");
    for (int i = 0; i < cases_of(400); i++) {
        const size_t at = (size_t)random_below(text.length), n = 1 + (size_t)random_below(3);
        char was[4];
        memcpy(was, text.data + at, n < text.length - at ? n : 1);
        for (size_t k = 0; k < (n < text.length - at ? n : 1); k++)
            text.data[at + k] = "0123456789\"{}[],:-azAZ/+="[random_below(25)];
        if (ws_proof_read(text.data, text.length, q, &error) == WS_OK) ws_proof_free(q);
        memcpy(text.data + at, was, n < text.length - at ? n : 1);
    }
    ws_text_free(&text);
    ws_text_free(&shorter);
    ws_proof_free(p);
    free_bed(&b);
    free(p);
    free(q);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"snapshots are kept as lines", snapshots_are_kept_as_lines},
        {"whose doing it is goes by place", whose_doing_it_is_goes_by_place},
        {"changes of an overlay are told as the system sees them",
         changes_of_an_overlay_are_told_as_the_system_sees_them},
        {"what is gone was deleted or lost", what_is_gone_was_deleted_or_lost},
        {"we see what the kernel shows", we_see_what_the_kernel_shows},
        {"a proof on one's own PC goes by the drive", a_proof_on_ones_own_pc_goes_by_the_drive},
        {"rounds of every kind are carried out", rounds_of_every_kind_are_carried_out},
        {"what does not remember is not carried about", what_does_not_remember_is_not_carried_about},
        {"hostile documents are refused", hostile_documents_are_refused},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
