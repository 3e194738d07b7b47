/* test_image.c — images as they come: packed, in archives, as a squashfs root, published, signed, damaged. */
#include "tests/harness.h"

#include "demo/demo_image.h"

enum { MIB = 1 << 20 };

static struct ws_source *open_file(const char *path) {
    struct ws_source *s = NULL;
    if (ws_source_file(path, &s, &error) != WS_OK) fail_at(__FILE__, __LINE__, "%s: %s", path, error.what);
    return s;
}

/* The demo image as a file, in a folder of its own. */
static const char *demo_file(const struct demo_params *params) {
    struct demo_image image;
    const char *folder = scratch("images");
    static char path[600];
    shell(NULL, "rm -rf '%s'; mkdir -p '%s'", folder, folder);
    snprintf(path, sizeof path, "%s/curlew.iso", folder);
    if (demo_image_make(params, &image, &error) != WS_OK) fail_at(__FILE__, __LINE__, "%s", error.what);
    save_source(image.source, path);
    demo_image_free(&image);
    return path;
}

static void compressed_images_are_what_they_were(void) {
    static const struct {
        const char *command, *suffix, *format;
    } packers[] = {{"gzip -k", ".gz", "gzip"},
                   {"bzip2 -k", ".bz2", "bzip2"},
                   {"xz -0 -k", ".xz", "xz"},
                   {"zstd -q", ".zst", "zstd"},
                   {"zip -q -j curlew.iso.zip", ".zip", "zip"}};
    const char *path = demo_file(&(struct demo_params){.family = "live-boot", .table = DEMO_MBR});
    char was[WS_HASH_HEX], is[WS_HASH_HEX];
    struct ws_source *plain = open_file(path);
    OK(ws_source_hash(plain, WS_HASH_SHA256, was, &error));
    for (size_t i = 0; i < sizeof packers / sizeof packers[0]; i++) {
        char packed_path[700];
        struct ws_packed_facts packed;
        struct ws_source *s = NULL, *packed_file;
        CHECK_INT(shell(NULL, "cd \"$(dirname '%s')\" && %s curlew.iso", path, packers[i].command), 0);
        snprintf(packed_path, sizeof packed_path, "%s%s", path, packers[i].suffix);
        OK(ws_linux_open_image(packed_path, &s, &packed, &error));
        CHECK_STR(packed.format, packers[i].format);
        CHECK_INT(s->size, plain->size);
        OK(ws_source_hash(s, WS_HASH_SHA256, is, &error));
        CHECK_STR(is, was);
        ws_source_close(s);
        /* cut short at any place, and with any byte changed: an error or the same bytes, never a crash */
        packed_file = open_file(packed_path);
        for (int k = 0; k < 6; k++) {
            char bad_path[700];
            uint64_t kept = k ? random_below(packed_file->size) : packed_file->size - 1; /* the end says that it ends */
            snprintf(bad_path, sizeof bad_path, "%s.bad", path);
            shell(NULL, "head -c %llu '%s' > '%s'", (unsigned long long)kept, packed_path, bad_path);
            enum ws_status status = ws_linux_open_image(bad_path, &s, &packed, &error);
            if (status == WS_OK && packed.format[0])
                fail_at(__FILE__, __LINE__, "%s cut short was taken", packers[i].format);
            if (status == WS_OK) {
                struct ws_image image;
                status = ws_image_inspect(s, &image, &error);
                if (status == WS_OK && kept > 16)
                    fail_at(__FILE__, __LINE__, "%llu bytes of %s are taken for whole", (unsigned long long)kept,
                            packers[i].format);
                ws_image_free(&image);
                ws_source_close(s);
            } else {
                CHECK(error.what[0] && error.where[0]);
            }
        }
        ws_source_close(packed_file);
    }
    struct ws_packed_facts none;
    FAILS(ws_packed_probe(plain, &none, &error), WS_E_NOTFOUND);
    ws_source_close(plain);
}

