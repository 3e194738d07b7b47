/* fuzz.c — every parser and document under a coverage-guided fuzzer, one row each. The first byte of an input chooses
 * the row; WS_FUZZ_TARGET=NAME gives all inputs to one. Their order is that of the seeds in fuzz.sh. */
#include "boot/code/linux/table.h"
#include "plan/laid.h"
#include "wild_satchel/port/sim.h"
#include "wild_satchel/contents.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

struct input {
    const struct ws_source *source; /* the same bytes */
    const char *text;
    size_t length;
};

static void fuzz_tree(struct ws_tree *tree) {
    char bytes[256];
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content) {
            (void)ws_source_read(n->content, 0, bytes, n->content->size < 256 ? (size_t)n->content->size : 256, NULL);
            (void)ws_source_piece(n->content, 0, n->content->size);
        }
    ws_tree_close(tree);
}

static enum ws_status swallow(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    (void)context, (void)bytes;
    /* no more than a moment's work: a bomb is cut off as a full disk would */
    return at + length > 64u << 20 ? ws_fail(error, WS_E_SPACE, "enough") : WS_OK;
}

static void image(const struct input *in) {
    struct ws_image i;
    if (ws_image_inspect(in->source, &i, NULL) == WS_OK) ws_image_free(&i);
}
static void ext4(const struct input *in) {
    struct ws_tree *tree = NULL;
    if (ws_ext4_read(in->source, &tree, NULL, NULL) == WS_OK) fuzz_tree(tree);
}
/* A volume in use, composed over with all that it holds, and looked at as it would be then. */
static void over(const struct input *in) {
    struct ws_tree *tree = NULL;
    struct ws_layout *layout = NULL;
    struct ws_source *patched = NULL;
    struct ws_ext4_geometry g;
    const struct ws_source *volume = in->source;
    const struct ws_ext4_params p = {.over = volume};
    enum ws_status status;
    if (ws_ext4_read(volume, &tree, NULL, NULL) != WS_OK) goto done;
    status = ws_tree_put(tree, "new", "file", 4, NULL, NULL);
    if (status == WS_OK) status = ws_ext4_measure(&p, tree, &g, NULL);
    if (status == WS_OK) {
        status = ws_layout_create(volume->size, &layout, NULL);
        if (status == WS_OK) status = ws_ext4_compose(&g, 0, layout, WS_PHASE_SEAL, NULL);
        if (status == WS_OK) status = ws_layout_seal(layout, NULL); /* nothing overlaps, whatever the volume says */
        if (status != WS_OK) abort();
        if (ws_layout_source(layout, &patched, NULL) == WS_OK) {
            char block[4096];
            for (uint64_t at = 0; at + sizeof block <= 1u << 20; at += sizeof block)
                (void)ws_source_read(patched, at, block, sizeof block, NULL);
        }
        ws_source_close(patched);
        ws_layout_close(layout);
        ws_ext4_geometry_free(&g);
    }
done:
    ws_tree_close(tree);
}
static void fat(const struct input *in) {
    struct ws_tree *tree = NULL;
    if (ws_fat_read(in->source, &tree, NULL, NULL) == WS_OK) fuzz_tree(tree);
}
static void initrd(const struct input *in) {
    static const char *const words[] = {"persistence", "init"};
    struct ws_initrd_facts f;
    uint32_t found;
    (void)ws_initrd_search(in->source, words, 2, &found, &f, NULL);
}
static void table(const struct input *in) {
    struct ws_findings f = {0};
    (void)ws_table_check(in->source, 512, &f, NULL);
    ws_findings_free(&f);
}
static void menu(const struct input *in) {
    struct ws_menu m;
    struct ws_error error;
    if (ws_menu_parse(in->text, in->length, &m, &error) != WS_OK) return;
    struct ws_text out = {0};
    for (size_t i = 0; i < m.entries; i++) (void)ws_menu_remember(&m, &m.entry[i], "persistence", NULL, &out, &error);
    ws_text_free(&out);
    (void)ws_menu_rename(in->text, in->length, WS_BY_LABEL, "X", "A LABEL", &out);
    ws_text_free(&out);
    ws_menu_free(&m);
}
/* A plan's document over an image of nothing: read, worked out to its layout, written again. */
static void plan(const struct input *in) {
    struct ws_plan *p = NULL;
    struct ws_build *build = NULL;
    struct ws_source *zeros = NULL;
    struct ws_text out = {0};
    if (ws_plan_from_json(in->text, in->length, &p, NULL) != WS_OK) return;
    (void)ws_plan_to_json(p, &out, NULL);
    if (ws_plan_drive(p)->size < 1ull << 40 && ws_source_zeros(4 << 20, &zeros, NULL) == WS_OK) {
        struct ws_request r = *ws_plan_request(p);
        struct ws_build_setting setting = {
            .drive = *ws_plan_drive(p), .input = {zeros}, .id = {{1}}, .made_at = 1790000000};
        r.input[WS_INPUT_IMAGE].size = 0; /* whatever it says */
        if (ws_build_prepare(&r, &setting, &build, NULL) == WS_OK) (void)ws_layout_bytes(ws_build_layout(build));
    }
    ws_build_close(build);
    ws_source_close(zeros);
    ws_plan_free(p);
    ws_text_free(&out);
}
/* A request over an image of nothing: read, written again, decided for a drive of no remarkable kind. */
static void request(const struct input *in) {
    struct ws_request *r = malloc(sizeof *r);
    struct ws_build_setting setting = {
        .drive = {.name = "gorse", .size = 4ull << 30, .sector = 512}, .id = {{1}}, .made_at = 1790000000};
    struct ws_source *zeros = NULL;
    struct ws_build *build = NULL;
    struct ws_text out = {0};
    if (r && ws_request_from_json(in->text, in->length, r, NULL) == WS_OK) {
        (void)ws_request_to_json(r, &out, NULL);
        r->input[WS_INPUT_IMAGE].size = 0;
        if (r->input[WS_INPUT_IMAGE].path[0] && ws_source_zeros(4 << 20, &zeros, NULL) == WS_OK)
            setting.input[WS_INPUT_IMAGE] = zeros;
        (void)ws_build_prepare(r, &setting, &build, NULL);
    }
    ws_build_close(build);
    ws_source_close(zeros);
    ws_text_free(&out);
    free(r);
}
static void bench(const struct input *in) {
    struct ws_bench *b = malloc(sizeof *b);
    if (b) (void)ws_bench_parse(in->text, in->length, b, NULL);
    free(b);
}
static void kept(const struct input *in) {
    struct ws_saved *saved = NULL;
    struct ws_kept *kept = NULL;
    if (ws_saved_open(in->source, NULL, &saved, NULL) == WS_OK) ws_saved_close(saved);
    if (ws_kept_open(in->source, 512, NULL, &kept, NULL) != WS_OK) return;
    struct ws_kept_report report;
    ws_kept_look(kept, &report);
    if (ws_kept_reset(kept, NULL, 0, NULL) == WS_OK) (void)ws_kept_prepare(kept, 1790000000, NULL, NULL);
    ws_kept_close(kept);
}

