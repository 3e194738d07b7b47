/* entries.c — start entries: Boot Loader Specification, "Type #1 Boot Loader Specification Entries".
 *
 * They stand in /loader/entries/NAME.conf, on the volume of a full system's root in /boot/loader/entries. Two keys of
 * our own, which others ignore as the specification asks: satchel-check  off, quick (kernel and initial RAM disks) or
 * full (the system image, too) satchel-list   SHA-256 of the checksum list, and its path What goes for the whole menu
 * stands in /loader/satchel.conf: "timeout SECONDS|never", "default ID".
 */
#include "start.h"

static bool is_space(char c) { return c == ' ' || c == '\t' || c == '\r'; }

/* Cut the next line "KEY VALUE" out of *text. False at the end. */
static bool next_setting(char **text, char **key, char **value) {
    char *p = *text;
    for (;;) {
        while (is_space(*p) || *p == '\n') p++;
        if (*p == '\0') return false;
        if (*p != '#') break;
        while (*p && *p != '\n') p++;
    }
    *key = p;
    while (*p && *p != '\n' && !is_space(*p)) p++;
    char *key_end = p;
    while (is_space(*p)) p++;
    *value = p;
    while (*p && *p != '\n') p++;
    char *end = p;
    if (*p) p++;
    *text = p;
    while (end > *value && is_space(end[-1])) end--;
    *end = '\0';
    *key_end = '\0';
    return true;
}

/* "options" may stand more than once: they are joined. */
static const char *joined(struct start_machine *m, const char *a, const char *b) {
    size_t room = start_length(a) + start_length(b) + 2;
    if (!*a) return b;
    char *both = m->take(m, room);
    if (!both) return NULL;
    start_format(both, room, "%s %s", a, b);
    return both;
}

static bool is_hex64(const char *text) {
    for (size_t i = 0; i < 64; i++)
        if (!((text[i] >= '0' && text[i] <= '9') || (text[i] >= 'a' && text[i] <= 'f'))) return false;
    return text[64] == ' ' || text[64] == '\t';
}

bool start_entry_parse(struct start_machine *m, char *text, const char *id, struct start_entry *e) {
    char *key;
    char *value;
    memset(e, 0, sizeof *e);
    e->id = id;
    e->title = e->version = e->sort_key = e->linux = e->options = e->list_sha256 = e->list_path = "";
    while (next_setting(&text, &key, &value)) {
        if (start_same(key, "title")) e->title = value;
        else if (start_same(key, "version")) e->version = value;
        else if (start_same(key, "sort-key")) e->sort_key = value;
        else if (start_same(key, "linux") || start_same(key, "efi")) {
            e->linux = value;
            e->efi = *key == 'e';
        } else if (start_same(key, "initrd") && e->initrds < START_INITRDS_MOST) e->initrd[e->initrds++] = value;
        else if (start_same(key, "options")) {
            e->options = joined(m, e->options, value);
            if (!e->options) return start_fail(m, "there is no memory left");
        } else if (start_same(key, "satchel-check")) {
            e->check = start_same(value, "full")    ? START_CHECK_FULL
                       : start_same(value, "quick") ? START_CHECK_QUICK
                                                    : START_CHECK_OFF;
        } else if (start_same(key, "satchel-list") && is_hex64(value)) {
            value[64] = '\0';
            e->list_sha256 = value;
            for (value += 65; is_space(*value);) value++;
            e->list_path = value;
        }
    }
    if (!*e->title) e->title = id;
    return *e->linux != '\0' && (!e->efi || start_same(m->firmware, "UEFI"));
}

void start_settings_parse(char *text, struct start_menu *menu) {
    char *key;
    char *value;
    while (next_setting(&text, &key, &value)) {
        if (start_same(key, "default")) start_format(menu->default_id, sizeof menu->default_id, "%s", value);
        if (!start_same(key, "timeout")) continue;
        if (start_same(value, "never")) {
            menu->timeout_s = START_WAIT_EVER;
            continue;
        }
        uint32_t seconds = 0;
        for (; *value >= '0' && *value <= '9' && seconds < 3600; value++)
            seconds = seconds * 10 + (uint32_t)(*value - '0');
        menu->timeout_s = seconds < 3600 ? seconds : 3600;
    }
}

