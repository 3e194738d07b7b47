/* rules.c — the rules document read, and written into plans. */
#include "plan/internal.h"

#include <stdio.h>
#include <string.h>

enum { FORMAT_VERSION = 1 };
static const char format_name[] = "wild-satchel-rules";

static enum ws_status bad(struct ws_error *error, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the rules' \"%s\" %s", key, what);
    return ws_fail_next(error, "docs/rules-format.md tells what may stand there");
}

/* Text of at most room - 1 bytes; a path must stay on the medium. */
static enum ws_status text_of(json_t *value, const char *key, bool path, char *out, size_t room,
                              struct ws_error *error) {
    const char *text = json_string_value(value);
    if (!text) return bad(error, key, "must be text");
    if (strlen(text) >= room || strlen(text) != json_string_length(value)) return bad(error, key, "is too long");
    if (path) {
        while (*text == '/') text++;
        if (!*text) return bad(error, key, "must name a file or folder");
        for (const char *p = text; p; p = strchr(p, '/') ? strchr(p, '/') + 1 : NULL)
            if (strcmp(p, "..") == 0 || strncmp(p, "../", 3) == 0) return bad(error, key, "would leave the medium");
    } else if (strpbrk(text, "\r\n") && strcmp(key, "add.text") != 0) {
        return bad(error, key, "must be one line");
    }
    (void)snprintf(out, room, "%s", text);
    return WS_OK;
}

static enum ws_status only(json_t *object, const char *key, const char *const known[], struct ws_error *error) {
    const char *name;
    json_t *value;
    if (!json_is_object(object)) return bad(error, key, "must be an object");
    json_object_foreach(object, name, value) {
        size_t i = 0;
        while (known[i] && strcmp(known[i], name) != 0) i++;
        if (!known[i]) return bad(error, name, "is not a key of this format");
    }
    return WS_OK;
}

static enum ws_status list_of(json_t *value, const char *key, size_t *count, struct ws_error *error) {
    *count = json_array_size(value);
    if (value && !json_is_array(value)) return bad(error, key, "must be a list");
    return *count <= WS_RULES_MOST ? WS_OK : bad(error, key, "has more than 16 entries");
}

static enum ws_status read_pairs(json_t *list, const char *key, struct ws_rule_pair *pair, size_t *count,
                                 struct ws_error *error) {
    static const char *const known[] = {"from", "to", NULL};
    WS_TRY(list_of(list, key, count, error));
    for (size_t i = 0; i < *count; i++) {
        json_t *o = json_array_get(list, i);
        WS_TRY(only(o, key, known, error));
        WS_TRY(text_of(json_object_get(o, "from"), key, true, pair[i].from, sizeof pair->from, error));
        WS_TRY(text_of(json_object_get(o, "to"), key, true, pair[i].to, sizeof pair->to, error));
    }
    return WS_OK;
}

enum ws_status plan_read_rules(json_t *o, struct ws_rules *r, struct ws_error *error) {
    static const char *const known[] = {"format",    "version", "label",   "rename", "copy",
                                        "leave_out", "add",     "autorun", NULL};
    static const char *const file_keys[] = {"path", "text", NULL};
    static const char *const autorun_keys[] = {"label", "icon", NULL};
    json_t *value;
    memset(r, 0, sizeof *r);
    WS_TRY(only(o, "document", known, error));
    value = json_object_get(o, "label");
    if (value) WS_TRY(text_of(value, "label", false, r->label, sizeof r->label, error));
    WS_TRY(read_pairs(json_object_get(o, "rename"), "rename", r->rename, &r->renames, error));
    WS_TRY(read_pairs(json_object_get(o, "copy"), "copy", r->copy, &r->copies, error));
    value = json_object_get(o, "leave_out");
    WS_TRY(list_of(value, "leave_out", &r->left_out, error));
    for (size_t i = 0; i < r->left_out; i++)
        WS_TRY(text_of(json_array_get(value, i), "leave_out", true, r->leave_out[i], WS_RULE_PATH, error));
    value = json_object_get(o, "add");
    WS_TRY(list_of(value, "add", &r->added, error));
    for (size_t i = 0; i < r->added; i++) {
        json_t *file = json_array_get(value, i);
        WS_TRY(only(file, "add", file_keys, error));
        WS_TRY(text_of(json_object_get(file, "path"), "add.path", true, r->add[i].path, WS_RULE_PATH, error));
        json_t *text = json_object_get(file, "text");
        if (text) WS_TRY(text_of(text, "add.text", false, r->add[i].text, WS_RULE_TEXT, error));
    }
    value = json_object_get(o, "autorun");
    if (!value) return WS_OK;
    WS_TRY(only(value, "autorun", autorun_keys, error));
    json_t *label = json_object_get(value, "label");
    json_t *icon = json_object_get(value, "icon");
    if (label) WS_TRY(text_of(label, "autorun.label", false, r->autorun_label, sizeof r->autorun_label, error));
    if (icon) WS_TRY(text_of(icon, "autorun.icon", true, r->autorun_icon, sizeof r->autorun_icon, error));
    return WS_OK;
}

enum ws_status ws_rules_from_json(const char *text, size_t length, struct ws_rules *r, struct ws_error *error) {
    struct ws_error own;
    if (!error) error = &own;
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_NONE, error);
    if (!root) return error->status;
    enum ws_status status = plan_read_rules(root, r, error);
    json_decref(root);
    return status;
}

static json_t *pairs_json(const struct ws_rule_pair *pair, size_t count) {
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++)
        json_array_append_new(list, json_pack("{s:s, s:s}", "from", pair[i].from, "to", pair[i].to));
    return list;
}

json_t *plan_rules_json(const struct ws_rules *r) {
    json_t *left_out = json_array();
    json_t *add = json_array();
    for (size_t i = 0; i < r->left_out; i++) json_array_append_new(left_out, json_string(r->leave_out[i]));
    for (size_t i = 0; i < r->added; i++)
        json_array_append_new(add, json_pack("{s:s, s:s}", "path", r->add[i].path, "text", r->add[i].text));
    json_t *o = json_pack("{s:s, s:o, s:o, s:o, s:o}", "label", r->label, "rename", pairs_json(r->rename, r->renames),
                          "copy", pairs_json(r->copy, r->copies), "leave_out", left_out, "add", add);
    json_t *autorun = json_object();
    if (r->autorun_label[0]) json_object_set_new(autorun, "label", json_string(r->autorun_label));
    if (r->autorun_icon[0]) json_object_set_new(autorun, "icon", json_string(r->autorun_icon));
    json_object_set_new(o, "autorun", autorun);
    return o;
}