static void proof(const struct input *in) {
    struct ws_proof *proof = calloc(1, sizeof *proof);
    struct ws_snapshot snapshot;
    struct ws_text text = {0};
    if (ws_snapshot_read(in->text, in->length, &snapshot, NULL) == WS_OK) ws_snapshot_free(&snapshot);
    if (proof && ws_proof_read(in->text, in->length, proof, NULL) == WS_OK) {
        (void)ws_proof_write(proof, true, &text, NULL);
        ws_proof_free(proof);
    }
    ws_text_free(&text);
    free(proof);
}
static void laid(const struct input *in) {
    struct ws_tree *volume = NULL;
    struct laid l;
    if (ws_tree_create(&volume, NULL) == WS_OK &&
        ws_tree_put(volume, LAID_PATH, in->text, in->length, NULL, NULL) == WS_OK &&
        laid_read(volume, &l, NULL) == WS_OK) {
        (void)laid_has(&l, ws_tree_next(ws_tree_root(l.files)) ? ws_tree_next(ws_tree_root(l.files))
                                                               : ws_tree_root(l.files));
        laid_free(&l);
    }
    ws_tree_close(volume);
}
static void lost(void *context, const char *path, const char *what) { (void)context, (void)path, (void)what; }
static void rescue(const struct input *in) {
    struct ws_tree *tree = NULL;
    struct ws_kept *kept = NULL;
    struct ws_journal_start start[4];
    if (ws_ext4_rescue(in->source, lost, NULL, &tree, NULL, NULL) == WS_OK) {
        (void)ws_journal_read(tree, "", start, 4);
        fuzz_tree(tree);
    }
    if (ws_kept_open_damaged(in->source, 512, NULL, &kept, NULL) == WS_OK) ws_kept_close(kept);
}