static void archives_and_folders_of_a_medium_are_known(void) {
    static const char *const made[] = {"tar cf m.tar -C m .",       "tar cJf m.tar.xz -C m .",
                                       "tar czf m.tgz -C m .",      "(cd m && zip -qr ../m.zip .)",
                                       "bsdtar -a -cf m.7z -C m .", NULL};
    static const char *const names[] = {"m.tar", "m.tar.xz", "m.tgz", "m.zip", "m.7z"};
    const char *folder = scratch("medium");
    shell(NULL, "mkdir -p '%s/m/live' '%s/m/EFI/BOOT' '%s/m/boot/grub'", folder, folder, folder);
    shell(NULL,
          "cd '%s/m' && printf 'menuentry \"Curlew Live\" {\\n linux /live/vmlinuz boot=live quiet\\n initrd "
          "/live/initrd.img\\n}\\n' > boot/grub/grub.cfg && head -c 3000000 /dev/urandom > live/filesystem.squashfs "
          "&& echo k > live/vmlinuz",
          folder);
    char path[700];
    for (size_t i = 0; made[i]; i++) {
        struct ws_image image;
        struct ws_tree *tree = NULL;
        CHECK_INT(shell(NULL, "cd '%s' && %s", folder, made[i]), 0);
        snprintf(path, sizeof path, "%s/%s", folder, names[i]);
        struct ws_source *s = open_file(path);
        OK(ws_image_inspect(s, &image, &error));
        CHECK_INT(image.kind, WS_IMAGE_ARCHIVE);
        CHECK(image.family && strcmp(image.family->word, "live-boot") == 0);
        CHECK_INT(image.files, 3);
        CHECK_STR(image.default_title, "Curlew Live");
        ws_image_free(&image);
        OK(ws_archive_read(s, &tree, &error)); /* contents too, the large one as well, in any order */
        char a[WS_HASH_HEX], b[WS_HASH_HEX], tail[1000];
        const struct ws_node *n = ws_tree_find(tree, "live/filesystem.squashfs");
        OK(ws_source_read(n->content, 2000000, tail, sizeof tail, &error));
        OK(ws_source_hash(n->content, WS_HASH_SHA256, a, &error));
        ws_tree_close(tree);
        ws_source_close(s);
        char file[700];
        snprintf(file, sizeof file, "%s/m/live/filesystem.squashfs", folder);
        s = open_file(file);
        OK(ws_source_hash(s, WS_HASH_SHA256, b, &error));
        CHECK_STR(a, b);
        ws_source_close(s);
    }
    struct ws_tree *tree = NULL;
    struct ws_image image;
    snprintf(path, sizeof path, "%s/m", folder);
    OK(ws_tree_from_folder(path, &tree, &error));
    OK(ws_image_inspect_files(tree, &image, &error));
    CHECK_INT(image.kind, WS_IMAGE_FOLDER);
    CHECK(image.family && image.files == 3);
    ws_image_free(&image);
    ws_tree_close(tree);
}

