/* bed.c — a live drive that remembers, in memory: laid down, filled, changed, judged. */
#include "tests/bed.h"

#include "demo/demo_image.h"

#include <fcntl.h>
#include <unistd.h>

bool build_bed(struct bed *b, const char *family, bool locked) {
    struct demo_params p = {.family = family, .table = DEMO_MBR};
    struct demo_image image;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct planned plan;
    enum ws_status status;
    memset(b, 0, sizeof *b);
    b->drive = memory_drive(BED_DRIVE, 512);
    planned_begin(&plan, WS_KIND_LIVE, &b->drive->facts);
    ws_request_want(&plan.request, WS_ROLE_PERSISTENCE)->locked = locked;
    struct ws_build_options o = {.confirm = plan.setting.drive.name};
    status = demo_image_make(&p, &image, &error);
    if (status == WS_OK) status = planned_prepare(&plan, image.source, &build);
    if (status == WS_OK && locked) status = ws_build_password(build, 0, PASSPHRASE, &error);
    if (status == WS_OK) status = ws_build_carry_out(build, plain_port(), &b->drive->drive, &o, &result, &error);
    if (status == WS_OK) status = ws_source_drive(&b->drive->drive, &b->now, &error);
    if (status == WS_OK) b->at = VOLUME(plan, PERSISTENCE)->at;
    if (status == WS_OK) b->size = VOLUME(plan, PERSISTENCE)->size;
    if (status != WS_OK) fail_at(__FILE__, __LINE__, "no bed: %s", error.what);
    ws_build_close(build);
    demo_image_free(&image);
    return status == WS_OK;
}

void free_bed(struct bed *b) {
    ws_source_close(b->now);
    memory_drive_free(b->drive);
}

static void lay_down(struct bed *b, struct ws_tree *tree, uint16_t mounts) {
    struct ws_ext4_params p = {.size = b->size, .label = "persistence", .made_at = 1790000000, .mounts = mounts};
    struct ws_ext4_geometry g;
    struct ws_layout *layout = NULL;
    random_bytes(p.id.byte, 16);
    OK(ws_ext4_measure(&p, tree, &g, &error));
    OK(ws_layout_create(BED_DRIVE, &layout, &error));
    OK(ws_ext4_compose(&g, b->at, layout, WS_PHASE_BODY, &error));
    OK(ws_layout_seal(layout, &error));
    memory_drive_fill(b->drive, layout);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
}

/* A random tree of changes, as if a system had made them. */
void fill_bed(struct bed *b, const char *top, size_t nodes, uint16_t mounts) {
    struct ws_tree *tree = NULL, *changes = random_tree(nodes, TREE_ALL, 20000);
    struct ws_node *folder = NULL;
    OK(ws_tree_create(&tree, &error));
    put_text(tree, "persistence.conf", "/ union\n");
    OK(ws_tree_folder(tree, top, &folder, &error));
    OK(ws_tree_graft(tree, folder, changes, &error));
    OK(ws_tree_folder(tree, "work/work", &folder, &error));
    put_text(tree, "rw/var/cache/apt/archives/tide_1.deb", "a package that was installed long ago");
    put_text(tree, "rw/var/log/kern.log.1", "old");
    put_text(tree, "rw/home/tide/notes", "low water at six");
    put_text(tree, "rw/home/tide/.cache/thumbs/1", "small");
    lay_down(b, tree, mounts);
    ws_tree_close(tree);
    ws_tree_close(changes);
}

/* One large file, which stands for much. */
void fill_bed_with(struct bed *b, size_t bytes) {
    struct ws_tree *tree = NULL;
    struct ws_node *folder = NULL;
    uint8_t *content = malloc(bytes);
    random_bytes(content, bytes);
    OK(ws_tree_create(&tree, &error));
    put_text(tree, "persistence.conf", "/ union\n");
    OK(ws_tree_put(tree, "rw/large", content, bytes, NULL, &error));
    put_text(tree, "rw/home/tide/notes", "low water at six");
    put_text(tree, "rw/var/cache/apt/archives/tide_1.deb", "a package that was installed long ago");
    OK(ws_tree_folder(tree, "work/work", &folder, &error));
    lay_down(b, tree, 3);
    ws_tree_close(tree);
    free(content);
}