/* A file in one piece: where it begins, and the front that ends behind it. */
static uint64_t first_file(const struct input *in, uint64_t *front, uint64_t step) {
    struct ws_tree *tree = NULL;
    uint64_t at = 0;
    if (ws_fat_read(in->source, &tree, NULL, NULL) != WS_OK && ws_exfat_read(in->source, &tree, NULL, NULL) != WS_OK)
        return 0;
    for (const struct ws_node *n = ws_tree_root(tree); n && !at; n = ws_tree_next(n))
        if (n->kind == WS_NODE_FILE && n->content && n->work) {
            at = n->work;
            *front = (at + ws_node_size(n) + step - 1) / step * step;
        }
    ws_tree_close(tree);
    return at;
}

/* What is sound enough to be cut is cut in the middle of what could go. */
static void cut(const struct input *in) {
    struct ws_room front = {.volume = in->source};
    struct ws_layout *layout = NULL;
    if (ws_make_room(&front, NULL, NULL) != WS_OK) return;
    front.front = front.most / front.step / 2 * front.step;
    if (ws_layout_create(2 * in->source->size + 4096, &layout, NULL) != WS_OK) return;
    if (ws_make_room(&front, layout, NULL) == WS_OK && ws_layout_seal(layout, NULL) == WS_OK)
        (void)ws_layout_bytes(layout);
    ws_layout_close(layout);
    struct ws_room put[] = {{.volume = in->source, .put_name = "PASSPORT.HTM", .put = "page", .put_length = 4},
                            {.volume = in->source, .put_name = "a name of some length", .put_length = 9000},
                            {.volume = in->source, .file_goes = true},
                            {.volume = in->source, .file_goes = true}};
    put[2].file_at = put[3].file_at = first_file(in, &put[3].front, front.step);
    for (size_t i = 0; i < (put[2].file_at ? 4 : 2); i++) {
        if (ws_layout_create(2 * in->source->size + 65536, &layout, NULL) != WS_OK) return;
        if (ws_make_room(&put[i], layout, NULL) == WS_OK && ws_layout_seal(layout, NULL) == WS_OK)
            (void)ws_layout_bytes(layout);
        ws_layout_close(layout);
    }
}

