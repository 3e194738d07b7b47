/* volume.c — files by their path, on whichever of the file systems they stand. */
#include "start.h"

enum { LINKS_MOST = 8 };

bool start_mount(struct start_machine *m, uint64_t at, uint64_t length, struct start_volume *v) {
    memset(v, 0, sizeof *v);
    v->m = m;
    v->at = at;
    v->length = length;
    v->run = start_fat_run; /* exFAT's clusters are followed in the same way */
    if (start_exfat_mount(v) || start_fat_mount(v)) return true;
    v->run = start_ext_run;
    return start_ext_mount(v);
}

static bool open_root(struct start_volume *v, struct start_file *f) {
    memset(f, 0, sizeof *f);
    if (v->kind == START_EXT) return start_ext_root(v, f);
    f->v = v;
    f->folder = true;
    f->size = UINT64_MAX;
    f->first = v->root;
    if (v->kind == START_FAT && v->bits != 32) {
        f->fixed_at = v->fixed_root_at;
        f->size = v->fixed_root_length;
    }
    return true;
}

bool start_list(struct start_file *folder, start_name_visit visit, void *context) {
    switch (folder->v->kind) {
    case START_FAT: return start_fat_list(folder, visit, context);
    case START_EXFAT: return start_exfat_list(folder, visit, context);
    default: return start_ext_list(folder, visit, context);
    }
}

struct search {
    const char *name;
    bool any_case, found;
    struct start_file file;
};

static bool compare(void *context, const char *name, const struct start_file *file) {
    struct search *s = context;
    if (!(s->any_case ? start_same_any_case(name, s->name) : start_same(name, s->name))) return true;
    s->found = true;
    s->file = *file;
    return false;
}

/* A symbolic link's target in the place of the link: what stands before it (`head` bytes of `walked`) stays for a
 * relative one, what follows it (`rest`) stays always. */
static bool follow(struct start_file *link, size_t head, const char *rest, char walked[START_PATH_MOST]) {
    struct start_machine *m = link->v->m;
    char target[START_PATH_MOST];
    char joined[START_PATH_MOST];
    uint64_t got = link->size;
    if (link->size >= sizeof target) return start_fail(m, "a link leads too far");
    if (link->size < 60) memcpy(target, link->block, (size_t)link->size);
    else if (!start_read(link, 0, link->size, target, &got)) return false;
    target[got] = '\0';
    if (target[0] == '/') head = 0;
    if (head + start_length(target) + start_length(rest) + 2 >= sizeof joined)
        return start_fail(m, "a link leads too far");
    memcpy(joined, walked, head);
    start_format(joined + head, sizeof joined - head, "/%s/%s", target, rest);
    memcpy(walked, joined, sizeof joined);
    return true;
}

/* "a/../b" is "b": what stands before ".." has been walked and is a folder, or was a link and is replaced. */
static void go_up(char *walked, size_t at, const char *rest) {
    while (at && walked[at - 1] == '/') at--;
    while (at && walked[at - 1] != '/') at--;
    size_t n = start_length(rest);
    for (size_t i = 0; i <= n; i++) walked[at + i] = rest[i];
}

/* Walk until the end or until the path changes under the way. */
static bool walk(struct start_volume *v, char walked[START_PATH_MOST], const char *path, struct start_file *f,
                 bool *again) {
    char part[START_PATH_MOST];
    const char *p = walked;
    *again = false;
    if (!open_root(v, f)) return false;
    for (;;) {
        size_t n = 0;
        while (*p == '/') p++;
        while (p[n] && p[n] != '/') part[n] = p[n], n++;
        part[n] = '\0';
        if (n == 0) return true;
        size_t before = (size_t)(p - walked);
        p += n;
        if (start_same(part, ".")) continue;
        if (start_same(part, "..")) {
            go_up(walked, before, p);
            *again = true;
            return true;
        }
        struct search s = {.name = part, .any_case = v->kind != START_EXT};
        if (!f->folder) return start_fail(v->m, "%s is not on the drive", path);
        if (!start_list(f, compare, &s)) return false;
        if (!s.found) return start_fail(v->m, "%s is not on the drive", path);
        *f = s.file;
        if (f->link) {
            *again = true;
            return follow(f, before, p, walked);
        }
    }
}

/* What is started is no file of holes: one that says it is larger than the drive would be read for days. */
static bool has_possible_size(const struct start_volume *v, const char *path, const struct start_file *f) {
    uint64_t most = v->length;
    uint64_t sectors = v->m->sectors;
    if (sectors && sectors < (1ull << 50) && sectors * v->m->sector_bytes < most) most = sectors * v->m->sector_bytes;
    return f->folder || f->size <= most ||
           start_fail(v->m, "the file system is damaged: %s says it is larger than the drive", path);
}

bool start_open(struct start_volume *v, const char *path, struct start_file *f) {
    char walked[START_PATH_MOST];
    bool again = true;
    if (start_length(path) >= sizeof walked) return start_fail(v->m, "a path is too long");
    start_format(walked, sizeof walked, "%s", path);
    for (unsigned turns = 0; again; turns++) {
        if (turns > LINKS_MOST) return start_fail(v->m, "%s: too many links", path);
        if (!walk(v, walked, path, f, &again)) return false;
    }
    return has_possible_size(v, path, f);
}