struct ws_kept *open_kept(struct bed *b, const char *passphrase) {
    struct ws_kept *kept = NULL;
    memset(&error, 0, sizeof error);
    if (ws_kept_open(b->now, 512, passphrase, &kept, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s; %s", error.what, error.next);
    return kept;
}

enum ws_status carry_out(struct bed *b, struct ws_kept *kept) {
    const struct ws_kept_options o = {.confirm = b->drive->facts.short_name};
    struct ws_write_result result;
    memset(&error, 0, sizeof error);
    return ws_kept_carry_out(kept, plain_port(), &b->drive->drive, &o, &result, &error);
}

void check_volume(struct bed *b, const char *when) {
    const char *path = scratch("volume.img");
    struct ws_source *slice = NULL;
    struct ws_text out = {0};
    OK(ws_source_slice(b->now, b->at, b->size, &slice, &error));
    save_source(slice, path);
    int rc = have_program("e2fsck") ? shell(&out, "e2fsck -fn '%s'", path) : 0;
    if (rc) fail_at(__FILE__, __LINE__, "%s, the checker (%d) says %s", when, rc, out.data);
    ws_text_free(&out);
    ws_source_close(slice);
}

/* A random history by the kernel's overlay on the kernel's ext4, the plug pulled now and then. */
bool kernel_history(const char *path, bool dirty) {
    char device[64];
    const char *place = scratch("volume"), *lower = scratch("lower"), *merged = scratch("merged");
    if (!loop_attach(path, device)) return false;
    bool good = mount_at(device, "ext4", "", place);
    if (good) {
        int rc =
            shell(NULL,
                  "set -e; mkdir -p '%s/old/deep' '%s' '%s/rw' '%s/work'; cd '%s'; for i in $(seq 1 40); do echo "
                  "$i >old/$i; done; "
                  "mount -t overlay overlay -o lowerdir='%s',upperdir='%s/rw',workdir='%s/work' '%s'; cd '%s'; "
                  "rm old/[1-5] && mv old/6 old/moved && rm -r old/deep && mkdir old/deep && echo x >>old/7; ln "
                  "old/8 second; chmod 4711 old/9; "
                  "mkdir -p home/tide var/cache/apt/archives; for i in $(seq 1 %llu); do head -c $((i * 731 %% "
                  "70000)) /dev/urandom >home/tide/$i; done; "
                  "rm -f home/tide/*[3579]; ln -s ../old home/link; dd if=/dev/urandom of=home/holes bs=4k "
                  "count=2 seek=700 2>/dev/null; "
                  "for i in 9 2 41; do dd if=/dev/urandom of=home/holes bs=4k count=1 seek=$((i * 31)) conv=notrunc "
                  "2>/dev/null; done; "
                  "truncate -s 30M home/void; truncate -s 9M home/holes; head -c 3000000 /dev/urandom >home/large; "
                  "mkfifo home/pipe; chown 1000:1000 home/tide/*; seq 3000 | split -l 1 -a 3 - "
                  "var/cache/apt/archives/p 2>/dev/null; "
                  "python3 -c \"import os; os.setxattr('home/tide/2', 'user.note', b'tide' * 300)\"; sync",
                  lower, merged, place, place, lower, lower, place, place, merged, merged,
                  (unsigned long long)(40 + random_below(300)));
        CHECK_INT(rc, 0);
        if (dirty) CHECK_INT(shell(NULL, "cp --sparse=always '%s' '%s.pulled'", path, path), 0);
        unmount(merged);
        unmount(place);
        good = rc == 0;
    }
    loop_detach(device);
    if (dirty && good) CHECK_INT(shell(NULL, "mv '%s.pulled' '%s'", path, path), 0);
    return good;
}

void bytes_of(const char *path, uint8_t *bytes, uint64_t size) {
    int file = open(path, O_RDONLY | O_CLOEXEC);
    for (uint64_t done = 0; done < size;) {
        ssize_t got = pread(file, bytes + done, size - done, (off_t)done);
        if (got <= 0) fail_at(__FILE__, __LINE__, "%s cannot be read", path);
        if (got <= 0) break;
        done += (uint64_t)got;
    }
    (void)close(file);
}

bool same_files(struct bed *b, const char *was) {
    struct ws_kept *kept = open_kept(b, NULL);
    struct ws_source *source = NULL;
    struct ws_tree *tree = NULL;
    bool good =
        kept && ws_source_file(was, &source, &error) == WS_OK && ws_ext4_read(source, &tree, NULL, &error) == WS_OK;
    CHECK(good);
    if (good) compare_trees(ws_kept_tree(kept), tree, TREE_ALL);
    ws_tree_close(tree);
    ws_source_close(source);
    ws_kept_close(kept);
    return good;
}

enum ws_status resize(struct bed *b, uint64_t size, uint64_t *free_after) {
    struct ws_kept *kept = open_kept(b, NULL);
    struct ws_kept_cost cost = {0};
    memset(&error, 0, sizeof error);
    enum ws_status status = ws_kept_resize(kept, size, &error);
    if (status == WS_OK) status = ws_kept_prepare(kept, 1790000500, &cost, &error);
    if (status == WS_OK) status = carry_out(b, kept);
    ws_kept_close(kept);
    if (status == WS_OK) b->size = size / MIB * MIB;
    *free_after = cost.free_after;
    return status;
}

void make_room(uint8_t *bytes, uint64_t size, struct ws_room *room) {
    struct ws_layout *layout = NULL;
    struct ws_source *volume = NULL;
    OK(ws_source_memory(bytes, size, &volume, &error));
    OK(ws_layout_create(size, &layout, &error));
    room->volume = volume;
    OK(ws_make_room(room, layout, &error));
    OK(ws_layout_seal(layout, &error));
    for (size_t pass = 0; pass < 2; pass++) /* all that moves is read as it was: the body is first */
        for (size_t i = 0; i < ws_layout_count(layout); i++) {
            const struct ws_extent *e = ws_layout_extent(layout, i);
            if ((e->phase == WS_PHASE_BODY) == (pass == 0))
                OK(ws_source_read(e->from, e->from_at, bytes + e->at, (size_t)e->length, &error));
        }
    ws_layout_close(layout);
    ws_source_close(volume);
}