static void archive(const struct input *in) {
    uint64_t unpacked;
    struct ws_tree *tree = NULL;
    (void)ws_unpack(in->source, swallow, NULL, &unpacked, NULL);
    if (ws_archive_read(in->source, &tree, NULL) == WS_OK) fuzz_tree(tree);
}
static void squashfs(const struct input *in) {
    struct ws_tree *tree = NULL;
    if (ws_squashfs_read(in->source, &tree, NULL, NULL) == WS_OK) fuzz_tree(tree);
}
static void list(const struct input *in) {
    struct ws_published p;
    (void)ws_published_find(in->text, in->length, "curlew.iso", &p, NULL);
}
static void exfat(const struct input *in) {
    struct ws_tree *tree = NULL;
    if (ws_exfat_read(in->source, &tree, NULL, NULL) == WS_OK) fuzz_tree(tree);
}
static enum ws_status write_nowhere(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *e) {
    const struct ws_source *drive = context;
    if (at % 512 || length % 512 || at + length > drive->size) __builtin_trap();
    (void)bytes, (void)e;
    return WS_OK;
}
/* All of the start-up code but its assembler. */
static void start(const struct input *in) {
    struct ws_rehearsal r = {
        .firmware = "BIOS", .sector = 512, .write = write_nowhere, .write_context = (void *)(uintptr_t)in->source};
    (void)ws_start_rehearse(in->source, &r, NULL);
    ws_rehearsal_free(&r);
}
/* A medium whose menu is the input: entries made from it. */
static void entries(const struct input *in) {
    struct ws_tree *tree = NULL;
    struct ws_node *file = NULL;
    struct ws_start_entries made;
    struct ws_error error;
    if (ws_tree_create(&tree, &error) != WS_OK) return;
    if (ws_tree_put(tree, "live/vmlinuz", "", 0, NULL, &error) == WS_OK &&
        ws_tree_put(tree, "live/initrd.img", "", 0, NULL, &error) == WS_OK &&
        ws_tree_put(tree, "boot/grub/grub.cfg", "", 0, &file, &error) == WS_OK) {
        file->content = in->source;
        if (ws_start_entries_of(tree, ws_live_family_find("live-boot"), "persistence", &made, NULL, &error) == WS_OK) {
            (void)ws_start_entries_put(tree, "", &made, WS_CHECK_QUICK, NULL, 5, 0, &error);
            ws_start_entries_free(&made);
        }
    }
    ws_tree_close(tree);
}
static void rules(const struct input *in) {
    struct ws_rules *r = calloc(1, sizeof *r);
    if (r) (void)ws_rules_from_json(in->text, in->length, r, NULL);
    free(r);
}
static void family(const struct input *in) {
    struct ws_own_family *own = calloc(1, sizeof *own);
    if (own) (void)ws_own_family_read(in->text, in->length, own, NULL);
    free(own);
}
static void trial(const struct input *in) {
    struct ws_trial *t = calloc(1, sizeof *t);
    if (t) (void)ws_trial_from_json(in->text, in->length, t, NULL);
    free(t);
}
/* A drive's first sector: whatever is taken for a mark reads back the same. */
static void mark(const struct input *in) {
    char sector[512] = {0};
    struct ws_unfinished u;
    memcpy(sector, in->text, in->length < sizeof sector ? in->length : sizeof sector);
    if (ws_unfinished_read(sector, &u) && (!ws_is_unfinished(sector) || u.flushed > u.end)) abort();
}
/* The input as a drive that says that it is being changed, by a log that it holds. */
struct fuzz_drive {
    struct ws_drive drive;
    uint8_t *bytes;
    uint64_t size;
};
static enum ws_status fd_describe(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *error) {
    (void)error;
    memset(facts, 0, sizeof *facts);
    facts->size = ((struct fuzz_drive *)drive)->size;
    facts->logical_sector = 512;
    return WS_OK;
}
static enum ws_status fd_read(struct ws_drive *drive, uint64_t at, void *buffer, size_t length,
                              struct ws_error *error) {
    struct fuzz_drive *d = (struct fuzz_drive *)drive;
    (void)error;
    if (at > d->size || length > d->size - at) abort();
    memcpy(buffer, d->bytes + at, length);
    return WS_OK;
}
static enum ws_status fd_write(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                               struct ws_error *error) {
    struct fuzz_drive *d = (struct fuzz_drive *)drive;
    (void)error;
    if (at > d->size || length > d->size - at || at % 512 || length % 512) abort();
    memcpy(d->bytes + at, bytes, length);
    return WS_OK;
}
static enum ws_status fd_flush(struct ws_drive *drive, struct ws_error *error) {
    (void)drive, (void)error;
    return WS_OK;
}
static double fd_clock(struct ws_port *port) {
    (void)port;
    return 0;
}
static void change(const struct input *in) {
    static const struct ws_drive_ops ops = {
        .describe = fd_describe, .read = fd_read, .write = fd_write, .flush = fd_flush, .reread = fd_flush};
    static const struct ws_port_ops port_ops = {.steady_clock = fd_clock};
    struct ws_port port = {&port_ops};
    struct fuzz_drive d = {{&ops}, NULL, 1024 + (in->length + 511) / 512 * 512};
    char hex[WS_HASH_HEX], sector[512] = {0};
    d.bytes = calloc(1, d.size + 64 * 512);
    d.size += 64 * 512;
    if (!d.bytes) return;
    memcpy(d.bytes + 1024, in->text, in->length);
    if (ws_hash_bytes(WS_HASH_SHA256, in->text, in->length, hex, NULL) == WS_OK) {
        int n = snprintf(sector, sizeof sector, WS_CHANGING_MARK "\nchange %064d\nlog 1024\nlength %zu\nsha256 %s\n", 0,
                         in->length, hex);
        (void)snprintf(sector + n, sizeof sector - (size_t)n, "check %08x\n", (unsigned)ws_crc32(sector, (size_t)n));
        memcpy(d.bytes, sector, sizeof sector);
        (void)ws_change_finish(&port, &d.drive, NULL, NULL, NULL, NULL);
    }
    free(d.bytes);
}
/* Lists of accounts and databases of packages, from pieces of the input. */
static void carry(const struct input *in) {
    static const char *const paths[] = {"etc/passwd",
                                        "etc/group",
                                        "etc/shadow",
                                        "etc/gshadow",
                                        "var/lib/dpkg/status",
                                        "var/lib/apt/extended_states",
                                        "var/lib/dpkg/info/x.list",
                                        "lib/apk/db/installed",
                                        "etc/apk/world",
                                        "var/lib/pacman/local/x/desc",
                                        "var/lib/pacman/local/x/files",
                                        "etc/start-entries.conf",
                                        "etc/inittab"};
    enum { PATHS = sizeof paths / sizeof paths[0] };
    struct ws_tree *tree[2] = {NULL, NULL};
    struct ws_system_facts facts = {.init = WS_INIT_SYSV};
    struct ws_carried_list *list = calloc(1, sizeof *list);
    struct ws_findings findings = {0};
    struct ws_error error;
    enum ws_status status = list ? WS_OK : WS_E_NOMEM;
    for (int t = 0; t < 2 && status == WS_OK; t++) {
        status = ws_tree_create(&tree[t], NULL);
        size_t each = in->length / (2 * PATHS);
        for (size_t i = 0; i < PATHS && status == WS_OK; i++)
            status = ws_tree_put(tree[t], paths[i], in->text + (t * PATHS + i) * each, each, NULL, NULL);
        if (status == WS_OK) status = ws_tree_put(tree[t], "home/x/y", "z", 1, NULL, NULL);
    }
    if (status == WS_OK) {
        struct ws_start_settings settings;
        ws_start_settings_look(tree[0], &settings);
        (void)ws_system_carry(tree[1], &facts, tree[0], &facts, NULL, 0, 0, list, &findings, &error);
    }
    ws_findings_free(&findings);
    ws_tree_close(tree[1]);
    ws_tree_close(tree[0]);
    free(list);
}
static void loader(const struct input *in) {
    struct ws_loader l;
    (void)ws_loader_look(in->source, &l);
}
static void contents(const struct input *in) {
    struct ws_contents *c = malloc(sizeof *c);
    if (c) (void)ws_contents_look(in->source, 512, true, c, NULL);
    free(c);
}
static void memory(const struct input *in) {
    struct ws_memory *m = calloc(1, sizeof *m);
    if (m) (void)ws_memory_look(in->source, 512, m, NULL);
    free(m);
}
/* A file of a FAT volume given new content, as often as it has files. */
static void fat_edit(const struct input *in) {
    struct ws_tree *tree = NULL;
    struct ws_source *patched = NULL;
    size_t edits = 0;
    if (ws_fat_read(in->source, &tree, NULL, NULL) != WS_OK) return;
    if (ws_source_patched(in->source, in->source->size, &patched, NULL) == WS_OK)
        for (struct ws_node *n = ws_tree_root(tree); n && edits < 8; n = ws_tree_next(n))
            if (n->kind == WS_NODE_FILE) {
                (void)ws_fat_replace(in->source, patched, 0, n, "new content", 11, NULL);
                edits++;
            }
    ws_source_close(patched);
    ws_tree_close(tree);
}
static void journal(const struct input *in) {
    struct ws_source *recovered = NULL;
    uint64_t blocks = 0;
    char bytes[4096];
    if (ws_ext4_recovered(in->source, &recovered, &blocks, NULL) != WS_OK) return;
    if (recovered && recovered->size >= sizeof bytes) (void)ws_source_read(recovered, 0, bytes, sizeof bytes, NULL);
    ws_source_close(recovered);
}
static void shown(const struct input *in) {
    char text[600];
    char raw[200];
    size_t n = in->length < sizeof raw - 1 ? in->length : sizeof raw - 1;
    memcpy(raw, in->text, n);
    raw[n] = '\0';
    ws_visible(raw, text, sizeof text);
    if (!ws_is_visible(text)) abort();
}

