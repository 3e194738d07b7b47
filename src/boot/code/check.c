/* check.c — before the kernel runs: is what is about to start still what was written?
 *
 * The list is the usual one, "SHA-256  path" a line, paths from the volume's root, and `sha256sum -c` reads it, too.
 * Its own SHA-256 stands in the entry. Quick looks at kernel and initial RAM disks, full at all the list names.
 */
#include "start.h"

enum { STEP = 1 << 20, LIST_MOST = 1 << 20 };

enum verdict { SAME, DIFFERS, UNREADABLE, SKIPPED };

static enum verdict hash_file(struct start_file *f, const char *path, uint8_t *buffer, char hex[65]) {
    struct start_machine *m = f->v->m;
    struct start_sha256 s;
    start_sha256_begin(&s);
    uint32_t parts = (uint32_t)(f->size >> 20);
    for (uint64_t at = 0; at < f->size;) {
        uint64_t got;
        start_say(m, "\rChecking %s: %u of %u MiB ", path, (unsigned)(at >> 20), (unsigned)parts);
        if (!start_read(f, at, STEP, buffer, &got)) return UNREADABLE;
        if (got == 0) break;
        start_sha256_add(&s, buffer, (size_t)got);
        at += got;
        if (m->key(m, 0) != START_KEY_NONE) return SKIPPED;
    }
    start_sha256_end(&s, hex);
    return SAME;
}

static enum verdict check_file(struct start_volume *v, const char *path, const char *wanted, uint8_t *buffer) {
    struct start_machine *m = v->m;
    struct start_file f;
    char hex[65];
    if (!start_open(v, path, &f)) return UNREADABLE;
    enum verdict verdict = hash_file(&f, path, buffer, hex);
    if (verdict == SAME && memcmp(hex, wanted, 64) != 0) {
        start_fail(m, "%s is not what was written to this drive", path);
        verdict = DIFFERS;
    }
    start_say(m,
              verdict == SAME      ? "\rChecking %s: as written                \n"
              : verdict == SKIPPED ? "\rChecking %s: skipped                   \n"
                                   : "\rChecking %s: FAILED                    \n",
              path);
    return verdict;
}

static bool is_started(const struct start_entry *e, const char *path) {
    if (start_same_any_case(path, e->linux)) return true;
    for (unsigned i = 0; i < e->initrds; i++)
        if (start_same_any_case(path, e->initrd[i])) return true;
    return false;
}

/* The list's text, whose own digest is checked first. NULL: start_fail() has said why. */
static char *load_list(struct start_volume *v, const struct start_entry *e) {
    struct start_machine *m = v->m;
    struct start_file f;
    struct start_sha256 s;
    char hex[65];
    uint64_t got;
    if (!start_open(v, e->list_path, &f)) return NULL;
    char *text = f.size <= LIST_MOST ? m->take(m, f.size + 1) : NULL;
    if (!text) return start_fail(m, "the checksum list %s is too long", e->list_path), NULL;
    if (!start_read(&f, 0, f.size, text, &got)) return NULL;
    start_sha256_begin(&s);
    start_sha256_add(&s, text, (size_t)got);
    start_sha256_end(&s, hex);
    if (!start_same(hex, e->list_sha256))
        return start_fail(m, "the checksum list %s is not the one this entry was made with", e->list_path), NULL;
    return text;
}

/* Walk the list. The first that is not as written ends it. */
static enum verdict check_all(struct start_volume *v, const struct start_entry *e) {
    uint8_t *buffer = v->m->take(v->m, STEP);
    char *p = load_list(v, e);
    unsigned checked = 0;
    if (!buffer || !p) return UNREADABLE;
    while (*p) {
        char *line = p;
        char *path;
        while (*p && *p != '\n') p++;
        if (*p) *p++ = '\0';
        if (start_length(line) < 67) continue;
        path = line + 66;
        char full[START_PATH_MOST];
        if (path[0] == '.' && path[1] == '/') path++;
        start_format(full, sizeof full, "%s%s", *path == '/' ? "" : "/", path);
        if (e->check == START_CHECK_QUICK && !is_started(e, full)) continue;
        enum verdict verdict = check_file(v, full, line, buffer);
        if (verdict != SAME) return verdict;
        checked++;
    }
    if (checked <= e->initrds) {
        start_fail(v->m, "the checksum list does not name all that this entry starts");
        return UNREADABLE;
    }
    return SAME;
}

bool start_check_files(struct start_volume *v, const struct start_entry *e) {
    struct start_machine *m = v->m;
    if (e->check == START_CHECK_OFF || m->no_check) return true;
    start_say(m, "Checking what is about to start; any key skips this.\n");
    enum verdict verdict = check_all(v, e);
    if (verdict == SAME || verdict == SKIPPED) return true;
    start_say(m, "\nTHE CHECK AT START FAILED: %s.\n", m->error);
    start_say(m, "Press g to start it all the same, any other key for the menu.\n");
    unsigned key = start_wait_key(m);
    return key == 'g' || key == 'G';
}
