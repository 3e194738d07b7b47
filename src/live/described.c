/* described.c — a live family described by a document of the user's (docs/family-format.md). */
#include "base/document.h"
#include "wild_satchel/live.h"

#include <stdio.h>
#include <string.h>

enum { FORMAT_VERSION = 1 };
static const char format_name[] = "wild-satchel-family";

/* Where one key of the document goes: a text, or a list of up to `most` of them. */
struct slot {
    const char *key;
    const char **out;
    size_t most; /* 1: a text */
    bool needed, path;
};

static enum ws_status bad(struct ws_error *error, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the family's \"%s\" %s", key, what);
    return ws_fail_next(error, "docs/family-format.md tells what may stand there");
}

static enum ws_status keep(struct ws_own_family *own, size_t *used, const struct slot *slot, json_t *value,
                           const char **out, struct ws_error *error) {
    const char *text = json_string_value(value);
    if (!text || !text[0] || strlen(text) != json_string_length(value))
        return bad(error, slot->key, "must be text that is not empty");
    if (strpbrk(text, "\r\n") && strcmp(slot->key, "config_text") != 0)
        return bad(error, slot->key, "must be one line");
    if (slot->path && (text[0] == '/' || strstr(text, "..")))
        return bad(error, slot->key, "must be a path from the top, without \"/\" before it and \"..\" in it");
    size_t n = strlen(text) + 1;
    if (*used + n > sizeof own->words) return bad(error, slot->key, "makes the description too long");
    *out = memcpy(own->words + *used, text, n);
    *used += n;
    return WS_OK;
}

static enum ws_status fill(struct ws_own_family *own, json_t *root, struct ws_error *error) {
    struct ws_live_family *f = &own->family;
    const struct slot slots[] = {
        {"word", &f->word, 1, true, false},
        {"title", &f->title, 1, true, false},
        {"folder", &f->folder, 1, true, true},
        {"signs", f->signs, 4, true, false},
        {"label", &f->label, 1, true, false},
        {"parameters", &f->parameters, 1, true, false},
        {"drop", f->drop, 6, false, false},
        {"config_path", &f->config_path, 1, false, true},
        {"config_text", &f->config_text, 1, false, false},
        {"folders", f->folders, 3, false, true},
        {"changes", &f->changes, 1, true, true},
        {"work", &f->work, 1, true, true},
        {"roots", f->roots, 4, true, true},
        {"overlay_file", &f->overlay_file, 1, false, true},
        {"file_parameters", &f->file_parameters, 1, false, false},
        {"lock_parameters", &f->lock_parameters, 1, false, false},
    };
    enum { SLOTS = sizeof slots / sizeof slots[0] };
    const char *name;
    json_t *value;
    size_t used = 0;
    json_object_foreach(root, name, value) {
        size_t i = 0;
        while (i < SLOTS && strcmp(slots[i].key, name) != 0) i++;
        if (i == SLOTS && strcmp(name, "format") != 0 && strcmp(name, "version") != 0 &&
            strcmp(name, "overlay_beside") != 0)
            return bad(error, name, "is not a key of this format");
    }
    for (size_t i = 0; i < SLOTS; i++) {
        value = json_object_get(root, slots[i].key);
        if (!value && !slots[i].needed) continue;
        if (!value) return bad(error, slots[i].key, "is missing");
        if (slots[i].most == 1) {
            WS_TRY(keep(own, &used, &slots[i], value, slots[i].out, error));
            continue;
        }
        if (!json_is_array(value) || json_array_size(value) == 0 || json_array_size(value) > slots[i].most)
            return bad(error, slots[i].key, "must be a list that is neither empty nor too long");
        for (size_t k = 0; k < json_array_size(value); k++)
            WS_TRY(keep(own, &used, &slots[i], json_array_get(value, k), &slots[i].out[k], error));
    }
    value = json_object_get(root, "overlay_beside");
    if (value && !json_is_boolean(value)) return bad(error, "overlay_beside", "must be true or false");
    f->overlay_beside = json_is_true(value);
    if (f->file_parameters && !f->overlay_file)
        return bad(error, "file_parameters", "and \"overlay_file\" go together");
    if (strlen(f->label) > 16) return bad(error, "label", "must be a label ext4 can hold: up to 16 bytes");
    if ((f->config_path == NULL) != (f->config_text == NULL))
        return bad(error, "config_path", "and \"config_text\" go together");
    if (ws_live_family_find(f->word)) return bad(error, "word", "is a family's that is known already");
    return WS_OK;
}

enum ws_status ws_own_family_read(const char *text, size_t length, struct ws_own_family *own, struct ws_error *error) {
    struct ws_error mine;
    if (!error) error = &mine;
    memset(own, 0, sizeof *own);
    if (length >= sizeof own->document) return ws_fail(error, WS_E_FORMAT, "the family's description is too long");
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_NONE, error);
    if (!root) return error->status;
    enum ws_status status = fill(own, root, error);
    json_decref(root);
    if (status == WS_OK) memcpy(own->document, text, length);
    else memset(own, 0, sizeof *own);
    return status;
}
