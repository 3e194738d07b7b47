/* test_used.c — what is in use on a volume of another file system, filled by its own drivers: a copy of that alone over
 * rubbish is as good as the whole for its checker and its driver. */
#include "tests/harness.h"

#include "wild_satchel/used.h"

#include <fcntl.h>
#include <unistd.h>

enum { MIB = 1 << 20 };

/* How it is made, mounted, judged; %s: the image. */
static const struct kind {
    const char *word, *make, *mount, *judge;
} kinds[] = {
    {"NTFS", "mkntfs -q -f -F -c %u %s >/dev/null 2>&1", "ntfs-3g -o big_writes", "ntfsfix -n %s"},
    {"XFS", "mkfs.xfs -q -f -b size=%u %s", "mount -t xfs -o loop,nouuid", "xfs_repair -n %s"},
    {"Btrfs", "mkfs.btrfs -q -f -M -n 4096 -s %u %s", "mount -t btrfs -o loop", "btrfs check %s"},
    {"Btrfs", "mkfs.btrfs -q -f -m dup -d single -n %u %s", "mount -t btrfs -o loop", "btrfs check %s"},
};

static bool have_kind(const struct kind *k) {
    char program[32];
    (void)snprintf(program, sizeof program, "%.*s", (int)strcspn(k->make, " "), k->make);
    return have_program(program) && may_mount();
}

/* Files come, grow and go; what stays is listed with its digest. */
static bool fill(const struct kind *k, const char *image, unsigned size, unsigned block) {
    char make[200];
    struct ws_text said = {0};
    const char *place = scratch("place"), *list = scratch("list");
    snprintf(make, sizeof make, k->make, block, image);
    const int code = shell(
        &said,
        "exec 2>&1; i=%s p=%s l=%s; rm -f $i && truncate -s %uM $i && %s && mkdir -p $p && %s $i $p && cd $p && "
        "for n in $(seq %u); do mkdir -p d$((n %% 7)); "
        "head -c $((n * n * 431 %% 900000)) /dev/urandom > d$((n %% 7))/f$n; done && "
        "head -c %u /dev/urandom > large && rm -f d*/f*[0-3] && find . -type f | sort | xargs sha256sum > $l && "
        "cd / && sync && umount $p",
        image, place, list, size, make, k->mount, 100 + (unsigned)random_below(150), (unsigned)random_below(60 * MIB));
    if (code) fail_at(__FILE__, __LINE__, "%s", said.data);
    ws_text_free(&said);
    return code == 0;
}

