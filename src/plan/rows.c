/* rows.c — objects written, read strictly and compared by their tables. */
#include "plan/rows.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SECTION = 200 };

static const void *field_of(const struct row *r, const void *base) { return (const char *)base + r->at; }

/* Enumerations and integers have the size their compiler gives them. */
static uint64_t number_in(const void *field, size_t size) {
    uint8_t small;
    uint16_t medium;
    uint32_t usual;
    uint64_t large = 0;
    switch (size) {
    case 1: return memcpy(&small, field, 1), small;
    case 2: return memcpy(&medium, field, 2), medium;
    case 4: return memcpy(&usual, field, 4), usual;
    default: return memcpy(&large, field, 8), large;
    }
}

static void put_number(void *field, size_t size, uint64_t value) {
    uint8_t small = (uint8_t)value;
    uint16_t medium = (uint16_t)value;
    uint32_t usual = (uint32_t)value;
    memcpy(field,
           size == 1   ? (void *)&small
           : size == 2 ? (void *)&medium
           : size == 4 ? (void *)&usual
                       : (void *)&value,
           size);
}

static const char *element(const struct row *r, const void *base, size_t i) {
    return (const char *)field_of(r, base) + i * r->each;
}

static size_t elements(const struct row *r, const void *base) {
    size_t count;
    memcpy(&count, (const char *)base + r->number_at, sizeof count);
    return count;
}

static json_t *pack_list(const struct row *r, const void *base) {
    json_t *list = json_array();
    for (size_t i = 0; list && i < elements(r, base); i++)
        if (json_array_append_new(list, rows_pack(r->rows, r->count, element(r, base, i))) != 0) {
            json_decref(list);
            return NULL;
        }
    return list;
}

static json_t *pack(const struct row *r, const void *base) {
    const void *field = field_of(r, base);
    char id[37];
    switch (r->kind) {
    case ROW_TEXT:
    case ROW_SHA256: return json_string(field);
    case ROW_NUMBER: return json_integer((json_int_t)number_in(field, r->size));
    case ROW_BOOL: return json_boolean(number_in(field, r->size) != 0);
    case ROW_WORD: return json_string(r->word((unsigned)number_in(field, r->size)));
    case ROW_GUID: return json_string(ws_guid_text(field, id));
    case ROW_OBJECT: return rows_pack(r->rows, r->count, field);
    case ROW_LIST: return pack_list(r, base);
    case ROW_CALL: return r->pack(field);
    }
    return NULL;
}

json_t *rows_pack(const struct row *rows, size_t count, const void *base) {
    json_t *object = json_object();
    for (size_t i = 0; object && i < count; i++)
        if (json_object_set_new(object, rows[i].key, pack(&rows[i], base)) != 0) {
            json_decref(object);
            return NULL;
        }
    return object;
}

enum ws_status rows_bad(struct ws_error *error, const char *section, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the document's \"%s%s%s\" %s", section, section[0] && key[0] ? "." : "", key, what);
    return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "make it again");
}

static enum ws_status read_text(json_t *value, const char *section, const struct row *r, char *out,
                                struct ws_error *error) {
    if (!json_is_string(value)) return rows_bad(error, section, r->key, "must be text");
    const char *text = json_string_value(value);
    size_t length = json_string_length(value);
    if (length >= r->size || strlen(text) != length) return rows_bad(error, section, r->key, "is too long");
    if (r->kind == ROW_SHA256 && length && (length != 64 || strspn(text, "0123456789abcdef") != 64))
        return rows_bad(error, section, r->key, "is not a SHA-256 checksum");
    memcpy(out, text, length + 1);
    return WS_OK;
}

static enum ws_status read_word(json_t *value, const char *section, const struct row *r, void *out,
                                struct ws_error *error) {
    const char *word = json_string_value(value);
    for (unsigned i = 0; word && i < r->words; i++)
        if (strcmp(word, r->word(i)) == 0) {
            put_number(out, r->size, i);
            return WS_OK;
        }
    return rows_bad(error, section, r->key, "is not a word of this format");
}

static void inside(char out[SECTION], const char *section, const char *key) {
    (void)snprintf(out, SECTION, "%.80s%s%.80s", section, section[0] ? "." : "", key);
}

static enum ws_status read_list(json_t *value, const char *section, const struct row *r, void *base,
                                struct ws_error *error) {
    size_t count = json_array_size(value);
    if (!json_is_array(value)) return rows_bad(error, section, r->key, "must be a list");
    if (count > r->most) return rows_bad(error, section, r->key, "has more entries than can be");
    for (size_t i = 0; i < count; i++) {
        char name[SECTION], numbered[SECTION + 24];
        inside(name, section, r->key);
        (void)snprintf(numbered, sizeof numbered, "%s[%zu]", name, i);
        WS_TRY(rows_read(json_array_get(value, i), numbered, r->rows, r->count, (char *)base + r->at + i * r->each,
                         error));
    }
    memcpy((char *)base + r->number_at, &count, sizeof count);
    return WS_OK;
}

