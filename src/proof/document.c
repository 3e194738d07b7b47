/* document.c — a proof as a document (docs/proof-format.md), and read from it again. */
#include "base/document.h"
#include "proof/internal.h"
#include "wild_satchel/table.h"

#include <stdlib.h>
#include <string.h>

static const char format_name[] = "wild-satchel-proof";
enum { VERSION = 1 };

typedef const char *(*name_of)(unsigned value);
static const char *verdict_name(unsigned v) { return ws_verdict_name((enum ws_verdict)v); }
static const char *cause_name(unsigned v) { return ws_forgets_name((enum ws_forgets)v); }
static const char *link_name(unsigned v) { return ws_link_name((enum ws_link)v); }
static const char *change_name(unsigned v) { return ws_change_name((enum ws_change)v); }
static const char *item_name(unsigned v) { return ws_proof_change_name((enum ws_proof_change)v); }
static const char *disk_name(unsigned v) { return ws_disk_seen_name((enum ws_disk_seen)v); }
static const char *bit_name(unsigned v) { return ws_round_bit_name(1u << v); }

/* The value of a word. @return false for one that is not known */
static bool read_word(const char *word, name_of name, unsigned count, unsigned *value) {
    for (unsigned i = 0; i < count; i++)
        if (strcmp(name(i), word) == 0) {
            *value = i;
            return true;
        }
    return false;
}

/* A text of several lines: each made visible. */
static json_t *lines_json(const char *text) {
    struct ws_text out = {0};
    char line[2048];
    while (*text) {
        const size_t n = strcspn(text, "\n");
        size_t length = n < sizeof line - 1 ? n : sizeof line - 1;
        memcpy(line, text, length);
        while (length && line[length - 1] == '\r') length--;
        line[length] = '\0';
        ws_text_visible(&out, line);
        if (text[n]) ws_text_puts(&out, "\n");
        text += n + (text[n] == '\n');
    }
    json_t *json = json_string(out.data ? out.data : "");
    ws_text_free(&out);
    return json;
}

/* Cut at its end it may be no UTF-8 there. */
static json_t *seen_json(const char *text) {
    struct ws_text out = {0};
    ws_text_visible(&out, text);
    json_t *json = json_string(out.data ? out.data : "");
    ws_text_free(&out);
    return json;
}

static json_t *or_null(const char *text) { return text[0] ? seen_json(text) : json_null(); }

static json_t *survival_json(enum ws_survival s) {
    return s == WS_NOT_TRIED ? json_null() : json_boolean(s == WS_SURVIVES);
}

static json_t *bits_json(unsigned bits) {
    json_t *list = json_array();
    for (unsigned i = 0; i < WS_ROUND_BITS; i++)
        if (bits >> i & 1) json_array_append_new(list, json_string(bit_name(i)));
    return list;
}

static json_t *evidence_json(const struct ws_evidence *e) {
    return json_pack("{s:I, s:I, s:I, s:I, s:I, s:I, s:I, s:I, s:b, s:I, s:I, s:I}", "seen_at", (json_int_t)e->seen_at,
                     "mounts", (json_int_t)e->mounts, "mounted_at", (json_int_t)e->mounted_at, "written_at",
                     (json_int_t)e->written_at, "written_bytes", (json_int_t)e->written_bytes, "size_bytes",
                     (json_int_t)e->size, "free_bytes", (json_int_t)e->free_bytes, "errors", (json_int_t)e->errors,
                     "not_shut_down", e->needs_recovery, "data_volumes", (json_int_t)e->data_volumes, "data_in_use",
                     (json_int_t)e->data_in_use, "data_locked", (json_int_t)e->data_locked);
}

static json_t *told_json(const struct ws_told *t) {
    json_t *root = json_pack("{s:I, s:I, s:o}", "all", (json_int_t)t->all, "by_people", (json_int_t)t->by_people,
                             "packages", or_null(t->packages));
    for (unsigned w = 0; w < WS_WHOSES; w++) {
        json_t *one = json_object(), *examples = json_array();
        for (unsigned c = 0; c < WS_CHANGES; c++)
            json_object_set_new(one, change_name(c), json_integer((json_int_t)t->of[w].count[c]));
        for (size_t i = 0; i < t->of[w].examples; i++)
            json_array_append_new(examples, json_pack("{s:s, s:o}", "change", change_name(t->of[w].example[i].change),
                                                      "path", seen_json(t->of[w].example[i].path)));
        json_object_set_new(one, "examples", examples);
        json_object_set_new(root, ws_whose_name((enum ws_whose)w), one);
    }
    return root;
}

