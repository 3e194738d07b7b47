/* rehearse.c — start-up code run in the library, over the bytes of a drive: a machine made of sources and memory. */
#include "boot/code/start.h"
#include "wild_satchel/start.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MEMORY_MOST = 64 << 20, WAITS_MOST = 4, LINE = 2048, STEP = 1 << 20 };

struct taken {
    struct taken *next;
};

struct stage {
    const struct ws_source *drive;
    struct ws_rehearsal *r;
    struct taken *taken;
    uint64_t memory;
    size_t next_key;
    unsigned waits;
    char line[LINE]; /* the console's last line */
    size_t length, column;
};

static bool read_drive(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    struct stage *s = m->self;
    struct ws_error error;
    if (ws_source_read(s->drive, lba * m->sector_bytes, into, (size_t)count * m->sector_bytes, &error) == WS_OK)
        return true;
    return start_fail(m, "sector %U of the drive cannot be read", lba);
}

static bool write_drive(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    const struct ws_rehearsal *r = ((struct stage *)m->self)->r;
    struct ws_error error = {0};
    if (!r->write) return start_fail(m, "this is a rehearsal");
    if (r->write(r->write_context, lba * m->sector_bytes, from, (size_t)count * m->sector_bytes, &error) == WS_OK)
        return true;
    return start_fail(m, "%s", error.what);
}

/* A screen: "\r" goes back to the line's begin, and what follows writes over it. */
static void put(struct start_machine *m, const char *text) {
    struct stage *s = m->self;
    for (; *text; text++) {
        if (*text == '\n') {
            ws_text_add(&s->r->console, s->line, s->length);
            ws_text_puts(&s->r->console, "\n");
            s->length = s->column = 0;
        } else if (*text == '\r') {
            s->column = 0;
        } else if (s->column < LINE) {
            s->line[s->column++] = *text;
            if (s->column > s->length) s->length = s->column;
        }
    }
}

static void clear(struct start_machine *m) { (void)m; }

static unsigned key(struct start_machine *m, uint32_t wait_ms) {
    struct stage *s = m->self;
    if (wait_ms && s->next_key < s->r->keys_count) return s->r->keys[s->next_key++];
    if (wait_ms >= START_WAIT_LONG && s->waits++ >= WAITS_MOST) m->off = true;
    return 0;
}

static void *take(struct start_machine *m, uint64_t bytes) {
    struct stage *s = m->self;
    if (bytes > MEMORY_MOST - s->memory) return NULL;
    struct taken *t = calloc(1, sizeof *t + 16 + (size_t)bytes);
    if (!t) return NULL;
    s->memory += bytes;
    t->next = s->taken;
    s->taken = t;
    return (char *)t + 16;
}

static void serial(struct start_machine *m, unsigned port, uint32_t speed) { (void)m, (void)port, (void)speed; }

/* Read as a PC would, so that what cannot be read is found out. */
static bool load(struct start_machine *m, struct start_file f, const char *name, struct ws_hash *hash,
                 uint8_t *buffer) {
    char why[200];
    for (uint64_t at = 0; at < f.size && !((struct stage *)m->self)->r->only_choose;) {
        uint64_t got = 0;
        if (!start_read(&f, at, STEP, buffer, &got) || got == 0) {
            (void)snprintf(why, sizeof why, "%s", m->error);
            return start_fail(m, "%s: %s", name, why);
        }
        if (hash) ws_hash_add(hash, buffer, (size_t)got);
        at += got;
    }
    if (hash) ws_hash_add(hash, "\0\0\0", (4 - (f.size & 3)) & 3);
    start_say(m, "%s: %U bytes loaded\n", name, f.size);
    return true;
}

static bool launch(struct start_machine *m, const struct start_launch *l) {
    struct stage *s = m->self;
    struct ws_rehearsal *r = s->r;
    struct ws_hash *hash = NULL;
    uint8_t *buffer = malloc(STEP);
    uint8_t head[0x210];
    struct start_file kernel = l->kernel;
    uint64_t got = 0;
    bool good = false;
    r->kernel_bytes = l->kernel.size;
    r->initrd_bytes = 0;
    if (!buffer || ws_hash_open(WS_HASH_SHA256, &hash, NULL) != WS_OK) {
        start_fail(m, "there is no memory left");
        goto done;
    }
    if (!start_read(&kernel, 0, sizeof head, head, &got)) goto done;
    if (l->entry->efi ? got < 2 || memcmp(head, "MZ", 2) != 0
                      : got < sizeof head || memcmp(head + 0x202, "HdrS", 4) != 0) {
        start_fail(m, "%s is not a %s", l->entry->linux, l->entry->efi ? "UEFI program" : "Linux kernel");
        goto done;
    }
    if (!load(m, l->kernel, l->entry->linux, NULL, buffer)) goto done;
    (void)snprintf(r->entry.title, sizeof r->entry.title, "%s", l->entry->title);
    (void)snprintf(r->entry.linux_path, sizeof r->entry.linux_path, "%s", l->entry->linux);
    (void)snprintf(r->entry.options, sizeof r->entry.options, "%s", l->options);
    r->entry.efi = l->entry->efi;
    for (unsigned i = 0; i < l->initrds; i++) {
        if (!load(m, l->initrd[i], l->entry->initrd[i], hash, buffer)) goto done;
        (void)snprintf(r->entry.initrd[i], sizeof r->entry.initrd[0], "%s", l->entry->initrd[i]);
        r->initrd_bytes += l->initrd[i].size;
    }
    r->entry.initrds = l->initrds;
    ws_hash_hex(hash, r->initrd_sha256);
    put(m, l->entry->efi ? "The drive's own loader takes over.\n" : "The kernel takes over.\n");
    good = r->starts = true;
    m->off = true;
done:
    ws_hash_close(hash);
    free(buffer);
    return good;
}

enum ws_status ws_start_rehearse(const struct ws_source *drive, struct ws_rehearsal *r, struct ws_error *error) {
    struct stage *s = calloc(1, sizeof *s);
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a rehearsal");
    struct start_machine m = {.self = s,
                              .firmware = r->firmware,
                              .sector_bytes = r->sector,
                              .sectors = drive->size / r->sector,
                              .read = read_drive,
                              .write = write_drive,
                              .put = put,
                              .clear = clear,
                              .key = key,
                              .take = take,
                              .serial = serial,
                              .launch = launch,
                              .no_check = r->only_choose};
    s->drive = drive;
    s->r = r;
    memset(&r->console, 0, sizeof r->console);
    r->starts = false;
    start_run(&m);
    if (s->length) put(&m, "\n");
    while (s->taken) {
        struct taken *next = s->taken->next;
        free(s->taken);
        s->taken = next;
    }
    free(s);
    return ws_text_status(&r->console, error);
}

void ws_rehearsal_free(struct ws_rehearsal *r) { ws_text_free(&r->console); }
