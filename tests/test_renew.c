/* test_renew.c — full systems renewed in place: what is its owner's stays, and a cut loses nothing. */
#include "tests/roots.h"

#include "base/bytes.h"

#include <unistd.h>

enum { MIB = 1 << 20, DRIVE = 290 * MIB, ROOT_AT = 65 * MIB };

/* A drive with a full system on it, and one of its renewals. */
struct bed {
    struct memory_drive *drive;
    struct ws_source *now;
    struct planned p;
    struct volume image;
    struct ws_build *build;
};

static void text_file(struct ws_tree *tree, const char *path, const char *text, uint32_t uid, uint16_t mode) {
    struct ws_node *n = NULL;
    if (ws_tree_put(tree, path, text, strlen(text), &n, &error) != WS_OK) abort();
    n->uid = n->gid = uid;
    n->mode = mode;
}

/* A root that accounts can be made in; `version` is all that differs. */
static struct ws_tree *plain_root(const char *version) {
    struct ws_tree *tree = NULL;
    char release[200];
    if (ws_tree_create(&tree, &error) != WS_OK) abort();
    snprintf(release, sizeof release, "PRETTY_NAME=\"Curlew %s\"\nID=curlew\nVERSION_ID=%s\n", version, version);
    put_text(tree, "etc/os-release", release);
    put_text(tree, "etc/passwd", "root:x:0:0::/root:/bin/sh\nmail:x:8:8::/var/mail:/bin/sh\n");
    put_text(tree, "etc/shadow", "root:*:1::::::\nmail:*:1::::::\n");
    put_text(tree, "etc/group", "root:x:0:\nmail:x:8:\naudio:x:29:\nsudo:x:27:\n");
    put_text(tree, "etc/machine-id", "");
    put_text(tree, "etc/ssh/sshd_config", "Port 22\n");
    put_program(tree, "bin/sh", 62);
    put_program(tree, "bin/bash", 62);
    put_kernel(tree, version);
    return tree;
}

/* The tree's own system at home on the drive. */
static bool make_drive_on(struct bed *b, struct ws_tree *tree, enum ws_table_wish table) {
    struct ws_build *build = NULL;
    struct volume v;
    memset(b, 0, sizeof *b);
    b->drive = memory_drive(DRIVE, 512);
    memset(b->drive->bytes, 0, DRIVE); /* so that it is saved fast */
    planned_begin(&b->p, WS_KIND_SYSTEM, &b->drive->facts);
    strcpy(b->p.request.kernel_options, "quiet");
    b->p.request.menu_seconds = 2;
    b->p.request.table = table;
    if (table == WS_TABLE_WISH_GPT) { /* and other volumes, which stay as they are */
        ws_request_want(&b->p.request, WS_ROLE_SWAP)->size = ws_size_of(MIB);
        ws_request_want(&b->p.request, WS_ROLE_DATA)->size = ws_size_of(64 * MIB);
    }
    b->p.request.owner.internal_disks = WS_INTERNAL_OPEN;
    struct ws_source *key = NULL; /* a host's key that a root brings is everybody's, and goes */
    struct ws_addition *a = &b->p.request.addition[b->p.request.additions++];
    *a = (struct ws_addition){.what = WS_ADDED_FILE, .to = "/etc/ssh/ssh_host_ed25519_key", .file.path = "key"};
    if (ws_source_memory("key of hut-3\n", 13, &key, &error) != WS_OK) abort();
    b->p.setting.input[WS_INPUTS] = key;
    if (!make_volume(tree, 100 * MIB, &v) || planned_prepare(&b->p, v.source, &build) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s", error.what);
        return false;
    }
    memory_drive_fill(b->drive, ws_build_layout(build));
    ws_build_close(build);
    ws_source_close(key);
    free_volume(&v);
    return ws_source_drive(&b->drive->drive, &b->now, &error) == WS_OK;
}

static bool make_drive(struct bed *b, struct ws_tree *tree) { return make_drive_on(b, tree, WS_TABLE_USUAL); }