static json_t *survived_json(const struct ws_survived *s) {
    json_t *examples = json_array();
    for (size_t i = 0; i < s->examples; i++) json_array_append_new(examples, seen_json(s->example[i]));
    return json_pack("{s:I, s:I, s:I, s:I, s:o}", "there", (json_int_t)s->survive, "changed_again",
                     (json_int_t)s->again, "deleted_again", (json_int_t)s->deleted, "lost", (json_int_t)s->lost,
                     "lost_examples", examples);
}

static json_t *round_json(const struct ws_round *r, size_t number) {
    json_t *chain = json_array();
    for (unsigned i = WS_FORGETS_NO_SYSTEM; i < WS_FORGETS_CAUSES; i++)
        json_array_append_new(chain, json_pack("{s:s, s:s}", "link", cause_name(i), "state", link_name(r->link[i])));
    return json_pack("{s:I, s:o, s:b, s:o, s:o, s:s, s:s, s:o, s:o, s:o, s:o, s:o, s:o}", "round", (json_int_t)number,
                     "pc", seen_json(r->pc), "by_hand", r->by_hand, "asked", bits_json(r->asked), "shown",
                     bits_json(r->shown), "verdict", verdict_name(r->verdict), "cause", cause_name(r->cause), "text",
                     seen_json(r->text), "before", evidence_json(&r->before), "after", evidence_json(&r->after),
                     "saved", told_json(&r->told), "earlier", survived_json(&r->survived), "chain", chain);
}

static json_t *item_json(const struct ws_proof_item *i) {
    return json_pack("{s:s, s:o, s:i, s:i, s:o, s:o, s:o, s:o}", "change", item_name(i->change), "path",
                     seen_json(i->path), "made_in_round", (int)i->round, "lost_in_round", (int)i->lost_in, "on_console",
                     survival_json(i->console), "on_drive", survival_json(i->drive), "sha256", or_null(i->sha256),
                     "sha256_on_drive", or_null(i->found));
}

static bool are_same(const struct ws_snapshot *a, const struct ws_snapshot *b) {
    bool same = a->count == b->count;
    for (size_t i = 0; same && i < a->count; i++) {
        const struct ws_shot *x = &a->shot[i], *y = &b->shot[i];
        same = strcmp(x->path, y->path) == 0 && ws_shot_same(x, y) && x->mtime == y->mtime &&
               x->mtime_ns == y->mtime_ns && x->hashed == y->hashed && x->below == y->below;
    }
    return same;
}

/* The last member of a document that is written: long as they are, both snapshots go there as they are packed. */
static enum ws_status add_snapshots(const struct ws_proof *p, struct ws_text *out, struct ws_error *error) {
    static const char end[] = "\n}\n";
    const bool one = are_same(&p->first, &p->last);
    enum { ROW = 96 }; /* bytes of an entry, packed, at most for most: not all of a long text is to move as it grows */
    out->length -= sizeof end - 1;
    ws_text_reserve(out, (p->first.count + (one ? 0 : p->last.count)) * ROW);
    ws_text_printf(out, ",\n  \"snapshots\": {\n    \"whole\": %s,\n    \"first\": \"", p->whole ? "true" : "false");
    bool good = proof_pack(&p->first, out);
    ws_text_puts(out, one ? "\",\n    \"last\": null" : "\",\n    \"last\": \"");
    good = good && (one || proof_pack(&p->last, out));
    ws_text_printf(out, "%s\n  }%s", one ? "" : "\"", end);
    return good ? ws_text_status(out, error) : ws_fail(error, WS_E_NOMEM, "out of memory for a snapshot");
}

