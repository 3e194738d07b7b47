/* test_owner.c — roots made their owner's: accounts, words, logins, disks, by each kind of system's own files. */
#include "tests/roots.h"

#include "wild_satchel/journal.h"

#include <crypt.h>

enum { MOST = 1 << 16 };

/* What a file says after all links; "" if there is none. The last few texts stay. */
static const char *text_at(const struct ws_tree *tree, const char *path) {
    static char kept[8][MOST];
    static unsigned turn;
    char *out = kept[turn++ % 8], *bytes = NULL;
    size_t length = 0;
    const struct ws_node *n = ws_system_find(tree, path);
    out[0] = '\0';
    if (!n || n->kind != WS_NODE_FILE || !n->content) return out;
    if (ws_source_load(n->content, MOST - 1, &bytes, &length, NULL) == WS_OK) memcpy(out, bytes, length + 1);
    free(bytes);
    return out;
}

/* The roots that are tried: what tells their kind, and what it needs. */
static const struct file {
    const char *path, *text;
} systemd_files[] = {{"usr/lib/systemd/systemd", "x"},
                     {"usr/lib/systemd/systemd-udevd", "x"},
                     {"usr/sbin/blockdev", "x"},
                     {"usr/sbin/agetty", "x"},
                     {"usr/sbin/sshd", "x"},
                     {"usr/bin/sudo", "x"},
                     {"usr/bin/bash", "x"},
                     {"etc/sudoers.d/README", "x"},
                     {"etc/debian_version", "12\n"},
                     {"etc/default/keyboard", "# keys\n#XKBLAYOUT=\"xx\"\nXKBLAYOUT=\"us\"\nXKBVARIANT=\"\""},
                     {"etc/default/apport", "enabled=1\n"},
                     {"usr/lib/systemd/system/whoopsie.service", "x"},
                     {"usr/share/zoneinfo/Atlantic/Faroe", "TZif"},
                     {"usr/lib/locale/de_DE.utf8/LC_CTYPE", "x"},
                     {"usr/share/keymaps/i386/qwertz/de.kmap.gz", "x"},
                     {"etc/gdm3/daemon.conf", "[daemon]\n#  AutomaticLogin = user1\n[security]\nAutomaticLogin=x\n"},
                     {"usr/sbin/gdm3", "x"},
                     {"etc/pam.d/common-password", "# yescrypt\npassword [success=1] pam_unix.so obscure yescrypt\n"},
                     {"etc/gshadow", "sudo:*::\naudio:*::guest\n"},
                     {NULL, NULL}},
  sysv_files[] = {{"sbin/agetty", "x"},
                  {"etc/inittab",
                   "# lines\n1:2345:respawn:/sbin/agetty 38400 tty1\n2:23:respawn:/sbin/agetty 38400 tty2\n"},
                  {"etc/rcS.d/S01first", "x"},
                  {"etc/rc2.d/S20whoopsie", "x"},
                  {"usr/sbin/sshd", "x"},
                  {"sbin/udevd", "x"},
                  {"sbin/blockdev", "x"},
                  {NULL, NULL}},
  openrc_files[] = {{"sbin/openrc", "x"},
                    {"etc/init.d/openrc", "x"},
                    {"etc/runlevels/boot/localmount", "x"},
                    {"etc/conf.d/hostname", "# the name\nhostname=\"localhost\"\n"},
                    {"etc/conf.d/hwclock", "clock=\"UTC\"\n"},
                    {"etc/conf.d/keymaps", "keymap=\"us\"\n"},
                    {"usr/share/keymaps/i386/qwertz/de-latin1.map.gz", "x"},
                    {"usr/sbin/sshd", "x"},
                    {"usr/bin/doas", "x"},
                    {"lib/ld-musl-x86_64.so.1", "x"},
                    {"usr/share/zoneinfo/Atlantic/Faroe", "TZif"},
                    {NULL, NULL}},
  busybox_files[] = {
      {"bin/busybox", "x"}, {"etc/inittab", "::sysinit:/etc/rc\ntty1::respawn:/sbin/getty 38400 tty1\n"}, {NULL, NULL}};