/* What a secret's area costs to try is the header's to say: texts that ask for much are left to the test. */
static bool asks_for_much(const char *text, size_t length) {
    size_t digits = 0;
    for (size_t i = 0; i < length; i++) {
        digits = text[i] >= '0' && text[i] <= '9' ? digits + 1 : 0;
        size_t before = i - digits;
        while (digits && before < i && text[before] == ' ') before--;
        if (digits > 3 && before < i && text[before] == ':') return true;
    }
    for (size_t i = 0; i + 5 <= length; i++)
        if (memcmp(text + i, "argon", 5) == 0) return true;
    return false;
}

/* The text of a lock's header, with a checksum that is right. */
static void lock(const struct input *in) {
    enum { HEADER = 16384, TEXT = 4096, ALL = 512 << 10 };
    const size_t n = in->length < HEADER - TEXT - 1 ? in->length : HEADER - TEXT - 1;
    uint8_t *bytes = asks_for_much(in->text, n) ? NULL : calloc(1, ALL);
    struct ws_source *volume = NULL;
    struct ws_lock *l = NULL;
    char hex[WS_HASH_HEX], sector[512];
    if (!bytes) return;
    memcpy(bytes, "LUKS\xba\xbe\0\2", 8);
    bytes[14] = HEADER >> 8;
    memcpy(bytes + 72, "sha256", 6);
    memcpy(bytes + TEXT, in->text, n);
    if (ws_hash_bytes(WS_HASH_SHA256, (const char *)bytes, HEADER, hex, NULL) != WS_OK) abort();
    for (size_t i = 0; i < 32; i++) {
        unsigned byte = 0;
        (void)sscanf(hex + 2 * i, "%2x", &byte);
        bytes[448 + i] = (uint8_t)byte;
    }
    if (ws_source_memory(bytes, ALL, &volume, NULL) == WS_OK &&
        ws_lock_open(volume, "gull 7 over", &l, NULL) == WS_OK) {
        if (ws_source_read(ws_lock_body(l), 0, sector, sizeof sector, NULL) != WS_OK) abort();
        ws_lock_close(l);
    }
    ws_source_close(volume);
    free(bytes);
}