enum ws_status ws_proof_write(const struct ws_proof *p, bool snapshots, struct ws_text *out, struct ws_error *error) {
    json_t *rounds = json_array(), *items = json_array();
    for (size_t i = 0; i < p->rounds; i++) json_array_append_new(rounds, round_json(&p->round[i], i + 1));
    for (size_t i = 0; i < p->items; i++) json_array_append_new(items, item_json(&p->item[i]));
    json_t *disk = p->has_disk ? json_pack("{s:b, s:s}", "untouched", !p->disk_touched, "seen", disk_name(p->disk_seen))
                               : json_null();
    json_t *root = json_pack(
        "{s:s, s:i, s:o, s:o, s:I, s:s, s:o, s:s, s:I, s:I, s:s, s:s, s:o, s:o, s:o, s:I, s:f, s:o, s:o, "
        "s:o, s:o}",
        "format", format_name, "version", VERSION, "drive", seen_json(p->drive), "serial", seen_json(p->serial),
        "drive_bytes", (json_int_t)p->drive_size, "family", p->family, "volume_label", seen_json(p->volume_label),
        "volume", p->volume, "volume_made_at", (json_int_t)p->volume_made_at, "began", (json_int_t)p->began, "verdict",
        verdict_name(p->verdict), "cause", cause_name(p->cause), "text", seen_json(p->text), "not_tried",
        or_null(p->not_tried), "console_tail", lines_json(p->console_tail), "starts", (json_int_t)p->starts, "seconds",
        p->seconds, "pc_disk", disk, "seen", evidence_json(&p->seen), "rounds", rounds, "items", items);
    WS_TRY(doc_finish(root, out, error));
    return snapshots && p->volume[0] ? add_snapshots(p, out, error) : WS_OK;
}

/* Reading: each part fills its own, and says false for what is not as written above. */

static bool copy_text(char *out, size_t room, const char *text) {
    if (!text) text = "";
    if (strlen(text) >= room) return false;
    (void)memcpy(out, text, strlen(text) + 1);
    return true;
}
#define COPY(out, text) copy_text(out, sizeof(out), text)

static bool read_bits(const json_t *list, unsigned *bits) {
    size_t i;
    json_t *one;
    *bits = 0;
    if (!json_is_array(list)) return false;
    json_array_foreach(list, i, one) {
        unsigned bit;
        if (!json_is_string(one) || !read_word(json_string_value(one), bit_name, WS_ROUND_BITS, &bit)) return false;
        *bits |= 1u << bit;
    }
    return true;
}

static bool read_evidence(const json_t *root, struct ws_evidence *e) {
    json_int_t seen, mounts, mounted, written, bytes, size, free_bytes, errors;
    json_int_t data = 0, in_use = 0, locked = 0; /* older documents say nothing of those */
    int recovery;
    if (json_unpack((json_t *)(uintptr_t)root, "{s:I, s:I, s:I, s:I, s:I, s:I, s:I, s:I, s:b, s?I, s?I, s?I}",
                    "seen_at", &seen, "mounts", &mounts, "mounted_at", &mounted, "written_at", &written,
                    "written_bytes", &bytes, "size_bytes", &size, "free_bytes", &free_bytes, "errors", &errors,
                    "not_shut_down", &recovery, "data_volumes", &data, "data_in_use", &in_use, "data_locked",
                    &locked) != 0)
        return false;
    if (data < 0 || data > WS_VOLUME_PLACES || in_use < 0 || in_use > data) return false;
    if (locked < 0 || locked > WS_VOLUME_PLACES) return false;
    if (mounts < 0 || mounts > UINT32_MAX || errors < 0 || errors > UINT32_MAX || bytes < 0 || size < 0 ||
        free_bytes < 0 || free_bytes > size)
        return false;
    *e = (struct ws_evidence){.seen_at = seen,
                              .mounts = (uint32_t)mounts,
                              .mounted_at = mounted,
                              .written_at = written,
                              .written_bytes = (uint64_t)bytes,
                              .size = (uint64_t)size,
                              .free_bytes = (uint64_t)free_bytes,
                              .errors = (uint32_t)errors,
                              .needs_recovery = recovery != 0,
                              .data_volumes = (uint32_t)data,
                              .data_in_use = (uint32_t)in_use,
                              .data_locked = (uint32_t)locked};
    return true;
}

static bool read_count(const json_t *root, const char *key, uint64_t *out) {
    const json_t *n = json_object_get(root, key);
    if (!json_is_integer(n) || json_integer_value(n) < 0) return false;
    *out = (uint64_t)json_integer_value(n);
    return true;
}

static bool read_told(const json_t *root, struct ws_told *t) {
    if (!read_count(root, "all", &t->all) || !read_count(root, "by_people", &t->by_people) ||
        !COPY(t->packages, json_string_value(json_object_get(root, "packages"))))
        return false;
    for (unsigned w = 0; w < WS_WHOSES; w++) {
        const json_t *one = json_object_get(root, ws_whose_name((enum ws_whose)w)),
                     *examples = json_object_get(one, "examples");
        for (unsigned c = 0; c < WS_CHANGES; c++)
            if (!read_count(one, change_name(c), &t->of[w].count[c])) return false;
        if (!json_is_array(examples) || json_array_size(examples) > WS_TOLD_EXAMPLES) return false;
        for (size_t i = 0; i < json_array_size(examples); i++) {
            const char *change = NULL, *path = NULL;
            unsigned value;
            if (json_unpack(json_array_get(examples, i), "{s:s, s:s}", "change", &change, "path", &path) != 0 ||
                !read_word(change, change_name, WS_CHANGES, &value) || !COPY(t->of[w].example[i].path, path))
                return false;
            t->of[w].example[i].change = (enum ws_change)value;
            t->of[w].examples = i + 1;
        }
    }
    return true;
}

