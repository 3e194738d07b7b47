/* passport.c — a drive's passport as a document. */
#include "proof/passport.h"

#include "base/calendar.h"
#include "base/document.h"
#include "wild_satchel/api.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

const char *passport_day(int64_t at, char out[24]) {
    int64_t year;
    unsigned month, day;
    ws_date_of(at / 86400, &year, &month, &day);
    if (at <= 0 || year > 9999) (void)snprintf(out, 24, "-");
    else (void)snprintf(out, 24, "%04u-%02u-%02u", (unsigned)year, month, day);
    return out;
}

const char *passport_title(const struct ws_passport *p, char *out, size_t room) {
    if (p->plan && ws_plan_facts(p->plan)->title[0]) ws_visible(ws_plan_facts(p->plan)->title, out, room);
    else if (p->origin && p->origin->title[0]) ws_visible(p->origin->title, out, room);
    else if (p->contents->guess[0]) ws_visible(p->contents->guess, out, room);
    else (void)snprintf(out, room, "a drive");
    return out;
}

const char *passport_verdict(const struct ws_passport *p, bool *good) {
    static const char *const words[] = {"It remembers", "It forgets", "It did not start", "Not proved yet"};
    if (p->proof) {
        *good = p->proof->verdict == WS_VERDICT_KEPT;
        return words[p->proof->verdict];
    }
    for (size_t i = 0; i < p->events; i++)
        if (strcmp(p->event[i].what, "prove") == 0) {
            *good = p->event[i].good;
            return p->event[i].verdict;
        }
    return NULL;
}

static json_t *text_json(const char *text) {
    struct ws_text seen = {0};
    ws_text_visible(&seen, text);
    json_t *json = json_string(seen.data ? seen.data : "");
    ws_text_free(&seen);
    return json;
}

static json_t *volumes_json(const struct ws_contents *c) {
    json_t *list = json_array();
    for (size_t i = 0; i < c->parts; i++) {
        const struct ws_content *v = &c->part[i];
        json_array_append_new(list, json_pack("{s:i, s:s, s:o, s:I, s:I, s:o, s:b}", "partition", (int)v->number,
                                              "system", v->system, "label", text_json(v->label), "at_bytes",
                                              (json_int_t)v->at, "size_bytes", (json_int_t)v->length, "free_bytes",
                                              v->counted ? json_integer((json_int_t)v->free_bytes) : json_null(),
                                              "clean", v->clean));
    }
    return list;
}

const struct ws_outlook *passport_outlook(const struct ws_passport *p) {
    return p->plan ? ws_plan_outlooks(p->plan) : p->outlook;
}

static json_t *starts_json(const struct ws_outlook *outlook) {
    json_t *starts = json_array();
    for (size_t i = 0; outlook && i < WS_OUTLOOKS; i++)
        json_array_append_new(starts, json_pack("{s:s, s:b, s:b, s:o}", "firmware",
                                                outlook[i].firmware == WS_FIRMWARE_UEFI ? "uefi" : "bios",
                                                "secure_boot", outlook[i].secure_boot, "starts", outlook[i].starts,
                                                "why", text_json(outlook[i].why)));
    return starts;
}

static json_t *plan_json(const struct ws_plan *plan) {
    if (!plan) return json_null();
    const struct ws_input *image = &ws_plan_request(plan)->input[WS_INPUT_IMAGE];
    return json_pack("{s:s, s:o, s:I, s:o, s:s, s:s, s:o}", "kind", ws_kind_name(ws_plan_facts(plan)->kind), "title",
                     text_json(ws_plan_facts(plan)->title), "planned_at", (json_int_t)ws_plan_facts(plan)->made_at,
                     "image", text_json(image->path), "image_sha256", image->sha256, "layout_sha256",
                     ws_plan_facts(plan)->fingerprint, "starts", starts_json(ws_plan_outlooks(plan)));
}

static json_t *origin_json(const struct ws_origin *o) {
    if (!o) return json_null();
    return json_pack("{s:o, s:s, s:I, s:I}", "title", text_json(o->title), "image_sha256", o->sha256, "image_bytes",
                     (json_int_t)o->size, "made_at", (json_int_t)o->made_at);
}

