/* inside.c — volumes that stand in files: NAME.ext4 in the root folder of a FAT or exFAT volume. */
#include "start.h"

struct looking {
    struct start_volume *inside;
    start_inside_visit visit;
    void *context;
    bool ended;
};

static bool is_named_so(const char *name) {
    static const char end[] = ".ext4";
    size_t n = start_length(name);
    return n >= sizeof end && start_same_any_case(name + n - (sizeof end - 1), end);
}

/* One behind the other: else what is read and written behind the first piece would be somebody else's. */
static bool place_of(struct start_file *f, uint64_t *at) {
    uint64_t here, run;
    for (uint64_t done = 0; done < f->size; done += run) {
        if (!f->v->run(f, done, &here, &run)) return false;
        if (done == 0) *at = here;
        if (run == 0 || here != *at + done) return false;
    }
    return f->size > 0;
}

static bool look(void *context, const char *name, const struct start_file *file) {
    struct looking *l = context;
    struct start_file f = *file;
    struct start_machine *m = f.v->m;
    uint64_t at = 0;
    if (f.folder || !is_named_so(name)) return true;
    if (f.size > f.v->length || !place_of(&f, &at)) {
        start_say(m, "%s lies in several pieces: copy it off the drive, delete it there, and copy it back.\n", name);
        return true;
    }
    if (!start_mount(m, at, f.size, l->inside) || l->inside->kind != START_EXT) return true;
    l->ended = !l->visit(l->context, name, l->inside);
    return !l->ended;
}

bool start_inside(struct start_volume *host, struct start_volume *inside, start_inside_visit visit, void *context) {
    struct looking l = {.inside = inside, .visit = visit, .context = context};
    struct start_file root;
    if (host->kind == START_EXT || !start_open(host, "/", &root)) return false;
    (void)start_list(&root, look, &l);
    return l.ended;
}