static bool read_survived(const json_t *root, struct ws_survived *s) {
    const json_t *examples = json_object_get(root, "lost_examples");
    if (!read_count(root, "there", &s->survive) || !read_count(root, "changed_again", &s->again) ||
        !read_count(root, "deleted_again", &s->deleted) || !read_count(root, "lost", &s->lost) ||
        !json_is_array(examples) || json_array_size(examples) > WS_LOST_EXAMPLES)
        return false;
    for (; s->examples < json_array_size(examples); s->examples++)
        if (!COPY(s->example[s->examples], json_string_value(json_array_get(examples, s->examples)))) return false;
    return true;
}

static bool read_chain(const json_t *chain, uint8_t link[WS_FORGETS_CAUSES]) {
    if (!json_is_array(chain)) return false;
    for (size_t i = 0; i < json_array_size(chain); i++) {
        const char *word = NULL, *state = NULL;
        unsigned cause, value;
        if (json_unpack(json_array_get(chain, i), "{s:s, s:s}", "link", &word, "state", &state) != 0 ||
            !read_word(word, cause_name, WS_FORGETS_CAUSES, &cause) ||
            !read_word(state, link_name, WS_LINK_FAILS + 1, &value))
            return false;
        link[cause] = (uint8_t)value;
    }
    return true;
}

static bool read_round(json_t *root, struct ws_round *r) {
    const char *pc = NULL, *verdict = NULL, *cause = NULL, *text = NULL;
    json_t *asked, *shown, *before, *after, *saved, *earlier, *chain;
    unsigned v, c;
    int by_hand;
    if (json_unpack(root, "{s:s, s:b, s:o, s:o, s:s, s:s, s:s, s:o, s:o, s:o, s:o, s:o}", "pc", &pc, "by_hand",
                    &by_hand, "asked", &asked, "shown", &shown, "verdict", &verdict, "cause", &cause, "text", &text,
                    "before", &before, "after", &after, "saved", &saved, "earlier", &earlier, "chain", &chain) != 0 ||
        !read_word(verdict, verdict_name, WS_VERDICT_OPEN + 1, &v) ||
        !read_word(cause, cause_name, WS_FORGETS_CAUSES, &c))
        return false;
    r->by_hand = by_hand != 0;
    r->verdict = (enum ws_verdict)v;
    r->cause = (enum ws_forgets)c;
    return COPY(r->pc, pc) && COPY(r->text, text) && read_bits(asked, &r->asked) && read_bits(shown, &r->shown) &&
           read_evidence(before, &r->before) && read_evidence(after, &r->after) && read_told(saved, &r->told) &&
           read_survived(earlier, &r->survived) && read_chain(chain, r->link);
}

static enum ws_survival read_survival(const json_t *value) {
    return json_is_true(value) ? WS_SURVIVES : json_is_false(value) ? WS_LOST : WS_NOT_TRIED;
}

static bool read_item(json_t *root, struct ws_proof_item *i) {
    const char *change = NULL, *path = NULL;
    int made, lost;
    unsigned value;
    if (json_unpack(root, "{s:s, s:s, s:i, s:i}", "change", &change, "path", &path, "made_in_round", &made,
                    "lost_in_round", &lost) != 0 ||
        !read_word(change, item_name, WS_PROOF_CHANGES, &value) || made < 0 || lost < 0)
        return false;
    i->change = (enum ws_proof_change)value;
    i->round = (unsigned)made;
    i->lost_in = (unsigned)lost;
    i->console = read_survival(json_object_get(root, "on_console"));
    i->drive = read_survival(json_object_get(root, "on_drive"));
    return COPY(i->path, path) && COPY(i->sha256, json_string_value(json_object_get(root, "sha256"))) &&
           COPY(i->found, json_string_value(json_object_get(root, "sha256_on_drive")));
}