static json_t *memory_json(const struct ws_memory *m) {
    if (!m) return json_null();
    const bool read = m->volume_size && !m->locked && !m->unread;
    return json_pack("{s:s, s:b, s:b, s:b, s:s, s:I, s:o, s:I, s:s, s:o}", "family",
                     m->system   ? "system"
                     : m->family ? m->family->word
                                 : "",
                     "locked", m->locked, "in_file", m->in_file, "unread", m->unread, "label",
                     read ? m->volume.label : "", "size_bytes", (json_int_t)m->volume_size, "free_bytes",
                     read ? json_integer((json_int_t)m->volume.free_bytes) : json_null(), "starts",
                     (json_int_t)(read ? m->volume.mounts : 0), "cause", ws_forgets_name(m->cause), "text",
                     text_json(m->cause_text));
}

static json_t *proof_json(const struct ws_proof *proof, struct ws_error *error) {
    struct ws_text text = {0};
    json_t *json = NULL;
    if (!proof) return json_null();
    if (ws_proof_write(proof, false, &text, error) == WS_OK) json = json_loads(text.data, 0, NULL);
    ws_text_free(&text);
    return json;
}

static json_t *trial_json(const struct ws_trial *t) {
    if (!t) return json_null();
    return json_pack("{s:I, s:s, s:b, s:I, s:f, s:f, s:I}", "made_at", (json_int_t)t->made_at, "depth",
                     ws_trial_depth_name(t->depth), "sound", t->sound, "holds_bytes", (json_int_t)t->holds,
                     "read_bytes_s", t->read_bytes_s, "write_bytes_s", t->write_bytes_s, "bad_areas",
                     (json_int_t)t->bads + (json_int_t)t->bad_more);
}

enum ws_status ws_passport_json(const struct ws_passport *p, struct ws_text *out, struct ws_error *error) {
    char title[200];
    bool good = false;
    const char *verdict = passport_verdict(p, &good);
    json_t *events = json_array(), *keys = json_array();
    size_t count;
    const struct ws_start_key *key = ws_start_keys(&count);
    for (size_t i = 0; i < p->events; i++)
        json_array_append_new(events, json_pack("{s:I, s:o, s:b, s:o}", "at", (json_int_t)p->event[i].at, "command",
                                                text_json(p->event[i].what), "good", p->event[i].good, "verdict",
                                                text_json(p->event[i].verdict)));
    for (size_t i = 0; i < count; i++)
        json_array_append_new(
            keys, json_pack("{s:s, s:s, s:s}", "maker", key[i].maker, "key", key[i].key, "settings", key[i].settings));
    json_t *root = json_pack(
        "{s:s, s:i, s:s, s:I, s:{s:o, s:o, s:o, s:o, s:I, s:s}, s:o, s:o, s:o, s:s, s:o, s:o, s:o, s:o, s:o, s:o}",
        "format", "wild-satchel-passport", "version", 1, "made_by", WS_VERSION, "made_at", (json_int_t)p->made_at,
        "drive", "name", text_json(p->drive->short_name), "vendor", text_json(p->drive->vendor), "model",
        text_json(p->drive->model), "serial", text_json(p->drive->serial), "size_bytes", (json_int_t)p->drive->size,
        "kind", p->kind, "title", text_json(passport_title(p, title, sizeof title)), "verdict",
        verdict ? text_json(verdict) : json_null(), "remembers", verdict ? json_boolean(good) : json_null(), "table",
        ws_table_kind_name(p->contents->table), "volumes", volumes_json(p->contents), "plan", plan_json(p->plan),
        "memory", memory_json(p->memory), "proof", proof_json(p->proof, error), "trial", trial_json(p->trial),
        "history", events);
    if (root) {
        json_object_set_new(root, "keys", keys);
        json_object_set_new(root, "starts", starts_json(passport_outlook(p)));
        json_object_set_new(root, "origin", origin_json(p->origin));
        json_object_set_new(root, "image_checked", p->checked ? text_json(p->checked) : json_null());
    } else {
        json_decref(keys);
    }
    return doc_finish(root, out, error);
}
