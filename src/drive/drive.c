/* drive.c — what is the same for every drive: its short name, whether it may be written, reading it as a source. */
#include "base/bytes.h"
#include "wild_satchel/port.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum ws_status ws_drive_short_name(struct ws_drive_facts *facts, struct ws_error *error) {
    static const char letters[33] = "0123456789abcdefghjkmnpqrstvwxyz"; /* no letter that reads like a digit */
    char identity[256];
    char hex[WS_HASH_HEX];
    size_t n = 0;
    const char *from = facts->model[0] ? facts->model : "drive";
    for (; *from && n < 24; from++) {
        char c = *from >= 'A' && *from <= 'Z' ? (char)(*from - 'A' + 'a') : *from;
        bool plain = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
        if (plain) facts->short_name[n++] = c;
        else if (n > 0 && facts->short_name[n - 1] != '-') facts->short_name[n++] = '-';
    }
    if (n > 0 && facts->short_name[n - 1] != '-') facts->short_name[n++] = '-';
    (void)snprintf(identity, sizeof identity, "%s|%s|%s|%llu", facts->vendor, facts->model, facts->serial,
                   (unsigned long long)facts->size);
    WS_TRY(ws_hash_bytes(WS_HASH_SHA256, identity, strlen(identity), hex, error));
    unsigned long bits = 0;
    for (int i = 0; i < 5; i++) bits = bits << 4 | (unsigned long)(hex[i] <= '9' ? hex[i] - '0' : hex[i] - 'a' + 10);
    for (int i = 0; i < 4; i++) {
        facts->short_name[n++] = letters[bits & 31];
        bits >>= 5;
    }
    facts->short_name[n] = '\0';
    return WS_OK;
}

static size_t base_of(const char *name) { return strcspn(name, "@"); }

bool ws_drive_alike(const struct ws_drive_facts *facts, const char *name) {
    const size_t n = base_of(facts->short_name);
    return n == base_of(name) && memcmp(facts->short_name, name, n) == 0;
}

bool ws_drive_called(const struct ws_drive_facts *facts, const char *name) {
    const char *place = strchr(name, '@');
    if (!ws_drive_alike(facts, name)) return false;
    return place ? strcmp(place + 1, facts->place) == 0 : !strchr(facts->short_name, '@');
}

void ws_drive_call(struct ws_drive_facts *facts, const char *name) {
    if (name && ws_drive_called(facts, name)) (void)snprintf(facts->short_name, sizeof facts->short_name, "%s", name);
}

void ws_drive_call_by_place(struct ws_drive_facts *facts) {
    const size_t n = base_of(facts->short_name), place = strlen(facts->place);
    if (!place || n + 1 + place >= sizeof facts->short_name) return;
    facts->short_name[n] = '@';
    memcpy(facts->short_name + n + 1, facts->place, place + 1);
}

struct listing {
    struct ws_drive_facts *list;
    size_t count, room;
    bool failed;
};
static bool list_one(void *context, const struct ws_drive_facts *f) {
    struct listing *l = context;
    if (l->count == l->room) {
        struct ws_drive_facts *grown = realloc(l->list, (l->room * 2 + 16) * sizeof *grown);
        if (!grown) {
            l->failed = true;
            return false;
        }
        l->list = grown;
        l->room = l->room * 2 + 16;
    }
    l->list[l->count++] = *f;
    return true;
}

enum ws_status ws_drives_list(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *error) {
    struct listing l = {0};
    enum ws_status status = port->ops->list(port, list_one, &l, error);
    if (status == WS_OK && l.failed) status = ws_fail(error, WS_E_NOMEM, "out of memory for a list of drives");
    for (size_t i = 0; i < l.count; i++)
        for (size_t k = i + 1; k < l.count; k++) {
            if (!ws_drive_alike(&l.list[i], l.list[k].short_name)) continue;
            ws_drive_call_by_place(&l.list[i]);
            ws_drive_call_by_place(&l.list[k]);
        }
    for (size_t i = 0; status == WS_OK && i < l.count && visit(context, &l.list[i]); i++) {
    }
    free(l.list);
    return status;
}

enum ws_status ws_drive_may_write(const struct ws_drive_facts *facts, const struct ws_target_rules *rules,
                                  struct ws_error *error) {
    const char *next = "choose another drive";
    enum ws_hint hint = WS_HINT_DRIVES;
    if (facts->system) {
        ws_fail(error, WS_E_REFUSED, "this drive holds the running system");
    } else if (facts->in_use_by[0]) {
        ws_fail(error, WS_E_REFUSED, "this drive is in use by %s", facts->in_use_by);
        next = "close what uses it and unmount it first";
        hint = WS_HINT_NONE;
    } else if (facts->internal != WS_NO) {
        ws_fail(error, WS_E_REFUSED, "%s",
                facts->internal == WS_YES ? "this drive is built into the machine"
                                          : "it cannot be told whether this drive is built into the machine");
    } else if (facts->read_only) {
        ws_fail(error, WS_E_REFUSED, "this drive is write-protected");
        next = "move its write-protect switch, or choose another drive";
    } else if (facts->size == 0) {
        ws_fail(error, WS_E_REFUSED, "this drive shows no medium");
        next = "put a card or medium in";
        hint = WS_HINT_NONE;
    } else if (facts->removable != WS_YES && !rules->allow_external_disk) {
        ws_fail(error, WS_E_REFUSED, "this is an external hard drive or SSD, which may hold somebody's files");
        next = "if it is really meant, say so";
        hint = WS_HINT_EXTERNAL_DISK;
    } else {
        return WS_OK;
    }
    ws_fail_where(error, "%s", facts->short_name);
    return hint == WS_HINT_NONE ? ws_fail_next(error, "%s", next) : ws_fail_hint(error, hint, "", "%s", next);
}