static struct ws_tree *make_root(const struct file *files) {
    static uint8_t kernel[4096];
    struct ws_tree *tree = NULL;
    if (ws_tree_create(&tree, &error) != WS_OK) abort();
    memcpy(kernel + 0x202, "HdrS", 4);
    if (ws_tree_put(tree, "boot/vmlinuz-6.1", kernel, sizeof kernel, NULL, &error) != WS_OK) abort();
    put_text(tree, "etc/passwd",
             "root:x:0:0:root:/root:/bin/sh\nlp:x:7:7::/:/bin/false\nuser:x:1000:1000:live:/home/user:/bin/sh");
    put_text(tree, "etc/group", "root:x:0:\nsudo:x:27:\naudio:x:29:user\nlp:x:7:\nuser:x:1000:\nspare:x:1001:\n");
    put_text(tree, "etc/shadow", "root::1:0:99999:7:::\nuser:secret:1:0:99999:7:::\n");
    ws_tree_find(tree, "etc/shadow")->mode = 0644;
    put_text(tree, "etc/skel/.profile", "hello\n");
    put_text(tree, "etc/ssh/ssh_host_rsa_key", "the root's\n");
    put_text(tree, "etc/ssh/ssh_host_rsa_key.pub", "the root's\n");
    put_text(tree, "etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    put_text(tree, "etc/hosts", "127.0.0.1 localhost\n127.0.1.1\tmaker\n");
    for (; files->path; files++) put_text(tree, files->path, files->text);
    if (files == &systemd_files[sizeof systemd_files / sizeof *systemd_files - 1]) { /* merged, as most are today */
        put_link(tree, "lib", "usr/lib");
        put_link(tree, "sbin", "usr/sbin");
        put_link(tree, "bin", "usr/bin");
    }
    if (files == &busybox_files[2]) {
        put_link(tree, "sbin/init", "../bin/busybox");
        put_link(tree, "sbin/getty", "/bin/busybox");
    }
    return tree;
}

static const struct ws_owner wishes = {.host_name = "hut-3",
                                       .account = {{"tide", "Tide survey", true}, {"guest", "", false}},
                                       .accounts = 2,
                                       .login = WS_LOGIN_AUTOMATIC,
                                       .keyboard = "de"};

static enum ws_status settle_as(struct ws_tree *tree, const struct ws_owner *owner, bool grows, bool grew,
                                struct ws_owned *owned, struct ws_findings *findings) {
    const struct ws_settling s = {.root_uuid = "r",
                                  .start_id = "s",
                                  .options = "",
                                  .made_at = 86400 * 20000ll,
                                  .table_id = "0a0b0c0d",
                                  .grows = grows,
                                  .grew = grew,
                                  .owner = owner};
    struct ws_system_facts f;
    memset(&error, 0, sizeof error);
    enum ws_status status = ws_owner_check(owner, &error);
    if (status == WS_OK) status = ws_system_look(tree, &f, &error);
    return status == WS_OK ? ws_system_settle(tree, &f, &s, owned, findings, &error) : status;
}

static enum ws_status settle(struct ws_tree *tree, const struct ws_owner *owner, struct ws_owned *owned,
                             struct ws_findings *findings) {
    return settle_as(tree, owner, false, false, owned, findings);
}

static bool found(const struct ws_findings *findings, const char *part) {
    for (size_t i = 0; i < findings->count; i++)
        if (strstr(findings->list[i].text, part)) return true;
    return false;
}

/* All that holds for every kind. */
static void check_accounts(const struct ws_tree *tree, const struct ws_owned *owned) {
    const struct ws_node *home = ws_system_find(tree, "/home/tide");
    const struct ws_node *profile = ws_system_find(tree, "/home/guest/.profile");
    CHECK_HAS(text_at(tree, "/etc/passwd"), "\ntide:x:1002:1002:Tide survey:/home/tide:/bin/");
    CHECK_HAS(text_at(tree, "/etc/passwd"), "\nguest:x:1003:1003::/home/guest:/bin/");
    CHECK_HAS(text_at(tree, "/etc/group"), "\nsudo:x:27:tide\naudio:x:29:user,tide,guest\n");
    CHECK_HAS(text_at(tree, "/etc/shadow"), "root:*:20000:0:99999:7:::\n"); /* it let in anybody */
    CHECK_INT(ws_system_find(tree, "/etc/shadow")->mode, 0640);
    CHECK(home && home->uid == 1002 && home->gid == 1002 && home->mode == 0700);
    CHECK(profile && profile->uid == 1003 && ws_node_size(profile) == 6);
    CHECK_STR(text_at(tree, "/etc/hostname"), "hut-3\n");
    CHECK_HAS(text_at(tree, "/etc/hosts"), "127.0.0.1 localhost\n127.0.1.1\thut-3\n");
    CHECK(!ws_system_find(tree, "/etc/ssh/ssh_host_rsa_key") && !ws_system_find(tree, "/etc/ssh/ssh_host_rsa_key.pub"));
    CHECK_STR(text_at(tree, "/etc/machine-id"), "");
    CHECK(owned->passwords == 2 && strcmp(owned->password[1].account, "guest") == 0);
}

/* What each kind's files say afterwards. */
static void every_kind_of_system_has_its_own_files(void) {
    static const struct {
        const struct file *files;
        struct file after[16];
    } kinds[] = {
        {systemd_files,
         {{"/etc/default/keyboard", "# keys\n#XKBLAYOUT=\"xx\"\nXKBLAYOUT=\"de\"\nXKBVARIANT=\"\"\n"},
          {"/etc/vconsole.conf", "KEYMAP=de\n"},
          {"/etc/default/apport", "enabled=0\n"},
          {"/etc/gdm3/daemon.conf",
           "[daemon]\nAutomaticLoginEnable=true\nAutomaticLogin=tide\n[security]\nAutomaticLogin=x\n"},
          {"/etc/systemd/system/getty@tty1.service.d/owner.conf", "--autologin tide --noclear %I $TERM\n"},
          {"/etc/systemd/system/first-start.service", "ConditionPathExists=/etc/first-start/run\n"},
          {"/etc/systemd/system/multi-user.target.wants/first-start.service", "[Service]"},
          {"/etc/first-start/run", "\nssh-keygen -A\nsync\nrm -f /etc/first-start/run\n"},
          {"/etc/systemd/journald.conf.d/60-removable-drive.conf", "SystemMaxUse=64M"},
          {"/etc/sudoers.d/owner", "tide ALL=(ALL:ALL) ALL\n"},
          {"/etc/gshadow", "sudo:*::tide\naudio:*::guest,tide\ntide:!::\nguest:!::\n"},
          {"/etc/udev/rules.d/61-internal-disks.rules", "ENV{ID_PART_TABLE_UUID}==\"0a0b0c0d\", GOTO"},
          {"/etc/udev/rules.d/61-internal-disks.rules", "RUN+=\"/sbin/blockdev --setro $devnode\"\n"}}},
        {sysv_files,
         {{"/etc/inittab",
           "1:2345:respawn:/sbin/agetty --autologin tide 38400 tty1\n2:23:respawn:/sbin/agetty 38400 tty2\n"},
          {"/etc/inittab", "tty2\nfs::bootwait:/bin/sh -c '[ ! -e /etc/first-start/run ] ||"},
          {"/etc/udev/rules.d/61-internal-disks.rules", "UDISKS_IGNORE"}}},
        {openrc_files,
         {{"/etc/conf.d/hostname", "# the name\nhostname=\"hut-3\"\n"},
          {"/etc/conf.d/keymaps", "keymap=\"de-latin1\"\n"},
          {"/etc/init.d/first-start", "#!/sbin/openrc-run\n"},
          {"/etc/runlevels/boot/first-start", "depend()"},
          {"/etc/doas.conf", "permit persist tide\n"}}},
        {busybox_files,
         {{"/etc/inittab", "\ntty1::respawn:/bin/login -f tide\n::wait:/bin/sh -c '[ ! -e /etc/first-start/run ]"},
          {"/etc/first-start/run", "ssh-keygen -A\n"}}},
    };
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        struct ws_tree *tree = make_root(kinds[i].files);
        struct ws_findings findings = {0};
        struct ws_owned owned;
        OK(settle(tree, &wishes, &owned, &findings));
        check_accounts(tree, &owned);
        for (const struct file *f = kinds[i].after; f->path; f++) CHECK_HAS(text_at(tree, f->path), f->text);
        CHECK_INT(owned.internal_disks, i < 2 ? WS_INTERNAL_HIDDEN : WS_INTERNAL_OPEN);
        CHECK_INT(owned.password[0].hash, i == 0 ? WS_PASSWORD_YESCRYPT : WS_PASSWORD_SHA512);
        CHECK(found(&findings, "root had no password"));
        if (i == 0)
            CHECK_STR(ws_system_find(tree, "/etc/systemd/system")
                          ? ws_node_child(ws_system_find(tree, "/etc/systemd/system"), "whoopsie.service")->target
                          : "",
                      "/dev/null");
        if (i == 1) CHECK(!ws_system_find(tree, "/etc/rc2.d/S20whoopsie"));
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
}

static void each_kind_can_grow(void) {
    static const struct ws_owner nobody;
    static const struct file bare[] = {{"etc/os-release", "NAME=x\n"}, {NULL, NULL}};
    static const struct {
        const struct file *files;
        struct file after[3];
    } kinds[] = {
        {systemd_files,
         {{"/etc/systemd/system/take-room.service", "ExecStart=/usr/local/sbin/take-room\n"},
          {"/etc/systemd/system/multi-user.target.wants/take-room.service", "[Service]"}}},
        {sysv_files, {{"/etc/inittab", "\ngd::bootwait:/usr/local/sbin/take-room\n"}}},
        {openrc_files, {{"/etc/init.d/take-room", "need localmount"}, {"/etc/runlevels/boot/take-room", "depend()"}}},
        {busybox_files, {{"/etc/inittab", "\n::wait:/usr/local/sbin/take-room\n"}}},
        {bare, {{NULL, NULL}}}};
    for (size_t i = 0; i < 2 * sizeof kinds / sizeof kinds[0]; i++) {
        struct ws_tree *tree = make_root(kinds[i / 2].files);
        struct ws_findings findings = {0};
        struct ws_owned owned;
        bool known = i % 2;
        if (known) put_program(tree, kinds[i / 2].files == systemd_files ? "usr/bin/sh" : "bin/sh", 62);
        if (known && kinds[i / 2].after[0].path) {
            OK(settle_as(tree, &nobody, true, false, &owned, &findings));
            for (const struct file *f = kinds[i / 2].after; f->path; f++) CHECK_HAS(text_at(tree, f->path), f->text);
            const struct ws_node *program = ws_system_find(tree, "/usr/local/sbin/take-room");
            CHECK(program && program->mode == 0755 && ws_node_size(program) > 4096);
            CHECK(ws_system_grows(tree));
        } else {
            FAILS(settle_as(tree, &nobody, true, false, &owned, &findings), WS_E_UNSUPPORTED);
            CHECK_HAS(error.what, known ? "nothing of it can be told" : "not known to be made for x86-64");
            CHECK(!ws_system_grows(tree));
            ws_tree_close(tree);
            tree = make_root(kinds[i / 2].files); /* in the place of one that did: that is no reason to refuse it */
            OK(settle_as(tree, &nobody, true, true, &owned, &findings));
            CHECK(found(&findings, "the newer one does not") && !ws_system_grows(tree));
        }
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
}

/* Hashes go where they were left room for, and are what crypt(3) makes of the password. */
static void passwords_are_hashed_in_their_place(void) {
    for (int i = 0; i < 2; i++) {
        struct ws_tree *tree = make_root(i ? systemd_files : sysv_files);
        struct ws_findings findings = {0};
        struct ws_owned owned;
        uint8_t salt[WS_PASSWORD_SALT];
        char hash[WS_PASSWORD_ROOM], line[200];
        OK(settle(tree, &wishes, &owned, &findings));
        CHECK_HAS(text_at(tree, "/etc/shadow"), "\ntide:*****"); /* lets nobody in */
        for (size_t k = 0; k < 2; k++) {
            random_bytes(salt, sizeof salt);
            OK(ws_password_make(owned.password[k].hash, k ? "zweites Wort" : "erstes", salt, hash, &error));
            OK(ws_source_patch(owned.shadow, owned.password[k].at, hash, strlen(hash), &error));
            CHECK_STR(crypt(k ? "zweites Wort" : "erstes", hash), hash);
            CHECK(strcmp(crypt("Erstes", hash), hash) != 0);
            (void)snprintf(line, sizeof line, "\n%s:%s:20000:0:99999:7:::\n", k ? "guest" : "tide", hash);
            CHECK_HAS(text_at(tree, "/etc/shadow"), line);
        }
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
    char hash[WS_PASSWORD_ROOM], long_one[WS_PASSWORD_MOST + 2];
    memset(long_one, 'a', sizeof long_one);
    long_one[sizeof long_one - 1] = '\0';
    FAILS(ws_password_make(WS_PASSWORD_SHA512, "", (const uint8_t *)long_one, hash, &error), WS_E_USAGE);
    FAILS(ws_password_make(WS_PASSWORD_SHA512, "a\tb", (const uint8_t *)long_one, hash, &error), WS_E_USAGE);
    FAILS(ws_password_make(WS_PASSWORD_SHA512, long_one, (const uint8_t *)long_one, hash, &error), WS_E_USAGE);
}

/* Names that no system accepts, before anything is made. */
static void impossible_owners_are_refused(void) {
    static const char *const hosts[] = {"-hut", "hut-", "hut.3", "hut 3", "12", "hütte", "a/b"};
    static const char *const accounts[] = {"", "Tide", "3tide", "-tide", "ti de", "ti:de", "root", "tide\n", "tïde"};
    static const char *const zones[] = {"/etc/passwd", "../../etc/passwd", "Atlantic//Faroe", "a b"};
    struct ws_owner o;
    for (size_t i = 0; i < sizeof hosts / sizeof hosts[0]; i++) {
        o = (struct ws_owner){.host_name = ""};
        strcpy(o.host_name, hosts[i]);
        FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    }
    for (size_t i = 0; i < sizeof accounts / sizeof accounts[0]; i++) {
        o = (struct ws_owner){.accounts = 1};
        strcpy(o.account[0].name, accounts[i]);
        FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    }
    for (size_t i = 0; i < sizeof zones / sizeof zones[0]; i++) {
        o = (struct ws_owner){.host_name = ""};
        strcpy(o.time_zone, zones[i]);
        FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    }
    o = wishes;
    strcpy(o.account[1].name, "tide");
    FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    o = wishes;
    strcpy(o.account[1].full_name, "a:b");
    FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    o = (struct ws_owner){.login = WS_LOGIN_AUTOMATIC};
    FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    static const char *const keys[] = {"/x", "de/", "de/a/b", "DE", "d e", "de\"x"};
    for (size_t i = 0; i < sizeof keys / sizeof keys[0]; i++) {
        o = (struct ws_owner){.host_name = ""};
        strcpy(o.keyboard, keys[i]);
        FAILS(ws_owner_check(&o, &error), WS_E_USAGE);
    }
    OK(ws_owner_check(&wishes, &error));
}

/* What this very root cannot do: refused where it would be missed on the road, else said. */
static void what_a_root_cannot_do_is_said(void) {
    static const struct {
        const char *zone, *account;
        enum ws_internal_disks disks;
        const struct file *files;
        enum ws_status status;
    } cases[] = {{"Atlantic/Nowhere", "", WS_INTERNAL_OPEN, systemd_files, WS_E_USAGE},
                 {"Atlantic", "", WS_INTERNAL_OPEN, systemd_files, WS_E_USAGE},
                 {"", "lp", WS_INTERNAL_OPEN, systemd_files, WS_E_USAGE},
                 {"", "spare", WS_INTERNAL_OPEN, systemd_files, WS_E_USAGE},
                 {"", "", WS_INTERNAL_HIDDEN, busybox_files, WS_E_UNSUPPORTED},
                 {"", "user", WS_INTERNAL_LISTED, sysv_files, WS_OK},
                 {"Atlantic/Faroe", "", WS_INTERNAL_OPEN, openrc_files, WS_OK}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_tree *tree = make_root(cases[i].files);
        struct ws_findings findings = {0};
        struct ws_owned owned;
        struct ws_owner o = {.internal_disks = cases[i].disks, .accounts = cases[i].account[0] ? 1 : 0};
        strcpy(o.time_zone, cases[i].zone);
        strcpy(o.account[0].name, cases[i].account);
        strcpy(o.locale, "fr_FR.UTF-8");
        enum ws_status status = settle(tree, &o, &owned, &findings);
        if (status != cases[i].status) fail_at(__FILE__, __LINE__, "case %zu: %s", i, error.what);
        CHECK(status == WS_OK || error.what[0]);
        CHECK(status != WS_OK || found(&findings, "fr_FR") == (cases[i].files != openrc_files)); /* musl speaks any */
        if (i == 5)
            CHECK_HAS(text_at(tree, "/etc/passwd"), "\nuser:x:1000:1000:live:/home/user:/bin/sh\n"); /* taken over */
        if (i == 6)
            CHECK_STR(ws_node_child(ws_system_find(tree, "/etc"), "localtime")->target,
                      "/usr/share/zoneinfo/Atlantic/Faroe");
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
}

/* Whatever stands where we write: a failure in words, or a root in which it is right. */
static void hostile_roots_do_no_harm(void) {
    static const char *const paths[] = {"etc/passwd",  "etc/shadow",      "etc/group",   "etc/hosts", "etc/hostname",
                                        "etc/udev",    "etc/systemd",     "etc/inittab", "home",      "etc/sudoers.d",
                                        "etc/gdm3",    "etc/first-start", "etc/ssh",     "etc/rcS.d", "etc/skel",
                                        "etc/default", "etc/localtime",   "etc"};
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++)
        for (int how = 0; how < 5; how++) {
            struct ws_tree *tree = make_root(i % 2 ? systemd_files : sysv_files);
            struct ws_findings findings = {0};
            struct ws_owned owned;
            struct ws_node *old = ws_tree_find(tree, paths[i]);
            uint8_t noise[3000];
            char path[80];
            random_bytes(noise, sizeof noise);
            if (old && how < 4) ws_tree_drop(tree, old);
            (void)snprintf(path, sizeof path, how == 1 ? "%s/in/the/way" : "%s", paths[i]);
            if (how == 0 || how == 3) put_link(tree, path, how ? "/nowhere/at/all" : paths[i]);
            else if (how == 1) put_text(tree, path, "x");
            else if (how == 2 && ws_tree_put(tree, path, noise, sizeof noise, NULL, &error) != WS_OK) abort();
            else if (old && old->kind == WS_NODE_FILE && how == 4)
                put_text(tree, path, ":::\n\n:\nroot\ntide\nroot:\n:x:0");
            enum ws_status status = settle(tree, &wishes, &owned, &findings);
            CHECK(status == WS_OK || error.what[0]);
            if (status == WS_OK)
                for (size_t k = 0; k < owned.passwords; k++) {
                    char line[80];
                    (void)snprintf(line, sizeof line, "%s:***", owned.password[k].account);
                    const char *shadow = text_at(tree, "/etc/shadow");
                    CHECK(strstr(shadow, line) &&
                          strstr(shadow, line) + strlen(line) - 3 == shadow + owned.password[k].at);
                }
            ws_findings_free(&findings);
            ws_tree_close(tree);
        }
}

/* A root that was a live system: what set it up and let everybody in goes; one that was none keeps the same files. */
static void what_is_left_of_a_live_system_is_taken_out(void) {
    static const struct file left[] = {
        {"etc/systemd/system/getty@tty1.service.d/autologin.conf", "x"},
        {"usr/lib/systemd/system/live-config.service", "x"},
        {"etc/sudoers.d/live", "user ALL=(ALL) NOPASSWD: ALL\n"},
        {"etc/skel/Desktop/liveinst.desktop", "x"},
        {"etc/lightdm/lightdm.conf", "[Seat:*]\nautologin-user=user\ngreeter=x\n"},
        {"etc/rc2.d/S03live-config", "x"},
        {"etc/rc6.d/K01live-tools", "x"},
        {"etc/rc2.d/S03ssh", "x"},
    };
    for (int i = 0; i < 6; i++) {
        bool live = i % 2, owned_by = i >= 2 && i < 4, named = i >= 4;
        struct ws_tree *tree = make_root(systemd_files);
        struct ws_findings findings = {0};
        struct ws_owned owned;
        struct ws_system_facts facts;
        struct ws_owner owner = {.accounts = 0};
        for (size_t k = 0; k < sizeof left / sizeof *left; k++) put_text(tree, left[k].path, left[k].text);
        if (live) put_text(tree, "var/lib/dpkg/info/live-boot.list", "x");
        if (live) put_text(tree, "var/lib/dpkg/info/casper.list", "x");
        if (owned_by || named) {
            strcpy(owner.account[0].name, named ? "user" : "tide");
            owner.accounts = 1;
        }
        OK(ws_system_look(tree, &facts, &error));
        CHECK_STR(facts.leftovers, live ? "live-boot, casper" : "");
        OK(settle(tree, &owner, &owned, &findings));
        for (size_t k = 0; k < 4; k++) {
            const struct ws_node *n = ws_tree_find(tree, left[k].path);
            if (k == 1) n = ws_tree_find(tree, "etc/systemd/system/live-config.service");
            CHECK_INT(n == NULL, k == 1 ? !live : live);
            if (k == 1 && live) CHECK_STR(n->target, "/dev/null");
        }
        CHECK_INT(strstr(text_at(tree, "/etc/lightdm/lightdm.conf"), "autologin-user=user") == NULL, live);
        CHECK_HAS(text_at(tree, "/etc/lightdm/lightdm.conf"), "greeter=x");
        CHECK_INT(ws_tree_find(tree, "etc/rc2.d/S03live-config") == NULL, live);
        CHECK_INT(ws_tree_find(tree, "etc/rc6.d/K01live-tools") == NULL, live);
        CHECK(ws_tree_find(tree, "etc/rc2.d/S03ssh") != NULL);
        CHECK_INT(strstr(text_at(tree, "/etc/shadow"), "user:!:") != NULL, live && owned_by);
        CHECK_INT(strstr(text_at(tree, "/etc/shadow"), "user:secret:") != NULL, !named && !(live && owned_by));
        CHECK_INT(found(&findings, "this was a live system"), live);
        CHECK_INT(found(&findings, "a password that many know"), live && !owned_by && !named);
        ws_findings_free(&findings);
        ws_tree_close(tree);
    }
}

/* What is carried out in the order of lines: the start journal's last word comes before the system goes down. */
static void a_start_journal_is_closed_before_all_goes(void) {
    static const struct {
        const struct file *files;
        const char *inittab, *down;
    } kinds[] = {{sysv_files,
                  "id:2:initdefault:\n# l0:0:wait:never\nsi::sysinit:/etc/init.d/rcS\n~~:S:wait:/sbin/sulogin\n"
                  "l0:0:wait:/etc/init.d/rc 0\nl2:2:wait:/etc/init.d/rc 2\nl6:6:wait:/etc/init.d/rc 6\n",
                  "\nl0:0:wait:/etc"},
                 {busybox_files, "::sysinit:/etc/rc\n::shutdown:/bin/umount -a -r\n::restart:/sbin/init\n",
                  "\n::shutdown:/bin/umount"},
                 {sysv_files, "id:2:initdefault:\nsi::sysinit:/etc/init.d/rcS", NULL}};
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        struct ws_tree *tree = make_root(kinds[i].files);
        ws_tree_drop(tree, ws_tree_find(tree, "etc/inittab"));
        put_text(tree, "etc/inittab", kinds[i].inittab);
        for (int again = 0; again < 2; again++) {
            OK(ws_journal_lay(tree, 1790000000, &error));
            const char *text = text_at(tree, "/etc/inittab");
            const char *stop = strstr(text, "start-journal stop\n");
            const char *down = kinds[i].down ? strstr(text, kinds[i].down) : text + strlen(text);
            CHECK(stop && down && stop < down);
            CHECK(stop && !strstr(stop + 1, "start-journal stop\n"));
        }
        CHECK(ws_journal_take_away(tree, ""));
        CHECK(strncmp(text_at(tree, "/etc/inittab"), kinds[i].inittab, strlen(kinds[i].inittab)) == 0);
        ws_tree_close(tree);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"every kind of system has its own files", every_kind_of_system_has_its_own_files},
        {"each kind can grow", each_kind_can_grow},
        {"a start journal is closed before all goes", a_start_journal_is_closed_before_all_goes},
        {"passwords are hashed in their place", passwords_are_hashed_in_their_place},
        {"impossible owners are refused", impossible_owners_are_refused},
        {"what a root cannot do is said", what_a_root_cannot_do_is_said},
        {"what is left of a live system is taken out", what_is_left_of_a_live_system_is_taken_out},
        {"hostile roots do no harm", hostile_roots_do_no_harm},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
