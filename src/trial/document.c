/* document.c — a trial kept as a JSON document, and read back for estimates. */
#include "base/document.h"
#include "wild_satchel/trial.h"

#include <stdio.h>
#include <string.h>

enum { FORMAT_VERSION = 1 };
static const char format_name[] = "wild-satchel-trial";
static const char *const fit_names[] = {"good", "poor", "no"};

static json_t *areas_json(const struct ws_trial *t) {
    json_t *list = json_array();
    for (size_t i = 0; i < t->bads; i++)
        json_array_append_new(list, json_pack("{s:I, s:I, s:s}", "at_bytes", (json_int_t)t->bad[i].at, "size_bytes",
                                              (json_int_t)t->bad[i].length, "fault",
                                              t->bad[i].unreadable ? "unreadable" : "altered"));
    return list;
}

static json_t *uses_json(const struct ws_trial *t) {
    json_t *list = json_array();
    for (size_t i = 0; i < WS_TRIAL_USES; i++)
        json_array_append_new(list, json_pack("{s:s, s:s, s:s}", "use", t->use[i].use, "fit", fit_names[t->use[i].fit],
                                              "why", t->use[i].why));
    return list;
}

enum ws_status ws_trial_to_json(const struct ws_trial *t, struct ws_text *out, struct ws_error *error) {
    json_t *root = json_pack(
        "{s:s, s:i, s:s, s:s, s:s, s:I, s:I, s:b, s:s, s:I, s:o, s:I, s:f, s:f, s:f, s:I, s:I, s:f, s:o}", "format",
        format_name, "version", (int)FORMAT_VERSION, "depth", ws_trial_depth_name(t->depth), "drive", t->drive_name,
        "serial", t->drive_serial, "size_bytes", (json_int_t)t->drive_size, "made_at", (json_int_t)t->made_at, "sound",
        t->sound, "forgery", ws_forgery_name(t->forgery), "holds_bytes", (json_int_t)t->holds, "bad_areas",
        areas_json(t), "more_bad_areas", (json_int_t)t->bad_more, "read_bytes_s", t->read_bytes_s, "write_bytes_s",
        t->write_bytes_s, "small_writes_s", t->small_writes_s, "written_bytes", (json_int_t)t->written, "bytes_read",
        (json_int_t)t->read, "seconds", t->seconds, "uses", uses_json(t));
    return doc_finish(root, out, error);
}

static enum ws_status bad_key(struct ws_error *error, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the trial's \"%s\" %s", key, what);
    return ws_fail_hint(error, WS_HINT_TRIAL_AGAIN, "", "make it again");
}

enum ws_status ws_trial_from_json(const char *text, size_t length, struct ws_trial *t, struct ws_error *error) {
    struct ws_error own;
    enum ws_status status = WS_OK;
    const struct {
        const char *key;
        double *out;
    } rates[] = {{"read_bytes_s", &t->read_bytes_s},
                 {"write_bytes_s", &t->write_bytes_s},
                 {"small_writes_s", &t->small_writes_s}};
    const struct {
        const char *key;
        char *out;
    } words[] = {{"drive", t->drive_name}, {"serial", t->drive_serial}};
    memset(t, 0, sizeof *t);
    if (!error) error = &own;
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_TRIAL_AGAIN, error);
    if (!root) return error->status;
    for (size_t i = 0; i < 2; i++) {
        json_t *v = json_object_get(root, words[i].key);
        if (!json_is_string(v) || json_string_length(v) >= sizeof t->drive_name)
            WS_GO(bad_key(error, words[i].key, "must be short text"));
        (void)snprintf(words[i].out, sizeof t->drive_name, "%s", json_string_value(v));
    }
    json_int_t size = json_integer_value(json_object_get(root, "size_bytes"));
    json_int_t holds = json_integer_value(json_object_get(root, "holds_bytes"));
    if (size <= 0) WS_GO(bad_key(error, "size_bytes", "is not possible"));
    if (holds <= 0 || holds > size) WS_GO(bad_key(error, "holds_bytes", "is not possible"));
    t->drive_size = (uint64_t)size;
    t->holds = (uint64_t)holds;
    t->made_at = json_integer_value(json_object_get(root, "made_at"));
    t->sound = json_is_true(json_object_get(root, "sound"));
    for (size_t i = 0; i < 3; i++) {
        json_t *v = json_object_get(root, rates[i].key);
        double rate = json_number_value(v);
        if (!json_is_number(v) || !(rate >= 0 && rate < 1e12)) WS_GO(bad_key(error, rates[i].key, "is not possible"));
        *rates[i].out = rate;
    }
done:
    json_decref(root);
    return status;
}
