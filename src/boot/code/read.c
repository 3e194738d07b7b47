/* read.c — the bytes of a file, whichever file system it stands on. */
#include "start.h"

bool start_read(struct start_file *f, uint64_t at, uint64_t length, void *into, uint64_t *got) {
    struct start_machine *m = f->v->m;
    uint8_t *out = into;
    *got = 0;
    if (at >= f->size) return true;
    if (length > f->size - at) length = f->size - at;
    while (length) {
        uint64_t disk_at = 0;
        uint64_t run = 0;
        if (!f->v->run(f, at, &disk_at, &run)) return false;
        if (run == 0) {
            if (f->folder) return true;
            return start_fail(m, "it ends after %U of %U bytes: copy it to the drive again", at, f->size);
        }
        if (run > length) run = length;
        if (!disk_at) memset(out, 0, (size_t)run);
        else if (run < 512 ? !start_disk_peek(m, disk_at, (uint32_t)run, out) : !start_disk_read(m, disk_at, run, out))
            return false;
        at += run;
        out += run;
        *got += run;
        length -= run;
    }
    return true;
}

bool start_load(struct start_file *f, const char *name, uint8_t *into) {
    struct start_machine *m = f->v->m;
    uint32_t mib = (uint32_t)(f->size >> 20);
    for (uint64_t at = 0; at < f->size;) {
        uint64_t got;
        uint64_t step = f->size - at < 1u << 20 ? f->size - at : 1u << 20;
        if (mib > 1) start_say(m, "\r%s: %u of %u MiB ", name, (unsigned)(at >> 20), (unsigned)mib);
        if (!start_read(f, at, step, into + at, &got)) return false;
        if (got < step) return start_fail(m, "%s ends early", name);
        at += got;
    }
    start_say(m, "\r%s: %U bytes loaded\n", name, f->size);
    return true;
}