static enum ws_status renew(struct bed *b, struct ws_tree *tree, const char *const *keep) {
    ws_build_close(b->build);
    free_volume(&b->image);
    b->build = NULL;
    planned_begin(&b->p, WS_KIND_RENEWAL, &b->drive->facts);
    for (size_t i = 0; keep && keep[i]; i++) strcpy(b->p.request.keep[b->p.request.keeps++].path, keep[i]);
    b->p.setting.now = b->now;
    if (!make_volume(tree, 100 * MIB, &b->image)) return error.status;
    return planned_prepare(&b->p, b->image.source, &b->build);
}

static enum ws_status carry_out(struct bed *b) {
    struct ws_build_options o = {.confirm = b->drive->facts.short_name};
    struct ws_build_result result;
    return ws_build_carry_out(b->build, plain_port(), &b->drive->drive, &o, &result, &error);
}

static void free_bed(struct bed *b) {
    ws_build_close(b->build);
    free_volume(&b->image);
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

/* The root as it stands on the drive, judged by the checker. */
static struct ws_tree *root_of(struct bed *b, struct ws_source **slice) {
    struct ws_tree *tree = NULL;
    struct ws_text said = {0};
    const char *path = scratch("root.img");
    if (ws_source_slice(b->now, ROOT_AT, DRIVE - ROOT_AT, slice, &error) != WS_OK) abort();
    if (ws_ext4_read(*slice, &tree, NULL, &error) != WS_OK) fail_at(__FILE__, __LINE__, "%s", error.what);
    save_source(*slice, path);
    if (have_program("e2fsck") && shell(&said, "e2fsck -fn %s", path) != 0)
        fail_at(__FILE__, __LINE__, "%s", said.data);
    ws_text_free(&said);
    return tree;
}

static bool says(const struct ws_tree *tree, const char *path, const char *part) {
    const struct ws_node *n = ws_system_find(tree, path);
    char *bytes = NULL;
    size_t length;
    bool found =
        n && n->content && ws_source_load(n->content, MIB, &bytes, &length, NULL) == WS_OK && strstr(bytes, part);
    if (!found) fprintf(stderr, "    %s: %s\n", path, bytes ? bytes : "is not there");
    free(bytes);
    return found;
}

static const struct ws_carried *row(const struct bed *b, enum ws_fate fate, const char *path) {
    size_t count;
    const struct ws_carried *r = ws_plan_carried(b->p.plan, &count);
    for (size_t i = 0; i < count; i++)
        if (r[i].fate == fate && strcmp(r[i].path, path) == 0) return &r[i];
    return NULL;
}

/* The plan as its document has it. */
static struct ws_plan *kept_plan(const struct bed *b) {
    struct ws_text document = {0};
    struct ws_plan *read = NULL;
    if (ws_plan_to_json(b->p.plan, &document, &error) != WS_OK ||
        ws_plan_from_json(document.data, document.length, &read, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s", error.what);
    ws_text_free(&document);
    return read;
}

static void what_is_its_owners_is_carried_over(void) {
    struct ws_tree *was = plain_root("1"), *newer = plain_root("2"), *seen;
    struct ws_source *slice = NULL;
    struct ws_node *n = NULL;
    struct bed b;
    static const char *const keep[] = {"/opt/charts", "/opt/none", NULL};
    put_text(was, "etc/passwd",
             "root:x:0:0::/root:/bin/sh\nmail:x:8:8::/var/mail:/bin/sh\nspool:x:70:70::/:/bin/sh\n"
             "tide:x:1000:1000:Tide:/home/tide:/bin/zsh\ngull:x:1001:1001::/data/gull:/bin/bash\n");
    put_text(was, "etc/shadow", "root:$y$r:1::::::\nmail:*:1::::::\ntide:$6$tide:1::::::\ngull:$6$gull:1::::::\n");
    put_text(was, "etc/group",
             "root:x:0:\nmail:x:8:tide\naudio:x:29:gull,tide\nsudo:x:27:tide\nspool:x:70:tide\n"
             "tide:x:1000:\ngull:x:1001:\nsurvey:x:1500:tide,gull\n");
    text_file(was, "home/tide/notes", "low water at six\n", 1000, 0600);
    text_file(was, "data/gull/mine", "mine\n", 1001, 0640);
    n = ws_tree_find(was, "home/tide/notes");
    OK(ws_tree_set_xattr(was, n, "user.note", "x", 1, &error));
    OK(ws_tree_add(was, n->parent, "same", WS_NODE_FILE, &n, &error));
    n->same_as = ws_tree_find(was, "home/tide/notes");
    put_link(was, "home/tide/link", "../gull");
    text_file(was, "var/mail/tide", "letter\n", 8, 0660);
    text_file(was, "opt/charts/coast", "chart\n", 70, 0644);
    put_text(was, "etc/hostname", "hut-3\n");
    put_text(was, "etc/netplan/hut.yaml", "network: {}\n");
    put_link(was, "etc/localtime", "/usr/share/zoneinfo/Atlantic/Faroe");
    put_text(was, "var/lib/tides/db", "data\n");
    put_text(was, "var/cache/much", "cached\n");
    /* the newer root has other numbers, an account in the way, and a file where a folder was */
    put_text(newer, "etc/passwd",
             "root:x:0:0::/root:/bin/sh\nmail:x:12:12::/var/mail:/bin/sh\nlive:x:1000:1000::/home/live:/bin/sh\n");
    put_text(newer, "etc/group", "root:x:0:\nmail:x:12:\naudio:x:63:\nsudo:x:27:\nlive:x:1000:\n");
    put_text(newer, "opt/charts", "no folder\n");
    put_text(newer, "home/live/welcome", "hello\n");
    if (!make_drive(&b, was)) return;
    b.drive->bytes[ROOT_AT + 1024 + 0x178] = 77; /* what was ever written to it, in KiB */
    uint8_t super[1024];
    memcpy(super, b.drive->bytes + ROOT_AT + 1024, 1024);
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    memcpy(b.drive->bytes + ROOT_AT + 1024, super, 1024);
    OK(renew(&b, newer, keep));
    CHECK(row(&b, WS_FATE_KEPT, "/home/tide") && row(&b, WS_FATE_KEPT, "/home/tide")->files == 2);
    CHECK(row(&b, WS_FATE_KEPT, "/data/gull") && row(&b, WS_FATE_KEPT, "/opt/charts"));
    CHECK(row(&b, WS_FATE_KEPT, "/etc/netplan") && row(&b, WS_FATE_KEPT, "/etc/ssh"));
    CHECK(row(&b, WS_FATE_LOST, "/var/lib/tides") && !row(&b, WS_FATE_LOST, "/var/cache"));
    CHECK_HAS(row(&b, WS_FATE_KEPT, "/etc/passwd")->what, "tide, gull");
    struct ws_plan *read = kept_plan(&b);
    struct ws_build *again = NULL;
    const struct ws_source *input[WS_INPUTS_MOST] = {b.image.source};
    OK(ws_build_again(read, input, b.now, NULL, &again, &error));
    ws_build_close(again);
    OK(carry_out(&b));
    FAILS(ws_build_again(read, input, b.now, NULL, &again, &error),
          WS_E_FORMAT); /* it is done: the drive is another now */
    ws_plan_free(read);
    seen = root_of(&b, &slice);
    CHECK(says(seen, "/etc/os-release", "Curlew 2") && says(seen, "/etc/hostname", "hut-3"));
    CHECK(says(seen, "/home/tide/notes", "low water") && says(seen, "/data/gull/mine", "mine"));
    CHECK(says(seen, "/var/mail/tide", "letter") && says(seen, "/opt/charts/coast", "chart"));
    CHECK(says(seen, "/etc/netplan/hut.yaml", "network") && says(seen, "/etc/ssh/ssh_host_ed25519_key", "hut-3"));
    CHECK(says(seen, "/etc/ssh/sshd_config", "Port 22"));
    CHECK(says(seen, "/etc/passwd", "tide:x:1000:1000:Tide:/home/tide:/bin/bash\n")); /* there is no zsh */
    CHECK(says(seen, "/etc/passwd", "mail:x:12:") && says(seen, "/etc/passwd", "gull:x:1001:"));
    CHECK(says(seen, "/etc/shadow", "root:$y$r:") && says(seen, "/etc/shadow", "tide:$6$tide:"));
    CHECK(says(seen, "/etc/group", "mail:x:12:tide\n") && says(seen, "/etc/group", "audio:x:63:gull,tide\n"));
    CHECK(says(seen, "/etc/group", "survey:x:1500:tide,gull\n") && says(seen, "/etc/group", "sudo:x:27:tide\n"));
    CHECK(says(seen, "/etc/start-entries.conf", " quiet\nwait 2\n"));
    n = ws_system_find(seen, "/etc/passwd");
    char *passwd = NULL;
    size_t length;
    OK(ws_source_load(n->content, MIB, &passwd, &length, &error));
    CHECK(!strstr(passwd, "live:"));
    free(passwd);
    n = ws_tree_find(seen, "home/tide/notes");
    const struct ws_node *same = ws_tree_find(seen, "home/tide/same");
    CHECK(n && same && n->uid == 1000 && n->mode == 0600 && (same->same_as == n || n->same_as == same));
    CHECK((n->same_as ? same : n)->xattrs != NULL);
    CHECK_INT(ws_tree_find(seen, "var/mail/tide")->uid, 12); /* the same account's, whatever its number */
    CHECK_STR(ws_tree_find(seen, "home/tide/link")->target, "../gull");
    CHECK_STR(ws_tree_find(seen, "etc/localtime")->target, "/usr/share/zoneinfo/Atlantic/Faroe");
    CHECK(!ws_tree_find(seen, "var/lib/tides"));
    CHECK(b.drive->bytes[ROOT_AT + 1024 + 0x178] > 77 ||
          b.drive->bytes[ROOT_AT + 1024 + 0x179]); /* and what this wrote */
    ws_tree_close(seen);
    ws_source_close(slice);
    free_bed(&b);
    ws_tree_close(was);
    ws_tree_close(newer);
}

/* Three databases, told in their own ways: what was asked for, what is theirs, what was changed. */
static void packages_are_told_from_what_is_nobodys(void) {
    static const struct {
        const char *path[3], *text[3], *newer;
    } kinds[] = {
        {{"var/lib/dpkg/status", "var/lib/apt/extended_states", "var/lib/dpkg/info/charts.list"},
         {"Package: sh\nStatus: install ok installed\n\nPackage: charts\nStatus: install ok installed\nConffiles:\n"
          " /etc/charts.conf 00000000000000000000000000000000\n /etc/tides.conf b026324c6904b2a9cb4b88d6d61c81d1\n\n"
          "Package: libchart\nStatus: install ok installed\n\nPackage: gone\nStatus: deinstall ok config-files\n",
          "Package: libchart\nArchitecture: amd64\nAuto-Installed: 1\n",
          "/.\n/usr\n/usr/bin\n/usr/bin/charts\n/etc/charts.conf\n/etc/tides.conf\n"},
         "Package: sh\nStatus: install ok installed\n"},
        {{"lib/apk/db/installed", "etc/apk/world", "lib/apk/db/lock"},
         {"P:charts\nF:usr/bin\nR:charts\nZ:Q1\nF:etc\nR:tides.conf\nR:charts.conf\n", "sh\ncharts\n", ""},
         "P:sh\n"},
        {{"var/lib/pacman/local/charts-1/desc", "var/lib/pacman/local/charts-1/files",
          "var/lib/pacman/local/libchart-1/desc"},
         {"%NAME%\ncharts\n\n%VERSION%\n1\n",
          "%FILES%\nusr/\nusr/bin/charts\netc/charts.conf\netc/tides.conf\n\n%BACKUP%\n"
          "etc/charts.conf\t00000000000000000000000000000000\netc/tides.conf\tb026324c6904b2a9cb4b88d6d61c81d1\n",
          "%NAME%\nlibchart\n\n%REASON%\n1\n"},
         NULL},
    };
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        struct ws_tree *was = plain_root("1"), *newer = plain_root("2");
        struct ws_source *slice = NULL;
        struct bed b;
        for (int k = 0; k < 3; k++) put_text(was, kinds[i].path[k], kinds[i].text[k]);
        if (kinds[i].newer) put_text(newer, kinds[i].path[0], kinds[i].newer);
        else put_text(newer, "var/lib/pacman/local/sh-1/desc", "%NAME%\nsh\n");
        if (i == 1) put_text(newer, "etc/apk/world", "sh\n");
        put_text(was, "usr/bin/charts", "program\n");
        put_text(was, "usr/bin/by-hand", "nobody's\n");
        put_text(was, "etc/tides.conf", "1\n");
        put_text(was, "etc/charts.conf", "changed\n");
        put_text(was, "var/lib/tides/db", "what was gathered\n"); /* the newer root brings one of its own */
        put_text(newer, "var/lib/tides/db", "");
        if (!make_drive(&b, was)) return;
        OK(renew(&b, newer, NULL));
        const struct ws_carried *list = row(&b, WS_FATE_KEPT, "/root/added-packages");
        CHECK(list && list->files == 1 && strstr(list->what, "charts"));
        CHECK(row(&b, WS_FATE_LOST, "/usr/bin/by-hand"));
        CHECK(row(&b, WS_FATE_REPLACED, "/var/lib/tides"));
        CHECK(!row(&b, WS_FATE_LOST, "/usr/bin/charts") && !row(&b, WS_FATE_LOST, "/etc/tides.conf"));
        CHECK((row(&b, WS_FATE_LOST, "/etc/charts.conf") != NULL) == (i != 1)); /* apk keeps other digests */
        OK(carry_out(&b));
        struct ws_tree *seen = root_of(&b, &slice);
        CHECK(says(seen, "/root/added-packages", "\ncharts\n"));
        ws_tree_close(seen);
        ws_source_close(slice);
        free_bed(&b);
        ws_tree_close(was);
        ws_tree_close(newer);
    }
}

/* The newer root is the older one with some files gone, some changed and some come; a random folder is kept. */
static void change_root(struct ws_tree *tree) {
    size_t number = 0;
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        struct ws_source *content = NULL;
        uint8_t bytes[9000];
        if (n->kind != WS_NODE_FILE || n->same_as || !n->content || strncmp(n->name, "passwd", 6) == 0) continue;
        if (n->parent && (strcmp(n->parent->name, "boot") == 0 || strcmp(n->parent->name, "etc") == 0)) continue;
        if (++number % 4) continue;
        random_bytes(bytes, sizeof bytes);
        if (ws_source_memory(bytes, random_below(sizeof bytes), &content, &error) != WS_OK) abort();
        if (ws_tree_own(tree, content, &error) != WS_OK) abort();
        n->content = content;
    }
}

static void compare_below(const struct ws_tree *seen, const struct ws_tree *wanted, const char *keep, bool inside) {
    char path[1024];
    size_t length = strlen(keep);
    for (struct ws_node *n = ws_tree_root(wanted); n; n = ws_tree_next(n)) {
        ws_node_path(n, path, sizeof path);
        bool below = strncmp(path, keep, length) == 0 && (path[length] == '/' || !path[length]);
        const struct ws_node *s = ws_tree_find(seen, path);
        if (below != inside || !n->parent || strncmp(path, "/etc", 4) == 0 || strncmp(path, "/boot", 5) == 0) continue;
        if (strcmp(path, "/usr") == 0 || strcmp(path, "/usr/local") == 0) continue;
        if (!s) {
            fail_at(__FILE__, __LINE__, "%s is not there", path);
            continue;
        }
        if (s->same_as) s = s->same_as;
        if (n->same_as) continue;
        uint64_t size = ws_node_size(n);
        bool same = s->kind == n->kind && s->mode == n->mode && s->uid == n->uid && s->mtime == n->mtime &&
                    ws_node_size(s) == size;
        char *a = NULL, *b = NULL;
        size_t unused;
        if (same && n->kind == WS_NODE_FILE && n->content)
            same = ws_source_load(n->content, 64 * MIB, &a, &unused, &error) == WS_OK &&
                   ws_source_load(s->content, 64 * MIB, &b, &unused, &error) == WS_OK && memcmp(a, b, size) == 0;
        if (!same) fail_at(__FILE__, __LINE__, "%s is another", path);
        free(a);
        free(b);
    }
}

static void random_roots_are_renewed(void) {
    for (int i = 0; i < cases_of(10); i++) {
        struct ws_tree *was = random_root(), *newer = random_root();
        struct ws_source *slice = NULL;
        struct bed b;
        char keep[1024] = "/none";
        const char *keeps[] = {keep, NULL};
        size_t folders = 0;
        for (struct ws_node *n = ws_tree_root(was)->first; n; n = n->next)
            if (n->kind == WS_NODE_FOLDER && !strstr("etc bin boot", n->name) && random_below(++folders) == 0)
                ws_node_path(n, keep, sizeof keep);
        if (!ws_is_visible(keep) || strlen(keep) > 200) strcpy(keep, "/none");
        if (i % 2) { /* the same root, changed here and there */
            ws_tree_close(newer);
            struct volume v;
            CHECK(make_volume(was, 100 * MIB, &v));
            OK(ws_ext4_read(v.source, &newer, NULL, &error));
            change_root(newer);
            if (!make_drive(&b, was)) return;
            OK(renew(&b, newer, keeps));
            CHECK(ws_plan_facts(b.p.plan)->write_bytes < 60 * MIB);
            OK(carry_out(&b));
            struct ws_tree *seen = root_of(&b, &slice);
            compare_below(seen, was, keep, true);
            compare_below(seen, newer, keep, false);
            ws_tree_close(seen);
            ws_source_close(slice);
            ws_tree_close(newer);
            free_volume(&v);
        } else {
            if (!make_drive_on(&b, was, WS_TABLE_WISH_GPT)) return;
            OK(renew(&b, newer, keeps));
            uint64_t end = ROOT_AT + VOLUME(b.p, SYSTEM)->size;
            uint8_t *behind = malloc(DRIVE - end);
            memcpy(behind, b.drive->bytes + end, DRIVE - end);
            OK(carry_out(&b));
            CHECK(memcmp(behind, b.drive->bytes + end, DRIVE - end - 34 * 512) == 0);
            free(behind);
            struct ws_findings table = {0};
            OK(ws_table_check(b.now, 512, &table, &error));
            CHECK(ws_findings_worst(&table) < WS_FAULT);
            ws_findings_free(&table);
            struct ws_tree *seen = root_of(&b, &slice);
            compare_below(seen, was, keep, true);
            CHECK(says(seen, "/etc/fstab", " none swap "));
            ws_tree_close(seen);
            ws_source_close(slice);
            ws_tree_close(newer);
        }
        free_bed(&b);
        ws_tree_close(was);
    }
}

static void a_renewal_cut_at_every_write_is_as_before_or_finished(void) {
    struct ws_tree *was = plain_root("1"), *newer = plain_root("2");
    uint8_t *first = malloc(DRIVE);
    struct bed b;
    unsigned before = 0, after = 0;
    text_file(was, "home/tide/notes", "low water at six\n", 1000, 0600);
    if (!make_drive(&b, was)) return;
    memcpy(first, b.drive->bytes, DRIVE);
    OK(renew(&b, newer, NULL));
    for (uint64_t cut = 1; cut < 300; cut++) {
        struct ws_source *slice = NULL;
        struct ws_changing mark;
        memcpy(b.drive->bytes, first, DRIVE);
        b.drive->writes = 0;
        b.drive->fail_at_write = cut;
        enum ws_status status = carry_out(&b);
        b.drive->fail_at_write = 0;
        if (status == WS_OK) break;
        CHECK_INT(status, WS_E_GONE);
        bool changing = ws_changing_read(b.drive->bytes, &mark);
        if (changing) {
            CHECK_STR(mark.change, ws_plan_facts(b.p.plan)->fingerprint);
            struct bed other = {.drive = b.drive, .now = b.now};
            FAILS(renew(&other, newer, NULL), WS_E_REFUSED);
            CHECK_INT(error.way[0].hint, WS_HINT_FINISH);
            free_volume(&other.image);
            struct ws_contents contents;
            OK(ws_contents_look(b.now, 512, false, &contents, &error));
            CHECK(contents.changing && contents.unfinished);
            OK(ws_change_finish(plain_port(), &b.drive->drive, NULL, NULL, NULL, &error));
            after++;
        } else {
            before++;
        }
        struct ws_tree *seen = root_of(&b, &slice);
        CHECK(says(seen, "/etc/os-release", changing ? "Curlew 2" : "Curlew 1") &&
              says(seen, "/home/tide/notes", "low"));
        ws_tree_close(seen);
        ws_source_close(slice);
        if (!changing && cut % 7 == 0) CHECK(memcmp(b.drive->bytes, first, ROOT_AT) == 0);
    }
    if (before < 2 || after < 4) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
    free(first);
    free_bed(&b);
    ws_tree_close(was);
    ws_tree_close(newer);
}

static void what_cannot_be_renewed_is_refused(void) {
    struct ws_tree *was = plain_root("2"), *newer = plain_root("1");
    struct bed b;
    struct ws_node *ballast = NULL; /* kept, so that little is free */
    uint8_t *tide = malloc(70 * MIB);
    struct ws_source *filled = NULL;
    memset(tide, 0x11, 70 * MIB);
    OK(ws_source_memory(tide, 70 * MIB, &filled, &error));
    free(tide);
    OK(ws_tree_put(was, "home/tide/ballast", "", 0, &ballast, &error));
    OK(ws_tree_own(was, filled, &error));
    ballast->content = filled;
    static const char *const paths[] = {
        "opt",  "/",    "/opt/../etc",         "/opt//x", "/opt/.", "/opt\n", "/boot", "/boot/loader",
        "/usr", "/etc", "/var/lib/dpkg/status"};
    if (!make_drive(&b, was)) return;
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++) {
        const char *keep[] = {paths[i], NULL};
        FAILS(renew(&b, newer, keep), WS_E_USAGE);
    }
    OK(renew(&b, newer, NULL));
    bool warned = false;
    const struct ws_findings *f = ws_plan_findings(b.p.plan);
    for (size_t i = 0; i < f->count; i++) warned |= strstr(f->list[i].text, "is the newer one") != NULL;
    CHECK(warned);
    /* used since: another state */
    struct ws_plan *read = kept_plan(&b);
    struct ws_build *again = NULL;
    const struct ws_source *input[WS_INPUTS_MOST] = {b.image.source};
    uint8_t *super = b.drive->bytes + ROOT_AT + 1024;
    ws_store_le16(super + 0x34, 5); /* mounted in between */
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    FAILS(ws_build_again(read, input, b.now, NULL, &again, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "was used since");
    ws_plan_free(read);
    /* no root in it, none of ours, none at all */
    struct ws_tree *empty = NULL;
    OK(ws_tree_create(&empty, &error));
    put_text(empty, "etc/nothing", "");
    FAILS(renew(&b, empty, NULL), WS_E_UNSUPPORTED);
    ws_tree_close(empty);
    struct ws_node *large = NULL;
    struct ws_source *bytes = NULL;
    OK(ws_tree_put(newer, "usr/share/large", "", 0, &large, &error));
    uint8_t *noise = malloc(84 * MIB);
    memset(noise, 0xa5, 84 * MIB);
    OK(ws_source_memory(noise, 84 * MIB, &bytes, &error));
    free(noise);
    large->content = bytes;
    OK(renew(&b, newer, NULL)); /* it fits once */
    OK(carry_out(&b));
    large->content = NULL; /* and as other bytes not beside itself */
    ws_source_close(bytes);
    noise = malloc(84 * MIB);
    memset(noise, 0x5a, 84 * MIB);
    OK(ws_source_memory(noise, 84 * MIB, &bytes, &error));
    free(noise);
    large->content = bytes;
    FAILS(renew(&b, newer, NULL), WS_E_SPACE);
    CHECK_HAS(error.next, "make room");
    large->content = NULL;
    ws_source_close(bytes);
    memset(b.drive->bytes + ROOT_AT, 0, MIB);
    FAILS(renew(&b, newer, NULL), WS_E_UNSUPPORTED);
    CHECK_INT(error.way[0].hint, WS_HINT_KIND);
    b.now = (ws_source_close(b.now), NULL);
    FAILS(renew(&b, newer, NULL), WS_E_USAGE);
    free_bed(&b);
    ws_tree_close(was);
    ws_tree_close(newer);
}

/* What nobody but its owner put there is not written over, whatever is missing, and whatever happens in between. */
static void other_volumes_and_later_use_are_respected(void) {
    struct ws_tree *was = plain_root("1"), *newer = plain_root("2");
    struct bed b;
    if (!make_drive_on(&b, was, WS_TABLE_WISH_GPT)) return;
    OK(renew(&b, newer, NULL));
    CHECK(VOLUME(b.p, START)->at == MIB && VOLUME(b.p, DATA) && VOLUME(b.p, SWAP));
    uint8_t *super = b.drive->bytes + ROOT_AT + 1024;
    uint8_t before[1024];
    memcpy(before, super, sizeof before);
    ws_store_le16(super + 0x34, 7); /* mounted between the look and the first write */
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    b.drive->writes = 0;
    FAILS(carry_out(&b), WS_E_REFUSED);
    CHECK_HAS(error.what, "used a moment ago");
    CHECK_INT(b.drive->writes, 0);
    memcpy(super, before, sizeof before);
    memset(b.drive->bytes + MIB, 0, MIB); /* the start volume is gone: the data volume is FAT32, too, and is not it */
    FAILS(renew(&b, newer, NULL), WS_E_UNSUPPORTED);
    CHECK_HAS(error.what, "/boot/efi");
    free_bed(&b);
    ws_tree_close(was);
    ws_tree_close(newer);
}

/* What was to be installed again and is not yet stays on the list. */
static void lists_of_packages_outlive_renewals(void) {
    struct ws_tree *was = plain_root("1"), *newer = plain_root("2"), *seen;
    struct ws_source *slice = NULL;
    struct bed b;
    put_text(was, "var/lib/dpkg/status",
             "Package: sh\nStatus: install ok installed\n\nPackage: charts\nStatus: install ok installed\n");
    put_text(was, "root/added-packages", "# from before\ntide-tables\ncharts\nsh\n");
    put_text(newer, "var/lib/dpkg/status", "Package: sh\nStatus: install ok installed\n");
    if (!make_drive(&b, was)) return;
    OK(renew(&b, newer, NULL));
    OK(carry_out(&b));
    seen = root_of(&b, &slice);
    CHECK(says(seen, "/root/added-packages", "apt-get install\ncharts\ntide-tables\n"));
    ws_tree_close(seen);
    ws_source_close(slice);
    free_bed(&b);
    ws_tree_close(was);
    ws_tree_close(newer);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"what is its owner's is carried over", what_is_its_owners_is_carried_over},
        {"packages are told from what is nobody's", packages_are_told_from_what_is_nobodys},
        {"random roots are renewed", random_roots_are_renewed},
        {"a renewal cut at every write is as before or finished",
         a_renewal_cut_at_every_write_is_as_before_or_finished},
        {"what cannot be renewed is refused", what_cannot_be_renewed_is_refused},
        {"other volumes and later use are respected", other_volumes_and_later_use_are_respected},
        {"lists of packages outlive renewals", lists_of_packages_outlive_renewals},
        {NULL, NULL},
    };
    return run_tests(argc, argv, tests);
}