/* The front of a drive: its last partition grows. */
struct grow_drive {
    uint8_t *bytes, memory[128 << 10];
    size_t taken;
};
static bool gd_read(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    if (lba > m->sectors || count > m->sectors - lba) abort();
    memcpy(into, ((struct grow_drive *)m->self)->bytes + lba * 512, (size_t)count * 512);
    return true;
}
static bool gd_write(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    if (lba > m->sectors || count > m->sectors - lba) abort();
    memcpy(((struct grow_drive *)m->self)->bytes + lba * 512, from, (size_t)count * 512);
    return true;
}
static void *gd_take(struct start_machine *m, uint64_t bytes) {
    struct grow_drive *d = m->self;
    if (bytes > sizeof d->memory - d->taken) return NULL;
    d->taken += (size_t)bytes;
    return d->memory + d->taken - bytes;
}
static void grow(const struct input *in) {
    struct grow_drive *d = calloc(1, sizeof *d);
    const uint64_t sectors = 4096 + in->length / 512;
    uint64_t length;
    struct start_machine m = {
        .self = d, .sector_bytes = 512, .sectors = sectors, .read = gd_read, .write = gd_write, .take = gd_take};
    if (d) d->bytes = calloc(sectors + 1, 512);
    if (d && d->bytes) {
        memcpy(d->bytes, in->text, in->length);
        for (uint64_t at = 1 << 20; at < 4 << 20; at += 1 << 20) {
            d->taken = 0;
            (void)table_grow(&m, at, &length);
        }
        free(d->bytes);
    }
    free(d);
}