static bool read_head(json_t *root, struct ws_proof *p) {
    const char *drive = NULL, *serial = NULL, *family = NULL, *label = NULL, *volume = NULL, *verdict = NULL,
               *cause = NULL, *text = NULL, *tail = NULL, *seen = NULL;
    json_int_t bytes, made, began, starts;
    json_t *disk, *evidence;
    unsigned v, c, d = 0;
    int untouched = 1;
    if (json_unpack(root, "{s:s, s:s, s:I, s:s, s:s, s:s, s:I, s:I, s:s, s:s, s:s, s:s, s:I, s:F, s:o, s:o}", "drive",
                    &drive, "serial", &serial, "drive_bytes", &bytes, "family", &family, "volume_label", &label,
                    "volume", &volume, "volume_made_at", &made, "began", &began, "verdict", &verdict, "cause", &cause,
                    "text", &text, "console_tail", &tail, "starts", &starts, "seconds", &p->seconds, "pc_disk", &disk,
                    "seen", &evidence) != 0 ||
        bytes < 0 || starts < 0 || starts > UINT32_MAX || !read_word(verdict, verdict_name, WS_VERDICT_OPEN + 1, &v) ||
        !read_word(cause, cause_name, WS_FORGETS_CAUSES, &c) || !read_evidence(evidence, &p->seen))
        return false;
    p->has_disk = json_is_object(disk);
    if (p->has_disk && (json_unpack(disk, "{s:b, s:s}", "untouched", &untouched, "seen", &seen) != 0 ||
                        !read_word(seen, disk_name, WS_DISK_MOUNTED + 1, &d)))
        return false;
    p->drive_size = (uint64_t)bytes;
    p->volume_made_at = made;
    p->began = began;
    p->starts = (unsigned)starts;
    p->verdict = (enum ws_verdict)v;
    p->cause = (enum ws_forgets)c;
    p->disk_touched = !untouched;
    p->disk_seen = (enum ws_disk_seen)d;
    return COPY(p->drive, drive) && COPY(p->serial, serial) && COPY(p->family, family) &&
           COPY(p->volume_label, label) && COPY(p->volume, volume) && COPY(p->text, text) &&
           COPY(p->console_tail, tail) && COPY(p->not_tried, json_string_value(json_object_get(root, "not_tried")));
}

static enum ws_status read_snapshots(const json_t *root, struct ws_proof *p, struct ws_error *error) {
    const json_t *both = json_object_get(root, "snapshots"), *first = json_object_get(both, "first"),
                 *last = json_object_get(both, "last");
    if (!p->volume[0]) return WS_OK; /* there was nothing to look at */
    if (!json_is_string(first) || (!json_is_string(last) && !json_is_null(last))) {
        ws_fail(error, WS_E_FORMAT, "it has no snapshots: this is what a proof said, and no document to go on with");
        return ws_fail_next(error, "give the document that the proof keeps");
    }
    p->whole = json_is_true(json_object_get(both, "whole"));
    WS_TRY(proof_unpack(json_string_value(first), &p->first, error));
    if (!json_is_null(last)) return proof_unpack(json_string_value(last), &p->last, error);
    ws_snapshot_copy(&p->first, &p->last);
    return WS_OK;
}

enum ws_status ws_proof_read(const char *text, size_t length, struct ws_proof *p, struct ws_error *error) {
    struct ws_error own;
    if (!error) error = &own;
    json_t *root = doc_parse(text, length, format_name, VERSION, WS_HINT_NONE, error);
    memset(p, 0, sizeof *p);
    if (!root) return error->status;
    enum ws_status status = WS_OK;
    const json_t *rounds = json_object_get(root, "rounds"), *items = json_object_get(root, "items");
    const char *wrong = !read_head(root, p) ? "its head" : NULL;
    if (!json_is_array(rounds) || json_array_size(rounds) > WS_PROOF_ROUNDS_MOST) wrong = "rounds";
    if (!json_is_array(items) || json_array_size(items) > WS_PROOF_ITEMS_MOST) wrong = "items";
    for (; !wrong && p->rounds < json_array_size(rounds); p->rounds++)
        if (!read_round(json_array_get(rounds, p->rounds), &p->round[p->rounds])) wrong = "rounds";
    for (; !wrong && p->items < json_array_size(items); p->items++)
        if (!read_item(json_array_get(items, p->items), &p->item[p->items])) wrong = "items";
    if (wrong) WS_GO(ws_fail(error, WS_E_FORMAT, "this proof says something not known here: %s", wrong));
    WS_GO(read_snapshots(root, p, error));
done:
    json_decref(root);
    if (status == WS_OK) return WS_OK;
    ws_proof_free(p);
    memset(p, 0, sizeof *p);
    return status;
}
