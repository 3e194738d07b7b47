/* test_locked.c — systems, and what live ones remember, that a passphrase opens: what stands outside, what inside, and
 * who can open it. */
#include "demo/demo_image.h"
#include "tests/roots.h"

#include "base/bytes.h"
#include "wild_satchel/lock.h"
#include "wild_satchel/system.h"

#include <openssl/evp.h>
#include <unistd.h>

enum { MIB = 1 << 20 };
static const char passphrase[] = "gull over the bar";
static const char *const asks[] = {"usr/lib/modules/6.1/usb-storage.ko",
                                   "xhci-pci.ko",
                                   "sd_mod.ko",
                                   "ext4.ko",
                                   "dm-crypt.ko",
                                   "xts.ko",
                                   "sbin/cryptsetup",
                                   "scripts/init-top/udev",
                                   "conf/arch.conf",
                                   "scripts/functions",
                                   NULL};

static void begin(struct planned *p, uint64_t size) {
    struct ws_drive_facts f = {.size = size, .logical_sector = 512, .removable = WS_YES, .internal = WS_NO};
    strcpy(f.short_name, "gorse-32");
    planned_begin(p, WS_KIND_SYSTEM, &f);
    ws_request_want(&p->request, WS_ROLE_SYSTEM)->locked = true;
}

/* What is inside, by the key that the judge gives out for the passphrase. */
static bool open_by_judge(const char *path, uint64_t at, uint64_t size, const char *out) {
    struct ws_text said = {0};
    uint8_t key[64], bytes[WS_LOCK_SECTOR], number[16];
    shell(NULL, "dd if=%s of=%s.lock bs=1M skip=%llu count=17 2>/dev/null; printf '%%s' '%s' > %s.pass", path, out,
          (unsigned long long)(at / MIB), passphrase, out);
    bool good = shell(&said,
                      "cryptsetup luksDump --dump-volume-key --batch-mode --key-file %s.pass %s.lock | "
                      "sed -n '/MK dump:/,$p' | sed 's/MK dump://' | tr -d ' \\t\\n'; rm -f %s.lock %s.pass",
                      out, out, out, out) == 0 &&
                said.length >= 128;
    for (size_t i = 0; good && i < sizeof key; i++) {
        unsigned byte = 0;
        good = sscanf(said.data + 2 * i, "%2x", &byte) == 1;
        key[i] = (uint8_t)byte;
    }
    ws_text_free(&said);
    FILE *from = fopen(path, "rb"), *to = fopen(out, "wb");
    EVP_CIPHER_CTX *c = EVP_CIPHER_CTX_new();
    good = good && from && to && fseek(from, (long)(at + WS_LOCK_HEAD), SEEK_SET) == 0;
    for (uint64_t done = 0; good && done < size - WS_LOCK_HEAD; done += sizeof bytes) {
        int n = 0;
        memset(number, 0, sizeof number);
        ws_store_le64(number, done / 512);
        good = fread(bytes, 1, sizeof bytes, from) == sizeof bytes &&
               EVP_DecryptInit_ex(c, EVP_aes_256_xts(), NULL, key, number) == 1 &&
               EVP_DecryptUpdate(c, bytes, &n, bytes, sizeof bytes) == 1 &&
               fwrite(bytes, 1, sizeof bytes, to) == sizeof bytes;
    }
    EVP_CIPHER_CTX_free(c);
    if (from) fclose(from);
    if (to) fclose(to);
    return good;
}

static void check_clean(const char *path, uint64_t at) {
    struct ws_text said = {0};
    if (shell(&said, "e2fsck -fn '%s?offset=%llu' 2>&1", path, (unsigned long long)at) != 0)
        fail_at(__FILE__, __LINE__, "%s", said.data);
    ws_text_free(&said);
}

static bool says(const struct ws_tree *tree, const char *path, const char *words) {
    char *text = NULL;
    size_t length = 0;
    const struct ws_node *n = ws_tree_find(tree, path);
    bool found = n && n->content && ws_source_load(n->content, 1 << 16, &text, &length, &error) == WS_OK &&
                 strstr(text, words) != NULL;
    free(text);
    return found;
}