/* Text of a whole file, or NULL. */
static char *load_text(struct start_file *f) {
    uint64_t got;
    if (f->folder || f->size > START_TEXT_MOST) return NULL;
    char *text = f->v->m->take(f->v->m, f->size + 1);
    if (!text || !start_read(f, 0, f->size, text, &got) || got != f->size) return NULL;
    text[got] = '\0';
    return text;
}

struct reading {
    struct start_machine *m;
    struct start_menu *menu;
    unsigned room;
};

static bool read_entry(void *context, const char *name, const struct start_file *file) {
    struct reading *r = context;
    size_t n = start_length(name);
    struct start_file f = *file;
    if (n <= 5 || !start_same_any_case(name + n - 5, ".conf") || f.folder) return true;
    if (r->menu->entries >= r->room) {
        r->menu->left_out++;
        return true;
    }
    char *id = r->m->take(r->m, n + 1);
    char *text = load_text(&f);
    struct start_entry *e = &r->menu->entry[r->menu->entries];
    char *file_name = r->m->take(r->m, n + 1);
    size_t id_length = n - 5;
    unsigned left = 0;
    bool counted = start_counter_read(name, n - 5, &id_length, &left);
    if (id) memcpy(id, name, id_length);
    if (file_name) memcpy(file_name, name, n);
    if (id && file_name && text && start_entry_parse(r->m, text, id, e)) {
        e->file_name = file_name;
        e->counted = counted;
        e->left = left;
        r->menu->entries++;
    } else {
        r->menu->left_out++;
    }
    return true;
}

static int compare_text(const char *a, const char *b) {
    while (*a && *a == *b) a++, b++;
    return (unsigned char)*a - (unsigned char)*b;
}

static bool is_bad(const struct start_entry *e) { return e->counted && e->left == 0; }

/* The specification's order: those that did not come up last; those with a sort-key first, by it; then by name. Names
 * made here count upwards. */
static bool goes_before(const struct start_entry *a, const struct start_entry *b) {
    if (is_bad(a) != is_bad(b)) return is_bad(b);
    if ((*a->sort_key != '\0') != (*b->sort_key != '\0')) return *a->sort_key != '\0';
    int by_key = compare_text(a->sort_key, b->sort_key);
    return by_key ? by_key < 0 : compare_text(a->id, b->id) < 0;
}

bool start_entries_read(struct start_volume *v, struct start_menu *menu) {
    struct start_file settings;
    struct reading r = {.m = v->m, .menu = menu, .room = START_ENTRIES_MOST};
    memset(menu, 0, sizeof *menu);
    menu->timeout_s = 5;
    const char *conf = "/loader/satchel.conf";
    if (!start_open(v, "/loader/entries", &menu->folder)) {
        conf = "/boot/loader/satchel.conf";
        if (!start_open(v, "/boot/loader/entries", &menu->folder)) return false;
    }
    if (!menu->folder.folder) return false;
    menu->entry = v->m->take(v->m, sizeof *menu->entry * START_ENTRIES_MOST);
    if (!menu->entry) return start_fail(v->m, "there is no memory left");
    if (!start_list(&menu->folder, read_entry, &r)) return false;
    for (unsigned i = 1; i < menu->entries; i++) { /* few enough for insertion */
        struct start_entry e = menu->entry[i];
        unsigned k = i;
        for (; k && goes_before(&e, &menu->entry[k - 1]); k--) menu->entry[k] = menu->entry[k - 1];
        menu->entry[k] = e;
    }
    if (start_open(v, conf, &settings)) {
        char *text = load_text(&settings);
        if (text) start_settings_parse(text, menu);
    }
    for (unsigned i = 0; i < menu->entries; i++)
        if (start_same(menu->entry[i].id, menu->default_id) && !is_bad(&menu->entry[i])) menu->chosen = i;
    return menu->entries > 0;
}