static void an_archive_that_reaches_outside_is_refused(void) {
    const char *folder = scratch("evil");
    char path[700];
    struct ws_tree *tree = NULL;
    shell(NULL,
          "mkdir -p '%s' && cd '%s' && python3 -c \"\nimport tarfile, io\nt = tarfile.open('evil.tar', 'w')\ni = "
          "tarfile.TarInfo('a/../../b'); i.size = 1\nt.addfile(i, io.BytesIO(b'x'))\nt.close()\"",
          folder, folder);
    snprintf(path, sizeof path, "%s/evil.tar", folder);
    struct ws_source *s = open_file(path);
    FAILS(ws_archive_read(s, &tree, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "leave it");
    ws_source_close(s);
}

/* Other people's tool packs a random tree; ours reads it back the same. */
static void squashfs_volumes_are_read_as_they_were_packed(void) {
    if (!have_program("gensquashfs")) {
        skip_test("no tool that packs squashfs is installed");
        return;
    }
    static const char *const compressors[] = {"gzip", "xz", "zstd"};
    for (int i = 0; i < 12; i++) {
        const char *folder = scratch("squash");
        char path[700];
        struct ws_tree *wanted = NULL, *seen = NULL;
        struct ws_squashfs_facts facts;
        snprintf(path, sizeof path, "%s.sqfs", folder);
        shell(NULL,
              "rm -rf '%s' '%s'; mkdir -p '%s'; cd '%s'; for i in $(seq 1 %d); do mkdir -p d$((i %% 7))/e$((i %% 3)); "
              "head -c $((i * %d)) /dev/urandom > d$((i %% 7))/f$i; done; ln -s ../f1 d1/link; ln d1/f1 d1/twin; "
              "chmod 751 d1/f8; head -c 400000 /dev/zero > zeros; : > empty",
              folder, path, folder, folder, 20 + (int)random_below(100), 1 + (int)random_below(9000));
        CHECK_INT(shell(NULL, "gensquashfs -q -c %s -D '%s' '%s'", compressors[i % 3], folder, path), 0);
        struct ws_source *s = open_file(path);
        OK(ws_tree_from_folder(folder, &wanted, &error));
        OK(ws_squashfs_read(s, &seen, &facts, &error));
        CHECK_STR(facts.compressor, compressors[i % 3]);
        compare_trees(seen, wanted, TREE_LINKS);
        struct ws_image image;
        OK(ws_image_inspect(s, &image, &error));
        CHECK_INT(image.kind, WS_IMAGE_ROOT);
        ws_image_free(&image);
        ws_tree_close(seen);
        ws_tree_close(wanted);
        char *bytes = malloc((size_t)s->size);
        OK(ws_source_read(s, 0, bytes, (size_t)s->size, &error));
        for (int k = 0; k < 60; k++) { /* damaged anywhere: an error in words or a tree, never a crash */
            struct ws_source *bad = NULL;
            size_t at = (size_t)random_below(s->size);
            char kept = bytes[at];
            bytes[at] = (char)random_next();
            OK(ws_source_memory(bytes, k % 3 ? (size_t)s->size : (size_t)random_below(s->size), &bad, &error));
            memset(&error, 0, sizeof error);
            if (ws_squashfs_read(bad, &seen, NULL, &error) == WS_OK) ws_tree_close(seen);
            else CHECK(error.what[0]);
            ws_source_close(bad);
            bytes[at] = kept;
        }
        free(bytes);
        ws_source_close(s);
    }
}

static void published_lists_are_read_in_both_styles(void) {
    static const char a[] = "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef";
    static const char b[] = "ffffffffffffffffffffffffffffffff";
    static const struct {
        const char *list, *name, *hex;
    } cases[] = {
        {"0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef  curlew.iso\n", "curlew.iso", a},
        {"0123456789ABCDEF0123456789abcdef0123456789abcdef0123456789abcdef *curlew.iso\r\n", "/x/curlew.iso", a},
        {"SHA256 (curlew.iso) = 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef", "curlew.iso", a},
        {"# made by hand\n\nffffffffffffffffffffffffffffffff  ./live/curlew.iso\n", "curlew.iso", b},
        {"ffffffffffffffffffffffffffffffff  curlew.iso\nSHA256 (curlew.iso) = "
         "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef\n",
         "curlew.iso", a},
        {"ffffffffffffffffffffffffffffffff\n", "anything.iso", b},
        {"\\ffffffffffffffffffffffffffffffff  back\\\\slash\\nline\n", "back\\slash\nline", b},
        {"MD5 (with (brackets) = x.iso) = ffffffffffffffffffffffffffffffff\n", "with (brackets) = x.iso", b},
        {"ffffffffffffffffffffffffffffffff  other.iso\n", "curlew.iso", NULL},
        {"ffffffffffffffffffffffffffffffff  curlew.iso.torrent\n", "curlew.iso", NULL},
        {"fffffffffffffffffffffffffffffff  curlew.iso\n", "curlew.iso", NULL},
        {"SHA256 (curlew.iso) = ffffffffffffffffffffffffffffffff\n", "curlew.iso", NULL},
        {"", "curlew.iso", NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_published p;
        if (cases[i].hex) {
            OK(ws_published_find(cases[i].list, strlen(cases[i].list), cases[i].name, &p, &error));
            CHECK_STR(p.hex, cases[i].hex);
        } else {
            FAILS(ws_published_find(cases[i].list, strlen(cases[i].list), cases[i].name, &p, &error), WS_E_NOTFOUND);
        }
    }
    for (int i = 0; i < 3000; i++) {
        char noise[200];
        struct ws_published p;
        for (size_t k = 0; k < sizeof noise; k++) noise[k] = "0af (SHA256)=*\\\n x/"[random_below(19)];
        (void)ws_published_find(noise, random_below(sizeof noise), "x", &p, &error);
    }
}

static void signatures_are_checked_against_the_given_keys_only(void) {
    if (!have_program("gpg")) {
        skip_test("no OpenPGP program is installed");
        return;
    }
    const char *folder = scratch("keys");
    char list[700], signature[700], keyring[700], other[700], who[200];
    CHECK_INT(
        shell(
            NULL,
            "mkdir -p '%s/h' '%s/o' && cd '%s' && chmod 700 h o && echo text > SHA256SUMS && for k in h o; do gpg -q "
            "--homedir $k --batch --passphrase '' --quick-gen-key \"key $k <$k@gannet.example>\" ed25519 sign never && "
            "gpg -q --homedir $k --export > $k.keys; done && gpg -q --homedir h --batch -b -o SHA256SUMS.sig "
            "SHA256SUMS; gpgconf --homedir h --kill all; gpgconf --homedir o --kill all; test -s SHA256SUMS.sig",
            folder, folder, folder),
        0);
    snprintf(list, sizeof list, "%s/SHA256SUMS", folder);
    snprintf(keyring, sizeof keyring, "%s/h.keys", folder);
    snprintf(other, sizeof other, "%s/o.keys", folder);
    CHECK(ws_linux_find_signature(list, signature, sizeof signature));
    OK(ws_linux_check_signature(keyring, signature, list, who, sizeof who, &error));
    CHECK_HAS(who, "key h");
    FAILS(ws_linux_check_signature(other, signature, list, who, sizeof who, &error), WS_E_DIFFERENT);
    FAILS(ws_linux_check_signature(list, signature, list, who, sizeof who, &error), WS_E_FORMAT);
    shell(NULL, "echo more >> '%s'", list);
    FAILS(ws_linux_check_signature(keyring, signature, list, who, sizeof who, &error), WS_E_DIFFERENT);
    CHECK_INT(shell(NULL, "ls -d /tmp/satchel-keys-* 2>/dev/null"), 2); /* nothing is left behind */
}

/* Damage is named: what, where, and what to do. */
static void damage_is_named_precisely(void) {
    const char *path = demo_file(&(struct demo_params){.family = "live-boot", .table = DEMO_MBR});
    struct ws_source *good = open_file(path);
    struct ws_iso *iso = NULL;
    struct ws_image image;
    OK(ws_iso_open(good, &iso, &error));
    const struct ws_node *live = ws_tree_find(ws_iso_tree(iso), "live");
    const struct ws_node *menu = ws_tree_find(ws_iso_tree(iso), "boot/grub/grub.cfg");
    uint64_t live_record = live->origin, menu_record = menu->origin;
    uint64_t root_at = ws_tree_root(ws_iso_tree(iso))->work;
    struct ws_source *s = NULL;
    OK(ws_source_slice(good, 0, good->size - 1, &s, &error));
    FAILS(ws_image_inspect(s, &image, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "cut short");
    CHECK_HAS(error.next, "download it again");
    ws_source_close(s);
    uint8_t both[8] = {0};
    both[0] = 20; /* sectors: far less than its files need */
    OK(ws_source_patched(good, good->size, &s, &error));
    OK(ws_source_patch(s, 16 * 2048 + 80, both, 8, &error));
    OK(ws_image_inspect(s, &image, &error));
    CHECK_INT(ws_findings_worst(&image.findings), WS_FAULT);
    ws_image_free(&image);
    ws_source_close(s);
    uint8_t place[4] = {(uint8_t)(root_at / 2048), (uint8_t)(root_at / 2048 >> 8), 0, 0};
    OK(ws_source_patched(good, good->size, &s, &error));
    OK(ws_source_patch(s, live_record + 2, place, 4, &error));
    FAILS(ws_image_inspect(s, &image, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "/live");
    CHECK_HAS(error.what, "circle");
    ws_source_close(s);
    uint8_t record[256];
    OK(ws_source_read(good, menu_record, record, sizeof record, &error));
    for (size_t i = 33; i + 8 < record[0]; i++) /* its Rock Ridge name becomes ".." */
        if (record[i] == 'N' && record[i + 1] == 'M') {
            record[i + 2] = 7;
            memcpy(record + i + 5, "..", 2);
            record[i + 7] = record[i + 8] = 0;
            break;
        }
    OK(ws_source_patched(good, good->size, &s, &error));
    OK(ws_source_patch(s, menu_record, record, record[0], &error));
    FAILS(ws_image_inspect(s, &image, &error), WS_E_FORMAT);
    CHECK_HAS(error.what, "\"..\"");
    CHECK_HAS(error.what, "/boot/grub");
    ws_source_close(s);
    ws_iso_close(iso);
    ws_source_close(good);
}

/* A UDF volume beside the ISO 9660 one is told; so is an image of a whole drive, and noise. */
static void other_images_are_told_apart(void) {
    struct demo_image d;
    struct ws_source *s = NULL;
    struct ws_image image;
    OK(demo_image_make(&(struct demo_params){.family = "live-boot", .table = DEMO_NO_TABLE}, &d, &error));
    OK(ws_image_inspect(d.source, &image, &error));
    CHECK_INT(image.kind, WS_IMAGE_DISC);
    CHECK(!image.udf && image.kernels_64 && !image.kernels_32 && image.root_bytes > 0);
    ws_image_free(&image);
    OK(ws_source_patched(d.source, d.source->size, &s, &error));
    OK(ws_source_patch(s, 25 * 2048 + 1, "NSR02", 5, &error));
    OK(ws_image_inspect(s, &image, &error));
    CHECK(image.udf);
    ws_image_free(&image);
    ws_source_close(s);
    demo_image_free(&d);
    struct ws_layout *drive = NULL;
    struct ws_table *table = malloc(sizeof *table);
    struct ws_guid id = {{1}};
    unsigned number;
    ws_table_new_mbr(table, 64 * MIB, 512, 7);
    OK(ws_table_add(table, MIB, 32 * MIB, "linux", &id, "", &number, &error));
    OK(ws_layout_create(64 * MIB, &drive, &error));
    OK(ws_table_compose(table, drive, &error));
    OK(ws_layout_seal(drive, &error));
    OK(ws_layout_source(drive, &s, &error));
    OK(ws_image_inspect(s, &image, &error));
    CHECK_INT(image.kind, WS_IMAGE_DRIVE);
    char why[200];
    CHECK_INT(ws_plan_choose_kind(&image, why, sizeof why), WS_KIND_REPLICA);
    CHECK_HAS(why, "no live image");
    ws_image_free(&image);
    ws_source_close(s);
    ws_layout_close(drive);
    free(table);
    char noise[70000];
    for (int i = 0; i < 200; i++) { /* noise of any length is never more than unknown, or damaged in words */
        random_bytes(noise, sizeof noise);
        if (i % 4 == 0) memcpy(noise, i % 8 ? "\x1f\x8b\x08" : "PK\3\4", 4);
        OK(ws_source_memory(noise, 1 + (size_t)random_below(sizeof noise - 1), &s, &error));
        memset(&error, 0, sizeof error);
        if (ws_image_inspect(s, &image, &error) == WS_OK) ws_image_free(&image);
        else CHECK(error.what[0]);
        ws_source_close(s);
    }
}

/* The distribution's own signed loader, where the real image has been made. */
static void a_signed_loader_says_who_signed_it(void) {
    struct ws_loader l = {.machine = ""};
    char path[700];
    const char *folder = scratch("shim");
    if (shell(NULL, "mkdir -p '%s' && dpkg-deb -x %s/packages/shim-signed_*.deb '%s'", folder, WS_FIXTURE, folder) !=
        0) {
        skip_test("the real live image is not made yet");
        return;
    }
    snprintf(path, sizeof path, "%s/usr/lib/shim/shimx64.efi.signed", folder);
    struct ws_source *s = open_file(path);
    CHECK(ws_loader_look(s, &l));
    CHECK_STR(l.machine, "x86-64");
    CHECK(l.signed_ && l.signer[0] && l.issuer[0]);
    char *bytes = malloc((size_t)s->size);
    OK(ws_source_read(s, 0, bytes, (size_t)s->size, &error));
    for (int i = 0; i < 300; i++) {
        struct ws_source *bad = NULL;
        size_t at = random_below(2) ? (size_t)random_below(4096) : (size_t)(s->size - 1 - random_below(4000));
        char kept = bytes[at];
        bytes[at] = (char)random_next();
        OK(ws_source_memory(bytes, (size_t)s->size, &bad, &error));
        (void)ws_loader_look(bad, &l);
        ws_source_close(bad);
        bytes[at] = kept;
    }
    free(bytes);
    ws_source_close(s);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"compressed images are what they were", compressed_images_are_what_they_were},
        {"archives and folders of a medium are known", archives_and_folders_of_a_medium_are_known},
        {"an archive that reaches outside is refused", an_archive_that_reaches_outside_is_refused},
        {"squashfs volumes are read as they were packed", squashfs_volumes_are_read_as_they_were_packed},
        {"published lists are read in both styles", published_lists_are_read_in_both_styles},
        {"signatures are checked against the given keys only", signatures_are_checked_against_the_given_keys_only},
        {"damage is named precisely", damage_is_named_precisely},
        {"other images are told apart", other_images_are_told_apart},
        {"a signed loader says who signed it", a_signed_loader_says_who_signed_it},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