/* A virtual disk read, as itself and as what it builds on; and written to, where it can be. */
static enum ws_status open_itself(void *context, const char *name, struct ws_source **source, struct ws_error *error) {
    const struct ws_source *file = context;
    (void)name;
    return ws_source_slice(file, 0, file->size, source, error);
}
struct disk_bytes {
    uint8_t *bytes;
    uint64_t size;
};
enum { DISK_MOST = 4 << 20 };
static enum ws_status db_read(const struct ws_disk_file *f, uint64_t at, void *to, size_t n, struct ws_error *e) {
    const struct disk_bytes *d = f->state;
    if (at > d->size || n > d->size - at) return ws_fail(e, WS_E_READ, "past the end");
    memcpy(to, d->bytes + at, n);
    return WS_OK;
}
static enum ws_status db_write(const struct ws_disk_file *f, uint64_t at, const void *from, size_t n,
                               struct ws_error *e) {
    struct disk_bytes *d = f->state;
    if (at > DISK_MOST || n > DISK_MOST - at) return ws_fail(e, WS_E_SPACE, "full");
    memcpy(d->bytes + at, from, n);
    if (at + n > d->size) d->size = at + n;
    return WS_OK;
}
static enum ws_status db_flush(const struct ws_disk_file *f, struct ws_error *e) {
    (void)f, (void)e;
    return WS_OK;
}
static uint64_t db_size(const struct ws_disk_file *f) { return ((struct disk_bytes *)f->state)->size; }
static void container(const struct input *in) {
    static const struct ws_disk_file_ops ops = {db_read, db_write, db_flush, db_size};
    const struct ws_container_files files = {open_itself, (void *)(uintptr_t)in->source};
    struct ws_source *drive = NULL;
    struct ws_container_facts facts;
    struct ws_disk *disk = NULL;
    const struct ws_guid id = {{1}};
    uint8_t part[3000];
    (void)ws_container_probe(in->source, &facts);
    if (ws_container_open(in->source, &files, &drive, &facts, NULL) == WS_OK)
        for (unsigned i = 0; i < 24 && drive->size >= sizeof part; i++) {
            const uint64_t at = (drive->size - sizeof part) / 24 * i;
            (void)ws_source_read(drive, at, part, sizeof part, NULL);
            const struct ws_piece piece = ws_source_piece(drive, at, drive->size - at);
            if (piece.length == 0 || piece.length > drive->size - at) abort();
        }
    ws_source_close(drive);
    struct disk_bytes d = {calloc(1, DISK_MOST), in->length};
    const struct ws_disk_file file = {&ops, &d};
    if (d.bytes && in->length <= DISK_MOST) {
        memcpy(d.bytes, in->text, in->length);
        if (ws_disk_open(&file, &id, &disk, NULL) == WS_OK) {
            memset(part, 7, sizeof part);
            if (ws_disk_size(disk) >= 4096)
                (void)ws_disk_write(disk, ws_disk_size(disk) / 2 / 512 * 512, part, 512, NULL);
            if (ws_disk_size(disk) >= 4096) (void)ws_disk_read(disk, 0, part, sizeof part, NULL);
            (void)ws_disk_flush(disk, NULL);
            ws_disk_close(disk);
        }
    }
    free(d.bytes);
}
static void udf(const struct input *in) {
    struct ws_tree *tree = NULL;
    if (ws_udf_read(in->source, &tree, NULL, NULL) == WS_OK) fuzz_tree(tree);
}
/* A drive as an original: its volumes, its mounts and menus, its names put right. */
static void original(const struct input *in) {
    struct ws_original *o = malloc(sizeof *o);
    struct ws_new_names names = {.count = 0};
    struct ws_left_out tally[WS_LEAVES];
    char uuid[WS_ORIGINAL_MOST][48] = {"11111111-2222-3333-4444-555555555555"};
    struct ws_findings found = {0};
    if (!o) return;
    if (ws_original_open(in->source, 512, o, NULL) == WS_OK) {
        ws_original_leavable(o, tally);
        ws_original_leave_out(o, 0x7f, tally);
        for (size_t i = 0; i < o->volumes; i++) ws_new_name_add(&names, o->volume[i].facts.id, uuid[0]);
        if (o->root < o->volumes)
            (void)ws_original_settle_mounts(o, o->volume[o->root].tree, (const char(*)[48])uuid, 1, &found, NULL);
        for (size_t i = 0; i < o->volumes; i++)
            if (o->volume[i].tree) (void)ws_tree_rename_volumes(o->volume[i].tree, &names, 1, NULL, NULL, NULL);
    }
    ws_findings_free(&found);
    ws_original_close(o);
    free(o);
}