static void the_judge_finds_the_root_inside(void) {
    for (int i = 0; i < cases_of(4); i++) {
        const char *path = scratch("drive"), *inside = scratch("inside");
        struct ws_tree *tree = random_root(), *root = NULL, *boot = NULL;
        struct ws_source *file = NULL, *slice = NULL, *drive = NULL;
        struct ws_build *build = NULL;
        struct volume v;
        struct planned p;
        char text[64], wanted[200];
        put_initrd(tree, "boot/initrd.img-6.1", asks);
        CHECK(make_volume(tree, 160 * MIB, &v));
        begin(&p, 600 * MIB);
        if (i % 2) p.request.table = WS_TABLE_WISH_GPT;
        if (i % 2) ws_request_want(&p.request, WS_ROLE_DATA)->size = ws_size_of(70 * MIB);
        OK(planned_prepare(&p, v.source, &build));
        const struct ws_volume *system = VOLUME(p, SYSTEM), *apart = VOLUME(p, BOOT);
        CHECK(system->locked && apart && !apart->locked && ws_build_passwords(build) == 1);
        CHECK_STR(ws_build_password_of(build, 0), "");
        char recovery[WS_RECOVERY_ROOM];
        FAILS(ws_build_recovery(build, recovery, &error), WS_E_USAGE); /* never the only way in */
        CHECK(recovery[0] == '\0');
        OK(ws_build_password(build, 0, passphrase, &error));
        OK(ws_build_recovery(build, recovery, &error));
        FAILS(ws_build_password(build, 0, passphrase, &error), WS_E_USAGE);
        save_layout(ws_build_layout(build), path);
        CHECK(open_by_judge(path, system->at, system->size, inside));
        check_clean(inside, 0);
        check_clean(path, apart->at);
        OK(ws_source_file(inside, &file, &error));
        OK(ws_ext4_read(file, &root, NULL, &error));
        OK(ws_layout_source(ws_build_layout(build), &drive, &error));
        OK(ws_source_slice(drive, apart->at, apart->size, &slice, &error));
        OK(ws_ext4_read(slice, &boot, NULL, &error));
        CHECK(ws_tree_find(boot, "vmlinuz-6.1") && ws_tree_find(boot, "loader/entries/0001.conf"));
        CHECK(ws_tree_find(root, "boot") && !ws_tree_find(root, "boot")->first && ws_tree_find(root, "etc/os-release"));
        struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
        OK(ws_start_rehearse(drive, &r, &error));
        CHECK(r.starts);
        CHECK_STR(r.entry.linux_path, "/vmlinuz-6.1");
        CHECK_STR(r.entry.initrd[0], "/initrd.img-6.1");
        struct ws_text id = {0};
        shell(&id, "tail -c +%llu %s | head -c 208 | tail -c 40 | tr -d '\\0'", (unsigned long long)system->at + 1,
              path);
        (void)snprintf(text, sizeof text, "%.36s", id.data ? id.data : "");
        (void)snprintf(wanted, sizeof wanted, "cryptopts=target=system,source=UUID=%s,luks", text);
        CHECK_HAS(r.entry.options, wanted);
        (void)snprintf(wanted, sizeof wanted, "system UUID=%s none luks", text);
        CHECK(says(root, "etc/crypttab", wanted) && says(root, "etc/fstab", " /boot ext4 ") &&
              says(root, "etc/start-entries.conf", "\nboot apart\n"));
        ws_text_free(&id);
        ws_rehearsal_free(&r);
        ws_tree_close(boot);
        ws_source_close(slice);
        ws_source_close(drive);
        ws_tree_close(root);
        ws_source_close(file);
        ws_build_close(build);
        free_volume(&v);
        ws_tree_close(tree);
        unlink(path), unlink(inside);
    }
}