static enum ws_status read_row(json_t *value, const char *section, const struct row *r, void *base,
                               struct ws_error *error) {
    void *field = (char *)base + r->at;
    char name[SECTION];
    inside(name, section, r->key);
    switch (r->kind) {
    case ROW_TEXT:
    case ROW_SHA256: return read_text(value, section, r, field, error);
    case ROW_NUMBER: {
        if (!json_is_integer(value)) return rows_bad(error, section, r->key, "must be a whole number");
        json_int_t n = json_integer_value(value);
        if (n < 0 || (uint64_t)n > r->most) return rows_bad(error, section, r->key, "is not possible");
        put_number(field, r->size, (uint64_t)n);
        return WS_OK;
    }
    case ROW_BOOL:
        if (!json_is_boolean(value)) return rows_bad(error, section, r->key, "must be true or false");
        put_number(field, r->size, json_is_true(value));
        return WS_OK;
    case ROW_WORD: return read_word(value, section, r, field, error);
    case ROW_GUID:
        if (!json_is_string(value) || !ws_guid_parse(json_string_value(value), field))
            return rows_bad(error, section, r->key, "is not a GUID");
        return WS_OK;
    case ROW_OBJECT: return rows_read(value, name, r->rows, r->count, field, error);
    case ROW_LIST: return read_list(value, section, r, base, error);
    case ROW_CALL: return r->read(value, name, field, error);
    }
    return WS_E_USAGE;
}

enum ws_status rows_read(json_t *object, const char *section, const struct row *rows, size_t count, void *base,
                         struct ws_error *error) {
    const char *name;
    json_t *value;
    if (!json_is_object(object))
        return rows_bad(error, section[0] ? section : "document", "", "is missing or no object");
    json_object_foreach(object, name, value) {
        size_t i = 0;
        while (i < count && strcmp(rows[i].key, name) != 0) i++;
        if (i == count) return rows_bad(error, section, name, "is not a key of this format");
    }
    for (size_t i = 0; i < count; i++) {
        value = json_object_get(object, rows[i].key);
        if (!value) return rows_bad(error, section, rows[i].key, "is missing");
        WS_TRY(read_row(value, section, &rows[i], base, error));
    }
    return WS_OK;
}

static enum ws_status differs(struct ws_error *error, const char *section, const struct row *r, const void *read,
                              const void *worked_out) {
    char name[SECTION];
    inside(name, section, r->key);
    json_t *was = pack(r, read);
    json_t *is = pack(r, worked_out);
    char *a = was ? json_dumps(was, JSON_ENCODE_ANY | JSON_COMPACT) : NULL;
    char *b = is ? json_dumps(is, JSON_ENCODE_ANY | JSON_COMPACT) : NULL;
    ws_fail(error, WS_E_FORMAT, "the plan's \"%s\" is %.60s, but from what it asks for follows %.60s", name,
            a ? a : "?", b ? b : "?");
    free(a);
    free(b);
    json_decref(was);
    json_decref(is);
    return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "",
                        "it was edited by hand, or an input has changed; make the plan again");
}

enum ws_status rows_compare(const char *section, const struct row *rows, size_t count, const void *read,
                            const void *worked_out, struct ws_error *error) {
    for (size_t i = 0; i < count; i++) {
        const struct row *r = &rows[i];
        const void *a = field_of(r, read);
        const void *b = field_of(r, worked_out);
        char name[SECTION];
        if (r->told) continue;
        inside(name, section, r->key);
        bool same = true;
        if (r->kind == ROW_TEXT || r->kind == ROW_SHA256) {
            same = strcmp(a, b) == 0;
        } else if (r->kind == ROW_OBJECT) {
            WS_TRY(rows_compare(name, r->rows, r->count, a, b, error));
        } else if (r->kind == ROW_LIST) {
            same = elements(r, read) == elements(r, worked_out);
            for (size_t k = 0; same && k < elements(r, read); k++) {
                char numbered[SECTION + 24];
                (void)snprintf(numbered, sizeof numbered, "%s[%zu]", name, k);
                WS_TRY(
                    rows_compare(numbered, r->rows, r->count, element(r, read, k), element(r, worked_out, k), error));
            }
        } else if (r->kind == ROW_CALL) {
            json_t *was = r->pack(a);
            json_t *is = r->pack(b);
            same = was && is && json_equal(was, is);
            json_decref(was);
            json_decref(is);
        } else {
            same = memcmp(a, b, r->size) == 0;
        }
        if (!same) return differs(error, section, r, read, worked_out);
    }
    return WS_OK;
}