static void used(const struct input *in) {
    struct ws_used u;
    if (ws_used_look(in->source, &u, NULL) == WS_OK)
        for (size_t i = 0; i < u.count; i++)
            if (u.stretch[i].length == 0 || u.stretch[i].at + u.stretch[i].length > in->source->size) abort();
    ws_used_free(&u);
}

/* `mib`: the input is the beginning of a volume that is so long. */
static const struct {
    const char *name;
    void (*run)(const struct input *in);
    unsigned mib;
} targets[] = {{"image", image},         {"ext4", ext4, 16},   {"fat", fat, 2},
               {"table", table},         {"menu", menu},       {"plan", plan},
               {"bench", bench},         {"archive", archive}, {"squashfs", squashfs},
               {"list", list},           {"exfat", exfat, 63}, {"start", start, 17},
               {"entries", entries},     {"rules", rules},     {"family", family},
               {"trial", trial},         {"mark", mark},       {"loader", loader},
               {"contents", contents},   {"memory", memory},   {"fat_edit", fat_edit, 2},
               {"journal", journal, 16}, {"shown", shown},     {"request", request},
               {"initrd", initrd},       {"over", over, 16},   {"change", change},
               {"carry", carry},         {"lock", lock},       {"grow", grow},
               {"container", container}, {"udf", udf},         {"original", original},
               {"used", used, 32},       {"kept", kept},       {"proof", proof},
               {"rescue", rescue, 16},   {"cut", cut, 63},     {"laid", laid}};
enum { TARGETS = sizeof targets / sizeof targets[0] };

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    const char *only = getenv("WS_FUZZ_TARGET");
    struct ws_source *source = NULL, *volume = NULL;
    if (size < 2) return 0;
    size_t which = data[0] % TARGETS;
    for (size_t i = 0; only && i < TARGETS; i++)
        if (strcmp(targets[i].name, only) == 0) which = i;
    if (ws_source_memory(data + 1, size - 1, &source, NULL) != WS_OK) return 0;
    const uint64_t length = (uint64_t)targets[which].mib << 20;
    if (length && ws_source_patched(source, length > size ? length : size, &volume, NULL) != WS_OK) abort();
    targets[which].run(&(struct input){volume ? volume : source, (const char *)data + 1, size - 1});
    ws_source_close(volume);
    ws_source_close(source);
    return 0;
}