/* How a word may mean a drive, the surest way first. */
enum { BY_ID, BY_PLACE, BY_NAME, BY_MODEL, BY_LETTERS, BY_PART, WAYS };
struct search {
    const char *word;
    struct ws_drive_facts first[WAYS];
    int found[WAYS];
    struct ws_text all[WAYS]; /* the names of those found */
    char nearest[64];
    size_t distance;
};

static bool same_letters(const char *a, const char *b) {
    while (*a && ws_lower(*a) == ws_lower(*b)) a++, b++;
    return *a == *b || (!*a && !*b);
}

/* Drives that look alike answer to their common name, too: then there are several. */
static bool is_base(const struct ws_drive_facts *f, const char *word) {
    return !strchr(word, '@') && ws_drive_alike(f, word);
}

static bool match(void *context, const struct ws_drive_facts *f) {
    struct search *s = context;
    const char *const names[] = {f->short_name, f->model};
    const bool is[WAYS] = {[BY_ID] = strcmp(f->id, s->word) == 0,
                           [BY_PLACE] = f->place[0] && strcmp(f->place, s->word) == 0,
                           [BY_NAME] = ws_drive_called(f, s->word) || is_base(f, s->word),
                           [BY_MODEL] = strcmp(f->model, s->word) == 0,
                           [BY_LETTERS] = same_letters(f->short_name, s->word) || same_letters(f->model, s->word),
                           [BY_PART] = ws_word_holds(f->short_name, s->word) || ws_word_holds(f->model, s->word)};
    for (int i = 0; i < WAYS; i++) {
        if (!is[i]) continue;
        if (!s->found[i]++) s->first[i] = *f;
        ws_text_printf(&s->all[i], "%s%s", s->all[i].length ? ", " : "", f->short_name);
        if (!strchr(f->short_name, '@')) ws_text_printf(&s->all[i], " at %s", f->place[0] ? f->place : f->id);
    }
    for (size_t i = 0; i < 2; i++) {
        size_t distance = ws_word_distance(names[i], s->word);
        if (distance >= s->distance) continue;
        s->distance = distance;
        memcpy(s->nearest, names[i], sizeof s->nearest);
    }
    return true;
}

static enum ws_status several(const struct search *s, int by, struct ws_error *error) {
    ws_fail(error, WS_E_USAGE, "%d drives here are %s \"%s\": %s", s->found[by],
            by == BY_PART ? "called something like" : "called", s->word, s->all[by].data ? s->all[by].data : "");
    if (by == BY_NAME)
        return ws_fail_next(error,
                            strchr(s->first[by].short_name, '@')
                                ? "they are of one model and size and cannot be told apart but by their places: "
                                  "use the whole name, or unplug all but one"
                                : "they are of one model and size and have no serial number: unplug all but one");
    return ws_fail_hint(error, WS_HINT_DRIVES, "", "use the short name, or where it is plugged in");
}

/* What is not listed is a path, or else a part of a name. */
static enum ws_status find_unlisted(struct ws_port *port, const struct search *s, struct ws_drive_facts *facts,
                                    struct ws_error *error) {
    struct ws_drive *drive = NULL;
    struct ws_error own = {0};
    enum ws_status status = port->ops->open(port, s->word, WS_OPEN_READ, &drive, &own);
    if (status == WS_OK) {
        status = drive->ops->describe(drive, facts, error);
        drive->ops->close(drive);
        return status;
    }
    for (int i = BY_LETTERS; i <= BY_PART && status == WS_E_NOTFOUND; i++) {
        if (s->found[i] > 1) return several(s, i, error);
        if (s->found[i] == 1) {
            *facts = s->first[i];
            return WS_OK;
        }
    }
    if (status == WS_E_NOTFOUND && s->distance <= ws_word_slip(s->word)) {
        own.next[0] = '\0'; /* what the port says holds for every word */
        own.ways = 0;
        ws_fail_hint(&own, WS_HINT_DRIVES, "", "did you mean \"%s\"? Else look which drives are here", s->nearest);
    }
    if (error) *error = own;
    return status;
}