/* What could not ask for it, or would tell what is inside. */
static void what_cannot_be_locked_is_refused(void) {
    static const struct {
        size_t without; /* of the list above; 99: of none */
        const char *says;
    } cases[] = {{4, "drivers dm_crypt and xts"},
                 {5, "drivers dm_crypt and xts"},
                 {6, "no cryptsetup"},
                 {7, NULL},
                 {9, "not known"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *names[12] = {NULL};
        struct ws_tree *tree = random_root();
        struct ws_build *build = NULL;
        struct volume v;
        struct planned p;
        size_t n = 0;
        for (size_t k = 0; asks[k]; k++)
            if (k != cases[i].without && !(cases[i].without == 9 && k >= 7)) names[n++] = asks[k];
        put_initrd(tree, "boot/initrd.img-6.1", names);
        CHECK(make_volume(tree, 160 * MIB, &v));
        begin(&p, 600 * MIB);
        enum ws_status status = planned_prepare(&p, v.source, &build);
        CHECK_INT(status, cases[i].says ? WS_E_UNSUPPORTED : WS_OK);
        if (cases[i].says) CHECK_HAS(error.what, cases[i].says);
        if (status == WS_OK) ws_build_close(build);
        begin(&p, 600 * MIB);
        ws_request_want(&p.request, WS_ROLE_SWAP)->size = ws_size_of(16 * MIB);
        FAILS(planned_prepare(&p, v.source, &build), WS_E_USAGE);
        CHECK_HAS(error.what, "swap");
        free_volume(&v);
        ws_tree_close(tree);
    }
}

/* A kernel that cannot ask is no entry where another can; one that stands elsewhere is read by nobody. */
static void kernels_must_reach_the_root(void) {
    struct ws_tree *tree = random_root();
    struct ws_build *build = NULL;
    struct ws_source *drive = NULL;
    struct volume v;
    struct planned p;
    put_kernel(tree, "6.2"); /* the newest */
    put_initrd(tree, "boot/initrd.img-6.1", asks);
    CHECK(make_volume(tree, 160 * MIB, &v));
    begin(&p, 600 * MIB);
    OK(planned_prepare(&p, v.source, &build));
    OK(ws_layout_source(ws_build_layout(build), &drive, &error));
    struct ws_rehearsal r = {.firmware = "UEFI", .sector = 512};
    OK(ws_start_rehearse(drive, &r, &error));
    CHECK_STR(r.entry.linux_path, "/vmlinuz-6.1");
    ws_rehearsal_free(&r);
    ws_source_close(drive);
    ws_build_close(build);
    free_volume(&v);
    const char *others[12] = {NULL}; /* an older one that is told by other words than the newest: "dracut" made it */
    for (size_t i = 0; asks[i]; i++) others[i] = strcmp(asks[i], "scripts/functions") == 0 ? "usr/lib/dracut" : asks[i];
    put_kernel(tree, "6.0");
    put_initrd(tree, "boot/initrd.img-6.0", others);
    CHECK(make_volume(tree, 160 * MIB, &v));
    begin(&p, 600 * MIB);
    OK(planned_prepare(&p, v.source, &build));
    bool told = false;
    for (size_t i = 0; i < ws_plan_findings(p.plan)->count; i++)
        told |= strstr(ws_plan_findings(p.plan)->list[i].text, "6.0 is left out of the menu") != NULL;
    CHECK(told);
    ws_build_close(build);
    free_volume(&v);
    struct ws_node *n = ws_tree_find(tree, "boot/vmlinuz-6.1");
    put_text(tree, "usr/lib/kernel", "");
    ws_tree_find(tree, "usr/lib/kernel")->content = n->content;
    ws_tree_drop(tree, n);
    put_link(tree, "boot/vmlinuz-6.1", "../usr/lib/kernel");
    CHECK(make_volume(tree, 160 * MIB, &v));
    begin(&p, 600 * MIB);
    FAILS(planned_prepare(&p, v.source, &build), WS_E_UNSUPPORTED);
    CHECK_HAS(error.what, "leads out of the folder /boot");
    free_volume(&v);
    ws_tree_close(tree);
}

/* A folder cut out of random trees: together they are what was there. */
static void a_tree_is_cut_in_two(void) {
    for (int i = 0; i < cases_of(60); i++) {
        struct ws_tree *tree = random_tree(20 + random_below(200), TREE_ALL, 4096), *apart = NULL;
        size_t folders = 0, before = ws_tree_count(tree);
        struct ws_node *chosen = ws_tree_root(tree);
        for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
            if (n->kind == WS_NODE_FOLDER && random_below(++folders) == 0) chosen = n;
        OK(ws_tree_cut(tree, chosen, &apart, &error));
        CHECK(chosen->first == NULL && ws_tree_count(tree) + ws_tree_count(apart) == before + 1);
        for (struct ws_node *n = ws_tree_root(apart); n; n = ws_tree_next(n))
            for (const struct ws_node *up = n->same_as; up; up = up->parent)
                if (!up->parent) CHECK(up == ws_tree_root(apart));
        for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
            for (const struct ws_node *up = n->same_as; up; up = up->parent)
                if (!up->parent) CHECK(up == ws_tree_root(tree));
        ws_tree_close(apart);
        ws_tree_close(tree);
    }
}

/* What a live system remembers, in both arrangements; the plan is for whom the family and its scripts can open it. */
static void what_is_remembered_can_be_locked(void) {
    static const struct {
        const char *family, *what; /* of a refusal or a fault; NULL: it goes */
        enum ws_status status;
        enum ws_kind kind;
    } cases[] = {
        {"live-boot", NULL, WS_OK, WS_KIND_LIVE_WHOLE},
        {"live-boot", NULL, WS_OK, WS_KIND_LIVE_FILES},
        {"casper", "not known to open a locked volume", WS_E_UNSUPPORTED, WS_KIND_LIVE_WHOLE},
        {"live-boot", "not in a file", WS_E_USAGE, WS_KIND_LIVE_FILES},
        {"live-boot", "keep what was in memory", WS_E_USAGE, WS_KIND_LIVE_WHOLE},
        {"live-boot", "nothing is to be remembered", WS_E_USAGE, WS_KIND_LIVE_FILES},
        {"live-boot", "is locked", WS_E_USAGE, WS_KIND_REPLICA},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct demo_params params = {.family = cases[i].family, .table = DEMO_MBR};
        struct demo_image image;
        struct ws_build *build = NULL;
        struct planned p;
        OK(demo_image_make(&params, &image, &error));
        begin(&p, 700 * MIB);
        p.request.kind = cases[i].kind;
        p.request.volumes = 0;
        ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->locked = true;
        if (i == 3) ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->place = WS_PLACE_FILE;
        if (i == 4) ws_request_want(&p.request, WS_ROLE_SWAP)->size = ws_size_of(16 * MIB);
        if (i == 5) ws_request_want(&p.request, WS_ROLE_PERSISTENCE)->size.kind = WS_SIZE_NONE;
        enum ws_status status = planned_prepare(&p, image.source, &build);
        CHECK_INT(status, cases[i].status);
        if (status != WS_OK) CHECK_HAS(error.what, cases[i].what);
        if (status == WS_OK) {
            const struct ws_volume *v = VOLUME(p, PERSISTENCE);
            const char *path = scratch("drive"), *inside = scratch("inside");
            struct ws_source *drive = NULL;
            struct ws_memory *m = calloc(1, sizeof *m);
            CHECK(v->locked && ws_build_passwords(build) == 1);
            OK(ws_build_password(build, 0, passphrase, &error));
            save_layout(ws_build_layout(build), path);
            CHECK(open_by_judge(path, v->at, v->size, inside));
            check_clean(inside, 0);
            struct ws_ext4_facts facts;
            OK(ws_source_file(inside, &drive, &error));
            OK(ws_ext4_probe(drive, &facts, &error));
            CHECK_STR(facts.label, "persistence");
            CHECK_INT(facts.free_bytes, v->free_bytes);
            ws_source_close(drive);
            OK(ws_source_file(path, &drive, &error));
            OK(ws_memory_look(drive, 512, m, &error));
            CHECK(m->locked && m->cause == WS_FORGETS_NOT && m->volume_at == v->at);
            ws_source_close(drive);
            /* a menu that does not ask for it: the locked volume is somebody's own, and the system forgets */
            shell(NULL,
                  "for at in $(head -c 100M %s | LC_ALL=C grep -abo 'persistence-encryption=luks' | cut -d: -f1); do "
                  "printf none | dd of=%s bs=1 seek=$((at + 23)) conv=notrunc status=none; done",
                  path, path);
            OK(ws_source_file(path, &drive, &error));
            OK(ws_memory_look(drive, 512, m, &error));
            CHECK(!m->locked && m->cause == WS_FORGETS_PARAMETER && m->volume_size == 0);
            CHECK_HAS(m->cause_text, "persistence-encryption=luks");
            ws_source_close(drive);
            free(m);
            unlink(path);
            unlink(inside);
        }
        ws_build_close(build);
        demo_image_free(&image);
    }
}

/* A newer system behind the same lock: its header and secrets stay, kernels outside change with it; cut anywhere it is
 * the old one or is finished, which needs no passphrase. */
static void a_locked_system_is_renewed(void) {
    enum { DRIVE = 600 * MIB };
    struct ws_tree *was = random_root(), *newer = random_root(), *root = NULL, *boot = NULL;
    struct memory_drive *drive = memory_drive(DRIVE, 512);
    struct ws_build *build = NULL, *again = NULL;
    struct ws_source *now = NULL, *slice = NULL;
    struct ws_lock *lock = NULL;
    struct ws_plan *read = NULL;
    struct ws_text document = {0};
    struct ws_build_options o = {.confirm = drive->facts.short_name};
    struct ws_build_result result;
    struct planned p;
    struct volume v[2];
    const char *path = scratch("renewed"), *inside = scratch("inside");
    put_initrd(was, "boot/initrd.img-6.1", asks);
    put_kernel(newer, "6.2");
    put_initrd(newer, "boot/initrd.img-6.1", asks);
    put_initrd(newer, "boot/initrd.img-6.2", asks);
    put_text(newer, "etc/os-release", "PRETTY_NAME=Curlew 13\nVERSION_ID=13\n");
    put_text(was, "etc/passwd", "root:x:0:0::/root:/bin/sh\ntide:x:1000:1000::/home/tide:/bin/sh\n");
    put_text(was, "etc/shadow", "root:*:1::::::\ntide:$6$tide:1::::::\n");
    put_text(was, "etc/group", "root:x:0:\ntide:x:1000:\n");
    put_text(was, "home/tide/notes", "low water at six\n");
    put_text(newer, "etc/passwd", "root:x:0:0::/root:/bin/sh\n");
    put_text(newer, "etc/shadow", "root:*:1::::::\n");
    put_text(newer, "etc/group", "root:x:0:\n");
    CHECK(make_volume(was, 160 * MIB, &v[0]) && make_volume(newer, 160 * MIB, &v[1]));
    memset(drive->bytes, 0, DRIVE);
    begin(&p, DRIVE);
    planned_begin(&p, WS_KIND_SYSTEM, &drive->facts);
    ws_request_want(&p.request, WS_ROLE_SYSTEM)->locked = true;
    ws_request_want(&p.request, WS_ROLE_SYSTEM)->size = ws_size_of(330 * MIB); /* both are on it for a while */
    p.request.owner.internal_disks = WS_INTERNAL_OPEN;
    strcpy(p.request.kernel_options, "quiet");
    OK(planned_prepare(&p, v[0].source, &build));
    OK(ws_build_password(build, 0, passphrase, &error));
    memory_drive_fill(drive, ws_build_layout(build));
    const struct ws_volume system = *VOLUME(p, SYSTEM), apart = *VOLUME(p, BOOT);
    ws_build_close(build);
    OK(ws_source_drive(&drive->drive, &now, &error));
    planned_begin(&p, WS_KIND_RENEWAL, &drive->facts);
    p.setting.now = now;
    FAILS(planned_prepare(&p, v[1].source, &build), WS_E_USAGE);
    CHECK_INT(error.way[0].hint, WS_HINT_PASSWORDS);
    p.setting.passphrase = "another one of them";
    FAILS(planned_prepare(&p, v[1].source, &build), WS_E_USAGE);
    CHECK_HAS(error.what, "does not open");
    p.setting.passphrase = passphrase;
    OK(planned_prepare(&p, v[1].source, &build));
    CHECK(VOLUME(p, SYSTEM)->locked && VOLUME(p, SYSTEM)->at == system.at && VOLUME(p, BOOT)->at == apart.at);
    CHECK_INT(ws_build_passwords(build), 0);
    OK(ws_plan_to_json(p.plan, &document, &error));
    CHECK(!strstr(document.data, passphrase));
    OK(ws_plan_from_json(document.data, document.length, &read, &error));
    const struct ws_source *input[WS_INPUTS_MOST] = {v[1].source};
    OK(ws_build_again(read, input, now, passphrase, &again, &error));
    CHECK_STR(ws_plan_facts(ws_build_plan(again))->fingerprint, ws_plan_facts(p.plan)->fingerprint);
    ws_build_close(again);
    uint8_t *first = malloc(DRIVE);
    unsigned before = 0, after = 0;
    memcpy(first, drive->bytes, DRIVE);
    for (uint64_t cut = 1; cut < 400; cut += cut < 3 ? 1 : 4 + random_below(6)) {
        memcpy(drive->bytes, first, DRIVE);
        drive->writes = 0;
        drive->fail_at_write = cut;
        enum ws_status status = ws_build_carry_out(build, plain_port(), &drive->drive, &o, &result, &error);
        drive->fail_at_write = 0;
        if (status == WS_OK) break;
        bool changing = ws_changing_read(drive->bytes, NULL);
        changing ? after++ : before++;
        if (changing) OK(ws_change_finish(plain_port(), &drive->drive, NULL, NULL, NULL, &error));
        if (random_below(8)) continue;
        OK(ws_source_slice(now, system.at, system.size, &slice, &error));
        OK(ws_lock_open(slice, passphrase, &lock, &error));
        OK(ws_ext4_read(ws_lock_body(lock), &root, NULL, &error));
        CHECK(says(root, "etc/os-release", changing ? "Curlew 13" : "Curlew\n") &&
              says(root, "home/tide/notes", "low"));
        ws_tree_close(root);
        ws_lock_close(lock);
        ws_source_close(slice);
    }
    if (before < 1 || after < 2) fail_at(__FILE__, __LINE__, "%u cuts before, %u after", before, after);
    CHECK(memcmp(first + system.at, drive->bytes + system.at, WS_LOCK_HEAD) == 0);
    save_source(now, path);
    CHECK(open_by_judge(path, system.at, system.size, inside));
    check_clean(inside, 0);
    check_clean(path, apart.at);
    OK(ws_source_file(inside, &slice, &error));
    OK(ws_ext4_read(slice, &root, NULL, &error));
    CHECK(says(root, "etc/os-release", "Curlew 13") && says(root, "home/tide/notes", "low water"));
    CHECK(says(root, "etc/passwd", "tide:x:1000:") && says(root, "etc/fstab", " /boot ext4 "));
    CHECK(!ws_tree_find(root, "boot")->first);
    ws_tree_close(root);
    ws_source_close(slice);
    OK(ws_source_slice(now, apart.at, apart.size, &slice, &error));
    OK(ws_ext4_read(slice, &boot, NULL, &error));
    CHECK(ws_tree_find(boot, "vmlinuz-6.2") && ws_tree_find(boot, "loader/entries/0001.conf"));
    ws_tree_close(boot);
    ws_source_close(slice);
    struct ws_rehearsal r = {.firmware = "BIOS", .sector = 512};
    OK(ws_start_rehearse(now, &r, &error));
    CHECK_STR(r.entry.linux_path, "/vmlinuz-6.2");
    const char *word = strstr(r.entry.options, "cryptopts=");
    CHECK(word && !strstr(word + 1, "cryptopts=") && strstr(word, " quiet"));
    char id[48];
    OK(ws_source_slice(now, system.at, system.size, &slice, &error));
    CHECK(ws_lock_probe(slice, id) && word && strstr(word, id));
    ws_source_close(slice);
    ws_rehearsal_free(&r);
    ws_text_free(&document);
    ws_plan_free(read);
    ws_build_close(build);
    ws_source_close(now);
    memory_drive_free(drive);
    free(first);
    for (int i = 0; i < 2; i++) free_volume(&v[i]);
    ws_tree_close(was);
    ws_tree_close(newer);
    unlink(path), unlink(inside);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"the judge finds the root inside", the_judge_finds_the_root_inside},
                                        {"what cannot be locked is refused", what_cannot_be_locked_is_refused},
                                        {"kernels must reach the root", kernels_must_reach_the_root},
                                        {"what is remembered can be locked", what_is_remembered_can_be_locked},
                                        {"a locked system is renewed", a_locked_system_is_renewed},
                                        {"a tree is cut in two", a_tree_is_cut_in_two},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