/* Only what is in use goes over a file that is full of something else. */
static bool copy_used(const struct ws_source *source, const struct ws_used *used, const char *copy) {
    uint8_t *room = malloc(MIB);
    int fd = open(copy, O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
    bool good = fd >= 0;
    size_t next = 0;
    for (uint64_t at = 0; at < source->size && good; at += MIB) {
        const size_t n = source->size - at < MIB ? (size_t)(source->size - at) : MIB;
        while (next < used->count && used->stretch[next].at + used->stretch[next].length <= at) next++;
        memset(room, 0xa5, n);
        if (next < used->count && used->stretch[next].at <= at)
            good = ws_source_read(source, at, room, n, &error) == WS_OK;
        good = good && pwrite(fd, room, n, (off_t)at) == (ssize_t)n;
    }
    if (fd >= 0) close(fd);
    free(room);
    return good;
}

static void judge(const struct kind *k, const char *copy) {
    char check[100];
    struct ws_text said = {0};
    const char *place = scratch("place");
    snprintf(check, sizeof check, k->judge, copy);
    if (shell(&said,
              "exec 2>&1; %s && %s %s %s && cd %s && sha256sum --quiet -c %s; code=$?; cd / && umount %s; exit $code",
              check, k->mount, copy, place, place, scratch("list"), place) != 0)
        fail_at(__FILE__, __LINE__, "%s", said.data);
    ws_text_free(&said);
}

static void a_copy_of_what_is_used_is_as_good(void) {
    for (int i = 0; i < cases_of(4); i++) {
        const struct kind *k = &kinds[i % 4];
        const char *image = scratch("image"), *copy = scratch("copy");
        const unsigned size = 410 + (unsigned)random_below(300); /* Btrfs tells of whole chunks */
        const unsigned block = i % 4 == 0   ? 512u << random_below(7)
                               : i % 4 == 1 ? 1024u << random_below(3)
                               : i % 4 == 2 ? 4096
                                            : 4096u << random_below(3);
        struct ws_source *source = NULL;
        struct ws_used used;
        if (!have_kind(k)) continue;
        if (fill(k, image, size, block)) {
            OK(ws_source_file(image, &source, &error));
            OK(ws_used_look(source, &used, &error));
            CHECK(used.bytes < source->size * 8 / 10);
            CHECK(copy_used(source, &used, copy));
            judge(k, copy);
            ws_used_free(&used);
            ws_source_close(source);
        }
        unlink(copy);
        unlink(image);
    }
}

/* What was not left in order may say what is no longer true. */
static void else_it_is_not_trusted(void) {
    static const char *const harm[] = {
        "ntfsfix %s >/dev/null 2>&1", /* marks it for its own system to look at */
        "p=$(mktemp -d) && mount -t xfs -o loop,nouuid %s $p && cd $p && touch new && xfs_io -x -c 'shutdown -f' . "
        "&& cd / && umount $p",
        "printf '\\002' | dd of=%s bs=1 seek=65672 conv=notrunc status=none", /* on two devices, and its checksum is
                                                                                 wrong */
    };
    static const char *const says[] = {"it is marked as not left in order", "it was not unmounted in order",
                                       "its superblock is"};
    for (size_t i = 0; i < 3; i++) {
        const char *image = scratch("image");
        struct ws_source *source = NULL;
        struct ws_used used;
        char command[300];
        if (!have_kind(&kinds[i]) || !fill(&kinds[i], image, 310, 4096)) continue;
        snprintf(command, sizeof command, harm[i], image);
        CHECK_INT(shell(NULL, "%s", command), 0);
        OK(ws_source_file(image, &source, &error));
        CHECK_INT(ws_used_look(source, &used, &error), i == 2 ? WS_E_FORMAT : WS_E_UNSUPPORTED);
        CHECK_HAS(error.what, says[i]);
        ws_used_free(&used);
        ws_source_close(source);
    }
}

/* Bytes of what it goes by, changed: an answer, whatever it is, and soon. */
static void damage_is_survived(void) {
    for (size_t k = 0; k < 3; k++) {
        const char *image = scratch("image");
        struct ws_source *source = NULL, *patched = NULL;
        struct ws_used used;
        unsigned refused = 0;
        if (!have_kind(&kinds[k]) || !fill(&kinds[k], image, 310, 4096)) continue;
        OK(ws_source_file(image, &source, &error));
        for (int i = 0; i < cases_of(200); i++) {
            static const uint64_t places[][4] = {{0, 4096ull * 4, 4096ull * 4 + 3072, 4096ull * 4 + 6144},
                                                 {0, 512, 4096, 8192},
                                                 {65536, 65536 + 0x32b, 20 * MIB, 22 * MIB}};
            OK(ws_source_patched(source, source->size, &patched, &error));
            for (unsigned n = 1 + (unsigned)random_below(4); n; n--) {
                uint8_t byte = (uint8_t)random_next();
                OK(ws_source_patch(patched, places[k][random_below(4)] + random_below(600), &byte, 1, &error));
            }
            refused += ws_used_look(patched, &used, &error) != WS_OK;
            ws_used_free(&used);
            ws_source_close(patched);
        }
        CHECK(refused > 0);
        ws_source_close(source);
    }
}

static void others_are_none(void) {
    struct ws_source *zeros = NULL;
    struct ws_used used;
    for (uint64_t size = 512; size < 1ull << 33; size *= 8) {
        OK(ws_source_zeros(size, &zeros, &error));
        FAILS(ws_used_look(zeros, &used, &error), WS_E_NOTFOUND);
        ws_used_free(&used);
        ws_source_close(zeros);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"a copy of what is used is as good", a_copy_of_what_is_used_is_as_good},
                                        {"else it is not trusted", else_it_is_not_trusted},
                                        {"damage is survived", damage_is_survived},
                                        {"others are none", others_are_none},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