enum ws_status ws_drive_find(struct ws_port *port, const char *word, struct ws_drive_facts *facts,
                             struct ws_error *error) {
    struct search *s = calloc(1, sizeof *s);
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a list of drives");
    s->word = word;
    s->distance = SIZE_MAX;
    enum ws_status status = ws_drives_list(port, match, s, error);
    int by = BY_ID;
    while (by < BY_LETTERS && !s->found[by]) by++;
    if (status == WS_OK && by == BY_LETTERS) status = find_unlisted(port, s, facts, error);
    else if (status == WS_OK && s->found[by] > 1) status = several(s, by, error);
    else if (status == WS_OK) *facts = s->first[by];
    for (int i = 0; i < WAYS; i++) ws_text_free(&s->all[i]);
    free(s);
    return status;
}

struct twin_search {
    const struct ws_drive_facts *facts;
    char id[512];
};

static bool look_for_twin(void *context, const struct ws_drive_facts *f) {
    struct twin_search *s = context;
    if (strcmp(f->id, s->facts->id) == 0 || !ws_drive_alike(f, s->facts->short_name)) return true;
    if (strchr(s->facts->short_name, '@') && f->place[0] && strcmp(f->place, s->facts->place) != 0) return true;
    memcpy(s->id, f->id, sizeof s->id);
    return false;
}

enum ws_status ws_drive_is_alone(struct ws_port *port, const struct ws_drive_facts *facts, struct ws_error *error) {
    struct twin_search s = {facts, ""};
    WS_TRY(port->ops->list(port, look_for_twin, &s, error));
    if (!s.id[0]) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "another drive here looks exactly the same (%.200s): one model, one size, %s", s.id,
            facts->serial[0] ? "one serial number" : "no serial numbers");
    ws_fail_where(error, "%s", facts->short_name);
    return ws_fail_next(error,
                        facts->place[0] ? "unplug the one that is not meant, or make a plan for the one that is by "
                                          "where it is plugged in: %.63s; nothing was written"
                                        : "unplug the one that is not meant; nothing was written",
                        facts->place);
}

enum ws_status ws_drive_may_be_target(struct ws_port *port, const struct ws_drive_facts *facts,
                                      const struct ws_target_rules *rules, struct ws_error *error) {
    WS_TRY(ws_drive_may_write(facts, rules, error));
    return ws_drive_is_alone(port, facts, error);
}

enum ws_status ws_drive_confirmed(const struct ws_drive_facts *facts, const char *name, struct ws_error *error) {
    if (name && strcmp(name, facts->short_name) == 0) return WS_OK;
    ws_fail(error, WS_E_REFUSED,
            name ? "the name given does not confirm this drive" : "the drive's name was not given to confirm it");
    ws_fail_where(error, "%s", facts->short_name);
    return ws_fail_next(error, "confirm with the drive's own name: %s; nothing was written", facts->short_name);
}

enum ws_status ws_drive_is_not(struct ws_drive *drive, const char *path, struct ws_error *error) {
    if (!path[0] || !drive->ops->stores || !drive->ops->stores(drive, path)) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "the image lies on the very drive that would be written, and would be lost with it");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "copy the image somewhere else first, or choose another drive; nothing was written");
}

struct drive_source {
    struct ws_drive *drive;
    uint32_t sector;
    bool own;
};

static enum ws_status drive_source_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                        struct ws_error *error) {
    const struct drive_source *d = source->state;
    uint64_t first = at / d->sector * d->sector;
    uint64_t end = ws_round_up(at + length, d->sector);
    if (first == at && end == at + length) return d->drive->ops->read(d->drive, at, buffer, length, error);
    char *whole = malloc((size_t)(end - first));
    if (!whole) return ws_fail(error, WS_E_NOMEM, "out of memory for a read of %zu bytes", length);
    enum ws_status status = d->drive->ops->read(d->drive, first, whole, (size_t)(end - first), error);
    if (status == WS_OK) memcpy(buffer, whole + (at - first), length);
    free(whole);
    return status;
}

static void drive_source_close(struct ws_source *source) {
    struct drive_source *d = source->state;
    if (d->own) d->drive->ops->close(d->drive);
    free(d);
}

static const struct ws_source_ops drive_source_ops = {drive_source_read, drive_source_close, NULL};

enum ws_status ws_source_drive(struct ws_drive *drive, struct ws_source **source, struct ws_error *error) {
    struct ws_drive_facts facts;
    WS_TRY(drive->ops->describe(drive, &facts, error));
    struct drive_source *d = malloc(sizeof *d);
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for a drive");
    d->drive = drive;
    d->own = false;
    d->sector = facts.logical_sector;
    enum ws_status status = ws_source_make(&drive_source_ops, facts.size / d->sector * d->sector, d, source, error);
    if (status != WS_OK) free(d);
    return status;
}

enum ws_status ws_source_drive_own(struct ws_drive *drive, struct ws_source **source, struct ws_error *error) {
    enum ws_status status = ws_source_drive(drive, source, error);
    if (status == WS_OK) ((struct drive_source *)(*source)->state)->own = true;
    else drive->ops->close(drive);
    return status;
}
